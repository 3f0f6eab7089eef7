//! The meter of one stream: holds the parts, routes what stations report, reads them all at once.

use super::capture::CaptureTimes;
use super::flash::{FlashMeter, FlashStep};
use super::spell::Spell;
use super::{
    Bitrate, DropoutMeter, Dropped, EventRate, FrameCounts, KeyframeMeter, LatencyMeter, MediaRate, Milestones, Pulse, RecentLoss,
};
use crate::clock::{CaptureClock, Offset, Told};
use crate::event::EventLog;
use crate::flash::CELLS;
use crate::playout::{ArrivalMeter, LONGEST, Playout};
use crate::receiver::Asked;
use crate::rtp::{Jitter, SequenceCounts, SequenceTracker};
use crate::rtsp::{FailureKind, Progress};
use crate::sdp::{Codec, Video};
use crate::sight::{Glance, SightMeter};
use crate::sound::{Lag, SoundReading};
use crate::thresholds::Thresholds;
use crate::ts::{Demux, TsCounts};
use crate::verdict::{Judge, SessionState};
use crate::video::{AccessUnit, Parameters};
use crate::{Cause, ClockPair, ClockRate, FrameRate, Mono, Ticks, Transport};
use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

mod beside;
mod reading;

/// Frame rates that gaps are judged by.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct KnownRates {
    /// The one that was used last: it holds in a silence.
    pub used: Option<FrameRate>,
    /// The one that was seen last, and when it was read.
    pub seen: Option<FrameRate>,
    pub read: Option<Mono>,
}

/// Everything measured of one stream, over all its sessions.
#[derive(Debug)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
pub struct Meter {
    started: Mono,
    session: SessionState,
    /// Why the last try failed, until one succeeds.
    last_failure: Option<(Cause, String)>,
    /// What the other end answered then.
    seen: Option<FailureKind>,
    milestones: Milestones,
    judge: Judge,
    playing_since: Option<Mono>,
    /// When the first session began to play.
    first_playing: Option<Mono>,
    transport: Option<Transport>,
    video: Option<Video>,
    declared_by_stream: Option<FrameRate>,
    size: Option<(u32, u32)>,
    profile: Option<&'static str>,
    pair: ClockPair,
    round_trip: Option<Duration>,
    decodes: bool,
    /// Since when it is on a screen.
    on_screen: Option<Mono>,
    pub(crate) sequence: SequenceTracker,
    pub(crate) jitter: Jitter,
    pub(crate) clock: CaptureClock,
    told: Option<Told>,
    pub(crate) dropped: Dropped,
    sent: MediaRate,
    arrived: EventRate,
    decoded: EventRate,
    shown: EventRate,
    bitrate: Bitrate,
    /// Bytes of keyframes, of frames predicted from one side, from both.
    by_kind: [Bitrate; 3],
    keyframe_at: Option<Mono>,
    /// When units had come, and how long that took.
    deliveries: VecDeque<(Mono, Duration)>,
    keyframes: KeyframeMeter,
    latency: LatencyMeter,
    flash: FlashMeter,
    playout: Playout,
    /// Fed while there is a receive buffer.
    arrivals: ArrivalMeter,
    dropouts: DropoutMeter,
    pulse: Pulse,
    loss: RecentLoss,
    frames: FrameCounts,
    last_packet: Option<Mono>,
    first_displayable: Option<Mono>,
    first_decoded: Option<Mono>,
    last_unit_clean: bool,
    picture_in_session: bool,
    damage_without_loss: Option<Mono>,
    /// Since when the decoder refuses whole units without giving a picture.
    refusing_since: Option<Mono>,
    /// When a decoder ended on this stream, and when one gave a picture of it last.
    decoder_failed: Option<Mono>,
    last_decoded: Option<Mono>,
    /// What the stream is that decoders seldom take.
    unusual: Option<&'static str>,
    /// Since when something asked of the other end has had no answer, and what that would be.
    unanswered: Option<(Mono, Cause)>,
    /// The last rate that was known, declared or measured.
    /// Why no decoder gets what comes.
    barred: Option<String>,
    /// What became of requests for keyframes, and whether one is wanted that RTCP cannot ask for.
    keyframes_asked: (Option<Asked>, bool),
    rates: KnownRates,
    /// Packets that are missing and may still come: not lost yet.
    awaited: u64,
    /// The stream is encrypted and no key is known.
    key_unknown: bool,
    /// Packets of this session that fit its key, and that did not.
    authentic: (u64, u64),
    /// The stream has no timestamps of its own: what the camera made, and when, is unknown.
    no_media_clock: bool,
    /// How often a still is fetched, where it is one.
    still: Option<Duration>,
    /// Something to be known beside all figures.
    remark: Option<String>,
    sender: Option<SocketAddr>,
    /// Counts of the transport stream, where it is one.
    transport_stream: Option<TsCounts>,
    /// The codec inside a transport stream.
    inner_codec: Option<Codec>,
    /// Codings of the sound beside it.
    audio: Vec<String>,
    /// The sound beside it, and how long pictures take to arrive, which that is held against.
    sound: SoundReading,
    picture_lag: Lag,
    /// Packets lost until the last displayable picture.
    lost_at_picture: u64,
    /// Timestamp of the last displayable picture of this sequence.
    picture_timestamp: Option<i64>,
    /// Timestamp of the last unit of this sequence.
    unit_timestamp: Option<i64>,
    events: EventLog,
    sight: SightMeter,
    /// Packets that came after their place was given up: how many by the last look, and when some came last.
    too_late: (u64, Option<Mono>),
    /// Packets that came out of order: how many by the last look, and when some came last.
    reordered: (u64, Option<Mono>),
    /// When packets were lost, pictures damaged without loss, and frames or packets late, of late; and packets lost so far.
    lossy: Spell,
    damage: Spell,
    lateness: Spell,
    lost_seen: u64,
    /// When figures were read last.
    read_at: Option<Mono>,
    /// As they were set; the judge has them as they are at the stream's rate.
    thresholds: Thresholds,
    /// No packet came for a while since the last displayable picture.
    silent_since_picture: bool,
}

