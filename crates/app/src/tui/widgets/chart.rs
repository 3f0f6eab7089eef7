//! A chart of lines over time: the newest at the right edge, gaps where nothing was measured.

use crate::tui::theme::{Theme, Tone};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::symbols::Marker;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Axis, Chart, Dataset, GraphType, Widget as _};

/// One line of a chart.
pub struct Curve {
    /// The letter that stands at its newest point and before its value.
    pub letter: char,
    /// Its tone.
    pub tone: Tone,
    /// Age in seconds and value, oldest first; `None` where nothing was measured.
    pub points: Vec<(f64, Option<f64>)>,
}

/// A chart.
pub struct Lines<'a> {
    /// What it shows, with the unit.
    pub title: &'a str,
    /// Decimal digits of its values.
    pub digits: usize,
    /// How far back it goes, in seconds.
    pub span: f64,
    /// The axis goes up to this at least.
    pub least_top: f64,
    /// Where it is read, by the age in seconds; at the newest point for `None`.
    pub cursor: Option<f64>,
    /// The lines.
    pub curves: &'a [Curve],
    /// Times without a new picture, from and to by their ages in seconds: bars at the top.
    pub bars: &'a [(f64, f64)],
    /// Moments that are marked at the foot, by their ages.
    pub ticks: &'a [f64],
}

/// Columns for the labels of the axis and its line.
const AXIS: u16 = 6;

/// A round number at or above a value, so that the axis does not move with every point.
fn round_up(value: f64) -> f64 {
    let decade = 10f64.powf(value.max(1e-9).log10().floor());
    [1.0, 1.5, 2.0, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0]
        .into_iter()
        .map(|step| step * decade)
        .find(|top| *top >= value)
        .unwrap_or(value)
}

/// The runs of a curve that have no gap within; a gap is also where points lie far apart in time.
fn runs(curve: &Curve, span: f64) -> Vec<Vec<(f64, f64)>> {
    let apart = (span / 60.0).max(2.5) * 1.5;
    let mut runs: Vec<Vec<(f64, f64)>> = Vec::new();
    let mut last: Option<f64> = None;
    for (age, value) in &curve.points {
        let Some(value) = value else {
            last = None;
            continue;
        };
        if last.is_none_or(|last| last - age > apart) {
            runs.push(Vec::new());
        }
        last = Some(*age);
        if let Some(run) = runs.last_mut() {
            run.push((-age, *value));
        }
    }
    runs
}

