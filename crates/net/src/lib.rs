//! Sockets and tasks around the machines of `lattice-core`.
//!
//! [`Source::open`] runs one stream for as long as it is wanted: it connects, plays, measures, and
//! comes back by itself. Judgement is core's; this crate only moves bytes and tells the time.
#![cfg_attr(test, allow(clippy::unwrap_used))]

/// What this program calls itself to servers.
pub(crate) const AGENT: &str = concat!("amber-lattice/", env!("CARGO_PKG_VERSION"));

mod background;
mod buffer;
pub mod clock;
mod connect;
mod connection;
mod describe;
mod device;
pub mod discovery;
pub mod find;
mod head;
mod http;
mod imaging;
mod listen;
mod metrics;
mod outcome;
mod pictures;
mod play;
mod post;
pub mod reach;
mod reports;
mod source;
mod taps;
mod udp;

pub use background::Background;
pub use connection::{Fingerprint, TlsError, Trust};
pub use describe::{Description, describe};
pub use device::{Device, DeviceError, Offered};
pub use head::{Head, HeadOrder};
pub use http::HttpError;
pub use imaging::Imaging;
pub use listen::{ListenConfig, own_addresses};
pub use metrics::serve_text;
pub use post::post_json;
pub use reports::{ReportNews, follow_reports};
pub use source::{Command, Origin, Runtime, Source, SourceConfig, Station, UnitSink};
pub use taps::{Tap, Tapped};
pub use udp::UdpPair;
