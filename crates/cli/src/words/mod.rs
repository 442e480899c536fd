//! Sentences for facts: one table for each kind of reason.

mod asking;
mod calendars;
mod causes;
mod failures;
pub(crate) mod keys;
mod left_out;
mod oddities;
mod preview;
mod probes;
mod routes;
mod runs;
mod sign_in;
mod start;
mod stories;
mod told;

pub(crate) use asking::{
    cannot_be_written, configuration_written, ends_before_it_begins, is_there_already, no_answer,
    no_random_numbers, no_such_run, nobody_can_be_asked, not_a_day, not_in_the_list, nothing_waits,
};
pub(crate) use calendars::{
    NEW_UIDS, NOT_THERE_YET, empty_name, feed_with_password, has_calendar, has_calendar_so_none_was_made,
    has_no_name, is_a_file, is_a_folder, keeps_its_name, made_and_not_there, made_differently, no_home,
    not_a_feed, not_made, not_one_calendar, not_renamed, renamed, server_has_calendar,
};
pub(crate) use causes::{cause_advice, cause_words};
pub(crate) use failures::{READ_ONLY_FEED, calendar_hint, dav_hint};
pub(crate) use left_out::{left_out_why, left_out_words};
pub(crate) use oddities::{interval, oddity_words};
pub(crate) use preview::why_words;
pub(crate) use probes::{
    PROBE_TITLE, cannot_probe_words, fault_advice, fault_words, probe_while_paused, skip_words, step_word,
};
pub(crate) use routes::{
    DELETE_COPIES, SHOWS, WAYS, WHAT_SHOWS, WHICH_WAY, WRITE_NOW, copies_remain, interrupted_sync,
    made_no_copies, needs_calendars, not_configured_any_more, not_retired, passed_over, paused_or_not,
    retired, retiring_asks_first, route_written, too_few_calendars, was_not_begun, which_calendars,
};
pub(crate) use runs::{
    gone_words, held_lines, invitation_warning, never_ran, not_a_duration, not_while_paused, preview_warning,
};
pub(crate) use sign_in::sign_in_words;
pub(crate) use start::first_configuration;
pub(crate) use stories::{WHICH_ONE, nowhere, part_words, story_words};
pub(crate) use told::{told_words, trouble_words};
