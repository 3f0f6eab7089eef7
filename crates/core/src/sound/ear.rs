//! Where the samples of a sound go while somebody listens.

use crate::{ClockRate, Mono};
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

/// Samples of one packet.
#[derive(Debug, Clone, Copy)]
pub struct Heard<'a> {
    /// When the packet arrived.
    pub arrival: Mono,
    /// When the picture that was captured with its first sample is on the screen, by the sender reports of both; `None` where that is
    /// not known. It may lie before the arrival.
    pub due: Option<Mono>,
    /// The time of its first sample, in ticks of `rate` since the track began.
    pub timestamp: i64,
    /// Samples a second and channel.
    pub rate: ClockRate,
    /// Channels.
    pub channels: u8,
    /// Interleaved by channel, full scale at ±1.
    pub samples: &'a [f32],
}

/// What takes samples. It is called where packets are received: it must not wait.
pub type Hear = Box<dyn FnMut(&Heard<'_>) + Send>;

/// The ear at a sound: while nobody listens, samples become levels only.
#[derive(Clone, Default)]
pub struct Ear(Arc<Mutex<Option<Hear>>>);

impl Ear {
    /// Who listens from now on; nobody for `None`.
    pub fn set(&self, hear: Option<Hear>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = hear;
    }

    /// Passes samples on.
    pub(super) fn hear(&self, heard: &Heard<'_>) {
        if let Some(hear) = &mut *self.0.lock().unwrap_or_else(PoisonError::into_inner) {
            hear(heard);
        }
    }
}

impl fmt::Debug for Ear {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Ear")
    }
}
