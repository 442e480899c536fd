//! Rows as values.

use chestnut_core::{ContentKey, ETag, EntryError, EventUid, Fingerprint, ObjectHref, Origin, Partly};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

macro_rules! number_id {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub struct $name(pub(crate) i64);
    };
}

number_id! {
    /// A route in the state.
    RouteId
}
number_id! {
    /// A mirror of a calendar.
    CalendarId
}
number_id! {
    /// What stands, or stood, at one place of a calendar.
    ObjectId
}
number_id! {
    /// A text that is kept.
    BodyId
}

/// One entry as one route sees it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct LinkId(pub(crate) i64);

/// A run's number, counted over all routes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct RunId(pub i64);

/// A text, with its number where it is kept already.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Text {
    /// Its number; `None` where it is new.
    pub id: Option<BodyId>,
    /// The text.
    pub text: String,
}

impl Text {
    /// A text that is not kept yet.
    #[must_use]
    pub fn new(text: String) -> Self {
        Self { id: None, text }
    }
}

/// How well an object of a mirror is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ObjectState {
    /// Its text is what stands there.
    Present,
    /// It is said to have changed, and was not got: asked for at every look.
    ToFetch,
    /// Over before any window that needs it, by its server's word: never read.
    Unread,
    /// No entry; not asked again until it changes.
    Unreadable,
    /// It stood there, and a route still refers to it.
    Gone,
}

impl ObjectState {
    const ALL: [Self; 5] = [Self::Present, Self::ToFetch, Self::Unread, Self::Unreadable, Self::Gone];

    pub(crate) fn number(self) -> i64 {
        self as i64
    }

    pub(crate) fn of_number(number: i64) -> Self {
        usize::try_from(number).ok().and_then(|at| Self::ALL.get(at).copied()).unwrap_or(Self::ToFetch)
    }
}

/// What a mirror holds of one object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Object {
    /// Its number.
    pub id: ObjectId,
    /// In which mirror.
    pub calendar: CalendarId,
    /// Where it stands.
    pub href: ObjectHref,
    /// Its state when it was read; together with the text, never apart from it.
    pub etag: Option<ETag>,
    /// How well it is known.
    pub state: ObjectState,
    /// The number of its last change in its calendar.
    pub seq: i64,
    /// Since which token it is known.
    pub generation: i64,
    /// Its UID, where it could be read.
    pub uid: Option<EventUid>,
    /// What it looks like to a person, where it could be read.
    pub content: Option<ContentKey>,
    /// Its text: what stands there, or the last that could be read.
    pub body: Option<BodyId>,
}

/// An object to be noted in a mirror.
#[derive(Debug, Clone)]
pub struct NewObject<'t> {
    /// Where it stands.
    pub href: &'t ObjectHref,
    /// Its state.
    pub etag: Option<&'t ETag>,
    /// How well it is known.
    pub state: ObjectState,
    /// Since which token.
    pub generation: i64,
    /// Its UID.
    pub uid: Option<&'t EventUid>,
    /// What it looks like.
    pub content: Option<ContentKey>,
    /// Its text.
    pub text: Option<&'t str>,
    /// When it takes place at the earliest and at the latest, roughly.
    pub span: Option<(i64, i64)>,
    /// In a calendar that is made out of another: the object there.
    pub parent: Option<ObjectId>,
}

/// How a case of a route stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum LinkState {
    /// All its places say what was agreed.
    InStep,
    /// Not carried, for the reason beside it.
    LeftOut,
    /// It waits for a person.
    Held,
    /// Something went wrong that may pass.
    Failed,
    /// A server refuses it for good, until it changes.
    Refused,
    /// It stands there as nobody's.
    Released,
    /// Written, but its server keeps something else.
    Damaged,
    /// Its deletion was sent, and is believed once a listing shows it.
    Leaving,
}

impl LinkState {
    const ALL: [Self; 8] = [
        Self::InStep,
        Self::LeftOut,
        Self::Held,
        Self::Failed,
        Self::Refused,
        Self::Released,
        Self::Damaged,
        Self::Leaving,
    ];

    pub(crate) fn number(self) -> i64 {
        self as i64
    }

    pub(crate) fn of_number(number: i64) -> Self {
        usize::try_from(number).ok().and_then(|at| Self::ALL.get(at).copied()).unwrap_or(Self::Failed)
    }

