//! What a terminal can, from its answers and its environment, and the way of painting that follows.

use crate::answers::Answer;
use crate::kitty;
use crate::tmux::{self, Tmux};

/// How pictures are to be painted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Paint {
    /// The best of what the terminal says it can.
    #[default]
    Auto,
    /// In pixels by the kitty graphics protocol: through shared memory where the terminal takes that, else inline.
    Kitty,
    /// In pixels as sixel.
    Sixel,
    /// In pixels as inline images, the way iTerm2 takes them.
    Iterm,
    /// Two by two pixels a cell, the best two colours.
    Quadrant,
    /// Two pixels a cell, each in its own colour.
    Half,
}

/// A way of painting in pixels.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PixelWay {
    /// Kitty graphics through shared memory.
    KittyShared,
    /// Kitty graphics in the line, compressed.
    KittyInline,
    /// Kitty graphics through tmux, which knows the pictures as text.
    KittyTmux {
        /// Through shared memory, not in the line.
        shared: bool,
    },
    /// Sixel.
    Sixel,
    /// Inline images as iTerm2 introduced them.
    Iterm,
}

impl PixelWay {
    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Self::KittyShared => "kitty graphics, shared memory",
            Self::KittyInline => "kitty graphics, inline",
            Self::KittyTmux { shared: true } => "kitty graphics through tmux, shared memory",
            Self::KittyTmux { shared: false } => "kitty graphics through tmux, inline",
            Self::Sixel => "sixel",
            Self::Iterm => "inline images (iTerm2)",
        }
    }

    /// It is quick enough for every tile; else only for the one that is enlarged.
    pub const fn is_for_all(self) -> bool {
        matches!(self, Self::KittyShared | Self::KittyTmux { shared: true } | Self::Sixel)
    }

    /// The terminal holds the pictures itself.
    pub const fn is_kitty(self) -> bool {
        matches!(self, Self::KittyShared | Self::KittyInline | Self::KittyTmux { .. })
    }

    /// They go through shared memory.
    pub const fn is_shared(self) -> bool {
        matches!(self, Self::KittyShared | Self::KittyTmux { shared: true })
    }
}

/// Images that are asked about.
const ASKED: u32 = 0x00a3_bdf0;
/// Fewer colours than this look worse than cells.
const LEAST_COLOURS: u32 = 16;
/// What is taken for a cell's size where the terminal does not tell.
const USUAL_CELL: (u16, u16) = (8, 16);

/// What is known of a terminal.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
#[allow(clippy::struct_excessive_bools, reason = "independent answers, not one state")]
pub struct Ability {
    /// It takes sixel.
    pub sixel: bool,
    /// It took a picture inline.
    pub kitty: Option<Result<(), String>>,
    /// It took one through shared memory.
    pub shared: Option<Result<(), String>>,
    /// Width and height of a cell in pixels.
    pub cell: Option<(u16, u16)>,
    /// Width and height of the window in pixels.
    pub window: Option<(u32, u32)>,
    /// Colour registers.
    pub colours: Option<u32>,
    /// Largest sixel picture.
    pub largest: Option<(u32, u32)>,
    /// Mode 2026.
    pub synchronized: Option<bool>,
    /// It can tell when keys are let go.
    pub releases: bool,
    /// Its name.
    pub name: Option<String>,
    /// It answered the last question.
    pub complete: bool,
    /// Nothing of shared memory is tried: the terminal is on another machine.
    pub remote: bool,
    /// The tmux between this program and the terminal.
    pub tmux: Option<Tmux>,
    /// A way that was tried and failed.
    pub failed: Option<PixelWay>,
}

impl Ability {
    /// Of the environment and the tmux that this program runs in.
    pub fn here() -> Self {
        let of_environment = Self::of_environment(|name| std::env::var(name).ok());
        Self { tmux: of_environment.tmux.as_ref().map(|_| Tmux::ask()), ..of_environment }
    }

    /// Nothing known yet; `get` reads the environment.
    pub fn of_environment(get: impl Fn(&str) -> Option<String>) -> Self {
        let set = |name: &str| get(name).is_some_and(|value| !value.is_empty());
        let remote = set("SSH_CONNECTION") || set("SSH_TTY");
        Self {
            remote,
            tmux: set("TMUX").then(Tmux::default),
            name: get("TERM_PROGRAM").filter(|name| !name.is_empty()),
            ..Self::default()
        }
    }

    /// All questions, the last one such that every terminal answers it.
    pub fn questions(&self) -> String {
        let pictures = match (self.tmux.is_some(), self.in_tmux()) {
            (false, _) => kitty::question(ASKED, !self.remote),
            (true, true) => tmux::enveloped(&kitty::question(ASKED, !self.remote)),
            (true, false) => String::new(), // it would take them for a title
        };
        // Keyboard, name, cell and window size, colour registers, largest sixel picture, mode 2026, attributes.
        format!("{pictures}\x1b[?u\x1b[>q\x1b[16t\x1b[14t\x1b[?1;1;0S\x1b[?2;1;0S\x1b[?2026$p\x1b[c")
    }

