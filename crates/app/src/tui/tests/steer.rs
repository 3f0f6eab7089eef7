//! Steering on the screen: what keys and the mouse order, and what is told of the head.

use super::*;
use lattice_core::onvif::{Axes, Preset, PtzNode, Scale};
use lattice_core::steer::{MovedBy, Pace};
use lattice_engine::{Hand, HeadState, News};
use lattice_net::HeadOrder;
use ratatui::crossterm::event::KeyEventKind;

fn head() -> HeadState {
    let scale = |least: f64, most: f64| Some(Scale { least, most });
    let node = PtzNode {
        speed: Axes { pan: scale(-1.0, 1.0), tilt: scale(-1.0, 1.0), zoom: None },
        position: Axes { pan: scale(-170.0, 170.0), tilt: scale(-20.0, 20.0), zoom: scale(0.0, 1.0) },
        by_view: true,
        presets: 2,
        auxiliary: vec!["tt:Wiper|On".into()],
        ..PtzNode::default()
    };
    let preset = |token: &str, name: &str| Preset { token: token.into(), name: name.into() };
    HeadState {
        node: Some(node),
        presets: vec![preset("1", "Slipway"), preset("7", "Crane")],
        position: Axes { pan: Some(85.0), tilt: Some(-20.0), zoom: Some(0.25) },
        moving: Some(false),
        ..HeadState::default()
    }
}

/// A camera of a site that is being steered.
fn steered(width: u16, height: u16) -> App {
    let mut app = wall(4, width, height);
    app.available = true;
    let names: Vec<String> = app.cameras_there().map(str::to_owned).collect();
    let camera = |name: &String| lattice_store::Camera { name: name.clone(), ..Default::default() };
    Arc::make_mut(&mut app.site).cameras = names.iter().map(camera).collect();
    app.on_site();
    let begun = press(&mut app, KeyCode::Char('H'));
    assert!(begun.contains(&Effect::Tell(Command::Steer("Slipway north".into(), Hand::Begin))), "{begun:?}");
    assert!(app.page_name() == "Steer" && has(&draw(&app, ColourDepth::Mono), "asking what its head can do"));
    app
}

fn tell(app: &mut App, state: HeadState) {
    app.on_news(&News::Head("Slipway north".into(), Box::new(state)));
}

fn hands(effects: Vec<Effect>) -> Vec<Hand> {
    let hand = |effect| match effect {
        Effect::Tell(Command::Steer(name, hand)) if name == "Slipway north" => Some(hand),
        _ => None,
    };
    effects.into_iter().filter_map(hand).collect()
}

fn key(app: &mut App, code: KeyCode, modifiers: KeyModifiers, kind: KeyEventKind) -> Vec<Hand> {
    let mut event = KeyEvent::new(code, modifiers);
    event.kind = kind;
    hands(app.on_key(event))
}

