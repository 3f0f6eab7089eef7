//! Pictures in character cells.
//!
//! *Quadrants*: each cell shows two by two pixels in the two colours, and the split between them,
//! that come nearest. *Half blocks*: one by two pixels, each in its own colour. Without colours, two
//! by two pixels are set or not by an ordered dither of their brightness.
//!
//! A cell that is on the screen stays as it is until it would be off by more than [`HOLD`] levels:
//! noise costs no output. Every now and then all are drawn as they are.

use crate::ability::Paint;
use crate::colours::{ColourDepth, Rgb, brightness, reduce};
use crate::painter::{Freshness, Look, seen};
use lattice_core::lattice::Aspect;
use lattice_media::{TilePicture, Wanted};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Color;

/// Levels of a channel that a cell may be off before it is drawn anew.
const HOLD: u8 = 5;
/// Pictures after which everything is drawn as it is.
const REFRESH: u32 = 150;
/// Tiles below this many cells read better in half blocks.
pub const QUADRANTS_FROM: u32 = 30 * 10;

/// By which quadrants are in the foreground: upper left 1, upper right 2, lower left 4, lower right 8.
const GLYPHS: [&str; 16] = [" ", "▘", "▝", "▀", "▖", "▌", "▞", "▛", "▗", "▚", "▐", "▜", "▄", "▙", "▟", "█"];

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Cell {
    mask: u8,
    front: Rgb,
    back: Rgb,
}

impl Cell {
    fn quadrant(self, index: usize) -> Rgb {
        if self.mask >> index & 1 == 1 { self.front } else { self.back }
    }

    /// Whether no channel of any quadrant is off by more than this.
    fn shows(self, pixels: [Rgb; 4], hold: u8) -> bool {
        (0..4).all(|index| near(self.quadrant(index), pixels[index], hold))
    }

    /// Whether it looks like another: no channel of any quadrant is off by more than this.
    fn is_like(self, other: Self, hold: u8) -> bool {
        if self.mask == other.mask {
            return near(self.front, other.front, hold) && near(self.back, other.back, hold);
        }
        (0..4).all(|index| near(self.quadrant(index), other.quadrant(index), hold))
    }
}

fn near(a: Rgb, b: Rgb, hold: u8) -> bool {
    a[0].abs_diff(b[0]) <= hold && a[1].abs_diff(b[1]) <= hold && a[2].abs_diff(b[2]) <= hold
}

/// What a painter holds: which picture, how large, drawn how.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Holds {
    number: u64,
    size: (u16, u16),
    look: Look,
    way: Way,
}

