//! What `calendar create` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) account: String,
    pub(crate) name: String,
    pub(crate) path: String,
    pub(crate) color: Option<String>,
    pub(crate) kinds: Vec<&'static str>,
    pub(crate) called: String,
    /// What the server made otherwise than it was asked.
    pub(crate) differs: Vec<String>,
}
