//! The story of single entries: which rule of a route lets them through or stops them, and where their copies are.

use chestnut_core::{Entry, LeftOut, RoutePolicy, Scheduling, refusal};
use chestnut_store::{SideId, Store, StoreError};

use crate::error::RunError;
use crate::read_calendar::{ReadEntry, read_calendar};
use crate::record::start_text;
use crate::route::{Route, RunOptions};

/// What is known of one entry of a route's source.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Explained {
    /// Its UID at the source.
    pub uid: String,
    /// Its title; untrusted text.
    pub title: String,
    /// Its start as iCalendar writes it.
    pub start: String,
    /// Why the route does not take it; `None` where it does.
    pub stopped: Option<LeftOut>,
    /// Where its copy stands, and under which UID, if the route has made or found one.
    pub copy: Option<(String, String)>,
    /// What an earlier run met with it: refused, damaged, left out; a key or words, untrusted text.
    pub trouble: Option<String>,
}

/// Reads the source afresh, and explains the entries that `wanted` picks.
///
/// # Errors
/// One of the calendars cannot be read, or the state cannot be used.
pub async fn explain(
    route: &Route,
    store: &Store,
    options: &RunOptions,
    wanted: &dyn Fn(&Entry) -> bool,
) -> Result<Vec<Explained>, RunError> {
    let (source, target) = (&route.source, &route.target);
    let read = read_calendar(&source.calendar).await.map_err(|e| source.failed(e))?;
    let far = target.calendar.abilities().await.map_err(|e| target.failed(e))?;
    let own = source.calendar.abilities().await.map_err(|e| source.failed(e))?;
    let addresses = match own.scheduling {
        Scheduling::For(addresses) => addresses,
        Scheduling::Never | Scheduling::Anybody => Vec::new(),
    };
    let policy = route.policy(&addresses, far.kinds, far.max_size, far.scheduling, options.now);
    let mut explained = Vec::new();
    for entry in read {
        if let ReadEntry::Entry(entry) = entry
            && wanted(&entry)
        {
            explained.push(one(route, store, options, &policy, &entry)?);
        }
    }
    explained.sort_by(|a, b| (&a.start, &a.title, &a.uid).cmp(&(&b.start, &b.title, &b.uid)));
    Ok(explained)
}

fn one(
    route: &Route,
    store: &Store,
    options: &RunOptions,
    policy: &RoutePolicy,
    entry: &Entry,
) -> Result<Explained, RunError> {
    let (copy, trouble) = remembered(route, store, entry)?;
    let mut stopped = refusal(policy, entry, copy.is_some());
    let too_large = |max: u64| entry.caldav_text(options.now).len() as u64 > max;
    if stopped.is_none() && policy.max_size.is_some_and(too_large) {
        stopped = Some(LeftOut::TooLarge);
    }
    Ok(Explained {
        uid: entry.uid().to_string(),
        title: entry.title(),
        start: start_text(entry),
        stopped,
        copy,
        trouble,
    })
}

type Remembered = (Option<(String, String)>, Option<String>);

fn remembered(route: &Route, store: &Store, entry: &Entry) -> Result<Remembered, StoreError> {
    let Some(id) = store.route(&route.name)? else { return Ok((None, None)) };
    let known = store.known_by_uid(id, SideId::Source, entry.uid())?;
    let Some(known) = known.into_iter().next() else { return Ok((None, None)) };
    let Some(link) = known.link else { return Ok((None, known.left_out)) };
    let row = store.link(link)?;
    let far = store.linked(link, SideId::Target)?;
    let uid = row.as_ref().map(|row| row.target_uid.to_string()).unwrap_or_default();
    Ok((far.map(|far| (far.href.to_string(), uid)), row.and_then(|row| row.words).or(known.left_out)))
}
