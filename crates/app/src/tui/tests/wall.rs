//! Lattices, plans and tours.

use super::*;
use crate::tui::lattices::ALL;
use lattice_core::BitsPerSecond;
use lattice_core::lattice::{Aspect, Lattice};
use lattice_core::layout::{Layout, Preset};
use lattice_engine::News;
use lattice_store::site::{Stop, Tour};

fn lattice(name: &str, layout: Layout, names: &[&str]) -> Lattice {
    let mut lattice = Lattice::new(name, layout);
    lattice.fill(0, names.iter().copied());
    lattice
}

/// A wall of eight with two lattices of four, and a tour of both.
fn two_fours() -> App {
    let mut app = wall(8, 160, 50);
    app.available = true;
    let first = lattice("first", Layout::even(4), &NAMES);
    let second = lattice("second", Layout::even(4), &["Berth 4", "Berth 5", "Berth 6", "Berth 7"]);
    Arc::make_mut(&mut app.site).lattices = vec![first, second];
    let stop = |lattice: &str| Stop { lattice: lattice.into(), page: None, dwell: Duration::from_secs(20) };
    let tour = Tour { name: "round".into(), stops: vec![stop("first"), stop("second")], trouble_first: true };
    Arc::make_mut(&mut app.site).tours = vec![tour];
    app.on_site();
    app.show_lattice(Some("first"));
    app.settle();
    app
}

fn names(app: &App) -> Vec<&str> {
    app.tiles.iter().map(|tile| app.name(tile)).collect()
}

/// Figures of a stream that is well; a main stream is larger.
fn well(key: FeedKey) -> Arc<Figures> {
    let size = Some(if key.role == Role::Main { (1280, 720) } else { (640, 360) });
    Arc::new(Figures { size, ..steady() })
}

/// Time passes, and everything that is open has figures and pictures.
fn later(app: &mut App, seconds: u64) -> Vec<Effect> {
    app.now = app.now + Duration::from_secs(seconds);
    let figures: HashMap<_, _> = app.open_streams().map(|key| (key, well(key))).collect();
    let pictures = app.open_streams().map(|key| (key, picture(1))).collect();
    app.on_figures(figures, pictures)
}

#[test]
fn another_lattice_or_page_finds_its_streams_open_and_closes_none() {
    let mut app = two_fours();
    assert_eq!(app.open_streams().count(), 8, "those of other pages are received and measured");
    assert_eq!(view::watched(&app).len(), 4, "and not decoded");
    let effects = press(&mut app, KeyCode::Char('2'));
    assert!(effects.is_empty(), "{effects:?}");
    assert_eq!(names(&app), ["Berth 4", "Berth 5", "Berth 6", "Berth 7"]);
    // What is changed is marked, and is there again after a look at another lattice.
    press(&mut app, KeyCode::Delete);
    assert!(has(&draw(&app, ColourDepth::True), "second, not saved"));
    press(&mut app, KeyCode::Char('1'));
    press(&mut app, KeyCode::Char('2'));
    assert_eq!(names(&app), ["Berth 5", "Berth 6", "Berth 7"]);
    // The site file is read again meanwhile: what was not saved stays, what others changed comes.
    Arc::make_mut(&mut app.site).lattices[0] = lattice("first", Layout::even(2), &NAMES);
    app.on_site();
    assert_eq!((app.lattices.shown().tiles()[0].is_none(), app.lattices.own()[0].layout()), (true, &Layout::even(2)));
    press(&mut app, KeyCode::Char('q'));
    assert!(app.foot_line().unwrap().0.contains("not saved"));
    let save = press(&mut app, KeyCode::Char('w'));
    assert!(matches!(save.as_slice(), [Effect::Tell(Command::Errand(Errand::SaveLattices(all)))] if all.len() == 2), "{save:?}");
    press(&mut app, KeyCode::Char('u'));
    assert_eq!(names(&app).len(), 4, "undone");
    // All cameras is always there; changing it makes another lattice.
    press(&mut app, KeyCode::Char('0'));
    assert_eq!((app.lattices.shown().name.as_str(), app.tiles.len()), (ALL, 8));
    press(&mut app, KeyCode::Delete);
    assert_eq!((app.lattices.shown().name.as_str(), app.tiles.len()), ("lattice", 7));
}

