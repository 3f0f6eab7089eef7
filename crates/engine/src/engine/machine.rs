//! The engine's thread: commands, jobs and a tick of its own.

use super::{Beginning, Config, Told};
use crate::around::Recalls;
use crate::buffer::own_buffer;
use crate::camera::{CameraDef, CameraId, Cameras, FeedKey};
use crate::command::{Command, Loudness, News};
use crate::demand::{ViewerId, print_of};
use crate::feeds::{Bell, Bells, Feeds, SMALL_TILE};
use crate::idle::Idle;
use crate::jobs::{Burst, Errand, Errands, JobNews, Stills};
use crate::keeper::{Keeper, KeeperNews};
use crate::keyframes::Keyframes;
use crate::listening::{Listen, Listening};
use crate::motion::Motions;
use crate::outward::Outward;
use crate::places;
use crate::planning::{Move, Planning};
use crate::reporting::Reporting;
use crate::returns::Returns;
use crate::snapshot::{Known, RecordState, Snapshot};
use crate::steering::Grip;
use crate::watch::{Moment, Watch};
use crossbeam_channel::{Receiver, Sender, select, unbounded};
use lattice_core::adjust::Adjust;
use lattice_core::meter::Figures;
use lattice_core::playout::Playout;
use lattice_core::sound::SoundState;
use lattice_media::{Print, Wanted};
use lattice_net::clock;
use lattice_store::{Order, Ordered, Screens, Showing, Site};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::watch;

/// Figures are looked at this often: a switch ends, an event is entered, no later than this after it was measured.
const TICK: Duration = Duration::from_millis(100);
/// Screens are told of new figures this often.
const FIGURES_EVERY: Duration = Duration::from_millis(500);
/// How watching for motion goes is told this often.
const MOTION_TOLD_EVERY: Duration = Duration::from_secs(1);
/// How much of this machine is idle is looked at this often.
const IDLE_EVERY: Duration = Duration::from_secs(2);
/// Readings go to the record in batches.
const KEEP_EVERY: Duration = Duration::from_secs(10);

/// Something that is done every so often.
pub(super) struct Every(Duration, Option<Instant>);

impl Every {
    /// Due at once, and then after each such span.
    pub const fn new(span: Duration) -> Self {
        Self(span, None)
    }

    /// Whether it is time again.
    pub fn is_due(&mut self) -> bool {
        let due = self.1.is_none_or(|at| at.elapsed() >= self.0);
        if due {
            self.1 = Some(Instant::now());
        }
        due
    }
}

pub(super) struct Screen {
    pub bell: Bell,
    pub news: Sender<News>,
}

/// All that the engine has.
pub(super) struct Machine {
    pub(super) now: Moment,
    pub(super) cameras: Arc<Cameras>,
    pub(super) site: Arc<Site>,
    /// Only these cameras of the site are opened.
    pub(super) only: Option<Vec<String>>,
    pub(super) feeds: Feeds,
    pub(super) planning: Planning,
    pub(super) watch: Watch,
    pub(super) figures: Arc<HashMap<FeedKey, Arc<Figures>>>,
    buffers: Arc<HashMap<FeedKey, Duration>>,
    /// Adjustments that are being tried, and from which hundredth of the width on.
    adjusting: HashMap<CameraId, (Adjust, u8)>,
    /// Adjustments that the site has, by the names of their cameras: of the others there is none.
    adjusted: HashMap<String, Adjust>,
    pub(super) known: Arc<Known>,
    pub(super) keeper: Option<Keeper>,
    not_kept: Option<String>,
    outward: Outward,
    pub(super) stills: Stills,
    pub(super) recalls: Recalls,
    pub(super) burst: Option<Burst>,
    pub(super) errands: Option<Errands>,
    /// The heads that somebody steers, by the names of their cameras.
    pub(super) hands: BTreeMap<String, Grip>,
    /// The devices that report.
    pub(super) reporting: Reporting,
    /// The cameras in whose pictures something is watched.
    pub(super) motions: Motions,
    pub(super) motion_told: Every,
    /// What the operator listens to.
    pub(super) listening: Listening,
    jobs: (Sender<JobNews>, Receiver<JobNews>),
    pub(super) screens: Option<Screens>,
    viewers: BTreeMap<ViewerId, Screen>,
    bells: Bells,
    pub(super) operator: String,
    /// Megapixels a second that this machine decodes, as soon as it was measured.
    decoding: Receiver<f64>,
    pub(super) own_addresses: Arc<Vec<String>>,
    /// What is told when the state that it speaks of is out.
    untold: Vec<(Option<ViewerId>, News)>,
    publish: watch::Sender<Arc<Snapshot>>,
    next_tick: Instant,
    /// Screens are to look at once.
    pub(super) urgent: bool,
    figures_told: Every,
    idle: (Every, Idle),
    returns: Returns,
    keyframes: Keyframes,
    kept_history: Every,
    pub(super) looked_at_file: Every,
    looked_at_screens: Every,
    pub(super) surveyed: Every,
    pub(super) kept_seen: Every,
    /// Why the site file could not be read again.
    pub(super) unread: Option<String>,
}

