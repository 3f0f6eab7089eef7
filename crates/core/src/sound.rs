//! The sound beside a stream's pictures: how it is coded, its packets, how loud it is, and how far it is from the picture.
//!
//! Levels are in dBFS, where a sine wave that just reaches full scale has a peak and an RMS of 0 (AES17-2015 §3.12). Nothing of the
//! sound itself is kept: samples become levels as they come, and go to an [`Ear`] while somebody listens. Coded sound (AAC) is decoded outside of this crate, by what
//! implements [`Decode`].

mod coding;
mod ear;
mod level;
mod mixer;
mod reading;
mod track;
mod watch;

pub use coding::{Aac, Coding, Sound};
pub use ear::{Ear, Hear, Heard};
pub use level::{Level, LevelMeter};
pub use mixer::{Aligned, Mixer, OpenSpeaker, Speaker, Voice};
pub use reading::{SoundReading, SoundState};
pub use track::{Lag, Track};
pub use watch::{Limits, Noticed, SoundWatch};

/// Turns units of coded sound into samples.
pub trait Decode: Send + std::fmt::Debug {
    /// Samples of one unit, interleaved by channel, full scale at ±1, after what is in `out`.
    ///
    /// # Errors
    /// One clause, where the unit is none of its coding.
    fn decode(&mut self, unit: &[u8], out: &mut Vec<f32>) -> Result<(), String>;
}

/// Makes the decoder of a coding; `None` where there is none.
pub type MakeDecoder = fn(&Sound) -> Option<Box<dyn Decode>>;
