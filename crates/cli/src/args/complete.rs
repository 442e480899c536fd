//! What a shell completes besides the program's own words: names of the configuration. No network, no secret and nobody is
//! asked, and a file that cannot be read completes nothing.

use std::ffi::OsStr;

use chestnut_core::Detail;
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

/// What `--carry` takes; details go on after a comma.
pub(super) fn carried() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        let typed = typed.to_string_lossy();
        let (before, last) = typed.rsplit_once(',').map_or(("", &*typed), |(before, last)| (before, last));
        let alone = ["everything", "busy"].into_iter().filter(|_| before.is_empty());
        let words = alone.chain(Detail::ALL.into_iter().map(Detail::word));
        let fitting = words.filter(|word| word.starts_with(last));
        let whole = |word| if before.is_empty() { String::from(word) } else { format!("{before},{word}") };
        fitting.map(|word| CompletionCandidate::new(whole(word))).collect()
    })
}

fn candidates(typed: &OsStr, kind: &str) -> Vec<CompletionCandidate> {
    let typed = typed.to_string_lossy();
    let names = names_of(kind, &Environment::of_process()).unwrap_or_default();
    names.into_iter().filter(|name| name.starts_with(&*typed)).map(CompletionCandidate::new).collect()
}
