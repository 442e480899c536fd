//! `chestnut calendar list`: the calendars of the accounts, what the configuration calls them, and which routes
//! use them; then the feeds, files and folders of the configuration.

use std::collections::BTreeMap;

use chestnut_caldav::Client;
use chestnut_caldav::protocol::{CalendarInfo, Found};
use chestnut_core::{Kind, ObjectHref};
use futures_util::stream::{self, StreamExt as _};
use serde::Serialize;

use super::{block_on, load, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{Align, clean, count, shorten, style, table};
use crate::run::Io;
use crate::settings::{CalendarSettings, Connections, FeedSource, Place, Settings};

#[derive(Debug, Serialize)]
struct Report {
    accounts: Vec<AccountReport>,
    others: Vec<OtherReport>,
}

#[derive(Debug, Serialize)]
struct AccountReport {
    account: String,
    url: String,
    calendars: Vec<CalendarReport>,
    error: Option<String>,
    #[serde(skip)]
    failure: Option<Failure>,
}

/// One calendar on a server.
#[derive(Debug, Serialize)]
pub(super) struct CalendarReport {
    name: String,
    path: String,
    color: Option<String>,
    kinds: Vec<&'static str>,
    /// Entries by kind; `None` where nobody counted, or the server does not tell.
    entries: Option<BTreeMap<&'static str, usize>>,
    rights: &'static str,
    shared: bool,
    configured_as: Vec<String>,
    routes: Vec<String>,
}

/// A feed, a file or a folder.
#[derive(Debug, Serialize)]
struct OtherReport {
    name: String,
    kind: &'static str,
    place: String,
    rights: &'static str,
    routes: Vec<String>,
}

pub(super) fn run(names: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let connections = Connections::new(&settings, &io.environment);
    let chosen = match names.is_empty() && settings.accounts.is_empty() && !settings.calendars.is_empty() {
        true => Vec::new(),
        false => settings.chosen_accounts(names)?,
    };
    let accounts = block_on(async {
        let mut reports = Vec::new();
        for (name, account) in chosen {
            let listed = list(&settings, &connections, name).await;
            let (calendars, failure) = match listed {
                Ok(calendars) => (calendars, None),
                Err(failure) => (Vec::new(), Some(failure)),
            };
            let error = failure.as_ref().map(|f| f.message.clone());
            let url = account.start.url.to_string();
            reports.push(AccountReport { account: name.to_owned(), url, calendars, error, failure });
        }
        reports
    })?;
    let others = if names.is_empty() { others(&settings) } else { Vec::new() };
    let report = Report { accounts, others };
    show(common, io, &report, || human(&report))?;
    let failures: Vec<_> = report.accounts.iter().filter_map(|a| a.failure.as_ref()).collect();
    if !common.json {
        for failure in &failures {
            io.err.write_all(failure.lines().as_bytes())?;
        }
    }
    Ok(failures.first().map_or(ExitCode::Ok, |failure| failure.code))
}

async fn list(
    settings: &Settings,
    connections: &Connections<'_>,
    account: &str,
) -> Result<Vec<CalendarReport>, Failure> {
    let found = connections.discover(account).await?;
    let client = connections.client(account)?;
    let mut reports = configured(Some(settings), account, &found);
    let counts: Vec<_> =
        stream::iter(&found.calendars).map(|info| entries(&client, info)).buffered(8).collect().await;
    for (report, entries) in reports.iter_mut().zip(counts) {
        report.entries = entries;
    }
    Ok(reports)
}

/// Counts by kind; where the server does not answer that, by the whole listing.
async fn entries(client: &Client, info: &CalendarInfo) -> Option<BTreeMap<&'static str, usize>> {
    match client.count(info).await {
        Ok(counts) => Some(counts.into_iter().map(|(kind, number)| (kind.word(), number)).collect()),
        Err(_) => {
            let listing = client.listing(&info.url).await.ok()?;
            Some([("entries", listing.entries.len())].into())
        }
    }
}

