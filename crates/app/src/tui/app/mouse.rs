//! The mouse on the wall: selecting, dragging cameras from tile to tile and from a list.

use crate::tui::app::regions::regions;
use crate::tui::app::{App, Dragged};
use ratatui::layout::Position;

impl App {
    /// The place of the wall at this cell.
    pub fn place_at(&self, at: Position) -> Option<usize> {
        regions(self).tiles.into_iter().find(|region| region.whole.contains(at)).map(|region| region.tile)
    }

    /// A tile was clicked: it is selected, and can be dragged. Whether it was clicked twice.
    pub fn click_tile(&mut self, at: Position) -> bool {
        let Some(hit) = self.place_at(at) else { return false };
        self.selected = hit;
        self.dragged = self.placed(hit).is_some().then(|| Dragged::Tile(self.tile_number(hit)));
        self.take_view(at);
        self.is_double_click(hit)
    }

    /// What is dragged is let go over the wall.
    pub fn drop_at(&mut self, at: Position) {
        let Some(dragged) = self.dragged.take().filter(|_| self.is_on_wall()) else { return };
        let Some(place) = self.place_at(at) else { return };
        let to = self.tile_number(place);
        match dragged {
            Dragged::Tile(from) if !self.enlarged && from != to => self.exchange(from, to),
            Dragged::Tile(_) | Dragged::View(..) => return,
            Dragged::Camera(name) => {
                self.close_fronts();
                self.put_camera(to, &name);
            }
        }
        self.selected = place;
    }
}
