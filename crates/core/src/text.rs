//! Texts that come from devices, made fit to be shown: one filter, which every such text passes when it comes in.

/// Whether a character could do something to a terminal, or to what is read around it: control characters (ESC among them),
/// line and paragraph separators, direction marks, and signs that cannot be seen.
#[must_use]
pub fn is_unsafe(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}'
            | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

/// The text without what is unsafe; line ends and tabs become spaces.
///
/// ```
/// use lattice_core::text::plain;
/// assert_eq!(plain("Quay\u{1b}[2J 1\r\n"), "Quay[2J 1  ");
/// ```
#[must_use]
pub fn plain(text: &str) -> String {
    let spaces = |c: char| if matches!(c, '\n' | '\r' | '\t') { ' ' } else { c };
    text.chars().map(spaces).filter(|c| !is_unsafe(*c)).collect()
}

/// The same with its lines kept.
#[must_use]
pub fn plain_lines(text: &str) -> String {
    text.chars().filter(|c| matches!(c, '\n' | '\r' | '\t') || !is_unsafe(*c)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn nothing_that_steers_a_terminal_is_left(text: String) {
            prop_assert!(!plain(&text).chars().any(is_unsafe));
            prop_assert!(!plain_lines(&text).chars().any(|c| is_unsafe(c) && !matches!(c, '\n' | '\r' | '\t')));
        }
    }

    #[test]
    fn letters_of_any_language_stay() {
        for text in ["Fährhafen – Kai 3", "港口 2", "Порт №4", "שער", "الميناء", "Quai d’été"] {
            assert_eq!(plain(text), text);
        }
    }
}
