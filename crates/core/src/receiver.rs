//! One stream's packets into access units, each station telling the meter.

mod ask;
mod beside;

pub use ask::{Asked, KeyframeAsk};

use crate::meter::{Dropped, Meter};
use crate::rtcp::{self, Reporter, RtcpPacket, SenderReport};
use crate::rtp::{Arrival, ExtSeq, Offer, Passage, PayloadType, Ready, Reorder, RtpPacket, Ssrc, TimestampUnwrapper};
use crate::sdp::{Codec, Video};
use crate::sound::{Ear, MakeDecoder, Track};
use crate::srtp::{MasterKey, NotAuthentic, Protection};
use crate::video::{AccessUnit, Assembler, CleanPoint, MAX_PIXELS, Ordered, Parameters, WholeUnit};
use crate::{ClockRate, FrameRate, Mono, Ticks, Transport};
use std::borrow::Cow;
use std::net::SocketAddr;
use std::time::Duration;

/// An access unit and whether its picture can be shown as the truth.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unit {
    /// The access unit.
    pub unit: AccessUnit,
    /// Whole, and so is everything it depends on.
    pub displayable: bool,
    /// When it is to go on to the decoder; `None` is at once.
    pub due: Option<Mono>,
}

/// Least and longest wait for a packet that is out of order; between them four times the jitter.
const LEAST_WAIT: Duration = Duration::from_millis(40);
const LONGEST_WAIT: Duration = Duration::from_millis(200);
/// A new SSRC is followed at once after this much silence of the old one.
const QUIET: Duration = Duration::from_millis(200);
/// Otherwise after this many packets of strangers in a row.
const STRANGERS: usize = 8;
/// Payload types from here on are given by a description (RFC 3551, 6).
const FIRST_DYNAMIC: u8 = 96;

#[derive(Debug)]
struct Waiting {
    payload: Vec<u8>,
    timestamp: i64,
    marker: bool,
    arrival: Mono,
}

impl Waiting {
    fn borrow(&self, ssrc: Ssrc) -> Ours<'_> {
        let Self { payload, timestamp, marker, arrival } = self;
        Ours { ssrc, payload, timestamp: *timestamp, marker: *marker, arrival: *arrival }
    }
}

/// A packet of the stream that is followed, its timestamp unwrapped.
#[derive(Clone, Copy)]
struct Ours<'a> {
    ssrc: Ssrc,
    payload: &'a [u8],
    timestamp: i64,
    marker: bool,
    arrival: Mono,
}

/// Packets of the largest pictures.
const ONE_PICTURE: u64 = 1000;
/// By how much the rate of packets may be above its mean.
const BURST: f64 = 4.0;
/// A sender that said that it leaves has left when nothing more came for this long.
const LEAVES: Duration = Duration::from_secs(1);

/// Others that send are told of for this long.
const TOLD_FOR: Duration = Duration::from_secs(30);

/// What an SSRC makes a packet.
enum Whose {
    /// Of the stream that is followed.
    Ours,
    /// Of another one.
    Stranger,
    /// Of the one that is followed from now on.
    Successor,
}

#[derive(Debug)]
struct Stream {
    protection: Protection,
    /// When a packet came last, whether it could be read or not.
    heard: Option<Mono>,
    payload_type: PayloadType,
    /// Packets of another payload type, one after the other, while none of the described one has come.
    foreign: Option<(PayloadType, usize)>,
    clock_rate: ClockRate,
    transport: Transport,
    ssrc: Option<Ssrc>,
    /// Packets of another SSRC in a row, kept in case it takes over; fewer than [`STRANGERS`].
    strangers: Vec<(Mono, Vec<u8>)>,
    stranger: Option<Ssrc>,
    /// A packet far off the sequence with its number, kept in case the next one follows it.
    jumped: Option<(u16, Waiting)>,
    /// Packets accepted, and since when.
    accepted: (u64, Mono),
    /// The sender said that it leaves.
    left: Option<Mono>,
    /// Who else sent, and when.
    other_sender: Option<(SocketAddr, Mono)>,
    unwrapper: TimestampUnwrapper,
    last: Option<(i64, Mono)>,
    reorder: Reorder<Waiting>,
    assembler: Assembler,
    clean: CleanPoint,
    /// No picture can be shown before the next keyframe.
    wants_keyframe: bool,
    /// A keyframe came whole.
    keyframe_at: Option<Mono>,
    gap: bool,
    reporter: Reporter,
    /// A report that came before the first packet, whose timestamps it needs.
    early_report: Option<(SenderReport, Mono)>,
}

