//! What the engine does with work on the site and its devices: errands out, news in, and what follows for the streams.

use super::machine::Machine;
use crate::camera::CameraDef;
use crate::command::{Loudness, News};
use crate::jobs::{DeviceNews, Errand, Errands, Intake, JobNews, Outcome, Surveyed, Trouble};
use crate::steering::{Hand, HeadState};
use lattice_core::Verdict;
use lattice_core::clock::Told;
use lattice_core::meter::Figures;
use lattice_core::target::Newcomer;
use lattice_store::Steering;
use std::sync::Arc;
use std::time::Duration;

/// How often the site file is looked at for changes made elsewhere.
pub(super) const LOOK_AT_FILE: Duration = Duration::from_secs(2);
/// How often a screen tells what it shows, and looks for what was sent to it.
pub(super) const LOOK_AT_SCREENS: Duration = Duration::from_secs(1);
/// How often what was seen is written down.
pub(super) const KEEP_SEEN: Duration = Duration::from_secs(60);

/// The addresses of this machine that a sender can be given now.
pub(super) fn own_addresses() -> Vec<String> {
    lattice_net::own_addresses().iter().map(ToString::to_string).collect()
}

impl Machine {
    /// Somebody's hand does something on the head of a camera.
    pub(super) fn steer(&mut self, name: String, hand: Hand) {
        if hand == Hand::End {
            if self.hands.remove(&name).is_some()
                && let Some(screens) = &self.screens
            {
                screens.let_go(&name);
            }
            if let Some(camera) = self.cameras.id(&name) {
                self.feeds.watch_movement(camera, false);
            }
            return;
        }
        let goes_on = self.hands.get(&name).is_some_and(|grip| grip.does(hand.clone()));
        if goes_on || hand == Hand::Release {
            return;
        }
        if let Some(other) = self.other_hand(&name).filter(|_| hand != Hand::TakeOver) {
            let state = HeadState { taken_by: Some(other.who), ..HeadState::default() };
            return self.tell(News::Head(name, Box::new(state)));
        }
        let movement = self.cameras.id(&name).and_then(|camera| self.feeds.watch_movement(camera, true));
        let Some(errands) = &self.errands else {
            return self.say(Loudness::Text, "there is no site: cameras of a site can be steered");
        };
        match errands.grip(&name, movement) {
            Ok(grip) => {
                grip.does(hand);
                self.tell_steering(&name);
                self.hands.insert(name, grip);
            }
            Err(why) => self.tell(News::Head(name, Box::new(HeadState { refused: Some(why), ..HeadState::default() }))),
        }
    }

    /// Who steers a camera from another process, on a screen of the same site.
    fn other_hand(&self, name: &str) -> Option<Steering> {
        let now = self.now.utc.as_unix_micros() / 1_000_000;
        self.screens.as_ref()?.steers(name, now).filter(|other| other.process != std::process::id())
    }

    fn tell_steering(&self, name: &str) {
        let at = self.now.utc.as_unix_micros() / 1_000_000;
        let steering = Steering { who: self.operator.clone(), process: std::process::id(), at };
        if let Some(Err(error)) = self.screens.as_ref().map(|screens| screens.tell_steering(name, &steering)) {
            tracing::warn!(%error, "who steers could not be told to other screens");
        }
    }

    /// Other screens are told who steers; what another one took over is let go.
    pub(super) fn tell_hands(&mut self) {
        for name in self.hands.keys().cloned().collect::<Vec<_>>() {
            match self.other_hand(&name) {
                None => self.tell_steering(&name),
                Some(other) => {
                    self.hands.remove(&name);
                    let refused = Some(format!("{} has taken it over on another screen", other.who));
                    self.tell(News::Head(name, Box::new(HeadState { refused, ..HeadState::default() })));
                }
            }
        }
    }

    pub(super) fn run_errand(&mut self, errand: Errand) {
        let Some(errands) = &mut self.errands else { return };
        let asking = match &errand {
            Errand::Take(targets) => Some(targets.iter().map(|one| one.target.to_string()).collect()),
            _ => None,
        };
        let searches = matches!(errand, Errand::Search(_));
        let done = errands.carry_out(errand);
        if let Some(asking) = asking {
            self.tell(News::Asking(asking));
        }
        match done {
            Ok(outcome) => {
                if searches {
                    self.tell(News::SearchBegins);
                }
                self.on_outcome(outcome);
            }
            Err(text) => self.say(Loudness::Alarm, text),
        }
    }

