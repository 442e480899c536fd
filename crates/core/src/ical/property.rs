//! One property: a content line, unfolded (RFC 5545, 3.1).

use std::borrow::Cow;

/// One content line, unfolded: `NAME;PARAM=value:VALUE`.
///
/// The text is kept as it came, so a property that nobody changed is written byte for byte. Where the name ends
/// and the value begins is found when it is asked for: most properties of a calendar never are.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Property<'a> {
    text: Cow<'a, str>,
}

/// One parameter of a property, such as `TZID=Europe/Ljubljana`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Parameter<'a> {
    /// The name as written.
    pub name: &'a str,
    /// The values as written, quotes included, split at commas outside quotes.
    pub raw: &'a str,
}

impl<'a> Parameter<'a> {
    /// Returns the values, without quotes and with the escapes of RFC 6868 (`^n`, `^^`, `^'`) resolved.
    pub fn values(&self) -> impl Iterator<Item = Cow<'a, str>> + use<'a> {
        split_outside_quotes(self.raw, b',').map(|value| {
            let bare = value.strip_prefix('"').and_then(|v| v.strip_suffix('"')).unwrap_or(value);
            decode_carets(bare)
        })
    }

    /// Returns the first value; nearly every parameter has exactly one.
    #[must_use]
    pub fn value(&self) -> Cow<'a, str> {
        self.values().next().unwrap_or_default()
    }
}

impl<'a> Property<'a> {
    /// Wraps an unfolded line that has a name and a colon, as [`is_content_line`] says.
    pub(super) fn from_line(text: Cow<'a, str>) -> Self {
        Self { text }
    }

    fn name_len(&self) -> usize {
        memchr::memchr2(b':', b';', self.text.as_bytes()).expect("a content line has a colon")
    }

    /// Where the value starts, one past the colon. A quote that is never closed hides no colon: the first one
    /// is the best reading then, and nothing is lost by it.
    fn value_at(&self) -> usize {
        let bytes = self.text.as_bytes();
        let name_len = self.name_len();
        let mut quoted = false;
        let colon = bytes[name_len..].iter().position(|byte| {
            quoted ^= *byte == b'"';
            *byte == b':' && !quoted
        });
        let first = || memchr::memchr(b':', bytes).expect("a content line has a colon");
        colon.map_or_else(first, |at| name_len + at) + 1
    }

    /// Makes a property without parameters; `value` is already in its escaped form.
    #[must_use]
    pub fn new(name: &str, value: &str) -> Property<'static> {
        Property::with_params(name, &[], value)
    }

    /// Makes a property with parameters; values are quoted and escaped (RFC 6868) where they must be.
    #[must_use]
    pub fn with_params(name: &str, params: &[(&str, &str)], value: &str) -> Property<'static> {
        let mut text = String::with_capacity(name.len() + value.len() + 1);
        text.push_str(name);
        for (param, param_value) in params {
            text.push(';');
            text.push_str(param);
            text.push('=');
            push_param_value(&mut text, param_value);
        }
        text.push(':');
        // A raw line break would start another content line: it has no place in a value.
        text.extend(value.chars().filter(|c| !matches!(c, '\r' | '\n')));
        Property { text: Cow::Owned(text) }
    }

    /// Returns the whole unfolded line.
    #[must_use]
    pub fn line(&self) -> &str {
        &self.text
    }

    /// Returns the name as written; names compare without regard to case, see [`Property::is`].
    #[must_use]
    pub fn name(&self) -> &str {
        &self.text[..self.name_len()]
    }

    /// Tells whether this property has the given name, whatever its case.
    #[must_use]
    pub fn is(&self, name: &str) -> bool {
        let bytes = self.text.as_bytes();
        let ends = matches!(bytes.get(name.len()), Some(b':' | b';'));
        ends && bytes[..name.len()].eq_ignore_ascii_case(name.as_bytes())
    }

    /// Returns the value as written, escapes and all.
    #[must_use]
    pub fn value(&self) -> &str {
        &self.text[self.value_at()..]
    }

    /// Returns the parameters in their order.
    pub fn params(&self) -> impl Iterator<Item = Parameter<'_>> {
        let (from, to) = (self.name_len(), self.value_at() - 1);
        let raw = self.text.get(from + 1..to).unwrap_or("");
        split_outside_quotes(raw, b';').filter(|part| !part.is_empty()).map(|part| {
            let (name, raw) = part.split_once('=').unwrap_or((part, ""));
            Parameter { name, raw }
        })
    }

    /// Returns the first value of the named parameter.
    #[must_use]
    pub fn param(&self, name: &str) -> Option<Cow<'_, str>> {
        self.params().find(|p| p.name.eq_ignore_ascii_case(name)).map(|p| p.value())
    }

    /// Returns this property with another value, name and parameters kept as written.
    #[must_use]
    pub fn with_value(&self, value: &str) -> Property<'static> {
        let head = &self.text[..self.value_at()];
        let mut text = String::with_capacity(head.len() + value.len());
        text.push_str(head);
        text.extend(value.chars().filter(|c| !matches!(c, '\r' | '\n')));
        Property { text: Cow::Owned(text) }
    }

    /// Returns this property with one parameter set to another value, or added behind the others.
    #[must_use]
    pub fn with_param(&self, name: &str, value: &str) -> Property<'static> {
        let mut text = self.name().to_owned();
        let mut found = false;
        for param in self.params() {
            text.push(';');
            text.push_str(param.name);
            text.push('=');
            if param.name.eq_ignore_ascii_case(name) {
                push_param_value(&mut text, value);
                found = true;
            } else {
                text.push_str(param.raw);
            }
        }
        if !found {
            text.push(';');
            text.push_str(name);
            text.push('=');
            push_param_value(&mut text, value);
        }
        text.push(':');
        text.push_str(self.value());
        Property { text: Cow::Owned(text) }
    }

    /// Detaches the property from the text it was read from.
    #[must_use]
    pub fn into_owned(self) -> Property<'static> {
        Property { text: Cow::Owned(self.text.into_owned()) }
    }
}

