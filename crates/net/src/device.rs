//! A device asked by its ONVIF services.

use crate::clock;
use crate::connection::Trust;
use crate::http::{HttpError, Line, Question};
use hyper::StatusCode;
use lattice_core::onvif::{
    self, AddressPlan, Capabilities, DeviceInformation, DeviceTime, Element, Encoder, EncoderLimits, Fault, MediaVersion,
    NetworkInterface, Profile, Security, Service, User, UserLevel, answer, envelope_with,
};
use lattice_core::rtsp::Withheld;
use lattice_core::{Cause, ClockOffset, ClockProbe, Credentials, Scheme, SourceUrl, Wall};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

/// Most bytes of an answer: a recorder's list of 256 profiles has some 800 kB.
const MAX_ANSWER: usize = 4 << 20;
/// An answer that takes longer is none.
const ANSWER_WITHIN: Duration = Duration::from_secs(5);
/// Where the device service is, on every device.
const DEVICE_PATH: &str = "/onvif/device_service";
const MEDIA_TYPE: &str = "application/soap+xml; charset=utf-8";

/// Why a device gave no usable answer.
#[derive(Debug, thiserror::Error)]
pub enum DeviceError {
    /// It could not be asked.
    #[error("{0}")]
    Http(#[source] HttpError),
    /// What answers has no device service.
    #[error("what answers at {address} has no ONVIF device service")]
    NotADevice {
        /// Where it was asked.
        address: String,
    },
    /// It wants a sign-in and has none.
    #[error("the device wants a sign-in and none was given")]
    SignInNeeded,
    /// It refused the sign-in, or the account has not the right.
    #[error("the device refused the user name or password, or the account has not the right")]
    SignInRefused,
    /// The sign-in was not sent, since it would be readable or weaker than before.
    #[error("{0}")]
    SignInWithheld(#[source] Withheld),
    /// It refused for a reason of its own.
    #[error("the device refused: {0}")]
    Refused(#[source] Fault),
    /// It answers with something that cannot be read.
    #[error("the device answers with something that cannot be read: {0}")]
    Unreadable(String),
}

impl DeviceError {
    /// The cause that this is shown as.
    #[must_use]
    pub const fn cause(&self) -> Cause {
        match self {
            Self::Http(error) => error.cause(),
            Self::SignInNeeded | Self::SignInRefused | Self::SignInWithheld(_) => Cause::SignIn,
            Self::NotADevice { .. } | Self::Unreadable(_) => Cause::NotRtsp,
            Self::Refused(_) => Cause::NoSuchStream,
        }
    }

    /// Whether a sign-in, or another one, would help.
    #[must_use]
    pub const fn is_sign_in(&self) -> bool {
        matches!(self, Self::SignInNeeded | Self::SignInRefused | Self::SignInWithheld(_))
    }
}

impl From<HttpError> for DeviceError {
    fn from(error: HttpError) -> Self {
        match error {
            HttpError::SignInNeeded => Self::SignInNeeded,
            HttpError::SignInRefused => Self::SignInRefused,
            HttpError::SignInWithheld(withheld) => Self::SignInWithheld(withheld),
            other => Self::Http(other),
        }
    }
}

/// A stream that a device offers.
#[derive(Debug, Clone, PartialEq)]
pub struct Offered {
    /// The media profile, as the device declares it.
    pub profile: Profile,
    /// Its stream, without the sign-in; `None` where the device does not say.
    pub url: Option<SourceUrl>,
    /// The address of its still, without the sign-in.
    pub still: Option<SourceUrl>,
    /// The host that the device named for the stream where that is not the device itself; ours was put in.
    pub named_host: Option<String>,
}

/// A client of one device. Its clones share one connection, which is used again from question to question as long as the
/// device keeps it open, and so is the sign-in.
#[derive(Debug, Clone)]
pub struct Device {
    url: SourceUrl,
    address: Option<SocketAddr>,
    trust: Trust,
    /// What must be added to our clock to get the device's, once asked; tokens must be in its time.
    ahead: i64,
    line: Arc<Line>,
}

impl Device {
    /// The device service on a host's port, with the sign-in to use; `address` where the host has been resolved.
    #[must_use]
    pub fn new(host: &str, port: u16, credentials: Option<Credentials>, address: Option<IpAddr>) -> Self {
        let scheme = if matches!(port, 443 | 8443) { Scheme::Https } else { Scheme::Http };
        let url = SourceUrl::new(scheme, host, Some(port), DEVICE_PATH).with_credentials(credentials);
        Self { url, address: address.map(|ip| SocketAddr::new(ip, port)), trust: Trust::Verify, ahead: 0, line: Arc::default() }
    }

    /// The device service at an address that the device gave, on a host that it is known to be.
    #[must_use]
    pub fn at(mut self, path: &str) -> Self {
        self.url = SourceUrl::new(self.url.scheme(), self.url.host(), Some(self.url.port()), path)
            .with_credentials(self.url.credentials().cloned());
        self
    }

    /// Through TLS alone, whatever its port.
    #[must_use]
    pub fn encrypted(mut self) -> Self {
        self.url = SourceUrl::new(Scheme::Https, self.url.host(), Some(self.url.port()), &self.url.request_path())
            .with_credentials(self.url.credentials().cloned());
        self
    }

    /// How its certificate is judged, where it is asked through TLS.
    #[must_use]
    pub const fn trusting(mut self, trust: Trust) -> Self {
        self.trust = trust;
        self
    }

    /// With another sign-in.
    #[must_use]
    pub fn signing_in(mut self, credentials: Option<Credentials>) -> Self {
        self.url = self.url.with_credentials(credentials);
        self.line = Arc::default(); // what was signed before is another's
        self
    }

    /// The same device on a connection of its own: what is asked by it waits for nothing.
    #[must_use]
    pub fn apart(&self) -> Self {
        Self { line: Arc::default(), ..self.clone() }
    }

    /// Whether a sign-in goes with what is asked.
    #[must_use]
    pub fn is_signed(&self) -> bool {
        self.url.credentials().is_some()
    }

    /// The port that it is asked on.
    #[must_use]
    pub fn port(&self) -> u16 {
        self.url.port()
    }

    /// One question to a service. `signed` puts the sign-in's token into the message.
    pub(crate) async fn ask(&self, service: &SourceUrl, body: &str, signed: bool) -> Result<Element, DeviceError> {
        self.ask_within(service, ("", body), signed, ANSWER_WITHIN).await
    }

    /// The same with a head, and another time to answer in.
    pub(crate) async fn ask_within(
        &self,
        service: &SourceUrl,
        (head, body): (&str, &str),
        signed: bool,
        within: Duration,
    ) -> Result<Element, DeviceError> {
        let credentials = self.url.credentials().filter(|_| signed);
        let security = credentials.map(|credentials| Security {
            credentials,
            nonce: rand::random(),
            created: clock::wall().offset(self.ahead),
        });
        let message = envelope_with(head, body, security.as_ref());
        let question = Question {
            url: &service.clone().with_credentials(credentials.cloned()),
            address: self.address.map(|address| SocketAddr::new(address.ip(), service.port())),
            body: Some((MEDIA_TYPE, message)),
            trust: self.trust,
        };
        let (status, bytes) = self.line.ask_whole(&question, within, MAX_ANSWER).await?;
        let not_a_device = || DeviceError::NotADevice { address: service.authority() };
        let looks_like_xml = bytes.iter().find(|b| !b.is_ascii_whitespace()).is_some_and(|b| matches!(b, b'<' | 0xef));
        if !looks_like_xml {
            return Err(if status == StatusCode::OK { not_a_device() } else { Self::from_status(status, not_a_device()) });
        }
        let document = match Element::parse(&bytes) {
            Ok(document) => document,
            Err(_) if !status.is_success() => return Err(Self::from_status(status, not_a_device())),
            Err(error) => return Err(DeviceError::Unreadable(error.to_string())),
        };
        match answer(&document) {
            None => Err(Self::from_status(status, not_a_device())),
            Some(Ok(element)) => Ok(element.clone()),
            Some(Err(fault)) if fault.is_not_authorized() && credentials.is_some() => Err(DeviceError::SignInRefused),
            Some(Err(fault)) if fault.is_not_authorized() => Err(DeviceError::SignInNeeded),
            Some(Err(fault)) => Err(DeviceError::Refused(Fault { reason: self.url.without_secrets(&fault.reason), ..fault })),
        }
    }

    fn from_status(status: StatusCode, otherwise: DeviceError) -> DeviceError {
        match status.as_u16() {
            401 | 403 => DeviceError::SignInNeeded,
            500..=599 => DeviceError::Http(HttpError::Status(status.as_u16())),
            _ => otherwise,
        }
    }

    async fn ask_device(&self, body: &str, signed: bool) -> Result<Element, DeviceError> {
        self.ask(&self.url, body, signed).await
    }

    /// Asks for the clock: also how a device is told from anything else. Learns how far the clock is off,
    /// as far as one answer shows it.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn greet(&mut self) -> Result<DeviceTime, DeviceError> {
        let (time, _, received) = self.read_clock().await?;
        if let Some(utc) = time.utc {
            // Half a second is what a whole second leaves out on average.
            let ahead = utc.offset(500_000).micros_since(received);
            // Tokens of a device whose clock is right should carry the time as exactly as we have it.
            self.ahead = if ahead.abs() < 2_000_000 { 0 } else { ahead };
        }
        Ok(time)
    }

    async fn read_clock(&self) -> Result<(DeviceTime, Wall, Wall), DeviceError> {
        let sent = clock::wall();
        let element = self.ask_device(&onvif::get_system_date_and_time(), false).await?;
        let received = clock::wall();
        let time = DeviceTime::read(&element).ok_or_else(|| DeviceError::Unreadable("no time in the answer".into()))?;
        Ok((time, sent, received))
    }

    /// How far its clock is ahead of ours, by some ten questions over as many seconds at most; `None` where it
    /// does not say its time in UTC.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn clock_offset(&self) -> Result<Option<ClockOffset>, DeviceError> {
        let mut probe = ClockProbe::default();
        while let Some(at) = probe.ask_at(clock::wall()) {
            let wait = at.micros_since(clock::wall()).max(0) as u64;
            tokio::time::sleep(Duration::from_micros(wait)).await;
            let (time, sent, received) = self.read_clock().await?;
            let Some(told) = time.utc else { return Ok(None) };
            probe.on_answer(sent, received, told);
        }
        Ok(probe.offset())
    }

    /// Maker, model, firmware, serial number.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn information(&self, signed: bool) -> Result<DeviceInformation, DeviceError> {
        Ok(DeviceInformation::read(&self.ask_device(&onvif::get_device_information(), signed).await?))
    }

