//! Writes and deletes what was planned: on conditions, recorded before it is sent, read back before it counts.

use std::collections::{BTreeMap, VecDeque};

use chestnut_core::{
    Action, Decision, ETag, Entry, EventUid, Fingerprint, LinkFacts, ObjectHref, Pair, Partly, RoutePolicy,
    Side, Sight, WriteKind, reconcile,
};
use chestnut_store::{
    Agreed, Change, ChangeAction, Counts, Known, LinkId, LinkRow, RouteId, RunId, SideId, SideState, Store,
};
use futures_util::stream::{self, StreamExt as _};

use crate::error::RunError;
use crate::observe::{Observer, Phase, Progress};
use crate::plan::{Planned, Seen, side};
use crate::record::{
    NEVER, Record, facts, field_names, known_row, record_agreement, source_known, start_text,
};
use crate::route::{Route, RunOptions};
use crate::sender::{Outgoing, Removed, Sender, Sent};
use crate::survey::{Item, Surveyor};

/// Writes between two readings back.
const BATCH: usize = 200;
/// How often an entry is decided again because somebody else wrote it meanwhile.
const ROUNDS: usize = 3;
/// So many writes in a row without an answer: the server is not there.
const GIVE_UP_AFTER: usize = 4;

/// What applying a plan came to.
#[derive(Debug, Default)]
pub(crate) struct Outcome {
    pub(crate) counts: Counts,
    pub(crate) linked: usize,
    pub(crate) damaged: usize,
    pub(crate) failed: usize,
    pub(crate) changes: Vec<Change>,
    /// What was written, with the ETag read back; `None` for what was deleted.
    pub(crate) ours: BTreeMap<ObjectHref, Option<ETag>>,
    /// Entries of the source that the next run must decide again.
    pub(crate) again: Vec<ObjectHref>,
    /// Writes that were not begun because a person asked to stop.
    pub(crate) left: usize,
}

/// One write, and what it belongs to.
#[derive(Debug, Clone)]
pub(crate) struct Write {
    pub(crate) link: Option<(LinkId, LinkRow)>,
    pub(crate) source: Seen,
    /// What stands there; `None` for a new entry.
    pub(crate) target: Option<Seen>,
    pub(crate) entry: Entry,
    pub(crate) text: String,
    pub(crate) view: Fingerprint,
    pub(crate) sight: Sight,
    pub(crate) partly: Partly,
    pub(crate) kind: WriteKind,
    pub(crate) href: ObjectHref,
    pub(crate) round: usize,
}

impl Write {
    fn outgoing(&self) -> Outgoing<'_> {
        Outgoing {
            href: &self.href,
            uid: self.entry.uid(),
            text: &self.text,
            kind: self.kind,
            standing: self.target.as_ref().map(|t| (t.etag.as_ref(), t.text.as_str())),
        }
    }

    pub(crate) fn source_uid(&self) -> &EventUid {
        match (&self.source.entry, &self.link) {
            (Some(entry), _) => entry.uid(),
            (None, Some((_, row))) => &row.source_uid,
            (None, None) => self.entry.uid(),
        }
    }
}

pub(crate) struct Applier<'r> {
    pub(crate) route: &'r Route,
    pub(crate) store: &'r Store,
    pub(crate) id: RouteId,
    pub(crate) run: RunId,
    pub(crate) options: &'r RunOptions,
    pub(crate) policy: &'r RoutePolicy,
    pub(crate) carry_changed: bool,
    pub(crate) surveyor: &'r Surveyor<'r>,
    pub(crate) observer: &'r dyn Observer,
    pub(crate) state: &'r mut SideState,
    pub(crate) outcome: Outcome,
}

