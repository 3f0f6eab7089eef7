//! HTTP/1.1 requests to devices (RFC 9110, RFC 9112), by the `hyper` library, with every answer bounded
//! in time and size, and with Basic and Digest sign-in (RFC 7616, RFC 7617).

use crate::connect::connect_to;
use crate::connection::{Connection, Fingerprint, TlsError, Trust, tls};
use http_body_util::{BodyExt as _, Full, Limited};
use hyper::body::{Bytes, Incoming};
use hyper::client::conn::http1;
use hyper::{Method, Request, Response, StatusCode, header};
use hyper_util::rt::TokioIo;
use lattice_core::rtsp::{Challenge, ChallengeScheme, Withheld, authorization};
use lattice_core::{Cause, SourceUrl};
use std::borrow::Cow;
use std::net::SocketAddr;
use std::time::Duration;
use tokio::sync::Mutex;
use tokio::task::JoinHandle;
use tokio::time::timeout;

/// Most bytes of an answer's head: devices send well under 2 kB.
const MAX_HEAD: usize = 32 * 1024;
/// Most header fields.
const MAX_FIELDS: usize = 64;

/// Why a request had no usable answer.
#[derive(Debug, thiserror::Error)]
pub enum HttpError {
    /// There is no connection.
    #[error("{text}")]
    Unreachable {
        /// The cause in one word.
        cause: Cause,
        /// One sentence.
        text: String,
    },
    /// The certificate is not trusted.
    #[error("the certificate (SHA-256 {fingerprint}) is not trusted: {why}")]
    Certificate {
        /// Which it was.
        fingerprint: Fingerprint,
        /// Why not.
        why: String,
    },
    /// TLS was not agreed.
    #[error("{0}")]
    Tls(String),
    /// What answers does not speak HTTP.
    #[error("what answers does not speak HTTP")]
    NotHttp,
    /// It did not answer in time.
    #[error("no whole answer within {} s", .within.as_secs())]
    Slow {
        /// The time given.
        within: Duration,
    },
    /// The answer is larger than any sensible one.
    #[error("the answer is longer than {} kB and was not read further", .most / 1024)]
    TooLong {
        /// The bound in bytes.
        most: usize,
    },
    /// A sign-in is wanted and none was given.
    #[error("the device wants a sign-in and none was given")]
    SignInNeeded,
    /// The sign-in was refused.
    #[error("the device refused the user name or password")]
    SignInRefused,
    /// The sign-in was not sent, since it would be readable or weaker than before.
    #[error("{0}")]
    SignInWithheld(#[source] Withheld),
    /// Another status than success.
    #[error("the device answered {0}")]
    Status(u16),
}

impl HttpError {
    /// The cause that this is shown as.
    #[must_use]
    pub const fn cause(&self) -> Cause {
        match self {
            Self::Unreachable { cause, .. } => *cause,
            Self::Certificate { .. } | Self::SignInNeeded | Self::SignInRefused | Self::SignInWithheld(_) => Cause::SignIn,
            Self::Tls(_) | Self::NotHttp | Self::TooLong { .. } => Cause::NotRtsp,
            Self::Slow { .. } => Cause::Silence,
            Self::Status(401 | 403) => Cause::SignIn,
            Self::Status(503) => Cause::ViewerLimit,
            Self::Status(_) => Cause::NoSuchStream,
        }
    }
}

/// A question to a device.
#[derive(Debug, Clone)]
pub(crate) struct Question<'a> {
    /// Where, with the sign-in.
    pub url: &'a SourceUrl,
    /// Where that is, when it has been resolved already.
    pub address: Option<SocketAddr>,
    /// Sent by POST with this media type; without it is a GET.
    pub body: Option<(&'a str, String)>,
    /// How a certificate is judged.
    pub trust: Trust,
}

impl Question<'_> {
    fn method(&self) -> Method {
        if self.body.is_some() { Method::POST } else { Method::GET }
    }

    /// The challenge that may be answered with its sign-in.
    fn answerable(&self, challenges: &[String]) -> Result<Challenge, HttpError> {
        let credentials = self.url.credentials().ok_or(HttpError::SignInNeeded)?;
        let offered = challenges.iter().map(String::as_str);
        Challenge::choose(offered, credentials, self.url.host(), self.url.scheme().is_tls()).map_err(|withheld| match withheld {
            Withheld::Unknown => HttpError::SignInRefused,
            other => HttpError::SignInWithheld(other),
        })
    }

    /// The request, with a sign-in where there is one; `None` where the address makes none.
    fn request(&self, authorization: Option<String>, connection: &'static str) -> Option<Request<Full<Bytes>>> {
        let path = path_of(self.url);
        // A path that begins with a question mark has no slash: it is put in.
        let target = if path.starts_with('/') { path.into_owned() } else { format!("/{path}") };
        let mut request = Request::builder()
            .method(self.method())
            .uri(target)
            .header(header::HOST, self.url.authority())
            .header(header::USER_AGENT, crate::AGENT)
            .header(header::CONNECTION, connection);
        if let Some((media_type, _)) = &self.body {
            request = request.header(header::CONTENT_TYPE, *media_type);
        }
        if let Some(value) = authorization {
            request = request.header(header::AUTHORIZATION, value);
        }
        let body = self.body.as_ref().map_or_else(String::new, |(_, body)| body.clone());
        request.body(Full::new(Bytes::from(body))).ok()
    }
}

