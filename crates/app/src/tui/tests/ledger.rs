//! The ledger on the screen.

use super::*;
use crate::tui::pages::ledger::LedgerPage;
use lattice_core::event::{Confidence, Event, EventKind};

fn outage(number: u64, start: u64, end: Option<u64>, cause: Cause) -> Event {
    let at = |second: u64| Mono::from_millis(second * 1000);
    let evidence = format!("the reason of {start}");
    let (kind, confidence) = (EventKind::Outage, Confidence::High);
    Event { number, kind, start: at(start), end: end.map(at), cause: Some(cause), evidence, confidence }
}

fn rows(app: &App) -> usize {
    app.peek::<LedgerPage>().unwrap().rows(app).len()
}

/// The n-th tile's stream has these events from now on.
fn happens(app: &mut App, index: usize, events: &[Event]) {
    let events: Arc<[Event]> = events.into();
    with(app, index, |figures| figures.events = events);
}

/// A wall at noon whose cameras hang under one recorder, but for the last.
fn noon() -> App {
    let mut app = wall(4, 160, 50);
    app.utc = Wall::from_unix_micros(1_795_500_000_000_000);
    app.available = true;
    let camera = |name: &str| lattice_store::Camera {
        name: name.into(),
        group: Some(if name == "Fuel quay" { "Quay" } else { "Lanes" }.into()),
        recorder: (name != "Fuel quay").then(|| "Gate recorder".into()),
        ..lattice_store::Camera::default()
    };
    Arc::make_mut(&mut app.site).cameras = NAMES.map(camera).to_vec();
    app
}

#[test]
fn faults_come_into_the_ledger_ask_for_a_hand_and_are_taken_note_of() {
    let mut app = noon();
    for index in 0..3 {
        happens(&mut app, index, &[outage(0, 70, None, Cause::Unreachable)]);
    }
    happens(&mut app, 3, &[outage(0, 20, Some(24), Cause::PortClosed)]);
    let screen = draw(&app, ColourDepth::Mono);
    assert!(has(&screen, "1 alarm: G"), "30 s away: {screen:#?}");
    press(&mut app, KeyCode::Char('G'));
    let screen = draw(&app, ColourDepth::Mono);
    for told in [
        "Ledger  2 entries  1 alarm  1 alarm came in the last 10 minutes",
        "recorder Gate recorder: 3 cameras",
        "30.0 s…",
        "× outage",
        "host unreachable (high)  the reason of 70",
        "Slipway north, Lock gate upper, Car lane 2",
        "Fuel quay",
        "4.0 s",
    ] {
        assert!(has(&screen, told), "{told}: {screen:#?}");
    }
    press(&mut app, KeyCode::Char('a'));
    let screen = draw(&app, ColourDepth::Mono);
    assert!(has(&screen, "no alarm") && has(&screen, "kim "), "{screen:#?}");
    press(&mut app, KeyCode::Char('a'));
    press(&mut app, KeyCode::Char('z'));
    assert!(has(&draw(&app, ColourDepth::Mono), "shelved"));
    app.utc = app.utc.offset(3_601_000_000);
    assert!(has(&draw(&app, ColourDepth::Mono), "1 alarm: G"), "after an hour it is one again");
    press(&mut app, KeyCode::Char('n'));
    "switch is off".chars().for_each(|key| drop(press(&mut app, KeyCode::Char(key))));
    press(&mut app, KeyCode::Enter);
    assert!(has(&draw(&app, ColourDepth::Mono), "note: switch is off"));
    // What changed is to be kept; once.
    let kept = app.rig.take_changed();
    assert!(kept.len() == 2 && kept.iter().any(|entry| entry.note == "switch is off"), "{kept:?}");
    assert!(app.rig.take_changed().is_empty());
    // Enter shows the camera.
    press(&mut app, KeyCode::Enter);
    assert!(app.page_name() == WALL && app.enlarged);
}

