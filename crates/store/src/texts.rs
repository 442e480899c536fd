//! Texts, compressed: calendar data shrinks to a third.

use std::io::{Read as _, Write as _};

use flate2::Compression;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;

pub(crate) fn pack(text: &str) -> Vec<u8> {
    let mut encoder = DeflateEncoder::new(Vec::with_capacity(text.len() / 2), Compression::fast());
    encoder.write_all(text.as_bytes()).expect("writing to memory cannot fail");
    encoder.finish().expect("writing to memory cannot fail")
}

/// `None` where the bytes are no text of ours: the caller reads the entry afresh then.
pub(crate) fn unpack(blob: &[u8]) -> Option<String> {
    let mut text = String::new();
    DeflateDecoder::new(blob).read_to_string(&mut text).ok()?;
    Some(text)
}
