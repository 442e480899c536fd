//! Entries of a calendar that a person may want gone: doubles that earlier attempts left, and copies. They are found here;
//! [`crate::restore`] deletes them, so that it can be taken back.

use std::collections::BTreeMap;

use chestnut_core::{ContentKey, Entry, ObjectHref, Origin, RouteTag, last_changed, parse_time};
use chestnut_store::Store;
use jiff::civil::DateTime;

use crate::case::start_text;
use crate::error::RunError;
use crate::observe::Observer;
use crate::options::RunOptions;
use crate::restore::{Goes, rule_of};
use crate::rule::CalendarEnd;
use crate::session::begin;

/// Entries that are the same to a person: kind, title, time and recurrence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Doubles {
    /// Their title; untrusted text.
    pub title: String,
    /// Their start as iCalendar writes it.
    pub start: String,
    /// How many stay: the oldest, or those that routes made and would make again.
    pub kept: usize,
    /// The routes that made some of them.
    pub routes: Vec<String>,
    /// Where the others stand.
    pub surplus: Vec<ObjectHref>,
}

/// A copy that a route made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundCopy {
    /// Where it stands.
    pub href: ObjectHref,
    /// Which route made it.
    pub tag: RouteTag,
}

/// An entry where it stands, and the routes that made it there.
struct Standing {
    href: ObjectHref,
    entry: Entry,
    makers: Vec<String>,
}

/// Looks at a calendar, and finds entries that are there several times.
///
/// # Errors
/// It cannot be read, or the state cannot be used.
pub async fn find_doubles(
    end: &CalendarEnd,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<Vec<Doubles>, RunError> {
    let mut alike: BTreeMap<ContentKey, Vec<Standing>> = BTreeMap::new();
    for one in standing(end, store, options, observer).await? {
        alike.entry(ContentKey::of_whole(&one.entry)).or_default().push(one);
    }
    let mut found: Vec<Doubles> = alike.into_values().filter(|all| all.len() > 1).map(sorted_out).collect();
    found.sort_by(|a, b| (&a.start, &a.title).cmp(&(&b.start, &b.title)));
    Ok(found)
}

/// Says which of several stay.
fn sorted_out(mut all: Vec<Standing>) -> Doubles {
    // What a route made it would make again: that stays. Else the oldest; what nobody dated is no older.
    all.sort_by(|a, b| {
        let order = |one: &Standing| (one.makers.is_empty(), age(&one.entry), one.entry.uid().is_copy());
        (order(a), &a.href).cmp(&(order(b), &b.href))
    });
    let kept = all.iter().filter(|one| !one.makers.is_empty()).count().max(1);
    let mut routes: Vec<String> = all.iter().flat_map(|one| one.makers.clone()).collect();
    routes.sort();
    routes.dedup();
    let first = &all[0].entry;
    Doubles {
        title: first.title(),
        start: start_text(first),
        kept,
        routes,
        surplus: all[kept..].iter().map(|one| one.href.clone()).collect(),
    }
}

/// When it was made (CREATED), else last changed; the youngest last.
fn age(entry: &Entry) -> (bool, Option<DateTime>) {
    let created = entry.main_component().value("CREATED").and_then(parse_time).map(|time| time.local());
    let at = created.or(last_changed(entry).0);
    (at.is_none(), at)
}

/// Looks at a calendar, and finds the copies in it.
///
/// # Errors
/// It cannot be read, or the state cannot be used.
pub async fn find_copies(
    end: &CalendarEnd,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<Vec<FoundCopy>, RunError> {
    let all = standing(end, store, options, observer).await?;
    let copies = all.into_iter().filter_map(|one| {
        let tag = one.entry.uid().route_tag()?;
        Some(FoundCopy { href: one.href, tag })
    });
    Ok(copies.collect())
}

async fn standing(
    end: &CalendarEnd,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<Vec<Standing>, RunError> {
    let rule = rule_of(end, &Goes::Nothing);
    let session = begin(&rule, store, options, observer, None).await?;
    let mut all = Vec::new();
    for object in store.all_objects(session.mirrors[0].id)? {
        let cases = store.cases_at(object.id)?;
        let makers = cases.into_iter().filter(|(_, _, origin)| *origin != Origin::Original);
        let makers = makers.map(|(_, route, _)| route).collect();
        let href = object.href.clone();
        if let Some(entry) = session.gatherer.stands(object)?.entry() {
            all.push(Standing { href, entry: entry.clone(), makers });
        }
    }
    Ok(all)
}
