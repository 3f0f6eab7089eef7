//! What cameras report themselves, as it goes into the ledger and onto tiles.
//!
//! A state that is there begins an event, and its end ends it; a moment is an event without length. What comes and goes within
//! [`GOES_ON`] is one event, so that a device that floods has one entry, and a note of how often it said so.

use crate::event::{Confidence, Event, EventKind};
use crate::onvif::{Operation, Report, ReportKind};
use crate::{Cause, Mono};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

/// What comes again within this time is the same.
pub const GOES_ON: Duration = Duration::from_secs(3);
/// Events remembered of a camera.
const REMEMBERED: usize = 100;
/// Most that is open of one camera at a time: a device has few parts.
const MOST_OPEN: usize = 32;

impl ReportKind {
    /// As a cause in the ledger.
    #[must_use]
    pub const fn cause(self) -> Cause {
        match self {
            Self::Motion => Cause::Motion,
            Self::Crossing => Cause::Crossing,
            Self::Tampering => Cause::Tampering,
            Self::SignalLoss => Cause::SignalLoss,
            Self::Input => Cause::DigitalInput,
            Self::Storage => Cause::StorageFailure,
            Self::Heard => Cause::Heard,
            Self::Other => Cause::DeviceEvent,
        }
    }
}

/// Something that is there, or was a moment ago.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Open {
    kind: ReportKind,
    source: String,
    topic: String,
    number: u64,
    /// It is there by the device's word.
    active: bool,
    /// When the device said something of it last.
    told: Mono,
    times: u32,
}

/// Keeps what one camera reports.
#[derive(Debug, Clone, Default)]
pub struct ReportLog {
    open: Vec<Open>,
    events: VecDeque<Event>,
    next: u64,
}

impl ReportLog {
    /// Takes a report that came at this moment; its kind where something begins by it.
    pub fn observe(&mut self, now: Mono, report: &Report) -> Option<ReportKind> {
        let same = |open: &&mut Open| open.kind == report.kind && open.source == report.source;
        if let Some(open) = self.open.iter_mut().find(same) {
            let begins = report.active != Some(false);
            open.times += u32::from(begins && !(open.active && report.active == Some(true)));
            (open.active, open.told) = (report.active == Some(true), now);
            return None;
        }
        // What is not there when the subscription begins, or ends without having begun here, is nothing new.
        if report.active == Some(false) || self.open.len() >= MOST_OPEN {
            return None;
        }
        let Report { kind, source, topic, operation, .. } = report;
        let before = if *operation == Operation::Initialized { ", since before it was asked" } else { "" };
        if self.events.len() == REMEMBERED {
            self.events.pop_front();
        }
        self.events.push_back(Event {
            number: self.next,
            kind: EventKind::Reported,
            start: now,
            end: None,
            cause: Some(kind.cause()),
            evidence: format!("{}{before}", told(topic, source)),
            confidence: Confidence::High,
        });
        self.open.push(Open {
            kind: *kind,
            source: source.clone(),
            topic: topic.clone(),
            number: self.next,
            active: report.active == Some(true),
            told: now,
            times: 1,
        });
        self.next += 1;
        Some(*kind)
    }

    /// Time went on: what has not come again is over. Whether anything ended.
    pub fn tick(&mut self, now: Mono) -> bool {
        let over = |open: &Open| !open.active && now.since(open.told) >= GOES_ON;
        let (ended, open): (Vec<Open>, Vec<Open>) = self.open.drain(..).partition(over);
        self.open = open;
        for open in &ended {
            if let Some(event) = self.events.iter_mut().find(|event| event.number == open.number) {
                event.end = Some(open.told.max(event.start));
                if open.times > 1 {
                    event.evidence = format!("{}, {} times", told(&open.topic, &open.source), open.times);
                }
            }
        }
        !ended.is_empty()
    }

    /// Nothing is known of it any more: what was there is over, as far as anybody knows.
    pub fn end(&mut self, now: Mono) {
        for open in &mut self.open {
            (open.active, open.told) = (false, open.told.min(now));
        }
        self.tick(now + GOES_ON);
    }

    /// All that is remembered, oldest first.
    #[must_use]
    pub fn events(&self) -> Arc<[Event]> {
        self.events.iter().cloned().collect()
    }

    /// What is there now, and since when.
    pub fn there(&self) -> impl Iterator<Item = (ReportKind, Mono)> {
        let since = |open: &Open| self.events.iter().find(|event| event.number == open.number).map(|event| event.start);
        self.open.iter().filter_map(move |open| Some((open.kind, since(open)?)))
    }
}

/// In one line.
fn told(topic: &str, source: &str) -> String {
    if source.is_empty() { topic.to_owned() } else { format!("{topic}, {source}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(millis: u64) -> Mono {
        Mono::from_millis(millis)
    }

    fn report(kind: ReportKind, active: Option<bool>, operation: Operation) -> Report {
        let (topic, source) = ("RuleEngine/Own".to_owned(), "in1".to_owned());
        Report { kind, topic, at: None, operation, active, source, data: Vec::new() }
    }

    fn motion(active: bool) -> Report {
        report(ReportKind::Motion, Some(active), Operation::Changed)
    }

    #[test]
    fn a_state_is_one_event_from_its_beginning_to_its_end() {
        let mut log = ReportLog::default();
        assert_eq!(log.observe(at(0), &report(ReportKind::Motion, Some(false), Operation::Initialized)), None);
        assert_eq!(log.observe(at(1000), &motion(true)), Some(ReportKind::Motion));
        assert_eq!(log.observe(at(2000), &motion(true)), None, "said again");
        assert_eq!(log.there().collect::<Vec<_>>(), [(ReportKind::Motion, at(1000))]);
        log.observe(at(5000), &motion(false));
        assert!(!log.tick(at(7000)), "it may come again");
        assert!(log.tick(at(8000)));
        let events = log.events();
        assert_eq!((events.len(), events[0].start, events[0].end), (1, at(1000), Some(at(5000))));
        assert_eq!((events[0].cause, events[0].evidence.as_str()), (Some(Cause::Motion), "RuleEngine/Own, in1"));
        assert_eq!(log.there().count(), 0);
    }

    #[test]
    fn a_flood_is_one_event_and_two_kinds_are_two() {
        let mut log = ReportLog::default();
        for n in 0..5000u64 {
            log.observe(at(n * 2), &motion(n % 2 == 0));
            log.tick(at(n * 2));
        }
        log.observe(at(5000), &report(ReportKind::Tampering, Some(true), Operation::Initialized));
        log.tick(at(20_000));
        let events = log.events();
        assert_eq!((events.len(), events[0].end), (2, Some(at(9998))));
        assert_eq!(events[0].evidence, "RuleEngine/Own, in1, 2500 times");
        assert_eq!((events[1].end, events[1].evidence.as_str()), (None, "RuleEngine/Own, in1, since before it was asked"));
        log.end(at(21_000));
        assert!(log.events()[1].end.is_some());
    }

    #[test]
    fn a_moment_has_no_length_and_what_has_no_end_stays_bounded() {
        let mut log = ReportLog::default();
        let crossing = report(ReportKind::Crossing, None, Operation::Changed);
        assert_eq!(log.observe(at(0), &crossing), Some(ReportKind::Crossing));
        log.tick(at(4000));
        assert_eq!(log.events()[0].end, Some(at(0)));
        for n in 0..1000 {
            let source = format!("input {n}");
            log.observe(at(5000), &Report { source, ..report(ReportKind::Input, Some(true), Operation::Changed) });
        }
        assert_eq!(log.there().count(), MOST_OPEN);
    }
}
