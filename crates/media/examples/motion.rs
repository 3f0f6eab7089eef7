//! Prints how well our own motion sees who goes over lines: `scripts/accuracy motion MINUTES`, and behind it a word to take only views
//! with it in their names.
//!
//! Views of the stand-ins' port are drawn in made-up time, coded, decoded and watched. What is known of who goes where is held against
//! what was noticed: a crossing is seen when it was noticed this way within two seconds of it, and no other one was noticed by it.
#![allow(clippy::unwrap_used)]

use lattice_core::Mono;
use lattice_core::motion::{LEARNS_FOR, Outline, Place, Shape, TOGETHER, Watcher, Way, What, crossed, near};
use lattice_media::{H264Decoder, levels};
use lattice_sim::{Coded, Role, StreamSpec, View};
use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

const FPS: f64 = 12.5;
const NEAR: f64 = 2.0;

/// A view with lines in it. Who goes over them is known; over water and in rain nobody does.
struct Case {
    view: View,
    what: &'static str,
    lines: &'static [[Place; 2]],
}

const CASES: &[Case] = &[
    Case {
        view: View::Slipway,
        what: "people before moving water",
        lines: &[[(0.3, 0.72), (0.3, 1.0)], [(0.7, 0.72), (0.7, 1.0)]],
    },
    Case { view: View::SlipwaySnow, what: "people in snow", lines: &[[(0.3, 0.72), (0.3, 1.0)], [(0.7, 0.72), (0.7, 1.0)]] },
    Case { view: View::FuelQuay, what: "people at night, in rain", lines: &[[(0.5, 0.72), (0.5, 0.95)]] },
    Case { view: View::CarLane, what: "cars at dusk", lines: &[[(0.0, 0.68), (1.0, 0.68)]] },
    Case { view: View::LaneNight, what: "cars at night, in rain", lines: &[[(0.0, 0.68), (1.0, 0.68)]] },
    Case {
        view: View::Boatyard,
        what: "people under a gantry that moves",
        lines: &[[(0.3, 0.78), (0.3, 1.0)], [(0.7, 0.78), (0.7, 1.0)]],
    },
    Case { view: View::Pontoon, what: "people on a pontoon", lines: &[[(0.5, 0.17), (0.5, 0.32)]] },
    Case { view: View::LockFog, what: "people in fog", lines: &[[(0.15, 0.38), (0.15, 0.53)], [(0.85, 0.38), (0.85, 0.53)]] },
    Case { view: View::Gangway, what: "people who come nearer", lines: &[[(0.2, 0.6), (0.8, 0.6)]] },
    Case { view: View::Slipway, what: "moving water", lines: &[[(0.2, 0.5), (0.2, 0.66)], [(0.0, 0.58), (1.0, 0.58)]] },
    Case {
        view: View::FuelQuay,
        what: "water at night, in rain",
        lines: &[[(0.4, 0.48), (0.4, 0.66)], [(0.0, 0.57), (1.0, 0.57)]],
    },
    Case { view: View::Breakwater, what: "water and surf", lines: &[[(0.5, 0.5), (0.5, 0.85)], [(0.0, 0.6), (1.0, 0.6)]] },
    Case { view: View::Pontoon, what: "boats that sway", lines: &[[(0.3, 0.35), (0.3, 0.95)], [(0.1, 0.55), (0.9, 0.55)]] },
];

#[derive(Default, Clone)]
struct Count {
    there: usize,
    seen: usize,
    falsely: usize,
}

fn main() {
    let minutes: f64 = std::env::args().nth(1).map_or(60.0, |text| text.parse().unwrap());
    let word = std::env::args().nth(2).unwrap_or_default();
    let cases: Vec<&Case> = CASES.iter().filter(|case| case.what.contains(&word)).collect();
    let results: Vec<Mutex<Count>> = cases.iter().map(|_| Mutex::default()).collect();
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, usize::from) {
            scope.spawn(|| {
                while let Some(index) = Some(next.fetch_add(1, Ordering::Relaxed)).filter(|index| *index < cases.len()) {
                    *results[index].lock().unwrap() = trial(cases[index], minutes * 60.0);
                }
            });
        }
    });
    println!("Our own motion, {minutes} min of each view at {FPS} frames/s, 640 × 360:\n");
    println!("| view | lines | crossings | seen | falsely, an hour |");
    println!("|---|---|---|---|---|");
    for (case, count) in cases.iter().zip(&results) {
        let count = count.lock().unwrap();
        let share =
            if count.there == 0 { "–".into() } else { format!("{:.1} %", count.seen as f64 * 100.0 / count.there as f64) };
        let hours = minutes / 60.0;
        let falsely = count.falsely as f64 / hours;
        println!("| {} | {} | {} | {share} | {falsely:.1} |", case.what, case.lines.len(), count.there);
    }
}

