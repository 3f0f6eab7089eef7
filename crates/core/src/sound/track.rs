//! One sound track's packets into levels.

use super::coding::Aac;
use super::{Coding, Decode, Ear, Heard, LevelMeter, MakeDecoder, Sound, SoundReading, SoundState, SoundWatch};
use crate::clock::CaptureClock;
use crate::meter::{Bitrate, RecentLoss};
use crate::rtcp::{self, Reporter, RtcpPacket, SenderReport};
use crate::rtp::{Arrival, Jitter, Passage, PayloadType, RtpPacket, SequenceTracker, Ssrc, TimestampUnwrapper};
use crate::srtp::{MasterKey, Protection};
use crate::{ClockPair, ClockRate, Mono, Wall};
use std::collections::VecDeque;
use std::time::Duration;

/// How long what was captured takes to arrive, by what the sender's clock says: the median of 2 s. Only the difference of two
/// of one sender means anything.
#[derive(Debug, Clone, Default)]
pub struct Lag {
    recent: VecDeque<(Mono, i64)>,
}

const LAG_OVER: Duration = Duration::from_secs(2);

impl Lag {
    /// Something that was captured at `claimed` arrived.
    pub fn on_arrival(&mut self, now: Mono, arrival: Wall, claimed: Option<Wall>) {
        let Some(claimed) = claimed else { return };
        while self.recent.front().is_some_and(|(at, _)| now.since(*at) > LAG_OVER) {
            self.recent.pop_front();
        }
        self.recent.push_back((now, arrival.micros_since(claimed)));
    }

    /// In microseconds; `None` where nothing came in the last 2 s, or nothing is claimed.
    #[must_use]
    pub fn micros(&self, now: Mono) -> Option<i64> {
        let mut all: Vec<i64> = self.recent.iter().filter(|(at, _)| now.since(*at) <= LAG_OVER).map(|(_, lag)| *lag).collect();
        all.sort_unstable();
        all.get(all.len() / 2).copied()
    }
}

/// A new SSRC is followed at once after this much silence of the old one, otherwise after so many packets in a row.
const QUIET: Duration = Duration::from_millis(200);
const STRANGERS: usize = 8;
/// So many units in a row that do not decode are no damage on the way.
const UNDECODABLE: u32 = 20;
/// Most access units of one packet, and most bytes of one that comes in pieces.
const MOST_UNITS: usize = 64;
const LONGEST_UNIT: usize = 65_536;
/// The clock is held against arrivals over this time, and lies by more than this share.
const CLOCK_OVER: Duration = Duration::from_secs(8);
const CLOCK_OFF: f64 = 0.05;

/// Receives one sound track over one session.
#[derive(Debug)]
pub struct Track {
    sound: Sound,
    protection: Protection,
    decoder: Option<Box<dyn Decode>>,
    /// Why there is no level, and since how many units in a row.
    unread: Option<String>,
    failed: u32,
    ssrc: Option<Ssrc>,
    stranger: Option<(Ssrc, usize)>,
    /// Packets of another type, one after the other.
    foreign: Option<(PayloadType, usize)>,
    heard: Option<Mono>,
    sequence: SequenceTracker,
    jitter: Jitter,
    loss: RecentLoss,
    bitrate: Bitrate,
    unwrapper: TimestampUnwrapper,
    clock: CaptureClock,
    lag: Lag,
    reporter: Reporter,
    early_report: Option<(SenderReport, Wall)>,
    levels: LevelMeter,
    watch: SoundWatch,
    samples: Vec<f32>,
    /// An access unit that comes in pieces: its timestamp, its size, what is there.
    piece: Option<(i64, usize, Vec<u8>)>,
    /// Where counting of the clock began: timestamp and arrival.
    counted: Option<(i64, Mono)>,
    /// The clock that it really has, where that is another one.
    real_hz: Option<u32>,
    adopted: Option<String>,
    ear: Ear,
    /// From capture to the screen, by the sender's clock, as pictures of the same sender take: microseconds.
    picture: Option<i64>,
}