/// Receives one stream over all its sessions.
#[derive(Debug)]
pub struct Receiver {
    meter: Meter,
    key: Option<MasterKey>,
    stream: Option<Stream>,
    sound: Option<Track>,
    make_decoder: Option<MakeDecoder>,
    ear: Ear,
    our_ssrc: Ssrc,
    next_number: u64,
    keep_data: bool,
    limit: u64,
    ask: KeyframeAsk,
    /// A decoder cannot go on before the next keyframe.
    decoder_waits: bool,
}

impl Receiver {
    /// A receiver that has no session yet. `our_ssrc` is any random number.
    #[must_use]
    pub fn new(meter: Meter, our_ssrc: Ssrc, keep_data: bool) -> Self {
        Self {
            meter,
            key: None,
            stream: None,
            sound: None,
            make_decoder: None,
            ear: Ear::default(),
            our_ssrc,
            next_number: 0,
            keep_data,
            limit: MAX_PIXELS,
            ask: KeyframeAsk::default(),
            decoder_waits: false,
        }
    }

    /// The key of an encrypted stream whose description brings none, or another.
    pub fn set_key(&mut self, key: Option<MasterKey>) {
        self.key = key;
    }

    /// Most pixels of a picture that is decoded.
    pub const fn set_limit(&mut self, pixels: u64) {
        self.limit = pixels;
    }

    /// The number of the next access unit.
    pub const fn count_from(&mut self, number: u64) {
        self.next_number = number;
    }

    /// The meter.
    pub const fn meter(&mut self) -> &mut Meter {
        &mut self.meter
    }

    /// A session plays.
    pub fn begin(&mut self, now: Mono, video: &Video, transport: Transport) {
        self.forget_sound();
        let protection = Protection::agreed(self.key.as_ref(), video.secure, &video.crypto);
        // What cannot be deciphered is measured by what is readable: numbers, timestamps, markers.
        let codec = if protection.is_unknown() { &Codec::Other(String::new()) } else { &video.codec };
        let mut assembler = Assembler::within(codec, &video.parameter_sets, self.limit);
        assembler.keep_data(self.keep_data);
        assembler.described_size(video.dimensions);
        assembler.count_from(self.next_number);
        self.meter.on_playing(now, video, transport);
        self.ask.begin(video.feedback);
        if let Some(parameters) = assembler.parameters() {
            self.meter.on_parameters(now, parameters);
        }
        self.meter.sequence.restart();
        self.meter.on_protection(protection.is_unknown());
        self.stream = Some(Stream {
            protection,
            heard: None,
            payload_type: PayloadType(video.payload_type),
            foreign: None,
            clock_rate: video.clock_rate,
            transport,
            ssrc: None,
            strangers: Vec::new(),
            stranger: None,
            jumped: None,
            accepted: (0, now),
            left: None,
            other_sender: None,
            unwrapper: TimestampUnwrapper::default(),
            last: None,
            reorder: Reorder::default(),
            assembler,
            clean: CleanPoint::default(),
            wants_keyframe: false,
            keyframe_at: None,
            gap: false,
            reporter: Reporter::new(now, &self.meter.sequence),
            early_report: None,
        });
    }

    /// A session of JPEG pictures without timestamps plays; `still` says how often one is fetched.
    pub fn begin_pictures(&mut self, now: Mono, declared: Option<FrameRate>, still: Option<Duration>) {
        let video = Video { declared, ..Video::of(Codec::Jpeg) };
        self.begin(now, &video, Transport::Http);
        self.meter.without_media_clock(still);
    }

    /// A whole picture came, from `first_arrival` to `now`.
    pub fn on_picture(&mut self, now: Mono, first_arrival: Mono, bytes: &[u8], sink: &mut impl FnMut(Unit)) {
        let (meter, Some(stream)) = (&mut self.meter, &mut self.stream) else { return };
        meter.on_packet(now, bytes.len());
        stream.last = Some((0, now));
        // Its arrival is all the time that it has.
        let timestamp = stream.clock_rate.ticks(now.as_micros() as i64).0;
        let unit =
            WholeUnit { bytes, timestamp, damaged: false, gap_before: false, first_arrival, last_arrival: now, packets: 1 };
        let Some(unit) = stream.assembler.whole(now, unit) else { return };
        if let Some(parameters) = stream.assembler.parameters() {
            meter.on_parameters(now, parameters);
        }
        let displayable = stream.clean.on_access_unit(&unit);
        meter.set_barred(stream.assembler.barred());
        meter.on_unit(now, &unit, displayable);
        sink(Unit { due: meter.due(&unit), unit, displayable });
    }

