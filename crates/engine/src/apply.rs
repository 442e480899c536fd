//! Does what was decided: intents are recorded, writes sent on conditions, read back, judged, and what somebody else
//! changed meanwhile is decided again; then all of it is recorded at once.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet};
use std::future::Future as _;
use std::rc::Rc;
use std::task::Poll;

use chestnut_core::{
    Entry, EventUid, Fingerprint, Habits, Identity, LeftOut, Mail, ObjectHref, Origin, Partly, WriteKind,
};
use chestnut_store::{
    Ahead, BodyId, Change, ChangeAction, Counts, Intent, LinkId, LinkRow, LinkState, Object, ObjectId,
    PlaceRow, RouteId, RunId, Store, StoreError, Text, Told,
};
use futures_util::future::{Either, select};
use futures_util::stream::{self, StreamExt as _};

use crate::ahead;
use crate::case::{Case, Kept, Place, Stands, start_text};
use crate::decide::{Decider, Fate, Step, Verdict, Writing};
use crate::error::RunError;
use crate::gather::Gatherer;
use crate::mirror::Mirror;
use crate::observe::{Observer, Phase, Progress};
use crate::options::RunOptions;
use crate::rule::Rule;
use crate::sender::{Outgoing, Sent, condition, send};

/// How often a case is decided again because somebody else changed it meanwhile.
pub(crate) const ROUNDS: usize = 4;
/// So many stored entries are read back while the next are written.
const READ_BACK: usize = 50;
/// The pause after the first failure that may pass; each next one is four times as long.
const FIRST_PAUSE: i64 = 300;
const LONGEST_PAUSE: i64 = 12 * 3600;
/// A property that a server changed in so many entries is its habit.
pub(crate) const IS_HABIT: u32 = 3;

/// What a run came to so far.
#[derive(Debug, Default)]
pub(crate) struct Outcome {
    pub(crate) counts: Vec<Counts>,
    pub(crate) linked: usize,
    pub(crate) damaged: usize,
    pub(crate) failed: usize,
    pub(crate) disagreements: usize,
    pub(crate) changes: Vec<Change>,
    /// Writes that were not begun because a person asked to stop.
    pub(crate) left: usize,
    /// Where something was written.
    pub(crate) wrote: BTreeSet<usize>,
    /// What was deleted, until a listing shows it.
    pub(crate) deleted: Vec<(usize, ObjectHref)>,
    /// Calendars that stand at another path now, and are the same.
    pub(crate) moved: Vec<String>,
    /// Calendars in which entries get UIDs of the route's own from now on.
    pub(crate) own_uids: BTreeSet<String>,
    /// Where copies stand of which nothing is remembered, and nothing is known yet: the next run looks at them again.
    pub(crate) open: BTreeSet<usize>,
    /// Cases that were only left out, and whose entry another case took: they are forgotten.
    pub(crate) taken_over: BTreeSet<LinkId>,
}

/// One case, while it is worked on.
pub(crate) struct Work {
    pub(crate) case: Case,
    pub(crate) verdict: Verdict,
    pub(crate) round: usize,
    /// Where a new entry goes.
    pub(crate) hrefs: Vec<Option<ObjectHref>>,
    /// A condition failed although what is known stands there.
    pub(crate) lied: Vec<bool>,
    pub(crate) done: Vec<Option<Done>>,
    pub(crate) trouble: Option<Trouble>,
    /// Whose word did not count.
    pub(crate) overruled: Vec<Overruled>,
    /// What was read back before, where it differed: what comes back the same again is the server's doing.
    pub(crate) came_back: Vec<Option<Fingerprint>>,
    /// Of how many of these was told already.
    pub(crate) told: usize,
    /// It was not begun: a person asked to stop.
    pub(crate) left: bool,
    /// It is done as it is, or not at all: nothing else is decided should somebody have changed it meanwhile.
    is_once: bool,
}

/// A word that does not count: whose, about what, and the text that said it.
#[derive(Debug, Clone)]
pub(crate) struct Overruled {
    side: usize,
    fields: Vec<String>,
    before: Option<Text>,
}

/// What was done in one calendar.
#[derive(Debug, Clone)]
pub(crate) struct Done {
    pub(crate) action: ChangeAction,
    pub(crate) before: Option<Text>,
    pub(crate) told: Option<Told>,
    pub(crate) partly: Partly,
    /// For how the place is remembered: what stood there but for what somebody changed since.
    pub(crate) stood: Option<Rc<Kept>>,
}

