//! The ledger: what happened, newest first; or all cameras as lanes over time, in which what they share lines up.

use super::{LANE_SPANS, LedgerPage, Only};
use crate::tui::app::App;
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::list::{Column, List, Said, column, table};
use crate::tui::widgets::{around, closeup};
use lattice_core::event::EventKind;
use lattice_core::ledger::Entry;
use lattice_core::meter::Span as Past;
use lattice_core::{Role, Wall, length_text};
use lattice_engine::{Drawing, FeedKey};
use lattice_report::{Lane, lanes_page};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};
use std::time::Duration;

const COLUMNS: [Column; 7] = [
    column("when", Constraint::Length(14), 0),
    column("what", Constraint::Length(14), 0),
    column("camera", Constraint::Max(40), 0),
    column("length", Constraint::Length(9), 0),
    column("cause", Constraint::Length(26), 100),
    column("evidence", Constraint::Fill(2), 150),
    column("acknowledged", Constraint::Length(20), 116),
];
const ABOVE: u16 = 2;
/// Lines for the selected entry.
const BELOW: u16 = 6;
/// Lines for it where there is room for pictures.
const FOOT: u16 = 14;
/// Columns for the names beside the lanes.
const NAMES: u16 = 20;

/// Where the table stands.
pub fn list(app: &App, page: &LedgerPage, area: Rect) -> Option<List> {
    if page.lanes {
        return None;
    }
    let rows = page.rows(app);
    let below = if closeup::has_room(area) { FOOT + 1 } else { BELOW };
    let place = Rect { y: area.y + ABOVE, height: area.height.saturating_sub(ABOVE + below), ..area };
    Some(List { area: place, columns: COLUMNS.to_vec(), rows: rows.len(), selected: page.row(&rows) })
}

/// The sign of a kind, and its tone.
const fn sign(kind: EventKind) -> (&'static str, Tone) {
    match kind {
        EventKind::Outage | EventKind::NoPicture => ("×", Tone::Alarm),
        EventKind::Locked => ("⊘", Tone::Alarm),
        EventKind::Freeze | EventKind::Frozen => ("■", Tone::Alarm),
        EventKind::Stutter => ("▪", Tone::Bright),
        EventKind::Strained => ("≈", Tone::Bright),
        EventKind::ReportedAlarm => ("△", Tone::Alarm),
        EventKind::ClockWrong
        | EventKind::DecoderFailed
        | EventKind::SoundSilent
        | EventKind::SoundLoud
        | EventKind::SoundClipped
        | EventKind::Reported
        | EventKind::SizeChanged
        | EventKind::RateChanged
        | EventKind::NightMode
        | EventKind::DayMode
        | EventKind::TimestampsLeap => ("△", Tone::Calm),
    }
}

/// The time of day; with the date where it is not of the last day.
fn moment(at: Wall, now: Wall) -> String {
    let recent = now.micros_since(at) < 20 * 3600 * 1_000_000;
    let format = if recent { "%H:%M:%S" } else { "%d %b %H:%M" };
    crate::tui::app::local_time(at, format)
}

/// Draws the page; gives the stream whose picture is on it.
pub fn draw(
    app: &App,
    page: &LedgerPage,
    theme: Theme,
    area: Rect,
    painters: &mut [TilePainter],
    buf: &mut Buffer,
) -> Vec<FeedKey> {
    title(app, page, theme, Rect { height: 1, ..area }, buf);
    let rows = page.rows(app);
    let body = Rect { y: area.y + ABOVE, height: area.height.saturating_sub(ABOVE), ..area };
    if page.lanes {
        lanes(app, page, theme, body, buf);
        return Vec::new();
    }
    let Some(list) = list(app, page, area) else { return Vec::new() };
    if rows.is_empty() {
        let text = if app.ledger.entries().is_empty() {
            "Nothing has happened yet. Every dropout and change of a camera comes here, with its cause and the evidence for it."
        } else {
            "No entry holds all of this: / changes the words, o shows all."
        };
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(body, buf);
        return Vec::new();
    }
    let lines: Vec<Vec<Said>> = rows.iter().map(|entry| line(app, entry)).collect();
    table(theme, &list.fitting(&lines), lines, buf);
    let Some(entry) = rows.get(page.row(&rows)) else { return Vec::new() };
    let below = Rect { y: list_bottom(&rows, body), height: BELOW - 1, ..area }.intersection(area);
    let places = places(app, page, area);
    let text = places.map_or(below, |places| places.text);
    Paragraph::new(about(app, theme, entry)).wrap(Wrap { trim: true }).render(text, buf);
    let Some(places) = places else { return Vec::new() };
    if let Some(known) = page.known.of(entry) {
        around::minute(app, theme, entry, known, places.minute, buf);
    }
    let live = page.live(app);
    let is_shown = page.known.draw_pictures(app, theme, (entry, live), &places, painters, buf);
    live.filter(|_| is_shown).into_iter().collect()
}

