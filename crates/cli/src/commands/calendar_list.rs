//! `chestnut calendar list`: the calendars of the accounts, and what the configuration calls them.

use chestnut_caldav::protocol::{CalendarInfo, Found};
use chestnut_core::ObjectHref;
use serde::Serialize;

use super::{block_on, load, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{Align, clean, shorten, style, table};
use crate::run::Io;
use crate::settings::{Connections, Place, Settings};

#[derive(Debug, Serialize)]
struct Report {
    accounts: Vec<AccountReport>,
}

#[derive(Debug, Serialize)]
struct AccountReport {
    account: String,
    url: String,
    calendars: Vec<CalendarReport>,
}

/// One calendar.
#[derive(Debug, Serialize)]
pub(super) struct CalendarReport {
    name: String,
    path: String,
    color: Option<String>,
    kinds: Vec<&'static str>,
    rights: &'static str,
    configured_as: Vec<String>,
    routes: Vec<String>,
}

pub(super) fn run(names: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let connections = Connections::new(&settings, &io.environment);
    let accounts = block_on(async {
        let mut reports = Vec::new();
        for (name, account) in settings.chosen_accounts(names)? {
            let found = connections.discover(name).await?;
            let calendars = configured(&settings, name, &found);
            reports.push(AccountReport {
                account: name.to_owned(),
                url: account.start.url.to_string(),
                calendars,
            });
        }
        Ok::<_, Failure>(reports)
    })??;
    let report = Report { accounts };
    show(common, io, &report, || human(&report))?;
    Ok(ExitCode::Ok)
}

/// Joins what a server has with what the configuration says.
pub(super) fn configured(settings: &Settings, account: &str, found: &Found) -> Vec<CalendarReport> {
    let same = |path: &str, href: &ObjectHref| path.trim_matches('/') == href.as_str().trim_matches('/');
    let is = |place: &Place, info: &CalendarInfo| match place {
        Place::Path(path) => same(path, &info.href),
        Place::Name(name) => *name == info.name,
        Place::Feed(_) | Place::File(_) | Place::Folder(_) => false,
    };
    let report = |info: &CalendarInfo| {
        let own = settings
            .calendars
            .iter()
            .filter(|(_, c)| c.account.as_deref() == Some(account) && is(&c.place, info));
        let configured_as: Vec<String> = own.map(|(name, _)| name.clone()).collect();
        let uses = |name: &String| configured_as.contains(name);
        let routes = settings.routes.iter().filter(|(_, r)| uses(&r.from) || uses(&r.to));
        CalendarReport {
            name: info.name.clone(),
            path: info.href.as_str().to_owned(),
            color: info.color.clone(),
            kinds: info.kinds.iter().map(|k| k.word()).collect(),
            rights: match info.writable {
                Some(true) => "read, write",
                Some(false) => "read only",
                None => "not told",
            },
            routes: routes.map(|(name, _)| name.clone()).collect(),
            configured_as,
        }
    };
    found.calendars.iter().map(report).collect()
}

/// The table that `account test` and `calendar list` share.
pub(super) fn calendar_rows(calendars: &[CalendarReport]) -> String {
    let columns = [
        ("Name", Align::Left),
        ("Path", Align::Left),
        ("Takes", Align::Left),
        ("Rights", Align::Left),
        ("Called here", Align::Left),
        ("Routes", Align::Left),
    ];
    let row = |c: &CalendarReport| {
        let routes =
            if c.routes.is_empty() { style::paint(style::WARN, "none") } else { clean(&c.routes.join(", ")) };
        vec![
            shorten(&c.name, 28),
            clean(&c.path),
            c.kinds.join(", "),
            c.rights.to_owned(),
            if c.configured_as.is_empty() { "-".to_owned() } else { clean(&c.configured_as.join(", ")) },
            routes,
        ]
    };
    table(&columns, &calendars.iter().map(row).collect::<Vec<_>>())
}

fn human(report: &Report) -> String {
    let section = |account: &AccountReport| {
        let name = style::paint(style::STRONG, &account.account);
        format!("{name} at {}\n{}", account.url, calendar_rows(&account.calendars))
    };
    let mut out = report.accounts.iter().map(section).collect::<Vec<_>>().join("\n");
    if report.accounts.iter().flat_map(|a| &a.calendars).any(|c| c.routes.is_empty()) {
        out += "\nWhat stands in a calendar without a route goes nowhere.\n";
    }
    out
}
