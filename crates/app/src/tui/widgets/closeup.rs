//! The camera that is selected in a list, from near: its picture as it comes, and its last ten minutes.

use super::{plate, tile};
use crate::tui::app::App;
use crate::tui::page::Watched;
use crate::tui::theme::{Theme, Tone};
use lattice_core::FrameRate;
use lattice_core::lattice::Aspect;
use lattice_core::meter::{Fig, Sample, Span as Past};
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;

/// Rows that it takes at the foot of a page,
pub const ROWS: u16 = 13;
/// where the page has so many,
const FROM_ROWS: u16 = 30;
/// and so many columns.
const FROM_COLUMNS: u16 = 100;

/// Where its parts stand: the picture on the right, what is said on the left, and under that the last ten minutes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Places {
    /// For the picture.
    pub picture: Rect,
    /// For what the page says of the camera.
    pub text: Rect,
    /// For its last ten minutes.
    pub past: Rect,
}

/// Whether a page of this size has room for it.
pub const fn has_room(area: Rect) -> bool {
    area.height >= FROM_ROWS && area.width >= FROM_COLUMNS
}

/// The foot of a page.
pub fn foot(area: Rect) -> Rect {
    Rect { y: area.bottom().saturating_sub(ROWS), height: ROWS.min(area.height), ..area }
}

/// Rows of the last ten minutes: three figures, and the time below them.
const PAST: u16 = 4;

/// Divides the foot of a page.
pub fn places(foot: Rect, cell_aspect: f64) -> Places {
    let wide = (f64::from(foot.height) * 16.0 / 9.0 / cell_aspect.max(0.1)).round() as u16;
    let wide = wide.min(foot.width / 2);
    let picture = Rect { x: foot.right() - wide, width: wide, ..foot };
    let left = Rect { width: foot.width - wide - 2, ..foot };
    let text = Rect { height: left.height.saturating_sub(PAST + 1), ..left };
    Places { picture, text, past: Rect { y: left.bottom().saturating_sub(PAST), height: PAST.min(left.height), ..left } }
}

/// The foot of a page that is about one camera, where there is a stream of it and room; else the page has all of its area.
pub fn divide(app: &App, area: Rect, key: Option<FeedKey>) -> (Rect, Option<(FeedKey, Places)>) {
    match key.filter(|_| has_room(area)) {
        Some(key) => {
            let foot = foot(area);
            (Rect { height: area.height - foot.height - 1, ..area }, Some((key, places(foot, app.cell_aspect))))
        }
        None => (area, None),
    }
}

/// What is painted at the foot of such a page.
pub fn watched(app: &App, area: Rect, key: Option<FeedKey>) -> Vec<Watched> {
    let near = divide(app, area, key).1;
    near.map(|(key, places)| Watched::whole(key, 0, places.picture)).into_iter().collect()
}

/// Draws it: the picture, its plate, its last ten minutes; gives the stream where its picture stands on the screen.
pub fn draw(
    app: &App,
    theme: Theme,
    near: Option<(FeedKey, Places)>,
    painters: &mut [TilePainter],
    buf: &mut Buffer,
) -> Vec<FeedKey> {
    let Some(((key, places), painter)) = near.zip(painters.first_mut()) else { return Vec::new() };
    let name = app.stream_name(key);
    let subject = plate::Subject { key, name: &name, tile: None, selected: false };
    plate::draw(app, theme, subject, Rect { height: 1, ..places.text }, buf);
    past(app, theme, key, places.past, buf);
    if picture(app, theme, key, places.picture, painter, buf) { vec![key] } else { Vec::new() }
}

/// One figure of the past: how it is called, its value in a sample, from where on it is bright, what fills a cell at least.
struct Row {
    name: &'static str,
    unit: &'static str,
    /// By the declared frame rate, where that is known.
    of: fn(&Sample, Option<f64>) -> Option<f64>,
    full: f64,
}

const FIGURES: [Row; 3] = [
    Row { name: "frames missing", unit: "%", of: missing, full: 50.0 },
    Row { name: "packets lost", unit: "%", of: |sample, _| sample.get(Fig::Loss).map(f64::from), full: 10.0 },
    Row { name: "latency p95", unit: "ms", of: |sample, _| sample.get(Fig::LatencyP95).map(f64::from), full: 500.0 },
];