#[test]
fn keys_that_are_held_steer_and_what_the_head_cannot_is_said() {
    let mut app = steered(160, 50);
    tell(&mut app, head());
    let way = |pan: f64, tilt: f64| Axes { pan, tilt, zoom: 0.0 };
    for (code, modifiers, wanted) in [
        (KeyCode::Left, KeyModifiers::NONE, Hand::Press(way(-1.0, 0.0), Pace::Usual)),
        (KeyCode::Up, KeyModifiers::NONE, Hand::Press(way(0.0, 1.0), Pace::Usual)),
        (KeyCode::Right, KeyModifiers::SHIFT, Hand::Press(way(1.0, 0.0), Pace::Fast)),
        (KeyCode::Down, KeyModifiers::CONTROL, Hand::Press(way(0.0, -1.0), Pace::Slow)),
        (KeyCode::Char(' '), KeyModifiers::NONE, Hand::Release),
        (KeyCode::Char('0'), KeyModifiers::NONE, Hand::Do(HeadOrder::Home)),
    ] {
        assert_eq!(key(&mut app, code, modifiers, KeyEventKind::Press), [wanted], "{code:?}");
    }
    // A terminal that tells more: held is held, and let go is let go.
    let held = key(&mut app, KeyCode::Left, KeyModifiers::NONE, KeyEventKind::Repeat);
    assert_eq!(held, [Hand::Press(way(-1.0, 0.0), Pace::Usual)]);
    assert_eq!(key(&mut app, KeyCode::Left, KeyModifiers::NONE, KeyEventKind::Release), [Hand::Release]);
    // No zoom, no focus, no room for a third preset.
    for (code, said) in [('+', "does not zoom"), (']', "no imaging service"), ('w', "keeps no more presets")] {
        assert_eq!(key(&mut app, KeyCode::Char(code), KeyModifiers::NONE, KeyEventKind::Press), []);
        assert!(has(&draw(&app, ColourDepth::Mono), said), "{said}");
    }
    let to_the_second = [
        key(&mut app, KeyCode::Tab, KeyModifiers::NONE, KeyEventKind::Press),
        key(&mut app, KeyCode::Enter, KeyModifiers::NONE, KeyEventKind::Press),
    ];
    assert_eq!(to_the_second, [vec![], vec![Hand::Do(HeadOrder::GoTo("7".into()))]]);
    press(&mut app, KeyCode::Char('e'));
    "x".chars().for_each(|letter| drop(press(&mut app, KeyCode::Char(letter))));
    assert_eq!(hands(press(&mut app, KeyCode::Enter)), [Hand::Rename("7".into(), "Cranex".into())]);
    let patrol = hands(press(&mut app, KeyCode::Char('t')));
    assert!(matches!(&patrol[..], [Hand::Patrol(stops)] if stops.len() == 2), "{patrol:?}");
    // Each preset its own time; one of none is passed over.
    press(&mut app, KeyCode::Char('T'));
    (0..4).for_each(|_| drop(press(&mut app, KeyCode::Backspace)));
    "45".chars().for_each(|letter| drop(press(&mut app, KeyCode::Char(letter))));
    press(&mut app, KeyCode::Enter);
    assert!(has(&draw(&app, ColourDepth::Mono), "45 s"), "{:#?}", draw(&app, ColourDepth::Mono));
    let patrol = hands(press(&mut app, KeyCode::Char('t')));
    let stays =
        |hand: &Hand| if let Hand::Patrol(stops) = hand { stops.iter().map(|(_, stays)| stays.as_secs()).sum() } else { 0 };
    assert_eq!(patrol.iter().map(stays).sum::<u64>(), 55, "{patrol:?}");
    press(&mut app, KeyCode::Char('o'));
    assert!(has(&draw(&app, ColourDepth::Mono), "Wiper on"));
    assert_eq!(hands(press(&mut app, KeyCode::Enter)), [Hand::Do(HeadOrder::Switch("tt:Wiper|On".into()))]);
    // Whoever leaves lets go; and so does whoever touches nothing for a minute.
    assert_eq!(hands(press(&mut app, KeyCode::Esc)), [Hand::End]);
    let mut idle = steered(160, 50);
    tell(&mut idle, head());
    idle.now = idle.now + Duration::from_secs(61);
    let (figures, pictures) = (idle.figures.clone(), idle.pictures.clone());
    assert_eq!(hands(idle.on_figures((*figures).clone(), pictures)), [Hand::End]);
    assert!(idle.is_on_wall() && has(&draw(&idle, ColourDepth::Mono), "nothing was touched for a minute"));
}

#[test]
fn who_steers_on_another_screen_is_asked_about_before_it_is_taken_over() {
    let taken = || HeadState { taken_by: Some("kim".into()), ..HeadState::default() };
    let mut app = steered(160, 50);
    tell(&mut app, taken());
    assert!(has(&draw(&app, ColourDepth::Mono), "leave it to kim"));
    press(&mut app, KeyCode::Down);
    assert_eq!(hands(press(&mut app, KeyCode::Enter)), [Hand::TakeOver]);
    tell(&mut app, head());
    assert!(has(&draw(&app, ColourDepth::Mono), "presets 2"));
    let mut app = steered(160, 50);
    tell(&mut app, taken());
    press(&mut app, KeyCode::Enter);
    assert!(app.is_on_wall());
}

