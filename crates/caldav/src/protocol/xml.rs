//! XML into a small tree, within limits; entities are refused.

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::sync::Arc;

use quick_xml::NsReader;
use quick_xml::events::{BytesRef, BytesStart, Event};
use quick_xml::name::{NamespaceError, ResolveResult};

use super::CALDAV;
use crate::error::{XmlBound, XmlError};
use crate::limits::{self, quote};

/// One element: its namespace and local name, its text, and what is in it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Element {
    /// The namespace; empty where none is declared.
    pub namespace: Arc<str>,
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
        self.name == name && &*self.namespace == namespace
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
    // One name in another encoding must not hide a whole answer; an entry may not be changed on the way.
    let text = String::from_utf8_lossy(body);
    let is_utf8 = matches!(text, Cow::Borrowed(_));
    let mut reader = NsReader::from_str(text.trim_start_matches('\u{feff}').trim_start());
    let mut open: Vec<Element> = Vec::new();
    let mut held = Held::default();
    // The first half of a character beyond U+FFFF, where a server writes it as two references (UTF-16).
    let mut first_half: Option<u32> = None;
    loop {
        let event = reader.read_event().map_err(|error| match error {
            quick_xml::Error::Namespace(NamespaceError::TooManyBindings(limit)) => {
                XmlError::TooMuch(XmlBound::Namespaces, limit)
            }
            error => XmlError::NotWellFormed(quote(&error.to_string())),
        })?;
        let number = match &event {
            Event::GeneralRef(reference) => char_number(reference)?,
            _ => None,
        };
        if let Some(number) = number {
            let whole = first_half.take().map(|first| pair(first, number));
            let Some(current) = open.last_mut() else { continue };
            match whole {
                Some(Some(character)) => current.text.push(character),
                Some(_) if is_entry(current) => return Err(XmlError::BadReference(number.to_string())),
                other => {
                    current.text.extend(other.map(|_| char::REPLACEMENT_CHARACTER));
                    match character(number) {
                        _ if matches!(number, 0xD800..=0xDBFF) => first_half = Some(number),
                        None if is_entry(current) => {
                            return Err(XmlError::BadReference(number.to_string()));
                        }
                        character => current.text.push(character.unwrap_or(char::REPLACEMENT_CHARACTER)),
                    }
                }
            }
            continue;
        }
        if first_half.take().is_some()
            && let Some(current) = open.last_mut()
        {
            if is_entry(current) {
                return Err(XmlError::BadReference(String::new()));
            }
            current.text.push(char::REPLACEMENT_CHARACTER);
        }
        match event {
            Event::Start(start) => {
                if open.len() >= limits::DEPTH {
                    return Err(XmlError::TooMuch(XmlBound::Depth, limits::DEPTH));
                }
                open.push(held.element(&reader, &start)?);
            }
            Event::Empty(start) => {
                let empty = held.element(&reader, &start)?;
                match &mut open[..] {
                    [] => return Ok(empty),
                    [root] => root.children.extend(held.taken(take(empty))?),
                    [.., outer] => outer.children.push(empty),
                }
            }
            Event::End(_) => {
                let Some(closed) = open.pop() else { return Err(XmlError::NotWellFormed(String::new())) };
                match &mut open[..] {
                    [] => return Ok(closed),
                    [root] => root.children.extend(held.taken(take(closed))?),
                    [.., outer] => outer.children.push(closed),
                }
            }
            Event::Text(text) => {
                if let Some(current) = open.last_mut() {
                    held.bytes(text.len())?;
                    add_text(current, &text.xml10_content(), is_utf8)?;
                } else if !text.trim().is_empty() {
                    return Err(XmlError::NoXml);
                }
            }
            Event::CData(data) => {
                if let Some(current) = open.last_mut() {
                    held.bytes(data.len())?;
                    add_text(current, &data.xml10_content(), is_utf8)?;
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

/// What is held in memory at the moment, within [`limits`].
#[derive(Debug, Default)]
struct Held {
    elements: usize,
    bytes: usize,
    responses: usize,
    /// Namespaces are few, and shared.
    namespaces: BTreeSet<Arc<str>>,
}

impl Held {
    fn element(&mut self, reader: &NsReader<&[u8]>, start: &BytesStart<'_>) -> Result<Element, XmlError> {
        self.elements += 1;
        if self.elements > limits::ELEMENTS {
            return Err(XmlError::TooMuch(XmlBound::Elements, limits::ELEMENTS));
        }
        let (namespace, local) = reader.resolver().resolve_element(start.name());
        let namespace = match namespace {
            ResolveResult::Bound(ns) => self.namespace(ns.as_ref())?,
            ResolveResult::Unbound | ResolveResult::Unknown(_) => self.namespace("")?,
        };
        let name = self.name(local.as_ref())?;
        let mut attributes = Vec::new();
        for attribute in start.attributes().with_checks(false) {
            if attributes.len() >= limits::ATTRIBUTES {
                return Err(XmlError::TooMuch(XmlBound::Attributes, limits::ATTRIBUTES));
            }
            let attribute = attribute.map_err(|e| XmlError::NotWellFormed(quote(&e.to_string())))?;
            self.bytes(attribute.value.len())?;
            let value = attribute.normalized_value(quick_xml::XmlVersion::Implicit1_0);
            let value = value.map(|v| v.into_owned()).unwrap_or_default();
            attributes.push((self.name(attribute.key.local_name().as_ref())?, value));
        }
        Ok(Element { namespace, name, attributes, text: String::new(), children: Vec::new() })
    }

    fn name(&mut self, name: &str) -> Result<String, XmlError> {
        if name.len() > limits::NAME {
            return Err(XmlError::TooMuch(XmlBound::Name, limits::NAME));
        }
        self.bytes(name.len())?;
        Ok(name.to_owned())
    }

    fn namespace(&mut self, name: &str) -> Result<Arc<str>, XmlError> {
        if let Some(known) = self.namespaces.get(name) {
            return Ok(Arc::clone(known));
        }
        let name: Arc<str> = self.name(name)?.into();
        self.namespaces.insert(Arc::clone(&name));
        Ok(name)
    }

    fn bytes(&mut self, more: usize) -> Result<(), XmlError> {
        self.bytes += more;
        if self.bytes > limits::RESPONSE {
            return Err(XmlError::TooMuch(XmlBound::Bytes, limits::RESPONSE));
        }
        Ok(())
    }

    /// What is directly in the outermost element was handed over: where it was taken away, memory is free again.
    fn taken(&mut self, kept: Option<Element>) -> Result<Option<Element>, XmlError> {
        self.responses += 1;
        if self.responses > limits::RESPONSES {
            return Err(XmlError::TooMuch(XmlBound::Responses, limits::RESPONSES));
        }
        if kept.is_none() {
            (self.elements, self.bytes) = (0, 0);
            self.namespaces.clear();
        }
        Ok(kept)
    }
}

/// The number of a character reference (XML 1.0, 4.1); `None` for a named one.
fn char_number(reference: &BytesRef<'_>) -> Result<Option<u32>, XmlError> {
    let Some(digits) = reference.strip_prefix('#') else { return Ok(None) };
    let (digits, radix) = digits.strip_prefix('x').map_or((digits, 10), |digits| (digits, 16));
    if digits.is_empty() || !digits.chars().all(|c| c.is_digit(radix)) {
        return Err(XmlError::BadReference(quote(reference)));
    }
    // A number beyond all characters is still one, and names none.
    Ok(Some(u32::from_str_radix(digits, radix).unwrap_or(u32::MAX)))
}

/// The character that two halves make (RFC 2781, 2.2).
fn pair(first: u32, second: u32) -> Option<char> {
    let is_second = (0xDC00..=0xDFFF).contains(&second);
    is_second.then(|| char::from_u32(0x10000 + ((first - 0xD800) << 10) + (second - 0xDC00))).flatten()
}

/// The character of a number, where XML has one (XML 1.0, 2.2).
fn character(number: u32) -> Option<char> {
    let is_character = |c: &char| {
        !matches!(c, '\u{fffe}' | '\u{ffff}')
            && (!c.is_ascii_control() || matches!(c, '\t' | '\n' | '\r' | '\u{7f}'))
    };
    char::from_u32(number).filter(is_character)
}

/// Tells whether this holds an entry's text: what is damaged on the way is no text of that entry. Elsewhere a bad
/// character becomes U+FFFD, so that one bad name does not hide a whole answer.
fn is_entry(element: &Element) -> bool {
    element.is(CALDAV, "calendar-data")
}

fn add_text(element: &mut Element, text: &str, is_utf8: bool) -> Result<(), XmlError> {
    let is_control = |c: char| c < ' ' && !matches!(c, '\t' | '\n' | '\r');
    if !text.contains(is_control) && (is_utf8 || !is_entry(element)) {
        element.text.push_str(text);
        return Ok(());
    }
    if is_entry(element) {
        if text.contains(is_control) {
            return Err(XmlError::ControlCharacter);
        }
        if text.contains(char::REPLACEMENT_CHARACTER) {
            return Err(XmlError::NotUtf8);
        }
    }
    element.text.extend(text.chars().map(|c| if is_control(c) { char::REPLACEMENT_CHARACTER } else { c }));
    Ok(())
}

fn resolve(reference: &BytesRef<'_>) -> Result<char, XmlError> {
    match &reference[..] {
        "amp" => Ok('&'),
        "lt" => Ok('<'),
        "gt" => Ok('>'),
        "quot" => Ok('"'),
        "apos" => Ok('\''),
        _ => Err(XmlError::BadReference(quote(reference))),
    }
}

/// Escapes a text for use between tags or in an attribute.
#[must_use]
pub fn escape_xml(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// At the bound, and one past it.
    #[test]
    fn bounds_are_kept_to_the_last() {
        let nested = |n: usize| "<a>".repeat(n) + &"</a>".repeat(n);
        let attributes =
            |n: usize| format!("<a {}/>", (0..n).map(|n| format!("x{n}='' ")).collect::<String>());
        let name = |n: usize| format!("<{0}/>", "n".repeat(n));
        let elements = |n: usize| format!("<a>{}</a>", "<b/>".repeat(n - 1));
        let bytes = |n: usize| format!("<a>{}</a>", "x".repeat(n - 1));
        let responses = |n: usize| format!("<a>{}</a>", "<b/>".repeat(n));
        type Make<'m> = &'m dyn Fn(usize) -> String;
        let all: [(XmlBound, usize, Make<'_>); 6] = [
            (XmlBound::Depth, limits::DEPTH, &nested),
            (XmlBound::Attributes, limits::ATTRIBUTES, &attributes),
            (XmlBound::Name, limits::NAME, &name),
            (XmlBound::Elements, limits::ELEMENTS, &elements),
            (XmlBound::Bytes, limits::RESPONSE, &bytes),
            (XmlBound::Responses, limits::RESPONSES, &responses),
        ];
        for (bound, limit, make) in all {
            let read = |n: usize| match bound {
                // Each is taken away as it comes.
                XmlBound::Responses => parse_xml_by(make(n).as_bytes(), &mut |_| None).map(drop),
                _ => parse_xml(make(n).as_bytes()).map(drop),
            };
            assert_eq!(read(limit), Ok(()), "{bound:?}");
            assert_eq!(read(limit + 1), Err(XmlError::TooMuch(bound, limit)), "{bound:?}");
        }
    }
}
