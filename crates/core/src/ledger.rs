//! The ledger: what happened to all cameras, one entry for one root. Streams that fall together and share something are
//! one entry; what comes again within a minute is the same entry once more.

use crate::event::{Confidence, Event, EventKind};
use crate::{Cause, Mono, Wall};
use std::collections::{BTreeMap, BTreeSet, HashMap};
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

/// Who took note of an entry, and when.
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
    /// Who took note of it.
    pub acknowledged: Option<Acknowledged>,
    /// It asks for nobody until then.
    pub shelved_until: Option<Wall>,
    /// What somebody wrote to it.
    pub note: String,
    /// Since when pictures are missing, while they are; not kept.
    pub down_since: Option<Wall>,
}

/// From here on a dropout that runs needs a hand: before, it may come back by itself.
const NEEDS_A_HAND: Duration = Duration::from_secs(10);

impl Entry {
    /// How long it has lasted.
    #[must_use]
    pub fn length(&self, now: Wall) -> Duration {
        Duration::from_micros(self.end.unwrap_or(now).micros_since(self.start).max(0) as u64)
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

    /// Somebody should do something now: no picture for a while, and nobody has taken note of it.
    #[must_use]
    pub fn needs_a_hand(&self, now: Wall) -> bool {
        let shelved = self.shelved_until.is_some_and(|until| until > now);
        let lasts = |since: Wall| now.micros_since(since) >= NEEDS_A_HAND.as_micros() as i64;
        self.down_since.is_some_and(lasts) && self.acknowledged.is_none() && !shelved
    }
}

/// Streams that fall within this time of each other may have fallen by one cause.
const TOGETHER: Duration = Duration::from_secs(5);
/// What comes again within this time is no new entry.
const AGAIN: Duration = Duration::from_secs(60);
/// Entries held here; all of them are in the store.
const HELD: usize = 2000;
/// So many entries at once are no accident.
const ROOTS: usize = 3;
/// So many cameras that fall together, and three in five of all, are a flood.
const FLOOD: usize = 4;
/// So many of the newest are looked at for what belongs together.
const LOOKED_AT: usize = 200;
/// The load is counted over this time.
const LOAD: Duration = Duration::from_secs(600);

/// A stream's event: its camera, which stream, when it began, and its number. Numbers begin anew when a stream is opened
/// anew.
type Key = (String, &'static str, Mono, u64);

/// What goes on of an entry: its kind, and since when.
type Running = (EventKind, Wall);

/// All entries, the newest last.
#[derive(Debug, Clone, Default)]
pub struct Ledger {
    entries: Vec<Entry>,
    next: u64,
    /// The entry that each event went into.
    of: HashMap<Key, u64>,
    /// Events that go on, of each entry.
    open: HashMap<u64, BTreeMap<Key, Running>>,
    changed: BTreeSet<u64>,
    /// Entries that went into another one.
    removed: Vec<u64>,
    /// What each camera may share, by its name.
    subjects: HashMap<String, Subject>,
    /// When entries began to need a hand.
    alarms: Vec<(u64, Wall)>,
}

impl Ledger {
    /// A ledger that goes on from what was kept, oldest first. What ran when the program ended is over: nobody watched.
    #[must_use]
    pub fn from_kept(mut entries: Vec<Entry>) -> Self {
        let next = entries.iter().map(|entry| entry.id + 1).max().unwrap_or(0);
        let mut changed = BTreeSet::new();
        for entry in entries.iter_mut().filter(|entry| entry.end.is_none()) {
            entry.end = Some(entry.start);
            entry.done.push("its end was not seen: the program had ended".into());
            changed.insert(entry.id);
        }
        Self { entries, next, changed, ..Self::default() }
    }

    /// A ledger as another program keeps it, oldest first: shown, not kept. A dropout that goes on is taken to have lasted
    /// since its entry began.
    #[must_use]
    pub fn kept_elsewhere(mut entries: Vec<Entry>) -> Self {
        for entry in entries.iter_mut().filter(|entry| entry.end.is_none() && entry.kind.is_dropout()) {
            entry.down_since = Some(entry.start);
        }
        Self { entries, ..Self::default() }
    }

    /// The entries, oldest first.
    #[must_use]
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// An entry by its number.
    pub fn entry_mut(&mut self, id: u64) -> Option<&mut Entry> {
        self.changed.insert(id);
        self.entries.iter_mut().find(|entry| entry.id == id)
    }

    /// Entries that changed since this was asked last, to be kept.
    pub fn take_changed(&mut self) -> Vec<Entry> {
        let changed = std::mem::take(&mut self.changed);
        self.entries.iter().filter(|entry| changed.contains(&entry.id)).cloned().collect()
    }

    /// Numbers of entries that are gone since this was asked last, as they went into another one.
    pub fn take_removed(&mut self) -> Vec<u64> {
        std::mem::take(&mut self.removed)
    }

    /// Entries that need a hand.
    pub fn alarms(&self, now: Wall) -> impl Iterator<Item = &Entry> {
        self.entries.iter().filter(move |entry| entry.needs_a_hand(now))
    }

    /// Alarms that came in the last ten minutes: what the operator has to bear.
    #[must_use]
    pub fn load(&self, now: Wall) -> usize {
        self.alarms.iter().filter(|(_, at)| now.micros_since(*at) < LOAD.as_micros() as i64).count()
    }

    /// Takes what happened to a stream; `wall` gives our UTC of a moment of its events.
    pub fn observe(&mut self, subject: &Subject, events: &[Event], wall: impl Fn(Mono) -> Wall) {
        if self.subjects.get(&subject.camera) != Some(subject) {
            self.subjects.insert(subject.camera.clone(), subject.clone());
        }
        for event in events {
            let key = (subject.camera.clone(), subject.stream, event.start, event.number);
            let (start, end) = (wall(event.start), event.end.map(&wall));
            match self.of.get(&key).copied() {
                Some(id) => self.follow(id, &key, event, end),
                None => self.enter(key, subject, event, start, end),
            }
        }
    }

    /// A stream is not received any more: what went on of it is over, as far as anybody knows.
    pub fn on_closed(&mut self, now: Wall, camera: &str, stream: &str) {
        self.of.retain(|(name, role, ..), _| name != camera || *role != stream);
        for (id, open) in &mut self.open {
            let before = open.len();
            open.retain(|(name, role, ..), _| name != camera || *role != stream);
            if open.len() == before {
                continue;
            }
            if let Some(entry) = self.entries.iter_mut().rev().find(|entry| entry.id == *id) {
                entry.down_since = down_since(open);
                if open.is_empty() {
                    entry.end = Some(now.max(entry.start));
                }
                self.changed.insert(*id);
            }
        }
    }

    /// Time went on: what lasts may need a hand now. True where that makes a difference.
    pub fn tick(&mut self, now: Wall) -> bool {
        let before = self.alarms.clone();
        for entry in self.entries.iter().rev().take(LOOKED_AT).filter(|entry| entry.needs_a_hand(now)) {
            if !self.alarms.iter().any(|(id, _)| *id == entry.id) {
                self.alarms.push((entry.id, now));
            }
        }
        self.alarms.retain(|(_, at)| now.micros_since(*at) < LOAD.as_micros() as i64);
        self.alarms != before
    }

    /// Something was done about a camera: it goes to its entry that runs, or else to a new one.
    pub fn on_done(&mut self, now: Wall, camera: &str, cause: Option<Cause>, what: String) {
        let runs = |entry: &&mut Entry| entry.end.is_none() && entry.cameras.iter().any(|name| name == camera);
        if let Some(entry) = self.entries.iter_mut().rev().find(runs) {
            entry.done.push(what);
            self.changed.insert(entry.id);
            return;
        }
        let told = cause.map_or_else(String::new, |cause| cause.to_string());
        let entry = self.new_entry(camera, EventKind::Strained, (now, Some(now)), (cause, told, Confidence::Likely));
        self.push(Entry { done: vec![what], ..entry });
    }

    fn new_entry(
        &mut self,
        camera: &str,
        kind: EventKind,
        (start, end): (Wall, Option<Wall>),
        (cause, evidence, confidence): (Option<Cause>, String, Confidence),
    ) -> Entry {
        let id = self.next;
        self.next += 1;
        Entry {
            id,
            cameras: vec![camera.to_owned()],
            shared: None,
            kind,
            start,
            end,
            times: 1,
            cause,
            evidence,
            confidence,
            done: Vec::new(),
            acknowledged: None,
            shelved_until: None,
            note: String::new(),
            down_since: None,
        }
    }

    fn push(&mut self, entry: Entry) {
        if self.entries.len() == HELD {
            let gone = self.entries.remove(0).id;
            self.of.retain(|_, id| *id != gone);
            self.open.remove(&gone);
        }
        self.changed.insert(entry.id);
        self.entries.push(entry);
    }

    /// An event that is known goes on, or ends.
    fn follow(&mut self, id: u64, key: &Key, event: &Event, end: Option<Wall>) {
        let Some(entry) = self.entries.iter_mut().rev().find(|entry| entry.id == id) else { return };
        let open = self.open.entry(id).or_default();
        let Some(running) = open.get_mut(key) else { return };
        running.0 = event.kind;
        if entry.cameras.len() == 1 && entry.kind == event.kind && entry.evidence != event.evidence {
            entry.evidence.clone_from(&event.evidence);
            entry.confidence = event.confidence;
            self.changed.insert(id);
        }
        if event.kind.is_worse_than(entry.kind) || (entry.cameras.len() == 1 && entry.cause != event.cause) {
            (entry.kind, entry.cause) = (event.kind, event.cause);
            entry.evidence.clone_from(&event.evidence);
            entry.confidence = event.confidence;
            self.changed.insert(id);
        }
        if end.is_some() {
            open.remove(key);
        }
        entry.down_since = down_since(open);
        let Some(end) = end else { return };
        if entry.cameras.len() == 1 {
            // At the end more is known of it than at its beginning.
            entry.evidence.clone_from(&event.evidence);
            entry.confidence = event.confidence;
        }
        if open.is_empty() {
            entry.end = Some(end.max(entry.start));
        }
        self.changed.insert(id);
    }

    fn enter(&mut self, key: Key, subject: &Subject, event: &Event, start: Wall, end: Option<Wall>) {
        let found = self.again(subject, event, start).or_else(|| self.together(subject, event, start));
        let id = if let Some((id, shared)) = found {
            self.join(id, shared, subject, event, (start, end));
            id
        } else {
            let told = (event.cause, event.evidence.clone(), event.confidence);
            let entry = self.new_entry(&subject.camera, event.kind, (start, end), told);
            let id = entry.id;
            self.push(entry);
            id
        };
        if end.is_none() {
            let open = self.open.entry(id).or_default();
            open.insert(key.clone(), (event.kind, start));
            let down = down_since(open);
            if let Some(entry) = self.entries.iter_mut().rev().find(|entry| entry.id == id) {
                entry.down_since = down;
            }
        }
        self.of.insert(key, id);
        self.collapse(id);
    }

    /// Where most of all cameras fell by one cause within seconds, their entries become one.
    fn collapse(&mut self, id: u64) {
        let Some(newest) = self.entries.iter().rev().find(|entry| entry.id == id) else { return };
        let (start, cause, dropout) = (newest.start, newest.cause, newest.kind.is_dropout());
        let near = |entry: &&Entry| start.micros_since(entry.start).unsigned_abs() < TOGETHER.as_micros() as u64;
        let alike = |entry: &&Entry| cause.is_some() && entry.cause == cause && entry.kind.is_dropout() == dropout;
        let ids: Vec<u64> = self.entries.iter().rev().take(LOOKED_AT).filter(near).filter(alike).map(|entry| entry.id).collect();
        let fallen: BTreeSet<&String> =
            self.entries.iter().filter(|entry| ids.contains(&entry.id)).flat_map(|entry| &entry.cameras).collect();
        if ids.len() < ROOTS || fallen.len() < FLOOD || fallen.len() * 5 < self.subjects.len() * 3 {
            return;
        }
        let Some(first) = ids.iter().min().copied() else { return };
        let (gone, stay): (Vec<Entry>, Vec<Entry>) =
            std::mem::take(&mut self.entries).into_iter().partition(|entry| entry.id != first && ids.contains(&entry.id));
        self.entries = stay;
        let mut running = BTreeMap::new();
        for id in &ids {
            running.extend(self.open.remove(id).unwrap_or_default());
        }
        self.of.values_mut().filter(|id| ids.contains(id)).for_each(|id| *id = first);
        if let Some(entry) = self.entries.iter_mut().rev().find(|entry| entry.id == first) {
            for other in gone {
                let new = other.cameras.into_iter().filter(|camera| !entry.cameras.contains(camera)).collect::<Vec<_>>();
                entry.cameras.extend(new);
                entry.times = entry.times.max(other.times);
                entry.done.extend(other.done);
                if other.kind.is_worse_than(entry.kind) {
                    (entry.kind, entry.evidence, entry.confidence) = (other.kind, other.evidence, other.confidence);
                }
                entry.end = entry.end.zip(other.end).map(|(one, two)| one.max(two));
                entry.acknowledged = entry.acknowledged.take().or(other.acknowledged);
                self.changed.remove(&other.id);
                self.removed.push(other.id);
            }
            if !running.is_empty() {
                entry.end = None;
            }
            entry.shared = Some(Shared::Most);
            entry.down_since = down_since(&running);
        }
        self.open.insert(first, running);
        self.changed.insert(first);
    }

    fn join(&mut self, id: u64, shared: Option<Shared>, subject: &Subject, event: &Event, (start, end): (Wall, Option<Wall>)) {
        let runs = self.open.get(&id).is_some_and(|open| !open.is_empty());
        let Some(entry) = self.entries.iter_mut().rev().find(|entry| entry.id == id) else { return };
        if !entry.cameras.contains(&subject.camera) {
            entry.cameras.push(subject.camera.clone());
            entry.shared = shared.or(entry.shared.take());
        } else if entry.end.is_some_and(|ended| ended <= start) {
            entry.times += 1;
        }
        if event.kind.is_worse_than(entry.kind) {
            (entry.kind, entry.cause) = (event.kind, event.cause);
            entry.evidence.clone_from(&event.evidence);
            entry.confidence = event.confidence;
        }
        entry.end = match end {
            Some(end) if !runs => Some(entry.end.map_or(end, |before| before.max(end))),
            _ => None,
        };
        self.changed.insert(id);
    }

    /// The entry of the same camera and cause that ended just now, or runs by another of its streams.
    fn again(&self, subject: &Subject, event: &Event, start: Wall) -> Option<(u64, Option<Shared>)> {
        let recent = |entry: &&Entry| match entry.end {
            Some(end) => start.micros_since(end) < AGAIN.as_micros() as i64,
            None => start.micros_since(entry.start) < AGAIN.as_micros() as i64 || entry.cameras.len() == 1,
        };
        let same =
            |entry: &&Entry| event.cause.is_some() && entry.cause == event.cause && entry.cameras.contains(&subject.camera);
        self.entries.iter().rev().take(LOOKED_AT).filter(recent).find(same).map(|entry| (entry.id, entry.shared.clone()))
    }

    /// The entry of other streams that fell by the same cause at the same time and share something with this one.
    fn together(&self, subject: &Subject, event: &Event, start: Wall) -> Option<(u64, Option<Shared>)> {
        let cause = event.cause?;
        let near = |entry: &&Entry| start.micros_since(entry.start).unsigned_abs() < TOGETHER.as_micros() as u64;
        let alike = |entry: &&Entry| entry.cause == Some(cause) && entry.kind.is_dropout() == event.kind.is_dropout();
        self.entries.iter().rev().take(LOOKED_AT).filter(near).filter(alike).find_map(|entry| {
            let shared = self.shared_with(entry, subject, cause)?;
            Some((entry.id, Some(shared)))
        })
    }

    fn shared_with(&self, entry: &Entry, subject: &Subject, cause: Cause) -> Option<Shared> {
        if entry.shared == Some(Shared::Most) {
            return Some(Shared::Most);
        }
        if matches!(cause, Cause::MachineSlow | Cause::TerminalSlow) {
            return Some(Shared::Machine);
        }
        let others: Vec<&Subject> = entry.cameras.iter().filter_map(|name| self.subjects.get(name)).collect();
        let all = |of: fn(&Subject) -> Option<&String>| {
            let own = of(subject)?;
            (!others.is_empty() && others.iter().all(|other| of(other) == Some(own))).then(|| own.clone())
        };
        let recorder = all(|subject| subject.recorder.as_ref()).map(Shared::Recorder);
        let host = || all(|subject| subject.host.as_ref()).map(Shared::Host);
        let group = || all(|subject| subject.group.as_ref()).map(Shared::Group);
        recorder.or_else(host).or_else(group)
    }
}

/// Since when pictures are missing by what goes on.
fn down_since(open: &BTreeMap<Key, Running>) -> Option<Wall> {
    open.values().filter(|(kind, _)| kind.is_dropout()).map(|(_, since)| *since).min()
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOON: i64 = 1_795_500_000_000_000;

    fn wall(at: Mono) -> Wall {
        Wall::from_unix_micros(NOON + at.as_micros() as i64)
    }

    fn at(seconds: u64) -> Mono {
        Mono::from_millis(seconds * 1000)
    }

    fn event(number: u64, kind: EventKind, cause: Cause, start: u64, end: Option<u64>) -> Event {
        let evidence = format!("{cause} at {start}");
        Event { number, kind, start: at(start), end: end.map(at), cause: Some(cause), evidence, confidence: Confidence::High }
    }

    fn channel(n: u32) -> Subject {
        Subject {
            camera: format!("Quay {n}"),
            stream: "sub",
            group: Some("Quay".into()),
            recorder: Some("Quay recorder".into()),
            host: Some("127.77.0.40".into()),
        }
    }

    fn alone(name: &str, group: &str) -> Subject {
        Subject { camera: name.into(), stream: "sub", group: Some(group.into()), recorder: None, host: Some(name.into()) }
    }

    #[test]
    fn channels_that_fall_together_are_one_entry_that_ends_with_the_last() {
        let mut ledger = Ledger::default();
        for n in 1..=8 {
            let lost = event(0, EventKind::Outage, Cause::Unreachable, 10 + u64::from(n) / 3, None);
            ledger.observe(&channel(n), &[lost], wall);
        }
        ledger.observe(&alone("Mast", "Hill"), &[event(0, EventKind::Outage, Cause::Unreachable, 12, None)], wall);
        assert_eq!(ledger.entries().len(), 2, "{:?}", ledger.entries());
        assert_eq!(ledger.entries()[0].subject(), "recorder Quay recorder: 8 cameras");
        assert_eq!(ledger.entries()[1].subject(), "Mast");
        for n in 1..=8 {
            let over = event(0, EventKind::Outage, Cause::Unreachable, 10 + u64::from(n) / 3, Some(20 + u64::from(n)));
            ledger.observe(&channel(n), &[over], wall);
            assert_eq!(ledger.entries()[0].end, (n == 8).then(|| wall(at(28))), "{n}");
        }
        assert_eq!(ledger.entries()[0].length(wall(at(99))), Duration::from_secs(18));
        // By a group; not by nothing.
        for name in ["North", "South"] {
            let stall = event(0, EventKind::Freeze, Cause::Silence, 40, Some(42));
            ledger.observe(&alone(name, "Slipways"), &[stall], wall);
        }
        let stall = event(1, EventKind::Freeze, Cause::Silence, 41, Some(42));
        ledger.observe(&alone("Mast", "Hill"), &[stall], wall);
        let told: Vec<String> = ledger.entries()[2..].iter().map(Entry::subject).collect();
        assert_eq!(told, ["group Slipways: 2 cameras", "Mast"]);
    }

    #[test]
    fn when_most_of_all_cameras_fall_at_once_it_is_one_entry_whatever_they_are_in() {
        let mut ledger = Ledger::default();
        let cameras: Vec<Subject> = (0..10).map(|n| alone(&format!("Camera {n}"), &format!("Group {}", n % 3))).collect();
        for camera in &cameras {
            ledger.observe(camera, &[], wall);
        }
        let fell = |n: u64| event(0, EventKind::Freeze, Cause::Silence, 10 + n / 4, None);
        for (n, camera) in (0..).zip(&cameras[..5]) {
            ledger.observe(camera, &[fell(n)], wall);
        }
        assert_eq!((ledger.entries().len(), ledger.take_removed()), (3, vec![]), "half of them is a group each");
        for (n, camera) in (5..).zip(&cameras[5..9]) {
            ledger.observe(camera, &[fell(n)], wall);
        }
        assert_eq!(ledger.entries().len(), 1, "{:?}", ledger.entries());
        assert_eq!(ledger.entries()[0].subject(), "this machine or its network: 9 cameras");
        assert_eq!(ledger.take_removed().len(), 2);
        assert!(ledger.take_changed().iter().all(|entry| entry.id == ledger.entries()[0].id));
        for (n, camera) in (0..).zip(&cameras[..9]) {
            let over = Event { end: Some(at(20 + n)), ..fell(n) };
            assert_eq!(ledger.entries()[0].end, None, "{n}");
            ledger.observe(camera, &[over], wall);
        }
        assert_eq!(ledger.entries()[0].end, Some(wall(at(28))));
    }

    #[test]
    fn short_ones_that_are_over_when_they_are_seen_are_a_flood_as_well() {
        let mut ledger = Ledger::default();
        let cameras: Vec<Subject> = (0..24).map(|n| alone(&format!("Camera {n}"), &format!("Group {}", n % 4))).collect();
        for camera in &cameras {
            ledger.observe(camera, &[], wall);
        }
        for camera in &cameras[..15] {
            ledger.observe(camera, &[event(0, EventKind::Stutter, Cause::Silence, 10, Some(11))], wall);
        }
        let told: Vec<String> = ledger.entries().iter().map(Entry::subject).collect();
        assert_eq!(told, ["this machine or its network: 15 cameras"]);
        assert_eq!(ledger.entries()[0].end, Some(wall(at(11))));
    }

    #[test]
    fn what_comes_again_and_again_is_one_entry_with_a_count() {
        let mut ledger = Ledger::default();
        let camera = alone("Mast", "Hill");
        let mut events = Vec::new();
        for n in 0..10 {
            events.push(event(n, EventKind::Stutter, Cause::PacketLoss, 10 * n, Some(10 * n + 1)));
            ledger.observe(&camera, &events, wall);
        }
        assert_eq!((ledger.entries().len(), ledger.entries()[0].times), (1, 10));
        assert_eq!(ledger.entries()[0].length(wall(at(200))), Duration::from_secs(91));
        // Main and sub of one camera at once are no second one; another cause is, and so is the same after a while.
        let main = Subject { stream: "main", ..camera.clone() };
        ledger.observe(&main, &[event(0, EventKind::Stutter, Cause::PacketLoss, 90, Some(91))], wall);
        assert_eq!(ledger.entries().len(), 1);
        events.push(event(10, EventKind::Strained, Cause::CameraSlowed, 95, Some(99)));
        events.push(event(11, EventKind::Freeze, Cause::PacketLoss, 300, Some(304)));
        ledger.observe(&camera, &events, wall);
        assert_eq!(
            ledger.entries().iter().map(|entry| entry.kind).collect::<Vec<_>>(),
            [EventKind::Stutter, EventKind::Strained, EventKind::Freeze]
        );
        assert_eq!(ledger.take_changed().len(), 3);
        assert!(ledger.take_changed().is_empty());
    }

    #[test]
    fn an_alarm_asks_for_a_hand_until_somebody_takes_note_and_is_counted_once() {
        let mut ledger = Ledger::default();
        let camera = alone("Mast", "Hill");
        let lost = [event(0, EventKind::Outage, Cause::PortClosed, 0, None)];
        ledger.observe(&camera, &lost, wall);
        assert_eq!((ledger.alarms(wall(at(5))).count(), ledger.load(wall(at(5)))), (0, 0), "it may come back by itself");
        for second in 10..20 {
            ledger.observe(&camera, &lost, wall);
            ledger.tick(wall(at(second)));
        }
        assert_eq!((ledger.alarms(wall(at(20))).count(), ledger.load(wall(at(20)))), (1, 1));
        let entry = ledger.entry_mut(0).unwrap();
        entry.shelved_until = Some(wall(at(60)));
        assert_eq!(ledger.alarms(wall(at(59))).count(), 0);
        assert_eq!(ledger.alarms(wall(at(61))).count(), 1);
        ledger.entry_mut(0).unwrap().acknowledged = Some(Acknowledged { by: "kim".into(), at: wall(at(62)) });
        assert_eq!(ledger.alarms(wall(at(70))).count(), 0);
        // Strain and short dropouts ask for nobody.
        ledger.observe(&alone("Gate", "Hill"), &[event(0, EventKind::Strained, Cause::Late, 300, None)], wall);
        assert_eq!((ledger.alarms(wall(at(900))).count(), ledger.load(wall(at(900)))), (0, 0));
        // Nor does strain in which a short dropout happened.
        let strain = event(0, EventKind::Strained, Cause::PacketLoss, 900, None);
        let freeze = event(1, EventKind::Freeze, Cause::PacketLoss, 903, Some(905));
        ledger.observe(&alone("Lane", "Hill"), &[strain, freeze], wall);
        let entry = ledger.entries().last().unwrap();
        assert_eq!((entry.kind, entry.end, entry.needs_a_hand(wall(at(990)))), (EventKind::Freeze, None, false));
        ledger.on_done(wall(at(901)), "Gate", Some(Cause::TooHeavy), "eased to sub".into());
        ledger.on_done(wall(at(902)), "Lock", Some(Cause::TooHeavy), "eased to sub".into());
        let done: Vec<_> = ledger.entries().iter().map(|entry| (entry.subject(), entry.done.len())).collect();
        assert_eq!(done, [("Mast".into(), 0), ("Gate".into(), 1), ("Lane".into(), 0), ("Lock".into(), 1)]);
        // After a restart what ran is over.
        let again = Ledger::from_kept(ledger.entries().to_vec());
        assert!(again.entries().iter().all(|entry| entry.end.is_some()));
        assert_eq!((again.next, again.changed.len()), (4, 3));
    }

    #[test]
    fn a_stream_that_is_closed_ends_what_went_on_and_one_that_is_opened_anew_begins_anew() {
        let mut ledger = Ledger::default();
        let camera = alone("Mast", "Hill");
        ledger.observe(&camera, &[event(0, EventKind::Strained, Cause::Late, 10, None)], wall);
        ledger.on_closed(wall(at(20)), "Mast", "main");
        assert_eq!(ledger.entries()[0].end, None, "another stream of it");
        ledger.on_closed(wall(at(20)), "Mast", "sub");
        assert_eq!(ledger.entries()[0].end, Some(wall(at(20))));
        // Its events are counted from 0 again.
        ledger.observe(&camera, &[event(0, EventKind::Freeze, Cause::Silence, 300, None)], wall);
        assert_eq!((ledger.entries().len(), ledger.entries()[1].kind), (2, EventKind::Freeze));
    }

    #[test]
    fn it_stays_bounded() {
        let mut ledger = Ledger::default();
        for n in 0..5000u64 {
            let lost = event(n, EventKind::Freeze, Cause::Silence, 100 * n, Some(100 * n + 2));
            ledger.observe(&alone("Mast", "Hill"), &[lost], wall);
        }
        assert_eq!((ledger.entries().len(), ledger.of.len()), (HELD, HELD));
        assert_eq!(ledger.entries().last().unwrap().id, 4999);
    }
}
