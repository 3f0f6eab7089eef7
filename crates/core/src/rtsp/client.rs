//! A client session (RFC 2326 §10, appendix A.1), without I/O.
//!
//! | phase | waits for | then |
//! |---|---|---|
//! | `Options` | answer to OPTIONS | DESCRIBE (any status: some devices know no OPTIONS) |
//! | `Describe` | the description | SETUP of the first video section |
//! | `Setup` | the transport | SETUP of the sound where it is wanted, else PLAY; 461 under `auto` asks for TCP instead |
//! | `SetupSound` | its transport | PLAY, whatever was answered: a refusal is said, and pictures come without sound |
//! | `Play` | 200 | [`Action::Playing`] |
//! | `Playing` | keep-alive answers | `GET_PARAMETER` or OPTIONS at half the session time-out |
//! | `Ended` | nothing | after failure, redirect or TEARDOWN |
//!
//! 401 is answered in any phase with the strongest challenge; a second 401 to the same request means
//! that the sign-in was refused, unless the server calls the nonce stale.

use super::auth::{Challenge, Withheld, authorization};
use super::control;
use super::message::{Message, Request, Response};
use super::transport::TransportHeader;
use crate::sdp::{Description, Video};
use crate::sound::{Sound, SoundState};
use crate::{Cause, Mono, SourceUrl, SourceUrlError, Transport, TransportChoice};
use std::collections::VecDeque;
use std::time::Duration;

/// Longest wait for an answer before the session counts as failed. Devices that start their encoder
/// when they are asked to describe it take several seconds.
const ANSWER_WITHIN: Duration = Duration::from_secs(10);
/// The sound of a session is waited for less long: pictures wait for it.
const SOUND_WITHIN: Duration = Duration::from_secs(3);
/// Session time-out where the server names none (§12.37).
const DEFAULT_TIMEOUT: Duration = Duration::from_secs(60);

/// What a session is to do.
#[derive(Debug, Clone)]
pub struct ClientConfig {
    /// The stream, with its sign-in.
    pub url: SourceUrl,
    /// What transport to ask for; `Udp` and `Auto` need `udp_ports`.
    pub transport: TransportChoice,
    /// Our RTP and RTCP ports.
    pub udp_ports: Option<(u16, u16)>,
    /// Whether sound is asked for, where there is some.
    pub sound: bool,
    /// Our RTP and RTCP ports for it.
    pub sound_ports: Option<(u16, u16)>,
    /// The `User-Agent`.
    pub agent: String,
    /// Unpredictable text for Digest.
    pub client_nonce: String,
}

/// A session that plays.
#[derive(Debug, Clone, PartialEq)]
pub struct Playing {
    /// What is received.
    pub video: Video,
    /// How.
    pub transport: Transport,
    /// RTP and RTCP channel, for TCP.
    pub channels: (u8, u8),
    /// The server's RTP and RTCP ports, for UDP, where it named them.
    pub server_ports: Option<(u16, u16)>,
    /// The address media comes from, where it is not the server's own.
    pub source: Option<String>,
    /// The sound that is received beside it.
    pub sound: Option<PlayingSound>,
    /// Whether there is any, and why it is not received.
    pub sound_state: SoundState,
}

/// The sound of a session that plays; it travels as the pictures do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlayingSound {
    /// What is received.
    pub sound: Sound,
    /// RTP and RTCP channel, for TCP.
    pub channels: (u8, u8),
    /// The server's RTP and RTCP ports, for UDP, where it named them.
    pub server_ports: Option<(u16, u16)>,
}

