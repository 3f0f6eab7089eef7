//! The port as a whole.

use crate::camera::{Camera, CameraSpec, Faults, Pictures, Role, Shared, SignIn, StreamSpec};
use crate::device::DeviceSpec;
use crate::head::{Aim, Head};
use crate::light::Light;
use crate::log::Log;
use crate::scene::View;
use crate::sound::{Heard, SoundSpec};
use crate::video::{Clip, VideoStream};
use crate::{device, discovery, server};
use lattice_core::Credentials;
use lattice_core::rtsp::DigestAlgorithm;
use lattice_core::sound::Coding;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::net::TcpListener;
use tokio::task::JoinSet;

/// Why the port could not be started.
#[derive(Debug, thiserror::Error)]
pub enum PortError {
    /// An address could not be listened on.
    #[error("{camera} cannot listen on {address}: is another stand-in running? Stop it, or give another --port")]
    Listen {
        /// The camera.
        camera: String,
        /// Its address.
        address: SocketAddr,
        /// The system's reason.
        #[source]
        source: std::io::Error,
    },
}

/// Running cameras; they stop when this is dropped.
pub struct Port {
    cameras: Vec<Camera>,
    _servers: JoinSet<()>,
}

impl Port {
    /// Starts the cameras on the current tokio runtime.
    ///
    /// # Errors
    /// [`PortError::Listen`] when an address is taken.
    pub async fn start(specs: Vec<CameraSpec>, log: Log) -> Result<Self, PortError> {
        let mut servers = JoinSet::new();
        let mut cameras = Vec::new();
        clips(&specs).await;
        for spec in specs {
            let (streams, address) = listen(&spec, spec.port).await?;
            let service = match &spec.device {
                Some(device) => Some(listen(&spec, device.port).await?),
                None => None,
            };
            let faults = Arc::new(Faults::new());
            let head = spec.head.then(|| Arc::new(Mutex::new(port_head(Instant::now()))));
            let stream = |stream: &StreamSpec| Arc::new(VideoStream::new(*stream, spec.clone(), faults.clone(), head.clone()));
            let coded = spec.streams.iter().map(stream).collect();
            let service_port = service.as_ref().map_or(0, |(_, address)| address.port());
            let shared = Arc::new(Shared::new(spec.clone(), address, service_port, coded, faults, head, log.clone()));
            servers.spawn(server::serve(streams, shared.clone()));
            if let Some((listener, _)) = service {
                servers.spawn(device::serve(listener, shared.clone()));
            }
            cameras.push(Camera { shared });
        }
        let discoverable = |camera: &&Camera| camera.spec().device.as_ref().is_some_and(|device| device.discoverable);
        let found: Vec<_> = cameras.iter().filter(discoverable).map(|camera: &Camera| camera.shared.clone()).collect();
        if !found.is_empty() {
            servers.spawn(discovery::serve(found));
        }
        Ok(Self { cameras, _servers: servers })
    }

    /// The operator's screen turns light or dark: cameras that look at it see it.
    pub fn light(&self, lit: bool) {
        let screens = self.cameras.iter().filter_map(|camera| camera.spec().screen.as_ref());
        screens.for_each(|screen| screen.set(lit));
    }

    /// The cameras, in the order they were given.
    #[must_use]
    pub fn cameras(&self) -> &[Camera] {
        &self.cameras
    }
}

/// Encodes the light streams that will be replayed, before anybody can ask for them; the heavy ones when they are asked for first.
/// One that fails is told of when it is played.
async fn clips(specs: &[CameraSpec]) {
    let mut wanted: Vec<(View, StreamSpec)> = Vec::new();
    for spec in specs.iter().filter(|spec| spec.pictures == Pictures::Clip) {
        let light = spec.streams.iter().filter(|stream| stream.role != Role::Main);
        let new = light.map(|stream| (spec.view, *stream)).filter(|clip| !wanted.contains(clip));
        let new: Vec<_> = new.collect();
        wanted.extend(new);
    }
    let mut encoders = JoinSet::new();
    for (view, stream) in wanted {
        encoders.spawn_blocking(move || drop(Clip::of(view, &stream)));
    }
    while encoders.join_next().await.is_some() {}
}

