//! PROPFIND, PROPPATCH and MKCALENDAR.

use chestnut_caldav::protocol::{APPLE, CALDAV, CALENDARSERVER, DAV, Element, escape_xml, parse_xml};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

use crate::exchange::{Access, Reply, ServerRequest};
use crate::habits::Habit;
use crate::names::is_odd_name;
use crate::object_store::{Collection, Server};

const SAFE: &AsciiSet = &NON_ALPHANUMERIC.remove(b'/').remove(b'-').remove(b'_').remove(b'.').remove(b'~');
pub(crate) const OPEN: &str = r#"<?xml version="1.0" encoding="utf-8"?><d:multistatus xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:caldav" xmlns:s="http://calendarserver.org/ns/" xmlns:i="http://apple.com/ns/ical/">"#;

/// Writes a path as this server writes hrefs.
pub(crate) fn href(server: &Server, path: &str) -> String {
    let escaped = utf8_percent_encode(path, SAFE).to_string();
    let escaped = if server.has(Habit::LowerHexHrefs) { lower_hex(&escaped) } else { escaped };
    let escaped = if server.has(Habit::LowerHexHrefs) { escaped } else { escaped.replace("%40", "@") };
    if server.has(Habit::AbsoluteHrefs) {
        return format!("http://calendar.example:80{escaped}");
    }
    match escaped.rsplit_once('/') {
        Some((_, name)) if server.has(Habit::BareHrefs) && !name.is_empty() => name.to_owned(),
        _ => escaped,
    }
}

fn lower_hex(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut left = 0_u8;
    for c in text.chars() {
        left = if c == '%' { 3 } else { left };
        out.push(if left > 0 { c.to_ascii_lowercase() } else { c });
        left = left.saturating_sub(1);
    }
    out
}

pub(crate) fn propfind(server: &Server, request: &ServerRequest, path: &str, user: &str) -> Reply {
    let root = if request.body.is_empty() { Ok(Element::default()) } else { parse_xml(&request.body) };
    let Ok(root) = root else { return Reply::status(400) };
    let wanted: Vec<(String, String)> = match root.child(DAV, "prop") {
        Some(prop) => prop.children.iter().map(|c| (c.namespace.to_string(), c.name.clone())).collect(),
        None => [(DAV, "resourcetype"), (DAV, "displayname"), (DAV, "getetag"), (DAV, "getcontenttype")]
            .map(|(ns, name)| (ns.to_owned(), name.to_owned()))
            .to_vec(),
    };
    let deep = request.header("depth") != Some("0");
    let mut out = OPEN.to_owned();
    let slashed = if path.ends_with('/') { path.to_owned() } else { format!("{path}/") };
    if let Some(collection) = server.collections.get(&slashed) {
        if server.access(&slashed, user) < Access::Read {
            return server.foreign();
        }
        push_collection(server, &mut out, &slashed, collection, &wanted, user);
        let lost = |name: &str| server.has(Habit::LosesNames) && is_odd_name(name);
        let members = deep.then_some(&collection.objects).into_iter().flatten();
        let objects = members.filter(|(name, object)| !lost(name) && server.shows(object.changed));
        for (name, object) in objects {
            let values = wanted.iter().map(|(ns, prop)| match (ns.as_str(), prop.as_str()) {
                (DAV, "getetag") => Some(escape_xml(&object.etag)),
                (DAV, "resourcetype") => Some(String::new()),
                (DAV, "getcontenttype") => Some("text/calendar; charset=utf-8".to_owned()),
                (DAV, "getcontentlength") => Some(object.text.len().to_string()),
                _ => None,
            });
            push_response(&mut out, &href(server, &format!("{slashed}{name}")), &wanted, values);
        }
    } else if let Some((calendar, name)) = Server::locate(path)
        && let Some(object) = server.collections.get(calendar).and_then(|c| c.objects.get(name))
    {
        let values = wanted.iter().map(|(ns, prop)| {
            ((ns.as_str(), prop.as_str()) == (DAV, "getetag")).then(|| escape_xml(&object.etag))
        });
        push_response(&mut out, &href(server, path), &wanted, values);
    } else if slashed == "/" || slashed == server.principal(user) || slashed == server.home(user) {
        let is_of_calendars = |(_, prop): &(String, String)| {
            matches!(prop.as_str(), "sync-token" | "getctag" | "quota-available-bytes" | "quota-used-bytes")
        };
        if server.has(Habit::FailsOnRoot) && wanted.iter().any(is_of_calendars) {
            return Reply::status(500);
        }
        push_plain(server, &mut out, &slashed, &wanted, user);
        if deep && slashed == server.home(user) {
            push_home(server, &mut out, &slashed, &wanted, user);
        }
    } else if server.has(Habit::GoneInside207) {
        out.push_str(&format!(
            "<d:response><d:href>{}</d:href><d:status>HTTP/1.1 404 Not Found</d:status></d:response>",
            escape_xml(&href(server, path))
        ));
    } else if server.users.keys().any(|other| other != user && path.starts_with(&format!("/{other}/"))) {
        return server.foreign();
    } else {
        return Reply::status(404);
    }
    out.push_str("</d:multistatus>");
    Reply::xml(207, out)
}

