//! A stream's state in one word, and the rules that choose it.

use crate::meter::FIRST_PICTURE;
use crate::sight::Finding;
use crate::thresholds::Thresholds;
use crate::{Cause, Mono};
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

    /// The worse of two.
    #[must_use]
    pub fn worse(self, other: Self) -> Self {
        Self::WORST_FIRST.into_iter().find(|one| *one == self || *one == other).unwrap_or(self)
    }

    /// By its word.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::WORST_FIRST.into_iter().find(|verdict| verdict.word() == word)
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
    /// Its decoder ended here not long ago, or has given nothing since.
    pub decoder_failed: bool,
    /// There is no decoder for the codec, or for this form of it.
    pub unknown_codec: bool,
    /// The decoder gives no picture of units that arrive whole.
    pub undecodable: bool,
    /// What was asked of the other end has had no answer for a while; what that would be.
    pub unanswered: Option<Cause>,
    /// Time since the first session began to play.
    pub playing_for: Duration,
    /// Share of packets lost in the last 10 s.
    pub loss: Option<f64>,
    /// Arriving over declared bitrate, of 10 s.
    pub arrives_of_declared: Option<f64>,
    /// Packets are lost all the time, as where more is sent than the path carries.
    pub overloaded: bool,
    /// Damaged share of the access units of the last 10 s without any packet lost.
    pub damaged: bool,
    /// Packets came after their place in the order was given up, in the last 10 s.
    pub too_late: bool,
    /// Sent rate over declared rate.
    pub sent_of_declared: Option<f64>,
    /// Declared distance of frames over their usual one: how slow the camera goes where it sends at all.
    pub pace: Option<f64>,
    /// Since when the camera's frames are further apart than declared, by the first of them; `None` where they are not, or
    /// that began before what is remembered.
    pub slower_since: Option<Mono>,
    /// Since when they are as far apart as declared again.
    pub regular_since: Option<Mono>,
    /// Arrived rate over sent rate.
    pub arrived_of_sent: Option<f64>,
    /// Decoded rate over arrived rate, while pictures are wanted.
    pub decoded_of_arrived: Option<f64>,
    /// Shown rate over decoded rate, while the stream is on a screen.
    pub shown_of_decoded: Option<f64>,
    /// Share of the last 5 s in which packets of a unit that had begun to arrive were still to come: a link that is full
    /// delivers all the time.
    pub link_busy: Option<f64>,
    /// 95th percentile of the path's delay.
    pub path_delay: Option<Duration>,
    /// What is found in the picture.
    pub finding: Option<Finding>,
    /// From the first to the last packet that was lost, of those of late.
    pub lossy: Option<(Mono, Mono)>,
    /// The same of damaged pictures.
    pub damage: Option<(Mono, Mono)>,
    /// The same of frames and packets that came late.
    pub lateness: Option<(Mono, Mono)>,
    /// What strains it at this moment, whatever the verdict still holds.
    pub strain: Option<Cause>,
}

impl Evidence {
    /// When what strains a stream by this cause began and happened last, as far as that is known better than by when it was
    /// judged.
    #[must_use]
    pub fn span_of(&self, cause: Cause) -> (Option<Mono>, Option<Mono>) {
        let span = match cause {
            Cause::PacketLoss => self.lossy,
            Cause::TooHeavy => {
                if self.lossy.map(|span| span.1) > self.lateness.map(|span| span.1) {
                    self.lossy
                } else {
                    self.lateness
                }
            }
            Cause::Damaged => self.damage,
            Cause::Late => self.lateness,
            Cause::CameraSlowed => return (self.slower_since, self.regular_since),
            _ => None,
        };
        (span.map(|span| span.0), span.map(|span| span.1))
    }
}

/// Turns evidence into a verdict; strain must last a while to count, and be gone longer to end.
#[derive(Debug, Clone, Default)]
pub struct Judge {
    /// From where on a figure is a strain.
    pub thresholds: Thresholds,
    strained: Option<Cause>,
    changing_since: Option<Mono>,
    /// Another cause of the same root shows, since when.
    turning: Option<(Cause, Mono)>,
}

