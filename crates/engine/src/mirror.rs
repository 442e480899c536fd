//! Brings the mirror of a calendar up to what the calendar holds now, by the cheapest means its server offers. The
//! only code that reads calendars.
//!
//! ETag and text of an object are written together, and a token last: a look that is cut off goes on next time. Two
//! may look at once: a change that somebody else noted meanwhile is never overwritten by an older answer.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::rc::Rc;
use std::time::Duration;

use chestnut_caldav::Fetched;
use chestnut_caldav::protocol::{Listed, Listing, SyncAnswer};
use chestnut_core::ical::Limits;
use chestnut_core::{ContentKey, ETag, Entry, ObjectHref, Scheduling, SyncToken};
use chestnut_store::{
    CalendarFacts, CalendarId, NewObject, Object, ObjectState, Store, StoreError, Writer, same_lines,
};
use futures_util::stream::{self, StreamExt as _};
use jiff::{SignedDuration, Timestamp};
use tokio::sync::Mutex;
use tokio::time::timeout;

use crate::ahead;
use crate::case::rough_span;
use crate::error::RunError;
use crate::rule::CalendarEnd;

/// A token or ctag this young may hide another change in the same second.
const SETTLED_AFTER: i64 = 2;
/// So many entries are read faster than sorted.
const WORTH_A_QUESTION: usize = 200;
/// So many entries are listed without a thought.
const FEW: usize = 20;
/// Three days, in seconds.
const MARGIN: i64 = 3 * 86_400;
/// Objects noted in one transaction.
const BATCH: usize = 400;

/// The listing of a calendar with more entries takes tens of megabytes while it is read.
const LONG: usize = 20_000;
/// Long listings come one after another, however many routes and accounts want one: a process has one memory.
static LONG_LISTINGS: Mutex<()> = Mutex::const_new(());
/// How long one waits for another.
const LONGEST_TURN: Duration = Duration::from_secs(10);

/// What was looked at in one round, by place; also in vain: nobody asks there twice.
#[derive(Debug, Clone, Default)]
pub struct Round(Rc<RefCell<BTreeMap<String, Result<Refreshed, RunError>>>>);

impl Round {
    /// Returns why a calendar could not be looked at in this round; `None` where it was, or nobody has tried.
    #[must_use]
    pub fn failure(&self, end: &CalendarEnd) -> Option<RunError> {
        let looked = self.0.borrow().get(&end.calendar.place()).cloned();
        looked.and_then(Result::err).map(|error| end.own(error))
    }
}

/// A mirror that is up to date.
#[derive(Debug, Clone)]
pub(crate) struct Refreshed {
    pub(crate) facts: CalendarFacts,
    /// The server's clock, in seconds since 1970.
    pub(crate) date: Option<i64>,
}

/// How thoroughly to look.
#[derive(Debug, Clone)]
pub(crate) struct Look {
    pub(crate) now: Timestamp,
    pub(crate) afresh: bool,
    pub(crate) full_look_every: SignedDuration,
    /// Entries that are over before this moment need not be read; `None`: all are.
    pub(crate) needed_from: Option<i64>,
    pub(crate) round: Round,
}

impl Look {
    /// A look outside of any route.
    pub(crate) fn once(now: Timestamp, needed_from: Option<i64>) -> Self {
        let full_look_every = SignedDuration::from_hours(24);
        Self { now, afresh: false, full_look_every, needed_from, round: Round::default() }
    }
}

/// One calendar and its mirror.
pub(crate) struct Mirror<'r> {
    store: &'r Store,
    pub(crate) end: CalendarEnd,
    pub(crate) id: CalendarId,
    facts: RefCell<CalendarFacts>,
    date: Cell<Option<i64>>,
    /// Whether this run wrote there since the last look: a token that moved is no surprise.
    wrote: Cell<bool>,
}

/// What the server says has changed, before anything is fetched.
#[derive(Debug, Default)]
struct Noted {
    touched: BTreeMap<ObjectHref, Option<ETag>>,
    gone: BTreeSet<ObjectHref>,
    token: Option<SyncToken>,
    ctag: Option<SyncToken>,
    date: Option<i64>,
}

impl Noted {
    fn touch(&mut self, listed: impl IntoIterator<Item = Listed>) {
        self.touched.extend(listed.into_iter().map(|l| (l.href, l.etag)));
    }
}

