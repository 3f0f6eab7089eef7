//! One stream, for as long as it is wanted.

use crate::buffer::Outlet;
use crate::connection::Trust;
use crate::listen::{ListenConfig, listen};
use crate::outcome::Outcome;
use crate::pictures::fetch;
use crate::play::{Play, attempt};
use crate::taps::{Tap, Taps};
use crate::{clock, connect};
use lattice_core::backoff::Backoff;
use lattice_core::clock::Told;
use lattice_core::flash::CELLS;
use lattice_core::meter::{Figures, FlashStep, Meter};
use lattice_core::playout::Playout;
use lattice_core::receiver::{Receiver, Unit};
use lattice_core::rtp::Ssrc;
use lattice_core::sight::Glance;
use lattice_core::sound::{Ear, Hear, MakeDecoder};
use lattice_core::srtp::MasterKey;
use lattice_core::thresholds::Thresholds;
use lattice_core::verdict::SessionState;
use lattice_core::video::{MAX_PIXELS, Parameters};
use lattice_core::{Cause, Mono, SourceUrl, Transport, TransportChoice};
use std::cell::Cell;
use std::sync::Arc;
use std::time::Duration;
use tokio::runtime::Handle;
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;

/// Figures are published this often, and at once when the session's state changes.
const PUBLISH_EVERY: Duration = Duration::from_millis(500);
/// Where nobody takes its pictures, this often: reading all figures costs as much as receiving.
const PUBLISH_UNSEEN_EVERY: Duration = Duration::from_secs(1);
/// While packets come, figures are published on the way; a timer of its own need not ring before this
/// much later.
pub(crate) const PUBLISH_SLACK: Duration = Duration::from_millis(250);
/// Redirects followed in a row.
const MAX_REDIRECTS: u32 = 3;

/// Where a stream comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Origin {
    /// A server that is asked for it.
    Url(SourceUrl),
    /// A port that it is pushed to.
    Listen(ListenConfig),
    /// A still that is fetched this often, or multipart JPEG that comes by itself.
    Pictures {
        /// Where.
        url: SourceUrl,
        /// How often a still is fetched.
        every: Duration,
    },
}

impl Origin {
    /// The same with the operator's choice whether its password may travel readable.
    #[must_use]
    pub fn allowing_readable(self, allowed: bool) -> Self {
        match self {
            Self::Url(url) => Self::Url(url.allowing_readable(allowed)),
            Self::Pictures { url, every } => Self::Pictures { url: url.allowing_readable(allowed), every },
            Self::Listen(listen) => Self::Listen(listen),
        }
    }
}

impl std::fmt::Display for Origin {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Url(url) | Self::Pictures { url, .. } => url.fmt(f),
            Self::Listen(listen) => {
                let address = listen.address.map_or_else(String::new, |address| address.to_string());
                write!(f, "udp://{address}:{}", listen.port)
            }
        }
    }
}

/// What to open, and how.
#[derive(Debug, Clone)]
pub struct SourceConfig {
    /// The stream.
    pub origin: Origin,
    /// Its transport.
    pub transport: TransportChoice,
    /// Whether pictures will be decoded from it.
    pub decodes: bool,
    /// How its certificate is judged, where it is asked through TLS.
    pub trust: Trust,
    /// The key of an encrypted stream, where its description brings none.
    pub key: Option<MasterKey>,
    /// Most pixels of a picture that is decoded.
    pub most_pixels: u64,
    /// Whether its sound is asked for, where it has some.
    pub sound: bool,
    /// What makes decoders of coded sound.
    pub sound_decoder: Option<MakeDecoder>,
}

impl SourceConfig {
    /// A stream to be received and decoded as it comes.
    #[must_use]
    pub const fn new(url: SourceUrl, transport: TransportChoice) -> Self {
        Self::from_origin(Origin::Url(url), transport)
    }

    /// The same from anywhere.
    #[must_use]
    pub const fn from_origin(origin: Origin, transport: TransportChoice) -> Self {
        Self {
            origin,
            transport,
            decodes: true,
            trust: Trust::Verify,
            key: None,
            most_pixels: MAX_PIXELS,
            sound: true,
            sound_decoder: None,
        }
    }
}

