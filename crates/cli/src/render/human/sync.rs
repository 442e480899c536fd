//! What runs came to, for people.

use chestnut_core::LeftOut;
use chestnut_store::Counts;

use super::changes::change_lines;
use crate::exit_code::ExitCode;
use crate::render::{
    Clock, Column, and_more, clean, count, readable, start_text, style, summarised, table, zone_name,
};
use crate::report::sync::{Outcome, Run, Trouble};
use crate::words::{
    held_lines, left_out_why, left_out_words, moved_calendar_words, needs_decision, own_uids_words,
};

pub(crate) fn human(runs: &[Run], clock: &Clock, whole: bool, verbose: bool) -> String {
    let columns = [
        ("Route", Column::Name),
        ("To", Column::Name),
        ("Created", Column::Number),
        ("Updated", Column::Number),
        ("Deleted", Column::Number),
        ("In step", Column::Number),
        ("Requests", Column::Number),
        ("Result", Column::Prose),
    ];
    let (shown, hidden) = summarised(runs, whole || verbose, |run| !has_done_nothing(run));
    let rows: Vec<_> = shown.iter().flat_map(|run| rows(run)).collect();
    let mut out = if rows.is_empty() { String::new() } else { table(&columns, &rows) };
    out += &and_more(hidden, "chestnut status");
    for run in shown {
        out += &notes(run, clock, verbose);
        out += &waits(run);
    }
    if runs.iter().any(|run| run.held > 0) {
        out += held_lines();
    }
    out
}

/// What is not well: all that is told to whom wants to hear of nothing else.
pub(crate) fn unwell(runs: &[Run], clock: &Clock) -> String {
    let mut out = String::new();
    for run in runs {
        if run.held > 0 {
            out += &needs_decision(&run.route, run.held);
        }
        out += &waits(run);
        out += &trouble_lines(run, &[(&*run.damaged, DAMAGED), (&*run.failed, FAILED)], clock, false);
    }
    out
}

/// What a run that was not begun waits for.
fn waits(run: &Run) -> String {
    let failure = run.failure.as_ref().filter(|_| run.result == Outcome::Waiting);
    failure.map(|waits| style::paint(style::WARN, waits.lines())).unwrap_or_default()
}

/// Whether all was in step already.
fn has_done_nothing(run: &Run) -> bool {
    run.result == Outcome::Ok && run.calendars.values().all(|counts| *counts == Counts::default())
}

/// A row for each calendar that is written; what concerns the whole route stands in the first.
pub(crate) fn rows(run: &Run) -> Vec<Vec<String>> {
    let counts = |calendar: &String| run.calendars.get(calendar).copied().unwrap_or_default();
    let is_quiet = run.written.iter().all(|calendar| counts(calendar) == Counts::default());
    let result = match run.result {
        Outcome::Ok if is_quiet => style::paint(style::GOOD, "nothing to do"),
        Outcome::Ok => style::paint(style::GOOD, "done"),
        Outcome::Waiting => style::paint(style::WARN, "waits"),
        Outcome::Held => style::paint(
            style::WARN,
            format!("done; {} your decision", count(run.held, "change needs", "changes need")),
        ),
        Outcome::Failed if run.failure.as_ref().is_some_and(|f| f.code == ExitCode::Usage) => {
            style::paint(style::WARN, "not begun")
        }
        Outcome::Failed => style::paint(style::BAD, "failed"),
    };
    let number = |n: usize| n.to_string();
    let row = |(at, calendar): (usize, &String)| {
        let counts = counts(calendar);
        let first = |text: String| if at == 0 { text } else { String::new() };
        vec![
            first(clean(&run.route)),
            clean(calendar),
            number(counts.created),
            number(counts.updated),
            number(counts.deleted),
            first(number(run.in_step)),
            first(run.requests.to_string()),
            first(result.clone()),
        ]
    };
    run.written.iter().enumerate().map(row).collect()
}

