use crate::Mono;
use std::collections::VecDeque;
use std::time::Duration;

const WINDOW: Duration = Duration::from_secs(10);
const STEP: Duration = Duration::from_secs(1);

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

    /// Whether packets were lost in most of the seconds of the window, the last two among them: it is no single burst.
    #[must_use]
    pub fn goes_on(&self, now: Mono) -> bool {
        let (mut seconds, mut lossy) = (0u32, 0u32);
        let mut last_two = false;
        let mut from = self.samples.len();
        // Steps of a second or more, the newest first.
        while let Some(end) = from.checked_sub(1) {
            let Some((at, expected, received)) = self.samples.get(end).copied() else { break };
            let begin = (0..end).rev().find(|n| self.samples.get(*n).is_some_and(|(before, ..)| at.since(*before) >= STEP));
            let Some((begin, (_, old_expected, old_received))) = begin.and_then(|n| Some((n, *self.samples.get(n)?))) else {
                break;
            };
            let lost = expected.saturating_sub(old_expected) > received.saturating_sub(old_received);
            (seconds, lossy) = (seconds + 1, lossy + u32::from(lost));
            last_two |= lost && now.since(at) < STEP * 2;
            from = begin + 1;
        }
        last_two && seconds >= 3 && lossy * 10 >= seconds * 6
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

    #[test]
    fn loss_that_goes_on_is_told_from_a_burst() {
        let run = |lost: fn(u64) -> u64| {
            let mut loss = RecentLoss::default();
            let mut received = 0;
            for n in 0..50 {
                received += 20 - lost(n);
                loss.sample(Mono::from_millis(200 * n), 20 * (n + 1), received);
            }
            loss.goes_on(Mono::from_millis(9_900))
        };
        assert!(run(|n| 5 + n % 3) && run(|n| u64::from(n % 7 == 0)));
        assert!(!run(|_| 0) && !run(|n| if (20..30).contains(&n) { 20 } else { 0 }) && !run(|n| if n < 40 { 3 } else { 0 }));
    }
}
