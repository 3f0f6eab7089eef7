//! A TrueType font in a PDF: which of its glyphs texts use, and those embedded (ISO 32000-1, 9.7).

use super::PdfError;
use flate2::Compression;
use flate2::read::ZlibEncoder;
use pdf_writer::types::{CidFontType, FontFlags, SystemInfo, UnicodeCmap};
use pdf_writer::{Filter, Name, Pdf, Rect, Ref, Str};
use std::collections::BTreeMap;
use std::io::Read as _;
use ttf_parser::{Face, GlyphId};

/// A glyph that a letter has that the font has not.
const MISSING: u16 = 0;
/// Units of a PDF's glyph space to the em.
const GLYPH_SPACE: f64 = 1000.0;

/// A font and what is used of it.
pub struct Font<'a> {
    data: &'a [u8],
    face: Face<'a>,
    /// The glyphs that are used, with the letter of each.
    used: BTreeMap<u16, char>,
}

/// Bytes as PDF's Flate filter takes them.
pub fn deflated(bytes: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    // Into memory: there is nothing that could fail.
    let _ = ZlibEncoder::new(bytes, Compression::default()).read_to_end(&mut out);
    out
}

impl<'a> Font<'a> {
    /// A font of which nothing is used yet.
    ///
    /// # Errors
    /// [`PdfError::Font`].
    pub fn new(data: &'a [u8]) -> Result<Self, PdfError> {
        let face = Face::parse(data, 0).map_err(|error| PdfError::Font(error.to_string()))?;
        Ok(Self { data, face, used: BTreeMap::from([(MISSING, '\u{fffd}')]) })
    }

    /// A text as glyph numbers, two bytes each, and its width in em.
    pub fn glyphs(&mut self, text: &str) -> (Vec<u8>, f64) {
        let (mut bytes, mut width) = (Vec::with_capacity(text.len() * 2), 0.0);
        for letter in text.chars() {
            let glyph = self.face.glyph_index(letter).map_or(MISSING, |glyph| glyph.0);
            self.used.entry(glyph).or_insert(letter);
            bytes.extend(glyph.to_be_bytes());
            width += self.advance(glyph);
        }
        (bytes, width)
    }

    /// The width of a glyph in em.
    fn advance(&self, glyph: u16) -> f64 {
        f64::from(self.face.glyph_hor_advance(GlyphId(glyph)).unwrap_or(0)) / f64::from(self.face.units_per_em())
    }

    /// Puts what is used into the file, under this number and name.
    ///
    /// # Errors
    /// [`PdfError::Font`].
    pub fn embed(&self, file: &mut Pdf, number: Ref, name: &str, next: &mut Ref) -> Result<(), PdfError> {
        let (cid, descriptor, cmap, data) = (next.bump(), next.bump(), next.bump(), next.bump());
        let glyphs: Vec<u16> = self.used.keys().copied().collect();
        let subset = subsetter::subset(self.data, 0, subsetter::Profile::pdf(&glyphs))
            .map_err(|error| PdfError::Font(error.to_string()))?;
        // A subset is named with six letters before (9.6.4).
        let name = format!("LATTIC+{name}");
        let name = Name(name.as_bytes());
        let system = SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };
        file.type0_font(number).base_font(name).encoding_predefined(Name(b"Identity-H")).descendant_font(cid).to_unicode(cmap);
        let mut font = file.cid_font(cid);
        font.subtype(CidFontType::Type2).base_font(name).system_info(system).font_descriptor(descriptor);
        font.default_width(0.0).cid_to_gid_map_predefined(Name(b"Identity"));
        let mut widths = font.widths();
        for glyph in &glyphs {
            widths.consecutive(*glyph, [(self.advance(*glyph) * GLYPH_SPACE) as f32]);
        }
        drop(widths);
        drop(font);
        let scale = GLYPH_SPACE / f64::from(self.face.units_per_em());
        let scaled = |value: i16| (f64::from(value) * scale) as f32;
        let bounds = self.face.global_bounding_box();
        file.font_descriptor(descriptor)
            .name(name)
            .flags(FontFlags::NON_SYMBOLIC)
            .bbox(Rect::new(scaled(bounds.x_min), scaled(bounds.y_min), scaled(bounds.x_max), scaled(bounds.y_max)))
            .italic_angle(0.0)
            .ascent(scaled(self.face.ascender()))
            .descent(scaled(self.face.descender()))
            .cap_height(scaled(self.face.capital_height().unwrap_or_else(|| self.face.ascender())))
            .stem_v(if self.face.is_bold() { 140.0 } else { 80.0 })
            .font_file2(data);
        let mut letters = UnicodeCmap::new(Name(b"Letters"), system);
        for (glyph, letter) in &self.used {
            letters.pair(*glyph, *letter);
        }
        file.cmap(cmap, &letters.finish());
        file.stream(data, &deflated(&subset)).filter(Filter::FlateDecode);
        Ok(())
    }
}
