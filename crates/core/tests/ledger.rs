//! The ledger under any sequence of events: nothing is lost, nothing goes on that has ended.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::event::{Confidence, Event, EventKind};
use lattice_core::ledger::{Ledger, Subject};
use lattice_core::{Cause, Mono, Wall};
use proptest::prelude::*;
use std::collections::BTreeMap;

fn wall(at: Mono) -> Wall {
    Wall::from_unix_micros(1_795_500_000_000_000 + at.as_micros() as i64)
}

fn at(seconds: u64) -> Mono {
    Mono::from_millis(seconds * 1000)
}

fn subject(camera: usize) -> Subject {
    Subject {
        camera: format!("Camera {camera}"),
        stream: "sub",
        group: Some(format!("Group {}", camera % 2)),
        recorder: (camera < 3).then(|| "Recorder".into()),
        host: Some(format!("host {}", camera / 2)),
    }
}

#[derive(Debug, Clone)]
enum Step {
    Begins(usize, EventKind, Cause),
    Ends(usize),
    Closes(usize),
    Passes(u64),
}

fn step() -> impl Strategy<Value = Step> {
    let kind = prop::sample::select(EventKind::ALL.to_vec());
    let cause = prop::sample::select(vec![Cause::Silence, Cause::PacketLoss, Cause::Unreachable, Cause::MachineSlow]);
    prop_oneof![
        3 => (0..6usize, kind, cause).prop_map(|(camera, kind, cause)| Step::Begins(camera, kind, cause)),
        3 => (0..6usize).prop_map(Step::Ends),
        1 => (0..6usize).prop_map(Step::Closes),
        2 => (1..90u64).prop_map(Step::Passes),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    #[test]
    fn entries_go_on_exactly_as_long_as_something_of_them_does(steps in prop::collection::vec(step(), 1..120)) {
        let mut ledger = Ledger::default();
        let mut events: BTreeMap<usize, Vec<Event>> = BTreeMap::new();
        let mut kept = BTreeMap::new();
        let mut now = 10;
        for step in steps {
            match step {
                Step::Begins(camera, kind, cause) => {
                    let of = events.entry(camera).or_default();
                    // A stream has one state at a time.
                    if let Some(last) = of.last_mut().filter(|last| last.end.is_none()) {
                        last.end = Some(at(now));
                    }
                    let (number, evidence) = (of.len() as u64, "because".to_owned());
                    let confidence = Confidence::Likely;
                    of.push(Event { number, kind, start: at(now), end: None, cause: Some(cause), evidence, confidence });
                }
                Step::Ends(camera) => {
                    for event in events.entry(camera).or_default().iter_mut().filter(|event| event.end.is_none()) {
                        event.end = Some(at(now));
                    }
                }
                Step::Closes(camera) => {
                    events.remove(&camera);
                    ledger.on_closed(wall(at(now)), &subject(camera).camera, "sub");
                }
                Step::Passes(seconds) => now += seconds,
            }
            for (camera, events) in &events {
                ledger.observe(&subject(*camera), events, wall);
            }
            ledger.tick(wall(at(now)));
            for entry in ledger.take_changed() {
                kept.insert(entry.id, entry);
            }
            // Whoever is down now stands in an entry that goes on; and nobody else does.
            let runs = |camera: &usize| events.get(camera).is_some_and(|events| events.iter().any(|event| event.end.is_none()));
            for camera in 0..6 {
                let name = subject(camera).camera;
                let stands = ledger.entries().iter().any(|entry| entry.end.is_none() && entry.cameras.contains(&name));
                prop_assert!(!runs(&camera) || stands, "{name} is down and in no entry");
            }
            let going = ledger.entries().iter().filter(|entry| entry.end.is_none());
            for entry in going {
                let somebody = (0..6).filter(runs).any(|camera| entry.cameras.contains(&subject(camera).camera));
                prop_assert!(somebody, "nobody is down in {entry:?}");
            }
        }
        for entry in ledger.entries() {
            prop_assert!(entry.end.is_none_or(|end| end >= entry.start), "{entry:?}");
            prop_assert!(!entry.cameras.is_empty() && entry.times >= 1);
            let parts = &entry.parts.told;
            prop_assert_eq!(parts.iter().any(|part| part.end.is_none()), entry.end.is_none(), "{:?}", entry);
            let within = parts.iter().all(|part| part.start >= entry.start && part.end.zip(entry.end).is_none_or(|(a, b)| a <= b));
            prop_assert!(within && entry.cameras.iter().all(|name| parts.iter().any(|part| part.camera == *name)), "{entry:?}");
            prop_assert!(entry.parts.missing(wall(at(now))) <= entry.length(wall(at(now))), "{entry:?}");
            prop_assert_eq!(Some(entry), kept.get(&entry.id), "what changed is told");
        }
        prop_assert!(ledger.load(wall(at(now))) <= ledger.entries().len());
    }
}
