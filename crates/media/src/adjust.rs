//! Adjustments of pictures that were scaled to a tile: red, green, blue, a byte each.
//!
//! All of it runs over rows as they lie, several bytes at a time as vectors do; what hangs on more than one pixel (haze, levels) is
//! looked up from a coarse look at the picture before.

#![allow(clippy::inline_always, reason = "what is not inlined into `rows` does without the wide instructions")]

use lattice_core::adjust::{Adjust, Setting, luminance};
use multiversion::multiversion;

/// Pixels across and down of the places in which haze is looked for.
const BLOCK: usize = 16;
/// Bits behind the point of what is kept of the pictures before.
const FRACTION: u32 = 7;
/// A level that is further off than this is no noise: it moved.
const MOVED: i16 = 24;
/// Of what is found in a picture so much goes into what is used: what is adjusted by it must not flicker.
const FOLLOW: f32 = 0.4;
/// Share of the pixels that may be clipped at either end when levels are spread.
const CLIPPED: f64 = 0.005;
/// Haze and levels are looked for in every picture of so many.
const LOOK_EVERY: u32 = 4;
/// Haze is never taken for denser than this.
const LEAST_CLEAR: f32 = 0.15;
/// The one colour, warm, as shares of the luminance in 256ths.
const WARM: [i16; 3] = [256, 168, 72];

/// What adjusts the pictures of one print, with what it keeps from one to the next.
#[derive(Debug, Default)]
pub struct Adjuster {
    /// Width and bytes of the pictures so far, and what was done to them.
    of: Option<(usize, usize, Adjust)>,
    /// The mean of what stood still, with [`FRACTION`] bits behind the point.
    past: Vec<i16>,
    pictures: u32,
    haze: Haze,
    levels: Option<(f32, f32)>,
    curve: Vec<u8>,
    rows: Rows,
}

/// The light of haze, and how dense it is at each place.
#[derive(Debug, Default)]
struct Haze {
    light: Option<[f32; 3]>,
    /// The darkest level of each block, from 0 to 1.
    dark: Vec<f32>,
    columns: usize,
    /// The least of every column of bytes.
    least: Vec<u8>,
}

#[derive(Debug, Default)]
struct Rows {
    /// Luminance of three rows, each level three times.
    luma: [Vec<i16>; 3],
    detail: Vec<i16>,
    tint: Vec<i16>,
    /// Of each row of blocks, how much further from the haze's light each level was.
    gains: Vec<f32>,
    light: Vec<f32>,
    untouched: Vec<u8>,
}

impl Adjuster {
    /// Adjusts a picture of this width in place, from this many hundredths of its width on. Nothing at all is done where nothing
    /// is to be done.
    pub fn adjust(&mut self, adjust: &Adjust, split: u8, width: usize, rgb: &mut [u8]) {
        if adjust.is_off() {
            if self.of.take().is_some() {
                *self = Self::default();
            }
            return;
        }
        let line = width * 3;
        if line == 0 || rgb.len() < line || !rgb.len().is_multiple_of(line) || split >= 100 {
            return;
        }
        if self.of.is_none_or(|(of, bytes, _)| (of, bytes) != (width, rgb.len())) {
            *self = Self::default();
        }
        let before = self.of.map(|(_, _, adjust)| adjust);
        let changed = before != Some(*adjust);
        if changed {
            self.pictures = 0;
        }
        self.of = Some((width, rgb.len(), *adjust));
        let untouched = width * usize::from(split) / 100 * 3;
        let Rows { untouched: kept, .. } = &mut self.rows;
        kept.clear();
        if untouched > 0 {
            rgb.chunks_exact(line).for_each(|row| kept.extend(&row[..untouched]));
        }
        if adjust.get(Setting::Denoise) > 0 {
            if self.past.len() == rgb.len() {
                average(&mut self.past, rgb, adjust.get(Setting::Denoise));
            } else {
                self.past = rgb.iter().map(|level| i16::from(*level) << FRACTION).collect();
            }
        } else {
            self.past = Vec::new();
        }
        if adjust.get(Setting::Dehaze) > 0 {
            // It changes slowly.
            if self.pictures.is_multiple_of(LOOK_EVERY) {
                self.haze.look(rgb, width);
            }
            self.haze.take_out(rgb, width, f32::from(adjust.get(Setting::Dehaze)) / 100.0, &mut self.rows);
        } else {
            self.haze = Haze::default();
        }
        if adjust.get(Setting::Levels) > 0 {
            if self.pictures.is_multiple_of(LOOK_EVERY) {
                self.follow_levels(rgb, width);
            }
        } else {
            self.levels = None;
        }
        if changed || self.levels.is_some() {
            self.curve = curve(adjust, self.levels);
        }
        self.pictures = self.pictures.wrapping_add(1);
        rows(adjust, &self.curve, width, rgb, &mut self.rows);
        if untouched > 0 {
            for (row, kept) in rgb.chunks_exact_mut(line).zip(self.rows.untouched.chunks_exact(untouched)) {
                row[..untouched].copy_from_slice(kept);
            }
        }
    }

