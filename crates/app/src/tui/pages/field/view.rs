//! The field on the screen: cells or lanes on the left, the selected camera from near on the right.

use super::{Field, Item, Order};
use crate::tui::app::App;
use crate::tui::theme::{Theme, Tone, sign};
use crate::tui::widgets::{closeup, lane, plate};
use lattice_core::Verdict;
use lattice_core::meter::{Fig, Figures, Span as Past};
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Modifier;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;

/// Columns for the selected camera, from so many on.
const NEAR: u16 = 52;
const NEAR_FROM: u16 = 110;
/// Columns of a camera with its name.
const NAMED: u16 = 20;
/// Columns of a name before its lane.
const NAME: u16 = 24;

/// Where the selected camera stands.
#[derive(Debug, Clone, Copy)]
pub struct Near {
    /// Its picture.
    pub picture: Rect,
    /// What is known of it.
    pub text: Rect,
    /// Its last ten minutes.
    pub past: Rect,
}

/// Where everything stands.
#[derive(Debug, Clone, Copy)]
pub struct Places {
    /// One line: how many, and what they are.
    pub title: Rect,
    /// All cameras.
    pub cells: Rect,
    /// The selected one, where there is room.
    pub near: Option<Near>,
    /// Its plate, where there is none.
    pub plate: Rect,
}

/// Divides the page.
pub fn places(app: &App, body: Rect) -> Places {
    let title = Rect { height: 1.min(body.height), ..body };
    let rest = Rect { y: body.y + 2, height: body.height.saturating_sub(2), ..body };
    if body.width < NEAR_FROM || rest.height < 20 {
        let plate = Rect { y: rest.bottom().saturating_sub(1), height: 1.min(rest.height), ..rest };
        return Places { title, cells: Rect { height: rest.height.saturating_sub(2), ..rest }, near: None, plate };
    }
    let right = Rect { x: rest.right() - NEAR, width: NEAR, ..rest };
    let high = (f64::from(NEAR) * app.cell_aspect * 9.0 / 16.0).round() as u16;
    let picture = Rect { height: high.min(right.height / 2), ..right };
    let past = Rect { y: right.bottom().saturating_sub(5), height: 4, ..right };
    let text = Rect { y: picture.bottom() + 1, height: past.y.saturating_sub(picture.bottom() + 2), ..right };
    let cells = Rect { width: rest.width - NEAR - 3, ..rest };
    Places { title, cells, near: Some(Near { picture, text, past }), plate: Rect::default() }
}

/// A row of the field.
enum Row {
    /// A group with the first of its cameras and how many it has.
    Group(usize, usize),
    /// Cameras from one to before another.
    Cells(usize, usize),
}

/// The rows, the cells that a camera takes, and the first row that is shown.
struct Rows {
    all: Vec<Row>,
    each: u16,
    first: usize,
}