impl Track {
    /// A track that plays from now on. `key` is what the operator gave for the stream.
    #[must_use]
    pub fn new(now: Mono, sound: Sound, key: Option<&MasterKey>, make: Option<MakeDecoder>) -> Self {
        let protection = Protection::agreed(key, sound.secure, &sound.crypto);
        let decoder = make.filter(|_| !sound.coding.is_plain()).and_then(|make| make(&sound));
        let unread = match (&protection, &sound.coding) {
            (Protection::Unknown, _) => Some("it is encrypted (SRTP) and no key is known".to_owned()),
            (_, coding) if coding.is_plain() || decoder.is_some() => None,
            (_, coding) => Some(format!("{coding} is received and measured, but its level is not read here")),
        };
        let (rate, sequence) = (sound.clock_rate, SequenceTracker::new());
        Self {
            levels: LevelMeter::new(sound.channels, rate.hz(), sound.coding.largest()),
            protection,
            decoder,
            unread,
            failed: 0,
            ssrc: None,
            stranger: None,
            foreign: None,
            heard: None,
            reporter: Reporter::new(now, &sequence),
            sequence,
            jitter: Jitter::new(rate),
            loss: RecentLoss::default(),
            bitrate: Bitrate::default(),
            unwrapper: TimestampUnwrapper::default(),
            clock: CaptureClock::new(rate),
            lag: Lag::default(),
            early_report: None,
            watch: SoundWatch::default(),
            samples: Vec::new(),
            piece: None,
            counted: None,
            real_hz: None,
            adopted: None,
            ear: Ear::default(),
            picture: None,
            sound,
        }
    }

    /// Who listens to it.
    #[must_use]
    pub fn with_ear(self, ear: Ear) -> Self {
        Self { ear, ..self }
    }

    /// From where on something is noticed.
    pub const fn set_limits(&mut self, limits: super::Limits) {
        self.watch.limits = limits;
    }

    /// How long pictures of the same sender take from capture to the screen, by its clock, in microseconds: sound is heard with them.
    pub const fn set_picture(&mut self, micros: Option<i64>) {
        self.picture = micros;
    }

    /// When a packet came last.
    #[must_use]
    pub const fn heard(&self) -> Option<Mono> {
        self.heard
    }

    /// An RTP packet arrived; `pair` are our two clocks.
    pub fn on_rtp(&mut self, pair: ClockPair, arrival: Mono, bytes: &[u8]) {
        let Ok(plain) = self.protection.open(bytes) else { return };
        let Ok(packet) = RtpPacket::parse(&plain) else { return };
        if !self.is_ours(packet.ssrc, arrival) {
            return;
        }
        self.heard = Some(arrival);
        let timestamp = self.unwrapper.unwrap(packet.timestamp);
        match self.sequence.on_packet(packet.seq, Passage::Unknown) {
            Arrival::First(_) | Arrival::InOrder(_) | Arrival::Late(_) => {}
            Arrival::Ahead(..) => self.piece = None,
            Arrival::Duplicate | Arrival::TooOld | Arrival::Jump => return,
        }
        self.bitrate.on_bytes(arrival, packet.payload.len());
        self.jitter.on_packet(timestamp, arrival);
        if let Some((report, at)) = self.early_report.take_if(|(report, _)| report.ssrc == packet.ssrc) {
            self.on_sender_report(&report, at);
        }
        let claimed = self.clock.claimed(timestamp);
        self.lag.on_arrival(arrival, pair.wall_at(arrival), claimed);
        self.check_clock(timestamp, arrival);
        let expected = packet.payload_type.0 == self.sound.payload_type || self.adopts(packet.payload_type);
        if expected && !self.protection.is_unknown() {
            let honest = self.real_hz.is_none();
            let took = claimed.filter(|_| honest).map(|claimed| pair.wall_at(arrival).micros_since(claimed));
            let due = self.picture.zip(took).map(|(picture, took)| arrival.offset(picture - took));
            self.on_payload(arrival, due, timestamp, packet.marker, packet.payload);
        }
    }

    /// An RTCP compound arrived.
    pub fn on_rtcp(&mut self, pair: ClockPair, arrival: Mono, bytes: &[u8]) {
        let Ok(Some(plain)) = self.protection.open_rtcp(bytes) else { return };
        for packet in rtcp::parse(&plain).unwrap_or_default() {
            let RtcpPacket::SenderReport(report, _) = packet else { continue };
            let wall = pair.wall_at(arrival);
            if self.ssrc == Some(report.ssrc) {
                self.reporter.on_sender_report(report.ntp, arrival);
                self.on_sender_report(&report, wall);
            } else if self.ssrc.is_none() {
                self.early_report = Some((report, wall));
            }
        }
    }

