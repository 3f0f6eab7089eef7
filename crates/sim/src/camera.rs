//! One camera: what it is, what runs of it, what goes wrong with it.

use crate::device::{DeviceSpec, Imaging, ReportFault, Reports};
use crate::fault::{Fault, PictureFault, SoundFault};
use crate::head::{Aim, Head, HeadFault};
use crate::light::Light;
use crate::log::{Event, Log, Record};
use crate::pusher::push;
use crate::scene::View;
use crate::sound::SoundSpec;
use crate::video::VideoStream;
use lattice_core::Credentials;
use lattice_core::onvif::ReportKind;
use lattice_core::rtsp::DigestAlgorithm;
use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::AtomicU16;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use tokio::sync::watch;

/// Which of a camera's streams.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Role {
    /// The large one.
    Main,
    /// The light one.
    Sub,
}

impl Role {
    /// Its word, also its path.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Main => "main",
            Self::Sub => "sub",
        }
    }
}

/// One stream of a camera.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StreamSpec {
    /// Which.
    pub role: Role,
    /// Width in pixels.
    pub width: usize,
    /// Height in pixels.
    pub height: usize,
    /// Frames per second.
    pub fps: f64,
    /// Target bitrate in kbit/s.
    pub kbps: u32,
    /// From one keyframe to the next.
    pub keyframe_interval: Duration,
    /// Its channel of a recorder, from 1; 0 for a camera's own.
    pub channel: u32,
    /// The device declares it and does not give it.
    pub switched_off: bool,
}

impl StreamSpec {
    /// A stream of a camera's own, with a keyframe every two seconds.
    #[must_use]
    pub const fn new(role: Role, (width, height): (usize, usize), fps: f64, kbps: u32) -> Self {
        let keyframe_interval = Duration::from_secs(2);
        Self { role, width, height, fps, kbps, keyframe_interval, channel: 0, switched_off: false }
    }

    /// Its path.
    #[must_use]
    pub fn path(&self) -> String {
        match self.channel {
            0 => format!("/{}", self.role.word()),
            channel => format!("/ch{channel}/{}", self.role.word()),
        }
    }
}

/// How a camera wants its viewers to sign in.
#[derive(Debug, Clone)]
pub struct SignIn {
    /// Account and password.
    pub credentials: Credentials,
    /// Digest with this hash, or Basic for `None`.
    pub digest: Option<DigestAlgorithm>,
}

/// How a camera's streams are encrypted.
#[derive(Debug, Clone)]
pub struct Encryption {
    /// Master key and salt in Base64, as they stand behind `inline:`. Made up, and no secret.
    pub key: String,
    /// The description brings the key.
    pub described: bool,
}

/// Where the pictures of a camera come from. Encoding is what costs most.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pictures {
    /// An encoder of its own.
    Own,
    /// One encoder for all cameras with the same view and settings; its own while a fault changes the pictures.
    Shared,
    /// A clip that is encoded once; the times in it are those of then. Faults that change pictures do not show.
    Clip,
}

/// A camera to be started.
#[derive(Debug, Clone)]
#[allow(clippy::struct_excessive_bools, reason = "independent properties, not one state")]
pub struct CameraSpec {
    /// Its name.
    pub name: String,
    /// What it sees.
    pub view: View,
    /// Its address.
    pub address: IpAddr,
    /// Its RTSP port; 0 for any that is free.
    pub port: u16,
    /// Its streams.
    pub streams: Vec<StreamSpec>,
    /// Its sign-in.
    pub sign_in: Option<SignIn>,
    /// After this long without a request a session is ended.
    pub session_timeout: Duration,
    /// Most sessions at once.
    pub max_viewers: Option<usize>,
    /// Whether a new viewer gets a keyframe at once rather than waiting for the next.
    pub keyframe_on_join: bool,
    /// Whether it may be asked for a keyframe by RTCP, and obeys.
    pub feedback: bool,
    /// Whether sender reports are sent.
    pub sender_reports: bool,
    /// Whether UDP is offered.
    pub udp: bool,
    /// Seed of what is random in its faults.
    pub seed: u64,
    /// How far its clock is ahead, in milliseconds.
    pub clock_ahead_ms: i64,
    /// Its streams are encrypted.
    pub encryption: Option<Encryption>,
    /// What is heard beside its pictures.
    pub sound: Option<SoundSpec>,
    /// Its device service.
    pub device: Option<DeviceSpec>,
    /// Where its pictures come from.
    pub pictures: Pictures,
    /// Names of a recorder's channels.
    pub channel_names: Vec<String>,
    /// The operator's screen, where it looks at that.
    pub screen: Option<Light>,
    /// It stands on a head that can be steered.
    pub head: bool,
}

/// What is wrong at a moment.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Trouble {
    pub cut: bool,
    pub stalled: bool,
    pub loss: f64,
    pub delay: Option<(Duration, Duration)>,
    pub pace: f64,
    /// Bits a second that the link carries.
    pub throttle: Option<f64>,
    pub picture: Option<PictureFault>,
    pub size: Option<(usize, usize)>,
    pub sound: Option<SoundFault>,
}

