//! Every page and what stands in front, as it was: buffers at two sizes held to kept ones. `NEW_GOLDEN=1 cargo test -p amber-lattice
//! --bins golden` writes them anew; look at what changed before it is committed.

use super::*;
use crate::tui::page::WELCOME;
use lattice_core::motion::{CELLS, COLUMNS, Outline, Shape, Stage, Way};
use lattice_core::onvif::{ImagingChoice, ImagingItem, ImagingValue, Scale};
use lattice_core::sound::{Aligned, Level, Noticed, SoundReading, SoundState};
use lattice_engine::jobs::DeviceNews;
use lattice_engine::{ALWAYS, HeardOf, Hearing, MotionState, News, ShapeState};
use lattice_net::Imaging;
use std::fmt::Write as _;

/// What is shown, and the keys that lead there from the wall.
const SHOWN: [(&str, &str); 24] = [
    ("wall", ""),
    ("enlarged", "enter"),
    ("trouble", "!"),
    ("plan", "o"),
    ("layouts", "v"),
    ("everything", "/"),
    ("help", "?"),
    ("roster", "c"),
    ("find", "c f"),
    ("add", "a"),
    ("check", "i"),
    ("clocks", "c C"),
    ("field", "A"),
    ("bench", "B"),
    ("ledger", "G"),
    ("stream", "J"),
    ("sound", "' down"),
    ("flash", "P"),
    ("steer", "H"),
    ("adjust", "Y right"),
    ("lens", "; p p"),
    ("imaging", "%"),
    ("motion", "# space right space"),
    ("zoomed", "enter I I I"),
];

/// Sound of two channels at this level; below the least one it is silent.
fn heard(rms: f32, peak: f32) -> SoundReading {
    let level = Level { peak, rms };
    SoundReading {
        state: SoundState::On,
        coding: Some("L16".into()),
        rate_hz: Some(16_000),
        channels: Some(2),
        levels: vec![level, Level { peak: peak - 6.0, rms: rms - 6.0 }],
        offset_micros: Some(129_000),
        recent_loss: Some(0.0),
        noticed: Noticed { silent: (rms < -100.0).then_some(Mono::ZERO), ..Noticed::default() },
        ..SoundReading::default()
    }
}

/// An area and a line in the picture of the first camera; water moves in the area.
fn watch(app: &mut App) {
    let area = Outline::Area(vec![(0.1, 0.5), (0.4, 0.5), (0.4, 0.9), (0.1, 0.9)]);
    let line = Outline::Line(vec![(0.7, 0.9), (0.7, 0.3)], Way::ToTheRight);
    let shapes = [("basin", area, 0.1), ("kerb", line, 0.0)];
    let camera = &mut Arc::make_mut(&mut app.site).cameras[0];
    camera.watch = shapes.map(|(name, outline, least)| Shape { name: name.into(), outline, least }).to_vec();
    let key = app.tiles[0].key();
    let state = |name: &str, blind, seen| {
        let last = (seen > 0).then(|| Mono::from_millis(88_000));
        ShapeState { name: name.into(), blind, seen, last }
    };
    let shapes = vec![state("basin", 0.25, 0), state("kerb", 0.0, 3)];
    let state = MotionState { stage: Some(Stage::Watching), by: Some(key), shapes };
    Arc::make_mut(&mut app.known).motion = [(camera.name.clone(), state)].into();
    let activity = (0..CELLS).map(|cell| match (cell % COLUMNS, cell / COLUMNS) {
        (8..16, 24..40) => ALWAYS,
        (60..64, 20..36) => 200,
        _ => 0,
    });
    app.activity = [(key, activity.collect())].into();
}

/// A port of eight, of which one is lost, one strained and one dark.
fn port(width: u16, height: u16) -> App {
    let mut app = wall(8, width, height);
    app.available = true;
    app.utc = Wall::from_unix_micros(1_795_500_000_000_000);
    let names: Vec<String> = app.cameras_there().map(str::to_owned).collect();
    let camera = |name: &String| lattice_store::Camera {
        name: name.clone(),
        group: Some(if name.starts_with("Berth") { "Berths" } else { "Harbour" }.into()),
        address: Some("192.0.2.9".into()),
        ..Default::default()
    };
    Arc::make_mut(&mut app.site).cameras = names.iter().map(camera).collect();
    watch(&mut app);
    app.on_site();
    app.settle();
    let figures = app.cameras.iter().map(|(id, _)| {
        let figures = match id.0 {
            1 => Figures { verdict: Verdict::Lost, cause: Some(Cause::Unreachable), ..steady() },
            2 => Figures { verdict: Verdict::Strained, cause: Some(Cause::PacketLoss), recent_loss: Some(0.031), ..steady() },
            5 => Figures { verdict: Verdict::Strained, cause: Some(Cause::DarkPicture), ..steady() },
            3 => Figures { sound: heard(-23.0, -9.0), ..steady() },
            4 => Figures { sound: heard(-120.0, -120.0), ..steady() },
            6 => Figures { sound: SoundReading { state: SoundState::Off, ..SoundReading::default() }, ..steady() },
            _ => steady(),
        };
        (FeedKey::new(id, Role::Sub), Arc::new(figures))
    });
    let figures = figures.collect();
    let pictures = app.pictures.clone();
    app.on_figures(figures, pictures);
    app
}

