//! Tables, lines that are typed, and forms.

use super::panel;
use super::plate::cut;
use crate::tui::app::App;
use crate::tui::theme::{Theme, Tone};
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Flex, Layout, Position, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span, Text};
use ratatui::widgets::{Cell, Row, Table, TableState, Widget as _};
use unicode_width::UnicodeWidthStr as _;

/// Within the edges of the part between header and footer.
pub const fn inner(area: Rect) -> Rect {
    Rect { x: area.x + 1, y: area.y + 1, width: area.width.saturating_sub(2), height: area.height.saturating_sub(1) }
}

/// A column: its title, its width, and the width of the whole table from which it is shown.
#[derive(Debug, Clone, Copy)]
pub struct Column {
    /// Its title.
    pub title: &'static str,
    /// Its width.
    pub width: Constraint,
    /// The width of the table from which on it is shown.
    pub from: u16,
}

/// A column.
pub const fn column(title: &'static str, width: Constraint, from: u16) -> Column {
    Column { title, width, from }
}

/// Between two columns.
const GAP: u16 = 2;
/// Before the first column: where the selected row is marked.
const MARK: u16 = 2;

/// Where a table stands on the screen.
#[derive(Debug)]
pub struct List {
    /// With the line of titles.
    pub area: Rect,
    /// Its columns.
    pub columns: Vec<Column>,
    /// How many rows it has.
    pub rows: usize,
    /// The selected row.
    pub selected: usize,
}

impl List {
    /// Columns that there is room for, by their index.
    fn shown(&self) -> Vec<usize> {
        let fits = |(_, column): &(usize, &Column)| self.area.width >= column.from;
        self.columns.iter().enumerate().filter(fits).map(|(index, _)| index).collect()
    }

    fn widths(&self) -> Vec<Constraint> {
        self.shown().into_iter().filter_map(|index| Some(self.columns.get(index)?.width)).collect()
    }

    /// The same with columns as wide as their contents: what of a column's width is not needed goes to those that fill the rest.
    pub fn fitting(&self, rows: &[Vec<Said>]) -> Self {
        let widest = |index: usize| rows.iter().filter_map(|row| Some(row.get(index)?.0.width())).max().unwrap_or(0);
        let columns = self.columns.iter().enumerate().map(|(index, column)| {
            let needed = widest(index).max(column.title.width()) as u16;
            let width = match column.width {
                Constraint::Length(most) | Constraint::Max(most) => Constraint::Length(needed.min(most)),
                other => other,
            };
            // What no row says anything in has no column.
            let from = if !rows.is_empty() && widest(index) == 0 { u16::MAX } else { column.from };
            Column { width, from, ..*column }
        });
        Self { columns: columns.collect(), ..*self }
    }

    /// The first row that is shown: as few are passed over as keep the selected one in sight.
    const fn first(&self) -> usize {
        let room = self.area.height.saturating_sub(1) as usize;
        (self.selected + 1).saturating_sub(room)
    }

    /// The row at this place.
    pub fn row_at(&self, at: Position) -> Option<usize> {
        let below = usize::from(at.y.checked_sub(self.area.y + 1)?);
        Some(self.first() + below).filter(|row| self.area.contains(at) && *row < self.rows)
    }

    /// The title of the column whose heading is at this place.
    pub fn title_at(&self, at: Position) -> Option<&'static str> {
        let columns = Rect { x: self.area.x + MARK, width: self.area.width.saturating_sub(MARK), height: 1, ..self.area };
        let places = Layout::horizontal(self.widths()).spacing(GAP).split(columns);
        let hit = places.iter().position(|place| place.contains(at))?;
        Some(self.columns.get(*self.shown().get(hit)?)?.title)
    }
}

/// A cell's text and tone.
pub type Said = (String, Tone);