impl Machine {
    /// The machine of an engine, and what it knows when it begins.
    pub fn new(config: Config, publish: watch::Sender<Arc<Snapshot>>) -> anyhow::Result<(Self, Beginning)> {
        let jobs = unbounded();
        let loopback = config.loopback_only;
        let errands = config.site.map(|kept| Errands::new(kept, jobs.0.clone(), loopback, config.decode.clone())).transpose()?;
        let mut cameras = Cameras::new(config.prefer);
        for def in config.cameras {
            cameras.put(def);
        }
        let wanted = |def: &CameraDef| config.only.as_ref().is_none_or(|only| only.contains(&def.name));
        for def in errands.iter().flat_map(Errands::definitions).filter(wanted) {
            cameras.put(def);
        }
        let bells = Bells::default();
        let feeds = Feeds::new(config.transport, &config.decode, bells.clone())?;
        let outward = Outward::start(&config.outward)?;
        let mut keeper = config.record.map(|path| Keeper::start(&path, clock::pair().wall, &config.who));
        let (kept, seen, past) = keeper.as_mut().map_or_else(Default::default, |keeper| {
            (std::mem::take(&mut keeper.kept), keeper.seen, std::mem::take(&mut keeper.past))
        });
        let not_kept = keeper.as_ref().and_then(|keeper| keeper.not_kept.clone());
        let elsewhere = not_kept.is_some() && keeper.as_ref().is_some_and(|keeper| keeper.size() > 0);
        let beginning = Beginning {
            ranges: errands.as_ref().map_or_else(String::new, Errands::proposed),
            faults: if errands.is_some() { crate::kept::known_firmware_faults()? } else { Vec::new() },
            remark: keeper.as_mut().and_then(|keeper| keeper.remark.take()),
        };
        let screens = errands.as_ref().map(|errands| anyhow::Ok(Screens::new(&places::screens()?, errands.kept.file.path())));
        let known = Known { seen: errands.as_ref().map_or_else(BTreeMap::new, Errands::seen), ..Known::default() };
        let site = errands.as_ref().map(|errands| Arc::new(errands.kept.file.site().clone())).unwrap_or_default();
        let pair = clock::pair();
        let machine = Self {
            now: Moment { mono: pair.mono, utc: pair.wall },
            cameras: Arc::new(cameras),
            site,
            only: config.only,
            feeds,
            planning: Planning::default(),
            watch: Watch::new(kept, seen, past, elsewhere),
            figures: Arc::default(),
            buffers: Arc::default(),
            adjusting: HashMap::new(),
            adjusted: HashMap::new(),
            known: Arc::new(known),
            keeper,
            not_kept,
            outward,
            stills: Stills::new(config.stills),
            recalls: Recalls::default(),
            burst: None,
            errands,
            hands: BTreeMap::new(),
            reporting: Reporting::default(),
            motions: Motions::default(),
            motion_told: Every::new(MOTION_TOLD_EVERY),
            listening: Listening::new(config.speaker),
            jobs,
            screens: screens.transpose()?,
            viewers: BTreeMap::new(),
            bells,
            operator: config.operator,
            decoding: lattice_media::measure_decoding(),
            own_addresses: Arc::new(super::desk::own_addresses()),
            untold: Vec::new(),
            publish,
            next_tick: Instant::now(),
            urgent: true,
            figures_told: Every::new(FIGURES_EVERY),
            idle: (Every::new(IDLE_EVERY), Idle::default()),
            returns: Returns::default(),
            keyframes: Keyframes::default(),
            kept_history: Every::new(KEEP_EVERY),
            looked_at_file: Every::new(super::desk::LOOK_AT_FILE),
            looked_at_screens: Every::new(super::desk::LOOK_AT_SCREENS),
            surveyed: Every::new(crate::jobs::SURVEY_EVERY),
            kept_seen: Every::new(super::desk::KEEP_SEEN),
            unread: None,
        };
        Ok((machine, beginning))
    }