/// What kind of failure ended a session.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum FailureKind {
    /// The server wants a sign-in and none was given.
    SignInNeeded,
    /// The server refused the sign-in.
    SignInRefused,
    /// The camera wants the password readable, which the operator has not allowed.
    SignInReadable,
    /// The camera asks for a weaker sign-in than it did before.
    SignInWeaker,
    /// 403.
    Forbidden,
    /// 404, 410 or the like.
    NotFound,
    /// 453 or 503.
    ViewerLimit,
    /// 461 for all that was allowed.
    TransportRefused,
    /// Nothing to show in the description.
    NoVideo,
    /// Another status from 400 on.
    Refused,
    /// Another status from 500 on: the device failed.
    DeviceFailed,
    /// What answered was not RTSP.
    NotRtsp,
    /// No answer in time.
    NoAnswer,
    /// The server closed the connection or ended the session.
    Closed,
    /// Redirected too often, or to nowhere.
    Redirects,
    /// Something else than a picture stands at the address of one.
    NotAPicture,
}

impl FailureKind {
    /// Whether it is about the sign-in: another one, or none of that kind, would help.
    #[must_use]
    pub const fn is_sign_in(self) -> bool {
        matches!(self.cause(), Cause::SignIn)
    }

    /// Every kind.
    pub const ALL: [Self; 16] = [
        Self::SignInNeeded,
        Self::SignInRefused,
        Self::SignInReadable,
        Self::SignInWeaker,
        Self::Forbidden,
        Self::NotFound,
        Self::ViewerLimit,
        Self::TransportRefused,
        Self::NoVideo,
        Self::Refused,
        Self::DeviceFailed,
        Self::NotRtsp,
        Self::NoAnswer,
        Self::Closed,
        Self::Redirects,
        Self::NotAPicture,
    ];

    /// The cause that this failure is shown as.
    #[must_use]
    pub const fn cause(self) -> Cause {
        match self {
            Self::SignInNeeded | Self::SignInRefused | Self::SignInReadable | Self::SignInWeaker | Self::Forbidden => {
                Cause::SignIn
            }
            Self::NotFound | Self::NoVideo | Self::Redirects | Self::TransportRefused | Self::Refused | Self::NotAPicture => {
                Cause::NoSuchStream
            }
            Self::ViewerLimit => Cause::ViewerLimit,
            Self::NotRtsp => Cause::NotRtsp,
            Self::NoAnswer => Cause::Silence,
            Self::Closed | Self::DeviceFailed => Cause::ClosedByCamera,
        }
    }
}

impl From<Withheld> for FailureKind {
    fn from(withheld: Withheld) -> Self {
        match withheld {
            Withheld::Unknown => Self::SignInRefused,
            Withheld::Readable => Self::SignInReadable,
            Withheld::Weaker { .. } => Self::SignInWeaker,
        }
    }
}

/// Why a session ended, with what the server said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Failure {
    /// The kind.
    pub kind: FailureKind,
    /// One sentence, without secrets.
    pub text: String,
}

/// How far a session has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Progress {
    /// The first answer came, and it was RTSP.
    Spoke,
    /// A sign-in is wanted.
    SignInAsked,
    /// The sign-in was accepted; whether it went by Digest rather than Basic.
    SignedIn {
        /// By Digest.
        digest: bool,
    },
    /// The stream is known and was described.
    Described,
    /// The transport was agreed.
    SetUp(Transport),
}

