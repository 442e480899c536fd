//! What changed in one calendar, by the cheapest means its server offers.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_caldav::Fetched;
use chestnut_caldav::protocol::{Listed, Listing, SyncAnswer};
use chestnut_core::ical::Limits;
use chestnut_core::{ETag, Entry, Kind, Kinds, ObjectHref, Scheduling, SyncToken};
use chestnut_store::{Recheck, RouteId, SideId, SideState, Store};
use jiff::{SignedDuration, Timestamp};

use crate::error::RunError;
use crate::route::CalendarEnd;

/// A token or ctag this young may hide another change in the same second.
const SETTLED_AFTER: i64 = 2;

/// So many entries are read faster than sorted.
const WORTH_A_QUESTION: usize = 200;
/// So many entries are listed without a thought.
const FEW: usize = 20;
/// Three days, in seconds.
const MARGIN: i64 = 3 * 86_400;

/// What a calendar holds now, as far as it changed.
#[derive(Debug, Default)]
pub(crate) struct Survey {
    /// What to remember of the calendar once the run is done.
    pub(crate) state: SideState,
    /// Entries that were read, by href.
    pub(crate) items: BTreeMap<ObjectHref, Item>,
    /// Known entries that are gone. Only believed of a calendar that was read completely.
    pub(crate) gone: BTreeSet<ObjectHref>,
    /// Of these, the ones that nobody deleted.
    pub(crate) expected_gone: BTreeSet<ObjectHref>,
    /// Entries that are over before the window, by the server's word, and were never read.
    pub(crate) long_past: Vec<Listed>,
}

/// What was read at one href.
#[derive(Debug)]
pub(crate) enum Item {
    Entry { etag: Option<ETag>, entry: Box<Entry>, text: String },
    Unreadable { etag: Option<ETag>, words: String },
}

impl Item {
    pub(crate) fn entry(&self) -> Option<&Entry> {
        match self {
            Self::Entry { entry, .. } => Some(entry),
            Self::Unreadable { .. } => None,
        }
    }

    pub(crate) fn etag(&self) -> Option<&ETag> {
        match self {
            Self::Entry { etag, .. } | Self::Unreadable { etag, .. } => etag.as_ref(),
        }
    }
}

/// How thoroughly to look.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Look {
    pub(crate) now: Timestamp,
    pub(crate) afresh: bool,
    pub(crate) check_every: SignedDuration,
    /// The window; entries that come into it, or fall behind it, are read again.
    pub(crate) window: (i64, i64),
}

/// One look at one calendar.
pub(crate) struct Surveyor<'r> {
    pub(crate) store: &'r Store,
    /// `None` before the first run.
    pub(crate) route: Option<RouteId>,
    pub(crate) side: SideId,
    pub(crate) end: &'r CalendarEnd,
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

