//! Asking a server when somebody is taken (RFC 4791, 7.10): a question about a calendar. Nothing is ever posted to an
//! outbox: that would be a message.

use jiff::Timestamp;
use url::Url;

use super::multistatus::check_status;
use super::time_query::utc;
use super::{HEAD, NAMESPACES, xml_request};
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// Asks when the time of a calendar's owner is taken, between two moments.
#[must_use]
pub fn free_busy_query(calendar: &Url, from: Timestamp, to: Timestamp) -> Request {
    let range = format!("<c:time-range start=\"{}\" end=\"{}\"/>", utc(from), utc(to));
    let body = format!("{HEAD}<c:free-busy-query {NAMESPACES}>{range}</c:free-busy-query>");
    xml_request("REPORT", calendar.clone(), "1", body)
}

/// Tells whether a server does not answer such questions: there may be something to read at the address all the same.
#[must_use]
pub fn answers_no_free_busy(answer: &Answer) -> bool {
    matches!(answer.status, 400 | 403..=405 | 415 | 501)
}

/// Reads the answer: the text with the free-busy time.
///
/// # Errors
/// No such text.
pub fn read_free_busy(answer: Answer) -> Result<Vec<u8>, DavError> {
    check_status(&answer, Asked::FreeBusy, &[200])?;
    Ok(answer.body)
}
