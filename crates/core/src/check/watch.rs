//! From the figures of a stream that is being opened to the steps of the ladder.

use super::{Circumstances, Ladder, Step, StepState, advice};
use crate::meter::Figures;
use crate::rtsp::FailureKind;
use crate::verdict::SessionState;
use crate::{Cause, FrameRate, Mono, Transport, Verdict};
use std::time::Duration;

/// An answer that takes longer is none; devices that start their encoder when asked take seconds.
const ANSWER_WITHIN: Duration = Duration::from_secs(6);
/// From the session's start to its first packet, over the last transport.
const PACKET_WITHIN: Duration = Duration::from_secs(5);
/// A link that shows itself too slow is told after this long without a picture.
const SLOW_AFTER: Duration = Duration::from_secs(5);
/// A keyframe may be this long in coming.
const KEYFRAME_WITHIN: Duration = Duration::from_secs(10);
/// A stream must hold this long.
const HOLD: Duration = Duration::from_secs(5);
/// Sender reports come a few seconds apart; the clock is waited for this long after the first packet.
const CLOCK_WITHIN: Duration = Duration::from_secs(6);
/// Share of a rate below which it is not that rate.
const SHORT: f64 = 0.85;
/// Share of a rate below which a stream does not hold.
const FAR_SHORT: f64 = 0.5;

/// Whether a refusal is about the stream, and so comes after any sign-in.
const fn is_of_the_stream(cause: Cause, seen: Option<FailureKind>) -> bool {
    matches!(cause, Cause::NoSuchStream | Cause::ViewerLimit) || matches!(seen, Some(FailureKind::DeviceFailed))
}

/// Watches one stream and writes its steps into a ladder.
#[derive(Debug, Clone)]
pub struct StreamWatch {
    deadline: Mono,
    step_began: Mono,
    udp_brought_nothing: bool,
    at_first_picture: Option<(Mono, u64, u64)>,
    around: Circumstances,
}

impl StreamWatch {
    /// A stream whose opening began at `now` and that is watched until `deadline` at most; `around` colours the
    /// advice.
    #[must_use]
    pub const fn new(now: Mono, deadline: Mono, around: Circumstances) -> Self {
        Self { deadline, step_began: now, udp_brought_nothing: false, at_first_picture: None, around }
    }

    /// More became known around it.
    pub const fn set_circumstances(&mut self, around: Circumstances) {
        self.around = around;
    }

    /// Takes the newest figures; true when the ladder is done.
    pub fn observe(&mut self, now: Mono, figures: &Figures, ladder: &mut Ladder) -> bool {
        if let Some((_, Transport::Tcp)) = figures.milestones.set_up
            && ladder.steps().iter().any(|step| step.step == Step::Transport && step.saw.starts_with("udp"))
        {
            // A second session: UDP brought nothing and TCP is used.
            self.udp_brought_nothing = true;
            ladder.amend(Step::Transport, StepState::Warn, "tcp; udp brought no packet in 3 s and is most likely blocked");
        }
        self.around.seen = figures.seen;
        while let Some(step) = ladder.pending() {
            let before = ladder.steps().len();
            self.try_step(now, step, figures, ladder);
            if ladder.steps().len() == before {
                break;
            }
        }
        if ladder.pending().is_some() && now >= self.deadline {
            self.out_of_time(now, figures, ladder);
        }
        ladder.pending().is_none()
    }

    fn pass(&mut self, ladder: &mut Ladder, at: Mono, saw: impl Into<String>) {
        let took = at.since(self.step_began);
        self.step_began = self.step_began.max(at);
        ladder.pass(took, saw);
    }

    fn fail(&self, now: Mono, ladder: &mut Ladder, cause: Cause, saw: impl Into<String>) {
        if let Some(step) = ladder.pending() {
            ladder.fail(now.since(self.step_began), saw, cause, advice(step, cause, self.around));
        }
    }

