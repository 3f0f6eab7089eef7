//! H.265 in RTP (RFC 7798): single NAL units, aggregation packets, fragmentation units; and the sequence
//! parameter set (ISO/IEC 23008-2 §7.3.2.2).
//!
//! Not done: decoding order numbers (`sprop-max-don-diff` above 0), PACI packets, several layers.

use super::bits::{Bits, unescape};
use super::h264::{Aggregate, NalHeader, NalKind, Piece, begins_with_start_code};
use super::packetize::annex_b;
use super::parameters::{MAX_SIDE, Parameters, VideoCodec};
use super::sps::{ColourMatrix, SpsError, read_colour};
use crate::FrameRate;
use crate::wire::Truncated;

const AGGREGATION: u8 = 48;
const FRAGMENTATION: u8 = 49;

/// The kind of a NAL unit by its first byte (table 7-1).
#[must_use]
pub const fn kind(header: u8) -> NalKind {
    match header >> 1 & 0x3f {
        16..=23 => NalKind::Idr,
        0..=31 => NalKind::Slice,
        32 => NalKind::Vps,
        33 => NalKind::Sps,
        34 => NalKind::Pps,
        35 => NalKind::Delimiter,
        39 => NalKind::Sei,
        _ => NalKind::Other,
    }
}

/// The pieces in one RTP payload, in order (RFC 7798 §4.4).
pub fn pieces(payload: &[u8]) -> impl Iterator<Item = Piece<'_>> {
    let kind = payload.first().map_or(0, |header| header >> 1 & 0x3f);
    let coded = begins_with_start_code(payload);
    let aggregate = (kind == AGGREGATION).then(|| Aggregate::new(payload.get(2..).unwrap_or_default(), 3));
    let single = (kind != AGGREGATION && !coded).then(|| single(payload, kind));
    let whole = coded.then(|| annex_b(payload).map(Piece::Whole));
    aggregate.into_iter().flatten().chain(single).chain(whole.into_iter().flatten())
}

fn single(payload: &[u8], kind: u8) -> Piece<'_> {
    match kind {
        0..=47 if payload.len() > 2 => Piece::Whole(payload),
        FRAGMENTATION => fragment(payload).unwrap_or(Piece::Unknown),
        _ => Piece::Unknown,
    }
}

fn fragment(payload: &[u8]) -> Option<Piece<'_>> {
    let (&[first, second, header], rest) = payload.split_first_chunk::<3>()?;
    if rest.is_empty() {
        return None;
    }
    Some(match (header & 0x80 != 0, header & 0x40 != 0) {
        (true, _) => Piece::Start(NalHeader::two(first & 0x81 | (header & 0x3f) << 1, second), rest),
        (false, false) => Piece::Middle(rest),
        (false, true) => Piece::End(rest),
    })
}

/// Reads a sequence parameter set, with its NAL header.
///
/// # Errors
/// [`SpsError`]; what the VUI would have said is unknown where it is cut.
pub fn parse_sps(nal: &[u8]) -> Result<Parameters, SpsError> {
    let bytes = unescape(nal.get(2..).ok_or(SpsError::Truncated)?);
    let mut bits = Bits::new(&bytes);
    bits.u(4)?; // sps_video_parameter_set_id
    let sub_layers = bits.u(3)?;
    bits.bit()?; // temporal id nesting
    let profile = profile_tier_level(&mut bits, sub_layers)?;
    bits.ue()?; // sps_seq_parameter_set_id
    let chroma = bits.ue()?;
    if chroma > 3 {
        return Err(SpsError::Range("chroma format"));
    }
    if chroma == 3 {
        bits.bit()?;
    }
    let side = |side: u32, what| if (1..=MAX_SIDE).contains(&side) { Ok(side) } else { Err(SpsError::Range(what)) };
    let (coded_width, coded_height) = (side(bits.ue()?, "width")?, side(bits.ue()?, "height")?);
    let (crop_x, crop_y) = if bits.bit()? { crop(&mut bits, chroma)? } else { (0, 0) };
    let cropped = |side: u32, crop: u32| side.checked_sub(crop).filter(|side| *side > 0).ok_or(SpsError::Range("cropping"));
    let (width, height) = (cropped(coded_width, crop_x)?, cropped(coded_height, crop_y)?);
    let depth = bits.ue()?;
    let mut parameters = Parameters {
        codec: VideoCodec::H265,
        width,
        height,
        coded: (coded_width, coded_height),
        declared: None,
        full_range: false,
        matrix: ColourMatrix::Unspecified,
        profile,
        reorder: None,
        unusual: match (chroma, depth) {
            (1 | 3, 0..=4) => None,
            (0, _) => Some("monochrome"),
            (2, _) => Some("4:2:2"),
            _ => Some("with more than 12 bits"),
        },
    };
    let _ = read_vui(&mut bits, sub_layers, &mut parameters); // the rest may be cut
    Ok(parameters)
}

