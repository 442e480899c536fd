//! What `init` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
pub(crate) struct Report {
    pub(crate) configuration: String,
}
