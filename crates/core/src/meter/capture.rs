//! When a stream's pictures were captured: by the camera's clock, by flashes, or not known.

use super::LatencyBasis;
use crate::clock::{CaptureClock, DRIFT_PER_MILLION, Offset};
use crate::flash::Captured;
use crate::{ClockPair, Mono, Wall};
use std::time::Duration;

/// Sender reports follow the camera's clock, to within this.
const FOLLOWED: Duration = Duration::from_millis(10);
/// Beyond this bound a measurement is no longer worth having.
const WORN_OUT: Duration = Duration::from_millis(50);

/// What a flash probe found, kept for the pictures after it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct FlashClock {
    by: By,
    error: Duration,
    at: Wall,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum By {
    /// Microseconds from what the camera's clock says to our UTC, while its least transit was this.
    Claimed { micros: i64, least_transit: i64 },
    /// Microseconds from media time to our monotonic one: holds until timestamps begin anew.
    Media(i64),
}

impl FlashClock {
    /// What a probe found, beside what the camera's clock says now.
    pub fn new(captured: Captured, clock: &CaptureClock, pair: ClockPair) -> Self {
        let by = match (clock.claimed(0), clock.least_transit()) {
            (Some(claimed), Some(least_transit)) => {
                let ours = pair.wall_at(Mono::ZERO).offset(captured.micros);
                By::Claimed { micros: ours.micros_since(claimed), least_transit }
            }
            _ => By::Media(captured.micros),
        };
        Self { by, error: captured.error, at: pair.wall }
    }

    /// The same after our own clock was set to be later by so many microseconds; transits are moved as well.
    pub const fn after_own_step(self, micros: i64) -> Self {
        let by = match self.by {
            By::Claimed { micros: own, least_transit } => {
                By::Claimed { micros: own + micros, least_transit: least_transit + micros }
            }
            By::Media(micros) => By::Media(micros),
        };
        Self { by, at: self.at.offset(micros), ..self }
    }

    /// How long after the light the camera stamps, by what is known of its clock; and how far that may be off.
    pub fn before_stamp(&self, offset: Offset) -> Option<(i64, Duration)> {
        match self.by {
            By::Claimed { micros, .. } if offset.times_pictures => Some((offset.micros - micros, offset.error + self.error)),
            By::Claimed { .. } | By::Media(_) => None,
        }
    }

    /// Timestamps begin anew; whether it still holds.
    pub const fn survives_restart(&self) -> bool {
        matches!(self.by, By::Claimed { .. })
    }
}

/// Where capture times come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum CaptureTimes {
    /// The camera's clock, corrected.
    Clock(LatencyBasis, Offset),
    /// A fixed distance from media time.
    Media(i64, Duration),
    /// They are not known.
    Unknown,
}

impl CaptureTimes {
    /// The best there is: flashes, then the clock.
    pub fn best(flash: Option<FlashClock>, clock: &CaptureClock, offset: Option<Offset>, now: Wall) -> Self {
        let timing = offset.filter(|offset| offset.times_pictures);
        let by_clock = timing.map_or(Self::Unknown, |offset| Self::Clock(LatencyBasis::Clock, offset));
        let Some(flash) = flash else { return by_clock };
        let drifted = Duration::from_micros(now.micros_since(flash.at).unsigned_abs()) * DRIFT_PER_MILLION / 1_000_000;
        match (flash.by, clock.least_transit()) {
            (By::Claimed { micros, least_transit }, Some(least)) => {
                let offset = Offset {
                    micros: micros + least - least_transit,
                    error: flash.error + drifted.min(FOLLOWED),
                    clock_wrong: false,
                    times_pictures: true,
                };
                Self::Clock(LatencyBasis::Flash, offset)
            }
            (By::Media(micros), _) if flash.error + drifted <= WORN_OUT => Self::Media(micros, flash.error + drifted),
            _ => by_clock,
        }
    }

    /// What latencies are measured from.
    pub const fn basis(self) -> LatencyBasis {
        match self {
            Self::Clock(basis, _) => basis,
            Self::Media(..) => LatencyBasis::Flash,
            Self::Unknown => LatencyBasis::Relative,
        }
    }

    /// How far they may be off; `None` where they are relative.
    pub const fn error(self) -> Option<Duration> {
        match self {
            Self::Clock(_, offset) => Some(offset.error),
            Self::Media(_, error) => Some(error),
            Self::Unknown => None,
        }
    }

    /// When the unit of a timestamp was captured.
    pub fn captured(self, clock: &CaptureClock, pair: ClockPair, timestamp: i64) -> Option<Wall> {
        match self {
            Self::Clock(_, offset) => clock.captured(timestamp, offset),
            Self::Media(micros, _) => Some(pair.wall_at(Mono::ZERO).offset(micros + clock.media_micros(timestamp))),
            Self::Unknown => None,
        }
    }

    /// From capture, or from the least delay, to arrival.
    pub fn path(self, clock: &CaptureClock, pair: ClockPair, arrival: Mono, timestamp: i64) -> Option<Duration> {
        if self == Self::Unknown {
            return clock.relative_delay(arrival, timestamp);
        }
        let captured = self.captured(clock, pair, timestamp)?;
        Some(Duration::from_micros(pair.wall_at(arrival).micros_since(captured).max(0) as u64))
    }
}
