//! What a batch is about to ask the state, asked at once: where the state is on another machine, each question costs a
//! way there. What is forgotten here is asked one by one; nothing is decided by it.

use chestnut_core::ical::Limits;
use chestnut_core::{ContentKey, Entry, ObjectHref};
use chestnut_store::{Ahead, BodyId, CalendarId, LinkId, Object, ObjectId, ObjectState, Store, StoreError};

use crate::gather::{ALIKE, Found, Gatherer};

type Result<T> = std::result::Result<T, StoreError>;

/// What stands at some hrefs, and its text.
pub(crate) fn at<'s, 'h>(
    store: &'s Store,
    calendar: CalendarId,
    hrefs: impl IntoIterator<Item = &'h ObjectHref> + Clone,
) -> Result<Ahead<'s>> {
    let ahead = store.ahead();
    at_too(&ahead, store, calendar, hrefs)?;
    Ok(ahead)
}

/// The same beside what was asked for already: only what was asked for last is known. Returns what stands there.
pub(crate) fn at_too<'h>(
    ahead: &Ahead<'_>,
    store: &Store,
    calendar: CalendarId,
    hrefs: impl IntoIterator<Item = &'h ObjectHref> + Clone,
) -> Result<Vec<Object>> {
    let mut found = Vec::new();
    ask(ahead, hrefs, |href| store.object_at(calendar, href), |object| found.extend(object))?;
    texts(store, ahead, &found)?;
    Ok(found)
}

/// The texts of some objects.
pub(crate) fn texts_of<'s>(store: &'s Store, objects: &[Object]) -> Result<Ahead<'s>> {
    let ahead = store.ahead();
    texts(store, &ahead, objects)?;
    Ok(ahead)
}

/// Some objects.
pub(crate) fn objects<'s>(store: &'s Store, ids: &[ObjectId]) -> Result<Ahead<'s>> {
    let ahead = store.ahead();
    ask(&ahead, ids, |id| store.object(*id), drop)?;
    Ok(ahead)
}

/// What others are made of: the texts of some objects, and what has the same UIDs.
pub(crate) fn parts<'s>(store: &'s Store, objects: &[Object]) -> Result<Ahead<'s>> {
    let ahead = store.ahead();
    texts(store, &ahead, objects)?;
    let present = objects.iter().filter(|object| object.state == ObjectState::Present);
    let named = present.filter_map(|object| Some((object.calendar, object.uid.as_ref()?)));
    ask(&ahead, named, |(calendar, uid)| store.objects_by_uid(calendar, uid), drop)?;
    Ok(ahead)
}

/// Asks the same of many at once, and gives the answers on.
fn ask<Q, A>(
    ahead: &Ahead<'_>,
    about: impl IntoIterator<Item = Q> + Clone,
    question: impl Fn(Q) -> Result<A>,
    mut answer: impl FnMut(A),
) -> Result<()> {
    if !ahead.is_of_use() {
        return Ok(());
    }
    ahead.ask(|| about.clone().into_iter().try_for_each(|one| question(one).map(drop)))?;
    about.into_iter().try_for_each(|one| question(one).map(&mut answer))
}

fn texts(store: &Store, ahead: &Ahead<'_>, objects: &[Object]) -> Result<()> {
    bodies(store, ahead, objects.iter().filter_map(|object| object.body))
}

fn bodies(store: &Store, ahead: &Ahead<'_>, mut bodies: impl Iterator<Item = BodyId>) -> Result<()> {
    ahead.ask(|| bodies.try_for_each(|body| store.text(body).map(drop)))
}

