//! What was agreed: which entry here is which entry there, the last texts of both, the runs and their changes,
//! and a journal of writes, in one SQLite file.
//!
//! Read first: [`Store`], then [`Writer`], which holds one transaction. A run reads and writes the rows of
//! changed entries only; nothing here loads a whole table but [`Store::each_known`], which streams it.
//! Out of scope: deciding anything.

mod error;
mod lease;
mod migrate;
mod records;
mod store;
mod texts;
mod writer;

pub use error::StoreError;
pub use lease::{Holder, Lease};
pub use records::{
    Agreed, Change, ChangeAction, Counts, HeldItem, Known, LinkId, LinkRow, Recheck, ReplicaRow,
    ReplicaTexts, RouteId, RouteSummary, RunId, RunRecord, RunResult, SideId, SideState,
};
pub use store::Store;
pub use writer::Writer;
