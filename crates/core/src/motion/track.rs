//! What moves, from picture to picture: places that differ are joined into things, and things are followed.

use super::{CELLS, COLUMNS, ROWS};

/// Places of a thing, at least; fewer are enough for lamps.
const LEAST_CELLS: usize = 3;
/// Things of a picture that are followed, at most: the largest.
const MOST_THINGS: usize = 48;
/// Something that is not seen for so many seconds is followed no more.
const LOST_AFTER: f64 = 0.7;
/// Something moves when it was followed for so many seconds,
const LEAST_AGE: f64 = 0.3;
/// has come so many places away from where it was seen first,
const LEAST_WAY: f64 = 2.5;
/// both of its ends have, by so many,
const LEAST_OF_ENDS: f64 = 1.5;
/// and that is at least this share of all its way: what sways comes nowhere.
const STRAIGHT: f64 = 0.4;
/// No more than this share of it is a jump from one picture to the next.
const MOST_OF_A_JUMP: f64 = 0.5;
/// That way is taken in steps of so many seconds.
const STEP: f64 = 0.5;
/// What was seen where something is expected may be this far off, in places.
const REACH: f64 = 1.0;
/// A thing that is larger than what was followed by so many times and places has something else in it.
const LARGER: (f64, f64) = (1.4, 1.5);
/// It is that large itself after so many seconds.
const GROWN_AFTER: f64 = 1.2;
/// The speed of something is known when it was followed alone for so many seconds.
const KNOWN_AFTER: f64 = 0.8;
/// It is measured over so many of the last seconds.
const SPEED_OVER: f64 = 2.0;
/// What is one with others and was not known before is a piece of them after so many seconds;
const PIECE_AFTER: f64 = 0.4;
/// what is known is one with something older when they go alike (in places a second) for so long,
const ONE_AFTER: f64 = 3.0;
const ALIKE: f64 = 0.25;
/// or when it is not where it would have to be so long,
const ASTRAY: f64 = 1.5;
/// or in any case after so long.
const ONE_AT_LAST: f64 = 6.0;
/// The way is what was gone in this many of the last seconds.
const LOOKS_BACK: f64 = 4.0;

/// A box around places, in places: from (left, top) to before (right, bottom).
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Bounds {
    pub left: f64,
    pub top: f64,
    pub right: f64,
    pub bottom: f64,
}

impl Bounds {
    pub fn centre(&self) -> (f64, f64) {
        (f64::midpoint(self.left, self.right), f64::midpoint(self.top, self.bottom))
    }

    pub fn size(&self) -> (f64, f64) {
        (self.right - self.left, self.bottom - self.top)
    }

    fn moved(&self, by: (f64, f64)) -> Self {
        Self { left: self.left + by.0, top: self.top + by.1, right: self.right + by.0, bottom: self.bottom + by.1 }
    }

    fn wider(&self, by: f64) -> Self {
        Self { left: self.left - by, top: self.top - by, right: self.right + by, bottom: self.bottom + by }
    }

    fn common(&self, other: &Self) -> f64 {
        let across = self.right.min(other.right) - self.left.max(other.left);
        let down = self.bottom.min(other.bottom) - self.top.max(other.top);
        if across <= 0.0 || down <= 0.0 { 0.0 } else { across * down }
    }
}

/// Places that differ and belong together.
#[derive(Debug, Clone, Copy)]
pub(super) struct Thing {
    pub frame: Bounds,
    /// Their middle, by how much each differs.
    pub centre: (f64, f64),
    weight: f64,
    cells: usize,
}

