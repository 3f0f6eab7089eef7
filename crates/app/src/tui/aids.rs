//! What helps the eyes: brightness, a light ground, names large for a moment, burn-in care.

use lattice_core::Mono;
use ratatui::layout::Rect;

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
