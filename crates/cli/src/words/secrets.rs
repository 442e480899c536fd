//! Secrets, keys and certificates that cannot be had, or that others may read.

use std::fmt::Display;
use std::path::Path;
use std::process::ExitStatus;

use crate::failure::Failure;

/// What to do where there is no keyring.
pub(crate) const KEYRING_HINT: &str = if cfg!(feature = "keyring") {
    "Unlock the keyring, or keep it in a file: { file = \"PATH\" }."
} else {
    "This build has no keyring: build it with `--features keyring`, or use { file = \"PATH\" } or { command = [\"…\"] }."
};

/// What the keyring of a build without one says.
#[cfg(not(feature = "keyring"))]
pub(crate) const NO_KEYRING: &str = "this build has no keyring";

/// A file that others may read, and what it has that they should not.
pub(crate) enum Open<'a> {
    /// A table of the configuration with a secret in it.
    Configuration(&'a str),
    Secret {
        owner: &'a str,
        what: &'a str,
    },
    Key(&'a str),
    Tokens,
}

pub(crate) fn others_may_read(path: &Path, what: &Open<'_>) -> Failure {
    let path = path.display();
    let message = match what {
        Open::Configuration(table) => format!("[{table}] holds a secret, and others may read {path}"),
        Open::Secret { owner, what } => format!("{owner}: others may read the {what} file {path}"),
        Open::Key(owner) => format!("{owner}: others may read the key in {path}"),
        Open::Tokens => format!("others may read the tokens in {path}"),
    };
    Failure::usage(message).hint(format!("Fix it with: chmod 600 {path}"))
}

/// For where there is room for one line alone.
pub(crate) fn in_one_line(failure: &Failure) -> String {
    format!("{}. {}", failure.message, failure.hint.as_deref().unwrap_or_default())
}

pub(crate) fn variable_not_set(owner: &str, what: &str, name: &str) -> Failure {
    Failure::usage(format!("{owner}: the environment variable {name} is not set"))
        .hint(format!("Set it to the {what}, or keep the {what} in a file."))
}

pub(crate) fn keyring_gives_none(owner: &str, what: &str, name: &str, words: &str) -> Failure {
    Failure::usage(format!("{owner}: the keyring has no {what} under {name:?}: {words}")).hint(KEYRING_HINT)
}

pub(crate) fn secret_is_empty(owner: &str, what: &str) -> Failure {
    Failure::usage(format!("{owner}: the {what} is empty"))
}

pub(crate) fn secret_file_unreadable(
    owner: &str,
    what: &str,
    path: &Path,
    system: &std::io::Error,
) -> Failure {
    Failure::usage(format!("{owner}: the {what} file {} cannot be read: {system}", path.display()))
}

/// Why a program gave no secret.
pub(crate) enum CommandTrouble {
    NotRun(std::io::Error),
    Failed(ExitStatus),
    NotText,
}

pub(crate) fn secret_command_failed(owner: &str, what: &str, program: &str, why: &CommandTrouble) -> Failure {
    let why = match why {
        CommandTrouble::NotRun(system) => format!("could not be run: {system}"),
        CommandTrouble::Failed(status) => format!("failed ({status})"),
        CommandTrouble::NotText => "gave bytes that are not text".to_owned(),
    };
    Failure::usage(format!("{owner}: the {what} command `{program}` {why}"))
}

pub(crate) fn certificate_unreadable(owner: &str, path: &Path, system: &std::io::Error) -> Failure {
    Failure::usage(format!("{owner}: the certificate file {} cannot be read: {system}", path.display()))
}

pub(crate) fn not_pem(owner: &str, path: &Path) -> Failure {
    Failure::usage(format!("{owner}: {} is not PEM text", path.display()))
}

pub(crate) fn holds_no_key(path: &Path) -> Failure {
    Failure::usage(format!("the key file {} holds no key", path.display()))
        .hint("Put back the one you had; without it copies are made anew.")
}

pub(crate) fn key_unreadable(path: &Path, system: &std::io::Error) -> Failure {
    Failure::usage(format!("the key file {} cannot be read: {system}", path.display()))
}

pub(crate) fn key_not_written(path: &Path, system: &std::io::Error) -> Failure {
    Failure::failed(format!("the key file {} cannot be written: {system}", path.display()))
        .hint("It is made once. `key = \"PATH\"` in the configuration says where it may be kept.")
}

pub(crate) fn no_key(words: &dyn Display) -> Failure {
    Failure::failed(format!("no random numbers for the key: {words}"))
}

pub(crate) fn in_keyring(name: &str) -> String {
    format!("the keyring, as {name}")
}

pub(crate) fn not_signed_in_yet(account: &str) -> String {
    format!("account {account} has not signed in yet")
}

pub(crate) fn not_tokens(place: &str) -> String {
    format!("what is kept in {place} cannot be understood")
}

/// Nobody handed credentials over.
pub(crate) fn no_credentials(owner: &str, what: &str, name: &str) -> Failure {
    Failure::usage(format!("{owner}: the {what} is the credential `{name}`, and none was passed to this process"))
        .hint("systemd passes them to a service: LoadCredential= in its unit. By hand, name the folder in CREDENTIALS_DIRECTORY.")
}