/// A running camera; cheap to clone.
#[derive(Clone)]
pub struct Camera {
    pub(crate) shared: Arc<Shared>,
}

pub(crate) struct Shared {
    pub spec: CameraSpec,
    /// Where it listens now: it may move.
    pub address: watch::Sender<SocketAddr>,
    pub service_port: AtomicU16,
    state: Mutex<State>,
    pub runtime: tokio::runtime::Handle,
    pub streams: Vec<Arc<VideoStream>>,
    pub faults: Arc<Faults>,
    /// What it stands on, where that can be steered.
    head: Option<Arc<Mutex<Head>>>,
    /// What its device reports.
    pub reports: Arc<Reports>,
    pub log: Log,
}

/// What can be changed while it runs.
#[derive(Debug)]
pub(crate) struct State {
    pub sign_in: Option<SignIn>,
    /// Microseconds that its clock is ahead.
    pub clock_ahead: i64,
    /// Its address is set by hand, not by DHCP.
    pub fixed_address: bool,
    /// The name that its device service tells.
    pub told_name: String,
}

impl Shared {
    pub fn new(
        spec: CameraSpec,
        address: SocketAddr,
        service_port: u16,
        streams: Vec<Arc<VideoStream>>,
        faults: Arc<Faults>,
        head: Option<Arc<Mutex<Head>>>,
        log: Log,
    ) -> Self {
        let (sign_in, clock_ahead) = (spec.sign_in.clone(), spec.clock_ahead_ms * 1000);
        let state = State { sign_in, clock_ahead, fixed_address: false, told_name: spec.name.clone() };
        let (address, service_port) = (watch::Sender::new(address), AtomicU16::new(service_port));
        let runtime = tokio::runtime::Handle::current();
        Self {
            spec,
            address,
            service_port,
            state: Mutex::new(state),
            runtime,
            streams,
            faults,
            head,
            reports: Arc::default(),
            log,
        }
    }

    /// What its device service changed.
    pub fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Its head, where it has one.
    pub fn head(&self) -> Option<MutexGuard<'_, Head>> {
        self.head.as_ref().map(|head| head.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Its channels, by number; a camera has one, of number 0.
    pub fn channels(&self) -> std::collections::BTreeSet<u32> {
        self.spec.streams.iter().map(|stream| stream.channel).collect()
    }

    /// The name of a channel of it.
    pub fn channel_name(&self, channel: u32) -> &str {
        let named = channel.checked_sub(1).and_then(|index| self.spec.channel_names.get(index as usize));
        named.unwrap_or(&self.spec.name)
    }

    /// Whether its pictures can be set by its device: those that are shared or replayed cannot.
    pub fn has_imaging(&self) -> bool {
        self.spec.pictures == Pictures::Own && self.spec.device.is_some()
    }

    /// Whether nobody has given it a password yet.
    pub fn is_first_use(&self) -> bool {
        self.is_first_use_locked(&self.state())
    }

    /// Whether it has no account yet and wants one first.
    pub fn is_first_use_locked(&self, state: &State) -> bool {
        state.sign_in.is_none() && self.spec.device.as_ref().is_some_and(|device| device.first_use)
    }
}

#[derive(Debug)]
pub(crate) struct Faults {
    active: Mutex<Vec<(Fault, Instant)>>,
    pub cuts: watch::Sender<u64>,
    imaging: Mutex<Imaging>,
}

impl Faults {
    pub fn new() -> Self {
        Self { active: Mutex::default(), cuts: watch::Sender::new(0), imaging: Mutex::default() }
    }

    /// What its pictures are set to.
    pub fn imaging(&self) -> MutexGuard<'_, Imaging> {
        self.imaging.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The trouble that it has now.
    pub fn now(&self) -> Trouble {
        let mut active = self.active.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        active.retain(|(_, until)| now < *until);
        Trouble::of(active.iter().map(|(fault, _)| fault))
    }
}

impl Trouble {
    /// Whether the pictures themselves are other than usual.
    pub fn is_in_pictures(&self) -> bool {
        self.picture.is_some() || self.size.is_some() || self.pace < 1.0
    }

    /// What these faults come to.
    pub fn of<'a>(faults: impl Iterator<Item = &'a Fault>) -> Self {
        let mut trouble = Trouble {
            cut: false,
            stalled: false,
            loss: 0.0,
            delay: None,
            pace: 1.0,
            throttle: None,
            picture: None,
            size: None,
            sound: None,
        };
        for fault in faults {
            match *fault {
                Fault::Cut { .. } => trouble.cut = true,
                Fault::Stall { .. } => trouble.stalled = true,
                Fault::Loss { share, .. } => trouble.loss = share,
                Fault::Delay { base, jitter, .. } => trouble.delay = Some((base, jitter)),
                Fault::Slow { share, .. } => trouble.pace *= share,
                Fault::Throttle { bits, .. } => trouble.throttle = Some(bits),
                Fault::Sound { how, .. } => trouble.sound = Some(how),
                Fault::Size { width, height, .. } => trouble.size = Some((width, height)),
                Fault::Picture { how, .. } => {
                    trouble.picture = Some(how);
                    trouble.pace *= if how == PictureFault::Night { 0.5 } else { 1.0 };
                }
                Fault::Move { .. } | Fault::Push { .. } | Fault::Report { .. } | Fault::Flood { .. } => {}
            }
        }
        trouble
    }
}

