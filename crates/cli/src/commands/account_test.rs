//! `chestnut account test`: the way to the calendars, step by step.

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::new_account::{also_at, also_at_value, try_account};
use crate::open::load;
use crate::render::human::account_test::human;
use crate::report::account_test::{Report, account_report as report};
use crate::settings::ConfigurationText;

pub(crate) fn run(
    names: &[String],
    also: &[String],
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let mut settings = load(common, io)?;
    let also = also_at(also)?;
    let chosen: Vec<String> =
        settings.chosen_accounts(names)?.iter().map(|(name, _)| (*name).to_owned()).collect();
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
            let mut text = ConfigurationText::read(&settings.path)?;
            text.put("account", name, "sign-in-also-at", value);
            settings = text.save()?;
        }
        accounts.push(report(Some(&settings), name, &account, checked));
    }
    let code = accounts.iter().map(|account| account.code).max().unwrap_or(ExitCode::Ok);
    let report = Report { accounts };
    show(common, io, &report, || report.accounts.iter().map(human).collect::<Vec<_>>().join("\n"))?;
    // People were told in its place, unless they wanted to hear of errors alone.
    for failed in report.accounts.iter().filter(|a| !a.ok && common.quiet && !common.json) {
        io.err.write_all(failed.failure().lines().as_bytes())?;
    }
    Ok(code)
}