    /// The session is over.
    pub fn end(&mut self) {
        if let Some(stream) = self.stream.take() {
            self.meter.set_awaited(0);
            self.next_number = stream.assembler.next_number();
        }
    }

    /// When the last packet of this session arrived.
    #[must_use]
    pub fn last_packet(&self) -> Option<Mono> {
        self.stream.as_ref().and_then(|stream| stream.heard.max(stream.last.map(|(_, at)| at)))
    }

    /// An RTP packet that arrived at `arrival` is handled at `now`; units go to `sink`.
    pub fn on_rtp(&mut self, now: Mono, arrival: Mono, bytes: &[u8], sink: &mut impl FnMut(Unit)) {
        let (meter, Some(stream)) = (&mut self.meter, &mut self.stream) else { return };
        stream.heard = Some(arrival);
        let Ok(plain) = stream.protection.open(bytes) else { return meter.on_authentic(false) };
        if matches!(plain, Cow::Owned(_)) {
            meter.on_authentic(true);
        }
        stream.on_packet(meter, now, arrival, &plain, sink);
    }

    /// Bytes of a transport stream that came without RTP.
    pub fn on_transport_stream(&mut self, now: Mono, arrival: Mono, bytes: &[u8], sink: &mut impl FnMut(Unit)) {
        let (meter, Some(stream)) = (&mut self.meter, &mut self.stream) else { return };
        if matches!(stream.protection, Protection::Srtp(_)) {
            stream.heard = Some(arrival);
            return meter.on_authentic(false); // a key was given, and this is readable to anyone
        }
        meter.on_packet(arrival, bytes.len());
        stream.last = Some((0, arrival));
        let packet = Ordered { payload: bytes, timestamp: 0, marker: false, arrival, gap_before: false };
        stream.assemble(meter, now, packet, sink);
    }

    /// An RTCP compound arrived.
    pub fn on_rtcp(&mut self, arrival: Mono, bytes: &[u8]) {
        let Some(stream) = &mut self.stream else { return };
        let plain = match stream.protection.open_rtcp(bytes) {
            Ok(Some(plain)) => plain,
            Ok(None) => return,
            Err(NotAuthentic) => return self.meter.on_authentic(false),
        };
        let Ok(packets) = rtcp::parse(&plain) else {
            self.meter.dropped.not_rtp += 1;
            return;
        };
        for packet in packets {
            match packet {
                RtcpPacket::SenderReport(report, _) if stream.ssrc == Some(report.ssrc) => {
                    stream.reporter.on_sender_report(report.ntp, arrival);
                    stream.on_sender_report(&mut self.meter, &report, arrival);
                }
                RtcpPacket::SenderReport(report, _) if stream.ssrc.is_none() => stream.early_report = Some((report, arrival)),
                RtcpPacket::Bye(leaving) if stream.ssrc.is_some_and(|ssrc| leaving.contains(&ssrc)) => {
                    stream.left = Some(arrival);
                }
                _ => {}
            }
        }
    }

    /// Whether the sender said that it leaves, and nothing more came.
    #[must_use]
    pub fn has_left(&self, now: Mono) -> bool {
        self.stream.as_ref().is_some_and(|stream| {
            let last = stream.last.map_or(Mono::ZERO, |(_, at)| at);
            // Packets that were on their way may come after it; a stream that goes on has not left.
            stream.left.is_some_and(|left| last.since(left) < LEAVES && now.since(left.max(last)) >= LEAVES)
        })
    }

    /// A datagram came from an address that was not agreed: it is counted, named, and left out.
    pub fn on_other_sender(&mut self, arrival: Mono, from: SocketAddr) {
        self.meter.dropped.other_sender += 1;
        if let Some(stream) = &mut self.stream {
            stream.other_sender = Some((from, arrival));
        }
        let count = self.meter.dropped.other_sender;
        let packets = if count == 1 { "1 packet".to_owned() } else { format!("{count} packets") };
        self.meter.set_remark(Some(format!("{packets} from {from} left out: that is not the camera's address")));
    }

