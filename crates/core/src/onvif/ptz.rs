//! The PTZ service (`ver20/ptz/wsdl`): what a device can be steered by, and the orders. Focus belongs to the imaging service
//! (`ver20/imaging/wsdl`), §"Move".

use super::xml::{Element, escape};
use std::fmt::Write as _;
use std::time::Duration;

/// The namespace of the PTZ service.
pub const PTZ_NAMESPACE: &str = "http://www.onvif.org/ver20/ptz/wsdl";
/// The namespace of the imaging service.
pub const IMAGING_NAMESPACE: &str = "http://www.onvif.org/ver20/imaging/wsdl";

/// Most presets that are read of a device.
const MAX_PRESETS: usize = 512;
/// Longest name of a preset or an output that is shown.
const MAX_NAME: usize = 80;

/// A value of the device's own scale, from its least to its most.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Scale {
    /// The least.
    pub least: f64,
    /// The most.
    pub most: f64,
}

impl Scale {
    /// Where the standard's generic spaces say nothing else: from -1 to 1.
    pub const GENERIC: Self = Self { least: -1.0, most: 1.0 };

    pub(super) fn read(range: Option<&Element>) -> Option<Self> {
        let range = range?;
        let number = |name: &str| range.text_at(&[name])?.parse::<f64>().ok().filter(|number| number.is_finite());
        let (least, most) = (number("Min")?, number("Max")?);
        (least <= most).then_some(Self { least, most })
    }

    /// A share from -1 to 1 on this scale: 0 stays 0, each side is as long as it is.
    #[must_use]
    pub fn of_share(self, share: f64) -> f64 {
        let share = share.clamp(-1.0, 1.0);
        if share < 0.0 { -share * self.least.min(0.0) } else { share * self.most.max(0.0) }
    }

    /// Within its ends.
    #[must_use]
    pub const fn clamp(self, value: f64) -> f64 {
        value.clamp(self.least, self.most)
    }

    /// Where a value lies, from 0 at the least to 1 at the most.
    #[must_use]
    pub fn share(self, value: f64) -> f64 {
        if self.most > self.least { ((value - self.least) / (self.most - self.least)).clamp(0.0, 1.0) } else { 0.0 }
    }
}

/// Three axes: pan (to the right is more), tilt (up is more), zoom (nearer is more).
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Axes<T> {
    /// Across.
    pub pan: T,
    /// Up and down.
    pub tilt: T,
    /// Nearer and further.
    pub zoom: T,
}

impl<T> Axes<T> {
    /// Each by a function.
    pub fn map<U>(self, each: impl Fn(T) -> U) -> Axes<U> {
        Axes { pan: each(self.pan), tilt: each(self.tilt), zoom: each(self.zoom) }
    }
}

/// What a device can be steered by, as its PTZ node declares it; what it does not declare is `None`.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct PtzNode {
    /// Speeds of continuous moves.
    pub speed: Axes<Option<Scale>>,
    /// Ways of relative moves.
    pub way: Axes<Option<Scale>>,
    /// Positions of absolute moves.
    pub position: Axes<Option<Scale>>,
    /// Relative moves may be given in the field of view: 1 is half the picture (`TranslationSpaceFov`).
    pub by_view: bool,
    /// How many presets it keeps.
    pub presets: u32,
    /// It has a home position.
    pub home: bool,
    /// Its other outputs, by the words that switch them.
    pub auxiliary: Vec<String>,
}

/// The space of relative moves by the field of view (PTZ Service Specification, "Spaces").
const BY_VIEW: &str = "TranslationSpaceFov";

