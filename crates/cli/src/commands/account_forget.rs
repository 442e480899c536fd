//! `chestnut account forget`: out of the configuration, with the secrets that Chestnut keeps for it.

use std::path::{Path, PathBuf};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::load;
use crate::render::human::account_forget::human;
use crate::report::account_forget::Report;
use crate::settings::{
    AccountSettings, ConfigurationText, Keep, SecretSource, SignInSettings, forget_in_keyring, keep_of,
};
use crate::settings::{password_file, used_by};
use crate::words::{account_is_needed, key_in_keyring};

pub(crate) fn run(name: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let account = settings.chosen_accounts(&[name.to_owned()])?[0].1;
    let (calendars, routes) = used_by(&settings, name);
    if !calendars.is_empty() {
        return Err(account_is_needed(name, &calendars, &routes, &settings.path));
    }
    let mut text = ConfigurationText::holding(&settings, "account", name)?;
    text.remove("account", name);
    text.save()?;
    let base = settings.base();
    let report = forget_secrets(name, account, base);
    show(common, io, &report, || human(&report))?;
    Ok(ExitCode::Ok)
}

/// What Chestnut made for the account goes; what somebody else keeps stays, and is named.
fn forget_secrets(name: &str, account: &AccountSettings, base: &Path) -> Report {
    let mut report = Report { account: name.to_owned(), forgotten: Vec::new(), left: Vec::new() };
    let mut file = |path: PathBuf, own: bool| {
        let shown = path.display().to_string();
        if own && std::fs::remove_file(&path).is_ok() {
            report.forgotten.push(shown);
        } else if path.exists() {
            report.left.push(shown);
        }
    };
    match &account.sign_in {
        SignInSettings::Password(source) | SignInSettings::Token(source) => match source {
            SecretSource::File(path) => {
                let own = path.as_path() == Path::new(&password_file(name));
                file(base.join(path), own);
            }
            SecretSource::Keyring(key) if forget_in_keyring(key).is_ok() => {
                report.forgotten.push(key_in_keyring(key));
            }
            SecretSource::Keyring(key) => report.left.push(key_in_keyring(key)),
            SecretSource::Env(_)
            | SecretSource::Command(_)
            | SecretSource::Credential(_)
            | SecretSource::Plain(_) => {}
        },
        SignInSettings::OAuth(oauth) => match keep_of(name, oauth, base) {
            Keep::File(path) => file(path, true),
            Keep::Keyring(key) if forget_in_keyring(&key).is_ok() => {
                report.forgotten.push(key_in_keyring(&key));
            }
            Keep::Keyring(key) => report.left.push(key_in_keyring(&key)),
        },
        SignInSettings::Nobody => {}
    }
    report
}