/// Draws it: title with the newest values, axis with its top, lines.
pub fn draw(theme: Theme, chart: &Lines<'_>, area: Rect, buf: &mut Buffer) {
    if area.height < 3 || area.width < 16 {
        return;
    }
    let read = |curve: &Curve| match chart.cursor {
        None => curve.points.last().and_then(|(_, value)| *value),
        Some(cursor) => {
            let near = |(age, _): &&(f64, Option<f64>)| (age - cursor).abs() <= (chart.span / 60.0).max(1.5);
            let points = curve.points.iter().filter(near);
            points.min_by(|(a, _), (b, _)| (a - cursor).abs().total_cmp(&(b - cursor).abs())).and_then(|(_, value)| *value)
        }
    };
    let mut title = vec![Span::styled(chart.title.to_owned(), theme.tone(Tone::Calm))];
    for curve in chart.curves {
        let value = read(curve).map_or_else(|| "–".to_owned(), |value| format!("{value:.*}", chart.digits));
        title.push(Span::styled(format!("  {} {value}", curve.letter), theme.tone(curve.tone)));
    }
    Line::from(title).render(Rect { height: 1, ..area }, buf);
    let all = chart.curves.iter().flat_map(|curve| curve.points.iter().filter_map(|(_, value)| *value));
    let top = round_up(all.fold(chart.least_top, f64::max));
    let runs: Vec<(Tone, Vec<(f64, f64)>)> =
        chart.curves.iter().flat_map(|curve| runs(curve, chart.span).into_iter().map(|run| (curve.tone, run))).collect();
    let datasets = runs
        .iter()
        .map(|(tone, run)| {
            let kind = if run.len() > 1 { GraphType::Line } else { GraphType::Scatter };
            Dataset::default().marker(Marker::Braille).graph_type(kind).style(theme.tone(*tone)).data(run)
        })
        .collect();
    let body = Rect { y: area.y + 1, height: area.height - 1, ..area };
    let faint = theme.tone(Tone::Faint);
    let label = |value: f64| {
        let digits = usize::from(value != 0.0 && top < 10.0);
        Span::styled(format!("{value:>5.digits$}"), faint)
    };
    Chart::new(datasets)
        .style(theme.ground())
        .x_axis(Axis::default().bounds([-chart.span, 0.0]).style(faint))
        .y_axis(Axis::default().bounds([0.0, top]).labels([label(0.0), label(top)]).style(faint))
        .legend_position(None)
        .render(body, buf);
    // Of both charts and marks the axis leaves the columns of its figures to the left.
    let left = body.x + AXIS.min(body.width);
    let across = f64::from(body.right().saturating_sub(left + 1));
    let column = |age: f64| body.right() - 1 - (age.clamp(0.0, chart.span) / chart.span * across).round() as u16;
    for tick in chart.ticks.iter().filter(|age| **age <= chart.span) {
        buf.set_string(column(*tick), body.bottom() - 1, "╵", theme.tone(Tone::Calm));
    }
    for (from, to) in chart.bars.iter().filter(|(_, to)| *to <= chart.span) {
        for x in column(*from)..=column(*to) {
            buf.set_string(x, body.y, "▀", theme.tone(Tone::Alarm));
        }
    }
    // Where it is read: the axis leaves the figures' columns to the left of the graph.
    if let Some(cursor) = chart.cursor {
        let x = column(cursor);
        for y in body.y..body.bottom() {
            buf.set_style(Rect { x, y, width: 1, height: 1 }, theme.tone(Tone::Here));
            if buf[(x, y)].symbol() == " " || buf[(x, y)].symbol() == "⠀" {
                buf.set_string(x, y, "┊", theme.tone(Tone::Here));
            }
        }
        return;
    }
    // The letter at the newest point: lines can be told apart without colour.
    let last = body.height.saturating_sub(1);
    let mut taken = Vec::new();
    for curve in chart.curves {
        let Some(value) = read(curve) else { continue };
        let up = (value / top * f64::from(last)).round().clamp(0.0, f64::from(last)) as u16;
        // Where two lie on each other, their letters stand side by side.
        let beside = taken.iter().filter(|other| **other == up).count() as u16;
        taken.push(up);
        buf.set_string(body.right() - 1 - beside, body.y + last - up, curve.letter.to_string(), theme.tone(curve.tone));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_term::ColourDepth;

    #[test]
    fn axes_are_round_and_gaps_stay_gaps() {
        assert_eq!([0.7, 1.0, 13.1, 47.0, 82.0].map(round_up), [0.8, 1.0, 15.0, 50.0, 100.0]);
        let points = vec![(9.0, Some(1.0)), (8.0, Some(2.0)), (7.0, None), (6.0, Some(3.0)), (1.0, Some(4.0))];
        let curve = Curve { letter: 'a', tone: Tone::Bright, points };
        assert_eq!(runs(&curve, 60.0), [vec![(-9.0, 1.0), (-8.0, 2.0)], vec![(-6.0, 3.0)], vec![(-1.0, 4.0)]]);
    }

    #[test]
    fn it_is_drawn_with_its_values_in_any_size_that_has_room() {
        let line = |letter, value| Curve {
            letter,
            tone: Tone::Here,
            points: (0..60).rev().map(|age| (f64::from(age), Some(value))).collect(),
        };
        let curves = [line('a', 41.0), line('b', 312.4)];
        for (width, height) in [(1, 1), (16, 3), (40, 8), (200, 50)] {
            let mut buf = Buffer::empty(Rect::new(0, 0, width, height));
            let chart = Lines {
                title: "latency ms",
                digits: 0,
                span: 60.0,
                least_top: 1.0,
                cursor: None,
                curves: &curves,
                bars: &[(9.0, 5.0)],
                ticks: &[20.0],
            };
            draw(Theme::new(ColourDepth::Mono), &chart, buf.area, &mut buf);
            let text: String = buf.content.iter().map(ratatui::buffer::Cell::symbol).collect();
            assert_eq!(text.contains("a 41  b 312"), width >= 40, "{text}");
            assert_eq!(text.contains("400"), width >= 16, "the top of the axis: {text}");
            assert_eq!((text.contains('▀'), text.contains('╵')), (width >= 16, width >= 16), "{text}");
        }
    }
}
