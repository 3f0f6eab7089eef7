//! The steps of the wall: layouts, what stands where, lattices.

use super::{App, Effect, Overlay, Tile};
use crate::app::lattices::ALL;
use crate::app::picker::{PickKind, Picker};
use crate::desk::Page;
use crate::keymap::WallStep;
use crate::theme::Tone;
use crate::view::regions;
use lattice_core::Role;
use lattice_core::lattice::{Lattice, Placed};
use lattice_core::layout::{Edge, Layout, Preset, proposals};
use lattice_engine::jobs::Errand;
use lattice_engine::{Command, SheetPlace};
use std::collections::BTreeSet;
use tui_input::Input;

/// Even grids that the picker of layouts offers.
const EVEN: [usize; 16] = [1, 2, 3, 4, 6, 8, 9, 12, 16, 20, 25, 30, 36, 42, 49, 64];

impl App {
    /// What stands at a place of the page that is shown.
    pub fn placed(&self, place: usize) -> Option<&Placed> {
        self.lattices.shown().at(self.tile_number(place))
    }

    /// The number of a place through all pages, from 0.
    pub fn tile_number(&self, place: usize) -> usize {
        self.lattices.page() * self.lattices.shown().places() + place
    }

    /// The layouts that can be picked: those that suit the cameras of the lattice first.
    pub fn layouts(&self) -> Vec<Layout> {
        let cameras = self.lattices.shown().cameras().len().max(1);
        let mut all = proposals(cameras, &regions::screen(self), 16.0 / 9.0);
        let rest = EVEN.map(Layout::Even).into_iter().chain(Preset::ALL.map(Layout::Preset));
        let rest: Vec<Layout> = rest.filter(|layout| !all.contains(layout)).collect();
        all.extend(rest);
        all
    }

    /// How many of [`Self::layouts`] are proposed.
    pub fn layouts_proposed(&self) -> usize {
        proposals(self.lattices.shown().cameras().len().max(1), &regions::screen(self), 16.0 / 9.0).len()
    }

    pub(super) fn wall_step(&mut self, step: WallStep) -> Vec<Effect> {
        let here = self.tile_number(self.selected);
        match step {
            WallStep::Page(pages) => self.turn_page(pages),
            WallStep::Lattice(number) => self.show_numbered(number),
            WallStep::Layouts => {
                let now = self.layouts().iter().position(|layout| layout == self.lattices.shown().layout());
                self.overlay = Overlay::Layouts(now.unwrap_or(0));
            }
            WallStep::Put => self.pick(PickKind::Camera),
            WallStep::Fill => self.pick(PickKind::Group),
            WallStep::Lattices => self.pick(PickKind::Lattice),
            WallStep::Palette => self.pick(PickKind::Palette),
            WallStep::Rename | WallStep::Duplicate | WallStep::Remove | WallStep::Export | WallStep::Import => {
                self.lattice_step(step);
            }
            WallStep::Save => return vec![Errand::SaveLattices(self.lattices.own().to_vec()).into()],
            WallStep::Paint => self.next_painting(),
            WallStep::Still => match self.selected_tile().map(super::Tile::key) {
                Some(key) if self.pictures.contains_key(&key) => return vec![Effect::Tell(Command::Still(key))],
                Some(_) => self.say(Tone::Text, "there is no picture of it yet that could be kept".into()),
                None => self.say(Tone::Text, "this tile is empty".into()),
            },
            WallStep::Sheet => return vec![self.sheet()],
            WallStep::Brightness(_) | WallStep::Light | WallStep::Names | WallStep::Care => self.aid_step(step),
            WallStep::Clear => {
                if self.lattices.edit(|lattice| lattice.clear(here)).is_none() {
                    self.say(Tone::Text, "this tile is empty".into());
                }
            }
            WallStep::Swap => self.swap(),
            WallStep::NextCamera(step) => self.next_camera(here, step),
            WallStep::Undo => {
                if !self.lattices.undo() {
                    self.say(Tone::Text, "nothing was changed here that could be undone".into());
                }
            }
            WallStep::Redo => {
                if !self.lattices.redo() {
                    self.say(Tone::Text, "nothing was undone that could be done again".into());
                }
            }
            WallStep::Aspect => self.change_placed(here, |placed| {
                placed.aspect = placed.aspect.next();
                format!("{}: {} the tile", placed.camera, placed.aspect.word())
            }),
            WallStep::Mark => self.change_placed(here, |placed| {
                placed.marked = !placed.marked;
                format!("{} {}", placed.camera, if placed.marked { "is marked" } else { "is not marked any more" })
            }),
            WallStep::HoldAll => self.hold_all(),
            WallStep::Tour if self.tour.is_some() => self.hold_tour(),
            WallStep::Tour => self.choose_tour(),
            WallStep::Send if self.desk.site.screens.is_empty() => {
                self.say(Tone::Text, "the site names no other screen: write [[screen]] in the site file".into());
            }
            WallStep::Send => {
                self.pick(PickKind::Screen);
                return vec![Effect::Tell(Command::AskScreens)];
            }
            WallStep::GiveBack => self.give_back(),
            WallStep::Plan => self.overlay = Overlay::Plan(0),
            WallStep::Numbers => self.overlay = Overlay::Numbers(String::new()),
            WallStep::Edit => {
                self.overlay = Overlay::Edit(BTreeSet::new());
                self.enlarged = false;
            }
        }
        Vec::new()
    }

