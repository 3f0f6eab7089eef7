//! Our own motion on drawn areas and lines, for cameras whose device reports none.
//!
//! Decoded pictures come in as the levels of [`CELLS`] places. What a place usually is, and how much water, flags and rain
//! change it, is learned all the time ([`ground`]); places that differ are joined into things, and things that come from one place to
//! another are followed ([`track`]). Nothing is recognised: a gull is as good as a thief. What stands still is not seen, nor what is as
//! bright as what lies behind it.

mod ground;
mod shape;
#[cfg(test)]
mod tests;
mod track;

pub use shape::{
    LONGEST_NAME, MOST_CORNERS, MOST_SHAPES, Outline, Place, Shape, ShapeError, Way, area, crossed, inside, to_the_right,
};

use crate::Mono;
use ground::{Differing, Ground};
use std::time::Duration;
use track::{Track, follow, things};

/// Places of a picture across,
pub const COLUMNS: usize = 80;
/// and down.
pub const ROWS: usize = 45;
/// All of them, row by row from the upper left corner.
pub const CELLS: usize = COLUMNS * ROWS;
/// Pictures are looked at this often, where there are so many.
pub const EVERY: Duration = Duration::from_millis(60);

/// What is usual is learned for so long before anything is told.
pub const LEARNS_FOR: Duration = Duration::from_secs(30);
/// Where so much of a picture differs, the whole of it changed: a light, a move of the camera.
const WHOLE: f32 = 0.5;
/// It is learned anew when that lasts so long.
const ANEW_AFTER: Duration = Duration::from_secs(2);
/// Motion in an area is over when nothing moved for so long.
const OVER_AFTER: Duration = Duration::from_secs(2);
/// A gap between pictures after which nothing can be followed.
const GAP: Duration = Duration::from_secs(2);
/// What goes over a line the same way within this time, in the same place, is one crossing.
pub const TOGETHER: Duration = Duration::from_secs(1);
/// The same place is one within so many places.
const SAME_PLACE: f64 = 8.0;
/// Something is on one side of a line when its middle is so many places away from it.
const CLEAR: f64 = 0.6;
/// How fast the trace of activity fades: to a third in so many seconds.
const FADES: f32 = 8.0;

/// What happened to a shape.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// Something began to move in the area.
    Begins,
    /// Nothing moves in it any more.
    Ends,
    /// Something went over the line, this way; never [`Way::Both`].
    Crossed(Way),
}

/// Something that was seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Noticed {
    /// The shape, by its place among those that are watched.
    pub shape: usize,
    /// What it was.
    pub what: What,
}

/// How far watching has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stage {
    /// No picture comes.
    Waiting,
    /// What is usual is learned, until then.
    Learning(Mono),
    /// It watches.
    Watching,
}

/// Watches the shapes of one camera.
#[derive(Debug, Clone)]
pub struct Watcher {
    shapes: Vec<Shape>,
    /// The places of each shape.
    under: Vec<Vec<usize>>,
    ground: Ground,
    tracks: Vec<Track>,
    last: Option<Mono>,
    learns_until: Option<Mono>,
    whole_since: Option<Mono>,
    /// When something moved in each area last, while there is motion.
    moving: Vec<Option<Mono>>,
    /// What went over lines of late: when, over which, which way, where.
    over: Vec<(Mono, usize, Way, Place)>,
    trace: Vec<f32>,
    differing: Differing,
}

impl Watcher {
    /// A watcher of these shapes.
    #[must_use]
    pub fn new(shapes: Vec<Shape>) -> Self {
        let moving = vec![None; shapes.len()];
        Self {
            under: shapes.iter().map(under).collect(),
            shapes,
            ground: Ground::default(),
            tracks: Vec::new(),
            last: None,
            learns_until: None,
            whole_since: None,
            over: Vec::new(),
            moving,
            trace: vec![0.0; CELLS],
            differing: Differing::default(),
        }
    }

    /// What it watches.
    #[must_use]
    pub fn shapes(&self) -> &[Shape] {
        &self.shapes
    }

