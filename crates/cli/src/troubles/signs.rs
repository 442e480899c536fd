//! What a run, a look, and the state say is wrong, or right.

use chestnut_caldav::{Class, DavError};
use chestnut_engine::{CalendarError, RunError, Signs};
use chestnut_store::{Store, TroubleKind, TroubleRow};
use jiff::Timestamp;
use serde_json::json;

use crate::exit_code::ExitCode;
use crate::failure::{AccountFault, Failure};
use crate::report::status::RouteStatus;
use crate::report::trouble::about_what;
use crate::settings::{RouteSettings, Settings};

/// What became of a route in a round.
pub(crate) enum Happened<'h> {
    /// It ran, or there was nothing to do.
    Well,
    /// A run failed as a whole.
    Failed(&'h RunError),
    /// It could not be begun.
    NotBegun(&'h Failure),
    /// Nobody tried: a person is waited for, or it rests.
    NotTried,
}

impl<'h> Happened<'h> {
    /// What became of a route that was tried, by the error of its run, or by why it could not be begun.
    pub(crate) fn of(error: Option<&'h RunError>, failure: Option<&'h Failure>) -> Self {
        match (error, failure) {
            (Some(error), _) => Self::Failed(error),
            // A person has a word to say first, or another process is at it.
            (None, Some(failure)) if failure.code == ExitCode::Waiting => Self::NotTried,
            (None, Some(failure)) => Self::NotBegun(failure),
            (None, None) => Self::Well,
        }
    }
}

/// Collects what is seen.
pub(crate) struct Observer<'s> {
    settings: &'s Settings,
    pub(crate) signs: Signs,
}

/// What is told of a calendar.
const OF_CALENDARS: [TroubleKind; 2] = [TroubleKind::RightsLost, TroubleKind::CalendarUnreadable];
/// What is told of an account, or of a calendar that has none.
const OF_SOURCES: [TroubleKind; 2] = [TroubleKind::ServerDown, TroubleKind::SignInRefused];
/// What is told of a route.
const OF_ROUTES: [TroubleKind; 5] = [
    TroubleKind::NeverRun,
    TroubleKind::Held,
    TroubleKind::RouteStale,
    TroubleKind::RouteFails,
    TroubleKind::EntriesRefused,
];

impl<'s> Observer<'s> {
    pub(crate) fn new(settings: &'s Settings) -> Self {
        Self { settings, signs: Signs::default() }
    }

    /// What can be down: the account of a calendar, or the calendar where it has none.
    pub(crate) fn source<'n>(settings: &'n Settings, calendar: &'n str) -> &'n str {
        settings.calendars.get(calendar).and_then(|known| known.account.as_deref()).unwrap_or(calendar)
    }

    /// What is down, by an error: nothing else there needs to be asked for now.
    pub(crate) fn down<'n>(settings: &'n Settings, error: &'n RunError) -> Option<&'n str> {
        let is_down = kind_of(error).is_some_and(|kind| OF_SOURCES.contains(&kind));
        match error {
            RunError::Calendar { calendar, .. } if is_down => Some(Self::source(settings, calendar)),
            _ => None,
        }
    }

    /// A calendar was looked at.
    pub(crate) fn calendar_is_well(&mut self, calendar: &str) {
        let source = Self::source(self.settings, calendar).to_owned();
        OF_CALENDARS.into_iter().for_each(|kind| self.signs.note(kind, calendar, None));
        OF_SOURCES.into_iter().for_each(|kind| self.signs.note(kind, &source, None));
    }

    /// A calendar could not be looked at, or be written.
    pub(crate) fn calendar_fails(&mut self, calendar: &str, error: &RunError) {
        let source = Self::source(self.settings, calendar).to_owned();
        let Some(kind) = kind_of(error) else { return };
        let about = if OF_SOURCES.contains(&kind) { source.as_str() } else { calendar };
        let facts = json!({ "error": error });
        self.signs.note(kind, about, Some(facts));
        // It answers, at least.
        if !OF_SOURCES.contains(&kind) {
            OF_SOURCES.into_iter().for_each(|kind| self.signs.note(kind, &source, None));
        }
    }