    /// Tells whether a person should hear of it.
    #[must_use]
    pub fn is_trouble(self) -> bool {
        matches!(self, Self::Failed | Self::Refused | Self::Damaged)
    }
}

/// What is remembered of a case.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LinkRow {
    /// How it stands.
    pub state: LinkState,
    /// Why it is left out: a stable key; else empty.
    pub reason: String,
    /// What was agreed.
    pub agreed: Option<BodyId>,
    /// Which details the agreement covers.
    pub carried: u16,
    /// In which form.
    pub form: i64,
    /// When it must be decided again, in seconds since 1970.
    pub due: Option<i64>,
    /// How often in a row it failed.
    pub tries: u16,
    /// What there is to tell of it.
    pub told: Option<Told>,
    /// What its copy does not bring along.
    pub partly: Partly,
}

/// One entry in one calendar of a route.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlaceRow {
    /// Which calendar of the route.
    pub side: usize,
    /// What stands, or stood, there.
    pub object: Option<ObjectId>,
    /// What it is to the route.
    pub origin: Origin,
    /// The object's number of change when the route decided it last.
    pub seq: i64,
    /// How it stood there when it was last in step.
    pub stood: Option<BodyId>,
    /// What was agreed when it was last in step.
    pub agreed: Option<BodyId>,
    /// A view that this calendar refused for good.
    pub refused: Option<Fingerprint>,
    /// It was deleted there, and stays elsewhere.
    pub let_go: bool,
}

/// A write that was about to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Intent {
    /// Whose.
    pub link: LinkId,
    /// Into which calendar of the route.
    pub side: usize,
    /// Where.
    pub href: ObjectHref,
    /// What was sent; `None` for a deletion.
    pub sent: Option<BodyId>,
    /// What stood there.
    pub stood: Option<BodyId>,
    /// What is agreed once it is done.
    pub agreed: Option<BodyId>,
    /// Which details that covers.
    pub carried: u16,
    /// In which form.
    pub form: i64,
}

/// What is known of a calendar as a whole.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct CalendarFacts {
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
    /// Counts the tokens.
    pub generation: i64,
    /// Whether it was ever read completely.
    pub read: bool,
    /// When it was first read completely, in seconds since 1970.
    pub first_read_at: Option<i64>,
    /// When a look last found something changed, in seconds since 1970; nothing before that was seen.
    pub changed_at: Option<i64>,
    /// Whether sync reports are answered.
    pub sync_reports: bool,
    /// Kinds that it accepts, as component names.
    pub kinds: Vec<String>,
    /// Whether it may be written; `None` where its server does not say.
    pub writable: Option<bool>,
    /// The largest entry, in bytes.
    pub max_size: Option<u64>,
    /// Whether the server sends invitations by itself (RFC 6638).
    pub schedules: bool,
    /// The addresses it does that for; `None` where it does not tell.
    pub addresses: Option<Vec<String>>,
    /// Whether its answers bear a `Schedule-Tag` (RFC 6638, 3.2.10): it does so whatever it announces.
    pub tags_schedules: bool,
    /// Whether it announces automatic scheduling, and obeys what RFC 6638, 8.1, says of deletions.
    pub auto_schedules: bool,
    /// Whether its server was seen to leave alone whom a client looks after (RFC 6638, 7.1).
    pub honours_agent: bool,
    /// Whether it writes although a condition does not hold; `None` where it was not tried yet.
    pub ignores_conditions: Option<bool>,
    /// Whether its server refuses an entry's UID because another calendar of the user has it.
    pub own_uids: bool,
    /// Since when its entries were read, by its server's word; `None`: all of them were.
    pub unread_before: Option<i64>,
    /// Properties that its server was seen to change, and in how many entries.
    pub habits: BTreeMap<String, u32>,
    /// Of which time it tells, in seconds since 1970, joined; `None`: of all.
    pub known: Option<Vec<(i64, i64)>>,
    /// For a calendar that is made out of another: up to which change of that it was made, for which window, since
    /// when, and by which rule.
    pub made: Option<Made>,
}

/// How far a calendar that is made out of another was made.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Made {
    /// Up to which change of the calendar behind it.
    pub seen: i64,
    /// For which window, in seconds since 1970.
    pub window: (i64, i64),
    /// From when on it was ever made.
    pub from: i64,
    /// By which rule.
    pub rule: String,
    /// What it is put together from has changed, and it was not put together since.
    #[serde(default)]
    pub is_half_made: bool,
}

