//! Finds the entry on the far side that a new entry of the source already is: by the UID of its copy (a lost
//! state is found again), by its own UID, then by content. So nothing is written twice.

use std::collections::{BTreeMap, BTreeSet};

use chestnut_core::{ContentKey, Entry, EventUid, ObjectHref, RouteKey};
use chestnut_store::{RouteId, SideId, Store};

use crate::error::RunError;
use crate::survey::Survey;

/// Entries of the far side that belong to nothing yet.
pub(crate) struct Unclaimed<'r> {
    store: &'r Store,
    route: Option<RouteId>,
    by_uid: BTreeMap<EventUid, ObjectHref>,
    by_content: BTreeMap<ContentKey, Vec<ObjectHref>>,
    /// Read in this run, or taken by it: what the state says of them no longer counts.
    settled: BTreeSet<ObjectHref>,
}

impl<'r> Unclaimed<'r> {
    /// `linked` are the hrefs that belong to a link.
    pub(crate) fn new(
        store: &'r Store,
        route: Option<RouteId>,
        survey: &Survey,
        linked: &BTreeSet<ObjectHref>,
    ) -> Self {
        let (mut by_uid, mut by_content) = (BTreeMap::new(), BTreeMap::<_, Vec<_>>::new());
        let settled = survey.items.keys().chain(&survey.gone).cloned().collect();
        for (href, item) in survey.items.iter().filter(|(href, _)| !linked.contains(*href)) {
            if let Some(entry) = item.entry() {
                by_uid.insert(entry.uid().clone(), href.clone());
                // A copy of another route, or of another entry of this one, is spoken for.
                if entry.uid().is_copy() {
                    continue;
                }
                by_content.entry(ContentKey::of(entry)).or_default().push(href.clone());
            }
        }
        Self { store, route, by_uid, by_content, settled }
    }

    /// Takes the match of a source entry, so that no other entry is given the same one.
    pub(crate) fn take(&mut self, key: &RouteKey, source: &Entry) -> Result<Option<ObjectHref>, RunError> {
        let found = match self.by_either_uid(key, source)? {
            Some(href) => Some(href),
            None => self.by_content(source)?,
        };
        if let Some(href) = &found {
            self.settled.insert(href.clone());
            self.by_uid.retain(|_, other| other != href);
            self.by_content.values_mut().for_each(|hrefs| hrefs.retain(|other| other != href));
        }
        Ok(found)
    }

    fn by_either_uid(&self, key: &RouteKey, source: &Entry) -> Result<Option<ObjectHref>, RunError> {
        for uid in [key.copy_uid(source.uid()), source.uid().clone()] {
            if let Some(href) = self.by_uid.get(&uid) {
                return Ok(Some(href.clone()));
            }
            if let Some(route) = self.route {
                let known = self.store.known_by_uid(route, SideId::Target, &uid)?;
                let free = known.into_iter().find(|k| k.link.is_none() && !self.settled.contains(&k.href));
                if let Some(known) = free {
                    return Ok(Some(known.href));
                }
            }
        }
        Ok(None)
    }

    fn by_content(&self, source: &Entry) -> Result<Option<ObjectHref>, RunError> {
        let content = ContentKey::of(source);
        if let Some(href) = self.by_content.get(&content).and_then(|hrefs| hrefs.first()) {
            return Ok(Some(href.clone()));
        }
        let Some(route) = self.route else { return Ok(None) };
        let known = self.store.unlinked_by_content(route, SideId::Target, content)?;
        let free = |k: &chestnut_store::Known| !self.settled.contains(&k.href) && !is_copy(k.uid.as_ref());
        Ok(known.into_iter().find(free).map(|k| k.href))
    }
}

fn is_copy(uid: Option<&EventUid>) -> bool {
    uid.is_some_and(EventUid::is_copy)
}
