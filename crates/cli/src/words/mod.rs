//! Sentences for facts: one table for each kind of reason.

mod left_out;
mod preview;
mod told;

pub(crate) use left_out::left_out_why;
pub(crate) use preview::why_words;
pub(crate) use told::told_words;
