//! A calendar that stands under another address now: recognised by what stands in it, and taken over with all that was
//! agreed about it.

use std::collections::BTreeMap;

use chestnut_core::Entry;
use chestnut_core::ical::Limits;
use chestnut_store::{
    CalendarFacts, CalendarId, NewObject, Object, ObjectId, ObjectState, Route, Store, StoreError,
    route_lease,
};
use jiff::Timestamp;

use crate::case::rough_span;
use crate::error::RunError;
use crate::mirror::{Look, Mirror};
use crate::rule::{CalendarEnd, Rule};

/// Two calendars are one where so many of a hundred UIDs of the old one stand in the new one, too.
const SAME_FROM: usize = 80;

/// A calendar under another address, held against what is known of the old one.
#[derive(Debug)]
pub struct Candidate {
    /// What told the old one from every other.
    pub old_place: String,
    /// What tells the new one.
    pub place: String,
    /// How many entries are known of the old one.
    pub known: usize,
    /// How many of them stand at the new address.
    pub found: usize,
    calendar: CalendarId,
    facts: CalendarFacts,
    pairs: Vec<(ObjectId, Object, String)>,
}

impl Candidate {
    /// Tells whether it is the same calendar. Of an empty one nothing can be said.
    #[must_use]
    pub fn is_same(&self) -> bool {
        self.known > 0 && self.found * 100 >= self.known * SAME_FROM
    }
}

/// Reads a calendar, and holds it against what is known of an old one. Returns `None` where nothing is known of that.
/// `aside` keeps what was read, for other old ones that it is held against.
///
/// # Errors
/// The calendar cannot be read, or the state cannot be used.
pub async fn candidate(
    store: &Store,
    aside: &Store,
    old_place: &str,
    end: &CalendarEnd,
    now: Timestamp,
) -> Result<Option<Candidate>, RunError> {
    let Some(old) = store.mirror(old_place)? else { return Ok(None) };
    let mirror = Mirror::of(aside, end)?;
    mirror.refresh(&Look::once(now, None)).await?;
    let new = by_uid(aside.all_objects(mirror.id)?);
    let known = by_uid(store.all_objects(old.id)?);
    let mut pairs = Vec::new();
    let (mut all, mut found) = (0, 0);
    for (uid, olds) in &known {
        all += olds.len();
        let mut free: Vec<&Object> = new.get(uid).into_iter().flatten().collect();
        for old in olds {
            // Of several that share a UID, the one of the same name.
            let same_name = free.iter().position(|one| file_name(one) == file_name(old));
            let at = same_name.or((!free.is_empty() && olds.len() == 1).then_some(0));
            let Some(one) = at.map(|at| free.swap_remove(at)) else { continue };
            found += 1;
            if let Some(text) = one.body.map(|body| aside.text(body)).transpose()?.flatten() {
                pairs.push((old.id, one.clone(), text));
            }
        }
    }
    let facts = CalendarFacts {
        // What stands there beside is found by the next look.
        sync_token: None,
        ctag: None,
        checked_at: None,
        first_read_at: old.facts.first_read_at,
        ..mirror.facts()
    };
    let place = end.calendar.place();
    Ok(Some(Candidate {
        old_place: old_place.to_owned(),
        place,
        known: all,
        found,
        calendar: old.id,
        facts,
        pairs,
    }))
}

/// Has the state know calendars under their new addresses: what was agreed about their entries stays. `routes` use them,
/// and do not run.
///
/// # Errors
/// A route runs, or the state cannot be written: nothing is changed then.
pub fn take_over(store: &Store, calendars: &[Candidate], routes: &[String]) -> Result<(), RunError> {
    let leases: Vec<_> =
        routes.iter().map(|route| store.lease(&route_lease(route))).collect::<Result<_, _>>()?;
    note(store, calendars, routes)?;
    drop(leases);
    Ok(())
}