    /// Who sent datagrams from an address that was not agreed, in this session.
    #[must_use]
    pub fn other_sender(&self) -> Option<SocketAddr> {
        self.stream.as_ref()?.other_sender.map(|(from, _)| from)
    }

    /// The kernel dropped datagrams that we did not read in time.
    pub const fn on_kernel_drops(&mut self, count: u64) {
        self.meter.dropped.by_kernel += count;
    }

    /// Time went on: gaps are given up.
    pub fn tick(&mut self, now: Mono, sink: &mut impl FnMut(Unit)) {
        if let Some(stream) = &mut self.stream {
            stream.release(&mut self.meter, now, sink);
            // What is over is not told any more; it stays counted.
            if stream.other_sender.take_if(|(_, at)| now.since(*at) >= TOLD_FOR).is_some() {
                self.meter.set_remark(None);
            }
        }
    }

    /// When [`Receiver::tick`] is due for the sake of order.
    #[must_use]
    pub fn deadline(&self) -> Option<Mono> {
        let stream = self.stream.as_ref()?;
        stream.reorder.deadline(stream.wait(&self.meter))
    }

    /// A compound with a receiver report, when one is due.
    pub fn poll_report(&mut self, now: Mono) -> Option<Vec<u8>> {
        let open = |stream: &&mut Stream| stream.reporter.is_due(now) && !stream.protection.is_unknown();
        let stream = self.stream.as_mut().filter(open)?;
        let Meter { sequence, jitter, .. } = &self.meter;
        let out = stream.reporter.compound(now, self.our_ssrc, stream.ssrc, sequence, jitter.ticks());
        Some(stream.protection.close_rtcp(out))
    }

    /// A compound with a request for a keyframe, when one is due.
    pub fn poll_keyframe_request(&mut self, now: Mono) -> Option<Vec<u8>> {
        let stream = self.stream.as_mut()?;
        let media = stream.ssrc.filter(|_| !stream.protection.is_unknown())?;
        if stream.wants_keyframe || self.decoder_waits {
            self.ask.want();
        } else {
            self.ask.satisfied();
        }
        if let Some(at) = stream.keyframe_at.take() {
            self.decoder_waits = false;
            self.ask.on_keyframe(at);
        }
        let mut request = Vec::new();
        let due = self.ask.poll(now, self.our_ssrc, media, &mut request);
        self.meter.set_keyframes_asked(self.ask.told(), self.ask.is_wanted_otherwise());
        if !due {
            return None;
        }
        // A compound begins with a report (RFC 3550 §6.1).
        let mut out = Vec::with_capacity(64);
        rtcp::emit_receiver_report(self.our_ssrc, &[], &mut out);
        rtcp::emit_canonical_name(self.our_ssrc, "viewer", &mut out);
        out.extend(request);
        Some(stream.protection.close_rtcp(out))
    }

    /// A decoder ended while it worked on this stream; `waits` where the next one can only begin with a keyframe.
    pub fn on_decoder_failed(&mut self, at: Mono, how: &str, others: usize, waits: bool) {
        self.decoder_waits |= waits;
        self.meter.on_decoder_failed(at, how, others);
    }

    /// The device was asked for a keyframe in another way.
    pub fn on_keyframe_asked(&mut self, at: Mono) {
        self.ask.on_asked_otherwise(at);
    }

    /// Whether an access unit is half here: more packets are on their way.
    #[must_use]
    pub fn is_mid_unit(&self) -> bool {
        self.stream.as_ref().is_some_and(|stream| stream.assembler.is_mid_unit())
    }

    /// What the parameter sets in force say.
    #[must_use]
    pub fn parameters(&self) -> Option<&Parameters> {
        self.stream.as_ref().and_then(|stream| stream.assembler.parameters())
    }

    /// What we discarded so far.
    #[must_use]
    pub const fn dropped(&self) -> Dropped {
        self.meter.dropped
    }
}

impl Stream {
    fn wait(&self, meter: &Meter) -> Duration {
        match self.transport {
            // TCP keeps order: what is missing was never sent.
            Transport::Tcp | Transport::Http => Duration::ZERO,
            Transport::Udp => (meter.jitter.value().unwrap_or_default() * 4).clamp(LEAST_WAIT, LONGEST_WAIT),
        }
    }

