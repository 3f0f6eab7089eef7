//! What is typed to find some of many cameras: words, and figures that lie above or below a value.
//!
//! All terms must hold. A word holds where it is part of anything that is told of the camera; `lost`, `strained` and the like are
//! verdicts, and `"car lane"` in quotes is one word. `> 200 ms`, `<10 fps`, `> 1 %`,
//! `< 500 kbit/s` and `> 2 dropouts` compare a figure of its stream; what is unknown is neither above nor below.

use crate::Verdict;
use crate::meter::{Fig, Figures};

/// What is compared, by its unit.
const UNITS: [(&str, Fig, f64); 10] = [
    ("ms", Fig::Latency, 1.0),
    ("s", Fig::Latency, 1e3),
    ("%", Fig::Loss, 1.0),
    ("fps", Fig::Sent, 1.0),
    ("/s", Fig::Sent, 1.0),
    ("kbit/s", Fig::BitrateTen, 1.0),
    ("mbit/s", Fig::BitrateTen, 1e3),
    ("dropouts", Fig::DropoutsHour, 1.0),
    ("dropout", Fig::DropoutsHour, 1.0),
    ("px", Fig::Height, 1.0),
];

/// One thing that must hold.
#[derive(Debug, Clone, PartialEq)]
enum Term {
    Word(String),
    Verdict(Verdict),
    Above(Fig, f64),
    Below(Fig, f64),
}

/// What was typed, understood.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Sift {
    terms: Vec<Term>,
}

/// Why a text was not understood, and what to write instead.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SiftError {
    /// Behind `>` or `<` stands no number.
    #[error("behind {0} a number is missing: write it like > 200 ms")]
    NoNumber(char),
    /// The number has no unit, or one that is not known.
    #[error("{0} of what? ms (latency), % (packets lost), fps (frame rate), kbit/s (bitrate), px (height) or dropouts")]
    NoUnit(String),
}

impl Sift {
    /// Understands a text.
    ///
    /// # Errors
    /// [`SiftError`] where a comparison is not whole; the sentence says what is missing.
    pub fn parse(text: &str) -> Result<Self, SiftError> {
        let lower = text.to_lowercase();
        let mut rest = lower.trim_start();
        let mut terms = Vec::new();
        while let Some(first) = rest.chars().next() {
            if first != '>' && first != '<' {
                if let Some(quoted) = rest.strip_prefix('"') {
                    let (words, after) = quoted.split_once('"').unwrap_or((quoted, ""));
                    terms.push(Term::Word(words.to_owned()));
                    rest = after.trim_start();
                    continue;
                }
                let end = rest.find(char::is_whitespace).unwrap_or(rest.len());
                let word = &rest[..end];
                terms.push(Verdict::from_word(word).map_or_else(|| Term::Word(word.to_owned()), Term::Verdict));
                rest = rest[end..].trim_start();
                continue;
            }
            let after = rest[1..].trim_start();
            let digits = after.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(after.len());
            let number: f64 = after[..digits].parse().map_err(|_| SiftError::NoNumber(first))?;
            let behind = after[digits..].trim_start();
            let end = behind.find(char::is_whitespace).unwrap_or(behind.len());
            let unit = UNITS.iter().find(|(unit, ..)| *unit == &behind[..end]);
            let (_, fig, factor) = unit.ok_or_else(|| SiftError::NoUnit(format!("{first} {}", &after[..digits])))?;
            let value = number * factor;
            terms.push(if first == '>' { Term::Above(*fig, value) } else { Term::Below(*fig, value) });
            rest = behind[end..].trim_start();
        }
        Ok(Self { terms })
    }

    /// Whether it holds of a camera: `told` is all that is told of it, in small letters, `verdict` and `figures` those of its
    /// stream.
    #[must_use]
    pub fn holds(&self, told: &str, verdict: Verdict, figures: Option<&Figures>) -> bool {
        let value = |fig: Fig| figures.and_then(fig.row().value);
        self.terms.iter().all(|term| match term {
            Term::Word(word) => told.contains(word.as_str()),
            Term::Verdict(wanted) => verdict == *wanted,
            Term::Above(fig, limit) => value(*fig).is_some_and(|value| value > *limit),
            Term::Below(fig, limit) => value(*fig).is_some_and(|value| value < *limit),
        })
    }

    /// Whether it lets all through.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.terms.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_and_figures_are_held_against_what_is_told() {
        let figures = Figures { sent: Some(12.5), recent_loss: Some(0.02), size: Some((640, 360)), ..Figures::default() };
        let holds = |text: &str| {
            Sift::parse(text).unwrap().holds("car lane 2 lanes packets lost h265 sub udp", Verdict::Strained, Some(&figures))
        };
        for text in [
            "",
            "\"lane 2\" strained",
            "\"car la",
            "lane",
            "LANE strained",
            "h265 > 1 %",
            ">1%",
            "< 13 fps",
            "<13/s lane",
            "< 400px",
        ] {
            assert!(holds(text), "{text}");
        }
        for text in ["lost", "\"lane car\"", "lane main", "> 2 %", "> 12.5 fps", "> 200 ms", "< 200 ms", "> 100 kbit/s"] {
            assert!(!holds(text), "{text}: what is unknown is neither above nor below");
        }
        assert!(!Sift::parse("> 0 fps").unwrap().holds("", Verdict::Steady, None));
        assert!(Sift::parse("  ").unwrap().is_empty());
    }

    #[test]
    fn what_is_not_whole_is_told_with_what_to_write() {
        let wrong = |text: &str| Sift::parse(text).unwrap_err().to_string();
        assert_eq!(wrong("lane >"), "behind > a number is missing: write it like > 200 ms");
        assert_eq!(wrong("< ms"), "behind < a number is missing: write it like > 200 ms");
        for text in ["> 200", "> 200 miles", "> 200 lane"] {
            assert!(wrong(text).starts_with("> 200 of what? ms (latency)"), "{text}");
        }
        assert!(wrong("> 1.2.3 ms").contains("a number is missing"));
    }
}
