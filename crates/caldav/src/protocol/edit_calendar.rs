//! Making a calendar (MKCALENDAR, RFC 4791, 5.3.1; extended MKCOL, RFC 5689), renaming it, and counting what
//! stands in it.

use chestnut_core::Kinds;
use url::Url;

use super::multistatus::{Multistatus, check_status};
use super::{CALDAV, DAV, HEAD, NAMESPACES, escape_xml, parse_xml, xml_request};
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// What a new calendar is to be.
#[derive(Debug, Clone)]
pub struct NewCalendar {
    /// Its name.
    pub name: String,
    /// `#rrggbb`.
    pub color: Option<String>,
    /// Which kinds it accepts.
    pub kinds: Kinds,
}

/// How to ask for a new calendar.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MakeBy {
    /// MKCALENDAR.
    Mkcalendar,
    /// Extended MKCOL, for servers that do not know the former.
    Mkcol,
}

/// Asks for a new calendar.
#[must_use]
pub fn make_calendar(url: &Url, new: &NewCalendar, by: MakeBy) -> Request {
    let mut props = format!("<d:displayname>{}</d:displayname>", escape_xml(&new.name));
    if let Some(color) = &new.color {
        props += &format!("<i:calendar-color>{}</i:calendar-color>", escape_xml(color));
    }
    let kinds: String =
        new.kinds.iter().map(|k| format!(r#"<c:comp name="{}"/>"#, k.component_name())).collect();
    props += &format!("<c:supported-calendar-component-set>{kinds}</c:supported-calendar-component-set>");
    let (method, body) = match by {
        MakeBy::Mkcalendar => (
            "MKCALENDAR",
            format!(
                "{HEAD}<c:mkcalendar {NAMESPACES}><d:set><d:prop>{props}</d:prop></d:set></c:mkcalendar>"
            ),
        ),
        MakeBy::Mkcol => {
            let kind = "<d:resourcetype><d:collection/><c:calendar/></d:resourcetype>";
            (
                "MKCOL",
                format!(
                    "{HEAD}<d:mkcol {NAMESPACES}><d:set><d:prop>{kind}{props}</d:prop></d:set></d:mkcol>"
                ),
            )
        }
    };
    without_depth(xml_request(method, url.clone(), "0", body))
}

/// Reads the answer to [`make_calendar`]: 201, or 200 from some. `Ok(false)` means: try the other way to ask.
///
/// # Errors
/// The server refuses.
pub fn read_made(answer: &Answer) -> Result<bool, DavError> {
    match answer.status {
        // A multistatus says which property it did not like; then the calendar was not made.
        200 | 201 => Ok(true),
        207 | 400 | 405 | 415 | 501 => Ok(false),
        _ => check_status(answer, Asked::NewCalendar, &[201]).map(|()| true),
    }
}

/// Asks for another name, or another colour, of a calendar (PROPPATCH).
#[must_use]
pub fn rename_calendar(url: &Url, name: &str) -> Request {
    let props = format!("<d:displayname>{}</d:displayname>", escape_xml(name));
    let body = format!(
        "{HEAD}<d:propertyupdate {NAMESPACES}><d:set><d:prop>{props}</d:prop></d:set></d:propertyupdate>"
    );
    without_depth(xml_request("PROPPATCH", url.clone(), "0", body))
}

/// Reads the answer to [`rename_calendar`]. Success inside is known by its status alone.
///
/// # Errors
/// The server refuses, as a whole or for the property.
pub fn read_renamed(answer: &Answer) -> Result<(), DavError> {
    if answer.status == 200 {
        return Ok(());
    }
    let multistatus = Multistatus::read(answer, Asked::NewName)?;
    let root = parse_xml(&answer.body).ok();
    let responses = root.iter().flat_map(|root| root.all(DAV, "response"));
    let statuses = responses.flat_map(|r| r.all(DAV, "propstat")).filter_map(|p| p.child_text(DAV, "status"));
    let mut codes = statuses.filter_map(|line| line.split_whitespace().nth(1)?.parse::<u16>().ok());
    let whole = multistatus.responses.iter().find_map(|r| r.status);
    match codes.find(|code| !(200..300).contains(code)).or(whole.filter(|code| *code >= 300)) {
        None => Ok(()),
        Some(403) => Err(DavError::Forbidden { asked: Asked::NewName }),
        Some(status) => {
            Err(DavError::Status { asked: Asked::NewName, status, detail: None, retry_after: None })
        }
    }
}

/// Some servers refuse a Depth where none belongs.
fn without_depth(mut request: Request) -> Request {
    request.headers.retain(|(name, _)| *name != "Depth");
    request
}

/// Tells whether a resource type says that somebody else has shared the calendar.
pub(super) fn says_shared(types: &super::Element) -> bool {
    types.children.iter().any(|c| c.name == "shared" && &*c.namespace == super::CALENDARSERVER)
        || types.child(CALDAV, "shared").is_some()
}
