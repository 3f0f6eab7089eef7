//! Getting cameras in, on the screen: the three ways in, roster, search, adding, reach check, sign-in.

mod add;
mod channels;
mod check;
mod device;
mod find;
mod ledger;
mod listen;
mod roster;

use super::overlay::panel;
use crate::app::App;
use crate::desk::{CertificateForm, Page, SignInFor, SignInForm, Typing};
use crate::theme::{Theme, Tone};
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Layout, Position, Rect};
use ratatui::style::Style;
use ratatui::text::{Line, Span, Text};
use ratatui::widgets::{Cell, Paragraph, Row, Table, TableState, Widget as _, Wrap};
use unicode_width::UnicodeWidthStr as _;

/// The lanes of the ledger for paper: title, pages.
pub fn lanes_on_paper(app: &App) -> (String, lattice_engine::Drawing) {
    ledger::lanes_on_paper(app)
}

/// Draws the page that is open.
pub fn draw(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let area = inner(area);
    match app.page {
        Page::Wall | Page::Bench | Page::Stream | Page::Flash => {}
        Page::Welcome => welcome(theme, area, buf),
        Page::Roster => roster::draw(app, theme, area, buf),
        Page::Find => find::draw(app, theme, area, buf),
        Page::Add => add::draw(app, theme, area, buf),
        Page::Check => check::draw(app, theme, area, buf),
        Page::Device => device::draw(app, theme, area, buf),
        Page::Listen => listen::draw(app, theme, area, buf),
        Page::Ledger => ledger::draw(app, theme, area, buf),
    }
}

const fn inner(area: Rect) -> Rect {
    Rect { x: area.x + 1, y: area.y + 1, width: area.width.saturating_sub(2), height: area.height.saturating_sub(1) }
}

