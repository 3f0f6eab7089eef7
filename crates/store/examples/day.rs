//! Keeps a day of readings of 64 streams and opens it again: `cargo run --release -p lattice-store --example day`.
#![allow(clippy::unwrap_used)]

use lattice_core::meter::Sample;
use lattice_core::{Verdict, Wall};
use lattice_store::{Reading, RecordFile, StreamName, Tier};
use std::time::{Duration, Instant};

const STREAMS: u64 = 64;
const DAY: i64 = 86_400;

fn main() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ledger.db");
    let begin = 1_795_500_000;
    let at = |second: i64| Wall::from_unix_micros((begin + second) * 1_000_000);
    let name = |n: u64| StreamName { camera: format!("Camera {n}"), stream: "sub".into() };
    let reading = |n: u64, second: i64| {
        let noise = |salt: u64| ((second as u64 * 7919 + n * 104_729 + salt * 31) % 1000) as f32 / 1000.0;
        let fields = std::array::from_fn(|field| Some(12.0 + noise(field as u64)));
        Reading { of: name(n), at: at(second), sample: Sample { verdict: Some(Verdict::Steady), values: fields } }
    };
    let (mut file, _) = RecordFile::open(&path).unwrap();
    let mut kept = Duration::ZERO;
    for batch in 0..DAY / 10 {
        let readings: Vec<Reading> =
            (0..10).flat_map(|second| (0..STREAMS).map(move |n| (n, batch * 10 + second))).map(|(n, s)| reading(n, s)).collect();
        let began = Instant::now();
        file.keep_history(&readings, &[]).unwrap();
        kept += began.elapsed();
    }
    println!(
        "keeping a day of {STREAMS} streams: {:.1} s, {:.2} % of a core; {:.0} MB",
        kept.as_secs_f64(),
        kept.as_secs_f64() / DAY as f64 * 100.0,
        file.size().unwrap() as f64 / 1e6
    );
    drop(file);
    let began = Instant::now();
    let (file, _) = RecordFile::open(&path).unwrap();
    let mut readings = 0;
    for n in 0..STREAMS {
        for (tier, span) in [(Tier::Second, 600), (Tier::TenSeconds, 3_600), (Tier::Minute, DAY)] {
            readings += file.readings(&name(n), tier, at(DAY - span), at(DAY)).unwrap().len();
        }
    }
    println!("opening it with the last day of every stream, {readings} readings: {:.0} ms", began.elapsed().as_secs_f64() * 1e3);
    let began = Instant::now();
    let all: usize = (0..STREAMS).map(|n| file.readings(&name(n), Tier::Second, at(0), at(DAY)).unwrap().len()).sum();
    println!("all {all} readings by the second, as for a report: {:.0} ms", began.elapsed().as_secs_f64() * 1e3);
}
