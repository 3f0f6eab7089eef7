//! Names of keys, as they stand in the tables of the pages.

use crokey::KeyCombination;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// Whether one of these names, separated by spaces, is the key that was pressed.
pub fn is_one_of(names: &str, event: KeyEvent) -> bool {
    names.split(' ').any(|name| is_key(name, event) || is_combination(name, event))
}

/// Whether one of these names is the key that was pressed, shift and all.
pub fn is_with_shift(names: &str, event: KeyEvent) -> bool {
    event.modifiers.contains(KeyModifiers::SHIFT)
        && names.split(' ').any(|name| name.starts_with("shift-") && is_combination(name, event))
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
        letter if letter.chars().count() == 1 => KeyCode::Char(letter.chars().next().unwrap_or(' ')),
        _ => return false,
    };
    event.code == code
}

/// Keys that have no name in the tables, as the operator's own may: `f5`, `alt-x`, `ctrl-shift-left`.
fn is_combination(name: &str, event: KeyEvent) -> bool {
    name.chars().count() > 1
        && crokey::parse(name).is_ok_and(|wanted| wanted.normalized() == KeyCombination::from(event).normalized())
}

/// Whether a key can be called like this.
pub fn is_known(name: &str) -> bool {
    const NAMED: [&str; 13] =
        ["left", "right", "up", "down", "tab", "shift-tab", "enter", "esc", "pgdn", "pgup", "space", "del", "backspace"];
    name.chars().count() == 1 || NAMED.contains(&name) || crokey::parse(name).is_ok()
}