impl<'r> Mirror<'r> {
    /// Finds the mirror of a calendar, or begins it.
    pub(crate) fn of(store: &'r Store, end: &CalendarEnd) -> Result<Self, RunError> {
        let place = end.calendar.place();
        let known = store.mirror(&place)?;
        let (id, facts) = match known {
            Some(known) => (known.id, known.facts),
            None => (store.write(|writer| writer.calendar(&place))?, CalendarFacts::default()),
        };
        Ok(Self {
            store,
            end: end.clone(),
            id,
            facts: RefCell::new(facts),
            date: Cell::new(None),
            wrote: Cell::new(false),
        })
    }

    pub(crate) fn facts(&self) -> CalendarFacts {
        self.facts.borrow().clone()
    }

    /// Tells whether its server ignores conditions; `None` where nobody knows yet.
    pub(crate) fn ignores_conditions(&self) -> Option<bool> {
        self.facts.borrow().ignores_conditions
    }

    pub(crate) fn date(&self) -> Option<i64> {
        self.date.get()
    }

    /// Changes what is known of the calendar as a whole.
    pub(crate) fn note(&self, change: impl FnOnce(&mut CalendarFacts)) -> Result<(), RunError> {
        let mut facts = self.facts();
        change(&mut facts);
        if facts != *self.facts.borrow() {
            self.store.write(|writer| writer.set_facts(self.id, &facts))?;
            *self.facts.borrow_mut() = facts;
        }
        Ok(())
    }

    /// The number of the last change that was noted.
    pub(crate) fn seq(&self) -> Result<i64, RunError> {
        Ok(self.store.last_change(&self.end.calendar.place())?.map_or(0, |(_, seq)| seq))
    }

    /// Looks at the calendar, unless that was done in this round.
    pub(crate) async fn refresh(&self, look: &Look) -> Result<(), RunError> {
        let place = self.end.calendar.place();
        let known = look.round.0.borrow().get(&place).cloned();
        let is_enough = |known: &Refreshed| match (known.facts.unread_before, look.needed_from) {
            (Some(unread), Some(needed)) => needed >= unread,
            (Some(_), None) => false,
            (None, _) => true,
        };
        match known {
            Some(Ok(known)) if is_enough(&known) => {
                *self.facts.borrow_mut() = known.facts;
                self.date.set(known.date);
            }
            Some(Err(error)) => return Err(self.end.own(error)),
            _ => self.look(look, &[]).await.inspect_err(|error| {
                look.round.0.borrow_mut().insert(place, Err(error.clone()));
            })?,
        }
        if self.end.takes && self.facts.borrow().writable == Some(false) {
            let (calendar, account) = (self.end.name.clone(), self.end.account.clone());
            return Err(RunError::ReadOnly { calendar, account });
        }
        self.remember(look);
        Ok(())
    }

    fn remember(&self, look: &Look) {
        let refreshed = Refreshed { facts: self.facts(), date: self.date.get() };
        look.round.0.borrow_mut().insert(self.end.calendar.place(), Ok(refreshed));
    }

    /// Looks once more after a run's own writes, so that the next run does not take them for news. `deleted` must no
    /// longer be listed.
    pub(crate) async fn look_after_writes(
        &self,
        look: &Look,
        deleted: &[ObjectHref],
    ) -> Result<(), RunError> {
        let again = Look { afresh: false, ..look.clone() };
        self.look(&again, deleted).await?;
        self.remember(look);
        Ok(())
    }

