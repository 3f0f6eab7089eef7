//! JPEG in RTP (RFC 2435): the scan comes in fragments, the headers of the file are rebuilt from a few bytes.
//!
//! Not done: the alternating fields of interlaced video (types with a field in the type-specific byte are
//! shown as they come).

use crate::wire::{Reader, Truncated};
use std::collections::BTreeMap;

/// The header of one fragment (§3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fragment<'a> {
    /// Where in the scan its bytes belong.
    pub offset: usize,
    /// Width and height in pixels, of whole blocks.
    pub size: (u32, u32),
    /// 0 for 4:2:2, 1 for 4:2:0.
    pub kind: u8,
    /// Quantisation: 1 to 99 of the usual tables, 128 and on of tables that are sent.
    pub quality: u8,
    /// Blocks between restart markers; 0 for none.
    pub restart_interval: u16,
    /// Tables, where this fragment brings them.
    pub tables: &'a [u8],
    /// Its part of the scan.
    pub scan: &'a [u8],
}

impl<'a> Fragment<'a> {
    /// Reads a payload.
    ///
    /// # Errors
    /// [`Truncated`] when it is shorter than its headers.
    pub fn parse(payload: &'a [u8]) -> Result<Self, Truncated> {
        let mut reader = Reader::new(payload);
        reader.u8()?;
        let offset = usize::from(reader.u8()?) << 16 | usize::from(reader.u16()?);
        let (kind, quality) = (reader.u8()?, reader.u8()?);
        let size = (u32::from(reader.u8()?) * 8, u32::from(reader.u8()?) * 8);
        let mut restart_interval = 0;
        if (64..128).contains(&kind) {
            restart_interval = reader.u16()?;
            reader.u16()?;
        }
        let mut tables: &[u8] = &[];
        if quality >= 128 && offset == 0 {
            reader.u16()?; // must be zero, precision: 16-bit tables are not used by cameras
            let length = reader.u16()?;
            tables = reader.take(usize::from(length))?;
        }
        Ok(Self { offset, size, kind: kind & 0x3f, quality, restart_interval, tables, scan: reader.rest() })
    }
}

/// The tables that were sent for a quality, to be used again when they are not sent anew (§3.1.8).
#[derive(Debug, Clone, Default)]
pub struct TableMemory(BTreeMap<u8, Vec<u8>>);

impl TableMemory {
    /// The luminance and chrominance tables for the first fragment of a picture; `None` when they were never sent.
    pub fn tables(&mut self, fragment: &Fragment<'_>) -> Option<([u8; 64], [u8; 64])> {
        if fragment.quality < 128 {
            return Some(usual_tables(fragment.quality));
        }
        if !fragment.tables.is_empty() {
            self.0.insert(fragment.quality, fragment.tables.to_vec());
        }
        let sent = self.0.get(&fragment.quality)?;
        let table = |from: usize| sent.get(from..from + 64).and_then(|table| <[u8; 64]>::try_from(table).ok());
        let luma = table(0)?;
        Some((luma, table(64).unwrap_or(luma)))
    }
}

/// The tables of annex K scaled by a quality (RFC 2435 appendix A), in zigzag order.
fn usual_tables(quality: u8) -> ([u8; 64], [u8; 64]) {
    let quality = i32::from(quality.clamp(1, 99));
    let factor = if quality < 50 { 5000 / quality } else { 200 - quality * 2 };
    let scale = |table: &[u8; 64]| table.map(|level| ((i32::from(level) * factor + 50) / 100).clamp(1, 255) as u8);
    (scale(&LUMA), scale(&CHROMA))
}

/// The bytes of a JPEG file before its scan (RFC 2435 appendix B).
#[must_use]
pub fn headers(fragment: &Fragment<'_>, (luma, chroma): &([u8; 64], [u8; 64])) -> Vec<u8> {
    let mut out = vec![0xff, 0xd8];
    for (id, table) in [(0u8, luma), (1, chroma)] {
        out.extend([0xff, 0xdb, 0, 67, id]);
        out.extend_from_slice(table);
    }
    if fragment.restart_interval > 0 {
        out.extend([0xff, 0xdd, 0, 4]);
        out.extend(fragment.restart_interval.to_be_bytes());
    }
    let ((width, height), sampling) = (fragment.size, if fragment.kind == 0 { 0x21 } else { 0x22 });
    out.extend([0xff, 0xc0, 0, 17, 8]);
    out.extend((height as u16).to_be_bytes());
    out.extend((width as u16).to_be_bytes());
    out.extend([3, 0, sampling, 0, 1, 0x11, 1, 2, 0x11, 1]);
    for (class, lengths, values) in [
        (0x00u8, DC_LUMA.0, DC_LUMA.1),
        (0x10, AC_LUMA.0, AC_LUMA.1),
        (0x01, DC_CHROMA.0, DC_CHROMA.1),
        (0x11, AC_CHROMA.0, AC_CHROMA.1),
    ] {
        out.extend([0xff, 0xc4]);
        out.extend(((3 + lengths.len() + values.len()) as u16).to_be_bytes());
        out.push(class);
        out.extend_from_slice(lengths);
        out.extend_from_slice(values);
    }
    out.extend([0xff, 0xda, 0, 12, 3, 0, 0x00, 1, 0x11, 2, 0x11, 0, 63, 0]);
    out
}

