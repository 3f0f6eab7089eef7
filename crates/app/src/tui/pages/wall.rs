//! The wall: tiles with their pictures, plates and pulses. What it shows is the screen's own state, which every page can ask.

mod choose;
mod edit;
mod faults;
mod layouts;
mod numbers;
mod palette;
mod plan;

pub use edit::Edit;
pub use faults::Faults;
pub use layouts::Layouts;
pub use numbers::Numbers;
pub use plan::Plan;
#[cfg(test)]
pub use {faults::FAULTS, palette::lines as palette_lines};

use crate::tui::app::App;
use crate::tui::app::regions::{TileRegion, regions};
use crate::tui::fronts::{help, sign_in};
use crate::tui::guide::Guide;
use crate::tui::page::{Change, Key, KeyText, Keyed, Mouse, Needs, Page, Share, WALL, Watched, common, elsewhere, key};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::tile;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::{Buffer, Cell};
use ratatui::layout::Rect;
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// With more tiles than this, sixel is too slow for all.
const SIXEL_TILES: usize = 9;

/// The wall.
#[derive(Debug, Default)]
pub struct Wall;

impl Keyed for Wall {
    const NAME: &'static str = WALL;
    const KEYS: &'static [Key<Self>] = &[
        key("left h", "select the tile to the left", |_, app| arrow(app, -1, 0)),
        key("right l", "select the tile to the right", |_, app| arrow(app, 1, 0)),
        key("up k", "select the tile above", |_, app| arrow(app, 0, -1)),
        key("down j", "select the tile below", |_, app| arrow(app, 0, 1)),
        key("tab", "select the next tile, also while one is enlarged", |_, app| app.step_selection(1)),
        key("shift-tab", "select the tile before", |_, app| app.step_selection(-1)),
        key("enter", "enlarge the selected tile, or return; also a double click", |_, app| enlarge(app)).hint("enlarge"),
        key("esc", "return to the wall, first to the whole picture", |_, app| app.back_on_the_wall()),
        key("m", "hold the tile on its other stream; on round to automatic again; a still: live instead", |_, app| {
            app.next_hold();
        })
        .hint("main/sub"),
        key("M", "hold every tile on sub, on main, or on none", |_, app| app.hold_all()),
        key("o", "the plan: each tile's stream with its reason, and the budgets", |_, app| app.put_in_front(Plan::default()))
            .hint("plan"),
        key("/ :", "everything by a few letters: actions, cameras, lattices", |_, app| palette::open(app)).hint("all"),
        elsewhere(),
        key("\"", "listen to the selected camera, or not any more", |_, app| {
            if let Some(name) = app.selected_tile().map(|tile| app.name(tile).to_owned()) {
                app.listen_to(&name);
            }
        }),
        key("v", "choose a layout", |_, app| layouts::open(app)).hint("layout"),
        key("V", "change the layout by hand: split, join, move borders", |_, app| edit::open(app)),
        key("p", "put a camera into the selected tile", |_, app| choose::camera(app)).hint("put"),
        key("n", "the next camera into the selected tile", |_, app| app.next_camera(1)),
        key("N", "the camera before into the selected tile", |_, app| app.next_camera(-1)),
        key("x", "lift the selected tile; on another one: swap the two; also by mouse", |_, app| app.swap()),
        key("del backspace", "empty the selected tile", |_, app| app.clear_tile()),
        key("g", "fill the empty tiles with a group", |_, app| choose::group(app)),
        key("z", "fit, fill or stretch the picture in its tile", |_, app| app.change_aspect()),
        key("I", "zoom in; the wheel does so at the pointer", |_, app| app.zoom(1)),
        key("O", "zoom out", |_, app| app.zoom(-1)),
        key("\\", "the whole picture again", |_, app| app.whole_view()),
        key("shift-left", "zoomed in: look further left; the mouse drags", |_, app| move_view(app, -1.0, 0.0)),
        key("shift-right", "zoomed in: look further right", |_, app| move_view(app, 1.0, 0.0)),
        key("shift-up", "zoomed in: look further up", |_, app| move_view(app, 0.0, -1.0)),
        key("shift-down", "zoomed in: look further down", |_, app| move_view(app, 0.0, 1.0)),
        key("Q", "a camera of all around: a straight view, a strip, the picture as it comes", |_, app| app.next_view()),
        key("R", "a camera of all around: four views, a strip and an overview of one stream", |_, app| app.views_of_one()),
        key("b", "mark the tile to remember it, or not any more", |_, app| app.mark_tile()),
        key("u", "undo the last change of a lattice", |_, app| app.undo_lattice()),
        key("U ctrl-r", "do again what was undone", |_, app| app.redo_lattice()),
        key("]", "the next page", |_, app| app.turn_page(1)),
        key("[", "the page before", |_, app| app.turn_page(-1)),
        key("0", "all cameras", |_, app| app.show_numbered(0)),
        key("1", "the first lattice; 2 to 9: the others", |_, app| app.show_numbered(1)),
        key("2", "", |_, app| app.show_numbered(2)),
        key("3", "", |_, app| app.show_numbered(3)),
        key("4", "", |_, app| app.show_numbered(4)),
        key("5", "", |_, app| app.show_numbered(5)),
        key("6", "", |_, app| app.show_numbered(6)),
        key("7", "", |_, app| app.show_numbered(7)),
        key("8", "", |_, app| app.show_numbered(8)),
        key("9", "", |_, app| app.show_numbered(9)),
        key("!", "all that is in alarm or in trouble, the worst largest; again: back", |_, app| app.toggle_trouble())
            .hint("trouble"),
        key("t", "begin a tour; hold it, let it run on; esc ends it", |_, app| choose::tour(app)),
        key("y", "give back the tiles that cameras in trouble took in a tour", |_, app| app.give_back()),
        key("e", "send the lattice, or the enlarged camera, to another screen", |_, app| choose::screen(app)),
        key("L", "the lattices: choose one", |_, app| choose::lattice(app)),
        key("w", "save the lattices", |_, app| app.save_lattices()),
        key("W", "make another lattice of this one", |_, app| choose::duplicate(app)),
        key("E", "give the lattice another name", |_, app| choose::rename(app)),
        key("X", "take the lattice out", |_, app| app.remove_lattice()),
        key("D", "write the lattice to a file of its own", |_, app| choose::export(app)),
        key("F", "read lattices from a file", |_, app| choose::import(app)),
        key("-", "the whole interface darker, for a dark room", |_, app| app.change_brightness(-1)),
        key("+ =", "brighter again", |_, app| app.change_brightness(1)),
        key("T", "a light ground for a bright room, or a dark one", |_, app| app.change_ground()),
        key(",", "the names large for a moment", |_, app| app.show_names()),
        key("Z", "paint pictures another way: kitty graphics, sixel, inline images, quadrants, half blocks", |_, app| {
            app.next_painting();
        }),
        key("K", "keep a still of the selected tile, at full size, with its figures", |_, app| app.keep_still()),
        key("*", "keep a still to be read: 2 s of a standing scene averaged", |_, app| app.keep_burst()),
        key("C", "keep a contact sheet of the wall", |_, app| app.keep_sheet()),
        key("S", "burn-in care: all of it moves by a cell now and then, or stays", |_, app| app.change_care()),
        key(".", "the numbers of the tiles: type one and enter to go there", |_, app| app.put_in_front(Numbers::default())),
        key("r", "try a lost or locked stream again now", |_, app| app.retry()).hint("retry"),
        key("d", "after a loss: hold the last clean picture, or show damaged ones marked", |_, app| app.change_damage_choice()),
        key("f", "order a fault from the selected stand-in camera (demo)", |_, app| app.put_in_front(Faults))
            .hint("fault")
            .needs(Needs::Demo),
        key("space", "leave out a step of the guide (demo)", |_, app| app.guide.iter_mut().for_each(Guide::skip))
            .needs(Needs::Guide),
        key("s", "sign in to it, enter its key, or judge its certificate", |_, app| {
            if let Some(name) = app.selected_tile().map(|tile| app.name(tile).to_owned()) {
                sign_in::of_camera(app, name);
            }
        })
        .hint("sign in")
        .needs(Needs::Site),
        help::key(),
        common("q ctrl-c", "leave", Some("quit"), |_, app| app.quit()),
    ];
}

