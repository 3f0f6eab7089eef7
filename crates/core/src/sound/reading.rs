//! One reading of all that is known of a stream's sound.

use super::{Level, Noticed};
use crate::BitsPerSecond;
use crate::rtp::SequenceCounts;
use std::time::Duration;

/// Whether a stream has sound, and whether it is received.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum SoundState {
    /// The stream was not described yet.
    #[default]
    Unknown,
    /// It has none.
    None,
    /// It has some, and it is not asked for here.
    Off,
    /// It was asked for, and the camera refused it: one sentence.
    Refused(String),
    /// It is received.
    On,
    /// It is received, and its level is not known: one sentence.
    Unread(String),
}

impl SoundState {
    /// The word on the screen and for machines.
    #[must_use]
    pub const fn word(&self) -> &'static str {
        match self {
            Self::Unknown => "unknown",
            Self::None => "none",
            Self::Off => "off",
            Self::Refused(_) => "refused",
            Self::On => "on",
            Self::Unread(_) => "no-level",
        }
    }

    /// Why it is not as one would have it.
    #[must_use]
    pub fn text(&self) -> Option<&str> {
        match self {
            Self::Refused(text) | Self::Unread(text) => Some(text),
            _ => None,
        }
    }

    /// Packets of it are received.
    #[must_use]
    pub const fn is_received(&self) -> bool {
        matches!(self, Self::On | Self::Unread(_))
    }
}

/// All that is known of a stream's sound at one moment; `None` is unknown.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SoundReading {
    /// Whether there is any, and whether it is received.
    pub state: SoundState,
    /// How it is coded.
    pub coding: Option<String>,
    /// Sampling rate that the description says, in Hz.
    pub rate_hz: Option<u32>,
    /// Channels.
    pub channels: Option<u8>,
    /// Level of each channel over the last second; empty is unknown.
    pub levels: Vec<Level>,
    /// Samples that were clipped in the last second.
    pub clipped: u32,
    /// Packet totals.
    pub packets: SequenceCounts,
    /// Share lost in the last 10 s.
    pub recent_loss: Option<f64>,
    /// Interarrival jitter.
    pub jitter: Option<Duration>,
    /// Payload bitrate over 10 s.
    pub bitrate: Option<BitsPerSecond>,
    /// How much later than its picture the sound of a moment is here, in microseconds; negative where it is earlier. By the
    /// sender reports of both, median of 2 s.
    pub offset_micros: Option<i64>,
    /// What is noticed in its level.
    pub noticed: Noticed,
    /// Something to be known of it: one sentence.
    pub remark: Option<String>,
}

impl SoundReading {
    /// The loudest channel.
    #[must_use]
    pub fn level(&self) -> Option<Level> {
        self.levels.iter().copied().reduce(Level::louder)
    }
}
