//! What `history` reports: runs, and what they changed.

use chestnut_store::{Change, RunRecord, RunResult};
use serde::Serialize;

use crate::words::told_words;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) runs: Vec<Run>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Run {
    pub(crate) run: i64,
    pub(crate) route: String,
    pub(crate) started: String,
    pub(crate) finished: Option<String>,
    #[cfg_attr(test, schemars(with = "Option<super::schema::RunResult>"))]
    pub(crate) result: Option<RunResult>,
    #[cfg_attr(test, schemars(with = "std::collections::BTreeMap<String, serde_json::Value>"))]
    pub(crate) summary: chestnut_store::RouteSummary,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) changes: Option<Vec<ChangeLine>>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct ChangeLine {
    pub(crate) calendar: String,
    pub(crate) action: &'static str,
    pub(crate) uid: String,
    pub(crate) title: String,
    pub(crate) start: String,
    pub(crate) words: Option<String>,
    pub(crate) kept_text: bool,
}

pub(crate) fn run_of(record: &RunRecord, changes: Option<&[Change]>) -> Run {
    let line = |c: &Change| ChangeLine {
        calendar: c.calendar.clone(),
        action: c.action.word(),
        uid: c.uid.to_string(),
        title: c.title.clone(),
        start: c.start.clone(),
        words: c.told.as_ref().map(told_words),
        kept_text: c.before.is_some(),
    };
    Run {
        run: record.id.0,
        route: record.route.clone(),
        started: record.started.to_string(),
        finished: record.finished.map(|at| at.to_string()),
        result: record.result,
        summary: record.summary.clone(),
        changes: changes.map(|changes| changes.iter().map(line).collect()),
    }
}
