//! Sentences about calendars: adding, making and renaming them.

use std::path::Path;

use chestnut_caldav::protocol::{CalendarInfo, NewCalendar};
use chestnut_caldav::{Class, DavError};
use chestnut_core::Kind;
use chestnut_engine::{CalendarError, Unread};

use super::errors::InWords as _;
use super::failures::{calendar_hint, dav_hint};
use crate::failure::Failure;
use crate::render::{clean, typed};

/// The configuration has a calendar of that name, where it was about to get one.
pub(crate) fn has_calendar(name: &str, path: &Path) -> Failure {
    Failure::usage(format!("there is a calendar `{name}` already in {}", path.display()))
        .hint("Choose another name.")
}

/// The same, before a calendar was made on a server.
pub(crate) fn has_calendar_so_none_was_made(name: &str) -> Failure {
    Failure::usage(format!("there is a calendar `{name}` already in the configuration"))
        .hint("Nothing was made. Choose another name with --as.")
}

/// A name or a path leads to none, or to several.
pub(crate) fn not_one_calendar(account: &str, wanted: &str, has_several: bool) -> Failure {
    let many = if has_several { "several calendars" } else { "no calendar" };
    Failure::usage(format!("account {account} has {many} {wanted:?}"))
        .hint(format!("`chestnut calendar list {}` shows what is there; name it by --path.", typed(account)))
}

/// `--feed` is no address.
/// The address is not repeated: whoever has it may read the feed.
pub(crate) fn not_a_feed() -> Failure {
    Failure::usage("the value of --feed is not a feed address")
        .hint("It begins with https://, http:// or webcal://.")
}

/// A password has no place in an address.
pub(crate) fn feed_with_password() -> Failure {
    Failure::usage("the feed's address must not hold user or password")
        .hint("Make an account with the user and the password, and name it with --account.")
}

/// `--file` names a folder.
pub(crate) fn is_a_folder(path: &Path) -> Failure {
    Failure::usage(format!("{} is a folder", path.display())).hint("Name it with --folder.")
}

/// `--folder` names a file.
pub(crate) fn is_a_file(path: &Path) -> Failure {
    Failure::usage(format!("{} is a file", path.display())).hint("Name it with --file.")
}

pub(crate) const NOT_THERE_YET: &str = "it is not there yet: the first copy makes it";
pub(crate) const NEW_UIDS: &str =
    "its UIDs are new at every fetch: entries are recognised by title, start, end and recurrence";

/// What the server made otherwise than it was asked.
pub(crate) fn made_differently(new: &NewCalendar, made: &CalendarInfo) -> Vec<String> {
    let mut told = Vec::new();
    if made.name != new.name {
        told.push(format!("its name is {:?}", made.name));
    }
    if new.color.is_some() && made.color != new.color {
        let color = made.color.as_ref();
        told.push(color.map_or_else(|| "it has no colour".to_owned(), |c| format!("its colour is {c}")));
    }
    if made.kinds != new.kinds {
        let takes: Vec<_> = made.kinds.iter().map(Kind::word).collect();
        told.push(format!("it takes {}", takes.join(", ")));
    }
    told
}

/// The account has a calendar of that name.
pub(crate) fn server_has_calendar(account: &str, name: &str) -> Failure {
    Failure::usage(format!("account {account} has a calendar named {name:?} already")).hint(format!(
        "Use that one (`chestnut calendar list {}` shows its path), or choose another name.",
        typed(account)
    ))
}

const MAKE_IT_THERE: &str =
    "Make the calendar in the server's own pages, then `chestnut calendar list` finds it.";

/// The server names no place for new calendars.
pub(crate) fn no_home(account: &str) -> Failure {
    Failure::failed(format!("account {account}: the server names no home for new calendars"))
        .hint(MAKE_IT_THERE)
}

/// The server does not make it.
pub(crate) fn not_made(account: &str, error: &DavError) -> Failure {
    let hint = match error.class() {
        Class::Credentials => dav_hint(error, account),
        _ => format!("This server does not let you create calendars from outside. {MAKE_IT_THERE}"),
    };
    Failure::failed(format!("account {account}: {}", error.in_words())).hint(hint)
}

/// The server says that it made it, and did not.
pub(crate) fn made_and_not_there(account: &str) -> Failure {
    let words =
        format!("account {account}: the server said that it created the calendar, but it is not there");
    Failure::failed(words).hint(MAKE_IT_THERE)
}

