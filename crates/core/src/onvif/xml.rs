//! A small tree of elements, read with bounds.

use crate::text::plain;
use quick_xml::events::{BytesStart, Event};
use quick_xml::reader::Reader;

/// Deepest nesting read; ONVIF messages stay under 20.
const MAX_DEPTH: usize = 48;
/// Most elements read of one message: a recorder's list of 256 profiles has some 15 000.
const MAX_ELEMENTS: usize = 60_000;
/// Most attributes kept of one element.
const MAX_ATTRIBUTES: usize = 32;
/// Most namespaces in force at a time.
const MAX_DECLARED: usize = 64;

/// Why a document is refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum XmlError {
    /// Not well formed, or cut off.
    #[error("the XML is malformed or cut off")]
    Malformed,
    /// A document type, through which entities could be defined that grow without end.
    #[error("the XML brings a document type of its own, which is not accepted")]
    DocumentType,
    /// Nested too deeply, or too many elements.
    #[error("the XML is nested too deeply or too long")]
    TooLarge,
}

/// An element with what it holds; names without their prefixes.
///
/// ```
/// use lattice_core::onvif::Element;
/// let root = Element::parse(b"<a:x><b n='1'>two &amp; three</b></a:x>")?;
/// assert_eq!(root.text_at(&["b"]), Some("two & three"));
/// assert_eq!(root.child("b").and_then(|b| b.attribute("n")), Some("1"));
/// # Ok::<(), lattice_core::onvif::XmlError>(())
/// ```
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Element {
    /// Its local name.
    pub name: String,
    /// Its attributes by local name.
    pub attributes: Vec<(String, String)>,
    /// Its children in order.
    pub children: Vec<Element>,
    /// Its own text, trimmed.
    pub text: String,
    /// Its namespace, kept only where it must be said again: below `ReferenceParameters`.
    pub namespace: String,
}

impl Element {
    /// Reads a document; the caller bounds its bytes.
    ///
    /// # Errors
    /// [`XmlError`]; nothing is read in parts.
    pub fn parse(bytes: &[u8]) -> Result<Self, XmlError> {
        let text = String::from_utf8_lossy(bytes);
        let mut reader = Reader::from_str(text.trim_start_matches('\u{feff}'));
        reader.config_mut().check_end_names = true;
        let (mut open, mut elements): (Vec<Self>, usize) = (Vec::new(), 0);
        let mut declared: Vec<(usize, String, String)> = Vec::new();
        loop {
            match reader.read_event().map_err(|_| XmlError::Malformed)? {
                Event::Start(start) => {
                    elements += 1;
                    if open.len() >= MAX_DEPTH || elements > MAX_ELEMENTS {
                        return Err(XmlError::TooLarge);
                    }
                    let element = Self::begin(&start, &open, &mut declared);
                    open.push(element);
                }
                Event::Empty(start) => {
                    elements += 1;
                    if elements > MAX_ELEMENTS {
                        return Err(XmlError::TooLarge);
                    }
                    let element = Self::begin(&start, &open, &mut declared);
                    match open.last_mut() {
                        Some(parent) => parent.children.push(element),
                        None => return Ok(element),
                    }
                }
                Event::Text(text) => {
                    if let Some(element) = open.last_mut() {
                        element.text.push_str(&text);
                    }
                }
                Event::CData(data) => {
                    if let Some(element) = open.last_mut() {
                        element.text.push_str(&data);
                    }
                }
                Event::GeneralRef(name) => {
                    if let Some(element) = open.last_mut() {
                        element.text.extend(reference(&name));
                    }
                }
                Event::End(_) => {
                    let mut element = open.pop().ok_or(XmlError::Malformed)?;
                    element.text = plain(&element.text).trim().into();
                    match open.last_mut() {
                        Some(parent) => parent.children.push(element),
                        None => return Ok(element),
                    }
                }
                Event::DocType(_) => return Err(XmlError::DocumentType),
                Event::Eof => return Err(XmlError::Malformed),
                Event::Comment(_) | Event::Decl(_) | Event::PI(_) => {}
            }
        }
    }

