//! Accounts as they are made, signed in and forgotten.

use std::path::Path;

use chestnut_caldav::TransportError;
use chestnut_caldav::oauth::OAuthError;

use super::errors::InWords as _;
use super::problems::Problem;
use super::secrets::KEYRING_HINT;
use crate::failure::Failure;
use crate::render::{clean, count, typed};
use crate::report::account_move::Report;

pub(crate) fn not_a_server(text: &str) -> Failure {
    Failure::usage(format!("{text:?} is not a server address"))
        .hint("Write it as dav.packhouse.example or https://dav.packhouse.example/.")
}

pub(crate) fn sign_in_in_address() -> Failure {
    Failure::usage("the address must not hold user or password")
        .hint("Give the user with --user; the password is asked for.")
}

pub(crate) fn password_prompt(whose: &str) -> String {
    format!("Password for {whose}")
}

pub(crate) fn password_not_written(path: &Path, system: &std::io::Error) -> Failure {
    Failure::failed(format!("the password file {} cannot be written: {system}", path.display()))
        .hint("Move it away, or name it with --password-from file:PATH.")
}

pub(crate) fn no_keyring_for_password() -> Failure {
    Failure::usage("the password cannot be kept in a keyring").hint(KEYRING_HINT)
}

pub(crate) fn no_terminal_for_password() -> Failure {
    Failure::usage("the password cannot be asked for: this is not a terminal")
        .hint("Say where it is kept: --password-from env:NAME, file:PATH, command:PROGRAM or keyring.")
}

pub(crate) fn keyring_takes_none(words: &str) -> Failure {
    Failure::usage(format!("the keyring does not take the password: {words}")).hint(KEYRING_HINT)
}

pub(crate) fn no_place_of_secret(option: &str) -> Failure {
    Failure::usage(format!("{option} does not say where the secret is kept"))
        .hint("Write env:NAME, file:PATH, command:PROGRAM or keyring.")
}

pub(crate) fn not_a_proxy(text: &str) -> Failure {
    Failure::usage(format!("--proxy {text:?} is not an address"))
        .hint("Write it as http://proxy.packhouse.example:3128, or none.")
}

pub(crate) fn password_in_proxy() -> Failure {
    Failure::usage("the proxy's address must not hold a password").hint(
        "Write proxy = { url = \"…\", user = \"…\", password = { file = \"…\" } } into the configuration.",
    )
}

pub(crate) fn not_an_address(option: &str, text: &str) -> Failure {
    Failure::usage(format!("{option} {text:?} is not an address")).hint("It begins with https://.")
}

pub(crate) fn needed_with_client(option: &str) -> Failure {
    Failure::usage(format!("{option} is needed with --client-id"))
}

pub(crate) fn account_is_there(name: &str) -> Failure {
    Failure::usage(format!("there is an account `{name}` already")).hint(format!(
        "Try it with `chestnut account test {typed}`, or take it out with `chestnut account forget {typed}`.",
        typed = typed(name)
    ))
}

/// Before what else there is to do.
/// `account password` is for passwords that this program keeps.
pub(crate) fn not_kept_by_chestnut(name: &str) -> Failure {
    Failure::usage(format!("the sign-in of account {name} is not a password in a file or in the keyring"))
        .hint("Change it where it is kept; the configuration says where. OAuth: `chestnut account login`.")
}

/// The old one stays.
pub(crate) fn password_was_refused(name: &str) -> Failure {
    Failure::failed(format!("account {name}: the new password does not work, and was not kept"))
        .hint(format!("Run the same command again: `chestnut account password {}`.", typed(name)))
}

pub(crate) fn new_password_kept(name: &str, place: &str) -> String {
    format!("The new password of {} works, and is kept in {}.\n", clean(name), clean(place))
}

pub(crate) const USER_OR_NONE: &str = "User name (empty where the server asks for none)";

pub(crate) fn nothing_saved(hint: Option<&str>) -> String {
    let hint = hint.map(|hint| format!(" {hint}")).unwrap_or_default();
    format!("Nothing was saved.{hint} Then run the same command again.")
}

pub(crate) fn account_written(name: &str, configuration: &str, is_oauth: bool) -> String {
    let next = match is_oauth {
        true => format!("chestnut account login {}", typed(name)),
        false => format!("chestnut calendar add NAME --account {} --path PATH", typed(name)),
    };
    format!("\nAccount {name} is written into {configuration}.\nNext: {next}\n")
}

pub(crate) fn account_is_needed(name: &str, calendars: &[String], routes: &[String], file: &Path) -> Failure {
    let through = match routes {
        [] => String::new(),
        routes => format!("; routes {} use them", routes.join(", ")),
    };
    Failure::usage(format!("account {name} is needed by calendars {}{through}", calendars.join(", "))).hint(format!(
        "Nothing was changed. Take these out of {} first; copies that routes have made stay where they are.",
        file.display()
    ))
}

pub(crate) fn key_in_keyring(key: &str) -> String {
    format!("{key} in the keyring")
}

/// Whether another server may have the sign-in.
pub(crate) fn may_sign_in_at(from: &str, to: &str) -> String {
    format!("{from} sends sign-ins to {to}. Send your password there?")
}

pub(crate) fn not_an_origin(text: &str) -> Failure {
    Failure::usage(format!("--sign-in-also-at {text}: {}", Problem::NotOrigin(text).words()))
}

