//! From what was typed to a camera with its streams: the device is asked, and where it does not answer,
//! common paths are tried.

use lattice_core::find::{Exposure, MAX_PATH_TRIES, PathPattern, is_well_known};
use lattice_core::onvif::{DeviceInformation, by_size};
use lattice_core::rtsp::FailureKind;
use lattice_core::target::Target;
use lattice_core::{Cause, Credentials, Scheme, SourceUrl};
use lattice_net::find::USUAL_PORTS;
use lattice_net::reach::{self, Knock};
use lattice_net::{Device, DeviceError, Offered, Trust, describe};
use lattice_store::{Camera, Role, Stream};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

/// Ports on which a device service is asked, where none was named.
const SERVICE_PORTS: &[u16] = &[80, 8000, 8080, 8899, 2020, 443];
/// The same for a device that is asked through TLS alone.
const ENCRYPTED_SERVICE_PORTS: &[u16] = &[443, 8443];
/// Ports on which streams are looked for, where none was named.
const STREAM_PORTS: &[u16] = &[554, 8554, 10554];
const KNOCK_WITHIN: Duration = Duration::from_millis(1_500);
const DESCRIBE_WITHIN: Duration = Duration::from_secs(4);

/// What a target turned out to be.
#[derive(Debug, Clone, Default)]
pub struct Intake {
    /// The cameras: one, or a recorder followed by its channels. Their names are the device's.
    pub cameras: Vec<Camera>,
    /// What was noticed on the way, a sentence each.
    pub notes: Vec<String>,
    /// Why the device lies open.
    pub exposed: Option<Exposure>,
    /// The first stream was found by trying paths.
    pub by_paths: bool,
    /// Channels of a recorder whose stream cannot be had, and why.
    pub channel_troubles: Vec<(u32, Cause)>,
}

impl Intake {
    /// Whether it is a recorder with its channels.
    pub fn is_recorder(&self) -> bool {
        self.cameras.len() > 1
    }

    /// Leaves out the channels that are not wanted.
    pub fn keep_channels(&mut self, wanted: impl Fn(u32) -> bool) {
        self.cameras.retain(|camera| camera.channel.is_none_or(&wanted));
    }
}

/// Why nothing could be taken in.
#[derive(Debug, Clone)]
pub struct Trouble {
    /// In one word.
    pub cause: Cause,
    /// In a sentence.
    pub text: String,
}

impl Trouble {
    fn new(cause: Cause, text: impl Into<String>) -> Self {
        Self { cause, text: text.into() }
    }
}

/// Asks what a target is. `trust` says how its certificates are judged: what was given as encrypted is asked through TLS alone.
///
/// # Errors
/// [`Trouble`]: where it stopped, and what it said.
///
/// # Cancel safety
/// Dropping it closes its connections.
pub async fn take_in(target: &Target, patterns: &[PathPattern], trust: Trust) -> Result<Intake, Trouble> {
    match target {
        Target::Listen { .. } => Ok(one(Camera { streams: vec![stream(Role::Main, target.clone())], ..Camera::default() })),
        Target::Url(url) if url.scheme().is_rtsp() => from_url(url, trust).await,
        Target::Url(url) => {
            is_there(url).await?;
            let interval = Some(Duration::from_secs(5));
            let target = Target::Url(url.clone().with_credentials(None));
            let still = Stream { role: Role::Main, target, interval, buffer: None };
            Ok(one(Camera { address: Some(url.host().to_owned()), streams: vec![still], ..Camera::default() }))
        }
        Target::Device { host, port, credentials, encrypted } => {
            let asked = Asked { host, port: *port, credentials: credentials.as_ref(), encrypted: *encrypted, trust };
            device(&asked, patterns).await
        }
    }
}

fn one(camera: Camera) -> Intake {
    Intake { cameras: vec![camera], ..Intake::default() }
}

fn stream(role: Role, target: Target) -> Stream {
    Stream { role, target: target.with_credentials(None), interval: None, buffer: None }
}