    /// Other shapes from now on; what is usual stays known. Motion in areas begins anew.
    pub fn watch(&mut self, shapes: Vec<Shape>) {
        self.moving = vec![None; shapes.len()];
        self.over.clear();
        self.tracks.iter_mut().for_each(|track| track.sides.clear());
        self.under = shapes.iter().map(under).collect();
        self.shapes = shapes;
    }

    /// Takes the next picture: when it was decoded, and the level of each of its places, 0 to 255.
    pub fn see(&mut self, at: Mono, levels: &[u8]) -> Vec<Noticed> {
        if levels.len() != CELLS {
            return Vec::new();
        }
        let after = self.last.map_or(Duration::ZERO, |last| at.since(last));
        if self.last.is_none() || after > GAP {
            self.begin(at);
        }
        self.last = Some(at);
        let after = after.min(GAP).as_secs_f64();
        if let Some(until) = self.learns_until {
            self.ground.learn(after as f32, levels);
            if at >= until {
                self.learns_until = None;
                self.ground.settle();
            }
            return self.ended(at);
        }
        let share = self.ground.see(after as f32, levels, &mut self.differing);
        if share > WHOLE {
            let since = *self.whole_since.get_or_insert(at);
            self.tracks.clear();
            if at.since(since) >= ANEW_AFTER {
                self.begin(at);
            }
            return self.ended(at);
        }
        self.whole_since = None;
        self.trace_on(after);
        follow(&mut self.tracks, &things(&self.differing.by, &self.differing.lamps), after);
        let mut noticed = self.judge(at);
        noticed.extend(self.ended(at));
        noticed
    }

    /// Time went on, whether pictures came or not: motion of which nothing was seen for long is over, as far as anybody knows.
    pub fn tick(&mut self, now: Mono) -> Vec<Noticed> {
        self.ended(now)
    }

    /// How far it has come.
    #[must_use]
    pub fn stage(&self, now: Mono) -> Stage {
        match (self.last, self.learns_until) {
            (Some(last), Some(until)) if now.since(last) <= GAP => Stage::Learning(until),
            (Some(last), None) if now.since(last) <= GAP => Stage::Watching,
            _ => Stage::Waiting,
        }
    }

    /// How much moved of late at each place: 1 now, to a third in eight seconds.
    #[must_use]
    pub fn trace(&self) -> &[f32] {
        &self.trace
    }

    /// Whether a place moves always, as water does: what moves there is not told.
    #[must_use]
    pub fn always(&self, cell: usize) -> bool {
        self.ground.always(cell)
    }

    /// The share of a shape, by its place among those that are watched, that moves always, and is therefore not looked at; of a line, of
    /// the places under it.
    #[must_use]
    pub fn blind(&self, shape: usize) -> f64 {
        let under = self.under.get(shape).map_or(&[][..], Vec::as_slice);
        let blind = under.iter().filter(|cell| self.always(**cell)).count();
        blind as f64 / under.len().max(1) as f64
    }

    /// The trace fades, and goes on where places differ that are not alone: single ones are rain, or noise.
    fn trace_on(&mut self, after: f64) {
        let keep = (-after as f32 / FADES).exp();
        let differs = &self.differing.by;
        for (cell, trace) in self.trace.iter_mut().enumerate() {
            let (column, row) = (cell % COLUMNS, cell / COLUMNS);
            let around = (row.saturating_sub(1)..(row + 2).min(ROWS))
                .flat_map(|y| (column.saturating_sub(1)..(column + 2).min(COLUMNS)).map(move |x| y * COLUMNS + x));
            let moves = differs[cell] > 0.0 && around.filter(|near| differs[*near] > 0.0).count() >= 3;
            *trace = if moves { 1.0 } else { *trace * keep };
        }
    }

    /// What is usual is learned from here on.
    fn begin(&mut self, at: Mono) {
        self.ground.forget();
        self.tracks.clear();
        self.learns_until = Some(at + LEARNS_FOR);
        self.whole_since = None;
    }

