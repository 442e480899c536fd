//! Writes components as content lines, folded at 75 octets (RFC 5545, 3.1).

use super::{Component, Item};

/// Longest physical line in octets, the line end not counted.
const FOLD_AT: usize = 75;

/// Returns the component as text with CRLF line ends.
#[must_use]
pub fn write(component: &Component<'_>) -> String {
    // A large calendar is held once more while it is written: not twice, as where a text grows.
    let mut out = String::with_capacity(length(component));
    write_to(component, &mut out);
    out
}

/// How long it becomes, but for what folding adds.
fn length(component: &Component<'_>) -> usize {
    let inside = component.raw().map_or_else(
        || {
            let each = component.items().iter().map(|item| match item {
                Item::Property(property) => property.line().len() + 2,
                Item::Component(inner) => length(inner),
            });
            each.sum()
        },
        str::len,
    );
    inside + 2 * component.name().len() + "BEGIN:\r\nEND:\r\n".len()
}

/// Writes the component behind what `out` already holds.
pub fn write_to(component: &Component<'_>, out: &mut String) {
    out.push_str("BEGIN:");
    out.push_str(component.name());
    out.push_str("\r\n");
    match component.raw() {
        Some(lines) if needs_no_folding(lines) => out.push_str(lines),
        _ => component.visit_items(&mut |item| match item {
            Item::Property(property) => fold_line(property.line(), out),
            Item::Component(inner) => write_to(inner, out),
        }),
    }
    out.push_str("END:");
    out.push_str(component.name());
    out.push_str("\r\n");
}

/// Tells whether lines that nobody changed can be passed on as they are: no physical line is too long, and each
/// ends as it should.
fn needs_no_folding(lines: &str) -> bool {
    let bytes = lines.as_bytes();
    let mut start = 0;
    for end in memchr::memchr_iter(b'\n', bytes) {
        let proper = end > start + 1 && bytes[end - 1] == b'\r' && end - 1 - start <= FOLD_AT;
        if !proper {
            return false;
        }
        start = end + 1;
    }
    start == bytes.len()
}

/// Writes one content line, folded so that no UTF-8 character is cut.
#[inline]
pub fn fold_line(line: &str, out: &mut String) {
    let mut rest = line;
    let mut room = FOLD_AT;
    while rest.len() > room {
        let cut = rest.floor_char_boundary(room);
        out.push_str(&rest[..cut]);
        out.push_str("\r\n ");
        rest = &rest[cut..];
        // The blank that marks a continuation counts.
        room = FOLD_AT - 1;
    }
    out.push_str(rest);
    out.push_str("\r\n");
}
