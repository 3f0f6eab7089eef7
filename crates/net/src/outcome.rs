//! How a try at a stream ended.

use crate::connection::Fingerprint;
use lattice_core::rtsp::Failure;
use lattice_core::{Cause, SourceUrl};

/// The end of one try.
#[derive(Debug)]
pub enum Outcome {
    /// Whoever wanted the stream no longer does.
    Closed,
    /// The operator asked for a new try now.
    Retry,
    /// Nothing arrives over UDP: try TCP.
    WantsTcp,
    /// The stream is elsewhere.
    Redirect(Box<SourceUrl>),
    /// The sign-in is missing or refused; not to be retried.
    Locked(String),
    /// The certificate is not trusted; not to be retried.
    Untrusted(String, Fingerprint),
    /// It failed; retried after a while.
    Failed(Cause, String),
}

impl From<Failure> for Outcome {
    fn from(failure: Failure) -> Self {
        match failure.kind {
            kind if kind.is_sign_in() => Self::Locked(failure.text),
            kind => Self::Failed(kind.cause(), failure.text),
        }
    }
}