    /// What became of a route, and how it is doing now.
    pub(crate) fn route(
        &mut self,
        store: &Store,
        (name, route): (&str, &RouteSettings),
        happened: &Happened<'_>,
        now: Timestamp,
        is_watched: bool,
    ) -> Result<(), Failure> {
        let status = RouteStatus::of(self.settings, store, (name, route), now, None, is_watched)?;
        if status.paused {
            OF_ROUTES.into_iter().for_each(|kind| self.signs.note(kind, name, None));
            if let Some(account) = &status.paused_account {
                OF_SOURCES.into_iter().for_each(|kind| self.signs.note(kind, account, None));
            }
            return Ok(());
        }
        match happened {
            Happened::Well => {
                route.ends.iter().for_each(|end| self.calendar_is_well(end));
                self.signs.note(TroubleKind::RouteFails, name, None);
            }
            Happened::Failed(
                error @ (RunError::Calendar { calendar, .. } | RunError::ReadOnly { calendar, .. }),
            ) => {
                self.calendar_fails(calendar, error);
            }
            // Another process is at it, a person wants it to stop, or nothing can be noted now.
            Happened::Failed(RunError::Running { .. } | RunError::Stopped { .. } | RunError::Store(_)) => {}
            Happened::Failed(error) => {
                self.signs.note(TroubleKind::RouteFails, name, Some(json!({ "error": error })));
            }
            Happened::NotBegun(failure) => match failure.fault.as_deref() {
                Some(fault) => {
                    let error = error_of(fault);
                    if let Some(kind) = kind_of(&error) {
                        self.signs.note(kind, &fault.account, Some(json!({ "error": error })));
                    }
                }
                None => self.signs.note(TroubleKind::RouteFails, name, Some(json!({}))),
            },
            Happened::NotTried => {}
        }
        let counted = |number: usize| (number > 0).then(|| json!({ "entries": number }));
        self.signs.note(TroubleKind::NeverRun, name, status.never_run.then(|| json!({})));
        self.signs.note(TroubleKind::Held, name, counted(status.held));
        self.signs.note(TroubleKind::EntriesRefused, name, counted(status.troubles.len()));
        self.stale(name, route, status.stale.then_some(status.last_success));
        Ok(())
    }

    /// Whether a route went too long without a run that went well, and when its last one was.
    pub(crate) fn stale(&mut self, name: &str, route: &RouteSettings, last_good: Option<Option<String>>) {
        let facts = last_good.map(|at| json!({ "last-good-run": at }));
        self.signs.note(TroubleKind::RouteStale, name, facts);
        let Some(sign) = self.signs.bad.last_mut().filter(|sign| sign.kind == TroubleKind::RouteStale) else {
            return;
        };
        if sign.about != name {
            return;
        }
        // One message about what is the matter, not one for each route that suffers from it.
        for end in &route.ends {
            let source = Self::source(self.settings, end).to_owned();
            sign.covered_by.extend(OF_SOURCES.map(|kind| (kind, source.clone())));
            sign.covered_by.extend(OF_CALENDARS.map(|kind| (kind, end.clone())));
        }
        let own = [TroubleKind::RouteFails, TroubleKind::NeverRun];
        sign.covered_by.extend(own.map(|kind| (kind, name.to_owned())));
    }
}

/// What an account's server answered, before any of its calendars was looked at.
fn error_of(fault: &AccountFault) -> RunError {
    let error = Box::new(CalendarError::Dav(fault.error.clone()));
    RunError::Calendar { calendar: fault.account.clone(), account: Some(fault.account.clone()), error }
}

/// What an error is a sign of.
fn kind_of(error: &RunError) -> Option<TroubleKind> {
    let error = match error {
        RunError::Calendar { error, .. } => error,
        RunError::ReadOnly { .. } => return Some(TroubleKind::RightsLost),
        _ => return None,
    };
    Some(match &**error {
        CalendarError::Dav(error) => match error.class() {
            Class::Credentials => TroubleKind::SignInRefused,
            Class::Forbidden => TroubleKind::RightsLost,
            Class::Retry | Class::OutcomeUnknown => TroubleKind::ServerDown,
            _ if matches!(error, DavError::Transport(_)) => TroubleKind::ServerDown,
            _ => TroubleKind::CalendarUnreadable,
        },
        _ => TroubleKind::CalendarUnreadable,
    })
}

/// What the configuration no longer has is no trouble any more.
pub(super) fn note_what_is_gone(settings: &Settings, known: &[TroubleRow], signs: &mut Signs) {
    for row in known.iter().filter(|row| row.ended.is_none()) {
        let about = &row.about;
        let is_there = match about_what(settings, row.kind, about) {
            "file" => true,
            "route" => settings.routes.contains_key(about),
            _ => settings.accounts.contains_key(about) || settings.calendars.contains_key(about),
        };
        if !is_there {
            signs.good.push((row.kind, about.clone()));
        }
    }
}
