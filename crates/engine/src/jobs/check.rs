//! The reach check of one target: every step from its name to a steady picture.

use crate::feeds::{Decode, Feed, Pictures, SMALL_TILE, pool};
use crate::jobs::{Asked, find_service, take_in};
use crate::kept::{Kept, path_patterns, trust_of};
use lattice_core::check::{Circumstances, Ladder, Step, StepState, StreamWatch, advice};
use lattice_core::find::{Identity, PathPattern};
use lattice_core::srtp::MasterKey;
use lattice_core::target::Target;
use lattice_core::{Cause, Mono, SourceUrl, TransportChoice};
use lattice_media::Pool;
use lattice_net::discovery::discover;
use lattice_net::find::{FindConfig, Search};
use lattice_net::reach::{self, Knock, Route};
use lattice_net::{Origin, Runtime, SourceConfig, Trust, clock};
use lattice_store::{Camera, Sighting, Sightings, Stream};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

/// A check ends within this time whatever the other side does; a second more is for taking leave.
const WITHIN: Duration = Duration::from_millis(18_500);
const RESOLVE_WITHIN: Duration = Duration::from_secs(3);
const KNOCK_WITHIN: Duration = Duration::from_millis(2_500);
const ECHO_WITHIN: Duration = Duration::from_millis(800);
/// What a device is asked for before its stream is known.
const INTAKE_WITHIN: Duration = Duration::from_secs(8);
/// A device that is probed by itself answers by then.
const ANNOUNCED_WITHIN: Duration = Duration::from_millis(1_500);
/// One target of a check.
#[derive(Debug, Clone)]
pub struct Subject {
    /// As it is shown.
    pub shown: String,
    /// What it is.
    pub target: Target,
    /// How its packets are asked for.
    pub transport: TransportChoice,
    /// How its certificate is judged.
    pub trust: Trust,
    /// The key of its encrypted stream.
    pub key: Option<MasterKey>,
    /// What was last seen of it.
    pub seen: Option<Sighting>,
}

/// What all checks of a run share.
pub struct Checker {
    runtime: Runtime,
    pool: Pool,
    patterns: Vec<PathPattern>,
}

impl Subject {
    /// A camera of the site as it is checked, on the screen and by the command alike: with its sign-in, the key of its stream,
    /// and what was last seen of it. `None` where it has neither a stream nor an address.
    ///
    /// # Errors
    /// A sentence, where its password is nowhere to be had.
    pub fn of_camera(
        kept: &Kept,
        sightings: &Sightings,
        camera: &Camera,
        stream: Option<&Stream>,
        shown: String,
    ) -> Result<Option<Self>, String> {
        let target = match (stream, &camera.address) {
            (Some(stream), _) => kept.target_of(stream),
            (None, Some(host)) => Target::Device {
                host: host.clone(),
                port: camera.service_port.filter(|_| camera.is_encrypted()),
                credentials: None,
                encrypted: camera.is_encrypted(),
            },
            (None, None) => return Ok(None),
        };
        let seen = remembered(kept, sightings, &target);
        Ok(Some(Self {
            shown,
            target: target.with_credentials(kept.credentials(camera)?),
            transport: camera.transport,
            trust: trust_of(camera),
            key: stream.and_then(|stream| kept.key_of(stream)),
            seen,
        }))
    }
}

impl Checker {
    /// The runtime that checks run on.
    #[must_use]
    pub const fn handle(&self) -> &tokio::runtime::Handle {
        self.runtime.handle()
    }

    /// Ready to check.
    ///
    /// # Errors
    /// When the system gives no thread, or the list of common paths cannot be read.
    pub fn new(decode: &Decode) -> anyhow::Result<Self> {
        Ok(Self { runtime: Runtime::start()?, pool: pool(decode), patterns: path_patterns()? })
    }
}

/// What was last seen of a target, with the serial number that the site has of it.
#[must_use]
pub fn remembered(kept: &Kept, sightings: &Sightings, target: &Target) -> Option<Sighting> {
    let key = sighting_key(target);
    let seen = sightings.of(&key).cloned();
    let serial = kept
        .file
        .site()
        .cameras
        .iter()
        .find(|camera| camera.address.as_ref() == Some(&key))
        .and_then(|camera| camera.serial.clone());
    match (seen, serial) {
        (Some(seen), serial) => Some(Sighting { serial: seen.serial.or(serial), ..seen }),
        (None, Some(serial)) => Some(Sighting { serial: Some(serial), ..Sighting::default() }),
        (None, None) => None,
    }
}

