//! What happened to a stream: dropouts and every other departure from steady, each with its cause, the evidence for it in
//! one line, and how sure that is.

use crate::meter::{Dropout, DropoutKind, Figures, MOSTLY};
use crate::sight::Finding;
use crate::verdict::{BUSY, Evidence, Verdict};
use crate::{Cause, FrameRate, Mono};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;

/// What kind of thing happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
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
    /// Pictures come and show nothing new.
    Frozen,
    /// The camera switched to night mode: grey pictures.
    NightMode,
    /// It switched back.
    DayMode,
    /// Its timestamps went on from elsewhere.
    TimestampsLeap,
    /// Its clock is beyond what a path could explain.
    ClockWrong,
    /// Its decoder ended here, and another one took over.
    DecoderFailed,
    /// Its sound is silence.
    SoundSilent,
    /// Its sound is much louder than it usually is.
    SoundLoud,
    /// Its sound is cut off at full scale.
    SoundClipped,
    /// The device reported it itself.
    Reported,
    /// The same, and a rule of the site makes it an alarm.
    ReportedAlarm,
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
            Self::Frozen => "frozen",
            Self::NightMode => "night-mode",
            Self::DayMode => "day-mode",
            Self::TimestampsLeap => "timestamps-leap",
            Self::ClockWrong => "clock-wrong",
            Self::DecoderFailed => "decoder-failed",
            Self::SoundSilent => "sound-silent",
            Self::SoundLoud => "sound-loud",
            Self::SoundClipped => "sound-clipped",
            Self::Reported => "reported",
            Self::ReportedAlarm => "reported-alarm",
        }
    }

    /// Every kind.
    pub const ALL: [Self; 19] = [
        Self::Stutter,
        Self::Freeze,
        Self::Outage,
        Self::NoPicture,
        Self::Locked,
        Self::Strained,
        Self::SizeChanged,
        Self::RateChanged,
        Self::Frozen,
        Self::NightMode,
        Self::DayMode,
        Self::TimestampsLeap,
        Self::ClockWrong,
        Self::DecoderFailed,
        Self::SoundSilent,
        Self::SoundLoud,
        Self::SoundClipped,
        Self::Reported,
        Self::ReportedAlarm,
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
            Self::Freeze | Self::Frozen => 3,
            Self::Stutter => 2,
            Self::Strained | Self::ReportedAlarm => 1,
            Self::SizeChanged
            | Self::RateChanged
            | Self::NightMode
            | Self::DayMode
            | Self::TimestampsLeap
            | Self::ClockWrong
            | Self::DecoderFailed
            | Self::SoundSilent
            | Self::SoundLoud
            | Self::SoundClipped
            | Self::Reported => 0,
        }
    }

    /// It happens at one moment and has no length.
    #[must_use]
    pub const fn is_change(self) -> bool {
        matches!(
            self,
            Self::SizeChanged | Self::RateChanged | Self::NightMode | Self::DayMode | Self::TimestampsLeap | Self::DecoderFailed
        )
    }

    /// New pictures were missing while it lasted.
    #[must_use]
    pub const fn is_dropout(self) -> bool {
        matches!(self, Self::Stutter | Self::Freeze | Self::Outage | Self::NoPicture | Self::Locked | Self::Frozen)
    }
}

