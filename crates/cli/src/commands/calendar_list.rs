//! `chestnut calendar list`: the calendars of the accounts, what the configuration calls them, and which routes
//! use them; then the feeds, files and folders of the configuration.

use std::collections::BTreeMap;

use chestnut_caldav::Client;
use chestnut_caldav::protocol::CalendarInfo;
use futures_util::stream::{self, StreamExt as _};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show, tell};
use crate::open::{block_on, load};
use crate::progress::Bars;
use crate::render::human::calendar_list::human;
use crate::report::calendar_list::{AccountReport, CalendarReport, Report, configured, others};
use crate::settings::{Connections, Settings};

pub(crate) fn run(names: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let connections = Connections::new(&settings, &io.environment);
    let chosen = match names.is_empty() && settings.accounts.is_empty() && !settings.calendars.is_empty() {
        true => Vec::new(),
        false => settings.chosen_accounts(names)?,
    };
    let bars = Bars::new(io.progress && !common.quiet);
    let accounts = block_on(bars.meanwhile(|| connections.waits_for(), async {
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
    }))?;
    let others = if names.is_empty() { others(&settings) } else { Vec::new() };
    let report = Report { accounts, others };
    show(common, io, &report, || human(&report))?;
    let failures: Vec<_> = report.accounts.iter().filter_map(|a| a.failure.as_ref()).collect();
    tell(common, io, failures.iter().copied())?;
    Ok(failures.first().map_or(ExitCode::Ok, |failure| failure.code))
}

async fn list(
    settings: &Settings,
    connections: &Connections<'_>,
    account: &str,
) -> Result<Vec<CalendarReport>, Failure> {
    let found = connections.discover_all(account).await?;
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
