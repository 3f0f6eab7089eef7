//! Looking closer: zooming by keys and mouse, views into pictures of all around, adjusting.

use super::*;
use lattice_core::adjust::{Adjust, Setting};
use lattice_core::lattice::Around;
use lattice_core::lens::{Lens, Mount, Projection};
use lattice_core::view::{View, Zoom};
use lattice_engine::jobs::Errand;

/// A wall of cameras of a site; the third one sees all around.
fn looked_at(count: usize) -> App {
    let mut app = wall(count, 160, 50);
    app.available = true;
    let names: Vec<String> = app.cameras_there().map(str::to_owned).collect();
    let camera = |name: &String| lattice_store::Camera { name: name.clone(), ..Default::default() };
    let site = Arc::make_mut(&mut app.site);
    site.cameras = names.iter().map(camera).collect();
    site.cameras[2].lens = Some(Lens::new(Projection::Fisheye, Mount::Ceiling));
    app.on_site();
    app
}

fn wheel(app: &mut App, kind: MouseEventKind, (column, row): (u16, u16)) {
    app.on_mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE });
}

fn zoom_of(app: &App, place: usize) -> Zoom {
    match app.view(place) {
        View::Flat(zoom) => zoom,
        other => panic!("{other:?}"),
    }
}

#[test]
fn the_wheel_zooms_at_the_pointer_and_a_drag_moves_the_picture() {
    let mut app = looked_at(4);
    let pixels_before = app.asks()[0].pixels;
    let picture = crate::tui::app::regions::regions(&app).tiles[0].picture;
    let (left, right) = ((picture.x + 2, picture.bottom() - 2), (picture.right() - 3, picture.bottom() - 2));
    for _ in 0..6 {
        wheel(&mut app, MouseEventKind::ScrollUp, left);
    }
    let near = zoom_of(&app, 0);
    assert!(near.times() > 3.5 && near.middle().0 < 0.25 && near.middle().1 > 0.7, "{near:?}");
    assert!(zoom_of(&app, 1).is_whole(), "only the tile under the pointer");
    // More of the whole picture is needed for it, and the planner is told.
    assert!(f64::from(app.asks()[0].pixels) > f64::from(pixels_before) * 10.0, "{}", app.asks()[0].pixels);
    let print = app.pages.all[0].as_ref().unwrap().watched(&app, app.body());
    assert!(print.iter().any(|watched| watched.view == View::Flat(near)), "{print:?}");
    // Taken hold of and pulled to the right, what lies to the left comes.
    wheel(&mut app, MouseEventKind::Down(MouseButton::Left), left);
    wheel(&mut app, MouseEventKind::Drag(MouseButton::Left), right);
    wheel(&mut app, MouseEventKind::Up(MouseButton::Left), right);
    assert!(zoom_of(&app, 0).middle().0 < near.middle().0, "{:?}", zoom_of(&app, 0));
    assert_eq!(app.lattices.shown().at(0).unwrap().camera, "Slipway north", "the tile stays where it is");
    assert!(has(&draw(&app, ColourDepth::Mono), "×3.8"), "{:#?}", draw(&app, ColourDepth::Mono));
    for _ in 0..20 {
        wheel(&mut app, MouseEventKind::ScrollDown, left);
    }
    assert!(zoom_of(&app, 0).is_whole());
    // Outside of a picture the wheel turns pages, as before.
    wheel(&mut app, MouseEventKind::ScrollDown, (2, 49));
    assert!(has(&draw(&app, ColourDepth::Mono), "this lattice has one page"));
}

#[test]
fn keys_zoom_and_move_and_escape_leads_back_step_by_step() {
    let mut app = looked_at(4);
    press(&mut app, KeyCode::Enter);
    for _ in 0..5 {
        press(&mut app, KeyCode::Char('I'));
    }
    let before = zoom_of(&app, 0);
    press(&mut app, KeyCode::Left);
    assert!(zoom_of(&app, 0).middle().0 < before.middle().0 && app.selected == 0, "the arrow moves the picture");
    app.on_key(KeyEvent::new(KeyCode::Down, KeyModifiers::SHIFT));
    assert!(zoom_of(&app, 0).middle().1 > before.middle().1);
    press(&mut app, KeyCode::Esc);
    assert!(app.enlarged && zoom_of(&app, 0).is_whole(), "first the whole picture");
    press(&mut app, KeyCode::Esc);
    assert!(!app.enlarged);
    app.on_key(KeyEvent::new(KeyCode::Right, KeyModifiers::SHIFT));
    assert!(has(&draw(&app, ColourDepth::Mono), "the whole picture is seen"));
    press(&mut app, KeyCode::Char('O'));
    assert!(zoom_of(&app, 0).is_whole(), "no further out than all of it");
    // What was zoomed is undone by no undo, and kept with the lattice.
    press(&mut app, KeyCode::Char('I'));
    press(&mut app, KeyCode::Char('u'));
    assert!(!zoom_of(&app, 0).is_whole());
}