impl PtzNode {
    /// Reads `GetNodesResponse`: the first node, where there are several.
    #[must_use]
    pub fn read(answer: &Element) -> Option<Self> {
        let node = answer.child("PTZNode")?;
        let spaces = node.child("SupportedPTZSpaces");
        let space = |name: &str| spaces.and_then(|spaces| spaces.child(name));
        let axes = |pan_tilt: &str, zoom: &str| Axes {
            pan: Scale::read(space(pan_tilt).and_then(|space| space.child("XRange"))),
            tilt: Scale::read(space(pan_tilt).and_then(|space| space.child("YRange"))),
            zoom: Scale::read(space(zoom).and_then(|space| space.child("XRange"))),
        };
        let is_by_view = |space: &Element| space.text_at(&["URI"]).is_some_and(|uri| uri.ends_with(BY_VIEW));
        let number = node.text_at(&["MaximumNumberOfPresets"]).and_then(|text| text.parse().ok());
        Some(Self {
            speed: axes("ContinuousPanTiltVelocitySpace", "ContinuousZoomVelocitySpace"),
            way: axes("RelativePanTiltTranslationSpace", "RelativeZoomTranslationSpace"),
            position: axes("AbsolutePanTiltPositionSpace", "AbsoluteZoomPositionSpace"),
            by_view: spaces.is_some_and(|spaces| spaces.all("RelativePanTiltTranslationSpace").any(is_by_view)),
            presets: number.unwrap_or(0),
            home: node.text_at(&["HomeSupported"]).is_some_and(|text| text == "true" || text == "1"),
            auxiliary: node
                .all("AuxiliaryCommands")
                .take(32)
                .map(|word| shown(&word.text))
                .filter(|word| !word.is_empty())
                .collect(),
        })
    }

    /// Whether it moves at all.
    #[must_use]
    pub const fn moves(&self) -> bool {
        self.speed.pan.is_some() || self.speed.tilt.is_some() || self.speed.zoom.is_some()
    }
}

/// Asks what the device can be steered by.
#[must_use]
pub fn get_nodes() -> String {
    "<tptz:GetNodes/>".into()
}

/// Asks how short and how long a move may last by its own time-out.
#[must_use]
pub fn get_ptz_options(configuration: &str) -> String {
    let token = escape(configuration);
    format!(
        "<tptz:GetConfigurationOptions><tptz:ConfigurationToken>{token}</tptz:ConfigurationToken></tptz:GetConfigurationOptions>"
    )
}

/// Reads the shortest and longest time-out of a move out of `GetConfigurationOptionsResponse`.
#[must_use]
pub fn read_timeouts(answer: &Element) -> Option<(Duration, Duration)> {
    let timeout = answer.at(&["PTZConfigurationOptions", "PTZTimeout"])?;
    let (least, most) = (duration(timeout.text_at(&["Min"])?)?, duration(timeout.text_at(&["Max"])?)?);
    (least <= most).then_some((least, most))
}

/// Asks where it looks and whether it moves.
#[must_use]
pub fn get_ptz_status(profile: &str) -> String {
    of_profile("GetStatus", profile, "")
}

/// Where a camera looks, on the scales of its positions, and whether it moves.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct PtzStatus {
    /// Where; what the device does not tell is `None`.
    pub position: Axes<Option<f64>>,
    /// Whether pan and tilt move; `None` where it is not told.
    pub moving: Option<bool>,
}

impl PtzStatus {
    /// Reads `GetStatusResponse`.
    #[must_use]
    pub fn read(answer: &Element) -> Self {
        let status = answer.child("PTZStatus");
        let position = status.and_then(|status| status.child("Position"));
        let number = |part: &str, axis: &str| {
            position?.child(part)?.attribute(axis)?.parse::<f64>().ok().filter(|number| number.is_finite())
        };
        let moving =
            |name: &str| status?.text_at(&["MoveStatus", name]).filter(|text| *text != "UNKNOWN").map(|text| text == "MOVING");
        let (across, nearer) = (moving("PanTilt"), moving("Zoom"));
        Self {
            position: Axes { pan: number("PanTilt", "x"), tilt: number("PanTilt", "y"), zoom: number("Zoom", "x") },
            moving: match (across, nearer) {
                (None, None) => None,
                (a, b) => Some(a == Some(true) || b == Some(true)),
            },
        }
    }
}

/// A position that a device keeps under a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Preset {
    /// What it is called in orders.
    pub token: String,
    /// Its name for people.
    pub name: String,
}

impl Preset {
    /// Reads `GetPresetsResponse`; at most 512.
    #[must_use]
    pub fn read(answer: &Element) -> Vec<Self> {
        let one = |preset: &Element| {
            let token = preset.attribute("token").filter(|token| !token.is_empty())?.to_owned();
            let name = preset.text_at(&["Name"]).map(shown).filter(|name| !name.is_empty());
            Some(Self { name: name.unwrap_or_else(|| shown(&token)), token })
        };
        answer.all("Preset").take(MAX_PRESETS).filter_map(one).collect()
    }
}

