//! What a screen wants of the engine. Several screens can ask at once: the planner sees the tiles of all.

use crate::camera::{CameraId, FeedKey};
use lattice_core::Role;
use lattice_core::playout::Playout;
use lattice_core::view::View;
use lattice_media::{Print, Wanted};

/// A screen that looks at the engine.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ViewerId(pub u32);

/// The print that a place of a screen is shown: all places that show the whole picture share one.
#[must_use]
pub const fn print_of(viewer: ViewerId, place: usize, view: &View) -> u64 {
    if view.is_whole() { Print::WHOLE } else { ((viewer.0 as u64 + 1) << 32) | (place as u64 + 1) }
}

/// A camera that is to stand in a place of a screen.
#[derive(Debug, Clone, PartialEq)]
pub struct Ask {
    /// The place.
    pub place: usize,
    /// The camera.
    pub camera: CameraId,
    /// Pixels that its tile can show.
    pub pixels: u32,
    /// All that the camera has is wanted, whatever the tile can show: it is enlarged.
    pub all: bool,
    /// What it counts against the others; 1 for a tile like others.
    pub weight: f64,
    /// The stream that the operator holds it on.
    pub hold: Option<Role>,
}

/// A stream that is on a screen.
#[derive(Debug, Clone, PartialEq)]
pub struct Shown {
    /// Which.
    pub key: FeedKey,
    /// The place of the screen, where it shows another part of the picture than others may.
    pub place: usize,
    /// What its tile can show of it.
    pub wanted: Wanted,
    /// What it shows of it.
    pub view: View,
    /// When its units go on to its decoder; `None` leaves it to the site.
    pub playout: Option<Playout>,
}

/// All that one screen wants.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Demand {
    /// What stands in its tiles; which stream that is the planner decides.
    pub asks: Vec<Ask>,
    /// Streams that are to be open, besides those of the tiles.
    pub open: Vec<FeedKey>,
    /// Streams that are to be decoded, at these sizes.
    pub shown: Vec<Shown>,
    /// The screen of the site that this is, and what it shows in words: other screens are told.
    pub screen: Option<(String, String)>,
}
