//! What `account forget` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) account: String,
    pub(crate) forgotten: Vec<String>,
    pub(crate) left: Vec<String>,
}
