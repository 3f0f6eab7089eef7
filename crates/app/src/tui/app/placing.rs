//! What stands where: cameras in tiles, layouts, lattices.

use crate::tui::app::{App, Dragged, Tile};
use crate::tui::lattices::{ALL, TROUBLE};
use crate::tui::page::WALL;
use crate::tui::theme::Tone;
use lattice_core::Role;
use lattice_core::lattice::{Lattice, Placed};
use lattice_core::layout::Layout;
use lattice_engine::jobs::Errand;
use lattice_engine::{Command, SheetPlace};
use lattice_store::Order;
use std::collections::BTreeSet;

impl App {
    /// What stands at a place of the page that is shown.
    pub fn placed(&self, place: usize) -> Option<&Placed> {
        self.lattices.shown().at(self.tile_number(place))
    }

    /// The number of a place through all pages, from 0.
    pub fn tile_number(&self, place: usize) -> usize {
        self.lattices.page() * self.lattices.shown().places() + place
    }

    /// Keeps a still of the selected tile.
    pub fn keep_still(&mut self) {
        match self.selected_tile().map(Tile::key) {
            Some(key) if self.pictures.contains_key(&key) => self.tell(Command::Still(key)),
            Some(_) => self.say(Tone::Text, "there is no picture of it yet that could be kept".into()),
            None => self.say(Tone::Text, "this tile is empty".into()),
        }
    }

    /// Keeps a still that pictures of the selected tile are averaged into.
    pub fn keep_burst(&mut self) {
        match self.selected_tile().map(Tile::key) {
            Some(key) if self.pictures.contains_key(&key) => {
                self.say(
                    Tone::Text,
                    "pictures of the next 2 s are averaged into one still: it needs a scene that stands still".into(),
                );
                self.tell(Command::Burst(key));
            }
            Some(_) => self.say(Tone::Text, "there is no picture of it yet that could be kept".into()),
            None => self.say(Tone::Text, "this tile is empty".into()),
        }
    }

    /// Keeps the pictures of the page on one sheet.
    pub fn keep_sheet(&mut self) {
        let place = |place: usize| match self.tile_at(place) {
            Some(tile) => SheetPlace::Stream(tile.key()),
            None => SheetPlace::Empty(self.placed(place).map_or_else(|| "empty".into(), |placed| placed.camera.clone())),
        };
        let title = format!("{}, {}", self.name, self.lattices.shown().name);
        let places = (0..self.lattices.shown().places()).map(place).collect();
        self.tell(Command::Sheet(title, places));
    }

    /// Empties the selected tile.
    pub fn clear_tile(&mut self) {
        let here = self.tile_number(self.selected);
        if self.lattices.edit(|lattice| lattice.clear(here)).is_none() {
            self.say(Tone::Text, "this tile is empty".into());
        }
    }

    /// Undoes the last change of a lattice.
    pub fn undo_lattice(&mut self) {
        if !self.lattices.undo() {
            self.say(Tone::Text, "nothing was changed here that could be undone".into());
        }
    }

    /// Does again what was undone.
    pub fn redo_lattice(&mut self) {
        if !self.lattices.redo() {
            self.say(Tone::Text, "nothing was undone that could be done again".into());
        }
    }

    /// Saves all lattices in the site.
    pub fn save_lattices(&mut self) {
        self.order(Errand::SaveLattices(self.lattices.own().to_vec()));
    }

    /// Fit, fill or stretch the picture in the selected tile.
    pub fn change_aspect(&mut self) {
        self.change_placed(|placed| {
            placed.aspect = placed.aspect.next();
            format!("{}: {} the tile", placed.camera, placed.aspect.word())
        });
    }

    /// Marks the selected tile, or not any more.
    pub fn mark_tile(&mut self) {
        self.change_placed(|placed| {
            placed.marked = !placed.marked;
            format!("{} {}", placed.camera, if placed.marked { "is marked" } else { "is not marked any more" })
        });
    }

    /// Shows the lattice with this quick key; 0 for all cameras.
    pub fn show_numbered(&mut self, number: usize) {
        let Some(index) = number.checked_sub(1) else { return self.show_lattice(None) };
        match self.lattices.own().get(index).map(|lattice| lattice.name.clone()) {
            Some(name) => self.show_lattice(Some(&name)),
            None => self.say(Tone::Text, format!("there is no lattice {number} yet: v chooses a layout, w saves it")),
        }
    }

