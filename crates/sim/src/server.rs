//! A camera's RTSP server: one task per connection.

use crate::camera::{Shared, unix_micros};
use crate::log::{Event, Record};
use crate::pacer::{PAYLOAD_TYPE, Pacer};
use crate::sound::SoundPacer;
use crate::video::{CodedFrame, VideoStream};
use lattice_core::rtsp::{
    DigestAlgorithm, Frame, Framer, Message, Request, Response, TransportHeader, auth_parameters, digest_response,
};
use lattice_core::srtp::{MasterKey, Srtp};
use lattice_core::{NtpTime, Wall, rtcp};
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::sync::broadcast::{self, error::RecvError};
use tokio::time::Instant;

/// Sender reports are sent this often.
const REPORT_EVERY: Duration = Duration::from_secs(2);
/// Where the sound of a stream is set up.
const SOUND: &str = "stream=1";
const METHODS: &str = "OPTIONS, DESCRIBE, SETUP, PLAY, PAUSE, GET_PARAMETER, TEARDOWN";

/// Accepts connections until the listener's task is dropped.
pub async fn serve(mut listener: TcpListener, camera: Arc<Shared>) {
    let mut moves = camera.address.subscribe();
    let viewers = Arc::new(AtomicUsize::new(0));
    let mut tasks = tokio::task::JoinSet::new();
    let next_viewer = AtomicU64::new(1);
    loop {
        tokio::select! {
            accepted = listener.accept() => {
                let Ok((stream, peer)) = accepted else { continue };
                if camera.faults.now().cut {
                    continue; // dropped: the viewer sees a connection that closes at once
                }
                let viewer = next_viewer.fetch_add(1, Ordering::Relaxed);
                tasks.spawn(Connection::new(stream, peer, camera.clone(), viewers.clone(), viewer).run());
            }
            Some(_) = tasks.join_next() => {}
            moved = moves.changed() => {
                if moved.is_err() { return }
                let to = *moves.borrow_and_update();
                drop(listener);
                match TcpListener::bind(to).await {
                    Ok(bound) => listener = bound,
                    Err(error) => return tracing::error!(%error, %to, "the stand-in cannot move"),
                }
            }
        }
    }
}

enum Output {
    Tcp { channels: (u8, u8) },
    Udp { rtp: UdpSocket, rtcp: UdpSocket, peer: (SocketAddr, SocketAddr) },
}

impl Output {
    /// What is answered to who asked for it.
    fn agreed(&self, ssrc: u32) -> String {
        match self {
            Self::Tcp { channels } => format!("RTP/AVP/TCP;unicast;interleaved={}-{};ssrc={ssrc:08X}", channels.0, channels.1),
            Self::Udp { rtp, rtcp, peer } => {
                let port = |socket: &UdpSocket| socket.local_addr().map_or(0, |address| address.port());
                let (client, server) = ((peer.0.port(), peer.1.port()), (port(rtp), port(rtcp)));
                format!(
                    "RTP/AVP;unicast;client_port={}-{};server_port={}-{};ssrc={ssrc:08X}",
                    client.0, client.1, server.0, server.1
                )
            }
        }
    }
}

struct Session {
    id: String,
    stream: Arc<VideoStream>,
    output: Output,
    pacer: Pacer,
    frames: Option<broadcast::Receiver<Arc<CodedFrame>>>,
    next_report: Instant,
    await_keyframe: bool,
    viewers: Arc<AtomicUsize>,
    srtp: Option<Srtp>,
    sound: Option<Beside>,
}

/// The sound of a session.
struct Beside {
    pacer: SoundPacer,
    output: Output,
    next_report: Instant,
    srtp: Option<Srtp>,
}

impl Drop for Session {
    fn drop(&mut self) {
        self.viewers.fetch_sub(1, Ordering::Relaxed);
    }
}

struct Connection {
    stream: TcpStream,
    peer: SocketAddr,
    camera: Arc<Shared>,
    viewers: Arc<AtomicUsize>,
    viewer: u64,
    session: Option<Session>,
    last_request: Instant,
    nonce: String,
}

