//! What a shell completes besides the program's own words: names of the configuration. No network, no secret and nobody is
//! asked, and a file that cannot be read completes nothing.

use std::ffi::OsStr;

use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};

use crate::environment::Environment;
use crate::settings::Settings;

pub(super) fn accounts() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        candidates(typed, |settings| settings.accounts.keys().cloned().collect())
    })
}

pub(super) fn calendars() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        candidates(typed, |settings| settings.calendars.keys().cloned().collect())
    })
}

pub(super) fn routes() -> ArgValueCompleter {
    ArgValueCompleter::new(|typed: &OsStr| {
        // A part of a route is called by the name of the whole.
        let whole = |(name, route): (&String, &crate::settings::RouteSettings)| {
            route.part_of.clone().unwrap_or_else(|| name.clone())
        };
        candidates(typed, |settings| settings.routes.iter().map(whole).collect())
    })
}

fn candidates(typed: &OsStr, names: impl Fn(&Settings) -> Vec<String>) -> Vec<CompletionCandidate> {
    let typed = typed.to_string_lossy();
    let Ok(settings) = Settings::load(None, &Environment::of_process()) else { return Vec::new() };
    let mut names = names(&settings);
    names.dedup();
    names.into_iter().filter(|name| name.starts_with(&*typed)).map(CompletionCandidate::new).collect()
}
