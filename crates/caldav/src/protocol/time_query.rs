//! Entries by kind and by time (RFC 4791, 7.8 and 9.9): a first sieve only, since servers answer in many ways.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use chestnut_core::{Kind, ObjectHref};
use jiff::Timestamp;
use url::Url;

use super::listing::{is_collection, same_collection};
use super::multistatus::Multistatus;
use super::{HEAD, NAMESPACES, canonical_path, href_of, within, xml_request};
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// Asks for events that lie before a moment, at least in part, and do not recur.
#[must_use]
pub fn single_events_before(calendar: &Url, before: Timestamp) -> Request {
    let mut filters = format!("<c:time-range end=\"{}\"/>", utc(before));
    for property in ["RRULE", "RDATE", "RECURRENCE-ID"] {
        write!(filters, "<c:prop-filter name=\"{property}\"><c:is-not-defined/></c:prop-filter>")
            .expect("writing to a string cannot fail");
    }
    query(calendar, Kind::Event, &filters)
}

/// Asks for events that lie after a moment, at least in part.
#[must_use]
pub fn events_after(calendar: &Url, after: Timestamp) -> Request {
    query(calendar, Kind::Event, &format!("<c:time-range start=\"{}\"/>", utc(after)))
}

/// Asks for every entry of one kind.
#[must_use]
pub fn entries_of_kind(calendar: &Url, kind: Kind) -> Request {
    query(calendar, kind, "")
}

fn query(calendar: &Url, kind: Kind, filters: &str) -> Request {
    let body = format!(
        "{HEAD}<c:calendar-query {NAMESPACES}><d:prop><d:getetag/></d:prop><c:filter>\
         <c:comp-filter name=\"VCALENDAR\"><c:comp-filter name=\"{}\">{filters}</c:comp-filter></c:comp-filter>\
         </c:filter></c:calendar-query>",
        kind.component_name()
    );
    xml_request("REPORT", calendar.clone(), "1", body)
}

pub(super) fn utc(at: Timestamp) -> String {
    at.strftime("%Y%m%dT%H%M%SZ").to_string()
}

/// Reads the hrefs that were found.
///
/// # Errors
/// No multistatus, or one that was cut short.
pub fn read_found(answer: &Answer, calendar: &Url) -> Result<BTreeSet<ObjectHref>, DavError> {
    let folder = canonical_path(calendar);
    let (mut found, mut is_cut) = (BTreeSet::new(), false);
    Multistatus::each(answer, Asked::Query, |response| {
        let Some(href) = href_of(&response.href, calendar) else { return };
        let itself = same_collection(&folder, href.as_str());
        match response.status {
            Some(507) => is_cut = true,
            _ if itself || response.is_gone() || is_collection(&response) => {}
            _ => drop(found.insert(within(href, &folder))),
        }
    })?;
    if is_cut { Err(DavError::Incomplete) } else { Ok(found) }
}