impl Session {
    /// When something is to be sent.
    fn due(&self) -> Option<Instant> {
        let sound = self.sound.as_ref();
        let next = sound.and_then(|sound| sound.pacer.due(Instant::now(), unix_micros()));
        let queued = sound.and_then(|sound| sound.pacer.pacer.due());
        [self.pacer.due(), next, queued].into_iter().flatten().min()
    }
}

enum Wake {
    Cut,
    Read(io::Result<usize>),
    Frame(Result<Arc<CodedFrame>, RecvError>),
    Feedback(Vec<u8>),
    Time,
}

impl Connection {
    fn new(stream: TcpStream, peer: SocketAddr, camera: Arc<Shared>, viewers: Arc<AtomicUsize>, viewer: u64) -> Self {
        let nonce = format!("{:016x}{viewer:x}", rand::random::<u64>());
        Self { stream, peer, camera, viewers, viewer, session: None, last_request: Instant::now(), nonce }
    }

    async fn run(mut self) {
        let mut cuts = self.camera.faults.cuts.subscribe();
        let _ = self.converse(&mut cuts).await;
        if let Some(session) = self.session.take() {
            self.log(&session.stream, Event::End);
        }
    }

    fn log(&self, stream: &VideoStream, event: Event) {
        self.camera.log.write(Record {
            at: unix_micros(),
            camera: self.camera.spec.name.clone(),
            stream: stream.spec().role.word().to_owned(),
            viewer: self.viewer,
            event,
        });
    }

    async fn converse(&mut self, cuts: &mut tokio::sync::watch::Receiver<u64>) -> io::Result<()> {
        let _ = self.stream.set_nodelay(true);
        let (mut framer, mut buffer, mut chunk) = (Framer::default(), Vec::new(), vec![0; 16 * 1024]);
        loop {
            let idle_until = self.last_request + self.camera.spec.session_timeout;
            let due = self.session.as_ref().and_then(Session::due).unwrap_or(idle_until);
            let wake = tokio::select! {
                biased;
                _ = cuts.changed() => Wake::Cut,
                read = self.stream.read(&mut chunk) => Wake::Read(read),
                () = tokio::time::sleep_until(due.min(idle_until)) => Wake::Time,
                wake = next_of(&mut self.session) => wake,
            };
            match wake {
                Wake::Cut => return Ok(()),
                Wake::Read(read) => {
                    let n = read?;
                    if n == 0 {
                        return Ok(());
                    }
                    buffer.extend_from_slice(chunk.get(..n).unwrap_or_default());
                    if !self.handle_input(&mut framer, &mut buffer).await? {
                        return Ok(());
                    }
                }
                Wake::Frame(frame) => self.on_frame(frame),
                Wake::Feedback(compound) => self.on_feedback(&compound),
                Wake::Time if Instant::now() >= idle_until => return Ok(()),
                Wake::Time => {}
            }
            self.send_due().await?;
        }
    }

    /// Answers what has come in; false when the connection is to be closed.
    async fn handle_input(&mut self, framer: &mut Framer, buffer: &mut Vec<u8>) -> io::Result<bool> {
        let mut used = 0;
        loop {
            let (request, n) = match framer.next(buffer.get(used..).unwrap_or_default()) {
                Err(_) => return Ok(false),
                Ok(None) => break,
                Ok(Some((Frame::Message(Message::Request(request)), n))) => (request, n),
                Ok(Some((Frame::Packet { data, .. }, n))) => {
                    used += n;
                    self.on_feedback(data);
                    continue;
                }
                Ok(Some((_, n))) => {
                    used += n; // answers to nothing
                    continue;
                }
            };
            used += n;
            self.last_request = Instant::now();
            let mut response = self.answer(&request).await;
            response.headers.push("CSeq", request.headers.get("CSeq").unwrap_or("0"));
            response.headers.push("Server", "Tarnhithe stand-in");
            self.stream.write_all(&response.emit()).await?;
            let ended = request.method == "TEARDOWN" && response.status == 200;
            if let Some(session) = self.session.take_if(|_| ended) {
                self.log(&session.stream, Event::End);
            }
        }
        buffer.drain(..used);
        Ok(true)
    }