    /// Whether it is asked if it takes kitty graphics.
    pub fn asks_for_pictures(&self) -> bool {
        self.tmux.is_none() || self.in_tmux()
    }

    /// tmux shows this program on another terminal, of which nothing is known yet.
    pub fn on_tmux(&mut self, tmux: Tmux) {
        *self = Self { remote: self.remote, tmux: Some(tmux), ..Self::default() };
    }

    /// Takes an answer; whether anything is known anew.
    pub fn take(&mut self, answer: Answer) -> bool {
        let before = self.clone();
        match answer {
            Answer::Attributes { sixel } => (self.sixel, self.complete) = (sixel, true),
            Answer::Graphics { id: ASKED, taken } => self.kitty = Some(taken),
            Answer::Graphics { id, taken } if id == ASKED + 1 => self.shared = Some(taken),
            Answer::CellSize(width, height) => self.cell = Some((width, height)),
            Answer::WindowSize(width, height) => self.window = Some((width, height)),
            Answer::Colours(colours) => self.colours = Some(colours),
            Answer::Largest(width, height) => self.largest = Some((width, height)),
            Answer::Synchronized(can) => self.synchronized = Some(can),
            Answer::Releases => self.releases = true,
            Answer::Name(name) => self.name = Some(name),
            Answer::Graphics { .. } | Answer::Done | Answer::Other => {}
        }
        *self != before
    }

    /// Width and height of a cell; `area` is the terminal's size in cells.
    pub fn cell(&self, area: (u16, u16)) -> (u16, u16) {
        let of_window = self
            .window
            .filter(|_| area.0 > 0 && area.1 > 0)
            .map(|(width, height)| ((width / u32::from(area.0)).min(200) as u16, (height / u32::from(area.1)).min(200) as u16));
        let usable = |cell: &(u16, u16)| (2..=200).contains(&cell.0) && (4..=200).contains(&cell.1);
        self.cell.filter(usable).or(of_window.filter(usable)).unwrap_or(USUAL_CELL)
    }

    /// Pictures go through a tmux that lets them through.
    /// What makes this terminal show a notification on the desktop, by the name that it gives itself; `None` where it is not known to do
    /// so. OSC 9 and OSC 777, which have no standard.
    #[must_use]
    pub fn notification(&self, title: &str, text: &str) -> Option<String> {
        let name = self.name.as_deref()?.to_ascii_lowercase();
        let is = |known: &[&str]| known.iter().any(|known| name.starts_with(known));
        // A semicolon or a control character would end it, or begin something else.
        let plain =
            |text: &str| text.chars().filter(|letter| !letter.is_control() && *letter != ';').take(200).collect::<String>();
        let (title, text) = (plain(title), plain(text));
        let sequence = if is(&["foot", "rxvt", "urxvt"]) {
            format!("\x1b]777;notify;{title};{text}\x1b\\")
        } else if is(&["iterm", "wezterm", "ghostty", "kitty"]) {
            format!("\x1b]9;{title}: {text}\x1b\\")
        } else {
            return None;
        };
        Some(if self.tmux.is_some() { tmux::enveloped(&sequence) } else { sequence })
    }

    fn in_tmux(&self) -> bool {
        self.tmux.as_ref().is_some_and(Tmux::takes_pictures)
    }

    fn takes_kitty(&self) -> Option<PixelWay> {
        let taken = |answer: &Option<Result<(), String>>| matches!(answer, Some(Ok(())));
        let (by_memory, inline) = if self.in_tmux() {
            (PixelWay::KittyTmux { shared: true }, PixelWay::KittyTmux { shared: false })
        } else {
            (PixelWay::KittyShared, PixelWay::KittyInline)
        };
        let shared = taken(&self.shared) && !self.remote && self.failed != Some(by_memory);
        if shared { Some(by_memory) } else { taken(&self.kitty).then_some(inline) }
    }

    fn takes_iterm(&self) -> bool {
        self.name.as_ref().is_some_and(|name| name.starts_with("iTerm"))
    }

    /// Colours of a sixel picture.
    pub fn sixel_colours(&self) -> usize {
        self.colours.map_or(64, |colours| colours.min(64)) as usize
    }

