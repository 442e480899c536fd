//! `chestnut compare`: reads both sides afresh, and says what is not in step, and why.

use std::rc::Rc;

use chestnut_engine::{Only, RunOptions, compare_route, run_route};
use chestnut_store::Store;
use jiff::SignedDuration;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, tell};
use crate::open::{block_on, load, look_at_state, open_state};
use crate::progress::Bars;
use crate::render::human::compare::human;
use crate::render::human::sync::human as runs_text;
use crate::report::compare::{Report, RouteComparison};
use crate::report::sync::{Run, begun, not_begun};
use crate::running::rest_of;
use crate::settings::{Connections, RouteSettings, Settings, parse_duration, route_key};
use crate::words::{never_ran, not_a_duration, not_while_paused};

/// What is asked for.
pub(crate) struct Asked<'a> {
    pub(crate) routes: &'a [String],
    pub(crate) settled: Option<&'a str>,
    pub(crate) then_sync: bool,
}

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settled = asked
        .settled
        .map(|text| parse_duration(text).ok_or_else(|| not_a_duration("--settled", text)))
        .transpose()?;
    let settings = load(common, io)?;
    let store = match asked.then_sync {
        true => open_state(common, &settings, &io.environment)?,
        false => look_at_state(common, &settings, &io.environment)?,
    };
    let key = route_key(&settings, &store, asked.then_sync)?;
    let options = RunOptions { names_all: true, ..RunOptions::at(io.environment.now()?) };
    let connections = Connections::new(&settings, &io.environment);
    let bars = Bars::new(io.progress && !common.quiet);
    let comparer = Comparer {
        settings: &settings,
        store: &store,
        connections: &connections,
        key: &key,
        options: &options,
        bars: &bars,
        settled,
        then_sync: asked.then_sync,
    };
    let all = common.verbose > 0;
    let chosen = settings.chosen_routes(asked.routes)?;
    let report = block_on(bars.meanwhile(|| connections.waits_for(), async {
        let mut report = Report { comparisons: Vec::new(), runs: Vec::new() };
        for (name, route) in &chosen {
            let (comparison, run) = comparer.compare(name, route, all).await;
            report.comparisons.push(comparison);
            report.runs.extend(run);
        }
        report
    }))?;
    let clock = io.environment.clock(&settings.zone)?;
    show(common, io, &report, || {
        let compared = human(&report.comparisons, &clock, all);
        let runs =
            if report.runs.is_empty() { String::new() } else { runs_text(&report.runs, &clock, true, true) };
        if runs.is_empty() { compared } else { format!("{compared}\n{runs}") }
    })?;
    tell(common, io, report.comparisons.iter().filter_map(|one| one.failure.as_ref()))?;
    Ok(code(&report))
}

/// Compares one route after another.
pub(crate) struct Comparer<'c> {
    pub(crate) settings: &'c Settings,
    pub(crate) store: &'c Store,
    pub(crate) connections: &'c Connections<'c>,
    pub(crate) key: &'c [u8],
    pub(crate) options: &'c RunOptions,
    pub(crate) bars: &'c Bars,
    pub(crate) settled: Option<SignedDuration>,
    pub(crate) then_sync: bool,
}

impl Comparer<'_> {
    pub(crate) async fn compare(
        &self,
        name: &str,
        route: &RouteSettings,
        all: bool,
    ) -> (RouteComparison, Option<Run>) {
        let compared = async {
            let rule = self.connections.route(name, route, self.key).await?;
            let bar = self.bars.route(name);
            let compared = compare_route(&rule, self.store, self.options, &bar, self.settled).await?;
            Ok::<_, Failure>((rule, compared))
        };
        let (rule, comparison) = match compared.await {
            Ok(compared) => compared,
            Err(failure) => return (RouteComparison::failed(name, route, failure), None),
        };
        let selection = comparison.selection.clone();
        let report = RouteComparison::of(name, route, comparison, all);
        if !self.then_sync || selection.is_empty() {
            return (report, None);
        }
        let run = match self.refusal(name, route) {
            Ok(Some(failure)) | Err(failure) => not_begun(name, route, failure),
            Ok(None) => {
                let options =
                    RunOptions { only: Some(Rc::new(Only::These(selection))), ..self.options.clone() };
                match run_route(&rule, self.store, &options, &self.bars.route(name)).await {
                    Ok(report) => begun(route, report).naming_all(),
                    Err(error) => not_begun(name, route, error.into()),
                }
            }
        };
        (report, Some(run))
    }

    /// What waits for a person goes on waiting.
    fn refusal(&self, name: &str, route: &RouteSettings) -> Result<Option<Failure>, Failure> {
        if let Some(rest) = rest_of(self.settings, self.store, (name, route), self.options.now)? {
            return Ok(Some(not_while_paused(name, rest.account.as_deref())));
        }
        Ok(match self.store.route(name)? {
            Some(known) if known.ran_at.is_some() => None,
            _ => Some(never_ran(name)),
        })
    }
}

/// What was put right is in step: then the run counts.
fn code(report: &Report) -> ExitCode {
    let compared = report.comparisons.iter().map(|one| match &one.failure {
        Some(failure) if failure.code == ExitCode::Waiting => ExitCode::Waiting,
        Some(_) => ExitCode::Failed,
        None if report.runs.iter().any(|run| run.route == one.route) => ExitCode::Ok,
        None if one.has_trouble() => ExitCode::Waiting,
        None => ExitCode::Ok,
    });
    compared.chain(report.runs.iter().map(Run::code)).max().unwrap_or(ExitCode::Ok)
}