/// What went wrong.
#[derive(Debug, Clone)]
pub(crate) struct Trouble {
    pub(crate) side: usize,
    pub(crate) told: Told,
    /// A view that is refused for good.
    pub(crate) refused: Option<Fingerprint>,
    /// Whether to try at the next run; else after a pause.
    pub(crate) at_once: bool,
}

impl Work {
    pub(crate) fn new(case: Case, verdict: Verdict) -> Self {
        let sides = case.places.len();
        let mut work = Self {
            case,
            verdict,
            round: 0,
            hrefs: vec![None; sides],
            lied: vec![false; sides],
            done: vec![None; sides],
            trouble: None,
            overruled: Vec::new(),
            came_back: vec![None; sides],
            told: 0,
            left: false,
            is_once: false,
        };
        work.note_losers();
        work
    }

    /// Tells whether it is what a route of this name left before this one began: nobody's, and never agreed.
    pub(crate) fn is_left_over(&self) -> bool {
        let was_agreed = self.case.row.as_ref().is_some_and(|row| row.agreed.is_some());
        self.verdict.fate == Fate::Release && !was_agreed
    }

    /// Something that is done as it is, or not at all.
    pub(crate) fn once(case: Case, verdict: Verdict) -> Self {
        Self { is_once: true, ..Self::new(case, verdict) }
    }

    /// Where it goes, should it be new there.
    pub(crate) fn place_at(&mut self, side: usize, href: &ObjectHref) {
        self.hrefs[side] = Some(href.clone());
    }

    /// The objects that it is about.
    fn objects(&self) -> impl Iterator<Item = ObjectId> {
        self.case.places.iter().filter_map(|place| Some(place.stands.object()?.id))
    }

    /// The texts that are kept already, and are named once more when it is recorded.
    fn known_texts(&self) -> impl Iterator<Item = BodyId> {
        let named = self.case.places.iter().flat_map(|place| {
            [place.stands.kept(), place.stood.as_ref(), place.in_step_with.as_ref()].into_iter().flatten()
        });
        let agreed = self.case.agreed.iter().chain(&self.verdict.agreed);
        let done = self.done.iter().flatten();
        let before = done.clone().filter_map(|done| done.before.as_ref()?.id);
        let stood = done.filter_map(|done| done.stood.as_ref());
        named.chain(agreed).chain(stood).filter_map(|kept| kept.text.id).chain(before)
    }

    /// How long the texts are that it is about.
    pub(crate) fn bytes(&self) -> usize {
        let texts = |place: &Place| {
            [&place.stood, &place.in_step_with].map(|kept| kept.as_ref().map(|kept| kept.text.text.len()))
        };
        let stand =
            self.case.places.iter().filter_map(|place| place.stands.kept()).map(|kept| kept.text.text.len());
        let known = self.case.places.iter().flat_map(texts).flatten();
        let sent =
            (0..self.case.places.len()).filter_map(|side| self.verdict.writing(side)).map(|w| w.text.len());
        stand.chain(known).chain(sent).sum()
    }

    /// Notes whose word does not count, before it is written over.
    pub(crate) fn note_losers(&mut self) {
        for loser in &self.verdict.losers {
            let (side, before) = (loser.side, self.case.places[loser.side].stands.text());
            if !self.overruled.iter().any(|known| known.side == side && known.before == before) {
                self.overruled.push(Overruled { side, fields: loser.fields.clone(), before });
            }
        }
    }

    /// What was done is agreed, whatever is decided next: the others are in step with it, or owed a write; what they said
    /// when it was decided is part of it.
    pub(crate) fn take_as_agreed(&mut self, carried: u16) {
        let was_written = self.done.iter().flatten().any(|done| done.stood.is_some());
        if !was_written {
            return;
        }
        let agreed = self.verdict.agreed.clone();
        for ((place, step), done) in self.case.places.iter_mut().zip(&self.verdict.steps).zip(&mut self.done)
        {
            let written = done.as_mut().and_then(|done| done.stood.take());
            let is_in_step = written.is_some() || matches!(step, Step::Accept);
            let stood = match (step, written) {
                (_, Some(stood)) => Some(stood),
                (Step::Accept, None) => place.stands.kept().cloned(),
                (step, None) if step.owes_a_text() => place.stands.kept().cloned(),
                (_, None) => None,
            };
            place.stood = stood.or(place.stood.take());
            if is_in_step {
                place.in_step_with.clone_from(&agreed);
            } else if step.owes_a_text() {
                place.owe(agreed.as_ref());
            }
        }
        self.case.agreed = agreed;
        if let Some(row) = &mut self.case.row {
            row.carried = carried;
        }
    }

