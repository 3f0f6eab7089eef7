//! The flash probe: most of the screen turns light and dark, a strip at the foot tells what was seen.

use super::{FlashPage, Phase};
use crate::tui::app::App;
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::{plate, tile};
use lattice_core::flash::{FLASHES, FlashReading};
use lattice_core::lattice::Aspect;
use lattice_core::meter::{Latency, LatencyBasis};
use lattice_engine::{Drawing, FeedKey};
use lattice_report::flashes_page;
use lattice_term::ColourDepth;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::symbols::Marker;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Axis, Chart, Dataset, GraphType, Paragraph, Widget as _, Wrap};
use std::time::Duration;

/// Rows of the strip at the foot.
const STRIP: u16 = 9;

/// The part that turns light and dark, and the strip below.
fn split(body: Rect) -> (Rect, Rect) {
    let strip = STRIP.min(body.height / 2).max(4);
    let light = Rect { height: body.height.saturating_sub(strip), ..body };
    (light, Rect { y: light.bottom(), height: body.height - light.height, ..body })
}

/// Where the picture stands.
pub fn picture(app: &App, body: Rect) -> Rect {
    let (_, strip) = split(body);
    let height = strip.height.saturating_sub(2).max(1);
    let width = (f64::from(height) * 16.0 / 9.0 / app.cell_aspect.max(0.1)).round() as u16;
    Rect { y: strip.y + 1, width: width.min(body.width / 2), height, ..strip }
}

/// Draws it; whether the picture is on the screen.
pub fn draw(
    app: &App,
    page: &FlashPage,
    theme: Theme,
    key: FeedKey,
    body: Rect,
    painter: &mut TilePainter,
    buf: &mut Buffer,
) -> bool {
    let (light, strip) = split(body);
    let reading = app.figures.get(&key).and_then(|figures| figures.flash.clone());
    let measured = reading.filter(|reading| page.phase == Phase::Done && !reading.around.is_empty());
    if let Some(reading) = measured {
        overlaid(app, theme, key, &reading, light, buf);
    } else if matches!(page.phase, Phase::Aiming | Phase::Done) {
        instructions(app, theme, key, light, buf);
    } else {
        let (bright, dark) = theme.light_and_dark();
        let (sign, style) = if page.lit(app.now) { ('█', bright) } else { (' ', dark) };
        for position in light.positions() {
            buf[position].set_char(sign).set_style(style);
        }
    }
    let place = picture(app, body);
    let drawn = tile::picture(app, theme, key, Aspect::Fit, painter, place, buf);
    let name = app.stream_name(key);
    let subject = plate::Subject { key, name: &name, tile: None, selected: true };
    plate::draw(app, theme, subject, Rect { y: place.bottom(), height: 1, ..place }, buf);
    let x = place.right() + 2;
    let beside = Rect { x, width: body.right().saturating_sub(x), y: strip.y + 1, height: strip.height.saturating_sub(1) };
    Paragraph::new(results(app, page, theme, key)).wrap(Wrap { trim: true }).render(beside, buf);
    drawn
}

fn instructions(app: &App, theme: Theme, key: FeedKey, area: Rect, buf: &mut Buffer) {
    let text = |text: String| Line::styled(text, theme.tone(Tone::Text)).centered();
    let faint = |text: String| Line::styled(text, theme.tone(Tone::Faint)).centered();
    let title = Line::styled(format!("Flash probe of {}", app.stream_name(key)), theme.tone(Tone::Bright)).centered();
    let lines = vec![
        title,
        Line::default(),
        text("Point the camera at this screen, so that this part fills a good deal of its picture.".into()),
        text("Then Enter: it turns light and dark ten times, and what the camera shows of it is timed.".into()),
        Line::default(),
        faint("Two or three flashes a second: whoever is sensitive to flashing light should look away.".into()),
        faint("Lamps, sun and other screens do no harm: the pattern is one that they do not have.".into()),
    ];
    let height = (lines.len() as u16).min(area.height);
    let place = Rect { y: area.y + (area.height - height) / 2, height, ..area };
    Paragraph::new(lines).wrap(Wrap { trim: true }).render(place, buf);
}

