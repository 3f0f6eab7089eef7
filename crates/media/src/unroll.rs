//! Straight views and strips out of pictures of all around, from the decoder's planes to the pixels of a tile.
//!
//! Where each pixel comes from is worked out once for a view ([`lattice_core::lens`]) and kept; each picture is then only looked up:
//! four samples of luminance for every pixel, and of colour for every four of them, weighted by their nearness.

#![allow(clippy::inline_always, reason = "what is not inlined into `look_up` does without the wide instructions")]

use crate::colour::Conversion;
use crate::picture::{ColourDescription, Planes};
use lattice_core::view::View;
use multiversion::multiversion;

/// Pixels between the places that are worked out exactly.
const CELL: usize = 8;
/// Where the place in the middle of a cell is further off than this many pixels of the source, each of its places is worked out.
const EXACT: f64 = 0.05;
/// Pixels that are looked up together: as many as vectors hold.
const TOGETHER: usize = 16;
/// As many of colour in a row.
const PAIRS: usize = TOGETHER / 2;

/// Where samples come from, row by row: the one above and to the left, and how far beyond that in 256ths.
#[derive(Debug, Default)]
struct Taps {
    at: Vec<u32>,
    across: Vec<u8>,
    down: Vec<u8>,
}

/// What a map is of.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Of {
    view: View,
    size: (usize, usize),
    pixel_aspect: f64,
    picture: (usize, usize),
    strides: (usize, usize),
}

/// What unrolls the pictures of one print, with the map of its view.
#[derive(Debug, Default)]
pub struct Unroller {
    of: Option<Of>,
    luma: Taps,
    chroma: Taps,
    /// All bits of a pixel that the lens shows, none of others; empty where it shows all.
    shown: Vec<u32>,
    places: Places,
}

/// Where each pixel lies in the source, in rows that are filled up to a multiple of [`TOGETHER`]; no number where it lies nowhere.
#[derive(Debug, Default)]
struct Places {
    x: Vec<f32>,
    y: Vec<f32>,
}

impl Unroller {
    /// Makes a view of `size` pixels, each `pixel_aspect` times as wide as high, into as many times three bytes: red, green, blue. What
    /// the lens does not show is black.
    ///
    /// Nothing is done, and `false` given, where the view is flat, a size is zero, `out` has another number of bytes, or planes are
    /// shorter than their size says.
    pub fn unroll(
        &mut self,
        picture: &Planes<'_>,
        colour: ColourDescription,
        view: &View,
        size: (usize, usize),
        pixel_aspect: f64,
        out: &mut [u8],
    ) -> bool {
        let bytes = size.0.checked_mul(size.1).and_then(|pixels| pixels.checked_mul(3));
        if size.0 == 0 || size.1 == 0 || bytes != Some(out.len()) || picture.width < 4 || picture.height < 4 {
            return false;
        }
        let chroma = (picture.width.div_ceil(2), picture.height.div_ceil(2));
        let whole = |plane: &[u8], stride: usize, (width, height): (usize, usize)| {
            stride >= width && plane.len() >= stride * (height - 1) + width
        };
        let fit = whole(picture.y, picture.stride, (picture.width, picture.height))
            && whole(picture.u, picture.chroma_stride, chroma)
            && whole(picture.v, picture.chroma_stride, chroma);
        if !fit || matches!(view, View::Flat(_)) {
            return false;
        }
        let strides = (picture.stride, picture.chroma_stride);
        let of = Of { view: *view, size, pixel_aspect, picture: (picture.width, picture.height), strides };
        if self.of != Some(of) {
            self.map(&of);
            self.of = Some(of);
        }
        look_up(self, picture, Conversion::new(colour, picture.height), size.0, out);
        true
    }