    fn begin(start: &BytesStart<'_>, open: &[Self], declared: &mut Vec<(usize, String, String)>) -> Self {
        // What was declared by an element that is closed is gone.
        declared.retain(|(depth, ..)| *depth < open.len());
        for attribute in start.attributes().filter_map(Result::ok).take(MAX_ATTRIBUTES) {
            let key = attribute.key.as_ref();
            if let Some(prefix) = key.strip_prefix("xmlns:").or_else(|| (key == "xmlns").then_some(""))
                && declared.len() < MAX_DECLARED
            {
                declared.push((open.len(), prefix.to_owned(), plain(&attribute.value)));
            }
        }
        let kept = open.last().is_some_and(|parent| parent.name == "ReferenceParameters");
        let prefix = start.name().as_ref().split_once(':').map_or("", |(prefix, _)| prefix).to_owned();
        let namespace = declared.iter().rev().find(|(_, have, _)| kept && *have == prefix).map(|(.., uri)| uri.clone());
        let attributes = start
            .attributes()
            .filter_map(Result::ok)
            .take(MAX_ATTRIBUTES)
            .map(|attribute| {
                let value = quick_xml::escape::unescape(&attribute.value)
                    .map_or_else(|_| attribute.value.to_string(), std::borrow::Cow::into_owned);
                (attribute.key.local_name().as_ref().to_owned(), plain(&value))
            })
            .collect();
        Self {
            name: start.local_name().as_ref().to_owned(),
            attributes,
            namespace: namespace.unwrap_or_default(),
            ..Self::default()
        }
    }

    /// The first child with this name.
    #[must_use]
    pub fn child(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|child| child.name == name)
    }

    /// Every child with this name.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |child| child.name == name)
    }

    /// The element at the end of a path of first children.
    #[must_use]
    pub fn at(&self, path: &[&str]) -> Option<&Self> {
        path.iter().try_fold(self, |element, name| element.child(name))
    }

    /// The text at the end of a path, where it is not empty.
    #[must_use]
    pub fn text_at(&self, path: &[&str]) -> Option<&str> {
        self.at(path).map(|element| element.text.as_str()).filter(|text| !text.is_empty())
    }

    /// The first element of this name at any depth, itself included.
    #[must_use]
    pub fn find(&self, name: &str) -> Option<&Self> {
        if self.name == name {
            return Some(self);
        }
        self.children.iter().find_map(|child| child.find(name))
    }

    /// An attribute.
    #[must_use]
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.attributes.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
    }
}

/// What a reference like `&amp;` or `&#10;` stands for. The five of XML and numbers only: others would have to be
/// defined by a document type, and none is accepted.
fn reference(name: &str) -> Option<char> {
    match name {
        "amp" => Some('&'),
        "lt" => Some('<'),
        "gt" => Some('>'),
        "quot" => Some('"'),
        "apos" => Some('\''),
        _ => {
            let digits = name.strip_prefix('#')?;
            let number = match digits.strip_prefix(['x', 'X']) {
                Some(hexadecimal) => u32::from_str_radix(hexadecimal, 16).ok()?,
                None => digits.parse().ok()?,
            };
            char::from_u32(number)
        }
    }
}

/// Text as it can stand between tags or in an attribute.
#[must_use]
pub fn escape(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_could_grow_without_end_is_refused() {
        let bomb = b"<!DOCTYPE a [<!ENTITY x \"yyyyyyyyyy\"><!ENTITY z \"&x;&x;&x;\">]><a>&z;</a>";
        assert_eq!(Element::parse(bomb), Err(XmlError::DocumentType));
        assert_eq!(Element::parse("<a>".repeat(100).as_bytes()), Err(XmlError::TooLarge));
        let wide = format!("<a>{}</a>", "<b/>".repeat(MAX_ELEMENTS + 1));
        assert_eq!(Element::parse(wide.as_bytes()), Err(XmlError::TooLarge));
        for cut in ["", "<", "<a", "<a>", "<a></b>", "plain text", "<a>&undefined"] {
            assert!(Element::parse(cut.as_bytes()).is_err(), "{cut}");
        }
        assert_eq!(Element::parse(b"<a>1&undefined;2&#x33;&lt;</a>").unwrap().text, "123<");
    }

    proptest! {
        #[test]
        fn any_text_survives_being_written_and_read(text in "\\PC{0,40}") {
            let document = format!("<a><b c=\"{0}\">{0}</b></a>", escape(&text));
            let root = Element::parse(document.as_bytes()).unwrap();
            let b = root.child("b").unwrap();
            prop_assert_eq!(b.text.clone(), plain(&text).trim().to_owned());
            prop_assert_eq!(b.attribute("c").unwrap().to_owned(), plain(&text));
        }

        #[test]
        fn any_bytes_are_answered(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            let _ = Element::parse(&bytes);
        }
    }
}
