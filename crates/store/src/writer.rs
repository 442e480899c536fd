//! Writes the state, within one transaction.

use chestnut_core::{EventUid, ObjectHref};
use jiff::Timestamp;
use rusqlite::{Connection, params};

use crate::error::StoreError;
use crate::records::{
    Agreed, Change, HeldItem, Known, LinkId, LinkRow, ReplicaRow, ReplicaTexts, RouteId, RouteSummary, RunId,
    RunResult, SideId, SideState, partly_number,
};
use crate::texts::{pack, pack_agreed, pack_replicas};

/// One transaction on the state.
#[derive(Debug)]
pub struct Writer<'c> {
    pub(crate) connection: &'c Connection,
}

type Done = Result<(), StoreError>;

impl Writer<'_> {
    fn run(&self, sql: &str, values: impl rusqlite::Params) -> Done {
        self.connection.prepare_cached(sql)?.execute(values)?;
        Ok(())
    }

    /// Finds a route, or adds it.
    ///
    /// # Errors
    /// The state cannot be written; so for all methods here.
    pub fn route(&self, name: &str) -> Result<RouteId, StoreError> {
        self.run("INSERT INTO route (name) VALUES (?) ON CONFLICT DO NOTHING", [name])?;
        let id =
            self.connection.query_row("SELECT id FROM route WHERE name = ?", [name], |row| row.get(0))?;
        Ok(RouteId(id))
    }

    /// Remembers the settings and the calendars a route runs with.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_route_settings(&self, route: RouteId, settings: &str, endpoints: &str) -> Done {
        self.run(
            "UPDATE route SET settings = ?, endpoints = ? WHERE id = ?",
            params![settings, endpoints, route.0],
        )
    }

    /// Holds a route back, or lets it go on.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_paused(&self, route: RouteId, is_paused: bool) -> Done {
        self.run("UPDATE route SET paused = ? WHERE id = ?", params![is_paused, route.0])
    }

    /// Forgets a route, with all that is remembered of it.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_route(&self, route: RouteId) -> Done {
        self.run("DELETE FROM route WHERE id = ?", [route.0])
    }

    /// Remembers what is known of a calendar as a whole.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_side(&self, route: RouteId, side: SideId, state: &SideState) -> Done {
        let text = serde_json::to_string(state).expect("plain values turn into JSON");
        self.run("INSERT OR REPLACE INTO side VALUES (?, ?, ?)", params![route.0, side.number(), text])
    }

    /// Remembers an entry.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_known(&self, route: RouteId, side: SideId, known: &Known) -> Done {
        self.run(
            "INSERT OR REPLACE INTO known (route, side, href, etag, uid, content, title, left_out, again, link,
             next, over) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            params![
                route.0,
                side.number(),
                known.href.as_str(),
                known.etag.as_ref().map(|e| e.as_str()),
                known.uid.as_ref().map(EventUid::as_str),
                known.content.map(|c| c.0.to_vec()),
                known.title,
                known.left_out,
                known.recheck.number(),
                known.link.map(|l| l.0),
                known.next,
                known.over,
            ],
        )
    }

    /// Remembers where a link's entry stands on one side, and forgets where it stood there before.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_linked(&self, route: RouteId, side: SideId, link: LinkId, known: &Known) -> Done {
        self.forget_place(side, link)?;
        self.put_known(route, side, &Known { link: Some(link), ..known.clone() })
    }

    /// Forgets an entry.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_known(&self, route: RouteId, side: SideId, href: &ObjectHref) -> Done {
        let sql = "DELETE FROM known WHERE route = ? AND side = ? AND href = ?";
        self.run(sql, params![route.0, side.number(), href.as_str()])
    }

    /// Has the next run read an entry again, whether or not it is known yet.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn read_again(&self, route: RouteId, side: SideId, href: &ObjectHref) -> Done {
        self.run(
            "INSERT INTO known (route, side, href, again) VALUES (?, ?, ?, 1)
             ON CONFLICT DO UPDATE SET again = 1",
            params![route.0, side.number(), href.as_str()],
        )
    }

    /// Adds a link, or replaces what is remembered of one.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_link(&self, route: RouteId, id: Option<LinkId>, link: &LinkRow) -> Result<LinkId, StoreError> {
        let facts = &link.facts;
        self.run(
            "INSERT INTO link (id, route, source_uid, target_uid, view, far, refused, words, partly)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)
             ON CONFLICT (id) DO UPDATE SET source_uid = excluded.source_uid, target_uid = excluded.target_uid,
             view = excluded.view, far = excluded.far, refused = excluded.refused, words = excluded.words,
             partly = excluded.partly",
            params![
                id.map(|id| id.0),
                route.0,
                link.source_uid.as_str(),
                link.target_uid.as_str(),
                facts.view.0.to_vec(),
                facts.far.map(|f| f.0.to_vec()),
                facts.refused.map(|f| f.0.to_vec()),
                link.words,
                partly_number(link.partly),
            ],
        )?;
        Ok(id.unwrap_or_else(|| LinkId(self.connection.last_insert_rowid())))
    }

    /// Remembers the last agreed texts of a link.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_agreed(&self, link: LinkId, agreed: &Agreed) -> Done {
        self.run("INSERT OR REPLACE INTO agreed VALUES (?, ?)", params![link.0, pack_agreed(agreed)])
    }

    /// Remembers one calendar's part in a link.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_replica(&self, link: LinkId, side: u8, row: &ReplicaRow) -> Done {
        self.run(
            "INSERT OR REPLACE INTO replica VALUES (?, ?, ?, ?, ?)",
            params![link.0, side, row.uid.as_str(), row.refused.map(|f| f.0.to_vec()), row.let_go],
        )
    }

    /// Remembers what was agreed of an entry of a two-way route.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_replica_texts(&self, link: LinkId, texts: &ReplicaTexts) -> Done {
        let sql = "INSERT OR REPLACE INTO replica_texts VALUES (?, ?)";
        self.run(sql, params![link.0, pack_replicas(texts)])
    }

    /// Adds something that waits for a person, or brings what is said of it up to date. What they decided, and its
    /// number, stay. `link` is `None` for the deletions of a route, all together: they are asked for anew, since they
    /// are held again only where more came on top of what was decided.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn hold(&self, route: RouteId, item: &HeldItem) -> Done {
        let link = item.link.map(|link| link.0);
        let same = "route = ?1 AND link IS ?2";
        let changed = self
            .connection
            .prepare_cached(&format!(
                "UPDATE held SET title = ?3, start = ?4, details = ?5,
                 decision = CASE WHEN link IS NULL THEN NULL ELSE decision END WHERE {same}"
            ))?
            .execute(params![route.0, link, item.title, item.start, item.details])?;
        if changed > 0 {
            return Ok(());
        }
        self.run(
            "INSERT INTO held (route, link, since, title, start, details) VALUES (?, ?, ?, ?, ?, ?)",
            params![route.0, link, item.since, item.title, item.start, item.details],
        )
    }

    /// Forgets something that waited for a person.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn let_through(&self, route: RouteId, link: Option<LinkId>) -> Done {
        let sql = "DELETE FROM held WHERE route = ? AND link IS ?";
        self.run(sql, params![route.0, link.map(|link| link.0)])
    }

    /// Remembers what a person decided. Returns whether there was such a number.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn decide(&self, id: i64, decision: &str) -> Result<bool, StoreError> {
        let mut update = self.connection.prepare_cached("UPDATE held SET decision = ? WHERE id = ?")?;
        Ok(update.execute(params![decision, id])? > 0)
    }

    /// Forgets a link; what stands on both sides is nobody's then.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_link(&self, link: LinkId) -> Done {
        self.run("UPDATE known SET link = NULL WHERE link = ?", [link.0])?;
        self.run("DELETE FROM link WHERE id = ?", [link.0])
    }

    /// Forgets where a link's entry stands on one side.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_place(&self, side: SideId, link: LinkId) -> Done {
        self.run("DELETE FROM known WHERE link = ? AND side = ?", params![link.0, side.number()])
    }

    /// Begins a run.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn begin_run(&self, route: RouteId, now: Timestamp) -> Result<RunId, StoreError> {
        self.run("INSERT INTO run (route, started) VALUES (?, ?)", params![route.0, now.as_millisecond()])?;
        Ok(RunId(self.connection.last_insert_rowid()))
    }

    /// Ends a run.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn finish_run(&self, run: RunId, now: Timestamp, result: RunResult, summary: &RouteSummary) -> Done {
        let text = serde_json::to_string(summary).expect("plain values turn into JSON");
        let sql = "UPDATE run SET finished = ?, result = ?, summary = ? WHERE id = ?";
        self.run(sql, params![now.as_millisecond(), result.word(), text, run.0])
    }

    /// Adds a line to a run's story.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn add_change(&self, run: RunId, change: &Change) -> Done {
        self.run(
            "INSERT INTO change (run, calendar, action, href, uid, title, start, words, before)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            params![
                run.0,
                change.calendar,
                change.action.word(),
                change.href.as_str(),
                change.uid.as_str(),
                change.title,
                change.start,
                change.words,
                change.before.as_deref().map(pack),
            ],
        )
    }

    /// Records that a write is about to be sent.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn intend(&self, route: RouteId, href: &ObjectHref, source: &EventUid) -> Done {
        let sql = "INSERT OR REPLACE INTO journal VALUES (?, ?, ?)";
        self.run(sql, params![route.0, href.as_str(), source.as_str()])
    }

    /// Records that the outcome of a write is known and remembered.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn done(&self, route: RouteId, href: &ObjectHref) -> Done {
        self.run("DELETE FROM journal WHERE route = ? AND href = ?", params![route.0, href.as_str()])
    }

    /// Forgets runs, and the texts kept with them, that ended before a moment.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn prune_history(&self, before: Timestamp) -> Done {
        self.run("DELETE FROM run WHERE started < ?", [before.as_millisecond()])
    }
}
