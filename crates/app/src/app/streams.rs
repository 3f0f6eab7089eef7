//! Which streams are open, and which one each tile shows: what the planner decides is carried out here.

use super::{App, Effect, FeedKey, Tile};
use crate::desk::Page;
use crate::theme::Tone;
use crate::view::regions::{picture_of, places};
use lattice_core::meter::Figures;
use lattice_core::plan::{Budgets, Candidate, HostBudget, Load, Plan, Planner, Reason, Short, Shown, Subject};
use lattice_core::{BitsPerSecond, Cause, FrameRate, Mono, Role};
use lattice_net::Origin;
use ratatui::layout::Rect;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::Duration;

/// A stream that is not needed any more is kept open for so long: whoever returns finds it there.
const WARM: Duration = Duration::from_secs(8);
/// A stream that failed is not chosen again for so long.
const FAILED: Duration = Duration::from_secs(60);
/// A stream is too heavy when it has been arriving slower than it is sent for so long.
const HEAVY_AFTER: Duration = Duration::from_secs(5);
/// A stream that was too heavy is tried again after this time, each time after twice as long.
const TRIAL_AFTER: Duration = Duration::from_secs(60);
const TRIAL_AT_MOST: Duration = Duration::from_secs(1920);
/// How long a trial must go well before the stream is shown.
const TRIAL: Duration = Duration::from_secs(5);
/// The share of what this machine decodes that streams may take.
const MACHINE_SHARE: f64 = 0.6;
/// Megapixels a second that may be decoded whatever was measured: one large stream is tried on any machine, and its figures
/// tell whether it is too much.
const AT_LEAST: f64 = 60.0;
/// Plans are made this often, and at each key.
const PLAN_EVERY: Duration = Duration::from_millis(500);
/// What an enlarged tile, and the selected one, weigh against the others.
const ENLARGED: f64 = 8.0;
const SELECTED: f64 = 1.5;

/// What is known of a stream.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StreamFacts {
    /// What it takes.
    pub candidate: Candidate,
    /// It was measured; else it is taken for what streams of its kind usually are.
    pub measured: bool,
}

/// Why a stream is not chosen for the time being.
#[derive(Debug, Clone, Copy)]
struct Barred {
    until: Mono,
    heavy: bool,
    /// How long it was barred the last time.
    wait: Duration,
}

/// The planner's side of the wall.
#[derive(Debug, Default)]
pub struct Streams {
    /// Open streams.
    open: BTreeSet<FeedKey>,
    /// Streams that are kept open for a while, and until when.
    warm: BTreeMap<FeedKey, Mono>,
    planner: Planner<usize>,
    facts: HashMap<FeedKey, StreamFacts>,
    barred: HashMap<FeedKey, Barred>,
    /// Since when a stream arrives slower than it is sent.
    slow_since: HashMap<FeedKey, Mono>,
    planned: Option<Mono>,
    /// What all streams together may take.
    link: Option<BitsPerSecond>,
    /// Megapixels a second that may be decoded.
    decoding: Option<f64>,
    /// Megapixels a second that this machine decodes, as it was measured.
    pub machine: Option<f64>,
    /// The newest plan, with what it is made of.
    pub plan: Planned,
}

/// A plan with what it is made of.
#[derive(Debug, Default, Clone)]
pub struct Planned {
    /// For each camera the index of its host, in the order of the plan.
    host_of: Vec<usize>,
    /// For each camera its places, in the order of the plan.
    pub places: Vec<Vec<usize>>,
    /// The hosts, in the order of its budgets.
    pub hosts: Vec<String>,
    /// The budgets.
    pub budgets: Budgets,
    /// What was decided.
    pub plan: Plan,
    /// The load before the choices changed last.
    pub before: Option<Load>,
}

impl Planned {
    /// Whether the device of a place's camera takes no viewer beyond those that are planned.
    fn takes_no_more(&self, place: usize) -> bool {
        let host = self.places.iter().position(|places| places.contains(&place)).and_then(|index| self.host_of.get(index));
        let most = host.and_then(|host| self.budgets.hosts.get(*host)?.viewers);
        let planned = host.and_then(|host| self.plan.load.hosts.get(*host)).map_or(0, |(_, viewers)| *viewers);
        most.is_some_and(|most| planned >= most)
    }

