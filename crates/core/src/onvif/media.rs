//! The media services (`ver10/media/wsdl`, and `ver20/media/wsdl` where a device has it: H.265 is told
//! there only).

use super::xml::{Element, escape};
use crate::FrameRate;
use std::fmt::Write as _;

/// Which media service is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MediaVersion {
    /// `ver10`.
    One,
    /// `ver20`.
    Two,
}

impl MediaVersion {
    /// The namespace of the service.
    #[must_use]
    pub const fn namespace(self) -> &'static str {
        match self {
            Self::One => "http://www.onvif.org/ver10/media/wsdl",
            Self::Two => "http://www.onvif.org/ver20/media/wsdl",
        }
    }
}

/// Asks for all media profiles.
#[must_use]
pub fn get_profiles(version: MediaVersion) -> String {
    match version {
        MediaVersion::One => "<trt:GetProfiles/>".into(),
        MediaVersion::Two => "<tr2:GetProfiles><tr2:Type>All</tr2:Type></tr2:GetProfiles>".into(),
    }
}

/// Asks for the RTSP address of a profile.
#[must_use]
pub fn get_stream_uri(version: MediaVersion, profile: &str) -> String {
    let token = escape(profile);
    match version {
        MediaVersion::One => format!(
            "<trt:GetStreamUri><trt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol>\
             </tt:Transport></trt:StreamSetup><trt:ProfileToken>{token}</trt:ProfileToken></trt:GetStreamUri>"
        ),
        MediaVersion::Two => format!(
            "<tr2:GetStreamUri><tr2:Protocol>RTSP</tr2:Protocol><tr2:ProfileToken>{token}</tr2:ProfileToken></tr2:GetStreamUri>"
        ),
    }
}

/// Asks for the address of a profile's still.
#[must_use]
pub fn get_snapshot_uri(version: MediaVersion, profile: &str) -> String {
    let (token, prefix) = (escape(profile), if version == MediaVersion::One { "trt" } else { "tr2" });
    format!("<{prefix}:GetSnapshotUri><{prefix}:ProfileToken>{token}</{prefix}:ProfileToken></{prefix}:GetSnapshotUri>")
}

/// Asks for a keyframe in the stream of a profile.
#[must_use]
pub fn set_synchronization_point(version: MediaVersion, profile: &str) -> String {
    let (token, prefix) = (escape(profile), if version == MediaVersion::One { "trt" } else { "tr2" });
    format!(
        "<{prefix}:SetSynchronizationPoint><{prefix}:ProfileToken>{token}</{prefix}:ProfileToken></{prefix}:SetSynchronizationPoint>"
    )
}

/// Asks what an encoder can be set to.
#[must_use]
pub fn get_encoder_limits(version: MediaVersion, encoder: &str, profile: &str) -> String {
    let (encoder, profile) = (escape(encoder), escape(profile));
    let prefix = if version == MediaVersion::One { "trt" } else { "tr2" };
    format!(
        "<{prefix}:GetVideoEncoderConfigurationOptions><{prefix}:ConfigurationToken>{encoder}</{prefix}:ConfigurationToken>\
         <{prefix}:ProfileToken>{profile}</{prefix}:ProfileToken></{prefix}:GetVideoEncoderConfigurationOptions>"
    )
}

/// How a profile's video is encoded, as the device declares it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Encoder {
    /// What it is called in orders.
    pub token: String,
    /// Its own name.
    pub name: String,
    /// Codec, in the standard's words: `H264`, `H265`, `JPEG`.
    pub codec: Option<String>,
    /// Width and height in pixels.
    pub size: Option<(u32, u32)>,
    /// Highest frame rate.
    pub rate: Option<FrameRate>,
    /// Highest bitrate, kbit/s.
    pub kbps: Option<u32>,
    /// Frames from one keyframe to the next.
    pub keyframe_interval: Option<u32>,
    /// The codec's profile.
    pub profile: Option<String>,
    /// A relative quality, in the device's own measure.
    pub quality: Option<String>,
    /// The element as it came: what is not changed is sent back as it was.
    raw: Element,
}

/// A media profile: one stream of one source.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Profile {
    /// What it is called in questions.
    pub token: String,
    /// Its name for people.
    pub name: String,
    /// The video source it shows: several make the device a recorder.
    pub source: Option<String>,
    /// Its encoder.
    pub encoder: Option<Encoder>,
    /// Coding of its sound.
    pub audio: Option<String>,
    /// What it is steered by, where it can be: the token of its PTZ configuration.
    pub ptz: Option<String>,
}