    /// A viewer's reports; it may ask for a keyframe in them.
    fn on_feedback(&self, compound: &[u8]) {
        let Some(session) = self.session.as_ref().filter(|_| self.camera.spec.feedback) else { return };
        let asks = |packet: &rtcp::RtcpPacket| *packet == rtcp::RtcpPacket::KeyframeRequest(session.pacer.ssrc);
        if rtcp::parse(compound).is_ok_and(|packets| packets.iter().any(asks)) {
            session.stream.begin_anew();
        }
    }

    async fn answer(&mut self, request: &Request) -> Response {
        if request.method != "OPTIONS" && !self.signed_in(request) {
            return self.challenge();
        }
        match request.method.as_str() {
            "OPTIONS" => with(Response::new(200, "OK"), "Public", METHODS),
            "DESCRIBE" => self.describe(request),
            "SETUP" => self.setup(request).await,
            "PLAY" => self.in_session(request, Self::play),
            "PAUSE" => self.in_session(request, |connection, _| {
                if let Some(session) = &mut connection.session {
                    session.frames = None;
                    session.sound = None;
                }
                Response::new(200, "OK")
            }),
            "GET_PARAMETER" | "TEARDOWN" => self.in_session(request, |_, _| Response::new(200, "OK")),
            _ => with(Response::new(405, "Method Not Allowed"), "Allow", METHODS),
        }
    }

    fn in_session(&mut self, request: &Request, run: impl FnOnce(&mut Self, &Request) -> Response) -> Response {
        let asked = request.headers.get("Session").and_then(|value| value.split(';').next()).map(str::trim);
        let Some(id) = self.session.as_ref().map(|session| session.id.clone()).filter(|id| asked == Some(id)) else {
            return Response::new(454, "Session Not Found");
        };
        with(run(self, request), "Session", id)
    }

    fn challenge(&self) -> Response {
        let response = Response::new(401, "Unauthorized");
        let digest = self.camera.state().sign_in.as_ref().map_or(Some(DigestAlgorithm::Md5), |sign_in| sign_in.digest);
        match digest {
            None => with(response, "WWW-Authenticate", "Basic realm=\"Tarnhithe\""),
            Some(algorithm) => {
                let name = if algorithm == DigestAlgorithm::Md5 { "MD5" } else { "SHA-256" };
                with(
                    response,
                    "WWW-Authenticate",
                    format!("Digest realm=\"Tarnhithe\", nonce=\"{}\", algorithm={name}", self.nonce),
                )
            }
        }
    }

    fn signed_in(&self, request: &Request) -> bool {
        let state = self.camera.state();
        let Some(sign_in) = &state.sign_in else { return !self.camera.is_first_use_locked(&state) };
        let Some(value) = request.headers.get("Authorization") else { return false };
        let Some(algorithm) = sign_in.digest else {
            let challenge = lattice_core::rtsp::Challenge::parse("Basic realm=\"Tarnhithe\"");
            return challenge.is_some_and(|challenge| {
                lattice_core::rtsp::authorization(&challenge, &sign_in.credentials, "", "", 1, "") == value
            });
        };
        let Some(parameters) = value.strip_prefix("Digest ").map(auth_parameters) else { return false };
        let get = |name: &str| parameters.iter().find(|(key, _)| key == name).map_or("", |(_, value)| value.as_str());
        let uri = get("uri");
        let want = digest_response(algorithm, &sign_in.credentials, "Tarnhithe", &self.nonce, &request.method, uri);
        get("nonce") == self.nonce && get("username") == sign_in.credentials.user && get("response") == want
    }

    fn find(&self, uri: &str) -> Option<Arc<VideoStream>> {
        let path = uri.split_once("://").map_or(uri, |(_, rest)| rest).split_once('/').map_or("", |(_, path)| path);
        let path = path.split('?').next().unwrap_or("");
        let is_its = |own: &str| path.strip_prefix(own).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'));
        let mut streams = self.camera.streams.iter();
        streams.find(|stream| !stream.spec().switched_off && is_its(stream.spec().path().trim_start_matches('/'))).cloned()
    }

