//! A file for help from outside: what is configured, what was seen on the way, what failed lately. It has no secrets, no
//! titles and no addresses of people.

use std::path::Path;

use chestnut_store::{ChangeAction, Store};

use crate::args::Common;
use crate::check_account::{Checked, Step};
use crate::failure::Failure;
use crate::io::{Io, write_new};
use crate::open::look_at_state;
use crate::render;
use crate::report::bundle::{Bundle, EntryFailure, State, Trouble};
use crate::report::check::{Line, Report};
use crate::report::history::{Run, run_of};
use crate::report::trouble::open_troubles;
use crate::settings::{Scrubber, Settings, StateSettings, redacted};
use crate::words::{ABOUT_BUNDLE, bundle_not_written, told_words};

/// So many runs are told of.
const RUNS: usize = 20;
/// And so many entries that failed.
const FAILURES: usize = 50;

pub(crate) fn write_bundle(
    path: &Path,
    settings: &Settings,
    check: &Report,
    ways: &[(&str, Result<Checked, Failure>)],
    common: &Common,
    io: &Io<'_>,
) -> Result<(), Failure> {
    let found = ways.iter().filter_map(|(_, checked)| checked.as_ref().ok()?.outcome.as_ref().ok());
    let names = found.flat_map(|found| found.calendars.iter().map(|info| info.name.clone()));
    let scrubber = Scrubber::new(settings, names);
    let steps = ways.iter().filter_map(|(name, checked)| {
        let steps = &checked.as_ref().ok()?.steps;
        Some(((*name).to_owned(), steps.iter().map(|step| scrubbed_step(step, &scrubber)).collect()))
    });
    let state = look_at_state(common, settings, &io.environment)
        .and_then(|store| state(&store, settings, &scrubber, io));
    let bundle = Bundle {
        about: ABOUT_BUNDLE,
        chestnut: env!("CARGO_PKG_VERSION"),
        system: format!("{} {}", std::env::consts::OS, std::env::consts::ARCH),
        made: io.environment.now()?.to_string(),
        configuration: redacted(settings),
        check: check.lines.iter().map(|line| scrubbed_line(line, &scrubber)).collect(),
        steps: steps.collect(),
        state_error: state.as_ref().err().map(|failure| scrubber.scrub(&failure.message)),
        state: state.ok(),
    };
    write_new(path, &render::json(&bundle)).map_err(|error| bundle_not_written(path, &error))
}

fn scrubbed_step(step: &Step, scrubber: &Scrubber) -> Step {
    let mut step = step.clone();
    step.seen = scrubber.scrub(&step.seen);
    step.note = step.note.map(|note| scrubber.scrub(&note));
    step
}

fn scrubbed_line(line: &Line, scrubber: &Scrubber) -> Line {
    let mut line = line.clone();
    line.says = scrubber.scrub(&line.says);
    line.fix = line.fix.map(|fix| scrubber.scrub(&fix));
    line
}

fn state(store: &Store, settings: &Settings, scrubber: &Scrubber, io: &Io<'_>) -> Result<State, Failure> {
    let [calendars, entries, routes, runs] = store.sizes()?;
    let records = store.runs_of(None, RUNS, true)?;
    let mut entry_failures = Vec::new();
    for record in records.iter().filter(|run| run.summary.failed + run.summary.damaged > 0) {
        let changes = store.changes(record.id)?.into_iter();
        let failed =
            changes.filter(|change| matches!(change.action, ChangeAction::Failed | ChangeAction::Damaged));
        entry_failures.extend(failed.map(|change| EntryFailure {
            run: record.id.0,
            calendar: change.calendar,
            action: change.action.word(),
            why: change.told.as_ref().map(|told| scrubber.scrub(&told_words(told))).unwrap_or_default(),
        }));
    }
    entry_failures.truncate(FAILURES);
    let troubles =
        open_troubles(settings, store, io.environment.now()?)?.into_iter().map(|trouble| Trouble {
            sort: trouble.sort,
            what: scrubber.scrub(&trouble.what),
            began: trouble.began,
            about: scrubber.scrub(&trouble.about),
        });
    let scrubbed = |mut run: Run| {
        run.summary.error = run.summary.error.map(|error| scrubber.scrub(&error));
        run
    };
    Ok(State {
        kind: match settings.state {
            StateSettings::Postgres { .. } => "database",
            StateSettings::Beside | StateSettings::File(_) => "file",
        },
        calendars,
        entries,
        routes,
        runs,
        last_runs: records.iter().map(|record| scrubbed(run_of(record, None, false))).collect(),
        entry_failures,
        troubles: troubles.collect(),
    })
}