    /// The levels between which most of the picture lies.
    fn follow_levels(&mut self, rgb: &[u8], width: usize) {
        let mut counts = [0u32; 256];
        for row in rgb.chunks_exact(width * 3).step_by(4) {
            for [r, g, b] in row.as_chunks::<3>().0.iter().step_by(3) {
                counts[usize::from(luminance(*r, *g, *b))] += 1;
            }
        }
        let most = (f64::from(counts.iter().sum::<u32>()) * CLIPPED) as u32;
        let passes = |passed: &mut u32, level: usize| {
            *passed += counts[level];
            *passed > most
        };
        let (mut dark, mut light) = (0, 0);
        let low = (0..256).find(|level| passes(&mut dark, *level)).unwrap_or(0) as f32;
        let high = (0..256).rev().find(|level| passes(&mut light, *level)).unwrap_or(255) as f32;
        // A picture of one level has none to spread.
        let (low, high) = if high - low < 16.0 { (0.0, 255.0) } else { (low, high) };
        let (of_low, of_high) = self.levels.unwrap_or((low, high));
        self.levels = Some((of_low + (low - of_low) * FOLLOW, of_high + (high - of_high) * FOLLOW));
    }
}

/// What comes of each level; empty where that is the level itself.
fn curve(adjust: &Adjust, levels: Option<(f32, f32)>) -> Vec<u8> {
    let own = adjust.curve();
    let spread = |level: usize| {
        let (low, high) = levels.unwrap_or((0.0, 255.0));
        let level = (level as f32 - low) / (high - low).max(1.0) * 255.0;
        own[level.round().clamp(0.0, 255.0) as usize]
    };
    let curve: Vec<u8> = (0..256).map(spread).collect();
    if curve.iter().enumerate().all(|(level, of)| usize::from(*of) == level) { Vec::new() } else { curve }
}

/// Each level becomes the mean over time of what stands still there.
#[multiversion(targets("x86_64+avx2+fma", "x86_64+sse4.1"))]
fn average(past: &mut [i16], rgb: &mut [u8], strength: i16) {
    // In 128ths, so much of what is new goes in at least: nearly all where it is weak, a thirteenth where it is strong.
    let least = 128 - strength * 118 / 100;
    let slope = (128 - least) / MOVED + 1;
    for (past, level) in past.iter_mut().zip(rgb) {
        let difference = (i16::from(*level) << FRACTION) - *past;
        let share = (least + (difference >> FRACTION).abs() * slope).min(127) << 8;
        // The upper half of a product, which vectors have in one step: half of what is meant.
        *past += (((i32::from(difference) * i32::from(share)) >> 16) as i16) * 2;
        *level = ((*past + (1 << (FRACTION - 1))) >> FRACTION).clamp(0, 255) as u8;
    }
}

