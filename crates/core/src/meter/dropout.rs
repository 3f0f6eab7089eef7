use crate::{Cause, FrameRate, Mono};
use std::collections::VecDeque;
use std::time::Duration;

/// Kind of a dropout.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DropoutKind {
    /// Below one second.
    Stutter,
    /// From one second on, while the session lived.
    Freeze,
    /// The session did not live.
    Outage,
    /// It was opened and has given no picture yet.
    NoPicture,
}

impl DropoutKind {
    /// The word for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Stutter => "stutter",
            Self::Freeze => "freeze",
            Self::Outage => "outage",
            Self::NoPicture => "no-picture",
        }
    }
}

/// A time in which no new displayable picture came for longer than max(3 declared frame periods,
/// 400 ms).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Dropout {
    /// When the first missing picture was due: a frame period after the last one came.
    pub start: Mono,
    /// From then to the next displayable picture, or to now while it runs.
    pub length: Duration,
    /// The kind.
    pub kind: DropoutKind,
    /// Frames that were due in it; `None` without a rate.
    pub frames_missed: Option<u64>,
    /// The primary cause.
    pub cause: Option<Cause>,
    /// Packets missing in the sequence over it; known when it has ended.
    pub packets_lost: u64,
    /// Media time from the last picture before it to the first one after it, by their timestamps; known when it has ended.
    pub media: Option<Duration>,
}

/// The shortest gap that is a dropout at high frame rates.
const LEAST_GAP: Duration = Duration::from_millis(400);
/// The same while no rate is known, neither declared nor measured: slow streams send a picture a second.
const UNKNOWN_RATE_GAP: Duration = Duration::from_secs(3);
/// A stream that was opened has so long for its first picture.
pub const FIRST_PICTURE: Duration = Duration::from_secs(3);
/// From here on a dropout is a freeze.
const FREEZE: Duration = Duration::from_secs(1);
/// The camera made pictures meanwhile where its timestamps went on by less than this share of the dropout.
pub const MOSTLY: f64 = 0.7;
/// After a time in which this program did not run, packets that waited are read within this time.
const READ_FIRST: Duration = Duration::from_millis(200);
/// Rates hold the gap of a dropout for so long after it.
const EXCUSED_FOR: Duration = Duration::from_secs(6);
/// So many within twice that time are more than one that comes alone.
const AGAIN_AND_AGAIN: usize = 3;
/// Dropouts remembered one by one; older ones stay in the totals.
const REMEMBERED: usize = 500;

#[derive(Debug, Clone, Copy)]
struct Open {
    start: Mono,
    outage: bool,
    /// No picture has come at all.
    first: bool,
    cause: Option<Cause>,
}

/// Finds dropouts in the arrival of displayable pictures.
#[derive(Debug, Clone)]
pub struct DropoutMeter {
    rate: Option<FrameRate>,
    /// Of `rate`; zero without one.
    period: Duration,
    threshold: Duration,
    last: Option<Mono>,
    /// When the first picture should be there, while none has come.
    first_due: Option<Mono>,
    open: Option<Open>,
    session_lost: bool,
    /// The last time in which this program did not run.
    own_pause: Option<(Mono, Mono)>,
    /// The path holds frames for long.
    queued: bool,
    /// The usual distance of frames of late.
    interval: Duration,
    past: VecDeque<Dropout>,
    count: u64,
    total: Duration,
}

impl Default for DropoutMeter {
    fn default() -> Self {
        Self {
            rate: None,
            period: Duration::ZERO,
            threshold: UNKNOWN_RATE_GAP,
            last: None,
            first_due: None,
            open: None,
            session_lost: false,
            own_pause: None,
            queued: false,
            interval: Duration::ZERO,
            past: VecDeque::new(),
            count: 0,
            total: Duration::ZERO,
        }
    }
}

impl DropoutMeter {
    /// The rate that gaps are compared with: declared, or measured where nothing is declared.
    pub fn set_rate(&mut self, rate: Option<FrameRate>) {
        if rate != self.rate {
            self.rate = rate;
            self.period = rate.map_or(Duration::ZERO, FrameRate::period);
            self.threshold = rate.map_or(UNKNOWN_RATE_GAP, |_| (self.period * 3).max(LEAST_GAP));
        }
    }

