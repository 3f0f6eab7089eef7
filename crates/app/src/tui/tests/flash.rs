//! The flash probe's page, from pointing the camera to the latency it gave.

use super::*;
use crate::tui::pages::flash::{FlashPage, Phase};
use lattice_core::flash::{Captured, FLASHES, Flash, FlashReading};
use lattice_core::meter::FlashStep;

/// A probe in which nine of ten flashes were seen, 80 to 98 ms after the light.
fn reading(running: bool) -> FlashReading {
    let flash = |n: u64| Flash {
        at: Mono::from_millis(101_000 + 700 * n),
        seen_after: (n != 4).then_some(Duration::from_millis(80 + 2 * n)),
    };
    let around = (-3..20i64).map(|n| (n * 20_000, if n >= 4 { 180.0 } else { 40.0 }));
    FlashReading {
        running,
        flashes: (0..FLASHES as u64).map(flash).collect(),
        pictures: 88,
        share: Some(0.31),
        contrast: 140.0,
        around: if running { Vec::new() } else { around.collect() },
        captured: Some(Captured { micros: 0, error: Duration::from_micros(1_400), agree: (17, 18) }),
        before_stamp: Some((79_000, Duration::from_micros(2_300))),
    }
}

fn flash(app: &App) -> &FlashPage {
    app.peek().unwrap()
}

fn light_cells(app: &App) -> usize {
    draw(app, ColourDepth::True).iter().map(|line| line.matches('█').count()).sum()
}

/// Goes on by this many milliseconds; what is to be done then.
fn passes(app: &mut App, millis: u64) -> Vec<Effect> {
    app.now = app.now + Duration::from_millis(millis);
    let (figures, pictures) = (app.figures.clone(), app.pictures.clone());
    app.on_figures((*figures).clone(), pictures)
}

#[test]
fn ten_flashes_give_a_latency_with_its_bound_and_what_the_camera_takes() {
    let mut app = wall(4, 160, 50);
    let key = app.tiles[0].key();
    press(&mut app, KeyCode::Char('P'));
    assert_eq!(app.page_name(), "Flash probe");
    let aiming = draw(&app, ColourDepth::Mono);
    for told in
        ["Flash probe of Slipway north sub", "Point the camera at this screen", "ready: Enter begins", "41 ±1 ms by its clock"]
    {
        assert!(has(&aiming, told), "{told}: {aiming:#?}");
    }
    assert_eq!(light_cells(&app), 0);
    assert_eq!(press(&mut app, KeyCode::Enter), [Effect::Tell(Command::Flash(key, FlashStep::Begin))]);
    // Ten times light, and what the terminal was made is told each time it changes, once.
    let (mut told, mut lights) = (Vec::new(), 0);
    let began = app.now;
    while matches!(flash(&app).phase, Phase::Flashing(..)) {
        assert!(app.now.since(began) < Duration::from_secs(30), "it ends");
        passes(&mut app, 10);
        let lit = flash(&app).lit(app.now);
        let shown = app.shown(app.now);
        if !shown.is_empty() {
            told.extend(shown);
            lights += usize::from(lit);
            let screen = light_cells(&app);
            assert!(if lit { screen > 160 * 20 } else { screen == 0 }, "{screen} light cells, lit: {lit}");
        }
        assert!(app.shown(app.now).is_empty());
    }
    assert_eq!((lights, told.len()), (FLASHES, 2 * FLASHES));
    assert!(told.iter().all(|effect| matches!(effect, Effect::Tell(Command::Flash(of, FlashStep::Light { .. })) if *of == key)));
    // The last pictures are awaited, then it is over.
    with(&mut app, 0, |figures| figures.flash = Some(reading(true).into()));
    assert!(has(&draw(&app, ColourDepth::Mono), "the last pictures are awaited"));
    assert_eq!(passes(&mut app, 3_000), [Effect::Tell(Command::Flash(key, FlashStep::End))]);
    with(&mut app, 0, |figures| {
        figures.flash = Some(reading(false).into());
        let spread = Spread { p50: Duration::from_millis(86), p95: Duration::from_millis(121) };
        let before = figures.latency.unwrap();
        figures.latency =
            Some(Latency { basis: LatencyBasis::Flash, error: Some(Duration::from_micros(1_400)), total: spread, ..before });
    });
    let done = draw(&app, ColourDepth::Mono);
    for told in [
        "probe      done",
        "86 ±2 ms, 95th percentile 121: glass to glass",
        "stamped 79 ±3 ms after the light was there",
        "in 31 % of the picture, 140 of 255 levels brighter, 17 of 18 changes agree",
        "80  82  84  86  –  90  92  94  96  98",
        "median 90 ms, 80 to 98",
        "0 ms: light",
        "90 ms: seen, the median",
    ] {
        assert!(has(&done, told), "{told}: {done:#?}");
    }
    // On paper it is the same.
    let written = press(&mut app, KeyCode::Char('w')).pop();
    let Some(Effect::Tell(Command::Charts(title, pages))) = written else { panic!("{written:?}") };
    assert!(title == "Flash probe of Slipway north sub" && (pages.0)().len() == 1);
    let small = Rect::new(0, 0, 80, 24);
    app.area = small;
    assert!(has(&draw(&app, ColourDepth::Mono), "86 ±2 ms"), "what was asked for, also in a small terminal");
    // Kept when one leaves; the plate tells by what it is known. Forgotten by a key.
    app.area = Rect::new(0, 0, 160, 50);
    assert!(press(&mut app, KeyCode::Esc).is_empty());
    assert_eq!(app.page_name(), WALL);
    assert!(has(&draw(&app, ColourDepth::Mono), "86 ms f"), "{:#?}", draw(&app, ColourDepth::Mono));
    press(&mut app, KeyCode::Char('P'));
    assert!(has(&draw(&app, ColourDepth::Mono), "probe      done"), "what is known stands there");
}