impl Haze {
    /// How dark the darkest of each place is: haze lightens it, and nothing else does everywhere. The light of the haze is that of
    /// the places where the darkest is lightest.
    fn look(&mut self, rgb: &[u8], width: usize) {
        let line = width * 3;
        let columns = width.div_ceil(BLOCK);
        let mut dark = Vec::with_capacity(columns * (rgb.len() / line).div_ceil(BLOCK));
        for band in rgb.chunks(line * BLOCK) {
            self.least.clear();
            self.least.resize(line, 255);
            band.chunks_exact(line).for_each(|row| darker(&mut self.least, row));
            dark.extend(self.least.chunks(BLOCK * 3).map(|block| f32::from(block.iter().copied().min().unwrap_or(0)) / 255.0));
        }
        let dark = softened(&dark, columns);
        let thickest = dark.iter().copied().fold(0.0, f32::max);
        let light = (thickest > 0.0).then(|| {
            let at = dark.iter().position(|dark| *dark >= thickest).unwrap_or(0);
            let (row, column) = (at / columns * BLOCK, at % columns * BLOCK);
            // The lightest level of each colour there.
            let pixels = rgb
                .chunks_exact(line)
                .skip(row)
                .take(BLOCK)
                .flat_map(|row| row.as_chunks::<3>().0.iter().skip(column).take(BLOCK));
            pixels.fold([0.0f32; 3], |most, pixel| std::array::from_fn(|c| most[c].max(f32::from(pixel[c]) / 255.0)))
        });
        let follow = |before: f32, now: f32| before + (now - before) * FOLLOW;
        self.light = match (self.light, light) {
            (Some(before), Some(now)) => Some(std::array::from_fn(|c| follow(before[c], now[c]))),
            (before, now) => now.or(before),
        };
        if self.dark.len() == dark.len() {
            self.dark.iter_mut().zip(dark).for_each(|(before, now)| *before = follow(*before, now));
        } else {
            (self.dark, self.columns) = (dark, columns);
        }
    }

    /// What each level was before the haze: as far from the haze's light as that let through.
    fn take_out(&self, rgb: &mut [u8], width: usize, strength: f32, Rows { gains, light: lights, .. }: &mut Rows) {
        let Some(light) = self.light else { return };
        let line = width * 3;
        let brightest = light.iter().copied().fold(0.05, f32::max);
        let gain_of = |dark: &f32| 1.0 / (1.0 - strength * (dark / brightest).min(1.0)).max(LEAST_CLEAR);
        // Between the middles of blocks it goes over evenly.
        let between = |at: usize, most: usize| {
            let place = ((at as f32 + 0.5) / BLOCK as f32 - 0.5).max(0.0);
            let first = (place as usize).min(most.saturating_sub(1));
            (first, (first + 1).min(most.saturating_sub(1)), (place - first as f32).min(1.0))
        };
        lights.clear();
        lights.extend(light.iter().map(|light| light * 255.0).cycle().take(line));
        let bands = self.dark.len() / self.columns.max(1);
        gains.resize(bands * line, 1.0);
        let blocks: Vec<f32> = self.dark.iter().map(gain_of).collect();
        let columns: Vec<(usize, usize, f32)> = (0..width).map(|x| between(x, self.columns)).collect();
        for (blocks, row) in blocks.chunks_exact(self.columns).zip(gains.chunks_exact_mut(line)) {
            for (pixel, (left, right, share)) in row.as_chunks_mut::<3>().0.iter_mut().zip(&columns) {
                let (left, right) = (blocks[*left], blocks[*right]);
                *pixel = [left + (right - left) * share; 3];
            }
        }
        for (y, row) in rgb.chunks_exact_mut(line).enumerate() {
            let (upper, lower, share) = between(y, bands);
            stretch(row, &gains[upper * line..][..line], &gains[lower * line..][..line], share, lights);
        }
    }
}

/// The mean of each and those around it: one dark thing makes no dark square.
fn softened(dark: &[f32], columns: usize) -> Vec<f32> {
    let rows = dark.len() / columns.max(1);
    let mean = |n: usize| {
        let (row, column) = (n / columns, n % columns);
        let near = |at: usize, most: usize| at.saturating_sub(1)..(at + 2).min(most);
        let around = near(row, rows).flat_map(|row| near(column, columns).map(move |column| dark[row * columns + column]));
        let (sum, count) = around.fold((0.0, 0.0), |(sum, count), dark| (sum + dark, count + 1.0));
        sum / count
    };
    (0..dark.len()).map(mean).collect()
}

