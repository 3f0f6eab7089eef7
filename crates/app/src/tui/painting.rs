//! How pictures are painted: what the terminal can, and what the operator wants.

use lattice_term::{Ability, Paint, Painted, PixelWay};

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
    pub fn is_wanted(&self) -> bool {
        self.arg != Paint::Auto
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
