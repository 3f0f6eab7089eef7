//! A stand-in's imaging service: what it is set to changes its pictures.

use super::fault;
use crate::camera::Shared;
use crate::canvas::Canvas;
use lattice_core::onvif::{Element, ImagingItem, ImagingSettings, ImagingValue, read_imaging_settings};
use std::fmt::Write as _;

/// The questions and orders that are answered here.
pub(super) const QUESTIONS: [&str; 3] = ["GetImagingSettings", "GetOptions", "SetImagingSettings"];

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
}

impl Default for Imaging {
    fn default() -> Self {
        let (brightness, contrast, saturation, sharpness) = (MIDDLE, MIDDLE, MIDDLE, MIDDLE);
        Self { brightness, contrast, saturation, sharpness, manual: false, exposure: 20_000.0, ir_cut: "AUTO" }
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
