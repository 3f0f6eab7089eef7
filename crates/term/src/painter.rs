//! Painting a tile's picture. The interface is narrow on purpose: a picture and an area in, drawn or
//! not out, so that other ways of drawing can join.

use crate::ability::{Paint, PixelWay};
use crate::beside::Beside;
use crate::cells::CellPainter;
use crate::image::{Image, UNDER};
use crate::{kitty, tmux};
use lattice_core::lattice::Aspect;
use lattice_core::view::View;
use lattice_media::{TilePicture, Wanted};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use std::io;
use std::sync::Arc;

/// Takes all pictures of ours off the screen and out of the terminal, also of one behind tmux.
///
/// # Errors
/// When it cannot be written.
pub fn remove_images(out: &mut impl io::Write) -> io::Result<()> {
    kitty::remove_all(out)?;
    tmux::remove_all(out)
}

/// How fresh a picture is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Freshness {
    /// It is what the camera sees now.
    Live,
    /// It is the last there was; drawn dim, so that nobody takes it for live.
    Old,
}

/// How a picture is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Look {
    /// How fresh it is.
    pub freshness: Freshness,
    /// How it stands in its area.
    pub aspect: Aspect,
    /// What it shows of what the camera sees.
    pub view: View,
    /// Only this part of it is drawn: left, top, width and height in its pixels.
    pub cut: Option<[u16; 4]>,
}

impl Look {
    /// All of a picture that shows all.
    #[must_use]
    pub const fn whole(freshness: Freshness, aspect: Aspect) -> Self {
        Self { freshness, aspect, view: View::WHOLE, cut: None }
    }
}

/// What of a picture is seen in room of this aspect (width over height): left, top, width and height in its pixels. To fill
/// the room its sides are cut off.
pub(crate) fn seen(picture: &TilePicture, look: &Look, room: f64) -> (usize, usize, usize, usize) {
    let (mut left, mut top, mut width, mut height) = (0, 0, picture.width, picture.height);
    if let Some([x, y, w, h]) = look.cut.map(|cut| cut.map(usize::from)) {
        (left, top) = (x.min(width.saturating_sub(1)), y.min(height.saturating_sub(1)));
        (width, height) = (w.clamp(1, (width - left).max(1)), h.clamp(1, (height - top).max(1)));
    }
    if look.aspect != Aspect::Fill {
        return (left, top, width, height);
    }
    let has = picture.source.0.max(1) as f64 / picture.source.1.max(1) as f64;
    let cut = |side: usize, share: f64| ((side as f64 * share).round() as usize).clamp(1, side.max(1));
    let (w, h) = if has > room { (cut(width, room / has), height) } else { (width, cut(height, has / room)) };
    (left + (width - w) / 2, top + (height - h) / 2, w, h)
}

/// How pictures are painted in pixels on this terminal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pixels {
    /// The way.
    pub way: PixelWay,
    /// Width and height of a cell in pixels.
    pub cell: (u16, u16),
    /// Colours of a sixel picture.
    pub colours: usize,
    /// The largest picture that the terminal takes.
    pub largest: Option<(u32, u32)>,
}

impl Pixels {
    /// What an area can show of a picture.
    fn wanted(&self, area: Rect, aspect: Aspect) -> Wanted {
        let cell = (usize::from(self.cell.0), usize::from(self.cell.1));
        // A terminal that scales pictures gets no more than there is.
        let enlarge = self.way == PixelWay::Sixel;
        let (width, height) = (usize::from(area.width) * cell.0, usize::from(area.height) * cell.1);
        Wanted { width, height, pixel_aspect: 1.0, step: cell, aspect, enlarge, keyframes_only: false }
    }

    /// Whether the terminal takes a picture of this area.
    fn takes(&self, area: Rect) -> bool {
        let size = (u32::from(area.width) * u32::from(self.cell.0), u32::from(area.height) * u32::from(self.cell.1));
        self.way != PixelWay::Sixel || self.largest.is_none_or(|(width, height)| size.0 <= width && size.1 <= height)
    }
}

/// How a picture is painted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Painted {
    /// The way, in words.
    pub by: &'static str,
    /// Pixels of the stream that are really shown, across and down.
    pub pixels: (usize, usize),
    /// Pixels of the screen that it is shown with, across and down.
    pub on_screen: (usize, usize),
}

/// Draws the pictures of one tile, in cells or in pixels.
#[derive(Debug)]
pub struct TilePainter {
    cells: CellPainter,
    /// In pixels, where that is to be.
    pub pixels: Option<Pixels>,
    /// Percent of light for pictures of pixels.
    pub brightness: u8,
    /// The lines beside the picture.
    pub beside: Beside,
    tile: u32,
    image: Option<Image>,
    painted: Option<Painted>,
}

impl TilePainter {
    /// A painter of a tile, in cells at first.
    pub fn new(cells: CellPainter, tile: u32) -> Self {
        Self { cells, pixels: None, brightness: 100, beside: Beside::default(), tile, image: None, painted: None }
    }

    /// How pictures are drawn in cells.
    pub const fn set_cells(&mut self, paint: Paint) {
        self.cells.paint = paint;
    }

    /// The picture that was drawn in pixels since this was asked last.
    pub const fn take_image(&mut self) -> Option<Image> {
        self.image.take()
    }

    /// How the last picture was painted.
    pub const fn painted(&self) -> Option<Painted> {
        self.painted
    }

    /// What can be shown in an area.
    pub fn wanted(&self, area: Rect, aspect: Aspect) -> Wanted {
        match self.pixels.filter(|pixels| pixels.takes(area)) {
            Some(pixels) => pixels.wanted(area, aspect),
            None => self.cells.wanted(area, aspect),
        }
    }

    /// Draws a stream's picture into an area; false when nothing could be drawn.
    pub fn paint(&mut self, stream: u64, picture: &Arc<TilePicture>, area: Rect, look: Look, buf: &mut Buffer) -> bool {
        let Some(pixels) = self.pixels.filter(|pixels| pixels.takes(area)) else {
            let (by, (width, height)) = self.cells.shows(area, look.aspect, picture.source);
            let pixels = (width.min(picture.source.0), height.min(picture.source.1));
            self.painted = Some(Painted { by, pixels, on_screen: (width, height) });
            return self.cells.paint(picture, area, look, buf);
        };
        if area.is_empty() || picture.rgb.is_empty() {
            return false;
        }
        let (cell_width, cell_height) = (usize::from(pixels.cell.0), usize::from(pixels.cell.1));
        let (columns, rows) = match look.aspect {
            Aspect::Fit => {
                let (width, height) = pixels.wanted(area, look.aspect).fit(picture.source);
                ((width / cell_width) as u16, (height / cell_height) as u16)
            }
            Aspect::Fill | Aspect::Stretch => (area.width, area.height),
        };
        let (width, height) = (columns.clamp(1, area.width), rows.clamp(1, area.height));
        // On its plate, which stands below: rows that are left over are above.
        let rect = Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height), width, height };
        let rect = rect.intersection(buf.area);
        for position in rect.positions() {
            buf[position].reset();
            buf[position].set_symbol(UNDER).set_style(Style::reset());
        }
        let (tile, brightness) = (self.tile, self.brightness);
        let Pixels { way, cell, colours, .. } = pixels;
        let image = Image { tile, stream, rect, picture: picture.clone(), look, brightness, way, cell, colours };
        self.painted = Some(Painted { by: way.words(), pixels: image.really_shown(), on_screen: image.room() });
        self.image = Some(image);
        true
    }
}
