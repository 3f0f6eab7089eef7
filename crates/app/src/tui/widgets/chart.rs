//! A chart of lines over time: the newest at the right edge, gaps where nothing was measured.

use crate::tui::app::App;
use crate::tui::theme::{Theme, Tone};
use lattice_core::event::Event;
use lattice_core::meter::{Figures, Span as Past};
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

/// A time without a new picture.
pub struct Gap {
    /// Its ages in seconds, from and to.
    pub ages: (f64, f64),
    /// Why, in a few words.
    pub why: String,
}

/// The gaps that a stream had, with their causes; `who` stands before each cause.
pub fn gaps<'a>(app: &'a App, figures: Option<&'a Figures>, who: &'a str) -> impl Iterator<Item = Gap> + 'a {
    let age = |at| app.now.since(at).as_secs_f64();
    let missing = figures.into_iter().flat_map(|figures| figures.events.iter()).filter(|event| event.kind.is_dropout());
    missing.map(move |event: &Event| {
        let why = event.cause.map_or("cause not known", |cause| cause.phrase());
        Gap { ages: (age(event.start), event.end.map_or(0.0, age)), why: format!("{who}{why}") }
    })
}

/// The times of day at the begin, the middle and the end of the time up to now.
pub fn times(app: &App, past: Past) -> [String; 3] {
    let format = if past.duration().as_secs() > 600 { "%H:%M" } else { "%H:%M:%S" };
    let micros = past.duration().as_micros() as i64;
    [micros, micros / 2, 0].map(|before| crate::tui::app::local_time(app.utc.offset(-before), format))
}

/// A chart.
pub struct Lines<'a> {
    /// What it shows, with the unit.
    pub title: &'a str,
    /// Decimal digits of its values.
    pub digits: usize,
    /// How far back it goes, in seconds.
    pub span: f64,
    /// The times of day at its begin, its middle and its end.
    pub times: &'a [String; 3],
    /// The axis goes up to this at least, where it begins at zero.
    pub least_top: f64,
    /// The axis has what the lines need, and no zero.
    pub fitted: bool,
    /// Where it is read, by the age in seconds; at the newest point for `None`.
    pub cursor: Option<f64>,
    /// The lines.
    pub curves: &'a [Curve],
    /// Times without a new picture: bars at the top with their causes.
    pub gaps: &'a [Gap],
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

/// Both ends of the axis. From zero up to a round number; fitted, or where values are below zero, as the values need.
fn bounds(chart: &Lines<'_>) -> (f64, f64) {
    let values = || chart.curves.iter().flat_map(|curve| curve.points.iter().filter_map(|(_, value)| *value));
    let (least, most) = values().fold((f64::INFINITY, f64::NEG_INFINITY), |(a, b), value| (a.min(value), b.max(value)));
    if least > most || (!chart.fitted && least >= 0.0) {
        return (0.0, round_up(most.max(chart.least_top)));
    }
    let finest = 10f64.powi(-(chart.digits as i32));
    let step = round_up((most - least) / 3.0).max(finest);
    let low = ((least / step).ceil() - 1.0) * step;
    let high = ((most / step).floor() + 1.0) * step;
    (if least >= 0.0 { low.max(0.0) } else { low }, high)
}

/// A value; what rounds to zero has no sign.
fn written(value: f64, digits: usize) -> String {
    let text = format!("{value:.digits$}");
    if text.trim_matches(['-', '0', '.']).is_empty() { text.trim_start_matches('-').to_owned() } else { text }
}