    /// The choice for a place.
    pub fn choice(&self, place: usize) -> Option<lattice_core::plan::Choice> {
        let (index, tile) = self
            .places
            .iter()
            .enumerate()
            .find_map(|(index, places)| Some((index, places.iter().position(|one| *one == place)?)))?;
        self.plan.choices.get(index)?.get(tile).copied()
    }
}

/// What a stream of this role usually is, until it was measured.
const fn usual(role: Role) -> Candidate {
    let (size, rate, bits) = match role {
        Role::Main => ((1920, 1080), 25.0, 4e6),
        Role::Sub => ((640, 360), 12.5, 5e5),
        Role::Third => ((320, 180), 12.5, 2e5),
    };
    Candidate { role, size, rate, bitrate: BitsPerSecond(bits) }
}

impl App {
    /// What is known of a stream.
    pub fn stream_facts(&self, key: FeedKey) -> StreamFacts {
        self.streams.facts.get(&key).copied().unwrap_or(StreamFacts { candidate: usual(key.role), measured: false })
    }

    /// Open streams.
    pub fn open_streams(&self) -> impl Iterator<Item = FeedKey> {
        self.streams.open.iter().copied()
    }

    /// The stream of a camera that tells how it is: the one that is shown, else the one that is open.
    pub fn telling(&self, camera: usize) -> Option<FeedKey> {
        let shown = self.tiles.iter().find(|tile| tile.camera == camera).map(Tile::key);
        shown.or_else(|| self.streams.open.iter().rev().copied().find(|key| key.camera == camera))
    }

    /// The site is another now: its lattices and budgets.
    pub fn on_site(&mut self) {
        self.lattices.on_saved(&self.desk.site.lattices);
        self.streams.link = self.desk.site.link;
        // Not all of it: the screen is drawn, and pictures are scaled.
        self.streams.decoding =
            self.desk.site.decoding.or_else(|| self.streams.machine.map(|most| (most * MACHINE_SHARE).max(AT_LEAST)));
    }

    /// Brings tiles, plan and open streams up to what is shown now.
    pub fn settle(&mut self) -> Vec<Effect> {
        self.seat();
        self.plan_streams();
        self.reconcile()
    }

    /// The tiles of the page that is shown. A camera that is there already keeps its stream.
    fn seat(&mut self) {
        let lattice = self.lattices.shown();
        let (places, page) = (lattice.places(), self.lattices.page());
        let mut tiles = Vec::new();
        for place in 0..places {
            let placed = lattice.at(page * places + place);
            let own = placed.and_then(|placed| self.camera_index(&placed.camera));
            let Some(camera) = self.fronted.get(&place).copied().or(own) else { continue };
            let same = self.tiles.iter().find(|tile| tile.camera == camera && tile.place == place);
            let tile = same.or_else(|| self.tiles.iter().find(|tile| tile.camera == camera)).copied();
            let tile = tile.map(|tile| Tile { place, ..tile });
            let tile =
                tile.or_else(|| Some(Tile { place, camera, role: self.first_role(camera)?, switching: None, short: None }));
            tiles.extend(tile);
        }
        self.selected = self.selected.min(places.saturating_sub(1));
        self.tiles = tiles;
        self.enlarged &= self.selected_tile().is_some();
    }

    /// The stream that a camera begins with: one that is open with a picture, else the one preferred.
    pub(super) fn first_role(&self, camera: usize) -> Option<Role> {
        let there = |role: Role| self.site.stream(FeedKey::new(camera, role)).is_some();
        let open = self.streams.open.iter().find(|key| key.camera == camera && there(key.role)).map(|key| key.role);
        let preferred = Some(self.site.prefer).filter(|role| there(*role));
        open.or(preferred).or_else(|| self.site.cameras.get(camera)?.streams.first().map(|stream| stream.role))
    }

