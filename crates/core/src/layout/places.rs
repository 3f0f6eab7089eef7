//! Places on a grid of units: what overlaps, what is left, how they are split, joined and moved.

use std::collections::BTreeSet;

/// Units of a layout that is made by hand, in each direction.
pub const UNITS: u8 = 12;

/// A place, in units from the upper left corner.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Place {
    /// Units from the left.
    pub x: u8,
    /// Units from the top.
    pub y: u8,
    /// Width in units, at least 1.
    pub width: u8,
    /// Height in units, at least 1.
    pub height: u8,
}

impl Place {
    /// A place.
    #[must_use]
    pub const fn new(x: u8, y: u8, width: u8, height: u8) -> Self {
        Self { x, y, width, height }
    }

    /// The unit right of it.
    #[must_use]
    pub const fn right(self) -> u8 {
        self.x + self.width
    }

    /// The unit below it.
    #[must_use]
    pub const fn bottom(self) -> u8 {
        self.y + self.height
    }

    /// Units that it covers.
    #[must_use]
    pub const fn area(self) -> u32 {
        self.width as u32 * self.height as u32
    }

    /// Whether two places share a unit.
    #[must_use]
    pub const fn overlaps(self, other: Self) -> bool {
        self.x < other.right() && other.x < self.right() && self.y < other.bottom() && other.y < self.bottom()
    }
}

/// Why places are no layout.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum LayoutError {
    /// None.
    #[error("a layout needs at least one place")]
    Empty,
    /// Too many.
    #[error("a layout has at most {MAX_PLACES} places: {0} are too many")]
    TooMany(usize),
    /// One has no width or height, or leaves the grid.
    #[error("place {0} leaves the grid of {UNITS} × {UNITS} units, or has no size")]
    Leaves(usize),
    /// Two share a unit.
    #[error("places {0} and {1} overlap")]
    Overlap(usize, usize),
    /// A unit belongs to none.
    #[error("nothing stands at unit {0}, {1}: the places must cover the whole grid")]
    Hole(u8, u8),
    /// It cannot be divided.
    #[error("this place is only {0} units {1}: too small to be split")]
    TooSmall(u8, &'static str),
    /// An even grid that the units are too few for.
    #[error("a grid of {0} columns and {1} rows is too fine to be changed by hand: {UNITS} × {UNITS} at most")]
    TooFine(usize, usize),
    /// They do not make one rectangle.
    #[error("these places do not make one rectangle together: join places that stand side by side")]
    NoRectangle,
    /// A border that cannot be moved that far.
    #[error("the border cannot go there: a place beside it would have no size, or it is the edge")]
    Border,
}

/// Most places of a layout.
pub const MAX_PLACES: usize = 256;

/// An edge of a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Edge {
    /// Its left edge.
    Left,
    /// Its right edge.
    Right,
    /// Its upper edge.
    Top,
    /// Its lower edge.
    Bottom,
}

/// Places that cover a grid of 12 × 12 units, without overlap and without holes. The order is the operator's: cameras
/// stand in places by it.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Places(Vec<Place>);

impl Places {
    /// Places made by hand, if they are a layout.
    ///
    /// # Errors
    /// [`LayoutError`] naming the first that is wrong, by its number from 1.
    pub fn new(places: Vec<Place>) -> Result<Self, LayoutError> {
        if places.is_empty() {
            return Err(LayoutError::Empty);
        }
        if places.len() > MAX_PLACES {
            return Err(LayoutError::TooMany(places.len()));
        }
        for (index, place) in places.iter().enumerate() {
            let inside = u16::from(place.x) + u16::from(place.width) <= u16::from(UNITS)
                && u16::from(place.y) + u16::from(place.height) <= u16::from(UNITS);
            if place.width == 0 || place.height == 0 || !inside {
                return Err(LayoutError::Leaves(index + 1));
            }
            if let Some(other) = places.iter().take(index).position(|other| other.overlaps(*place)) {
                return Err(LayoutError::Overlap(other + 1, index + 1));
            }
        }
        if places.iter().map(|place| place.area()).sum::<u32>() < u32::from(UNITS) * u32::from(UNITS) {
            let covered = |x: u8, y: u8| places.iter().any(|place| place.overlaps(Place::new(x, y, 1, 1)));
            let hole = (0..UNITS).flat_map(|y| (0..UNITS).map(move |x| (x, y))).find(|(x, y)| !covered(*x, *y));
            return Err(hole.map_or(LayoutError::Empty, |(x, y)| LayoutError::Hole(x, y)));
        }
        Ok(Self(places))
    }

    /// An even grid of `count` places in columns and rows; the last one covers what the grid leaves empty.
    ///
    /// # Errors
    /// [`LayoutError`] where the units are too few for it.
    pub fn even(count: usize, columns: usize, rows: usize) -> Result<Self, LayoutError> {
        let (columns, rows) = (columns.max(1), rows.max(1));
        if columns.max(rows) > usize::from(UNITS) {
            return Err(LayoutError::TooFine(columns, rows));
        }
        let edge = |at: usize, of: usize| (at * usize::from(UNITS) / of) as u8;
        let place = |index: usize| {
            let (column, row) = (index % columns, index / columns);
            let end = if index + 1 == count { columns } else { column + 1 };
            let (x, y) = (edge(column, columns), edge(row, rows));
            Place::new(x, y, edge(end, columns) - x, edge(row + 1, rows) - y)
        };
        Self::new((0..count).map(place).collect())
    }

