//! A stream's state in one word, and the rules that choose it.

use crate::Cause;
use crate::Mono;
use std::fmt;
use std::time::Duration;

/// A stream's state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub enum Verdict {
    /// Pictures come as declared.
    Steady,
    /// Pictures come, but not as they should.
    Strained,
    /// The session lives and no new picture comes.
    Stalled,
    /// There is no session.
    Lost,
    /// A sign-in is needed or was refused.
    Locked,
    /// On the way to the first picture.
    #[default]
    Waiting,
    /// Planned rest.
    Resting,
}

impl Verdict {
    /// The word for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Steady => "steady",
            Self::Strained => "strained",
            Self::Stalled => "stalled",
            Self::Lost => "lost",
            Self::Locked => "locked",
            Self::Waiting => "waiting",
            Self::Resting => "resting",
        }
    }

    /// Every verdict, worst first.
    pub const WORST_FIRST: [Self; 7] =
        [Self::Lost, Self::Locked, Self::Stalled, Self::Strained, Self::Waiting, Self::Resting, Self::Steady];
}

impl fmt::Display for Verdict {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// What the session is doing, as the driver knows it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum SessionState {
    /// Resolving, connecting, or asking.
    #[default]
    Connecting,
    /// Playing.
    Playing,
    /// Ended; tried again by itself at `next_try`.
    Failed {
        /// Why.
        cause: Cause,
        /// One sentence, without secrets.
        text: String,
        /// When the next try begins.
        next_try: Option<Mono>,
    },
    /// Ended by a sign-in that is missing or was refused, or by a certificate that is not trusted; never retried by
    /// itself.
    Locked {
        /// One sentence, without secrets.
        text: String,
        /// SHA-256 of the certificate that is not trusted, in hexadecimal; `None` where it is the sign-in.
        certificate: Option<String>,
    },
    /// Closed on purpose.
    Resting,
}

/// The measurements that a verdict rests on.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
pub struct Evidence {
    /// A displayable picture has come at least once.
    pub had_picture: bool,
    /// A dropout runs.
    pub in_dropout: bool,
    /// Packets came within the last second.
    pub packets_flow: bool,
    /// Access units come, but none is clean yet.
    pub awaiting_keyframe: bool,
    /// The stream is encrypted and its key is not known.
    pub key_needed: bool,
    /// There is no decoder for the codec, or for this form of it.
    pub unknown_codec: bool,
    /// The decoder gives no picture of units that arrive whole.
    pub undecodable: bool,
    /// What was asked of the other end has had no answer for a while; what that would be.
    pub unanswered: Option<Cause>,
    /// Time since the session began to play.
    pub playing_for: Duration,
    /// Share of packets lost in the last 10 s.
    pub loss: Option<f64>,
    /// Damaged share of the access units of the last 10 s without any packet lost.
    pub damaged: bool,
    /// Sent rate over declared rate.
    pub sent_of_declared: Option<f64>,
    /// Arrived rate over sent rate.
    pub arrived_of_sent: Option<f64>,
    /// Decoded rate over arrived rate, while pictures are wanted.
    pub decoded_of_arrived: Option<f64>,
    /// Shown rate over decoded rate, while the stream is on a screen.
    pub shown_of_decoded: Option<f64>,
    /// 95th percentile of the path's delay.
    pub path_delay: Option<Duration>,
}

/// Loss from which a stream is strained, as a share.
pub const STRAINED_LOSS: f64 = 0.005;
/// Sent below this share of declared is a slowed camera.
pub const SLOWED: f64 = 0.85;
/// Arrived below this share of sent is a strained path.
pub const ARRIVED_SHORT: f64 = 0.85;
/// Decoded or shown below this share is a slow machine or terminal.
pub const SHOWN_SHORT: f64 = 0.6;
/// A path delay from which packets count as late.
pub const LATE: Duration = Duration::from_secs(1);

const STRAIN_AFTER: Duration = Duration::from_secs(1);
const STEADY_AFTER: Duration = Duration::from_secs(3);