    fn is_wanted(&self, def: &CameraDef) -> bool {
        self.only.as_ref().is_none_or(|only| only.contains(&def.name))
    }

    /// A camera comes, or is asked in another way now: its open streams begin anew.
    fn put_camera(&mut self, def: CameraDef) {
        if !self.is_wanted(&def) {
            return;
        }
        let before = self.cameras.id(&def.name);
        if let Some(id) = before {
            let moves = self.planning.forget(id);
            self.carry(moves);
            self.feeds.forget_clock(id);
        }
        let name = def.name.clone();
        Arc::make_mut(&mut self.cameras).put(def);
        if before.is_none() {
            self.tell(News::Added(name));
        }
    }

    pub(super) fn on_outcome(&mut self, outcome: Outcome) {
        if let Some(errands) = &self.errands
            && *self.site != *errands.kept.file.site()
        {
            self.site = Arc::new(errands.kept.file.site().clone());
            self.on_site();
        }
        if outcome.lattices_saved {
            self.tell(News::LatticesSaved);
        }
        for (from, to) in outcome.renamed {
            Arc::make_mut(&mut self.cameras).rename(&from, &to);
            let known = Arc::make_mut(&mut self.known);
            known.clocks.remove(&from).map(|told| known.clocks.insert(to.clone(), told));
            known.exposed.remove(&from).map(|why| known.exposed.insert(to.clone(), why));
            known.seen.remove(&from).map(|at| known.seen.insert(to.clone(), at));
            self.tell(News::Renamed(from, to));
        }
        for name in outcome.removed {
            if let Some(id) = Arc::make_mut(&mut self.cameras).remove(&name) {
                let moves = self.planning.forget(id);
                self.carry(moves);
                self.listening.forget(id);
            }
        }
        for def in outcome.renewed.into_iter().chain(outcome.added) {
            self.put_camera(def);
        }
        if !outcome.imported.is_empty() {
            self.tell(News::Imported(outcome.imported));
        }
        if let Some(text) = outcome.say {
            self.say(Loudness::Text, text);
        }
        if let Some(taken) = outcome.taken {
            self.tell(News::Taken(taken));
        }
        if let Some((newcomer, intake)) = outcome.choose {
            self.tell(News::Choose(newcomer, intake));
        }
        self.resettle();
    }

    pub(super) fn on_job(&mut self, news: JobNews) {
        match news {
            JobNews::Found(found) => self.tell(News::Found(found)),
            JobNews::Searching(progress) => self.tell(News::Searching(progress)),
            JobNews::Checked(shown, ladder, ended) => {
                let done = ended.is_some();
                if let (Some(seen), Ok(mut sightings)) = (ended, crate::kept::sightings()) {
                    let (key, sighting) = *seen;
                    sightings.note(&key, sighting);
                    if let Err(error) = sightings.save() {
                        tracing::warn!(%error, "what was seen could not be kept");
                    }
                }
                self.tell(News::Checked(shown, ladder, done));
            }
            JobNews::Device(name, news) => {
                if let DeviceNews::Clock(Ok(offset)) = &news {
                    self.tell_clock(&name, Told { offset: *offset, at: self.now.utc });
                }
                self.tell(News::Device(name, news));
            }
            JobNews::Head(name, state) => {
                if state.refused.is_some() {
                    self.hands.remove(&name);
                }
                self.tell(News::Head(name, state));
            }
            JobNews::Reported(name, news) => self.on_reported(&name, news),
            JobNews::Later(name, result) => self.follow(|errands| Ok(errands.on_later(&name, result))),
            JobNews::Live(name, result) => self.follow(|errands| errands.on_live(&name, result)),
            JobNews::Surveyed(surveyed) => self.on_surveyed(&surveyed),
            JobNews::Ordered(name, Ok(done)) => self.say(Loudness::Text, format!("{name}: {done}")),
            JobNews::Ordered(name, Err(why)) => self.say(Loudness::Alarm, format!("{name}: {why}")),
            JobNews::PasswordSet(done, account, failed) => {
                self.follow(|errands| errands.on_password_set(&done, &account, &failed));
            }
            JobNews::Asked(newcomer, result) => self.on_asked(newcomer, result),
            JobNews::List(Ok(text)) => self.tell(News::List(text)),
            JobNews::Written(Ok(text)) => self.say(Loudness::Text, text),
            JobNews::List(Err(text)) | JobNews::Written(Err(text)) => self.say(Loudness::Alarm, text),
        }
    }

