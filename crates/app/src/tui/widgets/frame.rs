//! Header and footer.

use crate::tui::app::App;
use crate::tui::lattices::ALL;
use crate::tui::page::{AnyPage, KeyText};
use crate::tui::theme::{Theme, Tone, sign};
use crate::tui::widgets::plate;
use lattice_core::Verdict;
use lattice_media::DamageChoice;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use unicode_width::UnicodeWidthStr as _;

/// Where a piece of the header stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Side {
    Left,
    Middle,
    Right,
}

/// A piece of the header; of those that do not fit, the one with the highest number goes first.
struct Piece {
    side: Side,
    goes: u8,
    tone: Tone,
    text: String,
}

/// What the header would say: site, lattice and tour, how many cameras are in which state, alarms, time of day.
fn pieces(app: &App) -> Vec<Piece> {
    let piece = |side, goes, tone, text| Piece { side, goes, tone, text };
    let mut out = vec![piece(Side::Left, 6, Tone::Text, app.name.clone())];
    let lattice = app.lattices.shown();
    if app.is_on_wall() && (lattice.name != ALL || lattice.pages() > 1) {
        let page = if lattice.pages() > 1 { format!(" {}/{}", app.lattices.page() + 1, lattice.pages()) } else { String::new() };
        out.push(piece(Side::Left, 8, Tone::Calm, format!("{}{page}", lattice.name)));
        if app.lattices.is_changed(lattice) && app.available {
            out.push(piece(Side::Left, 7, Tone::Bright, ", not saved".into()));
        }
    }
    if let Some(tour) = app.tour_state().filter(|_| app.is_on_wall()) {
        let when = tour.left.map_or_else(|| "held".into(), |left| format!("next in {:.0} s", left.as_secs_f64().ceil()));
        out.push(piece(Side::Left, 9, Tone::Here, format!("tour {} {}/{}, {when}", tour.name, tour.stop.0, tour.stop.1)));
    }
    let verdict = |key: lattice_engine::FeedKey| app.figures.get(&key).map_or(Verdict::Waiting, |figures| figures.verdict);
    let verdicts: Vec<Verdict> = app.cameras.iter().filter_map(|(camera, _)| app.telling(camera)).map(verdict).collect();
    for kind in Verdict::WORST_FIRST {
        let count = verdicts.iter().filter(|verdict| **verdict == kind).count();
        let goes = match kind {
            Verdict::Lost | Verdict::Locked | Verdict::Stalled => 1,
            Verdict::Strained => 2,
            Verdict::Waiting | Verdict::Steady | Verdict::Resting => 3,
        };
        if count > 0 {
            out.push(piece(Side::Middle, goes, Theme::verdict(kind), format!("{} {count} {kind}", sign(kind))));
        }
    }
    let alarms = app.ledger.alarms(app.utc).count();
    if alarms > 0 {
        let text = format!("{alarms} {}: G", if alarms == 1 { "alarm" } else { "alarms" });
        out.push(piece(Side::Middle, 0, Tone::Alarm, text));
    }
    if let Some((text, tone)) = app.heard_here() {
        out.push(piece(Side::Middle, 4, tone, text));
    }
    if app.damage == DamageChoice::Show {
        out.push(piece(Side::Middle, 4, Tone::Bright, "showing damaged pictures".into()));
    }
    out.push(piece(Side::Right, 5, Tone::Calm, app.clock.clone()));
    out
}

/// Draws the header. Where it is narrow, names and the time go before counts, and alarms stay to the last.
pub fn header(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let mut pieces = pieces(app);
    let taken = |pieces: &[Piece]| pieces.iter().map(|piece| piece.text.width() + 2).sum::<usize>().saturating_sub(2);
    while taken(&pieces) > usize::from(area.width) {
        let Some(first) = (0..pieces.len()).filter(|n| pieces[*n].goes > 0).max_by_key(|n| (pieces[*n].goes, *n)) else { break };
        pieces.remove(first);
    }
    let line = |side: Side| {
        let own = pieces.iter().filter(|piece| piece.side == side).enumerate();
        let spans = own.flat_map(|(n, piece)| {
            [
                Span::raw(if n == 0 || piece.text.starts_with(',') { "" } else { "  " }),
                Span::styled(piece.text.clone(), theme.tone(piece.tone)),
            ]
        });
        Line::from(spans.collect::<Vec<_>>())
    };
    let (left, middle, right) = (line(Side::Left), line(Side::Middle), line(Side::Right));
    let [before, width, after] = [&left, &middle, &right].map(|line| line.width() as u16);
    let gap = |width: u16| if width == 0 { 0 } else { width + 2 };
    let most = area.right().saturating_sub(gap(after) + width);
    let x = (area.x + area.width.saturating_sub(width) / 2).min(most).max(area.x + gap(before));
    left.render(area, buf);
    middle.render(Rect { x, width: width.min(area.right().saturating_sub(x)), ..area }, buf);
    right.right_aligned().render(area, buf);
}