#[test]
fn a_layout_is_found_by_its_number_of_places_and_the_footers_hints_are_pressed() {
    use ratatui::crossterm::event::{KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
    let mut app = two_fours();
    let places = |app: &mut App, digits: &str| {
        press(app, KeyCode::Char('v'));
        for digit in digits.chars() {
            press(app, KeyCode::Char(digit));
        }
        press(app, KeyCode::Enter);
        app.lattices.shown().layout().count()
    };
    for count in 1..=64 {
        assert_eq!(places(&mut app, &count.to_string()), count);
    }
    assert_eq!(places(&mut app, "127"), 7, "the digit that makes too many begins anew");
    assert_eq!(places(&mut app, "0"), 7, "there is none, so the selected one stays");
    let screen = draw(&app, ColourDepth::Mono);
    let line = screen.last().unwrap();
    let column = line.split("? help").next().unwrap().chars().count();
    let click = |app: &mut App, column: usize| {
        let kind = MouseEventKind::Down(MouseButton::Left);
        app.on_mouse(MouseEvent { kind, column: column as u16, row: 49, modifiers: KeyModifiers::NONE });
    };
    click(&mut app, column - 1);
    assert!(!app.pages.has_front(), "between two hints is none");
    click(&mut app, column + 3);
    assert!(app.pages.has_front(), "{line}");
}

#[test]
fn what_this_screen_shows_is_sent_to_the_others_first() {
    let mut app = two_fours();
    let screen = |name: &str| lattice_store::site::Screen { name: name.into(), shows: None };
    Arc::make_mut(&mut app.site).screens = ["desk", "wall", "gate"].map(screen).to_vec();
    app.screen = Some("desk".into());
    press(&mut app, KeyCode::Char('e'));
    let shown = draw(&app, ColourDepth::Mono).join("\n");
    let place = |text: &str| shown.find(text).unwrap_or_else(|| panic!("{text} in {shown}"));
    assert!(place("wall  ") < place("gate  ") && place("gate  ") < place("desk  "), "{shown}");
    assert!(shown.contains("this one"));
}

#[test]
fn cameras_that_are_not_there_keep_their_tile_and_say_why() {
    let mut app = two_fours();
    Arc::make_mut(&mut app.site).lattices.push(lattice("gone", Layout::Preset(Preset::One3), &["Slipway north", "Crane"]));
    app.on_site();
    press(&mut app, KeyCode::Char('3'));
    let screen = draw(&app, ColourDepth::True);
    assert!(has(&screen, "Crane") && has(&screen, "is not in the site"), "{screen:#?}");
    assert_eq!(app.lattices.shown().find("Crane"), Some(1), "it is kept");
    press(&mut app, KeyCode::Right);
    press(&mut app, KeyCode::Char('m'));
    press(&mut app, KeyCode::Char('r'));
    press(&mut app, KeyCode::Enter);
    assert!(!app.enlarged, "there is nothing to enlarge");
}

#[test]
fn the_link_bounds_what_is_open_and_the_plate_says_so() {
    let mut app = two_fours();
    Arc::make_mut(&mut app.site).link = Some(BitsPerSecond(1.2e6));
    app.on_site();
    let effects = app.settle();
    // Streams are taken for 500 kbit/s until they were measured: two fit.
    assert_eq!(app.tiles.iter().filter(|tile| tile.short.is_none()).count(), 2, "{:?}", app.tiles);
    assert!(has(&draw(&app, ColourDepth::True), "not received: link budget used up"));
    assert!(effects.iter().all(|effect| !matches!(effect, Effect::Open(_))), "{effects:?}");
    press(&mut app, KeyCode::Char('o'));
    let plan = draw(&app, ColourDepth::True);
    assert!(has(&plan, "1.0 Mbit/s of 1.2 Mbit/s (83 %)") && has(&plan, "none"), "{plan:#?}");
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char('m'));
    let told = draw(&app, ColourDepth::True);
    assert!(has(&told, "[M] held, link budget used up"), "{told:#?}");
}

