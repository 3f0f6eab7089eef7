//! Layouts as drawings, to pick one.

use crate::tui::app::App;
use crate::tui::app::regions;
use crate::tui::page::{Key, Keyed, Mouse, Page, back, key, leave, moves};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::panel;
use lattice_core::layout::{Layout, Preset, Screen, proposals};
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use tui_input::Input;
use unicode_width::UnicodeWidthStr as _;

/// Columns and half rows of a drawing.
const WIDTH: u16 = 23;
const HALF_ROWS: u16 = 16;

/// Columns of a drawing, with the gap beside it.
const DRAWING: u16 = WIDTH + 2;
/// The most places of an even grid that is offered.
const MOST: usize = 64;

/// The layouts, with the selected one.
#[derive(Debug)]
pub struct Layouts {
    selected: usize,
    /// The number of places that is typed.
    typed: Input,
}

/// Puts them in front, with the one selected that is shown.
pub fn open(app: &mut App) {
    let now = layouts(app).iter().position(|layout| layout == app.lattices.shown().layout());
    app.put_in_front(Layouts { selected: now.unwrap_or(0), typed: Input::default() });
}

impl Keyed for Layouts {
    const NAME: &'static str = "Layouts";
    const KEYS: &'static [Key<Self>] = &[
        moves("left h", "the layout before", |layouts: &mut Self, app| layouts.select(app, -1, 0)),
        moves("right l tab", "the next layout", |layouts: &mut Self, app| layouts.select(app, 1, 0)),
        moves("up k", "the layout above", |layouts: &mut Self, app| layouts.select(app, 0, -1)),
        moves("down j", "the layout below", |layouts: &mut Self, app| layouts.select(app, 0, 1)),
        key("enter", "take it; cameras keep their order", Self::take).hint("take"),
        back("esc v q", "back", Some("back")),
        leave(),
    ];
}

impl Layouts {
    fn select(&mut self, app: &App, columns: i32, rows: i32) {
        let step = i32::from(layout_columns(app.area)) * rows + columns;
        self.selected = self.selected.saturating_add_signed(step as isize).min(layouts(app).len().saturating_sub(1));
        self.typed.reset();
    }

    fn take(&mut self, app: &mut App) {
        app.back();
        if let Some(layout) = layouts(app).into_iter().nth(self.selected) {
            app.take_layout(layout);
        }
    }
}

impl Page for Layouts {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        draw(app, theme, self.selected, buf);
        Vec::new()
    }

    fn text(&mut self) -> Option<&mut Input> {
        Some(&mut self.typed)
    }

    /// Goes to the layout with as many places as are typed; a digit that makes too many begins anew.
    fn typed(&mut self, app: &mut App) {
        let digits = |text: &str| text.chars().filter(char::is_ascii_digit).collect::<String>();
        let typed = digits(self.typed.value());
        let last = typed.len().saturating_sub(1);
        let number = |text: &str| text.parse().ok().filter(|number| (1..=MOST).contains(number));
        let found = number(&typed).map(|number| (number, typed.as_str()));
        let found = found.or_else(|| typed.get(last..).and_then(|digit| Some((number(digit)?, digit))));
        self.typed = Input::new(found.map(|(_, text)| text.to_owned()).unwrap_or_default());
        let place = found.and_then(|(number, _)| layouts(app).iter().position(|layout| layout.count() == number));
        self.selected = place.unwrap_or(self.selected);
    }

    fn mouse(&mut self, app: &mut App, mouse: Mouse) {
        let Mouse::Press(at) = mouse else { return };
        let Some(index) = layout_at(app, self.selected, at) else { return };
        self.selected = index;
        if app.is_double_click(index) {
            self.take(app);
        }
    }
}

/// The layouts that can be picked: those that suit the cameras of the lattice first.
fn layouts(app: &App) -> Vec<Layout> {
    let mut all = proposed(app);
    let rest = Preset::ALL.map(Layout::Preset).into_iter().chain((1..=MOST).map(Layout::Even));
    let rest: Vec<Layout> = rest.filter(|layout| !all.contains(layout)).collect();
    all.extend(rest);
    all
}

/// Those that are proposed.
fn proposed(app: &App) -> Vec<Layout> {
    proposals(app.lattices.shown().cameras().len().max(1), &regions::screen(app), 16.0 / 9.0)
}

/// How many drawings of layouts stand side by side.
fn layout_columns(area: Rect) -> u16 {
    (area.width.saturating_sub(4) / DRAWING).max(1)
}

/// Where each drawing stands; the first row is that of the selected one when not all fit.
fn drawings(app: &App, selected: usize) -> Vec<(usize, Rect)> {
    let inner = inner(app);
    let columns = usize::from(layout_columns(app.area));
    // With its line below, and a gap where there is room for one.
    let height = HALF_ROWS / 2 + if inner.height < 35 { 1 } else { 2 };
    let rows = usize::from(inner.height.saturating_sub(3) / height).max(1);
    let first = (selected / columns + 1).saturating_sub(rows) * columns;
    let place = |n: usize| {
        let (column, row) = ((n % columns) as u16, (n / columns) as u16);
        Rect { x: inner.x + column * DRAWING, y: inner.y + 2 + row * height, width: DRAWING - 2, height }
    };
    (first..layouts(app).len()).take(columns * rows).map(|index| (index, place(index - first).intersection(inner))).collect()
}

fn inner(app: &App) -> Rect {
    app.area.inner(ratatui::layout::Margin { horizontal: 2, vertical: 1 })
}

/// The layout whose drawing is at this cell.
fn layout_at(app: &App, selected: usize, at: Position) -> Option<usize> {
    drawings(app, selected).into_iter().find(|(_, area)| area.contains(at)).map(|(index, _)| index)
}

