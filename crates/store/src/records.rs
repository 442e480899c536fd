//! Rows as values.

use chestnut_core::{ContentKey, ETag, EventUid, Fingerprint, LinkFacts, ObjectHref};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A route in the state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RouteId(pub(crate) i64);

/// A link in the state.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct LinkId(pub(crate) i64);

/// A run's number, counted over all routes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct RunId(pub i64);

/// Which calendar of a route.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum SideId {
    /// The calendar that a one-way route reads.
    Source,
    /// The calendar that it writes.
    Target,
}

impl SideId {
    pub(crate) fn number(self) -> i64 {
        match self {
            Self::Source => 0,
            Self::Target => 1,
        }
    }
}

/// What is remembered of one calendar as a whole.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SideState {
    /// Its address, once found.
    pub url: Option<String>,
    /// The sync token of the last complete look (RFC 6578).
    pub sync_token: Option<String>,
    /// Its ctag at the last complete look.
    pub ctag: Option<String>,
    /// The server's clock when token and ctag were taken, in seconds since 1970.
    pub taken_at: Option<i64>,
    /// Token and ctag were taken right after a change: another change in the same second would not show.
    pub provisional: bool,
    /// When the whole listing was last compared, in seconds since 1970 by our own clock.
    pub checked_at: Option<i64>,
    /// Whether it was ever read completely.
    pub read: bool,
    /// Whether sync reports are answered.
    pub sync_reports: bool,
    /// Kinds that it accepts, as component names.
    pub kinds: Vec<String>,
    /// The largest entry, in bytes.
    pub max_size: Option<u64>,
    /// Whether the server sends invitations by itself (RFC 6638).
    pub schedules: bool,
    /// The addresses it does that for; `None` where it does not tell.
    pub addresses: Option<Vec<String>>,
    /// Whether it writes although a condition does not hold; `None` where it was not tried yet.
    pub ignores_conditions: Option<bool>,
}

/// What the next run does about an entry although the server calls it unchanged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Recheck {
    /// Nothing.
    #[default]
    No,
    /// It reads it again.
    Read,
    /// It decides again what follows from its being gone.
    Gone,
}

/// One entry that was seen in a calendar.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Known {
    /// Where it stands.
    pub href: ObjectHref,
    /// Its state when it was seen.
    pub etag: Option<ETag>,
    /// Its UID, where it could be read.
    pub uid: Option<EventUid>,
    /// Its content key, where it could be read.
    pub content: Option<ContentKey>,
    /// Its title, for people.
    pub title: String,
    /// Why it is not carried: a stable key.
    pub left_out: Option<String>,
    /// What the next run does about it, whatever the server says.
    pub recheck: Recheck,
    /// What it belongs to.
    pub link: Option<LinkId>,
}

/// This entry here is that entry there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkRow {
    /// The UID at the source.
    pub source_uid: EventUid,
    /// The UID on the far side.
    pub target_uid: EventUid,
    /// What the decision needs.
    pub facts: LinkFacts,
    /// What the far server did to it, or said, for people; `None` where all is well.
    pub words: Option<String>,
}

/// The last agreed texts of a link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Agreed {
    /// The source's text.
    pub source: String,
    /// The far side's text, as read back.
    pub target: String,
}

/// What a run did to one entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ChangeAction {
    /// Written where nothing stood.
    Created,
    /// Written in the place of another text.
    Updated,
    /// Deleted.
    Deleted,
    /// Found alike, and linked without a write.
    Linked,
    /// Written, but the server keeps something else.
    Damaged,
    /// Refused, or not possible.
    Failed,
    /// A deletion that waits for a person.
    Held,
    /// Not carried, for a reason that lies in the entry.
    #[serde(rename = "left-out")]
    LeftOut,
}

impl ChangeAction {
    /// All of them.
    pub const ALL: [Self; 8] = [
        Self::Created,
        Self::Updated,
        Self::Deleted,
        Self::Linked,
        Self::Damaged,
        Self::Failed,
        Self::Held,
        Self::LeftOut,
    ];

    /// Returns the stable word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Created => "created",
            Self::Updated => "updated",
            Self::Deleted => "deleted",
            Self::Linked => "linked",
            Self::Damaged => "damaged",
            Self::Failed => "failed",
            Self::Held => "held",
            Self::LeftOut => "left-out",
        }
    }
}

/// One line of a run's story.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// The calendar, by its name in the configuration.
    pub calendar: String,
    /// What was done.
    pub action: ChangeAction,
    /// Where.
    pub href: ObjectHref,
    /// The UID on that side.
    pub uid: EventUid,
    /// The title; untrusted text.
    pub title: String,
    /// The start as iCalendar writes it, with the zone behind it; empty where there is none.
    pub start: String,
    /// The server's or our own words; untrusted text.
    pub words: Option<String>,
    /// The text that was replaced or deleted.
    pub before: Option<String>,
}

/// How a run ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RunResult {
    /// All in step.
    Ok,
    /// Something failed.
    Failed,
    /// Done, and something waits for a person.
    Held,
}

impl RunResult {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Ok, Self::Failed, Self::Held];

    /// Returns the stable word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Ok => "ok",
            Self::Failed => "failed",
            Self::Held => "held",
        }
    }
}

/// Counts of one calendar in one run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Counts {
    /// Entries written where nothing stood.
    pub created: usize,
    /// Entries replaced.
    pub updated: usize,
    /// Entries deleted.
    pub deleted: usize,
}

/// What a run came to.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct RouteSummary {
    /// Counts per calendar, by its name in the configuration.
    pub calendars: BTreeMap<String, Counts>,
    /// Entries found alike and linked without a write.
    pub linked: usize,
    /// Entries in step after the run.
    pub in_step: usize,
    /// Entries not carried, by reason.
    pub left_out: BTreeMap<String, usize>,
    /// Deletions that wait for a person.
    pub held: usize,
    /// Entries that were written in this run without the people they name, since the far server would write to
    /// them.
    #[serde(default)]
    pub without_people: usize,
    /// Entries the server changed while storing them, in this run.
    pub damaged: usize,
    /// Entries that failed, in this run.
    pub failed: usize,
    /// Why the run as a whole failed.
    pub error: Option<String>,
    /// Requests sent.
    pub requests: u64,
    /// Requests that write.
    pub writes: u64,
    /// How long it took.
    pub milliseconds: u64,
}

/// One run in the history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunRecord {
    /// Its number.
    pub id: RunId,
    /// The route's name.
    pub route: String,
    /// When it began.
    pub started: Timestamp,
    /// When it ended; `None` where it was cut off or is going on.
    pub finished: Option<Timestamp>,
    /// How it ended.
    pub result: Option<RunResult>,
    /// What it came to.
    pub summary: RouteSummary,
}

impl Recheck {
    pub(crate) fn number(self) -> i64 {
        match self {
            Self::No => 0,
            Self::Read => 1,
            Self::Gone => 2,
        }
    }

    pub(crate) fn from_number(number: i64) -> Self {
        match number {
            0 => Self::No,
            2 => Self::Gone,
            _ => Self::Read,
        }
    }
}

pub(crate) fn fingerprint(blob: Vec<u8>) -> Option<Fingerprint> {
    blob.try_into().ok().map(Fingerprint)
}
