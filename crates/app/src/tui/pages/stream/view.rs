//! One stream on the whole screen: its picture beside what it declares and does, charts on one time axis, events below.

use super::StreamPage;
use crate::tui::app::App;
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::chart::{self, Curve, Lines};
use crate::tui::widgets::lane;
use crate::tui::widgets::{fact, paper, plate, sound, tile};
use lattice_core::FrameRate;
use lattice_core::Wall;
use lattice_core::lattice::Aspect;
use lattice_core::meter::{Fig, Figures, LatencyBasis, Sample, Spread};
use lattice_core::receiver::Asked;
use lattice_core::sight::Finding;
use lattice_core::sound::SoundState;
use lattice_core::thresholds::Thresholds;
use lattice_core::ts::Check;
use lattice_engine::{Drawing, FeedKey};
use lattice_report::Chart as PaperChart;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use std::time::Duration;
use unicode_width::UnicodeWidthStr as _;

/// A curve of a chart: its letter, name, tone and value.
type Drawn = (char, &'static str, Tone, fn(&Sample) -> Option<f32>);
/// A chart: title, decimal digits, least top of the axis, curves.
type Kind = (&'static str, usize, f64, &'static [Drawn]);

/// The sum of the first parts of the latency that are known.
fn up_to(sample: &Sample, last: usize) -> Option<f32> {
    let parts = [Fig::Path, Fig::Buffer, Fig::Decode, Fig::Draw].map(|part| sample.get(part));
    parts[last]?;
    Some(parts.iter().take(last + 1).flatten().sum())
}

/// How many charts there are.
pub const STREAM_CHARTS: usize = 6;

const KINDS: [Kind; STREAM_CHARTS] = [
    (
        "rate /s, sent to drawn",
        1,
        5.0,
        &[
            ('s', "sent", Tone::Text, |sample| sample.get(Fig::Sent)),
            ('a', "arrived", Tone::Here, |sample| sample.get(Fig::Arrived)),
            ('d', "drawn", Tone::Bright, |sample| sample.get(Fig::Shown)),
        ],
    ),
    (
        "latency ms, path to draw, p95",
        0,
        20.0,
        &[
            ('p', "path", Tone::Waiting, |sample| up_to(sample, 0)),
            ('b', "+ buffer", Tone::Calm, |sample| up_to(sample, 1)),
            ('c', "+ decode", Tone::Here, |sample| up_to(sample, 2)),
            ('w', "+ draw", Tone::Bright, |sample| up_to(sample, 3)),
            ('9', "95th percentile in all", Tone::Text, |sample| sample.get(Fig::LatencyP95)),
        ],
    ),
    (
        "kbit/s, frames: key predicted both",
        0,
        100.0,
        &[
            ('r', "all", Tone::Bright, |sample| sample.get(Fig::Bitrate)),
            ('k', "keyframes", Tone::Text, |sample| sample.get(Fig::BitrateKey)),
            ('p', "predicted", Tone::Here, |sample| sample.get(Fig::BitrateOne)),
            ('b', "predicted from both sides", Tone::Calm, |sample| sample.get(Fig::BitrateBoth).filter(|both| *both > 0.0)),
        ],
    ),
    ("jitter ms", 1, 2.0, &[('j', "jitter", Tone::Bright, |sample| sample.get(Fig::Jitter))]),
    ("loss %", 2, 1.0, &[('l', "lost", Tone::Bright, |sample| sample.get(Fig::Loss))]),
    ("clock offset ms, ahead of ours", 1, 1.0, &[('c', "clock offset", Tone::Bright, |sample| sample.get(Fig::ClockOffset))]),
];

/// A chart that is smaller cannot be read.
const LEAST_CHART: (u16, u16) = (38, 6);
/// Columns for the figures beside the picture.
const FIGURES: u16 = 62;
/// Events at the foot.
const EVENTS: u16 = 6;

/// Columns between two pictures, and between them and the figures.
const GUTTER: u16 = 2;
/// Narrower pictures leave no room for figures beside them.
const LEAST_PICTURE: u16 = 24;

/// Where the pictures stand: one for each stream that is looked at.
pub fn pictures(app: &App, page: &StreamPage, body: Rect) -> Vec<Rect> {
    let count = page.looked_at(app).len().max(1) as u16;
    let beside_figures = body.width.saturating_sub(FIGURES + GUTTER * count) / count;
    let without = body.width.saturating_sub(GUTTER * (count - 1)) / count;
    let width = match count {
        1 => beside_figures.max(body.width / 3),
        _ if beside_figures >= LEAST_PICTURE => beside_figures,
        _ => without,
    };
    let width = width.max(8);
    let wanted = (f64::from(width) * app.cell_aspect * 9.0 / 16.0).ceil() as u16;
    let height = wanted.min(body.height * 2 / 5).max(3);
    (0..count).map(|index| Rect { x: body.x + index * (width + GUTTER), width, height, ..body }).collect()
}

/// Draws it; gives the streams whose picture is on the screen.
pub fn draw(
    app: &App,
    page: &StreamPage,
    theme: Theme,
    body: Rect,
    painters: &mut [TilePainter],
    buf: &mut Buffer,
) -> Vec<FeedKey> {
    let streams = page.looked_at(app);
    let (places, mut drawn) = (pictures(app, page, body), Vec::new());
    for (index, ((key, place), painter)) in streams.iter().zip(&places).zip(painters).enumerate() {
        if tile::picture(app, theme, *key, Aspect::Fit, painter, *place, buf) {
            drawn.push(*key);
        }
        let name = app.stream_name(*key);
        let subject = plate::Subject { key: *key, name: &name, tile: None, selected: index == 0 };
        plate::draw(app, theme, subject, Rect { y: place.bottom(), height: 1, ..*place }, buf);
    }
    let (Some(key), Some(last)) = (streams.first().copied(), places.last()) else { return drawn };
    let x = last.right() + GUTTER;
    let beside = Rect { x, width: body.right().saturating_sub(x), height: last.height + 1, ..body };
    let all: Vec<(FeedKey, &Figures)> =
        streams.iter().filter_map(|key| Some((*key, app.figures.get(key).map(AsRef::as_ref)?))).collect();
    let lines = match all.as_slice() {
        [(key, one)] => figure_lines(theme, one, app.thresholds(*key), beside),
        several => compared(theme, several),
    };
    for (row, line) in lines.into_iter().take(usize::from(beside.height)).enumerate() {
        line.render(Rect { y: beside.y + row as u16, height: 1, ..beside }, buf);
    }
    let top = last.bottom() + 2;
    let below = Rect { y: top, height: body.bottom().saturating_sub(top), ..body };
    let events = EVENTS.min(below.height / 4);
    charts(app, page, theme, key, Rect { height: below.height - events, ..below }, buf);
    event_lines(app, theme, key, Rect { y: below.bottom() - events, height: events, ..below }, buf);
    drawn
}

/// Two streams of a camera, figure by figure.
fn compared<'a>(theme: Theme, streams: &[(FeedKey, &Figures)]) -> Vec<Line<'a>> {
    type Value = fn(&Figures) -> Option<String>;
    const ROWS: [(&str, Value); 14] = [
        ("picture", |f| f.size.map(|(width, height)| format!("{width}×{height}"))),
        ("coding", |f| f.codec.clone()),
        ("declared", |f| f.declared.map(|rate| format!("{:.1} /s", rate.per_second()))),
        ("sent", |f| f.sent.map(|rate| format!("{rate:.1} /s"))),
        ("arrived", |f| f.arrived.map(|rate| format!("{rate:.1} /s"))),
        ("drawn", |f| f.shown.map(|rate| format!("{rate:.1} /s"))),
        ("bitrate", |f| f.bitrate_10s.map(|bits| format!("{:.0} kbit/s in 10 s", bits.kilo()))),
        ("keyframes", |f| f.keyframe_interval.map(|span| format!("every {:.1} s", span.as_secs_f64()))),
        ("latency", |f| {
            f.latency.map(|latency| {
                let (total, letter) = (latency.total, latency.basis.letter());
                format!("{}/{} ms {letter}", millis(total.p50), millis(total.p95))
            })
        }),
        ("sound", |f| Some(sound::figures(f.sound.level())).filter(|_| f.sound.state.is_received())),
        ("jitter", |f| f.jitter.map(|jitter| format!("{:.1} ms", jitter.as_secs_f64() * 1e3))),
        ("packets", |f| Some(format!("{} lost of {}", f.packets.lost, f.packets.received + f.packets.lost))),
        ("dropouts", |f| Some(format!("{}, {:.1} s", f.dropout_totals.0, f.dropout_totals.1.as_secs_f64()))),
        ("last hour", |f| Some(Fig::DropoutsHour.row().of(f))),
    ];
    let line = |name: &str, values: Vec<String>, tone: Tone| {
        let mut spans = vec![Span::styled(format!("{name:<10} "), theme.tone(Tone::Faint))];
        spans.extend(values.into_iter().map(|value| Span::styled(format!("{value:<24} "), theme.tone(tone))));
        Line::from(spans)
    };
    let titles = streams.iter().map(|(key, _)| key.role.word().to_owned()).collect();
    let mut lines = vec![line("", titles, Tone::Calm)];
    for (name, value) in ROWS {
        let values = streams.iter().map(|(_, figures)| value(figures).unwrap_or_else(|| "–".into())).collect();
        lines.push(line(name, values, Tone::Text));
    }
    lines
}

fn millis(span: Duration) -> String {
    format!("{:.0}", span.as_secs_f64() * 1e3)
}

/// What it declares against what it does.
fn figure_lines(theme: Theme, figures: &Figures, limits: Thresholds, area: Rect) -> Vec<Line<'static>> {
    let unknown = || "–".to_owned();
    let rate = |rate: Option<f64>| rate.map_or_else(unknown, |rate| format!("{rate:.1}"));
    let spread =
        |spread: Option<Spread>| spread.map_or_else(unknown, |spread| format!("{}/{}", millis(spread.p50), millis(spread.p95)));
    let declared = figures.declared.map(FrameRate::per_second);
    let short =
        |does: Option<f64>, should: Option<f64>, share: f64| does.zip(should).is_some_and(|(does, should)| does < should * share);
    let latency = figures.latency;
    let basis = match latency {
        Some(latency) if latency.basis.is_whole() => {
            let error = millis(latency.error.unwrap_or_default().max(Duration::from_millis(1)));
            match latency.basis {
                LatencyBasis::Flash => format!("by flashes, to {error} ms"),
                _ => format!("by its clock, to {error} ms"),
            }
        }
        Some(_) if figures.clock.is_some() => "above the least of a minute: its clock disagrees".into(),
        Some(_) => "above the least of the last minute".into(),
        None => "unknown".into(),
    };
    let kbit = |bits: Option<lattice_core::BitsPerSecond>| bits.map_or_else(unknown, |bits| format!("{:.0}", bits.kilo()));
    let packets = figures.packets;
    let share = figures.recent_loss.map_or_else(unknown, |share| format!("{:.2} %", share * 100.0));
    let (count, total) = figures.dropout_totals;
    let hour = Fig::DropoutsHour.row().of(figures);
    let size = figures.size.map_or_else(unknown, |(width, height)| format!("{width}×{height}"));
    let codec = [figures.codec.clone(), figures.profile.map(str::to_owned)].into_iter().flatten().collect::<Vec<_>>().join(" ");
    let transport = figures.transport.map_or_else(unknown, |transport| transport.word().to_owned());
    let slow = short(figures.sent, declared, limits.slowed);
    let late = short(figures.arrived, figures.sent, limits.arrived);
    let skips = short(figures.shown, figures.arrived, limits.shown);
    let rows: Vec<(&str, String, bool)> = vec![
        ("picture", format!("{size}  {codec}  by {transport}"), false),
        ("declared", format!("{} /s  {} kbit/s", rate(declared), kbit(figures.declared_bitrate)), false),
        ("sent", format!("{} /s{}", rate(figures.sent), if slow { "  the camera makes fewer" } else { "" }), slow),
        ("arrived", format!("{} /s{}", rate(figures.arrived), if late { "  held up on the path" } else { "" }), late),
        ("drawn", format!("{} /s{}", rate(figures.shown), if skips { "  this machine or terminal" } else { "" }), skips),
        ("bitrate", format!("{} kbit/s in 1 s, {} in 10 s", kbit(figures.bitrate_1s), kbit(figures.bitrate_10s)), false),
        ("keyframes", keyframes(figures), figures.keyframes_asked.is_some_and(|told| told.asked > 2 && told.obeyed == 0)),
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
            {
                let word = if figures.packet_word() == "packets" { "" } else { " TS packets" };
                format!("{} lost of {}{word} ({share} in 10 s)", packets.lost, packets.received + packets.lost)
            },
            figures.recent_loss.is_some_and(|share| share > 0.0),
        ),
        (
            "",
            format!("{} reordered  {} twice  {} units damaged", packets.reordered, packets.duplicate, figures.frames.damaged),
            false,
        ),
        ("sound", heard(figures), !figures.sound.noticed.is_nothing()),
        ("clock", clock(figures), figures.clock.is_some_and(|clock| !clock.times_pictures)),
        ("looks", looks(figures), figures.sight.is_some_and(|sight| sight.finding.is_some())),
        ("", usual(figures), false),
        ("checks", checks(figures), figures.transport_stream.is_some_and(|ts| ts.checks.of_priority(1) > 0)),
        (
            "dropouts",
            format!("{count}, {:.1} s in all, {hour} in the last hour", total.as_secs_f64()),
            figures.dropout_now.is_some(),
        ),
    ];
    let lines = |(name, text, bad): (&'static str, String, bool)| {
        fact(theme, (name, &text, if bad { Tone::Bright } else { Tone::Text }), 11, usize::from(area.width))
    };
    // What does not fit whole is left out.
    let mut out = Vec::new();
    for fact in rows.into_iter().filter(|(_, text, _)| !text.is_empty()).map(lines) {
        if out.len() + fact.len() > usize::from(area.height) {
            break;
        }
        out.extend(fact);
    }
    out
}

