//! One try: connect, play, receive until it ends.

use crate::clock;
use crate::connect::connect_to;
use crate::connection::{Connection, TlsError, Trust, tls};
use crate::outcome::Outcome;
use crate::source::{Command, Driver, PUBLISH_SLACK, give, media_came};
use crate::udp::UdpPair;
use lattice_core::rtsp::{Action, Client, ClientConfig, ControlGuard, Frame, Framer, MAX_MESSAGE, Playing};
use lattice_core::sound::SoundState;
use lattice_core::{Cause, Mono, SourceUrl, Transport, TransportChoice};
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::{Sleep, sleep_until, timeout};

/// UDP that brings nothing for this long is given up under `auto`.
const UDP_TRIAL: Duration = Duration::from_secs(3);
/// A session that brings nothing for this long is closed and opened anew.
const SILENCE: Duration = Duration::from_secs(10);
/// TLS that is not agreed in this time never will be.
const TLS_WITHIN: Duration = Duration::from_secs(6);
/// A write that does not finish in this time means that the connection is dead.
const WRITE_WITHIN: Duration = Duration::from_secs(3);
/// Room for reading; grows when one message needs more.
const READ_BUFFER: usize = 64 * 1024;

/// Never more than the longest message with its head, and what was read behind it.
const MOST_INPUT: usize = 2 * MAX_MESSAGE + 2 * READ_BUFFER;

/// A deadline that has moved on by this much sets the timer anew.
const MOVED: Duration = Duration::from_millis(200);

/// What one try is to do.
pub struct Play {
    pub url: SourceUrl,
    pub transport: TransportChoice,
    pub trust: Trust,
}

/// Runs one try to its end.
///
/// # Cancel safety
/// Not to be cancelled: the session would be left without TEARDOWN.
pub async fn attempt(driver: &mut Driver, play: Play) -> Outcome {
    driver.receiver.meter().begin_try(clock::now());
    driver.receiver.meter().set_unanswered(Some((clock::now(), Cause::Unreachable)));
    let connected = tokio::select! {
        connected = connect_to(play.url.host(), play.url.port(), None) => {
            connected.map_err(|(cause, text)| Outcome::Failed(cause, text))
        }
        outcome = interrupted(driver) => return outcome,
    };
    driver.receiver.meter().set_unanswered(None);
    let stream = match connected {
        Ok(stream) => stream,
        Err(outcome) => return outcome,
    };
    driver.receiver.meter().on_connected(clock::now());
    let local = stream.local_addr();
    let stream = if play.url.scheme().is_tls() {
        let agreed = timeout(TLS_WITHIN, tls(stream, play.url.host(), play.trust));
        let agreed = tokio::select! {
            agreed = agreed => agreed,
            outcome = interrupted(driver) => return outcome,
        };
        match agreed {
            Ok(Ok(stream)) => stream,
            Ok(Err(error @ TlsError::Certificate { fingerprint, .. })) => {
                return Outcome::Untrusted(error.to_string(), fingerprint);
            }
            Ok(Err(error)) => return Outcome::Failed(Cause::NotRtsp, error.to_string()),
            Err(_) => return Outcome::Failed(Cause::Silence, format!("TLS was not agreed within {} s", TLS_WITHIN.as_secs())),
        }
    } else {
        Connection::Plain(stream)
    };
    // In TLS everything travels in the one connection: over UDP the packets would be readable.
    let transport = if play.url.scheme().is_tls() { TransportChoice::Tcp } else { play.transport };
    let udp = if transport == TransportChoice::Tcp {
        None
    } else {
        local.and_then(|address| UdpPair::bind(address.ip())).inspect_err(|error| tracing::warn!(%error, "no UDP ports")).ok()
    };
    let wants_sound = driver.config.sound && driver.without_sound.is_none();
    let sound_udp = udp.as_ref().filter(|_| wants_sound).and_then(|udp| UdpPair::bind(udp.ip().ok()?).ok());
    let config = ClientConfig {
        url: play.url,
        transport,
        udp_ports: udp.as_ref().and_then(|udp| udp.ports().ok()),
        sound: wants_sound,
        sound_ports: sound_udp.as_ref().and_then(|udp| udp.ports().ok()),
        agent: crate::AGENT.to_owned(),
        client_nonce: format!("{:016x}", rand::random::<u64>()),
    };
    let client = Client::new(clock::now(), config);
    let session = Session {
        stream,
        udp,
        sound_udp,
        client,
        framer: Framer::default(),
        guard: ControlGuard::default(),
        input: Input::new(),
        playing: None,
        choice: transport,
        timer: Timer::new(),
    };
    session.run(driver).await
}