#[test]
fn what_is_there_is_drawn_at_once_until_the_sharper_picture_comes() {
    let mut app = looked_at(4);
    let key = app.tiles[0].key();
    let whole = app.pictures[&key].clone();
    press(&mut app, KeyCode::Char('I'));
    press(&mut app, KeyCode::Char('I'));
    let view = app.view(0);
    let (picture, cut) = app.picture_of(key, 0, &view).unwrap();
    let [_, _, width, _] = cut.unwrap();
    assert!(Arc::ptr_eq(picture, &whole));
    assert_eq!(usize::from(width), (whole.width as f64 / 1.5625).round() as usize);
    // Its own print has come.
    let own = Arc::new(TilePicture { view, ..(*whole).clone() });
    app.views.insert((key, 0), own.clone());
    let (picture, cut) = app.picture_of(key, 0, &view).unwrap();
    assert!(Arc::ptr_eq(picture, &own) && cut.is_none());
    // Zoomed out again there is the whole, and of what was zoomed further a part.
    press(&mut app, KeyCode::Char('I'));
    let (picture, cut) = app.picture_of(key, 0, &app.view(0)).unwrap();
    assert!(Arc::ptr_eq(picture, &own) && cut.is_some());
}

#[test]
fn a_camera_of_all_around_is_seen_by_views_that_turn() {
    let mut app = looked_at(4);
    app.selected = 2;
    press(&mut app, KeyCode::Char('Q'));
    let View::Window(_, first) = app.view(2) else { panic!("{:?}", app.view(2)) };
    assert_eq!(first.tilt, -4_500, "down into the room");
    app.on_key(KeyEvent::new(KeyCode::Right, KeyModifiers::SHIFT));
    let View::Window(_, turned) = app.view(2) else { panic!() };
    assert!(turned.pan > first.pan);
    press(&mut app, KeyCode::Char('I'));
    let View::Window(_, near) = app.view(2) else { panic!() };
    assert!(near.across < turned.across);
    press(&mut app, KeyCode::Char('Q'));
    assert!(matches!(app.view(2), View::Strip(..)));
    press(&mut app, KeyCode::Char('Q'));
    assert!(app.view(2).is_whole(), "and the picture as it comes");
    assert!(app.lattices.shown().at(2).unwrap().around.is_none());
    app.selected = 0;
    press(&mut app, KeyCode::Char('Q'));
    assert!(has(&draw(&app, ColourDepth::Mono), "is not known to see all around"));
    // Four views at once, beside a strip and the picture as it comes, all of one camera.
    app.selected = 2;
    press(&mut app, KeyCode::Char('R'));
    let views: Vec<Option<Around>> = app.lattices.shown().tiles().iter().flatten().map(|placed| placed.around).collect();
    let windows = views.iter().filter(|view| matches!(view, Some(Around::Window(_)))).count();
    assert_eq!((views.len(), windows), (6, 4), "{views:?}");
    let names: Vec<&str> = app.lattices.shown().cameras();
    assert_eq!(names.len(), 1, "{names:?}");
}

#[test]
fn adjusting_shows_at_once_and_is_kept_when_it_is_said() {
    let mut app = looked_at(4);
    let camera = app.tiles[0].camera;
    let begun = press(&mut app, KeyCode::Char('Y'));
    assert!(begun.contains(&Effect::Tell(Command::Tones(camera, true))), "{begun:?}");
    let told = press(&mut app, KeyCode::Right);
    let brighter = Adjust::OFF.with(Setting::Brightness, 5);
    assert_eq!(told, [Effect::Tell(Command::Adjust(camera, Some((brighter, 0))))]);
    press(&mut app, KeyCode::Char('b'));
    let split = press(&mut app, KeyCode::Down).is_empty() && has(&draw(&app, ColourDepth::Mono), "as it comes");
    assert!(split, "{:#?}", draw(&app, ColourDepth::Mono));
    press(&mut app, KeyCode::Left);
    let screen = draw(&app, ColourDepth::Mono);
    assert!(has(&screen, "adjusted here, not at the camera: brightness +5, contrast -5"), "{screen:#?}");
    let kept = press(&mut app, KeyCode::Enter);
    let wanted = brighter.with(Setting::Contrast, -5);
    assert!(kept.contains(&Effect::Tell(Command::Errand(Errand::Adjust("Slipway north".into(), wanted)))), "{kept:?}");
    // A preset by its first letters.
    press(&mut app, KeyCode::Char('p'));
    "fog".chars().for_each(|letter| drop(press(&mut app, KeyCode::Char(letter))));
    let taken = press(&mut app, KeyCode::Enter);
    assert!(
        matches!(&taken[..], [Effect::Tell(Command::Adjust(_, Some((adjust, _))))] if adjust.get(Setting::Dehaze) == 85),
        "{taken:?}"
    );
    // What was not kept is gone, and that is said.
    let left = press(&mut app, KeyCode::Esc);
    assert!(left.contains(&Effect::Tell(Command::Adjust(camera, None))), "{left:?}");
    assert!(app.is_on_wall() && has(&draw(&app, ColourDepth::Mono), "is shown as before"));
}

