//! Pages as PDF, with the font of the tree embedded.

use crate::page::{Page, SIZE};
use pdf_writer::{Content, Finish as _, Name, Pdf, Rect, Ref};
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
}

const FONTS: [&[u8]; 2] = [include_bytes!("../fonts/DejaVuSans.ttf"), include_bytes!("../fonts/DejaVuSans-Bold.ttf")];

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
    let options = Options { fontdb: fonts(), font_family: "DejaVu Sans".into(), ..Options::default() };
    let mut next = Ref::new(1);
    let (catalog, tree, info) = (next.bump(), next.bump(), next.bump());
    let mut file = Pdf::new();
    file.catalog(catalog).pages(tree);
    file.document_info(info).title(pdf_writer::TextStr(title)).producer(pdf_writer::TextStr("Amber Lattice"));
    let mut leaves = Vec::new();
    for page in pages {
        let drawing = Tree::from_str(&page.svg(), &options)?;
        let (chunk, drawn) = svg2pdf::to_chunk(&drawing, svg2pdf::ConversionOptions::default())
            .map_err(|error| PdfError::Conversion(error.to_string()))?;
        let mut numbers = HashMap::new();
        let chunk = chunk.renumber(|old| *numbers.entry(old).or_insert_with(|| next.bump()));
        let (Some(drawn), leaf, content) = (numbers.get(&drawn).copied(), next.bump(), next.bump()) else { continue };
        let mut page = file.page(leaf);
        page.media_box(Rect::new(0.0, 0.0, SIZE.0 as f32, SIZE.1 as f32)).parent(tree).contents(content);
        page.resources().x_objects().pair(Name(b"D"), drawn);
        page.finish();
        let mut show = Content::new();
        // What was drawn is one unit wide and high.
        show.transform([SIZE.0 as f32, 0.0, 0.0, SIZE.1 as f32, 0.0, 0.0]).x_object(Name(b"D"));
        file.stream(content, &show.finish());
        file.extend(&chunk);
        leaves.push(leaf);
    }
    file.pages(tree).kids(leaves.iter().copied()).count(leaves.len() as i32);
    Ok(file.finish())
}