/// What the driver is to do.
#[derive(Debug, Clone, PartialEq)]
pub enum Action {
    /// Nothing: the session has come this far.
    Progress(Progress),
    /// Write these bytes to the connection.
    Send(Vec<u8>),
    /// The session plays: packets may come from now on.
    Playing(Box<Playing>),
    /// The session is over; nothing more follows.
    Failed(Failure),
    /// The stream is elsewhere: begin a new session there; nothing more follows.
    Redirect(SourceUrl),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Phase {
    Options,
    Describe,
    Setup,
    SetupSound,
    Play,
    Playing,
    Ended,
}

#[derive(Debug)]
struct Pending {
    request: Request,
    cseq: u32,
    sent: Mono,
    sign_ins: u8,
}

/// One RTSP client session; see the module's table.
#[derive(Debug)]
pub struct Client {
    config: ClientConfig,
    phase: Phase,
    actions: VecDeque<Action>,
    pending: Option<Pending>,
    next_cseq: u32,
    challenge: Option<Challenge>,
    nonce_count: u32,
    base: String,
    video: Option<Video>,
    /// The sound of the description, and where it is set up.
    sound: Option<(Sound, Option<String>)>,
    playing: Option<Playing>,
    sound_at_fault: bool,
    session: Option<String>,
    timeout: Duration,
    keep_alive_at: Option<Mono>,
    get_parameter: bool,
    round_trip: Option<Duration>,
    /// What was told of the sign-in: nothing, that it is asked for, that it was accepted.
    told: Option<Progress>,
}

impl Client {
    /// A session that has just got its connection: it asks for OPTIONS.
    #[must_use]
    pub fn new(now: Mono, config: ClientConfig) -> Self {
        let base = config.url.request_uri();
        let mut client = Self {
            config,
            phase: Phase::Options,
            actions: VecDeque::new(),
            pending: None,
            next_cseq: 1,
            challenge: None,
            nonce_count: 0,
            base,
            video: None,
            sound: None,
            playing: None,
            sound_at_fault: false,
            session: None,
            timeout: DEFAULT_TIMEOUT,
            keep_alive_at: None,
            get_parameter: false,
            round_trip: None,
            told: None,
        };
        let options = client.request("OPTIONS", &client.base.clone());
        client.send(now, options, 0);
        client
    }

    /// What to do next; call until `None` after every other call.
    #[must_use]
    pub fn poll(&mut self) -> Option<Action> {
        self.actions.pop_front()
    }

    /// When [`Client::tick`] must be called at the latest.
    #[must_use]
    pub fn deadline(&self) -> Option<Mono> {
        let answer = self.pending.as_ref().map(|pending| pending.sent + self.answer_within());
        [answer, self.keep_alive_at].into_iter().flatten().min()
    }

    const fn answer_within(&self) -> Duration {
        if matches!(self.phase, Phase::SetupSound) { SOUND_WITHIN } else { ANSWER_WITHIN }
    }

    /// Since when the last request has had no answer, while the stream is being set up.
    #[must_use]
    pub fn unanswered_since(&self) -> Option<Mono> {
        self.pending.as_ref().filter(|_| self.phase != Phase::Playing).map(|pending| pending.sent)
    }

    /// Least time from a request to its answer so far; bounds how old a sender report can be.
    #[must_use]
    pub const fn round_trip(&self) -> Option<Duration> {
        self.round_trip
    }

    /// The video that was described, once it was.
    #[must_use]
    pub const fn video(&self) -> Option<&Video> {
        self.video.as_ref()
    }

    /// The sound that was described, once it was.
    #[must_use]
    pub fn sound(&self) -> Option<&Sound> {
        self.sound.as_ref().map(|(sound, _)| sound)
    }

    /// Whether the session plays.
    #[must_use]
    pub fn is_playing(&self) -> bool {
        self.phase == Phase::Playing
    }

    /// Whether the session has ended.
    #[must_use]
    pub fn is_ended(&self) -> bool {
        self.phase == Phase::Ended
    }

    /// Time went on.
    pub fn tick(&mut self, now: Mono) {
        if let Some(pending) = &self.pending
            && now >= pending.sent + self.answer_within()
        {
            let method = pending.request.method.clone();
            if self.phase == Phase::Playing {
                // Media decides whether the stream lives; a lost keep-alive answer alone does not.
                self.pending = None;
            } else {
                self.fail(FailureKind::NoAnswer, format!("{method} had no answer within {} s", self.answer_within().as_secs()));
            }
        }
        if self.phase == Phase::Playing && self.keep_alive_at.is_some_and(|at| now >= at) {
            self.keep_alive_at = Some(now + self.timeout / 2);
            if self.pending.is_none() {
                let method = if self.get_parameter { "GET_PARAMETER" } else { "OPTIONS" };
                let uri = self.base.clone();
                let request = self.request(method, &uri);
                self.send(now, request, 0);
            }
        }
    }

    /// The connection is gone.
    pub fn on_closed(&mut self) {
        let when = if self.phase == Phase::Playing { "while playing" } else { "before the stream began" };
        self.fail(FailureKind::Closed, format!("the camera closed the connection {when}"));
    }

