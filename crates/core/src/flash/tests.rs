use super::*;
use proptest::prelude::*;

/// A camera before the screen: what it is like, and what the probe makes of it.
#[derive(Debug, Clone)]
struct Trial {
    seed: u64,
    period: u64,
    /// From the light to the picture's stamp, and from that to its arrival, in microseconds.
    before_stamp: i64,
    path: u64,
    /// Arrival and writing vary by so much.
    uneven: u64,
    exposure: i64,
    contrast: f64,
    noise: i64,
    /// Where media times begin.
    media_base: i64,
    lost: u64,
}

const USUAL: Trial = Trial {
    seed: 3,
    period: 80_000,
    before_stamp: 80_000,
    path: 12_000,
    uneven: 4_000,
    exposure: 20_000,
    contrast: 90.0,
    noise: 3,
    media_base: -77_000_000,
    lost: 0,
};

/// Runs it; `covered` says how much of a place the screen covers.
fn run(trial: &Trial, covered: impl Fn(usize) -> f64) -> FlashReading {
    let pattern = Pattern::new(trial.seed, Duration::from_micros(trial.period));
    let begin = 5_000_000i64;
    let mut state = trial.seed | 1;
    let mut random = move |below: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % below.max(1)
    };
    let mut probe = FlashProbe::default();
    probe.on_light(Mono::from_micros(begin as u64), false);
    let mut since = Duration::ZERO;
    let mut lights = Vec::new();
    while let Some(next) = pattern.next(since) {
        since = next;
        let at = begin + since.as_micros() as i64;
        lights.push((at, pattern.lit(since)));
        probe.on_light(Mono::from_micros((at + random(trial.uneven / 4 + 1) as i64) as u64), pattern.lit(since));
    }
    // The share of a picture's exposure in which there was light.
    let lit = |from: i64, to: i64| {
        let mut shares = 0;
        for n in 0..20 {
            let at = from + (to - from) * n / 20;
            let before = lights.partition_point(|(change, _)| *change <= at);
            shares += i32::from(before.checked_sub(1).is_some_and(|last| lights[last].1));
        }
        f64::from(shares) / 20.0
    };
    let end = begin + since.as_micros() as i64 + 2_000_000;
    let mut taken = begin - 777_777;
    let mut number = 0;
    while taken < end {
        taken += trial.period as i64;
        number += 1;
        if random(100) < trial.lost {
            continue;
        }
        let light = lit(taken - trial.exposure / 2, taken + trial.exposure / 2);
        let mut cells = Box::new([0u8; CELLS]);
        for (index, cell) in cells.iter_mut().enumerate() {
            let noise = random(2 * trial.noise as u64 + 1) as i64 - trial.noise;
            *cell = (60.0 + light * trial.contrast * covered(index) + noise as f64).clamp(0.0, 255.0) as u8;
        }
        let stamped = taken + trial.before_stamp;
        let arrival = stamped as u64 + trial.path + random(trial.uneven);
        let (arrival, drawn) = (Mono::from_micros(arrival), Mono::from_micros(arrival + 9_000));
        probe.on_picture(number, stamped - trial.media_base, arrival, arrival + Duration::from_millis(3), cells);
        probe.on_drawn(number, drawn);
    }
    probe.end();
    probe.read()
}

/// The screen fills a quarter of the picture, and is mirrored faintly elsewhere.
fn quarter(cell: usize) -> f64 {
    let (x, y) = (cell % COLUMNS, cell / COLUMNS);
    if (4..12).contains(&x) && (2..7).contains(&y) { 1.0 } else { 0.05 }
}