/// The camera with a voice is listened to.
fn listen(app: &mut App) {
    let key = FeedKey::new(lattice_engine::CameraId(3), Role::Sub);
    let of = HeardOf { stream: Some(key), aligned: Aligned::WithPicture };
    app.hearing = Arc::new(Hearing {
        possible: true,
        speaker: Some("output".into()),
        cameras: [(key.camera, of)].into(),
        volume: -6,
        ..Hearing::default()
    });
}

/// The camera's imaging service answers; something was changed and is not set yet.
fn answer(app: &mut App) {
    let number = |item, value: f64, least: f64, most: f64| {
        (item, ImagingValue::Number(value), ImagingChoice::Range(Scale { least, most }))
    };
    let word = |item, value: &str, words: &[&str]| {
        let words = words.iter().map(|word| (*word).to_owned()).collect();
        (item, ImagingValue::Word(value.into()), ImagingChoice::Words(words))
    };
    let told = [
        number(ImagingItem::Brightness, 50.0, 0.0, 100.0),
        number(ImagingItem::Contrast, 62.0, 0.0, 100.0),
        word(ImagingItem::ExposureMode, "AUTO", &["AUTO", "MANUAL"]),
        number(ImagingItem::ExposureTime, 20_000.0, 100.0, 40_000.0),
        word(ImagingItem::IrCut, "ON", &["ON", "OFF", "AUTO"]),
        number(ImagingItem::WideRangeLevel, 7.5, 0.0, 10.0),
    ];
    let settings = told.iter().map(|(item, value, _)| (*item, value.clone())).collect();
    let options = told.iter().map(|(item, _, choice)| (*item, choice.clone())).collect();
    let service = "http://192.0.2.9/imaging".parse().unwrap();
    let imaging = Imaging::new(service, "source".into(), settings, options);
    let name = app.cameras.name(app.tiles[0].camera).to_owned();
    app.on_news(&News::Device(name, DeviceNews::Imaging(Ok(Some(Box::new(imaging))))));
    keyed(app, "right");
}

fn keyed(app: &mut App, keys: &str) {
    for key in keys.split_whitespace() {
        let code = match key {
            "enter" => KeyCode::Enter,
            "right" => KeyCode::Right,
            letter => KeyCode::Char(letter.chars().next().unwrap()),
        };
        press(app, code);
    }
    app.settle();
}

/// Times of day are those of whoever reads them: their digits are masked.
fn masked(line: &str) -> String {
    let letters: Vec<char> = line.chars().collect();
    let digit = |at: usize| letters.get(at).is_some_and(char::is_ascii_digit);
    let part_of_time = |at: usize| {
        let around = |begin: usize| digit(begin) && digit(begin + 1) && letters.get(begin + 2) == Some(&':') && digit(begin + 3);
        (at.saturating_sub(7)..=at).any(|begin| around(begin) && (begin..begin + 8).contains(&at) && digit(at))
    };
    letters.iter().enumerate().map(|(at, letter)| if part_of_time(at) { '0' } else { *letter }).collect()
}

#[test]
fn every_page_is_as_it_was_in_a_small_and_in_a_large_terminal() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src/tui/tests/golden");
    let (mut changed, mut seen) = (Vec::new(), std::collections::BTreeSet::new());
    for (width, height) in [(80, 24), (200, 60)] {
        let mut all = String::new();
        for (name, keys) in SHOWN {
            let mut app = port(width, height);
            keyed(&mut app, keys);
            match name {
                "sound" => listen(&mut app),
                "imaging" => answer(&mut app),
                _ => {}
            }
            seen.insert(app.page_name());
            let screen = draw(&app, ColourDepth::Mono);
            assert!(screen.iter().any(|line| !line.is_empty()), "{name}");
            let _ = writeln!(all, "== {name}");
            for line in &screen {
                let _ = writeln!(all, "{}", masked(line));
            }
        }
        let path = folder.join(format!("{width}x{height}.txt"));
        if std::env::var_os("NEW_GOLDEN").is_some() {
            std::fs::create_dir_all(&folder).unwrap();
            std::fs::write(&path, &all).unwrap();
        }
        let kept = std::fs::read_to_string(&path).unwrap_or_default();
        let mut page = "";
        for (is, was) in all.lines().zip(kept.lines().chain(std::iter::repeat("(nothing)"))) {
            page = is.strip_prefix("== ").unwrap_or(page);
            if is != was {
                changed.push(format!("{width}x{height} {page}:\n  was {was}\n  is  {is}"));
            }
        }
    }
    assert!(
        changed.is_empty(),
        "{} lines changed; NEW_GOLDEN=1 keeps them:\n{}",
        changed.len(),
        changed[..changed.len().min(6)].join("\n")
    );
    // The others have no sample: a device that answers, a port that is listened on, the first start.
    let others = ["Device", "Listening ports", WELCOME];
    for table in port(80, 24).pages.tables {
        assert!(seen.contains(table.name) != others.contains(&table.name), "{} has no kept screen", table.name);
    }
}
