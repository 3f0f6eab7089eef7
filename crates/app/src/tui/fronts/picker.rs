//! Lists that filter as one types, and lines of text that are typed, at the right of the screen.

use crate::tui::app::{App, Dragged};
use crate::tui::page::{Key, Keyed, Mouse, Page, back, key, leave, moves};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::panel;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};
use ratatui::buffer::Buffer;
use ratatui::layout::{Margin, Position, Rect};
use ratatui::text::{Line as Text, Span};
use ratatui::widgets::Widget as _;
use tui_input::Input;
use unicode_width::UnicodeWidthStr as _;

/// A line of a list.
pub struct Line {
    /// What it says.
    pub label: String,
    /// What it says besides.
    pub detail: String,
    /// Its key.
    pub key: String,
    /// The camera that can be dragged from it.
    camera: Option<String>,
    /// What it does.
    take: Box<dyn Fn(&mut App)>,
}

impl Line {
    /// A line, and what it does when it is taken.
    pub fn new(label: &str, detail: String, key: &str, take: impl Fn(&mut App) + 'static) -> Self {
        Self { label: label.to_owned(), detail, key: key.to_owned(), camera: None, take: Box::new(take) }
    }

    /// A line from which this camera can be dragged.
    pub fn of_camera(self, name: &str) -> Self {
        Self { camera: Some(name.to_owned()), ..self }
    }
}

/// What is done with a line of text.
type Done = Box<dyn Fn(&mut App, &str)>;

/// The lines of a list.
type Lines = Box<dyn Fn(&App) -> Vec<Line>>;

enum What {
    List(Lines),
    Text(Done),
}

/// A list, or a line of text.
pub struct Picker {
    title: &'static str,
    input: Input,
    row: usize,
    what: What,
}

impl Keyed for Picker {
    const NAME: &'static str = "List";
    const KEYS: &'static [Key<Self>] = &[
        moves("down", "the next line", |picker: &mut Self, app| picker.select(app, 1)),
        moves("up", "the line before", |picker: &mut Self, app| picker.select(app, -1)),
        moves("pgdn", "further down", |picker: &mut Self, app| picker.select(app, 10)),
        moves("pgup", "further up", |picker: &mut Self, app| picker.select(app, -10)),
        key("enter", "take it", Self::take).hint("take"),
        back("esc", "back", Some("back")),
        leave(),
    ];
}

impl Picker {
    /// A list with nothing typed.
    pub fn list(title: &'static str, lines: impl Fn(&App) -> Vec<Line> + 'static) -> Self {
        Self { title, input: Input::default(), row: 0, what: What::List(Box::new(lines)) }
    }

    /// A line of text, with what stands there to begin with.
    pub fn line(title: &'static str, text: String, done: impl Fn(&mut App, &str) + 'static) -> Self {
        Self { title, input: Input::new(text), row: 0, what: What::Text(Box::new(done)) }
    }

    /// The lines that match what was typed, the best first.
    fn lines(&self, app: &App) -> Vec<Line> {
        match &self.what {
            What::List(lines) => matching(lines(app), self.input.value()),
            What::Text(_) => Vec::new(),
        }
    }

    fn select(&mut self, app: &App, rows: i32) {
        let last = self.lines(app).len().saturating_sub(1);
        self.row = self.row.min(last).saturating_add_signed(rows as isize).min(last);
    }

    fn take(&mut self, app: &mut App) {
        app.back();
        match &self.what {
            What::Text(done) => done(app, self.input.value()),
            What::List(_) => match self.lines(app).into_iter().nth(self.row) {
                Some(line) => (line.take)(app),
                None => app.say(Tone::Text, format!("nothing is called {:?}", self.input.value())),
            },
        }
    }

    /// Where the lines stand that are shown, by their numbers: one that is too long for a row has two. The selected one is among
    /// them.
    fn shown(&self, app: &App, lines: &[Line]) -> Vec<(usize, Rect)> {
        let list = list_area(app);
        let selected = self.row.min(lines.len().saturating_sub(1));
        let height = |line: &Line| label(line, list.width).len() as u16;
        let mut first = selected;
        let mut taken = lines.get(selected).map_or(0, height);
        while first > 0 && taken + height(&lines[first - 1]) <= list.height {
            first -= 1;
            taken += height(&lines[first]);
        }
        let mut y = list.y;
        let mut places = Vec::new();
        for (number, line) in lines.iter().enumerate().skip(first) {
            let place = Rect { y, height: height(line), ..list };
            if place.bottom() > list.bottom() {
                break;
            }
            y = place.bottom();
            places.push((number, place));
        }
        places
    }

    /// The line at this cell.
    fn row_at(&self, app: &App, at: Position) -> Option<usize> {
        let shown = self.shown(app, &self.lines(app));
        shown.into_iter().find(|(_, place)| place.contains(at)).map(|(number, _)| number)
    }

