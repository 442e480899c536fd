//! `chestnut check`: whether everything that the configuration names is there, and does what it seems to. Writes nothing.

use std::collections::BTreeSet;
use std::path::Path;

use chestnut_caldav::protocol::CalendarInfo;
use chestnut_core::Kind;
use chestnut_engine::{Calendar, ReadEntry, read_calendar};
use futures_util::future::join_all;

use crate::args::Common;
use crate::bundle::write_bundle;
use crate::check_account::{Checked, check_account};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load};
use crate::progress::Bars;
use crate::render::human::check::human;
use crate::report::check::{Line, Report, Standing};
use crate::settings::{Connections, Idle, Place, RouteSettings, Settings, http_options, idle};
use crate::words::{
    account_in_order, account_not_asked, bundle_written, calendar_in_order, calendar_not_asked,
    check_account_further, idle_words, keep_password_anew, kinds_not_accepted, not_in_place,
    secrets_in_order, write_refused,
};

pub(crate) fn run(
    offline: bool,
    bundle: Option<&Path>,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let (lines, checked) = look(&settings, offline, common, io)?;
    let ok = lines.iter().all(|line| line.standing != Standing::Wrong);
    let report = Report {
        file: settings.path.display().to_string(),
        offline,
        ok,
        accounts: settings.accounts.len(),
        calendars: settings.calendars.len(),
        routes: settings.routes.len(),
        lines,
    };
    if let Some(path) = bundle {
        write_bundle(path, &settings, &report, &checked, common, io)?;
        io.say(&bundle_written(path))?;
    }
    show(common, io, &report, || human(&report, common.verbose > 0))?;
    Ok(if ok { ExitCode::Ok } else { ExitCode::Failed })
}

/// The way to each account, by its name.
type Ways<'s> = Vec<(&'s str, Result<Checked, Failure>)>;

/// Looks at everything that the configuration names.
fn look<'s>(
    settings: &'s Settings,
    offline: bool,
    common: &Common,
    io: &Io<'_>,
) -> Result<(Vec<Line>, Ways<'s>), Failure> {
    let connections = Connections::new(settings, &io.environment);
    let bars = Bars::new(io.progress && !common.quiet);
    let (mut lines, ways) = match offline {
        true => (offline_lines(settings, &connections, io), Vec::new()),
        false => block_on(bars.meanwhile(|| connections.waits_for(), async {
            let accounts = settings.accounts.iter().map(|(name, account)| async move {
                (name.as_str(), check_account(name, account, settings.base(), &io.environment).await)
            });
            let ways: Ways<'_> = join_all(accounts).await;
            let mut lines: Vec<Line> =
                ways.iter().map(|(name, checked)| account_line(name, checked)).collect();
            let down: BTreeSet<&str> = lines
                .iter()
                .filter(|line| line.standing == Standing::Wrong)
                .map(|line| &*line.name)
                .collect();
            let calendars =
                settings.calendars.keys().map(|name| calendar_line(name, &down, settings, &connections));
            let calendars = join_all(calendars).await;
            lines.extend(calendars.into_iter().flatten());
            (lines, ways)
        }))?,
    };
    lines.extend(idle(settings).into_iter().map(idle_line));
    // What is remarked stands in the place of what is in order.
    let remarked: BTreeSet<(&str, String)> = lines
        .iter()
        .filter(|line| line.standing == Standing::Remark)
        .map(|line| (line.about, line.name.clone()))
        .collect();
    lines
        .retain(|line| line.standing != Standing::Ok || !remarked.contains(&(line.about, line.name.clone())));
    let order = |about: &str| ["account", "calendar", "route"].iter().position(|known| *known == about);
    lines.sort_by(|a, b| (order(a.about), &a.name).cmp(&(order(b.about), &b.name)));
    Ok((lines, ways))
}

fn idle_line(idle: Idle<'_>) -> Line {
    let (about, name, says, fix) = idle_words(idle);
    Line::new(about, name, Standing::Remark, says).fix(fix)
}

/// What can be said without asking a server: whether secrets are to be had, and files are in their place.
fn offline_lines(settings: &Settings, connections: &Connections<'_>, io: &Io<'_>) -> Vec<Line> {
    let accounts = settings.accounts.iter().map(|(name, account)| {
        match http_options(name, account, settings.base(), &io.environment) {
            Ok(_) => Line::new("account", name, Standing::NotAsked, secrets_in_order(account)),
            Err(failure) => no_secret(name, &failure),
        }
    });
    let calendars = settings.calendars.iter().map(|(name, calendar)| match &calendar.place {
        Place::Path(_) | Place::Name(_) => {
            Line::new("calendar", name, Standing::NotAsked, account_not_asked(calendar.account.as_deref()))
        }
        Place::Feed(source) => match connections.feed(name, source, calendar.account.as_deref()) {
            Ok(_) => Line::new("calendar", name, Standing::NotAsked, calendar_not_asked()),
            Err(failure) => Line::wrong("calendar", name, &failure),
        },
        Place::FreeBusy(source) => match connections.free_busy(name, source, calendar.account.as_deref()) {
            Ok(_) => Line::new("calendar", name, Standing::NotAsked, calendar_not_asked()),
            Err(failure) => Line::wrong("calendar", name, &failure),
        },
        Place::File(path) | Place::Folder(path) => {
            let place = settings.base().join(path);
            match place_failure(name, &place, settings) {
                Some(failure) => Line::wrong("calendar", name, &failure),
                None => Line::new("calendar", name, Standing::Ok, calendar_in_order(None, None)),
            }
        }
    });
    accounts.chain(calendars).collect()
}

