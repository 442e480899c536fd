//! A route, ready to run.

use std::cell::Cell;
use std::rc::Rc;

use chestnut_core::{Carry, Choice, Deletions, FarEdits, Kinds, RouteKey, RoutePolicy, Scheduling};
use jiff::{SignedDuration, Timestamp};

use crate::calendar::{Calendar, CalendarError};
use crate::error::RunError;

/// One calendar of a route.
#[derive(Debug, Clone)]
pub struct CalendarEnd {
    /// Its name in the configuration.
    pub name: String,
    /// Its account's name in the configuration; feeds, files and folders may have none.
    pub account: Option<String>,
    /// Reads and writes it.
    pub calendar: Calendar,
}

impl CalendarEnd {
    pub(crate) fn failed(&self, error: CalendarError) -> RunError {
        RunError::Calendar {
            calendar: self.name.clone(),
            account: self.account.clone(),
            error: Box::new(error),
        }
    }
}

/// A one-way route, ready to run.
#[derive(Debug, Clone)]
pub struct Route {
    /// Its name in the configuration.
    pub name: String,
    /// Where entries come from.
    pub source: CalendarEnd,
    /// Where copies go.
    pub target: CalendarEnd,
    /// Which kinds it takes.
    pub kinds: Kinds,
    /// Which entries of these kinds it takes.
    pub choice: Choice,
    /// What deletions do.
    pub deletions: Deletions,
    /// What edits on the far side do.
    pub far_edits: FarEdits,
    /// Makes the UIDs of copies.
    pub key: RouteKey,
    /// How often the whole listing is compared.
    pub check_every: SignedDuration,
    /// How long replaced and deleted texts are kept.
    pub keep_history: SignedDuration,
}

impl Route {
    /// What changes the result of a run over unchanged calendars: another text here means reading afresh.
    pub(crate) fn settings(&self) -> String {
        let kinds: Vec<_> = self.kinds.iter().map(|k| k.word()).collect();
        format!(
            "kinds={};choice={};deletions={:?};far-edits={:?}",
            kinds.join(","),
            self.choice.settings(),
            self.deletions,
            self.far_edits
        )
    }

    /// What the route says, joined with what its calendars say of themselves. `addresses` are the source's owner's.
    pub(crate) fn policy(
        &self,
        addresses: &[String],
        accepted: Kinds,
        max_size: Option<u64>,
        scheduling: Scheduling,
    ) -> RoutePolicy {
        let mut choice = self.choice.clone();
        choice.add_addresses(addresses);
        RoutePolicy {
            kinds: self.kinds.clone(),
            choice,
            accepted,
            max_size,
            carry: Carry { scheduling },
            deletions: self.deletions,
            far_edits: self.far_edits,
            key: self.key.clone(),
        }
    }

    pub(crate) fn endpoints(&self) -> String {
        format!("{} → {}", self.source.calendar.address(), self.target.calendar.address())
    }
}

/// How to run it this time.
#[derive(Debug, Clone)]
pub struct RunOptions {
    /// The moment at which the run takes place.
    pub now: Timestamp,
    /// Lets deletions through that would be held.
    pub allow_deletions: bool,
    /// Reads everything again.
    pub afresh: bool,
    /// Set by a person who wants it to stop.
    pub stop: Rc<Cell<bool>>,
    /// Measures how long it takes; not where pictures must be reproducible.
    pub measure: bool,
}

impl RunOptions {
    /// A plain run at a moment.
    #[must_use]
    pub fn at(now: Timestamp) -> Self {
        Self { now, allow_deletions: false, afresh: false, stop: Rc::default(), measure: false }
    }
}
