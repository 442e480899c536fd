//! Texts, compressed: against a dictionary of what nearly every entry says, time zones cut out and kept once.

use std::rc::Rc;

use lz4_flex::block::{compress_prepend_size_with_dict, decompress_size_prepended_with_dict};
use sha2::{Digest, Sha256};

use crate::database::{Database, values};
use crate::error::StoreError;

/// Larger than any text that was ever packed: a damaged blob must not ask for all memory.
const LONGEST: usize = 512 << 20;
/// The way of packing, in front of each blob: the dictionary belongs to it, and is never changed.
const VERSION: u8 = 1;
const DICTIONARY: &[u8] = b"BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Chestnut//Chestnut 0.1//EN\r\nCALSCALE:GREGORIAN\r\n\
BEGIN:VALARM\r\nACTION:DISPLAY\r\nTRIGGER:-PT15M\r\nDESCRIPTION:Reminder\r\nEND:VALARM\r\nRRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR;INTERVAL=1;COUNT=10\r\n\
RRULE:FREQ=DAILY;UNTIL=20261231T230000Z\r\nRECURRENCE-ID;TZID=Europe/\r\nEXDATE;TZID=Europe/\r\nORGANIZER;CN=\"\":mailto:\r\n\
ATTENDEE;CUTYPE=INDIVIDUAL;ROLE=REQ-PARTICIPANT;PARTSTAT=NEEDS-ACTION;RSVP=TRUE;CN=:mailto:\r\nATTENDEE;PARTSTAT=ACCEPTED;CN=:mailto:\r\n\
CATEGORIES:\r\nURL:https://\r\nGEO:\r\nCOLOR:\r\nATTACH:https://\r\nX-APPLE-TRAVEL-ADVISORY-BEHAVIOR:AUTOMATIC\r\nX-MICROSOFT-CDO-BUSYSTATUS:BUSY\r\n\
BEGIN:VTODO\r\nDUE;VALUE=DATE:20261231\r\nPERCENT-COMPLETE:0\r\nEND:VTODO\r\nBEGIN:VEVENT\r\nUID:chestnut-\r\nCREATED:20260101T000000Z\r\n\
LAST-MODIFIED:20260101T000000Z\r\nDTSTAMP:20260101T000000Z\r\nDTSTART;VALUE=DATE:20261001\r\nDTEND;VALUE=DATE:20261002\r\nDURATION:PT1H\r\n\
DTSTART;TZID=Europe/Berlin:20261001T080000\r\nDTEND;TZID=Europe/Berlin:20261001T090000\r\nDTSTART:20261001T080000Z\r\nDTEND:20261001T090000Z\r\n\
SEQUENCE:0\r\nSTATUS:CONFIRMED\r\nTRANSP:OPAQUE\r\nCLASS:PUBLIC\r\nPRIORITY:0\r\nLOCATION:\r\nDESCRIPTION:\r\nSUMMARY:\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";

/// Stands where a zone was cut out; no content line may hold it (RFC 5545, 3.1).
const CUT: char = '\u{1}';
const ZONE: (&str, &str) = ("BEGIN:VTIMEZONE", "END:VTIMEZONE");

fn compress(text: &str) -> Vec<u8> {
    let mut bytes = vec![VERSION];
    bytes.extend(compress_prepend_size_with_dict(text.as_bytes(), DICTIONARY));
    bytes
}

/// Unpacks a text, but for its time zones.
pub(crate) fn decompress(blob: &[u8]) -> Option<String> {
    let (version, packed) = blob.split_first()?;
    let size = u32::from_le_bytes(*packed.first_chunk::<4>()?) as usize;
    if *version != VERSION || size > LONGEST {
        return None;
    }
    String::from_utf8(decompress_size_prepended_with_dict(packed, DICTIONARY).ok()?).ok()
}

/// Packs a text, and keeps its zones.
pub(crate) fn pack(database: &Database, text: &str) -> Result<Vec<u8>, StoreError> {
    if text.contains(CUT) || !text.contains(ZONE.0) {
        return Ok(compress(text));
    }
    let mut out = String::with_capacity(text.len() / 2);
    let mut rest = text;
    while let Some(from) = rest.find(ZONE.0) {
        let Some(length) = rest[from..].find(ZONE.1) else { break };
        let to = from + length + ZONE.1.len();
        out.push_str(&rest[..from]);
        out.push_str(&format!("{CUT}{}{CUT}", keep_zone(database, &rest[from..to])?));
        rest = &rest[to..];
    }
    out.push_str(rest);
    Ok(compress(&out))
}

fn keep_zone(database: &Database, zone: &str) -> Result<i64, StoreError> {
    let digest = Sha256::digest(zone)[..16].to_vec();
    if let Some(id) = database.zones.number(&digest) {
        return Ok(id);
    }
    let known = database.one("SELECT id FROM zone WHERE digest = ?", values![digest], |row| row.get(0))?;
    let id = match known {
        Some(id) => id,
        None => {
            let sql = "INSERT INTO zone (digest, bytes) VALUES (?, ?)";
            database.insert(sql, values![digest, compress(zone)])?
        }
    };
    database.zones.keep_number(digest, id);
    Ok(id)
}

fn zone_text(database: &Database, id: i64) -> Result<Option<Rc<str>>, StoreError> {
    if let Some(text) = database.zones.text(id) {
        return Ok(Some(text));
    }
    let bytes =
        database.one("SELECT bytes FROM zone WHERE id = ?", values![id], |row| row.get::<Vec<u8>>(0))?;
    let text: Option<Rc<str>> = bytes.and_then(|bytes| decompress(&bytes)).map(Rc::from);
    if let Some(text) = &text {
        database.zones.keep_text(id, text);
    }
    Ok(text)
}

/// Tells whether two texts are the same but for the ends of their lines: XML turns CRLF into LF.
#[must_use]
pub fn same_lines(a: &str, b: &str) -> bool {
    a.lines().eq(b.lines())
}

/// Returns a kept text; `None` where it is not there, or is no text of ours.
pub(crate) fn text_of(database: &Database, body: i64) -> Result<Option<String>, StoreError> {
    let sql = "SELECT bytes FROM body WHERE id = ?";
    let bytes = database.one(sql, values![body], |row| row.get::<Vec<u8>>(0))?;
    bytes.map_or(Ok(None), |bytes| unpack(database, &bytes))
}

/// `None` where the bytes are no text of ours: the caller reads the entry afresh then.
pub(crate) fn unpack(database: &Database, blob: &[u8]) -> Result<Option<String>, StoreError> {
    let Some(text) = decompress(blob) else { return Ok(None) };
    if !text.contains(CUT) {
        return Ok(Some(text));
    }
    let mut out = String::with_capacity(text.len() * 3);
    for (at, part) in text.split(CUT).enumerate() {
        // Every second part is the number of a zone; a text that held the mark itself was not cut.
        match (at % 2, part.parse::<i64>()) {
            (1, Ok(id)) => match zone_text(database, id)? {
                Some(zone) => out.push_str(&zone),
                None => return Ok(None),
            },
            (1, Err(_)) => return Ok(Some(text)),
            _ => out.push_str(part),
        }
    }
    Ok(Some(out))
}
