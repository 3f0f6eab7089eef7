//! Where everything stands; drawing and the mouse both ask here.

use crate::app::App;
use lattice_core::layout::even_grid;
use ratatui::layout::Rect;

/// A tile's parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TileRegion {
    /// Index of the tile.
    pub tile: usize,
    /// All of it.
    pub whole: Rect,
    /// For the picture.
    pub picture: Rect,
    /// One line of figures.
    pub plate: Rect,
    /// One line of the last minute.
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
    /// Tiles on the screen.
    pub tiles: Vec<TileRegion>,
}

const GUTTER: u16 = 2;
/// Plate and pulse.
const LINES_BELOW: u16 = 2;

/// Columns and rows of tiles, also while one is enlarged.
pub fn grid(app: &App) -> (usize, usize) {
    let area = app.area;
    even_grid(app.tiles.len(), area.width, area.height.saturating_sub(2), app.cell_aspect, LINES_BELOW)
}

/// Divides the screen.
pub fn regions(app: &App) -> Regions {
    let area = app.area;
    let line = |y: u16| Rect { y, height: 1.min(area.height), ..area };
    let body = Rect { y: area.y + 1, height: area.height.saturating_sub(2), ..area };
    let (header, footer) = (line(area.y), line(area.bottom().saturating_sub(1)));
    let tiles = if app.enlarged {
        app.selected_tile().map(|_| tile_region(app.selected, body)).into_iter().collect()
    } else {
        let (columns, rows) = grid(app);
        (0..app.tiles.len()).map(|index| tile_region(index, place(body, index, columns, rows))).collect()
    };
    Regions { header, body, footer, tiles }
}

/// The part of the body for one place of the grid; what does not divide goes to the first ones.
fn place(body: Rect, index: usize, columns: usize, rows: usize) -> Rect {
    let (column, row) = ((index % columns) as u16, (index / columns) as u16);
    let (columns, rows) = (columns as u16, rows as u16);
    let share = |total: u16, parts: u16, at: u16, gutter: u16| {
        let free = total.saturating_sub(gutter * (parts - 1));
        let (each, rest) = (free / parts, free % parts);
        (at * (each + gutter) + at.min(rest), each + u16::from(at < rest))
    };
    let (x, width) = share(body.width, columns, column, GUTTER);
    let (y, height) = share(body.height, rows, row, 0);
    Rect { x: body.x + x, y: body.y + y, width, height }
}

fn tile_region(tile: usize, whole: Rect) -> TileRegion {
    let picture = Rect { height: whole.height.saturating_sub(LINES_BELOW), ..whole };
    let line = |n: u16| Rect { y: picture.bottom() + n, height: u16::from(picture.bottom() + n < whole.bottom()), ..whole };
    TileRegion { tile, whole, picture, plate: line(0), pulse: line(1) }
}
