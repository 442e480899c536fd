//! A route, ready to run.

use std::cell::Cell;
use std::rc::Rc;

use chestnut_caldav::DavError;
use chestnut_core::{
    Carry, Choice, DeletionLimit, Deletions, FarEdits, Kind, Kinds, PastCopies, RouteKey, RoutePolicy,
    Scheduling, Strangers, Window,
};
use jiff::tz::TimeZone;
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

    /// The server asks for a sign-in in the middle of the work.
    pub(crate) fn sign_in_failed(&self) -> RunError {
        self.failed(DavError::SignIn { offered: Vec::new() }.into())
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
    /// How far back and ahead it looks.
    pub window: Window,
    /// The zone whose days count, and in which floating times are read.
    pub zone: TimeZone,
    /// What becomes of copies that have fallen behind the window.
    pub past_copies: PastCopies,
    /// What a copy shows; what the far server does with people is asked of it.
    pub carry: Carry,
    /// Whether copies are made of the source's entries, or of something made out of them.
    pub makes: Makes,
    /// Whether copies that other routes made are taken like originals.
    pub relay: bool,
    /// What becomes of entries on the far side that are nobody's copies.
    pub strangers: Strangers,
    /// What deletions do.
    pub deletions: Deletions,
    /// How much a run may delete unasked.
    pub deletion_limit: DeletionLimit,
    /// What edits on the far side do.
    pub far_edits: FarEdits,
    /// Makes the UIDs of copies.
    pub key: RouteKey,
    /// How often the whole listing is compared.
    pub check_every: SignedDuration,
    /// How long replaced and deleted texts are kept.
    pub keep_history: SignedDuration,
}

/// What copies are made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Makes {
    /// One of each entry.
    #[default]
    Entries,
    /// One of each occurrence of a series, for calendars that cannot do series.
    Occurrences,
    /// Blocks of busy time, from which not even the number of entries can be told.
    Blocks,
}

impl Route {
    /// A route that says nothing but from where and to where: all events, as they are.
    #[must_use]
    pub fn plain(name: &str, source: CalendarEnd, target: CalendarEnd, key: RouteKey) -> Self {
        Self {
            name: name.to_owned(),
            source,
            target,
            kinds: [Kind::Event].into_iter().collect(),
            choice: Choice::default(),
            window: Window::default(),
            zone: TimeZone::UTC,
            past_copies: PastCopies::default(),
            carry: Carry::default(),
            makes: Makes::default(),
            relay: false,
            strangers: Strangers::Leave,
            deletions: Deletions::Carry,
            deletion_limit: DeletionLimit::default(),
            far_edits: FarEdits::Restore,
            key,
            check_every: SignedDuration::from_hours(24),
            keep_history: SignedDuration::from_hours(24 * 90),
        }
    }

    /// What changes the result of a run over unchanged calendars: another text here means reading afresh.
    pub(crate) fn settings(&self) -> String {
        let kinds: Vec<_> = self.kinds.iter().map(|k| k.word()).collect();
        format!(
            "{}\nkinds={};choice={};window={:?};zone={};past={:?};relay={};strangers={:?};makes={:?};deletions={:?};far-edits={:?}",
            self.carry_settings(),
            kinds.join(","),
            self.choice.settings(),
            self.window,
            self.zone.iana_name().unwrap_or_default(),
            self.past_copies,
            self.relay,
            self.strangers,
            self.makes,
            self.deletions,
            self.far_edits
        )
    }

    /// What of [`Self::settings`] says what a copy shows: its first line.
    fn carry_settings(&self) -> String {
        format!("{:?};{:?}", self.carry.shows, self.carry.people).replace('\n', " ")
    }

    /// Tells whether a run with other settings carried other details.
    pub(crate) fn carried_otherwise(&self, settings: &str) -> bool {
        settings.lines().next().is_some_and(|before| before != self.carry_settings())
    }

    /// What the route says, joined with what its calendars say of themselves. `addresses` are the source's owner's.
    pub(crate) fn policy(
        &self,
        addresses: &[String],
        accepted: Kinds,
        max_size: Option<u64>,
        scheduling: Scheduling,
        now: Timestamp,
    ) -> RoutePolicy {
        let mut choice = self.choice.clone();
        choice.add_addresses(addresses);
        RoutePolicy {
            kinds: self.kinds.clone(),
            carry: Carry { scheduling, me: choice.me.clone(), ..self.carry.clone() },
            choice,
            accepted,
            max_size,
            window: self.window.at(now, &self.zone),
            past_copies: self.past_copies,
            relay: self.relay,
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
