//! Cameras come onto the wall, change and leave it.

use super::lattices::ALL;
use super::{App, CameraDef, Effect, Tile};
use crate::theme::Tone;
use lattice_core::Role;

impl App {
    /// A camera comes onto the wall: into the first empty tile of the page that is shown, and among all cameras.
    pub fn add_camera(&mut self, def: CameraDef) -> Vec<Effect> {
        // A small window shows what it was opened for, and no more.
        if def.streams.is_empty() || self.bare {
            return Vec::new();
        }
        let camera = self.site.cameras.len();
        if self.site.cameras.is_empty() {
            self.site.prefer = Role::Sub;
        }
        let name = def.name.clone();
        self.site.cameras.push(def);
        self.cameras_changed();
        let shown = self.lattices.shown();
        let empty = shown.empty_on(self.lattices.page());
        if shown.name != ALL && shown.find(&name).is_none() {
            match empty {
                Some(tile) => self.put_camera(tile, &name),
                None => {
                    self.say(Tone::Text, format!("{name} is in the roster; this page has no empty tile: 0 shows all cameras"));
                }
            }
        }
        self.same_tiles_since = self.now;
        [Effect::Define(camera)].into_iter().chain(self.settle()).collect()
    }

    /// A camera leaves the wall; its tiles wait for it.
    pub fn remove_camera(&mut self, name: &str) -> Vec<Effect> {
        let Some(camera) = self.site.cameras.iter().position(|def| def.name == name && !def.streams.is_empty()) else {
            return Vec::new();
        };
        let close = self.forget_streams(camera).into_iter().map(Effect::Close);
        if let Some(def) = self.site.cameras.get_mut(camera) {
            def.streams.clear(); // its place stays, since others are known by theirs
        }
        self.cameras_changed();
        close.chain([Effect::Define(camera)]).chain(self.settle()).collect()
    }

    /// A camera is asked in another way now: its open streams begin anew.
    pub fn renew_camera(&mut self, def: CameraDef) -> Vec<Effect> {
        let Some(camera) = self.site.cameras.iter().position(|have| have.name == def.name) else { return self.add_camera(def) };
        let close = self.forget_streams(camera).into_iter().map(Effect::Close);
        if let Some(have) = self.site.cameras.get_mut(camera) {
            *have = def;
        }
        self.cameras_changed();
        let there = |tile: &Tile| self.site.stream(tile.key()).is_some();
        let gone: Vec<usize> =
            self.tiles.iter().filter(|tile| tile.camera == camera && !there(tile)).map(|tile| tile.place).collect();
        self.tiles.retain(|tile| !gone.contains(&tile.place));
        close.chain([Effect::Define(camera)]).chain(self.settle()).collect()
    }

    /// A camera has another name now.
    pub fn rename_camera(&mut self, from: &str, to: &str) {
        for def in self.site.cameras.iter_mut().filter(|def| def.name == from) {
            to.clone_into(&mut def.name);
        }
        self.lattices.rename_camera(from, to);
        self.cameras_changed();
    }

    fn cameras_changed(&mut self) {
        let names: Vec<String> = self.cameras_there().map(str::to_owned).collect();
        self.lattices.set_cameras(names);
    }
}
