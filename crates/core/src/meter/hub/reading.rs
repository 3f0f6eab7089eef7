//! Reading all figures at once, and judging them.

use super::super::Figures;
use super::{BUSY_OVER, CARRIED, Meter, NO_ANSWER, OVERLOADED, OVERLOADED_BUSY, OWN_STALL, REFUSES, SLOWER, recently};
use crate::FrameRate;
use crate::Mono;
use crate::Verdict;
use crate::sdp::Codec;
use crate::verdict::BUSY;
use crate::verdict::Evidence;
use crate::verdict::SessionState;
use crate::verdict::{stall_cause, strain};
use std::time::Duration;

/// Declared and seen rates within this factor agree.
const AGREES: f64 = 3.0;
/// A declared rate below this is believed when it is seen.
const SLOWEST_UNSEEN: f64 = 1.0;
/// The seen rate is read this often at most, where there is much to read.
const RATE_READ_EVERY: Duration = Duration::from_millis(250);

impl Meter {
    /// The rate that gaps are judged by: the declared one where it agrees with what is seen, else what is seen; in a silence the
    /// last one known. What a camera declares alone must not say how long its pictures may stay away.
    pub(super) fn rate(&mut self, now: Mono) -> Option<FrameRate> {
        // Reading it costs a sort of all units in its window.
        let fresh = self.rates.read.is_some_and(|at| now.since(at) < RATE_READ_EVERY) && self.sent.units() > 64;
        if !fresh {
            self.rates.read = Some(now);
            self.rates.seen = self.sent.per_second(now).and_then(FrameRate::new).or(self.rates.seen);
        }
        let agrees = |declared: FrameRate, seen: FrameRate| {
            let share = seen.per_second() / declared.per_second();
            (1.0 / AGREES..=AGREES).contains(&share)
        };
        let rate = match (self.declared(), self.rates.seen) {
            (Some(declared), Some(seen)) if !agrees(declared, seen) => Some(seen),
            (Some(declared), None) if declared.per_second() < SLOWEST_UNSEEN => None,
            (declared, seen) => declared.or(seen),
        };
        self.rates.used = rate.or(self.rates.used);
        self.rates.used
    }

    pub(super) fn declared(&self) -> Option<FrameRate> {
        self.video.as_ref().and_then(|video| video.declared).or(self.declared_by_stream)
    }

    pub(super) fn refuses(&self, now: Mono) -> bool {
        self.refusing_since.is_some_and(|since| now.since(since) >= REFUSES)
    }

    /// One sentence about what keeps pictures away, where the session itself did not fail.
    pub(super) fn explain(&self, now: Mono) -> Option<String> {
        if let (SessionState::Connecting, Some((since, _))) = (&self.session, self.unanswered) {
            let waited = now.since(since);
            return (waited >= NO_ANSWER).then(|| format!("no answer for {} s", waited.as_secs()));
        }
        let video = self.video.as_ref().filter(|_| self.session == SessionState::Playing)?;
        let codec = self.codec().unwrap_or(&video.codec);
        match self.unusual {
            _ if self.key_unknown => Some("the stream is encrypted (SRTP) and no key is known".into()),
            _ if self.key_is_wrong() => Some("the stream's packets do not fit its key: the key is wrong".into()),
            _ if self.key_needed() => Some("the stream is scrambled and its key is not known".into()),
            _ if self.barred.is_some() => self.barred.clone(),
            _ if matches!(codec, Codec::Other(_)) => Some(format!("{codec} is received and measured, but not decoded here")),
            Some(what) if self.refuses(now) => Some(format!("{codec} {what} is received and measured, but not decoded here")),
            None if self.refuses(now) => Some("the decoder refuses what arrives, though it arrives whole".into()),
            _ => None,
        }
    }

    pub(super) fn packets_flow(&self, now: Mono) -> bool {
        self.last_packet.is_some_and(|last| now.since(last) < self.dropouts.threshold().min(Duration::from_secs(1)))
    }

