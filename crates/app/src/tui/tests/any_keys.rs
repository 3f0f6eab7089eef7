//! Whatever is pressed, in whatever order, and whatever devices say: nothing panics, nothing steers the terminal, streams are
//! opened and closed in pairs, each tile's stream is open, and what was done to a lattice can be undone.

use super::*;
use lattice_core::lattice::{Lattice, Placed};
use lattice_core::layout::Layout;
use lattice_store::site::{Stop, Tour};
use proptest::prelude::*;
use ratatui::crossterm::event::{MouseButton, MouseEventKind};
use std::collections::HashSet;

/// What an operator does.
#[derive(Debug, Clone)]
enum Deed {
    Key(KeyCode, KeyModifiers),
    Text(String),
    Paste(String),
    Mouse(MouseEventKind, u16, u16),
    Resize(u16, u16),
    /// Seconds go by, in which every open stream is in this state.
    Time(u64, Verdict),
}

fn keys() -> Vec<(KeyCode, KeyModifiers)> {
    let (pages, fronts) = pages::all();
    let own = pages.iter().flat_map(|page| page.keys().into_iter().chain(page.ways().into_iter().map(|(_, key)| key)));
    let of_fronts = fronts.into_iter().flat_map(|(_, keys)| keys);
    let of_table = own.chain(of_fronts).flat_map(|key| key.keys.split(' '));
    let mut keys: Vec<_> = of_table
        .filter(|key| key.chars().count() == 1)
        .filter_map(|key| key.chars().next())
        // Leaving ends the sequence.
        .filter(|key| *key != 'q')
        .map(|key| (KeyCode::Char(key), KeyModifiers::NONE))
        .collect();
    keys.sort_unstable_by_key(|(code, _)| format!("{code:?}"));
    keys.dedup();
    assert!(keys.len() > 60, "the table has the keys of every page: {}", keys.len());
    let plain = [
        KeyCode::Enter,
        KeyCode::Esc,
        KeyCode::Tab,
        KeyCode::BackTab,
        KeyCode::Up,
        KeyCode::Down,
        KeyCode::Left,
        KeyCode::Right,
        KeyCode::PageUp,
        KeyCode::PageDown,
        KeyCode::Home,
        KeyCode::End,
        KeyCode::Backspace,
        KeyCode::Delete,
        KeyCode::F(1),
    ];
    // Those that move and take are pressed more often than each letter.
    keys.extend(plain.iter().cycle().take(plain.len() * 3).map(|code| (*code, KeyModifiers::NONE)));
    keys.extend(['u', 'w', 'a'].map(|key| (KeyCode::Char(key), KeyModifiers::CONTROL)));
    keys
}

fn deed() -> impl Strategy<Value = Deed> {
    let verdict = prop_oneof![
        4 => Just(Verdict::Steady),
        1 => Just(Verdict::Strained),
        1 => Just(Verdict::Stalled),
        1 => Just(Verdict::Lost),
        1 => Just(Verdict::Locked),
        1 => Just(Verdict::Waiting),
    ];
    let button = prop_oneof![Just(MouseButton::Left), Just(MouseButton::Right), Just(MouseButton::Middle)];
    let mouse = prop_oneof![
        button.clone().prop_map(MouseEventKind::Down),
        button.clone().prop_map(MouseEventKind::Up),
        button.prop_map(MouseEventKind::Drag),
        Just(MouseEventKind::ScrollUp),
        Just(MouseEventKind::ScrollDown),
        Just(MouseEventKind::Moved),
    ];
    prop_oneof![
        24 => prop::sample::select(keys()).prop_map(|(code, modifiers)| Deed::Key(code, modifiers)),
        2 => "[ -~äß…\u{202e}]{0,12}".prop_map(Deed::Text),
        1 => "\\PC{0,40}".prop_map(Deed::Paste),
        6 => (mouse, 0u16..200, 0u16..70).prop_map(|(kind, column, row)| Deed::Mouse(kind, column, row)),
        1 => (0u16..220, 0u16..70).prop_map(|(width, height)| Deed::Resize(width, height)),
        4 => (0u64..30, verdict).prop_map(|(seconds, verdict)| Deed::Time(seconds, verdict)),
    ]
}

/// Nine cameras, two lattices, and a tour of both that brings trouble to the front.
fn port() -> App {
    let mut app = wall(9, 160, 50);
    app.available = true;
    let camera = |def: &CameraDef| lattice_store::Camera { name: def.name.clone(), ..lattice_store::Camera::default() };
    Arc::make_mut(&mut app.site).cameras = app.cameras.iter().map(|(_, def)| camera(def)).collect();
    let lattice = |name: &str, layout: Layout, names: &[&str]| {
        let mut lattice = Lattice::new(name, layout);
        lattice.fill(0, names.iter().copied());
        lattice
    };
    Arc::make_mut(&mut app.site).lattices = vec![
        lattice("day", Layout::from_word("1+5").unwrap(), &NAMES),
        lattice("night", Layout::even(4), &["Berth 4", "Berth 5", "Berth 6", "Berth 7", "Berth 8", "Not there"]),
    ];
    let stop = |lattice: &str| Stop { lattice: lattice.into(), page: None, dwell: Duration::from_secs(10) };
    Arc::make_mut(&mut app.site).tours =
        vec![Tour { name: "round".into(), stops: vec![stop("day"), stop("night")], trouble_first: true }];
    app
}

