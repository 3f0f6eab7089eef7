//! A patrol: presets one after the other, each for a while, with a pause while somebody steers.

use crate::Mono;
use std::time::Duration;

/// After the operator let go, a patrol waits so long before it goes on.
const PAUSE: Duration = Duration::from_secs(30);
/// A stay is no shorter.
const SHORTEST: Duration = Duration::from_secs(2);

/// A stop of a patrol.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stop {
    /// The preset's token.
    pub preset: String,
    /// How long it stays, the way there included; two seconds at least.
    pub stay: Duration,
}

/// A patrol that runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Patrol {
    stops: Vec<Stop>,
    at: usize,
    next: Mono,
    paused: bool,
}

impl Patrol {
    /// From the first stop on, now. `None` where there is none.
    #[must_use]
    pub fn begin(stops: Vec<Stop>, now: Mono) -> Option<Self> {
        (!stops.is_empty()).then(|| Self { at: stops.len() - 1, stops, next: now, paused: false })
    }

    /// The preset to go to now, where it is time.
    pub fn tick(&mut self, now: Mono) -> Option<&str> {
        if now < self.next {
            return None;
        }
        // After a pause it goes back to where it was.
        if !std::mem::take(&mut self.paused) {
            self.at = (self.at + 1) % self.stops.len();
        }
        let stop = &self.stops[self.at];
        self.next = now + stop.stay.max(SHORTEST);
        Some(&stop.preset)
    }

    /// Somebody steers: it waits.
    pub fn pause(&mut self, now: Mono) {
        self.paused = true;
        self.next = now + PAUSE;
    }

    /// Whether it waits for somebody who steers.
    #[must_use]
    pub const fn is_paused(&self) -> bool {
        self.paused
    }

    /// When it goes on.
    #[must_use]
    pub const fn due(&self) -> Mono {
        self.next
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_goes_round_and_waits_while_somebody_steers() {
        let at = |second: u64| Mono::from_millis(1_000 + second * 1000);
        let stop = |preset: &str, stay| Stop { preset: preset.into(), stay: Duration::from_secs(stay) };
        assert_eq!(Patrol::begin(Vec::new(), at(0)), None);
        let mut patrol = Patrol::begin(vec![stop("gate", 10), stop("lane", 0), stop("quay", 5)], at(0)).unwrap();
        assert_eq!(patrol.tick(at(0)), Some("gate"));
        assert_eq!(patrol.tick(at(9)), None);
        assert_eq!(patrol.tick(at(10)), Some("lane"));
        assert_eq!(patrol.tick(at(11)), None);
        assert_eq!(patrol.due(), at(12), "two seconds at least");
        assert_eq!(patrol.tick(at(12)), Some("quay"));
        patrol.pause(at(13));
        patrol.pause(at(20));
        assert!(patrol.is_paused() && patrol.tick(at(49)).is_none());
        assert_eq!(patrol.tick(at(50)), Some("quay"), "back to where it was");
        assert_eq!(patrol.tick(at(55)), Some("gate"));
    }
}
