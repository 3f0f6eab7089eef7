//! Pictures out of access units: decoding on a pool of workers, scaled and converted to the size
//! that a tile can show.
//!
//! A [`Lane`] takes the access units of one stream; the [`Pool`]'s workers serve the lanes that have something to do, each with
//! the decoders of some of them, in this process or in a confined one of its own. A lane that nobody looks at decodes nothing: it
//! keeps the units since the last keyframe, so that it can catch up the moment somebody does.
#![cfg_attr(test, allow(clippy::unwrap_used))]

mod adjust;
mod bench;
pub mod burst;
mod colour;
mod fallback;
mod glance;
mod h264;
mod h265;
mod jpeg;
mod lane;
mod order;
mod picture;
mod pixels;
mod pool;
#[cfg(target_os = "linux")]
mod process;
mod scale;
mod sound;
#[cfg(feature = "sound")]
pub mod speaker;
mod speed;
mod unroll;
mod wanted;

pub use adjust::Adjuster;
pub use fallback::{FallbackDecoder, RefusedByFallback};
pub use glance::{glance, levels, light};
pub use h264::{Decoded, H264Decoder, RefusedUnit, has_assembly};
pub use h265::H265Decoder;
pub use jpeg::{JpegPicture, decode as decode_jpeg, tile_of_jpeg};
pub use lane::{DamageChoice, Ending, Lane, LaneEvent, Sink};
pub use order::OwnPicture;
pub use picture::{ColourDescription, Condition, Planes, TilePicture};
pub use pixels::Pixels;
pub use pool::Pool;
#[cfg(target_os = "linux")]
pub use process::{Confinement, Program, confinement, decoder_main};
pub use scale::Scaler;
pub use sound::sound_decoder;
pub use speed::measure_decoding;
pub use unroll::Unroller;
pub use wanted::{MOST_PRINTS, Print, Wanted};
