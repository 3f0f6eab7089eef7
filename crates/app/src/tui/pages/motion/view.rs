//! How the page of motion looks: the picture with what is drawn in it and what moves, under it how watching goes.

use super::MotionPage;
use crate::tui::app::App;
use crate::tui::app::sights::lies_in;
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::plate::short_span;
use crate::tui::widgets::tile;
use lattice_core::lattice::Aspect;
use lattice_core::motion::{COLUMNS, Outline, Place, ROWS, Shape, Stage, Way};
use lattice_engine::{ALWAYS, FeedKey, MotionState};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;

/// Rows under the picture besides those of the shapes.
const BELOW: u16 = 3;
/// Activity below this is over.
const MOVES_FROM: u8 = 60;

/// Where the picture stands.
pub fn picture(body: Rect, shapes: usize) -> Rect {
    let below = (BELOW + shapes as u16).min(body.height / 2);
    Rect { height: body.height.saturating_sub(below), ..body }
}

pub fn draw(
    app: &App,
    page: &MotionPage,
    theme: Theme,
    body: Rect,
    painters: &mut [TilePainter],
    buf: &mut Buffer,
) -> Vec<FeedKey> {
    let (Some(key), Some(painter)) = (page.key, painters.first_mut()) else { return Vec::new() };
    let shapes = page.shapes(app);
    let place = picture(body, shapes.len());
    let drawn = tile::picture(app, theme, key, Aspect::Fit, painter, place, buf);
    if let Some(source) = app.pictures.get(&key).map(|picture| picture.source).filter(|_| drawn) {
        let lies = lies_in(place, source, app.cell_aspect);
        activity(app, key, theme, lies, buf);
        for (n, shape) in shapes.iter().enumerate() {
            let tone = if n == page.chosen && page.corners.is_empty() { Tone::Here } else { Tone::Text };
            outline(&shape.outline, theme.tone(tone).patch(tile::on_ground(theme)), lies, buf);
        }
        let style = theme.tone(Tone::Bright).patch(tile::on_ground(theme));
        path(&page.corners, style, lies, buf);
        put(page.pen, "┼", style, lies, buf);
    }
    let below = Rect { y: place.bottom(), height: body.bottom().saturating_sub(place.bottom()), ..body };
    told(app, page, theme, below, buf);
    drawn.then_some(key).into_iter().collect()
}

/// Where something moves, and where something moves always.
fn activity(app: &App, key: FeedKey, theme: Theme, lies: Rect, buf: &mut Buffer) {
    let Some(activity) = app.activity.get(&key) else { return };
    let (moves, always) = (theme.tone(Tone::Bright), theme.tone(Tone::Faint));
    for y in 0..lies.height {
        for x in 0..lies.width {
            let cell =
                usize::from(y) * ROWS / usize::from(lies.height) * COLUMNS + usize::from(x) * COLUMNS / usize::from(lies.width);
            let (text, style) = match activity.get(cell).copied().unwrap_or(0) {
                ALWAYS if (x + y) % 2 == 0 => ("╱", always),
                level if level >= MOVES_FROM && level != ALWAYS && (x + y) % 2 == 0 => ("▪", moves),
                _ => continue,
            };
            if let Some(cell) = buf.cell_mut((lies.x + x, lies.y + y)) {
                cell.set_symbol(text).set_style(style);
            }
        }
    }
}

fn outline(outline: &Outline, style: Style, lies: Rect, buf: &mut Buffer) {
    match outline {
        Outline::Area(corners) => {
            path(&[corners.as_slice(), &corners[..1]].concat(), style, lies, buf);
        }
        Outline::Line(bends, way) => {
            path(bends, style, lies, buf);
            // An arrow across its middle says which way counts.
            let (a, b) = (bends[(bends.len() - 1) / 2], bends[(bends.len() - 1) / 2 + 1]);
            let right = (a.1 - b.1, b.0 - a.0);
            let text = match (way, right.0.abs() > right.1.abs(), right.0 > 0.0, right.1 > 0.0) {
                (Way::Both, true, ..) => "◂▸",
                (Way::Both, false, ..) => "▴▾",
                (Way::ToTheRight, true, true, _) | (Way::ToTheLeft, true, false, _) => " ▸",
                (Way::ToTheRight, true, false, _) | (Way::ToTheLeft, true, true, _) => "◂ ",
                (Way::ToTheRight, false, _, true) | (Way::ToTheLeft, false, _, false) => "▾",
                (Way::ToTheRight, false, _, false) | (Way::ToTheLeft, false, _, true) => "▴",
            };
            put((f64::midpoint(a.0, b.0), f64::midpoint(a.1, b.1)), text, style, lies, buf);
        }
    }
}