/// Under this a target is known among what was seen.
#[must_use]
pub fn sighting_key(target: &Target) -> String {
    match target {
        Target::Device { host, .. } => host.clone(),
        Target::Url(url) => url.host().to_owned(),
        Target::Listen { .. } => target.to_string(),
    }
}

fn millis(span: Duration) -> f64 {
    (span.as_secs_f64() * 1e4).round() / 10.0
}

/// Checks one target. `tell` gets the steps as they are done.
pub async fn check(checker: &Checker, subject: &Subject, tell: impl Fn(&Ladder)) -> (Ladder, Sighting) {
    let mut climb = Climb::new(subject);
    climb.run(checker, &tell).await;
    let ladder = std::mem::take(&mut climb.ladder).complete();
    tell(&ladder);
    (ladder, climb.sighting)
}

struct Climb<'a> {
    subject: &'a Subject,
    began: Mono,
    ladder: Ladder,
    around: Circumstances,
    sighting: Sighting,
}

impl<'a> Climb<'a> {
    fn new(subject: &'a Subject) -> Self {
        let around = Circumstances {
            sign_in_given: subject.target.credentials().is_some(),
            udp_only: subject.transport == TransportChoice::Udp,
            ..Circumstances::default()
        };
        let at = clock::wall().as_unix_micros() / 1_000_000;
        Self { subject, began: clock::now(), ladder: Ladder::default(), around, sighting: Sighting { at, ..Sighting::default() } }
    }

    fn left(&self) -> Duration {
        (self.began + WITHIN).since(clock::now())
    }

    fn fail(&mut self, took: Duration, cause: Cause, saw: impl Into<String>) {
        if let Some(step) = self.ladder.pending() {
            self.ladder.fail(took, saw, cause, advice(step, cause, self.around));
        }
    }

    async fn run(&mut self, checker: &Checker, tell: &impl Fn(&Ladder)) {
        let (host, port) = match &self.subject.target {
            Target::Device { host, port, .. } => (host.clone(), *port),
            Target::Url(url) => (url.host().to_owned(), Some(url.port())),
            Target::Listen { .. } => {
                self.fail(
                    Duration::ZERO,
                    Cause::NotRtsp,
                    "a port to listen on is not checked step by step: use `amber-lattice listen`",
                );
                return;
            }
        };
        let Some(address) = self.find_way(&host, tell).await else { return };
        let Some(url) = self.find_stream(checker, &host, address, port, tell).await else { return };
        if !self.knock(address, url.port(), tell).await {
            return;
        }
        self.around.pictures = !url.scheme().is_rtsp();
        self.climb_stream(checker, &url, address, tell).await;
    }

    /// Resolve and route.
    async fn find_way(&mut self, host: &str, tell: &impl Fn(&Ladder)) -> Option<IpAddr> {
        let at = clock::now();
        let addresses = match reach::resolve(host, RESOLVE_WITHIN).await {
            Ok(addresses) => addresses,
            Err(text) => {
                self.fail(clock::now().since(at), Cause::Unresolved, text);
                return None;
            }
        };
        let took = clock::now().since(at);
        let words: Vec<String> = addresses.iter().map(ToString::to_string).collect();
        let before = self.subject.seen.as_ref().map(|seen| seen.addresses.clone()).unwrap_or_default();
        let literal = host.parse::<IpAddr>().is_ok();
        if literal {
            self.ladder.pass(took, "an address, nothing to resolve");
        } else if !before.is_empty() && !before.iter().any(|old| words.contains(old)) {
            let saw = format!("{}; last time it was {}", words.join(", "), before.join(", "));
            self.ladder.warn(took, saw, None);
        } else {
            self.ladder.pass(took, words.join(", "));
        }
        self.sighting.addresses = words;
        tell(&self.ladder);
        let at = clock::now();
        let mut refused = String::new();
        for address in addresses {
            match reach::route(address) {
                Ok(route) => {
                    self.tell_route(address, &route, clock::now().since(at));
                    tell(&self.ladder);
                    return Some(address);
                }
                Err(text) => refused = text,
            }
        }
        self.fail(clock::now().since(at), Cause::Unreachable, refused);
        None
    }