#[test]
fn what_cannot_be_decoded_is_measured_all_the_same() {
    let mut app = two_fours();
    later(&mut app, 1);
    Arc::make_mut(&mut app.site).decoding = Some(8.0);
    app.on_site();
    app.settle();
    later(&mut app, 30);
    let short: Vec<Tile> = app.tiles.iter().filter(|tile| tile.short.is_some()).copied().collect();
    assert!(!short.is_empty() && short.len() < 4, "{:?}", app.tiles);
    assert_eq!(app.open_streams().count(), 8, "received, all of them");
    assert!(short.iter().all(|tile| app.figures.contains_key(&tile.key())), "{short:?}");
    assert!(short.iter().all(|tile| tile.keyframes), "their keyframes are shown: {short:?}");
    assert_eq!(view::watched(&app).len(), 4);
    let screen = draw(&app, ColourDepth::True);
    assert!(has(&screen, " keyframes only ") && has(&screen, "8 steady"), "{screen:#?}");
    assert!(has(&screen, " – ms"), "no latency to the screen: {screen:#?}");
    // What is wrong with the stream itself goes before.
    let lost = Figures { verdict: Verdict::Lost, cause: Some(Cause::NoSuchStream), ..Figures::default() };
    let before = app.figures.clone();
    Arc::make_mut(&mut app.figures).insert(short[0].key(), Arc::new(lost));
    let screen = draw(&app, ColourDepth::True);
    assert!(has(&screen, "LOST: no such stream") || has(&screen, "LOST"), "{screen:#?}");
    app.figures = before;
    Arc::make_mut(&mut app.site).decoding = Some(1000.0);
    app.on_site();
    for _ in 0..4 {
        later(&mut app, 15);
    }
    assert!(app.tiles.iter().all(|tile| tile.short.is_none()), "{:?}", app.tiles);
    assert_eq!(view::watched(&app).len(), 4);
}

#[test]
fn a_stream_that_arrives_slower_than_it_is_sent_is_eased_and_climbs_after_a_trial_only() {
    let mut app = two_fours();
    later(&mut app, 1);
    press(&mut app, KeyCode::Enter);
    later(&mut app, 1);
    assert_eq!(app.tiles[0].role, Role::Main, "enlarged: the heavier one");
    let main = FeedKey::new(CameraId(0), Role::Main);
    let slow = |app: &mut App, seconds: u64, arrived: f64| {
        app.now = app.now + Duration::from_secs(seconds);
        let mut figures: HashMap<_, _> = app.open_streams().map(|key| (key, well(key))).collect();
        let (verdict, cause) = if arrived < 12.0 { (Verdict::Strained, Some(Cause::Late)) } else { (Verdict::Steady, None) };
        let first = steady().milestones;
        let milestones = lattice_core::meter::Milestones { first_picture: Some(app.now), ..first };
        let since = app.figures.get(&main).and_then(|figures| figures.milestones.first_picture);
        let milestones = lattice_core::meter::Milestones { first_picture: since.or(milestones.first_picture), ..milestones };
        figures.entry(main).and_modify(|one| {
            *one = Arc::new(Figures { arrived: Some(arrived), verdict, cause, milestones, ..(*well(main)).clone() });
        });
        let pictures = app.open_streams().map(|key| (key, picture(1))).collect();
        app.on_figures(figures, pictures)
    };
    for _ in 0..7 {
        slow(&mut app, 1, 8.0);
    }
    assert_eq!((app.tiles[0].role, app.tiles[0].switching), (Role::Sub, None), "eased by itself");
    assert!(app.foot_line().unwrap().0.contains("too heavy for the link"), "{:?}", app.foot_line());
    for _ in 0..40 {
        slow(&mut app, 1, 12.5);
        assert_eq!(app.tiles[0].role, Role::Sub, "not before its time");
    }
    for _ in 0..35 {
        slow(&mut app, 1, 12.5);
    }
    assert_eq!(app.tiles[0].role, Role::Main, "after a trial that went well");
}

