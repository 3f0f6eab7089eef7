//! Box filter from the decoder's planes straight to the pixels of a tile.
//!
//! Each pixel of the tile is the mean of the area of the picture that it covers, fractions of
//! source pixels included. Rows are summed first, a whole row at a time, so that the inner loops
//! are plain additions over slices.

use crate::colour::Conversion;
use crate::picture::{ColourDescription, Planes};

/// Parts of a source pixel: the weight of a whole one. Two bytes so weighted add up within 16 bits, which
/// is what vectors multiply fast.
const WHOLE: u16 = 128;

/// Parts of a level that means are kept in.
pub const FINE: i32 = 16;

/// Buffers for scaling, kept from picture to picture.
#[derive(Debug, Default)]
pub struct Scaler {
    sums: RowSums,
    /// Means in parts of [`FINE`].
    planes: [Vec<i32>; 3],
}

impl Scaler {
    /// Scales a picture to `width` × `height` pixels and converts it; `out` is replaced by the
    /// red, green and blue bytes.
    ///
    /// A size of zero, or planes shorter than their size says, give an empty result.
    pub fn scale(&mut self, picture: &Planes<'_>, colour: ColourDescription, width: usize, height: usize, out: &mut Vec<u8>) {
        out.clear();
        let chroma = (picture.width.div_ceil(2), picture.height.div_ceil(2));
        let sources = [
            (picture.y, picture.stride, picture.width, picture.height),
            (picture.u, picture.chroma_stride, chroma.0, chroma.1),
            (picture.v, picture.chroma_stride, chroma.0, chroma.1),
        ];
        if width == 0 || height == 0 {
            return;
        }
        for (plane, (bytes, stride, w, h)) in self.planes.iter_mut().zip(sources) {
            if w == 0 || h == 0 || stride < w || bytes.len() < stride * (h - 1) + w {
                return;
            }
            scale_plane(bytes, stride, (w, h), (width, height), &mut self.sums, plane);
        }
        let conversion = Conversion::new(colour, picture.height);
        out.resize(width * height * 3, 0);
        let [y, u, v] = &self.planes;
        for (((rgb, y), u), v) in out.as_chunks_mut::<3>().0.iter_mut().zip(y).zip(u).zip(v) {
            *rgb = conversion.rgb(*y, *u, *v);
        }
    }
}

/// Where a destination pixel begins and ends in the source, to the nearest part of [`WHOLE`].
fn interval(index: usize, from: usize, to: usize) -> (usize, usize) {
    let scaled = |edge: usize| (edge * from * usize::from(WHOLE) + to / 2) / to;
    let (start, end) = (scaled(index), scaled(index + 1));
    (start, end.max(start + 1))
}

/// What one destination pixel covers: a part of the first source pixel, all of the inner ones, a part
/// of the last.
#[derive(Debug, Clone)]
struct Cover {
    pixels: std::ops::Range<usize>,
    first: u16,
    last: u16,
    /// Parts covered in all.
    size: usize,
}

fn cover(index: usize, from: usize, to: usize) -> Cover {
    let whole = usize::from(WHOLE);
    let (start, end) = interval(index, from, to);
    let pixels = start / whole..end.div_ceil(whole).min(from);
    let size = end - start;
    if pixels.len() == 1 {
        return Cover { pixels, first: (end - start) as u16, last: 0, size };
    }
    let last = match end % whole {
        0 => WHOLE,
        part => part as u16,
    };
    Cover { pixels, first: (whole - start % whole) as u16, last, size }
}

/// Rows that fit into 16-bit sums of bytes.
const ROWS_A_SUM: usize = 257;

/// Sums of the rows that a destination row covers.
#[derive(Debug, Default)]
struct RowSums {
    some: Vec<u16>,
    all: Vec<u32>,
}

impl RowSums {
    fn sum(&mut self, bytes: &[u8], stride: usize, width: usize, rows: &Cover) {
        let row = |y: usize| bytes.get(y * stride..y * stride + width).unwrap_or_default();
        let (top, bottom) = (rows.pixels.start, rows.pixels.end - 1);
        let ends = row(top).iter().zip(row(bottom));
        self.some.clear();
        self.some.extend(ends.map(|(top, bottom)| u16::from(*top) * rows.first + u16::from(*bottom) * rows.last));
        self.all.clear();
        self.all.extend(self.some.iter().map(|sum| u32::from(*sum)));
        let mut next = top + 1;
        while next < bottom {
            self.some.clear();
            self.some.extend(row(next).iter().map(|value| u16::from(*value)));
            let end = bottom.min(next + ROWS_A_SUM);
            for y in next + 1..end {
                for (sum, value) in self.some.iter_mut().zip(row(y)) {
                    *sum += u16::from(*value);
                }
            }
            next = end;
            for (sum, inner) in self.all.iter_mut().zip(&self.some) {
                *sum += u32::from(*inner) * u32::from(WHOLE);
            }
        }
    }
}