/// Tells whether a line has a name and a colon; the error is the byte offset of the fault.
#[inline]
pub(crate) fn is_content_line(line: &[u8]) -> Result<(), usize> {
    if line.first() == Some(&b';') || line.first() == Some(&b':') {
        return Err(0);
    }
    // Names are short: sixteen bytes at once, without a loop whose end the processor cannot foresee.
    if let Some(start) = line.first_chunk::<16>() {
        let differs = u128::from_le_bytes(*start) ^ (u128::MAX / 0xFF * b':' as u128);
        let low = u128::MAX / 0xFF;
        if differs.wrapping_sub(low) & !differs & (low << 7) != 0 {
            return Ok(());
        }
    }
    memchr::memchr(b':', line).map(drop).ok_or(line.len())
}

fn split_outside_quotes(text: &str, separator: u8) -> impl Iterator<Item = &str> {
    let mut rest = Some(text);
    std::iter::from_fn(move || {
        let current = rest?;
        let mut quoted = false;
        let cut = current.bytes().position(|b| {
            quoted ^= b == b'"';
            b == separator && !quoted
        });
        let (part, after) = cut.map_or((current, None), |i| (&current[..i], Some(&current[i + 1..])));
        rest = after;
        Some(part)
    })
}

fn decode_carets(value: &str) -> Cow<'_, str> {
    if !value.contains('^') {
        return Cow::Borrowed(value);
    }
    let mut out = String::with_capacity(value.len());
    let mut chars = value.chars().peekable();
    while let Some(c) = chars.next() {
        let decoded = match (c, chars.peek()) {
            ('^', Some('n')) => Some('\n'),
            ('^', Some('^')) => Some('^'),
            ('^', Some('\'')) => Some('"'),
            _ => None,
        };
        if decoded.is_some() {
            chars.next();
        }
        out.push(decoded.unwrap_or(c));
    }
    Cow::Owned(out)
}

fn push_param_value(out: &mut String, value: &str) {
    let quote = value.contains([':', ';', ',']);
    if quote {
        out.push('"');
    }
    for c in value.chars() {
        match c {
            '\n' => out.push_str("^n"),
            '^' => out.push_str("^^"),
            '"' => out.push_str("^'"),
            c if c.is_control() && c != '\t' => {}
            c => out.push(c),
        }
    }
    if quote {
        out.push('"');
    }
}
