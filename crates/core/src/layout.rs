//! Layouts: how a screen is divided into places for pictures.
//!
//! Everything is in cells here, from the upper left corner of the area; a layout keeps its proportions in units
//! ([`Place`]) and is divided anew for each area.

mod places;
mod preset;

pub use places::{Edge, LayoutError, MAX_PLACES, Place, Places, UNITS};
pub use preset::Preset;

/// A layout.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Layout {
    /// An even grid for this many places; its columns and rows follow the area.
    Even(usize),
    /// One that is there.
    Preset(Preset),
    /// One made by hand.
    Hand(Places),
}

/// What a layout is divided for.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Screen {
    /// Columns.
    pub width: u16,
    /// Rows.
    pub height: u16,
    /// Width of a cell over its height.
    pub cell_aspect: f64,
    /// Columns left free between two places.
    pub gutter: u16,
    /// Rows of each place that are not for the picture: plate and pulse.
    pub below: u16,
}

/// A place in cells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct CellPlace {
    /// Columns from the left.
    pub x: u16,
    /// Rows from the top.
    pub y: u16,
    /// Columns.
    pub width: u16,
    /// Rows, with those that are not for the picture.
    pub height: u16,
}

impl CellPlace {
    /// Whether a cell belongs to it.
    #[must_use]
    pub const fn contains(self, x: u16, y: u16) -> bool {
        x >= self.x && x - self.x < self.width && y >= self.y && y - self.y < self.height
    }

    /// Columns and rows of the largest picture of this aspect (width over height) in it.
    #[must_use]
    pub fn picture(self, screen: &Screen, aspect: f64) -> (u16, u16) {
        let (width, height) = (f64::from(self.width), f64::from(self.height.saturating_sub(screen.below)));
        // In units of a cell's height.
        let wide = (width * screen.cell_aspect).min(height * aspect);
        ((wide / screen.cell_aspect).floor() as u16, (wide / aspect).floor() as u16)
    }
}

/// How well a layout suits a screen.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Suits {
    /// Columns and rows of its largest picture.
    pub largest: (u16, u16),
    /// Columns and rows of its smallest picture.
    pub smallest: (u16, u16),
    /// Share of the screen that no picture covers, 0 to 1.
    pub unused: f64,
}

impl Layout {
    /// Even grids up to [`MAX_PLACES`].
    #[must_use]
    pub fn even(places: usize) -> Self {
        Self::Even(places.clamp(1, MAX_PLACES))
    }

    /// Its word in files: `even 9`, `1+5`, `by hand`.
    #[must_use]
    pub fn word(&self) -> String {
        match self {
            Self::Even(count) => format!("even {count}"),
            Self::Preset(preset) => preset.word().into(),
            Self::Hand(_) => "by hand".into(),
        }
    }

    /// The layout with this word; `None` too for one by hand, whose places stand for themselves.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        if let Some(preset) = Preset::from_word(word) {
            return Some(Self::Preset(preset));
        }
        let count: usize = word.strip_prefix("even ")?.trim().parse().ok()?;
        (1..=MAX_PLACES).contains(&count).then_some(Self::Even(count))
    }

    /// The words of those that are there, for a message.
    #[must_use]
    pub fn preset_words() -> String {
        Preset::ALL.map(Preset::word).join(", ")
    }

    /// How many places it has.
    #[must_use]
    pub fn count(&self) -> usize {
        match self {
            Self::Even(count) => *count,
            Self::Preset(preset) => preset.places().len(),
            Self::Hand(places) => places.as_slice().len(),
        }
    }

    /// Its places on a screen, in their order.
    #[must_use]
    pub fn divide(&self, screen: &Screen) -> Vec<CellPlace> {
        match self {
            Self::Even(count) => {
                let (columns, rows) = even_grid(*count, screen.width, screen.height, screen.cell_aspect, screen.below);
                let place = |index: usize| {
                    let (x, width) = span(screen.width, columns, index % columns, 1, screen.gutter);
                    let (y, height) = span(screen.height, rows, index / columns, 1, 0);
                    CellPlace { x, y, width, height }
                };
                (0..*count).map(place).collect()
            }
            Self::Preset(preset) => by_units(&preset.places(), screen),
            Self::Hand(places) => by_units(places.as_slice(), screen),
        }
    }

    /// The share of the picture's area that an even grid without empty places gives up on this screen, 0 to 1.
    #[must_use]
    pub fn gives_up(&self, screen: &Screen) -> f64 {
        let Self::Even(count) = self else { return 0.0 };
        even_grid_with_loss(*count, screen.width, screen.height, screen.cell_aspect, screen.below).1
    }

    /// Columns and rows of an even grid on this screen.
    #[must_use]
    pub fn even_grid_on(&self, screen: &Screen) -> Option<(usize, usize)> {
        let Self::Even(count) = self else { return None };
        Some(even_grid(*count, screen.width, screen.height, screen.cell_aspect, screen.below))
    }

    /// How well it suits a screen, with pictures of this aspect.
    #[must_use]
    pub fn suits(&self, screen: &Screen, aspect: f64) -> Suits {
        let pictures: Vec<(u16, u16)> = self.divide(screen).iter().map(|place| place.picture(screen, aspect)).collect();
        let cells = |(width, height): &(u16, u16)| u32::from(*width) * u32::from(*height);
        let all = (u32::from(screen.width) * u32::from(screen.height)).max(1);
        let used: u32 = pictures.iter().map(cells).sum();
        Suits {
            largest: pictures.iter().copied().max_by_key(cells).unwrap_or_default(),
            smallest: pictures.iter().copied().min_by_key(cells).unwrap_or_default(),
            unused: 1.0 - f64::from(used.min(all)) / f64::from(all),
        }
    }
}

