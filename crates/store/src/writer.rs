//! Writes the state, within one transaction.

use std::cell::RefCell;
use std::collections::BTreeMap;

use chestnut_core::ObjectHref;
use jiff::Timestamp;

use crate::database::{Database, Often, Value, values};
use crate::error::StoreError;
use crate::records::{
    BodyId, CalendarFacts, CalendarId, Change, HeldItem, Intent, LinkId, LinkRow, LinkState, NewObject,
    ObjectId, ObjectState, PAUSED, PlaceRow, ProbeRow, RETIRED, RouteId, RouteSummary, RunId, RunKind,
    RunResult, Text, Told, origin_number, partly_number,
};
use crate::texts::{pack, same_lines, text_of};

/// Asks whether a text is there.
pub(crate) const HAS_TEXT: &str = "SELECT 1 FROM body WHERE id = ?";

/// One transaction on the state.
#[derive(Debug)]
pub struct Writer<'c> {
    pub(crate) database: &'c Database,
    /// The numbers of change that each calendar was given here, the first and the last: nobody else writes meanwhile.
    numbers: RefCell<BTreeMap<CalendarId, [i64; 2]>>,
}

type Done = Result<(), StoreError>;

fn json(value: &impl serde::Serialize) -> String {
    serde_json::to_string(value).expect("plain values turn into JSON")
}

fn told_text(told: Option<&Told>) -> Option<String> {
    told.map(json)
}

impl<'c> Writer<'c> {
    pub(crate) fn new(database: &'c Database) -> Self {
        Self { database, numbers: RefCell::default() }
    }

    /// Writes down what is written once for all of it.
    pub(crate) fn finish(&self) -> Done {
        for (calendar, [first, last]) in self.numbers.take() {
            if last > first {
                self.run("UPDATE calendar SET seq = ? WHERE id = ?", values![last, calendar.0])?;
            }
        }
        Ok(())
    }
}

