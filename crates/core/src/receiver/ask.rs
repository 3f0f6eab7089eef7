//! Asking the sender for a keyframe (RFC 4585 §6.3.1, RFC 5104 §4.3.1): after a loss, and where a stream does not begin with one.

use crate::Mono;
use crate::rtcp;
use crate::rtp::Ssrc;
use crate::sdp::Feedback;
use std::time::Duration;

/// One request in this time at most: a keyframe costs a weak link the most.
const EVERY: Duration = Duration::from_secs(2);
/// A keyframe that comes this soon after a request was made for it.
const OBEYED: Duration = Duration::from_secs(1);

/// What became of the requests.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Asked {
    /// How the description offers to be asked.
    pub way: Feedback,
    /// Requests that went out.
    pub asked: u64,
    /// Those after which a keyframe came within a second.
    pub obeyed: u64,
}

/// When to ask, and what came of it.
#[derive(Debug, Default)]
pub struct KeyframeAsk {
    told: Asked,
    wanted: bool,
    last: Option<Mono>,
    pending: Option<Mono>,
    keyframe: Option<Mono>,
    sequence: u8,
}

impl KeyframeAsk {
    /// A session begins.
    pub const fn begin(&mut self, way: Feedback) {
        self.told.way = way;
        (self.wanted, self.pending) = (false, None);
    }

    /// Pictures cannot be shown before the next keyframe.
    pub const fn want(&mut self) {
        self.wanted = true;
    }

    /// Pictures are clean again.
    pub const fn satisfied(&mut self) {
        self.wanted = false;
    }

    /// A keyframe came whole.
    pub fn on_keyframe(&mut self, now: Mono) {
        self.keyframe = Some(now);
        if let Some(asked) = self.pending.take() {
            self.told.obeyed += u64::from(now.since(asked) <= OBEYED);
        }
    }

    /// Whether a keyframe is wanted that cannot be asked for by RTCP.
    #[must_use]
    pub const fn is_wanted_otherwise(&self) -> bool {
        self.wanted && !self.told.way.pli && !self.told.way.fir
    }

    /// It was asked for in another way, which may be told here after the keyframe came.
    pub fn on_asked_otherwise(&mut self, at: Mono) {
        self.told.asked += 1;
        self.pending = Some(at);
        if let Some(keyframe) = self.keyframe.filter(|keyframe| *keyframe >= at) {
            self.on_keyframe(keyframe);
        }
    }

    /// Appends the request that is due to a compound; false where none is.
    pub fn poll(&mut self, now: Mono, from: Ssrc, media: Ssrc, out: &mut Vec<u8>) -> bool {
        let way = self.told.way;
        let soon = self.last.is_some_and(|last| now.since(last) < EVERY);
        if !self.wanted || soon || !(way.pli || way.fir) {
            return false;
        }
        (self.last, self.pending) = (Some(now), Some(now));
        self.told.asked += 1;
        if way.pli {
            rtcp::emit_picture_loss(from, media, out);
        } else {
            self.sequence = self.sequence.wrapping_add(1);
            rtcp::emit_full_intra_request(from, media, self.sequence, out);
        }
        true
    }

    /// What became of the requests; `None` where none can be made.
    #[must_use]
    pub fn told(&self) -> Option<Asked> {
        (self.told.way.pli || self.told.way.fir || self.told.asked > 0).then_some(self.told)
    }
}