/// So many packets that do not fit, without one that does, are a wrong key and not damage on the way.
const WRONG_KEY: u64 = 10;
/// Refusing for this long is refusing the stream, not a picture.
const REFUSES: Duration = Duration::from_secs(1);
/// From this share of lost packets on, all the time, a path that carries less than is declared is overloaded,
const OVERLOADED: f64 = 0.15;
/// and from this one on where it is busy all the time as well.
const OVERLOADED_BUSY: f64 = 0.02;
/// What arrives of the declared bitrate, below which the path carries less.
const CARRIED: f64 = 0.85;
/// Frames that are by so much further apart than declared are fewer.
const SLOWER: f64 = 1.1;
/// How busy the link is is taken over this time,
const BUSY_OVER: Duration = Duration::from_secs(5);
/// and over so many units at most.
const DELIVERIES: usize = 1000;
/// Figures are read once a second or more often: a longer pause is this machine's.
const OWN_STALL: Duration = Duration::from_secs(2);
/// A change of this machine's time of day by more microseconds than this was made by somebody, not by slewing.
const OWN_STEP: i64 = 100_000;
/// Timestamps that are so far off are another count of time.
const LEAP: Duration = Duration::from_secs(1);
/// A question without an answer for this long is told.
const NO_ANSWER: Duration = Duration::from_secs(3);