/// The camera's clock against ours, and how fast it runs away.
fn clock(figures: &Figures) -> String {
    let off = figures.clock.map(|clock| clock.text());
    let drift = figures.clock_drift.map(|drift| {
        let rate = drift.per_million;
        if rate.abs() <= drift.error {
            format!("keeps pace to {:.0} ppm", drift.error.max(1.0))
        } else {
            format!("{:.0} ppm too {} ±{:.0}", rate.abs(), if rate > 0.0 { "fast" } else { "slow" }, drift.error.max(1.0))
        }
    });
    [off, drift].into_iter().flatten().collect::<Vec<_>>().join(", ")
}

/// Its sound.
fn heard(figures: &Figures) -> String {
    let sound = &figures.sound;
    let noticed = sound::noticed(sound);
    match (&sound.state, sound.state.text()) {
        (SoundState::Unknown, _) => String::new(),
        (_, Some(why)) => why.to_owned(),
        (SoundState::None | SoundState::Off, _) => sound.state.word().to_owned(),
        _ => {
            let offset =
                sound.offset_micros.map_or_else(String::new, |micros| format!(", {:+.0} ms to the picture", micros as f64 / 1e3));
            let noticed = if noticed.is_empty() { noticed } else { format!(", {noticed}") };
            format!("{}{offset}{noticed}", sound::figures(sound.level()))
        }
    }
}

