//! What is measured of a stream, station by station.
//!
//! The receiver reports packets and access units, the decoder pictures, the painter what it drew;
//! nothing else counts anything. Definitions of the figures are on the types that compute them.

mod bitrate;
mod capture;
mod dropout;
mod figures;
mod flash;
mod history;
mod hub;
mod keyframes;
mod latency;
mod pulse;
mod rate;
mod recent_loss;
mod spell;
mod table;

pub use bitrate::Bitrate;
pub use dropout::{Dropout, DropoutKind, DropoutMeter, FIRST_PICTURE, MOSTLY};
pub use figures::{Dropped, Figures, FrameCounts, Latency, LatencyBasis, Milestones, Spread};
pub use flash::FlashStep;
pub use history::{History, Sample, Span};
pub use hub::Meter;
pub use keyframes::KeyframeMeter;
pub use latency::LatencyMeter;
pub use pulse::{Pulse, PulseCell};
pub use rate::{EventRate, MediaRate};
pub use recent_loss::RecentLoss;
pub use table::{FIELDS, FIGURES, Fig, Figure, KEPT, Kept, Metric};
