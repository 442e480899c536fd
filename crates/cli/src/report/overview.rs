//! What `report` reports: everything that others want to see of calendars that are kept in step.

use std::collections::BTreeMap;

use chestnut_store::{Counts, RunRecord, RunResult};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};
use serde::Serialize;

use super::agenda::Line;
use super::compare::RouteComparison;
use super::held::Held;
use super::status;
use crate::settings::Settings;
use crate::words::UNTITLED;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) made: String,
    /// From when on changes are counted.
    pub(crate) since: String,
    pub(crate) health: status::Report,
    /// Routes that ran once, and that the configuration no longer has.
    pub(crate) gone: Vec<String>,
    /// In the order of their accounts.
    pub(crate) calendars: Vec<Calendar>,
    pub(crate) compared: Vec<Compared>,
    pub(crate) held: Vec<Held>,
    /// What each route did since then, by its name.
    pub(crate) did: BTreeMap<String, Did>,
    pub(crate) steps: Vec<Step>,
    pub(crate) week: Week,
    /// What could not be read.
    pub(crate) troubles: Vec<String>,
}

impl Report {
    /// Takes out what entries are called, and every text of theirs: what stays is when, where and how many.
    pub(crate) fn take_titles_out(&mut self) {
        for line in &mut self.week.occurrences {
            (line.title, line.uid) = (UNTITLED.to_owned(), String::new());
        }
        for held in &mut self.held {
            held.title = UNTITLED.to_owned();
            held.fields.clear();
            held.texts.clear();
            held.entries.iter_mut().for_each(|entry| entry.title = UNTITLED.to_owned());
        }
        for compared in &mut self.compared {
            let comparison = &mut compared.comparison;
            for line in comparison.findings.iter_mut().chain(&mut comparison.beside) {
                (line.title, line.uid) = (UNTITLED.to_owned(), String::new());
                line.differences.clear();
            }
        }
        for route in &mut self.health.routes {
            route.troubles.iter_mut().for_each(|trouble| trouble.title = UNTITLED.to_owned());
        }
    }
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Calendar {
    pub(crate) name: String,
    /// Whose it is; `None` for what needs no sign-in.
    pub(crate) account: Option<String>,
    pub(crate) kind: &'static str,
    /// No route uses it.
    pub(crate) uncovered: bool,
}

/// The last comparison of a route.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Compared {
    pub(crate) at: String,
    /// In seconds.
    pub(crate) age: i64,
    pub(crate) comparison: RouteComparison,
}

/// What was done in a while.
#[derive(Debug, Clone, Copy, Default, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Did {
    /// Runs that changed something, failed, or were asked for.
    pub(crate) runs: usize,
    pub(crate) failed: usize,
    pub(crate) created: usize,
    pub(crate) updated: usize,
    pub(crate) deleted: usize,
}

impl Did {
    fn add(&mut self, run: &RunRecord) {
        self.runs += 1;
        self.failed += usize::from(run.result == Some(RunResult::Failed));
        let Counts { created, updated, deleted } = run.summary.total();
        self.created += created;
        self.updated += updated;
        self.deleted += deleted;
    }

    pub(crate) fn changes(&self) -> usize {
        self.created + self.updated + self.deleted
    }
}

/// What was done in a day, or in a week where many days are shown.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Step {
    #[cfg_attr(test, schemars(with = "String"))]
    pub(crate) first: Date,
    pub(crate) did: Did,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Week {
    #[cfg_attr(test, schemars(with = "String"))]
    pub(crate) first: Date,
    /// In the order of their letters.
    pub(crate) calendars: Vec<String>,
    pub(crate) occurrences: Vec<Line>,
    /// When the calendars were last looked at.
    #[serde(skip)]
    pub(crate) as_of: String,
}

/// More days than these are told by the week.
const DAYS: i32 = 62;

/// What routes did, each for itself, and day by day until now.
pub(crate) fn done(
    runs: &[RunRecord],
    since: Timestamp,
    now: Timestamp,
    zone: &TimeZone,
) -> (BTreeMap<String, Did>, Vec<Step>) {
    let mut of_routes: BTreeMap<String, Did> = BTreeMap::new();
    let day = |at: Timestamp| at.to_zoned(zone.clone()).date();
    let (first, last) = (day(since), day(now));
    let width = if first.until(last).map_or(0, |span| span.get_days()) > DAYS { 7 } else { 1 };
    let firsts = first.series(Span::new().days(width)).take_while(|day| *day <= last);
    let mut steps: Vec<Step> = firsts.map(|first| Step { first, did: Did::default() }).collect();
    for run in runs {
        of_routes.entry(run.route.clone()).or_default().add(run);
        let at = steps.partition_point(|step| step.first <= day(run.started));
        if let Some(step) = at.checked_sub(1).and_then(|at| steps.get_mut(at)) {
            step.did.add(run);
        }
    }
    (of_routes, steps)
}

/// The calendars of the configuration, those of an account together.
pub(crate) fn calendars(settings: &Settings, uncovered: &[String]) -> Vec<Calendar> {
    let calendar = |(name, calendar): (&String, &crate::settings::CalendarSettings)| Calendar {
        name: name.clone(),
        account: calendar.account.clone(),
        kind: calendar.place.kind(),
        uncovered: uncovered.contains(name),
    };
    let mut all: Vec<Calendar> = settings.calendars.iter().map(calendar).collect();
    all.sort_by_key(|calendar| (calendar.account.is_none(), calendar.account.clone()));
    all
}