    fn on_packet(&mut self, meter: &mut Meter, now: Mono, arrival: Mono, bytes: &[u8], sink: &mut impl FnMut(Unit)) {
        let Ok(packet) = RtpPacket::parse(bytes) else {
            meter.dropped.not_rtp += 1;
            return;
        };
        if packet.payload_type != self.payload_type && !self.adopts(meter, packet.payload_type) {
            meter.dropped.payload_type += 1;
            return;
        }
        match self.whose(meter, packet.ssrc, arrival) {
            Whose::Ours => self.forget_strangers(meter),
            Whose::Stranger => return self.strangers.push((arrival, bytes.to_vec())),
            Whose::Successor => {
                for (arrival, bytes) in std::mem::take(&mut self.strangers) {
                    if let Ok(packet) = RtpPacket::parse(&bytes) {
                        self.on_our_packet(meter, now, arrival, packet, sink);
                    }
                }
            }
        }
        self.on_our_packet(meter, now, arrival, packet, sink);
    }

    fn on_our_packet(&mut self, meter: &mut Meter, now: Mono, arrival: Mono, packet: RtpPacket<'_>, sink: &mut impl FnMut(Unit)) {
        let timestamp = self.unwrapper.unwrap(packet.timestamp);
        let RtpPacket { marker, payload, .. } = packet;
        let judged = meter.sequence.on_packet(packet.seq, self.passage(timestamp, arrival));
        // One that stood far off the sequence is believed when this one follows it.
        let before = match self.jumped.take() {
            Some((seq, before)) if seq.wrapping_add(1) == packet.seq.0 => Some(before),
            Some(_) => {
                meter.dropped.jump += 1;
                None
            }
            None => None,
        };
        let ours = Ours { ssrc: packet.ssrc, payload, timestamp, marker, arrival };
        match judged {
            Arrival::First(ext) => {
                self.restart_order(meter);
                if let Some(before) = before
                    && let Some(ext) = meter.sequence.begin_one_earlier()
                {
                    self.accept(meter, now, ext, before.borrow(packet.ssrc), sink);
                }
                self.accept(meter, now, ext, ours, sink);
            }
            Arrival::InOrder(ext) | Arrival::Ahead(ext, _) | Arrival::Late(ext) => {
                if let Some(before) = before
                    && let Some(ext) = meter.sequence.take_one_earlier()
                {
                    self.accept(meter, now, ext, before.borrow(packet.ssrc), sink);
                }
                self.accept(meter, now, ext, ours, sink);
            }
            Arrival::Duplicate => {}
            Arrival::TooOld => meter.dropped.too_late += 1,
            Arrival::Jump => {
                self.jumped = Some((packet.seq.0, Waiting { payload: payload.to_vec(), timestamp, marker, arrival }));
            }
        }
    }

    fn accept(&mut self, meter: &mut Meter, now: Mono, ext: ExtSeq, ours: Ours<'_>, sink: &mut impl FnMut(Unit)) {
        let Ours { ssrc, payload, timestamp, marker, arrival } = ours;
        meter.on_packet(arrival, payload.len());
        meter.jitter.on_packet(timestamp, arrival);
        self.last = Some((timestamp, arrival));
        self.accepted.0 += 1;
        if let Some((report, at)) = self.early_report.take_if(|(report, _)| report.ssrc == ssrc) {
            self.on_sender_report(meter, &report, at);
        }
        match self.reorder.offer(ext) {
            Offer::Pass => {
                let gap_before = std::mem::take(&mut self.gap);
                self.assemble(meter, now, Ordered { payload, timestamp, marker, arrival, gap_before }, sink);
            }
            Offer::Hold => self.reorder.hold(now, ext, Waiting { payload: payload.to_vec(), timestamp, marker, arrival }),
            Offer::TooLate => meter.dropped.too_late += 1,
        }
        self.release(meter, now, sink);
    }

    fn on_sender_report(&self, meter: &mut Meter, report: &SenderReport, arrival: Mono) {
        let timestamp = self.unwrapper.clone().unwrap(report.rtp_timestamp);
        let wall = meter.clocks().wall_at(arrival);
        meter.clock.on_sender_report(wall, report.ntp, timestamp);
    }

