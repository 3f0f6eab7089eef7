//! Where and when the pattern is in the pictures.

use super::{CELLS, Captured, LONGEST, Seen};
use crate::Mono;
use std::ops::Range;
use std::time::Duration;

/// Steps of the search for the delay.
const STEP: i64 = 20_000;
/// A place follows the pattern from this correlation on,
const FOLLOWS: f64 = 0.6;
/// and when light changes it by as many levels of 255.
const LEAST_CONTRAST: f64 = 5.0;
/// The search begins when there are so many changes of light.
const CHANGES: usize = 5;
/// Changes of light that must be seen before capture times are told.
pub const LEAST_SEEN: usize = 8;

/// The pattern as it was found.
pub(super) struct Found {
    /// Microseconds from media time to our time, roughly: within a step of the search.
    pub rough: i64,
    /// The places that follow the pattern.
    pub cells: Vec<usize>,
    /// Light above dark, in levels.
    pub contrast: f64,
    /// The brightness of those places, picture by picture.
    pub signal: Vec<f64>,
}

/// A change of light between two pictures.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Edge {
    /// Which change.
    pub change: usize,
    /// The first picture with it.
    pub first: usize,
    /// The pictures about it, half way to the changes before and after.
    pub window: Range<usize>,
    /// Media times are captured from this many microseconds after,
    pub least: i64,
    /// to this many.
    pub most: i64,
}

/// Whether the screen was light at a moment.
fn lit(changes: &[(Mono, bool)], at: i64) -> bool {
    let before = changes.partition_point(|(change, _)| change.as_micros() as i64 <= at);
    before.checked_sub(1).and_then(|last| changes.get(last)).is_some_and(|(_, lit)| *lit)
}

/// Correlation of two series, and the slope of the second against the first.
fn correlation(light: &[f64], signal: &[f64]) -> (f64, f64) {
    let count = light.len().max(1) as f64;
    let (mean_light, mean) = (light.iter().sum::<f64>() / count, signal.iter().sum::<f64>() / count);
    let (mut both, mut own_light, mut own) = (0.0, 0.0, 0.0);
    for (a, b) in light.iter().zip(signal) {
        both += (a - mean_light) * (b - mean);
        own_light += (a - mean_light).powi(2);
        own += (b - mean).powi(2);
    }
    if own_light <= 0.0 || own <= 0.0 {
        return (0.0, 0.0);
    }
    (both / (own_light * own).sqrt(), both / own_light)
}

/// Searches all places and delays.
pub(super) fn find(changes: &[(Mono, bool)], pictures: &[&Seen]) -> Option<Found> {
    if changes.len() < CHANGES || pictures.len() < CHANGES {
        return None;
    }
    // No picture arrives before it is captured: the quickest bounds the delays of all.
    let latest = pictures.iter().map(|seen| seen.arrival.as_micros() as i64 - seen.media).min()?;
    let series: Vec<(usize, Vec<f64>)> = (0..CELLS)
        .map(|cell| (cell, pictures.iter().map(|seen| f64::from(seen.cells[cell])).collect::<Vec<f64>>()))
        .filter(|(_, values)| {
            let (least, most) = values.iter().fold((255.0, 0.0), |(a, b): (f64, f64), value| (a.min(*value), b.max(*value)));
            most - least >= LEAST_CONTRAST
        })
        .collect();
    let follows = |light: &[f64]| -> Vec<(usize, f64)> {
        let followed = series.iter().filter_map(|(cell, values)| {
            let (correlation, slope) = correlation(light, values);
            (correlation >= FOLLOWS && slope >= LEAST_CONTRAST).then_some((*cell, correlation * slope))
        });
        followed.collect()
    };
    let lights = |offset: i64| -> Vec<f64> {
        pictures.iter().map(|seen| f64::from(u8::from(lit(changes, seen.media + offset)))).collect()
    };
    let (mut best_score, mut best) = (0.0, None);
    for step in 0..=LONGEST.as_micros() as i64 / STEP {
        let offset = latest - step * STEP;
        let cells = follows(&lights(offset));
        let score: f64 = cells.iter().map(|(_, worth)| worth).sum();
        if score > best_score {
            (best_score, best) = (score, Some((offset, cells)));
        }
    }
    let (rough, cells) = best?;
    // Those that show it clearest: what only mirrors the light, or is half covered by it, blurs the moment.
    let most = cells.iter().map(|(_, worth)| *worth).fold(0.0, f64::max);
    let cells: Vec<usize> = cells.into_iter().filter(|(_, worth)| *worth >= most * 0.5).map(|(cell, _)| cell).collect();
    let mean = |seen: &&Seen| cells.iter().map(|cell| f64::from(seen.cells[*cell])).sum::<f64>() / cells.len() as f64;
    let signal: Vec<f64> = pictures.iter().map(mean).collect();
    let contrast = correlation(&lights(rough), &signal).1;
    Some(Found { rough, cells, contrast, signal })
}

