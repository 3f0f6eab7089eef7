//! One reading of all figures of a stream.

use super::{Dropout, PulseCell};
use crate::clock::{Drift, Offset};
use crate::event::Event;
use crate::flash::FlashReading;
use crate::playout::ArrivalSpread;
use crate::receiver::Asked;
use crate::rtp::SequenceCounts;
use crate::rtsp::FailureKind;
use crate::sight::Sight;
use crate::sound::SoundReading;
use crate::ts::TsCounts;
use crate::verdict::SessionState;
use crate::{BitsPerSecond, Cause, FrameRate, Mono, Transport, Verdict};
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

/// What a latency is measured from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LatencyBasis {
    /// Capture times from sender reports.
    Clock,
    /// Delay above the least seen in the last minute.
    Relative,
    /// Capture times measured by flashes, from glass to glass.
    Flash,
}

impl LatencyBasis {
    /// The word for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Clock => "clock",
            Self::Relative => "relative",
            Self::Flash => "flash",
        }
    }

    /// The letter on a plate.
    #[must_use]
    pub const fn letter(self) -> char {
        match self {
            Self::Clock => 'c',
            Self::Relative => 'r',
            Self::Flash => 'f',
        }
    }

    /// The whole latency is known, not only what is above the least.
    #[must_use]
    pub const fn is_whole(self) -> bool {
        !matches!(self, Self::Relative)
    }
}

/// Median and 95th percentile of the last 10 s.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Spread {
    /// Half are at most this.
    pub p50: Duration,
    /// Nineteen in twenty are at most this.
    pub p95: Duration,
}

/// Capture to the furthest station that pictures reach (drawn, decoded, or arrived), by parts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Latency {
    /// What `path` and `total` are measured from.
    pub basis: LatencyBasis,
    /// How far a clock's or a flash's basis may be off; `None` for a relative one.
    pub error: Option<Duration>,
    /// All parts together.
    pub total: Spread,
    /// Capture, or the least delay, to the arrival of the frame's last packet.
    pub path: Spread,
    /// Held by us on purpose, for order or in the receive buffer.
    pub buffer: Spread,
    /// Arrival to decoded and scaled picture; `None` when not decoded.
    pub decode: Option<Spread>,
    /// Picture to written to the terminal; `None` when not drawn.
    pub draw: Option<Spread>,
}

/// Access units and pictures.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct FrameCounts {
    /// Access units of which anything arrived.
    pub received: u64,
    /// Those with a part missing.
    pub damaged: u64,
    /// Pictures that came out of the decoder.
    pub decoded: u64,
    /// Of those, how many were concealed or depended on something lost.
    pub unclean: u64,
    /// Pictures drawn.
    pub drawn: u64,
}

/// Packets that we discarded, by reason.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Dropped {
    /// Not an RTP packet.
    pub not_rtp: u64,
    /// Of another payload type.
    pub payload_type: u64,
    /// Of another SSRC.
    pub stranger: u64,
    /// From another address than was agreed.
    pub other_sender: u64,
    /// After their place was given up.
    pub too_late: u64,
    /// Not fitting the stream's key.
    pub not_authentic: u64,
    /// A jump of sequence that no second packet confirmed.
    pub jump: u64,
    /// Left in the socket until the kernel dropped them: this machine was too slow.
    pub by_kernel: u64,
    /// Access units discarded because the decoder was behind.
    pub units_skipped: u64,
}

/// When the newest try at a stream came how far; `None` is not yet.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Milestones {
    /// The try began.
    pub began: Option<Mono>,
    /// The connection stood.
    pub connected: Option<Mono>,
    /// The first answer came, in the protocol that was asked for.
    pub spoke: Option<Mono>,
    /// A sign-in was asked for.
    pub sign_in_asked: Option<Mono>,
    /// It was accepted; whether by Digest.
    pub signed_in: Option<(Mono, bool)>,
    /// The stream was described.
    pub described: Option<Mono>,
    /// The transport was agreed.
    pub set_up: Option<(Mono, Transport)>,
    /// The session played.
    pub playing: Option<Mono>,
    /// The first packet came.
    pub first_packet: Option<Mono>,
    /// Size and profile were known.
    pub parameters: Option<Mono>,
    /// The first clean picture was there, decoded where anybody decodes.
    pub first_picture: Option<Mono>,
}

