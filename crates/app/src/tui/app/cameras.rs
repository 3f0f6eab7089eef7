//! What stands in the tiles of the page that is shown, and what the engine is asked for it.

use crate::tui::app::regions::{picture_of, places};
use crate::tui::app::{App, Tile};
use crate::tui::lattices::ALL;
use crate::tui::page::Slot;
use crate::tui::theme::Tone;
use lattice_core::Role;
use lattice_core::playout::Playout;
use lattice_engine::{Ask, Buffer, CameraId, FeedKey, StreamFacts};
use ratatui::layout::Rect;

/// What an enlarged tile, and the selected one, weigh against the others.
const ENLARGED: f64 = 8.0;
const SELECTED: f64 = 1.5;

impl App {
    /// A camera came: into the first empty tile of the page that is shown.
    pub fn camera_added(&mut self, name: &str) {
        let shown = self.lattices.shown();
        let empty = shown.empty_on(self.lattices.page());
        if shown.name != ALL && shown.find(name).is_none() {
            match empty {
                Some(tile) => self.put_camera(tile, name),
                None => {
                    self.say(Tone::Text, format!("{name} is in the roster; this page has no empty tile: 0 shows all cameras"));
                }
            }
        }
        self.same_tiles_since = self.now;
        self.seat();
    }

    /// The tiles of the page that is shown: as the engine has them, and until it answers with the stream that a camera has
    /// already, or begins with.
    pub fn seat(&mut self) {
        let lattice = self.lattices.shown();
        let (places, page) = (lattice.places(), self.lattices.page());
        let mut tiles = Vec::new();
        for place in 0..places {
            let placed = lattice.at(page * places + place);
            let own = placed.and_then(|placed| self.cameras.id(&placed.camera));
            let Some(camera) = self.guest(place).or(own) else { continue };
            let is = |tile: &&Tile| tile.camera == camera && self.cameras.stream(tile.key()).is_some();
            let engines = self.seats.iter().filter(|seat| seat.place == place).find(is);
            let before = || self.tiles.iter().filter(|tile| tile.place == place).find(is).or_else(|| self.tiles.iter().find(is));
            let tile = engines.or_else(|| self.seats.iter().find(is)).or_else(before).map(|tile| Tile { place, ..*tile });
            let first = || {
                let role = self.first_role(camera)?;
                Some(Tile { place, camera, role, switching: None, short: None, keyframes: false })
            };
            tiles.extend(tile.or_else(first));
        }
        self.selected = self.selected.min(places.saturating_sub(1));
        // Of a camera that stands in several the first tells.
        self.tile_keys = tiles.iter().rev().map(|tile| (tile.camera, tile.key())).collect();
        self.tiles = tiles;
        self.enlarged &= self.selected_tile().is_some();
    }

    /// What the engine is asked for the tiles.
    pub fn asks(&self) -> Vec<Ask> {
        // While one is enlarged the others keep the stream that fits their tile: they return to it.
        let pictures: Vec<Rect> = places(self).iter().map(|place| picture_of(*place)).collect();
        let ask = |tile: &Tile| {
            let selected = tile.place == self.selected;
            // Who enlarges a tile wants all that the camera has.
            let all = self.enlarged && selected;
            let weight = match (all, selected) {
                (true, _) => ENLARGED,
                (false, true) => SELECTED,
                (false, false) => 1.0,
            };
            let pixels = pictures.get(tile.place).map_or(1, |picture| self.pixels_in(tile.place, *picture));
            // A part of the picture that fills the tile needs more of the whole.
            let pixels = (f64::from(pixels) * self.view(tile.place).needs()).min(f64::from(u32::MAX)) as u32;
            Ask { place: tile.place, camera: tile.camera, pixels, all, weight, hold: self.hold(tile.place) }
        };
        self.tiles.iter().map(ask).collect()
    }

    /// Streams that are to be open besides those of the tiles.
    pub fn wanted_open(&self) -> Vec<FeedKey> {
        let mut open = self.streams_ahead();
        let shown = self
            .pages
            .stack
            .iter()
            .filter_map(|slot| if let Slot::Page(number) = slot { self.pages.all.get(*number) } else { None });
        open.extend(shown.flatten().flat_map(|page| page.keeps_open(self)));
        // What is listened to goes on when its tile leaves the screen.
        open.extend(self.hearing.cameras.values().filter_map(|heard| heard.stream));
        open
    }

    /// When units of a stream go on to the decoder, where that is for this screen to say.
    pub fn playout(&self, key: FeedKey) -> Option<Playout> {
        self.page()?.playout(self, key)
    }

    /// The receive buffer of a stream.
    pub fn buffer(&self, key: FeedKey) -> Buffer {
        let figures = self.figures.get(&key).map(std::sync::Arc::as_ref);
        lattice_engine::buffer(&self.site, &self.cameras, &self.buffers, figures, key)
    }

    /// A name for a stream: camera, stream, and transport where it was chosen here.
    pub fn stream_name(&self, key: FeedKey) -> String {
        self.cameras.stream_name(key)
    }

    /// The stream that a camera begins with.
    pub fn first_role(&self, camera: CameraId) -> Option<Role> {
        self.cameras.first_role(camera, |key| self.open.contains(&key))
    }

    /// What is known of a stream.
    pub fn stream_facts(&self, key: FeedKey) -> StreamFacts {
        lattice_engine::stream_facts(&self.facts, key)
    }

    /// Open streams.
    pub fn open_streams(&self) -> impl Iterator<Item = FeedKey> {
        self.open.iter().copied()
    }

    /// The stream of a camera that tells how it is: the one that is shown, else the one that is open.
    pub fn telling(&self, camera: CameraId) -> Option<FeedKey> {
        let shown = self.tile_keys.get(&camera).copied();
        let (first, next) = (FeedKey::new(camera, Role::Main), FeedKey::new(CameraId(camera.0 + 1), Role::Main));
        shown.or_else(|| self.open.range(first..next).next_back().copied())
    }

    /// The stream that the operator holds the tile of a place on.
    pub fn hold(&self, place: usize) -> Option<Role> {
        if self.guest(place).is_some() {
            return None;
        }
        self.placed(place)?.hold
    }

    /// A camera that can be shown, by its name.
    pub fn camera_index(&self, name: &str) -> Option<CameraId> {
        self.cameras.id(name)
    }
}
