//! An entry of the ledger, and what it is made of.

use crate::event::{Confidence, EventKind};
use crate::{Cause, Wall, length_text};
use std::collections::BTreeSet;
use std::fmt;
use std::time::Duration;

/// What several streams of one entry share.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Shared {
    /// The recorder that they hang under.
    Recorder(String),
    /// The device or server that they come from.
    Host(String),
    /// The group that they are in.
    Group(String),
    /// This machine or its terminal.
    Machine,
    /// Most of what is received here: this machine, or the network that it hangs on.
    Most,
}

impl fmt::Display for Shared {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Recorder(name) => write!(f, "recorder {name}"),
            Self::Host(name) => write!(f, "host {name}"),
            Self::Group(name) => write!(f, "group {name}"),
            Self::Machine => f.write_str("this machine"),
            Self::Most => f.write_str("this machine or its network"),
        }
    }
}

/// A stream, and what it may share with others.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Subject {
    /// The camera's name.
    pub camera: String,
    /// The stream: main, sub, third.
    pub stream: &'static str,
    /// The group of the camera.
    pub group: Option<String>,
    /// The recorder that it hangs under.
    pub recorder: Option<String>,
    /// The host that it comes from.
    pub host: Option<String>,
}

/// Who acknowledged an entry, and when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acknowledged {
    /// Who.
    pub by: String,
    /// When.
    pub at: Wall,
}

/// An entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its number; a later entry has a higher one.
    pub id: u64,
    /// The cameras that it is about, in the order in which they fell.
    pub cameras: Vec<String>,
    /// What they share, where they are several.
    pub shared: Option<Shared>,
    /// What happened: the worst of it.
    pub kind: EventKind,
    /// When it began.
    pub start: Wall,
    /// When all of it had ended; `None` while it goes on.
    pub end: Option<Wall>,
    /// How often it came again within a minute.
    pub times: u32,
    /// The primary cause.
    pub cause: Option<Cause>,
    /// What speaks for it.
    pub evidence: String,
    /// How sure that is.
    pub confidence: Confidence,
    /// What was done about it.
    pub done: Vec<String>,
    /// Who acknowledged it.
    pub acknowledged: Option<Acknowledged>,
    /// It is shelved, and no alarm, until then.
    pub shelved_until: Option<Wall>,
    /// What somebody wrote to it.
    pub note: String,
    /// The stretches that it is made of.
    pub parts: Parts,
    /// Since when pictures are missing, while they are; not kept.
    pub down_since: Option<Wall>,
}

/// A stretch of an entry: of one camera, from its beginning to its end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// The camera.
    pub camera: String,
    /// What it was.
    pub kind: EventKind,
    /// When it began.
    pub start: Wall,
    /// When it ended; `None` while it goes on.
    pub end: Option<Wall>,
}

/// So many parts of an entry are told one by one.
const TOLD: usize = 200;

/// The parts of an entry by their beginning; of very many the oldest are only counted.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Parts {
    /// Those that are told one by one.
    pub told: Vec<Part>,
    /// How many dropouts there were before them,
    pub before: u32,
    /// for how long pictures were missing in those,
    pub missing_before: Duration,
    /// and until when.
    pub until: Option<Wall>,
}

impl Parts {
    /// One more.
    pub fn push(&mut self, part: Part) {
        let at = self.told.partition_point(|one| one.start <= part.start);
        self.told.insert(at, part);
        while self.told.len() > TOLD {
            let Some(oldest) = self.told.iter().position(|part| part.end.is_some()) else { return };
            let gone = self.told.remove(oldest);
            if gone.kind.is_dropout() {
                self.before += 1;
                let from = self.until.map_or(gone.start, |until| until.max(gone.start));
                self.missing_before += gone.end.map_or(Duration::ZERO, |end| span(from, end));
                self.until = self.until.max(gone.end);
            }
        }
    }

    /// Pictures were missing for so long by now, of one camera or another: what lies over one another counts once.
    #[must_use]
    pub fn missing(&self, now: Wall) -> Duration {
        self.missing_before + self.missing_since(self.until, now, |_| true)
    }

    /// The same since a moment, of the camera that missed most.
    #[must_use]
    pub fn worst_since(&self, since: Wall, now: Wall) -> Duration {
        let cameras: BTreeSet<&str> = self.dropouts().map(|part| part.camera.as_str()).collect();
        let of = |camera: &str| self.missing_since(Some(since), now, |part| part.camera == camera);
        cameras.into_iter().map(of).max().unwrap_or_default()
    }

