//! Session descriptions (RFC 4566), as far as receiving video needs them.
//!
//! Not done: time, groups, bandwidth other than `AS`. Lines that are not understood are skipped.

mod sound;

use crate::text::plain_lines;
use crate::{BitsPerSecond, ClockRate, FrameRate, Secret};
use base64::Engine as _;
use base64::alphabet::STANDARD as ALPHABET;
use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};
use std::collections::BTreeMap;
use std::fmt;

/// Coding of a media stream.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Codec {
    /// H.264 (RFC 6184).
    H264,
    /// H.265 (RFC 7798).
    H265,
    /// JPEG (RFC 2435).
    Jpeg,
    /// An MPEG transport stream, with a codec of its own inside (RFC 2250 §2).
    Mp2t,
    /// Another, by its encoding name in upper case.
    Other(String),
}

impl Codec {
    fn from_name(name: &str) -> Self {
        match name.to_ascii_uppercase().as_str() {
            "H264" => Self::H264,
            "H265" => Self::H265,
            "JPEG" => Self::Jpeg,
            "MP2T" => Self::Mp2t,
            other => Self::Other(other.to_owned()),
        }
    }
}

impl fmt::Display for Codec {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::H264 => "H264",
            Self::H265 => "H265",
            Self::Jpeg => "JPEG",
            Self::Mp2t => "MP2T",
            Self::Other(name) => name,
        })
    }
}

/// How a sender offers to be asked for a keyframe (`a=rtcp-fb`, RFC 4585 §4.2, RFC 5104 §7.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Feedback {
    /// Picture loss indications (`nack pli`).
    pub pli: bool,
    /// Full intra requests (`ccm fir`).
    pub fir: bool,
}

/// One media section.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Media {
    /// `video`, `audio`, `application`.
    pub kind: String,
    /// Payload types in order of preference.
    pub formats: Vec<u8>,
    /// `a=control`.
    pub control: Option<String>,
    rtpmaps: BTreeMap<u8, (String, u32)>,
    /// Channels of sound, where a format has several.
    channels: BTreeMap<u8, u8>,
    fmtps: BTreeMap<u8, String>,
    framerate: Option<String>,
    bandwidth_kbps: Option<u32>,
    secure: bool,
    early_feedback: bool,
    feedback: BTreeMap<Option<u8>, Feedback>,
    crypto: Vec<String>,
    dimensions: Option<(u32, u32)>,
}

/// A video stream that can be asked for.
#[derive(Debug, Clone, PartialEq)]
pub struct Video {
    /// Payload type in RTP.
    pub payload_type: u8,
    /// Its coding.
    pub codec: Codec,
    /// RTP clock.
    pub clock_rate: ClockRate,
    /// `a=control` of its section.
    pub control: Option<String>,
    /// `a=framerate`.
    pub declared: Option<FrameRate>,
    /// NAL units of `sprop-parameter-sets` (RFC 6184 §8.1) or `sprop-vps`, `-sps`, `-pps` (RFC 7798
    /// §7.1), without start codes.
    pub parameter_sets: Vec<Vec<u8>>,
    /// `a=x-dimensions` or `a=framesize` (RFC 6064 §4): size in pixels, for codecs that do not carry it exactly.
    pub dimensions: Option<(u32, u32)>,
    /// `b=AS` (RFC 4566 §5.8): the bandwidth it declares.
    pub bandwidth: Option<BitsPerSecond>,
    /// The profile is a secure one (`RTP/SAVP`): packets are SRTP.
    pub secure: bool,
    /// The profile lets feedback go out at once (`RTP/AVPF`, RFC 4585).
    pub early_feedback: bool,
    /// How it may be asked for a keyframe.
    pub feedback: Feedback,
    /// Codings of the sound beside it, by their encoding names.
    pub audio: Vec<String>,
    /// Values of `a=crypto` (RFC 4568), in order. They hold keys.
    pub crypto: Vec<Secret<String>>,
}

impl Video {
    /// A stream of this codec of which nothing else is known.
    #[must_use]
    pub const fn of(codec: Codec) -> Self {
        Self {
            payload_type: 33,
            codec,
            clock_rate: ClockRate::VIDEO,
            control: None,
            declared: None,
            parameter_sets: Vec::new(),
            dimensions: None,
            bandwidth: None,
            secure: false,
            early_feedback: false,
            feedback: Feedback { pli: false, fir: false },
            audio: Vec::new(),
            crypto: Vec::new(),
        }
    }
}

/// A session description.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Description {
    /// `a=control` of the session.
    pub control: Option<String>,
    /// Its media sections in order.
    pub media: Vec<Media>,
}

/// Most media sections read: no camera has more.
const MAX_MEDIA: usize = 64;
/// Most `a=crypto` lines kept of one section.
const MAX_CRYPTO: usize = 16;

