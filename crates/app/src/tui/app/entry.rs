//! A camera of the site with what is known of it now.

use crate::tui::app::App;
use lattice_core::clock::Told;
use lattice_core::find::Exposure;
use lattice_core::meter::Figures;
use lattice_core::{ClockOffset, Role};
use lattice_engine::FeedKey;
use lattice_store::Camera;
use std::collections::HashMap;

/// A camera of the site with what is known of it now.
#[derive(Debug, Clone, Copy)]
pub struct Entry<'a> {
    /// The camera.
    pub camera: &'a Camera,
    /// The stream of it that is open, with its figures.
    pub open: Option<(Role, &'a Figures)>,
    /// What its device told of its clock.
    pub clock: Option<Told>,
    /// Why its device lies open, if it is known to.
    pub exposed: Option<Exposure>,
    /// When something was last received from it, seconds UTC; never as far as is known for `None`.
    pub seen: Option<i64>,
}

impl Entry<'_> {
    /// What its device told of its clock, or what its reports show where that is beyond what a path explains.
    pub fn clock_off(&self) -> Option<ClockOffset> {
        self.clock.map(|told| told.offset)
    }
}

impl App {
    /// For each camera by its name, the stream that tells how it is.
    pub fn telling_by_name(&self) -> HashMap<&str, FeedKey> {
        self.cameras.iter().filter_map(|(id, def)| Some((def.name.as_str(), self.telling(id)?))).collect()
    }

    /// A camera of the site with what is known of it now.
    pub fn entry<'a>(&'a self, telling: &HashMap<&str, FeedKey>, camera: &'a Camera) -> Entry<'a> {
        let key = telling.get(camera.name.as_str());
        let open = key.and_then(|key| Some((key.role, self.figures.get(key)?.as_ref())));
        Entry {
            camera,
            open,
            clock: self.known.clocks.get(&camera.name).copied(),
            exposed: self.known.exposed.get(&camera.name).copied(),
            seen: self.known.seen.get(&camera.name).copied(),
        }
    }
}
