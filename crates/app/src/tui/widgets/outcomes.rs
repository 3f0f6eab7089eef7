//! What became of the cameras that are taken in.

use crate::tui::newcomers::Newcomers;
use crate::tui::theme::{Theme, Tone};
use ratatui::text::{Line, Span};

/// What became of the targets that were taken in, and which are still asked; `key` gives those that were refused a sign-in.
pub fn outcomes<'a>(newcomers: &Newcomers, theme: Theme, key: &str) -> Vec<Line<'a>> {
    let mut lines = Vec::new();
    if !newcomers.asking.is_empty() {
        lines.push(Line::styled(format!("asking {} …", newcomers.asking.join(", ")), theme.tone(Tone::Waiting)));
    }
    if !newcomers.locked.is_empty() {
        let wants = match newcomers.locked.len() {
            1 => "1 camera asks for another sign-in".to_owned(),
            n => format!("{n} cameras ask for another sign-in"),
        };
        let text = format!("{wants}: {key} gives one; none is tried again by itself");
        lines.push(Line::styled(text, theme.tone(Tone::Alarm)));
    }
    for taken in newcomers.taken.iter().rev() {
        lines.push(match &taken.result {
            Ok(names) => Line::from(vec![
                Span::styled(format!("{} ", taken.shown), theme.tone(Tone::Faint)),
                Span::styled(format!("is in the roster as {}", names.join(", ")), theme.tone(Tone::Calm)),
                Span::styled(taken.note.as_ref().map_or(String::new(), |note| format!("; {note}")), theme.tone(Tone::Bright)),
            ]),
            Err(why) => Line::from(vec![
                Span::styled(format!("{} ", taken.shown), theme.tone(Tone::Text)),
                Span::styled(why.clone(), theme.tone(Tone::Alarm)),
            ]),
        });
    }
    lines
}
