//! YCbCr to RGB (ITU-R BT.601, BT.709; ISO/IEC 14496-10 §E.2.1).

use crate::picture::ColourDescription;

/// Coefficients of one conversion.
#[derive(Debug, Clone, Copy)]
pub struct Conversion {
    offset: f32,
    luma: f32,
    red_v: f32,
    green_u: f32,
    green_v: f32,
    blue_u: f32,
}

impl Conversion {
    /// The conversion for a picture of `height` lines.
    pub fn new(colour: ColourDescription, height: usize) -> Self {
        let (kr, kb) = if colour.matrix.is_bt709(height as u32) { (0.2126f32, 0.0722f32) } else { (0.299, 0.114) };
        let kg = 1.0 - kr - kb;
        let (offset, luma, chroma) = if colour.full_range { (0.0, 1.0, 1.0) } else { (16.0, 255.0 / 219.0, 255.0 / 224.0) };
        Self {
            offset,
            luma,
            red_v: 2.0 * (1.0 - kr) * chroma,
            green_u: -2.0 * (1.0 - kb) * kb / kg * chroma,
            green_v: -2.0 * (1.0 - kr) * kr / kg * chroma,
            blue_u: 2.0 * (1.0 - kb) * chroma,
        }
    }

    /// One pixel, of levels from 0 to 255: red in the lowest byte, then green, then blue.
    #[inline(always)]
    pub fn rgb(&self, y: f32, u: f32, v: f32) -> u32 {
        // Where a float has no bits behind the point its lowest bits are the level, rounded.
        const NO_FRACTION: f32 = 8_388_608.0;
        let level = |sum: f32| (sum.clamp(0.0, 255.0) + NO_FRACTION).to_bits() & 0xff;
        let (y, u, v) = ((y - self.offset) * self.luma, u - 128.0, v - 128.0);
        let green = y + self.green_u * u + self.green_v * v;
        level(y + self.red_v * v) | level(green) << 8 | level(y + self.blue_u * u) << 16
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::video::ColourMatrix;

    #[test]
    fn range_and_matrix_are_obeyed() {
        let conversion = |full_range, matrix| Conversion::new(ColourDescription { full_range, matrix }, 360);
        let one = |conversion: Conversion, y: f32, u: f32, v: f32| {
            let [red, green, blue, none] = conversion.rgb(y, u, v).to_le_bytes();
            assert_eq!(none, 0);
            [red, green, blue]
        };
        let limited = conversion(false, ColourMatrix::Bt601);
        assert_eq!(one(limited, 16.0, 128.0, 128.0), [0, 0, 0]);
        assert_eq!(one(limited, 235.0, 128.0, 128.0), [255, 255, 255]);
        assert_eq!(one(conversion(true, ColourMatrix::Bt601), 16.0, 128.0, 128.0), [16, 16, 16]);
        // Pure red in both matrices (BT.601: 81, 90, 240; BT.709: 63, 102, 240).
        let near = |got: [u8; 3]| got[0] >= 252 && got[1] <= 3 && got[2] <= 3;
        assert!(near(one(limited, 81.0, 90.0, 240.0)));
        assert!(near(one(conversion(false, ColourMatrix::Bt709), 63.0, 102.0, 240.0)));
        assert!(!near(one(limited, 63.0, 102.0, 240.0)), "the wrong matrix shows");
    }
}