    fn describe(&self, request: &Request) -> Response {
        let Some(stream) = self.find(&request.uri) else { return Response::new(404, "Not Found") };
        let address = self.camera.address.borrow().ip();
        let mut response = with(Response::new(200, "OK"), "Content-Type", "application/sdp");
        response.headers.push("Content-Base", format!("{}/", request.uri.trim_end_matches('/')));
        let encryption = self.camera.spec.encryption.as_ref();
        let profile = if encryption.is_some() { "RTP/SAVP" } else { "RTP/AVP" };
        let crypto = encryption
            .filter(|encryption| encryption.described)
            .map_or_else(String::new, |encryption| format!("a=crypto:1 AES_CM_128_HMAC_SHA1_80 inline:{}\r\n", encryption.key));
        let feedback = if self.camera.spec.feedback {
            format!("a=rtcp-fb:{PAYLOAD_TYPE} nack pli\r\na=rtcp-fb:{PAYLOAD_TYPE} ccm fir\r\n")
        } else {
            String::new()
        };
        let sound = self.camera.spec.sound.as_ref();
        let sound = sound.map(|sound| format!("{}{crypto}a=control:{SOUND}\r\n", sound.description(profile)));
        response.body = format!(
            "v=0\r\no=- 1 1 IN IP4 {address}\r\ns={}\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\n\
             m=video 0 {profile} {PAYLOAD_TYPE}\r\nb=AS:{}\r\na=rtpmap:{PAYLOAD_TYPE} H264/90000\r\na=fmtp:{PAYLOAD_TYPE} packetization-mode=1\r\n\
             a=framerate:{}\r\n{feedback}{crypto}a=control:stream=0\r\n{}",
            self.camera.channel_name(stream.spec().channel),
            stream.spec().kbps,
            stream.spec().fps,
            sound.unwrap_or_default(),
        )
        .into_bytes();
        response
    }

    async fn setup(&mut self, request: &Request) -> Response {
        let Some(stream) = self.find(&request.uri) else { return Response::new(404, "Not Found") };
        let asked = TransportHeader::parse(request.headers.get("Transport").unwrap_or(""));
        if request.uri.ends_with(SOUND) {
            return self.setup_sound(&asked).await;
        }
        if self.session.take().is_none()
            && self.camera.spec.max_viewers.is_some_and(|most| self.viewers.load(Ordering::Relaxed) >= most)
        {
            return Response::new(453, "Not Enough Bandwidth");
        }
        let output = if asked.tcp {
            Some(Output::Tcp { channels: asked.interleaved.unwrap_or((0, 1)) })
        } else if self.camera.spec.udp && !asked.multicast {
            self.udp_output(&asked).await
        } else {
            None
        };
        let Some(output) = output else { return Response::new(461, "Unsupported Transport") };
        let pacer = Pacer::new(self.camera.spec.seed ^ self.viewer.wrapping_mul(0x9e37_79b9_7f4a_7c15), asked.tcp);
        let transport = output.agreed(pacer.ssrc.0);
        let id = format!("{:08x}", rand::random::<u32>());
        let seconds = self.camera.spec.session_timeout.as_secs();
        let response = with(with(Response::new(200, "OK"), "Transport", transport), "Session", format!("{id};timeout={seconds}"));
        self.viewers.fetch_add(1, Ordering::Relaxed);
        let viewers = self.viewers.clone();
        self.session = Some(Session {
            id,
            stream,
            output,
            pacer,
            frames: None,
            next_report: Instant::now(),
            await_keyframe: false,
            viewers,
            srtp: self.srtp(),
            sound: None,
        });
        response
    }

    fn srtp(&self) -> Option<Srtp> {
        let encryption = self.camera.spec.encryption.as_ref();
        encryption.and_then(|one| MasterKey::entered(&one.key).ok()).map(|key| Srtp::new(&key))
    }

