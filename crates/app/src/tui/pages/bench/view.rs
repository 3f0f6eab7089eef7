//! The bench: pictures above, their figures on common axes below.

use super::Bench;
use crate::tui::app::App;
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::chart::{self, Curve, Lines};
use crate::tui::widgets::{paper, plate, tile};
use lattice_core::lattice::Aspect;
use lattice_core::meter::Fig;
use lattice_engine::{Drawing, FeedKey};
use lattice_report::Chart as PaperChart;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use std::time::Duration;

/// A chart of the bench: its figure, and the least top of its axis.
const KINDS: [(Fig, f64); CHARTS] =
    [(Fig::Latency, 50.0), (Fig::Arrived, 5.0), (Fig::Jitter, 2.0), (Fig::Loss, 1.0), (Fig::Bitrate, 100.0), (Fig::Shown, 5.0)];
/// How many charts there are.
pub const CHARTS: usize = 6;

fn title_of(fig: Fig) -> String {
    format!("{} {}", fig.row().word, fig.row().unit)
}

const GUTTER: u16 = 2;
/// Plate and line of the buffer.
const LINES_BELOW: u16 = 2;
/// A chart that is smaller cannot be read.
const LEAST_CHART: (u16, u16) = (36, 6);
/// Tones of the streams, in order.
const TONES: [Tone; 4] = [Tone::Bright, Tone::Here, Tone::Text, Tone::Waiting];

/// The places of the streams: for each the picture, and the lines under it.
pub fn panes(app: &App, bench: &Bench, body: Rect) -> Vec<(FeedKey, Rect, Rect)> {
    let count = bench.streams.len() as u16;
    if count == 0 {
        return Vec::new();
    }
    let width = (body.width.saturating_sub(GUTTER * (count - 1))) / count;
    // As high as a picture of 16:9 needs, and at most half of the screen.
    let wanted = (f64::from(width) * app.cell_aspect * 9.0 / 16.0).ceil() as u16;
    let height = wanted.min((body.height / 2).saturating_sub(LINES_BELOW)).max(3);
    let place = |(index, key): (usize, &FeedKey)| {
        let x = body.x + index as u16 * (width + GUTTER);
        let picture = Rect { x, y: body.y + 1, width, height };
        (*key, picture, Rect { y: picture.bottom(), height: LINES_BELOW, ..picture })
    };
    bench.streams.iter().enumerate().map(place).collect()
}

/// Draws it; gives the streams whose picture is on the screen.
pub fn draw(app: &App, bench: &Bench, theme: Theme, body: Rect, painters: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
    title(app, bench, theme, Rect { height: 1, ..body }, buf);
    let panes = panes(app, bench, body);
    let mut drawn = Vec::new();
    for (index, ((key, picture, below), painter)) in panes.iter().zip(painters).enumerate() {
        if tile::picture(app, theme, *key, Aspect::Fit, painter, *picture, buf) {
            drawn.push(*key);
        }
        let selected = index == bench.selected;
        let name = format!("{} {}", Bench::letter(index), app.stream_name(*key));
        let subject = plate::Subject { key: *key, name: &name, tile: None, selected };
        plate::draw(app, theme, subject, Rect { height: 1, ..*below }, buf);
        buffer_line(app, theme, *key, Rect { y: below.y + 1, height: 1, ..*below }, buf);
        if selected {
            tile::brackets(theme, *picture, buf);
        }
    }
    let top = panes.first().map_or(body.y + 1, |(.., below)| below.bottom() + 1);
    charts(app, bench, theme, Rect { y: top, height: body.bottom().saturating_sub(top), ..body }, buf);
    drawn
}

fn millis(span: Duration) -> String {
    format!("{:.0} ms", span.as_secs_f64() * 1e3)
}

fn title(app: &App, bench: &Bench, theme: Theme, area: Rect, buf: &mut Buffer) {
    let mut spans = vec![Span::styled("Bench", theme.tone(Tone::Text))];
    let mut say = |tone, text: String| spans.push(Span::styled(format!("  {text}"), theme.tone(tone)));
    match (bench.streams.len(), bench.aligned, bench.delay) {
        (0, ..) => say(Tone::Calm, "empty: a adds a stream".into()),
        (_, false, _) => say(Tone::Calm, "not aligned: each after its own receive buffer".into()),
        (_, true, None) => say(Tone::Bright, "aligning: waits for sender reports; none of these streams has a clock yet".into()),
        (_, true, Some(delay)) => {
            say(Tone::Calm, format!("aligned at {} after capture", millis(delay)));
            match bench.apart(app) {
                Some(apart) => {
                    let within = apart.frame.is_none_or(|frame| apart.offset < frame);
                    let frame = apart.frame.map_or(String::new(), |frame| format!(", a frame is {}", millis(frame)));
                    let tone = if within { Tone::Calm } else { Tone::Bright };
                    say(tone, format!("apart by {} ±{}{frame}", millis(apart.offset), millis(apart.error)));
                    if apart.without_clock > 0 {
                        say(Tone::Bright, format!("{} without a clock: not aligned", apart.without_clock));
                    }
                }
                None => say(Tone::Bright, "measuring how far they are apart".into()),
            }
        }
    }
    Line::from(spans).render(area, buf);
}