impl Judge {
    /// The verdict now, with its cause where it is not steady.
    pub fn judge(&mut self, now: Mono, session: &SessionState, evidence: &Evidence) -> (Verdict, Option<Cause>) {
        match session {
            SessionState::Locked { .. } => (Verdict::Locked, Some(Cause::SignIn)),
            SessionState::Resting => (Verdict::Resting, None),
            SessionState::Failed { cause, .. } => (Verdict::Lost, Some(*cause)),
            SessionState::Connecting if evidence.had_picture => (Verdict::Lost, evidence.unanswered),
            SessionState::Connecting if evidence.unanswered.is_some() => (Verdict::Lost, evidence.unanswered),
            SessionState::Connecting => (Verdict::Waiting, None),
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
            let patient = evidence.playing_for < FIRST_PICTURE;
            return if patient { (Verdict::Waiting, None) } else { (Verdict::Stalled, Some(stall_cause(evidence))) };
        }
        if evidence.finding == Some(Finding::Frozen) && self.thresholds.counts(Finding::Frozen) {
            return (Verdict::Stalled, Some(Cause::FrozenPicture));
        }
        self.settle(now, strain(evidence, &self.thresholds));
        match self.strained {
            Some(cause) => (Verdict::Strained, Some(cause)),
            None => (Verdict::Steady, None),
        }
    }

    fn settle(&mut self, now: Mono, wanted: Option<Cause>) {
        // Late and too heavy, say, show in turns: one goes over to the other when that lasts.
        if let Some((old, new)) = self.strained.zip(wanted).filter(|(old, new)| old != new && old.is_of_one_root(*new)) {
            let since = self.turning.filter(|(cause, _)| *cause == new).map_or(now, |(_, since)| since);
            self.turning = Some((new, since));
            self.changing_since = None;
            self.strained = Some(if now.since(since) >= self.thresholds.steady_after { new } else { old });
            return;
        }
        self.turning = None;
        if wanted == self.strained || (wanted.is_some() && self.strained.is_some()) {
            self.strained = wanted;
            self.changing_since = None;
            return;
        }
        let since = *self.changing_since.get_or_insert(now);
        let hold = if wanted.is_some() { self.thresholds.strain_after } else { self.thresholds.steady_after };
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
    } else if evidence.overloaded {
        Cause::TooHeavy
    } else if evidence.loss.is_some_and(|loss| loss > 0.0) {
        Cause::PacketLoss
    } else if evidence.too_late {
        Cause::Late
    } else if evidence.damaged {
        Cause::Damaged
    } else if evidence.awaiting_keyframe {
        Cause::AwaitingKeyframe
    } else {
        Cause::CameraSlowed
    }
}

/// A link that delivers for a larger share of the time is full.
pub const BUSY: f64 = 0.6;

/// What a finding in the picture is called as a cause.
#[must_use]
pub const fn finding_cause(finding: Finding) -> Cause {
    match finding {
        Finding::Frozen => Cause::FrozenPicture,
        Finding::Dark | Finding::Covered => Cause::DarkPicture,
        Finding::WashedOut => Cause::WashedOut,
        Finding::OutOfFocus => Cause::OutOfFocus,
    }
}

