//! YCbCr to RGB (ITU-R BT.601, BT.709; ISO/IEC 14496-10 §E.2.1).

use crate::picture::ColourDescription;
use crate::scale::FINE;

/// Coefficients of one conversion, in parts of [`ONE`].
#[derive(Debug, Clone, Copy)]
pub struct Conversion {
    offset: i32,
    luma: i32,
    red_v: i32,
    green_u: i32,
    green_v: i32,
    blue_u: i32,
}

/// Bits behind the point of a coefficient: a mean of at most 255 × 16 times 2.2 stays within 31 bits.
const BITS: u32 = 12;
const ONE: f32 = 4096.0;
/// The same for what comes in.
const FINE_BITS: u32 = FINE.ilog2();

impl Conversion {
    /// The conversion for a picture of `height` lines.
    pub fn new(colour: ColourDescription, height: usize) -> Self {
        let (kr, kb) = if colour.matrix.is_bt709(height as u32) { (0.2126f32, 0.0722f32) } else { (0.299, 0.114) };
        let kg = 1.0 - kr - kb;
        let (offset, luma, chroma) = if colour.full_range { (0, 1.0, 1.0) } else { (16, 255.0 / 219.0, 255.0 / 224.0) };
        let part = |coefficient: f32| (coefficient * ONE).round() as i32;
        Self {
            offset: offset * FINE,
            luma: part(luma),
            red_v: part(2.0 * (1.0 - kr) * chroma),
            green_u: part(-2.0 * (1.0 - kb) * kb / kg * chroma),
            green_v: part(-2.0 * (1.0 - kr) * kr / kg * chroma),
            blue_u: part(2.0 * (1.0 - kb) * chroma),
        }
    }

    /// One pixel; inputs are levels in parts of 1/16, 0 to 4080.
    pub fn rgb(&self, y: i32, u: i32, v: i32) -> [u8; 3] {
        const HALF: i32 = 1 << (BITS + FINE_BITS - 1);
        let y = (y - self.offset) * self.luma + HALF;
        let (u, v) = (u - 128 * FINE, v - 128 * FINE);
        let level = |sum: i32| (sum >> (BITS + FINE_BITS)).clamp(0, 255) as u8;
        [level(y + self.red_v * v), level(y + self.green_u * u + self.green_v * v), level(y + self.blue_u * u)]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::video::ColourMatrix;

    #[test]
    fn range_and_matrix_are_obeyed() {
        let conversion = |full_range, matrix| Conversion::new(ColourDescription { full_range, matrix }, 360);
        let limited = conversion(false, ColourMatrix::Bt601);
        assert_eq!(limited.rgb(16 * FINE, 128 * FINE, 128 * FINE), [0, 0, 0]);
        assert_eq!(limited.rgb(235 * FINE, 128 * FINE, 128 * FINE), [255, 255, 255]);
        assert_eq!(conversion(true, ColourMatrix::Bt601).rgb(16 * FINE, 128 * FINE, 128 * FINE), [16, 16, 16]);
        // Pure red in both matrices (BT.601: 81, 90, 240; BT.709: 63, 102, 240).
        let near = |got: [u8; 3]| got[0] >= 252 && got[1] <= 3 && got[2] <= 3;
        assert!(near(limited.rgb(81 * FINE, 90 * FINE, 240 * FINE)));
        assert!(near(conversion(false, ColourMatrix::Bt709).rgb(63 * FINE, 102 * FINE, 240 * FINE)));
        assert!(!near(limited.rgb(63 * FINE, 102 * FINE, 240 * FINE)), "the wrong matrix shows");
    }
}