/// Where the parts of the selected entry stand, where there is room for them.
pub fn places(app: &App, page: &LedgerPage, area: Rect) -> Option<around::Places> {
    let foot = Rect { y: area.bottom().saturating_sub(FOOT), height: FOOT.min(area.height), ..area };
    (closeup::has_room(area) && !page.lanes).then(|| around::places(foot, app.cell_aspect))
}

/// Right under the rows, or at the foot where there are many.
fn list_bottom(rows: &[&Entry], body: Rect) -> u16 {
    (body.y + rows.len() as u16 + 2).min(body.bottom().saturating_sub(BELOW - 1))
}

fn title(app: &App, page: &LedgerPage, theme: Theme, area: Rect, buf: &mut Buffer) {
    let (entries, alarms) = (app.ledger.entries().len(), app.ledger.alarms(app.utc).count());
    let mut spans = vec![Span::styled("Ledger", theme.tone(Tone::Bright))];
    let mut say = |tone, text: String| spans.push(Span::styled(format!("  {text}"), theme.tone(tone)));
    say(Tone::Text, format!("{entries} {}", if entries == 1 { "entry" } else { "entries" }));
    let tone = if alarms > 0 { Tone::Alarm } else { Tone::Calm };
    let count = match alarms {
        0 => "no alarm".to_owned(),
        1 => "1 alarm".to_owned(),
        alarms => format!("{alarms} alarms"),
    };
    say(tone, count);
    if let Some(why) = &app.record.not_kept {
        say(Tone::Bright, why.clone());
    }
    let load = app.ledger.load(app.utc);
    say(Tone::Calm, format!("{load} {} came in the last 10 minutes", if load == 1 { "alarm" } else { "alarms" }));
    match page.only {
        Only::All => {}
        Only::Running => say(Tone::Here, "only what goes on".into()),
        Only::Alarms => say(Tone::Here, "only alarms".into()),
    }
    if !page.filter.is_empty() {
        say(Tone::Here, format!("with {}", page.filter));
    }
    let record = Span::styled(format!("  record {:.1} MB", app.record.size as f64 / 1e6), theme.tone(Tone::Faint));
    let mut line = Line::from(spans);
    if app.record.size > 0 && line.width() + record.width() <= usize::from(area.width) {
        line.push_span(record);
    }
    line.render(area, buf);
}

