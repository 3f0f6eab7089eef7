//! Drawing straight into 4:2:0 planes (BT.709, 16 to 235), in units of a 1600 × 900 picture.

use font8x8::{BASIC_FONTS, UnicodeFonts as _};
use openh264::formats::YUVSource;

/// A colour as it is coded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Colour {
    /// Luma.
    pub y: u8,
    /// Blue difference.
    pub u: u8,
    /// Red difference.
    pub v: u8,
}

impl Colour {
    /// From red, green and blue.
    pub const fn rgb(r: u8, g: u8, b: u8) -> Self {
        let (r, g, b) = (r as i32, g as i32, b as i32);
        // BT.709, limited range, in 1/65536.
        Self {
            y: (16 + ((11_966 * r + 40_254 * g + 4_064 * b) >> 16)) as u8,
            u: (128 + ((-6_596 * r - 22_189 * g + 28_784 * b) >> 16)) as u8,
            v: (128 + ((28_784 * r - 26_145 * g - 2_639 * b) >> 16)) as u8,
        }
    }
}

/// Width and height of the unit picture.
pub const UNITS: (f32, f32) = (1600.0, 900.0);

/// A picture being drawn.
#[derive(Debug, Clone)]
pub struct Canvas {
    width: usize,
    height: usize,
    y: Vec<u8>,
    u: Vec<u8>,
    v: Vec<u8>,
    lens: Lens,
}

/// What of the units is seen: the middle of the picture, how many times nearer, and the columns of pixels that are drawn on.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Lens {
    middle: (f32, f32),
    zoom: f32,
    columns: Option<(i32, i32)>,
}

impl Lens {
    /// All units, whole.
    const ALL: Self = Self { middle: (UNITS.0 / 2.0, UNITS.1 / 2.0), zoom: 1.0, columns: None };
}

impl Canvas {
    /// A black picture; sides are rounded down to even numbers.
    #[must_use]
    pub fn new(width: usize, height: usize) -> Self {
        let (width, height) = (width & !1, height & !1);
        let chroma = width / 2 * (height / 2);
        Self { width, height, y: vec![16; width * height], u: vec![128; chroma], v: vec![128; chroma], lens: Lens::ALL }
    }

    /// Width and height in pixels.
    #[must_use]
    pub const fn size(&self) -> (usize, usize) {
        (self.width, self.height)
    }

    /// The luma plane, without padding.
    #[must_use]
    pub fn luma(&self) -> &[u8] {
        &self.y
    }

    /// The two chroma planes, half as wide and high.
    #[must_use]
    pub fn chroma(&self) -> (&[u8], &[u8]) {
        (&self.u, &self.v)
    }

    /// All three planes, to be written.
    pub(crate) fn planes_mut(&mut self) -> (&mut [u8], &mut [u8], &mut [u8]) {
        (&mut self.y, &mut self.u, &mut self.v)
    }

    /// Becomes a copy of another picture of the same size.
    pub fn copy_from(&mut self, other: &Self) {
        self.clone_from(other);
    }

    /// Every luma value by a function of it.
    pub(crate) fn each_luma(&mut self, of: impl Fn(u8) -> u8) {
        self.y.iter_mut().for_each(|value| *value = of(*value));
    }

    /// Every chroma value by a function of it.
    pub(crate) fn each_chroma(&mut self, of: impl Fn(u8) -> u8) {
        self.u.iter_mut().chain(&mut self.v).for_each(|value| *value = of(*value));
    }

    /// Each luma value becomes the mean of those within `side` / 2 in its row, then in its column.
    pub(crate) fn blur(&mut self, side: usize) {
        let (reach, mut line) = (side / 2, Vec::new());
        for (lines, length, step, next) in [(self.height, self.width, 1, self.width), (self.width, self.height, self.width, 1)] {
            for first in (0..lines).map(|index| index * next) {
                line.clear();
                line.extend((0..length).map(|n| u32::from(self.y[first + n * step])));
                let mut sum: u32 = line.iter().take(reach).sum();
                for n in 0..length {
                    sum += line.get(n + reach).copied().unwrap_or(0);
                    let from = n.saturating_sub(reach);
                    let count = (n + reach + 1).min(length) - from;
                    self.y[first + n * step] = (sum / count as u32) as u8;
                    if n >= reach {
                        sum -= line[from];
                    }
                }
            }
        }
    }

    fn pixels(&self, x: f32, y: f32) -> (i32, i32) {
        let Lens { middle, zoom, .. } = self.lens;
        let (x, y) = ((x - middle.0) * zoom + UNITS.0 / 2.0, (y - middle.1) * zoom + UNITS.1 / 2.0);
        ((x * self.width as f32 / UNITS.0).round() as i32, (y * self.height as f32 / UNITS.1).round() as i32)
    }

    /// What is drawn from now on is seen with this in the middle, so many times nearer; only what lies from 0 to 1600 units across.
    pub(crate) fn look(&mut self, middle: (f32, f32), zoom: f32) {
        self.lens = Lens { middle, zoom, columns: None };
        self.lens.columns = Some((self.pixels(0.0, 0.0).0, self.pixels(UNITS.0, 0.0).0));
    }

    /// All units are seen again, whole.
    pub(crate) const fn look_at_all(&mut self) {
        self.lens = Lens::ALL;
    }