/// An answer whose body is still to be read. The connection lives as long as this.
pub(crate) struct Answer {
    pub response: Response<Incoming>,
    /// A sign-in was asked for and accepted; whether by Digest.
    pub signed_in: Option<bool>,
    driver: JoinHandle<()>,
}

impl Drop for Answer {
    fn drop(&mut self) {
        self.driver.abort();
    }
}

impl Answer {
    /// The content type as it came; empty where there is none.
    pub fn full_content_type(&self) -> &str {
        self.response.headers().get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or("")
    }

    /// The content type without its parameters, in lower case.
    pub fn content_type(&self) -> String {
        self.full_content_type().split(';').next().unwrap_or("").trim().to_ascii_lowercase()
    }

    /// The whole body, at most `most` bytes.
    pub async fn body(mut self, most: usize) -> Result<Bytes, HttpError> {
        let body = self.response.body_mut();
        match Limited::new(body, most).collect().await {
            Ok(collected) => Ok(collected.to_bytes()),
            Err(error) if error.is::<http_body_util::LengthLimitError>() => Err(HttpError::TooLong { most }),
            Err(_) => Err(HttpError::NotHttp),
        }
    }
}

/// Asks, and signs in where the device wants it: at most once, since accounts get locked.
///
/// # Cancel safety
/// Dropping it closes the connection.
pub(crate) async fn ask(question: &Question<'_>, within: Duration) -> Result<Answer, HttpError> {
    timeout(within, ask_and_sign_in(question)).await.unwrap_or(Err(HttpError::Slow { within }))
}

/// A connection to one device that is used again from question to question, and its sign-in with it. Questions on it
/// go one after the other.
#[derive(Default)]
pub(crate) struct Line(Mutex<Option<Held>>);

impl std::fmt::Debug for Line {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Line")
    }
}

struct Held {
    /// Whom it leads to.
    authority: String,
    sender: http1::SendRequest<Full<Bytes>>,
    driver: JoinHandle<()>,
    /// The challenge that was answered last, and how often.
    challenge: Option<(Challenge, u32)>,
}

impl Drop for Held {
    fn drop(&mut self) {
        self.driver.abort();
    }
}

impl Line {
    /// Asks and reads the whole answer, success or not. A sign-in is tried once; once more where only its nonce was too old.
    ///
    /// # Cancel safety
    /// Dropping it closes the connection.
    pub async fn ask_whole(
        &self,
        question: &Question<'_>,
        within: Duration,
        most: usize,
    ) -> Result<(StatusCode, Bytes), HttpError> {
        let asked = async {
            let mut place = self.0.lock().await;
            let authority = question.url.authority();
            let before = place.take();
            let challenge = before.as_ref().filter(|held| held.authority == authority).and_then(|held| held.challenge.clone());
            let usable = before.filter(|held| held.authority == authority && !held.sender.is_closed());
            let mut fresh = usable.is_none();
            let mut held = match usable {
                Some(held) => held,
                None => Held::connect(question, authority.clone(), challenge).await?,
            };
            let mut tried = false;
            loop {
                let signs = held.challenge.is_some() && question.url.credentials().is_some();
                let (response, keeps) = match held.ask(question).await {
                    // It was closed meanwhile, before anything of the question went out.
                    Err(AskError::Closed) if !fresh => {
                        fresh = true;
                        held = Held::connect(question, authority.clone(), held.challenge.clone()).await?;
                        continue;
                    }
                    answered => answered.map_err(|_| HttpError::NotHttp)?,
                };
                let status = response.status();
                let challenges: Vec<String> = response
                    .headers()
                    .get_all(header::WWW_AUTHENTICATE)
                    .iter()
                    .filter_map(|value| value.to_str().ok().map(str::to_owned))
                    .collect();
                let body = collect(response.into_body(), most).await?;
                if status == StatusCode::UNAUTHORIZED {
                    let challenge = question.answerable(&challenges)?;
                    // A nonce of an earlier question may be too old; one that was just given is not.
                    let again = signs && !tried && matches!(challenge.scheme, ChallengeScheme::Digest { stale: true, .. });
                    if signs && !again {
                        return Err(HttpError::SignInRefused);
                    }
                    tried |= signs;
                    held.challenge = Some((challenge, 0));
                    if !keeps {
                        held = Held::connect(question, authority.clone(), held.challenge.clone()).await?;
                    }
                    continue;
                }
                if keeps {
                    *place = Some(held);
                }
                return Ok((status, body));
            }
        };
        timeout(within, asked).await.unwrap_or(Err(HttpError::Slow { within }))
    }
}