/// What the table has no room for: what was left out, held, damaged or failed, and with `-v` every change.
pub(crate) fn notes(run: &Run, clock: &Clock, verbose: bool) -> String {
    let mut out = String::new();
    let route = &run.route;
    if run.linked > 0 {
        let linked =
            count(run.linked, "entry was already there and is", "entries were already there and are");
        out += &format!("{route}: {linked} linked without a write\n");
    }
    for calendar in &run.moved {
        out += &format!("{route}: {}\n", moved_calendar_words(&clean(calendar)));
    }
    for calendar in &run.own_uids {
        out += &format!("{route}: {}\n", own_uids_words(&clean(calendar)));
    }
    let is_news = run.left_out_before.as_ref() != Some(&run.left_out);
    // What was refused just now is named below: once is enough.
    let told: Vec<_> = run
        .left_out
        .iter()
        .filter(|(reason, _)| run.failed.is_empty() || reason.as_str() != LeftOut::Refused.key())
        .map(|(reason, n)| left_out_words(reason, *n))
        .collect();
    if !told.is_empty() && (is_news || verbose) {
        out += &format!("{route}: left out: {}\n", told.join(", "));
    }
    for (lacks, number) in &run.partly {
        let copies = count(*number, "copy", "copies");
        let words = match lacks.as_str() {
            "without-people" => "without the people its entry names: the far server would write to them",
            "in-unknown-zone" => {
                "in a time zone that is described nowhere: clients may show another time (-v names them)"
            }
            _ => "without attachments: with them it would be larger than the far server allows",
        };
        out += &format!("{route}: {copies} {words}\n");
    }
    if run.disagreements > 0 {
        let settled = count(run.disagreements, "disagreement settled", "disagreements settled");
        out += &format!(
            "{route}: {settled}; what did not count is kept: chestnut history {}\n",
            run.run.unwrap_or_default()
        );
    }
    if run.held > 0 {
        let deletions = run.held - run.held_disagreements - run.held_mail;
        for (number, one, many, why) in [
            (deletions, "deletion is", "deletions are", "above the route's limit"),
            (run.held_disagreements, "disagreement is", "disagreements are", "the route asks a person"),
            (run.held_mail, "change is", "changes are", "a server could write to people because of it"),
        ] {
            if number > 0 {
                let held = count(number, one, many);
                out += &style::paint(style::WARN, format!("{route}: {held} held: {why}\n"));
            }
        }
    }
    let troubles =
        [(&*run.newly_left_out, "newly left out"), (&*run.damaged, DAMAGED), (&*run.failed, FAILED)];
    out += &trouble_lines(run, &troubles, clock, verbose);
    if verbose && !run.changes.is_empty() {
        out += &format!("{route}: times in {}\n", zone_name(clock));
        out += &change_lines(&run.changes, clock);
    }
    out
}

const DAMAGED: &str = "not kept as sent";
const FAILED: &str = "failed";

/// Entries with which something is wrong, by what it is.
fn trouble_lines(run: &Run, troubles: &[(&[Trouble], &str)], clock: &Clock, verbose: bool) -> String {
    let mut out = String::new();
    for (troubles, what) in troubles.iter().filter(|(troubles, _)| !troubles.is_empty()) {
        let entries = count(troubles.len(), "entry", "entries");
        out += &style::paint(style::BAD, format!("{}: {entries}, {what}:\n", run.route));
        let shown = if verbose { troubles.len() } else { troubles.len().min(12) };
        for trouble in &troubles[..shown] {
            let start = start_text(&trouble.start, clock);
            // A key where it is left out, else words already.
            let reason = left_out_why(&trouble.reason);
            out += &format!("  {start:24} {}: {}\n", readable(&trouble.title), readable(&reason));
        }
        if shown < troubles.len() {
            out += &format!("  … and {} more; -v names them all\n", troubles.len() - shown);
        }
    }
    out
}