impl Profile {
    /// Reads `GetProfilesResponse` of either version; at most 512.
    #[must_use]
    pub fn read(answer: &Element) -> Vec<Self> {
        answer.all("Profiles").take(512).filter_map(Self::one).collect()
    }

    fn one(element: &Element) -> Option<Self> {
        let two = element.child("Configurations");
        let part = |one: &str, other: &str| element.child(one).or_else(|| two.and_then(|two| two.child(other)));
        let source = part("VideoSourceConfiguration", "VideoSource");
        Some(Self {
            token: element.attribute("token")?.to_owned(),
            name: element.text_at(&["Name"]).unwrap_or("").chars().filter(|c| !c.is_control()).take(80).collect(),
            source: source.and_then(|source| source.text_at(&["SourceToken"])).map(str::to_owned),
            encoder: part("VideoEncoderConfiguration", "VideoEncoder").and_then(Encoder::read),
            audio: part("AudioEncoderConfiguration", "AudioEncoder")
                .and_then(|audio| audio.text_at(&["Encoding"]))
                .map(|codec| codec.chars().take(20).collect()),
            ptz: part("PTZConfiguration", "PTZ").map(|ptz| ptz.attribute("token").unwrap_or("").to_owned()),
        })
    }

    /// Pixels of one picture; 0 where unknown.
    #[must_use]
    pub fn pixels(&self) -> u64 {
        let size = self.encoder.as_ref().and_then(|encoder| encoder.size);
        size.map_or(0, |(width, height)| u64::from(width) * u64::from(height))
    }
}

/// Orders the profiles of one source by pixels, the largest first: main, sub, third. Of equal ones the
/// order of the device stays.
pub fn by_size(profiles: &mut [Profile]) {
    profiles.sort_by_key(|profile| std::cmp::Reverse(profile.pixels()));
}

impl Encoder {
    fn read(element: &Element) -> Option<Self> {
        let number = |path: &[&str]| element.text_at(path).and_then(|text| text.parse::<f64>().ok()).filter(|n| *n > 0.0);
        let side = |name| number(&["Resolution", name]).map(|side| side as u32);
        let gov = element.attribute("GovLength").and_then(|text| text.parse().ok());
        let of_codec = ["H264", "MPEG4", "H265"].iter().find_map(|name| number(&[name, "GovLength"]));
        let profile = ["H264", "H265"].iter().find_map(|codec| element.text_at(&[codec, &format!("{codec}Profile")]));
        Some(Self {
            token: element.attribute("token")?.to_owned(),
            name: element.text_at(&["Name"]).unwrap_or("").to_owned(),
            codec: element.text_at(&["Encoding"]).map(|codec| codec.chars().take(20).collect()),
            size: side("Width").zip(side("Height")),
            rate: number(&["RateControl", "FrameRateLimit"]).and_then(FrameRate::new),
            kbps: number(&["RateControl", "BitrateLimit"]).map(|kbps| kbps as u32),
            keyframe_interval: gov.or_else(|| of_codec.map(|n| n as u32)),
            profile: element.attribute("Profile").or(profile).map(|profile| profile.chars().take(20).collect()),
            quality: element.text_at(&["Quality"]).map(str::to_owned),
            raw: element.clone(),
        })
    }
}

/// From the least to the most.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Range {
    /// The least.
    pub least: f64,
    /// The most.
    pub most: f64,
}

impl Range {
    /// Whether a value is allowed.
    #[must_use]
    pub fn contains(&self, value: f64) -> bool {
        (self.least..=self.most).contains(&value)
    }
}

/// What an encoder can be set to; empty or `None` where the device does not say.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct EncoderLimits {
    /// Sizes it offers.
    pub sizes: Vec<(u32, u32)>,
    /// Frame rates.
    pub rate: Option<Range>,
    /// Bitrates, kbit/s.
    pub kbps: Option<Range>,
    /// Keyframe intervals in frames.
    pub keyframe_interval: Option<Range>,
}

