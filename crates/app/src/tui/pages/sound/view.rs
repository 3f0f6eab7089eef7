//! The page of the sound: the selected stream with its picture, its meters, its figures; all streams with sound; a chart.

use super::{SoundPage, rows};
use crate::tui::app::{App, hearing::decibels as decibels_of};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::chart::{self, Curve, Lines};
use crate::tui::widgets::list::{Column, List, Said, column, table};
use crate::tui::widgets::{fact, paper, plate, sound, tile};
use lattice_core::lattice::Aspect;
use lattice_core::meter::{Fig, Figures, Sample, Span as Past};
use lattice_core::sound::{Aligned, Level, SoundReading};
use lattice_engine::{Drawing, FeedKey};
use lattice_report::Chart as PaperChart;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::{Constraint, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};
use std::time::Duration;

/// Columns for the meters and figures beside the picture, at least.
const BESIDE: u16 = 46;
/// Lines of the meters and figures.
const FIGURES: u16 = 13;
/// A chart that is lower cannot be read.
const LEAST_CHART: u16 = 7;
/// and one that is higher tells no more.
const MOST_CHART: u16 = 24;
/// Sound that is heard later than this after its picture is told brightly: lips and voice part (ITU-R BT.1359-1).
const LATE: Duration = Duration::from_millis(125);
/// Cells of a meter in the list.
const METER: usize = 24;

/// Where the parts of the page stand.
pub struct Places {
    pub picture: Rect,
    beside: Rect,
    list: Rect,
    chart: Rect,
}

/// Where they stand in this area, with so many streams: what their list does not take is the chart's.
pub fn places(app: &App, area: Rect, rows: usize) -> Places {
    let top = FIGURES.min(area.height / 2);
    let across = (f64::from(top.saturating_sub(1)) / app.cell_aspect * 16.0 / 9.0) as u16;
    let width = across.min(area.width.saturating_sub(BESIDE + 2));
    let picture = if width < 16 { Rect::default() } else { Rect { width, height: top.saturating_sub(1), ..area } };
    let x = if picture.is_empty() { area.x } else { picture.right() + 2 };
    let beside = Rect { x, width: area.right().saturating_sub(x), height: top, ..area };
    let y = area.y + top + 1;
    let below = area.bottom().saturating_sub(y);
    let needed = (rows as u16 + 1).min(below.saturating_sub(LEAST_CHART + 1).max(below / 2));
    let chart = if below >= 2 * LEAST_CHART { (below - needed - 1).min(MOST_CHART) } else { 0 };
    let list = Rect { y, height: below - chart - u16::from(chart > 0), ..area };
    Places { picture, beside, list, chart: Rect { y: area.bottom() - chart, height: chart, ..area } }
}

const COLUMNS: [Column; 8] = [
    column("stream", Constraint::Length(32), 0),
    column("sound", Constraint::Length(8), 0),
    column("level -60 to 0 dBFS", Constraint::Length(METER as u16), 0),
    column("RMS", Constraint::Length(6), 60),
    column("peak", Constraint::Length(6), 68),
    column("offset ms", Constraint::Length(9), 88),
    column("lost", Constraint::Length(7), 100),
    column("noticed", Constraint::Min(20), 120),
];

/// The list of all streams with sound.
pub fn list(app: &App, page: &SoundPage, rows: &[FeedKey], area: Rect) -> List {
    let place = places(app, area, rows.len()).list;
    List { area: place, columns: COLUMNS.to_vec(), rows: rows.len(), selected: page.row(rows) }
}

/// Draws the page; gives the stream whose picture is on the screen.
pub fn draw(
    app: &App,
    page: &SoundPage,
    theme: Theme,
    area: Rect,
    painters: &mut [TilePainter],
    buf: &mut Buffer,
) -> Vec<FeedKey> {
    let rows = rows(app);
    let Some(key) = rows.get(page.row(&rows)).copied() else {
        let text = "No stream that is received has sound. A camera's sound is received where its description names some, unless \
                    sound = false stands in the site file.";
        Paragraph::new(text).style(theme.tone(Tone::Text)).wrap(Wrap { trim: true }).render(area, buf);
        return Vec::new();
    };
    let places = places(app, area, rows.len());
    let mut drawn = Vec::new();
    if let Some(painter) = painters.first_mut().filter(|_| !places.picture.is_empty()) {
        if tile::picture(app, theme, key, Aspect::Fit, painter, places.picture, buf) {
            drawn.push(key);
        }
        let name = app.stream_name(key);
        let below = Rect { y: places.picture.bottom(), height: 1, ..places.picture };
        plate::draw(app, theme, plate::Subject { key, name: &name, tile: None, selected: true }, below, buf);
    }
    if let Some(figures) = app.figures.get(&key) {
        let lines = about(app, theme, key, figures, usize::from(places.beside.width));
        for (line, y) in lines.into_iter().zip(places.beside.y..places.beside.bottom()) {
            line.render(Rect { y, height: 1, ..places.beside }, buf);
        }
    }
    let cells: Vec<Vec<Said>> = rows.iter().filter_map(|key| Some(cells(app, *key, &app.figures.get(key)?.sound))).collect();
    table(theme, &list(app, page, &rows, area).fitting(&cells), cells, buf);
    if !places.chart.is_empty() {
        draw_chart(app, theme, key, page.span, places.chart, buf);
    }
    drawn
}