impl Meter {
    /// A meter of a source that is about to be opened. `decodes` says whether pictures will be
    /// decoded, so that the first picture is a decoded one.
    #[must_use]
    pub fn new(now: Mono, pair: ClockPair, decodes: bool) -> Self {
        let rate = ClockRate::VIDEO;
        Self {
            started: now,
            session: SessionState::Connecting,
            last_failure: None,
            seen: None,
            milestones: Milestones::default(),
            judge: Judge::default(),
            playing_since: None,
            first_playing: None,
            transport: None,
            video: None,
            declared_by_stream: None,
            size: None,
            profile: None,
            pair,
            round_trip: None,
            decodes,
            on_screen: None,
            sequence: SequenceTracker::new(),
            jitter: Jitter::new(rate),
            clock: CaptureClock::new(rate),
            told: None,
            dropped: Dropped::default(),
            sent: MediaRate::new(rate),
            arrived: EventRate::default(),
            decoded: EventRate::default(),
            shown: EventRate::default(),
            bitrate: Bitrate::default(),
            by_kind: Default::default(),
            keyframe_at: None,
            deliveries: VecDeque::new(),
            keyframes: KeyframeMeter::default(),
            latency: LatencyMeter::default(),
            flash: FlashMeter::default(),
            playout: Playout::AtOnce,
            arrivals: ArrivalMeter::default(),
            dropouts: DropoutMeter::default(),
            pulse: Pulse::default(),
            loss: RecentLoss::default(),
            frames: FrameCounts::default(),
            last_packet: None,
            first_displayable: None,
            first_decoded: None,
            last_unit_clean: true,
            picture_in_session: false,
            damage_without_loss: None,
            refusing_since: None,
            decoder_failed: None,
            last_decoded: None,
            unusual: None,
            unanswered: None,
            barred: None,
            keyframes_asked: Default::default(),
            rates: KnownRates::default(),
            awaited: 0,
            key_unknown: false,
            authentic: (0, 0),
            no_media_clock: false,
            still: None,
            remark: None,
            sender: None,
            transport_stream: None,
            inner_codec: None,
            audio: Vec::new(),
            sound: SoundReading::default(),
            picture_lag: Lag::default(),
            lost_at_picture: 0,
            picture_timestamp: None,
            unit_timestamp: None,
            events: EventLog::default(),
            sight: SightMeter::default(),
            too_late: (0, None),
            reordered: (0, None),
            lossy: Spell::default(),
            damage: Spell::default(),
            lateness: Spell::default(),
            lost_seen: 0,
            read_at: None,
            thresholds: Thresholds::default(),
            silent_since_picture: false,
        }
    }

    /// This machine's two clocks, read at one moment; renewed now and then. Where its time of day was set meanwhile, what is
    /// known of the camera's clock is put on the new time: the camera's did not change.
    pub fn set_clocks(&mut self, pair: ClockPair) {
        let step = pair.wall.micros_since(self.pair.wall_at(pair.mono));
        if step.abs() > OWN_STEP {
            self.clock.on_own_step(step);
            self.flash.on_own_step(step);
            self.told = self.told.map(|told| told.after_own_step(step));
        }
        self.pair = pair;
    }

    /// This machine's two clocks, as last read.
    #[must_use]
    pub const fn clocks(&self) -> ClockPair {
        self.pair
    }

    /// Missing packets that may still come, because those behind them are held for order.
    pub const fn set_awaited(&mut self, packets: u64) {
        self.awaited = packets;
    }

    /// Packet totals; what may still come is not lost.
    fn packets(&self) -> SequenceCounts {
        let counts = self.sequence.counts();
        // Without RTP the video's transport packets are what is counted.
        if let Some(ts) = self.transport_stream.filter(|_| counts.received == 0) {
            return SequenceCounts { received: ts.packets, lost: ts.lost, ..counts };
        }
        SequenceCounts { lost: counts.lost.saturating_sub(self.awaited), ..counts }
    }

    /// Packets expected by now; what may still come is not expected yet.
    fn expected(&self) -> u64 {
        if let Some(ts) = self.transport_stream.filter(|_| self.sequence.counts().received == 0) {
            return ts.packets + ts.lost;
        }
        self.sequence.expected().saturating_sub(self.awaited)
    }

    /// The device told its time.
    pub const fn on_clock_told(&mut self, told: Told) {
        self.told = Some(told);
    }

    /// When units go on to the decoder from now on.
    pub fn set_playout(&mut self, playout: Playout) {
        if playout == Playout::AtOnce {
            self.arrivals.restart();
        }
        self.playout = playout;
    }