    /// Works out where each pixel comes from.
    fn map(&mut self, of: &Of) {
        let Self { luma, chroma, shown, places, .. } = self;
        places.find(of);
        let chroma_size = (of.picture.0.div_ceil(2), of.picture.1.div_ceil(2));
        luma.become_of(&places.x, &places.y, of.picture, of.strides.0);
        shown.clear();
        if places.x.iter().any(|x| x.is_nan()) {
            shown.extend(places.x.iter().map(|x| if x.is_nan() { 0 } else { u32::MAX }));
        }
        let line = of.size.0.next_multiple_of(TOGETHER);
        let (x, y) = (halves(&places.x, line), halves(&places.y, line));
        chroma.become_of(&x, &y, chroma_size, of.strides.1);
    }
}

/// The middles of squares of two by two pixels, in the half as fine planes of colour. Where one of them lies far from the others,
/// as across the edge where a picture of all around ends, or nowhere, the first counts that lies somewhere.
fn halves(places: &[f32], line: usize) -> Vec<f32> {
    const FAR: f32 = 64.0;
    let mut out = Vec::with_capacity(places.len() / 4 + line);
    for rows in places.chunks(line * 2) {
        let (upper, lower) = rows.split_at(line);
        let lower = if lower.is_empty() { upper } else { lower };
        out.extend(upper.as_chunks().0.iter().zip(lower.as_chunks().0).map(|([a, b], [c, d])| {
            let sum = a + b + c + d;
            if (sum - 4.0 * a).abs() < FAR {
                sum / 8.0
            } else {
                [a, b, c, d].into_iter().find(|it| !it.is_nan()).unwrap_or(a) / 2.0
            }
        }));
    }
    out
}

impl Taps {
    fn become_of(&mut self, x: &[f32], y: &[f32], size: (usize, usize), stride: usize) {
        let Self { at, across, down } = self;
        across.resize(x.len(), 0);
        down.resize(x.len(), 0);
        at.resize(x.len(), 0);
        taps(at, across, down, (x, y), size, stride);
    }
}

#[multiversion(targets("x86_64+avx2+fma", "x86_64+sse4.1"))]
fn taps(
    at: &mut [u32],
    across: &mut [u8],
    down: &mut [u8],
    (x, y): (&[f32], &[f32]),
    (width, height): (usize, usize),
    stride: usize,
) {
    // The last sample has no neighbour: as near to it as can be told.
    let most = |side: usize| ((side - 1) * 256 - 1) as f32;
    let (most_x, most_y, stride) = (most(width), most(height), stride as u32);
    // No number becomes 0: it is looked up, and not shown.
    // Where a float has no bits behind the point its lowest bits are the number, rounded.
    let sample = |place: f32, most: f32| ((place * 256.0 - 128.0).max(0.0).min(most) + 8_388_608.0).to_bits() & 0x7f_ffff;
    for ((((at, across), down), x), y) in at.iter_mut().zip(across).zip(down).zip(x).zip(y) {
        let (x, y) = (sample(*x, most_x), sample(*y, most_y));
        *at = (y >> 8) * stride + (x >> 8);
        *across = x as u8;
        *down = y as u8;
    }
}

