//! Box filter from the decoder's planes straight to the pixels of a tile.
//!
//! Each pixel of the tile is the mean of the area of the picture that it covers, fractions of source pixels included. Rows of
//! the tile are made [`LANES`] at a time and stand beside each other while they are: whatever is done to one pixel is done to
//! that many, as vectors do it.

#![allow(clippy::inline_always, reason = "what is not inlined into `make` does without the wide instructions")]

use crate::colour::Conversion;
use crate::picture::{ColourDescription, Planes};
use multiversion::multiversion;
use std::ops::Range;

/// Rows of the tile that are made at a time.
pub const LANES: usize = 8;
/// One column of those rows: a level (0 to 255) in each.
pub type Lanes = [f32; LANES];

/// Rows that fit into 16-bit sums of bytes.
const ROWS_A_SUM: usize = 257;

/// Buffers for scaling, kept from picture to picture.
#[derive(Debug, Default)]
pub struct Scaler {
    /// Sums of the source rows that lie within a row of the tile.
    sums: Vec<u16>,
    /// Means of the source rows that each row of the tile covers, one after the other.
    rows: Vec<f32>,
    /// The same beside each other.
    down: Vec<Lanes>,
    /// Of each plane, the same for the columns.
    lines: [Vec<Lanes>; 3],
    /// What each column of the tile covers, in luma and in chroma.
    across: [Covers; 2],
    /// What comes out of them.
    pixels: Vec<[u32; LANES]>,
}

impl Scaler {
    /// Scales a picture to `width` × `height` pixels and converts it, into as many times three bytes: red, green and blue.
    ///
    /// Nothing is done, and `false` given, where the size is zero, `out` has another number of bytes, or planes are shorter than
    /// their size says.
    pub fn scale(
        &mut self,
        picture: &Planes<'_>,
        colour: ColourDescription,
        width: usize,
        height: usize,
        out: &mut [u8],
    ) -> bool {
        let chroma = (picture.width.div_ceil(2), picture.height.div_ceil(2));
        let planes = [
            Plane { bytes: picture.y, stride: picture.stride, width: picture.width, height: picture.height },
            Plane { bytes: picture.u, stride: picture.chroma_stride, width: chroma.0, height: chroma.1 },
            Plane { bytes: picture.v, stride: picture.chroma_stride, width: chroma.0, height: chroma.1 },
        ];
        let bytes = width.checked_mul(height).and_then(|pixels| pixels.checked_mul(3));
        if width == 0 || height == 0 || bytes != Some(out.len()) || !planes.iter().all(Plane::is_whole) {
            return false;
        }
        for (covers, from) in self.across.iter_mut().zip([picture.width, chroma.0]) {
            covers.become_of(from, width);
        }
        make(self, &planes, Conversion::new(colour, picture.height), height, out);
        true
    }
}