    /// The first streams are opened, and the first state is there.
    pub fn begin(&mut self) {
        // What was read a moment ago need not be read again.
        let _ = (self.looked_at_file.is_due(), self.kept_seen.is_due(), self.kept_history.is_due());
        self.on_site();
        self.resettle();
        self.publish();
    }

    /// Takes commands and what jobs tell, and ticks, until it is told to end.
    pub fn run(mut self, told: &Receiver<Told>) {
        loop {
            let wait = self.next_tick.saturating_duration_since(Instant::now());
            let jobs = self.jobs.1.clone();
            select! {
                recv(told) -> first => {
                    let mut next = first.ok();
                    if next.is_none() {
                        break;
                    }
                    let mut ends = false;
                    while let Some(one) = next {
                        self.tell_time();
                        ends |= self.take(one);
                        next = told.try_recv().ok();
                    }
                    if ends {
                        break;
                    }
                }
                recv(jobs) -> first => {
                    let mut next = first.ok();
                    while let Some(news) = next {
                        self.tell_time();
                        self.on_job(news);
                        next = jobs.try_recv().ok();
                    }
                }
                default(wait) => {}
            }
            if Instant::now() >= self.next_tick {
                self.tick();
                self.next_tick = Instant::now() + TICK;
            }
            self.publish();
        }
        self.end();
    }

    /// The record is written out, and everybody is taken leave of.
    fn end(mut self) {
        self.tick();
        if let Some(keeper) = self.keeper.take() {
            let (readings, missing) = self.watch.take_unkept();
            keeper.keep_history(readings, missing);
        }
        if let Some(errands) = &self.errands {
            errands.keep_seen(&self.known.seen);
        }
        if let Some(screens) = &self.screens {
            let names = self.planning.demands().values().filter_map(|demand| demand.screen.as_ref());
            names.for_each(|(name, _)| screens.leave(name));
        }
        self.feeds.shut_down();
    }

    /// The figures of open streams, by the names of their cameras.
    pub(super) fn figures(&self) -> Vec<(String, Arc<Figures>)> {
        self.figures.iter().map(|(key, figures)| (self.cameras.name(key.camera).to_owned(), figures.clone())).collect()
    }

    fn tell_time(&mut self) {
        let pair = clock::pair();
        self.now = Moment { mono: pair.mono, utc: pair.wall };
    }

    pub(super) fn say(&mut self, loudness: Loudness, text: impl Into<String>) {
        let text = text.into();
        tracing::info!(text, "said");
        self.untold.push((None, News::Say(loudness, text)));
    }

    pub(super) fn tell(&mut self, news: News) {
        self.untold.push((None, news));
    }

