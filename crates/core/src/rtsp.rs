//! RTSP 1.0 (RFC 2326), the client's side as a machine without I/O, and the message formats
//! for both sides.
//!
//! Not done: RTSP 2.0, RECORD and ANNOUNCE, pipelining, multicast transports.

mod auth;
mod client;
mod control;
mod framer;
mod guard;
mod message;
mod transport;

pub use auth::{
    Challenge, ChallengeScheme, DigestAlgorithm, Withheld, authorization, digest_response, parameters as auth_parameters,
};
pub use client::{Action, Client, ClientConfig, Failure, FailureKind, Playing, PlayingSound, Progress};
pub use control::join as join_control;
pub use framer::{Frame, Framer, FramerError, MAX_MESSAGE};
pub use guard::ControlGuard;
pub use message::{Headers, Message, MessageError, Request, Response};
pub use transport::TransportHeader;
