//! What a shell completes besides the program's own words: names of the configuration. No network, no secret and nobody is
//! asked, and a file that cannot be read completes nothing.

use std::ffi::OsStr;

use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};

use crate::environment::Environment;
use crate::settings::names_of;

pub(super) fn accounts() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| candidates(typed, "account"))
}

pub(super) fn calendars() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| candidates(typed, "calendar"))
}

pub(super) fn routes() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| candidates(typed, "route"))
}

fn candidates(typed: &OsStr, kind: &str) -> Vec<CompletionCandidate> {
    let typed = typed.to_string_lossy();
    let names = names_of(kind, &Environment::of_process()).unwrap_or_default();
    names.into_iter().filter(|name| name.starts_with(&*typed)).map(CompletionCandidate::new).collect()
}
