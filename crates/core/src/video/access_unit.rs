//! Access units out of RTP packets in order.
//!
//! A unit ends with its marker (RFC 6184 §5.1) or where the timestamp changes. A sender that sets
//! the marker in mid-unit is found out by the slices that follow it; from then on only timestamps
//! end its units, one frame later.
//!
//! Units of a codec that is not taken apart here are counted by marker and timestamp alone.

use super::h264::{self, NalHeader, NalKind, Piece};
use super::jpeg::{self, Fragment as JpegFragment, TableMemory};
use super::parameters::{MAX_PIXELS, MAX_SIDE, Parameters, VideoCodec};
use super::sps::{ColourMatrix, Sps, SpsError};
use super::{h265, packetize};
use crate::Mono;
use crate::sdp::Codec;
use crate::ts::{Demux, VideoUnit};
use bytes::Bytes;

/// Largest access unit kept; a 4K keyframe at the highest quality is some 4 MB. What goes beyond
/// is left out and the unit counts as damaged.
pub const MAX_ACCESS_UNIT: usize = 8 << 20;
/// Longest parameter set kept; real ones are under 200 bytes.
const MAX_PARAMETER_SET: usize = 4096;
const START_CODE: [u8; 4] = [0, 0, 0, 1];

/// One access unit, whole or damaged.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
pub struct AccessUnit {
    /// Counts up by one, from 0, over the life of the assembler.
    pub number: u64,
    /// Its RTP timestamp, unwrapped.
    pub timestamp: i64,
    /// A picture that decoding can begin with: IDR, IRAP, or any of JPEG.
    pub keyframe: bool,
    /// Frames until the picture is right, from a recovery point SEI.
    pub recovery: Option<u32>,
    /// It has a bi-predictive slice, so that pictures may come out in another order than coded.
    pub bipredictive: bool,
    /// A part of it is missing.
    pub damaged: bool,
    /// Packets were lost before or within it.
    pub gap_before: bool,
    /// Arrival of its first packet.
    pub first_arrival: Mono,
    /// Arrival of its last packet.
    pub last_arrival: Mono,
    /// When we had it whole, after any wait for order.
    pub finished: Mono,
    /// Its packets.
    pub packets: u32,
    /// Payload bytes as received.
    pub bytes: usize,
    /// Annex B bytes, beginning with parameter sets if it is a keyframe; `None` when nobody wants them.
    pub data: Option<Bytes>,
}

/// A packet as the assembler takes it: in order, with what was lost before it.
#[derive(Debug, Clone, Copy)]
pub struct Ordered<'a> {
    /// Its payload.
    pub payload: &'a [u8],
    /// Its unwrapped timestamp.
    pub timestamp: i64,
    /// Its marker bit.
    pub marker: bool,
    /// When it arrived.
    pub arrival: Mono,
    /// Packets before it were given up.
    pub gap_before: bool,
}

/// A unit that a container brings whole.
#[derive(Debug, Clone, Copy)]
pub struct WholeUnit<'a> {
    /// Annex B bytes, or a JPEG file.
    pub bytes: &'a [u8],
    /// Its timestamp, unwrapped, in the stream's clock.
    pub timestamp: i64,
    /// A part of it is missing.
    pub damaged: bool,
    /// Something was lost before or within it.
    pub gap_before: bool,
    /// Arrival of its first packet.
    pub first_arrival: Mono,
    /// Arrival of its last packet.
    pub last_arrival: Mono,
    /// Its packets.
    pub packets: u32,
}

#[derive(Debug, Default)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
struct Building {
    timestamp: i64,
    keyframe: bool,
    recovery: Option<u32>,
    bipredictive: bool,
    damaged: bool,
    gap_before: bool,
    slices: bool,
    has_sps: bool,
    first_arrival: Mono,
    last_arrival: Mono,
    packets: u32,
    bytes: usize,
    /// Bytes of a JPEG's scan that are here.
    scan: usize,
}

/// A NAL unit that comes in pieces.
#[derive(Debug, Clone, Copy)]
enum Fragment {
    /// Its start code is here in the data.
    At(usize),
    /// A slice whose bytes nobody wants.
    Unkept,
}

