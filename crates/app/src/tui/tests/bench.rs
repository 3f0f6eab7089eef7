//! Streams side by side.

use super::*;
use lattice_core::playout::{ArrivalSpread, Playout};

/// Figures of a stream whose path takes so long at least, and whose total is that and the buffer.
fn on_path(app: &App, key: FeedKey, path: u64) -> Arc<Figures> {
    let ms = Duration::from_millis;
    let same = |span| Spread { p50: span, p95: span };
    let total = match app.playout(key) {
        None | Some(Playout::AtOnce) => ms(path),
        Some(Playout::Buffered(buffer)) => ms(path) + buffer,
        Some(Playout::Aligned { delay, .. }) => delay,
    };
    let latency = Latency { total: same(total + ms(path / 50)), draw: Some(same(ms(path / 50))), ..steady().latency.unwrap() };
    let arrival = Some(ArrivalSpread { p99: Some(ms(path / 2)), least_path: Some(ms(path)) });
    Arc::new(Figures { latency: Some(latency), arrival, arrived: Some(12.5), ..steady() })
}

/// Time passes; the n-th stream on the bench has a path of `paths[n]` ms.
fn passes(app: &mut App, seconds: u64, paths: &[u64]) {
    for _ in 0..seconds {
        app.now = app.now + Duration::from_secs(1);
        let bench = bench(app).streams.clone();
        let path = |key: &FeedKey| bench.iter().position(|one| one == key).and_then(|at| paths.get(at)).copied().unwrap_or(10);
        let figures = app.open_streams().map(|key| (key, on_path(app, key, path(&key)))).collect();
        let pictures = app.open_streams().map(|key| (key, picture(1))).collect();
        app.on_figures(figures, pictures);
    }
}

fn type_text(app: &mut App, text: &str) {
    text.chars().for_each(|letter| drop(press(app, KeyCode::Char(letter))));
}

#[test]
fn main_and_sub_and_both_transports_stand_side_by_side_on_common_axes() {
    let mut app = wall(4, 160, 50);
    let opened = press(&mut app, KeyCode::Char('B'));
    let main = FeedKey::new(CameraId(0), Role::Main);
    assert_eq!(opened, [Effect::Open(main)], "its sub is open already");
    assert_eq!(bench(&app).streams, [main, FeedKey::new(CameraId(0), Role::Sub)]);
    passes(&mut app, 30, &[100, 20]);
    let screen = draw(&app, ColourDepth::Mono);
    for told in [
        "a Slipway north main",
        "b Slipway north sub",
        "latency ms  a 1602  b 1520",
        "arrived /s  a 12.5  b 12.5",
        "loss %",
        "bitrate kbit/s",
        "buffer 1500 ms (internet)  arrival p99 50 ms  p sets 60 ms",
        "not aligned",
    ] {
        assert!(has(&screen, told), "{told}: {screen:#?}");
    }
    // The sub by UDP and by TCP: each a connection of its own.
    press(&mut app, KeyCode::Right);
    let opened = press(&mut app, KeyCode::Char('t'));
    let by = |by| FeedKey { by: Some(by), ..FeedKey::new(CameraId(0), Role::Sub) };
    assert_eq!(opened, [Effect::Open(by(Transport::Udp)), Effect::Open(by(Transport::Tcp))]);
    passes(&mut app, 2, &[100, 20, 30]);
    assert!(has(&draw(&app, ColourDepth::True), "c Slipway north sub by TCP"));
    // Another camera by typing; a fifth is refused; taking one off makes room.
    press(&mut app, KeyCode::Char('a'));
    type_text(&mut app, "fuelsub");
    press(&mut app, KeyCode::Enter);
    assert_eq!(bench(&app).streams.last(), Some(&FeedKey::new(CameraId(3), Role::Sub)));
    press(&mut app, KeyCode::Char('a'));
    type_text(&mut app, "lockmain");
    press(&mut app, KeyCode::Enter);
    assert!(bench(&app).streams.len() == 4 && app.foot_line().unwrap().0.contains("takes four"));
    press(&mut app, KeyCode::Char('x'));
    assert_eq!(bench(&app).streams.len(), 3);
    for (width, height) in [(60, 16), (80, 24), (300, 90), (500, 200)] {
        app.area = Rect::new(0, 0, width, height);
        let screen = draw(&app, ColourDepth::Palette);
        assert!(has(&screen, "a Slip") && has(&screen, "latency ms"), "{screen:#?}");
    }
    app.area = Rect::new(0, 0, 1, 1);
    draw(&app, ColourDepth::Palette);
    press(&mut app, KeyCode::Down);
    app.area = Rect::new(0, 0, 60, 16);
    assert!(!has(&draw(&app, ColourDepth::Palette), "latency ms"), "the next chart takes the only place");
    // Back on the wall what is not needed any more is closed after a while.
    press(&mut app, KeyCode::Esc);
    assert_eq!(app.page_name(), WALL);
    assert_eq!(app.playout(FeedKey::new(CameraId(0), Role::Sub)), None);
    app.now = app.now + Duration::from_secs(1);
    let mut closed = Vec::new();
    for _ in 0..12 {
        app.now = app.now + Duration::from_secs(1);
        closed.extend(app.on_figures((*app.figures).clone(), app.pictures.clone()));
    }
    assert!(closed.contains(&Effect::Close(by(Transport::Tcp))) && closed.contains(&Effect::Close(main)), "{closed:?}");
}