    fn tell_route(&mut self, address: IpAddr, route: &Route, took: Duration) {
        self.around.same_subnet = route.same_subnet;
        self.around.this_machine = route.this_machine;
        self.around.private_address = match address {
            IpAddr::V4(v4) => v4.is_private() || v4.is_link_local() || v4.is_loopback(),
            IpAddr::V6(v6) => v6.is_unique_local() || v6.is_unicast_link_local() || v6.is_loopback(),
        };
        let by = route.interface.as_ref().map_or(String::new(), |name| format!(" by {name}"));
        if route.this_machine {
            self.ladder.pass(took, "on this machine");
        } else if route.same_subnet {
            self.ladder.pass(took, format!("on this machine's own subnet{by}"));
        } else if self.around.private_address {
            let saw = format!("from {}{by} to another subnet: only a router between can pass it on", route.from);
            self.ladder.warn(took, saw, None);
        } else {
            self.ladder.pass(took, format!("from {}{by}, through a router", route.from));
        }
    }

    /// The stream to check: the one that was named, or what the device offers.
    async fn find_stream(
        &mut self,
        checker: &Checker,
        host: &str,
        address: IpAddr,
        port: Option<u16>,
        tell: &impl Fn(&Ladder),
    ) -> Option<SourceUrl> {
        if let Target::Url(url) = &self.subject.target {
            return self.host(address, url.port(), tell).await.then(|| url.clone());
        }
        let credentials = self.subject.target.credentials().cloned();
        let at = clock::now();
        let taken =
            tokio::time::timeout(INTAKE_WITHIN, take_in(&self.subject.target, &checker.patterns, self.subject.trust)).await;
        let (cause, text) = match taken {
            Ok(Ok(intake)) => {
                self.around.path_found = intake.by_paths;
                self.around.device_answers = !intake.by_paths;
                self.sighting.serial = intake.cameras.first().and_then(|camera| camera.serial.clone());
                let urls = intake.cameras.iter().flat_map(|camera| &camera.streams).find_map(|stream| match &stream.target {
                    Target::Url(url) => Some(url.clone()),
                    _ => None,
                });
                match urls {
                    Some(url) => {
                        let there = self.host(address, url.port(), tell).await;
                        self.compare_serial();
                        return there.then(|| url.with_credentials(credentials));
                    }
                    None => (Cause::NoSuchStream, "the device offers no stream".to_owned()),
                }
            }
            Ok(Err(trouble)) => (trouble.cause, trouble.text),
            Err(_) => (Cause::Silence, format!("{host} did not say what it offers in {} s", INTAKE_WITHIN.as_secs())),
        };
        // Nothing to open: the ladder tells how far it went.
        let took = clock::now().since(at);
        if !self.host(address, port.unwrap_or(554), tell).await {
            return None;
        }
        let reached = match cause {
            Cause::PortClosed | Cause::Unreachable => Step::Port,
            Cause::SignIn => Step::SignIn,
            Cause::NotRtsp | Cause::ClosedByCamera | Cause::Silence => Step::Protocol,
            _ => Step::Path,
        };
        self.around.path_found = cause == Cause::NoSuchStream;
        while let Some(step) = self.ladder.pending().filter(|step| *step < reached) {
            self.ladder.pass(
                Duration::ZERO,
                match step {
                    Step::Port => "open",
                    Step::Protocol => "it answers",
                    _ => "none asked for so far",
                },
            );
        }
        self.fail(took, cause, text);
        None
    }

    /// Whether anything answers at the address.
    async fn host(&mut self, address: IpAddr, port: u16, tell: &impl Fn(&Ladder)) -> bool {
        let at = clock::now();
        let knock = reach::knock(SocketAddr::new(address, port), KNOCK_WITHIN).await;
        let hardware = reach::neighbour(address);
        self.sighting.hardware = hardware.map(|hardware| hardware.to_string());
        let before = self.subject.seen.as_ref().and_then(|seen| seen.hardware.clone());
        let card = hardware.map_or(String::new(), |hardware| format!(", network card {hardware}"));
        match knock {
            Knock::Open(took) | Knock::Refused(took) => {
                if let (Some(before), Some(now)) = (before, hardware.map(|hardware| hardware.to_string()))
                    && before != now
                {
                    let saw = format!(
                        "answers, but from another network card than last time ({now}, before {before}): two devices may have this one address"
                    );
                    self.ladder.warn(took, saw, None);
                } else {
                    self.ladder.pass(took, format!("answers{card}"));
                }
            }
            Knock::Unreachable(took, text) => {
                self.fail(took, Cause::Unreachable, format!("{address} cannot be reached: {text}"));
                return false;
            }
            Knock::Silent(_) => {
                let echo = reach::echo(address, ECHO_WITHIN.min(self.left())).await;
                let took = clock::now().since(at);
                match echo {
                    Some(trip) => self.ladder.pass(took, format!("answers an echo in {:.1} ms{card}", millis(trip))),
                    None if hardware.is_some() => self.ladder.pass(took, format!("there{card}")),
                    None => {
                        let card = self.look_elsewhere();
                        let moved = card.map_or(String::new(), |at| format!("; its network card is now at {at}"));
                        self.fail_unless_moved(took, Cause::Unreachable, format!("{address} does not answer{moved}"), address)
                            .await;
                        if let (Some(at), None) = (card, self.ladder.moved_to()) {
                            self.ladder.set_moved_to(at.to_string());
                        }
                        return false;
                    }
                }
            }
        }
        tell(&self.ladder);
        true
    }