    /// The longest gap that is none.
    #[must_use]
    pub const fn threshold(&self) -> Duration {
        self.threshold
    }

    /// A displayable picture came; packets that went missing since the last one, and the media time between the two.
    pub fn on_displayable(&mut self, at: Mono, packets_lost: u64, media: Option<Duration>) {
        self.begin_where_due(at);
        // Begun by a look at the clock before packets that had long come were read: the picture was there in time.
        let in_time = |open: &Open| {
            let gap = |from: Mono| at.since(from);
            if open.first {
                gap(open.start) <= LEAST_GAP
            } else if open.outage {
                gap(open.start).is_zero()
            } else {
                self.last.is_some_and(|last| gap(last) <= self.threshold)
            }
        };
        if let Some(open) = self.open.take().filter(|open| !in_time(open)) {
            let dropout = self.explained(Dropout { packets_lost, media, ..self.describe(open, at) });
            self.count += 1;
            self.total += dropout.length;
            if self.past.len() == REMEMBERED {
                self.past.pop_front();
            }
            self.past.push_back(dropout);
        }
        self.last = Some(at);
        self.first_due = None;
        self.session_lost = false;
    }

    /// The first session begins: a picture is expected.
    pub fn on_opened(&mut self, at: Mono) {
        self.first_due = Some(at + FIRST_PICTURE);
    }

    /// Whether the path holds frames for so long that the link is full.
    pub const fn set_queued(&mut self, queued: bool) {
        self.queued = queued;
    }

    /// This program did not run from one moment to another, though it should have.
    pub const fn set_own_pause(&mut self, from: Mono, to: Mono) {
        self.own_pause = Some((from, to));
    }

    /// The usual distance of frames of late, in media time.
    pub fn set_interval(&mut self, interval: Option<Duration>) {
        self.interval = interval.unwrap_or_default();
    }

    /// At its end more is known of it: whether anything is missing, and whether the camera made pictures meanwhile.
    fn explained(&self, dropout: Dropout) -> Dropout {
        let lived = matches!(dropout.kind, DropoutKind::Stutter | DropoutKind::Freeze);
        let Some(Cause::Silence | Cause::CameraSlowed) = dropout.cause.filter(|_| lived) else { return dropout };
        let cause = match dropout.media {
            _ if dropout.packets_lost > 0 => Some(Cause::PacketLoss),
            Some(media) if media.as_secs_f64() < MOSTLY * dropout.length.as_secs_f64() => Some(Cause::Late),
            Some(_) if self.queued => Some(Cause::TooHeavy),
            // A few frames left out, as usual by now or not: it sends, and less often.
            Some(media) if media <= self.period * 6 => Some(Cause::CameraSlowed),
            Some(media) if self.interval * 2 > media && self.interval > self.period * 2 => Some(Cause::CameraSlowed),
            _ => dropout.cause,
        };
        Dropout { cause, ..dropout }
    }

    /// The session ended. A dropout that runs, or begins before the next picture, is an outage.
    pub fn on_session_lost(&mut self, now: Mono, cause: Cause) {
        self.session_lost = true;
        self.begin_where_due(now);
        self.note_cause(cause);
        if let Some(open) = &mut self.open {
            open.outage = true;
        } else if let Some(last) = self.last {
            // Known to be lost: the dropout begins where the next picture was due, without waiting.
            self.open = Some(Open { start: last + self.period, outage: true, first: false, cause: Some(cause) });
        }
    }

    /// Time went on. Where this program did not run just now, what came meanwhile is read first.
    pub fn tick(&mut self, now: Mono) {
        if self.own_pause.is_none_or(|(_, to)| now.since(to) >= READ_FIRST) {
            self.begin_where_due(now);
        }
    }