/// How payloads are taken apart.
#[derive(Debug)]
enum Coding {
    H264,
    H265,
    Jpeg(TableMemory),
    /// A transport stream, and what its video is taken apart by once that is known.
    Transport(Box<(Demux, Option<Assembler>)>),
    /// Not at all: units are counted by marker and timestamp alone.
    Opaque,
}

impl Coding {
    /// Whether this is how payloads of the codec are taken apart.
    const fn is(&self, codec: &Codec) -> bool {
        matches!(
            (self, codec),
            (Self::H264, Codec::H264)
                | (Self::H265, Codec::H265)
                | (Self::Jpeg(_), Codec::Jpeg)
                | (Self::Transport(_), Codec::Mp2t)
                | (Self::Opaque, Codec::Other(_))
        )
    }

    const fn has_nal_units(&self) -> bool {
        matches!(self, Self::H264 | Self::H265)
    }

    const fn kind(&self, header: u8) -> NalKind {
        match self {
            Self::H265 => h265::kind(header),
            _ => NalKind::of(header),
        }
    }

    const fn header_length(&self) -> usize {
        match self {
            Self::H265 => 2,
            _ => 1,
        }
    }

    fn pieces<'a>(&self, payload: &'a [u8]) -> impl Iterator<Item = Piece<'a>> + use<'a> {
        let (h265, h264) = match self {
            Self::H265 => (Some(h265::pieces(payload)), None),
            _ => (None, Some(h264::pieces(payload))),
        };
        h265.into_iter().flatten().chain(h264.into_iter().flatten())
    }
}

/// Builds access units of one stream.
#[derive(Debug)]
pub struct Assembler {
    coding: Coding,
    keep: bool,
    next_number: u64,
    current: Option<Building>,
    data: Vec<u8>,
    /// The NAL unit that fragments are being added to.
    fragment: Option<Fragment>,
    /// The sequence parameter set (none for JPEG) and what it says.
    sps: Option<(Vec<u8>, Parameters)>,
    vps: Vec<u8>,
    pps: Vec<u8>,
    /// The size that the description gives, for JPEG, whose header has whole blocks only.
    described_size: Option<(u32, u32)>,
    /// Timestamp of the last unit that a marker ended.
    ended_by_marker: Option<i64>,
    distrust_markers: bool,
    not_understood: u64,
    /// Most pixels of a picture.
    limit: u64,
    /// Why no decoder gets what comes: its parameter set is not understood, or its pictures are too large.
    barred: Option<String>,
}

impl Assembler {
    /// An assembler for a codec; `parameter_sets` are those of the description.
    #[must_use]
    pub fn new(codec: &Codec, parameter_sets: &[Vec<u8>]) -> Self {
        Self::within(codec, parameter_sets, MAX_PIXELS)
    }

    /// The same for pictures of so many pixels at most: units of larger ones carry no data, so that no decoder sees a byte of
    /// them.
    #[must_use]
    pub fn within(codec: &Codec, parameter_sets: &[Vec<u8>], limit: u64) -> Self {
        let mut assembler = Self {
            coding: match codec {
                Codec::H264 => Coding::H264,
                Codec::H265 => Coding::H265,
                Codec::Jpeg => Coding::Jpeg(TableMemory::default()),
                Codec::Mp2t => Coding::Transport(Box::default()),
                Codec::Other(_) => Coding::Opaque,
            },
            keep: true,
            next_number: 0,
            current: None,
            data: Vec::new(),
            fragment: None,
            sps: None,
            vps: Vec::new(),
            pps: Vec::new(),
            described_size: None,
            ended_by_marker: None,
            distrust_markers: false,
            not_understood: 0,
            limit,
            barred: None,
        };
        if assembler.coding.has_nal_units() {
            for set in parameter_sets {
                assembler.note_parameter_set(set);
            }
        }
        assembler
    }

    /// The size that the description gives.
    pub const fn described_size(&mut self, size: Option<(u32, u32)>) {
        self.described_size = size;
    }

    /// The number of the next unit, so that a new session's units go on counting.
    #[must_use]
    pub const fn next_number(&self) -> u64 {
        self.next_number
    }

    /// Goes on counting from `number`.
    pub const fn count_from(&mut self, number: u64) {
        self.next_number = number;
    }

