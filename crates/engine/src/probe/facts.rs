//! What a trial of a route is asked, and what came of it.

use std::cell::Cell;
use std::rc::Rc;

use chestnut_store::Told;
use jiff::{SignedDuration, Timestamp};

use crate::compare::Finding;
use crate::error::RunError;

/// How to try a route.
#[derive(Debug, Clone, Default)]
pub struct ProbeHow {
    /// The title of the test entry; else the first of [`Self::titles`] that the route takes.
    pub title: Option<String>,
    /// Titles to try.
    pub titles: Vec<String>,
    /// Nothing is run: for so long each step waits for whatever else syncs.
    pub wait: Option<SignedDuration>,
    /// Set by a person who wants it to end: it cleans up.
    pub stop: Rc<Cell<bool>>,
}

/// A step of the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ProbeStep {
    /// The test entry is written.
    Create,
    /// It gets another title.
    Rename,
    /// It is moved by a day.
    Move,
    /// It becomes a series of three days.
    Repeat,
    /// Its second day is moved by an hour.
    MoveOne,
    /// It is deleted.
    Delete,
}

impl ProbeStep {
    /// All steps, in their order.
    pub const ALL: [Self; 6] =
        [Self::Create, Self::Rename, Self::Move, Self::Repeat, Self::MoveOne, Self::Delete];
}

/// One step from one calendar to another.
#[derive(Debug)]
pub struct Leg {
    /// Which.
    pub step: ProbeStep,
    /// Where it was done.
    pub from: String,
    /// Where it was looked for.
    pub to: String,
    /// What came of it.
    pub outcome: LegOutcome,
    /// How long that took.
    pub milliseconds: u64,
}

/// What came of a step.
#[derive(Debug, Clone)]
pub enum LegOutcome {
    /// It arrived.
    Arrived,
    /// It does not show on the far side, as the route says.
    Hidden,
    /// The copy stays, as `deletions = "keep"` says; it was taken away then.
    Stays,
    /// The route cannot show it, and why.
    Skipped(ProbeSkip),
    /// It did not arrive, and the likely cause.
    Failed(ProbeFault),
    /// An earlier step failed.
    NotTried,
}

/// Why a route cannot show a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProbeSkip {
    /// Blocks have no titles.
    NoTitles,
    /// It takes tasks alone, which repeat otherwise.
    TasksAlone,
    /// It takes whole days alone.
    WholeDays,
    /// The next day lies outside its window.
    Window,
}

/// Why a step did not arrive.
#[derive(Debug, Clone)]
pub enum ProbeFault {
    /// The calendar did not take the test entry.
    NotTaken(Told),
    /// The calendar said that it was stored, and keeps nothing.
    NotStored,
    /// It stands there, and its calendar does not list it.
    NotListed {
        /// Which calendar.
        calendar: String,
    },
    /// It is listed, and its calendar's own mark of change did not move.
    Unnoticed {
        /// Which calendar.
        calendar: String,
    },
    /// The route left it out: the key that decided.
    LeftOut(String),
    /// The run met with this.
    Told(Told),
    /// The run failed as a whole.
    Run(Box<RunError>),
    /// Nothing came within the time.
    NothingCame,
    /// What came is not what was sent, in these fields.
    Differs(Vec<String>),
    /// What came lies at another time: by how many seconds.
    Shifted(i64),
    /// What came shows this, and may not.
    ShowsMore(String),
    /// It still stands there.
    StillThere,
    /// A person asked to stop.
    Stopped,
}

impl ProbeFault {
    /// Tells whether a step is not there, or not yet: there is a cause to be found.
    pub(super) fn is_absence(&self) -> bool {
        matches!(self, Self::NothingCame | Self::StillThere | Self::Differs(_))
    }
}

/// Why a route cannot be tried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CannotProbe {
    /// This key takes nothing that a test entry could be.
    Key(String),
    /// It takes neither events nor tasks.
    Kinds,
    /// No day of the next year lies inside its window.
    Window,
}

/// What was tried where nothing can be written.
#[derive(Debug)]
pub struct NewestCompared {
    /// How many entries were compared.
    pub entries: usize,
    /// Those that are not in step.
    pub findings: Vec<Finding>,
    /// Since when nothing has changed there, as far as is known.
    pub changed_at: Option<Timestamp>,
}

/// What is left somewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leftover {
    /// The calendar.
    pub calendar: String,
    /// Where.
    pub href: String,
}

/// What came of trying a route.
#[derive(Debug, Default)]
pub struct ProbeReport {
    /// The steps, direction by direction.
    pub legs: Vec<Leg>,
    /// Where changes could not be tried: what stands there, compared.
    pub compared: Option<NewestCompared>,
    /// Why nothing could be tried.
    pub cannot: Option<CannotProbe>,
    /// What could not be cleaned up.
    pub leftovers: Vec<Leftover>,
}
