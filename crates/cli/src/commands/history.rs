//! `chestnut history`: the last runs, or every change of one.

use chestnut_store::{Change, RunId, RunRecord, RunResult, Store};
use jiff::tz::TimeZone;
use serde::Serialize;

use super::sync::change_lines;
use super::{load, look_at_state, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{Align, clean, moment_text, style, table};
use crate::run::Io;
use crate::words::told_words;

#[derive(Debug, Serialize)]
struct Report {
    runs: Vec<Run>,
}

#[derive(Debug, Serialize)]
pub(super) struct Run {
    run: i64,
    route: String,
    started: String,
    finished: Option<String>,
    result: Option<RunResult>,
    summary: chestnut_store::RouteSummary,
    #[serde(skip_serializing_if = "Option::is_none")]
    changes: Option<Vec<ChangeLine>>,
}

#[derive(Debug, Serialize)]
struct ChangeLine {
    calendar: String,
    action: &'static str,
    uid: String,
    title: String,
    start: String,
    words: Option<String>,
    kept_text: bool,
}

pub(super) fn run(
    number: Option<i64>,
    last: usize,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    let zone = settings.zone.clone();
    match number {
        None => {
            let records = store.runs(None, last)?;
            let report = Report { runs: records.iter().map(|r| run_of(r, None)).collect() };
            show(common, io, &report, || list(&records, &zone))?;
        }
        Some(number) => one(&store, RunId(number), &zone, common, io)?,
    }
    Ok(ExitCode::Ok)
}

fn one(store: &Store, id: RunId, zone: &TimeZone, common: &Common, io: &mut Io<'_>) -> Result<(), Failure> {
    let record = store.run(id)?.ok_or_else(|| {
        Failure::usage(format!("there is no run {}", id.0))
            .hint("`chestnut history` lists the runs that are kept.")
    })?;
    let changes = store.changes(id)?;
    let report = Report { runs: vec![run_of(&record, Some(&changes))] };
    show(common, io, &report, || {
        let mut out = list(std::slice::from_ref(&record), zone);
        out.push('\n');
        out += &change_lines(&changes, zone);
        if changes.is_empty() {
            out += "  nothing was changed\n";
        }
        out
    })
}

fn run_of(record: &RunRecord, changes: Option<&[Change]>) -> Run {
    let line = |c: &Change| ChangeLine {
        calendar: c.calendar.clone(),
        action: c.action.word(),
        uid: c.uid.to_string(),
        title: c.title.clone(),
        start: c.start.clone(),
        words: c.told.as_ref().map(told_words),
        kept_text: c.before.is_some(),
    };
    Run {
        run: record.id.0,
        route: record.route.clone(),
        started: record.started.to_string(),
        finished: record.finished.map(|at| at.to_string()),
        result: record.result,
        summary: record.summary.clone(),
        changes: changes.map(|changes| changes.iter().map(line).collect()),
    }
}

fn list(records: &[RunRecord], zone: &TimeZone) -> String {
    if records.is_empty() {
        return "No route has run yet. `chestnut preview` says what the first run would do.\n".to_owned();
    }
    let columns = [
        ("Run", Align::Right),
        ("Route", Align::Left),
        ("Began", Align::Left),
        ("Created", Align::Right),
        ("Updated", Align::Right),
        ("Deleted", Align::Right),
        ("Result", Align::Left),
    ];
    let row = |record: &RunRecord| {
        let sum = |of: fn(&chestnut_store::Counts) -> usize| -> String {
            record.summary.calendars.values().map(of).sum::<usize>().to_string()
        };
        vec![
            record.id.0.to_string(),
            clean(&record.route),
            moment_text(record.started, zone),
            sum(|c| c.created),
            sum(|c| c.updated),
            sum(|c| c.deleted),
            result_text(record),
        ]
    };
    table(&columns, &records.iter().map(row).collect::<Vec<_>>())
}

/// A run's result in words.
pub(super) fn result_text(record: &RunRecord) -> String {
    let summary = &record.summary;
    match record.result {
        None if record.is_running => style::paint(style::GOOD, "running"),
        None => style::paint(style::BAD, "cut off"),
        Some(RunResult::Ok) => style::paint(style::GOOD, "done"),
        Some(RunResult::Held) => style::paint(style::WARN, format!("done, {} held", summary.held)),
        Some(RunResult::Failed) => match (&summary.error, summary.failed + summary.damaged) {
            (Some(error), _) => {
                style::paint(style::BAD, format!("failed: {}", crate::render::shorten(error, 70)))
            }
            (None, entries) => style::paint(style::BAD, format!("{entries} not stored as sent")),
        },
    }
}
