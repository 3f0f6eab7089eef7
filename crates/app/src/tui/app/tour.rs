//! What tours do on this screen.

use crate::tui::app::App;
use crate::tui::theme::Tone;
use crate::tui::tour::{RunningTour, TourState};
use lattice_core::Verdict;
use lattice_core::lattice::Lattice;
use lattice_engine::{CameraId, FeedKey};
use lattice_store::site::{DWELL, Stop, Tour};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

/// After a key or the mouse the tour waits for so long: the operator works.
const WORKING: Duration = Duration::from_secs(30);
/// The streams of the next stop are opened so long before it.
const OPENED_BEFORE: Duration = Duration::from_secs(8);
/// Their pictures are decoded so long before it.
const DECODED_BEFORE: Duration = Duration::from_secs(2);
/// A turn waits at most so long for the pictures of the next stop.
const WAITS: Duration = Duration::from_secs(6);
/// Most tiles that cameras in trouble take.
const FRONT: usize = 2;

/// A page that a tour shows.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Leg {
    lattice: String,
    page: usize,
    dwell: Duration,
}

impl App {
    /// Whether there is something to tour: the tours of the site, and one that is made of what is shown.
    pub fn tours(&self) -> Vec<Tour> {
        let mut tours = self.site.tours.clone();
        let stop = |lattice: &Lattice, page| Stop { lattice: lattice.name.clone(), page, dwell: DWELL };
        let shown = self.lattices.shown();
        if shown.pages() > 1 {
            let stops = (0..shown.pages()).map(|page| stop(shown, Some(page))).collect();
            tours.push(Tour { name: format!("pages of {}", shown.name), stops, trouble_first: false });
        }
        if self.lattices.own().len() > 1 {
            let stops = self.lattices.own().iter().map(|lattice| stop(lattice, None)).collect();
            tours.push(Tour { name: "every lattice".into(), stops, trouble_first: false });
        }
        tours
    }

    /// Whether a tour runs.
    pub const fn has_tour(&self) -> bool {
        self.tour.is_some()
    }

    /// Begins a tour.
    pub fn begin_tour(&mut self, name: &str) {
        let Some(tour) = self.tours().into_iter().find(|tour| tour.name == name) else {
            self.say(Tone::Text, format!("there is no tour {name:?}"));
            return;
        };
        self.say(Tone::Text, format!("tour {name}: t holds it, esc ends it"));
        self.tour = Some(RunningTour { tour, at: 0, since: self.now, held: false });
        self.worked = None;
        self.go_to_stop();
    }

    /// Holds the tour that runs, or lets it run on.
    pub fn hold_tour(&mut self) {
        let now = self.now;
        if let Some(running) = &mut self.tour {
            running.held = !running.held;
            running.since = now;
            let text = if running.held { "tour held: t lets it run on" } else { "the tour runs on" };
            self.say(Tone::Text, text.into());
        }
        self.worked = None;
    }

    /// Ends the tour; true when there was one.
    pub fn end_tour(&mut self) -> bool {
        self.fronted.clear();
        let ended = self.tour.take().is_some();
        if ended {
            self.say(Tone::Text, "the tour has ended".into());
        }
        ended
    }

    /// The pages of the tour that runs, one after the other.
    fn legs(&self) -> Vec<Leg> {
        let Some(running) = &self.tour else { return Vec::new() };
        let leg = |stop: &Stop| {
            let pages = self.lattices.named(&stop.lattice).map_or(0, Lattice::pages);
            let pages = stop.page.map_or(0..pages, |page| page.min(pages)..pages.min(page + 1));
            pages.map(|page| Leg { lattice: stop.lattice.clone(), page, dwell: stop.dwell }).collect::<Vec<_>>()
        };
        running.tour.stops.iter().flat_map(leg).collect()
    }

    fn go_to_stop(&mut self) {
        let legs = self.legs();
        let Some(running) = &mut self.tour else { return };
        let Some(leg) = legs.get(running.at % legs.len().max(1)) else {
            self.end_tour();
            return;
        };
        (running.at, running.since) = (running.at % legs.len(), self.now);
        if self.lattices.show(Some(&leg.lattice)) {
            self.lattices.turn(leg.page);
        }
        self.fronted.clear();
        (self.enlarged, self.selected, self.lifted) = (false, 0, None);
        self.show_wall();
        self.same_tiles_since = self.now;
    }

    /// The operator does something: a tour waits.
    pub fn works(&mut self) {
        self.worked = Some(self.now);
    }

    fn is_tour_held(&self) -> bool {
        let works = self.worked.is_some_and(|at| self.now.since(at) < WORKING);
        works || !self.is_on_wall() || self.enlarged || self.tour.as_ref().is_some_and(|running| running.held)
    }

    /// How the tour stands that runs.
    pub fn tour_state(&self) -> Option<TourState> {
        let running = self.tour.as_ref()?;
        let legs = self.legs();
        let leg = legs.get(running.at)?;
        let left = (!self.is_tour_held()).then(|| leg.dwell.saturating_sub(self.now.since(running.since)));
        Some(TourState { name: running.tour.name.clone(), stop: (running.at + 1, legs.len()), left })
    }

    /// The next leg, and how long until it; `None` while the tour is held.
    fn next_leg(&self) -> Option<(Leg, Duration)> {
        let running = self.tour.as_ref().filter(|_| !self.is_tour_held())?;
        let legs = self.legs();
        let left = legs.get(running.at)?.dwell.saturating_sub(self.now.since(running.since));
        let next = legs.get((running.at + 1) % legs.len())?.clone();
        (legs.len() > 1).then_some((next, left))
    }