/// An order to a source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Command {
    /// Try again now, also where it is locked.
    Retry,
    /// End the session and the task.
    Close,
}

/// What the stations after the receiver saw.
#[derive(Debug, Clone, PartialEq)]
pub enum Station {
    /// A picture came out of the decoder.
    Decoded {
        /// Number of its access unit.
        number: u64,
        /// When.
        at: Mono,
        /// Parts are missing.
        damaged: bool,
    },
    /// The decoder refused a whole unit.
    Refused,
    /// The decoder made up parts of a whole unit.
    Concealed,
    /// The decoder ended while it worked on this stream.
    DecoderFailed {
        /// When.
        at: Mono,
        /// How, for people.
        how: String,
        /// How many other streams it served.
        others: usize,
        /// The next one can only begin with a keyframe.
        waits: bool,
    },
    /// Units were discarded before the decoder.
    Skipped {
        /// How many.
        count: u64,
    },
    /// A picture was written to the terminal.
    Drawn {
        /// Number of its access unit.
        number: u64,
        /// When.
        at: Mono,
    },
    /// The stream came onto a screen, or left all.
    Visible(bool),
    /// Its device told its time.
    Clock(Told),
    /// A unit went on to the decoder after its receive buffer.
    Released {
        /// Number of the access unit.
        number: u64,
        /// When.
        at: Mono,
    },
    /// When units go on to the decoder from now on.
    Playout(Playout),
    /// A picture was looked at.
    Glance(Arc<Glance>),
    /// The device was asked for a keyframe by its own service, at this moment.
    KeyframeAsked(Mono),
    /// From where on figures are a strain.
    Thresholds(Thresholds),
    /// A step of a flash probe.
    Flash(FlashStep),
    /// How bright a picture's places are.
    Light {
        /// Number of its access unit.
        number: u64,
        /// When it was decoded.
        at: Mono,
        /// The places.
        cells: Box<[u8; CELLS]>,
    },
}

/// Takes access units; called from the receiving task, so it must not block.
pub type UnitSink = Box<dyn FnMut(Unit, Option<&Parameters>) + Send>;

/// Before the receiving thread waits again it may nap, so that packets are read in handfuls.
const NAP: Duration = Duration::from_millis(2);
/// It does when the rest of an access unit is on its way, or when it is woken more often than this:
/// then waking costs more than reading.
const BUSY: u32 = 250;
const BUSY_OVER: Duration = Duration::from_millis(100);

#[derive(Clone, Copy)]
struct Load {
    came: bool,
    mid_unit: bool,
    since: Mono,
    wakes: u32,
    busy: bool,
}

thread_local! {
    static LOAD: Cell<Load> = const { Cell::new(Load { came: false, mid_unit: false, since: Mono::ZERO, wakes: 0, busy: false }) };
}

/// Media was read for one source; `mid_unit` when it ended within an access unit.
pub(crate) fn media_came(mid_unit: bool) {
    let load = LOAD.get();
    LOAD.set(Load { came: true, mid_unit: load.mid_unit | mid_unit, ..load });
}

/// All sources share one thread, and this runs when none of them has anything to do: one nap for all,
/// and no timer for it.
fn nap() {
    let mut load = LOAD.get();
    if !load.came {
        return;
    }
    let now = clock::now();
    load.wakes += 1;
    let span = now.since(load.since);
    if span >= BUSY_OVER {
        load.busy = f64::from(load.wakes) > f64::from(BUSY) * span.as_secs_f64();
        (load.since, load.wakes) = (now, 0);
    }
    let nap = load.mid_unit || load.busy;
    LOAD.set(Load { came: false, mid_unit: false, ..load });
    if nap {
        std::thread::sleep(NAP);
    }
}

