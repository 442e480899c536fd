//! What `calendar forget` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) calendar: String,
}