/// All figures of one stream at one moment; `None` is unknown.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Figures {
    /// What became of requests for keyframes; `None` where the sender cannot be asked.
    pub keyframes_asked: Option<Asked>,
    /// Pictures wait for a keyframe that RTCP cannot ask for.
    pub wants_keyframe: bool,
    /// The moment.
    pub at: Mono,
    /// The verdict.
    pub verdict: Verdict,
    /// Why it is not steady.
    pub cause: Option<Cause>,
    /// One sentence about the session's failure.
    pub text: Option<String>,
    /// What the other end answered, where the session failed by that.
    pub seen: Option<FailureKind>,
    /// When the next try begins.
    pub next_try: Option<Mono>,
    /// How far the newest try came, and when.
    pub milestones: Milestones,
    /// Transport in use.
    pub transport: Option<Transport>,
    /// Codec by its encoding name.
    pub codec: Option<String>,
    /// How often a still is fetched; `None` for a live stream.
    pub still: Option<Duration>,
    /// Who pushes it; `None` for a stream that is asked for, or before the first packet.
    pub sender: Option<SocketAddr>,
    /// Codings of the sound beside it.
    pub audio: Vec<String>,
    /// The sound that is received beside it.
    pub sound: SoundReading,
    /// Profile name.
    pub profile: Option<&'static str>,
    /// Cropped width and height in pixels.
    pub size: Option<(u32, u32)>,
    /// Declared frame rate.
    pub declared: Option<FrameRate>,
    /// Declared bitrate.
    pub declared_bitrate: Option<BitsPerSecond>,
    /// The session's state that the verdict rests on.
    pub session: SessionState,
    /// Sent rate, frames/s.
    pub sent: Option<f64>,
    /// Arrived rate, frames/s.
    pub arrived: Option<f64>,
    /// Shown rate, frames/s; `None` while nothing draws.
    pub shown: Option<f64>,
    /// Latency.
    pub latency: Option<Latency>,
    /// How unevenly units arrive; read while there is a receive buffer.
    pub arrival: Option<ArrivalSpread>,
    /// Interarrival jitter.
    pub jitter: Option<Duration>,
    /// Packet totals.
    pub packets: SequenceCounts,
    /// Share lost in the last 10 s.
    pub recent_loss: Option<f64>,
    /// Frame totals.
    pub frames: FrameCounts,
    /// What we discarded.
    pub dropped: Dropped,
    /// Payload bitrate over 1 s.
    pub bitrate_1s: Option<BitsPerSecond>,
    /// Of the payload bitrate over 1 s: keyframes, predicted frames, frames predicted from both sides.
    pub bitrate_by_kind: Option<[BitsPerSecond; 3]>,
    /// When the last keyframe came.
    pub keyframe_at: Option<Mono>,
    /// What a transport stream showed, where it is one.
    pub transport_stream: Option<TsCounts>,
    /// How fast the camera's clock runs away from ours.
    pub clock_drift: Option<Drift>,
    /// Payload bitrate over 10 s.
    pub bitrate_10s: Option<BitsPerSecond>,
    /// Keyframe interval in frames, last.
    pub keyframe_frames: Option<u64>,
    /// Keyframe interval in media time, last.
    pub keyframe_interval: Option<Duration>,
    /// Keyframe interval, longest.
    pub keyframe_longest: Option<Duration>,
    /// From the start of the source to its first displayable picture.
    pub first_picture: Option<Duration>,
    /// Dropouts that have ended, oldest first.
    pub dropouts: Vec<Dropout>,
    /// How many have ended since the start, and their total length.
    pub dropout_totals: (u64, Duration),
    /// What happened, oldest first.
    pub events: Arc<[Event]>,
    /// The dropout that runs.
    pub dropout_now: Option<Dropout>,
    /// The last minute.
    pub pulse: Vec<PulseCell>,
    /// What the pictures themselves tell; `None` while none is decoded.
    pub sight: Option<Sight>,
    /// How the flash probe of this stream goes, or went.
    pub flash: Option<Arc<FlashReading>>,
    /// The camera's clock against ours; `None` without sender reports.
    pub clock: Option<Offset>,
}

impl Figures {
    /// What is counted as packets: without RTP, the 188 bytes of a transport stream.
    #[must_use]
    pub fn packet_word(&self) -> &'static str {
        match self.transport_stream {
            Some(ts) if ts.packets > 0 && ts.packets == self.packets.received => "TS packets",
            _ => "packets",
        }
    }

    /// The camera's clock, where it is beyond what a path could explain.
    #[must_use]
    pub fn wrong_clock(&self) -> Option<Offset> {
        self.clock.filter(|clock| clock.clock_wrong)
    }
}