    async fn look(&self, look: &Look, deleted: &[ObjectHref]) -> Result<(), RunError> {
        let now = look.now.as_second();
        let began_with = self.facts();
        let mut facts = began_with.clone();
        let noted_seq = self.seq()?;
        if self.end.calendar.is_missing() && self.store.holds_more_than(self.id, 0)? {
            return Err(self.end.failed(self.end.calendar.missing_error()));
        }
        // A moment that is still to come was noted under a wrong clock.
        let checked = facts.checked_at.filter(|at| *at <= now);
        let due = checked.is_none_or(|at| at.saturating_add(look.full_look_every.as_secs()) <= now);
        let whole = due || look.afresh || !facts.read;
        if whole {
            self.learn_capabilities(&mut facts).await?;
        }
        let mut noted = self.note_changes(&mut facts, look.afresh, due).await?;
        if !deleted.is_empty() {
            let mut still = false;
            let ahead = ahead::at(self.store, self.id, deleted)?;
            for href in deleted.iter().filter(|href| !noted.gone.contains(*href)) {
                still |= self.store.object_at(self.id, href)?.is_some();
            }
            drop(ahead);
            if still {
                let listed = self.note_by_listing(&mut facts).await?;
                noted.gone.extend(listed.gone);
                noted.touched.extend(listed.touched);
            }
        }
        if whole {
            facts.checked_at = Some(now);
        }
        let mut unsure = BTreeSet::new();
        for href in self.store.hrefs_in(self.id, ObjectState::ToFetch)? {
            if !noted.gone.contains(&href) && !noted.touched.contains_key(&href) {
                noted.touched.insert(href.clone(), None);
                unsure.insert(href);
            }
        }
        if facts.unread_before.is_some_and(|unread| look.needed_from.is_none_or(|needed| needed < unread)) {
            for href in self.store.hrefs_in(self.id, ObjectState::Unread)? {
                noted.touched.entry(href).or_default();
            }
            facts.unread_before = None;
        }
        if !facts.read {
            self.set_long_past_aside(&mut noted, look.needed_from, &mut facts).await?;
        }
        let changed = !noted.touched.is_empty() || !noted.gone.is_empty();
        if changed && facts.read && !look.afresh {
            facts.changed_at = Some(now);
        }
        // Also where it only said that nothing changed.
        self.date.set(self.end.calendar.server_clock().or(self.date.get()));
        let hrefs: Vec<_> = noted.touched.keys().cloned().collect();
        let missing = match self.end.calendar.is_partial() {
            true => self.replace(&noted.gone, &hrefs, noted_seq).await?,
            false => {
                self.bury(&noted.gone, noted_seq)?;
                self.fetch(&hrefs, Reading::listed(noted_seq)).await?
            }
        };
        // What is not given may come when it is asked for once more: another calendar may be about to get it anew.
        let missed = match hrefs.is_empty() && noted.gone.is_empty() {
            true => Vec::new(),
            false => self.store.hrefs_in(self.id, ObjectState::ToFetch)?,
        };
        if !missed.is_empty() && missed.len() <= FEW {
            self.fetch(&missed, Reading::listed(i64::MAX)).await?;
        }
        // Nothing is there, and nothing said lately that there was: the listing tells whether it is gone.
        unsure.retain(|href| missing.contains(href));
        if !unsure.is_empty() {
            let gone = self.compare(self.listing().await?)?.0.gone;
            self.bury(&unsure.intersection(&gone).cloned().collect(), noted_seq)?;
        }
        settle(&mut facts, &noted, changed, self.end.calendar.has_final_ctags());
        if !facts.read {
            facts.first_read_at = Some(now);
        }
        facts.read = true;
        facts.known = self.end.calendar.known().or(facts.known.take());
        facts.tags_schedules |= self.end.calendar.tags_schedules();
        facts.habits.clone_from(&self.facts.borrow().habits);
        if facts.sync_token != began_with.sync_token || facts.ctag != began_with.ctag {
            facts.generation = began_with.generation + 1;
        }
        self.wrote.set(false);
        if facts == began_with {
            return Ok(());
        }
        let place = self.end.calendar.place();
        self.store.write(|writer| {
            let known = self.store.mirror(&place)?.map(|mirror| mirror.facts).unwrap_or_default();
            // Somebody else looked meanwhile: their token is newer than what this look began with.
            if known.sync_token == began_with.sync_token && known.ctag == began_with.ctag {
                writer.set_facts(self.id, &facts)?;
            }
            writer.forget_gone(self.id)
        })?;
        *self.facts.borrow_mut() = facts;
        Ok(())
    }

    async fn learn_capabilities(&self, facts: &mut CalendarFacts) -> Result<(), RunError> {
        let found = self.end.calendar.abilities().await.map_err(|e| self.end.failed(e))?;
        facts.writable = found.writable;
        facts.ignores_conditions = facts.ignores_conditions.or(found.keeps_conditions.map(|keeps| !keeps));
        facts.sync_reports = found.sync_reports;
        facts.kinds = found.kinds.iter().map(|k| k.component_name().to_owned()).collect();
        facts.max_size = found.max_size;
        (facts.schedules, facts.addresses) = match found.scheduling {
            Scheduling::Never => (false, None),
            Scheduling::Anybody => (true, None),
            Scheduling::For(addresses) => (true, Some(addresses)),
        };
        facts.auto_schedules = found.auto_schedules;
        Ok(())
    }