impl EncoderLimits {
    /// Reads `GetVideoEncoderConfigurationOptionsResponse` for a codec.
    #[must_use]
    pub fn read(answer: &Element, codec: &str) -> Self {
        let options: Vec<&Element> = answer.all("Options").collect();
        // Version 2 has one Options element a codec; version 1 one child a codec, bitrates in an extension.
        let of_codec = options.iter().find(|options| options.text_at(&["Encoding"]) == Some(codec)).copied();
        let inner = of_codec.or_else(|| options.first().and_then(|options| options.child(codec)));
        let Some(inner) = inner else { return Self::default() };
        let extended = options.first().and_then(|options| options.at(&["Extension", codec]));
        let number = |element: &Element, name: &str| element.text_at(&[name]).and_then(|text| text.parse::<f64>().ok());
        let range = |name: &str| {
            let element = inner.child(name).or_else(|| extended.and_then(|extended| extended.child(name)))?;
            Some(Range { least: number(element, "Min")?, most: number(element, "Max")? })
        };
        // In version 2 rates and keyframe intervals are lists in attributes.
        let list = |name: &str| {
            let numbers: Vec<f64> = inner.attribute(name)?.split_whitespace().filter_map(|text| text.parse().ok()).collect();
            let least = numbers.iter().copied().reduce(f64::min)?;
            Some(Range { least, most: numbers.iter().copied().reduce(f64::max)? })
        };
        let size = |element: &Element| Some((number(element, "Width")? as u32, number(element, "Height")? as u32));
        Self {
            sizes: inner.all("ResolutionsAvailable").take(128).filter_map(size).collect(),
            rate: range("FrameRateRange").or_else(|| list("FrameRatesSupported")),
            kbps: range("BitrateRange"),
            keyframe_interval: range("GovLengthRange").or_else(|| list("GovLengthRange")),
        }
    }
}

/// Sets an encoder: `wanted` is one that was read, with size, rate, bitrate or keyframe interval changed.
/// What else it holds goes back as it came.
#[must_use]
pub fn encoder_change(version: MediaVersion, wanted: &Encoder) -> String {
    let mut raw = wanted.raw.clone();
    if let Some((width, height)) = wanted.size {
        set(&mut raw, &["Resolution", "Width"], &width.to_string());
        set(&mut raw, &["Resolution", "Height"], &height.to_string());
    }
    if let Some(rate) = wanted.rate {
        set(&mut raw, &["RateControl", "FrameRateLimit"], &format!("{}", rate.per_second()));
    }
    if let Some(kbps) = wanted.kbps {
        set(&mut raw, &["RateControl", "BitrateLimit"], &kbps.to_string());
    }
    if let Some(frames) = wanted.keyframe_interval {
        if let Some((_, value)) = raw.attributes.iter_mut().find(|(key, _)| key == "GovLength") {
            *value = frames.to_string();
        }
        for codec in ["H264", "MPEG4", "H265"] {
            set(&mut raw, &[codec, "GovLength"], &frames.to_string());
        }
    }
    let prefix = if version == MediaVersion::One { "trt" } else { "tr2" };
    let mut configuration = String::new();
    write_element(&mut configuration, &raw, Some(&format!("{prefix}:Configuration")));
    let persist = if version == MediaVersion::One { "<trt:ForcePersistence>true</trt:ForcePersistence>" } else { "" };
    format!("<{prefix}:SetVideoEncoderConfiguration>{configuration}{persist}</{prefix}:SetVideoEncoderConfiguration>")
}

fn set(element: &mut Element, path: &[&str], text: &str) {
    let Some((name, rest)) = path.split_first() else {
        text.clone_into(&mut element.text);
        return;
    };
    if let Some(child) = element.children.iter_mut().find(|child| child.name == *name) {
        set(child, rest, text);
    }
}

/// Everything within a configuration is of the schema's own namespace.
fn write_element(out: &mut String, element: &Element, name: Option<&str>) {
    let name = name.map_or_else(|| format!("tt:{}", element.name), str::to_owned);
    let _ = write!(out, "<{name}");
    for (key, value) in element.attributes.iter().filter(|(key, _)| !key.contains(':') && key != "xmlns") {
        let _ = write!(out, " {key}=\"{}\"", escape(value));
    }
    let _ = write!(out, ">{}", escape(&element.text));
    element.children.iter().for_each(|child| write_element(out, child, None));
    let _ = write!(out, "</{name}>");
}

#[cfg(test)]
mod tests {
    use super::*;

