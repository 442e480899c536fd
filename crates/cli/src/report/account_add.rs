//! What `account add` reports.

use serde::Serialize;

use super::account_test::AccountReport;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    #[serde(flatten)]
    pub(crate) account: AccountReport,
    pub(crate) saved: bool,
    pub(crate) configuration: String,
}