    fn missing_since(&self, since: Option<Wall>, now: Wall, counts: impl Fn(&Part) -> bool) -> Duration {
        let mut until = since;
        let mut sum = Duration::ZERO;
        for part in self.dropouts().filter(|part| counts(part)) {
            let end = part.end.unwrap_or(now);
            let from = until.map_or(part.start, |until| until.max(part.start));
            if end > from {
                sum += span(from, end);
                until = Some(end);
            }
        }
        sum
    }

    /// How often pictures went missing.
    #[must_use]
    pub fn times(&self) -> u32 {
        self.before + self.dropouts().count() as u32
    }

    fn dropouts(&self) -> impl Iterator<Item = &Part> {
        self.told.iter().filter(|part| part.kind.is_dropout())
    }
}

fn span(from: Wall, to: Wall) -> Duration {
    Duration::from_micros(to.micros_since(from).max(0) as u64)
}

/// From here on a dropout that runs is an alarm: before, it may come back by itself.
const NEEDS_A_HAND: Duration = Duration::from_secs(10);
/// So is a stream that comes and goes: pictures are missing for this share
const CHATTERS: f64 = 0.25;
/// of the last minute.
const CHATTERS_OVER: Duration = Duration::from_secs(60);

impl Entry {
    /// How long it has lasted.
    #[must_use]
    pub fn length(&self, now: Wall) -> Duration {
        span(self.start, self.end.unwrap_or(now))
    }

    /// Something happened again and again: from the first to the last is longer than what it was.
    #[must_use]
    pub fn comes_and_goes(&self) -> bool {
        self.times > 1 && self.parts.times() > 1
    }

    /// How long, in a few characters: `48.0 s`; of what came and went `down 3.0 s in 48.0 s, 4 times`.
    #[must_use]
    pub fn length_text(&self, now: Wall) -> String {
        let runs = if self.end.is_none() { "…" } else { "" };
        let all = length_text(self.length(now));
        if !self.comes_and_goes() {
            return format!("{all}{runs}");
        }
        format!("down {} in {all}{runs}, {} times", length_text(self.parts.missing(now)), self.parts.times())
    }

    /// What of it was about a camera: what happened, from when to when. As a whole where its parts are not known.
    #[must_use]
    pub fn stretches(&self, camera: &str, now: Wall) -> Vec<(EventKind, Wall, Wall)> {
        if !self.cameras.iter().any(|name| name == camera) {
            return Vec::new();
        }
        if self.parts.told.is_empty() {
            return vec![(self.kind, self.start, self.end.unwrap_or(now))];
        }
        let own = self.parts.told.iter().filter(|part| part.camera == camera);
        own.map(|part| (part.kind, part.start, part.end.unwrap_or(now))).collect()
    }

    /// The cameras in a few words.
    #[must_use]
    pub fn subject(&self) -> String {
        match (&self.shared, self.cameras.as_slice()) {
            (Some(shared), cameras) if cameras.len() > 1 => format!("{shared}: {} cameras", cameras.len()),
            (_, [camera]) => camera.clone(),
            (_, cameras) => format!("{} cameras", cameras.len()),
        }
    }

    /// Somebody should do something now, and nobody has acknowledged it: no picture for a while, or a report that a rule makes an alarm,
    /// also when it is over (ISA-18.2, return to normal unacknowledged).
    #[must_use]
    pub fn is_alarm(&self, now: Wall) -> bool {
        let shelved = self.shelved_until.is_some_and(|until| until > now);
        let lasts = |since: Wall| now.micros_since(since) >= NEEDS_A_HAND.as_micros() as i64;
        let over = CHATTERS_OVER.as_micros() as i64;
        let recent = self.comes_and_goes() && self.end.is_none_or(|end| now.micros_since(end) < over);
        let chatters = || {
            let missing = self.parts.worst_since(now.offset(-over), now);
            missing.as_secs_f64() >= CHATTERS * CHATTERS_OVER.as_secs_f64()
        };
        let wants = self.kind == EventKind::ReportedAlarm || self.down_since.is_some_and(lasts) || (recent && chatters());
        wants && self.acknowledged.is_none() && !shelved
    }
}