    /// The streams of the next stop, when it is near enough.
    fn ahead(&self, before: Duration) -> Vec<FeedKey> {
        let Some((leg, _)) = self.next_leg().filter(|(_, left)| *left <= before) else { return Vec::new() };
        let Some(lattice) = self.lattices.named(&leg.lattice) else { return Vec::new() };
        let cameras = lattice.page(leg.page).filter_map(|(_, placed)| self.camera_index(&placed.camera));
        cameras.filter_map(|camera| Some(FeedKey::new(camera, self.first_role(camera)?))).collect()
    }

    /// The streams of the next stop that are to be open.
    pub fn streams_ahead(&self) -> Vec<FeedKey> {
        self.ahead(OPENED_BEFORE)
    }

    /// The streams of the next stop whose pictures are to be decoded.
    pub fn decoded_ahead(&self) -> Vec<FeedKey> {
        self.ahead(DECODED_BEFORE)
    }

    /// Turns when it is time, and the pictures of the next stop are there. True when it did.
    pub fn tour_goes_on(&mut self) -> bool {
        if self.is_tour_held() {
            // The stop begins anew when the operator has done.
            let now = self.now;
            if let Some(running) = &mut self.tour {
                running.since = now;
            }
            return false;
        }
        let Some((_, left)) = self.next_leg() else { return false };
        if left > Duration::ZERO {
            return self.bring_to_front();
        }
        let overdue = self
            .tour
            .as_ref()
            .and_then(|running| Some(self.now.since(running.since).saturating_sub(self.legs().get(running.at)?.dwell)));
        let missing = |key: &FeedKey| {
            let comes = self
                .figures
                .get(key)
                .is_none_or(|figures| matches!(figures.verdict, Verdict::Steady | Verdict::Strained | Verdict::Waiting));
            comes && !self.pictures.contains_key(key)
        };
        if self.decoded_ahead().iter().any(missing) && overdue.is_some_and(|overdue| overdue < WAITS) {
            return false;
        }
        if let Some(running) = &mut self.tour {
            running.at += 1;
        }
        self.go_to_stop();
        true
    }

    /// Cameras in trouble that are not on this page take the last tiles of it, where the tour says so.
    fn bring_to_front(&mut self) -> bool {
        if !self.tour.as_ref().is_some_and(|running| running.tour.trouble_first) {
            return false;
        }
        let in_trouble = |camera: CameraId| {
            let figures = self.telling(camera).and_then(|key| self.figures.get(&key));
            figures.is_some_and(|figures| matches!(figures.verdict, Verdict::Stalled | Verdict::Lost | Verdict::Locked))
        };
        let of_tour: BTreeSet<CameraId> = self
            .legs()
            .iter()
            .filter_map(|leg| self.lattices.named(&leg.lattice))
            .flat_map(Lattice::cameras)
            .filter_map(|name| self.camera_index(name))
            .collect();
        let own: BTreeSet<CameraId> = {
            let shown = self.lattices.shown().page(self.lattices.page());
            shown.filter_map(|(_, placed)| self.camera_index(&placed.camera)).collect()
        };
        let troubled = of_tour
            .into_iter()
            .filter(|camera| !own.contains(camera) && !self.given_back.contains(camera) && in_trouble(*camera));
        let troubled: Vec<CameraId> = troubled.take(FRONT).collect();
        let given_back = self.given_back.iter().copied().filter(|camera| in_trouble(*camera)).collect();
        let places = self.lattices.shown().places();
        let fronted: BTreeMap<usize, CameraId> = (0..places)
            .rev()
            .filter(|place| {
                let camera = self.placed(*place).and_then(|placed| self.camera_index(&placed.camera));
                camera.is_none_or(|camera| !in_trouble(camera))
            })
            .zip(troubled)
            .collect();
        let changed = fronted != self.fronted;
        (self.fronted, self.given_back) = (fronted, given_back);
        changed
    }

    /// The camera that stands at a place for a while instead of its own.
    pub fn guest(&self, place: usize) -> Option<CameraId> {
        let called = self.called.get(&place).map(|(camera, _)| *camera).filter(|camera| !self.has_place(*camera));
        let comes = |camera: &CameraId| !self.called.values().any(|(called, _)| called == camera);
        called.or_else(|| self.fronted.get(&place).copied().filter(comes))
    }

    /// Whether a camera has a place of its own on the page that is shown.
    fn has_place(&self, camera: CameraId) -> bool {
        let own = |place| self.placed(place).and_then(|placed| self.camera_index(&placed.camera));
        (0..self.lattices.shown().places()).any(|place| own(place) == Some(camera))
    }

    /// A camera that reports something gets a tile for so long, on whatever page is shown; where it has one of its own, it stays in that.
    pub fn call(&mut self, name: &str, place: usize, span: Duration) {
        let Some(camera) = self.camera_index(name) else { return };
        let until = self.now + span;
        if let Some((_, have)) = self.called.values_mut().find(|(called, _)| *called == camera) {
            *have = until;
            return;
        }
        // Who has a place takes none from another one who was called.
        let free = !self.called.contains_key(&place) || !self.has_place(camera);
        if place < self.lattices.shown().places() && free {
            self.called.insert(place, (camera, until));
            self.same_tiles_since = self.now;
            self.seat();
        }
    }

    /// Those that were called go when their time is over; true when one did.
    pub fn calls_end(&mut self) -> bool {
        let (now, before) = (self.now, self.called.len());
        self.called.retain(|_, (_, until)| *until > now);
        self.called.len() != before
    }

    /// The tiles that cameras in trouble took are as they were; these cameras do not come again before they were well.
    pub fn give_back(&mut self) {
        if self.fronted.is_empty() && self.called.is_empty() {
            self.say(Tone::Text, "no tile was taken by a camera in trouble".into());
        }
        self.called.clear();
        self.given_back.extend(std::mem::take(&mut self.fronted).into_values());
    }
}