/// Draws a table; the row that is selected stays in sight.
pub fn table(theme: Theme, list: &List, rows: Vec<Vec<Said>>, buf: &mut Buffer) {
    let shown = list.shown();
    let titles = shown.iter().filter_map(|index| Some(Cell::from(list.columns.get(*index)?.title)));
    // As the table itself divides its room, beside the sign of the selected row: what has no room says so.
    let room = Rect { width: list.area.width.saturating_sub(MARK), ..list.area };
    let places = Layout::horizontal(list.widths()).flex(Flex::Start).spacing(GAP).split(room);
    let body = rows.into_iter().enumerate().map(|(index, row)| {
        let there = row.into_iter().enumerate().filter(|(n, _)| shown.contains(n));
        let cells = there.zip(places.iter()).map(|((_, (text, tone)), place)| {
            let tone = if index == list.selected && tone == Tone::Calm { Tone::Text } else { tone };
            Cell::from(Text::styled(cut(&text, usize::from(place.width)), theme.tone(tone)))
        });
        Row::new(cells)
    });
    let table = Table::new(body, list.widths())
        .header(Row::new(titles).style(theme.tone(Tone::Faint)))
        .column_spacing(GAP)
        .highlight_symbol(Line::styled("▌ ", theme.tone(Tone::Here)))
        .row_highlight_style(Style::new())
        .highlight_spacing(ratatui::widgets::HighlightSpacing::Always);
    let mut state = TableState::new().with_offset(list.first()).with_selected(list.selected);
    ratatui::widgets::StatefulWidget::render(table, list.area, buf, &mut state);
}

/// A line that is being typed, with its cursor.
pub fn typed(theme: Theme, label: &str, text: &str, cursor: usize, area: Rect, buf: &mut Buffer) {
    let label_width = label.width() as u16 + 1;
    let room = usize::from(area.width.saturating_sub(label_width + 1)).max(1);
    // The end that is being typed stays in sight.
    let skip = cursor.saturating_sub(room.saturating_sub(1));
    let shown: String = text.chars().skip(skip).take(room).map(|c| if c == '\n' || c == '\r' { '⏎' } else { c }).collect();
    Line::from(vec![Span::styled(format!("{label} "), theme.tone(Tone::Here)), Span::styled(shown, theme.tone(Tone::Text))])
        .render(Rect { height: 1, ..area }, buf);
    let x = area.x + label_width + (cursor - skip) as u16;
    if x < area.right() {
        buf.set_style(Rect { x, y: area.y, width: 1, height: 1 }, Style::new().add_modifier(ratatui::style::Modifier::REVERSED));
    }
}

/// A form in front of everything, with an edge so that it stands apart from what is behind it.
pub fn form(app: &App, theme: Theme, width: u16, height: u16, buf: &mut Buffer) -> Rect {
    let inner = panel(theme, app.area, width, height, buf);
    for y in inner.y.saturating_sub(1)..=inner.bottom() {
        buf.set_string(inner.x.saturating_sub(2), y.min(app.area.bottom().saturating_sub(1)), "▌", theme.tone(Tone::Here));
    }
    inner
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_take_what_they_need_and_the_last_one_the_rest() {
        let columns = vec![
            column("when", Constraint::Length(14), 0),
            column("camera", Constraint::Max(20), 0),
            column("evidence", Constraint::Fill(1), 0),
            column("acknowledged", Constraint::Length(20), 0),
        ];
        let list = List { area: Rect::new(0, 0, 60, 5), columns, rows: 2, selected: 0 };
        let row = |texts: [&str; 4]| texts.map(|text| (text.to_owned(), Tone::Calm)).to_vec();
        let rows = vec![
            row(["14:02", "Gate", "packets come when their place is given up", ""]),
            row(["14:01", "A camera with a name that is long", "", ""]),
        ];
        let fitting = list.fitting(&rows);
        assert_eq!(fitting.widths(), [Constraint::Length(5), Constraint::Length(20), Constraint::Fill(1)], "nobody acknowledged");
        let mut buf = Buffer::empty(list.area);
        table(Theme::new(lattice_term::ColourDepth::Mono), &fitting, rows, &mut buf);
        let line: String = (0..60).map(|x| buf[(x, 1)].symbol().to_owned()).collect();
        assert_eq!(line.trim_end(), "▌ 14:02  Gate                  packets come when their plac…");
    }
}
