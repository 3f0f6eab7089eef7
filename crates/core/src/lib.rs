//! The heart of Amber Lattice: what a camera stream is, how it is received, measured and judged.
//!
//! Nothing here opens a socket, starts a thread, reads a clock or draws. Time is an argument
//! ([`Mono`], [`Wall`]), bytes come in as slices, and every machine is polled for what it wants
//! sent. The same input at the same times gives the same figures, in a test or live.
//!
//! The way of a packet through this crate:
//! [`rtsp::Framer`] or a datagram → [`receiver::Receiver`] (header, sequence, reordering,
//! depacketisation, access units) → [`meter::Meter`] → [`verdict`].
#![forbid(unsafe_code)]
#![cfg_attr(test, allow(clippy::unwrap_used))]

pub mod adjust;
pub mod backoff;
pub mod cause;
pub mod check;
pub mod clock;
mod clock_probe;
mod credentials;
pub mod event;
pub mod find;
pub mod flash;
pub mod lattice;
pub mod layout;
pub mod ledger;
pub mod lens;
pub mod meter;
pub mod metrics;
pub mod motion;
pub mod multipart;
pub mod names;
pub mod onvif;
pub mod plan;
pub mod playout;
pub mod receiver;
pub mod reported;
mod role;
pub mod rtcp;
pub mod rtp;
pub mod rtsp;
pub mod rule;
pub mod sdp;
mod secret;
pub mod shift;
pub mod sift;
pub mod sight;
pub mod sound;
mod source;
pub mod srtp;
pub mod steer;
pub mod target;
pub mod text;
pub mod thresholds;
mod time;
pub mod ts;
mod units;
pub mod veil;
pub mod verdict;
pub mod video;
pub mod view;
pub mod wire;

pub use cause::{Cause, Whose};
pub use clock_probe::{ClockOffset, ClockProbe};
pub use credentials::{Credentials, SignInPolicy, SignInStrength};
pub use role::Role;
pub use secret::Secret;
pub use source::{Scheme, SourceUrl, SourceUrlError, Transport, TransportChoice};
pub use time::{ClockPair, Mono, NtpTime, Wall};
pub use units::{BitsPerSecond, ClockRate, FrameRate, Ticks, length_text};
pub use verdict::Verdict;
