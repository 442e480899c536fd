//! What `account password` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) account: String,
    /// Where the password is kept.
    pub(crate) kept: String,
}
