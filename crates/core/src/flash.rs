//! The flash probe: latency from glass to glass, by a camera that looks at the operator's screen.
//!
//! The screen turns light and dark in a [`Pattern`] that nothing else in a room has. Each decoded picture comes in as the
//! brightness of [`CELLS`] places with its media time; the pattern is searched in them ([`search`]), and where it is found
//! every change of light puts a bound on when pictures were captured: the last picture without it was captured before it,
//! the first with it after. Ten flashes are twenty such bounds at differing places between two pictures, which together
//! say it to a fraction of a frame period, also where a camera stamps its pictures long after it took them.
//!
//! Changes of light count from when they were written to the terminal, as pictures do when they are drawn: what the
//! terminal and the monitor take is in both and falls out.

mod search;
#[cfg(test)]
mod tests;

pub use search::LEAST_SEEN;

use crate::Mono;
use std::collections::VecDeque;
use std::time::Duration;

/// Columns that a picture is looked at in.
pub const COLUMNS: usize = 16;
/// Rows that a picture is looked at in.
pub const ROWS: usize = 9;
/// Places of a picture, row by row from the top left.
pub const CELLS: usize = COLUMNS * ROWS;
/// Flashes of a probe.
pub const FLASHES: usize = 10;
/// No picture shows the light later than this.
pub const LONGEST: Duration = Duration::from_secs(5);

/// A flash is no shorter than this, so that there are never more than three in a second: more can harm people.
const SHORTEST_STEP: Duration = Duration::from_millis(120);
/// Frame periods of a step: two whole pictures see it.
const FRAMES_A_STEP: f64 = 2.5;
/// It is dark for so long before the first.
const LEAD: Duration = Duration::from_millis(1200);

/// When the screen turns light and dark.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern {
    /// Light at the first, dark at the second, and so on.
    changes: Vec<Duration>,
}

impl Pattern {
    /// A pattern for a stream with this time between pictures. The same seed gives the same; lengths differ from flash to
    /// flash, and so do their places between two pictures.
    #[must_use]
    pub fn new(seed: u64, frame_period: Duration) -> Self {
        let step = frame_period.mul_f64(FRAMES_A_STEP).max(SHORTEST_STEP);
        let mut state = seed ^ 0x9e37_79b9_7f4a_7c15;
        let mut random = move |below: u64| {
            // SplitMix64
            state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
            let mut mixed = (state ^ (state >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
            (mixed ^ (mixed >> 31)) % below
        };
        let mut at = LEAD;
        let mut changes = Vec::with_capacity(FLASHES * 2);
        for _ in 0..FLASHES * 2 {
            changes.push(at);
            let part = frame_period.mul_f64(random(1000) as f64 / 1000.0);
            at += step * (2 + random(3) as u32) + part;
        }
        Self { changes }
    }

    /// Whether the screen is light this long after the begin.
    #[must_use]
    pub fn lit(&self, since: Duration) -> bool {
        self.changes.partition_point(|change| *change <= since) % 2 == 1
    }

    /// When it changes next, counted from the begin; `None` after the last change.
    #[must_use]
    pub fn next(&self, since: Duration) -> Option<Duration> {
        self.changes.get(self.changes.partition_point(|change| *change <= since)).copied()
    }

    /// Flashes begun so far.
    #[must_use]
    pub fn begun(&self, since: Duration) -> usize {
        self.changes.partition_point(|change| *change <= since).div_ceil(2)
    }

    /// From the begin until the last flash ends.
    #[must_use]
    pub fn length(&self) -> Duration {
        self.changes.last().copied().unwrap_or_default()
    }
}

/// A picture as the probe sees it.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Seen {
    number: u64,
    /// Microseconds on the stream's own scale.
    media: i64,
    arrival: Mono,
    /// When it could be seen: drawn, or else decoded.
    visible: Mono,
    drawn: bool,
    cells: Box<[u8; CELLS]>,
}

/// One flash.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Flash {
    /// When the screen turned light.
    pub at: Mono,
    /// How long after that a picture with it was on the screen (or decoded, where none was drawn): the wait for the next
    /// picture is in it. `None` where no picture shows it.
    pub seen_after: Option<Duration>,
}

/// When pictures were captured, as the flashes tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Captured {
    /// Microseconds from the stream's media time to our monotonic one.
    pub micros: i64,
    /// How far that may be off.
    pub error: Duration,
    /// Changes of light that agree with it, of those that were seen.
    pub agree: (usize, usize),
}