/// Makes all rows; of the instructions that this machine has, the widest are taken.
#[multiversion(targets("x86_64+avx2+fma", "x86_64+sse4.1"))]
fn make(scaler: &mut Scaler, planes: &[Plane<'_>; 3], conversion: Conversion, height: usize, out: &mut [u8]) {
    let Scaler { sums, rows, down, lines, across: [of_luma, of_chroma], pixels } = scaler;
    for (n, out) in out.chunks_mut(out.len() / height * LANES).enumerate() {
        let first = n * LANES;
        let count = LANES.min(height - first);
        for ((plane, line), covers) in planes.iter().zip(&mut *lines).zip([&*of_luma, of_chroma, of_chroma]) {
            rows.resize(plane.width * LANES, 0.0);
            for (row, mean) in (first..first + count).zip(rows.chunks_exact_mut(plane.width)) {
                plane.mean_of_rows(&Cover::of(row, plane.height, height), sums, mean);
            }
            side_by_side(rows, plane.width, down);
            covers.mean_of_columns(down, line);
        }
        let [y, u, v] = &*lines;
        pixels.resize(y.len(), [0; LANES]);
        let levels = y.as_flattened().iter().zip(u.as_flattened()).zip(v.as_flattened());
        for (pixel, ((y, u), v)) in pixels.as_flattened_mut().iter_mut().zip(levels) {
            *pixel = conversion.rgb(*y, *u, *v);
        }
        for (lane, row) in out.chunks_mut(pixels.len() * 3).enumerate() {
            to_bytes(pixels, lane, row);
        }
    }
}

/// Turns rows of that width into columns.
#[inline(always)]
fn side_by_side(rows: &[f32], width: usize, columns: &mut Vec<Lanes>) {
    columns.resize(width, Lanes::default());
    let mut rows = rows.chunks_exact(width);
    let rows: [&[f32]; LANES] = std::array::from_fn(|_| rows.next().unwrap_or_default());
    let [a, b, c, d, e, f, g, h] = rows.map(|row| &row[..width]);
    for (x, column) in columns[..width].iter_mut().enumerate() {
        *column = [a[x], b[x], c[x], d[x], e[x], f[x], g[x], h[x]];
    }
}

/// Three bytes of each pixel of a row.
#[inline(always)]
fn to_bytes(pixels: &[[u32; LANES]], lane: usize, row: &mut [u8]) {
    let (fours, rest) = pixels.as_chunks::<4>();
    let (twelves, end) = row.as_chunks_mut::<12>();
    for ([a, b, c, d], bytes) in fours.iter().zip(twelves) {
        let (a, b, c, d) = (a[lane], b[lane], c[lane], d[lane]);
        let words = [a | b << 24, b >> 8 | c << 16, c >> 16 | d << 8];
        bytes.copy_from_slice(words.map(u32::to_le_bytes).as_flattened());
    }
    for (column, bytes) in rest.iter().zip(end.as_chunks_mut::<3>().0) {
        bytes.copy_from_slice(&column[lane].to_le_bytes()[..3]);
    }
}

/// What a pixel of the tile covers in one direction: a part of the first source pixel, all of the inner ones, a part of the
/// last.
#[derive(Debug, Clone)]
struct Cover {
    first: usize,
    last: usize,
    /// Shares of the mean: of the first one, of each inner one, of the last one.
    shares: [f32; 3],
}

impl Cover {
    fn of(index: usize, from: usize, to: usize) -> Self {
        // Edges in parts of a source pixel, of which it has `to`.
        let (start, end) = (index * from, (index + 1) * from);
        let (first, last) = (start / to, (end - 1) / to);
        let share = |parts: usize| (parts as f64 / from as f64) as f32;
        let shares = if first == last {
            [share(end - start), 0.0, 0.0]
        } else {
            [share((first + 1) * to - start), share(to), share(end - last * to)]
        };
        Self { first, last, shares }
    }
}

/// The same for all pixels of a row. Each has as many source pixels, though the shares of some are nothing: what is done is
/// the same for all.
#[derive(Debug, Default)]
struct Covers {
    /// Source pixels of the row, and pixels of the tile.
    of: (usize, usize),
    firsts: Vec<usize>,
    /// So many for each.
    taps: usize,
    shares: Vec<f32>,
}

impl Covers {
    fn become_of(&mut self, from: usize, to: usize) {
        if self.of == (from, to) {
            return;
        }
        let covers: Vec<Cover> = (0..to).map(|index| Cover::of(index, from, to)).collect();
        self.of = (from, to);
        self.taps = covers.iter().map(|cover| cover.last - cover.first + 1).max().unwrap_or(0);
        self.shares = vec![0.0; to * self.taps];
        self.firsts.clear();
        for (Cover { first, last, shares: [of_first, of_inner, of_last] }, all) in
            covers.into_iter().zip(self.shares.chunks_exact_mut(self.taps))
        {
            // All of them lie within the row.
            let begin = first.min(from - self.taps);
            let own = &mut all[first - begin..=last - begin];
            own.fill(of_inner);
            own[last - first] = of_last;
            own[0] = of_first;
            self.firsts.push(begin);
        }
    }

    /// The mean over the columns that each covers, in each row.
    #[inline(always)]
    fn mean_of_columns(&self, columns: &[Lanes], out: &mut Vec<Lanes>) {
        out.resize(self.firsts.len(), Lanes::default());
        // Few are the usual case, and quicker where their number is known.
        match self.taps {
            1 => self.mean_of::<1>(columns, out),
            2 => self.mean_of::<2>(columns, out),
            3 => self.mean_of::<3>(columns, out),
            4 => self.mean_of::<4>(columns, out),
            taps => {
                for ((mean, first), shares) in out.iter_mut().zip(&self.firsts).zip(self.shares.chunks_exact(taps)) {
                    *mean = weighted(&columns[*first..*first + taps], shares);
                }
            }
        }
    }

    #[inline(always)]
    fn mean_of<const TAPS: usize>(&self, columns: &[Lanes], out: &mut [Lanes]) {
        for ((mean, first), shares) in out.iter_mut().zip(&self.firsts).zip(self.shares.as_chunks::<TAPS>().0) {
            let covered: &[Lanes; TAPS] = columns[*first..].first_chunk().unwrap_or(&[[0.0; LANES]; TAPS]);
            *mean = weighted(covered, shares);
        }
    }
}

#[inline(always)]
fn weighted(columns: &[Lanes], shares: &[f32]) -> Lanes {
    let mut sum = Lanes::default();
    for (column, share) in columns.iter().zip(shares) {
        for (sum, level) in sum.iter_mut().zip(column) {
            *sum += level * share;
        }
    }
    sum
}

/// One plane of a picture.
struct Plane<'a> {
    bytes: &'a [u8],
    stride: usize,
    width: usize,
    height: usize,
}