#[test]
fn what_keys_do_on_other_pages_is_in_the_palette_with_the_way_there() {
    let mut app = noon();
    happens(&mut app, 0, &[outage(0, 70, None, Cause::Unreachable)]);
    let pick = |app: &mut App, text: &str| {
        press(app, KeyCode::Char('/'));
        text.chars().for_each(|key| drop(press(app, KeyCode::Char(key))));
        let screen = draw(app, ColourDepth::Mono);
        (press(app, KeyCode::Enter), screen)
    };
    let (_, screen) = pick(&mut app, "ledger acknowledge");
    assert!(has(&screen, "G, then a"), "{screen:#?}");
    assert!(app.page_name() == "Ledger" && app.ledger.entries()[0].acknowledged.is_some());
    app.open(WALL);
    let (effects, _) = pick(&mut app, "reach check of all");
    assert_eq!(effects, [Effect::Tell(Command::Errand(Errand::Check(Vec::new())))]);
    app.open(WALL);
    pick(&mut app, "bench align");
    assert!(app.page_name() == "Bench" && bench(&app).aligned);
}

#[test]
fn entries_are_filtered_and_cameras_are_lanes_in_which_shared_faults_line_up() {
    let mut app = noon();
    let empty = {
        app.open("Ledger");
        draw(&app, ColourDepth::Mono)
    };
    assert!(has(&empty, "Nothing has happened yet"));
    for index in 0..3 {
        happens(&mut app, index, &[outage(0, 10, Some(40), Cause::Unreachable)]);
    }
    let stutter = Event { kind: EventKind::Stutter, ..outage(0, 95, Some(96), Cause::PacketLoss) };
    happens(&mut app, 3, std::slice::from_ref(&stutter));
    let filter = |app: &mut App, text: &str| {
        press(app, KeyCode::Char('/'));
        (0..40).for_each(|_| drop(press(app, KeyCode::Backspace)));
        text.chars().for_each(|key| drop(press(app, KeyCode::Char(key))));
        press(app, KeyCode::Enter);
        rows(app)
    };
    for (text, count) in [
        ("quay", 1),
        ("lanes", 1),
        ("recorder", 1),
        ("packet-loss", 1),
        (">5", 1),
        ("<5s stutter", 1),
        (">5 stutter", 0),
        ("", 2),
    ] {
        assert_eq!(filter(&mut app, text), count, "{text}");
    }
    press(&mut app, KeyCode::Char('o'));
    assert!(has(&draw(&app, ColourDepth::Mono), "only what goes on") && rows(&app) == 0);
    press(&mut app, KeyCode::Char('v'));
    let lanes = draw(&app, ColourDepth::Mono);
    let lane = |name: &str| lanes.iter().find(|line| line.trim_start().starts_with(name)).cloned().unwrap();
    let marks =
        |name: &str, sign: char| lane(name).char_indices().filter(|(_, c)| *c == sign).map(|(at, _)| at).collect::<Vec<_>>();
    assert!(!marks("Slipway north", '×').is_empty());
    let columns = |name: &str| lane(name).chars().enumerate().filter(|(_, c)| *c == '×').map(|(at, _)| at).collect::<Vec<_>>();
    assert_eq!(columns("Slipway north"), columns("Car lane 2"));
    assert!(lane("Fuel quay").contains('▪'));
    assert!(has(&lanes, "10 minutes") && has(&lanes, "now"));
    // Where nothing was measured, nothing is said: one camera was, for a minute of ten.
    assert!(!lane("Fuel quay").contains('·'));
    let (past, now) = (lattice_engine::SharedHistory::default(), app.now.as_micros() / 1_000_000);
    (now - 60..now).for_each(|second| past.push(Mono::from_millis(second * 1000), lattice_core::meter::Sample::default()));
    let key = FeedKey::new(app.camera_index("Fuel quay").unwrap(), Role::Main);
    app.history = Arc::new(std::iter::once((key, past)).collect());
    let lanes = draw(&app, ColourDepth::Mono);
    let dots = |name: &str| lanes.iter().find(|line| line.trim_start().starts_with(name)).unwrap().matches(['·', '▪']).count();
    assert!((10..=16).contains(&dots("Fuel quay")), "{lanes:#?}");
    assert_eq!(dots("Slipway north"), 0);
    press(&mut app, KeyCode::Char('s'));
    assert!(has(&draw(&app, ColourDepth::Mono), "1 hour"));
    for (width, height) in [(60, 16), (80, 24), (500, 200)] {
        app.area = Rect::new(0, 0, width, height);
        draw(&app, ColourDepth::True);
        press(&mut app, KeyCode::Char('v'));
        draw(&app, ColourDepth::Sixteen);
        press(&mut app, KeyCode::Char('v'));
    }
}