/// The thread that receives all streams. One is enough: receiving is cheap and never waits.
pub struct Runtime {
    handle: Handle,
    stop: watch::Sender<bool>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Runtime {
    /// Starts the thread.
    ///
    /// # Errors
    /// When the system gives no thread or no event queue.
    pub fn start() -> std::io::Result<Self> {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().on_thread_park(nap).build()?;
        let handle = runtime.handle().clone();
        let (stop, mut stopped) = watch::channel(false);
        let run = move || {
            runtime.block_on(async { while !*stopped.borrow() && stopped.changed().await.is_ok() {} });
            runtime.shutdown_timeout(Duration::from_millis(500));
        };
        let thread = std::thread::Builder::new().name("receive".into()).spawn(run)?;
        Ok(Self { handle, stop, thread: Some(thread) })
    }

    /// For spawning sources.
    #[must_use]
    pub const fn handle(&self) -> &Handle {
        &self.handle
    }
}

impl Drop for Runtime {
    fn drop(&mut self) {
        let _ = self.stop.send(true);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// A stream that is being received; dropping it aborts the session without a word, [`Source::close`] takes leave.
pub struct Source {
    figures: watch::Receiver<Arc<Figures>>,
    commands: mpsc::Sender<Command>,
    stations: mpsc::Sender<Station>,
    taps: Taps,
    ear: Ear,
    task: JoinHandle<()>,
}

impl Source {
    /// Begins to receive a stream. `sink` gets its access units, if anybody wants them.
    #[must_use]
    pub fn open(runtime: &Handle, config: SourceConfig, sink: Option<UnitSink>) -> Self {
        let (figures_in, figures) = watch::channel(Arc::new(Figures::default()));
        let (commands, commands_in) = mpsc::channel(16);
        // At 60 frames/s, with two reports each, four seconds; more is discarded, and then the shown
        // and decoded rates read low, which is true of a machine that far behind.
        let (stations, stations_in) = mpsc::channel(512);
        let now = clock::now();
        let meter = Meter::new(now, clock::pair(), config.decodes);
        let mut receiver = Receiver::new(meter, Ssrc(rand::random()), sink.is_some());
        receiver.set_key(config.key.clone());
        receiver.set_limit(config.most_pixels);
        receiver.set_sound_decoder(config.sound_decoder);
        let ear = Ear::default();
        receiver.set_ear(ear.clone());
        let taps = Taps::default();
        let driver = Driver {
            config,
            receiver,
            outlet: sink.map(|sink| Outlet::new(runtime, sink, taps.clone(), stations.clone())),
            figures: figures_in,
            commands: commands_in,
            stations: stations_in,
            publish_at: now,
            backoff: Backoff::default(),
            playing_transport: None,
            without_sound: None,
            ear: ear.clone(),
        };
        Self { figures, commands, stations, taps, ear, task: runtime.spawn(driver.run()) }
    }

    /// The newest figures.
    #[must_use]
    pub fn figures(&self) -> Arc<Figures> {
        self.figures.borrow().clone()
    }

    /// Gives an order; false when it is busy with earlier ones.
    pub fn order(&self, command: Command) -> bool {
        self.commands.try_send(command).is_ok()
    }

    /// Where the decoder and the painter report.
    #[must_use]
    pub fn stations(&self) -> mpsc::Sender<Station> {
        self.stations.clone()
    }

    /// One more taker of its access units, as they come, before any receive buffer: it holds so many of them. There are none
    /// without a sink.
    #[must_use]
    pub fn tap(&self, units: usize) -> Tap {
        self.taps.open(units)
    }

    /// Who listens to its sound from now on, where it has any; nobody for `None`.
    pub fn listen(&self, hear: Option<Hear>) {
        self.ear.set(hear);
    }

    /// Ends the session politely; the task ends by itself within a second, and leaves its last figures.
    pub fn close(&self) {
        let _ = self.commands.try_send(Command::Close);
    }

    /// Whether its task has ended.
    #[must_use]
    pub fn is_closed(&self) -> bool {
        self.task.is_finished()
    }
}

impl Drop for Source {
    fn drop(&mut self) {
        if !self.commands.is_closed() && self.commands.try_send(Command::Close).is_err() {
            self.task.abort();
        }
    }
}

/// What a future comes to, or what it panicked with.
async fn caught<T>(future: impl Future<Output = T>) -> Result<T, String> {
    let mut future = std::pin::pin!(future);
    std::future::poll_fn(move |context| {
        let polled = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| future.as_mut().poll(context)));
        match polled {
            Ok(polled) => polled.map(Ok),
            Err(panic) => {
                let text = panic.downcast_ref::<String>().cloned();
                let text = text.or_else(|| panic.downcast_ref::<&str>().map(|text| (*text).to_owned()));
                std::task::Poll::Ready(Err(text.unwrap_or_default()))
            }
        }
    })
    .await
}

/// The state of a source's task.
pub(crate) struct Driver {
    pub config: SourceConfig,
    pub receiver: Receiver,
    pub outlet: Option<Outlet>,
    figures: watch::Sender<Arc<Figures>>,
    pub commands: mpsc::Receiver<Command>,
    stations: mpsc::Receiver<Station>,
    pub publish_at: Mono,
    pub backoff: Backoff,
    /// What worked last, so that a fallback to TCP is not repeated at every reconnect.
    pub playing_transport: Option<Transport>,
    /// Why its sound is not asked for again, where asking for it ended the session.
    pub without_sound: Option<String>,
    ear: Ear,
}

impl Driver {
    async fn run(mut self) {
        while let Err(panic) = caught(self.keep_playing()).await {
            if !self.begin_anew(&panic).await {
                break;
            }
        }
        self.publish(clock::now()); // the figures as they ended
    }