    /// Another device answers at the address than last time.
    fn compare_serial(&mut self) {
        let before = self.subject.seen.as_ref().and_then(|seen| seen.serial.as_ref());
        if let (Some(before), Some(now)) = (before, self.sighting.serial.as_ref())
            && before != now
        {
            let saw = format!(
                "answers, but as another device than last time (serial number {now}, before {before}): two devices may have this one address, or it was replaced"
            );
            self.ladder.amend(Step::Host, StepState::Warn, saw);
        }
    }

    /// Where the network card is now that was last seen at the address.
    fn look_elsewhere(&self) -> Option<IpAddr> {
        let before = self.subject.seen.as_ref()?.hardware.clone()?;
        let found = reach::neighbours().into_iter().find(|(_, hardware)| hardware.to_string() == before);
        found.map(|(address, _)| address)
    }

    /// Whether the port is open.
    async fn knock(&mut self, address: IpAddr, port: u16, tell: &impl Fn(&Ladder)) -> bool {
        let knock = reach::knock(SocketAddr::new(address, port), KNOCK_WITHIN.min(self.left())).await;
        match knock {
            Knock::Open(took) => self.ladder.pass(took, format!("{port} is open")),
            Knock::Refused(took) => {
                self.around.device_answers = self.device_answers(address).await;
                self.fail_unless_moved(took, Cause::PortClosed, format!("{port} is closed"), address).await;
            }
            Knock::Silent(took) => {
                self.around.device_answers = self.device_answers(address).await;
                self.fail_unless_moved(took, Cause::Unreachable, format!("{port} gives no answer"), address).await;
            }
            Knock::Unreachable(took, text) => self.fail(took, Cause::Unreachable, text),
        }
        tell(&self.ladder);
        !self.ladder.failed()
    }

    /// Nobody is where the device was: it is looked for by what stays when an address changes. No sign-in is sent: whoever
    /// answers is not known to be the device before the operator says so.
    async fn fail_unless_moved(&mut self, took: Duration, cause: Cause, saw: String, address: IpAddr) {
        let known = self.subject.seen.as_ref().map(|seen| Identity {
            serial: seen.serial.clone(),
            endpoint: seen.endpoint.clone(),
            hardware: seen.hardware.clone(),
        });
        let found = match known {
            Some(known) if !self.around.device_answers && !known.is_empty() => self.find_again(&known, address).await,
            _ => None,
        };
        let Some((by, at)) = found else { return self.fail(took, cause, saw) };
        let moved = format!(
            "The device has moved: {by} answers at {at} now. Give that address (n on the screen), and let its router keep it the same. No sign-in was sent there."
        );
        self.ladder.set_moved_to(at.to_string());
        self.ladder.fail(took, format!("{saw}; the device is at {at} now"), cause, moved);
    }

    /// Where the device answers a probe, looked for on the interface that leads to its old address, and by what it is known.
    async fn find_again(&self, known: &Identity, address: IpAddr) -> Option<(String, IpAddr)> {
        let all = reach::interfaces();
        let leads = |interface: &&reach::Interface| {
            interface.multicast && (interface.contains(address) || (interface.loopback && address.is_loopback()))
        };
        let probe_from = all.iter().filter(leads).filter_map(|interface| match interface.address {
            IpAddr::V4(v4) => Some(v4),
            IpAddr::V6(_) => None,
        });
        let config = FindConfig::new(Vec::new(), probe_from.collect());
        if config.probe_from.is_empty() {
            return None;
        }
        let mut search = Search::begin(&tokio::runtime::Handle::current(), config);
        let looked = async {
            while let Some(found) = search.news.recv().await {
                let hardware = reach::neighbour(found.address).map(|hardware| hardware.to_string());
                let seen = Identity { serial: found.learnt.serial, endpoint: found.learnt.endpoint, hardware };
                if let Some(by) = known.same_as(&seen).filter(|_| found.address != address) {
                    return Some((by, found.address));
                }
            }
            None
        };
        tokio::time::timeout(self.left().min(Duration::from_secs(6)), looked).await.ok().flatten()
    }