impl Plane<'_> {
    fn is_whole(&self) -> bool {
        let (width, height) = (self.width, self.height);
        width > 0 && height > 0 && self.stride >= width && self.bytes.len() >= self.stride * (height - 1) + width
    }

    fn row(&self, row: usize) -> &[u8] {
        let at = row * self.stride;
        self.bytes.get(at..at + self.width).unwrap_or_default()
    }

    /// The mean over those rows, for each column.
    #[inline(always)]
    fn mean_of_rows(&self, rows: &Cover, sums: &mut Vec<u16>, out: &mut [f32]) {
        let [of_first, of_inner, of_last] = rows.shares;
        let (first, last) = (self.row(rows.first), self.row(rows.last));
        if rows.first == rows.last {
            for (mean, level) in out.iter_mut().zip(first) {
                *mean = f32::from(*level) * of_first;
            }
            return;
        }
        let mut inner = (rows.first + 1..rows.last).step_by(ROWS_A_SUM);
        let last_of = |begin: usize| rows.last.min(begin + ROWS_A_SUM);
        let Some(begin) = inner.next() else {
            for ((mean, first), last) in out.iter_mut().zip(first).zip(last) {
                *mean = f32::from(*first) * of_first + f32::from(*last) * of_last;
            }
            return;
        };
        for (((mean, first), last), sum) in out.iter_mut().zip(first).zip(last).zip(self.sum_of_rows(begin..last_of(begin), sums))
        {
            *mean = f32::from(*first) * of_first + f32::from(*last) * of_last + f32::from(*sum) * of_inner;
        }
        for begin in inner {
            for (mean, sum) in out.iter_mut().zip(self.sum_of_rows(begin..last_of(begin), sums)) {
                *mean += f32::from(*sum) * of_inner;
            }
        }
    }

    /// The sum of at most [`ROWS_A_SUM`] rows, for each column.
    #[inline(always)]
    fn sum_of_rows<'a>(&self, rows: Range<usize>, sums: &'a mut Vec<u16>) -> &'a [u16] {
        sums.clear();
        sums.resize(self.width, 0);
        let fours = rows.len() / 4;
        for row in rows.clone().step_by(4).take(fours) {
            let four = self.row(row).iter().zip(self.row(row + 1)).zip(self.row(row + 2)).zip(self.row(row + 3));
            for (sum, (((a, b), c), d)) in sums.iter_mut().zip(four) {
                *sum += u16::from(*a) + u16::from(*b) + u16::from(*c) + u16::from(*d);
            }
        }
        for row in rows.skip(4 * fours) {
            for (sum, level) in sums.iter_mut().zip(self.row(row)) {
                *sum += u16::from(*level);
            }
        }
        sums
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::video::ColourMatrix;
    use proptest::prelude::*;

    const GREY: ColourDescription = ColourDescription { full_range: true, matrix: ColourMatrix::Bt601 };

    /// The definition, slowly: the mean over the covered area.
    fn exact(bytes: &[u8], from: (usize, usize), to: (usize, usize)) -> Vec<f64> {
        let overlap = |pixel: usize, index: usize, from: usize, to: usize| {
            let (start, end) = (index as f64 * from as f64 / to as f64, (index + 1) as f64 * from as f64 / to as f64);
            (end.min(pixel as f64 + 1.0) - start.max(pixel as f64)).max(0.0)
        };
        let mut out = Vec::new();
        for y in 0..to.1 {
            for x in 0..to.0 {
                let (mut sum, mut area) = (0.0, 0.0);
                for sy in 0..from.1 {
                    for sx in 0..from.0 {
                        let weight = overlap(sx, x, from.0, to.0) * overlap(sy, y, from.1, to.1);
                        sum += weight * f64::from(bytes[sy * from.0 + sx]);
                        area += weight;
                    }
                }
                out.push(sum / area);
            }
        }
        out
    }

    fn scaled(y: &[u8], [u, v]: [&[u8]; 2], (width, height): (usize, usize), to: (usize, usize)) -> Vec<u8> {
        let planes = Planes { width, height, y, u, v, stride: width, chroma_stride: width.div_ceil(2) };
        let mut out = vec![1; to.0 * to.1 * 3];
        if Scaler::default().scale(&planes, GREY, to.0, to.1, &mut out) { out } else { Vec::new() }
    }

    proptest! {
        #[test]
        fn the_fast_way_is_the_exact_way(
            (from, to, bytes) in (1usize..70, 1usize..40, 1usize..50, 1usize..40).prop_flat_map(|(w, h, tw, th)| {
                (Just((w, h)), Just((tw, th)), proptest::collection::vec(any::<u8>(), w * h))
            })
        ) {
            let chroma = (from.0.div_ceil(2), from.1.div_ceil(2));
            let (grey, some) = (vec![128; chroma.0 * chroma.1], &bytes[..chroma.0 * chroma.1]);
            let luma = scaled(&bytes, [&grey, &grey], from, to);
            prop_assert_eq!(luma.len(), to.0 * to.1 * 3);
            for (pixel, want) in luma.as_chunks::<3>().0.iter().zip(exact(&bytes, from, to)) {
                prop_assert!(pixel.iter().all(|level| (f64::from(*level) - want).abs() < 0.51), "{pixel:?} {want}");
            }
            // Blue of a black picture is what its plane says, 1.772 times.
            let blue = scaled(&vec![0; bytes.len()], [some, &grey], from, to);
            for (pixel, want) in blue.as_chunks::<3>().0.iter().zip(exact(some, chroma, to)) {
                prop_assert!((f64::from(pixel[2]) - ((want - 128.0) * 1.772).clamp(0.0, 255.0)).abs() < 0.51, "{pixel:?} {want}");
            }
        }
    }

    #[test]
    fn a_fractional_factor_keeps_flat_areas_flat_and_edges_in_place() {
        // 1080 lines to 2, 540 each: more than one sum holds; black above line 540.
        let bytes: Vec<u8> = (0..1080 * 8).map(|n| if n / 8 < 540 { 0 } else { 255 }).collect();
        let grey = vec![128; 540 * 4];
        assert_eq!(scaled(&bytes, [&grey, &grey], (8, 1080), (1, 2)), [0, 0, 0, 255, 255, 255]);
        // 7.5 lines each.
        let out = scaled(&bytes[360 * 8..720 * 8], [&grey, &grey], (8, 360), (1, 48));
        assert!(out[..72].iter().all(|level| *level == 0) && out[72..].iter().all(|level| *level == 255), "{out:?}");
    }

    #[test]
    fn short_planes_give_nothing_and_do_not_panic() {
        assert!(scaled(&[0; 10], [&[], &[]], (16, 16), (4, 4)).is_empty());
        let (whole, mut out) =
            (Planes { width: 2, height: 2, y: &[0; 4], u: &[0], v: &[0], stride: 2, chroma_stride: 1 }, [7; 11]);
        assert!(!Scaler::default().scale(&whole, GREY, 2, 2, &mut out) && out == [7; 11], "eleven bytes are no four pixels");
    }
}
