//! The layout is changed by hand: places are split and joined, borders moved.

use crate::tui::app::App;
use crate::tui::app::regions::{places, regions, screen};
use crate::tui::page::{Key, Keyed, Mouse, Page, back, key, leave, moves};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::tile;
use lattice_core::lattice::Lattice;
use lattice_core::layout::{Edge, LayoutError, Screen, UNITS};
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use std::collections::BTreeSet;

/// What was ticked, and what the mouse took hold of.
#[derive(Debug, Default)]
pub struct Edit {
    /// Places that are to be joined.
    ticked: BTreeSet<usize>,
    /// A border: the place before it, its edge, and where it was taken.
    border: Option<(usize, Edge, Position)>,
}

/// Begins to change the layout.
pub fn open(app: &mut App) {
    app.enlarged = false;
    app.put_in_front(Edit::default());
}

impl Keyed for Edit {
    const NAME: &'static str = "Layout by hand";
    const KEYS: &'static [Key<Self>] = &[
        moves("left h", "select the place to the left", |_, app| app.move_selection(-1, 0)),
        moves("right l", "select the place to the right", |_, app| app.move_selection(1, 0)),
        moves("up k", "select the place above", |_, app| app.move_selection(0, -1)),
        moves("down j", "select the place below", |_, app| app.move_selection(0, 1)),
        key("s", "split it side by side", |edit: &mut Self, app| edit.split(app, true)).hint("split"),
        key("S", "split it one above the other", |edit: &mut Self, app| edit.split(app, false)).hint("split across"),
        key("space", "tick it, to be joined", Self::tick).hint("tick"),
        key("enter", "join what is ticked with the selected place", Self::join).hint("join"),
        key("> +", "wider; borders also by mouse", |edit: &mut Self, app| edit.resize(app, (Edge::Right, Edge::Left), 1))
            .hint("wider"),
        key("< -", "narrower", |edit: &mut Self, app| edit.resize(app, (Edge::Right, Edge::Left), -1)).hint("narrower"),
        key("}", "taller", |edit: &mut Self, app| edit.resize(app, (Edge::Bottom, Edge::Top), 1)).hint("taller"),
        key("{", "lower", |edit: &mut Self, app| edit.resize(app, (Edge::Bottom, Edge::Top), -1)).hint("lower"),
        key("u", "undo", |_, app| app.undo_lattice()).hint("undo"),
        key("U ctrl-r", "do again what was undone", |_, app| app.redo_lattice()),
        key("w", "save the lattices", |_, app| app.save_lattices()),
        back("esc V q", "done", Some("done")),
        leave(),
    ];
}

/// The border between two places at this cell, if it is one that can be dragged.
fn border_at(app: &App, at: Position) -> Option<(usize, Edge)> {
    let places = places(app);
    let whole = places.iter().fold(Rect::default(), |all, place| if all.is_empty() { *place } else { all.union(*place) });
    let right = |place: &Rect| place.right() < whole.right() && (place.right()..place.right() + 2).contains(&at.x);
    let below = |place: &Rect| place.bottom() < whole.bottom() && place.bottom() == at.y + 1;
    let beside = |place: &Rect| (place.top()..place.bottom()).contains(&at.y);
    let under = |place: &Rect| (place.left()..place.right()).contains(&at.x);
    let upright = places.iter().position(|place| right(place) && beside(place)).map(|place| (place, Edge::Right));
    upright.or_else(|| places.iter().position(|place| below(place) && under(place)).map(|place| (place, Edge::Bottom)))
}

impl Edit {
    fn tick(&mut self, app: &mut App) {
        if !self.ticked.remove(&app.selected) {
            self.ticked.insert(app.selected);
        }
    }

    /// Changes the shown lattice on this screen; an objection is said. What was ticked has other numbers then.
    fn change(&mut self, app: &mut App, change: impl FnOnce(&mut Lattice, &Screen) -> Result<(), LayoutError>) {
        self.ticked.clear();
        let screen = screen(app);
        if let Err(error) = app.lattices.edit(|lattice| change(lattice, &screen)) {
            app.say(Tone::Alarm, error.to_string());
        }
        app.same_tiles_since = app.now;
    }

    fn split(&mut self, app: &mut App, side_by_side: bool) {
        let place = app.selected;
        self.change(app, |lattice, screen| lattice.split(place, side_by_side, screen));
    }

    /// Moves the border on the far side of the selected place, or on the near side where that is the edge of the screen.
    fn resize(&mut self, app: &mut App, (far, near): (Edge, Edge), by: i8) {
        let place = app.selected;
        self.change(app, |lattice, screen| {
            let first = lattice.drag(place, far, by, screen);
            if first.is_ok() { first } else { lattice.drag(place, near, -by, screen).or(first) }
        });
    }

    fn join(&mut self, app: &mut App) {
        let mut ticked = self.ticked.clone();
        ticked.insert(app.selected);
        self.change(app, |lattice, screen| lattice.join(&ticked, screen));
    }

    /// A border is let go.
    fn drop_border(&mut self, app: &mut App, (place, edge, from): (usize, Edge, Position), at: Position) {
        let body = regions(app).body;
        let units = |cells: i32, of: u16| {
            let unit = f64::from(of) / f64::from(UNITS);
            (f64::from(cells) / unit.max(1.0)).round() as i8
        };
        let by = match edge {
            Edge::Left | Edge::Right => units(i32::from(at.x) - i32::from(from.x), body.width),
            Edge::Top | Edge::Bottom => units(i32::from(at.y) - i32::from(from.y), body.height),
        };
        if by != 0 {
            self.change(app, |lattice, screen| lattice.drag(place, edge, by, screen));
        }
    }
}

impl Page for Edit {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        for region in regions(app).tiles.iter().filter(|region| self.ticked.contains(&region.tile)) {
            tile::sign(theme, Tone::Here, " ■ to be joined ", tile::corner(region), buf);
        }
        Vec::new()
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Press(at) => match border_at(app, at) {
                Some((place, edge)) => self.border = Some((place, edge, at)),
                None => drop(app.click_tile(at)),
            },
            Mouse::Release(at) => match self.border.take() {
                Some(border) => self.drop_border(app, border, at),
                None => app.drop_at(at),
            },
            Mouse::Drag(_) | Mouse::Wheel(..) => {}
        }
    }
}
