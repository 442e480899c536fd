//! Puts both sides together entry by entry, and has the core decide.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use chestnut_core::ical::Limits;
use chestnut_core::{
    Action, Because, ContentKey, Decision, ETag, Entry, EventUid, Held, LeftOut, ObjectHref, Pair,
    RoutePolicy, Shows, Side, Strangers, View, reconcile, refusal,
};
use chestnut_store::{LinkId, LinkRow, RouteId, SideId, Store};

use crate::derive::Underlying;
use crate::error::RunError;
use crate::held::{DecidedDeletions, decided_deletions, guard};
use crate::match_far_side::Unclaimed;
use crate::route::{Route, RunOptions};
use crate::survey::{Item, Survey, Surveyor, accepted_kinds, scheduling};

/// One entry, and what is to be done about it.
#[derive(Debug)]
pub(crate) struct Planned {
    pub(crate) link: Option<(LinkId, LinkRow)>,
    /// The source's entry; `None` where it is gone.
    pub(crate) source: Option<Seen>,
    /// Where the source's entry stood.
    pub(crate) source_href: Option<ObjectHref>,
    pub(crate) target: Option<Seen>,
    pub(crate) decision: Decision,
    /// Words that go with the decision, such as why an entry cannot be read.
    pub(crate) words: Option<String>,
}

/// An entry at one side, with its text.
#[derive(Debug, Clone)]
pub(crate) struct Seen {
    pub(crate) href: ObjectHref,
    pub(crate) etag: Option<ETag>,
    /// `None` where it cannot be read.
    pub(crate) entry: Option<Entry>,
    pub(crate) text: String,
    /// Whether it was read in this run, or comes from the state.
    pub(crate) read_now: bool,
}

/// Everything a run will do.
#[derive(Debug)]
pub(crate) struct Plan {
    pub(crate) policy: RoutePolicy,
    pub(crate) planned: Vec<Planned>,
    /// Deletions that wait for a person; they are still among the planned.
    pub(crate) held: Option<Held>,
    pub(crate) source: Survey,
    pub(crate) target: Survey,
    /// What the source was made out of.
    pub(crate) underlying: Option<Underlying>,
    /// The last run carried other details.
    pub(crate) carry_changed: bool,
}

impl Plan {
    /// Tells whether this planned deletion waits for a person.
    pub(crate) fn is_held(&self, planned: &Planned) -> bool {
        self.held.is_some() && matches!(planned.decision, Decision::Act(Action::Delete(_)))
    }
}

/// Makes the plan of a run; reads, and writes nothing.
pub(crate) struct Planner<'r> {
    pub(crate) route: &'r Route,
    pub(crate) store: &'r Store,
    pub(crate) id: Option<RouteId>,
    pub(crate) options: &'r RunOptions,
    pub(crate) target_surveyor: &'r Surveyor<'r>,
    /// The last run carried other details.
    pub(crate) carry_changed: bool,
}

/// What is still to be decided about one entry.
struct Open {
    link: Option<(LinkId, LinkRow)>,
    source_href: Option<ObjectHref>,
    target_href: Option<ObjectHref>,
}

