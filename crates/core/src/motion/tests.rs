//! Things that go, sway, flicker and stand, in made-up pictures and made-up time.

use super::*;
use proptest::prelude::*;

const FPS: f64 = 12.5;

/// A box of this level: left, top, right, bottom, in places.
type Painted = ((f64, f64, f64, f64), u8);

/// A ground with noise of two levels and boxes in it.
fn picture(number: u64, boxes: &[Painted]) -> Vec<u8> {
    let mut state = number.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut levels: Vec<u8> = (0..CELLS)
        .map(|cell| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            90 + (cell % 13) as u8 + (state % 3) as u8
        })
        .collect();
    for ((left, top, right, bottom), level) in boxes {
        for (cell, own) in levels.iter_mut().enumerate() {
            let (x, y) = ((cell % COLUMNS) as f64, (cell / COLUMNS) as f64);
            let across = (right.min(x + 1.0) - left.max(x)).max(0.0);
            let down = (bottom.min(y + 1.0) - top.max(y)).max(0.0);
            *own = (f64::from(*own) + (f64::from(*level) - f64::from(*own)) * across * down).round() as u8;
        }
    }
    levels
}

fn line(way: Way) -> Shape {
    Shape { name: "line".into(), outline: Outline::Line(vec![(0.5, 0.1), (0.5, 0.9)], way), least: 0.0 }
}

fn yard() -> Shape {
    let corners = vec![(0.6, 0.2), (0.95, 0.2), (0.95, 0.8), (0.6, 0.8)];
    Shape { name: "yard".into(), outline: Outline::Area(corners), least: 0.0 }
}

/// Runs a scene for so many seconds; what is noticed, and when.
fn run(watcher: &mut Watcher, seconds: f64, scene: impl Fn(f64) -> Vec<Painted>) -> Vec<(f64, Noticed)> {
    let mut noticed = Vec::new();
    for number in 0..(seconds * FPS) as u64 {
        let t = number as f64 / FPS;
        let seen = watcher.see(Mono::from_millis(1000 + (t * 1000.0) as u64), &picture(number, &scene(t)));
        noticed.extend(seen.into_iter().map(|one| (t, one)));
    }
    noticed
}

/// Someone who goes by: at this place at this time, by so many places a second.
fn walker(t: f64, (from, speed): (f64, f64), row: f64) -> Painted {
    let x = from + t * speed;
    ((x, row, x + 2.0, row + 5.0), 170)
}

#[test]
fn who_goes_over_a_line_is_seen_once_and_which_way() {
    let mut watcher = Watcher::new(vec![line(Way::Both), line(Way::ToTheLeft), yard()]);
    let at = |t: f64| Mono::from_millis(1000 + (t * 1000.0) as u64);
    assert_eq!(watcher.stage(at(0.0)), Stage::Waiting);
    // From left to right after a minute, back again after two.
    let scene = |t: f64| match t {
        40.0..70.0 => vec![walker(t - 40.0, (5.0, 2.5), 20.0)],
        100.0..130.0 => vec![walker(t - 100.0, (75.0, -2.5), 20.0)],
        _ => Vec::new(),
    };
    let noticed = run(&mut watcher, 140.0, scene);
    let told: Vec<(usize, What)> = noticed.iter().map(|(_, one)| (one.shape, one.what)).collect();
    // The line goes down: what comes from the left of the picture goes to its left.
    let (left, right) = (What::Crossed(Way::ToTheLeft), What::Crossed(Way::ToTheRight));
    let there = [(0, left), (1, left), (2, What::Begins), (2, What::Ends)];
    let back = [(2, What::Begins), (2, What::Ends), (0, right)];
    assert_eq!(told, [&there[..], &back[..]].concat(), "{noticed:?}");
    let over = noticed[0].0;
    assert!((53.0..55.5).contains(&over), "its middle is over the line after 53.6 s: {over}");
    assert_eq!((watcher.stage(at(140.5)), watcher.stage(at(150.0))), (Stage::Watching, Stage::Waiting), "no picture comes");
}

#[test]
fn motion_ends_also_where_the_pictures_do() {
    let mut watcher = Watcher::new(vec![yard()]);
    let noticed = run(&mut watcher, 50.0, |t| if t < 35.0 { Vec::new() } else { vec![walker(t - 35.0, (40.0, 2.0), 20.0)] });
    assert_eq!(noticed.iter().map(|(_, one)| one.what).collect::<Vec<_>>(), [What::Begins]);
    let at = |t: f64| Mono::from_millis(1000 + (t * 1000.0) as u64);
    assert_eq!(watcher.tick(at(51.0)), Vec::new());
    assert_eq!(watcher.tick(at(53.0)), [Noticed { shape: 0, what: What::Ends }]);
    assert_eq!(watcher.tick(at(55.0)), Vec::new());
}