/// Whether a cell may be a part of a picture; a cell with a letter is none.
pub fn is_picture(cell: &ratatui::buffer::Cell) -> bool {
    let mut letters = cell.symbol().chars();
    let block = matches!(letters.next(), Some(' ' | '▀' | '▄' | '█' | '▌' | '▐' | '▖'..='▟'));
    block && letters.next().is_none()
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Way {
    Quadrants,
    Halves,
    Dither,
}

/// Draws one tile's pictures in cells.
#[derive(Debug)]
pub struct CellPainter {
    pub(crate) paint: Paint,
    depth: ColourDepth,
    /// Width of a cell over its height.
    cell_aspect: f64,
    shown: Vec<Cell>,
    /// What `shown` holds.
    of: Option<Holds>,
    pictures: u32,
}

impl CellPainter {
    /// A painter for a terminal.
    pub const fn new(paint: Paint, depth: ColourDepth, cell_aspect: f64) -> Self {
        Self { paint, depth, cell_aspect, shown: Vec::new(), of: None, pictures: 0 }
    }

    fn way(&self, area: Rect) -> Way {
        match (self.depth, self.paint) {
            (ColourDepth::Mono, _) => Way::Dither,
            (_, Paint::Quadrant) => Way::Quadrants,
            (_, Paint::Half) => Way::Halves,
            _ if area.area() >= QUADRANTS_FROM => Way::Quadrants,
            _ => Way::Halves,
        }
    }

    fn choose(&mut self, picture: &TilePicture, (columns, rows): (u16, u16), look: Look, way: Way) {
        let of = Holds { number: picture.number, size: (columns, rows), look, way };
        if self.of == Some(of) {
            return;
        }
        let same_place = self.of.is_some_and(|before| Holds { number: of.number, ..before } == of);
        self.pictures += 1;
        let hold = if same_place && !self.pictures.is_multiple_of(REFRESH) { Some(HOLD) } else { None };
        let count = usize::from(columns) * usize::from(rows);
        self.shown.resize(count, Cell { mask: 0, front: [0; 3], back: [0; 3] });
        let across = if way == Way::Halves { 1 } else { 2 };
        let grid = (usize::from(columns) * across, usize::from(rows) * 2);
        let grid_aspect =
            grid.0 as f64 / grid.1.max(1) as f64 * if way == Way::Halves { self.cell_aspect * 2.0 } else { self.cell_aspect };
        let (left, top, width, height) = seen(picture, &look, grid_aspect);
        // A picture of another size than the area: for the moment after a resize, or for a larger tile.
        let across_at: Vec<usize> = (0..grid.0).map(|x| (left + x * width / grid.0) * 3).collect();
        let down_at: Vec<usize> = (0..grid.1).map(|y| (top + y * height / grid.1) * picture.width * 3).collect();
        let pixel = |x: usize, y: usize| {
            let at = down_at[y] + across_at[x];
            let rgb: Rgb = picture.rgb.get(at..at + 3).and_then(|bytes| bytes.try_into().ok()).unwrap_or_default();
            if look.freshness == Freshness::Old { rgb.map(|value| (u16::from(value) * 2 / 5) as u8) } else { rgb }
        };
        let depth = self.depth;
        let pixel = |x: usize, y: usize| if depth == ColourDepth::Sixteen { shifted(pixel(x, y), x, y) } else { pixel(x, y) };
        for (index, shown) in self.shown.iter_mut().enumerate() {
            let (column, row) = (index % usize::from(columns), index / usize::from(columns));
            let (x, y) = (column * across, row * 2);
            let cell = match way {
                Way::Quadrants => {
                    let pixels = [pixel(x, y), pixel(x + 1, y), pixel(x, y + 1), pixel(x + 1, y + 1)];
                    if hold.is_some_and(|hold| shown.shows(pixels, hold)) {
                        continue; // most of a picture is as it was
                    }
                    best_split(pixels)
                }
                Way::Halves => Cell { mask: 3, front: pixel(x, y), back: pixel(x, y + 1) },
                Way::Dither => dither([pixel(x, y), pixel(x + 1, y), pixel(x, y + 1), pixel(x + 1, y + 1)], column, row),
            };
            if hold.is_none_or(|hold| !shown.is_like(cell, hold)) {
                *shown = cell;
            }
        }
        self.of = Some(of);
    }

    /// How pictures are drawn in an area, and how many pixels it shows of one of this size.
    pub fn shows(&self, area: Rect, aspect: Aspect, picture: (usize, usize)) -> (&'static str, (usize, usize)) {
        let wanted = self.wanted(area, aspect);
        let size = if aspect == Aspect::Fit { wanted.fit(picture) } else { (wanted.width, wanted.height) };
        let by = match self.way(area) {
            Way::Quadrants => "quadrants",
            Way::Halves => "half blocks",
            Way::Dither => "dither",
        };
        (by, size)
    }

    /// What an area can show of a picture.
    pub fn wanted(&self, area: Rect, aspect: Aspect) -> Wanted {
        let (w, h) = (usize::from(area.width), usize::from(area.height) * 2);
        match self.way(area) {
            Way::Halves => Wanted {
                width: w,
                height: h,
                pixel_aspect: self.cell_aspect * 2.0,
                step: (1, 2),
                aspect,
                enlarge: true,
                keyframes_only: false,
            },
            Way::Quadrants | Way::Dither => Wanted {
                width: w * 2,
                height: h,
                pixel_aspect: self.cell_aspect,
                step: (2, 2),
                aspect,
                enlarge: true,
                keyframes_only: false,
            },
        }
    }

    /// Draws a picture into an area; false when nothing could be drawn.
    pub fn paint(&mut self, picture: &TilePicture, area: Rect, look: Look, buf: &mut Buffer) -> bool {
        if area.is_empty() || picture.rgb.is_empty() {
            return false;
        }
        let way = self.way(area);
        let wanted = self.wanted(area, look.aspect);
        let (width, height) = match look.aspect {
            Aspect::Fit => wanted.fit(picture.source),
            Aspect::Fill | Aspect::Stretch => (wanted.width, wanted.height),
        };
        let across = if way == Way::Halves { 1 } else { 2 };
        let (columns, rows) = ((width.div_ceil(across)) as u16, (height.div_ceil(2)) as u16);
        let (columns, rows) = (columns.clamp(1, area.width), rows.clamp(1, area.height));
        self.choose(picture, (columns, rows), look, way);
        // On its plate, which stands below: rows that are left over are above.
        let (left, top) = (area.x + (area.width - columns) / 2, area.y + (area.height - rows));
        // What of it lies on the screen.
        let seen = Rect { x: left, y: top, width: columns, height: rows }.intersection(buf.area);
        for y in (seen.top()..seen.bottom()).filter(|_| seen.width > 0) {
            let from = usize::from(y - top) * usize::from(columns) + usize::from(seen.x - left);
            let at = buf.index_of(seen.x, y);
            let targets = &mut buf.content[at..at + usize::from(seen.width)];
            for (target, cell) in targets.iter_mut().zip(&self.shown[from..]) {
                target.set_symbol(GLYPHS[usize::from(cell.mask & 15)]);
                if way == Way::Dither {
                    target.set_fg(Color::Reset).set_bg(Color::Reset);
                } else {
                    target.set_fg(reduce(self.depth, cell.front)).set_bg(reduce(self.depth, cell.back));
                }
            }
        }
        true
    }
}

/// The two colours and the split of four pixels with the least squared error. Of the eight ways to
/// split them (the first always behind) the best has the largest sum of squared means.
fn best_split(pixels: [Rgb; 4]) -> Cell {
    let wide = pixels.map(|pixel| pixel.map(i32::from));
    let total: [i32; 3] = std::array::from_fn(|c| wide.iter().map(|pixel| pixel[c]).sum());
    let square = |sum: [i32; 3], n: i32| sum.iter().map(|value| value * value).sum::<i32>() / n.max(1);
    let mut best = (square(total, 4), 0u8, [0; 3], 0i32);
    // Bit i of the mask: pixel i in front. Pixel 0 stays behind, as the other half is its mirror.
    for mask in (2..16u8).step_by(2) {
        let mut sum = [0; 3];
        for pixel in (1..4).filter(|index| mask >> index & 1 == 1).map(|index| wide[index]) {
            sum = std::array::from_fn(|c| sum[c] + pixel[c]);
        }
        let n = mask.count_ones() as i32;
        let rest = std::array::from_fn(|c| total[c] - sum[c]);
        let score = square(sum, n) + square(rest, 4 - n);
        if score > best.0 {
            best = (score, mask, sum, n);
        }
    }
    let (_, mask, sum, n) = best;
    let mean = |sum: [i32; 3], n: i32| sum.map(|value| ((value + n / 2) / n.max(1)) as u8);
    Cell { mask, front: mean(sum, n), back: mean(std::array::from_fn(|c| total[c] - sum[c]), 4 - n) }
}

/// Ordered thresholds, 0 to 15.
const BAYER: [[u8; 4]; 4] = [[0, 8, 2, 10], [12, 4, 14, 6], [3, 11, 1, 9], [15, 7, 13, 5]];

/// A pixel made brighter or darker by half the distance between neighbours of sixteen colours.
fn shifted(rgb: Rgb, x: usize, y: usize) -> Rgb {
    let shift = (i16::from(BAYER[y % 4][x % 4]) * 2 - 15) * 4;
    rgb.map(|value| (i16::from(value) + shift).clamp(0, 255) as u8)
}

/// Sets the quadrants that are brighter than an ordered threshold.
fn dither(pixels: [Rgb; 4], column: usize, row: usize) -> Cell {
    let set = |index: usize| {
        let threshold = BAYER[(row * 2 + index / 2) % 4][(column * 2 + index % 2) % 4] * 15 + 14;
        brightness(pixels[index]) > threshold
    };
    let mask = (0..4).fold(0, |mask, index| mask | u8::from(set(index)) << index);
    Cell { mask, front: [255; 3], back: [0; 3] }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::Mono;
    use lattice_media::Condition;

    const LIVE: Look = Look::whole(Freshness::Live, Aspect::Fit);
    const RED: Rgb = [200, 0, 0];
    const BLUE: Rgb = [0, 0, 200];

    fn picture(number: u64, width: usize, height: usize, pixel: impl Fn(usize, usize) -> Rgb) -> TilePicture {
        let rgb = (0..width * height).flat_map(|n| pixel(n % width, n / width)).collect();
        let (view, adjust) = Default::default();
        TilePicture {
            number,
            width,
            height,
            rgb,
            source: (640, 360),
            condition: Condition::Clean,
            ready: Mono::ZERO,
            view,
            adjust,
        }
    }

    #[test]
    fn two_colours_are_split_exactly() {
        for mask in 0..16u8 {
            let pixels = std::array::from_fn(|index| if mask >> index & 1 == 1 { RED } else { BLUE });
            let cell = best_split(pixels);
            for (index, pixel) in pixels.iter().enumerate() {
                assert_eq!(cell.quadrant(index), *pixel, "{mask}");
            }
        }
    }

    #[test]
    fn a_picture_fills_its_aspect_and_leaves_the_rest() {
        let mut painter = CellPainter::new(Paint::Quadrant, ColourDepth::True, 0.5);
        let area = Rect::new(2, 1, 40, 20);
        let wanted = painter.wanted(area, Aspect::Fit);
        let (w, h) = wanted.fit((640, 360));
        assert_eq!((w, h), (80, 22));
        let mut buf = Buffer::empty(Rect::new(0, 0, 50, 24));
        assert!(painter.paint(&picture(1, w, h, |_, _| RED), area, LIVE, &mut buf));
        let red = buf.content().iter().filter(|cell| cell.bg == Color::Rgb(200, 0, 0)).count();
        assert_eq!(red, 40 * 11);
        assert_eq!(buf[(2, 4)].bg, Color::Reset, "above the picture");
    }

    #[test]
    fn small_changes_are_held_and_large_ones_drawn() {
        let mut painter = CellPainter::new(Paint::Half, ColourDepth::True, 0.5);
        let area = Rect::new(0, 0, 16, 9);
        let mut show = |number, level| {
            let mut buf = Buffer::empty(area);
            painter.paint(&picture(number, 16, 9, |_, _| [level; 3]), area, LIVE, &mut buf);
            buf[(8, 4)].fg
        };
        assert_eq!(show(1, 100), Color::Rgb(100, 100, 100));
        assert_eq!(show(2, 100 + HOLD), Color::Rgb(100, 100, 100));
        assert_eq!(show(3, 101 + HOLD), Color::Rgb(106, 106, 106));
    }

    #[test]
    fn an_old_picture_is_dim_and_no_colour_means_none() {
        let area = Rect::new(0, 0, 16, 9);
        let mut buf = Buffer::empty(area);
        let mut painter = CellPainter::new(Paint::Half, ColourDepth::True, 0.5);
        painter.paint(&picture(1, 16, 9, |_, _| [200; 3]), area, Look { freshness: Freshness::Old, ..LIVE }, &mut buf);
        assert_eq!(buf[(8, 4)].fg, Color::Rgb(80, 80, 80));
        let mut mono = CellPainter::new(Paint::Auto, ColourDepth::Mono, 0.5);
        let mut buf = Buffer::empty(area);
        mono.paint(&picture(1, 32, 18, |x, _| [(x * 8) as u8; 3]), area, LIVE, &mut buf);
        assert!(buf.content().iter().all(|cell| cell.fg == Color::Reset && cell.bg == Color::Reset));
        assert_ne!(buf[(0, 4)].symbol(), buf[(15, 4)].symbol(), "dark and light differ by shape");
        // Between two of sixteen colours both are used.
        let mut sixteen = CellPainter::new(Paint::Quadrant, ColourDepth::Sixteen, 0.5);
        sixteen.paint(&picture(1, 32, 18, |_, _| [64; 3]), area, LIVE, &mut buf);
        let used: std::collections::HashSet<Color> = buf.content().iter().flat_map(|cell| [cell.fg, cell.bg]).collect();
        assert!(used.contains(&Color::Black) && used.contains(&Color::DarkGray), "{used:?}");
    }
}
