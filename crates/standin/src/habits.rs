//! What servers were seen to do, as data. Each switch stands for behaviour met on at least one real server.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

macro_rules! habits {
    ($($(#[doc = $doc:literal])* $name:ident),* $(,)?) => {
        /// One thing that a server does otherwise than one would hope.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        #[serde(rename_all = "kebab-case")]
        pub enum Habit { $($(#[doc = $doc])* $name),* }

        impl Habit {
            /// Every habit.
            pub const ALL: &[Self] = &[$(Self::$name),*];
        }
    };
}

habits! {
    /// Data: one entry in four is answered with 201, and `(null)` stands there afterwards.
    NullAfterPut,
    /// One entry in four is answered with 201 and not kept at all.
    KeepsNothing,
    /// Properties come back in another order, parameters too.
    Reorders,
    /// RRULE parts come back in another order.
    ReordersRules,
    /// EXDATE and CATEGORIES come back as one line for each value.
    SplitsLists,
    /// CATEGORIES are split even at an escaped comma.
    SplitsEscapedCommas,
    /// GEO comes back with other digits.
    RoundsGeo,
    /// Blanks at the end of texts are cut.
    TrimsTexts,
    /// Properties without a value are dropped.
    DropsEmpty,
    /// Defaults are written out (CLASS:PUBLIC and others).
    AddsDefaults,
    /// A VTIMEZONE is added where none was sent.
    AddsZones,
    /// Floating times become UTC.
    FloatingToUtc,
    /// An event without an end is given one hour.
    AddsDuration,
    /// A text is cut at its first unescaped comma.
    CutsAtComma,
    /// DTEND is turned into DURATION.
    WritesDuration,
    /// No ETag in the answer to a PUT.
    NoEtagOnPut,

    /// Answers: characters beyond the basic plane are written as two surrogate references, which is no XML.
    SurrogateReferences,
    /// One entry in eight brings a raw control character into a batch.
    RawControls,
    /// One entry in eight brings bytes that are not UTF-8 into a batch.
    InvalidUtf8,
    /// Errors name elements without declaring their namespace.
    StrangeErrors,
    /// Texts are sent as CDATA.
    Cdata,

    /// Refusals: an event that ends when it starts is refused (400).
    RefusesZeroLength,
    /// An X- property without value is refused (403).
    RefusesEmptyX,
    /// A rule with BYSETPOS or an ordinal weekday is refused (500).
    RefusesRules,
    /// METHOD is refused (415).
    RefusesMethod,
    /// More than 2,000 bytes are refused with 413, and the limit is announced.
    SizeLimit413,
    /// More than 2,000 bytes are refused with 412, unannounced.
    SizeLimit412,
    /// More than 2,000 bytes are refused with 507, unannounced.
    SizeLimit507,
    /// The calendar takes events only: 403 with supported-calendar-component.
    EventsOnly,
    /// The calendar announces events only, and stores everything.
    EventsOnlyInWord,

    /// Identity: the same UID at another href: 409 with no-uid-conflict and the href.
    UidConflict409,
    /// The same: 412.
    UidConflict412,
    /// The same: 403 with no-uid-conflict.
    UidConflict403,
    /// The same: 409 without a body.
    UidConflictBare,
    /// One UID may stand in one calendar of a user only.
    OneUidPerUser,
    /// Hrefs come back with `@` and the like escaped, in lower-case hex.
    LowerHexHrefs,
    /// Hrefs come back with scheme and host.
    AbsoluteHrefs,
    /// Hrefs come back as a bare name.
    BareHrefs,
    /// Names with other characters than letters, digits, `-`, `_` and `.` are refused.
    RefusesNames,

    /// Names with other characters are stored, and lost from listings.
    LosesNames,
    /// What is new is stored under a name of the server's own; half of the answers say so (Location).
    NamesItself,

    /// Changes: ctag and sync token count seconds.
    CountsSeconds,
    /// ETags count the writes of an object: deleted and made anew, it has the old one.
    EtagCounts,
    /// An identical PUT changes the ETag.
    EtagMoves,
    /// A token that is not the newest is forgotten: 403.
    Forgets403,
    /// The same: 412.
    Forgets412,
    /// A token that is not the newest gives everything, and no deletions.
    ForgetsSilently,
    /// Sync answers are cut after 20 entries, with 507.
    Truncates507,
    /// Sync answers are cut after 50 entries without a word.
    TruncatesSilently,
    /// Sync answers list removals of entries that were never seen.
    SpuriousRemovals,
    /// Sync answers repeat the last change.
    RepeatsLastChange,
    /// Compressed answers carry weak ETags, listings strong ones.
    WeakEtags,
    /// A multiget passes over missing hrefs in silence.
    MultigetOmits,
    /// A multiget with one missing href fails as a whole with 404.
    MultigetFails,
    /// No sync reports.
    NoSync,
    /// Neither sync reports nor ctag.
    NoSyncNoCtag,

    /// Conditions: `If-None-Match: *` is ignored.
    IgnoresIfNoneMatch,
    /// `If-Match` is ignored.
    IgnoresIfMatch,
    /// `If-Match` on what is not there creates it.
    IfMatchCreates,
    /// Parallel writes are answered with 423.
    LocksParallel,
    /// Parallel writes are answered with 500.
    FailsParallel,
    /// PUT into a missing collection gives 409; else 404.
    MissingParent409,
    /// The same: 403.
    MissingParent403,
    /// The same: 405.
    MissingParent405,
    /// Another user's collection gives 500; else 403.
    Foreign500,
    /// DELETE gives 200; else 204.
    Delete200,
    /// PROPFIND of what is gone gives a 207 with a 404 inside.
    GoneInside207,

    /// Finding: well-known redirects with an absolute address.
    WellKnownAbsolute,
    /// Well-known redirects with 302.
    WellKnown302,
    /// There is no well-known address.
    NoWellKnown,
    /// The home is the principal itself.
    HomeIsPrincipal,
    /// The home lists inbox, outbox, notifications; and its calendars are outboxes, too.
    CrowdedHome,
    /// Answers 500 where sync token, ctag or quota are asked of what is no calendar.
    FailsOnRoot,
    /// The home names another home than the principal does.
    HomeNamesAnother,
    /// Names hold halves of characters, and numbers that are none.
    BrokenNames,
    /// Digest is the only sign-in.
    DigestOnly,
    /// A REPORT without `Depth: 1` returns nothing.
    DepthNeeded,
    /// It does not tell when somebody is taken (RFC 4791, 7.10).
    NoFreeBusy,
    /// MKCALENDAR keeps only the name.
    ForgetfulMkcalendar,
    /// There is no MKCALENDAR, extended MKCOL alone makes calendars.
    NoMkcalendar,
    /// Colours carry alpha.
    AlphaColors,
    /// Names come back escaped twice.
    DoubleEscapes,
    /// No privilege sets are told.
    NoPrivileges,

    /// Queries: text filters are ignored.
    IgnoresTextFilters,
    /// An entry that ends at the start of the range counts as inside.
    InclusiveRanges,
    /// Announces scheduling, and writes to people because of entries: for anybody, whom it does not tell.
    Schedules,
    /// Schedules without announcing it; there is a box for messages.
    SchedulesUnannounced,
    /// Scheduling: says by which address each user is known, and acts for the owner of a calendar alone.
    TellsAddresses,
    /// Scheduling: writes to those, too, whom a client looks after.
    IgnoresAgent,
    /// People are cut out of what is stored.
    StripsPeople,

    /// Feeds: entries have new UIDs at every fetch.
    RenewsUids,
    /// Feeds come without ETag, with the time of their last change.
    FeedsByTime,
    /// Feeds come with neither.
    FeedsUnmarked,

    /// HTTP: one request for each connection.
    OneRequestPerConnection,
    /// Bodies without a length are refused (411).
    RefusesChunked,
    /// Answers are compressed.
    Gzip,
    /// Every write takes longer the more the calendar holds.
    SlowsDown,
}

impl Habit {
    /// Returns the name as it is typed, in lower case with hyphens.
    #[must_use]
    pub fn name(self) -> String {
        serde_json::to_value(self).ok().and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default()
    }
}

/// A named set of habits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, clap::ValueEnum)]
#[serde(rename_all = "kebab-case")]
pub enum Temper {
    /// Takes nearly everything and checks little.
    Lenient,
    /// Refuses what the standards allow it to refuse.
    Strict,
    /// Stores its own version of everything.
    Rewriting,
    /// No sync reports, no gzip, one request for each connection.
    Old,
}

impl Temper {
    /// Returns what such a server does.
    #[must_use]
    pub fn habits(self) -> BTreeSet<Habit> {
        use Habit::{
            AddsDefaults, AddsZones, Delete200, DropsEmpty, EventsOnlyInWord, Forgets403, IfMatchCreates,
            IgnoresIfNoneMatch, MultigetOmits, NoEtagOnPut, NoSync, NoWellKnown, OneRequestPerConnection,
            RefusesEmptyX, RefusesMethod, RefusesNames, RefusesZeroLength, Reorders, ReordersRules,
            RoundsGeo, SizeLimit413, SplitsLists, TrimsTexts, UidConflict403, WeakEtags, WritesDuration,
        };
        let set: &[Habit] = match self {
            Self::Lenient => &[EventsOnlyInWord, IfMatchCreates, IgnoresIfNoneMatch, MultigetOmits],
            Self::Strict => &[
                RefusesZeroLength,
                RefusesEmptyX,
                RefusesMethod,
                RefusesNames,
                SizeLimit413,
                UidConflict403,
                Forgets403,
            ],
            Self::Rewriting => &[
                Reorders,
                ReordersRules,
                SplitsLists,
                RoundsGeo,
                TrimsTexts,
                DropsEmpty,
                AddsDefaults,
                AddsZones,
                WritesDuration,
                NoEtagOnPut,
                WeakEtags,
            ],
            Self::Old => &[NoSync, NoWellKnown, OneRequestPerConnection, Delete200, NoEtagOnPut],
        };
        set.iter().copied().collect()
    }
}