    /// A compound with a receiver report, when one is due.
    pub fn poll_report(&mut self, now: Mono, ours: Ssrc) -> Option<Vec<u8>> {
        if !self.reporter.is_due(now) || self.protection.is_unknown() {
            return None;
        }
        let out = self.reporter.compound(now, ours, self.ssrc, &self.sequence, self.jitter.ticks());
        Some(self.protection.close_rtcp(out))
    }

    /// Reads everything; `picture` is the lag of the pictures of the same sender.
    pub fn read(&mut self, now: Mono, picture: &Lag) -> SoundReading {
        let counts = self.sequence.counts();
        self.loss.sample(now, self.sequence.expected(), counts.received);
        let levels = self.levels.read(now);
        let clipped = self.levels.clipped(now);
        let noticed = if let Some(level) = levels.iter().copied().reduce(super::Level::louder) {
            self.watch.on_level(now, level, clipped)
        } else {
            self.watch.on_nothing();
            super::Noticed::default()
        };
        let lies = self.real_hz.map(|hz| {
            let says = self.sound.clock_rate.hz();
            format!("its clock runs at {hz} Hz where its description says {says} Hz: jitter and offset are not known")
        });
        let honest = lies.is_none();
        let offset = self.lag.micros(now).zip(picture.micros(now)).map(|(sound, picture)| sound - picture);
        SoundReading {
            state: self.unread.clone().map_or(SoundState::On, SoundState::Unread),
            coding: Some(self.sound.coding.to_string()),
            rate_hz: Some(self.sound.clock_rate.hz()),
            channels: Some(self.sound.channels),
            levels,
            clipped,
            packets: counts,
            recent_loss: self.loss.share(self.sequence.expected(), counts.received),
            jitter: self.jitter.value().filter(|_| honest),
            bitrate: self.bitrate.over(now, Duration::from_secs(10)),
            offset_micros: offset.filter(|_| honest),
            noticed,
            remark: lies.or_else(|| self.adopted.clone()),
        }
    }

    fn is_ours(&mut self, ssrc: Ssrc, arrival: Mono) -> bool {
        if self.ssrc == Some(ssrc) {
            self.stranger = None;
            return true;
        }
        let count = self.stranger.filter(|(other, _)| *other == ssrc).map_or(0, |(_, count)| count) + 1;
        let quiet = self.heard.is_none_or(|last| arrival.since(last) >= QUIET);
        if self.ssrc.is_some() && !quiet && count < STRANGERS {
            self.stranger = Some((ssrc, count));
            return false;
        }
        if self.ssrc.replace(ssrc).is_some() {
            self.sequence.restart();
            self.jitter.restart();
            self.reporter.restart(&self.sequence);
            (self.unwrapper, self.clock) = (TimestampUnwrapper::default(), CaptureClock::new(self.sound.clock_rate));
            (self.lag, self.counted, self.piece) = (Lag::default(), None, None);
        }
        self.stranger = None;
        true
    }

    fn on_sender_report(&mut self, report: &SenderReport, wall: Wall) {
        let timestamp = self.unwrapper.clone().unwrap(report.rtp_timestamp);
        self.clock.on_sender_report(wall, report.ntp, timestamp);
    }

    /// Holds the timestamps against the time that passes.
    fn check_clock(&mut self, timestamp: i64, arrival: Mono) {
        let (first, began) = *self.counted.get_or_insert((timestamp, arrival));
        let passed = arrival.since(began);
        if passed < CLOCK_OVER {
            return;
        }
        let hz = (timestamp - first) as f64 / passed.as_secs_f64();
        let says = f64::from(self.sound.clock_rate.hz());
        self.real_hz = ((hz - says).abs() > says * CLOCK_OFF).then_some((hz / 100.0).round().max(0.0) as u32 * 100);
        self.counted = Some((timestamp, arrival));
    }

