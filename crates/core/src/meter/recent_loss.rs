use crate::Mono;
use std::collections::VecDeque;
use std::time::Duration;

const WINDOW: Duration = Duration::from_secs(10);

/// Share of packets lost over the last 10 s, from cumulative counts taken now and then.
#[derive(Debug, Clone, Default)]
pub struct RecentLoss {
    samples: VecDeque<(Mono, u64, u64)>,
}

impl RecentLoss {
    /// The totals at a moment.
    pub fn sample(&mut self, now: Mono, expected: u64, received: u64) {
        if self.samples.back().is_some_and(|(at, ..)| now.since(*at) < Duration::from_millis(200)) {
            return;
        }
        while self.samples.get(1).is_some_and(|(at, ..)| now.since(*at) >= WINDOW) {
            self.samples.pop_front();
        }
        self.samples.push_back((now, expected, received));
    }

    /// Lost over expected since the oldest sample; `None` when nothing was expected.
    #[must_use]
    pub fn share(&self, expected: u64, received: u64) -> Option<f64> {
        let (_, old_expected, old_received) = self.samples.front()?;
        let expected = expected.checked_sub(*old_expected).filter(|n| *n > 0)?;
        Some(expected.saturating_sub(received.saturating_sub(*old_received)) as f64 / expected as f64)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn loss_is_forgotten_after_ten_seconds() {
        let mut loss = RecentLoss::default();
        assert_eq!(loss.share(5, 5), None);
        loss.sample(Mono::ZERO, 0, 0);
        loss.sample(Mono::from_millis(1000), 100, 90);
        assert_eq!(loss.share(100, 90), Some(0.1));
        for second in 2..13 {
            loss.sample(Mono::from_millis(second * 1000), second * 100, second * 100 - 10);
        }
        assert_eq!(loss.share(1300, 1290), Some(0.0));
    }
}
