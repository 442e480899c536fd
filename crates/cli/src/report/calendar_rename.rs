//! What `calendar rename` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
pub(crate) struct Report {
    pub(crate) calendar: String,
    pub(crate) name: String,
    pub(crate) configuration_changed: bool,
}