fn account_line(name: &str, checked: &Result<Checked, Failure>) -> Line {
    match checked {
        Ok(Checked { outcome: Ok(found), .. }) => {
            Line::new("account", name, Standing::Ok, account_in_order(found.calendars.len()))
        }
        Ok(Checked { outcome: Err(failure), .. }) => {
            let line = Line::wrong("account", name, failure);
            let fix = check_account_further(name, line.fix.as_deref());
            line.fix(fix)
        }
        Err(failure) => no_secret(name, failure),
    }
}

/// A secret or a file that an account needs is not to be had.
fn no_secret(name: &str, failure: &Failure) -> Line {
    let line = Line::wrong("account", name, failure);
    let fix = line.fix.clone().unwrap_or_else(|| keep_password_anew(name));
    line.fix(fix)
}

/// The routes that write a calendar, or read it.
fn routes(settings: &Settings, is: impl Fn(&RouteSettings) -> bool) -> Vec<(&str, &RouteSettings)> {
    let routes = settings.routes.iter().filter(|(_, route)| is(route));
    routes.map(|(name, route)| (route.part_of.as_deref().unwrap_or(name), route)).collect()
}

/// Why a file or a folder cannot be what the configuration says.
fn place_failure(name: &str, place: &Path, settings: &Settings) -> Option<Failure> {
    let name = name.to_owned();
    let reads =
        !routes(settings, |route| !route.writes().contains(&name) && route.ends.contains(&name)).is_empty();
    let writers = routes(settings, |route| route.writes().contains(&name));
    match std::fs::metadata(place) {
        Ok(known) if known.permissions().readonly() && !writers.is_empty() => {
            Some(write_refused(&name, writers[0].0))
        }
        Ok(_) => None,
        Err(system) if reads => Some(not_in_place(&name, place, &system)),
        // The first sync makes it, in a folder that is there.
        Err(_) => {
            let above = place.parent().filter(|above| !above.as_os_str().is_empty())?;
            std::fs::metadata(above).err().map(|system| not_in_place(&name, above, &system))
        }
    }
}

/// Looks at one calendar: whether it is there, and may be used as its routes use it.
async fn calendar_line(
    name: &str,
    down: &BTreeSet<&str>,
    settings: &Settings,
    connections: &Connections<'_>,
) -> Vec<Line> {
    let calendar = &settings.calendars[name];
    if let Some(account) = calendar.account.as_deref().filter(|account| down.contains(account)) {
        return vec![Line::new("calendar", name, Standing::NotAsked, account_not_asked(Some(account)))];
    }
    match looked_at(name, settings, connections).await {
        Ok((info, entries)) => {
            let mut lines = vec![Line::new(
                "calendar",
                name,
                Standing::Ok,
                calendar_in_order(info.as_ref().map(|info| info.writable), entries),
            )];
            lines.extend(info.iter().flat_map(|info| misfits(name, info, settings)));
            lines
        }
        Err(failure) => vec![Line::wrong("calendar", name, &failure)],
    }
}

/// What a calendar is; and how many entries it has, where all of them had to be read.
async fn looked_at(
    name: &str,
    settings: &Settings,
    connections: &Connections<'_>,
) -> Result<(Option<CalendarInfo>, Option<usize>), Failure> {
    let calendar = &settings.calendars[name];
    if let Place::File(path) | Place::Folder(path) = &calendar.place {
        let place = settings.base().join(path);
        if let Some(failure) = place_failure(name, &place, settings) {
            return Err(failure);
        }
        if !place.exists() {
            return Ok((None, Some(0)));
        }
    }
    let end = connections.calendar(name).await?;
    if let Calendar::Dav { client, url } = &end.calendar {
        let info = client.calendar(url).await.map_err(|error| Failure::from(end.failed(error.into())))?;
        let writers = routes(settings, |route| route.writes().contains(&name.to_owned()));
        return match (info.writable, writers.first()) {
            (Some(false), Some((route, _))) => Err(write_refused(name, route)),
            _ => Ok((Some(info), None)),
        };
    }
    let entries = read_calendar(&end.calendar).await.map_err(|error| Failure::from(end.failed(error)))?;
    let readable = entries.iter().filter(|entry| matches!(entry, ReadEntry::Entry(_))).count();
    Ok((None, Some(readable)))
}

/// Kinds that a route takes, and that the calendar which it writes does not accept.
fn misfits(name: &str, info: &CalendarInfo, settings: &Settings) -> Vec<Line> {
    let writers = routes(settings, |route| route.writes().contains(&name.to_owned()));
    let misfit = |(route, of): (&str, &RouteSettings)| {
        let missing: Vec<&str> = Kind::ALL
            .into_iter()
            .filter(|kind| of.kinds.contains(*kind) && !info.kinds.contains(*kind))
            .map(Kind::word)
            .collect();
        let (says, fix) = kinds_not_accepted(name, &missing);
        (!missing.is_empty()).then(|| Line::new("route", route, Standing::Remark, says).fix(fix))
    };
    writers.into_iter().filter_map(misfit).collect()
}