/// A value beside the axis, in five letters at most.
fn label(value: f64, digits: usize) -> String {
    let text = written(value, if value == 0.0 { 0 } else { digits });
    if text.len() > 5 { format!("{:.0}k", value / 1e3) } else { text }
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
        let value = read(curve).map_or_else(|| "–".to_owned(), |value| written(value, chart.digits));
        title.push(Span::styled(format!("  {} {value}", curve.letter), theme.tone(curve.tone)));
    }
    Line::from(title).render(Rect { height: 1, ..area }, buf);
    let (low, high) = bounds(chart);
    let runs: Vec<(Tone, Vec<(f64, f64)>)> =
        chart.curves.iter().flat_map(|curve| runs(curve, chart.span).into_iter().map(|run| (curve.tone, run))).collect();
    let datasets = runs
        .iter()
        .map(|(tone, run)| {
            let kind = if run.len() > 1 { GraphType::Line } else { GraphType::Scatter };
            Dataset::default().marker(Marker::Braille).graph_type(kind).style(theme.tone(*tone)).data(run)
        })
        .collect();
    // The times of day stand below, where there is room for more than two rows of lines.
    let below = u16::from(area.height > 4);
    let body = Rect { y: area.y + 1, height: area.height - 1 - below, ..area };
    let faint = theme.tone(Tone::Faint);
    let digits = if high - low < 10.0 { chart.digits.max(usize::from(high < 10.0)) } else { 0 };
    let label = |value: f64| Span::styled(format!("{:>5}", label(value, digits)), faint);
    Chart::new(datasets)
        .style(theme.ground())
        .x_axis(Axis::default().bounds([-chart.span, 0.0]).style(faint))
        .y_axis(Axis::default().bounds([low, high]).labels([label(low), label(high)]).style(faint))
        .legend_position(None)
        .render(body, buf);
    // Of both charts and marks the axis leaves the columns of its figures to the left.
    let left = body.x + AXIS.min(body.width);
    let across = f64::from(body.right().saturating_sub(left + 1));
    let column = |age: f64| body.right() - 1 - (age.clamp(0.0, chart.span) / chart.span * across).round() as u16;
    for tick in chart.ticks.iter().filter(|age| **age <= chart.span) {
        buf.set_string(column(*tick), body.bottom() - 1, "╵", theme.tone(Tone::Calm));
    }
    for gap in chart.gaps.iter().filter(|gap| gap.ages.1 <= chart.span) {
        for x in column(gap.ages.0)..=column(gap.ages.1) {
            buf.set_string(x, body.y, "▀", theme.tone(Tone::Alarm));
        }
    }
    causes(theme, chart, &column, (left, body.right()), body.y, buf);
    if below > 0 {
        axis_of_time(theme, chart, Rect { x: left, y: body.bottom(), width: body.right() - left, height: 1 }, buf);
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
        let up = ((value - low) / (high - low) * f64::from(last)).round().clamp(0.0, f64::from(last)) as u16;
        // Where two lie on each other, their letters stand side by side.
        let beside = taken.iter().filter(|other| **other == up).count() as u16;
        taken.push(up);
        buf.set_string(body.right() - 1 - beside, body.y + last - up, curve.letter.to_string(), theme.tone(curve.tone));
    }
}

/// The cause of each gap beside its bar, the newest first, where there is room.
fn causes(theme: Theme, chart: &Lines<'_>, column: &dyn Fn(f64) -> u16, (left, right): (u16, u16), y: u16, buf: &mut Buffer) {
    let mut taken: Vec<(u16, u16)> = chart
        .gaps
        .iter()
        .filter(|gap| gap.ages.1 <= chart.span)
        .map(|gap| (column(gap.ages.0), column(gap.ages.1) + 1))
        .collect();
    for gap in chart.gaps.iter().rev().filter(|gap| gap.ages.1 <= chart.span) {
        let width = gap.why.chars().count() as u16;
        let (from, to) = (column(gap.ages.0), column(gap.ages.1) + 1);
        let places = [(to + 1, to + 1 + width), (from.saturating_sub(width + 1), from.saturating_sub(1))];
        let free =
            |(a, b): &(u16, u16)| *a >= left && *b <= right && b - a == width && taken.iter().all(|(c, d)| *b <= *c || *a >= *d);
        let blank = |(a, b): &(u16, u16)| (*a..*b).all(|x| matches!(buf[(x, y)].symbol(), " " | "⠀"));
        if let Some(place) = places.into_iter().find(|place| free(place) && blank(place)) {
            buf.set_string(place.0, y, &gap.why, theme.tone(Tone::Text));
            taken.push((place.0.saturating_sub(1), place.1 + 1));
        }
    }
}