    /// A dropout begins where a picture has been due for too long by this time.
    pub fn begin_where_due(&mut self, now: Mono) {
        if self.open.is_some() {
            return;
        }
        if let Some(start) = self.first_due.filter(|due| now.since(*due) > LEAST_GAP) {
            self.open = Some(Open { start, outage: false, first: true, cause: None });
        } else if let Some(last) = self.last.filter(|last| now.since(*last) > self.threshold) {
            self.open = Some(Open { start: last + self.period, outage: self.session_lost, first: false, cause: None });
        }
    }

    /// Names a cause for the dropout that runs; the first one stays, unless it was only a symptom.
    pub fn note_cause(&mut self, cause: Cause) {
        if let Some(open) = &mut self.open
            && open.cause.is_none_or(|have| rank(cause) < rank(have))
        {
            open.cause = Some(cause);
        }
    }

    /// Pictures are not expected until the next one (planned rest, the operator switched).
    pub const fn pause(&mut self) {
        self.last = None;
        self.first_due = None;
        self.open = None;
        self.session_lost = false;
    }

    fn describe(&self, open: Open, now: Mono) -> Dropout {
        let length = now.since(open.start);
        let kind = match open.outage {
            _ if open.first => DropoutKind::NoPicture,
            true => DropoutKind::Outage,
            false if length >= FREEZE => DropoutKind::Freeze,
            false => DropoutKind::Stutter,
        };
        let frames_missed = self.rate.map(|rate| (length.as_secs_f64() * rate.per_second()).round() as u64);
        // Nothing came while nothing was looked for: where that is most of it, it tells of this machine.
        let own = self.own_pause.map_or(Duration::ZERO, |(from, to)| to.min(now).since(from.max(open.start)));
        let cause = if own * 2 > length && !length.is_zero() { Some(Cause::MachineSlow) } else { open.cause };
        Dropout { start: open.start, length, kind, frames_missed, cause, packets_lost: 0, media: None }
    }

    /// The dropout that runs, as long as it is by now.
    #[must_use]
    pub fn running(&self, now: Mono) -> Option<Dropout> {
        self.open.map(|open| self.describe(open, now))
    }

    /// Whether a dropout that ended just now is all that is wrong with rates that still hold its gap. Where one follows
    /// the other, the stream is slow: that is not excused.
    #[must_use]
    pub fn excuses(&self, now: Mono) -> bool {
        let ended_within = |time: Duration| {
            self.past.iter().rev().take_while(|dropout| now.since(dropout.start + dropout.length) <= time).count()
        };
        ended_within(EXCUSED_FOR) > 0 && ended_within(2 * EXCUSED_FOR) < AGAIN_AND_AGAIN
    }

    /// Dropouts that have ended, oldest first; at most the last 500.
    pub fn past(&self) -> impl Iterator<Item = &Dropout> {
        self.past.iter()
    }

    /// How many have ended, and how long they were together.
    #[must_use]
    pub const fn totals(&self) -> (u64, Duration) {
        (self.count, self.total)
    }
}

