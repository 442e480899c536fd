//! A configuration that cannot be found, read, understood or written; names that nothing has.

use std::fmt::Display;
use std::path::Path;

use chestnut_caldav::SetupError;
use chestnut_caldav::connection_check::ServiceRecord;
use chestnut_store::Wrong;

use super::errors::InWords as _;
use super::problems::perhaps;
use crate::failure::Failure;
use crate::render::{count, typed};
use crate::report::state::Report;

/// What the system or a library says of a file.
pub(crate) fn of_file(path: &Path, words: &dyn Display) -> Failure {
    Failure::usage(format!("{}: {words}", path.display()))
}

/// The state was made with a key that is not there any more.
pub(crate) fn key_missing(path: &Path, state: &str) -> Failure {
    Failure::usage(format!("the key {} is missing, and the state {state} was made with it", path.display()))
        .hint("Put it back from where you keep it: with another key no copy is recognised. If it is lost, move the state away, too: the next sync then finds copies by what they say, writes nothing twice, and deletes none.")
}

/// The state was made with another key.
pub(crate) fn key_of_another(path: &Path, state: &str) -> Failure {
    Failure::usage(format!("the key {} is not the one that the state {state} was made with", path.display()))
        .hint("Put the right one back, or name the state that belongs to it with --state.")
}

pub(crate) fn no_configuration(platform: Option<&Path>) -> Failure {
    let also = platform.map(|path| format!(" nor {}", path.display())).unwrap_or_default();
    Failure::usage(format!("there is no configuration: neither ./chestnut.toml{also}")).hint(
        "Make one with `chestnut init`, name one with --config, or see the whole job first with `chestnut demo`.",
    )
}

pub(crate) fn no_configuration_to_read(path: &Path, system: &std::io::Error) -> Failure {
    use std::io::ErrorKind;
    no_configuration_to_change(path, system).hint(match system.kind() {
        ErrorKind::PermissionDenied => {
            "Whoever runs this must be allowed to read it: see who owns it, and its rights."
        }
        ErrorKind::InvalidData => "Save it as UTF-8.",
        ErrorKind::IsADirectory => "Name the file in it with --config.",
        _ => "Name another one with --config.",
    })
}

pub(crate) fn no_configuration_to_change(path: &Path, system: &std::io::Error) -> Failure {
    Failure::usage(format!("the configuration {} cannot be read: {system}", path.display()))
}

pub(crate) fn configuration_not_written(path: &Path, system: &std::io::Error) -> Failure {
    Failure::failed(format!("the configuration {} cannot be written: {system}", path.display()))
        .hint("Nothing was changed.")
}

pub(crate) fn changed_meanwhile(path: &Path) -> Failure {
    Failure::failed(format!("{} was changed by somebody else meanwhile", path.display()))
        .hint("Nothing was changed; run it again.")
}

pub(crate) fn no_table(kind: &str, path: &Path) -> Failure {
    Failure::usage(format!("`{kind}` in {} is not a table", path.display()))
}

pub(crate) fn there_already(kind: &str, name: &str, path: &Path) -> Failure {
    Failure::usage(format!("there is a {kind} `{name}` already in {}", path.display()))
        .hint("Choose another name.")
}

pub(crate) fn no_name(kind: &str, name: &str) -> Failure {
    let article = if kind.starts_with('a') { "an" } else { "a" };
    Failure::usage(format!("{name:?} is not a valid name for {article} {kind}"))
        .hint("Use letters, digits, - and _; such as `packhouse`.")
}

pub(crate) fn no_routes(path: &Path) -> Failure {
    Failure::usage(format!("{} has no route", path.display()))
        .hint("Add one: [route.NAME] with `from` and `to`.")
}

pub(crate) fn no_accounts(path: &Path) -> Failure {
    Failure::usage(format!("{} has no account", path.display()))
        .hint("Add one: `chestnut account add NAME URL --user USER`.")
}

pub(crate) fn nothing_called(what: &str, name: &str, near: Option<&String>, known: &[&str]) -> Failure {
    Failure::usage(format!("there is no {what} `{name}`")).hint(match near {
        Some(near) => perhaps(near),
        None => format!("There are: {}.", known.join(", ")),
    })
}

/// An account that could not be used, with what to do.
pub(crate) fn cannot_be_reached(owner: &str, error: &SetupError) -> Failure {
    Failure::usage(format!("{owner}: {}", error.in_words()))
}

/// A name service can be lied to: a password goes to another domain only if a person has typed it.
pub(crate) fn another_domain(owner: &str, domain: &str, record: &ServiceRecord) -> Failure {
    let host = &record.host;
    Failure::usage(format!(
        "{owner}: the name service says that the calendars of {domain} are at {host}, another domain"
    ))
    .hint(format!("If that is right, give this address instead: https://{host}:{}/", record.port))
}

