//! What `demo` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) folder: String,
    pub(crate) steps: Vec<Step>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Step {
    pub(crate) command: String,
    pub(crate) exit_status: u8,
    pub(crate) output: String,
}
