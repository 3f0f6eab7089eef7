//! One tile: picture, what must be said over it, brackets, plate, pulse.

use super::{plate, pulse, trace};
use crate::tui::app::App;
use crate::tui::app::regions::TileRegion;
use crate::tui::theme::{Theme, Tone};
use lattice_core::check::{advice_of, phrase_of};
use lattice_core::lattice::Aspect;
use lattice_core::meter::Figures;
use lattice_core::view::{View, Zoom};
use lattice_core::{Cause, FrameRate, Verdict};
use lattice_engine::{FeedKey, short_words};
use lattice_media::{Condition, TilePicture};
use lattice_term::{Freshness, Look, TilePainter};
use ratatui::buffer::Buffer;
use ratatui::layout::{Alignment, Rect};
use ratatui::style::Style;
use ratatui::text::Line;
use ratatui::widgets::{Clear, Paragraph, Widget as _};
use std::borrow::Cow;
use std::hash::{DefaultHasher, Hash as _, Hasher as _};
use std::sync::Arc;
use std::time::Duration;
use tui_big_text::{BigText, PixelSize};
use unicode_width::UnicodeWidthStr as _;

/// Draws the picture of a tile, with what must be said over it; true when it is on the screen.
pub fn draw_picture(app: &App, theme: Theme, region: &TileRegion, painter: &mut TilePainter, buf: &mut Buffer) -> bool {
    let Some(tile) = app.tile_at(region.tile) else { return false };
    let aspect = app.placed(region.tile).map(|placed| placed.aspect).unwrap_or_default();
    let seen = Seen { place: region.tile, aspect, view: app.view(region.tile) };
    // What is wrong with the stream itself goes before what this machine leaves out of it.
    let figures = app.figures.get(&tile.key());
    let own_trouble =
        figures.is_some_and(|figures| matches!(figures.verdict, Verdict::Lost | Verdict::Locked | Verdict::Stalled));
    let drawn = if tile.keyframes && !own_trouble {
        let drawn = paint_keyframe(app, tile.key(), &seen, painter, region.picture, buf);
        let foot = Rect { y: region.picture.bottom().saturating_sub(1), ..corner(region) };
        sign(theme, Tone::Bright, " keyframes only ", foot.intersection(region.picture), buf);
        drawn
    } else if let Some(short) = tile.short.filter(|_| !own_trouble) {
        let words = short_words(short);
        let lines = [words.clone(), "o shows the plan; hold fewer tiles on main, or raise the budget in the site".into()];
        let drawn = paint(app, tile.key(), &seen, painter, region.picture, buf).is_some();
        message_or(theme, Tone::Bright, short.phrase(), &lines, region.picture, buf);
        drawn
    } else {
        picture_as(app, theme, tile.key(), &seen, painter, region.picture, buf)
    };
    if region.tile == app.selected && !app.enlarged {
        brackets(theme, region.picture, buf);
    }
    drawn
}

/// Draws a tile; true when its picture is on the screen.
pub fn draw(app: &App, theme: Theme, region: &TileRegion, painter: &mut TilePainter, buf: &mut Buffer) -> bool {
    let Some(tile) = app.tile_at(region.tile) else { return false };
    let figures = app.figures.get(&tile.key());
    let drawn = draw_picture(app, theme, region, painter, buf);
    let selected = region.tile == app.selected;
    let subject = plate::Subject { key: tile.key(), name: app.name(tile), tile: Some(tile), selected };
    let said = said_beside(app, theme, subject);
    painter.beside.put([region.plate, region.pulse], said, app.now, buf, |buf| {
        plate::draw(app, theme, subject, region.plate, buf);
        if let Some(figures) = figures.filter(|_| !region.pulse.is_empty()) {
            pulse::draw(theme, figures, app.thresholds(tile.key()).arrived, region.pulse, buf);
        }
    });
    drawn
}

/// Stands for what plate and pulse of a tile tell.
fn said_beside(app: &App, theme: Theme, subject: plate::Subject<'_>) -> u64 {
    let mut said = DefaultHasher::new();
    app.figures.get(&subject.key).map(Arc::as_ptr).hash(&mut said);
    (subject.tile, subject.name, subject.selected, app.enlarged, theme.light, theme.brightness, theme.solid).hash(&mut said);
    said.finish()
}