    /// The places.
    #[must_use]
    pub fn as_slice(&self) -> &[Place] {
        &self.0
    }

    /// Splits a place in two of equal size (the first gets the odd unit); the new one comes behind all others.
    ///
    /// # Errors
    /// [`LayoutError::TooSmall`].
    pub fn split(&self, index: usize, side_by_side: bool) -> Result<Self, LayoutError> {
        let mut places = self.0.clone();
        let place = *places.get(index).ok_or(LayoutError::Leaves(index + 1))?;
        let (size, way) = if side_by_side { (place.width, "wide") } else { (place.height, "high") };
        if size < 2 {
            return Err(LayoutError::TooSmall(size, way));
        }
        let first = size.div_ceil(2);
        let (one, two) = if side_by_side {
            (Place { width: first, ..place }, Place { x: place.x + first, width: size - first, ..place })
        } else {
            (Place { height: first, ..place }, Place { y: place.y + first, height: size - first, ..place })
        };
        if let Some(place) = places.get_mut(index) {
            *place = one;
        }
        places.push(two);
        Self::new(places)
    }

    /// Joins places that make one rectangle; it stands where the first of them stood in the order.
    ///
    /// # Errors
    /// [`LayoutError::NoRectangle`].
    pub fn join(&self, indices: &BTreeSet<usize>) -> Result<Self, LayoutError> {
        let chosen: Vec<Place> = indices.iter().filter_map(|index| self.0.get(*index).copied()).collect();
        let (Some(x), Some(y)) = (chosen.iter().map(|place| place.x).min(), chosen.iter().map(|place| place.y).min()) else {
            return Err(LayoutError::NoRectangle);
        };
        let right = chosen.iter().map(|place| place.right()).max().unwrap_or(x);
        let bottom = chosen.iter().map(|place| place.bottom()).max().unwrap_or(y);
        let joined = Place::new(x, y, right - x, bottom - y);
        if chosen.len() < 2 || chosen.iter().map(|place| place.area()).sum::<u32>() != joined.area() {
            return Err(LayoutError::NoRectangle);
        }
        let first = indices.iter().next().copied().unwrap_or(0);
        let kept = self.0.iter().enumerate().filter(|(index, _)| !indices.contains(index) || *index == first);
        Self::new(kept.map(|(index, place)| if index == first { joined } else { *place }).collect())
    }

    /// Moves an edge of a place by units, to the right or down for above 0; the places on the other side of the border
    /// give way, and those in line with it go along.
    ///
    /// # Errors
    /// [`LayoutError::Border`] where one would have no size.
    pub fn drag(&self, index: usize, edge: Edge, by: i8) -> Result<Self, LayoutError> {
        let place = *self.0.get(index).ok_or(LayoutError::Leaves(index + 1))?;
        let upright = matches!(edge, Edge::Left | Edge::Right);
        let at = match edge {
            Edge::Left => place.x,
            Edge::Right => place.right(),
            Edge::Top => place.y,
            Edge::Bottom => place.bottom(),
        };
        if at == 0 || at == UNITS {
            return Err(LayoutError::Border);
        }
        // In one direction the border is where places begin or end; along it, the others that touch it belong to it.
        let along = |place: &Place| if upright { (place.y, place.bottom()) } else { (place.x, place.right()) };
        let touches = |place: &Place| {
            let (begin, end) = if upright { (place.x, place.right()) } else { (place.y, place.bottom()) };
            begin == at || end == at
        };
        let (mut from, mut to) = along(&place);
        loop {
            let grown = self.0.iter().filter(|other| touches(other)).filter(|other| along(other).0 < to && along(other).1 > from);
            let (low, high) = grown.fold((from, to), |(low, high), other| (low.min(along(other).0), high.max(along(other).1)));
            if (low, high) == (from, to) {
                break;
            }
            (from, to) = (low, high);
        }
        let target = i16::from(at) + i16::from(by);
        let moved = |other: &Place| -> Option<Place> {
            if !touches(other) || along(other).0 >= to || along(other).1 <= from {
                return Some(*other);
            }
            let target = u8::try_from(target).ok()?;
            let (begin, end) = if upright { (other.x, other.right()) } else { (other.y, other.bottom()) };
            let (begin, end) = if begin == at { (target, end) } else { (begin, target) };
            let size = end.checked_sub(begin).filter(|size| *size > 0)?;
            Some(if upright { Place { x: begin, width: size, ..*other } } else { Place { y: begin, height: size, ..*other } })
        };
        let places: Option<Vec<Place>> = self.0.iter().map(moved).collect();
        Self::new(places.ok_or(LayoutError::Border)?).map_err(|_| LayoutError::Border)
    }
}
