use crate::{BitsPerSecond, Mono};
use std::collections::VecDeque;
use std::time::Duration;

const BUCKET: Duration = Duration::from_millis(100);
const KEPT: Duration = Duration::from_secs(10);

/// Payload bits per second over the last second or the last ten, in steps of 100 ms.
#[derive(Debug, Clone, Default)]
pub struct Bitrate {
    started: Option<Mono>,
    buckets: VecDeque<(u64, u64)>,
}

impl Bitrate {
    fn index(at: Mono) -> u64 {
        at.as_micros() / BUCKET.as_micros() as u64
    }

    /// Payload bytes arrived.
    pub fn on_bytes(&mut self, at: Mono, bytes: usize) {
        self.started.get_or_insert(at);
        let index = Self::index(at);
        match self.buckets.back_mut() {
            Some((last, sum)) if *last >= index => *sum += bytes as u64,
            _ => self.buckets.push_back((index, bytes as u64)),
        }
        let keep = (KEPT.as_millis() / BUCKET.as_millis()) as u64 + 1;
        while self.buckets.front().is_some_and(|(first, _)| first + keep < index) {
            self.buckets.pop_front();
        }
    }

    /// The mean over `window` (at most 10 s), or since the first byte if that is less; `None` before
    /// a fifth of a second has been seen.
    #[must_use]
    pub fn over(&self, now: Mono, window: Duration) -> Option<BitsPerSecond> {
        let seen = now.since(self.started?).min(window);
        if seen < BUCKET * 2 {
            return None;
        }
        let from = Self::index(now.back(seen));
        // Whole buckets only: the running one is left out, and as many are summed as time is divided by.
        let until = Self::index(now);
        let bytes: u64 = self.buckets.iter().filter(|(index, _)| (from..until).contains(index)).map(|(_, sum)| sum).sum();
        Some(BitsPerSecond(bytes as f64 * 8.0 / ((until - from) as f64 * BUCKET.as_secs_f64())))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn two_megabits_read_as_two_megabits() {
        let mut bitrate = Bitrate::default();
        for n in 0..1500u64 {
            bitrate.on_bytes(Mono::from_millis(10 * n), 2500);
        }
        let now = Mono::from_millis(15_000);
        for window in [1, 10] {
            let got = bitrate.over(now, Duration::from_secs(window)).unwrap().0;
            assert!((got - 2e6).abs() < 2e4, "{got}");
        }
        assert_eq!(bitrate.over(Mono::from_millis(30_000), Duration::from_secs(1)).unwrap().0, 0.0);
    }
}
