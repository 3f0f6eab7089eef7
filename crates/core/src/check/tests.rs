use super::*;
use crate::clock::Offset;
use crate::meter::{Figures, Milestones};
use crate::verdict::SessionState;
use crate::{BitsPerSecond, FrameRate, Mono, Transport};

fn at(ms: u64) -> Mono {
    Mono::from_millis(ms)
}

/// A stream that did everything right, `frames` units by now.
fn good(now: u64, frames: u64) -> Figures {
    let milestones = Milestones {
        began: Some(at(0)),
        connected: Some(at(1)),
        spoke: Some(at(2)),
        sign_in_asked: None,
        signed_in: Some((at(4), true)),
        described: Some(at(5)),
        set_up: Some((at(6), Transport::Udp)),
        playing: Some(at(7)),
        first_packet: Some(at(20)),
        parameters: Some(at(21)),
        first_picture: Some(at(40)),
    };
    let mut figures = Figures {
        at: at(now),
        session: SessionState::Playing,
        milestones,
        codec: Some("H264".into()),
        size: Some((640, 360)),
        declared: FrameRate::new(10.0),
        sent: Some(10.0),
        arrived: Some(10.0),
        bitrate_1s: Some(BitsPerSecond(400_000.0)),
        ..Figures::default()
    };
    figures.frames.received = frames;
    figures.packets.received = frames * 3;
    figures
}

fn run(around: Circumstances, story: impl Fn(u64) -> Figures) -> Ladder {
    let mut ladder = Ladder::default();
    for _ in 0..4 {
        ladder.pass(Duration::from_millis(1), "seen");
    }
    let mut watch = StreamWatch::new(at(0), at(18_000), around);
    for now in (0..20_000).step_by(100) {
        if watch.observe(at(now), &story(now), &mut ladder) {
            return ladder.complete();
        }
    }
    panic!("the check does not end: {ladder:?}");
}

fn state_of(ladder: &Ladder, step: Step) -> (StepState, &str) {
    let report = ladder.steps().iter().find(|report| report.step == step).unwrap();
    (report.state, report.saw.as_str())
}

#[test]
fn a_good_stream_climbs_to_the_top() {
    let ladder = run(Circumstances::default(), |now| good(now, now / 100));
    assert!(ladder.ok() && ladder.cause().is_none(), "{ladder:?}");
    assert_eq!(ladder.steps().len(), 13);
    assert!(state_of(&ladder, Step::Steady).1.starts_with("10."), "{ladder:?}");
    assert_eq!(state_of(&ladder, Step::Clock).0, StepState::Skipped);
    assert_eq!(ladder.steps()[4].took, Some(Duration::from_millis(2)), "protocol from the start of the try");
}

#[test]
fn each_failure_stops_at_its_step_with_its_sentence() {
    let failed = |cause, spoke: bool, described: bool| {
        move |now: u64| {
            let mut figures = good(now, 0);
            let all = figures.milestones;
            figures.milestones = Milestones { began: all.began, connected: all.connected, ..Milestones::default() };
            figures.milestones.spoke = all.spoke.filter(|_| spoke);
            figures.milestones.described = all.described.filter(|_| described);
            figures.session = SessionState::Failed { cause, text: "so it said".into(), next_try: None };
            figures
        }
    };
    let plain = Circumstances::default();
    let given = Circumstances { sign_in_given: true, ..plain };
    let web = Circumstances { web_server: true, ..plain };
    for (around, cause, spoke, described, step, want) in [
        (web, Cause::NotRtsp, false, false, Step::Protocol, "web server"),
        (plain, Cause::NotRtsp, false, false, Step::Protocol, "Another service"),
        (plain, Cause::ClosedByCamera, false, false, Step::Protocol, "closes the connection at once"),
        (plain, Cause::SignIn, true, false, Step::SignIn, "give its user name"),
        (given, Cause::SignIn, true, false, Step::SignIn, "were refused"),
        (plain, Cause::NoSuchStream, true, false, Step::Path, "letter by letter"),
        (plain, Cause::ViewerLimit, true, true, Step::Transport, "no more viewers"),
    ] {
        let ladder = run(around, failed(cause, spoke, described));
        assert_eq!(ladder.cause(), Some(cause));
        assert_eq!(state_of(&ladder, step).0, StepState::Failed, "{ladder:?}");
        assert!(ladder.advice().unwrap().contains(want), "{ladder:?}");
        let after: Vec<_> = ladder.steps().iter().filter(|report| report.step > step).collect();
        assert!(after.iter().all(|report| report.state == StepState::Skipped && report.took.is_none()), "{after:?}");
    }
}

#[test]
fn silence_is_told_by_the_step_that_waits() {
    let hung = run(Circumstances::default(), |now| Figures {
        session: SessionState::Connecting,
        milestones: Milestones { began: Some(at(0)), connected: Some(at(1)), ..Milestones::default() },
        ..good(now, 0)
    });
    assert_eq!((state_of(&hung, Step::Protocol).0, hung.cause()), (StepState::Failed, Some(Cause::Silence)));
    assert!(hung.advice().unwrap().contains("hangs"));
    let nothing = run(Circumstances { udp_only: true, ..Circumstances::default() }, |now| {
        let mut figures = good(now, 0);
        figures.milestones.first_packet = None;
        figures
    });
    assert_eq!((state_of(&nothing, Step::FirstPacket).0, nothing.cause()), (StepState::Failed, Some(Cause::Silence)));
    assert!(nothing.advice().unwrap().contains("UDP is most likely blocked"));
}

