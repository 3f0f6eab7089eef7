//! Several pictures of a standing scene averaged into one that can be read better: noise and the grain of coding go down, since
//! they differ from picture to picture, and edges are made clearer by what that leaves room for.
//!
//! Pictures are aligned by their brightness before (a mast moves in the wind), to a part of a pixel. What moves in the scene is left
//! out place by place; pictures that do not fit at all are left out whole.

/// A picture: red, green, blue, a byte each, top row first.
#[derive(Debug, Clone, Copy)]
pub struct Rgb<'a> {
    /// Width in pixels.
    pub width: usize,
    /// Height in pixels.
    pub height: usize,
    /// Its bytes.
    pub bytes: &'a [u8],
}

/// What came of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Merged {
    /// As large as the pictures.
    pub bytes: Vec<u8>,
    /// How many of them are in it.
    pub used: usize,
}

/// A scene moves by no more than this many pixels from picture to picture of a burst.
const FARTHEST: isize = 24;
/// The first search is done in steps of so many pixels.
const COARSE: usize = 4;
/// Places that differ by more levels show something that moved, and are left out.
const MOVED: i32 = 36;
/// Pictures whose places differ by more levels in the mean are of another scene.
const OTHER_SCENE: f64 = 14.0;
/// How much of what a small blur takes away is given back once more.
const CLEARER: f32 = 0.8;

struct Luma {
    width: usize,
    height: usize,
    levels: Vec<u8>,
}

impl Luma {
    fn of(picture: Rgb<'_>) -> Self {
        let levels = picture.bytes.as_chunks::<3>().0.iter();
        let levels = levels.map(|[r, g, b]| ((u32::from(*r) * 77 + u32::from(*g) * 150 + u32::from(*b) * 29) >> 8) as u8);
        Self { width: picture.width, height: picture.height, levels: levels.collect() }
    }

    /// The mean difference to another, which is moved by so many pixels, looked at every `step`; `None` where too little overlaps.
    fn apart(&self, other: &Self, (dx, dy): (isize, isize), step: usize) -> Option<f64> {
        let span = |size: usize, by: isize| {
            let first = (-by).max(0) as usize;
            let end = (size as isize - by.max(0)).max(0) as usize;
            first..end
        };
        let (columns, rows) = (span(self.width, dx), span(self.height, dy));
        let (mut sum, mut count) = (0u64, 0u64);
        for row in rows.step_by(step) {
            let theirs = (row as isize + dy) as usize * self.width;
            for column in columns.clone().step_by(step) {
                let (a, b) = (self.levels[row * self.width + column], other.levels[theirs + (column as isize + dx) as usize]);
                sum += u64::from(a.abs_diff(b));
                count += 1;
            }
        }
        (count >= 64).then(|| sum as f64 / count as f64)
    }

    /// By how much another picture is moved against this one, to a part of a pixel, and how far they are apart then.
    fn shift(&self, other: &Self) -> Option<((f64, f64), f64)> {
        let best = |from: (isize, isize), reach: isize, stride: usize, step: usize| {
            let mut found: Option<((isize, isize), f64)> = None;
            for dy in (-reach..=reach).step_by(stride) {
                for dx in (-reach..=reach).step_by(stride) {
                    let at = (from.0 + dx, from.1 + dy);
                    let Some(apart) = self.apart(other, at, step) else { continue };
                    // The nearer one where two are alike: an even wall says nothing.
                    let far = |at: (isize, isize)| at.0.abs() + at.1.abs();
                    if found.is_none_or(|(have, least)| apart < least || (apart <= least && far(at) < far(have))) {
                        found = Some((at, apart));
                    }
                }
            }
            found
        };
        let step = (self.width.max(self.height) / 240).max(2);
        let ((cx, cy), _) = best((0, 0), FARTHEST, COARSE, step * 2)?;
        let ((x, y), least) = best((cx, cy), COARSE as isize, 1, step)?;
        // The vertex of the parabola through the least and its neighbours.
        let part = |before: Option<f64>, after: Option<f64>| match (before, after) {
            (Some(before), Some(after)) if before + after - 2.0 * least > 1e-9 => {
                (0.5 * (before - after) / (before + after - 2.0 * least)).clamp(-0.5, 0.5)
            }
            _ => 0.0,
        };
        let of = |dx: isize, dy: isize| self.apart(other, (x + dx, y + dy), step);
        let (px, py) = (part(of(-1, 0), of(1, 0)), part(of(0, -1), of(0, 1)));
        Some(((x as f64 + px, y as f64 + py), least))
    }
}