    /// Plans again if it is time for it.
    pub(super) fn plan_now_and_then(&mut self) -> Vec<Effect> {
        self.learn_facts();
        if self.streams.planned.is_some_and(|at| self.now.since(at) < PLAN_EVERY) {
            return Vec::new();
        }
        self.judge_weight();
        self.settle()
    }

    fn learn_facts(&mut self) {
        for (key, figures) in &self.figures {
            if let Some(facts) = facts(*key, figures, self.streams.facts.get(key)) {
                self.streams.facts.insert(*key, facts);
            }
        }
    }

    /// A stream that arrives slower than it is sent for a while is too heavy: it is eased where the planner chooses.
    fn judge_weight(&mut self) {
        let now = self.now;
        let mut heavy = Vec::new();
        for (key, figures) in &self.figures {
            // Late is what arrives slower than it is sent, or later and later: the meter has judged it.
            if !matches!(figures.cause, Some(Cause::TooHeavy | Cause::Late)) {
                self.streams.slow_since.remove(key);
                continue;
            }
            let since = *self.streams.slow_since.entry(*key).or_insert(now);
            if now.since(since) >= HEAVY_AFTER {
                heavy.push(*key);
            }
        }
        for key in heavy {
            self.streams.slow_since.remove(&key);
            self.bar(key, true);
        }
        self.streams.slow_since.retain(|key, _| self.streams.open.contains(key));
    }

    /// A stream is not chosen for a while.
    fn bar(&mut self, key: FeedKey, heavy: bool) {
        let lighter = |role: Role| {
            self.stream_facts(FeedKey { role, ..key }).candidate.pixels() < self.stream_facts(key).candidate.pixels()
        };
        let streams = self.site.cameras.get(key.camera).map(|camera| camera.streams.clone()).unwrap_or_default();
        if heavy && !streams.iter().any(|stream| lighter(stream.role)) {
            return; // there is nothing to ease to
        }
        let before = self.streams.barred.get(&key).filter(|before| before.heavy && heavy).map(|before| before.wait * 2);
        let wait = if heavy { before.unwrap_or(TRIAL_AFTER).min(TRIAL_AT_MOST) } else { FAILED };
        self.streams.barred.insert(key, Barred { until: self.now + wait, heavy, wait });
        if heavy {
            let held = self.tiles.iter().any(|tile| tile.key() == key && self.hold(tile.place) == Some(key.role));
            let (name, role) = (self.camera_name(key.camera).to_owned(), key.role.word());
            let text = if held {
                format!("{name}: its {role} is too heavy for the link; m shows the lighter stream")
            } else {
                format!(
                    "{name}: its {role} arrived slower than it is sent: eased to the lighter stream, tried again in {} s",
                    wait.as_secs()
                )
            };
            let done = if held { "offered the lighter stream" } else { "eased to the lighter stream" };
            self.log.ledger.on_done(self.utc, &name, Some(Cause::TooHeavy), format!("{done}: its {role} was too heavy"));
            self.say(Tone::Alarm, text);
        }
    }

    /// Whether a stream may be chosen now.
    fn may_choose(&self, key: FeedKey) -> bool {
        self.streams.barred.get(&key).is_none_or(|barred| barred.until <= self.now)
    }

    /// Whether a stream must prove itself before it is shown: it was too heavy before.
    pub(super) fn is_on_trial(&self, key: FeedKey) -> bool {
        self.streams.barred.get(&key).is_some_and(|barred| barred.heavy)
    }

    /// How a trial goes: shown after it went well for a while.
    pub(super) fn trial_is_passed(&self, figures: &Figures) -> bool {
        let well = figures.sent.zip(figures.arrived).is_some_and(|(sent, arrived)| arrived >= sent * 0.95);
        well && figures.milestones.first_picture.is_some_and(|at| self.now.since(at) >= TRIAL)
    }

    /// A switch failed: its stream is not chosen again for a while.
    pub(super) fn bar_failed(&mut self, key: FeedKey) {
        self.bar(key, false);
    }