    pub(super) fn evidence(&self, now: Mono, figures: &Figures) -> Evidence {
        let ratio = |part: Option<f64>, whole: Option<f64>| {
            part.zip(whole).filter(|(_, whole)| *whole > 0.0).map(|(part, whole)| part / whole)
        };
        // A session that has just begun has no full window to compare, and after a dropout that came alone the
        // window still holds the gap, which has been told already.
        let settled =
            self.playing_since.is_some_and(|since| now.since(since) > Duration::from_secs(3)) && !self.dropouts.excuses(now);
        let too_late = recently(now, self.too_late.1);
        // Rates of what comes to the screen need as long to fill.
        let shown_long = self.on_screen.is_some_and(|since| now.since(since) > Duration::from_secs(6));
        let decoded = if shown_long { self.decoded.per_second(now) } else { None };
        let refused = self.refuses(now);
        let unanswered = self.unanswered.filter(|(since, _)| now.since(*since) >= NO_ANSWER);
        Evidence {
            // Whole units are a picture to come, unless the decoder has refused them all so far.
            had_picture: self.first_displayable.is_some() && (self.refusing_since.is_none() || self.first_decoded.is_some()),
            in_dropout: self.dropouts.running(now).is_some(),
            packets_flow: self.packets_flow(now),
            awaiting_keyframe: !self.last_unit_clean || self.first_displayable.is_none(),
            key_needed: self.key_needed(),
            decoder_failed: self.decoder_failed.is_some_and(|at| recently(now, Some(at)) || self.last_decoded < Some(at)),
            unknown_codec: matches!(self.codec(), Some(Codec::Other(_)))
                || self.barred.is_some()
                || (refused && self.unusual.is_some()),
            undecodable: refused,
            unanswered: unanswered.map(|(_, cause)| cause),
            playing_for: self.first_playing.map_or(Duration::ZERO, |since| now.since(since)),
            loss: figures.recent_loss,
            arrives_of_declared: self.arrives_of_declared(now),
            overloaded: self.overloaded(now),
            // What came too late is missing in its unit, and was not lost.
            damaged: recently(now, self.damage_without_loss) && !too_late,
            too_late,
            sent_of_declared: ratio(figures.sent, figures.declared.map(FrameRate::per_second)).filter(|_| settled),
            pace: self.pace().filter(|_| settled),
            slower_since: self.turned(true),
            regular_since: self.turned(false),
            arrived_of_sent: ratio(figures.arrived, figures.sent).filter(|_| settled),
            decoded_of_arrived: ratio(decoded, figures.arrived).filter(|_| settled && self.decodes),
            shown_of_decoded: ratio(figures.shown, decoded).filter(|_| settled),
            link_busy: self.link_busy(now),
            // A delay that the camera's clock may have made up is none.
            path_delay: figures.latency.map(|latency| latency.path.p95.saturating_sub(latency.error.unwrap_or_default())),
            finding: figures.sight.and_then(|sight| sight.finding),
            lossy: self.lossy.span(),
            damage: self.damage.span(),
            lateness: self.lateness.span(),
            strain: None,
        }
    }

    /// How slow the camera goes where it sends at all: declared distance of frames over the usual one.
    pub(super) fn pace(&self) -> Option<f64> {
        let usual = self.sent.interval()?.as_secs_f64();
        (usual > 0.0).then(|| self.declared().map(|rate| rate.period().as_secs_f64() / usual)).flatten()
    }

    /// Since when frames are further apart than declared, or are not.
    pub(super) fn turned(&self, further: bool) -> Option<Mono> {
        let limit = self.declared().filter(|_| !self.no_media_clock)?.period().mul_f64(SLOWER);
        self.sent.turned(limit, further)
    }

