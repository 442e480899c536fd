//! What `undo` reports: what is put back, what stays, and what came of it.

use chestnut_engine::{LeftAsIs, PutBack, RunReport, UndoPlan, Undone, WhyLeft};
use chestnut_store::{ChangeAction, RunRecord};
use serde::Serialize;

use crate::exit_code::ExitCode;
use crate::words::{kept_failure_words, told_words, why_left_words};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) route: String,
    /// The runs that are taken back, the newest first.
    pub(crate) runs: Vec<i64>,
    pub(crate) put_back: Vec<Put>,
    pub(crate) left: Vec<Left>,
    /// Entries that are as they were before already.
    pub(crate) already: usize,
    /// What came of it; `null` where it was only looked at.
    pub(crate) taken: Option<Taken>,
}

/// Something that is put back.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Put {
    pub(crate) calendar: String,
    /// `delete`, `replace` or `restore`.
    pub(crate) action: &'static str,
    pub(crate) title: String,
    pub(crate) start: String,
    /// Other routes that carry this on at their next run.
    pub(crate) routes: Vec<String>,
}

/// Something that stays as it is.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Left {
    pub(crate) calendar: String,
    pub(crate) title: String,
    pub(crate) start: String,
    /// `built-on`, `changed-by-run`, `changed-by-somebody`, `would-mail`, `not-known` or `no-calendar`.
    pub(crate) why: &'static str,
    /// The run that changed it since.
    pub(crate) run: Option<i64>,
    /// That run's route.
    pub(crate) by: Option<String>,
    pub(crate) words: String,
}

/// What came of it.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Taken {
    /// The number of this run: it can be taken back, too.
    pub(crate) run: Option<i64>,
    pub(crate) deleted: usize,
    pub(crate) replaced: usize,
    pub(crate) restored: usize,
    /// What could not be put back.
    pub(crate) failed: Vec<Failed>,
    pub(crate) error: Option<String>,
    /// The route waits until a person says that it goes on.
    pub(crate) paused: bool,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Failed {
    pub(crate) calendar: String,
    pub(crate) title: String,
    pub(crate) start: String,
    pub(crate) words: String,
}

impl Report {
    pub(crate) fn of(runs: &[RunRecord], plan: &UndoPlan) -> Self {
        let first = runs.iter().map(|run| run.id.0).min().unwrap_or_default();
        Self {
            route: runs[0].route.clone(),
            runs: runs.iter().map(|run| run.id.0).collect(),
            put_back: plan.undone.iter().map(Put::of).collect(),
            left: plan.left.iter().map(|left| Left::of(left, first)).collect(),
            already: plan.already,
            taken: None,
        }
    }
}

impl Put {
    pub(crate) fn of(undone: &Undone) -> Self {
        let action = match undone.how {
            PutBack::Delete => "delete",
            PutBack::Replace => "replace",
            PutBack::Restore => "restore",
        };
        Self {
            calendar: undone.calendar.clone(),
            action,
            title: undone.title.clone(),
            start: undone.start.clone(),
            routes: undone.routes.clone(),
        }
    }
}

impl Left {
    pub(crate) fn of(left: &LeftAsIs, first: i64) -> Self {
        let (why, run, by) = match &left.why {
            WhyLeft::BuiltOn { run } => ("built-on", Some(*run), None),
            WhyLeft::ChangedBy { run, route } => ("changed-by-run", Some(*run), Some(route.clone())),
            WhyLeft::ChangedBySomebody => ("changed-by-somebody", None, None),
            WhyLeft::WouldMail => ("would-mail", None, None),
            WhyLeft::NotKnown => ("not-known", None, None),
            WhyLeft::NoCalendar => ("no-calendar", None, None),
        };
        Self {
            calendar: left.calendar.clone(),
            title: left.title.clone(),
            start: left.start.clone(),
            why,
            run,
            by,
            words: why_left_words(&left.why, first),
        }
    }
}

impl Taken {
    /// Something failed, or something stays as it is.
    pub(crate) fn code(&self, left: &[Left]) -> ExitCode {
        match (self.error.is_some() || !self.failed.is_empty(), left.is_empty()) {
            (true, _) => ExitCode::Failed,
            (false, false) => ExitCode::Waiting,
            (false, true) => ExitCode::Ok,
        }
    }

    pub(crate) fn of(report: &RunReport, is_paused: bool) -> Self {
        let counts = report.summary.calendars.values();
        let sum = |of: fn(&chestnut_store::Counts) -> usize| counts.clone().map(of).sum();
        let failed = |change: &&chestnut_store::Change| {
            matches!(change.action, ChangeAction::Failed | ChangeAction::Damaged)
        };
        let line = |change: &chestnut_store::Change| Failed {
            calendar: change.calendar.clone(),
            title: change.title.clone(),
            start: change.start.clone(),
            words: change.told.as_ref().map(told_words).unwrap_or_default(),
        };
        Self {
            run: report.run.map(|run| run.0),
            deleted: sum(|counts| counts.deleted),
            replaced: sum(|counts| counts.updated),
            restored: sum(|counts| counts.created),
            failed: report.changes.iter().filter(failed).map(line).collect(),
            error: report.summary.error.as_ref().map(kept_failure_words),
            paused: is_paused,
        }
    }
}
