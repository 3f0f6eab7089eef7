//! The head under a camera: what it can do, where it looks, and its orders.

use crate::device::{Device, DeviceError};
use lattice_core::SourceUrl;
use lattice_core::onvif::{self, Axes, Fault, IMAGING_NAMESPACE, PTZ_NAMESPACE, Preset, Profile, PtzNode, PtzStatus, Scale};
use std::time::Duration;

/// Orders to move carry this time-out, where the device takes it: so long after the last one it stops by itself.
const TIMEOUT: Duration = Duration::from_millis(300);

/// What a camera is steered by.
#[derive(Debug, Clone, PartialEq)]
pub struct Head {
    service: SourceUrl,
    imaging: Option<SourceUrl>,
    profile: String,
    source: Option<String>,
    /// What it can do.
    pub node: PtzNode,
    /// The time-out that goes with each order to move: what the device takes that is nearest to 300 ms.
    pub timeout: Duration,
    /// The shortest that it takes.
    pub least: Duration,
}

/// What a head is told.
#[derive(Debug, Clone, PartialEq)]
pub enum HeadOrder {
    /// Move at these shares, from -1 to 1, of the fastest.
    Move(Axes<f64>),
    /// Stop all moves, the focus too.
    Stop,
    /// Bring what is so far right of and above the middle (shares of half the picture) to the middle, and look so many times nearer.
    Look {
        /// To the right.
        x: f64,
        /// Up.
        y: f64,
        /// Times nearer; 1 leaves it.
        zoom: f64,
    },
    /// Go to a preset.
    GoTo(String),
    /// Keep where it looks under a name: a new preset, or in place of this one.
    Keep(String, Option<String>),
    /// Take a preset away.
    Forget(String),
    /// Go home.
    Home,
    /// Make where it looks its home.
    SetHome,
    /// Switch an output by its word.
    Switch(String),
    /// Move the focus at this share of its fastest, further where it is more than 0.
    Focus(f64),
}

impl Head {
    /// Whether its focus can be moved from here.
    #[must_use]
    pub const fn focuses(&self) -> bool {
        self.imaging.is_some() && self.source.is_some()
    }
}

impl Device {
    /// What the camera with this stream's profile, or else the first that has one, is steered by; `None` where nothing is.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn head(&self) -> Result<Option<Head>, DeviceError> {
        let services = self.services().await;
        let of = |namespace: &str| services.iter().find(|service| service.namespace == namespace);
        let service = match of(PTZ_NAMESPACE) {
            Some(service) => self.on_this_host(&service.address),
            None => match self.capabilities().await?.ptz {
                Some(address) => self.on_this_host(&address),
                None => return Ok(None),
            },
        };
        let imaging = of(IMAGING_NAMESPACE).map(|service| self.on_this_host(&service.address));
        let (version, media) = self.media().await?;
        let profiles = Profile::read(&self.ask(&media, &onvif::get_profiles(version), self.is_signed()).await?);
        let Some(profile) = profiles.into_iter().find(|profile| profile.ptz.is_some()) else { return Ok(None) };
        let answer = self.ask(&service, &onvif::get_nodes(), self.is_signed()).await?;
        let Some(node) = PtzNode::read(&answer).filter(PtzNode::moves) else { return Ok(None) };
        let configuration = profile.ptz.unwrap_or_default();
        let options = self.ask(&service, &onvif::get_ptz_options(&configuration), self.is_signed()).await;
        let limits = options.ok().and_then(|answer| onvif::read_timeouts(&answer));
        // Where it says nothing, a whole second is what every device takes.
        let whole = Duration::from_secs(1);
        let timeout = limits.map_or(whole, |(least, most)| TIMEOUT.clamp(least, most.max(least)));
        let least = limits.map_or(whole, |(least, _)| least);
        Ok(Some(Head { service, imaging, profile: profile.token, source: profile.source, node, timeout, least }))
    }

    /// Gives a head an order.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn steer(&self, head: &Head, order: &HeadOrder) -> Result<(), DeviceError> {
        let (profile, node) = (head.profile.as_str(), &head.node);
        let body = match order {
            HeadOrder::Move(shares) => {
                let on = |scale: Option<Scale>, share: f64| scale.map(|scale| scale.of_share(share));
                let speed = Axes {
                    pan: on(node.speed.pan, shares.pan),
                    tilt: on(node.speed.tilt, shares.tilt),
                    zoom: on(node.speed.zoom, shares.zoom),
                };
                onvif::continuous_move(profile, speed, head.timeout)
            }
            HeadOrder::Stop => onvif::stop(profile),
            HeadOrder::Look { x, y, zoom } => {
                let by = zoom.max(0.01).log2();
                let nearer = node.way.zoom.filter(|_| by.abs() > 0.01).map(|scale| scale.clamp(by));
                if !node.by_view {
                    let reason = "it does not move by what is in the picture: no point can be brought to the middle".into();
                    return Err(DeviceError::Refused(Fault { codes: Vec::new(), reason }));
                }
                onvif::relative_move(profile, Axes { pan: Some(*x), tilt: Some(*y), zoom: nearer }, true)
            }
            HeadOrder::GoTo(preset) => onvif::goto_preset(profile, preset),
            HeadOrder::Keep(name, preset) => onvif::set_preset(profile, name, preset.as_deref()),
            HeadOrder::Forget(preset) => onvif::remove_preset(profile, preset),
            HeadOrder::Home => onvif::goto_home(profile),
            HeadOrder::SetHome => onvif::set_home(profile),
            HeadOrder::Switch(word) => onvif::send_auxiliary(profile, word),
            HeadOrder::Focus(speed) => {
                let Some((imaging, source)) = head.imaging.as_ref().zip(head.source.as_deref()) else { return Ok(()) };
                let body = if *speed == 0.0 { onvif::stop_focus(source) } else { onvif::move_focus(source, *speed) };
                return self.ask(imaging, &body, self.is_signed()).await.map(drop);
            }
        };
        self.ask(&head.service, &body, self.is_signed()).await.map(drop)
    }

    /// Where a head looks, and whether it moves.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn head_status(&self, head: &Head) -> Result<PtzStatus, DeviceError> {
        let answer = self.ask(&head.service, &onvif::get_ptz_status(&head.profile), self.is_signed()).await?;
        Ok(PtzStatus::read(&answer))
    }

    /// The presets of a head.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn presets(&self, head: &Head) -> Result<Vec<Preset>, DeviceError> {
        let answer = self.ask(&head.service, &onvif::get_presets(&head.profile), self.is_signed()).await?;
        Ok(Preset::read(&answer))
    }
}
