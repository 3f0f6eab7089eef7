//! Lattices: a layout, and what stands in each of its tiles.
//!
//! A lattice may hold more than its layout has places for: the rest stands on further pages, each divided alike. Tiles
//! are counted through all pages, from 0. Whatever is done, no camera is lost: what has no place any more comes behind
//! the others.

mod history;

pub use history::History;

use crate::Role;
use crate::layout::{Edge, Layout, LayoutError, MAX_PLACES, Places, Screen};
use crate::lens::Gaze;
use crate::view::Zoom;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// How a picture stands in a tile of another aspect.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
pub enum Aspect {
    /// All of it, with its aspect; what the tile has more stays empty.
    #[default]
    Fit,
    /// All of the tile, with the picture's aspect; what the picture has more is cut off.
    Fill,
    /// All of it in all of the tile; its aspect is lost.
    Stretch,
}

impl Aspect {
    /// Every one.
    pub const ALL: [Self; 3] = [Self::Fit, Self::Fill, Self::Stretch];

    /// Its word in files and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Fit => "fit",
            Self::Fill => "fill",
            Self::Stretch => "stretch",
        }
    }

    /// The one with this word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|aspect| aspect.word() == word)
    }

    /// The next one, round and round.
    #[must_use]
    pub const fn next(self) -> Self {
        match self {
            Self::Fit => Self::Fill,
            Self::Fill => Self::Stretch,
            Self::Stretch => Self::Fit,
        }
    }
}

/// A view into a picture of all around.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Around {
    /// Straight, there.
    Window(Gaze),
    /// A strip of all around, with this in its middle.
    Strip(Gaze),
}

/// A camera in a tile.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Placed {
    /// The camera's name.
    pub camera: String,
    /// How its picture stands in the tile.
    pub aspect: Aspect,
    /// The stream that the operator holds it on; the planner chooses for `None`.
    pub hold: Option<Role>,
    /// Marked by the operator, to be remembered.
    pub marked: bool,
    /// What of its picture is seen.
    pub zoom: Zoom,
    /// The view into the picture of a camera that sees all around; the picture as it comes for `None`.
    pub around: Option<Around>,
}

impl Placed {
    /// A camera as it comes into a tile.
    #[must_use]
    pub fn new(camera: impl Into<String>) -> Self {
        Self { camera: camera.into(), ..Self::default() }
    }
}

/// A layout plus what stands in each tile.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lattice {
    /// Its name.
    pub name: String,
    layout: Layout,
    /// Through all pages; the last is not empty.
    tiles: Vec<Option<Placed>>,
}

impl Lattice {
    /// A lattice without a camera.
    #[must_use]
    pub fn new(name: impl Into<String>, layout: Layout) -> Self {
        Self { name: name.into(), layout, tiles: Vec::new() }
    }

    /// An even grid of these cameras, all on one page as long as a layout has so many places.
    #[must_use]
    pub fn even(name: impl Into<String>, cameras: impl IntoIterator<Item = String>) -> Self {
        let tiles: Vec<Option<Placed>> = cameras.into_iter().map(|camera| Some(Placed::new(camera))).collect();
        Self { name: name.into(), layout: Layout::even(tiles.len()), tiles }
    }

    /// A lattice with these tiles.
    #[must_use]
    pub fn with_tiles(mut self, tiles: Vec<Option<Placed>>) -> Self {
        self.tiles = tiles;
        self.trim();
        self
    }

    /// The same with another name.
    #[must_use]
    pub fn called(&self, name: impl Into<String>) -> Self {
        Self { name: name.into(), ..self.clone() }
    }

    /// Its layout.
    #[must_use]
    pub const fn layout(&self) -> &Layout {
        &self.layout
    }

    /// Its tiles through all pages; none behind the last camera.
    #[must_use]
    pub fn tiles(&self) -> &[Option<Placed>] {
        &self.tiles
    }

    /// Places of a page.
    #[must_use]
    pub fn places(&self) -> usize {
        self.layout.count().max(1)
    }

    /// How many pages it has, 1 at least.
    #[must_use]
    pub fn pages(&self) -> usize {
        self.tiles.len().div_ceil(self.places()).max(1)
    }

    /// What stands in a tile.
    #[must_use]
    pub fn at(&self, tile: usize) -> Option<&Placed> {
        self.tiles.get(tile)?.as_ref()
    }

    /// The tiles of a page that are not empty.
    pub fn page(&self, page: usize) -> impl Iterator<Item = (usize, &Placed)> {
        let first = page * self.places();
        (first..first + self.places()).filter_map(|tile| Some((tile, self.at(tile)?)))
    }

    /// The first tile that shows a camera.
    #[must_use]
    pub fn find(&self, camera: &str) -> Option<usize> {
        self.tiles.iter().position(|tile| tile.as_ref().is_some_and(|placed| placed.camera == camera))
    }

    /// Its cameras, each once, in their order.
    #[must_use]
    pub fn cameras(&self) -> Vec<&str> {
        let mut seen = BTreeSet::new();
        self.tiles.iter().flatten().map(|placed| placed.camera.as_str()).filter(|camera| seen.insert(*camera)).collect()
    }

    /// What stands in a tile, to be changed.
    pub fn at_mut(&mut self, tile: usize) -> Option<&mut Placed> {
        self.tiles.get_mut(tile)?.as_mut()
    }

    /// Puts a camera into a tile, in the way of the one that stood there; gives what stood there.
    pub fn put(&mut self, tile: usize, placed: Placed) -> Option<Placed> {
        self.reach(tile);
        let before = self.tiles.get_mut(tile).and_then(|own| own.replace(placed));
        self.trim();
        before
    }

