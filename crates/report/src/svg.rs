//! What a page is drawn of, as SVG elements: what a report needs of them, and nothing else.

use crate::photo::Photo;
use base64::prelude::{BASE64_STANDARD, Engine as _};

/// How a shape is filled; each can be told apart in black and white.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fill {
    /// Black.
    Solid,
    /// A light grey.
    Light,
    /// A darker grey.
    Dark,
    /// Slanted lines.
    Hatched,
    /// Crossed lines.
    Crossed,
    /// White with an outline.
    Empty,
}

impl Fill {
    fn attributes(self) -> &'static str {
        match self {
            Self::Solid => "fill=\"#111\"",
            Self::Light => "fill=\"#d9d9d9\"",
            Self::Dark => "fill=\"#777\"",
            Self::Hatched => "fill=\"url(#hatched)\" stroke=\"#111\" stroke-width=\"0.4\"",
            Self::Crossed => "fill=\"url(#crossed)\" stroke=\"#111\" stroke-width=\"0.4\"",
            Self::Empty => "fill=\"#fff\" stroke=\"#111\" stroke-width=\"0.5\"",
        }
    }
}

/// The patterns that fills use.
pub const PATTERNS: &str = "<defs>\
<pattern id=\"hatched\" width=\"3\" height=\"3\" patternUnits=\"userSpaceOnUse\"><rect width=\"3\" height=\"3\" fill=\"#fff\"/><path d=\"M0 3L3 0\" stroke=\"#111\" stroke-width=\"0.6\"/></pattern>\
<pattern id=\"crossed\" width=\"3\" height=\"3\" patternUnits=\"userSpaceOnUse\"><rect width=\"3\" height=\"3\" fill=\"#fff\"/><path d=\"M0 3L3 0M0 0L3 3\" stroke=\"#111\" stroke-width=\"0.5\"/></pattern>\
</defs>";

/// Where a text stands against its point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Anchor {
    /// It begins there.
    Start,
    /// Its middle is there.
    Middle,
    /// It ends there.
    End,
}

/// A text that was drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Text {
    /// Its point, in points from the top left corner.
    pub at: (f64, f64),
    /// Its size in points.
    pub size: f64,
    /// Where it stands against its point.
    pub anchor: Anchor,
    /// In bold letters.
    pub bold: bool,
    /// What it says.
    pub says: String,
}

/// A shape that was drawn.
#[derive(Debug, Clone, PartialEq)]
pub enum Shape {
    /// A rectangle: its top left corner, width and height.
    Rect((f64, f64), (f64, f64), Fill),
    /// A line from one point to another, its width, and its grey from black to white.
    Line((f64, f64), (f64, f64), f64, u8),
    /// Lines through points, their width, and the lengths of dashes and gaps.
    Curve(Vec<(f64, f64)>, f64, &'static str),
    /// A picture: its top left corner, width and height.
    Picture((f64, f64), (f64, f64), Photo),
}

/// A drawing; lengths are points, from the top left corner. Texts lie over shapes.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Drawing {
    shapes: Vec<Shape>,
    texts: Vec<Text>,
}

/// The grey of what is black, and of the lines of a grid.
pub const BLACK: u8 = 0x11;
const GRID: u8 = 0xbb;

impl Shape {
    /// As an SVG element.
    pub fn element(&self) -> String {
        match self {
            Self::Rect((x, y), (w, h), fill) => {
                format!("<rect x=\"{x:.2}\" y=\"{y:.2}\" width=\"{w:.2}\" height=\"{h:.2}\" {}/>", fill.attributes())
            }
            Self::Line((x1, y1), (x2, y2), width, grey) => format!(
                "<line x1=\"{x1:.2}\" y1=\"{y1:.2}\" x2=\"{x2:.2}\" y2=\"{y2:.2}\" stroke=\"#{grey:02x}{grey:02x}{grey:02x}\" stroke-width=\"{width}\"/>"
            ),
            Self::Curve(points, width, dashes) => {
                let points: Vec<String> = points.iter().map(|(x, y)| format!("{x:.2},{y:.2}")).collect();
                let dashes = if dashes.is_empty() { String::new() } else { format!(" stroke-dasharray=\"{dashes}\"") };
                let points = points.join(" ");
                format!("<polyline points=\"{points}\" fill=\"none\" stroke=\"#111\" stroke-width=\"{width}\"{dashes}/>")
            }
            Self::Picture((x, y), (w, h), photo) => {
                let bytes = BASE64_STANDARD.encode(&photo.jpeg);
                format!(
                    "<image x=\"{x:.2}\" y=\"{y:.2}\" width=\"{w:.2}\" height=\"{h:.2}\" href=\"data:image/jpeg;base64,{bytes}\"/>"
                )
            }
        }
    }
}

impl Drawing {
    /// The shapes that were drawn.
    pub fn shapes(&self) -> &[Shape] {
        &self.shapes
    }

    /// The texts that were drawn.
    pub fn texts(&self) -> &[Text] {
        &self.texts
    }

    /// A rectangle.
    pub fn rect(&mut self, at: (f64, f64), (w, h): (f64, f64), fill: Fill) {
        self.shapes.push(Shape::Rect(at, (w.max(0.0), h.max(0.0)), fill));
    }

    /// A line; `width` in points.
    pub fn line(&mut self, from: (f64, f64), to: (f64, f64), width: f64) {
        self.shapes.push(Shape::Line(from, to, width, BLACK));
    }

    /// A faint line of a grid.
    pub fn grid(&mut self, from: (f64, f64), to: (f64, f64)) {
        self.shapes.push(Shape::Line(from, to, 0.4, GRID));
    }

    /// Lines through points; `dashes` tell curves apart.
    pub fn polyline(&mut self, points: &[(f64, f64)], width: f64, dashes: &'static str) {
        self.shapes.push(Shape::Curve(points.to_vec(), width, dashes));
    }

    /// A picture.
    pub fn picture(&mut self, at: (f64, f64), size: (f64, f64), photo: &Photo) {
        self.shapes.push(Shape::Picture(at, size, photo.clone()));
    }

    /// A text; its size in points.
    pub fn text(&mut self, at: (f64, f64), size: f64, anchor: Anchor, bold: bool, text: &str) {
        let text = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
        self.texts.push(Text { at, size, anchor, bold, says: text });
    }
}

impl Text {
    /// As an SVG element.
    pub fn element(&self) -> String {
        let ((x, y), size) = (self.at, self.size);
        let anchor = match self.anchor {
            Anchor::Start => "start",
            Anchor::Middle => "middle",
            Anchor::End => "end",
        };
        let weight = if self.bold { " font-weight=\"bold\"" } else { "" };
        let text = escaped(&self.says);
        format!(
            "<text x=\"{x:.2}\" y=\"{y:.2}\" font-size=\"{size}\" text-anchor=\"{anchor}\"{weight} fill=\"#111\">{text}</text>"
        )
    }
}

/// Text as XML takes it; what XML cannot hold is left out.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            c if c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}') => out.push(' '),
            c => out.push(c),
        }
    }
    out
}
