//! Charts of lines over time on a page, as they stand on a screen.

use crate::page::{Book, MARGIN, Page, WIDTH};
use crate::svg::{Anchor, Fill};
use crate::text::{moment, round_step, time_step};
use jiff::tz::TimeZone;
use lattice_core::Wall;

/// One line of a chart.
#[derive(Debug, Clone, PartialEq)]
pub struct Curve {
    /// What it is.
    pub name: String,
    /// When and how much, oldest first; `None` where nothing was measured.
    pub points: Vec<(Wall, Option<f64>)>,
}

/// A chart.
#[derive(Debug, Clone, PartialEq)]
pub struct Chart {
    /// What it shows, with the unit.
    pub title: String,
    /// Decimal digits of its axis.
    pub digits: usize,
    /// The axis goes up to this at least, where it begins at zero.
    pub least_top: f64,
    /// The axis has what the lines need, and no zero.
    pub fitted: bool,
    /// Its lines.
    pub curves: Vec<Curve>,
}

/// Lines are told apart by their dashes.
const DASHES: [&str; 6] = ["", "4 2", "1 1.5", "6 2 1 2", "2 2", "8 3"];
const HEIGHT: f64 = 96.0;
const LEFT: f64 = MARGIN + 34.0;

/// Charts one under the other on one axis of time; `missing` are times without new pictures.
#[must_use]
pub fn charts_page(
    title: &str,
    foot: &str,
    (from, to): (Wall, Wall),
    zone: &TimeZone,
    charts: &[Chart],
    missing: &[(Wall, Wall)],
) -> Vec<Page> {
    let mut book = Book::new(title, foot);
    let seconds = (to.micros_since(from) as f64 / 1e6).max(1.0);
    let width = WIDTH - (LEFT - MARGIN);
    let x = |at: Wall| LEFT + (at.micros_since(from) as f64 / 1e6 / seconds).clamp(0.0, 1.0) * width;
    for chart in charts {
        book.heading(&chart.title, HEIGHT + 34.0);
        let (top, bottom) = (book.y, book.y + HEIGHT);
        let values = || chart.curves.iter().flat_map(|curve| &curve.points).filter_map(|(_, value)| *value);
        let (mut least, mut most) = (values().fold(f64::INFINITY, f64::min), values().fold(f64::NEG_INFINITY, f64::max));
        if least > most || !chart.fitted {
            (least, most) = (least.min(0.0), most.max(chart.least_top));
        }
        let step = round_step(most - least, 4.0).max(10f64.powi(-(chart.digits as i32)));
        let (first, last) = ((least / step).floor(), (most / step).ceil().max((least / step).floor() + 1.0));
        let (least, most) = (first * step, last * step);
        let y = |value: f64| bottom - ((value - least) / (most - least)).clamp(0.0, 1.0) * HEIGHT;
        for n in first as i64..=last as i64 {
            let value = n as f64 * step;
            let digits = if step < 1.0 { chart.digits.max(1) } else { 0 };
            book.drawing.grid((LEFT, y(value)), (LEFT + width, y(value)));
            book.drawing.text((LEFT - 4.0, y(value) + 2.0), 6.5, Anchor::End, false, &format!("{value:.digits$}"));
        }
        let apart = time_step(seconds, 6.0);
        // A minute's axis has marks every ten seconds.
        let apart = if seconds <= 90.0 { 10.0 } else { apart };
        for n in (from.as_unix_micros() as f64 / 1e6 / apart).ceil() as i64.. {
            let at = Wall::from_unix_micros((n as f64 * apart * 1e6) as i64);
            if at > to {
                break;
            }
            let format = if seconds <= 900.0 { "%H:%M:%S" } else { "%H:%M" };
            book.drawing.grid((x(at), top), (x(at), bottom));
            book.drawing.text((x(at), bottom + 8.0), 6.5, Anchor::Middle, false, &moment(at, zone, format));
        }
        for (begin, end) in missing.iter().filter(|(begin, end)| *end >= from && *begin <= to) {
            book.drawing.rect((x(*begin), top - 3.0), ((x(*end) - x(*begin)).max(0.8), 3.0), Fill::Solid);
        }
        let mut legend = LEFT;
        for (curve, dashes) in chart.curves.iter().zip(DASHES.into_iter().cycle()) {
            for run in curve.points.split(|(_, value)| value.is_none()) {
                let points: Vec<(f64, f64)> =
                    run.iter().filter(|(at, _)| *at >= from).filter_map(|(at, value)| Some((x(*at), y((*value)?)))).collect();
                if points.len() > 1 {
                    book.drawing.polyline(&points, 0.9, dashes);
                }
            }
            book.drawing.polyline(&[(legend, bottom + 17.0), (legend + 18.0, bottom + 17.0)], 0.9, dashes);
            book.drawing.text((legend + 21.0, bottom + 19.5), 6.5, Anchor::Start, false, &curve.name);
            legend += 34.0 + curve.name.chars().count() as f64 * 4.0;
        }
        if !missing.is_empty() {
            book.drawing.rect((legend, bottom + 15.0), (9.0, 3.0), Fill::Solid);
            book.drawing.text((legend + 12.0, bottom + 19.5), 6.5, Anchor::Start, false, "no new pictures");
        }
        book.drawing.line((LEFT, bottom), (LEFT + width, bottom), 0.5);
        book.drawing.line((LEFT, top), (LEFT, bottom), 0.5);
        book.y = bottom + 24.0;
    }
    book.finish()
}