    pub(crate) fn is_open(&self, side: usize) -> bool {
        self.trouble.is_none() && !self.left && self.done[side].is_none()
    }

    /// Tells whether something is still to be sent to a calendar.
    fn wants(&self, side: usize, deletes: bool) -> bool {
        let has_work = match &self.verdict.steps[side] {
            Step::Write(_) => true,
            Step::Delete(_) => deletes,
            Step::Leave | Step::Accept | Step::LetGo | Step::Hold(_) | Step::Spare(_) => false,
        };
        has_work && self.is_open(side)
    }

    /// Tells whether something is still to be sent anywhere.
    fn wants_any(&self, deletes: bool) -> bool {
        (0..self.done.len()).any(|side| self.wants(side, deletes))
    }

    pub(crate) fn fail(&mut self, side: usize, told: Told, at_once: bool) {
        self.trouble = Some(Trouble { side, told, refused: None, at_once });
    }
}

pub(crate) struct Applier<'r> {
    pub(crate) rule: &'r Rule,
    pub(crate) store: &'r Store,
    pub(crate) route: RouteId,
    pub(crate) run: RunId,
    pub(crate) options: &'r RunOptions,
    pub(crate) gatherer: &'r Gatherer<'r>,
    pub(crate) decider: &'r RefCell<Decider<'r>>,
    pub(crate) mirrors: &'r [Mirror<'r>],
    pub(crate) observer: &'r dyn Observer,
    pub(crate) outcome: RefCell<Outcome>,
    /// How far the writing is: done, and in all.
    pub(crate) progress: Cell<(usize, usize)>,
}

