//! How pictures are painted: what the terminal can, and what the operator wants.

use super::App;
use crate::desk::Page;
use crate::theme::Tone;
use lattice_term::Paint;
use lattice_term::{Ability, Painted, PixelWay, Pixels, QUADRANTS_FROM};
use ratatui::layout::Rect;

/// With more tiles than this, sixel is too slow for all.
const SIXEL_TILES: usize = 9;

/// How pictures are painted.
#[derive(Debug, Clone, Default)]
pub struct Painting {
    /// What the operator wants.
    pub arg: Paint,
    /// What the terminal can.
    pub ability: Ability,
    /// There is no colour: pictures are dithered, unless a way is asked for.
    pub mono: bool,
    /// Of each place of the screen how its picture is painted.
    pub painted: Vec<Option<Painted>>,
}

impl Painting {
    /// The way of painting in pixels, where there is one.
    pub fn way(&self) -> Option<PixelWay> {
        self.ability.pixels(self.arg).filter(|_| !self.mono || self.arg != Paint::Auto)
    }

    /// It is asked for, not chosen.
    fn is_wanted(&self) -> bool {
        self.arg != Paint::Auto
    }
}

/// The ways that a key goes through.
const WAYS: [Paint; 6] = [Paint::Auto, Paint::Kitty, Paint::Sixel, Paint::Iterm, Paint::Quadrant, Paint::Half];

impl App {
    /// How a place of the page is painted in pixels; `None` is in cells.
    pub fn pixels_at(&self, place: usize) -> Option<Pixels> {
        let way = self.painting.way()?;
        let alone = match self.page {
            Page::Wall => self.enlarged && place == self.selected,
            Page::Stream => place == 0,
            Page::Bench => false,
            _ => return None,
        };
        let many = self.page == Page::Wall && !self.enlarged && self.tiles.len() > SIXEL_TILES;
        let for_all = way.is_for_all() && !(way == PixelWay::Sixel && many);
        if !(alone || for_all || self.painting.is_wanted()) {
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
    pub(super) fn next_painting(&mut self) {
        let at = WAYS.iter().position(|way| *way == self.painting.arg).unwrap_or(0);
        self.painting.arg = WAYS[(at + 1) % WAYS.len()];
        self.painting.ability.failed = None;
        let told = self.painting.told();
        self.say(Tone::Text, told);
    }
}

impl Painting {
    /// How it is painted now, in words.
    pub fn told(&self) -> String {
        let way = self.way().map(PixelWay::words);
        match (self.arg, way) {
            (Paint::Auto, Some(way)) => format!("pictures as the terminal takes them best: {way}"),
            (Paint::Auto, None) => "pictures as the terminal takes them best: in cells".into(),
            (Paint::Quadrant, _) => "pictures in quadrants, four pixels a cell".into(),
            (Paint::Half, _) => "pictures in half blocks, two pixels a cell".into(),
            (_, way) => {
                let taken = self.ability.pixels(Paint::Auto) == self.way();
                let doubt = if taken { "" } else { ", though the terminal does not say that it can; Z goes on to the next way" };
                format!("pictures by {}{doubt}", way.unwrap_or("cells"))
            }
        }
    }
}