    /// When this unit goes on to the decoder; `None` is at once. Never later than the longest buffer after its arrival,
    /// whatever a clock says.
    #[must_use]
    pub fn due(&self, unit: &AccessUnit) -> Option<Mono> {
        let buffered = |buffer: Duration| {
            let late = self.clock.relative_delay(unit.last_arrival, unit.timestamp)?;
            Some(unit.last_arrival + buffer.saturating_sub(late))
        };
        let due = match self.playout {
            _ if self.no_media_clock => None,
            Playout::AtOnce => None,
            Playout::Buffered(buffer) => buffered(buffer),
            Playout::Aligned { delay, buffer } => match self.capture_times().captured(&self.clock, self.pair, unit.timestamp) {
                Some(captured) => {
                    let path = self.pair.wall_at(unit.last_arrival).micros_since(captured);
                    let wait = delay.as_micros() as i64 - path;
                    Some(unit.last_arrival + Duration::from_micros(wait.max(0) as u64))
                }
                None => buffered(buffer),
            },
        };
        due.map(|due| due.min(unit.last_arrival + LONGEST))
    }

    /// A unit went on to the decoder after its buffer.
    pub fn on_released(&mut self, number: u64, at: Mono) {
        self.latency.on_released(number, at);
    }

    /// The camera's clock against ours, as far as it is known.
    fn offset(&self) -> Option<Offset> {
        self.clock.offset(self.pair.wall, self.round_trip, self.told)
    }

    /// Where capture times come from.
    fn capture_times(&self) -> CaptureTimes {
        self.flash.times(&self.clock, self.offset(), self.pair.wall)
    }

    /// A step of a flash probe.
    pub fn on_flash(&mut self, now: Mono, step: FlashStep) {
        let offset = self.offset();
        self.flash.step(now, step, &self.clock, self.pair, offset);
    }

    /// How bright the places of a unit's picture are; only asked for while a flash probe runs.
    pub fn on_light(&mut self, number: u64, decoded: Mono, cells: Box<[u8; CELLS]>) {
        if self.flash.runs()
            && let Some((timestamp, arrival)) = self.latency.of(number)
        {
            self.flash.on_picture(number, self.clock.media_micros(timestamp), arrival, decoded, cells);
        }
    }

    /// The least RTSP round trip so far.
    pub const fn set_round_trip(&mut self, round_trip: Option<Duration>) {
        self.round_trip = round_trip;
    }

    /// The session that has just begun has no timestamps; `still` says how often a picture is fetched.
    pub const fn without_media_clock(&mut self, still: Option<Duration>) {
        self.no_media_clock = true;
        self.still = still;
    }

    /// Who pushes the stream.
    pub const fn set_sender(&mut self, sender: Option<SocketAddr>) {
        self.sender = sender;
    }

    /// Something to be known beside all figures, in a sentence; told while nothing worse is.
    pub fn set_remark(&mut self, remark: Option<String>) {
        self.remark = remark;
    }

    /// A new try at the stream begins.
    pub fn begin_try(&mut self, now: Mono) {
        self.milestones = Milestones { began: Some(now), ..Milestones::default() };
    }

    /// What failed before is over: it is waited for what comes.
    pub fn forget_failure(&mut self) {
        (self.last_failure, self.seen) = (None, None);
    }

    /// A try failed by this cause: an answer that means another one was that of an earlier try.
    pub fn keep_seen_of(&mut self, cause: Cause) {
        self.seen = self.seen.filter(|seen| seen.cause() == cause);
    }

    /// A try begins to fail, by this answer or by none that is known.
    pub const fn set_seen(&mut self, seen: Option<FailureKind>) {
        self.seen = seen;
    }

    /// Its connection stands.
    pub const fn on_connected(&mut self, now: Mono) {
        self.milestones.connected = Some(now);
    }

    /// The session came this far.
    pub const fn on_progress(&mut self, now: Mono, progress: Progress) {
        let milestones = &mut self.milestones;
        match progress {
            Progress::Spoke => milestones.spoke = Some(now),
            Progress::SignInAsked => milestones.sign_in_asked = Some(now),
            Progress::SignedIn { digest } => milestones.signed_in = Some((now, digest)),
            Progress::Described => milestones.described = Some(now),
            Progress::SetUp(transport) => milestones.set_up = Some((now, transport)),
        }
    }

