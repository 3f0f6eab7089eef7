//! A stand-in's imaging service: what it is set to changes its pictures.

use super::fault;
use super::ptz::note;
use crate::camera::Shared;
use crate::canvas::Canvas;
use lattice_core::onvif::{Element, ImagingItem, ImagingSettings, ImagingValue, read_imaging_settings};
use std::fmt::Write as _;
use std::time::{Duration, Instant};

/// The questions and orders that are answered here.
pub(super) const QUESTIONS: [&str; 4] = ["GetImagingSettings", "GetOptions", "SetImagingSettings", "Move"];

/// From 0 to 100, as it leaves the works.
const MIDDLE: f64 = 50.0;

/// What a camera is set to.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Imaging {
    brightness: f64,
    contrast: f64,
    saturation: f64,
    sharpness: f64,
    manual: bool,
    /// In microseconds.
    exposure: f64,
    ir_cut: &'static str,
    /// Where the focus is; it is moved by the steering keys.
    focus: Focus,
}

/// A lens that is driven: where it was at a moment, in shares of its way from where the picture is sharp, and what it does a second.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
struct Focus {
    was: f64,
    /// Since when, and how fast; `None` while it rests.
    goes: Option<(Instant, f64)>,
}

/// Shares of its way that the focus goes in a second at full speed.
const FOCUSES: f64 = 0.5;

impl Focus {
    fn at(self, now: Instant) -> f64 {
        let gone = self.goes.map_or(0.0, |(since, speed)| now.saturating_duration_since(since).as_secs_f64() * speed * FOCUSES);
        (self.was + gone).clamp(-1.0, 1.0)
    }

    fn go(&mut self, now: Instant, speed: f64) {
        *self = Self { was: self.at(now), goes: (speed != 0.0).then_some((now, speed.clamp(-1.0, 1.0))) };
    }
}

impl Default for Imaging {
    fn default() -> Self {
        let (brightness, contrast, saturation, sharpness) = (MIDDLE, MIDDLE, MIDDLE, MIDDLE);
        let (manual, exposure, focus) = (false, 20_000.0, Focus::default());
        Self { brightness, contrast, saturation, sharpness, manual, exposure, ir_cut: "AUTO", focus }
    }
}

impl Imaging {
    /// Makes a picture as it is set.
    pub fn expose(&self, canvas: &mut Canvas) {
        if *self == Self::default() {
            return;
        }
        let light = if self.manual { self.exposure / 20_000.0 } else { 1.0 };
        let (more, wider) = ((self.brightness - MIDDLE) * 1.6, self.contrast / MIDDLE);
        canvas.each_luma(|level| {
            let level = (f64::from(level) - 16.0) * light;
            ((level - 110.0) * wider + 110.0 + more + 16.0).clamp(16.0, 235.0) as u8
        });
        let stronger = if self.ir_cut == "OFF" { 0.0 } else { self.saturation / MIDDLE };
        canvas.each_chroma(|level| ((f64::from(level) - 128.0) * stronger + 128.0).clamp(16.0, 240.0) as u8);
        let blurred = (self.focus.at(Instant::now()).abs() * canvas.size().0 as f64 / 30.0) as usize;
        if blurred > 1 {
            canvas.blur(blurred);
            canvas.blur(blurred);
        }
    }

    /// The focus goes further from here on, or nearer where it is less than 0; it rests where it is 0.
    pub fn move_focus(&mut self, now: Instant, speed: f64) {
        self.focus.go(now, speed);
    }

    fn set(&mut self, wanted: &ImagingSettings) -> Result<(), String> {
        let refused = |what: &str| Err(fault("SettingsInvalid", what));
        let mut new = self.clone();
        for (item, value) in wanted {
            let number = match value {
                ImagingValue::Number(number) => *number,
                ImagingValue::Word(_) => 0.0,
            };
            let percent = (0.0..=100.0).contains(&number);
            match (item, value) {
                (ImagingItem::Brightness, _) if percent => new.brightness = number,
                (ImagingItem::Contrast, _) if percent => new.contrast = number,
                (ImagingItem::Saturation, _) if percent => new.saturation = number,
                (ImagingItem::Sharpness, _) if percent => new.sharpness = number,
                (ImagingItem::ExposureTime, _) if (100.0..=40_000.0).contains(&number) => new.exposure = number,
                (ImagingItem::ExposureMode, ImagingValue::Word(word)) => new.manual = word == "MANUAL",
                (ImagingItem::IrCut, ImagingValue::Word(word)) => {
                    let Some(known) = ["AUTO", "ON", "OFF"].into_iter().find(|one| one == word) else {
                        return refused("no such filter");
                    };
                    new.ir_cut = known;
                }
                _ => return refused("beyond its limits"),
            }
        }
        *self = new;
        Ok(())
    }
}

