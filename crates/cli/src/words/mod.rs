//! Sentences for facts: one table for each kind of reason.

mod preview;
mod told;

pub(crate) use preview::why_words;
pub(crate) use told::told_words;
