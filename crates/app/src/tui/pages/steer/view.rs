//! How steering is drawn: the picture with the echo of the order on it, a map of where the head looks, its presets.

use super::SteerPage;
use crate::tui::app::App;
use crate::tui::app::sights::lies_in;
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::{plate, tile};
use lattice_core::lattice::Aspect;
use lattice_core::onvif::{Axes, Scale};
use lattice_core::steer::MovedBy;
use lattice_engine::{FeedKey, HeadState};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};

/// Columns beside the picture, where there is room for them.
const BESIDE: u16 = 34;
const FROM_COLUMNS: u16 = 100;
/// Rows of the map.
const MAP: u16 = 7;
/// What stands under the presets: the keys that the footer has no room for.
const KEYS: [&str; 4] =
    ["shift fast, ctrl slowly", "[ ] focus, space stops", "tab enter: go to a preset", "o outputs, t patrol, T its times"];
/// Rows under the picture: its plate, what was ordered, what is said.
const BELOW: u16 = 3;

/// Where the picture stands.
pub fn picture(body: Rect) -> Rect {
    let beside = if body.width >= FROM_COLUMNS { BESIDE } else { 0 };
    Rect { width: body.width - beside, height: body.height.saturating_sub(BELOW), ..body }
}

/// Where the picture of a stream really lies in its place: with its own aspect.
pub fn shown(app: &App, key: Option<FeedKey>, place: Rect) -> Rect {
    let Some(picture) = key.and_then(|key| app.pictures.get(&key)) else { return place };
    lies_in(place, picture.source, app.cell_aspect)
}

/// How far a cell is right of and above the middle, as shares of half of the picture.
pub fn from_middle(place: Rect, at: Position) -> (f64, f64) {
    let share = |at: u16, from: u16, length: u16| (f64::from(at) + 0.5 - f64::from(from)) / f64::from(length.max(1)) * 2.0 - 1.0;
    (share(at.x, place.x, place.width), -share(at.y, place.y, place.height))
}

fn beside(body: Rect) -> Option<Rect> {
    (body.width >= FROM_COLUMNS).then(|| Rect { x: body.right() - BESIDE + 2, width: BESIDE - 3, ..body })
}

fn presets(body: Rect) -> Option<Rect> {
    let beside = beside(body)?;
    let (top, below) = (MAP + 5, KEYS.len() as u16 + 1);
    Some(Rect { y: beside.y + top, height: beside.height.saturating_sub(top + below), ..beside })
}

/// The first preset that is listed, so that the selected one is.
fn first(page: &SteerPage, rows: u16) -> usize {
    (page.preset + 1).saturating_sub(usize::from(rows.max(1)))
}

/// The preset whose row this is.
pub fn preset_at(page: &SteerPage, body: Rect, at: Position) -> Option<usize> {
    let place = presets(body).filter(|place| place.contains(at))?;
    let row = first(page, place.height) + usize::from(at.y - place.y);
    (row < page.head.as_ref()?.presets.len()).then_some(row)
}

/// What an output is called: `tt:Wiper|On` is "Wiper on".
pub fn output_text(word: &str) -> String {
    let word = word.rsplit(':').next().unwrap_or(word);
    match word.split_once('|') {
        Some((name, state)) => format!("{name} {}", state.to_lowercase()),
        None => word.to_owned(),
    }
}

/// Draws the page; whether the picture is on it.
pub fn draw(
    app: &App,
    page: &SteerPage,
    theme: Theme,
    key: FeedKey,
    body: Rect,
    painter: &mut TilePainter,
    buf: &mut Buffer,
) -> bool {
    let place = picture(body);
    let drawn = tile::picture(app, theme, key, Aspect::Fit, painter, place, buf);
    let seen = shown(app, Some(key), place);
    frame(theme, page, seen, buf);
    if let Some(text) = echo(page) {
        let (text, tone) = text;
        tile::message(theme, tone, &[text], Rect { y: seen.bottom().saturating_sub(3), height: 3.min(seen.height), ..seen }, buf);
    }
    let name = app.stream_name(key);
    let line = |row: u16| Rect { y: place.bottom() + row, height: 1, ..place }.intersection(body);
    plate::draw(app, theme, plate::Subject { key, name: &name, tile: None, selected: false }, line(0), buf);
    let mut told = ordered(theme, page);
    if beside(body).is_none() {
        let preset = page.head.as_ref().and_then(|head| head.presets.get(page.preset));
        let preset = preset.map_or_else(String::new, |preset| format!("▸ {}  ", preset.name));
        told.insert(0, Span::styled(format!("STEERING  {preset}"), theme.tone(Tone::Here)));
    }
    Line::from(told).render(line(1), buf);
    let (said, tone) = said(page);
    Line::styled(said, theme.tone(tone)).render(line(2), buf);
    if let Some(beside) = beside(body) {
        head(theme, page, body, beside, buf);
    }
    drawn
}

