//! A device's own imaging settings (`ver20/imaging/wsdl`, §"`GetImagingSettings`", "`GetOptions`", "`SetImagingSettings`"): they change the picture for
//! everybody who watches it.

use super::ptz::Scale;
use super::xml::{Element, escape};
use std::collections::BTreeMap;
use std::fmt::Write as _;

/// Most words of a choice that are read of a device.
const MAX_WORDS: usize = 16;
/// Longest of them.
const MAX_WORD: usize = 24;

/// One of the settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum ImagingItem {
    /// How light.
    Brightness,
    /// How far levels lie apart.
    Contrast,
    /// How strong colours are.
    Saturation,
    /// How clear edges are.
    Sharpness,
    /// Whether the device sets the exposure.
    ExposureMode,
    /// How long each picture is exposed, in microseconds.
    ExposureTime,
    /// How much the sensor's signal is raised, in dB.
    Gain,
    /// Whether the device sets the white balance.
    WhiteBalanceMode,
    /// How strong red is.
    RedGain,
    /// How strong blue is.
    BlueGain,
    /// Whether the filter that keeps infrared light out is before the sensor.
    IrCut,
    /// Whether the device sets the focus.
    FocusMode,
    /// Whether what stands before a bright ground is lightened.
    Backlight,
    /// Whether dark and light places are brought nearer to each other.
    WideRange,
    /// How much.
    WideRangeLevel,
}

/// Where an item stands in the settings, and in the options where that is another place.
struct Place {
    item: ImagingItem,
    name: &'static str,
    at: &'static [&'static str],
    options: &'static [&'static str],
    words: bool,
}

const fn place(
    item: ImagingItem,
    name: &'static str,
    at: &'static [&'static str],
    options: &'static [&'static str],
    words: bool,
) -> Place {
    Place { item, name, at, options, words }
}

/// In the order of the schema (`tt:ImagingSettings20`), which devices insist on.
const PLACES: [Place; 15] = [
    place(ImagingItem::Backlight, "backlight", &["BacklightCompensation", "Mode"], &["BacklightCompensation", "Mode"], true),
    place(ImagingItem::Brightness, "brightness", &["Brightness"], &["Brightness"], false),
    place(ImagingItem::Saturation, "saturation", &["ColorSaturation"], &["ColorSaturation"], false),
    place(ImagingItem::Contrast, "contrast", &["Contrast"], &["Contrast"], false),
    place(ImagingItem::ExposureMode, "exposure", &["Exposure", "Mode"], &["Exposure", "Mode"], true),
    place(ImagingItem::ExposureTime, "exposure time", &["Exposure", "ExposureTime"], &["Exposure", "ExposureTime"], false),
    place(ImagingItem::Gain, "gain", &["Exposure", "Gain"], &["Exposure", "Gain"], false),
    place(ImagingItem::FocusMode, "focus", &["Focus", "AutoFocusMode"], &["Focus", "AutoFocusModes"], true),
    place(ImagingItem::IrCut, "IR-cut filter", &["IrCutFilter"], &["IrCutFilterModes"], true),
    place(ImagingItem::Sharpness, "sharpness", &["Sharpness"], &["Sharpness"], false),
    place(ImagingItem::WideRange, "wide dynamic range", &["WideDynamicRange", "Mode"], &["WideDynamicRange", "Mode"], true),
    place(ImagingItem::WideRangeLevel, "range level", &["WideDynamicRange", "Level"], &["WideDynamicRange", "Level"], false),
    place(ImagingItem::WhiteBalanceMode, "white balance", &["WhiteBalance", "Mode"], &["WhiteBalance", "Mode"], true),
    place(ImagingItem::RedGain, "red gain", &["WhiteBalance", "CrGain"], &["WhiteBalance", "YrGain"], false),
    place(ImagingItem::BlueGain, "blue gain", &["WhiteBalance", "CbGain"], &["WhiteBalance", "YbGain"], false),
];

impl ImagingItem {
    /// Its name on a screen.
    #[must_use]
    pub fn name(self) -> &'static str {
        PLACES.iter().find(|place| place.item == self).map_or("", |place| place.name)
    }

    /// Its unit, where it has one; the others are on the device's own scale.
    #[must_use]
    pub const fn unit(self) -> &'static str {
        match self {
            Self::ExposureTime => " µs",
            Self::Gain => " dB",
            _ => "",
        }
    }
}