    async fn note_changes(
        &self,
        facts: &mut CalendarFacts,
        afresh: bool,
        due: bool,
    ) -> Result<Noted, RunError> {
        if afresh || !facts.read {
            let (mut noted, same) = self.compare(self.listing().await?)?;
            // Of a look that was cut off, what was read has its ETag.
            if afresh {
                noted.touch(same);
            }
            return Ok(noted);
        }
        if due || facts.provisional {
            return self.note_by_listing(facts).await;
        }
        if let (true, Some(token)) = (facts.sync_reports, facts.sync_token.clone()) {
            return self.note_by_report(facts, &SyncToken::from(token)).await;
        }
        if let Some(ctag) = &facts.ctag {
            let now = self.end.calendar.ctag(&SyncToken::from(ctag.as_str())).await;
            let now = now.map_err(|e| self.end.failed(e))?;
            if now.as_ref().is_some_and(|now| now.as_str() == ctag) {
                return Ok(Noted { ctag: now, ..Noted::default() });
            }
        }
        self.note_by_listing(facts).await
    }

    async fn listing(&self) -> Result<Listing, RunError> {
        if self.end.calendar.is_partial() {
            self.end.calendar.recall(self.standing()?);
        }
        let _turn = match self.store.holds_more_than(self.id, LONG)? {
            // Whoever answers slowly does not keep the others waiting.
            true => timeout(LONGEST_TURN, LONG_LISTINGS.lock()).await.ok(),
            false => None,
        };
        self.end.calendar.listing().await.map_err(|e| self.end.failed(e))
    }

    /// What is known to stand there.
    fn standing(&self) -> Result<Vec<Entry>, RunError> {
        let mut entries = Vec::new();
        for object in self.store.objects_between(self.id, i64::MIN, i64::MAX)? {
            let text = object.body.map(|body| self.store.text(body)).transpose()?.flatten();
            entries.extend(text.and_then(|text| Entry::parse(&text, &Limits::default()).ok()));
        }
        Ok(entries)
    }

    /// Compares the whole listing with what is known, without holding what is known. Returns what is the same beside it.
    fn compare(&self, listing: Listing) -> Result<(Noted, Vec<Listed>), RunError> {
        let mut listed = listing.entries;
        listed.sort_by(|a, b| a.href.cmp(&b.href));
        // One may be named twice: its last word counts.
        listed.dedup_by(|later, first| {
            later.href == first.href && {
                std::mem::swap(later, first);
                true
            }
        });
        let mut is_same = vec![false; listed.len()];
        let mut gone = BTreeSet::new();
        self.store.each_object(self.id, |href, etag, _, _| {
            match listed.binary_search_by(|listed| listed.href.cmp(&href)) {
                // Without an ETag there is no telling: it is read.
                Ok(at) => is_same[at] = etag.is_some() && listed[at].etag == etag,
                Err(_) => drop(gone.insert(href)),
            }
        })?;
        let mut is_same = is_same.into_iter();
        let touched = listed.extract_if(.., |_| !is_same.next().unwrap_or_default());
        let touched = touched.map(|listed| (listed.href, listed.etag)).collect();
        let noted =
            Noted { touched, gone, token: listing.sync_token, ctag: listing.ctag, date: listing.date };
        Ok((noted, listed))
    }

    async fn note_by_listing(&self, facts: &mut CalendarFacts) -> Result<Noted, RunError> {
        let (mut noted, same) = self.compare(self.listing().await?)?;
        let nothing_seen = noted.touched.is_empty() && noted.gone.is_empty();
        let moved = |then: &Option<String>, now: &Option<SyncToken>| matches!((then, now), (Some(then), Some(now)) if then != now.as_str());
        if facts.sync_reports && moved(&facts.sync_token, &noted.token) {
            // An entry that was deleted and made anew may have its old ETag: only the report tells.
            let token = SyncToken::from(facts.sync_token.clone().unwrap_or_default());
            let answer = self.end.calendar.changes_since(&token).await;
            if let SyncAnswer::Changes { changed, .. } = answer.map_err(|e| self.end.failed(e))? {
                let listed: BTreeSet<_> = same.iter().map(|l| &l.href).chain(noted.touched.keys()).collect();
                let changed = changed.into_iter().filter(|c| listed.contains(&c.href)).collect();
                let news = self.news(changed, facts.generation)?;
                noted.touch(news);
            }
        } else if nothing_seen && moved(&facts.ctag, &noted.ctag) && !self.wrote.get() {
            // The ctag says that something changed, no ETag says what, and it was not this run.
            noted.touch(same);
        }
        Ok(noted)
    }

