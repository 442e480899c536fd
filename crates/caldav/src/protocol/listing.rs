//! What stands in a home (calendars) and in a calendar (entries and their ETags).

use chestnut_core::{ETag, Kind, Kinds, ObjectHref, SyncToken};
use url::Url;

use super::edit_calendar::says_shared;
use super::multistatus::{Multistatus, PropResponse, hrefs_in};
use super::{
    APPLE, CALDAV, CALENDARSERVER, DAV, Element, HEAD, NAMESPACES, canonical_path, href_of, within,
    xml_request,
};
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// A calendar as its server describes it.
#[derive(Debug, Clone)]
pub struct CalendarInfo {
    /// Its address.
    pub url: Url,
    /// The decoded path.
    pub href: ObjectHref,
    /// Its name; untrusted text. The last part of the path where the server gives none.
    pub name: String,
    /// `#rrggbb`, lower case, without alpha.
    pub color: Option<String>,
    /// Which kinds it accepts (RFC 4791, 5.2.3).
    pub kinds: Kinds,
    /// Whether entries may be written; `None` where the server does not say.
    pub writable: Option<bool>,
    /// The largest entry it accepts, in bytes (RFC 4791, 5.2.5).
    pub max_size: Option<u64>,
    /// How many bytes there is room for (RFC 4331, 3); `None` where nobody asked, or the server does not say.
    pub room: Option<u64>,
    /// How many bytes are in use of what this room is of (RFC 4331, 4); `None` as above.
    pub used: Option<u64>,
    /// Whether it answers sync reports (RFC 6578).
    pub sync_reports: bool,
    /// Its sync token, where it has one.
    pub sync_token: Option<SyncToken>,
    /// Its ctag, where it has one.
    pub ctag: Option<SyncToken>,
    /// Its owner's principal (RFC 3744, 5.1), where the server says.
    pub owner: Option<ObjectHref>,
    /// Whether the server says that somebody else has shared it.
    pub is_shared: bool,
    /// Whether messages to people go out from it (RFC 6638, 2.1).
    pub is_outbox: bool,
}

/// The entries of a calendar, as a complete listing gives them.
#[derive(Debug, Clone, Default)]
pub struct Listing {
    /// Every entry.
    pub entries: Vec<Listed>,
    /// The calendar's sync token at that moment.
    pub sync_token: Option<SyncToken>,
    /// The calendar's ctag at that moment.
    pub ctag: Option<SyncToken>,
    /// The server's clock at that moment, in seconds since 1970.
    pub date: Option<i64>,
}

/// One entry in a listing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Listed {
    /// The decoded path.
    pub href: ObjectHref,
    /// Its state; some servers give none.
    pub etag: Option<ETag>,
}

/// Reads a calendar out of what was found at its own address.
///
/// # Errors
/// Nothing is there; `None` where it is no calendar.
pub fn read_calendar(responses: &[PropResponse], url: &Url) -> Result<Option<CalendarInfo>, DavError> {
    if let [only] = responses
        && only.is_gone()
    {
        return Err(DavError::NotFound { url: Box::new(url.clone()), status: 404 });
    }
    Ok(responses.iter().find_map(|response| calendar_info(response, url)))
}

/// Tells whether a collection is a calendar (RFC 4791, 4.2). One that is an inbox or outbox besides is a calendar all the
/// same: a server may make one collection both.
pub(super) fn is_calendar(response: &PropResponse) -> bool {
    response.prop(DAV, "resourcetype").is_some_and(|types| types.child(CALDAV, "calendar").is_some())
}

