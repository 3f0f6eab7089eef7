//! The help: keys of all pages from their tables, verdicts, figures, signs.

use crate::tui::app::App;
use crate::tui::page::{self, Key, KeyText, Keyed, Mouse, Page, WALL, WELCOME, back, common, leave, moves};
use crate::tui::theme::{Theme, Tone, sign};
use crate::tui::widgets::panel;
use lattice_core::Verdict;
use lattice_core::meter::FIGURES;
use lattice_engine::FeedKey;
use lattice_term::TilePainter;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Paragraph, Widget as _, Wrap};
use tui_input::{Input, InputRequest};

/// What stands beside figures, or is made of them.
const SIGNS: [(&str, &str); 16] = [
    ("c, r, f", "what a latency is measured by: the camera's clock; relative, above the least of the last minute; flashes"),
    ("±", "how far a clock may be off"),
    (
        "clock",
        "how far the camera's clock is off, and how many millionths (ppm) it runs too fast or too slow, by its sender reports",
    ),
    (
        "looks",
        "of one picture a second: light of 255; the most that a hundredth of it changed in 10 s; likeness and fine detail against what is usual here",
    ),
    ("checks", "ETSI TR 101 290 for transport streams: priority 1, and of 2 transport, CRC, PCR and PTS errors"),
    ("available", "share of the measured and planned time without a dropout"),
    ("10 minutes", "what was missing of the declared rate, a bar for 50 s: a line along the foot where nothing was"),
    (
        "lost",
        "packets expected and never received: the share of the last 10 s, else how many since the start; none, where none were",
    ),
    ("in 1 h", "dropouts of the last hour, or since it was opened, and how long ago the last one ended"),
    ("dropout", "no new picture that can be shown for longer than 3 frame periods and 400 ms"),
    ("stutter", "a dropout below 1 s"),
    ("freeze", "a dropout from 1 s on while the session lives"),
    ("outage", "a dropout while there is no session"),
    (
        "pulse",
        "the last minute, a cell a second: a line along the foot where every frame came fit to show; it rises by what was missing, to the top where none came",
    ),
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

/// The help, scrolled down by so many lines, with what is looked for.
#[derive(Debug, Default)]
pub struct Help {
    scroll: u16,
    wanted: Input,
}

/// The key of every page that opens the help.
pub const fn key<P>() -> Key<P> {
    common("?", "this help", Some("help"), |_, app| app.put_in_front(Help::default()))
}

/// The key of every page that opens the list of everything.
pub const fn everything<P>() -> Key<P> {
    common(":", "everything by a few letters: actions, cameras, lattices", None, |_, app| app.open_everything())
}

impl Keyed for Help {
    const NAME: &'static str = "Help";
    const KEYS: &'static [Key<Self>] = &[
        moves("down", "further down; letters find what has them", |help: &mut Self, _| help.scroll(1)).hint("scroll"),
        moves("up", "further up", |help: &mut Self, _| help.scroll(-1)),
        moves("pgdn", "a page down", |help: &mut Self, _| help.scroll(10)),
        moves("pgup", "a page up", |help: &mut Self, _| help.scroll(-10)),
        back("esc ?", "back; q too, while nothing is typed", Some("back")),
        page::key("q", "", Self::leave_or_type),
        leave(),
    ];
}

impl Help {
    /// Who reads leaves with it; who has begun to type goes on typing.
    fn leave_or_type(&mut self, app: &mut App) {
        if self.wanted.value().is_empty() {
            app.back();
        } else {
            let _ = self.wanted.handle(InputRequest::InsertChar('q'));
        }
    }

    const fn scroll(&mut self, lines: i16) {
        self.scroll = self.scroll.saturating_add_signed(lines);
    }
}

impl Page for Help {
    fn draw(&self, app: &App, theme: Theme, body: Rect, _: &mut [TilePainter], buf: &mut Buffer) -> Vec<FeedKey> {
        draw(app, theme, self, body, buf);
        Vec::new()
    }

    fn text(&mut self) -> Option<&mut Input> {
        Some(&mut self.wanted)
    }

    fn typed(&mut self, _: &mut App) {
        self.scroll = 0;
    }

