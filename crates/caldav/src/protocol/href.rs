//! Hrefs as servers write them, and as this program compares them.

use chestnut_core::ObjectHref;
use percent_encoding::{AsciiSet, CONTROLS, utf8_percent_encode};
use url::Url;

/// What a path keeps as it is: unreserved characters, sub-delims, `:`, `@` and `/` (RFC 3986, 3.3). A percent
/// sign stands for itself, since decoding leaves `%2F` and `%25` as they are.
const PATH: &AsciiSet = &CONTROLS
    .add(b' ')
    .add(b'"')
    .add(b'#')
    .add(b'<')
    .add(b'>')
    .add(b'?')
    .add(b'`')
    .add(b'{')
    .add(b'}')
    .add(b'[')
    .add(b']')
    .add(b'\\')
    .add(b'^')
    .add(b'|');

/// Returns the path of a href, decoded: servers escape otherwise than they were sent, add the host, or give a
/// bare name. `%2F` and `%25` stay, so that no two paths become one. `None` where it names no place on a server: one with
/// `.` or `..` in it is sent as another (RFC 3986, 5.2.4).
#[must_use]
pub fn href_of(raw: &str, base: &Url) -> Option<ObjectHref> {
    let raw = raw.trim();
    let path = if raw.starts_with('/') {
        raw.to_owned()
    } else if raw.contains("://") {
        Url::parse(raw).ok()?.path().to_owned()
    } else {
        // A bare name belongs to the collection; `:` in it is no scheme.
        let folder = base.path().rsplit_once('/').map_or("", |(folder, _)| folder);
        format!("{folder}/{raw}")
    };
    let path = decode(&path);
    let is_place = path.starts_with('/') && !path.split('/').any(|part| matches!(part, "." | ".."));
    is_place.then(|| ObjectHref::from(path))
}

/// Returns the path of an object as it is kept: relative to its calendar, of which `folder` is the [path](canonical_path),
/// where it stands there (RFC 3986, 4.2); whole, with a slash before it, where it stands elsewhere.
#[must_use]
pub fn within(href: ObjectHref, folder: &str) -> ObjectHref {
    match href.as_str().strip_prefix(folder) {
        Some(name) if !name.is_empty() && !name.starts_with('/') => ObjectHref::from(name),
        _ => href,
    }
}

/// Returns the path of an object of a calendar, from a href, as [`within`] has it.
#[must_use]
pub fn object_href(raw: &str, calendar: &Url) -> Option<ObjectHref> {
    href_of(raw, calendar).map(|href| within(href, &canonical_path(calendar)))
}

/// Returns the address of a decoded path, whole or relative to `base`.
#[must_use]
pub fn url_of(href: &ObjectHref, base: &Url) -> Url {
    let mut url = base.clone();
    url.set_query(None);
    let path = match href.as_str() {
        // No path at all is not the calendar: what is done there would be done to all of it.
        whole if whole.is_empty() || whole.starts_with('/') => whole.to_owned(),
        name => canonical_path(base) + name,
    };
    url.set_path(&utf8_percent_encode(&path, PATH).to_string());
    url
}

/// Returns the one form of an address: two that have the same lead to the same calendar. The path is decoded but for `/`
/// and `%`, with one slash at its end; the host is in lower case.
#[must_use]
pub fn canonical(url: &Url) -> String {
    format!("{}{}", url.origin().ascii_serialization(), canonical_path(url))
}

/// Returns the path of [`canonical`].
#[must_use]
pub fn canonical_path(url: &Url) -> String {
    format!("{}/", decode(url.path()).trim_end_matches('/'))
}

fn decode(path: &str) -> String {
    let bytes = path.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut i = 0;
    while i < bytes.len() {
        let escaped = bytes.get(i + 1..i + 3).and_then(|hex| std::str::from_utf8(hex).ok());
        match escaped.filter(|_| bytes[i] == b'%').and_then(|hex| u8::from_str_radix(hex, 16).ok()) {
            Some(byte @ (b'/' | b'%')) => {
                out.extend_from_slice(format!("%{byte:02X}").as_bytes());
                i += 3;
            }
            Some(byte) => {
                out.push(byte);
                i += 3;
            }
            None => {
                out.push(bytes[i]);
                i += 1;
            }
        }
    }
    String::from_utf8(out).unwrap_or_else(|_| path.to_owned())
}