pub(super) fn calendar_info(response: &PropResponse, base: &Url) -> Option<CalendarInfo> {
    let types = response.prop(DAV, "resourcetype")?;
    if !is_calendar(response) {
        return None;
    }
    let href = href_of(&response.href, base)?;
    let privileges = response.prop(DAV, "current-user-privilege-set");
    let token = |ns, name| response.text(ns, name).map(SyncToken::from);
    let reports = response.prop(DAV, "supported-report-set");
    let sync_reports = reports.is_some_and(|set| {
        let mut supported = set.all(DAV, "supported-report").filter_map(|r| r.child(DAV, "report"));
        supported.any(|report| report.child(DAV, "sync-collection").is_some())
    });
    let sync_token = token(DAV, "sync-token");
    Some(CalendarInfo {
        url: super::url_of(&href, base),
        name: response.text(DAV, "displayname").map_or_else(|| last_part(&href), str::to_owned),
        color: response.text(APPLE, "calendar-color").and_then(color),
        kinds: response.prop(CALDAV, "supported-calendar-component-set").map_or_else(Kinds::all, kinds),
        writable: privileges.map(may_write),
        max_size: response.text(CALDAV, "max-resource-size").and_then(|t| t.parse().ok()),
        room: response.text(DAV, "quota-available-bytes").and_then(|t| t.trim().parse().ok()),
        used: response.text(DAV, "quota-used-bytes").and_then(|t| t.trim().parse().ok()),
        sync_reports: sync_reports || (reports.is_none() && sync_token.is_some()),
        sync_token,
        ctag: token(CALENDARSERVER, "getctag"),
        owner: response.prop(DAV, "owner").and_then(|p| href_of(p.child_text(DAV, "href")?, base)),
        is_shared: says_shared(types),
        is_outbox: types.child(CALDAV, "schedule-outbox").is_some(),
        href,
    })
}

/// Reads who is signed in out of what was found at an address (RFC 5397).
#[must_use]
pub fn read_principal(responses: &[PropResponse], url: &Url) -> Option<Url> {
    let named = responses.iter().find_map(|r| r.prop(DAV, "current-user-principal"))?;
    hrefs_in(named, url).into_iter().next()
}

/// For whom a server writes to people, as a principal tells.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct People {
    /// The addresses, in lower case; `None` where the server does not tell, an empty list where there are none.
    pub addresses: Option<Vec<String>>,
    /// Whether there is a box for messages: its server schedules.
    pub has_box: bool,
}

/// Asks a principal for the addresses that its server schedules for, and for the boxes of its messages
/// (RFC 6638, 2.1.1, 2.2.1 and 2.4.1).
#[must_use]
pub fn address_properties(principal: &Url) -> Request {
    let props = "<c:calendar-user-address-set/><c:schedule-inbox-URL/><c:schedule-outbox-URL/>";
    let body = format!("{HEAD}<d:propfind {NAMESPACES}><d:prop>{props}</d:prop></d:propfind>");
    xml_request("PROPFIND", principal.clone(), "0", body)
}

/// Reads an answer to [`address_properties`]. A server that refuses it tells nothing.
///
/// # Errors
/// The server fails: what it would have told is not known.
pub fn read_people(answer: &Answer) -> Result<People, DavError> {
    let multistatus = match Multistatus::read(answer, Asked::Addresses) {
        Ok(multistatus) => multistatus,
        Err(_) if matches!(answer.status, 200..=400 | 402..=428 | 430..=499 | 501) => {
            return Ok(People::default());
        }
        Err(error) => return Err(error),
    };
    let prop = |name| multistatus.responses.iter().find_map(|r| r.prop(CALDAV, name));
    let boxes = ["schedule-inbox-URL", "schedule-outbox-URL"].into_iter().filter_map(prop);
    let lower = |href: &Element| href.text.trim().to_lowercase();
    Ok(People {
        addresses: prop("calendar-user-address-set").map(|set| set.all(DAV, "href").map(lower).collect()),
        has_box: boxes.flat_map(|one| one.all(DAV, "href")).any(|href| !href.text.trim().is_empty()),
    })
}

fn last_part(href: &ObjectHref) -> String {
    href.as_str().trim_end_matches('/').rsplit('/').next().unwrap_or_default().to_owned()
}

