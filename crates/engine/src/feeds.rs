//! The open streams: each with its session, its decoder, its newest picture, and whoever takes its units.
//!
//! There is one way to open a stream, [`Feed::open`]: for a wall, a measurement, a reach check and a device's page alike.

use crate::camera::{CameraId, Cameras, FeedKey};
use crate::motion::{MotionTap, Motions};
use crossbeam_channel::{Receiver, Sender, unbounded};
use lattice_core::adjust::Toned;
use lattice_core::clock::Told;
use lattice_core::meter::{Figures, FlashStep};
use lattice_core::playout::Playout;
use lattice_core::sound::{Hear, Voice};
use lattice_core::steer::Movement;
use lattice_core::thresholds::Thresholds;
use lattice_core::video::MAX_PIXELS;
use lattice_core::{Transport, TransportChoice};
use lattice_media::{DamageChoice, Lane, LaneEvent, Pool, Print, TilePicture, Wanted};
use lattice_net::{Command, Origin, Runtime, Source, SourceConfig, Station, Tap, clock};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, Instant};
use tokio::sync::mpsc;

/// Tells a screen that there is something new; many tellings before it looks are one.
#[derive(Clone)]
pub struct Bell {
    rung: Arc<AtomicBool>,
    sender: Sender<()>,
}

impl Bell {
    /// A bell that is heard on a channel.
    #[must_use]
    pub fn new(sender: Sender<()>) -> Self {
        Self { rung: Arc::default(), sender }
    }

    /// There is something new.
    pub fn ring(&self) {
        if !self.rung.swap(true, Ordering::AcqRel) {
            let _ = self.sender.try_send(());
        }
    }

    /// Whoever hears it looks now: the next ring counts again.
    pub fn answered(&self) {
        self.rung.store(false, Ordering::Release);
    }
}

/// The bells of all screens.
#[derive(Clone, Default)]
pub(crate) struct Bells(Arc<RwLock<Vec<Bell>>>);

impl Bells {
    /// One more bell.
    pub fn add(&self, bell: Bell) {
        self.0.write().unwrap_or_else(PoisonError::into_inner).push(bell);
    }

    /// Rings all.
    pub fn ring(&self) {
        self.0.read().unwrap_or_else(PoisonError::into_inner).iter().for_each(Bell::ring);
    }
}

/// Where a stream's pictures can be had, and where it is told that one was drawn; cheap to clone.
#[derive(Clone)]
pub struct Output {
    newest: Arc<Mutex<Newest>>,
    stations: mpsc::Sender<Station>,
}

/// The newest pictures of a stream.
#[derive(Default)]
struct Newest {
    /// Of all prints; the whole picture goes before others of the same unit.
    picture: Option<Arc<TilePicture>>,
    /// Those that do not show the whole picture, by their print.
    prints: BTreeMap<u64, Arc<TilePicture>>,
    /// How its levels are spread, before and after it was adjusted.
    tones: Option<Arc<Toned>>,
    /// How much moves at each place, where that is watched.
    activity: Option<Arc<[u8]>>,
}

impl Newest {
    fn take(&mut self, print: u64, picture: Arc<TilePicture>) {
        if print == Print::WATCHED {
            return;
        }
        if print == Print::WHOLE || self.picture.as_ref().is_none_or(|before| before.number != picture.number) {
            self.picture = Some(picture.clone());
        }
        if print != Print::WHOLE {
            self.prints.insert(print, picture);
        }
    }
}

impl Output {
    fn locked(&self) -> std::sync::MutexGuard<'_, Newest> {
        self.newest.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The newest picture, as a rule the whole; `None` before the first.
    #[must_use]
    pub fn newest(&self) -> Option<Arc<TilePicture>> {
        self.locked().picture.clone()
    }

    /// The newest picture of a print that does not show the whole; `None` before the first.
    #[must_use]
    pub fn print(&self, print: u64) -> Option<Arc<TilePicture>> {
        self.locked().prints.get(&print).cloned()
    }

    /// How the levels of the newest picture are spread, before and after it was adjusted, while that is asked for.
    #[must_use]
    pub fn tones(&self) -> Option<Arc<Toned>> {
        self.locked().tones.clone()
    }

