//! `chestnut undo`: takes runs back, where nobody has touched since what they wrote.

use chestnut_core::RouteKey;
use chestnut_engine::{Rule, RunOptions, ToUndo, plan_undo, undo, undo_of};
use chestnut_store::{RunId, RunKind, RunRecord, Store};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load, open_state};
use crate::progress::Bars;
use crate::questions::ask_first;
use crate::render::human::undo::{done, planned};
use crate::report::undo::{Report, Taken};
use crate::settings::{Connections, Settings, route_key};
use crate::wanted::all_wanted;
use crate::words::{
    TAKE_BACK, no_calendar_of_run, no_such_run, not_a_run, not_taken_back, run_wrote_nothing, undo_asks_first,
};

/// What was asked for.
pub(crate) struct Asked<'a> {
    /// `9`, or `9..` for all runs of the route from that one on.
    pub(crate) run: &'a str,
    pub(crate) entries: &'a [String],
    pub(crate) yes: bool,
}

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let clock = io.environment.clock(&settings.zone)?;
    let store = open_state(common, &settings, &io.environment)?;
    let runs = runs(asked.run, &store)?;
    let what = ToUndo {
        runs: runs.iter().map(|run| run.id).collect(),
        only: all_wanted(asked.entries, &clock),
        is_retired: !settings.routes.contains_key(&runs[0].route),
    };
    let now = io.environment.now()?;
    let environment = io.environment.clone();
    let connections = Connections::new(&settings, &environment).keeping(&store, now);
    let options =
        RunOptions { measure: !io.environment.clock_is_fixed(), names_all: true, ..RunOptions::at(now) };
    let bars = Bars::new(io.progress && !common.quiet);
    let name = runs[0].route.clone();
    let bar = bars.route(&name);
    let (rule, plan) = block_on(bars.meanwhile(|| connections.waits_for(), async {
        let rule = rule(&runs, &what, &settings, &store, &connections).await?;
        let plan = plan_undo(&rule, &store, &options, &bar, &what).await?;
        Ok::<_, Failure>((rule, plan))
    }))??;
    let mut report = Report::of(&runs, &plan);
    if plan.undone.is_empty() {
        show(common, io, &report, || planned(&report, &clock))?;
        return Ok(if plan.left.is_empty() { ExitCode::Ok } else { ExitCode::Waiting });
    }
    if !asked.yes {
        let failures = [undo_asks_first(asked.run), not_taken_back()];
        ask_first(&report, || planned(&report, &clock), TAKE_BACK, failures, common, io)?;
    }
    let taken = block_on(bars.meanwhile(|| connections.waits_for(), async {
        Ok::<_, Failure>(undo(&rule, &store, &options, &bar, &what, &plan).await?)
    }))??;
    let is_shown = asked.yes;
    report.taken = Some(Taken::of(&taken, !what.is_retired));
    show(common, io, &report, || {
        let before = if is_shown { planned(&report, &clock) + "\n" } else { String::new() };
        before + &done(&report)
    })?;
    Ok(report.taken.as_ref().map_or(ExitCode::Ok, |taken| taken.code(&report.left)))
}

/// The runs that were named, the newest first: one, or all of its route from that one on.
fn runs(typed: &str, store: &Store) -> Result<Vec<RunRecord>, Failure> {
    let (number, later) = match typed.strip_suffix("..") {
        Some(number) => (number, true),
        None => (typed, false),
    };
    let number: i64 = number.parse().map_err(|_| not_a_run(typed))?;
    let first = store.run(RunId(number))?.ok_or_else(|| no_such_run(number))?;
    if !later {
        return Ok(vec![first]);
    }
    let mut all = store.runs(Some(&first.route), usize::MAX >> 1)?;
    all.retain(|run| run.id >= first.id && run.kind != RunKind::Probe);
    Ok(all)
}

/// The route as it is configured; of one that is not any more, the calendars that its runs wrote.
async fn rule(
    runs: &[RunRecord],
    what: &ToUndo,
    settings: &Settings,
    store: &Store,
    connections: &Connections<'_>,
) -> Result<Rule, Failure> {
    let name = &runs[0].route;
    let key = route_key(settings, store, false)?;
    if !what.is_retired {
        let chosen = settings.chosen_routes(std::slice::from_ref(name))?;
        return connections.route(name, chosen[0].1, &key).await;
    }
    let mut names: Vec<String> = Vec::new();
    let mut wrote = false;
    for run in runs {
        for change in store.changes(run.id)?.into_iter().filter(chestnut_store::Change::is_write) {
            wrote = true;
            if !names.contains(&change.calendar) && settings.calendars.contains_key(&change.calendar) {
                names.push(change.calendar);
            }
        }
    }
    if names.is_empty() {
        let run = runs[0].id.0;
        return Err(if wrote { no_calendar_of_run(run, name) } else { run_wrote_nothing(run, name) });
    }
    let mut ends = Vec::new();
    for calendar in &names {
        ends.push(connections.calendar(calendar).await?);
    }
    let name = undo_of(name);
    Ok(Rule::two_way(&name, ends, RouteKey::new(&key, &name)))
}
