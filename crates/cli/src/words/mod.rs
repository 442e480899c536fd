//! Sentences for facts: one table for each kind of reason.

mod accounts;
mod asking;
mod calendars;
mod causes;
mod check;
mod checking;
mod configuration;
mod errors;
mod failures;
mod fields;
mod first_steps;
pub(crate) mod keys;
mod left_out;
mod lengths;
mod looking;
mod mistyped;
pub(crate) mod narration;
mod oddities;
mod overview;
mod preview;
mod probes;
mod problems;
mod routes;
mod runs;
mod secrets;
mod sign_in;
mod start;
mod stories;
mod tidy;
mod told;
mod troubles;
mod undo;
mod watching;

pub(crate) use accounts::{
    MOVE_ACCOUNT, NO_BROWSER, PAGE_OF_ANOTHER, PAGE_REFUSED, PAGE_SIGNED_IN, USER_OR_NONE, account_is_needed,
    account_is_there, account_moved, account_moves, account_written, key_in_keyring, keyring_takes_none,
    may_sign_in_at, moving_asks_first, needed_with_client, new_password_kept, no_calendar_recognised,
    no_device_address, no_keyring_for_password, no_oauth, no_place_of_secret, no_terminal_for_password,
    nobody_signed_in, not_a_proxy, not_a_server, not_an_address, not_an_origin, not_kept_by_chestnut,
    not_moved_account, not_signed_in, nothing_saved, open_in_browser, password_in_proxy,
    password_not_written, password_prompt, password_was_refused, service_not_reached, sign_in_also_needed,
    sign_in_in_address, tokens_not_kept, type_this_code,
};
pub(crate) use asking::{
    TYPE_YES_OR_NO, WHICH_ANSWER, all_alike, cannot_be_written, configuration_written, decision_taken_back,
    ends_before_it_begins, folder_in_use, is_there_already, no_answer, no_random_numbers, no_stand_ins,
    no_such_run, no_such_shell, nobody_can_be_asked, not_a_day, not_a_moment, not_answered, not_decided_yet,
    not_in_the_list, nothing_waits, one_of, pages_written, type_a_number, yes_or_no,
};
pub(crate) use calendars::{
    KEPT_AS_SECRET, NEW_UIDS, NOT_THERE_YET, ON_A_SERVER, calendar_failure, calendar_forgotten,
    calendar_is_needed, empty_name, entry_unreadable, feed_with_password, file_unreadable, has_calendar,
    has_calendar_so_none_was_made, has_no_name, is_a_file, is_a_folder, keeps_its_name, made_and_not_there,
    made_differently, no_home, not_a_feed, not_made, not_one_calendar, not_renamed, placed, rename_now,
    renamed, renames_for_everybody, renaming_asks_first, rights_word, server_has_calendar, was_not_renamed,
};
pub(crate) use causes::{cause_advice, cause_words};
pub(crate) use check::{
    ABOUT_BUNDLE, account_in_order, account_not_asked, bundle_not_written, bundle_written, calendar_in_order,
    calendar_not_asked, check_account_further, check_summary, idle_words, keep_password_anew,
    kinds_not_accepted, not_in_place, secrets_in_order, write_refused,
};
pub(crate) use checking::{
    NO_PRINCIPAL, PLAIN_HTTP, TRUSTED_THROUGH_PROXY, account_step_failed, answers, calendars_are_at,
    calendars_are_elsewhere, calendars_found, certificate_advice, certificate_ends, certificate_words,
    check_proxy, clocks_differ, condition_words, host_words, left_there, scheduling_words, sends_on,
    server_words, signed_in_words, write_step_words,
};
#[cfg(not(feature = "postgres"))]
pub(crate) use configuration::built_without_postgres;
pub(crate) use configuration::{
    another_domain, cannot_be_reached, changed_meanwhile, configuration_not_written, database_not_configured,
    feed_elsewhere, key_missing, key_of_another, no_accounts, no_configuration, no_configuration_to_change,
    no_configuration_to_read, no_name, no_routes, no_state_to_move, no_table, none_of_that_name,
    not_a_feed_address, not_a_resolver, not_on_a_server, nothing_called, of_file, several_of_that_name,
    state_backed_up, state_is_damaged, state_is_sound, state_moved, state_there_already, there_already,
    unknown_system_zone,
};
pub(crate) use errors::{InWords, kept_failure_words};
pub(crate) use failures::{account_failure, calendar_hint, dav_hint, hint_before_it_is_written};
pub(crate) use fields::{
    CHANGED, field_order, field_word, occurrence_came_or_went, of_occurrence, span_words, value_words,
    without_same_day,
};
pub(crate) use first_steps::{
    A_FEED, A_FILE, COPIES, FEED_ADDRESS, FIRST_FROM, MORE_COPIES, NAME_ON_SERVER, NEW_FOR_COPIES,
    NO_FEED_ADDRESS, NO_SERVER_ADDRESS, PASSWORD, SERVER_ADDRESS, THEN_ROUTE, THEN_TO, USER_NAME, WHICH,
    WHICH_FILE, WHICH_ZONE, WRITE_THIS, called_already, configured_already, has_a_password_already, it_holds,
    name_is_taken, name_of_this, no_calendar_yet, not_a_zone, nothing_was_written, on_a_server,
    one_of_account, password_again, this_writes, which_of_account, would_be_made, would_be_written,
    written_by_asking,
};
pub(crate) use left_out::{left_out_why, left_out_words, stopped_words};
pub(crate) use mistyped::{
    exclude_each_other, leads_to, needs_more, no_such_command, no_such_option, no_such_value, takes_no,
    value_does_not_fit,
};
pub(crate) use oddities::{interval, oddity_words};
pub(crate) use overview::{
    UNTITLED, needs, not_our_page, page_written, report_where, state_words, uncovered_words, verdict,
};
pub(crate) use preview::{
    each_says, no_text_of, stands_alone, stands_or_comes, stood_before, why_words, your_decision,
};
pub(crate) use probes::{
    PROBE_TITLE, cannot_probe_words, fault_advice, fault_words, probe_while_paused, skip_words, step_word,
};
pub(crate) use problems::{
    Problem, UnknownKey, declared_twice, lacking_key, lacking_secret, not_carried, not_toml,
    relay_in_a_circle, unknown_key, where_a_calendar_is, wrong_key,
};
pub(crate) use routes::{
    DELETE_COPIES, FROM_WHICH, HOW_FAR, REACHES, SHOWS, TASKS_TOO, TO_WHICH, WHICH_DETAILS, WRITE_NOW,
    account_paused_or_not, and_nothing_written, comes_back, copies_remain, deletes_too,
    deletes_too_both_ways, interrupted_sync, made_no_copies, needs_calendars, no_key_of_routes, no_setting,
    no_such_calendar, not_ahead, not_configured_any_more, not_retired, nothing_edited, passed_over,
    pause_words, paused_or_not, ran_under_that_name, retired, retiring_asks_first, route_edited,
    route_is_part, route_renamed, route_written, shows_words, too_few_calendars, was_not_begun,
    who_looks_there,
};
pub(crate) use runs::{
    gone_words, held_lines, invitation_warning, moved_calendar_words, needs_decision, never_ran,
    not_a_duration, not_run_yet_words, not_understood, not_while_paused, own_uids_words, phase_words,
    preview_warning, run_cut_off, scheduler_lines, stops_routes, use_preview, waiting_words,
};
#[cfg(not(feature = "keyring"))]
pub(crate) use secrets::NO_KEYRING;
pub(crate) use secrets::{
    CommandTrouble, Open, certificate_unreadable, holds_no_key, in_keyring, in_one_line, key_not_written,
    key_unreadable, keyring_gives_none, no_credentials, no_key, not_pem, not_signed_in_yet, not_tokens,
    others_may_read, secret_command_failed, secret_file_unreadable, secret_is_empty, variable_not_set,
};
pub(crate) use sign_in::sign_in_words;
pub(crate) use start::first_configuration;
pub(crate) use stories::{WHICH_ONE, nowhere, part_words, stays_behind, story_words};
pub(crate) use tidy::{
    DELETE_DOUBLES, doubles_stay, made_again, no_copies_there, no_doubles, nothing_deleted, only_read,
    remove_doubles, tidying_asks_first,
};
pub(crate) use told::{told_words, trouble_words};

