//! What the loop does for the desk: errands out, news in, and what follows for the wall.

use super::Wall;
use crate::app::CameraDef;
use crate::desk::{Errand, Page};
use crate::errands::{DeskNews, Errands, Outcome};
use crate::intake::{Intake, Trouble};
use crate::survey::{self, Surveyed};
use crate::theme::Tone;
use lattice_core::clock::Told;
use lattice_core::target::{Newcomer, Target};
use lattice_net::clock;
use lattice_store::{Order, Showing};
use std::time::{Duration, Instant};

/// How often the site file is looked at for changes made elsewhere.
const LOOK_AT_FILE: Duration = Duration::from_secs(2);
/// How often a screen tells what it shows, and looks for what was sent to it.
const LOOK_AT_SCREENS: Duration = Duration::from_secs(1);
/// How often what was seen is written down.
const KEEP_SEEN: Duration = Duration::from_secs(60);

/// The addresses of this machine that a sender can be given now.
pub(super) fn own_addresses() -> Vec<String> {
    lattice_net::own_addresses().iter().map(ToString::to_string).collect()
}

impl Wall {
    pub(super) fn run_errand(&mut self, errand: Errand) {
        let Some(errands) = &mut self.errands else { return };
        if let Errand::Take(targets) = &errand {
            self.app.desk.asking = targets.iter().map(|one| one.target.to_string()).collect();
            self.app.desk.taken.clear();
            self.app.desk.locked.clear();
        }
        if let Errand::ReadList(path) = &errand {
            match crate::add::read_list(path) {
                Ok(text) => self.app.desk.input = tui_input::Input::new(text),
                Err(error) => self.app.say(Tone::Alarm, format!("{error:#}")),
            }
            return;
        }
        let searches = matches!(errand, Errand::Search(_));
        match errands.carry_out(errand) {
            Ok(outcome) => {
                if searches {
                    self.app.desk.findings.begin();
                    self.app.desk.ticked.clear();
                }
                self.on_outcome(outcome);
            }
            Err(text) => self.app.say(Tone::Alarm, text),
        }
    }

    fn on_outcome(&mut self, outcome: Outcome) {
        if let Some(errands) = &self.errands {
            self.app.desk.site = errands.kept.file.site().clone();
        }
        if outcome.lattices_saved {
            self.app.lattices.are_saved();
        }
        self.app.take_lattices(outcome.imported);
        let mut effects = Vec::new();
        for (from, to) in outcome.renamed {
            self.app.rename_camera(&from, &to);
        }
        for name in outcome.removed {
            effects.extend(self.app.remove_camera(&name));
        }
        for camera in outcome.renewed {
            effects.extend(self.app.renew_camera(camera));
        }
        for camera in outcome.added {
            effects.extend(self.app.add_camera(camera));
        }
        self.app.on_site();
        if let Some(text) = outcome.say {
            self.app.say(Tone::Text, text);
        }
        self.app.desk.taken.extend(outcome.taken);
        self.app.desk.choosing.extend(outcome.choose);
        self.carry_out(effects);
    }

    pub(super) fn on_desk_news(&mut self, news: DeskNews) {
        self.app.now = clock::now();
        match news {
            DeskNews::Found(found) => drop(self.app.desk.findings.learn(found.address, found.learnt)),
            DeskNews::Searching(progress) => self.app.desk.progress = Some(progress),
            DeskNews::Checked(subject, ladder, done) => self.app.desk.on_check(&subject, ladder, done),
            DeskNews::Device(name, facts) => {
                if let Some(page) = self.app.desk.device.as_mut().filter(|page| page.camera == name) {
                    page.facts = Some(facts);
                    self.probe();
                }
            }
            DeskNews::Probed(name, uri, measured) => {
                if let Some(page) = self.app.desk.device.as_mut().filter(|page| page.camera == name) {
                    page.probed.insert(uri, measured);
                }
            }
            DeskNews::Later(name, result) => self.follow(|errands| Ok(errands.on_later(&name, result))),
            DeskNews::Live(name, result) => self.follow(|errands| errands.on_live(&name, result)),
            DeskNews::Surveyed(surveyed) => self.on_surveyed(&surveyed),
            DeskNews::Clock(name, read) => {
                if let Ok(offset) = read {
                    self.tell_clock(&name, Told { offset, at: clock::pair().wall });
                }
                if let Some(page) = self.app.desk.device.as_mut().filter(|page| page.camera == name) {
                    page.clock = Some(read);
                }
            }
            DeskNews::Ordered(name, result) => {
                let (tone, text) = match &result {
                    Ok(done) => (Tone::Text, format!("{name}: {done}")),
                    Err(why) => (Tone::Alarm, format!("{name}: {why}")),
                };
                self.app.say(tone, text);
                self.run_errand(Errand::AskDevice(name)); // as it is now
            }
            DeskNews::PasswordSet(done, account, failed) => {
                self.follow(|errands| errands.on_password_set(&done, &account, &failed));
                if let Some(name) = self.app.desk.device.as_ref().map(|page| page.camera.clone()) {
                    self.run_errand(Errand::AskDevice(name));
                }
            }
            DeskNews::Asked(newcomer, result) => self.on_asked(newcomer, result),
        }
    }