    /// The way of painting in pixels that an option leads to; `None` is cells. What the operator asks for is done, also where
    /// the terminal does not say that it can.
    pub fn pixels(&self, arg: Paint) -> Option<PixelWay> {
        match arg {
            // What tmux draws itself has wrong colours and is a row too high: only where it is asked for.
            Paint::Auto if self.tmux.is_some() => self.takes_kitty(),
            Paint::Auto => self
                .takes_kitty()
                .or((self.sixel && self.colours.is_none_or(|colours| colours >= LEAST_COLOURS)).then_some(PixelWay::Sixel))
                .or(self.takes_iterm().then_some(PixelWay::Iterm)),
            Paint::Kitty if self.tmux.is_some() => Some(self.takes_kitty().unwrap_or(PixelWay::KittyTmux { shared: false })),
            Paint::Kitty => Some(self.takes_kitty().unwrap_or(PixelWay::KittyInline)),
            Paint::Sixel => Some(PixelWay::Sixel),
            Paint::Iterm => Some(PixelWay::Iterm),
            Paint::Quadrant | Paint::Half => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn terminal(answers: &[Answer], variables: &[(&str, &str)]) -> Ability {
        let get = |name: &str| variables.iter().find(|(known, _)| *known == name).map(|(_, value)| (*value).to_owned());
        let mut ability = Ability::of_environment(get);
        for answer in answers {
            ability.take(answer.clone());
        }
        ability
    }

    #[test]
    fn a_notification_goes_only_to_terminals_that_show_it_and_holds_nothing_else() {
        let of = |name: &str| terminal(&[Answer::Name(name.into())], &[]).notification("Gate", "motion\x1b]0;x\x07; now");
        assert_eq!(of("foot(1.20)").as_deref(), Some("\x1b]777;notify;Gate;motion]0x now\x1b\\"));
        assert_eq!(of("kitty(0.40)").as_deref(), Some("\x1b]9;Gate: motion]0x now\x1b\\"));
        assert_eq!((of("XTerm(390)"), Ability::default().notification("a", "b")), (None, None));
    }

    /// Answers, environment, and the way that follows.
    type Case<'a> = (&'a [Answer], &'a [(&'a str, &'a str)], Option<PixelWay>);

    #[test]
    fn the_best_way_that_was_answered_for_is_taken() {
        let ok = |id| Answer::Graphics { id, taken: Ok(()) };
        let plain = Answer::Attributes { sixel: false };
        let sixel = Answer::Attributes { sixel: true };
        let no_memory = Answer::Graphics { id: ASKED + 1, taken: Err("EBADF".into()) };
        let cases: [Case<'_>; 8] = [
            (std::slice::from_ref(&plain), &[], None),
            (&[], &[], None),
            (&[ok(ASKED), ok(ASKED + 1), plain.clone()], &[], Some(PixelWay::KittyShared)),
            (&[ok(ASKED), no_memory, plain.clone()], &[], Some(PixelWay::KittyInline)),
            (&[ok(ASKED), ok(ASKED + 1), plain.clone()], &[("SSH_TTY", "/dev/pts/1")], Some(PixelWay::KittyInline)),
            (&[Answer::Colours(256), sixel.clone()], &[], Some(PixelWay::Sixel)),
            (&[Answer::Colours(4), sixel], &[], None),
            (&[Answer::Name("iTerm2 3.5".into()), plain.clone()], &[], Some(PixelWay::Iterm)),
        ];
        for (answers, variables, wanted) in cases {
            assert_eq!(terminal(answers, variables).pixels(Paint::Auto), wanted, "{answers:?} {variables:?}");
        }
        let mut fails = terminal(&[ok(ASKED), ok(ASKED + 1)], &[]);
        fails.failed = Some(PixelWay::KittyShared);
        assert_eq!(fails.pixels(Paint::Auto), Some(PixelWay::KittyInline));
        let inside = [("TMUX", "/tmp/tmux,1,0")];
        let drawn = terminal(&[Answer::Attributes { sixel: true }], &inside);
        assert_eq!((drawn.pixels(Paint::Auto), drawn.pixels(Paint::Sixel)), (None, Some(PixelWay::Sixel)));
        assert_eq!(drawn.pixels(Paint::Kitty), Some(PixelWay::KittyTmux { shared: false }));
        assert!(!drawn.questions().contains("\x1b_"), "a title for tmux");
        let mut behind = terminal(&[ok(ASKED), ok(ASKED + 1)], &inside);
        behind.tmux = Some(Tmux { passes: true, client: "7".into(), terminal: "kitty(0.41.1)".into() });
        assert!(behind.questions().contains("\x1bPtmux;\x1b\x1b_G"));
        assert_eq!(behind.pixels(Paint::Auto), Some(PixelWay::KittyTmux { shared: true }));
        behind.failed = behind.pixels(Paint::Auto);
        assert_eq!(behind.pixels(Paint::Auto), Some(PixelWay::KittyTmux { shared: false }));
        let nothing = terminal(&[], &[]);
        assert_eq!((nothing.pixels(Paint::Sixel), nothing.pixels(Paint::Half)), (Some(PixelWay::Sixel), None));
        assert_eq!(nothing.pixels(Paint::Kitty), Some(PixelWay::KittyInline));
    }

    #[test]
    fn a_cell_is_as_large_as_can_be_believed() {
        let area = (160, 50);
        assert_eq!(terminal(&[], &[]).cell(area), USUAL_CELL);
        assert_eq!(terminal(&[Answer::CellSize(10, 21)], &[]).cell(area), (10, 21));
        assert_eq!(terminal(&[Answer::WindowSize(1600, 1000)], &[]).cell(area), (10, 20));
        assert_eq!(terminal(&[Answer::CellSize(1, 60_000), Answer::WindowSize(1600, 1000)], &[]).cell(area), (10, 20));
        assert_eq!(terminal(&[Answer::WindowSize(3, 3)], &[]).cell((0, 0)), USUAL_CELL);
    }
}