    /// What came is not RTSP, or lost its framing.
    pub fn on_garbage(&mut self, why: &str) {
        self.fail(FailureKind::NotRtsp, why.to_owned());
    }

    /// Ends the session with TEARDOWN, without waiting for the answer.
    pub fn stop(&mut self, now: Mono) {
        if self.session.is_some() && self.phase != Phase::Ended {
            let uri = self.base.clone();
            let request = self.request("TEARDOWN", &uri);
            self.send(now, request, 0);
        }
        self.phase = Phase::Ended;
        self.pending = None;
    }

    /// A message came.
    pub fn on_message(&mut self, now: Mono, message: Message) {
        match message {
            Message::Request(request) => self.on_server_request(&request),
            Message::Response(response) => self.on_response(now, &response),
        }
    }

    fn on_server_request(&mut self, request: &Request) {
        if request.method == "REDIRECT" {
            return self.redirect(request.headers.get("Location"));
        }
        let known = matches!(request.method.as_str(), "OPTIONS" | "GET_PARAMETER" | "SET_PARAMETER" | "ANNOUNCE");
        let mut response = if known { Response::new(200, "OK") } else { Response::new(501, "Not Implemented") };
        if let Some(cseq) = request.headers.get("CSeq") {
            response.headers.push("CSeq", cseq);
        }
        self.actions.push_back(Action::Send(response.emit()));
    }

    fn on_response(&mut self, now: Mono, response: &Response) {
        if response.status < 200 {
            return; // provisional: the answer is still to come
        }
        let cseq = response.headers.get("CSeq").and_then(|text| text.trim().parse::<u32>().ok());
        let Some(pending) = self.pending.take_if(|pending| cseq.is_none_or(|cseq| cseq == pending.cseq)) else {
            return; // late answer to something given up
        };
        let took = now.since(pending.sent);
        if self.round_trip.is_none() {
            self.progress(Progress::Spoke);
        }
        self.round_trip = Some(self.round_trip.map_or(took, |least| least.min(took)));
        match response.status {
            401 => self.sign_in(now, pending, response),
            status => {
                if pending.sign_ins > 0 && status != 403 {
                    self.note_signed_in();
                }
                self.on_answer(now, &pending, response);
            }
        }
    }

    fn on_answer(&mut self, now: Mono, pending: &Pending, response: &Response) {
        match response.status {
            300..=399 => self.redirect(response.headers.get("Location")),
            _ => self.advance(now, pending, response),
        }
    }

    fn progress(&mut self, progress: Progress) {
        self.actions.push_back(Action::Progress(progress));
    }

    fn note_signed_in(&mut self) {
        let digest = matches!(self.challenge, Some(Challenge { scheme: super::auth::ChallengeScheme::Digest { .. }, .. }));
        if !matches!(self.told, Some(Progress::SignedIn { .. })) {
            let told = Progress::SignedIn { digest };
            self.told = Some(told);
            self.progress(told);
        }
    }

    fn sign_in(&mut self, now: Mono, pending: Pending, response: &Response) {
        if self.told.is_none() {
            self.told = Some(Progress::SignInAsked);
            self.progress(Progress::SignInAsked);
        }
        let Some(credentials) = self.config.url.credentials() else {
            return self.fail(FailureKind::SignInNeeded, "the camera wants a sign-in and none was given".into());
        };
        let url = &self.config.url;
        let offered = response.headers.all("WWW-Authenticate");
        let challenge = match Challenge::choose(offered, credentials, url.host(), url.scheme().is_tls()) {
            Ok(challenge) => challenge,
            Err(withheld) => return self.fail(withheld.into(), withheld.to_string()),
        };
        // A wrong password is answered by a fresh nonce forever, so one answer per request is all;
        // a nonce called stale says nothing against the password, and gets one more.
        let allowed = if challenge.is_stale() { 2 } else { 1 };
        if pending.sign_ins >= allowed {
            return self.fail(FailureKind::SignInRefused, "the camera refused the user name or password".into());
        }
        self.challenge = Some(challenge);
        self.nonce_count = 0;
        self.send(now, pending.request, pending.sign_ins + 1);
    }

