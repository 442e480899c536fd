//! What `free` reports: gaps.

use jiff::Timestamp;
use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    /// The first day.
    pub(crate) from: String,
    /// The last day.
    pub(crate) to: String,
    pub(crate) calendars: Vec<String>,
    /// Whole gaps, in the order of time.
    pub(crate) gaps: Vec<Gap>,
    /// Times of which a calendar tells nothing: they are no gaps.
    pub(crate) unknown: Vec<Unknown>,
}

/// A time of which a calendar tells nothing.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Unknown {
    pub(crate) calendar: String,
    pub(crate) start: String,
    pub(crate) end: String,
    #[serde(skip)]
    pub(crate) span: (i64, i64),
}

impl Unknown {
    pub(crate) fn of(calendar: &str, (start, end): (i64, i64)) -> Self {
        Self { calendar: calendar.to_owned(), start: text(start), end: text(end), span: (start, end) }
    }
}

fn text(at: i64) -> String {
    Timestamp::from_second(at).unwrap_or_default().to_string()
}

/// A time that nothing takes.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Gap {
    pub(crate) start: String,
    pub(crate) end: String,
    pub(crate) minutes: i64,
    #[serde(skip)]
    pub(crate) span: (i64, i64),
}

impl Gap {
    pub(crate) fn of((start, end): (i64, i64)) -> Self {
        Self { start: text(start), end: text(end), minutes: (end - start) / 60, span: (start, end) }
    }
}
