//! `chestnut report`: everything on one page that can be shown to others, or as a text for a mail.

use std::path::Path;

use chestnut_engine::RunOptions;
use chestnut_store::Store;
use jiff::Timestamp;

use crate::args::Common;
use crate::commands::compare::Comparer;
use crate::days::since;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load, look_at_state, state_path};
use crate::overview::overview;
use crate::progress::Bars;
use crate::render::Clock;
use crate::render::human::overview::text;
use crate::render::page::{is_page, page};
use crate::settings::{Connections, Settings, route_key};
use crate::watch::Presence;
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
    let store = look_at_state(common, &settings, &io.environment)?;
    let now = io.environment.now()?;
    let since = since(asked.since, now, &settings.zone)?;
    let bars = Bars::new(io.progress && !common.quiet);
    let troubles = if asked.compare { compare(&settings, &store, now, &bars, io)? } else { Vec::new() };
    let watchers = Presence::all(&state_path(common, &settings), &store)?;
    let seen = overview(&settings, &store, &io.environment, &watchers, (since, now));
    let mut report = block_on(seen)??;
    report.troubles.splice(0..0, troubles);
    if let Some(path) = asked.file {
        let html = page(&report, &settings.zone);
        write_whole(path, &html).map_err(|system| cannot_be_written(path, &system))?;
    }
    show(common, io, &report, || match asked.file {
        Some(path) if !asked.text => page_written(path, &report),
        _ => text(&report, &Clock::of_any_day(&settings.zone)),
    })?;
    Ok(ExitCode::Ok)
}

/// Compares every route. Returns what could not be read.
fn compare(
    settings: &Settings,
    store: &Store,
    now: Timestamp,
    bars: &Bars,
    io: &Io<'_>,
) -> Result<Vec<String>, Failure> {
    let connections = Connections::new(settings, &io.environment).keeping(store, now);
    let key = route_key(settings, store, false)?;
    let options = RunOptions::at(now);
    block_on(bars.meanwhile(|| connections.waits_for(), async {
        let comparer = Comparer {
            settings,
            store,
            connections: &connections,
            key: &key,
            options: &options,
            bars,
            settled: None,
            then_sync: false,
        };
        let mut troubles = Vec::new();
        for (name, route) in settings.chosen_routes(&[])? {
            let (comparison, _) = comparer.compare(name, route, false).await;
            troubles.extend(comparison.failure.map(|failure| failure.message));
        }
        Ok(troubles)
    }))?
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