fn move_view(app: &mut App, right: f64, down: f64) {
    if !app.move_view(right, down) {
        app.say(Tone::Text, "the whole picture is seen: I or the wheel draws a part of it larger".into());
    }
}

/// Selects the next tile in a direction; while one is enlarged of which a part is seen, moves that.
fn arrow(app: &mut App, columns: i32, rows: i32) {
    if !(app.enlarged && app.move_view(f64::from(columns), f64::from(rows))) {
        app.move_selection(columns, rows);
    }
}

fn enlarge(app: &mut App) {
    if !app.enlarge() {
        choose::camera(app);
    }
}

/// Draws a tile; gives its stream where its picture is on the screen.
fn draw_tile(app: &App, theme: Theme, region: &TileRegion, painters: &mut [TilePainter], buf: &mut Buffer) -> Option<FeedKey> {
    let drawn = match (app.tile_at(region.tile), painters.get_mut(region.tile)) {
        (None, _) => {
            tile::empty(app, theme, region, buf);
            None
        }
        (Some(tile), Some(painter)) => tile::draw(app, theme, region, painter, buf).then(|| tile.key()),
        (Some(_), None) => None,
    };
    tile::signs(app, theme, region, buf);
    drawn
}

impl Page for Wall {
    fn draw(&self, app: &App, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        if app.cameras_there().next().is_none() && app.tiles.is_empty() {
            let text = "No camera on the wall.  c opens the roster, a adds one by its address.";
            Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(body, buf);
            return Vec::new();
        }
        let regions = regions(app);
        regions.tiles.iter().filter_map(|region| draw_tile(app, theme, region, painters, buf)).collect()
    }