/// A place between source pixels: the pixel it lies in, and how far into it, in parts of [`ACROSS`].
type Edge = (usize, u64);
const ACROSS: usize = 65536;

fn edge(index: usize, from: usize, to: usize) -> Edge {
    (index * from / to, ((index * from % to * ACROSS + to / 2) / to) as u64)
}

fn scale_plane(bytes: &[u8], stride: usize, from: (usize, usize), to: (usize, usize), sums: &mut RowSums, out: &mut Vec<i32>) {
    out.clear();
    out.resize(to.0 * to.1, 0);
    let edges: Vec<Edge> = (1..=to.0).map(|x| edge(x, from.0, to.0)).collect();
    let mut running = Vec::with_capacity(from.0 + 1);
    for (y, line) in out.chunks_exact_mut(to.0).enumerate() {
        let rows = cover(y, from.1, to.1);
        sums.sum(bytes, stride, from.0, &rows);
        sums.all.push(0);
        // The sum of everything left of a source pixel; a pixel of the tile is the difference of its two edges.
        running.clear();
        let mut total = 0u64;
        running.extend(sums.all.iter().map(|sum| {
            let before = total;
            total += u64::from(*sum);
            before
        }));
        // Level times parts, as a fixed-point factor: the product is at most 4080 with `POINT` bits behind it.
        let parts = from.0 as f64 / to.0 as f64 * rows.size as f64 * ACROSS as f64;
        let factor = ((1u64 << POINT) as f64 * f64::from(FINE) / parts) as u64;
        let mut left = 0;
        for (value, (pixel, part)) in line.iter_mut().zip(&edges) {
            let (Some(before), Some(own)) = (running.get(*pixel), sums.all.get(*pixel)) else { break };
            let right = before * ACROSS as u64 + u64::from(*own) * part;
            *value = (((right - left) * factor + (1 << (POINT - 1))) >> POINT) as i32;
            left = right;
        }
    }
}

/// Bits behind the point of the factor from sums to levels.
const POINT: u32 = 50;

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::video::ColourMatrix;
    use proptest::prelude::*;

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

    proptest! {
        #[test]
        fn the_fast_way_is_the_exact_way(
            (from, to, bytes) in (1usize..40, 1usize..30, 1usize..50, 1usize..40).prop_flat_map(|(w, h, tw, th)| {
                (Just((w, h)), Just((tw, th)), proptest::collection::vec(any::<u8>(), w * h))
            })
        ) {
            let mut out = Vec::new();
            scale_plane(&bytes, from.0, from, to, &mut RowSums::default(), &mut out);
            for (fast, slow) in out.iter().zip(exact(&bytes, from, to)) {
                // Both edges of a row lie within 1/256 of a source row: at most 255 · 2/256 of a level over a whole
                // one, and columns a tenth of that. Enlarged rows are small against that (at least 2/39 where one crosses a source row's edge).
                let bound = if to.1 > from.1 { 22.0 } else { 2.3 };
                prop_assert!((f64::from(*fast) / f64::from(FINE) - slow).abs() < bound, "{fast} {slow} {from:?} {to:?}");
            }
        }
    }

    #[test]
    fn a_fractional_factor_keeps_flat_areas_flat_and_edges_in_place() {
        // 360 lines to 48 (7.5 each), black above line 180.
        let bytes: Vec<u8> = (0..360 * 8).map(|n| if n / 8 < 180 { 0 } else { 255 }).collect();
        let mut out = Vec::new();
        scale_plane(&bytes, 8, (8, 360), (1, 48), &mut RowSums::default(), &mut out);
        assert!(out[..24].iter().all(|v| *v == 0) && out[24..].iter().all(|v| *v == 255 * 16), "{out:?}");
    }

    #[test]
    fn short_planes_give_nothing_and_do_not_panic() {
        let planes = Planes { width: 16, height: 16, y: &[0; 10], u: &[], v: &[], stride: 16, chroma_stride: 8 };
        let mut out = vec![1];
        Scaler::default().scale(&planes, ColourDescription { full_range: true, matrix: ColourMatrix::Bt601 }, 4, 4, &mut out);
        assert!(out.is_empty());
    }
}