/// What its pictures tell.
fn looks(figures: &Figures) -> String {
    let Some(sight) = figures.sight else { return String::new() };
    let change = sight.change.map_or_else(|| "–".to_owned(), |change| format!("{change:.0}"));
    let found = sight.finding.map_or("", Finding::word);
    let mode = if sight.night { "night mode" } else { "" };
    let said: Vec<&str> = [found, mode].into_iter().filter(|word| !word.is_empty()).collect();
    let said = if said.is_empty() { String::new() } else { format!("{}, ", said.join(", ")) };
    format!("{said}light {:.0}, changes by {change} of 255", sight.brightness)
}

/// Its pictures against what is usual.
fn usual(figures: &Figures) -> String {
    let Some(sight) = figures.sight else { return String::new() };
    let percent = |share: f32| format!("{:.0} %", share * 100.0);
    match (sight.likeness, sight.detail) {
        (None, None) => "what is usual here is not known yet".to_owned(),
        (likeness, detail) => {
            let likeness = likeness.map_or_else(|| "–".into(), |share| percent(share.max(0.0)));
            format!("like usual {likeness}, fine detail {} of usual", detail.map_or_else(|| "–".into(), percent))
        }
    }
}

/// What fails of the checks of a transport stream.
fn checks(figures: &Figures) -> String {
    let Some(ts) = figures.transport_stream else { return String::new() };
    let failed: Vec<String> = Check::ALL
        .into_iter()
        .filter(|check| ts.checks.of(*check) > 0)
        .map(|check| format!("{} {}", check.word(), ts.checks.of(check)))
        .collect();
    let failed = if failed.is_empty() { "nothing fails".to_owned() } else { failed.join("  ") };
    format!("TR 101 290: {failed}")
}

