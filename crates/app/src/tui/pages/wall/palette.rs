//! Everything by a few letters: what keys do, here and on other pages; cameras, lattices, tours.

use super::choose::{camera_lines, lattice_lines, tour_lines};
use crate::tui::app::App;
use crate::tui::fronts::picker::{Line, Picker};
use crate::tui::page::{Found, KeyText, Kind, WALL, WELCOME};

/// Puts the list in front.
pub fn open(app: &mut App) {
    app.put_in_front(Picker::list("Everything", lines));
}

/// All lines.
pub fn lines(app: &App) -> Vec<Line> {
    let keys = actions(app).into_iter();
    let cameras = camera_lines(app, App::show_camera);
    keys.chain(cameras).chain(lattice_lines(app)).chain(tour_lines(app)).collect()
}

/// What keys do on the page that is shown, then on the wall, then on other pages with the keys that lead there before them.
fn actions(app: &App) -> Vec<Line> {
    let mut lines = Vec::new();
    let mut tables: Vec<_> = app.pages.tables.iter().filter(|table| table.name != WELCOME).collect();
    tables.sort_by_key(|table| table.name != app.page_name());
    for table in tables {
        let Some(ways) = app.ways_to(table.name).filter(|ways| ways.iter().all(|(_, key)| app.is_there(key.needs))) else {
            continue;
        };
        let is_meant = |key: &KeyText| table.name == WALL || key.kind == Kind::Does;
        let keys = app.keys_of(table).into_iter();
        for (found, key) in keys.filter(|(_, key)| !key.help.is_empty() && is_meant(key) && app.is_there(key.needs)) {
            lines.push(line(app, table.name, &ways, (found, key)));
        }
    }
    lines
}

fn line(app: &App, page: &'static str, ways: &[(Found, KeyText)], key: (Found, KeyText)) -> Line {
    let first = |keys: &'static str| keys.split(' ').next().unwrap_or(keys);
    let there = ways.iter().map(|(_, key)| first(key.keys)).collect::<Vec<_>>().join(", ");
    let own = key.1.keys.replace(' ', ", ");
    if page == app.page_name() {
        return Line::new(key.1.help, String::new(), &own, move |app| app.press_there(&[], key));
    }
    let (label, shown) = if page == WALL {
        (key.1.help.to_owned(), own)
    } else {
        (format!("{page}: {}", key.1.help), format!("{there}, then {own}"))
    };
    let ways = ways.to_vec();
    Line::new(&label, String::new(), &shown, move |app| {
        app.show_wall();
        app.press_there(&ways, key);
    })
}