/// Asks for its presets.
#[must_use]
pub fn get_presets(profile: &str) -> String {
    of_profile("GetPresets", profile, "")
}

/// Goes to a preset.
#[must_use]
pub fn goto_preset(profile: &str, preset: &str) -> String {
    of_profile("GotoPreset", profile, &format!("<tptz:PresetToken>{}</tptz:PresetToken>", escape(preset)))
}

/// Keeps where it looks as a preset: a new one, or another name or place for one that is there.
#[must_use]
pub fn set_preset(profile: &str, name: &str, preset: Option<&str>) -> String {
    let token = preset.map_or_else(String::new, |token| format!("<tptz:PresetToken>{}</tptz:PresetToken>", escape(token)));
    of_profile("SetPreset", profile, &format!("<tptz:PresetName>{}</tptz:PresetName>{token}", escape(name)))
}

/// Takes a preset away.
#[must_use]
pub fn remove_preset(profile: &str, preset: &str) -> String {
    of_profile("RemovePreset", profile, &format!("<tptz:PresetToken>{}</tptz:PresetToken>", escape(preset)))
}

/// Goes home.
#[must_use]
pub fn goto_home(profile: &str) -> String {
    of_profile("GotoHomePosition", profile, "")
}

/// Makes where it looks its home.
#[must_use]
pub fn set_home(profile: &str) -> String {
    of_profile("SetHomePosition", profile, "")
}

/// Switches an output by its word.
#[must_use]
pub fn send_auxiliary(profile: &str, word: &str) -> String {
    of_profile("SendAuxiliaryCommand", profile, &format!("<tptz:AuxiliaryData>{}</tptz:AuxiliaryData>", escape(word)))
}

/// Moves at these speeds, on the device's scales, until a stop or until the time-out is over.
#[must_use]
pub fn continuous_move(profile: &str, speed: Axes<Option<f64>>, timeout: Duration) -> String {
    let speed = vector(speed);
    of_profile(
        "ContinuousMove",
        profile,
        &format!("<tptz:Velocity>{speed}</tptz:Velocity><tptz:Timeout>{}</tptz:Timeout>", text_of(timeout)),
    )
}

/// Moves by so much, on the device's scales; by the field of view where that is said.
#[must_use]
pub fn relative_move(profile: &str, way: Axes<Option<f64>>, by_view: bool) -> String {
    let space = format!("http://www.onvif.org/ver10/tptz/PanTiltSpaces/{BY_VIEW}");
    let way = vector_in(way, by_view.then_some(space.as_str()));
    of_profile("RelativeMove", profile, &format!("<tptz:Translation>{way}</tptz:Translation>"))
}

/// Stops every move.
#[must_use]
pub fn stop(profile: &str) -> String {
    of_profile("Stop", profile, "<tptz:PanTilt>true</tptz:PanTilt><tptz:Zoom>true</tptz:Zoom>")
}

/// Moves the focus of a video source at this speed, further where it is more than 0.
#[must_use]
pub fn move_focus(source: &str, speed: f64) -> String {
    let source = escape(source);
    format!(
        "<timg:Move><timg:VideoSourceToken>{source}</timg:VideoSourceToken><timg:Focus><tt:Continuous><tt:Speed>{speed}</tt:Speed>\
         </tt:Continuous></timg:Focus></timg:Move>"
    )
}

/// Stops the focus of a video source.
#[must_use]
pub fn stop_focus(source: &str) -> String {
    format!("<timg:Stop><timg:VideoSourceToken>{}</timg:VideoSourceToken></timg:Stop>", escape(source))
}

fn of_profile(order: &str, profile: &str, parts: &str) -> String {
    let token = escape(profile);
    format!("<tptz:{order}><tptz:ProfileToken>{token}</tptz:ProfileToken>{parts}</tptz:{order}>")
}

fn vector(axes: Axes<Option<f64>>) -> String {
    vector_in(axes, None)
}

/// Pan and tilt go together; where one alone is wanted, the other is 0.
fn vector_in(axes: Axes<Option<f64>>, space: Option<&str>) -> String {
    let mut out = String::new();
    if axes.pan.is_some() || axes.tilt.is_some() {
        let (x, y) = (axes.pan.unwrap_or(0.0), axes.tilt.unwrap_or(0.0));
        let space = space.map_or_else(String::new, |space| format!(" space=\"{space}\""));
        out = format!("<tt:PanTilt x=\"{x:.4}\" y=\"{y:.4}\"{space}/>");
    }
    if let Some(zoom) = axes.zoom {
        let _ = write!(out, "<tt:Zoom x=\"{zoom:.4}\"/>");
    }
    out
}