pub(crate) fn sign_in_also_needed(from: &str, to: &str) -> Failure {
    Failure::usage(format!(
        "{from} sends sign-ins to {to}, and nobody is there to say whether it may have yours"
    ))
    .hint(format!("If it belongs to the same service, run it again with: --sign-in-also-at {to}"))
}

/// The address can be opened on another machine.
pub(crate) const NO_BROWSER: &str =
    "No browser could be opened here. With one on another machine, use --code.";
pub(crate) const PAGE_OF_ANOTHER: &str =
    "<!doctype html><title>Chestnut</title><p>This is not the sign-in that was asked for.</p>";
pub(crate) const PAGE_REFUSED: &str =
    "<!doctype html><title>Chestnut</title><p>The sign-in was refused. You may close this page.</p>";
pub(crate) const PAGE_SIGNED_IN: &str = "<!doctype html><title>Chestnut</title><p>Signed in. You may close this page and go back to the terminal.</p>";

pub(crate) fn no_oauth(name: &str) -> Failure {
    Failure::usage(format!("account {name} does not sign in by OAuth")).hint(format!(
        "It has a user and a password, or a token; `chestnut account test {}` tries them.",
        typed(name)
    ))
}

pub(crate) fn tokens_not_kept(name: &str, words: &str) -> Failure {
    Failure::failed(format!("account {name}: the tokens cannot be kept: {words}"))
}

pub(crate) fn not_signed_in(name: &str, error: &OAuthError) -> Failure {
    let hint = match error {
        OAuthError::Denied => {
            "It was declined; some organisations require an administrator to agree first.".to_owned()
        }
        OAuthError::Expired => {
            format!("Try again: `chestnut account login {} --code`.", typed(name))
        }
        OAuthError::Refused(_) => format!(
            "Check client-id, client-secret and scopes of account {name}: they must be those that the service registered."
        ),
        _ => format!("Check the addresses of `oauth` in account {name}."),
    };
    Failure::failed(format!("account {name}: {}", error.in_words())).hint(hint)
}

pub(crate) fn service_not_reached(name: &str, error: &TransportError) -> Failure {
    Failure::failed(format!("account {name}: {}", error.in_words()))
        .hint(format!("Check the addresses of `oauth` in account {name}, and this machine's network."))
}

pub(crate) fn open_in_browser(address: &str) -> String {
    format!("Open this address in a browser on this machine, and sign in there:\n\n  {address}\n\n")
}

pub(crate) fn type_this_code(address: &str, code: &str) -> String {
    format!("On any device, open\n\n  {address}\n\nand type the code\n\n  {code}\n\n")
}

pub(crate) fn no_device_address(name: &str) -> Failure {
    Failure::usage(format!("account {name}: `oauth` has no device-url"))
        .hint("Add the service's address for device codes, or sign in with a browser on this machine.")
}

pub(crate) fn nobody_signed_in() -> Failure {
    Failure::failed("nobody signed in").hint("Nothing was changed. Try it again.")
}

/// The question before an account is moved.
pub(crate) const MOVE_ACCOUNT: &str = "Go on there?";

/// What would be taken over.
pub(crate) fn account_moves(report: &Report) -> String {
    let mut lines = format!("At {}:\n", report.url);
    for one in &report.calendars {
        let stand = match (one.known, one.known - one.found) {
            (0, _) => "empty so far; recognised by what it is called".to_owned(),
            (1, 0) => "its one entry stands there".to_owned(),
            (known, 0) => format!("all {known} entries stand there"),
            (known, missing) => format!(
                "{} of {} stand there; the next sync takes the other {missing} for deleted",
                one.found,
                count(known, "entry", "entries")
            ),
        };
        lines += &format!("  {} is {}: {stand}\n", one.calendar, one.path);
    }
    if report.calendars.is_empty() {
        lines += "  no route has used a calendar of this account yet\n";
    }
    lines
}

/// An account was moved.
pub(crate) fn account_moved(report: &Report) -> String {
    let routes = match &report.routes[..] {
        [] => String::new(),
        routes => format!(
            "; {} with what was agreed: {}",
            if routes.len() == 1 { "this route goes on" } else { "these routes go on" },
            routes.join(", ")
        ),
    };
    format!(
        "{} is at {} now{routes}\n  chestnut preview                  what the next sync does there\n",
        report.account, report.url
    )
}

pub(crate) fn moving_asks_first() -> Failure {
    Failure::waiting("nothing was changed; say --yes to go on there")
}

pub(crate) fn not_moved_account(account: &str) -> Failure {
    Failure::waiting(format!("{account} stays where it is; nothing was changed"))
}

/// None of the calendars at a new address is one that routes use. `nearest`: where most of it stands, and how much.
pub(crate) fn no_calendar_recognised(
    calendar: &str,
    account: &str,
    url: &str,
    nearest: Option<(String, usize, usize)>,
) -> Failure {
    let nearest = match nearest {
        Some((path, found, known)) if found > 0 => {
            format!(
                ": of {} at most {found} stand in one calendar ({path})",
                count(known, "entry", "entries")
            )
        }
        Some((_, _, known)) if known > 0 => {
            format!(": none of its {} stand there", count(known, "entry", "entries"))
        }
        _ => String::new(),
    };
    Failure::waiting(format!("calendar {calendar} is not recognised at {url}{nearest}; nothing was changed")).hint(format!(
        "Move its entries there first. If it is meant to be another calendar, change `url` of account {account} yourself, retire its routes with `chestnut route retire`, and add them anew."
    ))
}
