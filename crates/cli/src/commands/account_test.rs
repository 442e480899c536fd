//! `chestnut account test`: the way to the calendars, step by step.

use chestnut_caldav::protocol::Found;
use serde::Serialize;

use super::calendar_list::{CalendarReport, calendar_rows, configured};
use super::{block_on, load, show};
use crate::args::Common;
use crate::check_account::{Checked, Step, check_account};
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{clean, style, wrap};
use crate::run::Io;
use crate::settings::{AccountSettings, Settings};

#[derive(Debug, Serialize)]
struct Report {
    accounts: Vec<AccountReport>,
}

#[derive(Debug, Serialize)]
pub(super) struct AccountReport {
    account: String,
    url: String,
    user: Option<String>,
    pub(super) ok: bool,
    steps: Vec<Step>,
    principal: Option<String>,
    homes: Vec<String>,
    calendars: Vec<CalendarReport>,
    error: Option<String>,
    pub(super) hint: Option<String>,
}

pub(super) fn run(names: &[String], common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
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

impl AccountReport {
    /// An account that nobody has tried yet.
    pub(super) fn untried(name: &str, account: &AccountSettings) -> Self {
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
        }
    }

    /// Where the search began.
    pub(super) fn url(&self) -> &str {
        &self.url
    }

    pub(super) fn failure(&self) -> Failure {
        Failure {
            code: ExitCode::Failed,
            message: self.error.clone().unwrap_or_default(),
            hint: self.hint.clone(),
        }
    }
}

/// `settings` say what the calendars are called here; a new account has none yet.
pub(super) fn report(
    settings: Option<&Settings>,
    name: &str,
    account: &AccountSettings,
    checked: Result<Checked, Failure>,
) -> AccountReport {
    let (steps, url, outcome) = match checked {
        Ok(Checked { steps, url, outcome }) => (steps, url, outcome),
        Err(failure) => (Vec::new(), account.start.url.clone(), Err(failure)),
    };
    let found: Option<&Found> = outcome.as_ref().ok();
    let path = |url: &url::Url| url.path().to_owned();
    AccountReport {
        account: name.to_owned(),
        url: url.to_string(),
        user: account.user.clone(),
        ok: found.is_some(),
        principal: found.and_then(|f| f.principal.as_ref()).map(path),
        homes: found.map(|f| f.homes.iter().map(path).collect()).unwrap_or_default(),
        calendars: found.map(|f| configured(settings, name, f)).unwrap_or_default(),
        error: outcome.as_ref().err().map(|f| f.message.clone()),
        hint: outcome.as_ref().err().and_then(|f| f.hint.clone()),
        steps,
    }
}

/// The steps, and where one fails what to do; then the calendars.
pub(super) fn human(report: &AccountReport) -> String {
    let mut out = steps_text(report);
    if report.ok && !report.calendars.is_empty() {
        out.push('\n');
        out += &calendar_rows(&report.calendars);
    } else if report.ok {
        let create = format!("chestnut calendar create {} \"NAME\"", report.account);
        out += &format!("\nThere is no calendar yet. Make one to receive copies: {create}\n");
    }
    out
}

/// The steps, and where one fails what to do.
pub(super) fn steps_text(report: &AccountReport) -> String {
    let user = report.user.as_deref().map(|u| format!(" as {u}")).unwrap_or_default();
    let name = style::paint(style::STRONG, &report.account);
    let mut out = format!("{name} at {}{}\n", clean(&report.url), clean(&user));
    for step in &report.steps {
        let sign = if step.ok { style::paint(style::GOOD, "✓") } else { style::paint(style::BAD, "✗") };
        let time = match step.milliseconds {
            0 => String::new(),
            ms => style::paint(style::FAINT, format!("  {ms} ms")),
        };
        out += &format!("  {sign} {:11} {}{time}\n", step.step, clean(&step.seen));
        if let Some(note) = &step.note {
            out += &format!("  {} {:11} {}\n", style::paint(style::WARN, "!"), "", clean(note));
        }
    }
    if !report.ok {
        // Where it failed before the first step, nothing was said yet.
        let told = report.steps.iter().any(|step| !step.ok);
        let error = report.error.iter().filter(|_| !told);
        for line in error.chain(&report.hint).flat_map(|text| wrap(text, 88)) {
            out += &format!("                {line}\n");
        }
    }
    out
}
