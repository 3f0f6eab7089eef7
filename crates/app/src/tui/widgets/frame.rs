//! Header and footer.

use crate::tui::app::App;
use crate::tui::lattices::ALL;
use crate::tui::page::{AnyPage, KeyText};
use crate::tui::theme::{Theme, Tone, sign};
use lattice_core::Verdict;
use lattice_media::DamageChoice;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::Widget as _;
use unicode_width::UnicodeWidthStr as _;

/// Site, how many tiles are in which state, time of day.
pub fn header(app: &App, theme: Theme, area: Rect, buf: &mut Buffer) {
    let padded = area;
    let mut title = vec![Span::styled(app.name.clone(), theme.tone(Tone::Text))];
    let lattice = app.lattices.shown();
    if app.is_on_wall() && (lattice.name != ALL || lattice.pages() > 1) {
        title.push(Span::styled(format!("  {}", lattice.name), theme.tone(Tone::Calm)));
        if lattice.pages() > 1 {
            title.push(Span::styled(format!(" {}/{}", app.lattices.page() + 1, lattice.pages()), theme.tone(Tone::Calm)));
        }
        if app.lattices.is_changed(lattice) && app.available {
            title.push(Span::styled(", not saved", theme.tone(Tone::Bright)));
        }
    }
    if let Some(tour) = app.tour_state().filter(|_| app.is_on_wall()) {
        let when = tour.left.map_or_else(|| "held".into(), |left| format!("next in {:.0} s", left.as_secs_f64().ceil()));
        let text = format!("  tour {} {}/{}, {when}", tour.name, tour.stop.0, tour.stop.1);
        title.push(Span::styled(text, theme.tone(Tone::Here)));
    }
    let title = Line::from(title);
    let title_width = title.width() as u16;
    title.render(padded, buf);
    let verdict = |key: lattice_engine::FeedKey| app.figures.get(&key).map_or(Verdict::Waiting, |figures| figures.verdict);
    let telling: Vec<_> = app.cameras.iter().filter_map(|(camera, _)| app.telling(camera)).collect();
    let mut spans: Vec<Span<'_>> = Vec::new();
    for kind in Verdict::WORST_FIRST {
        let count = telling.iter().filter(|key| verdict(**key) == kind).count();
        if count > 0 {
            spans.push(Span::styled(format!("  {} {count} {kind}", sign(kind)), theme.tone(Theme::verdict(kind))));
        }
    }
    let alarms = app.ledger.alarms(app.utc).count();
    if alarms > 0 {
        let text = format!("  {alarms} {} a hand: G", if alarms == 1 { "needs" } else { "need" });
        spans.push(Span::styled(text, theme.tone(Tone::Alarm)));
    }
    if app.damage == DamageChoice::Show {
        spans.push(Span::styled("  showing damaged pictures", theme.tone(Tone::Bright)));
    }
    let states = Line::from(spans);
    let (width, name, clock) = (states.width() as u16, title_width, app.clock.width() as u16);
    let room = padded.width.saturating_sub(name + clock + 4);
    if width <= room {
        let middle = padded.x + (padded.width - width) / 2;
        let x = middle.clamp(padded.x + name + 2, padded.right() - clock - 2 - width);
        states.render(Rect { x, width, ..padded }, buf);
    }
    Line::styled(app.clock.clone(), theme.tone(Tone::Calm)).right_aligned().render(padded, buf);
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
        Line::styled(text, theme.tone(tone)).render(room, buf);
    }
}
