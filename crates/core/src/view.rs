//! What of a picture a tile shows: all of it, or a part that is drawn larger.
//!
//! Places in a picture are shares of its width and height, from 0 at the left and upper edge to 1.

use crate::lens::{Gaze, Lens};
use serde::{Deserialize, Serialize};

/// The most that a picture is drawn larger.
pub const MOST_TIMES: f64 = 32.0;
/// So much larger or smaller at a step of a key or the wheel.
pub const STEP: f64 = 1.25;

/// How much larger a picture is drawn than to fill its tile, and the place of the picture in the middle of the tile.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Zoom {
    /// In hundredths; 100 is the whole picture.
    times: u32,
    /// From the left edge, in hundred-thousandths.
    x: u32,
    /// From the upper edge, likewise.
    y: u32,
}

impl Default for Zoom {
    fn default() -> Self {
        Self::WHOLE
    }
}

/// What is shown of a picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum View {
    /// The picture as it comes, or a part of it.
    Flat(Zoom),
    /// A straight view into a picture of all around.
    Window(Lens, Gaze),
    /// All around as a strip.
    Strip(Lens, Gaze),
}

impl Default for View {
    fn default() -> Self {
        Self::WHOLE
    }
}

impl View {
    /// All of the picture, as it comes.
    pub const WHOLE: Self = Self::Flat(Zoom::WHOLE);

    /// Whether it is all of the picture, as it comes.
    #[must_use]
    pub const fn is_whole(&self) -> bool {
        matches!(self, Self::Flat(zoom) if zoom.is_whole())
    }

    /// How many pixels of the whole picture are needed for each one that is shown.
    #[must_use]
    pub fn needs(&self) -> f64 {
        match self {
            Self::Flat(zoom) => zoom.times() * zoom.times(),
            // Of the sphere, which has 41,253 square degrees, it shows as much as a square of these.
            Self::Window(_, gaze) => 41_253.0 / (f64::from(gaze.across) / 100.0).powi(2) * 16.0 / 9.0,
            Self::Strip(..) => 2.0,
        }
    }
}

/// A part of a picture, in shares of its sides.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Part {
    /// From the left edge.
    pub left: f64,
    /// From the upper edge.
    pub top: f64,
    /// Of its width.
    pub width: f64,
    /// Of its height.
    pub height: f64,
}

impl Zoom {
    /// The whole picture.
    pub const WHOLE: Self = Self { times: 100, x: 50_000, y: 50_000 };

    /// So many times larger, with this place in the middle, or as near to it as the picture's edges allow. Anything that is no
    /// number is the whole picture.
    #[must_use]
    pub fn new(times: f64, x: f64, y: f64) -> Self {
        if !(times.is_finite() && x.is_finite() && y.is_finite()) {
            return Self::WHOLE;
        }
        let times = (times.clamp(1.0, MOST_TIMES) * 100.0).round() as u32;
        let half = 50.0 / f64::from(times);
        let place = |at: f64| (at.clamp(half, 1.0 - half) * 100_000.0).round() as u32;
        Self { times, x: place(x), y: place(y) }
    }

    /// How many times larger.
    #[must_use]
    pub fn times(self) -> f64 {
        f64::from(self.times) / 100.0
    }

    /// The place in the middle.
    #[must_use]
    pub fn middle(self) -> (f64, f64) {
        (f64::from(self.x) / 100_000.0, f64::from(self.y) / 100_000.0)
    }

    /// Whether it is the whole picture.
    #[must_use]
    pub const fn is_whole(self) -> bool {
        self.times <= 100
    }

    /// What is seen.
    #[must_use]
    pub fn part(self) -> Part {
        let side = 1.0 / self.times();
        let (x, y) = self.middle();
        let begin = |middle: f64| (middle - side / 2.0).clamp(0.0, 1.0 - side);
        Part { left: begin(x), top: begin(y), width: side, height: side }
    }

    /// So many times as large as now. The picture's place that stands at `at`, in shares of what is seen, stays there as far as the
    /// picture's edges allow.
    #[must_use]
    pub fn by(self, factor: f64, at: (f64, f64)) -> Self {
        let part = self.part();
        let times = (self.times() * factor).clamp(1.0, MOST_TIMES);
        let place = (part.left + at.0 * part.width, part.top + at.1 * part.height);
        let middle = |place: f64, at: f64| place + (0.5 - at) / times;
        Self::new(times, middle(place.0, at.0), middle(place.1, at.1))
    }

