//! Values of properties: text, lists, moments and durations (RFC 5545, 3.3).

use std::borrow::Cow;

use jiff::civil::{Date, DateTime, Time};

/// Properties whose values are times (RFC 5545, 3.8.2, 3.8.4, 3.8.5).
pub(crate) const TIMES: [&str; 6] = ["DTSTART", "DTEND", "DUE", "RECURRENCE-ID", "EXDATE", "RDATE"];

/// A DATE or DATE-TIME value as written; the zone stands in the TZID parameter beside it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum TimeValue {
    /// `20261201`: a day, never an instant.
    Date(Date),
    /// `20261201T080000`: local to a TZID, or floating without one.
    Local(DateTime),
    /// `20261201T080000Z`.
    Utc(DateTime),
}

/// Reads one DATE or DATE-TIME (RFC 5545, 3.3.4 and 3.3.5); `None` where it is neither.
#[must_use]
pub fn parse_time(value: &str) -> Option<TimeValue> {
    let bytes = value.trim().as_bytes();
    if !bytes.is_ascii() || bytes.len() < 8 {
        return None;
    }
    let number = |from: usize, to: usize| -> Option<i16> {
        let digits = bytes.get(from..to)?;
        digits.iter().try_fold(0i16, |sum, b| b.is_ascii_digit().then(|| sum * 10 + i16::from(b - b'0')))
    };
    let date = Date::new(number(0, 4)?, number(4, 6)? as i8, number(6, 8)? as i8).ok()?;
    if bytes.len() == 8 {
        return Some(TimeValue::Date(date));
    }
    // Second 60 is allowed by RFC 5545, 3.3.12; it names the last second of the minute here.
    let second = number(13, 15)?.min(59);
    let time = Time::new(number(9, 11)? as i8, number(11, 13)? as i8, second as i8, 0).ok()?;
    let at = date.to_datetime(time);
    match (bytes.get(8), &bytes[15..]) {
        (Some(b'T' | b't'), b"") => Some(TimeValue::Local(at)),
        (Some(b'T' | b't'), b"Z" | b"z") => Some(TimeValue::Utc(at)),
        _ => None,
    }
}

impl TimeValue {
    /// Returns the local date and time; a day begins at midnight.
    #[must_use]
    pub fn local(&self) -> DateTime {
        match self {
            Self::Date(date) => date.to_datetime(Time::midnight()),
            Self::Local(at) | Self::Utc(at) => *at,
        }
    }
}

impl std::fmt::Display for TimeValue {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let at = self.local();
        write!(f, "{:04}{:02}{:02}", at.year(), at.month(), at.day())?;
        match self {
            Self::Date(_) => Ok(()),
            Self::Local(_) | Self::Utc(_) => {
                write!(f, "T{:02}{:02}{:02}", at.hour(), at.minute(), at.second())?;
                f.write_str(if matches!(self, Self::Utc(_)) { "Z" } else { "" })
            }
        }
    }
}

/// A DURATION (RFC 5545, 3.3.6): days are nominal, seconds exact.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DurationValue {
    /// Whole days, weeks counted as seven.
    pub days: i64,
    /// Hours, minutes and seconds, in seconds.
    pub seconds: i64,
}

/// Reads a DURATION such as `-PT15M`, `P1DT12H` or `P2W`; `None` where it is none.
#[must_use]
pub fn parse_duration(value: &str) -> Option<DurationValue> {
    let value = value.trim();
    let (sign, rest) = match value.as_bytes().first()? {
        b'-' => (-1, &value[1..]),
        b'+' => (1, &value[1..]),
        _ => (1, value),
    };
    let rest = rest.strip_prefix(['P', 'p'])?;
    let (mut days, mut seconds, mut number, mut in_time, mut any) = (0i64, 0i64, None::<i64>, false, false);
    for c in rest.chars() {
        if let Some(digit) = c.to_digit(10) {
            number = Some(number.unwrap_or(0).checked_mul(10)?.checked_add(i64::from(digit))?);
            continue;
        }
        if c.eq_ignore_ascii_case(&'T') {
            in_time = true;
            continue;
        }
        let n = number.take()?;
        let (sum, unit) = match (c.to_ascii_uppercase(), in_time) {
            ('W', false) => (&mut days, 7),
            ('D', false) => (&mut days, 1),
            ('H', true) => (&mut seconds, 3600),
            ('M', true) => (&mut seconds, 60),
            ('S', true) => (&mut seconds, 1),
            _ => return None,
        };
        *sum = sum.checked_add(n.checked_mul(unit)?)?;
        any = true;
    }
    (any && number.is_none()).then_some(DurationValue { days: sign * days, seconds: sign * seconds })
}

/// Resolves the escapes of a TEXT value (RFC 5545, 3.3.11): `\n`, `\,`, `\;`, `\\`.
#[must_use]
pub fn unescape_text(value: &str) -> Cow<'_, str> {
    if !value.contains('\\') {
        return Cow::Borrowed(value);
    }
    let mut out = String::with_capacity(value.len());
    let mut chars = value.chars();
    while let Some(c) = chars.next() {
        match (c, c == '\\') {
            (_, true) => match chars.next() {
                Some('n' | 'N') => out.push('\n'),
                Some(other) => out.push(other),
                None => out.push('\\'),
            },
            (c, false) => out.push(c),
        }
    }
    Cow::Owned(out)
}

/// Escapes a text for use as a TEXT value (RFC 5545, 3.3.11).
#[must_use]
pub fn escape_text(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 8);
    for c in text.chars() {
        match c {
            '\\' | ',' | ';' => out.extend(['\\', c]),
            '\n' => out.push_str("\\n"),
            c if c.is_control() && c != '\t' => {}
            c => out.push(c),
        }
    }
    out
}

/// Splits a value at the commas that are not escaped.
pub fn split_list(value: &str) -> impl Iterator<Item = &str> {
    let mut rest = Some(value);
    std::iter::from_fn(move || {
        let current = rest?;
        let mut escaped = false;
        let cut = current.bytes().position(|b| {
            let separator = b == b',' && !escaped;
            escaped = b == b'\\' && !escaped;
            separator
        });
        let (part, after) = cut.map_or((current, None), |i| (&current[..i], Some(&current[i + 1..])));
        rest = after;
        Some(part)
    })
}