fn trial(case: &Case, seconds: f64) -> Count {
    let spec = StreamSpec::new(Role::Sub, (640, 360), FPS, 500);
    let mut coded = Coded::new(case.view, "Tarnhithe", &spec).unwrap();
    let mut decoder = H264Decoder::new().unwrap();
    let shapes: Vec<Shape> = case
        .lines
        .iter()
        .map(|line| Shape { name: "line".into(), outline: Outline::Line(line.to_vec(), Way::Both), least: 0.0 })
        .collect();
    let mut watcher = Watcher::new(shapes);
    let mut noticed: Vec<(f64, usize, Way)> = Vec::new();
    for number in 0..(seconds * FPS) as u32 {
        let t = f64::from(number) / FPS;
        let unit = coded.unit((t * 1e6) as i64, number).unwrap();
        let Ok(Some(decoded)) = decoder.decode(u64::from(number), unit) else { continue };
        let Some(levels) = levels(&decoded.planes) else { continue };
        for one in watcher.see(Mono::from_millis(1000 + (t * 1e3) as u64), &levels) {
            if let What::Crossed(way) = one.what {
                noticed.push((t, one.shape, way));
            }
        }
    }
    // What happens at the edges of the time may be matched, and does not count.
    let counts = |t: f64| (LEARNS_FOR.as_secs_f64() + NEAR..seconds - NEAR).contains(&t);
    let truth = truth(case, seconds);
    let mut count = Count { there: truth.iter().filter(|(t, ..)| counts(*t)).count(), ..Count::default() };
    let mut used = vec![false; noticed.len()];
    for (t, line, way) in &truth {
        let alike = noticed.iter().enumerate().filter(|(n, one)| !used[*n] && one.1 == *line && one.2 == *way);
        let best = alike.min_by(|(_, a), (_, b)| (a.0 - t).abs().total_cmp(&(b.0 - t).abs())).map(|(n, one)| (n, one.0));
        if let Some((n, _)) = best.filter(|(_, at)| (at - t).abs() <= NEAR) {
            used[n] = true;
            count.seen += usize::from(counts(*t));
        }
    }
    count.falsely = noticed.iter().zip(&used).filter(|(one, used)| !**used && counts(one.0)).count();
    count
}

/// Who goes over which line, and when: by the middle of each.
fn truth(case: &Case, seconds: f64) -> Vec<(f64, usize, Way)> {
    let mut all = Vec::new();
    let mut before: HashMap<u32, Place> = HashMap::new();
    let steps = (seconds * 50.0) as u32;
    for step in 0..steps {
        let t = f64::from(step) / 50.0;
        for mover in case.view.movers(t as f32) {
            let middle = (mover.x + mover.width / 2.0, mover.y + mover.height / 2.0);
            let now = (f64::from(middle.0) / 1600.0, f64::from(middle.1) / 900.0);
            let Some(last) = before.insert(mover.id, now) else { continue };
            // They begin anew at the other end.
            if (last.0 - now.0).abs() + (last.1 - now.1).abs() > 0.1 {
                continue;
            }
            for (line, bends) in case.lines.iter().enumerate() {
                if let Some(way) = crossed(bends, last, now) {
                    all.push((t, line, way, now));
                }
            }
        }
    }
    // Those who go together are one.
    let mut last: Vec<(f64, usize, Way, Place)> = Vec::new();
    all.retain(|(t, line, way, at)| {
        last.retain(|(then, ..)| t - then < TOGETHER.as_secs_f64());
        let together = last.iter().any(|one| (one.1, one.2) == (*line, *way) && near(one.3, *at));
        last.push((*t, *line, *way, *at));
        !together
    });
    all.into_iter().map(|(t, line, way, _)| (t, line, way)).collect()
}
