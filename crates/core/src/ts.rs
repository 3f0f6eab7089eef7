//! MPEG transport streams (ISO/IEC 13818-1): packets of 188 or 204 bytes, PAT and PMT, PES packets of the video,
//! continuity counters, PCR.
//!
//! One program is followed, the first with video in it; its sound is noticed and left. Not done: descrambling,
//! several access units in one PES packet, teletext and other data.

mod checks;
mod section;

use crate::Mono;
use crate::sdp::Codec;
use crate::wire::{Reader, Truncated};
use checks::Checks;
pub use checks::{Check, CheckCounts};
use section::Sections;

/// Length of a packet, without the parity that 204-byte packets have behind it.
const PACKET: usize = 188;
const WITH_PARITY: usize = 204;
const SYNC: u8 = 0x47;
/// PID of the program association table.
const PAT: u16 = 0;
/// Table ids (table 2-31).
const PAT_ID: u8 = 0;
const PMT_ID: u8 = 2;
/// Largest PES packet kept: as large as the largest access unit.
const MAX_PES: usize = crate::video::MAX_ACCESS_UNIT;
/// A timestamp of 33 bits wraps.
const WRAP: i64 = 1 << 33;

/// What was seen so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct TsCounts {
    /// Transport packets of the video.
    pub packets: u64,
    /// Packets of the video that are missing by its continuity counter: at least this many, as it counts to 15.
    pub lost: u64,
    /// Bytes that belong to no packet.
    pub noise: u64,
    /// Packets of the video that are scrambled.
    pub scrambled: u64,
    /// Tables whose checksum is wrong.
    pub damaged_tables: u64,
    /// The checks of TR 101 290.
    pub checks: CheckCounts,
}

/// A PES packet of the video: one access unit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VideoUnit {
    /// Its bytes, as Annex B has them.
    pub bytes: Vec<u8>,
    /// Its presentation time, 90 kHz, unwrapped.
    pub timestamp: i64,
    /// A packet of it is missing, or is marked as damaged.
    pub damaged: bool,
    /// A packet before or within it is missing.
    pub gap_before: bool,
    /// Arrival of its first packet.
    pub first_arrival: Mono,
    /// Arrival of its last packet.
    pub last_arrival: Mono,
    /// Its transport packets.
    pub packets: u32,
}

#[derive(Debug)]
struct Pes {
    bytes: Vec<u8>,
    /// Bytes announced; `None` where the packet ends with the next one's beginning.
    length: Option<usize>,
    timestamp: Option<i64>,
    damaged: bool,
    gap_before: bool,
    first_arrival: Mono,
    last_arrival: Mono,
    packets: u32,
}

/// Takes a transport stream apart.
#[derive(Debug, Default)]
pub struct Demux {
    /// Bytes of a packet whose rest is still to come.
    rest: Vec<u8>,
    packet_length: usize,
    pat: Sections,
    pmt: Sections,
    pmt_pid: Option<u16>,
    video: Option<(u16, Codec)>,
    audio: Vec<&'static str>,
    pcr_pid: Option<u16>,
    last_pcr: Option<u64>,
    continuity: Option<u8>,
    pes: Option<Pes>,
    last_timestamp: Option<i64>,
    counts: TsCounts,
    checks: Checks,
    gap: bool,
}

impl Demux {
    /// The codec of the video, once the tables named it.
    #[must_use]
    pub fn codec(&self) -> Option<&Codec> {
        self.video.as_ref().map(|(_, codec)| codec)
    }

    /// The codings of the sound in the program.
    #[must_use]
    pub fn audio(&self) -> &[&'static str] {
        &self.audio
    }

    /// What was seen so far.
    #[must_use]
    pub fn counts(&self) -> TsCounts {
        let mut checks = self.checks.counts;
        checks.add(Check::Crc, self.counts.damaged_tables);
        TsCounts { checks, ..self.counts }
    }

    /// The newest program clock reference, in ticks of 27 MHz.
    #[must_use]
    pub const fn clock(&self) -> Option<u64> {
        self.last_pcr
    }

    /// Whether bytes look like transport packets: so that a stream can be told from noise by its first datagram.
    #[must_use]
    pub fn recognises(bytes: &[u8]) -> bool {
        [PACKET, WITH_PARITY].into_iter().any(|length| {
            bytes.len() >= length
                && bytes.len().is_multiple_of(length)
                && bytes.chunks(length).all(|packet| packet.first() == Some(&SYNC))
        })
    }