    /// A line was clicked: a camera may be dragged from it; a double click takes it.
    fn click(&mut self, app: &mut App, at: Position) {
        let Some(row) = self.row_at(app, at) else { return };
        self.row = row;
        app.dragged = self.lines(app).into_iter().nth(row).and_then(|line| line.camera).map(Dragged::Camera);
        if app.is_double_click(row) {
            self.take(app);
        }
    }
}

/// On the right, so that most of the wall can still be seen and a camera dragged onto a tile.
fn place(app: &App) -> Rect {
    let area = app.area;
    let width = (area.width * 2 / 5).clamp(50, 76).min(area.width);
    Rect { x: area.right() - width, y: area.y + 1, width, height: area.height.saturating_sub(2) }
}

/// The lines that match what was typed, the best first; all of them while nothing was.
fn matching(lines: Vec<Line>, typed: &str) -> Vec<Line> {
    if typed.trim().is_empty() {
        return lines;
    }
    let pattern = Pattern::parse(typed, CaseMatching::Ignore, Normalization::Smart);
    let mut matcher = Matcher::new(Config::DEFAULT);
    let mut buffer = Vec::new();
    let mut found: Vec<(u32, Line)> = lines
        .into_iter()
        .filter_map(|line| Some((pattern.score(Utf32Str::new(&line.label, &mut buffer), &mut matcher)?, line)))
        .collect();
    found.sort_by_key(|(score, _)| std::cmp::Reverse(*score));
    found.into_iter().map(|(_, line)| line).collect()
}

impl Page for Picker {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        let whole = place(app);
        let inner = panel(theme, whole, whole.width, whole.height, buf);
        let line = |y: u16| Rect { y: inner.y + y, height: 1, ..inner };
        Text::styled(self.title, theme.tone(Tone::Bright)).render(line(0), buf);
        let typed = Text::from(vec![
            Span::styled("▸ ", theme.tone(Tone::Here)),
            Span::styled(self.input.value().to_owned(), theme.tone(Tone::Text)),
            Span::styled("▏", theme.tone(Tone::Here)),
        ]);
        typed.render(line(1), buf);
        let named = matches!(self.what, What::Text(_));
        let hint = if named { "enter done  esc back" } else { "type to filter  ↑ ↓ select  enter take  esc back" };
        Text::styled(hint, theme.tone(Tone::Faint)).render(line(2), buf);
        let lines = self.lines(app);
        if lines.is_empty() && !named {
            let text = Text::styled("nothing is called like this", theme.tone(Tone::Text));
            text.render(Rect { height: 1, ..list_area(app) }, buf);
        }
        for (number, place) in self.shown(app, &lines) {
            draw_line(&lines[number], number == self.row.min(lines.len() - 1), theme, place, buf);
        }
        Vec::new()
    }

    fn text(&mut self) -> Option<&mut Input> {
        Some(&mut self.input)
    }

    fn typed(&mut self, _: &mut App) {
        self.row = 0;
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        match mouse {
            Mouse::Press(at) => self.click(app, at),
            Mouse::Wheel(by, _) => self.select(app, by),
            Mouse::Release(at) if self.row_at(app, at).is_none() => app.drop_at(at),
            Mouse::Release(_) => app.dragged = None,
            Mouse::Drag(_) => {}
        }
    }
}

/// Where the lines of a list stand.
fn list_area(app: &App) -> Rect {
    let inner = place(app).inner(Margin { horizontal: 2, vertical: 1 });
    Rect { y: inner.y + 4, height: inner.height.saturating_sub(4), ..inner }
}

/// What a line says besides and its key: it stands on the right.
fn beside(line: &Line) -> String {
    if line.key.is_empty() { line.detail.clone() } else { format!("{}  {}", line.detail, line.key) }
}

/// The label in as many rows as it needs.
fn label(line: &Line, width: u16) -> Vec<String> {
    let room = usize::from(width).saturating_sub(beside(line).width() + 4).max(8);
    let rows = textwrap::wrap(&line.label, room);
    if rows.is_empty() { vec![String::new()] } else { rows.into_iter().map(std::borrow::Cow::into_owned).collect() }
}

fn draw_line(line: &Line, selected: bool, theme: Theme, area: Rect, buf: &mut Buffer) {
    let (mark, tone) = if selected { ("▸ ", Tone::Here) } else { ("  ", Tone::Text) };
    for ((row, text), mark) in (0..).zip(label(line, area.width)).zip(std::iter::once(mark).chain(std::iter::repeat("  "))) {
        let place = Rect { y: area.y + row, height: 1, ..area };
        Text::from(vec![Span::styled(mark, theme.tone(Tone::Here)), Span::styled(text, theme.tone(tone))]).render(place, buf);
    }
    let right = Text::from(vec![
        Span::styled(line.detail.clone(), theme.tone(Tone::Faint)),
        Span::styled(if line.key.is_empty() { String::new() } else { format!("  {}", line.key) }, theme.tone(Tone::Here)),
    ]);
    right.right_aligned().render(Rect { height: 1, ..area }, buf);
}