    /// The session's state changed.
    pub fn on_session(&mut self, now: Mono, state: SessionState) {
        match &state {
            SessionState::Playing => {
                self.playing_since = Some(now);
                (self.last_failure, self.seen) = (None, None);
            }
            SessionState::Failed { cause, text, .. } => {
                self.dropouts.on_session_lost(now, *cause);
                self.last_failure = Some((*cause, text.clone()));
            }
            SessionState::Locked { .. } => self.dropouts.on_session_lost(now, Cause::SignIn),
            SessionState::Resting => self.dropouts.pause(),
            SessionState::Connecting => {}
        }
        self.session = state;
    }

    /// The session's state.
    #[must_use]
    pub const fn session(&self) -> &SessionState {
        &self.session
    }

    /// A session begins to deliver this.
    pub fn on_playing(&mut self, now: Mono, video: &Video, transport: Transport) {
        if self.video.as_ref().is_none_or(|have| have.clock_rate != video.clock_rate) {
            self.jitter = Jitter::new(video.clock_rate);
        }
        self.clock = CaptureClock::new(video.clock_rate);
        self.sent = MediaRate::new(video.clock_rate);
        self.video = Some(video.clone());
        self.audio.clone_from(&video.audio);
        (self.inner_codec, self.transport_stream) = (None, None);
        (self.no_media_clock, self.still) = (false, None);
        self.transport = Some(transport);
        self.milestones.playing = Some(now);
        if self.first_playing.is_none() {
            self.first_playing = Some(now);
            // What failed before is told already, until its first picture.
            if self.last_failure.is_none() {
                self.dropouts.on_opened(now);
            }
        }
        self.pulse.begin(now);
        self.picture_in_session = false;
        self.refusing_since = None;
        self.arrived.clear();
        self.on_restart();
        self.on_session(now, SessionState::Playing);
    }

    /// A new sequence of packets and timestamps begins.
    pub fn on_restart(&mut self) {
        self.jitter.restart();
        self.sent.restart();
        self.keyframes.restart();
        self.latency.restart();
        self.flash.on_restart();
        self.arrivals.restart();
        (self.picture_timestamp, self.unit_timestamp) = (None, None);
        if let Some(video) = &self.video {
            self.clock = CaptureClock::new(video.clock_rate);
        }
    }

    /// A packet of the stream arrived.
    pub fn on_packet(&mut self, arrival: Mono, payload_bytes: usize) {
        self.silent_since_picture |= self.last_packet.is_some() && !self.packets_flow(arrival);
        self.last_packet = Some(arrival);
        self.milestones.first_packet.get_or_insert(arrival);
        self.bitrate.on_bytes(arrival, payload_bytes);
    }

    /// What a transport stream showed so far.
    pub fn on_transport_stream(&mut self, demux: &Demux) {
        self.transport_stream = Some(demux.counts());
        if self.inner_codec.as_ref() != demux.codec() {
            self.inner_codec = demux.codec().cloned();
            self.audio = demux.audio().iter().map(|name| (*name).to_owned()).collect();
        }
    }

    /// The codec, as far in as it is known.
    fn codec(&self) -> Option<&Codec> {
        self.inner_codec.as_ref().or_else(|| self.video.as_ref().map(|video| &video.codec))
    }

    /// A session begins; whether it is encrypted by a key that is not known.
    pub const fn on_protection(&mut self, key_unknown: bool) {
        self.key_unknown = key_unknown;
        self.authentic = (0, 0);
    }

    /// A protected packet came; whether it fits the key.
    pub const fn on_authentic(&mut self, fits: bool) {
        if fits {
            self.authentic.0 += 1;
        } else {
            self.authentic.1 += 1;
            self.dropped.not_authentic += 1;
        }
    }

    /// Packets come and not one fits the key: the key is wrong, the stream is not broken.
    const fn key_is_wrong(&self) -> bool {
        self.authentic.0 == 0 && self.authentic.1 >= WRONG_KEY
    }

    /// Its packets are scrambled and no picture can come of them.
    fn key_needed(&self) -> bool {
        self.key_unknown
            || self.key_is_wrong()
            || self.transport_stream.is_some_and(|ts| ts.scrambled > 0 && ts.scrambled == ts.packets)
    }

