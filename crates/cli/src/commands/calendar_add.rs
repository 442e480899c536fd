//! `chestnut calendar add`: a calendar is looked at, and then written into the configuration.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use chestnut_caldav::protocol::{CalendarInfo, feed_address};
use chestnut_core::{CalendarFacts, CalendarText, ContentKey, DurationValue, Kind};
use chestnut_engine::{CalendarError, FileCalendar, FolderCalendar};
use jiff::Timestamp;
use toml_edit::Value;

use crate::args::{CalendarAdd, Common};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::new_account::secret_from;
use crate::open::{block_on, configuration_path, load};
use crate::render::human::calendar_add::human;
use crate::report::calendar_add::Report;
use crate::settings::{
    ConfigurationText, Connections, FeedSource, Settings, check_name, path_from, secret_value,
};
use crate::words::{
    NEW_UIDS, NOT_THERE_YET, ON_A_SERVER, calendar_failure, feed_with_password, has_calendar, is_a_file,
    is_a_folder, not_a_feed, not_one_calendar, oddity_words, rights_word,
};

/// What a look at a calendar came to.
struct Looked {
    keys: Vec<(&'static str, Value)>,
    report: Report,
}

pub(crate) fn run(args: &CalendarAdd, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    check_name("calendar", &args.calendar)?;
    let path = configuration_path(common, io)?;
    let mut text = ConfigurationText::read(&path)?;
    if text.has("calendar", &args.calendar) {
        return Err(has_calendar(&args.calendar, &path));
    }
    let settings = if path.exists() { load(common, io)? } else { Settings::empty(&path) };
    if let Some(account) = &args.account {
        settings.chosen_accounts(std::slice::from_ref(account))?;
    }
    let Looked { keys, report } = look(args, &settings, io)?;
    text.add("calendar", &args.calendar, keys)?;
    text.save()?;
    show(common, io, &report, || human(&report))?;
    Ok(ExitCode::Ok)
}

fn look(args: &CalendarAdd, settings: &Settings, io: &Io<'_>) -> Result<Looked, Failure> {
    let place = &args.place;
    let connections = Connections::new(settings, &io.environment);
    if let Some(file) = &place.file {
        return look_at_file(args, settings, file);
    }
    if let Some(folder) = &place.folder {
        return look_at_folder(args, settings, folder);
    }
    if let Some(address) = &place.freebusy {
        return look_at_free_busy(args, settings, &connections, address);
    }
    let secret = place.feed_from.as_deref();
    let secret =
        secret.map(|from| secret_from(from, &args.calendar, "--feed-from", &settings.path)).transpose()?;
    let feed = place.feed.clone().map(FeedSource::Address).or(secret.map(FeedSource::Secret));
    match feed {
        Some(feed) => look_at_feed(args, settings, &connections, &feed),
        None => look_at_server(args, settings, &connections),
    }
}

fn look_at_server(
    args: &CalendarAdd,
    settings: &Settings,
    connections: &Connections<'_>,
) -> Result<Looked, Failure> {
    let account = args.account.as_deref().unwrap_or_default();
    let found = block_on(connections.discover(account))??;
    let (path, shown) = (args.place.path.as_deref(), args.place.shown.as_deref());
    let is = |c: &&CalendarInfo| match (path, shown) {
        (Some(path), _) => c.href.as_str().trim_matches('/') == path.trim_matches('/'),
        (None, Some(name)) => c.name == name,
        (None, None) => false,
    };
    let matches: Vec<_> = found.calendars.iter().filter(is).collect();
    let info = match matches.as_slice() {
        [one] => *one,
        several => {
            let wanted = path.or(shown).unwrap_or_default();
            return Err(not_one_calendar(account, wanted, !several.is_empty()));
        }
    };
    let counts = block_on(async {
        connections.client(account)?.count(info).await.map_err(|e| crate::words::account_failure(account, &e))
    })?;
    let entries =
        counts.unwrap_or_default().into_iter().map(|(kind, number)| (kind.word(), number)).collect();
    let mut keys = vec![("account", Value::from(account))];
    keys.push(match path {
        Some(_) => ("path", Value::from(info.href.as_str())),
        None => ("name", Value::from(info.name.as_str())),
    });
    let report = Report {
        title: Some(info.name.clone()),
        entries,
        ..empty_report(args, ON_A_SERVER, info.writable, settings)
    };
    Ok(Looked { keys, report })
}

fn look_at_feed(
    args: &CalendarAdd,
    settings: &Settings,
    connections: &Connections<'_>,
    feed: &FeedSource,
) -> Result<Looked, Failure> {
    if let FeedSource::Address(address) = feed {
        checked_address(address)?;
    }
    let calendar = connections.feed(&args.calendar, feed, args.account.as_deref())?;
    let failed = |error: CalendarError| unreadable(args, &error);
    // Twice, since some publishers invent new UIDs each time.
    let (text, again) = block_on(async {
        let text = calendar.look().await.map_err(failed)?;
        let again = calendar.look().await.map_err(failed)?;
        Ok::<_, Failure>((text, again))
    })??;
    let mut keys = Vec::new();
    keys.extend(args.account.as_deref().map(|account| ("account", Value::from(account))));
    keys.push((
        "feed",
        match feed {
            FeedSource::Address(address) => Value::from(address.as_str()),
            FeedSource::Secret(source) => secret_value(source),
        },
    ));
    let mut report = report(args, "feed", false, settings, &text);
    if has_new_uids(&text, &again) {
        report.odd.push(NEW_UIDS.to_owned());
    }
    Ok(Looked { keys, report })
}

fn look_at_free_busy(
    args: &CalendarAdd,
    settings: &Settings,
    connections: &Connections<'_>,
    address: &str,
) -> Result<Looked, Failure> {
    checked_address(address)?;
    let source = FeedSource::Address(address.to_owned());
    let calendar = connections.free_busy(&args.calendar, &source, args.account.as_deref())?;
    let free_busy = block_on(calendar.look())?.map_err(|error| unreadable(args, &error))?;
    let day = |at: i64| {
        Timestamp::from_second(at).ok().map(|at| at.to_zoned(settings.zone.clone()).date().to_string())
    };
    let (first, last) = (free_busy.known().first(), free_busy.known().last());
    let report = Report {
        entries: [("times", free_busy.entries(&[], "").len())].into(),
        first: first.and_then(|span| day(span.0)),
        last: last.and_then(|span| day(span.1 - 1)),
        ..empty_report(args, "free-busy", Some(false), settings)
    };
    let mut keys: Vec<_> =
        args.account.iter().map(|account| ("account", Value::from(account.as_str()))).collect();
    keys.push(("freebusy", Value::from(address)));
    Ok(Looked { keys, report })
}

/// An address that can be read, without a password in it.
fn checked_address(address: &str) -> Result<(), Failure> {
    let url = feed_address(address).ok_or_else(not_a_feed)?;
    if url.password().is_some() || !url.username().is_empty() {
        return Err(feed_with_password());
    }
    Ok(())
}

/// The same entries under other UIDs.
fn has_new_uids(one: &CalendarText, other: &CalendarText) -> bool {
    let uids = |text: &CalendarText| text.placed().iter().map(|p| p.uid.clone()).collect::<BTreeSet<_>>();
    let contents =
        |text: &CalendarText| text.entries().map(|entry| ContentKey::of(&entry)).collect::<BTreeSet<_>>();
    uids(one) != uids(other) && contents(one) == contents(other)
}

fn look_at_file(args: &CalendarAdd, settings: &Settings, file: &Path) -> Result<Looked, Failure> {
    let here = file;
    if here.is_dir() {
        return Err(is_a_folder(file));
    }
    let text = if here.exists() {
        FileCalendar::new(here.to_owned(), false).look().map_err(|error| unreadable(args, &error))?
    } else {
        CalendarText::empty()
    };
    let mut report = report(args, "file", true, settings, &text);
    if !here.exists() {
        report.odd = vec![NOT_THERE_YET.to_owned()];
    }
    Ok(Looked {
        keys: vec![("file", Value::from(path_from(&settings.path, here)?.display().to_string()))],
        report,
    })
}

fn look_at_folder(args: &CalendarAdd, settings: &Settings, folder: &Path) -> Result<Looked, Failure> {
    let here = folder;
    if here.is_file() {
        return Err(is_a_file(folder));
    }
    let listing =
        FolderCalendar::new(here.to_owned(), true).listing().map_err(|error| unreadable(args, &error))?;
    let entries = [("files", listing.entries.len())].into();
    let mut report = Report { entries, ..empty_report(args, "folder", Some(true), settings) };
    if !here.exists() {
        report.odd = vec![NOT_THERE_YET.to_owned()];
    }
    Ok(Looked {
        keys: vec![("folder", Value::from(path_from(&settings.path, here)?.display().to_string()))],
        report,
    })
}

fn unreadable(args: &CalendarAdd, error: &CalendarError) -> Failure {
    calendar_failure(error, &args.calendar, args.account.as_deref())
}

fn empty_report(
    args: &CalendarAdd,
    kind: &'static str,
    writable: Option<bool>,
    settings: &Settings,
) -> Report {
    Report {
        calendar: args.calendar.clone(),
        kind,
        title: None,
        rights: rights_word(writable),
        is_read_only: writable == Some(false),
        entries: BTreeMap::new(),
        first: None,
        last: None,
        endless_series: 0,
        timezone: None,
        refresh_seconds: None,
        odd: Vec::new(),
        configuration: settings.path.display().to_string(),
    }
}

fn report(
    args: &CalendarAdd,
    kind: &'static str,
    writable: bool,
    settings: &Settings,
    text: &CalendarText,
) -> Report {
    let CalendarFacts { title, zone, refresh, kinds, first, last, endless, .. } = text.facts();
    Report {
        title,
        entries: kinds.into_iter().map(|(kind, number): (Kind, usize)| (kind.word(), number)).collect(),
        first: first.map(|day| day.to_string()),
        last: last.map(|day| day.to_string()),
        endless_series: endless,
        timezone: zone,
        refresh_seconds: refresh
            .map(|DurationValue { days, seconds }| days.saturating_mul(86_400).saturating_add(seconds)),
        odd: text.oddities().iter().map(oddity_words).collect(),
        ..empty_report(args, kind, Some(writable), settings)
    }
}
