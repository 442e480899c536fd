//! What is remembered of the entries of a two-way route.

use chestnut_core::{Entry, Fingerprint, LeftOut, LinkFacts, Partly, Position, ReplicaPolicy};
use chestnut_store::{
    Known, LinkId, LinkRow, Recheck, ReplicaRow, ReplicaTexts, RouteId, Store, StoreError, Writer,
};

use super::apply::Outcome;
use super::group::Group;
use super::side_id;
use crate::plan::{Seen, seen_of};
use crate::record::{NEVER, seen_known};
use crate::survey::Survey;

/// How one calendar stands after a run.
#[derive(Debug, Clone, Default)]
pub(super) struct After {
    /// What stands there.
    pub(super) seen: Option<Seen>,
    pub(super) refused: Option<Fingerprint>,
    pub(super) let_go: bool,
}

/// Remembers a group that was settled. `base` is the agreed text.
pub(super) fn record_group(
    writer: &Writer<'_>,
    id: RouteId,
    group: &Group,
    base: String,
    uid: &chestnut_core::EventUid,
    after: &[After],
    words: Option<String>,
) -> Result<LinkId, StoreError> {
    let row = LinkRow {
        source_uid: uid.clone(),
        target_uid: uid.clone(),
        facts: LinkFacts { view: NEVER, far: None, refused: None },
        words,
        partly: Partly::default(),
    };
    let link = writer.put_link(id, group.link, &row)?;
    let mut sides = Vec::new();
    for (side, (after, place)) in after.iter().zip(&group.places).enumerate() {
        let own = after.seen.as_ref().and_then(|seen| seen.entry.as_ref()).map(Entry::uid);
        let replica = ReplicaRow {
            uid: own.or(place.uid.as_ref()).unwrap_or(uid).clone(),
            refused: after.refused,
            let_go: after.let_go,
        };
        writer.put_replica(link, u8::try_from(side).unwrap_or(u8::MAX), &replica)?;
        match &after.seen {
            Some(seen) => writer.put_linked(id, side_id(side), link, &seen_known(seen))?,
            None => writer.forget_place(side_id(side), link)?,
        }
        sides.push(after.seen.as_ref().map(|seen| seen.text.clone()));
    }
    writer.put_replica_texts(link, &ReplicaTexts { base, sides })?;
    Ok(link)
}

/// Remembers entries that were only matched, and about which calendars disagree: nothing is agreed yet, and a person
/// must have something to decide about.
pub(super) fn record_waiting(writer: &Writer<'_>, id: RouteId, group: &Group) -> Result<LinkId, StoreError> {
    let uid = group.places.iter().find_map(|place| place.uid.clone());
    let uid = uid.unwrap_or_else(|| chestnut_core::EventUid::from(""));
    let nothing: Vec<After> = group.places.iter().map(|_| After::default()).collect();
    let link = record_group(writer, id, group, String::new(), &uid, &nothing, None)?;
    for (side, place) in group.places.iter().enumerate() {
        if let Some(seen) = &place.seen {
            let known = Known { recheck: Recheck::Read, ..seen_known(seen) };
            writer.put_linked(id, side_id(side), link, &known)?;
        }
    }
    Ok(link)
}

/// Remembers an entry that is not carried, in each calendar in which it stands.
pub(super) fn record_left_out(
    writer: &Writer<'_>,
    id: RouteId,
    policy: &ReplicaPolicy,
    group: &Group,
    reason: LeftOut,
) -> Result<(), StoreError> {
    for (side, place) in group.places.iter().enumerate() {
        let Some(seen) = place.seen.as_ref().filter(|seen| seen.read_now) else { continue };
        let next = seen.entry.as_ref().filter(|_| reason == LeftOut::OutsideWindow).and_then(|entry| {
            match policy.window.position(entry) {
                Ok(Position::Ahead(next)) => Some(next),
                _ => None,
            }
        });
        let not_given = reason == LeftOut::Unreadable && seen.etag.is_none();
        let look_again = reason == LeftOut::SameUid || not_given;
        let recheck = if look_again { Recheck::Read } else { Recheck::No };
        let left_out = Some(reason.key().to_owned());
        let known = Known { left_out, recheck, next, ..seen_known(seen) };
        match group.link {
            Some(link) => writer.put_linked(id, side_id(side), link, &known)?,
            None => writer.put_known(id, side_id(side), &known)?,
        }
    }
    Ok(())
}

/// Has the next run decide a group again, since nothing of it counts yet.
pub(super) fn record_undecided(
    writer: &Writer<'_>,
    id: RouteId,
    store: &Store,
    group: &Group,
) -> Result<(), StoreError> {
    for (side, place) in group.places.iter().enumerate() {
        let Some(href) = &place.href else { continue };
        match (&place.seen, group.link) {
            (Some(seen), _) if seen.read_now => writer.read_again(id, side_id(side), &seen.href)?,
            (None, Some(link)) => {
                let known = store.known(id, side_id(side), href)?;
                if let Some(known) = known.filter(|known| known.link == Some(link)) {
                    let known = Known { recheck: Recheck::Gone, ..known };
                    writer.put_linked(id, side_id(side), link, &known)?;
                }
            }
            _ => {}
        }
    }
    Ok(())
}

/// What was read and belongs to no group: other kinds of things, and what was gone before anybody linked it.
pub(super) fn record_unclaimed(
    store: &Store,
    writer: &Writer<'_>,
    id: RouteId,
    side: usize,
    survey: &Survey,
    outcome: &Outcome,
) -> Result<(), StoreError> {
    for href in &survey.gone {
        let known = store.known(id, side_id(side), href)?;
        if known.is_some_and(|known| known.link.is_none()) {
            writer.forget_known(id, side_id(side), href)?;
        }
    }
    for (href, item) in &survey.items {
        if !outcome.seen[side].contains(href) && store.known(id, side_id(side), href)?.is_none() {
            writer.put_known(id, side_id(side), &seen_known(&seen_of(href, item)))?;
        }
    }
    Ok(())
}
