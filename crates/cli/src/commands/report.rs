//! `chestnut report`: everything on one page that can be shown to others, or as a text for a mail.

use std::path::Path;

use chestnut_engine::{RunOptions, last_comparison};
use chestnut_store::Store;
use jiff::{Span, Timestamp};

use crate::args::Common;
use crate::commands::compare::Comparer;
use crate::days::{since, week_of};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::occurring::Agenda;
use crate::open::{block_on, load, look_at_state};
use crate::progress::Bars;
use crate::render::human::overview::text;
use crate::render::page::{is_page, page};
use crate::report::compare::RouteComparison;
use crate::report::held::held;
use crate::report::overview::{Compared, Report, Week, calendars, done};
use crate::report::route::gone;
use crate::report::status;
use crate::settings::{Connections, Settings, route_key};
use crate::words::{cannot_be_written, not_our_page, page_written, report_where};

/// What was asked for.
pub(crate) struct Asked<'a> {
    pub(crate) file: Option<&'a Path>,
    pub(crate) since: &'a str,
    pub(crate) compare: bool,
    pub(crate) text: bool,
}

pub(crate) fn run(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    if asked.file.is_none() && !asked.text && !common.json {
        return Err(report_where());
    }
    if let Some(path) = asked.file {
        may_be_written(path)?;
    }
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    let now = io.environment.now()?;
    let since = since(asked.since, now, &settings.zone)?;
    let bars = Bars::new(io.progress && !common.quiet);
    let report = gather(asked, (since, now), &settings, &store, &bars, io)?;
    if let Some(path) = asked.file {
        let html = page(&report, &settings.zone);
        write_whole(path, &html).map_err(|system| cannot_be_written(path, &system))?;
    }
    show(common, io, &report, || match asked.file {
        Some(path) if !asked.text => page_written(path, &report),
        _ => text(&report, &settings.zone),
    })?;
    Ok(ExitCode::Ok)
}

fn gather(
    asked: &Asked<'_>,
    (since, now): (Timestamp, Timestamp),
    settings: &Settings,
    store: &Store,
    bars: &Bars,
    io: &Io<'_>,
) -> Result<Report, Failure> {
    let connections = Connections::new(settings, &io.environment).keeping(store, now);
    let first = week_of(now.to_zoned(settings.zone.clone()).date(), settings.week_starts);
    let last = first.saturating_add(Span::new().days(6));
    let mut agenda = Agenda::new((first, last), &settings.zone, now, true);
    let mut troubles = Vec::new();
    let key = route_key(settings, false)?;
    let options = RunOptions::at(now);
    block_on(bars.meanwhile(|| connections.waits_for(), async {
        if asked.compare {
            let comparer = Comparer {
                store,
                connections: &connections,
                key: &key,
                options: &options,
                bars,
                settled: None,
                then_sync: false,
            };
            for (name, route) in settings.chosen_routes(&[])? {
                let (comparison, _) = comparer.compare(name, route, false).await;
                troubles.extend(comparison.failure);
            }
        }
        agenda.read(&[], settings, store, &connections).await
    }))??;
    let health = status::Report::of(settings, store, now, None)?;
    let (did, steps) = done(&store.runs_since(since)?, since, now, &settings.zone);
    troubles.extend(agenda.troubles);
    Ok(Report {
        made: now.to_string(),
        since: since.to_string(),
        gone: gone(store, settings)?,
        calendars: calendars(settings, &health.uncovered),
        compared: compared(settings, store, now)?,
        held: store.held(None)?.into_iter().map(held).collect::<Result<_, _>>()?,
        did,
        steps,
        week: Week { first, calendars: agenda.names, occurrences: agenda.lines, as_of: agenda.as_of },
        troubles: troubles.into_iter().map(|trouble| trouble.message).collect(),
        health,
    })
}

/// What comparisons came to, the last one of each route.
fn compared(settings: &Settings, store: &Store, now: Timestamp) -> Result<Vec<Compared>, Failure> {
    let mut all = Vec::new();
    for (name, route) in settings.chosen_routes(&[])? {
        if let Some((at, comparison)) = last_comparison(store, name)? {
            all.push(Compared {
                at: at.to_string(),
                age: now.duration_since(at).as_secs(),
                comparison: RouteComparison::of(name, route, comparison, false),
            });
        }
    }
    Ok(all)
}

/// An earlier report is replaced, and nothing else.
fn may_be_written(path: &Path) -> Result<(), Failure> {
    match std::fs::read(path) {
        Ok(stands) if !is_page(&stands) => Err(not_our_page(path)),
        Err(system) if system.kind() != std::io::ErrorKind::NotFound => Err(cannot_be_written(path, &system)),
        Ok(_) | Err(_) => Ok(()),
    }
}

/// Writes a file so that whoever opens it has the old one or the new one, whole.
fn write_whole(path: &Path, text: &str) -> std::io::Result<()> {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".new");
    let beside = path.with_file_name(name);
    std::fs::write(&beside, text)?;
    std::fs::rename(&beside, path)
}
