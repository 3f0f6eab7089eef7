//! The mouse on the wall: selecting, dragging cameras from tile to tile and from a list, dragging borders.

use super::{App, Effect, Overlay};
use crate::app::picker::Pick;
use crate::app::{BenchStep, EditStep, LedgerStep, StreamStep};
use crate::desk::Page;
use crate::keymap::{Action, Context, DeskStep, WallStep};
use crate::theme::Tone;
use crate::view::{desk_list, pick_row_at, regions};
use lattice_core::layout::{Edge, UNITS};
use lattice_engine::Command;
use ratatui::crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};
use std::time::Duration;

/// Two clicks within this time are one double click.
const DOUBLE_CLICK: Duration = Duration::from_millis(400);

/// What the mouse took hold of.
#[derive(Debug, Clone, PartialEq)]
pub enum Dragged {
    /// A tile, by its number through all pages.
    Tile(usize),
    /// A camera out of a list.
    Camera(String),
    /// A border: the place before it, its edge, and where it was taken.
    Border(usize, Edge, Position),
}

impl App {
    /// The mouse did something.
    pub fn on_mouse(&mut self, event: MouseEvent) -> Vec<Effect> {
        let effects = self.mouse(event);
        self.with_orders(effects)
    }

    fn mouse(&mut self, event: MouseEvent) -> Vec<Effect> {
        let at = Position::new(event.column, event.row);
        if !matches!(event.kind, MouseEventKind::Moved) {
            self.works();
        }
        match event.kind {
            MouseEventKind::Up(MouseButton::Left) => return self.drop_at(at),
            MouseEventKind::Drag(MouseButton::Left) => {
                self.drag_off_the_roster();
                return Vec::new();
            }
            _ => {}
        }
        let wheel = match event.kind {
            MouseEventKind::ScrollDown => 1,
            MouseEventKind::ScrollUp => -1,
            MouseEventKind::Down(MouseButton::Left) => 0,
            _ => return Vec::new(),
        };
        match (self.context(), wheel) {
            (Context::Help, 1 | -1) => self.act(Action::Scroll(3 * wheel)),
            (Context::Roster | Context::Find | Context::Check | Context::Device | Context::Listen, 1 | -1) => {
                self.act(Action::Desk(DeskStep::Row(wheel)))
            }
            (Context::Roster | Context::Find | Context::Check | Context::Device | Context::Listen, _) => self.click_list(at),
            (Context::Bench, 0) => {
                let panes = crate::view::panes(self, regions(self).body);
                let clicked = panes.iter().position(|(_, picture, below)| picture.contains(at) || below.contains(at));
                self.bench.selected = clicked.unwrap_or(self.bench.selected);
                Vec::new()
            }
            (Context::Ledger, 1 | -1) => self.act(Action::Ledger(LedgerStep::Row(wheel))),
            (Context::Ledger, _) => self.click_list(at),
            (Context::Stream, 1 | -1) => self.act(Action::Stream(StreamStep::Cursor(2 * wheel))),
            (Context::Bench, _) => self.act(Action::Bench(BenchStep::Charts(wheel))),
            (Context::Wall | Context::Edit, 0) => self.click_tile(at),
            (Context::Pick, 0) => self.click_pick(at),
            (Context::Pick, _) => {
                self.pick_row(wheel);
                Vec::new()
            }
            (Context::Layouts, 0) => self.click_layout(at),
            (Context::Wall, _) => self.act(Action::Wall(WallStep::Page(wheel))),
            _ => Vec::new(),
        }
    }

    /// Whether a click on this tile or row follows one that was just made.
    fn is_double_click(&mut self, on: usize) -> bool {
        let double = self.clicked.is_some_and(|(last, when)| last == on && self.now.since(when) < DOUBLE_CLICK);
        self.clicked = if double { None } else { Some((on, self.now)) };
        double
    }

    /// A row is selected by a click, a double click does what is meant for it; a column's title sorts.
    fn click_list(&mut self, at: Position) -> Vec<Effect> {
        let Some(list) = desk_list(self) else { return Vec::new() };
        if let Some(title) = list.title_at(at) {
            self.sort_by_title(title);
            return Vec::new();
        }
        let Some(row) = list.row_at(at) else { return Vec::new() };
        if !self.select_row(row) {
            return Vec::new();
        }
        if self.page == Page::Roster {
            self.dragged = self.roster_selected().map(|camera| Dragged::Camera(camera.name.clone()));
        }
        match (self.is_double_click(row), self.page) {
            (true, Page::Ledger) => self.act(Action::Ledger(LedgerStep::Show)),
            (true, Page::Roster | Page::Listen) => self.act(Action::Desk(DeskStep::Show)),
            (true, Page::Find) => {
                self.desk.tick();
                Vec::new()
            }
            _ => Vec::new(),
        }
    }

