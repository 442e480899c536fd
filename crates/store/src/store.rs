//! Opens the state and reads it.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::Path;

use chestnut_core::{ContentKey, ETag, EventUid, ObjectHref, Origin};
use jiff::Timestamp;

use crate::database::{Ahead, Database, Kind, Row, Sqlite, Still, values};
use crate::error::StoreError;
use crate::presence::{Holder, Presence};
use crate::records::{
    BodyId, CalendarFacts, CalendarId, Intent, LinkId, LinkRow, LinkState, Object, ObjectId, ObjectState,
    PAUSED, PlaceRow, RETIRED, RouteId, Told, fingerprint, origin, partly,
};
use crate::texts::{decompress, text_of};
use crate::writer::{HAS_TEXT, Writer};

type Gate = Box<dyn FnMut() -> Option<StoreError>>;
type Result<T> = std::result::Result<T, StoreError>;

/// The state of an installation.
pub struct Store {
    pub(crate) database: Database,
    pub(crate) presence: Presence,
    place: String,
    gate: RefCell<Option<Gate>>,
    /// Leases that were dropped while the state could not be written: they are given back with the next one taken.
    pub(crate) owed: RefCell<BTreeMap<String, i64>>,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Store").field("place", &self.place).finish_non_exhaustive()
    }
}

/// Something that is wrong with a state.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Wrong {
    /// The database says so, in its words.
    Told(String),
    /// Rows name texts that are not there.
    TextsMissing {
        /// In which table.
        table: &'static str,
        /// How many.
        number: u64,
    },
}

/// Where texts are named.
const TEXTS: [(&str, &str); 11] = [
    ("object", "body"),
    ("link", "agreed"),
    ("place", "stood"),
    ("place", "agreed"),
    ("intent", "sent"),
    ("intent", "stood"),
    ("intent", "agreed"),
    ("considered", "body"),
    ("change", "before"),
    ("change", "after"),
    ("kept_entry", "body"),
];

/// A mirror of a calendar.
#[derive(Debug, Clone)]
pub struct Mirror {
    /// Its number.
    pub id: CalendarId,
    /// The number of the last change that was noted.
    pub seq: i64,
    /// What is known of it as a whole.
    pub facts: CalendarFacts,
}

/// A route, as it last ran.
#[derive(Debug, Clone)]
pub struct Route {
    /// Its number.
    pub id: RouteId,
    /// What it said.
    pub rule: String,
    /// Its calendars.
    pub ends: String,
    /// Whether it is held back.
    pub is_paused: bool,
    /// When it last ran to its end, in seconds since 1970.
    pub ran_at: Option<i64>,
    /// When a run last went well.
    pub well_at: Option<Timestamp>,
    /// Up to which change of each calendar its cases were decided.
    pub seen: Vec<i64>,
    /// Until when it is held back, in seconds since 1970; `None`: until somebody lets it go on.
    pub paused_until: Option<i64>,
}

impl Route {
    /// Returns its calendars: the part that each has, and its place.
    pub fn places(&self) -> impl Iterator<Item = (&str, &str)> {
        self.ends.lines().filter_map(|line| line.split_once(' '))
    }

    /// Returns its calendars as they are written down where some are at another place; `moved` says at which.
    #[must_use]
    pub fn ends_with(&self, moved: impl Fn(&str) -> Option<String>) -> String {
        let lines = self.places().map(|(part, place)| match moved(place) {
            Some(moved) => format!("{part} {moved}"),
            None => format!("{part} {place}"),
        });
        lines.collect::<Vec<_>>().join("\n")
    }

    /// Tells whether it is held back at a moment, in seconds since 1970.
    #[must_use]
    pub fn rests(&self, now: i64) -> bool {
        self.is_paused && self.paused_until.is_none_or(|until| now < until)
    }
}

/// An object with news for a route.
#[derive(Debug, Clone)]
pub struct Touched {
    /// The object.
    pub object: Object,
    /// The case that it belongs to.
    pub link: Option<LinkId>,
}

const OBJECT: &str = "id, href, etag, state, seq, generation, uid, content, body, calendar";