fn charts(app: &App, page: &StreamPage, theme: Theme, key: FeedKey, area: Rect, buf: &mut Buffer) {
    let span = page.span;
    let cursor = page.cursor.map(|cursor| f64::from(cursor) / 100.0 * span.duration().as_secs_f64());
    let read = cursor.map_or_else(|| "newest values".to_owned(), |age| format!("read {age:.0} s ago"));
    let fitted = if page.fitted { ", scales fitted" } else { "" };
    let heading = format!("the last {}, {read}{fitted}", span.words());
    Line::styled(heading, theme.tone(Tone::Faint)).render(Rect { height: 1.min(area.height), ..area }, buf);
    let samples: Vec<(f64, Sample)> = app.history.get(&key).map_or_else(Vec::new, |past| past.over(app.now, span));
    let strip = Rect { y: area.y + 1, height: 1.min(area.height.saturating_sub(1)), ..area };
    let name = "verdicts ";
    let lane = Rect { x: strip.x + name.len() as u16, width: strip.width.saturating_sub(name.len() as u16), ..strip };
    if lane.width > 0 && lane.height > 0 {
        buf.set_string(strip.x, strip.y, name, theme.tone(Tone::Faint));
        lane::draw(theme, &samples, span.duration().as_secs_f64(), cursor, lane, buf);
    }
    let area = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    let columns = (area.width / LEAST_CHART.0).clamp(1, 3);
    let rows = (KINDS.len() as u16).div_ceil(columns).min((area.height / LEAST_CHART.1).max(1));
    let (width, height) = (area.width / columns, area.height / rows);
    let figures = app.figures.get(&key);
    let gaps: Vec<chart::Gap> = chart::gaps(app, figures.map(|figures| &**figures), "").collect();
    let times = chart::times(app, span);
    let ticks: Vec<f64> =
        samples.iter().filter(|(_, sample)| sample.get(Fig::Keyframe) == Some(1.0)).map(|(age, _)| *age).collect();
    for place in 0..usize::from(columns * rows).min(STREAM_CHARTS) {
        let (title, digits, least_top, curves) = KINDS[(page.first_chart + place) % STREAM_CHARTS];
        let curve = |(letter, _, tone, value): &Drawn| Curve {
            letter: *letter,
            tone: *tone,
            points: samples.iter().map(|(age, sample)| (*age, value(sample).map(f64::from))).collect(),
        };
        let curves: Vec<Curve> = curves.iter().map(curve).collect();
        let ticks = if title.contains("frames") { ticks.as_slice() } else { &[] };
        let seconds = span.duration().as_secs_f64();
        let fitted = page.fitted;
        let (gaps, times) = (&gaps[..], &times);
        let lines = Lines { title, digits, span: seconds, times, least_top, fitted, cursor, curves: &curves, gaps, ticks };
        let (column, row) = (place as u16 % columns, place as u16 / columns);
        let area = Rect { x: area.x + column * width, y: area.y + row * height, width: width.saturating_sub(2), height };
        chart::draw(theme, &lines, area, buf);
    }
}

