//! Charts for paper.

use crate::tui::app::App;
use lattice_core::Wall;
use lattice_core::meter::{Sample, Span};
use lattice_engine::Drawing;
use lattice_report::{Chart, Curve, charts_page};

/// A curve by the time of day.
pub fn curve(app: &App, name: &str, samples: &[(f64, Sample)], value: &dyn Fn(&Sample) -> Option<f32>) -> Curve {
    let point = |(age, sample): &(f64, Sample)| (app.utc.offset((-age * 1e6) as i64), value(sample).map(f64::from));
    Curve { name: name.to_owned(), points: samples.iter().map(point).collect() }
}

/// Charts of a span up to now as pages.
pub fn pages(app: &App, title: &str, span: Span, charts: Vec<Chart>, missing: Vec<(Wall, Wall)>) -> Drawing {
    let (from, to) = (app.utc.offset(-(span.duration().as_micros() as i64)), app.utc);
    let (title, foot) = (title.to_owned(), app.foot_on_paper());
    let zone = jiff::tz::TimeZone::system();
    Drawing(Box::new(move || charts_page(&title, &foot, (from, to), &zone, &charts, &missing)))
}