    /// The parameter set in force.
    pub fn on_parameters(&mut self, now: Mono, parameters: &Parameters) {
        self.milestones.parameters.get_or_insert(now);
        self.size = Some((parameters.width, parameters.height));
        self.profile = Some(parameters.profile);
        self.unusual = parameters.unusual;
        self.declared_by_stream = parameters.declared;
        self.events.on_parameters(now, (parameters.width, parameters.height), self.declared());
    }

    /// An access unit came; `displayable` when its picture can be shown as the truth.
    pub fn on_unit(&mut self, now: Mono, unit: &AccessUnit, displayable: bool) {
        self.frames.received += 1;
        self.frames.damaged += u64::from(unit.damaged);
        if unit.damaged && !unit.gap_before && self.packets().lost == 0 {
            self.on_damage(now);
        }
        if !self.no_media_clock && self.leaps(unit) {
            self.on_leap(unit);
        }
        self.unit_timestamp = Some(unit.timestamp);
        self.arrived.on_event(unit.last_arrival);
        self.sent.on_unit(unit.last_arrival, unit.timestamp, unit.gap_before);
        self.clock.on_unit(unit.last_arrival, unit.timestamp);
        self.note_picture_lag(unit);
        self.latency.on_unit(unit.number, unit.timestamp, unit.last_arrival, unit.finished);
        if self.playout != Playout::AtOnce {
            self.arrivals.on_unit(unit.last_arrival, unit.timestamp);
        }
        while self.deliveries.len() >= DELIVERIES
            || self.deliveries.front().is_some_and(|(at, _)| unit.last_arrival.since(*at) > BUSY_OVER)
        {
            self.deliveries.pop_front();
        }
        self.deliveries.push_back((unit.last_arrival, unit.last_arrival.since(unit.first_arrival)));
        let kind = if unit.keyframe { 0 } else { 1 + usize::from(unit.bipredictive) };
        for (index, bitrate) in self.by_kind.iter_mut().enumerate() {
            bitrate.on_bytes(unit.last_arrival, if index == kind { unit.bytes } else { 0 });
        }
        if unit.keyframe {
            self.keyframe_at = Some(unit.last_arrival);
        }
        if unit.keyframe
            && let Some(video) = &self.video
        {
            self.keyframes.on_keyframe(video.clock_rate, unit.number, unit.timestamp);
        }
        self.picture_in_session |= displayable;
        if displayable {
            self.first_displayable.get_or_insert(now);
            if !self.decodes {
                self.milestones.first_picture.get_or_insert(now);
            }
            let rate = self.rate(now);
            self.dropouts.set_rate(rate);
            // The hold for order is ours, the dropout is the stream's: arrival counts.
            self.dropouts.begin_where_due(unit.last_arrival);
            self.note_stall(unit.last_arrival);
            let lost = self.packets().lost.saturating_sub(self.lost_at_picture);
            let media = self.media_since_picture(unit.timestamp);
            self.dropouts.on_displayable(unit.last_arrival, lost, media);
            self.lost_at_picture = self.packets().lost;
            self.picture_timestamp = Some(unit.timestamp);
            self.silent_since_picture = false;
            self.pulse.on_frame(unit.last_arrival);
        }
        // Only now: why pictures were missing before this one depends on the one before it.
        self.last_unit_clean = displayable;
    }

    /// Whether this unit's timestamp is beyond what any path explains: before the last ones, or earlier than the quickest
    /// frame of the last minute could have come.
    fn leaps(&self, unit: &AccessUnit) -> bool {
        let far = LEAP.as_micros() as i64;
        let back = self.unit_timestamp.is_some_and(|last| self.clock.media_micros(last - unit.timestamp) > far);
        back || self.clock.ahead_of_least(unit.last_arrival, unit.timestamp).is_some_and(|ahead| ahead > far)
    }

    /// The timestamps go on from elsewhere: what they are mapped to begins anew.
    fn on_leap(&mut self, unit: &AccessUnit) {
        let by = self.unit_timestamp.map(|last| self.clock.media_micros(unit.timestamp - last));
        self.events.on_leap(unit.last_arrival, by);
        self.on_restart();
    }