async fn listen(spec: &CameraSpec, port: u16) -> Result<(TcpListener, SocketAddr), PortError> {
    let wanted = SocketAddr::new(spec.address, port);
    let error = |source| PortError::Listen { camera: spec.name.clone(), address: wanted, source };
    let listener = TcpListener::bind(wanted).await.map_err(error)?;
    let address = listener.local_addr().map_err(error)?;
    Ok((listener, address))
}

fn usual() -> Vec<StreamSpec> {
    vec![StreamSpec::new(Role::Main, (1280, 720), 25.0, 2000), StreamSpec::new(Role::Sub, (640, 360), 12.5, 400)]
}

fn sign_in(user: &str, password: &str) -> SignIn {
    let credentials = Credentials::new(user, password);
    SignIn { credentials, digest: Some(DigestAlgorithm::Md5) }
}

/// The account of the port's own cameras; made up, and no secret.
fn keeper() -> SignIn {
    sign_in("harbour", "ebb-and-flow")
}

const MAKERS: [(&str, &str, &str); 3] =
    [("Corvane", "CV-20", "4.2.0"), ("Ostrel", "Oriel 3", "1.8.5"), ("Hexmere Optic", "HX-7", "7.0.2")];

/// A camera at 127.77.0.`host`, with the service port beside the RTSP port.
fn camera(host: u8, name: &str, view: View, port: u16) -> CameraSpec {
    let (maker, model, firmware) = MAKERS[usize::from(host) % MAKERS.len()];
    CameraSpec {
        name: name.to_owned(),
        view,
        address: IpAddr::V4(Ipv4Addr::new(127, 77, 0, host)),
        port,
        streams: usual(),
        sign_in: None,
        session_timeout: Duration::from_secs(60),
        max_viewers: None,
        keyframe_on_join: true,
        feedback: false,
        sender_reports: true,
        udp: true,
        seed: u64::from(host),
        clock_ahead_ms: 0,
        encryption: None,
        sound: None,
        device: Some(DeviceSpec {
            port: if port == 0 { 0 } else { 8000 },
            maker: maker.into(),
            model: model.into(),
            firmware: firmware.into(),
            serial: format!("TH-{host:04}"),
            announced: None,
            // Those that move must be found again whatever their ports are.
            discoverable: port != 0 || host == 20,
            second_media: host.is_multiple_of(2),
            first_use: false,
        }),
        pictures: Pictures::Own,
        channel_names: Vec::new(),
        screen: None,
        head: false,
    }
}

/// A head with places of the port.
fn port_head(now: Instant) -> Head {
    let aim = |pan, tilt, zoom| Aim { pan, tilt, zoom };
    Head::new(now)
        .with_preset("Slipway", aim(0.0, -4.0, 1.5))
        .with_preset("Car lanes", aim(84.0, -6.0, 2.0))
        .with_preset("Fuel quay", aim(-92.0, -6.0, 2.0))
        .with_preset("Breakwater light", aim(33.8, 14.0, 6.0))
}

/// The camera on the head of the mast, at 127.77.1.2: it can be steered.
#[must_use]
pub fn steerable(port: u16) -> CameraSpec {
    CameraSpec {
        address: IpAddr::V4(Ipv4Addr::new(127, 77, 1, 2)),
        sign_in: Some(keeper()),
        head: true,
        ..camera(2, "Mast camera", View::AllRound, port)
    }
}

/// Two cameras on the mast that see all around, at 127.77.1.3 and on: one whose picture has every direction in its place, one that looks
/// down and shows a circle. They see the same world.
#[must_use]
pub fn all_around(port: u16) -> [CameraSpec; 2] {
    let of = |host: u8, name: &str, view: View, main: (usize, usize), sub: (usize, usize)| CameraSpec {
        address: IpAddr::V4(Ipv4Addr::new(127, 77, 1, host)),
        streams: vec![
            StreamSpec::new(Role::Main, (main.0, main.1), 12.5, 2500),
            StreamSpec::new(Role::Sub, (sub.0, sub.1), 6.25, 400),
        ],
        ..camera(host, name, view, port)
    };
    [
        of(3, "Mast around", View::Around, (1600, 800), (640, 320)),
        of(4, "Mast platform", View::AroundBelow, (960, 960), (400, 400)),
    ]
}