    /// Whether packets are lost as where more is sent than the path carries: all the time, and either many of them while less
    /// than the declared bitrate arrives, or while packets come all the time.
    pub(super) fn overloaded(&self, now: Mono) -> bool {
        let counts = self.packets();
        let lost = self.loss.share(self.expected(), counts.received).unwrap_or(0.0);
        // What came after all was not too much for the path.
        if lost < OVERLOADED_BUSY || !self.loss.goes_on(now) || recently(now, self.too_late.1) {
            return false;
        }
        let busy = self.link_busy(now).is_some_and(|busy| busy > BUSY);
        busy || (lost >= OVERLOADED && self.arrives_of_declared(now).is_some_and(|share| share < CARRIED))
    }

    /// Arriving bitrate of 10 s over the declared one.
    pub(super) fn arrives_of_declared(&self, now: Mono) -> Option<f64> {
        let declared = self.video.as_ref()?.bandwidth.filter(|declared| declared.0 > 0.0)?;
        Some(self.bitrate.over(now, Duration::from_secs(10))?.0 / declared.0)
    }

    /// Share of the last 5 s in which packets of a unit that had begun to arrive were still to come; `None` where packets come
    /// out of order: what holds them up then is no queue.
    pub(super) fn link_busy(&self, now: Mono) -> Option<f64> {
        if recently(now, self.reordered.1) {
            return None;
        }
        let recent = self.deliveries.iter().filter(|(at, _)| now.since(*at) <= BUSY_OVER);
        let took: Duration = recent.map(|(_, took)| (*took).min(BUSY_OVER)).sum();
        (!self.deliveries.is_empty()).then(|| (took.as_secs_f64() / BUSY_OVER.as_secs_f64()).min(1.0))
    }

    pub(super) fn bitrate_by_kind(&self, now: Mono) -> Option<[crate::BitsPerSecond; 3]> {
        let [key, one, both] = self.by_kind.each_ref().map(|bitrate| bitrate.over(now, Duration::from_secs(1)));
        Some([key?, one?, both?])
    }

    /// Time went on: dropouts begin, their cause is looked for.
    pub fn tick(&mut self, now: Mono) {
        let rate = self.rate(now);
        self.dropouts.set_rate(rate);
        self.dropouts.tick(now);
        let counts = self.packets();
        self.loss.sample(now, self.expected(), counts.received);
        if counts.lost > self.lost_seen {
            self.lossy.on(now, now);
        }
        self.lost_seen = counts.lost;
        if self.dropped.too_late > self.too_late.0 {
            self.too_late = (self.dropped.too_late, Some(now));
            self.lateness.on(now, now);
        }
        if counts.reordered > self.reordered.0 {
            self.reordered = (counts.reordered, Some(now));
        }
        self.note_stall(now);
    }

    /// Looks for the cause of a dropout that runs while the session lives.
    pub(super) fn note_stall(&mut self, now: Mono) {
        if self.dropouts.running(now).is_none() || self.session != SessionState::Playing {
            return;
        }
        let lost = self.packets().lost > self.lost_at_picture;
        let too_late = recently(now, self.too_late.1);
        let evidence = Evidence {
            // What was lost was sent: a silence with a gap in the numbers is loss.
            packets_flow: lost || (self.packets_flow(now) && !self.silent_since_picture),
            loss: lost.then_some(1.0),
            overloaded: self.overloaded(now),
            awaiting_keyframe: self.first_displayable.is_none() || !self.last_unit_clean,
            damaged: recently(now, self.damage_without_loss) && !too_late,
            too_late,
            ..Evidence::default()
        };
        self.dropouts.note_cause(stall_cause(&evidence));
    }