    /// Takes the shown lattice out.
    pub fn remove_lattice(&mut self) {
        match self.lattices.remove() {
            Some(name) => self.say(Tone::Text, format!("lattice {name} taken out: u brings it back, w makes it final")),
            None => self.say(Tone::Text, "the lattice of all cameras stays".into()),
        }
    }

    /// Lattices from a file: beside those that are there, not saved yet; the last one is shown.
    pub fn take_lattices(&mut self, lattices: Vec<Lattice>) {
        let mut last = None;
        let cameras = lattices.iter().flat_map(|lattice| lattice.cameras()).filter(|name| self.camera_index(name).is_none());
        let missing: BTreeSet<String> = cameras.map(ToString::to_string).collect();
        for lattice in lattices {
            let name = self.lattices.free_name(&lattice.name);
            self.lattices.add(lattice.called(name.as_str()));
            last = Some(name);
        }
        let Some(last) = last else { return };
        self.show_lattice(Some(&last));
        let names: Vec<&str> = missing.iter().take(3).map(String::as_str).collect();
        let missing = match missing.len() {
            0 => String::new(),
            count if count > names.len() => format!("; {count} of their cameras are not in this site: {}, …", names.join(", ")),
            _ => format!("; not in this site: {}", names.join(", ")),
        };
        self.say(Tone::Text, format!("{last} was read: w saves it{missing}"));
    }

    fn change_placed(&mut self, change: impl FnOnce(&mut Placed) -> String) {
        let tile = self.tile_number(self.selected);
        let said = self.lattices.adjust(|lattice| lattice.at_mut(tile).map(change));
        self.say(Tone::Text, said.unwrap_or_else(|| "this tile is empty: p puts a camera here".into()));
    }

    /// Shows a lattice, all cameras for `None`. What was changed in another one stays there.
    pub fn show_lattice(&mut self, name: Option<&str>) {
        if name == Some(TROUBLE) {
            if !self.is_on_trouble() {
                self.toggle_trouble();
            }
            return;
        }
        if !self.lattices.show(name) {
            self.say(Tone::Alarm, format!("there is no lattice {:?} any more", name.unwrap_or_default()));
            return;
        }
        self.end_tour();
        (self.enlarged, self.selected, self.lifted) = (false, 0, None);
        self.show_wall();
    }

    /// Turns pages.
    pub fn turn_page(&mut self, pages: i32) {
        let count = self.lattices.shown().pages() as i32;
        if count < 2 {
            self.say(Tone::Text, "this lattice has one page".into());
            return;
        }
        self.lattices.turn((self.lattices.page() as i32 + pages).rem_euclid(count) as usize);
        self.same_tiles_since = self.now;
    }

    /// The first step lifts the selected tile, the second puts it down where the selection is then.
    pub fn swap(&mut self) {
        let here = self.tile_number(self.selected);
        let lifted = self.lifted.take();
        if lifted.is_some() {
            self.unsay();
        }
        match lifted {
            Some(lifted) if lifted != here => self.exchange(lifted, here),
            Some(_) => {}
            None if self.placed(self.selected).is_none() => {
                self.say(Tone::Text, "this tile is empty: there is nothing to move".into());
            }
            None => {
                self.lifted = Some(here);
                self.say(Tone::Here, "lifted: go to another tile, and x again to swap the two; esc leaves it".into());
            }
        }
    }

    /// Two tiles change what stands in them, by their numbers through all pages.
    pub fn exchange(&mut self, one: usize, other: usize) {
        self.lattices.edit(|lattice| lattice.swap(one, other));
        self.same_tiles_since = self.now;
    }

    /// The next camera of the roster that is not on this page takes the tile.
    pub fn next_camera(&mut self, step: i32) {
        let here = self.tile_number(self.selected);
        let shown = self.lattices.shown();
        let names: Vec<String> = self.cameras_there().map(str::to_owned).collect();
        let on_page: BTreeSet<&str> = shown.page(self.lattices.page()).map(|(_, placed)| placed.camera.as_str()).collect();
        let now = shown.at(here).and_then(|placed| names.iter().position(|name| *name == placed.camera));
        let count = names.len() as i32;
        let from = now.map_or(if step > 0 { -1 } else { count }, |now| now as i32);
        let next = (1..=count)
            .map(|n| (from + step * n).rem_euclid(count) as usize)
            .find(|index| !on_page.contains(names[*index].as_str()));
        match next.and_then(|index| names.get(index)) {
            Some(name) => self.put_camera(here, name),
            None => self.say(Tone::Text, "every camera is on this page already".into()),
        }
    }

