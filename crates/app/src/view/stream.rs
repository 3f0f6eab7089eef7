//! One stream on the whole screen: its picture beside what it declares and does, charts on one time axis, events below.

use super::chart::{self, Curve, Lines};
use super::{plate, tile};
use crate::app::{App, FeedKey};
use crate::paint::CellPainter;
use crate::theme::{Theme, Tone};
use lattice_core::FrameRate;
use lattice_core::lattice::Aspect;
use lattice_core::meter::{Figures, LatencyBasis, Sample, Spread};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use std::time::Duration;

/// A curve of a chart: its letter, tone and value.
type Drawn = (char, Tone, fn(&Sample) -> Option<f32>);
/// A chart: title, decimal digits, least top of the axis, curves.
type Kind = (&'static str, usize, f64, &'static [Drawn]);

/// The sum of the first parts of the latency that are known.
fn up_to(sample: &Sample, last: usize) -> Option<f32> {
    sample.parts[last]?;
    Some(sample.parts.iter().take(last + 1).flatten().sum())
}

/// How many charts there are.
pub const STREAM_CHARTS: usize = 5;

const KINDS: [Kind; STREAM_CHARTS] = [
    (
        "rate /s, sent to drawn",
        1,
        5.0,
        &[
            ('s', Tone::Text, |sample| sample.sent),
            ('a', Tone::Here, |sample| sample.arrived),
            ('d', Tone::Bright, |sample| sample.shown),
        ],
    ),
    (
        "latency ms, path to draw",
        0,
        20.0,
        &[
            ('p', Tone::Waiting, |sample| up_to(sample, 0)),
            ('b', Tone::Calm, |sample| up_to(sample, 1)),
            ('c', Tone::Here, |sample| up_to(sample, 2)),
            ('w', Tone::Bright, |sample| up_to(sample, 3)),
        ],
    ),
    ("bitrate kbit/s", 0, 100.0, &[('r', Tone::Bright, |sample| bits(sample))]),
    ("jitter ms", 1, 2.0, &[('j', Tone::Bright, |sample| sample.jitter)]),
    ("loss %", 2, 1.0, &[('l', Tone::Bright, |sample| sample.loss)]),
];

fn bits(sample: &Sample) -> Option<f32> {
    sample.bitrate.map(|bits| bits / 1e3)
}

/// A chart that is smaller cannot be read.
const LEAST_CHART: (u16, u16) = (38, 6);
/// Columns for the figures beside the picture.
const FIGURES: u16 = 62;
/// Events at the foot.
const EVENTS: u16 = 6;

/// Where the picture stands.
pub fn picture(app: &App, body: Rect) -> Rect {
    let width = body.width.saturating_sub(FIGURES + 2).max(body.width / 3).max(8);
    let wanted = (f64::from(width) * app.cell_aspect * 9.0 / 16.0).ceil() as u16;
    Rect { width, height: wanted.min(body.height * 2 / 5).max(3), ..body }
}

/// Draws it; whether its picture is on the screen.
pub fn draw(app: &App, theme: Theme, key: FeedKey, body: Rect, painter: &mut CellPainter, buf: &mut Buffer) -> bool {
    let place = picture(app, body);
    let drawn = tile::picture(app, theme, key, Aspect::Fit, painter, place, buf);
    let name = app.stream_name(key);
    let subject = plate::Subject { key, name: &name, tile: None, selected: true };
    plate::draw(app, theme, subject, Rect { y: place.bottom(), height: 1, ..place }, buf);
    let x = place.right() + 2;
    let beside = Rect { x, width: body.right().saturating_sub(x), height: place.height + 1, ..body };
    if let Some(figures) = app.figures.get(&key) {
        for (row, line) in figure_lines(theme, figures).into_iter().take(usize::from(beside.height)).enumerate() {
            line.render(Rect { y: beside.y + row as u16, height: 1, ..beside }, buf);
        }
    }
    let below = Rect { y: place.bottom() + 2, height: body.bottom().saturating_sub(place.bottom() + 2), ..body };
    let events = EVENTS.min(below.height / 4);
    charts(app, theme, key, Rect { height: below.height - events, ..below }, buf);
    event_lines(app, theme, key, Rect { y: below.bottom() - events, height: events, ..below }, buf);
    drawn
}