#[test]
fn a_tour_turns_with_its_pictures_there_waits_for_the_operator_and_brings_trouble_to_the_front() {
    let mut app = two_fours();
    app.begin_tour("round");
    assert!(has(&draw(&app, ColourDepth::True), "tour round 1/2, next in 20 s"));
    later(&mut app, 19);
    assert_eq!(app.decoded_ahead().len(), 4, "the next page is decoded before it is shown");
    later(&mut app, 2);
    assert_eq!(names(&app)[0], "Berth 4");
    // A key holds it, until half a minute after the last one.
    press(&mut app, KeyCode::Right);
    later(&mut app, 25);
    assert_eq!(names(&app)[0], "Berth 4");
    assert!(has(&draw(&app, ColourDepth::True), "tour round 2/2, held"));
    later(&mut app, 10);
    later(&mut app, 21);
    assert_eq!(names(&app)[0], "Slipway north", "on, and round");
    // Without pictures for the next page it waits, but not for ever.
    app.now = app.now + Duration::from_secs(21);
    let figures: HashMap<_, _> = app.open_streams().map(|key| (key, well(key))).collect();
    app.on_figures(figures.clone(), HashMap::new());
    assert_eq!(names(&app)[0], "Slipway north", "no tile is shown empty");
    app.now = app.now + Duration::from_secs(7);
    app.on_figures(figures, HashMap::new());
    assert_eq!(names(&app)[0], "Berth 4");
    // Trouble elsewhere comes to the front, with a mark and a way back.
    let lost = |app: &mut App| {
        let mut figures: HashMap<_, _> = app.open_streams().map(|key| (key, well(key))).collect();
        for (key, figures) in figures.iter_mut().filter(|(key, _)| key.camera == CameraId(1)) {
            assert_eq!(key.camera, CameraId(1));
            *figures = Arc::new(Figures { verdict: Verdict::Lost, cause: Some(Cause::PortClosed), ..steady() });
        }
        app.now = app.now + Duration::from_secs(1);
        app.on_figures(figures, HashMap::new());
    };
    lost(&mut app);
    assert_eq!(names(&app), ["Berth 4", "Berth 5", "Berth 6", "Lock gate upper"]);
    assert!(has(&draw(&app, ColourDepth::True), "in place of Berth 7, y gives it back"));
    press(&mut app, KeyCode::Char('y'));
    assert_eq!(names(&app)[3], "Berth 7");
    (0..35).for_each(|_| lost(&mut app));
    assert_eq!(names(&app)[3], "Berth 7", "it was sent away");
    press(&mut app, KeyCode::Esc);
    assert!(!has(&draw(&app, ColourDepth::True), "tour round"));
}

#[test]
fn the_mouse_drags_tiles_cameras_and_borders() {
    let mut app = two_fours();
    let mouse = |app: &mut App, kind, (column, row): (u16, u16)| {
        app.on_mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE })
    };
    let drag = |app: &mut App, from, to| {
        mouse(app, MouseEventKind::Down(MouseButton::Left), from);
        mouse(app, MouseEventKind::Up(MouseButton::Left), to)
    };
    drag(&mut app, (10, 10), (120, 40));
    assert_eq!(names(&app), ["Fuel quay", "Lock gate upper", "Car lane 2", "Slipway north"]);
    press(&mut app, KeyCode::Char('p'));
    let row = draw(&app, ColourDepth::True).iter().position(|line| line.contains("Berth 6")).unwrap() as u16;
    drag(&mut app, (110, row), (10, 10));
    assert_eq!((names(&app)[0], !app.pages.has_front()), ("Berth 6", true), "from the list onto a tile");
    press(&mut app, KeyCode::Char('V'));
    let before = regions(&app).tiles[0].whole;
    drag(&mut app, (before.right(), 10), (before.right() + 26, 10));
    let after = regions(&app).tiles[0].whole;
    assert!(after.width > before.width + 20, "{before:?} {after:?}");
    press(&mut app, KeyCode::Char('s'));
    assert_eq!((app.lattices.shown().places(), app.tiles.len()), (5, 4), "split: one more place, empty");
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char('z'));
    assert_eq!(app.placed(app.selected).unwrap().aspect, Aspect::Fill);
    // Whatever is under the mouse is the tile that is drawn there.
    for region in regions(&app).tiles {
        let middle = (region.whole.x + region.whole.width / 2, region.whole.y + region.whole.height / 2);
        app.now = app.now + Duration::from_secs(1);
        mouse(&mut app, MouseEventKind::Down(MouseButton::Left), middle);
        assert_eq!(app.selected, region.tile);
    }
}

