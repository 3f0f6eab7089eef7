//! What the meter knows of the sound beside the pictures.

use super::Meter;
use crate::sound::{Lag, Limits, SoundReading};
use crate::video::AccessUnit;

impl Meter {
    /// What is known of the sound now.
    pub fn set_sound(&mut self, reading: SoundReading) {
        if !reading.state.is_received() {
            self.picture_lag = Lag::default();
        }
        self.sound = reading;
    }

    /// How long pictures take to arrive, by what the sender's clock says; followed while sound is received.
    #[must_use]
    pub const fn picture_lag(&self) -> &Lag {
        &self.picture_lag
    }

    /// From where on something is noticed in the sound.
    #[must_use]
    pub const fn sound_limits(&self) -> Limits {
        self.thresholds.sound
    }

    /// A unit arrived that the sound is held against.
    pub(super) fn note_picture_lag(&mut self, unit: &AccessUnit) {
        if self.sound.state.is_received() && !self.no_media_clock {
            let arrival = self.pair.wall_at(unit.last_arrival);
            self.picture_lag.on_arrival(unit.last_arrival, arrival, self.clock.claimed(unit.timestamp));
        }
    }
}
