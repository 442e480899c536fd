//! Why a run as a whole could not be done.

use chestnut_store::StoreError;

use crate::calendar::CalendarError;

/// A run that failed as a whole; single entries that fail are part of its report instead.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum RunError {
    /// A calendar could not be read or written.
    #[error("calendar {calendar}{}: {error}", of_account(account.as_deref()))]
    Calendar {
        /// The calendar's name in the configuration.
        calendar: String,
        /// The account's name in the configuration.
        account: Option<String>,
        /// What happened.
        error: Box<CalendarError>,
    },
    /// The state could not be used.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// Another process runs the route.
    #[error("route {route} is running elsewhere")]
    Running {
        /// The route.
        route: String,
        /// Who runs it, where that is known.
        holder: Option<chestnut_store::Holder>,
    },
    /// The route's calendars are others than when it last ran.
    #[error("route {route} last ran between other calendars ({before})")]
    OtherCalendars {
        /// The route.
        route: String,
        /// The calendars of its last run.
        before: String,
    },
    /// Two ends of the route are one calendar.
    #[error("route {route} names one calendar twice ({place})")]
    SameCalendar {
        /// The route.
        route: String,
        /// The calendar.
        place: String,
    },
    /// Our clock and a server's are more than a day apart.
    #[error("this machine's clock and that of a server are {} hours apart; nothing was deleted", seconds / 3600)]
    ClocksApart {
        /// How far, in seconds.
        seconds: i64,
    },
    /// The far calendar cannot be written.
    #[error("calendar {calendar}{} may only be read", of_account(account.as_deref()))]
    ReadOnly {
        /// The calendar's name in the configuration.
        calendar: String,
        /// The account's name in the configuration.
        account: Option<String>,
    },
    /// A person asked it to stop.
    #[error("stopped, {left} changes left")]
    Stopped {
        /// Writes that were not begun.
        left: usize,
    },
}

/// ` (account NAME)`, where there is one.
fn of_account(account: Option<&str>) -> String {
    account.map(|account| format!(" (account {account})")).unwrap_or_default()
}
