//! Keys and what they do: one table, from which help and footer are printed.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// Where a key applies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Context {
    /// The wall, with or without a tile enlarged.
    Wall,
    /// The list of faults.
    Faults,
    /// The help.
    Help,
}

/// What a key does.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Action {
    /// Select the tile in this direction: columns, rows.
    Move(i32, i32),
    /// Select the next tile, or with -1 the one before.
    Step(i32),
    /// Enlarge the selected tile, or return to the wall.
    Enlarge,
    /// Back to the wall.
    Back,
    /// Switch between main and sub.
    SwitchStream,
    /// Try a lost or locked stream again now.
    Retry,
    /// Hold the last clean picture after a loss, or show damaged ones.
    DamageChoice,
    /// Choose a fault for the selected stand-in camera.
    Faults,
    /// Order the fault with this number.
    Order(usize),
    /// Show the help.
    Help,
    /// Scroll the help.
    Scroll(i32),
    /// Leave.
    Quit,
}

/// A row of the table.
#[derive(Debug)]
pub struct Binding {
    /// Where.
    pub context: Context,
    /// Keys as they are shown, separated by spaces; also parsed from this.
    pub keys: &'static str,
    /// What.
    pub action: Action,
    /// In the help.
    pub help: &'static str,
    /// In the footer, where it is important enough.
    pub hint: Option<&'static str>,
}

const fn row(context: Context, keys: &'static str, action: Action, help: &'static str, hint: Option<&'static str>) -> Binding {
    Binding { context, keys, action, help, hint }
}

/// Every key.
pub const KEYMAP: &[Binding] = &[
    row(Context::Wall, "left h", Action::Move(-1, 0), "select the tile to the left", None),
    row(Context::Wall, "right l", Action::Move(1, 0), "select the tile to the right", None),
    row(Context::Wall, "up k", Action::Move(0, -1), "select the tile above", None),
    row(Context::Wall, "down j", Action::Move(0, 1), "select the tile below", None),
    row(Context::Wall, "tab", Action::Step(1), "select the next tile, also while one is enlarged", None),
    row(Context::Wall, "backtab", Action::Step(-1), "select the tile before", None),
    row(Context::Wall, "enter", Action::Enlarge, "enlarge the selected tile, or return; also a double click", Some("enlarge")),
    row(Context::Wall, "esc", Action::Back, "return to the wall", None),
    row(Context::Wall, "m", Action::SwitchStream, "switch between main and sub; again to stay", Some("main/sub")),
    row(Context::Wall, "r", Action::Retry, "try a lost or locked stream again now", Some("retry")),
    row(Context::Wall, "d", Action::DamageChoice, "after a loss: hold the last clean picture, or show damaged ones marked", None),
    row(Context::Wall, "f", Action::Faults, "order a fault from the selected stand-in camera (demo)", Some("fault")),
    row(Context::Wall, "?", Action::Help, "this help", Some("help")),
    row(Context::Wall, "q ctrl-c", Action::Quit, "leave", Some("quit")),
    row(Context::Faults, "1", Action::Order(0), "", None),
    row(Context::Faults, "2", Action::Order(1), "", None),
    row(Context::Faults, "3", Action::Order(2), "", None),
    row(Context::Faults, "4", Action::Order(3), "", None),
    row(Context::Faults, "5", Action::Order(4), "", None),
    row(Context::Faults, "esc f q", Action::Back, "back to the wall", None),
    row(Context::Faults, "ctrl-c", Action::Quit, "leave", None),
    row(Context::Help, "down j", Action::Scroll(1), "further down", None),
    row(Context::Help, "up k", Action::Scroll(-1), "further up", None),
    row(Context::Help, "pgdn space", Action::Scroll(10), "a page down", None),
    row(Context::Help, "pgup", Action::Scroll(-10), "a page up", None),
    row(Context::Help, "esc ? q", Action::Back, "back to the wall", None),
    row(Context::Help, "ctrl-c", Action::Quit, "leave", None),
];

/// What a key press means here.
pub fn action(context: Context, event: KeyEvent) -> Option<Action> {
    let matches = |binding: &&Binding| binding.context == context && binding.keys.split(' ').any(|key| is_key(key, event));
    KEYMAP.iter().find(matches).map(|binding| binding.action)
}

fn is_key(name: &str, event: KeyEvent) -> bool {
    let control = event.modifiers.contains(KeyModifiers::CONTROL);
    if let Some(letter) = name.strip_prefix("ctrl-") {
        return control && event.code == KeyCode::Char(letter.chars().next().unwrap_or(' '));
    }
    if control || event.modifiers.contains(KeyModifiers::ALT) {
        return false;
    }
    let code = match name {
        "left" => KeyCode::Left,
        "right" => KeyCode::Right,
        "up" => KeyCode::Up,
        "down" => KeyCode::Down,
        "tab" => KeyCode::Tab,
        "backtab" => KeyCode::BackTab,
        "enter" => KeyCode::Enter,
        "esc" => KeyCode::Esc,
        "pgdn" => KeyCode::PageDown,
        "pgup" => KeyCode::PageUp,
        "space" => KeyCode::Char(' '),
        letter => KeyCode::Char(letter.chars().next().unwrap_or(' ')),
    };
    event.code == code
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_context_binds_a_key_twice() {
        let mut seen = std::collections::BTreeSet::new();
        for binding in KEYMAP {
            for key in binding.keys.split(' ') {
                assert!(seen.insert((format!("{:?}", binding.context), key)), "{key} in {:?}", binding.context);
            }
        }
    }

    #[test]
    fn keys_are_found_by_context() {
        let press = |code| KeyEvent::new(code, KeyModifiers::NONE);
        assert_eq!(action(Context::Wall, press(KeyCode::Char('m'))), Some(Action::SwitchStream));
        assert_eq!(action(Context::Wall, press(KeyCode::Char('?'))), Some(Action::Help));
        assert_eq!(action(Context::Help, press(KeyCode::Char('m'))), None);
        let quit = KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL);
        for context in [Context::Wall, Context::Faults, Context::Help] {
            assert_eq!(action(context, quit), Some(Action::Quit));
        }
    }
}
