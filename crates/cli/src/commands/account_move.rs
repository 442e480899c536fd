//! `chestnut account move`: a server has a new address; the calendars there are the same.

use std::collections::BTreeMap;

use chestnut_engine::{Calendar, CalendarEnd, candidate, take_over};
use chestnut_store::Store;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load, open_state};
use crate::questions::ask_first;
use crate::report::account_move::{Moved, Report};
use crate::settings::{ConfigurationText, Connections, Place, Settings};
use crate::words::{
    MOVE_ACCOUNT, account_moved, account_moves, moving_asks_first, no_calendar_recognised, not_moved_account,
};

pub(crate) fn run(
    name: &str,
    url: &str,
    yes: bool,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    settings.chosen_accounts(&[name.to_owned()])?;
    let mut text = ConfigurationText::holding(&settings, "account", name)?;
    text.set("account", name, "url", url);
    let moved = text.settings()?;
    let store = open_state(common, &settings, &io.environment)?;
    let (places, routes) = known_places(&settings, &store, name)?;
    let connections = Connections::new(&moved, &io.environment);
    let aside = Store::in_memory()?;
    let now = io.environment.now()?;
    let (mut calendars, mut candidates, mut elsewhere) = (Vec::new(), Vec::new(), Vec::new());
    block_on(async {
        let there = connections.discover(name).await?;
        let mut left: Vec<_> = there.calendars.iter().collect();
        for (calendar, place) in &places {
            let wanted = &moved.calendars[calendar].place;
            // The likeliest is read first.
            left.sort_by_key(|one| !wanted.means(one));
            let mut nearest: Option<(String, usize, usize)> = None;
            let mut found = None;
            for (at, one) in left.iter().enumerate() {
                let dav = Calendar::Dav { client: connections.client(name)?, url: one.url.clone() };
                let end = CalendarEnd::new(calendar, Some(name), dav);
                let Some(candidate) = candidate(&store, &aside, place, &end, now).await? else { break };
                // Nothing is known of an empty calendar but what it is called.
                if candidate.is_same() || candidate.known == 0 && wanted.means(one) {
                    found = Some((at, candidate));
                    break;
                }
                if nearest.as_ref().is_none_or(|(_, most, _)| candidate.found > *most) {
                    nearest = Some((one.href.as_str().to_owned(), candidate.found, candidate.known));
                }
            }
            let Some((at, candidate)) = found else {
                return Err(no_calendar_recognised(calendar, name, url, nearest));
            };
            let one = left.swap_remove(at);
            let path = one.href.as_str().to_owned();
            // Whoever is named by what it is called is found there.
            if matches!(wanted, Place::Path(_)) && !wanted.means(one) {
                elsewhere.push((calendar, path.clone()));
            }
            let (known, found) = (candidate.known, candidate.found);
            calendars.push(Moved { calendar: calendar.clone(), path, known, found });
            candidates.push(candidate);
        }
        Ok::<_, Failure>(())
    })??;
    let report = Report { account: name.to_owned(), url: url.to_owned(), calendars, routes };
    if !yes {
        let planned = || account_moves(&report);
        let refusals = [moving_asks_first(), not_moved_account(name)];
        ask_first(&report, planned, MOVE_ACCOUNT, refusals, common, io)?;
    }
    take_over(&store, &candidates, &report.routes)?;
    text.save()?;
    for (calendar, path) in elsewhere {
        let mut text = ConfigurationText::holding(&moved, "calendar", calendar)?;
        text.set("calendar", calendar, "path", &path);
        text.save()?;
    }
    show(common, io, &report, || account_moved(&report))?;
    Ok(ExitCode::Ok)
}

/// What the state knows of an account's calendars, and the routes that use them: also of those that are not there any
/// more.
fn known_places(
    settings: &Settings,
    store: &Store,
    account: &str,
) -> Result<(BTreeMap<String, String>, Vec<String>), Failure> {
    let mut places = BTreeMap::new();
    let mut routes = Vec::new();
    for (name, route) in &settings.routes {
        let of_account = |end: &String| {
            let calendar = &settings.calendars[end];
            let is_on_server = matches!(calendar.place, Place::Path(_) | Place::Name(_));
            is_on_server && calendar.account.as_deref() == Some(account)
        };
        let Some(known) = store.route(name)?.filter(|_| route.ends.iter().any(of_account)) else { continue };
        for (end, (_, place)) in route.ends.iter().zip(known.places()).filter(|(end, _)| of_account(end)) {
            places.insert(end.clone(), place.to_owned());
        }
        routes.push(name.clone());
    }
    Ok((places, routes))
}
