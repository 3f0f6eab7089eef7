//! Where everything stands; drawing and the mouse both ask here.

use crate::tui::app::App;
use crate::tui::page::Page;
use lattice_core::layout::Screen;
use ratatui::layout::Rect;

/// A tile's parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TileRegion {
    /// The place of the page.
    pub tile: usize,
    /// All of it.
    pub whole: Rect,
    /// For the picture.
    pub picture: Rect,
    /// One line of figures.
    pub plate: Rect,
    /// One line of the last minute; none in the film strip and in very low tiles.
    pub pulse: Rect,
}

/// All parts of the screen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Regions {
    /// First line.
    pub header: Rect,
    /// Between header and footer.
    pub body: Rect,
    /// Last line.
    pub footer: Rect,
    /// Tiles on the screen, by the places of the page.
    pub tiles: Vec<TileRegion>,
}

const GUTTER: u16 = 2;
/// Plate and pulse.
const LINES_BELOW: u16 = 2;
/// Rows of the film strip, with its plates.
const STRIP: u16 = 7;
/// The film strip is there from this many rows for tiles on.
const STRIP_FROM: u16 = 26;
/// Tiles below this many rows have no pulse.
const PULSE_FROM: u16 = 6;

/// The screen that layouts divide.
pub fn screen(app: &App) -> Screen {
    let body = body(app);
    Screen { width: body.width, height: body.height, cell_aspect: app.cell_aspect, gutter: GUTTER, below: LINES_BELOW }
}

fn body(app: &App) -> Rect {
    let area = app.area;
    if app.bare {
        return area;
    }
    Rect { y: area.y + 1, height: area.height.saturating_sub(2), ..area }
}

impl App {
    /// Where the page is drawn: between header and footer, below the line that is typed, where there is one.
    pub fn body(&self) -> Rect {
        let body = body(self);
        if self.fronts().any(Page::is_line) {
            return Rect { y: body.y + 2, height: body.height.saturating_sub(2), ..body };
        }
        body
    }
}

/// The places of the page, also while one is enlarged.
pub fn places(app: &App) -> Vec<Rect> {
    let body = body(app);
    let places = app.lattices.shown().layout().divide(&screen(app));
    places.into_iter().map(|place| Rect::new(body.x + place.x, body.y + place.y, place.width, place.height)).collect()
}

/// The part of a place that is for the picture.
pub fn picture_of(place: Rect) -> Rect {
    tile_region(0, place).picture
}

/// Divides the screen.
pub fn regions(app: &App) -> Regions {
    let area = app.area;
    let line = |y: u16| Rect { y, height: if app.bare { 0 } else { 1.min(area.height) }, ..area };
    let body = body(app);
    let (header, footer) = (line(area.y), line(area.bottom().saturating_sub(1)));
    let tiles = if app.enlarged {
        enlarged(app, body)
    } else {
        places(app).into_iter().enumerate().map(|(index, place)| tile_region(index, place)).collect()
    };
    Regions { header, body, footer, tiles }
}

/// The selected tile, and under it those that come next as a film strip.
fn enlarged(app: &App, body: Rect) -> Vec<TileRegion> {
    let others: Vec<usize> = {
        let after = app.tiles.iter().map(|tile| tile.place).filter(|place| *place > app.selected);
        after.chain(app.tiles.iter().map(|tile| tile.place).filter(|place| *place < app.selected)).collect()
    };
    if others.is_empty() || body.height < STRIP_FROM {
        return vec![tile_region(app.selected, body)];
    }
    let mut tiles = vec![tile_region(app.selected, Rect { height: body.height - STRIP, ..body })];
    // As wide as a picture of 16:9 is in the rows that there are.
    let each = (f64::from(STRIP - 1) * 16.0 / 9.0 / app.cell_aspect).round().max(8.0) as u16;
    let room = usize::from((body.width + GUTTER) / (each + GUTTER)).max(1);
    for (index, place) in others.into_iter().take(room).enumerate() {
        let x = body.x + index as u16 * (each + GUTTER);
        let whole = Rect { x, y: body.bottom() - STRIP, width: each.min(body.right().saturating_sub(x)), height: STRIP };
        let picture = Rect { height: STRIP - 1, ..whole };
        let plate = Rect { y: picture.bottom(), height: 1, ..whole };
        tiles.push(TileRegion { tile: place, whole, picture, plate, pulse: Rect { height: 0, ..plate } });
    }
    tiles
}

fn tile_region(tile: usize, whole: Rect) -> TileRegion {
    let below = if whole.height < PULSE_FROM { 1 } else { LINES_BELOW };
    let picture = Rect { height: whole.height.saturating_sub(below), ..whole };
    let line = |n: u16| {
        let there = n < below && picture.bottom() + n < whole.bottom();
        Rect { y: picture.bottom() + n, height: u16::from(there), ..whole }
    };
    TileRegion { tile, whole, picture, plate: line(0), pulse: line(1) }
}

/// The nearest place in a direction: of those that begin beyond this one, the one that lies most in line with it.
pub fn beside(places: &[Rect], from: usize, columns: i32, rows: i32) -> Option<usize> {
    let own = places.get(from)?;
    let middle =
        |rect: &Rect| (2 * i32::from(rect.x) + i32::from(rect.width), 2 * (2 * i32::from(rect.y) + i32::from(rect.height)));
    let beyond = |rect: &Rect| match (columns.signum(), rows.signum()) {
        (1, _) => rect.x >= own.right(),
        (-1, _) => rect.right() <= own.x,
        (_, 1) => rect.y >= own.bottom(),
        _ => rect.bottom() <= own.y,
    };
    let shares = |rect: &Rect| {
        let (a, b) = if columns == 0 {
            ((rect.x, rect.right()), (own.x, own.right()))
        } else {
            ((rect.y, rect.bottom()), (own.y, own.bottom()))
        };
        a.0 < b.1 && b.0 < a.1
    };
    let distance = |rect: &Rect| {
        let ((ax, ay), (bx, by)) = (middle(own), middle(rect));
        let (along, across) = if columns == 0 { ((by - ay).abs(), (bx - ax).abs()) } else { ((bx - ax).abs(), (by - ay).abs()) };
        (!shares(rect), along, across)
    };
    let others = places.iter().enumerate().filter(|(index, rect)| *index != from && beyond(rect));
    others.min_by_key(|(_, rect)| distance(rect)).map(|(index, _)| index)
}