/// Width and height of a whole JPEG file, from its frame header; `None` where there is none.
#[must_use]
pub fn file_size(file: &[u8]) -> Option<(u32, u32)> {
    let mut reader = Reader::new(file.get(2..)?);
    loop {
        while reader.u8().ok()? != 0xff {}
        let mut marker = reader.u8().ok()?;
        while marker == 0xff {
            marker = reader.u8().ok()?;
        }
        if matches!(marker, 0x01 | 0xd0..=0xd9 | 0) {
            continue;
        }
        let body = reader.u16().ok().and_then(|length| reader.take(usize::from(length).checked_sub(2)?).ok())?;
        // Every start of frame but those of tables and extensions.
        if matches!(marker, 0xc0..=0xcf) && !matches!(marker, 0xc4 | 0xc8 | 0xcc) {
            let &[_, h1, h0, w1, w0, ..] = body else { return None };
            return Some((u32::from(u16::from_be_bytes([w1, w0])), u32::from(u16::from_be_bytes([h1, h0]))));
        }
        if marker == 0xda {
            return None;
        }
    }
}

const LUMA: [u8; 64] = [
    16, 11, 12, 14, 12, 10, 16, 14, 13, 14, 18, 17, 16, 19, 24, 40, 26, 24, 22, 22, 24, 49, 35, 37, 29, 40, 58, 51, 61, 60, 57,
    51, 56, 55, 64, 72, 92, 78, 64, 68, 87, 69, 55, 56, 80, 109, 81, 87, 95, 98, 103, 104, 103, 62, 77, 113, 121, 112, 100, 120,
    92, 101, 103, 99,
];
const CHROMA: [u8; 64] = [
    17, 18, 18, 24, 21, 24, 47, 26, 26, 47, 99, 66, 56, 66, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
    99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
    99, 99,
];
/// Code lengths and values of a table of annex K.3.
type Huffman = (&'static [u8; 16], &'static [u8]);
const DC_LUMA: Huffman = (&[0, 1, 5, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0], &[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11]);
const DC_CHROMA: Huffman = (&[0, 3, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0], &[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11]);
const AC_LUMA: Huffman = (
    &[0, 2, 1, 3, 3, 2, 4, 3, 5, 5, 4, 4, 0, 0, 1, 0x7d],
    &[
        0x01, 0x02, 0x03, 0x00, 0x04, 0x11, 0x05, 0x12, 0x21, 0x31, 0x41, 0x06, 0x13, 0x51, 0x61, 0x07, 0x22, 0x71, 0x14, 0x32,
        0x81, 0x91, 0xa1, 0x08, 0x23, 0x42, 0xb1, 0xc1, 0x15, 0x52, 0xd1, 0xf0, 0x24, 0x33, 0x62, 0x72, 0x82, 0x09, 0x0a, 0x16,
        0x17, 0x18, 0x19, 0x1a, 0x25, 0x26, 0x27, 0x28, 0x29, 0x2a, 0x34, 0x35, 0x36, 0x37, 0x38, 0x39, 0x3a, 0x43, 0x44, 0x45,
        0x46, 0x47, 0x48, 0x49, 0x4a, 0x53, 0x54, 0x55, 0x56, 0x57, 0x58, 0x59, 0x5a, 0x63, 0x64, 0x65, 0x66, 0x67, 0x68, 0x69,
        0x6a, 0x73, 0x74, 0x75, 0x76, 0x77, 0x78, 0x79, 0x7a, 0x83, 0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8a, 0x92, 0x93, 0x94,
        0x95, 0x96, 0x97, 0x98, 0x99, 0x9a, 0xa2, 0xa3, 0xa4, 0xa5, 0xa6, 0xa7, 0xa8, 0xa9, 0xaa, 0xb2, 0xb3, 0xb4, 0xb5, 0xb6,
        0xb7, 0xb8, 0xb9, 0xba, 0xc2, 0xc3, 0xc4, 0xc5, 0xc6, 0xc7, 0xc8, 0xc9, 0xca, 0xd2, 0xd3, 0xd4, 0xd5, 0xd6, 0xd7, 0xd8,
        0xd9, 0xda, 0xe1, 0xe2, 0xe3, 0xe4, 0xe5, 0xe6, 0xe7, 0xe8, 0xe9, 0xea, 0xf1, 0xf2, 0xf3, 0xf4, 0xf5, 0xf6, 0xf7, 0xf8,
        0xf9, 0xfa,
    ],
);
const AC_CHROMA: Huffman = (
    &[0, 2, 1, 2, 4, 4, 3, 4, 7, 5, 4, 4, 0, 1, 2, 0x77],
    &[
        0x00, 0x01, 0x02, 0x03, 0x11, 0x04, 0x05, 0x21, 0x31, 0x06, 0x12, 0x41, 0x51, 0x07, 0x61, 0x71, 0x13, 0x22, 0x32, 0x81,
        0x08, 0x14, 0x42, 0x91, 0xa1, 0xb1, 0xc1, 0x09, 0x23, 0x33, 0x52, 0xf0, 0x15, 0x62, 0x72, 0xd1, 0x0a, 0x16, 0x24, 0x34,
        0xe1, 0x25, 0xf1, 0x17, 0x18, 0x19, 0x1a, 0x26, 0x27, 0x28, 0x29, 0x2a, 0x35, 0x36, 0x37, 0x38, 0x39, 0x3a, 0x43, 0x44,
        0x45, 0x46, 0x47, 0x48, 0x49, 0x4a, 0x53, 0x54, 0x55, 0x56, 0x57, 0x58, 0x59, 0x5a, 0x63, 0x64, 0x65, 0x66, 0x67, 0x68,
        0x69, 0x6a, 0x73, 0x74, 0x75, 0x76, 0x77, 0x78, 0x79, 0x7a, 0x82, 0x83, 0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8a, 0x92,
        0x93, 0x94, 0x95, 0x96, 0x97, 0x98, 0x99, 0x9a, 0xa2, 0xa3, 0xa4, 0xa5, 0xa6, 0xa7, 0xa8, 0xa9, 0xaa, 0xb2, 0xb3, 0xb4,
        0xb5, 0xb6, 0xb7, 0xb8, 0xb9, 0xba, 0xc2, 0xc3, 0xc4, 0xc5, 0xc6, 0xc7, 0xc8, 0xc9, 0xca, 0xd2, 0xd3, 0xd4, 0xd5, 0xd6,
        0xd7, 0xd8, 0xd9, 0xda, 0xe2, 0xe3, 0xe4, 0xe5, 0xe6, 0xe7, 0xe8, 0xe9, 0xea, 0xf2, 0xf3, 0xf4, 0xf5, 0xf6, 0xf7, 0xf8,
        0xf9, 0xfa,
    ],
);

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_fragment_and_its_tables_are_read() {
        let mut payload = vec![0, 0, 0, 0, 1, 200, 40, 23, 0, 0, 0, 128];
        payload.extend((0..128).map(|n| n as u8 + 1));
        payload.extend([9, 9]);
        let first = Fragment::parse(&payload).unwrap();
        assert_eq!((first.size, first.kind, first.scan), ((320, 184), 1, &[9u8, 9][..]));
        let mut memory = TableMemory::default();
        let (luma, chroma) = memory.tables(&first).unwrap();
        assert_eq!((luma[0], chroma[0]), (1, 65));
        // Not sent again, and of another quality that was never sent.
        let again = Fragment { tables: &[], ..first };
        assert_eq!(memory.tables(&again), Some((luma, chroma)));
        assert_eq!(memory.tables(&Fragment { quality: 201, ..again }), None);
        assert_eq!(file_size(&headers(&first, &(luma, chroma))), Some((320, 184)));
    }

    #[test]
    fn the_usual_tables_follow_the_quality() {
        assert_eq!(usual_tables(50).0, LUMA);
        assert_eq!(usual_tables(99).0[0], 1);
        assert!(usual_tables(0).1.iter().all(|level| *level == 255));
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(bytes: Vec<u8>) {
            let _ = Fragment::parse(&bytes);
            let _ = file_size(&bytes);
        }
    }
}