impl Store {
    /// Opens the state in a file, making it where there is none, and brings it to the present format.
    ///
    /// # Errors
    /// [`StoreError::Newer`], [`StoreError::Unreadable`], [`StoreError::Open`] or [`StoreError::Full`].
    pub fn open(path: &Path) -> Result<Self> {
        Self::open_unless(path, &|| None)
    }

    /// Opens the state in a file, as [`Self::open`] does; but one of an older format not where `at_work` tells who works
    /// with it, and would go on in that format.
    ///
    /// # Errors
    /// [`StoreError::AtWork`], or as [`Self::open`].
    pub fn open_unless(path: &Path, at_work: &dyn Fn() -> Option<Holder>) -> Result<Self> {
        let sqlite = Sqlite::open(path, at_work)?;
        Self::of(Database::of(Kind::Sqlite(sqlite)), path.display().to_string()).still_here()
    }

    /// Opens the state in a database of PostgreSQL, making its tables where there are none.
    ///
    /// # Errors
    /// [`StoreError::Newer`] or [`StoreError::Open`].
    #[cfg(feature = "postgres")]
    pub fn connect(place: &crate::PostgresPlace) -> Result<Self> {
        Self::of(
            Database::of(Kind::Postgres(Box::new(crate::database::Postgres::open(place)?))),
            place.url.clone(),
        )
        .still_here()
    }

    /// Makes a state that is kept nowhere, for looking without a trace.
    ///
    /// # Errors
    /// SQLite cannot start.
    pub fn in_memory() -> Result<Self> {
        Ok(Self::of(Database::of(Kind::Sqlite(Sqlite::in_memory()?)), ":memory:".to_owned()))
    }

    fn of(database: Database, place: String) -> Self {
        Self {
            database,
            presence: Presence::begin(),
            place,
            gate: RefCell::new(None),
            owed: RefCell::default(),
        }
    }

    /// Holds as little of the state in memory as does for small rounds: for a process that is left running.
    ///
    /// # Errors
    /// The state cannot be used.
    pub fn hold_little(&self) -> Result<()> {
        self.database.as_sqlite().map_or(Ok(()), Sqlite::hold_little)
    }

    /// Reads the whole state, and returns what is wrong with it; nothing, where it is sound.
    ///
    /// # Errors
    /// The state cannot be read at all.
    pub fn check(&self) -> Result<Vec<Wrong>> {
        let mut wrong = Vec::new();
        if self.database.as_sqlite().is_some() {
            for sql in ["PRAGMA integrity_check", "PRAGMA foreign_key_check"] {
                let lines: Vec<String> = self.database.rows(sql, &[], |row| row.get(0))?;
                wrong.extend(lines.into_iter().filter(|line| line != "ok").map(Wrong::Told));
            }
        }
        for (table, column) in TEXTS {
            let sql = format!(
                "SELECT count(*) FROM {table} t LEFT JOIN body b ON b.id = t.{column}
                 WHERE t.{column} IS NOT NULL AND b.id IS NULL"
            );
            match self.database.number(&sql, &[])? {
                0 => {}
                number => wrong.push(Wrong::TextsMissing { table, number: number as u64 }),
            }
        }
        Ok(wrong)
    }

