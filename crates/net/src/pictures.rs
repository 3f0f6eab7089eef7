//! Pictures by HTTP: a still fetched again and again, or multipart JPEG in one answer.

use crate::clock;
use crate::http::{HttpError, Question, ask};
use crate::outcome::Outcome;
use crate::source::{Command, Driver, give};
use http_body_util::BodyExt as _;
use lattice_core::multipart::Parts;
use lattice_core::receiver::Unit;
use lattice_core::rtsp::{FailureKind, Progress};
use lattice_core::verdict::SessionState;
use lattice_core::{Cause, FrameRate, Mono, SourceUrl, Transport};
use std::time::Duration;
use tokio::time::sleep_until;

/// How long one picture may take.
const PICTURE_WITHIN: Duration = Duration::from_secs(10);
/// Largest still.
const MAX_STILL: usize = 16 << 20;
/// A stream of pictures that brings nothing for this long is opened anew.
const SILENCE: Duration = Duration::from_secs(10);

/// Runs one try: until the source is closed, or something fails.
pub(crate) async fn fetch(driver: &mut Driver, url: &SourceUrl, interval: Duration) -> Outcome {
    driver.receiver.meter().begin_try(clock::now());
    let question = Question { url, address: None, body: None, trust: driver.config.trust };
    loop {
        let asked = clock::now();
        let answer = tokio::select! {
            answer = ask(&question, PICTURE_WITHIN) => answer,
            Wait::Order(outcome) = ordered(driver, None) => return outcome,
        };
        let answer = match answer {
            Ok(answer) => answer,
            Err(error) => {
                if matches!(error, HttpError::SignInNeeded | HttpError::SignInRefused | HttpError::SignInWithheld(_)) {
                    driver.receiver.meter().on_progress(clock::now(), Progress::Spoke);
                    driver.receiver.meter().on_progress(clock::now(), Progress::SignInAsked);
                }
                return failed(driver, &error);
            }
        };
        let status = answer.response.status();
        let meter = driver.receiver.meter();
        meter.on_connected(asked);
        meter.on_progress(clock::now(), Progress::Spoke);
        if let Some(digest) = answer.signed_in {
            meter.on_progress(clock::now(), Progress::SignedIn { digest });
        }
        if !status.is_success() {
            return failed(driver, &HttpError::Status(status.as_u16()));
        }
        for progress in [Progress::Described, Progress::SetUp(Transport::Http)] {
            driver.receiver.meter().on_progress(clock::now(), progress);
        }
        if let Some(parts) = Parts::new(answer.full_content_type()) {
            return stream(driver, answer, parts).await;
        }
        let kind = answer.content_type();
        if !kind.is_empty()
            && !kind.starts_with("image/jpeg")
            && !kind.starts_with("image/jpg")
            && !kind.starts_with("application/octet")
        {
            driver.receiver.meter().set_seen(Some(FailureKind::NotAPicture));
            return Outcome::Failed(Cause::NoSuchStream, format!("what is there is {kind}, not a JPEG picture"));
        }
        let body = tokio::select! {
            body = tokio::time::timeout(PICTURE_WITHIN, answer.body(MAX_STILL)) => body,
            Wait::Order(outcome) = ordered(driver, None) => return outcome,
        };
        let bytes = match body {
            Ok(Ok(bytes)) => bytes,
            Ok(Err(error)) => return failed(driver, &error),
            Err(_) => return failed(driver, &HttpError::Slow { within: PICTURE_WITHIN }),
        };
        if !bytes.starts_with(&[0xff, 0xd8]) {
            driver.receiver.meter().set_seen(Some(FailureKind::NotAPicture));
            return Outcome::Failed(Cause::NoSuchStream, "what is there is not a JPEG picture".into());
        }
        let now = clock::now();
        begin(driver, now, Some(interval));
        take(driver, asked, now, &bytes);
        driver.publish_if_due(now);
        let next = asked + interval;
        // Another order than closing asks for the next picture at once.
        if matches!(ordered(driver, Some(next.max(now))).await, Wait::Order(Outcome::Closed)) {
            return Outcome::Closed;
        }
    }
}