/// The ten flashes over each other: how bright the pictures were, by when they were on the screen.
fn overlaid(app: &App, theme: Theme, key: FeedKey, reading: &FlashReading, area: Rect, buf: &mut Buffer) {
    let Some((_, median, longest)) = reading.seen_after().filter(|_| area.height >= 8) else { return };
    let title = format!(
        "{}: how bright its pictures were after the screen turned light, ten flashes over each other",
        app.stream_name(key)
    );
    Line::styled(title, theme.tone(Tone::Calm)).render(Rect { y: area.y + 1, height: 1, ..area }, buf);
    let end = (longest.as_secs_f64() * 1500.0 / 50.0).ceil() * 50.0;
    let points: Vec<(f64, f64)> = reading
        .around
        .iter()
        .map(|(after, bright)| (*after as f64 / 1e3, *bright))
        .filter(|(after, _)| (-100.0..=end).contains(after))
        .collect();
    let at = |x: f64| vec![(x, 0.0), (x, 255.0)];
    let (lit, seen) = (at(0.0), at(median.as_secs_f64() * 1e3));
    let line = |data| Dataset::default().marker(Marker::Braille).graph_type(GraphType::Line).data(data);
    let faint = theme.tone(Tone::Faint);
    let datasets = vec![
        line(&lit).style(theme.tone(Tone::Here)),
        line(&seen).style(theme.tone(Tone::Bright)),
        Dataset::default().marker(Marker::Dot).graph_type(GraphType::Scatter).style(theme.tone(Tone::Text)).data(&points),
    ];
    let chart = Rect { y: area.y + 2, height: area.height.saturating_sub(4), ..area };
    Chart::new(datasets)
        .style(theme.ground())
        .x_axis(Axis::default().bounds([-100.0, end]).style(faint))
        .y_axis(
            Axis::default()
                .bounds([0.0, 255.0])
                .labels([Span::styled("    0", faint), Span::styled("  255", faint)])
                .style(faint),
        )
        .legend_position(None)
        .render(chart, buf);
    // What the two lines are, under them.
    let left = chart.x + 6;
    let column = |x: f64| left + ((x + 100.0) / (end + 100.0) * f64::from(chart.right().saturating_sub(left + 1))).round() as u16;
    let y = chart.bottom();
    buf.set_string(column(0.0), y, "0 ms: light", theme.tone(Tone::Here));
    let seen = format!("{} ms: seen, the median", millis(median));
    let x = column(median.as_secs_f64() * 1e3).max(column(0.0) + 13);
    buf.set_stringn(x, y, &seen, usize::from(area.right().saturating_sub(x)), theme.tone(Tone::Bright));
}

/// What was measured, for paper: title, pages; `None` before anything was.
pub fn on_paper(app: &App, page: &FlashPage) -> Option<(String, Drawing)> {
    let key = page.key?;
    let reading = app.figures.get(&key)?.flash.clone().filter(|reading| !reading.around.is_empty())?;
    let (_, median, _) = reading.seen_after()?;
    let points: Vec<(f64, f64)> = reading.around.iter().map(|(after, bright)| (*after as f64 / 1e3, *bright)).collect();
    let points: Vec<(f64, f64)> = points.into_iter().filter(|(after, _)| *after >= -100.0).collect();
    let plain = Theme::new(ColourDepth::Mono);
    let said: Vec<String> = results(app, page, plain, key).iter().skip(1).map(ToString::to_string).collect();
    let title = format!("Flash probe of {}", app.stream_name(key));
    let (heading, foot, median) = (title.clone(), app.foot_on_paper(), median.as_secs_f64() * 1e3);
    Some((title, Drawing(Box::new(move || flashes_page(&heading, &foot, &points, median, &said)))))
}

fn millis(span: Duration) -> String {
    format!("{:.0}", span.as_secs_f64() * 1e3)
}

/// A bound in ms: rather too wide.
fn bound(span: Duration) -> String {
    format!("{:.0}", (span.as_secs_f64() * 1e3).ceil().max(1.0))
}