    fn redirect(&mut self, location: Option<&str>) {
        match location.map(|location| self.config.url.redirected(location)) {
            Some(Ok(url)) => {
                self.phase = Phase::Ended;
                self.pending = None;
                self.actions.push_back(Action::Redirect(url));
            }
            Some(Err(error @ SourceUrlError::Unencrypted { .. })) => self.fail(FailureKind::Redirects, error.to_string()),
            _ => self.fail(FailureKind::Redirects, "the camera redirects without saying where".into()),
        }
    }

    fn advance(&mut self, now: Mono, pending: &Pending, response: &Response) {
        match self.phase {
            Phase::Options => self.on_options(now, response),
            Phase::Describe => self.on_description(now, response),
            Phase::Setup => self.on_setup(now, &pending.request.uri, response),
            Phase::SetupSound => self.on_setup_sound(now, response),
            Phase::Play => self.on_play(now, response),
            Phase::Playing => self.on_keep_alive(pending, response),
            Phase::Ended => {}
        }
    }

    fn on_options(&mut self, now: Mono, response: &Response) {
        self.get_parameter = offers_get_parameter(response);
        self.phase = Phase::Describe;
        let uri = self.config.url.request_uri();
        let mut describe = self.request("DESCRIBE", &uri);
        describe.headers.push("Accept", "application/sdp");
        self.send(now, describe, 0);
    }

    fn on_description(&mut self, now: Mono, response: &Response) {
        if response.status != 200 {
            return self.refuse("DESCRIBE", response);
        }
        let description = Description::parse(&String::from_utf8_lossy(&response.body));
        let Some(video) = description.video() else {
            return self.fail(FailureKind::NoVideo, "the description holds no video stream".into());
        };
        let stated = response.headers.get("Content-Base").or_else(|| response.headers.get("Content-Location"));
        let content_base = stated.map(str::trim).filter(|base| base.to_ascii_lowercase().starts_with("rtsp://"));
        let content_base = content_base.map_or_else(|| self.config.url.request_uri(), str::to_owned);
        self.base = control::join(&content_base, description.control.as_deref());
        // A relative media control is joined to the content base, not to the session's control.
        let target = control::join(&content_base, video.control.as_deref());
        self.sound = description.sound().map(|sound| {
            let target = sound.control.as_deref().map(|control| control::join(&content_base, Some(control)));
            (sound, target)
        });
        self.video = Some(video);
        self.progress(Progress::Described);
        self.phase = Phase::Setup;
        let tcp = self.config.transport == TransportChoice::Tcp || self.config.udp_ports.is_none();
        self.setup(now, &target, tcp);
    }

    fn setup(&mut self, now: Mono, target: &str, tcp: bool) {
        let says = |what: fn(&Video) -> bool| self.video.as_ref().is_some_and(what);
        let profile = profile(says(|video| video.secure), says(|video| video.early_feedback));
        let transport = match self.config.udp_ports.filter(|_| !tcp) {
            Some((rtp, rtcp)) => format!("{profile};unicast;client_port={rtp}-{rtcp}"),
            None => format!("{profile}/TCP;unicast;interleaved=0-1"),
        };
        let mut request = self.request("SETUP", target);
        request.headers.push("Transport", transport);
        self.send(now, request, 0);
    }

