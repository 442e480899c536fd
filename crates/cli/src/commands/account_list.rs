//! `chestnut account list`: the accounts of the configuration, without asking any server.

use serde::Serialize;

use super::calendar_list::routes_of;
use super::{load, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{Align, clean, table};
use crate::run::Io;
use crate::settings::{AccountSettings, SecretSource, Settings, SignInSettings};

#[derive(Debug, Serialize)]
struct Report {
    accounts: Vec<AccountReport>,
}

#[derive(Debug, Serialize)]
struct AccountReport {
    account: String,
    url: String,
    user: Option<String>,
    sign_in: String,
    calendars: Vec<String>,
    routes: Vec<String>,
}

pub(super) fn run(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
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

/// Returns the calendars that need an account, and the routes that need those.
pub(super) fn used_by(settings: &Settings, account: &str) -> (Vec<String>, Vec<String>) {
    let own = settings.calendars.iter().filter(|(_, c)| c.account.as_deref() == Some(account));
    let calendars: Vec<String> = own.map(|(name, _)| name.clone()).collect();
    let routes = routes_of(settings, &calendars);
    (calendars, routes)
}

fn sign_in_words(account: &AccountSettings) -> String {
    match &account.sign_in {
        SignInSettings::Nobody => "none".to_owned(),
        SignInSettings::Password(source) => format!("password from {}", source_words(source)),
        SignInSettings::Token(source) => format!("token from {}", source_words(source)),
        SignInSettings::OAuth(oauth) => {
            format!("OAuth at {}", oauth.token_url.host_str().unwrap_or_default())
        }
    }
}

fn source_words(source: &SecretSource) -> String {
    match source {
        SecretSource::Env(name) => format!("the variable {name}"),
        SecretSource::File(path) => format!("the file {}", path.display()),
        SecretSource::Command(words) => format!("the command {}", words[0]),
        SecretSource::Keyring(name) => format!("the keyring ({name})"),
        SecretSource::Plain(_) => "the configuration itself".to_owned(),
    }
}

fn human(report: &Report) -> String {
    let columns = ["Account", "Address", "User", "Sign-in", "Calendars", "Routes"].map(|t| (t, Align::Left));
    let list = |names: &[String]| if names.is_empty() { "-".to_owned() } else { clean(&names.join(", ")) };
    let row = |a: &AccountReport| {
        let user = a.user.as_deref().unwrap_or("-");
        vec![
            clean(&a.account),
            clean(&a.url),
            clean(user),
            clean(&a.sign_in),
            list(&a.calendars),
            list(&a.routes),
        ]
    };
    table(&columns, &report.accounts.iter().map(row).collect::<Vec<_>>())
}
