//! A calendar as it stood, in one text that any program reads as a calendar.
//!
//! The components stand there as such; beside them, in properties of ours, each entry's own text and where it stood
//! (RFC 5545, 3.8.8.2 lets others pass over them), and a digest of the whole: a text that was cut or edited since is
//! refused.

use sha2::{Digest, Sha256};

use crate::calendar_text::{CalendarText, NotACalendar};
use crate::entry::Entry;
use crate::ical::{self, Limits, Property};
use crate::ids::ObjectHref;
use crate::values::{escape_text, unescape_text};

const VERSION: &str = "X-CHESTNUT-SNAPSHOT";
const DIGEST: &str = "X-CHESTNUT-DIGEST";
const ENTRY: &str = "X-CHESTNUT-ENTRY";
/// Of the digest, so many bytes: more than anybody could meet by chance.
const LENGTH: usize = 16;

/// An entry of a snapshot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SnapshotEntry {
    /// Where it stood; `None` where the text is of another origin.
    pub href: Option<ObjectHref>,
    /// What stood there, with lines that end as RFC 5545, 3.1 has it.
    pub text: String,
}

/// What a snapshot holds.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Snapshot {
    /// What the calendar is called; `None` where the text is of another origin.
    pub calendar: Option<String>,
    /// Its entries.
    pub entries: Vec<SnapshotEntry>,
}

/// Why a text is no snapshot.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{self:?}")]
pub enum NotASnapshot {
    /// It is no whole calendar.
    NotACalendar(NotACalendar),
    /// It was a snapshot, and was changed since.
    Changed,
    /// It was written by a later version.
    Newer,
}

/// Writes a snapshot. `title` is what the calendar is called.
#[must_use]
pub fn write_snapshot(title: &str, entries: &[(ObjectHref, String)]) -> String {
    let read: Vec<Entry> =
        entries.iter().filter_map(|(_, text)| Entry::parse(text, &Limits::default()).ok()).collect();
    let mut calendar = CalendarText::of(&read).into_object();
    calendar.push_property(Property::new("X-WR-CALNAME", &escape_text(title)));
    calendar.push_property(Property::new(VERSION, "1"));
    for (href, text) in entries {
        let text = format!("{}\n{}", href.as_str(), text.replace('\r', ""));
        calendar.push_property(Property::new(ENTRY, &packed(&text)));
    }
    let text = ical::write(&calendar);
    let line = format!("{DIGEST}:{}\r\n", digest(&text));
    match text.find("\r\n") {
        Some(end) => format!("{}{line}{}", &text[..end + 2], &text[end + 2..]),
        None => text,
    }
}

/// Reads a snapshot, or the entries of any calendar.
///
/// # Errors
/// [`NotASnapshot`]: then nothing of it counts.
pub fn read_snapshot(bytes: &[u8]) -> Result<Snapshot, NotASnapshot> {
    let limits = Limits::default();
    let calendar = CalendarText::read(bytes, None, &limits).map_err(NotASnapshot::NotACalendar)?;
    let object = calendar.object();
    let is_ours = |property: &Property<'_>| {
        let name = property.name().to_ascii_uppercase();
        [VERSION, DIGEST, ENTRY].iter().any(|own| name.starts_with(own))
    };
    if !object.properties().any(is_ours) {
        let entry = |entry: Entry| SnapshotEntry { href: None, text: entry.text() };
        return Ok(Snapshot { calendar: None, entries: calendar.entries().map(entry).collect() });
    }
    let text = String::from_utf8_lossy(bytes);
    let is_digest = |line: &&str| line.strip_prefix(DIGEST).is_some_and(|rest| rest.starts_with(':'));
    let rest: String = text.split_inclusive('\n').filter(|line| !is_digest(line)).collect();
    let said = text.lines().find(is_digest).and_then(|line| line.split_once(':'));
    if said.is_none_or(|(_, said)| said.trim() != digest(&rest)) {
        return Err(NotASnapshot::Changed);
    }
    if object.value(VERSION).is_none_or(|version| version.trim() != "1") {
        return Err(NotASnapshot::Newer);
    }
    let entry = |property: &Property<'_>| {
        let text = unpacked(property.value())?;
        let (href, text) = text.split_once('\n')?;
        let text = text.replace('\n', "\r\n");
        Some(SnapshotEntry { href: Some(ObjectHref::from(href)), text })
    };
    let entries = object.properties().filter(|property| property.is(ENTRY)).map(entry);
    let entries = entries.collect::<Option<Vec<_>>>().ok_or(NotASnapshot::Changed)?;
    let calendar = object.value("X-WR-CALNAME").map(|name| unescape_text(name).into_owned());
    Ok(Snapshot { calendar, entries })
}

/// Whatever ends the lines.
fn digest(text: &str) -> String {
    let mut hash = Sha256::new();
    text.split('\r').for_each(|part| hash.update(part));
    crate::hex(&hash.finalize()[..LENGTH])
}

/// A text in one line, every character of it.
fn packed(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + text.len() / 16);
    for c in text.chars() {
        match c {
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            c if c.is_control() || c == '\u{feff}' => out.push_str(&format!("\\u{:04x}", u32::from(c))),
            c => out.push(c),
        }
    }
    out
}

fn unpacked(text: &str) -> Option<String> {
    let mut out = String::with_capacity(text.len());
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' => match chars.next()? {
                'n' => out.push('\n'),
                '\\' => out.push('\\'),
                'u' => {
                    let digits: String = chars.by_ref().take(4).collect();
                    out.push(char::from_u32(u32::from_str_radix(&digits, 16).ok()?)?);
                }
                _ => return None,
            },
            c => out.push(c),
        }
    }
    Some(out)
}