#[test]
fn what_sways_flickers_falls_or_stands_is_not_told() {
    let mut watcher = Watcher::new(vec![line(Way::Both), yard()]);
    let scene = |t: f64| {
        let sway = (t * 1.3).sin();
        let flicker = if t % 2.0 < 1.0 { 200 } else { 100 };
        let mut all = vec![((39.0 + sway, 10.0, 42.0 + sway, 30.0), 150), ((60.0, 20.0, 70.0, 30.0), flicker)];
        // Streaks of rain, elsewhere in each picture.
        let number = (t * FPS) as u64;
        all.extend((0..60).map(|n| {
            let at = (n * 7919 + number * 104_729) % 3600;
            let (x, y) = ((at % 80) as f64, (at / 80) as f64);
            ((x, y, x + 0.3, y + 1.5), 200)
        }));
        // A car that comes, unseen by the watcher, while it learns, and stands.
        all.push(((20.0, 30.0, 30.0, 36.0), 40));
        all
    };
    assert_eq!(run(&mut watcher, 180.0, scene), Vec::new());
}

#[test]
fn a_light_that_is_switched_on_is_no_motion_and_what_is_usual_is_learned_anew() {
    let mut watcher = Watcher::new(vec![line(Way::Both), yard()]);
    let lit = |t: f64| if t < 60.0 { Vec::new() } else { vec![((0.0, 0.0, 60.0, 45.0), 200)] };
    assert_eq!(run(&mut watcher, 64.0, lit), Vec::new());
    assert!(matches!(watcher.stage(Mono::from_millis(65_000)), Stage::Learning(_)));
    // A gap in the pictures: what went on meanwhile is not known.
    let mut watcher = Watcher::new(vec![line(Way::Both)]);
    run(&mut watcher, 40.0, |_| Vec::new());
    assert_eq!(watcher.see(Mono::from_millis(50_000), &picture(1, &[])), Vec::new());
    assert!(matches!(watcher.stage(Mono::from_millis(50_000)), Stage::Learning(_)));
}

#[test]
fn what_moves_always_is_known_and_said_and_what_is_too_small_is_left_out() {
    let mut watcher = Watcher::new(vec![line(Way::Both), Shape { least: 0.3, ..yard() }]);
    // Surf that runs along a third of the line, every three seconds.
    let scene = |t: f64| {
        let x = 20.0 + t % 3.0 / 3.0 * 20.0;
        let mut all = vec![((x, 28.0, x + 6.0, 36.0), 210)];
        if (50.0..80.0).contains(&t) {
            all.push(walker(t - 50.0, (75.0, -2.5), 12.0));
        }
        all
    };
    let noticed = run(&mut watcher, 120.0, scene);
    let told: Vec<(usize, What)> = noticed.iter().map(|(_, one)| (one.shape, one.what)).collect();
    assert_eq!(told, [(0, What::Crossed(Way::ToTheRight))], "only who walks, and not in the yard for small things: {noticed:?}");
    assert!((0.1..0.4).contains(&watcher.blind(0)), "{}", watcher.blind(0));
    assert!(watcher.blind(1) < 0.01);
    // Other shapes know it at once.
    watcher.watch(vec![line(Way::ToTheLeft)]);
    assert!((0.1..0.4).contains(&watcher.blind(0)));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]

    /// Whatever comes in, at whatever times, it neither panics nor tells more than one thing of a shape in a picture.
    #[test]
    fn any_pictures_at_any_time_are_borne(pictures in prop::collection::vec((0u64..5000, 0u8..255, 0usize..CELLS + 2), 1..200)) {
        let mut watcher = Watcher::new(vec![line(Way::Both), yard()]);
        let mut at = 0;
        for (after, level, length) in pictures {
            at += after;
            let mut levels = vec![level; CELLS];
            levels.iter_mut().step_by(7).for_each(|own| *own = own.wrapping_add(level));
            levels.truncate(length.max(CELLS - 1));
            let noticed = watcher.see(Mono::from_millis(at), &levels);
            prop_assert!(noticed.len() <= 2, "{noticed:?}");
        }
    }

    /// One who goes over a line at any walking pace and any row is seen.
    #[test]
    fn each_pace_is_seen(speed in 1.2f64..9.0, row in 6.0f64..33.0, level in prop::sample::select(vec![20u8, 60, 150, 230])) {
        let mut watcher = Watcher::new(vec![line(Way::Both)]);
        let lasting = 80.0 / speed;
        let noticed = run(&mut watcher, 36.0 + lasting, |t| {
            if t < 35.0 { Vec::new() } else { vec![(walker(t - 35.0, (-2.0, speed), row).0, level)] }
        });
        let told: Vec<What> = noticed.iter().map(|(_, one)| one.what).collect();
        prop_assert_eq!(told, [What::Crossed(Way::ToTheLeft)]);
    }
}
