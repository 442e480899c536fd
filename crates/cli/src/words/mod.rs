//! Sentences for facts: one table for each kind of reason.

mod causes;
mod failures;
mod left_out;
mod oddities;
mod preview;
mod probes;
mod runs;
mod sign_in;
mod stories;
mod told;

pub(crate) use causes::{cause_advice, cause_words};
pub(crate) use failures::{READ_ONLY_FEED, calendar_hint, dav_hint};
pub(crate) use left_out::{left_out_why, left_out_words};
pub(crate) use oddities::{interval, oddity_words};
pub(crate) use preview::why_words;
pub(crate) use probes::{
    PROBE_TITLE, cannot_probe_words, fault_advice, fault_words, probe_while_paused, skip_words, step_word,
};
pub(crate) use runs::{
    gone_words, held_lines, invitation_warning, never_ran, not_a_duration, not_while_paused, preview_warning,
};
pub(crate) use sign_in::sign_in_words;
pub(crate) use stories::{WHICH_ONE, nowhere, part_words, story_words};
pub(crate) use told::{told_words, trouble_words};