fn results<'a>(app: &App, page: &FlashPage, theme: Theme, key: FeedKey) -> Vec<Line<'a>> {
    let figures = app.figures.get(&key);
    let line = |name: &str, text: String, tone: Tone| {
        let name = Span::styled(format!("{name:<11}"), theme.tone(Tone::Faint));
        Line::from(vec![name, Span::styled(text, theme.tone(tone))])
    };
    let mut lines = Vec::new();
    let state = match (page.progress(app.now), &page.phase) {
        (_, Phase::Gathering(_)) => "the last pictures are awaited".to_owned(),
        (Some((begun, left)), _) => format!("flash {begun} of {FLASHES}, {:.0} s more", left.as_secs_f64().ceil()),
        (None, Phase::Done) => "done".to_owned(),
        (None, _) => "ready: Enter begins".to_owned(),
    };
    lines.push(line("probe", state, Tone::Bright));
    let latency = figures.and_then(|figures| figures.latency);
    let Some(reading) = figures.and_then(|figures| figures.flash.clone()).filter(|_| page.phase != Phase::Aiming) else {
        lines.push(before(latency, &line));
        return lines;
    };
    // What was asked for comes first: a small terminal has no room for the rest.
    match latency.filter(|latency| latency.basis == LatencyBasis::Flash && !reading.running) {
        Some(latency) => {
            let error = latency.error.map_or_else(String::new, |error| format!(" ±{}", bound(error)));
            let total = latency.total;
            let text = format!("{}{error} ms, 95th percentile {}: glass to glass", millis(total.p50), millis(total.p95));
            lines.push(line("latency", text, Tone::Bright));
            lines.extend(reading.before_stamp.map(|(micros, error)| {
                let text = format!(
                    "its pictures are stamped {} ±{} ms after the light was there: its clock does not tell of that",
                    micros / 1000,
                    bound(error)
                );
                line("the camera", text, Tone::Text)
            }));
        }
        None if reading.running => {}
        None => lines.push(before(latency, &line)),
    }
    lines.push(seen(&reading, &line));
    if reading.flashes.iter().any(|flash| flash.seen_after.is_some()) {
        let each = reading.flashes.iter().map(|flash| flash.seen_after.map_or_else(|| "–".into(), millis));
        lines.push(line("each, ms", each.collect::<Vec<String>>().join("  "), Tone::Text));
    }
    if let Some((least, median, longest)) = reading.seen_after() {
        let text = format!(
            "median {} ms, {} to {}: from the light until it is on the screen, with the wait for the next picture",
            millis(median),
            millis(least),
            millis(longest)
        );
        lines.push(line("seen after", text, Tone::Text));
    }
    lines
}

/// What is known without flashes.
fn before<'a>(latency: Option<Latency>, line: &dyn Fn(&str, String, Tone) -> Line<'a>) -> Line<'a> {
    let text = match latency {
        Some(latency) if latency.basis == LatencyBasis::Clock => {
            let error = latency.error.map_or_else(String::new, |error| format!(" ±{}", bound(error)));
            format!("{}{error} ms by its clock, without what it takes before it stamps a picture", millis(latency.total.p50))
        }
        Some(latency) => format!("{} ms above the least of the last minute: the whole is not known", millis(latency.total.p50)),
        None => "not known yet".into(),
    };
    line("latency", text, Tone::Calm)
}

fn seen<'a>(reading: &FlashReading, line: &dyn Fn(&str, String, Tone) -> Line<'a>) -> Line<'a> {
    let least = lattice_core::flash::LEAST_SEEN;
    match (reading.share, reading.captured) {
        (Some(share), captured) => {
            let agree = captured
                .map_or_else(String::new, |captured| format!(", {} of {} changes agree", captured.agree.0, captured.agree.1));
            let text = format!("in {:.0} % of the picture, {:.0} of 255 levels brighter{agree}", share * 100.0, reading.contrast);
            let weak = !reading.running && captured.is_none();
            let text = if weak { format!("{text}; too few to measure by (at least {least}): closer, or darker") } else { text };
            line("the light", text, if weak { Tone::Alarm } else { Tone::Text })
        }
        (None, _) if reading.running => line("the light", format!("looked for in {} pictures", reading.pictures), Tone::Text),
        (None, _) => line(
            "the light",
            format!("not seen in {} pictures: does the camera look at this screen? Closer, or darken the room", reading.pictures),
            Tone::Alarm,
        ),
    }
}