    /// Of what is said to have changed, what was not read since the token in hand.
    fn news(&self, changed: Vec<Listed>, generation: i64) -> Result<Vec<Listed>, RunError> {
        let mut news = Vec::new();
        let _ahead = ahead::at(self.store, self.id, changed.iter().map(|listed| &listed.href))?;
        for listed in changed {
            let known = self.store.object_at(self.id, &listed.href)?;
            let is_known = known.is_some_and(|known| {
                known.state == ObjectState::Present
                    && known.generation == generation
                    && known.etag.is_some()
                    && known.etag == listed.etag
            });
            if !is_known {
                news.push(listed);
            }
        }
        Ok(news)
    }

    /// Tells whether a report names an entry of a small calendar that has not changed.
    fn is_small_and_repeats(&self, changed: &[Listed]) -> Result<bool, RunError> {
        if changed.is_empty() || self.store.holds_more_than(self.id, FEW)? {
            return Ok(false);
        }
        let etag = |href| self.store.object_at(self.id, href).map(|known| known.and_then(|known| known.etag));
        for listed in changed.iter().filter(|listed| listed.etag.is_some()) {
            if etag(&listed.href)? == listed.etag {
                return Ok(true);
            }
        }
        Ok(false)
    }

    async fn note_by_report(&self, facts: &mut CalendarFacts, token: &SyncToken) -> Result<Noted, RunError> {
        let answer = self.end.calendar.changes_since(token).await;
        match answer.map_err(|e| self.end.failed(e))? {
            SyncAnswer::TokenRefused => {
                (facts.sync_token, facts.ctag) = (None, None);
                self.note_by_listing(facts).await
            }
            SyncAnswer::Unsupported => {
                facts.sync_reports = false;
                self.note_by_listing(facts).await
            }
            SyncAnswer::Changes { changed, removed, token: new, date, .. } => {
                let moved = new.as_ref().is_some_and(|new| new != token);
                let suspicious = match changed.is_empty() && removed.is_empty() {
                    // A small calendar that was emptied: everything, and no removals, is nothing.
                    true => moved && !self.store.holds_more_than(self.id, FEW)?,
                    false => !self.store.holds_more_than(self.id, changed.len() * 2)?,
                };
                let mut noted = Noted { token: new, date, ..Noted::default() };
                // In a small calendar, half is soon less than what is gone: what has not changed tells of such an answer.
                let suspicious = suspicious
                    || removed.is_empty() && !self.wrote.get() && self.is_small_and_repeats(&changed)?;
                let changed = self.news(changed, facts.generation)?;
                // Some servers answer a token they have forgotten with everything and no removals. Where half of
                // the calendar is said to have changed, a listing tells what is gone.
                if suspicious && !(self.wrote.get() && changed.is_empty() && removed.is_empty()) {
                    noted.gone = self.compare(self.listing().await?)?.0.gone;
                }
                noted.touch(changed);
                noted.gone.extend(removed);
                Ok(noted)
            }
        }
    }

    /// Takes out what need not be read: of a long calendar, its server tells which single events are long over.
    /// They never come in again unless they change.
    async fn set_long_past_aside(
        &self,
        noted: &mut Noted,
        needed_from: Option<i64>,
        facts: &mut CalendarFacts,
    ) -> Result<(), RunError> {
        // A window without beginning needs everything.
        let Some(start) = needed_from.filter(|start| *start > -86_400 * 365 * 200) else { return Ok(()) };
        if noted.touched.len() < WORTH_A_QUESTION {
            return Ok(());
        }
        // Zones and days are the window's own business: the server's word counts a good while before it.
        let Ok(before) = Timestamp::from_second(start - MARGIN) else { return Ok(()) };
        let Some(past) = self.end.calendar.long_past(before).await else { return Ok(()) };
        let aside: Vec<(ObjectHref, Option<ETag>)> = past
            .into_iter()
            .filter_map(|href| noted.touched.remove(&href).map(|etag| (href, etag)))
            .collect();
        facts.unread_before = (!aside.is_empty()).then_some(start);
        for batch in aside.chunks(BATCH) {
            self.store.write(|writer| {
                let _ahead = ahead::at(self.store, self.id, batch.iter().map(|(href, _)| href))?;
                for (href, etag) in batch {
                    if self.store.object_at(self.id, href)?.is_none() {
                        let new = NewObject { etag: etag.as_ref(), ..bare(href, ObjectState::Unread) };
                        writer.add_object(self.id, &new)?;
                    }
                }
                Ok(())
            })?;
        }
        Ok(())
    }

