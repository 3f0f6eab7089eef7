//! The operator's own keys and colours: `keys.toml` and `theme.toml` beside the site file. What is wrong in them is said, and the
//! usual ones are taken for it.

use super::keys::is_known;
use super::page::{Kind, Table};
use super::theme::{Colours, TONES};
use std::collections::BTreeMap;
use std::path::Path;
use toml_edit::{DocumentMut, Item};

/// What was read.
#[derive(Debug, Default)]
pub struct Own {
    /// By page: the usual key, and the own ones in its place.
    keys: BTreeMap<String, BTreeMap<String, String>>,
    /// On a dark ground, and on a light one.
    pub colours: [Option<&'static Colours>; 2],
    /// What was wrong, a sentence each.
    pub wrong: Vec<String>,
}

impl Own {
    /// Reads both files where they are there.
    pub fn read(folder: &Path) -> Self {
        let mut own = Self::default();
        if let Some(document) = own.document(folder, "keys.toml") {
            own.read_keys(&document);
        }
        if let Some(document) = own.document(folder, "theme.toml") {
            own.read_colours(&document);
        }
        own
    }

    fn document(&mut self, folder: &Path, name: &str) -> Option<DocumentMut> {
        let text = match std::fs::read_to_string(folder.join(name)) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return None,
            Err(error) => {
                self.wrong.push(format!("{name} cannot be read: {error}"));
                return None;
            }
        };
        text.parse()
            .map_err(|error: toml_edit::TomlError| self.wrong.push(format!("{name}: {}", one_line(&error.to_string()))))
            .ok()
    }

    fn read_keys(&mut self, document: &DocumentMut) {
        for (page, table) in document.iter() {
            let Some(table) = table.as_table_like() else {
                self.wrong.push(format!("keys.toml: {page}: write a table, like [Wall], and in it \"G\" = \"f5\""));
                continue;
            };
            for (usual, own) in table.iter() {
                match own.as_str() {
                    Some(own) if !own.is_empty() && own.split(' ').all(is_known) => {
                        self.keys.entry(page.to_owned()).or_default().insert(usual.to_owned(), own.to_owned());
                    }
                    _ => self.wrong.push(format!(
                        "keys.toml: [{page}] {usual}: no key is called {}: write it like \"x\", \"f5\" or \"ctrl-x\"",
                        own.to_string().trim()
                    )),
                }
            }
        }
    }

    fn read_colours(&mut self, document: &DocumentMut) {
        for (ground, place) in [("dark", 0), ("light", 1)] {
            let Some(table) = document.get(ground).and_then(Item::as_table_like) else { continue };
            let mut colours = Colours::default();
            for (name, value) in table.iter() {
                let colour = value.as_str().and_then(colour);
                let slot = if name == "ground" { Some(&mut colours.ground) } else { colours.slot(name) };
                match (slot, colour) {
                    (Some(slot), Some(colour)) => *slot = Some(colour),
                    (None, _) => self.wrong.push(format!("theme.toml: [{ground}] {name}: there is ground, {}", TONES.join(", "))),
                    (_, None) => {
                        self.wrong.push(format!("theme.toml: [{ground}] {name}: write a colour like \"#c8a064\""));
                    }
                }
            }
            self.wrong.extend(colours.unreadable(place == 1).map(|name| {
                format!("theme.toml: [{ground}] {name} cannot be read on its ground: take a colour that differs more")
            }));
            self.colours[place] = Some(Box::leak(Box::new(colours)));
        }
        let unknown = document.iter().map(|(name, _)| name).filter(|name| !["dark", "light"].contains(name));
        self.wrong.extend(unknown.map(|name| format!("theme.toml: {name}: there are [dark] and [light]")));
    }

    /// Puts the own keys into the tables of the pages.
    pub fn rekey(&mut self, tables: &mut [Table]) {
        for (page, keys) in std::mem::take(&mut self.keys) {
            let Some(index) = tables.iter().position(|table| table.name.eq_ignore_ascii_case(&page)) else {
                let names: Vec<&str> = tables.iter().map(|table| table.name).collect();
                self.wrong.push(format!("keys.toml: there is no page {page}: there are {}", names.join(", ")));
                continue;
            };
            let name = tables[index].name;
            for (usual, own) in keys {
                let taken = |other: &str| other.split(' ').any(|key| own.split(' ').any(|own| own == key));
                let own_keys = tables[index].keys.iter();
                let ways =
                    tables.iter().flat_map(|table| table.ways.iter().filter(|(from, _)| *from == name).map(|(_, key)| key));
                let other = own_keys.chain(ways).find(|key| key.kind != Kind::Elsewhere && taken(key.keys));
                if let Some(other) = other.filter(|other| !other.keys.split(' ').any(|key| key == usual)) {
                    self.wrong.push(format!("keys.toml: [{name}] {own} is taken already: {}", other.help));
                    continue;
                }
                // Kept as long as the program, as those of the tables are.
                let kept: &'static str = Box::leak(own.into_boxed_str());
                let in_table = tables[index].keys.iter_mut().find(|key| key.keys.split(' ').any(|key| key == usual));
                let found = match in_table {
                    Some(key) => Some(key),
                    None => tables
                        .iter_mut()
                        .flat_map(|table| table.ways.iter_mut())
                        .filter(|(from, _)| *from == name)
                        .map(|(_, key)| key)
                        .find(|key| key.keys.split(' ').any(|key| key == usual)),
                };
                match found {
                    Some(key) => key.keys = kept,
                    None => self.wrong.push(format!("keys.toml: [{name}] has no key {usual}: ? has all of them")),
                }
            }
        }
    }
}

