//! What of a picture each tile shows: all of it, a part that is drawn larger, or a view into a picture of all around.

use crate::tui::app::regions::{TileRegion, regions};
use crate::tui::app::{App, Dragged};
use crate::tui::theme::Tone;
use lattice_core::lattice::{Around, Lattice, Placed};
use lattice_core::layout::Layout;
use lattice_core::lens::{Gaze, Lens};
use lattice_core::view::{STEP, View, Zoom};
use lattice_engine::FeedKey;
use lattice_media::TilePicture;
use ratatui::layout::{Position, Rect};
use std::sync::Arc;

/// Where a picture lies in an area: with its own aspect, on its plate, which stands below.
pub fn lies_in(area: Rect, source: (usize, usize), cell_aspect: f64) -> Rect {
    let aspect = source.0.max(1) as f64 / source.1.max(1) as f64 / cell_aspect.max(0.1);
    let (w, h) = (f64::from(area.width), f64::from(area.height));
    let (w, h) = if w / h.max(1.0) > aspect { (h * aspect, h) } else { (w, w / aspect) };
    let (w, h) = ((w.round() as u16).min(area.width), (h.round() as u16).min(area.height));
    Rect { x: area.x + (area.width - w) / 2, y: area.y + (area.height - h), width: w, height: h }
}

/// The place of a cell in an area, as shares of its sides.
fn share(area: Rect, at: Position) -> (f64, f64) {
    let share =
        |at: u16, from: u16, side: u16| ((f64::from(at) + 0.5 - f64::from(from)) / f64::from(side.max(1))).clamp(0.0, 1.0);
    (share(at.x, area.x, area.width), share(at.y, area.y, area.height))
}

impl App {
    /// The lens of the camera in a place, where it sees all around.
    pub fn lens(&self, place: usize) -> Option<Lens> {
        self.site.camera(self.name(self.tile_at(place)?))?.lens
    }

    /// What the tile at a place shows of its picture.
    pub fn view(&self, place: usize) -> View {
        let own = self.tile_at(place).map(|tile| self.name(tile));
        // A camera in trouble that took the place is seen whole.
        let Some(placed) = self.placed(place).filter(|placed| own == Some(placed.camera.as_str())) else { return View::WHOLE };
        // A site may have thousands of cameras: the lens is looked up where there is a view by it.
        match placed.around.map(|around| (around, self.lens(place))) {
            Some((Around::Window(gaze), Some(lens))) => View::Window(lens, gaze),
            Some((Around::Strip(gaze), Some(lens))) => View::Strip(lens, gaze),
            _ => View::Flat(placed.zoom),
        }
    }

    /// The newest picture that a place can be shown of this stream, and the part of it that is to be drawn where it shows more.
    pub fn picture_of(&self, key: FeedKey, place: usize, view: &View) -> Option<(&Arc<TilePicture>, Option<[u16; 4]>)> {
        let newest = self.pictures.get(&key);
        if view.is_whole() {
            return newest.map(|picture| (picture, None));
        }
        let own = self.views.get(&(key, place));
        if let Some(picture) = own.filter(|picture| picture.view == *view) {
            return Some((picture, None));
        }
        let cut = |picture: &TilePicture| match (view, &picture.view) {
            (View::Flat(wanted), View::Flat(shown)) => {
                let part = wanted.part().within(shown.part())?;
                let side = |share: f64, side: usize| (share * side as f64).round() as u16;
                let (width, height) = (picture.width, picture.height);
                let size = (side(part.width, width).max(1), side(part.height, height).max(1));
                Some([side(part.left, width), side(part.top, height), size.0, size.1])
            }
            _ => None,
        };
        let cuts = [own, newest].into_iter().flatten().find_map(|picture| Some((picture, Some(cut(picture)?))));
        cuts.or_else(|| own.or(newest).map(|picture| (picture, None)))
    }

    /// Pixels of the source for each one that a place really shows, across; `None` before its first picture.
    pub fn source_pixels_a_shown_one(&self, place: usize) -> Option<f64> {
        let view = self.view(place);
        let key = self.tile_at(place)?.key();
        let (picture, cut) = self.picture_of(key, place, &view)?;
        let shown = self.painting.painted.get(place).copied().flatten()?.on_screen.0.max(1) as f64;
        let source = f64::from(self.figures.get(&key)?.size?.0);
        match (view, picture.view) {
            (View::Flat(zoom), View::Flat(_)) if cut.is_none() => Some(source / zoom.times() / shown),
            (View::Window(_, gaze), View::Window(..)) => Some(source * gaze.in_degrees()[3] / 360.0 / shown),
            _ => None,
        }
    }

