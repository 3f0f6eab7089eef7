//! One stream on the whole screen.

use super::*;
use lattice_core::event::{Confidence, Event, EventKind};

#[test]
fn a_stream_shows_what_it_declares_against_what_it_does_and_is_read_at_any_moment() {
    let mut app = wall(4, 160, 50);
    let key = FeedKey::new(CameraId(0), Role::Sub);
    press(&mut app, KeyCode::Char('J'));
    let event = Event {
        number: 0,
        kind: EventKind::Strained,
        start: Mono::from_millis(130_000),
        end: None,
        cause: Some(Cause::CameraSlowed),
        evidence: "sent 5.0/s of 12.5/s declared".into(),
        confidence: Confidence::High,
    };
    // Half a minute as declared, half a minute slowed.
    for second in 1..=60u64 {
        app.now = Mono::from_millis(100_000 + second * 1000);
        let sent = if second > 30 { 5.0 } else { 12.5 };
        let events: Arc<[Event]> = if second > 30 { [event.clone()].into() } else { [].into() };
        let slow = Figures { sent: Some(sent), arrived: Some(sent), shown: Some(sent), events, ..steady() };
        let figures =
            app.open_streams().map(|open| (open, Arc::new(if open == key { slow.clone() } else { steady() }))).collect();
        app.on_figures(figures, HashMap::from([(key, picture(second))]));
    }
    let screen = draw(&app, ColourDepth::Mono);
    for told in [
        "• Slipway north sub",
        "declared   12.5 /s",
        "sent       5.0 /s  the camera makes fewer",
        "rate /s, sent to drawn  s 5.0  a 5.0  d 5.0",
        "41/66 ms p50/p95, by its clock, to 1 ms",
        "the last 1 minute, newest values",
        "30 s ago  strained",
        "camera slowed down (high): sent 5.0/s of 12.5/s declared",
    ] {
        assert!(has(&screen, told), "{told}: {screen:#?}");
    }
    (0..40).for_each(|_| drop(press(&mut app, KeyCode::Left)));
    let back = draw(&app, ColourDepth::Mono);
    assert!(has(&back, "read 48 s ago") && has(&back, "s 12.5  a 12.5  d 12.5") && has(&back, "┊"), "{back:#?}");
    (0..60).for_each(|_| drop(press(&mut app, KeyCode::Right)));
    assert!(has(&draw(&app, ColourDepth::Mono), "newest values"));
    // Its camera's main: opened, and closed some time after going back.
    assert_eq!(press(&mut app, KeyCode::Char('m')), [Effect::Open(FeedKey::new(CameraId(0), Role::Main))]);
    assert!(view::watched(&app).iter().all(|watched| watched.key == FeedKey::new(CameraId(0), Role::Main)));
    press(&mut app, KeyCode::Char('s'));
    assert!(has(&draw(&app, ColourDepth::True), "the last 10 minutes"));
    for (width, height) in [(60, 16), (80, 24), (500, 200), (1, 1)] {
        app.area = Rect::new(0, 0, width, height);
        draw(&app, ColourDepth::Palette);
    }
    app.area = Rect::new(0, 0, 80, 24);
    assert!(has(&draw(&app, ColourDepth::Mono), "rate /s"));
    press(&mut app, KeyCode::Up);
    assert!(has(&draw(&app, ColourDepth::Mono), "clock offset ms"), "the other charts are a key away");
    press(&mut app, KeyCode::Char('0'));
    assert!(has(&draw(&app, ColourDepth::Mono), "scales fitted"));
    press(&mut app, KeyCode::Esc);
    assert_eq!(app.page_name(), WALL);
}
