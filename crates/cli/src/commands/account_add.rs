//! `chestnut account add`: a sign-in is tried, and then written into the configuration.

use std::path::Path;

use crate::args::{AccountAdd, Common};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::new_account::{NewAccount, try_account};
use crate::open::configuration_path;
use crate::render::human::account_test::human;
use crate::report::account_add::Report;
use crate::report::account_test::{AccountReport, account_report as report};
use crate::settings::{ConfigurationText, SignInSettings, check_name};
use crate::words::{account_is_there, account_written, nothing_saved};

pub(crate) fn run(args: &AccountAdd, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    check_name("account", &args.name)?;
    let path = configuration_path(common, io)?;
    let mut text = ConfigurationText::read(&path)?;
    if text.has("account", &args.name) {
        return Err(account_is_there(&args.name));
    }
    let mut new = NewAccount::ask(args, &path, io)?;
    try_and_save(args, &mut new, &path, &mut text, common, io)
}

fn try_and_save(
    args: &AccountAdd,
    new: &mut NewAccount,
    path: &Path,
    text: &mut ConfigurationText,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    // OAuth is signed in to with `account login`, which needs the account to be there.
    let is_oauth = matches!(new.settings.sign_in, SignInSettings::OAuth(_));
    let tried = !args.untested && !is_oauth;
    let base = path.parent().unwrap_or(Path::new(""));
    let mut account = if tried {
        let checked = try_account(&args.name, &mut new.settings, base, io)?;
        report(None, &args.name, &new.settings, Ok(checked))
    } else {
        AccountReport::untried(&args.name, &new.settings)
    };
    let works = account.ok || !tried;
    if works {
        let url = if tried { account.url().to_owned() } else { new.settings.start.url.to_string() };
        text.add("account", &args.name, new.keys(&url))?;
        new.save_secret()?;
        if let Err(failure) = text.save() {
            // What is not in the configuration leaves nothing behind.
            new.typed.iter().for_each(|(_, file)| drop(std::fs::remove_file(file)));
            return Err(failure);
        }
    } else {
        account.hint = Some(nothing_saved(account.hint.as_deref()));
    }
    let failure = (!works).then(|| account.failure());
    let report = Report { account, saved: works, configuration: path.display().to_string() };
    show(common, io, &report, || {
        let steps = if tried { human(&report.account) } else { String::new() };
        match works {
            false => steps,
            true => steps + &account_written(&args.name, &report.configuration, is_oauth),
        }
    })?;
    match failure {
        Some(failure) if common.json => Ok(failure.code),
        // People were told in its place.
        Some(failure) if tried && !common.quiet => Ok(failure.code),
        Some(failure) => Err(failure),
        None => Ok(ExitCode::Ok),
    }
}
