//! The reach check: a ladder of steps from a name to a stream that holds, stopped at the first that
//! fails.
//!
//! [`Ladder`] collects the steps; [`StreamWatch`] judges those from the protocol on, out of the figures
//! of a stream that is really being opened. What the network says of the host comes from outside.

mod advice;
mod watch;

pub use advice::{Circumstances, advice, advice_of, phrase_of};
pub use watch::StreamWatch;

use crate::Cause;
use std::time::Duration;

/// A step of the ladder, in order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Step {
    /// The name has an address.
    Resolve,
    /// This machine has a way to it.
    Route,
    /// Something answers at the address.
    Host,
    /// The port is open.
    Port,
    /// What answers speaks the protocol.
    Protocol,
    /// The sign-in is accepted, or none is wanted.
    SignIn,
    /// The device has the stream.
    Path,
    /// Both ends agree how packets travel.
    Transport,
    /// A packet came.
    FirstPacket,
    /// Codec and size are known.
    Parameters,
    /// A clean picture came.
    FirstPicture,
    /// It holds for five seconds at its rate.
    Steady,
    /// The device's clock is right.
    Clock,
}

impl Step {
    /// Every step, in order.
    pub const ALL: [Self; 13] = [
        Self::Resolve,
        Self::Route,
        Self::Host,
        Self::Port,
        Self::Protocol,
        Self::SignIn,
        Self::Path,
        Self::Transport,
        Self::FirstPacket,
        Self::Parameters,
        Self::FirstPicture,
        Self::Steady,
        Self::Clock,
    ];

    /// The stable word for machines, also on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Resolve => "resolve",
            Self::Route => "route",
            Self::Host => "host",
            Self::Port => "port",
            Self::Protocol => "protocol",
            Self::SignIn => "sign-in",
            Self::Path => "path",
            Self::Transport => "transport",
            Self::FirstPacket => "first-packet",
            Self::Parameters => "parameters",
            Self::FirstPicture => "first-picture",
            Self::Steady => "steady",
            Self::Clock => "clock",
        }
    }
}

/// How a step went.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum StepState {
    /// As it should.
    Ok,
    /// It works, and something about it should be known.
    Warn,
    /// It failed; nothing after it was tried.
    Failed,
    /// Not reached, or it does not apply.
    Skipped,
}

impl StepState {
    /// The stable word for machines.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Ok => "ok",
            Self::Warn => "warn",
            Self::Failed => "failed",
            Self::Skipped => "skipped",
        }
    }
}

/// One step as it went.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StepReport {
    /// Which.
    pub step: Step,
    /// How it went.
    pub state: StepState,
    /// How long it took; `None` when it was not reached.
    pub took: Option<Duration>,
    /// What was seen, without secrets.
    pub saw: String,
}

/// The steps of one check, and what stopped it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Ladder {
    steps: Vec<StepReport>,
    cause: Option<Cause>,
    advice: Option<String>,
    moved_to: Option<String>,
}

impl Ladder {
    /// The device was found at this other address, by what does not change when an address does.
    pub fn set_moved_to(&mut self, address: String) {
        self.moved_to = Some(address);
    }

    /// The other address at which the device was found.
    #[must_use]
    pub fn moved_to(&self) -> Option<&str> {
        self.moved_to.as_deref()
    }

    /// The steps so far, in order.
    #[must_use]
    pub fn steps(&self) -> &[StepReport] {
        &self.steps
    }

    /// What stopped it, or what the first warning with a cause was about.
    #[must_use]
    pub const fn cause(&self) -> Option<Cause> {
        self.cause
    }

    /// What it most likely means and what to do.
    #[must_use]
    pub fn advice(&self) -> Option<&str> {
        self.advice.as_deref()
    }

    /// The step that is being tried; `None` when all are done or one failed.
    #[must_use]
    pub fn pending(&self) -> Option<Step> {
        if self.failed() { None } else { Step::ALL.get(self.steps.len()).copied() }
    }

    /// Whether a step failed.
    #[must_use]
    pub fn failed(&self) -> bool {
        self.steps.iter().any(|step| step.state == StepState::Failed)
    }

    /// Whether the ladder was climbed to its end.
    #[must_use]
    pub fn ok(&self) -> bool {
        !self.failed() && self.steps.len() == Step::ALL.len()
    }

    /// The pending step went well.
    pub fn pass(&mut self, took: Duration, saw: impl Into<String>) {
        self.push(StepState::Ok, Some(took), saw.into());
    }

    /// The pending step went through, with something to be known.
    pub fn warn(&mut self, took: Duration, saw: impl Into<String>, cause: Option<(Cause, String)>) {
        self.push(StepState::Warn, Some(took), saw.into());
        if let (None, Some((cause, advice))) = (self.cause, cause) {
            self.cause = Some(cause);
            self.advice = Some(advice);
        }
    }

    /// The pending step does not apply.
    pub fn skip(&mut self, saw: impl Into<String>) {
        self.push(StepState::Skipped, None, saw.into());
    }

    /// The pending step failed, and so did the check.
    pub fn fail(&mut self, took: Duration, saw: impl Into<String>, cause: Cause, advice: impl Into<String>) {
        if self.failed() {
            return;
        }
        self.push(StepState::Failed, Some(took), saw.into());
        self.cause = Some(cause);
        self.advice = Some(advice.into());
    }

    /// Changes what a step that went through is told as.
    pub fn amend(&mut self, step: Step, state: StepState, saw: impl Into<String>) {
        if let Some(report) = self.steps.iter_mut().find(|report| report.step == step) {
            report.state = state;
            report.saw = saw.into();
        }
    }

    /// All steps; those not reached are skipped.
    #[must_use]
    pub fn complete(mut self) -> Self {
        for step in Step::ALL.into_iter().skip(self.steps.len()) {
            self.steps.push(StepReport { step, state: StepState::Skipped, took: None, saw: "not reached".into() });
        }
        self
    }

    fn push(&mut self, state: StepState, took: Option<Duration>, saw: String) {
        if let Some(step) = self.pending() {
            self.steps.push(StepReport { step, state, took, saw });
        }
    }
}

#[cfg(test)]
mod tests;