/// `#rgb`, `#rrggbb` or `#rrggbbaa`; other notations are no colour we can show.
fn color(text: &str) -> Option<String> {
    let digits = text.strip_prefix('#')?;
    let valid = digits.bytes().all(|b| b.is_ascii_hexdigit()) && matches!(digits.len(), 3 | 6 | 8);
    let digits = match digits.len() {
        3 => digits.chars().flat_map(|c| [c, c]).collect(),
        _ => digits.chars().take(6).collect::<String>(),
    };
    valid.then(|| format!("#{}", digits.to_ascii_lowercase()))
}

fn kinds(set: &Element) -> Kinds {
    let names = set.all(CALDAV, "comp").flat_map(|comp| &comp.attributes).filter(|(key, _)| key == "name");
    let kinds: Kinds = names.filter_map(|(_, name)| Kind::of_component(name)).collect();
    if kinds.iter().next().is_none() { Kinds::all() } else { kinds }
}

fn may_write(set: &Element) -> bool {
    const WRITES: &[&str] = &["all", "write", "write-content"];
    let names = set.all(DAV, "privilege").flat_map(|p| &p.children).map(|p| p.name.as_str());
    names.into_iter().any(|name| WRITES.contains(&name))
}

/// Asks for every entry with its ETag, and for the calendar's own token and ctag, in one request.
#[must_use]
pub fn etag_listing(calendar: &Url) -> Request {
    let props = "<d:getetag/><d:resourcetype/><d:sync-token/><s:getctag/>";
    let body = format!("{HEAD}<d:propfind {NAMESPACES}><d:prop>{props}</d:prop></d:propfind>");
    xml_request("PROPFIND", calendar.clone(), "1", body)
}

/// Reads an answer to [`etag_listing`].
///
/// # Errors
/// No multistatus; the calendar itself is gone; or the server says that the listing is incomplete. Only a
/// complete listing may make anything count as gone.
pub fn read_listing(answer: &Answer, calendar: &Url) -> Result<Listing, DavError> {
    // The address that was asked, or the one that answered after a redirect.
    let [folder, answering] = [calendar, &answer.url].map(canonical_path);
    let mut listing = Listing { date: answer.date(), ..Listing::default() };
    let (mut tells_of_itself, mut is_cut, mut is_gone) = (false, false, false);
    Multistatus::each(answer, Asked::Listing, |response| {
        let Some(href) = href_of(&response.href, calendar) else { return };
        // RFC 6578, 3.6, names the collection; some servers name what is above it.
        is_cut |= response.status == Some(507);
        let itself = [&folder, &answering].iter().any(|own| same_collection(own, href.as_str()));
        if itself {
            is_gone |= response.is_gone();
            tells_of_itself = true;
            listing.sync_token = response.text(DAV, "sync-token").map(SyncToken::from);
            listing.ctag = response.text(CALENDARSERVER, "getctag").map(SyncToken::from);
        } else if !is_collection(&response) && !response.is_gone() {
            let etag = response.text(DAV, "getetag").map(ETag::from_header);
            listing.entries.push(Listed { href: within(href, &folder), etag });
        }
    })?;
    if is_cut {
        return Err(DavError::Incomplete);
    }
    if is_gone {
        return Err(DavError::NotFound { url: Box::new(calendar.clone()), status: 404 });
    }
    // RFC 4918, 9.1: an answer of depth 1 has the collection itself. Without it, something else was left out too.
    if tells_of_itself { Ok(listing) } else { Err(DavError::Incomplete) }
}

/// Tells whether two decoded paths are of one collection.
pub(super) fn same_collection(a: &str, b: &str) -> bool {
    a.trim_end_matches('/') == b.trim_end_matches('/')
}

pub(super) fn is_collection(response: &PropResponse) -> bool {
    let typed = response.prop(DAV, "resourcetype").is_some_and(|t| t.child(DAV, "collection").is_some());
    typed || response.href.trim_end().ends_with('/')
}