    async fn device_answers(&self, address: IpAddr) -> bool {
        let host = address.to_string();
        let asked = Asked::unsigned(&host);
        let asked = find_service(&asked, address);
        tokio::time::timeout(Duration::from_secs(3).min(self.left()), asked).await.is_ok_and(|device| device.is_some())
    }

    /// Everything from the protocol on, by really opening the stream.
    async fn climb_stream(&mut self, checker: &Checker, url: &SourceUrl, address: IpAddr, tell: &impl Fn(&Ladder)) {
        let origin = if self.around.pictures {
            Origin::Pictures { url: url.clone(), every: Duration::from_secs(5) }
        } else {
            Origin::Url(url.clone())
        };
        let config = SourceConfig {
            trust: self.subject.trust,
            key: self.subject.key.clone(),
            ..SourceConfig::from_origin(origin, self.subject.transport)
        };
        let mut feed = Feed::open(checker.runtime.handle(), Some(&checker.pool), config, Pictures::default());
        feed.want(Some(SMALL_TILE));
        let mut watch = StreamWatch::new(clock::now(), self.began + WITHIN, self.around);
        let mut done = 0;
        let mut asked_web = false;
        loop {
            tokio::time::sleep(Duration::from_millis(20)).await;
            let figures = feed.figures();
            if figures.cause == Some(Cause::NotRtsp) && !asked_web {
                asked_web = true;
                self.around.web_server = reach::is_web_server(SocketAddr::new(address, url.port())).await;
                watch.set_circumstances(self.around);
            }
            let over = watch.observe(clock::now(), &figures, &mut self.ladder);
            if self.ladder.steps().len() != done {
                done = self.ladder.steps().len();
                tell(&self.ladder);
            }
            if over {
                break;
            }
        }
        feed.close();
        let leave_by = clock::now() + Duration::from_millis(600);
        while !feed.is_closed() && clock::now() < leave_by {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        self.ask_device(address).await;
    }

    /// The device tells what the stream does not: its clock, and the lasting name that it is found by when its address changes.
    /// No sign-in is used.
    async fn ask_device(&mut self, address: IpAddr) {
        let unknown = self.ladder.steps().iter().any(|step| step.step == Step::Clock && step.state == StepState::Skipped);
        let named = self.subject.seen.as_ref().is_some_and(|seen| seen.endpoint.is_some());
        if (!unknown && named) || self.ladder.failed() || self.left() < Duration::from_secs(1) {
            return;
        }
        let host = address.to_string();
        let asked = async {
            let Some(mut device) = find_service(&Asked::unsigned(&host), address).await else {
                return Some((None, announced(address).await));
            };
            let before = clock::wall();
            let ahead = device.greet().await.ok().and_then(|time| Some(time.utc?.offset(500_000).micros_since(before)));
            Some((ahead, device.endpoint().await))
        };
        let Ok(Some((ahead, endpoint))) = tokio::time::timeout(self.left().min(Duration::from_secs(3)), asked).await else {
            return;
        };
        self.sighting.endpoint = endpoint;
        let Some(ahead) = ahead.filter(|_| unknown) else { return };
        let text = format!("{} by its device service, to a second", lattice_core::clock::off_text(ahead));
        if ahead.abs() > 2_000_000 {
            self.ladder.amend(Step::Clock, StepState::Warn, text);
        } else {
            self.ladder.amend(Step::Clock, StepState::Ok, "right to a second, by its device service");
        }
    }
}

/// The lasting name that a device at this address tells when it is probed by itself.
async fn announced(address: IpAddr) -> Option<String> {
    let IpAddr::V4(host) = address else { return None };
    let mut heard = discover(&[], &[host], ANNOUNCED_WITHIN).ok()?;
    while let Some(one) = heard.recv().await {
        if one.from.ip() == address && !one.answer.endpoint.is_empty() {
            return Some(one.answer.endpoint);
        }
    }
    None
}