/// What an item is set to.
#[derive(Debug, Clone, PartialEq)]
pub enum ImagingValue {
    /// On the device's own scale.
    Number(f64),
    /// One of the device's words.
    Word(String),
}

impl std::fmt::Display for ImagingValue {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Number(number) if number.fract().abs() < 1e-6 => write!(f, "{number:.0}"),
            Self::Number(number) => write!(f, "{number:.2}"),
            Self::Word(word) => f.write_str(&word.to_lowercase()),
        }
    }
}

/// What an item can be set to.
#[derive(Debug, Clone, PartialEq)]
pub enum ImagingChoice {
    /// A number from here to there.
    Range(Scale),
    /// One of these.
    Words(Vec<String>),
}

/// What a device is set to.
pub type ImagingSettings = BTreeMap<ImagingItem, ImagingValue>;
/// What a device can be set to.
pub type ImagingOptions = BTreeMap<ImagingItem, ImagingChoice>;

/// Asks what a source is set to.
#[must_use]
pub fn get_imaging_settings(source: &str) -> String {
    format!(
        "<timg:GetImagingSettings><timg:VideoSourceToken>{}</timg:VideoSourceToken></timg:GetImagingSettings>",
        escape(source)
    )
}

/// Asks what a source can be set to.
#[must_use]
pub fn get_imaging_options(source: &str) -> String {
    format!("<timg:GetOptions><timg:VideoSourceToken>{}</timg:VideoSourceToken></timg:GetOptions>", escape(source))
}

fn word(text: &str) -> Option<String> {
    let text = text.trim();
    let fits = !text.is_empty() && text.len() <= MAX_WORD && text.bytes().all(|byte| byte.is_ascii_graphic());
    fits.then(|| text.to_owned())
}

/// Reads `GetImagingSettingsResponse`; what is not understood is left out.
#[must_use]
pub fn read_imaging_settings(answer: &Element) -> ImagingSettings {
    let Some(settings) = answer.child("ImagingSettings") else { return ImagingSettings::new() };
    let value = |place: &Place| {
        let text = settings.text_at(place.at)?;
        let value = if place.words {
            ImagingValue::Word(word(text)?)
        } else {
            ImagingValue::Number(text.parse().ok().filter(|number: &f64| number.is_finite())?)
        };
        Some((place.item, value))
    };
    PLACES.iter().filter_map(value).collect()
}

/// Reads `GetOptionsResponse`.
#[must_use]
pub fn read_imaging_options(answer: &Element) -> ImagingOptions {
    let Some(options) = answer.child("ImagingOptions") else { return ImagingOptions::new() };
    let choice = |place: &Place| {
        let (last, before) = place.options.split_last()?;
        let within = before.iter().try_fold(options, |within, name| within.child(name))?;
        let choice = if place.words {
            let words: Vec<String> = within.all(last).take(MAX_WORDS).filter_map(|element| word(&element.text)).collect();
            if words.is_empty() {
                return None;
            }
            ImagingChoice::Words(words)
        } else {
            ImagingChoice::Range(Scale::read(within.child(last))?)
        };
        Some((place.item, choice))
    };
    PLACES.iter().filter_map(choice).collect()
}

/// Sets a source. Items that stand together (exposure with its time) are sent together, in the order of the schema: a device refuses
/// half of them. It keeps them over a restart.
#[must_use]
pub fn set_imaging_settings(source: &str, settings: &ImagingSettings) -> String {
    let mut body = String::new();
    let mut group = "";
    for place in &PLACES {
        let Some(value) = settings.get(&place.item) else { continue };
        let own = if place.at.len() > 1 { place.at[0] } else { "" };
        if own != group {
            if !group.is_empty() {
                let _ = write!(body, "</tt:{group}>");
            }
            if !own.is_empty() {
                let _ = write!(body, "<tt:{own}>");
            }
            group = own;
        }
        let name = place.at.last().copied().unwrap_or_default();
        let text = match value {
            ImagingValue::Number(number) => format!("{number}"),
            ImagingValue::Word(word) => escape(word),
        };
        let _ = write!(body, "<tt:{name}>{text}</tt:{name}>");
    }
    if !group.is_empty() {
        let _ = write!(body, "</tt:{group}>");
    }
    format!(
        "<timg:SetImagingSettings><timg:VideoSourceToken>{}</timg:VideoSourceToken><timg:ImagingSettings>{body}</timg:ImagingSettings>\
         <timg:ForcePersistence>true</timg:ForcePersistence></timg:SetImagingSettings>",
        escape(source)
    )
}

