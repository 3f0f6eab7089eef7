//! A device's clock, read far below the one-second resolution in which it is told.
//!
//! A device says its time in whole seconds. An answer `s` to a question sent at `a` and answered at `b`
//! (both by our wall clock) means that the device read a time in `[s, s + 1)` at some moment in
//! `[a, b]`: its offset lies in `[s - b, s + 1 - a)`. Questions are timed so that the device is asked just
//! where its second would turn if the offset were in the middle of what is still possible: each answer
//! then halves what is possible, down to about the round trip. The bound is what is left, so it holds
//! whatever the path does in the two directions.

use crate::Wall;
use std::time::Duration;

/// Width at which asking further gains little.
const NARROW: i64 = 4_000;
/// Questions after which it ends whatever it has: a second halved ten times is a millisecond.
const MOST_QUESTIONS: u32 = 14;
const SECOND: i64 = 1_000_000;

/// How far a device's clock is ahead of ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ClockOffset {
    /// Microseconds that the device's clock is ahead; below zero it is behind.
    pub micros: i64,
    /// The true offset is within this of it, unless a clock was set meanwhile.
    pub error: Duration,
}

/// Estimates a device's offset from its answers.
///
/// ```
/// use lattice_core::{ClockProbe, Wall};
/// let mut probe = ClockProbe::default();
/// let mut now = Wall::from_unix_micros(1_795_000_000_123_456);
/// while let Some(at) = probe.ask_at(now) {
///     now = at.offset(2_000); // the device is 7.25 s ahead, 2 ms away
///     let seconds = (now.as_unix_micros() + 7_250_000).div_euclid(1_000_000);
///     probe.on_answer(at, now.offset(2_000), Wall::from_unix_micros(seconds * 1_000_000));
/// }
/// let offset = probe.offset().unwrap();
/// assert!((offset.micros - 7_250_000).abs() <= offset.error.as_micros() as i64);
/// assert!(offset.error.as_millis() < 10);
/// ```
#[derive(Debug, Clone, Copy, Default)]
pub struct ClockProbe {
    possible: Option<(i64, i64)>,
    least_trip: Option<i64>,
    questions: u32,
    /// Answers that contradicted what was known: the clock was set, or the device is not to be believed.
    contradictions: u32,
}

impl ClockProbe {
    /// When to ask next, not before `now`; `None` when enough is known or asking more is of no use.
    #[must_use]
    pub fn ask_at(&self, now: Wall) -> Option<Wall> {
        let Some((least, most)) = self.possible else { return (self.questions < MOST_QUESTIONS).then_some(now) };
        let trip = self.least_trip.unwrap_or(0);
        if self.questions >= MOST_QUESTIONS || most - least <= NARROW.max(trip + trip / 4) {
            return None;
        }
        // With the middle as offset, and half the trip on the way, the device's second turns on arrival.
        let middle = i64::midpoint(least, most);
        let on_device = now.as_unix_micros() + trip / 2 + middle;
        let until_turn = SECOND - on_device.rem_euclid(SECOND);
        Some(now.offset(until_turn))
    }

    /// The device said `told` (whole seconds) to a question sent at `sent`, answered at `received`.
    pub fn on_answer(&mut self, sent: Wall, received: Wall, told: Wall) {
        self.questions += 1;
        let trip = received.micros_since(sent).max(0);
        self.least_trip = Some(self.least_trip.map_or(trip, |least| least.min(trip)));
        let least = told.micros_since(received);
        let most = told.micros_since(sent) + SECOND;
        let narrowed = self.possible.map_or((least, most), |(a, b)| (a.max(least), b.min(most)));
        if narrowed.0 > narrowed.1 {
            self.contradictions += 1;
            self.possible = Some((least, most));
        } else {
            self.possible = Some(narrowed);
        }
    }

    /// What is known; `None` before an answer, or when answers contradict each other again and again.
    #[must_use]
    pub fn offset(&self) -> Option<ClockOffset> {
        let (least, most) = self.possible.filter(|_| self.contradictions < 2)?;
        let half = (most - least + 1) / 2;
        Some(ClockOffset { micros: i64::midpoint(least, most), error: Duration::from_micros(half.unsigned_abs()) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Asks a device with this offset over a path with these delays; gives the offset found and how long it took.
    fn ask(offset: i64, start: i64, delays: &[(i64, i64)]) -> (ClockOffset, i64) {
        let mut probe = ClockProbe::default();
        let mut now = Wall::from_unix_micros(start);
        let mut delays = delays.iter().cycle();
        while let Some(at) = probe.ask_at(now) {
            let (there, back) = *delays.next().unwrap();
            let read = at.offset(there);
            let seconds = (read.as_unix_micros() + offset).div_euclid(SECOND);
            now = read.offset(back);
            probe.on_answer(at, now, Wall::from_unix_micros(seconds * SECOND));
        }
        (probe.offset().unwrap(), now.as_unix_micros() - start)
    }

    proptest! {
        #[test]
        fn the_bound_holds_whatever_the_path_does(
            offset in -86_400_000_000_i64..86_400_000_000,
            start in 1_700_000_000_000_000_i64..1_900_000_000_000_000,
            delays in proptest::collection::vec((100_i64..40_000, 100_i64..40_000), 1..8),
        ) {
            let (found, _) = ask(offset, start, &delays);
            prop_assert!((found.micros - offset).unsigned_abs() <= found.error.as_micros() as u64, "{found:?} for {offset}");
        }

        #[test]
        fn at_five_milliseconds_round_trip_it_is_far_within_twenty(offset in -500_000_000_i64..500_000_000, start in 1_700_000_000_000_000_i64..1_700_000_100_000_000) {
            let (found, took) = ask(offset, start, &[(2_500, 2_500), (2_000, 3_000), (3_500, 2_500)]);
            prop_assert!(found.error <= Duration::from_millis(10), "{found:?}");
            prop_assert!((found.micros - offset).abs() <= 10_000);
            prop_assert!(took <= 15 * SECOND);
        }
    }

    #[test]
    fn a_clock_that_is_set_meanwhile_is_noticed() {
        let mut probe = ClockProbe::default();
        let at = |micros: i64| Wall::from_unix_micros(1_800_000_000_000_000 + micros);
        probe.on_answer(at(0), at(1_000), at(0));
        probe.on_answer(at(SECOND), at(SECOND + 1_000), at(90 * SECOND));
        assert!(probe.offset().unwrap().micros > 80 * SECOND, "the newest counts");
        probe.on_answer(at(2 * SECOND), at(2 * SECOND + 1_000), at(0));
        assert_eq!(probe.offset(), None, "this clock jumps about");
    }
}