#[test]
fn a_fallback_to_tcp_is_told() {
    let ladder = run(Circumstances::default(), |now| {
        let mut figures = good(now, now.saturating_sub(3_000) / 100);
        let shift = |ms: u64| Some(at(3_000 + ms));
        if now < 3_000 {
            (figures.milestones.first_packet, figures.milestones.parameters, figures.milestones.first_picture) =
                (None, None, None);
        } else {
            figures.milestones = Milestones {
                began: shift(0),
                spoke: shift(1),
                described: shift(2),
                set_up: Some((at(3_003), Transport::Tcp)),
                playing: shift(4),
                first_packet: shift(5),
                parameters: shift(6),
                first_picture: shift(7),
                ..Milestones::default()
            };
        }
        figures
    });
    let (state, saw) = state_of(&ladder, Step::Transport);
    assert!(ladder.ok() && state == StepState::Warn && saw.starts_with("tcp; udp brought no packet"), "{ladder:?}");
}

#[test]
fn a_stream_too_heavy_for_its_link_is_told_from_one_without_keyframes() {
    let no_picture = |declared: Option<f64>, received: u64| {
        move |now: u64| {
            let mut figures = good(now, received);
            figures.milestones.first_picture = None;
            figures.declared_bitrate = declared.map(BitsPerSecond);
            figures.arrived = if declared.is_some() { Some(2.0) } else { figures.arrived };
            figures
        }
    };
    let heavy = run(Circumstances::default(), no_picture(Some(4e6), 10));
    assert_eq!((state_of(&heavy, Step::FirstPicture).0, heavy.cause()), (StepState::Failed, Some(Cause::TooHeavy)));
    assert!(state_of(&heavy, Step::FirstPicture).1.contains("400 kbit/s arrive of 4000 declared"));
    assert!(heavy.advice().unwrap().contains("sub stream"));
    let waiting = run(Circumstances::default(), no_picture(None, 100));
    assert_eq!((state_of(&waiting, Step::FirstPicture).0, waiting.cause()), (StepState::Failed, Some(Cause::AwaitingKeyframe)));
}

#[test]
fn a_rate_that_is_not_held_is_told() {
    let slowed = run(Circumstances::default(), |now| Figures { sent: Some(6.0), ..good(now, now * 6 / 1000) });
    assert!(slowed.ok(), "it has a picture");
    assert_eq!((state_of(&slowed, Step::Steady).0, slowed.cause()), (StepState::Warn, Some(Cause::CameraSlowed)));
    let starved = run(Circumstances::default(), |now| Figures { arrived: Some(2.0), ..good(now, now * 2 / 1000) });
    assert_eq!((state_of(&starved, Step::Steady).0, starved.cause()), (StepState::Failed, Some(Cause::TooHeavy)));
    let off = Offset { micros: -423_000_000, error: Duration::from_secs(2), clock_wrong: true, times_pictures: false };
    let wrong = run(Circumstances::default(), |now| Figures { clock: Some(off), ..good(now, now / 100) });
    assert_eq!(state_of(&wrong, Step::Clock), (StepState::Warn, "7 min 3 s ahead ±2 s by its sender reports"));
    assert_eq!(wrong.cause(), Some(Cause::ClockWrong));
}

#[test]
fn what_was_answered_says_the_same_everywhere() {
    use crate::rtsp::FailureKind;
    // An answer, the step at which it comes, the cause, and a word of what to do.
    for (seen, step, word) in [
        (FailureKind::SignInNeeded, Step::SignIn, "wants a sign-in"),
        (FailureKind::SignInRefused, Step::SignIn, "were refused"),
        (FailureKind::Forbidden, Step::SignIn, "may not see"),
        (FailureKind::ViewerLimit, Step::Path, "no more viewers"),
        (FailureKind::NoVideo, Step::Path, "no video"),
        (FailureKind::NotAPicture, Step::Path, "not a picture"),
        (FailureKind::Redirects, Step::Path, "another address"),
        (FailureKind::DeviceFailed, Step::Path, "failure of its own"),
        (FailureKind::Refused, Step::Transport, "refuses to begin it"),
        (FailureKind::TransportRefused, Step::Transport, "UDP and TCP"),
    ] {
        let cause = seen.cause();
        let around =
            Circumstances { seen: Some(seen), sign_in_given: seen != FailureKind::SignInNeeded, ..Circumstances::default() };
        assert!(advice(step, cause, around).contains(word), "{seen:?}: {}", advice(step, cause, around));
        assert_eq!(advice(step, cause, around), advice_of(cause, Some(seen)), "on the wall as in a check");
        // The ladder stops at that step, with that cause.
        let failed = run(around, move |now| {
            let mut figures = good(now, 0);
            figures.seen = Some(seen);
            figures.milestones.described = figures.milestones.described.filter(|_| step > Step::Path);
            figures.milestones.sign_in_asked = figures.milestones.sign_in_asked.filter(|_| step == Step::SignIn);
            figures.milestones.signed_in = None;
            figures.milestones.set_up = None;
            figures.session = SessionState::Failed { cause, text: "so it said".into(), next_try: None };
            figures
        });
        assert_eq!((state_of(&failed, step).0, failed.cause()), (StepState::Failed, Some(cause)), "{seen:?}: {failed:?}");
        assert!(failed.advice().is_some_and(|advice| advice.contains(word)), "{seen:?}: {:?}", failed.advice());
    }
    assert_eq!(phrase_of(Cause::SignIn, Some(FailureKind::SignInRefused)), "sign-in refused");
    assert_eq!(phrase_of(Cause::PortClosed, Some(FailureKind::SignInRefused)), "port closed", "an answer to another try");
    for kind in FailureKind::ALL {
        assert!(!advice_of(kind.cause(), Some(kind)).is_empty());
    }
}