/// Whether somebody may answer at an address: its name resolves, and its port is not refused. One that gives no answer may be
/// switched off.
async fn is_there(url: &SourceUrl) -> Result<IpAddr, Trouble> {
    let (host, port) = (url.host(), url.port());
    let addresses = reach::resolve(host, Duration::from_secs(3)).await.map_err(|text| Trouble::new(Cause::Unresolved, text))?;
    let address = *addresses.first().ok_or_else(|| Trouble::new(Cause::Unresolved, "the name has no address"))?;
    match reach::knock(SocketAddr::new(address, port), KNOCK_WITHIN).await {
        Knock::Refused(_) => Err(Trouble::new(Cause::PortClosed, format!("{host} refuses connections on port {port}"))),
        _ => Ok(address),
    }
}

impl Trouble {
    /// It may be there tomorrow: nobody answered at all.
    #[must_use]
    pub const fn may_pass(&self) -> bool {
        matches!(self.cause, Cause::Unreachable | Cause::Silence)
    }
}

/// A device, and how it may be asked.
#[derive(Debug, Clone, Copy)]
pub struct Asked<'a> {
    /// Its name or address.
    pub host: &'a str,
    /// The port that was named.
    pub port: Option<u16>,
    /// The sign-in that was given.
    pub credentials: Option<&'a Credentials>,
    /// Through TLS alone.
    pub encrypted: bool,
    /// How its certificate is judged.
    pub trust: Trust,
}

impl<'a> Asked<'a> {
    /// A device that is asked without a sign-in.
    #[must_use]
    pub const fn unsigned(host: &'a str) -> Self {
        Self { host, port: None, credentials: None, encrypted: false, trust: Trust::Verify }
    }
}

/// A stream's address: the device may tell of the others.
async fn from_url(url: &SourceUrl, trust: Trust) -> Result<Intake, Trouble> {
    let main = stream(Role::Main, Target::Url(url.clone()));
    let typed = Camera { address: Some(url.host().to_owned()), streams: vec![main], ..Camera::default() };
    let address = is_there(url).await?;
    let asked = Asked { host: url.host(), port: None, credentials: url.credentials(), encrypted: url.scheme().is_tls(), trust };
    let Some(device) = find_service(&asked, address).await else { return Ok(one(typed)) };
    let Ok(intake) = from_device(&device, &asked).await else { return Ok(one(typed)) };
    let has = |camera: &&Camera| {
        camera
            .streams
            .iter()
            .any(|stream| matches!(&stream.target, Target::Url(other) if other.request_uri() == url.request_uri()))
    };
    Ok(match intake.cameras.iter().find(has) {
        Some(camera) => {
            let mut notes = intake.notes.clone();
            notes.extend(camera.channel.map(|channel| {
                format!("this is the address of a recorder, not of the camera itself: the stream is its channel {channel}")
            }));
            Intake { cameras: vec![camera.clone()], notes, ..intake }
        }
        None => one(typed),
    })
}

async fn device(asked: &Asked<'_>, patterns: &[PathPattern]) -> Result<Intake, Trouble> {
    let Asked { host, credentials, .. } = *asked;
    let addresses = reach::resolve(host, Duration::from_secs(3)).await.map_err(|text| Trouble::new(Cause::Unresolved, text))?;
    let address = *addresses.first().ok_or_else(|| Trouble::new(Cause::Unresolved, "the name has no address"))?;
    let mut notes = Vec::new();
    if let Some(service) = find_service(asked, address).await {
        match from_device(&service, asked).await {
            Ok(mut intake) => {
                if asked.encrypted {
                    only_encrypted(&mut intake, asked, address).await?;
                }
                if intake.is_recorder() {
                    intake.channel_troubles = channel_troubles(&intake, asked).await;
                }
                return Ok(intake);
            }
            Err(error) if error.is_sign_in() => {
                let no_account = service.users(false).await.is_ok_and(|users| users.is_empty());
                if credentials.is_none() && no_account {
                    return Ok(of_first_use(&service, asked));
                }
                return Err(Trouble::new(Cause::SignIn, error.to_string()));
            }
            Err(error) => notes.push(format!("its device service was of no use: {error}")),
        }
    }
    by_paths(asked, address, patterns, notes).await
}

