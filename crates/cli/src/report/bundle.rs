//! What a bundle for help from outside holds: no secrets, no titles, no addresses of people.

use std::collections::BTreeMap;

use serde::Serialize;

use super::check::Line;
use super::history::Run;
use crate::check_account::Step;

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Bundle {
    /// What this file is, for whoever opens it.
    pub(crate) about: &'static str,
    pub(crate) chestnut: &'static str,
    /// Operating system and processor.
    pub(crate) system: String,
    pub(crate) made: String,
    /// The configuration, line by line; values that say who somebody is are `…`.
    pub(crate) configuration: Vec<String>,
    pub(crate) check: Vec<Line>,
    /// The way to each account's calendars.
    pub(crate) steps: BTreeMap<String, Vec<Step>>,
    pub(crate) state: Option<State>,
    /// Why nothing is said of the state.
    pub(crate) state_error: Option<String>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct State {
    /// `file` or `database`.
    pub(crate) kind: &'static str,
    pub(crate) calendars: usize,
    pub(crate) entries: usize,
    pub(crate) routes: usize,
    pub(crate) runs: usize,
    pub(crate) last_runs: Vec<Run>,
    /// What lately went wrong with single entries, without their titles.
    pub(crate) entry_failures: Vec<EntryFailure>,
    pub(crate) troubles: Vec<Trouble>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct EntryFailure {
    pub(crate) run: i64,
    pub(crate) calendar: String,
    pub(crate) action: &'static str,
    pub(crate) why: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Trouble {
    pub(crate) sort: &'static str,
    pub(crate) about: String,
    pub(crate) began: String,
    pub(crate) what: String,
}