    /// The decoder gave this unit's picture; `damaged` when it cannot be believed.
    pub fn on_decoded(&mut self, number: u64, at: Mono, damaged: bool) {
        self.frames.decoded += 1;
        self.frames.unclean += u64::from(damaged);
        self.first_decoded.get_or_insert(at);
        if !damaged {
            self.milestones.first_picture.get_or_insert(at);
        }
        self.refusing_since = None;
        self.last_decoded = Some(at);
        self.decoded.on_event(at);
        self.latency.on_decoded(number, at);
    }

    /// Its picture was looked at. What it shows of a flash probe is not what it usually sees.
    pub fn on_glance(&mut self, glance: Arc<Glance>) {
        if !self.flash.disturbs(glance.at) {
            self.sight.on_glance(glance);
        }
    }

    /// From where on figures are a strain.
    pub const fn set_thresholds(&mut self, thresholds: Thresholds) {
        self.thresholds = thresholds;
    }

    /// This unit's picture was written to the terminal.
    pub fn on_drawn(&mut self, number: u64, at: Mono) {
        self.frames.drawn += 1;
        self.shown.on_event(at);
        self.latency.on_drawn(number, at);
        self.flash.on_drawn(number, at);
    }

    /// The stream came onto a screen, or left all of them.
    pub fn on_visible(&mut self, now: Mono, visible: bool) {
        if visible != self.on_screen.is_some() {
            self.on_screen = visible.then_some(now);
            self.decoded.clear();
            self.shown.clear();
        }
    }

    /// What became of requests for keyframes, and whether one is wanted that RTCP cannot ask for.
    pub const fn set_keyframes_asked(&mut self, told: Option<Asked>, wanted_otherwise: bool) {
        self.keyframes_asked = (told, wanted_otherwise);
    }

    /// Why no decoder gets what comes, where that is so: its pictures are too large, say.
    pub fn set_barred(&mut self, why: Option<&str>) {
        if self.barred.as_deref() != why {
            self.barred = why.map(str::to_owned);
        }
    }

    /// The decoder refused a unit that arrived whole.
    pub fn on_refused(&mut self, now: Mono) {
        self.on_damage(now);
        self.refusing_since.get_or_insert(now);
    }

    /// The decoder ended while it worked on this stream, which it served beside so many others.
    pub fn on_decoder_failed(&mut self, at: Mono, how: &str, others: usize) {
        self.decoder_failed = Some(at);
        self.events.on_decoder_failed(at, how, others);
    }

    /// The decoder made up parts of a unit that arrived whole.
    pub fn on_concealed(&mut self, now: Mono) {
        self.on_damage(now);
    }

    fn on_damage(&mut self, now: Mono) {
        self.damage_without_loss = Some(now);
        self.damage.on(now, now);
    }

    /// The other end was asked at `since` and has not answered; `cause` is what that will be called.
    pub const fn set_unanswered(&mut self, unanswered: Option<(Mono, Cause)>) {
        self.unanswered = unanswered;
    }

    /// Media time since the last displayable picture, by its timestamp; `None` where timestamps tell nothing.
    fn media_since_picture(&self, timestamp: i64) -> Option<Duration> {
        let before = self.picture_timestamp.filter(|_| !self.no_media_clock)?;
        let micros = self.video.as_ref()?.clock_rate.micros(Ticks(timestamp - before));
        u64::try_from(micros).ok().map(Duration::from_micros)
    }

    /// Whether a displayable picture has come since the session began to play.
    #[must_use]
    pub fn has_picture(&self) -> bool {
        self.session == SessionState::Playing && self.picture_in_session
    }

    /// Access units were discarded before the decoder.
    pub const fn on_units_skipped(&mut self, count: u64) {
        self.dropped.units_skipped += count;
    }
}

/// Not so long ago that it would explain nothing any more.
fn recently(now: Mono, at: Option<Mono>) -> bool {
    at.is_some_and(|at| now.since(at) < Duration::from_secs(10))
}
