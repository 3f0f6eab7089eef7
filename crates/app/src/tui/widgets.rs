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

use crate::tui::theme::{Theme, Tone};
use ratatui::buffer::Buffer;
use ratatui::layout::{Margin, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Widget as _};
use std::borrow::Cow;

/// A figure or a fact: its name, faint, and its text, which goes on under itself where it is longer than this many columns.
pub fn fact(theme: Theme, (name, text, tone): (&str, &str, Tone), names: usize, width: usize) -> Vec<Line<'static>> {
    let under = std::iter::once(name).chain(std::iter::repeat(""));
    let line = |(name, text): (&str, Cow<'_, str>)| {
        Line::from(vec![
            Span::styled(format!("{name:<names$}"), theme.tone(Tone::Faint)),
            Span::styled(text.into_owned(), theme.tone(tone)),
        ])
    };
    under.zip(textwrap::wrap(text, width.saturating_sub(names).max(8))).map(line).collect()
}

/// Columns beside a panel, on both sides together, that show too little of what is behind.
const NO_STRIP: u16 = 8;

/// A cleared place in the middle; gives what of it is inside of its margin.
pub fn panel(theme: Theme, area: Rect, width: u16, height: u16, buf: &mut Buffer) -> Rect {
    // A strip of what is behind that is too narrow to be read is none.
    let width = if width + NO_STRIP >= area.width { area.width } else { width };
    let height = height.min(area.height);
    let place = Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 2, width, height };
    Clear.render(place, buf);
    buf.set_style(place, theme.ground());
    place.inner(Margin { horizontal: 2, vertical: 1 })
}
