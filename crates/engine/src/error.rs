//! Why a run as a whole could not be done. Facts only: whoever shows them finds the words.

use chestnut_store::{Holder, StoreError};
use serde::{Deserialize, Serialize};

use crate::calendar::CalendarError;

/// One calendar of a route, as its last run left word of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FormerEnd {
    /// Whether the route took entries from it.
    pub gave: bool,
    /// Whether the route wrote entries into it.
    pub took: bool,
    /// What tells it from every other: its kind, and where it is.
    pub place: String,
}

impl FormerEnd {
    /// Reads one that `Rule::places` wrote.
    pub(crate) fn of((part, place): (&str, &str)) -> Self {
        Self { gave: part != "to", took: part != "from", place: place.to_owned() }
    }
}

/// One calendar of a route, as it is configured now.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PresentEnd {
    /// The calendar's name in the configuration.
    pub calendar: String,
    /// The account's name in the configuration.
    pub account: Option<String>,
    /// What tells it from every other: its kind, and where it is.
    pub place: String,
}

/// Clocks of which one must be wrong: this machine's, and a server's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClocksApart {
    /// How far they are apart, in seconds.
    pub seconds: i64,
    /// The server's calendar, as the configuration names it.
    pub calendar: String,
}

/// A run that failed as a whole; single entries that fail are part of its report instead. Its display form is for
/// developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum RunError {
    /// A calendar could not be read or written.
    Calendar {
        /// The calendar's name in the configuration.
        calendar: String,
        /// The account's name in the configuration.
        account: Option<String>,
        /// What happened.
        error: Box<CalendarError>,
    },
    /// The state could not be used.
    Store(#[from] StoreError),
    /// Another process runs the route.
    Running {
        /// The route.
        route: String,
        /// Who runs it, where that is known.
        holder: Option<Holder>,
    },
    /// The route was taken out, or paused, before its turn came: nothing was begun.
    Withdrawn {
        /// The route.
        route: String,
        /// It is paused.
        is_paused: bool,
    },
    /// The route's calendars, or its way between them, are others than when it last ran.
    OtherCalendars {
        /// The route.
        route: String,
        /// The calendars of its last run.
        before: Vec<FormerEnd>,
        /// Its calendars now, in the same order.
        #[serde(default)]
        now: Vec<PresentEnd>,
        /// The calendars are the same, and the way is another.
        #[serde(default)]
        is_turned: bool,
    },
    /// Two ends of the route are one calendar.
    SameCalendar {
        /// The route.
        route: String,
        /// The calendar.
        place: String,
    },
    /// Our clock and a server's are more than a day apart.
    ClocksApart(ClocksApart),
    /// The far calendar cannot be written.
    ReadOnly {
        /// The calendar's name in the configuration.
        calendar: String,
        /// The account's name in the configuration.
        account: Option<String>,
    },
    /// A person asked it to stop.
    Stopped {
        /// Writes that were not begun.
        left: usize,
    },
}

impl RunError {
    /// Returns it as facts that can be kept; [`Self::of_facts`] reads them.
    pub(crate) fn facts(&self) -> serde_json::Value {
        serde_json::to_value(self).unwrap_or_default()
    }

    /// Reads what a run kept of its failure; `None` where another version wrote it.
    #[must_use]
    pub fn of_facts(facts: &serde_json::Value) -> Option<Self> {
        Self::deserialize(facts).ok()
    }
}