    /// How much moved of late at each place of [`lattice_core::motion`], from 0 to 254, and [`crate::ALWAYS`]; `None` where it is not
    /// watched.
    #[must_use]
    pub fn activity(&self) -> Option<Arc<[u8]>> {
        self.locked().activity.clone()
    }

    /// A picture was written to a terminal, at this time.
    pub fn drawn(&self, number: u64, at: lattice_core::Mono) {
        let _ = self.stations.try_send(Station::Drawn { number, at }); // full: the shown rate reads low, as it is
    }
}

impl std::fmt::Debug for Output {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Output").finish_non_exhaustive()
    }
}

/// A picture of the size of a small tile is made of every frame, as on a wall.
pub const SMALL_TILE: Wanted = Wanted {
    width: 160,
    height: 90,
    pixel_aspect: 1.0,
    step: (1, 1),
    aspect: lattice_core::lattice::Aspect::Fit,
    enlarge: true,
    keyframes_only: false,
};

/// Where pictures are decoded.
#[derive(Debug, Clone, Default)]
pub enum Decode {
    /// In this process.
    #[default]
    Inside,
    /// In processes of their own, which have no network, no files and no secrets.
    #[cfg(target_os = "linux")]
    Outside(lattice_media::Program),
}

/// A pool of decoders fit for this machine.
#[must_use]
pub fn pool(decode: &Decode) -> Pool {
    let cores = std::thread::available_parallelism().map_or(2, std::num::NonZero::get).clamp(1, 8);
    match decode {
        Decode::Inside => Pool::new(cores, clock::now),
        #[cfg(target_os = "linux")]
        Decode::Outside(program) => Pool::outside(cores, clock::now, program),
    }
}

/// What a lane reports, as a station of the stream's meter.
fn station(event: LaneEvent) -> Option<Station> {
    match event {
        LaneEvent::Concealed { .. } => Some(Station::Concealed),
        LaneEvent::Decoded { number, at, damaged } => Some(Station::Decoded { number, at, damaged }),
        LaneEvent::Refused { .. } => Some(Station::Refused),
        LaneEvent::Failed { at, ending, others, waits } => {
            Some(Station::DecoderFailed { at, how: ending.to_string(), others, waits })
        }
        LaneEvent::Skipped { count } => Some(Station::Skipped { count }),
        LaneEvent::Glance(glance) => Some(Station::Glance(glance)),
        LaneEvent::Light { number, at, cells } => Some(Station::Light { number, at, cells }),
        LaneEvent::Picture(..)
        | LaneEvent::Tones(_)
        | LaneEvent::Levels { .. }
        | LaneEvent::Still(_)
        | LaneEvent::Recalled(_) => None,
    }
}

/// Where a lane's pictures go.
pub struct Pictures {
    /// The newest picture of a print, at each.
    pub on_picture: Box<dyn Fn(u64, Arc<TilePicture>) + Send + Sync>,
    /// How its levels are spread, before and after it was adjusted.
    pub on_tones: Box<dyn Fn(Arc<Toned>) + Send + Sync>,
    /// How much moves at each place, where that is watched.
    pub on_activity: Box<dyn Fn(Arc<[u8]>) + Send + Sync>,
    /// One that was asked for to be kept.
    pub on_still: Box<dyn Fn(Arc<TilePicture>) + Send + Sync>,
    /// The last one that was received, which was asked for.
    pub on_recalled: Box<dyn Fn(Arc<TilePicture>) + Send + Sync>,
}

impl Default for Pictures {
    fn default() -> Self {
        Self {
            on_picture: Box::new(|_, _| {}),
            on_tones: Box::new(|_| {}),
            on_activity: Box::new(|_| {}),
            on_still: Box::new(|_| {}),
            on_recalled: Box::new(|_| {}),
        }
    }
}

/// A stream that is received, and decoded where somebody looks.
pub struct Feed {
    source: Source,
    lane: Option<Lane>,
    movement: Arc<Mutex<Movement>>,
    motion: Arc<Mutex<Option<MotionTap>>>,
    stations: mpsc::Sender<Station>,
    prints: Vec<Print>,
    playout: Playout,
    thresholds: Thresholds,
    heard: Option<Voice>,
}