/// Why a question on a line had no answer.
enum AskError {
    /// The connection was closed before anything of it went out.
    Closed,
    /// It broke off, or what came is no HTTP.
    Broken,
    /// The address makes no request.
    Address,
}

impl From<hyper::Error> for AskError {
    fn from(error: hyper::Error) -> Self {
        if error.is_canceled() || error.is_closed() { Self::Closed } else { Self::Broken }
    }
}

impl Held {
    async fn connect(question: &Question<'_>, authority: String, challenge: Option<(Challenge, u32)>) -> Result<Self, HttpError> {
        let connection = open(question.url, question.address, question.trust).await?;
        let (sender, driver) = speak(connection).await?;
        Ok(Self { authority, sender, driver, challenge })
    }

    /// One question; whether the connection can be used again after its answer.
    async fn ask(&mut self, question: &Question<'_>) -> Result<(Response<Incoming>, bool), AskError> {
        let signed = self.challenge.as_mut().zip(question.url.credentials()).map(|((challenge, count), credentials)| {
            *count += 1;
            let nonce = format!("{:016x}", rand::random::<u64>());
            authorization(challenge, credentials, question.method().as_str(), &path_of(question.url), *count, &nonce)
        });
        self.sender.ready().await.map_err(AskError::from)?;
        let request = question.request(signed, "keep-alive").ok_or(AskError::Address)?;
        let response = self.sender.send_request(request).await.map_err(AskError::from)?;
        let closes = response
            .headers()
            .get(header::CONNECTION)
            .is_some_and(|value| value.to_str().is_ok_and(|value| value.to_ascii_lowercase().contains("close")));
        let keeps = response.version() == hyper::Version::HTTP_11 && !closes;
        Ok((response, keeps))
    }
}

async fn collect(body: Incoming, most: usize) -> Result<Bytes, HttpError> {
    match Limited::new(body, most).collect().await {
        Ok(collected) => Ok(collected.to_bytes()),
        Err(error) if error.is::<http_body_util::LengthLimitError>() => Err(HttpError::TooLong { most }),
        Err(_) => Err(HttpError::NotHttp),
    }
}

async fn ask_and_sign_in(question: &Question<'_>) -> Result<Answer, HttpError> {
    let first = ask_once(question, None).await?;
    if first.response.status() != StatusCode::UNAUTHORIZED {
        return Ok(first);
    }
    let challenges: Vec<String> = first
        .response
        .headers()
        .get_all(header::WWW_AUTHENTICATE)
        .iter()
        .filter_map(|value| value.to_str().ok().map(str::to_owned))
        .collect();
    drop(first);
    let Some(credentials) = question.url.credentials() else { return Err(HttpError::SignInNeeded) };
    let challenge = question.answerable(&challenges)?;
    let uri = path_of(question.url);
    let value =
        authorization(&challenge, credentials, question.method().as_str(), &uri, 1, &format!("{:016x}", rand::random::<u64>()));
    let digest = matches!(challenge.scheme, ChallengeScheme::Digest { .. });
    let mut second = ask_once(question, Some(value)).await?;
    second.signed_in = Some(digest);
    if second.response.status() == StatusCode::UNAUTHORIZED {
        return Err(HttpError::SignInRefused);
    }
    Ok(second)
}

fn path_of(url: &SourceUrl) -> Cow<'_, str> {
    if url.path().is_empty() { Cow::Borrowed("/") } else { url.request_path() }
}

async fn ask_once(question: &Question<'_>, authorization: Option<String>) -> Result<Answer, HttpError> {
    let connection = open(question.url, question.address, question.trust).await?;
    let request = question.request(authorization, "close").ok_or(HttpError::NotHttp)?;
    let (mut sender, driver) = speak(connection).await?;
    let answered = sender.send_request(request).await;
    if answered.is_err() {
        driver.abort();
    }
    Ok(Answer { response: answered.map_err(|_| HttpError::NotHttp)?, driver, signed_in: None })
}

/// HTTP on a connection.
async fn speak(connection: Connection) -> Result<(http1::SendRequest<Full<Bytes>>, JoinHandle<()>), HttpError> {
    let (sender, connection) = http1::Builder::new()
        .max_buf_size(MAX_HEAD)
        .max_headers(MAX_FIELDS)
        .handshake(TokioIo::new(connection))
        .await
        .map_err(|_| HttpError::NotHttp)?;
    let driver = tokio::spawn(async move {
        let _ = connection.await;
    });
    Ok((sender, driver))
}

async fn open(url: &SourceUrl, address: Option<SocketAddr>, trust: Trust) -> Result<Connection, HttpError> {
    let unreachable = |(cause, text)| HttpError::Unreachable { cause, text };
    let stream = connect_to(url.host(), url.port(), address).await.map_err(unreachable)?;
    if !url.scheme().is_tls() {
        return Ok(Connection::Plain(stream));
    }
    tls(stream, url.host(), trust).await.map_err(|error| match error {
        TlsError::Certificate { fingerprint, why } => HttpError::Certificate { fingerprint, why },
        TlsError::Handshake(why) => HttpError::Tls(why),
    })
}