/// The pictures between which the light changed, for every change that is seen.
pub(super) fn edges(changes: &[(Mono, bool)], pictures: &[&Seen], found: &Found) -> Vec<Edge> {
    let at = |index: usize| changes.get(index).map(|(at, _)| at.as_micros() as i64);
    let mut edges = Vec::new();
    for (change, (moment, to_light)) in changes.iter().enumerate() {
        let moment = moment.as_micros() as i64;
        // As far as half way to the changes before and after: there it is as it was, and as it became.
        let before = change.checked_sub(1).and_then(at).map_or(moment - 400_000, |before| i64::midpoint(before, moment));
        let after = at(change + 1).map_or(moment + 400_000, |after| i64::midpoint(after, moment));
        let place = |time: i64| pictures.partition_point(|seen| seen.media + found.rough < time);
        let (from, to) = (place(before), place(after));
        let Some(window) = found.signal.get(from..to).filter(|window| window.len() >= 2) else { continue };
        let (first, last) = (window[0], window[window.len() - 1]);
        let change_by = if *to_light { last - first } else { first - last };
        if change_by < LEAST_CONTRAST.max(found.contrast * 0.4) {
            continue;
        }
        let half = f64::midpoint(first, last);
        let is_light = |value: &f64| *value >= half;
        let Some(crossed) = window.iter().position(|value| is_light(value) == *to_light).filter(|crossed| *crossed > 0) else {
            continue;
        };
        let first = from + crossed;
        let (Some(dark), Some(light)) = (pictures.get(first - 1), pictures.get(first)) else { continue };
        edges.push(Edge { change, first, window: from..to, least: moment - light.media, most: moment - dark.media });
    }
    edges
}

/// What the changes together say of when pictures were captured: the times that most of them allow.
pub(super) fn captured(edges: &[Edge]) -> Option<Captured> {
    if edges.len() < LEAST_SEEN {
        return None;
    }
    let mut bounds: Vec<(i64, i32)> = edges.iter().flat_map(|edge| [(edge.least, 1), (edge.most, -1)]).collect();
    bounds.sort_unstable();
    let (mut open, mut best) = (0, (0, 0i64, 0i64));
    for pair in bounds.windows(2) {
        open += pair[0].1;
        if open > best.0 {
            best = (open, pair[0].0, pair[1].0);
        }
    }
    let (agree, least, most) = best;
    let micros = i64::midpoint(least, most);
    // Those that do not agree were written or stamped unevenly: by as much it may all be off.
    let apart = |edge: &Edge| (edge.least - micros).max(micros - edge.most).max(0);
    let uneven = edges.iter().map(apart).sum::<i64>() / edges.len() as i64;
    let error = Duration::from_micros(((most - least) / 2 + 2 * uneven).unsigned_abs()).max(Duration::from_millis(1));
    (agree * 2 >= edges.len() as i32).then_some(Captured { micros, error, agree: (agree as usize, edges.len()) })
}
