//! A picture that is to stand on the screen in pixels.

use crate::ability::PixelWay;
use crate::painter::{Freshness, Look, seen};
use lattice_media::TilePicture;
use ratatui::layout::Rect;
use std::borrow::Cow;
use std::sync::Arc;

/// What stands in the cells under a picture of pixels: a blank that nothing else uses.
pub const UNDER: &str = "\u{a0}";

/// A picture, where it stands, and how it is brought there.
#[derive(Debug, Clone)]
pub struct Image {
    /// The tile's place.
    pub tile: u32,
    /// Of which stream it is.
    pub stream: u64,
    /// The cells that it fills.
    pub rect: Rect,
    /// The picture.
    pub picture: Arc<TilePicture>,
    /// How it is drawn.
    pub look: Look,
    /// Percent of its light.
    pub brightness: u8,
    /// By which way.
    pub way: PixelWay,
    /// Width and height of a cell in pixels.
    pub cell: (u16, u16),
    /// Colours of a sixel picture.
    pub colours: usize,
}

impl Image {
    /// Pixels of the cells that it fills.
    pub fn room(&self) -> (usize, usize) {
        let (width, height) = self.cell;
        (usize::from(self.rect.width) * usize::from(width), usize::from(self.rect.height) * usize::from(height))
    }

    /// Left, top, width and height of what is seen of the picture.
    fn seen(&self) -> (usize, usize, usize, usize) {
        let room = self.room();
        seen(&self.picture, &self.look, room.0.max(1) as f64 / room.1.max(1) as f64)
    }

    /// Its pixels as red, green and blue, as they are (the terminal scales them), or `exact` so many.
    pub fn rgb(&self, exact: Option<(usize, usize)>) -> (Cow<'_, [u8]>, (usize, usize)) {
        let light = u32::from(self.brightness) * if self.look.freshness == Freshness::Old { 2 } else { 5 };
        let (left, top, width, height) = self.seen();
        let size = exact.unwrap_or((width, height));
        if light == 500 && size == (self.picture.width, self.picture.height) && (width, height) == size {
            return (Cow::Borrowed(&self.picture.rgb), size);
        }
        let pixels = self.picture.rgb.as_chunks::<3>().0;
        let columns: Vec<usize> = (0..size.0).map(|x| left + x * width / size.0.max(1)).collect();
        let mut out = Vec::with_capacity(size.0 * size.1 * 3);
        for y in 0..size.1 {
            let begin = (top + y * height / size.1.max(1)) * self.picture.width;
            let Some(line) = pixels.get(begin..begin + self.picture.width) else { break };
            for x in &columns {
                let pixel = line.get(*x).copied().unwrap_or_default();
                out.extend(pixel.map(|value| (u32::from(value) * light / 500) as u8));
            }
        }
        out.resize(size.0 * size.1 * 3, 0);
        (Cow::Owned(out), size)
    }

    /// Pixels of the stream that are really shown: no more than it has, nor than there are.
    pub fn really_shown(&self) -> (usize, usize) {
        let ((_, _, width, height), room) = (self.seen(), self.room());
        let source = self.picture.source;
        (width.min(room.0).min(source.0), height.min(room.1).min(source.1))
    }
}