/// Microseconds UTC.
pub(crate) fn unix_micros() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_micros() as i64)
}

impl Camera {
    /// Its name.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.shared.spec.name
    }

    /// What it was started as.
    #[must_use]
    pub fn spec(&self) -> &CameraSpec {
        &self.shared.spec
    }

    /// Where it listens.
    #[must_use]
    pub fn address(&self) -> SocketAddr {
        *self.shared.address.borrow()
    }

    /// Where its device service listens; the port is 0 where it has none.
    #[must_use]
    pub fn service_address(&self) -> SocketAddr {
        SocketAddr::new(self.address().ip(), self.shared.service_port())
    }

    /// The address of one of its streams, with the sign-in it wants: a stand-in's password is no secret.
    #[must_use]
    pub fn url(&self, role: Role) -> String {
        let sign_in =
            self.shared.state().sign_in.as_ref().map_or(String::new(), |sign_in| {
                format!("{}:{}@", sign_in.credentials.user, sign_in.credentials.password.reveal())
            });
        let mut streams = self.shared.spec.streams.iter();
        let path = streams.find(|stream| stream.role == role).map_or_else(|| format!("/{}", role.word()), StreamSpec::path);
        format!("rtsp://{sign_in}{}{path}", self.address())
    }

    /// The address of one of its streams, of whatever channel, with the sign-in it wants.
    #[must_use]
    pub fn stream_url(&self, stream: &StreamSpec) -> String {
        let own = self.url(stream.role);
        let base = own.rsplit_once(&self.address().to_string()).map_or("", |(base, _)| base);
        format!("{base}{}{}", self.address(), stream.path())
    }

    /// Orders a fault from now on.
    pub fn inject(&self, fault: Fault) {
        let until = Instant::now() + fault.lasting();
        self.shared.faults.active.lock().unwrap_or_else(PoisonError::into_inner).push((fault, until));
        let event = Event::Fault { kind: fault.word().to_owned(), lasting_ms: fault.lasting().as_millis() as u64 };
        let name = self.name().to_owned();
        self.shared.log.write(Record { at: unix_micros(), camera: name, stream: String::new(), viewer: 0, event });
        if let Fault::Move { to } = fault {
            let port = self.address().port();
            self.shared.address.send_replace(SocketAddr::new(to, port));
        }
        if let Fault::Push { to, rtp, lasting } = fault {
            let sub = self.shared.streams.iter().find(|stream| stream.spec().role == Role::Sub).or(self.shared.streams.first());
            if let Some(stream) = sub.cloned() {
                self.shared.runtime.spawn(push(stream, self.address().ip(), to, rtp, lasting));
            }
        }
        let reports = self.shared.reports.clone();
        match fault {
            Fault::Report { kind, lasting } => {
                reports.tell(kind, true);
                self.shared.runtime.spawn(async move {
                    tokio::time::sleep(lasting).await;
                    reports.tell(kind, false);
                });
            }
            Fault::Flood { rate, lasting } => {
                self.shared.runtime.spawn(async move {
                    let (begun, mut each) =
                        (tokio::time::Instant::now(), tokio::time::interval(Duration::from_secs_f64(1.0 / rate)));
                    let mut active = true;
                    while begun.elapsed() < lasting {
                        each.tick().await;
                        reports.tell(ReportKind::Motion, active);
                        active = !active;
                    }
                    reports.tell(ReportKind::Motion, false);
                });
            }
            _ => {}
        }
        if matches!(fault, Fault::Cut { .. } | Fault::Move { .. }) {
            self.shared.faults.cuts.send_modify(|count| *count += 1);
        }
    }

    /// Its event service misbehaves so from now on.
    pub fn report_fault(&self, fault: ReportFault) {
        self.shared.reports.misbehave(fault);
    }

    /// Where its head looks; `None` where it has none.
    #[must_use]
    pub fn aim(&self) -> Option<Aim> {
        self.shared.head().map(|mut head| head.aim(Instant::now()))
    }

    /// Whether its head is told to move, or is on its way.
    #[must_use]
    pub fn is_turning(&self) -> bool {
        self.shared.head().is_some_and(|mut head| {
            head.aim(Instant::now());
            head.is_told_to_move()
        })
    }

    /// Its head misbehaves from now on.
    pub fn head_fault(&self, fault: HeadFault) {
        if let Some(mut head) = self.shared.head() {
            head.fault = fault;
        }
    }

    /// Whether one of its streams is being encoded now.
    #[must_use]
    pub fn is_encoding(&self, role: Role) -> bool {
        self.shared.streams.iter().any(|stream| stream.spec().role == role && stream.is_running())
    }
}
