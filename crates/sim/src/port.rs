//! The port as a whole.

use crate::camera::{Camera, CameraSpec, Faults, Role, Shared, SignIn, StreamSpec};
use crate::log::Log;
use crate::scene::View;
use crate::server::serve;
use crate::video::VideoStream;
use lattice_core::rtsp::DigestAlgorithm;
use lattice_core::{Credentials, Secret};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
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
        for spec in specs {
            let wanted = SocketAddr::new(spec.address, spec.port);
            let listen_error = |source| PortError::Listen { camera: spec.name.clone(), address: wanted, source };
            let listener = TcpListener::bind(wanted).await.map_err(listen_error)?;
            let address = listener.local_addr().map_err(listen_error)?;
            let faults = Arc::new(Faults::new());
            let stream = |stream: &StreamSpec| Arc::new(VideoStream::new(*stream, spec.clone(), faults.clone()));
            let streams = spec.streams.iter().map(stream).collect();
            let shared = Arc::new(Shared { spec: spec.clone(), address, streams, faults: faults.clone(), log: log.clone() });
            servers.spawn(serve(listener, shared.clone()));
            cameras.push(Camera { shared });
        }
        Ok(Self { cameras, _servers: servers })
    }

    /// The cameras, in the order they were given.
    #[must_use]
    pub fn cameras(&self) -> &[Camera] {
        &self.cameras
    }
}

const fn stream(role: Role, width: usize, height: usize, fps: f64, kbps: u32) -> StreamSpec {
    StreamSpec { role, width, height, fps, kbps, keyframe_interval: Duration::from_secs(2) }
}

/// The four cameras of the port, at 127.77.0.11 and on, all on one RTSP port (0 for any free ones).
#[must_use]
pub fn tarnhithe(port: u16) -> Vec<CameraSpec> {
    let usual = vec![stream(Role::Main, 1280, 720, 25.0, 2000), stream(Role::Sub, 640, 360, 12.5, 400)];
    let slower = vec![stream(Role::Main, 1280, 720, 15.0, 1500), stream(Role::Sub, 640, 360, 5.0, 250)];
    let larger = vec![stream(Role::Main, 1920, 1080, 25.0, 4000), stream(Role::Sub, 640, 360, 12.5, 400)];
    let keeper = Credentials { user: "harbour".into(), password: Secret::new("ebb-and-flow".into()) };
    let rows = [
        ("Slipway north", View::Slipway, usual.clone(), None),
        ("Lock gate upper", View::LockGate, slower, None),
        ("Car lane 2", View::CarLane, larger, None),
        ("Fuel quay", View::FuelQuay, usual, Some(SignIn { credentials: keeper, digest: Some(DigestAlgorithm::Md5) })),
    ];
    (11u8..)
        .zip(rows)
        .map(|(host, (name, view, streams, sign_in))| CameraSpec {
            name: name.to_owned(),
            view,
            address: IpAddr::V4(Ipv4Addr::new(127, 77, 0, host)),
            port,
            streams,
            sign_in,
            session_timeout: Duration::from_secs(60),
            max_viewers: None,
            keyframe_on_join: true,
            sender_reports: true,
            udp: true,
            seed: u64::from(host),
        })
        .collect()
}