    /// Names of the cameras that can be shown.
    pub fn cameras_there(&self) -> impl Iterator<Item = &str> {
        self.cameras.names()
    }

    /// Puts a camera into a tile, by its number through all pages. The tile keeps its aspect.
    pub fn put_camera(&mut self, tile: usize, camera: &str) {
        self.lattices.edit(|lattice| {
            let aspect = lattice.at(tile).map(|placed| placed.aspect).unwrap_or_default();
            lattice.put(tile, Placed { aspect, ..Placed::new(camera) })
        });
    }

    /// Takes a layout for the shown lattice.
    pub fn take_layout(&mut self, layout: Layout) {
        self.lattices.edit(|lattice| lattice.set_layout(layout));
        self.enlarged = false;
        self.same_tiles_since = self.now;
    }

    /// The stream of the selected tile: automatic, then held on each that is there, and round again.
    pub fn next_hold(&mut self) {
        let here = self.tile_number(self.selected);
        let Some(tile) = self.selected_tile().copied() else { return };
        let held = self.hold(self.selected);
        let roles: Vec<Role> = self.roles_of(&tile);
        if roles.len() < 2 && held.is_none() {
            return self.only_stream(&tile);
        }
        // From automatic, what is not shown now comes first: that is what the key is pressed for.
        let mut order: Vec<Option<Role>> = roles.iter().copied().map(Some).collect();
        if held.is_none() {
            order.sort_by_key(|role| *role == Some(tile.role));
        }
        let next = match held.and_then(|held| roles.iter().position(|role| *role == held)) {
            None if held.is_some() => None,
            None => order.first().copied().flatten(),
            Some(at) => {
                let first = self.first_held.filter(|(number, _)| *number == here).map_or(roles[0], |(_, first)| first);
                let next = roles[(at + 1) % roles.len()];
                (next != first).then_some(next)
            }
        };
        if held.is_none() {
            self.first_held = next.map(|first| (here, first));
        }
        self.lattices.adjust(|lattice| {
            if let Some(placed) = lattice.at_mut(here) {
                placed.hold = next;
            }
        });
        self.tell(Command::Unbar(tile.camera));
        let name = self.camera_name(tile.camera).to_owned();
        let text = next.map_or_else(
            || format!("{name}: main or sub is chosen automatically"),
            |role| format!("{name}: held on {}", role.word()),
        );
        self.say(Tone::Text, text);
    }

    /// The streams that the camera of a tile has.
    pub fn roles_of(&self, tile: &Tile) -> Vec<Role> {
        let camera = self.cameras.get(tile.camera);
        camera.map(|camera| camera.streams.iter().map(|stream| stream.role).collect()).unwrap_or_default()
    }

    /// Every tile of the page: all held on sub, then on main, then automatic again.
    pub fn hold_all(&mut self) {
        let page: Vec<usize> = self.lattices.shown().page(self.lattices.page()).map(|(tile, _)| tile).collect();
        let held: BTreeSet<Option<Role>> =
            page.iter().filter_map(|tile| self.lattices.shown().at(*tile)).map(|placed| placed.hold).collect();
        let next = match held.into_iter().collect::<Vec<_>>().as_slice() {
            [None] => Some(Role::Sub),
            [Some(Role::Sub)] => Some(Role::Main),
            _ => None,
        };
        self.lattices.adjust(|lattice| {
            for tile in page {
                if let Some(placed) = lattice.at_mut(tile) {
                    placed.hold = next;
                }
            }
        });
        for camera in self.tiles.iter().map(|tile| tile.camera).collect::<Vec<_>>() {
            self.tell(Command::Unbar(camera));
        }
        self.say(
            Tone::Text,
            next.map_or("every tile: main or sub is chosen automatically".into(), |role| {
                format!("every tile: held on {}", role.word())
            }),
        );
    }

    /// Puts the cameras of a group into the empty tiles, every camera for `None`.
    pub fn fill(&mut self, group: Option<&str>) {
        let names: Vec<String> = self.cameras_of(group).into_iter().map(str::to_owned).collect();
        let first = self.tile_number(0);
        let count = self.lattices.edit(|lattice| lattice.fill(first, names.iter().map(String::as_str)));
        let pages = self.lattices.shown().pages();
        let where_to = if pages > 1 { format!(", on {pages} pages: [ and ] turn them") } else { String::new() };
        let cameras = if count == 1 { "1 camera".to_owned() } else { format!("{count} cameras") };
        self.say(Tone::Text, format!("{cameras} put in{where_to}"));
    }

