//! Adjustments of what is shown of a camera: they change nothing at the camera, and nothing that is measured.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::time::Duration;

/// What is done to the pictures of a camera before they are shown. All zero is nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
pub struct Adjust {
    /// Of each setting, in its own unit.
    values: [i16; Setting::ALL.len()],
}

/// One of the things that can be adjusted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum Setting {
    /// Light that is added to every level, in percent of the whole range: -100 to 100.
    Brightness,
    /// How much further levels lie from the middle, in percent: -100 (all grey) to 100 (twice as far).
    Contrast,
    /// The exponent that levels are raised to is 2 to the power of minus this over 50: above 0 dark places become lighter, and
    /// white and black stay. -100 to 100.
    Gamma,
    /// How much further colours lie from grey, in percent: -100 (none) to 100 (twice as far).
    Saturation,
    /// How much of what is finer than three pixels is added again, in percent of it: 0 to 100.
    Sharpness,
    /// How much of what stands still is taken from the pictures before, against noise: 0 to 100.
    Denoise,
    /// How much of the light of haze is taken out, in percent of what is found: 0 to 100.
    Dehaze,
    /// Whether the levels that are there are spread over the whole range: 0 or 1.
    Levels,
    /// Whether all is drawn in one warm colour, for eyes that are used to the dark: 0 or 1.
    OneColour,
}

impl Setting {
    /// Every one, in the order in which they stand on the page.
    pub const ALL: [Self; 9] = [
        Self::Brightness,
        Self::Contrast,
        Self::Gamma,
        Self::Saturation,
        Self::Sharpness,
        Self::Denoise,
        Self::Dehaze,
        Self::Levels,
        Self::OneColour,
    ];

    /// Its word in the site file and on the command line.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Brightness => "brightness",
            Self::Contrast => "contrast",
            Self::Gamma => "gamma",
            Self::Saturation => "saturation",
            Self::Sharpness => "sharpness",
            Self::Denoise => "denoise",
            Self::Dehaze => "dehaze",
            Self::Levels => "auto-levels",
            Self::OneColour => "one-colour",
        }
    }

    /// The one with this word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|setting| setting.word() == word)
    }

    /// Its name on a screen.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Brightness => "brightness",
            Self::Contrast => "contrast",
            Self::Gamma => "gamma",
            Self::Saturation => "saturation",
            Self::Sharpness => "sharpness",
            Self::Denoise => "noise reduction",
            Self::Dehaze => "de-haze",
            Self::Levels => "auto-levels",
            Self::OneColour => "one colour",
        }
    }

    /// What it does, for whoever chooses it.
    #[must_use]
    pub const fn told(self) -> &'static str {
        match self {
            Self::Brightness => "every level lighter or darker",
            Self::Contrast => "levels further from the middle, or nearer to it",
            Self::Gamma => "dark places lighter, white and black stay",
            Self::Saturation => "stronger colours, or weaker ones",
            Self::Sharpness => "edges and small things clearer",
            Self::Denoise => "still places averaged over time; what moves stays",
            Self::Dehaze => "takes out the light of fog and haze",
            Self::Levels => "spreads the levels that are there over the whole range",
            Self::OneColour => "all in one warm colour, for eyes used to the dark",
        }
    }

    /// Its least and its greatest value.
    #[must_use]
    pub const fn range(self) -> (i16, i16) {
        match self {
            Self::Brightness | Self::Contrast | Self::Gamma | Self::Saturation => (-100, 100),
            Self::Sharpness | Self::Denoise | Self::Dehaze => (0, 100),
            Self::Levels | Self::OneColour => (0, 1),
        }
    }

    /// Whether it is on or off, and nothing between.
    #[must_use]
    pub const fn is_switch(self) -> bool {
        self.range().1 == 1
    }
}

impl Adjust {
    /// Nothing is done.
    pub const OFF: Self = Self { values: [0; Setting::ALL.len()] };

    /// Whether nothing is done: pictures are shown as they come.
    #[must_use]
    pub fn is_off(&self) -> bool {
        *self == Self::OFF
    }

    /// The value of a setting.
    #[must_use]
    pub const fn get(&self, setting: Setting) -> i16 {
        self.values[setting as usize]
    }

    /// Sets a value, as near to it as the setting goes.
    pub fn set(&mut self, setting: Setting, value: i16) {
        let (least, most) = setting.range();
        self.values[setting as usize] = value.clamp(least, most);
    }

    /// The same with this value.
    #[must_use]
    pub fn with(mut self, setting: Setting, value: i16) -> Self {
        self.set(setting, value);
        self
    }

    /// The settings that do something, with their values.
    pub fn in_use(&self) -> impl Iterator<Item = (Setting, i16)> {
        Setting::ALL.into_iter().map(|setting| (setting, self.get(setting))).filter(|(_, value)| *value != 0)
    }

    /// What comes of a level by brightness, contrast and gamma: a table of all 256.
    #[must_use]
    pub fn curve(&self) -> [u8; 256] {
        let share = |setting| f64::from(self.get(setting)) / 100.0;
        let (brightness, contrast) = (share(Setting::Brightness), 1.0 + share(Setting::Contrast));
        let exponent = (-2.0 * share(Setting::Gamma)).exp2();
        std::array::from_fn(|level| {
            let level = (level as f64 / 255.0).powf(exponent);
            let level = (level - 0.5) * contrast + 0.5 + brightness;
            (level.clamp(0.0, 1.0) * 255.0).round() as u8
        })
    }
}

