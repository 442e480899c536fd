//! Answers to what somebody asked for that is not there, or not possible.

use std::path::Path;

use chestnut_core::SeriesError;
use jiff::civil::Date;

use super::errors::InWords as _;
use crate::failure::Failure;

/// `decide` names a number that is not there.
pub(crate) fn nothing_waits(number: i64) -> Failure {
    Failure::usage(format!("nothing with the number {number} needs a decision"))
        .hint("`chestnut held` lists what does.")
}

/// `decide` has an answer that is none.
pub(crate) fn no_answer(choice: &str, number: i64, choices: &[String]) -> Failure {
    Failure::usage(format!("{choice:?} is not an answer to number {number}"))
        .hint(format!("Answers are: {}.", choices.join(", ")))
}

/// Deletions in one calendar that have the same title, as those of busy times have.
pub(crate) fn all_alike(
    calendar: &str,
    title: &str,
    number: usize,
    [first, last]: [String; 2],
    days: &str,
) -> String {
    format!(
        "  {number} in {calendar}, each called \"{title}\", from {first} to {last}; -v names them all\n  on {days}\n"
    )
}

pub(crate) const WHICH_ANSWER: &str = "Your answer?";

/// There is no answer to take back.
pub(crate) fn not_decided_yet(number: i64) -> Failure {
    Failure::usage(format!("number {number} has no answer yet"))
        .hint(format!("`chestnut decide {number}` shows the question, and what each answer does."))
}

pub(crate) fn decision_taken_back(number: i64) -> String {
    format!("number {number} needs a decision again\n  answer it: chestnut decide {number}\n")
}

/// `history` names a run that is not there.
pub(crate) fn no_such_run(number: i64) -> Failure {
    Failure::usage(format!("there is no run {number}"))
        .hint("`chestnut history` lists the runs that are kept.")
}

/// The days of an agenda end before they begin.
pub(crate) fn ends_before_it_begins(from: Date, to: Date) -> Failure {
    Failure::usage(format!("--to {to} is before --from {from}"))
        .hint("Both days are part of it: for one day, name it twice.")
}

/// An option is no day.
pub(crate) fn not_a_day(option: &str, text: &str) -> Failure {
    Failure::usage(format!("{option} {text:?} is not a day"))
        .hint("Write it as 2026-10-05 or \"5 Oct\", or say today, tomorrow, or a day of the week.")
}

/// When an entry takes place cannot be worked out.
pub(crate) fn not_in_the_list(calendar: &str, title: &str, error: &SeriesError) -> Failure {
    Failure::failed(format!("{calendar}, {title:?}: {}", error.in_words()))
        .hint("It is not in the list; nothing is guessed.")
}

/// `init` finds a configuration.
pub(crate) fn is_there_already(path: &Path) -> Failure {
    Failure::usage(format!("{} exists already", path.display()))
        .hint("Nothing was changed. Name another file, or add to this one with `chestnut init --ask`.")
}

/// A file cannot be written.
pub(crate) fn cannot_be_written(path: &Path, system: &std::io::Error) -> Failure {
    Failure::failed(format!("{} cannot be written: {system}", path.display()))
}

/// `init` has written a configuration.
pub(crate) fn configuration_written(path: &str) -> String {
    format!(
        "Written: {path}. All of it is comments so far.\nNext: chestnut account add NAME ADDRESS --user USER\n"
    )
}

/// `init --ask` at no terminal.
pub(crate) fn nobody_can_be_asked() -> Failure {
    Failure::usage("nobody can be asked: this is not a terminal").hint(
        "Write one to fill in with `chestnut init`, or use `chestnut account add` and `chestnut calendar add`.",
    )
}

/// There is no randomness to be had.
pub(crate) fn no_random_numbers(system: impl std::fmt::Display) -> Failure {
    Failure::failed(format!("no random numbers: {system}"))
}

pub(crate) fn type_a_number(most: usize) -> String {
    format!("Type a number from 1 to {most}, or the beginning of a name.")
}

pub(crate) const TYPE_YES_OR_NO: &str = "Type yes or no.";

pub(crate) fn one_of(prompt: &str, most: usize) -> String {
    format!("{prompt} (1 to {most})")
}

pub(crate) fn yes_or_no(prompt: &str) -> String {
    format!("{prompt} (yes or no)")
}

pub(crate) fn not_answered(system: &std::io::Error) -> Failure {
    Failure::usage(format!("the question was not answered: {system}")).hint("Nothing was changed.")
}

/// `completions` names a shell that is not known.
pub(crate) fn no_such_shell(name: &str, known: &[&str]) -> Failure {
    Failure::usage(format!("there are no completions for {name:?}"))
        .hint(format!("Shells with completions: {}.", known.join(", ")))
}

pub(crate) fn pages_written(folder: &Path) -> String {
    let folder = folder.display();
    format!("The manual is written into {folder}\n  read it: man -l {folder}/chestnut.1\n")
}

pub(crate) fn not_a_moment(text: &str) -> Failure {
    Failure::usage(format!("CHESTNUT_NOW is {text:?}, which is not a moment"))
        .hint("Write it as 2026-10-05T08:00:00Z.")
}

pub(crate) fn no_stand_ins() -> Failure {
    Failure::failed("the stand-in servers did not start")
}

pub(crate) fn folder_in_use(file: &Path) -> Failure {
    Failure::usage(format!("{} exists already", file.display())).hint("Name an empty folder.")
}
