//! What lies around an entry of the ledger: the picture that stood last before it, the first after it, and its minute.

use super::{closeup, tile};
use crate::tui::app::{App, local_time};
use crate::tui::theme::{Theme, Tone};
use lattice_core::lattice::Aspect;
use lattice_core::ledger::Entry;
use lattice_core::meter::{Fig, Sample};
use lattice_core::{FrameRate, Mono, Role, Wall};
use lattice_engine::{Around, FeedKey};
use lattice_media::{TilePicture, Wanted, tile_of_jpeg};
use lattice_store::KeptPicture;
use lattice_term::{Freshness, Look, TilePainter};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use std::cell::RefCell;
use std::sync::Arc;

/// Columns for what is said, at least: the rest is for the two pictures.
const TEXT: u16 = 52;
/// A picture of fewer columns tells nothing.
const LEAST: u16 = 14;
/// Columns of what is said behind the minute.
const VALUE: u16 = 16;
/// Rows of the minute: five figures, where the entry lies in it, and the time.
const MINUTE: u16 = 7;

/// Where its parts stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Places {
    /// For what is said of the entry.
    pub text: Rect,
    /// For its minute.
    pub minute: Rect,
    /// For the picture before it; its last row is the caption.
    pub before: Rect,
    /// For the picture after it.
    pub after: Rect,
}

/// Divides the foot of a page.
pub fn places(foot: Rect, cell_aspect: f64) -> Places {
    let shape = 16.0 / 9.0 / cell_aspect.max(0.1);
    let room = foot.width.saturating_sub(TEXT + 4) / 2;
    let wide = (f64::from(foot.height.saturating_sub(1)) * shape).round() as u16;
    let wide = if room < LEAST { 0 } else { wide.min(room) };
    let height = ((f64::from(wide) / shape).round() as u16 + 1).min(foot.height);
    let after = Rect { x: foot.right() - wide, width: wide, height, ..foot };
    let before = Rect { x: after.x.saturating_sub(wide + 2), ..after };
    let left = Rect { width: foot.width.saturating_sub(2 * wide + 4), ..foot };
    let minute = Rect { y: left.bottom().saturating_sub(MINUTE), height: MINUTE.min(left.height), ..left };
    Places { text: Rect { height: left.height.saturating_sub(MINUTE + 1), ..left }, minute, before, after }
}

/// A picture's place without its caption.
pub const fn pictured(place: Rect) -> Rect {
    Rect { height: place.height.saturating_sub(1), ..place }
}

/// A picture as it is painted: when it was received, for which room it was made.
type Shown = (Wall, Wanted, Arc<TilePicture>);

/// What is known around the selected entry, and its pictures as they are painted.
#[derive(Debug, Default)]
pub struct Known {
    around: Option<Arc<Around>>,
    /// For which entry that was asked, and when.
    asked: Option<(u64, Mono)>,
    /// The two pictures at the size that they are shown in; each is decoded once.
    shown: RefCell<[Option<Shown>; 2]>,
}

/// What goes on, or ended not long ago, is looked up again this often, in microseconds.
const AGAIN: u64 = 2_000_000;
/// Its minute is over, and its last picture kept, so long after the end, in microseconds.
const SETTLED: i64 = 60_000_000;

impl Known {
    /// Whether what is known of this entry is to be looked up now.
    pub fn is_due(&mut self, app: &App, entry: &Entry) -> bool {
        let settled = entry.end.is_some_and(|end| app.utc.micros_since(end) > SETTLED);
        let due = match self.asked {
            Some((id, at)) if id == entry.id => !settled && app.now.since(at).as_micros() as u64 >= AGAIN,
            _ => true,
        };
        if due {
            self.asked = Some((entry.id, app.now));
        }
        due
    }

    /// It was looked up.
    pub fn take(&mut self, around: &Arc<Around>) {
        self.around = Some(around.clone());
    }

    /// What is known around an entry.
    pub fn of(&self, entry: &Entry) -> Option<&Arc<Around>> {
        self.around.as_ref().filter(|around| around.entry == entry.id)
    }

    /// Draws the picture of before (0) or after (1); whether there is one.
    fn draw_kept(&self, which: usize, kept: &KeptPicture, painter: &mut TilePainter, area: Rect, buf: &mut Buffer) -> bool {
        let wanted = painter.wanted(area, Aspect::Fit);
        let shown = &mut self.shown.borrow_mut()[which];
        if shown.as_ref().is_none_or(|(at, size, _)| *at != kept.at || *size != wanted) {
            *shown = tile_of_jpeg(&kept.jpeg, &wanted).map(|picture| {
                let number = kept.at.as_unix_micros().unsigned_abs();
                (kept.at, wanted, Arc::new(TilePicture { number, ..picture }))
            });
        }
        // No stream has such a number.
        let number = u64::MAX - which as u64;
        let look = Look::whole(Freshness::Live, Aspect::Fit);
        shown.as_ref().is_some_and(|(_, _, picture)| painter.paint(number, picture, area, look, buf))
    }