    /// The lattice with this quick key; 0 for all cameras.
    fn show_numbered(&mut self, number: usize) {
        let Some(index) = number.checked_sub(1) else { return self.show_lattice(None) };
        match self.lattices.own().get(index).map(|lattice| lattice.name.clone()) {
            Some(name) => self.show_lattice(Some(&name)),
            None => self.say(Tone::Text, format!("there is no lattice {number} yet: v chooses a layout, w saves it")),
        }
    }

    fn choose_tour(&mut self) {
        match self.tours().as_slice() {
            [] => self.say(Tone::Text, "a tour needs a lattice with pages, or two lattices; or one in the site file".into()),
            [only] => {
                let name = only.name.clone();
                self.begin_tour(&name);
            }
            _ => self.pick(PickKind::Tour),
        }
    }

    /// What concerns the shown lattice as a whole.
    fn lattice_step(&mut self, step: WallStep) {
        match step {
            WallStep::Rename => {
                let name = self.lattices.shown().name.clone();
                if name == ALL {
                    self.say(Tone::Text, "the lattice of all cameras keeps its name; W makes another of it".into());
                } else {
                    self.picker = Some(Picker { input: Input::new(name), ..Picker::new(PickKind::Rename) });
                }
            }
            WallStep::Duplicate => {
                let name = self.lattices.shown().name.clone();
                let name = self.lattices.free_name(if name == ALL { "lattice" } else { &name });
                self.picker = Some(Picker { input: Input::new(name), ..Picker::new(PickKind::Duplicate) });
            }
            WallStep::Remove => match self.lattices.remove() {
                Some(name) => self.say(Tone::Text, format!("lattice {name} taken out: u brings it back, w makes it final")),
                None => self.say(Tone::Text, "the lattice of all cameras stays".into()),
            },
            WallStep::Export | WallStep::Import if !self.desk.available => {
                self.say(Tone::Text, "these cameras belong to no site: start `amber-lattice wall` to keep lattices".into());
            }
            WallStep::Export => {
                let name = format!("{}.toml", self.lattices.shown().name.replace('/', "-"));
                self.picker = Some(Picker { input: Input::new(name), ..Picker::new(PickKind::Export) });
            }
            WallStep::Import => self.pick(PickKind::Import),
            _ => {}
        }
    }

    /// The pictures of the page, to be kept on one sheet.
    fn sheet(&self) -> Effect {
        let place = |place: usize| match self.tile_at(place) {
            Some(tile) => SheetPlace::Stream(tile.key()),
            None => SheetPlace::Empty(self.placed(place).map_or_else(|| "empty".into(), |placed| placed.camera.clone())),
        };
        let title = format!("{}, {}", self.name, self.lattices.shown().name);
        Effect::Tell(Command::Sheet(title, (0..self.lattices.shown().places()).map(place).collect()))
    }

    fn pick(&mut self, kind: PickKind) {
        self.picker = Some(Picker::new(kind));
    }

    /// Lattices from a file: beside those that are there, not saved yet; the last one is shown.
    pub fn take_lattices(&mut self, lattices: Vec<Lattice>) {
        let mut last = None;
        for lattice in lattices {
            let name = self.lattices.free_name(&lattice.name);
            self.lattices.add(lattice.called(name.as_str()));
            last = Some(name);
        }
        let Some(last) = last else { return };
        self.show_lattice(Some(&last));
        let missing = self.lattices.shown().cameras().iter().filter(|name| self.camera_index(name).is_none()).count();
        let missing = if missing > 0 { format!("; cameras of it that are not in this site: {missing}") } else { String::new() };
        self.say(Tone::Text, format!("{last} was read: w saves it in the site{missing}"));
    }

