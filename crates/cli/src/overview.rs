//! Gathers what a report shows, out of what is known already.

use chestnut_engine::last_comparison;
use chestnut_store::Store;
use jiff::{Span, Timestamp};

use crate::days::week_of;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::occurring::Agenda;
use crate::report::compare::RouteComparison;
use crate::report::held::held;
use crate::report::overview::{Compared, Report, Week, calendars, done};
use crate::report::route::gone;
use crate::report::status;
use crate::settings::{Connections, Settings};
use crate::watch::Watcher;

/// Everything about all calendars and routes, from a moment on; nobody is asked.
pub(crate) async fn overview(
    settings: &Settings,
    store: &Store,
    environment: &Environment,
    watchers: &[Watcher],
    (since, now): (Timestamp, Timestamp),
) -> Result<Report, Failure> {
    let connections = Connections::new(settings, environment).keeping(store, now);
    let first = week_of(now.to_zoned(settings.zone.clone()).date(), settings.week_starts);
    let last = first.saturating_add(Span::new().days(6));
    let mut agenda = Agenda::new((first, last), &settings.zone, now, true);
    agenda.read(&[], settings, store, &connections).await?;
    let health = status::Report::of(settings, store, now, None, watchers)?;
    let (did, steps) = done(&store.runs_since(since)?, since, now, &settings.zone);
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
        troubles: agenda.troubles.into_iter().map(|trouble| trouble.message).collect(),
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
