//! What helps the eyes; lattices in files; a camera dragged off the roster.

use super::*;
use crate::tui::theme::Tone;
use lattice_core::lattice::Lattice;
use lattice_core::layout::Layout;
use ratatui::crossterm::event::KeyModifiers;
use ratatui::style::Color;

fn buffer(app: &App, whole: Rect, theme: Theme) -> Buffer {
    let mut buf = Buffer::empty(whole);
    let mut painters: Vec<_> =
        (0..16).map(|tile| TilePainter::new(CellPainter::new(Paint::Auto, theme.depth, 0.5), tile)).collect();
    view::draw(app, theme, &mut painters, &mut buf);
    theme.dim(&mut buf);
    buf
}

#[test]
fn everything_is_drawn_the_same_a_cell_further() {
    let mut app = wall(6, 120, 40);
    app.aids.care = true;
    let terminal = Rect::new(0, 0, 120, 40);
    let at = |seconds: u64| app.aids.area(terminal, Mono::from_millis(seconds * 1000));
    let places: Vec<(u16, u16)> = (0..5).map(|n| at(240 * n)).map(|area| (area.x, area.y)).collect();
    assert_eq!(places, [(0, 0), (1, 0), (1, 1), (0, 1), (0, 0)]);
    assert!((0..2000).step_by(60).all(|seconds| at(seconds).union(terminal) == terminal), "never beyond the terminal");
    for keys in ["", "\n", "?", "v", "o", "/", ".", "V", "c", "B", ","] {
        keys.chars().for_each(|key| drop(press(&mut app, if key == '\n' { KeyCode::Enter } else { KeyCode::Char(key) })));
        let theme = Theme::new(ColourDepth::True);
        app.area = Rect::new(0, 0, 119, 39);
        let here = buffer(&app, terminal, theme);
        app.area = Rect::new(1, 1, 119, 39);
        let there = buffer(&app, terminal, theme);
        for (x, y) in Rect::new(0, 0, 119, 39).positions().map(|at| (at.x, at.y)) {
            assert_eq!(here[(x, y)].symbol(), there[(x + 1, y + 1)].symbol(), "{keys:?} at {x}, {y}");
        }
        app.area = Rect::new(0, 0, 119, 39);
        app.open(WALL);
        app.enlarged = false;
    }
}

#[test]
fn names_are_large_for_a_moment_the_screen_is_dimmed_and_the_ground_light() {
    let mut app = wall(4, 160, 50);
    press(&mut app, KeyCode::Char(','));
    let dark = Theme::new(ColourDepth::True);
    let blocks = |buf: &Buffer| {
        buf.content.iter().filter(|cell| cell.symbol() == "█" && cell.fg == dark.tone(Tone::Bright).fg.unwrap()).count()
    };
    assert!(blocks(&buffer(&app, app.area, dark)) > 100, "letters of blocks");
    app.now = app.now + Duration::from_secs(5);
    assert_eq!(blocks(&buffer(&app, app.area, dark)), 0);
    // In any size of tile.
    for (width, height) in [(60, 16), (61, 17), (300, 100)] {
        app.area = Rect::new(0, 0, width, height);
        press(&mut app, KeyCode::Char(','));
        buffer(&app, app.area, dark);
    }
    for depth in [ColourDepth::True, ColourDepth::Palette] {
        let full = buffer(&app, app.area, Theme::new(depth));
        let dim = buffer(&app, app.area, Theme { brightness: 30, ..Theme::new(depth) });
        let sum = |buf: &Buffer| -> u64 {
            let rgb = buf.content.iter().filter_map(|cell| lattice_term::rgb_of(cell.fg));
            rgb.map(|rgb| rgb.iter().map(|value| u64::from(*value)).sum::<u64>()).sum()
        };
        assert!(sum(&dim) * 2 < sum(&full), "{depth:?}: {} of {}", sum(&dim), sum(&full));
    }
    press(&mut app, KeyCode::Char('-'));
    press(&mut app, KeyCode::Char('-'));
    assert_eq!((app.aids.brightness, app.foot_line().unwrap().0.as_str()), (80, "brightness 80 %"));
    (0..20).for_each(|_| drop(press(&mut app, KeyCode::Char('-'))));
    assert_eq!(app.aids.brightness, 10, "never black");
    (0..20).for_each(|_| drop(press(&mut app, KeyCode::Char('+'))));
    press(&mut app, KeyCode::Char('T'));
    assert!(app.aids.light && app.aids.brightness == 100);
    for depth in [ColourDepth::True, ColourDepth::Palette, ColourDepth::Sixteen] {
        let light = Theme { light: true, ..Theme::new(depth) };
        let ground = buffer(&app, app.area, light)[(0, 0)].bg;
        assert!(lattice_term::rgb_of(ground).map_or(ground == Color::White, |rgb| rgb[2] > 200), "{ground:?}");
    }
}