/// Joins places that differ and touch, corners too. How much each differs is above 0, and 0 where it does not.
pub(super) fn things(differs: &[f32; CELLS], lamps: &[bool; CELLS]) -> Vec<Thing> {
    let mut seen = [false; CELLS];
    let (mut all, mut stack) = (Vec::new(), Vec::new());
    for first in 0..CELLS {
        if differs[first] <= 0.0 || seen[first] {
            continue;
        }
        seen[first] = true;
        stack.push(first);
        let (mut least, mut most, mut cells) = ((COLUMNS, ROWS), (0, 0), 0);
        let (mut weight, mut sums, mut lamp) = (0.0, (0.0, 0.0), false);
        while let Some(cell) = stack.pop() {
            let (column, row) = (cell % COLUMNS, cell / COLUMNS);
            let by = f64::from(differs[cell]);
            cells += 1;
            lamp |= lamps[cell];
            weight += by;
            sums = (sums.0 + by * (column as f64 + 0.5), sums.1 + by * (row as f64 + 0.5));
            least = (least.0.min(column), least.1.min(row));
            most = (most.0.max(column), most.1.max(row));
            for y in row.saturating_sub(1)..(row + 2).min(ROWS) {
                for x in column.saturating_sub(1)..(column + 2).min(COLUMNS) {
                    let next = y * COLUMNS + x;
                    if differs[next] > 0.0 && !seen[next] {
                        seen[next] = true;
                        stack.push(next);
                    }
                }
            }
        }
        if cells >= LEAST_CELLS || lamp {
            let frame =
                Bounds { left: least.0 as f64, top: least.1 as f64, right: most.0 as f64 + 1.0, bottom: most.1 as f64 + 1.0 };
            all.push(Thing { frame, centre: (sums.0 / weight, sums.1 / weight), weight, cells });
        }
    }
    all.sort_by_key(|thing| std::cmp::Reverse(thing.cells));
    all.truncate(MOST_THINGS);
    all
}

impl Thing {
    /// One thing of two.
    fn with(&self, other: &Self) -> Self {
        let weight = self.weight + other.weight;
        let mean = |a: f64, b: f64| (a * self.weight + b * other.weight) / weight;
        Self {
            frame: Bounds {
                left: self.frame.left.min(other.frame.left),
                top: self.frame.top.min(other.frame.top),
                right: self.frame.right.max(other.frame.right),
                bottom: self.frame.bottom.max(other.frame.bottom),
            },
            centre: (mean(self.centre.0, other.centre.0), mean(self.centre.1, other.centre.1)),
            weight,
            cells: self.cells + other.cells,
        }
    }
}

/// Where something was, at its age.
#[derive(Debug, Clone, Copy)]
struct Was {
    age: f64,
    at: (f64, f64),
    frame: Bounds,
    alone: bool,
}

/// Something that is followed.
#[derive(Debug, Clone)]
pub(super) struct Track {
    pub at: (f64, f64),
    /// Its width and height.
    size: (f64, f64),
    /// Places a second.
    speed: (f64, f64),
    age: f64,
    /// For so many seconds it was followed by itself,
    alone: f64,
    /// or not seen,
    unseen: f64,
    /// or one thing with others,
    joined: f64,
    /// or not where it would have to be by its speed.
    astray: f64,
    /// Where it was of late, the oldest first.
    trail: Vec<Was>,
    /// On which side of each line it was last, and where; by the number of the line's shape.
    pub sides: Vec<(usize, (f64, f64))>,
}

impl Track {
    fn new(thing: &Thing) -> Self {
        Self {
            at: thing.centre,
            size: thing.frame.size(),
            speed: (0.0, 0.0),
            age: 0.0,
            alone: 0.0,
            unseen: 0.0,
            joined: 0.0,
            astray: 0.0,
            trail: vec![Was { age: 0.0, at: thing.centre, frame: thing.frame, alone: true }],
            sides: Vec::new(),
        }
    }