/// A device that was given as encrypted gives its streams so, too: at the same paths on the port of RTSP through TLS, where it
/// names only the others.
async fn only_encrypted(intake: &mut Intake, asked: &Asked<'_>, address: IpAddr) -> Result<(), Trouble> {
    for stream in intake.cameras.iter_mut().flat_map(|camera| &mut camera.streams) {
        let Target::Url(url) = &stream.target else { continue };
        if url.scheme().is_tls() {
            continue;
        }
        let through_tls = SourceUrl::new(Scheme::Rtsps, url.host(), None, &url.request_path());
        let with_sign_in = through_tls.clone().with_credentials(asked.credentials.cloned());
        if describe(&with_sign_in, Some(address), asked.trust, DESCRIBE_WITHIN).await.video.is_err() {
            return Err(Trouble::new(
                Cause::NotRtsp,
                format!(
                    "{} was given as encrypted, and gives its streams without encryption only ({url}): add it without https:// to allow that",
                    asked.host
                ),
            ));
        }
        stream.target = Target::Url(through_tls);
    }
    for camera in &mut intake.cameras {
        camera.encrypted = true;
    }
    Ok(())
}

/// A device fresh from its box: its streams are to be had once it has an account.
fn of_first_use(device: &Device, asked: &Asked<'_>) -> Intake {
    let camera = Camera {
        address: Some(asked.host.to_owned()),
        service_port: Some(device.port()),
        encrypted: asked.encrypted,
        ..Camera::default()
    };
    let note = "it has no account yet, and whoever comes first sets its password: d in the roster opens its device, p sets it";
    Intake { notes: vec![note.to_owned()], exposed: Some(Exposure::FirstUse), ..one(camera) }
}

/// Channels that are asked for their description at the same time.
const CHANNELS_AT_ONCE: usize = 4;

/// Which channels of a recorder do not give their first stream. A description is no viewer: no limit is met.
async fn channel_troubles(intake: &Intake, how: &Asked<'_>) -> Vec<(u32, Cause)> {
    let first = |camera: &Camera| match &camera.streams.first()?.target {
        Target::Url(url) => Some((camera.channel?, url.clone().with_credentials(how.credentials.cloned()))),
        Target::Device { .. } | Target::Listen { .. } => None,
    };
    let asked: Vec<(u32, SourceUrl)> = intake.cameras.iter().filter_map(first).collect();
    let mut troubles = Vec::new();
    for some in asked.chunks(CHANNELS_AT_ONCE) {
        let mut set = tokio::task::JoinSet::new();
        let trust = how.trust;
        for (channel, url) in some.iter().cloned() {
            set.spawn(async move { (channel, describe(&url, None, trust, DESCRIBE_WITHIN).await.video) });
        }
        let refused = set.join_all().await.into_iter().filter_map(|(channel, video)| Some((channel, video.err()?.0.cause())));
        troubles.extend(refused);
    }
    troubles.sort_unstable_by_key(|(channel, _)| *channel);
    troubles
}

/// The device service of a host, on the port that was named or on one of the usual ones.
pub async fn find_service(asked: &Asked<'_>, address: IpAddr) -> Option<Device> {
    let named = asked.port.into_iter().filter(|port| !STREAM_PORTS.contains(port));
    let usual = if asked.encrypted { ENCRYPTED_SERVICE_PORTS } else { SERVICE_PORTS };
    let ports: Vec<u16> = named.chain(usual.iter().copied()).collect();
    let mut open = tokio::task::JoinSet::new();
    for (order, port) in ports.into_iter().enumerate() {
        open.spawn(async move { (order, port, reach::knock(SocketAddr::new(address, port), KNOCK_WITHIN).await) });
    }
    let mut open: Vec<(usize, u16)> = open
        .join_all()
        .await
        .into_iter()
        .filter(|(_, _, knock)| matches!(knock, Knock::Open(_)))
        .map(|(order, port, _)| (order, port))
        .collect();
    open.sort_unstable();
    for (_, port) in open {
        let mut device = Device::new(asked.host, port, asked.credentials.cloned(), Some(address)).trusting(asked.trust);
        if asked.encrypted {
            device = device.encrypted();
        }
        let greeted = tokio::time::timeout(Duration::from_secs(3), device.greet()).await;
        if matches!(greeted, Ok(Ok(_) | Err(DeviceError::SignInNeeded | DeviceError::Refused(_)))) {
            return Some(device);
        }
    }
    None
}