    /// Reads everything.
    pub fn read(&mut self, now: Mono) -> Figures {
        if let Some(before) = self.read_at.replace(now).filter(|before| now.since(*before) > OWN_STALL) {
            self.dropouts.set_own_pause(before, now);
        }
        self.tick(now);
        let counts = self.packets();
        let (text, next_try) = match &self.session {
            SessionState::Failed { text, next_try, .. } => (Some(text.clone()), *next_try),
            SessionState::Locked { text, .. } => (Some(text.clone()), None),
            _ => (
                self.last_failure
                    .as_ref()
                    .map(|(_, text)| text.clone())
                    .or_else(|| self.explain(now))
                    .or_else(|| self.remark.clone()),
                None,
            ),
        };
        let rate = self.rate(now);
        let offset = self.clock.offset(self.pair.wall_at(now), self.round_trip, self.told);
        let times = self.flash.times(&self.clock, offset, self.pair.wall);
        let first = if self.decodes { self.first_decoded } else { self.first_displayable };
        let mut figures = Figures {
            at: now,
            text,
            seen: self.seen,
            next_try,
            milestones: self.milestones,
            transport: self.transport,
            codec: self.codec().map(ToString::to_string),
            keyframes_asked: self.keyframes_asked.0,
            wants_keyframe: self.keyframes_asked.1,
            audio: self.audio.clone(),
            sound: self.sound.clone(),
            profile: self.profile,
            size: self.size,
            declared: self.declared(),
            declared_bitrate: self.video.as_ref().and_then(|video| video.bandwidth),
            session: self.session.clone(),
            sent: self.sent.per_second(now).filter(|_| !self.no_media_clock),
            still: self.still,
            sender: self.sender,
            arrived: self.arrived.per_second(now),
            shown: if self.on_screen.is_some() { self.shown.per_second(now) } else { None },
            latency: self.latency.read(now, &self.clock, self.pair, times).filter(|_| !self.no_media_clock),
            arrival: self.arrivals.read(&self.clock, self.pair, |at| times.captured(&self.clock, self.pair, at)),
            jitter: self.jitter.value(),
            packets: counts,
            recent_loss: self.loss.share(self.expected(), counts.received),
            frames: self.frames,
            dropped: self.dropped,
            bitrate_1s: self.bitrate.over(now, Duration::from_secs(1)),
            bitrate_by_kind: self.bitrate_by_kind(now),
            keyframe_at: self.keyframe_at,
            transport_stream: self.transport_stream,
            clock_drift: self.clock.drift(),
            bitrate_10s: self.bitrate.over(now, Duration::from_secs(10)),
            keyframe_frames: self.keyframes.last_frames,
            keyframe_interval: self.keyframes.last,
            keyframe_longest: self.keyframes.longest,
            first_picture: first.map(|at| at.since(self.started)),
            dropouts: self.dropouts.past().copied().collect(),
            dropout_totals: self.dropouts.totals(),
            dropout_now: self.dropouts.running(now),
            pulse: self.pulse.cells(now, rate),
            sight: self.sight.read(now),
            flash: self.flash.read(now),
            clock: offset,
            ..Figures::default()
        };
        let beyond = self.thresholds.late + times.error().unwrap_or_default();
        if let Some((from, to)) = self.latency.late(now, &self.clock, self.pair, times, beyond) {
            self.lateness.on(from, to);
        }
        let mut evidence = self.evidence(now, &figures);
        self.dropouts.set_interval(self.sent.interval());
        let full = evidence.link_busy.is_some_and(|busy| busy > BUSY);
        self.dropouts.set_queued(full && evidence.path_delay.is_some_and(|delay| delay * 2 > self.thresholds.late));
        self.judge.thresholds = self.thresholds.at_rate(figures.declared);
        (figures.verdict, figures.cause) = self.judge.judge(now, &self.session, &evidence);
        if let (SessionState::Connecting, Some((cause, _))) = (&self.session, &self.last_failure) {
            // A try that has only begun does not make it any better.
            (figures.verdict, figures.cause) = (Verdict::Lost, Some(*cause));
        }
        evidence.strain = strain(&evidence, &self.judge.thresholds);
        self.events.observe(now, &figures, &evidence);
        figures.events = self.events.events();
        figures
    }
}
