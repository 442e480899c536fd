//! `chestnut account test`: sign in, and find the calendars.

use chestnut_caldav::protocol::Found;
use serde::Serialize;

use super::calendar_list::{CalendarReport, calendar_rows, configured};
use super::{block_on, load, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{clean, count, style};
use crate::run::Io;
use crate::settings::{Connections, Settings};

#[derive(Debug, Serialize)]
struct Report {
    accounts: Vec<AccountReport>,
}

#[derive(Debug, Serialize)]
struct AccountReport {
    account: String,
    url: String,
    user: Option<String>,
    ok: bool,
    principal: Option<String>,
    homes: Vec<String>,
    calendars: Vec<CalendarReport>,
    error: Option<String>,
    hint: Option<String>,
}

pub(super) fn run(names: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let chosen = settings.chosen_accounts(names)?;
    let connections = Connections::new(&settings, &io.environment);
    let accounts = block_on(async {
        let mut reports = Vec::new();
        for (name, _) in chosen {
            let found = connections.discover(name).await;
            reports.push(report(&settings, name, found.as_deref().map_err(Clone::clone)));
        }
        reports
    })?;
    let code = if accounts.iter().all(|a| a.ok) { ExitCode::Ok } else { ExitCode::Failed };
    let report = Report { accounts };
    show(common, io, &report, || report.accounts.iter().map(human).collect::<Vec<_>>().join("\n"))?;
    for failed in report.accounts.iter().filter(|a| !a.ok && !common.json) {
        let failure =
            Failure { code, message: failed.error.clone().unwrap_or_default(), hint: failed.hint.clone() };
        io.err.write_all(failure.lines().as_bytes())?;
    }
    Ok(code)
}

fn report(settings: &Settings, name: &str, found: Result<&Found, Failure>) -> AccountReport {
    let account = &settings.accounts[name];
    let (found, failure) = match found {
        Ok(found) => (Some(found), None),
        Err(failure) => (None, Some(failure)),
    };
    let path = |url: &url::Url| url.path().to_owned();
    AccountReport {
        account: name.to_owned(),
        url: account.start.url.to_string(),
        user: account.user.clone(),
        ok: found.is_some(),
        principal: found.and_then(|f| f.principal.as_ref()).map(path),
        homes: found.map(|f| f.homes.iter().map(path).collect()).unwrap_or_default(),
        calendars: found.map(|f| configured(settings, name, f)).unwrap_or_default(),
        error: failure.as_ref().map(|f| f.message.clone()),
        hint: failure.and_then(|f| f.hint),
    }
}

fn human(report: &AccountReport) -> String {
    let user = report.user.as_deref().map(|u| format!(" as {u}")).unwrap_or_default();
    let mut out =
        format!("{} at {}{}\n", style::paint(style::STRONG, &report.account), report.url, clean(&user));
    if !report.ok {
        return out;
    }
    let line = |name: &str, text: &str| format!("  {:11}{}\n", name, clean(text));
    out += &format!("  {:11}{}\n", "sign-in", style::paint(style::GOOD, "accepted"));
    out += &line("principal", report.principal.as_deref().unwrap_or("none named"));
    out += &line("home", &report.homes.join(", "));
    out += &line("found", &count(report.calendars.len(), "calendar", "calendars"));
    out.push('\n');
    out += &calendar_rows(&report.calendars);
    out
}