    pub(super) fn click_tile(&mut self, at: Position) -> Vec<Effect> {
        if matches!(self.overlay, Overlay::Edit(_))
            && let Some((place, edge)) = self.border_at(at)
        {
            self.dragged = Some(Dragged::Border(place, edge, at));
            return Vec::new();
        }
        let Some(region) = regions(self).tiles.into_iter().find(|region| region.whole.contains(at)) else {
            return Vec::new();
        };
        let (hit, before) = (region.tile, self.selected);
        self.selected = hit;
        self.dragged = self.placed(hit).is_some().then(|| Dragged::Tile(self.tile_number(hit)));
        if self.enlarged && before != hit {
            self.same_tiles_since = self.now;
            if let Some(camera) = self.selected_tile().map(|tile| tile.camera) {
                self.tell(Command::PlanAnew(camera));
            }
        }
        if self.is_double_click(hit) && self.overlay == Overlay::None {
            return self.act(Action::Enlarge);
        }
        self.seat();
        Vec::new()
    }

    /// The border between two places at this cell, if it is one that can be dragged.
    fn border_at(&self, at: Position) -> Option<(usize, Edge)> {
        let places = regions::places(self);
        let whole = places.iter().fold(Rect::default(), |all, place| if all.is_empty() { *place } else { all.union(*place) });
        let right = |place: &Rect| place.right() < whole.right() && (place.right()..place.right() + 2).contains(&at.x);
        let below = |place: &Rect| place.bottom() < whole.bottom() && place.bottom() == at.y + 1;
        let beside = |place: &Rect| (place.top()..place.bottom()).contains(&at.y);
        let under = |place: &Rect| (place.left()..place.right()).contains(&at.x);
        let upright = places.iter().position(|place| right(place) && beside(place)).map(|place| (place, Edge::Right));
        upright.or_else(|| places.iter().position(|place| below(place) && under(place)).map(|place| (place, Edge::Bottom)))
    }

    /// A camera that is dragged from its row of the roster goes to the wall: the roster makes way.
    pub(super) fn drag_off_the_roster(&mut self) {
        if let (Page::Roster, Some(Dragged::Camera(name))) = (self.page, &self.dragged) {
            let text = format!("{name}: let it go over a tile");
            (self.page, self.enlarged, self.same_tiles_since) = (Page::Wall, false, self.now);
            self.say(Tone::Here, text);
        }
    }

    /// The button was let go.
    pub(super) fn drop_at(&mut self, at: Position) -> Vec<Effect> {
        let Some(dragged) = self.dragged.take() else { return Vec::new() };
        let onto = || regions(self).tiles.into_iter().find(|region| region.whole.contains(at)).map(|region| region.tile);
        match dragged {
            Dragged::Tile(from) if !self.enlarged => {
                if let Some(place) = onto().filter(|place| self.tile_number(*place) != from) {
                    let to = self.tile_number(place);
                    self.exchange(from, to);
                    self.selected = place;
                }
            }
            Dragged::Camera(_) if self.page != Page::Wall => {} // a click, not a drag
            Dragged::Camera(name) if pick_row_at(self, at).is_none() => {
                if let Some(place) = onto() {
                    self.picker = None;
                    let tile = self.tile_number(place);
                    self.put_camera(tile, &name);
                    self.selected = place;
                }
            }
            Dragged::Border(place, edge, from) => {
                let body = regions(self).body;
                let units = |cells: i32, of: u16| {
                    let unit = f64::from(of) / f64::from(UNITS);
                    (f64::from(cells) / unit.max(1.0)).round() as i8
                };
                let by = match edge {
                    Edge::Left | Edge::Right => units(i32::from(at.x) - i32::from(from.x), body.width),
                    Edge::Top | Edge::Bottom => units(i32::from(at.y) - i32::from(from.y), body.height),
                };
                if by != 0 {
                    self.edit_layout(EditStep::Border(place, edge, by));
                }
            }
            Dragged::Tile(_) | Dragged::Camera(_) => {}
        }
        self.seat();
        Vec::new()
    }

    /// A line of the list was clicked: a camera may be dragged from it; a double click takes it.
    pub(super) fn click_pick(&mut self, at: Position) -> Vec<Effect> {
        let Some(row) = pick_row_at(self, at) else { return Vec::new() };
        let line = self.picks().into_iter().nth(row);
        if let Some(picker) = &mut self.picker {
            picker.row = row;
        }
        self.dragged = line.and_then(|line| match line.pick {
            Pick::Put(camera) | Pick::Camera(camera) => Some(Dragged::Camera(camera)),
            _ => None,
        });
        if self.is_double_click(row) { self.act(Action::Take) } else { Vec::new() }
    }

    /// A layout was clicked; a double click takes it.
    pub(super) fn click_layout(&mut self, at: Position) -> Vec<Effect> {
        let Some(index) = crate::view::layout_at(self, at) else { return Vec::new() };
        self.overlay = Overlay::Layouts(index);
        if self.is_double_click(index) { self.act(Action::Take) } else { Vec::new() }
    }
}
