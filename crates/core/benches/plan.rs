//! The planner beside the least that it could do: adding up what every camera's streams take.
#![allow(missing_docs)]

use criterion::{Criterion, criterion_group, criterion_main};
use lattice_core::plan::{Budgets, Candidate, HostBudget, Shown, Subject, plan};
use lattice_core::{BitsPerSecond, Role};
use std::hint::black_box;

fn wall(cameras: u32) -> Vec<Subject> {
    let stream = |role, (width, height): (u32, u32), rate, kbps: f64| Candidate {
        role,
        size: (width, height),
        rate,
        bitrate: BitsPerSecond(kbps * 1000.0),
    };
    let camera = |n: u32| Subject {
        candidates: vec![
            stream(Role::Main, (1920, 1080), 25.0, 3000.0 + f64::from(n * 7)),
            stream(Role::Sub, (640, 360), 12.5, 350.0 + f64::from(n)),
            stream(Role::Third, (320, 180), 6.0, 90.0 + f64::from(n % 50)),
        ],
        tiles: vec![Shown { pixels: 10_000 + n * 900, weight: 1.0, hold: None }],
        host: (n % 64) as usize,
    };
    (0..cameras).map(camera).collect()
}

fn planner(criterion: &mut Criterion) {
    let host = HostBudget { link: Some(BitsPerSecond(20e6)), viewers: Some(8) };
    let budgets = Budgets { link: Some(BitsPerSecond(300e6)), decoding: Some(900.0), hosts: vec![host; 64] };
    let mut group = criterion.benchmark_group("plan");
    for cameras in [16, 64, 256] {
        let wall = wall(cameras);
        group.bench_function(format!("bare: add up {cameras} cameras of 3 streams"), |bencher| {
            bencher.iter(|| {
                let streams = wall.iter().flat_map(|subject| &subject.candidates);
                black_box(streams.fold((0.0, 0.0), |(bits, pixels), one| (bits + one.bitrate.0, pixels + one.decoding())))
            });
        });
        group.bench_function(format!("ours: plan {cameras} cameras of 3 streams"), |bencher| {
            bencher.iter(|| black_box(plan(black_box(&wall), &budgets)));
        });
    }
    group.finish();
}

criterion_group!(benches, planner);
criterion_main!(benches);
