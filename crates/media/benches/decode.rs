//! Decoding for a tile beside a bare decode loop of the same stream.
#![allow(clippy::unwrap_used, missing_docs)]

use criterion::{Criterion, Throughput, criterion_group};
use lattice_core::Mono;
use lattice_core::receiver::Unit;
use lattice_core::ts::Demux;
use lattice_core::video::{AccessUnit, NalKind, annex_b};
use lattice_core::video::{ColourMatrix, Parameters, VideoCodec};
use lattice_media::{ColourDescription, FallbackDecoder, H264Decoder, LaneEvent, Planes, Pool, Scaler, Wanted, glance};
use std::hint::black_box;
use std::sync::mpsc::channel;
use std::time::Instant;

const TILE: Wanted = Wanted {
    width: 158,
    height: 44,
    pixel_aspect: 0.5,
    step: (2, 2),
    aspect: lattice_core::lattice::Aspect::Fit,
    enlarge: true,
    keyframes_only: false,
};

fn units() -> Vec<Vec<u8>> {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../fixtures/streams/h264_cbaseline_640x360_25.h264");
    let bytes = std::fs::read(path).unwrap();
    let mut units: Vec<Vec<u8>> = Vec::new();
    for nal in annex_b(&bytes) {
        if NalKind::of(nal[0]) == NalKind::Delimiter {
            units.push(Vec::new());
        }
        let unit = units.last_mut().unwrap();
        unit.extend([0, 0, 0, 1]);
        unit.extend_from_slice(nal);
    }
    units
}

/// Decodes all units one after the other.
fn bare(units: &[Vec<u8>], each: &mut dyn FnMut(&Planes<'_>)) {
    let mut decoder = H264Decoder::new().unwrap();
    for (n, unit) in units.iter().enumerate() {
        if let Ok(Some(decoded)) = decoder.decode(n as u64, unit) {
            each(&decoded.planes);
        }
    }
}

/// The same as a tile gets it, up to the newest picture.
fn through_a_lane(pool: &Pool, units: &[Vec<u8>]) {
    let (sender, receiver) = channel();
    let lane = pool.lane(Box::new(move |event| drop(sender.send(event))));
    for (n, data) in units.iter().enumerate() {
        lane.push(unit(n, data.clone()), Some(&PARAMETERS));
    }
    lane.want(Some(TILE));
    while !matches!(receiver.recv().unwrap(), LaneEvent::Picture(..)) {}
}

fn look(planes: &Planes<'_>) {
    black_box(planes);
}

fn decode(criterion: &mut Criterion) {
    let units = units();
    let mut group = criterion.benchmark_group("decode 640x360");
    group.throughput(Throughput::Elements(units.len() as u64));
    group.bench_function("bare: decode", |bencher| bencher.iter(|| bare(&units, &mut look)));
    group.bench_function("ours: decode, and scale each picture to a tile of 79x22 cells", |bencher| {
        let (mut scaler, mut rgb) = (Scaler::default(), Vec::new());
        bencher.iter(|| {
            bare(&units, &mut |planes| {
                let (width, height) = TILE.fit((planes.width, planes.height));
                rgb.resize(width * height * 3, 0);
                scaler.scale(planes, ColourDescription::default(), width, height, &mut rgb);
            });
        });
    });
    group.bench_function("ours: through a lane with one worker, newest picture scaled", |bencher| {
        let pool = Pool::new(1, || Mono::ZERO);
        bencher.iter(|| through_a_lane(&pool, &units));
    });
    group.finish();
}

/// The two ways by turns, so that a machine that slows down slows both; the ratio of each pair.
fn ratio() {
    let (units, pool) = (units(), Pool::new(1, || Mono::ZERO));
    let seconds = |run: &mut dyn FnMut()| {
        let started = Instant::now();
        run();
        started.elapsed().as_secs_f64()
    };
    let pair = || 1.0 / seconds(&mut || bare(&units, &mut look)) * seconds(&mut || through_a_lane(&pool, &units));
    let mut ratios: Vec<f64> = (0..41).map(|_| pair()).collect();
    ratios.sort_by(f64::total_cmp);
    println!("a lane over a bare decode loop: median {:.2}, quartiles {:.2} and {:.2}", ratios[20], ratios[10], ratios[30]);
}

/// A transport stream taken apart, against the decode of what is in it.
fn demux_ratio() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../fixtures/streams/ts_h264_main_aac_640x360_25.ts");
    let bytes = std::fs::read(path).unwrap();
    let demux = || {
        let (mut demux, mut units) = (Demux::default(), Vec::new());
        for datagram in bytes.chunks(7 * 188) {
            demux.push(Mono::ZERO, datagram, &mut |unit| units.push(unit.bytes));
        }
        units
    };
    let units = demux();
    let seconds = |run: &mut dyn FnMut()| {
        let started = Instant::now();
        run();
        started.elapsed().as_secs_f64()
    };
    let many = || seconds(&mut || (0..50).for_each(|_| drop(black_box(demux())))) / 50.0;
    let pair = || seconds(&mut || bare(&units, &mut look)) / many();
    let mut ratios: Vec<f64> = (0..21).map(|_| pair()).collect();
    ratios.sort_by(f64::total_cmp);
    println!(
        "decoding over demultiplexing the same stream: median {:.0}, quartiles {:.0} and {:.0}",
        ratios[10], ratios[5], ratios[15]
    );
}

