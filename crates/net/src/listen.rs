//! A port that a sender pushes to: MPEG-TS in UDP or RTP, or RTP as a session description says.
//!
//! The first sender that is understood is followed; another one on the same port is noticed and named, not mixed in.

use crate::clock;
use crate::outcome::Outcome;
use crate::source::{Command, Driver, PUBLISH_SLACK, give, media_came};
use crate::udp::UdpPort;
use lattice_core::receiver::Unit;
use lattice_core::rtp::RtpPacket;
use lattice_core::sdp::{Codec, Description, Video};
use lattice_core::ts::Demux;
use lattice_core::verdict::SessionState;
use lattice_core::{Cause, Mono, Transport};
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;
use tokio::time::sleep_until;

/// A sender that was quiet for this long may be replaced by another.
const QUIET: Duration = Duration::from_secs(2);
/// Packets that are not understood are told after this long without any that are.
const NOT_UNDERSTOOD: Duration = Duration::from_millis(1_500);
/// A port that is held by another program is tried again this often.
const RETRY: Duration = Duration::from_secs(3);
/// Least time between readings of the clock for figures.
const TICK: Duration = Duration::from_millis(200);

/// Where a pushed stream is listened for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListenConfig {
    /// A multicast group, or an address of this machine; `None` for all its addresses.
    pub address: Option<IpAddr>,
    /// The UDP port; RTCP is not listened for.
    pub port: u16,
    /// The session description of an RTP stream whose payload is not MPEG-TS.
    pub description: Option<String>,
}

/// Listens until the source is closed, or the port is lost.
pub async fn listen(driver: &mut Driver, config: &ListenConfig) -> Outcome {
    driver.receiver.meter().begin_try(clock::now());
    let port = match bind(config) {
        Ok(port) => port,
        Err(error) => return cannot_listen(driver, config, &error).await,
    };
    driver.receiver.meter().forget_failure();
    driver.set_state(SessionState::Connecting);
    let described = config.description.as_deref().and_then(|text| Description::parse(text).video());
    Listener { port, described, sender: None, form: None, other: None, odd_since: None, config }.run(driver).await
}

fn bind(config: &ListenConfig) -> io::Result<UdpPort> {
    let group = config.address.filter(IpAddr::is_multicast);
    let any = || {
        if config.address.is_some_and(|address| address.is_ipv6()) {
            IpAddr::V6(Ipv6Addr::UNSPECIFIED)
        } else {
            IpAddr::V4(Ipv4Addr::UNSPECIFIED)
        }
    };
    let socket = std::net::UdpSocket::bind((group.or(config.address).unwrap_or_else(any), config.port))?;
    match group {
        Some(IpAddr::V4(group)) => {
            // Each interface that takes multicast; one of them is where the sender is.
            let joined =
                crate::reach::interfaces().into_iter().filter(|interface| interface.multicast).filter(
                    |interface| match interface.address {
                        IpAddr::V4(address) => socket.join_multicast_v4(&group, &address).is_ok(),
                        IpAddr::V6(_) => false,
                    },
                );
            if joined.count() == 0 {
                return Err(io::Error::other("no interface takes multicast"));
            }
        }
        Some(IpAddr::V6(group)) => socket.join_multicast_v6(&group, 0)?,
        None => {}
    }
    UdpPort::new(socket)
}

async fn cannot_listen(driver: &mut Driver, config: &ListenConfig, error: &io::Error) -> Outcome {
    let text = match error.kind() {
        io::ErrorKind::AddrInUse => {
            format!("another program listens on port {} already: close it, or choose another port", config.port)
        }
        io::ErrorKind::PermissionDenied => {
            format!("ports below 1024 need privileges on this machine: choose one above instead of {}", config.port)
        }
        io::ErrorKind::AddrNotAvailable => {
            let address = config.address.map_or_else(String::new, |address| address.to_string());
            format!("{address} is not an address of this machine")
        }
        _ => format!("port {} cannot be listened on: {}", config.port, crate::connect::plain(error)),
    };
    let until = clock::now() + RETRY;
    driver.set_state(SessionState::Failed { cause: Cause::PortClosed, text, next_try: Some(until) });
    if driver.wait(Some(until), None).await { Outcome::Retry } else { Outcome::Closed }
}

/// What the packets carry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    /// Transport packets in UDP.
    Transport,
    /// RTP with this payload type.
    Rtp(u8),
}

struct Listener<'a> {
    port: UdpPort,
    described: Option<Video>,
    /// Who is followed, and when they were heard last.
    sender: Option<(SocketAddr, Mono)>,
    form: Option<Form>,
    /// Another sender that was noticed, and when.
    other: Option<(SocketAddr, Mono)>,
    /// Since when only packets come that are not understood.
    odd_since: Option<(Mono, SocketAddr)>,
    config: &'a ListenConfig,
}

enum Wake {
    Readable,
    Command(Option<Command>),
    Time,
}