    fn mouse(&mut self, _: &mut App, mouse: Mouse) {
        if let Mouse::Wheel(by, _) = mouse {
            self.scroll(3 * by as i16);
        }
    }
}

/// All keys, as sections: where the operator is comes first.
pub fn sections(app: &App) -> Vec<page::Section> {
    let here = if app.page_name() == WELCOME { WALL } else { app.page_name() };
    let pages = app.pages.tables.iter();
    let told = |table: &page::Table| (table.name, app.keys_of(table).into_iter().map(|(_, key)| key).collect::<Vec<KeyText>>());
    let mut sections: Vec<page::Section> = pages.map(told).chain(app.pages.fronts.iter().cloned()).collect();
    sections.sort_by_key(|(name, _)| *name != here);
    sections
}

/// A part of the help: its name, and what stands in it with its meaning.
type Part = (&'static str, Vec<(String, Tone, String)>);

/// All of the help.
fn parts(app: &App) -> Vec<Part> {
    let of_keys = |keys: Vec<KeyText>| {
        let keys = keys.into_iter().filter(|key| !key.help.is_empty());
        keys.map(|key| (key.keys.replace(' ', ", "), Tone::Here, key.help.to_owned())).collect()
    };
    let mut parts: Vec<Part> = sections(app).into_iter().map(|(name, keys)| (name, of_keys(keys))).collect();
    let verdict = |one: Verdict| (format!("{} {one}", sign(one)), Theme::verdict(one), verdict_help(one).to_owned());
    parts.push(("Verdicts", Verdict::WORST_FIRST.into_iter().map(verdict).collect()));
    let figures = FIGURES.iter().map(|figure| {
        let unit = if figure.unit.is_empty() { String::new() } else { format!(", {}", figure.unit) };
        (figure.word.to_owned(), Tone::Calm, format!("{}{unit}", figure.definition))
    });
    parts.push(("Figures", figures.collect()));
    let codec = if lattice_media::has_assembly() {
        "with assembly"
    } else {
        "without assembly (nasm was missing at build): decoding costs twice as much"
    };
    let signs = SIGNS.into_iter().chain([("H.264 decoder", codec)]);
    parts.push(("Signs", signs.map(|(name, text)| (name.to_owned(), Tone::Calm, text.to_owned())).collect()));
    parts
}

/// Keys from the table, verdicts and figures with their meaning; of them those that have all the words that were typed.
fn draw(app: &App, theme: Theme, help: &Help, body: Rect, buf: &mut Buffer) {
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
    let words: Vec<String> = help.wanted.value().to_lowercase().split_whitespace().map(str::to_owned).collect();
    let mut lines = Vec::new();
    for (name, rows) in parts(app) {
        let found = rows.into_iter().filter(|(key, _, text)| {
            let told = format!("{key} {text} {name}").to_lowercase();
            words.iter().all(|word| told.contains(word.as_str()))
        });
        let found: Vec<Line<'static>> = found.flat_map(|(key, tone, text)| pair(key, tone, &text)).collect();
        if !found.is_empty() {
            lines.extend((!lines.is_empty()).then(Line::default));
            lines.push(Line::styled(name, theme.tone(Tone::Bright)));
            lines.extend(found);
        }
    }
    if lines.is_empty() {
        lines.push(Line::styled("nothing in the help has these letters", theme.tone(Tone::Text)));
    }
    let inner = panel(theme, body, WIDTH, body.height, buf);
    let typed = Line::from(vec![
        Span::styled("find ", theme.tone(Tone::Faint)),
        Span::styled("▸ ", theme.tone(Tone::Here)),
        Span::styled(help.wanted.value().to_owned(), theme.tone(Tone::Text)),
        Span::styled("▏", theme.tone(Tone::Here)),
    ]);
    typed.render(Rect { height: 1.min(inner.height), ..inner }, buf);
    let inner = Rect { y: inner.y + 2, height: inner.height.saturating_sub(2), ..inner };
    let wrapped: u16 = lines.iter().map(|line| (line.width() as u16).div_ceil(inner.width.max(1)).max(1)).sum();
    let scroll = help.scroll.min(wrapped.saturating_sub(inner.height));
    Paragraph::new(lines).wrap(Wrap { trim: false }).scroll((scroll, 0)).render(inner, buf);
}
