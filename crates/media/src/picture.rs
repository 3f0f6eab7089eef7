use crate::pixels::Pixels;
use lattice_core::Mono;
use lattice_core::adjust::Adjust;
use lattice_core::video::ColourMatrix;
use lattice_core::view::{Part, View};
use serde::{Deserialize, Serialize};

/// A decoded picture as the codec holds it: 4:2:0 planes, 8 bits, top row first.
#[derive(Debug, Clone, Copy)]
pub struct Planes<'a> {
    /// Width in pixels.
    pub width: usize,
    /// Height in pixels.
    pub height: usize,
    /// Luma, `stride` bytes a row.
    pub y: &'a [u8],
    /// Blue difference, `chroma_stride` bytes a row, half the height.
    pub u: &'a [u8],
    /// Red difference, likewise.
    pub v: &'a [u8],
    /// Bytes from one luma row to the next.
    pub stride: usize,
    /// Bytes from one chroma row to the next.
    pub chroma_stride: usize,
}

impl Planes<'_> {
    /// A part of it, at whole pairs of pixels; all of it where its planes are shorter than they say.
    #[must_use]
    pub fn part(self, part: Part) -> Self {
        let (left, top, width, height) = part.pixels((self.width, self.height));
        let y = self.y.get(top * self.stride + left..);
        let from = top / 2 * self.chroma_stride + left / 2;
        match (y, self.u.get(from..), self.v.get(from..)) {
            (Some(y), Some(u), Some(v)) => Self { width, height, y, u, v, ..self },
            _ => self,
        }
    }
}

/// Whether a picture is what the camera saw.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Condition {
    /// Whole, and so is all it depends on.
    Clean,
    /// Parts were lost, or it depends on a picture of which parts were lost.
    Damaged,
}

/// A picture scaled to a tile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TilePicture {
    /// Number of its access unit.
    pub number: u64,
    /// Width in pixels of the painter's grid.
    pub width: usize,
    /// Height in the same.
    pub height: usize,
    /// Red, green, blue, a byte each, top row first, without padding.
    pub rgb: Pixels,
    /// Size of the decoded picture in pixels.
    pub source: (usize, usize),
    /// Whether it is what the camera saw.
    pub condition: Condition,
    /// When it was ready.
    pub ready: Mono,
    /// What it shows of the decoded picture.
    pub view: View,
    /// What was done to it.
    pub adjust: Adjust,
}

/// How a stream's planes are turned into RGB.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct ColourDescription {
    /// Luma runs from 0 to 255.
    pub full_range: bool,
    /// The matrix.
    pub matrix: ColourMatrix,
}
