//! Keys for the eyes.

use crate::tui::app::App;
use crate::tui::theme::Tone;
use std::time::Duration;

/// Names stay large for so long.
const NAMES_STAY: Duration = Duration::from_secs(4);
/// A key press changes the brightness by so many percent.
const BRIGHTNESS_STEP: i32 = 10;

impl App {
    /// The whole interface brighter or darker, by steps.
    pub fn change_brightness(&mut self, steps: i32) {
        let next = i32::from(self.aids.brightness) + steps * BRIGHTNESS_STEP;
        self.aids.brightness = next.clamp(BRIGHTNESS_STEP, 100) as u8;
        self.say(Tone::Text, format!("brightness {} %", self.aids.brightness));
    }

    /// A light ground, or a dark one.
    pub fn change_ground(&mut self) {
        self.aids.light = !self.aids.light;
        self.say(Tone::Text, if self.aids.light { "a light ground" } else { "a dark ground" }.into());
    }

    /// All of it moves by a cell now and then, or stays.
    pub fn change_care(&mut self) {
        self.aids.care = !self.aids.care;
        let on = "burn-in care: all of it moves by a cell every 4 minutes";
        self.say(Tone::Text, if self.aids.care { on } else { "burn-in care is off" }.into());
    }

    /// Names are large for a moment.
    pub fn show_names(&mut self) {
        self.aids.names_until = Some(self.now + NAMES_STAY);
    }
}