/// Why an old picture stands on the screen though the stream goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Held {
    No,
    /// No clean one came out of the decoder.
    ByDecoder,
    /// The terminal has not taken the whole of a newer one.
    ByTerminal,
}

/// Paints the newest picture of a stream, dim where it is old; `None` where there is none, else whether it is held.
fn paint(app: &App, key: FeedKey, seen: &Seen, painter: &mut TilePainter, area: Rect, buf: &mut Buffer) -> Option<Held> {
    let figures = app.figures.get(&key);
    let shown = app.picture_of(key, seen.place, &seen.view);
    let picture = shown.map(|(picture, _)| picture);
    let verdict = figures.map_or(Verdict::Waiting, |figures| figures.verdict);
    let live = matches!(verdict, Verdict::Steady | Verdict::Strained | Verdict::Waiting);
    let age = |picture: &TilePicture| app.now.since(picture.ready.max(app.same_tiles_since));
    let held = match picture.zip(figures).is_some_and(|(picture, figures)| is_held(age(picture), figures)) {
        true if app.unfinished.contains(&key) => Held::ByTerminal,
        true => Held::ByDecoder,
        false => Held::No,
    };
    let live = live && held == Held::No && figures.is_none_or(|figures| figures.dropout_now.is_none());
    let freshness = if live { Freshness::Live } else { Freshness::Old };
    let painted = shown.is_some_and(|(picture, cut)| {
        let traced = trace::of(app, key, picture);
        let picture = traced.as_ref().unwrap_or(picture);
        painter.paint(key.number(), picture, area, seen.look(picture, freshness, cut), buf)
    });
    painted.then_some(held)
}

/// Paints the newest keyframe of a stream of which nothing else is decoded; whether there is one.
fn paint_keyframe(app: &App, key: FeedKey, seen: &Seen, painter: &mut TilePainter, area: Rect, buf: &mut Buffer) -> bool {
    let interval = app.figures.get(&key).and_then(|figures| figures.keyframe_longest).unwrap_or(Duration::from_secs(10));
    app.picture_of(key, seen.place, &seen.view).is_some_and(|(picture, cut)| {
        let old = app.now.since(picture.ready) > interval * 2 + Duration::from_secs(1);
        let freshness = if old { Freshness::Old } else { Freshness::Live };
        painter.paint(key.number(), picture, area, seen.look(picture, freshness, cut), buf)
    })
}

/// What a place shows of a picture, and how.
#[derive(Debug, Clone, Copy)]
struct Seen {
    place: usize,
    aspect: Aspect,
    view: View,
}

impl Seen {
    fn look(&self, picture: &TilePicture, freshness: Freshness, cut: Option<[u16; 4]>) -> Look {
        // A view into a picture of all around is made for its place.
        let aspect = if matches!(picture.view, View::Flat(_)) { self.aspect } else { Aspect::Stretch };
        Look { freshness, aspect, view: picture.view, cut }
    }
}

/// Draws a stream's picture with what must be read before it is believed; whether there is one.
pub fn picture(
    app: &App,
    theme: Theme,
    key: FeedKey,
    aspect: Aspect,
    painter: &mut TilePainter,
    area: Rect,
    buf: &mut Buffer,
) -> bool {
    picture_as(app, theme, key, &Seen { place: 0, aspect, view: View::WHOLE }, painter, area, buf)
}

fn picture_as(
    app: &App,
    theme: Theme,
    key: FeedKey,
    seen: &Seen,
    painter: &mut TilePainter,
    area: Rect,
    buf: &mut Buffer,
) -> bool {
    let painted = paint(app, key, seen, painter, area, buf);
    let drawn = painted.is_some();
    match app.figures.get(&key) {
        Some(figures) => said_over(theme, figures, (drawn, painted.unwrap_or(Held::No)), area, app, buf),
        None => message(theme, Tone::Waiting, &["opening".into()], area, buf),
    }
    if drawn && app.pictures.get(&key).is_some_and(|picture| picture.condition == Condition::Damaged) {
        message(theme, Tone::Bright, &["damaged picture".into()], top(area), buf);
    }
    drawn
}

