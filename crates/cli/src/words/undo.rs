//! Sentences about taking runs back.

use std::path::Path;

use chestnut_core::NotASnapshot;
use chestnut_engine::WhyLeft;

use crate::failure::Failure;
use crate::render::{clean, count, typed};
use crate::report::snapshot::Report;
use crate::report::undo::Taken;
use crate::words::{InWords as _, cannot_be_written};

pub(crate) const TAKE_BACK: &str = "Take this back now?";

/// Why something is not put back, and what to do about it.
///
/// `first` is the oldest of the runs that are taken back.
pub(crate) fn why_left_words(why: &WhyLeft, first: i64) -> String {
    match why {
        WhyLeft::BuiltOn { run } => format!(
            "run {run} of the same route changed it since: undo {run} first, or `chestnut undo {first}..` for all of them"
        ),
        WhyLeft::ChangedBy { run, route } => format!("run {run} of {} changed it since", clean(route)),
        WhyLeft::ChangedBySomebody => "somebody changed it since".to_owned(),
        WhyLeft::WouldMail => "its server could write to people because of it".to_owned(),
        WhyLeft::NotKnown => "its text was not kept, or what stands there now cannot be read".to_owned(),
        WhyLeft::NoCalendar => "the route no longer writes into that calendar".to_owned(),
    }
}

pub(crate) fn nothing_to_take_back(already: usize) -> String {
    match already {
        0 => "there is nothing to put back".to_owned(),
        number => {
            count(number, "entry is as it was before already", "entries are as they were before already")
        }
    }
}

pub(crate) fn follow_at_next_run(routes: &[String]) -> String {
    let verb = if routes.len() == 1 { "follows" } else { "follow" };
    format!("{} {verb} at the next run, since what is put back goes on from there", routes.join(", "))
}

pub(crate) fn undone_as(taken: &Taken) -> String {
    let counts = counts_words(taken);
    match taken.run {
        Some(run) => {
            format!("Taken back, as run {run}: {counts}\n  do it again after all: chestnut undo {run}\n")
        }
        None => format!("Taken back: {counts}\n"),
    }
}

/// A calendar was put back.
pub(crate) fn restored_as(taken: &Taken) -> String {
    let counts = counts_words(taken);
    match taken.run {
        Some(run) => format!("Done, as run {run}: {counts}\n  take it back: chestnut undo {run}\n"),
        None => format!("Done: {counts}\n"),
    }
}

fn counts_words(taken: &Taken) -> String {
    let counts =
        [(taken.deleted, "deleted"), (taken.replaced, "put back"), (taken.restored, "created again")];
    let counts: Vec<_> =
        counts.into_iter().filter(|(number, _)| *number > 0).map(|(n, what)| format!("{n} {what}")).collect();
    if counts.is_empty() { "nothing was put back".to_owned() } else { counts.join(", ") }
}

pub(crate) fn failed_to_put_back(calendar: &str, title: &str, words: &str) -> String {
    format!("  not put back: {title} in {calendar}: {words}\n")
}

pub(crate) fn paused_after_undo(route: &str) -> String {
    format!(
        "Route {route} is paused, until you have looked and let it go on:\n  \
         chestnut route resume {typed}\n\
         What was taken back stays so until its source changes, or until you run\n  \
         chestnut sync {typed} --entry WORDS\n",
        typed = typed(route)
    )
}

/// Nobody can be asked.
pub(crate) fn undo_asks_first(run: &str) -> Failure {
    Failure::usage(format!("taking run {run} back changes calendars, and asks first"))
        .hint("Say --yes to go on.")
}

/// A person said no.
pub(crate) fn not_taken_back() -> Failure {
    Failure::usage("nothing was taken back".to_owned())
}

/// What was typed is not the number of a run.
pub(crate) fn not_a_run(typed: &str) -> Failure {
    Failure::usage(format!("`{typed}` is not the number of a run"))
        .hint("Say `12` for one run, or `12..` for it and all later ones of its route; `chestnut history` lists them.")
}

/// None of the calendars of a retired route is configured.
pub(crate) fn no_calendar_of_run(run: i64, route: &str) -> Failure {
    Failure::usage(format!("run {run} cannot be taken back: route {route} is no longer configured, and neither is any calendar that the run wrote"))
        .hint("`chestnut calendar add` makes a calendar known again, under the name that it had.")
}

