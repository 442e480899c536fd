//! What `calendar add` reports.

use std::collections::BTreeMap;

use serde::Serialize;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) calendar: String,
    pub(crate) kind: &'static str,
    pub(crate) title: Option<String>,
    pub(crate) rights: &'static str,
    #[serde(skip)]
    pub(crate) is_read_only: bool,
    pub(crate) entries: BTreeMap<&'static str, usize>,
    pub(crate) first: Option<String>,
    pub(crate) last: Option<String>,
    pub(crate) endless_series: usize,
    pub(crate) timezone: Option<String>,
    pub(crate) refresh_seconds: Option<i64>,
    pub(crate) odd: Vec<String>,
    pub(crate) configuration: String,
}
