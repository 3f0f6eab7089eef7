//! What happened to a stream: dropouts and every other departure from steady, each with its cause, the evidence for it in
//! one line, and how sure that is.

use crate::meter::{Dropout, DropoutKind, Figures};
use crate::verdict::{Evidence, Verdict};
use crate::{Cause, FrameRate, Mono};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

/// What kind of thing happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EventKind {
    /// No new picture for less than a second.
    Stutter,
    /// No new picture for a second or more while the session lived.
    Freeze,
    /// No session.
    Outage,
    /// It was opened and gave no picture.
    NoPicture,
    /// A sign-in was missing or refused, or a certificate not trusted.
    Locked,
    /// Pictures came, but not as they should.
    Strained,
    /// The picture has another size.
    SizeChanged,
    /// Another frame rate is declared.
    RateChanged,
}

impl EventKind {
    /// The word on the screen and for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Stutter => "stutter",
            Self::Freeze => "freeze",
            Self::Outage => "outage",
            Self::NoPicture => "no-picture",
            Self::Locked => "locked",
            Self::Strained => "strained",
            Self::SizeChanged => "size-changed",
            Self::RateChanged => "rate-changed",
        }
    }

    /// Every kind.
    pub const ALL: [Self; 8] = [
        Self::Stutter,
        Self::Freeze,
        Self::Outage,
        Self::NoPicture,
        Self::Locked,
        Self::Strained,
        Self::SizeChanged,
        Self::RateChanged,
    ];

    /// By its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// Whether it is worse than another.
    #[must_use]
    pub const fn is_worse_than(self, other: Self) -> bool {
        self.rank() > other.rank()
    }

    const fn rank(self) -> u8 {
        match self {
            Self::Outage | Self::NoPicture => 5,
            Self::Locked => 4,
            Self::Freeze => 3,
            Self::Stutter => 2,
            Self::Strained => 1,
            Self::SizeChanged | Self::RateChanged => 0,
        }
    }

    /// Pictures were missing while it lasted.
    #[must_use]
    pub const fn is_dropout(self) -> bool {
        matches!(self, Self::Stutter | Self::Freeze | Self::Outage | Self::NoPicture | Self::Locked)
    }
}

impl From<DropoutKind> for EventKind {
    fn from(kind: DropoutKind) -> Self {
        match kind {
            DropoutKind::Stutter => Self::Stutter,
            DropoutKind::Freeze => Self::Freeze,
            DropoutKind::Outage => Self::Outage,
        }
    }
}

/// How sure a cause is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Confidence {
    /// Other causes would look the same.
    Guess,
    /// Others are possible, but less so.
    Likely,
    /// The evidence allows no other.
    High,
}

impl Confidence {
    /// By its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Guess, Self::Likely, Self::High].into_iter().find(|confidence| confidence.word() == word)
    }

    /// The word on the screen and for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Guess => "guess",
            Self::Likely => "likely",
            Self::High => "high",
        }
    }
}

/// Something that happened to a stream.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Event {
    /// Its number in the stream's life, from 0.
    pub number: u64,
    /// What.
    pub kind: EventKind,
    /// When it began.
    pub start: Mono,
    /// When it ended; `None` while it goes on. A change has no length.
    pub end: Option<Mono>,
    /// The primary cause; `None` for a change that needs none.
    pub cause: Option<Cause>,
    /// What speaks for it, in one line.
    pub evidence: String,
    /// How sure that is.
    pub confidence: Confidence,
}

impl Event {
    /// How long it has lasted, by now at most.
    #[must_use]
    pub fn length(&self, now: Mono) -> Duration {
        self.end.unwrap_or(now).since(self.start)
    }
}

/// Events remembered of a stream.
const REMEMBERED: usize = 200;

/// Keeps what happened to a stream.
#[derive(Debug, Clone, Default)]
pub struct EventLog {
    events: VecDeque<Event>,
    next: u64,
    /// Dropouts that have ended and are in it.
    dropouts: u64,
    size: Option<(u32, u32)>,
    declared: Option<FrameRate>,
    given: Arc<[Event]>,
}