    fn change_placed(&mut self, tile: usize, change: impl FnOnce(&mut Placed) -> String) {
        let said = self.lattices.adjust(|lattice| lattice.at_mut(tile).map(change));
        self.say(Tone::Text, said.unwrap_or_else(|| "this tile is empty: p puts a camera here".into()));
    }

    /// Shows a lattice, all cameras for `None`. What was changed in another one stays there.
    pub fn show_lattice(&mut self, name: Option<&str>) {
        if !self.lattices.show(name) {
            self.say(Tone::Alarm, format!("there is no lattice {:?} any more", name.unwrap_or_default()));
            return;
        }
        self.end_tour();
        (self.page, self.enlarged, self.selected, self.lifted) = (Page::Wall, false, 0, None);
        self.same_tiles_since = self.now;
    }

    fn turn_page(&mut self, pages: i32) {
        let count = self.lattices.shown().pages() as i32;
        if count < 2 {
            self.say(Tone::Text, "this lattice has one page".into());
            return;
        }
        self.lattices.turn((self.lattices.page() as i32 + pages).rem_euclid(count) as usize);
        self.same_tiles_since = self.now;
    }

    /// The first step lifts the selected tile, the second puts it down where the selection is then.
    fn swap(&mut self) {
        let here = self.tile_number(self.selected);
        match self.lifted.take() {
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
    pub(super) fn exchange(&mut self, one: usize, other: usize) {
        self.lattices.edit(|lattice| lattice.swap(one, other));
        self.same_tiles_since = self.now;
    }

    /// The next camera of the roster that is not on this page takes the tile.
    fn next_camera(&mut self, here: usize, step: i32) {
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
    pub(super) fn take_layout(&mut self, layout: Layout) {
        self.lattices.edit(|lattice| lattice.set_layout(layout));
        self.enlarged = false;
        self.same_tiles_since = self.now;
    }

    /// The stream of the selected tile: automatic, then held on each that is there, and round again.
    pub(super) fn next_hold(&mut self) -> Vec<Effect> {
        let here = self.tile_number(self.selected);
        let Some(tile) = self.selected_tile().copied() else { return Vec::new() };
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
        Vec::new()
    }

    pub(super) fn roles_of(&self, tile: &Tile) -> Vec<Role> {
        let camera = self.cameras.get(tile.camera);
        camera.map(|camera| camera.streams.iter().map(|stream| stream.role).collect()).unwrap_or_default()
    }

    /// Every tile of the page: all held on sub, then on main, then automatic again.
    fn hold_all(&mut self) {
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

    /// A step of changing the layout by hand.
    pub(super) fn edit_layout(&mut self, step: EditStep) {
        let (screen, place) = (regions::screen(self), self.selected);
        let Overlay::Edit(ticked) = &mut self.overlay else { return };
        if step == EditStep::Tick {
            if !ticked.remove(&place) {
                ticked.insert(place);
            }
            return;
        }
        let mut ticked = std::mem::take(ticked);
        let done = self.lattices.edit(|lattice| match step {
            EditStep::Split(side_by_side) => lattice.split(place, side_by_side, &screen),
            EditStep::Join => {
                ticked.insert(place);
                lattice.join(&ticked, &screen)
            }
            EditStep::Wider(by) => resize(lattice, place, (Edge::Right, Edge::Left), by, &screen),
            EditStep::Taller(by) => resize(lattice, place, (Edge::Bottom, Edge::Top), by, &screen),
            EditStep::Border(place, edge, by) => lattice.drag(place, edge, by, &screen),
            EditStep::Tick => Ok(()),
        });
        if let Err(error) = done {
            self.say(Tone::Alarm, error.to_string());
        }
        self.same_tiles_since = self.now;
    }
}

/// Moves the border on the far side of a place, or on the near side where that is the edge of the screen.
fn resize(
    lattice: &mut Lattice,
    place: usize,
    (far, near): (Edge, Edge),
    by: i8,
    screen: &lattice_core::layout::Screen,
) -> Result<(), lattice_core::layout::LayoutError> {
    let first = lattice.drag(place, far, by, screen);
    if first.is_ok() { first } else { lattice.drag(place, near, -by, screen).or(first) }
}

/// A step of changing a layout by hand.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EditStep {
    /// Split the selected place, side by side or one above the other.
    Split(bool),
    /// Tick the selected place, to be joined.
    Tick,
    /// Join what is ticked with the selected place.
    Join,
    /// Make it wider by units, or narrower.
    Wider(i8),
    /// Make it taller by units, or lower.
    Taller(i8),
    /// Move a border of a place by units.
    Border(usize, Edge, i8),
}
