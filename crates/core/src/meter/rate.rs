use crate::{ClockRate, Mono, Ticks};
use std::collections::VecDeque;
use std::time::Duration;

/// The time that rates are taken over.
const WINDOW: Duration = Duration::from_secs(5);
/// Most events in a window: 5 s of 1000 pictures a second, the most any stream is believed to send.
const MAX_EVENTS: usize = 5000;

/// Events per second over the last 5 s: arrived, decoded and shown rates.
///
/// Each event stands for the interval since the one before it, so that the figure does not jump as
/// events enter and leave, and a burst after a stall counts with the stall it ends: late units never
/// read as a high rate.
#[derive(Debug, Clone, Default)]
pub struct EventRate {
    events: VecDeque<Mono>,
}

impl EventRate {
    /// An event happened.
    pub fn on_event(&mut self, at: Mono) {
        while self.events.len() >= MAX_EVENTS || self.events.get(1).is_some_and(|second| at.since(*second) > WINDOW) {
            self.events.pop_front();
        }
        self.events.push_back(at);
    }

    /// Forgets all.
    pub fn clear(&mut self) {
        self.events.clear();
    }

    /// Events per second; `None` before two events, zero when all are older than the window.
    #[must_use]
    pub fn per_second(&self, now: Mono) -> Option<f64> {
        let (first, last) = (*self.events.front()?, *self.events.back()?);
        let intervals = self.events.len().checked_sub(1).filter(|n| *n > 0)?;
        let period = last.since(first) / intervals as u32;
        // Up to one period without an event is no slowing yet.
        let end = if now.since(last) <= period { last } else { now.back(period) };
        let start = first.max(end.back(WINDOW));
        let span = end.since(start).as_secs_f64();
        if span <= 0.0 {
            return None;
        }
        let shares = self.events.iter().zip(self.events.iter().skip(1)).map(|(from, to)| {
            let whole = to.since(*from).as_secs_f64();
            let inside = (*to).min(end).since((*from).max(start)).as_secs_f64();
            if whole > 0.0 { inside / whole } else { f64::from(u8::from(*to > start && *to <= end)) }
        });
        Some(shares.sum::<f64>() / span)
    }
}

/// The sent rate: frames per second of media time, over units that arrived in the last 5 s.
///
/// Timestamps are put in order first, so that B-frames do no harm. A step of several frame periods
/// counts as several frames where packets were lost on it, and as one where none were: then the
/// camera made no frame there.
#[derive(Debug, Clone)]
pub struct MediaRate {
    rate: ClockRate,
    units: VecDeque<(Mono, i64, bool)>,
    newest: Option<i64>,
    reordered: bool,
    /// The first unit of this sequence of timestamps. Servers begin with a keyframe that they kept, and go on with what is live:
    /// the step from it says nothing of the camera.
    first: Option<i64>,
}

/// A step from the first unit that is so many times the usual one leads from a kept keyframe into what is live.
const KEPT: i64 = 3;

/// With B-frames, units near both ends of the window whose neighbours in time are not in it: one
/// anchor and the frames between two anchors, which are three at most in practice.
const RAGGED: usize = 4;

impl MediaRate {
    /// No unit yet.
    #[must_use]
    pub const fn new(rate: ClockRate) -> Self {
        Self { rate, units: VecDeque::new(), newest: None, reordered: false, first: None }
    }

    /// A unit arrived; `gap_before` says that packets were lost before it.
    pub fn on_unit(&mut self, arrival: Mono, timestamp: i64, gap_before: bool) {
        if self.units.len() >= MAX_EVENTS {
            self.units.pop_front();
        }
        self.reordered |= self.newest.is_some_and(|newest| timestamp < newest);
        self.newest = self.newest.max(Some(timestamp));
        self.first.get_or_insert(timestamp);
        self.units.push_back((arrival, timestamp, gap_before));
    }

    /// How many units are in the window.
    #[must_use]
    pub fn units(&self) -> usize {
        self.units.len()
    }

    /// A new sequence of timestamps begins.
    pub fn restart(&mut self) {
        self.units.clear();
        (self.newest, self.first) = (None, None);
        self.reordered = false;
    }

