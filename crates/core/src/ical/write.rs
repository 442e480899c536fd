//! Writes components as content lines, folded at 75 octets (RFC 5545, 3.1).

use super::{Component, Item};

/// Longest physical line in octets, the line end not counted.
const FOLD_AT: usize = 75;

/// Returns the component as text with CRLF line ends.
#[must_use]
pub fn write(component: &Component<'_>) -> String {
    let mut out = String::new();
    write_to(component, &mut out);
    out
}

/// Writes the component behind what `out` already holds.
pub fn write_to(component: &Component<'_>, out: &mut String) {
    out.push_str("BEGIN:");
    out.push_str(component.name());
    out.push_str("\r\n");
    for item in component.items() {
        match item {
            Item::Property(property) => fold_line(property.line(), out),
            Item::Component(inner) => write_to(inner, out),
        }
    }
    out.push_str("END:");
    out.push_str(component.name());
    out.push_str("\r\n");
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