/// Recognises calendars that stand at another path of the same server or disk now, where nothing stands at the old one
/// any more, for a route whose lease is held. Returns which, by their names; none where one may be another calendar.
pub(crate) async fn recognise(
    rule: &Rule,
    store: &Store,
    known: &Route,
    now: Timestamp,
) -> Result<Vec<String>, RunError> {
    let places = rule.places();
    let (before, after): (Vec<&str>, Vec<&str>) = (known.ends.lines().collect(), places.lines().collect());
    let role = |line: &&str| line.split_once(' ').map(|(role, _)| role.to_owned());
    if before.is_empty() || before == after || !before.iter().map(role).eq(after.iter().map(role)) {
        return Ok(Vec::new());
    }
    let aside = Store::in_memory()?;
    let mut moved = Vec::new();
    for (end, (_, old_place)) in rule.ends.iter().zip(known.places()) {
        if end.calendar.place() == old_place {
            continue;
        }
        if !end.calendar.has_left(old_place).await {
            return Ok(Vec::new());
        }
        match candidate(store, &aside, old_place, end, now).await? {
            Some(candidate) if candidate.is_same() => moved.push((end.name.clone(), candidate)),
            _ => return Ok(Vec::new()),
        }
    }
    let (names, calendars): (Vec<String>, Vec<Candidate>) = moved.into_iter().unzip();
    let mut others = store.route_names()?;
    others.retain(|name| *name != rule.name);
    let mut sharing = Vec::new();
    for name in others {
        let is_there = |(_, place): (&str, &str)| calendars.iter().any(|one| one.old_place == place);
        if store.route(&name)?.is_some_and(|route| route.places().any(is_there)) {
            sharing.push(name);
        }
    }
    let leases = sharing.iter().map(|route| store.lease(&route_lease(route))).collect::<Result<Vec<_>, _>>();
    let leases = match leases {
        Ok(leases) => leases,
        // One of them is at it: the next run sees what came of that.
        Err(StoreError::Busy { .. }) => return Ok(Vec::new()),
        Err(error) => return Err(error.into()),
    };
    sharing.push(rule.name.clone());
    let noted = note(store, &calendars, &sharing);
    drop(leases);
    match noted {
        Ok(()) => Ok(names),
        // Another route knows what stands there already.
        Err(RunError::Store(StoreError::NotEmpty { .. })) => Ok(Vec::new()),
        Err(error) => Err(error),
    }
}

fn note(store: &Store, calendars: &[Candidate], routes: &[String]) -> Result<(), RunError> {
    Ok(store.write(|writer| {
        for one in calendars {
            writer.move_calendar(one.calendar, &one.place)?;
            writer.set_facts(one.calendar, &one.facts)?;
            // Names may go round: an old one makes room before another takes it.
            for (id, _, _) in &one.pairs {
                writer.lift_href(*id)?;
            }
            for (id, object, text) in &one.pairs {
                let new = NewObject {
                    href: &object.href,
                    etag: object.etag.as_ref(),
                    state: ObjectState::Present,
                    generation: object.generation,
                    uid: object.uid.as_ref(),
                    content: object.content,
                    text: Some(text),
                    span: Entry::parse(text, &Limits::default()).ok().as_ref().map(rough_span),
                    parent: None,
                };
                writer.change_object(one.calendar, *id, &new)?;
            }
        }
        for name in routes {
            let Some(route) = store.route(name)? else { continue };
            let moved = |place: &str| {
                let calendar = calendars.iter().find(|one| one.old_place == place);
                calendar.map(|calendar| calendar.place.clone())
            };
            writer.set_ends(route.id, &route.ends_with(moved))?;
        }
        Ok(())
    })?)
}

fn by_uid(objects: Vec<Object>) -> BTreeMap<String, Vec<Object>> {
    let mut all: BTreeMap<String, Vec<Object>> = BTreeMap::new();
    for object in objects {
        if let Some(uid) = &object.uid {
            all.entry(uid.as_str().to_owned()).or_default().push(object);
        }
    }
    all
}

fn file_name(object: &Object) -> &str {
    object.href.as_str().rsplit('/').next().unwrap_or_default()
}
