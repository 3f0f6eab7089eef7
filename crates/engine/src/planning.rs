//! Which streams are open, and which one stands in each place of each screen: what the planner decides is carried out here.
//! A machine without handles: what is to be opened and closed comes out as [`Move`]s.

use crate::camera::{CameraId, Cameras, FeedKey, Seat};
use crate::command::Loudness;
use crate::demand::{Ask, Demand, ViewerId};
use lattice_core::meter::Figures;
use lattice_core::plan::{Budgets, Candidate, Choice, HostBudget, Load, Plan, Planner, Reason, Short, Shown, Subject};
use lattice_core::{BitsPerSecond, Cause, FrameRate, Mono, Role, Verdict};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;
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
/// The share of what this machine decodes that streams may take at first.
const MACHINE_SHARE: f64 = 0.6;
/// It grows by this while the machine is idle for so much of its time,
const SHARE_STEP: f64 = 0.05;
const IDLE: f64 = 0.2;
/// and shrinks by this where the machine proves to be too slow;
const SHARE_BACK: f64 = 0.1;
/// between these.
const SHARES: (f64, f64) = (0.3, 1.2);
/// After it was too slow it grows no more for so long.
const CAREFUL: Duration = Duration::from_secs(60);
/// Megapixels a second that may be decoded whatever was measured: one large stream is tried on any machine, and its figures
/// tell whether it is too much.
const AT_LEAST: f64 = 60.0;
/// The same for keyframes of what is beyond that.
const KEYFRAMES_SHARE: f64 = 0.3;
/// Plans are made this often, and at each key.
const PLAN_EVERY: Duration = Duration::from_millis(500);
/// What is known of a stream.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StreamFacts {
    /// What it takes.
    pub candidate: Candidate,
    /// It was measured; else it is taken for what streams of its kind usually are.
    pub measured: bool,
    /// Keyframes a second.
    pub keyframes: f64,
}

/// Until it is known how often they come.
const KEYFRAMES: f64 = 1.0;

/// Why a stream is not chosen for the time being.
#[derive(Debug, Clone, Copy)]
struct Barred {
    until: Mono,
    heavy: bool,
    /// How long it was barred the last time.
    wait: Duration,
}

/// What follows from planning.
#[derive(Debug, Clone, PartialEq)]
pub enum Move {
    /// Open this stream.
    Open(FeedKey),
    /// Close this stream.
    Close(FeedKey),
    /// Tell the operator.
    Say(Loudness, String),
    /// Something was done about trouble of this camera, by itself.
    Done {
        /// The camera.
        camera: String,
        /// The trouble.
        cause: Cause,
        /// What was done.
        what: String,
    },
}

/// Which streams are open and why.
#[derive(Debug, Default)]
pub struct Planning {
    /// What each screen wants.
    demands: BTreeMap<ViewerId, Demand>,
    /// What stands in each place of each screen.
    seats: BTreeMap<(ViewerId, usize), Seat>,
    /// Open streams.
    open: BTreeSet<FeedKey>,
    /// Streams that are kept open for a while, and until when.
    warm: BTreeMap<FeedKey, Mono>,
    planner: Planner<CameraId>,
    facts: Arc<HashMap<FeedKey, StreamFacts>>,
    barred: HashMap<FeedKey, Barred>,
    /// Streams that give no picture now: they need no decoding.
    idle: BTreeSet<FeedKey>,
    /// Since when a stream arrives slower than it is sent.
    slow_since: HashMap<FeedKey, Mono>,
    planned: Option<Mono>,
    /// What all streams together may take.
    link: Option<BitsPerSecond>,
    /// Megapixels a second that may be decoded, as the site says.
    decoding: Option<f64>,
    /// Megapixels a second that this machine decodes, as it was measured.
    machine: Option<f64>,
    /// The share of it that is planned more or less than at first.
    more: f64,
    /// When this machine was too slow last.
    slow_at: Option<Mono>,
    plan: Arc<Planned>,
    moves: Vec<Move>,
}

