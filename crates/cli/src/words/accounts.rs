//! Accounts as they are made, signed in and forgotten.

use std::path::Path;

use chestnut_caldav::TransportError;
use chestnut_caldav::oauth::OAuthError;

use super::errors::InWords as _;
use super::problems::Problem;
use super::secrets::KEYRING_HINT;
use crate::failure::Failure;

pub(crate) fn not_a_server(text: &str) -> Failure {
    Failure::usage(format!("{text:?} is no address of a server"))
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
    Failure::usage("the password cannot be asked for: this is no terminal")
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
    Failure::usage(format!("--proxy {text:?} is no address"))
        .hint("Write it as http://proxy.packhouse.example:3128, or none.")
}

pub(crate) fn password_in_proxy() -> Failure {
    Failure::usage("the proxy's address must not hold a password").hint(
        "Write proxy = { url = \"…\", user = \"…\", password = { file = \"…\" } } into the configuration.",
    )
}

pub(crate) fn not_an_address(option: &str, text: &str) -> Failure {
    Failure::usage(format!("{option} {text:?} is no address")).hint("It begins with https://.")
}

pub(crate) fn needed_with_client(option: &str) -> Failure {
    Failure::usage(format!("{option} is needed with --client-id"))
}

pub(crate) fn account_is_there(name: &str) -> Failure {
    Failure::usage(format!("there is an account `{name}` already")).hint(format!(
        "Try it with `chestnut account test {name}`, or take it out with `chestnut account forget {name}`."
    ))
}

/// Before what else there is to do.
pub(crate) fn nothing_saved(hint: Option<&str>) -> String {
    format!("Nothing was saved. {}", hint.unwrap_or_default()).trim_end().to_owned()
}

pub(crate) fn account_written(name: &str, configuration: &str, is_oauth: bool) -> String {
    let next = match is_oauth {
        true => format!("chestnut account login {name}"),
        false => format!("chestnut calendar add NAME --account {name} --path PATH"),
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
    Failure::usage(format!("account {name} does not sign in by OAuth"))
        .hint(format!("It has a user and a password, or a token; `chestnut account test {name}` tries them."))
}

pub(crate) fn tokens_not_kept(name: &str, words: &str) -> Failure {
    Failure::failed(format!("account {name}: the tokens cannot be kept: {words}"))
}

pub(crate) fn not_signed_in(name: &str, error: &OAuthError) -> Failure {
    let hint = match error {
        OAuthError::Denied => {
            "Somebody said no, or may not say yes: some organisations want an administrator to agree first."
                .to_owned()
        }
        OAuthError::Expired => format!("Try again: `chestnut account login {name} --code`."),
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