/// Waits for an order that ends a try before it has a session; publishes figures meanwhile.
async fn interrupted(driver: &mut Driver) -> Outcome {
    loop {
        tokio::select! {
            command = driver.commands.recv() => match command {
                Some(Command::Retry) => return Outcome::Retry,
                Some(Command::Close) | None => return Outcome::Closed,
            },
            () = sleep_until(clock::instant(driver.publish_at)) => driver.publish_if_due(clock::now()),
        }
    }
}

struct Active {
    details: Playing,
    since: Mono,
    rtcp_peer: Option<SocketAddr>,
    /// Who sends, by agreement: the source that the server named, or the server.
    sender: Option<IpAddr>,
}

struct Session {
    stream: Connection,
    udp: Option<UdpPair>,
    sound_udp: Option<UdpPair>,
    client: Client,
    framer: Framer,
    guard: ControlGuard,
    input: Input,
    playing: Option<Active>,
    choice: TransportChoice,
    timer: Timer,
}

/// One timer for the whole session. Setting a timer for every packet costs more than the packet does,
/// and so does waking for one that rings too early: it is set anew when the deadline has moved a good way.
struct Timer {
    sleep: Pin<Box<Sleep>>,
    at: Mono,
}

impl Timer {
    fn new() -> Self {
        let now = clock::now();
        Self { sleep: Box::pin(sleep_until(clock::instant(now))), at: now }
    }

    /// Completes at `deadline` or, now and then, before it.
    async fn until(&mut self, deadline: Mono) {
        if deadline < self.at || deadline.since(self.at) > MOVED || self.sleep.is_elapsed() {
            // A new one: to put an old one off would leave its earlier wake in place.
            self.sleep.set(sleep_until(clock::instant(deadline)));
            self.at = deadline;
        }
        self.sleep.as_mut().await;
    }
}

/// Bytes read and not yet taken apart.
struct Input {
    bytes: Vec<u8>,
    filled: usize,
}

impl Input {
    fn new() -> Self {
        Self { bytes: vec![0; READ_BUFFER], filled: 0 }
    }

    fn room(&mut self) -> &mut [u8] {
        if self.filled == self.bytes.len() {
            self.bytes.resize((self.filled * 2).min(MOST_INPUT), 0); // the framer refuses messages that are longer
        }
        self.bytes.get_mut(self.filled..).unwrap_or_default()
    }

    fn take(&mut self, used: usize) {
        self.bytes.copy_within(used..self.filled, 0);
        self.filled -= used;
        if self.bytes.len() > READ_BUFFER && self.filled < READ_BUFFER / 2 {
            self.bytes.truncate(READ_BUFFER); // one long message was an exception
            self.bytes.shrink_to_fit();
        }
    }
}

enum Wake {
    Tcp(io::Result<usize>),
    Udp,
    Command(Option<Command>),
    Time,
}

impl Session {
    async fn run(mut self, driver: &mut Driver) -> Outcome {
        loop {
            if let Some(outcome) = self.act(driver).await {
                return outcome;
            }
            let wake = self.wait(driver).await;
            let media = matches!(wake, Wake::Tcp(_) | Wake::Udp) && self.playing.is_some();
            if let Some(outcome) = self.on_wake(driver, wake).await {
                return outcome;
            }
            if media {
                media_came(driver.receiver.is_mid_unit());
            }
        }
    }

