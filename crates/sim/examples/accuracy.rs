//! Prints how well causes and figures hold against what was ordered and sent: `scripts/accuracy`.
//!
//! Every fault alone and every pair of them, so many seeds each, in made-up time.
#![allow(clippy::unwrap_used)]

use lattice_core::meter::LatencyBasis;
use lattice_core::{Cause, Transport};
use lattice_sim::trial::{Judged, Ordered, judge, run};
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

const LASTING: Duration = Duration::from_secs(20);

struct Trial {
    faults: Vec<Ordered>,
    transport: Transport,
    seed: u64,
}

fn main() {
    let seeds: u64 = std::env::args().nth(1).map_or(20, |text| text.parse().unwrap());
    let all = Ordered::all(LASTING);
    let mut sets: Vec<Vec<Ordered>> = all.iter().map(|fault| vec![*fault]).collect();
    for (n, one) in all.iter().enumerate() {
        sets.extend(all[n + 1..].iter().map(|other| vec![*one, *other]));
    }
    let mut trials = Vec::new();
    for faults in sets {
        for seed in 0..seeds {
            let transport = if seed % 2 == 0 { Transport::Udp } else { Transport::Tcp };
            trials.push(Trial { faults: faults.clone(), transport, seed });
        }
    }
    let results: Vec<Mutex<Option<Judged>>> = trials.iter().map(|_| Mutex::new(None)).collect();
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some(trial) = trials.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let index = trials.iter().position(|one| std::ptr::eq(one, trial)).unwrap();
                    // The second of a pair begins five seconds after the first.
                    let faults: Vec<(Ordered, Duration)> =
                        trial.faults.iter().enumerate().map(|(n, fault)| (*fault, Duration::from_secs(5 * n as u64))).collect();
                    let outcome = run(&faults, trial.transport, trial.seed).unwrap();
                    *results[index].lock().unwrap() = Some(judge(&outcome, &trial.faults, trial.transport));
                }
            });
        }
    });
    let judged: Vec<Judged> = results.into_iter().map(|result| result.into_inner().unwrap().unwrap()).collect();
    causes(&trials, &judged, &all);
    figures(seeds);
}

fn share(part: usize, whole: usize) -> String {
    // Never rounded up to all.
    format!("{:.1} %", (part as f64 * 1000.0 / whole.max(1) as f64).floor() / 10.0)
}

fn causes(trials: &[Trial], judged: &[Judged], all: &[Ordered]) {
    for (words, count) in [("alone", 1), ("in pairs", 2)] {
        let of: Vec<(&Trial, &Judged)> = trials.iter().zip(judged).filter(|(trial, _)| trial.faults.len() == count).collect();
        let right = of.iter().filter(|(_, judged)| judged.right).count();
        let sure = of.iter().filter(|(_, judged)| !judged.wrongly_sure.is_empty()).count();
        let missed = of.iter().filter(|(_, judged)| !judged.missed_changes.is_empty()).count();
        println!(
            "Faults {words}: {} trials, cause right in {} ({}), wrong with high confidence in {sure}, a change missed in {missed}.",
            of.len(),
            right,
            share(right, of.len())
        );
    }
    println!("\nAlone, what was ordered against the cause that was named for most of the time (trials):\n");
    let mut named: BTreeMap<&str, BTreeMap<String, usize>> = BTreeMap::new();
    let word = |cause: Option<Cause>| cause.map_or_else(|| "none".to_owned(), |cause| cause.word().to_owned());
    for (trial, judged) in trials.iter().zip(judged).filter(|(trial, _)| trial.faults.len() == 1) {
        *named.entry(trial.faults[0].word()).or_default().entry(word(judged.named)).or_default() += 1;
    }
    println!("| ordered | named | right |\n|---|---|---|");
    for fault in all {
        let row = &named[fault.word()];
        let told: Vec<String> = row.iter().map(|(cause, count)| format!("{cause} {count}")).collect();
        let of: Vec<bool> = trials
            .iter()
            .zip(judged)
            .filter(|(trial, _)| trial.faults.len() == 1 && trial.faults[0] == *fault)
            .map(|(_, judged)| judged.right)
            .collect();
        println!("| {} | {} | {} |", fault.word(), told.join(", "), share(of.iter().filter(|right| **right).count(), of.len()));
    }
    let mut missed: BTreeMap<String, usize> = BTreeMap::new();
    for (trial, judged) in trials.iter().zip(judged) {
        let words: Vec<&str> = trial.faults.iter().map(Ordered::word).collect();
        for kind in &judged.missed_changes {
            *missed.entry(format!("{} of {}", kind.word(), words.join(" + "))).or_default() += 1;
        }
    }
    let missed: Vec<String> = missed.iter().map(|(what, count)| format!("{what} {count}")).collect();
    println!("\nChanges that were missed (trials): {}.", if missed.is_empty() { "none".into() } else { missed.join(", ") });
    println!(
        "\nPairs that were not always right:\n\n| ordered | named | right | wrong with high confidence |\n|---|---|---|---|"
    );
    let mut pairs: BTreeMap<(&str, &str), Vec<&Judged>> = BTreeMap::new();
    for (trial, judged) in trials.iter().zip(judged).filter(|(trial, _)| trial.faults.len() == 2) {
        pairs.entry((trial.faults[0].word(), trial.faults[1].word())).or_default().push(judged);
    }
    for ((one, two), of) in pairs.iter().filter(|(_, of)| of.iter().any(|judged| !judged.right)) {
        let mut told: BTreeMap<String, usize> = BTreeMap::new();
        let mut sure: BTreeMap<String, usize> = BTreeMap::new();
        for judged in of {
            *told.entry(word(judged.named)).or_default() += 1;
            for cause in &judged.wrongly_sure {
                *sure.entry(cause.word().to_owned()).or_default() += 1;
            }
        }
        let list = |counts: &BTreeMap<String, usize>| {
            counts.iter().map(|(cause, count)| format!("{cause} {count}")).collect::<Vec<_>>().join(", ")
        };
        let right = of.iter().filter(|judged| judged.right).count();
        println!("| {one} + {two} | {} | {} | {} |", list(&told), share(right, of.len()), list(&sure));
    }
}

