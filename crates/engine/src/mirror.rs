//! Brings the mirror of a calendar up to what the calendar holds now, by the cheapest means its server offers. The
//! only code that reads calendars.
//!
//! ETag and text of an object are written together, and a token last: a look that is cut off goes on next time. Two
//! may look at once: a change that somebody else noted meanwhile is never overwritten by an older answer. What is new is
//! read by one at a time, so that no server is asked for it twice.

mod ask;
mod read;

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use chestnut_core::{ETag, ObjectHref};
use chestnut_store::{CalendarFacts, CalendarId, NewObject, ObjectState, Store, calendar_lease};
use jiff::{SignedDuration, Timestamp};

use self::ask::Noted;
use self::read::Reading;
pub(crate) use self::read::bare;
use crate::ahead;
use crate::error::RunError;
use crate::rule::CalendarEnd;
use crate::turn::{Turn, turn};

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
    /// Whether it waits while another process reads the calendar.
    pub(crate) takes_turns: bool,
}

impl Look {
    /// A look outside of any route, which waits for nobody.
    pub(crate) fn once(now: Timestamp, needed_from: Option<i64>) -> Self {
        let full_look_every = SignedDuration::from_hours(24);
        Self { now, afresh: false, full_look_every, needed_from, round: Round::default(), takes_turns: false }
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

/// What a calendar answered, before any of it is read.
struct Asked {
    began_with: CalendarFacts,
    facts: CalendarFacts,
    /// The number of the last change that was noted before.
    noted_seq: i64,
    noted: Noted,
    /// What nobody knows anything of, and nothing was said of either.
    unsure: BTreeSet<ObjectHref>,
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
        let mut asked = self.ask(look, deleted).await?;
        let mut lease = None;
        if look.takes_turns && !asked.noted.touched.is_empty() && self.end.calendar.is_on_a_server() {
            let turn = turn(&calendar_lease(self.id), self.store).await?;
            if !matches!(turn, Turn::Free(_)) {
                // Most of it was read meanwhile.
                if let Some(known) = self.store.mirror(&self.end.calendar.place())? {
                    *self.facts.borrow_mut() = known.facts;
                }
                asked = self.ask(look, deleted).await?;
            }
            lease = turn.lease();
        }
        let done = self.take_in(look, asked).await;
        drop(lease);
        done
    }

    /// Asks what has changed, without reading any of it.
    async fn ask(&self, look: &Look, deleted: &[ObjectHref]) -> Result<Asked, RunError> {
        let now = look.now.as_second();
        let began_with = self.facts();
        let mut facts = began_with.clone();
        let noted_seq = self.seq()?;
        if let Some(error) = self.end.calendar.vanished()
            && self.store.holds_more_than(self.id, 0)?
        {
            return Err(self.end.failed(error));
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
        // Also where it only said that nothing changed.
        self.date.set(self.end.calendar.server_clock().or(self.date.get()));
        Ok(Asked { began_with, facts, noted_seq, noted, unsure })
    }

    /// Reads what has changed.
    async fn take_in(&self, look: &Look, asked: Asked) -> Result<(), RunError> {
        let Asked { began_with, mut facts, noted_seq, mut noted, mut unsure } = asked;
        let now = look.now.as_second();
        if !facts.read {
            self.set_long_past_aside(&mut noted, look.needed_from, &mut facts).await?;
        }
        let changed = !noted.touched.is_empty() || !noted.gone.is_empty();
        if changed && facts.read && !look.afresh {
            facts.changed_at = Some(now);
        }
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
