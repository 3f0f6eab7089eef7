//! How sixty slots of readings stand in a row of the record, and how rows of earlier versions are read.
//!
//! Deflated, a row is: a byte `0x80 + version`, the number of its fields, a code for each field, then by slot the verdict's
//! code (255: nothing was measured, 254: not known) and the count of samples as `u16`, then by field all slots as 16-bit
//! floating point numbers, little endian. Most fields are never negative, so that a negative number stands for 1024 times as
//! much, for what is beyond [`LARGEST`]; of those that may be ([`SIGNED`]) the root stands there, with the sign. A field or verdict of a newer version is passed over, one that is missing is
//! unknown; so a new figure costs nothing of what was kept.
//!
//! Version 2 kept nothing beyond 65504. The first version had no head: sixteen fields in the order of [`FIRST_FIELDS`], verdicts by their place in
//! [`FIRST_VERDICTS`].

use flate2::Compression;
use flate2::read::{ZlibDecoder, ZlibEncoder};
use half::f16;
use lattice_core::Verdict;
use lattice_core::meter::{KEPT, Sample};
use std::io::Read as _;

/// Slots of a row.
pub const SLOTS: usize = 60;
/// The version that is written.
const VERSION: u8 = 3;
/// Versions that are read, besides the first.
const READ: std::ops::RangeInclusive<u8> = 2..=VERSION;
/// Larger values are kept by 1024.
const LARGEST: f32 = 60_000.0;
const SCALE: f32 = 1024.0;
/// The fields that may be negative, to a thousandth of what they are: how far a clock is off, levels and offset of the sound.
const SIGNED: [u8; 4] = [17, 19, 20, 21];
/// A head begins with a byte from here on: no verdict of the first version has such a code.
const HEAD: u8 = 0x80;
const NOT_MEASURED: u8 = 255;
const NOT_KNOWN: u8 = 254;
/// Most bytes of a row: 255 fields.
const LONGEST: u64 = 2 + 255 + SLOTS as u64 * (1 + 2 + 2 * 255);

/// The fields of the first version, by their codes.
const FIRST_FIELDS: [u8; 16] = [1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16];
/// The verdicts of the first version.
const FIRST_VERDICTS: [Verdict; 7] =
    [Verdict::Lost, Verdict::Locked, Verdict::Stalled, Verdict::Strained, Verdict::Waiting, Verdict::Steady, Verdict::Resting];

/// A count of samples and their mean; `None` where nothing was measured.
pub type Slot = Option<(u16, Sample)>;

const fn code_of(verdict: Verdict) -> u8 {
    match verdict {
        Verdict::Steady => 1,
        Verdict::Strained => 2,
        Verdict::Stalled => 3,
        Verdict::Lost => 4,
        Verdict::Locked => 5,
        Verdict::Waiting => 6,
        Verdict::Resting => 7,
    }
}

fn verdict_of(code: u8) -> Option<Verdict> {
    Verdict::WORST_FIRST.into_iter().find(|verdict| code_of(*verdict) == code)
}

fn half_of(code: u8, value: f32) -> f16 {
    if SIGNED.contains(&code) {
        return f16::from_f32(value.abs().sqrt().min(LARGEST).copysign(value));
    }
    if value > LARGEST { f16::from_f32(-(value / SCALE).min(LARGEST)) } else { f16::from_f32(value.max(0.0)) }
}

fn value_of(code: u8, half: f16) -> f32 {
    let value = half.to_f32();
    if SIGNED.contains(&code) {
        return value * value.abs();
    }
    if value < 0.0 { -value * SCALE } else { value }
}

/// A row, to be kept.
pub fn encode(slots: &[Slot]) -> Vec<u8> {
    let mut bytes = vec![HEAD + VERSION, KEPT.len() as u8];
    bytes.extend(KEPT.iter().map(|kept| kept.code));
    let verdict = |slot: &Slot| slot.map_or(NOT_MEASURED, |(_, sample)| sample.verdict.map_or(NOT_KNOWN, code_of));
    bytes.extend(slots.iter().map(verdict));
    bytes.extend(slots.iter().flat_map(|slot| slot.map_or(0, |(count, _)| count).to_le_bytes()));
    for (index, kept) in KEPT.iter().enumerate() {
        let number = |slot: &Slot| {
            let value = slot.and_then(|(_, sample)| sample.values[index]);
            value.map_or(f16::NAN, |value| half_of(kept.code, value))
        };
        bytes.extend(slots.iter().flat_map(|slot| number(slot).to_le_bytes()));
    }
    let mut out = Vec::new();
    // Into memory: there is nothing that could fail.
    let _ = ZlibEncoder::new(bytes.as_slice(), Compression::fast()).read_to_end(&mut out);
    out
}

