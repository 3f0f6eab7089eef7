use crate::{ClockRate, Mono, Ticks};
use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};
use std::time::Duration;

/// Timestamps that go back, or ahead of time, by so many microseconds leap.
const LEAP: i64 = 1_000_000;

/// Most frames that timestamps go back by.
const MAX_DEPTH: usize = 8;

/// Interarrival jitter (RFC 3550 §6.4.1): |difference of transit times|, smoothed with gain 1/16.
///
/// All packets of one access unit carry one timestamp but leave one after the other; as usual for
/// video, the first packet of each timestamp is compared, so that a large keyframe is not jitter. Frames that are
/// predicted from both sides are sent after the one that they lie before: where timestamps go back, the n-th frame to come
/// is taken to be sent at the n-th lowest timestamp.
#[derive(Debug, Clone)]
pub struct Jitter {
    rate: ClockRate,
    last: Option<(i64, Mono)>,
    /// The timestamp of the last packet.
    newest: Option<i64>,
    /// By so many frames timestamps were seen to go back,
    depth: usize,
    /// so that as many wait for their turn: their timestamps, and when frames came.
    waiting: BinaryHeap<Reverse<i64>>,
    arrivals: VecDeque<Mono>,
    smoothed: Option<f64>,
}

impl Jitter {
    /// No packet seen yet, for a stream with this RTP clock.
    #[must_use]
    pub const fn new(rate: ClockRate) -> Self {
        Self { rate, last: None, newest: None, depth: 0, waiting: BinaryHeap::new(), arrivals: VecDeque::new(), smoothed: None }
    }

    /// Takes an arrival with its unwrapped RTP timestamp.
    pub fn on_packet(&mut self, timestamp: i64, arrival: Mono) {
        if self.newest.replace(timestamp) == Some(timestamp) {
            return;
        }
        self.waiting.push(Reverse(timestamp));
        self.arrivals.push_back(arrival);
        let back = self.last.is_some_and(|(last, _)| timestamp < last);
        let leaps = self.last.is_some_and(|(last, _)| self.rate.micros(Ticks(timestamp - last)).abs() > LEAP);
        if leaps {
            // Another count of time: what waits is not compared with it.
            self.waiting = BinaryHeap::from([Reverse(timestamp)]);
            self.arrivals = VecDeque::from([arrival]);
        } else if back && self.depth < MAX_DEPTH {
            self.depth += 1;
            self.last = None;
        }
        while self.waiting.len() > self.depth {
            let (Some(Reverse(timestamp)), Some(arrival)) = (self.waiting.pop(), self.arrivals.pop_front()) else { return };
            self.compare(timestamp, arrival);
        }
    }

    fn compare(&mut self, timestamp: i64, arrival: Mono) {
        if let Some((last_timestamp, last_arrival)) = self.last {
            let sent = self.rate.micros(Ticks(timestamp - last_timestamp));
            let change = arrival.micros_since(last_arrival) - sent;
            // Timestamps that leap tell nothing of the path.
            if sent > -LEAP && change > -LEAP {
                let previous = self.smoothed.unwrap_or(0.0);
                self.smoothed = Some(previous + (change.unsigned_abs() as f64 - previous) / 16.0);
            }
        }
        self.last = Some((timestamp, arrival));
    }

    /// Forgets the last packet (new SSRC), keeps the smoothed value.
    pub fn restart(&mut self) {
        (self.last, self.newest) = (None, None);
        self.waiting.clear();
        self.arrivals.clear();
    }

    /// The smoothed value; `None` until two packets with different RTP timestamps have arrived.
    #[must_use]
    pub fn value(&self) -> Option<Duration> {
        self.smoothed.map(|micros| Duration::from_secs_f64(micros / 1e6))
    }

    /// The same in ticks of the RTP clock, as a receiver report carries it.
    #[must_use]
    pub fn ticks(&self) -> u32 {
        self.rate.ticks(self.smoothed.unwrap_or(0.0) as i64).0 as u32
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steady_arrival_has_no_jitter_and_a_late_one_counts_a_sixteenth() {
        let mut jitter = Jitter::new(ClockRate::VIDEO);
        assert_eq!(jitter.value(), None);
        for n in 0..10u64 {
            jitter.on_packet(3600 * n as i64, Mono::from_millis(40 * n));
        }
        assert_eq!(jitter.value(), Some(Duration::ZERO));
        jitter.on_packet(36_000, Mono::from_millis(400 + 16));
        assert_eq!(jitter.value(), Some(Duration::from_millis(1)));
        // Two frames predicted from both sides, sent evenly, and one that is late by 16 ms.
        let mut reordered = Jitter::new(ClockRate::VIDEO);
        for n in 0..90u64 {
            let shown = if n % 3 == 0 { n + 2 } else { n - 1 };
            reordered.on_packet(3600 * shown as i64, Mono::from_millis(40 * n));
        }
        // What it took to find the order out has faded.
        assert!(reordered.value() < Some(Duration::from_micros(50)), "{:?}", reordered.value());
        reordered.on_packet(3600 * 92, Mono::from_millis(3600 + 16));
        reordered.on_packet(3600 * 90, Mono::from_millis(3640));
        reordered.on_packet(3600 * 91, Mono::from_millis(3680));
        assert!(reordered.value() > Some(Duration::from_micros(900)), "{:?}", reordered.value());
        let before = jitter.value();
        jitter.on_packet(9_000_000 + 39_600, Mono::from_millis(456));
        jitter.on_packet(43_200, Mono::from_millis(496));
        assert_eq!(jitter.value(), before, "the timestamps leaped and leaped back");
    }
}