/// Asks a device for what it is and what it offers.
pub async fn from_device(device: &Device, asked: &Asked<'_>) -> Result<Intake, DeviceError> {
    let (host, signed) = (asked.host, asked.credentials.is_some());
    let information = match device.information(false).await {
        Err(DeviceError::SignInNeeded) if signed => device.information(true).await?,
        other => other?,
    };
    let open = device.streams(false).await;
    let (offered, exposed) = match open {
        Ok(offered) => {
            let first = offered.iter().find_map(|offered| offered.url.clone());
            let exposed = match first {
                Some(url) => describe(&url, None, asked.trust, DESCRIBE_WITHIN).await.is_open().then_some(Exposure::NoPassword),
                None => None,
            };
            (offered, exposed)
        }
        Err(DeviceError::SignInNeeded) if signed => (device.streams(true).await?, None),
        Err(error) => return Err(error),
    };
    let own_name = device.own_name().await;
    let mut intake = assemble(device, host, &information, &offered, exposed);
    // A recorder's, or a camera's; the channels of a recorder have names of their own.
    if let (Some(first), Some(_)) = (intake.cameras.first_mut(), &own_name) {
        first.device_name = own_name;
    }
    Ok(intake)
}

/// Cameras out of what a device offers: one for each of its video sources, with its profiles by size.
fn assemble(
    device: &Device,
    host: &str,
    information: &DeviceInformation,
    offered: &[Offered],
    exposed: Option<Exposure>,
) -> Intake {
    let mut notes = Vec::new();
    if let Some(named) = offered.iter().find_map(|offered| offered.named_host.as_ref()) {
        notes.push(format!("it gives its streams at {named}, which is not where it answers: {host} was put in its place"));
    }
    let base = Camera {
        address: Some(host.to_owned()),
        service_port: Some(device.port()),
        maker: information.maker.clone(),
        model: information.model.clone(),
        firmware: information.firmware.clone(),
        serial: information.serial.clone(),
        ..Camera::default()
    };
    let mut sources: Vec<String> = Vec::new();
    for offered in offered {
        let source = offered.profile.source.clone().unwrap_or_default();
        if !sources.contains(&source) {
            sources.push(source);
        }
    }
    let recorder = sources.len() > 1;
    let mut cameras = Vec::new();
    if recorder {
        notes.push(format!("this is a recorder with {} channels, not one camera", sources.len()));
        cameras.push(Camera { device_name: information.model.clone(), ..base.clone() });
    }
    for (index, source) in sources.iter().enumerate() {
        let of_source: Vec<&Offered> =
            offered.iter().filter(|offered| offered.profile.source.clone().unwrap_or_default() == *source).collect();
        let mut profiles: Vec<_> = of_source.iter().map(|offered| offered.profile.clone()).collect();
        by_size(&mut profiles);
        let url =
            |token: &str| of_source.iter().find(|offered| offered.profile.token == token).and_then(|offered| offered.url.clone());
        let with_url = profiles.iter().filter_map(|profile| url(&profile.token));
        let streams: Vec<Stream> =
            Role::ALL.into_iter().zip(with_url).map(|(role, url)| stream(role, Target::Url(url))).collect();
        // The profile of a camera by itself is called after its use, not after the camera.
        let device_name =
            profiles.first().filter(|_| recorder).map(|profile| channel_name(&profile.name)).filter(|name| !name.is_empty());
        let channel = recorder.then_some(index as u32 + 1);
        cameras.push(Camera { device_name, channel, streams, ..base.clone() });
    }
    Intake { cameras, notes, exposed, ..Intake::default() }
}

