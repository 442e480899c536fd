//! `chestnut account password`: another password, tried before it is kept where the old one is.

use secrecy::ExposeSecret as _;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::new_account::try_account;
use crate::open::load;
use crate::questions::Questions;
use crate::render::human::account_test::steps_text;
use crate::report::account_password::Report;
use crate::report::account_test::account_report;
use crate::settings::{SecretSource, SignInSettings, replace_private, write_to_keyring};
use crate::words::{
    key_in_keyring, keyring_takes_none, new_password_kept, no_terminal_for_password, not_kept_by_chestnut,
    password_not_written, password_prompt, password_was_refused,
};

pub(crate) fn run(name: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let account = settings.chosen_accounts(&[name.to_owned()])?[0].1;
    let SignInSettings::Password(source @ (SecretSource::File(_) | SecretSource::Keyring(_))) =
        &account.sign_in
    else {
        return Err(not_kept_by_chestnut(name));
    };
    let mut questions = Questions::of_terminal(io.can_ask).ok_or_else(no_terminal_for_password)?;
    let secret = questions.secret(&password_prompt(account.user.as_deref().unwrap_or(name)))?;
    let mut tried = account.clone();
    tried.sign_in = SignInSettings::Password(SecretSource::Plain(secret.clone()));
    let checked = try_account(name, &mut tried, settings.base(), io)?;
    let checked = account_report(None, name, &tried, Ok(checked));
    if !checked.ok {
        io.say(&steps_text(&checked))?;
        return Err(password_was_refused(name));
    }
    let kept = match source {
        SecretSource::Keyring(key) => {
            write_to_keyring(key, secret.expose_secret()).map_err(|words| keyring_takes_none(&words))?;
            key_in_keyring(key)
        }
        SecretSource::File(path) => {
            let path = settings.base().join(path);
            replace_private(&path, &format!("{}\n", secret.expose_secret()))
                .map_err(|e| password_not_written(&path, &e))?;
            path.display().to_string()
        }
        _ => return Err(not_kept_by_chestnut(name)),
    };
    let report = Report { account: name.to_owned(), kept };
    show(common, io, &report, || new_password_kept(&report.account, &report.kept))?;
    Ok(ExitCode::Ok)
}