    /// Takes what it is told; true when it is to end.
    fn take(&mut self, told: Told) -> bool {
        match told {
            Told::Join(id, bell, news) => {
                self.bells.add(bell.clone());
                self.viewers.insert(id, Screen { bell, news });
            }
            Told::Leave(id) => {
                self.viewers.remove(&id);
                let moves = self.planning.leave(self.now.mono, &self.cameras, id);
                self.carry(moves);
            }
            Told::Look(id, demand) => {
                let moves = self.planning.demand(self.now.mono, &self.cameras, id, *demand);
                self.carry(moves);
                self.apply_wanted();
                self.urgent = true;
            }
            Told::Command(command) => {
                self.on_command(command);
                self.urgent = true;
            }
            Told::Tap(key, units, answer) => drop(answer.send(self.feeds.tap(key, units))),
            Told::End => return true,
        }
        false
    }

    fn on_command(&mut self, command: Command) {
        match command {
            Command::Retry(key) => self.feeds.retry(key),
            Command::Unbar(camera) => self.planning.unbar(camera),
            Command::PlanAnew(camera) => self.planning.plan_anew(camera),
            Command::Damage(choice) => self.feeds.on_damage(choice),
            Command::Flash(key, step) => self.feeds.flash(key, step),
            Command::Buffer(key, buffer) => self.set_buffer(key, buffer),
            Command::Entry(entry, order) => {
                let (by, at) = (self.operator.clone(), self.now.utc);
                self.on_ordered(Ordered { entry, order, by, at });
            }
            Command::Around(entry) => self.look_around_entry(entry),
            Command::Still(key) => self.keep_still(key),
            Command::Burst(key) => self.keep_burst(key),
            Command::Sheet(title, places) => self.keep_sheet(title, places),
            Command::Report(path, span) => self.report(&path, span),
            Command::Charts(title, drawing) => self.write_charts(title, drawing),
            Command::AskScreens => {
                let shows = self.showing();
                self.tell(News::Screens(shows));
            }
            Command::Send(screen, order) => self.send_to(&screen, &order),
            Command::Errand(errand) => self.run_errand(errand),
            Command::Adjust(camera, adjust) => {
                match adjust {
                    Some(adjust) => drop(self.adjusting.insert(camera, adjust)),
                    None => drop(self.adjusting.remove(&camera)),
                }
                self.apply_wanted();
            }
            Command::Tones(camera, wanted) => self.feeds.tell_tones(camera, wanted),
            Command::Listen(order) => self.listen(order),
            Command::Steer(camera, hand) => self.steer(camera, hand),
        }
    }

    /// The operator wants to hear something, or not to.
    fn listen(&mut self, order: Listen) {
        if let Listen::Toggle(camera) | Listen::Solo(camera) = order
            && !self.listening.hearing().cameras.contains_key(&camera)
            && let Some(why) = self.unheard(camera)
        {
            let name = self.cameras.name(camera).to_owned();
            return self.say(Loudness::Bright, format!("{name}: {why}"));
        }
        if let Err(why) = self.listening.listen(order) {
            self.say(Loudness::Alarm, why);
        }
        self.follow_listening();
    }

