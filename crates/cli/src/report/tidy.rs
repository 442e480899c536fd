//! What `calendar doubles` and `calendar clear-copies` report.

use serde::Serialize;

use super::undo::{Left, Put, Taken};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) calendar: String,
    /// Entries that stand there several times; nothing of it where copies are cleared.
    pub(crate) doubles: Vec<Doubles>,
    /// What is deleted, or would be.
    pub(crate) deletes: Vec<Put>,
    pub(crate) left: Vec<Left>,
    /// Routes of the configuration that make these copies again.
    pub(crate) made_again_by: Vec<String>,
    /// What came of it; `null` where it was only looked at.
    pub(crate) taken: Option<Taken>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Doubles {
    pub(crate) title: String,
    pub(crate) start: String,
    /// How often it stands there.
    pub(crate) number: usize,
    /// How many of these stay.
    pub(crate) kept: usize,
    /// The routes that made some of them: those stay.
    pub(crate) routes: Vec<String>,
}