    async fn wait(&mut self, driver: &mut Driver) -> Wake {
        let publish = driver.publish_at + PUBLISH_SLACK;
        let deadline = [self.client.deadline(), driver.receiver.deadline()].into_iter().flatten().fold(publish, Mono::min);
        let by_udp = self.playing.as_ref().filter(|playing| playing.details.transport == Transport::Udp);
        let udp = self.udp.as_ref().filter(|_| by_udp.is_some());
        let sound = self.sound_udp.as_ref().filter(|_| by_udp.is_some_and(|playing| playing.details.sound.is_some()));
        let room = self.input.room();
        tokio::select! {
            command = driver.commands.recv() => Wake::Command(command),
            // A read that does not fill the room tells the runtime that the socket is empty: no second one.
            read = self.stream.read(room) => Wake::Tcp(read),
            () = async { match udp { Some(udp) => udp.readable().await, None => std::future::pending().await } } => Wake::Udp,
            () = async { match sound { Some(udp) => udp.readable().await, None => std::future::pending().await } } => Wake::Udp,
            () = self.timer.until(deadline) => Wake::Time,
        }
    }

    async fn on_wake(&mut self, driver: &mut Driver, wake: Wake) -> Option<Outcome> {
        match wake {
            Wake::Command(Some(Command::Retry)) => {
                driver.without_sound = None;
                return Some(self.leave(Outcome::Retry).await);
            }
            Wake::Command(Some(Command::Close) | None) => return Some(self.leave(Outcome::Closed).await),
            Wake::Tcp(Ok(0) | Err(_)) => self.client.on_closed(),
            Wake::Tcp(Ok(n)) => {
                self.input.filled += n;
                let more = self.input.filled == self.input.bytes.len();
                self.take_apart(driver);
                if more {
                    // It has more than a handful: others have their turn before it goes on.
                    tokio::task::yield_now().await;
                }
            }
            Wake::Udp => self.read_udp(driver),
            Wake::Time => {}
        }
        let now = clock::now();
        if let Some(complaint) = self.guard.complaint(now) {
            self.client.on_garbage(complaint);
        }
        self.client.tick(now);
        let Driver { receiver, outlet, .. } = driver;
        let mut units = Vec::new();
        receiver.tick(now, &mut |unit| units.push(unit));
        for unit in units {
            give(outlet.as_ref(), unit, receiver.parameters());
        }
        if driver.receiver.meter().has_picture() {
            driver.backoff.succeeded();
        }
        self.report(driver, now).await;
        driver.receiver.meter().set_round_trip(self.client.round_trip());
        driver.receiver.meter().set_unanswered(self.client.unanswered_since().map(|since| (since, Cause::Silence)));
        driver.publish_if_due(now);
        self.silence(driver, now).await
    }

    /// Does what the client wants done; an outcome when the session is over.
    async fn act(&mut self, driver: &mut Driver) -> Option<Outcome> {
        while let Some(action) = self.client.poll() {
            match action {
                Action::Send(bytes) => {
                    if !self.write(&bytes).await {
                        self.client.on_closed();
                    }
                }
                Action::Progress(progress) => driver.receiver.meter().on_progress(clock::now(), progress),
                Action::Playing(details) => self.begin(driver, *details),
                Action::Failed(failure) => {
                    if self.client.failed_by_sound() && driver.without_sound.is_none() {
                        driver.without_sound = Some(format!("the session ended when its sound was asked for: {}", failure.text));
                        return Some(Outcome::Retry);
                    }
                    driver.receiver.meter().set_seen(Some(failure.kind));
                    return Some(failure.into());
                }
                Action::Redirect(url) => return Some(Outcome::Redirect(Box::new(url))),
            }
        }
        None
    }

