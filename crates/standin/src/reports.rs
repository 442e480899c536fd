//! REPORT: multiget, query, sync-collection.

use std::collections::BTreeSet;

use chestnut_caldav::protocol::{CALDAV, DAV, Element, escape_xml, parse_xml};
use chestnut_core::ical::{Component, Limits, parse_one};
use chestnut_core::parse_time;
use percent_encoding::percent_decode_str;

use crate::exchange::{Access, Reply, ServerRequest};
use crate::failings::Failing;
use crate::habits::Habit;
use crate::names::one_in;
use crate::object_store::{Collection, Object, Server};
use crate::properties::{OPEN, href};

pub(crate) fn report(server: &Server, request: &ServerRequest, path: &str, user: &str) -> Reply {
    if server.access(path, user) < Access::Read {
        return server.foreign();
    }
    let Some(collection) = server.collections.get(path) else { return Reply::status(404) };
    let Ok(root) = parse_xml(&request.body) else { return Reply::status(400) };
    if server.has(Habit::DepthNeeded) && request.header("depth") != Some("1") {
        return Reply::xml(207, format!("{OPEN}</d:multistatus>"));
    }
    match root.name.as_str() {
        "calendar-multiget" => multiget(server, collection, path, &root),
        "calendar-query" => query(server, collection, path, &root),
        "free-busy-query" => free_busy(server, collection, &root),
        "sync-collection" => sync(server, collection, path, &root),
        _ => server.condition(403, "supported-report", None),
    }
}

fn missing(href: &str) -> Vec<u8> {
    let href = escape_xml(href);
    format!("<d:response><d:href>{href}</d:href><d:status>HTTP/1.1 404 Not Found</d:status></d:response>")
        .into_bytes()
}

fn with_data(server: &Server, path: &str, name: &str, object: &Object, batch: bool) -> Vec<u8> {
    let mut data = object.text.replace('\r', "");
    // The faults show in batches alone, so that a GET of the single entry still works.
    if batch && server.has(Habit::RawControls) && one_in(name, 8) {
        data = data.replacen("SUMMARY:", "SUMMARY:\u{8}", 1);
    }
    let mut text = if server.has(Habit::Cdata) { format!("<![CDATA[{data}]]>") } else { escape_xml(&data) };
    if server.has(Habit::SurrogateReferences) {
        text = text.chars().map(surrogates).collect();
    }
    let out = format!(
        "<d:response><d:href>{}</d:href><d:propstat><d:prop><d:getetag>{}</d:getetag><c:calendar-data>{text}</c:calendar-data></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>",
        escape_xml(&href(server, &format!("{path}{name}"))),
        escape_xml(&object.etag),
    );
    let mut bytes = out.into_bytes();
    if batch && server.has(Habit::InvalidUtf8) && one_in(name, 8) {
        let at = bytes.len() / 2;
        bytes[at] = 0xFF;
    }
    bytes
}

fn surrogates(c: char) -> String {
    let mut units = [0; 2];
    match c.encode_utf16(&mut units) {
        [one] => char::from_u32(u32::from(*one)).map(String::from).unwrap_or_default(),
        pair => pair.iter().map(|unit| format!("&#x{unit:X};")).collect(),
    }
}

fn multistatus(parts: &[Vec<u8>], tail: &str) -> Reply {
    let mut body = OPEN.as_bytes().to_vec();
    parts.iter().for_each(|part| body.extend_from_slice(part));
    body.extend_from_slice(tail.as_bytes());
    body.extend_from_slice(b"</d:multistatus>");
    Reply::xml(207, body)
}

fn multiget(server: &Server, collection: &Collection, path: &str, root: &Element) -> Reply {
    let mut parts = Vec::new();
    for asked in root.all(DAV, "href").map(|h| h.text.trim()) {
        let decoded = percent_decode_str(asked).decode_utf8_lossy().into_owned();
        let name = decoded.strip_prefix(path).unwrap_or(&decoded);
        match collection.objects.get(name) {
            Some(object) => parts.push(with_data(server, path, name, object, true)),
            None if server.has(Habit::MultigetFails) => return Reply::status(404),
            None if server.has(Habit::MultigetOmits) => {}
            None => parts.push(missing(&href(server, &decoded))),
        }
    }
    multistatus(&parts, "")
}

fn query(server: &Server, collection: &Collection, path: &str, root: &Element) -> Reply {
    let filter = root.child(CALDAV, "filter").and_then(|f| f.child(CALDAV, "comp-filter"));
    let matches = |object: &Object| {
        let Ok(calendar) = parse_one(object.text.as_bytes(), &Limits::default()) else { return false };
        filter.is_none_or(|f| comp_matches(server, f, &calendar))
    };
    let found = collection.objects.iter().filter(|(_, object)| matches(object));
    let parts: Vec<_> = found.map(|(name, object)| with_data(server, path, name, object, false)).collect();
    multistatus(&parts, "")
}

fn attribute<'e>(element: &'e Element, name: &str) -> Option<&'e str> {
    element.attributes.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
}

/// RFC 4791, 9.7; a series always matches a range, as on several real servers.
fn comp_matches(server: &Server, filter: &Element, component: &Component<'_>) -> bool {
    if !component.is(attribute(filter, "name").unwrap_or_default()) {
        return false;
    }
    filter.children.iter().all(|inner| match inner.name.as_str() {
        "comp-filter" => component.components().any(|c| comp_matches(server, inner, c)),
        "prop-filter" => {
            let property = component.property(attribute(inner, "name").unwrap_or_default());
            if inner.child(CALDAV, "is-not-defined").is_some() {
                return property.is_none();
            }
            let text = inner.child_text(CALDAV, "text-match").unwrap_or_default().to_lowercase();
            server.has(Habit::IgnoresTextFilters)
                || property.is_some_and(|p| p.value().to_lowercase().contains(&text))
        }
        "time-range" => in_range(server, inner, component),
        _ => true,
    })
}