    /// Whether units carry their bytes; without, nothing is copied out.
    pub const fn keep_data(&mut self, keep: bool) {
        self.keep = keep;
    }

    /// What the newest parameter sets say.
    #[must_use]
    pub fn parameters(&self) -> Option<&Parameters> {
        match &self.coding {
            Coding::Transport(inside) => inside.1.as_ref()?.parameters(),
            _ => self.sps.as_ref().map(|(_, parameters)| parameters),
        }
    }

    /// Why units carry no data though it is wanted, in a sentence: what their parameter set says is not to be decoded here.
    #[must_use]
    pub fn barred(&self) -> Option<&str> {
        match &self.coding {
            Coding::Transport(inside) => inside.1.as_ref()?.barred(),
            _ => self.barred.as_deref(),
        }
    }

    /// Whether pictures of this size may be decoded; why not stays until others come.
    fn admits(&mut self, read: Result<Parameters, SpsError>) -> Option<Parameters> {
        let within = |parameters: &Parameters| {
            let (width, height) = parameters.coded;
            width.max(height) <= MAX_SIDE && parameters.pixels() <= self.limit
        };
        self.barred = match &read {
            Ok(parameters) if within(parameters) => None,
            Ok(parameters) => {
                let (width, height) = parameters.coded;
                Some(format!(
                    "its pictures of {width}x{height} are larger than the {} megapixels of this site",
                    self.limit / 1_000_000
                ))
            }
            Err(_) if matches!(self.coding, Coding::Jpeg(_)) => Some("what comes has no head of a JPEG picture".to_owned()),
            Err(error) => Some(format!("its parameter set is not one that can be decoded: {error}")),
        };
        read.ok().filter(|_| self.barred.is_none())
    }

    /// The demultiplexer, where the stream is a transport stream.
    #[must_use]
    pub fn transport_stream(&self) -> Option<&Demux> {
        if let Coding::Transport(inside) = &self.coding { Some(&inside.0) } else { None }
    }

    /// Packets, or parts of them, that could not be understood.
    #[must_use]
    pub const fn not_understood(&self) -> u64 {
        self.not_understood
    }

    /// Whether a unit is being built: more packets are on their way.
    #[must_use]
    pub const fn is_mid_unit(&self) -> bool {
        self.current.is_some()
    }

    /// A new packet sequence begins: what was being built is dropped, parameter sets stay.
    pub fn restart(&mut self) {
        self.current = None;
        self.fragment = None;
        self.ended_by_marker = None;
        self.data.clear();
    }

    /// Takes the next packet in order at `now`; gives the units it ended, oldest first.
    pub fn push(&mut self, now: Mono, packet: Ordered<'_>) -> impl Iterator<Item = AccessUnit> + use<> {
        let inside = self.push_transport_stream(now, packet);
        let (before, after) =
            if matches!(self.coding, Coding::Transport(_)) { (None, None) } else { self.push_payload(now, packet) };
        before.into_iter().chain(after).chain(inside)
    }

    fn push_transport_stream(&mut self, now: Mono, packet: Ordered<'_>) -> Vec<AccessUnit> {
        let Coding::Transport(inside) = &mut self.coding else { return Vec::new() };
        let (demux, assembler) = inside.as_mut();
        if packet.gap_before {
            demux.on_gap();
        }
        let mut units = Vec::new();
        demux.push(packet.arrival, packet.payload, &mut |unit| units.push(unit));
        let Some(codec) = demux.codec() else { return Vec::new() };
        let keep = self.keep;
        // The tables may name another codec in mid-stream.
        if assembler.as_ref().is_some_and(|before| !before.coding.is(codec)) {
            *assembler = None;
        }
        let limit = self.limit;
        let assembler = assembler.get_or_insert_with(|| Self::within(codec, &[], limit));
        assembler.keep_data(keep);
        assembler.count_from(self.next_number);
        let whole = |unit: VideoUnit| {
            assembler.whole(
                now,
                WholeUnit {
                    bytes: &unit.bytes,
                    timestamp: unit.timestamp,
                    damaged: unit.damaged,
                    gap_before: unit.gap_before,
                    first_arrival: unit.first_arrival,
                    last_arrival: unit.last_arrival,
                    packets: unit.packets,
                },
            )
        };
        let out: Vec<AccessUnit> = units.into_iter().filter_map(whole).collect();
        self.next_number = assembler.next_number();
        out
    }

