//! One property: a content line, unfolded (RFC 5545, 3.1).

use std::borrow::Cow;

/// One content line, unfolded: `NAME;PARAM=value:VALUE`.
///
/// The text is kept as it came, so a property that nobody changed is written byte for byte.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Property<'a> {
    text: Cow<'a, str>,
    /// Length of the name in bytes.
    name_len: u32,
    /// Where the value starts, one past the colon.
    value_at: u32,
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
    /// Wraps an unfolded line; `name_len` and `value_at` are byte offsets found while parsing.
    pub(super) fn from_parts(text: Cow<'a, str>, name_len: usize, value_at: usize) -> Self {
        // Lines longer than 4 GiB are refused by the limits long before.
        Self { text, name_len: name_len as u32, value_at: value_at as u32 }
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
        let value_at = text.len();
        // A raw line break would start another content line: it has no place in a value.
        text.extend(value.chars().filter(|c| !matches!(c, '\r' | '\n')));
        Property::from_parts(Cow::Owned(text), name.len(), value_at)
    }

    /// Returns the whole unfolded line.
    #[must_use]
    pub fn line(&self) -> &str {
        &self.text
    }

    /// Returns the name as written; names compare without regard to case, see [`Property::is`].
    #[must_use]
    pub fn name(&self) -> &str {
        &self.text[..self.name_len as usize]
    }

    /// Tells whether this property has the given name, whatever its case.
    #[must_use]
    pub fn is(&self, name: &str) -> bool {
        self.name().eq_ignore_ascii_case(name)
    }

    /// Returns the value as written, escapes and all.
    #[must_use]
    pub fn value(&self) -> &str {
        &self.text[self.value_at as usize..]
    }

    /// Returns the parameters in their order.
    pub fn params(&self) -> impl Iterator<Item = Parameter<'_>> {
        let (from, to) = (self.name_len as usize, self.value_at as usize - 1);
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
        let head = &self.text[..self.value_at as usize];
        let mut text = String::with_capacity(head.len() + value.len());
        text.push_str(head);
        text.extend(value.chars().filter(|c| !matches!(c, '\r' | '\n')));
        Property::from_parts(Cow::Owned(text), self.name_len as usize, self.value_at as usize)
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
        let value_at = text.len();
        text.push_str(self.value());
        Property::from_parts(Cow::Owned(text), self.name_len as usize, value_at)
    }

    /// Detaches the property from the text it was read from.
    #[must_use]
    pub fn into_owned(self) -> Property<'static> {
        Property {
            text: Cow::Owned(self.text.into_owned()),
            name_len: self.name_len,
            value_at: self.value_at,
        }
    }
}

/// Finds the end of the name and the start of the value; the error is the byte offset of the fault.
pub(super) fn locate_value(line: &str) -> Result<(usize, usize), usize> {
    let bytes = line.as_bytes();
    let name_len = bytes.iter().position(|b| matches!(b, b':' | b';')).ok_or(bytes.len())?;
    if name_len == 0 {
        return Err(0);
    }
    if bytes[name_len] == b':' {
        return Ok((name_len, name_len + 1));
    }
    let mut quoted = false;
    for (i, byte) in bytes[name_len..].iter().enumerate() {
        match byte {
            b'"' => quoted = !quoted,
            b':' if !quoted => return Ok((name_len, name_len + i + 1)),
            _ => {}
        }
    }
    // A quote that is never closed: the first colon is the best reading, and nothing is lost by it.
    let colon = bytes[name_len..].iter().position(|b| *b == b':').ok_or(bytes.len())?;
    Ok((name_len, name_len + colon + 1))
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