    /// The usual distance of frames in media time: the median over the units of the window; `None` with fewer than three.
    #[must_use]
    pub fn interval(&self) -> Option<Duration> {
        let mut times: Vec<i64> = self.units.iter().map(|(_, timestamp, _)| *timestamp).collect();
        times.sort_unstable();
        let mut steps: Vec<i64> = times.windows(2).map(|pair| pair[1] - pair[0]).filter(|step| *step > 0).collect();
        if steps.len() < 2 {
            return None;
        }
        let middle = steps.len() / 2;
        let step = *steps.select_nth_unstable(middle).1;
        Some(Duration::from_micros(self.rate.micros(Ticks(step)).max(0) as u64))
    }

    /// Since when frames are further apart than `limit` in media time (or no further), up to now: the arrival of the last
    /// frame before that. One that differs alone is passed over. `None` where they are not now, or where it began before
    /// the window.
    #[must_use]
    pub fn turned(&self, limit: Duration, further: bool) -> Option<Mono> {
        let mut units: Vec<(i64, Mono, bool)> =
            self.units.iter().map(|(arrival, timestamp, gap)| (*timestamp, *arrival, *gap)).collect();
        units.sort_unstable();
        let limit = limit.as_micros() as i64;
        // What was lost on the way says nothing of the camera.
        let steps: Vec<(bool, Mono)> = units
            .windows(2)
            .filter(|pair| !pair[1].2)
            .map(|pair| ((self.rate.micros(Ticks(pair[1].0 - pair[0].0)) > limit) == further, pair[0].1))
            .collect();
        let (mut since, mut other) = (None, 0);
        for (holds, arrival) in steps.iter().rev() {
            if *holds {
                (since, other) = (Some(*arrival), 0);
                continue;
            }
            other += 1;
            if other == 2 {
                return since;
            }
        }
        None
    }