#[test]
fn buffers_are_set_proposed_and_kept_and_a_group_waits_for_its_slowest() {
    let mut app = wall(4, 160, 50);
    press(&mut app, KeyCode::Char('B'));
    let (main, sub) = (FeedKey::new(CameraId(0), Role::Main), FeedKey::new(CameraId(0), Role::Sub));
    passes(&mut app, 2, &[400, 20]);
    assert_eq!(app.playout(main), Some(Playout::Buffered(Duration::from_millis(1500))), "across the internet");
    press(&mut app, KeyCode::Char('p'));
    press(&mut app, KeyCode::Char('+'));
    assert_eq!(app.playout(main), Some(Playout::Buffered(Duration::from_millis(230))));
    press(&mut app, KeyCode::Char('-'));
    press(&mut app, KeyCode::Char('-'));
    assert!(has(&draw(&app, ColourDepth::Mono), "buffer 190 ms (set)  too short: arrival p99 200 ms  p sets 210 ms"));
    // Aligned: both at 400 + 190 ms after capture, up to a step of 10 ms.
    press(&mut app, KeyCode::Right);
    for _ in 0..100 {
        press(&mut app, KeyCode::Char('-'));
    }
    assert_eq!(app.playout(sub), Some(Playout::Buffered(Duration::ZERO)), "no less than nothing");
    press(&mut app, KeyCode::Char('A'));
    passes(&mut app, 1, &[400, 20]);
    let delay = Duration::from_millis(590);
    assert_eq!(app.playout(sub), Some(Playout::Aligned { delay, buffer: Duration::ZERO }));
    passes(&mut app, 2, &[400, 20]);
    let apart = bench(&app).apart(&app).unwrap();
    assert_eq!(
        (apart.offset, apart.error, apart.frame),
        (Duration::from_millis(8), Duration::from_millis(2), Some(Duration::from_millis(80)))
    );
    assert!(has(&draw(&app, ColourDepth::Mono), "aligned at 590 ms after capture  apart by 8 ms ±2 ms, a frame is 80 ms"));
    // A stream without a clock is told, not aligned.
    let mut figures = (*app.figures).clone();
    let without = Figures { latency: None, arrival: Some(ArrivalSpread { p99: None, least_path: None }), ..steady() };
    figures.insert(sub, Arc::new(without));
    app.on_figures(figures, app.pictures.clone());
    assert_eq!(bench(&app).apart(&app), None);
    // With a site each is kept in it.
    app.available = true;
    let stream = |role, path: &str| lattice_store::Stream {
        role,
        target: lattice_core::target::understand(&format!("rtsp://192.0.2.0/{path}")).unwrap().target,
        interval: None,
        buffer: None,
    };
    Arc::make_mut(&mut app.site).cameras = vec![lattice_store::Camera {
        name: "Slipway north".into(),
        streams: vec![stream(Role::Main, "main"), stream(Role::Sub, "sub")],
        ..lattice_store::Camera::default()
    }];
    Arc::make_mut(&mut app.site).cameras[0].streams[1].buffer = Some(Duration::ZERO);
    let kept = press(&mut app, KeyCode::Char('+'));
    let twenty = Some(Duration::from_millis(20));
    assert!(kept.contains(&Effect::Tell(Command::Buffer(sub, twenty))), "{kept:?}");
    Arc::make_mut(&mut app.site).cameras[0].streams[1].buffer = twenty;
    press(&mut app, KeyCode::Esc);
    let on_the_wall = |app: &App| lattice_engine::own_buffer(&app.site, &app.cameras, &app.buffers, sub);
    assert_eq!((app.playout(sub), on_the_wall(&app)), (None, twenty), "what the operator set holds on the wall too");
    press(&mut app, KeyCode::Char('B'));
    press(&mut app, KeyCode::Right);
    let default = press(&mut app, KeyCode::Char('P'));
    assert_eq!(default, [Effect::Tell(Command::Buffer(sub, None))]);
    Arc::make_mut(&mut app.site).cameras[0].streams[1].buffer = None;
    press(&mut app, KeyCode::Esc);
    assert_eq!((app.playout(sub), on_the_wall(&app)), (None, None));
}