    fn push_payload(&mut self, now: Mono, packet: Ordered<'_>) -> (Option<AccessUnit>, Option<AccessUnit>) {
        let mut before = None;
        if self.current.as_ref().is_some_and(|current| current.timestamp != packet.timestamp) {
            before = self.finish(now, packet.gap_before);
        }
        if self.current.is_none() && self.ended_by_marker == Some(packet.timestamp) && self.continues(packet.payload) {
            self.distrust_markers = true;
        }
        let begun = self.current.is_none();
        let current = self.current.get_or_insert_with(|| Building {
            timestamp: packet.timestamp,
            first_arrival: packet.arrival,
            last_arrival: packet.arrival,
            ..Building::default()
        });
        current.last_arrival = current.last_arrival.max(packet.arrival);
        current.packets += 1;
        current.bytes += packet.payload.len();
        if packet.gap_before {
            current.gap_before = true;
            current.damaged |= !begun || matches!(self.coding, Coding::Opaque);
            self.fragment = None;
        }
        match self.coding {
            Coding::H264 | Coding::H265 => self.coding.pieces(packet.payload).for_each(|piece| self.take(piece)),
            Coding::Jpeg(_) => self.take_jpeg(packet.payload),
            Coding::Opaque | Coding::Transport(_) => {}
        }
        let nal = self.coding.has_nal_units();
        let complete = packet.marker && !self.distrust_markers && self.current.as_ref().is_some_and(|c| c.slices || !nal);
        let after = if complete {
            self.ended_by_marker = Some(packet.timestamp);
            self.finish(now, false)
        } else {
            None
        };
        (before, after)
    }

    /// Whether a payload goes on with the picture that a marker seemed to end: a slice that is not
    /// its first, or a fragment that is no start.
    fn continues(&self, payload: &[u8]) -> bool {
        let is_slice = |header: u8| self.coding.kind(header).is_slice();
        self.coding.has_nal_units()
            && self.coding.pieces(payload).any(|piece| match piece {
                Piece::Whole(nal) => {
                    let (header, first) = (nal.first(), nal.get(self.coding.header_length()));
                    header.is_some_and(|header| is_slice(*header)) && first.is_some_and(|first| first & 0x80 == 0)
                }
                Piece::Start(header, &[first, ..]) => is_slice(header.first()) && first & 0x80 == 0,
                Piece::Middle(_) | Piece::End(_) => true,
                _ => false,
            })
    }

    /// A fragment of a JPEG: its scan goes behind headers that are rebuilt from the first one.
    fn take_jpeg(&mut self, payload: &[u8]) {
        let Some(current) = &mut self.current else { return };
        let (Ok(mut fragment), Coding::Jpeg(memory)) = (JpegFragment::parse(payload), &mut self.coding) else {
            self.not_understood += 1;
            current.damaged = true;
            return;
        };
        let blocks = |side: u32| side.div_ceil(8) * 8;
        if let Some((width, height)) = self.described_size.filter(|(w, h)| (blocks(*w), blocks(*h)) == fragment.size) {
            fragment.size = (width, height);
        }
        if fragment.offset == 0 {
            current.keyframe = true;
            current.slices = true;
            current.scan = 0;
            let tables = memory.tables(&fragment);
            current.damaged |= tables.is_none();
            let (width, height) = fragment.size;
            if width > 0 && height > 0 && self.sps.as_ref().is_none_or(|(_, have)| (have.width, have.height) != fragment.size) {
                self.sps = Some((Vec::new(), jpeg_parameters(width, height)));
            }
            self.data.clear();
            if let (true, Some(tables)) = (self.keep, tables) {
                self.data = jpeg::headers(&fragment, &tables);
            }
        }
        // What is missing in the middle moves all that follows: the picture cannot be told.
        current.damaged |= fragment.offset != current.scan;
        current.scan = fragment.offset + fragment.scan.len();
        if !self.keep {
            return;
        }
        if self.data.len() + fragment.scan.len() > MAX_ACCESS_UNIT {
            current.damaged = true;
        } else {
            self.data.extend_from_slice(fragment.scan);
        }
    }

