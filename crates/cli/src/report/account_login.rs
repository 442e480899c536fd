//! What `account login` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) account: String,
    pub(crate) signed_in: bool,
    pub(crate) kept_in: String,
    pub(crate) renewable: bool,
}