#[test]
fn help_and_palette_hold_every_key_that_does_something() {
    let mut app = wall(4, 160, 50);
    app.available = true;
    app.guide = Some(crate::tui::guide::Guide::default());
    app.area = Rect::new(0, 0, 160, 600);
    press(&mut app, KeyCode::Char('?'));
    let help = draw(&app, ColourDepth::Mono).join("\n");
    press(&mut app, KeyCode::Esc);
    let palette: Vec<String> = pages::wall::palette_lines(&app).into_iter().map(|line| line.label).collect();
    let fronts: Vec<_> = app.pages.fronts.iter().flat_map(|(_, keys)| keys.iter().copied()).collect();
    let pages: Vec<_> = app.pages.tables.iter().map(|table| (table.name, app.keys_of(table))).collect();
    for key in pages.iter().flat_map(|(_, keys)| keys).map(|(_, key)| *key).chain(fronts).filter(|key| !key.help.is_empty()) {
        assert!(help.contains(key.help), "{}", key.help);
    }
    for (name, keys) in pages.iter().filter(|(name, _)| *name != crate::tui::page::WELCOME) {
        for (_, key) in keys.iter().filter(|(_, key)| !key.help.is_empty() && key.kind == crate::tui::page::Kind::Does) {
            let label = if *name == WALL { key.help.to_owned() } else { format!("{name}: {}", key.help) };
            assert!(palette.contains(&label), "{label}");
        }
    }
}

#[test]
fn each_key_has_one_meaning_on_its_page_and_each_way_begins_on_a_page() {
    let app = wall(4, 160, 50);
    let pages = app.pages.tables.iter().map(|table| (table.name, app.keys_of(table).into_iter().map(|(_, key)| key).collect()));
    for (name, keys) in pages.chain(app.pages.fronts.iter().cloned()) {
        let mut seen = std::collections::BTreeSet::new();
        for key in keys.iter().flat_map(|key: &crate::tui::page::KeyText| key.keys.split(' ')) {
            assert!(seen.insert(key), "{key} of {name}");
        }
    }
    for table in &app.pages.tables {
        assert!(app.ways_to(table.name).is_some() || table.name == crate::tui::page::WELCOME, "no key leads to {}", table.name);
        for (from, key) in &table.ways {
            assert!(app.pages.number(from).is_some(), "{} of {}: there is no page {from}", key.keys, table.name);
        }
    }
}

/// The stream that tells of a camera is in this state now.
fn becomes(app: &mut App, name: &str, verdict: Verdict) {
    let key = app.telling(app.camera_index(name).unwrap()).unwrap();
    let mut figures = (*app.figures).clone();
    let cause = (verdict != Verdict::Steady).then_some(Cause::Silence);
    figures.insert(key, Arc::new(Figures { verdict, cause, ..(*well(key)).clone() }));
    let pictures = app.pictures.clone();
    app.on_figures(figures, pictures);
}

#[test]
fn what_is_in_trouble_stands_on_one_wall_the_worst_largest_and_leaves_once_it_is_well() {
    let mut app = two_fours();
    later(&mut app, 1);
    press(&mut app, KeyCode::Char('2'));
    press(&mut app, KeyCode::Char('!'));
    assert!(has(&draw(&app, ColourDepth::Mono), "no camera is in alarm or in trouble"));
    press(&mut app, KeyCode::Char('!'));
    assert_eq!(app.lattices.shown().name, "second", "back where it was");
    for (name, verdict) in [("Berth 5", Verdict::Strained), ("Fuel quay", Verdict::Lost), ("Car lane 2", Verdict::Stalled)] {
        becomes(&mut app, name, verdict);
    }
    press(&mut app, KeyCode::Char('!'));
    app.settle();
    assert_eq!(names(&app), ["Fuel quay", "Car lane 2", "Berth 5"]);
    let places = regions(&app).tiles;
    assert!(places[0].whole.area() > 2 * places[1].whole.area(), "the worst is the largest");
    assert!(has(&draw(&app, ColourDepth::Mono), "in trouble"), "it is never unclear what is shown");
    // A hold stays with its camera while others come and go.
    press(&mut app, KeyCode::Right);
    press(&mut app, KeyCode::Char('m'));
    assert_eq!((app.selected, app.hold(2)), (2, Some(Role::Main)));
    app.now = app.now + Duration::from_secs(3);
    becomes(&mut app, "Berth 5", Verdict::Lost);
    app.now = app.now + Duration::from_secs(3);
    becomes(&mut app, "Lock gate upper", Verdict::Strained);
    app.settle();
    assert_eq!(names(&app), ["Fuel quay", "Berth 5", "Car lane 2", "Lock gate upper"], "who stood first stays first");
    assert_eq!(app.hold(1), Some(Role::Main));
    // Well again: seen to be for ten seconds, then gone.
    becomes(&mut app, "Fuel quay", Verdict::Steady);
    app.now = app.now + Duration::from_secs(9);
    becomes(&mut app, "Berth 5", Verdict::Lost);
    assert!(names(&app).contains(&"Fuel quay"));
    app.now = app.now + Duration::from_secs(2);
    becomes(&mut app, "Berth 5", Verdict::Lost);
    app.settle();
    assert_eq!(names(&app), ["Berth 5", "Car lane 2", "Lock gate upper"]);
    // What is changed by hand becomes a lattice of its own.
    press(&mut app, KeyCode::Delete);
    assert_eq!((app.lattices.shown().name.as_str(), names(&app).len()), ("lattice", 2));
    press(&mut app, KeyCode::Char('!'));
    press(&mut app, KeyCode::Esc);
    assert_eq!(app.lattices.shown().name, "lattice");
}