impl Places {
    /// Exactly at the corners of cells, evenly between them where that comes near enough.
    fn find(&mut self, of: &Of) {
        let (width, height) = of.size;
        let line = width.next_multiple_of(TOGETHER);
        let room = (width as f64 * of.pixel_aspect, height as f64);
        let rays = match &of.view {
            View::Window(_, gaze) => Some(gaze.rays(room)),
            View::Flat(_) | View::Strip(..) => None,
        };
        let exact = |x: f64, y: f64| {
            let at = (x * of.pixel_aspect, y);
            match (&of.view, &rays) {
                (View::Window(lens, _), Some(rays)) => lens.place(rays(at), of.picture),
                (View::Strip(lens, gaze), _) => lens.place(gaze.strip_ray(at, room), of.picture),
                _ => None,
            }
        };
        self.x.clear();
        self.y.clear();
        self.x.resize(line * height, f32::NAN);
        self.y.resize(line * height, f32::NAN);
        for top in (0..height).step_by(CELL) {
            for left in (0..width).step_by(CELL) {
                let (right, bottom) = ((left + CELL).min(width), (top + CELL).min(height));
                // Of the middles of the first and the last pixel.
                let ends = |from: usize, to: usize| (from as f64 + 0.5, to as f64 - 0.5);
                let ((x0, x1), (y0, y1)) = (ends(left, right), ends(top, bottom));
                let corners = [exact(x0, y0), exact(x1, y0), exact(x0, y1), exact(x1, y1)];
                let even = even(corners, exact(f64::midpoint(x0, x1), f64::midpoint(y0, y1)));
                for y in top..bottom {
                    let row = y * line + left..y * line + right;
                    let (xs, ys) = (&mut self.x[row.clone()], &mut self.y[row]);
                    if let Some([a, b, c, d]) = even {
                        let share = |at: usize, from: usize, to: usize| (at - from) as f32 / (to - from - 1).max(1) as f32;
                        let down = share(y, top, bottom);
                        let (x, y) = (a.0 + (c.0 - a.0) * down, a.1 + (c.1 - a.1) * down);
                        let step = 1.0 / (right - left - 1).max(1) as f32;
                        let dx = (b.0 + (d.0 - b.0) * down - x) * step;
                        let dy = (b.1 + (d.1 - b.1) * down - y) * step;
                        for (n, (to_x, to_y)) in xs.iter_mut().zip(ys).enumerate() {
                            (*to_x, *to_y) = (x + dx * n as f32, y + dy * n as f32);
                        }
                    } else {
                        for ((n, to_x), to_y) in xs.iter_mut().enumerate().zip(ys) {
                            if let Some((x, y)) = exact((left + n) as f64 + 0.5, y as f64 + 0.5) {
                                (*to_x, *to_y) = (x as f32, y as f32);
                            }
                        }
                    }
                }
            }
        }
    }
}

/// Four corners, where what lies evenly between them lies in the middle too.
fn even(corners: [Option<(f64, f64)>; 4], middle: Option<(f64, f64)>) -> Option<[(f32, f32); 4]> {
    let [a, b, c, d] = [corners[0]?, corners[1]?, corners[2]?, corners[3]?];
    let middle = middle?;
    let far = |a: f64, b: f64, c: f64, d: f64, middle: f64| ((a + b + c + d) / 4.0 - middle).abs() > EXACT;
    if far(a.0, b.0, c.0, d.0, middle.0) || far(a.1, b.1, c.1, d.1, middle.1) {
        return None;
    }
    Some([a, b, c, d].map(|(x, y)| (x as f32, y as f32)))
}

/// Samples between four of a plane, for as many as there are.
#[inline(always)]
fn between<const MANY: usize>(plane: &[u8], stride: usize, taps: &Taps, from: usize) -> [f32; MANY] {
    let (mut upper, mut lower) = ([0u16; MANY], [0u16; MANY]);
    let at = taps.at[from..].first_chunk::<MANY>().unwrap_or(&[0; MANY]);
    for (n, at) in at.iter().enumerate() {
        let at = *at as usize;
        if let Some([a, b, .., c, d]) = plane.get(at..at + stride + 2) {
            (upper[n], lower[n]) = (u16::from_le_bytes([*a, *b]), u16::from_le_bytes([*c, *d]));
        }
    }
    let across = taps.across[from..].first_chunk::<MANY>().unwrap_or(&[0; MANY]);
    let down = taps.down[from..].first_chunk::<MANY>().unwrap_or(&[0; MANY]);
    let mut out = [0.0; MANY];
    for (n, out) in out.iter_mut().enumerate() {
        let (across, down) = (i32::from(across[n]), i32::from(down[n]));
        let mix = |pair: u16| {
            let (a, b) = (i32::from(pair & 255), i32::from(pair >> 8));
            a * 256 + (b - a) * across
        };
        let (upper, lower) = (mix(upper[n]), mix(lower[n]));
        *out = (upper * 256 + (lower - upper) * down) as f32 * (1.0 / 65_536.0);
    }
    out
}