impl Surveyor<'_> {
    /// Finds what changed, and reads it. `unfinished` are writes of a run that was cut off.
    pub(crate) async fn survey(&self, look: Look, unfinished: &[ObjectHref]) -> Result<Survey, RunError> {
        let mut state = match self.route {
            Some(route) => self.store.side(route, self.side)?,
            None => SideState::default(),
        };
        let checked = state.checked_at.map_or(i64::MIN, |at| at);
        let due = checked.saturating_add(look.check_every.as_secs()) <= look.now.as_second();
        if due || look.afresh || !state.read {
            self.learn_capabilities(&mut state).await?;
        }
        let mut noted = self.note_changes(&mut state, look.afresh, due).await?;
        if due || look.afresh || !state.read {
            state.checked_at = Some(look.now.as_second());
        }
        self.add_rechecks(&mut noted, unfinished, look.window)?;
        let mut long_past = Vec::new();
        if !state.read && matches!(self.side, SideId::Source | SideId::Underlying) {
            long_past = self.set_long_past_aside(&mut noted, look.window.0).await?;
        }
        let mut survey = self.read(noted, state).await?;
        survey.long_past = long_past;
        survey.state.read = true;
        Ok(survey)
    }

    async fn learn_capabilities(&self, state: &mut SideState) -> Result<(), RunError> {
        let found = self.end.calendar.abilities().await.map_err(|e| self.end.failed(e))?;
        if matches!(self.side, SideId::Target | SideId::Replica(_)) && found.writable == Some(false) {
            let (calendar, account) = (self.end.name.clone(), self.end.account.clone());
            return Err(RunError::ReadOnly { calendar, account });
        }
        state.url = Some(self.end.calendar.address());
        state.ignores_conditions = state.ignores_conditions.or(found.keeps_conditions.map(|keeps| !keeps));
        state.sync_reports = found.sync_reports;
        state.kinds = found.kinds.iter().map(|k| k.component_name().to_owned()).collect();
        state.max_size = found.max_size;
        (state.schedules, state.addresses) = match found.scheduling {
            Scheduling::Never => (false, None),
            Scheduling::Anybody => (true, None),
            Scheduling::For(addresses) => (true, Some(addresses)),
        };
        Ok(())
    }

    async fn note_changes(&self, state: &mut SideState, afresh: bool, due: bool) -> Result<Noted, RunError> {
        if afresh || !state.read {
            let listing = self.listing().await?;
            let mut noted = self.compare(&listing, true)?;
            noted.touch(listing.entries);
            return Ok(noted);
        }
        if due || state.provisional || self.waits_for_deletions()? {
            return self.note_by_listing(state).await;
        }
        if let (true, Some(token)) = (state.sync_reports, state.sync_token.clone()) {
            return self.note_by_report(state, &SyncToken::from(token)).await;
        }
        if let Some(ctag) = &state.ctag {
            let now = self
                .end
                .calendar
                .ctag(&SyncToken::from(ctag.as_str()))
                .await
                .map_err(|e| self.end.failed(e))?;
            if now.as_ref().is_some_and(|now| now.as_str() == ctag) {
                return Ok(Noted { ctag: now, ..Noted::default() });
            }
        }
        self.note_by_listing(state).await
    }

    /// Deletions are held: whether the entries are still gone, only a listing tells.
    fn waits_for_deletions(&self) -> Result<bool, RunError> {
        let Some(route) = self.route else { return Ok(false) };
        Ok(self.store.known_again(route, self.side)?.iter().any(|known| known.recheck == Recheck::Gone))
    }

    async fn listing(&self) -> Result<Listing, RunError> {
        self.end.calendar.listing().await.map_err(|e| self.end.failed(e))
    }

    /// Compares the whole listing with what is known, without holding what is known.
    fn compare(&self, listing: &Listing, all: bool) -> Result<Noted, RunError> {
        let mut noted = Noted {
            token: listing.sync_token.clone(),
            ctag: listing.ctag.clone(),
            date: listing.date,
            ..Noted::default()
        };
        let mut unknown: BTreeMap<&ObjectHref, &Listed> =
            listing.entries.iter().map(|l| (&l.href, l)).collect();
        if let Some(route) = self.route {
            self.store.each_known(route, self.side, |known| match unknown.remove(&known.href) {
                // It was thought to be gone, and stands there after all.
                Some(listed) if known.recheck == Recheck::Gone => {
                    noted.touched.insert(known.href, listed.etag.clone());
                }
                // Without an ETag there is no telling: it is read.
                Some(listed) if listed.etag.is_none() || listed.etag != known.etag => {
                    noted.touched.insert(known.href, listed.etag.clone());
                }
                Some(_) => {}
                None => {
                    noted.gone.insert(known.href);
                }
            })?;
        }
        if !all {
            noted.touch(unknown.into_values().cloned());
        }
        Ok(noted)
    }

    async fn note_by_listing(&self, state: &mut SideState) -> Result<Noted, RunError> {
        let listing = self.listing().await?;
        let mut noted = self.compare(&listing, false)?;
        let nothing_seen = noted.touched.is_empty() && noted.gone.is_empty();
        let moved = |then: &Option<String>, now: &Option<SyncToken>| matches!((then, now), (Some(then), Some(now)) if then != now.as_str());
        if state.sync_reports && moved(&state.sync_token, &listing.sync_token) {
            // An entry that was deleted and made anew may have its old ETag: only the report tells.
            let token = SyncToken::from(state.sync_token.clone().unwrap_or_default());
            let answer = self.end.calendar.changes_since(&token).await;
            if let SyncAnswer::Changes { changed, .. } = answer.map_err(|e| self.end.failed(e))? {
                let listed: BTreeSet<_> = listing.entries.iter().map(|l| &l.href).collect();
                noted.touch(changed.into_iter().filter(|c| listed.contains(&c.href)));
            }
        } else if nothing_seen && moved(&state.ctag, &listing.ctag) {
            // The ctag says that something changed, no ETag says what.
            noted.touch(listing.entries);
        }
        Ok(noted)
    }

    async fn note_by_report(&self, state: &mut SideState, token: &SyncToken) -> Result<Noted, RunError> {
        let answer = self.end.calendar.changes_since(token).await;
        match answer.map_err(|e| self.end.failed(e))? {
            SyncAnswer::TokenRefused => self.note_by_listing(&mut without_token(state)).await,
            SyncAnswer::Unsupported => {
                state.sync_reports = false;
                self.note_by_listing(state).await
            }
            SyncAnswer::Changes { changed, removed, token: new, date, .. } => {
                let moved = new.as_ref().is_some_and(|new| new != token);
                let is_silent = changed.is_empty() && removed.is_empty();
                let suspicious = match self.route {
                    // A small calendar that was emptied: everything, and no removals, is nothing.
                    Some(route) if is_silent => {
                        moved && !self.store.knows_more_than(route, self.side, FEW)?
                    }
                    Some(route) => !self.store.knows_more_than(route, self.side, changed.len() * 2)?,
                    None => false,
                };
                let mut noted = Noted { token: new, date, ..Noted::default() };
                // Some servers answer a token they have forgotten with everything and no removals. Where half of
                // the calendar is said to have changed, a listing tells what is gone.
                if suspicious {
                    let listing = self.listing().await?;
                    noted.gone = self.compare(&listing, false)?.gone;
                }
                noted.touch(changed);
                noted.gone.extend(removed);
                Ok(noted)
            }
        }
    }

    /// Adds what an earlier run left to be looked at again, whatever the server says.
    fn add_rechecks(
        &self,
        noted: &mut Noted,
        unfinished: &[ObjectHref],
        window: (i64, i64),
    ) -> Result<(), RunError> {
        if let Some(route) = self.route {
            if self.side != SideId::Target {
                let coming = self.store.coming_in(route, self.side, window.1)?;
                let over = match self.side {
                    SideId::Source => self.store.over_before(route, window.0)?,
                    _ => Vec::new(),
                };
                for known in coming.into_iter().chain(over) {
                    if !noted.gone.contains(&known.href) {
                        noted.touched.entry(known.href).or_default();
                    }
                }
            }
            for known in self.store.known_again(route, self.side)? {
                if known.recheck == Recheck::Read && !noted.gone.contains(&known.href) {
                    noted.touched.entry(known.href).or_default();
                }
            }
        }
        for href in unfinished {
            noted.touched.entry(href.clone()).or_default();
            noted.gone.remove(href);
        }
        Ok(())
    }

    /// Takes out what need not be read: of a long calendar, its server tells which single events are long over.
    /// They never come in again unless they change.
    async fn set_long_past_aside(&self, noted: &mut Noted, start: i64) -> Result<Vec<Listed>, RunError> {
        if noted.touched.len() < WORTH_A_QUESTION {
            return Ok(Vec::new());
        }
        // Zones and days are the window's own business: the server's word counts a good while before it.
        let Ok(before) = Timestamp::from_second(start - MARGIN) else { return Ok(Vec::new()) };
        let Some(past) = self.end.calendar.long_past(before).await else { return Ok(Vec::new()) };
        let past = past.into_iter().filter_map(|href| {
            let etag = noted.touched.remove(&href)?;
            Some(Listed { href, etag })
        });
        Ok(past.collect())
    }

    async fn read(&self, noted: Noted, mut state: SideState) -> Result<Survey, RunError> {
        let changed = !noted.touched.is_empty() || !noted.gone.is_empty();
        settle(&mut state, &noted, changed, self.end.calendar.has_final_ctags());
        let mut survey = Survey { state, gone: noted.gone, ..Survey::default() };
        let hrefs: Vec<_> = noted.touched.keys().cloned().collect();
        for (href, fetched) in self.fetch(&hrefs).await? {
            match fetched {
                Some(item) => {
                    survey.gone.remove(&href);
                    survey.items.insert(href, item);
                }
                None => {
                    survey.gone.insert(href);
                }
            }
        }
        // Gone is what was known; some servers tell of entries that nobody ever saw.
        if let Some(route) = self.route {
            let mut known = BTreeSet::new();
            for href in survey.gone {
                if self.store.known(route, self.side, &href)?.is_some() {
                    known.insert(href);
                }
            }
            survey.gone = known;
        } else {
            survey.gone.clear();
        }
        Ok(survey)
    }

    /// Reads entries; `None` where nothing stands.
    pub(crate) async fn fetch(
        &self,
        hrefs: &[ObjectHref],
    ) -> Result<Vec<(ObjectHref, Option<Item>)>, RunError> {
        let fetched = self.end.calendar.fetch(hrefs).await.map_err(|e| self.end.failed(e))?;
        let item = |fetched| match fetched {
            Fetched::Missing => None,
            Fetched::Unreadable(words) => Some(Item::Unreadable { etag: None, words }),
            Fetched::Text { etag, text } => Some(match Entry::parse(&text, &Limits::default()) {
                Ok(entry) => Item::Entry { etag, entry: Box::new(entry), text },
                Err(error) => Item::Unreadable { etag, words: error.to_string() },
            }),
        };
        Ok(fetched.into_iter().map(|(href, fetched)| (href, item(fetched))).collect())
    }

    /// Looks once more after a run's own writes, so that the next run does not take them for news. `ours` holds
    /// the ETag of what was written, `None` for what was deleted. Returns what others changed meanwhile: the next
    /// run reads it.
    pub(crate) async fn look_after_writes(
        &self,
        state: &mut SideState,
        ours: &BTreeMap<ObjectHref, Option<ETag>>,
    ) -> Result<Vec<ObjectHref>, RunError> {
        let token = state.sync_token.clone().filter(|_| state.sync_reports).map(SyncToken::from);
        let mut noted = None;
        if let Some(token) = token {
            let answer = self.end.calendar.changes_since(&token).await;
            if let SyncAnswer::Changes { changed, removed, token, date, .. } =
                answer.map_err(|e| self.end.failed(e))?
            {
                let mut report = Noted { token, date, ..Noted::default() };
                report.touch(changed);
                report.touched.extend(removed.into_iter().map(|href| (href, None)));
                noted = Some(report);
            }
        }
        let noted = match noted {
            Some(noted) => noted,
            None => {
                let listing = self.listing().await?;
                let mut noted = self.compare(&listing, false)?;
                // What is gone must be read to be believed; the next run does.
                noted.touched.extend(std::mem::take(&mut noted.gone).into_iter().map(|href| (href, None)));
                noted
            }
        };
        settle(state, &noted, true, self.end.calendar.has_final_ctags());
        let mut foreign = Vec::new();
        for (href, etag) in noted.touched {
            let news = match (ours.get(&href), &etag) {
                (Some(written), seen) => written != seen,
                // A removal of what nobody knew is no news.
                (None, None) => match self.route {
                    Some(route) => self.store.known(route, self.side, &href)?.is_some(),
                    None => false,
                },
                (None, Some(_)) => true,
            };
            if news {
                foreign.push(href);
            }
        }
        Ok(foreign)
    }
}

