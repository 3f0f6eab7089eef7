//! The last minute, and how much was missed since the start. A line along the foot where all is well; it rises by what was missing,
//! to the top where nothing came.

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
    // How many there were lately stands on the plate; how much was missed since the start, here.
    let summary = match count {
        0 => return,
        1 => format!("1 dropout, {:.1} s", total.as_secs_f64()),
        n => format!("{n} dropouts, {:.1} s", total.as_secs_f64()),
    };
    let room = area.width.saturating_sub(shown as u16 + 1);
    if summary.len() <= usize::from(room) {
        Line::styled(summary, theme.tone(Tone::Bright)).render(Rect { width: room, ..area }, buf);
    }
}

fn span(theme: Theme, cell: PulseCell, strain: f64) -> Span<'static> {
    match cell {
        PulseCell::Unknown => Span::raw(" "),
        PulseCell::Share(share) if share <= 0.0 => Span::styled("█", theme.tone(Tone::Alarm)),
        PulseCell::Share(share) => {
            // A frame more or less than expected in a second is none that was missed.
            let strained = f64::from(share) < strain;
            let level = if strained { ((1.0 - share) * 7.0).round().clamp(1.0, 6.0) as usize } else { 0 };
            Span::styled(LEVELS[level], theme.tone(if strained { Tone::Bright } else { Tone::Faint }))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_term::ColourDepth;

    #[test]
    fn a_pulse_is_a_low_line_and_rises_by_what_was_missing() {
        let theme = Theme::new(ColourDepth::True);
        let shares = [1.0, 1.1, 0.9, 0.5, 0.1, 0.0].map(PulseCell::Share);
        let spans: Vec<Span<'_>> = [PulseCell::Unknown].into_iter().chain(shares).map(|cell| span(theme, cell, 0.85)).collect();
        let text: String = spans.iter().map(|span| span.content.as_ref()).collect();
        assert_eq!(text, " ▁▁▁▅▇█");
        assert_eq!(spans[1].style, theme.tone(Tone::Faint));
        assert_eq!(spans[6].style, theme.tone(Tone::Alarm), "nothing came: it is the loudest");
    }
}
