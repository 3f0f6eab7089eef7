//! What a stream's parameter sets say, whatever its codec.

use super::sps::ColourMatrix;
use crate::FrameRate;
use serde::{Deserialize, Serialize};

/// Largest width or height of any picture: the most of any level.
pub const MAX_SIDE: u32 = 16_384;
/// Most pixels of a picture, where the site says nothing else: above the largest cameras.
pub const MAX_PIXELS: u64 = 40_000_000;

impl Parameters {
    /// Pixels that a decoder makes room for.
    #[must_use]
    pub fn pixels(&self) -> u64 {
        u64::from(self.coded.0) * u64::from(self.coded.1)
    }
}

/// A codec whose pictures can be shown here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum VideoCodec {
    /// ISO/IEC 14496-10.
    H264,
    /// ISO/IEC 23008-2.
    H265,
    /// ISO/IEC 10918-1, each picture by itself.
    Jpeg,
}

/// What is in force for the pictures that follow.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Parameters {
    /// The codec.
    pub codec: VideoCodec,
    /// Cropped width in pixels.
    pub width: u32,
    /// Cropped height in pixels.
    pub height: u32,
    /// Width and height as coded: what a decoder makes room for.
    pub coded: (u32, u32),
    /// The frame rate that the stream itself declares.
    pub declared: Option<FrameRate>,
    /// Luma runs from 0 to 255 rather than 16 to 235.
    pub full_range: bool,
    /// The colour matrix.
    pub matrix: ColourMatrix,
    /// The profile's name.
    pub profile: &'static str,
    /// By how many pictures display order may differ from coding order at most; `None` where the stream does not say.
    pub reorder: Option<u8>,
    /// What is unusual about the stream, so that a decoder may not take it.
    pub unusual: Option<&'static str>,
}