/// Draws a place without a camera that can be shown.
pub fn empty(app: &App, theme: Theme, region: &TileRegion, buf: &mut Buffer) {
    let lines = match app.placed(region.tile) {
        Some(placed) => {
            let known = app.site.camera(&placed.camera);
            let why = match known {
                None => "is not in the site: p puts another here",
                Some(camera) if camera.disabled => "is switched off: o in the roster switches it on",
                Some(_) => "has no stream that is known: d in the roster asks its device",
            };
            vec![placed.camera.clone(), why.to_owned()]
        }
        None if app.is_on_trouble() && app.tiles.is_empty() => {
            vec!["no camera is in alarm or in trouble".into(), "! leads back to what was shown".into()]
        }
        None if app.is_on_trouble() => return,
        None if region.tile == app.selected => vec!["empty".into(), "p puts a camera here, g fills all empty tiles".into()],
        None => vec!["empty".into()],
    };
    frame(theme, region.whole, buf);
    message(theme, Tone::Faint, &lines, region.picture, buf);
    if region.tile == app.selected {
        brackets(theme, region.picture, buf);
    }
}

/// A faint dotted outline, so that an empty place can be seen as one.
fn frame(theme: Theme, area: Rect, buf: &mut Buffer) {
    let style = theme.tone(Tone::Faint);
    if area.width < 2 || area.height < 2 {
        return;
    }
    for x in area.left()..area.right() {
        for y in [area.top(), area.bottom() - 1] {
            buf.set_string(x, y, "┄", style);
        }
    }
    for y in area.top() + 1..area.bottom() - 1 {
        for x in [area.left(), area.right() - 1] {
            buf.set_string(x, y, "┆", style);
        }
    }
}

/// Where signs stand over a tile.
pub fn corner(region: &TileRegion) -> Rect {
    Rect {
        x: region.picture.x + 4.min(region.picture.width),
        width: region.picture.width.saturating_sub(8),
        height: 1,
        ..region.picture
    }
}

/// Marks that stand over tiles.
pub fn signs(app: &App, theme: Theme, region: &TileRegion, buf: &mut Buffer) {
    let placed = app.placed(region.tile);
    let corner = corner(region);
    if placed.is_some_and(|placed| placed.marked) {
        sign(theme, Tone::Bright, " ◆ marked ", Rect { x: corner.x, ..corner }, buf);
    }
    match app.view(region.tile) {
        View::Flat(zoom) if zoom.is_whole() => views_into(app, theme, region, buf),
        View::Flat(zoom) => map(theme, zoom, region.picture, buf),
        View::Window(..) | View::Strip(..) => {}
    }
    if app.guest(region.tile).is_some() {
        let instead = placed.map_or("an empty tile", |placed| placed.camera.as_str());
        let tone = if app.called.contains_key(&region.tile) { Tone::Here } else { Tone::Alarm };
        sign(theme, tone, &format!(" in place of {instead}, y gives it back "), corner, buf);
    }
    if app.aids.names_until.is_some_and(|until| until > app.now) && !app.pages.has_front() {
        large_name(theme, placed.map_or("empty", |placed| placed.camera.as_str()), region.picture, buf);
    }
    if app.lifted == Some(app.tile_number(region.tile)) {
        sign(theme, Tone::Here, " lifted ", corner, buf);
    }
}

/// Columns and rows of the map of where one is in a picture of which a part is seen.
const MAP: (u16, u16) = (18, 5);