#[test]
fn a_probe_that_cannot_work_says_what_to_do_and_one_that_is_left_is_forgotten() {
    let mut app = wall(4, 160, 50);
    let key = app.tiles[0].key();
    // No picture yet: nothing to be seen in.
    app.pictures.clear();
    press(&mut app, KeyCode::Char('P'));
    assert!(press(&mut app, KeyCode::Enter).is_empty());
    assert!(has(&draw(&app, ColourDepth::Mono), "there is no picture yet that the light could be seen in"));
    app.pictures.insert(key, picture(2));
    assert_eq!(press(&mut app, KeyCode::Enter), [Effect::Tell(Command::Flash(key, FlashStep::Begin))]);
    assert!(press(&mut app, KeyCode::Enter).is_empty(), "it runs already");
    // Left while it runs: broken off, and what was measured is forgotten.
    passes(&mut app, 500);
    assert_eq!(press(&mut app, KeyCode::Esc), [Effect::Tell(Command::Flash(key, FlashStep::Forget))]);
    assert!(has(&draw(&app, ColourDepth::Mono), "the flash probe was broken off"));
    assert_eq!(light_cells(&app), 0);
    // A camera that looks elsewhere.
    press(&mut app, KeyCode::Char('P'));
    press(&mut app, KeyCode::Enter);
    passes(&mut app, 60_000);
    let unseen = FlashReading { share: None, captured: None, before_stamp: None, around: Vec::new(), ..reading(false) };
    let unseen =
        FlashReading { flashes: unseen.flashes.iter().map(|flash| Flash { seen_after: None, ..*flash }).collect(), ..unseen };
    with(&mut app, 0, |figures| figures.flash = Some(unseen.into()));
    for _ in 0..12 {
        passes(&mut app, 3_000);
    }
    assert_eq!(flash(&app).phase, Phase::Done);
    let screen = draw(&app, ColourDepth::Mono);
    assert!(has(&screen, "not seen in 88 pictures: does the camera look at this screen?"), "{screen:#?}");
    assert!(press(&mut app, KeyCode::Char('w')).is_empty(), "there is nothing to put on paper");
    for (width, height) in [(1, 1), (60, 16), (61, 17), (500, 200)] {
        app.area = Rect::new(0, 0, width, height);
        draw(&app, ColourDepth::Palette);
    }
    // The tile is empty.
    let mut empty = wall(0, 160, 50);
    press(&mut empty, KeyCode::Char('P'));
    assert_ne!(empty.page_name(), "Flash probe");
}
