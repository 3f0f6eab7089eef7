//! The last minute, and how much was missed since the start.

use crate::tui::theme::{Theme, Tone};
use lattice_core::meter::{Figures, PulseCell};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;

const LEVELS: [&str; 8] = ["▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];
/// Draws a tile's pulse, the newest second at the right edge; one with less than the share `strain` of its frames is bright.
pub fn draw(theme: Theme, figures: &Figures, strain: f64, area: Rect, buf: &mut Buffer) {
    let cells = &figures.pulse;
    let shown = cells.len().min(usize::from(area.width));
    let spans: Vec<Span<'_>> = cells.iter().skip(cells.len() - shown).map(|cell| span(theme, *cell, strain)).collect();
    let right = Rect { x: area.right() - shown as u16, width: shown as u16, ..area };
    Line::from(spans).render(right, buf);
    let (ended, length) = figures.dropout_totals;
    let running = figures.dropout_now.map(|dropout| dropout.length);
    let (count, total) = (ended + u64::from(running.is_some()), length + running.unwrap_or_default());
    let summary = match count {
        0 => "no dropouts".to_owned(),
        1 => format!("1 dropout, {:.1} s", total.as_secs_f64()),
        n => format!("{n} dropouts, {:.1} s", total.as_secs_f64()),
    };
    let room = area.width.saturating_sub(shown as u16 + 1);
    if summary.len() <= usize::from(room) {
        let tone = if count == 0 { Tone::Faint } else { Tone::Bright };
        Line::styled(summary, theme.tone(tone)).render(Rect { width: room, ..area }, buf);
    }
}

fn span(theme: Theme, cell: PulseCell, strain: f64) -> Span<'static> {
    match cell {
        PulseCell::Unknown => Span::styled("·", theme.tone(Tone::Faint)),
        PulseCell::Share(share) if share <= 0.0 => Span::raw(" "),
        PulseCell::Share(share) => {
            let level = ((share * 7.0).round() as usize).min(6);
            let tone = if f64::from(share) < strain { Tone::Bright } else { Tone::Faint };
            Span::styled(LEVELS[level], theme.tone(tone))
        }
    }
}