/// The settings that do something, in words: `contrast +30, de-haze 80`.
impl fmt::Display for Adjust {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_off() {
            return f.write_str("as it comes");
        }
        for (n, (setting, value)) in self.in_use().enumerate() {
            let between = if n > 0 { ", " } else { "" };
            match setting {
                _ if setting.is_switch() => write!(f, "{between}{}", setting.name())?,
                _ if setting.range().0 < 0 => write!(f, "{between}{} {value:+}", setting.name())?,
                _ => write!(f, "{between}{} {value}", setting.name())?,
            }
        }
        Ok(())
    }
}

/// Adjustments with a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Preset {
    /// What it is called.
    pub name: String,
    /// What it does.
    pub adjust: Adjust,
}

/// The presets that are always there.
#[must_use]
pub fn presets() -> Vec<Preset> {
    let of = |name: &str, values: &[(Setting, i16)]| {
        let adjust = values.iter().fold(Adjust::OFF, |adjust, (setting, value)| adjust.with(*setting, *value));
        Preset { name: name.into(), adjust }
    };
    vec![
        of("as it comes", &[]),
        of(
            "read a label",
            &[
                (Setting::Contrast, 35),
                (Setting::Gamma, 10),
                (Setting::Saturation, -30),
                (Setting::Sharpness, 80),
                (Setting::Denoise, 40),
            ],
        ),
        of("night", &[(Setting::Gamma, 60), (Setting::Denoise, 80), (Setting::Levels, 1)]),
        of("fog", &[(Setting::Dehaze, 85), (Setting::Contrast, 10), (Setting::Saturation, 20)]),
        of("dark room", &[(Setting::OneColour, 1)]),
    ]
}

/// How the levels of a picture are spread.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Tones {
    /// Share of the pixels in each 64th of the range of luminance, from black to white.
    pub shares: Vec<f32>,
    /// Share of the pixels at the lowest level: what was there cannot be told apart any more.
    pub black: f32,
    /// Share of the pixels at the highest level.
    pub white: f32,
}

/// What adjusting did to a picture.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Toned {
    /// How its levels were spread before.
    pub before: Tones,
    /// How they are spread now.
    pub after: Tones,
    /// How long it took.
    pub took: Duration,
}

/// Parts of the range that [`Tones`] tells apart.
pub const TONES: usize = 64;

impl Tones {
    /// Of pixels of red, green and blue.
    #[must_use]
    pub fn of(rgb: &[u8]) -> Self {
        let (pixels, _) = rgb.as_chunks::<3>();
        let (mut counts, mut black, mut white) = ([0u32; TONES], 0u32, 0u32);
        for [r, g, b] in pixels {
            let level = luminance(*r, *g, *b);
            counts[usize::from(level) * TONES / 256] += 1;
            black += u32::from(level == 0);
            white += u32::from(level == 255);
        }
        let all = pixels.len().max(1) as f32;
        let share = |count: u32| count as f32 / all;
        Self { shares: counts.iter().map(|count| share(*count)).collect(), black: share(black), white: share(white) }
    }
}

/// Luminance of a pixel by ITU-R BT.601, 0 to 255.
#[must_use]
pub const fn luminance(r: u8, g: u8, b: u8) -> u8 {
    ((r as u32 * 77 + g as u32 * 150 + b as u32 * 29) >> 8) as u8
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_stay_in_their_range_and_have_words() {
        let mut adjust = Adjust::OFF;
        assert!(adjust.is_off() && adjust.to_string() == "as it comes");
        for setting in Setting::ALL {
            let (least, most) = setting.range();
            adjust.set(setting, i16::MAX);
            assert_eq!(adjust.get(setting), most);
            adjust.set(setting, i16::MIN);
            assert_eq!(adjust.get(setting), least);
            assert_eq!(Setting::from_word(setting.word()), Some(setting));
        }
        let adjust = Adjust::OFF.with(Setting::Contrast, 30).with(Setting::Dehaze, 80).with(Setting::Levels, 1);
        assert_eq!(adjust.to_string(), "contrast +30, de-haze 80, auto-levels");
        assert!(presets()[0].adjust.is_off() && presets()[1..].iter().all(|preset| !preset.adjust.is_off()));
    }

    #[test]
    fn the_curve_is_what_the_settings_say() {
        assert_eq!(Adjust::OFF.curve(), std::array::from_fn(|level| level as u8));
        let lighter = Adjust::OFF.with(Setting::Brightness, 20).curve();
        assert_eq!((lighter[0], lighter[100], lighter[255]), (51, 151, 255));
        let flat = Adjust::OFF.with(Setting::Contrast, -100).curve();
        assert!(flat.iter().all(|level| *level == 128));
        let open = Adjust::OFF.with(Setting::Gamma, 50).curve();
        assert_eq!((open[0], open[64], open[255]), (0, 128, 255), "the root of a quarter is a half");
    }

    #[test]
    fn tones_tell_what_is_clipped() {
        let mut rgb = vec![0u8; 30];
        rgb.extend([255; 30]);
        rgb.extend([128; 60]);
        let tones = Tones::of(&rgb);
        assert_eq!((tones.black, tones.white), (0.25, 0.25));
        assert_eq!((tones.shares[0], tones.shares[32], tones.shares[63]), (0.25, 0.5, 0.25));
        assert_eq!(Tones::of(&[]).shares.iter().sum::<f32>(), 0.0, "no pixel, no share");
    }
}
