//! Lists in front of the wall that filter as one types.

use super::overlay::panel;
use crate::app::App;
use crate::theme::{Theme, Tone};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use unicode_width::UnicodeWidthStr as _;

/// Where the lines stand, and the first that is shown.
fn list(app: &App) -> Option<(Rect, usize)> {
    let picker = app.picker.as_ref()?;
    let inner = place(app).inner(ratatui::layout::Margin { horizontal: 2, vertical: 1 });
    let list = Rect { y: inner.y + 4, height: inner.height.saturating_sub(4), ..inner };
    Some((list, (picker.row + 1).saturating_sub(usize::from(list.height.max(1)))))
}

/// On the right, so that most of the wall can still be seen and a camera dragged onto a tile.
fn place(app: &App) -> Rect {
    let area = app.area;
    let width = (area.width * 2 / 5).clamp(50, 76).min(area.width);
    Rect { x: area.right() - width, y: area.y + 1, width, height: area.height.saturating_sub(2) }
}

/// The line at this cell.
pub fn pick_row_at(app: &App, at: Position) -> Option<usize> {
    let (list, first) = list(app)?;
    let row = first + usize::from(at.y.checked_sub(list.y)?);
    (list.contains(at) && row < app.picks().len()).then_some(row)
}

/// Draws the list that is open.
pub fn draw(app: &App, theme: Theme, buf: &mut Buffer) {
    let Some(picker) = &app.picker else { return };
    let whole = place(app);
    let inner = panel(theme, whole, whole.width, whole.height, buf);
    let line = |y: u16| Rect { y: inner.y + y, height: 1, ..inner };
    Line::styled(picker.kind.title(), theme.tone(Tone::Bright)).render(line(0), buf);
    let typed = Line::from(vec![
        Span::styled("▸ ", theme.tone(Tone::Here)),
        Span::styled(picker.input.value().to_owned(), theme.tone(Tone::Text)),
        Span::styled("▏", theme.tone(Tone::Here)),
    ]);
    typed.render(line(1), buf);
    let named = picker.kind.is_line();
    let hint = if named { "enter done  esc back" } else { "type to filter  ↑ ↓ select  enter take  esc back" };
    Line::styled(hint, theme.tone(Tone::Faint)).render(line(2), buf);
    let Some((list, first)) = list(app) else { return };
    let picks = app.picks();
    if picks.is_empty() && !named {
        Line::styled("nothing is called like this", theme.tone(Tone::Text)).render(Rect { height: 1, ..list }, buf);
    }
    for (row, (index, pick)) in picks.iter().enumerate().skip(first).take(usize::from(list.height)).enumerate() {
        let area = Rect { y: list.y + row as u16, height: 1, ..list };
        let selected = index == picker.row.min(picks.len().saturating_sub(1));
        let (mark, tone) = if selected { ("▸ ", Tone::Here) } else { ("  ", Tone::Text) };
        let right = if pick.key.is_empty() { pick.detail.clone() } else { format!("{}  {}", pick.detail, pick.key) };
        let room = usize::from(area.width).saturating_sub(right.width() + 4);
        let label = match pick.label.char_indices().nth(room.saturating_sub(1)) {
            Some((end, last)) if end + last.len_utf8() < pick.label.len() => format!("{}…", &pick.label[..end]),
            _ => pick.label.clone(),
        };
        Line::from(vec![Span::styled(mark, theme.tone(Tone::Here)), Span::styled(label, theme.tone(tone))]).render(area, buf);
        let right = Line::from(vec![
            Span::styled(pick.detail.clone(), theme.tone(Tone::Faint)),
            Span::styled(if pick.key.is_empty() { String::new() } else { format!("  {}", pick.key) }, theme.tone(Tone::Here)),
        ]);
        right.right_aligned().render(area, buf);
    }
}