/// A run of a retired route did nothing.
pub(crate) fn run_wrote_nothing(run: i64, route: &str) -> Failure {
    Failure::usage(format!("run {run} of {route} wrote nothing; there is nothing to take back"))
        .hint("`chestnut history` lists the runs, and how much each wrote.")
}

/// No run is remembered that changed such an entry.
pub(crate) fn no_change_of_entry(typed: &[String]) -> Failure {
    let typed: Vec<_> = typed.iter().map(|words| format!("`{}`", clean(words))).collect();
    Failure::failed(format!("no run that is remembered changed an entry {}", typed.join(" or ")))
        .hint("Name it by words of its title, by its UID, or by a day such as 2026-10-05 or \"Mon 5 Oct\"; --last N looks through more runs.")
}

/// None of the changes replaced or deleted a text.
pub(crate) fn no_text_kept() -> Failure {
    Failure::failed("none of these changes replaced or deleted anything: there is no old text to write")
}

/// What was typed says no day and no time.
pub(crate) fn not_a_since(typed: &str) -> Failure {
    Failure::usage(format!("`{}` is neither a day nor a length of time", clean(typed)))
        .hint("Write a day such as 2026-10-05, \"5 Oct\" or yesterday, or how long ago, such as \"7 days\".")
}

pub(crate) fn old_texts_written(path: &Path, entries: usize) -> String {
    let number = count(entries, "entry as it stood before is", "entries as they stood before are");
    format!("{number} written to {}\n", clean(&path.display().to_string()))
}

pub(crate) fn old_texts_not_written(path: &Path, error: &std::io::Error) -> Failure {
    let failure = cannot_be_written(path, error);
    match error.kind() {
        std::io::ErrorKind::AlreadyExists => {
            failure.hint("Name a file that is not there yet: nothing is written over.")
        }
        _ => failure,
    }
}

pub(crate) const PUT_BACK: &str = "Put this back now?";

/// A snapshot was written.
pub(crate) fn snapshot_written(report: &Report) -> String {
    let entries = count(report.entries, "entry", "entries");
    let (calendar, file) = (clean(&report.calendar), clean(&report.file));
    let mut out = format!(
        "{calendar}: {entries} kept in {file}; `chestnut restore {typed}` puts back what is missing or changed then\n",
        typed = typed(&file)
    );
    if !report.unreadable.is_empty() {
        let number =
            count(report.unreadable.len(), "entry that cannot be read is", "entries that cannot be read are");
        out += &format!("{number} not in it:\n");
        report.unreadable.iter().for_each(|href| out += &format!("  {}\n", clean(href)));
    }
    out
}

/// Nothing was kept of a calendar before a route first wrote there.
pub(crate) fn nothing_kept_before(route: &str, calendar: &str) -> Failure {
    let (route, calendar) = (clean(route), clean(calendar));
    Failure::failed(format!("nothing is kept of {calendar} before route {route} first wrote there")).hint(
        "It is kept when a route first runs, for the calendars that it writes, and as long as the history.",
    )
}

/// A file is no snapshot, or was changed.
pub(crate) fn not_a_snapshot(file: &str, error: &NotASnapshot) -> Failure {
    let file = clean(file);
    match error {
        NotASnapshot::NotACalendar(error) => Failure::usage(format!("{file}: {}", error.in_words()))
            .hint("Nothing was put back. If the file was cut on its way, fetch it again."),
        NotASnapshot::Changed => Failure::usage(format!("{file} was changed since it was written"))
            .hint("Nothing was put back: nobody knows what else is missing. Fetch the file again from where it was kept."),
        NotASnapshot::Newer => Failure::usage(format!("{file} was written by a later version of Chestnut"))
            .hint("Nothing was put back."),
    }
}

/// A calendar of other origin does not say where it belongs.
pub(crate) fn into_which(file: &str) -> Failure {
    Failure::usage(format!("{} does not say of which calendar it is", clean(file)))
        .hint("Name the calendar: --into CALENDAR.")
}

/// Nobody can be asked.
pub(crate) fn restore_asks_first(calendar: &str) -> Failure {
    Failure::usage(format!("putting {} back changes it, and asks first", clean(calendar)))
        .hint("Say --yes to go on.")
}

/// A person said no.
pub(crate) fn not_put_back() -> Failure {
    Failure::usage("nothing was put back".to_owned())
}

/// No run of that route, or since then.
pub(crate) fn no_run_like_that() -> Failure {
    Failure::failed("no such run is remembered").hint(
        "`chestnut history` lists the runs that are kept; what a clock ran and found in step leaves none.",
    )
}
