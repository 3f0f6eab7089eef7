//! What is picked or typed in front of the wall: cameras, groups, lattices, tours, screens.

use crate::tui::app::App;
use crate::tui::fronts::picker::{Line, Picker};
use crate::tui::lattices::{ALL, TROUBLE};
use crate::tui::theme::Tone;
use lattice_core::lattice::Lattice;
use lattice_engine::Command;
use lattice_engine::jobs::Errand;

/// A camera for the selected tile.
pub fn camera(app: &mut App) {
    let put = |app: &mut App, name: &str| {
        let tile = app.tile_number(app.selected);
        app.put_camera(tile, name);
    };
    app.put_in_front(Picker::list("Put a camera here", move |app| camera_lines(app, put)));
}

/// A line a camera; those that stand nowhere yet come first.
pub fn camera_lines(app: &App, take: impl Fn(&mut App, &str) + Copy + 'static) -> Vec<Line> {
    let lattice = app.lattices.shown();
    let line = |name: &str| {
        let group = app.site.camera(name).and_then(|camera| camera.group.clone()).unwrap_or_default();
        let tile = lattice.find(name).map(|tile| format!("in tile {}", tile + 1)).unwrap_or_default();
        let detail = [group, tile].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(", ");
        let camera = name.to_owned();
        Line::new(name, detail, "", move |app| take(app, &camera)).of_camera(name)
    };
    let mut lines: Vec<Line> = app.cameras_there().map(line).collect();
    lines.sort_by_key(|line| lattice.find(&line.label).is_some());
    lines
}

/// A group whose cameras fill the empty tiles.
pub fn group(app: &mut App) {
    app.put_in_front(Picker::list("Fill the empty tiles", |app| {
        let missing = |group: Option<&str>| {
            let names = app.cameras_of(group);
            let new = names.iter().filter(|name| app.lattices.shown().find(name).is_none()).count();
            format!("{} cameras, {new} not in this lattice yet", names.len())
        };
        let mut lines = vec![Line::new(ALL, missing(None), "", |app| app.fill(None))];
        let line = |group: String| {
            Line::new(&group, missing(Some(&group)), "", {
                let group = group.clone();
                move |app| app.fill(Some(&group))
            })
        };
        lines.extend(app.site.groups().into_iter().map(line));
        lines
    }));
}

/// A lattice to show.
pub fn lattice(app: &mut App) {
    app.put_in_front(Picker::list("Lattices", lattice_lines));
}

/// A line a lattice, with its quick key.
pub fn lattice_lines(app: &App) -> Vec<Line> {
    let line = |(index, lattice): (usize, &Lattice)| {
        let changed = if app.lattices.is_changed(lattice) { ", not saved" } else { "" };
        let pages = if lattice.pages() > 1 { format!(", {} pages", lattice.pages()) } else { String::new() };
        let key = if index < 9 { (index + 1).to_string() } else { String::new() };
        let detail = format!("lattice, {}{pages}{changed}", lattice.layout().word());
        let name = lattice.name.clone();
        Line::new(&lattice.name, detail, &key, move |app| app.show_lattice(Some(&name)))
    };
    let all = Line::new(ALL, "lattice".into(), "0", |app| app.show_lattice(Some(ALL)));
    app.lattices.own().iter().enumerate().map(line).chain([all]).collect()
}

/// Begins a tour, or lets the operator choose one; holds the one that runs.
pub fn tour(app: &mut App) {
    if app.has_tour() {
        return app.hold_tour();
    }
    match app.tours().as_slice() {
        [] => app.say(Tone::Text, "a tour needs a lattice with pages, or two lattices; or one in the site file".into()),
        [only] => {
            let name = only.name.clone();
            app.begin_tour(&name);
        }
        _ => app.put_in_front(Picker::list("Tours", tour_lines)),
    }
}

/// A line a tour.
pub fn tour_lines(app: &App) -> Vec<Line> {
    let line = |tour: lattice_store::site::Tour| {
        let detail = format!("tour of {} stops", tour.stops.len());
        let name = tour.name.clone();
        Line::new(&tour.name, detail, "", move |app| app.begin_tour(&name))
    };
    app.tours().into_iter().map(line).collect()
}

/// A screen that something is sent to.
pub fn screen(app: &mut App) {
    if app.site.screens.is_empty() {
        app.say(Tone::Text, "the site names no other screen: write [[screen]] in the site file".into());
        return;
    }
    app.tell(Command::AskScreens);
    app.put_in_front(Picker::list("Send to a screen (each opens its own connections)", |app| {
        let line = |screen: &lattice_store::site::Screen| {
            let shows = app.other_screens.get(&screen.name);
            let detail = match shows {
                _ if Some(screen.name.as_str()) == app.screen.as_deref() => "this one".into(),
                Some(what) => format!("shows {what}"),
                None => "does not run on this machine".into(),
            };
            let name = screen.name.clone();
            Line::new(&screen.name, detail, "", move |app| app.send(name.clone()))
        };
        // What this screen shows is seen already: the others come first.
        let (own, others): (Vec<_>, Vec<_>) =
            app.site.screens.iter().partition(|screen| Some(screen.name.as_str()) == app.screen.as_deref());
        others.into_iter().chain(own).map(line).collect()
    }));
}

/// Another name for the shown lattice.
pub fn rename(app: &mut App) {
    let name = app.lattices.shown().name.clone();
    if name == ALL {
        app.say(Tone::Text, "the lattice of all cameras keeps its name; W makes another of it".into());
        return;
    }
    app.put_in_front(Picker::line("Another name for this lattice", name, |app, text| {
        if let Err(told) = app.lattices.rename(text) {
            app.say(Tone::Alarm, told);
        }
    }));
}

/// A name for a copy of the shown lattice.
pub fn duplicate(app: &mut App) {
    let name = app.lattices.shown().name.clone();
    let name = app.lattices.free_name(if [ALL, TROUBLE].contains(&name.as_str()) { "lattice" } else { &name });
    app.put_in_front(Picker::line("Name of the new lattice", name, |app, text| {
        let name = app.lattices.free_name(text.trim());
        if !name.is_empty() {
            let copy = app.lattices.shown().called(name);
            app.lattices.add(copy);
        }
    }));
}

fn has_site(app: &mut App) -> bool {
    if !app.available {
        app.say(Tone::Text, "these cameras belong to no site: start `amber-lattice wall` to keep lattices".into());
    }
    app.available
}

/// A file that the shown lattice is written to.
pub fn export(app: &mut App) {
    if !has_site(app) {
        return;
    }
    let name = format!("{}.toml", app.lattices.shown().name.replace('/', "-"));
    app.put_in_front(Picker::line("Write this lattice to a new file", name, |app, text| {
        if !text.trim().is_empty() {
            app.order(Errand::ExportLattice(Box::new(app.lattices.shown().clone()), text.to_owned()));
        }
    }));
}

/// A file that lattices are read from.
pub fn import(app: &mut App) {
    if !has_site(app) {
        return;
    }
    app.put_in_front(Picker::line("Read lattices from a file", String::new(), |app, text| {
        if !text.trim().is_empty() {
            app.order(Errand::ImportLattices(text.to_owned()));
        }
    }));
}
