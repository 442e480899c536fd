//! What `state check`, `state backup` and `state move` report.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) state: String,
    /// Where it was copied to.
    pub(crate) copy: Option<String>,
    /// Where it was moved to.
    pub(crate) moved_to: Option<String>,
    pub(crate) calendars: usize,
    pub(crate) entries: usize,
    pub(crate) routes: usize,
    pub(crate) runs: usize,
}
