//! Sequence parameter sets of H.264 (ISO/IEC 14496-10 §7.3.2.1, annex E).
//!
//! Not done: HRD parameters beyond skipping them, bitstream restrictions, extensions.

use super::bits::{Bits, unescape};
use super::parameters::{MAX_SIDE, Parameters, VideoCodec};
use crate::FrameRate;
use crate::wire::Truncated;
use serde::{Deserialize, Serialize};

/// The matrix between RGB and the coded planes (table E-5).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub enum ColourMatrix {
    /// ITU-R BT.601.
    Bt601,
    /// ITU-R BT.709.
    Bt709,
    /// The stream does not say: BT.709 from 720 lines, BT.601 below, as is usual.
    #[default]
    Unspecified,
}

impl ColourMatrix {
    /// The matrix with this code of the standard.
    #[must_use]
    pub const fn of(code: u32) -> Self {
        match code {
            1 => Self::Bt709,
            5..=7 => Self::Bt601,
            _ => Self::Unspecified,
        }
    }

    /// Whether BT.709 applies to a picture of this height.
    #[must_use]
    pub const fn is_bt709(self, height: u32) -> bool {
        match self {
            Self::Bt709 => true,
            Self::Bt601 => false,
            Self::Unspecified => height >= 720,
        }
    }
}

/// What a sequence parameter set declares.
#[derive(Debug, Clone, PartialEq)]
pub struct Sps {
    /// `profile_idc`.
    pub profile_idc: u8,
    /// The constraint flags, most significant first.
    pub constraints: u8,
    /// `level_idc`.
    pub level_idc: u8,
    /// Cropped width in pixels.
    pub width: u32,
    /// Cropped height in pixels.
    pub height: u32,
    /// Width and height as coded.
    pub coded: (u32, u32),
    /// Fields may occur (`frame_mbs_only_flag` is 0).
    pub interlaced: bool,
    /// The VUI's timing, where there is one.
    pub declared: Option<FrameRate>,
    /// Luma runs from 0 to 255 rather than 16 to 235.
    pub full_range: bool,
    /// The colour matrix.
    pub matrix: ColourMatrix,
    /// By how many pictures display order may differ from coding order at most.
    pub reorder: Option<u8>,
}

/// Why a parameter set is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SpsError {
    /// Shorter than its syntax.
    #[error("cut short")]
    Truncated,
    /// A value outside of what the standard allows.
    #[error("{0} is out of range")]
    Range(&'static str),
}

impl From<Truncated> for SpsError {
    fn from(_: Truncated) -> Self {
        Self::Truncated
    }
}

impl Sps {
    /// Reads a NAL unit of type 7, header byte included.
    ///
    /// # Errors
    /// [`SpsError`]; a cut VUI is no error, what it would have said is unknown.
    pub fn parse(nal: &[u8]) -> Result<Self, SpsError> {
        let bytes = unescape(nal.get(1..).ok_or(SpsError::Truncated)?);
        let mut bits = Bits::new(&bytes);
        let profile_idc = bits.u(8)? as u8;
        let constraints = bits.u(8)? as u8;
        let level_idc = bits.u(8)? as u8;
        bits.ue()?; // seq_parameter_set_id
        let chroma = if has_chroma_format(profile_idc) { chroma_format(&mut bits)? } else { 1 };
        bits.ue()?; // log2_max_frame_num_minus4
        let in_order = picture_order(&mut bits)? == 2;
        bits.ue()?; // max_num_ref_frames
        bits.bit()?;
        let mb_width = bits.ue()?.checked_add(1).filter(|w| *w <= MAX_SIDE / 16).ok_or(SpsError::Range("width"))?;
        let map_height = bits.ue()?.checked_add(1).filter(|h| *h <= MAX_SIDE / 16).ok_or(SpsError::Range("height"))?;
        let frame_mbs_only = bits.bit()?;
        if !frame_mbs_only {
            bits.bit()?;
        }
        bits.bit()?; // direct_8x8_inference_flag
        let (coded_width, coded_height) = (mb_width * 16, map_height * 16 * if frame_mbs_only { 1 } else { 2 });
        if coded_height > MAX_SIDE {
            return Err(SpsError::Range("height"));
        }
        let (crop_x, crop_y) = if bits.bit()? { crop(&mut bits, chroma, frame_mbs_only)? } else { (0, 0) };
        let width = coded_width.checked_sub(crop_x).filter(|w| *w > 0).ok_or(SpsError::Range("cropping"))?;
        let height = coded_height.checked_sub(crop_y).filter(|h| *h > 0).ok_or(SpsError::Range("cropping"))?;
        let vui = if bits.bit()? { parse_vui(&mut bits) } else { Vui::default() };
        Ok(Self {
            profile_idc,
            constraints,
            level_idc,
            width,
            height,
            coded: (coded_width, coded_height),
            interlaced: !frame_mbs_only,
            declared: vui.rate,
            full_range: vui.full_range,
            matrix: vui.matrix,
            // Baseline has no pictures that are predicted from both sides (annex A).
            reorder: if in_order || profile_idc == 66 { Some(0) } else { vui.reorder },
        })
    }

