//! Pages of A4, filled from the top.

use crate::svg::{Anchor, Drawing, PATTERNS, Shape, Text};
use std::fmt::Write as _;

/// Width and height of a page in points: A4 upright.
pub const SIZE: (f64, f64) = (595.0, 842.0);
/// Left and right margin.
pub const MARGIN: f64 = 40.0;
/// What may be used across.
pub const WIDTH: f64 = SIZE.0 - 2.0 * MARGIN;
const TOP: f64 = 40.0;
const BOTTOM: f64 = 46.0;

/// A finished page.
#[derive(Debug, Clone, PartialEq)]
pub struct Page {
    drawing: Drawing,
}

impl Page {
    /// As an SVG document of its own.
    #[must_use]
    pub fn svg(&self) -> String {
        document(SIZE.1, &self.elements())
    }

    fn elements(&self) -> String {
        let shapes = self.drawing.shapes().iter().map(Shape::element);
        shapes.chain(self.drawing.texts().iter().map(Text::element)).collect()
    }

    /// Its shapes.
    pub(crate) fn shapes(&self) -> &[Shape] {
        self.drawing.shapes()
    }

    /// Its texts, over the shapes.
    pub(crate) fn texts(&self) -> &[Text] {
        self.drawing.texts()
    }
}

fn document(height: f64, elements: &str) -> String {
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{}pt\" height=\"{height}pt\" viewBox=\"0 0 {} {height}\" \
         font-family=\"DejaVu Sans, sans-serif\">{PATTERNS}<rect width=\"100%\" height=\"100%\" fill=\"#fff\"/>{elements}</svg>\n",
        SIZE.0, SIZE.0
    )
}

/// All pages one under the other.
pub fn stacked(pages: &[Page]) -> String {
    let mut elements = String::new();
    for (n, page) in pages.iter().enumerate() {
        let _ = write!(elements, "<g transform=\"translate(0 {:.0})\">{}</g>", n as f64 * SIZE.1, page.elements());
    }
    document(SIZE.1 * pages.len().max(1) as f64, &elements)
}

/// Fills pages one after the other.
pub struct Book {
    title: String,
    foot: String,
    done: Vec<Drawing>,
    /// The page that is being filled.
    pub drawing: Drawing,
    /// Where the next thing goes.
    pub y: f64,
}

impl Book {
    /// An empty book; title and foot stand on each page.
    pub fn new(title: &str, foot: &str) -> Self {
        let mut book =
            Self { title: title.to_owned(), foot: foot.to_owned(), done: Vec::new(), drawing: Drawing::default(), y: TOP };
        book.head();
        book
    }

    fn head(&mut self) {
        self.drawing.text((MARGIN, TOP), 9.0, Anchor::Start, true, &self.title);
        self.drawing.line((MARGIN, TOP + 5.0), (SIZE.0 - MARGIN, TOP + 5.0), 0.8);
        self.y = TOP + 22.0;
    }

    /// Room for something of this height: on the next page where it does not fit here.
    pub fn need(&mut self, height: f64) {
        if self.y + height > SIZE.1 - BOTTOM {
            self.done.push(std::mem::take(&mut self.drawing));
            self.head();
        }
    }

    /// What is left on this page.
    pub fn left(&self) -> f64 {
        SIZE.1 - BOTTOM - self.y
    }

    /// A heading that stays with what follows it, which needs this height.
    pub fn heading(&mut self, text: &str, follows: f64) {
        self.need(26.0 + follows);
        self.y += 10.0;
        self.drawing.text((MARGIN, self.y + 6.0), 11.0, Anchor::Start, true, text);
        self.y += 14.0;
    }

    /// A paragraph, broken into lines.
    pub fn paragraph(&mut self, text: &str, size: f64) {
        let most = (WIDTH / (size * 0.53)) as usize;
        let mut line = String::new();
        let words: Vec<&str> = text.split_whitespace().collect();
        for (n, word) in words.iter().enumerate() {
            if !line.is_empty() {
                line.push(' ');
            }
            line.push_str(word);
            let next = words.get(n + 1).map_or(usize::MAX, |next| next.chars().count());
            if next == usize::MAX || line.chars().count() + 1 + next > most {
                self.need(size * 1.4);
                self.y += size * 1.4;
                self.drawing.text((MARGIN, self.y), size, Anchor::Start, false, &line);
                line.clear();
            }
        }
        self.y += 4.0;
    }

    /// The pages, numbered.
    pub fn finish(mut self) -> Vec<Page> {
        self.done.push(self.drawing);
        let count = self.done.len();
        let number = |(n, mut drawing): (usize, Drawing)| {
            let y = SIZE.1 - 26.0;
            drawing.text((MARGIN, y), 7.0, Anchor::Start, false, &self.foot);
            drawing.text((SIZE.0 - MARGIN, y), 7.0, Anchor::End, false, &format!("page {} of {count}", n + 1));
            Page { drawing }
        };
        self.done.into_iter().enumerate().map(number).collect()
    }
}