/// The name of a profile without the word for its size, which is what is left for a channel.
fn channel_name(profile: &str) -> String {
    let trimmed = profile.trim();
    let words = ["main", "sub", "third", "mainstream", "substream", "main stream", "sub stream"];
    let lower = trimmed.to_lowercase();
    let cut = words.iter().filter_map(|word| lower.strip_suffix(word)).map(str::len).min().unwrap_or(trimmed.len());
    trimmed.get(..cut).unwrap_or(trimmed).trim_end_matches([' ', '-', '_', ':']).to_owned()
}

/// Tries common paths by asking for descriptions only. The first refusal of a sign-in ends it.
async fn by_paths(
    asked: &Asked<'_>,
    address: IpAddr,
    patterns: &[PathPattern],
    mut notes: Vec<String>,
) -> Result<Intake, Trouble> {
    let Asked { host, port, credentials, encrypted, trust } = *asked;
    let scheme = if encrypted { Scheme::Rtsps } else { Scheme::Rtsp };
    let usual = if encrypted { &[322][..] } else { STREAM_PORTS };
    let ports: Vec<u16> = port.map_or_else(|| usual.to_vec(), |port| vec![port]);
    let mut last = None;
    for port in ports {
        match reach::knock(SocketAddr::new(address, port), KNOCK_WITHIN).await {
            Knock::Open(_) => {}
            Knock::Refused(_) => {
                last.get_or_insert(Trouble::new(Cause::PortClosed, format!("{host} refuses connections on port {port}")));
                continue;
            }
            Knock::Silent(_) => {
                last.get_or_insert(Trouble::new(Cause::Unreachable, format!("{host} does not answer on port {port}")));
                continue;
            }
            Knock::Unreachable(_, text) => {
                return Err(Trouble::new(Cause::Unreachable, format!("{host} cannot be reached: {text}")));
            }
        }
        let url = |path: &str| SourceUrl::new(scheme, host, Some(port), path).with_credentials(credentials.cloned());
        for (tries, pattern) in patterns.iter().take(MAX_PATH_TRIES).enumerate() {
            let first = url(&pattern.path(1, 1));
            let seen = describe(&first, Some(address), trust, DESCRIBE_WITHIN).await;
            if seen.is_locked() {
                let text = seen.video.err().map_or_else(String::new, |(_, text)| text);
                return Err(Trouble::new(Cause::SignIn, text));
            }
            if !seen.speaks_rtsp && tries == 0 {
                let (kind, text) = seen.video.err().unwrap_or((FailureKind::NotRtsp, String::new()));
                last = Some(Trouble::new(kind.cause(), text));
                break;
            }
            let Ok(_) = seen.video else {
                last = Some(Trouble::new(
                    Cause::NoSuchStream,
                    format!("{host} speaks RTSP on port {port} and has no stream at the {} paths that were tried", tries + 1),
                ));
                continue;
            };
            let mut streams = vec![stream(Role::Main, Target::Url(first))];
            if pattern.tells_streams_apart() {
                let second = url(&pattern.path(1, 2));
                if describe(&second, Some(address), trust, DESCRIBE_WITHIN).await.video.is_ok() {
                    streams.push(stream(Role::Sub, Target::Url(second)));
                }
            }
            notes.push(format!("the device could not be asked; a stream was found by trying paths ({})", pattern.path(1, 1)));
            let exposed = (!seen.sign_in_asked).then_some(Exposure::NoPassword);
            let camera = Camera { address: Some(host.to_owned()), encrypted, streams, ..Camera::default() };
            return Ok(Intake { cameras: vec![camera], notes, exposed, by_paths: true, ..Intake::default() });
        }
    }
    Err(last.unwrap_or_else(|| {
        Trouble::new(Cause::PortClosed, format!("{host} has no open port for streams (tried {USUAL_PORTS:?})"))
    }))
}

/// Whether a sign-in that was accepted leaves a device open all the same.
pub fn exposure_of(sign_in: Option<&Credentials>, seen: Option<Exposure>) -> Option<Exposure> {
    seen.or_else(|| sign_in.is_some_and(is_well_known).then_some(Exposure::DefaultPassword))
}
