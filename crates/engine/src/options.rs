//! How a route is run this time.

use std::cell::Cell;
use std::rc::Rc;

use chestnut_store::{LinkId, RouteId};
use jiff::{SignedDuration, Timestamp};

use crate::gather::{Found, Touched};
use crate::mirror::{Look, Round};

/// Entries that are written together, unless somebody says otherwise.
const BATCH: usize = 50;

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
    /// Names in the report what was created, updated and deleted too, with their texts, not only what there is to tell of.
    pub names_all: bool,
    /// A person asked for it: it is part of the history, whatever it comes to.
    pub is_asked: bool,
    /// Calendars that were looked at in this round: they are not asked again.
    pub round: Round,
    /// Waits while another process reads one of the calendars, so that nothing is read twice; for a minute at most. A run
    /// does; who only looks waits for nobody.
    pub takes_turns: bool,
    /// How many entries are decided and written together: a few such batches are worked on at the same time.
    pub batch: usize,
    /// The route as the state knew it when it was decided that it runs: it does not where it was taken out, or paused,
    /// before its turn came. `None`: nothing was known of it.
    pub known: Option<RouteId>,
    /// Nothing but this, whether it changed or not; what is due and what is held besides waits for an ordinary run.
    pub only: Option<Rc<Only>>,
}

/// A part of what a route connects.
#[derive(Debug, Clone)]
pub enum Only {
    /// What a comparison found.
    These(Selection),
    /// Test entries of the route and their copies; with joined blocks those that overlap one of these spans, in seconds
    /// since 1970.
    Probe(Vec<(i64, i64)>),
}

/// Some of what a route connects: what a comparison found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Selection {
    pub(crate) touched: Touched,
    /// Cases that were taken back: what had been done to them is done again.
    pub(crate) lifted: Vec<LinkId>,
    /// Cases whose memory explains nothing: it is dropped, and they are found again as at a first run.
    pub(crate) forgotten: Vec<LinkId>,
}

impl Selection {
    /// Tells whether nothing is in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.touched.all().next().is_none()
    }

    pub(crate) fn add(&mut self, found: Found) {
        match found {
            Found::Link(link) if self.touched.links.contains(&link) => {}
            Found::Link(link) => self.touched.links.push(link),
            Found::Free(side, object) => self.touched.free.push((side, object)),
            Found::Beside(side, object) => self.touched.beside.push((side, object)),
        }
    }
}

impl RunOptions {
    /// The look of such a run at a calendar, at all that stands there.
    pub(crate) fn look(&self, full_look_every: SignedDuration) -> Look {
        let (now, afresh, round) = (self.now, self.afresh, self.round.clone());
        Look { now, afresh, full_look_every, needed_from: None, round, takes_turns: self.takes_turns }
    }

    /// A plain run at a moment.
    #[must_use]
    pub fn at(now: Timestamp) -> Self {
        Self {
            now,
            allow_deletions: false,
            takes_turns: false,
            afresh: false,
            stop: Rc::default(),
            measure: false,
            names_all: false,
            is_asked: true,
            round: Round::default(),
            batch: BATCH,
            known: None,
            only: None,
        }
    }
}
