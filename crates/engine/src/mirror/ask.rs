//! What a calendar says has changed since the last look, before anything is read.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use chestnut_caldav::protocol::{Listed, Listing, SyncAnswer};
use chestnut_core::ical::Limits;
use chestnut_core::{ETag, Entry, ObjectHref, Scheduling, SyncToken};
use chestnut_store::{CalendarFacts, ObjectState};
use tokio::sync::Mutex;
use tokio::time::timeout;

use super::{FEW, Mirror};
use crate::ahead;
use crate::error::RunError;

/// The listing of a calendar with more entries takes tens of megabytes while it is read.
const LONG: usize = 20_000;
/// Long listings come one after another, however many routes and accounts want one: a process has one memory.
static LONG_LISTINGS: Mutex<()> = Mutex::const_new(());
/// How long one waits for another.
const LONGEST_TURN: Duration = Duration::from_secs(10);

/// What the server says has changed, before anything is fetched.
#[derive(Debug, Default)]
pub(super) struct Noted {
    pub(super) touched: BTreeMap<ObjectHref, Option<ETag>>,
    pub(super) gone: BTreeSet<ObjectHref>,
    pub(super) token: Option<SyncToken>,
    pub(super) ctag: Option<SyncToken>,
    pub(super) date: Option<i64>,
}

impl Noted {
    fn touch(&mut self, listed: impl IntoIterator<Item = Listed>) {
        self.touched.extend(listed.into_iter().map(|l| (l.href, l.etag)));
    }
}

impl Mirror<'_> {
    pub(super) async fn learn_capabilities(&self, facts: &mut CalendarFacts) -> Result<(), RunError> {
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

    pub(super) async fn note_changes(
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

    pub(super) async fn listing(&self) -> Result<Listing, RunError> {
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
    pub(super) fn compare(&self, listing: Listing) -> Result<(Noted, Vec<Listed>), RunError> {
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

    pub(super) async fn note_by_listing(&self, facts: &mut CalendarFacts) -> Result<Noted, RunError> {
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
}