/// Averages pictures, the last of which says what the scene looks like; `None` where there is none, or they have several sizes.
#[must_use]
pub fn merge(pictures: &[Rgb<'_>]) -> Option<Merged> {
    let last = pictures.last()?;
    let (width, height) = (last.width, last.height);
    let fits = |picture: &&Rgb<'_>| (picture.width, picture.height, picture.bytes.len()) == (width, height, width * height * 3);
    if pictures.iter().any(|picture| !fits(&picture)) || width < 4 || height < 4 {
        return None;
    }
    let reference = Luma::of(*last);
    let mut sums: Vec<(f32, f32)> = last.bytes.iter().map(|level| (f32::from(*level), 1.0)).collect();
    let mut used = 1;
    for picture in pictures.iter().rev().skip(1) {
        let Some((shift, apart)) = reference.shift(&Luma::of(*picture)) else { continue };
        if apart > OTHER_SCENE {
            continue;
        }
        add(&mut sums, last, picture, shift);
        used += 1;
    }
    let mean: Vec<f32> = sums.iter().map(|(sum, count)| sum / count).collect();
    // A single picture has nothing to give.
    let bytes = if used > 1 { clearer(&mean, width, height) } else { last.bytes.to_vec() };
    Some(Merged { bytes, used })
}

/// Adds a picture that is moved by so much, where it shows what the last one does.
fn add(sums: &mut [(f32, f32)], last: &Rgb<'_>, picture: &Rgb<'_>, (dx, dy): (f64, f64)) {
    let (width, height) = (last.width, last.height);
    let (across, down) = (dx.floor() as isize, dy.floor() as isize);
    let (fx, fy) = ((dx - dx.floor()) as f32, (dy - dy.floor()) as f32);
    let weights = [(1.0 - fx) * (1.0 - fy), fx * (1.0 - fy), (1.0 - fx) * fy, fx * fy];
    for row in 0..height {
        let y = row as isize + down;
        if y < 0 || y + 1 >= height as isize {
            continue;
        }
        for column in 0..width {
            let x = column as isize + across;
            if x < 0 || x + 1 >= width as isize {
                continue;
            }
            let at = (y as usize * width + x as usize) * 3;
            let here = (row * width + column) * 3;
            let corners = [at, at + 3, at + width * 3, at + width * 3 + 3];
            let level = |channel: usize| {
                corners
                    .iter()
                    .zip(weights)
                    .map(|(corner, weight)| f32::from(picture.bytes[corner + channel]) * weight)
                    .sum::<f32>()
            };
            let levels = [level(0), level(1), level(2)];
            let moved = levels
                .iter()
                .enumerate()
                .any(|(channel, level)| (*level as i32 - i32::from(last.bytes[here + channel])).abs() > MOVED);
            if !moved {
                for (channel, level) in levels.into_iter().enumerate() {
                    let (sum, count) = &mut sums[here + channel];
                    *sum += level;
                    *count += 1.0;
                }
            }
        }
    }
}

/// Gives edges back what a small blur would take away.
fn clearer(mean: &[f32], width: usize, height: usize) -> Vec<u8> {
    let at = |row: usize, column: usize, channel: usize| mean[(row * width + column) * 3 + channel];
    let mut out = Vec::with_capacity(mean.len());
    for row in 0..height {
        let rows = [row.saturating_sub(1), row, (row + 1).min(height - 1)];
        for column in 0..width {
            let columns = [column.saturating_sub(1), column, (column + 1).min(width - 1)];
            for channel in 0..3 {
                let around =
                    |row: usize| at(row, columns[0], channel) + 2.0 * at(row, columns[1], channel) + at(row, columns[2], channel);
                let blurred = (around(rows[0]) + 2.0 * around(rows[1]) + around(rows[2])) / 16.0;
                let level = at(row, column, channel);
                out.push((level + CLEARER * (level - blurred)).round().clamp(0.0, 255.0) as u8);
            }
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    const SIZE: (usize, usize) = (160, 120);

    /// A scene of bars and letters' strokes, moved by so much, with noise of this many levels.
    fn scene((dx, dy): (f64, f64), noise: f64, seed: u32) -> Vec<u8> {
        let mut state = seed;
        let mut random = || {
            state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            f64::from(state >> 8) / f64::from(1 << 24) - 0.5
        };
        let mut out = Vec::new();
        for row in 0..SIZE.1 {
            for column in 0..SIZE.0 {
                let (x, y) = (column as f64 - dx, row as f64 - dy);
                let level = 110.0 + 40.0 * (x / 5.0).sin() * (y / 7.0).cos() + 30.0 * ((x + 2.0 * y) / 11.0).sin();
                for _ in 0..3 {
                    out.push((level + random() * 2.0 * noise).round().clamp(0.0, 255.0) as u8);
                }
            }
        }
        out
    }

    /// The mean square of the difference, away from the edge.
    fn error(a: &[u8], b: &[u8]) -> f64 {
        let inner = |row: usize, column: usize| (8..SIZE.1 - 8).contains(&row) && (8..SIZE.0 - 8).contains(&column);
        let places = (0..SIZE.0 * SIZE.1).filter(|at| inner(at / SIZE.0, at % SIZE.0));
        let squares: Vec<f64> = places.map(|at| (f64::from(a[at * 3]) - f64::from(b[at * 3])).powi(2)).collect();
        squares.iter().sum::<f64>() / squares.len() as f64
    }

    fn merged(pictures: &[Vec<u8>]) -> Merged {
        let pictures: Vec<Rgb<'_>> = pictures.iter().map(|bytes| Rgb { width: SIZE.0, height: SIZE.1, bytes }).collect();
        merge(&pictures).unwrap()
    }

    #[test]
    fn noise_goes_down_though_the_scene_sways() {
        let sway = |n: u32| (3.3 * f64::from(n).sin(), 2.6 * (f64::from(n) * 0.7).cos());
        let mut pictures: Vec<Vec<u8>> = (0..24).map(|n| scene(sway(n), 20.0, n + 1)).collect();
        pictures.push(scene((0.0, 0.0), 20.0, 99));
        let (truth, last) = (scene((0.0, 0.0), 0.0, 0), pictures.last().unwrap().clone());
        let merged = merged(&pictures);
        let (before, after) = (error(&last, &truth), error(&merged.bytes, &truth));
        assert_eq!(merged.used, 25);
        assert!(after * 6.0 < before, "{before} {after}");
    }

    #[test]
    fn another_scene_is_left_out_and_what_moves_is_not_smeared() {
        let still = scene((0.0, 0.0), 4.0, 1);
        let other: Vec<u8> = still.iter().map(|level| 255 - level).collect();
        // A white plate goes through the picture, and stands at the left in the last one.
        let with_plate = |at: usize, seed: u32| {
            let mut bytes = scene((0.0, 0.0), 4.0, seed);
            for row in 40..60 {
                bytes[(row * SIZE.0 + at) * 3..(row * SIZE.0 + at + 20) * 3].fill(255);
            }
            bytes
        };
        let pictures = [other, with_plate(100, 2), with_plate(70, 3), with_plate(20, 4)];
        let merged = merged(&pictures);
        assert_eq!(merged.used, 3);
        let at = |row: usize, column: usize| merged.bytes[(row * SIZE.0 + column) * 3];
        assert!(at(50, 30) > 250, "the plate where it stands");
        assert!(error(&merged.bytes, &with_plate(20, 9)) < 60.0);
    }

    #[test]
    fn what_cannot_be_merged_is_given_as_it_is() {
        let still = scene((0.0, 0.0), 4.0, 1);
        assert_eq!(merged(std::slice::from_ref(&still)), Merged { bytes: still.clone(), used: 1 });
        let rgb = Rgb { width: SIZE.0, height: SIZE.1, bytes: &still };
        assert_eq!(merge(&[]), None);
        assert_eq!(merge(&[Rgb { width: 80, ..rgb }, rgb]), None);
        let even = vec![90; SIZE.0 * SIZE.1 * 3];
        assert_eq!(merged(&[even.clone(), even.clone()]), Merged { bytes: even, used: 2 });
    }
}