/// A map in the corner: the whole picture, and the part of it that is seen.
fn map(theme: Theme, zoom: Zoom, area: Rect, buf: &mut Buffer) {
    let (width, height) = MAP;
    if area.width < width * 3 || area.height < height * 3 {
        return;
    }
    let place = Rect { x: area.right() - width - 2, y: area.bottom() - height - 1, width, height };
    Clear.render(place, buf);
    buf.set_style(place, theme.ground());
    let part = zoom.part();
    let cell = |share: f64, side: u16| (share * f64::from(side)).round() as u16;
    let left = cell(part.left, width).min(width - 1);
    let top = cell(part.top, height).min(height - 1);
    let (right, bottom) = (left + cell(part.width, width).max(1), top + cell(part.height, height).max(1));
    for y in 0..height {
        for x in 0..width {
            let seen = (left..right).contains(&x) && (top..bottom).contains(&y);
            let (sign, tone) = if seen { ("█", Tone::Here) } else { ("░", Tone::Faint) };
            buf.set_string(place.x + x, place.y + y, sign, theme.tone(tone).patch(on_ground(theme)));
        }
    }
}

/// In the picture of a camera that sees all around: what the views of this page see of it, each with the number of its tile.
fn views_into(app: &App, theme: Theme, region: &TileRegion, buf: &mut Buffer) {
    let views = app.views_into(region.tile);
    if views.is_empty() {
        return;
    }
    let lies = app.lies(region).intersection(region.picture);
    let style = theme.tone(Tone::Here).patch(on_ground(theme));
    let cell = |(x, y): (f64, f64)| {
        let along = |share: f64, from: u16, side: u16| from + ((share * f64::from(side)) as u16).min(side.saturating_sub(1));
        (along(x, lies.x, lies.width), along(y, lies.y, lies.height))
    };
    for (number, edge) in views.iter().filter(|_| !lies.is_empty()) {
        for at in edge {
            let (x, y) = cell(*at);
            buf.set_string(x, y, "•", style);
        }
        if let Some(first) = edge.first() {
            let (x, y) = cell(*first);
            buf.set_string(x, y, number.to_string(), style);
        }
    }
}

/// A name as large as it fits, a word a line where that helps; else as usual.
fn large_name(theme: Theme, name: &str, area: Rect, buf: &mut Buffer) {
    // Every character of the large letters is as wide as every other.
    let width = |text: &str| text.chars().count() as u16;
    for (size, cell_width, cell_height) in [(PixelSize::HalfHeight, 8, 4), (PixelSize::Quadrant, 4, 4)] {
        let room = usize::from(area.width.saturating_sub(2) / cell_width);
        let lines = textwrap::wrap(name, textwrap::Options::new(room).break_words(false));
        let (columns, rows) =
            (lines.iter().map(|line| width(line)).max().unwrap_or(0) * cell_width, lines.len() as u16 * cell_height);
        if columns + 2 > area.width || rows > area.height || columns == 0 {
            continue;
        }
        let place = Rect {
            x: area.x + (area.width - columns - 2) / 2,
            y: area.y + (area.height - rows) / 2,
            width: columns + 2,
            height: rows,
        };
        Clear.render(place, buf);
        buf.set_style(place, theme.ground());
        let lines: Vec<Line<'_>> = lines.into_iter().map(Line::from).collect();
        let inner = Rect { x: place.x + 1, width: columns, ..place };
        BigText::builder().pixel_size(size).style(theme.tone(Tone::Bright)).lines(lines).centered().build().render(inner, buf);
        return;
    }
    message(theme, Tone::Bright, &[name.to_owned()], area, buf);
}

/// A sign on a ground of its own.
pub fn sign(theme: Theme, tone: Tone, text: &str, area: Rect, buf: &mut Buffer) {
    let width = (text.width() as u16).min(area.width);
    let place = Rect { width, ..area };
    Clear.render(place, buf);
    buf.set_style(place, theme.ground());
    Line::styled(text.to_owned(), theme.tone(tone)).render(place, buf);
}

fn top(area: Rect) -> Rect {
    Rect { y: area.y + area.height.min(2) / 2, height: area.height.min(1), ..area }
}

/// Whether the picture on the screen is old though the stream goes on.
fn is_held(age: Duration, figures: &Figures) -> bool {
    let rate = figures.declared.map(FrameRate::per_second).or(figures.sent).filter(|rate| *rate > 0.0);
    rate.is_some_and(|rate| age.as_secs_f64() > (3.0 / rate).max(1.0))
}

