//! Pages as PDF (ISO 32000-1): shapes, and texts as text, with the letters of the tree's font that they need.

mod font;

use crate::page::{Page, SIZE};
use crate::photo::Photo;
use crate::svg::{Anchor, BLACK, Fill, Shape, Text};
use font::{Font, deflated};
use pdf_writer::types::LineJoinStyle;
use pdf_writer::{Content, Filter, Finish as _, Name, Pdf, Rect, Ref, Str};

/// What can go wrong.
#[derive(Debug, thiserror::Error)]
pub enum PdfError {
    /// The font of the tree cannot be read.
    #[error("the font cannot be read: {0}")]
    Font(String),
}

/// The fonts of the tree: regular and bold.
pub const FONTS: [&[u8]; 2] = [include_bytes!("../fonts/DejaVuSans.ttf"), include_bytes!("../fonts/DejaVuSans-Bold.ttf")];
/// Their names in the file, and in a page's resources.
const NAMES: [(&str, &[u8]); 2] = [("DejaVuSans", b"R"), ("DejaVuSans-Bold", b"B")];

/// Between two lines of a hatched fill, in points.
const HATCH: f64 = 3.0;

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
        let (leaf, content) = (next.bump(), next.bump());
        let mut show = Content::new();
        let mut photos: Vec<Ref> = Vec::new();
        for shape in page.shapes() {
            match shape {
                Shape::Picture(at, size, photo) => {
                    let number = next.bump();
                    place(&mut show, *at, *size, &photo_name(photos.len()));
                    embed(&mut file, number, photo);
                    photos.push(number);
                }
                other => draw(&mut show, other),
            }
        }
        for text in page.texts() {
            write(&mut show, &mut fonts, text);
        }
        file.stream(content, &deflated(&show.finish())).filter(Filter::FlateDecode);
        let mut leaf_page = file.page(leaf);
        leaf_page.media_box(Rect::new(0.0, 0.0, SIZE.0 as f32, SIZE.1 as f32)).parent(tree).contents(content);
        let mut resources = leaf_page.resources();
        let mut named = resources.fonts();
        for ((_, name), number) in NAMES.iter().zip(numbers) {
            named.pair(Name(name), number);
        }
        named.finish();
        let mut objects = resources.x_objects();
        for (n, number) in photos.iter().enumerate() {
            objects.pair(Name(photo_name(n).as_bytes()), *number);
        }
        objects.finish();
        resources.finish();
        leaf_page.finish();
        leaves.push(leaf);
    }
    for ((font, (name, _)), number) in fonts.iter().zip(NAMES).zip(numbers) {
        font.embed(&mut file, number, name, &mut next)?;
    }
    file.pages(tree).kids(leaves.iter().copied()).count(leaves.len() as i32);
    Ok(file.finish())
}

/// What a page calls its n-th picture.
fn photo_name(n: usize) -> String {
    format!("P{n}")
}

/// A picture goes into the file as it is (ISO 32000-1, 7.4.8).
fn embed(file: &mut Pdf, number: Ref, photo: &Photo) {
    let mut image = file.image_xobject(number, &photo.jpeg);
    image.filter(Filter::DctDecode);
    image.width(i32::from(photo.size.0)).height(i32::from(photo.size.1));
    image.color_space().device_rgb();
    image.bits_per_component(8);
}

/// Draws a picture of the page into a rectangle.
fn place(show: &mut Content, (x, y): (f64, f64), (w, h): (f64, f64), name: &str) {
    let (left, bottom) = point((x, y + h));
    show.save_state().transform([w as f32, 0.0, 0.0, h as f32, left, bottom]);
    show.x_object(Name(name.as_bytes())).restore_state();
}

/// A grey from black to white as a PDF has it.
fn grey(level: u8) -> f32 {
    f32::from(level) / 255.0
}

/// A point from the top left corner as one from the bottom left.
fn point((x, y): (f64, f64)) -> (f32, f32) {
    (x as f32, (SIZE.1 - y) as f32)
}

/// Lines through points.
fn through(show: &mut Content, points: impl IntoIterator<Item = (f64, f64)>) {
    for (n, (x, y)) in points.into_iter().map(point).enumerate() {
        if n == 0 {
            show.move_to(x, y)
        } else {
            show.line_to(x, y)
        };
    }
}

fn draw(show: &mut Content, shape: &Shape) {
    match shape {
        Shape::Rect(at, size, fill) => rectangle(show, *at, *size, *fill),
        Shape::Line(from, to, width, level) => {
            show.set_stroke_gray(grey(*level)).set_line_width(*width as f32);
            through(show, [*from, *to]);
            show.stroke();
        }
        Shape::Curve(points, width, dashes) => {
            let lengths = dashes.split_whitespace().filter_map(|length| length.parse::<f32>().ok());
            show.save_state().set_stroke_gray(grey(BLACK)).set_line_width(*width as f32);
            show.set_line_join(LineJoinStyle::MiterJoin).set_dash_pattern(lengths, 0.0);
            through(show, points.iter().copied());
            show.stroke().restore_state();
        }
        Shape::Picture(..) => {} // it needs a number in the file
    }
}

fn rectangle(show: &mut Content, (x, y): (f64, f64), (w, h): (f64, f64), fill: Fill) {
    let (left, bottom) = point((x, y + h));
    let rect = |show: &mut Content| {
        show.rect(left, bottom, w as f32, h as f32);
    };
    let (level, outline, hatches): (u8, Option<f32>, &[bool]) = match fill {
        Fill::Solid => (BLACK, None, &[]),
        Fill::Light => (0xd9, None, &[]),
        Fill::Dark => (0x77, None, &[]),
        Fill::Hatched => (0xff, Some(0.4), &[true]),
        Fill::Crossed => (0xff, Some(0.4), &[true, false]),
        Fill::Empty => (0xff, Some(0.5), &[]),
    };
    show.set_fill_gray(grey(level));
    rect(show);
    show.fill_nonzero();
    if !hatches.is_empty() {
        show.save_state().set_stroke_gray(grey(BLACK)).set_line_width(0.5);
        rect(show);
        show.clip_nonzero().end_path();
        for rising in hatches {
            // Lines of all rectangles of a page lie on one grid, as a pattern's do.
            let first = ((x - h) / HATCH).floor() as i64;
            for n in first..=((x + w) / HATCH).ceil() as i64 {
                let from = n as f64 * HATCH;
                let (top, foot) = if *rising { (from + h, from) } else { (from, from + h) };
                through(show, [(foot, y + h), (top, y)]);
            }
        }
        show.stroke().restore_state();
    }
    if let Some(width) = outline {
        show.set_stroke_gray(grey(BLACK)).set_line_width(width);
        rect(show);
        show.stroke();
    }
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
    show.begin_text().set_fill_gray(grey(BLACK)).set_font(Name(NAMES[which].1), text.size as f32);
    show.set_text_matrix([1.0, 0.0, 0.0, 1.0, x as f32, (SIZE.1 - text.at.1) as f32]).show(Str(&glyphs)).end_text();
}