impl Writer<'_> {
    pub(crate) fn run(&self, sql: &str, values: &[Value<'_>]) -> Done {
        self.database.run(sql, values)
    }

    /// Keeps a text. Whoever asks names it in the same transaction.
    ///
    /// # Errors
    /// The state cannot be written; so for all methods here.
    pub fn keep(&self, text: &str) -> Result<BodyId, StoreError> {
        let bytes = pack(self.database, text)?;
        let sql = "INSERT INTO body (bytes) VALUES (?)";
        let id = self.database.insert_often(Often::Text, sql, values![bytes])?;
        self.database.note_recent(text, id);
        Ok(BodyId(id))
    }

    /// Keeps a text that was perhaps kept a moment ago, as what is sent is before it is read back, if with other ends of
    /// lines. It must be named before anything is let go of.
    fn keep_once(&self, text: &str) -> Result<BodyId, StoreError> {
        if let Some(id) = self.database.recent(text)
            && text_of(self.database, id)?.is_some_and(|kept| same_lines(&kept, text))
        {
            return Ok(BodyId(id));
        }
        self.keep(text)
    }

    /// Keeps a text that may be kept already.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn keep_text(&self, text: &Text) -> Result<BodyId, StoreError> {
        let Some(id) = text.id else { return self.keep(&text.text) };
        // It may have been let go of since it was read.
        match self.database.exists(HAS_TEXT, values![id.0])? {
            true => Ok(id),
            false => self.keep(&text.text),
        }
    }

    /// Finds the mirror of the calendar at a place, or adds it.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn calendar(&self, place: &str) -> Result<CalendarId, StoreError> {
        let sql = "SELECT id FROM calendar WHERE place = ?";
        let known = self.database.one(sql, values![place], |row| row.get(0))?;
        let id = match known {
            Some(id) => id,
            None => self.database.insert("INSERT INTO calendar (place) VALUES (?)", values![place])?,
        };
        Ok(CalendarId(id))
    }

    /// Says that a calendar is at another place. What was known there, and no route uses, is forgotten.
    ///
    /// # Errors
    /// The state cannot be written, or a route uses what is there.
    pub fn move_calendar(&self, calendar: CalendarId, place: &str) -> Done {
        let sql = "SELECT id FROM calendar WHERE place = ? AND id <> ?";
        let there: Option<i64> = self.database.one(sql, values![place, calendar.0], |row| row.get(0))?;
        if let Some(there) = there {
            let is_used =
                "SELECT 1 FROM place p JOIN object o ON o.id = p.object WHERE o.calendar = ? LIMIT 1";
            if self.database.exists(is_used, values![there])? {
                return Err(StoreError::NotEmpty { place: place.to_owned() });
            }
            self.run("DELETE FROM calendar WHERE id = ?", values![there])?;
        }
        self.run("UPDATE calendar SET place = ? WHERE id = ?", values![place, calendar.0])
    }

    /// Takes an object away from its href, before another has it.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn lift_href(&self, object: ObjectId) -> Done {
        // No server gives such an href.
        self.run("UPDATE object SET href = ? WHERE id = ?", values![format!(" {}", object.0), object.0])
    }

    /// Says where the calendars of a route are.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_ends(&self, route: RouteId, ends: &str) -> Done {
        self.run("UPDATE route SET ends = ? WHERE id = ?", values![ends, route.0])
    }

    /// Remembers what is known of a calendar as a whole.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_facts(&self, calendar: CalendarId, facts: &CalendarFacts) -> Done {
        self.run("UPDATE calendar SET facts = ? WHERE id = ?", values![json(facts), calendar.0])
    }

    /// Numbers a change of a calendar. The order of numbers is that of transactions.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn next_seq(&self, calendar: CalendarId) -> Result<i64, StoreError> {
        let mut numbers = self.numbers.borrow_mut();
        if let Some([_, last]) = numbers.get_mut(&calendar) {
            *last += 1;
            return Ok(*last);
        }
        let sql = "UPDATE calendar SET seq = seq + 1 WHERE id = ? RETURNING seq";
        let first = self.database.number(sql, values![calendar.0])?;
        numbers.insert(calendar, [first, first]);
        Ok(first)
    }

    /// Notes a new object; nothing may be noted at its href.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn add_object(&self, calendar: CalendarId, new: &NewObject<'_>) -> Result<ObjectId, StoreError> {
        let seq = self.next_seq(calendar)?;
        let body = new.text.map(|text| self.keep_once(text)).transpose()?;
        let id = self.database.insert_often(
            Often::Object,
            "INSERT INTO object (calendar, href, etag, state, seq, generation, uid, content, body, parent,
             first, last) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            values![
                calendar.0,
                new.href.as_str(),
                new.etag.map(|e| e.as_str()),
                new.state.number(),
                seq,
                new.generation,
                new.uid.map(|u| u.as_str()),
                new.content.map(|c| c.0.to_vec()),
                body.map(|b| b.0),
                new.parent.map(|p| p.0),
                new.span.map(|span| span.0),
                new.span.map(|span| span.1),
            ],
        )?;
        Ok(ObjectId(id))
    }

    /// Notes that an object changed.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn change_object(&self, calendar: CalendarId, id: ObjectId, new: &NewObject<'_>) -> Done {
        let seq = self.next_seq(calendar)?;
        let body = new.text.map(|text| self.keep_once(text)).transpose()?;
        self.database.run_often(
            Often::ObjectChanged,
            (id.0, 0),
            "UPDATE object SET href = ?, etag = ?, state = ?, seq = ?, generation = ?, uid = coalesce(?, uid),
             content = coalesce(?, content), body = coalesce(?, body), first = ?, last = ? WHERE id = ?",
            values![
                new.href.as_str(),
                new.etag.map(|e| e.as_str()),
                new.state.number(),
                seq,
                new.generation,
                new.uid.map(|u| u.as_str()),
                new.content.map(|c| c.0.to_vec()),
                body.map(|b| b.0),
                new.span.map(|span| span.0),
                new.span.map(|span| span.1),
                id.0,
            ],
        )
    }

    /// Notes another ETag of the same text: no change.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn same_object(
        &self,
        id: ObjectId,
        etag: Option<&chestnut_core::ETag>,
        state: ObjectState,
        generation: i64,
    ) -> Done {
        self.database.run_often(
            Often::ObjectSame,
            (id.0, 0),
            "UPDATE object SET etag = ?, state = ?, generation = ? WHERE id = ?",
            values![etag.map(|e| e.as_str()), state.number(), generation, id.0],
        )
    }

    /// Notes that an object is gone: a route that refers to it hears of it, else it is forgotten.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn bury(&self, calendar: CalendarId, id: ObjectId) -> Done {
        let is_placed = "SELECT 1 FROM place WHERE object = ? LIMIT 1";
        let has_parts = "SELECT 1 FROM part WHERE parent = ? LIMIT 1";
        if !self.database.exists(is_placed, values![id.0])?
            && !self.database.exists(has_parts, values![id.0])?
        {
            return self.run("DELETE FROM object WHERE id = ?", values![id.0]);
        }
        let seq = self.next_seq(calendar)?;
        self.run(
            "UPDATE object SET state = ?, seq = ? WHERE id = ?",
            values![ObjectState::Gone.number(), seq, id.0],
        )
    }

    /// Forgets what is gone and nobody refers to any more, mirrors that no route uses among it.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_gone(&self, calendar: CalendarId) -> Done {
        self.run(
            "DELETE FROM object INDEXED BY object_open WHERE calendar = ? AND state = 4 AND state IN (1, 2, 4)
             AND NOT EXISTS (SELECT 1 FROM place WHERE place.object = object.id)
             AND NOT EXISTS (SELECT 1 FROM part WHERE part.parent = object.id)",
            values![calendar.0],
        )
    }

    /// Remembers what an object behind a made calendar came to.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_part(
        &self,
        calendar: CalendarId,
        parent: ObjectId,
        reason: &str,
        due: Option<i64>,
        spans: &str,
    ) -> Done {
        self.run(
            "INSERT INTO part VALUES (?, ?, ?, ?, ?) ON CONFLICT (calendar, parent) DO UPDATE SET reason = excluded.reason,
             due = excluded.due, spans = excluded.spans",
            values![calendar.0, parent.0, reason, due, spans],
        )
    }

    /// Says that it cannot be told what an object behind a made calendar comes to; what it came to stays.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn mark_part(&self, calendar: CalendarId, parent: ObjectId, reason: &str, due: Option<i64>) -> Done {
        self.run(
            "INSERT INTO part (calendar, parent, reason, due) VALUES (?, ?, ?, ?)
             ON CONFLICT (calendar, parent) DO UPDATE SET reason = excluded.reason, due = excluded.due",
            values![calendar.0, parent.0, reason, due],
        )
    }

    /// Forgets what an object behind a made calendar came to.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_part(&self, calendar: CalendarId, parent: ObjectId) -> Done {
        self.run("DELETE FROM part WHERE calendar = ? AND parent = ?", values![calendar.0, parent.0])
    }

    /// Finds a route, or adds it.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn route(&self, name: &str) -> Result<RouteId, StoreError> {
        let sql = "SELECT id FROM route WHERE name = ?";
        let known = self.database.one(sql, values![name], |row| row.get(0))?;
        let id = match known {
            Some(id) => id,
            None => self.database.insert("INSERT INTO route (name) VALUES (?)", values![name])?,
        };
        Ok(RouteId(id))
    }

    /// Remembers what a route says. Another rule is owed to every case until it is done for each.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_rule(&self, route: RouteId, rule: &str, ends: &str, owe_all: bool) -> Done {
        let sql = "UPDATE route SET rule = ?, ends = ? WHERE id = ?";
        self.run(sql, values![rule, ends, route.0])?;
        if owe_all {
            // What was nobody's business may be some now.
            self.run("UPDATE link SET due = 0 WHERE route = ?", values![route.0])?;
            self.run("UPDATE route SET seen = '[]' WHERE id = ?", values![route.0])?;
        }
        Ok(())
    }

    /// Remembers up to where a route's cases were decided, and when.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_seen(&self, route: RouteId, seen: &[i64], ran_at: i64) -> Done {
        let sql = "UPDATE route SET seen = ?, ran_at = ? WHERE id = ?";
        self.run(sql, values![json(&seen), ran_at, route.0])
    }

    /// Holds a route back, or lets it go on.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_paused(&self, route: RouteId, is_paused: bool) -> Done {
        self.run("UPDATE route SET paused = ?, paused_until = NULL WHERE id = ?", values![is_paused, route.0])
    }

    /// Remembers since when a route is held back.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn note_pause(&self, route: &str, since: Timestamp) -> Done {
        self.set_meta(&format!("{PAUSED}{route}"), &since.to_string())
    }

    /// Holds a route back until a moment, in seconds since 1970.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn pause_until(&self, route: RouteId, until: i64) -> Done {
        self.run("UPDATE route SET paused = 1, paused_until = ? WHERE id = ?", values![until, route.0])
    }

    /// Calls a route otherwise: its cases, its runs and what was kept for it go on under the new name. Returns whether
    /// it did; it does nothing where no route has the old name, or one has the new name.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn rename_route(&self, old: &str, new: &str) -> Result<bool, StoreError> {
        let sql = "SELECT count(*) FROM route WHERE name = ?";
        let number = |name: &str| self.database.number(sql, values![name]);
        if number(old)? == 0 || number(new)? > 0 {
            return Ok(false);
        }
        self.run("DELETE FROM comparison WHERE route_name = ?", values![new])?;
        for table in ["run", "comparison", "probe", "kept"] {
            let sql = format!("UPDATE {table} SET route_name = ? WHERE route_name = ?");
            self.run(&sql, values![new, old])?;
        }
        let (made, was_made) = (format!("made {new}"), format!("made {old}"));
        self.run("UPDATE calendar SET place = ? WHERE place = ?", values![made, was_made])?;
        self.run("UPDATE route SET name = ? WHERE name = ?", values![new, old])?;
        // What bears the old name belongs to no other route that is called so later.
        self.set_meta(&format!("{RETIRED}{old}"), "")?;
        Ok(true)
    }

    /// Forgets a route and its cases; its runs and their texts stay, and that there was a route of this name.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_route(&self, route: RouteId) -> Done {
        self.database.takes_long();
        let sql = "SELECT name FROM route WHERE id = ?";
        if let Some(name) = self.database.one(sql, values![route.0], |row| row.get::<String>(0))? {
            self.set_meta(&format!("{RETIRED}{name}"), "")?;
        }
        let sql = "UPDATE kept SET is_closed = 1 WHERE route_name = (SELECT name FROM route WHERE id = ?)";
        self.run(sql, values![route.0])?;
        let considered = "DELETE FROM considered WHERE link IN (SELECT link FROM intent WHERE route = ?)";
        self.run(considered, values![route.0])?;
        self.run("DELETE FROM intent WHERE route = ?", values![route.0])?;
        self.run("DELETE FROM place WHERE route = ?", values![route.0])?;
        self.run("DELETE FROM link WHERE route = ?", values![route.0])?;
        let made = "DELETE FROM calendar WHERE place = (SELECT 'made ' || name FROM route WHERE id = ?)";
        self.run(made, values![route.0])?;
        self.run("DELETE FROM route WHERE id = ?", values![route.0])
    }

    /// Adds a case, or replaces what is remembered of one.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_link(&self, route: RouteId, id: Option<LinkId>, link: &LinkRow) -> Result<LinkId, StoreError> {
        let told = told_text(link.told.as_ref());
        let (state, agreed) = (link.state.number(), link.agreed.map(|b| b.0));
        let (partly, last) = (partly_number(link.partly), id.map_or(route.0, |id| id.0));
        let values = values![
            state,
            link.reason,
            agreed,
            link.carried,
            link.form,
            link.due,
            link.tries,
            told,
            partly,
            last,
        ];
        match id {
            Some(id) => {
                self.database.run_often(
                    Often::LinkChanged,
                    (id.0, 0),
                    "UPDATE link SET state = ?, reason = ?, agreed = ?, carried = ?, form = ?, due = ?, tries = ?,
                     told = ?, partly = ? WHERE id = ?",
                    values,
                )?;
                Ok(id)
            }
            None => Ok(LinkId(self.database.insert_often(
                Often::Link,
                "INSERT INTO link (state, reason, agreed, carried, form, due, tries, told, partly, route)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                values,
            )?)),
        }
    }

    /// Says when a case must be decided again.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_due(&self, link: LinkId, due: Option<i64>) -> Done {
        self.run("UPDATE link SET due = ? WHERE id = ?", values![due, link.0])
    }

    /// Remembers one place of a case.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn put_place(&self, route: RouteId, link: LinkId, place: &PlaceRow) -> Done {
        self.database.run_often(
            Often::Place,
            (link.0, place.side),
            "INSERT INTO place (link, side, route, object, origin, seq, stood, agreed, refused, let_go)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
             ON CONFLICT (link, side) DO UPDATE SET object = excluded.object, origin = excluded.origin,
             seq = excluded.seq, stood = excluded.stood, agreed = excluded.agreed, refused = excluded.refused,
             let_go = excluded.let_go",
            values![
                link.0,
                place.side,
                route.0,
                place.object.map(|o| o.0),
                origin_number(place.origin),
                place.seq,
                place.stood.map(|b| b.0),
                place.agreed.map(|b| b.0),
                place.refused.map(|f| f.0.to_vec()),
                place.let_go,
            ],
        )
    }

    /// Forgets one place of a case.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_place(&self, link: LinkId, side: usize) -> Done {
        self.run("DELETE FROM place WHERE link = ? AND side = ?", values![link.0, side])
    }

    /// Takes an object away from whatever case of a route it belongs to.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn free_object(&self, route: RouteId, object: ObjectId) -> Done {
        self.run("UPDATE place SET object = NULL WHERE object = ? AND route = ?", values![object.0, route.0])
    }

    /// Forgets a case; what stands in its places is nobody's then.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_link(&self, link: LinkId) -> Done {
        self.run("DELETE FROM intent WHERE link = ?", values![link.0])?;
        self.run("DELETE FROM considered WHERE link = ?", values![link.0])?;
        self.run("DELETE FROM place WHERE link = ?", values![link.0])?;
        self.run("DELETE FROM link WHERE id = ?", values![link.0])
    }

    /// Records that a write is about to be sent.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn intend(&self, route: RouteId, intent: &Intent) -> Done {
        self.done(intent.link, &[intent.side])?;
        self.database.run_often(
            Often::Intent,
            (intent.link.0, intent.side),
            "INSERT INTO intent (link, side, route, href, sent, stood, agreed, carried, form)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            values![
                intent.link.0,
                intent.side,
                route.0,
                intent.href.as_str(),
                intent.sent.map(|b| b.0),
                intent.stood.map(|b| b.0),
                intent.agreed.map(|b| b.0),
                intent.carried,
                intent.form,
            ],
        )
    }

    /// Records what stood in the places of a case when its writes were decided.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn consider(&self, link: LinkId, stood: &[(usize, BodyId)]) -> Done {
        for (side, body) in stood {
            self.database.run_often(
                Often::Considered,
                (link.0, *side),
                "INSERT INTO considered VALUES (?, ?, ?) ON CONFLICT (link, side) DO UPDATE SET body = excluded.body",
                values![link.0, side, body.0],
            )?;
        }
        Ok(())
    }

    /// Records that the outcome of the writes to some sides is known and remembered.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn done(&self, link: LinkId, sides: &[usize]) -> Done {
        for side in sides {
            let (about, sql) = ((link.0, *side), "DELETE FROM intent WHERE link = ? AND side = ?");
            self.database.run_often(Often::NoIntent, about, sql, values![link.0, side])?;
        }
        let sql = "DELETE FROM considered WHERE link = ?
             AND NOT EXISTS (SELECT 1 FROM intent WHERE intent.link = considered.link)";
        self.database.run_often(Often::NothingConsidered, (link.0, 0), sql, values![link.0])
    }

    /// Adds something that waits for a person, or brings what is said of it up to date. What they decided, and its
    /// number, stay. `link` is `None` for the deletions of a route, all together: they are asked for anew, since they
    /// are held again only where more came on top of what was decided.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn hold(&self, route: RouteId, item: &HeldItem) -> Done {
        let link = item.link.map(|link| link.0);
        let same = "route = ?1 AND link IS NOT DISTINCT FROM ?2";
        let changed = self.database.changed(
            &format!(
                "UPDATE held SET title = ?3, start = ?4, details = ?5,
                 decision = CASE WHEN link IS NULL THEN NULL ELSE decision END WHERE {same}"
            ),
            values![route.0, link, item.title, item.start, item.details],
        )?;
        if changed > 0 {
            return Ok(());
        }
        let sql = "INSERT INTO held (route, link, since, title, start, details) VALUES (?, ?, ?, ?, ?, ?)";
        let values = values![route.0, link, item.since, item.title, item.start, item.details];
        self.database.insert(sql, values).map(drop)
    }

    /// Forgets something that waited for a person.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn let_through(&self, route: RouteId, link: Option<LinkId>) -> Done {
        let Some(link) = link else {
            return self.run("DELETE FROM held WHERE route = ? AND link IS NULL", values![route.0]);
        };
        let sql = "DELETE FROM held WHERE route = ? AND link = ?";
        self.database.run_often(Often::NotHeld, (link.0, 0), sql, values![route.0, link.0])
    }

    /// Remembers what a person decided; what it is about is due at once.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn decide(&self, id: i64, decision: &str) -> Done {
        self.run("UPDATE held SET decision = ? WHERE id = ?", values![decision, id])?;
        self.run("UPDATE link SET due = 0 WHERE id IN (SELECT link FROM held WHERE id = ?)", values![id])
    }

    /// Forgets what a person decided, while no run has acted on it.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn take_decision_back(&self, id: i64) -> Done {
        self.run("UPDATE held SET decision = NULL WHERE id = ?", values![id])
    }

    /// Begins a run.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn begin_run(&self, route: &str, now: Timestamp, kind: RunKind) -> Result<RunId, StoreError> {
        let sql = "INSERT INTO run (route_name, started, kind) VALUES (?, ?, ?)";
        Ok(RunId(self.database.insert(sql, values![route, now.as_millisecond(), kind.word()])?))
    }

    /// Lets a case that was taken back be decided like any other again. With `gives`, which says of each calendar whether
    /// the route takes from it, every calendar is owed what the sources say; without, it is in step but for what
    /// changed since.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn lift(&self, link: LinkId, gives: Option<&[bool]>) -> Done {
        let sql = "UPDATE link SET state = ?, reason = '', due = 0 WHERE id = ?";
        self.run(sql, values![LinkState::Failed.number(), link.0])?;
        for (side, gives) in gives.unwrap_or_default().iter().enumerate() {
            let agreed = if *gives { "stood" } else { "NULL" };
            let sql = format!("UPDATE place SET agreed = {agreed} WHERE link = ? AND side = ?");
            self.run(&sql, values![link.0, side])?;
        }
        Ok(())
    }

    /// Keeps what stands in a calendar before a route first writes there, by reference; once.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn keep_calendar(&self, route: &str, name: &str, calendar: CalendarId, at: Timestamp) -> Done {
        let sql = "SELECT 1 FROM kept WHERE route_name = ? AND calendar = ? AND is_closed = 0";
        if self.database.exists(sql, values![route, name])? {
            return Ok(());
        }
        let sql = "INSERT INTO kept (route_name, calendar, at) VALUES (?, ?, ?)";
        let kept = self.database.insert(sql, values![route, name, at.as_millisecond()])?;
        let sql = "INSERT INTO kept_entry (kept, href, body)
             SELECT CAST(? AS BIGINT), href, body FROM object WHERE calendar = ? AND state = 0 AND body IS NOT NULL";
        self.run(sql, values![kept, calendar.0])
    }

    /// Ends a run.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn finish_run(&self, run: RunId, now: Timestamp, result: RunResult, summary: &RouteSummary) -> Done {
        let sql = "UPDATE run SET finished = ?, result = ?, summary = ? WHERE id = ?";
        self.run(sql, values![now.as_millisecond(), result.word(), json(summary), run.0])
    }

    /// Notes when a run of a route went well.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn went_well(&self, route: RouteId, at: Timestamp) -> Done {
        self.run("UPDATE route SET well_at = ? WHERE id = ?", values![at.as_millisecond(), route.0])
    }

    /// Forgets a run of which there is nothing to tell: nobody asked for it, nothing was changed, and it came to what
    /// the last one came to. Its number is given again where none has come since.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_if_nothing(&self, run: RunId, route: &str, now: RunResult, summary: &RouteSummary) -> Done {
        let sql = "SELECT 1 FROM change WHERE run = ? LIMIT 1";
        let has_changes = self.database.exists(sql, values![run.0])?;
        let sql = "SELECT result, summary FROM run WHERE route_name = ? AND id < ? AND kind <> 'probe'
             ORDER BY id DESC LIMIT 1";
        let before = self.database.one(sql, values![route, run.0], |row| {
            Ok((row.get::<Option<String>>(0)?, row.get::<String>(1)?))
        })?;
        let Some((result, before)) = before.filter(|_| !has_changes) else { return Ok(()) };
        let before: RouteSummary = serde_json::from_str(&before).unwrap_or_default();
        // What was told once of a failure that lasts is told.
        let is_same = result.as_deref() == Some(now.word()) && before.error == summary.error;
        if !is_same || before.left_out != summary.left_out {
            return Ok(());
        }
        self.run("DELETE FROM run WHERE id = ?", values![run.0])?;
        self.database.give_run_back(run.0)
    }

    /// Remembers something of the state as a whole.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_meta(&self, name: &str, value: &str) -> Done {
        let sql = "INSERT INTO meta VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value";
        self.run(sql, values![name, value])
    }

    /// Adds a line to a run's story.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn add_change(&self, run: RunId, change: &Change) -> Done {
        let keep = |text: &Option<Text>| text.as_ref().map(|text| self.keep_text(text)).transpose();
        let (before, after) = (keep(&change.before)?, keep(&change.after)?);
        self.database.insert_often(
            Often::Change,
            "INSERT INTO change (run, calendar, action, href, uid, title, start, told, before, after, link)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            values![
                run.0,
                change.calendar,
                change.action.word(),
                change.href.as_str(),
                change.uid.as_str(),
                change.title,
                change.start,
                told_text(change.told.as_ref()),
                before.map(|b| b.0),
                after.map(|b| b.0),
                change.link.map(|link| link.0),
            ],
        )?;
        Ok(())
    }

    /// Keeps where a calendar was found by its name.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn keep_address(&self, account: &str, name: &str, url: &str, found: Timestamp) -> Done {
        let sql = "INSERT INTO address (account, name, url, found) VALUES (?, ?, ?, ?)
             ON CONFLICT (account, name) DO UPDATE SET url = excluded.url, found = excluded.found";
        self.run(sql, values![account, name, url, found.as_second()])
    }

    /// Forgets where a calendar was found.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_address(&self, account: &str, name: &str) -> Done {
        self.run("DELETE FROM address WHERE account = ? AND name = ?", values![account, name])
    }

    /// Notes that a test entry is about to stand somewhere.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn note_probe(&self, row: &ProbeRow) -> Done {
        let sql = "INSERT INTO probe (route_name, calendar, href, since, starts) VALUES (?, ?, ?, ?, ?) ON CONFLICT DO NOTHING";
        let (since, starts) = (row.since.as_second(), row.starts.as_second());
        self.run(sql, values![row.route, row.calendar, row.href.as_str(), since, starts])
    }

    /// Forgets a test entry that is gone.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn forget_probe(&self, route: &str, calendar: &str, href: &ObjectHref) -> Done {
        let sql = "DELETE FROM probe WHERE route_name = ? AND calendar = ? AND href = ?";
        self.run(sql, values![route, calendar, href.as_str()])
    }

    /// Remembers what the last comparison of a route came to.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn set_comparison(&self, route: &str, at: Timestamp, facts: &str) -> Done {
        let sql = "INSERT INTO comparison (route_name, at, facts) VALUES (?, ?, ?)
             ON CONFLICT (route_name) DO UPDATE SET at = excluded.at, facts = excluded.facts";
        self.run(sql, values![route, at.as_millisecond(), facts])
    }

    /// Forgets runs, and the texts kept with them, that ended before a moment.
    ///
    /// # Errors
    /// The state cannot be written.
    pub fn prune_history(&self, before: Timestamp) -> Done {
        self.database.takes_long();
        self.run("DELETE FROM run WHERE started < ?", values![before.as_millisecond()])?;
        self.run("DELETE FROM kept WHERE at < ?", values![before.as_millisecond()])
    }
}
