//! What is watched in a picture: areas and lines, drawn by a person.

use serde::{Deserialize, Serialize};
use std::fmt;

/// A place in the picture: shares of its width and height, from its upper left corner.
pub type Place = (f64, f64);

/// Most corners of an area, or bends of a line.
pub const MOST_CORNERS: usize = 16;
/// Most shapes of one camera.
pub const MOST_SHAPES: usize = 8;
/// Longest name of a shape.
pub const LONGEST_NAME: usize = 40;

/// Which way over a line, as seen from its first point towards its last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
pub enum Way {
    /// Both.
    #[default]
    Both,
    /// From its left to its right.
    ToTheRight,
    /// From its right to its left.
    ToTheLeft,
}

impl Way {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Both, Self::ToTheRight, Self::ToTheLeft];

    /// The word in the site file.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Both => "both",
            Self::ToTheRight => "to-the-right",
            Self::ToTheLeft => "to-the-left",
        }
    }

    /// By its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|way| way.word() == word)
    }

    /// Whether a crossing this way counts.
    #[must_use]
    pub fn takes(self, crossed: Self) -> bool {
        self == Self::Both || self == crossed
    }
}

/// An area or a line.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum Outline {
    /// What moves inside of these corners is motion.
    Area(Vec<Place>),
    /// What goes over this line is a crossing.
    Line(Vec<Place>, Way),
}

impl Outline {
    /// Its corners or bends.
    #[must_use]
    pub fn places(&self) -> &[Place] {
        match self {
            Self::Area(places) | Self::Line(places, _) => places,
        }
    }
}

/// One shape that is watched.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Shape {
    /// What people call it.
    pub name: String,
    /// Where it is.
    pub outline: Outline,
    /// What is smaller than this share of the picture's height, both across and down, is not looked at; 0 for all that can be seen.
    pub least: f64,
}

/// Why a shape cannot be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ShapeError {
    /// Too few or too many corners.
    Corners,
    /// A corner outside of the picture.
    Outside,
    /// No length, or no area.
    Nothing,
    /// The least size is no share.
    Least,
    /// No name, or one that is too long.
    Name,
}

impl fmt::Display for ShapeError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Corners => write!(f, "an area has 3 to {MOST_CORNERS} corners, a line 2 to {MOST_CORNERS} points"),
            Self::Outside => f.write_str("places in a picture are shares of its width and height, from 0 to 1"),
            Self::Nothing => f.write_str("it has no extent: put its points farther apart"),
            Self::Least => f.write_str("least is a share of the picture's height, from 0 to 0.5"),
            Self::Name => write!(f, "it needs a name, up to {LONGEST_NAME} characters"),
        }
    }
}

impl std::error::Error for ShapeError {}

impl Shape {
    /// Whether it can be watched.
    ///
    /// # Errors
    ///
    /// Says what is wrong with it.
    pub fn check(&self) -> Result<(), ShapeError> {
        let places = self.outline.places();
        let fewest = if matches!(self.outline, Outline::Area(_)) { 3 } else { 2 };
        if places.len() < fewest || places.len() > MOST_CORNERS {
            return Err(ShapeError::Corners);
        }
        if !places.iter().all(|(x, y)| (0.0..=1.0).contains(x) && (0.0..=1.0).contains(y)) {
            return Err(ShapeError::Outside);
        }
        let extent = match &self.outline {
            Outline::Area(corners) => area(corners),
            Outline::Line(bends, _) => bends.windows(2).map(|pair| distance(pair[0], pair[1])).sum::<f64>() / 20.0,
        };
        if extent < 0.001 {
            return Err(ShapeError::Nothing);
        }
        if !(0.0..=0.5).contains(&self.least) {
            return Err(ShapeError::Least);
        }
        if self.name.trim().is_empty() || self.name.chars().count() > LONGEST_NAME {
            return Err(ShapeError::Name);
        }
        Ok(())
    }
}

fn distance(a: Place, b: Place) -> f64 {
    (a.0 - b.0).hypot(a.1 - b.1)
}

/// The share of the picture that an area covers (the shoelace formula).
#[must_use]
pub fn area(corners: &[Place]) -> f64 {
    let next = corners.iter().cycle().skip(1);
    (corners.iter().zip(next).map(|(a, b)| a.0 * b.1 - b.0 * a.1).sum::<f64>() / 2.0).abs()
}

/// Whether a place lies in an area: an odd number of its sides lies to the right.
#[must_use]
pub fn inside(corners: &[Place], at: Place) -> bool {
    let next = corners.iter().cycle().skip(1);
    let crossed = corners
        .iter()
        .zip(next)
        .filter(|(a, b)| (a.1 > at.1) != (b.1 > at.1) && at.0 < (b.0 - a.0) * (at.1 - a.1) / (b.1 - a.1) + a.0);
    crossed.count() % 2 == 1
}