/// Most cameras of a fleet.
pub const MAX_FLEET: usize = 2000;

/// Frames a second of a fleet's streams, where nothing else is said.
pub const FLEET_RATE: f64 = 12.5;

/// Cameras for load, at 127.77.8.1 and on, each stream at `rate` frames a second: they share their pictures, or replay
/// clips of four views, with timestamps and sender reports of their own. They have no device service, and take no sign-in.
#[must_use]
pub fn fleet(count: usize, port: u16, rate: f64, pictures: Pictures) -> Vec<CameraSpec> {
    let kbps = |usual: f64| (usual * rate / FLEET_RATE) as u32;
    // Clips are of four views: each costs a second before the first camera is there.
    let views = if pictures == Pictures::Clip { 4 } else { View::PORT.len() };
    let one = |index: usize| {
        let (block, host) = (8 + index / 250, 1 + index % 250);
        let name = FLEET_NAMES.get(index).map_or_else(|| format!("Berth {}", index + 1), |name| (*name).to_owned());
        CameraSpec {
            address: IpAddr::V4(Ipv4Addr::new(127, 77, block as u8, host as u8)),
            streams: vec![
                StreamSpec::new(Role::Main, (1280, 720), rate, kbps(1200.0)),
                StreamSpec::new(Role::Sub, (640, 360), rate, kbps(250.0)),
            ],
            seed: index as u64,
            pictures,
            // For everybody that plays it there is one place in the clip.
            keyframe_on_join: false,
            device: None,
            ..camera(1, &name, FLEET_VIEWS[index % views], port)
        }
    };
    (0..count.min(MAX_FLEET)).map(one).collect()
}

/// What the cameras of a fleet see, in this order: the views of the four cameras of the port, in another light, come last.
const FLEET_VIEWS: [View; 16] = {
    let mut views = View::PORT;
    (views[0], views[1], views[2], views[3]) = (View::SlipwaySnow, View::LockFog, View::LaneNight, View::QuayDawn);
    (views[12], views[13], views[14], views[15]) = (View::Slipway, View::LockGate, View::CarLane, View::FuelQuay);
    views
};

/// The first cameras of a fleet have names of the port.
const FLEET_NAMES: [&str; 20] = [
    "Ramp east",
    "Lock house",
    "Car lane 4",
    "Fuel jetty",
    "Breakwater",
    "Slip yard",
    "Lorry park",
    "Check-in",
    "Pontoon",
    "Crane top",
    "Walkway",
    "Cold store",
    "Ramp west",
    "Sluice",
    "Car lane 5",
    "Tank yard",
    "Slip stairs",
    "Weir",
    "Car lane 6",
    "Waste dock",
];

/// The four cameras of the port, at 127.77.0.11 and on, all on one RTSP port (0 for any free ones).
#[must_use]
pub fn tarnhithe(port: u16) -> Vec<CameraSpec> {
    let slower = vec![StreamSpec::new(Role::Main, (1280, 720), 15.0, 1500), StreamSpec::new(Role::Sub, (640, 360), 5.0, 250)];
    let larger = vec![StreamSpec::new(Role::Main, (1920, 1080), 25.0, 4000), StreamSpec::new(Role::Sub, (640, 360), 12.5, 400)];
    vec![
        CameraSpec { sound: Some(speech()), ..camera(11, "Slipway north", View::Slipway, port) },
        CameraSpec { streams: slower, sound: Some(SoundSpec::aac()), ..camera(12, "Lock gate upper", View::LockGate, port) },
        CameraSpec { streams: larger, feedback: true, sound: Some(lane()), ..camera(13, "Car lane 2", View::CarLane, port) },
        CameraSpec { sign_in: Some(keeper()), ..camera(14, "Fuel quay", View::FuelQuay, port) },
    ]
}

/// A voice, as telephones code it.
fn speech() -> SoundSpec {
    SoundSpec::new(Heard::Speech(-26.0), Coding::Pcmu, 8000)
}

