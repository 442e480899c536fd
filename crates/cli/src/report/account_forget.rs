//! What `account forget` reports.

use serde::Serialize;

#[derive(Debug, Serialize)]
pub(crate) struct Report {
    pub(crate) account: String,
    pub(crate) forgotten: Vec<String>,
    pub(crate) left: Vec<String>,
}