fn without_token(state: &SideState) -> SideState {
    SideState { sync_token: None, ctag: None, ..state.clone() }
}

/// Remembers token and ctag, and whether they can be trusted to show the next change. `is_final` says that they
/// name one state and no other.
fn settle(state: &mut SideState, noted: &Noted, changed: bool, is_final: bool) {
    let token = noted.token.as_ref().map(|t| t.as_str().to_owned());
    let ctag = noted.ctag.as_ref().map(|t| t.as_str().to_owned());
    let same_token = token.is_none() || token == state.sync_token;
    // A report gives no ctag: one that is new then is no news, where the token is the same.
    let ctag_is_learned = state.ctag.is_none() && token.is_some() && same_token;
    let same = same_token && (ctag.is_none() || ctag == state.ctag || ctag_is_learned);
    let waited = match (state.taken_at, noted.date) {
        (Some(then), Some(now)) => now - then >= SETTLED_AFTER,
        // A server without a clock: one more look has to do.
        _ => state.read,
    };
    if is_final {
        state.provisional = false;
    } else if same && !changed && state.read {
        state.provisional &= !waited;
    } else {
        state.provisional = true;
        state.taken_at = noted.date;
    }
    state.sync_token = token.or(state.sync_token.take());
    state.ctag = match (ctag, changed) {
        (Some(ctag), _) => Some(ctag),
        // A report gives no ctag: after a change the old one is worth nothing.
        (None, true) => None,
        (None, false) => state.ctag.take(),
    };
}

/// Reads the kinds out of what is remembered.
pub(crate) fn accepted_kinds(state: &SideState) -> Kinds {
    state.kinds.iter().filter_map(|name| Kind::of_component(name)).collect()
}

/// Reads what the far server does with people out of what is remembered.
pub(crate) fn scheduling(state: &SideState) -> Scheduling {
    match (state.schedules, &state.addresses) {
        (false, _) => Scheduling::Never,
        (true, None) => Scheduling::Anybody,
        (true, Some(addresses)) => Scheduling::For(addresses.clone()),
    }
}