impl Planner<'_> {
    pub(crate) async fn plan(&self, source: Survey, target: Survey) -> Result<Plan, RunError> {
        let policy = self.policy(&source, &target);
        self.plan_by(policy, source, target, None).await
    }

    pub(crate) async fn plan_by(
        &self,
        policy: RoutePolicy,
        source: Survey,
        mut target: Survey,
        underlying: Option<Underlying>,
    ) -> Result<Plan, RunError> {
        let mut policy = policy;
        let decided = decided_deletions(self.store, self.id)?;
        policy.deletions = decided.map_or(policy.deletions, |decided| decided.deletions);
        let mut open = self.linked_pairs(&source, &target)?;
        let linked: BTreeSet<_> = open.iter().filter_map(|o| o.target_href.clone()).collect();
        let mut unclaimed = Unclaimed::new(self.store, self.id, SideId::Target, &target, &linked);
        let mut left_out = Vec::new();
        let mut matched = Vec::new();
        let linked_sources: BTreeSet<_> = open.iter().filter_map(|o| o.source_href.clone()).collect();
        let mut uids: BTreeMap<&EventUid, &ObjectHref> = BTreeMap::new();
        for (href, item) in source.items.iter().filter(|(href, _)| !linked_sources.contains(*href)) {
            let refused = match item.entry() {
                None => Some(LeftOut::Unreadable),
                Some(entry) if self.uid_is_taken(entry.uid(), href, &uids, &source)? => {
                    Some(LeftOut::SameUid)
                }
                Some(_) => None,
            };
            if let Some(reason) = refused {
                left_out.push(self.left_out(href, item, reason));
                continue;
            }
            let Some(entry) = item.entry() else { continue };
            uids.insert(entry.uid(), href);
            // The window is asked later: a copy that stands there was carried once.
            let wanted = refusal(&policy, entry, true).is_none();
            let target_href = if wanted { take_copy(&mut unclaimed, &policy, entry)? } else { None };
            matched.extend(target_href.clone());
            open.push(Open { link: None, source_href: Some(href.clone()), target_href });
        }
        let unread: Vec<_> = matched.into_iter().filter(|href| !target.items.contains_key(href)).collect();
        for (href, item) in self.target_surveyor.fetch(&unread).await? {
            match item {
                Some(item) => drop(target.items.insert(href, item)),
                None => drop(target.gone.insert(href)),
            }
        }
        let mut planned = left_out;
        for open in open {
            planned.push(self.decide(&policy, open, &source, &target)?);
        }
        if self.route.strangers == Strangers::Remove {
            let strangers = self.strangers(&planned, &target)?;
            planned.extend(strangers);
        }
        let held = self.guard(&planned, &source, decided)?;
        let carry_changed = self.carry_changed;
        Ok(Plan { policy, planned, held, source, target, underlying, carry_changed })
    }

    pub(crate) fn policy(&self, source: &Survey, target: &Survey) -> RoutePolicy {
        let addresses = source.state.addresses.as_deref().unwrap_or_default();
        let state = &target.state;
        let now = self.options.now;
        self.route.policy(addresses, accepted_kinds(state), state.max_size, scheduling(state), now)
    }

    fn guard(
        &self,
        planned: &[Planned],
        source: &Survey,
        decided: Option<DecidedDeletions>,
    ) -> Result<Option<Held>, RunError> {
        let is_expected = |planned: &Planned, because: &Because| {
            *because == Because::Past
                || planned.source_href.as_ref().is_some_and(|href| source.expected_gone.contains(href))
        };
        let (mut deletions, mut expected) = (0, 0);
        for one in planned {
            if let Decision::Act(Action::Delete(because)) = &one.decision {
                *(if is_expected(one, because) { &mut expected } else { &mut deletions }) += 1;
            }
        }
        let linked = match self.id {
            Some(id) => self.store.link_count(id)?,
            None => 0,
        };
        let held = guard(self.route.deletion_limit, (deletions, expected), linked, decided);
        Ok(held.filter(|_| !self.options.allow_deletions))
    }

    /// Entries of the far side that are nobody's copies: read now, or known since an earlier run.
    fn strangers(&self, planned: &[Planned], target: &Survey) -> Result<Vec<Planned>, RunError> {
        let ours: BTreeSet<&ObjectHref> =
            planned.iter().filter_map(|p| Some(&p.target.as_ref()?.href)).collect();
        let mut found: BTreeMap<ObjectHref, Seen> = BTreeMap::new();
        for (href, item) in &target.items {
            if item.entry().is_some_and(|entry| !entry.uid().is_copy()) {
                found.insert(href.clone(), seen_of(href, item));
            }
        }
        if let Some(id) = self.id {
            let mut linked = BTreeSet::new();
            self.store.each_known(id, SideId::Target, |known| {
                let is_copy = known.uid.as_ref().is_none_or(EventUid::is_copy);
                if known.link.is_some() {
                    linked.insert(known.href);
                } else if !is_copy && !target.gone.contains(&known.href) {
                    let (href, etag) = (known.href.clone(), known.etag);
                    let seen = Seen { href, etag, entry: None, text: String::new(), read_now: false };
                    found.entry(known.href).or_insert(seen);
                }
            })?;
            found.retain(|href, _| !linked.contains(href));
        }
        let stranger = |seen: Seen| Planned {
            link: None,
            source: None,
            source_href: None,
            target: Some(seen),
            decision: Decision::Act(Action::Delete(Because::Stranger)),
            words: None,
        };
        Ok(found
            .into_iter()
            .filter(|(href, _)| !ours.contains(href))
            .map(|(_, seen)| stranger(seen))
            .collect())
    }

    fn left_out(&self, href: &ObjectHref, item: &Item, reason: LeftOut) -> Planned {
        let words = match item {
            Item::Unreadable { words, .. } => Some(words.clone()),
            Item::Entry { .. } => None,
        };
        let source = Some(seen_of(href, item));
        let decision = Decision::LeaveOut(reason);
        Planned { link: None, source, source_href: Some(href.clone()), target: None, decision, words }
    }

    /// Links that a change on either side touches.
    fn linked_pairs(&self, source: &Survey, target: &Survey) -> Result<Vec<Open>, RunError> {
        let Some(id) = self.id else { return Ok(Vec::new()) };
        let mut links: BTreeMap<LinkId, Open> = BTreeMap::new();
        for (side, survey) in [(SideId::Source, source), (SideId::Target, target)] {
            for href in survey.items.keys().chain(&survey.gone) {
                let Some(link) = self.store.known(id, side, href)?.and_then(|known| known.link) else {
                    continue;
                };
                let Some(row) = self.store.link(link)? else { continue };
                let at = |side| Ok::<_, RunError>(self.store.linked(link, side)?.map(|known| known.href));
                if let std::collections::btree_map::Entry::Vacant(slot) = links.entry(link) {
                    let (source_href, target_href) = (at(SideId::Source)?, at(SideId::Target)?);
                    slot.insert(Open { link: Some((link, row)), source_href, target_href });
                }
            }
        }
        let mut open: Vec<_> = links.into_values().collect();
        let (source_uids, target_uids) = (uids_of(source), uids_of(target));
        let mut renamed = self.new_by_content(source)?;
        for pair in &mut open {
            let (link, row) = pair.link.clone().expect("these pairs come from links");
            tracing::trace!(?link, "touched");
            for (href, survey, by_uid, uid) in [
                (&mut pair.source_href, source, &source_uids, &row.source_uid),
                (&mut pair.target_href, target, &target_uids, &row.target_uid),
            ] {
                // A client may give an entry another href: the UID says that it is the same one.
                if href.as_ref().is_none_or(|href| survey.gone.contains(href)) {
                    *href = by_uid.get(uid).copied().cloned().or(href.take());
                }
                // Another entry has taken the place: the old one is gone.
                let here = href.as_ref().and_then(|href| survey.items.get(href)).and_then(Item::entry);
                if here.is_some_and(|entry| entry.uid() != uid) {
                    *href = None;
                }
            }
            // Some publishers invent new UIDs each time: what looks the same is the same entry.
            if let Some(old) = pair.source_href.as_ref().filter(|href| source.gone.contains(*href))
                && let Some(content) =
                    self.store.known(id, SideId::Source, old)?.and_then(|known| known.content)
                && let Some(new) = renamed.get_mut(&content).and_then(VecDeque::pop_front)
            {
                pair.source_href = Some(new);
            }
        }
        Ok(open)
    }

    /// Entries of the source that nobody knew, by what they look like; only where others are gone.
    fn new_by_content(
        &self,
        source: &Survey,
    ) -> Result<BTreeMap<ContentKey, VecDeque<ObjectHref>>, RunError> {
        let mut new: BTreeMap<_, VecDeque<_>> = BTreeMap::new();
        let Some(id) = self.id.filter(|_| !source.gone.is_empty()) else { return Ok(new) };
        for (href, item) in &source.items {
            if let Some(entry) = item.entry()
                && self.store.known(id, SideId::Source, href)?.is_none_or(|known| known.link.is_none())
                && !self.is_linked_by_uid(id, entry.uid())?
            {
                new.entry(ContentKey::of(entry)).or_default().push_back(href.clone());
            }
        }
        Ok(new)
    }

    fn is_linked_by_uid(&self, id: RouteId, uid: &EventUid) -> Result<bool, RunError> {
        Ok(self.store.known_by_uid(id, SideId::Source, uid)?.iter().any(|known| known.link.is_some()))
    }

    /// An entry whose UID another entry of the source has: the first one counts.
    fn uid_is_taken(
        &self,
        uid: &EventUid,
        href: &ObjectHref,
        seen: &BTreeMap<&EventUid, &ObjectHref>,
        source: &Survey,
    ) -> Result<bool, RunError> {
        if seen.contains_key(uid) {
            return Ok(true);
        }
        let Some(id) = self.id else { return Ok(false) };
        let others = self.store.known_by_uid(id, SideId::Source, uid)?;
        Ok(others.iter().any(|other| {
            let moved_here =
                source.items.get(&other.href).and_then(Item::entry).is_some_and(|e| e.uid() != uid);
            other.href != *href && other.link.is_some() && !source.gone.contains(&other.href) && !moved_here
        }))
    }

    fn decide(
        &self,
        policy: &RoutePolicy,
        open: Open,
        source: &Survey,
        target: &Survey,
    ) -> Result<Planned, RunError> {
        let agreed = match &open.link {
            Some((link, _)) => self.store.agreed(*link)?,
            None => None,
        };
        let remembered =
            |side: SideId, href: &ObjectHref, text: Option<&String>| -> Result<Option<Seen>, RunError> {
                let etag = match self.id {
                    Some(id) => self.store.known(id, side, href)?.and_then(|known| known.etag),
                    None => None,
                };
                let entry = text.and_then(|text| Entry::parse(text, &Limits::default()).ok());
                let text = text.cloned().unwrap_or_default();
                Ok(Some(Seen { href: href.clone(), etag, entry, text, read_now: false }))
            };
        let look = |side, href: &Option<ObjectHref>, survey: &Survey, text: Option<&String>| match href {
            None => Ok(None),
            Some(href) if survey.gone.contains(href) => Ok(None),
            Some(href) => match survey.items.get(href) {
                Some(item) => Ok(Some(seen_of(href, item))),
                None => remembered(side, href, text),
            },
        };
        let from = look(SideId::Source, &open.source_href, source, agreed.as_ref().map(|a| &a.source))?;
        let far_known = open.link.as_ref().is_none_or(|(_, row)| row.facts.far.is_some());
        let far_text = agreed.as_ref().map(|a| &a.target).filter(|_| far_known);
        let to = look(SideId::Target, &open.target_href, target, far_text)?;
        let words =
            from.as_ref().zip(open.source_href.as_ref()).and_then(|(_, href)| match source.items.get(href) {
                Some(Item::Unreadable { words, .. }) => Some(words.clone()),
                _ => None,
            });
        let pair = Pair {
            link: open.link.as_ref().map(|(_, row)| row.facts),
            source: side(&from),
            target: side(&to),
            carry_changed: self.carry_changed,
        };
        let decision = reconcile(policy, &pair, self.options.now);
        Ok(Planned {
            link: open.link,
            source: from,
            source_href: open.source_href,
            target: to,
            decision,
            words,
        })
    }
}

