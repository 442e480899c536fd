//! What `snapshot` and `restore` report.

use serde::Serialize;

use crate::report::undo::{Left, Put, Taken};

/// A snapshot that was written.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) calendar: String,
    pub(crate) file: String,
    /// How the calendar stood then.
    pub(crate) at: String,
    pub(crate) entries: usize,
    /// Where something stands that cannot be read, and is not in it.
    pub(crate) unreadable: Vec<String>,
}

/// A calendar that is put back.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Restored {
    pub(crate) calendar: String,
    pub(crate) file: String,
    pub(crate) put_back: Vec<Put>,
    pub(crate) left: Vec<Left>,
    /// Entries that are as they were already.
    pub(crate) already: usize,
    /// Routes that take entries from this calendar, and carry this on at their next run.
    pub(crate) routes: Vec<String>,
    /// What came of it; `null` where it was only looked at.
    pub(crate) taken: Option<Taken>,
}