/// The receive buffer, what it must cover, and what would be enough; as much of it as there is room for.
fn buffer_line(app: &App, theme: Theme, key: FeedKey, area: Rect, buf: &mut Buffer) {
    let buffer = app.buffer(key);
    let basis = if buffer.own { "set" } else { buffer.place.word() };
    let mut parts = vec![(Tone::Calm, format!("buffer {}", millis(buffer.length))), (Tone::Calm, format!(" ({basis})"))];
    let arrival = app.figures.get(&key).and_then(|figures| figures.arrival);
    if let Some((p99, enough)) = arrival.and_then(|arrival| Some((arrival.p99?, arrival.proposal()?))) {
        let (tone, says) = if p99 > buffer.length { (Tone::Bright, "too short: ") } else { (Tone::Faint, "") };
        parts.push((tone, format!("  {says}arrival p99 {:.0} ms", (p99.as_secs_f64() * 1e3).ceil())));
        if enough != buffer.length {
            parts.push((Tone::Faint, format!("  p sets {}", millis(enough))));
        }
    }
    let width = |parts: &[(Tone, String)]| parts.iter().map(|(_, text)| text.len()).sum::<usize>();
    // What would be enough goes first, then where it comes from.
    while parts.len() > 2 && width(&parts) > usize::from(area.width) {
        let first_to_go = if parts.len() > 3 { parts.len() - 1 } else { 1 };
        parts.remove(first_to_go);
    }
    let spans: Vec<Span<'_>> = parts.into_iter().map(|(tone, text)| Span::styled(text, theme.tone(tone))).collect();
    Line::from(spans).render(area, buf);
}

fn charts(app: &App, bench: &Bench, theme: Theme, area: Rect, buf: &mut Buffer) {
    if area.height < 2 || bench.streams.is_empty() {
        return;
    }
    let span = bench.span;
    let fitted = if bench.fitted { ", scales fitted" } else { "" };
    let heading = format!("the last {}{fitted}", span.words());
    Line::styled(heading, theme.tone(Tone::Faint)).render(Rect { height: 1, ..area }, buf);
    let area = Rect { y: area.y + 1, height: area.height - 1, ..area };
    let columns = (area.width / LEAST_CHART.0).clamp(1, CHARTS as u16);
    // As few rows as show all, and no more than there is room for.
    let rows = (CHARTS as u16).div_ceil(columns).min((area.height / LEAST_CHART.1).max(1));
    let columns = columns.min((CHARTS as u16).div_ceil(rows));
    let (width, height) = (area.width / columns, area.height / rows);
    let times = chart::times(app, span);
    let letters: Vec<String> = (0..bench.streams.len()).map(|index| format!("{} ", Bench::letter(index))).collect();
    let streams = bench.streams.iter().zip(&letters);
    let gaps: Vec<chart::Gap> =
        streams.flat_map(|(key, letter)| chart::gaps(app, app.figures.get(key).map(|figures| &**figures), letter)).collect();
    for place in 0..usize::from(columns * rows).min(CHARTS) {
        let (fig, least_top) = KINDS[(bench.first_chart + place) % CHARTS];
        let curves: Vec<Curve> = bench
            .streams
            .iter()
            .enumerate()
            .map(|(index, key)| Curve {
                letter: Bench::letter(index),
                tone: TONES[index % TONES.len()],
                points: app.history.get(key).map_or_else(Vec::new, |history| {
                    history.over(app.now, span).into_iter().map(|(age, sample)| (age, sample.get(fig).map(f64::from))).collect()
                }),
            })
            .collect();
        let title = title_of(fig);
        let lines = Lines {
            title: &title,
            digits: fig.row().digits,
            span: span.duration().as_secs_f64(),
            times: &times,
            least_top,
            fitted: bench.fitted,
            cursor: None,
            curves: &curves,
            gaps: &gaps,
            ticks: &[],
        };
        let (column, row) = (place as u16 % columns, place as u16 / columns);
        let area = Rect { x: area.x + column * width, y: area.y + row * height, width: width - 2, height };
        chart::draw(theme, &lines, area, buf);
    }
}

/// The same charts for paper: title, pages.
pub fn charts_on_paper(app: &App, bench: &Bench) -> (String, Drawing) {
    let span = bench.span;
    let chart = |(fig, least_top): &(Fig, f64)| PaperChart {
        title: title_of(*fig),
        digits: fig.row().digits,
        least_top: *least_top,
        fitted: bench.fitted,
        curves: bench
            .streams
            .iter()
            .map(|key| {
                let past = app.history.get(key).map_or_else(Vec::new, |past| past.over(app.now, span));
                paper::curve(app, &app.stream_name(*key), &past, &|sample| sample.get(*fig))
            })
            .collect(),
    };
    let charts: Vec<PaperChart> = KINDS.iter().map(chart).collect();
    let names: Vec<String> = bench.streams.iter().map(|key| app.stream_name(*key)).collect();
    let title = format!("{}: the last {}", names.join(", "), span.words());
    let drawing = paper::pages(app, &title, span, charts, Vec::new());
    (title, drawing)
}
