//! What `agenda` reports: occurrences.

use jiff::civil::DateTime;
use serde::Serialize;

/// One occurrence, as programs get it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Line {
    pub(crate) calendar: String,
    /// The routes that know the entry.
    pub(crate) routes: Vec<String>,
    /// Whether a route made it: a copy of an entry in another calendar.
    pub(crate) copy: bool,
    pub(crate) uid: String,
    pub(crate) start: String,
    pub(crate) end: String,
    pub(crate) title: String,
    pub(crate) all_day: bool,
    #[serde(skip)]
    pub(crate) shown: Shown,
}

/// What people see of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Shown {
    /// The calendar, by its place among those that are shown.
    pub(crate) number: usize,
    /// Occurrences of one entry, wherever it stands, have the same.
    pub(crate) group: usize,
    pub(crate) start: DateTime,
    pub(crate) end: DateTime,
    /// In seconds since 1970.
    pub(crate) from: i64,
    pub(crate) to: i64,
    pub(crate) cancelled: bool,
    pub(crate) floating: bool,
}

impl Line {
    /// Tells whether it takes a whole day or more.
    pub(crate) fn is_bar(&self) -> bool {
        self.all_day || self.shown.to - self.shown.from >= 86_400
    }
}

/// The letter of a calendar.
pub(crate) fn letter(number: usize) -> String {
    let letter = char::from(b'A' + (number % 26) as u8);
    match number / 26 {
        0 => letter.to_string(),
        round => format!("{letter}{round}"),
    }
}