/// Begins a session of pictures if none runs.
fn begin(driver: &mut Driver, now: Mono, still: Option<Duration>) {
    if *driver.receiver.meter().session() != SessionState::Playing {
        let declared = still.and_then(|interval| FrameRate::new(1.0 / interval.as_secs_f64()));
        driver.receiver.begin_pictures(now, declared, still);
    }
}

fn take(driver: &mut Driver, first: Mono, last: Mono, bytes: &[u8]) {
    let Driver { receiver, outlet, .. } = driver;
    let mut units: Vec<Unit> = Vec::new();
    receiver.on_picture(last, first, bytes, &mut |unit| units.push(unit));
    for unit in units {
        give(outlet.as_ref(), unit, receiver.parameters());
    }
    driver.backoff.succeeded();
}

/// Multipart JPEG: pictures as the device sends them.
async fn stream(driver: &mut Driver, mut answer: crate::http::Answer, mut parts: Parts) -> Outcome {
    begin(driver, clock::now(), None);
    let mut first_byte = None;
    loop {
        let silent_at = clock::now() + SILENCE;
        let frame = tokio::select! {
            frame = answer.response.body_mut().frame() => frame,
            wait = ordered(driver, Some(silent_at)) => match wait {
                Wait::Over => return Outcome::Failed(Cause::Silence, format!("no picture for {} s while the answer stands", SILENCE.as_secs())),
                Wait::Order(outcome) => return outcome,
            },
        };
        let Some(Ok(frame)) = frame else {
            return Outcome::Failed(Cause::ClosedByCamera, "the camera ended the stream of pictures".into());
        };
        let now = clock::now();
        let Some(bytes) = frame.data_ref() else { continue };
        let first = *first_byte.get_or_insert(now);
        parts.push(bytes);
        loop {
            match parts.next() {
                Ok(Some(picture)) => {
                    take(driver, first, now, &picture);
                    first_byte = None;
                }
                Ok(None) => break,
                Err(error) => return Outcome::Failed(Cause::Damaged, error.to_string()),
            }
        }
        driver.publish_if_due(now);
    }
}

fn failed(driver: &mut Driver, error: &HttpError) -> Outcome {
    driver.receiver.meter().set_seen(match error {
        HttpError::SignInNeeded => Some(FailureKind::SignInNeeded),
        HttpError::SignInWithheld(withheld) => Some((*withheld).into()),
        HttpError::SignInRefused | HttpError::Status(401) => Some(FailureKind::SignInRefused),
        HttpError::Status(403) => Some(FailureKind::Forbidden),
        HttpError::Status(404 | 410) => Some(FailureKind::NotFound),
        HttpError::Status(503) => Some(FailureKind::ViewerLimit),
        HttpError::Status(500..) => Some(FailureKind::DeviceFailed),
        HttpError::Status(400..) => Some(FailureKind::Refused),
        _ => None,
    });
    match error {
        HttpError::Certificate { fingerprint, .. } => Outcome::Untrusted(error.to_string(), *fingerprint),
        HttpError::SignInNeeded | HttpError::SignInRefused | HttpError::SignInWithheld(_) | HttpError::Status(401 | 403) => {
            Outcome::Locked(error.to_string())
        }
        HttpError::Unreachable { cause, text } => Outcome::Failed(*cause, text.clone()),
        other => Outcome::Failed(other.cause(), other.to_string()),
    }
}

/// How a wait ended.
enum Wait {
    /// By an order.
    Order(Outcome),
    /// By itself.
    Over,
}

/// Waits for an order, publishing figures meanwhile.
async fn ordered(driver: &mut Driver, until: Option<Mono>) -> Wait {
    loop {
        let now = clock::now();
        if until.is_some_and(|until| now >= until) {
            return Wait::Over;
        }
        let wake = until.map_or(driver.publish_at, |until| until.min(driver.publish_at));
        tokio::select! {
            command = driver.commands.recv() => match command {
                Some(Command::Retry) => return Wait::Order(Outcome::Retry),
                Some(Command::Close) | None => return Wait::Order(Outcome::Closed),
            },
            () = sleep_until(clock::instant(wake)) => driver.publish_if_due(clock::now()),
        }
    }
}