    /// What the other side sent was too much for this program: that ends its session and no other, and it is begun anew after a
    /// while. False when the source is closed meanwhile.
    async fn begin_anew(&mut self, panic: &str) -> bool {
        tracing::error!(origin = %self.config.origin, panic, "receiving failed");
        let now = clock::now();
        let meter = Meter::new(now, clock::pair(), self.config.decodes);
        self.receiver = Receiver::new(meter, Ssrc(rand::random()), self.outlet.is_some());
        self.receiver.set_key(self.config.key.clone());
        self.receiver.set_limit(self.config.most_pixels);
        self.receiver.set_sound_decoder(self.config.sound_decoder);
        self.receiver.set_ear(self.ear.clone());
        // Numbers of units go on: no count of them is as large as this one.
        self.receiver.count_from(now.as_micros());
        let text = "this program failed on what the camera sent: it is begun anew".to_owned();
        let until = self.fail(Cause::ProgramFailed, text);
        self.wait(until, None).await
    }

    async fn keep_playing(&mut self) {
        match self.config.origin.clone() {
            Origin::Url(url) | Origin::Pictures { url, .. } => self.keep_asking(url).await,
            Origin::Listen(config) => {
                while !matches!(listen(self, &config).await, Outcome::Closed) {
                    self.receiver.end();
                    self.set_state(SessionState::Connecting);
                }
            }
        }
    }

    /// What to knock at while the next try is waited for: where nobody opened, and not where somebody refused.
    fn door(&mut self, url: &SourceUrl) -> Option<(String, u16)> {
        let SessionState::Failed { cause, .. } = self.receiver.meter().session() else { return None };
        let shut = matches!(cause, Cause::Unreachable | Cause::PortClosed | Cause::Silence | Cause::ClosedByCamera);
        shut.then(|| (url.host().to_owned(), url.port()))
    }

    async fn keep_asking(&mut self, original: SourceUrl) {
        let mut url = original.clone();
        let mut redirects = 0;
        loop {
            self.set_state(SessionState::Connecting);
            let transport = match (self.config.transport, self.playing_transport) {
                (TransportChoice::Auto, Some(Transport::Tcp)) => TransportChoice::Tcp,
                (choice, _) => choice,
            };
            let outcome = match self.config.origin {
                Origin::Pictures { every, .. } => fetch(self, &url, every).await,
                _ => attempt(self, Play { url: url.clone(), transport, trust: self.config.trust }).await,
            };
            self.receiver.end();
            tracing::info!(url = %url, ?outcome, "session ended");
            let rest = match outcome {
                Outcome::Closed => return,
                Outcome::Retry => None,
                Outcome::WantsTcp => {
                    self.playing_transport = Some(Transport::Tcp);
                    continue;
                }
                Outcome::Redirect(target) if redirects < MAX_REDIRECTS => {
                    redirects += 1;
                    url = *target;
                    continue;
                }
                Outcome::Redirect(_) => Some(self.fail(Cause::NoSuchStream, "the camera redirects in a circle".into())),
                Outcome::Locked(text) => {
                    self.set_state(SessionState::Locked { text, certificate: None });
                    Some(None)
                }
                Outcome::Untrusted(text, certificate) => {
                    self.set_state(SessionState::Locked { text, certificate: Some(certificate.to_string()) });
                    Some(None)
                }
                Outcome::Failed(cause, text) => {
                    // What was answered before says nothing of another cause.
                    let meter = self.receiver.meter();
                    meter.keep_seen_of(cause);
                    Some(self.fail(cause, text))
                }
            };
            redirects = 0;
            url = original.clone();
            let door = self.door(&url);
            if let Some(until) = rest
                && !self.wait(until, door).await
            {
                return;
            }
        }
    }