/// Flashes over each other: how bright pictures were (of 255) by when they were seen after the light (ms), the median of
/// that, and what else is to be said, a line each.
#[must_use]
pub fn flashes_page(title: &str, foot: &str, points: &[(f64, f64)], median: f64, said: &[String]) -> Vec<Page> {
    let mut book = Book::new(title, foot);
    let height = 200.0;
    book.heading("How bright the pictures were, by ms after the screen turned light", height + 40.0);
    let (top, bottom, width) = (book.y, book.y + height, WIDTH - (LEFT - MARGIN));
    let end = points.iter().map(|(after, _)| *after).fold(median * 1.5, f64::max).max(1.0);
    let begin = points.iter().map(|(after, _)| *after).fold(0.0, f64::min);
    let x = |after: f64| LEFT + (after - begin) / (end - begin) * width;
    let y = |bright: f64| bottom - (bright / 255.0).clamp(0.0, 1.0) * height;
    for bright in [0.0, 64.0, 128.0, 192.0, 255.0] {
        book.drawing.grid((LEFT, y(bright)), (LEFT + width, y(bright)));
        book.drawing.text((LEFT - 4.0, y(bright) + 2.0), 6.5, Anchor::End, false, &format!("{bright:.0}"));
    }
    let step = round_step(end - begin, 8.0);
    for n in (begin / step).ceil() as i64..=(end / step).floor() as i64 {
        let after = n as f64 * step;
        book.drawing.grid((x(after), top), (x(after), bottom));
        book.drawing.text((x(after), bottom + 8.0), 6.5, Anchor::Middle, false, &format!("{after:.0} ms"));
    }
    book.drawing.line((x(0.0), top), (x(0.0), bottom), 0.8);
    book.drawing.text((x(0.0) + 3.0, top + 7.0), 6.5, Anchor::Start, false, "light");
    book.drawing.polyline(&[(x(median), top), (x(median), bottom)], 0.8, "4 2");
    book.drawing.text((x(median) + 3.0, top + 7.0), 6.5, Anchor::Start, false, &format!("seen, the median: {median:.0} ms"));
    for (after, bright) in points {
        book.drawing.rect((x(*after) - 1.2, y(*bright) - 1.2), (2.4, 2.4), Fill::Solid);
    }
    book.y = bottom + 20.0;
    for line in said {
        book.paragraph(line, 8.0);
    }
    book.finish()
}