/// How far a place lies to the right of a straight line from `a` to `b`, in the units of the places; less than 0 to its left. Down is
/// where the second number grows, as in pictures.
#[must_use]
pub fn to_the_right(a: Place, b: Place, at: Place) -> f64 {
    let (dx, dy) = (b.0 - a.0, b.1 - a.1);
    (dx * (at.1 - a.1) - dy * (at.0 - a.0)) / dx.hypot(dy).max(f64::EPSILON)
}

/// Which way a step from one place to another goes over a line; `None` where it does not.
#[must_use]
pub fn crossed(bends: &[Place], from: Place, to: Place) -> Option<Way> {
    bends.windows(2).find_map(|side| {
        let (a, b) = (side[0], side[1]);
        let (before, after) = (to_the_right(a, b, from), to_the_right(a, b, to));
        if (before > 0.0) == (after > 0.0) {
            return None;
        }
        // Where on the side: its ends are on different sides of the step, or on it.
        let (first, last) = (to_the_right(from, to, a), to_the_right(from, to, b));
        if first * last > 0.0 {
            return None;
        }
        Some(if after > 0.0 { Way::ToTheRight } else { Way::ToTheLeft })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_over_a_line_has_a_side_and_one_beside_it_has_none() {
        let line = [(0.5, 0.2), (0.5, 0.8)];
        // From its first point downwards: its left is the right half of the picture.
        assert_eq!(crossed(&line, (0.4, 0.5), (0.6, 0.5)), Some(Way::ToTheLeft));
        assert_eq!(crossed(&line, (0.6, 0.5), (0.4, 0.5)), Some(Way::ToTheRight));
        assert_eq!(crossed(&line, (0.4, 0.1), (0.6, 0.1)), None, "above its end");
        assert_eq!(crossed(&line, (0.4, 0.5), (0.45, 0.9)), None, "on one side of it");
        let bent = [(0.2, 0.5), (0.5, 0.5), (0.5, 0.9)];
        assert_eq!(crossed(&bent, (0.3, 0.4), (0.3, 0.6)), Some(Way::ToTheRight));
        assert_eq!(crossed(&bent, (0.6, 0.7), (0.4, 0.7)), Some(Way::ToTheRight));
        assert_eq!(crossed(&bent, (0.6, 0.4), (0.7, 0.6)), None);
        assert!(Way::Both.takes(Way::ToTheLeft) && !Way::ToTheLeft.takes(Way::ToTheRight));
    }

    #[test]
    fn an_area_has_an_inside_also_where_it_is_hollow() {
        let hook = [(0.1, 0.1), (0.9, 0.1), (0.9, 0.9), (0.7, 0.9), (0.7, 0.3), (0.1, 0.3)];
        for (at, is) in [((0.2, 0.2), true), ((0.8, 0.8), true), ((0.5, 0.6), false), ((0.95, 0.5), false), ((0.0, 0.0), false)] {
            assert_eq!(inside(&hook, at), is, "{at:?}");
        }
        assert!((area(&hook) - (0.8 * 0.2 + 0.2 * 0.6)).abs() < 1e-9);
    }

    #[test]
    fn shapes_that_cannot_be_are_named() {
        let good = Shape { name: "gate".into(), outline: Outline::Line(vec![(0.1, 0.1), (0.2, 0.2)], Way::Both), least: 0.0 };
        assert_eq!(good.check(), Ok(()));
        let with = |outline| Shape { outline, ..good.clone() }.check();
        assert_eq!(with(Outline::Line(vec![(0.1, 0.1)], Way::Both)), Err(ShapeError::Corners));
        assert_eq!(with(Outline::Line(vec![(0.1, 0.1), (0.1, 0.1)], Way::Both)), Err(ShapeError::Nothing));
        assert_eq!(with(Outline::Area(vec![(0.1, 0.1), (0.2, 0.2)])), Err(ShapeError::Corners));
        assert_eq!(with(Outline::Area(vec![(0.1, 0.1), (0.2, 0.2), (0.3, 0.3)])), Err(ShapeError::Nothing));
        assert_eq!(with(Outline::Area(vec![(0.1, 0.1), (f64::NAN, 0.2), (0.3, 0.1)])), Err(ShapeError::Outside));
        assert_eq!(Shape { name: " ".into(), ..good.clone() }.check(), Err(ShapeError::Name));
        assert_eq!(Shape { least: 0.9, ..good }.check(), Err(ShapeError::Least));
    }
}