/// The table of the page that is open, for what the mouse points at.
pub fn list(app: &App, area: Rect) -> Option<List> {
    let area = inner(area);
    match app.page {
        Page::Roster => Some(roster::list(app, &app.roster(), area)),
        Page::Find => Some(find::list(app, area)),
        Page::Check => check::list(app, area),
        Page::Device => device::list(app, area),
        Page::Listen => Some(listen::list(app, area)),
        Page::Ledger => ledger::list(app, area),
        Page::Wall | Page::Bench | Page::Stream | Page::Flash | Page::Welcome | Page::Add => None,
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
#[derive(Debug, Clone, Copy)]
struct Column {
    title: &'static str,
    width: Constraint,
    from: u16,
}

const fn column(title: &'static str, width: Constraint, from: u16) -> Column {
    Column { title, width, from }
}

/// Between two columns.
const GAP: u16 = 2;
/// Before the first column: where the selected row is marked.
const MARK: u16 = 2;

/// Where a table stands on the screen.
#[derive(Debug)]
pub struct List {
    area: Rect,
    columns: Vec<Column>,
    rows: usize,
    selected: usize,
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
type Said = (String, Tone);

/// Draws a table; the row that is selected stays in sight.
fn table(theme: Theme, list: &List, rows: Vec<Vec<Said>>, buf: &mut Buffer) {
    let shown = list.shown();
    let titles = shown.iter().filter_map(|index| Some(Cell::from(list.columns.get(*index)?.title)));
    let body = rows.into_iter().enumerate().map(|(index, row)| {
        let cells = row.into_iter().enumerate().filter(|(n, _)| shown.contains(n)).map(|(_, (text, tone))| {
            let tone = if index == list.selected && tone == Tone::Calm { Tone::Text } else { tone };
            Cell::from(Text::styled(text, theme.tone(tone)))
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
fn typed(theme: Theme, label: &str, text: &str, cursor: usize, area: Rect, buf: &mut Buffer) {
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

/// The line for what is typed, if something is; gives the rest of the area.
fn typing_line(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) -> Rect {
    let Some((what, input)) = &app.desk.typing else { return area };
    let label = match what {
        Typing::Filter => "filter".to_owned(),
        Typing::Rename(name) => format!("new name of {name}"),
        Typing::Group(name) => format!("group of {name}"),
        Typing::Ranges => "ranges to scan".to_owned(),
        Typing::Key(_) => return area,
    };
    typed(theme, &label, input.value(), input.cursor(), Rect { height: 1, ..area }, buf);
    below_typing(app, area)
}

/// What the line that is being typed leaves of the area.
const fn below_typing(app: &App, area: Rect) -> Rect {
    if matches!(app.desk.typing, None | Some((Typing::Key(_), _))) {
        return area;
    }
    Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area }
}

pub use channels::draw as channels;
pub use device::password;
pub use listen::port_of;
pub use roster::sorts_by;

/// A form in front of everything, with an edge so that it stands apart from what is behind it.
fn form(app: &App, theme: Theme, width: u16, height: u16, buf: &mut Buffer) -> Rect {
    let inner = panel(theme, app.area, width, height, buf);
    for y in inner.y.saturating_sub(1)..=inner.bottom() {
        buf.set_string(inner.x.saturating_sub(2), y.min(app.area.bottom().saturating_sub(1)), "▌", theme.tone(Tone::Here));
    }
    inner
}

/// The form for the key of an encrypted stream. The key is drawn as dots.
pub fn key(app: &App, camera: &str, input: &tui_input::Input, theme: Theme, buf: &mut Buffer) {
    let inner = form(app, theme, 72, 9, buf);
    let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
    Line::styled(format!("Key of the encrypted streams of {camera}"), theme.tone(Tone::Bright)).render(row(0), buf);
    typed(theme, "key", &"•".repeat(input.value().chars().count()), input.cursor(), row(2), buf);
    let notes = [
        "Master key and salt, as the sender has them: 30 bytes in Base64 (40 signs) or",
        "hexadecimal (60 digits); 46 bytes for AES-256.",
        "Kept apart from the site file, for you alone to read.",
    ];
    for (n, note) in (4..).zip(notes) {
        Line::styled(note, theme.tone(Tone::Faint)).render(row(n), buf);
    }
}

/// A certificate for the operator to judge.
pub fn certificate(app: &App, judged: &CertificateForm, theme: Theme, buf: &mut Buffer) {
    let inner = form(app, theme, 76, 14, buf);
    let lines = vec![
        Line::styled(format!("The certificate of {}", judged.camera), theme.tone(Tone::Bright)),
        Line::default(),
        Line::styled(judged.why.clone(), theme.tone(Tone::Text)),
        Line::default(),
        Line::styled(
            "Cameras often show certificates that no authority has signed. Compare the digits with those on the camera's own page, then pin it: from then on only this one is taken.",
            theme.tone(Tone::Calm),
        ),
        Line::styled("Without verifying, anyone on the way could answer in its place.", theme.tone(Tone::Faint)),
    ];
    Paragraph::new(lines).wrap(Wrap { trim: true }).render(inner, buf);
}

/// The form for a sign-in, in front of everything. A password is drawn as dots, however long it is.
pub fn sign_in(app: &App, asked: &SignInForm, theme: Theme, buf: &mut Buffer) {
    let (what, group) = match &asked.for_what {
        SignInFor::Cameras(names) => {
            let group = names.first().and_then(|name| app.desk.site.camera(name)).and_then(|camera| camera.group.clone());
            (format!("Sign in to {}", names.join(", ")), group)
        }
        SignInFor::Targets(targets) if targets.len() == 1 => {
            (format!("Sign in to {}", targets.first().map_or(String::new(), |one| one.target.to_string())), None)
        }
        SignInFor::Targets(targets) => (format!("Sign in to {} devices, each asked once", targets.len()), None),
    };
    let inner = form(app, theme, 64, if group.is_some() { 10 } else { 9 }, buf);
    let row = |n: u16| Rect { y: inner.y + n, height: u16::from(n < inner.height), ..inner };
    Line::styled(what, theme.tone(Tone::Bright)).render(row(0), buf);
    let dots = "•".repeat(asked.password.value().chars().count());
    for (n, label, text, cursor, here) in [
        (2, "user    ", asked.user.value(), asked.user.cursor(), !asked.on_password),
        (3, "password", dots.as_str(), asked.password.cursor(), asked.on_password),
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
        let sign = if asked.whole_group { "■" } else { "□" };
        Line::styled(format!("{sign} for the whole group {group} (ctrl-g)"), theme.tone(Tone::Calm)).render(row(5), buf);
        note = 6;
    }
    Line::styled("Kept apart from the site file, for you alone to read.", theme.tone(Tone::Faint)).render(row(note), buf);
}