fn rows(page: &Field, items: &[Item<'_>], area: Rect) -> Rows {
    let build = |each: u16| {
        let across = if page.lanes { 1 } else { usize::from((area.width / each).max(1)) };
        let mut rows = Vec::new();
        let mut at = 0;
        while at < items.len() {
            let same = |item: &&Item<'_>| item.group == items[at].group;
            let grouped = page.order == Order::Group;
            let end = if grouped { at + items[at..].iter().take_while(same).count() } else { items.len() };
            if grouped {
                rows.push(Row::Group(at, end - at));
            }
            rows.extend((at..end).step_by(across).map(|from| Row::Cells(from, (from + across).min(end))));
            at = end;
        }
        rows
    };
    // As wide as lets all of them fit: with names, two cells, at last one.
    let fits = |each: u16| Some((build(each), each)).filter(|(rows, _)| page.lanes || rows.len() <= usize::from(area.height));
    let (rows, each) = fits(NAMED).or_else(|| fits(2)).unwrap_or_else(|| (build(1), 1));
    let place = page.place(items);
    let selected = rows.iter().position(|row| matches!(row, Row::Cells(from, to) if (*from..*to).contains(&place)));
    let (selected, height) = (selected.unwrap_or(0), usize::from(area.height));
    // The heading of its group too, where it is the row above.
    let above = selected.saturating_sub(usize::from(selected > 0 && matches!(rows[selected - 1], Row::Group(..)) && height > 1));
    let first = page.top.get().min(above).max((selected + 1).saturating_sub(height));
    page.top.set(first);
    Rows { all: rows, each, first }
}

/// The camera at a place.
pub fn item_at(page: &Field, items: &[Item<'_>], area: Rect, at: Position) -> Option<usize> {
    let field = rows(page, items, area);
    let row = field.all.get(field.first + usize::from(at.y.checked_sub(area.y)?)).filter(|_| area.contains(at))?;
    let Row::Cells(from, to) = row else { return None };
    let column = if page.lanes { 0 } else { usize::from((at.x - area.x) / field.each) };
    Some(from + column).filter(|index| index < to)
}

/// The camera some rows below the selected one, or above.
pub fn row_beside(page: &Field, items: &[Item<'_>], area: Rect, by: i32) -> Option<usize> {
    let field = rows(page, items, area);
    let cells: Vec<(usize, usize)> =
        field.all.iter().filter_map(|row| if let Row::Cells(from, to) = row { Some((*from, *to)) } else { None }).collect();
    let place = page.place(items);
    let here = cells.iter().position(|(from, to)| (*from..*to).contains(&place))?;
    let next = (here as i32 + by).clamp(0, cells.len() as i32 - 1) as usize;
    let (from, to) = cells[next];
    Some((from + (place - cells[here].0)).min(to - 1))
}

/// Draws all but the picture.
pub fn draw(app: &App, page: &Field, theme: Theme, places: &Places, buf: &mut Buffer) {
    let items = page.items(app);
    title(app, page, theme, &items, places.title, buf);
    if items.is_empty() {
        let text =
            if page.sift.is_empty() { "no camera is here yet: esc, then c opens the roster" } else { "no camera is like this" };
        Line::styled(text, theme.tone(Tone::Text)).render(Rect { height: places.cells.height.min(1), ..places.cells }, buf);
        return;
    }
    cells(app, page, theme, &items, places.cells, buf);
    let item = &items[page.place(&items)];
    if let Some(near) = places.near {
        about(app, theme, item, near.text, buf);
        if let Some(key) = item.key {
            closeup::past(app, theme, key, near.past, buf);
        }
    } else if let Some(key) = item.key {
        plate::draw(app, theme, plate::Subject { key, name: item.name, tile: None, selected: true }, places.plate, buf);
    } else {
        Line::styled(format!("{}: no stream is open", item.name), theme.tone(Tone::Calm)).render(places.plate, buf);
    }
}

/// How many cameras of each kind.
fn counts(items: &[Item<'_>], theme: Theme) -> Vec<Span<'static>> {
    let count = |kind: Verdict| (kind, items.iter().filter(|item| item.verdict == kind).count());
    let kinds = Verdict::WORST_FIRST.into_iter().map(count).filter(|(_, count)| *count > 0);
    kinds
        .map(|(kind, count)| Span::styled(format!("  {} {count} {kind}", sign(kind)), theme.tone(Theme::verdict(kind))))
        .collect()
}

fn title(app: &App, page: &Field, theme: Theme, items: &[Item<'_>], area: Rect, buf: &mut Buffer) {
    let all = app.cameras.iter().count();
    let shown = if page.sift.is_empty() { format!("  {all} cameras") } else { format!("  {} of {all} cameras", items.len()) };
    let mut spans = vec![
        Span::styled("Field", theme.tone(Tone::Text)),
        Span::styled(format!("{shown}, {}", page.order.words()), theme.tone(Tone::Calm)),
    ];
    if !page.filter.is_empty() {
        spans.push(Span::styled(format!("  with {}", page.filter.trim()), theme.tone(Tone::Bright)));
    }
    if !page.ticked.is_empty() {
        spans.push(Span::styled(format!("  {} ticked: w makes a lattice", page.ticked.len()), theme.tone(Tone::Here)));
    }
    spans.extend(counts(items, theme));
    Line::from(spans).render(area, buf);
}

fn cells(app: &App, page: &Field, theme: Theme, items: &[Item<'_>], area: Rect, buf: &mut Buffer) {
    let field = rows(page, items, area);
    let place = page.place(items);
    for (row, y) in field.all.iter().skip(field.first).zip(area.top()..area.bottom()) {
        let line = Rect { y, height: 1, ..area };
        match row {
            Row::Group(from, count) => {
                let group = if items[*from].group.is_empty() { "in no group" } else { items[*from].group };
                let mut spans = vec![Span::styled(format!("{group} {count}"), theme.tone(Tone::Faint))];
                spans.extend(counts(&items[*from..from + count], theme));
                Line::from(spans).render(line, buf);
            }
            Row::Cells(from, to) => {
                for (index, item) in items.iter().enumerate().take(*to).skip(*from) {
                    let x = area.x + (index - from) as u16 * field.each;
                    let here = Rect { x, y, width: if page.lanes { NAME.min(area.width) } else { field.each }, height: 1 };
                    cell(page, theme, item, here, buf);
                    if page.lanes {
                        let rest = Rect { x: area.x + NAME + 1, width: area.width.saturating_sub(NAME + 1), ..line };
                        past(app, theme, item, rest, buf);
                    }
                    if index == place {
                        buf.set_style(here, theme.tone(Tone::Here).add_modifier(Modifier::REVERSED));
                    }
                }
            }
        }
    }
}

/// One camera: its verdict by shape and tone, and whether it is ticked; before a lane with its name.
fn cell(page: &Field, theme: Theme, item: &Item<'_>, area: Rect, buf: &mut Buffer) {
    let tone = if item.alarm { Tone::Alarm } else { Theme::verdict(item.verdict) };
    let ticked = page.ticked.contains(&item.id);
    if page.lanes || area.width >= NAMED {
        let name = plate::cut_name(item.name, usize::from(area.width).saturating_sub(3));
        let tick = if ticked { "✓" } else { " " };
        let spans = [
            Span::styled(sign(item.verdict), theme.tone(tone)),
            Span::styled(tick, theme.tone(Tone::Here)),
            Span::styled(name, theme.tone(if item.alarm { Tone::Bright } else { Tone::Calm })),
        ];
        Line::from(spans.to_vec()).render(area, buf);
        return;
    }
    // A single cell has room for one of both.
    let shape = if ticked && area.width < 2 { "✓" } else { sign(item.verdict) };
    buf.set_string(area.x, area.y, shape, theme.tone(if ticked && area.width < 2 { Tone::Here } else { tone }));
    if ticked && area.width > 1 {
        buf.set_string(area.x + 1, area.y, "✓", theme.tone(Tone::Here));
    }
}

/// The last hour of a camera.
fn past(app: &App, theme: Theme, item: &Item<'_>, area: Rect, buf: &mut Buffer) {
    let Some(past) = item.key.and_then(|key| app.history.get(&key)) else { return };
    lane::draw(theme, &past.over(app.now, Past::Hour), Past::Hour.duration().as_secs_f64(), None, area, buf);
}

/// What is known of the selected one.
fn about(app: &App, theme: Theme, item: &Item<'_>, area: Rect, buf: &mut Buffer) {
    let figures = item.key.and_then(|key| app.figures.get(&key));
    let mut lines = vec![Line::from(vec![
        Span::styled(format!("{} ", sign(item.verdict)), theme.tone(Theme::verdict(item.verdict))),
        Span::styled(item.name.to_owned(), theme.tone(Tone::Here)),
        Span::styled(format!("  {}", item.verdict), theme.tone(Theme::verdict(item.verdict))),
        Span::styled(if item.alarm { "  in alarm: G" } else { "" }, theme.tone(Tone::Alarm)),
    ])];
    let pair = |label: &str, text: String| {
        Line::from(vec![
            Span::styled(format!("{label:<11}"), theme.tone(Tone::Faint)),
            Span::styled(text, theme.tone(Tone::Calm)),
        ])
    };
    if let Some(text) = figures.and_then(|figures| figures.text.clone()) {
        lines.push(Line::styled(text, theme.tone(Tone::Text)));
    }
    let kept = app.site.camera(item.name);
    let at = [item.group.to_owned(), kept.and_then(|camera| camera.address.clone()).unwrap_or_default()];
    lines.push(pair("place", at.into_iter().filter(|text| !text.is_empty()).collect::<Vec<_>>().join("  ")));
    match (item.key, figures) {
        (Some(key), Some(figures)) => {
            lines.extend(figure_lines(&app.stream_name(key), figures).map(|(label, text)| pair(label, text)));
        }
        (Some(_), None) => lines.push(pair("stream", "opens".into())),
        (None, _) => lines.push(pair("stream", "none is open: it is switched off, or its streams are not known".into())),
    }
    for (line, y) in lines.into_iter().zip(area.top()..area.bottom()) {
        line.render(Rect { y, height: 1, ..area }, buf);
    }
}

fn figure_lines(stream: &str, figures: &Figures) -> impl Iterator<Item = (&'static str, String)> {
    let said = |fig: Fig| fig.row().written((fig.row().value)(figures));
    let size = figures.size.map_or_else(|| "–".to_owned(), |(width, height)| format!("{width}×{height}"));
    let codec = figures.codec.clone().unwrap_or_default();
    let by = figures.transport.map_or("", |transport| transport.word());
    [
        ("stream", format!("{stream}  {codec}  {by}")),
        ("resolution", size),
        ("frame rate", format!("{} sent, {} arrived, of {} /s", said(Fig::Sent), said(Fig::Arrived), said(Fig::Declared))),
        ("latency", format!("{} ms, p95 {} ms", said(Fig::Latency), said(Fig::LatencyP95))),
        ("loss", format!("{} % in 10 s", said(Fig::Loss))),
        ("bitrate", format!("{} kbit/s", said(Fig::BitrateTen))),
        ("dropouts", format!("{} in the last hour", said(Fig::DropoutsHour))),
    ]
    .into_iter()
}