/// The decoder of what the usual one refuses, on a stream that both take.
fn fallback_ratio() {
    let units = units();
    let seconds = |run: &mut dyn FnMut()| {
        let started = Instant::now();
        run();
        started.elapsed().as_secs_f64()
    };
    let other = || {
        let mut decoder = FallbackDecoder::default();
        for (n, unit) in units.iter().enumerate() {
            black_box(decoder.decode(n as u64, n == 0, None, unit).unwrap());
        }
    };
    let pair = || 1.0 / seconds(&mut || bare(&units, &mut look)) * seconds(&mut || other());
    let mut ratios: Vec<f64> = (0..21).map(|_| pair()).collect();
    ratios.sort_by(f64::total_cmp);
    println!("the fallback over the usual decoder: median {:.1}, quartiles {:.1} and {:.1}", ratios[10], ratios[5], ratios[15]);
}

/// What decoding in a process of its own costs more than in this one: a unit at a time, as they come from a camera, each picture
/// scaled to a tile; by turns, so that a machine that slows down slows both. Processor time of both processes, and time as it
/// passes.
#[cfg(target_os = "linux")]
fn outside_ratio() {
    use nix::time::{ClockId, clock_getcpuclockid};
    use nix::unistd::Pid;
    let program = lattice_media::Program::itself(&["decoder"]);
    let (inside, outside) = (Pool::new(1, || Mono::ZERO), Pool::outside(1, || Mono::ZERO, &program));
    let units = units();
    let own = || std::time::Duration::from(ClockId::CLOCK_PROCESS_CPUTIME_ID.now().unwrap());
    let of = |process: u32| {
        clock_getcpuclockid(Pid::from_raw(process.cast_signed())).and_then(ClockId::now).map(std::time::Duration::from)
    };
    let used = || {
        (own() + outside.processes().into_iter().filter_map(|process| of(process).ok()).sum::<std::time::Duration>())
            .as_secs_f64()
    };
    for (name, width, height) in [("416x234", 416, 234), ("640x360", 640, 360)] {
        let wanted = Wanted { width, height, pixel_aspect: 1.0, step: (1, 1), ..TILE };
        let run = |pool: &Pool| {
            let (sender, receiver) = channel();
            let lane = pool.lane(Box::new(move |event| drop(sender.send(event))));
            lane.want(Some(wanted));
            let at_once = Parameters { reorder: Some(0), ..PARAMETERS };
            let (begun, before) = (Instant::now(), used());
            for _ in 0..4 {
                for (n, data) in units.iter().enumerate() {
                    lane.push(unit(n, data.clone()), Some(&at_once));
                    while !matches!(receiver.recv().unwrap(), LaneEvent::Picture(..)) {}
                }
            }
            (begun.elapsed().as_secs_f64(), used() - before)
        };
        run(&outside);
        let mut ratios: Vec<(f64, f64)> = (0..31)
            .map(|_| {
                let (here, there) = (run(&inside), run(&outside));
                (there.0 / here.0, there.1 / here.1)
            })
            .collect();
        let mut told = |what: &str, of: fn(&(f64, f64)) -> f64| {
            ratios.sort_by(|a, b| of(a).total_cmp(&of(b)));
            let [low, middle, high] = [7, 15, 23].map(|n| of(&ratios[n]));
            println!("outside over inside, to {name}, {what}: median {middle:.3}, quartiles {low:.3} and {high:.3}");
        };
        told("processor time", |it| it.1);
        told("time", |it| it.0);
    }
}

/// Only the first unit counts as a keyframe, so that the lane keeps and decodes them all.
const PARAMETERS: Parameters = Parameters {
    codec: VideoCodec::H264,
    width: 640,
    height: 360,
    coded: (640, 360),
    declared: None,
    full_range: false,
    matrix: ColourMatrix::Unspecified,
    profile: "",
    reorder: None,
    unusual: None,
};

