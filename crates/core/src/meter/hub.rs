//! The meter of one stream: holds the parts, routes what stations report, reads them all at once.

use super::capture::CaptureTimes;
use super::flash::{FlashMeter, FlashStep};
use super::{
    Bitrate, DropoutMeter, Dropped, EventRate, Figures, FrameCounts, KeyframeMeter, LatencyMeter, MediaRate, Milestones, Pulse,
    RecentLoss,
};
use crate::clock::{CaptureClock, Offset, Told};
use crate::event::EventLog;
use crate::flash::CELLS;
use crate::playout::{ArrivalMeter, LONGEST, Playout};
use crate::rtp::{Jitter, SequenceCounts, SequenceTracker};
use crate::rtsp::Progress;
use crate::sdp::{Codec, Video};
use crate::sight::{Glance, SightMeter};
use crate::thresholds::Thresholds;
use crate::ts::{Demux, TsCounts};
use crate::verdict::{BUSY, Evidence, Judge, SessionState, stall_cause};
use crate::video::{AccessUnit, Parameters};
use crate::{Cause, ClockPair, ClockRate, FrameRate, Mono, Ticks, Transport, Verdict};
use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

/// Everything measured of one stream, over all its sessions.
#[derive(Debug)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
pub struct Meter {
    started: Mono,
    session: SessionState,
    /// Why the last try failed, until one succeeds.
    last_failure: Option<(Cause, String)>,
    milestones: Milestones,
    judge: Judge,
    playing_since: Option<Mono>,
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
    /// What the stream is that decoders seldom take.
    unusual: Option<&'static str>,
    /// Since when something asked of the other end has had no answer, and what that would be.
    unanswered: Option<(Mono, Cause)>,
    /// The last rate that was known, declared or measured.
    known_rate: Option<FrameRate>,
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
    /// Packets lost until the last displayable picture.
    lost_at_picture: u64,
    /// Timestamp of the last displayable picture of this sequence.
    picture_timestamp: Option<i64>,
    events: EventLog,
    sight: SightMeter,
    /// Packets that came after their place was given up: how many by the last look, and when some came last.
    too_late: (u64, Option<Mono>),
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
            milestones: Milestones::default(),
            judge: Judge::default(),
            playing_since: None,
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
            unusual: None,
            unanswered: None,
            known_rate: None,
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
            lost_at_picture: 0,
            picture_timestamp: None,
            events: EventLog::default(),
            sight: SightMeter::default(),
            too_late: (0, None),
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
                self.last_failure = None;
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
        self.picture_timestamp = None;
        if let Some(video) = &self.video {
            self.clock = CaptureClock::new(video.clock_rate);
        }
    }

    /// A packet of the stream arrived.
    pub fn on_packet(&mut self, arrival: Mono, payload_bytes: usize) {
        self.silent_since_picture |= !self.packets_flow(arrival);
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
            self.damage_without_loss = Some(now);
        }
        self.arrived.on_event(unit.last_arrival);
        self.sent.on_unit(unit.last_arrival, unit.timestamp, unit.gap_before);
        self.clock.on_unit(unit.last_arrival, unit.timestamp);
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

    /// The decoder gave this unit's picture; `damaged` when it cannot be believed.
    pub fn on_decoded(&mut self, number: u64, at: Mono, damaged: bool) {
        self.frames.decoded += 1;
        self.frames.unclean += u64::from(damaged);
        self.first_decoded.get_or_insert(at);
        if !damaged {
            self.milestones.first_picture.get_or_insert(at);
        }
        self.refusing_since = None;
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

    /// The decoder refused a unit that arrived whole.
    pub fn on_refused(&mut self, now: Mono) {
        self.damage_without_loss = Some(now);
        self.refusing_since.get_or_insert(now);
    }

    /// The decoder made up parts of a unit that arrived whole.
    pub const fn on_concealed(&mut self, now: Mono) {
        self.damage_without_loss = Some(now);
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

    /// Declared rate, or the measured one where nothing is declared; in a silence the last one known.
    fn rate(&mut self, now: Mono) -> Option<FrameRate> {
        let rate = self.declared().or_else(|| self.sent.per_second(now).and_then(FrameRate::new));
        self.known_rate = rate.or(self.known_rate);
        self.known_rate
    }

    fn declared(&self) -> Option<FrameRate> {
        self.video.as_ref().and_then(|video| video.declared).or(self.declared_by_stream)
    }

    fn refuses(&self, now: Mono) -> bool {
        self.refusing_since.is_some_and(|since| now.since(since) >= REFUSES)
    }

    /// One sentence about what keeps pictures away, where the session itself did not fail.
    fn explain(&self, now: Mono) -> Option<String> {
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
            _ if matches!(codec, Codec::Other(_)) => Some(format!("{codec} is received and measured, but not decoded here")),
            Some(what) if self.refuses(now) => Some(format!("{codec} {what} is received and measured, but not decoded here")),
            None if self.refuses(now) => Some("the decoder refuses what arrives, though it arrives whole".into()),
            _ => None,
        }
    }

    fn packets_flow(&self, now: Mono) -> bool {
        self.last_packet.is_some_and(|last| now.since(last) < self.dropouts.threshold().min(Duration::from_secs(1)))
    }

    fn evidence(&self, now: Mono, figures: &Figures) -> Evidence {
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
            unknown_codec: matches!(self.codec(), Some(Codec::Other(_))) || (refused && self.unusual.is_some()),
            undecodable: refused,
            unanswered: unanswered.map(|(_, cause)| cause),
            playing_for: self.playing_since.map_or(Duration::ZERO, |since| now.since(since)),
            loss: figures.recent_loss,
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
            path_delay: figures.latency.map(|latency| latency.path.p95),
            finding: figures.sight.and_then(|sight| sight.finding),
        }
    }

    /// How slow the camera goes where it sends at all: declared distance of frames over the usual one.
    fn pace(&self) -> Option<f64> {
        let usual = self.sent.interval()?.as_secs_f64();
        (usual > 0.0).then(|| self.declared().map(|rate| rate.period().as_secs_f64() / usual)).flatten()
    }

    /// Since when frames are further apart than declared, or are not.
    fn turned(&self, further: bool) -> Option<Mono> {
        let limit = self.declared().filter(|_| !self.no_media_clock)?.period().mul_f64(SLOWER);
        self.sent.turned(limit, further)
    }

    fn link_busy(&self, now: Mono) -> Option<f64> {
        let recent = self.deliveries.iter().filter(|(at, _)| now.since(*at) <= BUSY_OVER);
        let took: Duration = recent.map(|(_, took)| (*took).min(BUSY_OVER)).sum();
        (!self.deliveries.is_empty()).then(|| (took.as_secs_f64() / BUSY_OVER.as_secs_f64()).min(1.0))
    }

    fn bitrate_by_kind(&self, now: Mono) -> Option<[crate::BitsPerSecond; 3]> {
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
        if self.dropped.too_late > self.too_late.0 {
            self.too_late = (self.dropped.too_late, Some(now));
        }
        self.note_stall(now);
    }

    /// Looks for the cause of a dropout that runs while the session lives.
    fn note_stall(&mut self, now: Mono) {
        if self.dropouts.running(now).is_none() || self.session != SessionState::Playing {
            return;
        }
        let lost = self.packets().lost > self.lost_at_picture;
        let too_late = recently(now, self.too_late.1);
        let evidence = Evidence {
            // What was lost was sent: a silence with a gap in the numbers is loss.
            packets_flow: lost || (self.packets_flow(now) && !self.silent_since_picture),
            loss: lost.then_some(1.0),
            awaiting_keyframe: !self.last_unit_clean,
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
            next_try,
            milestones: self.milestones,
            transport: self.transport,
            codec: self.codec().map(ToString::to_string),
            audio: self.audio.clone(),
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
            clock_off_micros: offset.filter(|offset| offset.clock_wrong).map(|offset| -offset.micros),
            ..Figures::default()
        };
        let evidence = self.evidence(now, &figures);
        self.dropouts.set_interval(self.sent.interval());
        let full = evidence.link_busy.is_some_and(|busy| busy > BUSY);
        self.dropouts.set_queued(full && evidence.path_delay.is_some_and(|delay| delay * 2 > self.thresholds.late));
        self.judge.thresholds = self.thresholds.at_rate(figures.declared);
        (figures.verdict, figures.cause) = self.judge.judge(now, &self.session, &evidence);
        if let (SessionState::Connecting, Some((cause, _))) = (&self.session, &self.last_failure) {
            // A try that has only begun does not make it any better.
            (figures.verdict, figures.cause) = (Verdict::Lost, Some(*cause));
        }
        self.events.observe(now, &figures, &evidence);
        figures.events = self.events.events();
        figures
    }
}

/// Not so long ago that it would explain nothing any more.
fn recently(now: Mono, at: Option<Mono>) -> bool {
    at.is_some_and(|at| now.since(at) < Duration::from_secs(10))
}
