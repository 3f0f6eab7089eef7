//! A picture in a few numbers, for [`lattice_core::sight`].

use crate::picture::{ColourDescription, Planes};
use lattice_core::sight::{CELLS, COLUMNS, Glance, ROWS};
use lattice_core::{Mono, flash, motion};
use multiversion::multiversion;

/// Rows that are looked at, at most: the rest of a large picture tells the same.
const ROWS_AT_MOST: usize = 540;

/// The same for motion: eight in each place.
const ROWS_FOR_MOTION: usize = motion::ROWS * 8;

/// Looks at a picture; `None` where its planes are shorter than its size says, or it has fewer pixels than a glance cells.
#[must_use]
pub fn glance(picture: &Planes<'_>, colour: ColourDescription, at: Mono) -> Option<Glance> {
    let (width, height) = (picture.width, picture.height);
    let chroma = (width.div_ceil(2), height.div_ceil(2));
    let short = |bytes: &[u8], stride: usize, (w, h): (usize, usize)| stride < w || bytes.len() < stride * (h - 1) + w;
    if width < COLUMNS * 2 || height < ROWS * 2 || short(picture.y, picture.stride, (width, height)) {
        return None;
    }
    if short(picture.u, picture.chroma_stride, chroma) || short(picture.v, picture.chroma_stride, chroma) {
        return None;
    }
    // Black and white of the usual range are 16 and 235.
    let (black, scale) = if colour.full_range { (0.0, 1.0) } else { (16.0, 255.0 / 219.0) };
    let step = height.div_ceil(ROWS_AT_MOST);
    let (mut sums, mut counts) = (vec![0u64; CELLS], vec![0u32; ROWS]);
    let (mut detail, mut neighbours) = (0u64, 0u64);
    let edges: Vec<usize> = (0..=COLUMNS).map(|column| column * width / COLUMNS).collect();
    for y in (0..height).step_by(step) {
        let row = &picture.y[y * picture.stride..y * picture.stride + width];
        let cell_row = y * ROWS / height;
        counts[cell_row] += 1;
        let cells = &mut sums[cell_row * COLUMNS..(cell_row + 1) * COLUMNS];
        for (cell, edge) in cells.iter_mut().zip(edges.windows(2)) {
            *cell += u64::from(row[edge[0]..edge[1]].iter().map(|value| u32::from(*value)).sum::<u32>());
        }
        detail += u64::from(row.iter().zip(&row[1..]).map(|(a, b)| u32::from(a.abs_diff(*b))).sum::<u32>());
        neighbours += width as u64 - 1;
    }
    let cell = |index: usize| {
        let (row, column) = (index / COLUMNS, index % COLUMNS);
        let pixels = u64::from(counts[row]) * (edges[column + 1] - edges[column]) as u64;
        // Blacker than black is black.
        (((sums[index] as f64 / pixels.max(1) as f64) - black) * scale).clamp(0.0, 255.0) as f32
    };
    let grey = |bytes: &[u8]| {
        let rows = (0..chroma.1).step_by(step).map(|y| &bytes[y * picture.chroma_stride..y * picture.chroma_stride + chroma.0]);
        let (sum, count) = rows.fold((0u64, 0u64), |(sum, count), row| {
            (sum + u64::from(row.iter().map(|value| u32::from(value.abs_diff(128))).sum::<u32>()), count + row.len() as u64)
        });
        sum as f64 / count.max(1) as f64
    };
    Some(Glance {
        at,
        cells: (0..CELLS).map(cell).collect(),
        detail: (detail as f64 / neighbours.max(1) as f64 * scale) as f32,
        colour: ((grey(picture.u) + grey(picture.v)) * scale) as f32,
    })
}

/// How bright the places of a picture are, for [`flash`]; `None` where its luma is shorter than its size says, or it has
/// fewer pixels than places.
#[must_use]
pub fn light(picture: &Planes<'_>) -> Option<Box<[u8; flash::CELLS]>> {
    means(picture, (flash::COLUMNS, flash::ROWS), ROWS_AT_MOST)?.into_boxed_slice().try_into().ok()
}

/// How bright the places of a picture are, for [`motion`]: its luma as it is coded. `None` as for [`light`].
#[must_use]
pub fn levels(picture: &Planes<'_>) -> Option<Vec<u8>> {
    means(picture, (motion::COLUMNS, motion::ROWS), ROWS_FOR_MOTION)
}