    /// What it says of the pictures.
    #[must_use]
    pub const fn parameters(&self) -> Parameters {
        Parameters {
            codec: VideoCodec::H264,
            width: self.width,
            height: self.height,
            coded: self.coded,
            declared: self.declared,
            full_range: self.full_range,
            matrix: self.matrix,
            profile: self.profile(),
            reorder: self.reorder,
            unusual: self.unusual(),
        }
    }

    /// The profile's name (annex A).
    #[must_use]
    pub const fn profile(&self) -> &'static str {
        match self.profile_idc {
            66 if self.constraints & 0x40 != 0 => "Constrained Baseline",
            66 => "Baseline",
            77 => "Main",
            88 => "Extended",
            100 => "High",
            110 => "High 10",
            122 => "High 4:2:2",
            244 => "High 4:4:4 Predictive",
            _ => "Other",
        }
    }

    /// What is unusual about the stream, so that a decoder may not take it; `None` for progressive
    /// 8-bit 4:2:0, which all do.
    #[must_use]
    pub const fn unusual(&self) -> Option<&'static str> {
        match self.profile_idc {
            66 | 77 | 88 | 100 if self.interlaced => Some("interlaced"),
            66 | 77 | 88 | 100 => None,
            _ => Some(self.profile()),
        }
    }
}

const fn has_chroma_format(profile_idc: u8) -> bool {
    matches!(profile_idc, 100 | 110 | 122 | 244 | 44 | 83 | 86 | 118 | 128 | 138 | 139 | 134 | 135)
}

fn chroma_format(bits: &mut Bits<'_>) -> Result<u32, SpsError> {
    let chroma = bits.ue()?;
    if chroma > 3 {
        return Err(SpsError::Range("chroma format"));
    }
    if chroma == 3 {
        bits.bit()?;
    }
    bits.ue()?; // luma bit depth
    bits.ue()?; // chroma bit depth
    bits.bit()?;
    if bits.bit()? {
        for list in 0..if chroma == 3 { 12 } else { 8 } {
            if bits.bit()? {
                skip_scaling_list(bits, if list < 6 { 16 } else { 64 })?;
            }
        }
    }
    Ok(chroma)
}

fn skip_scaling_list(bits: &mut Bits<'_>, size: u32) -> Result<(), Truncated> {
    let (mut last, mut next) = (8i32, 8i32);
    for _ in 0..size {
        if next != 0 {
            next = (last.wrapping_add(bits.se()?)).rem_euclid(256);
        }
        last = if next == 0 { last } else { next };
    }
    Ok(())
}

/// How the order of pictures is told: by 2 it is that of coding (§8.2.1.3).
fn picture_order(bits: &mut Bits<'_>) -> Result<u32, SpsError> {
    let kind = bits.ue()?;
    match kind {
        0 => {
            bits.ue()?;
        }
        1 => {
            bits.bit()?;
            bits.se()?;
            bits.se()?;
            let count = bits.ue()?;
            if count > 255 {
                return Err(SpsError::Range("picture order"));
            }
            for _ in 0..count {
                bits.se()?;
            }
        }
        2 => {}
        _ => return Err(SpsError::Range("picture order")),
    }
    Ok(kind)
}

