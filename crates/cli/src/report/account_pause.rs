//! What `account pause` and `account resume` report.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) account: String,
    pub(crate) paused: bool,
    pub(crate) until: Option<String>,
    /// The routes that rest with it.
    pub(crate) routes: Vec<String>,
}