    /// Where the picture of a tile lies on the screen.
    pub fn lies(&self, region: &TileRegion) -> Rect {
        let view = self.view(region.tile);
        let fills = self.placed(region.tile).is_some_and(|placed| placed.aspect != lattice_core::lattice::Aspect::Fit);
        let key = self.tile_at(region.tile).map(lattice_engine::Seat::key);
        match key.and_then(|key| self.pictures.get(&key)) {
            Some(picture) if !fills && matches!(view, View::Flat(_)) => lies_in(region.picture, picture.source, self.cell_aspect),
            _ => region.picture,
        }
    }

    /// The tile whose picture is at this cell, and where in the picture that is.
    fn picture_at(&self, at: Position) -> Option<(usize, (f64, f64))> {
        let region = regions(self).tiles.into_iter().find(|region| region.picture.contains(at))?;
        self.tile_at(region.tile)?;
        Some((region.tile, share(self.lies(&region), at)))
    }

    /// Changes what a place shows of its picture.
    fn change_view(&mut self, place: usize, change: impl FnOnce(&mut Placed, Option<Lens>)) {
        let lens = self.lens(place);
        let tile = self.tile_number(place);
        self.lattices.look(|lattice| lattice.at_mut(tile).map(|placed| change(placed, lens)));
    }

    /// Draws what is at a place of the selected picture larger (or smaller, by a negative count of steps).
    pub fn zoom(&mut self, steps: i32) {
        match self.selected_tile() {
            Some(_) => self.zoom_at(self.selected, steps, (0.5, 0.5)),
            None => self.say(Tone::Text, "this tile is empty: there is nothing to draw larger".into()),
        }
    }

    fn zoom_at(&mut self, place: usize, steps: i32, at: (f64, f64)) {
        let factor = STEP.powi(steps);
        self.change_view(place, |placed, lens| match &mut placed.around {
            Some(Around::Window(gaze)) if lens.is_some() => *gaze = gaze.wider(1.0 / factor),
            Some(Around::Strip(_)) if lens.is_some() => {}
            _ => placed.zoom = placed.zoom.by(factor, at),
        });
    }

    /// The wheel over a picture; false where there is none.
    pub fn wheel_over(&mut self, by: i32, at: Position) -> bool {
        let Some((place, at)) = self.picture_at(at) else { return false };
        self.zoom_at(place, -by, at);
        true
    }

    /// Moves what the selected tile shows to the right and down, in tenths of what is seen; false where it shows all.
    pub fn move_view(&mut self, right: f64, down: f64) -> bool {
        let place = self.selected;
        if self.view(place).is_whole() {
            return false;
        }
        self.shift_view(place, right / 10.0, down / 10.0);
        true
    }

    fn shift_view(&mut self, place: usize, right: f64, down: f64) {
        self.change_view(place, |placed, lens| match &mut placed.around {
            Some(Around::Window(gaze)) if lens.is_some() => {
                let across = gaze.in_degrees()[3];
                *gaze = gaze.turned(right * across, -down * across * 0.6);
            }
            Some(Around::Strip(gaze)) if lens.is_some() => *gaze = gaze.turned(right * 360.0, -down * 60.0),
            _ => placed.zoom = placed.zoom.moved(right, down),
        });
    }

    /// The selected tile shows its whole picture again; a view of all around looks where it looks first.
    pub fn whole_view(&mut self) {
        let place = self.selected;
        if self.view(place).is_whole() {
            return self.say(Tone::Text, "this tile shows the whole picture already".into());
        }
        self.change_view(place, |placed, lens| match (&mut placed.around, lens) {
            (Some(Around::Window(gaze) | Around::Strip(gaze)), Some(lens)) => *gaze = lens.first_look(),
            _ => placed.zoom = Zoom::WHOLE,
        });
    }

    /// The next way to see a camera of all around: a straight view, a strip, the picture as it comes.
    pub fn next_view(&mut self) {
        let place = self.selected;
        let Some(lens) = self.lens_or_say(place) else { return };
        self.change_view(place, |placed, _| {
            placed.around = match placed.around {
                None => Some(Around::Window(lens.first_look())),
                Some(Around::Window(gaze)) => Some(Around::Strip(gaze)),
                Some(Around::Strip(_)) => None,
            };
        });
        let told = match self.view(place) {
            View::Window(..) => "a straight view: shift and the arrows turn it, I and O narrow and widen it",
            View::Strip(..) => "all around as a strip: shift and the arrows turn it",
            View::Flat(_) => "the picture as it comes, with the views of this page drawn in it",
        };
        self.say(Tone::Text, told.into());
    }