fn shown(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(MAX_NAME).collect::<String>().trim().to_owned()
}

/// A duration as XML writes it (XML Schema part 2, 3.2.6).
#[must_use]
pub fn text_of(duration: Duration) -> String {
    format!("PT{}S", duration.as_secs_f64())
}

/// Reads a duration of days, hours, minutes and seconds; longer parts and negative ones are none.
#[must_use]
pub fn duration(text: &str) -> Option<Duration> {
    let rest = text.trim().strip_prefix('P')?;
    let (days, time) = rest.split_once('T').unwrap_or((rest, ""));
    let mut seconds = match days.strip_suffix('D') {
        Some(days) => days.parse::<f64>().ok()? * 86_400.0,
        None if days.is_empty() => 0.0,
        None => return None,
    };
    let mut number = String::new();
    for c in time.chars() {
        let unit = match c {
            '0'..='9' | '.' => {
                number.push(c);
                continue;
            }
            'H' => 3600.0,
            'M' => 60.0,
            'S' => 1.0,
            _ => return None,
        };
        seconds += std::mem::take(&mut number).parse::<f64>().ok()? * unit;
    }
    (number.is_empty() && text.len() > 2).then(|| Duration::try_from_secs_f64(seconds).ok()).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(text: &str) -> Element {
        Element::parse(text.as_bytes()).unwrap()
    }

    const NODE: &str = "<r><PTZNode token='n'><Name>head</Name><SupportedPTZSpaces>\
        <AbsolutePanTiltPositionSpace><URI>a</URI><XRange><Min>-180</Min><Max>180</Max></XRange><YRange><Min>-90</Min><Max>20</Max></YRange></AbsolutePanTiltPositionSpace>\
        <RelativePanTiltTranslationSpace><URI>b</URI><XRange><Min>-1</Min><Max>1</Max></XRange><YRange><Min>-1</Min><Max>1</Max></YRange></RelativePanTiltTranslationSpace>\
        <RelativePanTiltTranslationSpace><URI>http://www.onvif.org/ver10/tptz/PanTiltSpaces/TranslationSpaceFov</URI></RelativePanTiltTranslationSpace>\
        <ContinuousPanTiltVelocitySpace><URI>c</URI><XRange><Min>-0.5</Min><Max>1</Max></XRange><YRange><Min>3</Min><Max>-3</Max></YRange></ContinuousPanTiltVelocitySpace>\
        <ContinuousZoomVelocitySpace><URI>d</URI><XRange><Min>NaN</Min><Max>1</Max></XRange></ContinuousZoomVelocitySpace>\
        </SupportedPTZSpaces><MaximumNumberOfPresets>16</MaximumNumberOfPresets><HomeSupported>true</HomeSupported>\
        <AuxiliaryCommands>tt:Wiper|On</AuxiliaryCommands><AuxiliaryCommands>tt:Wiper|Off</AuxiliaryCommands></PTZNode></r>";

    #[test]
    fn what_can_be_steered_is_read_and_what_is_nonsense_is_not_there() {
        let node = PtzNode::read(&parse(NODE)).unwrap();
        assert_eq!(node.position.tilt, Some(Scale { least: -90.0, most: 20.0 }));
        assert_eq!((node.speed.tilt, node.speed.zoom), (None, None), "turned round, and no number");
        assert!(node.moves() && node.by_view && node.home && node.presets == 16);
        assert_eq!(node.auxiliary, ["tt:Wiper|On", "tt:Wiper|Off"]);
        let speed = node.speed.pan.unwrap();
        assert_eq!((speed.of_share(-1.0), speed.of_share(0.5), speed.of_share(7.0)), (-0.5, 0.5, 1.0));
        assert_eq!(node.position.pan.unwrap().share(90.0), 0.75);
        assert!(!PtzNode::read(&parse("<r><PTZNode/></r>")).unwrap().moves());
        assert_eq!(PtzNode::read(&parse("<r/>")), None);
    }

    #[test]
    fn orders_are_what_the_service_takes_and_names_cannot_break_out_of_them() {
        let namespaces = "xmlns:tptz='p' xmlns:tt='t' xmlns:timg='i'";
        let order = |text: String| parse(&format!("<a {namespaces}>{text}</a>")).children.remove(0);
        let moving =
            order(continuous_move("p<1", Axes { pan: Some(0.5), tilt: None, zoom: Some(-0.25) }, Duration::from_millis(300)));
        assert_eq!(moving.text_at(&["ProfileToken"]), Some("p<1"));
        let velocity = moving.child("Velocity").unwrap();
        assert_eq!(velocity.child("PanTilt").unwrap().attribute("y"), Some("0.0000"));
        assert_eq!(velocity.child("Zoom").unwrap().attribute("x"), Some("-0.2500"));
        assert_eq!(duration(moving.text_at(&["Timeout"]).unwrap()), Some(Duration::from_millis(300)));
        let zoom = order(relative_move("p", Axes { zoom: Some(1.0), ..Axes::default() }, true));
        assert!(zoom.at(&["Translation", "PanTilt"]).is_none());
        let centred = order(relative_move("p", Axes { pan: Some(1.0), tilt: Some(-1.0), zoom: None }, true));
        assert!(centred.at(&["Translation", "PanTilt"]).unwrap().attribute("space").unwrap().ends_with(BY_VIEW));
        let kept = order(set_preset("p", "lane </x> & \"gate\"", Some("7")));
        assert_eq!((kept.text_at(&["PresetName"]), kept.text_at(&["PresetToken"])), (Some("lane </x> & \"gate\""), Some("7")));
        for text in [stop("p"), goto_home("p"), set_home("p"), get_presets("p"), goto_preset("p", "1"), remove_preset("p", "1")] {
            assert_eq!(order(text).text_at(&["ProfileToken"]), Some("p"));
        }
        assert_eq!(order(move_focus("v", -0.5)).text_at(&["Focus", "Continuous", "Speed"]), Some("-0.5"));
        assert_eq!(order(stop_focus("v")).text_at(&["VideoSourceToken"]), Some("v"));
        assert_eq!(order(send_auxiliary("p", "tt:Wiper|On")).text_at(&["AuxiliaryData"]), Some("tt:Wiper|On"));
    }

    #[test]
    fn where_it_looks_and_its_presets_are_read_with_hostile_names() {
        let status = "<r><PTZStatus><Position><PanTilt x='12.5' y='-3'/><Zoom x='inf'/></Position><MoveStatus><PanTilt>IDLE</PanTilt>\
                      <Zoom>MOVING</Zoom></MoveStatus></PTZStatus></r>";
        let status = PtzStatus::read(&parse(status));
        assert_eq!(status.position, Axes { pan: Some(12.5), tilt: Some(-3.0), zoom: None });
        assert_eq!(status.moving, Some(true));
        assert_eq!(PtzStatus::read(&parse("<r/>")), PtzStatus::default());
        let long = "y".repeat(500);
        let answer = format!("<r><Preset token='1'><Name>gate&#27;[2J {long}</Name></Preset><Preset token='2'/><Preset/></r>");
        let presets = Preset::read(&parse(&answer));
        assert_eq!(presets.len(), 2);
        assert!(presets[0].name.starts_with("gate") && presets[0].name.len() <= 80 && !presets[0].name.contains('\u{1b}'));
        assert_eq!(presets[1].name, "2");
    }

    #[test]
    fn durations_are_read_and_written() {
        for (text, seconds) in [("PT0.3S", 0.3), ("PT1M30S", 90.0), ("P1DT2H", 93_600.0), ("PT10S", 10.0)] {
            assert_eq!(duration(text), Some(Duration::from_secs_f64(seconds)), "{text}");
        }
        for text in ["", "P", "PT", "10", "-PT1S", "PTxS", "P1Y", "PT5"] {
            assert_eq!(duration(text), None, "{text}");
        }
        assert_eq!(text_of(Duration::from_millis(300)), "PT0.3S");
        let options = parse(
            "<r><PTZConfigurationOptions><PTZTimeout><Min>PT0.1S</Min><Max>PT20S</Max></PTZTimeout></PTZConfigurationOptions></r>",
        );
        assert_eq!(read_timeouts(&options), Some((Duration::from_millis(100), Duration::from_secs(20))));
    }
}