/// The corners of the picture, and the frame that the mouse draws.
fn frame(theme: Theme, page: &SteerPage, seen: Rect, buf: &mut Buffer) {
    tile::brackets(theme, seen, buf);
    let Some((from, to, _)) = page.drag.filter(|_| page.frames) else { return };
    let (left, right) = (from.x.min(to.x), from.x.max(to.x));
    let (top, bottom) = (from.y.min(to.y), from.y.max(to.y));
    let framed = Rect { x: left, y: top, width: right - left + 1, height: bottom - top + 1 }.intersection(seen);
    tile::brackets(theme, framed, buf);
}

/// An arrow for a way.
fn arrow(way: Axes<f64>) -> &'static str {
    let turns = (way.pan.abs() > 0.05, way.tilt.abs() > 0.05);
    match (turns, way.pan > 0.0, way.tilt > 0.0) {
        ((true, true), true, true) => "↗",
        ((true, true), true, false) => "↘",
        ((true, true), false, true) => "↖",
        ((true, true), false, false) => "↙",
        ((true, false), true, _) => "→",
        ((true, false), false, _) => "←",
        ((false, true), _, true) => "↑",
        ((false, true), _, false) => "↓",
        ((false, false), ..) if way.zoom > 0.0 => "nearer",
        ((false, false), ..) => "further",
    }
}

/// The order, on the picture, until the picture has moved.
fn echo(page: &SteerPage) -> Option<(String, Tone)> {
    let head = page.head.as_ref()?;
    let way = head.ordered?;
    match head.moved {
        Some(MovedBy::After(_)) => None,
        Some(MovedBy::Not) => Some((format!("{} ordered, the picture stands still", arrow(way)), Tone::Bright)),
        Some(MovedBy::Waiting(_)) | None => Some((format!("{} ordered", arrow(way)), Tone::Here)),
    }
}

/// What is ordered now, and how long the last order took.
fn ordered(theme: Theme, page: &SteerPage) -> Vec<Span<'static>> {
    let Some(head) = page.head.as_ref().filter(|head| head.node.is_some()) else { return Vec::new() };
    let faint = |text: String| Span::styled(text, theme.tone(Tone::Faint));
    let calm = |text: String| Span::styled(text, theme.tone(Tone::Calm));
    let mut spans = vec![match head.ordered {
        Some(way) => {
            let most = [way.pan, way.tilt, way.zoom].iter().fold(0.0f64, |most, share| most.max(share.abs()));
            Span::styled(format!("{} {:.0} %", arrow(way), most * 100.0), theme.tone(Tone::Here))
        }
        None if head.moving == Some(true) => calm("on its way".into()),
        None => calm("rests".into()),
    }];
    if let Some(answered) = head.answered {
        let ms = if answered.as_millis() == 0 { "less than 1 ms".to_owned() } else { format!("{} ms", answered.as_millis()) };
        spans.extend([faint("   device answered in ".into()), calm(ms)]);
    }
    match head.moved {
        Some(MovedBy::After(delay)) => {
            spans.extend([faint("   picture moved after ".into()), calm(format!("{} ms", delay.as_millis()))]);
        }
        Some(MovedBy::Not) => spans.push(Span::styled("   picture did not move within 3 s", theme.tone(Tone::Bright))),
        Some(MovedBy::Waiting(_)) | None => {}
    }
    spans
}

/// What is wrong, or what can be done.
fn said(page: &SteerPage) -> (String, Tone) {
    match &page.head {
        None => ("asking what its head can do".into(), Tone::Waiting),
        Some(HeadState { refused: Some(why), .. }) => (why.clone(), Tone::Bright),
        Some(HeadState { said: Some(said), .. }) => (said.clone(), Tone::Bright),
        Some(HeadState { node: None, .. }) => ("asking what its head can do".into(), Tone::Waiting),
        Some(_) => ("a click centres, a frame drawn by the mouse is filled, the middle dragged steers".into(), Tone::Faint),
    }
}

