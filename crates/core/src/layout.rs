//! Arrangements of tiles.

/// Columns and rows of an even grid for `count` tiles that make 16:9 pictures largest in an area of
/// `width` × `height` cells, each cell `cell_aspect` as wide as high, with `overhead` rows of every
/// tile not for the picture. At least 1 × 1; ties go to the grid with fewer empty places.
#[must_use]
pub fn even_grid(count: usize, width: u16, height: u16, cell_aspect: f64, overhead: u16) -> (usize, usize) {
    let count = count.max(1);
    let picture_area = |columns: usize, rows: usize| {
        let w = f64::from(width) / columns as f64;
        let h = (f64::from(height) / rows as f64 - f64::from(overhead)).max(0.0);
        // In units of a cell's height.
        let (w, h) = (w * cell_aspect, h);
        let w = w.min(h * 16.0 / 9.0);
        w * w
    };
    let shapes = (1..=count).map(|columns| (columns, count.div_ceil(columns)));
    let better = |a: (usize, usize), b: (usize, usize)| {
        let (x, y) = (picture_area(a.0, a.1), picture_area(b.0, b.1));
        if y > x + 1e-9 || ((y - x).abs() <= 1e-9 && b.0 * b.1 < a.0 * a.1) { b } else { a }
    };
    shapes.reduce(better).unwrap_or((1, 1))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn grids_fit_their_terminal() {
        for (count, width, height, want) in [
            (4, 160, 48, (2, 2)),
            (1, 160, 48, (1, 1)),
            (2, 160, 40, (2, 1)),
            (2, 80, 60, (1, 2)),
            (9, 160, 48, (3, 3)),
            (3, 300, 30, (3, 1)),
            (0, 80, 24, (1, 1)),
        ] {
            assert_eq!(even_grid(count, width, height, 0.5, 2), want, "{count} in {width}x{height}");
        }
    }
}
