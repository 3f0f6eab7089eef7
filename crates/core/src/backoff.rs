//! When to try a lost stream again.

use std::time::Duration;

/// Waits between tries: the first within a second, then doubling to at most 15 s, each shortened
/// by up to a quarter at random so that many streams do not return in step.
#[derive(Debug, Clone, Default)]
pub struct Backoff {
    failures: u32,
}

impl Backoff {
    /// The longest wait.
    pub const LONGEST: Duration = Duration::from_secs(15);
    const FIRST: Duration = Duration::from_millis(800);

    /// The wait before the next try. `random` is any number; only its low bits count.
    pub fn next(&mut self, random: u32) -> Duration {
        let full = Self::FIRST.saturating_mul(1 << self.failures.min(10)).min(Self::LONGEST);
        self.failures = self.failures.saturating_add(1);
        full.mul_f64(1.0 - f64::from(random % 1024) / 4096.0)
    }

    /// The stream gave pictures: the next loss begins anew.
    pub const fn succeeded(&mut self) {
        self.failures = 0;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_try_is_within_a_second_and_none_waits_over_fifteen() {
        for random in [0, 1023, u32::MAX] {
            let mut backoff = Backoff::default();
            let waits: Vec<_> = (0..40).map(|_| backoff.next(random)).collect();
            assert!(waits[0] < Duration::from_secs(1) && waits[0] >= Duration::from_millis(500));
            assert!(waits.iter().all(|wait| *wait <= Backoff::LONGEST));
            assert!(waits[39] > Duration::from_secs(11));
            backoff.succeeded();
            assert!(backoff.next(random) < Duration::from_secs(1));
        }
    }
}
