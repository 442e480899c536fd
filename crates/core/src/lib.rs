//! The heart of Chestnut: iCalendar without loss, entries and what they mean, carrying, matching and
//! reconciling, all as pure functions.
//!
//! Nothing here reads a clock, a file, the network or the environment: `now`, limits and keys are arguments.
//! Read first: [`ical::Component`] (what a calendar text is), [`Entry`] (the unit of synchronisation),
//! [`Canonical`] (what an entry means), [`Carry`] (what a route shows) and [`reconcile()`] (what a route must do).
//! Out of scope: protocols (`chestnut-caldav`), memory (`chestnut-store`), words for people (`chestnut`).
//!
//! ```
//! use chestnut_core::{Carry, Entry, EventUid, Identity, ical};
//!
//! let text = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:press-1\r\n\
//!             DTSTART:20261201T080000Z\r\nDTEND:20261201T100000Z\r\nSUMMARY:Press hall\r\nEND:VEVENT\r\n\
//!             END:VCALENDAR\r\n";
//! let object = ical::parse_one(text.as_bytes(), &ical::Limits::default())?;
//! let source = Entry::from_object(object.into_owned())?;
//! let carry = Carry::default();
//! let copy = carry.put(&carry.show(&source).expect("all of it is shown"), &Identity::New(EventUid::from("copy-1")));
//! assert_eq!(copy.uid().as_str(), "copy-1");
//! assert_eq!(source.meaning().fingerprint(), copy.meaning().fingerprint());
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod ical;
pub mod recurrence;

mod calendar_text;
mod canonical;
mod carry;
mod choose;
mod compare;
mod derive;
mod entry;
mod free_busy;
mod habits;
mod hex;
mod ids;
mod joined_zones;
mod mail;
mod matching;
mod merge;
mod probe;
mod reconcile;
mod replicas;
mod snapshot;
mod values;
mod window;
mod zones;

pub use calendar_text::{CalendarFacts, CalendarText, NotACalendar, Oddity, Placed, TextChange, rule_part};
pub use canonical::{Canonical, FieldDifference, Fingerprint, Occurrence};
pub use carry::{
    BlocksTime, Carry, Categories, Colour, Detail, Details, Identity, People, Privacy, Reminders, Scheduling,
    Shows, Sight, Unshown, View,
};
pub use choose::{Choice, ChoiceKey, Test, Words};
pub use compare::{copy_differences, replica_differences};
pub use derive::{BusyTime, single_entries};
pub use entry::{Entry, EntryError, Kind, Kinds, PRODID};
pub use free_busy::FreeBusy;
pub use habits::{Habits, Undone, shows_write, undo_habits};
pub use hex::hex;
pub use ids::{ETag, EventUid, ObjectHref, SyncToken};
pub use mail::{Mail, Scheduler, shows_agent_honoured, with_own_details, without_people};
pub use matching::{ContentKey, RouteKey, RouteTag};
pub use merge::{ByWeight, Collision, LastChanged, MergeSide, Merged, last_changed, merge};
pub use probe::{PROBE_DAYS, PROBE_LENGTH, Probe};
pub use reconcile::{
    Action, Because, Decision, DeletionLimit, Deletions, FarEdits, Held, LeftOut, LinkFacts, Matches, Origin,
    Pair, Partly, PastCopies, RoutePolicy, Side, Strangers, WriteKind, guard_deletions, reconcile, refusal,
};
pub use recurrence::SeriesError;
pub use replicas::{
    Decided, Disagree, Loser, Replica, ReplicaDecision, ReplicaPolicy, ReplicaRules, ReplicaWrite, Settled,
    reconcile_replicas,
};
pub use snapshot::{NotASnapshot, Snapshot, SnapshotEntry, read_snapshot, write_snapshot};
pub use values::{
    DurationValue, TimeValue, escape_text, parse_duration, parse_time, split_list, unescape_text,
};
pub use window::{Bounds, Position, Reach, Window};
pub use zones::{ZoneName, resolve_zone};