/// Returns the lines of all sources under a folder that are found wrong, with their places; `passed` folders are not
/// looked into.
#[cfg(test)]
fn wrong_lines(folder: &std::path::Path, passed: &[&str], is_wrong: &dyn Fn(&str) -> bool) -> Vec<String> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            if !passed.iter().any(|name| path.ends_with(name)) {
                found.extend(wrong_lines(&path, passed, is_wrong));
            }
            continue;
        }
        let text = std::fs::read_to_string(&path).expect("a text");
        let lines = text.lines().enumerate().filter(|(_, line)| is_wrong(line));
        found.extend(lines.map(|(at, line)| format!("{}:{}: {}", path.display(), at + 1, line.trim())));
    }
    found
}

/// Failures are worded here, and in what renders for people; elsewhere they are only passed on.
#[test]
fn no_failure_is_worded_elsewhere() {
    let made = ["Failure::usage(", "Failure::failed(", "Failure::waiting("];
    // `hint` may hand on what `words` made, but no text of its own.
    let worded = ["format!(\"", "\""].map(|text| made.map(|made| format!("{made}{text}"))).concat();
    let is_wrong = |line: &str| {
        worded.iter().any(|made| line.contains(made))
            || line.contains(".hint(\"")
            || line.contains(".hint(format!")
    };
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let found = wrong_lines(&folder, &["words", "human"], &is_wrong);
    assert!(found.is_empty(), "{found:#?}");
}

