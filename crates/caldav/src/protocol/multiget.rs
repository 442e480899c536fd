//! Entries by the batch (RFC 4791, 7.9), and one by one.

use std::collections::{HashMap, HashSet};

use chestnut_core::{ETag, ObjectHref};
use url::Url;

use super::multistatus::{Multistatus, check_status, not_caldav};
use super::{
    CALDAV, DAV, HEAD, NAMESPACES, canonical_path, escape_xml, href_of, url_of, within, xml_request,
};
use crate::error::{Asked, DavError, Instead};
use crate::transport::{Answer, Request};

/// What a server gives for one href.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// The text that stands there.
    Text {
        /// Its state.
        etag: Option<ETag>,
        /// iCalendar, or what the server thinks it is.
        text: String,
    },
    /// Nothing stands there (404).
    Missing,
    /// The server could not give it.
    Failed(u16),
}

/// Asks for many entries at once.
#[must_use]
pub fn multiget(calendar: &Url, hrefs: &[ObjectHref]) -> Request {
    let mut body =
        format!("{HEAD}<c:calendar-multiget {NAMESPACES}><d:prop><d:getetag/><c:calendar-data/></d:prop>");
    for href in hrefs {
        body.push_str("<d:href>");
        body.push_str(&escape_xml(url_of(href, calendar).path()));
        body.push_str("</d:href>");
    }
    body.push_str("</c:calendar-multiget>");
    xml_request("REPORT", calendar.clone(), "1", body)
}

/// Reads an answer to [`multiget`]: a part per href the server speaks of. What it passes over in silence is not
/// in the list.
///
/// # Errors
/// An answer that cannot be read as a whole; the caller fetches one by one then.
pub fn read_multiget(
    answer: &Answer,
    calendar: &Url,
    asked: &[ObjectHref],
) -> Result<HashMap<ObjectHref, Part>, DavError> {
    // What nobody asked for is no answer, whatever it says.
    let asked: HashSet<&ObjectHref> = asked.iter().collect();
    let folder = canonical_path(calendar);
    let mut parts = HashMap::new();
    let part = |response: &super::PropResponse| {
        let href = within(href_of(&response.href, calendar)?, &folder);
        if !asked.contains(&href) {
            return None;
        }
        let part = match (response.prop(CALDAV, "calendar-data"), response.status) {
            (Some(data), _) => Part::Text {
                etag: response.text(DAV, "getetag").map(ETag::from_header),
                text: data.text.clone(),
            },
            (None, Some(404 | 410)) => Part::Missing,
            (None, status) => Part::Failed(status.unwrap_or(500)),
        };
        Some((href, part))
    };
    Multistatus::each(answer, Asked::Multiget, |response| parts.extend(part(&response)))?;
    Ok(parts)
}

/// Reads an answer to a GET of one entry.
///
/// # Errors
/// Neither the entry nor its absence.
pub fn read_object(answer: &Answer) -> Result<Part, DavError> {
    match answer.status {
        404 | 410 => Ok(Part::Missing),
        _ => {
            check_status(answer, Asked::Entry, &[200])?;
            let text = String::from_utf8(answer.body.clone());
            let text = text.map_err(|_| not_caldav(answer, Asked::Entry, Instead::NotUtf8))?;
            Ok(Part::Text { etag: answer.header("etag").map(ETag::from_header), text })
        }
    }
}