    /// Draws both pictures with their times; what goes on has the live one in place of that after it. True where that is shown.
    pub fn draw_pictures(
        &self,
        app: &App,
        theme: Theme,
        (entry, live): (&Entry, Option<FeedKey>),
        places: &Places,
        painters: &mut [TilePainter],
        buf: &mut Buffer,
    ) -> bool {
        let ([first, second, ..], Some(around)) = (painters, self.of(entry)) else { return false };
        if places.before.width == 0 {
            return false;
        }
        let caption = |text: String, place: Rect, buf: &mut Buffer| {
            let foot = Rect { y: place.bottom() - 1, height: 1, ..place };
            Line::styled(text, theme.tone(Tone::Calm)).render(foot, buf);
        };
        let time = |kept: &KeptPicture| local_time(kept.at, "%H:%M:%S%.1f");
        let mut kept = |which: usize, kept: Option<&KeptPicture>, word: &str, place: Rect, buf: &mut Buffer| {
            let painter = if which == 0 { &mut *first } else { &mut *second };
            let drawn = kept.is_some_and(|kept| self.draw_kept(which, kept, painter, pictured(place), buf));
            match kept.filter(|_| drawn) {
                Some(kept) => caption(format!("{word}, {}", time(kept)), place, buf),
                None => tile::message(theme, Tone::Faint, &[format!("no picture of {word} it")], pictured(place), buf),
            }
        };
        kept(0, around.before.as_ref(), "before", places.before, buf);
        if entry.end.is_some() || entry.kind.is_change() {
            kept(1, around.after.as_ref(), "after", places.after, buf);
            return false;
        }
        let Some(live) = live else { return false };
        let drawn = closeup::picture(app, theme, live, pictured(places.after), second, buf);
        caption("now".into(), places.after, buf);
        drawn
    }
}

/// How many cells of the minute stand for each value of what is drawn.
fn cells(around: &Around, width: usize, value: impl Fn(&Sample) -> Option<f64>) -> Vec<Option<f64>> {
    let mut cells = vec![None; width];
    let each = Around::SPAN.as_micros() as f64 / width as f64;
    let at = |time: Wall| (time.micros_since(around.from) as f64 / each).max(0.0) as usize;
    for (begin, sample) in &around.samples {
        let end = begin.offset(i64::from(around.step) * 1_000_000);
        let Some(value) = value(sample) else { continue };
        let last = at(end).max(at(*begin) + 1).min(width);
        for cell in cells.get_mut(at(*begin)..last).unwrap_or_default() {
            *cell = Some(cell.map_or(value, |before: f64| before.max(value)));
        }
    }
    cells
}

/// Draws the minute around an entry: how much of the declared rate was not sent, did not arrive, was not shown; loss; latency;
/// and where in it the entry lies.
pub fn minute(app: &App, theme: Theme, entry: &Entry, around: &Around, area: Rect, buf: &mut Buffer) {
    let width = usize::from(area.width.saturating_sub(closeup::NAME + VALUE));
    if width < 10 || area.height < MINUTE {
        return;
    }
    if around.samples.is_empty() {
        return Line::styled("nothing was measured in its minute, or it is too long ago", theme.tone(Tone::Faint))
            .render(area, buf);
    }
    let role = Role::from_word(&around.of.stream);
    let key = app.camera_index(&around.of.camera).zip(role).map(|(camera, role)| FeedKey::new(camera, role));
    let declared = key.and_then(|key| app.figures.get(&key)).and_then(|figures| figures.declared).map(FrameRate::per_second);
    let arrived = || around.samples.iter().filter_map(|(_, sample)| sample.get(Fig::Arrived)).map(f64::from);
    let usual = declared.filter(|rate| *rate > 0.0).unwrap_or_else(|| arrived().fold(1.0, f64::max));
    let short = |fig: Fig| move |sample: &Sample| Some(((1.0 - f64::from(sample.get(fig)?) / usual) * 100.0).max(0.0));
    let plain = |fig: Fig| move |sample: &Sample| sample.get(fig).map(f64::from);
    let rows: [(&'static str, Vec<Option<f64>>, f64, &str); 5] = [
        ("not sent", cells(around, width, short(Fig::Sent)), 50.0, "%"),
        ("not arrived", cells(around, width, short(Fig::Arrived)), 50.0, "%"),
        ("not shown", cells(around, width, short(Fig::Shown)), 50.0, "%"),
        ("packets lost", cells(around, width, plain(Fig::Loss)), 10.0, "%"),
        ("latency p95", cells(around, width, plain(Fig::LatencyP95)), 500.0, "ms"),
    ];
    for (row, (name, values, full, unit)) in (0..).zip(&rows) {
        let digits = usize::from(*unit == "%");
        let most = closeup::most(values).map_or_else(|| "not measured".to_owned(), |most| format!("most {most:.digits$} {unit}"));
        closeup::bars(theme, name, values, *full, &most).render(Rect { y: area.y + row, height: 1, ..area }, buf);
    }
    let line = |row: u16| Rect { x: area.x + closeup::NAME, y: area.y + row, width: width as u16, height: 1 };
    let each = Around::SPAN.as_micros() as f64 / width as f64;
    let at = |time: Wall| ((time.micros_since(around.from) as f64 / each).max(0.0) as usize).min(width);
    let end = entry.end.unwrap_or(if entry.kind.is_change() { entry.start } else { app.utc });
    let marked = at(entry.start)..at(end).max(at(entry.start) + 1).min(width);
    let marks: String = (0..width).map(|cell| if marked.contains(&cell) { '▔' } else { ' ' }).collect();
    Line::styled(marks, theme.tone(Tone::Alarm)).render(line(5), buf);
    Line::styled(entry.kind.word(), theme.tone(Tone::Faint))
        .render(Rect { x: area.x, y: area.y + 5, width: closeup::NAME, height: 1 }, buf);
    let faint = theme.tone(Tone::Faint);
    Line::styled(local_time(around.from, "%H:%M:%S"), faint).render(line(6), buf);
    if width >= 24 {
        let until = around.from.offset(Around::SPAN.as_micros() as i64);
        Line::from(Span::styled(local_time(until, "%H:%M:%S"), faint)).right_aligned().render(line(6), buf);
    }
}
