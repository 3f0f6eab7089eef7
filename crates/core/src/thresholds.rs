//! From where on a figure is a strain: defaults, and what an operator set for a site, a group or a camera instead.

use crate::sight::Finding;
use crate::sound::Limits;
use crate::{FrameRate, Role};
use std::time::Duration;

/// The thresholds of one stream.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Thresholds {
    /// Share of packets lost in the last 10 s from which a stream is strained.
    pub loss: f64,
    /// Sent below this share of declared is a slowed camera.
    pub slowed: f64,
    /// Arrived below this share of sent is a strained path.
    pub arrived: f64,
    /// Decoded or shown below this share is a slow machine or terminal.
    pub shown: f64,
    /// A 95th percentile of the path's delay from which frames count as late.
    pub late: Duration,
    /// Strain lasts so long before it counts,
    pub strain_after: Duration,
    /// and is gone so long before it ends.
    pub steady_after: Duration,
    /// From where on something is noticed in the sound.
    pub sound: Limits,
    /// Which findings in the picture count, in the order of [`Finding::ALL`].
    pub findings: [bool; Finding::ALL.len()],
}

impl Default for Thresholds {
    fn default() -> Self {
        Self {
            loss: 0.005,
            slowed: 0.85,
            arrived: 0.85,
            shown: 0.6,
            late: Duration::from_secs(1),
            strain_after: Duration::from_secs(1),
            steady_after: Duration::from_secs(3),
            sound: Limits::default(),
            findings: [true; Finding::ALL.len()],
        }
    }
}

/// Rates are read over this time.
const RATE_WINDOW: f64 = 5.0;

impl Thresholds {
    /// The defaults for streams that serve this purpose: a third stream is made for thin links, which lose and delay more.
    #[must_use]
    pub fn of_role(role: Role) -> Self {
        match role {
            Role::Third => Self { loss: 0.02, late: Duration::from_secs(2), ..Self::default() },
            Role::Main | Role::Sub => Self::default(),
        }
    }

    /// The same for a stream of this declared rate: of few frames in the window of a rate one more or less is no strain,
    /// and a change is not seen before a few frames are.
    #[must_use]
    pub fn at_rate(self, declared: Option<FrameRate>) -> Self {
        let Some(rate) = declared.map(FrameRate::per_second).filter(|rate| *rate > 0.0) else { return self };
        let one_missing = 1.0 - 1.5 / (rate * RATE_WINDOW);
        let few = Duration::from_secs_f64((3.0 / rate).min(30.0));
        Self {
            slowed: self.slowed.min(one_missing.max(0.0)),
            arrived: self.arrived.min(one_missing.max(0.0)),
            strain_after: self.strain_after.max(few),
            steady_after: self.steady_after.max(few),
            ..self
        }
    }

    /// Whether a finding counts.
    #[must_use]
    pub fn counts(&self, finding: Finding) -> bool {
        Finding::ALL.iter().zip(self.findings).any(|(one, on)| *one == finding && on)
    }
}

/// What is set instead of the defaults; `None` leaves what was.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Override {
    /// Loss, as a share.
    pub loss: Option<f64>,
    /// Sent of declared, as a share.
    pub slowed: Option<f64>,
    /// Arrived of sent, as a share.
    pub arrived: Option<f64>,
    /// Shown of decoded, as a share.
    pub shown: Option<f64>,
    /// Delay of the path.
    pub late: Option<Duration>,
    /// How long strain lasts before it counts.
    pub strain_after: Option<Duration>,
    /// How long it is gone before it ends.
    pub steady_after: Option<Duration>,
    /// RMS in dBFS below which sound is silence.
    pub silent_below: Option<f32>,
    /// How long silence lasts before it is told.
    pub silent_after: Option<Duration>,
    /// dB above what is usual that are sudden loudness.
    pub loud_by: Option<f32>,
    /// Findings in the picture that do not count here; they replace those of a wider place.
    pub off: Option<Vec<Finding>>,
}

impl Override {
    /// These thresholds with what is set here.
    #[must_use]
    pub fn on(&self, base: Thresholds) -> Thresholds {
        Thresholds {
            loss: self.loss.unwrap_or(base.loss),
            slowed: self.slowed.unwrap_or(base.slowed),
            arrived: self.arrived.unwrap_or(base.arrived),
            shown: self.shown.unwrap_or(base.shown),
            late: self.late.unwrap_or(base.late),
            strain_after: self.strain_after.unwrap_or(base.strain_after),
            steady_after: self.steady_after.unwrap_or(base.steady_after),
            sound: Limits {
                silent_below: self.silent_below.unwrap_or(base.sound.silent_below),
                silent_after: self.silent_after.unwrap_or(base.sound.silent_after),
                loud_by: self.loud_by.unwrap_or(base.sound.loud_by),
                ..base.sound
            },
            findings: self.off.as_ref().map_or(base.findings, |off| Finding::ALL.map(|finding| !off.contains(&finding))),
        }
    }

    /// Nothing is set.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn slow_streams_get_time_and_what_is_set_goes_before() {
        let usual = Thresholds::default();
        assert_eq!(usual.at_rate(FrameRate::new(25.0)), usual);
        let slow = usual.at_rate(FrameRate::new(1.0));
        assert!((slow.slowed - 0.7).abs() < 1e-9 && slow.strain_after == Duration::from_secs(3), "{slow:?}");
        assert_eq!(usual.at_rate(None), usual);
        assert!(Thresholds::of_role(Role::Third).loss > usual.loss);
        let set = Override { loss: Some(0.1), off: Some(vec![Finding::Covered]), ..Override::default() };
        let got = set.on(usual);
        assert!((got.loss - 0.1).abs() < 1e-9 && !got.counts(Finding::Covered) && got.counts(Finding::Frozen));
        assert_eq!((got.late, Override::default().on(got)), (usual.late, got));
    }
}
