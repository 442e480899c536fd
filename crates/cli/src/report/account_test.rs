//! What `account test` reports: the way to an account's calendars, step by step.

use chestnut_caldav::protocol::Found;
use serde::Serialize;

use super::calendar_list::{CalendarReport, configured};
use crate::check_account::{Checked, Step};
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::settings::{AccountSettings, Settings};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) accounts: Vec<AccountReport>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct AccountReport {
    pub(crate) account: String,
    pub(crate) url: String,
    pub(crate) user: Option<String>,
    pub(crate) ok: bool,
    pub(crate) steps: Vec<Step>,
    pub(crate) principal: Option<String>,
    pub(crate) homes: Vec<String>,
    pub(crate) calendars: Vec<CalendarReport>,
    pub(crate) error: Option<String>,
    pub(crate) hint: Option<String>,
    #[serde(skip)]
    pub(crate) code: ExitCode,
}

impl AccountReport {
    /// An account that nobody has tried yet.
    pub(crate) fn untried(name: &str, account: &AccountSettings) -> Self {
        Self {
            account: name.to_owned(),
            url: account.start.url.to_string(),
            user: account.user.clone(),
            ok: false,
            steps: Vec::new(),
            principal: None,
            homes: Vec::new(),
            calendars: Vec::new(),
            error: None,
            hint: None,
            code: ExitCode::Ok,
        }
    }

    /// Where the search began.
    pub(crate) fn url(&self) -> &str {
        &self.url
    }

    pub(crate) fn failure(&self) -> Failure {
        let failure = Failure::new(self.code, self.error.clone().unwrap_or_default());
        Failure { hint: self.hint.clone(), ..failure }
    }
}

/// `settings` say what the calendars are called here; a new account has none yet.
pub(crate) fn account_report(
    settings: Option<&Settings>,
    name: &str,
    account: &AccountSettings,
    checked: Result<Checked, Failure>,
) -> AccountReport {
    let (steps, url, outcome, elsewhere) = match checked {
        Ok(Checked { steps, url, outcome, elsewhere }) => (steps, url, outcome, elsewhere),
        Err(failure) => (Vec::new(), account.start.url.clone(), Err(failure), None),
    };
    let code = match &outcome {
        Ok(_) => ExitCode::Ok,
        // Nobody was there to say whether another server may have the sign-in.
        Err(failure) if elsewhere.is_some() => failure.code,
        Err(_) => ExitCode::Failed,
    };
    let found: Option<&Found> = outcome.as_ref().ok();
    let path = |url: &url::Url| url.path().to_owned();
    let mut calendars = found.map(|f| configured(settings, name, f)).unwrap_or_default();
    let were_asked = steps.iter().any(|step| step.step == "mail");
    for (report, info) in calendars.iter_mut().zip(found.iter().flat_map(|found| &found.calendars)) {
        report.changes_by = were_asked.then_some(match (info.sync_reports, &info.ctag) {
            (true, _) => "sync-report",
            (false, Some(_)) => "ctag",
            (false, None) => "listing",
        });
    }
    AccountReport {
        account: name.to_owned(),
        url: url.to_string(),
        user: account.user.clone(),
        ok: found.is_some(),
        principal: found.and_then(|f| f.principal.as_ref()).map(path),
        homes: found.map(|f| f.homes.iter().map(path).collect()).unwrap_or_default(),
        calendars,
        error: outcome.as_ref().err().map(|f| f.message.clone()),
        hint: outcome.as_ref().err().and_then(|f| f.hint.clone()),
        code,
        steps,
    }
}
