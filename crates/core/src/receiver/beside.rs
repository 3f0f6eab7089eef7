//! The sound that is received beside the pictures, in the same session.

use super::Receiver;
use crate::meter::Figures;
use crate::rtp::Ssrc;
use crate::sound::{Ear, MakeDecoder, Sound, SoundReading, SoundState, Track};
use crate::verdict::SessionState;
use crate::{ClockPair, Mono};
use std::time::Duration;

/// After the end of a session, its sound is known for so long.
const KNOWN_FOR: Duration = Duration::from_secs(3);

impl Receiver {
    /// What makes decoders of coded sound; without it the level of such sound is not known.
    pub const fn set_sound_decoder(&mut self, make: Option<MakeDecoder>) {
        self.make_decoder = make;
    }

    /// Who listens to its sound.
    pub fn set_ear(&mut self, ear: Ear) {
        self.ear = ear;
    }

    /// The session that plays has this sound, or none for this reason.
    pub fn begin_sound(&mut self, now: Mono, sound: Option<&Sound>, state: SoundState, described: Option<&Sound>) {
        let track = |sound: &Sound| Track::new(now, sound.clone(), self.key.as_ref(), self.make_decoder);
        self.sound = sound.map(track).map(|track| track.with_ear(self.ear.clone()));
        self.meter.set_sound(SoundReading {
            state: if self.sound.is_some() { SoundState::On } else { state },
            coding: described.map(|sound| sound.coding.to_string()),
            rate_hz: described.map(|sound| sound.clock_rate.hz()),
            channels: described.map(|sound| sound.channels),
            ..SoundReading::default()
        });
    }

    /// An RTP packet of the sound arrived.
    pub fn on_sound_rtp(&mut self, clocks: ClockPair, arrival: Mono, bytes: &[u8]) {
        if let Some(track) = &mut self.sound {
            track.on_rtp(clocks, arrival, bytes);
        }
    }

    /// An RTCP compound of the sound arrived.
    pub fn on_sound_rtcp(&mut self, clocks: ClockPair, arrival: Mono, bytes: &[u8]) {
        if let Some(track) = &mut self.sound {
            track.on_rtcp(clocks, arrival, bytes);
        }
    }

    /// A compound with a receiver report on the sound, when one is due.
    pub fn poll_sound_report(&mut self, now: Mono) -> Option<Vec<u8>> {
        let ours = Ssrc(self.our_ssrc.0.wrapping_add(1));
        self.sound.as_mut()?.poll_report(now, ours)
    }

    /// Reads all figures, those of the sound among them.
    pub fn read(&mut self, now: Mono) -> Figures {
        if let Some(track) = &mut self.sound {
            track.set_limits(self.meter.sound_limits());
            let mut reading = track.read(now, self.meter.picture_lag());
            // What was received is told beyond the end of its session; a while later nobody knows whether there is any.
            let plays = *self.meter.session() == SessionState::Playing;
            if !plays && track.heard().is_none_or(|heard| now.since(heard) > KNOWN_FOR) {
                reading.state = SoundState::Unknown;
            }
            self.meter.set_sound(reading);
        }
        let figures = self.meter.read(now);
        if let Some(track) = &mut self.sound {
            // The same for all that is heard of one sender: medians of some seconds.
            let drawn = figures.latency.and_then(|latency| Some(latency.buffer.p50 + latency.decode?.p50 + latency.draw?.p50));
            let lag = self.meter.picture_lag().micros(now);
            track.set_picture(lag.zip(drawn).map(|(lag, drawn)| lag + drawn.as_micros() as i64));
        }
        figures
    }

    /// Another session begins: of its sound nothing is known yet.
    pub(super) fn forget_sound(&mut self) {
        self.sound = None;
        self.meter.set_sound(SoundReading::default());
    }
}