    /// Moved to the right and down, in shares of what is seen.
    #[must_use]
    pub fn moved(self, right: f64, down: f64) -> Self {
        let (x, y) = self.middle();
        Self::new(self.times(), x + right / self.times(), y + down / self.times())
    }
}

impl Part {
    /// The whole picture.
    pub const WHOLE: Self = Self { left: 0.0, top: 0.0, width: 1.0, height: 1.0 };

    /// Left, top, width and height in the pixels of a picture: even, as 4:2:0 samples stand, and two at least in each direction
    /// where the picture has so many.
    #[must_use]
    pub fn pixels(self, (width, height): (usize, usize)) -> (usize, usize, usize, usize) {
        let side = |begin: f64, share: f64, most: usize| {
            let count = ((share * most as f64 / 2.0).round().max(1.0) as usize * 2).min(most);
            let begin = ((begin * most as f64 / 2.0).round().max(0.0) as usize * 2).min((most - count) & !1);
            (begin, count)
        };
        let ((left, across), (top, down)) = (side(self.left, self.width, width), side(self.top, self.height, height));
        (left, top, across, down)
    }

    /// Where it lies in another part, as shares of that; `None` where some of it lies outside.
    #[must_use]
    pub fn within(self, other: Self) -> Option<Self> {
        let near = 1e-4;
        let (right, bottom) = (self.left + self.width, self.top + self.height);
        let inside = self.left >= other.left - near
            && self.top >= other.top - near
            && right <= other.left + other.width + near
            && bottom <= other.top + other.height + near;
        inside.then(|| {
            let (left, top) = ((self.left - other.left) / other.width, (self.top - other.top) / other.height);
            let (width, height) = (self.width / other.width, self.height / other.height);
            let (width, height) = (width.min(1.0), height.min(1.0));
            Self { left: left.clamp(0.0, 1.0 - width), top: top.clamp(0.0, 1.0 - height), width, height }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn what_is_under_the_pointer_stays_there(
            times in 1.0..20.0f64, x in 0.0..1.0f64, y in 0.0..1.0f64, factor in 0.2..5.0f64, at in (0.0..1.0f64, 0.0..1.0f64)
        ) {
            let before = Zoom::new(times, x, y);
            let after = before.by(factor, at);
            let place = |zoom: Zoom| {
                let part = zoom.part();
                prop_assert!(part.left >= 0.0 && part.left + part.width <= 1.0 + 1e-9, "{part:?}");
                prop_assert!(part.top >= 0.0 && part.top + part.height <= 1.0 + 1e-9, "{part:?}");
                Ok((part.left + at.0 * part.width, part.top + at.1 * part.height))
            };
            let (from, to) = (place(before)?, place(after)?);
            // Larger never meets an edge of the picture.
            if factor >= 1.0 && !after.is_whole() {
                prop_assert!((from.0 - to.0).abs() < 2e-3 && (from.1 - to.1).abs() < 2e-3, "{from:?} {to:?}");
            }
            prop_assert!(after.times() >= 1.0 && after.times() <= MOST_TIMES);
        }

        #[test]
        fn the_part_in_pixels_lies_in_the_picture(
            times in 1.0..32.0f64, x in 0.0..1.0f64, y in 0.0..1.0f64, size in (2usize..4000, 2usize..3000)
        ) {
            let (left, top, width, height) = Zoom::new(times, x, y).part().pixels(size);
            prop_assert!(left % 2 == 0 && top % 2 == 0 && width >= 2 && height >= 2);
            prop_assert!(left + width <= size.0 && top + height <= size.1, "{left} {width} of {size:?}");
        }
    }

    #[test]
    fn a_part_is_found_in_a_larger_one_and_in_no_smaller() {
        let (large, small) = (Zoom::new(2.0, 0.3, 0.3).part(), Zoom::new(4.0, 0.3, 0.3).part());
        let inside = small.within(large).unwrap();
        assert!((inside.width - 0.5).abs() < 1e-6 && (inside.left - 0.25).abs() < 1e-4, "{inside:?}");
        assert_eq!(large.within(small), None);
        assert_eq!(Zoom::new(f64::NAN, 0.0, 0.0), Zoom::WHOLE);
        assert!(Zoom::new(2.0, 0.9, 0.9).by(0.1, (0.5, 0.5)).is_whole());
        let moved = Zoom::new(4.0, 0.5, 0.5).moved(0.5, 9.0);
        assert_eq!((moved.part().left, moved.part().top), (0.5, 0.75), "no further than the edge");
    }
}