/// The mean luma of so many places across and down, of so many rows of pixels at most.
fn means(picture: &Planes<'_>, (columns, rows): (usize, usize), most: usize) -> Option<Vec<u8>> {
    let Planes { width, height, y: luma, stride, .. } = *picture;
    if width < columns || height < rows || stride < width || luma.len() < stride * (height - 1) + width {
        return None;
    }
    let step = (height / most).max(1);
    let edges: Vec<usize> = (0..=columns).map(|column| column * width / columns).collect();
    // The rows of a place are added up column by column first: that is done many at a time. No more than 256 of them fit.
    let (mut places, mut sums) = (vec![0u8; columns * rows], vec![0u16; width]);
    let mut y = 0;
    for line in places.chunks_exact_mut(columns) {
        let row = y * rows / height;
        let mut count = 0;
        sums.fill(0);
        while y < height && y * rows / height == row {
            if count < 256 {
                add(&mut sums, &luma[y * stride..y * stride + width]);
                count += 1;
            }
            y += step;
        }
        for (place, edge) in line.iter_mut().zip(edges.windows(2)) {
            let part = &sums[edge[0]..edge[1]];
            let sum: u32 = part.iter().map(|value| u32::from(*value)).sum();
            *place = (sum / (part.len() as u32 * count).max(1)) as u8;
        }
    }
    Some(places)
}

/// Adds a row of pixels to those before it.
#[multiversion(targets("x86_64+avx2", "x86_64+sse4.1"))]
fn add(sums: &mut [u16], row: &[u8]) {
    for (sum, value) in sums.iter_mut().zip(row) {
        *sum += u16::from(*value);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_detail_and_colour_are_what_was_put_in() {
        for (width, height) in [(640, 360), (96, 54), (1921, 1083)] {
            let stride = width + 7;
            let mut y = vec![0u8; stride * height];
            for (n, value) in y.iter_mut().enumerate() {
                // Left half 50 and 70 in turn, right half 200.
                let x = n % stride;
                *value = if x >= width / 2 { 200 } else { 50 + (x % 2) as u8 * 20 };
            }
            let (cw, ch) = (width.div_ceil(2), height.div_ceil(2));
            let (u, v) = (vec![128u8; cw * ch], vec![138u8; cw * ch]);
            let picture = Planes { width, height, y: &y, u: &u, v: &v, stride, chroma_stride: cw };
            let full = ColourDescription { full_range: true, ..ColourDescription::default() };
            let got = glance(&picture, full, Mono::ZERO).unwrap();
            assert!((got.cells[0] - 60.0).abs() <= 10.0 && (got.cells[COLUMNS - 1] - 200.0).abs() < 0.01, "{width}x{height}");
            let mean = got.cells.iter().sum::<f32>() / CELLS as f32;
            assert!((mean - 130.0).abs() < 3.0, "{mean}");
            assert!((got.detail - 10.0).abs() < 1.5 && (got.colour - 10.0).abs() < 1e-3, "{} {}", got.detail, got.colour);
            let usual = glance(&picture, ColourDescription::default(), Mono::ZERO).unwrap();
            assert!((usual.cells[COLUMNS - 1] - 184.0 * 255.0 / 219.0).abs() < 0.01);
            let (black, white) = (vec![0u8; stride * height], vec![255u8; stride * height]);
            for (luma, level) in [(&black, 0.0), (&white, 255.0)] {
                let got = glance(&Planes { y: luma, ..picture }, ColourDescription::default(), Mono::ZERO).unwrap();
                assert!(got.cells.iter().all(|cell| *cell == level), "{}", got.cells[0]);
            }
            let cells = light(&picture).unwrap();
            assert!((59..=61).contains(&cells[0]) && cells[flash::CELLS - 1] == 200, "{cells:?}");
            let short = Planes { y: &y[..stride * (height - 1)], ..picture };
            assert_eq!((glance(&short, full, Mono::ZERO), light(&short)), (None, None));
        }
        let tiny = Planes { width: 2, height: 2, y: &[0; 4], u: &[0], v: &[0], stride: 2, chroma_stride: 1 };
        assert_eq!((glance(&tiny, ColourDescription::default(), Mono::ZERO), light(&tiny)), (None, None));
    }
}