    /// This screen tells what it shows, and takes what was sent to it.
    pub(super) fn look_at_screens(&mut self) {
        let Some((screens, name)) = self.screens.clone().zip(self.app.screen.clone()) else { return };
        if self.looked_at_screens.elapsed() < LOOK_AT_SCREENS {
            return;
        }
        self.looked_at_screens = Instant::now();
        let at = clock::pair().wall.as_unix_micros() / 1_000_000;
        if let Err(error) = screens.tell(&name, &Showing { what: self.app.showing(), at }) {
            tracing::warn!(%error, "what this screen shows could not be told");
        }
        if let Some(order) = screens.take(&name) {
            let effects = self.app.take_order(order);
            self.carry_out(effects);
        }
    }

    /// What the other screens show.
    pub(super) fn ask_screens(&mut self) {
        let Some(screens) = &self.screens else { return };
        let now = clock::pair().wall.as_unix_micros() / 1_000_000;
        let shows = |screen: &lattice_store::site::Screen| Some((screen.name.clone(), screens.showing(&screen.name, now)?.what));
        self.app.other_screens = self.app.desk.site.screens.iter().filter_map(shows).collect();
    }

    pub(super) fn send_to(&mut self, screen: &str, order: &Order) {
        let Some(screens) = &self.screens else { return };
        let what = match order {
            Order::Lattice(name) | Order::Camera(name) => name.clone(),
        };
        let runs = self.app.other_screens.contains_key(screen);
        let (tone, text) = match screens.send(screen, order) {
            Ok(()) if runs => (Tone::Text, format!("{what} sent to {screen}")),
            Ok(()) => (Tone::Bright, format!("{screen} does not run now: it shows {what} when it starts")),
            Err(error) => (Tone::Alarm, format!("{what} could not be sent to {screen}: {error}")),
        };
        self.app.say(tone, text);
    }

    /// What the errands make of news, or why they cannot.
    fn follow(&mut self, make: impl FnOnce(&mut Errands) -> Result<Outcome, String>) {
        match self.errands.as_mut().map(make) {
            Some(Ok(outcome)) => self.on_outcome(outcome),
            Some(Err(text)) => self.app.say(Tone::Alarm, text),
            None => {}
        }
    }

    fn on_surveyed(&mut self, surveyed: &Surveyed) {
        if let Some(told) = surveyed.clock {
            surveyed.names.iter().for_each(|name| self.tell_clock(name, told));
        }
        for name in &surveyed.names {
            match surveyed.exposed {
                Some(exposed) => drop(self.app.desk.exposed.insert(name.clone(), exposed)),
                None => drop(self.app.desk.exposed.remove(name)),
            }
        }
        self.follow(|errands| Ok(errands.on_surveyed(surveyed)));
    }

    /// Somebody who is to be taken in was asked.
    fn on_asked(&mut self, newcomer: Newcomer, result: Result<Intake, Trouble>) {
        let Some(errands) = &mut self.errands else { return };
        let outcome = errands.on_asked(&newcomer, result);
        let shown = newcomer.target.to_string();
        self.app.desk.asking.retain(|asking| *asking != shown);
        if outcome.taken.as_ref().is_some_and(|taken| taken.locked) {
            self.app.desk.locked.push(newcomer.with_credentials(None));
        } else if let Target::Device { host, .. } = &newcomer.target
            && let Ok(address) = host.parse()
        {
            self.app.desk.ticked.remove(&address);
        }
        self.on_outcome(outcome);
        let desk = &mut self.app.desk;
        if desk.asking.is_empty() && desk.locked.is_empty() && desk.taken.iter().all(|taken| taken.result.is_ok()) {
            desk.input = tui_input::Input::default(); // room for the next
        }
    }

    /// A camera's device told its time: it goes into the latency of its streams.
    fn tell_clock(&mut self, name: &str, told: Told) {
        self.app.desk.clocks.insert(name.to_owned(), told);
        let named = |def: &&CameraDef| def.name == name;
        if let Some(index) = self.app.site.cameras.iter().position(|def| named(&def) && !def.streams.is_empty()) {
            self.engine.tell_clock(index, told);
        }
    }

    /// Measures the streams of the device that is looked at as far as nothing is known of them.
    fn probe(&mut self) {
        let urls = self.app.take_unprobed();
        if let Some(page) = self.app.desk.device.as_ref().filter(|_| !urls.is_empty()) {
            self.run_errand(Errand::Probe(page.camera.clone(), urls));
        }
    }

    /// Asks all devices again when it is time, and remembers which cameras are seen.
    fn look_around(&mut self) {
        let Some(errands) = &mut self.errands else { return };
        if self.surveyed.is_none_or(|at| at.elapsed() >= survey::EVERY) {
            self.surveyed = Some(Instant::now());
            errands.survey(None);
        }
        self.app.note_seen(clock::pair().wall.as_unix_micros() / 1_000_000);
        if self.kept_seen.elapsed() >= KEEP_SEEN {
            self.kept_seen = Instant::now();
            errands.keep_seen(&self.app.desk.seen);
        }
    }

    /// The site file may be edited elsewhere while the wall runs: only what changed is touched.
    pub(super) fn look_at_file(&mut self) {
        if self.looked_at_file.elapsed() < LOOK_AT_FILE {
            return;
        }
        self.looked_at_file = Instant::now();
        self.look_around();
        match self.app.page {
            Page::Device => self.probe(), // one may have left the wall
            Page::Listen => self.app.desk.own_addresses = own_addresses(),
            _ => {}
        }
        let Some(errands) = &mut self.errands else { return };
        match errands.reload() {
            Ok(None) => {}
            Ok(Some(outcome)) => self.on_outcome(outcome),
            Err(text) => {
                if self.app.notice.as_ref().is_none_or(|notice| notice.text != text) {
                    self.app.say(Tone::Alarm, text);
                }
            }
        }
    }
}