#[test]
fn the_cameras_own_imaging_is_set_when_it_is_said_and_set_back_by_one_key() {
    use lattice_core::onvif::{ImagingChoice, ImagingItem, ImagingOptions, ImagingSettings, ImagingValue, Scale};
    use lattice_engine::News;
    use lattice_engine::jobs::DeviceNews;
    use lattice_net::Imaging;
    let word = |word: &str| ImagingValue::Word(word.into());
    let told = |brightness: f64| {
        let settings = ImagingSettings::from([
            (ImagingItem::Brightness, ImagingValue::Number(brightness)),
            (ImagingItem::IrCut, word("AUTO")),
            (ImagingItem::Gain, ImagingValue::Number(3.0)),
        ]);
        let options = ImagingOptions::from([
            (ImagingItem::Brightness, ImagingChoice::Range(Scale { least: 0.0, most: 100.0 })),
            (ImagingItem::IrCut, ImagingChoice::Words(vec!["AUTO".into(), "ON".into(), "OFF".into()])),
        ]);
        let service = "http://192.0.2.9/onvif/imaging".parse().unwrap();
        Imaging::new(service, "source".into(), settings, options)
    };
    let news = |told: Result<Option<Box<Imaging>>, String>| News::Device("Slipway north".into(), DeviceNews::Imaging(told));
    let mut app = looked_at(4);
    let asked = press(&mut app, KeyCode::Char('%'));
    assert!(asked.contains(&Effect::Tell(Command::Errand(Errand::AskImaging("Slipway north".into())))), "{asked:?}");
    assert!(has(&draw(&app, ColourDepth::Mono), "asking the camera"));
    app.on_news(&news(Ok(Some(Box::new(told(50.0))))));
    press(&mut app, KeyCode::Right);
    let screen = draw(&app, ColourDepth::Mono);
    assert!(has(&screen, "50 → 55  0 to 100") && has(&screen, "1 value changed, not set yet"), "{screen:#?}");
    let set = press(&mut app, KeyCode::Enter);
    let wanted = ImagingSettings::from([(ImagingItem::Brightness, ImagingValue::Number(55.0))]);
    let order = Errand::SetImaging("Slipway north".into(), Box::new(told(50.0)), wanted);
    assert_eq!(set, [Effect::Tell(Command::Errand(order))]);
    app.on_news(&news(Ok(Some(Box::new(told(55.0))))));
    assert!(has(&draw(&app, ColourDepth::Mono), "b sets it back"));
    let back = press(&mut app, KeyCode::Char('b'));
    let order = Errand::SetImaging("Slipway north".into(), Box::new(told(55.0)), told(50.0).settings);
    assert_eq!(back, [Effect::Tell(Command::Errand(order))], "all of it, as it was");
    // What cannot be chosen is said, and words go round.
    for _ in 0..2 {
        press(&mut app, KeyCode::Down);
    }
    let rows = draw(&app, ColourDepth::Mono);
    press(&mut app, KeyCode::Left);
    assert!(
        has(&draw(&app, ColourDepth::Mono), "auto → off") || has(&draw(&app, ColourDepth::Mono), "does not say what"),
        "{rows:#?}"
    );
    // A camera without the service says so.
    let mut small = looked_at(4);
    small.area = Rect::new(0, 0, 80, 24);
    press(&mut small, KeyCode::Char('%'));
    small.on_news(&news(Ok(None)));
    assert!(has(&draw(&small, ColourDepth::Mono), "it has no imaging service"));
    assert!(press(&mut small, KeyCode::Enter).is_empty());
    press(&mut small, KeyCode::Esc);
    assert!(small.is_on_wall());
}