pub(crate) fn unknown_system_zone(zone: &str) -> Failure {
    Failure::usage(format!("TZ is {zone:?}, which is not a known time zone"))
        .hint("Set it to one such as Europe/Ljubljana, or write `timezone` into the configuration.")
}

pub(crate) fn not_a_resolver(text: &str) -> Failure {
    Failure::usage(format!("CHESTNUT_RESOLVER is {text:?}, which is not an address with a port"))
        .hint("Write it as 127.0.0.1:53.")
}

pub(crate) fn not_on_a_server(calendar: &str) -> Failure {
    Failure::usage(format!("calendar {calendar} is not on a server"))
}

pub(crate) fn none_of_that_name(calendar: &str, account: &str, shown: &str) -> Failure {
    Failure::usage(format!("calendar {calendar}: account {account} has no calendar named {shown:?}"))
        .hint(format!("See them with `chestnut calendar list {}`.", typed(account)))
}

pub(crate) fn several_of_that_name(calendar: &str, account: &str, shown: &str) -> Failure {
    Failure::usage(format!("calendar {calendar}: account {account} has several calendars named {shown:?}"))
        .hint(format!("Use `path` instead; `chestnut calendar list {}` shows the paths.", typed(account)))
}

pub(crate) fn not_a_feed_address(owner: &str) -> Failure {
    Failure::usage(format!("{owner}: the feed's address does not begin with https://, http:// or webcal://"))
}

pub(crate) fn feed_elsewhere(owner: &str, account: &str) -> Failure {
    Failure::usage(format!("{owner}: the feed is not on the server of account {account}")).hint(
        "A password is never sent to another server than its own. Take `account` out, or add an account for the feed's server.",
    )
}

/// A copy of the state was written.
pub(crate) fn state_backed_up(path: &Path, key: &Path) -> String {
    format!(
        "written to {}\n  it is only of use with the key {}: keep both, and the configuration\n",
        path.display(),
        key.display()
    )
}

/// Nothing is wrong with the state.
pub(crate) fn state_is_sound(report: &Report) -> String {
    format!("{} is sound: {}\n", report.state, sizes(report))
}

fn sizes(report: &Report) -> String {
    format!(
        "{}, {}, {}, {}",
        count(report.calendars, "calendar", "calendars"),
        count(report.entries, "entry", "entries"),
        count(report.routes, "route", "routes"),
        count(report.runs, "run", "runs")
    )
}

/// The state was moved; the configuration, where it is named, still names the old one.
pub(crate) fn state_moved(report: &Report, to: &str, configuration: Option<&Path>) -> String {
    let next = match configuration {
        Some(path) => format!(
            "  {} still names the old one: write  state = {to:?}  there, above the first table, before anything runs\n",
            path.display()
        ),
        None => String::new(),
    };
    format!(
        "moved to {to}: {}\n{next}  the old state is kept as it is and is no longer used; every machine needs the same key\n",
        sizes(report)
    )
}

/// There is nothing to move.
pub(crate) fn no_state_to_move(path: &Path) -> Failure {
    Failure::usage(format!("there is no state at {}", path.display()))
        .hint("`chestnut state check` says where the state is.")
}

/// A state is moved to a new place alone.
pub(crate) fn state_there_already(path: &Path) -> Failure {
    Failure::usage(format!("{} is there already", path.display()))
        .hint("Name a file that is not there yet, or move that one away.")
}

/// Only the configuration knows how to sign in at a database.
pub(crate) fn database_not_configured(url: &str, path: &Path) -> Failure {
    Failure::usage(format!("{} does not name the database {url} as its state", path.display())).hint(
        "Write it there first, above the first table: state = { url = \"postgres://user@host/database\", password = { file = \"db.password\" } }. Then run this again.",
    )
}

/// The program was built without what speaks to PostgreSQL.
#[cfg(not(feature = "postgres"))]
pub(crate) fn built_without_postgres() -> Failure {
    Failure::usage("this build of Chestnut keeps its state in files only")
        .hint("Build it with the feature `postgres`, or name a file: state = \"chestnut.state\".")
}

/// Something is wrong with the state.
pub(crate) fn state_is_damaged(state: &str, wrong: &[Wrong]) -> Failure {
    let words = |wrong: &Wrong| match wrong {
        Wrong::Told(words) => words.clone(),
        Wrong::TextsMissing { table, number } => {
            format!(
                "{} of the table {table} name a text that is missing",
                count(*number as usize, "row", "rows")
            )
        }
        _ => "something else".to_owned(),
    };
    let first = wrong.iter().take(3).map(words).collect::<Vec<_>>().join("; ");
    Failure::failed(format!("{state} is damaged: {first}"))
        .hint("Put a backup back, or move it away (its history goes with it): the next sync finds all copies again by their UIDs and writes nothing twice.")
}