    /// The name that it was given, as discovery shows it.
    pub async fn own_name(&self) -> Option<String> {
        let answer = self.ask_device(&onvif::get_scopes(), false).await.ok()?;
        let scopes: Vec<String> =
            answer.all("Scopes").filter_map(|scope| scope.text_at(&["ScopeItem"])).map(onvif::scope_text).collect();
        onvif::scope_value(&scopes, "name")
    }

    /// Its lasting name, the one that it has in discovery, where it tells it. No sign-in is used.
    pub async fn endpoint(&self) -> Option<String> {
        let answer = self.ask_device(&onvif::get_endpoint_reference(), false).await.ok()?;
        answer.text_at(&["GUID"]).map(|text| text.trim().chars().take(200).collect()).filter(|text: &String| !text.is_empty())
    }

    /// Gives it a name, which discovery shows from then on.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn set_name(&self, name: &str) -> Result<(), DeviceError> {
        let told = self.ask_device(&onvif::get_scopes(), true).await?;
        self.ask_device(&onvif::set_name(&told, name), true).await.map(|_| ())
    }

    /// What it can do, as far as it says so without a sign-in.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn capabilities(&self) -> Result<Capabilities, DeviceError> {
        match self.ask_device(&onvif::get_capabilities(), false).await {
            Err(DeviceError::SignInNeeded) => Ok(Capabilities::read(&self.ask_device(&onvif::get_capabilities(), true).await?)),
            other => Ok(Capabilities::read(&other?)),
        }
    }

    /// The services that it names.
    pub(crate) async fn services(&self) -> Vec<Service> {
        let services = match self.ask_device(&onvif::get_services(), false).await {
            Err(DeviceError::SignInNeeded) => self.ask_device(&onvif::get_services(), true).await,
            other => other,
        };
        services.map(|element| Service::read(&element)).unwrap_or_default()
    }

    /// Its media service, of the newest version it has.
    pub(crate) async fn media(&self) -> Result<(MediaVersion, SourceUrl), DeviceError> {
        let services = self.services().await;
        let of = |version: MediaVersion| services.iter().find(|service| service.namespace == version.namespace());
        if let Some((version, service)) =
            [MediaVersion::Two, MediaVersion::One].into_iter().find_map(|version| Some((version, of(version)?)))
        {
            return Ok((version, self.on_this_host(&service.address)));
        }
        let address = self.capabilities().await?.media;
        let missing = || DeviceError::Unreadable("it names no media service".into());
        Ok((MediaVersion::One, self.on_this_host(&address.ok_or_else(missing)?)))
    }

    /// An address that the device gave, on the host that it was asked at: what it says of itself may be
    /// an address of another network, and a stranger's is never asked. Who is asked through TLS is not asked without.
    pub(crate) fn on_this_host(&self, address: &str) -> SourceUrl {
        let ours = |path: &str| SourceUrl::new(self.url.scheme(), self.url.host(), Some(self.url.port()), path);
        match address.parse::<SourceUrl>() {
            Ok(given) if given.scheme().is_rtsp() => ours(&given.request_path()),
            Ok(given) if given.host() != self.url.host() => ours(&given.request_path()),
            Ok(given) if self.url.scheme().is_tls() && !given.scheme().is_tls() => ours(&given.request_path()),
            Ok(given) => given.with_credentials(None),
            Err(_) => ours(DEVICE_PATH),
        }
    }

    /// Its streams: each media profile with the address of its stream and still, in the device's order.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn streams(&self, signed: bool) -> Result<Vec<Offered>, DeviceError> {
        let (version, service) = self.media().await?;
        let profiles = Profile::read(&self.ask(&service, &onvif::get_profiles(version), signed).await?);
        let mut offered = Vec::with_capacity(profiles.len());
        for profile in profiles {
            let uri = |answer: Element| answer.find("Uri").map(|uri| uri.text.clone()).filter(|uri| !uri.is_empty());
            let stream = self.ask(&service, &onvif::get_stream_uri(version, &profile.token), signed).await;
            let stream = match stream {
                Err(error) if error.is_sign_in() => return Err(error),
                other => other.ok().and_then(uri).and_then(|uri| uri.parse::<SourceUrl>().ok()),
            };
            let still = self.ask(&service, &onvif::get_snapshot_uri(version, &profile.token), signed).await.ok();
            let still = still.and_then(uri).and_then(|uri| uri.parse::<SourceUrl>().ok()).map(|url| self.here(url).0);
            let (url, named_host) = stream.map_or((None, None), |url| {
                let (url, named) = self.here(url);
                (Some(url), named)
            });
            offered.push(Offered { profile, url, still, named_host });
        }
        Ok(offered)
    }

    /// Asks for a keyframe in the stream of this profile.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn synchronize(&self, profile: &str) -> Result<(), DeviceError> {
        let (version, service) = self.media().await?;
        let signed = self.url.credentials().is_some();
        self.ask(&service, &onvif::set_synchronization_point(version, profile), signed).await.map(|_| ())
    }

    /// A stream's address on the host we know, with the host it named where that is another.
    fn here(&self, url: SourceUrl) -> (SourceUrl, Option<String>) {
        let url = url.with_credentials(None);
        if url.host() == self.url.host() || self.address.is_some_and(|address| url.host() == address.ip().to_string()) {
            return (url, None);
        }
        let named = url.host().to_owned();
        (url.with_host(self.url.host()), Some(named))
    }

    /// What an encoder can be set to.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn encoder_limits(&self, profile: &Profile) -> Result<EncoderLimits, DeviceError> {
        let Some(encoder) = &profile.encoder else { return Ok(EncoderLimits::default()) };
        let (version, service) = self.media().await?;
        let answer = self.ask(&service, &onvif::get_encoder_limits(version, &encoder.token, &profile.token), true).await?;
        Ok(EncoderLimits::read(&answer, encoder.codec.as_deref().unwrap_or("H264")))
    }

    /// Sets an encoder.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn set_encoder(&self, wanted: &Encoder) -> Result<(), DeviceError> {
        let (version, service) = self.media().await?;
        self.ask(&service, &onvif::encoder_change(version, wanted), true).await.map(|_| ())
    }

    /// Its accounts. Without any, or where it answers unsigned, it is exposed.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn users(&self, signed: bool) -> Result<Vec<User>, DeviceError> {
        Ok(User::read(&self.ask_device(&onvif::get_users(), signed).await?))
    }

    /// Makes its first account; a device fresh from its box takes it without a sign-in.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn create_first_user(&self, account: &Credentials) -> Result<(), DeviceError> {
        self.ask_device(&onvif::create_user(account, UserLevel::Administrator), false).await.map(|_| ())
    }

    /// Gives an account another password.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn set_password(&self, account: &Credentials, level: UserLevel) -> Result<(), DeviceError> {
        self.ask_device(&onvif::set_user_password(account, level), true).await.map(|_| ())
    }

    /// Sets its clock to ours, at the turn of a second, half a round trip early.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn set_clock(&self) -> Result<(), DeviceError> {
        let (_, sent, received) = self.read_clock().await?;
        let half_trip = received.micros_since(sent).max(0) / 2;
        let now = clock::wall().as_unix_micros() + half_trip;
        let turn = (now / 1_000_000 + 1) * 1_000_000;
        tokio::time::sleep(Duration::from_micros((turn - now).max(0) as u64)).await;
        self.ask_device(&onvif::set_system_date_and_time(Wall::from_unix_micros(turn)), true).await.map(|_| ())
    }

    /// Its network interfaces.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn network(&self) -> Result<Vec<NetworkInterface>, DeviceError> {
        Ok(NetworkInterface::read(&self.ask_device(&onvif::get_network_interfaces(), true).await?))
    }

    /// Switches an interface between DHCP and a fixed address.
    ///
    /// # Errors
    /// [`DeviceError`].
    pub async fn set_address(&self, interface: &str, plan: AddressPlan) -> Result<(), DeviceError> {
        self.ask_device(&onvif::set_address(interface, plan), true).await.map(|_| ())
    }

    /// Its network card as it says it.
    pub async fn hardware(&self) -> Option<String> {
        self.network().await.ok()?.into_iter().find_map(|interface| interface.hardware)
    }
}
