//! Names of keys, as they stand in the tables of the pages.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// Whether one of these names, separated by spaces, is the key that was pressed.
pub fn is_one_of(names: &str, event: KeyEvent) -> bool {
    names.split(' ').any(|name| is_key(name, event))
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
        "shift-tab" => KeyCode::BackTab,
        "enter" => KeyCode::Enter,
        "esc" => KeyCode::Esc,
        "pgdn" => KeyCode::PageDown,
        "pgup" => KeyCode::PageUp,
        "space" => KeyCode::Char(' '),
        "del" => KeyCode::Delete,
        "backspace" => KeyCode::Backspace,
        letter => KeyCode::Char(letter.chars().next().unwrap_or(' ')),
    };
    event.code == code
}