impl Feed {
    /// Opens a stream. Without a pool of decoders it is received and measured only.
    #[must_use]
    pub fn open(runtime: &tokio::runtime::Handle, pool: Option<&Pool>, config: SourceConfig, pictures: Pictures) -> Self {
        let config = SourceConfig { decodes: pool.is_some(), sound_decoder: Some(lattice_media::sound_decoder), ..config };
        // The lane reports to a source that is made after it.
        let post: Arc<std::sync::OnceLock<mpsc::Sender<Station>>> = Arc::default();
        let reports = post.clone();
        let movement: Arc<Mutex<Movement>> = Arc::default();
        let seen = movement.clone();
        let motion: Arc<Mutex<Option<MotionTap>>> = Arc::default();
        let watched = motion.clone();
        let lane = pool.map(|pool| {
            pool.lane(Box::new(move |event| match event {
                LaneEvent::Picture(print, picture) => (pictures.on_picture)(print, picture),
                LaneEvent::Tones(tones) => (pictures.on_tones)(tones),
                LaneEvent::Still(picture) => (pictures.on_still)(picture),
                LaneEvent::Recalled(picture) => (pictures.on_recalled)(picture),
                LaneEvent::Levels { at, cells } => {
                    let tap = watched.lock().unwrap_or_else(PoisonError::into_inner).clone();
                    if let Some(tap) = tap {
                        (pictures.on_activity)(tap.see(at, &cells));
                    }
                }
                other => {
                    if let LaneEvent::Light { at, cells, .. } = &other {
                        seen.lock().unwrap_or_else(PoisonError::into_inner).see(*at, cells);
                    }
                    if let (Some(stations), Some(station)) = (reports.get(), station(other)) {
                        let _ = stations.try_send(station); // full: the source is far behind, and its rates say so
                    }
                }
            }))
        });
        let sink = lane.clone().map(|lane| -> lattice_net::UnitSink {
            Box::new(move |unit, parameters: Option<&lattice_core::video::Parameters>| lane.push(unit, parameters))
        });
        let source = Source::open(runtime, config, sink);
        let stations = source.stations();
        let _ = post.set(stations.clone());
        let (prints, playout, thresholds) = (Vec::new(), Playout::AtOnce, Thresholds::default());
        Self { source, lane, movement, motion, stations, prints, playout, thresholds, heard: None }
    }

    /// What the largest tile of it can show from now on; `None` when it is on no screen.
    pub fn want(&mut self, wanted: Option<Wanted>) {
        self.want_prints(wanted.into_iter().map(Print::whole).collect());
    }

    /// What is made of each picture from now on; nothing when it is on no screen.
    pub fn want_prints(&mut self, prints: Vec<Print>) {
        if self.prints == prints {
            return;
        }
        // Of keyframes alone no shown rate is told.
        let seen = |print: &Print| !print.wanted.keyframes_only && print.id != Print::WATCHED;
        let visible = |prints: &[Print]| prints.iter().any(seen);
        if visible(&self.prints) != visible(&prints) {
            let _ = self.stations.try_send(Station::Visible(visible(&prints)));
        }
        self.prints.clone_from(&prints);
        if let Some(lane) = &self.lane {
            lane.want_prints(prints);
        }
    }

    /// Where the levels of its pictures go from now on, for motion.
    fn watch_motion(&self, tap: Option<MotionTap>) {
        if let Some(lane) = &self.lane {
            lane.tell_levels(tap.is_some());
        }
        *self.motion.lock().unwrap_or_else(PoisonError::into_inner) = tap;
    }

    /// Asks for the next clean picture, scaled down where it is larger than this; it comes where the feed's stills go, once.
    pub fn ask_still(&self, most: (usize, usize)) {
        if let Some(lane) = &self.lane {
            lane.still(most);
        }
    }

    /// When units go on to the decoder.
    fn play_out(&mut self, playout: Playout) {
        if self.playout != playout && self.stations.try_send(Station::Playout(playout)).is_ok() {
            self.playout = playout;
        }
    }