    fn draw_changed(
        &self,
        app: &App,
        theme: Theme,
        changed: &[(FeedKey, Change)],
        painters: &mut [TilePainter],
        buf: &mut Buffer,
    ) -> Option<Vec<Rect>> {
        let mut parts = Vec::new();
        for region in regions(app).tiles {
            let Some(key) = app.tile_at(region.tile).map(lattice_engine::Seat::key) else { continue };
            let Some((_, change)) = changed.iter().find(|(of, _)| *of == key) else { continue };
            let part = if *change == Change::Figures { region.whole } else { region.picture };
            let part = part.intersection(buf.area);
            if part.is_empty() {
                continue;
            }
            for y in part.top()..part.bottom() {
                let at = buf.index_of(part.x, y);
                buf.content[at..at + usize::from(part.width)].iter_mut().for_each(Cell::reset);
            }
            buf.set_style(part, theme.ground());
            match (change, painters.get_mut(region.tile)) {
                (Change::Picture, Some(painter)) => {
                    tile::draw_picture(app, theme, &region, painter, buf);
                    tile::signs(app, theme, &region, buf);
                }
                _ => drop(draw_tile(app, theme, &region, painters, buf)),
            }
            parts.push(part);
        }
        Some(parts)
    }

    fn watched(&self, app: &App, _: Rect) -> Vec<Watched> {
        let shown = regions(app).tiles.into_iter().filter_map(|region| {
            let tile = app.tile_at(region.tile).filter(|tile| tile.is_shown())?;
            Some((region, *tile))
        });
        // Also the stream that a tile changes to.
        let keys = |(region, tile): (TileRegion, lattice_engine::Seat)| {
            let aspect = app.placed(region.tile).map(|placed| placed.aspect).unwrap_or_default();
            let keys = [Some(tile.key()), tile.next_key()].into_iter().flatten();
            let view = app.view(region.tile);
            keys.map(move |key| Watched { key, painter: region.tile, area: region.picture, aspect, view })
        };
        shown.flat_map(keys).collect()
    }

    fn share(&self, app: &App, place: usize) -> Option<Share> {
        Some(match app.enlarged {
            true if place == app.selected => Share::Alone,
            false if app.tiles.len() > SIXEL_TILES => Share::Many,
            _ => Share::Few,
        })
    }

    fn hint(&self, app: &App, key: &KeyText) -> Option<&'static str> {
        if key.keys == "enter" && app.enlarged { Some("return") } else { key.hint }
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Press(at) => {
                if app.click_tile(at) {
                    enlarge(app);
                }
            }
            Mouse::Release(at) => app.drop_at(at),
            Mouse::Wheel(by, at) => {
                if !app.wheel_over(by, at) {
                    app.turn_page(by);
                }
            }
            Mouse::Drag(at) => app.drag_view(at),
        }
    }
}
