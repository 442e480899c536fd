//! What is known of calendars, what was agreed about their entries, the runs and their changes: in one SQLite file, or
//! in a database of PostgreSQL that several machines share.
//!
//! Read first: [`Store`], then [`Writer`], which holds one transaction. A calendar is mirrored once, however many
//! routes use it: [`Object`]s, each with ETag and text in one row. A route has [`LinkRow`]s, one for each entry as it
//! sees it, and in each of its calendars a [`PlaceRow`]. Nothing here loads a whole table but
//! [`Store::each_object`], which streams it. Out of scope: deciding anything.

mod database;
mod error;
mod history;
mod lease;
mod moving;
mod presence;
mod records;
mod store;
mod texts;
mod troubles;
mod writer;

#[cfg(feature = "postgres")]
pub use database::PostgresPlace;
pub use database::{Ahead, Still};
pub use error::{Damage, StoreError};
pub use lease::{Lease, calendar_lease, route_lease};
pub use presence::{Holder, machine_name};
pub use records::{
    BodyId, CalendarFacts, CalendarId, Change, ChangeAction, Counts, HeldItem, Intent, KeptCalendar, LinkId,
    LinkRow, LinkState, Made, NewObject, Object, ObjectId, ObjectState, PastChange, PlaceRow, ProbeRow,
    RouteId, RouteSummary, RunId, RunKind, RunRecord, RunResult, Text, Told, Wrote,
};
pub use store::{Mirror, Route, Store, Tally, Touched, Wrong};
pub use texts::same_lines;
pub use troubles::{Notice, NoticeEvent, TroubleKind, TroubleRow};
pub use writer::Writer;