impl Listener<'_> {
    async fn run(mut self, driver: &mut Driver) -> Outcome {
        loop {
            let tick = clock::now() + TICK;
            let due =
                driver.receiver.deadline().map_or(tick, |deadline| deadline.min(tick)).min(driver.publish_at + PUBLISH_SLACK);
            let wake = tokio::select! {
                command = driver.commands.recv() => Wake::Command(command),
                () = self.port.readable() => Wake::Readable,
                () = sleep_until(clock::instant(due)) => Wake::Time,
            };
            match wake {
                Wake::Command(Some(Command::Retry)) => return Outcome::Retry,
                Wake::Command(Some(Command::Close) | None) => return Outcome::Closed,
                Wake::Readable => self.read(driver),
                Wake::Time => {}
            }
            let now = clock::now();
            let Driver { receiver, outlet, .. } = driver;
            let mut units: Vec<Unit> = Vec::new();
            receiver.tick(now, &mut |unit| units.push(unit));
            for unit in units {
                give(outlet.as_ref(), unit, receiver.parameters());
            }
            self.tell(driver, now);
            driver.publish_if_due(now);
        }
    }

    fn read(&mut self, driver: &mut Driver) {
        let pair = clock::pair();
        let mut came: Vec<(Mono, Option<SocketAddr>, Vec<u8>)> = Vec::new();
        let lost = self.port.read(pair, |arrival, from, bytes| came.push((arrival, from, bytes.to_vec())));
        driver.receiver.on_kernel_drops(lost);
        for (arrival, from, bytes) in came {
            if let Some(from) = from {
                self.on_datagram(driver, pair.mono, arrival, from, &bytes);
            }
        }
        media_came(driver.receiver.is_mid_unit());
    }

    fn on_datagram(&mut self, driver: &mut Driver, now: Mono, arrival: Mono, from: SocketAddr, bytes: &[u8]) {
        match self.sender {
            Some((sender, heard)) if sender != from && arrival.since(heard) < QUIET => {
                self.other = Some((from, arrival));
                return;
            }
            Some((sender, _)) if sender == from => {}
            _ => {
                // A first sender, or one after a silence: it must be understood before it is followed.
                let Some(form) = self.form_of(bytes) else {
                    self.odd_since.get_or_insert((arrival, from));
                    return;
                };
                self.begin(driver, arrival, from, form);
            }
        }
        self.sender = Some((from, arrival));
        let Driver { receiver, outlet, .. } = driver;
        let mut units: Vec<Unit> = Vec::new();
        match self.form {
            Some(Form::Transport) => receiver.on_transport_stream(now, arrival, bytes, &mut |unit| units.push(unit)),
            _ => receiver.on_rtp(now, arrival, bytes, &mut |unit| units.push(unit)),
        }
        for unit in units {
            give(outlet.as_ref(), unit, receiver.parameters());
        }
    }

    fn form_of(&self, bytes: &[u8]) -> Option<Form> {
        if Demux::recognises(bytes) {
            return Some(Form::Transport);
        }
        let packet = RtpPacket::parse(bytes).ok()?;
        let described = self.described.as_ref().is_some_and(|video| video.payload_type == packet.payload_type.0);
        (described || Demux::recognises(packet.payload)).then_some(Form::Rtp(packet.payload_type.0))
    }

    fn begin(&mut self, driver: &mut Driver, now: Mono, from: SocketAddr, form: Form) {
        self.odd_since = None;
        let described = self.described.clone().filter(|video| form == Form::Rtp(video.payload_type));
        let video = described.unwrap_or_else(|| Video {
            payload_type: if let Form::Rtp(payload_type) = form { payload_type } else { 33 },
            ..Video::of(Codec::Mp2t)
        });
        tracing::info!(%from, ?form, "a sender begins");
        self.form = Some(form);
        driver.receiver.end();
        driver.receiver.begin(now, &video, Transport::Udp);
    }

    /// What else is to be known of the port.
    fn tell(&mut self, driver: &mut Driver, now: Mono) {
        let remark = self.other.filter(|(_, at)| now.since(*at) < Duration::from_secs(10)).map(|(other, _)| {
            let followed = self.sender.map_or_else(String::new, |(sender, _)| sender.to_string());
            format!("{other} sends to port {} too and is not mixed in: {followed} is followed", self.config.port)
        });
        driver.receiver.meter().set_remark(remark);
        driver.receiver.meter().set_sender(self.sender.map(|(sender, _)| sender));
        let silent = self.sender.is_none_or(|(_, heard)| now.since(heard) > QUIET);
        if let Some((since, from)) = self.odd_since
            && silent
            && now.since(since) >= NOT_UNDERSTOOD
        {
            let what = if self.config.description.is_some() {
                "what its description says, nor MPEG-TS"
            } else {
                "MPEG-TS; RTP with another payload needs its session description (SDP)"
            };
            let text = format!("packets come from {from}, but they are not {what}");
            driver.set_state(SessionState::Failed { cause: Cause::NotRtsp, text, next_try: None });
            self.odd_since = None;
        }
    }
}

/// The addresses of this machine that a sender can be given, without its loopback.
#[must_use]
pub fn own_addresses() -> Vec<IpAddr> {
    crate::reach::interfaces()
        .into_iter()
        .filter(|interface| !interface.loopback && interface.address.is_ipv4())
        .map(|interface| interface.address)
        .collect()
}
