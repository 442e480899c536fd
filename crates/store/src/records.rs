//! Rows as values.

use chestnut_core::{ContentKey, ETag, EventUid, Fingerprint, LinkFacts, ObjectHref, Partly};
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
    /// One of the calendars of a two-way route, by its number.
    Replica(u8),
    /// The calendar behind the source, where the source is made out of it: single occurrences, blocks of time.
    Underlying,
}

impl SideId {
    pub(crate) fn number(self) -> i64 {
        match self {
            Self::Source => 0,
            Self::Target => 1,
            Self::Replica(number) => i64::from(number),
            Self::Underlying => 1000,
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
    /// For which window a made source was last made, in seconds since 1970.
    #[serde(default)]
    pub made_for: Option<(i64, i64)>,
    /// From when on it was ever made.
    #[serde(default)]
    pub made_from: Option<i64>,
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
    /// When it begins next, where it is outside the window: then it comes in. Seconds since 1970.
    pub next: Option<i64>,
    /// When it is over for good, where the route tidies past copies away. Seconds since 1970.
    pub over: Option<i64>,
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
    /// What its copy does not bring along.
    pub partly: Partly,
}

/// The last agreed texts of a link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Agreed {
    /// The source's text.
    pub source: String,
    /// The far side's text, as read back.
    pub target: String,
}

/// One calendar's part in an entry of a two-way route.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReplicaRow {
    /// Its UID there.
    pub uid: EventUid,
    /// A view that this calendar refused for good.
    pub refused: Option<Fingerprint>,
    /// It was deleted there, and stays elsewhere.
    pub let_go: bool,
}

/// What was agreed of an entry, and how it stood in each calendar then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReplicaTexts {
    /// What was agreed.
    pub base: String,
    /// How it stood in each calendar; `None` where it did not.
    pub sides: Vec<Option<String>>,
}

/// Something that waits for a person.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HeldItem {
    /// Its number.
    pub id: i64,
    /// The route's name.
    pub route: String,
    /// Whose entry; `None` for the deletions of a route, all together.
    pub link: Option<LinkId>,
    /// Since when, in seconds since 1970.
    pub since: i64,
    /// The title; untrusted text.
    pub title: String,
    /// The start as iCalendar writes it.
    pub start: String,
    /// What it is about: a JSON document.
    pub details: String,
    /// What a person decided, until a run has done it.
    pub decision: Option<String>,
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
    /// A change that did not count: another calendar changed the same thing.
    Overruled,
    /// Not carried, for a reason that lies in the entry.
    #[serde(rename = "left-out")]
    LeftOut,
}

impl ChangeAction {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Created,
        Self::Updated,
        Self::Deleted,
        Self::Linked,
        Self::Damaged,
        Self::Failed,
        Self::Held,
        Self::Overruled,
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
            Self::Overruled => "overruled",
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
    /// What waits for a person: deletions, and disagreements.
    pub held: usize,
    /// Of these, disagreements.
    #[serde(default)]
    pub held_disagreements: usize,
    /// Disagreements that were settled in this run.
    #[serde(default)]
    pub disagreements: usize,
    /// Copies that do not bring everything along, by what they lack.
    #[serde(default)]
    pub partly: BTreeMap<String, usize>,
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

pub(crate) fn partly_number(partly: Partly) -> i64 {
    i64::from(partly.without_people) + 2 * i64::from(partly.without_attachments)
}

pub(crate) fn partly(number: i64) -> Partly {
    Partly { without_people: number & 1 != 0, without_attachments: number & 2 != 0 }
}