    /// From where on its figures are a strain.
    fn set_thresholds(&mut self, thresholds: Thresholds) {
        if self.thresholds != thresholds && self.stations.try_send(Station::Thresholds(thresholds)).is_ok() {
            self.thresholds = thresholds;
        }
    }

    /// Which voice its sound has from now on; none where nobody listens.
    fn hear(&mut self, voice: Option<&Voice>) {
        let same = match (&self.heard, voice) {
            (Some(before), Some(now)) => before.is(now),
            (before, now) => before.is_none() && now.is_none(),
        };
        if !same {
            self.heard = voice.cloned();
            let hear = voice.cloned().map(|voice| -> Hear { Box::new(move |heard| voice.push(heard)) });
            self.source.listen(hear);
        }
    }

    /// The newest figures.
    #[must_use]
    pub fn figures(&self) -> Arc<Figures> {
        self.source.figures()
    }

    /// One more taker of its access units, as they come; it holds so many of them.
    #[must_use]
    pub fn tap(&self, units: usize) -> Tap {
        self.source.tap(units)
    }

    /// Takes leave of the camera; the session ends by itself within a second.
    pub fn close(&self) {
        if let Some(lane) = &self.lane {
            lane.close();
        }
        self.source.close();
    }

    /// Whether its session has ended.
    #[must_use]
    pub fn is_closed(&self) -> bool {
        self.source.is_closed()
    }
}

