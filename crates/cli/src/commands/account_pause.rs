//! `chestnut account pause / resume`: holds back every route that uses an account.

use crate::args::Common;
use crate::days::until;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{load, open_state};
use crate::render::moment_text;
use crate::report::account_pause::Report;
use crate::settings::used_by;
use crate::words::account_paused_or_not;

pub(crate) fn pause(
    name: &str,
    when: Option<&str>,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let zone = settings.zone.clone();
    let ends = when.map(|text| until(text, io.environment.now()?, &zone)).transpose()?;
    settings.chosen_accounts(&[name.to_owned()])?;
    let store = open_state(common, &settings, &io.environment)?;
    store.write(|writer| writer.pause_account(name, Some(ends.map(|at| at.as_second()))))?;
    let (_, routes) = used_by(&settings, name);
    let report =
        Report { account: name.to_owned(), paused: true, until: ends.map(|at| at.to_string()), routes };
    let clock = io.environment.clock(&zone)?;
    let at = ends.map(|at| moment_text(at, &clock));
    show(common, io, &report, || account_paused_or_not(name, &report.routes, Some(at.as_deref())))?;
    Ok(ExitCode::Ok)
}

pub(crate) fn resume(name: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    settings.chosen_accounts(&[name.to_owned()])?;
    let store = open_state(common, &settings, &io.environment)?;
    store.write(|writer| writer.pause_account(name, None))?;
    let (_, routes) = used_by(&settings, name);
    let report = Report { account: name.to_owned(), paused: false, until: None, routes };
    show(common, io, &report, || account_paused_or_not(name, &report.routes, None))?;
    Ok(ExitCode::Ok)
}