fn millis(span: Duration) -> String {
    format!("{:.0}", span.as_secs_f64() * 1e3)
}

/// What it declares against what it does.
fn figure_lines<'a>(theme: Theme, figures: &Figures) -> Vec<Line<'a>> {
    let unknown = || "–".to_owned();
    let rate = |rate: Option<f64>| rate.map_or_else(unknown, |rate| format!("{rate:.1}"));
    let spread =
        |spread: Option<Spread>| spread.map_or_else(unknown, |spread| format!("{}/{}", millis(spread.p50), millis(spread.p95)));
    let declared = figures.declared.map(FrameRate::per_second);
    let short = |does: Option<f64>, should: Option<f64>| does.zip(should).is_some_and(|(does, should)| does < should * 0.85);
    let latency = figures.latency;
    let basis = match latency {
        Some(latency) if latency.basis == LatencyBasis::Clock => {
            let error = latency.error.map_or(String::new(), |error| format!(" ±{}", millis(error)));
            format!("by its clock{error}")
        }
        Some(_) => "above the least of the last minute".into(),
        None => "unknown".into(),
    };
    let kbit = |bits: Option<lattice_core::BitsPerSecond>| bits.map_or_else(unknown, |bits| format!("{:.0}", bits.kilo()));
    let seconds = |span: Option<Duration>| span.map_or_else(unknown, |span| format!("{:.1} s", span.as_secs_f64()));
    let packets = figures.packets;
    let share = figures.recent_loss.map_or_else(unknown, |share| format!("{:.2} %", share * 100.0));
    let (count, total) = figures.dropout_totals;
    let size = figures.size.map_or_else(unknown, |(width, height)| format!("{width}×{height}"));
    let codec = [figures.codec.clone(), figures.profile.map(str::to_owned)].into_iter().flatten().collect::<Vec<_>>().join(" ");
    let transport = figures.transport.map_or_else(unknown, |transport| transport.word().to_owned());
    let slow = short(figures.sent, declared);
    let late = short(figures.arrived, figures.sent);
    let skips = short(figures.shown, figures.arrived);
    let rows: Vec<(&str, String, bool)> = vec![
        ("picture", format!("{size}  {codec}  by {transport}"), false),
        ("declared", format!("{} /s  {} kbit/s", rate(declared), kbit(figures.declared_bitrate)), false),
        ("sent", format!("{} /s{}", rate(figures.sent), if slow { "  the camera makes fewer" } else { "" }), slow),
        ("arrived", format!("{} /s{}", rate(figures.arrived), if late { "  held up on the path" } else { "" }), late),
        ("drawn", format!("{} /s{}", rate(figures.shown), if skips { "  this machine or terminal" } else { "" }), skips),
        ("bitrate", format!("{} kbit/s in 1 s, {} in 10 s", kbit(figures.bitrate_1s), kbit(figures.bitrate_10s)), false),
        (
            "keyframes",
            format!("every {}, longest {}", seconds(figures.keyframe_interval), seconds(figures.keyframe_longest)),
            false,
        ),
        ("latency", format!("{} ms p50/p95, {basis}", spread(latency.map(|latency| latency.total))), false),
        (
            "",
            format!(
                "path {}  buffer {}  decode {}  draw {}",
                spread(latency.map(|latency| latency.path)),
                spread(latency.map(|latency| latency.buffer)),
                spread(latency.and_then(|latency| latency.decode)),
                spread(latency.and_then(|latency| latency.draw))
            ),
            false,
        ),
        ("jitter", figures.jitter.map_or_else(unknown, |jitter| format!("{:.1} ms", jitter.as_secs_f64() * 1e3)), false),
        (
            "packets",
            format!("{} lost of {} ({share} in 10 s)", packets.lost, packets.received + packets.lost),
            figures.recent_loss.is_some_and(|share| share > 0.0),
        ),
        (
            "",
            format!("{} reordered  {} twice  {} units damaged", packets.reordered, packets.duplicate, figures.frames.damaged),
            false,
        ),
        ("dropouts", format!("{count}, {:.1} s in all", total.as_secs_f64()), figures.dropout_now.is_some()),
    ];
    let line = |(name, text, bad): (&'static str, String, bool)| {
        let tone = if bad { Tone::Bright } else { Tone::Text };
        Line::from(vec![Span::styled(format!("{name:<10} "), theme.tone(Tone::Faint)), Span::styled(text, theme.tone(tone))])
    };
    rows.into_iter().map(line).collect()
}

