//! What `status` reports: how every route is doing.

use std::collections::BTreeMap;

use chestnut_store::{LinkState, RunRecord, RunResult, Store};
use jiff::Timestamp;
use serde::Serialize;

use crate::failure::Failure;
use crate::settings::RouteSettings;
use crate::words::told_words;

#[derive(Debug, Serialize)]
pub(crate) struct Report {
    pub(crate) routes: Vec<RouteStatus>,
}

#[derive(Debug, Serialize)]
pub(crate) struct RouteStatus {
    pub(crate) route: String,
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) last_run: Option<i64>,
    pub(crate) last_began: Option<String>,
    pub(crate) last_result: Option<RunResult>,
    pub(crate) last_success: Option<String>,
    pub(crate) in_step: usize,
    pub(crate) held: usize,
    pub(crate) left_out: BTreeMap<String, usize>,
    pub(crate) troubles: Vec<Trouble>,
    pub(crate) error: Option<String>,
    pub(crate) needs_a_person: bool,
    pub(crate) running: bool,
    #[serde(skip)]
    pub(crate) record: Option<RunRecord>,
    #[serde(skip)]
    pub(crate) success_at: Option<Timestamp>,
}

#[derive(Debug, Serialize)]
pub(crate) struct Trouble {
    pub(crate) title: String,
    pub(crate) reason: String,
}

pub(crate) fn status(store: &Store, name: &str, route: &RouteSettings) -> Result<RouteStatus, Failure> {
    let mut runs = store.runs(Some(name), 2)?.into_iter();
    let newest = runs.next();
    let is_running = newest.as_ref().is_some_and(|run| run.is_running);
    // While a run goes on, what the one before came to is what is known.
    let record = if is_running { runs.next() } else { newest };
    let success = store.last_success(name)?.map(|r| r.started);
    let id = store.route(name)?.map(|route| route.id);
    let mut troubles = id.map(|id| store.troubles(id)).transpose()?.unwrap_or_default();
    // What was begun and is not done has nothing to tell yet.
    troubles.retain(|(_, told)| told.is_some() || !is_running);
    let tally = id.map(|id| store.tally(id)).transpose()?.unwrap_or_default();
    let result = record.as_ref().map(|r| r.result.unwrap_or(RunResult::Failed));
    // What an earlier run met with is told until it is over.
    let result = if troubles.is_empty() { result } else { result.map(|_| RunResult::Failed) };
    Ok(RouteStatus {
        route: name.to_owned(),
        from: route.from().to_owned(),
        to: if route.is_two_way { route.ends[1..].join(", ") } else { route.to() },
        last_run: record.as_ref().map(|r| r.id.0),
        last_began: record.as_ref().map(|r| r.started.to_string()),
        last_result: result,
        last_success: success.map(|at| at.to_string()),
        in_step: tally.of(LinkState::InStep),
        held: record.as_ref().map_or(0, |r| r.summary.held),
        left_out: record.as_ref().map(|r| r.summary.left_out.clone()).unwrap_or_default(),
        troubles: troubles
            .into_iter()
            .map(|(title, told)| Trouble {
                title,
                reason: told
                    .as_ref()
                    .map_or_else(|| "begun, and cut off; the next sync goes on".to_owned(), told_words),
            })
            .collect(),
        error: record.as_ref().and_then(|r| r.summary.error.clone()),
        needs_a_person: result.map_or(!is_running, |result| result != RunResult::Ok),
        running: is_running,
        record,
        success_at: success,
    })
}