fn figures_in(verdict: Verdict, now: Mono) -> Arc<Figures> {
    let cause = match verdict {
        Verdict::Steady | Verdict::Waiting => None,
        Verdict::Strained => Some(Cause::PacketLoss),
        Verdict::Stalled => Some(Cause::Silence),
        Verdict::Locked => Some(Cause::SignIn),
        _ => Some(Cause::PortClosed),
    };
    // What a device says of itself may be anything.
    let text = cause.map(|_| "\u{1b}]0;it\u{7} said \u{202e}\u{9b}31m: no\r\n".into());
    Arc::new(Figures { at: now, verdict, cause, text, ..steady() })
}

/// The wall, beside the streams that it has ordered to be open.
struct Model {
    app: App,
    open: HashSet<FeedKey>,
}

impl Model {
    fn carry_out(&mut self, effects: &[Effect]) -> Result<(), TestCaseError> {
        for effect in effects {
            match effect {
                Effect::Open(key) => prop_assert!(self.open.insert(*key), "{key:?} is opened a second time"),
                Effect::Close(key) => prop_assert!(self.open.remove(key), "{key:?} is closed and was not open"),
                _ => {}
            }
        }
        Ok(())
    }

    fn act(&mut self, deed: &Deed) -> Result<(), TestCaseError> {
        let app = &mut self.app;
        app.now = app.now + Duration::from_millis(50);
        let mut effects = Vec::new();
        match deed {
            Deed::Key(code, modifiers) => {
                effects = app.on_key(KeyEvent::new(*code, *modifiers));
                effects = app.told(effects);
            }
            Deed::Text(text) => {
                for key in text.chars() {
                    effects.extend(press(app, KeyCode::Char(key)));
                }
            }
            Deed::Paste(text) => {
                effects = app.on_paste(text);
                effects = app.told(effects);
            }
            Deed::Mouse(kind, column, row) => {
                let event = MouseEvent { kind: *kind, column: *column, row: *row, modifiers: KeyModifiers::NONE };
                effects = app.on_mouse(event);
                effects = app.told(effects);
            }
            Deed::Resize(width, height) => {
                app.area = Rect::new(0, 0, *width, *height);
                effects = app.settle();
            }
            Deed::Time(seconds, verdict) => {
                app.now = app.now + Duration::from_secs(*seconds);
                let now = app.now;
                let figures: HashMap<_, _> = self.open.iter().map(|key| (*key, figures_in(*verdict, now))).collect();
                let pictures = match verdict {
                    Verdict::Steady | Verdict::Strained => self.open.iter().map(|key| (*key, picture(1))).collect(),
                    _ => app.pictures.clone(),
                };
                effects = app.on_figures(figures, pictures);
            }
        }
        self.carry_out(&effects)?;
        // What is on the wall is open, and what the wall believes to be open is what it ordered.
        let believed: HashSet<FeedKey> = self.app.open_streams().collect();
        prop_assert_eq!(&believed, &self.open, "after {:?}", deed);
        for line in draw(&self.app, ColourDepth::True) {
            let steers = |c: char| c.is_control() || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
            prop_assert!(!line.chars().any(steers), "what would steer the terminal is shown: {:?}", line);
        }
        Ok(())
    }
}

fn placed(lattice: &Lattice) -> (Vec<Option<Placed>>, Layout) {
    (lattice.tiles().to_vec(), lattice.layout().clone())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]

    #[test]
    fn streams_are_opened_and_closed_in_pairs_whatever_is_pressed(deeds in prop::collection::vec(deed(), 1..80)) {
        let mut app = port();
        let open: HashSet<FeedKey> = app.open_streams().collect();
        app.on_site();
        let effects = app.settle();
        let mut model = Model { app, open };
        model.carry_out(&effects)?;
        for deed in &deeds {
            model.act(deed)?;
        }
        // Back on the wall with all well, each tile that is shown has its stream.
        for _ in 0..6 {
            model.act(&Deed::Key(KeyCode::Esc, KeyModifiers::NONE))?;
        }
        model.app.area = Rect::new(0, 0, 160, 50);
        for _ in 0..3 {
            model.act(&Deed::Time(15, Verdict::Steady))?;
        }
        for tile in model.app.tiles.iter().filter(|tile| tile.short.is_none()) {
            prop_assert!(model.open.contains(&tile.key()), "{:?} is shown and not open", tile);
        }
    }

    #[test]
    fn what_is_done_to_a_lattice_is_undone_step_by_step(
        deeds in prop::collection::vec(prop::sample::select("xXgvV\u{8}npPzZ\r\t<>".chars().collect::<Vec<_>>()), 1..30),
        moves in prop::collection::vec(0usize..4, 30),
    ) {
        let mut app = port();
        app.on_site();
        app.show_lattice(Some("day"));
        app.settle();
        let before = placed(app.lattices.shown());
        for (key, towards) in deeds.iter().zip(moves) {
            let towards = [KeyCode::Left, KeyCode::Right, KeyCode::Up, KeyCode::Down][towards];
            press(&mut app, towards);
            match key {
                '\u{8}' => drop(press(&mut app, KeyCode::Backspace)),
                '\r' => drop(press(&mut app, KeyCode::Enter)),
                '\t' => drop(press(&mut app, KeyCode::Tab)),
                key => drop(press(&mut app, KeyCode::Char(*key))),
            }
        }
        for _ in 0..4 {
            press(&mut app, KeyCode::Esc);
        }
        prop_assert_eq!(app.page_name(), WALL);
        let after = placed(app.lattices.shown());
        for _ in 0..80 {
            press(&mut app, KeyCode::Char('u'));
        }
        prop_assert_eq!(placed(app.lattices.shown()), before);
        for _ in 0..80 {
            press(&mut app, KeyCode::Char('U'));
        }
        prop_assert_eq!(placed(app.lattices.shown()), after);
    }
}
