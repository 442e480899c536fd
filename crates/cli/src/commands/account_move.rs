//! `chestnut account move`: a server has a new address; the calendars there are the same.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_caldav::protocol::CalendarInfo;
use chestnut_engine::{Calendar, CalendarEnd, Candidate, candidate, take_over};
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
    let now = io.environment.now()?;
    let found = block_on(async {
        let there = connections.discover(name).await?;
        let mut taken = BTreeSet::new();
        let mut found = Vec::new();
        for (calendar, place) in &places {
            let wanted = &moved.calendars[calendar].place;
            let is_called_so = |one: &CalendarInfo| match wanted {
                Place::Name(shown) => one.name == *shown,
                Place::Path(path) => one.href.as_str().trim_matches('/') == path.trim_matches('/'),
                _ => false,
            };
            let mut order: Vec<_> =
                there.calendars.iter().filter(|one| !taken.contains(one.url.as_str())).collect();
            // The likeliest is read first.
            order.sort_by_key(|one| !is_called_so(one));
            let mut best: Option<(Candidate, String, bool)> = None;
            for one in order {
                let dav = Calendar::Dav { client: connections.client(name)?, url: one.url.clone() };
                let end = CalendarEnd::new(calendar, Some(name), dav);
                let Some(candidate) = candidate(&store, place, &end, now).await? else { break };
                // Nothing is known of an empty calendar but what it is called.
                let is_it = candidate.is_same() || candidate.known == 0 && is_called_so(one);
                let is_better = best.as_ref().is_none_or(|(known, ..)| candidate.found > known.found);
                if is_better || is_it {
                    best = Some((candidate, one.href.as_str().to_owned(), is_it));
                }
                if is_it {
                    taken.insert(one.url.as_str().to_owned());
                    break;
                }
            }
            found.push((calendar.clone(), best));
        }
        Ok::<_, Failure>(found)
    })??;
    let (mut calendars, mut candidates, mut paths) = (Vec::new(), Vec::new(), Vec::new());
    for (calendar, best) in found {
        match best {
            Some((candidate, path, true)) => {
                calendars.push(Moved {
                    calendar: calendar.clone(),
                    path: path.clone(),
                    known: candidate.known,
                    found: candidate.found,
                });
                paths.push((calendar, path));
                candidates.push(candidate);
            }
            best => {
                let nearest = best.map(|(candidate, path, _)| (path, candidate.found, candidate.known));
                return Err(no_calendar_recognised(&calendar, name, url, nearest));
            }
        }
    }
    let report = Report { account: name.to_owned(), url: url.to_owned(), calendars, routes };
    if !yes {
        let planned = || account_moves(&report);
        let refusals = [moving_asks_first(), not_moved_account(name)];
        ask_first(&report, planned, MOVE_ACCOUNT, refusals, common, io)?;
    }
    take_over(&store, &candidates, &report.routes)?;
    text.save()?;
    for (calendar, path) in paths {
        // Whoever is named by what it is called is found there.
        if matches!(&moved.calendars[&calendar].place, Place::Path(known) if known.trim_matches('/') != path.trim_matches('/'))
        {
            let mut text = ConfigurationText::holding(&moved, "calendar", &calendar)?;
            text.set("calendar", &calendar, "path", &path);
            text.save()?;
        }
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
        let lines: Vec<_> = known.ends.lines().filter_map(|line| line.split_once(' ')).collect();
        for (end, (_, place)) in route.ends.iter().zip(lines).filter(|(end, _)| of_account(end)) {
            places.insert(end.clone(), place.to_owned());
        }
        routes.push(name.clone());
    }
    Ok((places, routes))
}