    /// A whole access unit in Annex B bytes, or a whole JPEG, as containers bring them; `None` where there is no picture
    /// in it.
    pub fn whole(&mut self, now: Mono, unit: WholeUnit<'_>) -> Option<AccessUnit> {
        let WholeUnit { bytes, timestamp, damaged, gap_before, first_arrival, last_arrival, packets } = unit;
        let mut current = Building {
            timestamp,
            first_arrival,
            last_arrival,
            packets,
            bytes: bytes.len(),
            damaged,
            gap_before,
            ..Building::default()
        };
        self.fragment = None;
        self.data.clear();
        if let Coding::Jpeg(_) = self.coding {
            (current.keyframe, current.slices) = (true, true);
            // A file cut short decodes half and half grey: its end marker must be there.
            let end = bytes.iter().rposition(|byte| *byte != 0).and_then(|last| bytes.get(last.checked_sub(1)?..=last));
            current.damaged |= end != Some(&[0xff, 0xd9]);
            let size = jpeg::file_size(bytes).map(|(width, height)| jpeg_parameters(width, height));
            if let Some(parameters) = self.admits(size.ok_or(SpsError::Truncated)) {
                self.sps = Some((Vec::new(), parameters));
            }
            if self.keep {
                self.data.extend_from_slice(bytes.get(..bytes.len().min(MAX_ACCESS_UNIT)).unwrap_or_default());
            }
            self.current = Some(current);
            return self.finish(now, false);
        }
        self.current = Some(current);
        for nal in packetize::annex_b(bytes) {
            self.take(Piece::Whole(nal));
        }
        self.finish(now, false)
    }

    fn take(&mut self, piece: Piece<'_>) {
        match piece {
            Piece::Whole(nal) => {
                self.fragment = None;
                let Some((header, body)) = self.split(nal) else { return };
                self.begin_nal(header, body);
                self.note_whole(header.first(), nal);
            }
            Piece::Start(header, body) => {
                self.fragment = Some(if self.keeps(header.first()) { Fragment::At(self.data.len()) } else { Fragment::Unkept });
                self.begin_nal(header, body);
            }
            Piece::Middle(body) => self.go_on(body),
            Piece::End(body) => {
                self.go_on(body);
                if let Some(Fragment::At(start)) = self.fragment.take()
                    && let Some(nal) = self.data.get(start + START_CODE.len()..)
                {
                    let nal = nal.get(..nal.len().min(MAX_PARAMETER_SET)).unwrap_or_default().to_vec();
                    if let Some(header) = nal.first() {
                        self.note_whole(*header, &nal);
                    }
                }
            }
            Piece::Unknown => {
                self.not_understood += 1;
                if let Some(current) = &mut self.current {
                    current.damaged = true;
                }
            }
        }
    }

    /// Whether the bytes of this NAL unit are wanted: slices only if units carry data.
    const fn keeps(&self, header: u8) -> bool {
        self.keep || !self.coding.kind(header).is_slice()
    }

