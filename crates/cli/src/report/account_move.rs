//! What `account move` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) account: String,
    /// The new address.
    pub(crate) url: String,
    pub(crate) calendars: Vec<Moved>,
    /// The routes that go on with them.
    pub(crate) routes: Vec<String>,
}

/// A calendar that was recognised.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Moved {
    pub(crate) calendar: String,
    /// Where it is on the server now.
    pub(crate) path: String,
    /// How many entries were known of it.
    pub(crate) known: usize,
    /// How many of them stand there.
    pub(crate) found: usize,
}