    /// Frames per second; `None` with fewer than three units in the window.
    pub fn per_second(&mut self, now: Mono) -> Option<f64> {
        while self.units.front().is_some_and(|(arrival, ..)| now.since(*arrival) > WINDOW) {
            self.units.pop_front();
        }
        let mut units: Vec<(i64, bool)> = self.units.iter().map(|(_, timestamp, gap)| (*timestamp, *gap)).collect();
        units.sort_unstable();
        units.dedup_by_key(|(timestamp, _)| *timestamp);
        if self.reordered && units.len() > 4 * RAGGED {
            units.truncate(units.len() - RAGGED);
            units.drain(..RAGGED);
        }
        let mut steps: Vec<(i64, bool)> = units.iter().zip(units.iter().skip(1)).map(|(a, b)| (b.0 - a.0, b.1)).collect();
        let median = |steps: &[(i64, bool)]| {
            let mut sorted: Vec<i64> = steps.iter().map(|(step, _)| *step).collect();
            sorted.sort_unstable();
            sorted.get(sorted.len() / 2).copied()
        };
        let begins = units.first().map(|(timestamp, _)| *timestamp) == self.first;
        if begins && steps.len() > 1 && steps.first()?.0 > KEPT.saturating_mul(median(steps.get(1..)?)?) {
            steps.remove(0);
        }
        if steps.len() < 2 {
            return None;
        }
        let median = median(&steps)?;
        let frames: i64 = steps.iter().map(|(step, gap)| if *gap { ((step + median / 2) / median).max(1) } else { 1 }).sum();
        let span = self.rate.micros(Ticks(steps.iter().map(|(step, _)| step).sum())) as f64 / 1e6;
        (span > 0.0).then(|| frames as f64 / span)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn near(got: Option<f64>, want: f64) -> bool {
        got.is_some_and(|got| (got - want).abs() < want * 0.01 + 1e-9)
    }

    #[test]
    fn a_steady_stream_reads_its_rate_from_the_second_event_on() {
        let mut rate = EventRate::default();
        for n in 0..300u64 {
            rate.on_event(Mono::from_millis(80 * n));
            if n > 0 {
                let got = rate.per_second(Mono::from_millis(80 * n + 40));
                assert!(near(got, 12.5), "{n}: {got:?}");
            }
        }
    }

    #[test]
    fn a_burst_after_a_stall_is_late_not_fast() {
        let mut rate = EventRate::default();
        (0..100).for_each(|n| rate.on_event(Mono::from_millis(40 * n)));
        let stalled = rate.per_second(Mono::from_millis(4000 + 2500)).unwrap();
        assert!(stalled < 14.0, "{stalled}");
        // Four seconds' worth at line speed after four seconds of nothing.
        (0..100).for_each(|n| rate.on_event(Mono::from_millis(8000 + n / 5)));
        let burst = rate.per_second(Mono::from_millis(8030)).unwrap();
        assert!(burst < 30.0, "{burst}");
        assert_eq!(rate.per_second(Mono::from_millis(60_000)), Some(0.0));
    }

    #[test]
    fn a_kept_keyframe_before_what_is_live_makes_no_slow_camera() {
        // A keyframe of 0.7 s ago, and what is live from then on.
        let mut rate = MediaRate::new(ClockRate::VIDEO);
        rate.on_unit(Mono::from_millis(0), 0, false);
        for n in 0..50i64 {
            rate.on_unit(Mono::from_millis(10 + 40 * n as u64), 63_000 + 3_600 * n, false);
            let got = rate.per_second(Mono::from_millis(10 + 40 * n as u64));
            assert!(n < 2 && got.is_none() || near(got, 25.0), "{n}: {got:?}");
        }
        // One that really sends the second frame late is slow only as long as that is in the window, as before.
        let mut rate = MediaRate::new(ClockRate::VIDEO);
        for n in [0i64, 1, 2, 3, 23, 24, 25] {
            rate.on_unit(Mono::from_millis(40 * n as u64), 3_600 * n, false);
        }
        assert!(near(rate.per_second(Mono::from_millis(1_000)), 6.0));
    }

    #[test]
    fn sent_rate_survives_loss_and_b_frames() {
        let mut rate = MediaRate::new(ClockRate::VIDEO);
        // Anchors every third frame, each before the two in front of it; at every moment of ten seconds.
        for n in 0..300i64 {
            let frame = if n % 3 == 0 { n } else { n - 3 };
            rate.on_unit(Mono::from_millis(33 * n as u64), frame * 3000, false);
            if n > 20 {
                let got = rate.per_second(Mono::from_millis(33 * n as u64));
                assert!(near(got, 30.0), "{n}: {got:?}");
            }
        }
        let mut rate = MediaRate::new(ClockRate::VIDEO);
        for n in (0..60i64).filter(|n| n % 7 != 3) {
            rate.on_unit(Mono::from_millis(40 * n as u64), 3600 * n, n % 7 == 4);
        }
        assert!(near(rate.per_second(Mono::from_millis(2400)), 25.0), "lost frames were sent all the same");
    }

    #[test]
    fn the_moment_at_which_a_camera_slows_down_is_told_to_the_frame() {
        let mut rate = MediaRate::new(ClockRate::VIDEO);
        let limit = Duration::from_millis(45);
        let mut at = 0u64;
        let mut send = |rate: &mut MediaRate, frames: u64, period: u64| {
            for _ in 0..frames {
                at += period;
                rate.on_unit(Mono::from_millis(at), 90 * at as i64, false);
            }
            at
        };
        let slowed = send(&mut rate, 50, 40);
        assert_eq!((rate.turned(limit, true), rate.turned(limit, false)), (None, None));
        send(&mut rate, 20, 60);
        assert_eq!((rate.turned(limit, true), rate.turned(limit, false)), (Some(Mono::from_millis(slowed)), None));
        // One that comes early alone changes nothing.
        send(&mut rate, 1, 40);
        let quicker = send(&mut rate, 10, 60);
        assert_eq!(rate.turned(limit, true), Some(Mono::from_millis(slowed)));
        send(&mut rate, 3, 40);
        assert_eq!(rate.turned(limit, false), Some(Mono::from_millis(quicker)));
    }

    #[test]
    fn frames_that_were_never_made_lower_the_sent_rate() {
        let mut rate = MediaRate::new(ClockRate::VIDEO);
        (0..50).for_each(|n| rate.on_unit(Mono::from_millis(100 * n), 9000 * n as i64, false));
        assert!(near(rate.per_second(Mono::from_millis(5000)), 10.0));
        assert_eq!(rate.per_second(Mono::from_millis(20_000)), None);
    }
}
