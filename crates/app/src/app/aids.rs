//! What helps the eyes: brightness, a light ground, names large for a moment, burn-in care.

use super::App;
use crate::keymap::WallStep;
use crate::theme::Tone;
use lattice_core::Mono;
use ratatui::layout::Rect;
use std::time::Duration;

/// What helps the eyes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Aids {
    /// Of the whole interface, percent.
    pub brightness: u8,
    /// A light ground.
    pub light: bool,
    /// Until when names are large.
    pub names_until: Option<Mono>,
    /// All of it moves by a cell now and then, so that nothing burns into the screen.
    pub care: bool,
}

impl Default for Aids {
    fn default() -> Self {
        Self { brightness: 100, light: false, names_until: None, care: false }
    }
}

/// Everything stays where it is for so long.
const STAYS_SECONDS: u64 = 240;

impl Aids {
    /// The part of the terminal that is drawn in.
    pub fn area(self, terminal: Rect, now: Mono) -> Rect {
        if !self.care || terminal.width < 2 || terminal.height < 2 {
            return terminal;
        }
        let (x, y) = [(0, 0), (1, 0), (1, 1), (0, 1)][(now.as_micros() / 1_000_000 / STAYS_SECONDS % 4) as usize];
        Rect { x: terminal.x + x, y: terminal.y + y, width: terminal.width - 1, height: terminal.height - 1 }
    }
}

/// Names stay large for so long.
const NAMES_STAY: Duration = Duration::from_secs(4);
/// A key press changes the brightness by so many percent.
const BRIGHTNESS_STEP: i32 = 10;

impl App {
    /// A key for the eyes.
    pub(super) fn aid_step(&mut self, step: WallStep) {
        let aids = &mut self.aids;
        let told = match step {
            WallStep::Brightness(steps) => {
                let next = i32::from(aids.brightness) + steps * BRIGHTNESS_STEP;
                aids.brightness = next.clamp(BRIGHTNESS_STEP, 100) as u8;
                format!("brightness {} %", aids.brightness)
            }
            WallStep::Light => {
                aids.light = !aids.light;
                if aids.light { "a light ground".into() } else { "a dark ground".into() }
            }
            WallStep::Care => {
                aids.care = !aids.care;
                if aids.care { "burn-in care: all of it moves by a cell every 4 minutes" } else { "burn-in care is off" }.into()
            }
            _ => {
                aids.names_until = Some(self.now + NAMES_STAY);
                return;
            }
        };
        self.say(Tone::Text, told);
    }
}
