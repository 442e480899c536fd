//! Brings all calendars of a two-way route to what was decided, and remembers it entry by entry.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_caldav::protocol::{Condition, Stored};
use chestnut_core::{
    ETag, EventUid, LeftOut, ObjectHref, ReplicaDecision, ReplicaPolicy, ReplicaWrite, Settled, WriteKind,
};
use chestnut_store::{Change, ChangeAction, Counts, HeldItem, RouteId, RunId, SideState, Store};
use futures_util::stream::{self, StreamExt as _};
use serde_json::json;

use super::group::{Group, standing};
use super::record::{After, record_group, record_left_out, record_undecided, record_waiting};
use super::{TwoWay, side_id};
use crate::error::RunError;
use crate::held::remember_deletions;
use crate::observe::{Observer, Phase, Progress};
use crate::plan::{Seen, seen_of};
use crate::record::field_names;
use crate::route::RunOptions;
use crate::sender::{Outgoing, Removed, Sender, Sent};
use crate::survey::Surveyor;

/// Entries between two records.
const BATCH: usize = 100;
/// How often an entry is decided again because somebody else wrote it meanwhile.
const ROUNDS: usize = 4;

/// What applying came to.
#[derive(Debug)]
pub(super) struct Outcome {
    pub(super) counts: Vec<Counts>,
    pub(super) linked: usize,
    pub(super) damaged: usize,
    pub(super) failed: usize,
    pub(super) disagreements: usize,
    pub(super) held_deletions: usize,
    pub(super) held_disagreements: usize,
    pub(super) left: usize,
    pub(super) changes: Vec<Change>,
    /// What was written in each calendar, with the ETag read back; `None` for what was deleted.
    pub(super) ours: Vec<BTreeMap<ObjectHref, Option<ETag>>>,
    /// What belongs to a group.
    pub(super) seen: Vec<BTreeSet<ObjectHref>>,
    /// What the next run must read again.
    pub(super) again: Vec<(usize, ObjectHref)>,
}

impl Outcome {
    pub(super) fn new(sides: usize) -> Self {
        Self {
            counts: vec![Counts::default(); sides],
            linked: 0,
            damaged: 0,
            failed: 0,
            disagreements: 0,
            held_deletions: 0,
            held_disagreements: 0,
            left: 0,
            changes: Vec::new(),
            ours: vec![BTreeMap::new(); sides],
            seen: vec![BTreeSet::new(); sides],
            again: Vec::new(),
        }
    }
}

/// A group on its way.
struct Work {
    group: Group,
    /// What was done in this run, in each calendar.
    done: Vec<Option<Done>>,
    /// Whose word did not count.
    overruled: BTreeSet<usize>,
    /// Words for what the server made of it.
    damaged: Option<String>,
    /// Nothing of it is to be remembered: the next run decides again.
    failed: bool,
    is_open: bool,
}

#[derive(Debug, Clone)]
struct Done {
    action: ChangeAction,
    before: Option<String>,
    words: Option<String>,
}

pub(super) struct Applier<'r> {
    pub(super) route: &'r TwoWay,
    pub(super) store: &'r Store,
    pub(super) id: RouteId,
    pub(super) run: RunId,
    pub(super) options: &'r RunOptions,
    pub(super) policy: &'r ReplicaPolicy,
    pub(super) surveyors: &'r [Surveyor<'r>],
    pub(super) observer: &'r dyn Observer,
    pub(super) held_deletions: bool,
    pub(super) states: Vec<SideState>,
    pub(super) outcome: Outcome,
    /// So many of the changes stand in the history already.
    pub(super) recorded: usize,
}

