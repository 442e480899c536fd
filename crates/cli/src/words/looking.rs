//! Sentences about what takes place.

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::render::{clean, moment_text};

/// What the letters stand for.
pub(crate) fn grid_legend(calendars: &[String], has_floating: bool) -> String {
    let mut out = format!("{}; in small letters what is a copy\n", calendars.join("  "));
    if has_floating {
        out += "~ a time of no zone: the same on every clock\n";
    }
    out
}

/// How much lies before or after the hours that are shown.
pub(crate) fn hidden_words(number: usize, is_before: bool) -> String {
    if is_before { format!("+{number} earlier") } else { format!("+{number} later") }
}

pub(crate) fn clock_change_words(day: Date, twice: bool) -> String {
    let what = if twice { "an hour comes twice" } else { "an hour is missing" };
    format!("Clocks change on {}: {what}", day.strftime("%A %Y-%m-%d"))
}

/// Nobody was asked: what is shown is what was known then.
pub(crate) fn as_of_words(calendar: &str, at: Option<Timestamp>, zone: &TimeZone) -> String {
    let calendar = clean(calendar);
    match at {
        Some(at) => format!("{calendar}: as of {}\n", moment_text(at, zone)),
        None => format!("{calendar}: it was never looked at; nothing is known of it\n"),
    }
}

/// There is not enough room for all days.
pub(crate) fn fewer_days(shown: usize, asked: usize) -> String {
    format!("{shown} of {asked} days: there is no room for more; --list has all of them\n")
}
