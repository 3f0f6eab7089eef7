//! The handles behind a wall: receiving thread, decoders, open streams.

use crate::app::{CameraDef, FeedKey, Site};
use crossbeam_channel::{Receiver, Sender, unbounded};
use lattice_core::clock::Told;
use lattice_core::meter::{Figures, FlashStep};
use lattice_core::playout::Playout;
use lattice_core::thresholds::Thresholds;
use lattice_core::{Transport, TransportChoice};
use lattice_media::{DamageChoice, Lane, LaneEvent, Pool, TilePicture, Wanted};
use lattice_net::{Command, Runtime, Source, SourceConfig, Station, clock};
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::mpsc;

/// The newest picture of one stream; a reader that is slow misses some, never waits.
#[derive(Default)]
struct Slot(Mutex<Option<Arc<TilePicture>>>);

/// Tells the loop that there is something new; many tellings before it looks are one.
#[derive(Clone)]
pub struct Bell {
    rung: Arc<AtomicBool>,
    sender: Sender<()>,
}

impl Bell {
    /// A bell that is heard on a channel.
    pub fn new(sender: Sender<()>) -> Self {
        Self { rung: Arc::default(), sender }
    }

    fn ring(&self) {
        if !self.rung.swap(true, Ordering::AcqRel) {
            let _ = self.sender.try_send(());
        }
    }

    /// The loop looks now: the next ring counts again.
    pub fn answered(&self) {
        self.rung.store(false, Ordering::Release);
    }
}

struct Feed {
    source: Source,
    lane: Lane,
    slot: Arc<Slot>,
    stations: mpsc::Sender<Station>,
    wanted: Option<Wanted>,
    playout: Playout,
    thresholds: Thresholds,
}

/// Opens and closes streams and hands out what they give.
pub struct Engine {
    runtime: Runtime,
    pool: Pool,
    feeds: HashMap<FeedKey, Feed>,
    closing: Vec<Source>,
    site: Site,
    transport: TransportChoice,
    bell: Bell,
    choice: DamageChoice,
    told: HashMap<usize, Told>,
    /// Pictures to be kept.
    stills: (Sender<Still>, Receiver<Still>),
}

/// A picture that was asked for to be kept, and of which stream it is.
pub type Still = (FeedKey, Arc<TilePicture>);

/// A pool of decoders fit for this machine.
pub fn pool() -> Pool {
    let cores = std::thread::available_parallelism().map_or(2, std::num::NonZero::get);
    Pool::new(cores.clamp(1, 8), clock::now)
}

/// What a lane reports, as a station of the stream's meter.
pub fn station(event: LaneEvent) -> Option<Station> {
    match event {
        LaneEvent::Concealed { .. } => Some(Station::Concealed),
        LaneEvent::Decoded { number, at, damaged } => Some(Station::Decoded { number, at, damaged }),
        LaneEvent::Refused { .. } => Some(Station::Refused),
        LaneEvent::Skipped { count } => Some(Station::Skipped { count }),
        LaneEvent::Glance(glance) => Some(Station::Glance(glance)),
        LaneEvent::Light { number, at, cells } => Some(Station::Light { number, at, cells }),
        LaneEvent::Picture(_) | LaneEvent::Still(_) => None,
    }
}

/// A way from a source to its decoder and back: the lane, what feeds it, and where its reports
/// go once the source is there. `on_still` gets pictures that were asked for to be kept.
pub fn wire(
    pool: &Pool,
    on_picture: impl Fn(Arc<TilePicture>) + Send + Sync + 'static,
    on_still: impl Fn(Arc<TilePicture>) + Send + Sync + 'static,
) -> (Lane, lattice_net::UnitSink, StationPost) {
    let post = StationPost::default();
    let reports = post.clone();
    let lane = pool.lane(Box::new(move |event| match event {
        LaneEvent::Picture(picture) => on_picture(picture),
        LaneEvent::Still(picture) => on_still(picture),
        other => reports.send(station(other)),
    }));
    let target = lane.clone();
    let sink = Box::new(move |unit, parameters: Option<&lattice_core::video::Parameters>| {
        target.push(unit, parameters);
    });
    (lane, sink, post)
}