    /// Something before these bytes was lost.
    pub const fn on_gap(&mut self) {
        self.gap = true;
    }

    /// Takes bytes that arrived; whole access units go to `sink`.
    pub fn push(&mut self, arrival: Mono, bytes: &[u8], sink: &mut impl FnMut(VideoUnit)) {
        let joined;
        let mut bytes = if self.rest.is_empty() {
            bytes
        } else {
            joined = [std::mem::take(&mut self.rest).as_slice(), bytes].concat();
            joined.as_slice()
        };
        loop {
            let noise = bytes.iter().position(|byte| *byte == SYNC).unwrap_or(bytes.len());
            self.counts.noise += noise as u64;
            if noise > 0 {
                self.checks.on_noise(noise);
            }
            bytes = bytes.get(noise..).unwrap_or_default();
            if bytes.is_empty() {
                return;
            }
            let Some(length) = self.length_of(bytes) else {
                if bytes.len() < WITH_PARITY {
                    self.rest = bytes.to_vec(); // the rest of it is still to come
                    return;
                }
                // A byte that only looked like a beginning.
                self.counts.noise += 1;
                self.checks.on_noise(1);
                bytes = bytes.get(1..).unwrap_or_default();
                continue;
            };
            if let Some(packet) = bytes.get(..PACKET) {
                self.on_packet(arrival, packet, sink);
            }
            bytes = bytes.get(length..).unwrap_or_default();
        }
    }

    /// How long the packet is that these bytes begin with: another one must begin behind it, or the bytes end there.
    fn length_of(&mut self, bytes: &[u8]) -> Option<usize> {
        let at = |at: usize| bytes.get(at).is_none_or(|byte| *byte == SYNC);
        let begins = |length: usize| bytes.len() >= length && at(length) && at(length * 2);
        let usual = if self.packet_length == WITH_PARITY { [WITH_PARITY, PACKET] } else { [PACKET, WITH_PARITY] };
        let found = usual.into_iter().find(|length| begins(*length));
        if let Some(length) = found {
            self.packet_length = length;
        }
        found
    }

    fn on_packet(&mut self, arrival: Mono, packet: &[u8], sink: &mut impl FnMut(VideoUnit)) {
        let Ok(packet) = Packet::parse(packet) else { return };
        if let Some(pcr) = packet.pcr.filter(|_| self.pcr_pid == Some(packet.pid)) {
            self.last_pcr = Some(pcr);
            self.checks.on_pcr(arrival, pcr, packet.discontinuity);
        }
        self.checks.on_packet(arrival, packet.error);
        if packet.pid == PAT {
            let table = packet.payload.first().and_then(|pointer| packet.payload.get(1 + usize::from(*pointer)));
            let right = !packet.scrambled && (!packet.starts || table == Some(&0));
            if packet.starts || !right {
                self.checks.on_pat(arrival, right);
            }
            for section in self.pat.push(PAT_ID, packet.starts, packet.payload, &mut self.counts.damaged_tables) {
                self.on_pat(&section);
            }
        } else if Some(packet.pid) == self.pmt_pid {
            if packet.starts || packet.scrambled {
                self.checks.on_pmt(arrival, packet.scrambled);
            }
            for section in self.pmt.push(PMT_ID, packet.starts, packet.payload, &mut self.counts.damaged_tables) {
                self.on_pmt(&section);
                if self.video.is_some() {
                    self.checks.on_video_named(arrival);
                }
            }
        } else if self.video.as_ref().is_some_and(|(pid, _)| *pid == packet.pid) {
            self.on_video(arrival, &packet, sink);
        }
    }

    fn on_pat(&mut self, section: &[u8]) {
        // Program number and PID, four bytes each; number 0 is the network's own.
        let programs = section.get(5..).unwrap_or_default().chunks_exact(4);
        let pid = |entry: &[u8]| match *entry {
            [0, 0, ..] => None,
            [_, _, high, low] => Some(u16::from_be_bytes([high & 0x1f, low])),
            _ => None,
        };
        let mut pids = programs.filter_map(pid);
        let first = pids.next();
        // The program that is followed stays, as long as it is there.
        if self.pmt_pid.is_none() || (self.video.is_none() && self.pmt_pid != first && !pids.any(|pid| Some(pid) == self.pmt_pid))
        {
            self.pmt_pid = first;
        }
    }