impl From<DropoutKind> for EventKind {
    fn from(kind: DropoutKind) -> Self {
        match kind {
            DropoutKind::Stutter => Self::Stutter,
            DropoutKind::Freeze => Self::Freeze,
            DropoutKind::Outage => Self::Outage,
            DropoutKind::NoPicture => Self::NoPicture,
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
    /// More is known of it; whether anything changed. What was said of a session while it was away is more than what is left
    /// to say of it afterwards.
    fn retell(&mut self, kind: DropoutKind, cause: Option<Cause>, told: (String, Confidence), away: bool) -> bool {
        let kept = kind == DropoutKind::Outage && !away && self.kind == kind.into() && self.cause == cause;
        let changed = !kept && ((self.kind, self.cause) != (kind.into(), cause) || self.evidence != told.0);
        (self.kind, self.cause) = (kind.into(), cause);
        if !kept {
            (self.evidence, self.confidence) = told;
        }
        changed
    }

    /// How long it has lasted, by now at most.
    #[must_use]
    pub fn length(&self, now: Mono) -> Duration {
        self.end.unwrap_or(now).since(self.start)
    }
}

/// A strain that ended so shortly before is the same one.
const GOES_ON: Duration = Duration::from_secs(10);
/// Events remembered of a stream.
const REMEMBERED: usize = 200;

/// Keeps what happened to a stream.
#[derive(Debug, Clone, Default)]
pub struct EventLog {
    events: VecDeque<Event>,
    next: u64,
    /// Dropouts that have ended and are in it.
    dropouts: u64,
    /// The number of the dropout that runs, or of the last one that did.
    dropout: Option<u64>,
    size: Option<(u32, u32)>,
    declared: Option<FrameRate>,
    night: Option<bool>,
    /// Something is in it that was not given yet.
    changed: bool,
    given: Arc<[Event]>,
}

impl EventLog {
    /// Takes what is seen now; the figures with their verdict, and what that rests on.
    pub fn observe(&mut self, now: Mono, figures: &Figures, evidence: &Evidence) {
        let changed = self.dropouts(now, figures, evidence)
            | self.states(now, figures, evidence)
            | self.night(now, figures)
            | self.clock(now, figures)
            | self.sound(now, figures);
        if changed | std::mem::take(&mut self.changed) {
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

    fn open(&mut self, of: impl Fn(&Event) -> bool) -> Option<&mut Event> {
        self.events.iter_mut().rev().find(|event| event.end.is_none() && of(event))
    }

    fn dropouts(&mut self, now: Mono, figures: &Figures, evidence: &Evidence) -> bool {
        let ended = figures.dropout_totals.0.saturating_sub(self.dropouts) as usize;
        self.dropouts = figures.dropout_totals.0;
        let mut changed = ended > 0;
        for dropout in figures.dropouts.iter().skip(figures.dropouts.len().saturating_sub(ended)) {
            let told = of_dropout(dropout, figures, evidence);
            let end = Some(dropout.start + dropout.length);
            match self.open_dropout() {
                Some(event) if event.start == dropout.start => {
                    event.end = end;
                    event.retell(dropout.kind, dropout.cause, told, false);
                }
                _ => self.push(dropout.kind.into(), dropout.start, end, dropout.cause, told),
            }
        }
        if let Some(dropout) = figures.dropout_now {
            // While the session is away the failure explains it. Once it is there again and waits for its first picture,
            // what it was lost by does, and not that nothing has come yet.
            let lost = matches!(figures.verdict, Verdict::Lost | Verdict::Locked);
            let away = lost && matches!(dropout.kind, DropoutKind::Outage | DropoutKind::NoPicture);
            let cause = figures.cause.filter(|_| away).or(dropout.cause);
            let told = of_dropout(&Dropout { cause, ..dropout }, figures, evidence);
            match self.open_dropout() {
                Some(event) if event.start == dropout.start => changed |= event.retell(dropout.kind, cause, told, away),
                _ => {
                    self.push(dropout.kind.into(), dropout.start, None, cause, told);
                    self.dropout = Some(self.next - 1);
                    changed = true;
                }
            }
        } else if let Some(event) = self.open_dropout() {
            // The meter gave it up: pictures are not expected any more.
            event.end = Some(now);
            changed = true;
        }
        changed
    }

    /// The dropout of the meter's that runs.
    fn open_dropout(&mut self) -> Option<&mut Event> {
        let number = self.dropout?;
        self.open(|event| event.number == number)
    }

    /// States that last: strained, locked, never a picture.
    fn states(&mut self, now: Mono, figures: &Figures, evidence: &Evidence) -> bool {
        // Once a session lives, the missing first picture is a dropout of the meter's, unless it was told before.
        let of_meter = self.dropout;
        let told_before = self.open(|event| event.kind == EventKind::NoPicture && Some(event.number) != of_meter).is_some();
        let living = !matches!(figures.verdict, Verdict::Locked | Verdict::Resting);
        let no_picture = !evidence.had_picture
            && figures.dropout_now.is_none()
            && (figures.verdict == Verdict::Lost || (told_before && living));
        let kind = match figures.verdict {
            Verdict::Strained => Some(EventKind::Strained),
            Verdict::Locked => Some(EventKind::Locked),
            Verdict::Stalled if figures.cause == Some(Cause::FrozenPicture) => Some(EventKind::Frozen),
            _ if no_picture => Some(EventKind::NoPicture),
            _ => None,
        };
        let states = |event: &Event| {
            let lasts = [EventKind::Strained, EventKind::Locked, EventKind::NoPicture, EventKind::Frozen].contains(&event.kind);
            lasts && Some(event.number) != of_meter
        };
        let cause = figures.cause;
        let told = || told(cause, figures, evidence);
        // What follows from a cause is no other one.
        let is_same = |old: Option<Cause>, new: Option<Cause>| {
            old == new || (kind == Some(EventKind::Strained) && old.zip(new).is_some_and(|(old, new)| old.explains(new)))
        };
        match (self.open(states), kind) {
            (None, None) => false,
            (Some(event), Some(kind)) if event.kind == kind && is_same(event.cause, cause) => {
                // What is worst of it is kept: the first seconds of a strain hold little of it.
                let told = told();
                // Nor is it told from figures that do not hold it any more.
                let holds = event.cause == cause && (kind != EventKind::Strained || evidence.strain == cause);
                let fresh = holds && now.since(event.start) < Duration::from_secs(10) && told.0 != event.evidence;
                if fresh {
                    (event.evidence, event.confidence) = told;
                }
                fresh
            }
            (open, kind) => {
                // It is judged after it has lasted a while; when it began and ended the evidence tells.
                let span = |cause: Option<Cause>| cause.map_or((None, None), |cause| evidence.span_of(cause));
                if let Some(event) = open {
                    let end = span(event.cause).1.filter(|_| event.kind == EventKind::Strained).unwrap_or(now);
                    event.end = Some(end.max(event.start));
                }
                if let Some(kind) = kind.filter(|kind| !self.goes_on_again(now, *kind, cause, figures, evidence)) {
                    let began = span(cause).0.filter(|_| kind == EventKind::Strained).unwrap_or(now);
                    let before = self.events.iter().rev().find(|event| states(event)).and_then(|event| event.end);
                    let told = told();
                    self.push(kind, before.map_or(began, |before| began.max(before)), None, cause, told);
                }
                true
            }
        }
    }

    /// A strain that was over for a moment only, or while pictures were missing, goes on by the same root; whether it does.
    fn goes_on_again(
        &mut self,
        now: Mono,
        kind: EventKind,
        cause: Option<Cause>,
        figures: &Figures,
        evidence: &Evidence,
    ) -> bool {
        let began = cause.and_then(|cause| evidence.span_of(cause).0).unwrap_or(now);
        let of_root = |event: &&mut Event| {
            let alike = event.cause.zip(cause).is_some_and(|(old, new)| old.is_of_one_root(new));
            alike && event.end.is_some_and(|end| began.since(end) < GOES_ON)
        };
        let last = self.events.iter_mut().rev().find(|event| event.kind == EventKind::Strained);
        let Some(event) = last.filter(|_| kind == EventKind::Strained).filter(of_root) else { return false };
        event.end = None;
        if event.cause.zip(cause).is_some_and(|(old, new)| old != new && new.explains(old)) {
            event.cause = cause;
            (event.evidence, event.confidence) = told(cause, figures, evidence);
        }
        true
    }

    /// A parameter set is in force from this moment on, with this size, and this is the rate that is declared now.
    pub fn on_parameters(&mut self, at: Mono, size: (u32, u32), declared: Option<FrameRate>) {
        if let Some(from) = self.size.replace(size).filter(|from| *from != size) {
            let told = format!("{}×{} until now, {}×{} in the newest parameter set", from.0, from.1, size.0, size.1);
            self.push(EventKind::SizeChanged, at, Some(at), None, (told, Confidence::High));
            self.changed = true;
        }
        if let (Some(from), Some(to)) = (self.declared, declared)
            && from != to
        {
            let told = format!("{:.1}/s declared until now, {:.1}/s from now on", from.per_second(), to.per_second());
            self.push(EventKind::RateChanged, at, Some(at), None, (told, Confidence::High));
            self.changed = true;
        }
        self.declared = declared.or(self.declared);
    }

    /// The timestamps went on from elsewhere at this moment, by so many microseconds.
    pub fn on_leap(&mut self, at: Mono, by: Option<i64>) {
        let told = by.map_or_else(
            || "its timestamps begin anew".to_owned(),
            |by| {
                let way = if by > 0 { "ahead" } else { "back" };
                format!("its timestamps leap {} {way} while pictures come", seconds(Duration::from_micros(by.unsigned_abs())))
            },
        );
        self.push(EventKind::TimestampsLeap, at, Some(at), None, (told, Confidence::High));
        self.changed = true;
    }

    /// The decoder of the stream ended: how, and how many others it served.
    pub fn on_decoder_failed(&mut self, at: Mono, how: &str, others: usize) {
        let beside = match others {
            0 => String::new(),
            1 => "; it served 1 other stream".to_owned(),
            others => format!("; it served {others} other streams"),
        };
        let told = (format!("{how}, and another one took over{beside}"), Confidence::High);
        self.push(EventKind::DecoderFailed, at, Some(at), Some(Cause::DecoderFailed), told);
        self.changed = true;
    }

    /// A clock that is wrong is one event, from when that is known until it is known to be right.
    fn clock(&mut self, now: Mono, figures: &Figures) -> bool {
        let Some(clock) = figures.clock else { return false };
        match (self.open(|event| event.kind == EventKind::ClockWrong), clock.clock_wrong) {
            (None, true) => {
                let confidence = if clock.times_pictures { Confidence::High } else { Confidence::Likely };
                let told = format!("its clock is {}", clock.text());
                self.push(EventKind::ClockWrong, now, None, Some(Cause::ClockWrong), (told, confidence));
                true
            }
            (Some(event), false) => {
                event.end = Some(now);
                true
            }
            _ => false,
        }
    }

    /// What is noticed in the sound lasts as long as it is noticed.
    fn sound(&mut self, now: Mono, figures: &Figures) -> bool {
        let noticed = figures.sound.noticed;
        let silent = noticed.silent.map(|since| (since, format!("no sound for {}", seconds(now.since(since)))));
        let loud = noticed.loud.map(|(since, by)| (since, format!("{by:.0} dB louder than usual")));
        let clipped = noticed.clipping.map(|(since, most)| (since, format!("{most} samples in a second stay at full scale")));
        [
            (EventKind::SoundSilent, Cause::SoundSilent, silent),
            (EventKind::SoundLoud, Cause::SoundLoud, loud),
            (EventKind::SoundClipped, Cause::SoundClipped, clipped),
        ]
        .into_iter()
        .fold(false, |changed, (kind, cause, noticed)| {
            changed
                | match (self.open(|event| event.kind == kind), noticed) {
                    (None, Some((since, told))) => {
                        self.push(kind, since, None, Some(cause), (told, Confidence::High));
                        true
                    }
                    (Some(event), None) => {
                        event.end = Some(now.max(event.start));
                        true
                    }
                    _ => false,
                }
        })
    }

    fn night(&mut self, now: Mono, figures: &Figures) -> bool {
        let Some(sight) = figures.sight else { return false };
        let before = self.night.replace(sight.night);
        if before.is_none_or(|before| before == sight.night) {
            return false;
        }
        let (kind, what) = if sight.night {
            (EventKind::NightMode, "grey pictures from a camera that sends coloured ones by day")
        } else {
            (EventKind::DayMode, "coloured pictures again")
        };
        let told = (format!("{what} ({:.1} of 255 levels from grey)", sight.colour), Confidence::Likely);
        self.push(kind, now, Some(now), None, told);
        true
    }
}

/// How sure it is that a keyframe is all that is missing: what was lost or came too late just before may be why.
fn awaiting(evidence: &Evidence) -> Confidence {
    let whole = evidence.loss.is_none_or(|loss| loss == 0.0) && !evidence.too_late;
    if whole { Confidence::High } else { Confidence::Likely }
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
    let mostly = |media: Duration| media.as_secs_f64() >= MOSTLY * dropout.length.as_secs_f64();
    match (dropout.kind, dropout.cause) {
        (DropoutKind::Outage, cause) => told(cause, figures, evidence),
        (_, Some(Cause::PacketLoss)) if dropout.packets_lost > 0 => {
            (format!("{} missing in the sequence: lost on the path", packets(dropout.packets_lost)), Confidence::High)
        }
        (_, Some(Cause::MachineSlow)) => (
            format!("this program did not run for part of the {length}: this machine was suspended or too busy"),
            Confidence::Likely,
        ),
        (_, Some(Cause::TooHeavy)) if evidence.overloaded => told(Some(Cause::TooHeavy), figures, evidence),
        (_, Some(Cause::TooHeavy)) => (
            format!("the camera left frames out for {length} while those that come are held up: more than the link carries"),
            Confidence::Likely,
        ),
        (_, cause @ Some(Cause::Late)) if evidence.too_late => told(cause, figures, evidence),
        (_, Some(Cause::Late)) => {
            (format!("what was due in {length} came afterwards, none missing: held up on the way"), Confidence::Likely)
        }
        (_, Some(cause @ (Cause::Silence | Cause::CameraSlowed))) => match dropout.media {
            Some(media) if mostly(media) => (
                format!("timestamps jump by {} and no packet is missing: the camera sent nothing", seconds(media)),
                // A camera that cannot get rid of its frames leaves some out as well.
                if evidence.link_busy.is_none_or(|busy| busy < 0.3) { Confidence::High } else { Confidence::Likely },
            ),
            _ if cause == Cause::CameraSlowed => {
                (format!("packets come, and no new picture of them for {length}"), Confidence::Likely)
            }
            _ => (format!("no packet for {length} while the session lives: the camera or the path"), Confidence::Likely),
        },
        (_, Some(Cause::AwaitingKeyframe)) => {
            ("units arrive whole, and none can be shown before the next keyframe".into(), awaiting(evidence))
        }
        (_, cause) => told(cause, figures, evidence),
    }
}

fn rate(rate: Option<f64>) -> String {
    // Of a frame or two a second a tenth is much.
    let digits = |rate: f64| if rate < 3.0 { 2 } else { 1 };
    rate.map_or_else(|| "an unknown rate".into(), |rate| format!("{rate:.*}/s", digits(rate)))
}

fn percent(share: Option<f64>) -> String {
    share.map_or_else(|| "some".into(), |share| format!("{:.1} %", share * 100.0))
}

/// What speaks for a camera that makes fewer frames than it declares.
fn slowed(figures: &Figures, evidence: &Evidence) -> (String, Confidence) {
    let all_came = evidence.arrived_of_sent.is_none_or(|share| share > 0.95);
    let lossless = evidence.loss.is_none_or(|loss| loss == 0.0);
    // Regularly slower, and not only with a gap somewhere.
    let regularly = evidence.pace.is_some_and(|pace| pace < 0.95);
    let (end, confidence) = if all_came && lossless && regularly {
        ("and all of it arrives: the camera makes fewer", Confidence::High)
    } else {
        ("by its timestamps", Confidence::Likely)
    };
    let night = if figures.sight.is_some_and(|sight| sight.night) { ", in night mode" } else { "" };
    let declared = rate(figures.declared.map(FrameRate::per_second));
    (format!("sent {} of {declared} declared, {end}{night}", rate(figures.sent)), confidence)
}

/// What speaks for a path that holds frames up, or is too narrow for them.
fn held_up(cause: Cause, figures: &Figures, evidence: &Evidence) -> (String, Confidence) {
    if cause == Cause::TooHeavy {
        let busy = format!("the link is busy with frames for {} of the time", percent(evidence.link_busy));
        let arrives =
            evidence.arrives_of_declared.map(|share| format!("{} of the declared bitrate arrive", percent(Some(share))));
        let told = match (evidence.path_delay, evidence.loss) {
            (_, Some(loss)) if evidence.overloaded => {
                let seen = arrives.filter(|_| evidence.link_busy.is_none_or(|busy| busy <= BUSY)).unwrap_or(busy);
                format!("{} of the packets are missing all the time, and {seen}: more than it carries", percent(Some(loss)))
            }
            (Some(delay), _) if delay >= Duration::from_millis(100) => {
                format!("frames take {} to come, and {busy}: more than it carries", seconds(delay))
            }
            _ => format!("{busy}: more than it carries"),
        };
        return (told, Confidence::Likely);
    }
    if let Some(delay) = evidence.path_delay.filter(|delay| *delay > Duration::from_secs(1)) {
        let told = format!("19 of 20 frames take up to {} from capture: held up on the path", seconds(delay));
        return (told, Confidence::Likely);
    }
    if evidence.too_late {
        return ("packets come when their place in the order is given up: held up on the path".into(), Confidence::Likely);
    }
    let (arrived, sent) = (rate(figures.arrived), rate(figures.sent));
    (format!("arrived {arrived} of {sent} sent, no packet missing: held up on the path"), Confidence::High)
}

/// What speaks for a cause.
#[must_use]
pub fn told(cause: Option<Cause>, figures: &Figures, evidence: &Evidence) -> (String, Confidence) {
    let Some(cause) = cause else { return ("nothing that would explain it".into(), Confidence::Guess) };
    let in_picture = |finding: Finding| {
        let told = figures.sight.map_or_else(|| cause.to_string(), |sight| sight.told(finding));
        (told, Confidence::Likely)
    };
    let session = |otherwise: &str| figures.text.clone().unwrap_or_else(|| otherwise.to_owned());
    match cause {
        Cause::PacketLoss => {
            let steady = evidence.sent_of_declared.is_none_or(|share| share > 0.95);
            let camera = if steady { ", the camera sends as it should" } else { "" };
            (
                format!("{} of the packets are missing in the sequence{camera}: lost on the path", percent(evidence.loss)),
                Confidence::High,
            )
        }
        Cause::CameraSlowed => slowed(figures, evidence),
        Cause::Late | Cause::TooHeavy => held_up(cause, figures, evidence),
        Cause::Damaged => ("damaged pictures though no packet is missing: the camera or its encoder".into(), Confidence::Likely),
        Cause::FrozenPicture => in_picture(Finding::Frozen),
        Cause::DarkPicture => in_picture(evidence.finding.unwrap_or(Finding::Dark)),
        Cause::WashedOut => in_picture(Finding::WashedOut),
        Cause::OutOfFocus => in_picture(Finding::OutOfFocus),
        Cause::MachineSlow => (
            format!("decoded {} of what arrives ({}): this machine", percent(evidence.decoded_of_arrived), rate(figures.arrived)),
            Confidence::High,
        ),
        Cause::TerminalSlow => {
            // A machine that is busy with other things keeps its terminal from its work as well.
            let shown = percent(evidence.shown_of_decoded);
            (format!("shown {shown} of what is decoded: this terminal, or a machine too busy for it"), Confidence::Likely)
        }
        Cause::Silence => ("no packet comes while the session lives: the camera or the path".into(), Confidence::Likely),
        Cause::AwaitingKeyframe => ("packets come, and none begins a picture: waiting for a keyframe".into(), awaiting(evidence)),
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
        Cause::DecoderFailed => (session("its decoder ended, and pictures wait for a keyframe"), Confidence::High),
        Cause::ProgramFailed => (session("this program failed on what the camera sent, and began anew"), Confidence::High),
        Cause::ClockWrong => (session("its clock is beyond what a path could explain"), Confidence::Likely),
        Cause::SoundSilent
        | Cause::SoundLoud
        | Cause::SoundClipped
        | Cause::Motion
        | Cause::Crossing
        | Cause::Tampering
        | Cause::SignalLoss
        | Cause::DigitalInput
        | Cause::StorageFailure
        | Cause::Heard
        | Cause::DeviceEvent => (cause.to_string(), Confidence::High),
        Cause::Operator => ("done here".into(), Confidence::High),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::thresholds::Thresholds;
    use proptest::prelude::*;

    const GOOD: Evidence = Evidence { had_picture: true, packets_flow: true, ..NONE };
    const NONE: Evidence = Evidence {
        had_picture: false,
        in_dropout: false,
        packets_flow: false,
        awaiting_keyframe: false,
        key_needed: false,
        decoder_failed: false,
        unknown_codec: false,
        undecodable: false,
        unanswered: None,
        playing_for: Duration::ZERO,
        loss: None,
        damaged: false,
        too_late: false,
        sent_of_declared: None,
        slower_since: None,
        regular_since: None,
        pace: None,
        arrived_of_sent: None,
        decoded_of_arrived: None,
        shown_of_decoded: None,
        link_busy: None,
        path_delay: None,
        finding: None,
        overloaded: false,
        arrives_of_declared: None,
        lossy: None,
        damage: None,
        lateness: None,
        strain: None,
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
    fn an_outage_keeps_its_cause_while_the_new_session_waits_for_its_first_picture() {
        let outage = |length| Dropout { kind: DropoutKind::Outage, ..dropout(2, length, Cause::ClosedByCamera) };
        let mut log = EventLog::default();
        let (closed, refused) = (Some(Cause::ClosedByCamera), Some(Cause::PortClosed));
        let text = Some("the session timed out there".to_owned());
        let lost =
            Figures { verdict: Verdict::Lost, cause: closed, text: text.clone(), dropout_now: Some(outage(1)), ..steady() };
        let again = Figures { verdict: Verdict::Stalled, cause: Some(Cause::Silence), dropout_now: Some(outage(4)), ..steady() };
        let over = Figures { dropouts: vec![outage(5)], dropout_totals: (1, outage(5).length), ..steady() };
        for (n, figures) in [&lost, &again, &over].into_iter().enumerate() {
            log.observe(at(3 + n as u64), figures, &GOOD);
            let event = &log.events()[0];
            assert_eq!((event.cause, Some(&event.evidence)), (closed, text.as_ref()), "{n}");
        }
        assert_eq!((log.events().len(), log.events()[0].end), (1, Some(at(7))));
        // What it fails by next is said while it is away.
        let mut log = EventLog::default();
        log.observe(at(3), &lost, &GOOD);
        log.observe(at(4), &Figures { cause: refused, text: None, ..lost }, &GOOD);
        assert_eq!((log.events()[0].cause, log.events()[0].evidence.as_str()), (refused, "port closed"));
    }

    #[test]
    fn strain_begins_and_ends_and_another_cause_is_another_event() {
        let mut log = EventLog::default();
        let strained = |cause| Figures { verdict: Verdict::Strained, cause: Some(cause), sent: Some(10.0), ..steady() };
        let slow = Evidence { sent_of_declared: Some(0.4), pace: Some(0.4), arrived_of_sent: Some(1.0), ..GOOD };
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
        log.on_parameters(at(1), (640, 360), FrameRate::new(25.0));
        log.observe(at(1), &steady(), &GOOD);
        assert!(log.events().is_empty());
        // When the parameter set came counts, and what changed back before anybody looked is told as well.
        log.on_parameters(at(2), (320, 180), FrameRate::new(12.5));
        log.on_parameters(at(3), (320, 180), None);
        log.on_parameters(at(4), (640, 360), FrameRate::new(12.5));
        log.observe(at(5), &steady(), &GOOD);
        let told: Vec<_> = log.events().iter().map(|event| (event.kind, event.start)).collect();
        let (size, rate) = (EventKind::SizeChanged, EventKind::RateChanged);
        assert_eq!(told, [(size, at(2)), (rate, at(2)), (size, at(4))]);
        assert_eq!(log.events()[0].evidence, "640×360 until now, 320×180 in the newest parameter set");
        for n in 0..500u32 {
            log.on_parameters(at(6 + u64::from(n)), (n + 1, 180), None);
        }
        log.observe(at(600), &steady(), &GOOD);
        assert_eq!(log.events().len(), REMEMBERED);
    }

    #[test]
    fn a_wait_for_a_keyframe_is_sure_only_where_nothing_was_missing_before_it() {
        let sure = |evidence: &Evidence| told(Some(Cause::AwaitingKeyframe), &steady(), evidence).1;
        assert_eq!(sure(&GOOD), Confidence::High);
        assert_eq!(sure(&Evidence { too_late: true, ..GOOD }), Confidence::Likely);
        assert_eq!(sure(&Evidence { loss: Some(0.01), ..GOOD }), Confidence::Likely);
    }

    /// The numbers of a sentence, in their order.
    fn numbers(text: &str) -> Vec<f64> {
        let digits = |c: char| !(c.is_ascii_digit() || c == '.');
        text.split(digits).filter_map(|part| part.trim_matches('.').parse().ok()).collect()
    }

    fn shares() -> impl Strategy<Value = Option<f64>> {
        prop_oneof![Just(None), (0.0..1.2f64).prop_map(Some)]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(3000))]

        /// Whatever strains a stream, its sentence holds numbers that say the same.
        #[test]
        fn a_strains_sentence_holds_its_numbers(
            (loss, sent, pace, arrived) in (shares(), shares(), shares(), shares()),
            (decoded, shown, busy, carried) in (shares(), shares(), shares(), shares()),
            (delay, overloaded, damaged, too_late) in (prop::option::of(0u64..5000), any::<bool>(), any::<bool>(), any::<bool>()),
            declared in 1.0..60.0f64,
        ) {
            let arrived = arrived.filter(|_| sent.is_some());
            let (loss, limits) = (loss.map(|share| share * share), Thresholds::default());
            let evidence = Evidence {
                loss,
                overloaded: overloaded && loss.is_some_and(|loss| loss > 0.02),
                arrives_of_declared: carried,
                sent_of_declared: sent,
                pace,
                arrived_of_sent: arrived,
                decoded_of_arrived: decoded,
                shown_of_decoded: shown,
                link_busy: busy,
                path_delay: delay.map(Duration::from_millis),
                damaged,
                too_late,
                ..GOOD
            };
            let sent_rate = sent.map(|share| share * declared);
            let figures = Figures {
                declared: FrameRate::new(declared),
                sent: sent_rate,
                arrived: arrived.zip(sent_rate).map(|(share, sent)| share * sent),
                recent_loss: loss,
                ..Figures::default()
            };
            let Some(cause) = crate::verdict::strain(&evidence, &limits) else { return Ok(()) };
            let (line, _) = told(Some(cause), &figures, &evidence);
            let said = numbers(&line);
            match cause {
                Cause::PacketLoss => prop_assert!(said[0] > 0.0 && (said[0] - loss.unwrap() * 100.0).abs() <= 0.051, "{}", line),
                Cause::CameraSlowed => prop_assert!(said[0] < said[1] * 0.9, "{}", line),
                Cause::TooHeavy => prop_assert!(said[0] > 0.0, "{}", line),
                Cause::Late if line.contains("arrived") => prop_assert!(said[0] <= said[1] * 0.9, "{}", line),
                Cause::Late if line.contains("capture") => prop_assert!(said[2] >= 1.0, "{}", line),
                Cause::MachineSlow | Cause::TerminalSlow => prop_assert!(said[0] < 60.05, "{}", line),
                _ => {}
            }
        }
    }

    #[test]
    fn every_cause_has_a_line_without_gaps() {
        for cause in Cause::ALL {
            let (line, _) = told(Some(cause), &Figures::default(), &NONE);
            assert!(line.len() > 5 && !line.contains("None"), "{cause}: {line}");
        }
    }
}