    fn judge(&mut self, at: Mono) -> Vec<Noticed> {
        let mut noticed = Vec::new();
        self.over.retain(|(then, ..)| at.since(*then) < TOGETHER);
        for track in &mut self.tracks {
            let moves = track.moves();
            let (x, y) = track.at;
            let now = (x / COLUMNS as f64, y / ROWS as f64);
            for (index, shape) in self.shapes.iter().enumerate() {
                if track.length() < shape.least * ROWS as f64 {
                    continue;
                }
                match &shape.outline {
                    Outline::Area(corners) if moves && inside(corners, now) => {
                        if self.moving[index].replace(at).is_none() {
                            noticed.push(Noticed { shape: index, what: What::Begins });
                        }
                    }
                    Outline::Line(bends, way) => {
                        if !is_clear(bends, (x, y)) {
                            continue;
                        }
                        let before = track.sides.iter_mut().find(|(shape, _)| *shape == index);
                        let Some((_, before)) = before else {
                            track.sides.push((index, now));
                            continue;
                        };
                        let over = crossed(bends, *before, now);
                        // What is not known to move yet may still have come over.
                        if over.is_some() && !moves {
                            continue;
                        }
                        *before = now;
                        let Some(over) = over.filter(|over| way.takes(*over)) else { continue };
                        // A coat and the shoes under it, two who go hand in hand: one crossing.
                        let known =
                            self.over.iter().any(|(_, line, way, there)| *line == index && *way == over && near(*there, now));
                        self.over.push((at, index, over, now));
                        if !known {
                            noticed.push(Noticed { shape: index, what: What::Crossed(over) });
                        }
                    }
                    Outline::Area(_) => {}
                }
            }
        }
        noticed
    }

    /// Areas in which nothing moves any more.
    fn ended(&mut self, at: Mono) -> Vec<Noticed> {
        let mut noticed = Vec::new();
        for (shape, moving) in self.moving.iter_mut().enumerate() {
            if moving.is_some_and(|last| at.since(last) >= OVER_AFTER) {
                *moving = None;
                noticed.push(Noticed { shape, what: What::Ends });
            }
        }
        noticed
    }
}

/// The middle of a place, in shares of the picture.
#[must_use]
pub fn place(cell: usize) -> Place {
    ((cell % COLUMNS) as f64 / COLUMNS as f64 + 0.5 / COLUMNS as f64, (cell / COLUMNS) as f64 / ROWS as f64 + 0.5 / ROWS as f64)
}

/// Whether what went over a line there and there is the same, in one second.
#[must_use]
pub fn near(one: Place, other: Place) -> bool {
    ((one.0 - other.0) * COLUMNS as f64).hypot((one.1 - other.1) * ROWS as f64) < SAME_PLACE
}

/// The places of a shape.
fn under(shape: &Shape) -> Vec<usize> {
    match &shape.outline {
        Outline::Area(corners) => (0..CELLS).filter(|cell| inside(corners, place(*cell))).collect(),
        Outline::Line(bends, _) => bends.windows(2).flat_map(|side| along(side[0], side[1])).collect(),
    }
}

/// The places under a straight line.
fn along(from: Place, to: Place) -> Vec<usize> {
    let steps = COLUMNS * 2;
    let mut cells: Vec<usize> = (0..=steps)
        .map(|n| {
            let share = n as f64 / steps as f64;
            let (x, y) = (from.0 + (to.0 - from.0) * share, from.1 + (to.1 - from.1) * share);
            let column = ((x * COLUMNS as f64) as usize).min(COLUMNS - 1);
            ((y * ROWS as f64) as usize).min(ROWS - 1) * COLUMNS + column
        })
        .collect();
    cells.dedup();
    cells
}

/// Whether something is clearly on one side of a line, in places.
fn is_clear(bends: &[Place], at: (f64, f64)) -> bool {
    let scaled = |place: Place| (place.0 * COLUMNS as f64, place.1 * ROWS as f64);
    bends.windows(2).all(|side| to_the_right(scaled(side[0]), scaled(side[1]), at).abs() >= CLEAR)
}
