//! The field on the screen.

use super::*;
use crate::tui::pages::field::Field;

/// A site of so many cameras in groups of a hundred, of which some are in trouble.
fn port(count: usize, width: u16, height: u16) -> App {
    let (mut app, _) = App::of(cameras(count), Role::Sub, Rect::new(0, 0, width, height));
    app.now = Mono::from_millis(100_000);
    app.clock = "14:02:31".into();
    app.available = true;
    let names: Vec<String> = app.cameras_there().map(str::to_owned).collect();
    let camera = |(n, name): (usize, &String)| lattice_store::Camera {
        name: name.clone(),
        group: Some(format!("Quay {}", n / 100)),
        ..lattice_store::Camera::default()
    };
    Arc::make_mut(&mut app.site).cameras = names.iter().enumerate().map(camera).collect();
    // Streams are open of all of them.
    let keys: Vec<FeedKey> = app.cameras.iter().map(|(id, _)| FeedKey::new(id, Role::Sub)).collect();
    app.open = Arc::new(keys.iter().copied().collect());
    let figures = keys.iter().enumerate().map(|(n, key)| {
        let (verdict, cause) = match n % 50 {
            7 => (Verdict::Lost, Some(Cause::Unreachable)),
            13 => (Verdict::Strained, Some(Cause::PacketLoss)),
            _ => (Verdict::Steady, None),
        };
        let codec = Some(if n % 10 == 3 { "h265" } else { "h264" }.to_owned());
        (*key, Arc::new(Figures { verdict, cause, codec, sent: Some(if n % 2 == 0 { 12.5 } else { 25.0 }), ..steady() }))
    });
    app.figures = Arc::new(figures.collect());
    press(&mut app, KeyCode::Char('A'));
    app
}

fn type_in(app: &mut App, text: &str) {
    text.chars().for_each(|c| drop(press(app, KeyCode::Char(c))));
}

#[test]
fn all_cameras_stand_in_cells_and_are_found_by_words_and_figures() {
    let mut app = port(400, 160, 50);
    let screen = draw(&app, ColourDepth::Mono);
    assert_eq!(app.page_name(), "Field");
    assert!(screen[1].starts_with("Field  400 cameras, by group  × 8 lost  ≈ 8 strained  • 384 steady"), "{}", screen[1]);
    assert!(has(&screen, "Quay 3 100  × 2 lost") && has(&screen, "• Berth 4  steady"), "{screen:#?}");
    assert!(has(&screen, "frame rate 12.5 sent") && has(&screen, "place      Quay 0"), "{screen:#?}");
    // The worst first: the selected one stays the selected one.
    press(&mut app, KeyCode::Char('o'));
    let worst = draw(&app, ColourDepth::Mono);
    assert!(worst[1].contains("worst first") && worst[3].starts_with("× × × × × × × × ≈ ≈"), "{}", worst[3]);
    // With each letter.
    press(&mut app, KeyCode::Char('/'));
    type_in(&mut app, "lost");
    assert!(has(&draw(&app, ColourDepth::Mono), "8 of 400 cameras"));
    type_in(&mut app, " \"quay 3\"");
    press(&mut app, KeyCode::Enter);
    assert!(has(&draw(&app, ColourDepth::Mono), "2 of 400 cameras, worst first  with lost \"quay 3\""));
    // What is not whole is said, and the line stays.
    press(&mut app, KeyCode::Char('/'));
    (0..13).for_each(|_| drop(press(&mut app, KeyCode::Backspace)));
    type_in(&mut app, "h265 > 20");
    press(&mut app, KeyCode::Enter);
    assert!(has(&draw(&app, ColourDepth::Mono), "> 20 of what? ms (latency)"));
    type_in(&mut app, " fps");
    press(&mut app, KeyCode::Enter);
    assert!(has(&draw(&app, ColourDepth::Mono), "40 of 400 cameras"));
    // Some become a lattice; one is shown.
    press(&mut app, KeyCode::Char('w'));
    assert!(has(&draw(&app, ColourDepth::Mono), "nothing is ticked"));
    press(&mut app, KeyCode::Char('*'));
    press(&mut app, KeyCode::Char(' '));
    assert!(has(&draw(&app, ColourDepth::Mono), "39 ticked"));
    press(&mut app, KeyCode::Char('w'));
    assert_eq!((app.page_name(), app.lattices.shown().cameras().len()), (WALL, 39));
    assert_eq!(app.lattices.shown().name, "h265 > 20 fps");
    press(&mut app, KeyCode::Char('A'));
    press(&mut app, KeyCode::Right);
    let chosen = app.peek::<Field>().unwrap();
    let name = crate::tui::page::Page::camera(chosen, &app).unwrap();
    press(&mut app, KeyCode::Enter);
    assert!(app.enlarged && app.is_on_wall());
    assert_eq!(app.selected_tile().map(|tile| app.name(tile).to_owned()), Some(name));
}

#[test]
fn ten_thousand_are_walked_through_in_any_size_and_each_has_a_lane() {
    let mut app = port(10_000, 200, 60);
    let begun = draw(&app, ColourDepth::Mono);
    assert!(has(&begun, "Field  10000 cameras") && has(&begun, "Quay 0 100"));
    for code in [KeyCode::PageDown, KeyCode::Down, KeyCode::Right, KeyCode::Up, KeyCode::Left, KeyCode::PageUp] {
        for _ in 0..3 {
            press(&mut app, code);
        }
    }
    (0..12).for_each(|_| drop(press(&mut app, KeyCode::PageDown)));
    let end = draw(&app, ColourDepth::Mono);
    assert!(has(&end, "Quay 99 100") && has(&end, "Berth 99"), "{end:#?}");
    // The selected one stays in sight in every order and size.
    press(&mut app, KeyCode::Char('v'));
    for (width, height) in [(200, 60), (80, 24), (60, 16), (500, 200), (1, 1)] {
        app.area = Rect::new(0, 0, width, height);
        for _ in 0..3 {
            press(&mut app, KeyCode::Char('o'));
            let screen = draw(&app, ColourDepth::Mono);
            let name = crate::tui::page::Page::camera(app.peek::<Field>().unwrap(), &app).unwrap();
            assert!(height < 16 || has(&screen, &name), "{name} {width}x{height}: {screen:#?}");
        }
    }
    app.area = Rect::new(0, 0, 200, 60);
    press(&mut app, KeyCode::Char('v'));
    let row = draw(&app, ColourDepth::Mono).iter().position(|line| line.starts_with("••")).unwrap() as u16;
    let press_at = MouseEvent { kind: MouseEventKind::Down(MouseButton::Left), column: 6, row, modifiers: KeyModifiers::NONE };
    app.on_mouse(press_at);
    app.on_mouse(press_at);
    assert!(app.enlarged && app.is_on_wall(), "a double click shows it");
}