impl Applier<'_> {
    /// Does everything that is planned and not held.
    pub(crate) async fn apply(&mut self, planned: &[Planned], deletions_held: bool) -> Result<(), RunError> {
        let writes: VecDeque<Write> =
            planned.iter().filter_map(|p| self.write_of(p, &p.decision, 0)).collect();
        self.write_all(writes).await?;
        let deletions: Vec<_> =
            planned.iter().filter(|p| matches!(p.decision, Decision::Act(Action::Delete(_)))).collect();
        if deletions_held {
            return Ok(());
        }
        for batch in deletions.chunks(BATCH) {
            self.delete_batch(batch).await?;
        }
        Ok(())
    }

    fn write_of(&self, planned: &Planned, decision: &Decision, round: usize) -> Option<Write> {
        let Decision::Act(Action::Write { kind, entry, text, view, sight, partly }) = decision else {
            return None;
        };
        let href = match (kind, &planned.target) {
            (WriteKind::Update, Some(target)) => target.href.clone(),
            _ => self.route.target.calendar.new_href(entry.uid()),
        };
        Some(Write {
            link: planned.link.clone(),
            source: planned.source.clone()?,
            target: planned.target.clone(),
            entry: entry.clone(),
            text: text.clone(),
            view: *view,
            sight: *sight,
            partly: *partly,
            kind: *kind,
            href,
            round,
        })
    }

    fn sender(&self) -> Sender<'_> {
        Sender {
            end: &self.route.target,
            side: SideId::Target,
            store: self.store,
            id: self.id,
            stop: &self.options.stop,
            surveyor: self.surveyor,
        }
    }

    async fn write_all(&mut self, mut queue: VecDeque<Write>) -> Result<(), RunError> {
        let total = queue.len();
        let mut done = 0;
        let mut silent = 0;
        let mut stumbled: Vec<(Write, u16)> = Vec::new();
        while !queue.is_empty() {
            // The first write to an unknown server shows whether it minds conditions.
            let size = if self.state.ignores_conditions.is_none() { 1 } else { BATCH };
            let batch: Vec<Write> = queue.drain(..size.min(queue.len())).collect();
            self.intend(batch.iter().map(|w| (&w.href, w.source_uid())))?;
            let results = self.send_batch(&batch, done, total).await;
            done += batch.len();
            let (mut stored, mut look_again) = (Vec::new(), Vec::new());
            for (write, sent) in batch.into_iter().zip(results) {
                silent = if matches!(sent, Sent::Lost(_)) { silent + 1 } else { 0 };
                match sent {
                    Sent::Stored => stored.push(write),
                    Sent::LookAgain(href) => look_again.push((write, href)),
                    Sent::Refused(words) => self.record_refusal(&write, words)?,
                    Sent::UidTaken => {
                        let words = "the server has another entry with its UID in another calendar";
                        self.record_refusal(&write, words.to_owned())?;
                    }
                    Sent::Stumbled(status) => stumbled.push((write, status)),
                    Sent::NotBegun => {
                        self.outcome.left += 1;
                        self.outcome.again.push(write.source.href);
                    }
                    Sent::SignIn => {
                        return Err(self.route.target.sign_in_failed());
                    }
                    Sent::Lost(error) if silent >= GIVE_UP_AFTER => {
                        return Err(self.route.target.failed(error));
                    }
                    Sent::Lost(error) => self.fail(&write, error.to_string())?,
                }
            }
            if self.state.ignores_conditions.is_none() {
                let tried = stored.first().map(Write::outgoing);
                self.state.ignores_conditions = self.sender().try_conditions(tried.as_ref()).await;
            }
            self.read_back(stored, done, total).await?;
            for write in self.decide_again(look_again).await? {
                queue.push_back(write);
            }
        }
        let others_went_through = !self.outcome.ours.is_empty();
        for (write, status) in stumbled {
            let words = format!("the server fails on this entry ({status})");
            // One entry that fails while others are stored fails by itself: it is not sent for ever.
            if others_went_through && status == 500 {
                self.record_refusal(&write, words)?;
            } else {
                self.fail(&write, words)?;
            }
        }
        Ok(())
    }

    fn intend<'a>(
        &self,
        writes: impl Iterator<Item = (&'a ObjectHref, &'a EventUid)>,
    ) -> Result<(), RunError> {
        let mut writes = writes;
        Ok(self.store.write(|writer| writes.try_for_each(|(href, uid)| writer.intend(self.id, href, uid)))?)
    }

    /// Sends a batch; results come in the order of the batch.
    async fn send_batch(&self, batch: &[Write], done: usize, total: usize) -> Vec<Sent> {
        let mut results: Vec<Option<Sent>> = batch.iter().map(|_| None).collect();
        let (sender, ignores) = (self.sender(), self.state.ignores_conditions);
        let sender = &sender;
        let sends = batch
            .iter()
            .enumerate()
            .map(|(i, write)| async move { (i, sender.send(&write.outgoing(), ignores).await) });
        let mut sends = stream::iter(sends).buffer_unordered(self.route.target.calendar.width().min(BATCH));
        let mut finished = 0;
        while let Some((i, sent)) = sends.next().await {
            results[i] = Some(sent);
            finished += 1;
            self.observer.progress(Progress { phase: Phase::Writing, done: done + finished, total });
        }
        results.into_iter().map(|sent| sent.expect("every write was sent")).collect()
    }

    /// Reads back what was stored, compares it with what was meant, and remembers both.
    async fn read_back(&mut self, stored: Vec<Write>, done: usize, total: usize) -> Result<(), RunError> {
        if stored.is_empty() {
            return Ok(());
        }
        self.observer.progress(Progress { phase: Phase::ReadingBack, done, total });
        let hrefs: Vec<_> = stored.iter().map(|w| w.href.clone()).collect();
        let mut found: BTreeMap<_, _> = self.surveyor.fetch(&hrefs).await?.into_iter().collect();
        let mut records = Vec::new();
        for write in stored {
            let item = found.remove(&write.href).flatten();
            records.push(self.judge(write, item.as_ref()));
        }
        let (store, id, run) = (self.store, self.id, self.run);
        store.write(|writer| {
            for record in &records {
                record.write(writer, id, run)?;
            }
            Ok(())
        })?;
        for record in records {
            self.count(record);
        }
        Ok(())
    }

    fn judge(&self, write: Write, item: Option<&Item>) -> Record {
        let done = match write.kind {
            WriteKind::Create => ChangeAction::Created,
            WriteKind::Update => ChangeAction::Updated,
        };
        let etag = item.and_then(|i| i.etag().cloned());
        let (facts, words, far_text, far_uid) = match item {
            Some(Item::Entry { entry, text, .. }) => {
                let far = write.sight.of_far_side(entry).fingerprint();
                let words = (far != write.view).then(|| {
                    let differences = write.entry.meaning().differences(&entry.meaning());
                    format!("the server changed {}", field_names(&differences))
                });
                (facts(write.view, Some(far)), words, text.clone(), entry.uid().clone())
            }
            Some(Item::Unreadable { words, .. }) => {
                let words = format!("the server keeps something else than it was given ({words})");
                (facts(write.view, None), Some(words), write.text.clone(), write.entry.uid().clone())
            }
            None => {
                let words = "the server said it was stored, and keeps nothing".to_owned();
                let facts = LinkFacts { view: NEVER, far: None, refused: Some(write.view) };
                (facts, Some(words), String::new(), write.entry.uid().clone())
            }
        };
        let action = if words.is_some() { ChangeAction::Damaged } else { done };
        let kept = item.is_some();
        let target = kept.then(|| known_row(&write.href, etag, item.and_then(Item::entry), &write));
        let agreed = kept.then(|| Agreed { source: write.source.text.clone(), target: far_text });
        let row = LinkRow {
            source_uid: write.source_uid().clone(),
            target_uid: far_uid,
            facts,
            words: words.clone(),
            partly: write.partly,
        };
        let before = write.target.as_ref().map(|t| t.text.clone()).filter(|t| !t.is_empty());
        let told = words.or_else(|| partly_words(write.partly));
        let change = self.change(&write, action, told, before);
        let source = source_known(self.policy, &write.source);
        Record { done, write, source, row, target, agreed, change }
    }

    fn count(&mut self, record: Record) {
        let outcome = &mut self.outcome;
        match (record.target.is_some(), record.done) {
            (true, ChangeAction::Created) => outcome.counts.created += 1,
            (true, _) => outcome.counts.updated += 1,
            (false, _) => {}
        }
        outcome.damaged += usize::from(record.change.action == ChangeAction::Damaged);
        outcome.ours.insert(record.write.href, record.target.and_then(|t| t.etag));
        outcome.changes.push(record.change);
    }

    fn change(
        &self,
        write: &Write,
        action: ChangeAction,
        words: Option<String>,
        before: Option<String>,
    ) -> Change {
        let source = write.source.entry.as_ref();
        Change {
            calendar: self.route.target.name.clone(),
            action,
            href: write.href.clone(),
            uid: write.entry.uid().clone(),
            title: write.entry.title(),
            start: source.map(start_text).unwrap_or_default(),
            words,
            before,
        }
    }

    fn record_refusal(&mut self, write: &Write, words: String) -> Result<(), RunError> {
        let before = write.link.as_ref().map(|(_, row)| row.facts);
        let old = before.unwrap_or(LinkFacts { view: NEVER, far: None, refused: None });
        let row = LinkRow {
            source_uid: write.source_uid().clone(),
            target_uid: write
                .link
                .as_ref()
                .map_or_else(|| write.entry.uid().clone(), |(_, r)| r.target_uid.clone()),
            facts: LinkFacts { refused: Some(write.view), ..old },
            words: Some(words.clone()),
            partly: Partly::default(),
        };
        let change = self.change(write, ChangeAction::Failed, Some(words), None);
        let left_out = Some(chestnut_core::LeftOut::Refused.key().to_owned());
        let source_row = Known { left_out, ..source_known(self.policy, &write.source) };
        self.store.write(|writer| {
            let link = writer.put_link(self.id, write.link.as_ref().map(|(id, _)| *id), &row)?;
            writer.put_linked(self.id, SideId::Source, link, &source_row)?;
            writer.add_change(self.run, &change)?;
            writer.done(self.id, &write.href)
        })?;
        self.outcome.failed += 1;
        self.outcome.changes.push(change);
        Ok(())
    }

    /// A write of which nothing is known: it stays in the journal, and the next run looks.
    fn fail(&mut self, write: &Write, words: String) -> Result<(), RunError> {
        let change = self.change(write, ChangeAction::Failed, Some(words), None);
        self.record_failure(change, Some(write.source.href.clone()))
    }

    /// `source` is what the next run must decide again.
    fn record_failure(&mut self, change: Change, source: Option<ObjectHref>) -> Result<(), RunError> {
        self.store.write(|writer| writer.add_change(self.run, &change))?;
        self.outcome.failed += 1;
        self.outcome.again.extend(source);
        self.outcome.changes.push(change);
        Ok(())
    }

    /// Reads what stands there now, and has the core decide once more.
    async fn decide_again(&mut self, again: Vec<(Write, ObjectHref)>) -> Result<Vec<Write>, RunError> {
        let hrefs: Vec<_> = again.iter().map(|(_, href)| href.clone()).collect();
        if hrefs.is_empty() {
            return Ok(Vec::new());
        }
        let mut found: BTreeMap<_, _> = self.surveyor.fetch(&hrefs).await?.into_iter().collect();
        let mut writes = Vec::new();
        for (write, href) in again {
            if write.round + 1 >= ROUNDS {
                self.fail(&write, "somebody else keeps changing it; the next run tries again".to_owned())?;
                continue;
            }
            let target = found.remove(&href).flatten().map(|item| Seen {
                etag: item.etag().cloned(),
                entry: item.entry().cloned(),
                text: if let Item::Entry { text, .. } = &item { text.clone() } else { String::new() },
                href: href.clone(),
                read_now: true,
            });
            let Some(entry) = &write.source.entry else { continue };
            let facts = write.link.as_ref().map(|(_, row)| row.facts);
            let pair = Pair {
                link: facts,
                source: Side::Present(entry),
                target: side(&target),
                carry_changed: self.carry_changed,
            };
            let decision = reconcile(self.policy, &pair, self.options.now);
            let planned = Planned {
                link: write.link.clone(),
                source: Some(write.source.clone()),
                source_href: Some(write.source.href.clone()),
                target,
                decision,
                words: None,
            };
            match self.write_of(&planned, &planned.decision, write.round + 1) {
                Some(next) => writes.push(next),
                None => self.agree(&planned, &write.href)?,
            }
        }
        Ok(writes)
    }

    /// Links what is alike without a write. `intended` is the write that this settles, if any.
    pub(crate) fn agree(&mut self, planned: &Planned, intended: &ObjectHref) -> Result<(), RunError> {
        let Decision::Agree { view, far } = &planned.decision else { return Ok(()) };
        let policy = self.policy;
        let (store, id, run) = (self.store, self.id, self.run);
        let name = self.route.target.name.clone();
        let change = store.write(|writer| {
            let change = record_agreement(writer, id, policy, planned, facts(*view, Some(*far)), name)?;
            if let Some(change) = &change {
                writer.add_change(run, change)?;
            }
            writer.done(id, intended)?;
            Ok(change)
        })?;
        self.outcome.linked += usize::from(change.is_some());
        self.outcome.changes.extend(change);
        Ok(())
    }

    /// Looks once more, keeps what stands there, and deletes it.
    async fn delete_batch(&mut self, batch: &[&Planned]) -> Result<(), RunError> {
        let standing: Vec<(&Planned, &Seen)> =
            batch.iter().filter_map(|p| Some((*p, p.target.as_ref()?))).collect();
        let nobody = EventUid::from("");
        let uid = |p: &'_ Planned| {
            p.link.as_ref().map_or_else(|| nobody.clone(), |(_, row)| row.source_uid.clone())
        };
        let intended: Vec<_> = standing.iter().map(|(p, t)| (t.href.clone(), uid(p))).collect();
        self.intend(intended.iter().map(|(href, uid)| (href, uid)))?;
        let hrefs: Vec<_> = standing.iter().map(|(_, t)| t.href.clone()).collect();
        let mut found: BTreeMap<_, _> = self.surveyor.fetch(&hrefs).await?.into_iter().collect();
        let jobs: Vec<_> =
            standing.into_iter().map(|(p, t)| (p, t, found.remove(&t.href).flatten())).collect();
        let outcomes: Vec<_> = {
            let sender = self.sender();
            let sends = jobs.into_iter().map(|(planned, target, item)| {
                let sender = &sender;
                async move {
                    let outcome = sender.delete(&target.href, item.as_ref()).await;
                    (planned, target, item, outcome)
                }
            });
            let width = self.route.target.calendar.width().min(BATCH);
            stream::iter(sends).buffer_unordered(width).collect().await
        };
        for (planned, target, item, outcome) in outcomes {
            self.record_deletion(planned, target, item, outcome)?;
        }
        Ok(())
    }

    fn record_deletion(
        &mut self,
        planned: &Planned,
        target: &Seen,
        item: Option<Item>,
        outcome: Removed,
    ) -> Result<(), RunError> {
        let link = planned.link.as_ref().map(|(link, _)| *link);
        let before = match item {
            Some(Item::Entry { text, .. }) => Some(text),
            _ => Some(target.text.clone()).filter(|t| !t.is_empty()),
        };
        let shown =
            before.as_deref().and_then(|t| Entry::parse(t, &chestnut_core::ical::Limits::default()).ok());
        let mut change = Change {
            calendar: self.route.target.name.clone(),
            action: ChangeAction::Deleted,
            href: target.href.clone(),
            uid: match (&planned.link, &shown) {
                (Some((_, row)), _) => row.target_uid.clone(),
                (None, Some(entry)) => entry.uid().clone(),
                (None, None) => EventUid::from(""),
            },
            title: shown.as_ref().map(Entry::title).unwrap_or_default(),
            start: shown.as_ref().map(start_text).unwrap_or_default(),
            words: None,
            before,
        };
        let failed = match outcome {
            Removed::Done => None,
            Removed::Missing => {
                change.words = Some("it was gone already".to_owned());
                None
            }
            Removed::SignIn => {
                return Err(self.route.target.sign_in_failed());
            }
            Removed::NotBegun => {
                self.outcome.left += 1;
                self.outcome.again.extend(planned.source_href.clone());
                return Ok(());
            }
            Removed::LookAgain => Some("somebody changed it meanwhile; the next run looks again".to_owned()),
            Removed::Refused(words) => Some(words),
            Removed::Lost(error) => Some(error.to_string()),
        };
        if failed.is_some() {
            (change.action, change.before, change.words) = (ChangeAction::Failed, None, failed);
            return self.record_failure(change, planned.source_href.clone());
        }
        let (id, run) = (self.id, self.run);
        self.store.write(|writer| {
            if let Some(link) = link {
                writer.forget_link(link)?;
            }
            writer.forget_known(id, SideId::Target, &target.href)?;
            if let Some(href) = planned.source_href.as_ref().filter(|_| planned.source.is_none()) {
                writer.forget_known(id, SideId::Source, href)?;
            }
            writer.add_change(run, &change)?;
            writer.done(id, &target.href)
        })?;
        self.outcome.counts.deleted += 1;
        self.outcome.ours.insert(target.href.clone(), None);
        self.outcome.changes.push(change);
        Ok(())
    }
}

fn partly_words(partly: Partly) -> Option<String> {
    let lacks = [
        (partly.without_people, "without its people: the far server would write to them"),
        (
            partly.without_attachments,
            "without its attachments: with them it is larger than the far server allows",
        ),
    ];
    let words: Vec<_> = lacks.into_iter().filter(|(lacks, _)| *lacks).map(|(_, words)| words).collect();
    (!words.is_empty()).then(|| words.join("; "))
}