/// A row as it was kept; `None` where it is none, or of a version that is not known here.
pub fn decode(blob: &[u8]) -> Option<Vec<Slot>> {
    let mut bytes = Vec::new();
    ZlibDecoder::new(blob).take(LONGEST + 1).read_to_end(&mut bytes).ok()?;
    let known_head = bytes.first().is_some_and(|first| first.checked_sub(HEAD).is_some_and(|version| READ.contains(&version)));
    let (codes, body): (Vec<u8>, &[u8]) = if known_head {
        let count = usize::from(*bytes.get(1)?);
        (bytes.get(2..2 + count)?.to_vec(), bytes.get(2 + count..)?)
    } else {
        (FIRST_FIELDS.to_vec(), &bytes)
    };
    if body.len() != SLOTS * (1 + 2 + 2 * codes.len()) {
        return None;
    }
    let (verdicts, rest) = body.split_at(SLOTS);
    let numbers = rest.as_chunks::<2>().0;
    // Where each of our fields stands in the row.
    let places = KEPT.map(|kept| codes.iter().position(|code| *code == kept.code));
    let slot = |index: usize| {
        let code = verdicts[index];
        if code == NOT_MEASURED {
            return None;
        }
        let verdict = if known_head { verdict_of(code) } else { FIRST_VERDICTS.get(usize::from(code)).copied() };
        let mut values = [None; KEPT.len()];
        for ((value, place), kept) in values.iter_mut().zip(places).zip(KEPT) {
            *value = place
                .map(|place| value_of(kept.code, f16::from_le_bytes(numbers[SLOTS * (place + 1) + index])))
                .filter(|value| !value.is_nan());
        }
        Some((u16::from_le_bytes(numbers[index]).max(1), Sample { verdict, values }))
    };
    Some((0..SLOTS).map(slot).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::meter::Fig;

    fn deflated(bytes: &[u8]) -> Vec<u8> {
        let mut out = Vec::new();
        ZlibEncoder::new(bytes, Compression::fast()).read_to_end(&mut out).unwrap();
        out
    }

    /// A body whose slot 3 was measured twice: its verdict, and a number for each field.
    fn body(verdict: u8, numbers: &[f32]) -> Vec<u8> {
        let slots = |value: u16, other: u16| (0..SLOTS).flat_map(move |n| if n == 3 { value } else { other }.to_le_bytes());
        let mut bytes: Vec<u8> = (0..SLOTS).map(|n| if n == 3 { verdict } else { NOT_MEASURED }).collect();
        bytes.extend(slots(2, 0));
        for number in numbers {
            bytes.extend(slots(f16::from_f32(*number).to_bits(), f16::NAN.to_bits()));
        }
        bytes
    }

    #[test]
    fn a_row_of_the_first_version_is_read_field_by_field() {
        // Sent, arrived, shown, kbit/s, ..., jitter, loss; the fifth verdict from the worst is waiting.
        let numbers: Vec<f32> = (1..=16).map(|n| n as f32).collect();
        let row = decode(&deflated(&body(4, &numbers))).unwrap();
        let (count, sample) = row[3].unwrap();
        assert_eq!((count, sample.verdict), (2, Some(Verdict::Waiting)));
        let get = |fig: Fig| sample.get(fig);
        assert_eq!((get(Fig::Sent), get(Fig::Bitrate), get(Fig::Loss)), (Some(1.0), Some(4.0), Some(16.0)));
        assert_eq!((get(Fig::BitrateKey), get(Fig::Jitter)), (Some(11.0), Some(15.0)));
        assert!(row.iter().enumerate().all(|(n, slot)| slot.is_some() == (n == 3)));
    }

    #[test]
    fn a_field_or_a_verdict_of_another_version_costs_nothing_of_the_others() {
        // A field that is not known here stands between two that are; most are missing.
        let mut bytes = vec![HEAD + VERSION, 3, 1, 200, 15];
        bytes.extend(body(99, &[12.5, 7.0, 3.5]));
        let (_, sample) = decode(&deflated(&bytes)).unwrap()[3].unwrap();
        assert_eq!((sample.verdict, sample.get(Fig::Sent), sample.get(Fig::Jitter)), (None, Some(12.5), Some(3.5)));
        assert_eq!(sample.values.iter().flatten().count(), 2);
        assert_eq!(decode(&encode(&decode(&deflated(&bytes)).unwrap())).unwrap()[3].unwrap().1, sample);
        // What is no row of a version that is known here is none.
        bytes[0] += 1;
        assert!(decode(&deflated(&bytes)).is_none() && decode(b"nonsense").is_none() && decode(&deflated(&[])).is_none());
        bytes[0] -= 1;
        for cut in 0..bytes.len() {
            assert!(decode(&deflated(&bytes[..cut])).is_none(), "{cut}");
        }
    }

    #[test]
    fn clocks_that_are_ahead_and_behind_are_kept_to_a_thousandth() {
        for offset in [0.0, 3.0, -0.4, -4810.0, 18_000_000.0, -18_000_000.0] {
            let sample = Sample::default().with_value(Fig::ClockOffset, offset).with_value(Fig::ClockError, 12.0);
            let mut slots = vec![None; SLOTS];
            slots[7] = Some((1, sample));
            let (_, back) = decode(&encode(&slots)).unwrap()[7].unwrap();
            let read = back.get(Fig::ClockOffset).unwrap();
            assert!(
                (read - offset).abs() <= offset.abs() * 1e-3 && back.get(Fig::ClockError) == Some(12.0),
                "{read} of {offset}"
            );
        }
    }

    #[test]
    fn no_two_fields_share_a_code() {
        let codes: std::collections::BTreeSet<u8> = KEPT.iter().map(|kept| kept.code).collect();
        assert_eq!(codes.len(), KEPT.len());
    }
}