/// A plan with what it is made of.
#[derive(Debug, Default, Clone)]
pub struct Planned {
    /// For each camera the index of its host, in the order of the plan.
    host_of: Vec<usize>,
    /// For each camera its places on all screens, in the order of the plan.
    pub places: Vec<Vec<(ViewerId, usize)>>,
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
    fn takes_no_more(&self, place: (ViewerId, usize)) -> bool {
        let host = self.places.iter().position(|places| places.contains(&place)).and_then(|index| self.host_of.get(index));
        let most = host.and_then(|host| self.budgets.hosts.get(*host)?.viewers);
        let planned = host.and_then(|host| self.plan.load.hosts.get(*host)).map_or(0, |(_, viewers)| *viewers);
        most.is_some_and(|most| planned >= most)
    }

    /// The choice for a place of a screen.
    #[must_use]
    pub fn choice(&self, viewer: ViewerId, place: usize) -> Option<Choice> {
        let place = (viewer, place);
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

/// What is known of a stream, of one that was never measured what is usual.
#[must_use]
pub fn stream_facts(facts: &HashMap<FeedKey, StreamFacts>, key: FeedKey) -> StreamFacts {
    facts.get(&key).copied().unwrap_or(StreamFacts { candidate: usual(key.role), measured: false, keyframes: KEYFRAMES })
}

impl Planning {
    /// Streams that are to be open.
    #[must_use]
    pub const fn open(&self) -> &BTreeSet<FeedKey> {
        &self.open
    }

    /// What stands in the places of a screen, in their order.
    #[must_use]
    pub fn seats(&self, viewer: ViewerId) -> Vec<Seat> {
        self.seats.range((viewer, 0)..=(viewer, usize::MAX)).map(|(_, seat)| *seat).collect()
    }

    /// The newest plan.
    #[must_use]
    pub const fn plan(&self) -> &Arc<Planned> {
        &self.plan
    }

    /// What is known of streams.
    #[must_use]
    pub const fn facts(&self) -> &Arc<HashMap<FeedKey, StreamFacts>> {
        &self.facts
    }

    /// What each screen wants.
    #[must_use]
    pub const fn demands(&self) -> &BTreeMap<ViewerId, Demand> {
        &self.demands
    }

    /// The site's budgets: of the link, and of decoding in megapixels a second.
    pub const fn set_budgets(&mut self, link: Option<BitsPerSecond>, decoding: Option<f64>) {
        (self.link, self.decoding) = (link, decoding);
    }

    /// What this machine decodes was measured, in megapixels a second.
    pub const fn set_machine(&mut self, machine: f64) {
        self.machine = Some(machine);
    }

    /// How much of this machine is idle, from 0 to 1: what is there is used, and no more than that.
    pub fn on_idle(&mut self, now: Mono, idle: Option<f64>, figures: &HashMap<FeedKey, Arc<Figures>>) {
        let ours = |figures: &Arc<Figures>| matches!(figures.cause, Some(Cause::MachineSlow | Cause::TerminalSlow));
        let wants_more = self.seats.values().any(|seat| seat.short == Some(Short::Decoding));
        let step = if figures.values().any(ours) {
            self.slow_at = Some(now);
            -SHARE_BACK
        } else if wants_more && idle.is_some_and(|idle| idle > IDLE) && self.slow_at.is_none_or(|at| now.since(at) > CAREFUL) {
            SHARE_STEP
        } else {
            return;
        };
        self.more = (self.more + step).clamp(SHARES.0 - MACHINE_SHARE, SHARES.1 - MACHINE_SHARE);
    }

    /// A screen wants this now.
    pub fn demand(&mut self, now: Mono, cameras: &Cameras, viewer: ViewerId, demand: Demand) -> Vec<Move> {
        self.demands.insert(viewer, demand);
        self.settle(now, cameras)
    }

    /// A screen is gone.
    pub fn leave(&mut self, now: Mono, cameras: &Cameras, viewer: ViewerId) -> Vec<Move> {
        self.demands.remove(&viewer);
        self.settle(now, cameras)
    }

    /// Brings seats, plan and open streams up to what is wanted now.
    pub fn settle(&mut self, now: Mono, cameras: &Cameras) -> Vec<Move> {
        self.seat(cameras);
        self.plan_streams(now, cameras);
        self.reconcile(now, cameras);
        std::mem::take(&mut self.moves)
    }

    /// Newest figures came: switches end, what is too heavy is eased, and it is planned again when it is time.
    pub fn on_figures(
        &mut self,
        now: Mono,
        cameras: &Cameras,
        figures: &HashMap<FeedKey, Arc<Figures>>,
        has_picture: impl Fn(FeedKey) -> bool,
    ) -> Vec<Move> {
        let places: Vec<(ViewerId, usize)> = self.seats.keys().copied().collect();
        // Every one of them, not only the first.
        let ended = places.into_iter().filter(|place| self.finish_switch(now, cameras, *place, figures, &has_picture)).count();
        self.learn_facts(figures);
        if ended == 0 && self.planned.is_some_and(|at| now.since(at) < PLAN_EVERY) {
            return std::mem::take(&mut self.moves);
        }
        self.judge_weight(now, cameras, figures);
        self.settle(now, cameras)
    }

    /// The operator wants it: what was barred may be tried again.
    pub fn unbar(&mut self, camera: CameraId) {
        self.barred.retain(|key, _| key.camera != camera);
        self.planner.forget(&camera);
    }

    /// The planner climbs at once for this camera: it was enlarged, held or freed just now.
    pub fn plan_anew(&mut self, camera: CameraId) {
        self.planner.forget(&camera);
    }

    /// The open streams of a camera that is asked in another way now, or gone, are forgotten: they are to be closed.
    pub fn forget(&mut self, camera: CameraId) -> Vec<Move> {
        let of_camera = |key: &FeedKey| key.camera == camera;
        let close = self.open.iter().copied().filter(of_camera).map(Move::Close).collect();
        self.open.retain(|key| !of_camera(key));
        self.warm.retain(|key, _| !of_camera(key));
        Arc::make_mut(&mut self.facts).retain(|key, _| !of_camera(key));
        self.seats.retain(|_, seat| seat.camera != camera);
        self.unbar(camera);
        close
    }

    /// A camera that stands somewhere already keeps its stream.
    fn seat(&mut self, cameras: &Cameras) {
        let mut seats = BTreeMap::new();
        for (viewer, demand) in &self.demands {
            for ask in &demand.asks {
                let there = |seat: &&Seat| seat.camera == ask.camera && cameras.stream(seat.key()).is_some();
                let same = self.seats.get(&(*viewer, ask.place)).filter(there);
                let same = same.or_else(|| self.seats.values().find(there)).copied();
                let seat = same.map(|seat| Seat { place: ask.place, ..seat }).or_else(|| {
                    let role = cameras.first_role(ask.camera, |key| self.open.contains(&key))?;
                    Some(Seat { place: ask.place, camera: ask.camera, role, switching: None, short: None, keyframes: false })
                });
                seats.extend(seat.map(|seat| ((*viewer, ask.place), seat)));
            }
        }
        self.seats = seats;
    }

    /// A switch ends with the new stream's first picture, or with its failure; whether it did.
    fn finish_switch(
        &mut self,
        now: Mono,
        cameras: &Cameras,
        place: (ViewerId, usize),
        figures: &HashMap<FeedKey, Arc<Figures>>,
        has_picture: &impl Fn(FeedKey) -> bool,
    ) -> bool {
        let Some(seat) = self.seats.get(&place).copied() else { return false };
        let Some((next, figures)) = seat.next_key().and_then(|next| Some((next, figures.get(&next)?))) else { return false };
        if has_picture(next) && (!self.is_on_trial(next) || trial_is_passed(now, figures)) {
            self.seats.insert(place, Seat { role: next.role, switching: None, ..seat });
            return true;
        }
        let failed = matches!(figures.verdict, Verdict::Lost | Verdict::Locked)
            || (figures.verdict == Verdict::Stalled && figures.cause == Some(Cause::UnknownCodec));
        if !failed {
            return false;
        }
        let why = figures.text.clone().or(figures.cause.map(|cause| cause.to_string())).unwrap_or_default();
        let name = cameras.name(seat.camera);
        let text = format!("{name}: staying on {}, {} failed: {why}", seat.role.word(), next.role.word());
        self.seats.insert(place, Seat { switching: None, ..seat });
        self.bar(now, cameras, next, false);
        self.moves.push(Move::Say(Loudness::Alarm, text));
        true
    }

    fn learn_facts(&mut self, figures: &HashMap<FeedKey, Arc<Figures>>) {
        self.idle = figures.iter().filter(|(_, figures)| gives_nothing(figures)).map(|(key, _)| *key).collect();
        for (key, figures) in figures {
            let known = self.facts.get(key);
            if let Some(facts) = facts(*key, figures, known).filter(|facts| known != Some(facts)) {
                Arc::make_mut(&mut self.facts).insert(*key, facts);
            }
        }
    }

    /// A stream that arrives slower than it is sent for a while is too heavy: it is eased where the planner chooses.
    fn judge_weight(&mut self, now: Mono, cameras: &Cameras, figures: &HashMap<FeedKey, Arc<Figures>>) {
        let mut heavy = Vec::new();
        for (key, figures) in figures {
            // Late is what arrives slower than it is sent, or later and later: the meter has judged it.
            if !matches!(figures.cause, Some(Cause::TooHeavy | Cause::Late)) {
                self.slow_since.remove(key);
                continue;
            }
            let since = *self.slow_since.entry(*key).or_insert(now);
            if now.since(since) >= HEAVY_AFTER {
                heavy.push(*key);
            }
        }
        heavy.sort_unstable();
        for key in heavy {
            self.slow_since.remove(&key);
            self.bar(now, cameras, key, true);
        }
        self.slow_since.retain(|key, _| self.open.contains(key));
    }

    /// A stream is not chosen for a while.
    fn bar(&mut self, now: Mono, cameras: &Cameras, key: FeedKey, heavy: bool) {
        let pixels = |role: Role| stream_facts(&self.facts, FeedKey { role, ..key }).candidate.pixels();
        let Some(def) = cameras.get(key.camera) else { return };
        if heavy && !def.streams.iter().any(|stream| pixels(stream.role) < pixels(key.role)) {
            return; // there is nothing to ease to
        }
        let before = self.barred.get(&key).filter(|before| before.heavy && heavy).map(|before| before.wait * 2);
        let wait = if heavy { before.unwrap_or(TRIAL_AFTER).min(TRIAL_AT_MOST) } else { FAILED };
        self.barred.insert(key, Barred { until: now + wait, heavy, wait });
        if heavy {
            let held = self.asks().any(|((viewer, place), ask)| {
                ask.hold == Some(key.role) && self.seats.get(&(viewer, place)).is_some_and(|seat| seat.key() == key)
            });
            let (name, role) = (def.name.clone(), key.role.word());
            let text = if held {
                format!("{name}: {role} is too heavy for the link; m shows a lighter stream")
            } else {
                format!("{name}: {role} is too heavy for the link; showing a lighter stream, next try in {} s", wait.as_secs())
            };
            let done = if held { "offered a lighter stream" } else { "showed a lighter stream" };
            let what = format!("{done}: {role} was too heavy");
            self.moves.push(Move::Done { camera: name, cause: Cause::TooHeavy, what });
            self.moves.push(Move::Say(Loudness::Alarm, text));
        }
    }

    fn asks(&self) -> impl Iterator<Item = ((ViewerId, usize), &Ask)> {
        self.demands.iter().flat_map(|(viewer, demand)| demand.asks.iter().map(|ask| ((*viewer, ask.place), ask)))
    }

    /// Whether a stream may be chosen now.
    fn may_choose(&self, now: Mono, key: FeedKey) -> bool {
        self.barred.get(&key).is_none_or(|barred| barred.until <= now)
    }

    /// Whether a stream must prove itself before it is shown: it was too heavy before.
    fn is_on_trial(&self, key: FeedKey) -> bool {
        self.barred.get(&key).is_some_and(|barred| barred.heavy)
    }

    fn candidates(&self, now: Mono, cameras: &Cameras, camera: CameraId) -> Vec<Candidate> {
        let Some(def) = cameras.get(camera) else { return Vec::new() };
        let keys = def.streams.iter().map(|stream| FeedKey::new(camera, stream.role));
        let open: Vec<FeedKey> = keys.clone().filter(|key| self.may_choose(now, *key)).collect();
        let keys = if open.is_empty() { keys.collect() } else { open }; // better one that failed than none
        let all: Vec<(FeedKey, Candidate)> =
            keys.into_iter().map(|key| (key, stream_facts(&self.facts, key).candidate)).collect();
        let least = all.iter().map(|(_, candidate)| candidate.pixels()).fold(f64::INFINITY, f64::min);
        // What gives no picture is not decoded, nor is the first stream of a camera of which nothing is known yet: its share is
        // taken when it is there.
        let is_idle = |key: &FeedKey, candidate: &Candidate| {
            self.idle.contains(key) || (!self.facts.contains_key(key) && candidate.pixels() <= least)
        };
        let rate = |key, candidate: &Candidate| if is_idle(key, candidate) { 0.0 } else { candidate.rate };
        all.iter().map(|(key, candidate)| Candidate { rate: rate(key, candidate), ..*candidate }).collect()
    }

    /// Plans what all screens show, and switches those that are to show another stream.
    fn plan_streams(&mut self, now: Mono, cameras: &Cameras) {
        self.planned = Some(now);
        let mut standing: Vec<(CameraId, Vec<(ViewerId, usize)>)> = Vec::new();
        for (place, seat) in &self.seats {
            match standing.iter_mut().find(|(camera, _)| *camera == seat.camera) {
                Some((_, places)) => places.push(*place),
                None => standing.push((seat.camera, vec![*place])),
            }
        }
        let (order, places): (Vec<CameraId>, Vec<Vec<(ViewerId, usize)>>) = standing.into_iter().unzip();
        let (names, hosts, host_of) = hosts(cameras, &order);
        let decoding = self.decoding.or_else(|| self.machine.map(|most| (most * (MACHINE_SHARE + self.more)).max(AT_LEAST)));
        let budgets = Budgets { link: self.link, decoding, hosts };
        let asks: HashMap<(ViewerId, usize), &Ask> = self.asks().collect();
        let subjects: Vec<Subject> = order
            .iter()
            .zip(&places)
            .zip(host_of.iter().copied())
            .map(|((camera, places), host)| {
                let candidates = self.candidates(now, cameras, *camera);
                let heaviest = candidates.iter().map(Candidate::pixels).fold(0.0, f64::max) as u32;
                let shown = |place: &(ViewerId, usize)| {
                    let ask = asks.get(place)?;
                    let pixels = if ask.all { ask.pixels.max(heaviest) } else { ask.pixels };
                    Some(Shown { pixels, weight: ask.weight, hold: ask.hold })
                };
                Subject { tiles: places.iter().filter_map(shown).collect(), candidates, host }
            })
            .collect();
        let plan = self.planner.plan(now, &order, &subjects, &budgets);
        let last = &self.plan;
        let roles = |planned: &Plan| -> Vec<Vec<Option<Role>>> {
            planned.choices.iter().map(|tiles| tiles.iter().map(|choice| choice.role).collect()).collect()
        };
        let changed = last.places != places || roles(&last.plan) != roles(&plan);
        let before = if changed { Some(last.plan.load.clone()) } else { last.before.clone() };
        self.plan = Arc::new(Planned { host_of, places, hosts: names, budgets, plan, before });
        for place in self.seats.keys().copied().collect::<Vec<_>>() {
            self.follow_plan(now, cameras, place);
        }
        self.share_keyframes();
    }

    /// What decoding is short for is shown by its keyframes, as far as these can be decoded besides.
    fn share_keyframes(&mut self) {
        let mut left = self.machine.map_or(AT_LEAST, |most| (most * KEYFRAMES_SHARE).max(AT_LEAST));
        let mut shown: BTreeSet<FeedKey> = BTreeSet::new();
        for seat in self.seats.values_mut() {
            let facts = stream_facts(&self.facts, seat.key());
            let cost = if shown.contains(&seat.key()) { 0.0 } else { facts.candidate.pixels() * facts.keyframes / 1e6 };
            seat.keyframes = seat.short == Some(Short::Decoding) && cost <= left;
            if seat.keyframes {
                left -= cost;
                shown.insert(seat.key());
            }
        }
    }

    /// Whether only keyframes of a stream are wanted, wherever it stands.
    #[must_use]
    pub fn keyframes_only(&self, key: FeedKey) -> bool {
        let mut seats = self.seats.values().filter(|seat| seat.key() == key || seat.next_key() == Some(key)).peekable();
        seats.peek().is_some() && seats.all(|seat| seat.key() == key && seat.keyframes)
    }

    /// Megapixels a second that may be decoded besides what screens show; without end where nothing bounds it.
    #[must_use]
    pub fn decoding_left(&self) -> f64 {
        self.plan.budgets.decoding.map_or(f64::INFINITY, |most| (most - self.plan.plan.load.decoding).max(0.0))
    }

    /// What decoding a stream takes, in megapixels a second.
    #[must_use]
    pub fn decoding_of(&self, key: FeedKey) -> f64 {
        let candidate = stream_facts(&self.facts, key).candidate;
        candidate.pixels() * candidate.rate / 1e6
    }

    fn follow_plan(&mut self, now: Mono, cameras: &Cameras, place: (ViewerId, usize)) {
        let Some(seat) = self.seats.get(&place).copied() else { return };
        let Some(choice) = self.plan.choice(place.0, place.1) else { return };
        let short = match choice.reason {
            Reason::Nothing(short) => Some(short),
            _ => None,
        };
        let now_there = if short == Some(Short::Decoding) {
            // It is received all the same, so that it is known how it is.
            let role = self.lightest(now, cameras, seat.camera).map_or(seat.role, |lightest| lightest.role);
            Seat { role, switching: None, short, ..seat }
        } else {
            match choice.role {
                Some(role) if seat.short.is_some() && short.is_none() => Seat { role, switching: None, short: None, ..seat },
                // The device takes no second viewer: the one stream ends before the other begins.
                Some(role) if role != seat.role && self.plan.takes_no_more(place) => {
                    Seat { role, switching: None, short, ..seat }
                }
                Some(role) if role != seat.role => Seat { switching: Some(role), short, ..seat },
                _ => Seat { switching: None, short, ..seat },
            }
        };
        self.seats.insert(place, now_there);
    }

    fn lightest(&self, now: Mono, cameras: &Cameras, camera: CameraId) -> Option<Candidate> {
        self.candidates(now, cameras, camera).into_iter().min_by(|a, b| a.pixels().total_cmp(&b.pixels()))
    }

    /// The streams that are to be open: those of the tiles, those that are kept warm, and of every other camera, also where
    /// nothing is left to decode it with, the lightest, so that it is known how it is.
    fn reconcile(&mut self, now: Mono, cameras: &Cameras) {
        let received = || self.seats.values().filter(|seat| seat.short.is_none());
        let mut wanted: BTreeSet<FeedKey> = received().map(Seat::key).chain(received().filter_map(Seat::next_key)).collect();
        wanted.extend(self.demands.values().flat_map(|demand| demand.open.iter().copied()));
        let is_there = |key: &FeedKey| cameras.stream(*key).is_some();
        wanted.retain(is_there);
        let mut load = self.plan.plan.load.clone();
        let link = self.plan.budgets.link;
        let elsewhere = |seat: &Seat| seat.short == Some(Short::Decoding);
        let seated: BTreeSet<CameraId> = self.seats.values().filter(|seat| !elsewhere(seat)).map(|seat| seat.camera).collect();
        for camera in cameras.iter().map(|(camera, _)| camera).filter(|camera| !seated.contains(camera)) {
            let Some(lightest) = self.lightest(now, cameras, camera) else { continue };
            if link.is_some_and(|link| load.link + lightest.bitrate.0 > link.0) {
                continue;
            }
            load.link += lightest.bitrate.0;
            wanted.insert(FeedKey::new(camera, lightest.role));
        }
        let left: Vec<FeedKey> = self.open.difference(&wanted).copied().filter(|key| self.may_choose(now, *key)).collect();
        for key in &left {
            self.warm.entry(*key).or_insert(now + WARM);
        }
        // What is kept warm must not take what others need.
        let left: BTreeSet<FeedKey> = left
            .into_iter()
            .filter(|key| {
                load.link += stream_facts(&self.facts, *key).candidate.bitrate.0;
                link.is_none_or(|link| load.link <= link.0)
            })
            .collect();
        self.warm.retain(|key, until| *until > now && left.contains(key) && is_there(key));
        wanted.extend(self.warm.keys());
        let close = self.open.difference(&wanted).copied().map(Move::Close);
        let open = wanted.difference(&self.open).copied().map(Move::Open);
        self.moves.extend(close.chain(open));
        self.open = wanted;
    }
}

/// Whether a stream gives no picture, so that there is nothing to decode.
fn gives_nothing(figures: &Figures) -> bool {
    let away = matches!(figures.verdict, Verdict::Lost | Verdict::Locked | Verdict::Resting);
    away || figures.size.is_none()
}

/// How a trial goes: the stream is shown after it went well for a while.
fn trial_is_passed(now: Mono, figures: &Figures) -> bool {
    let in_time = figures.sent.zip(figures.arrived).is_some_and(|(sent, arrived)| arrived >= sent * 0.95);
    let whole = figures.recent_loss.is_none_or(|loss| loss < 0.01);
    in_time && whole && figures.milestones.first_picture.is_some_and(|at| now.since(at) >= TRIAL)
}

/// The budgets of the hosts of these cameras, and the index of each camera's host.
fn hosts(cameras: &Cameras, order: &[CameraId]) -> (Vec<String>, Vec<HostBudget>, Vec<usize>) {
    let (mut names, mut budgets, mut of) = (Vec::new(), Vec::new(), Vec::new());
    for camera in order {
        let def = cameras.get(*camera);
        let name = def.and_then(|def| def.host()).map_or_else(|| format!("camera {}", camera.0), str::to_owned);
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
    Some(StreamFacts {
        candidate: Candidate { role: key.role, size, rate, bitrate: BitsPerSecond(step(bitrate.0)) },
        measured,
        keyframes: figures
            .keyframe_interval
            .map(|span| span.as_secs_f64())
            .filter(|every| *every > 0.0)
            .map_or(before.map_or(KEYFRAMES, |before| before.keyframes), |every| (1.0 / every * 4.0).ceil() / 4.0),
    })
}

/// Why a tile shows what it shows, in words.
#[must_use]
pub fn reason(choice: Choice) -> String {
    let word = |role: Role| role.word();
    match choice.reason {
        Reason::Held => "held by the operator".into(),
        Reason::HoldImpossible(role, short) => format!("{} is held, but {}", word(role), short.phrase()),
        Reason::Only => "the only stream that is known".into(),
        Reason::Enough(heavier, share) => {
            let digits = usize::from(share < 0.1);
            format!("the tile shows {:.digits$} % of {}'s pixels", share * 100.0, word(heavier))
        }
        Reason::NoRoom(heavier, short) => format!("{} would look better, but {}", word(heavier), short.phrase()),
        Reason::Waits(heavier) => format!("{} now fits; switches after 10 s of free room", word(heavier)),
        Reason::Best => "the finest there is".into(),
        Reason::Nothing(short) => short_words(short),
    }
}

/// Whether a budget is short, for the plate.
#[must_use]
pub fn short_words(short: Short) -> String {
    let what = if short == Short::Decoding { "not shown" } else { "not received" };
    format!("{what}: {}", short.phrase())
}
