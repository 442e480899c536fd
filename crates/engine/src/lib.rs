//! Runs a route: survey → reconcile → guard → apply → record.
//!
//! [`run_route`] is the whole of it; [`preview_route`] stops before anything is written. What is decided is
//! decided in `chestnut-core`; this crate reads, writes and remembers. It knows no configuration file and no
//! screen: it takes a [`Route`] and pushes [`Progress`] into an [`Observer`].

mod any_route;
mod apply;
mod calendar;
mod derive;
mod error;
mod explain;
mod frame;
mod held;
mod match_far_side;
mod observe;
mod plan;
mod preview;
mod read_calendar;
mod record;
mod route;
mod run_sync;
mod sender;
mod survey;
mod two_way;

pub use any_route::AnyRoute;
pub use calendar::{Abilities, Calendar, CalendarError, FeedCalendar, FileCalendar, FolderCalendar};
pub use error::RunError;
pub use explain::{Explained, explain};
pub use observe::{Observer, Phase, Progress, Silent};
pub use preview::{PreviewReport, PreviewedChange};
pub use read_calendar::{ReadEntry, read_calendar};
pub use route::{CalendarEnd, Makes, Route, RunOptions};
pub use run_sync::{RunReport, preview_route, run_route};
pub use two_way::{TwoWay, preview_two_way, run_two_way};
