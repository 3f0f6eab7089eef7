//! Box filter from the decoder's planes straight to the pixels of a tile.
//!
//! Each pixel of the tile is the mean of the area of the picture that it covers, fractions of
//! source pixels included. Rows are summed first, a whole row at a time, so that the inner loops
//! are plain additions over slices.

use crate::colour::Conversion;
use crate::picture::{ColourDescription, Planes};

/// Parts of a source pixel: the weight of a whole one.
const WHOLE: u32 = 256;

/// Buffers for scaling, kept from picture to picture.
#[derive(Debug, Default)]
pub struct Scaler {
    sums: Vec<u32>,
    planes: [Vec<f32>; 3],
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
        out.reserve(width * height * 3);
        let [y, u, v] = &self.planes;
        for ((y, u), v) in y.iter().zip(u).zip(v) {
            out.extend(conversion.rgb(*y, *u, *v));
        }
    }
}

/// Where a destination pixel begins and ends in the source, in parts of [`WHOLE`].
fn interval(index: usize, from: usize, to: usize) -> (usize, usize) {
    let scaled = |edge: usize| edge * from * WHOLE as usize / to;
    let (start, end) = (scaled(index), scaled(index + 1));
    (start, end.max(start + 1))
}

/// The whole source pixels inside an interval and the weights of the cut ones at its ends.
struct Cover {
    first: (usize, u32),
    inner: std::ops::Range<usize>,
    last: Option<(usize, u32)>,
}

fn cover(index: usize, from: usize, to: usize) -> Cover {
    let whole = WHOLE as usize;
    let (start, end) = interval(index, from, to);
    let (first, last) = (start / whole, end / whole);
    if first == last {
        return Cover { first: (first, (end - start) as u32), inner: first..first, last: None };
    }
    let tail = (end % whole) as u32;
    Cover {
        first: (first, (whole - start % whole) as u32),
        inner: first + 1..last,
        last: (tail > 0 && last < from).then_some((last, tail)),
    }
}

fn scale_plane(bytes: &[u8], stride: usize, from: (usize, usize), to: (usize, usize), sums: &mut Vec<u32>, out: &mut Vec<f32>) {
    out.clear();
    out.reserve(to.0 * to.1);
    let row = |y: usize| bytes.get(y * stride..y * stride + from.0).unwrap_or_default();
    let columns: Vec<(Cover, f32)> = (0..to.0)
        .map(|x| {
            let (start, end) = interval(x, from.0, to.0);
            (cover(x, from.0, to.0), (end - start) as f32)
        })
        .collect();
    for y in 0..to.1 {
        let vertical = cover(y, from.1, to.1);
        let (start, end) = interval(y, from.1, to.1);
        sums.clear();
        sums.extend(row(vertical.first.0).iter().map(|value| u32::from(*value) * vertical.first.1));
        for inner in vertical.inner {
            sums.iter_mut().zip(row(inner)).for_each(|(sum, value)| *sum += u32::from(*value) << 8);
        }
        if let Some((last, weight)) = vertical.last {
            sums.iter_mut().zip(row(last)).for_each(|(sum, value)| *sum += u32::from(*value) * weight);
        }
        let rows = (end - start) as f32;
        for (horizontal, width) in &columns {
            let at = |x: usize| sums.get(x).copied().unwrap_or_default();
            let inner: u32 = sums.get(horizontal.inner.clone()).unwrap_or_default().iter().sum();
            let mut total = inner as f32 * WHOLE as f32 + at(horizontal.first.0) as f32 * horizontal.first.1 as f32;
            if let Some((last, weight)) = horizontal.last {
                total += at(last) as f32 * weight as f32;
            }
            out.push(total / (width * rows));
        }
    }
}

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
            scale_plane(&bytes, from.0, from, to, &mut Vec::new(), &mut out);
            for (fast, slow) in out.iter().zip(exact(&bytes, from, to)) {
                // Edges are placed to 1/256 of a pixel; enlarged pixels are small against that.
                let bound = if to.0 > from.0 || to.1 > from.1 { 26.0 } else { 2.0 };
                prop_assert!((f64::from(*fast) - slow).abs() < bound, "{fast} {slow} {from:?} {to:?}");
            }
        }
    }

    #[test]
    fn a_fractional_factor_keeps_flat_areas_flat_and_edges_in_place() {
        // 360 lines to 48 (7.5 each), black above line 180.
        let bytes: Vec<u8> = (0..360 * 8).map(|n| if n / 8 < 180 { 0 } else { 255 }).collect();
        let mut out = Vec::new();
        scale_plane(&bytes, 8, (8, 360), (1, 48), &mut Vec::new(), &mut out);
        assert!(out[..24].iter().all(|v| *v == 0.0) && out[24..].iter().all(|v| (*v - 255.0).abs() < 0.01), "{out:?}");
    }

    #[test]
    fn short_planes_give_nothing_and_do_not_panic() {
        let planes = Planes { width: 16, height: 16, y: &[0; 10], u: &[], v: &[], stride: 16, chroma_stride: 8 };
        let mut out = vec![1];
        Scaler::default().scale(&planes, ColourDescription { full_range: true, matrix: ColourMatrix::Bt601 }, 4, 4, &mut out);
        assert!(out.is_empty());
    }
}