/// The share of the declared frames that did not arrive, in percent.
fn missing(sample: &Sample, declared: Option<f64>) -> Option<f64> {
    let (declared, arrived) = (declared.filter(|rate| *rate > 0.0)?, f64::from(sample.get(Fig::Arrived)?));
    Some(((1.0 - arrived / declared) * 100.0).max(0.0))
}

const LEVELS: [&str; 8] = ["▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];
/// Columns of a name,
pub const NAME: u16 = 16;
/// and of what is said behind the cells.
pub const VALUE: u16 = 22;

/// The largest of these; `None` where nothing was measured.
pub fn most(values: &[Option<f64>]) -> Option<f64> {
    values.iter().flatten().copied().reduce(f64::max)
}

/// A figure over time: its name, a cell for each value, as high as that is against the largest or `full`, and what is said of it.
/// Where nothing was measured there is a gap.
pub fn bars(theme: Theme, name: &'static str, values: &[Option<f64>], full: f64, text: &str) -> Line<'static> {
    let scale = most(values).unwrap_or(0.0).max(full);
    let bars = values.iter().map(|value| {
        let share = value.map(|value| value / scale);
        let tone = if share.is_some_and(|share| share > 0.25) { Tone::Bright } else { Tone::Faint };
        let bar = share.map_or(" ", |share| LEVELS[(share * 7.0).round() as usize]);
        Span::styled(bar, theme.tone(tone))
    });
    let mut spans = vec![Span::styled(format!("{name:<width$}", width = usize::from(NAME)), theme.tone(Tone::Faint))];
    spans.extend(bars);
    spans.push(Span::styled(format!("  {text}"), theme.tone(Tone::Calm)));
    Line::from(spans)
}

/// Draws the picture; whether there is one.
pub fn picture(app: &App, theme: Theme, key: FeedKey, place: Rect, painter: &mut TilePainter, buf: &mut Buffer) -> bool {
    tile::picture(app, theme, key, Aspect::Fit, painter, place, buf)
}

/// Draws the last ten minutes: a cell for some seconds, its height the worst of them; a gap where nothing was measured.
pub fn past(app: &App, theme: Theme, key: FeedKey, area: Rect, buf: &mut Buffer) {
    let cells = area.width.saturating_sub(NAME + VALUE) as usize;
    let Some(past) = app.history.get(&key).filter(|_| cells >= 12 && area.height >= PAST) else { return };
    let span = Past::TenMinutes;
    let each = span.duration().as_secs_f64() / cells as f64;
    let samples: Vec<(usize, Sample)> = past
        .over(app.now, span)
        .into_iter()
        .map(|(age, sample)| (cells - 1 - ((age / each) as usize).min(cells - 1), sample))
        .collect();
    let declared = app.figures.get(&key).and_then(|figures| figures.declared).map(FrameRate::per_second);
    for (row, figure) in (0..).zip(&FIGURES) {
        let mut worst: Vec<Option<f64>> = vec![None; cells];
        for (cell, sample) in &samples {
            let value = (figure.of)(sample, declared);
            worst[*cell] = worst[*cell].map_or(value, |one| Some(value.map_or(one, |two| one.max(two))));
        }
        let last = worst.iter().rev().flatten().next().copied();
        let digits = usize::from(figure.unit == "%");
        let said = |value: Option<f64>| value.map_or_else(|| "–".to_owned(), |value| format!("{value:.digits$}"));
        let text = format!("{} {}, most {}", said(last), figure.unit, said(most(&worst)));
        let line = bars(theme, figure.name, &worst, figure.full, &text);
        line.render(Rect { y: area.y + row, height: 1, ..area }, buf);
    }
    let foot = Rect { x: area.x + NAME, y: area.y + 3, width: cells as u16, height: 1 };
    Line::styled("10 min ago", theme.tone(Tone::Faint)).render(foot, buf);
    if cells >= 30 {
        Line::styled("5", theme.tone(Tone::Faint)).centered().render(foot, buf);
    }
    Line::styled("now", theme.tone(Tone::Faint)).right_aligned().render(foot, buf);
}