/// The copy of an entry that stands there already: under the route's own UID (a lost state is found again), or an
/// entry that is what the copy would be.
fn take_copy(
    unclaimed: &mut Unclaimed<'_>,
    policy: &RoutePolicy,
    source: &Entry,
) -> Result<Option<ObjectHref>, RunError> {
    let mut uids = vec![policy.key.copy_uid(source.uid())];
    // An original that stands there too is no copy that shows less: it is not to be written over.
    if policy.carry.shows == Shows::Everything {
        uids.push(source.uid().clone());
    }
    let view = policy.carry.show(source).ok();
    unclaimed.take(&uids, view.as_ref().map(View::entry))
}

fn uids_of(survey: &Survey) -> BTreeMap<&EventUid, &ObjectHref> {
    let entries = survey.items.iter().filter_map(|(href, item)| Some((item.entry()?.uid(), href)));
    entries.collect()
}

pub(crate) fn seen_of(href: &ObjectHref, item: &Item) -> Seen {
    let (entry, text) = match item {
        Item::Entry { entry, text, .. } => (Some((**entry).clone()), text.clone()),
        Item::Unreadable { .. } => (None, String::new()),
    };
    Seen { href: href.clone(), etag: item.etag().cloned(), entry, text, read_now: true }
}

pub(crate) fn side(known: &Option<Seen>) -> Side<'_> {
    match known {
        None => Side::Gone,
        Some(Seen { entry: Some(entry), .. }) => Side::Present(entry),
        Some(Seen { read_now: false, .. }) => Side::Unchanged,
        Some(_) => Side::Unreadable,
    }
}
