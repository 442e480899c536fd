//! Writing and deleting one entry, always on a condition (RFC 9110, 13.1; RFC 4791, 5.3.2).

use chestnut_core::{ETag, ObjectHref};
use url::Url;

use super::multistatus::{refused_sign_in, server_words};
use super::{DAV, object_href, parse_xml, url_of};
use crate::error::DavError;
use crate::transport::{Answer, Request};

/// On which condition a write may happen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Condition {
    /// Nothing stands there (`If-None-Match: *`).
    Absent,
    /// This state stands there (`If-Match`).
    Is(ETag),
    /// Something stands there, of which the server gave no state (`If-Match: *`).
    Exists,
}

/// What a server says to a write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stored {
    /// It took it, or deleted it; whether it really did is seen by reading back.
    Done {
        /// The new state; weak or missing where the server rewrites what it was given.
        etag: Option<ETag>,
        /// Where it stands, if the server says so (RFC 9110, 10.2.2): some put what is new at a name of their own.
        at: Option<ObjectHref>,
    },
    /// The condition does not hold (412): read again.
    ConditionFailed,
    /// Another entry of the calendar, or of the user, has this UID (RFC 4791, 5.3.2.1).
    UidTaken {
        /// Where, if the server says.
        by: Option<ObjectHref>,
    },
    /// It refuses this text.
    Refused {
        /// The status.
        status: u16,
        /// The server's own words; untrusted text.
        words: Option<String>,
        /// Whether it says what is wrong with the text (a named precondition, 413, 415): it will refuse it again.
        for_good: bool,
    },
    /// Nothing stands there (404 to a DELETE).
    Missing,
    /// It fails now (5xx, 423, 429), and may not later.
    Failed {
        /// The status.
        status: u16,
    },
    /// The sign-in is refused (401): how, and what is offered.
    SignIn(Box<DavError>),
}

fn condition_header(condition: &Condition) -> (&'static str, String) {
    match condition {
        Condition::Absent => ("If-None-Match", "*".to_owned()),
        Condition::Is(etag) => ("If-Match", etag.as_str().to_owned()),
        Condition::Exists => ("If-Match", "*".to_owned()),
    }
}

/// Asks to store a text.
#[must_use]
pub fn put_object(calendar: &Url, href: &ObjectHref, text: &str, condition: &Condition) -> Request {
    let headers =
        vec![("Content-Type", "text/calendar; charset=utf-8".to_owned()), condition_header(condition)];
    Request { method: "PUT", url: url_of(href, calendar), headers, body: text.to_owned() }
}

/// Asks to delete an entry; `silently`, without an answer to whoever invited (RFC 6638, 8.1).
#[must_use]
pub fn delete_object(calendar: &Url, href: &ObjectHref, condition: &Condition, silently: bool) -> Request {
    let no_reply = silently.then(|| ("Schedule-Reply", "F".to_owned()));
    let headers = std::iter::once(condition_header(condition)).chain(no_reply).collect();
    Request { method: "DELETE", url: url_of(href, calendar), headers, body: String::new() }
}

/// Asks for one entry.
#[must_use]
pub fn get_object(calendar: &Url, href: &ObjectHref) -> Request {
    let headers = vec![("Accept", "text/calendar".to_owned())];
    Request { method: "GET", url: url_of(href, calendar), headers, body: String::new() }
}

/// Reads the answer to a PUT or a DELETE.
#[must_use]
pub fn read_write(answer: &Answer, calendar: &Url) -> Stored {
    let refused = || {
        let words = server_words(answer);
        let named = words.as_ref().is_some_and(|words| is_precondition(words));
        let for_good = named || matches!(answer.status, 400 | 413 | 415 | 422);
        Stored::Refused { status: answer.status, words, for_good }
    };
    match answer.status {
        200..300 => {
            let at = answer.header("location").and_then(|location| object_href(location, calendar));
            let is_here = |at: &ObjectHref| !at.as_str().starts_with('/');
            Stored::Done { etag: answer.header("etag").map(ETag::from_header), at: at.filter(is_here) }
        }
        401 => Stored::SignIn(Box::new(refused_sign_in(answer))),
        403 | 409 | 412 => uid_conflict(answer, calendar).unwrap_or_else(|| match answer.status {
            // A 412 with a named condition of CalDAV is a refusal, not a failed If-Match.
            412 if server_words(answer).is_none_or(|w| !is_precondition(&w)) => Stored::ConditionFailed,
            _ => refused(),
        }),
        404 | 410 => Stored::Missing,
        408 | 423 | 425 | 429 | 500..=506 | 508.. => Stored::Failed { status: answer.status },
        _ => refused(),
    }
}

/// Conditions of RFC 4791, 5.3.2.1, that say something about the text.
fn is_precondition(words: &str) -> bool {
    const NAMES: &[&str] = &[
        "valid-calendar-data",
        "valid-calendar-object-resource",
        "supported-calendar",
        "max-",
        "min-date-time",
    ];
    NAMES.iter().any(|name| words.contains(name))
}

fn uid_conflict(answer: &Answer, calendar: &Url) -> Option<Stored> {
    let root = parse_xml(&answer.body).ok()?;
    // RFC 4791, 5.3.2.1, and RFC 6638, 3.2.4.1: once in a calendar, or once for a user.
    let names = ["no-uid-conflict", "unique-scheduling-object-resource"];
    let conflict = root.children.iter().find(|c| names.contains(&c.name.as_str()))?;
    let by = conflict.child_text(DAV, "href").and_then(|raw| object_href(raw, calendar));
    Some(Stored::UidTaken { by })
}