/// Returns the routes that use any of these calendars.
pub(super) fn routes_of(settings: &Settings, names: &[String]) -> Vec<String> {
    let uses = |name: &String| names.contains(name);
    let routes = settings.routes.iter().filter(|(_, r)| r.ends.iter().any(uses));
    routes.map(|(name, _)| name.clone()).collect()
}

/// Joins what a server has with what the configuration says.
pub(super) fn configured(settings: Option<&Settings>, account: &str, found: &Found) -> Vec<CalendarReport> {
    let same = |path: &str, href: &ObjectHref| path.trim_matches('/') == href.as_str().trim_matches('/');
    let is = |place: &Place, info: &CalendarInfo| match place {
        Place::Path(path) => same(path, &info.href),
        Place::Name(name) => *name == info.name,
        Place::Feed(_) | Place::File(_) | Place::Folder(_) => false,
    };
    let principal = found.principal.as_ref().map(|url| url.path().trim_end_matches('/').to_owned());
    let report = |info: &CalendarInfo| {
        let mine = |c: &CalendarSettings| c.account.as_deref() == Some(account) && is(&c.place, info);
        let all = settings.into_iter().flat_map(|s| &s.calendars);
        let configured_as: Vec<String> = all.filter(|(_, c)| mine(c)).map(|(name, _)| name.clone()).collect();
        let owner = info.owner.as_ref().map(|owner| owner.as_str().trim_end_matches('/'));
        let others = matches!((owner, &principal), (Some(owner), Some(own)) if owner != own);
        CalendarReport {
            name: info.name.clone(),
            path: info.href.as_str().to_owned(),
            color: info.color.clone(),
            kinds: info.kinds.iter().map(Kind::word).collect(),
            entries: None,
            rights: match info.writable {
                Some(true) => "read, write",
                Some(false) => "read only",
                None => "not told",
            },
            shared: info.is_shared || others,
            routes: settings.map(|s| routes_of(s, &configured_as)).unwrap_or_default(),
            configured_as,
        }
    };
    found.calendars.iter().map(report).collect()
}

fn others(settings: &Settings) -> Vec<OtherReport> {
    let elsewhere = |place: &Place| match place {
        Place::Path(_) | Place::Name(_) => None,
        Place::Feed(FeedSource::Address(address)) => Some(feed_place(address)),
        Place::Feed(FeedSource::Secret(_)) => Some("kept as a secret".to_owned()),
        Place::File(path) | Place::Folder(path) => Some(path.display().to_string()),
    };
    let calendars = settings.calendars.iter().filter_map(|(name, calendar)| {
        Some(OtherReport {
            name: name.clone(),
            kind: calendar.place.kind(),
            place: elsewhere(&calendar.place)?,
            rights: if matches!(calendar.place, Place::Feed(_)) { "read only" } else { "read, write" },
            routes: routes_of(settings, std::slice::from_ref(name)),
        })
    });
    calendars.collect()
}

/// The address of a feed is often a secret: no more than its host is shown.
pub(super) fn feed_place(address: &str) -> String {
    let url = chestnut_caldav::protocol::feed_address(address);
    url.and_then(|url| url.host_str().map(|host| format!("at {host}"))).unwrap_or_default()
}

fn routes_cell(routes: &[String]) -> String {
    match routes {
        [] => style::paint(style::WARN, "none"),
        [first, rest @ ..] if rest.len() > 1 => clean(&format!("{first} and {} more", rest.len())),
        routes => clean(&routes.join(", ")),
    }
}

/// A patch of a calendar's colour, on terminals that can.
fn swatch(color: Option<&String>) -> String {
    let Some(color) = color else { return String::new() };
    let part = |at: usize| u8::from_str_radix(color.get(at..at + 2).unwrap_or_default(), 16).unwrap_or(0);
    let paint = anstyle::Style::new().bg_color(Some(anstyle::RgbColor(part(1), part(3), part(5)).into()));
    format!("{} {color}", style::paint(paint, "  "))
}