impl Applier<'_> {
    pub(super) async fn apply(&mut self, groups: Vec<Group>) -> Result<(), RunError> {
        for group in &groups {
            for (side, place) in group.places.iter().enumerate() {
                self.outcome.seen[side].extend(place.href.clone());
            }
        }
        let total = groups.len();
        let is_written = |side: usize| {
            groups.iter().any(|group| match &group.decision {
                ReplicaDecision::Settle(settled) => settled.writes[side].is_some(),
                _ => false,
            })
        };
        let written: Vec<usize> = (0..self.states.len()).filter(|side| is_written(*side)).collect();
        let mut finished = 0;
        let mut groups = groups.into_iter().peekable();
        while groups.peek().is_some() {
            // The first write to an unknown server shows whether it minds conditions.
            let knows = written.iter().all(|side| self.states[*side].ignores_conditions.is_some());
            let batch: Vec<Group> = groups.by_ref().take(if knows { BATCH } else { 1 }).collect();
            finished += batch.len();
            self.batch(batch).await?;
            self.observer.progress(Progress { phase: Phase::Writing, done: finished, total });
        }
        let (name, now, changes) = (&self.route.name, self.options.now, &self.outcome.changes);
        let held = self.held_deletions.then_some(self.outcome.held_deletions);
        remember_deletions(self.store, self.id, name, now, changes, held)
    }

    async fn batch(&mut self, groups: Vec<Group>) -> Result<(), RunError> {
        let sides = self.route.ends.len();
        let mut works: Vec<Work> = groups
            .into_iter()
            .map(|group| Work {
                is_open: group.has_work() && !(self.held_deletions && group.is_deletion()),
                group,
                done: vec![None; sides],
                overruled: BTreeSet::new(),
                damaged: None,
                failed: false,
            })
            .collect();
        for round in 0..=ROUNDS {
            self.note_losers(&mut works)?;
            self.write_besides(&mut works).await?;
            if !works.iter().any(|work| work.is_open) {
                break;
            }
            for side in 0..sides {
                self.write_side(&mut works, side).await?;
                self.delete_side(&mut works, side).await?;
            }
            for work in works.iter_mut().filter(|work| work.is_open) {
                if work.failed {
                    work.is_open = false;
                    continue;
                }
                // What was written is agreed, whatever is still to come.
                if let ReplicaDecision::Settle(settled) = &work.group.decision
                    && work.group.base.as_ref() != Some(&settled.base)
                {
                    (work.group.base, work.group.base_text) = (Some(settled.base.clone()), None);
                }
                work.group.decide(self.policy, self.options.now);
                work.is_open = work.group.has_work();
                if work.is_open && round == ROUNDS {
                    self.fail(
                        work,
                        0,
                        "somebody else keeps changing it; the next run tries again".to_owned(),
                    );
                }
            }
        }
        self.record(&works)
    }

    /// What a person wants to keep besides is an entry of its own, in one calendar; the next run carries it on.
    async fn write_besides(&mut self, works: &mut [Work]) -> Result<(), RunError> {
        for work in works.iter_mut().filter(|work| !work.failed) {
            let ReplicaDecision::Settle(settled) = &mut work.group.decision else { continue };
            let Some((side, entry)) = settled.besides.take() else { continue };
            let calendar = &self.route.ends[side].calendar;
            let text = entry.caldav_text(self.options.now);
            let href = calendar.new_href(entry.uid());
            let stored = calendar.put(&href, &text, &Condition::Absent).await;
            let words = match stored {
                Ok(Stored::Done { .. } | Stored::ConditionFailed) => continue,
                Ok(other) => format!("the other text could not be kept besides ({other:?})"),
                Err(error) => format!("the other text could not be kept besides: {error}"),
            };
            // Without it the text would be lost: the whole entry waits.
            self.fail(work, side, words);
        }
        Ok(())
    }

    /// Keeps what does not count, in the history, while it still stands there: after the writes nobody sees it any
    /// more, also not the next run, should this one be cut off.
    fn note_losers(&mut self, works: &mut [Work]) -> Result<(), RunError> {
        let mut told = Vec::new();
        for work in works {
            let ReplicaDecision::Settle(settled) = &work.group.decision else { continue };
            for loser in &settled.losers {
                if work.overruled.insert(loser.side) {
                    let text = work.group.places[loser.side].seen.as_ref().map(|seen| seen.text.clone());
                    let words = Some(format!("another calendar's {} counts", loser.fields.join(", ")));
                    told.push(self.change(&work.group, loser.side, ChangeAction::Overruled, words, text));
                }
            }
        }
        self.outcome.changes.extend(told);
        let (changes, recorded, run) = (&self.outcome.changes, self.recorded, self.run);
        if changes.len() > recorded {
            self.store
                .write(|writer| changes[recorded..].iter().try_for_each(|c| writer.add_change(run, c)))?;
            self.recorded = changes.len();
        }
        Ok(())
    }

    fn fail(&mut self, work: &mut Work, side: usize, words: String) {
        work.failed = true;
        work.is_open = false;
        self.outcome.failed += 1;
        let change = self.change(&work.group, side, ChangeAction::Failed, Some(words), None);
        self.outcome.changes.push(change);
    }

    fn sender(&self, side: usize) -> Sender<'_> {
        Sender {
            end: &self.route.ends[side],
            side: side_id(side),
            store: self.store,
            id: self.id,
            stop: &self.options.stop,
            surveyor: &self.surveyors[side],
        }
    }

    async fn write_side(&mut self, works: &mut [Work], side: usize) -> Result<(), RunError> {
        let wanted = |work: &Work| match &work.group.decision {
            ReplicaDecision::Settle(settled) if work.is_open && !work.failed => settled.writes[side].clone(),
            _ => None,
        };
        let writes: Vec<(usize, ReplicaWrite, ObjectHref)> = works
            .iter()
            .enumerate()
            .filter_map(|(at, work)| {
                let write = wanted(work)?;
                let href = match (&work.group.places[side].seen, write.kind) {
                    (Some(seen), WriteKind::Update) => seen.href.clone(),
                    _ => self.route.ends[side].calendar.new_href(write.entry.uid()),
                };
                Some((at, write, href))
            })
            .collect();
        if writes.is_empty() {
            return Ok(());
        }
        let ignores = self.states[side].ignores_conditions;
        let sent: Vec<Sent> = {
            let sender = self.sender(side);
            let send = |(at, write, href): &(usize, ReplicaWrite, ObjectHref)| {
                let seen = works[*at].group.places[side].seen.clone();
                let (write, href, sender) = (write.clone(), href.clone(), &sender);
                async move {
                    let outgoing = outgoing(&write, &href, seen.as_ref());
                    sender.send(&outgoing, ignores).await
                }
            };
            let width = self.route.ends[side].calendar.width().min(BATCH);
            let sends: Vec<_> = writes.iter().map(send).collect();
            stream::iter(sends).buffered(width).collect().await
        };
        let (mut stored, mut look) = (Vec::new(), Vec::new());
        for ((at, write, href), sent) in writes.into_iter().zip(sent) {
            let work = &mut works[at];
            match sent {
                Sent::Stored => stored.push((at, write, href)),
                Sent::LookAgain(href) => look.push((at, href)),
                Sent::UidTaken if !work.group.places[side].needs_own_uid => {
                    work.group.places[side].needs_own_uid = true;
                }
                Sent::UidTaken => self.refuse(work, side, &write, "the server has its UID elsewhere".into()),
                Sent::Refused(words) => self.refuse(work, side, &write, words),
                Sent::Stumbled(status) => {
                    self.fail(work, side, format!("the server fails on this entry ({status})"));
                }
                Sent::Lost(error) => {
                    self.outcome.again.push((side, href));
                    self.fail(work, side, error.to_string());
                }
                Sent::NotBegun => {
                    self.outcome.left += 1;
                    work.failed = true;
                }
                Sent::SignIn => {
                    return Err(self.route.ends[side].sign_in_failed());
                }
            }
        }
        if self.states[side].ignores_conditions.is_none() {
            let tried = stored.first().map(|(at, write, href)| {
                let seen = works[*at].group.places[side].seen.as_ref();
                outgoing(write, href, seen)
            });
            let found = self.sender(side).try_conditions(tried.as_ref()).await;
            self.states[side].ignores_conditions = found;
        }
        self.read_back(works, side, stored).await?;
        self.look_again(works, side, look).await
    }

    /// A refusal for good is remembered, and not sent again until the entry changes.
    fn refuse(&mut self, work: &mut Work, side: usize, write: &ReplicaWrite, words: String) {
        let place = &mut work.group.places[side];
        place.refused = Some(write.view);
        work.damaged.get_or_insert(words.clone());
        self.outcome.failed += 1;
        let change = self.change(&work.group, side, ChangeAction::Failed, Some(words), None);
        self.outcome.changes.push(change);
    }

    async fn read_back(
        &mut self,
        works: &mut [Work],
        side: usize,
        stored: Vec<(usize, ReplicaWrite, ObjectHref)>,
    ) -> Result<(), RunError> {
        let hrefs: Vec<_> = stored.iter().map(|(.., href)| href.clone()).collect();
        let mut found: BTreeMap<_, _> = self.surveyors[side].fetch(&hrefs).await?.into_iter().collect();
        for (at, write, href) in stored {
            let item = found.remove(&href).flatten();
            let work = &mut works[at];
            let before = work.group.places[side].seen.as_ref().map(|seen| seen.text.clone());
            self.outcome.seen[side].insert(href.clone());
            let Some(item) = item else {
                self.refuse(
                    work,
                    side,
                    &write,
                    "the server said it was stored, and keeps nothing".to_owned(),
                );
                continue;
            };
            self.outcome.ours[side].insert(href.clone(), item.etag().cloned());
            let mut seen = seen_of(&href, &item);
            let words = match &seen.entry {
                None => Some("the server keeps something else than it was given".to_owned()),
                Some(entry) => {
                    let far = self.policy.sight(side).of_far_side(entry).fingerprint();
                    let differences = || write.entry.meaning().differences(&entry.meaning());
                    (far != write.view).then(|| format!("the server changed {}", field_names(&differences())))
                }
            };
            if seen.entry.is_none() {
                // What it was given stands for what it keeps, so that this is no change of somebody's.
                (seen.entry, seen.text) = (Some(write.entry.clone()), write.text.clone());
            }
            let action = match (write.kind, &words) {
                (_, Some(_)) => ChangeAction::Damaged,
                (WriteKind::Create, None) => ChangeAction::Created,
                (WriteKind::Update, None) => ChangeAction::Updated,
            };
            let counts = &mut self.outcome.counts[side];
            match write.kind {
                WriteKind::Create => counts.created += 1,
                WriteKind::Update => counts.updated += 1,
            }
            let restored = match &work.group.decision {
                ReplicaDecision::Settle(settled) => settled.restored.contains(&side),
                _ => false,
            };
            let told = words.clone().or_else(|| {
                restored.then(|| "it was deleted here, and changed elsewhere: the change counts".to_owned())
            });
            work.damaged = work.damaged.take().or(words);
            work.done[side] = Some(Done { action, before, words: told });
            // What its server made of it is how the agreed text stands there.
            let place = &mut work.group.places[side];
            place.written = Some(write.view);
            place.before = seen.entry.clone();
            place.before_text = Some(seen.text.clone());
            place.href = Some(href);
            place.uid = seen.entry.as_ref().map(|e| e.uid().clone());
            place.seen = Some(seen);
        }
        Ok(())
    }

    /// Somebody else was there first.
    async fn look_again(
        &mut self,
        works: &mut [Work],
        side: usize,
        look: Vec<(usize, ObjectHref)>,
    ) -> Result<(), RunError> {
        let hrefs: Vec<_> = look.iter().map(|(_, href)| href.clone()).collect();
        let mut found: BTreeMap<_, _> = self.surveyors[side].fetch(&hrefs).await?.into_iter().collect();
        for (at, href) in look {
            let item = found.remove(&href).flatten();
            let place = &mut works[at].group.places[side];
            place.seen = item.map(|item| seen_of(&href, &item));
            self.outcome.seen[side].insert(href.clone());
            place.href = Some(href);
        }
        Ok(())
    }

    /// Looks once more, keeps what stands there, and deletes it; what somebody changed meanwhile is decided again.
    async fn delete_side(&mut self, works: &mut [Work], side: usize) -> Result<(), RunError> {
        let is_wanted = |work: &Work| {
            work.is_open
                && matches!(&work.group.decision, ReplicaDecision::Delete(sides) if sides.contains(&side))
        };
        let at: Vec<usize> = (0..works.len()).filter(|at| is_wanted(&works[*at])).collect();
        let seen = |at: &usize| works[*at].group.places[side].seen.clone();
        let standing: Vec<(usize, Seen)> = at.iter().filter_map(|at| Some((*at, seen(at)?))).collect();
        let hrefs: Vec<_> = standing.iter().map(|(_, seen)| seen.href.clone()).collect();
        let mut found: BTreeMap<_, _> = self.surveyors[side].fetch(&hrefs).await?.into_iter().collect();
        let mut jobs = Vec::new();
        for (at, known) in standing {
            let item = found.remove(&known.href).flatten();
            let now = item.as_ref().map(|item| seen_of(&known.href, item));
            let print = |seen: &Seen| {
                seen.entry.as_ref().map(|e| self.policy.sight(side).of_far_side(e).fingerprint())
            };
            match now {
                // Changed meanwhile: a change beats a deletion.
                Some(now) if print(&now) != print(&known) => works[at].group.places[side].seen = Some(now),
                now => jobs.push((at, now.unwrap_or(known), item)),
            }
        }
        let outcomes: Vec<(usize, Seen, Removed)> = {
            let sender = self.sender(side);
            let sends = jobs.into_iter().map(|(at, seen, item)| {
                let sender = &sender;
                async move {
                    let removed = sender.delete(&seen.href, item.as_ref()).await;
                    (at, seen, removed)
                }
            });
            let width = self.route.ends[side].calendar.width().min(BATCH);
            stream::iter(sends).buffer_unordered(width).collect().await
        };
        let mut look = Vec::new();
        for (at, seen, removed) in outcomes {
            let work = &mut works[at];
            match removed {
                Removed::Done => self.delete_is_done(work, side, seen, None),
                Removed::Missing => {
                    self.delete_is_done(work, side, seen, Some("it was gone already".to_owned()));
                }
                Removed::LookAgain => look.push((at, seen.href)),
                Removed::Refused(words) => self.fail(work, side, words),
                Removed::Lost(error) => {
                    self.outcome.again.push((side, seen.href));
                    self.fail(work, side, error.to_string());
                }
                Removed::NotBegun => {
                    self.outcome.left += 1;
                    work.failed = true;
                }
                Removed::SignIn => {
                    return Err(self.route.ends[side].sign_in_failed());
                }
            }
        }
        self.look_again(works, side, look).await
    }

    fn delete_is_done(&mut self, work: &mut Work, side: usize, was: Seen, words: Option<String>) {
        self.outcome.counts[side].deleted += 1;
        self.outcome.ours[side].insert(was.href.clone(), None);
        let before = Some(was.text).filter(|text| !text.is_empty());
        work.done[side] = Some(Done { action: ChangeAction::Deleted, before, words });
        work.group.places[side].seen = None;
    }

    fn change(
        &self,
        group: &Group,
        side: usize,
        action: ChangeAction,
        words: Option<String>,
        before: Option<String>,
    ) -> Change {
        let place = &group.places[side];
        let href = place.href.clone().or_else(|| group.shown().map(|seen| seen.href.clone()));
        Change {
            calendar: self.route.ends[side].name.clone(),
            action,
            href: href.unwrap_or_else(|| ObjectHref::from("")),
            uid: place.uid.clone().unwrap_or_else(|| EventUid::from("")),
            title: group.title(),
            start: group.start(),
            words,
            before,
        }
    }

    fn record(&mut self, works: &[Work]) -> Result<(), RunError> {
        let mut changes = std::mem::take(&mut self.outcome.changes);
        for work in works {
            self.tell(work, &mut changes);
        }
        let (store, id, run, policy) = (self.store, self.id, self.run, self.policy);
        let now = self.options.now;
        store.write(|writer| {
            for work in works {
                let group = &work.group;
                if work.failed {
                    record_undecided(writer, id, store, group)?;
                    continue;
                }
                match &group.decision {
                    ReplicaDecision::Settle(settled) => {
                        let base = base_text(group, settled, now);
                        let after = after(group, settled);
                        let uid = group.base.as_ref().unwrap_or(&settled.base).uid();
                        let link = record_group(writer, id, group, base, uid, &after, work.damaged.clone())?;
                        writer.let_through(id, Some(link))?;
                    }
                    ReplicaDecision::Delete(_) if self.held_deletions => {
                        record_undecided(writer, id, store, group)?;
                    }
                    ReplicaDecision::Delete(_) | ReplicaDecision::Forget => {
                        if let Some(link) = group.link {
                            for side in 0..group.places.len() {
                                writer.forget_place(side_id(side), link)?;
                            }
                            writer.forget_link(link)?;
                        }
                    }
                    ReplicaDecision::Hold(_) => {
                        let link = match group.link {
                            Some(link) => {
                                record_undecided(writer, id, store, group)?;
                                link
                            }
                            None => record_waiting(writer, id, group)?,
                        };
                        writer.hold(id, &self.held_item(group, link))?;
                    }
                    ReplicaDecision::LeaveOut(reason) => record_left_out(writer, id, policy, group, *reason)?,
                }
            }
            changes.iter().skip(self.recorded).try_for_each(|change| writer.add_change(run, change))
        })?;
        self.recorded = changes.len();
        self.outcome.changes = changes;
        Ok(())
    }

    /// Lines for the story of a group, and its part in the counts.
    fn tell(&mut self, work: &Work, changes: &mut Vec<Change>) {
        let group = &work.group;
        for (side, done) in work.done.iter().enumerate() {
            if let Some(Done { action, before, words }) = done.clone() {
                self.outcome.damaged += usize::from(action == ChangeAction::Damaged);
                changes.push(self.change(group, side, action, words, before));
            }
        }
        match &group.decision {
            ReplicaDecision::Settle(_) => {
                self.outcome.disagreements += usize::from(!work.overruled.is_empty());
                let stands = group.places.iter().filter(|place| place.seen.is_some()).count();
                if group.link.is_none() && stands > 1 && work.done.iter().all(Option::is_none) {
                    self.outcome.linked += 1;
                    changes.push(self.change(group, 0, ChangeAction::Linked, None, None));
                }
            }
            ReplicaDecision::Delete(sides) if self.held_deletions => {
                self.outcome.held_deletions += 1;
                for side in sides {
                    let words = Some("its deletion waits for a person".to_owned());
                    changes.push(self.change(group, *side, ChangeAction::Held, words, None));
                }
            }
            ReplicaDecision::Hold(collisions) => {
                self.outcome.held_disagreements += 1;
                let fields: Vec<_> = collisions.iter().map(|c| c.field.as_str()).collect();
                let words = Some(format!("calendars disagree about {}", fields.join(", ")));
                changes.push(self.change(group, 0, ChangeAction::Held, words, None));
            }
            ReplicaDecision::LeaveOut(LeftOut::Unreadable) => {
                changes.push(self.change(group, 0, ChangeAction::LeftOut, group.words.clone(), None));
            }
            ReplicaDecision::LeaveOut(_) | ReplicaDecision::Delete(_) | ReplicaDecision::Forget => {}
        }
    }

    fn held_item(&self, group: &Group, link: chestnut_store::LinkId) -> HeldItem {
        let text = |seen: &Option<Seen>| seen.as_ref().map(|seen| seen.text.clone());
        let sides: Vec<_> = self
            .route
            .ends
            .iter()
            .zip(&group.places)
            .map(|(end, place)| json!({ "calendar": end.name, "text": text(&place.seen) }))
            .collect();
        HeldItem {
            id: 0,
            route: self.route.name.clone(),
            link: Some(link),
            since: self.options.now.as_second(),
            title: group.title(),
            start: group.start(),
            details: json!({ "kind": "disagreement", "agreed": group.base_text, "sides": sides }).to_string(),
            decision: None,
        }
    }
}

fn outgoing<'w>(write: &'w ReplicaWrite, href: &'w ObjectHref, seen: Option<&'w Seen>) -> Outgoing<'w> {
    Outgoing {
        href,
        uid: write.entry.uid(),
        text: &write.text,
        kind: write.kind,
        standing: seen.map(standing),
    }
}

/// The agreed text; as it was where nothing of it changed.
fn base_text(group: &Group, settled: &Settled, now: jiff::Timestamp) -> String {
    match (&group.base, &group.base_text) {
        (Some(base), Some(text)) if *base == settled.base => text.clone(),
        _ => settled.base.caldav_text(now),
    }
}

fn after(group: &Group, settled: &Settled) -> Vec<After> {
    let after = |(side, place): (usize, &super::group::Place)| After {
        seen: place.seen.clone(),
        refused: place.refused,
        let_go: settled.let_go[side],
    };
    group.places.iter().enumerate().map(after).collect()
}
