//! What an entry is elsewhere already: which objects belong to one case, so that nothing is written twice and nobody's own
//! is taken for a copy.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chestnut_core::{ContentKey, Entry, EventUid, LeftOut, Matches, Origin, Shows};
use chestnut_store::{LinkId, LinkState, Object, ObjectState, StoreError};

use crate::case::{Case, Place, Stands};
use crate::gather::{ALIKE, Claimant, Gatherer};

type Result<T> = std::result::Result<T, StoreError>;

impl Gatherer<'_> {
    /// An entry that was left out so far: what stood for it in a calendar that only takes was found under the rule of
    /// that time, and belongs to it only if it would be found now. A copy that did not stand there may do so since.
    pub(crate) fn match_anew(&self, case: &mut Case, link: LinkId) -> Result<()> {
        let Some(row) = &case.row else { return Ok(()) };
        let is_open = row.state == LinkState::LeftOut && row.agreed.is_none();
        let sides = || case.places.iter().zip(&self.rule.ends).enumerate();
        let source = sides().find_map(|(side, (place, end))| match &place.stands {
            Stands::Present(object, kept) if end.gives => Some((side, object.clone(), kept.entry.clone())),
            _ => None,
        });
        let Some((side, object, entry)) = source else { return Ok(()) };
        for other in (0..self.rule.ends.len()).filter(|other| *other != side) {
            // Somebody's entry in a calendar that gives has its own case; what the route wrote there has not.
            let (place, gives) = (&case.places[other], self.rule.ends[other].gives);
            let stands = place.stands.object().is_some();
            let is_settled = if is_open && !gives { place.stood.is_some() } else { stands };
            if place.let_go || place.refused.is_some() || is_settled || gives && !is_open {
                continue;
            }
            let own = Claimant::Case(link);
            let found = match is_open && !gives {
                true => self.matching(side, &object, own, &entry, other)?,
                // Its server had said that it does not stand there.
                false => self.own_copy(other, entry.uid(), own)?.map(|found| (found, Origin::Copy)),
            };
            let place = &mut case.places[other];
            if is_open && !gives {
                *place = Place::default();
            }
            if let Some((found, origin)) = found {
                (place.stands, place.origin) = (self.stands(self.claim(found, own))?, origin);
            }
        }
        Ok(())
    }

    /// Where an entry stands that is gone from its place: under its UID at another href, at its href under another
    /// UID, or, for publishers that invent new UIDs, where the same is said.
    pub(crate) fn replacement(&self, side: usize, gone: &Object, link: LinkId) -> Result<Option<Object>> {
        let calendar = self.mirrors[side];
        let own = Claimant::Case(link);
        let free = |object: &Object| self.is_free_for(object, own);
        if let Some(uid) = &gone.uid {
            for object in self.store.objects_by_uid(calendar, uid)? {
                if free(&object)? || self.is_left_out_twin(&object)? {
                    return Ok(Some(self.claim(object, own)));
                }
            }
        }
        let Some(content) = gone.content else { return Ok(None) };
        if let Some(object) = self.store.object_at(calendar, &gone.href)?
            && object.content == Some(content)
            && free(&object)?
        {
            return Ok(Some(self.claim(object, own)));
        }
        if !self.rule.ends[side].gives {
            return Ok(None);
        }
        for object in self.store.objects_by_content(calendar, content, ALIKE)? {
            if free(&object)? && !object.uid.as_ref().is_some_and(EventUid::is_copy) {
                return Ok(Some(self.claim(object, own)));
            }
        }
        Ok(None)
    }

    /// An entry that was left out because another one had its UID.
    fn is_left_out_twin(&self, object: &Object) -> Result<bool> {
        let Some(route) = self.route else { return Ok(false) };
        let Some(link) = self.store.link_of(route, object.id)? else { return Ok(false) };
        let row = self.store.link(link)?;
        let is_twin = row.is_some_and(|row| row.state == LinkState::LeftOut && row.agreed.is_none());
        Ok(is_twin && object.state == ObjectState::Present)
    }

    /// A case that knows this entry in another calendar, and misses it here.
    pub(crate) fn known_elsewhere(
        &self,
        side: usize,
        object: &Object,
        entry: &Entry,
    ) -> Result<Option<Case>> {
        // Before there were cases, none can miss it.
        let Some(route) = self.route.filter(|_| self.had_links) else { return Ok(None) };
        for other in (0..self.mirrors.len()).filter(|other| *other != side) {
            for uid in self.rule.key.uids_of(entry.uid()).into_iter().chain([entry.uid().clone()]) {
                for found in self.store.objects_by_uid(self.mirrors[other], &uid)? {
                    let Some(link) = self.store.link_of(route, found.id)? else { continue };
                    let Some(case) = self.linked(link)? else { continue };
                    let place = &case.places[side];
                    let is_missing = matches!(place.stands, Stands::Gone | Stands::Never);
                    let own = uid == *entry.uid()
                        || place.stood.as_ref().is_none_or(|stood| stood.entry.uid() == entry.uid());
                    // What was taken back was agreed: put back by hand, it is there again.
                    let never_agreed = case
                        .row
                        .as_ref()
                        .is_some_and(|row| row.state == LinkState::LeftOut && row.agreed.is_none());
                    if is_missing && own && !never_agreed {
                        return Ok(Some(case));
                    }
                }
            }
        }
        debug_assert!(self.claimed.borrow().contains_key(&object.id));
        Ok(None)
    }

    /// Tells whether another entry of the same calendar has its UID, and counts: one of a case, else the first.
    pub(crate) fn has_first_twin(&self, side: usize, object: &Object) -> Result<bool> {
        let Some(uid) = &object.uid else { return Ok(false) };
        for twin in self.store.objects_by_uid(self.mirrors[side], uid)? {
            if twin.id == object.id {
                continue;
            }
            let link = match self.route {
                Some(route) => self.store.link_of(route, twin.id)?,
                None => None,
            };
            let counts = match link {
                Some(link) => self.store.link(link)?.is_some_and(|row| row.agreed.is_some()),
                None => twin.state == ObjectState::Present && twin.href < object.href,
            };
            if counts {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// Tells whether another calendar has its UID for an entry that goes with another one here: somebody deleted this
    /// one, made it anew under another UID, and has it back now.
    pub(crate) fn is_taken_elsewhere(&self, side: usize, object: &Object) -> Result<bool> {
        let route = self.route.filter(|_| self.had_links);
        let (Some(uid), Some(route)) = (&object.uid, route) else { return Ok(false) };
        for other in (0..self.mirrors.len()).filter(|other| *other != side && self.rule.ends[*other].gives) {
            for twin in self.store.objects_by_uid(self.mirrors[other], uid)? {
                let Some(link) = self.store.link_of(route, twin.id)? else { continue };
                for place in self.store.places(link)?.into_iter().filter(|place| place.side == side) {
                    let here = place.object.filter(|here| *here != object.id);
                    let here = here.map(|here| self.store.object(here)).transpose()?.flatten();
                    if here.is_some_and(|here| here.state != ObjectState::Gone) {
                        return Ok(true);
                    }
                }
            }
        }
        Ok(false)
    }

    pub(crate) fn same_uid_counts(&self, case: &Case) -> Result<bool> {
        for (side, place) in case.places.iter().enumerate() {
            if let Some(object) = place.stands.object()
                && (self.has_first_twin(side, object)? || self.is_taken_elsewhere(side, object)?)
            {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// What an entry is already in another calendar: under the route's own form of its UID, under its UID, with equal
    /// meaning, or alike to a person; so that nothing is written twice.
    pub(crate) fn matching(
        &self,
        side: usize,
        object: &Object,
        own: Claimant,
        entry: &Entry,
        other: usize,
    ) -> Result<Option<(Object, Origin)>> {
        let end = &self.rule.ends[other];
        let calendar = self.mirrors[other];
        let is_busy = matches!(self.rule.carry.shows, Shows::Busy(_));
        let copy = if end.gives { Origin::Original } else { Origin::Copy };
        let theirs = match (end.gives, self.rule.matches) {
            (true, _) => Origin::Original,
            (false, Matches::Follow) => Origin::Match,
            (false, Matches::Own) => Origin::Copy,
        };
        // Where calendars are kept alike, a copy beside the entry itself was left by a route that went one way.
        for seeks_copy in [!end.gives, end.gives] {
            let found = match seeks_copy {
                true => self.own_copy(other, entry.uid(), own)?.map(|found| (found, Origin::Copy)),
                false if is_busy || entry.uid().is_copy() => None,
                false => self.under(other, entry.uid(), own)?.map(|found| (found, theirs)),
            };
            if found.is_some() {
                return Ok(found);
            }
        }
        // Occurrences and blocks are told apart by their UIDs alone.
        let Ok(view) = self.carry.show(entry) else { return Ok(None) };
        let found = self.store.objects_by_content(calendar, ContentKey::of(view.entry()), ALIKE)?;
        let mut alike = Vec::new();
        for found in found {
            if self.is_free_for(&found, own)? && self.may_match_by_content(&found, is_busy)? {
                alike.push(found);
            }
        }
        if alike.is_empty() {
            return Ok(None);
        }
        let sight = view.sight();
        let print = |object: &Object| -> Result<_> {
            let kept = self.kept(object.body, &mut BTreeMap::new())?;
            Ok(kept.map(|kept| sight.of_far_side(&kept.entry).fingerprint()))
        };
        let own = view.fingerprint();
        // Others that look alike here, and still want one: what is equal to one of them is left to it.
        let mut others = BTreeSet::new();
        if let Some(content) = object.content {
            for twin in self.store.objects_by_content(self.mirrors[side], content, ALIKE)? {
                if twin.id != object.id && self.is_free(&twin)? {
                    let kept = self.kept(twin.body, &mut BTreeMap::new())?;
                    let shown = kept.and_then(|kept| self.carry.show(&kept.entry).ok());
                    others.extend(shown.map(|view| view.fingerprint()));
                }
            }
        }
        let mut second = None;
        for found in alike {
            let print = print(&found)?;
            let unknown_route = found.uid.as_ref().is_some_and(EventUid::is_copy);
            let origin = if unknown_route { Origin::Match } else { theirs };
            let origin = if is_busy && !unknown_route { copy } else { origin };
            if print == Some(own) {
                return Ok(Some((found, origin)));
            }
            if second.is_none() && !print.is_some_and(|print| others.contains(&print)) {
                second = Some((found, origin));
            }
        }
        Ok(second)
    }

    /// What stands in a calendar under one of the route's own forms of a UID, and belongs to nothing else.
    fn own_copy(&self, side: usize, of: &EventUid, own: Claimant) -> Result<Option<Object>> {
        for uid in self.rule.key.uids_of(of) {
            if let Some(found) = self.under(side, &uid, own)? {
                return Ok(Some(found));
            }
        }
        Ok(None)
    }

    /// What stands in a calendar under a UID, and belongs to nothing else.
    fn under(&self, side: usize, uid: &EventUid, own: Claimant) -> Result<Option<Object>> {
        for found in self.store.objects_by_uid(self.mirrors[side], uid)? {
            if self.is_free_for(&found, own)? {
                return Ok(Some(found));
            }
        }
        Ok(None)
    }

    /// The case that misses a copy: its server had said that it does not stand there, or a run was taken back that wrote it,
    /// and somebody has put it there again since.
    pub(crate) fn missed(&self, uid: &EventUid) -> Result<Option<LinkId>> {
        let Some(route) = self.route else { return Ok(None) };
        if self.missed.get().is_none() {
            let mut missed = HashMap::new();
            let states = [LinkState::Damaged, LinkState::Failed, LinkState::Refused, LinkState::Held];
            let mut links = self.store.links_in(route, &states, None, usize::MAX >> 1)?;
            let undone = LeftOut::Undone.key();
            if self.store.tally(route)?.left_out.contains_key(undone) {
                for link in self.store.links_in(route, &[LinkState::LeftOut], None, usize::MAX >> 1)? {
                    let row = self.store.link(link)?;
                    links.extend(row.filter(|row| row.reason == undone).map(|_| link));
                }
            }
            for link in links {
                let places = self.store.places(link)?;
                let has_none = |side: usize| places.iter().all(|p| p.side != side || p.object.is_none());
                let takes_only = |side: &usize| !self.rule.ends[*side].gives;
                if !(0..self.rule.ends.len()).filter(takes_only).any(has_none) {
                    continue;
                }
                for source in places.iter().filter_map(|place| place.object) {
                    let uid = self.store.object(source)?.and_then(|source| source.uid);
                    missed.extend(uid.map(|uid| (self.rule.key.copy_uid(&uid), link)));
                }
            }
            drop(self.missed.set(missed));
        }
        Ok(self.missed.get().and_then(|missed| missed.get(uid)).copied())
    }

    /// Not what a route wrote, unless nobody knows that route any more; nor what has its own other half elsewhere.
    fn may_match_by_content(&self, found: &Object, is_busy: bool) -> Result<bool> {
        let Some(uid) = &found.uid else { return Ok(false) };
        if let Some(tag) = uid.route_tag() {
            return Ok(!self.rule.known_tags.contains(&tag));
        }
        if is_busy {
            // "Busy" and "Busy" tell nothing: only what this program wrote is the same.
            let kept = self.kept(found.body, &mut BTreeMap::new())?;
            let ours = kept.is_some_and(|kept| {
                kept.entry.object().value("PRODID").is_some_and(|id| id == chestnut_core::PRODID)
            });
            return Ok(ours);
        }
        for (side, end) in self.rule.ends.iter().enumerate() {
            if end.gives {
                for twin in self.store.objects_by_uid(self.mirrors[side], uid)? {
                    if twin.id != found.id && self.is_free(&twin)? {
                        return Ok(false);
                    }
                }
            }
        }
        Ok(true)
    }
}
