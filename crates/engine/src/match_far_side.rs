//! Finds the entry in one calendar that an entry of another already is: by its UID there, then by content. So
//! nothing is written twice.

use std::collections::{BTreeMap, BTreeSet, VecDeque};

use chestnut_core::{ContentKey, Entry, EventUid, ObjectHref};
use chestnut_store::{Known, RouteId, SideId, Store};

use crate::error::RunError;
use crate::survey::Survey;

/// Entries of one calendar that belong to nothing yet.
pub(crate) struct Unclaimed<'r> {
    store: &'r Store,
    route: Option<RouteId>,
    side: SideId,
    by_uid: BTreeMap<EventUid, ObjectHref>,
    by_content: BTreeMap<ContentKey, VecDeque<ObjectHref>>,
    /// Taken in this run.
    claimed: BTreeSet<ObjectHref>,
    /// Read in this run: what the state says of them no longer counts.
    settled: BTreeSet<ObjectHref>,
}

impl<'r> Unclaimed<'r> {
    /// `linked` are the hrefs that belong to a link.
    pub(crate) fn new(
        store: &'r Store,
        route: Option<RouteId>,
        side: SideId,
        survey: &Survey,
        linked: &BTreeSet<ObjectHref>,
    ) -> Self {
        let (mut by_uid, mut by_content) = (BTreeMap::new(), BTreeMap::<_, VecDeque<_>>::new());
        let settled = survey.items.keys().chain(&survey.gone).cloned().collect();
        for (href, item) in survey.items.iter().filter(|(href, _)| !linked.contains(*href)) {
            if let Some(entry) = item.entry() {
                by_uid.insert(entry.uid().clone(), href.clone());
                // A copy of another route, or of another entry of this one, is spoken for.
                if entry.uid().is_copy() {
                    continue;
                }
                by_content.entry(ContentKey::of(entry)).or_default().push_back(href.clone());
            }
        }
        Self { store, route, side, by_uid, by_content, claimed: BTreeSet::new(), settled }
    }

    /// Says that an entry belongs to something now.
    pub(crate) fn claim(&mut self, href: &ObjectHref) {
        self.claimed.insert(href.clone());
    }

    /// Takes the entry that has one of these UIDs, or looks like this one, so that no other is given it too.
    pub(crate) fn take(
        &mut self,
        uids: &[EventUid],
        alike: Option<&Entry>,
    ) -> Result<Option<ObjectHref>, RunError> {
        let found = match (self.by_uids(uids)?, alike) {
            (Some(href), _) => Some(href),
            (None, Some(entry)) => self.by_content(entry)?,
            (None, None) => None,
        };
        if let Some(href) = &found {
            self.claim(href);
        }
        Ok(found)
    }

    fn by_uids(&self, uids: &[EventUid]) -> Result<Option<ObjectHref>, RunError> {
        for uid in uids {
            if let Some(href) = self.by_uid.get(uid).filter(|href| !self.claimed.contains(*href)) {
                return Ok(Some(href.clone()));
            }
            if let Some(route) = self.route {
                let known = self.store.known_by_uid(route, self.side, uid)?;
                if let Some(known) = known.into_iter().find(|k| k.link.is_none() && self.is_free(k)) {
                    return Ok(Some(known.href));
                }
            }
        }
        Ok(None)
    }

    fn is_free(&self, known: &Known) -> bool {
        !self.settled.contains(&known.href) && !self.claimed.contains(&known.href)
    }

    fn by_content(&mut self, entry: &Entry) -> Result<Option<ObjectHref>, RunError> {
        let content = ContentKey::of(entry);
        if let Some(hrefs) = self.by_content.get_mut(&content) {
            while let Some(href) = hrefs.pop_front() {
                if !self.claimed.contains(&href) {
                    return Ok(Some(href));
                }
            }
        }
        let Some(route) = self.route else { return Ok(None) };
        let known = self.store.unlinked_by_content(route, self.side, content)?;
        let free = |k: &Known| self.is_free(k) && !k.uid.as_ref().is_some_and(EventUid::is_copy);
        Ok(known.into_iter().find(free).map(|k| k.href))
    }
}
