//! `chestnut state check / backup / move`: whether what is remembered is whole, a copy of it, and another place for it.

use std::path::{Path, PathBuf};

use chestnut_store::Store;

use crate::args::Common;
use crate::environment::Environment;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{StatePlace, configured_state, load, look_at_state};
use crate::report::state::Report;
use crate::settings::{Settings, StateSettings, route_key};
use crate::words::{
    database_not_configured, no_state_to_move, state_backed_up, state_is_damaged, state_is_sound,
    state_moved, state_there_already,
};

pub(crate) fn check(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    refuse_damaged(&store)?;
    route_key(&settings, &store, false)?;
    let report = report(&store)?;
    show(common, io, &report, || state_is_sound(&report))?;
    Ok(ExitCode::Ok)
}

pub(crate) fn backup(to: &Path, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    if to.exists() {
        return Err(state_there_already(to));
    }
    store.backup(to)?;
    let report = Report { copy: Some(to.display().to_string()), ..report(&store)? };
    show(common, io, &report, || state_backed_up(to, &settings.key_path()))?;
    Ok(ExitCode::Ok)
}

pub(crate) fn move_to(from: &str, to: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let source = named(from, &settings, &io.environment)?;
    let target = named(to, &settings, &io.environment)?;
    match (&source, &target) {
        (StatePlace::File(path), _) if !path.exists() => return Err(no_state_to_move(path)),
        (_, StatePlace::File(path)) if path.exists() => return Err(state_there_already(path)),
        _ => {}
    }
    let store = source.open()?;
    refuse_damaged(&store)?;
    store.move_to(&target.open()?)?;
    let report = Report { moved_to: Some(to.to_owned()), ..report(&store)? };
    let is_configured = match &target {
        StatePlace::File(path) => settings.state.lease().is_none() && settings.state_path() == *path,
        #[cfg(feature = "postgres")]
        StatePlace::Postgres(_) => true,
    };
    show(common, io, &report, || state_moved(&report, to, (!is_configured).then_some(&*settings.path)))?;
    Ok(ExitCode::Ok)
}

/// A state that is named on the command line. A database is that of the configuration, which knows its password.
fn named(name: &str, settings: &Settings, environment: &Environment) -> Result<StatePlace, Failure> {
    if !name.contains("://") {
        return Ok(StatePlace::File(PathBuf::from(name)));
    }
    match &settings.state {
        StateSettings::Postgres { url, .. } if url == name => configured_state(settings, environment),
        _ => Err(database_not_configured(name, &settings.path)),
    }
}

fn refuse_damaged(store: &Store) -> Result<(), Failure> {
    match &store.check()?[..] {
        [] => Ok(()),
        wrong => Err(state_is_damaged(store.place(), wrong)),
    }
}

fn report(store: &Store) -> Result<Report, Failure> {
    let [calendars, entries, routes, runs] = store.sizes()?;
    let state = store.place().to_owned();
    Ok(Report { state, copy: None, moved_to: None, calendars, entries, routes, runs })
}
