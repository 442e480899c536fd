//! `chestnut status`: how every route is doing.

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{load, look_at_state, state_path};
use crate::render::Clock;
use crate::render::human::status::human;
use crate::report::route::gone;
use crate::report::status::{Report, RouteStatus};
use crate::settings::parse_duration;
use crate::watch::Presence;
use crate::words::{gone_words, not_a_duration};

pub(crate) fn run(stale_after: Option<&str>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let duration = |text| parse_duration(text).ok_or_else(|| not_a_duration("--stale-after", text));
    let stale_after = stale_after.map(duration).transpose()?;
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings, &io.environment)?;
    let now = io.environment.now()?;
    let clock = Clock::at(now, &settings.zone);
    let watchers = Presence::all(&state_path(common, &settings), &store)?;
    let report = Report::of(&settings, &store, now, stale_after, &watchers)?;
    let gone = gone(&store, &settings)?;
    let words = || gone.iter().map(|name| gone_words(name)).collect::<String>();
    // Who searches in it gets all of it.
    let whole = io.screen.is_none() && !common.quiet;
    show(common, io, &report, || human(&report, &clock, whole, common.verbose > 0) + &words())?;
    let waits = !gone.is_empty() || !report.probe_leftovers.is_empty();
    let besides = if waits { ExitCode::Waiting } else { ExitCode::Ok };
    Ok(report.routes.iter().map(RouteStatus::code).max().unwrap_or(ExitCode::Ok).max(besides))
}