/// What an operator must read before believing the picture.
fn said_over(theme: Theme, figures: &Figures, (drawn, held): (bool, Held), area: Rect, app: &App, buf: &mut Buffer) {
    let cause = figures.cause;
    let tone = Theme::verdict(figures.verdict);
    let one = |short: &'static str, line: &str| (short, vec![line.to_owned()]);
    let (short, lines) = match figures.verdict {
        Verdict::Steady | Verdict::Strained if held == Held::ByTerminal && figures.dropout_now.is_none() => {
            one("old: terminal is slow", "old picture: the terminal takes them slowly")
        }
        Verdict::Steady | Verdict::Strained if held != Held::No || figures.dropout_now.is_some() => {
            one("held picture", "held: waiting for a clean picture")
        }
        Verdict::Steady | Verdict::Strained => return,
        Verdict::Waiting if drawn => return,
        Verdict::Waiting => ("waiting", [waiting_for(cause)].into_iter().chain(figures.text.clone()).collect()),
        Verdict::Resting => one("resting", "resting"),
        Verdict::Stalled | Verdict::Lost | Verdict::Locked => {
            let mut lines = vec![headline(figures, app)];
            lines.extend(figures.text.clone());
            lines.extend(cause.map(|cause| advice_of(cause, figures.seen).to_owned()));
            (cause.map_or(figures.verdict.word(), |cause| phrase_of(cause, figures.seen)), lines)
        }
    };
    message_or(theme, tone, short, &lines, area, buf);
}

fn waiting_for(cause: Option<Cause>) -> String {
    cause.map_or_else(|| "waiting for the first picture".into(), |cause| format!("waiting for the first picture: {cause}"))
}

fn headline(figures: &Figures, app: &App) -> String {
    let since = figures.dropout_now.map(|dropout| dropout.length + app.now.since(figures.at));
    let since = since.map_or(String::new(), |since| format!(" for {:.0} s", since.as_secs_f64().floor()));
    let cause = figures.cause.map_or(String::new(), |cause| format!(": {}", phrase_of(cause, figures.seen)));
    format!("{}{since}{cause}", figures.verdict.to_string().to_uppercase())
}

/// Text on a ground of its own in the middle of an area: as large as it needs, no larger. What does not fit whole is left out.
pub fn message(theme: Theme, tone: Tone, lines: &[String], area: Rect, buf: &mut Buffer) {
    message_or(theme, tone, "", lines, area, buf);
}

/// The same; where the first sentence does not fit whole, its short form (24 letters at most) stands alone.
pub fn message_or(theme: Theme, tone: Tone, short: &str, lines: &[String], area: Rect, buf: &mut Buffer) {
    let width = area.width.saturating_sub(if area.width < 24 { 2 } else { 4 }).min(64);
    if width < 6 || area.height == 0 {
        return;
    }
    let wrap = |line: &str| textwrap::wrap(line, usize::from(width)).into_iter().map(Cow::into_owned).collect::<Vec<String>>();
    let room = usize::from(area.height);
    let mut wrapped: Vec<String> = Vec::new();
    for line in lines {
        let rows = wrap(line);
        if wrapped.len() + rows.len() > room {
            break;
        }
        wrapped.extend(rows);
    }
    if wrapped.is_empty() && !lines.is_empty() {
        wrapped = wrap(if short.is_empty() { lines.first().map_or("", String::as_str) } else { short });
        if wrapped.len() > room {
            wrapped.truncate(room);
            if let Some(last) = wrapped.last_mut() {
                *last = plate::cut(&format!("{last} …"), usize::from(width));
            }
        }
    }
    let height = wrapped.len() as u16;
    let widest = wrapped.iter().map(|line| line.width()).max().unwrap_or(0) as u16 + 2;
    let place = Rect {
        x: area.x + (area.width - widest.min(area.width)) / 2,
        y: area.y + (area.height - height) / 2,
        width: widest.min(area.width),
        height,
    };
    Clear.render(place, buf);
    buf.set_style(place, theme.ground());
    let headline = wrapped.first().map_or(0, |_| 1);
    let text: Vec<Line<'_>> = wrapped
        .into_iter()
        .enumerate()
        .map(|(n, line)| Line::styled(line, theme.tone(if n < headline { tone } else { Tone::Text })))
        .collect();
    Paragraph::new(text).alignment(Alignment::Center).render(place, buf);
}