    fn try_step(&mut self, now: Mono, step: Step, figures: &Figures, ladder: &mut Ladder) {
        let reached = &figures.milestones;
        match step {
            Step::Protocol => match reached.spoke {
                Some(at) => self.pass(ladder, at, if self.around.pictures { "HTTP" } else { "RTSP" }),
                None => self.ended_or_late(now, figures, ladder, "no answer to the first question"),
            },
            Step::SignIn => match (reached.signed_in, reached.described, reached.sign_in_asked) {
                (Some((at, digest)), ..) => {
                    let how = if digest { "accepted, by Digest" } else { "accepted, by Basic: the password travels readable" };
                    self.pass(ladder, at, how);
                }
                // That none was asked for is seen in the description: its time is the next step's.
                (None, Some(_), _) => {
                    ladder.warn(Duration::ZERO, "none asked for: this stream is open to anyone who can reach it", None);
                }
                (None, None, asked) => match &figures.session {
                    // What it says of the stream is the next step's.
                    SessionState::Failed { cause, .. } if is_of_the_stream(*cause, figures.seen) => {
                        let how = if asked.is_none() { "none asked for so far" } else { "accepted" };
                        self.pass(ladder, now, how);
                    }
                    _ => self.ended_or_late(now, figures, ladder, "no answer"),
                },
            },
            Step::Path => match reached.described {
                Some(at) => self.pass(ladder, at, described(figures)),
                None => self.ended_or_late(now, figures, ladder, "no answer to DESCRIBE"),
            },
            Step::Transport => match reached.set_up {
                Some((at, transport)) => {
                    self.pass(ladder, at, transport.word());
                    self.tell_fallback(ladder, transport);
                }
                None => self.ended_or_late(now, figures, ladder, "no answer to SETUP"),
            },
            Step::FirstPacket => self.first_packet(now, figures, ladder),
            Step::Parameters => self.parameters(now, figures, ladder),
            Step::FirstPicture => self.first_picture(now, figures, ladder),
            Step::Steady => self.steady(now, figures, ladder),
            Step::Clock => self.clock(now, figures, ladder),
            Step::Resolve | Step::Route | Step::Host | Step::Port => ladder.skip("not looked at"),
        }
    }

    fn tell_fallback(&self, ladder: &mut Ladder, transport: Transport) {
        if self.udp_brought_nothing && transport == Transport::Tcp {
            ladder.amend(Step::Transport, StepState::Warn, "tcp; udp brought no packet in 3 s and is most likely blocked");
        }
    }

    /// The session ended, or the answer is too long in coming.
    fn ended_or_late(&self, now: Mono, figures: &Figures, ladder: &mut Ladder, nothing: &str) {
        if self.ended(now, figures, ladder) {
            return;
        }
        let waited = now.since(self.step_began);
        if waited >= ANSWER_WITHIN {
            self.fail(now, ladder, Cause::Silence, format!("{nothing} in {} s", waited.as_secs()));
        }
    }

    fn ended(&self, now: Mono, figures: &Figures, ladder: &mut Ladder) -> bool {
        let now = now.min(figures.at); // when it ended, not when that was seen
        match &figures.session {
            SessionState::Failed { cause, text, .. } => self.fail(now, ladder, *cause, text.clone()),
            SessionState::Locked { text, .. } => self.fail(now, ladder, Cause::SignIn, text.clone()),
            _ => return false,
        }
        true
    }

    fn first_packet(&mut self, now: Mono, figures: &Figures, ladder: &mut Ladder) {
        let reached = &figures.milestones;
        if let Some(at) = reached.first_packet {
            ladder.amend(Step::Path, StepState::Ok, described(figures));
            return self.pass(ladder, at, reached.set_up.map_or("", |(_, transport)| transport.word()));
        }
        if self.ended(now, figures, ladder) {
            return;
        }
        // While UDP may still be given up for TCP, the wait begins anew with the second session.
        let since = reached.playing.unwrap_or(self.step_began).max(self.step_began);
        let waited = now.since(since);
        let may_fall_back = matches!(reached.set_up, Some((_, Transport::Udp))) && !self.around.udp_only;
        if waited >= PACKET_WITHIN && !may_fall_back {
            self.fail(now, ladder, Cause::Silence, format!("no packet in {} s", waited.as_secs()));
        }
    }

