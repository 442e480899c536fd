//! XML into a small tree, within limits; entities are refused.

use quick_xml::NsReader;
use quick_xml::events::{BytesRef, BytesStart, Event};
use quick_xml::name::ResolveResult;

use crate::error::XmlError;

/// Deepest nesting that is read.
const MAX_DEPTH: usize = 48;
/// Most elements that are read: several per entry of a very large calendar.
const MAX_ELEMENTS: usize = 8_000_000;

/// One element: its namespace and local name, its text, and what is in it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Element {
    /// The namespace; empty where none is declared.
    pub namespace: String,
    /// The name without prefix.
    pub name: String,
    /// Attributes by local name.
    pub attributes: Vec<(String, String)>,
    /// The text directly inside, references resolved.
    pub text: String,
    /// The elements inside.
    pub children: Vec<Self>,
}

impl Element {
    /// Tells whether this is the named element.
    #[must_use]
    pub fn is(&self, namespace: &str, name: &str) -> bool {
        self.name == name && self.namespace == namespace
    }

    /// Returns the first child of that name.
    #[must_use]
    pub fn child(&self, namespace: &str, name: &str) -> Option<&Self> {
        self.children.iter().find(|c| c.is(namespace, name))
    }

    /// Returns the children of that name.
    pub fn all<'e>(&'e self, namespace: &'e str, name: &'e str) -> impl Iterator<Item = &'e Self> {
        self.children.iter().filter(move |c| c.is(namespace, name))
    }

    /// Returns the text of the first child of that name, trimmed; `None` where it is missing or empty.
    #[must_use]
    pub fn child_text(&self, namespace: &str, name: &str) -> Option<&str> {
        self.child(namespace, name).map(|c| c.text.trim()).filter(|t| !t.is_empty())
    }
}

/// Reads one XML document.
///
/// # Errors
/// Not UTF-8, not well-formed, with a document type or unknown entities, too deep, or too much.
pub fn parse_xml(body: &[u8]) -> Result<Element, XmlError> {
    parse_xml_by(body, &mut Some)
}

/// Reads one XML document, and hands over each element inside the outermost one as it ends: what `take` gives back is
/// kept in the tree. So a long list need not be held as a tree.
///
/// # Errors
/// As [`parse_xml`].
pub(super) fn parse_xml_by(
    body: &[u8],
    take: &mut dyn FnMut(Element) -> Option<Element>,
) -> Result<Element, XmlError> {
    let text = std::str::from_utf8(body).map_err(|_| XmlError::NotUtf8)?;
    // XML 1.0, 2.2: these are no characters. A server that sends one would send the entry damaged.
    if body.iter().any(|b| *b < 0x20 && !matches!(b, b'\t' | b'\n' | b'\r')) {
        return Err(XmlError::ControlCharacter);
    }
    let mut reader = NsReader::from_str(text.trim_start_matches('\u{feff}').trim_start());
    let mut open: Vec<Element> = Vec::new();
    let mut count = 0;
    loop {
        let event = reader.read_event().map_err(|e| XmlError::NotWellFormed(e.to_string()))?;
        match event {
            Event::Start(start) => {
                count += 1;
                if open.len() >= MAX_DEPTH || count > MAX_ELEMENTS {
                    return Err(XmlError::TooLarge);
                }
                open.push(element(&reader, &start)?);
            }
            Event::Empty(start) => {
                count += 1;
                let empty = element(&reader, &start)?;
                match &mut open[..] {
                    [] => return Ok(empty),
                    [root] => root.children.extend(take(empty)),
                    [.., outer] => outer.children.push(empty),
                }
            }
            Event::End(_) => {
                let Some(closed) = open.pop() else { return Err(XmlError::NotWellFormed(String::new())) };
                match &mut open[..] {
                    [] => return Ok(closed),
                    [root] => root.children.extend(take(closed)),
                    [.., outer] => outer.children.push(closed),
                }
            }
            Event::Text(text) => {
                if let Some(current) = open.last_mut() {
                    current.text.push_str(&text.xml10_content());
                } else if !text.trim().is_empty() {
                    return Err(XmlError::NoXml);
                }
            }
            Event::CData(data) => {
                if let Some(current) = open.last_mut() {
                    current.text.push_str(&data.xml10_content());
                }
            }
            Event::GeneralRef(reference) => {
                if let Some(current) = open.last_mut() {
                    current.text.push(resolve(&reference)?);
                }
            }
            Event::DocType(_) => return Err(XmlError::DocumentType),
            Event::Eof => return Err(XmlError::EndsEarly),
            Event::Decl(_) | Event::PI(_) | Event::Comment(_) => {}
        }
    }
}

fn element(reader: &NsReader<&[u8]>, start: &BytesStart<'_>) -> Result<Element, XmlError> {
    let (namespace, local) = reader.resolver().resolve_element(start.name());
    let text = |name: &str| name.to_owned();
    let namespace = match namespace {
        ResolveResult::Bound(ns) => text(ns.as_ref()),
        ResolveResult::Unbound | ResolveResult::Unknown(_) => String::new(),
    };
    let mut attributes = Vec::new();
    for attribute in start.attributes().with_checks(false) {
        let attribute = attribute.map_err(|e| XmlError::NotWellFormed(e.to_string()))?;
        let value = attribute.normalized_value(quick_xml::XmlVersion::Implicit1_0);
        let value = value.map(|v| v.into_owned()).unwrap_or_default();
        attributes.push((text(attribute.key.local_name().as_ref()), value));
    }
    Ok(Element {
        namespace,
        name: text(local.as_ref()),
        attributes,
        text: String::new(),
        children: Vec::new(),
    })
}

fn resolve(reference: &BytesRef<'_>) -> Result<char, XmlError> {
    let bad = || XmlError::BadReference((**reference).to_owned());
    if let Some(c) = reference.resolve_char_ref().map_err(|_| bad())? {
        let allowed = !c.is_ascii_control() || matches!(c, '\t' | '\n' | '\r' | '\u{7f}');
        return if allowed { Ok(c) } else { Err(bad()) };
    }
    match &reference[..] {
        "amp" => Ok('&'),
        "lt" => Ok('<'),
        "gt" => Ok('>'),
        "quot" => Ok('"'),
        "apos" => Ok('\''),
        _ => Err(bad()),
    }
}

/// Escapes a text for use between tags or in an attribute.
#[must_use]
pub fn escape_xml(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}
