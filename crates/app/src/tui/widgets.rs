//! Parts that pages are drawn of.

pub mod around;
pub mod chart;
pub mod closeup;
pub mod frame;
pub mod lane;
pub mod list;
pub mod outcomes;
pub mod paper;
pub mod plate;
pub mod pulse;
pub mod sound;
pub mod tile;
pub mod trace;

use crate::tui::theme::Theme;
use ratatui::buffer::Buffer;
use ratatui::layout::{Margin, Rect};
use ratatui::widgets::{Clear, Widget as _};

/// A cleared place in the middle; gives what of it is inside of its margin.
pub fn panel(theme: Theme, area: Rect, width: u16, height: u16, buf: &mut Buffer) -> Rect {
    let (width, height) = (width.min(area.width), height.min(area.height));
    let place = Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 2, width, height };
    Clear.render(place, buf);
    buf.set_style(place, theme.ground());
    place.inner(Margin { horizontal: 2, vertical: 1 })
}