    fn on_pmt(&mut self, section: &[u8]) {
        let mut reader = Reader::new(section.get(5..).unwrap_or_default());
        let streams = read_pmt(&mut reader);
        let Ok((pcr_pid, streams)) = streams else { return };
        self.pcr_pid = Some(pcr_pid);
        self.audio = streams.iter().filter_map(|(kind, _)| audio_name(*kind)).take(8).collect();
        let found = streams.iter().find_map(|(kind, pid)| Some((*pid, video_codec(*kind)?)));
        if found.is_some() && found != self.video {
            self.video = found;
            self.continuity = None;
            self.pes = None;
        }
    }

    fn on_video(&mut self, arrival: Mono, packet: &Packet<'_>, sink: &mut impl FnMut(VideoUnit)) {
        let missing = self.missing(packet);
        let Some(missing) = missing else { return }; // sent twice
        self.counts.packets += 1;
        self.counts.lost += u64::from(missing);
        // A time stands in the head of a PES packet, with two flags before it (§2.4.3.7).
        let timed = packet.starts && packet.payload.get(7).is_some_and(|flags| flags & 0x80 != 0);
        self.checks.on_video(arrival, missing, timed);
        let lost = missing > 0 || std::mem::take(&mut self.gap);
        if packet.scrambled {
            self.counts.scrambled += 1;
            return;
        }
        if packet.starts {
            self.finish(lost, sink);
            self.pes = Pes::begin(packet.payload, arrival, lost);
        } else if let Some(pes) = &mut self.pes {
            pes.damaged |= lost || packet.error;
            pes.gap_before |= lost;
            pes.last_arrival = pes.last_arrival.max(arrival);
            pes.packets += 1;
            if pes.bytes.len() + packet.payload.len() <= MAX_PES {
                pes.bytes.extend_from_slice(packet.payload);
            } else {
                pes.damaged = true;
            }
        }
        if self.pes.as_ref().is_some_and(|pes| pes.length.is_some_and(|length| pes.bytes.len() >= length)) {
            self.finish(false, sink);
        }
    }

    /// Packets of the video that are missing before this one; `None` when it is the same once more (§2.4.3.3).
    fn missing(&mut self, packet: &Packet<'_>) -> Option<u8> {
        if !packet.has_payload {
            return Some(0);
        }
        let before = self.continuity.replace(packet.continuity);
        match before {
            None => Some(0),
            Some(_) if packet.discontinuity => Some(0),
            Some(before) if before == packet.continuity => None,
            Some(before) => Some(packet.continuity.wrapping_sub(before).wrapping_sub(1) & 0x0f),
        }
    }

    fn finish(&mut self, lost_at_end: bool, sink: &mut impl FnMut(VideoUnit)) {
        let Some(pes) = self.pes.take() else { return };
        let Some(timestamp) = pes.timestamp else { return };
        let unwrapped = match self.last_timestamp {
            None => timestamp,
            Some(last) => {
                let step = (timestamp - last).rem_euclid(WRAP);
                last + if step > WRAP / 2 { step - WRAP } else { step }
            }
        };
        self.last_timestamp = Some(unwrapped);
        let short = pes.length.is_some_and(|length| pes.bytes.len() < length);
        sink(VideoUnit {
            damaged: pes.damaged || lost_at_end || short,
            bytes: pes.bytes,
            timestamp: unwrapped,
            gap_before: pes.gap_before,
            first_arrival: pes.first_arrival,
            last_arrival: pes.last_arrival,
            packets: pes.packets,
        });
    }
}

/// One transport packet (§2.4.3.2).
#[allow(clippy::struct_excessive_bools, reason = "the flags of the header")]
struct Packet<'a> {
    pid: u16,
    error: bool,
    starts: bool,
    scrambled: bool,
    has_payload: bool,
    continuity: u8,
    discontinuity: bool,
    pcr: Option<u64>,
    payload: &'a [u8],
}

