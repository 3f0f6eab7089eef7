//! What is noticed in levels: silence for too long, sudden loudness, clipping.

use super::Level;
use crate::Mono;
use std::time::Duration;

/// From where on something is noticed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Limits {
    /// Below this RMS, in dBFS, it is silence (that of A-law, whose smallest steps are not zero, has -69.2),
    pub silent_below: f32,
    /// which is told after this time.
    pub silent_after: Duration,
    /// So many dB above what is usual are sudden loudness.
    pub loud_by: f32,
    /// So many clipped samples in a second are clipping.
    pub clipped: u32,
}

impl Default for Limits {
    fn default() -> Self {
        Self { silent_below: -65.0, silent_after: Duration::from_secs(30), loud_by: 20.0, clipped: 8 }
    }
}

/// What is noticed now.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Noticed {
    /// Silence, and since when.
    pub silent: Option<Mono>,
    /// Loudness: since when, and by how many dB above what was usual at most.
    pub loud: Option<(Mono, f32)>,
    /// Clipping: since when, and the most clipped samples in a second.
    pub clipping: Option<(Mono, u32)>,
}

impl Noticed {
    /// Nothing is.
    #[must_use]
    pub const fn is_nothing(&self) -> bool {
        self.silent.is_none() && self.loud.is_none() && self.clipping.is_none()
    }
}

/// What is usual is learned for so long before anything counts as sudden,
const LEARNED: Duration = Duration::from_secs(10);
/// and follows with this time constant, slowly enough that it does not follow what is sudden.
const FOLLOWS: f32 = 20.0;
/// What is usual is never taken to be lower than this: a step in a silent room is no shot.
const QUIETEST: f32 = -60.0;
/// Loudness that goes on for so long is what is usual now.
const USUAL_AFTER: Duration = Duration::from_secs(60);
/// Clipping and loudness are over when they were not there for this long.
const OVER: Duration = Duration::from_secs(3);

/// Follows the level of one track.
#[derive(Debug, Clone, Default)]
pub struct SoundWatch {
    /// From where on something is noticed.
    pub limits: Limits,
    usual: Option<f32>,
    began: Option<Mono>,
    last: Option<Mono>,
    quiet: Option<Mono>,
    loud: Option<(Mono, Mono, f32)>,
    clipping: Option<(Mono, Mono, u32)>,
}

impl SoundWatch {
    /// The level of the last second, of the loudest channel, and how many of its samples were clipped.
    pub fn on_level(&mut self, now: Mono, level: Level, clipped: u32) -> Noticed {
        let began = *self.began.get_or_insert(now);
        let passed = self.last.replace(now).map_or(0.0, |last| now.since(last).as_secs_f32());
        self.quiet = if level.rms < self.limits.silent_below { self.quiet.or(Some(now)) } else { None };
        if self.loud.is_some_and(|(since, ..)| now.since(since) >= USUAL_AFTER) {
            (self.loud, self.usual) = (None, Some(level.rms));
        }
        let usual = self.usual.unwrap_or(level.rms).max(QUIETEST);
        let above = level.rms - usual;
        let learned = now.since(began) >= LEARNED;
        let starts = learned && above >= self.limits.loud_by;
        // It is as loud as before until it is half of the way back.
        let goes_on = above >= self.limits.loud_by / 2.0;
        self.loud = match self.loud {
            Some((since, _, most)) if goes_on => Some((since, now, most.max(above))),
            Some((since, seen, most)) => (now.since(seen) < OVER).then_some((since, seen, most)),
            None => starts.then_some((now, now, above)),
        };
        if self.loud.is_none() {
            let weight = if learned { (passed / FOLLOWS).min(1.0) } else { 0.3 };
            self.usual = Some(usual + (level.rms.max(QUIETEST) - usual) * weight);
        }
        let clips = clipped >= self.limits.clipped;
        self.clipping = match self.clipping {
            Some((since, _, most)) if clips => Some((since, now, most.max(clipped))),
            Some((since, seen, most)) => (now.since(seen) < OVER).then_some((since, seen, most)),
            None => clips.then_some((now, now, clipped)),
        };
        self.noticed(now)
    }

    /// Nothing came: what was noticed of the level is over, and nothing is learned.
    pub const fn on_nothing(&mut self) {
        (self.quiet, self.loud, self.clipping) = (None, None, None);
        self.last = None;
    }

    /// What is noticed now.
    #[must_use]
    pub fn noticed(&self, now: Mono) -> Noticed {
        Noticed {
            silent: self.quiet.filter(|since| now.since(*since) >= self.limits.silent_after),
            loud: self.loud.map(|(since, _, by)| (since, by)),
            clipping: self.clipping.map(|(since, _, most)| (since, most)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(seconds: u64) -> Mono {
        Mono::from_millis(seconds * 1000)
    }

    fn run(watch: &mut SoundWatch, from: u64, to: u64, rms: f32) -> Noticed {
        (from..to).fold(Noticed::default(), |_, second| watch.on_level(at(second), Level { peak: rms + 12.0, rms }, 0))
    }

    #[test]
    fn silence_is_told_after_its_time_and_ends_at_once() {
        let mut watch = SoundWatch::default();
        assert_eq!(run(&mut watch, 0, 20, -30.0).silent, None);
        assert_eq!(run(&mut watch, 20, 50, -90.0).silent, None);
        assert_eq!(run(&mut watch, 50, 52, -90.0).silent, Some(at(20)));
        assert_eq!(run(&mut watch, 52, 53, -30.0).silent, None);
        run(&mut watch, 53, 90, -90.0);
        watch.on_nothing();
        assert_eq!(watch.noticed(at(91)).silent, None, "what does not come is not silent");
    }

    #[test]
    fn loudness_is_sudden_against_what_is_usual_and_becomes_usual() {
        let mut watch = SoundWatch::default();
        assert_eq!(run(&mut watch, 0, 5, -20.0).loud, None, "nothing is usual yet");
        assert_eq!(run(&mut watch, 5, 60, -45.0).loud, None);
        let loud = run(&mut watch, 60, 62, -10.0).loud.unwrap();
        assert!(loud.0 == at(60) && loud.1 > 30.0, "{loud:?}");
        assert!(run(&mut watch, 62, 64, -44.0).loud.is_some(), "a pause between two cries");
        assert_eq!(run(&mut watch, 64, 68, -44.0).loud, None);
        // A pump that goes on is no cry any more; nor is a step in a silent room.
        assert!(run(&mut watch, 70, 100, -10.0).loud.is_some());
        assert_eq!(run(&mut watch, 100, 140, -10.0).loud, None);
        run(&mut watch, 140, 400, -95.0);
        assert_eq!(run(&mut watch, 400, 402, -45.0).loud, None);
    }

    #[test]
    fn clipping_goes_on_over_short_pauses() {
        let mut watch = SoundWatch::default();
        let level = Level { peak: 0.0, rms: -6.0 };
        assert_eq!(watch.on_level(at(0), level, 3).clipping, None, "a click");
        assert_eq!(watch.on_level(at(1), level, 40).clipping, Some((at(1), 40)));
        assert_eq!(watch.on_level(at(2), level, 0).clipping, Some((at(1), 40)));
        assert_eq!(watch.on_level(at(3), level, 90).clipping, Some((at(1), 90)));
        assert_eq!(watch.on_level(at(7), level, 0).clipping, None);
    }
}
