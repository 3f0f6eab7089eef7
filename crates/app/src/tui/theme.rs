//! Colours and signs. Amber is calm, brightness is spent on what needs the eye, coral is in alarm,
//! teal is where the operator is. No colour tells anything alone.

use lattice_core::Verdict;
use lattice_engine::Loudness;
use lattice_term::{ColourDepth, reduce, rgb_of};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style};

/// A tone by its use.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tone {
    /// Names and figures of what is well.
    Calm,
    /// What recedes.
    Faint,
    /// What needs the eye.
    Bright,
    /// What is in alarm.
    Alarm,
    /// Where the operator is.
    Here,
    /// On the way.
    Waiting,
    /// Text to be read.
    Text,
}

impl From<Loudness> for Tone {
    fn from(loudness: Loudness) -> Self {
        match loudness {
            Loudness::Text => Self::Text,
            Loudness::Bright => Self::Bright,
            Loudness::Alarm => Self::Alarm,
        }
    }
}

/// The names of the tones, in the order of [`Tone`].
pub const TONES: [&str; 7] = ["calm", "faint", "bright", "alarm", "here", "waiting", "text"];

/// Colours of the operator's own.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Colours {
    /// Behind everything.
    pub ground: Option<[u8; 3]>,
    tones: [Option<[u8; 3]>; TONES.len()],
}

/// How light a colour is, from 0 to 1 (relative luminance of WCAG 2.2).
fn luminance(rgb: [u8; 3]) -> f64 {
    let linear = rgb.map(|value| {
        let value = f64::from(value) / 255.0;
        if value <= 0.04045 { value / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
    });
    0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]
}

/// Less contrast cannot be read; 21 is black on white.
const LEAST_CONTRAST: f64 = 2.0;

impl Colours {
    /// The colour of a tone, by its name.
    pub fn slot(&mut self, name: &str) -> Option<&mut Option<[u8; 3]>> {
        TONES.iter().position(|tone| *tone == name).map(|at| &mut self.tones[at])
    }

    /// The tones that cannot be read on the ground.
    pub fn unreadable(&self, light: bool) -> impl Iterator<Item = &'static str> {
        let usual = if light { [246, 240, 228] } else { [16, 14, 12] };
        let ground = luminance(self.ground.unwrap_or(usual)) + 0.05;
        let contrast = move |rgb: [u8; 3]| {
            let own = luminance(rgb) + 0.05;
            (own / ground).max(ground / own)
        };
        let tones = TONES.into_iter().zip(self.tones);
        tones.filter(move |(_, rgb)| rgb.is_some_and(|rgb| contrast(rgb) < LEAST_CONTRAST)).map(|(name, _)| name)
    }
}

/// Tones for one terminal.
#[derive(Debug, Clone, Copy)]
pub struct Theme {
    /// Its colours.
    pub depth: ColourDepth,
    /// A light ground.
    pub light: bool,
    /// Percent.
    pub brightness: u8,
    /// The ground has a colour of its own in any case: pictures of pixels lie under cells that have none.
    pub solid: bool,
    /// The operator's own colours, on a dark ground and on a light one.
    pub own: [Option<&'static Colours>; 2],
}

impl Theme {
    /// The usual look.
    pub const fn new(depth: ColourDepth) -> Self {
        Self { depth, light: false, brightness: 100, solid: false, own: [None; 2] }
    }

    /// An own colour, as this terminal can show it.
    fn own(self, of: impl Fn(&Colours) -> Option<[u8; 3]>) -> Option<Color> {
        let rgb = self.own[usize::from(self.light)].and_then(of)?;
        matches!(self.depth, ColourDepth::True | ColourDepth::Palette).then(|| reduce(self.depth, rgb))
    }

    /// The ground that everything stands on.
    pub fn ground(self) -> Style {
        let usual = self.usual_ground();
        self.own(|colours| colours.ground).map_or(usual, |own| usual.bg(own))
    }

    const fn usual_ground(self) -> Style {
        match self.depth {
            ColourDepth::True if self.light => Style::new().bg(Color::Rgb(246, 240, 228)).fg(Color::Rgb(96, 66, 18)),
            ColourDepth::True => Style::new().bg(Color::Rgb(16, 14, 12)).fg(Color::Rgb(200, 160, 100)),
            ColourDepth::Palette if self.light => Style::new().bg(Color::Indexed(255)).fg(Color::Indexed(94)),
            ColourDepth::Sixteen if self.light => Style::new().bg(Color::White).fg(Color::Black),
            ColourDepth::Palette if self.solid => Style::new().bg(Color::Indexed(233)),
            _ if self.solid => Style::new().bg(Color::Black),
            _ => Style::new(),
        }
    }

    /// The lightest and the darkest that cells can be, whatever the ground is.
    pub const fn light_and_dark(self) -> (Style, Style) {
        let style = Style::new();
        match self.depth {
            ColourDepth::True => {
                (style.fg(Color::Rgb(255, 253, 245)).bg(Color::Rgb(255, 253, 245)), style.bg(Color::Rgb(4, 4, 4)))
            }
            ColourDepth::Palette => (style.fg(Color::Indexed(231)).bg(Color::Indexed(231)), style.bg(Color::Indexed(16))),
            ColourDepth::Sixteen => (style.fg(Color::White).bg(Color::White), style.bg(Color::Black)),
            // A block in the foreground, which is light on the dark grounds that such terminals have.
            ColourDepth::Mono => (style, style),
        }
    }