    /// Whether it goes somewhere.
    pub fn moves(&self) -> bool {
        let (Some(first), Some(last)) = (self.trail.first(), self.trail.last()) else { return false };
        let far = |a: (f64, f64), b: (f64, f64)| (a.0 - b.0).hypot(a.1 - b.1);
        // In steps of some time: trembling is no way.
        let (mut way, mut from) = (0.0, *first);
        for was in &self.trail {
            if was.age - from.age >= STEP {
                way += far(from.at, was.at);
                from = *was;
            }
        }
        let come = far(first.at, last.at);
        // What only shows more or less of itself has one end that stays.
        let (across, down) = (last.at.0 - first.at.0, last.at.1 - first.at.1);
        let (a, b) = (&first.frame, &last.frame);
        let ends = if across.abs() > down.abs() {
            [b.left - a.left, b.right - a.right].map(|by| by * across.signum())
        } else {
            [b.top - a.top, b.bottom - a.bottom].map(|by| by * down.signum())
        };
        let both = ends.iter().all(|by| *by >= LEAST_OF_ENDS);
        // Nor is one that jumped from here to there one thing.
        let jump = self.trail.windows(2).map(|pair| far(pair[0].at, pair[1].at)).fold(0.0, f64::max);
        self.unseen == 0.0
            && self.age >= LEAST_AGE
            && come >= LEAST_WAY
            && come >= way * STRAIGHT
            && jump <= come * MOST_OF_A_JUMP
            && both
    }

    /// Its longer side, in places; one is as high as it is wide in a picture of 16:9.
    pub const fn length(&self) -> f64 {
        self.size.0.max(self.size.1)
    }

    /// The box around it.
    pub fn frame(&self) -> Bounds {
        let (x, y) = self.at;
        let (w, h) = (self.size.0 / 2.0, self.size.1 / 2.0);
        Bounds { left: x - w, top: y - h, right: x + w, bottom: y + h }
    }

    fn expected(&self, after: f64) -> Bounds {
        self.frame().moved((self.speed.0 * after, self.speed.1 * after))
    }

    const fn is_known(&self) -> bool {
        self.alone >= KNOWN_AFTER
    }

    /// Whether a frame has room for more than this.
    fn is_less_than(&self, frame: &Bounds) -> bool {
        let (width, height) = frame.size();
        width > self.size.0 * LARGER.0 + LARGER.1 || height > self.size.1 * LARGER.0 + LARGER.1
    }

    fn goes_to(&mut self, at: (f64, f64), seen: Option<Bounds>) {
        self.at = at;
        let alone = seen.is_some();
        self.trail.push(Was { age: self.age, at, frame: seen.unwrap_or_else(|| self.frame()), alone });
        let oldest = self.age - LOOKS_BACK;
        self.trail.retain(|was| was.age >= oldest);
        if alone && let Some(speed) = self.measured() {
            self.speed = speed;
        }
    }

    /// It is this thing.
    fn is(&mut self, thing: &Thing, after: f64) {
        (self.joined, self.astray) = (0.0, 0.0);
        self.alone += after;
        let keep = (after / 0.3).min(1.0);
        let (width, height) = thing.frame.size();
        self.size.0 += (width - self.size.0) * keep;
        self.size.1 += (height - self.size.1) * keep;
        self.goes_to(thing.centre, Some(thing.frame));
    }

    /// It is somewhere in this thing.
    fn is_in(&mut self, frame: &Bounds, expected: (f64, f64), after: f64) {
        self.joined += after;
        let within = (expected.0.clamp(frame.left, frame.right), expected.1.clamp(frame.top, frame.bottom));
        self.astray = if within == expected { 0.0 } else { self.astray + after };
        self.goes_to(within, None);
    }

    /// The slope of where it was while it was alone, by least squares; `None` where that is too short.
    fn measured(&self) -> Option<(f64, f64)> {
        let from = self.age - SPEED_OVER;
        let own = || self.trail.iter().filter(|was| was.alone && was.age >= from);
        let count = own().count() as f64;
        let mean = |of: fn(&Was) -> f64| own().map(of).sum::<f64>() / count.max(1.0);
        let (t, x, y) = (mean(|was| was.age), mean(|was| was.at.0), mean(|was| was.at.1));
        let spread: f64 = own().map(|was| (was.age - t).powi(2)).sum();
        (count >= 3.0 && spread > 0.0).then(|| {
            let slope = |of: fn(&Was) -> f64, mean: f64| own().map(|was| (was.age - t) * (of(was) - mean)).sum::<f64>() / spread;
            (slope(|was| was.at.0, x), slope(|was| was.at.1, y))
        })
    }
}

