//! Unrolling, adjusting and zooming, beside the bare operation.
#![allow(clippy::unwrap_used, missing_docs)]

use lattice_core::adjust::{Adjust, Setting};
use lattice_core::lens::{Gaze, Lens, Mount, Projection};
use lattice_core::video::ColourMatrix;
use lattice_core::view::{View, Zoom};
use lattice_media::{Adjuster, ColourDescription, H264Decoder, Planes, Scaler, Unroller};
use lattice_sim::{Coded, Role, StreamSpec, View as LiveView};
use std::hint::black_box;
use std::time::Instant;

const COLOUR: ColourDescription = ColourDescription { full_range: false, matrix: ColourMatrix::Bt601 };

/// Runs them by turns; the median of each in milliseconds, and the median of the ratio of the first to the second.
fn side_by_side(times: usize, one: &mut dyn FnMut(), other: &mut dyn FnMut()) -> (f64, f64, f64) {
    let millis = |run: &mut dyn FnMut()| {
        let begun = Instant::now();
        for _ in 0..8 {
            run();
        }
        begun.elapsed().as_secs_f64() * 1e3 / 8.0
    };
    let mut rows: Vec<(f64, f64)> = (0..times).map(|_| (millis(one), millis(other))).collect();
    let mut median = |of: fn(&(f64, f64)) -> f64| {
        rows.sort_by(|a, b| of(a).total_cmp(&of(b)));
        of(&rows[times / 2])
    };
    (median(|it| it.0), median(|it| it.1), median(|it| it.0 / it.1))
}

struct Picture {
    y: Vec<u8>,
    u: Vec<u8>,
    v: Vec<u8>,
    size: (usize, usize),
}

impl Picture {
    fn new(width: usize, height: usize) -> Self {
        let plane = |width: usize, height: usize, by: usize| (0..width * height).map(|n| ((n * by) >> 4) as u8).collect();
        let (y, u, v) = (plane(width, height, 7), plane(width / 2, height / 2, 5), plane(width / 2, height / 2, 3));
        Self { y, u, v, size: (width, height) }
    }

    fn planes(&self) -> Planes<'_> {
        let (width, height) = self.size;
        Planes { width, height, y: &self.y, u: &self.u, v: &self.v, stride: width, chroma_stride: width / 2 }
    }
}

/// One sample between four, as plainly as can be.
fn between(plane: &[u8], stride: usize, (at, across, down): (usize, u32, u32)) -> u8 {
    let [a, b, c, d] = [plane[at], plane[at + 1], plane[at + stride], plane[at + stride + 1]].map(u32::from);
    let (upper, lower) = (a * (256 - across) + b * across, c * (256 - across) + d * across);
    ((upper * (256 - down) + lower * down) >> 16) as u8
}

/// A view out of a picture of all around, beside a bare bilinear look-up of the three planes by a table of the same places.
fn unroll() {
    let picture = Picture::new(1920, 960);
    let (planes, size) = (picture.planes(), (640usize, 360usize));
    let mut out = vec![0; size.0 * size.1 * 3];
    for lens in [Lens::new(Projection::Equirectangular, Mount::Wall), Lens::new(Projection::Fisheye, Mount::Ceiling)] {
        let gaze = Gaze { roll: 700, ..lens.first_look() };
        let mut unroller = Unroller::default();
        let tap = |place: (f64, f64), (width, height): (usize, usize)| {
            let fixed = |at: f64, most: usize| (((at - 0.5) * 256.0).max(0.0) as usize).min((most - 2) * 256);
            let (x, y) = (fixed(place.0, width), fixed(place.1, height));
            ((y >> 8) * width + (x >> 8), (x & 255) as u32, (y & 255) as u32)
        };
        let table: Vec<_> = (0..size.0 * size.1)
            .map(|n| {
                let at = ((n % size.0) as f64 + 0.5, (n / size.0) as f64 + 0.5);
                let place = lens.place(gaze.ray(at, (640.0, 360.0)), picture.size).unwrap_or((1.0, 1.0));
                (tap(place, picture.size), tap((place.0 / 2.0, place.1 / 2.0), (960, 480)))
            })
            .collect();
        let mut bare_out = out.clone();
        let (ours, bare, ratio) = side_by_side(
            41,
            &mut || {
                assert!(unroller.unroll(&planes, COLOUR, &View::Window(lens, gaze), size, 1.0, &mut out));
                black_box(&out);
            },
            &mut || {
                for ((luma, chroma), out) in table.iter().zip(bare_out.as_chunks_mut::<3>().0) {
                    *out = [between(planes.y, 1920, *luma), between(planes.u, 960, *chroma), between(planes.v, 960, *chroma)];
                }
                black_box(&bare_out);
            },
        );
        let word = lens.projection.word();
        println!("unroll {word} 1920x960 to 640x360: {ours:.2} ms, bare look-up {bare:.2} ms, ratio {ratio:.2}");
        let mut turned = gaze;
        let (moving, _, _) = side_by_side(
            11,
            &mut || {
                turned = turned.turned(0.7, 0.0);
                unroller.unroll(&planes, COLOUR, &View::Window(lens, turned), size, 1.0, &mut out);
            },
            &mut || {},
        );
        println!("  the same while the view turns with every picture: {moving:.2} ms");
    }
}