fn profile_tier_level(bits: &mut Bits<'_>, sub_layers: u32) -> Result<&'static str, Truncated> {
    let profile = bits.u(8)? & 0x1f;
    bits.u(32)?; // compatibility flags
    bits.u(32)?; // source and constraint flags
    bits.u(16)?;
    bits.u(8)?; // level
    let present: Vec<(bool, bool)> = (0..sub_layers).map(|_| Ok((bits.bit()?, bits.bit()?))).collect::<Result<_, Truncated>>()?;
    if sub_layers > 0 {
        bits.u((8 - sub_layers) * 2)?;
    }
    for (profile, level) in present {
        for _ in 0..if profile { 11 } else { 0 } {
            bits.u(8)?;
        }
        if level {
            bits.u(8)?;
        }
    }
    Ok(match profile {
        1 => "Main",
        2 => "Main 10",
        3 => "Main Still Picture",
        4 => "Range Extensions",
        9 => "Screen Content",
        _ => "Other",
    })
}

fn crop(bits: &mut Bits<'_>, chroma: u32) -> Result<(u32, u32), SpsError> {
    let [left, right, top, bottom] = [bits.ue()?, bits.ue()?, bits.ue()?, bits.ue()?];
    let (unit_x, unit_y) = match chroma {
        1 => (2, 2),
        2 => (2, 1),
        _ => (1, 1),
    };
    let side =
        |a: u32, b: u32, unit: u32| a.checked_add(b).and_then(|sum| sum.checked_mul(unit)).ok_or(SpsError::Range("cropping"));
    Ok((side(left, right, unit_x)?, side(top, bottom, unit_y)?))
}

/// From the chroma depth to the timing in the VUI (annex E); stops where the bytes end.
fn read_vui(bits: &mut Bits<'_>, sub_layers: u32, out: &mut Parameters) -> Result<(), Truncated> {
    bits.ue()?; // chroma depth
    let poc_bits = bits.ue()?.saturating_add(4);
    let all_layers = bits.bit()?;
    for _ in 0..if all_layers { sub_layers + 1 } else { 1 } {
        bits.ue()?; // size of the decoded picture buffer
        // What is said last is of all layers together.
        out.reorder = u8::try_from(bits.ue()?).ok().filter(|reorder| *reorder < 16);
        bits.ue()?; // latency increase
    }
    for _ in 0..6 {
        bits.ue()?; // block sizes and depths
    }
    if bits.bit()? && bits.bit()? {
        scaling_lists(bits)?;
    }
    bits.u(2)?; // amp, sao
    if bits.bit()? {
        bits.u(8)?; // pcm depths
        bits.ue()?;
        bits.ue()?;
        bits.bit()?;
    }
    short_term_sets(bits)?;
    if bits.bit()? {
        for _ in 0..bits.ue()?.min(33) {
            bits.u(poc_bits.min(32))?;
            bits.bit()?;
        }
    }
    bits.u(2)?; // temporal mvp, strong intra smoothing
    if !bits.bit()? {
        return Ok(());
    }
    read_colour(bits, &mut out.full_range, &mut out.matrix)?;
    bits.u(3)?; // neutral chroma, field sequence, frame field info
    if bits.bit()? {
        for _ in 0..4 {
            bits.ue()?; // default display window
        }
    }
    if bits.bit()? {
        let (units, scale) = (bits.u(32)?, bits.u(32)?);
        // One tick a picture (§E.3.1).
        out.declared = FrameRate::new(f64::from(scale) / f64::from(units));
    }
    Ok(())
}

fn scaling_lists(bits: &mut Bits<'_>) -> Result<(), Truncated> {
    for size in 0..4u32 {
        for _ in 0..if size == 3 { 2 } else { 6 } {
            if !bits.bit()? {
                bits.ue()?;
                continue;
            }
            if size > 1 {
                bits.se()?;
            }
            for _ in 0..64.min(1 << (4 + (size << 1))) {
                bits.se()?;
            }
        }
    }
    Ok(())
}

fn short_term_sets(bits: &mut Bits<'_>) -> Result<(), Truncated> {
    let sets = bits.ue()?.min(64);
    let mut pictures: u32 = 0;
    for set in 0..sets {
        if set > 0 && bits.bit()? {
            bits.bit()?;
            bits.ue()?;
            let mut kept = 0;
            for _ in 0..=pictures {
                // Used by the current picture, or not used but kept for later ones.
                if bits.bit()? || bits.bit()? {
                    kept += 1;
                }
            }
            pictures = kept;
            continue;
        }
        let (before, after) = (bits.ue()?.min(16), bits.ue()?.min(16));
        for _ in 0..before + after {
            bits.ue()?;
            bits.bit()?;
        }
        pictures = before + after;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn payloads_of_every_form_are_taken_apart() {
        let all = |payload: &[u8]| pieces(payload).map(|piece| format!("{piece:?}")).collect::<Vec<_>>().join(" ");
        assert_eq!(all(&[0x40, 1, 9]), "Whole([64, 1, 9])");
        assert_eq!(all(&[0x60, 1, 0, 3, 0x42, 1, 7, 0, 3, 0x44, 1, 8]), "Whole([66, 1, 7]) Whole([68, 1, 8])");
        let start = pieces(&[0x62, 1, 0x80 | 0x13, 5, 6]).next().unwrap();
        assert_eq!(start, Piece::Start(NalHeader::two(19 << 1, 1), &[5, 6]));
        assert_eq!(all(&[0x62, 1, 19, 5]), "Middle([5])");
        assert_eq!(all(&[0x62, 1, 0x40 | 0x13, 5]), "End([5])");
        for odd in [&[][..], &[0x40], &[0x62, 1, 3], &[0x60, 1, 0, 9, 1], &[0x64, 1, 2]] {
            assert!(all(odd).ends_with("Unknown"), "{odd:?}");
        }
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(bytes: Vec<u8>) {
            let _ = parse_sps(&bytes);
            let _ = pieces(&bytes).count();
        }
    }
}