#[test]
fn patterns_never_flash_more_than_three_times_a_second_and_are_told_apart() {
    for period in [8, 40, 80, 200] {
        let pattern = Pattern::new(9, Duration::from_millis(period));
        assert_eq!(pattern.changes.len(), FLASHES * 2);
        for flash in pattern.changes.chunks(2).collect::<Vec<_>>().windows(4) {
            assert!(flash[3][0] > flash[0][0] + Duration::from_secs(1), "{period}: {:?}", pattern.changes);
        }
        assert_eq!((pattern.lit(Duration::ZERO), pattern.lit(pattern.length())), (false, false));
        assert_eq!((pattern.begun(Duration::ZERO), pattern.begun(pattern.length())), (0, FLASHES));
    }
    assert_ne!(Pattern::new(1, Duration::from_millis(40)), Pattern::new(2, Duration::from_millis(40)));
}

#[test]
fn capture_times_are_found_whatever_the_stamps_say() {
    let reading = run(&USUAL, quarter);
    let captured = reading.captured.unwrap();
    // Taken 80 ms before its stamp.
    let truth = USUAL.media_base - 80_000;
    assert!((captured.micros - truth).abs() <= 6_000, "{captured:?} for {truth}");
    assert!(captured.error <= Duration::from_millis(12) && captured.agree.1 >= 18, "{captured:?}");
    assert!((reading.share.unwrap() - 40.0 / 144.0).abs() < 0.02 && (reading.contrast - 90.0).abs() < 12.0, "{reading:?}");
    let (least, median, longest) = reading.seen_after().unwrap();
    // 80 ms, the path, the painter, and up to a frame's wait.
    assert!(least >= Duration::from_millis(90) && longest <= Duration::from_millis(200), "{least:?} {longest:?}");
    // Before the light has come through it is dark, after that light.
    let dark = |(after, bright): &&(i64, f64)| (*after < 0 || *bright < 105.0) && *after < 90_000;
    let light = |(after, bright): &&(i64, f64)| *after > 200_000 && *bright > 125.0;
    assert!(reading.around.iter().filter(dark).count() > 20 && reading.around.iter().filter(light).count() > 10);
    assert!(median > least && reading.flashes.iter().all(|flash| flash.seen_after.is_some()));
}

#[test]
fn a_camera_that_looks_elsewhere_is_not_believed() {
    let reading = run(&USUAL, |_| 0.0);
    assert_eq!((reading.captured, reading.share, reading.seen_after()), (None, None, None));
    // Somebody else's lamp flickers by another pattern.
    let other = Pattern::new(77, Duration::from_millis(80));
    let (mut probe, begin) = (FlashProbe::default(), Mono::from_millis(5_000));
    let pattern = Pattern::new(3, Duration::from_millis(80));
    for change in &pattern.changes {
        probe.on_light(begin + *change, pattern.lit(*change));
    }
    for n in 0..220u64 {
        let at = Duration::from_millis(80 * n);
        let cells = Box::new([if other.lit(at) { 180 } else { 40 }; CELLS]);
        probe.on_picture(n, at.as_micros() as i64, begin + at, begin + at, cells);
    }
    assert_eq!(probe.read().captured, None, "{:?}", probe.read());
    // Nothing at all came.
    assert_eq!(FlashProbe::default().read().captured, None);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn the_truth_is_inside_the_bound(
        seed in any::<u64>(), period in prop_oneof![Just(33_333u64), Just(40_000), Just(80_000), Just(200_000)],
        before_stamp in -3_000i64..900_000, path in 1_000u64..400_000, contrast in 14.0..160.0, lost in 0u64..8,
    ) {
        let trial = Trial { seed, period, before_stamp, path, contrast, lost, uneven: 3_000, ..USUAL };
        let captured = run(&trial, quarter).captured;
        prop_assert!(captured.is_some(), "not found");
        let captured = captured.unwrap();
        let off = (captured.micros - (trial.media_base - before_stamp)).unsigned_abs();
        // What the eye of the camera is open for is not known to the probe.
        prop_assert!(Duration::from_micros(off) <= captured.error + Duration::from_micros(trial.exposure as u64 / 4), "{off} {captured:?}");
        prop_assert!(captured.error <= Duration::from_micros(period / 3), "{captured:?}");
    }
}
