//! Pictures that are kept: a camera's with a strip of text under it, and a wall's as a contact sheet.

use crate::pdf::FONTS;
use ab_glyph::{Font as _, FontRef, PxScale, ScaleFont as _, point};

/// A picture of red, green and blue bytes, row by row from the top.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Raster {
    /// Pixels across.
    pub width: usize,
    /// Pixels down.
    pub height: usize,
    /// Three bytes a pixel.
    pub rgb: Vec<u8>,
}

/// Why a picture could not be made.
#[derive(Debug, thiserror::Error)]
pub enum StillError {
    /// Its bytes are fewer than its size says, or it has no size.
    #[error("the picture is not whole")]
    NotWhole,
    /// The text under it cannot be drawn.
    #[error("the text cannot be drawn: {0}")]
    Text(#[from] ab_glyph::InvalidFont),
    /// It is too large.
    #[error("a picture of {0} × {1} is too large")]
    TooLarge(usize, usize),
    /// PNG.
    #[error("it cannot be written as PNG")]
    Png(#[from] png::EncodingError),
    /// JPEG.
    #[error("it cannot be written as JPEG")]
    Jpeg(#[from] jpeg_encoder::EncodingError),
}

/// The ground of a strip: the dark of the wall.
const GROUND: [u8; 3] = [16, 14, 12];
/// The first line of a strip, and the others.
const BRIGHT: [u8; 3] = [0xe0, 0xcc, 0xac];
const CALM: [u8; 3] = [0xb0, 0x86, 0x4a];
/// A line of a strip, and its letters, as shares of the width; within these bounds in pixels.
const LINE: f64 = 0.030;
const LINES: std::ops::RangeInclusive<f64> = 14.0..=40.0;
/// Letters in a line of such a width, about.
const WIDE: f64 = 0.55;
/// A contact sheet is no larger than this on a side.
const LARGEST: usize = 8000;
/// Pixels between the pictures of a sheet.
const GAP: usize = 8;

impl Raster {
    /// A picture; its bytes must be three for each pixel.
    ///
    /// # Errors
    /// [`StillError::NotWhole`].
    pub fn new(width: usize, height: usize, rgb: Vec<u8>) -> Result<Self, StillError> {
        if width == 0 || height == 0 || rgb.len() != width * height * 3 {
            return Err(StillError::NotWhole);
        }
        Ok(Self { width, height, rgb })
    }

    fn ground(width: usize, height: usize) -> Self {
        Self { width, height, rgb: GROUND.repeat(width * height) }
    }

    /// Puts another one into this, as far as it fits.
    fn put(&mut self, other: &Self, x: usize, y: usize) {
        let columns = other.width.min(self.width.saturating_sub(x));
        for row in 0..other.height.min(self.height.saturating_sub(y)) {
            let (from, to) = (row * other.width * 3, ((y + row) * self.width + x) * 3);
            self.rgb[to..to + columns * 3].copy_from_slice(&other.rgb[from..from + columns * 3]);
        }
    }

    /// Writes letters of this size from a point on their base line on.
    fn write(&mut self, font: &FontRef<'_>, text: &str, (x, y): (f64, f64), size: f64, colour: [u8; 3]) {
        // The size of letters is that of their em; the font's own scale is from the lowest to the highest letter.
        let em = font.units_per_em().unwrap_or(1.0) / font.height_unscaled();
        let scaled = font.as_scaled(PxScale::from(size as f32 / em));
        let (mut x, mut before) = (x as f32, None);
        for letter in text.chars().map(|letter| if letter.is_control() { ' ' } else { letter }) {
            let glyph = font.glyph_id(letter);
            x += before.map_or(0.0, |before| scaled.kern(before, glyph));
            if let Some(outline) = font.outline_glyph(glyph.with_scale_and_position(scaled.scale(), point(x, y as f32))) {
                let corner = outline.px_bounds().min;
                outline.draw(|across, down, covered| {
                    let at = (corner.x as i64 + i64::from(across), corner.y as i64 + i64::from(down));
                    let (Ok(column), Ok(row)) = (usize::try_from(at.0), usize::try_from(at.1)) else { return };
                    if column < self.width && row < self.height {
                        let from = (row * self.width + column) * 3;
                        for (ground, ink) in self.rgb[from..from + 3].iter_mut().zip(colour) {
                            let mixed = f32::from(*ground) + (f32::from(ink) - f32::from(*ground)) * covered.clamp(0.0, 1.0);
                            *ground = mixed.round() as u8;
                        }
                    }
                });
            }
            x += scaled.h_advance(glyph);
            before = Some(glyph);
        }
    }

    /// As PNG.
    ///
    /// # Errors
    /// [`StillError::Png`].
    pub fn png(&self) -> Result<Vec<u8>, StillError> {
        let mut bytes = Vec::new();
        let side = |side: usize| u32::try_from(side).unwrap_or(u32::MAX);
        let mut encoder = png::Encoder::new(&mut bytes, side(self.width), side(self.height));
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(png::BitDepth::Eight);
        encoder.set_compression(png::Compression::Fast);
        encoder.write_header()?.write_image_data(&self.rgb)?;
        Ok(bytes)
    }

    /// As JPEG of this quality, in percent.
    ///
    /// # Errors
    /// [`StillError::Jpeg`], also where a side has more than 65535 pixels.
    pub fn jpeg(&self, quality: u8) -> Result<Vec<u8>, StillError> {
        let mut bytes = Vec::new();
        let side = |side: usize| u16::try_from(side).map_err(|_| StillError::TooLarge(self.width, self.height));
        let encoder = jpeg_encoder::Encoder::new(&mut bytes, quality);
        encoder.encode(&self.rgb, side(self.width)?, side(self.height)?, jpeg_encoder::ColorType::Rgb)?;
        Ok(bytes)
    }
}

/// A strip of text: the first line brighter than the others; what is too long for it is cut.
fn strip(width: usize, lines: &[String]) -> Result<Raster, StillError> {
    let line = (width as f64 * LINE).clamp(*LINES.start(), *LINES.end());
    let height = (line * (lines.len() as f64 + 0.6)).ceil() as usize;
    let size = line * 0.72;
    let most = (width as f64 / (size * WIDE)) as usize;
    let font = FontRef::try_from_slice(FONTS[0])?;
    let mut out = Raster::ground(width, height);
    for (n, said) in lines.iter().enumerate() {
        let colour = if n == 0 { BRIGHT } else { CALM };
        let said: String = said.chars().take(most).collect();
        let at = (line * 0.5, line * (n as f64 + 1.0));
        out.write(&font, &said, at, size, colour);
    }
    Ok(out)
}

/// A picture with lines of text under it.
///
/// # Errors
/// When the text cannot be drawn.
pub fn captioned(picture: &Raster, lines: &[String]) -> Result<Raster, StillError> {
    let strip = strip(picture.width, lines)?;
    let mut whole = Raster::ground(picture.width, picture.height + strip.height);
    whole.put(picture, 0, 0);
    whole.put(&strip, 0, picture.height);
    Ok(whole)
}

/// Pictures beside and under each other, each with its lines, in places of this size; a place without a picture stays dark.
/// `title` stands under all.
///
/// # Errors
/// When a text cannot be drawn, or the sheet would be larger than 8000 pixels on a side.
pub fn contact_sheet(
    places: &[(Option<Raster>, Vec<String>)],
    (width, height): (usize, usize),
    title: &[String],
) -> Result<Raster, StillError> {
    let columns = (places.len().max(1) as f64).sqrt().ceil() as usize;
    let rows = places.len().div_ceil(columns).max(1);
    let most = places.iter().map(|(_, lines)| lines.len()).max().unwrap_or(0);
    let under = strip(width, &vec![String::new(); most])?.height;
    let (across, down) = (columns * (width + GAP) + GAP, rows * (height + under + GAP) + GAP);
    let foot = strip(across, title)?;
    if across > LARGEST || down + foot.height > LARGEST {
        return Err(StillError::TooLarge(across, down + foot.height));
    }
    let mut sheet = Raster::ground(across, down + foot.height);
    for (n, (picture, lines)) in places.iter().enumerate() {
        let (x, y) = (GAP + n % columns * (width + GAP), GAP + n / columns * (height + under + GAP));
        if let Some(picture) = picture {
            // In the middle of its place; what is too large for it was not scaled to it, and is cut.
            let (left, top) = (width.saturating_sub(picture.width) / 2, height.saturating_sub(picture.height) / 2);
            let mut place = Raster::ground(width, height);
            place.put(picture, left, top);
            sheet.put(&place, x, y);
        }
        sheet.put(&strip(width, lines)?, x, y + height);
    }
    sheet.put(&foot, 0, down);
    Ok(sheet)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn red(width: usize, height: usize) -> Raster {
        Raster::new(width, height, [200, 0, 0].repeat(width * height)).unwrap()
    }

    fn lit(raster: &Raster, rows: std::ops::Range<usize>) -> usize {
        let pixels = raster.rgb.as_chunks::<3>().0;
        rows.flat_map(|y| &pixels[y * raster.width..(y + 1) * raster.width]).filter(|pixel| pixel[1] > 100).count()
    }

    #[test]
    fn the_picture_is_untouched_and_its_text_stands_under_it() {
        let still = captioned(&red(640, 360), &["Slipway north  main".into(), "<23:05:12 & all>".into()]).unwrap();
        assert_eq!(still.width, 640);
        assert_eq!(&still.rgb[..640 * 360 * 3], red(640, 360).rgb.as_slice());
        assert!(lit(&still, 0..360) == 0 && lit(&still, 360..still.height) > 200, "letters");
        let bytes = still.png().unwrap();
        let mut reader = png::Decoder::new(bytes.as_slice()).read_info().unwrap();
        let mut back = vec![0; reader.output_buffer_size()];
        reader.next_frame(&mut back).unwrap();
        assert_eq!(back, still.rgb);
        assert!(still.jpeg(92).unwrap().starts_with(&[0xff, 0xd8]));
        assert!(matches!(Raster::new(4, 4, vec![0; 3]), Err(StillError::NotWhole)));
    }

    #[test]
    fn a_sheet_has_a_place_for_each_also_where_there_is_no_picture() {
        let places: Vec<_> = (0..5).map(|n| ((n != 3).then(|| red(160, 90)), vec![format!("camera {n}")])).collect();
        let sheet = contact_sheet(&places, (160, 90), &["Tarnhithe ferry port".into()]).unwrap();
        assert_eq!(sheet.width, 3 * 168 + 8);
        let reds = sheet.rgb.as_chunks::<3>().0.iter().filter(|pixel| **pixel == [200, 0, 0]).count();
        assert_eq!(reds, 4 * 160 * 90);
        assert!(matches!(contact_sheet(&places, (4000, 90), &[]), Err(StillError::TooLarge(..))));
    }
}
