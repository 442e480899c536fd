//! The runs, what they changed, and what waits for a person.

use std::collections::BTreeSet;

use chestnut_core::{EventUid, ObjectHref};
use jiff::Timestamp;

use crate::database::{Row, values};
use crate::error::StoreError;
use crate::lease::route_lease;
use crate::records::{
    BodyId, Change, ChangeAction, HeldItem, KeptCalendar, LinkId, PastChange, ProbeRow, RouteId,
    RouteSummary, RunId, RunKind, RunRecord, RunResult, Text, Wrote,
};
use crate::store::{Store, at_millisecond};

type Result<T> = std::result::Result<T, StoreError>;

const RUN: &str = "id, route_name, started, finished, result, summary, kind";
const HELD: &str = "SELECT held.id, route.name, held.link, held.since, held.title, held.start, held.details,
     held.decision FROM held JOIN route ON route.id = held.route";

impl Store {
    /// Returns the last runs, the newest first; of one route, if it is named.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn runs(&self, route: Option<&str>, most: usize) -> Result<Vec<RunRecord>> {
        self.runs_of(route, most, false)
    }

    /// Returns the last runs, and with `all` those too that only carried a test entry.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn runs_of(&self, route: Option<&str>, most: usize, all: bool) -> Result<Vec<RunRecord>> {
        let of = if all { "1" } else { "kind <> 'probe'" };
        let mut runs = match route {
            Some(name) => self.database.rows(
                &format!("SELECT {RUN} FROM run WHERE route_name = ? AND {of} ORDER BY id DESC LIMIT ?"),
                values![name, most],
                run,
            ),
            None => self.database.rows(
                &format!("SELECT {RUN} FROM run WHERE {of} ORDER BY id DESC LIMIT ?"),
                values![most],
                run,
            ),
        }?;
        let mut seen = BTreeSet::new();
        for run in &mut runs {
            if seen.insert(run.route.clone()) && run.finished.is_none() {
                run.is_running = self.holder(&route_lease(&run.route))?.is_some();
            }
        }
        Ok(runs)
    }

    /// Tells whether the last run of a route, test entries left out, did not come to its end: it failed as a whole, or
    /// whoever ran it was cut off.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn broke_off(&self, route: &str) -> Result<bool> {
        let sql = "SELECT result, CASE result WHEN 'failed' THEN summary END FROM run
             WHERE route_name = ? AND kind <> 'probe' ORDER BY id DESC LIMIT 1";
        let last = self.database.one(sql, values![route], |row| {
            Ok((row.get::<Option<String>>(0)?, row.get::<Option<String>>(1)?))
        })?;
        match last {
            Some((None, _)) => Ok(self.holder(&route_lease(route))?.is_none()),
            Some((_, Some(summary))) => {
                let summary: RouteSummary = serde_json::from_str(&summary).unwrap_or_default();
                Ok(summary.error.is_some())
            }
            _ => Ok(false),
        }
    }

    /// Returns the runs that began then or later, those that only carried a test entry left out; the newest first.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn runs_since(&self, since: Timestamp) -> Result<Vec<RunRecord>> {
        let sql = format!("SELECT {RUN} FROM run WHERE started >= ? AND kind <> 'probe' ORDER BY id DESC");
        self.database.rows(&sql, values![since.as_millisecond()], run)
    }

    /// Returns one run.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn run(&self, id: RunId) -> Result<Option<RunRecord>> {
        self.database.one(&format!("SELECT {RUN} FROM run WHERE id = ?"), values![id.0], run)
    }

    /// Returns what a run changed, in its order, with the texts that stood there before.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn changes(&self, id: RunId) -> Result<Vec<Change>> {
        let sql = "SELECT calendar, action, href, uid, title, start, told, before, after, link FROM change
             WHERE run = ? ORDER BY id";
        let rows = self.database.rows(sql, values![id.0], |row| {
            let word: String = row.get(1)?;
            let told: Option<String> = row.get(6)?;
            let change = Change {
                calendar: row.get(0)?,
                action: ChangeAction::of_word(&word),
                href: ObjectHref::from(row.get::<String>(2)?),
                uid: EventUid::from(row.get::<String>(3)?),
                title: row.get(4)?,
                start: row.get(5)?,
                told: told.and_then(|told| serde_json::from_str(&told).ok()),
                before: None,
                after: None,
                link: row.get::<Option<i64>>(9)?.map(LinkId),
            };
            let body = |column| row.get::<Option<i64>>(column).map(|id| id.map(BodyId));
            Ok((change, body(7)?, body(8)?))
        })?;
        let text = |body: Option<BodyId>| -> Result<Option<Text>> {
            let text = body.map(|body| self.text(body)).transpose()?.flatten();
            Ok(text.map(|text| Text { id: body, text }))
        };
        rows.into_iter()
            .map(|(change, before, after)| {
                Ok(Change { before: text(before)?, after: text(after)?, ..change })
            })
            .collect()
    }

    /// Returns what stood in a calendar before a route first wrote there, and when that was.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn kept_before(&self, route: &str, calendar: &str) -> Result<Option<KeptCalendar>> {
        let sql = "SELECT id, at FROM kept WHERE route_name = ? AND calendar = ? ORDER BY id DESC LIMIT 1";
        let read = |row: &dyn Row| Ok((row.get::<i64>(0)?, at_millisecond(row.get(1)?)));
        let Some((kept, at)) = self.database.one(sql, values![route, calendar], read)? else {
            return Ok(None);
        };
        let sql = "SELECT href, body FROM kept_entry WHERE kept = ? ORDER BY href";
        let rows = self.database.rows(sql, values![kept], |row| {
            Ok((ObjectHref::from(row.get::<String>(0)?), BodyId(row.get(1)?)))
        })?;
        let mut entries = Vec::new();
        for (href, body) in rows {
            entries.extend(self.text(body)?.map(|text| (href, text)));
        }
        Ok(Some(KeptCalendar { at, entries }))
    }

    /// Returns what runs wrote and deleted after one run, the oldest first.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn writes_after(&self, id: RunId) -> Result<Vec<Wrote>> {
        let words = ChangeAction::ALL.into_iter().filter(|action| action.is_write());
        let words: Vec<_> = words.map(|action| format!("'{}'", action.word())).collect();
        let sql = format!(
            "SELECT c.run, r.route_name, c.calendar, c.href, c.after FROM change c JOIN run r ON r.id = c.run
             WHERE c.run > ? AND c.action IN ({}) ORDER BY c.run, c.id",
            words.join(", ")
        );
        self.database.rows(&sql, values![id.0], |row| {
            Ok(Wrote {
                run: RunId(row.get(0)?),
                route: row.get(1)?,
                calendar: row.get(2)?,
                href: ObjectHref::from(row.get::<String>(3)?),
                after: row.get::<Option<i64>>(4)?.map(BodyId),
            })
        })
    }

    /// Returns the test entries that stand, or may stand, somewhere.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn probes(&self) -> Result<Vec<ProbeRow>> {
        let sql =
            "SELECT route_name, calendar, href, since, starts FROM probe ORDER BY route_name, calendar, href";
        self.database.rows(sql, &[], |row| {
            Ok(ProbeRow {
                route: row.get(0)?,
                calendar: row.get(1)?,
                href: ObjectHref::from(row.get::<String>(2)?),
                since: Timestamp::from_second(row.get(3)?).unwrap_or_default(),
                starts: Timestamp::from_second(row.get(4)?).unwrap_or_default(),
            })
        })
    }

    /// Calls `each` for what runs did, the newest first, until it says that it has enough.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn each_change(&self, mut each: impl FnMut(PastChange) -> bool) -> Result<()> {
        let sql =
            "SELECT c.run, r.route_name, r.started, c.calendar, c.action, c.href, c.uid, c.title, c.start
             FROM change c JOIN run r ON r.id = c.run WHERE r.kind <> 'probe' ORDER BY c.run DESC, c.id DESC";
        self.database.each(sql, &[], |row| {
            Ok(each(PastChange {
                run: RunId(row.get(0)?),
                route: row.get(1)?,
                at: at_millisecond(row.get(2)?),
                calendar: row.get(3)?,
                action: ChangeAction::of_word(&row.get::<String>(4)?),
                href: ObjectHref::from(row.get::<String>(5)?),
                uid: EventUid::from(row.get::<String>(6)?),
                title: row.get(7)?,
                start: row.get(8)?,
            }))
        })
    }

    /// Returns what the last comparison of a route came to, and when that was.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn comparison(&self, route: &str) -> Result<Option<(Timestamp, String)>> {
        self.database.one("SELECT at, facts FROM comparison WHERE route_name = ?", values![route], |row| {
            Ok((at_millisecond(row.get(0)?), row.get(1)?))
        })
    }

    /// Returns what waits for a person, of one route or of all.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn held(&self, route: Option<RouteId>) -> Result<Vec<HeldItem>> {
        match route {
            Some(id) => self.database.rows(
                &format!("{HELD} WHERE held.route = ? ORDER BY held.id"),
                values![id.0],
                held,
            ),
            None => self.database.rows(&format!("{HELD} ORDER BY held.id"), &[], held),
        }
    }

    /// Returns what waits for a person about one case.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn held_about(&self, link: LinkId) -> Result<Option<HeldItem>> {
        self.database.one(&format!("{HELD} WHERE held.link = ?"), values![link.0], held)
    }
}

fn run(row: &dyn Row) -> Result<RunRecord> {
    let result: Option<String> = row.get(4)?;
    let summary: String = row.get(5)?;
    Ok(RunRecord {
        id: RunId(row.get(0)?),
        route: row.get(1)?,
        kind: RunKind::of_word(&row.get::<String>(6)?),
        started: at_millisecond(row.get(2)?),
        finished: row.get::<Option<i64>>(3)?.map(at_millisecond),
        is_running: false,
        result: result
            .map(|word| RunResult::ALL.into_iter().find(|r| r.word() == word).unwrap_or(RunResult::Failed)),
        summary: serde_json::from_str(&summary).unwrap_or_default(),
    })
}

fn held(row: &dyn Row) -> Result<HeldItem> {
    Ok(HeldItem {
        id: row.get(0)?,
        route: row.get(1)?,
        link: row.get::<Option<i64>>(2)?.map(LinkId),
        since: row.get(3)?,
        title: row.get(4)?,
        start: row.get(5)?,
        details: row.get(6)?,
        decision: row.get(7)?,
    })
}