    /// The operator wants it: what was barred may be tried again.
    pub(super) fn unbar(&mut self, camera: usize) {
        self.streams.barred.retain(|key, _| key.camera != camera);
        self.streams.planner.forget(&camera);
    }

    /// The planner climbs at once for this camera: it was enlarged, held or freed just now.
    pub(super) fn plan_anew(&mut self, camera: usize) {
        self.streams.planner.forget(&camera);
    }

    /// The budgets of the hosts of these cameras, and the index of each camera's host.
    fn hosts(&self, cameras: &[usize]) -> (Vec<String>, Vec<HostBudget>, Vec<usize>) {
        let (mut names, mut budgets, mut of) = (Vec::new(), Vec::new(), Vec::new());
        for camera in cameras {
            let def = self.site.cameras.get(*camera);
            let name = def.and_then(|def| host_of(&def.streams.first()?.origin)).unwrap_or_else(|| format!("camera {camera}"));
            let index = names.iter().position(|known| *known == name).unwrap_or_else(|| {
                names.push(name);
                budgets.push(HostBudget::default());
                names.len() - 1
            });
            if let (Some(budget), Some(def)) = (budgets.get_mut(index), def) {
                budget.viewers = budget.viewers.into_iter().chain(def.viewers).min();
                budget.link = match (budget.link, def.link) {
                    (Some(a), Some(b)) => Some(BitsPerSecond(a.0.min(b.0))),
                    (a, b) => a.or(b),
                };
            }
            of.push(index);
        }
        (names, budgets, of)
    }

    fn candidates(&self, camera: usize) -> Vec<Candidate> {
        let Some(def) = self.site.cameras.get(camera) else { return Vec::new() };
        let keys = def.streams.iter().map(|stream| FeedKey::new(camera, stream.role));
        let open: Vec<FeedKey> = keys.clone().filter(|key| self.may_choose(*key)).collect();
        let keys = if open.is_empty() { keys.collect() } else { open }; // better one that failed than none
        keys.into_iter().map(|key| self.stream_facts(key).candidate).collect()
    }

    /// Plans the visible tiles, and switches those that are to show another stream.
    fn plan_streams(&mut self) {
        self.streams.planned = Some(self.now);
        // While one is enlarged the others keep the stream that fits their tile: they return to it.
        let pictures: Vec<Rect> = places(self).iter().map(|place| picture_of(*place)).collect();
        let mut cameras: Vec<usize> = Vec::new();
        let mut standing: Vec<Vec<usize>> = Vec::new();
        for tile in &self.tiles {
            let index = cameras.iter().position(|camera| *camera == tile.camera).unwrap_or_else(|| {
                cameras.push(tile.camera);
                standing.push(Vec::new());
                cameras.len() - 1
            });
            standing[index].push(tile.place);
        }
        let (names, hosts, host_of) = self.hosts(&cameras);
        let budgets = Budgets { link: self.streams.link, decoding: self.streams.decoding, hosts };
        let subjects: Vec<Subject> = cameras
            .iter()
            .zip(&standing)
            .zip(host_of.iter().copied())
            .map(|((camera, places), host)| {
                let candidates = self.candidates(*camera);
                let heaviest = candidates.iter().map(Candidate::pixels).fold(0.0, f64::max) as u32;
                let shown = |place: &usize| {
                    let enlarged = self.enlarged && *place == self.selected;
                    let own = pictures.get(*place).map_or(1, |picture| self.pixels_in(*place, *picture));
                    let weight = match (enlarged, *place == self.selected) {
                        (true, _) => ENLARGED,
                        (false, true) => SELECTED,
                        (false, false) => 1.0,
                    };
                    // Who enlarges a tile wants all that the camera has.
                    Shown { pixels: if enlarged { own.max(heaviest) } else { own }, weight, hold: self.hold(*place) }
                };
                Subject { tiles: places.iter().map(shown).collect(), candidates, host }
            })
            .collect();
        let plan = self.streams.planner.plan(self.now, &cameras, &subjects, &budgets);
        let last = &self.streams.plan;
        let roles = |planned: &Plan| -> Vec<Vec<Option<Role>>> {
            planned.choices.iter().map(|tiles| tiles.iter().map(|choice| choice.role).collect()).collect()
        };
        let changed = last.places != standing || roles(&last.plan) != roles(&plan);
        let before = if changed { Some(last.plan.load.clone()) } else { last.before.clone() };
        self.streams.plan = Planned { host_of, places: standing, hosts: names, budgets, plan, before };
        for index in 0..self.tiles.len() {
            self.follow_plan(index);
        }
    }