    /// The cameras of a group, every camera for `None`.
    pub fn cameras_of(&self, group: Option<&str>) -> Vec<&str> {
        let of_group = |name: &&str| {
            group.is_none_or(|group| self.site.camera(name).is_some_and(|camera| camera.group.as_deref() == Some(group)))
        };
        self.cameras_there().filter(of_group).collect()
    }

    /// Shows a camera enlarged: in the lattice that is shown, or else among all cameras.
    pub fn show_camera(&mut self, name: &str) {
        let tile = self.lattices.shown().find(name);
        let tile = tile.or_else(|| {
            self.lattices.show(None);
            self.lattices.shown().find(name)
        });
        let Some(tile) = tile else {
            self.say(Tone::Text, format!("{name} cannot be shown: it is switched off, or its streams are not known"));
            return;
        };
        let places = self.lattices.shown().places();
        self.lattices.turn(tile / places);
        (self.selected, self.enlarged) = (tile % places, true);
        self.show_wall();
    }

    /// What is shown, in words, for other screens.
    pub fn showing(&self) -> String {
        if self.enlarged
            && let Some(tile) = self.selected_tile()
        {
            return format!("{}, enlarged", self.name(tile));
        }
        let lattice = self.lattices.shown();
        let page = if lattice.pages() > 1 { format!(" {}/{}", self.lattices.page() + 1, lattice.pages()) } else { String::new() };
        format!("{}{page}", lattice.name)
    }

    /// Sends what is shown to another screen.
    pub fn send(&mut self, screen: String) {
        if self.screen.as_deref() == Some(screen.as_str()) {
            self.say(Tone::Text, format!("{screen} is this screen"));
            return;
        }
        let enlarged = self.selected_tile().filter(|_| self.enlarged).map(|tile| self.name(tile).to_owned());
        let order = enlarged.map_or_else(|| Order::Lattice(self.lattices.shown().name.clone()), Order::Camera);
        if matches!(&order, Order::Lattice(_)) && self.lattices.is_changed(self.lattices.shown()) {
            self.say(Tone::Alarm, "this lattice is not saved: w saves it, so that the other screen finds it".into());
            return;
        }
        self.tell(Command::Send(screen, order));
    }

    /// Something was sent to this screen.
    pub fn take_order(&mut self, order: Order) {
        self.end_tour();
        match order {
            Order::Lattice(name) if self.site.tour(&name).is_some() => self.begin_tour(&name),
            Order::Lattice(name)
                if name != ALL && name != TROUBLE && self.lattices.own().iter().all(|lattice| lattice.name != name) =>
            {
                self.say(Tone::Alarm, format!("the lattice {name:?} was sent here, and this site has none of this name"));
            }
            Order::Lattice(name) => self.show_lattice(Some(&name)),
            Order::Camera(name) => self.show_camera(&name),
        }
        self.seat();
        let what = self.showing();
        self.say(Tone::Here, format!("sent from another screen: {what}"));
    }

    /// The camera's lighter stream comes onto its tile.
    pub fn show_lighter(&mut self, name: &str) {
        let camera = self.site.camera(name);
        let lighter =
            [Role::Sub, Role::Third].into_iter().find(|role| camera.is_some_and(|camera| camera.stream(*role).is_some()));
        let Some(role) = lighter else {
            self.say(Tone::Text, format!("{name} has no lighter stream that is known: d in the roster asks its device"));
            return;
        };
        self.show_camera(name);
        self.enlarged = false;
        let tile = self.tile_number(self.selected);
        self.lattices.adjust(|lattice| {
            if let Some(placed) = lattice.at_mut(tile) {
                placed.hold = Some(role);
            }
        });
        self.seat();
    }

    /// A camera that is dragged from its row goes to the wall: the page makes way.
    pub fn drag_to_the_wall(&mut self) {
        if let Some(Dragged::Camera(name)) = &self.dragged {
            let text = format!("{name}: let it go over a tile");
            self.enlarged = false;
            self.open(WALL);
            self.say(Tone::Here, text);
        }
    }
}