fn adjust() {
    let rgb: Vec<u8> = (0..640 * 360 * 3).map(|n: usize| (n.wrapping_mul(2_654_435_761) >> 24) as u8 / 2 + 60).collect();
    let all = Setting::ALL.into_iter().filter(|setting| *setting != Setting::OneColour);
    let all = all.fold(Adjust::OFF, |adjust, setting| adjust.with(setting, 60));
    let one = |setting| Adjust::OFF.with(setting, 60);
    let mut settings = vec![("all".to_owned(), all), ("off".to_owned(), Adjust::OFF)];
    settings.extend(Setting::ALL.map(|setting| (setting.word().to_owned(), one(setting))));
    for (name, adjust) in settings {
        let (mut adjuster, mut out, mut copy) = (Adjuster::default(), rgb.clone(), rgb.clone());
        let (ours, bare, _) = side_by_side(
            31,
            &mut || {
                out.copy_from_slice(&rgb);
                adjuster.adjust(&adjust, 0, 640, black_box(&mut out));
            },
            &mut || {
                copy.copy_from_slice(&rgb);
                black_box(&mut copy);
            },
        );
        println!("adjust 640x360, {name}: {:.3} ms beyond the copy of {bare:.3} ms", ours - bare);
    }
}

/// A part of a picture against all of it, to the same tile.
fn zoom() {
    let picture = Picture::new(1280, 720);
    let (planes, mut scaler, mut closer) = (picture.planes(), Scaler::default(), Scaler::default());
    let (mut one, mut other) = (vec![0; 640 * 360 * 3], vec![0; 640 * 360 * 3]);
    for times in [1.5, 3.0, 8.0] {
        let part = planes.part(Zoom::new(times, 0.4, 0.6).part());
        let (near, whole, ratio) = side_by_side(
            31,
            &mut || {
                assert!(closer.scale(&part, COLOUR, 640, 360, &mut one));
            },
            &mut || {
                assert!(scaler.scale(&planes, COLOUR, 640, 360, &mut other));
            },
        );
        println!("zoom {times} of 1280x720 to 640x360: {near:.2} ms, the whole {whole:.2} ms, ratio {ratio:.2}");
    }
}

/// A stream as a fixture has it; nothing where it is not there.
fn of_fixture() -> Vec<Vec<u8>> {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../fixtures/streams/h264_high_b2_640x360_30.h264");
    let Ok(bytes) = std::fs::read(path) else {
        println!("four views: there is no {path}");
        return Vec::new();
    };
    let mut units: Vec<Vec<u8>> = Vec::new();
    for nal in lattice_core::video::annex_b(&bytes) {
        if lattice_core::video::NalKind::of(nal[0]) == lattice_core::video::NalKind::Delimiter || units.is_empty() {
            units.push(Vec::new());
        }
        let unit = units.last_mut().unwrap();
        unit.extend([0, 0, 0, 1]);
        unit.extend_from_slice(nal);
    }
    units
}

/// Four seconds of what a camera of all around sends.
fn of_all_around() -> Vec<Vec<u8>> {
    let spec = StreamSpec::new(Role::Main, (1920, 960), 25.0, 4000);
    let mut coded = Coded::new(LiveView::Slipway, "Tarnhithe", &spec).unwrap();
    (0..100).map(|n| coded.unit(i64::from(n) * 40_000, n).unwrap().to_vec()).collect()
}

/// Four views of a stream beside its decoding alone.
fn views(size: &str, units: &[Vec<u8>], (width, height): (usize, usize)) {
    let lens = Lens::new(Projection::Equirectangular, Mount::Wall);
    let mut unrollers: [Unroller; 4] = Default::default();
    let mut out = vec![0; width * height * 3];
    let run = |each: &mut dyn FnMut(&Planes<'_>)| {
        let mut decoder = H264Decoder::new().unwrap();
        for (n, unit) in units.iter().enumerate() {
            if let Ok(Some(decoded)) = decoder.decode(n as u64, unit) {
                each(&decoded.planes);
            }
        }
    };
    let (four, bare, ratio) = side_by_side(
        5,
        &mut || {
            run(&mut |planes| {
                for (n, unroller) in (0..).zip(&mut unrollers) {
                    let gaze = Gaze::degrees(f64::from(n) * 90.0, 0.0, 0.0, 90.0);
                    unroller.unroll(planes, COLOUR, &View::Window(lens, gaze), (width, height), 1.0, &mut out);
                }
            });
        },
        &mut || run(&mut |planes| assert!(black_box(planes.y.len()) > 0)),
    );
    println!(
        "four views of {width}x{height} of one stream of {size}, {} pictures: {four:.0} ms, decoding alone {bare:.0} ms, ratio {ratio:.2}",
        units.len()
    );
}

fn main() {
    unroll();
    adjust();
    zoom();
    let small = of_fixture();
    views("640x360", &small, (160, 90));
    let large = of_all_around();
    views("1920x960", &large, (160, 90));
    views("1920x960", &large, (320, 180));
}