    fn begin(&mut self, driver: &mut Driver, details: Playing) {
        let now = clock::now();
        driver.receiver.begin(now, &details.video, details.transport);
        let state = driver.without_sound.clone().map_or_else(|| details.sound_state.clone(), SoundState::Refused);
        let sound = details.sound.as_ref().map(|playing| &playing.sound);
        driver.receiver.begin_sound(now, sound, state, self.client.sound());
        let peer = self.stream.tcp().peer_addr().ok();
        let source = details.source.as_ref().and_then(|text| text.parse().ok()).or(peer.map(|peer| peer.ip()));
        let rtcp_peer = source.zip(details.server_ports).map(|(ip, (_, rtcp))| SocketAddr::new(ip, rtcp));
        tracing::info!(codec = %details.video.codec, transport = details.transport.word(), "playing");
        self.playing = Some(Active { details, since: now, rtcp_peer, sender: source });
        driver.publish_at = now;
        self.take_apart(driver); // packets may have come in one piece with the answer to PLAY
    }

    fn take_apart(&mut self, driver: &mut Driver) {
        let details = self.playing.as_ref().map(|playing| &playing.details).filter(|details| details.transport == Transport::Tcp);
        let channels = details.map(|details| details.channels);
        let sound = details.and_then(|details| details.sound.as_ref()).map(|sound| sound.channels);
        let clocks = clock::pair();
        let now = clocks.mono;
        let Driver { receiver, outlet, .. } = driver;
        let (mut used, mut unasked, mut frames) = (0, 0, 0);
        loop {
            match self.framer.next(self.input.bytes.get(used..self.input.filled).unwrap_or_default()) {
                Ok(Some((frame, n))) => {
                    used += n;
                    frames += 1;
                    match frame {
                        Frame::Message(message) => {
                            unasked += n;
                            self.client.on_message(now, message);
                        }
                        Frame::Packet { channel, data } if Some(channel) == channels.map(|(rtp, _)| rtp) => {
                            receive(receiver, outlet.as_ref(), now, now, data);
                        }
                        Frame::Packet { channel, data } if Some(channel) == channels.map(|(_, rtcp)| rtcp) => {
                            receiver.on_rtcp(now, data);
                        }
                        Frame::Packet { channel, data } if Some(channel) == sound.map(|(rtp, _)| rtp) => {
                            receiver.on_sound_rtp(clocks, now, data);
                        }
                        Frame::Packet { channel, data } if Some(channel) == sound.map(|(_, rtcp)| rtcp) => {
                            receiver.on_sound_rtcp(clocks, now, data);
                        }
                        // Line ends; what was not asked for.
                        Frame::Filler | Frame::Packet { .. } => unasked += n,
                    }
                }
                Ok(None) => break,
                Err(error) => {
                    self.client.on_garbage(&error.to_string());
                    break;
                }
            }
            // PLAY's answer may be followed by packets in the same read: they wait for `begin`.
            if self.playing.is_none() && self.client.is_playing() {
                break;
            }
        }
        self.input.take(used);
        self.guard.on_input(now, unasked, frames, self.input.filled);
    }

    fn read_udp(&mut self, driver: &mut Driver) {
        let Some(udp) = &mut self.udp else { return };
        let pair = clock::pair();
        let Driver { receiver, outlet, .. } = driver;
        let sender = self.playing.as_ref().and_then(|playing| playing.sender);
        let is_other = |from: Option<SocketAddr>| from.filter(|from| sender.is_some_and(|sender| from.ip() != sender));
        udp.read_rtcp(pair, |arrival, from, bytes| match is_other(from) {
            Some(other) => receiver.on_other_sender(arrival, other),
            None => receiver.on_rtcp(arrival, bytes),
        });
        let lost = udp.read_rtp(pair, |arrival, from, bytes| match is_other(from) {
            Some(other) => receiver.on_other_sender(arrival, other),
            None => receive(receiver, outlet.as_ref(), pair.mono, arrival, bytes),
        });
        receiver.on_kernel_drops(lost);
        if let Some(udp) = self.sound_udp.as_mut().filter(|_| self.playing.as_ref().is_some_and(|p| p.details.sound.is_some())) {
            udp.read_rtcp(pair, |arrival, from, bytes| {
                if is_other(from).is_none() {
                    receiver.on_sound_rtcp(pair, arrival, bytes);
                }
            });
            udp.read_rtp(pair, |arrival, from, bytes| {
                if is_other(from).is_none() {
                    receiver.on_sound_rtp(pair, arrival, bytes);
                }
            });
        }
    }

