//! What `chestnut init --ask` asks and tells.

use std::path::Path;

use crate::failure::Failure;
use crate::render::{clean, count, style};

pub(crate) const FIRST_FROM: &str = "\nFirst: which calendar is read?";
pub(crate) const THEN_TO: &str =
    "\nSecond: where do its copies go? A calendar of their own is best, one that nobody writes into.";
pub(crate) const THEN_ROUTE: &str = "\nThird: what goes from one to the other?";
pub(crate) const WHICH: &str = "Which?";
pub(crate) const A_FILE: &str = "an .ics file";
pub(crate) const A_FEED: &str = "a feed: a link to a calendar that can only be read";
pub(crate) const SERVER_ADDRESS: &str = "Address of the server (a host, or any link to it)";
pub(crate) const NO_SERVER_ADDRESS: &str = "That is not a server address. Write it as dav.packhouse.example.";
pub(crate) const USER_NAME: &str = "User name";
pub(crate) const PASSWORD: &str = "Password";
pub(crate) const NEW_FOR_COPIES: &str = "a new calendar for the copies";
/// How a new calendar is called where nothing better is typed.
pub(crate) const COPIES: &str = "Copies";
pub(crate) const MORE_COPIES: &str = "More copies";
pub(crate) const NAME_ON_SERVER: &str = "Its name on the server";
pub(crate) const WHICH_FILE: &str = "Which file?";
pub(crate) const FEED_ADDRESS: &str = "Address of the feed (https: or webcal:)";
pub(crate) const NO_FEED_ADDRESS: &str = "That is not a feed address: it begins with https:// or webcal://.";
pub(crate) const WRITE_THIS: &str = "Write this?";

pub(crate) fn this_writes(path: &Path) -> String {
    let there = if path.exists() { "What is in it already stays." } else { "It is not there yet." };
    format!(
        "This writes {}. {there} Nothing is written before the last question; Ctrl-C leaves nothing behind.",
        path.display()
    )
}

pub(crate) const WHICH_ZONE: &str =
    "This machine does not say where it is. Your time zone, such as Europe/Ljubljana";

pub(crate) fn not_a_zone(typed: &str, near: Option<&String>) -> String {
    let near = near.map(|near| format!(" Did you mean {near}?")).unwrap_or_default();
    format!("`{}` is not a time zone.{near}", clean(typed))
}

pub(crate) fn name_of_this(kind: &str) -> String {
    format!("Name of this {kind} here")
}

pub(crate) fn name_is_taken(kind: &str, name: &str) -> String {
    format!("There is a {kind} {name} already.")
}

pub(crate) fn configured_already(calendar: &str) -> String {
    format!("{calendar} (in the configuration)")
}

pub(crate) fn one_of_account(account: &str) -> String {
    format!("a calendar of the account {account}")
}

pub(crate) fn on_a_server(has_accounts: bool) -> String {
    format!("a calendar on {} CalDAV server", if has_accounts { "another" } else { "a" })
}

pub(crate) fn no_calendar_yet(account: &str) -> String {
    format!("Account {account} has no calendar yet.")
}

pub(crate) fn which_of_account(account: &str) -> String {
    format!("Which calendar of {account}?")
}

/// The account's name is not known yet: its host is.
pub(crate) fn password_again(host: &str) -> String {
    format!("{host} refused this password. Password (u: other user, a: other address)")
}

/// A file is there that an account of this name would keep its password in.
pub(crate) fn has_a_password_already(name: &str) -> String {
    format!(
        "There is a password file for an account {name} already; it is not overwritten. Choose another name."
    )
}

/// A calendar of a server has a name here already.
pub(crate) fn called_already(shown: &str, called: &str) -> String {
    format!("{} is in the configuration already, as {called}.", clean(shown))
}

pub(crate) fn would_be_written(path: &Path, tables: &[String]) -> String {
    format!("\nTo be written into {}:\n\n{}", path.display(), tables.join("\n"))
}

pub(crate) fn would_be_made(shown: &str, account: &str) -> String {
    format!("The calendar \"{}\" will be created on {account}.\n", clean(shown))
}

pub(crate) fn nothing_was_written() -> Failure {
    Failure::waiting("Nothing was written.").hint("To start again: `chestnut init --ask`")
}

/// A file has no title.
pub(crate) fn it_holds(title: &str, entries: usize) -> String {
    let number = count(entries, "entry", "entries");
    if title.is_empty() { format!("It holds {number}.") } else { format!("{}: {number}.", clean(title)) }
}

pub(crate) fn written_by_asking(path: &Path) -> String {
    let config = match path == Path::new("chestnut.toml") {
        true => String::new(),
        false => format!(" --config {}", path.display()),
    };
    let next = style::paint(style::STRONG, format!("chestnut preview{config}"));
    format!(
        "\nWritten. Nothing was copied yet. See what a sync would do, without writing anything:\n\n  {next}\n\nThen: chestnut sync{config}"
    )
}
