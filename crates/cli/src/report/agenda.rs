//! What `agenda` reports: occurrences.

use jiff::civil::DateTime;
use serde::Serialize;

/// One occurrence, as programs get it.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Line {
    pub(crate) uid: String,
    pub(crate) start: String,
    pub(crate) end: String,
    pub(crate) title: String,
    pub(crate) all_day: bool,
    #[serde(skip)]
    pub(crate) shown: Shown,
}

/// What people see of it.
#[derive(Debug)]
pub(crate) struct Shown {
    pub(crate) calendar: String,
    pub(crate) start: DateTime,
    pub(crate) end: DateTime,
    pub(crate) cancelled: bool,
    pub(crate) floating: bool,
}
