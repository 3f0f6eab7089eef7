//! What the planner decided: each tile's stream with its reason, and the load against each budget.

use crate::tui::app::App;
use crate::tui::page::{Key, Keyed, Mouse, Page, back, leave, moves};
use crate::tui::theme::{Theme, Tone};
use crate::tui::widgets::panel;
use lattice_engine::{FeedKey, reason};
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _};

/// Cells of a load's bar.
const BAR: usize = 24;

/// The plan, scrolled down by so many lines.
#[derive(Debug, Default)]
pub struct Plan {
    scroll: u16,
}

impl Keyed for Plan {
    const NAME: &'static str = "Plan";
    const KEYS: &'static [Key<Self>] = &[
        moves("down j", "further down", |plan: &mut Self, _| plan.scroll(1)),
        moves("up k", "further up", |plan: &mut Self, _| plan.scroll(-1)),
        moves("pgdn space", "a page down", |plan: &mut Self, _| plan.scroll(10)),
        moves("pgup", "a page up", |plan: &mut Self, _| plan.scroll(-10)),
        back("esc o q", "back", Some("back")),
        leave(),
    ];
}

impl Plan {
    const fn scroll(&mut self, lines: i16) {
        self.scroll = self.scroll.saturating_add_signed(lines);
    }
}

impl Page for Plan {
    fn draw(&self, app: &App, theme: Theme, _: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        draw(app, theme, self.scroll, buf);
        Vec::new()
    }

    fn mouse(&mut self, _: &mut App, mouse: Mouse) {
        if let Mouse::Wheel(by, _) = mouse {
            self.scroll(3 * by as i16);
        }
    }
}

/// Draws the plan, scrolled down by this many lines.
fn draw(app: &App, theme: Theme, scroll: u16, buf: &mut Buffer) {
    let planned = &app.plan;
    let text = |text: String| Span::styled(text, theme.tone(Tone::Text));
    let mut lines = vec![Line::styled("Plan: which stream each tile shows, and why", theme.tone(Tone::Bright)), Line::default()];
    let load = &planned.plan.load;
    let megabit = |bits: f64| format!("{:.1} Mbit/s", bits / 1e6);
    let megapixels = |mega: f64| format!("{mega:.0} MP/s");
    let was = |before: String| Span::styled(format!(", {before} before the last change"), theme.tone(Tone::Faint));
    let before = planned.before.as_ref();
    let mut link = bar(theme, "link in all", load.link, planned.budgets.link.map(|link| link.0), &megabit);
    link.extend(before.map(|before| was(megabit(before.link))));
    let mut decoding = bar(theme, "decoding", load.decoding, planned.budgets.decoding, &megapixels);
    decoding.extend(before.map(|before| was(megapixels(before.decoding))));
    lines.extend([link, decoding]);
    for ((name, budget), (bits, viewers)) in planned.hosts.iter().zip(&planned.budgets.hosts).zip(&load.hosts) {
        if let Some(link) = budget.link {
            lines.push(bar(theme, &format!("link to {name}"), *bits, Some(link.0), &megabit));
        }
        if let Some(most) = budget.viewers {
            lines.push(bar(theme, &format!("viewers of {name}"), f64::from(*viewers), Some(f64::from(most)), &|n| {
                format!("{n:.0}")
            }));
        }
    }
    lines.extend([
        Line::default(),
        Line::styled(
            format!("{:>4}  {:<22} {:<6} {:>11} {:>9} {:>7}  reason", "tile", "camera", "stream", "takes", "decodes", "shown"),
            theme.tone(Tone::Faint),
        ),
    ]);
    for tile in &app.tiles {
        let Some(choice) = planned.choice(app.viewer, tile.place) else { continue };
        let role = choice.role.unwrap_or(tile.role);
        let facts = app.stream_facts(FeedKey::new(tile.camera, role));
        let shown = app.figures.get(&tile.key()).and_then(|figures| figures.shown);
        let shown = shown.map_or_else(|| "–".to_owned(), |shown| format!("{shown:.1}"));
        let about = if facts.measured { ' ' } else { '~' };
        let name: String = app.name(tile).chars().take(22).collect();
        let word = choice.role.map_or("none", lattice_core::Role::word);
        lines.push(Line::from(vec![
            Span::styled(format!("{:>4}  ", app.tile_number(tile.place) + 1), theme.tone(Tone::Here)),
            text(format!("{name:<22} ")),
            Span::styled(format!("{word:<6} "), theme.tone(Tone::Bright)),
            text(format!("{about}{:>5.2} Mbit/s", facts.candidate.bitrate.0 / 1e6)),
            text(format!(" {:>4.0} MP/s", facts.candidate.decoding())),
            text(format!(" {shown:>5}/s  ")),
            Span::styled(reason(choice), theme.tone(Tone::Calm)),
        ]));
    }
    let off = app.open_streams().filter(|key| !app.tiles.iter().any(|tile| tile.camera == key.camera)).count();
    if off > 0 {
        let what = if off == 1 { "1 stream of a camera that is" } else { &format!("{off} streams of cameras that are") };
        lines.extend([
            Line::default(),
            Line::styled(format!("{what} not on this page: received and measured, not decoded"), theme.tone(Tone::Faint)),
        ]);
    }
    lines.push(Line::styled("~ taken for what such streams usually are: not measured yet", theme.tone(Tone::Faint)));
    let inner = panel(theme, app.area, 120, lines.len() as u16 + 2, buf);
    let scroll = scroll.min((lines.len() as u16).saturating_sub(inner.height));
    Paragraph::new(lines).scroll((scroll, 0)).render(inner, buf);
    let hint = Line::from(Span::styled("esc back", theme.tone(Tone::Here))).right_aligned();
    hint.render(Rect { height: 1, ..inner }, buf);
}

/// A load beside its budget.
fn bar<'a>(theme: Theme, name: &str, load: f64, budget: Option<f64>, unit: &dyn Fn(f64) -> String) -> Line<'a> {
    let share = budget.map_or(0.0, |budget| load / budget.max(1e-9));
    let filled = ((share * BAR as f64).round() as usize).min(BAR);
    let tone = if share > 0.9 { Tone::Bright } else { Tone::Calm };
    let of = budget.map_or_else(|| "not limited".into(), |budget| format!("of {} ({:.0} %)", unit(budget), share * 100.0));
    Line::from(vec![
        Span::styled(format!("{name:<22} "), theme.tone(Tone::Text)),
        Span::styled("█".repeat(filled), theme.tone(tone)),
        Span::styled("░".repeat(BAR - filled), theme.tone(Tone::Faint)),
        Span::styled(format!(" {} {of}", unit(load)), theme.tone(Tone::Text)),
    ])
}
