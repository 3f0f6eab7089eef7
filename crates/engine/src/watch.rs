//! What is made of figures as they come: the history of each stream, and the ledger. On the engine's own tick, whether
//! anybody looks or not.

use crate::camera::{Cameras, FeedKey, host_of};
use crate::keeper::Past;
use lattice_core::event::Event;
use lattice_core::ledger::{Acknowledged, Entry, Ledger, Subject};
use lattice_core::meter::{Figures, History, Sample, Span};
use lattice_core::{Cause, Mono, Wall};
use lattice_store::{EntryOrder, Missing, Reading, Site, StreamName};
use std::collections::{BTreeMap, HashMap};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

/// An entry that is shelved is no alarm for so long.
const SHELF: Duration = Duration::from_secs(3600);
/// Readings that wait to be kept, at most.
const UNKEPT: usize = 20_000;

/// What a stream's figures were. It is shared and not copied: it is written once a second, and read where charts are drawn.
#[derive(Debug, Clone, Default)]
pub struct SharedHistory(Arc<RwLock<History>>);

impl SharedHistory {
    /// The samples of a span, each with its age in seconds, oldest first.
    #[must_use]
    pub fn over(&self, now: Mono, span: Span) -> Vec<(f64, Sample)> {
        self.0.read().unwrap_or_else(PoisonError::into_inner).over(now, span).collect()
    }

    /// Takes what the figures are now.
    pub fn push(&self, now: Mono, sample: Sample) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).push(now, sample);
    }

    fn is_due(&self, now: Mono) -> bool {
        self.0.read().unwrap_or_else(PoisonError::into_inner).is_due(now)
    }
}

impl From<History> for SharedHistory {
    fn from(history: History) -> Self {
        Self(Arc::new(RwLock::new(history)))
    }
}

/// A moment on both of our clocks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moment {
    /// Monotonic.
    pub mono: Mono,
    /// UTC.
    pub utc: Wall,
}

impl Moment {
    /// Our UTC of a monotonic time.
    #[must_use]
    pub fn wall(self, at: Mono) -> Wall {
        self.utc.offset(at.micros_since(self.mono))
    }
}

/// Histories and the ledger.
#[derive(Debug, Default)]
pub struct Watch {
    ledger: Ledger,
    shared: Arc<Ledger>,
    histories: Arc<HashMap<FeedKey, SharedHistory>>,
    /// What the figures were before this run.
    past: HashMap<StreamName, Past>,
    unkept: (Vec<Reading>, Vec<Missing>),
    /// Another program keeps the ledger: it is shown as that one has it.
    elsewhere: bool,
    seen: HashMap<FeedKey, Arc<[Event]>>,
    /// Of each stream, the number of the first event that may still change in the history, and when it began by our clock:
    /// that stays as it was first told, or it would be another one.
    kept: HashMap<FeedKey, (u64, BTreeMap<u64, Wall>)>,
    /// Events before this one were entered by the program that kept the ledger before.
    entered: HashMap<FeedKey, u64>,
}

impl Watch {
    /// A watch that goes on from what was kept and `seen` last; `elsewhere` where another program keeps it.
    #[must_use]
    pub fn new(kept: Vec<Entry>, seen: Option<Wall>, past: HashMap<StreamName, Past>, elsewhere: bool) -> Self {
        let ledger = if elsewhere { Ledger::kept_elsewhere(kept) } else { Ledger::from_kept(kept, seen) };
        Self { shared: Arc::new(ledger.clone()), ledger, past, elsewhere, ..Self::default() }
    }

    /// The ledger as it is now.
    #[must_use]
    pub const fn ledger(&self) -> &Arc<Ledger> {
        &self.shared
    }

    /// What the figures were, of each stream.
    #[must_use]
    pub const fn histories(&self) -> &Arc<HashMap<FeedKey, SharedHistory>> {
        &self.histories
    }

    /// Takes the figures of all open streams.
    pub fn observe(&mut self, now: Moment, cameras: &Cameras, site: &Site, figures: &HashMap<FeedKey, Arc<Figures>>) {
        self.remember(now, cameras, figures);
        self.enter_events(now, cameras, site, figures);
        if self.ledger.tick(now.utc) {
            self.shared = Arc::new(self.ledger.clone());
        }
    }

