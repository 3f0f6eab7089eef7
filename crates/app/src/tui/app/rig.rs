//! The engine's machines under a wall that is tested: what the wall asks is planned, and what comes of it is shown, at once
//! and without any thread, socket or clock.

use super::{App, Effect};
use crate::tui::pages;
use crate::tui::theme::Tone;
use lattice_core::Role;
use lattice_core::meter::Figures;
use lattice_engine::{CameraDef, CameraId, Cameras, Command, FeedKey};
use lattice_engine::{Demand, Moment, Move, Planning, Watch};
use lattice_media::TilePicture;
use ratatui::layout::Rect;
use std::collections::HashMap;
use std::sync::Arc;

/// The machines.
#[derive(Debug, Default)]
pub struct Rig {
    planning: Planning,
    watch: Watch,
    changed: Vec<lattice_core::ledger::Entry>,
}

impl Rig {
    /// Entries that changed since this was asked last.
    pub fn take_changed(&mut self) -> Vec<lattice_core::ledger::Entry> {
        std::mem::take(&mut self.changed)
    }
}

impl App {
    /// The definition of a camera, to be changed.
    pub fn def_mut(&mut self, id: u32) -> &mut CameraDef {
        Arc::make_mut(&mut self.cameras).get_mut(CameraId(id)).unwrap()
    }

    /// A wall of these cameras.
    pub fn of(cameras: Vec<CameraDef>, prefer: Role, area: Rect) -> (Self, Vec<Effect>) {
        let mut app = Self::new("Tarnhithe ferry port".into(), true, area, 0.5, pages::all());
        let mut all = Cameras::new(prefer);
        for def in cameras {
            all.put(def);
        }
        app.lattices.set_cameras(all.names().map(str::to_owned));
        app.cameras = Arc::new(all);
        let effects = app.settle();
        (app, effects)
    }

    /// What the wall wants goes to the planner, and its answer comes back.
    pub fn settle(&mut self) -> Vec<Effect> {
        self.seat();
        let demand = Demand { asks: self.asks(), open: self.wanted_open(), shown: Vec::new(), screen: None };
        let machine = self.rig.planning.demand(self.now, &self.cameras, self.viewer, demand);
        self.follow(machine)
    }

    fn moment(&self) -> Moment {
        Moment { mono: self.now, utc: self.utc }
    }

    fn follow(&mut self, moves: Vec<Move>) -> Vec<Effect> {
        let mut effects = Vec::new();
        for one in moves {
            match one {
                Move::Open(key) => effects.push(Effect::Open(key)),
                Move::Close(key) => effects.push(Effect::Close(key)),
                Move::Say(loudness, text) => self.say(loudness.into(), text),
                Move::Done { camera, cause, what } => {
                    let now = self.moment();
                    self.rig.watch.on_done(now, &camera, cause, what);
                }
            }
        }
        self.show();
        effects
    }

    /// What the machines have is what the wall sees.
    fn show(&mut self) {
        self.open = Arc::new(self.rig.planning.open().clone());
        self.plan = self.rig.planning.plan().clone();
        self.facts = self.rig.planning.facts().clone();
        self.seats = self.rig.planning.seats(self.viewer);
        let (changed, _) = self.rig.watch.take_changed();
        for entry in changed {
            self.rig.changed.retain(|one| one.id != entry.id);
            self.rig.changed.push(entry);
        }
        self.ledger = self.rig.watch.ledger().clone();
        self.history = self.rig.watch.histories().clone();
        self.follow_trouble();
        self.seat();
    }

    /// The site is another now: its lattices and budgets.
    pub fn on_site(&mut self) {
        let site = self.site.clone();
        self.lattices.on_saved(&site.lattices);
        self.rig.planning.set_budgets(site.link, site.decoding);
    }

    /// A camera comes, or is asked in another way now.
    pub fn put_camera_def(&mut self, def: CameraDef) -> Vec<Effect> {
        let before = self.cameras.id(&def.name);
        let mut effects = before.map(|id| self.rig.planning.forget(id)).map(|moves| self.follow(moves)).unwrap_or_default();
        let name = def.name.clone();
        Arc::make_mut(&mut self.cameras).put(def);
        self.cameras_changed();
        if before.is_none() {
            self.camera_added(&name);
        }
        effects.extend(self.settle());
        effects
    }

    /// A camera leaves.
    pub fn remove_camera(&mut self, name: &str) -> Vec<Effect> {
        let id = Arc::make_mut(&mut self.cameras).remove(name).unwrap();
        let moves = self.rig.planning.forget(id);
        let mut effects = self.follow(moves);
        self.cameras_changed();
        effects.extend(self.settle());
        effects
    }

    /// A camera has another name now.
    pub fn rename_camera(&mut self, from: &str, to: &str) {
        Arc::make_mut(&mut self.cameras).rename(from, to);
        self.lattices.rename_camera(from, to);
        self.cameras_changed();
    }

    fn cameras_changed(&mut self) {
        let cameras = self.cameras.clone();
        self.lattices.set_cameras(cameras.names().map(str::to_owned));
    }

    /// Newest figures and pictures came.
    pub fn on_figures(
        &mut self,
        figures: HashMap<FeedKey, Arc<Figures>>,
        pictures: HashMap<FeedKey, Arc<TilePicture>>,
    ) -> Vec<Effect> {
        self.figures = Arc::new(figures);
        self.pictures = pictures;
        let (now, figures, site) = (self.moment(), self.figures.clone(), self.site.clone());
        self.rig.watch.observe(now, &self.cameras, &site, &figures);
        let pictures = &self.pictures;
        let moves = self.rig.planning.on_figures(self.now, &self.cameras, &figures, |key| pictures.contains_key(&key));
        let mut effects = self.follow(moves);
        self.show_page_snapshot();
        self.tell_dropouts();
        let turned = self.goes_on();
        effects.extend(self.told(turned));
        effects
    }

    /// What a step told the engine is done by the machines, as far as they can; the rest is given.
    pub fn told(&mut self, effects: Vec<Effect>) -> Vec<Effect> {
        let mut rest = Vec::new();
        for effect in effects {
            match effect {
                Effect::Tell(Command::Unbar(camera)) => self.rig.planning.unbar(camera),
                Effect::Tell(Command::PlanAnew(camera)) => self.rig.planning.plan_anew(camera),
                Effect::Tell(Command::Entry(id, order)) => {
                    let at = self.utc;
                    if let Some(told) = self.rig.watch.on_entry(id, order, "kim".into(), at) {
                        self.say(Tone::Text, told);
                    }
                }
                Effect::Tell(Command::Buffer(key, buffer)) if self.site.cameras.is_empty() => {
                    let buffers = Arc::make_mut(&mut self.buffers);
                    match buffer {
                        Some(buffer) => buffers.insert(key, buffer),
                        None => buffers.remove(&key),
                    };
                    self.show_page_snapshot();
                }
                other => rest.push(other),
            }
        }
        rest.extend(self.settle());
        rest
    }
}