/// Lower is nearer to the root: a closed session explains silence, silence explains waiting for a keyframe.
const fn rank(cause: Cause) -> u8 {
    match cause {
        Cause::AwaitingKeyframe => 3,
        Cause::Silence | Cause::CameraSlowed => 2,
        Cause::PacketLoss | Cause::Damaged => 1,
        _ => 0,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn meter() -> DropoutMeter {
        let mut meter = DropoutMeter::default();
        meter.set_rate(FrameRate::new(25.0));
        meter
    }

    #[test]
    fn a_stall_of_1200_ms_at_25_is_a_freeze_with_30_frames_missed() {
        let mut meter = meter();
        (0..=50).for_each(|n| meter.on_displayable(Mono::from_millis(40 * n), 0, None));
        meter.tick(Mono::from_millis(2000 + 600));
        meter.note_cause(Cause::AwaitingKeyframe);
        meter.note_cause(Cause::Silence);
        meter.note_cause(Cause::CameraSlowed);
        assert!(meter.running(Mono::from_millis(2600)).is_some());
        meter.on_displayable(Mono::from_millis(2000 + 1240), 0, None);
        let past: Vec<_> = meter.past().copied().collect();
        let want = Dropout {
            start: Mono::from_millis(2040),
            length: Duration::from_millis(1200),
            kind: DropoutKind::Freeze,
            frames_missed: Some(30),
            cause: Some(Cause::Silence),
            packets_lost: 0,
            media: None,
        };
        assert_eq!(past, [want]);
        assert_eq!(meter.totals(), (1, Duration::from_millis(1200)));
    }

    #[test]
    fn a_picture_that_came_in_time_and_was_read_late_is_no_dropout() {
        let mut meter = meter();
        meter.on_displayable(Mono::from_millis(1000), 0, None);
        meter.tick(Mono::from_millis(3000));
        meter.note_cause(Cause::Silence);
        assert!(meter.running(Mono::from_millis(3000)).is_some());
        meter.on_displayable(Mono::from_millis(1040), 0, None);
        assert!(meter.running(Mono::from_millis(3000)).is_none());
        assert_eq!((meter.past().count(), meter.totals()), (0, (0, Duration::ZERO)));
        // The same behind a session that ended: its next one had the picture at once.
        meter.on_session_lost(Mono::from_millis(1050), Cause::ClosedByCamera);
        meter.on_displayable(Mono::from_millis(1080), 0, None);
        assert_eq!(meter.totals().0, 0);
        // After a pause of this program nothing begins before what waited is read.
        meter.set_own_pause(Mono::from_millis(1100), Mono::from_millis(3000));
        meter.tick(Mono::from_millis(3000));
        assert!(meter.running(Mono::from_millis(3000)).is_none());
        meter.tick(Mono::from_millis(3200));
        assert!(meter.running(Mono::from_millis(3200)).is_some());
        meter.pause();
        meter.on_displayable(Mono::from_millis(4000), 0, None);
        meter.on_session_lost(Mono::from_millis(4090), Cause::ClosedByCamera);
        meter.on_displayable(Mono::from_millis(4200), 0, None);
        assert_eq!(meter.past().next().map(|dropout| dropout.kind), Some(DropoutKind::Outage));
    }

    #[test]
    fn at_its_end_a_silence_is_told_from_a_queue_and_from_loss() {
        let second = Duration::from_secs(1);
        for (lost, media, queued, cause) in [
            (0, Some(second * 2), false, Cause::Silence),
            (0, None, true, Cause::Silence),
            (3, Some(second * 2), false, Cause::PacketLoss),
            (0, Some(second / 10), true, Cause::Late),
            (0, Some(second * 2), true, Cause::TooHeavy),
        ] {
            let mut meter = meter();
            meter.on_displayable(Mono::ZERO, 0, None);
            meter.tick(Mono::from_millis(900));
            meter.note_cause(Cause::Silence);
            meter.set_queued(queued);
            meter.on_displayable(Mono::from_millis(2000), lost, media);
            assert_eq!(meter.past().next().and_then(|dropout| dropout.cause), Some(cause));
        }
    }

    #[test]
    fn a_time_in_which_this_program_did_not_run_is_no_fault_of_the_camera() {
        for (from, to, cause) in [(200, 2_800, Cause::MachineSlow), (200, 1_200, Cause::Silence), (4_000, 9_000, Cause::Silence)]
        {
            let mut meter = meter();
            meter.on_displayable(Mono::ZERO, 0, None);
            meter.tick(Mono::from_millis(900));
            meter.note_cause(Cause::Silence);
            meter.set_own_pause(Mono::from_millis(from), Mono::from_millis(to));
            meter.on_displayable(Mono::from_millis(3_000), 0, None);
            assert_eq!(meter.past().next().and_then(|dropout| dropout.cause), Some(cause), "{from} to {to}");
        }
    }

    #[test]
    fn one_dropout_excuses_low_rates_for_a_while_and_one_after_the_other_does_not() {
        let mut meter = meter();
        let mut at = 0;
        let mut stutter = |meter: &mut DropoutMeter, gap: u64| {
            meter.on_displayable(Mono::from_millis(at), 0, None);
            at += gap;
            meter.on_displayable(Mono::from_millis(at), 0, None);
            Mono::from_millis(at)
        };
        let first = stutter(&mut meter, 700);
        assert!(meter.excuses(first) && meter.excuses(first + Duration::from_secs(5)));
        assert!(!meter.excuses(first + Duration::from_secs(7)));
        let second = stutter(&mut meter, 700);
        assert!(meter.excuses(second), "two");
        let third = stutter(&mut meter, 700);
        assert!(!meter.excuses(third), "again and again");
    }

    #[test]
    fn a_stream_that_never_shows_a_picture_is_missed_from_three_seconds_on() {
        let mut meter = meter();
        meter.on_opened(Mono::from_millis(1000));
        meter.tick(Mono::from_millis(3900));
        assert!(meter.running(Mono::from_millis(3900)).is_none());
        meter.tick(Mono::from_millis(4200));
        assert!(meter.running(Mono::from_millis(4200)).is_none(), "told when it is longer than any other");
        meter.tick(Mono::from_millis(4500));
        meter.note_cause(Cause::AwaitingKeyframe);
        meter.note_cause(Cause::PacketLoss);
        meter.on_session_lost(Mono::from_millis(5000), Cause::ClosedByCamera);
        let running = meter.running(Mono::from_millis(6000)).unwrap();
        assert_eq!((running.kind, running.start, running.length.as_secs()), (DropoutKind::NoPicture, Mono::from_millis(4000), 2));
        meter.on_displayable(Mono::from_millis(9000), 3, None);
        let past = meter.past().next().copied().unwrap();
        assert_eq!((past.kind, past.length, past.frames_missed), (DropoutKind::NoPicture, Duration::from_secs(5), Some(125)));
        // In time, and read late.
        let mut meter = DropoutMeter::default();
        meter.on_opened(Mono::ZERO);
        meter.tick(Mono::from_millis(3300));
        meter.on_displayable(Mono::from_millis(3390), 0, None);
        assert_eq!((meter.totals().0, meter.running(Mono::from_millis(3300))), (0, None));
    }

    #[test]
    fn the_threshold_is_three_periods_or_400_ms() {
        for (rate, threshold) in [(25.0, 400), (5.0, 600)] {
            let mut meter = DropoutMeter::default();
            meter.set_rate(FrameRate::new(rate));
            assert_eq!(meter.threshold(), Duration::from_millis(threshold));
            meter.on_displayable(Mono::ZERO, 0, None);
            meter.on_displayable(Mono::from_millis(threshold), 0, None);
            assert_eq!(meter.past().count(), 0);
            meter.on_displayable(Mono::from_millis(2 * threshold + 1), 0, None);
            assert_eq!(meter.past().next().map(|d| d.kind), Some(DropoutKind::Stutter), "found without a tick");
        }
    }

    #[test]
    fn without_a_rate_a_slow_stream_is_no_dropout() {
        let mut meter = DropoutMeter::default();
        (0..4).for_each(|n| meter.on_displayable(Mono::from_millis(2500 * n), 0, None));
        assert_eq!(meter.totals().0, 0);
        meter.on_displayable(Mono::from_millis(7500 + 3100), 0, None);
        assert_eq!(meter.past().next().map(|d| (d.kind, d.frames_missed)), Some((DropoutKind::Freeze, None)));
    }

    #[test]
    fn a_lost_session_is_an_outage_from_the_first_missing_frame() {
        let mut meter = meter();
        meter.on_displayable(Mono::from_millis(1000), 0, None);
        meter.on_session_lost(Mono::from_millis(1010), Cause::ClosedByCamera);
        meter.on_displayable(Mono::from_millis(1900), 0, None);
        let past = meter.past().next().copied().unwrap();
        assert_eq!(
            (past.kind, past.start, past.cause),
            (DropoutKind::Outage, Mono::from_millis(1040), Some(Cause::ClosedByCamera))
        );
        // Nothing is missed before the first picture, nor in a pause.
        let mut meter = DropoutMeter::default();
        meter.on_session_lost(Mono::ZERO, Cause::PortClosed);
        meter.on_displayable(Mono::from_millis(9000), 0, None);
        meter.pause();
        meter.on_displayable(Mono::from_millis(20_000), 0, None);
        assert_eq!(meter.past().count(), 0);
    }
}