fn line(app: &App, entry: &Entry) -> Vec<Said> {
    let (sign, tone) = sign(entry.kind);
    let calm = |text: String| (text, Tone::Calm);
    let alarm = entry.is_alarm(app.utc);
    // Of one camera every dropout counts, also those that came while it was strained all along.
    let dropouts = if entry.cameras.len() == 1 { entry.parts.times() } else { 0 };
    let times = match entry.times.max(dropouts) {
        0 | 1 => String::new(),
        times => format!(" ×{times}"),
    };
    let runs = if entry.end.is_none() { "…" } else { "" };
    // Of what comes and goes, for how long it was really gone.
    let lasted = if entry.comes_and_goes() { entry.parts.missing(app.utc) } else { entry.length(app.utc) };
    let lasted = if entry.kind.is_change() { String::new() } else { format!("{}{runs}", length_text(lasted)) };
    // That it is an alarm stands in a column of its own.
    let word = if entry.kind == EventKind::ReportedAlarm { EventKind::Reported } else { entry.kind }.word();
    let shelved = entry.shelved_until.is_some_and(|until| until > app.utc);
    let note = match (&entry.acknowledged, shelved) {
        (Some(acknowledged), _) => (format!("{} {}", acknowledged.by, moment(acknowledged.at, app.utc)), Tone::Calm),
        (None, true) => ("shelved".to_owned(), Tone::Calm),
        (None, false) if alarm => ("in alarm".to_owned(), Tone::Alarm),
        (None, false) => (String::new(), Tone::Calm),
    };
    vec![
        calm(moment(entry.start, app.utc)),
        (format!("{sign} {word}{times}"), if entry.end.is_none() { tone } else { Tone::Calm }),
        (entry.subject(), if alarm { Tone::Alarm } else { Tone::Calm }),
        calm(lasted),
        calm(entry.cause.map_or_else(String::new, |cause| cause.to_string())),
        (entry.evidence.clone(), Tone::Faint),
        note,
    ]
}

/// All that is known of an entry.
fn about<'a>(app: &App, theme: Theme, entry: &Entry) -> Vec<Line<'a>> {
    let end = entry.end.map_or_else(|| "goes on".to_owned(), |end| format!("to {}", moment(end, app.utc)));
    let cause = entry.cause.map_or_else(|| "no cause needed".to_owned(), |cause| cause.to_string());
    let down = if entry.comes_and_goes() { format!("  {}", entry.length_text(app.utc)) } else { String::new() };
    let advice = entry.cause.filter(|_| entry.end.is_none()).map_or("", |cause| cause.advice());
    let mut lines = vec![
        Line::from(vec![
            Span::styled(entry.cameras.join(", "), theme.tone(Tone::Text)),
            Span::styled(format!("  from {} {end}", moment(entry.start, app.utc)), theme.tone(Tone::Calm)),
            Span::styled(down, theme.tone(Tone::Text)),
        ]),
        Line::from(vec![
            Span::styled(format!("{cause} ({})", entry.confidence.word()), theme.tone(Tone::Bright)),
            Span::styled(format!("  {}", entry.evidence), theme.tone(Tone::Text)),
        ]),
    ];
    if !advice.is_empty() {
        lines.push(Line::styled(advice, theme.tone(Tone::Text)));
    }
    if !entry.done.is_empty() {
        lines.push(Line::styled(format!("done: {}", entry.done.join("; ")), theme.tone(Tone::Calm)));
    }
    if !entry.note.is_empty() {
        lines.push(Line::styled(format!("note: {}", entry.note), theme.tone(Tone::Here)));
    }
    lines
}

/// The lanes for paper: title, pages.
pub fn lanes_on_paper(app: &App, page: &LedgerPage) -> (String, Drawing) {
    let (span, words) = LANE_SPANS[page.span % LANE_SPANS.len()];
    let begin = app.utc.offset(-(span.as_micros() as i64));
    let lane = |name: &str| {
        let own = app.ledger.entries().iter().flat_map(|entry| entry.stretches(name, app.utc));
        let bars = own.filter(|(_, _, end)| *end >= begin).map(|(kind, from, to)| (from, to, kind));
        Lane { name: name.to_owned(), bars: bars.collect() }
    };
    let lanes: Vec<Lane> = app.cameras_there().map(lane).filter(|lane| !lane.bars.is_empty()).collect();
    let title = format!("Lanes: {}, {words}", app.name);
    let (heading, foot, span) = (title.clone(), app.foot_on_paper(), (begin, app.utc));
    let zone = jiff::tz::TimeZone::system();
    (title, Drawing(Box::new(move || lanes_page(&heading, &foot, span, &zone, &lanes))))
}