/// The times of day under the lines.
fn axis_of_time(theme: Theme, chart: &Lines<'_>, area: Rect, buf: &mut Buffer) {
    let [begin, middle, end] = chart.times;
    let width = |text: &String| text.chars().count() as u16;
    let faint = theme.tone(Tone::Faint);
    let ends = width(begin) + width(end) + 2;
    if area.width >= ends + width(middle) + 2 {
        buf.set_string(area.x + (area.width - width(middle)) / 2, area.y, middle, faint);
    }
    if area.width >= ends {
        buf.set_string(area.x, area.y, begin, faint);
    }
    if area.width >= width(end) {
        buf.set_string(area.right() - width(end), area.y, end, faint);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lattice_term::ColourDepth;

    #[test]
    fn axes_are_round_and_gaps_stay_gaps() {
        assert_eq!([0.7, 1.0, 13.1, 47.0, 82.0].map(round_up), [0.8, 1.0, 15.0, 50.0, 100.0]);
        assert_eq!([-0.04, 0.0, -0.06, -10.0].map(|value| written(value, 1)), ["0.0", "0.0", "-0.1", "-10.0"]);
        let points = vec![(9.0, Some(1.0)), (8.0, Some(2.0)), (7.0, None), (6.0, Some(3.0)), (1.0, Some(4.0))];
        let curve = Curve { letter: 'a', tone: Tone::Bright, points };
        assert_eq!(runs(&curve, 60.0), [vec![(-9.0, 1.0), (-8.0, 2.0)], vec![(-6.0, 3.0)], vec![(-1.0, 4.0)]]);
    }

    fn flat(letter: char, value: f64) -> Curve {
        Curve { letter, tone: Tone::Here, points: (0..60).rev().map(|age| (f64::from(age), Some(value))).collect() }
    }

    fn drawn(curves: &[Curve], fitted: bool, (width, height): (u16, u16)) -> Vec<String> {
        let mut buf = Buffer::empty(Rect::new(0, 0, width, height));
        let gap = |from, to, why: &str| Gap { ages: (from, to), why: why.into() };
        let chart = Lines {
            title: "latency ms",
            digits: 0,
            span: 60.0,
            times: &["14:01:00", "14:01:30", "14:02:00"].map(str::to_owned),
            least_top: 1.0,
            fitted,
            cursor: None,
            curves,
            gaps: &[gap(99.0, 80.0, "too old"), gap(40.0, 38.0, "no route"), gap(9.0, 5.0, "packets lost on the path")],
            ticks: &[20.0],
        };
        draw(Theme::new(ColourDepth::Mono), &chart, buf.area, &mut buf);
        buf.content.chunks(width.into()).map(|row| row.iter().map(ratatui::buffer::Cell::symbol).collect()).collect()
    }

    #[test]
    fn it_is_drawn_with_its_values_in_any_size_that_has_room() {
        let curves = [flat('a', 41.0), flat('b', 312.4)];
        for (width, height) in [(1, 1), (16, 3), (40, 8), (200, 50)] {
            let text = drawn(&curves, false, (width, height)).concat();
            assert_eq!(text.contains("a 41  b 312"), width >= 40, "{text}");
            assert_eq!(text.contains("400"), width >= 16, "the top of the axis: {text}");
            assert_eq!((text.contains('▀'), text.contains('╵')), (width >= 16, width >= 16), "{text}");
        }
    }

    #[test]
    fn the_time_of_day_stands_below_and_the_cause_beside_a_gap() {
        let rows = drawn(&[flat('a', 41.0)], false, (100, 8));
        let last = rows.last().unwrap();
        assert!(last.trim_end().ends_with("14:02:00") && last.contains("14:01:30") && last.trim_start().starts_with("14:01:00"));
        assert!(rows[1].contains("▀ no route") && rows[1].contains("packets lost on the path ▀"), "{rows:#?}");
        let narrow = drawn(&[flat('a', 41.0)], false, (30, 6));
        assert!(narrow[5].contains("14:01:00") && !narrow[5].contains("14:01:30"), "{narrow:#?}");
        assert!(!narrow.concat().contains("packets"), "a cause is written whole or not at all");
    }

    #[test]
    fn a_fitted_scale_takes_lines_apart_that_lie_on_each_other_from_zero() {
        let curves = [flat('a', 334.0), flat('b', 335.0), flat('c', 337.0)];
        let row_of = |rows: &[String], letter: char| rows.iter().skip(1).position(|row| row.ends_with(letter));
        let (zero, fitted) = (drawn(&curves, false, (60, 12)), drawn(&curves, true, (60, 12)));
        assert!(zero[1..].iter().any(|row| row.ends_with("cba")), "{zero:#?}");
        assert!(row_of(&fitted, 'a') > row_of(&fitted, 'b') && row_of(&fitted, 'b') > row_of(&fitted, 'c'), "{fitted:#?}");
        assert!(fitted.concat().contains("333") && fitted.concat().contains("338") && !fitted.concat().contains("  0"));
        // What is below zero has an axis below zero; what is far from it has room beside the axis.
        let below = drawn(&[flat('a', -1110.0), flat('b', 123_456.0)], false, (60, 12)).concat();
        assert!(below.contains("k┤") || below.contains("k│"), "{below}");
    }
}