/// Errors below this crate are facts whose display form is the debug form, and this crate prints none of them: what a
/// person reads of them is said in `errors.rs`. (An error of the system is called `system` where its words are shown.)
#[test]
fn what_fails_below_is_a_fact_and_reaches_nobody_as_it_is() {
    let crates = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).parent().expect("a folder");
    for below in ["core", "caldav", "store", "engine"] {
        let has_prose = |line: &str| line.contains("#[error(") && !line.contains("{self:?}");
        let found = wrong_lines(&crates.join(below).join("src"), &[], &has_prose);
        assert!(found.is_empty(), "{found:#?}");
    }
    let shown = ["error", "e"].map(|name| [format!("{{{name}}}"), format!("{name}.to_string()")]).concat();
    let is_shown = |line: &str| {
        shown.iter().any(|shown| {
            line.match_indices(shown.as_str()).any(|(at, _)| {
                !line[..at].ends_with(|before: char| before.is_alphanumeric() || before == '_')
            })
        })
    };
    let found = wrong_lines(&crates.join("cli").join("src"), &[], &is_shown);
    assert!(found.is_empty(), "{found:#?}");
}
pub(crate) use looking::{
    as_of_words, clock_change_words, fewer_days, free_busy_written, grid_legend, hidden_words,
    not_days_of_a_week, not_hours, not_long_enough, time_not_understood,
};
pub(crate) use troubles::{
    exit_words, nearly_over, no_time_left, nothing_to_do, trouble_advice, trouble_sentence, watched_already,
};
pub(crate) use undo::{
    PUT_BACK, TAKE_BACK, failed_to_put_back, follow_at_next_run, into_which, no_calendar_of_run,
    no_change_of_entry, no_run_like_that, no_text_kept, not_a_run, not_a_since, not_a_snapshot, not_put_back,
    not_taken_back, nothing_kept_before, nothing_to_take_back, old_texts_not_written, old_texts_written,
    paused_after_undo, restore_asks_first, restored_as, run_wrote_nothing, snapshot_written, undo_asks_first,
    undone_as, why_left_words,
};
pub(crate) use watching::{
    LIVE_KEYS, RESTS, cannot_listen, due_words, hangs_words, heartbeat_unheard, left_to_newer,
    left_to_other_machine, listening_words, looks_in_its_time, needs_restart, never_began_words, note_words,
    outcome_words, paused_since_words, paused_until_words, paused_with_words, read_again, route_error_words,
    run_words, signal_words, stale_words, state_left, state_not_usable, state_words_for_health,
    state_written, trouble_turn_words, troubles_words, unit_text, untold_words, watch_begins, watch_ends,
    watched_since,
};