/// The answer to one of [`QUESTIONS`], or the fault.
pub(super) fn reply(camera: &Shared, question: &Element) -> Result<String, String> {
    let mut imaging = camera.faults.imaging();
    match question.name.as_str() {
        "GetOptions" => Ok(options()),
        "SetImagingSettings" => {
            imaging.set(&read_imaging_settings(question))?;
            Ok("<timg:SetImagingSettingsResponse/>".into())
        }
        "Move" => {
            let speed = question.text_at(&["Focus", "Continuous", "Speed"]).and_then(|speed| speed.parse::<f64>().ok());
            let speed = speed.filter(|speed| speed.is_finite()).ok_or_else(|| fault("InvalidArgVal", "no speed of the focus"))?;
            imaging.move_focus(Instant::now(), speed);
            note(camera, "focus", [speed, 0.0], Duration::ZERO);
            Ok("<timg:MoveResponse/>".into())
        }
        _ => {
            let mode = if imaging.manual { "MANUAL" } else { "AUTO" };
            Ok(format!(
                "<timg:GetImagingSettingsResponse><timg:ImagingSettings><tt:Brightness>{}</tt:Brightness><tt:ColorSaturation>{}</tt:ColorSaturation>\
                 <tt:Contrast>{}</tt:Contrast><tt:Exposure><tt:Mode>{mode}</tt:Mode><tt:ExposureTime>{}</tt:ExposureTime></tt:Exposure>\
                 <tt:IrCutFilter>{}</tt:IrCutFilter><tt:Sharpness>{}</tt:Sharpness></timg:ImagingSettings></timg:GetImagingSettingsResponse>",
                imaging.brightness, imaging.saturation, imaging.contrast, imaging.exposure, imaging.ir_cut, imaging.sharpness
            ))
        }
    }
}

fn options() -> String {
    let range =
        |name: &str, least: u32, most: u32| format!("<tt:{name}><tt:Min>{least}</tt:Min><tt:Max>{most}</tt:Max></tt:{name}>");
    let words = |name: &str, words: &[&str]| {
        words.iter().fold(String::new(), |mut out, word| {
            let _ = write!(out, "<tt:{name}>{word}</tt:{name}>");
            out
        })
    };
    format!(
        "<timg:GetOptionsResponse><timg:ImagingOptions>{}{}{}<tt:Exposure>{}{}</tt:Exposure>{}{}</timg:ImagingOptions></timg:GetOptionsResponse>",
        range("Brightness", 0, 100),
        range("ColorSaturation", 0, 100),
        range("Contrast", 0, 100),
        words("Mode", &["AUTO", "MANUAL"]),
        range("ExposureTime", 100, 40_000),
        words("IrCutFilterModes", &["AUTO", "ON", "OFF"]),
        range("Sharpness", 0, 100)
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::scene::{Scene, View};

    /// The mean difference of neighbours in a row.
    fn detail(imaging: &Imaging) -> f64 {
        let mut scene = Scene::new(View::Slipway, "", 640, 360, None);
        let mut canvas = scene.draw(1_000_000, 1).clone();
        imaging.expose(&mut canvas);
        let pairs = canvas.luma().windows(2).map(|pair| f64::from(pair[0].abs_diff(pair[1])));
        pairs.sum::<f64>() / canvas.luma().len() as f64
    }

    #[test]
    fn the_focus_goes_as_long_as_it_is_told_to_and_rests_at_the_ends_of_its_way() {
        let begin = Instant::now();
        let at = |ms: u64| begin + Duration::from_millis(ms);
        let mut imaging = Imaging::default();
        let sharp = detail(&imaging);
        imaging.move_focus(at(0), 1.0);
        imaging.move_focus(at(400), 0.0);
        assert!((imaging.focus.at(at(9_000)) - 0.2).abs() < 1e-9, "{:?}", imaging.focus);
        let soft = detail(&imaging);
        assert!(soft < sharp * 0.8, "{sharp} {soft}");
        imaging.move_focus(at(9_000), -1.0);
        assert!((imaging.focus.at(at(60_000)) + 1.0).abs() < 1e-9);
        imaging.move_focus(at(60_000), 1.0);
        imaging.move_focus(at(62_000), 0.0);
        assert!((detail(&imaging) - sharp).abs() < sharp * 0.02, "sharp again");
    }
}