/// How a probe goes.
#[derive(Debug, Clone, PartialEq)]
pub struct FlashReading {
    /// It still runs.
    pub running: bool,
    /// The flashes so far.
    pub flashes: Vec<Flash>,
    /// Pictures looked at.
    pub pictures: usize,
    /// The share of the picture in which the pattern is seen; `None` where it is not found.
    pub share: Option<f64>,
    /// How much brighter that is in the light, in levels of 255.
    pub contrast: f64,
    /// Pictures about each flash: when they could be seen against when the screen turned light, in microseconds, and how
    /// bright the places with the pattern were, of 255. Empty while it runs.
    pub around: Vec<(i64, f64)>,
    /// When pictures were captured; `None` before enough flashes are seen.
    pub captured: Option<Captured>,
    /// How long after the light a picture is stamped, in microseconds, and how far that may be off: what the camera takes
    /// before its clock tells of a picture. `None` where it has no clock.
    pub before_stamp: Option<(i64, Duration)>,
}

impl FlashReading {
    /// Least, median and longest of the times in which flashes were seen; `None` before the first.
    #[must_use]
    pub fn seen_after(&self) -> Option<(Duration, Duration, Duration)> {
        let mut seen: Vec<Duration> = self.flashes.iter().filter_map(|flash| flash.seen_after).collect();
        seen.sort();
        Some((*seen.first()?, *seen.get(seen.len() / 2)?, *seen.last()?))
    }
}

/// Pictures remembered: two minutes at 60 frames/s.
const PICTURES: usize = 7200;

/// A picture that was skipped for a newer one: that is one of so many after it.
const NEWER: usize = 8;

/// Gathers a probe's changes of light and pictures.
#[derive(Debug, Clone, Default)]
pub struct FlashProbe {
    /// When the screen changed, and whether to light.
    changes: Vec<(Mono, bool)>,
    pictures: VecDeque<Seen>,
    ended: bool,
}

impl FlashProbe {
    /// The screen turned light or dark.
    pub fn on_light(&mut self, at: Mono, lit: bool) {
        if self.changes.last().is_none_or(|(_, before)| *before != lit) && (lit || !self.changes.is_empty()) {
            self.changes.push((at, lit));
        }
    }

    /// A picture came out of the decoder: its media time in microseconds, when its last packet came, the brightness of its
    /// places.
    pub fn on_picture(&mut self, number: u64, media: i64, arrival: Mono, decoded: Mono, cells: Box<[u8; CELLS]>) {
        if self.ended {
            return;
        }
        if self.pictures.len() == PICTURES {
            self.pictures.pop_front();
        }
        self.pictures.push_back(Seen { number, media, arrival, visible: decoded, drawn: false, cells });
    }

    /// The picture was written to the terminal.
    pub fn on_drawn(&mut self, number: u64, at: Mono) {
        if let Some(seen) = self.pictures.iter_mut().rev().take(64).find(|seen| seen.number == number && !seen.drawn) {
            (seen.visible, seen.drawn) = (at, true);
        }
    }

    /// No more flashes and pictures come.
    pub const fn end(&mut self) {
        self.ended = true;
    }

    /// Searches what came so far. This takes a while (milliseconds): once a second is enough.
    #[must_use]
    pub fn read(&self) -> FlashReading {
        let pictures: Vec<&Seen> = self.pictures.iter().collect();
        let found = search::find(&self.changes, &pictures);
        let edges = found.as_ref().map(|found| search::edges(&self.changes, &pictures, found)).unwrap_or_default();
        let lights = self.changes.iter().enumerate().filter(|(_, (_, lit))| *lit);
        let mut around = Vec::new();
        for edge in edges.iter().filter(|_| self.ended) {
            let (Some((at, true)), Some(found)) = (self.changes.get(edge.change), &found) else { continue };
            let near = pictures.iter().zip(&found.signal).take(edge.window.end).skip(edge.window.start);
            around.extend(near.map(|(seen, bright)| (seen.visible.micros_since(*at), *bright)));
        }
        let flash = |(index, (at, _)): (usize, &(Mono, bool))| {
            let edge = edges.iter().find(|edge| edge.change == index);
            // Of pictures in quick succession only the newest is drawn: the first that was.
            let from = edge.and_then(|edge| pictures.get(edge.first..));
            let drawn = from.and_then(|from| from.iter().take(NEWER).find(|seen| seen.drawn).or(from.first()));
            let visible = drawn.map(|seen| seen.visible);
            Flash { at: *at, seen_after: visible.map(|visible| visible.since(*at)) }
        };
        FlashReading {
            running: !self.ended,
            flashes: lights.map(flash).collect(),
            pictures: pictures.len(),
            share: found.as_ref().map(|found| found.cells.len() as f64 / CELLS as f64),
            contrast: found.as_ref().map_or(0.0, |found| found.contrast),
            around,
            captured: search::captured(&edges),
            before_stamp: None,
        }
    }
}
