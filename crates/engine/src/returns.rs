//! When one stream comes back, those that fell with it are tried at once: what they share is back.

use crate::camera::{Cameras, FeedKey, host_of};
use lattice_core::meter::Figures;
use lattice_core::verdict::SessionState;
use lattice_core::{Cause, Mono};
use lattice_store::Site;
use std::collections::{BTreeSet, HashMap};
use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

/// A try that begins this soon by itself needs no cue.
const SOON: Duration = Duration::from_millis(300);

/// What streams may share: the host, its network, the recorder.
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Shared {
    Host(String),
    Network(Vec<u8>),
    Recorder(String),
}

fn shares(cameras: &Cameras, site: &Site, key: FeedKey) -> Vec<Shared> {
    let host = cameras.origin(key).and_then(host_of);
    let network = host.and_then(|host| host.parse::<IpAddr>().ok()).map(|address| match address {
        IpAddr::V4(address) => address.octets()[..3].to_vec(),
        IpAddr::V6(address) => address.octets()[..8].to_vec(),
    });
    let recorder = site.camera(cameras.name(key.camera)).and_then(|camera| camera.recorder.clone());
    let host = host.map(|host| Shared::Host(host.to_owned()));
    host.into_iter().chain(network.map(Shared::Network)).chain(recorder.map(Shared::Recorder)).collect()
}

/// Whether it fell by something that it may share with others.
fn waits(figures: &Figures, now: Mono) -> bool {
    match &figures.session {
        SessionState::Failed { cause, next_try: Some(next), .. } => {
            let of_the_path = matches!(
                cause,
                Cause::Unresolved | Cause::Unreachable | Cause::PortClosed | Cause::Silence | Cause::ClosedByCamera
            );
            of_the_path && next.since(now) > SOON
        }
        _ => false,
    }
}

/// Streams to be tried now, since one that shares something with them came back between two looks.
#[derive(Debug, Default)]
pub struct Returns {
    /// Streams that were away.
    away: BTreeSet<FeedKey>,
}

impl Returns {
    /// Takes the newest figures; gives the streams that are to be tried at once.
    pub fn look(&mut self, now: Mono, cameras: &Cameras, site: &Site, figures: &HashMap<FeedKey, Arc<Figures>>) -> Vec<FeedKey> {
        let back: Vec<FeedKey> = self
            .away
            .iter()
            .copied()
            .filter(|key| figures.get(key).is_some_and(|figures| figures.session == SessionState::Playing))
            .collect();
        for (key, figures) in figures {
            match figures.session {
                SessionState::Failed { .. } => drop(self.away.insert(*key)),
                SessionState::Connecting => {}
                _ => drop(self.away.remove(key)),
            }
        }
        self.away.retain(|key| figures.contains_key(key));
        let shared: BTreeSet<Shared> = back.iter().flat_map(|key| shares(cameras, site, *key)).collect();
        if shared.is_empty() {
            return Vec::new();
        }
        let fellow = |key: &FeedKey| shares(cameras, site, *key).iter().any(|one| shared.contains(one));
        let waiting = figures.iter().filter(|(_, figures)| waits(figures, now)).map(|(key, _)| *key);
        waiting.filter(fellow).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::camera::{CameraDef, CameraId, StreamDef};
    use lattice_core::{Role, TransportChoice};
    use lattice_net::{Origin, Trust};

    #[test]
    fn what_shares_a_host_or_a_network_with_what_came_back_is_tried_at_once() {
        let mut cameras = Cameras::new(Role::Main);
        for (n, host) in ["192.0.2.7", "192.0.2.7", "192.0.2.9", "198.51.100.3", "192.0.2.8"].into_iter().enumerate() {
            let origin = Origin::Url(format!("rtsp://{host}/{n}").parse().unwrap());
            cameras.put(CameraDef {
                name: format!("Camera {n}"),
                streams: vec![StreamDef { role: Role::Main, origin, key: None }],
                transport: TransportChoice::Auto,
                trust: Trust::Verify,
                viewers: None,
                link: None,
                sound: true,
            });
        }
        let key = |n: u32| FeedKey::new(CameraId(n), Role::Main);
        let now = Mono::from_millis(60_000);
        let failed = |cause, in_seconds: u64| {
            let next_try = Some(now + Duration::from_secs(in_seconds));
            Arc::new(Figures { session: SessionState::Failed { cause, text: String::new(), next_try }, ..Figures::default() })
        };
        let mut figures: HashMap<FeedKey, Arc<Figures>> = (0..4).map(|n| (key(n), failed(Cause::PortClosed, 12))).collect();
        figures.insert(key(4), failed(Cause::NoSuchStream, 12));
        let (site, mut returns) = (Site::default(), Returns::default());
        assert!(returns.look(now, &cameras, &site, &figures).is_empty());
        figures.insert(key(0), Arc::new(Figures { session: SessionState::Playing, ..Figures::default() }));
        let mut tried = returns.look(now, &cameras, &site, &figures);
        tried.sort_unstable();
        assert_eq!(tried, [key(1), key(2)], "not another network, and not what is refused");
        assert!(returns.look(now, &cameras, &site, &figures).is_empty(), "once");
    }
}
