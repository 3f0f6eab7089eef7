//! The ledger: what happened to all cameras, one entry for one root. Streams that fall together and share something are
//! one entry; what comes again within a minute is the same entry once more, with its parts.

mod entry;

pub use entry::{Acknowledged, Entry, Part, Parts, Shared, Subject};

use crate::event::{Confidence, Event, EventKind};
use crate::{Cause, Mono, Wall};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::Duration;

/// Streams that fall within this time of each other may have fallen by one cause.
const TOGETHER: Duration = Duration::from_secs(5);
/// Streams that fall by causes that only look different may have fallen by one within this time.
const AT_ONCE: Duration = Duration::from_secs(2);
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
    /// When entries became alarms.
    alarms: Vec<(u64, Wall)>,
}

impl Ledger {
    /// A ledger that goes on from what was kept, oldest first. What ran when the program ended is over: it was `seen` last
    /// then, and nobody watched since.
    #[must_use]
    pub fn from_kept(mut entries: Vec<Entry>, seen: Option<Wall>) -> Self {
        let next = entries.iter().map(|entry| entry.id + 1).max().unwrap_or(0);
        let mut changed = BTreeSet::new();
        for entry in entries.iter_mut().filter(|entry| entry.end.is_none()) {
            let seen = seen.unwrap_or(entry.start).max(entry.start);
            entry.end = Some(seen);
            for part in entry.parts.told.iter_mut().filter(|part| part.end.is_none()) {
                part.end = Some(seen.max(part.start));
            }
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

    /// Entries that are alarms.
    pub fn alarms(&self, now: Wall) -> impl Iterator<Item = &Entry> {
        self.entries.iter().filter(move |entry| entry.is_alarm(now))
    }

    /// Until when what a camera does by this cause is shelved; `None` where it is not. What is shelved is so for what comes after it too.
    #[must_use]
    pub fn shelf(&self, camera: &str, cause: Option<Cause>, now: Wall) -> Option<Wall> {
        cause?;
        let of_camera = |entry: &&Entry| entry.cause == cause && entry.cameras.iter().any(|name| name == camera);
        let newest = self.entries.iter().rev().take(LOOKED_AT).find(of_camera)?;
        newest.shelved_until.filter(|until| *until > now)
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
            let is_closed = |(name, role, ..): &Key| name == camera && *role == stream;
            let closed: Vec<Running> = open.iter().filter(|(key, _)| is_closed(key)).map(|(_, running)| *running).collect();
            if closed.is_empty() {
                continue;
            }
            open.retain(|key, _| !is_closed(key));
            if let Some(entry) = self.entries.iter_mut().rev().find(|entry| entry.id == *id) {
                entry.down_since = down_since(open);
                for (_, start) in closed {
                    end_part(entry, camera, start, now);
                }
                if open.is_empty() {
                    entry.end = Some(now.max(entry.start));
                }
                self.changed.insert(*id);
            }
        }
    }

    /// Time went on: what lasts may be an alarm now. True where that makes a difference.
    pub fn tick(&mut self, now: Wall) -> bool {
        let before = self.alarms.clone();
        for entry in self.entries.iter().rev().take(LOOKED_AT).filter(|entry| entry.is_alarm(now)) {
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
            parts: Parts { told: vec![Part { camera: camera.to_owned(), kind, start, end }], ..Parts::default() },
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
        if !open.contains_key(key) && end.is_none() {
            // It was over for a moment only.
            let own = |part: &&mut Part| part.camera == key.0 && part.kind == event.kind && part.end.is_some();
            let Some(part) = entry.parts.told.iter_mut().rev().find(own) else { return };
            (part.end, entry.end) = (None, None);
            open.insert(key.clone(), (event.kind, part.start));
            self.changed.insert(id);
        }
        let Some(running) = open.get_mut(key) else { return };
        let start = running.1;
        running.0 = event.kind;
        let own = |part: &&mut Part| part.end.is_none() && part.start == start && part.camera == key.0;
        if let Some(part) = entry.parts.told.iter_mut().rev().find(own) {
            part.kind = event.kind;
        }
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
        end_part(entry, &key.0, start, end);
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
        // Where others fell just now, it is with them, whatever happened to it before.
        let found = self.together(subject, event, start).or_else(|| self.again(subject, event, start));
        let id = if let Some((id, shared)) = found {
            self.join(id, shared, subject, event, (start, end));
            id
        } else {
            let told = (event.cause, event.evidence.clone(), event.confidence);
            let shelved_until = self.shelf(&subject.camera, event.cause, start);
            let entry = Entry { shelved_until, ..self.new_entry(&subject.camera, event.kind, (start, end), told) };
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
                other.parts.told.into_iter().for_each(|part| entry.parts.push(part));
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
        let deeper = event.cause.zip(entry.cause).is_some_and(|(new, old)| new != old && new.explains(old));
        if event.kind.is_worse_than(entry.kind) || deeper {
            let cause = if deeper || entry.cause.is_none() { event.cause } else { entry.cause };
            entry.kind = if event.kind.is_worse_than(entry.kind) { event.kind } else { entry.kind };
            entry.cause = cause;
            if cause == event.cause {
                entry.evidence.clone_from(&event.evidence);
                entry.confidence = event.confidence;
            }
        }
        entry.start = entry.start.min(start);
        entry.parts.push(Part { camera: subject.camera.clone(), kind: event.kind, start, end });
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
        let leap = |entry: &&Entry| event.kind == EventKind::TimestampsLeap && entry.kind == event.kind;
        let alike = |entry: &&Entry| event.cause.zip(entry.cause).is_some_and(|(new, old)| new.is_of_one_root(old));
        let same = |entry: &&Entry| (alike(entry) || leap(entry)) && entry.cameras.contains(&subject.camera);
        self.entries.iter().rev().take(LOOKED_AT).filter(recent).find(same).map(|entry| (entry.id, entry.shared.clone()))
    }

    /// The entry of other streams that fell by the same cause at the same time and share something with this one.
    fn together(&mut self, subject: &Subject, event: &Event, start: Wall) -> Option<(u64, Option<Shared>)> {
        let cause = event.cause?;
        let ours = |cause| matches!(cause, Some(Cause::MachineSlow | Cause::TerminalSlow));
        let fell_with = |entry: &Entry| {
            let apart = |part: &Part| start.micros_since(part.start).unsigned_abs();
            let others = entry.parts.told.iter().rev().take(LOOKED_AT).filter(|part| part.camera != subject.camera);
            let near = others.min_by_key(|part| apart(part))?;
            let alike = near.kind.is_dropout() == event.kind.is_dropout();
            let (old, apart) = (entry.cause?, u128::from(apart(near)));
            let fell = (old == cause && alike && apart < TOGETHER.as_micros())
                || (alike && event.kind.is_dropout() && old.is_of_one_fall(cause) && apart < AT_ONCE.as_micros());
            fell.then_some(near.start)
        };
        let recent = |entry: &Entry| entry.end.is_none_or(|end| start.micros_since(end) < AGAIN.as_micros() as i64);
        let found = self.entries.iter().rev().take(LOOKED_AT).find_map(|entry| {
            // A busy machine is one root, however often it shows.
            let at = if ours(event.cause) && ours(entry.cause) && recent(entry) { Some(start) } else { fell_with(entry) };
            Some((entry.id, at?, self.shared_with(entry, subject, cause)?))
        });
        let (id, at, shared) = found?;
        Some((if ours(event.cause) { id } else { self.part_off(id, at) }, Some(shared)))
    }

    /// What of an entry began around this time is an entry of its own from now on, where more of it began long before; gives
    /// its number.
    fn part_off(&mut self, id: u64, at: Wall) -> u64 {
        // What had ended by then was something else.
        let near = |part: &Part| {
            let apart = u128::from(at.micros_since(part.start).unsigned_abs());
            apart < AT_ONCE.as_micros() || (apart < TOGETHER.as_micros() && part.end.is_none_or(|end| end > at))
        };
        let Some(index) = self.entries.iter().rposition(|entry| entry.id == id) else { return id };
        let Some(old) = self.entries.get_mut(index).filter(|entry| entry.parts.told.iter().any(|part| !near(part))) else {
            return id;
        };
        let (new, stay): (Vec<Part>, Vec<Part>) = std::mem::take(&mut old.parts.told).into_iter().partition(near);
        let Some(start) = new.iter().map(|part| part.start).min() else {
            old.parts.told = stay;
            return id;
        };
        old.parts.told = stay;
        old.times = old.times.saturating_sub(1).max(1);
        let (cause, evidence, confidence) = (old.cause, old.evidence.clone(), old.confidence);
        let kind = new.iter().map(|part| part.kind).fold(EventKind::Strained, |a, b| if b.is_worse_than(a) { b } else { a });
        if let Some(worst) = old.parts.told.iter().map(|part| part.kind).reduce(|a, b| if b.is_worse_than(a) { b } else { a }) {
            old.kind = worst;
        }
        let has_parts = |camera: &String| old.parts.told.iter().any(|part| part.camera == *camera);
        let cameras_left: Vec<String> = old.cameras.iter().filter(|camera| has_parts(camera)).cloned().collect();
        if cameras_left.len() == 1 {
            old.shared = None;
        }
        old.cameras = cameras_left;
        let cameras: BTreeSet<String> = new.iter().map(|part| part.camera.clone()).collect();
        let first = cameras.first().cloned().unwrap_or_default();
        // Its events go with it.
        let (moved, kept): (BTreeMap<Key, Running>, BTreeMap<Key, Running>) = self
            .open
            .remove(&id)
            .unwrap_or_default()
            .into_iter()
            .partition(|(key, (_, since))| cameras.contains(&key.0) && *since >= start);
        old.end = if kept.is_empty() { old.parts.told.iter().filter_map(|part| part.end).max() } else { None };
        old.down_since = down_since(&kept);
        self.open.insert(id, kept);
        self.changed.insert(id);
        let end = if moved.is_empty() { new.iter().filter_map(|part| part.end).max() } else { None };
        let mut entry = self.new_entry(&first, kind, (start, end), (cause, evidence, confidence));
        entry.cameras = cameras.into_iter().collect();
        entry.parts.told = new;
        entry.down_since = down_since(&moved);
        let new_id = entry.id;
        for key in moved.keys() {
            self.of.insert(key.clone(), new_id);
        }
        self.open.insert(new_id, moved);
        self.push(entry);
        new_id
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

fn end_part(entry: &mut Entry, camera: &str, start: Wall, end: Wall) {
    let own = |part: &&mut Part| part.end.is_none() && part.start == start && part.camera == camera;
    if let Some(part) = entry.parts.told.iter_mut().rev().find(own) {
        part.end = Some(end.max(start));
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
    fn a_report_that_a_rule_makes_an_alarm_is_one_until_it_is_acknowledged_and_stays_on_its_shelf() {
        let mut ledger = Ledger::default();
        let camera = alone("Gate", "Quay");
        let report =
            |number: u64, start: u64, end: Option<u64>| event(number, EventKind::ReportedAlarm, Cause::Motion, start, end);
        let alarms = |ledger: &Ledger, second: u64| ledger.alarms(wall(at(second))).count();
        ledger.observe(&camera, &[event(0, EventKind::Reported, Cause::Tampering, 0, None), report(1, 10, Some(12))], wall);
        ledger.tick(wall(at(13)));
        assert_eq!((alarms(&ledger, 500), ledger.load(wall(at(500)))), (1, 1), "over, and nobody has taken note");
        let by = Acknowledged { by: "watch".into(), at: wall(at(500)) };
        ledger.entry_mut(1).unwrap().acknowledged = Some(by);
        assert_eq!(alarms(&ledger, 501), 0);
        ledger.entry_mut(1).unwrap().shelved_until = Some(wall(at(4000)));
        // On the shelf for whatever comes of this kind, and for nothing else.
        ledger.observe(&camera, &[report(2, 1000, Some(1002)), report(3, 2000, Some(2002))], wall);
        assert_eq!((ledger.entries().len(), alarms(&ledger, 2003)), (4, 0));
        assert!(ledger.shelf("Gate", Some(Cause::Motion), wall(at(2003))).is_some());
        assert!(ledger.shelf("Gate", Some(Cause::Tampering), wall(at(2003))).is_none());
        assert!(ledger.shelf("Mast", Some(Cause::Motion), wall(at(2003))).is_none());
        ledger.entry_mut(3).unwrap().shelved_until = None;
        ledger.observe(&camera, &[report(4, 3000, Some(3002))], wall);
        assert_eq!(alarms(&ledger, 3003), 2, "taken off it, with what came since");
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
        assert_eq!((entry.kind, entry.end, entry.is_alarm(wall(at(990)))), (EventKind::Freeze, None, false));
        ledger.on_done(wall(at(901)), "Gate", Some(Cause::TooHeavy), "eased to sub".into());
        ledger.on_done(wall(at(902)), "Lock", Some(Cause::TooHeavy), "eased to sub".into());
        let done: Vec<_> = ledger.entries().iter().map(|entry| (entry.subject(), entry.done.len())).collect();
        assert_eq!(done, [("Mast".into(), 0), ("Gate".into(), 1), ("Lane".into(), 0), ("Lock".into(), 1)]);
        // After a restart what ran is over.
        let again = Ledger::from_kept(ledger.entries().to_vec(), Some(wall(at(950))));
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
    fn what_comes_and_goes_is_told_by_its_parts_and_alarms_by_its_share() {
        let mut ledger = Ledger::default();
        let camera = alone("Mast", "Hill");
        let mut events = Vec::new();
        for n in 0..4 {
            events.push(event(n, EventKind::Outage, Cause::ClosedByCamera, 10 + 15 * n, Some(10 + 15 * n + 3)));
            ledger.observe(&camera, &events, wall);
        }
        let entry = &ledger.entries()[0];
        assert_eq!(entry.length_text(wall(at(200))), "down 12.0 s in 48.0 s, 4 times");
        assert_eq!(entry.stretches("Mast", wall(at(200)))[1], (EventKind::Outage, wall(at(25)), wall(at(28))));
        assert!(entry.stretches("Gate", wall(at(200))).is_empty() && !entry.is_alarm(wall(at(59))), "a fifth of a minute");
        // Freezes of half of the time are an alarm, though none lasts.
        let gate = alone("Gate", "Hill");
        let chatters: Vec<Event> =
            (0..30).map(|n| event(n, EventKind::Freeze, Cause::PacketLoss, 300 + 2 * n, Some(301 + 2 * n))).collect();
        for n in 0..30 {
            ledger.observe(&gate, &chatters[..=n], wall);
        }
        ledger.tick(wall(at(360)));
        assert_eq!(ledger.alarms(wall(at(360))).map(Entry::subject).collect::<Vec<_>>(), ["Gate"]);
        assert_eq!((ledger.load(wall(at(360))), ledger.alarms(wall(at(425))).count()), (1, 0), "it is over");
        // Two streams of a camera at once are missing once; of thousands of parts the oldest are counted.
        let main = Subject { stream: "main", ..gate.clone() };
        ledger.observe(&main, &[event(0, EventKind::Freeze, Cause::PacketLoss, 358, Some(359))], wall);
        assert_eq!(ledger.entries()[1].parts.missing(wall(at(400))), Duration::from_secs(30));
        let many: Vec<Event> =
            (0..1000).map(|n| event(30 + n, EventKind::Stutter, Cause::PacketLoss, 400 + 2 * n, Some(401 + 2 * n))).collect();
        ledger.observe(&gate, &many, wall);
        let parts = &ledger.entries()[1].parts;
        assert_eq!((parts.times(), parts.missing(wall(at(9000)))), (1031, Duration::from_secs(1030)));
        assert!(parts.told.len() <= 200);
    }

    #[test]
    fn a_fall_of_many_is_one_entry_from_its_own_beginning_whatever_happened_before() {
        let mut ledger = Ledger::default();
        let lane = |n: u64| Subject { host: Some("127.77.0.9".into()), ..alone(&format!("Lane {n}"), &format!("Group {n}")) };
        for n in 0..16 {
            ledger.observe(&lane(n), &[], wall);
        }
        // Two of them stuttered shortly before, by loss and by a silence.
        let before = |n: u64| {
            let cause = if n == 0 { Cause::Silence } else { Cause::PacketLoss };
            event(0, EventKind::Stutter, cause, 96 - n, Some(97 - n))
        };
        ledger.observe(&lane(0), &[before(0)], wall);
        ledger.observe(&lane(5), &[before(5)], wall);
        let fall = |n: u64, end| {
            let cause = [Cause::Silence, Cause::Silence, Cause::PacketLoss, Cause::ClosedByCamera][n as usize % 4];
            let number = u64::from(n == 0 || n == 5);
            event(number, EventKind::Freeze, cause, 100, end)
        };
        for n in 0..16 {
            ledger.observe(&lane(n), &[fall(n, None)], wall);
        }
        let told: Vec<_> = ledger.entries().iter().map(|entry| (entry.cameras.len(), entry.start, entry.end.is_none())).collect();
        assert_eq!(
            told,
            [(1, wall(at(96)), false), (1, wall(at(91)), false), (16, wall(at(100)), true)],
            "{:?}",
            ledger.entries()
        );
        for n in 0..16 {
            ledger.observe(&lane(n), &[fall(n, Some(110 + n))], wall);
        }
        let entry = &ledger.entries()[2];
        assert_eq!((entry.end, entry.parts.missing(wall(at(300)))), (Some(wall(at(125))), Duration::from_secs(25)));
        // A busy machine is one entry, whenever it shows.
        for (n, at) in (0..6).zip([400, 411, 423, 430, 444, 450]) {
            let cause = if n % 2 == 0 { Cause::MachineSlow } else { Cause::TerminalSlow };
            ledger.observe(&lane(n), &[event(2, EventKind::Strained, cause, at, Some(at + 20))], wall);
        }
        assert_eq!((ledger.entries().len(), ledger.entries()[3].subject()), (4, "this machine: 6 cameras".into()));
    }

    #[test]
    fn one_cause_that_shows_in_many_ways_is_one_entry() {
        let mut ledger = Ledger::default();
        let camera = alone("Mast", "Hill");
        let shows = [
            (EventKind::Strained, Cause::Late),
            (EventKind::Stutter, Cause::AwaitingKeyframe),
            (EventKind::Strained, Cause::TooHeavy),
            (EventKind::Freeze, Cause::Late),
        ];
        let events: Vec<Event> = (0..22)
            .zip(shows.into_iter().cycle())
            .map(|(n, (kind, cause))| event(n, kind, cause, 10 + 3 * n, Some(12 + 3 * n)))
            .collect();
        for n in 0..events.len() {
            ledger.observe(&camera, &events[..=n], wall);
        }
        let told: Vec<_> = ledger.entries().iter().map(|entry| (entry.kind, entry.cause)).collect();
        assert_eq!(told, [(EventKind::Freeze, Some(Cause::TooHeavy))]);
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
