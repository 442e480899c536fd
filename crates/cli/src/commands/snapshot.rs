//! `chestnut snapshot` and `chestnut restore`: a calendar as it stands, kept, and put back.

use std::path::Path;

use chestnut_core::{read_snapshot, write_snapshot};
use chestnut_engine::{Goes, RunOptions, ToRestore, plan_restore, restore, take_snapshot};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, write_new};
use crate::open::{block_on, load, open_state};
use crate::progress::Bars;
use crate::questions::ask_first;
use crate::render::human::undo::{restore_done, restore_planned};
use crate::report::snapshot::{Report, Restored};
use crate::report::undo::{Left, Put, Taken};
use crate::settings::Connections;
use crate::words::{
    PUT_BACK, cannot_be_written, file_unreadable, into_which, not_a_snapshot, not_put_back,
    nothing_kept_before, restore_asks_first, snapshot_written,
};

/// Writes a calendar as it stands, or as it stood before a route first wrote there.
pub(crate) fn take(
    calendar: &str,
    path: &Path,
    before: Option<&str>,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = open_state(common, &settings, &io.environment)?;
    let (name, _) = settings.chosen_calendar(calendar)?;
    let now = io.environment.now()?;
    let connections = Connections::new(&settings, &io.environment).keeping(&store, now);
    let bars = Bars::new(io.progress && !common.quiet);
    let (at, entries, unreadable) = match before {
        Some(route) => {
            let kept = store.kept_before(route, name)?.ok_or_else(|| nothing_kept_before(route, name))?;
            (kept.at, kept.entries, Vec::new())
        }
        None => {
            let stands = block_on(bars.meanwhile(|| connections.waits_for(), async {
                let end = connections.calendar(name).await?;
                Ok::<_, Failure>(take_snapshot(&store, &end, now).await?)
            }))??;
            (now, stands.entries, stands.unreadable)
        }
    };
    let text = write_snapshot(name, &entries);
    write_new(path, &text).map_err(|error| cannot_be_written(path, &error))?;
    let report = Report {
        calendar: name.to_owned(),
        file: path.display().to_string(),
        at: at.to_string(),
        entries: entries.len(),
        unreadable: unreadable.iter().map(ToString::to_string).collect(),
    };
    show(common, io, &report, || snapshot_written(&report))?;
    Ok(if report.unreadable.is_empty() { ExitCode::Ok } else { ExitCode::Waiting })
}

/// What to put back, and how.
pub(crate) struct Asked<'a> {
    pub(crate) file: &'a Path,
    pub(crate) into: Option<&'a str>,
    pub(crate) exact: bool,
    pub(crate) yes: bool,
}

/// Puts back what is missing or changed.
pub(crate) fn put_back(asked: &Asked<'_>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let file = asked.file.display().to_string();
    let bytes = std::fs::read(asked.file).map_err(|system| file_unreadable(&file, &system.to_string()))?;
    let snapshot = read_snapshot(&bytes).map_err(|error| not_a_snapshot(&file, &error))?;
    drop(bytes);
    let into = asked.into.map(str::to_owned).or(snapshot.calendar).ok_or_else(|| into_which(&file))?;
    let (name, _) = settings.chosen_calendar(&into)?;
    let store = open_state(common, &settings, &io.environment)?;
    let now = io.environment.now()?;
    let environment = io.environment.clone();
    let connections = Connections::new(&settings, &environment).keeping(&store, now);
    let options =
        RunOptions { measure: !io.environment.clock_is_fixed(), names_all: true, ..RunOptions::at(now) };
    let goes = if asked.exact { Goes::Everything } else { Goes::Nothing };
    let what = ToRestore { entries: snapshot.entries, goes };
    let bars = Bars::new(io.progress && !common.quiet);
    let bar = bars.route(name);
    let (end, plan) = block_on(bars.meanwhile(|| connections.waits_for(), async {
        let end = connections.calendar(name).await?;
        let plan = plan_restore(&end, &store, &options, &bar, &what).await?;
        Ok::<_, Failure>((end, plan))
    }))??;
    // Whoever takes entries from here, takes these.
    let reads = |route: &crate::settings::RouteSettings| {
        if route.is_two_way {
            route.ends.iter().any(|end| end == name)
        } else {
            route.ends.first().is_some_and(|end| end == name)
        }
    };
    let routes = settings.routes.iter().filter(|(_, route)| reads(route)).map(|(name, _)| name.clone());
    let mut report = Restored {
        calendar: name.to_owned(),
        file,
        put_back: plan.undone.iter().map(Put::of).collect(),
        left: plan.left.iter().map(|left| Left::of(left, 0)).collect(),
        already: plan.already,
        routes: routes.collect(),
        taken: None,
    };
    let clock = io.environment.clock(&settings.zone)?;
    if plan.undone.is_empty() {
        show(common, io, &report, || restore_planned(&report, &clock))?;
        return Ok(if plan.left.is_empty() { ExitCode::Ok } else { ExitCode::Waiting });
    }
    if !asked.yes {
        let failures = [restore_asks_first(name), not_put_back()];
        ask_first(&report, || restore_planned(&report, &clock), PUT_BACK, failures, common, io)?;
    }
    let taken = block_on(bars.meanwhile(|| connections.waits_for(), async {
        Ok::<_, Failure>(restore(&end, &store, &options, &bar, &what, &plan).await?)
    }))??;
    report.taken = Some(Taken::of(&taken, false));
    show(common, io, &report, || {
        let before = if asked.yes { restore_planned(&report, &clock) + "\n" } else { String::new() };
        before + &restore_done(&report)
    })?;
    Ok(report.taken.as_ref().map_or(ExitCode::Ok, |taken| taken.code(&report.left)))
}
