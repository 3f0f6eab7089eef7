//! The flash probe's page: the camera is pointed at this screen, which turns light and dark.

use super::{App, Effect, FeedKey};
use crate::desk::Page;
use crate::theme::Tone;
use lattice_core::flash::{FLASHES, LONGEST, Pattern};
use lattice_core::meter::FlashStep;
use lattice_core::{FrameRate, Mono};
use lattice_engine::Command;
use std::time::Duration;

/// A step on the page.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProbeStep {
    /// The page, for the selected tile's stream or the one that is looked at.
    Open,
    /// Ten flashes.
    Start,
    /// What was measured is not used any more.
    Forget,
}

/// How far a probe is.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Phase {
    /// The camera is being pointed at the screen.
    #[default]
    Aiming,
    /// Flashes run, since then.
    Flashing(Pattern, Mono),
    /// They are over; pictures with the last ones may still come until then.
    Gathering(Mono),
    /// It is over.
    Done,
}

/// The page.
#[derive(Debug, Default)]
pub struct FlashPage {
    /// The stream whose latency is measured.
    pub key: Option<FeedKey>,
    /// How far it is.
    pub phase: Phase,
    /// Where it was opened from.
    from: Page,
    /// What the terminal was made last.
    shown_lit: bool,
}

/// A stream whose rate is not known is taken for one of this rate.
const UNKNOWN_PERIOD: Duration = Duration::from_millis(200);
/// After the last flash its light is awaited for a time that a slow camera and path may take.
const GATHERS: Duration = Duration::from_secs(2);

impl FlashPage {
    /// Whether the screen is to be light now.
    pub fn lit(&self, now: Mono) -> bool {
        matches!(&self.phase, Phase::Flashing(pattern, began) if pattern.lit(now.since(*began)))
    }

    /// When the page changes by itself next.
    pub fn due(&self, now: Mono) -> Option<Mono> {
        match &self.phase {
            Phase::Flashing(pattern, began) => Some(*began + pattern.next(now.since(*began)).unwrap_or(pattern.length())),
            Phase::Gathering(until) => Some(*until),
            Phase::Aiming | Phase::Done => None,
        }
    }

    /// Flashes begun, and how long it still takes.
    pub fn progress(&self, now: Mono) -> Option<(usize, Duration)> {
        match &self.phase {
            Phase::Flashing(pattern, began) => {
                let since = now.since(*began);
                Some((pattern.begun(since), pattern.length().saturating_sub(since)))
            }
            Phase::Gathering(_) => Some((FLASHES, Duration::ZERO)),
            Phase::Aiming | Phase::Done => None,
        }
    }
}

impl App {
    pub(super) fn probe_step(&mut self, step: ProbeStep) -> Vec<Effect> {
        match step {
            ProbeStep::Open => {
                let key = match self.page {
                    Page::Stream => self.stream_page.key,
                    _ => self.selected_tile().map(super::Tile::key),
                };
                let Some(key) = key else {
                    self.say(Tone::Text, "this tile is empty: p puts a camera here".into());
                    return Vec::new();
                };
                let known = self.figures.get(&key).is_some_and(|figures| figures.flash.is_some());
                let phase = if known { Phase::Done } else { Phase::Aiming };
                self.flash = FlashPage { key: Some(key), phase, from: self.page, shown_lit: false };
                self.page = Page::Flash;
                self.same_tiles_since = self.now;
                Vec::new()
            }
            ProbeStep::Start => {
                let Some(key) = self.flash.key.filter(|_| !matches!(self.flash.phase, Phase::Flashing(..))) else {
                    return Vec::new();
                };
                if !self.pictures.contains_key(&key) {
                    self.say(Tone::Alarm, "there is no picture yet that the light could be seen in".into());
                    return Vec::new();
                }
                let period = self.figures.get(&key).and_then(|figures| {
                    let declared = figures.declared.map(FrameRate::per_second);
                    // The slower of what it declares and does: the flashes must be seen.
                    [declared, figures.arrived].into_iter().flatten().filter(|rate| *rate > 0.1).reduce(f64::min)
                });
                let period = period.map_or(UNKNOWN_PERIOD, |rate| Duration::from_secs_f64(1.0 / rate));
                let pattern = Pattern::new(self.utc.as_unix_micros().unsigned_abs(), period);
                self.flash.phase = Phase::Flashing(pattern, self.now);
                vec![Effect::Tell(Command::Flash(key, FlashStep::Begin))]
            }
            ProbeStep::Forget => {
                self.flash.phase = Phase::Aiming;
                self.flash.key.map(|key| Effect::Tell(Command::Flash(key, FlashStep::Forget))).into_iter().collect()
            }
        }
    }

    /// Whoever leaves while flashes run breaks the probe off.
    pub(super) fn leave_flash(&mut self) -> Vec<Effect> {
        self.page = self.flash.from;
        self.same_tiles_since = self.now;
        let broken = !matches!(self.flash.phase, Phase::Aiming | Phase::Done);
        let key = self.flash.key.filter(|_| broken);
        self.flash = FlashPage::default();
        if broken {
            self.say(Tone::Text, "the flash probe was broken off".into());
        }
        key.map(|key| Effect::Tell(Command::Flash(key, FlashStep::Forget))).into_iter().collect()
    }

    /// Time went on.
    pub(super) fn flash_goes_on(&mut self) -> Vec<Effect> {
        let now = self.now;
        match &self.flash.phase {
            Phase::Flashing(pattern, began) if now.since(*began) >= pattern.length() => {
                self.flash.phase = Phase::Gathering(now + GATHERS);
                Vec::new()
            }
            // A path of seconds is waited for.
            Phase::Gathering(until) if now >= *until => {
                let reading = self.flash.key.and_then(|key| self.figures.get(&key)?.flash.clone());
                let late = reading.is_some_and(|reading| reading.share.is_none());
                if late && now.since(*until) < LONGEST {
                    return Vec::new();
                }
                self.flash.phase = Phase::Done;
                self.flash.key.map(|key| Effect::Tell(Command::Flash(key, FlashStep::End))).into_iter().collect()
            }
            _ => Vec::new(),
        }
    }

    /// The terminal was made light or dark at this time; what is to be told of it.
    pub fn light_shown(&mut self, lit: bool, at: Mono) -> Option<Effect> {
        let changed = std::mem::replace(&mut self.flash.shown_lit, lit) != lit;
        let key = self.flash.key.filter(|_| changed && self.page == Page::Flash)?;
        Some(Effect::Tell(Command::Flash(key, FlashStep::Light { at, lit })))
    }
}