#[test]
fn a_narrow_header_loses_names_before_counts_and_alarms_last() {
    let mut app = two_fours();
    later(&mut app, 1);
    becomes(&mut app, "Fuel quay", Verdict::Lost);
    becomes(&mut app, "Car lane 2", Verdict::Stalled);
    becomes(&mut app, "Lock gate upper", Verdict::Strained);
    // An outage of more than half a minute asks for somebody.
    let outage = lattice_core::event::Event {
        number: 0,
        kind: lattice_core::event::EventKind::Outage,
        start: Mono::from_millis(0),
        end: None,
        cause: Some(Cause::Silence),
        evidence: String::new(),
        confidence: lattice_core::event::Confidence::High,
    };
    with(&mut app, 0, |figures| figures.events = [outage].into());
    let alarms = app.ledger.alarms(app.utc).count();
    assert!(alarms > 0, "{:?}", app.ledger.entries());
    let header = |app: &mut App, width: u16| {
        app.area = Rect::new(0, 0, width, 24);
        let mut buf = Buffer::empty(Rect::new(0, 0, width, 1));
        crate::tui::widgets::frame::header(app, Theme::new(ColourDepth::Mono), Rect::new(0, 0, width, 1), &mut buf);
        (0..width).map(|x| buf[(x, 0)].symbol().to_owned()).collect::<String>()
    };
    let wide = header(&mut app, 160);
    for text in ["Tarnhithe ferry port", "first", "× 1 lost", "■ 1 stalled", "≈ 1 strained", "steady", "alarm", "14:02:31"] {
        assert!(wide.contains(text), "{text}: {wide}");
    }
    let narrow = header(&mut app, 60);
    assert!(narrow.contains("lost") && narrow.contains("stalled") && narrow.contains("alarm"), "{narrow}");
    assert!(!narrow.contains("Tarnhithe"), "{narrow}");
    for width in 12..160 {
        let line = header(&mut app, width);
        assert!(line.contains("alarm"), "{width}: {line}");
    }
}

#[test]
fn a_list_shows_the_selected_camera_from_near_where_there_is_room() {
    use crate::tui::page::ROSTER;
    let mut app = two_fours();
    let names: Vec<String> = app.cameras_there().map(str::to_owned).collect();
    let camera = |name: &String| lattice_store::Camera { name: name.clone(), ..Default::default() };
    Arc::make_mut(&mut app.site).cameras = names.iter().map(camera).collect();
    app.on_site();
    later(&mut app, 1);
    app.open(ROSTER);
    let screen = draw(&app, ColourDepth::Mono);
    assert!(has(&screen, "latency p95") && has(&screen, "10 min ago"), "{screen:#?}");
    // A share is a share: a quarter of the declared 12.5 pictures a second is missing, and 3.1 of a hundred packets.
    let key = view::watched(&app)[0].key;
    let past = lattice_engine::SharedHistory::default();
    let sample = lattice_core::meter::Sample { verdict: Some(Verdict::Strained), ..Default::default() };
    let sample = sample.with_value(lattice_core::meter::Fig::Arrived, 9.375).with_value(lattice_core::meter::Fig::Loss, 3.1);
    past.push(app.now, sample);
    app.history = Arc::new(std::iter::once((key, past)).collect());
    let screen = draw(&app, ColourDepth::Mono);
    assert!(has(&screen, "25.0 %, most 25.0") && has(&screen, "3.1 %, most 3.1"), "{screen:#?}");
    let near = view::watched(&app);
    assert_eq!(near.len(), 1, "one picture is decoded, at the size that it has here");
    press(&mut app, KeyCode::Down);
    assert_ne!(view::watched(&app)[0].key, near[0].key, "that of the selected camera");
    app.area = Rect::new(0, 0, 80, 24);
    assert!(view::watched(&app).is_empty() && !has(&draw(&app, ColourDepth::Mono), "10 min ago"));
}