/// The same charts for paper: title, pages.
pub fn charts_on_paper(app: &App, page: &StreamPage, key: FeedKey) -> (String, Drawing) {
    let span = page.span;
    let samples: Vec<(f64, Sample)> = app.history.get(&key).map_or_else(Vec::new, |past| past.over(app.now, span));
    let chart = |(title, digits, least_top, curves): &Kind| PaperChart {
        title: (*title).to_owned(),
        digits: *digits,
        least_top: *least_top,
        fitted: page.fitted,
        curves: curves.iter().map(|(_, name, _, value)| paper::curve(app, name, &samples, value)).collect(),
    };
    let charts: Vec<PaperChart> = KINDS.iter().map(chart).collect();
    let title = format!("{}: the last {}", app.stream_name(key), span.words());
    let wall = |at: lattice_core::Mono| app.utc.offset(at.micros_since(app.now));
    let figures = app.figures.get(&key);
    let missing = figures.iter().flat_map(|figures| figures.events.iter()).filter(|event| event.kind.is_dropout());
    let missing: Vec<(Wall, Wall)> = missing.map(|event| (wall(event.start), event.end.map_or(app.utc, wall))).collect();
    let drawing = paper::pages(app, &title, span, charts, missing);
    (title, drawing)
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
        let head = format!("{ago:>6} s ago  {:<12} {length:>6.1} s{runs:<1}  {cause}", event.kind.word());
        let left = usize::from(area.width).saturating_sub(head.width());
        let line = Line::from(vec![
            Span::styled(head, theme.tone(tone)),
            Span::styled(plate::cut(&event.evidence, left), theme.tone(Tone::Text)),
        ]);
        line.render(Rect { y: area.y + row as u16, height: 1, ..area }, buf);
    }
}

fn keyframes(figures: &Figures) -> String {
    let seconds = |span: Option<Duration>| span.map_or_else(|| "–".to_owned(), |span| format!("{:.1} s", span.as_secs_f64()));
    let asked = figures.keyframes_asked.map_or_else(String::new, asked);
    format!("every {}, longest {}{asked}", seconds(figures.keyframe_interval), seconds(figures.keyframe_longest))
}

/// Whether the camera obeys when it is asked for a keyframe.
fn asked(told: Asked) -> String {
    match (told.asked, told.obeyed) {
        (0, _) => "  may be asked for".to_owned(),
        (asked, 0) => format!("  asked for {asked} times, never obeyed"),
        (asked, obeyed) => format!("  asked for {asked} times, obeyed {obeyed}"),
    }
}
