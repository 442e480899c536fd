//! What `account list` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) accounts: Vec<AccountReport>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct AccountReport {
    pub(crate) account: String,
    pub(crate) url: String,
    pub(crate) user: Option<String>,
    pub(crate) sign_in: String,
    pub(crate) calendars: Vec<String>,
    pub(crate) routes: Vec<String>,
}