#[multiversion(targets("x86_64+avx2+fma", "x86_64+sse4.1"))]
fn darker(least: &mut [u8], row: &[u8]) {
    for (least, level) in least.iter_mut().zip(row) {
        *least = (*least).min(*level);
    }
}

#[multiversion(targets("x86_64+avx2+fma", "x86_64+sse4.1"))]
fn stretch(row: &mut [u8], upper: &[f32], lower: &[f32], share: f32, light: &[f32]) {
    for (((level, upper), lower), light) in row.iter_mut().zip(upper).zip(lower).zip(light) {
        let gain = upper + (lower - upper) * share;
        let before = light + (f32::from(*level) - light) * gain;
        // Where a float has no bits behind the point its lowest bits are the level, rounded.
        *level = (before.clamp(0.0, 255.0) + 8_388_608.0).to_bits() as u8;
    }
}

/// Levels by their curve, then colours and edges.
#[multiversion(targets("x86_64+avx2+fma", "x86_64+sse4.1"))]
fn rows(adjust: &Adjust, curve: &[u8], width: usize, rgb: &mut [u8], rows: &mut Rows) {
    let line = width * 3;
    if let Some(curve) = curve.first_chunk::<256>() {
        for level in rgb.iter_mut() {
            *level = curve[usize::from(*level)];
        }
    }
    let saturation = (64 + i32::from(adjust.get(Setting::Saturation)) * 64 / 100) as i16;
    let sharpness = adjust.get(Setting::Sharpness);
    let one_colour = adjust.get(Setting::OneColour) > 0;
    if saturation == 64 && sharpness == 0 && !one_colour {
        return;
    }
    let Rows { luma, detail, tint, .. } = rows;
    for luma in luma.iter_mut() {
        luma.resize(line, 0);
    }
    detail.clear();
    detail.resize(line, 0);
    if one_colour && tint.len() != line {
        *tint = WARM.iter().copied().cycle().take(line).collect();
    }
    let height = rgb.len() / line;
    let row_of = |y: usize| y * line..(y + 1) * line;
    luminances(&rgb[row_of(0)], &mut luma[1]);
    let [above, own, below] = luma;
    above.copy_from_slice(own);
    below.copy_from_slice(own);
    for y in 0..height {
        // Of the rows above, here and below; beyond an edge stands the edge.
        if y + 1 < height {
            luminances(&rgb[row_of(y + 1)], &mut luma[2]);
        }
        if sharpness > 0 {
            edges(luma, sharpness, detail);
        }
        let row = &mut rgb[row_of(y)];
        if one_colour {
            for (((level, luma), detail), tint) in row.iter_mut().zip(&luma[1]).zip(&*detail).zip(&*tint) {
                let luma = i32::from((luma + detail).clamp(0, 255));
                *level = ((luma * i32::from(*tint)) >> 8) as u8;
            }
        } else {
            for ((level, luma), detail) in row.iter_mut().zip(&luma[1]).zip(&*detail) {
                let coloured = luma + (((i16::from(*level) - luma) * saturation) >> 6) + detail;
                *level = coloured.clamp(0, 255) as u8;
            }
        }
        luma.rotate_left(1);
        if y + 2 >= height {
            let [_, own, next] = luma;
            next.copy_from_slice(own);
        }
    }
}

#[inline(always)]
fn luminances(row: &[u8], luma: &mut [i16]) {
    for ([r, g, b], luma) in row.as_chunks::<3>().0.iter().zip(luma.as_chunks_mut::<3>().0) {
        *luma = [i16::from(luminance(*r, *g, *b)); 3];
    }
}