/// In which cells of a lane something of the camera was measured; before the program ran, nothing was.
fn measured(app: &App, name: &str, span: Duration, width: usize) -> Vec<bool> {
    let kept = Past::ALL.into_iter().find(|kept| kept.duration() >= span).unwrap_or(Past::Day);
    let (per_cell, half) = (span.as_secs_f64() / width as f64, kept.step().as_secs_f64() / 2.0);
    let cell_of = |age: f64| ((span.as_secs_f64() - age) / per_cell).floor();
    let mut cells = vec![false; width];
    let camera = app.camera_index(name);
    let pasts = Role::ALL.into_iter().filter_map(|role| app.history.get(&FeedKey::new(camera?, role)));
    for (age, _) in pasts.flat_map(|past| past.over(app.now, kept)) {
        let (from, to) = (cell_of(age + half).max(0.0), cell_of(age - half));
        let until = ((to + 1.0).max(0.0) as usize).min(width);
        cells.get_mut(from as usize..until).unwrap_or_default().fill(true);
    }
    cells
}

/// All cameras over time, those with something first; a cell is as bad as the worst in it.
fn lanes(app: &App, page: &LedgerPage, theme: Theme, area: Rect, buf: &mut Buffer) {
    let (span, words) = LANE_SPANS[page.span % LANE_SPANS.len()];
    let width = usize::from(area.width.saturating_sub(NAMES + 1)).max(1);
    let per_cell = span.as_micros() as f64 / width as f64;
    let begin = app.utc.offset(-(span.as_micros() as i64));
    let cell_of = |at: Wall| (at.micros_since(begin) as f64 / per_cell).floor();
    let entries: Vec<&Entry> =
        app.ledger.entries().iter().filter(|entry| entry.end.unwrap_or(app.utc).micros_since(begin) >= 0).collect();
    let mut names: Vec<&str> = app.cameras_there().collect();
    let troubles = |name: &str| entries.iter().filter(|entry| entry.cameras.iter().any(|camera| camera == name)).count();
    names.sort_by_key(|name| std::cmp::Reverse(troubles(name)));
    let rows = usize::from(area.height.saturating_sub(2));
    for (row, name) in names.iter().take(rows).enumerate() {
        let y = area.y + row as u16;
        let label: String = name.chars().take(usize::from(NAMES)).collect();
        let tone = if troubles(name) > 0 { Tone::Text } else { Tone::Faint };
        buf.set_string(area.x, y, label, theme.tone(tone));
        let mut worst: Vec<Option<EventKind>> = vec![None; width];
        for (kind, from, to) in entries.iter().flat_map(|entry| entry.stretches(name, app.utc)) {
            let (from, to) = (cell_of(from).max(0.0), cell_of(to));
            for cell in worst.iter_mut().take((to + 1.0).max(0.0) as usize).skip(from as usize) {
                if cell.is_none_or(|worst| kind.is_worse_than(worst)) {
                    *cell = Some(kind);
                }
            }
        }
        let measured = measured(app, name, span, width);
        for (column, (kind, measured)) in worst.into_iter().zip(measured).enumerate() {
            let nothing = (if measured { "·" } else { " " }, Tone::Faint);
            let (text, tone) = kind.map_or(nothing, sign);
            buf.set_string(area.x + NAMES + 1 + column as u16, y, text, theme.tone(tone));
        }
    }
    let y = area.bottom().saturating_sub(2).min(area.y + names.len() as u16);
    let axis = Rect { x: area.x + NAMES + 1, y, width: area.width.saturating_sub(NAMES + 1), height: 1 };
    let faint = theme.tone(Tone::Faint);
    Line::styled(moment(begin, app.utc), faint).render(axis, buf);
    Line::styled(moment(begin.offset(span.as_micros() as i64 / 2), app.utc), faint).centered().render(axis, buf);
    Line::styled("now", faint).right_aligned().render(axis, buf);
    let more = names.len().saturating_sub(rows);
    let more = if more > 0 { format!(", {more} cameras more") } else { String::new() };
    let legend = format!("{words}{more}  · measured, nothing found  × outage  ⊘ locked  ■ freeze  ▪ stutter  ≈ strained");
    Line::styled(legend, faint).render(Rect { y: y + 1, height: 1, ..area }.intersection(area), buf);
}
