//! `chestnut account list`: the accounts of the configuration, without asking any server.

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::load;
use crate::render::human::account_list::human;
use crate::report::account_list::{AccountReport, Report};
use crate::settings::AccountSettings;
use crate::settings::used_by;
use crate::words::sign_in_words;

pub(crate) fn run(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let account = |(name, account): (&str, &AccountSettings)| {
        let (calendars, routes) = used_by(&settings, name);
        AccountReport {
            account: name.to_owned(),
            url: account.start.url.to_string(),
            user: account.user.clone(),
            sign_in: sign_in_words(account),
            calendars,
            routes,
        }
    };
    let accounts = settings.chosen_accounts(&[])?.into_iter().map(account).collect();
    let report = Report { accounts };
    show(common, io, &report, || human(&report))?;
    Ok(ExitCode::Ok)
}