    fn follow_plan(&mut self, index: usize) {
        let Some(tile) = self.tiles.get(index).copied() else { return };
        let Some(choice) = self.streams.plan.choice(tile.place) else { return };
        let short = match choice.reason {
            Reason::Nothing(short) => Some(short),
            _ => None,
        };
        if short == Some(Short::Decoding) {
            // It is received all the same, so that it is known how it is.
            let role = self.lightest(tile.camera).map_or(tile.role, |lightest| lightest.role);
            self.tiles[index] = Tile { role, switching: None, short, ..tile };
            return;
        }
        let switching = match choice.role {
            Some(role) if tile.short.is_some() && short.is_none() => {
                self.tiles[index] = Tile { role, switching: None, short: None, ..tile };
                return;
            }
            Some(role) if role != tile.role => Some(role),
            _ => None,
        };
        if let Some(role) = switching.filter(|_| self.streams.plan.takes_no_more(tile.place)) {
            // The device takes no second viewer: the one stream ends before the other begins.
            self.tiles[index] = Tile { role, switching: None, short, ..tile };
            return;
        }
        if switching.is_some() && switching != tile.switching {
            let key = FeedKey::new(tile.camera, switching.unwrap_or(tile.role));
            if !self.streams.open.contains(&key) {
                self.pictures.remove(&key);
            }
        }
        self.tiles[index] = Tile { switching, short, ..tile };
    }

    fn lightest(&self, camera: usize) -> Option<Candidate> {
        self.candidates(camera).into_iter().min_by(|a, b| a.pixels().total_cmp(&b.pixels()))
    }

    /// The streams that are to be open: those of the tiles, those that are kept warm, and of every other camera, also where
    /// nothing is left to decode it with, the lightest, so that it is known how it is.
    fn reconcile(&mut self) -> Vec<Effect> {
        let now = self.now;
        let mut wanted: BTreeSet<FeedKey> = self.tiles.iter().filter(|tile| tile.short.is_none()).map(Tile::key).collect();
        wanted.extend(self.tiles.iter().filter(|tile| tile.short.is_none()).filter_map(Tile::next_key));
        wanted.extend(self.streams_ahead());
        if self.page == Page::Bench {
            wanted.extend(&self.bench.streams);
        }
        if self.page == Page::Stream {
            wanted.extend(self.looked_at());
        }
        wanted.extend(self.flash.key);
        let mut load = self.streams.plan.plan.load.clone();
        let budgets = self.streams.plan.budgets.clone();
        let elsewhere = |tile: &Tile| tile.short == Some(Short::Decoding);
        let others =
            (0..self.site.cameras.len()).filter(|camera| self.tiles.iter().all(|tile| tile.camera != *camera || elsewhere(tile)));
        for camera in others {
            let Some(lightest) = self.lightest(camera) else { continue };
            if budgets.link.is_some_and(|link| load.link + lightest.bitrate.0 > link.0) {
                continue;
            }
            load.link += lightest.bitrate.0;
            wanted.insert(FeedKey::new(camera, lightest.role));
        }
        let left: Vec<FeedKey> = self.streams.open.difference(&wanted).copied().filter(|key| self.may_choose(*key)).collect();
        for key in &left {
            self.streams.warm.entry(*key).or_insert(now + WARM);
        }
        let is_there = |key: &FeedKey| self.site.stream(*key).is_some();
        // What is kept warm must not take what others need.
        let left: Vec<FeedKey> = left
            .into_iter()
            .filter(|key| {
                load.link += self.stream_facts(*key).candidate.bitrate.0;
                budgets.link.is_none_or(|link| load.link <= link.0)
            })
            .collect();
        self.streams.warm.retain(|key, until| *until > now && left.contains(key) && is_there(key));
        wanted.extend(self.streams.warm.keys());
        let close = self.streams.open.difference(&wanted).copied().map(Effect::Close);
        let open = wanted.difference(&self.streams.open).copied().map(Effect::Open);
        let effects = close.chain(open).collect();
        self.streams.open = wanted;
        effects
    }

