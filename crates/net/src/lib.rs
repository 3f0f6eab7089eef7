//! Sockets and tasks around the machines of `lattice-core`.
//!
//! [`Source::open`] runs one stream for as long as it is wanted: it connects, plays, measures, and
//! comes back by itself. Judgement is core's; this crate only moves bytes and tells the time.
#![cfg_attr(test, allow(clippy::unwrap_used))]

pub mod clock;
mod connect;
mod outcome;
mod play;
mod source;
mod udp;

pub use source::{Command, Runtime, Source, SourceConfig, Station, UnitSink};
pub use udp::UdpPair;
