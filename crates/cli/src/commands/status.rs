//! `chestnut status`: how every route is doing.

use std::collections::BTreeMap;

use chestnut_store::{LinkState, RunRecord, RunResult, Store};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::Serialize;

use super::history::result_text;
use super::route::{gone, gone_words};
use super::sync::{held_lines, left_out_words};
use super::{load, look_at_state, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{Align, clean, count, moment_text, shorten, style, table};
use crate::run::Io;
use crate::settings::{RouteSettings, Settings};
use crate::words::told_words;

#[derive(Debug, Serialize)]
struct Report {
    routes: Vec<RouteStatus>,
}

#[derive(Debug, Serialize)]
struct RouteStatus {
    route: String,
    from: String,
    to: String,
    last_run: Option<i64>,
    last_began: Option<String>,
    last_result: Option<RunResult>,
    last_success: Option<String>,
    in_step: usize,
    held: usize,
    left_out: BTreeMap<String, usize>,
    troubles: Vec<Trouble>,
    error: Option<String>,
    needs_a_person: bool,
    running: bool,
    #[serde(skip)]
    record: Option<RunRecord>,
    #[serde(skip)]
    success_at: Option<Timestamp>,
}

#[derive(Debug, Serialize)]
struct Trouble {
    title: String,
    reason: String,
}

pub(super) fn run(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    let chosen = settings.chosen_routes(&[])?;
    let routes = chosen.into_iter().map(|(name, route)| status(&store, name, route));
    let report = Report { routes: routes.collect::<Result<_, _>>()? };
    let gone = gone(&store, &settings)?;
    let words = || gone.iter().map(|name| gone_words(name)).collect::<String>();
    show(common, io, &report, || human(&report, &settings) + &words())?;
    let is_gone = if gone.is_empty() { ExitCode::Ok } else { ExitCode::Waiting };
    Ok(report.routes.iter().map(code).max().unwrap_or(ExitCode::Ok).max(is_gone))
}

fn code(status: &RouteStatus) -> ExitCode {
    match status.last_result {
        Some(RunResult::Ok) => ExitCode::Ok,
        None if status.running => ExitCode::Ok,
        Some(RunResult::Held) | None => ExitCode::Waiting,
        Some(RunResult::Failed) => ExitCode::Failed,
    }
}

fn status(store: &Store, name: &str, route: &RouteSettings) -> Result<RouteStatus, Failure> {
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

fn human(report: &Report, settings: &Settings) -> String {
    let columns = [
        ("Route", Align::Left),
        ("From", Align::Left),
        ("To", Align::Left),
        ("In step", Align::Right),
        ("Last good run", Align::Left),
        ("Last run", Align::Left),
    ];
    let rows: Vec<_> = report.routes.iter().map(|r| row(r, &settings.zone)).collect();
    let mut out = table(&columns, &rows);
    for status in &report.routes {
        out += &notes(status);
    }
    if report.routes.iter().any(|status| status.held > 0) {
        out += held_lines();
    }
    out
}

fn row(status: &RouteStatus, zone: &TimeZone) -> Vec<String> {
    let last = status.record.as_ref().map_or_else(|| style::paint(style::WARN, "never"), result_text);
    let last = if status.running { style::paint(style::GOOD, "running") } else { last };
    vec![
        clean(&status.route),
        clean(&status.from),
        clean(&status.to),
        status.in_step.to_string(),
        status.success_at.map_or_else(|| "none yet".to_owned(), |at| moment_text(at, zone)),
        last,
    ]
}

fn notes(status: &RouteStatus) -> String {
    let mut out = String::new();
    let route = &status.route;
    if status.record.is_none() && !status.running {
        out += &format!(
            "{route}: has not run yet. `chestnut preview {route}` says what the first run would do.\n"
        );
    }
    if !status.left_out.is_empty() {
        let told: Vec<_> = status.left_out.iter().map(|(reason, n)| left_out_words(reason, *n)).collect();
        out += &format!("{route}: left out: {}\n", told.join(", "));
    }
    if status.held > 0 {
        let held = count(status.held, "change waits", "changes wait");
        out += &style::paint(style::WARN, format!("{route}: {held} for a person to decide\n"));
    }
    if !status.troubles.is_empty() {
        let entries = count(status.troubles.len(), "entry is", "entries are");
        out += &style::paint(style::WARN, format!("{route}: {entries} not on the far side as sent:\n"));
        for trouble in status.troubles.iter().take(12) {
            out += &format!("  {}: {}\n", shorten(&trouble.title, 40), shorten(&trouble.reason, 100));
        }
        if status.troubles.len() > 12 {
            out += &format!("  … and {} more\n", status.troubles.len() - 12);
        }
    }
    out
}