/// Waits until all of these are closed, and no longer than this.
pub fn wait_until_closed(feeds: &[Feed], within: Duration) {
    let deadline = Instant::now() + within;
    while feeds.iter().any(|feed| !feed.is_closed()) && Instant::now() < deadline {
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// How long a clean picture is held after a loss, where the site does not say.
pub(crate) const HOLD: Duration = Duration::from_secs(1);

/// A picture that was asked for to be kept, and of which stream it is.
pub(crate) type Still = (FeedKey, Arc<TilePicture>);

/// All streams of the site that are open.
pub(crate) struct Feeds {
    runtime: Runtime,
    pool: Pool,
    open: BTreeMap<FeedKey, (Feed, Output)>,
    closing: Vec<Feed>,
    transport: TransportChoice,
    bells: Bells,
    choice: DamageChoice,
    most_pixels: u64,
    hold: Duration,
    told: HashMap<CameraId, Told>,
    stills: (Sender<Still>, Receiver<Still>),
    recalled: (Sender<Still>, Receiver<Still>),
}

impl Feeds {
    /// Nothing open.
    ///
    /// # Errors
    /// When the system gives no thread or no event queue.
    pub fn new(transport: TransportChoice, decode: &Decode, bells: Bells) -> std::io::Result<Self> {
        Ok(Self {
            runtime: Runtime::start()?,
            pool: pool(decode),
            open: BTreeMap::new(),
            closing: Vec::new(),
            transport,
            bells,
            choice: DamageChoice::default(),
            most_pixels: MAX_PIXELS,
            hold: HOLD,
            told: HashMap::new(),
            stills: unbounded(),
            recalled: unbounded(),
        })
    }

    /// Most pixels of a picture that is decoded, for streams that are opened from now on.
    pub const fn set_most_pixels(&mut self, pixels: u64) {
        self.most_pixels = pixels;
    }

    /// How long a clean picture is held after a loss.
    pub fn set_hold(&mut self, hold: Duration) {
        self.hold = hold;
        self.open.values().filter_map(|(feed, _)| feed.lane.as_ref()).for_each(|lane| lane.hold_for(hold));
    }

    /// Opens a stream; one that is open stays as it is.
    pub fn open(&mut self, key: FeedKey, cameras: &Cameras) {
        let Some((camera, stream)) = cameras.get(key.camera).zip(cameras.stream(key)) else { return };
        if self.open.contains_key(&key) {
            return;
        }
        let own = Some(camera.transport).filter(|own| *own != TransportChoice::Auto).unwrap_or(self.transport);
        let transport = match key.by {
            Some(Transport::Udp) => TransportChoice::Udp,
            Some(Transport::Tcp) => TransportChoice::Tcp,
            _ => own,
        };
        let newest: Arc<Mutex<Newest>> = Arc::default();
        let (slot, tones, moves, bells) = (newest.clone(), newest.clone(), newest.clone(), self.bells.clone());
        let (stills, recalled) = (self.stills.0.clone(), self.recalled.0.clone());
        let pictures = Pictures {
            on_picture: Box::new(move |print, picture| {
                slot.lock().unwrap_or_else(PoisonError::into_inner).take(print, picture);
                bells.ring();
            }),
            on_tones: Box::new(move |told| {
                tones.lock().unwrap_or_else(PoisonError::into_inner).tones = Some(told);
            }),
            on_activity: Box::new(move |activity| {
                moves.lock().unwrap_or_else(PoisonError::into_inner).activity = Some(activity);
            }),
            on_still: Box::new(move |picture| drop(stills.send((key, picture)))),
            on_recalled: Box::new(move |picture| drop(recalled.send((key, picture)))),
        };
        let origin: Origin = stream.origin.clone();
        let config = SourceConfig {
            trust: camera.trust,
            key: stream.key.clone(),
            most_pixels: self.most_pixels,
            sound: camera.sound,
            ..SourceConfig::from_origin(origin, transport)
        };
        let feed = Feed::open(self.runtime.handle(), Some(&self.pool), config, pictures);
        if let Some(lane) = &feed.lane {
            lane.on_damage(self.choice);
            lane.hold_for(self.hold);
        }
        if let Some(told) = self.told.get(&key.camera) {
            let _ = feed.stations.try_send(Station::Clock(*told));
        }
        let output = Output { newest, stations: feed.stations.clone() };
        self.open.insert(key, (feed, output));
    }

    /// Closes a stream politely.
    pub fn close(&mut self, key: FeedKey) {
        self.closing.retain(|feed| !feed.is_closed());
        if let Some((feed, _)) = self.open.remove(&key) {
            feed.close();
            self.closing.push(feed);
        }
    }

    /// Open streams with their newest figures.
    pub fn figures(&self) -> HashMap<FeedKey, Arc<Figures>> {
        self.open.iter().map(|(key, (feed, _))| (*key, feed.figures())).collect()
    }

    /// Where the pictures of open streams are had.
    pub fn outputs(&self) -> Arc<BTreeMap<FeedKey, Output>> {
        Arc::new(self.open.iter().map(|(key, (_, output))| (*key, output.clone())).collect())
    }

    /// Whether a stream has a picture.
    pub fn has_picture(&self, key: FeedKey) -> bool {
        self.open.get(&key).is_some_and(|(_, output)| output.newest().is_some())
    }

    /// What screens show of each stream, and when its units go on to its decoder.
    pub fn want(&mut self, wanted: impl Fn(FeedKey) -> (Vec<Print>, Playout, Thresholds)) {
        for (key, (feed, output)) in &mut self.open {
            let (prints, playout, thresholds) = wanted(*key);
            feed.play_out(playout);
            feed.set_thresholds(thresholds);
            output.locked().prints.retain(|id, _| prints.iter().any(|print| print.id == *id));
            feed.want_prints(prints);
        }
    }

    /// The open streams of a camera.
    pub fn open_of(&self, camera: CameraId) -> impl Iterator<Item = FeedKey> {
        self.open.keys().copied().filter(move |key| key.camera == camera && key.by.is_none())
    }

    /// By which streams motion is watched from now on.
    pub fn watch_motion(&self, motions: &Motions) {
        for (key, (feed, output)) in &self.open {
            let tap = motions.tap(*key);
            if tap.is_none() {
                output.locked().activity = None;
            }
            feed.watch_motion(tap);
        }
    }

    /// Which voice the sound of each stream has.
    pub fn hear<'a>(&mut self, voice: impl Fn(FeedKey) -> Option<&'a Voice>) {
        self.open.iter_mut().for_each(|(key, (feed, _))| feed.hear(voice(*key)));
    }

    /// Whether to tell how the levels of a camera's pictures are spread.
    pub fn tell_tones(&self, camera: CameraId, wanted: bool) {
        for (_, (feed, output)) in self.open.iter().filter(|(key, _)| key.camera == camera) {
            feed.lane.iter().for_each(|lane| lane.tell_tones(wanted));
            output.locked().tones = None;
        }
    }

    /// Asks for the next picture of a stream, within this size; it comes to [`Self::stills`] if the stream is decoded.
    pub fn ask_still(&self, key: FeedKey, most: (usize, usize)) {
        if let Some(lane) = self.open.get(&key).and_then(|(feed, _)| feed.lane.as_ref()) {
            lane.still(most);
        }
    }

    /// Pictures that were asked for.
    pub fn stills(&self) -> Vec<Still> {
        self.stills.1.try_iter().collect()
    }

    /// Asks for the last picture that a stream brought, within this size, whether it is decoded or not; it comes to
    /// [`Self::recalled`] if anything whole was received.
    pub fn recall(&self, key: FeedKey, most: (usize, usize)) {
        if let Some(lane) = self.open.get(&key).and_then(|(feed, _)| feed.lane.as_ref()) {
            lane.recall(most);
        }
    }

    /// Last pictures that were asked for.
    pub fn recalled(&self) -> Vec<Still> {
        self.recalled.1.try_iter().collect()
    }

    /// A step of the flash probe of a stream.
    pub fn flash(&self, key: FeedKey, step: FlashStep) {
        let Some((feed, _)) = self.open.get(&key) else { return };
        if let Some(lane) = &feed.lane {
            lane.tell_light(matches!(step, FlashStep::Begin | FlashStep::Light { .. }));
        }
        let _ = feed.stations.try_send(Station::Flash(step));
    }

    /// Whether to watch how pictures of a camera move; gives what watches them, of the stream that is decoded.
    pub fn watch_movement(&self, camera: CameraId, wanted: bool) -> Option<Arc<Mutex<Movement>>> {
        let of_camera = self.open.iter().filter(|(key, _)| key.camera == camera);
        let mut decoded =
            of_camera.filter(|(_, (feed, _))| !feed.prints.is_empty() || !wanted).map(|(_, (feed, _))| feed).peekable();
        let first = decoded.peek().map(|feed| feed.movement.clone());
        decoded.filter_map(|feed| feed.lane.as_ref()).for_each(|lane| lane.tell_light(wanted));
        first
    }

    /// Tries a stream again now.
    pub fn retry(&self, key: FeedKey) {
        if let Some((feed, _)) = self.open.get(&key) {
            feed.source.order(Command::Retry);
        }
    }

    /// The device of a stream was asked for a keyframe.
    pub fn on_keyframe_asked(&self, key: FeedKey) {
        if let Some((feed, _)) = self.open.get(&key) {
            let _ = feed.stations.try_send(Station::KeyframeAsked(clock::now()));
        }
    }

    /// One more taker of a stream's access units; `None` where it is not open.
    pub fn tap(&self, key: FeedKey, units: usize) -> Option<Tap> {
        self.open.get(&key).map(|(feed, _)| feed.tap(units))
    }

    /// The device of a camera told its time: its open streams learn it, and those opened from now on.
    pub fn tell_clock(&mut self, camera: CameraId, told: Told) {
        self.told.insert(camera, told);
        for (_, (feed, _)) in self.open.iter().filter(|(key, _)| key.camera == camera) {
            let _ = feed.stations.try_send(Station::Clock(told));
        }
    }

    /// A camera is another device now: what its clock was is forgotten.
    pub fn forget_clock(&mut self, camera: CameraId) {
        self.told.remove(&camera);
    }

    /// What to do with damaged pictures, everywhere.
    pub fn on_damage(&mut self, choice: DamageChoice) {
        self.choice = choice;
        self.open.values().filter_map(|(feed, _)| feed.lane.as_ref()).for_each(|lane| lane.on_damage(choice));
    }

    /// Takes leave of every camera, within a second.
    pub fn shut_down(mut self) {
        for key in self.open.keys().copied().collect::<BTreeSet<_>>() {
            self.close(key);
        }
        wait_until_closed(&self.closing, Duration::from_millis(900));
    }
}
