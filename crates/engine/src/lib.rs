//! Runs routes: refresh → gather → decide → guard → apply, one way through for every route.
//!
//! Read first: [`Rule`], what a route says, its calendars with their parts; then [`run_route`], the whole of a run,
//! and [`preview_route`], which stops before anything is written. A calendar is mirrored once ([`Round`]), however many
//! routes use it. What is decided is decided in `chestnut-core`; this crate reads, writes and remembers. It knows no
//! configuration file, no screen and no words: it gives facts, and pushes [`Progress`] into an [`Observer`].

mod ahead;
mod answers;
mod apply;
mod calendar;
mod case;
mod compare;
mod decide;
mod derive;
mod error;
mod explain;
mod gather;
mod guard;
mod mail;
mod matching;
mod mirror;
mod observe;
mod options;
mod pace;
mod probe;
mod read_calendar;
mod record;
mod relocate;
mod restore;
mod retire;
mod round;
mod rule;
mod run;
mod sender;
mod session;
mod sharing;
mod story;
mod tidy;
mod trouble;
mod turn;
mod under_way;
mod undo;

pub use calendar::{
    Abilities, Calendar, CalendarError, DiskAct, FeedCalendar, FileCalendar, FolderCalendar, FreeBusyCalendar,
};
pub use case::start_text;
pub use compare::{Cause, Comparison, Difference, Finding, Standing, compare_route, last_comparison};
pub use error::{ClocksApart, FormerEnd, PresentEnd, RunError};
pub use explain::{Part, Story, StoryPlace, Wanted, past_changes, select_entries, stories};
pub use mirror::Round;
pub use observe::{Observer, Phase, Progress, Silent};
pub use options::{Only, RunOptions, Selection};
pub use pace::{Due, Pace, Paced, Went};
pub use probe::{
    CannotProbe, Leftover, Leg, LegOutcome, NewestCompared, ProbeFault, ProbeHow, ProbeReport, ProbeSkip,
    ProbeStep, WriteStep, WriteTrial, probe_route, sweep_route, try_writing,
};
pub use read_calendar::{Part as PartOfCase, ReadEntry, Seen, Unread, look_at, read_calendar};
pub use relocate::{Candidate, candidate, take_over};
pub use restore::{
    Goes, Standing as CalendarStanding, ToRestore, is_passing, plan_restore, restore, take_snapshot, undo_of,
};
pub use retire::{RouteCopy, copies_of, retire_route};
pub use round::{has_news, is_behind, look_at_calendars};
pub use rule::{CalendarEnd, Makes, Rule};
pub use run::{preview_route, run_route};
pub use sharing::{is_of_another_machine, share_of};
pub use story::{PreviewReport, PreviewedChange, RunReport, SideText, Why};
pub use tidy::{Doubles, FoundCopy, find_copies, find_doubles};
pub use trouble::{Judged, Sign, Signs, Then, Turn, deliver, judge, settle};
pub use undo::{LeftAsIs, PutBack, ToUndo, UndoPlan, Undone, WhyLeft, plan_undo, undo};