    const ONE: &str = "<r><Profiles token='p1' fixed='true'><Name>big</Name><VideoSourceConfiguration token='v'><SourceToken>s1</SourceToken>\
        </VideoSourceConfiguration><VideoEncoderConfiguration token='e1'><Name>enc</Name><UseCount>1</UseCount><Encoding>H264</Encoding><Resolution>\
        <Width>1280</Width><Height>720</Height></Resolution><Quality>4</Quality><RateControl><FrameRateLimit>25</FrameRateLimit>\
        <EncodingInterval>1</EncodingInterval><BitrateLimit>2000</BitrateLimit></RateControl><H264><GovLength>50</GovLength><H264Profile>Main\
        </H264Profile></H264><SessionTimeout>PT60S</SessionTimeout></VideoEncoderConfiguration></Profiles></r>";
    const TWO: &str = "<r><Profiles token='p2'><Name>hevc</Name><Configurations><VideoSource token='v'><SourceToken>s1</SourceToken></VideoSource>\
        <VideoEncoder token='e2' GovLength='60' Profile='Main'><Encoding>H265</Encoding><Resolution><Width>3840</Width><Height>2160</Height>\
        </Resolution><RateControl><FrameRateLimit>12.5</FrameRateLimit><BitrateLimit>6000</BitrateLimit></RateControl></VideoEncoder>\
        <AudioEncoder token='a'><Encoding>MP4A-LATM</Encoding></AudioEncoder><PTZ token='z'/></Configurations></Profiles><Profiles/></r>";

    fn read(text: &str) -> Vec<Profile> {
        Profile::read(&Element::parse(text.as_bytes()).unwrap())
    }

    #[test]
    fn profiles_of_both_versions_are_read_and_sorted() {
        let mut all = read(ONE);
        all.extend(read(TWO));
        by_size(&mut all);
        let seen: Vec<_> =
            all.iter().map(|p| (p.token.as_str(), p.source.as_deref(), p.audio.as_deref(), p.ptz.as_deref())).collect();
        assert_eq!(seen, [("p2", Some("s1"), Some("MP4A-LATM"), Some("z")), ("p1", Some("s1"), None, None)]);
        let encoder = all[0].encoder.as_ref().unwrap();
        assert_eq!(
            (encoder.codec.as_deref(), encoder.size, encoder.keyframe_interval),
            (Some("H265"), Some((3840, 2160)), Some(60))
        );
        let encoder = all[1].encoder.as_ref().unwrap();
        assert_eq!((encoder.rate, encoder.kbps, encoder.profile.as_deref()), (FrameRate::new(25.0), Some(2000), Some("Main")));
    }

    #[test]
    fn a_change_leaves_the_rest_as_it_was() {
        let mut encoder = read(ONE)[0].encoder.clone().unwrap();
        (encoder.kbps, encoder.keyframe_interval) = (Some(900), Some(25));
        let order = encoder_change(MediaVersion::One, &encoder);
        let root = Element::parse(format!("<r xmlns:trt='a' xmlns:tt='b'>{order}</r>").as_bytes()).unwrap();
        let sent = root.at(&["SetVideoEncoderConfiguration", "Configuration"]).unwrap();
        assert_eq!(sent.text_at(&["RateControl", "BitrateLimit"]), Some("900"));
        assert_eq!(sent.text_at(&["H264", "GovLength"]), Some("25"));
        assert_eq!(sent.text_at(&["SessionTimeout"]), Some("PT60S"));
        assert_eq!(sent.text_at(&["RateControl", "FrameRateLimit"]), Some("25"));
        assert_eq!(sent.attribute("token"), Some("e1"));
    }

    #[test]
    fn limits_of_both_versions_are_read() {
        let one = "<r><Options><H264><ResolutionsAvailable><Width>640</Width><Height>360</Height></ResolutionsAvailable><GovLengthRange>\
            <Min>1</Min><Max>100</Max></GovLengthRange><FrameRateRange><Min>1</Min><Max>30</Max></FrameRateRange></H264><Extension><H264>\
            <BitrateRange><Min>64</Min><Max>8000</Max></BitrateRange></H264></Extension></Options></r>";
        let limits = EncoderLimits::read(&Element::parse(one.as_bytes()).unwrap(), "H264");
        assert_eq!((limits.sizes.as_slice(), limits.kbps), ([(640, 360)].as_slice(), Some(Range { least: 64.0, most: 8000.0 })));
        let two = "<r><Options GovLengthRange='1 200' FrameRatesSupported='25 12.5 5'><Encoding>H265</Encoding><BitrateRange><Min>64</Min>\
            <Max>9000</Max></BitrateRange></Options></r>";
        let limits = EncoderLimits::read(&Element::parse(two.as_bytes()).unwrap(), "H265");
        assert_eq!(limits.rate, Some(Range { least: 5.0, most: 25.0 }));
        assert!(limits.keyframe_interval.unwrap().contains(200.0));
    }
}