fn decibels(db: Option<f32>) -> String {
    db.map_or_else(|| "–".to_owned(), |db| if db < -99.0 { "< -99".to_owned() } else { format!("{db:.1}") })
}

fn cells(app: &App, key: FeedKey, sound: &SoundReading) -> Vec<Said> {
    let tone = sound::tone(sound);
    let level = sound.level();
    let of = |part: fn(Level) -> f32| decibels(level.map(part));
    let offset = sound.offset_micros.map_or_else(|| "–".to_owned(), |micros| format!("{:+.0}", micros as f64 / 1e3));
    let lost = sound.recent_loss.map_or_else(|| "–".to_owned(), |share| format!("{:.1} %", share * 100.0));
    let lossy = if sound.recent_loss.is_some_and(|share| share > 0.0) { Tone::Bright } else { Tone::Calm };
    vec![
        (app.stream_name(key), Tone::Calm),
        (state(app, key, sound), if sound.state.is_received() { Tone::Calm } else { Tone::Faint }),
        (if sound.state.is_received() { sound::bar(level, METER) } else { String::new() }, tone),
        (of(|level| level.rms), tone),
        (of(|level| level.peak), tone),
        (offset, Tone::Calm),
        (lost, lossy),
        (sound::noticed(sound), tone),
    ]
}

/// The state of a stream's sound in a word, and whether it is heard here.
fn state(app: &App, key: FeedKey, sound: &SoundReading) -> String {
    match app.hearing.cameras.get(&key.camera).filter(|heard| heard.stream == Some(key)) {
        Some(_) if app.hearing.is_heard(key.camera) => format!("{} heard", sound::HEARD),
        Some(_) => format!("{} muted", sound::HEARD),
        None => sound.state.word().replace('-', " "),
    }
}

/// Whether a stream is heard here, and how that lies to its picture.
fn heard(app: &App, key: FeedKey) -> (String, bool) {
    let hearing = &app.hearing;
    if !hearing.possible {
        return (String::new(), false);
    }
    let Some(of) = hearing.cameras.get(&key.camera).filter(|heard| heard.stream == Some(key)) else {
        return ("no: l listens".to_owned(), false);
    };
    if hearing.muted {
        return ("muted: m lets it be heard".to_owned(), true);
    }
    if !hearing.is_heard(key.camera) {
        return ("another one is heard alone".to_owned(), false);
    }
    let volume = decibels_of(hearing.volume);
    match of.aligned {
        Aligned::Nothing => (format!("{volume}, nothing comes"), true),
        Aligned::WithPicture => (format!("{volume}, with its picture"), false),
        Aligned::After(by) => (format!("{volume}, {:.0} ms after its picture", by.as_secs_f64() * 1e3), by > LATE),
        Aligned::AsItComes => (format!("{volume}, as it comes: no sender reports of both"), true),
    }
}

