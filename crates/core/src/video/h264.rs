//! H.264 in RTP (RFC 6184): single NAL units, STAP-A, FU-A.
//!
//! Not done: interleaved mode (STAP-B, MTAP, FU-B); such packets are counted as not understood.

use super::packetize::annex_b;
use crate::wire::Reader;

/// Type of a NAL unit, as far as it matters here (table 7-1 of ISO/IEC 14496-10).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NalKind {
    /// 1 to 4: a slice of a picture that is no IDR.
    Slice,
    /// 5: a slice of an IDR picture.
    Idr,
    /// 6: supplemental information.
    Sei,
    /// 7: sequence parameter set.
    Sps,
    /// 8: picture parameter set.
    Pps,
    /// The video parameter set that only H.265 has.
    Vps,
    /// 9: access unit delimiter.
    Delimiter,
    /// Any other.
    Other,
}

impl NalKind {
    /// The kind of a NAL unit by its first byte.
    #[must_use]
    pub const fn of(header: u8) -> Self {
        match header & 0x1f {
            1..=4 => Self::Slice,
            5 => Self::Idr,
            6 => Self::Sei,
            7 => Self::Sps,
            8 => Self::Pps,
            9 => Self::Delimiter,
            _ => Self::Other,
        }
    }

    /// Whether it carries picture data.
    #[must_use]
    pub const fn is_slice(self) -> bool {
        matches!(self, Self::Slice | Self::Idr)
    }
}

/// The header of a NAL unit: one byte in H.264, two in H.265.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NalHeader {
    bytes: [u8; 2],
    length: u8,
}

impl NalHeader {
    /// The header of an H.264 NAL unit.
    #[must_use]
    pub const fn one(byte: u8) -> Self {
        Self { bytes: [byte, 0], length: 1 }
    }

    /// The header of an H.265 NAL unit.
    #[must_use]
    pub const fn two(first: u8, second: u8) -> Self {
        Self { bytes: [first, second], length: 2 }
    }

    /// Its first byte, which names the kind.
    #[must_use]
    pub const fn first(self) -> u8 {
        self.bytes[0]
    }

    /// Its bytes.
    #[must_use]
    pub fn bytes(&self) -> &[u8] {
        self.bytes.get(..usize::from(self.length)).unwrap_or_default()
    }
}

/// A piece of a NAL unit in one packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Piece<'a> {
    /// A whole NAL unit with its header byte.
    Whole(&'a [u8]),
    /// The beginning of one: its header, restored from the fragment header, and payload.
    Start(NalHeader, &'a [u8]),
    /// More of it.
    Middle(&'a [u8]),
    /// The last of it.
    End(&'a [u8]),
    /// A packet type, or a form, that is not understood.
    Unknown,
}

pub(super) const STAP_A: u8 = 24;
pub(super) const FU_A: u8 = 28;

/// The pieces in one RTP payload, in order (RFC 6184 §5.6 to §5.8).
pub fn pieces(payload: &[u8]) -> impl Iterator<Item = Piece<'_>> {
    let kind = payload.first().map_or(0, |header| header & 0x1f);
    let coded = begins_with_start_code(payload);
    let aggregate = (kind == STAP_A).then(|| Aggregate::new(payload.get(1..).unwrap_or_default(), 1));
    let single = (kind != STAP_A && !coded).then(|| single(payload, kind));
    let whole = coded.then(|| annex_b(payload).map(Piece::Whole));
    aggregate.into_iter().flatten().chain(single).chain(whole.into_iter().flatten())
}

/// Some devices leave the start codes of ISO/IEC 14496-10 annex B in their packets. No payload of RFC 6184 or RFC 7798 begins
/// like that: NAL units of type 0 are not used in the one, and a temporal identifier of zero is forbidden in the other.
pub(super) fn begins_with_start_code(payload: &[u8]) -> bool {
    payload.starts_with(&[0, 0, 1]) || payload.starts_with(&[0, 0, 0, 1])
}

fn single(payload: &[u8], kind: u8) -> Piece<'_> {
    match kind {
        1..=23 => Piece::Whole(payload),
        FU_A => fragment(payload).unwrap_or(Piece::Unknown),
        _ => Piece::Unknown,
    }
}

fn fragment(payload: &[u8]) -> Option<Piece<'_>> {
    let (&[indicator, header], rest) = payload.split_first_chunk::<2>()?;
    if rest.is_empty() {
        return None;
    }
    Some(match (header & 0x80 != 0, header & 0x40 != 0) {
        // Both bits in one fragment are forbidden (§5.8), but the meaning is plain.
        (true, _) => Piece::Start(NalHeader::one(indicator & 0xe0 | header & 0x1f), rest),
        (false, false) => Piece::Middle(rest),
        (false, true) => Piece::End(rest),
    })
}

/// The NAL units of an aggregation packet, each after its length in two bytes (RFC 6184 §5.7.1,
/// RFC 7798 §4.4.2); one shorter than `least` is no NAL unit.
pub(super) struct Aggregate<'a> {
    reader: Reader<'a>,
    least: usize,
}

impl<'a> Aggregate<'a> {
    /// `nals` begins with the first length; `least` is the least length of a NAL unit, in bytes.
    pub(super) const fn new(nals: &'a [u8], least: usize) -> Self {
        Self { reader: Reader::new(nals), least }
    }
}

impl<'a> Iterator for Aggregate<'a> {
    type Item = Piece<'a>;

    fn next(&mut self) -> Option<Piece<'a>> {
        if self.reader.rest().is_empty() {
            return None;
        }
        let nal = self.reader.u16().and_then(|size| self.reader.take(usize::from(size)));
        Some(match nal {
            Ok(nal) if nal.len() >= self.least => Piece::Whole(nal),
            Ok(_) => Piece::Unknown,
            Err(_) => {
                self.reader = Reader::new(&[]);
                Piece::Unknown
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_three_forms_are_taken_apart() {
        let all = |payload: &'static [u8]| pieces(payload).collect::<Vec<_>>();
        assert_eq!(all(&[0x67, 1, 2]), [Piece::Whole(&[0x67, 1, 2])]);
        assert_eq!(all(&[0x78, 0, 2, 0x67, 1, 0, 1, 0x68]), [Piece::Whole(&[0x67, 1]), Piece::Whole(&[0x68])]);
        assert_eq!(all(&[0x7c, 0x85, 9]), [Piece::Start(NalHeader::one(0x65), &[9])]);
        assert_eq!(all(&[0x7c, 0x05, 9]), [Piece::Middle(&[9])]);
        assert_eq!(all(&[0x7c, 0x45, 9]), [Piece::End(&[9])]);
        assert_eq!(all(&[0x78, 0, 9, 1]), [Piece::Unknown]);
        assert_eq!(all(&[0x7d, 0x45, 9]), [Piece::Unknown]);
        assert_eq!(all(&[]), [Piece::Unknown]);
        assert_eq!(all(&[0, 0, 0, 1, 0x67, 1, 0, 0, 1, 0x65, 2, 0]), [Piece::Whole(&[0x67, 1]), Piece::Whole(&[0x65, 2])]);
        assert_eq!(all(&[0, 0, 1]), []);
    }

    proptest! {
        #[test]
        fn any_payload_is_answered(payload: Vec<u8>) {
            prop_assert!(pieces(&payload).count() <= payload.len() + 1);
        }
    }
}