    /// Returns how many calendars, entries, routes and runs it holds.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn sizes(&self) -> Result<[usize; 4]> {
        let number =
            |sql: &str| -> Result<usize> { Ok(self.database.one(sql, &[], |row| row.get(0))?.unwrap_or(0)) };
        Ok([
            number("SELECT count(*) FROM calendar")?,
            number("SELECT count(*) FROM object WHERE state <> 4")?,
            number("SELECT count(*) FROM route")?,
            number("SELECT count(*) FROM run")?,
        ])
    }

    /// Returns since when a route is held back, if it is, and as far as that is known.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn paused_since(&self, route: &str) -> Result<Option<Timestamp>> {
        Ok(self.meta(&format!("{PAUSED}{route}"))?.and_then(|at| at.parse().ok()))
    }

    /// Tells whether a route of this name was taken out, or called otherwise, since the state began.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn was_retired(&self, route: &str) -> Result<bool> {
        Ok(self.meta(&format!("{RETIRED}{route}"))?.is_some())
    }

    /// Returns what is known of the state as a whole, by name.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn meta(&self, name: &str) -> Result<Option<String>> {
        self.database.one("SELECT value FROM meta WHERE name = ?", values![name], |row| row.get(0))
    }

    /// Returns where the state is kept.
    #[must_use]
    pub fn place(&self) -> &str {
        &self.place
    }

    /// Asks `gate` before every transaction, which fails with what it answers. For tests of processes that are killed,
    /// of disks that are full and of states that another holds.
    pub fn set_gate(&self, gate: impl FnMut() -> Option<StoreError> + 'static) {
        *self.gate.borrow_mut() = Some(Box::new(gate));
    }

    /// Runs `work` in one transaction: all of it is kept, or nothing.
    ///
    /// # Errors
    /// What `work` returns, or the disk is full.
    pub fn write<T>(&self, work: impl FnOnce(&Writer<'_>) -> Result<T>) -> Result<T> {
        if let Some(error) = self.gate.borrow_mut().as_mut().and_then(|gate| gate()) {
            return Err(error);
        }
        self.database.transaction(|| {
            let writer = Writer::new(&self.database);
            let result = work(&writer)?;
            writer.finish()?;
            Ok(result)
        })
    }

    /// Begins to ask ahead, several questions at once. As long as what is returned is there, these answers are as they
    /// were, whatever is written.
    pub fn ahead(&self) -> Ahead<'_> {
        self.database.ahead()
    }

    /// Reads at one moment from now on, until what is returned is dropped: for who asks for much, and hardly writes. Whoever
    /// writes meanwhile goes on at the moment that this makes. Several machines' state is read as it changes.
    ///
    /// # Errors
    /// The state cannot be read, or is being written by the caller.
    pub fn hold_still(&self) -> Result<Still<'_>> {
        self.database.hold_still()
    }

    /// Returns a text.
    ///
    /// # Errors
    /// The state cannot be read; so for all methods here.
    pub fn text(&self, body: BodyId) -> Result<Option<String>> {
        text_of(&self.database, body.0)
    }

    /// Tells whether a text is there.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn has_text(&self, body: BodyId) -> Result<bool> {
        self.database.exists(HAS_TEXT, values![body.0])
    }

    /// Returns the mirror of the calendar at a place.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn mirror(&self, place: &str) -> Result<Option<Mirror>> {
        let sql = "SELECT id, seq, facts FROM calendar WHERE place = ?";
        self.database.one(sql, values![place], |row| {
            let facts: String = row.get(2)?;
            Ok(Mirror {
                id: CalendarId(row.get(0)?),
                seq: row.get(1)?,
                // What this version cannot read is as good as nothing: the calendar is looked at afresh.
                facts: serde_json::from_str(&facts).unwrap_or_default(),
            })
        })
    }

    /// Returns the mirror at a place, and the number of the last change that was noted there.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn last_change(&self, place: &str) -> Result<Option<(CalendarId, i64)>> {
        let sql = "SELECT id, seq FROM calendar WHERE place = ?";
        self.database.one(sql, values![place], |row| Ok((CalendarId(row.get(0)?), row.get(1)?)))
    }

    /// Calls `each` for everything that stands in a calendar, as far as is known: where, its state, how well it is
    /// known, and since when.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn each_object(
        &self,
        calendar: CalendarId,
        mut each: impl FnMut(ObjectHref, Option<ETag>, ObjectState, i64),
    ) -> Result<()> {
        let sql = "SELECT href, etag, state, generation FROM object WHERE calendar = ? AND state <> 4";
        self.database.each(sql, values![calendar.0], |row| {
            let etag: Option<String> = row.get(1)?;
            let state = ObjectState::of_number(row.get(2)?);
            each(ObjectHref::from(row.get::<String>(0)?), etag.map(ETag::from), state, row.get(3)?);
            Ok(true)
        })
    }

    /// Calls `each` for every text that stands in a calendar, without its time zones.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn each_text(&self, calendar: CalendarId, mut each: impl FnMut(ObjectId, &str)) -> Result<()> {
        let sql = "SELECT o.id, b.bytes FROM object o JOIN body b ON b.id = o.body
             WHERE o.calendar = ? AND o.state <> 4 ORDER BY o.href";
        self.database.each(sql, values![calendar.0], |row| {
            if let Some(text) = decompress(&row.get::<Vec<u8>>(1)?) {
                each(ObjectId(row.get(0)?), &text);
            }
            Ok(true)
        })
    }

    /// Tells whether more than `count` objects stand in a calendar, without counting them all.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn holds_more_than(&self, calendar: CalendarId, count: usize) -> Result<bool> {
        let sql =
            "SELECT 1 FROM object INDEXED BY object_href WHERE calendar = ? AND state <> 4 LIMIT 1 OFFSET ?";
        self.database.exists(sql, values![calendar.0, count])
    }

    /// Returns how many objects stand in a calendar.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn count(&self, calendar: CalendarId) -> Result<usize> {
        let sql = "SELECT count(*) FROM object WHERE calendar = ? AND state <> 4";
        Ok(self.database.one(sql, values![calendar.0], |row| row.get(0))?.unwrap_or(0))
    }

    /// Returns where a calendar was found by its name, and when, in seconds since 1970.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn address(&self, account: &str, name: &str) -> Result<Option<(String, i64)>> {
        let sql = "SELECT url, found FROM address WHERE account = ? AND name = ?";
        self.database.one(sql, values![account, name], |row| Ok((row.get(0)?, row.get(1)?)))
    }

    /// Returns what stands at an href.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn object_at(&self, calendar: CalendarId, href: &ObjectHref) -> Result<Option<Object>> {
        let sql = format!(
            "SELECT {OBJECT} FROM object WHERE calendar = ?1 AND href = ?2 AND state <> 4
             /*PostgreSQL: AND sha256(href) = sha256(?2)*/"
        );
        self.database.one(&sql, values![calendar.0, href.as_str()], object)
    }

    /// Returns an object by its number.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn object(&self, id: ObjectId) -> Result<Option<Object>> {
        self.database.one(&format!("SELECT {OBJECT} FROM object WHERE id = ?"), values![id.0], object)
    }

    /// Returns what stands in a calendar under a UID, by href.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn objects_by_uid(&self, calendar: CalendarId, uid: &EventUid) -> Result<Vec<Object>> {
        let sql = format!(
            "SELECT {OBJECT} FROM object INDEXED BY object_uid
             WHERE calendar = ?1 AND uid = ?2 AND state <> 4
             /*PostgreSQL: AND substr(uid, 1, 200) = substr(?2, 1, 200)*/ ORDER BY href"
        );
        self.database.rows(&sql, values![calendar.0, uid.as_str()], object)
    }

    /// Tells whether something stands in a calendar that was not read, or cannot be, and of which not even the UID is
    /// known.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn holds_unknown(&self, calendar: CalendarId) -> Result<bool> {
        let sql = "SELECT 1 FROM object INDEXED BY object_uid
             WHERE calendar = ? AND uid IS NULL AND state IN (1, 2, 3)
             /*PostgreSQL: AND substr(uid, 1, 200) IS NULL*/ LIMIT 1";
        self.database.exists(sql, values![calendar.0])
    }

    /// Returns what stands, or stood, in a calendar under a UID that begins so, and its case of a route; without one
    /// only what stands.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn marked(
        &self,
        route: Option<RouteId>,
        calendar: CalendarId,
        mark: &str,
    ) -> Result<Vec<(ObjectId, Option<LinkId>)>> {
        // A tilde comes behind every character that a UID of ours has. Of long UIDs an index may hold the beginning only.
        let sql = "SELECT o.id, p.link FROM object o INDEXED BY object_uid
             LEFT JOIN place p ON p.object = o.id AND p.route = ?1
             WHERE o.calendar = ?2 AND o.uid >= ?3 AND o.uid < ?3 || '~'
             AND substr(o.uid, 1, 200) >= ?3 AND substr(o.uid, 1, 200) < ?3 || '~' AND (p.link IS NOT NULL OR o.state <> 4)
             ORDER BY o.href";
        self.database.rows(sql, values![route.map(|r| r.0), calendar.0, mark], |row| {
            Ok((ObjectId(row.get(0)?), row.get::<Option<i64>>(1)?.map(LinkId)))
        })
    }

    /// Returns what stands in a calendar and looks like this, by href; at most `most`.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn objects_by_content(
        &self,
        calendar: CalendarId,
        content: ContentKey,
        most: usize,
    ) -> Result<Vec<Object>> {
        let sql = format!(
            "SELECT {OBJECT} FROM (SELECT * FROM object INDEXED BY object_content
             WHERE calendar = ? AND content = ? AND state = 0 ORDER BY id LIMIT ?) o ORDER BY href"
        );
        self.database.rows(&sql, values![calendar.0, content.0.to_vec(), most], object)
    }

    /// Returns the hrefs of a calendar that are in a state.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn hrefs_in(&self, calendar: CalendarId, state: ObjectState) -> Result<Vec<ObjectHref>> {
        let sql = "SELECT href FROM object WHERE calendar = ? AND state = ? AND state IN (1, 2, 4)";
        self.database
            .rows(sql, values![calendar.0, state.number()], |row| Ok(ObjectHref::from(row.get::<String>(0)?)))
    }

    /// Returns what stands in a calendar and may take place between two moments, by href.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn objects_between(&self, calendar: CalendarId, from: i64, to: i64) -> Result<Vec<Object>> {
        let sql = format!(
            "SELECT {OBJECT} FROM object WHERE calendar = ? AND state <> 4
             AND (last IS NULL OR last >= ?) AND (first IS NULL OR first < ?) ORDER BY href"
        );
        self.database.rows(&sql, values![calendar.0, from, to], object)
    }

    /// Returns the cases that an object belongs to, with their routes' names, and what it is to them.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn cases_at(&self, object: ObjectId) -> Result<Vec<(LinkId, String, Origin)>> {
        let sql = "SELECT p.link, r.name, p.origin FROM place p JOIN route r ON r.id = p.route
             WHERE p.object = ? ORDER BY r.name";
        self.database
            .rows(sql, values![object.0], |row| Ok((LinkId(row.get(0)?), row.get(1)?, origin(row.get(2)?))))
    }

    /// Returns the objects that were made out of one, in the order of their hrefs.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn objects_of(&self, parent: ObjectId, calendar: CalendarId) -> Result<Vec<Object>> {
        let sql = format!(
            "SELECT {OBJECT} FROM object INDEXED BY object_parent
             WHERE parent = ? AND calendar = ? AND state <> 4 ORDER BY href"
        );
        self.database.rows(&sql, values![parent.0, calendar.0], object)
    }

    /// Returns everything that stands in a calendar, as far as it was read; for calendars that are made.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn all_objects(&self, calendar: CalendarId) -> Result<Vec<Object>> {
        let sql = format!("SELECT {OBJECT} FROM object WHERE calendar = ? AND state <> 4 ORDER BY href");
        self.database.rows(&sql, values![calendar.0], object)
    }

    /// Returns the spans that the objects of the calendar behind a made one came to, as they were written down.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn spans(&self, calendar: CalendarId) -> Result<Vec<String>> {
        let sql = "SELECT spans FROM part WHERE calendar = ? AND spans <> '[]'";
        self.database.rows(sql, values![calendar.0], |row| row.get(0))
    }

    /// Returns the objects of the calendar behind a made one that must be looked at again by now.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn parts_due(&self, calendar: CalendarId, now: i64) -> Result<Vec<ObjectId>> {
        let sql = "SELECT parent FROM part WHERE calendar = ? AND due IS NOT NULL AND due <= ?";
        self.database.rows(sql, values![calendar.0, now], |row| Ok(ObjectId(row.get(0)?)))
    }

    /// Returns the objects behind a made calendar that are left out, with why.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn parts_left_out(&self, calendar: CalendarId) -> Result<Vec<(ObjectId, String)>> {
        let sql = "SELECT parent, reason FROM part WHERE calendar = ? AND reason <> ''";
        self.database.rows(sql, values![calendar.0], |row| Ok((ObjectId(row.get(0)?), row.get(1)?)))
    }

    /// Returns objects of a calendar that changed after `after`, in the order of their changes; at most `most`.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn changed_after(&self, calendar: CalendarId, after: i64, most: usize) -> Result<Vec<Object>> {
        let sql = format!("SELECT {OBJECT} FROM object WHERE calendar = ? AND seq > ? ORDER BY seq LIMIT ?");
        self.database.rows(&sql, values![calendar.0, after, most], object)
    }

    /// Finds a route that has run before.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn route(&self, name: &str) -> Result<Option<Route>> {
        let sql =
            "SELECT id, rule, ends, paused, ran_at, seen, well_at, paused_until FROM route WHERE name = ?";
        self.database.one(sql, values![name], |row| {
            let seen: String = row.get(5)?;
            Ok(Route {
                id: RouteId(row.get(0)?),
                rule: row.get(1)?,
                ends: row.get(2)?,
                is_paused: row.get(3)?,
                ran_at: row.get(4)?,
                well_at: row.get::<Option<i64>>(6)?.map(at_millisecond),
                seen: serde_json::from_str(&seen).unwrap_or_default(),
                paused_until: row.get(7)?,
            })
        })
    }

    /// Returns the names of all routes that ever ran and were not retired.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn route_names(&self) -> Result<Vec<String>> {
        self.database.rows("SELECT name FROM route ORDER BY name", &[], |row| row.get(0))
    }

    /// Returns objects with news for a route, in the order of their changes: what changed after `after` and was not
    /// decided yet, of cases, and of nobody; at most `most`.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn touched(
        &self,
        route: Option<RouteId>,
        calendar: CalendarId,
        after: i64,
        most: usize,
    ) -> Result<Vec<Touched>> {
        let sql = "SELECT o.id, o.href, o.etag, o.state, o.seq, o.generation, o.uid, o.content, o.body, o.calendar, p.link
             FROM object o LEFT JOIN place p ON p.object = o.id AND p.route = ?1
             WHERE o.calendar = ?2 AND o.seq > ?3 AND (p.link IS NULL OR p.seq <> o.seq)
             ORDER BY o.seq LIMIT ?4";
        self.database.rows(sql, values![route.map(|r| r.0), calendar.0, after, most], |row| {
            let link: Option<i64> = row.get(10)?;
            Ok(Touched { object: object(row)?, link: link.map(LinkId) })
        })
    }

    /// Returns the cases of a route that must be decided again by now; at most `most`, from a number on.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn due(&self, route: RouteId, now: i64, after: Option<LinkId>, most: usize) -> Result<Vec<LinkId>> {
        let sql = "SELECT id FROM link WHERE route = ? AND due IS NOT NULL AND due <= ? AND id > ?
             ORDER BY id LIMIT ?";
        let after = after.map_or(i64::MIN, |link| link.0);
        self.database.rows(sql, values![route.0, now, after, most], |row| Ok(LinkId(row.get(0)?)))
    }

    /// Tells whether something is known to have changed, or is due, that a route has not decided yet. `made` is the
    /// place of the calendar that is made out of the route's first one, where it carries what is made.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn is_behind(&self, route: &Route, made: Option<&str>, now: i64) -> Result<bool> {
        let begun = "SELECT 1 FROM intent WHERE route = ? LIMIT 1";
        if !self.due(route.id, now, None, 1)?.is_empty()
            || self.database.exists(begun, values![route.id.0])?
        {
            return Ok(true);
        }
        // Each line is the part of a calendar, and its place.
        let mut places: Vec<_> = route.places().collect();
        if let (Some(place), Some(first)) = (made, places.first_mut()) {
            let behind = self.last_change(first.1)?.map_or(0, |(_, seq)| seq);
            let Some(mirror) = self.mirror(place)? else { return Ok(true) };
            let is_made = mirror.facts.made.is_some_and(|made| made.seen >= behind);
            if !is_made || !self.parts_due(mirror.id, now)?.is_empty() {
                return Ok(true);
            }
            first.1 = place;
        }
        let sql = "SELECT 1 FROM object o LEFT JOIN place p ON p.object = o.id AND p.route = ?1
             WHERE o.calendar = ?2 AND o.seq > ?3
             AND CASE WHEN p.link IS NULL THEN ?4 <> 0 AND o.state <> 4 ELSE p.seq <> o.seq END LIMIT 1";
        for ((part, place), seen) in places.into_iter().zip(&route.seen) {
            let Some((mirror, seq)) = self.last_change(place)? else { continue };
            let gives = part != "to";
            let query = values![route.id.0, mirror.0, seen, gives];
            if seq > *seen && self.database.exists(sql, query)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Returns what is remembered of a case.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn link(&self, link: LinkId) -> Result<Option<LinkRow>> {
        let sql =
            "SELECT state, reason, agreed, carried, form, due, tries, told, partly FROM link WHERE id = ?";
        self.database.one(sql, values![link.0], |row| {
            let told: Option<String> = row.get(7)?;
            Ok(LinkRow {
                state: LinkState::of_number(row.get(0)?),
                reason: row.get(1)?,
                agreed: row.get::<Option<i64>>(2)?.map(BodyId),
                carried: row.get(3)?,
                form: row.get(4)?,
                due: row.get(5)?,
                tries: row.get(6)?,
                told: told.and_then(|told| serde_json::from_str(&told).ok()),
                partly: partly(row.get(8)?),
            })
        })
    }

    /// Returns the places of a case.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn places(&self, link: LinkId) -> Result<Vec<PlaceRow>> {
        let sql = "SELECT side, object, origin, seq, stood, agreed, refused, let_go FROM place WHERE link = ?
             ORDER BY side";
        self.database.rows(sql, values![link.0], |row| {
            Ok(PlaceRow {
                side: row.get(0)?,
                object: row.get::<Option<i64>>(1)?.map(ObjectId),
                origin: origin(row.get(2)?),
                seq: row.get(3)?,
                stood: row.get::<Option<i64>>(4)?.map(BodyId),
                agreed: row.get::<Option<i64>>(5)?.map(BodyId),
                refused: row.get::<Option<Vec<u8>>>(6)?.and_then(fingerprint),
                let_go: row.get(7)?,
            })
        })
    }

    /// Returns the case of a route that an object belongs to.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn link_of(&self, route: RouteId, object: ObjectId) -> Result<Option<LinkId>> {
        let sql = "SELECT link FROM place WHERE object = ? AND route = ?";
        self.database.one(sql, values![object.0, route.0], |row| Ok(LinkId(row.get(0)?)))
    }

    /// Returns cases of a route in one of these states, by number; at most `most`.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn links_in(
        &self,
        route: RouteId,
        states: &[LinkState],
        after: Option<LinkId>,
        most: usize,
    ) -> Result<Vec<LinkId>> {
        let mut all = Vec::new();
        for state in states {
            let sql = "SELECT id FROM link WHERE route = ? AND state = ? AND id > ? ORDER BY id LIMIT ?";
            let after = after.map_or(i64::MIN, |link| link.0);
            all.extend(
                self.database.rows(sql, values![route.0, state.number(), after, most], |row| {
                    Ok(LinkId(row.get(0)?))
                })?,
            );
        }
        Ok(all)
    }

    /// Returns all cases of a route, by number; at most `most`.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn links_of(&self, route: RouteId, after: Option<LinkId>, most: usize) -> Result<Vec<LinkId>> {
        let sql = "SELECT id FROM link WHERE route = ? AND id > ? ORDER BY id LIMIT ?";
        let after = after.map_or(i64::MIN, |link| link.0);
        self.database.rows(sql, values![route.0, after, most], |row| Ok(LinkId(row.get(0)?)))
    }

    /// Returns what went wrong with cases of a route and is not over: the title, and what there is to tell.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn troubles(&self, route: RouteId) -> Result<Vec<(String, Option<Told>)>> {
        let mut troubles = Vec::new();
        let states = [LinkState::Failed, LinkState::Refused, LinkState::Damaged];
        for link in self.links_in(route, &states, None, usize::MAX >> 1)? {
            let told = self.link(link)?.and_then(|row| row.told);
            troubles.push((self.title_of(link)?, told));
        }
        Ok(troubles)
    }

    /// Returns what a person would call a case.
    fn title_of(&self, link: LinkId) -> Result<String> {
        let mut name = String::new();
        for place in self.places(link)? {
            let object = place.object.map(|id| self.object(id)).transpose()?.flatten();
            if let Some(object) = &object {
                object.href.as_str().rsplit('/').next().unwrap_or_default().clone_into(&mut name);
            }
            let body = object.and_then(|object| object.body).or(place.stood);
            let text = body.map(|body| self.text(body)).transpose()?.flatten();
            let limits = chestnut_core::ical::Limits::default();
            if let Some(entry) = text.and_then(|text| chestnut_core::Entry::parse(&text, &limits).ok()) {
                return Ok(entry.title());
            }
        }
        Ok(name)
    }

    /// Returns how many cases of a route stand how: by state, by reason where they are left out, and by what copies
    /// lack.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn tally(&self, route: RouteId) -> Result<Tally> {
        let mut tally = Tally::default();
        let sql = "SELECT state, reason, partly, number FROM tally WHERE route = ? AND number > 0";
        for (state, reason, lacks, number) in self.database.rows(sql, values![route.0], |row| {
            let row: (i64, String, i64, usize) = (row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?);
            Ok(row)
        })? {
            let state = LinkState::of_number(state);
            *tally.states.entry(state).or_default() += number;
            if !reason.is_empty() {
                *tally.left_out.entry(reason).or_default() += number;
            }
            let lacks = partly(lacks);
            for (lacks, key) in [
                (lacks.without_people, "without-people"),
                (lacks.without_attachments, "without-attachments"),
                (lacks.in_unknown_zone, "in-unknown-zone"),
            ] {
                if lacks {
                    *tally.partly.entry(key.to_owned()).or_default() += number;
                }
            }
        }
        Ok(tally)
    }

    /// Returns the writes of a case that were perhaps sent.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn intents(&self, link: LinkId) -> Result<Vec<Intent>> {
        let sql = "SELECT link, side, href, sent, stood, agreed, carried, form FROM intent WHERE link = ?
             ORDER BY side";
        self.database.rows(sql, values![link.0], intent)
    }

    /// Returns what stood in the places of a case when its writes were decided.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn considered(&self, link: LinkId) -> Result<Vec<(usize, BodyId)>> {
        let sql = "SELECT side, body FROM considered WHERE link = ? ORDER BY side";
        self.database.rows(sql, values![link.0], |row| Ok((row.get(0)?, BodyId(row.get(1)?))))
    }

    /// Returns the cases of a route of which writes were perhaps sent.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn unfinished(&self, route: RouteId) -> Result<Vec<LinkId>> {
        let sql = "SELECT DISTINCT link FROM intent WHERE route = ? ORDER BY link";
        self.database.rows(sql, values![route.0], |row| Ok(LinkId(row.get(0)?)))
    }
}