fn push_home(server: &Server, out: &mut String, home: &str, wanted: &[(String, String)], user: &str) {
    for (path, collection) in &server.collections {
        let own = path.starts_with(home);
        if own || server.access(path, user) >= Access::Read && collection.shares.contains_key(user) {
            push_collection(server, out, path, collection, wanted, user);
        }
    }
    if server.has(Habit::CrowdedHome) {
        let types = [
            ("inbox", "<d:collection/><c:schedule-inbox/>"),
            ("outbox", "<d:collection/><c:schedule-outbox/>"),
            ("notifications", "<d:collection/><s:notification/>"),
            ("contacts", "<d:collection/><a:addressbook xmlns:a=\"urn:ietf:params:xml:ns:carddav\"/>"),
        ];
        for (name, types) in types {
            let values = wanted.iter().map(|(_, prop)| (prop == "resourcetype").then(|| types.to_owned()));
            push_response(out, &href(server, &format!("{home}{name}/")), wanted, values);
        }
    }
}

/// `values`: one for each wanted property, `None` where the server has none.
fn push_response(
    out: &mut String,
    href: &str,
    wanted: &[(String, String)],
    values: impl Iterator<Item = Option<String>>,
) {
    let (mut found, mut missing) = (String::new(), String::new());
    for ((namespace, name), value) in wanted.iter().zip(values) {
        let escaped = escape_xml(namespace);
        match value {
            Some(value) => found.push_str(&format!("<x:{name} xmlns:x=\"{escaped}\">{value}</x:{name}>")),
            None => missing.push_str(&format!("<x:{name} xmlns:x=\"{escaped}\"/>")),
        }
    }
    out.push_str(&format!("<d:response><d:href>{}</d:href>", escape_xml(href)));
    for (status, props) in [("200 OK", found), ("404 Not Found", missing)] {
        if !props.is_empty() {
            out.push_str(&format!(
                "<d:propstat><d:prop>{props}</d:prop><d:status>HTTP/1.1 {status}</d:status></d:propstat>"
            ));
        }
    }
    out.push_str("</d:response>");
}

fn push_plain(server: &Server, out: &mut String, path: &str, wanted: &[(String, String)], user: &str) {
    let principal = format!("<d:href>{}</d:href>", href_plain(&server.principal(user)));
    let at_principal = path == server.principal(user);
    let values = wanted.iter().map(|(ns, prop)| match (ns.as_str(), prop.as_str()) {
        (DAV, "resourcetype") if at_principal => Some("<d:collection/><d:principal/>".to_owned()),
        (DAV, "resourcetype") => Some("<d:collection/>".to_owned()),
        (DAV, "current-user-principal" | "owner" | "principal-URL") => Some(principal.clone()),
        (DAV, "displayname") if at_principal => Some(escape_xml(user)),
        (CALDAV, "calendar-user-address-set") if at_principal && server.has(Habit::TellsAddresses) => {
            Some(format!("<d:href>{}</d:href>", Server::address(user)))
        }
        (CALDAV, "schedule-outbox-URL") if at_principal && server.schedules() => {
            Some(format!("<d:href>{}</d:href>", href_plain(&format!("{}outbox/", server.home(user)))))
        }
        (CALDAV, "calendar-home-set") if server.has(Habit::HomeNamesAnother) && path == server.home(user) => {
            Some("<d:href>/nobody/calendars/</d:href>".to_owned())
        }
        (CALDAV, "calendar-home-set") if at_principal => {
            Some(format!("<d:href>{}</d:href>", href_plain(&server.home(user))))
        }
        _ => None,
    });
    push_response(out, &href(server, path), wanted, values);
}

fn href_plain(path: &str) -> String {
    escape_xml(&utf8_percent_encode(path, SAFE).to_string())
}