fn crop(bits: &mut Bits<'_>, chroma: u32, frame_mbs_only: bool) -> Result<(u32, u32), SpsError> {
    let [left, right, top, bottom] = [bits.ue()?, bits.ue()?, bits.ue()?, bits.ue()?];
    let unit_x = if matches!(chroma, 1 | 2) { 2 } else { 1 };
    let unit_y = if chroma == 1 { 2 } else { 1 } * if frame_mbs_only { 1 } else { 2 };
    let side =
        |a: u32, b: u32, unit: u32| a.checked_add(b).and_then(|sum| sum.checked_mul(unit)).ok_or(SpsError::Range("cropping"));
    Ok((side(left, right, unit_x)?, side(top, bottom, unit_y)?))
}

#[derive(Default)]
struct Vui {
    rate: Option<FrameRate>,
    full_range: bool,
    matrix: ColourMatrix,
    reorder: Option<u8>,
}

/// Reads all of it; stops where the bytes end.
fn parse_vui(bits: &mut Bits<'_>) -> Vui {
    let mut vui = Vui::default();
    let _ = fill_vui(bits, &mut vui);
    vui
}

/// The VUI's opening, the same in both standards (ISO/IEC 14496-10 and 23008-2, §E.2.1): shape of a
/// sample, overscan, colour, place of the chroma samples.
pub(super) fn read_colour(bits: &mut Bits<'_>, full_range: &mut bool, matrix: &mut ColourMatrix) -> Result<(), Truncated> {
    if bits.bit()? && bits.u(8)? == 255 {
        bits.u(32)?; // sample aspect ratio
    }
    if bits.bit()? {
        bits.bit()?; // overscan
    }
    if bits.bit()? {
        bits.u(3)?;
        *full_range = bits.bit()?;
        if bits.bit()? {
            bits.u(16)?;
            *matrix = ColourMatrix::of(bits.u(8)?);
        }
    }
    if bits.bit()? {
        bits.ue()?; // chroma location
        bits.ue()?;
    }
    Ok(())
}

fn fill_vui(bits: &mut Bits<'_>, vui: &mut Vui) -> Result<(), Truncated> {
    read_colour(bits, &mut vui.full_range, &mut vui.matrix)?;
    if bits.bit()? {
        let (units, scale) = (bits.u(32)?, bits.u(32)?);
        // Two ticks a frame (§E.2.1).
        vui.rate = FrameRate::new(f64::from(scale) / (2.0 * f64::from(units)));
        bits.bit()?; // fixed frame rate
    }
    let nal = bits.bit()?;
    if nal {
        skip_hrd(bits)?;
    }
    let vcl = bits.bit()?;
    if vcl {
        skip_hrd(bits)?;
    }
    if nal || vcl {
        bits.bit()?; // low delay
    }
    bits.bit()?; // picture structure
    if bits.bit()? {
        bits.bit()?; // motion vectors over picture boundaries
        for _ in 0..4 {
            bits.ue()?; // bytes and bits at most, lengths of vectors
        }
        vui.reorder = u8::try_from(bits.ue()?).ok().filter(|reorder| *reorder <= 16);
    }
    Ok(())
}