    /// Asks for the sound where it is wanted; otherwise what there is to say of it.
    fn setup_sound(&mut self, now: Mono, agreed: Transport, taken: (u8, u8)) -> SoundState {
        let (sound, target) = match &self.sound {
            None => return SoundState::None,
            Some(_) if !self.config.sound => return SoundState::Off,
            Some((_, None)) => return SoundState::Refused("the description does not say where to ask for the sound".into()),
            Some((sound, Some(target))) => (sound.clone(), target.clone()),
        };
        let profile = profile(sound.secure, sound.early_feedback);
        let transport = match (agreed, self.config.sound_ports) {
            (Transport::Udp, Some((rtp, rtcp))) => format!("{profile};unicast;client_port={rtp}-{rtcp}"),
            (Transport::Udp, None) => return SoundState::Refused("this machine has no ports left for the sound".into()),
            _ => {
                let first = taken.0.max(taken.1).checked_add(1).filter(|first| *first < u8::MAX).unwrap_or(2);
                format!("{profile}/TCP;unicast;interleaved={first}-{}", first + 1)
            }
        };
        let mut request = self.request("SETUP", &target);
        request.headers.push("Transport", transport);
        self.phase = Phase::SetupSound;
        self.send(now, request, 0);
        SoundState::On
    }

    /// Whatever was answered, pictures come.
    fn on_setup_sound(&mut self, now: Mono, response: &Response) {
        let answer = (response.status != 200).then(|| self.answered("SETUP", response));
        let transport = TransportHeader::parse(response.headers.get("Transport").unwrap_or(""));
        let sound = self.sound.as_ref().map(|(sound, _)| sound.clone());
        if let Some(playing) = &mut self.playing {
            let channels = playing.channels;
            match (answer, transport.interleaved, playing.transport) {
                (Some(answer), ..) => playing.sound_state = SoundState::Refused(format!("asked for its sound: {answer}")),
                (None, Some(pair), Transport::Tcp) if pair.0 == channels.0 => {
                    playing.sound_state = SoundState::Refused("the camera sends its sound on the channel of its pictures".into());
                }
                (None, interleaved, _) => {
                    playing.sound = sound.map(|sound| PlayingSound {
                        sound,
                        channels: interleaved.unwrap_or((channels.0.wrapping_add(2), channels.1.wrapping_add(2))),
                        server_ports: transport.server_port,
                    });
                }
            }
        }
        self.play(now);
    }

    /// Whether the session failed where sound had been asked for, so that it may go without.
    #[must_use]
    pub const fn failed_by_sound(&self) -> bool {
        self.sound_at_fault
    }

    fn on_setup(&mut self, now: Mono, target: &str, response: &Response) {
        let asked_udp = self.config.udp_ports.is_some() && self.config.transport != TransportChoice::Tcp;
        if response.status == 461 && asked_udp && self.config.transport == TransportChoice::Auto {
            self.config.transport = TransportChoice::Tcp;
            return self.setup(now, target, true);
        }
        if response.status != 200 {
            return self.refuse("SETUP", response);
        }
        let transport = TransportHeader::parse(response.headers.get("Transport").unwrap_or(""));
        let Some(video) = self.video.clone() else { return };
        if let Some(session) = response.headers.get("Session") {
            self.take_session(session);
        }
        let tcp = transport.tcp || (transport.interleaved.is_some() && transport.server_port.is_none()) || !asked_udp;
        let agreed = if tcp { Transport::Tcp } else { Transport::Udp };
        self.progress(Progress::SetUp(agreed));
        let channels = transport.interleaved.unwrap_or((0, 1));
        let sound_state = self.setup_sound(now, agreed, channels);
        self.playing = Some(Playing {
            video,
            transport: agreed,
            channels,
            server_ports: transport.server_port,
            source: transport.source,
            sound: None,
            sound_state,
        });
        if self.phase == Phase::Setup {
            self.play(now);
        }
    }

    fn play(&mut self, now: Mono) {
        self.phase = Phase::Play;
        let uri = self.base.clone();
        let mut play = self.request("PLAY", &uri);
        play.headers.push("Range", "npt=0.000-");
        self.send(now, play, 0);
    }

    fn take_session(&mut self, value: &str) {
        let (id, parameters) = value.split_once(';').unwrap_or((value, ""));
        self.session = Some(id.trim().to_owned());
        let seconds = parameters.split(';').find_map(|part| {
            let (key, value) = part.split_once('=')?;
            key.trim().eq_ignore_ascii_case("timeout").then(|| value.trim().parse::<u64>().ok())?
        });
        self.timeout = seconds.filter(|s| *s > 0).map_or(DEFAULT_TIMEOUT, |s| Duration::from_secs(s.min(3600)));
    }