fn unit(n: usize, data: Vec<u8>) -> Unit {
    Unit {
        due: None,
        displayable: true,
        unit: AccessUnit {
            number: n as u64,
            timestamp: n as i64,
            keyframe: n == 0,
            recovery: None,
            bipredictive: false,
            damaged: false,
            gap_before: false,
            first_arrival: Mono::ZERO,
            last_arrival: Mono::ZERO,
            finished: Mono::ZERO,
            packets: 1,
            bytes: data.len(),
            data: Some(data.into()),
        },
    }
}

fn scale(criterion: &mut Criterion) {
    let (y, u, v) = (noise(640 * 360), noise(320 * 180), noise(320 * 180));
    let planes = Planes { width: 640, height: 360, y: &y, u: &u, v: &v, stride: 640, chroma_stride: 320 };
    let mut group = criterion.benchmark_group("scale 640x360");
    group.bench_function("bare: copy the planes", |bencher| bencher.iter(|| black_box((y.clone(), u.clone(), v.clone()))));
    for (width, height) in [(80, 48), (160, 96)] {
        let (mut scaler, mut rgb) = (Scaler::default(), vec![0; width * height * 3]);
        group.bench_function(format!("ours: to {width}x{height}, as RGB"), |bencher| {
            bencher.iter(|| scaler.scale(black_box(&planes), ColourDescription::default(), width, height, &mut rgb));
        });
    }
    group.finish();
}

/// A picture for a place of 416x234 pixels, made as large as that here, or left as it is for a terminal that scales; and
/// handing it over, which copies it.
fn scale_or_leave(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("a picture for 416x234 pixels");
    for (width, height) in [(640, 360), (1280, 720)] {
        let (luma, chroma) = (width * height, width / 2 * (height / 2));
        let (y, u, v) = (noise(luma as u32), noise(chroma as u32), noise(chroma as u32));
        let planes = Planes { width, height, y: &y, u: &u, v: &v, stride: width, chroma_stride: width / 2 };
        group.bench_function(format!("bare: copy the planes of {width}x{height}"), |bencher| {
            bencher.iter(|| black_box((y.clone(), u.clone(), v.clone())));
        });
        for (what, to) in [("ours: scaled here", (416, 234)), ("ours: left as it is", (width, height))] {
            let (mut scaler, mut rgb) = (Scaler::default(), vec![0; to.0 * to.1 * 3]);
            group.bench_function(format!("{what}, of {width}x{height}"), |bencher| {
                bencher.iter(|| {
                    scaler.scale(black_box(&planes), ColourDescription::default(), to.0, to.1, &mut rgb);
                    black_box(rgb.clone())
                });
            });
        }
    }
    group.finish();
}

/// What is done with one picture a second of every stream that is looked at.
fn look_at(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("look at a picture");
    for (width, height) in [(640, 360), (1920, 1080)] {
        let (luma, chroma) = (width * height, width / 2 * (height / 2));
        let (y, u, v) = (noise(luma as u32), noise(chroma as u32), noise(chroma as u32));
        let planes = Planes { width, height, y: &y, u: &u, v: &v, stride: width, chroma_stride: width / 2 };
        group.bench_function(format!("bare: copy the planes of {width}x{height}"), |bencher| {
            bencher.iter(|| black_box((y.clone(), u.clone(), v.clone())));
        });
        group.bench_function(format!("ours: glance at {width}x{height}"), |bencher| {
            bencher.iter(|| glance(black_box(&planes), ColourDescription::default(), Mono::ZERO));
        });
    }
    group.finish();
}

fn noise(count: u32) -> Vec<u8> {
    (0..count).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect()
}

criterion_group!(benches, decode, scale, scale_or_leave, look_at);

/// `cargo bench -p lattice-media -- ratio` gives the ratios alone, `-- outside` that of decoding in a process of its own; all else
/// the criterion groups. With the word `decoder` it is that process.
fn main() {
    #[cfg(target_os = "linux")]
    if std::env::args().nth(1).is_some_and(|word| word == "decoder") {
        let _ = lattice_media::decoder_main();
        return;
    }
    #[cfg(target_os = "linux")]
    if std::env::args().any(|arg| arg == "outside") {
        return outside_ratio();
    }
    if std::env::args().any(|arg| arg == "ratio") {
        ratio();
        fallback_ratio();
        return demux_ratio();
    }
    benches();
    Criterion::default().configure_from_args().final_summary();
}
