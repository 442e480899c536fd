//! Opens the state and reads it.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use chestnut_core::{ContentKey, ETag, EventUid, LinkFacts, ObjectHref};
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension as _, Row, named_params, params};

use crate::error::StoreError;
use crate::migrate::migrate;
use crate::records::{
    Agreed, Change, ChangeAction, HeldItem, Known, LinkId, LinkRow, Recheck, ReplicaRow, ReplicaTexts,
    RouteId, RunId, RunRecord, RunResult, SideId, SideState, fingerprint, partly,
};
use crate::texts::{unpack, unpack_agreed, unpack_replicas};
use crate::writer::Writer;

type Gate = Box<dyn FnMut() -> bool>;

/// The state of an installation.
pub struct Store {
    pub(crate) connection: Connection,
    path: PathBuf,
    gate: RefCell<Option<Gate>>,
}

impl std::fmt::Debug for Store {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Store").field("path", &self.path).finish_non_exhaustive()
    }
}

const KNOWN_COLUMNS: &str = "href, etag, uid, content, title, left_out, again, link, next, over";

impl Store {
    /// Opens the state, making it where there is none, and brings it to the present format.
    ///
    /// # Errors
    /// [`StoreError::Newer`], [`StoreError::Unreadable`], [`StoreError::Open`] or [`StoreError::Full`].
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        let open_error = |problem: String| StoreError::Open { path: path.to_owned(), problem };
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
        if let Some(folder) = folder {
            std::fs::create_dir_all(folder).map_err(|e| open_error(e.to_string()))?;
        }
        keep_private(path);
        let mut connection = Connection::open(path).map_err(|e| open_error(e.to_string()))?;
        connection.busy_timeout(Duration::from_secs(20))?;
        connection.set_prepared_statement_cache_capacity(64);
        let wal = connection.pragma_update(None, "journal_mode", "WAL");
        wal.map_err(|e| match StoreError::from(e) {
            StoreError::Sqlite(e) if is_foreign(&e) => {
                StoreError::Unreadable { path: path.to_owned(), problem: e.to_string() }
            }
            other => other,
        })?;
        // A run that is cut off by a power cut is found again by reading back; WAL keeps the file whole.
        connection.pragma_update(None, "synchronous", "NORMAL")?;
        connection.pragma_update(None, "foreign_keys", true)?;
        migrate(&mut connection, path)?;
        Ok(Self { connection, path: path.to_owned(), gate: RefCell::new(None) })
    }

    /// Makes a state that is kept nowhere, for looking without a trace.
    ///
    /// # Errors
    /// SQLite cannot start.
    pub fn in_memory() -> Result<Self, StoreError> {
        let mut connection = Connection::open_in_memory()?;
        connection.set_prepared_statement_cache_capacity(64);
        connection.pragma_update(None, "foreign_keys", true)?;
        let path = PathBuf::from(":memory:");
        migrate(&mut connection, &path)?;
        Ok(Self { connection, path, gate: RefCell::new(None) })
    }

    /// Returns where the state is kept.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Asks `gate` before every transaction; where it says no, the transaction fails as if the process had been
    /// killed there. For tests of runs that are cut off.
    pub fn set_gate(&self, gate: impl FnMut() -> bool + 'static) {
        *self.gate.borrow_mut() = Some(Box::new(gate));
    }

    /// Runs `work` in one transaction: all of it is kept, or nothing.
    ///
    /// # Errors
    /// What `work` returns, or the disk is full.
    pub fn write<T>(&self, work: impl FnOnce(&Writer<'_>) -> Result<T, StoreError>) -> Result<T, StoreError> {
        if self.gate.borrow_mut().as_mut().is_some_and(|gate| !gate()) {
            return Err(StoreError::CutOff);
        }
        let transaction = self.connection.unchecked_transaction()?;
        let result = work(&Writer { connection: &transaction })?;
        transaction.commit()?;
        Ok(result)
    }

    /// Finds a route that has run before.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn route(&self, name: &str) -> Result<Option<RouteId>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT id FROM route WHERE name = ?")?;
        Ok(query.query_row([name], |row| row.get(0).map(RouteId)).optional()?)
    }

    /// Returns the settings and the calendars a route last ran with; both empty before its first run.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn route_settings(&self, route: RouteId) -> Result<(String, String), StoreError> {
        let mut query =
            self.connection.prepare_cached("SELECT settings, endpoints FROM route WHERE id = ?")?;
        Ok(query.query_row([route.0], |row| Ok((row.get(0)?, row.get(1)?)))?)
    }

    /// Returns what is remembered of one calendar of a route.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn side(&self, route: RouteId, side: SideId) -> Result<SideState, StoreError> {
        let mut query =
            self.connection.prepare_cached("SELECT state FROM side WHERE route = ? AND side = ?")?;
        let text: Option<String> =
            query.query_row(params![route.0, side.number()], |row| row.get(0)).optional()?;
        // A state that this version cannot read is as good as none: the calendar is read afresh.
        Ok(text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default())
    }

    /// Returns what is known of one href.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn known(
        &self,
        route: RouteId,
        side: SideId,
        href: &ObjectHref,
    ) -> Result<Option<Known>, StoreError> {
        let found = self.known_where(route, side, "known", "href = :value", href.as_str())?;
        Ok(found.into_iter().next())
    }

    /// Returns the entries with this UID; more than one where a calendar breaks the rules.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn known_by_uid(
        &self,
        route: RouteId,
        side: SideId,
        uid: &EventUid,
    ) -> Result<Vec<Known>, StoreError> {
        self.known_where(route, side, "known INDEXED BY known_uid", "uid = :value", uid.as_str())
    }

    /// Returns the entries without link that have this content.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn unlinked_by_content(
        &self,
        route: RouteId,
        side: SideId,
        content: ContentKey,
    ) -> Result<Vec<Known>, StoreError> {
        let table = "known INDEXED BY known_content";
        self.known_where(route, side, table, "link IS NULL AND content = :value", content.0)
    }

    /// Tells whether a calendar has more known entries than `count`, without counting them all.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn knows_more_than(&self, route: RouteId, side: SideId, count: usize) -> Result<bool, StoreError> {
        let sql = "SELECT 1 FROM known WHERE route = ? AND side = ? LIMIT 1 OFFSET ?";
        let mut query = self.connection.prepare_cached(sql)?;
        Ok(query.exists(params![route.0, side.number(), count])?)
    }

    /// Returns the entries that the next run must look at again.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn known_again(&self, route: RouteId, side: SideId) -> Result<Vec<Known>, StoreError> {
        let table = "known INDEXED BY known_again";
        self.known_where(route, side, table, "again > 0 AND :value IS NULL", None::<i64>)
    }

    /// Returns the entries of a calendar that come into a window which ends before `end`, in seconds since 1970.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn coming_in(&self, route: RouteId, side: SideId, end: i64) -> Result<Vec<Known>, StoreError> {
        self.known_where(route, side, "known INDEXED BY known_next", "next < :value", end)
    }

    /// Returns the linked entries of the source that are over before a window which begins at `start`.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn over_before(&self, route: RouteId, start: i64) -> Result<Vec<Known>, StoreError> {
        let (table, side) = ("known INDEXED BY known_over", SideId::Source);
        self.known_where(route, side, table, "over <= :value AND link IS NOT NULL", start)
    }

    /// Counts the copies that do not bring everything along, by what they lack.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn partly_counts(&self, route: RouteId) -> Result<BTreeMap<String, usize>, StoreError> {
        let sql = "SELECT partly, count(*) FROM link WHERE route = ? AND partly > 0 GROUP BY partly";
        let mut query = self.connection.prepare_cached(sql)?;
        let mut counts = BTreeMap::new();
        for row in query.query_map([route.0], |row| Ok((row.get(0)?, row.get(1)?)))? {
            let (number, count): (i64, usize) = row?;
            let lacks = partly(number);
            for (name, lacks) in
                [("without-people", lacks.without_people), ("without-attachments", lacks.without_attachments)]
            {
                if lacks {
                    *counts.entry(name.to_owned()).or_default() += count;
                }
            }
        }
        Ok(counts)
    }

    /// Returns the entries that are left out, with their calendar, for those who ask for names.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn left_out(&self, route: RouteId) -> Result<Vec<(SideId, Known)>, StoreError> {
        let mut left_out = Vec::new();
        let replicas = (0..self.replica_sides(route)?).map(SideId::Replica);
        let table = "known INDEXED BY known_left_out";
        for side in [SideId::Source, SideId::Underlying].into_iter().chain(replicas.skip(1)) {
            let found =
                self.known_where(route, side, table, "left_out IS NOT NULL AND :value IS NULL", None::<i64>)?;
            left_out.extend(found.into_iter().map(|known| (side, known)));
        }
        Ok(left_out)
    }

    /// `table` names the index: left to itself, SQLite walks the primary key past every entry where an index holds
    /// but the few that are asked for.
    fn known_where(
        &self,
        route: RouteId,
        side: SideId,
        table: &str,
        condition: &str,
        value: impl rusqlite::ToSql,
    ) -> Result<Vec<Known>, StoreError> {
        let sql = format!(
            "SELECT {KNOWN_COLUMNS} FROM {table} WHERE route = :route AND side = :side AND {condition}"
        );
        let mut query = self.connection.prepare_cached(&sql)?;
        let bound = named_params! { ":route": route.0, ":side": side.number(), ":value": value };
        let rows = query.query_map(bound, known_row)?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Calls `visit` with every known entry of a calendar, in the order of hrefs, without holding them all.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn each_known(
        &self,
        route: RouteId,
        side: SideId,
        mut visit: impl FnMut(Known),
    ) -> Result<(), StoreError> {
        let sql = format!("SELECT {KNOWN_COLUMNS} FROM known WHERE route = ? AND side = ? ORDER BY href");
        let mut query = self.connection.prepare_cached(&sql)?;
        for row in query.query_map(params![route.0, side.number()], known_row)? {
            visit(row?);
        }
        Ok(())
    }

    /// Returns the entry on the given side of a link.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn linked(&self, link: LinkId, side: SideId) -> Result<Option<Known>, StoreError> {
        let sql = format!("SELECT {KNOWN_COLUMNS} FROM known WHERE link = ? AND side = ?");
        let mut query = self.connection.prepare_cached(&sql)?;
        Ok(query.query_row(params![link.0, side.number()], known_row).optional()?)
    }

    /// Returns a link.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn link(&self, link: LinkId) -> Result<Option<LinkRow>, StoreError> {
        let sql = "SELECT source_uid, target_uid, view, far, refused, words, partly FROM link WHERE id = ?";
        let mut query = self.connection.prepare_cached(sql)?;
        Ok(query.query_row([link.0], link_row).optional()?)
    }

    /// Returns the last agreed texts of a link; `None` where they are lost, and must be read.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn agreed(&self, link: LinkId) -> Result<Option<Agreed>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT texts FROM agreed WHERE link = ?")?;
        let blob: Option<Vec<u8>> = query.query_row([link.0], |row| row.get(0)).optional()?;
        Ok(blob.and_then(|blob| unpack_agreed(&blob)))
    }

    /// Returns a link's parts in the calendars of a two-way route.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn replicas(&self, link: LinkId) -> Result<BTreeMap<u8, ReplicaRow>, StoreError> {
        let sql = "SELECT side, uid, refused, let_go FROM replica WHERE link = ?";
        let mut query = self.connection.prepare_cached(sql)?;
        let rows = query.query_map([link.0], |row| {
            let refused = row.get::<_, Option<Vec<u8>>>(2)?.and_then(fingerprint);
            let replica = ReplicaRow { uid: EventUid::from(text(row, 1)?), refused, let_go: row.get(3)? };
            Ok((row.get(0)?, replica))
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Returns what was agreed of an entry of a two-way route; `None` where it is lost.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn replica_texts(&self, link: LinkId) -> Result<Option<ReplicaTexts>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT texts FROM replica_texts WHERE link = ?")?;
        let blob: Option<Vec<u8>> = query.query_row([link.0], |row| row.get(0)).optional()?;
        Ok(blob.and_then(|blob| unpack_replicas(&blob)))
    }

    /// Returns the names of all routes that the state knows.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn route_names(&self) -> Result<Vec<String>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT name FROM route ORDER BY name")?;
        Ok(query.query_map([], |row| row.get(0))?.collect::<Result<_, _>>()?)
    }

    /// Tells whether a person holds a route back.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn is_paused(&self, route: RouteId) -> Result<bool, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT paused FROM route WHERE id = ?")?;
        Ok(query.query_row([route.0], |row| row.get(0))?)
    }

    /// Finds the link of an entry of a two-way route by its UID.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn link_by_uid(&self, route: RouteId, uid: &EventUid) -> Result<Option<LinkId>, StoreError> {
        let sql = "SELECT id FROM link WHERE route = ? AND source_uid = ?";
        let mut query = self.connection.prepare_cached(sql)?;
        Ok(query.query_row(params![route.0, uid.as_str()], |row| row.get(0).map(LinkId)).optional()?)
    }

    fn replica_sides(&self, route: RouteId) -> Result<u8, StoreError> {
        let sql = "SELECT count(*) FROM side WHERE route = ? AND side < 1000";
        Ok(self.connection.prepare_cached(sql)?.query_row([route.0], |row| row.get(0))?)
    }

    /// Returns what waits for a person, of one route or of all, in the order of its numbers.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn held(&self, route: Option<RouteId>) -> Result<Vec<HeldItem>, StoreError> {
        let sql = "SELECT held.id, route.name, link, since, title, start, details, decision
                   FROM held JOIN route ON route.id = held.route WHERE ?1 IS NULL OR route.id = ?1 ORDER BY held.id";
        let mut query = self.connection.prepare_cached(sql)?;
        let rows = query.query_map([route.map(|r| r.0)], |row| {
            Ok(HeldItem {
                id: row.get(0)?,
                route: row.get(1)?,
                link: row.get::<_, Option<i64>>(2)?.map(LinkId),
                since: row.get(3)?,
                title: row.get(4)?,
                start: row.get(5)?,
                details: row.get(6)?,
                decision: row.get(7)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Tells how many links a route has.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn link_count(&self, route: RouteId) -> Result<usize, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT links FROM route WHERE id = ?")?;
        Ok(query.query_row([route.0], |row| row.get(0))?)
    }

    /// Returns the links that the far server damaged or refused, each with its words and the source's title.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn link_troubles(&self, route: RouteId) -> Result<Vec<(String, String)>, StoreError> {
        let sql =
            "SELECT coalesce((SELECT title FROM known WHERE known.link = link.id AND side = 0), ''), words
                   FROM link WHERE route = ? AND words IS NOT NULL ORDER BY id";
        let mut query = self.connection.prepare_cached(sql)?;
        let rows = query.query_map([route.0], |row| Ok((row.get(0)?, row.get(1)?)))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Counts the entries of the source that are left out, by reason.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn left_out_counts(&self, route: RouteId) -> Result<BTreeMap<String, usize>, StoreError> {
        let sql =
            "SELECT left_out, count(*) FROM known WHERE route = ? AND left_out IS NOT NULL GROUP BY left_out";
        let mut query = self.connection.prepare_cached(sql)?;
        let rows = query.query_map([route.0], |row| Ok((row.get(0)?, row.get(1)?)))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Returns writes of a run that was cut off: perhaps sent, perhaps not.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn unfinished_writes(&self, route: RouteId) -> Result<Vec<(ObjectHref, EventUid)>, StoreError> {
        let mut query =
            self.connection.prepare_cached("SELECT href, source_uid FROM journal WHERE route = ?")?;
        let rows = query.query_map([route.0], |row| {
            Ok((ObjectHref::from(text(row, 0)?), EventUid::from(text(row, 1)?)))
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Returns the newest runs, newest first; of one route, or of all.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn runs(&self, route: Option<&str>, at_most: usize) -> Result<Vec<RunRecord>, StoreError> {
        let sql = "SELECT run.id, route.name, started, finished, result, summary FROM run
                   JOIN route ON route.id = run.route
                   WHERE ?1 IS NULL OR route.name = ?1 ORDER BY run.id DESC LIMIT ?2";
        let mut query = self.connection.prepare_cached(sql)?;
        let rows = query.query_map(params![route, at_most], run_row)?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// Returns one run.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn run(&self, run: RunId) -> Result<Option<RunRecord>, StoreError> {
        let sql = "SELECT run.id, route.name, started, finished, result, summary FROM run
                   JOIN route ON route.id = run.route WHERE run.id = ?";
        Ok(self.connection.prepare_cached(sql)?.query_row([run.0], run_row).optional()?)
    }

    /// Returns the newest run of a route that ended well.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn last_success(&self, route: &str) -> Result<Option<RunRecord>, StoreError> {
        let sql = "SELECT run.id, route.name, started, finished, result, summary FROM run
                   JOIN route ON route.id = run.route
                   WHERE route.name = ? AND result = 'ok' ORDER BY run.id DESC LIMIT 1";
        Ok(self.connection.prepare_cached(sql)?.query_row([route], run_row).optional()?)
    }

    /// Returns what a run did, in order.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn changes(&self, run: RunId) -> Result<Vec<Change>, StoreError> {
        let sql = "SELECT calendar, action, href, uid, title, start, words, before FROM change
                   WHERE run = ? ORDER BY id";
        let mut query = self.connection.prepare_cached(sql)?;
        let rows = query.query_map([run.0], |row| {
            let action = text(row, 1)?;
            Ok(Change {
                calendar: row.get(0)?,
                action: ChangeAction::ALL
                    .into_iter()
                    .find(|a| a.word() == action)
                    .unwrap_or(ChangeAction::Failed),
                href: ObjectHref::from(text(row, 2)?),
                uid: EventUid::from(text(row, 3)?),
                title: row.get(4)?,
                start: row.get(5)?,
                words: row.get(6)?,
                before: row.get::<_, Option<Vec<u8>>>(7)?.and_then(|blob| unpack(&blob)),
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }
}

/// The state holds titles: only its owner may read it. A file that exists keeps the rights it has.
fn keep_private(path: &Path) {
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        // Where this fails, opening the database fails too, and says why.
        drop(std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path));
    }
    #[cfg(not(unix))]
    {
        let _ = path;
    }
}

fn is_foreign(error: &rusqlite::Error) -> bool {
    use rusqlite::ErrorCode::{DatabaseCorrupt, NotADatabase};
    matches!(error.sqlite_error_code(), Some(NotADatabase | DatabaseCorrupt))
}

fn text(row: &Row<'_>, column: usize) -> rusqlite::Result<String> {
    row.get(column)
}

fn known_row(row: &Row<'_>) -> rusqlite::Result<Known> {
    Ok(Known {
        href: ObjectHref::from(text(row, 0)?),
        etag: row.get::<_, Option<String>>(1)?.map(ETag::from),
        uid: row.get::<_, Option<String>>(2)?.map(EventUid::from),
        content: row.get::<_, Option<Vec<u8>>>(3)?.and_then(|blob| blob.try_into().ok()).map(ContentKey),
        title: row.get(4)?,
        left_out: row.get(5)?,
        recheck: Recheck::from_number(row.get(6)?),
        link: row.get::<_, Option<i64>>(7)?.map(LinkId),
        next: row.get(8)?,
        over: row.get(9)?,
    })
}

fn link_row(row: &Row<'_>) -> rusqlite::Result<LinkRow> {
    let print = |column| row.get::<_, Option<Vec<u8>>>(column).map(|blob| blob.and_then(fingerprint));
    let damaged = || rusqlite::Error::InvalidColumnType(2, "view".into(), rusqlite::types::Type::Blob);
    Ok(LinkRow {
        source_uid: EventUid::from(text(row, 0)?),
        target_uid: EventUid::from(text(row, 1)?),
        facts: LinkFacts { view: print(2)?.ok_or_else(damaged)?, far: print(3)?, refused: print(4)? },
        words: row.get(5)?,
        partly: partly(row.get(6)?),
    })
}

fn run_row(row: &Row<'_>) -> rusqlite::Result<RunRecord> {
    let at = |millis: i64| Timestamp::from_millisecond(millis).unwrap_or_default();
    let result: Option<String> = row.get(4)?;
    Ok(RunRecord {
        id: RunId(row.get(0)?),
        route: row.get(1)?,
        started: at(row.get(2)?),
        finished: row.get::<_, Option<i64>>(3)?.map(at),
        result: result.map(|word| {
            let known = RunResult::ALL.into_iter().find(|r| r.word() == word);
            known.unwrap_or(RunResult::Failed)
        }),
        summary: serde_json::from_str(&text(row, 5)?).unwrap_or_default(),
    })
}
