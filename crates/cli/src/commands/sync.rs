//! `chestnut sync`: runs routes now.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::rc::Rc;

use chestnut_engine::{RunOptions, RunReport, run_route};
use chestnut_store::{Change, ChangeAction, Counts, RunResult};
use jiff::tz::TimeZone;
use serde::Serialize;

use super::{block_on, load, open_state, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::progress::Bar;
use crate::render::{Align, clean, count, shorten, start_text, style, table, zone_name};
use crate::run::Io;
use crate::settings::{Connections, RouteSettings, route_key};

#[derive(Debug, Serialize)]
struct Report {
    runs: Vec<Run>,
}

#[derive(Debug, Serialize)]
struct Run {
    run: Option<i64>,
    route: String,
    result: RunResult,
    calendars: BTreeMap<String, Counts>,
    linked: usize,
    in_step: usize,
    left_out: BTreeMap<String, usize>,
    held: usize,
    disagreements: usize,
    without_people: usize,
    damaged: Vec<Trouble>,
    failed: Vec<Trouble>,
    newly_left_out: Vec<Trouble>,
    error: Option<String>,
    requests: u64,
    writes: u64,
    milliseconds: u64,
    #[serde(skip)]
    changes: Vec<Change>,
    #[serde(skip)]
    failure: Option<Failure>,
    #[serde(skip)]
    to: String,
}

#[derive(Debug, Serialize)]
struct Trouble {
    calendar: String,
    uid: String,
    title: String,
    start: String,
    reason: String,
}

pub(super) fn run(
    routes: &[String],
    allow_deletions: bool,
    afresh: bool,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let chosen = settings.chosen_routes(routes)?;
    let store = open_state(common, &settings)?;
    let key = route_key(&settings, true)?;
    let options = RunOptions {
        allow_deletions,
        afresh,
        measure: !io.environment.clock_is_fixed(),
        ..RunOptions::at(io.environment.now()?)
    };
    let connections = Connections::new(&settings, &io.environment);
    let drawn = io.progress && !common.quiet;
    let work = async {
        let mut runs = Vec::new();
        for (name, route) in chosen {
            // One route that fails does not stop the others.
            let report = match connections.route(name, route, &key).await {
                Ok(ready) => {
                    run_route(&ready, &store, &options, &Bar::new(name, drawn)).await.map_err(Failure::from)
                }
                Err(failure) => Err(failure),
            };
            runs.push(report.map_or_else(|failure| not_begun(name, route, failure), |r| begun(route, r)));
        }
        runs
    };
    let runs = block_on(async {
        tokio::select! {
            runs = work => Ok(runs),
            () = interrupted_twice(Rc::clone(&options.stop)) => {
                Err(Failure::failed("interrupted").hint("Run `chestnut sync` again; it goes on where it was cut off."))
            }
        }
    })??;
    let report = Report { runs };
    let zone = settings.zone.clone();
    show(common, io, &report, || human(&report, &zone, common.verbose > 0))?;
    if !common.json {
        for failure in report.runs.iter().filter_map(|r| r.failure.as_ref()) {
            io.err.write_all(failure.lines().as_bytes())?;
        }
    }
    Ok(report.runs.iter().map(code).max().unwrap_or(ExitCode::Ok))
}

/// The first Ctrl-C lets what is in flight finish; the second one ends at once.
async fn interrupted_twice(stop: Rc<Cell<bool>>) {
    for asked in 1.. {
        if tokio::signal::ctrl_c().await.is_err() {
            std::future::pending::<()>().await;
        }
        stop.set(true);
        if asked == 2 {
            return;
        }
    }
}

fn code(run: &Run) -> ExitCode {
    match (&run.failure, run.result) {
        (Some(failure), _) => failure.code,
        (None, RunResult::Ok) => ExitCode::Ok,
        (None, RunResult::Held) => ExitCode::Waiting,
        (None, RunResult::Failed) => ExitCode::Failed,
    }
}

fn not_begun(name: &str, route: &RouteSettings, failure: Failure) -> Run {
    Run {
        run: None,
        route: name.to_owned(),
        result: RunResult::Failed,
        calendars: BTreeMap::new(),
        linked: 0,
        in_step: 0,
        left_out: BTreeMap::new(),
        held: 0,
        disagreements: 0,
        without_people: 0,
        damaged: Vec::new(),
        failed: Vec::new(),
        newly_left_out: Vec::new(),
        error: Some(failure.message.clone()),
        requests: 0,
        writes: 0,
        milliseconds: 0,
        changes: Vec::new(),
        failure: Some(failure),
        to: route.to.clone(),
    }
}

fn begun(route: &RouteSettings, report: RunReport) -> Run {
    let troubles = |action: ChangeAction| {
        let of = report.changes.iter().filter(move |c| c.action == action);
        of.map(|c| Trouble {
            calendar: c.calendar.clone(),
            uid: c.uid.to_string(),
            title: c.title.clone(),
            start: c.start.clone(),
            reason: c.words.clone().unwrap_or_default(),
        })
        .collect()
    };
    Run {
        run: report.run.map(|run| run.0),
        route: report.route,
        result: report.result,
        calendars: report.summary.calendars,
        linked: report.summary.linked,
        in_step: report.summary.in_step,
        left_out: report.summary.left_out,
        held: report.summary.held,
        disagreements: 0,
        without_people: report.summary.without_people,
        damaged: troubles(ChangeAction::Damaged),
        failed: troubles(ChangeAction::Failed),
        newly_left_out: troubles(ChangeAction::LeftOut),
        error: report.summary.error,
        requests: report.summary.requests,
        writes: report.summary.writes,
        milliseconds: report.summary.milliseconds,
        changes: report.changes,
        failure: report.error.map(Failure::from),
        to: route.to.clone(),
    }
}

fn human(report: &Report, zone: &TimeZone, verbose: bool) -> String {
    let columns = [
        ("Route", Align::Left),
        ("To", Align::Left),
        ("Created", Align::Right),
        ("Updated", Align::Right),
        ("Deleted", Align::Right),
        ("In step", Align::Right),
        ("Requests", Align::Right),
        ("Result", Align::Left),
    ];
    let rows: Vec<_> = report.runs.iter().map(row).collect();
    let mut out = table(&columns, &rows);
    for run in &report.runs {
        out += &notes(run, zone, verbose);
    }
    out
}

fn row(run: &Run) -> Vec<String> {
    let counts = run.calendars.get(&run.to).copied().unwrap_or_default();
    let result = match run.result {
        RunResult::Ok if counts == Counts::default() => style::paint(style::GOOD, "nothing to do"),
        RunResult::Ok => style::paint(style::GOOD, "done"),
        RunResult::Held => style::paint(style::WARN, "done, but held"),
        RunResult::Failed => style::paint(style::BAD, "failed"),
    };
    let number = |n: usize| n.to_string();
    vec![
        clean(&run.route),
        clean(&run.to),
        number(counts.created),
        number(counts.updated),
        number(counts.deleted),
        number(run.in_step),
        run.requests.to_string(),
        result,
    ]
}

/// What the table has no room for: what was left out, held, damaged or failed, and with `-v` every change.
fn notes(run: &Run, zone: &TimeZone, verbose: bool) -> String {
    let mut out = String::new();
    let route = &run.route;
    if run.linked > 0 {
        out += &format!(
            "{route}: {} stood there already and are linked without a write\n",
            count(run.linked, "entry", "entries")
        );
    }
    if !run.left_out.is_empty() {
        let told: Vec<_> = run.left_out.iter().map(|(reason, n)| left_out_words(reason, *n)).collect();
        out += &format!("{route}: left out: {}\n", told.join(", "));
    }
    if run.without_people > 0 {
        let entries = count(run.without_people, "entry", "entries");
        out += &format!(
            "{route}: {entries} written without the people they name: the far server would write to them\n"
        );
    }
    if run.held > 0 {
        let held = count(run.held, "deletion is", "deletions are");
        out +=
            &style::paint(style::WARN, format!("{route}: {held} held: more than a route deletes unasked\n"));
        out += &held_lines(route, run.run);
    }
    for (troubles, what) in
        [(&run.newly_left_out, "newly left out"), (&run.damaged, "not kept as sent"), (&run.failed, "failed")]
    {
        if troubles.is_empty() {
            continue;
        }
        out += &style::paint(
            style::BAD,
            format!("{route}: {}, {what}:\n", count(troubles.len(), "entry", "entries")),
        );
        let shown = if verbose { troubles.len() } else { troubles.len().min(12) };
        for trouble in &troubles[..shown] {
            let start = start_text(&trouble.start, zone);
            out +=
                &format!("  {start:24} {}: {}\n", shorten(&trouble.title, 36), shorten(&trouble.reason, 100));
        }
        if shown < troubles.len() {
            out += &format!("  … and {} more; -v names them all\n", troubles.len() - shown);
        }
    }
    if verbose && !run.changes.is_empty() {
        out += &format!("{route}: times in {}\n", zone_name(zone));
        out += &change_lines(&run.changes, zone);
    }
    out
}

/// What to do about held deletions.
pub(super) fn held_lines(route: &str, run: Option<i64>) -> String {
    format!(
        "  see them:         chestnut history {}\n  let them through: chestnut sync {route} --allow-deletions\n",
        run.unwrap_or_default()
    )
}

/// Words for the reasons that runs count.
pub(super) fn left_out_words(reason: &str, number: usize) -> String {
    let by_kind = |one: &str, many: &str, why: &str| format!("{} ({why})", count(number, one, many));
    let entries = |why: &str| format!("{} {why}", count(number, "entry", "entries"));
    match reason {
        "events-not-taken" => by_kind("event", "events", "the route does not take them"),
        "tasks-not-taken" => {
            by_kind("task", "tasks", "the route does not take them; see only = { kinds = … }")
        }
        "journals-not-taken" => by_kind("journal", "journals", "the route does not take them"),
        key if key.starts_with("only.") || key.starts_with("skip.") => {
            let (table, key) = key.split_once('.').unwrap_or((key, ""));
            entries(&format!("not taken ({table} = {{ {} = … }})", clean(key)))
        }
        "kind-not-accepted" => entries("of a kind that the far calendar does not accept"),
        "copy-of-another-route" => by_kind("copy", "copies", "made by a route"),
        "too-large" => entries("larger than the far server allows"),
        "refused" => entries("refused by the far server (until they change)"),
        "unreadable" => entries("that cannot be read"),
        "no-uid" => entries("without UID"),
        "same-uid-twice" => entries("with the UID of another entry"),
        other => format!("{number} {}", clean(other)),
    }
}

/// One line for each change.
pub(super) fn change_lines(changes: &[Change], zone: &TimeZone) -> String {
    let line = |c: &Change| {
        let words = c
            .words
            .as_ref()
            .map(|w| format!("  {}", style::paint(style::FAINT, shorten(w, 100))))
            .unwrap_or_default();
        let start = start_text(&c.start, zone);
        format!("  {:8} {start:24} {}{words}\n", c.action.word(), shorten(&c.title, 56))
    };
    changes.iter().map(line).collect()
}