    fn on_play(&mut self, now: Mono, response: &Response) {
        if response.status != 200 {
            return self.refuse("PLAY", response);
        }
        let Some(playing) = self.playing.clone() else { return };
        self.phase = Phase::Playing;
        self.keep_alive_at = Some(now + self.timeout / 2);
        self.actions.push_back(Action::Playing(Box::new(playing)));
    }

    fn on_keep_alive(&mut self, pending: &Pending, response: &Response) {
        match (response.status, pending.request.method.as_str()) {
            (454, _) => self.fail(FailureKind::Closed, "the camera no longer knows the session".into()),
            (400..=599, "GET_PARAMETER") => self.get_parameter = false,
            _ => {}
        }
    }

    fn refuse(&mut self, method: &str, response: &Response) {
        let kind = match response.status {
            401 | 407 => FailureKind::SignInRefused,
            403 => FailureKind::Forbidden,
            404 | 410 => FailureKind::NotFound,
            453 | 503 => FailureKind::ViewerLimit,
            461 => FailureKind::TransportRefused,
            500.. => FailureKind::DeviceFailed,
            _ => FailureKind::Refused,
        };
        let hint = if kind == FailureKind::TransportRefused { "; it does not offer this transport, try the other" } else { "" };
        self.fail(kind, format!("{}{hint}", self.answered(method, response)));
    }

    fn answered(&self, method: &str, response: &Response) -> String {
        // What a server says may hold what it was asked, or the password that it knows.
        let reason = self.config.url.without_secrets(&response.reason);
        let reason: String = reason.chars().take(80).collect();
        format!("{method} was answered {} {reason}", response.status).trim_end().to_owned()
    }

    fn fail(&mut self, kind: FailureKind, text: String) {
        if self.phase != Phase::Ended {
            let sounds = self.playing.as_ref().is_some_and(|playing| playing.sound.is_some());
            let by_sound = match self.phase {
                Phase::SetupSound => !kind.is_sign_in(),
                Phase::Play => sounds && !kind.is_sign_in() && kind != FailureKind::ViewerLimit,
                _ => false,
            };
            self.sound_at_fault = by_sound;
            self.phase = Phase::Ended;
            self.pending = None;
            self.keep_alive_at = None;
            self.actions.push_back(Action::Failed(Failure { kind, text }));
        }
    }

    fn request(&self, method: &str, uri: &str) -> Request {
        let mut request = Request::new(method, uri);
        request.headers.push("User-Agent", self.config.agent.clone());
        if let Some(session) = &self.session {
            request.headers.push("Session", session.clone());
        }
        request
    }

    fn send(&mut self, now: Mono, request: Request, sign_ins: u8) {
        let cseq = self.next_cseq;
        self.next_cseq += 1;
        let mut on_wire = request.clone();
        on_wire.headers.push("CSeq", cseq.to_string());
        if let (Some(challenge), Some(credentials)) = (&self.challenge, self.config.url.credentials()) {
            self.nonce_count += 1;
            let value =
                authorization(challenge, credentials, &request.method, &request.uri, self.nonce_count, &self.config.client_nonce);
            on_wire.headers.push("Authorization", value);
        }
        self.actions.push_back(Action::Send(on_wire.emit()));
        self.pending = Some(Pending { request, cseq, sent: now, sign_ins });
    }
}

const fn profile(secure: bool, early_feedback: bool) -> &'static str {
    match (secure, early_feedback) {
        (true, true) => "RTP/SAVPF",
        (true, false) => "RTP/SAVP",
        (false, true) => "RTP/AVPF",
        (false, false) => "RTP/AVP",
    }
}

fn offers_get_parameter(response: &Response) -> bool {
    let public = response.headers.get("Public").unwrap_or("");
    public.split([',', ' ']).any(|word| word.eq_ignore_ascii_case("GET_PARAMETER"))
}

#[cfg(test)]
mod tests;
