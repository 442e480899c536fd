//! `chestnut account test`: the way to the calendars, step by step.

use crate::args::Common;
use crate::check_account::check_account;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load};
use crate::render::human::account_test::human;
use crate::report::account_test::{Report, account_report as report};

pub(crate) fn run(names: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let chosen = settings.chosen_accounts(names)?;
    let base = settings.base();
    let accounts = block_on(async {
        let mut reports = Vec::new();
        for (name, account) in chosen {
            let checked = check_account(name, account, base, &io.environment).await;
            reports.push(report(Some(&settings), name, account, checked));
        }
        reports
    })?;
    let code = if accounts.iter().all(|a| a.ok) { ExitCode::Ok } else { ExitCode::Failed };
    let report = Report { accounts };
    show(common, io, &report, || report.accounts.iter().map(human).collect::<Vec<_>>().join("\n"))?;
    // People were told in its place, unless they wanted to hear of errors alone.
    for failed in report.accounts.iter().filter(|a| !a.ok && common.quiet && !common.json) {
        io.err.write_all(failed.failure().lines().as_bytes())?;
    }
    Ok(code)
}
