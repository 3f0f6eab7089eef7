//! Coded video: NAL units, parameter sets, RTP payloads, access units.

mod access_unit;
mod bits;
mod clean;
mod h264;
mod packetize;
mod sps;

pub use access_unit::{AccessUnit, Assembler, MAX_ACCESS_UNIT, Ordered};
pub use clean::CleanPoint;
pub use h264::{NalKind, Piece, pieces};
pub use packetize::{annex_b, packetize};
pub use sps::{ColourMatrix, Sps, SpsError};
