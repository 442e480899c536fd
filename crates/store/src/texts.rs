//! Texts, compressed: calendar data shrinks to a half, two versions of one entry to a third.

use lz4_flex::block::{compress_prepend_size, decompress_size_prepended};

use crate::records::{Agreed, ReplicaTexts};

/// Larger than any text that was ever packed: a damaged blob must not ask for all memory.
const LONGEST: usize = 512 << 20;

pub(crate) fn pack(text: &str) -> Vec<u8> {
    compress_prepend_size(text.as_bytes())
}

/// `None` where the bytes are no text of ours: the caller reads the entry afresh then.
pub(crate) fn unpack(blob: &[u8]) -> Option<String> {
    let size = u32::from_le_bytes(*blob.first_chunk::<4>()?) as usize;
    let bytes = if size > LONGEST { return None } else { decompress_size_prepended(blob).ok()? };
    String::from_utf8(bytes).ok()
}

/// Both texts in one blob, the length of the first in front.
pub(crate) fn pack_agreed(agreed: &Agreed) -> Vec<u8> {
    pack(&format!("{}\n{}{}", agreed.source.len(), agreed.source, agreed.target))
}

pub(crate) fn unpack_agreed(blob: &[u8]) -> Option<Agreed> {
    let whole = unpack(blob)?;
    let (length, texts) = whole.split_once('\n')?;
    let (source, target) = texts.split_at_checked(length.parse().ok()?)?;
    Some(Agreed { source: source.to_owned(), target: target.to_owned() })
}

pub(crate) fn pack_replicas(texts: &ReplicaTexts) -> Vec<u8> {
    pack(&serde_json::to_string(texts).expect("plain values turn into JSON"))
}

pub(crate) fn unpack_replicas(blob: &[u8]) -> Option<ReplicaTexts> {
    serde_json::from_str(&unpack(blob)?).ok()
}