impl Applier<'_> {
    /// Does what was decided about some cases, and records it. `deletes` says whether deletions are done: those that
    /// a guard has seen.
    pub(crate) async fn apply(&self, works: Vec<Work>, deletes: bool) -> Result<(), RunError> {
        let mut works = works;
        let mut failed = None;
        let mut next = 0;
        // Entries that a person wants to keep besides come on top.
        while next < works.len() {
            let from = next;
            next = works.len();
            let begun = &mut works[from..];
            match self.work(begun, deletes).await {
                Ok(()) => {}
                Err(error @ RunError::Store(_)) => return Err(error),
                // What was done is recorded before anything else; of the rest, nothing counts.
                Err(error) => {
                    failed = failed.or(Some(error));
                    let open = works[from..].iter_mut().filter(|work| work.wants_any(deletes));
                    open.for_each(|work| work.left = true);
                }
            }
            let beside: Vec<Work> = works[from..].iter().filter_map(|work| self.beside(work)).collect();
            works.extend(beside);
        }
        self.note_own_uids()?;
        let settled = works.iter().filter(|work| work.trouble.is_none() && !work.left);
        let links: BTreeSet<LinkId> = settled.filter_map(|work| work.case.link).collect();
        self.record(&mut works)?;
        self.gatherer.awaited.borrow_mut().retain(|_, link| !links.contains(link));
        failed.map_or(Ok(()), Err)
    }

    /// Remembers of what is about to be taken back that it stays so: a run that is cut off leaves nothing behind that
    /// the next one would take for somebody's edit.
    pub(crate) fn set_aside(&self, works: &mut [Work]) -> Result<(), RunError> {
        let fate = Fate::LeaveOut(LeftOut::Undone);
        let is_meant = |work: &Work| work.verdict.fate == fate;
        let plain = |work: &Work| {
            let steps = vec![Step::Leave; work.case.places.len()];
            let verdict =
                Verdict { agreed: work.case.agreed.clone(), ..Verdict::of_steps(steps, fate.clone()) };
            Work::new(work.case.clone(), verdict)
        };
        let mut aside: Vec<Work> = works.iter().filter(|work| is_meant(work)).map(plain).collect();
        self.record(&mut aside)?;
        let ahead = self.store.ahead();
        let mut links = aside.iter().filter_map(|work| work.case.link);
        ahead.ask(|| links.try_for_each(|link| self.store.link(link).map(drop)))?;
        for (work, aside) in works.iter_mut().filter(|work| is_meant(work)).zip(aside) {
            work.case.link = aside.case.link;
            // It was told.
            work.case.found_done.clear();
            work.case.row = work.case.link.map(|link| self.store.link(link)).transpose()?.flatten();
        }
        Ok(())
    }

    async fn work(&self, works: &mut [Work], deletes: bool) -> Result<(), RunError> {
        for _ in 0..ROUNDS * 2 {
            for side in 0..self.rule.ends.len() {
                if self.rule.ends[side].takes {
                    self.write_all(works, side).await?;
                    if deletes {
                        self.delete_all(works, side).await?;
                    }
                }
            }
            if !works.iter().any(|work| work.wants_any(deletes)) {
                break;
            }
        }
        Ok(())
    }

    /// Asks ahead what is asked while cases are recorded.
    pub(crate) fn records_ahead(&self, works: &[Work]) -> Result<Ahead<'_>, StoreError> {
        let objects = works.iter().flat_map(Work::objects);
        self.gatherer.records_ahead(objects, works.iter().flat_map(Work::known_texts))
    }

    fn writing<'w>(&self, work: &'w Work, side: usize) -> Option<&'w Writing> {
        work.verdict.writing(side).filter(|_| work.is_open(side))
    }

    pub(crate) fn href_of(&self, work: &Work, side: usize) -> ObjectHref {
        let standing = work.case.href(side).cloned();
        let writing = work.verdict.writing(side);
        match (writing, standing) {
            (Some(writing), _) if writing.kind == WriteKind::Create => {
                let own = || self.rule.ends[side].calendar.new_href(writing.entry.uid());
                work.hrefs[side].clone().unwrap_or_else(own)
            }
            (_, Some(standing)) => standing,
            (_, None) => ObjectHref::from(""),
        }
    }

    /// Tells whether a case is written to a server of which nobody knows whether it minds conditions: it shows.
    pub(crate) fn is_trial(&self, work: &Work) -> bool {
        (0..self.mirrors.len()).any(|side| {
            self.writing(work, side).is_some() && self.mirrors[side].ignores_conditions().is_none()
        })
    }

    async fn write_all(&self, works: &mut [Work], side: usize) -> Result<(), RunError> {
        loop {
            let mut batch: Vec<usize> =
                (0..works.len()).filter(|at| self.writing(&works[*at], side).is_some()).collect();
            if batch.is_empty() {
                return Ok(());
            }
            let ignores = self.mirrors[side].ignores_conditions();
            // The first write to an unknown server shows whether it minds conditions.
            if ignores.is_none() {
                batch.truncate(1);
            }
            let must_look = match ignores {
                Some(ignores) => ignores,
                None => works[batch[0]].verdict.writing(side).is_some_and(|w| w.kind == WriteKind::Update),
            };
            if must_look {
                let hrefs: Vec<_> = batch.iter().map(|at| self.href_of(&works[*at], side)).collect();
                self.mirrors[side].read_now(&hrefs).await?;
                let ahead = ahead::at(self.store, self.mirrors[side].id, &hrefs)?;
                for (at, href) in batch.iter().zip(&hrefs) {
                    self.look(&mut works[*at], side, href)?;
                }
                drop(ahead);
                batch.retain(|at| self.writing(&works[*at], side).is_some());
                // Of these, some may be written elsewhere now.
                batch.retain(|at| hrefs.contains(&self.href_of(&works[*at], side)));
            }
            self.intend(works, &batch, side)?;
            self.tell_losers(works, &batch)?;
            let (sent, read) = self.write_batch(works, &batch, side).await;
            self.take_answers(works, &batch, side, sent, &read).await?;
        }
    }

    /// Compares what stands there now with what was decided on, and decides again where it is something else.
    pub(crate) fn look(&self, work: &mut Work, side: usize, href: &ObjectHref) -> Result<bool, RunError> {
        let found = self.store.object_at(self.mirrors[side].id, href)?;
        let was = &work.case.places[side].stands;
        let is_same = match (&found, was) {
            (None, Stands::Never | Stands::Gone) => true,
            (Some(now), Stands::Present(then, kept)) if now.id == then.id => {
                now.state == chestnut_store::ObjectState::Present
                    && now.body == kept.text.id
                    && now.etag == then.etag
            }
            _ => false,
        };
        if is_same {
            return Ok(true);
        }
        let stands = match found {
            Some(found) => self.gatherer.stands(found)?,
            None if matches!(was, Stands::Never) => Stands::Never,
            None => Stands::Gone,
        };
        if let (Some(writing), Stands::Present(_, kept)) = (work.verdict.writing(side), &stands)
            && writing.kind == WriteKind::Create
        {
            // Only the same entry is taken as the same: another one has its place, and keeps it.
            if kept.entry.uid() != writing.entry.uid() {
                let name = writing.entry.uid().file_name();
                let name = name.as_str().trim_end_matches(".ics");
                let other = EventUid::from(format!("{name}-{}", work.round + 2));
                work.hrefs[side] = Some(self.rule.ends[side].calendar.new_href(&other));
                work.round += 1;
                return Ok(false);
            }
            // Nor is one of another case.
            if let Some(object) = stands.object()
                && self.is_anothers(object, work)?
            {
                if !self.takes_another_uid(work, side)? {
                    work.fail(side, Told::UidTaken, false);
                }
                return Ok(false);
            }
            if !self.rule.ends[side].gives {
                work.case.places[side].origin = Origin::Copy;
            }
        }
        self.decide_again(work, Some((side, stands)))?;
        Ok(false)
    }

    /// Tells whether an object is another case's.
    pub(crate) fn is_anothers(&self, object: &Object, work: &Work) -> Result<bool, RunError> {
        Ok(self.store.link_of(self.route, object.id)?.is_some_and(|link| Some(link) != work.case.link))
    }

    /// Gives a new copy another UID, where the copy of another source has the one that it would get.
    pub(crate) fn takes_another_uid(&self, work: &mut Work, side: usize) -> Result<bool, RunError> {
        let is_copy = work.verdict.writing(side).is_some_and(|writing| {
            writing.kind == WriteKind::Create && self.rule.key.is_of_copy(writing.entry.uid())
        });
        let place = &mut work.case.places[side];
        if self.rule.ends[side].gives || !is_copy || place.copy_uid_is_taken {
            return Ok(false);
        }
        place.copy_uid_is_taken = true;
        work.hrefs[side] = None;
        self.decide_again(work, None)?;
        Ok(true)
    }

    /// Decides once more, perhaps since something else stands in one calendar now.
    pub(crate) fn decide_again(
        &self,
        work: &mut Work,
        news: Option<(usize, Stands)>,
    ) -> Result<(), RunError> {
        work.take_as_agreed(self.rule.covers().number());
        if let Some((side, stands)) = news {
            work.case.places[side].stands = stands;
        }
        work.round += 1;
        if work.round >= ROUNDS || work.is_once {
            let side =
                work.verdict.steps.iter().position(|step| matches!(step, Step::Write(_) | Step::Delete(_)));
            let told = if work.is_once { Told::ChangedMeanwhile } else { Told::KeepsChanging };
            work.fail(side.unwrap_or(0), told, true);
            return Ok(());
        }
        let before = work.verdict.deletes().is_some();
        let verdict = self.decider.borrow().decide(&work.case);
        // What turned into a deletion was not guarded: it waits for the next run.
        if verdict.deletes().is_some() && !before {
            work.verdict = Verdict { fate: Fate::Wait, due: Some(0), ..verdict };
            work.verdict.steps.iter_mut().for_each(|step| *step = Step::Leave);
            return Ok(());
        }
        // What was done already, and is done once more, is told with the text that stood there first.
        for (side, step) in verdict.steps.iter().enumerate() {
            if matches!(step, Step::Write(_))
                && let Some(done) = work.done[side].take()
            {
                self.tell(self.done_line(work, side, &done))?;
            }
        }
        work.verdict = verdict;
        work.note_losers();
        Ok(())
    }

    /// Records what is about to be sent; new cases begin with it.
    fn intend(&self, works: &mut [Work], batch: &[usize], side: usize) -> Result<(), RunError> {
        let (store, route) = (self.store, self.route);
        let carried = self.rule.covers().number();
        let (links, found) = store.write(|writer| {
            let _ahead = self.records_ahead(works)?;
            let (mut links, mut found): (Vec<LinkId>, Vec<Change>) = Default::default();
            for at in batch {
                let work = &works[*at];
                found.extend(self.record_found(writer, work)?);
                let link = match work.case.link {
                    Some(link) => link,
                    None => {
                        let row = LinkRow { due: Some(0), ..new_row(LinkState::Failed) };
                        let link = writer.put_link(route, None, &row)?;
                        for (other, place) in work.case.places.iter().enumerate() {
                            let object = place.stands.object().map(|object| object.id);
                            let row =
                                PlaceRow { side: other, object, origin: place.origin, ..no_place(other) };
                            writer.put_place(route, link, &row)?;
                        }
                        link
                    }
                };
                let kept = |kept: Option<&Rc<Kept>>| kept.map(|k| writer.keep_text(&k.text)).transpose();
                let sent =
                    work.verdict.writing(side).map(|writing| writer.keep(&writing.text)).transpose()?;
                // What was written in this run already says what is agreed.
                let mut stood = Vec::new();
                for (other, place) in work.case.places.iter().enumerate() {
                    if let Some(text) = place.stands.kept().filter(|_| work.done[other].is_none()) {
                        stood.push((other, writer.keep_text(&text.text)?));
                    }
                }
                writer.intend(
                    route,
                    &Intent {
                        link,
                        side,
                        href: self.href_of(work, side),
                        sent,
                        stood: kept(work.case.places[side].stands.kept())?,
                        agreed: kept(work.verdict.agreed.as_ref())?,
                        carried,
                        form: self
                            .decider
                            .borrow()
                            .form_of(work.verdict.agreed.as_ref().map(|kept| &kept.entry)),
                    },
                )?;
                // After the intent: what nobody intends any more is not considered.
                writer.consider(link, &stood)?;
                links.push(link);
            }
            Ok((links, found))
        })?;
        self.report(found);
        let mut awaited = self.gatherer.awaited.borrow_mut();
        for (at, link) in batch.iter().zip(links) {
            let case = &mut works[*at].case;
            case.link = Some(link);
            if !std::mem::take(&mut case.found_out).is_empty() {
                case.found_done.clear();
            }
            let is_new = works[*at].verdict.writing(side).is_some_and(|w| w.kind == WriteKind::Create);
            if is_new {
                awaited.insert((self.mirrors[side].id, self.href_of(&works[*at], side)), link);
            }
        }
        Ok(())
    }

    /// What is about to be written over is told of before: a run that is cut off must not lose it.
    fn tell_losers(&self, works: &mut [Work], batch: &[usize]) -> Result<(), RunError> {
        for at in batch {
            let work = &mut works[*at];
            let lines = self.overruled(work);
            self.outcome.borrow_mut().disagreements += usize::from(work.told == 0 && !lines.is_empty());
            work.told = work.overruled.len();
            for line in lines {
                self.tell(line)?;
            }
        }
        Ok(())
    }

    /// A line for each word that does not count, and of which was not told yet.
    pub(crate) fn overruled(&self, work: &Work) -> Vec<Change> {
        let line = |Overruled { side, fields, before }: &Overruled| {
            let told = Some(Told::Overruled { fields: fields.clone() });
            self.line(work, *side, ChangeAction::Overruled, told, before.clone())
        };
        work.overruled[work.told..].iter().map(line).collect()
    }

    /// Sends a batch of writes; answers come in the order of the batch. Meanwhile what was stored is read back: returns
    /// of which that was done.
    async fn write_batch(
        &self,
        works: &[Work],
        batch: &[usize],
        side: usize,
    ) -> (Vec<Sent>, BTreeSet<usize>) {
        let stored = RefCell::new(Vec::new());
        let hear = |at| stored.borrow_mut().push(at);
        let mut sending = std::pin::pin!(self.send_batch(works, batch, side, &hear));
        let mut read = BTreeSet::new();
        loop {
            // Until so many are stored that a question for them is worth it.
            let sent = std::future::poll_fn(|context| match sending.as_mut().poll(context) {
                Poll::Ready(answers) => Poll::Ready(Some(answers)),
                Poll::Pending if stored.borrow().len() >= READ_BACK => Poll::Ready(None),
                Poll::Pending => Poll::Pending,
            });
            if let Some(answers) = sent.await {
                return (answers, read);
            }
            let due: Vec<usize> = stored.take();
            let hrefs: Vec<_> = due.iter().map(|at| self.href_of(&works[*at], side)).collect();
            let reading = std::pin::pin!(self.mirrors[side].read_back(&hrefs));
            // What cannot be read now is asked for once more afterwards, and fails there.
            match select(sending.as_mut(), reading).await {
                Either::Left((answers, reading)) => {
                    read.extend(reading.await.is_ok().then_some(due).into_iter().flatten());
                    return (answers, read);
                }
                Either::Right((done, _)) => read.extend(done.is_ok().then_some(due).into_iter().flatten()),
            }
        }
    }

    /// Sends a batch; answers come in the order of the batch. `stored` hears of each that its server took.
    async fn send_batch(
        &self,
        works: &[Work],
        batch: &[usize],
        side: usize,
        stored: &dyn Fn(usize),
    ) -> Vec<Sent> {
        let end = &self.rule.ends[side];
        let sends = batch.iter().enumerate().map(|(number, at)| {
            let work = &works[*at];
            let href = self.href_of(work, side);
            let writing = work.verdict.writing(side);
            let kind = writing.map_or(WriteKind::Update, |writing| writing.kind);
            let condition = condition(kind, work.case.places[side].stands.etag(), work.lied[side]);
            let is_silent = || self.decider.borrow().mail_of_deletion(&work.case, side) == Mail::UnlessTold;
            let silently = writing.is_none() && is_silent();
            async move {
                let text = writing.map(|writing| writing.text.as_str());
                let out = Outgoing { href: &href, text, condition, silently };
                let sent = send(end, &out, &self.options.stop).await;
                let is_minded = matches!(sent, Sent::Refused { .. } | Sent::Fails(_));
                // What is legal and unusual, many servers refuse: the same in a plainer form is taken.
                let plainer = writing.filter(|_| is_minded).and_then(|writing| writing.entry.plainer());
                let Some(plainer) = plainer else { return (number, sent) };
                let text = plainer.caldav_text(self.options.now);
                let out = Outgoing { text: Some(&text), ..out };
                (number, send(end, &out, &self.options.stop).await)
            }
        });
        let mut sends = stream::iter(sends).buffer_unordered(end.calendar.width().min(batch.len().max(1)));
        let mut answers: Vec<Option<Sent>> = batch.iter().map(|_| None).collect();
        while let Some((number, sent)) = sends.next().await {
            if matches!(sent, Sent::Done(..)) {
                stored(batch[number]);
            }
            answers[number] = Some(sent);
            let (done, total) = self.progress.get();
            // What is decided again is sent again.
            let done = (done + 1).min(total);
            self.progress.set((done, total));
            self.observer.progress(Progress { phase: Phase::Writing, done, total });
        }
        answers.into_iter().map(|sent| sent.expect("every write was sent")).collect()
    }

    fn note_own_uids(&self) -> Result<(), RunError> {
        for (side, mirror) in self.mirrors.iter().enumerate() {
            if self.decider.borrow().facts[side].own_uids {
                mirror.note(|facts| facts.own_uids = true)?;
            }
        }
        Ok(())
    }

    /// Looks once more, keeps what stands there, and deletes it.
    async fn delete_all(&self, works: &mut [Work], side: usize) -> Result<(), RunError> {
        let is_deletion =
            |work: &Work| matches!(work.verdict.steps[side], Step::Delete(_)) && work.is_open(side);
        let mut batch: Vec<usize> = (0..works.len()).filter(|at| is_deletion(&works[*at])).collect();
        if batch.is_empty() {
            return Ok(());
        }
        let hrefs: Vec<_> = batch.iter().map(|at| self.href_of(&works[*at], side)).collect();
        self.mirrors[side].read_now(&hrefs).await?;
        let ahead = ahead::at(self.store, self.mirrors[side].id, &hrefs)?;
        for (at, href) in batch.iter().zip(&hrefs) {
            if !self.look(&mut works[*at], side, href)? {
                // What is not known now is left for the next run.
                tracing::debug!(%href, "changed, or not to be read, before its deletion");
            }
        }
        drop(ahead);
        batch.retain(|at| is_deletion(&works[*at]));
        self.intend(works, &batch, side)?;
        let answers = self.send_batch(works, &batch, side, &|_| {}).await;
        for (at, sent) in batch.iter().zip(answers) {
            let work = &mut works[*at];
            let href = self.href_of(work, side);
            match sent {
                Sent::Done(..) => {
                    let before = work.case.places[side].stands.text();
                    self.outcome.borrow_mut().wrote.insert(side);
                    self.outcome.borrow_mut().counts[side].deleted += 1;
                    self.outcome.borrow_mut().deleted.push((side, href));
                    let (action, partly) = (ChangeAction::Deleted, Partly::default());
                    work.done[side] = Some(Done { action, before, told: None, partly, stood: None });
                }
                Sent::LookAgain if work.lied[side] => work.fail(side, Told::FalseCondition, false),
                Sent::LookAgain => {
                    work.lied[side] = true;
                    work.round += 1;
                }
                Sent::Refused { told, .. } => work.fail(side, told, false),
                Sent::UidTaken(_) => work.fail(side, Told::NotDeleted { status: 409 }, false),
                Sent::Fails(status) => work.fail(side, Told::NotDeleted { status }, true),
                Sent::Lost(error) => work.fail(side, Told::Lost { error: error.facts() }, true),
                Sent::NotBegun => {
                    self.outcome.borrow_mut().left += 1;
                    work.left = true;
                }
                Sent::SignIn(error) => return Err(self.rule.ends[side].failed(error)),
            }
        }
        Ok(())
    }

    /// What a person wants to keep besides, as a case of its own: it goes everywhere in the same run.
    fn beside(&self, work: &Work) -> Option<Work> {
        let (_, entry) = work.verdict.beside.clone()?;
        if work.trouble.is_some() || work.left {
            return None;
        }
        let case = Case::new(self.rule.ends.len());
        let agreed = Kept::of(None, entry.caldav_text(self.options.now));
        let steps = (0..case.places.len())
            .map(|side| {
                let sight = self.decider.borrow().sight(side);
                let view = sight.of_far_side(&entry);
                let own = view.put(&Identity::New(entry.uid().clone()));
                Step::Write(Box::new(Writing {
                    kind: WriteKind::Create,
                    text: own.caldav_text(self.options.now),
                    view: view.fingerprint(),
                    entry: own,
                    sight,
                    partly: Partly::default(),
                    comes_back: false,
                }))
            })
            .collect();
        let verdict = Verdict { agreed, ..Verdict::of_steps(steps, Fate::Keep) };
        let verdict = self.decider.borrow().silenced(&case, verdict);
        Some(Work::new(case, verdict))
    }

    /// How long to wait before what failed is tried again.
    pub(crate) fn pause(&self, tries: u16) -> i64 {
        let pause = FIRST_PAUSE.saturating_mul(4_i64.saturating_pow(u32::from(tries)));
        self.options.now.as_second() + pause.min(LONGEST_PAUSE)
    }

    /// A line for the story of a run.
    pub(crate) fn change(
        &self,
        case: &Case,
        side: usize,
        href: &ObjectHref,
        done: &Done,
        written: Option<&Entry>,
    ) -> Change {
        let shown = written.or_else(|| case.shown());
        let uid = written.map(Entry::uid).or_else(|| case.uid(side));
        Change {
            calendar: self.rule.ends[side].name.clone(),
            action: done.action,
            href: href.clone(),
            uid: uid.cloned().unwrap_or_else(|| EventUid::from("")),
            title: shown.map_or_else(|| case.title(), Entry::title),
            start: written.map_or_else(|| case.start(), start_text),
            told: done.told.clone(),
            before: done.before.clone(),
            after: written.and_then(|_| case.places[side].stands.text()),
            link: case.link,
        }
    }

    /// A line for what was done in one calendar.
    pub(crate) fn done_line(&self, work: &Work, side: usize, done: &Done) -> Change {
        let Partly { without_people, without_attachments, in_unknown_zone } = done.partly;
        let lacks =
            Told::Lacks { people: without_people, attachments: without_attachments, zone: in_unknown_zone };
        let lacks = (done.partly != Partly::default()).then_some(lacks);
        let href = work.case.href(side).cloned().unwrap_or_else(|| ObjectHref::from(""));
        let written = work.verdict.writing(side).map(|writing| &writing.entry);
        let done = Done { told: done.told.clone().or(lacks), ..done.clone() };
        self.change(&work.case, side, &href, &done, written)
    }

    /// Adds a line to the story at once.
    pub(crate) fn tell(&self, change: Change) -> Result<(), RunError> {
        self.store.write(|writer| writer.add_change(self.run, &change))?;
        self.report([change]);
        Ok(())
    }

    /// Remembers for the report what was recorded, without the texts; what was done as it should be, only on request:
    /// all of it is in the history.
    pub(crate) fn report(&self, changes: impl IntoIterator<Item = Change>) {
        let plain =
            [ChangeAction::Created, ChangeAction::Updated, ChangeAction::Deleted, ChangeAction::Linked];
        let is_told = |change: &Change| self.options.names_all || !plain.contains(&change.action);
        let told = changes.into_iter().filter(is_told);
        let keeps_texts = self.options.names_all;
        self.outcome.borrow_mut().changes.extend(told.map(|change| match keeps_texts {
            true => change,
            false => Change { before: None, after: None, ..change },
        }));
    }
}

pub(crate) fn new_row(state: LinkState) -> LinkRow {
    LinkRow {
        state,
        reason: String::new(),
        agreed: None,
        carried: 0,
        form: 0,
        due: None,
        tries: 0,
        told: None,
        partly: Partly::default(),
    }
}

pub(crate) fn no_place(side: usize) -> PlaceRow {
    PlaceRow {
        side,
        object: None,
        origin: Origin::Original,
        seq: 0,
        stood: None,
        agreed: None,
        refused: None,
        let_go: false,
    }
}

/// What is known of habits at the beginning of a run.
pub(crate) fn habits_of(seen: &BTreeMap<String, u32>) -> Habits {
    let known = seen.iter().filter(|(_, seen)| **seen >= IS_HABIT).map(|(name, _)| name.clone());
    Habits { changes: known.collect(), ..Habits::default() }
}