    fn parameters(&mut self, now: Mono, figures: &Figures, ladder: &mut Ladder) {
        if let (Some(at), Some((width, height))) = (figures.milestones.parameters, figures.size) {
            let profile = figures.profile.map_or(String::new(), |profile| format!(" {profile}"));
            let codec = figures.codec.as_deref().unwrap_or("unknown codec");
            return self.pass(ladder, at, format!("{codec}{profile}, {width}x{height}"));
        }
        if figures.cause == Some(Cause::UnknownCodec) {
            let saw = figures.text.clone().unwrap_or_else(|| "the codec is not known here".into());
            return self.fail(now, ladder, Cause::UnknownCodec, saw);
        }
        if figures.cause == Some(Cause::KeyNeeded) {
            let saw = figures.text.clone().unwrap_or_else(|| "the stream is encrypted".into());
            return self.fail(now, ladder, Cause::KeyNeeded, saw);
        }
        if self.ended(now, figures, ladder) {
            return;
        }
        self.no_picture_yet(now, figures, ladder, "no parameter sets");
    }

    fn first_picture(&mut self, now: Mono, figures: &Figures, ladder: &mut Ladder) {
        if let Some(at) = figures.milestones.first_picture {
            self.at_first_picture = Some((figures.at, figures.frames.received, figures.packets.lost));
            let since = figures.milestones.began.map_or(Duration::ZERO, |began| at.since(began));
            return self.pass(ladder, at, format!("clean, {} ms after the connection was begun", since.as_millis()));
        }
        if figures.verdict == Verdict::Stalled && matches!(figures.cause, Some(Cause::UnknownCodec | Cause::Damaged)) {
            let cause = figures.cause.unwrap_or(Cause::Damaged);
            return self.fail(now, ladder, cause, figures.text.clone().unwrap_or_else(|| cause.to_string()));
        }
        if self.ended(now, figures, ladder) {
            return;
        }
        self.no_picture_yet(now, figures, ladder, "no clean picture");
    }

    fn no_picture_yet(&self, now: Mono, figures: &Figures, ladder: &mut Ladder, nothing: &str) {
        let first_packet = figures.milestones.first_packet.unwrap_or(self.step_began);
        let waited = now.since(first_packet);
        if waited >= SLOW_AFTER
            && let Some(why) = too_slow(figures)
        {
            return self.fail(now, ladder, Cause::TooHeavy, format!("{nothing} in {} s: {why}", waited.as_secs()));
        }
        if waited < KEYFRAME_WITHIN {
            return;
        }
        let lost = figures.recent_loss.unwrap_or(0.0);
        let cause = if lost > 0.01 { Cause::PacketLoss } else { Cause::AwaitingKeyframe };
        let detail =
            if lost > 0.01 { format!("{:.1} % of packets lost", lost * 100.0) } else { "packets come, no keyframe".into() };
        self.fail(now, ladder, cause, format!("{nothing} in {} s: {detail}", waited.as_secs()));
    }

    fn steady(&mut self, now: Mono, figures: &Figures, ladder: &mut Ladder) {
        let Some((since, frames, lost)) = self.at_first_picture else { return };
        if let Some(every) = figures.still {
            ladder.skip(format!("a still, fetched every {} s: it has no rate to hold", every.as_secs_f64()));
            self.step_began = now;
            return;
        }
        if self.ended(now, figures, ladder) {
            return;
        }
        let held = figures.at.since(since);
        if held < HOLD {
            return;
        }
        let declared = figures.declared.map(FrameRate::per_second);
        let arrived = figures.frames.received.saturating_sub(frames) as f64 / held.as_secs_f64();
        let rate = declared.map_or_else(
            || format!("{arrived:.1} frames/s, none declared"),
            |declared| format!("{arrived:.1} of {declared:.1} frames/s declared"),
        );
        let lost = figures.packets.lost.saturating_sub(lost);
        let sent_short = declared.zip(figures.sent).is_some_and(|(declared, sent)| sent < declared * SHORT);
        let want = if sent_short { figures.sent } else { declared.or(figures.sent) };
        let share = want.filter(|want| *want > 0.0).map_or(1.0, |want| arrived / want);
        let dropped_out = figures.dropout_now.is_some() || figures.dropouts.iter().any(|dropout| dropout.start >= since);
        let short_cause = if too_slow(figures).is_some() { Cause::TooHeavy } else { Cause::Late };
        if share < FAR_SHORT {
            let cause = if lost > 0 { Cause::PacketLoss } else { figures.cause.unwrap_or(short_cause) };
            return self.fail(now, ladder, cause, rate);
        }
        let problem = if lost > 0 {
            Some((Cause::PacketLoss, format!("{rate}, {lost} packets lost")))
        } else if share < SHORT {
            Some((short_cause, rate.clone()))
        } else if sent_short {
            Some((Cause::CameraSlowed, rate.clone()))
        } else if dropped_out {
            let cause = figures.dropouts.last().and_then(|dropout| dropout.cause).or(figures.cause).unwrap_or(Cause::Silence);
            Some((cause, format!("{rate}, with a dropout")))
        } else {
            None
        };
        match problem {
            Some((cause, saw)) => ladder.warn(held, saw, Some((cause, advice(Step::Steady, cause, self.around)))),
            None => ladder.pass(held, rate),
        }
        self.step_began = now;
    }

