//! CalDAV and feeds as values: requests out, facts in; no I/O (RFC 4918, 4791, 6578, 5397, 6764).

mod discovery;
mod edit_calendar;
mod feed_fetch;
mod free_busy_query;
mod href;
mod listing;
mod multiget;
mod multistatus;
mod propfind;
mod sync_report;
mod time_query;
mod write_object;
mod xml;

pub use discovery::{Discovery, DiscoveryNext, DiscoveryStage, Found};
pub use edit_calendar::{MakeBy, NewCalendar, make_calendar, read_made, read_renamed, rename_calendar};
pub use feed_fetch::{FeedAnswer, FeedText, Validators, feed_address, get_feed, read_feed};
pub use free_busy_query::{answers_no_free_busy, free_busy_query, read_free_busy};
pub use href::{canonical, canonical_path, href_of, object_href, url_of, within};
pub use listing::{
    CalendarInfo, Listed, Listing, People, address_properties, etag_listing, read_calendar, read_listing,
    read_people, read_principal,
};
pub use multiget::{Part, multiget, read_multiget, read_object};
pub use multistatus::{Multistatus, PropResponse};
pub use propfind::{Propfind, PropfindNext};
pub use sync_report::{SyncAnswer, read_sync, sync_report};
pub use time_query::{entries_of_kind, events_after, read_found, single_events_before};
pub use write_object::{Condition, Stored, delete_object, get_object, put_object, read_write};
pub use xml::{Element, escape_xml, parse_xml};

/// `DAV:`
pub const DAV: &str = "DAV:";
/// CalDAV (RFC 4791).
pub const CALDAV: &str = "urn:ietf:params:xml:ns:caldav";
/// The namespace of the ctag.
pub const CALENDARSERVER: &str = "http://calendarserver.org/ns/";
/// The namespace of calendar colours.
pub const APPLE: &str = "http://apple.com/ns/ical/";

const XML_TYPE: &str = "application/xml; charset=utf-8";
const HEAD: &str = r#"<?xml version="1.0" encoding="utf-8"?>"#;
const NAMESPACES: &str = r#"xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:caldav" xmlns:s="http://calendarserver.org/ns/" xmlns:i="http://apple.com/ns/ical/""#;

fn xml_request(method: &'static str, url: url::Url, depth: &'static str, body: String) -> crate::Request {
    let headers = vec![("Depth", depth.to_owned()), ("Content-Type", XML_TYPE.to_owned())];
    crate::Request { method, url, headers, body }
}