    /// Gone is what was known, and was not noted anew since the answer was asked for.
    fn bury(&self, gone: &BTreeSet<ObjectHref>, noted_seq: i64) -> Result<(), RunError> {
        let gone: Vec<_> = gone.iter().collect();
        for batch in gone.chunks(BATCH) {
            self.store.write(|writer| self.bury_these(writer, batch, noted_seq))?;
        }
        Ok(())
    }

    fn bury_these(
        &self,
        writer: &Writer<'_>,
        gone: &[&ObjectHref],
        noted_seq: i64,
    ) -> Result<(), StoreError> {
        let _ahead = ahead::at(self.store, self.id, gone.iter().copied())?;
        for href in gone {
            match self.store.object_at(self.id, href)? {
                Some(known) if known.seq > noted_seq => self.doubt(writer, &known)?,
                Some(known) => writer.bury(self.id, known.id)?,
                None => {}
            }
        }
        Ok(())
    }

    /// Reads a calendar that goes on where it says nothing with what was known before: all of it at once, since a look
    /// that was cut off in the middle would have forgotten some of that.
    async fn replace(
        &self,
        gone: &BTreeSet<ObjectHref>,
        hrefs: &[ObjectHref],
        noted_seq: i64,
    ) -> Result<BTreeSet<ObjectHref>, RunError> {
        let fetched = self.end.calendar.fetch(hrefs).await.map_err(|e| self.end.failed(e))?;
        let (fetched, gone) = (in_order(fetched), gone.iter().collect::<Vec<_>>());
        self.store.write(|writer| {
            self.bury_these(writer, &gone, noted_seq)?;
            self.take_these(writer, &fetched, Reading::listed(noted_seq))
        })?;
        Ok(missing_of(fetched).collect())
    }

    /// Reads objects into the mirror. What is not given is asked for again at the next look: nothing follows from it.
    /// Returns where the server says that nothing is.
    async fn fetch(&self, hrefs: &[ObjectHref], reading: Reading) -> Result<BTreeSet<ObjectHref>, RunError> {
        let mut missing = BTreeSet::new();
        // The next batch is on its way while one is stored.
        let calendar = &self.end.calendar;
        let batches = hrefs.chunks(BATCH).map(async |batch| match reading.is_unknown {
            true => calendar.fetch_unknown(batch).await,
            false => calendar.fetch(batch).await,
        });
        let mut batches = stream::iter(batches).buffered(2);
        while let Some(fetched) = batches.next().await {
            let fetched = in_order(fetched.map_err(|e| self.end.failed(e))?);
            self.store.write(|writer| self.take_these(writer, &fetched, reading))?;
            missing.extend(missing_of(fetched));
        }
        Ok(missing)
    }

    /// Reads what is about to be written: what is asked for now is newer than anything noted.
    pub(crate) async fn read_now(&self, hrefs: &[ObjectHref]) -> Result<(), RunError> {
        let (mut known, mut unknown) = (Vec::new(), Vec::new());
        let ahead = ahead::at(self.store, self.id, hrefs)?;
        for href in hrefs {
            let is_known = self.store.object_at(self.id, href)?.is_some();
            if is_known { &mut known } else { &mut unknown }.push(href.clone());
        }
        drop(ahead);
        self.read(&known, Reading::default()).await?;
        self.read(&unknown, Reading { is_unknown: true, ..Reading::default() }).await
    }

    /// Reads what was just written: a report that names it with this ETag says nothing new.
    pub(crate) async fn read_back(&self, hrefs: &[ObjectHref]) -> Result<(), RunError> {
        self.read(hrefs, Reading { is_own: true, ..Reading::default() }).await
    }