/// What must be sent for these items to change: each with those that stand together with it, as they are.
#[must_use]
pub fn imaging_changes(now: &ImagingSettings, wanted: &ImagingSettings) -> ImagingSettings {
    let group = |item: &ImagingItem| PLACES.iter().find(|place| place.item == *item).and_then(|place| place.at.first());
    let changed: Vec<_> =
        wanted.iter().filter(|(item, value)| now.get(item) != Some(value)).map(|(item, _)| group(item)).collect();
    let merged = now.iter().filter(|(item, _)| !wanted.contains_key(item)).chain(wanted);
    merged.filter(|(item, _)| changed.contains(&group(item))).map(|(item, value)| (*item, value.clone())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn element(inner: &str) -> Element {
        Element::parse(format!("<r xmlns:tt=\"x\" xmlns:timg=\"y\">{inner}</r>").as_bytes()).unwrap()
    }

    fn settings() -> ImagingSettings {
        read_imaging_settings(&element(
            "<timg:ImagingSettings><tt:Brightness>50</tt:Brightness><tt:Contrast>nan</tt:Contrast><tt:Exposure><tt:Mode>AUTO</tt:Mode>\
             <tt:ExposureTime>20000</tt:ExposureTime></tt:Exposure><tt:IrCutFilter>AUTO</tt:IrCutFilter></timg:ImagingSettings>",
        ))
    }

    #[test]
    fn settings_and_options_are_read_and_set_in_the_order_of_the_schema() {
        let now = settings();
        assert_eq!(now.len(), 4, "a number that is none is not known: {now:?}");
        assert_eq!(now[&ImagingItem::Brightness].to_string(), "50");
        let options = read_imaging_options(&element(
            "<timg:ImagingOptions><tt:Brightness><tt:Min>0</tt:Min><tt:Max>100</tt:Max></tt:Brightness><tt:IrCutFilterModes>ON</tt:IrCutFilterModes>\
             <tt:IrCutFilterModes>OFF</tt:IrCutFilterModes><tt:Exposure><tt:Mode>AUTO</tt:Mode><tt:Mode>MANUAL</tt:Mode><tt:ExposureTime><tt:Min>9</tt:Min>\
             <tt:Max>1</tt:Max></tt:ExposureTime></tt:Exposure></timg:ImagingOptions>",
        ));
        assert_eq!(options[&ImagingItem::Brightness], ImagingChoice::Range(Scale { least: 0.0, most: 100.0 }));
        assert_eq!(options[&ImagingItem::IrCut], ImagingChoice::Words(vec!["ON".into(), "OFF".into()]));
        assert!(!options.contains_key(&ImagingItem::ExposureTime), "limits that cannot be are none");
        let wanted = ImagingSettings::from([
            (ImagingItem::ExposureTime, ImagingValue::Number(5000.0)),
            (ImagingItem::IrCut, ImagingValue::Word("OFF".into())),
            (ImagingItem::Brightness, ImagingValue::Number(50.0)),
        ]);
        let changes = imaging_changes(&now, &wanted);
        assert!(!changes.contains_key(&ImagingItem::Brightness), "as it is already");
        let text = set_imaging_settings("a\"b", &changes);
        assert!(
            text.contains("<tt:Exposure><tt:Mode>AUTO</tt:Mode><tt:ExposureTime>5000</tt:ExposureTime></tt:Exposure><tt:IrCutFilter>OFF</tt:IrCutFilter>"),
            "{text}"
        );
        assert!(text.contains("a&quot;b") && text.contains("ForcePersistence>true"), "{text}");
    }

    proptest! {
        #[test]
        fn whatever_a_device_says_is_borne(word in ".{0,60}", number in any::<f64>()) {
            let inner = format!("<timg:ImagingSettings><tt:Brightness>{number}</tt:Brightness><tt:IrCutFilter>{}</tt:IrCutFilter></timg:ImagingSettings>", escape(&word));
            if let Ok(element) = Element::parse(format!("<r xmlns:tt=\"x\" xmlns:timg=\"y\">{inner}</r>").as_bytes()) {
                for value in read_imaging_settings(&element).values() {
                    let shown = value.to_string();
                    let plain = !shown.contains(char::is_control);
                    prop_assert!(shown.len() <= 340 && plain, "{}", shown);
                }
            }
        }
    }
}