    async fn report(&mut self, driver: &mut Driver, now: Mono) {
        if self.playing.is_none() {
            return;
        }
        for compound in [driver.receiver.poll_report(now), driver.receiver.poll_keyframe_request(now)].into_iter().flatten() {
            self.send_compound(compound, false).await;
        }
        if let Some(compound) = driver.receiver.poll_sound_report(now) {
            self.send_compound(compound, true).await;
        }
    }

    async fn send_compound(&mut self, compound: Vec<u8>, on_sound: bool) {
        let Some(playing) = &self.playing else { return };
        let sound = playing.details.sound.as_ref().filter(|_| on_sound);
        match playing.details.transport {
            Transport::Udp => {
                let (udp, peer) = match sound {
                    None => (&self.udp, playing.rtcp_peer),
                    Some(sound) => {
                        (&self.sound_udp, playing.sender.zip(sound.server_ports).map(|(ip, (_, rtcp))| SocketAddr::new(ip, rtcp)))
                    }
                };
                if let (Some(udp), Some(peer)) = (udp, peer) {
                    udp.send_rtcp(&compound, peer);
                }
            }
            Transport::Http => {}
            Transport::Tcp => {
                let mut bytes = vec![b'$', sound.map_or(playing.details.channels.1, |sound| sound.channels.1)];
                bytes.extend((compound.len() as u16).to_be_bytes());
                bytes.extend(compound);
                if !self.write(&bytes).await {
                    self.client.on_closed();
                }
            }
        }
    }

    /// Ends a session that brings nothing.
    async fn silence(&mut self, driver: &mut Driver, now: Mono) -> Option<Outcome> {
        let playing = self.playing.as_ref()?;
        let last = driver.receiver.last_packet();
        let quiet = now.since(last.unwrap_or(playing.since));
        if last.is_some() {
            driver.playing_transport = Some(playing.details.transport);
        }
        let transport = playing.details.transport;
        if last.is_none() && transport == Transport::Udp && self.choice == TransportChoice::Auto && quiet >= UDP_TRIAL {
            return Some(self.leave(Outcome::WantsTcp).await);
        }
        if driver.receiver.has_left(now) {
            let text = "the camera ended the stream (RTCP BYE)".to_owned();
            return Some(self.leave(Outcome::Failed(Cause::ClosedByCamera, text)).await);
        }
        if quiet < SILENCE {
            return None;
        }
        let hint = match driver.receiver.other_sender() {
            Some(other) => format!("; packets came from {other}, which is not who was agreed"),
            None if transport == Transport::Udp => "; UDP may be blocked on the path".to_owned(),
            None => String::new(),
        };
        let text = format!("no packets for {} s while the session stands{hint}", SILENCE.as_secs());
        Some(self.leave(Outcome::Failed(Cause::Silence, text)).await)
    }

    /// Takes leave of the server.
    async fn leave(&mut self, outcome: Outcome) -> Outcome {
        self.client.stop(clock::now());
        while let Some(action) = self.client.poll() {
            if let Action::Send(bytes) = action {
                let _ = timeout(Duration::from_millis(300), self.stream.write_all(&bytes)).await;
            }
        }
        outcome
    }

    async fn write(&mut self, bytes: &[u8]) -> bool {
        matches!(timeout(WRITE_WITHIN, self.stream.write_all(bytes)).await, Ok(Ok(())))
    }
}

fn receive(
    receiver: &mut lattice_core::receiver::Receiver,
    outlet: Option<&crate::buffer::Outlet>,
    now: Mono,
    arrival: Mono,
    bytes: &[u8],
) {
    // An access unit ends at most once a packet, so this rarely holds more than one.
    let mut units = Vec::new();
    receiver.on_rtp(now, arrival, bytes, &mut |unit| units.push(unit));
    for unit in units {
        give(outlet, unit, receiver.parameters());
    }
}
