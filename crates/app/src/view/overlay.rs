//! What stands in front of the wall.

use crate::app::{App, FAULTS};
use crate::desk::Page;
use crate::keymap::{Context, KEYMAP};
use crate::theme::{Theme, Tone, sign};
use lattice_core::Verdict;
use lattice_core::meter::FIGURES;
use ratatui::buffer::Buffer;
use ratatui::layout::{Margin, Rect};
use ratatui::text::{Line, Span};
use ratatui::widgets::{Clear, Paragraph, Widget as _, Wrap};

/// What stands beside figures, or is made of them.
const SIGNS: [(&str, &str); 15] = [
    ("c, r, f", "what a latency is measured by: the camera's clock; relative, above the least of the last minute; flashes"),
    ("±", "how far a clock may be off"),
    ("clock", "how far the camera's clock is off, and how many µs a second it runs too fast or too slow, by its sender reports"),
    (
        "looks",
        "of one picture a second: light of 255; the most that a hundredth of it changed in 10 s; likeness and fine detail against what is usual here",
    ),
    ("checks", "ETSI TR 101 290 for transport streams: priority 1, and of 2 transport, CRC, PCR and PTS errors"),
    ("available", "share of the measured and planned time without a dropout"),
    ("10 minutes", "the least share of the declared rate that arrived, a bar for 50 s"),
    ("lost", "packets expected and never received since the start; in brackets the share of the last 10 s"),
    ("dropout", "no new picture that can be shown for longer than 3 frame periods and 400 ms"),
    ("stutter", "a dropout below 1 s"),
    ("freeze", "a dropout from 1 s on while the session lives"),
    ("outage", "a dropout while there is no session"),
    ("pulse", "the last minute, a cell a second: share of the expected frames that came fit to show; a gap: none"),
    ("M, S, T", "main stream, sub stream, third stream, as the planner chose; [M]: held by the operator"),
    ("still", "a picture fetched now and then, with age and interval (3/5 s): never live"),
];

fn verdict_help(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Steady => "pictures come as declared",
        Verdict::Strained => "pictures come, but lossy, late or too few",
        Verdict::Stalled => "the session lives and no new picture comes",
        Verdict::Lost => "there is no session; tried again by itself",
        Verdict::Locked => "a sign-in is needed or was refused; never tried again by itself",
        Verdict::Waiting => "on the way to the first picture",
        Verdict::Resting => "planned rest",
    }
}

/// A cleared place in the middle; gives what of it is inside of its margin.
pub fn panel(theme: Theme, area: Rect, width: u16, height: u16, buf: &mut Buffer) -> Rect {
    let (width, height) = (width.min(area.width), height.min(area.height));
    let place = Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 2, width, height };
    Clear.render(place, buf);
    buf.set_style(place, theme.ground());
    place.inner(Margin { horizontal: 2, vertical: 1 })
}

/// Keys from the table, verdicts and figures with their meaning.
pub fn help(app: &App, theme: Theme, scroll: u16, buf: &mut Buffer) {
    const WIDTH: u16 = 118;
    const KEYS: u16 = 24;
    let room = usize::from(app.area.width.min(WIDTH).saturating_sub(KEYS + 4).max(1));
    // What needs a second line goes on under its own text, not under its key.
    let pair = |key: String, tone: Tone, text: &str| -> Vec<Line<'static>> {
        let keys = std::iter::once(key).chain(std::iter::repeat(String::new()));
        let line = |(key, text): (String, &str)| {
            Line::from(vec![
                Span::styled(format!("{key:<width$}", width = usize::from(KEYS)), theme.tone(tone)),
                Span::styled(text.to_owned(), theme.tone(Tone::Text)),
            ])
        };
        keys.zip(textwrap::wrap(text, room)).map(|(key, text)| line((key, text.as_ref()))).collect()
    };
    let title = |text: &'static str| Line::styled(text, theme.tone(Tone::Bright));
    let mut lines = Vec::new();
    // Where the operator is comes first.
    let here = if app.page == Page::Welcome { Context::Wall } else { app.page.context() };
    let others = Context::all();
    for context in [here].into_iter().chain(others.into_iter().filter(|context| *context != here)) {
        lines.extend((!lines.is_empty()).then(Line::default));
        lines.push(title(context.title()));
        for binding in KEYMAP.iter().filter(|binding| binding.context == context && !binding.help.is_empty()) {
            lines.extend(pair(binding.keys.replace(' ', ", "), Tone::Here, binding.help));
        }
    }
    lines.extend([Line::default(), title("Verdicts")]);
    for verdict in Verdict::WORST_FIRST {
        lines.extend(pair(format!("{} {verdict}", sign(verdict)), Theme::verdict(verdict), verdict_help(verdict)));
    }
    lines.extend([Line::default(), title("Figures")]);
    for figure in &FIGURES {
        let unit = if figure.unit.is_empty() { String::new() } else { format!(", {}", figure.unit) };
        lines.extend(pair(figure.word.to_owned(), Tone::Calm, &format!("{}{unit}", figure.definition)));
    }
    lines.extend([Line::default(), title("Signs")]);
    lines.extend(SIGNS.iter().flat_map(|(name, text)| pair((*name).to_owned(), Tone::Calm, text)));
    let codec = if lattice_media::has_assembly() {
        "with assembly"
    } else {
        "without assembly (nasm was missing at build): decoding costs twice as much"
    };
    lines.push(Line::default());
    lines.extend(pair("H.264 decoder".into(), Tone::Calm, codec));
    let inner = panel(theme, app.area, WIDTH, lines.len() as u16 + 2, buf);
    let wrapped: u16 = lines.iter().map(|line| (line.width() as u16).div_ceil(inner.width.max(1)).max(1)).sum();
    let scroll = scroll.min(wrapped.saturating_sub(inner.height));
    Paragraph::new(lines).wrap(Wrap { trim: false }).scroll((scroll, 0)).render(inner, buf);
    if wrapped > inner.height {
        let hint = Line::styled("j, k scroll  esc back", theme.tone(Tone::Here)).right_aligned();
        hint.render(Rect { y: inner.bottom(), height: 1, ..inner }, buf);
    }
}

/// The faults that the selected stand-in camera can have.
pub fn faults(app: &App, theme: Theme, buf: &mut Buffer) {
    let name = app.selected_tile().map_or("", |tile| app.name(tile));
    let mut lines = vec![Line::styled(format!("Order a fault from {name}"), theme.tone(Tone::Bright)), Line::default()];
    for (number, (text, _)) in (1..).zip(FAULTS) {
        lines.push(Line::from(vec![
            Span::styled(format!("{number}  "), theme.tone(Tone::Here)),
            Span::styled(text, theme.tone(Tone::Text)),
        ]));
    }
    lines.extend([Line::default(), Line::styled("esc back", theme.tone(Tone::Faint))]);
    let inner = panel(theme, app.area, 50, lines.len() as u16 + 2, buf);
    Paragraph::new(lines).render(inner, buf);
}
