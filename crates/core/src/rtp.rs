//! RTP (RFC 3550): header, sequence numbers, interarrival jitter, reordering.
//!
//! Not done: mixers (CSRC lists are skipped), header extensions (skipped).

mod header;
mod jitter;
mod reorder;
mod seq;

pub use header::{PayloadType, RtpError, RtpPacket, Seq16, Ssrc};
pub use jitter::Jitter;
pub use reorder::{MAX_HELD, Offer, Ready, Reorder};
pub use seq::{Arrival, ExtSeq, Passage, SequenceCounts, SequenceTracker, TimestampUnwrapper};
