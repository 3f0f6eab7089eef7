//! Pictures into terminals. The interface is narrow on purpose: a picture and an area in, drawn or
//! not out, so that other ways of drawing can join.

mod cells;
mod colours;

pub use cells::{CellPainter, is_picture, pixels};
pub use colours::{reduce, rgb_of};

use lattice_core::lattice::Aspect;
use lattice_media::{TilePicture, Wanted};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// How fresh a picture is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Freshness {
    /// It is what the camera sees now.
    Live,
    /// It is the last there was; drawn dim, so that nobody takes it for live.
    Old,
}

/// How a picture is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Look {
    /// How fresh it is.
    pub freshness: Freshness,
    /// How it stands in its area.
    pub aspect: Aspect,
}

/// A way of drawing pictures of one tile.
pub trait Painter {
    /// What this way can show in an area.
    fn wanted(&self, area: Rect, aspect: Aspect) -> Wanted;

    /// Draws a picture into an area; false when nothing could be drawn.
    fn paint(&mut self, picture: &TilePicture, area: Rect, look: Look, buf: &mut Buffer) -> bool;
}