/// Engines, in two channels, a little behind the pictures.
fn lane() -> SoundSpec {
    let sound = SoundSpec::new(Heard::Tone(110.0, -26.0), Coding::L16, 16_000);
    SoundSpec { channels: 2, late: Duration::from_millis(120), ..sound }
}

/// From the light on its sensor to the stamp on its picture, of the camera that looks at the desk.
pub const DESK_BEFORE_STAMP: Duration = Duration::from_millis(80);

/// The camera that looks at the operator's screen, at 127.77.1.1: it is told when that turns light
/// ([`crate::Port::light`]), and stamps its pictures [`DESK_BEFORE_STAMP`] late, as cameras do. No device service, no
/// sign-in.
#[must_use]
pub fn control_desk(port: u16) -> CameraSpec {
    CameraSpec {
        address: IpAddr::V4(Ipv4Addr::new(127, 77, 1, 1)),
        device: None,
        screen: Some(Light::new(DESK_BEFORE_STAMP)),
        ..camera(1, "Control desk", View::Desk, port)
    }
}

/// The whole port: the four, those with something the matter, a recorder with eight channels, and plain ones that
/// all have the keeper's sign-in. Twenty-one devices.
#[must_use]
pub fn whole_port(port: u16) -> Vec<CameraSpec> {
    let kept = |host, name, view| CameraSpec { sign_in: Some(keeper()), ..camera(host, name, view, port) };
    let with_device = |spec: CameraSpec, change: fn(&mut DeviceSpec)| {
        let mut spec = spec;
        spec.device.as_mut().map(change);
        spec
    };
    let mut all = tarnhithe(port);
    all.extend([
        CameraSpec { sign_in: Some(sign_in("admin", "admin")), ..camera(15, "Ticket hall", View::CarLane, port) },
        CameraSpec { feedback: true, ..camera(16, "Ice house", View::FuelQuay, port) },
        CameraSpec {
            max_viewers: Some(2),
            sound: Some(SoundSpec::new(Heard::Silence, Coding::Pcma, 8000)),
            ..kept(17, "Breakwater light", View::Slipway)
        },
        CameraSpec { clock_ahead_ms: 420_000, ..kept(18, "Mast head", View::LockGate) },
        with_device(kept(19, "Car lane 1", View::CarLane), |device| device.firmware = "3.0.0-b2".into()),
        kept(20, "Car lane 3", View::CarLane),
        without_sub(kept(21, "Foot gangway", View::Slipway)),
        with_device(camera(22, "Slipway south", View::Slipway, port), |device| device.first_use = true),
        with_device(kept(23, "Lock gate lower", View::LockGate), |device| device.announced = Some("192.0.2.44".into())),
    ]);
    let plain = ["Boatyard", "Rope store", "Winch house", "Coal berth", "Pilot steps", "Net loft", "Buoy yard"];
    let views = [View::Slipway, View::FuelQuay, View::LockGate, View::CarLane];
    all.extend((24u8..).zip(plain).map(|(host, name)| kept(host, name, views[usize::from(host) % 4])));
    all.push(recorder(40, "Quay recorder", port));
    all
}

fn without_sub(mut spec: CameraSpec) -> CameraSpec {
    for stream in spec.streams.iter_mut().filter(|stream| stream.role == Role::Sub) {
        stream.switched_off = true;
    }
    spec
}

fn recorder(host: u8, name: &str, port: u16) -> CameraSpec {
    let streams = (1..=8).flat_map(|channel| {
        [StreamSpec::new(Role::Main, (640, 360), 12.5, 600), StreamSpec::new(Role::Sub, (320, 180), 6.25, 150)]
            .map(|stream| StreamSpec { channel, ..stream })
    });
    let mut spec = CameraSpec { streams: streams.collect(), sign_in: Some(keeper()), ..camera(host, name, View::FuelQuay, port) };
    spec.channel_names = (1..=8).map(|channel| format!("Quay {channel}")).collect();
    if let Some(device) = &mut spec.device {
        "Oriel R8".clone_into(&mut device.model);
    }
    spec
}