    /// The sound of the session that there is.
    async fn setup_sound(&mut self, asked: &TransportHeader) -> Response {
        let Some(spec) = self.camera.spec.sound.clone() else { return Response::new(404, "Not Found") };
        if self.session.is_none() {
            return Response::new(454, "Session Not Found");
        }
        let output = if asked.tcp {
            Some(Output::Tcp { channels: asked.interleaved.unwrap_or((2, 3)) })
        } else {
            self.udp_output(asked).await
        };
        let Some(output) = output.filter(|_| !spec.refused) else { return Response::new(461, "Unsupported Transport") };
        let seed = self.camera.spec.seed ^ self.viewer.wrapping_mul(0x2545_f491_4f6c_dd1d);
        let pacer = SoundPacer::new(spec, seed, asked.tcp);
        let transport = output.agreed(pacer.pacer.ssrc.0);
        let srtp = self.srtp();
        let Some(session) = &mut self.session else { return Response::new(454, "Session Not Found") };
        session.sound = Some(Beside { pacer, output, next_report: Instant::now(), srtp });
        let id = session.id.clone();
        with(with(Response::new(200, "OK"), "Transport", transport), "Session", id)
    }

    async fn udp_output(&self, asked: &TransportHeader) -> Option<Output> {
        let (rtp_port, rtcp_port) = asked.client_port?;
        let ip = self.camera.address.borrow().ip();
        let rtp = UdpSocket::bind((ip, 0)).await.ok()?;
        let rtcp = UdpSocket::bind((ip, 0)).await.ok()?;
        let peer = (SocketAddr::new(self.peer.ip(), rtp_port), SocketAddr::new(self.peer.ip(), rtcp_port));
        Some(Output::Udp { rtp, rtcp, peer })
    }

    fn play(&mut self, request: &Request) -> Response {
        let Some(session) = &mut self.session else { return Response::new(454, "Session Not Found") };
        session.frames = Some(session.stream.subscribe());
        session.next_report = Instant::now();
        session.await_keyframe = false;
        if let Some(sound) = &mut session.sound {
            sound.pacer.play(unix_micros());
        }
        let info = format!(
            "url={}/stream=0;seq={};rtptime={}",
            request.uri.trim_end_matches('/'),
            session.pacer.next_seq(),
            session.pacer.timestamp(session.stream.ticks_at(unix_micros()))
        );
        let (transport, stream) = (matches!(session.output, Output::Tcp { .. }), session.stream.clone());
        self.log(&stream, Event::Play { transport: if transport { "tcp" } else { "udp" }.to_owned() });
        with(with(Response::new(200, "OK"), "RTP-Info", info), "Range", "npt=now-")
    }

    fn on_frame(&mut self, frame: Result<Arc<CodedFrame>, RecvError>) {
        let Some(session) = &mut self.session else { return };
        let stream = session.stream.clone();
        let frame = match frame {
            Ok(frame) => frame,
            Err(RecvError::Lagged(_)) => {
                session.await_keyframe = true;
                return;
            }
            Err(RecvError::Closed) => {
                session.frames = None;
                return;
            }
        };
        let trouble = self.camera.faults.now();
        session.await_keyframe &= !frame.keyframe;
        session.await_keyframe |= session.pacer.is_choked(Instant::now());
        if frame.stalled || session.await_keyframe {
            let number = frame.number;
            self.log(&stream, Event::FrameNotSent { number });
            return;
        }
        let (packets, dropped) = session.pacer.push(Instant::now(), &frame, &trouble);
        let CodedFrame { number, captured, keyframe, .. } = *frame;
        self.log(&stream, Event::Frame { number, captured, packets, dropped, keyframe });
    }

    async fn send_due(&mut self) -> io::Result<()> {
        let Some(session) = &mut self.session else { return Ok(()) };
        let now = Instant::now();
        let stalled = self.camera.faults.now().stalled;
        let reports = self.camera.spec.sender_reports && session.frames.is_some() && !stalled;
        if reports && now >= session.next_report && session.pacer.packets > 0 {
            session.next_report = now + REPORT_EVERY;
            let micros = unix_micros();
            let timestamp = session.pacer.timestamp(session.stream.ticks_at(micros));
            let report = sender_report(&session.pacer, micros, self.camera.state().clock_ahead, timestamp);
            let report = session.srtp.as_mut().map_or_else(|| report.clone(), |srtp| srtp.protect_rtcp(&report));
            match &session.output {
                Output::Tcp { channels } => self.stream.write_all(&interleaved(channels.1, &report)).await?,
                Output::Udp { rtcp, peer, .. } => drop(rtcp.send_to(&report, peer.1).await),
            }
        }
        let (mut batch, dropped) = sound_due(session, now, reports, &self.camera).await;
        while let Some(packet) = session.pacer.pop(now) {
            let packet = session.srtp.as_mut().and_then(|srtp| srtp.protect(&packet).ok()).unwrap_or(packet);
            match &session.output {
                Output::Tcp { channels } => batch.extend(interleaved(channels.0, &packet)),
                Output::Udp { rtp, peer, .. } => drop(rtp.send_to(&packet, peer.0).await),
            }
        }
        let stream = session.stream.clone();
        if dropped > 0 {
            self.log(&stream, Event::SoundDropped { packets: dropped });
        }
        if batch.is_empty() { Ok(()) } else { self.stream.write_all(&batch).await }
    }
}