    fn release(&mut self, meter: &mut Meter, now: Mono, sink: &mut impl FnMut(Unit)) {
        let wait = self.wait(meter);
        while let Some(ready) = self.reorder.poll(now, wait) {
            match ready {
                Ready::Gap(_) => (self.gap, self.wants_keyframe) = (true, true),
                Ready::Packet(Waiting { payload, timestamp, marker, arrival }) => {
                    let gap_before = std::mem::take(&mut self.gap);
                    self.assemble(meter, now, Ordered { payload: &payload, timestamp, marker, arrival, gap_before }, sink);
                }
            }
        }
        meter.set_awaited(self.reorder.awaited());
    }

    fn assemble(&mut self, meter: &mut Meter, now: Mono, packet: Ordered<'_>, sink: &mut impl FnMut(Unit)) {
        for unit in self.assembler.push(now, packet) {
            if unit.keyframe
                && let Some(parameters) = self.assembler.parameters()
            {
                meter.on_parameters(now, parameters);
            }
            let displayable = self.clean.on_access_unit(&unit);
            self.wants_keyframe = !displayable;
            if unit.keyframe && displayable {
                self.keyframe_at = Some(now);
            }
            meter.on_unit(now, &unit, displayable);
            sink(Unit { due: meter.due(&unit), unit, displayable });
        }
        meter.set_barred(self.assembler.barred());
        if let Some(demux) = self.assembler.transport_stream() {
            meter.on_transport_stream(demux);
        }
    }

    /// What time says of a packet: how many can have come since the last one, where its timestamp advanced about as much as
    /// time did.
    fn passage(&self, timestamp: i64, arrival: Mono) -> Passage {
        let Some((last, at)) = self.last else { return Passage::Unknown };
        let media = self.clock_rate.micros(Ticks(timestamp - last));
        let elapsed = arrival.micros_since(at);
        let (packets, since) = self.accepted;
        let watched = arrival.since(since).as_secs_f64();
        if (media - elapsed).abs() >= 2_000_000 || packets < 50 || watched <= 0.0 {
            return Passage::Unknown;
        }
        // Pictures come in bursts: several times the mean, and a large one at once.
        let seconds = media.max(elapsed).max(0) as f64 / 1e6;
        Passage::For(ONE_PICTURE + (BURST * packets as f64 / watched * seconds) as u64)
    }

    /// Some devices describe one payload type and send another: where nothing else comes, that is the stream.
    fn adopts(&mut self, meter: &mut Meter, other: PayloadType) -> bool {
        // Fixed types are sound and codecs of their own (RFC 3551, 6).
        if self.ssrc.is_some() || other.0 < FIRST_DYNAMIC {
            return false;
        }
        let before = self.foreign.filter(|(have, _)| *have == other).map_or(0, |(_, count)| count);
        self.foreign = Some((other, before + 1));
        if before + 1 < STRANGERS {
            return false;
        }
        let described = std::mem::replace(&mut self.payload_type, other);
        meter.set_remark(Some(format!("it sends payload type {} where its description says {}", other.0, described.0)));
        true
    }

    fn whose(&mut self, meter: &mut Meter, ssrc: Ssrc, arrival: Mono) -> Whose {
        if self.ssrc == Some(ssrc) {
            return Whose::Ours;
        }
        if self.stranger.replace(ssrc) != Some(ssrc) {
            self.forget_strangers(meter);
        }
        let quiet = self.last.is_none_or(|(_, last)| arrival.since(last) >= QUIET);
        if self.ssrc.is_some() && !quiet && self.strangers.len() + 1 < STRANGERS {
            return Whose::Stranger;
        }
        if self.ssrc.replace(ssrc).is_some() {
            self.unwrapper = TimestampUnwrapper::default();
            self.last = None;
            self.clean = CleanPoint::default();
            meter.sequence.restart();
            meter.on_restart();
            self.left = None;
            self.accepted = (0, arrival);
            self.reporter.restart(&meter.sequence);
        }
        Whose::Successor
    }

    /// Packets of an SSRC that did not take over were none of ours.
    fn forget_strangers(&mut self, meter: &mut Meter) {
        meter.dropped.stranger += self.strangers.len() as u64;
        self.strangers.clear();
    }

    fn restart_order(&mut self, meter: &mut Meter) {
        self.reorder.restart();
        meter.set_awaited(0);
        self.assembler.restart();
        if self.last.is_some() {
            meter.on_restart();
            self.clean = CleanPoint::default();
        }
        self.gap = false;
    }
}

#[cfg(test)]
mod tests;
