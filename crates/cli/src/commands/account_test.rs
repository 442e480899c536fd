//! `chestnut account test`: the way to the calendars, step by step.

use chestnut_store::Store;

use crate::args::Common;
use crate::check_account::Checked;
use crate::check_calendars::CalendarCheck;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::new_account::{also_at, also_at_value, try_account};
use crate::open::{block_on, load, look_at_state};
use crate::render::human::account_test::human;
use crate::report::account_test::{Report, account_report as report};
use crate::settings::{ConfigurationText, Connections, Settings, route_key};
use crate::words::not_on_a_server;

pub(crate) fn run(
    names: &[String],
    also: &[String],
    write: &[String],
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let mut settings = load(common, io)?;
    // A state that cannot be used says nothing of an account.
    let store = if write.is_empty() {
        Store::in_memory()?
    } else {
        look_at_state(common, &settings, &io.environment)?
    };
    let also = also_at(also)?;
    let written = accounts_of(&settings, write)?;
    let names = if names.is_empty() { &written[..] } else { names };
    let mut chosen: Vec<String> =
        settings.chosen_accounts(names)?.iter().map(|(name, _)| (*name).to_owned()).collect();
    chosen.extend(written.iter().filter(|name| !names.contains(name)).cloned());
    let base = settings.base().to_owned();
    let mut accounts = Vec::new();
    for name in &chosen {
        let mut account = settings.accounts[name.as_str()].clone();
        let before = account.sign_in_also_at.clone();
        account.sign_in_also_at.extend(also.iter().filter(|origin| !before.contains(origin)).cloned());
        let checked = try_account(name, &mut account, &base, io);
        // What a person has allowed is kept, whatever comes after it.
        if let Some(value) =
            also_at_value(&account.sign_in_also_at).filter(|_| account.sign_in_also_at != before)
        {
            let mut text = ConfigurationText::holding(&settings, "account", name)?;
            text.put("account", name, "sign-in-also-at", value);
            settings = text.save()?;
        }
        let checked = checked.and_then(|checked| {
            let write = write.iter().filter(|calendar| {
                settings.calendars[calendar.as_str()].account.as_deref() == Some(name.as_str())
            });
            look_at_calendars(&settings, name, checked, &write.collect::<Vec<_>>(), &store, io)
        });
        accounts.push(report(Some(&settings), name, &account, checked));
    }
    let code = accounts.iter().map(|account| account.code).max().unwrap_or(ExitCode::Ok);
    let report = Report { accounts };
    show(common, io, &report, || match common.quiet {
        // Of those that are well, nothing is told.
        true => report.accounts.iter().filter(|a| !a.ok).map(|failed| failed.failure().lines()).collect(),
        false => report.accounts.iter().map(human).collect::<Vec<_>>().join("\n"),
    })?;
    Ok(code)
}

/// The accounts of calendars that are to be written.
fn accounts_of(settings: &Settings, calendars: &[String]) -> Result<Vec<String>, Failure> {
    let mut accounts = Vec::new();
    for name in calendars {
        let (name, calendar) = settings.chosen_calendar(name)?;
        let account = calendar.account.clone().ok_or_else(|| not_on_a_server(name))?;
        if !accounts.contains(&account) {
            accounts.push(account);
        }
    }
    Ok(accounts)
}

/// Adds what the calendars can do, and what came of writing into some of them.
fn look_at_calendars(
    settings: &Settings,
    account: &str,
    mut checked: Checked,
    write: &[&String],
    store: &Store,
    io: &Io<'_>,
) -> Result<Checked, Failure> {
    let Ok(found) = &mut checked.outcome else { return Ok(checked) };
    let connections = Connections::new(settings, &io.environment);
    let check =
        CalendarCheck { connections: &connections, account, measures: !io.environment.clock_is_fixed() };
    let now = io.environment.now()?;
    let key = if write.is_empty() { Vec::new() } else { route_key(settings, store, true)? };
    let (steps, failure) = block_on(async {
        let mut steps: Vec<_> = check.look(found).await?.into_iter().collect();
        let mut failure = None;
        for calendar in write {
            let (more, failed) = check.write(calendar, &key, now).await?;
            steps.extend(more);
            failure = failure.or(failed);
        }
        Ok::<_, Failure>((steps, failure))
    })??;
    checked.steps.extend(steps);
    if let Some(failure) = failure {
        checked.outcome = Err(failure);
    }
    Ok(checked)
}
