//! Coded video: NAL units, parameter sets, RTP payloads, access units.

mod access_unit;
mod bits;
mod clean;
mod h264;
mod h265;
mod jpeg;
mod packetize;
mod parameters;
mod sps;

pub use access_unit::{AccessUnit, Assembler, MAX_ACCESS_UNIT, Ordered, WholeUnit};
pub use clean::CleanPoint;
pub use h264::{NalHeader, NalKind, Piece, pieces};
pub use h265::{kind as h265_kind, parse_sps as parse_h265_sps, pieces as h265_pieces};
pub use jpeg::{Fragment as JpegFragment, file_size as jpeg_file_size};
pub use packetize::{annex_b, packetize};
pub use parameters::{MAX_PIXELS, MAX_SIDE, Parameters, VideoCodec};
pub use sps::{ColourMatrix, Sps, SpsError};