impl EventLog {
    /// Takes what is seen now; the figures with their verdict, and what that rests on.
    pub fn observe(&mut self, now: Mono, figures: &Figures, evidence: &Evidence) {
        let changed = self.dropouts(now, figures, evidence) | self.states(now, figures, evidence) | self.changes(now, figures);
        if changed {
            self.given = self.events.iter().cloned().collect();
        }
    }

    /// All that is remembered, oldest first.
    #[must_use]
    pub fn events(&self) -> Arc<[Event]> {
        self.given.clone()
    }

    fn push(&mut self, kind: EventKind, start: Mono, end: Option<Mono>, cause: Option<Cause>, told: (String, Confidence)) {
        if self.events.len() == REMEMBERED {
            self.events.pop_front();
        }
        let (evidence, confidence) = told;
        self.events.push_back(Event { number: self.next, kind, start, end, cause, evidence, confidence });
        self.next += 1;
    }

    fn open(&mut self, of: impl Fn(EventKind) -> bool) -> Option<&mut Event> {
        self.events.iter_mut().rev().find(|event| event.end.is_none() && of(event.kind))
    }

    fn dropouts(&mut self, now: Mono, figures: &Figures, evidence: &Evidence) -> bool {
        let of_meter = |kind| matches!(kind, EventKind::Stutter | EventKind::Freeze | EventKind::Outage);
        let ended = figures.dropout_totals.0.saturating_sub(self.dropouts) as usize;
        self.dropouts = figures.dropout_totals.0;
        let mut changed = ended > 0;
        for dropout in figures.dropouts.iter().skip(figures.dropouts.len().saturating_sub(ended)) {
            let told = of_dropout(dropout, figures, evidence);
            let end = Some(dropout.start + dropout.length);
            match self.open(of_meter) {
                Some(event) if event.start == dropout.start => {
                    (event.kind, event.end, event.cause) = (dropout.kind.into(), end, dropout.cause);
                    (event.evidence, event.confidence) = told;
                }
                _ => self.push(dropout.kind.into(), dropout.start, end, dropout.cause, told),
            }
        }
        if let Some(dropout) = figures.dropout_now {
            // While the session is away the failure explains it.
            let cause = figures.cause.filter(|_| dropout.kind == DropoutKind::Outage).or(dropout.cause);
            let told = of_dropout(&Dropout { cause, ..dropout }, figures, evidence);
            match self.open(of_meter) {
                Some(event) if event.start == dropout.start => {
                    let kind = dropout.kind.into();
                    changed |= (event.kind, event.cause) != (kind, cause) || event.evidence != told.0;
                    (event.kind, event.cause) = (kind, cause);
                    (event.evidence, event.confidence) = told;
                }
                _ => {
                    self.push(dropout.kind.into(), dropout.start, None, cause, told);
                    changed = true;
                }
            }
        } else if let Some(event) = self.open(of_meter) {
            // The meter gave it up: pictures are not expected any more.
            event.end = Some(now);
            changed = true;
        }
        changed
    }

    /// States that last: strained, locked, never a picture.
    fn states(&mut self, now: Mono, figures: &Figures, evidence: &Evidence) -> bool {
        let no_picture = !evidence.had_picture && matches!(figures.verdict, Verdict::Stalled | Verdict::Lost);
        let kind = match figures.verdict {
            Verdict::Strained => Some(EventKind::Strained),
            Verdict::Locked => Some(EventKind::Locked),
            _ if no_picture => Some(EventKind::NoPicture),
            _ => None,
        };
        let states = |kind| matches!(kind, EventKind::Strained | EventKind::Locked | EventKind::NoPicture);
        let cause = figures.cause;
        let told = || told(cause, figures, evidence);
        match (self.open(states), kind) {
            (None, None) => false,
            (Some(event), Some(kind)) if event.kind == kind && event.cause == cause => {
                // What is worst of it is kept: the first seconds of a strain hold little of it.
                let told = told();
                let fresh = now.since(event.start) < Duration::from_secs(10) && told.0 != event.evidence;
                if fresh {
                    (event.evidence, event.confidence) = told;
                }
                fresh
            }
            (open, kind) => {
                if let Some(event) = open {
                    event.end = Some(now);
                }
                if let Some(kind) = kind {
                    let told = told();
                    self.push(kind, now, None, cause, told);
                }
                true
            }
        }
    }