    fn split<'a>(&self, nal: &'a [u8]) -> Option<(NalHeader, &'a [u8])> {
        match (&self.coding, nal) {
            (Coding::H265, &[first, second, ref body @ ..]) => Some((NalHeader::two(first, second), body)),
            (Coding::H265, _) => None,
            (_, &[header, ref body @ ..]) => Some((NalHeader::one(header), body)),
            _ => None,
        }
    }

    fn begin_nal(&mut self, header: NalHeader, body: &[u8]) {
        let (kind, keeps) = (self.coding.kind(header.first()), self.keeps(header.first()));
        let h264 = matches!(self.coding, Coding::H264);
        let Some(current) = &mut self.current else { return };
        if kind.is_slice() {
            let first_of_picture = body.first().is_some_and(|byte| byte & 0x80 != 0);
            // The first slice seen is not the picture's first: its beginning is missing.
            current.damaged |= !current.slices && !first_of_picture;
            current.slices = true;
            current.keyframe |= kind == NalKind::Idr;
            current.bipredictive |= h264 && is_bipredictive(body);
        }
        current.has_sps |= kind == NalKind::Sps;
        if !keeps {
            return;
        }
        if self.data.len() + body.len() + 8 > MAX_ACCESS_UNIT {
            current.damaged = true;
            return;
        }
        self.data.extend_from_slice(&START_CODE);
        self.data.extend_from_slice(header.bytes());
        self.data.extend_from_slice(body);
    }

    fn go_on(&mut self, body: &[u8]) {
        let fits = self.data.len() + body.len() <= MAX_ACCESS_UNIT;
        match self.fragment {
            Some(Fragment::Unkept) => return,
            Some(Fragment::At(_)) if fits => return self.data.extend_from_slice(body),
            _ => {}
        }
        if let Some(current) = &mut self.current {
            current.damaged = true;
            // A slice came, if only its tail: the marker may end the unit.
            current.slices = true;
        }
    }

    fn note_whole(&mut self, header: u8, nal: &[u8]) {
        match self.coding.kind(header) {
            NalKind::Vps | NalKind::Sps | NalKind::Pps => self.note_parameter_set(nal),
            NalKind::Sei => {
                let body = nal.get(self.coding.header_length()..).unwrap_or_default();
                let h265 = matches!(self.coding, Coding::H265);
                if let (Some(current), Some(frames)) = (&mut self.current, recovery_point(body, h265)) {
                    current.recovery = Some(frames);
                }
            }
            _ => {}
        }
    }

    fn note_parameter_set(&mut self, nal: &[u8]) {
        let Some(header) = nal.first().filter(|_| nal.len() <= MAX_PARAMETER_SET) else { return };
        match self.coding.kind(*header) {
            // The one in force once more, after another that was refused.
            NalKind::Sps if self.sps.as_ref().is_some_and(|(have, _)| have == nal) => self.barred = None,
            NalKind::Sps => {
                let read = match self.coding {
                    Coding::H265 => h265::parse_sps(nal),
                    _ => Sps::parse(nal).map(|sps| sps.parameters()),
                };
                if let Some(parameters) = self.admits(read) {
                    self.sps = Some((nal.to_vec(), parameters));
                }
            }
            NalKind::Vps if self.vps != nal => self.vps = nal.to_vec(),
            NalKind::Pps if self.pps != nal => self.pps = nal.to_vec(),
            _ => {}
        }
    }

    fn finish(&mut self, now: Mono, lost_at_end: bool) -> Option<AccessUnit> {
        let current = self.current.take()?;
        let unended = self.fragment.take().is_some();
        if self.coding.has_nal_units() && !current.slices && !current.damaged {
            self.data.clear(); // parameter sets alone are no picture
            return None;
        }
        let data = (self.keep && self.barred.is_none()).then(|| Bytes::from(self.take_data(&current)));
        self.data.clear();
        let number = self.next_number;
        self.next_number += 1;
        Some(AccessUnit {
            number,
            timestamp: current.timestamp,
            keyframe: current.keyframe,
            recovery: current.recovery,
            bipredictive: current.bipredictive,
            damaged: current.damaged || unended || lost_at_end,
            gap_before: current.gap_before,
            first_arrival: current.first_arrival,
            last_arrival: current.last_arrival,
            finished: now,
            packets: current.packets,
            bytes: current.bytes,
            data,
        })
    }

    /// The unit's bytes; a point where decoding may begin gets the parameter sets it does not carry.
    fn take_data(&mut self, current: &Building) -> Vec<u8> {
        let room = Vec::with_capacity(self.data.len());
        let data = std::mem::replace(&mut self.data, room);
        if current.has_sps || !(current.keyframe || current.recovery.is_some()) || !self.coding.has_nal_units() {
            return data;
        }
        let sps = self.sps.as_ref().map_or(&[][..], |(nal, _)| nal.as_slice());
        let mut out = Vec::with_capacity(data.len() + 512);
        for set in [self.vps.as_slice(), sps, self.pps.as_slice()].into_iter().filter(|set| !set.is_empty()) {
            out.extend_from_slice(&START_CODE);
            out.extend_from_slice(set);
        }
        out.extend_from_slice(&data);
        out
    }
}

/// Whether a slice's header says type B (ISO/IEC 14496-10 §7.4.3, table 7-6).
fn is_bipredictive(body: &[u8]) -> bool {
    let mut bits = super::bits::Bits::new(body);
    bits.ue().and_then(|_first_macroblock| bits.ue()).is_ok_and(|kind| kind % 5 == 1)
}