    /// Fills pixels from `from` to before `to` in row `row`.
    fn span(&mut self, row: i32, from: i32, to: i32, colour: Colour) {
        let (least, most) = self.lens.columns.unwrap_or((0, self.width as i32));
        let (from, to) = (from.max(least), to.min(most));
        let (from, to) = (from.clamp(0, self.width as i32) as usize, to.clamp(0, self.width as i32) as usize);
        let Some(row) = usize::try_from(row).ok().filter(|row| *row < self.height && from < to) else { return };
        self.y[row * self.width + from..row * self.width + to].fill(colour.y);
        if row % 2 == 0 {
            let half = self.width / 2;
            let (start, end) = (row / 2 * half + from / 2, row / 2 * half + to.div_ceil(2).min(half));
            self.u[start..end].fill(colour.u);
            self.v[start..end].fill(colour.v);
        }
    }

    /// A rectangle.
    pub fn rect(&mut self, x: f32, y: f32, w: f32, h: f32, colour: Colour) {
        let ((x0, y0), (x1, y1)) = (self.pixels(x, y), self.pixels(x + w, y + h));
        for row in y0..y1.max(y0 + 1) {
            self.span(row, x0, x1.max(x0 + 1), colour);
        }
    }

    /// A shape with two level sides: from `(left, right)` at `top` to `(left, right)` at `bottom`.
    pub fn trapezoid(&mut self, top: f32, top_sides: (f32, f32), bottom: f32, bottom_sides: (f32, f32), colour: Colour) {
        let (y0, y1) = (self.pixels(0.0, top).1, self.pixels(0.0, bottom).1);
        for row in y0..y1 {
            let share = (row - y0) as f32 / (y1 - y0).max(1) as f32;
            let side = |a: f32, b: f32| self.pixels(a + (b - a) * share, 0.0).0;
            let (left, right) = (side(top_sides.0, bottom_sides.0), side(top_sides.1, bottom_sides.1));
            self.span(row, left, right.max(left + 1), colour);
        }
    }

    /// Pixels of a dot of a letter that is `size` units high.
    fn text_scale(&self, size: f32) -> i32 {
        ((size * self.lens.zoom * self.height as f32 / UNITS.1) / 8.0).round().max(1.0) as i32
    }

    /// Width and height that a text really takes, in units: letters have whole pixels, and no fewer than eight.
    pub fn text_size(&self, size: f32, text: &str) -> (f32, f32) {
        let letter = (self.text_scale(size) * 8) as f32;
        (letter * text.chars().count() as f32 * UNITS.0 / self.width as f32, letter * UNITS.1 / self.height as f32)
    }

    /// Lines of text in a fixed font, `size` units high.
    pub fn text(&mut self, x: f32, y: f32, size: f32, text: &str, colour: Colour) {
        let (x0, y0) = self.pixels(x, y);
        let scale = self.text_scale(size);
        for (n, glyph) in text.chars().filter_map(|c| BASIC_FONTS.get(c)).enumerate() {
            for (row, bits) in (0..).zip(glyph) {
                for column in (0..8).filter(|column| bits >> column & 1 == 1) {
                    let left = x0 + (n as i32 * 8 + column) * scale;
                    for line in 0..scale {
                        self.span(y0 + row * scale + line, left, left + scale, colour);
                    }
                }
            }
        }
    }

    /// Lightens or darkens luma between two heights by a pattern that moves with `phase`: water.
    pub fn ripple(&mut self, top: f32, bottom: f32, phase: f32, strength: f32) {
        let (y0, y1) = (self.pixels(0.0, top).1.max(0) as usize, self.pixels(0.0, bottom).1.max(0) as usize);
        let table: Vec<u8> = (0..256)
            .map(|n| {
                let angle = n as f32 / 256.0 * std::f32::consts::TAU;
                (strength * (1.0 + (angle * 2.0).sin() * 0.6 + (angle * 5.0).cos() * 0.4)) as u8
            })
            .collect();
        let unit = 1600.0 / self.width as f32;
        for row in y0..y1.min(self.height) {
            let depth = 1.0 + (row - y0) as f32 / 40.0;
            let shift = ((phase * 40.0 * depth).sin() * 30.0 + row as f32 * unit * 37.0) as usize;
            let step = (unit * 256.0 / depth) as usize + 1;
            let (least, most) = self.lens.columns.unwrap_or((0, self.width as i32));
            let (least, most) = (least.clamp(0, self.width as i32) as usize, most.clamp(0, self.width as i32) as usize);
            let line = &mut self.y[row * self.width..(row + 1) * self.width];
            for (x, value) in line.iter_mut().enumerate().take(most).skip(least) {
                *value = value.saturating_add(table[(shift + x * step / 256) & 255]).min(235);
            }
        }
    }

    /// One pixel-sized block of luma, `size` units square: rain, lamps, codes.
    pub fn dot(&mut self, x: f32, y: f32, size: f32, colour: Colour) {
        self.rect(x, y, size, size, colour);
    }

    /// Sets a block given in pixels; for the block code, whose edges must not be rounded twice.
    pub(crate) fn block(&mut self, (x, y): (usize, usize), (across, down): (usize, usize), luma: u8) {
        for row in y..y + down {
            self.span(row as i32, x as i32, (x + across) as i32, Colour { y: luma, u: 128, v: 128 });
        }
    }
}

impl YUVSource for &Canvas {
    fn dimensions(&self) -> (usize, usize) {
        (self.width, self.height)
    }

    fn strides(&self) -> (usize, usize, usize) {
        (self.width, self.width / 2, self.width / 2)
    }

    fn y(&self) -> &[u8] {
        &self.y
    }

    fn u(&self) -> &[u8] {
        &self.u
    }

    fn v(&self) -> &[u8] {
        &self.v
    }
}