    /// The open streams of a camera that is asked in another way now are forgotten; gives them.
    pub(super) fn forget_streams(&mut self, camera: usize) -> Vec<FeedKey> {
        let of_camera = |key: &FeedKey| key.camera == camera;
        let open: Vec<FeedKey> = self.streams.open.iter().copied().filter(of_camera).collect();
        self.streams.open.retain(|key| !of_camera(key));
        self.streams.warm.retain(|key, _| !of_camera(key));
        self.streams.facts.retain(|key, _| !of_camera(key));
        self.unbar(camera);
        open
    }

    /// The stream that the operator holds the tile of a place on.
    pub fn hold(&self, place: usize) -> Option<Role> {
        if self.fronted.contains_key(&place) {
            return None;
        }
        self.placed(place)?.hold
    }

    /// A camera that can be shown, by its name.
    pub fn camera_index(&self, name: &str) -> Option<usize> {
        self.site.cameras.iter().position(|def| def.name == name && !def.streams.is_empty())
    }
}

pub(super) fn host_of(origin: &Origin) -> Option<String> {
    match origin {
        Origin::Url(url) | Origin::Pictures { url, .. } => Some(url.host().to_owned()),
        Origin::Listen(_) => None,
    }
}

/// What a stream's figures tell of what it takes; what they do not tell stays as it was known.
fn facts(key: FeedKey, figures: &Figures, before: Option<&StreamFacts>) -> Option<StreamFacts> {
    let size = figures.size?;
    let known = before.map_or_else(|| usual(key.role), |before| before.candidate);
    let rate = figures.declared.map(FrameRate::per_second).or(figures.sent).unwrap_or(known.rate);
    let bitrate = figures.bitrate_10s.or(figures.declared_bitrate).filter(|bits| bits.0 > 0.0);
    let measured = bitrate.is_some() || before.is_some_and(|before| before.measured);
    let bitrate = bitrate.unwrap_or(known.bitrate);
    // In steps, so that a plan does not move with every frame.
    let step = |bits: f64| if measured && bits > 0.0 { 1.1f64.powf((bits.ln() / 1.1f64.ln()).ceil()) } else { bits };
    Some(StreamFacts { candidate: Candidate { role: key.role, size, rate, bitrate: BitsPerSecond(step(bitrate.0)) }, measured })
}

/// Why a tile shows what it shows, in words.
pub fn reason(choice: lattice_core::plan::Choice) -> String {
    let word = |role: Role| role.word();
    match choice.reason {
        Reason::Held => "held by the operator".into(),
        Reason::HoldImpossible(role, short) => format!("{} is held, but {} is short", word(role), short.word()),
        Reason::Only => "the only stream that is known".into(),
        Reason::Enough(heavier, share) => {
            let digits = usize::from(share < 0.1);
            format!("the tile shows {:.digits$} % of {}'s pixels", share * 100.0, word(heavier))
        }
        Reason::NoRoom(heavier, short) => format!("{} would look better, but {} is short", word(heavier), short.word()),
        Reason::Waits(heavier) => format!("{} has room: taken when it has had for 10 s", word(heavier)),
        Reason::Best => "the finest there is".into(),
        Reason::Nothing(short) => short_words(short),
    }
}

/// Whether a budget is short, for the plate.
pub fn short_words(short: Short) -> String {
    let what = if short == Short::Decoding { "not shown" } else { "not received" };
    format!("{what}: {} is short", short.word())
}
