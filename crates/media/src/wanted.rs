//! What a tile can show of a picture.

use lattice_core::adjust::Adjust;
use lattice_core::lattice::Aspect;
use lattice_core::view::View;
use serde::{Deserialize, Serialize};

/// What a tile can show: the most pixels of its painter's grid, and how wide one is against its height.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Wanted {
    /// Most pixels across.
    pub width: usize,
    /// Most pixels down.
    pub height: usize,
    /// Width of a grid pixel over its height.
    pub pixel_aspect: f64,
    /// Sizes are rounded to a multiple of this many pixels across and down.
    pub step: (usize, usize),
    /// How the picture stands in it.
    pub aspect: Aspect,
    /// A picture with fewer pixels is made as large; else it stays as it is, for whoever scales it later.
    pub enlarge: bool,
    /// Only keyframes are decoded.
    pub keyframes_only: bool,
}

impl Wanted {
    /// The size that a whole picture is scaled to: with its aspect inside of this one or, to be cut, around it, or just
    /// this one.
    #[must_use]
    pub fn scaled(&self, picture: (usize, usize)) -> (usize, usize) {
        let (width, height) = self.scaled_to_room(picture);
        if !self.enlarge && width > picture.0 && height > picture.1 { picture } else { (width, height) }
    }

    fn scaled_to_room(&self, picture: (usize, usize)) -> (usize, usize) {
        match self.aspect {
            Aspect::Fit => self.fit(picture),
            Aspect::Stretch => (self.width.max(1), self.height.max(1)),
            Aspect::Fill => {
                let (w, h) = (self.width.max(1) as f64, self.height.max(1) as f64);
                let aspect = picture.0.max(1) as f64 / picture.1.max(1) as f64 / self.pixel_aspect;
                let (w, h) = if w / h > aspect { (w, w / aspect) } else { (h * aspect, h) };
                // Much wider than high, or the other way round: not more than the picture has.
                (
                    w.ceil().min(picture.0.max(self.width) as f64) as usize,
                    h.ceil().min(picture.1.max(self.height) as f64) as usize,
                )
            }
        }
    }

    /// The size of a picture that is made to fill this one: whatever the aspect of its source.
    #[must_use]
    pub fn filled(&self) -> (usize, usize) {
        let even = |side: usize, step: usize| (side / step * step).max(step).min(side.max(1));
        (even(self.width, self.step.0), even(self.height, self.step.1))
    }

    /// The largest size with the picture's aspect that fits.
    #[must_use]
    pub fn fit(&self, picture: (usize, usize)) -> (usize, usize) {
        let (w, h) = (self.width as f64, self.height as f64);
        let aspect = picture.0.max(1) as f64 / picture.1.max(1) as f64 / self.pixel_aspect;
        let (w, h) = if w / h > aspect { (h * aspect, h) } else { (w, w / aspect) };
        let round = |side: f64, step: usize, most: usize| {
            let steps = (side / step as f64).round().max(1.0) as usize;
            (steps * step).min(most.max(1))
        };
        (round(w, self.step.0, self.width), round(h, self.step.1, self.height))
    }
}

/// Most prints of one stream that are made of each picture.
pub const MOST_PRINTS: usize = 8;

/// What one or several tiles want made of each picture of a stream: it is decoded once, whatever is made of it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Print {
    /// What it is asked for by.
    pub id: u64,
    /// Its size.
    pub wanted: Wanted,
    /// What is shown of the picture.
    pub view: View,
    /// What is done to it.
    pub adjust: Adjust,
    /// From this share of its width on it is adjusted, in hundredths; what stands before that is as it comes.
    pub split: u8,
}

impl Print {
    /// The whole picture as it comes, which all tiles without a view of their own show.
    pub const WHOLE: u64 = 0;
    /// A small one that nobody looks at, so that what is watched for motion is decoded.
    pub const WATCHED: u64 = u64::MAX;

    /// The whole picture as it comes.
    #[must_use]
    pub const fn whole(wanted: Wanted) -> Self {
        Self { id: Self::WHOLE, wanted, view: View::WHOLE, adjust: Adjust::OFF, split: 0 }
    }
}

/// Whether only keyframes are decoded: none of the prints wants more.
pub(crate) fn keyframes_only(prints: &[Print]) -> bool {
    prints.iter().all(|print| print.wanted.keyframes_only)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_keep_their_aspect_in_any_tile() {
        let quadrants = Wanted {
            width: 158,
            height: 44,
            pixel_aspect: 0.5,
            step: (2, 2),
            aspect: Aspect::Fit,
            enlarge: true,
            keyframes_only: false,
        };
        assert_eq!(quadrants.fit((640, 360)), (156, 44));
        let halves = Wanted {
            width: 40,
            height: 60,
            pixel_aspect: 1.0,
            step: (1, 2),
            aspect: Aspect::Fit,
            enlarge: true,
            keyframes_only: false,
        };
        assert_eq!(halves.fit((1280, 720)), (40, 22));
        let tiny = Wanted {
            width: 1,
            height: 2,
            pixel_aspect: 1.0,
            step: (1, 2),
            aspect: Aspect::Fit,
            enlarge: true,
            keyframes_only: false,
        };
        assert_eq!(tiny.fit((640, 360)), (1, 2));
    }
}
