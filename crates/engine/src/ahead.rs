//! What a batch is about to ask the state, asked at once: where the state is on another machine, each question costs a
//! way there. What is forgotten here is asked one by one; nothing is decided by it.

use std::cell::RefCell;
use std::collections::HashMap;

use chestnut_core::ical::Limits;
use chestnut_core::{ContentKey, Entry, ObjectHref};
use chestnut_store::{Ahead, CalendarId, LinkId, Object, ObjectId, ObjectState, Store, StoreError};

use crate::gather::{ALIKE, Found, Gatherer};

type Result<T> = std::result::Result<T, StoreError>;

/// What stands at some hrefs, and its text.
pub(crate) fn at<'s>(
    store: &'s Store,
    calendar: CalendarId,
    hrefs: impl IntoIterator<Item = &'s ObjectHref> + Clone,
) -> Result<Ahead<'s>> {
    store.ask_ahead(|| {
        for href in hrefs.clone() {
            if let Some(object) = store.object_at(calendar, href)? {
                text_of(store, &object)?;
            }
        }
        Ok(())
    })
}

/// Some objects.
pub(crate) fn objects<'s>(store: &'s Store, ids: &[ObjectId]) -> Result<Ahead<'s>> {
    store.ask_ahead(|| ids.iter().try_for_each(|id| store.object(*id).map(drop)))
}

/// What others are made of: the texts of some objects, and what has the same UIDs.
pub(crate) fn parts<'s>(store: &'s Store, objects: &[Object]) -> Result<Ahead<'s>> {
    store.ask_ahead(|| {
        for object in objects.iter().filter(|object| object.state == ObjectState::Present) {
            text_of(store, object)?;
            if let Some(uid) = &object.uid {
                store.objects_by_uid(object.calendar, uid)?;
            }
        }
        Ok(())
    })
}

fn text_of(store: &Store, object: &Object) -> Result<Option<String>> {
    Ok(object.body.map(|body| store.text(body)).transpose()?.flatten())
}

/// What an entry looks like to others, once its text is known.
type Views = RefCell<HashMap<ObjectId, Option<ContentKey>>>;

impl<'r> Gatherer<'r> {
    /// What the cases of a batch are made of.
    pub(crate) fn ahead(&self, batch: impl Iterator<Item = Found> + Clone) -> Result<Ahead<'r>> {
        let views = Views::default();
        self.store.ask_ahead(|| {
            for found in batch.clone() {
                match found {
                    Found::Link(link) => self.case_ahead(link)?,
                    Found::Free(side, object) => self.free_ahead(side, object, &views)?,
                    Found::Beside(_, object) => drop(self.object_ahead(object)?),
                }
            }
            Ok(())
        })
    }

    fn case_ahead(&self, link: LinkId) -> Result<()> {
        let store = self.store;
        let agreed = store.link(link)?.and_then(|row| row.agreed);
        agreed.map(|body| store.text(body)).transpose()?;
        for place in store.places(link)? {
            if let Some(id) = place.object {
                self.object_ahead(id)?;
            }
            for body in [place.stood, place.agreed].into_iter().flatten() {
                store.text(body)?;
            }
        }
        for intent in store.intents(link)? {
            for body in [intent.sent, intent.stood, intent.agreed].into_iter().flatten() {
                store.text(body)?;
            }
        }
        Ok(())
    }

    fn object_ahead(&self, id: ObjectId) -> Result<Option<Object>> {
        if let Some(route) = self.route {
            self.store.link_of(route, id)?;
        }
        let object = self.store.object(id)?;
        if let Some(object) = &object {
            text_of(self.store, object)?;
        }
        Ok(object)
    }

    fn free_ahead(&self, side: usize, id: ObjectId, views: &Views) -> Result<()> {
        let store = self.store;
        let Some(object) = self.object_ahead(id)? else { return Ok(()) };
        let Some(uid) = &object.uid else { return Ok(()) };
        store.objects_by_uid(self.mirrors[side], uid)?;
        let copy_uid = self.rule.key.copy_uid(uid);
        for (_, calendar) in self.mirrors.iter().enumerate().filter(|(other, _)| *other != side) {
            for uid in [&copy_uid, uid] {
                for found in store.objects_by_uid(*calendar, uid)? {
                    self.object_ahead(found.id)?;
                }
            }
            if let Some(key) = self.view_ahead(&object, views)? {
                store.objects_by_content(*calendar, key, ALIKE)?;
            }
        }
        Ok(())
    }

    fn view_ahead(&self, object: &Object, views: &Views) -> Result<Option<ContentKey>> {
        if let Some(known) = views.borrow().get(&object.id) {
            return Ok(*known);
        }
        let Some(text) = text_of(self.store, object)? else { return Ok(None) };
        let entry = Entry::parse(&text, &Limits::default()).ok();
        let view = entry.as_ref().and_then(|entry| self.rule.carry.show(entry).ok());
        let key = view.map(|view| ContentKey::of(view.entry()));
        views.borrow_mut().insert(object.id, key);
        Ok(key)
    }

    /// To which cases the objects of some belong.
    pub(crate) fn owners_ahead(&self, objects: &[ObjectId]) -> Result<Ahead<'r>> {
        let store = self.store;
        store.ask_ahead(|| {
            let Some(route) = self.route else { return Ok(()) };
            objects.iter().try_for_each(|object| store.link_of(route, *object).map(drop))
        })
    }
}