    /// Some devices describe one coding and send the other law of G.711: where nothing else comes, that is the sound.
    fn adopts(&mut self, other: PayloadType) -> bool {
        let coding = match other.0 {
            0 => Coding::Pcmu,
            8 => Coding::Pcma,
            _ => return false,
        };
        let count = self.foreign.filter(|(have, _)| *have == other).map_or(0, |(_, count)| count) + 1;
        self.foreign = Some((other, count));
        if count < STRANGERS {
            return false;
        }
        let said = std::mem::replace(&mut self.sound.payload_type, other.0);
        self.adopted = Some(format!("it sends payload type {} where its description says {said}", other.0));
        (self.sound.channels, self.decoder, self.unread) = (1, None, None);
        self.sound.clock_rate = ClockRate::new(8000).unwrap_or(self.sound.clock_rate);
        self.levels = LevelMeter::new(1, 8000, coding.largest());
        self.sound.coding = coding;
        true
    }

    fn on_payload(&mut self, arrival: Mono, due: Option<Mono>, timestamp: i64, marker: bool, payload: &[u8]) {
        self.samples.clear();
        match &self.sound.coding {
            coding if coding.is_plain() => coding.samples(payload, &mut self.samples),
            Coding::Aac(aac) if self.decoder.is_some() => {
                let aac = aac.clone();
                self.on_units(&aac, timestamp, marker, payload);
            }
            _ => return,
        }
        let samples = std::mem::take(&mut self.samples);
        self.levels.on_samples(arrival, &samples);
        let (rate, channels) = (self.sound.clock_rate, self.sound.channels);
        self.ear.hear(&Heard { arrival, due, timestamp, rate, channels, samples: &samples });
        self.samples = samples;
    }

    /// The access units of a packet (RFC 3640 §3.2).
    fn on_units(&mut self, aac: &Aac, timestamp: i64, marker: bool, payload: &[u8]) {
        if aac.size_length == 0 {
            return self.decode(payload);
        }
        let Some((sizes, mut data)) = headers(aac, payload) else {
            return self.failed("its packets have no access unit headers");
        };
        if let [size] = sizes[..]
            && size > data.len()
        {
            return self.on_piece(timestamp, marker, size, data);
        }
        for size in sizes {
            let Some((unit, rest)) = data.split_at_checked(size) else { return self.failed("its access units are cut off") };
            self.decode(unit);
            data = rest;
        }
    }

    fn on_piece(&mut self, timestamp: i64, marker: bool, size: usize, data: &[u8]) {
        let (at, whole, mut unit) = self.piece.take().unwrap_or((timestamp, size, Vec::new()));
        if at != timestamp || whole != size {
            unit.clear(); // another unit: what was there of the last one is lost
        }
        unit.extend_from_slice(data);
        if unit.len() >= size || marker {
            self.decode(&unit);
        } else if unit.len() < LONGEST_UNIT {
            self.piece = Some((timestamp, size, unit));
        }
    }

    fn decode(&mut self, unit: &[u8]) {
        let Some(decoder) = &mut self.decoder else { return };
        match decoder.decode(unit, &mut self.samples) {
            Ok(()) => (self.failed, self.unread) = (0, None),
            Err(why) => self.failed(&why),
        }
    }

    fn failed(&mut self, why: &str) {
        self.failed += 1;
        if self.failed >= UNDECODABLE {
            self.unread = Some(format!("{} does not decode: {why}", self.sound.coding));
        }
    }
}

/// Sizes of the access units of a packet, and what comes after their headers.
fn headers<'a>(aac: &Aac, payload: &'a [u8]) -> Option<(Vec<usize>, &'a [u8])> {
    let (length, rest) = payload.split_first_chunk::<2>()?;
    let bits = usize::from(u16::from_be_bytes(*length));
    let (section, data) = rest.split_at_checked(bits.div_ceil(8))?;
    let read = |at: usize, count: usize| {
        (at..at + count).fold(0, |value, bit| value << 1 | usize::from(section[bit / 8] >> (7 - bit % 8) & 1))
    };
    let size = usize::from(aac.size_length);
    let (mut sizes, mut at) = (Vec::new(), 0);
    while sizes.len() < MOST_UNITS {
        let index = usize::from(if at == 0 { aac.index_length } else { aac.index_delta_length });
        if at + size + index > bits {
            break;
        }
        sizes.push(read(at, size));
        at += size + index;
    }
    (!sizes.is_empty()).then_some((sizes, data))
}

#[cfg(test)]
mod tests;