    /// What was done about a camera's trouble goes to its entry.
    pub fn on_done(&mut self, now: Moment, camera: &str, cause: Cause, what: String) {
        if !self.elsewhere {
            self.ledger.on_done(now.utc, camera, Some(cause), what);
        }
    }

    /// What a camera reported goes into the ledger, as of a stream of this name.
    pub fn on_reported(&mut self, now: Moment, site: &Site, (name, stream): (&str, &'static str), events: &[Event]) {
        if self.elsewhere || events.is_empty() {
            return;
        }
        let kept = site.camera(name);
        let subject = Subject {
            camera: name.to_owned(),
            stream,
            group: kept.and_then(|kept| kept.group.clone()),
            recorder: None,
            host: kept.and_then(|kept| kept.address.clone()),
        };
        self.ledger.observe(&subject, events, |at| now.wall(at));
    }

    /// A camera's device is not listened to any more, or its pictures not watched: what was reported last is over, as far as anybody
    /// knows.
    pub fn on_reports_closed(&mut self, now: Moment, name: &str, stream: &str) {
        if !self.elsewhere {
            self.ledger.on_closed(now.utc, name, stream);
        }
    }

    /// Another program keeps the ledger and has these entries now.
    pub fn on_elsewhere(&mut self, entries: Vec<Entry>) {
        self.ledger = Ledger::kept_elsewhere(entries);
        self.shared = Arc::new(self.ledger.clone());
        self.elsewhere = true;
    }

    /// This program keeps the ledger from now on, as it was left.
    pub fn on_keeps(&mut self, entries: Vec<Entry>, seen: Option<Wall>) {
        self.ledger = Ledger::from_kept(entries, seen);
        self.elsewhere = false;
        // What is over was entered by the other one; what goes on is entered anew.
        let next = |events: &Arc<[Event]>| {
            let open = events.iter().find(|event| event.end.is_none()).map(|event| event.number);
            open.unwrap_or_else(|| events.last().map_or(0, |event| event.number + 1))
        };
        self.entered = self.seen.iter().map(|(key, events)| (*key, next(events))).collect();
        self.seen.clear();
        self.unkept = Default::default();
    }

    /// Whether another program keeps the ledger.
    #[must_use]
    pub const fn is_elsewhere(&self) -> bool {
        self.elsewhere
    }

    /// Something becomes of an entry; gives what to say of it.
    pub fn on_entry(&mut self, id: u64, order: EntryOrder, by: String, at: Wall) -> Option<String> {
        let entry = self.ledger.entry_mut(id)?;
        let subject = entry.subject();
        match order {
            EntryOrder::Acknowledge => {
                entry.acknowledged = if entry.acknowledged.is_none() { Some(Acknowledged { by, at }) } else { None };
                let told = if entry.acknowledged.is_some() { "acknowledged" } else { "not acknowledged any more" };
                Some(format!("{subject}: {told}"))
            }
            EntryOrder::Shelve => {
                let shelved = entry.shelved_until.is_some_and(|until| until > at);
                entry.shelved_until = (!shelved).then(|| at.offset(SHELF.as_micros() as i64));
                let told = if shelved { "unshelved" } else { "shelved for an hour" };
                Some(format!("{subject}: {told}"))
            }
            EntryOrder::Note(note) => {
                note.trim().clone_into(&mut entry.note);
                None
            }
        }
    }

    /// What is to be kept of the ledger since this was asked last: entries as they are now, numbers of those that are gone.
    pub fn take_changed(&mut self) -> (Vec<Entry>, Vec<u64>) {
        let changed = (self.ledger.take_changed(), self.ledger.take_removed());
        if !changed.0.is_empty() || !changed.1.is_empty() {
            self.shared = Arc::new(self.ledger.clone());
        }
        changed
    }

    /// Readings and times without pictures that are to be kept.
    pub fn take_unkept(&mut self) -> (Vec<Reading>, Vec<Missing>) {
        std::mem::take(&mut self.unkept)
    }

    /// Keeps what the figures were, once a second.
    fn remember(&mut self, now: Moment, cameras: &Cameras, figures: &HashMap<FeedKey, Arc<Figures>>) {
        for (key, figures) in figures {
            let of = || StreamName { camera: cameras.name(key.camera).to_owned(), stream: key.role.word().to_owned() };
            if !self.histories.contains_key(key) {
                let mut history = History::default();
                for (span, readings) in self.past.remove(&of()).unwrap_or_default() {
                    let age = |at: Wall| now.utc.micros_since(at) as f64 / 1e6;
                    history.restore(now.mono, span, readings.into_iter().map(|(at, sample)| (age(at), sample)));
                }
                Arc::make_mut(&mut self.histories).insert(*key, history.into());
            }
            let Some(history) = self.histories.get(key).filter(|history| history.is_due(now.mono)) else { continue };
            let sample = Sample::of(figures);
            history.push(now.mono, sample);
            // A stream that stands on the bench a second time is no second stream.
            if key.by.is_none() && !self.elsewhere && self.unkept.0.len() < UNKEPT {
                self.unkept.0.push(Reading { of: of(), at: now.utc, sample });
            }
        }
    }

    /// Enters what happened since.
    fn enter_events(&mut self, now: Moment, cameras: &Cameras, site: &Site, figures: &HashMap<FeedKey, Arc<Figures>>) {
        let fresh: Vec<(FeedKey, Arc<[Event]>)> = figures
            .iter()
            // A stream that stands on the bench a second time is no second stream.
            .filter(|(key, _)| key.by.is_none())
            .filter(|(key, figures)| self.seen.get(key).is_none_or(|seen| !Arc::ptr_eq(seen, &figures.events)))
            .map(|(key, figures)| (*key, figures.events.clone()))
            .collect();
        for (key, events) in fresh {
            if !self.elsewhere {
                let subject = subject(cameras, site, key);
                let from = self.entered.get(&key).copied().unwrap_or(0);
                let own: Vec<Event> = events.iter().filter(|event| event.number >= from).cloned().collect();
                self.keep_missing(now, key, &subject, &own);
                self.ledger.observe(&subject, &own, |at| now.wall(at));
            }
            self.seen.insert(key, events);
        }
        let gone: Vec<FeedKey> = self.seen.keys().filter(|key| !figures.contains_key(key)).copied().collect();
        for key in gone {
            if !self.elsewhere {
                self.ledger.on_closed(now.utc, cameras.name(key.camera), key.role.word());
            }
            self.seen.remove(&key);
            self.kept.remove(&key);
            self.entered.remove(&key);
        }
    }

    /// Times without new pictures go into the history, each when it begins, changes and ends.
    fn keep_missing(&mut self, now: Moment, key: FeedKey, subject: &Subject, events: &[Event]) {
        let (from, starts) = self.kept.entry(key).or_default();
        for event in events.iter().filter(|event| event.number >= *from && event.kind.is_dropout()) {
            let start = *starts.entry(event.number).or_insert_with(|| now.wall(event.start));
            self.unkept.1.push(Missing {
                of: StreamName { camera: subject.camera.clone(), stream: subject.stream.to_owned() },
                start,
                end: event.end.map(|end| now.wall(end).max(start)),
                kind: event.kind,
                cause: event.cause,
            });
        }
        if let Some(open) = events.iter().find(|event| event.end.is_none()).or(events.last()) {
            *from = open.number;
            *starts = starts.split_off(&open.number);
        }
    }
}

fn subject(cameras: &Cameras, site: &Site, key: FeedKey) -> Subject {
    let camera = cameras.name(key.camera).to_owned();
    let kept = site.camera(&camera);
    Subject {
        stream: key.role.word(),
        group: kept.and_then(|kept| kept.group.clone()),
        recorder: kept.and_then(|kept| kept.recorder.clone()),
        host: cameras.origin(key).and_then(host_of).map(str::to_owned),
        camera,
    }
}
