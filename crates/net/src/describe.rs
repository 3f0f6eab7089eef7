//! A stream asked for its description only (RFC 2326 §10.2): whether it is there, and whether a sign-in is
//! wanted. No session is made, no viewer's place is taken.

use crate::clock;
use crate::connect::connect_to;
use crate::connection::{Connection, Trust, tls};
use lattice_core::rtsp::{Action, Client, ClientConfig, Failure, FailureKind, Frame, Framer, Progress};
use lattice_core::sdp::Video;
use lattice_core::{Cause, SourceUrl, TransportChoice};
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::time::timeout;

/// What a question for a description came to.
#[derive(Debug, Clone, PartialEq)]
pub struct Description {
    /// The answer was RTSP, whatever it said.
    pub speaks_rtsp: bool,
    /// A sign-in was asked for.
    pub sign_in_asked: bool,
    /// The stream, or why there is none.
    pub video: Result<Video, (FailureKind, String)>,
}

impl Description {
    const fn failed(kind: FailureKind, text: String) -> Self {
        Self { speaks_rtsp: false, sign_in_asked: false, video: Err((kind, text)) }
    }

    /// The stream is given without any sign-in.
    #[must_use]
    pub const fn is_open(&self) -> bool {
        self.video.is_ok() && !self.sign_in_asked
    }

    /// A sign-in is wanted that was not given, or was refused.
    #[must_use]
    pub const fn is_locked(&self) -> bool {
        matches!(self.video, Err((kind, _)) if kind.is_sign_in())
    }
}

/// Asks for a description, signing in once where that is wanted and the address has a sign-in.
pub async fn describe(url: &SourceUrl, address: Option<IpAddr>, trust: Trust, within: Duration) -> Description {
    let asked = converse(url, address, trust);
    timeout(within, asked)
        .await
        .unwrap_or_else(|_| Description::failed(FailureKind::NoAnswer, format!("no answer within {} s", within.as_secs())))
}

async fn converse(url: &SourceUrl, address: Option<IpAddr>, trust: Trust) -> Description {
    let address = address.map(|ip| SocketAddr::new(ip, url.port()));
    let stream = match connect_to(url.host(), url.port(), address).await {
        Ok(stream) => stream,
        Err((cause, text)) => {
            let kind = if cause == Cause::PortClosed { FailureKind::Closed } else { FailureKind::NoAnswer };
            return Description::failed(kind, text);
        }
    };
    let mut stream = if url.scheme().is_tls() {
        match tls(stream, url.host(), trust).await {
            Ok(stream) => stream,
            Err(error) => return Description::failed(FailureKind::NotRtsp, error.to_string()),
        }
    } else {
        Connection::Plain(stream)
    };
    let config = ClientConfig {
        url: url.clone(),
        transport: TransportChoice::Tcp,
        sound: false,
        sound_ports: None,
        udp_ports: None,
        agent: crate::AGENT.to_owned(),
        client_nonce: format!("{:016x}", rand::random::<u64>()),
    };
    let mut client = Client::new(clock::now(), config);
    let (mut framer, mut bytes, mut chunk) = (Framer::default(), Vec::new(), vec![0; 8 * 1024]);
    let mut seen = Description::failed(FailureKind::Closed, String::new());
    loop {
        while let Some(action) = client.poll() {
            match action {
                Action::Send(request) => {
                    if stream.write_all(&request).await.is_err() {
                        client.on_closed();
                    }
                }
                Action::Progress(Progress::Spoke) => seen.speaks_rtsp = true,
                Action::Progress(Progress::SignInAsked) => seen.sign_in_asked = true,
                Action::Progress(Progress::Described) => {
                    if let Some(video) = client.video() {
                        seen.video = Ok(video.clone());
                        return seen;
                    }
                }
                Action::Failed(Failure { kind, text }) => {
                    seen.video = Err((kind, text));
                    return seen;
                }
                Action::Redirect(to) => {
                    seen.video = Err((FailureKind::Redirects, format!("the camera says that the stream is at {to}")));
                    return seen;
                }
                Action::Progress(_) | Action::Playing(_) => {}
            }
        }
        match stream.read(&mut chunk).await {
            Ok(n) if n > 0 => bytes.extend_from_slice(chunk.get(..n).unwrap_or_default()),
            _ => client.on_closed(),
        }
        loop {
            match framer.next(&bytes) {
                Ok(Some((frame, used))) => {
                    if let Frame::Message(message) = frame {
                        client.on_message(clock::now(), message);
                    }
                    bytes.drain(..used);
                }
                Ok(None) => break,
                Err(error) => {
                    client.on_garbage(&error.to_string());
                    break;
                }
            }
        }
    }
}
