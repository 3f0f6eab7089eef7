//! Small pictures in a report.

use lattice_core::Wall;
use std::sync::Arc;

/// A picture: a JPEG as it is, and its size, read from its own header.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Photo {
    /// When it was received.
    pub at: Wall,
    /// The bytes.
    pub(crate) jpeg: Arc<[u8]>,
    /// Width and height in pixels.
    pub(crate) size: (u16, u16),
}

impl Photo {
    /// A picture of these bytes; `None` where they are no JPEG of red, green and blue.
    #[must_use]
    pub fn new(at: Wall, jpeg: Vec<u8>) -> Option<Self> {
        let size = size(&jpeg).filter(|(width, height)| *width > 0 && *height > 0)?;
        Some(Self { at, jpeg: jpeg.into(), size })
    }
}

/// What a camera showed before and after a dropout.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pair {
    /// The camera.
    pub camera: String,
    /// When the dropout began.
    pub start: Wall,
    /// The last picture before it.
    pub before: Option<Photo>,
    /// The first picture after it.
    pub after: Option<Photo>,
}

/// The size in the frame header of a baseline or progressive JPEG of three components (ITU-T T.81, B.2.2).
fn size(jpeg: &[u8]) -> Option<(u16, u16)> {
    let two = |at: usize| Some(u16::from_be_bytes([*jpeg.get(at)?, *jpeg.get(at + 1)?]));
    if two(0)? != 0xffd8 {
        return None;
    }
    let mut at = 2;
    loop {
        match two(at)? {
            0xffc0..=0xffc2 => return (*jpeg.get(at + 9)? == 3).then_some((two(at + 7)?, two(at + 5)?)),
            0xffc4 | 0xffdb | 0xffdd | 0xffe0..=0xffef | 0xfffe => at += 2 + usize::from(two(at + 2)?.max(2)),
            _ => return None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Raster;

    #[test]
    fn the_size_is_read_and_what_is_no_picture_is_none() {
        let at = Wall::from_unix_micros(0);
        let jpeg = Raster::new(160, 90, vec![90; 160 * 90 * 3]).unwrap().jpeg(80).unwrap();
        assert_eq!(Photo::new(at, jpeg.clone()).unwrap().size, (160, 90));
        for end in 0..jpeg.len().min(700) {
            let _ = Photo::new(at, jpeg[..end].to_vec());
        }
        assert_eq!(Photo::new(at, b"no picture".to_vec()), None);
        assert_eq!(Photo::new(at, jpeg[..8].to_vec()), None);
    }
}