impl Description {
    /// Reads a description. Never fails: what is not there is `None` or empty.
    #[must_use]
    pub fn parse(text: &str) -> Self {
        let mut out = Self::default();
        for line in plain_lines(text).lines() {
            let Some((kind, value)) = line.trim().split_once('=') else { continue };
            let room = out.media.len() < MAX_MEDIA;
            match (kind, out.media.last_mut()) {
                ("m", _) if room => out.media.push(parse_media(value)),
                ("b", Some(media)) => media.bandwidth_kbps = value.strip_prefix("AS:").and_then(|kbps| kbps.trim().parse().ok()),
                ("a", Some(media)) => media.attribute(value),
                ("a", None) => {
                    if let Some(control) = value.strip_prefix("control:") {
                        out.control = Some(control.trim().to_owned());
                    }
                }
                _ => {}
            }
        }
        out
    }

    /// The first video section, in its most preferred format that is known here, or failing that
    /// in its first.
    #[must_use]
    pub fn video(&self) -> Option<Video> {
        let video = self.media.iter().filter(|media| media.kind.eq_ignore_ascii_case("video")).find_map(Media::video)?;
        Some(Video { audio: self.audio(), ..video })
    }

    /// Codings of the sound, by their encoding names.
    fn audio(&self) -> Vec<String> {
        let name = |media: &Media| {
            let format = *media.formats.first()?;
            let named = media.rtpmaps.get(&format).map(|(name, _)| name.to_ascii_uppercase());
            let fixed = match format {
                0 => Some("PCMU"),
                8 => Some("PCMA"),
                9 => Some("G722"),
                14 => Some("MPA"),
                _ => None,
            };
            named.or_else(|| fixed.map(str::to_owned)).map(|name| name.chars().take(20).collect())
        };
        self.media.iter().filter(|media| media.kind.eq_ignore_ascii_case("audio")).filter_map(name).collect()
    }
}

fn parse_media(value: &str) -> Media {
    let mut words = value.split_whitespace();
    let kind = words.next().unwrap_or("").to_owned();
    let profile = words.nth(1).unwrap_or_default().to_ascii_uppercase();
    let (secure, early_feedback) = (profile.contains("SAVP"), profile.contains("AVPF"));
    let formats = words.filter_map(|word| word.parse().ok()).collect();
    Media { kind, formats, secure, early_feedback, ..Media::default() }
}

impl Media {
    fn attribute(&mut self, value: &str) {
        let (name, value) = value.split_once(':').unwrap_or((value, ""));
        let value = value.trim();
        match name.trim().to_ascii_lowercase().as_str() {
            "control" => self.control = Some(value.to_owned()),
            "crypto" if self.crypto.len() < MAX_CRYPTO => self.crypto.push(value.to_owned()),
            "x-dimensions" => self.dimensions = pair(value, ','),
            "framesize" => self.dimensions = value.split_once(' ').and_then(|(_, size)| pair(size, '-')),
            "framerate" => self.framerate = Some(value.to_owned()),
            "rtcp-fb" => {
                let (format, what) = value.split_once(' ').unwrap_or((value, ""));
                let what = what.split_whitespace().map(str::to_ascii_lowercase).collect::<Vec<_>>().join(" ");
                let format = if format == "*" { Some(None) } else { format.parse().ok().map(Some) };
                if let Some(format) = format {
                    let offered = self.feedback.entry(format).or_default();
                    offered.pli |= what == "nack pli";
                    offered.fir |= what.starts_with("ccm fir");
                }
            }
            "rtpmap" => {
                if let Some((format, map)) = parse_rtpmap(value) {
                    self.rtpmaps.insert(format, map);
                    let channels = value.split('/').nth(2).and_then(|channels| channels.trim().parse().ok());
                    self.channels.extend(channels.map(|channels| (format, channels)));
                }
            }
            "fmtp" => {
                if let Some((format, rest)) = value.split_once(' ')
                    && let Ok(format) = format.parse()
                {
                    self.fmtps.insert(format, rest.trim().to_owned());
                }
            }
            _ => {}
        }
    }

    fn codec(&self, format: u8) -> Option<(Codec, ClockRate)> {
        match self.rtpmaps.get(&format) {
            Some((name, rate)) => Some((Codec::from_name(name), ClockRate::new(*rate).unwrap_or(ClockRate::VIDEO))),
            // Static types (RFC 3551 §6).
            None => match format {
                26 => Some((Codec::Jpeg, ClockRate::VIDEO)),
                31 => Some((Codec::Other("H261".into()), ClockRate::VIDEO)),
                32 => Some((Codec::Other("MPV".into()), ClockRate::VIDEO)),
                33 => Some((Codec::Mp2t, ClockRate::VIDEO)),
                34 => Some((Codec::Other("H263".into()), ClockRate::VIDEO)),
                _ => None,
            },
        }
    }

