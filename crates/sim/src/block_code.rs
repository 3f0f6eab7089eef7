//! The frame number as blocks in the top right corner of a picture.
//!
//! Four rows of eight blocks on a dark ground: three bytes of number and a check byte, most
//! significant bit first, light for one. A block is a fiftieth of the picture's width, which
//! survives the encoder and the scaling to a tile.

use crate::canvas::Canvas;

const COLUMNS: usize = 8;
const ROWS: usize = 4;
const DARK: u8 = 20;
const LIGHT: u8 = 225;

const fn side(width: usize) -> usize {
    let side = (width / 52) & !1;
    if side < 2 { 2 } else { side }
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
    let (width, _) = canvas.size();
    let side = side(width);
    let left = width - side * (COLUMNS + 1);
    let top = (side / 2) & !1;
    for row in 0..=ROWS {
        for column in 0..=COLUMNS {
            let (x, y) = (left - side / 2 + column * side, row * side);
            canvas.block(x & !1, y, side, DARK);
        }
    }
    let word = word(number);
    for index in (0..COLUMNS * ROWS).filter(|index| word >> (31 - index) & 1 == 1) {
        canvas.block(left + index % COLUMNS * side, top + index / COLUMNS * side, side, LIGHT);
    }
}

/// Reads the code out of a luma plane of a picture of the sender's `original` width, shown at
/// `width` × `height` samples of any scale; `None` when the check does not fit.
#[must_use]
pub fn read(luma: impl Fn(usize, usize) -> u8, width: usize, height: usize, original: (usize, usize)) -> Option<u32> {
    let side_px = side(original.0);
    let (left, top) = (original.0 - side_px * (COLUMNS + 1), (side_px / 2) & !1);
    let (sx, sy) = (width as f64 / original.0 as f64, height as f64 / original.1 as f64);
    let mut word = 0u32;
    for index in 0..COLUMNS * ROWS {
        let x = (left + index % COLUMNS * side_px) as f64 + side_px as f64 / 2.0;
        let y = (top + index / COLUMNS * side_px) as f64 + side_px as f64 / 2.0;
        let at = ((x * sx) as usize, (y * sy) as usize);
        if at.0 >= width || at.1 >= height {
            return None;
        }
        word = word << 1 | u32::from(luma(at.0, at.1) > 122);
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
