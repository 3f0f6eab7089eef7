//! JPEG by `zune-jpeg`.

use crate::picture::{ColourDescription, Condition, Planes, TilePicture};
use crate::scale::Scaler;
use crate::wanted::Wanted;
use lattice_core::Mono;
use lattice_core::lattice::Aspect;
use lattice_core::video::MAX_PIXELS;
use std::panic::{AssertUnwindSafe, catch_unwind};
use zune_jpeg::JpegDecoder;
use zune_jpeg::zune_core::bytestream::ZCursor;
use zune_jpeg::zune_core::colorspace::ColorSpace;
use zune_jpeg::zune_core::options::DecoderOptions;

/// Largest side decoded.
const MAX_SIDE: usize = lattice_core::video::MAX_SIDE as usize;

/// A decoded picture, in 4:2:0.
pub struct JpegPicture {
    width: usize,
    height: usize,
    y: Vec<u8>,
    u: Vec<u8>,
    v: Vec<u8>,
}

impl JpegPicture {
    /// Its planes.
    pub fn planes(&self) -> Planes<'_> {
        let Self { width, height, y, u, v } = self;
        Planes { width: *width, height: *height, y, u, v, stride: *width, chroma_stride: width.div_ceil(2) }
    }
}

/// Decodes a whole file; `None` when it is none.
pub fn decode(file: &[u8]) -> Option<JpegPicture> {
    catch_unwind(AssertUnwindSafe(|| decode_file(file))).ok().flatten()
}

/// A kept picture, as a tile of this size shows it; `None` when the bytes are no JPEG.
#[must_use]
pub fn tile_of_jpeg(file: &[u8], wanted: &Wanted) -> Option<TilePicture> {
    let picture = decode(file)?;
    let source = (picture.width, picture.height);
    let (width, height) = Wanted { aspect: Aspect::Fit, ..*wanted }.scaled(source);
    let mut rgb = vec![0; width.checked_mul(height)?.checked_mul(3)?];
    // A file of JPEG has all of the range (JFIF 1.02, 3).
    let colour = ColourDescription { full_range: true, ..ColourDescription::default() };
    let scaled = Scaler::default().scale(&picture.planes(), colour, width, height, &mut rgb);
    let (condition, ready) = (Condition::Clean, Mono::ZERO);
    scaled.then(|| {
        let (view, adjust) = Default::default();
        TilePicture { number: 0, width, height, rgb: rgb.into(), source, condition, ready, view, adjust }
    })
}

fn decode_file(file: &[u8]) -> Option<JpegPicture> {
    let options =
        DecoderOptions::default().set_max_width(MAX_SIDE).set_max_height(MAX_SIDE).jpeg_set_out_colorspace(ColorSpace::YCbCr);
    let mut decoder = JpegDecoder::new_with_options(ZCursor::new(file), options);
    // Its own header is what it makes room for.
    decoder.decode_headers().ok()?;
    let (width, height) = decoder.dimensions()?;
    if width == 0 || height == 0 || width.checked_mul(height)? > MAX_PIXELS as usize {
        return None;
    }
    let pixels = decoder.decode().ok()?;
    let parts = pixels.len() / (width * height);
    if parts < 3 {
        // Grey: no colour differences.
        let half = vec![128; width.div_ceil(2) * height.div_ceil(2)];
        return Some(JpegPicture { width, height, y: pixels, u: half.clone(), v: half });
    }
    let part = |n: usize| pixels.iter().skip(n).step_by(parts).copied();
    let y: Vec<u8> = part(0).collect();
    let thin = |n: usize| -> Vec<u8> {
        let row = |row: usize| pixels.iter().skip(row * width * parts + n).step_by(parts * 2).take(width.div_ceil(2)).copied();
        (0..height).step_by(2).flat_map(row).collect()
    };
    Some(JpegPicture { width, height, y, u: thin(1), v: thin(2) })
}
