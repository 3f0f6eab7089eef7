//! Pages as PDF (ISO 32000-1): shapes by way of SVG, texts as text, with the letters of the tree's font that they need.

mod font;

use crate::page::{Page, SIZE};
use crate::svg::{Anchor, Text};
use font::Font;
use pdf_writer::{Content, Finish as _, Name, Pdf, Rect, Ref, Str};
use std::collections::HashMap;
use std::sync::{Arc, OnceLock};
use svg2pdf::usvg::{Options, Tree, fontdb};

/// What can go wrong.
#[derive(Debug, thiserror::Error)]
pub enum PdfError {
    /// The drawing cannot be read.
    #[error("a page cannot be drawn: {0}")]
    Drawing(#[from] svg2pdf::usvg::Error),
    /// It cannot be put into the file.
    #[error("a page cannot be put into the PDF: {0}")]
    Conversion(String),
    /// The font of the tree cannot be read.
    #[error("the font cannot be read: {0}")]
    Font(String),
}

const FONTS: [&[u8]; 2] = [include_bytes!("../fonts/DejaVuSans.ttf"), include_bytes!("../fonts/DejaVuSans-Bold.ttf")];
/// Their names in the file, and in a page's resources.
const NAMES: [(&str, &[u8]); 2] = [("DejaVuSans", b"R"), ("DejaVuSans-Bold", b"B")];

/// The fonts of the tree.
pub fn fonts() -> Arc<fontdb::Database> {
    static LOADED: OnceLock<Arc<fontdb::Database>> = OnceLock::new();
    let load = || {
        let mut fonts = fontdb::Database::new();
        for font in FONTS {
            fonts.load_font_data(font.to_vec());
        }
        fonts.set_sans_serif_family("DejaVu Sans");
        Arc::new(fonts)
    };
    LOADED.get_or_init(load).clone()
}

/// The pages as a PDF file, a page of A4 each, with this title.
///
/// # Errors
/// When a page cannot be drawn.
pub fn pdf(pages: &[Page], title: &str) -> Result<Vec<u8>, PdfError> {
    let mut next = Ref::new(1);
    let (catalog, tree, info) = (next.bump(), next.bump(), next.bump());
    let mut file = Pdf::new();
    file.catalog(catalog).pages(tree);
    file.document_info(info).title(pdf_writer::TextStr(title)).producer(pdf_writer::TextStr("Amber Lattice"));
    let mut fonts = [Font::new(FONTS[0])?, Font::new(FONTS[1])?];
    let numbers = [next.bump(), next.bump()];
    let mut leaves = Vec::new();
    for page in pages {
        let drawing = Tree::from_str(&page.shapes(), &Options::default())?;
        let (chunk, drawn) = svg2pdf::to_chunk(&drawing, svg2pdf::ConversionOptions::default())
            .map_err(|error| PdfError::Conversion(error.to_string()))?;
        let mut renumbered = HashMap::new();
        let chunk = chunk.renumber(|old| *renumbered.entry(old).or_insert_with(|| next.bump()));
        let (Some(drawn), leaf, content) = (renumbered.get(&drawn).copied(), next.bump(), next.bump()) else { continue };
        let mut show = Content::new();
        // What was drawn is one unit wide and high.
        show.save_state().transform([SIZE.0 as f32, 0.0, 0.0, SIZE.1 as f32, 0.0, 0.0]).x_object(Name(b"D")).restore_state();
        for text in page.texts() {
            write(&mut show, &mut fonts, text);
        }
        file.stream(content, &show.finish());
        let mut leaf_page = file.page(leaf);
        leaf_page.media_box(Rect::new(0.0, 0.0, SIZE.0 as f32, SIZE.1 as f32)).parent(tree).contents(content);
        let mut resources = leaf_page.resources();
        resources.x_objects().pair(Name(b"D"), drawn);
        let mut named = resources.fonts();
        for ((_, name), number) in NAMES.iter().zip(numbers) {
            named.pair(Name(name), number);
        }
        named.finish();
        resources.finish();
        leaf_page.finish();
        file.extend(&chunk);
        leaves.push(leaf);
    }
    for ((font, (name, _)), number) in fonts.iter().zip(NAMES).zip(numbers) {
        font.embed(&mut file, number, name, &mut next)?;
    }
    file.pages(tree).kids(leaves.iter().copied()).count(leaves.len() as i32);
    Ok(file.finish())
}

/// A text, as its glyphs.
fn write(show: &mut Content, fonts: &mut [Font<'_>; 2], text: &Text) {
    let which = usize::from(text.bold);
    let (glyphs, width) = fonts[which].glyphs(&text.says);
    let width = width * text.size;
    let x = match text.anchor {
        Anchor::Start => text.at.0,
        Anchor::Middle => text.at.0 - width / 2.0,
        Anchor::End => text.at.0 - width,
    };
    show.begin_text().set_fill_gray(0x11 as f32 / 255.0).set_font(Name(NAMES[which].1), text.size as f32);
    show.set_text_matrix([1.0, 0.0, 0.0, 1.0, x as f32, (SIZE.1 - text.at.1) as f32]).show(Str(&glyphs)).end_text();
}
