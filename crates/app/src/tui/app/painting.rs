//! Where pictures are painted in pixels.

use crate::tui::app::App;
use crate::tui::page::Share;
use crate::tui::theme::Tone;
use lattice_term::{Paint, PixelWay, Pixels, QUADRANTS_FROM};
use ratatui::layout::Rect;

/// The ways that a key goes through.
const WAYS: [Paint; 6] = [Paint::Auto, Paint::Kitty, Paint::Sixel, Paint::Iterm, Paint::Quadrant, Paint::Half];

impl App {
    /// How a place of the page is painted in pixels; `None` is in cells.
    pub fn pixels_at(&self, place: usize) -> Option<Pixels> {
        let way = self.painting.way()?;
        let share = self.page()?.share(self, place)?;
        let for_all = way.is_for_all() && !(way == PixelWay::Sixel && share == Share::Many);
        if !(share == Share::Alone || for_all || self.painting.is_wanted()) {
            return None;
        }
        let ability = &self.painting.ability;
        let (cell, colours) = (ability.cell((self.area.width, self.area.height)), ability.sixel_colours());
        Some(Pixels { way, cell, colours, largest: ability.largest })
    }

    /// Pixels that a picture in an area of a place can show.
    pub fn pixels_in(&self, place: usize, area: Rect) -> u32 {
        match self.pixels_at(place) {
            Some(Pixels { cell: (width, height), .. }) => area.area() * u32::from(width) * u32::from(height),
            None => area.area() * if area.area() >= QUADRANTS_FROM { 4 } else { 2 },
        }
    }

    /// The next way of painting.
    pub fn next_painting(&mut self) {
        let at = WAYS.iter().position(|way| *way == self.painting.arg).unwrap_or(0);
        self.painting.arg = WAYS[(at + 1) % WAYS.len()];
        self.painting.ability.failed = None;
        let told = self.painting.told();
        self.say(Tone::Text, told);
    }
}
