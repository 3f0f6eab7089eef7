//! Causes against what was ordered: a few of the thousands of trials that `scripts/accuracy` runs.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::Transport;
use lattice_sim::trial::{Ordered, judge, run};
use std::time::Duration;

const LASTING: Duration = Duration::from_secs(20);

#[test]
fn every_fault_alone_is_told_by_its_cause() {
    let mut wrong = Vec::new();
    for fault in Ordered::all(LASTING) {
        for (seed, transport) in [(1, Transport::Udp), (2, Transport::Tcp)] {
            let outcome = run(&[(fault, Duration::ZERO)], transport, seed).unwrap();
            let judged = judge(&outcome, &[fault], transport);
            if !judged.right || !judged.missed_changes.is_empty() {
                let events = outcome.figures.events.iter();
                let events: Vec<_> = events.map(|e| (e.kind, e.cause, e.confidence, e.evidence.clone())).collect();
                wrong.push(format!("{} by {}: {judged:?}: {events:#?}", fault.word(), transport.word()));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn figures_are_what_was_sent() {
    for (seed, transport) in [(3, Transport::Udp), (4, Transport::Tcp)] {
        let outcome = run(&[], transport, seed).unwrap();
        let (figures, truth) = (&outcome.figures, &outcome.truth);
        assert_eq!((figures.packets.received, figures.packets.lost), (truth.came, 0));
        assert!(figures.events.is_empty(), "{:?}", figures.events);
        assert!((figures.sent.unwrap() - 12.5).abs() < 12.5 * 0.005, "{:?}", figures.sent);
    }
    let loss = Ordered::all(LASTING)[2];
    let outcome = run(&[(loss, Duration::ZERO)], Transport::Udp, 5).unwrap();
    assert_eq!((outcome.figures.packets.lost, outcome.figures.packets.received), (outcome.truth.dropped, outcome.truth.came));
}