    /// Empties a tile; gives what stood there.
    pub fn clear(&mut self, tile: usize) -> Option<Placed> {
        let before = self.tiles.get_mut(tile).and_then(Option::take);
        self.trim();
        before
    }

    /// Two tiles change what stands in them; with an empty one, the other moves there.
    pub fn swap(&mut self, one: usize, other: usize) {
        self.reach(one.max(other));
        self.tiles.swap(one, other);
        self.trim();
    }

    /// Puts cameras that are not in it yet into its empty tiles from `first` on, on further pages where there is none
    /// left; gives how many.
    pub fn fill<'a>(&mut self, first: usize, cameras: impl IntoIterator<Item = &'a str>) -> usize {
        let mut tile = first;
        let mut count = 0;
        for camera in cameras {
            if self.find(camera).is_some() {
                continue;
            }
            while self.at(tile).is_some() {
                tile += 1;
            }
            self.put(tile, Placed::new(camera));
            count += 1;
        }
        count
    }

    /// The first empty tile of a page, if there is one.
    #[must_use]
    pub fn empty_on(&self, page: usize) -> Option<usize> {
        let first = page * self.places();
        (first..first + self.places()).find(|tile| self.at(*tile).is_none())
    }

    /// Takes another layout; cameras keep their order, and close up where the new one has fewer places.
    pub fn set_layout(&mut self, layout: Layout) {
        let fewer = layout.count() < self.places();
        self.layout = layout;
        if fewer && self.pages() > 1 {
            self.tiles.retain(Option::is_some);
        }
    }

    /// Takes a camera out of all its tiles.
    pub fn forget(&mut self, camera: &str) {
        for tile in self.tiles.iter_mut().filter(|tile| tile.as_ref().is_some_and(|placed| placed.camera == camera)) {
            *tile = None;
        }
        self.trim();
    }

    /// A camera has another name now.
    pub fn rename_camera(&mut self, from: &str, to: &str) {
        for placed in self.tiles.iter_mut().flatten().filter(|placed| placed.camera == from) {
            to.clone_into(&mut placed.camera);
        }
    }

    /// Splits a place of the layout in two; the new one comes behind the others of each page, and is empty.
    ///
    /// # Errors
    /// [`LayoutError`] for a place that cannot be divided, or a layout that is not one of 12 × 12 units.
    pub fn split(&mut self, place: usize, side_by_side: bool, screen: &Screen) -> Result<(), LayoutError> {
        let split = self.layout.by_hand(screen)?.split(place, side_by_side)?;
        self.repage(split, &BTreeSet::new());
        Ok(())
    }

    /// Joins places of the layout that make one rectangle. The first keeps its camera; the others' come into empty
    /// tiles, or behind all.
    ///
    /// # Errors
    /// [`LayoutError`].
    pub fn join(&mut self, places: &BTreeSet<usize>, screen: &Screen) -> Result<(), LayoutError> {
        let joined = self.layout.by_hand(screen)?.join(places)?;
        self.repage(joined, &places.iter().copied().skip(1).collect());
        Ok(())
    }

    /// Moves a border of a place.
    ///
    /// # Errors
    /// [`LayoutError`].
    pub fn drag(&mut self, place: usize, edge: Edge, by: i8, screen: &Screen) -> Result<(), LayoutError> {
        self.layout = Layout::Hand(self.layout.by_hand(screen)?.drag(place, edge, by)?);
        Ok(())
    }

    /// Another layout by hand, without some places of before: every other keeps what stands in it.
    fn repage(&mut self, layout: Places, without: &BTreeSet<usize>) {
        let (before, pages) = (self.places(), self.pages());
        self.layout = Layout::Hand(layout);
        let mut homeless = Vec::new();
        let mut tiles = Vec::new();
        for page in 0..pages {
            let mut own: Vec<Option<Placed>> = Vec::new();
            for place in 0..before {
                let placed = self.tiles.get_mut(page * before + place).and_then(Option::take);
                if without.contains(&place) {
                    homeless.extend(placed);
                } else {
                    own.push(placed);
                }
            }
            own.resize(self.layout.count(), None);
            tiles.extend(own);
        }
        for placed in homeless {
            match tiles.iter_mut().find(|tile| tile.is_none()) {
                Some(empty) => *empty = Some(placed),
                None => tiles.push(Some(placed)),
            }
        }
        self.tiles = tiles;
        self.trim();
    }

    fn reach(&mut self, tile: usize) {
        if self.tiles.len() <= tile {
            self.tiles.resize(tile + 1, None);
        }
    }

    fn trim(&mut self) {
        while self.tiles.last().is_some_and(Option::is_none) {
            self.tiles.pop();
        }
    }
}

impl Layout {
    /// The layout on 12 × 12 units, to be changed by hand: even grids stand as they do on this screen, their last place
    /// covering what they leave empty.
    ///
    /// # Errors
    /// [`LayoutError`] for an even grid that is too fine for it.
    pub fn by_hand(&self, screen: &Screen) -> Result<Places, LayoutError> {
        match self {
            Self::Hand(places) => Ok(places.clone()),
            Self::Preset(preset) => preset.by_hand(),
            Self::Even(count) => {
                let (columns, rows) = self.even_grid_on(screen).unwrap_or((*count, 1));
                Places::even((*count).min(MAX_PLACES), columns, rows)
            }
        }
    }
}

#[cfg(test)]
mod tests;