    /// Why nothing can be heard of a camera, as far as is known.
    fn unheard(&self, camera: CameraId) -> Option<&'static str> {
        let mut states = self.feeds.open_of(camera).filter_map(|key| Some(&self.figures.get(&key)?.sound.state)).peekable();
        states.peek()?;
        states.try_fold("it has no sound", |_, state| match state {
            SoundState::On | SoundState::Unknown => None,
            SoundState::Off => Some("its sound is not received: the sound page switches it on"),
            SoundState::Refused(_) => Some("it refuses to send its sound"),
            SoundState::Unread(_) => Some("its sound cannot be decoded here"),
            SoundState::None => Some("it has no sound"),
        })
    }

    fn follow_listening(&mut self) {
        if let Some(why) = self.listening.follow(&mut self.feeds, &self.figures) {
            self.say(Loudness::Alarm, why);
        }
    }

    /// Something becomes of a ledger entry: here, or where the ledger is kept.
    fn on_ordered(&mut self, ordered: Ordered) {
        if self.watch.is_elsewhere() {
            if let Some(keeper) = &self.keeper {
                keeper.leave(ordered);
                self.say(Loudness::Text, "told to the program that keeps the record");
            }
            return;
        }
        let Ordered { entry, order, by, at } = ordered;
        if let Some(told) = self.watch.on_entry(entry, order, by, at) {
            self.say(Loudness::Text, told);
        }
        self.keep_changed();
    }

    /// Another receive buffer for a stream; kept in the site where its camera is.
    fn set_buffer(&mut self, key: FeedKey, buffer: Option<Duration>) {
        let key = FeedKey { by: None, ..key };
        let name = self.cameras.name(key.camera).to_owned();
        if self.site.camera(&name).is_some_and(|camera| camera.stream(key.role).is_some()) {
            self.run_errand(Errand::Buffer(name, key.role, buffer));
        } else {
            let buffers = Arc::make_mut(&mut self.buffers);
            match buffer {
                Some(buffer) => buffers.insert(key, buffer),
                None => buffers.remove(&key),
            };
        }
        self.apply_wanted();
    }

    /// Does what planning wants.
    pub(super) fn carry(&mut self, moves: Vec<Move>) {
        for one in moves {
            self.urgent = true;
            match one {
                Move::Open(key) => self.feeds.open(key, &self.cameras),
                Move::Close(key) => self.feeds.close(key),
                Move::Say(loudness, text) => self.say(loudness, text),
                Move::Done { camera, cause, what } => self.watch.on_done(self.now, &camera, cause, what),
            }
        }
    }

    /// What is wanted did not change, what there is did.
    pub(super) fn resettle(&mut self) {
        let moves = self.planning.settle(self.now.mono, &self.cameras);
        self.carry(moves);
        self.apply_wanted();
        self.urgent = true;
    }

    /// The site is another now: its budgets.
    pub(super) fn on_site(&mut self) {
        self.planning.set_budgets(self.site.link, self.site.decoding);
        self.feeds.set_hold(self.site.hold_after_loss.unwrap_or(crate::feeds::HOLD));
        let adjusted = self.site.cameras.iter().filter(|camera| !camera.adjust.is_off());
        self.adjusted = adjusted.map(|camera| (camera.name.clone(), camera.adjust)).collect();
        self.follow_motion();
        self.follow_reports();
        self.feeds.set_most_pixels(self.site.largest_picture.map_or(lattice_core::video::MAX_PIXELS, |mega| mega * 1_000_000));
    }

    /// Tells every stream what screens show of it: the whole picture as large as the largest tile wants it, and each place that
    /// shows another view.
    pub(super) fn apply_wanted(&mut self) {
        let mut shown: HashMap<FeedKey, (Vec<Print>, Option<Playout>)> = HashMap::new();
        for (viewer, demand) in self.planning.demands() {
            for one in demand.shown.iter().filter(|one| one.wanted.width * one.wanted.height > 0) {
                let (prints, playout) = shown.entry(one.key).or_default();
                let id = print_of(*viewer, one.place, &one.view);
                let pixels = |wanted: &Wanted| wanted.width * wanted.height;
                match prints.iter_mut().find(|print| print.id == id) {
                    Some(print) if pixels(&print.wanted) >= pixels(&one.wanted) => {}
                    Some(print) => print.wanted = one.wanted,
                    None => prints.push(Print { id, view: one.view, ..Print::whole(one.wanted) }),
                }
                *playout = playout.or(one.playout);
            }
        }
        // The whole picture first: others are left out where there are too many.
        for (prints, _) in shown.values_mut() {
            prints.sort_by_key(|print| print.id);
        }
        let (cameras, site, buffers, planning) = (&self.cameras, &self.site, &self.buffers, &self.planning);
        let (adjusting, adjusted) = (&self.adjusting, &self.adjusted);
        let watched = self.motions.choose(&self.feeds, planning, |key| {
            !planning.keyframes_only(key) && shown.get(&key).is_some_and(|(prints, _)| !prints.is_empty())
        });
        self.feeds.want(|key| {
            let (mut prints, playout) = shown.get(&key).cloned().unwrap_or_default();
            let own = || adjusted.get(cameras.name(key.camera)).copied().unwrap_or_default();
            let (adjust, split) = adjusting.get(&key.camera).copied().unwrap_or_else(|| (own(), 0));
            for print in &mut prints {
                print.wanted.keyframes_only = planning.keyframes_only(key);
                (print.adjust, print.split) = (adjust, split);
            }
            if prints.is_empty() && watched.contains(&key) {
                prints.push(Print { id: Print::WATCHED, ..Print::whole(SMALL_TILE) });
            }
            let own = own_buffer(site, cameras, buffers, key).filter(|own| !own.is_zero());
            let playout = playout.unwrap_or_else(|| own.map_or(Playout::AtOnce, Playout::Buffered));
            (prints, playout, site.thresholds_of(cameras.name(key.camera), key.role))
        });
        self.feeds.watch_motion(&self.motions);
    }

    /// Where jobs tell what came of them.
    pub(super) fn job_news(&self) -> Sender<JobNews> {
        self.jobs.0.clone()
    }

    fn tick(&mut self) {
        self.tell_time();
        if let Ok(measured) = self.decoding.try_recv() {
            tracing::info!("this machine decodes {measured:.0} megapixels a second");
            self.planning.set_machine(measured);
        }
        self.figures = Arc::new(self.feeds.figures());
        if self.idle.0.is_due() {
            let idle = self.idle.1.read();
            self.planning.on_idle(self.now.mono, idle, &self.figures);
        }
        for key in self.returns.look(self.now.mono, &self.cameras, &self.site, &self.figures) {
            self.feeds.retry(key);
        }
        for key in self.keyframes.due(self.now.mono, &self.figures) {
            let name = self.cameras.name(key.camera);
            if self.errands.as_ref().is_some_and(|errands| errands.ask_keyframe(name, key.role)) {
                self.feeds.on_keyframe_asked(key);
            }
        }
        let (feeds, figures) = (&self.feeds, self.figures.clone());
        let moves = self.planning.on_figures(self.now.mono, &self.cameras, &figures, |key| feeds.has_picture(key));
        let changed = !moves.is_empty();
        self.carry(moves);
        if changed {
            self.apply_wanted();
        }
        self.watch.observe(self.now, &self.cameras, &self.site, &figures);
        self.take_motion();
        self.follow_listening();
        self.enter_reports();
        self.keep_changed();
        let (ledger, utc) = (self.watch.ledger().clone(), self.now.utc);
        self.outward.figures(&self.cameras, &self.site, &figures, || ledger.alarms(utc).count());
        self.take_keeper_news();
        self.take_stills();
        self.keep_last_pictures();
        if self.looked_at_screens.is_due() {
            self.look_at_screens();
            self.tell_hands();
        }
        self.look_around();
        if self.figures_told.is_due() {
            self.urgent = true;
        }
    }

    /// What changed of the ledger, and the readings when it is time, go to the record.
    fn keep_changed(&mut self) {
        let (changed, removed) = self.watch.take_changed();
        self.urgent |= !changed.is_empty() || !removed.is_empty();
        if self.watch.is_elsewhere() {
            return;
        }
        self.outward.entries(&changed);
        let due = self.kept_history.is_due();
        let Some(keeper) = &self.keeper else { return };
        keeper.keep(changed, removed);
        if due {
            let (readings, missing) = self.watch.take_unkept();
            keeper.keep_history(readings, missing);
        }
    }

    fn take_keeper_news(&mut self) {
        let Some(keeper) = &self.keeper else { return };
        for news in keeper.news.try_iter().collect::<Vec<_>>() {
            self.urgent = true;
            match news {
                KeeperNews::Said(Ok(text)) => self.say(Loudness::Text, text),
                KeeperNews::Said(Err(text)) => self.say(Loudness::Alarm, text),
                KeeperNews::Elsewhere(entries) => self.watch.on_elsewhere(entries),
                KeeperNews::Keeps(entries, seen) => {
                    self.watch.on_keeps(entries, seen);
                    self.not_kept = None;
                    self.say(Loudness::Bright, "the record is kept by this program from now on: the other one has ended");
                }
                KeeperNews::Ordered(ordered) => self.on_ordered(ordered),
                KeeperNews::Around(around) => self.tell(News::Around(around)),
            }
        }
    }

    /// Screens tell what they show, and take what was sent to them.
    fn look_at_screens(&mut self) {
        let Some(screens) = self.screens.clone() else { return };
        let at = self.now.utc.as_unix_micros() / 1_000_000;
        let named: Vec<(ViewerId, String, String)> = self
            .planning
            .demands()
            .iter()
            .filter_map(|(id, demand)| demand.screen.clone().map(|(name, what)| (*id, name, what)))
            .collect();
        for (id, name, what) in named {
            if let Err(error) = screens.tell(&name, &Showing { what, at }) {
                tracing::warn!(%error, "what this screen shows could not be told");
            }
            if let Some(order) = screens.take(&name) {
                self.untold.push((Some(id), News::Order(order)));
            }
        }
    }

    /// What the screens show that run.
    fn showing(&self) -> BTreeMap<String, String> {
        let Some(screens) = &self.screens else { return BTreeMap::new() };
        let now = self.now.utc.as_unix_micros() / 1_000_000;
        let shows = |screen: &lattice_store::site::Screen| Some((screen.name.clone(), screens.showing(&screen.name, now)?.what));
        self.site.screens.iter().filter_map(shows).collect()
    }

    fn send_to(&mut self, screen: &str, order: &Order) {
        let Some(screens) = &self.screens else { return };
        let what = match order {
            Order::Lattice(name) | Order::Camera(name) => name.clone(),
        };
        let runs = self.showing().contains_key(screen);
        let (loudness, text) = match screens.send(screen, order) {
            Ok(()) if runs => (Loudness::Text, format!("{what} sent to {screen}")),
            Ok(()) => (Loudness::Bright, format!("{screen} does not run now: it shows {what} when it starts")),
            Err(error) => (Loudness::Alarm, format!("{what} could not be sent to {screen}: {error}")),
        };
        self.say(loudness, text);
    }

    /// The state as it is now goes out, then what is told of it.
    fn publish(&mut self) {
        let snapshot = Snapshot {
            now: self.now,
            cameras: self.cameras.clone(),
            site: self.site.clone(),
            open: Arc::new(self.planning.open().clone()),
            outputs: self.feeds.outputs(),
            figures: self.figures.clone(),
            histories: self.watch.histories().clone(),
            seats: Arc::new(self.planning.demands().keys().map(|id| (*id, self.planning.seats(*id))).collect()),
            plan: self.planning.plan().clone(),
            facts: self.planning.facts().clone(),
            buffers: self.buffers.clone(),
            ledger: self.watch.ledger().clone(),
            known: self.known.clone(),
            hearing: self.listening.hearing().clone(),
            record: RecordState { size: self.keeper.as_ref().map_or(0, Keeper::size), not_kept: self.not_kept.clone() },
            own_addresses: self.own_addresses.clone(),
        };
        self.publish.send_replace(Arc::new(snapshot));
        let untold = std::mem::take(&mut self.untold);
        let told = !untold.is_empty();
        for (to, news) in untold {
            for (_, screen) in self.viewers.iter().filter(|(id, _)| to.is_none_or(|to| to == **id)) {
                let _ = screen.news.send(news.clone());
            }
        }
        if std::mem::take(&mut self.urgent) || told {
            self.viewers.values().for_each(|screen| screen.bell.ring());
        }
    }
}
