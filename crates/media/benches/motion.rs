//! What watching a picture for motion costs, beside decoding it and beside the bare mean of its luma.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::Mono;
use lattice_core::motion::{LEARNS_FOR, Outline, Shape, Watcher, Way};
use lattice_media::{H264Decoder, levels};
use lattice_sim::{Coded, Role, StreamSpec, View};
use std::hint::black_box;
use std::time::{Duration, Instant};

const FPS: f64 = 12.5;
const SECONDS: f64 = 60.0;

fn main() {
    let spec = StreamSpec::new(Role::Sub, (640, 360), FPS, 500);
    let mut coded = Coded::new(View::CarLane, "", &spec).unwrap();
    let mut decoder = H264Decoder::new().unwrap();
    let line = Shape { name: "line".into(), outline: Outline::Line(vec![(0.0, 0.68), (1.0, 0.68)], Way::Both), least: 0.0 };
    let mut watcher = Watcher::new(vec![line]);
    let (mut decoding, mut bare, mut looking, mut watching) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for number in 0..(SECONDS * FPS) as u32 {
        let t = f64::from(number) / FPS;
        let unit = coded.unit((t * 1e6) as i64, number).unwrap();
        let begun = Instant::now();
        let Ok(Some(decoded)) = decoder.decode(u64::from(number), unit) else { continue };
        decoding.push(begun.elapsed());
        let begun = Instant::now();
        let planes = &decoded.planes;
        let rows = (0..planes.height).map(|y| &planes.y[y * planes.stride..y * planes.stride + planes.width]);
        black_box(rows.map(|row| row.iter().map(|level| u32::from(*level)).sum::<u32>()).sum::<u32>());
        bare.push(begun.elapsed());
        let begun = Instant::now();
        let levels = levels(planes).unwrap();
        looking.push(begun.elapsed());
        let begun = Instant::now();
        black_box(watcher.see(Mono::from_millis(1000 + (t * 1e3) as u64), &levels));
        if t > LEARNS_FOR.as_secs_f64() + 1.0 {
            watching.push(begun.elapsed());
        }
    }
    let median = |mut all: Vec<Duration>| {
        all.sort();
        all[all.len() / 2].as_secs_f64() * 1e6
    };
    let [decoding, bare, looking, watching] = [decoding, bare, looking, watching].map(median);
    println!("640 × 360, cars at dusk, medians of a picture, in microseconds:");
    println!(
        "decoding {decoding:.0}, bare sum of its luma {bare:.0}, levels of 80 × 45 places {looking:.0}, watching {watching:.0}"
    );
    println!("levels over bare sum {:.2}, both over decoding {:.2}", looking / bare, (looking + watching) / decoding);
}