/// What is finer than three pixels, times the sharpness.
#[inline(always)]
fn edges(luma: &[Vec<i16>; 3], sharpness: i16, detail: &mut [i16]) {
    let [above, own, below] = luma;
    let line = own.len();
    if line < 9 {
        return;
    }
    // Nine times the level less the sum of the nine: 0 where it is even.
    let column = |x: usize| above[x] + own[x] + below[x];
    // 65536 / 450 = 145.6: the upper half of the product is a 450th.
    let by = sharpness * 146;
    let detail_of = |sum: i16, level: i16| ((i32::from(9 * level - sum) * i32::from(by)) >> 16) as i16;
    let (first, last) = (3, line - 3);
    for x in (0..first).chain(last..line) {
        let sum = column(x) + column(if x < 3 { x } else { x - 3 }) + column(if x + 3 < line { x + 3 } else { x });
        detail[x] = detail_of(sum, own[x]);
    }
    let (above_l, above_c, above_r) = (&above[..line - 6], &above[3..line - 3], &above[6..]);
    let (own_l, own_c, own_r) = (&own[..line - 6], &own[3..line - 3], &own[6..]);
    let (below_l, below_c, below_r) = (&below[..line - 6], &below[3..line - 3], &below[6..]);
    for (x, detail) in detail[first..last].iter_mut().enumerate() {
        let sum = above_l[x] + above_c[x] + above_r[x] + own_l[x] + own_c[x] + own_r[x] + below_l[x] + below_c[x] + below_r[x];
        *detail = detail_of(sum, own_c[x]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_core::adjust::{Tones, presets};
    use proptest::prelude::*;

    const WIDTH: usize = 64;

    fn scene(shade: impl Fn(usize, usize) -> [u8; 3]) -> Vec<u8> {
        (0..WIDTH * 36).flat_map(|n| shade(n % WIDTH, n / WIDTH)).collect()
    }

    fn adjusted(adjust: Adjust, rgb: &[u8]) -> Vec<u8> {
        let mut out = rgb.to_vec();
        Adjuster::default().adjust(&adjust, 0, WIDTH, &mut out);
        out
    }

    fn at(rgb: &[u8], x: usize, y: usize) -> [u8; 3] {
        rgb[(y * WIDTH + x) * 3..][..3].try_into().unwrap()
    }

    #[test]
    fn levels_follow_the_curve_and_one_side_of_the_split_stays() {
        let grey = scene(|x, _| [(x * 4) as u8; 3]);
        let adjust = Adjust::OFF.with(Setting::Contrast, 50).with(Setting::Brightness, 10);
        let out = adjusted(adjust, &grey);
        let curve = adjust.curve();
        assert!(grey.iter().zip(&out).all(|(before, after)| *after == curve[usize::from(*before)]));
        let mut half = grey.clone();
        Adjuster::default().adjust(&adjust, 50, WIDTH, &mut half);
        assert_eq!(at(&half, 31, 20), at(&grey, 31, 20));
        assert_eq!(at(&half, 32, 20), at(&out, 32, 20));
        let mut same = grey.clone();
        Adjuster::default().adjust(&Adjust::OFF, 0, WIDTH, &mut same);
        assert_eq!(same, grey, "off is nothing");
    }

    #[test]
    fn colours_go_and_edges_grow() {
        let red = scene(|x, _| if x < 32 { [200, 40, 40] } else { [40, 200, 40] });
        let luma = luminance(200, 40, 40);
        let pixel = at(&adjusted(Adjust::OFF.with(Setting::Saturation, -100), &red), 5, 5);
        assert!(pixel.iter().all(|level| level.abs_diff(luma) <= 1), "{pixel:?}");
        let strong = at(&adjusted(Adjust::OFF.with(Setting::Saturation, 100), &red), 5, 5);
        assert!(strong[0] > 240 && strong[1] < 10, "{strong:?}");
        let step = scene(|x, _| if x < 32 { [80; 3] } else { [160; 3] });
        let sharp = adjusted(Adjust::OFF.with(Setting::Sharpness, 100), &step);
        assert!(at(&sharp, 31, 9)[0] < 60 && at(&sharp, 32, 9)[0] > 180, "{:?}", at(&sharp, 31, 9));
        assert_eq!((at(&sharp, 20, 9), at(&sharp, 50, 9)), ([80; 3], [160; 3]), "what is even stays");
        assert_eq!((at(&sharp, 0, 0), at(&sharp, 63, 35)), ([80; 3], [160; 3]), "also at the edges");
        let warm = at(&adjusted(Adjust::OFF.with(Setting::OneColour, 1), &scene(|_, _| [200; 3])), 9, 9);
        assert!(warm[0] > warm[1] && warm[1] > warm[2], "{warm:?}");
    }

    #[test]
    fn noise_of_what_stands_still_goes_and_what_moves_stays() {
        let mut chance = 1u32;
        let mut noise = || {
            chance = chance.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (chance >> 24) as i16 % 17 - 8
        };
        let mut adjuster = Adjuster::default();
        let adjust = Adjust::OFF.with(Setting::Denoise, 100);
        let spread = |rgb: &[u8]| rgb.iter().map(|level| (f64::from(*level) - 120.0).powi(2)).sum::<f64>() / rgb.len() as f64;
        let (mut before, mut after) = (0.0, 0.0);
        for _ in 0..40 {
            let noisy: Vec<u8> = (0..WIDTH * 36 * 3).map(|_| (120 + noise()) as u8).collect();
            let mut out = noisy.clone();
            adjuster.adjust(&adjust, 0, WIDTH, &mut out);
            (before, after) = (spread(&noisy), spread(&out));
        }
        assert!(after < before / 4.0, "{before} {after}");
        let mut moved = scene(|x, _| if x < 8 { [220; 3] } else { [120; 3] });
        adjuster.adjust(&adjust, 0, WIDTH, &mut moved);
        assert!(at(&moved, 4, 4)[0] > 210, "what is there now is shown now: {:?}", at(&moved, 4, 4));
    }

    #[test]
    fn haze_goes_and_levels_are_spread() {
        // Dark and light stripes behind a haze of light 0.8 that lets 40 % through.
        let clear = |x: usize| if (x / 4).is_multiple_of(2) { 20.0 } else { 180.0 };
        let hazy = scene(|x, y| {
            // A strip of sky tells the haze's own light.
            if y < 16 { [204; 3] } else { [(clear(x) * 0.4 + 204.0 * 0.6) as u8; 3] }
        });
        let mut adjuster = Adjuster::default();
        let mut out = hazy.clone();
        adjuster.adjust(&Adjust::OFF.with(Setting::Dehaze, 90), 0, WIDTH, &mut out);
        let contrast = |rgb: &[u8]| i32::from(at(rgb, 37, 34)[0]) - i32::from(at(rgb, 33, 34)[0]);
        assert!(contrast(&out) > contrast(&hazy) * 3 / 2, "{} {}", contrast(&hazy), contrast(&out));
        let flat = scene(|x, _| [(100 + x / 2) as u8; 3]);
        let spread = adjusted(Adjust::OFF.with(Setting::Levels, 1), &flat);
        assert!(at(&spread, 0, 0)[0] < 8 && at(&spread, 63, 0)[0] > 247, "{:?}", at(&spread, 63, 0));
        let one = scene(|_, _| [77; 3]);
        assert_eq!(adjusted(Adjust::OFF.with(Setting::Levels, 1), &one), one, "one level has none to spread");
        assert!(Tones::of(&spread).shares.iter().filter(|share| **share > 0.0).count() > 20);
    }

    proptest! {
        #[test]
        fn any_picture_bears_any_setting(
            values in proptest::collection::vec(-120i16..120, 9), (width, height) in (1usize..40, 1usize..40), split in 0u8..=100
        ) {
            let adjust = Setting::ALL.into_iter().zip(values).fold(Adjust::OFF, |adjust, (setting, value)| adjust.with(setting, value));
            let mut adjuster = Adjuster::default();
            for n in 0..3usize {
                let mut rgb: Vec<u8> = (0..width * height * 3).map(|at| (at * 31 + n * 17) as u8).collect();
                adjuster.adjust(&adjust, split, width, &mut rgb);
            }
            for preset in presets() {
                adjuster.adjust(&preset.adjust, split, width, &mut vec![200; width * height * 3]);
            }
            adjuster.adjust(&adjust, 0, 7, &mut [1, 2, 3]);
        }
    }
}