/// Figures against what was sent, without a fault and with the ones that shift them.
fn figures(seeds: u64) {
    let (mut rate, mut latency, mut within, mut readings) = (0.0f64, Duration::ZERO, 0usize, 0usize);
    let (mut loss_off, mut begin_off, mut end_off, mut dropouts) = (0u64, Duration::ZERO, Duration::ZERO, 0usize);
    let (mut size_off, mut sizes, mut slow_off, mut slowed) = (Duration::ZERO, 0usize, Duration::ZERO, 0usize);
    let all = Ordered::all(LASTING);
    for seed in 0..seeds {
        let transport = if seed % 2 == 0 { Transport::Udp } else { Transport::Tcp };
        let outcome = run(&[], transport, seed).unwrap();
        for figures in outcome.readings.iter().skip(20) {
            let now = figures.at;
            rate = rate.max((figures.sent.unwrap() / 12.5 - 1.0).abs());
            // What the last ten seconds' frames really took from capture to arrival.
            let mut took: Vec<Duration> = outcome
                .truth
                .frames
                .iter()
                .filter(|(at, _)| *at <= now && now.since(*at) < Duration::from_secs(10))
                .map(|(_, took)| *took)
                .collect();
            took.sort();
            let Some(known) = figures.latency.filter(|latency| latency.basis == LatencyBasis::Clock && !took.is_empty()) else {
                continue;
            };
            let off = known.path.p50.abs_diff(took[took.len() / 2]);
            latency = latency.max(off);
            readings += 1;
            within += usize::from(off <= known.error.unwrap_or_default() + Duration::from_millis(1));
        }
        let lossy = run(&[(all[2], Duration::ZERO)], Transport::Udp, seed).unwrap();
        loss_off += lossy.figures.packets.lost.abs_diff(lossy.truth.dropped);
        let stall = run(&[(all[1], Duration::ZERO)], transport, seed).unwrap();
        // The first frame that did not come, and the first one that came again.
        let frames = &stall.truth.frames;
        let gap = frames.windows(2).max_by_key(|pair| pair[1].0.since(pair[0].0)).unwrap();
        if let Some(dropout) = stall.figures.dropouts.iter().max_by_key(|dropout| dropout.length) {
            dropouts += 1;
            begin_off = begin_off.max(dropout.start.since(gap[0].0).abs_diff(Duration::from_millis(80)));
            end_off = end_off.max(Duration::from_micros((dropout.start + dropout.length).micros_since(gap[1].0).unsigned_abs()));
        }
        let sized = run(&[(all[6], Duration::ZERO)], transport, seed).unwrap();
        let changed = sized.figures.events.iter().find(|event| event.kind == lattice_core::event::EventKind::SizeChanged);
        let first = frames_after(&sized.truth.frames, sized.began);
        if let (Some(event), Some(first)) = (changed, first) {
            sizes += 1;
            size_off = size_off.max(Duration::from_micros(event.start.micros_since(first).unsigned_abs()));
        }
        let slow = all.iter().find(|ordered| ordered.word() == "slow");
        let outcome = run(&slow.map(|slow| (*slow, Duration::ZERO)).into_iter().collect::<Vec<_>>(), transport, seed).unwrap();
        let told = outcome.figures.events.iter().find(|event| event.cause == Some(Cause::CameraSlowed));
        if let (Some(event), Some(first)) = (told, frames_after(&outcome.truth.frames, outcome.began)) {
            slowed += 1;
            slow_off = slow_off.max(Duration::from_micros(event.start.micros_since(first).unsigned_abs()));
        }
    }
    println!("\nFigures against the truth, {seeds} seeds, the worst of all readings:\n");
    println!("| figure | worst | aim |\n|---|---|---|");
    println!("| sent rate | {:.3} % off | 0.5 % |", rate * 100.0);
    println!("| packets lost, 3 % dropped at random | {loss_off} off in all | exact |");
    println!("| beginning of a dropout ({dropouts}) | {:.1} ms off | a frame period, 80 ms |", begin_off.as_secs_f64() * 1e3);
    println!("| end of a dropout | {:.1} ms off | 80 ms |", end_off.as_secs_f64() * 1e3);
    println!("| path latency, median of 10 s ({readings} readings) | {:.1} ms off | 10 ms |", latency.as_secs_f64() * 1e3);
    println!("| within its stated bound | {} | 99 % |", share(within, readings));
    println!("| change of size ({sizes}), against its first frame | {:.1} ms off | 80 ms |", size_off.as_secs_f64() * 1e3);
    println!(
        "| camera slows down ({slowed}), against its first late frame | {:.1} ms off | a frame of that rate |",
        slow_off.as_secs_f64() * 1e3
    );
}

fn frames_after(frames: &[(lattice_core::Mono, Duration)], at: lattice_core::Mono) -> Option<lattice_core::Mono> {
    frames.iter().map(|(came, _)| *came).find(|came| *came > at)
}