/// Turns evidence into a verdict; strain must last a second to count, and be gone three to end.
#[derive(Debug, Clone, Default)]
pub struct Judge {
    strained: Option<Cause>,
    changing_since: Option<Mono>,
}

impl Judge {
    /// The verdict now, with its cause where it is not steady.
    pub fn judge(&mut self, now: Mono, session: &SessionState, evidence: &Evidence) -> (Verdict, Option<Cause>) {
        match session {
            SessionState::Locked { .. } => (Verdict::Locked, Some(Cause::SignIn)),
            SessionState::Resting => (Verdict::Resting, None),
            SessionState::Failed { cause, .. } => (Verdict::Lost, Some(*cause)),
            SessionState::Connecting if evidence.had_picture => (Verdict::Lost, evidence.unanswered),
            SessionState::Connecting => (Verdict::Waiting, evidence.unanswered),
            SessionState::Playing => self.judge_playing(now, evidence),
        }
    }

    fn judge_playing(&mut self, now: Mono, evidence: &Evidence) -> (Verdict, Option<Cause>) {
        if evidence.key_needed {
            return (Verdict::Stalled, Some(Cause::KeyNeeded));
        }
        if evidence.unknown_codec {
            return (Verdict::Stalled, Some(Cause::UnknownCodec));
        }
        if evidence.undecodable {
            return (Verdict::Stalled, Some(Cause::Damaged));
        }
        if evidence.in_dropout {
            return (Verdict::Stalled, Some(stall_cause(evidence)));
        }
        if !evidence.had_picture {
            let cause = if evidence.packets_flow { Cause::AwaitingKeyframe } else { Cause::Silence };
            let patient = evidence.playing_for < Duration::from_secs(3);
            let verdict = if patient || evidence.packets_flow { Verdict::Waiting } else { Verdict::Stalled };
            return (verdict, (!patient).then_some(cause));
        }
        self.settle(now, strain(evidence));
        match self.strained {
            Some(cause) => (Verdict::Strained, Some(cause)),
            None => (Verdict::Steady, None),
        }
    }

    fn settle(&mut self, now: Mono, wanted: Option<Cause>) {
        if wanted == self.strained || (wanted.is_some() && self.strained.is_some()) {
            self.strained = wanted;
            self.changing_since = None;
            return;
        }
        let since = *self.changing_since.get_or_insert(now);
        let hold = if wanted.is_some() { STRAIN_AFTER } else { STEADY_AFTER };
        if now.since(since) >= hold {
            self.strained = wanted;
            self.changing_since = None;
        }
    }
}

/// Why no picture comes while the session lives.
#[must_use]
pub fn stall_cause(evidence: &Evidence) -> Cause {
    if !evidence.packets_flow {
        Cause::Silence
    } else if evidence.loss.is_some_and(|loss| loss > 0.0) {
        Cause::PacketLoss
    } else if evidence.damaged {
        Cause::Damaged
    } else if evidence.awaiting_keyframe {
        Cause::AwaitingKeyframe
    } else {
        Cause::CameraSlowed
    }
}

/// The first rule that applies, from the path to this machine.
fn strain(evidence: &Evidence) -> Option<Cause> {
    let below = |share: Option<f64>, limit: f64| share.is_some_and(|share| share < limit);
    [
        (evidence.loss.is_some_and(|loss| loss >= STRAINED_LOSS), Cause::PacketLoss),
        (evidence.damaged, Cause::Damaged),
        (below(evidence.sent_of_declared, SLOWED), Cause::CameraSlowed),
        (evidence.path_delay.is_some_and(|delay| delay > LATE), Cause::Late),
        (below(evidence.arrived_of_sent, ARRIVED_SHORT), Cause::Late),
        (below(evidence.decoded_of_arrived, SHOWN_SHORT), Cause::MachineSlow),
        (below(evidence.shown_of_decoded, SHOWN_SHORT), Cause::TerminalSlow),
    ]
    .into_iter()
    .find_map(|(applies, cause)| applies.then_some(cause))
}

#[cfg(test)]
mod tests {
    use super::*;