/// The first rule that applies, from the path to this machine.
#[must_use]
pub fn strain(evidence: &Evidence, limits: &Thresholds) -> Option<Cause> {
    let below = |share: Option<f64>, limit: f64| share.is_some_and(|share| share < limit);
    let slowed = below(evidence.sent_of_declared, limits.slowed);
    let slow_pace = below(evidence.pace, limits.slowed);
    let late = evidence.path_delay.is_some_and(|delay| delay > limits.late);
    let finding = evidence.finding.filter(|finding| limits.counts(*finding));
    [
        (evidence.overloaded, Cause::TooHeavy),
        (evidence.loss.is_some_and(|loss| loss >= limits.loss), Cause::PacketLoss),
        (evidence.damaged, Cause::Damaged),
        // A link that is full delivers all the time, and what waits for it comes late.
        (late && evidence.link_busy.is_some_and(|busy| busy > BUSY), Cause::TooHeavy),
        // Where packets are lost, frames that are missing may have been sent.
        (slowed && (slow_pace || evidence.loss.is_none_or(|loss| loss == 0.0)), Cause::CameraSlowed),
        (late || evidence.too_late, Cause::Late),
        (below(evidence.arrived_of_sent, limits.arrived), Cause::Late),
        (below(evidence.decoded_of_arrived, limits.shown) && evidence.decoder_failed, Cause::DecoderFailed),
        (below(evidence.decoded_of_arrived, limits.shown), Cause::MachineSlow),
        (finding.is_some(), finding.map_or(Cause::DarkPicture, finding_cause)),
        (below(evidence.shown_of_decoded, limits.shown), Cause::TerminalSlow),
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
        decoder_failed: false,
        unknown_codec: false,
        undecodable: false,
        unanswered: None,
        playing_for: Duration::from_secs(60),
        loss: Some(0.0),
        arrives_of_declared: None,
        overloaded: false,
        damaged: false,
        too_late: false,
        sent_of_declared: Some(1.0),
        slower_since: None,
        regular_since: None,
        pace: None,
        arrived_of_sent: Some(1.0),
        decoded_of_arrived: Some(1.0),
        shown_of_decoded: Some(1.0),
        link_busy: None,
        path_delay: None,
        finding: None,
        lossy: None,
        damage: None,
        lateness: None,
        strain: None,
    };

    #[test]
    fn each_strain_has_its_cause() {
        for (evidence, cause) in [
            (Evidence { loss: Some(0.01), ..GOOD }, Cause::PacketLoss),
            (Evidence { loss: Some(0.37), overloaded: true, ..GOOD }, Cause::TooHeavy),
            (Evidence { sent_of_declared: Some(0.5), ..GOOD }, Cause::CameraSlowed),
            (Evidence { path_delay: Some(Duration::from_secs(2)), ..GOOD }, Cause::Late),
            (Evidence { arrived_of_sent: Some(0.5), ..GOOD }, Cause::Late),
            (
                Evidence { path_delay: Some(Duration::from_secs(2)), link_busy: Some(0.9), sent_of_declared: Some(0.5), ..GOOD },
                Cause::TooHeavy,
            ),
            (
                Evidence { path_delay: Some(Duration::from_secs(2)), sent_of_declared: Some(0.5), pace: Some(0.5), ..GOOD },
                Cause::CameraSlowed,
            ),
            (Evidence { decoded_of_arrived: Some(0.5), ..GOOD }, Cause::MachineSlow),
            (Evidence { decoded_of_arrived: Some(0.5), decoder_failed: true, ..GOOD }, Cause::DecoderFailed),
            (Evidence { shown_of_decoded: Some(0.3), ..GOOD }, Cause::TerminalSlow),
            (Evidence { damaged: true, ..GOOD }, Cause::Damaged),
            (Evidence { finding: Some(Finding::Covered), ..GOOD }, Cause::DarkPicture),
            (Evidence { finding: Some(Finding::WashedOut), shown_of_decoded: Some(0.1), ..GOOD }, Cause::WashedOut),
            (Evidence { finding: Some(Finding::OutOfFocus), ..GOOD }, Cause::OutOfFocus),
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
    fn what_is_switched_off_or_allowed_for_a_camera_is_no_strain() {
        let mut judge = Judge::default();
        let frozen = Evidence { finding: Some(Finding::Frozen), ..GOOD };
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Playing, &frozen), (Verdict::Stalled, Some(Cause::FrozenPicture)));
        judge.thresholds.findings = [false; 5];
        judge.thresholds.loss = 0.02;
        for second in 0..10 {
            let at = Mono::from_millis(second * 1000);
            for evidence in [frozen, Evidence { finding: Some(Finding::Dark), loss: Some(0.01), ..GOOD }] {
                assert_eq!(judge.judge(at, &SessionState::Playing, &evidence), (Verdict::Steady, None));
            }
        }
    }

    #[test]
    fn a_stall_is_explained_by_what_still_comes() {
        for (evidence, cause) in [
            (Evidence { packets_flow: false, ..GOOD }, Cause::Silence),
            (Evidence { loss: Some(0.2), awaiting_keyframe: true, ..GOOD }, Cause::PacketLoss),
            (Evidence { too_late: true, awaiting_keyframe: true, ..GOOD }, Cause::Late),
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
        assert_eq!(judge.judge(Mono::ZERO, &connecting, &asked), (Verdict::Lost, Some(Cause::Silence)));
        let refused = Evidence { undecodable: true, ..GOOD };
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Playing, &refused), (Verdict::Stalled, Some(Cause::Damaged)));
        let codec = Evidence { unknown_codec: true, ..GOOD };
        assert_eq!(judge.judge(Mono::ZERO, &SessionState::Playing, &codec), (Verdict::Stalled, Some(Cause::UnknownCodec)));
    }
}