impl<'r> Gatherer<'r> {
    /// What the cases of a batch are made of.
    pub(crate) fn ahead(&self, batch: impl Iterator<Item = Found>) -> Result<Ahead<'r>> {
        let ahead = self.store.ahead();
        if !ahead.is_of_use() {
            return Ok(ahead);
        }
        let (mut links, mut free, mut objects) = (Vec::new(), Vec::new(), Vec::new());
        for found in batch {
            match found {
                Found::Link(link) => links.push(link),
                Found::Free(side, object) => free.push((side, object)),
                Found::Beside(_, object) => objects.push(object),
            }
        }
        self.cases_ahead(&ahead, &links, &mut objects)?;
        self.free_ahead(&ahead, &free)?;
        self.objects_ahead(&ahead, &objects)?;
        Ok(ahead)
    }

    /// What is remembered of cases; their objects come to `objects`.
    fn cases_ahead(&self, ahead: &Ahead<'_>, links: &[LinkId], objects: &mut Vec<ObjectId>) -> Result<()> {
        let (store, mut texts) = (self.store, Vec::new());
        ask(ahead, links, |link| store.link(*link), |row| texts.extend(row.and_then(|row| row.agreed)))?;
        ask(
            ahead,
            links,
            |link| store.places(*link),
            |places| {
                for place in places {
                    objects.extend(place.object);
                    texts.extend([place.stood, place.agreed].into_iter().flatten());
                }
            },
        )?;
        ask(
            ahead,
            links,
            |link| store.intents(*link),
            |intents| {
                let named = intents.iter().flat_map(|intent| [intent.sent, intent.stood, intent.agreed]);
                texts.extend(named.flatten());
            },
        )?;
        bodies(store, ahead, texts.into_iter())
    }

    /// Objects, and to which cases they belong.
    fn objects_ahead(&self, ahead: &Ahead<'_>, ids: &[ObjectId]) -> Result<Vec<Object>> {
        let mut found = Vec::new();
        ask(ahead, ids, |id| self.store.object(*id), |object| found.extend(object))?;
        self.owners(ahead, ids.iter().copied())?;
        texts(self.store, ahead, &found)?;
        Ok(found)
    }

    /// What belongs to nothing yet, and what may be the same elsewhere.
    fn free_ahead(&self, ahead: &Ahead<'_>, free: &[(usize, ObjectId)]) -> Result<()> {
        let store = self.store;
        let ids: Vec<_> = free.iter().map(|(_, id)| *id).collect();
        let objects = self.objects_ahead(ahead, &ids)?;
        let (mut uids, mut keys) = (Vec::new(), Vec::new());
        for object in &objects {
            let Some(uid) = &object.uid else { continue };
            uids.push((object.calendar, uid.clone()));
            let key = self.view(object)?;
            for other in self.mirrors.iter().filter(|other| **other != object.calendar) {
                let own = self.rule.key.uids_of(uid).into_iter().chain([uid.clone()]);
                uids.extend(own.map(|uid| (*other, uid)));
                keys.extend(key.map(|key| (*other, key)));
            }
        }
        let mut found = Vec::new();
        ask(ahead, &uids, |(calendar, uid)| store.objects_by_uid(*calendar, uid), |same| found.extend(same))?;
        found.retain(|object| !ids.contains(&object.id));
        texts(store, ahead, &found)?;
        let mut all: Vec<_> = found.iter().map(|object| object.id).collect();
        let alike =
            |(calendar, key): &(CalendarId, ContentKey)| store.objects_by_content(*calendar, *key, ALIKE);
        ask(ahead, &keys, alike, |alike| all.extend(alike.iter().map(|object| object.id)))?;
        self.owners(ahead, all.into_iter())
    }

    /// What an entry looks like to others.
    fn view(&self, object: &Object) -> Result<Option<ContentKey>> {
        let text = object.body.map(|body| self.store.text(body)).transpose()?.flatten();
        let entry = text.and_then(|text| Entry::parse(&text, &Limits::default()).ok());
        let view = entry.as_ref().and_then(|entry| self.carry.show(entry).ok());
        Ok(view.map(|view| ContentKey::of(view.entry())))
    }

    fn owners(&self, ahead: &Ahead<'_>, mut ids: impl Iterator<Item = ObjectId>) -> Result<()> {
        let Some(route) = self.route else { return Ok(()) };
        ahead.ask(|| ids.try_for_each(|id| self.store.link_of(route, id).map(drop)))
    }

    /// What is asked while cases are recorded: to which ones their objects belong, and which texts are there.
    pub(crate) fn records_ahead(
        &self,
        objects: impl Iterator<Item = ObjectId>,
        mut texts: impl Iterator<Item = BodyId>,
    ) -> Result<Ahead<'r>> {
        let ahead = self.store.ahead();
        self.owners(&ahead, objects)?;
        ahead.ask(|| texts.try_for_each(|text| self.store.has_text(text).map(drop)))?;
        Ok(ahead)
    }
}
