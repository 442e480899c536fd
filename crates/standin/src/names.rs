//! What is told of names and texts alone, the same each time.

use std::fmt::Write as _;

use sha2::{Digest as _, Sha256};

/// A name that some servers refuse or lose: other characters than these, or a dot in front.
pub(crate) fn is_odd_name(name: &str) -> bool {
    let plain = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.');
    !name.bytes().all(plain) || name.starts_with('.') || name.len() > 200
}

pub(crate) fn hash(text: &str) -> String {
    let mut out = String::with_capacity(16);
    for byte in &Sha256::digest(text)[..8] {
        write!(out, "{byte:02x}").expect("writing to a string cannot fail");
    }
    out
}

/// Picks one name in so many, always the same ones.
pub(crate) fn one_in(name: &str, many: u8) -> bool {
    Sha256::digest(name)[0].is_multiple_of(many)
}
