//! Puts together what belongs together: one entry in all calendars of a two-way route.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_core::ical::Limits;
use chestnut_core::{
    Decided, ETag, Entry, EventUid, Fingerprint, LeftOut, ObjectHref, Replica, ReplicaDecision,
    ReplicaPolicy, WriteKind, reconcile_replicas,
};
use chestnut_store::{LinkId, RouteId, Store};
use jiff::Timestamp;

use super::side_id;
use crate::error::RunError;
use crate::match_far_side::Unclaimed;
use crate::plan::{Seen, seen_of, side};
use crate::preview::PreviewedChange;
use crate::record::{start_text, title_of};
use crate::route::CalendarEnd;
use crate::survey::{Item, Survey, Surveyor};

/// One entry, in one calendar.
#[derive(Debug, Clone, Default)]
pub(super) struct Place {
    /// How it stood there when it was last agreed.
    pub(super) before: Option<Entry>,
    pub(super) before_text: Option<String>,
    /// What stands there now; `None` where nothing does.
    pub(super) seen: Option<Seen>,
    /// Where it stood, or stands.
    pub(super) href: Option<ObjectHref>,
    /// Its UID there.
    pub(super) uid: Option<EventUid>,
    pub(super) refused: Option<Fingerprint>,
    pub(super) let_go: bool,
    /// The server has its UID in another calendar: it gets one of the route's own.
    pub(super) needs_own_uid: bool,
    /// What was written there in this run.
    pub(super) written: Option<Fingerprint>,
}

/// One entry, in all calendars.
#[derive(Debug)]
pub(super) struct Group {
    pub(super) link: Option<LinkId>,
    /// What was agreed.
    pub(super) base: Option<Entry>,
    pub(super) base_text: Option<String>,
    pub(super) places: Vec<Place>,
    pub(super) decided: Option<Decided>,
    pub(super) decision: ReplicaDecision,
    /// Words that go with the decision.
    pub(super) words: Option<String>,
}

impl Group {
    fn new(sides: usize) -> Self {
        Self {
            link: None,
            base: None,
            base_text: None,
            places: vec![Place::default(); sides],
            decided: None,
            decision: ReplicaDecision::Forget,
            words: None,
        }
    }

    pub(super) fn decide(&mut self, policy: &ReplicaPolicy, now: Timestamp) {
        if matches!(self.decision, ReplicaDecision::LeaveOut(LeftOut::SameUid)) {
            return;
        }
        let replica = |place| -> Replica<'_> {
            let Place { before, seen, refused, let_go, .. }: &Place = place;
            Replica { before: before.as_ref(), now: side(seen), refused: *refused, let_go: *let_go }
        };
        let replicas: Vec<_> = self.places.iter().map(replica).collect();
        let mut decision = reconcile_replicas(policy, self.base.as_ref(), &replicas, self.decided, now);
        if let ReplicaDecision::Settle(settled) = &mut decision {
            for (at, (place, write)) in self.places.iter().zip(&mut settled.writes).enumerate() {
                // What the server made of it is not sent again.
                if write.as_ref().is_some_and(|w| place.written == Some(w.view)) {
                    *write = None;
                }
                if let Some(write) =
                    write.as_mut().filter(|w| w.kind == WriteKind::Create && place.needs_own_uid)
                {
                    let uid = policy.key.copy_uid(settled.base.uid());
                    let identity = chestnut_core::Identity::New(uid);
                    let view = policy.sight(at).of_far_side(&write.entry);
                    write.entry = view.put(&identity);
                    write.text = write.entry.caldav_text(now);
                }
            }
        }
        self.decision = decision;
    }

    /// Tells whether its decision asks for something to be sent.
    pub(super) fn has_work(&self) -> bool {
        match &self.decision {
            ReplicaDecision::Settle(settled) => settled.writes.iter().any(Option::is_some),
            ReplicaDecision::Delete(sides) => !sides.is_empty(),
            _ => false,
        }
    }

    pub(super) fn is_deletion(&self) -> bool {
        matches!(self.decision, ReplicaDecision::Delete(_))
    }

    /// What a person would call it.
    pub(super) fn shown(&self) -> Option<&Seen> {
        self.places.iter().find_map(|place| place.seen.as_ref())
    }

    pub(super) fn title(&self) -> String {
        let base = || self.base.as_ref().map(Entry::title).unwrap_or_default();
        self.shown().map_or_else(base, title_of)
    }

    pub(super) fn start(&self) -> String {
        let entry = self.shown().and_then(|seen| seen.entry.as_ref()).or(self.base.as_ref());
        entry.map(start_text).unwrap_or_default()
    }

    pub(super) fn preview(
        &self,
        names: &[&str],
        changes: &mut Vec<PreviewedChange>,
        left_out: &mut Vec<PreviewedChange>,
    ) {
        let line = |action: &'static str, side: Option<usize>, why: String| PreviewedChange {
            action,
            calendar: side.map(|side| names[side].to_owned()),
            title: self.title(),
            start: self.start(),
            why,
        };
        match &self.decision {
            ReplicaDecision::Forget => {}
            ReplicaDecision::LeaveOut(reason) => {
                let why = self.words.clone().unwrap_or_else(|| reason.key().to_owned());
                let side = self.places.iter().position(|place| place.seen.is_some());
                left_out.push(line("leave out", side, why));
            }
            ReplicaDecision::Hold(collisions) => {
                let fields: Vec<_> = collisions.iter().map(|c| c.field.as_str()).collect();
                changes.push(line("hold", None, format!("calendars disagree about {}", fields.join(", "))));
            }
            ReplicaDecision::Delete(sides) => {
                let delete =
                    |side: &usize| line("delete", Some(*side), "it was deleted elsewhere".to_owned());
                changes.extend(sides.iter().map(delete));
            }
            ReplicaDecision::Settle(settled) => {
                let mut quiet = true;
                for (side, write) in settled.writes.iter().enumerate() {
                    let Some(write) = write else { continue };
                    quiet = false;
                    let why = match write.kind {
                        WriteKind::Create if settled.restored.contains(&side) => {
                            "deleted there, and changed elsewhere"
                        }
                        WriteKind::Create => "new elsewhere",
                        WriteKind::Update => "changed elsewhere",
                    };
                    let action = if write.kind == WriteKind::Create { "create" } else { "update" };
                    changes.push(line(action, Some(side), why.to_owned()));
                }
                let stands = self.places.iter().filter(|place| place.seen.is_some()).count();
                if quiet && self.link.is_none() && stands > 1 {
                    changes.push(line("link", None, "it stands there already, and says the same".to_owned()));
                }
            }
        }
    }
}

