//! What `sync` reports: one run for each route.

use std::collections::BTreeMap;

use chestnut_engine::{RunError, RunReport};
use chestnut_store::{Change, ChangeAction, Counts, RunResult};
use serde::Serialize;

use super::history::{ChangeLine, change_line};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::settings::RouteSettings;
use crate::words::{kept_failure_words, told_words};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) runs: Vec<Run>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Run {
    pub(crate) run: Option<i64>,
    pub(crate) route: String,
    pub(crate) result: Outcome,
    #[cfg_attr(test, schemars(with = "BTreeMap<String, super::schema::Counts>"))]
    pub(crate) calendars: BTreeMap<String, Counts>,
    pub(crate) linked: usize,
    pub(crate) in_step: usize,
    pub(crate) left_out: BTreeMap<String, usize>,
    /// What the run before left out: only what is new is told unasked.
    #[serde(skip)]
    pub(crate) left_out_before: Option<BTreeMap<String, usize>>,
    /// Calendars in which entries get UIDs of the route's own from now on.
    pub(crate) own_uids: Vec<String>,
    /// Calendars that were found at another path, and are the same.
    pub(crate) moved: Vec<String>,
    pub(crate) held: usize,
    pub(crate) disagreements: usize,
    /// Of what is held, the disagreements.
    pub(crate) held_disagreements: usize,
    /// Of what is held, what could make a server write to people.
    pub(crate) held_mail: usize,
    /// Copies that lack something, by what they lack.
    pub(crate) partly: BTreeMap<String, usize>,
    pub(crate) damaged: Vec<Trouble>,
    pub(crate) failed: Vec<Trouble>,
    pub(crate) newly_left_out: Vec<Trouble>,
    pub(crate) error: Option<String>,
    pub(crate) requests: u64,
    pub(crate) writes: u64,
    pub(crate) milliseconds: u64,
    /// What it did, entry by entry, where every entry is named (`-v`).
    #[serde(rename = "changes", skip_serializing_if = "Option::is_none")]
    pub(crate) named: Option<Vec<ChangeLine>>,
    #[serde(skip)]
    pub(crate) changes: Vec<Change>,
    /// Why it failed, as a fact.
    #[serde(skip)]
    pub(crate) cause: Option<RunError>,
    #[serde(skip)]
    pub(crate) failure: Option<Failure>,
    #[serde(skip)]
    pub(crate) written: Vec<String>,
}

impl Run {
    /// Names every change in the document, too.
    pub(crate) fn naming_all(self) -> Self {
        let named = self.changes.iter().map(|change| change_line(change, false)).collect();
        Self { named: Some(named), ..self }
    }

    /// What it comes to for scripts.
    pub(crate) fn code(&self) -> ExitCode {
        match (&self.failure, self.result) {
            (Some(failure), _) => failure.code,
            (None, Outcome::Ok) => ExitCode::Ok,
            (None, Outcome::Held | Outcome::Waiting) => ExitCode::Waiting,
            (None, Outcome::Failed) => ExitCode::Failed,
        }
    }
}

/// How a route fared.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Outcome {
    Ok,
    Held,
    /// Nothing was begun: a person has a word to say first.
    Waiting,
    Failed,
}

impl Outcome {
    fn of(result: RunResult, failure: Option<&Failure>) -> Self {
        match (failure, result) {
            (Some(failure), _) if failure.code == ExitCode::Waiting => Self::Waiting,
            (_, RunResult::Ok) => Self::Ok,
            (_, RunResult::Held) => Self::Held,
            (_, RunResult::Failed) => Self::Failed,
        }
    }
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Trouble {
    pub(crate) calendar: String,
    pub(crate) uid: String,
    pub(crate) title: String,
    pub(crate) start: String,
    pub(crate) reason: String,
}

pub(crate) fn not_begun(name: &str, route: &RouteSettings, failure: Failure) -> Run {
    Run {
        run: None,
        route: name.to_owned(),
        result: Outcome::of(RunResult::Failed, Some(&failure)),
        calendars: BTreeMap::new(),
        linked: 0,
        in_step: 0,
        left_out: BTreeMap::new(),
        left_out_before: None,
        own_uids: Vec::new(),
        moved: Vec::new(),
        held: 0,
        disagreements: 0,
        held_disagreements: 0,
        held_mail: 0,
        partly: BTreeMap::new(),
        damaged: Vec::new(),
        failed: Vec::new(),
        newly_left_out: Vec::new(),
        error: Some(failure.message.clone()),
        requests: 0,
        writes: 0,
        milliseconds: 0,
        named: None,
        changes: Vec::new(),
        cause: None,
        failure: Some(failure),
        written: written(route),
    }
}

pub(crate) fn begun(route: &RouteSettings, report: RunReport) -> Run {
    let troubles = |action: ChangeAction| {
        let mut of: Vec<_> = report.changes.iter().filter(|c| c.action == action).collect();
        of.sort_by(|a, b| (&a.start, &a.uid).cmp(&(&b.start, &b.uid)));
        let trouble = |c: &Change| Trouble {
            calendar: c.calendar.clone(),
            uid: c.uid.to_string(),
            title: c.title.clone(),
            start: c.start.clone(),
            reason: c.told.as_ref().map(told_words).unwrap_or_default(),
        };
        of.into_iter().map(trouble).collect()
    };
    let cause = report.error;
    let failure = cause.clone().map(Failure::from);
    Run {
        run: report.run.map(|run| run.0),
        route: report.route,
        result: Outcome::of(report.result, failure.as_ref()),
        calendars: report.summary.calendars,
        linked: report.summary.linked,
        in_step: report.summary.in_step,
        left_out: report.summary.left_out,
        left_out_before: None,
        own_uids: report.summary.own_uids,
        moved: report.summary.moved,
        held: report.summary.held,
        disagreements: report.summary.disagreements,
        held_disagreements: report.summary.held_disagreements,
        held_mail: report.summary.held_mail,
        partly: report.summary.partly,
        damaged: troubles(ChangeAction::Damaged),
        failed: troubles(ChangeAction::Failed),
        newly_left_out: troubles(ChangeAction::LeftOut),
        error: report.summary.error.as_ref().map(kept_failure_words),
        requests: report.summary.requests,
        writes: report.summary.writes,
        milliseconds: report.summary.milliseconds,
        named: None,
        changes: report.changes,
        cause,
        failure,
        written: written(route),
    }
}

/// The calendars that a route writes.
pub(crate) fn written(route: &RouteSettings) -> Vec<String> {
    if route.is_two_way { route.ends.clone() } else { route.ends[1..].to_vec() }
}
