//! Shift reports and charts on paper: drawn as SVG, which becomes PDF, and as CSV and JSON.
//!
//! Everything can be read in black-and-white print: bars and boxes are told apart by pattern and height, and every chart
//! has its axes, units and legend. The font of the tree is embedded, so that a page looks the same on any machine.
#![forbid(unsafe_code)]
#![cfg_attr(test, allow(clippy::unwrap_used))]

mod charts;
mod page;
mod pdf;
mod photo;
mod shift;
mod still;
mod svg;
mod tables;
mod text;

pub use charts::{Chart, Curve, charts_page, flashes_page};
pub use page::Page;
pub use pdf::{PdfError, pdf};
pub use photo::{Pair, Photo};
pub use shift::{Lane, Report, lanes_page, pages};
pub use still::{Raster, StillError, captioned, contact_sheet};
pub use tables::{Table, csv, entry_line, json};

/// Pages one under the other as one SVG.
#[must_use]
pub fn svg(pages: &[Page]) -> String {
    page::stacked(pages)
}
