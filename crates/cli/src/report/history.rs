//! What `history` reports: runs, and what they changed.

use std::collections::BTreeMap;

use chestnut_store::{Change, Counts, RouteSummary, RunRecord, RunResult, Text};
use serde::Serialize;

use super::fields::{FieldChange, field_changes};
use crate::words::{kept_failure_words, told_words};

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
    /// `sync`, `undo`, or `probe`.
    pub(crate) kind: &'static str,
    /// The runs that it took back.
    pub(crate) undid: Vec<i64>,
    pub(crate) started: String,
    pub(crate) finished: Option<String>,
    #[cfg_attr(test, schemars(with = "Option<super::schema::RunResult>"))]
    pub(crate) result: Option<RunResult>,
    pub(crate) summary: Summary,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) changes: Option<Vec<ChangeLine>>,
}

/// What a run came to.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Summary {
    #[cfg_attr(test, schemars(with = "BTreeMap<String, super::schema::Counts>"))]
    pub(crate) calendars: BTreeMap<String, Counts>,
    pub(crate) linked: usize,
    pub(crate) in_step: usize,
    pub(crate) left_out: BTreeMap<String, usize>,
    pub(crate) held: usize,
    pub(crate) held_disagreements: usize,
    pub(crate) held_mail: usize,
    pub(crate) disagreements: usize,
    /// Calendars in which entries get UIDs of the route's own.
    pub(crate) own_uids: Vec<String>,
    /// Calendars that were found at another path, and are the same.
    pub(crate) moved: Vec<String>,
    /// In seconds, where it is more than a day.
    pub(crate) clocks_apart: Option<i64>,
    pub(crate) partly: BTreeMap<String, usize>,
    pub(crate) damaged: usize,
    pub(crate) failed: usize,
    /// Why the run as a whole failed.
    pub(crate) error: Option<String>,
    pub(crate) requests: u64,
    pub(crate) writes: u64,
    pub(crate) milliseconds: u64,
}

impl Summary {
    fn of(summary: &RouteSummary) -> Self {
        let summary = summary.clone();
        Self {
            calendars: summary.calendars,
            linked: summary.linked,
            in_step: summary.in_step,
            left_out: summary.left_out,
            held: summary.held,
            held_disagreements: summary.held_disagreements,
            held_mail: summary.held_mail,
            disagreements: summary.disagreements,
            own_uids: summary.own_uids,
            moved: summary.moved,
            clocks_apart: summary.clocks_apart,
            partly: summary.partly,
            damaged: summary.damaged,
            failed: summary.failed,
            error: summary.error.as_ref().map(kept_failure_words),
            requests: summary.requests,
            writes: summary.writes,
            milliseconds: summary.milliseconds,
        }
    }
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
    /// Where it stands, or stood, within its calendar.
    pub(crate) href: String,
    /// What was changed, field by field.
    pub(crate) fields: Vec<FieldChange>,
    /// The text that was replaced or deleted, where it was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) before: Option<String>,
    /// The text that stood there afterwards, where it was asked for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) after: Option<String>,
}

/// What a run changed in an entry.
pub(crate) fn fields(change: &Change) -> Vec<FieldChange> {
    let [before, after] = [&change.before, &change.after].map(|text| text.as_ref().map(|text| &*text.text));
    field_changes(before, after)
}

/// A change as it is reported; with the texts before and after, where they are asked for.
pub(crate) fn change_line(change: &Change, with_texts: bool) -> ChangeLine {
    let text = |text: &Option<Text>| text.as_ref().filter(|_| with_texts).map(|text| text.text.clone());
    ChangeLine {
        href: change.href.to_string(),
        fields: fields(change),
        before: text(&change.before),
        after: text(&change.after),
        calendar: change.calendar.clone(),
        action: change.action.word(),
        uid: change.uid.to_string(),
        title: change.title.clone(),
        start: change.start.clone(),
        words: change.told.as_ref().map(told_words),
        kept_text: change.before.is_some(),
    }
}

pub(crate) fn run_of(record: &RunRecord, changes: Option<&[Change]>, with_texts: bool) -> Run {
    Run {
        run: record.id.0,
        route: record.route.clone(),
        kind: record.kind.word(),
        undid: record.summary.undid.clone(),
        started: record.started.to_string(),
        finished: record.finished.map(|at| at.to_string()),
        result: record.result,
        summary: Summary::of(&record.summary),
        changes: changes.map(|changes| changes.iter().map(|one| change_line(one, with_texts)).collect()),
    }
}