/// Parameters of a hypothetical reference decoder (§E.1.2).
fn skip_hrd(bits: &mut Bits<'_>) -> Result<(), Truncated> {
    let count = bits.ue()?.min(31);
    bits.u(8)?; // scales
    for _ in 0..=count {
        bits.ue()?;
        bits.ue()?;
        bits.bit()?;
    }
    bits.u(20)?; // lengths of delays
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn cropping_and_timing_are_read() {
        // Baseline, 40x23 macroblocks, 8 lines cropped at the bottom, VUI with 1001/48000 timing.
        let mut w = Writer::default();
        w.u(8, 66).u(8, 0x40).u(8, 30).ue(0).ue(0).ue(2).ue(1).u(1, 0).ue(39).ue(22).u(1, 1).u(1, 1);
        w.u(1, 1).ue(0).ue(0).ue(0).ue(4);
        w.u(1, 1)
            .u(1, 0)
            .u(1, 0)
            .u(1, 1)
            .u(3, 5)
            .u(1, 1)
            .u(1, 1)
            .u(8, 1)
            .u(8, 1)
            .u(8, 1)
            .u(1, 0)
            .u(1, 1)
            .u(32, 1001)
            .u(32, 60000)
            .u(1, 1);
        let sps = Sps::parse(&w.nal()).unwrap();
        assert_eq!((sps.width, sps.height, sps.profile()), (640, 360, "Constrained Baseline"));
        assert!((sps.declared.unwrap().per_second() - 29.97).abs() < 0.01);
        assert!(sps.full_range && sps.matrix == ColourMatrix::Bt709);
        assert_eq!(sps.reorder, Some(0), "Baseline");
    }

    #[test]
    fn the_depth_of_reordering_is_read_behind_everything_else() {
        // High, order of type 0, and a VUI with a reference decoder's parameters.
        let high = |order: u32, told: Option<u32>| {
            let mut w = Writer::default();
            w.u(8, 100).u(8, 0).u(8, 30).ue(0).ue(1).ue(0).ue(0).u(2, 0).ue(0).ue(order);
            if order == 0 {
                w.ue(2);
            }
            w.ue(4).u(1, 0).ue(39).ue(22).u(1, 1).u(1, 1).u(1, 0).u(1, 1);
            w.u(4, 0).u(1, 1).u(32, 1).u(32, 50).u(1, 1);
            w.u(1, 1).ue(0).u(8, 0).ue(5).ue(7).u(1, 0).u(20, 0).u(1, 0).u(1, 0).u(1, 0);
            if let Some(told) = told {
                w.u(1, 1).u(1, 1).ue(2).ue(1).ue(11).ue(11).ue(told).ue(4);
            } else {
                w.u(1, 0);
            }
            w.u(8, 0x80);
            Sps::parse(&w.nal()).unwrap().parameters().reorder
        };
        assert_eq!([high(0, Some(1)), high(0, Some(2)), high(0, None), high(2, None)], [Some(1), Some(2), None, Some(0)]);
    }

    #[test]
    fn impossible_sizes_are_refused() {
        let mut w = Writer::default();
        w.u(8, 66)
            .u(8, 0)
            .u(8, 30)
            .ue(0)
            .ue(0)
            .ue(2)
            .ue(1)
            .u(1, 0)
            .ue(0)
            .ue(0)
            .u(1, 1)
            .u(1, 1)
            .u(1, 1)
            .ue(4)
            .ue(4)
            .ue(0)
            .ue(0)
            .u(1, 0);
        assert_eq!(Sps::parse(&w.nal()), Err(SpsError::Range("cropping")));
        assert_eq!(Sps::parse(&[0x67]), Err(SpsError::Truncated));
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered(bytes: Vec<u8>) {
            let _ = Sps::parse(&bytes);
        }
    }

    #[derive(Default)]
    struct Writer(Vec<bool>);

    impl Writer {
        fn u(&mut self, n: u32, value: u32) -> &mut Self {
            self.0.extend((0..n).rev().map(|bit| value >> bit & 1 == 1));
            self
        }
        fn ue(&mut self, value: u32) -> &mut Self {
            let n = (value + 1).ilog2();
            self.u(n, 0).u(n + 1, value + 1)
        }
        fn nal(&self) -> Vec<u8> {
            let mut out = vec![0x67];
            let mut zeros = 0;
            for chunk in self.0.chunks(8) {
                let byte = chunk.iter().enumerate().fold(0u8, |b, (i, bit)| b | u8::from(*bit) << (7 - i));
                if zeros >= 2 && byte <= 3 {
                    out.push(3);
                    zeros = 0;
                }
                zeros = if byte == 0 { zeros + 1 } else { 0 };
                out.push(byte);
            }
            out
        }
    }
}