/// What stands beside the picture: the map, where it looks, its presets.
fn head(theme: Theme, page: &SteerPage, body: Rect, area: Rect, buf: &mut Buffer) {
    let title = vec![Span::styled("STEERING ", theme.tone(Tone::Here)), Span::styled(page.name.clone(), theme.tone(Tone::Text))];
    Line::from(title).render(Rect { height: 1, ..area }, buf);
    let Some(head) = &page.head else { return };
    let Some(node) = &head.node else { return };
    let map = Rect { y: area.y + 2, height: MAP, ..area }.intersection(area);
    draw_map(theme, head, (node.position.pan, node.position.tilt), map, buf);
    let number = |value: Option<f64>| value.map_or_else(|| "–".to_owned(), |value| format!("{value:.1}"));
    let zoom = head.position.zoom.zip(node.position.zoom).map(|(at, scale)| scale.share(at) * 100.0);
    let zoom = zoom.map_or_else(|| "–".to_owned(), |share| format!("{share:.0} %"));
    let wide = head.view.filter(|(_, at)| head.position.zoom.is_some_and(|zoom| (at - zoom).abs() < 0.01));
    let wide = wide.map_or_else(String::new, |(wide, _)| format!("  view {wide:.0}"));
    let at = format!("pan {}  tilt {}  zoom {zoom}{wide}", number(head.position.pan), number(head.position.tilt));
    Line::styled(at, theme.tone(Tone::Calm)).render(Rect { y: map.bottom(), height: 1, ..area }.intersection(area), buf);
    let patrol = match head.patrol {
        Some(true) => "patrol waits while you steer",
        Some(false) => "patrol runs: t ends it",
        None => "",
    };
    let count = if head.presets.is_empty() { "no preset: w keeps one".into() } else { format!("presets {}", head.presets.len()) };
    let heading = Rect { y: map.bottom() + 2, height: 1, ..area }.intersection(area);
    Line::styled(count, theme.tone(Tone::Faint)).render(heading, buf);
    Line::styled(patrol, theme.tone(Tone::Here)).right_aligned().render(heading, buf);
    for (row, text) in (1..).zip(KEYS.iter().rev()) {
        let place = Rect { y: area.bottom().saturating_sub(row), height: 1, ..area };
        Line::styled(*text, theme.tone(Tone::Faint)).render(place, buf);
    }
    let Some(list) = presets(body) else { return };
    let first = first(page, list.height);
    for (row, (index, preset)) in (0..list.height).zip(head.presets.iter().enumerate().skip(first)) {
        let here = index == page.preset;
        let (mark, tone) = if here { ("▸ ", Tone::Here) } else { ("  ", Tone::Calm) };
        let mut line = vec![Span::styled(mark, theme.tone(tone)), Span::styled(preset.name.clone(), theme.tone(tone))];
        line.extend(page.stays.get(&preset.token).map(|stays| match stays.as_secs_f64() {
            0.0 => Span::styled("  not in the patrol", theme.tone(Tone::Faint)),
            seconds => Span::styled(format!("  {seconds} s"), theme.tone(Tone::Faint)),
        }));
        let line = Line::from(line);
        line.render(Rect { y: list.y + row, height: 1, ..list }, buf);
    }
}

/// Where it looks, between the ends of pan and tilt.
fn draw_map(theme: Theme, head: &HeadState, (pan, tilt): (Option<Scale>, Option<Scale>), map: Rect, buf: &mut Buffer) {
    let at = head.position.pan.zip(pan).zip(head.position.tilt.zip(tilt));
    let Some(((x, across), (y, down))) = at.filter(|_| map.height >= 3) else {
        let text = "where it looks is not told by its device";
        return Paragraph::new(text).style(theme.tone(Tone::Faint)).wrap(Wrap { trim: true }).render(map, buf);
    };
    let faint = theme.tone(Tone::Faint);
    for row in map.top()..map.bottom() {
        for column in map.left()..map.right() {
            buf.set_string(column, row, "·", faint);
        }
    }
    let column = map.x + (across.share(x) * f64::from(map.width - 1)).round() as u16;
    let row = map.y + ((1.0 - down.share(y)) * f64::from(map.height - 1)).round() as u16;
    // How wide the picture is, where that was measured at this zoom.
    let zoom = head.position.zoom.unwrap_or(0.0);
    if let Some((wide, _)) = head.view.filter(|(_, at)| (at - zoom).abs() < 0.01) {
        let half = (wide / (across.most - across.least).max(0.001) * f64::from(map.width) / 2.0).round() as u16;
        let (left, right) = (column.saturating_sub(half).max(map.x), (column + half).min(map.right() - 1));
        for x in left..=right {
            buf.set_string(x, row, "─", theme.tone(Tone::Calm));
        }
    }
    buf.set_string(column, row, "◆", theme.tone(Tone::Here));
}