    fn changes(&mut self, now: Mono, figures: &Figures) -> bool {
        let mut changed = false;
        if let (Some(from), Some(to)) = (self.size, figures.size)
            && from != to
        {
            let told = format!("{}×{} until now, {}×{} in the newest parameter set", from.0, from.1, to.0, to.1);
            self.push(EventKind::SizeChanged, now, Some(now), None, (told, Confidence::High));
            changed = true;
        }
        if let (Some(from), Some(to)) = (self.declared, figures.declared)
            && from != to
        {
            let told = format!("{:.1}/s declared until now, {:.1}/s from now on", from.per_second(), to.per_second());
            self.push(EventKind::RateChanged, now, Some(now), None, (told, Confidence::High));
            changed = true;
        }
        self.size = figures.size.or(self.size);
        self.declared = figures.declared.or(self.declared);
        changed
    }
}

fn packets(count: u64) -> String {
    if count == 1 { "1 packet".into() } else { format!("{count} packets") }
}

fn seconds(span: Duration) -> String {
    format!("{:.1} s", span.as_secs_f64())
}

/// What speaks for the cause of a dropout: numbers missing in the sequence, and how far the timestamps went over it.
fn of_dropout(dropout: &Dropout, figures: &Figures, evidence: &Evidence) -> (String, Confidence) {
    let length = seconds(dropout.length);
    let mostly = |media: Duration| media.as_secs_f64() >= 0.7 * dropout.length.as_secs_f64();
    match (dropout.kind, dropout.cause) {
        (DropoutKind::Outage, cause) => told(cause, figures, evidence),
        (_, Some(Cause::PacketLoss)) if dropout.packets_lost > 0 => {
            (format!("{} missing in the sequence: lost on the path", packets(dropout.packets_lost)), Confidence::High)
        }
        (_, Some(Cause::Silence | Cause::CameraSlowed)) => match dropout.media {
            _ if dropout.packets_lost > 0 => (
                format!("{length} without a picture, {} missing: lost on the path", packets(dropout.packets_lost)),
                Confidence::Likely,
            ),
            Some(media) if mostly(media) => (
                format!("timestamps jump by {} and no packet is missing: the camera sent nothing", seconds(media)),
                Confidence::High,
            ),
            Some(_) => (format!("what was due in {length} came afterwards: held up on the way"), Confidence::Likely),
            None => (format!("no packet for {length} while the session lives: the camera or the path"), Confidence::Likely),
        },
        (_, Some(Cause::AwaitingKeyframe)) => {
            ("units arrive whole, and none can be shown before the next keyframe".into(), Confidence::High)
        }
        (_, cause) => told(cause, figures, evidence),
    }
}