    fn fail(&mut self, cause: Cause, text: String) -> Option<Mono> {
        let next_try = Some(clock::now() + self.backoff.next(rand::random()));
        self.set_state(SessionState::Failed { cause, text, next_try });
        next_try
    }

    /// Waits for the next try (forever where there is none), or until the door opens; false when the source is closed.
    pub(crate) async fn wait(&mut self, until: Option<Mono>, door: Option<(String, u16)>) -> bool {
        let opened = connect::opened(door);
        tokio::pin!(opened);
        loop {
            let now = clock::now();
            if until.is_some_and(|until| now >= until) {
                return true;
            }
            self.publish_if_due(now);
            let wake = until.map_or(self.publish_at, |until| until.min(self.publish_at));
            tokio::select! {
                command = self.commands.recv() => match command {
                    Some(Command::Retry) => {
                        self.without_sound = None;
                        return true;
                    }
                    Some(Command::Close) | None => return false,
                },
                () = &mut opened => return true,
                () = tokio::time::sleep_until(clock::instant(wake)) => {}
            }
        }
    }

    /// The session's state changed: shown at once.
    pub fn set_state(&mut self, state: SessionState) {
        let now = clock::now();
        self.receiver.meter().on_session(now, state);
        self.publish(now);
    }

    /// Takes what stations reported since.
    pub fn take_stations(&mut self) {
        while let Ok(station) = self.stations.try_recv() {
            let station = match station {
                Station::KeyframeAsked(at) => {
                    self.receiver.on_keyframe_asked(at);
                    continue;
                }
                Station::DecoderFailed { at, how, others, waits } => {
                    self.receiver.on_decoder_failed(at, &how, others, waits);
                    continue;
                }
                other => other,
            };
            let meter = self.receiver.meter();
            match station {
                Station::KeyframeAsked(_) | Station::DecoderFailed { .. } => {}
                Station::Decoded { number, at, damaged } => meter.on_decoded(number, at, damaged),
                Station::Refused => meter.on_refused(clock::now()),
                Station::Concealed => meter.on_concealed(clock::now()),
                Station::Skipped { count } => meter.on_units_skipped(count),
                Station::Drawn { number, at } => meter.on_drawn(number, at),
                Station::Visible(visible) => meter.on_visible(clock::now(), visible),
                Station::Clock(told) => meter.on_clock_told(told),
                Station::Released { number, at } => meter.on_released(number, at),
                Station::Glance(glance) => meter.on_glance(glance),
                Station::Thresholds(thresholds) => meter.set_thresholds(thresholds),
                Station::Flash(step) => meter.on_flash(clock::now(), step),
                Station::Light { number, at, cells } => meter.on_light(number, at, cells),
                Station::Playout(playout) => {
                    meter.set_playout(playout);
                    if let Some(outlet) = &self.outlet {
                        outlet.release_all();
                    }
                }
            }
        }
    }

    /// Publishes the figures when it is time.
    pub fn publish_if_due(&mut self, now: Mono) {
        if now >= self.publish_at {
            self.publish(now);
        }
    }

    fn publish(&mut self, now: Mono) {
        self.publish_at = now + if self.outlet.is_some() { PUBLISH_EVERY } else { PUBLISH_UNSEEN_EVERY };
        self.take_stations();
        self.receiver.meter().set_clocks(clock::pair());
        let figures = self.receiver.read(now);
        tracing::debug!(verdict = figures.verdict.word(), arrived = figures.arrived, shown = figures.shown, frames = ?figures.frames, "figures");
        self.figures.send_replace(Arc::new(figures));
    }
}

/// A unit to whoever wants it.
pub(crate) fn give(outlet: Option<&Outlet>, unit: Unit, parameters: Option<&Parameters>) {
    if let Some(outlet) = outlet {
        outlet.give(unit, parameters);
    }
}
