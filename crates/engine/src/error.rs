//! Why a run as a whole could not be done.

use chestnut_caldav::DavError;
use chestnut_store::StoreError;

/// A run that failed as a whole; single entries that fail are part of its report instead.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RunError {
    /// A calendar could not be read or written.
    #[error("calendar {calendar} (account {account}): {error}")]
    Calendar {
        /// The calendar's name in the configuration.
        calendar: String,
        /// The account's name in the configuration.
        account: String,
        /// What happened.
        error: DavError,
    },
    /// The state could not be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The route's calendars are others than when it last ran.
    #[error("route {route} last ran between other calendars ({before})")]
    OtherCalendars {
        /// The route.
        route: String,
        /// The calendars of its last run.
        before: String,
    },
    /// The far calendar does not let this account write.
    #[error("calendar {calendar} (account {account}) may only be read by this account")]
    ReadOnly {
        /// The calendar's name in the configuration.
        calendar: String,
        /// The account's name in the configuration.
        account: String,
    },
    /// A person asked it to stop.
    #[error("stopped, {left} changes left")]
    Stopped {
        /// Writes that were not begun.
        left: usize,
    },
}