impl<'a> Packet<'a> {
    fn parse(bytes: &'a [u8]) -> Result<Self, Truncated> {
        let mut reader = Reader::new(bytes);
        reader.u8()?;
        let (flags, control) = (reader.u16()?, reader.u8()?);
        let (mut discontinuity, mut pcr) = (false, None);
        if control & 0x20 != 0 {
            let length = reader.u8()?;
            let field = reader.take(usize::from(length))?;
            if let Some(flags) = field.first() {
                discontinuity = flags & 0x80 != 0;
                pcr = (flags & 0x10 != 0).then(|| read_pcr(field.get(1..7)?)).flatten();
            }
        }
        let has_payload = control & 0x10 != 0;
        Ok(Self {
            pid: flags & 0x1fff,
            error: flags & 0x8000 != 0,
            starts: flags & 0x4000 != 0,
            scrambled: control & 0xc0 != 0,
            has_payload,
            continuity: control & 0x0f,
            discontinuity,
            pcr,
            payload: if has_payload { reader.rest() } else { &[] },
        })
    }
}

/// Ticks of 27 MHz (§2.4.3.5).
fn read_pcr(bytes: &[u8]) -> Option<u64> {
    let &[a, b, c, d, e, f] = bytes else { return None };
    let base = u64::from(u32::from_be_bytes([a, b, c, d])) << 1 | u64::from(e >> 7);
    // The extension counts to 299; more is no clock.
    let extension = u64::from(e & 1) << 8 | u64::from(f);
    (extension < 300).then_some(base * 300 + extension)
}

impl Pes {
    /// Reads the head of a PES packet (§2.4.3.7); `None` when it is none of video with a time.
    fn begin(payload: &[u8], arrival: Mono, lost: bool) -> Option<Self> {
        let mut reader = Reader::new(payload);
        if reader.take(3).ok()? != [0, 0, 1] {
            return None;
        }
        reader.u8().ok()?;
        let announced = usize::from(reader.u16().ok()?);
        reader.u8().ok()?;
        let flags = reader.u8().ok()?;
        let header = usize::from(reader.u8().ok()?);
        let header = reader.take(header).ok()?;
        let timestamp = (flags & 0x80 != 0).then(|| read_time(header.get(..5)?)).flatten();
        let length = (announced > 0).then(|| announced.saturating_sub(3 + header.len()));
        Some(Self {
            bytes: reader.rest().to_vec(),
            length,
            timestamp,
            damaged: false,
            gap_before: lost,
            first_arrival: arrival,
            last_arrival: arrival,
            packets: 1,
        })
    }
}

/// A time of 33 bits with its marker bits.
fn read_time(bytes: &[u8]) -> Option<i64> {
    let &[a, b, c, d, e] = bytes else { return None };
    let (high, middle, low) =
        (i64::from(a >> 1 & 7), i64::from(u16::from_be_bytes([b, c]) >> 1), i64::from(u16::from_be_bytes([d, e]) >> 1));
    Some(high << 30 | middle << 15 | low)
}

/// PID of the clock, and stream type and PID of each elementary stream (§2.4.4.8).
fn read_pmt(reader: &mut Reader<'_>) -> Result<(u16, Vec<(u8, u16)>), Truncated> {
    let pcr_pid = reader.u16()? & 0x1fff;
    let descriptors = reader.u16()? & 0x0fff;
    reader.take(usize::from(descriptors))?;
    let mut streams = Vec::new();
    while !reader.rest().is_empty() && streams.len() < 64 {
        let kind = reader.u8()?;
        let pid = reader.u16()? & 0x1fff;
        let descriptors = reader.u16()? & 0x0fff;
        reader.take(usize::from(descriptors))?;
        streams.push((kind, pid));
    }
    Ok((pcr_pid, streams))
}

fn video_codec(kind: u8) -> Option<Codec> {
    match kind {
        0x1b => Some(Codec::H264),
        0x24 => Some(Codec::H265),
        0x01 => Some(Codec::Other("MPEG-1 VIDEO".into())),
        0x02 => Some(Codec::Other("MPEG-2 VIDEO".into())),
        0x10 => Some(Codec::Other("MPEG-4 VIDEO".into())),
        0x33 => Some(Codec::Other("H266".into())),
        _ => None,
    }
}

const fn audio_name(kind: u8) -> Option<&'static str> {
    match kind {
        0x03 | 0x04 => Some("MPEG audio"),
        0x0f => Some("AAC"),
        0x11 => Some("AAC LATM"),
        0x81 => Some("AC-3"),
        _ => None,
    }
}

#[cfg(test)]
mod tests;
