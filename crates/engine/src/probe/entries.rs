//! Test entries where they stand: noted, read, carried by a run over them alone, and taken away.

use std::cell::Cell;
use std::collections::BTreeSet;
use std::rc::Rc;

use chestnut_caldav::Fetched;
use chestnut_caldav::protocol::Condition;
use chestnut_core::ical::Limits;
use chestnut_core::{ETag, Entry, EventUid, ObjectHref, PROBE_DAYS, PROBE_LENGTH};
use chestnut_store::{ProbeRow, Store, Told};

use super::facts::ProbeFault;
use crate::error::RunError;
use crate::options::{Only, RunOptions};
use crate::rule::{CalendarEnd, Rule};
use crate::sender::{Outgoing, Sent, send};

/// A run over test entries alone, which looks anew.
pub(super) fn over_test_entries(options: &RunOptions, spans: &[(i64, i64)]) -> RunOptions {
    RunOptions {
        only: Some(Rc::new(Only::Probe(spans.to_vec()))),
        allow_deletions: true,
        round: Default::default(),
        ..options.clone()
    }
}

/// What is noted of test entries of a route in one of its calendars.
pub(super) fn noted<'n>(
    rule: &'n Rule,
    store: &Store,
    end: &'n CalendarEnd,
) -> Result<impl Iterator<Item = ProbeRow> + use<'n>, RunError> {
    let rows = store.probes()?.into_iter();
    Ok(rows.filter(move |row| row.route == rule.name && row.calendar == end.name))
}

/// When a test entry may have taken place that did so once: a day before or after, and the days of its series.
pub(super) fn may_have_been(start: i64) -> impl Iterator<Item = (i64, i64)> {
    let moved = (-1..=PROBE_DAYS).flat_map(|day| [24 * day, 24 * day + 1]);
    moved.map(move |hours| (start + hours * 3600, start + hours * 3600 + PROBE_LENGTH.as_secs()))
}

/// What became of something that was to be taken away.
pub(super) enum Taken {
    Gone { was_there: bool },
    Stands,
}

/// Deletes what stands at a place, where it bears the mark of a test entry; all else is not ours.
pub(super) async fn take_away(end: &CalendarEnd, href: &ObjectHref, mark: &str) -> Result<Taken, RunError> {
    let Some((entry, etag)) = read(end, href).await? else { return Ok(Taken::Gone { was_there: false }) };
    if !entry.uid().as_str().starts_with(mark) {
        return Ok(Taken::Gone { was_there: false });
    }
    let condition = etag.map_or(Condition::Exists, Condition::Is);
    let out = Outgoing { href, text: None, condition, silently: true };
    drop(send(end, &out, &Cell::new(false)).await);
    Ok(match read(end, href).await? {
        None => Taken::Gone { was_there: true },
        Some(_) => Taken::Stands,
    })
}

/// Why a test entry was not taken; nothing where it was.
pub(super) fn fault_of(end: &CalendarEnd, sent: Sent) -> Result<Option<ProbeFault>, RunError> {
    Ok(Some(match sent {
        Sent::Done(..) => return Ok(None),
        Sent::Refused { told, .. } => ProbeFault::NotTaken(told),
        Sent::Fails(status) => ProbeFault::NotTaken(Told::Fails { status }),
        Sent::LookAgain => ProbeFault::NotTaken(Told::FalseCondition),
        Sent::UidTaken(_) => ProbeFault::NotTaken(Told::UidTaken),
        Sent::NotBegun => ProbeFault::Stopped,
        Sent::Lost(error) | Sent::SignIn(error) => return Err(end.failed(error)),
    }))
}

/// Reads what was new where it was sent, or where its server has put it: perhaps it says so, else what it lists tells.
/// That is its `href` then. `before` is what it listed before.
pub(super) async fn read_new(
    end: &CalendarEnd,
    href: &mut ObjectHref,
    uid: &EventUid,
    said: Option<ObjectHref>,
    before: &BTreeSet<ObjectHref>,
) -> Result<Option<(Entry, Option<ETag>)>, RunError> {
    if let Some(stands) = read(end, href).await? {
        return Ok(Some(stands));
    }
    let news: Vec<ObjectHref> = match said {
        Some(there) => vec![there],
        None => {
            let listing = end.calendar.listing().await.map_err(|error| end.failed(error))?;
            listing.entries.into_iter().map(|one| one.href).filter(|href| !before.contains(href)).collect()
        }
    };
    // In a calendar where so much is new, nobody can tell.
    if news.len() > MANY {
        return Ok(None);
    }
    for there in news {
        if let Some(stands) = read(end, &there).await?.filter(|(entry, _)| entry.uid() == uid) {
            *href = there;
            return Ok(Some(stands));
        }
    }
    Ok(None)
}

/// More entries are not looked through for one.
const MANY: usize = 200;

pub(super) async fn read(
    end: &CalendarEnd,
    href: &ObjectHref,
) -> Result<Option<(Entry, Option<ETag>)>, RunError> {
    let mut fetched =
        end.calendar.fetch(std::slice::from_ref(href)).await.map_err(|error| end.failed(error))?;
    let Some(Fetched::Text { text, etag }) = fetched.remove(href) else { return Ok(None) };
    Ok(Entry::parse(&text, &Limits::default()).ok().map(|entry| (entry, etag)))
}