/// Where a lane's reports go; set once the source exists.
#[derive(Clone, Default)]
pub struct StationPost(Arc<std::sync::OnceLock<mpsc::Sender<Station>>>);

impl StationPost {
    /// From now on reports go here.
    pub fn set(&self, stations: mpsc::Sender<Station>) {
        let _ = self.0.set(stations);
    }

    fn send(&self, station: Option<Station>) {
        if let (Some(stations), Some(station)) = (self.0.get(), station) {
            let _ = stations.try_send(station); // full: the source is far behind, and its rates say so
        }
    }
}

impl Engine {
    /// An engine with nothing open.
    pub fn new(site: Site, transport: TransportChoice, bell: Bell) -> std::io::Result<Self> {
        Ok(Self {
            runtime: Runtime::start()?,
            pool: pool(),
            feeds: HashMap::new(),
            closing: Vec::new(),
            site,
            transport,
            bell,
            choice: DamageChoice::default(),
            told: HashMap::new(),
            stills: unbounded(),
        })
    }

    /// Serves texts at an address; gives it.
    ///
    /// # Errors
    /// When it cannot be listened on.
    pub fn serve_metrics(
        &self,
        address: std::net::SocketAddr,
        texts: tokio::sync::watch::Receiver<Arc<str>>,
    ) -> std::io::Result<std::net::SocketAddr> {
        lattice_net::serve_text(self.runtime.handle(), address, lattice_core::metrics::CONTENT_TYPE, texts)
    }

    /// A camera is there, or is another one now, at this place of the site.
    pub fn define(&mut self, index: usize, camera: CameraDef) {
        self.told.remove(&index);
        match self.site.cameras.get_mut(index) {
            Some(have) => *have = camera,
            None => self.site.cameras.push(camera),
        }
    }

    /// Opens a stream; one that is open stays as it is.
    pub fn open(&mut self, key: FeedKey) {
        let Some(stream) = self.site.stream(key).filter(|_| !self.feeds.contains_key(&key)) else { return };
        let (slot, bell) = (Arc::new(Slot::default()), self.bell.clone());
        let target = slot.clone();
        let on_picture = move |picture| {
            *target.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(picture);
            bell.ring();
        };
        let stills = self.stills.0.clone();
        let on_still = move |picture| drop(stills.send((key, picture)));
        let (lane, sink, post) = wire(&self.pool, on_picture, on_still);
        lane.on_damage(self.choice);
        let camera = self.site.cameras.get(key.camera);
        let own = camera.map(|camera| camera.transport).filter(|own| *own != TransportChoice::Auto).unwrap_or(self.transport);
        let transport = match key.by {
            Some(Transport::Udp) => TransportChoice::Udp,
            Some(Transport::Tcp) => TransportChoice::Tcp,
            _ => own,
        };
        let trust = camera.map_or(lattice_net::Trust::Verify, |camera| camera.trust);
        let config =
            SourceConfig { trust, key: stream.key.clone(), ..SourceConfig::from_origin(stream.origin.clone(), transport) };
        let source = Source::open(self.runtime.handle(), config, Some(sink));
        let stations = source.stations();
        post.set(stations.clone());
        if let Some(told) = self.told.get(&key.camera) {
            let _ = stations.try_send(Station::Clock(*told));
        }
        self.feeds.insert(
            key,
            Feed { source, lane, slot, stations, wanted: None, playout: Playout::AtOnce, thresholds: Thresholds::default() },
        );
    }

    /// Closes a stream politely.
    pub fn close(&mut self, key: FeedKey) {
        self.closing.retain(|source| !source.is_closed());
        if let Some(feed) = self.feeds.remove(&key) {
            feed.lane.close();
            feed.source.close();
            self.closing.push(feed.source);
        }
    }