/// The first line of an error, and where it is.
fn one_line(text: &str) -> String {
    let lines: Vec<&str> = text.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    let (first, last) = (lines.first().copied().unwrap_or_default(), lines.last().copied().unwrap_or_default());
    if first == last { first.to_owned() } else { format!("{first}: {last}") }
}

/// A colour like #c8a064.
fn colour(text: &str) -> Option<[u8; 3]> {
    let digits = text.strip_prefix('#').filter(|digits| digits.len() == 6 && digits.is_ascii())?;
    let number = u32::from_str_radix(digits, 16).ok()?;
    Some([(number >> 16) as u8, (number >> 8) as u8, number as u8])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::pages;
    use crate::tui::theme::{Theme, Tone};
    use lattice_term::ColourDepth;
    use ratatui::style::Color;

    fn read(keys: &str, theme: &str) -> (Own, Vec<Table>) {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("keys.toml"), keys).unwrap();
        std::fs::write(folder.path().join("theme.toml"), theme).unwrap();
        let mut own = Own::read(folder.path());
        let (all, fronts) = pages::all();
        let mut tables = crate::tui::page::Pages::new(all, fronts).tables;
        own.rekey(&mut tables);
        (own, tables)
    }

    #[test]
    fn own_keys_stand_in_the_tables_and_slips_are_told_and_leave_the_usual_ones() {
        let (own, tables) = read("[Wall]\n\"G\" = \"f5\"\nenter = \"f6 ctrl-e\"\n[ledger]\na = \"alt-a\"\n", "");
        assert!(own.wrong.is_empty(), "{:?}", own.wrong);
        let keys = |page: &str| -> Vec<&str> {
            let own = tables.iter().filter(|table| table.name == page).flat_map(|table| table.keys.iter().map(|key| key.keys));
            let ways =
                tables.iter().flat_map(|table| table.ways.iter().filter(|(from, _)| *from == page).map(|(_, key)| key.keys));
            own.chain(ways).collect()
        };
        assert!(keys("Wall").contains(&"f5") && !keys("Wall").contains(&"G") && keys("Ledger").contains(&"alt-a"));
        for (text, told) in [
            ("[Wall]\nG = \"m\"", "[Wall] m is taken already: hold the tile"),
            ("[Wall]\nG = \"hyper-g\"", "no key is called"),
            ("[Wall]\n\"ctrl-y\" = \"f5\"", "[Wall] has no key ctrl-y"),
            ("[Roof]\nG = \"f5\"", "there is no page Roof: there are Wall"),
            ("Wall = 3", "write a table"),
            ("[Wall", "keys.toml: TOML parse error at line 1"),
        ] {
            let (own, _) = read(text, "");
            assert!(own.wrong.len() == 1 && own.wrong[0].contains(told), "{text}: {:?}", own.wrong);
        }
    }

    #[test]
    fn own_colours_are_taken_where_they_can_be_read() {
        let (own, _) = read("", "[dark]\nground = \"#000000\"\nalarm = \"#ff00ff\"\n");
        let theme = Theme { own: own.colours, ..Theme::new(ColourDepth::True) };
        assert_eq!((theme.tone(Tone::Alarm).fg, theme.ground().bg), (Some(Color::Rgb(255, 0, 255)), Some(Color::Rgb(0, 0, 0))));
        assert_eq!(theme.tone(Tone::Calm), Theme::new(ColourDepth::True).tone(Tone::Calm), "the others are the usual ones");
        let light = Theme { light: true, ..theme };
        assert_eq!(light.tone(Tone::Alarm), Theme { light: true, ..Theme::new(ColourDepth::True) }.tone(Tone::Alarm));
        for (text, told) in [
            ("[dark]\nalarm = \"red\"", "write a colour like"),
            ("[dark]\nalert = \"#ff0000\"", "there is ground, calm, faint"),
            ("[dark]\nalarm = \"#100e0d\"", "alarm cannot be read on its ground"),
            ("[dusk]\nalarm = \"#ff0000\"", "there are [dark] and [light]"),
        ] {
            let (own, _) = read("", text);
            assert!(own.wrong.len() == 1 && own.wrong[0].contains(told), "{text}: {:?}", own.wrong);
        }
    }
}
