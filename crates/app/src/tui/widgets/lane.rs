//! The verdicts of one stream over a time, in one row.

use crate::tui::theme::{Theme, Tone, sign};
use lattice_core::Verdict;
use lattice_core::meter::Sample;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// Draws it; `span` is its length in seconds, `cursor` an age that is marked. A cell is as bad as the worst in it, and nothing
/// stands where nothing was measured.
pub fn draw(theme: Theme, samples: &[(f64, Sample)], span: f64, cursor: Option<f64>, place: Rect, buf: &mut Buffer) {
    if place.width == 0 || place.height == 0 {
        return;
    }
    let last = f64::from(place.width - 1);
    let column = |age: f64| last as u16 - (age.clamp(0.0, span) / span * last).round() as u16;
    let mut cells: Vec<Option<Verdict>> = vec![None; usize::from(place.width)];
    for pair in samples.windows(2) {
        let [(from, _), (to, sample)] = pair else { continue };
        // A gap in time stays one.
        let from = if from - to > (span / 60.0).max(2.5) * 1.5 { column(*to) } else { column(*from) + 1 };
        for cell in cells.iter_mut().take(usize::from(column(*to)) + 1).skip(usize::from(from.min(column(*to)))) {
            *cell = cell.map_or(sample.verdict, |one| sample.verdict.map(|two| one.worse(two)));
        }
    }
    for (x, verdict) in cells.into_iter().enumerate() {
        let Some(verdict) = verdict else { continue };
        let steady = verdict == Verdict::Steady;
        let (text, tone) = if steady { ("·", Tone::Calm) } else { (sign(verdict), Theme::verdict(verdict)) };
        buf.set_string(place.x + x as u16, place.y, text, theme.tone(tone));
    }
    if let Some(age) = cursor {
        buf.set_style(Rect { x: place.x + column(age), width: 1, height: 1, ..place }, theme.tone(Tone::Here));
    }
}