#[multiversion(targets("x86_64+avx2+fma", "x86_64+sse4.1"))]
fn look_up(unroller: &Unroller, picture: &Planes<'_>, conversion: Conversion, width: usize, out: &mut [u8]) {
    let Unroller { luma, chroma, shown, .. } = unroller;
    let line = width.next_multiple_of(TOGETHER);
    for (pair, out) in out.chunks_mut(width * 6).enumerate() {
        for n in 0..line / TOGETHER {
            let of_chroma = (pair * line / TOGETHER + n) * PAIRS;
            let u = between::<PAIRS>(picture.u, picture.chroma_stride, chroma, of_chroma);
            let v = between::<PAIRS>(picture.v, picture.chroma_stride, chroma, of_chroma);
            for (row, out) in out.chunks_exact_mut(width * 3).enumerate() {
                let from = (pair * 2 + row) * line + n * TOGETHER;
                let y = between::<TOGETHER>(picture.y, picture.stride, luma, from);
                let mut pixels = [0; TOGETHER];
                for (n, pixel) in pixels.iter_mut().enumerate() {
                    *pixel = conversion.rgb(y[n], u[n / 2], v[n / 2]);
                }
                if let Some(shown) = shown.get(from..from + TOGETHER) {
                    for (pixel, shown) in pixels.iter_mut().zip(shown) {
                        *pixel &= shown;
                    }
                }
                for (pixel, out) in pixels.iter().zip(out[n * TOGETHER * 3..].as_chunks_mut::<3>().0) {
                    let [r, g, b, _] = pixel.to_le_bytes();
                    *out = [r, g, b];
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::lens::{Gaze, Lens, Mount, Projection};
    use lattice_core::video::ColourMatrix;

    const GREY: ColourDescription = ColourDescription { full_range: true, matrix: ColourMatrix::Bt601 };

    /// A picture of a world, as a lens takes it: each of its pixels is the mean of sixteen rays.
    fn taken(lens: &Lens, (width, height): (usize, usize), world: impl Fn([f64; 3]) -> f64) -> Vec<u8> {
        let pixel = |n: usize| {
            let (x, y) = ((n % width) as f64, (n / width) as f64);
            let rays = (0..16).filter_map(|n| {
                let at = (x + f64::from(n % 4) / 4.0 + 0.125, y + f64::from(n / 4) / 4.0 + 0.125);
                lens.direction(at, (width, height))
            });
            let levels: Vec<f64> = rays.map(&world).collect();
            (levels.iter().sum::<f64>() / levels.len().max(1) as f64).round() as u8
        };
        (0..width * height).map(pixel).collect()
    }

    fn unrolled(lens: Lens, gaze: Gaze, picture: &[u8], (width, height): (usize, usize), size: (usize, usize)) -> Vec<u8> {
        let grey = vec![128; width.div_ceil(2) * height.div_ceil(2)];
        let planes = Planes { width, height, y: picture, u: &grey, v: &grey, stride: width, chroma_stride: width.div_ceil(2) };
        let mut out = vec![0; size.0 * size.1 * 3];
        assert!(Unroller::default().unroll(&planes, GREY, &View::Window(lens, gaze), size, 1.0, &mut out));
        out.as_chunks::<3>().0.iter().map(|pixel| pixel[1]).collect()
    }

    #[test]
    fn straight_lines_are_straight_and_where_the_geometry_says() {
        let (size, source) = ((320, 180), (1920, 960));
        // An edge in the world: what lies on one side of a plane through the camera is light.
        for (plane, upright) in [([1.0, 0.1, -0.3], true), ([0.12, 1.0, -0.18], false)] {
            let world = |ray: [f64; 3]| {
                let side: f64 = ray.iter().zip(plane).map(|(a, b)| a * b).sum();
                if side > 0.0 { 200.0 } else { 50.0 }
            };
            for lens in [
                Lens::new(Projection::Equirectangular, Mount::Desk),
                Lens::new(Projection::Equirectangular, Mount::Ceiling),
                Lens { field: 190, ..Lens::new(Projection::Fisheye, Mount::Wall) },
                Lens::new(Projection::DualFisheye, Mount::Wall),
            ] {
                let picture = taken(&lens, source, world);
                let gaze = Gaze::degrees(8.0, 5.0, 12.0, 80.0);
                let view = unrolled(lens, gaze, &picture, source, size);
                // Along the way across the edge: where the level passes the middle, to a part of a pixel.
                let along = if upright { size.1 } else { size.0 };
                let mut worst: f64 = 0.0;
                for line in (4..along - 4).step_by(7) {
                    let level = |n: usize| f64::from(if upright { view[line * size.0 + n] } else { view[n * size.0 + line] });
                    let across = if upright { size.0 } else { size.1 };
                    let Some(n) = (2..across - 3).find(|n| (level(*n) - 125.0) * (level(n + 1) - 125.0) <= 0.0) else { continue };
                    let found = n as f64 + (125.0 - level(n)) / (level(n + 1) - level(n)) + 0.5;
                    // Where the plane is met in the view, by its own equation.
                    let side = |at: f64| {
                        let at = if upright { (at, line as f64 + 0.5) } else { (line as f64 + 0.5, at) };
                        let ray = gaze.ray(at, (size.0 as f64, size.1 as f64));
                        ray.iter().zip(plane).map(|(a, b)| a * b).sum::<f64>()
                    };
                    let (mut low, mut high) = (0.0, across as f64);
                    for _ in 0..40 {
                        let middle = f64::midpoint(low, high);
                        if side(low) * side(middle) <= 0.0 { high = middle } else { low = middle }
                    }
                    worst = worst.max((found - low).abs());
                }
                assert!(worst > 0.0 && worst < 0.5, "{lens:?} {plane:?}: {worst} pixels off");
            }
        }
    }

    #[test]
    fn what_a_lens_does_not_show_is_black_and_short_planes_give_nothing() {
        let lens = Lens::new(Projection::Fisheye, Mount::Wall);
        let picture = vec![200; 64 * 64];
        let behind = unrolled(lens, Gaze::degrees(180.0, 0.0, 0.0, 60.0), &picture, (64, 64), (16, 9));
        assert!(behind.iter().all(|level| *level == 0), "{behind:?}");
        let ahead = unrolled(lens, Gaze::degrees(0.0, 0.0, 0.0, 60.0), &picture, (64, 64), (16, 9));
        assert!(ahead.iter().all(|level| *level == 200), "{ahead:?}");
        let short = Planes { width: 64, height: 64, y: &picture[..99], u: &[], v: &[], stride: 64, chroma_stride: 32 };
        let view = View::Window(lens, lens.first_look());
        assert!(!Unroller::default().unroll(&short, GREY, &view, (4, 4), 1.0, &mut [0; 48]));
    }

    #[test]
    fn a_strip_shows_all_around_with_ahead_in_its_middle() {
        let lens = Lens::new(Projection::Equirectangular, Mount::Wall);
        let picture: Vec<u8> = (0..256 * 128).map(|n| (n % 256) as u8).collect();
        let grey = vec![128; 128 * 64];
        let planes = Planes { width: 256, height: 128, y: &picture, u: &grey, v: &grey, stride: 256, chroma_stride: 128 };
        let mut out = vec![0; 64 * 8 * 3];
        let view = View::Strip(lens, Gaze::degrees(0.0, 0.0, 0.0, 90.0));
        assert!(Unroller::default().unroll(&planes, GREY, &view, (64, 8), 1.0, &mut out));
        let level = |x: usize| out[(4 * 64 + x) * 3];
        assert!(level(32).abs_diff(130) <= 2 && level(2) < 16 && level(61) > 240, "{} {} {}", level(2), level(32), level(61));
        let turned = View::Strip(lens, Gaze::degrees(90.0, 0.0, 0.0, 90.0));
        Unroller::default().unroll(&planes, GREY, &turned, (64, 8), 1.0, &mut out);
        assert!(out[(4 * 64 + 32) * 3].abs_diff(194) <= 2, "what lies to the right is in the middle now");
    }
}
