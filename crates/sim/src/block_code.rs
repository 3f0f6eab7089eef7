//! The frame number as a strip of blocks at the lower edge of a picture.
//!
//! One row of 32 blocks on a dark ground: three bytes of number and a check byte, most significant bit first, light for
//! one. The strip takes a forty-fifth of the height: as low as it can be read from a tile after coding and scaling.

use crate::canvas::Canvas;

const BLOCKS: usize = 32;
const DARK: u8 = 28;
const LIGHT: u8 = 216;

/// Width and height of a block, in pixels of a picture of this width; both even.
const fn block(width: usize) -> (usize, usize) {
    let (across, down) = ((width / 36) & !1, (width / 80) & !1);
    (if across < 2 { 2 } else { across }, if down < 4 { 4 } else { down })
}

/// Where the blocks begin: they stand in the middle.
const fn left(width: usize) -> usize {
    (width.saturating_sub(BLOCKS * block(width).0) / 2) & !1
}

const fn word(number: u32) -> u32 {
    let number = number & 0xff_ffff;
    number << 8 | check(number) as u32
}

/// Differs for numbers that differ in any one byte, and is not zero for zero.
const fn check(number: u32) -> u8 {
    ((number >> 16) as u8).wrapping_mul(7) ^ ((number >> 8) as u8).wrapping_mul(31) ^ (number as u8).wrapping_mul(113) ^ 0xa5
}

/// Draws the code of a number (24 bits) into a picture.
pub fn stamp(canvas: &mut Canvas, number: u32) {
    let (width, height) = canvas.size();
    let ((across, down), left, word) = (block(width), left(width), word(number));
    let top = height - down;
    for index in 0..BLOCKS {
        let luma = if word >> (31 - index) & 1 == 1 { LIGHT } else { DARK };
        canvas.block((left + index * across, top), (across, down), luma);
    }
}

/// Reads the code out of a luma plane of a picture of the sender's `original` width, shown at
/// `width` × `height` samples of any scale; `None` when the check does not fit.
#[must_use]
pub fn read(luma: impl Fn(usize, usize) -> u8, width: usize, height: usize, original: (usize, usize)) -> Option<u32> {
    let (across, down) = block(original.0);
    let (sx, sy) = (width as f64 / original.0 as f64, height as f64 / original.1 as f64);
    let y = ((original.1 as f64 - down as f64 / 2.0) * sy) as usize;
    let mut word = 0u32;
    for index in 0..BLOCKS {
        let x = (((left(original.0) + index * across) as f64 + across as f64 / 2.0) * sx) as usize;
        if x >= width || y >= height {
            return None;
        }
        word = word << 1 | u32::from(luma(x, y) > 122);
    }
    let number = word >> 8;
    (check(number) == word as u8).then_some(number)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_number_is_read_back_at_every_size() {
        for (w, h) in [(640, 360), (1280, 720), (1920, 1080)] {
            for number in [0, 1, 255, 256, 0x12_3456, 0xff_ffff] {
                let mut canvas = Canvas::new(w, h);
                stamp(&mut canvas, number);
                let luma = canvas.luma();
                assert_eq!(read(|x, y| luma[y * w + x], w, h, (w, h)), Some(number));
                // Shown at an eighth.
                let small = |x: usize, y: usize| luma[(y * 4 + 2) * w + x * 4 + 2];
                assert_eq!(read(small, w / 4, h / 4, (w, h)), Some(number), "{w}");
            }
        }
        assert_eq!(read(|_, _| 16, 640, 360, (640, 360)), None, "black is no number");
    }
}