/// Sends what is due of the sound; what goes into the connection is given, and how many packets were dropped on order.
async fn sound_due(session: &mut Session, now: Instant, reports: bool, camera: &Shared) -> (Vec<u8>, u32) {
    let mut batch = Vec::new();
    let Some(Beside { pacer, output, next_report, srtp }) = &mut session.sound else { return (batch, 0) };
    let micros = unix_micros();
    let dropped = pacer.push(now, micros, &camera.faults.now());
    if reports && now >= *next_report && pacer.pacer.packets > 0 {
        *next_report = now + REPORT_EVERY;
        let timestamp = pacer.pacer.timestamp(pacer.ticks_at(micros) as u32);
        let report = sender_report(&pacer.pacer, micros, camera.state().clock_ahead, timestamp);
        let report = srtp.as_mut().map_or_else(|| report.clone(), |srtp| srtp.protect_rtcp(&report));
        match output {
            Output::Tcp { channels } => batch.extend(interleaved(channels.1, &report)),
            Output::Udp { rtcp, peer, .. } => drop(rtcp.send_to(&report, peer.1).await),
        }
    }
    while let Some(packet) = pacer.pacer.pop(now) {
        let packet = srtp.as_mut().and_then(|srtp| srtp.protect(&packet).ok()).unwrap_or(packet);
        match output {
            Output::Tcp { channels } => batch.extend(interleaved(channels.0, &packet)),
            Output::Udp { rtp, peer, .. } => drop(rtp.send_to(&packet, peer.0).await),
        }
    }
    (batch, dropped)
}

/// The next frame of a session, or what its viewer says by RTCP.
async fn next_of(session: &mut Option<Session>) -> Wake {
    let Some(Session { frames, output, .. }) = session else { return std::future::pending().await };
    let mut compound = vec![0; 1500];
    let said = async {
        match output {
            Output::Udp { rtcp, .. } => rtcp.recv_from(&mut compound).await.map_or(0, |(length, _)| length),
            Output::Tcp { .. } => std::future::pending().await,
        }
    };
    let frame = async {
        match frames {
            Some(frames) => frames.recv().await,
            None => std::future::pending().await,
        }
    };
    tokio::select! {
        frame = frame => Wake::Frame(frame),
        length = said => {
            compound.truncate(length);
            Wake::Feedback(compound)
        }
    }
}

fn with(mut response: Response, name: &str, value: impl Into<String>) -> Response {
    response.headers.push(name, value);
    response
}

fn interleaved(channel: u8, packet: &[u8]) -> Vec<u8> {
    let mut out = vec![b'$', channel];
    out.extend((packet.len() as u16).to_be_bytes());
    out.extend_from_slice(packet);
    out
}

fn sender_report(pacer: &Pacer, now: i64, clock_ahead: i64, rtp_timestamp: u32) -> Vec<u8> {
    let report = rtcp::SenderReport {
        ssrc: pacer.ssrc,
        ntp: NtpTime::from_wall(Wall::from_unix_micros(now + clock_ahead)),
        rtp_timestamp,
        packets: pacer.packets,
        octets: pacer.octets,
    };
    let mut out = Vec::new();
    rtcp::emit_sender_report(&report, &mut out);
    rtcp::emit_canonical_name(pacer.ssrc, "stand-in", &mut out);
    out
}