/// A file has no name on a server.
pub(crate) fn has_no_name(calendar: &str, kind: &str) -> Failure {
    Failure::usage(format!("calendar {calendar} is a {kind}, which has no name on a server"))
        .hint("What it is called here stands in the configuration: [calendar.NAME].")
}

pub(crate) fn empty_name() -> Failure {
    Failure::usage("the new name is empty")
}

/// The server does not rename it.
pub(crate) fn not_renamed(calendar: &str, account: &str, error: &DavError) -> Failure {
    Failure::failed(format!("calendar {calendar} (account {account}): {}", error.in_words()))
        .hint(dav_hint(error, account))
}

/// The server says that it renamed it, and did not.
pub(crate) fn keeps_its_name(calendar: &str, account: &str, name: Option<&str>) -> Failure {
    let stands = name.map_or_else(|| "nothing".to_owned(), |name| format!("{:?}", clean(name)));
    Failure::failed(format!(
        "calendar {calendar} (account {account}): the server accepted the new name, but still calls it {stands}"
    ))
    .hint("Rename it where the server's own pages allow it; nothing was changed in the configuration.")
}

/// Routes need a calendar that is to be forgotten.
pub(crate) fn calendar_is_needed(name: &str, routes: &[String]) -> Failure {
    Failure::usage(format!("calendar {name} is needed by {}", routes.join(", "))).hint(format!(
        "Nothing was changed. Retire these first: `chestnut route retire {}`.",
        routes.first().map_or_else(|| "ROUTE".to_owned(), |route| typed(route))
    ))
}

pub(crate) fn calendar_forgotten(name: &str) -> String {
    format!("Calendar {} is out of the configuration; what stands in it stays.\n", clean(name))
}

/// `calendar rename` does not say that the server's name is meant.
pub(crate) fn renames_for_everybody(calendar: &str, new: &str) -> Failure {
    Failure::usage(format!("this renames {calendar} on its server, for everybody who sees it there")).hint(format!(
        "Say so: `chestnut calendar rename {typed} {new:?} --on-server`. Only here, its name is the heading [calendar.{calendar}] of the configuration.", typed = typed(calendar)))
}

pub(crate) fn rename_now(calendar: &str, account: &str, new: &str) -> String {
    format!("Rename {calendar} to {:?} at {account}, for everybody who sees it?", clean(new))
}

pub(crate) fn renaming_asks_first(calendar: &str) -> Failure {
    Failure::usage(format!("renaming {calendar} on its server asks first, and nobody can be asked here"))
        .hint("Say --yes to go on.")
}

/// A person said no.
pub(crate) fn was_not_renamed(calendar: &str) -> Failure {
    Failure::waiting(format!("{calendar} was not renamed."))
}

/// It has its new name.
pub(crate) fn renamed(calendar: &str, name: &str, is_in_configuration: bool) -> String {
    let also = if is_in_configuration { " The configuration names it so now." } else { "" };
    format!("Calendar {calendar} is called {:?} on its server.{also}\n", clean(name))
}

/// A calendar that could not be read, with what to do.
pub(crate) fn calendar_failure(error: &CalendarError, name: &str, account: Option<&str>) -> Failure {
    Failure::failed(format!("calendar {name}: {}", error.in_words()))
        .hint(calendar_hint(error, name, account))
}

pub(crate) fn entry_unreadable(calendar: &str, file: &str, why: &Unread) -> Failure {
    Failure::failed(format!("calendar {calendar}, {file}: {}", why.in_words()))
}

pub(crate) fn file_unreadable(name: &str, words: &str) -> Failure {
    Failure::failed(format!("{name}: {words}"))
}

/// What sort of calendar it is; where its feed is.
pub(crate) const ON_A_SERVER: &str = "on a server";

/// What may be done in a calendar; `None` where its server does not tell.
pub(crate) fn rights_word(writable: Option<bool>) -> &'static str {
    match writable {
        Some(true) => "read, write",
        Some(false) => "read only",
        None => "not told",
    }
}

/// Where a calendar is, as one says it of one.
pub(crate) fn placed(kind: &str) -> String {
    match kind {
        ON_A_SERVER => kind.to_owned(),
        "free-busy" => "free-busy time".to_owned(),
        _ => format!("a {kind}"),
    }
}
pub(crate) const KEPT_AS_SECRET: &str = "kept as a secret";