/// Follows things from one picture to the next, which comes so many seconds after.
pub(super) fn follow(tracks: &mut Vec<Track>, things: &[Thing], after: f64) {
    let expected: Vec<Bounds> = tracks.iter().map(|track| track.expected(after)).collect();
    // Each track is in the thing that it has most in common with.
    let taken: Vec<Option<usize>> = expected
        .iter()
        .map(|frame| {
            let wide = frame.wider(REACH);
            let common = |thing: &Thing| wide.common(&thing.frame) + 10.0 * frame.common(&thing.frame);
            let all = things.iter().enumerate().map(|(n, thing)| (n, common(thing)));
            all.filter(|(_, common)| *common > 0.0).max_by(|a, b| a.1.total_cmp(&b.1)).map(|(n, _)| n)
        })
        .collect();
    let mut covered = vec![false; things.len()];
    taken.iter().flatten().for_each(|thing| covered[*thing] = true);
    for (n, track) in tracks.iter_mut().enumerate() {
        track.age += after;
        let Some(own) = taken[n] else {
            track.unseen += after;
            track.goes_to(expected[n].centre(), None);
            continue;
        };
        track.unseen = 0.0;
        let alone = taken.iter().filter(|taken| **taken == Some(own)).count() == 1;
        let mut thing = things[own];
        // A thing that falls apart, like a coat and the shoes under it, is one as long as its pieces are near.
        for (piece, other) in things.iter().enumerate().filter(|_| alone) {
            let both = thing.with(other);
            if !covered[piece] && expected[n].wider(1.0).common(&other.frame) > 0.0 && !track.is_less_than(&both.frame) {
                covered[piece] = true;
                thing = both;
            }
        }
        // What is suddenly larger has something else in it; what stays so was it.
        let more = track.is_known() && track.is_less_than(&thing.frame) && track.joined < GROWN_AFTER;
        if alone && !more {
            track.is(&thing, after);
        } else {
            track.is_in(&thing.frame, expected[n].centre(), after);
        }
    }
    part(tracks, &taken);
    for (thing, _) in things.iter().zip(&covered).filter(|(_, covered)| !**covered) {
        let mut new = Track::new(thing);
        // What comes out of something else was with it on one side of the lines.
        let near = tracks.iter().filter(|track| track.joined > 0.0 && track.frame().wider(2.0).common(&thing.frame) > 0.0);
        if let Some(parent) = near.max_by(|a, b| a.joined.total_cmp(&b.joined)) {
            new.sides.clone_from(&parent.sides);
        }
        tracks.push(new);
    }
    tracks.truncate(MOST_THINGS * 2);
}

/// What was lost is followed no more; nor what is one with something older for good: a piece of it, or its shadow.
fn part(tracks: &mut Vec<Track>, taken: &[Option<usize>]) {
    let all: Vec<(Option<usize>, f64, (f64, f64))> =
        tracks.iter().zip(taken).map(|(track, taken)| (*taken, track.age, track.speed)).collect();
    let mut gone = vec![false; all.len()];
    for (own, track) in tracks.iter().enumerate() {
        let (thing, age, speed) = all[own];
        let older: Vec<usize> = (0..all.len())
            .filter(|other| {
                !gone[*other]
                    && *other != own
                    && thing.is_some()
                    && all[*other].0 == thing
                    && (all[*other].1, own) > (age, *other)
            })
            .collect();
        let alike = |other: &usize| (all[*other].2.0 - speed.0).hypot(all[*other].2.1 - speed.1) < ALIKE;
        let one = !track.is_known() && track.joined >= PIECE_AFTER
            || track.astray >= ASTRAY
            || track.joined >= ONE_AFTER && older.iter().any(alike)
            || track.joined >= ONE_AT_LAST;
        gone[own] = track.unseen >= LOST_AFTER || one && !older.is_empty();
    }
    let mut gone = gone.into_iter();
    tracks.retain(|_| gone.next() != Some(true));
}