    fn clock(&self, now: Mono, figures: &Figures, ladder: &mut Ladder) {
        let took = now.since(self.step_began);
        if self.around.pictures {
            return ladder.skip("pictures by HTTP carry no clock");
        }
        if let Some(clock) = figures.wrong_clock() {
            let text = format!("{} by its sender reports", clock.text());
            return ladder.warn(took, text, Some((Cause::ClockWrong, advice(Step::Clock, Cause::ClockWrong, self.around))));
        }
        let known = figures.latency.filter(|latency| latency.basis.is_whole());
        if let Some(latency) = known {
            let within = latency.error.map_or(String::new(), |error| format!(", to {} ms", error.as_millis().max(1)));
            return ladder.pass(took, format!("agrees with this machine's{within}"));
        }
        let since_packet = figures.milestones.first_packet.map_or(Duration::ZERO, |at| now.since(at));
        if since_packet >= CLOCK_WITHIN || now >= self.deadline {
            ladder.skip("unknown: the stream has no sender reports");
        }
    }

    fn out_of_time(&mut self, now: Mono, figures: &Figures, ladder: &mut Ladder) {
        match ladder.pending() {
            Some(Step::Clock) => ladder.skip("unknown: no sender report in time"),
            Some(Step::Steady) => {
                ladder.warn(now.since(self.step_began), "it had a picture late; there was no time to see whether it holds", None);
                ladder.skip("not looked at");
            }
            Some(_) => {
                let cause = figures.cause.unwrap_or(Cause::Silence);
                self.fail(now, ladder, cause, "no further in the time of a check");
            }
            None => {}
        }
    }
}

fn described(figures: &Figures) -> String {
    let codec = figures.codec.clone().unwrap_or_else(|| "described".into());
    let rate = figures.declared.map_or(String::new(), |rate| format!(", {} frames/s declared", rate.per_second()));
    let bitrate = figures.declared_bitrate.map_or(String::new(), |bitrate| format!(", {:.0} kbit/s declared", bitrate.kilo()));
    format!("{codec}{rate}{bitrate}")
}

/// Why the link looks too slow for the stream, if it does.
fn too_slow(figures: &Figures) -> Option<String> {
    let arriving = figures.bitrate_1s?;
    if let Some(declared) = figures.declared_bitrate.filter(|declared| arriving.0 < declared.0 * 0.9) {
        let short = figures.arrived.zip(figures.sent).is_none_or(|(arrived, sent)| arrived < sent * SHORT);
        if short {
            return Some(format!("{:.0} kbit/s arrive of {:.0} declared", arriving.kilo(), declared.kilo()));
        }
    }
    if figures.frames.received == 0 && figures.packets.received > 0 {
        return Some(format!("{:.0} kbit/s arrive, not enough for one whole picture", arriving.kilo()));
    }
    let (arrived, sent) = figures.arrived.zip(figures.sent)?;
    (arrived < sent * SHORT).then(|| format!("{arrived:.1} frames/s arrive of {sent:.1} sent"))
}
