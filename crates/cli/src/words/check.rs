//! Sentences about a configuration as a whole.

use std::path::Path;

use crate::failure::Failure;
use crate::render::{clean, count, typed};
use crate::report::check::{Report, Standing};
use crate::settings::{AccountSettings, Idle, SignInSettings};

/// The first line: how much there is, and how it stands.
pub(crate) fn check_summary(report: &Report) -> String {
    let number = |standing: Standing| report.lines.iter().filter(|line| line.standing == standing).count();
    let (wrong, remarks) = (number(Standing::Wrong), number(Standing::Remark));
    let verdict = match (wrong, remarks) {
        (0, 0) if report.offline => "nothing is wrong as far as files tell; no server was asked".to_owned(),
        (0, 0) => "everything is in order".to_owned(),
        (0, remarks) => format!("it works; {} below", count(remarks, "remark", "remarks")),
        (wrong, _) => format!("{} not work", count(wrong, "thing does", "things do")),
    };
    format!(
        "{}: {}, {}, {}; {verdict}\n",
        clean(&report.file),
        count(report.accounts, "account", "accounts"),
        count(report.calendars, "calendar", "calendars"),
        count(report.routes, "route", "routes"),
    )
}

pub(crate) fn account_in_order(calendars: usize) -> String {
    format!("sign-in accepted; {}", count(calendars, "calendar", "calendars"))
}

pub(crate) fn secrets_in_order(account: &AccountSettings) -> &'static str {
    match account.sign_in {
        SignInSettings::Nobody => "needs no sign-in; its server was not asked",
        _ => "its secret can be read; its server was not asked",
    }
}

/// An account's password is not to be had.
pub(crate) fn keep_password_anew(account: &str) -> String {
    format!("Keep it anew: `chestnut account password {}`", typed(account))
}

/// `None` in `rights`: it is a file or a feed.
pub(crate) fn calendar_in_order(rights: Option<Option<bool>>, entries: Option<usize>) -> String {
    let entries = entries.map(|number| count(number, "entry", "entries"));
    match (rights, entries) {
        (Some(Some(false)), _) => "there; read only, which is enough".to_owned(),
        (Some(Some(true)), _) => "there; can be read and written".to_owned(),
        (Some(None), _) => "there; its server does not tell the rights".to_owned(),
        (None, Some(entries)) => format!("there; {entries}"),
        (None, None) => "in its place".to_owned(),
    }
}

pub(crate) fn account_not_asked(account: Option<&str>) -> String {
    format!("not asked: it is in account {}", clean(account.unwrap_or_default()))
}

pub(crate) fn calendar_not_asked() -> &'static str {
    "its address can be read; its server was not asked"
}

/// What to do about an account, and where to look further.
pub(crate) fn check_account_further(name: &str, fix: Option<&str>) -> String {
    let further = format!("Step by step: `chestnut account test {}`", typed(name));
    fix.map_or_else(
        || further.clone(),
        |fix| if fix.contains("account test") { fix.to_owned() } else { format!("{fix} {further}") },
    )
}

/// A route writes what may only be read.
pub(crate) fn write_refused(calendar: &str, route: &str) -> Failure {
    Failure::failed(format!("calendar {calendar} is read only for this user, and route {route} writes it")).hint(format!("Ask its owner for the right to write; or choose another calendar: `chestnut route edit {} to=CALENDAR`", typed(route)))
}

/// A file or a folder is not where the configuration says.
pub(crate) fn not_in_place(calendar: &str, place: &Path, system: &std::io::Error) -> Failure {
    Failure::failed(format!("calendar {calendar}: {} cannot be used: {system}", place.display()))
        .hint("Put it there, or change its place in the configuration.")
}

/// A route takes kinds of entries that a calendar refuses.
pub(crate) fn kinds_not_accepted(calendar: &str, kinds: &[&str]) -> (String, String) {
    (
        format!("takes {0}, but calendar {calendar} accepts no {0}: they are left out", kinds.join(" and ")),
        "Choose a calendar that accepts them, or take them out of `only.kinds`.".to_owned(),
    )
}

/// What something without effect belongs to, its name, what is the matter, and what to do.
pub(crate) fn idle_words(idle: Idle<'_>) -> (&'static str, &str, &'static str, String) {
    let without = |name: &str, key: &str| {
        format!("Take it out: `chestnut route edit {typed} {key}=`", typed = typed(name))
    };
    match idle {
        Idle::Account(name) => (
            "account",
            name,
            "no calendar uses it",
            format!(
                "Use it: `chestnut calendar list {typed}`; or take it out: `chestnut account forget {typed}`",
                typed = typed(name)
            ),
        ),
        Idle::Calendar(name) => (
            "calendar",
            name,
            "no route uses it; nothing in it is copied",
            format!(
                "Copy it: `chestnut route add NAME --from {typed}`; or take it out: `chestnut calendar forget {typed}`",
                typed = typed(name)
            ),
        ),
        Idle::Soon(name) => {
            ("calendar", name, "`soon` has no effect: no route reads it", "Take `soon` out.".to_owned())
        }
        Idle::PastCopies(name) => (
            "route",
            name,
            "`past-copies` has no effect: the window has no beginning",
            format!("Say how far back: `chestnut route edit {} window.past=\"7 days\"`", typed(name)),
        ),
        Idle::DeletionLimit(name) => (
            "route",
            name,
            "`deletion-limit` has no effect: `deletions` is \"keep\"",
            without(name, "deletion-limit"),
        ),
        Idle::Relay(name) => (
            "route",
            name,
            "`relay` has no effect: no other route writes the calendar that it reads",
            without(name, "relay"),
        ),
        Idle::Me(name) => (
            "route",
            name,
            "`me` has no effect: nothing asks whether its owner declined",
            format!(
                "Take it out, or ask for it, such as `chestnut route edit {} skip.declined=true`",
                typed(name)
            ),
        ),
        Idle::StaleBeforeDue(name) => (
            "route",
            name,
            "`stale-after` is not longer than `every`: it counts as behind before it is due again",
            format!("Make it longer: `chestnut route edit {} stale-after=\"2 hours\"`", typed(name)),
        ),
    }
}

/// What a bundle is, for whoever opens it.
pub(crate) const ABOUT_BUNDLE: &str = "For help with Chestnut. It names servers, and accounts, calendars and routes as the configuration calls them; it has no secrets, no titles of entries and no addresses of people. Read it before you send it.";

pub(crate) fn bundle_written(path: &Path) -> String {
    format!(
        "{} is written: no secrets, titles or addresses of people\n  read it before you send it\n",
        path.display()
    )
}

pub(crate) fn bundle_not_written(path: &Path, system: &std::io::Error) -> Failure {
    Failure::failed(format!("the bundle {} cannot be written: {system}", path.display()))
        .hint("Name a file that is not there yet.")
}