/// The layouts with their number of places, the selected one with what it makes of this screen.
fn draw(app: &App, theme: Theme, selected: usize, buf: &mut Buffer) {
    panel(theme, app.area, app.area.width, app.area.height, buf);
    let inner = inner(app);
    let layouts = layouts(app);
    let Some(layout) = layouts.get(selected) else { return };
    let screen = regions::screen(app);
    let suits = layout.suits(&screen, 16.0 / 9.0);
    let places = match layout.count() {
        1 => "1 place".to_owned(),
        count => format!("{count} places"),
    };
    let said = |in_pixels: bool| {
        let cells = |(width, height): (u16, u16)| {
            let (across, down) = if u32::from(width) * u32::from(height) >= 300 { (2, 2) } else { (1, 2) };
            let pixels = format!(" ({} × {} pixels)", u32::from(width) * across, u32::from(height) * down);
            format!("{width} × {height} cells{}", if in_pixels { pixels.as_str() } else { "" })
        };
        let sizes = if suits.largest == suits.smallest {
            format!("of {}", cells(suits.largest))
        } else {
            format!("from {} to {}", cells(suits.smallest), cells(suits.largest))
        };
        let lost = layout.gives_up(&screen);
        let full = if lost > 0.005 { format!(", no empty place: {:.0} % smaller for it", lost * 100.0) } else { String::new() };
        format!("{}: {places}, {sizes}{full}, {:.0} % of the screen unused", layout.word(), suits.unused * 100.0)
    };
    // Narrow screens have no room for both.
    let text = Some(said(true)).filter(|text| text.width() + 8 <= usize::from(inner.width)).unwrap_or_else(|| said(false));
    Line::from(vec![Span::styled("Layout  ", theme.tone(Tone::Bright)), Span::styled(text, theme.tone(Tone::Text))])
        .render(Rect { height: 1, ..inner }, buf);
    let proposed = proposed(app).len();
    for (index, area) in drawings(app, selected) {
        let Some(layout) = layouts.get(index) else { continue };
        draw_one(app, theme, layout, (index == selected, index < proposed), area, buf);
    }
    let hint = Line::from(vec![
        Span::styled("1–64 ", theme.tone(Tone::Here)),
        Span::styled("number of places  ", theme.tone(Tone::Faint)),
        Span::styled("enter ", theme.tone(Tone::Here)),
        Span::styled("take  ", theme.tone(Tone::Faint)),
        Span::styled("esc ", theme.tone(Tone::Here)),
        Span::styled("back", theme.tone(Tone::Faint)),
    ]);
    hint.right_aligned().render(Rect { y: inner.bottom().saturating_sub(1), height: 1, ..inner }, buf);
}

fn draw_one(app: &App, theme: Theme, layout: &Layout, (selected, proposed): (bool, bool), area: Rect, buf: &mut Buffer) {
    let (style, tone) = if selected { (theme.tone(Tone::Here), Tone::Here) } else { (theme.tone(Tone::Calm), Tone::Faint) };
    let mut filled = vec![false; usize::from(WIDTH) * usize::from(HALF_ROWS)];
    for place in shape(app, layout) {
        for y in place.y..place.bottom() {
            for x in place.x..place.right() {
                if let Some(pixel) = filled.get_mut(usize::from(y) * usize::from(WIDTH) + usize::from(x)) {
                    *pixel = true;
                }
            }
        }
    }
    let pixel = |x: u16, y: u16| filled.get(usize::from(y) * usize::from(WIDTH) + usize::from(x)).copied().unwrap_or(false);
    for row in 0..(HALF_ROWS / 2).min(area.height.saturating_sub(1)) {
        for x in 0..WIDTH.min(area.width) {
            let symbol = match (pixel(x, row * 2), pixel(x, row * 2 + 1)) {
                (true, true) => "█",
                (true, false) => "▀",
                (false, true) => "▄",
                (false, false) => " ",
            };
            if let Some(cell) = buf.cell_mut((area.x + x, area.y + row)) {
                cell.set_symbol(symbol).set_style(style);
            }
        }
    }
    let mark = if selected { "▸ " } else { "  " };
    let note = if proposed { "  fits" } else { "" };
    let line = Line::from(vec![
        Span::styled(format!("{mark}{}", layout.count()), theme.tone(if selected { Tone::Here } else { Tone::Text })),
        Span::styled(format!("  {}{note}", layout.word()), theme.tone(tone)),
    ]);
    line.render(Rect { y: area.y + HALF_ROWS / 2, height: u16::from(area.height > HALF_ROWS / 2), ..area }, buf);
}

/// The places of a layout as this screen divides it, in half rows, with a gap between two.
fn shape(app: &App, layout: &Layout) -> Vec<Rect> {
    if let Layout::Even(count) = layout {
        let (columns, rows) = layout.even_grid_on(&regions::screen(app)).unwrap_or((*count, 1));
        let (columns, rows) = (columns.min(usize::from(WIDTH) / 2).max(1), rows.min(usize::from(HALF_ROWS) / 2).max(1));
        let (width, height) = ((WIDTH + 1) / columns as u16, HALF_ROWS / rows as u16);
        let place = |index: usize| {
            let (column, row) = ((index % columns) as u16, (index / columns) as u16);
            Rect { x: column * width, y: row * height, width: width - 1, height: height - 1 }
        };
        return (0..(*count).min(columns * rows)).map(place).collect();
    }
    let screen = Screen { width: WIDTH, height: HALF_ROWS, cell_aspect: app.cell_aspect * 2.0, gutter: 1, below: 0 };
    let places = layout.divide(&screen).into_iter();
    places
        .map(|place| Rect { x: place.x, y: place.y, width: place.width, height: place.height.saturating_sub(1).max(1) })
        .collect()
}