/// The table that `account test` and `calendar list` share.
pub(super) fn calendar_rows(calendars: &[CalendarReport]) -> String {
    let counted = calendars.iter().any(|c| c.entries.is_some());
    let mut columns = vec![
        ("Name", Align::Left),
        ("Path", Align::Left),
        ("Colour", Align::Left),
        (if counted { "Entries" } else { "Takes" }, Align::Left),
        ("Rights", Align::Left),
        ("Called here", Align::Left),
        ("Routes", Align::Left),
    ];
    let colored = calendars.iter().any(|c| c.color.is_some());
    if !colored {
        columns.remove(2);
    }
    let row = |c: &CalendarReport| {
        let shared = if c.shared { ", shared" } else { "" };
        let mut row = vec![
            shorten(&c.name, 28),
            clean(&c.path),
            swatch(c.color.as_ref()),
            if counted { entries_text(c) } else { c.kinds.join(", ") },
            format!("{}{shared}", c.rights),
            if c.configured_as.is_empty() { "-".to_owned() } else { clean(&c.configured_as.join(", ")) },
            routes_cell(&c.routes),
        ];
        if !colored {
            row.remove(2);
        }
        row
    };
    table(&columns, &calendars.iter().map(row).collect::<Vec<_>>())
}

/// `152 events, 0 tasks`: what it takes shows even where there is none; journals are rare.
fn entries_text(calendar: &CalendarReport) -> String {
    calendar.entries.as_ref().map_or_else(|| "not told".to_owned(), entries_words)
}

/// Counts by kind, in words.
pub(super) fn entries_words(entries: &BTreeMap<&'static str, usize>) -> String {
    let one = |(word, number): (&&'static str, &usize)| match *word {
        "entries" => count(*number, "entry", "entries"),
        word => count(*number, word.trim_end_matches('s'), word),
    };
    let told = entries.iter().filter(|(word, number)| **number > 0 || **word != "journals");
    told.map(one).collect::<Vec<_>>().join(", ")
}

fn human(report: &Report) -> String {
    let section = |account: &AccountReport| {
        let name = style::paint(style::STRONG, &account.account);
        let head = format!("{name} at {}\n", clean(&account.url));
        match (&account.failure, account.calendars.is_empty()) {
            (Some(_), _) => format!("{head}  could not be asked; see below\n"),
            (None, true) => format!("{head}  no calendar yet\n"),
            (None, false) => head + &calendar_rows(&account.calendars),
        }
    };
    let mut sections: Vec<_> = report.accounts.iter().map(section).collect();
    if !report.others.is_empty() {
        sections.push(others_table(&report.others));
    }
    let mut out = sections.join("\n");
    let on_servers = report.accounts.iter().flat_map(|a| &a.calendars).map(|c| c.routes.is_empty());
    let uncovered =
        on_servers.chain(report.others.iter().map(|c| c.routes.is_empty())).filter(|is| *is).count();
    if uncovered > 0 {
        let calendars = count(uncovered, "calendar has", "calendars have");
        out += &format!("\n{calendars} no route: what stands there goes nowhere.\n");
    }
    out
}

fn others_table(others: &[OtherReport]) -> String {
    let columns = ["Called here", "Is", "Where", "Rights", "Routes"].map(|title| (title, Align::Left));
    let row = |c: &OtherReport| {
        vec![
            clean(&c.name),
            format!("a {}", c.kind),
            shorten(&c.place, 48),
            c.rights.to_owned(),
            routes_cell(&c.routes),
        ]
    };
    let heading = style::paint(style::STRONG, "Feeds, files and folders");
    format!("{heading}\n{}", table(&columns, &others.iter().map(row).collect::<Vec<_>>()))
}