#[test]
fn the_mouse_centres_frames_and_steers_from_the_middle() {
    let mut app = steered(160, 50);
    tell(&mut app, head());
    draw(&app, ColourDepth::Mono);
    let place = crate::tui::pages::steer::shown(&app);
    let mut mouse = |kind, x: f64, y: f64| {
        let column = place.x + (f64::from(place.width) * x) as u16;
        let row = place.y + (f64::from(place.height) * y) as u16;
        hands(app.on_mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE }))
    };
    let (down, drag, up) =
        (MouseEventKind::Down(MouseButton::Left), MouseEventKind::Drag(MouseButton::Left), MouseEventKind::Up(MouseButton::Left));
    // A click: three quarters across and a quarter down is half of half a picture right of the middle, and above it.
    assert_eq!(mouse(down, 0.75, 0.25), []);
    let centred = mouse(up, 0.75, 0.25);
    let [Hand::Do(HeadOrder::Look { x, y, zoom })] = centred[..] else { panic!("{centred:?}") };
    assert!((x - 0.5).abs() < 0.05 && (y - 0.5).abs() < 0.05 && zoom == 1.0, "{x} {y} {zoom}");
    // A frame of a quarter of the picture's width, around a point a quarter left of the middle.
    assert_eq!(mouse(down, 0.125, 0.375), []);
    assert_eq!(mouse(drag, 0.375, 0.625), []);
    let framed = mouse(up, 0.375, 0.625);
    let [Hand::Do(HeadOrder::Look { x, zoom, .. })] = framed[..] else { panic!("{framed:?}") };
    assert!((x + 0.5).abs() < 0.05 && (zoom - 4.0).abs() < 0.5, "{x} {zoom}");
    // From the middle on it steers, and ends when it is let go.
    assert_eq!(mouse(down, 0.5, 0.5), []);
    let pulled = mouse(drag, 0.9, 0.5);
    assert!(matches!(pulled[..], [Hand::Drag(Axes { pan, .. })] if pan > 0.7), "{pulled:?}");
    assert_eq!(mouse(up, 0.9, 0.5), [Hand::Release]);
}

#[test]
fn an_order_stands_on_the_picture_until_that_has_moved() {
    let mut app = steered(160, 50);
    let way = Axes { pan: 0.6, tilt: 0.0, zoom: 0.0 };
    let ordered = HeadState { ordered: Some(way), answered: Some(Duration::from_millis(12)), ..head() };
    let waits = Some(MovedBy::Waiting(app.now));
    tell(&mut app, HeadState { moved: waits, ..ordered.clone() });
    let waiting = draw(&app, ColourDepth::Mono);
    for told in
        ["→ ordered", "→ 60 %", "answered in 12 ms", "STEERING Slipway north", "pan 85.0  tilt -20.0  zoom 25 %", "▸ Slipway"]
    {
        assert!(has(&waiting, told), "{told}: {waiting:#?}");
    }
    tell(&mut app, HeadState { moved: Some(MovedBy::After(Duration::from_millis(180))), ..ordered.clone() });
    let moved = draw(&app, ColourDepth::Mono);
    assert!(has(&moved, "picture moved after 180 ms") && !has(&moved, "→ ordered"), "{moved:#?}");
    tell(&mut app, HeadState { moved: Some(MovedBy::Not), said: Some("it goes no further that way".into()), ..ordered });
    let stuck = draw(&app, ColourDepth::Mono);
    assert!(has(&stuck, "the picture stands still") && has(&stuck, "goes no further"), "{stuck:#?}");
    tell(
        &mut app,
        HeadState { refused: Some("it cannot be steered: its device names no PTZ service".into()), ..HeadState::default() },
    );
    assert!(has(&draw(&app, ColourDepth::Mono), "it cannot be steered"));
    assert_eq!(key(&mut app, KeyCode::Left, KeyModifiers::NONE, KeyEventKind::Press), [], "nothing is ordered then");
    for (width, height) in [(80, 24), (60, 16), (300, 90), (20, 6)] {
        let mut app = steered(width.max(60), height.max(16));
        tell(&mut app, head());
        app.area = Rect::new(0, 0, width, height);
        draw(&app, ColourDepth::True);
    }
}