#[test]
fn the_demo_says_which_key_to_press_next_until_each_was_pressed_or_left_out() {
    use crate::tui::guide::Guide;
    let mut app = two_fours();
    later(&mut app, 1);
    assert!(!has(&draw(&app, ColourDepth::Mono), "step 1"), "only where somebody is led");
    press(&mut app, KeyCode::Char(' '));
    app.guide = Some(Guide::default());
    assert!(has(&draw(&app, ColourDepth::Mono), "step 1 of 5: enter"));
    press(&mut app, KeyCode::Enter);
    let screen = draw(&app, ColourDepth::Mono);
    assert!(has(&screen, "step 2 of 5: G") && has(&screen, "? help"), "{screen:#?}");
    press(&mut app, KeyCode::Char('G'));
    assert!(has(&draw(&app, ColourDepth::Mono), "step 3 of 5: esc, then !"));
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char(' '));
    assert!(has(&draw(&app, ColourDepth::Mono), "step 4 of 5: J"), "left out");
    press(&mut app, KeyCode::Char('J'));
    press(&mut app, KeyCode::Esc);
    press(&mut app, KeyCode::Char('o'));
    let after = draw(&app, ColourDepth::Mono);
    assert!(!has(&after, "step "), "{after:#?}");
}

#[test]
fn a_camera_that_is_called_comes_to_the_front_of_a_tour_and_stands_once_on_each_of_its_pages() {
    let mut app = two_fours();
    app.begin_tour("round");
    later(&mut app, 1);
    app.on_news(&News::Front("Berth 6".into(), 0, Duration::from_secs(70)));
    assert_eq!(names(&app)[0], "Berth 6");
    assert!(has(&draw(&app, ColourDepth::True), "tour round 1/2"), "the tour goes on");
    later(&mut app, 21);
    assert_eq!(names(&app).iter().filter(|name| **name == "Berth 6").count(), 1, "{:?}", names(&app));
    later(&mut app, 21);
    assert_eq!(names(&app)[0], "Berth 6", "round, and still there");
    later(&mut app, 30);
    later(&mut app, 21);
    assert!(names(&app)[0] == "Slipway north" || names(&app)[0] == "Berth 4", "its time is over: {:?}", names(&app));
}

#[test]
fn a_camera_that_is_called_stands_in_its_tile_for_a_while_and_is_given_back() {
    let mut app = two_fours();
    let before: Vec<String> = names(&app).into_iter().map(str::to_owned).collect();
    let call = |app: &mut App, name: &str| app.on_news(&News::Front(name.into(), 1, Duration::from_secs(20)));
    call(&mut app, "Berth 6");
    assert_eq!(names(&app)[1], "Berth 6");
    let screen = draw(&app, ColourDepth::True);
    assert!(has(&screen, &format!("in place of {}", before[1])), "the tile says so");
    // Called again, it stays longer; one that is on the page stays where it is.
    later(&mut app, 15);
    call(&mut app, "Berth 6");
    call(&mut app, &before[0]);
    later(&mut app, 15);
    app.goes_on();
    assert_eq!((names(&app)[1], names(&app)[0]), ("Berth 6", before[0].as_str()));
    later(&mut app, 10);
    app.goes_on();
    assert_eq!(names(&app), before);
    // By the key at once.
    call(&mut app, "Berth 7");
    assert_eq!(names(&app)[1], "Berth 7");
    press(&mut app, KeyCode::Char('y'));
    app.settle();
    assert_eq!(names(&app), before);
}