    /// Reads what is listed and not known yet.
    pub(crate) async fn read_unknown(&self) -> Result<(), RunError> {
        let noted_seq = self.seq()?;
        let mut hrefs: Vec<ObjectHref> = self.compare(self.listing().await?)?.0.touched.into_keys().collect();
        let ahead = ahead::at(self.store, self.id, &hrefs)?;
        let mut known = BTreeSet::new();
        for href in &hrefs {
            known.extend(self.store.object_at(self.id, href)?.map(|object| object.href));
        }
        drop(ahead);
        hrefs.retain(|href| !known.contains(href));
        let reading = Reading { is_own: true, ..Reading::listed(noted_seq) };
        self.fetch(&hrefs, reading).await.map(drop)
    }

    async fn read(&self, hrefs: &[ObjectHref], reading: Reading) -> Result<(), RunError> {
        if hrefs.is_empty() {
            return Ok(());
        }
        let reading = Reading { noted_seq: self.seq()?, ..reading };
        self.wrote.set(true);
        self.fetch(hrefs, reading).await.map(drop)
    }

    fn take_these(
        &self,
        writer: &Writer<'_>,
        fetched: &[(ObjectHref, Fetched)],
        reading: Reading,
    ) -> Result<(), StoreError> {
        let _ahead = ahead::at(self.store, self.id, fetched.iter().map(|(href, _)| href))?;
        fetched.iter().try_for_each(|(href, one)| self.take(writer, href, one, reading))
    }

    fn take(
        &self,
        writer: &Writer<'_>,
        href: &ObjectHref,
        fetched: &Fetched,
        reading: Reading,
    ) -> Result<(), StoreError> {
        let known = self.store.object_at(self.id, href)?;
        let same = match (known.as_ref().and_then(|known| known.body), fetched) {
            (Some(body), Fetched::Text { text, .. }) => {
                self.store.text(body)?.is_some_and(|known| same_lines(&known, text))
            }
            _ => false,
        };
        if let Some(known) = known.as_ref().filter(|known| known.seq > reading.noted_seq) {
            // Somebody noted the same meanwhile, as where two batches look for what a server has put elsewhere.
            let is_noted = same && known.state == ObjectState::Present;
            return if is_noted { Ok(()) } else { self.doubt(writer, known) };
        }
        // What somebody else made anew may bear the ETag of what stood there before: a report that names it is news.
        let generation = self.facts.borrow().generation - i64::from(!reading.is_own);
        let (text, etag) = match fetched {
            Fetched::Text { text, etag } => (text, etag.as_ref()),
            Fetched::Missing | Fetched::NotGiven(_) => {
                return match (known, fetched) {
                    (Some(known), _) => self.doubt(writer, &known),
                    // Nothing was known, and nothing is there.
                    (None, Fetched::Missing) if !reading.is_listed => Ok(()),
                    (None, _) => writer.add_object(self.id, &bare(href, ObjectState::ToFetch)).map(drop),
                };
            }
        };
        if let Some(known) = known.as_ref().filter(|known| same && known.state == ObjectState::Present) {
            let is_noted = known.etag.as_ref() == etag && known.generation == generation;
            return match is_noted {
                true => Ok(()),
                false => writer.same_object(known.id, etag, ObjectState::Present, generation),
            };
        }
        let entry = match Entry::parse(text, &Limits::default()) {
            Ok(entry) => entry,
            // The end is missing: it was cut on the way, and may come whole next time.
            Err(_) if is_cut(text) => {
                let new = NewObject { text: Some(text), ..bare(href, ObjectState::ToFetch) };
                return match known {
                    Some(known) => self.doubt(writer, &known),
                    None => writer.add_object(self.id, &new).map(drop),
                };
            }
            Err(_) => {
                let new = NewObject { etag, generation, ..bare(href, ObjectState::Unreadable) };
                return match known {
                    Some(known) if known.state == ObjectState::Unreadable && known.etag.as_ref() == etag => {
                        Ok(())
                    }
                    Some(known) => writer.change_object(self.id, known.id, &new),
                    None => {
                        let new = NewObject { text: Some(text), ..new };
                        writer.add_object(self.id, &new).map(drop)
                    }
                };
            }
        };
        let uid = entry.uid();
        let new = NewObject {
            etag,
            generation,
            uid: Some(uid),
            content: Some(ContentKey::of(&entry)),
            text: Some(text),
            span: Some(rough_span(&entry)),
            ..bare(href, ObjectState::Present)
        };
        match known {
            Some(known) if known.uid.as_ref().is_none_or(|own| own == uid) => {
                let new = if same { NewObject { text: None, ..new } } else { new };
                writer.change_object(self.id, known.id, &new)
            }
            // Another entry has taken the place: the old one is gone.
            Some(known) => {
                writer.bury(self.id, known.id)?;
                writer.add_object(self.id, &new).map(drop)
            }
            None => writer.add_object(self.id, &new).map(drop),
        }
    }