/// Something to tell of an entry: a fact; words are made of it elsewhere. Texts inside are untrusted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum Told {
    /// The server refuses it.
    Refused {
        /// The status.
        status: u16,
        /// The server's own words.
        words: Option<String>,
    },
    /// The server changed it while storing it.
    Changed {
        /// Which properties.
        fields: Vec<String>,
    },
    /// The server said it was stored, and keeps nothing.
    KeepsNothing,
    /// The server keeps something that is no entry.
    KeepsOther,
    /// It cannot be read.
    Unreadable {
        /// What is wrong with its text; `None` where the server did not give it.
        problem: Option<EntryError>,
    },
    /// It is left out.
    LeftOut {
        /// A stable key.
        reason: String,
    },
    /// No answer came.
    Lost {
        /// Why, as whoever wrote serialises it: a fact, which nobody here looks into.
        error: serde_json::Value,
    },
    /// The server fails on this entry.
    Fails {
        /// The status.
        status: u16,
    },
    /// Conditions fail although nothing changed.
    FalseCondition,
    /// The calendar was not found while writing.
    NoCalendar,
    /// Somebody else keeps changing it.
    KeepsChanging,
    /// Somebody changed it while it was about to be done; what was to be done was for what stood there before.
    ChangedMeanwhile,
    /// Another calendar of the user has its UID.
    UidTaken,
    /// The server does not delete it.
    NotDeleted {
        /// The status; 0 where it said that it did.
        status: u16,
    },
    /// It was gone already.
    WasGone,
    /// It does not bring everything along.
    Lacks {
        /// The people it names.
        people: bool,
        /// The attachments that stand in it.
        attachments: bool,
        /// A zone that is described nowhere.
        #[serde(default)]
        zone: bool,
    },
    /// Its deletion waits for a person.
    DeletionHeld,
    /// The server would write to people because of it: it waits for a person.
    WouldMail {
        /// Whether it is a deletion.
        deletes: bool,
    },
    /// Calendars disagree.
    Disagree {
        /// About which properties.
        fields: Vec<String>,
    },
    /// What another calendar said counts.
    Overruled {
        /// Which properties.
        fields: Vec<String>,
    },
    /// It was deleted here, and changed elsewhere.
    ComesBack,
    /// It stood there before.
    Matched,
    /// Its source is gone, or no longer taken.
    SourceGone,
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
    /// What a stable word stands for.
    pub(crate) fn of_word(word: &str) -> Self {
        Self::ALL.into_iter().find(|action| action.word() == word).unwrap_or(Self::Failed)
    }

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

    /// Tells whether something was written, or deleted.
    #[must_use]
    pub fn is_write(self) -> bool {
        matches!(self, Self::Created | Self::Updated | Self::Deleted | Self::Damaged)
    }

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

/// What some run did to an entry, without its texts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastChange {
    /// Which run.
    pub run: RunId,
    /// Of which route.
    pub route: String,
    /// When the run began.
    pub at: Timestamp,
    /// The calendar, by its name in the configuration.
    pub calendar: String,
    /// What was done.
    pub action: ChangeAction,
    /// Where.
    pub href: ObjectHref,
    /// The entry's UID there.
    pub uid: EventUid,
    /// Its title; untrusted text.
    pub title: String,
    /// Its start as iCalendar writes it.
    pub start: String,
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
    /// What there is to tell besides.
    pub told: Option<Told>,
    /// The text that was replaced or deleted.
    pub before: Option<Text>,
    /// The text that stood there afterwards.
    pub after: Option<Text>,
    /// The case that it was about; it may be forgotten since.
    pub link: Option<LinkId>,
}

impl Change {
    /// Tells whether something was written, or deleted.
    #[must_use]
    pub fn is_write(&self) -> bool {
        self.action.is_write()
    }
}

/// How a calendar stood.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptCalendar {
    /// When.
    pub at: Timestamp,
    /// What stood where, by href.
    pub entries: Vec<(ObjectHref, String)>,
}

/// Something that a run wrote or deleted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wrote {
    /// Which run.
    pub run: RunId,
    /// The route's name.
    pub route: String,
    /// The calendar, by its name in the configuration.
    pub calendar: String,
    /// Where.
    pub href: ObjectHref,
    /// The text that stood there afterwards.
    pub after: Option<BodyId>,
}