/// Layouts for this many pictures, the one that uses the screen best first: those with enough places, and not twice as
/// many as needed.
#[must_use]
pub fn proposals(pictures: usize, screen: &Screen, aspect: f64) -> Vec<Layout> {
    let pictures = pictures.clamp(1, MAX_PLACES);
    let presets = Preset::ALL.into_iter().map(Layout::Preset);
    let fits = |layout: &Layout| (pictures..(2 * pictures).max(4)).contains(&layout.count());
    let mut found: Vec<Layout> = [Layout::Even(pictures)].into_iter().chain(presets.filter(fits)).collect();
    // Places that stay empty are unused, too.
    let unused = |layout: &Layout| {
        let suits = layout.suits(screen, aspect);
        1.0 - (1.0 - suits.unused) * (pictures.min(layout.count()) as f64 / layout.count() as f64)
    };
    found.sort_by(|a, b| unused(a).total_cmp(&unused(b)));
    found
}

/// Where `size` parts from part `at` on begin, and how many cells they have, when `total` cells are divided into
/// `parts` with a gutter between two.
fn span(total: u16, parts: usize, at: usize, size: usize, gutter: u16) -> (u16, u16) {
    let whole = u64::from(total) + u64::from(gutter);
    let edge = |n: usize| (whole * n as u64 / parts.max(1) as u64) as u16;
    let (begin, end) = (edge(at), edge(at + size));
    (begin.min(total), end.saturating_sub(begin).saturating_sub(gutter).min(total.saturating_sub(begin)))
}

fn by_units(places: &[Place], screen: &Screen) -> Vec<CellPlace> {
    let units = usize::from(UNITS);
    let place = |place: &Place| {
        let (x, width) = span(screen.width, units, place.x.into(), place.width.into(), screen.gutter);
        let (y, height) = span(screen.height, units, place.y.into(), place.height.into(), 0);
        CellPlace { x, y, width, height }
    };
    places.iter().map(place).collect()
}

/// A grid without empty places is taken where its pictures have at least this share of the area that the largest would have.
const FULL_FROM: f64 = 0.7;

/// Columns and rows of an even grid for `count` tiles that make 16:9 pictures largest in an area of
/// `width` × `height` cells, each cell `cell_aspect` as wide as high, with `overhead` rows of every
/// tile not for the picture. At least 1 × 1. A grid without empty places goes before one with somewhat larger pictures.
#[must_use]
pub fn even_grid(count: usize, width: u16, height: u16, cell_aspect: f64, overhead: u16) -> (usize, usize) {
    even_grid_with_loss(count, width, height, cell_aspect, overhead).0
}

/// The same, and the share of the picture's area that is lost against the grid with the largest pictures, 0 to 1.
fn even_grid_with_loss(count: usize, width: u16, height: u16, cell_aspect: f64, overhead: u16) -> ((usize, usize), f64) {
    let count = count.max(1);
    let picture_area = |columns: usize, rows: usize| {
        let w = f64::from(width) / columns as f64;
        let h = (f64::from(height) / rows as f64 - f64::from(overhead)).max(0.0);
        // In units of a cell's height.
        let (w, h) = (w * cell_aspect, h);
        let w = w.min(h * 16.0 / 9.0);
        w * w
    };
    let shapes = || (1..=count).map(|columns| (columns, count.div_ceil(columns)));
    let better = |a: (usize, usize), b: (usize, usize)| {
        let (x, y) = (picture_area(a.0, a.1), picture_area(b.0, b.1));
        if y > x + 1e-9 || ((y - x).abs() <= 1e-9 && b.0 * b.1 < a.0 * a.1) { b } else { a }
    };
    let largest = shapes().reduce(better).unwrap_or((1, 1));
    let most = picture_area(largest.0, largest.1);
    let full = shapes().filter(|(columns, rows)| columns * rows == count).reduce(better);
    match full.map(|full| (full, picture_area(full.0, full.1))) {
        Some((full, area)) if most > 0.0 && area >= most * FULL_FROM => (full, 1.0 - area / most),
        _ => (largest, 0.0),
    }
}

#[cfg(test)]
mod tests;