#[test]
fn lattices_go_to_files_and_come_from_them_and_cameras_are_dragged_off_the_roster() {
    let mut app = wall(4, 160, 50);
    press(&mut app, KeyCode::Char('D'));
    assert!(!app.pages.has_front() && app.foot_line().unwrap().0.contains("no site"));
    app.available = true;
    let mut six = Lattice::new("night/six", Layout::even(4));
    six.fill(0, ["Slipway north", "Crane"]);
    app.take_lattices(vec![six.clone(), six]);
    assert_eq!(app.lattices.own().iter().map(|lattice| lattice.name.as_str()).collect::<Vec<_>>(), ["night/six", "night/six 2"]);
    assert_eq!(app.foot_line().unwrap().0, "night/six 2 was read: w saves it; not in this site: Crane");
    app.settle();
    press(&mut app, KeyCode::Char('D'));
    let written = press(&mut app, KeyCode::Enter);
    assert!(
        matches!(written.as_slice(), [Effect::Tell(Command::Errand(Errand::ExportLattice(lattice, path)))] if lattice.name == "night/six 2" && path == "night-six 2.toml"),
        "{written:?}"
    );
    press(&mut app, KeyCode::Char('F'));
    "a.toml".chars().for_each(|key| drop(press(&mut app, KeyCode::Char(key))));
    assert_eq!(press(&mut app, KeyCode::Enter), [Effect::Tell(Command::Errand(Errand::ImportLattices("a.toml".into())))]);
    // From a row of the roster onto an empty tile.
    Arc::make_mut(&mut app.site).cameras =
        NAMES.map(|name| lattice_store::Camera { name: name.into(), ..lattice_store::Camera::default() }).to_vec();
    press(&mut app, KeyCode::Char('c'));
    let row = draw(&app, ColourDepth::Mono).iter().position(|line| line.contains("Fuel quay")).unwrap() as u16;
    let mouse = |kind, column, row| MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE };
    app.on_mouse(mouse(MouseEventKind::Down(MouseButton::Left), 10, row));
    app.on_mouse(mouse(MouseEventKind::Up(MouseButton::Left), 10, row));
    assert_eq!(app.page_name(), "Roster", "a click is no drag");
    app.now = app.now + Duration::from_secs(2);
    app.on_mouse(mouse(MouseEventKind::Down(MouseButton::Left), 10, row));
    app.on_mouse(mouse(MouseEventKind::Drag(MouseButton::Left), 20, 30));
    assert_eq!(app.page_name(), WALL);
    let free = regions(&app).tiles[3].picture;
    app.on_mouse(mouse(MouseEventKind::Up(MouseButton::Left), free.x + 4, free.y + 4));
    assert_eq!(app.placed(3).map(|placed| placed.camera.as_str()), Some("Fuel quay"));
    press(&mut app, KeyCode::Char('u'));
    assert!(app.placed(3).is_none(), "undone like everything");
}