    fn video(&self) -> Option<Video> {
        let offered = || self.formats.iter().filter_map(|format| Some((*format, self.codec(*format)?)));
        let known = offered().find(|(_, (codec, _))| !matches!(codec, Codec::Other(_)));
        let unnamed = || Some((*self.formats.first()?, (Codec::Other("UNKNOWN".into()), ClockRate::VIDEO)));
        let (payload_type, (codec, clock_rate)) = known.or_else(|| offered().next()).or_else(unnamed)?;
        let declared = self.framerate.as_deref().and_then(|text| text.parse().ok()).and_then(FrameRate::new);
        let parameter_sets = self.fmtps.get(&payload_type).map(|fmtp| sprop_parameter_sets(fmtp)).unwrap_or_default();
        Some(Video {
            payload_type,
            codec,
            clock_rate,
            control: self.control.clone(),
            declared,
            parameter_sets,
            dimensions: self.dimensions,
            bandwidth: self.bandwidth_kbps.map(|kbps| BitsPerSecond(f64::from(kbps) * 1e3)),
            secure: self.secure,
            early_feedback: self.early_feedback,
            feedback: [None, Some(payload_type)]
                .iter()
                .filter_map(|format| self.feedback.get(format))
                .fold(Feedback::default(), |all, one| Feedback { pli: all.pli || one.pli, fir: all.fir || one.fir }),
            audio: Vec::new(),
            crypto: self.crypto.iter().cloned().map(Secret::new).collect(),
        })
    }
}

fn pair(text: &str, between: char) -> Option<(u32, u32)> {
    let (a, b) = text.split_once(between)?;
    Some((a.trim().parse().ok()?, b.trim().parse().ok()?))
}

fn parse_rtpmap(value: &str) -> Option<(u8, (String, u32))> {
    let (format, map) = value.split_once(' ')?;
    let mut parts = map.trim().split('/');
    let name = parts.next()?.trim().to_owned();
    let rate = parts.next().and_then(|rate| rate.trim().parse().ok()).unwrap_or(90_000);
    Some((format.trim().parse().ok()?, (name, rate)))
}

fn sprop_parameter_sets(fmtp: &str) -> Vec<Vec<u8>> {
    // Real descriptions omit the padding now and then.
    let engine =
        GeneralPurpose::new(&ALPHABET, GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent));
    let parameter = |name: &str| {
        fmtp.split(';').find_map(|part| {
            let (key, value) = part.split_once('=')?;
            key.trim().eq_ignore_ascii_case(name).then(|| value.trim().to_owned())
        })
    };
    let names = ["sprop-parameter-sets", "sprop-vps", "sprop-sps", "sprop-pps"];
    let lists = names.iter().filter_map(|name| parameter(name));
    lists
        .flat_map(|list| list.split(',').map(|set| engine.decode(set.trim()).unwrap_or_default()).collect::<Vec<_>>())
        .filter(|set| !set.is_empty())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_usual_description_is_read() {
        let text = "v=0\r\no=- 1 1 IN IP4 0.0.0.0\r\ns=x\r\na=control:*\r\nm=audio 0 RTP/AVP 0\r\na=control:stream=1\r\n\
                    m=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\na=fmtp:96 packetization-mode=1;sprop-parameter-sets=Z0LAHw==,aM4\r\n\
                    a=framerate:12.500000\r\na=control:stream=0\r\n";
        let description = Description::parse(text);
        assert_eq!(description.control.as_deref(), Some("*"));
        let video = description.video().unwrap();
        assert_eq!((video.payload_type, &video.codec, video.control.as_deref()), (96, &Codec::H264, Some("stream=0")));
        assert_eq!((video.declared, video.audio), (FrameRate::new(12.5), vec!["PCMU".to_owned()]));
        assert_eq!(video.parameter_sets, [vec![0x67, 0x42, 0xc0, 0x1f], vec![0x68, 0xce]]);
    }

    #[test]
    fn how_a_sender_may_be_asked_for_a_keyframe_is_read() {
        let of = |lines: &str| {
            let video =
                Description::parse(&format!("m=video 0 RTP/AVPF 96 97\na=rtpmap:96 H264/90000\n{lines}")).video().unwrap();
            (video.early_feedback, video.feedback.pli, video.feedback.fir)
        };
        assert_eq!(of(""), (true, false, false));
        assert_eq!(of("a=rtcp-fb:96 nack pli\na=rtcp-fb:97 ccm fir"), (true, true, false));
        assert_eq!(of("a=rtcp-fb:* ccm  fir smaxpr=120"), (true, false, true));
        assert_eq!(of("a=rtcp-fb:96 nack\na=rtcp-fb:x nack pli"), (true, false, false));
    }

    #[test]
    fn static_and_unknown_types_are_named() {
        for (lines, want) in [
            ("m=video 0 RTP/AVP 26", "JPEG"),
            ("m=video 0 RTP/AVP 97\na=rtpmap:97 VP8/90000", "VP8"),
            ("m=video 0 RTP/AVP 97 98\na=rtpmap:97 VP8/90000\na=rtpmap:98 H265/90000", "H265"),
            ("m=video 0 RTP/AVP 99", "UNKNOWN"),
        ] {
            assert_eq!(Description::parse(lines).video().unwrap().codec.to_string(), want);
        }
        assert_eq!(Description::parse("m=audio 0 RTP/AVP 0").video(), None);
    }

    proptest! {
        #[test]
        fn any_text_is_answered(text in "([vmca]=)?\\PC{0,80}(\r\n[ma]=\\PC{0,80}){0,8}") {
            let _ = Description::parse(&text).video();
        }
    }
}
