//! What `probe` reports: how a test entry fared on its way.

use chestnut_engine::{CannotProbe, LegOutcome, NewestCompared, ProbeFault, ProbeReport, ProbeStep};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::settings::RouteSettings;
use crate::words::{cannot_probe_words, cause_words, fault_advice, fault_words, skip_words, step_word};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) probes: Vec<RouteProbe>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct RouteProbe {
    pub(crate) route: String,
    pub(crate) calendars: Vec<String>,
    pub(crate) two_way: bool,
    /// Everything arrived, and nothing is left.
    pub(crate) ok: bool,
    pub(crate) legs: Vec<LegReport>,
    /// Where changes could not be tried: the newest entries, compared.
    pub(crate) compared: Option<Newest>,
    /// Why nothing could be tried.
    pub(crate) cannot: Option<String>,
    /// Test entries taken away by `--sweep`.
    pub(crate) swept: Option<usize>,
    pub(crate) leftovers: Vec<Left>,
    pub(crate) error: Option<String>,
    #[serde(skip)]
    pub(crate) way: String,
    #[serde(skip)]
    pub(crate) failure: Option<Failure>,
    #[serde(skip)]
    pub(crate) code: ExitCode,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct LegReport {
    pub(crate) step: &'static str,
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) outcome: Outcome,
    /// Why it was skipped, or did not arrive.
    pub(crate) reason: Option<String>,
    pub(crate) milliseconds: u64,
    /// What to do about it.
    #[serde(skip)]
    pub(crate) advice: Option<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Outcome {
    Arrived,
    /// It does not show there, as the route says.
    Hidden,
    /// The copy stayed, as the route says, and was taken away.
    Stays,
    Skipped,
    Failed,
    NotTried,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Newest {
    pub(crate) entries: usize,
    pub(crate) not_in_step: Vec<NotInStep>,
    /// Since when nothing changed there.
    pub(crate) changed_at: Option<String>,
    /// In days, where that is longer than `quiet-after`.
    pub(crate) quiet_days: Option<i64>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct NotInStep {
    pub(crate) title: String,
    pub(crate) start: String,
    pub(crate) why: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Left {
    pub(crate) calendar: String,
    pub(crate) path: String,
}

impl RouteProbe {
    fn begun(name: &str, route: &RouteSettings) -> Self {
        Self {
            route: name.to_owned(),
            calendars: route.ends.clone(),
            two_way: route.is_two_way,
            ok: false,
            legs: Vec::new(),
            compared: None,
            cannot: None,
            swept: None,
            leftovers: Vec::new(),
            error: None,
            way: route.way(),
            failure: None,
            code: ExitCode::Failed,
        }
    }

    /// A route that could not be tried.
    pub(crate) fn failed(name: &str, route: &RouteSettings, failure: Failure) -> Self {
        let code = if failure.code == ExitCode::Usage { ExitCode::Failed } else { failure.code };
        Self {
            error: Some(failure.message.clone()),
            failure: Some(failure),
            code,
            ..Self::begun(name, route)
        }
    }

    /// What `--sweep` found.
    pub(crate) fn swept(
        name: &str,
        route: &RouteSettings,
        number: usize,
        left: Vec<chestnut_engine::Leftover>,
    ) -> Self {
        let ok = left.is_empty();
        let code = if ok { ExitCode::Ok } else { ExitCode::Failed };
        Self { swept: Some(number), ok, code, leftovers: left_over(left), ..Self::begun(name, route) }
    }

    pub(crate) fn of(
        name: &str,
        route: &RouteSettings,
        report: ProbeReport,
        now: Timestamp,
        quiet_after: SignedDuration,
    ) -> Self {
        let legs: Vec<_> = report.legs.into_iter().map(|leg| LegReport::of(leg, name)).collect();
        let compared = report.compared.map(|compared| Newest::of(compared, now, quiet_after));
        let has_failed = legs.iter().any(|leg| matches!(leg.outcome, Outcome::Failed | Outcome::NotTried));
        let is_quiet =
            compared.as_ref().is_some_and(|one| one.quiet_days.is_some() || !one.not_in_step.is_empty());
        let code = match &report.cannot {
            _ if has_failed || is_quiet || !report.leftovers.is_empty() => ExitCode::Failed,
            Some(_) => ExitCode::Waiting,
            None => ExitCode::Ok,
        };
        Self {
            ok: code == ExitCode::Ok,
            legs,
            compared,
            cannot: report.cannot.as_ref().map(|cannot: &CannotProbe| cannot_probe_words(cannot)),
            leftovers: left_over(report.leftovers),
            code,
            ..Self::begun(name, route)
        }
    }
}

fn left_over(left: Vec<chestnut_engine::Leftover>) -> Vec<Left> {
    left.into_iter().map(|one| Left { calendar: one.calendar, path: one.href }).collect()
}

impl LegReport {
    fn of(leg: chestnut_engine::Leg, route: &str) -> Self {
        let step: ProbeStep = leg.step;
        let (outcome, reason, advice) = match &leg.outcome {
            LegOutcome::Arrived => (Outcome::Arrived, None, None),
            LegOutcome::Hidden => (Outcome::Hidden, None, None),
            LegOutcome::Stays => (Outcome::Stays, None, None),
            LegOutcome::Skipped(skip) => (Outcome::Skipped, Some(skip_words(*skip)), None),
            LegOutcome::NotTried => (Outcome::NotTried, None, None),
            LegOutcome::Failed(fault) => {
                let fault: &ProbeFault = fault;
                (
                    Outcome::Failed,
                    Some(fault_words(fault, &leg.from, &leg.to)),
                    fault_advice(fault, &leg.from, &leg.to, route),
                )
            }
        };
        Self {
            step: step_word(step),
            from: leg.from,
            to: leg.to,
            outcome,
            reason,
            milliseconds: leg.milliseconds,
            advice,
        }
    }
}

impl Newest {
    fn of(compared: NewestCompared, now: Timestamp, quiet_after: SignedDuration) -> Self {
        let age = compared.changed_at.map(|at| now.duration_since(at));
        let quiet = age.filter(|age| *age > quiet_after).map(|age| age.as_hours() / 24);
        let line = |finding: chestnut_engine::Finding| NotInStep {
            why: cause_words(&finding, true),
            title: finding.title,
            start: finding.start,
        };
        Self {
            entries: compared.entries,
            not_in_step: compared.findings.into_iter().filter(|f| f.cause.is_trouble()).map(line).collect(),
            changed_at: compared.changed_at.map(|at| at.to_string()),
            quiet_days: quiet,
        }
    }
}
