//! What `compare` reports: whether both sides of each route say the same.

use std::collections::BTreeMap;

use chestnut_engine::{Cause, Comparison, Finding, Standing};
use serde::Serialize;

use super::sync::Run;
use crate::failure::Failure;
use crate::settings::RouteSettings;
use crate::words::cause_words;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) comparisons: Vec<RouteComparison>,
    /// What `--then-sync` did.
    pub(crate) runs: Vec<Run>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct RouteComparison {
    pub(crate) route: String,
    pub(crate) calendars: Vec<String>,
    pub(crate) two_way: bool,
    /// Entries of the calendars that give.
    pub(crate) entries: usize,
    pub(crate) in_step: usize,
    pub(crate) differs: usize,
    pub(crate) missing: usize,
    pub(crate) extra: usize,
    /// By the key that decided.
    pub(crate) left_out: BTreeMap<String, usize>,
    /// Entries of the far side's own.
    pub(crate) own: usize,
    /// Copies there that other routes made.
    pub(crate) of_other_routes: usize,
    /// Changes so young that the next run may still come (`--settled`).
    pub(crate) passed_over: usize,
    pub(crate) findings: Vec<Line>,
    /// The far side's own and other routes' entries, where every entry is named.
    pub(crate) beside: Vec<Line>,
    /// Why nothing is said of it.
    pub(crate) not_compared: Option<String>,
    #[serde(skip)]
    pub(crate) way: String,
    #[serde(skip)]
    pub(crate) failure: Option<Failure>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Line {
    #[cfg_attr(test, schemars(with = "super::schema::Standing"))]
    pub(crate) standing: Standing,
    /// `due`, `held`, `failed`, `refused`, `far-edit`, `left-out` or `lost`.
    pub(crate) cause: &'static str,
    /// The key that left it out.
    pub(crate) key: Option<String>,
    pub(crate) calendar: String,
    pub(crate) uid: String,
    pub(crate) title: String,
    pub(crate) start: String,
    pub(crate) why: String,
    #[cfg_attr(test, schemars(with = "Vec<super::schema::Difference>"))]
    pub(crate) differences: Vec<chestnut_engine::Difference>,
}

impl Line {
    fn of(finding: Finding, has_run: bool) -> Self {
        Self {
            why: cause_words(&finding, has_run),
            cause: finding.cause.word(),
            key: match finding.cause {
                Cause::LeftOut { key } if !key.is_empty() => Some(key),
                _ => None,
            },
            standing: finding.standing,
            calendar: finding.calendar,
            uid: finding.uid,
            title: finding.title,
            start: finding.start,
            differences: finding.differences,
        }
    }

    pub(crate) fn is_trouble(&self) -> bool {
        self.cause != "left-out"
    }
}

impl RouteComparison {
    /// A route of which nothing is said.
    pub(crate) fn failed(name: &str, route: &RouteSettings, failure: Failure) -> Self {
        let nothing = Self::of(name, route, Comparison::default(), false);
        Self { not_compared: Some(failure.message.clone()), failure: Some(failure), ..nothing }
    }

    pub(crate) fn of(name: &str, route: &RouteSettings, comparison: Comparison, names_all: bool) -> Self {
        let mut left_out = BTreeMap::new();
        for finding in &comparison.findings {
            if let Cause::LeftOut { key } = &finding.cause {
                *left_out.entry(key.clone()).or_default() += 1;
            }
        }
        let extra = comparison
            .findings
            .iter()
            .filter(|one| one.standing == Standing::Extra && one.cause.is_trouble());
        let beside = if names_all { comparison.beside.clone() } else { Vec::new() };
        Self {
            route: name.to_owned(),
            calendars: route.ends.clone(),
            two_way: route.is_two_way,
            entries: comparison.entries,
            in_step: comparison.in_step,
            differs: comparison.number(Standing::Differs),
            missing: comparison.number(Standing::Missing),
            // What stays there for a reason is told by that.
            extra: extra.count(),
            left_out,
            own: comparison.own,
            of_other_routes: comparison.of_other_routes,
            passed_over: comparison.passed_over,
            findings: comparison.findings.into_iter().map(|one| Line::of(one, comparison.has_run)).collect(),
            beside: beside.into_iter().map(|one| Line::of(one, true)).collect(),
            not_compared: None,
            way: route.way(),
            failure: None,
        }
    }

    /// What is not in step, and does not wait for a person: that is told by itself. What the next sync brings comes
    /// last.
    pub(crate) fn unexplained(&self) -> Vec<&Line> {
        let mut lines: Vec<&Line> =
            self.findings.iter().filter(|line| line.is_trouble() && line.cause != "held").collect();
        lines.sort_by_key(|line| line.cause == "due");
        lines
    }

    pub(crate) fn has_trouble(&self) -> bool {
        self.findings.iter().any(Line::is_trouble)
    }
}
