//! The trace of what moved, drawn into a tile's picture where that was chosen.

use crate::tui::app::App;
use lattice_core::motion::{COLUMNS, ROWS};
use lattice_core::view::View;
use lattice_engine::{ALWAYS, FeedKey};
use lattice_media::TilePicture;
use std::sync::Arc;

/// What moved is shown in this colour,
const AMBER: [u32; 3] = [255, 176, 48];
/// by so many 256ths of it at most.
const SHARE: u32 = 150;

/// The picture with the trace in it; `None` where it stays as it is.
pub fn of(app: &App, key: FeedKey, picture: &TilePicture) -> Option<Arc<TilePicture>> {
    let View::Flat(zoom) = picture.view else { return None };
    if app.traced.is_empty() || !app.traced.contains(app.cameras.name(key.camera)) {
        return None;
    }
    let activity = app.activity.get(&key)?;
    let part = zoom.part();
    let (width, height) = (picture.width, picture.height);
    let cell = |n: usize, side: usize, from: f64, share: f64, cells: usize| {
        (((from + (n as f64 + 0.5) / side as f64 * share) * cells as f64) as usize).min(cells - 1)
    };
    let columns: Vec<usize> = (0..width).map(|x| cell(x, width, part.left, part.width, COLUMNS)).collect();
    let mut rgb = picture.rgb.to_vec();
    for (y, line) in rgb.chunks_exact_mut((width * 3).max(1)).enumerate() {
        let row = cell(y, height, part.top, part.height, ROWS) * COLUMNS;
        for (pixel, column) in line.as_chunks_mut::<3>().0.iter_mut().zip(&columns) {
            let level = u32::from(activity.get(row + column).copied().filter(|level| *level != ALWAYS).unwrap_or(0));
            let by = level * SHARE / 255;
            for (channel, own) in pixel.iter_mut().zip(AMBER) {
                *channel = ((u32::from(*channel) * (256 - by) + own * by) >> 8) as u8;
            }
        }
    }
    let TilePicture { number, source, condition, ready, view, adjust, .. } = *picture;
    Some(Arc::new(TilePicture { number, width, height, rgb: rgb.into(), source, condition, ready, view, adjust }))
}