fn charts(app: &App, theme: Theme, key: FeedKey, area: Rect, buf: &mut Buffer) {
    let page = &app.stream_page;
    let span = page.span;
    let cursor = page.cursor.map(|cursor| f64::from(cursor) / 100.0 * span.duration().as_secs_f64());
    let heading = match cursor {
        Some(age) => format!("the last {}, read {:.0} s ago", span.words(), age),
        None => format!("the last {}, newest values", span.words()),
    };
    Line::styled(heading, theme.tone(Tone::Faint)).render(Rect { height: 1.min(area.height), ..area }, buf);
    let area = Rect { y: area.y + 1, height: area.height.saturating_sub(1), ..area };
    let columns = (area.width / LEAST_CHART.0).clamp(1, 3);
    let rows = (KINDS.len() as u16).div_ceil(columns).min((area.height / LEAST_CHART.1).max(1));
    let (width, height) = (area.width / columns, area.height / rows);
    let samples: Vec<(f64, Sample)> = app.history.get(&key).map_or_else(Vec::new, |past| past.over(app.now, span).collect());
    for place in 0..usize::from(columns * rows).min(STREAM_CHARTS) {
        let (title, digits, least_top, curves) = KINDS[(page.first_chart + place) % STREAM_CHARTS];
        let curve = |(letter, tone, value): &Drawn| Curve {
            letter: *letter,
            tone: *tone,
            points: samples.iter().map(|(age, sample)| (*age, value(sample).map(f64::from))).collect(),
        };
        let curves: Vec<Curve> = curves.iter().map(curve).collect();
        let lines = Lines { title, digits, span: span.duration().as_secs_f64(), least_top, cursor, curves: &curves };
        let (column, row) = (place as u16 % columns, place as u16 / columns);
        let area = Rect { x: area.x + column * width, y: area.y + row * height, width: width.saturating_sub(2), height };
        chart::draw(theme, &lines, area, buf);
    }
}

/// What happened to it, newest first.
fn event_lines(app: &App, theme: Theme, key: FeedKey, area: Rect, buf: &mut Buffer) {
    let Some(figures) = app.figures.get(&key).filter(|_| area.height > 0) else { return };
    if figures.events.is_empty() {
        Line::styled("nothing has happened to it", theme.tone(Tone::Faint)).render(Rect { height: 1, ..area }, buf);
    }
    for (row, event) in figures.events.iter().rev().take(usize::from(area.height)).enumerate() {
        let runs = if event.end.is_none() { "…" } else { "" };
        let ago = app.now.since(event.start).as_secs();
        let cause = event.cause.map_or_else(String::new, |cause| format!("{cause} ({}): ", event.confidence.word()));
        let length = event.length(app.now).as_secs_f64();
        let tone = if event.end.is_none() { Tone::Bright } else { Tone::Calm };
        let line = Line::from(vec![
            Span::styled(format!("{ago:>6} s ago  {:<12} {length:>6.1} s{runs:<1}  ", event.kind.word()), theme.tone(tone)),
            Span::styled(cause, theme.tone(tone)),
            Span::styled(event.evidence.clone(), theme.tone(Tone::Text)),
        ]);
        line.render(Rect { y: area.y + row as u16, height: 1, ..area }, buf);
    }
}