/// What a run was for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum RunKind {
    /// To bring calendars in step.
    #[default]
    Sync,
    /// To carry a test entry, and nothing else.
    Probe,
    /// To take earlier runs back.
    Undo,
    /// To put a calendar back as it stood.
    Restore,
}

impl RunKind {
    /// All of them.
    const ALL: [Self; 4] = [Self::Sync, Self::Probe, Self::Undo, Self::Restore];

    /// What a stable word stands for.
    pub(crate) fn of_word(word: &str) -> Self {
        Self::ALL.into_iter().find(|kind| kind.word() == word).unwrap_or_default()
    }

    /// Returns the stable word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Sync => "sync",
            Self::Probe => "probe",
            Self::Undo => "undo",
            Self::Restore => "restore",
        }
    }
}

/// A test entry that stands, or may stand, somewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProbeRow {
    /// The route that it tests.
    pub route: String,
    /// The calendar, by its name in the configuration.
    pub calendar: String,
    /// Where.
    pub href: ObjectHref,
    /// Since when.
    pub since: Timestamp,
    /// When it took place at first.
    pub starts: Timestamp,
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
    /// Of these, what would make a server write to people.
    #[serde(default)]
    pub held_mail: usize,
    /// Disagreements that were settled in this run.
    #[serde(default)]
    pub disagreements: usize,
    /// Calendars whose server refuses UIDs that another calendar of the user has: entries get the route's own there.
    #[serde(default)]
    pub own_uids: Vec<String>,
    /// Calendars that were found at another path, and are the same: what was agreed goes on there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub moved: Vec<String>,
    /// How far the server's clock and ours are apart, in seconds, where it is more than a day: nothing was deleted.
    #[serde(default)]
    pub clocks_apart: Option<i64>,
    /// Copies that do not bring everything along, by what they lack.
    #[serde(default)]
    pub partly: BTreeMap<String, usize>,
    /// Entries the server changed while storing them, in this run.
    pub damaged: usize,
    /// Entries that failed, in this run.
    pub failed: usize,
    /// Why the run as a whole failed, as whoever ran serialises it: a fact, which nobody here looks into.
    pub error: Option<serde_json::Value>,
    /// Requests sent.
    pub requests: u64,
    /// Requests that write.
    pub writes: u64,
    /// How long it took.
    pub milliseconds: u64,
    /// The runs that it took back.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub undid: Vec<i64>,
}

impl RouteSummary {
    /// Returns what was written in all of its calendars together.
    #[must_use]
    pub fn total(&self) -> Counts {
        self.calendars.values().fold(Counts::default(), |sum, count| Counts {
            created: sum.created + count.created,
            updated: sum.updated + count.updated,
            deleted: sum.deleted + count.deleted,
        })
    }
}

/// One run in the history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RunRecord {
    /// Its number.
    pub id: RunId,
    /// The route's name.
    pub route: String,
    /// What it was for.
    pub kind: RunKind,
    /// When it began.
    pub started: Timestamp,
    /// When it ended; `None` where it was cut off or is going on.
    pub finished: Option<Timestamp>,
    /// It is going on: it is the last of its route, and whoever runs the route is still there.
    pub is_running: bool,
    /// How it ended.
    pub result: Option<RunResult>,
    /// What it came to.
    pub summary: RouteSummary,
}

pub(crate) fn fingerprint(blob: Vec<u8>) -> Option<Fingerprint> {
    blob.try_into().ok().map(Fingerprint)
}

pub(crate) fn partly_number(partly: Partly) -> i64 {
    i64::from(partly.without_people)
        + 2 * i64::from(partly.without_attachments)
        + 4 * i64::from(partly.in_unknown_zone)
}

pub(crate) fn partly(number: i64) -> Partly {
    Partly {
        without_people: number & 1 != 0,
        without_attachments: number & 2 != 0,
        in_unknown_zone: number & 4 != 0,
    }
}

/// What is known of the state: since when a route is held back, by its name.
pub(crate) const PAUSED: &str = "paused ";
/// That a route of this name was taken out, or is called otherwise, and may have left copies.
pub(crate) const RETIRED: &str = "retired ";

pub(crate) fn origin_number(origin: Origin) -> i64 {
    match origin {
        Origin::Original => 0,
        Origin::Copy => 1,
        Origin::Match => 2,
    }
}

pub(crate) fn origin(number: i64) -> Origin {
    match number {
        1 => Origin::Copy,
        2 => Origin::Match,
        _ => Origin::Original,
    }
}