/// What speaks for a cause.
#[must_use]
pub fn told(cause: Option<Cause>, figures: &Figures, evidence: &Evidence) -> (String, Confidence) {
    let Some(cause) = cause else { return ("nothing that would explain it".into(), Confidence::Guess) };
    let rate = |rate: Option<f64>| rate.map_or_else(|| "an unknown rate".into(), |rate| format!("{rate:.1}/s"));
    let declared = rate(figures.declared.map(FrameRate::per_second));
    let session = |otherwise: &str| figures.text.clone().unwrap_or_else(|| otherwise.to_owned());
    let percent = |share: Option<f64>| share.map_or_else(|| "some".into(), |share| format!("{:.1} %", share * 100.0));
    match cause {
        Cause::PacketLoss => {
            let steady = evidence.sent_of_declared.is_none_or(|share| share > 0.95);
            let camera = if steady { ", the camera sends as it should" } else { "" };
            (
                format!("{} of the packets are missing in the sequence{camera}: lost on the path", percent(evidence.loss)),
                Confidence::High,
            )
        }
        Cause::CameraSlowed => {
            let all_came = evidence.arrived_of_sent.is_none_or(|share| share > 0.95);
            let (end, confidence) = if all_came {
                ("and all of it arrives: the camera makes fewer", Confidence::High)
            } else {
                ("by its timestamps", Confidence::Likely)
            };
            (format!("sent {} of {declared} declared, {end}", rate(figures.sent)), confidence)
        }
        Cause::Late => match evidence.path_delay.filter(|delay| *delay > Duration::from_secs(1)) {
            Some(delay) => {
                (format!("19 of 20 frames take up to {} from capture: held up on the path", seconds(delay)), Confidence::Likely)
            }
            None => (
                format!(
                    "arrived {} of {} sent, no packet missing: held up on the path",
                    rate(figures.arrived),
                    rate(figures.sent)
                ),
                Confidence::High,
            ),
        },
        Cause::TooHeavy => (
            format!("arrived {} of {} sent: more than the link carries", rate(figures.arrived), rate(figures.sent)),
            Confidence::Likely,
        ),
        Cause::Damaged => ("damaged pictures though no packet is missing: the camera or its encoder".into(), Confidence::Likely),
        Cause::MachineSlow => (
            format!("decoded {} of what arrives ({}): this machine", percent(evidence.decoded_of_arrived), rate(figures.arrived)),
            Confidence::High,
        ),
        Cause::TerminalSlow => {
            (format!("shown {} of what is decoded: this terminal", percent(evidence.shown_of_decoded)), Confidence::High)
        }
        Cause::Silence => ("no packet comes while the session lives: the camera or the path".into(), Confidence::Likely),
        Cause::AwaitingKeyframe => ("packets come, and none begins a picture: waiting for a keyframe".into(), Confidence::High),
        Cause::UnknownCodec => (session("a coding that is not known here"), Confidence::High),
        Cause::KeyNeeded => (session("encrypted, and no key fits"), Confidence::High),
        Cause::SignIn => (session("the device wants another sign-in"), Confidence::High),
        Cause::ClosedByCamera => (session("the device closed the session"), Confidence::High),
        Cause::Unresolved
        | Cause::Unreachable
        | Cause::PortClosed
        | Cause::NotRtsp
        | Cause::ViewerLimit
        | Cause::NoSuchStream => (session(&cause.to_string()), Confidence::High),
        Cause::ClockWrong => (session("its clock is beyond what a path could explain"), Confidence::Likely),
        Cause::Operator => ("done here".into(), Confidence::High),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const GOOD: Evidence = Evidence { had_picture: true, packets_flow: true, ..NONE };
    const NONE: Evidence = Evidence {
        had_picture: false,
        in_dropout: false,
        packets_flow: false,
        awaiting_keyframe: false,
        key_needed: false,
        unknown_codec: false,
        undecodable: false,
        unanswered: None,
        playing_for: Duration::ZERO,
        loss: None,
        damaged: false,
        sent_of_declared: None,
        arrived_of_sent: None,
        decoded_of_arrived: None,
        shown_of_decoded: None,
        path_delay: None,
    };

    fn at(seconds: u64) -> Mono {
        Mono::from_millis(seconds * 1000)
    }

    fn steady() -> Figures {
        Figures {
            verdict: Verdict::Steady,
            sent: Some(25.0),
            arrived: Some(25.0),
            declared: FrameRate::new(25.0),
            size: Some((640, 360)),
            ..Figures::default()
        }
    }

    fn dropout(start: u64, length: u64, cause: Cause) -> Dropout {
        Dropout {
            start: at(start),
            length: Duration::from_secs(length),
            kind: DropoutKind::Freeze,
            frames_missed: None,
            cause: Some(cause),
            packets_lost: 0,
            media: None,
        }
    }

    #[test]
    fn a_dropout_is_one_event_from_its_beginning_to_its_end() {
        let mut log = EventLog::default();
        log.observe(at(1), &steady(), &GOOD);
        assert!(log.events().is_empty());
        let running = dropout(2, 1, Cause::Silence);
        log.observe(at(3), &Figures { dropout_now: Some(running), ..steady() }, &GOOD);
        log.observe(at(4), &Figures { dropout_now: Some(dropout(2, 2, Cause::Silence)), ..steady() }, &GOOD);
        assert_eq!((log.events().len(), log.events()[0].end, log.events()[0].kind), (1, None, EventKind::Freeze));
        let over = Dropout { media: Some(Duration::from_secs(3)), ..dropout(2, 3, Cause::Silence) };
        let figures = Figures { dropouts: vec![over], dropout_totals: (1, over.length), ..steady() };
        log.observe(at(5), &figures, &GOOD);
        log.observe(at(6), &figures, &GOOD);
        let events = log.events();
        assert_eq!((events.len(), events[0].end, events[0].length(at(99))), (1, Some(at(5)), Duration::from_secs(3)));
        assert_eq!(events[0].evidence, "timestamps jump by 3.0 s and no packet is missing: the camera sent nothing");
        assert_eq!(events[0].confidence, Confidence::High);
        // Two short ones between two looks.
        let short = |start| Dropout { kind: DropoutKind::Stutter, packets_lost: 12, ..dropout(start, 0, Cause::PacketLoss) };
        let figures = Figures { dropouts: vec![over, short(7), short(8)], dropout_totals: (3, over.length), ..steady() };
        log.observe(at(9), &figures, &GOOD);
        let events = log.events();
        assert_eq!(events.iter().map(|event| event.number).collect::<Vec<_>>(), [0, 1, 2]);
        assert_eq!(events[2].evidence, "12 packets missing in the sequence: lost on the path");
    }

    #[test]
    fn strain_begins_and_ends_and_another_cause_is_another_event() {
        let mut log = EventLog::default();
        let strained = |cause| Figures { verdict: Verdict::Strained, cause: Some(cause), sent: Some(10.0), ..steady() };
        let slow = Evidence { sent_of_declared: Some(0.4), arrived_of_sent: Some(1.0), ..GOOD };
        log.observe(at(1), &strained(Cause::CameraSlowed), &slow);
        log.observe(at(2), &strained(Cause::CameraSlowed), &slow);
        let lossy = Evidence { loss: Some(0.031), ..GOOD };
        log.observe(at(3), &strained(Cause::PacketLoss), &lossy);
        log.observe(at(9), &steady(), &GOOD);
        let told: Vec<_> = log.events().iter().map(|e| (e.start, e.end, e.cause.unwrap(), e.evidence.clone())).collect();
        assert_eq!(
            told,
            [
                (
                    at(1),
                    Some(at(3)),
                    Cause::CameraSlowed,
                    "sent 10.0/s of 25.0/s declared, and all of it arrives: the camera makes fewer".into()
                ),
                (
                    at(3),
                    Some(at(9)),
                    Cause::PacketLoss,
                    "3.1 % of the packets are missing in the sequence, the camera sends as it should: lost on the path".into()
                ),
            ]
        );
        let locked = Figures { verdict: Verdict::Locked, cause: Some(Cause::SignIn), text: Some("401".into()), ..steady() };
        log.observe(at(10), &locked, &NONE);
        assert_eq!((log.events()[2].kind, log.events()[2].evidence.as_str()), (EventKind::Locked, "401"));
    }

    #[test]
    fn changes_without_a_dropout_are_events_and_the_past_is_bounded() {
        let mut log = EventLog::default();
        log.observe(at(1), &steady(), &GOOD);
        log.observe(at(2), &Figures { size: Some((320, 180)), declared: FrameRate::new(12.5), ..steady() }, &GOOD);
        // Unknown for a moment is no change.
        log.observe(at(3), &Figures { size: None, declared: None, ..steady() }, &GOOD);
        log.observe(at(4), &Figures { size: Some((320, 180)), declared: FrameRate::new(12.5), ..steady() }, &GOOD);
        let kinds: Vec<_> = log.events().iter().map(|event| event.kind).collect();
        assert_eq!(kinds, [EventKind::SizeChanged, EventKind::RateChanged]);
        assert_eq!(log.events()[0].evidence, "640×360 until now, 320×180 in the newest parameter set");
        for n in 0..500u32 {
            log.observe(at(5 + u64::from(n)), &Figures { size: Some((n + 1, 180)), ..steady() }, &GOOD);
        }
        assert_eq!(log.events().len(), REMEMBERED);
    }

    #[test]
    fn every_cause_has_a_line_without_gaps() {
        for cause in Cause::ALL {
            let (line, _) = told(Some(cause), &Figures::default(), &NONE);
            assert!(line.len() > 5 && !line.contains("None"), "{cause}: {line}");
        }
    }
}