/// The meters and figures of the selected stream.
fn about<'a>(app: &App, theme: Theme, key: FeedKey, figures: &Figures, width: usize) -> Vec<Line<'a>> {
    let sound = &figures.sound;
    let mut lines = vec![Line::styled(format!("Sound of {}", app.stream_name(key)), theme.tone(Tone::Bright))];
    let meter = width.saturating_sub(9 + 26).max(12);
    for (channel, level) in sound.levels.iter().enumerate() {
        let name = if sound.levels.len() == 1 { "level".to_owned() } else { format!("ch {}", channel + 1) };
        lines.push(Line::from(vec![
            Span::styled(format!("{name:<9}"), theme.tone(Tone::Faint)),
            sound::span(theme, sound, Some(*level), meter),
            Span::styled(format!("  {}", sound::figures(Some(*level))), theme.tone(Tone::Text)),
        ]));
    }
    if !sound.levels.is_empty() {
        lines.push(Line::styled(format!("{:9}{}", "", sound::scale(meter)), theme.tone(Tone::Faint)));
    }
    let limits = app.thresholds(key).sound;
    let coding = match (&sound.coding, sound.rate_hz, sound.channels) {
        (Some(coding), Some(hz), Some(channels)) => {
            let channels = if channels == 1 { "1 channel".to_owned() } else { format!("{channels} channels") };
            format!("{coding}, {} kHz, {channels}", f64::from(hz) / 1e3)
        }
        _ => "not known".to_owned(),
    };
    let state = match sound.state.text() {
        Some(why) => why.to_owned(),
        None => sound.state.word().to_owned(),
    };
    let offset = sound.offset_micros.map_or_else(
        || "not known: it takes sender reports of both".to_owned(),
        |micros| {
            let ms = micros as f64 / 1e3;
            let way = if ms >= 0.0 { "after" } else { "before" };
            format!("{:.0} ms {way} its picture", ms.abs())
        },
    );
    let packets = sound.packets;
    let share = sound.recent_loss.map_or_else(|| "–".to_owned(), |share| format!("{:.2} %", share * 100.0));
    let jitter = sound.jitter.map_or_else(|| "–".to_owned(), |jitter| format!("{:.1} ms", jitter.as_secs_f64() * 1e3));
    let bitrate = sound.bitrate.map_or_else(|| "–".to_owned(), |bits| format!("{:.0} kbit/s", bits.kilo()));
    let (heard, unusual) = heard(app, key);
    let rows = [
        ("state", state, !sound.state.is_received()),
        ("heard", heard, unusual),
        ("coding", coding, false),
        ("noticed", sound::noticed(sound), true),
        ("clipped", format!("{} samples in 1 s", sound.clipped), sound.clipped > 0),
        ("offset", offset, false),
        ("packets", format!("{} lost of {} ({share} in 10 s)", packets.lost, packets.received + packets.lost), packets.lost > 0),
        ("jitter", format!("{jitter}, {bitrate}"), false),
        ("", sound.remark.clone().unwrap_or_default(), true),
        (
            "limits",
            format!(
                "silent {:.0} dBFS for {:.0} s, loud +{:.0} dB",
                limits.silent_below,
                limits.silent_after.as_secs_f64(),
                limits.loud_by
            ),
            false,
        ),
    ];
    lines.extend(
        rows.into_iter()
            .filter(|(_, text, _)| !text.is_empty())
            .flat_map(|(name, text, bad)| fact(theme, (name, &text, if bad { Tone::Bright } else { Tone::Text }), 9, width)),
    );
    lines
}

type Drawn = (char, &'static str, Tone, fn(&Sample) -> Option<f32>);

/// What the chart shows; silence stands at its foot.
const CURVES: [Drawn; 2] = [
    ('r', "RMS", Tone::Bright, |sample| sample.get(Fig::SoundRms).map(|db| db.max(sound::LEAST))),
    ('p', "peak", Tone::Here, |sample| sample.get(Fig::SoundPeak).map(|db| db.max(sound::LEAST))),
];
const TITLE: &str = "sound level dBFS, RMS and peak";

fn samples(app: &App, key: FeedKey, span: Past) -> Vec<(f64, Sample)> {
    app.history.get(&key).map_or_else(Vec::new, |past| past.over(app.now, span))
}

fn draw_chart(app: &App, theme: Theme, key: FeedKey, span: Past, area: Rect, buf: &mut Buffer) {
    let samples = samples(app, key, span);
    let curves = CURVES.map(|(letter, _, tone, value)| Curve {
        letter,
        tone,
        points: samples.iter().map(|(age, sample)| (*age, value(sample).map(f64::from))).collect(),
    });
    let title = format!("{TITLE}, the last {}", span.words());
    let (times, seconds) = (chart::times(app, span), span.duration().as_secs_f64());
    let lines = Lines {
        title: &title,
        digits: 0,
        span: seconds,
        times: &times,
        least_top: 0.0,
        fitted: true,
        cursor: None,
        curves: &curves,
        gaps: &[],
        ticks: &[],
    };
    chart::draw(theme, &lines, area, buf);
}

/// The same chart for paper.
pub fn on_paper(app: &App, key: FeedKey, span: Past) -> (String, Drawing) {
    let samples = samples(app, key, span);
    let curves = CURVES.iter().map(|(_, name, _, value)| paper::curve(app, name, &samples, value)).collect();
    let chart = PaperChart { title: TITLE.to_owned(), digits: 0, least_top: 0.0, fitted: true, curves };
    let title = format!("{}: sound, the last {}", app.stream_name(key), span.words());
    let drawing = paper::pages(app, &title, span, vec![chart], Vec::new());
    (title, drawing)
}
