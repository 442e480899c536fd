//! `chestnut status`: how every route is doing.

use chestnut_store::RunResult;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{load, look_at_state};
use crate::render::human::status::human;
use crate::report::route::gone;
use crate::report::status::{Report, RouteStatus, status};
use crate::words::gone_words;

pub(crate) fn run(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    let chosen = settings.chosen_routes(&[])?;
    let routes = chosen.into_iter().map(|(name, route)| status(&store, name, route));
    let report = Report { routes: routes.collect::<Result<_, _>>()? };
    let gone = gone(&store, &settings)?;
    let words = || gone.iter().map(|name| gone_words(name)).collect::<String>();
    show(common, io, &report, || human(&report, &settings.zone) + &words())?;
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