/// The keys that are told in the footer: of what stands in front, or of the page where that tells none.
fn hints(app: &App) -> Vec<(&'static str, &'static str)> {
    let told = |keys: Vec<KeyText>, of: &dyn AnyPage| {
        let there = keys.into_iter().filter(|key| app.is_there(key.needs));
        there.filter_map(|key| Some((key.keys.split(' ').next()?, of.hint(app, &key)?))).collect::<Vec<_>>()
    };
    let front = app.fronts().last().map(|front| told(front.keys(), front)).unwrap_or_default();
    if !front.is_empty() {
        return front;
    }
    let keys = app.page().zip(app.pages.tables.get(app.pages.top_page()));
    keys.map(|(page, table)| told(app.keys_of(table).into_iter().map(|(_, key)| key).collect(), page)).unwrap_or_default()
}

/// What a footer's keys take of its width.
fn width(hints: &[(&str, &str)]) -> usize {
    hints.iter().map(|(key, hint)| key.width() + hint.width() + 3).sum::<usize>().saturating_sub(2)
}

/// The keys that there is room for, beside what is said on the left.
fn hints_in(app: &App, area: Rect) -> Vec<(&'static str, &'static str)> {
    let mut hints = hints(app);
    let news_width = app.foot_line().map_or(0, |(text, _)| text.width() + 3);
    // Help and quit stay to the last.
    while hints.len() > 2 && news_width + width(&hints) > usize::from(area.width) {
        hints.remove(hints.len().saturating_sub(3));
    }
    hints
}

/// The key whose hint is at this cell of the footer.
pub fn hint_at(app: &App, area: Rect, at: Position) -> Option<&'static str> {
    let hints = hints_in(app, area);
    let mut x = usize::from(area.right()).checked_sub(width(&hints)).filter(|_| area.contains(at))?;
    for (key, hint) in hints {
        let end = x + key.width() + 1 + hint.width();
        if (x..end).contains(&usize::from(at.x)) {
            return Some(key);
        }
        x = end + 2;
    }
    None
}

/// News or lasting trouble on the left, keys on the right; keys give way.
pub fn footer(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let padded = area;
    let hints = hints_in(app, area);
    let spans: Vec<Span<'_>> = hints
        .iter()
        .enumerate()
        .flat_map(|(n, (key, hint))| {
            let gap = if n == 0 { "" } else { "  " };
            [Span::styled(format!("{gap}{key} "), theme.tone(Tone::Here)), Span::styled(*hint, theme.tone(Tone::Faint))]
        })
        .collect();
    let hints_width = width(&hints) as u16;
    Line::from(spans).right_aligned().render(padded, buf);
    if let Some((text, tone)) = app.foot_line() {
        let room = Rect { width: padded.width.saturating_sub(hints_width + 2), ..padded };
        Line::styled(at_a_word(&text, usize::from(room.width)), theme.tone(tone)).render(room, buf);
    }
}

/// As many whole words as there is room for; where some are missing, a sign says so.
fn at_a_word(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_owned();
    }
    let cut = plate::cut(text, width);
    match cut.trim_end_matches('…').rsplit_once(' ') {
        Some((words, _)) => format!("{}…", words.trim_end_matches([',', ';', ':'])),
        None => cut,
    }
}

#[cfg(test)]
mod tests {
    use super::at_a_word;

    #[test]
    fn a_line_at_the_foot_is_cut_at_a_word_and_says_so() {
        let text = "Car lane 2: no picture for 0.9 s, packets lost on the path";
        assert_eq!(at_a_word(text, 80), text);
        assert_eq!(at_a_word(text, 50), "Car lane 2: no picture for 0.9 s, packets lost…");
        assert_eq!(at_a_word(text, 36), "Car lane 2: no picture for 0.9 s…");
        assert_eq!(at_a_word("immeasurable", 6), "immea…");
    }
}