    /// A tone's style.
    pub fn tone(self, tone: Tone) -> Style {
        let usual = self.usual_tone(tone);
        self.own(|colours| colours.tones[tone as usize]).map_or(usual, |own| usual.fg(own))
    }

    const fn usual_tone(self, tone: Tone) -> Style {
        let style = Style::new();
        match self.depth {
            ColourDepth::True if self.light => style.fg(match tone {
                Tone::Calm => Color::Rgb(118, 84, 30),
                Tone::Faint => Color::Rgb(150, 132, 104),
                Tone::Bright => Color::Rgb(176, 82, 0),
                Tone::Alarm => Color::Rgb(190, 30, 10),
                Tone::Here => Color::Rgb(0, 112, 106),
                Tone::Waiting => Color::Rgb(60, 128, 122),
                Tone::Text => Color::Rgb(44, 34, 20),
            }),
            ColourDepth::Palette if self.light => style.fg(Color::Indexed(match tone {
                Tone::Calm => 94,
                Tone::Faint => 138,
                Tone::Bright => 130,
                Tone::Alarm => 160,
                Tone::Here => 23,
                Tone::Waiting => 66,
                Tone::Text => 235,
            })),
            ColourDepth::Sixteen if self.light => match tone {
                Tone::Calm | Tone::Text => style.fg(Color::Black),
                Tone::Faint => style.fg(Color::DarkGray),
                Tone::Bright => style.fg(Color::Magenta),
                Tone::Alarm => style.fg(Color::Red),
                Tone::Here => style.fg(Color::Blue),
                Tone::Waiting => style.fg(Color::Blue),
            },
            ColourDepth::True => style.fg(match tone {
                Tone::Calm => Color::Rgb(176, 134, 74),
                Tone::Faint => Color::Rgb(104, 86, 60),
                Tone::Bright => Color::Rgb(255, 194, 84),
                Tone::Alarm => Color::Rgb(255, 122, 96),
                Tone::Here => Color::Rgb(84, 214, 198),
                Tone::Waiting => Color::Rgb(86, 148, 142),
                Tone::Text => Color::Rgb(224, 204, 172),
            }),
            ColourDepth::Palette => style.fg(Color::Indexed(match tone {
                Tone::Calm => 137,
                Tone::Faint => 95,
                Tone::Bright => 221,
                Tone::Alarm => 209,
                Tone::Here => 80,
                Tone::Waiting => 66,
                Tone::Text => 187,
            })),
            ColourDepth::Sixteen => match tone {
                Tone::Calm => style.fg(Color::Yellow),
                Tone::Faint => style.fg(Color::DarkGray),
                Tone::Bright => style.fg(Color::LightYellow),
                Tone::Alarm => style.fg(Color::LightRed),
                Tone::Here => style.fg(Color::LightCyan),
                Tone::Waiting => style.fg(Color::Cyan),
                Tone::Text => style.fg(Color::White),
            },
            ColourDepth::Mono => match tone {
                Tone::Bright | Tone::Alarm | Tone::Here => style.add_modifier(Modifier::BOLD),
                Tone::Faint => style.add_modifier(Modifier::DIM),
                _ => style,
            },
        }
    }

    /// Dims what was drawn to the brightness that is wanted.
    pub fn dim(self, buf: &mut Buffer) {
        if self.brightness >= 100 {
            return;
        }
        let share = u16::from(self.brightness);
        for cell in &mut buf.content {
            match self.depth {
                ColourDepth::True | ColourDepth::Palette => {
                    (cell.fg, cell.bg) = (darker(self.depth, cell.fg, share), darker(self.depth, cell.bg, share));
                }
                // There are no darker ones: faint is what there is.
                ColourDepth::Sixteen | ColourDepth::Mono if self.brightness <= 50 => cell.modifier |= Modifier::DIM,
                ColourDepth::Sixteen | ColourDepth::Mono => {}
            }
        }
    }

    /// The colour behind text as it is on the terminal; `None` where the terminal's own is taken and pictures have none.
    pub fn ground_colour(self) -> Option<Color> {
        let mut one = Buffer::empty(Rect::new(0, 0, 1, 1));
        one.set_style(one.area, self.ground());
        self.dim(&mut one);
        (self.depth != ColourDepth::Mono).then(|| one.content[0].bg)
    }

    /// The tone of a verdict.
    pub const fn verdict(verdict: Verdict) -> Tone {
        match verdict {
            Verdict::Steady => Tone::Calm,
            Verdict::Strained => Tone::Bright,
            Verdict::Stalled | Verdict::Lost | Verdict::Locked => Tone::Alarm,
            Verdict::Waiting => Tone::Waiting,
            Verdict::Resting => Tone::Faint,
        }
    }
}

fn darker(depth: ColourDepth, colour: Color, percent: u16) -> Color {
    rgb_of(colour).map_or(colour, |rgb| reduce(depth, rgb.map(|value| (u16::from(value) * percent / 100) as u8)))
}

/// The sign of a verdict.
pub const fn sign(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Steady => "•",
        Verdict::Strained => "≈",
        Verdict::Stalled => "■",
        Verdict::Lost => "×",
        Verdict::Locked => "⊘",
        Verdict::Waiting => "…",
        Verdict::Resting => "z",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_verdict_has_its_own_sign() {
        let signs: std::collections::BTreeSet<_> = Verdict::WORST_FIRST.iter().map(|verdict| sign(*verdict)).collect();
        assert_eq!(signs.len(), Verdict::WORST_FIRST.len());
    }
}