fn push_collection(
    server: &Server,
    out: &mut String,
    path: &str,
    collection: &Collection,
    wanted: &[(String, String)],
    user: &str,
) {
    let sync = !server.has(Habit::NoSync) && !server.has(Habit::NoSyncNoCtag);
    let owner = path.split('/').nth(1).unwrap_or_default();
    let values = wanted.iter().map(|(ns, prop)| match (ns.as_str(), prop.as_str()) {
        (DAV, "resourcetype") if server.has(Habit::CrowdedHome) => {
            Some("<d:collection/><c:calendar/><c:schedule-outbox/>".to_owned())
        }
        (DAV, "resourcetype") => Some("<d:collection/><c:calendar/>".to_owned()),
        (DAV, "displayname") => Some(display_name(server, collection)),
        (DAV, "current-user-principal") => {
            Some(format!("<d:href>{}</d:href>", href_plain(&server.principal(user))))
        }
        (DAV, "owner") => Some(format!("<d:href>{}</d:href>", href_plain(&server.principal(owner)))),
        (DAV, "sync-token") if sync => Some(server.token(collection)),
        (DAV, "current-user-privilege-set") if !server.has(Habit::NoPrivileges) => {
            let write = server.access(path, user) == Access::Write;
            let rights = ["read"].into_iter().chain(write.then_some("write"));
            Some(rights.map(|r| format!("<d:privilege><d:{r}/></d:privilege>")).collect())
        }
        (DAV, "supported-report-set") => {
            let mut reports = vec!["c:calendar-multiget", "c:calendar-query"];
            reports.extend(sync.then_some("d:sync-collection"));
            let one =
                |r: &&str| format!("<d:supported-report><d:report><{r}/></d:report></d:supported-report>");
            Some(reports.iter().map(one).collect())
        }
        (CALDAV, "supported-calendar-component-set") => {
            Some(server.kinds_of(collection).iter().map(|k| format!("<c:comp name=\"{k}\"/>")).collect())
        }
        (DAV, "quota-available-bytes" | "quota-used-bytes") => {
            let used: usize = collection.objects.values().map(|object| object.text.len()).sum();
            let whole = if server.quota > 0 { server.quota } else { 50_000_000 };
            let is_used = prop == "quota-used-bytes";
            Some(if is_used { used } else { whole.saturating_sub(used) }.to_string())
        }
        (CALDAV, "max-resource-size") if server.has(Habit::SizeLimit413) => Some("2000".to_owned()),
        (CALENDARSERVER, "getctag") if !server.has(Habit::NoSyncNoCtag) => Some(server.token(collection)),
        (APPLE, "calendar-color") if !collection.color.is_empty() => {
            Some(format!("{}{}", collection.color, if server.has(Habit::AlphaColors) { "FF" } else { "" }))
        }
        _ => None,
    });
    push_response(out, &href(server, path), wanted, values);
}

fn display_name(server: &Server, collection: &Collection) -> String {
    let name = escape_xml(&collection.name);
    if server.has(Habit::BrokenNames) {
        return format!("{name} &#xD83C;&#xDF33; &#xD83C; &#xFFFF;");
    }
    if server.has(Habit::DoubleEscapes) { escape_xml(&name) } else { name }
}

/// Reads name, colour and kinds out of `<set><prop>`.
fn set_properties(root: &Element, collection: &mut Collection, only_name: bool) {
    for prop in root.all(DAV, "set").flat_map(|set| set.all(DAV, "prop")) {
        if let Some(name) = prop.child_text(DAV, "displayname") {
            collection.name = name.to_owned();
        }
        if only_name {
            continue;
        }
        if let Some(color) = prop.child_text(APPLE, "calendar-color") {
            collection.color = color.to_owned();
        }
        if let Some(set) = prop.child(CALDAV, "supported-calendar-component-set") {
            let names = set.all(CALDAV, "comp").flat_map(|c| &c.attributes).filter(|(key, _)| key == "name");
            collection.kinds = names.map(|(_, name)| name.clone()).collect();
        }
    }
}

pub(crate) fn proppatch(server: &mut Server, request: &ServerRequest, path: &str, user: &str) -> Reply {
    if server.access(path, user) < Access::Write {
        return server.foreign();
    }
    let Ok(root) = parse_xml(&request.body) else { return Reply::status(400) };
    let Some(collection) = server.collections.get_mut(path) else { return Reply::status(404) };
    set_properties(&root, collection, false);
    // A new name changes the token although no entry changed: seen on real servers.
    server.touch(path);
    let body = format!(
        "{OPEN}<d:response><d:href>{}</d:href><d:propstat><d:prop/><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response></d:multistatus>",
        escape_xml(&href(server, path))
    );
    Reply::xml(207, body)
}

pub(crate) fn make_calendar(server: &mut Server, request: &ServerRequest, path: &str, user: &str) -> Reply {
    let path = format!("{}/", path.trim_end_matches('/'));
    if !path.starts_with(&server.home(user)) {
        return server.foreign();
    }
    if server.collections.contains_key(&path) {
        return Reply::status(405);
    }
    let root = if request.body.is_empty() { Ok(Element::default()) } else { parse_xml(&request.body) };
    let Ok(root) = root else { return Reply::status(400) };
    let last = path.trim_end_matches('/').rsplit('/').next().unwrap_or_default();
    let mut collection = Collection { name: last.to_owned(), ..Collection::default() };
    set_properties(&root, &mut collection, server.has(Habit::ForgetfulMkcalendar));
    server.collections.insert(path.clone(), collection);
    server.touch(&path);
    Reply::status(201)
}
