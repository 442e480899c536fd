//! `chestnut why`: which rule of a route lets an entry through or stops it, and the key that says so.

use chestnut_core::Entry;
use chestnut_core::recurrence::{Budget, Occurrences, Zone};
use chestnut_engine::{RunOptions, explain};
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load, look_at_state};
use crate::render::human::why::human;
use crate::render::midnight;
use crate::report::why::{Report, line};
use crate::settings::{Connections, route_key};

pub(crate) fn run(route: &str, entry: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let (name, route) = settings.chosen_routes(&[route.to_owned()])?.remove(0);
    let store = look_at_state(common, &settings)?;
    let key = route_key(&settings, false)?;
    let options = RunOptions::at(io.environment.now()?);
    let connections = Connections::new(&settings, &io.environment);
    let zone = settings.zone.clone();
    let wanted = |candidate: &Entry| is_wanted(entry, candidate, &zone);
    let found = block_on(async {
        let ready = connections.route(name, route, &key).await?;
        Ok::<_, Failure>(explain(&ready, &store, &options, &wanted).await?)
    })??;
    if found.is_empty() {
        let message = format!("calendar {} has no entry {entry:?}", route.from());
        return Err(Failure::failed(message)
            .hint("Name it by words of its title, by its UID, or by a day such as 2026-10-05."));
    }
    let lines = found.into_iter().map(|one| line(one, route)).collect();
    let report = Report { route: name.to_owned(), entries: lines };
    let all = common.verbose > 0;
    show(common, io, &report, || human(&report, &zone, all))?;
    Ok(ExitCode::Ok)
}

/// By UID, by a day on which it takes place, or by words that are all in its title.
fn is_wanted(asked: &str, entry: &Entry, zone: &TimeZone) -> bool {
    if entry.uid().as_str() == asked {
        return true;
    }
    if let Ok(day) = asked.parse::<Date>() {
        let window = midnight(day, zone)..midnight(day.tomorrow().unwrap_or(day), zone);
        let reading = Zone::Rules(zone.clone());
        let times = Occurrences::of(entry, &reading);
        return times.is_ok_and(|t| t.any_within(window, &mut Budget::default()).unwrap_or(false));
    }
    let title = entry.title().to_lowercase();
    asked.to_lowercase().split_whitespace().all(|word| title.contains(word))
}