/// The ground behind what is drawn over a picture.
pub fn on_ground(theme: Theme) -> Style {
    Style::new().bg(theme.ground().bg.unwrap_or_default())
}

/// Corners around the selected picture.
pub fn brackets(theme: Theme, area: Rect, buf: &mut Buffer) {
    if area.width < 8 || area.height < 3 {
        return;
    }
    let style = theme.tone(Tone::Here).patch(on_ground(theme));
    let (left, right, top, bottom) = (area.x, area.right() - 3, area.y, area.bottom() - 1);
    for (x, y, text) in [(left, top, "▛▀▀"), (right, top, "▀▀▜"), (left, bottom, "▙▄▄"), (right, bottom, "▄▄▟")]
    {
        buf.set_string(x, y, text, style);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_term::ColourDepth;

    #[test]
    fn a_sentence_of_wide_letters_is_told_to_its_end() {
        let theme = Theme::new(ColourDepth::Mono);
        let area = Rect::new(0, 0, 24, 12);
        let mut buf = Buffer::empty(area);
        let text = "無信号 無信号 無信号 無信号 無信号 無信号 無信号 無信号 終";
        message(theme, Tone::Text, &[text.to_owned()], area, &mut buf);
        let letters = |wanted: &str| buf.content.iter().filter(|cell| cell.symbol() == wanted).count();
        assert_eq!((letters("無"), letters("号"), letters("終")), (8, 8, 1), "{buf:?}");
        // A word that is wider than the tile is broken, not cut.
        let mut buf = Buffer::empty(area);
        message(theme, Tone::Text, &["a-name-of-thirty-letters-at-all".to_owned()], area, &mut buf);
        let all: String = buf.content.iter().map(ratatui::buffer::Cell::symbol).collect();
        assert_eq!(all.split_whitespace().collect::<String>(), "a-name-of-thirty-letters-at-all");
    }

    fn said(short: &str, lines: &[&str], width: u16, height: u16) -> Vec<String> {
        let area = Rect::new(0, 0, width, height);
        let mut buf = Buffer::empty(area);
        let lines: Vec<String> = lines.iter().map(ToString::to_string).collect();
        message_or(Theme::new(ColourDepth::Mono), Tone::Text, short, &lines, area, &mut buf);
        let row = |y: u16| (0..width).map(|x| buf[(x, y)].symbol().to_owned()).collect::<String>().trim().to_owned();
        (0..height).map(row).filter(|row| !row.is_empty()).collect()
    }

    #[test]
    fn a_small_tile_has_the_short_form_and_no_sentence_is_cut() {
        let lines = ["STALLED for 12 s: packets lost on the path", "SETUP was answered 453", "Ask for the lighter stream."];
        assert_eq!(said("packets lost on the path", &lines, 60, 10), lines);
        assert_eq!(said("packets lost on the path", &lines, 50, 2), lines[..2], "what does not fit whole is left out");
        assert_eq!(said("packets lost on the path", &lines, 30, 1), ["packets lost on the path"]);
        assert_eq!(said("packets lost on the path", &lines, 18, 2), ["packets lost on", "the path"]);
        assert_eq!(said("packets lost on the path", &lines, 18, 1), ["packets lost on…"], "cut at a word, and it says so");
        assert!(said("packets lost on the path", &lines, 7, 1).is_empty());
    }

    #[test]
    fn every_short_form_has_24_letters_at_most() {
        let causes = Cause::ALL.iter().map(|cause| cause.phrase());
        let budgets = [
            lattice_core::plan::Short::Link,
            lattice_core::plan::Short::HostLink,
            lattice_core::plan::Short::Decoding,
            lattice_core::plan::Short::Viewers,
        ];
        for phrase in causes.chain(budgets.iter().map(|short| short.phrase())) {
            assert!(phrase.width() <= 24 && !phrase.is_empty(), "{phrase:?}");
        }
    }
}