/// How many cases of a route stand how.
#[derive(Debug, Clone, Default)]
pub struct Tally {
    /// By state.
    pub states: BTreeMap<LinkState, usize>,
    /// By why they are left out.
    pub left_out: BTreeMap<String, usize>,
    /// By what copies lack.
    pub partly: BTreeMap<String, usize>,
}

impl Tally {
    /// Returns how many stand so.
    #[must_use]
    pub fn of(&self, state: LinkState) -> usize {
        self.states.get(&state).copied().unwrap_or(0)
    }

    /// Returns how many were ever agreed, and still are the route's.
    #[must_use]
    pub fn linked(&self) -> usize {
        [LinkState::InStep, LinkState::Held, LinkState::Failed, LinkState::Refused, LinkState::Damaged]
            .map(|state| self.of(state))
            .iter()
            .sum()
    }
}

pub(crate) fn at_millisecond(millis: i64) -> Timestamp {
    Timestamp::from_millisecond(millis).unwrap_or_default()
}

fn object(row: &dyn Row) -> Result<Object> {
    Ok(Object {
        id: ObjectId(row.get(0)?),
        calendar: CalendarId(row.get(9)?),
        href: ObjectHref::from(row.get::<String>(1)?),
        etag: row.get::<Option<String>>(2)?.map(ETag::from),
        state: ObjectState::of_number(row.get(3)?),
        seq: row.get(4)?,
        generation: row.get(5)?,
        uid: row.get::<Option<String>>(6)?.map(EventUid::from),
        content: row.get::<Option<Vec<u8>>>(7)?.and_then(|blob| blob.try_into().ok()).map(ContentKey),
        body: row.get::<Option<i64>>(8)?.map(BodyId),
    })
}

fn intent(row: &dyn Row) -> Result<Intent> {
    let body = |column| row.get::<Option<i64>>(column).map(|id| id.map(BodyId));
    Ok(Intent {
        link: LinkId(row.get(0)?),
        side: row.get(1)?,
        href: ObjectHref::from(row.get::<String>(2)?),
        sent: body(3)?,
        stood: body(4)?,
        agreed: body(5)?,
        carried: row.get(6)?,
        form: row.get(7)?,
    })
}