    /// Notes that nobody knows what stands there: it is asked for at the next look.
    fn doubt(&self, writer: &Writer<'_>, known: &Object) -> Result<(), StoreError> {
        if known.state == ObjectState::ToFetch {
            return Ok(());
        }
        writer.change_object(self.id, known.id, &bare(&known.href, ObjectState::ToFetch))
    }
}

/// Why objects are read.
#[derive(Clone, Copy, Default)]
struct Reading {
    /// What was noted later is newer.
    noted_seq: i64,
    /// Something stands there by the calendar's own word.
    is_listed: bool,
    /// It was written by this run.
    is_own: bool,
    /// Nothing was known to stand there.
    is_unknown: bool,
}

impl Reading {
    fn listed(noted_seq: i64) -> Self {
        Self { noted_seq, is_listed: true, ..Self::default() }
    }
}

/// What was fetched, by href.
fn in_order(fetched: HashMap<ObjectHref, Fetched>) -> Vec<(ObjectHref, Fetched)> {
    let mut fetched: Vec<_> = fetched.into_iter().collect();
    fetched.sort_by(|a, b| a.0.cmp(&b.0));
    fetched
}

/// Where the server says that nothing is.
fn missing_of(fetched: Vec<(ObjectHref, Fetched)>) -> impl Iterator<Item = ObjectHref> {
    let is_missing = |(_, one): &(_, Fetched)| matches!(one, Fetched::Missing);
    fetched.into_iter().filter(is_missing).map(|(href, _)| href)
}

const BEGINS: &str = "BEGIN:VCALENDAR";
const ENDS: &str = "END:VCALENDAR";

/// Tells whether a text is not what stands there: the end of a calendar is missing, or it is a web page, or nothing.
fn is_cut(text: &str) -> bool {
    // No copy of it: it may be large.
    let text = text.trim().as_bytes();
    let is =
        |part: Option<&[u8]>, word: &str| part.is_some_and(|part| part.eq_ignore_ascii_case(word.as_bytes()));
    let begins = is(text.get(..BEGINS.len()), BEGINS);
    let ends = is(text.get(text.len().saturating_sub(ENDS.len())..), ENDS);
    text.is_empty() || text.starts_with(b"<") || (begins && !ends)
}

/// An object of which nothing is known but where it stands.
pub(crate) fn bare(href: &ObjectHref, state: ObjectState) -> NewObject<'_> {
    NewObject {
        href,
        etag: None,
        state,
        generation: 0,
        uid: None,
        content: None,
        text: None,
        span: None,
        parent: None,
    }
}

/// Remembers token and ctag, and whether they can be trusted to show the next change. `is_final` says that they
/// name one state and no other.
fn settle(facts: &mut CalendarFacts, noted: &Noted, changed: bool, is_final: bool) {
    let token = noted.token.as_ref().map(|t| t.as_str().to_owned());
    let ctag = noted.ctag.as_ref().map(|t| t.as_str().to_owned());
    let same_token = token.is_none() || token == facts.sync_token;
    // A report gives no ctag: one that is new then is no news, where the token is the same.
    let ctag_is_learned = facts.ctag.is_none() && token.is_some() && same_token;
    let same = same_token && (ctag.is_none() || ctag == facts.ctag || ctag_is_learned);
    let waited = match (facts.taken_at, noted.date) {
        (Some(then), Some(now)) => (now - then).abs() >= SETTLED_AFTER,
        // A server without a clock: one more look has to do.
        _ => facts.read,
    };
    if is_final {
        facts.provisional = false;
    } else if same && !changed && facts.read {
        facts.provisional &= !waited;
    } else {
        facts.provisional = true;
        facts.taken_at = noted.date;
    }
    facts.sync_token = token.or(facts.sync_token.take());
    facts.ctag = match (ctag, changed) {
        (Some(ctag), _) => Some(ctag),
        // A report gives no ctag: after a change the old one is worth nothing.
        (None, true) => None,
        (None, false) if !same_token => None,
        (None, false) => facts.ctag.take(),
    };
}
