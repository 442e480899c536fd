//! Sentences about what takes place.

use std::path::Path;

use jiff::Timestamp;
use jiff::civil::Date;

use crate::failure::Failure;
use crate::render::{Clock, clean, moment_text, shorten};

/// What the letters stand for.
pub(crate) fn grid_legend(calendars: &[String], has_floating: bool) -> String {
    let mut out = format!("{}; in small letters what is a copy\n", calendars.join("  "));
    if has_floating {
        out += "~ no time zone (floating): the same on every clock\n";
    }
    out
}

/// How much lies before or after the hours that are shown.
pub(crate) fn hidden_words(number: usize, is_before: bool) -> String {
    if is_before { format!("+{number} earlier") } else { format!("+{number} later") }
}

pub(crate) fn clock_change_words(day: Date, twice: bool) -> String {
    let what = if twice { "an hour comes twice" } else { "an hour is missing" };
    format!("Clocks change on {}: {what}", day.strftime("%A %-d %B %Y"))
}

/// Nobody was asked: what is shown is what was known then.
pub(crate) fn as_of_words(calendar: &str, at: Option<Timestamp>, clock: &Clock) -> String {
    let calendar = clean(calendar);
    match at {
        Some(at) => format!("{calendar}: as of {}\n", moment_text(at, clock)),
        None => format!("{calendar}: never read yet; nothing is known of it\n"),
    }
}

/// There is not enough room for all days.
pub(crate) fn fewer_days(shown: usize, asked: usize) -> String {
    format!("{shown} of {asked} days: there is no room for more; --list has all of them\n")
}

/// No length of time.
pub(crate) fn not_long_enough(text: &str) -> Failure {
    Failure::usage(format!("--for {text:?} is not a length of time"))
        .hint("Write it as 1h, 90m or 30 minutes.")
}

pub(crate) fn not_hours(text: &str) -> Failure {
    Failure::usage(format!("--hours {text:?} are not hours of a day"))
        .hint("Write them as 9-17 or 8:30-17:00.")
}

pub(crate) fn not_days_of_a_week(text: &str) -> Failure {
    Failure::usage(format!("--weekdays {text:?} are not days of a week"))
        .hint("Write them as mon-fri, or as mon,wed,sat.")
}

/// It takes time, and nobody knows when.
pub(crate) fn time_not_understood(calendar: &str, title: &str) -> Failure {
    Failure::failed(format!("{calendar}, {:?}: when it takes place is not understood", shorten(title, 60)))
        .hint("It may take time that is shown as free; nothing is guessed.")
}

pub(crate) fn free_busy_written(path: &Path) -> String {
    format!("Busy times are written to {}, without titles\n", clean(&path.display().to_string()))
}