    const GOOD: Evidence = Evidence {
        had_picture: true,
        in_dropout: false,
        packets_flow: true,
        awaiting_keyframe: false,
        key_needed: false,
        unknown_codec: false,
        undecodable: false,
        unanswered: None,
        playing_for: Duration::from_secs(60),
        loss: Some(0.0),
        damaged: false,
        sent_of_declared: Some(1.0),
        arrived_of_sent: Some(1.0),
        decoded_of_arrived: Some(1.0),
        shown_of_decoded: Some(1.0),
        path_delay: None,
    };

    #[test]
    fn each_strain_has_its_cause() {
        for (evidence, cause) in [
            (Evidence { loss: Some(0.01), ..GOOD }, Cause::PacketLoss),
            (Evidence { sent_of_declared: Some(0.5), ..GOOD }, Cause::CameraSlowed),
            (Evidence { path_delay: Some(Duration::from_secs(2)), ..GOOD }, Cause::Late),
            (Evidence { arrived_of_sent: Some(0.5), ..GOOD }, Cause::Late),
            (Evidence { decoded_of_arrived: Some(0.5), ..GOOD }, Cause::MachineSlow),
            (Evidence { shown_of_decoded: Some(0.3), ..GOOD }, Cause::TerminalSlow),
            (Evidence { damaged: true, ..GOOD }, Cause::Damaged),
        ] {
            let mut judge = Judge::default();
            let at = |ms| Mono::from_millis(ms);
            assert_eq!(judge.judge(at(0), &SessionState::Playing, &evidence), (Verdict::Steady, None), "not at once");
            assert_eq!(judge.judge(at(1000), &SessionState::Playing, &evidence), (Verdict::Strained, Some(cause)));
            assert_eq!(judge.judge(at(2000), &SessionState::Playing, &GOOD).0, Verdict::Strained, "held");
            assert_eq!(judge.judge(at(5000), &SessionState::Playing, &GOOD), (Verdict::Steady, None));
        }
    }

    #[test]
    fn a_stall_is_explained_by_what_still_comes() {
        for (evidence, cause) in [
            (Evidence { packets_flow: false, ..GOOD }, Cause::Silence),
            (Evidence { loss: Some(0.2), awaiting_keyframe: true, ..GOOD }, Cause::PacketLoss),
            (Evidence { awaiting_keyframe: true, ..GOOD }, Cause::AwaitingKeyframe),
        ] {
            let evidence = Evidence { in_dropout: true, ..evidence };
            assert_eq!(Judge::default().judge(Mono::ZERO, &SessionState::Playing, &evidence), (Verdict::Stalled, Some(cause)));
        }
    }

    #[test]
    fn the_session_speaks_first() {
        let failed = SessionState::Failed { cause: Cause::PortClosed, text: String::new(), next_try: None };
        let mut judge = Judge::default();
        assert_eq!(judge.judge(Mono::ZERO, &failed, &GOOD), (Verdict::Lost, Some(Cause::PortClosed)));
        let locked = SessionState::Locked { text: String::new(), certificate: None };
        assert_eq!(judge.judge(Mono::ZERO, &locked, &GOOD).0, Verdict::Locked);
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Connecting, &Evidence::default()).0, Verdict::Waiting);
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Resting, &GOOD), (Verdict::Resting, None));
        let early = Evidence { playing_for: Duration::from_secs(1), ..Evidence::default() };
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Playing, &early), (Verdict::Waiting, None));
        let silent = Evidence { playing_for: Duration::from_secs(4), ..Evidence::default() };
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Playing, &silent), (Verdict::Stalled, Some(Cause::Silence)));
        let asked = Evidence { unanswered: Some(Cause::Silence), ..Evidence::default() };
        let connecting = SessionState::Connecting;
        assert_eq!(judge.judge(Mono::ZERO, &connecting, &asked), (Verdict::Waiting, Some(Cause::Silence)));
        let refused = Evidence { undecodable: true, ..GOOD };
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Playing, &refused), (Verdict::Stalled, Some(Cause::Damaged)));
        let codec = Evidence { unknown_codec: true, ..GOOD };
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Playing, &codec), (Verdict::Stalled, Some(Cause::UnknownCodec)));
    }
}
