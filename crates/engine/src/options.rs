//! How a route is run this time.

use std::cell::Cell;
use std::rc::Rc;

use jiff::Timestamp;

use crate::mirror::Round;

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
    /// Names in the report what was created, updated and deleted too, not only what there is to tell of.
    pub names_all: bool,
    /// Calendars that were looked at in this round: they are not asked again.
    pub round: Round,
}

impl RunOptions {
    /// A plain run at a moment.
    #[must_use]
    pub fn at(now: Timestamp) -> Self {
        Self {
            now,
            allow_deletions: false,
            afresh: false,
            stop: Rc::default(),
            measure: false,
            names_all: false,
            round: Round::default(),
        }
    }
}