/// Makes the groups of a run.
pub(super) struct Grouper<'r> {
    pub(super) store: &'r Store,
    pub(super) id: Option<RouteId>,
    pub(super) policy: &'r ReplicaPolicy,
    pub(super) surveyors: &'r [Surveyor<'r>],
    pub(super) ends: &'r [CalendarEnd],
    /// Names of the calendars, for what people decided.
    pub(super) disagree_names: Vec<String>,
}

impl Grouper<'_> {
    pub(super) async fn groups(&self, surveys: &mut [Survey]) -> Result<Vec<Group>, RunError> {
        let mut groups = self.linked(surveys)?;
        let mut taken: Vec<BTreeSet<ObjectHref>> = vec![BTreeSet::new(); self.ends.len()];
        for group in groups.values() {
            for (side, place) in group.places.iter().enumerate() {
                taken[side].extend(place.href.clone());
            }
        }
        let mut found = self.new_ones(surveys, &mut groups, &mut taken).await?;
        let mut all: Vec<Group> = groups.into_values().collect();
        self.read_what_is_missing(&mut all).await?;
        all.append(&mut found);
        Ok(all)
    }

    /// Links that a change in any calendar, or a person's decision, touches.
    fn linked(&self, surveys: &[Survey]) -> Result<BTreeMap<LinkId, Group>, RunError> {
        let mut groups = BTreeMap::new();
        let Some(id) = self.id else { return Ok(groups) };
        let mut touched: BTreeSet<LinkId> = BTreeSet::new();
        for (side, survey) in surveys.iter().enumerate() {
            for href in survey.items.keys().chain(&survey.gone) {
                touched.extend(self.store.known(id, side_id(side), href)?.and_then(|known| known.link));
            }
        }
        let held = self.store.held(Some(id))?;
        touched.extend(held.iter().filter(|item| item.decision.is_some()).filter_map(|item| item.link));
        let by_uid: Vec<BTreeMap<&EventUid, &ObjectHref>> = surveys.iter().map(uids_of).collect();
        for link in touched {
            let Some(mut group) = self.remembered(link)? else { continue };
            for (side, survey) in surveys.iter().enumerate() {
                let place = &mut group.places[side];
                self.look(place, side, survey, &by_uid[side])?;
            }
            let decision =
                held.iter().find(|item| item.link == Some(link)).and_then(|h| h.decision.as_deref());
            group.decided = decision.map(|word| match word {
                "both" => Decided::Both,
                "newest" => Decided::Newest,
                name => {
                    let side = self.disagree_names.iter().position(|n| n == name);
                    side.map_or(Decided::Newest, Decided::Side)
                }
            });
            groups.insert(link, group);
        }
        Ok(groups)
    }

    /// What is remembered of a link.
    fn remembered(&self, link: LinkId) -> Result<Option<Group>, RunError> {
        let Some(texts) = self.store.replica_texts(link)? else { return Ok(None) };
        let rows = self.store.replicas(link)?;
        let parse = |text: &String| Entry::parse(text, &Limits::default()).ok();
        let mut group = Group::new(self.ends.len());
        group.link = Some(link);
        group.base = parse(&texts.base);
        group.base_text = Some(texts.base);
        for (side, place) in group.places.iter_mut().enumerate() {
            place.before_text = texts.sides.get(side).cloned().flatten();
            place.before = place.before_text.as_ref().and_then(parse);
            if let Some(row) = u8::try_from(side).ok().and_then(|side| rows.get(&side)) {
                place.uid = Some(row.uid.clone());
                place.refused = row.refused;
                place.let_go = row.let_go;
            }
            if let Some(known) = self.store.linked(link, side_id(side))? {
                let text = place.before_text.clone().unwrap_or_default();
                let (href, etag) = (known.href.clone(), known.etag);
                place.href = Some(known.href);
                let entry = place.before.clone();
                place.seen = Some(Seen { href, etag, entry, text, read_now: false });
            }
        }
        Ok(Some(group))
    }

    /// Looks where an entry stands now.
    fn look(
        &self,
        place: &mut Place,
        side: usize,
        survey: &Survey,
        by_uid: &BTreeMap<&EventUid, &ObjectHref>,
    ) -> Result<(), RunError> {
        let is_gone = place.href.as_ref().is_none_or(|href| survey.gone.contains(href));
        let item = place.href.as_ref().and_then(|href| survey.items.get(href));
        let other_took_it = item.and_then(Item::entry).is_some_and(|e| Some(e.uid()) != place.uid.as_ref());
        if is_gone || other_took_it {
            place.seen = None;
            let stood = place.href.take();
            // A client may give an entry another href, or make it anew: the UID says that it is the same one.
            let moved = place.uid.as_ref().and_then(|uid| by_uid.get(uid)).copied();
            let Some(moved) = moved else {
                // Another entry that took its place is none of its business.
                place.href = stood.filter(|_| !other_took_it);
                return Ok(());
            };
            let id = self.id.expect("there are links");
            let belongs_here =
                self.store.known(id, side_id(side), moved)?.is_none_or(|known| known.link.is_none());
            if belongs_here {
                place.seen = survey.items.get(moved).map(|item| seen_of(moved, item));
                place.href = Some(moved.clone());
            }
        } else if let Some((href, item)) = place.href.as_ref().zip(item) {
            place.seen = Some(seen_of(href, item));
        }
        Ok(())
    }

    /// Texts that the state lost are read.
    async fn read_what_is_missing(&self, groups: &mut [Group]) -> Result<(), RunError> {
        for (side, surveyor) in self.surveyors.iter().enumerate() {
            let lacks = |place: &Place| {
                place.seen.as_ref().filter(|s| !s.read_now && s.entry.is_none()).map(|s| s.href.clone())
            };
            let hrefs: Vec<_> = groups.iter().filter_map(|g| lacks(&g.places[side])).collect();
            let mut found: BTreeMap<_, _> = surveyor.fetch(&hrefs).await?.into_iter().collect();
            for group in groups.iter_mut() {
                let place = &mut group.places[side];
                if let Some(href) = lacks(place) {
                    let item = found.remove(&href).flatten();
                    place.seen = item.map(|item| seen_of(&href, &item));
                }
            }
        }
        Ok(())
    }

    /// Entries that no link knows: by UID, by the route's own form of it, then by content.
    async fn new_ones(
        &self,
        surveys: &mut [Survey],
        linked: &mut BTreeMap<LinkId, Group>,
        taken: &mut [BTreeSet<ObjectHref>],
    ) -> Result<Vec<Group>, RunError> {
        let sides = self.ends.len();
        let mut pools: Vec<Unclaimed<'_>> = Vec::new();
        for (side, survey) in surveys.iter().enumerate() {
            pools.push(Unclaimed::new(self.store, self.id, side_id(side), survey, &taken[side]));
        }
        let mut groups = Vec::new();
        let mut matched: Vec<(usize, usize, ObjectHref)> = Vec::new();
        // Copies by their UID come last: they are the other half of an original.
        for only_copies in [false, true] {
            for side in 0..sides {
                let mut uids: BTreeSet<EventUid> = BTreeSet::new();
                let hrefs: Vec<ObjectHref> = surveys[side].items.keys().cloned().collect();
                for href in hrefs {
                    let item = &surveys[side].items[&href];
                    let entry = item.entry();
                    if taken[side].contains(&href) || entry.is_some_and(|e| e.uid().is_copy()) != only_copies
                    {
                        continue;
                    }
                    let mut group = Group::new(sides);
                    group.places[side].seen = Some(seen_of(&href, item));
                    group.places[side].href = Some(href.clone());
                    if let Item::Unreadable { words, .. } = item {
                        group.words = Some(words.clone());
                    }
                    taken[side].insert(href.clone());
                    pools[side].claim(&href);
                    let Some(entry) = entry else {
                        groups.push(group);
                        continue;
                    };
                    group.places[side].uid = Some(entry.uid().clone());
                    if !uids.insert(entry.uid().clone()) {
                        group.decision = ReplicaDecision::LeaveOut(LeftOut::SameUid);
                        groups.push(group);
                        continue;
                    }
                    match self.join(side, entry, &group.places[side], linked)? {
                        Join::Joined => continue,
                        Join::Taken => {
                            group.decision = ReplicaDecision::LeaveOut(LeftOut::SameUid);
                            groups.push(group);
                            continue;
                        }
                        Join::Free => {}
                    }
                    let wanted = self.policy.kinds.contains(entry.kind());
                    let entry = entry.clone();
                    for other in (0..sides).filter(|other| *other != side && wanted) {
                        let uids = [entry.uid().clone(), self.policy.key.copy_uid(entry.uid())];
                        if let Some(href) = pools[other].take(&uids, Some(&entry))? {
                            taken[other].insert(href.clone());
                            match surveys[other].items.get(&href) {
                                Some(item) => group.places[other].seen = Some(seen_of(&href, item)),
                                None => matched.push((groups.len(), other, href.clone())),
                            }
                            group.places[other].href = Some(href);
                        }
                    }
                    groups.push(group);
                }
            }
        }
        for (other, surveyor) in self.surveyors.iter().enumerate() {
            let wanted: Vec<_> = matched.iter().filter(|m| m.1 == other).collect();
            let hrefs: Vec<_> = wanted.iter().map(|m| m.2.clone()).collect();
            let mut found: BTreeMap<_, _> = surveyor.fetch(&hrefs).await?.into_iter().collect();
            for (group, _, href) in wanted {
                let item = found.remove(href).flatten();
                groups[*group].places[other].seen = item.map(|item| seen_of(href, &item));
            }
        }
        for place in groups.iter_mut().flat_map(|g| &mut g.places) {
            let entry = place.seen.as_ref().and_then(|seen| seen.entry.as_ref());
            place.uid = entry.map(|e| e.uid().clone()).or(place.uid.take());
        }
        Ok(groups)
    }

    /// An entry that a link knows elsewhere, and that stands here again.
    fn join(
        &self,
        side: usize,
        entry: &Entry,
        place: &Place,
        linked: &mut BTreeMap<LinkId, Group>,
    ) -> Result<Join, RunError> {
        let Some(id) = self.id else { return Ok(Join::Free) };
        let Some(link) = self.store.link_by_uid(id, entry.uid())? else { return Ok(Join::Free) };
        let group = match linked.entry(link) {
            std::collections::btree_map::Entry::Occupied(known) => known.into_mut(),
            std::collections::btree_map::Entry::Vacant(slot) => match self.remembered(link)? {
                Some(group) => slot.insert(group),
                None => return Ok(Join::Free),
            },
        };
        let own = &mut group.places[side];
        if own.seen.is_some() {
            let is_same = own.uid.as_ref() == Some(entry.uid());
            return Ok(if is_same { Join::Taken } else { Join::Free });
        }
        own.seen.clone_from(&place.seen);
        own.href.clone_from(&place.href);
        own.uid.clone_from(&place.uid);
        own.let_go = false;
        Ok(Join::Joined)
    }
}

/// What a link that knows an entry's UID makes of it.
enum Join {
    /// It is that link's entry, and stands here again.
    Joined,
    /// That link's entry stands here already: this is another one with its UID.
    Taken,
    /// No link knows it.
    Free,
}

fn uids_of(survey: &Survey) -> BTreeMap<&EventUid, &ObjectHref> {
    let entries = survey.items.iter().filter_map(|(href, item)| Some((item.entry()?.uid(), href)));
    entries.collect()
}

/// The ETag and text of what stands somewhere.
pub(super) fn standing(seen: &Seen) -> (Option<&ETag>, &str) {
    (seen.etag.as_ref(), seen.text.as_str())
}
