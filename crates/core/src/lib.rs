//! The heart of Chestnut: iCalendar without loss, entries and what they mean, carrying, matching and
//! reconciling, all as pure functions.
//!
//! Nothing here reads a clock, a file, the network or the environment: `now`, limits and keys are arguments.
//! Read first: [`ical::Component`] (what a calendar text is), [`Entry`] (the unit of synchronisation),
//! [`Canonical`] (what an entry means), [`Carry`] (what a route shows) and [`reconcile`] (what a route must do).
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
//! let copy = carry.put(&carry.show(&source), &Identity::New(EventUid::from("copy-1")));
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
mod entry;
mod hex;
mod ids;
mod matching;
mod reconcile;
mod values;
mod zones;

pub use calendar_text::{CalendarFacts, CalendarText, NotACalendar, Oddity, Placed, TextChange};
pub use canonical::{Canonical, FieldDifference, Fingerprint, Occurrence};
pub use carry::{Carry, Identity, Scheduling, View};
pub use choose::{Choice, ChoiceKey, Test, Words};
pub use entry::{Entry, EntryError, Kind, Kinds};
pub use hex::hex;
pub use ids::{ETag, EventUid, ObjectHref, SyncToken};
pub use matching::{ContentKey, RouteKey};
pub use reconcile::{
    Action, Decision, Deletions, FarEdits, Held, LeftOut, LinkFacts, Pair, RoutePolicy, Side, WriteKind,
    guard_deletions, reconcile, refusal,
};
pub use values::{
    DurationValue, TimeValue, escape_text, parse_duration, parse_time, split_list, unescape_text,
};
pub use zones::{ZoneName, resolve_zone};
