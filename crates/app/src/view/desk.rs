//! Getting cameras in, on the screen: the three ways in, roster, search, adding, reach check, sign-in.

mod add;
mod check;
mod device;
mod find;
mod roster;

use super::overlay::panel;
use crate::app::App;
use crate::desk::{Page, SignInFor, SignInForm, Typing};
use crate::theme::{Theme, Tone};
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span, Text};
use ratatui::widgets::{Cell, Paragraph, Row, Table, TableState, Widget as _, Wrap};

/// Draws the page that is open.
pub fn draw(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let area = Rect { x: area.x + 1, y: area.y + 1, width: area.width.saturating_sub(2), height: area.height.saturating_sub(1) };
    match app.page {
        Page::Wall => {}
        Page::Welcome => welcome(theme, area, buf),
        Page::Roster => roster::draw(app, theme, area, buf),
        Page::Find => find::draw(app, theme, area, buf),
        Page::Add => add::draw(app, theme, area, buf),
        Page::Check => check::draw(app, theme, area, buf),
        Page::Device => device::draw(app, theme, area, buf),
    }
}

/// A wall whose last camera was taken away.
pub fn empty_wall(theme: Theme, area: Rect, buf: &mut Buffer) {
    let text = "No camera on the wall.  c opens the roster, a adds one by its address.";
    Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(area, buf);
}

fn welcome(theme: Theme, area: Rect, buf: &mut Buffer) {
    let line = |key: &'static str, what: &'static str| {
        Line::from(vec![Span::styled(format!("  {key:<6}"), theme.tone(Tone::Here)), Span::styled(what, theme.tone(Tone::Text))])
    };
    let lines = vec![
        Line::styled("No camera yet. Three ways in:", theme.tone(Tone::Bright)),
        Line::default(),
        line("f", "find the cameras on this network"),
        line("paste", "an address or a list of them, anywhere; or type one with  a"),
        line("demo", "leave with  q  and start `amber-lattice demo`: a made-up port with cameras to find"),
        Line::default(),
        Line::styled("A camera's address alone is enough: it is asked for its streams.", theme.tone(Tone::Calm)),
    ];
    let height = lines.len() as u16;
    let place = Rect { y: area.y + area.height.saturating_sub(height) / 3, ..area };
    Paragraph::new(lines).wrap(Wrap { trim: false }).render(place.intersection(area), buf);
}

/// A column: its title, its width, and the width of the whole table from which it is shown.
struct Column {
    title: &'static str,
    width: Constraint,
    from: u16,
}

const fn column(title: &'static str, width: Constraint, from: u16) -> Column {
    Column { title, width, from }
}

/// A cell's text and tone.
type Said = (String, Tone);

/// Draws a table; the row that is selected stays in sight.
fn table(theme: Theme, columns: &[Column], rows: Vec<Vec<Said>>, selected: usize, area: Rect, buf: &mut Buffer) {
    let shown: Vec<bool> = columns.iter().map(|column| area.width >= column.from).collect();
    let only = |n: &usize| shown.get(*n).copied().unwrap_or(false);
    let titles = columns.iter().enumerate().filter(|(n, _)| only(n)).map(|(_, column)| Cell::from(column.title));
    let widths = columns.iter().enumerate().filter(|(n, _)| only(n)).map(|(_, column)| column.width);
    let body = rows.into_iter().enumerate().map(|(index, row)| {
        let cells = row.into_iter().enumerate().filter(|(n, _)| only(n)).map(|(_, (text, tone))| {
            let tone = if index == selected && tone == Tone::Calm { Tone::Text } else { tone };
            Cell::from(Text::styled(text, theme.tone(tone)))
        });
        Row::new(cells)
    });
    let table = Table::new(body, widths.collect::<Vec<_>>())
        .header(Row::new(titles).style(theme.tone(Tone::Faint)))
        .column_spacing(2)
        .highlight_symbol(Line::styled("▌ ", theme.tone(Tone::Here)))
        .row_highlight_style(Style::new())
        .highlight_spacing(ratatui::widgets::HighlightSpacing::Always);
    let mut state = TableState::new().with_selected(selected);
    ratatui::widgets::StatefulWidget::render(table, area, buf, &mut state);
}

/// A line that is being typed, with its cursor.
fn typed(theme: Theme, label: &str, text: &str, cursor: usize, area: Rect, buf: &mut Buffer) {
    let label_width = label.chars().count() as u16 + 1;
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

/// The line for what is typed, if something is; gives the rest of the area.
fn typing_line(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) -> Rect {
    let Some((what, input)) = &app.desk.typing else { return area };
    let label = match what {
        Typing::Filter => "filter".to_owned(),
        Typing::Rename(name) => format!("new name of {name}"),
        Typing::Group(name) => format!("group of {name}"),
        Typing::Ranges => "ranges to scan".to_owned(),
    };
    typed(theme, &label, input.value(), input.cursor(), Rect { height: 1, ..area }, buf);
    Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area }
}

pub use device::password;

/// The form for a sign-in, in front of everything. A password is drawn as dots, however long it is.
pub fn sign_in(app: &App, form: &SignInForm, theme: Theme, buf: &mut Buffer) {
    let (what, group) = match &form.for_what {
        SignInFor::Cameras(names) => {
            let group = names.first().and_then(|name| app.desk.site.camera(name)).and_then(|camera| camera.group.clone());
            (format!("Sign in to {}", names.join(", ")), group)
        }
        SignInFor::Targets(targets) if targets.len() == 1 => {
            (format!("Sign in to {}", targets.first().map_or(String::new(), ToString::to_string)), None)
        }
        SignInFor::Targets(targets) => (format!("Sign in to {} devices, each asked once", targets.len()), None),
    };
    let inner = panel(theme, app.area, 64, if group.is_some() { 10 } else { 9 }, buf);
    // An edge, so that the form stands apart from the table behind it.
    for y in inner.y.saturating_sub(1)..=inner.bottom() {
        buf.set_string(inner.x.saturating_sub(2), y.min(app.area.bottom().saturating_sub(1)), "▌", theme.tone(Tone::Here));
    }
    let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
    Line::styled(what, theme.tone(Tone::Bright)).render(row(0), buf);
    let dots = "•".repeat(form.password.value().chars().count());
    for (n, label, text, cursor, here) in [
        (2, "user    ", form.user.value(), form.user.cursor(), !form.on_password),
        (3, "password", dots.as_str(), form.password.cursor(), form.on_password),
    ] {
        if here {
            typed(theme, label, text, cursor, row(n), buf);
        } else {
            Line::from(vec![
                Span::styled(format!("{label} "), theme.tone(Tone::Faint)),
                Span::styled(text.to_owned(), theme.tone(Tone::Calm)),
            ])
            .render(row(n), buf);
        }
    }
    let mut note = 5;
    if let Some(group) = group {
        let sign = if form.whole_group { "■" } else { "□" };
        Line::styled(format!("{sign} for the whole group {group} (ctrl-g)"), theme.tone(Tone::Calm)).render(row(5), buf);
        note = 6;
    }
    Line::styled("Kept apart from the site file, for you alone to read.", theme.tone(Tone::Faint)).render(row(note), buf);
}