    /// What the errands make of news, or why they cannot.
    fn follow(&mut self, make: impl FnOnce(&mut Errands) -> Result<Outcome, String>) {
        match self.errands.as_mut().map(make) {
            Some(Ok(outcome)) => self.on_outcome(outcome),
            Some(Err(text)) => self.say(Loudness::Alarm, text),
            None => {}
        }
    }

    fn on_surveyed(&mut self, surveyed: &Surveyed) {
        if let Some(told) = surveyed.clock {
            surveyed.names.iter().for_each(|name| self.tell_clock(name, told));
        }
        let known = Arc::make_mut(&mut self.known);
        for name in &surveyed.names {
            match surveyed.exposed {
                Some(exposed) => drop(known.exposed.insert(name.clone(), exposed)),
                None => drop(known.exposed.remove(name)),
            }
        }
        self.follow(|errands| Ok(errands.on_surveyed(surveyed)));
    }

    /// Somebody who is to be taken in was asked.
    fn on_asked(&mut self, newcomer: Newcomer, result: Result<Intake, Trouble>) {
        let Some(errands) = &mut self.errands else { return };
        let outcome = errands.on_asked(&newcomer, result);
        let locked = outcome.taken.as_ref().is_some_and(|taken| taken.locked);
        self.on_outcome(outcome);
        // That it was asked is told in any case.
        self.tell(News::Asked(newcomer.with_credentials(None), locked));
    }

    /// A camera's device told its time: it goes into the latency of its streams.
    fn tell_clock(&mut self, name: &str, told: Told) {
        Arc::make_mut(&mut self.known).clocks.insert(name.to_owned(), told);
        if let Some(id) = self.cameras.id(name) {
            self.feeds.tell_clock(id, told);
        }
    }

    /// Remembers which cameras something comes from now.
    fn note_seen(&mut self, figures: impl Iterator<Item = (String, Arc<Figures>)>) {
        let at = self.now.utc.as_unix_micros() / 1_000_000;
        let arrives = |figures: &Figures| {
            figures.arrived.is_some_and(|rate| rate > 0.0) || (figures.still.is_some() && figures.verdict == Verdict::Steady)
        };
        let seen: Vec<String> = figures.filter(|(_, figures)| arrives(figures)).map(|(name, _)| name).collect();
        Arc::make_mut(&mut self.known).seen.extend(seen.into_iter().map(|name| (name, at)));
    }

    /// Asks all devices again when it is time, remembers which cameras are seen, and reads the site file again where it was
    /// edited elsewhere: only what changed is touched.
    pub(super) fn look_around(&mut self) {
        if !self.looked_at_file.is_due() {
            return;
        }
        if self.errands.is_none() {
            return;
        }
        let addresses = own_addresses();
        if addresses != *self.own_addresses {
            self.own_addresses = Arc::new(addresses);
        }
        let figures = self.figures();
        self.note_seen(figures.into_iter());
        let (survey, keep) = (self.surveyed.is_due(), self.kept_seen.is_due());
        let Some(errands) = &mut self.errands else { return };
        if survey {
            errands.survey(None);
        }
        if keep {
            errands.keep_seen(&self.known.seen);
        }
        let unlocked = errands.unlocked();
        match errands.reload() {
            Ok(None) => self.unread = None,
            Ok(Some(outcome)) => {
                self.unread = None;
                self.on_outcome(outcome);
            }
            // Said once, not every two seconds.
            Err(text) if self.unread.as_ref() == Some(&text) => {}
            Err(text) => {
                self.unread = Some(text.clone());
                self.say(Loudness::Alarm, text);
            }
        }
        if let Some(outcome) = unlocked {
            self.on_outcome(outcome);
        }
    }
}