fn jpeg_parameters(width: u32, height: u32) -> Parameters {
    Parameters {
        codec: VideoCodec::Jpeg,
        width,
        height,
        coded: (width, height),
        declared: None,
        full_range: true,
        matrix: ColourMatrix::Bt601,
        profile: "Baseline",
        reorder: Some(0),
        unusual: None,
    }
}

/// `recovery_frame_cnt` of a recovery point message (payload type 6, §D.1.8 of ISO/IEC 14496-10), or
/// `recovery_poc_cnt` (§D.2.8 of ISO/IEC 23008-2), which is signed.
fn recovery_point(body: &[u8], h265: bool) -> Option<u32> {
    let bytes = super::bits::unescape(body);
    let mut rest = bytes.as_slice();
    while rest.len() > 2 {
        let (kind, after) = sei_number(rest)?;
        let (size, body) = sei_number(after)?;
        if kind == 6 {
            let mut bits = super::bits::Bits::new(body.get(..size)?);
            return if h265 { bits.se().ok().map(|pictures| pictures.max(0).unsigned_abs()) } else { bits.ue().ok() };
        }
        rest = body.get(size..)?;
    }
    None
}

fn sei_number(bytes: &[u8]) -> Option<(usize, &[u8])> {
    let full = bytes.iter().take_while(|byte| **byte == 0xff).count();
    let last = bytes.get(full)?;
    Some((full * 255 + usize::from(*last), bytes.get(full + 1..)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn packet(timestamp: i64, marker: bool, gap_before: bool, payload: &[u8]) -> Ordered<'_> {
        Ordered { payload, timestamp, marker, arrival: Mono::ZERO, gap_before }
    }

    fn run(packets: &[Ordered<'_>]) -> Vec<AccessUnit> {
        let mut assembler = Assembler::new(&Codec::H264, &[]);
        packets.iter().flat_map(|packet| assembler.push(Mono::ZERO, *packet).collect::<Vec<_>>()).collect()
    }

    const IDR: &[u8] = &[0x65, 0x88, 1, 2];
    const SLICE: &[u8] = &[0x41, 0x9a, 3];
    const SECOND: &[u8] = &[0x41, 0x1a, 4];

    #[test]
    fn units_end_by_marker_or_by_timestamp() {
        let by_marker = run(&[packet(0, true, false, IDR), packet(3600, true, false, SLICE)]);
        assert_eq!(by_marker.len(), 2);
        assert!(by_marker[0].keyframe && !by_marker[1].keyframe);
        let by_time = run(&[packet(0, false, false, IDR), packet(3600, false, false, SLICE), packet(7200, false, false, SLICE)]);
        assert_eq!(by_time.len(), 2);
        assert!(by_time.iter().all(|unit| !unit.damaged));
    }

    #[test]
    fn a_marker_in_mid_picture_is_found_out() {
        let units = run(&[
            packet(0, true, false, IDR),
            packet(0, true, false, SECOND),
            packet(3600, true, false, SLICE),
            packet(3600, true, false, SECOND),
            packet(7200, true, false, SLICE),
        ]);
        assert_eq!(units.len(), 3, "split once, whole from then on");
        assert!(units[2].timestamp == 3600 && units[2].packets == 2 && !units[2].damaged);
    }

    #[test]
    fn what_is_missing_damages_the_right_unit() {
        let [start, middle, end] = [&[0x7c, 0x81, 0x9a, 1][..], &[0x7c, 0x01, 2], &[0x7c, 0x41, 3]];
        for (name, packets, damaged) in [
            (
                "whole",
                vec![packet(0, false, false, start), packet(0, false, false, middle), packet(0, true, false, end)],
                vec![false],
            ),
            ("middle lost", vec![packet(0, false, false, start), packet(0, true, true, end)], vec![true]),
            ("start lost", vec![packet(0, false, true, middle), packet(0, true, false, end)], vec![true]),
            ("end lost", vec![packet(0, false, false, start), packet(3600, true, true, SLICE)], vec![true, false]),
            ("unit lost between", vec![packet(0, true, false, SLICE), packet(7200, true, true, SLICE)], vec![false, false]),
            ("first slice lost", vec![packet(0, true, true, SECOND)], vec![true]),
        ] {
            let got: Vec<_> = run(&packets).iter().map(|unit| unit.damaged).collect();
            assert_eq!(got, damaged, "{name}");
        }
    }

    /// A sequence parameter set: 320x192.
    const SMALL: &[u8] = &[0x67, 0x42, 0, 0x1e, 0xda, 0x05, 0x06, 0x64];

    #[test]
    fn no_decoder_sees_a_byte_of_what_is_too_large_or_not_understood() {
        let mut assembler = Assembler::within(&Codec::H264, &[], 320 * 192);
        // 16384x16000, with what keeps three zeros apart (§7.4.1).
        let huge = [0x67, 0x42, 0, 0x1e, 0xda, 0x00, 0x10, 0x00, 0x01, 0xf4, 0x64];
        let mut at = 0;
        let mut push = |assembler: &mut Assembler, sps: &[u8]| {
            at += 3600;
            let first = assembler.push(Mono::ZERO, packet(at, false, false, sps)).count();
            assert_eq!(first, 0);
            let unit = assembler.push(Mono::ZERO, packet(at, true, false, IDR)).next().unwrap();
            (unit.data.is_some(), assembler.barred().map(str::to_owned))
        };
        assert_eq!(push(&mut assembler, SMALL), (true, None));
        let (data, why) = push(&mut assembler, &huge);
        assert!(!data && why.unwrap().contains("larger than"));
        assert_eq!(push(&mut assembler, SMALL), (true, None), "the small ones are back");
        let (data, why) = push(&mut assembler, &SMALL[..5]);
        assert!(!data && why.unwrap().contains("parameter set"));
    }

    #[test]
    fn parameter_sets_of_the_description_go_before_a_keyframe_only() {
        let mut assembler = Assembler::new(&Codec::H264, &[SMALL.to_vec(), vec![0x68, 0xce]]);
        let mut units = Vec::new();
        for (timestamp, payload) in [(0, IDR), (3600, SLICE)] {
            units.extend(assembler.push(Mono::ZERO, packet(timestamp, true, false, payload)));
        }
        let data: Vec<_> = units.iter().map(|unit| unit.data.clone().unwrap()).collect();
        assert!(data[0].windows(2).any(|w| w == [0x68, 0xce]), "{data:?}");
        assert_eq!(data[1], [&START_CODE[..], SLICE].concat());
    }

    #[test]
    fn a_recovery_point_is_read() {
        // Payload type 6, one byte: recovery_frame_cnt 4 is 00101.
        assert_eq!(recovery_point(&[6, 1, 0b0010_1000, 0x80], false), Some(4));
        assert_eq!(recovery_point(&[6, 1, 0b0010_1000, 0x80], true), Some(0), "-2 is now");
        assert_eq!(recovery_point(&[5, 2, 9, 9, 6, 1, 0b1000_0000, 0x80], false), Some(0));
        assert_eq!(recovery_point(&[0xff, 0xff], false), None);
    }

    #[test]
    fn without_data_units_are_judged_the_same() {
        let fragment = |flags: u8, tail: u8| vec![0x7c, flags | 5, 0x88, tail];
        let (start, middle, end) = (fragment(0x80, 1), fragment(0, 2), fragment(0x40, 3));
        let packets = [
            packet(0, false, false, &start),
            packet(0, false, false, &middle),
            packet(0, true, false, &end),
            packet(3600, false, false, &start),
            packet(3600, true, true, &end),
            packet(7200, true, false, &middle),
            packet(10_800, true, false, SLICE),
        ];
        let mut bare = Assembler::new(&Codec::H264, &[]);
        bare.keep_data(false);
        let got: Vec<_> = packets.iter().flat_map(|packet| bare.push(Mono::ZERO, *packet).collect::<Vec<_>>()).collect();
        let want: Vec<_> = run(&packets).into_iter().map(|unit| AccessUnit { data: None, ..unit }).collect();
        assert_eq!(got, want);
        assert_eq!(got.iter().map(|unit| unit.damaged).collect::<Vec<_>>(), [false, true, true, false]);
        assert!(bare.data.capacity() == 0, "nothing was copied");
    }
}