fn in_range(server: &Server, range: &Element, component: &Component<'_>) -> bool {
    if component.property("RRULE").is_some() || component.property("RDATE").is_some() {
        return true;
    }
    let time = |value: Option<&str>| value.and_then(parse_time).map(|t| t.local());
    let Some(start) = time(component.value("DTSTART").or_else(|| component.value("DUE"))) else {
        return true;
    };
    let end = time(component.value("DTEND")).unwrap_or(start);
    let after = time(attribute(range, "start")).is_none_or(|from| {
        let inclusive = server.has(Habit::InclusiveRanges) || start == end;
        if inclusive { end >= from } else { end > from }
    });
    after && time(attribute(range, "end")).is_none_or(|to| start < to)
}

fn sync(server: &Server, collection: &Collection, path: &str, root: &Element) -> Reply {
    if server.has(Habit::NoSync) || server.has(Habit::NoSyncNoCtag) {
        return server.condition(403, "supported-report", None);
    }
    let asked = root.child_text(DAV, "sync-token");
    let current = server.token(collection);
    let state = asked.and_then(|t| t.rsplit('/').next()).map(str::parse::<u64>);
    let since = match (asked, state) {
        (None, _) => None,
        (Some(_), Some(Ok(state))) => Some(state),
        _ => return server.condition(403, "valid-sync-token", None),
    };
    let stale = asked.is_some_and(|token| token != current);
    let since = match since {
        Some(_) if stale && server.has(Habit::Forgets403) => {
            return server.condition(403, "valid-sync-token", None);
        }
        Some(_) if stale && server.has(Habit::Forgets412) => {
            return server.condition(412, "valid-sync-token", None);
        }
        Some(_) if stale && server.has(Habit::ForgetsSilently) => None,
        other => other,
    };
    let is_new = |changed: (u64, i64)| since.is_none_or(|state| server.is_after(changed, state));
    let frozen = server.failings.get(&Failing::FrozenMarks).copied().unwrap_or(u64::MAX);
    let newest = collection.newest().take_while(|(changed, ..)| is_new(*changed));
    let newest = newest.filter(|(changed, ..)| changed.0 <= frozen && server.shows(*changed));
    let mut changes: Vec<_> = newest.filter(|(_, _, object)| since.is_some() || object.is_some()).collect();
    changes.sort_by_key(|(changed, name, _)| (*changed, *name));
    let page = if server.has(Habit::Truncates507) { 20 } else { 50 };
    let cuts = server.has(Habit::Truncates507) || server.has(Habit::TruncatesSilently);
    let cut = cuts && changes.len() > page && !server.has(Habit::CountsSeconds);
    changes.truncate(if cut { page } else { changes.len() });
    let token = match changes.last() {
        Some(((revision, _), ..)) if cut => format!("https://standin.example/sync/{revision}"),
        _ => current,
    };
    let mut listed = BTreeSet::new();
    let mut parts: Vec<Vec<u8>> = changes
        .iter()
        .map(|(_, name, object)| {
            listed.insert(*name);
            entry_part(server, path, name, *object)
        })
        .collect();
    if server.has(Habit::SpuriousRemovals) {
        parts.push(missing(&href(server, &format!("{path}never-seen.ics"))));
    }
    if server.has(Habit::RepeatsLastChange) && changes.is_empty() {
        let last = collection.objects.iter().max_by_key(|(_, o)| o.changed);
        parts.extend(last.map(|(name, o)| entry_part(server, path, name, Some(o))));
    }
    if cut && server.has(Habit::Truncates507) {
        let own = escape_xml(&href(server, path));
        let status = "HTTP/1.1 507 Insufficient Storage";
        parts.push(
            format!("<d:response><d:href>{own}</d:href><d:status>{status}</d:status></d:response>")
                .into_bytes(),
        );
    }
    multistatus(&parts, &format!("<d:sync-token>{}</d:sync-token>", escape_xml(&token)))
}

fn entry_part(server: &Server, path: &str, name: &str, object: Option<&Object>) -> Vec<u8> {
    let href = href(server, &format!("{path}{name}"));
    match object {
        Some(object) => format!(
            "<d:response><d:href>{}</d:href><d:propstat><d:prop><d:getetag>{}</d:getetag></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>",
            escape_xml(&href),
            escape_xml(&object.etag)
        )
        .into_bytes(),
        None => missing(&href),
    }
}

/// When single events with times in UTC take place (RFC 4791, 7.10): enough for bookings that do not recur.
fn free_busy(server: &Server, collection: &Collection, root: &Element) -> Reply {
    if server.has(Habit::NoFreeBusy) {
        return server.condition(403, "supported-report", None);
    }
    let range = root.children.iter().find(|child| child.name == "time-range");
    let edge = |name: &str| {
        let found = range.and_then(|range| range.attributes.iter().find(|attribute| attribute.0 == name));
        found.map(|attribute| attribute.1.clone()).unwrap_or_default()
    };
    let (from, to) = (edge("start"), edge("end"));
    let mut text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VFREEBUSY\r\nDTSTAMP:{from}\r\nDTSTART:{from}\r\nDTEND:{to}\r\n"
    );
    for object in collection.objects.values() {
        let value =
            |name: &str| object.text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(':'));
        if let (Some(start), Some(end)) = (value("DTSTART"), value("DTEND")) {
            text += &format!("FREEBUSY:{start}/{end}\r\n");
        }
    }
    Reply::status(200).body("text/calendar; charset=utf-8", text + "END:VFREEBUSY\r\nEND:VCALENDAR\r\n")
}