    /// What the tile of a stream can show; `None` when it is not on the screen.
    pub fn want(&mut self, key: FeedKey, wanted: Option<Wanted>) {
        let Some(feed) = self.feeds.get_mut(&key).filter(|feed| feed.wanted != wanted) else { return };
        if feed.wanted.is_some() != wanted.is_some() {
            let _ = feed.stations.try_send(Station::Visible(wanted.is_some()));
        }
        feed.wanted = wanted;
        feed.lane.want(wanted);
    }

    /// When units of a stream go on to its decoder.
    pub fn playout(&mut self, key: FeedKey, playout: Playout) {
        let Some(feed) = self.feeds.get_mut(&key).filter(|feed| feed.playout != playout) else { return };
        if feed.stations.try_send(Station::Playout(playout)).is_ok() {
            feed.playout = playout;
        }
    }

    /// From where on the figures of a stream are a strain.
    pub fn thresholds(&mut self, key: FeedKey, thresholds: Thresholds) {
        let Some(feed) = self.feeds.get_mut(&key).filter(|feed| feed.thresholds != thresholds) else { return };
        if feed.stations.try_send(Station::Thresholds(thresholds)).is_ok() {
            feed.thresholds = thresholds;
        }
    }

    /// Asks for the next picture of a stream, within this size; it comes to [`Self::stills`] if the stream is decoded.
    pub fn ask_still(&self, key: FeedKey, most: (usize, usize)) {
        if let Some(feed) = self.feeds.get(&key) {
            feed.lane.still(most);
        }
    }

    /// Pictures that were asked for.
    pub fn stills(&self) -> Vec<Still> {
        self.stills.1.try_iter().collect()
    }

    /// A step of the flash probe of a stream; whether it was taken.
    pub fn flash(&self, key: FeedKey, step: FlashStep) -> bool {
        let Some(feed) = self.feeds.get(&key) else { return false };
        feed.lane.tell_light(matches!(step, FlashStep::Begin | FlashStep::Light { .. }));
        feed.stations.try_send(Station::Flash(step)).is_ok()
    }

    /// Open streams.
    pub fn keys(&self) -> Vec<FeedKey> {
        self.feeds.keys().copied().collect()
    }

    /// The newest picture of a stream.
    pub fn picture(&self, key: FeedKey) -> Option<Arc<TilePicture>> {
        self.feeds.get(&key)?.slot.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The newest figures of a stream.
    pub fn figures(&self, key: FeedKey) -> Option<Arc<Figures>> {
        Some(self.feeds.get(&key)?.source.figures())
    }

    /// A picture was written to the terminal.
    pub fn drawn(&self, key: FeedKey, number: u64) {
        if let Some(feed) = self.feeds.get(&key) {
            let _ = feed.stations.try_send(Station::Drawn { number, at: clock::now() });
        }
    }

    /// Tries a stream again now.
    pub fn retry(&self, key: FeedKey) {
        if let Some(feed) = self.feeds.get(&key) {
            feed.source.order(Command::Retry);
        }
    }

    /// The device of a camera told its time: its open streams learn it, and those opened from now on.
    pub fn tell_clock(&mut self, camera: usize, told: Told) {
        self.told.insert(camera, told);
        for (_, feed) in self.feeds.iter().filter(|(key, _)| key.camera == camera) {
            let _ = feed.stations.try_send(Station::Clock(told));
        }
    }

    /// What to do with damaged pictures, everywhere.
    pub fn on_damage(&mut self, choice: DamageChoice) {
        self.choice = choice;
        self.feeds.values().for_each(|feed| feed.lane.on_damage(choice));
    }

    /// Takes leave of every camera, within a second.
    pub fn shut_down(mut self) {
        for key in self.keys() {
            self.close(key);
        }
        let deadline = std::time::Instant::now() + std::time::Duration::from_millis(900);
        while self.closing.iter().any(|source| !source.is_closed()) && std::time::Instant::now() < deadline {
            std::thread::sleep(std::time::Duration::from_millis(5));
        }
    }
}