    /// The lens of the camera in a place; says what to do where none is known.
    fn lens_or_say(&mut self, place: usize) -> Option<Lens> {
        let lens = self.lens(place);
        if lens.is_none() {
            let name = self.tile_at(place).map_or("this tile", |tile| self.name(tile)).to_owned();
            self.say(Tone::Text, format!("{name} is not known to see all around: ; tells what its lens is"));
        }
        lens
    }

    /// A lattice of one camera that sees all around: its picture, a strip, and four views that share its stream.
    pub fn views_of_one(&mut self) {
        let Some(lens) = self.lens_or_say(self.selected) else { return };
        let Some(name) = self.selected_tile().map(|tile| self.name(tile).to_owned()) else { return };
        let [pan, tilt, ..] = lens.first_look().in_degrees();
        let window = |turn: f64| Around::Window(Gaze::degrees(pan + turn, tilt, 0.0, 90.0));
        let strip = Around::Strip(Gaze::degrees(pan, tilt / 2.0, 0.0, 90.0));
        let views = [None, Some(strip), Some(window(0.0)), Some(window(90.0)), Some(window(180.0)), Some(window(-90.0))];
        let tiles = views.map(|around| Some(Placed { around, ..Placed::new(name.as_str()) }));
        let called = self.lattices.free_name(&format!("{name}, all around"));
        let lattice = Lattice::new(called, Layout::even(tiles.len())).with_tiles(tiles.into());
        self.lattices.add(lattice);
        (self.enlarged, self.selected, self.lifted) = (false, 0, None);
        self.say(Tone::Text, "one stream in six tiles, decoded once: w keeps this lattice".into());
    }

    /// Where the views of this page into a camera's picture begin and end in it: the edges of each, as shares of the picture's
    /// sides, with the number of its tile.
    pub fn views_into(&self, place: usize) -> Vec<(usize, Vec<(f64, f64)>)> {
        const SIDE: usize = 16;
        let is_view = |tile: &lattice_engine::Seat| self.placed(tile.place).is_some_and(|placed| placed.around.is_some());
        if !self.tiles.iter().any(is_view) {
            return Vec::new();
        }
        let (Some(lens), Some(camera)) = (self.lens(place), self.tile_at(place).map(|tile| tile.camera)) else {
            return Vec::new();
        };
        let size = (1600, 900);
        let source = self.tile_at(place).and_then(|tile| self.figures.get(&tile.key())?.size);
        let source = source.map_or(size, |(width, height)| (width as usize, height as usize));
        let outline = |gaze: Gaze| {
            let room = (size.0 as f64, size.1 as f64);
            let edge = (0..4 * SIDE).map(move |n| {
                let along = (n % SIDE) as f64 / SIDE as f64;
                match n / SIDE {
                    0 => (along, 0.0),
                    1 => (1.0, along),
                    2 => (1.0 - along, 1.0),
                    _ => (0.0, 1.0 - along),
                }
            });
            let rays = gaze.rays(room);
            let places = edge.filter_map(move |(x, y)| lens.place(rays((x * room.0, y * room.1)), source));
            places.map(|(x, y)| (x / source.0 as f64, y / source.1 as f64)).collect()
        };
        let others = self.tiles.iter().filter(|tile| tile.camera == camera && tile.place != place);
        let windows = others.filter_map(|tile| match self.view(tile.place) {
            View::Window(_, gaze) => Some((tile.place + 1, outline(gaze))),
            _ => None,
        });
        windows.collect()
    }

    /// The mouse takes hold of a picture of which a part is shown.
    pub fn take_view(&mut self, at: Position) {
        if let Some((place, _)) = self.picture_at(at).filter(|(place, _)| !self.view(*place).is_whole()) {
            self.dragged = Some(Dragged::View(place, at));
        }
    }

    /// The mouse moves what it took hold of.
    pub fn drag_view(&mut self, to: Position) {
        let Some(Dragged::View(place, from)) = self.dragged else { return };
        let Some(region) = regions(self).tiles.into_iter().find(|region| region.tile == place) else { return };
        let lies = self.lies(&region);
        let ((x0, y0), (x1, y1)) = (share(lies, from), share(lies, to));
        self.dragged = Some(Dragged::View(place, to));
        self.shift_view(place, x0 - x1, y0 - y1);
    }
}
