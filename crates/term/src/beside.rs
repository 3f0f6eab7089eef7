//! What stands beside a picture: drawn when it says something else, put there again while it says the same.
//!
//! Pictures come up to fifty times a second, figures twice: laying their lines out for each picture costs more than the
//! pictures do.

use lattice_core::Mono;
use ratatui::buffer::{Buffer, Cell};
use ratatui::layout::Rect;
use std::time::Duration;

/// What counts seconds is right again after this time.
const STANDS_FOR: Duration = Duration::from_millis(250);

/// The cells beside one picture, as they were drawn last.
#[derive(Debug, Default)]
pub struct Beside {
    said: u64,
    until: Option<Mono>,
    cells: Vec<(Rect, Vec<Cell>)>,
}

impl Beside {
    /// Nothing is drawn yet, or something happened that it may tell: it is drawn at the next step.
    pub fn forget(&mut self) {
        self.until = None;
    }

    /// Fills these areas: by `draw`, or as it was drawn last where `said` is the same. `said` stands for all that is told there
    /// but the time.
    pub fn put(&mut self, areas: [Rect; 2], said: u64, now: Mono, buf: &mut Buffer, draw: impl FnOnce(&mut Buffer)) {
        let areas = areas.map(|area| area.intersection(buf.area));
        let same = self.said == said && self.cells.iter().map(|(area, _)| *area).eq(areas);
        if same && self.until.is_some_and(|until| now < until) {
            for (area, cells) in &self.cells {
                for (row, y) in cells.chunks(usize::from(area.width).max(1)).zip(area.top()..area.bottom()) {
                    let at = buf.index_of(area.x, y);
                    buf.content[at..at + row.len()].clone_from_slice(row);
                }
            }
            return;
        }
        draw(buf);
        let kept = areas.map(|area| {
            let rows = (area.top()..area.bottom()).map(|y| buf.index_of(area.x, y));
            (area, rows.flat_map(|at| buf.content[at..at + usize::from(area.width)].to_vec()).collect())
        });
        (self.said, self.until, self.cells) = (said, Some(now.offset(STANDS_FOR.as_micros() as i64)), kept.into());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_drawn_when_they_say_something_else_are_elsewhere_old_or_forgotten() {
        let mut beside = Beside::default();
        let mut drawn = 0;
        let mut step = |beside: &mut Beside, areas: [Rect; 2], said: u64, millis: u64| {
            let mut buf = Buffer::empty(Rect::new(0, 0, 12, 4));
            beside.put(areas, said, Mono::from_millis(millis), &mut buf, |buf| {
                drawn += 1;
                if buf.area.contains(areas[0].as_position()) {
                    buf.set_string(areas[0].x, areas[0].y, format!("plate {drawn}"), ratatui::style::Style::new());
                }
            });
            let text: String = buf.content.iter().map(Cell::symbol).collect();
            text.trim().to_owned()
        };
        let areas = [Rect::new(0, 1, 12, 1), Rect::new(0, 2, 12, 1)];
        let at = |millis, said, areas| (millis, said, areas);
        let moved = [Rect::new(2, 1, 9, 1), Rect::new(0, 2, 12, 1)];
        let steps = [
            (at(0, 7, areas), "plate 1"),
            (at(249, 7, areas), "plate 1"),
            (at(250, 7, areas), "plate 2"),
            (at(260, 8, areas), "plate 3"),
            (at(270, 8, moved), "plate 4"),
            // Areas that a small screen leaves nothing of.
            (at(280, 8, [Rect::new(0, 9, 12, 1), Rect::default()]), ""),
        ];
        for ((millis, said, areas), told) in steps {
            assert_eq!(step(&mut beside, areas, said, millis), told, "{millis}");
        }
        assert_eq!(step(&mut beside, areas, 8, 290), "plate 6");
        beside.forget();
        assert_eq!(step(&mut beside, areas, 8, 300), "plate 7");
    }
}