/// Corners, and dots between them.
fn path(places: &[Place], style: Style, lies: Rect, buf: &mut Buffer) {
    for side in places.windows(2) {
        let (a, b) = (side[0], side[1]);
        let long = ((b.0 - a.0) * f64::from(lies.width)).hypot((b.1 - a.1) * f64::from(lies.height)).ceil().max(1.0);
        for n in 1..long as u32 {
            let share = f64::from(n) / long;
            put((a.0 + (b.0 - a.0) * share, a.1 + (b.1 - a.1) * share), "·", style, lies, buf);
        }
    }
    for place in places {
        put(*place, "•", style, lies, buf);
    }
}

fn put(at: Place, text: &str, style: Style, lies: Rect, buf: &mut Buffer) {
    let cell = |share: f64, side: u16| ((share * f64::from(side)) as u16).min(side.saturating_sub(1));
    let (x, y) = (lies.x + cell(at.0, lies.width), lies.y + cell(at.1, lies.height));
    if lies.contains((x, y).into()) {
        buf.set_stringn(x, y, text, usize::from(lies.right() - x), style);
    }
}

fn told(app: &App, page: &MotionPage, theme: Theme, area: Rect, buf: &mut Buffer) {
    let row = |n: usize| Rect { y: area.y + n as u16, height: 1, ..area }.intersection(area);
    let state = app.known.motion.get(&page.name);
    let shapes = page.shapes(app);
    let (tone, text) = stage(app, state);
    let head =
        Line::from(vec![Span::styled(format!("{}  ", page.name), theme.tone(Tone::Here)), Span::styled(text, theme.tone(tone))]);
    head.render(row(0), buf);
    let wide = shapes.iter().map(|shape| shape.name.chars().count()).max().unwrap_or(0);
    for (n, shape) in shapes.iter().enumerate() {
        let chosen = n == page.chosen;
        let mark = if chosen { "▸" } else { " " };
        let tone = if chosen { Tone::Here } else { Tone::Text };
        let name = Span::styled(format!("{mark} {:<wide$}  ", shape.name), theme.tone(tone));
        let rest = Span::styled(seen(app, state, n, shape), theme.tone(Tone::Calm));
        Line::from(vec![name, rest]).render(row(n + 1), buf);
    }
    let hint = match page.corners.len() {
        0 if shapes.is_empty() => "space or a click puts a corner; then a makes an area of them, n a line",
        0 => "what moves is marked ▪, what moves always ╱ is not looked at",
        1 => "one corner: an area needs 3, a line 2",
        2 => "two corners: n makes a line of them, a third one an area",
        _ => "a makes an area of these corners, n a line; backspace takes one back",
    };
    Line::styled(hint, theme.tone(Tone::Faint)).render(row(shapes.len() + 1), buf);
}

/// How watching goes.
fn stage(app: &App, state: Option<&MotionState>) -> (Tone, String) {
    let Some(state) = state else { return (Tone::Calm, "nothing is watched in its picture yet".into()) };
    match state.stage {
        None => (Tone::Alarm, "not watched: nothing is left to decode it with; show fewer cameras, or raise the budget".into()),
        Some(Stage::Waiting) => (Tone::Bright, "not watched: no picture comes".into()),
        Some(Stage::Learning(until)) => {
            let left = until.since(app.now).as_secs_f64().ceil();
            (Tone::Bright, format!("learns what is usual, {left:.0} s more"))
        }
        Some(Stage::Watching) => {
            let by = state.by.map_or(String::new(), |key| format!(" by its {} stream", key.role.word()));
            (Tone::Calm, format!("is watched{by}"))
        }
    }
}

/// What a shape is, and what was seen of it.
fn seen(app: &App, state: Option<&MotionState>, n: usize, shape: &Shape) -> String {
    let what = match &shape.outline {
        Outline::Area(_) => "area",
        Outline::Line(_, Way::Both) => "line, both ways",
        Outline::Line(_, Way::ToTheRight) => "line, to its right",
        Outline::Line(_, Way::ToTheLeft) => "line, to its left",
    };
    let least = if shape.least > 0.0 { format!(", from {:.0} % of the height", shape.least * 100.0) } else { String::new() };
    let state = state.and_then(|state| state.shapes.get(n)).filter(|state| state.name == shape.name);
    let Some(state) = state else { return format!("{what}{least}") };
    let last = state.last.map_or(String::new(), |last| format!(", last {} ago", short_span(app.now.since(last))));
    let blind = if state.blind >= 0.005 { format!("  {:.0} % of it moves always", state.blind * 100.0) } else { String::new() };
    format!("{what}{least}  seen {}{last}{blind}", state.seen)
}
