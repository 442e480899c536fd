//! `chestnut state check / backup`: whether what is remembered is whole, and a copy of it.

use std::path::Path;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{load, look_at_state};
use crate::report::state::Report;
use crate::settings::route_key;
use crate::words::{state_backed_up, state_is_damaged, state_is_sound};

pub(crate) fn check(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    let wrong = store.check()?;
    if !wrong.is_empty() {
        return Err(state_is_damaged(store.place(), &wrong));
    }
    route_key(&settings, &store, false)?;
    let sizes = store.sizes()?;
    let [calendars, entries, routes, runs] = sizes;
    let report = Report { state: store.place().to_owned(), copy: None, calendars, entries, routes, runs };
    show(common, io, &report, || state_is_sound(store.place(), sizes))?;
    Ok(ExitCode::Ok)
}

pub(crate) fn backup(to: &Path, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    store.backup(to)?;
    let [calendars, entries, routes, runs] = store.sizes()?;
    let copy = Some(to.display().to_string());
    let report = Report { state: store.place().to_owned(), copy, calendars, entries, routes, runs };
    show(common, io, &report, || state_backed_up(to))?;
    Ok(ExitCode::Ok)
}
