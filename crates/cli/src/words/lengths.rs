//! How long something is, and when it ends.

use jiff::SignedDuration;

use crate::render::{count, span_text};

/// How long something is, in the largest unit of which there are two.
pub(super) fn long_words(span: SignedDuration) -> String {
    match span.abs().as_mins() {
        minutes @ ..120 => count(usize::try_from(minutes).unwrap_or_default(), "minute", "minutes"),
        _ => span_text(span.abs().as_secs()),
    }
}

/// When something ends, in words that follow its name.
pub(super) fn expires(days: i64) -> String {
    match days {
        ..0 => "has expired".to_owned(),
        0 => "expires within a day".to_owned(),
        1 => "expires in a day".to_owned(),
        days => format!("expires in {days} days"),
    }
}
