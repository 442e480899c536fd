//! What came of a batch of writes: answers, what is read back, and what stands there in the end.

use std::collections::BTreeSet;
use std::rc::Rc;

use chestnut_core::{ETag, Entry, ObjectHref, Origin, WriteKind, undo_habits};
use chestnut_store::{ChangeAction, Told};

use crate::ahead;
use crate::apply::{Applier, Done, IS_HABIT, ROUNDS, Trouble, Work, habits_of};
use crate::case::{Kept, Stands, is_same_text};
use crate::error::RunError;
use crate::gather::{Claimant, origin_there};
use crate::observe::{Phase, Progress};
use crate::sender::{Sent, try_conditions};

/// So many writes in a row without an answer: the server is not there.
const GIVE_UP_AFTER: usize = 4;

impl Applier<'_> {
    pub(crate) async fn take_answers(
        &self,
        works: &mut [Work],
        batch: &[usize],
        side: usize,
        answers: Vec<Sent>,
        read: &BTreeSet<usize>,
    ) -> Result<(), RunError> {
        let mut stored: Vec<(usize, Option<ETag>)> = Vec::new();
        let mut look: Vec<(usize, ObjectHref)> = Vec::new();
        let mut elsewhere = BTreeSet::new();
        let mut silent = 0;
        let mut failed = None;
        for (at, sent) in batch.iter().zip(answers) {
            silent = if matches!(sent, Sent::Lost(_)) { silent + 1 } else { 0 };
            let href = self.href_of(&works[*at], side);
            match sent {
                Sent::Done(etag, there) => {
                    if let Some(there) = there.filter(|there| *there != href) {
                        self.stands_at(&mut works[*at], side, there);
                        elsewhere.insert(*at);
                    }
                    stored.push((*at, etag));
                }
                Sent::LookAgain => look.push((*at, href)),
                Sent::UidTaken(by) => {
                    if let Some(href) = self.uid_taken(&mut works[*at], side, by)? {
                        look.push((*at, href));
                    }
                }
                Sent::Refused { told, for_good, is_unnamed } => {
                    let work = &mut works[*at];
                    if is_unnamed && self.may_be_uid(work, side) {
                        work.case.places[side].wants_own_uid = true;
                        self.decide_again(work, None)?;
                        continue;
                    }
                    let refused = work.verdict.writing(side).map(|writing| writing.view).filter(|_| for_good);
                    work.trouble = Some(Trouble { side, told, refused, at_once: false });
                }
                Sent::Fails(status) => {
                    // One entry that fails while others are stored fails by itself.
                    works[*at].fail(side, Told::Fails { status }, status != 500);
                }
                Sent::NotBegun => {
                    self.outcome.borrow_mut().left += 1;
                    works[*at].left = true;
                }
                Sent::SignIn(error) => {
                    works[*at].left = true;
                    failed = Some(self.rule.ends[side].failed(error));
                }
                Sent::Lost(error) => {
                    works[*at].fail(side, Told::Lost { error: error.facts() }, true);
                    if silent >= GIVE_UP_AFTER {
                        failed = Some(self.rule.ends[side].failed(error));
                    }
                }
            }
        }
        if self.mirrors[side].ignores_conditions().is_none()
            && let Some((at, _)) = stored.first()
            && let Some(writing) = works[*at].verdict.writing(side)
        {
            let (href, text) = (self.href_of(&works[*at], side), writing.text.clone());
            let ignores = try_conditions(&self.rule.ends[side], &href, &text).await;
            // Sent once more: only what is read back tells its ETag.
            stored[0].1 = stored[0].1.take().filter(|_| !ignores);
            self.mirrors[side].note(|facts| facts.ignores_conditions = Some(ignores))?;
        }
        let hrefs: Vec<_> = stored.iter().map(|(at, _)| self.href_of(&works[*at], side)).collect();
        let is_unread = |at: &usize| !read.contains(at) || elsewhere.contains(at);
        let unread = stored.iter().zip(&hrefs).filter(|((at, _), _)| is_unread(at));
        let unread = unread.map(|(_, href)| href).chain(look.iter().map(|(_, href)| href));
        let unread: Vec<_> = unread.cloned().collect();
        let (done, total) = self.progress.get();
        self.observer.progress(Progress { phase: Phase::ReadingBack, done, total });
        self.mirrors[side].read_back(&unread).await?;
        let hrefs = self.seek_missing(works, side, &stored, hrefs).await?;
        let read = hrefs.iter().chain(look.iter().map(|(_, href)| href));
        let _ahead = ahead::at(self.store, self.mirrors[side].id, read)?;
        // Read at one moment: what is judged of one says nothing of what stands at another.
        let still = self.store.hold_still()?;
        let there = hrefs.iter().map(|href| self.stands_there(side, href)).collect::<Result<Vec<_>, _>>()?;
        drop(still);
        for (((at, etag), href), there) in stored.into_iter().zip(&hrefs).zip(there) {
            self.judge(&mut works[at], side, href, there, etag.as_ref())?;
        }
        for (at, href) in &look {
            let work = &mut works[*at];
            let is_update = work.verdict.writing(side).is_some_and(|w| w.kind == WriteKind::Update);
            if self.arrived_before(work, side, href)? {
                self.judge(work, side, href, self.stands_there(side, href)?, None)?;
                continue;
            }
            if self.look(work, side, href)? {
                // What is known stands there: the condition lied, once.
                if work.lied[side] {
                    let told = if is_update { Told::FalseCondition } else { Told::NoCalendar };
                    work.fail(side, told, false);
                }
                work.lied[side] = true;
            }
        }
        failed.map_or(Ok(()), Err)
    }

    /// Tells whether a write that was refused had been done already, and only its answer was lost: what stands there is
    /// what was sent, and not what stood there before.
    fn arrived_before(&self, work: &Work, side: usize, href: &ObjectHref) -> Result<bool, RunError> {
        let Some(writing) = work.verdict.writing(side) else { return Ok(false) };
        let Some(object) = self.store.object_at(self.mirrors[side].id, href)? else { return Ok(false) };
        if self.is_anothers(&object, work)? {
            return Ok(false);
        }
        let Stands::Present(_, back) = self.gatherer.stands(object)? else { return Ok(false) };
        let is_news =
            work.case.places[side].stands.kept().is_none_or(|kept| kept.text.text != back.text.text);
        let habits = habits_of(&self.mirrors[side].facts().habits);
        let is_sent = || !undo_habits(&writing.entry, &back.entry, &habits).is_edited;
        Ok(is_news
            && *href == self.href_of(work, side)
            && back.entry.uid() == writing.entry.uid()
            && is_sent())
    }

    /// Another entry has its UID: where in this calendar, to be looked at; else a UID of the route's own is tried.
    fn uid_taken(
        &self,
        work: &mut Work,
        side: usize,
        by: Option<ObjectHref>,
    ) -> Result<Option<ObjectHref>, RunError> {
        let Some(writing) = work.verdict.writing(side) else { return Ok(None) };
        let folder = |href: &ObjectHref| href.as_str().rsplit_once('/').map(|(folder, _)| folder.to_owned());
        let out = self.href_of(work, side);
        let known = self.store.objects_by_uid(self.mirrors[side].id, writing.entry.uid())?;
        let known = known.into_iter().map(|object| object.href).next();
        let here = by.or(known).filter(|href| folder(href) == folder(&out) && *href != out);
        if let Some(href) = here {
            // It was looked at already, and is another case's.
            let is_free = match self.store.object_at(self.mirrors[side].id, &href)? {
                Some(object) => match self.store.link_of(self.route, object.id)? {
                    Some(link) => Some(link) == work.case.link,
                    None => !self.gatherer.is_awaited(&object, work.case.link),
                },
                None => true,
            };
            if is_free && work.round + 1 < ROUNDS {
                return Ok(Some(href));
            }
        } else if self.rule.ends[side].gives && !writing.entry.uid().is_copy() {
            self.mirrors[side].note(|facts| facts.own_uids = true)?;
            self.decider.borrow_mut().facts[side].own_uids = true;
            self.outcome.borrow_mut().own_uids.insert(self.rule.ends[side].name.clone());
            self.decide_again(work, None)?;
            return Ok(None);
        }
        let refused = Some(writing.view);
        if self.takes_another_uid(work, side)? {
            return Ok(None);
        }
        work.trouble = Some(Trouble { side, told: Told::UidTaken, refused, at_once: false });
        Ok(None)
    }

    /// A refusal without a reason: another calendar of the same user has this UID, and that may be it.
    fn may_be_uid(&self, work: &Work, side: usize) -> bool {
        let Some(writing) = work.verdict.writing(side) else { return false };
        let end = &self.rule.ends[side];
        let is_new = writing.kind == WriteKind::Create && end.gives && !writing.entry.uid().is_copy();
        let same_user = |other: usize| {
            other != side
                && end.account.is_some()
                && self.rule.ends[other].account == end.account
                && work.case.uid(other) == Some(writing.entry.uid())
        };
        is_new && !work.case.places[side].wants_own_uid && (0..self.rule.ends.len()).any(same_user)
    }

    /// The server has put what was new at a place of its own.
    pub(crate) fn stands_at(&self, work: &mut Work, side: usize, there: ObjectHref) {
        let is_new = work.verdict.writing(side).is_some_and(|writing| writing.kind == WriteKind::Create);
        if let (true, Some(link)) = (is_new, work.case.link) {
            self.gatherer.awaited.borrow_mut().insert((self.mirrors[side].id, there.clone()), link);
            work.hrefs[side] = Some(there);
        }
    }

    /// What was new, and does not stand where it was put, may stand at a name of the server's own: what it lists tells.
    /// Returns where all of it is.
    async fn seek_missing(
        &self,
        works: &mut [Work],
        side: usize,
        stored: &[(usize, Option<ETag>)],
        mut hrefs: Vec<ObjectHref>,
    ) -> Result<Vec<ObjectHref>, RunError> {
        let calendar = self.mirrors[side].id;
        let mut missing = Vec::new();
        let ahead = ahead::at(self.store, calendar, &hrefs)?;
        for (number, (at, _)) in stored.iter().enumerate() {
            let writing = works[*at].verdict.writing(side);
            if writing.is_some_and(|writing| writing.kind == WriteKind::Create)
                && self.store.object_at(calendar, &hrefs[number])?.is_none()
            {
                missing.push((number, *at));
            }
        }
        drop(ahead);
        if missing.is_empty() {
            return Ok(hrefs);
        }
        self.mirrors[side].read_unknown().await?;
        for (number, at) in missing {
            let work = &mut works[at];
            let (Some(writing), Some(link)) = (work.verdict.writing(side), work.case.link) else { continue };
            for found in self.store.objects_by_uid(calendar, writing.entry.uid())? {
                if self.gatherer.is_free_for(&found, Claimant::Case(link))? {
                    hrefs[number] = found.href.clone();
                    self.stands_at(work, side, found.href);
                    break;
                }
            }
        }
        Ok(hrefs)
    }

    /// Returns what was read back; `None` where nothing stands there.
    fn stands_there(&self, side: usize, href: &ObjectHref) -> Result<Option<Stands>, RunError> {
        let object = self.store.object_at(self.mirrors[side].id, href)?;
        Ok(object.map(|object| self.gatherer.stands(object)).transpose()?)
    }

    /// Compares what was read back with what was sent.
    pub(crate) fn judge(
        &self,
        work: &mut Work,
        side: usize,
        href: &ObjectHref,
        there: Option<Stands>,
        etag: Option<&ETag>,
    ) -> Result<(), RunError> {
        let Some(writing) = work.verdict.writing(side).cloned() else { return Ok(()) };
        let before = work.case.places[side].stands.text();
        let action = match writing.kind {
            WriteKind::Create => ChangeAction::Created,
            WriteKind::Update => ChangeAction::Updated,
        };
        self.outcome.borrow_mut().wrote.insert(side);
        let Some(stands) = there else {
            work.case.places[side].stands = Stands::Never;
            work.fail(side, Told::KeepsNothing, false);
            return Ok(());
        };
        {
            let count = &mut self.outcome.borrow_mut().counts[side];
            match writing.kind {
                WriteKind::Create => count.created += 1,
                WriteKind::Update => count.updated += 1,
            }
        }
        let mut done = Done { action, before, told: None, partly: writing.partly, stood: None };
        match &stands {
            // Word for word what was sent.
            Stands::Present(_, back) if is_same_text(&back.text.text, &writing.text) => {
                done.stood = Some(Rc::clone(back));
                work.case.places[side].stands = stands;
                self.settle(work, side, done);
            }
            Stands::Present(object, back) => {
                let print = back.entry.meaning().fingerprint();
                let again = work.came_back[side].replace(print) == Some(print);
                let is_certain = (etag.is_some() && etag == object.etag.as_ref()) || again;
                let habits = habits_of(&self.mirrors[side].facts().habits);
                let undone = undo_habits(&writing.entry, &back.entry, &habits);
                let seen = writing.sight.of_far_side(&back.entry).fingerprint();
                let changed = seen != writing.view;
                if is_certain || !undone.is_edited {
                    if changed {
                        let fields = self.note_changes(side, &writing.entry, &back.entry, is_certain)?;
                        done.told = Some(Told::Changed { fields });
                        done.action = ChangeAction::Damaged;
                    }
                    done.stood = Some(Rc::clone(back));
                    work.case.places[side].stands = stands;
                    self.settle(work, side, done);
                    return Ok(());
                }
                // Somebody edited it since: what was sent is agreed, and their edit is a change.
                let stood = undone.stood.caldav_text(self.options.now);
                done.stood = Kept::of(None, stood);
                self.note_origin(work, side);
                work.done[side] = Some(done);
                self.decide_again(work, Some((side, stands)))?;
            }
            Stands::Unreadable(_) => {
                done.told = Some(Told::KeepsOther);
                done.action = ChangeAction::Damaged;
                work.case.places[side].stands = stands;
                self.settle(work, side, done);
            }
            _ => {
                // It could not be read back: the intent stays, and the next run looks.
                work.case.places[side].stands = stands;
                work.left = true;
                let told = self.change(&work.case, side, href, &done, Some(&writing.entry));
                self.tell(told)?;
            }
        }
        Ok(())
    }

    pub(crate) fn settle(&self, work: &mut Work, side: usize, done: Done) {
        self.note_origin(work, side);
        let place = &mut work.case.places[side];
        if place.wants_own_uid {
            self.outcome.borrow_mut().own_uids.insert(self.rule.ends[side].name.clone());
            self.decider.borrow_mut().facts[side].own_uids = true;
        }
        place.refused = None;
        work.done[side] = Some(done);
    }

    /// What the route wrote is its copy; what stood there before stays its owner's.
    fn note_origin(&self, work: &mut Work, side: usize) {
        let uid = work.verdict.writing(side).map(|writing| writing.entry.uid().clone());
        let place = &mut work.case.places[side];
        place.origin = match origin_there(self.rule, side, uid.as_ref(), place.origin) {
            Origin::Original if !self.rule.ends[side].gives => Origin::Copy,
            other => other,
        };
    }

    /// Notes which properties a server changed in what it stored; learns of them where nobody else can have done it.
    pub(crate) fn note_changes(
        &self,
        side: usize,
        sent: &Entry,
        back: &Entry,
        is_certain: bool,
    ) -> Result<Vec<String>, RunError> {
        let mut fields: Vec<String> =
            sent.meaning().differences(&back.meaning()).into_iter().map(|d| d.field).collect();
        fields.sort_unstable();
        fields.dedup();
        if is_certain {
            self.mirrors[side].note(|facts| {
                for field in &fields {
                    let seen = facts.habits.entry(field.clone()).or_default();
                    *seen = (*seen + 1).min(IS_HABIT);
                }
            })?;
        }
        Ok(fields)
    }
}
