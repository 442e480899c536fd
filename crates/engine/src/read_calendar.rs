//! Reads a whole calendar, to look at it.

use chestnut_caldav::{Fetched, NotGiven};
use chestnut_core::ical::Limits;
use chestnut_core::{Entry, EntryError, Origin};
use chestnut_store::{CalendarId, LinkId, ObjectId, ObjectState, Store};
use jiff::Timestamp;

use crate::calendar::{Calendar, CalendarError};
use crate::error::RunError;
use crate::mirror::{Look, Mirror};
use crate::rule::CalendarEnd;

/// What stands at one place of a calendar.
#[derive(Debug, Clone)]
pub enum ReadEntry {
    /// An entry.
    Entry(Box<Entry>),
    /// Something that cannot be read: where, and why.
    Unreadable {
        /// The file name or the like.
        name: String,
        /// Why.
        why: Unread,
    },
}

/// Why something cannot be read.
#[derive(Debug, Clone)]
pub enum Unread {
    /// The calendar did not give it.
    NotGiven(NotGiven),
    /// It is no entry.
    NoEntry(EntryError),
    /// It was an entry once, and is none now.
    NotAnyMore,
}

/// Reads every entry of a calendar.
///
/// # Errors
/// The calendar as a whole cannot be read.
pub async fn read_calendar(calendar: &Calendar) -> Result<Vec<ReadEntry>, CalendarError> {
    let listing = calendar.listing().await?;
    let hrefs: Vec<_> = listing.entries.into_iter().map(|listed| listed.href).collect();
    let mut all: Vec<_> = calendar.fetch(&hrefs).await?.into_iter().collect();
    all.sort_by(|a, b| a.0.cmp(&b.0));
    let read = |(href, fetched): (chestnut_core::ObjectHref, Fetched)| {
        let name = href.as_str().rsplit('/').next().unwrap_or_default().to_owned();
        let why = match fetched {
            Fetched::Missing => return None,
            Fetched::NotGiven(why) => Unread::NotGiven(why),
            Fetched::Text { text, .. } => match Entry::parse(&text, &Limits::default()) {
                Ok(entry) => return Some(ReadEntry::Entry(Box::new(entry))),
                Err(error) => Unread::NoEntry(error),
            },
        };
        Some(ReadEntry::Unreadable { name, why })
    };
    Ok(all.into_iter().filter_map(read).collect())
}

/// A calendar's mirror, to look at what stands there on some days.
#[derive(Debug)]
pub struct Seen<'s> {
    store: &'s Store,
    calendar: CalendarId,
    /// When it was last looked at as a whole, as far as is known.
    pub as_of: Option<Timestamp>,
    /// The addresses of whoever it belongs to.
    pub addresses: Vec<String>,
    /// Of which time it tells, in seconds since 1970; `None`: of all.
    pub known: Option<Vec<(i64, i64)>>,
}

/// What an entry is to the routes that know it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// The case: an entry of another calendar in the same case is its source, its copy, or the same entry.
    pub case: LinkId,
    /// The route.
    pub route: String,
    /// Whether the route made it.
    pub is_copy: bool,
}

/// Brings the mirror of a calendar up to date, so that days can be looked at; with `offline` takes it as it is.
///
/// # Errors
/// The calendar cannot be read, or the state cannot be used.
pub async fn look_at<'s>(
    store: &'s Store,
    end: &CalendarEnd,
    now: Timestamp,
    from: i64,
    offline: bool,
) -> Result<Seen<'s>, RunError> {
    let mirror = Mirror::of(store, end)?;
    if !offline {
        mirror.refresh(&Look::once(now, Some(from))).await?;
    }
    let facts = mirror.facts();
    let moments = [facts.checked_at, facts.changed_at, facts.taken_at];
    let as_of = moments.into_iter().flatten().max().and_then(|at| Timestamp::from_second(at).ok());
    let addresses = facts.addresses.unwrap_or_default();
    Ok(Seen { store, calendar: mirror.id, as_of, addresses, known: facts.known })
}

impl Seen<'_> {
    /// Calls `each` for what may take place between two moments, and for what cannot be read.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn each_between(
        &self,
        range: std::ops::Range<i64>,
        mut each: impl FnMut(ObjectId, ReadEntry),
    ) -> Result<(), RunError> {
        for object in self.store.objects_between(self.calendar, range.start, range.end)? {
            let name = object.href.as_str().rsplit('/').next().unwrap_or_default().to_owned();
            let text = object.body.map(|body| self.store.text(body)).transpose()?.flatten();
            let read = text.map(|text| Entry::parse(&text, &Limits::default()));
            match (object.state, read) {
                (ObjectState::Present, Some(Ok(entry))) => each(object.id, ReadEntry::Entry(Box::new(entry))),
                (ObjectState::Present | ObjectState::Unreadable, Some(Err(error))) => {
                    each(object.id, ReadEntry::Unreadable { name, why: Unread::NoEntry(error) });
                }
                (ObjectState::Unreadable, _) => {
                    each(object.id, ReadEntry::Unreadable { name, why: Unread::NotAnyMore });
                }
                // Long over, or known to be there and not read yet: the next look brings it.
                (
                    ObjectState::Unread | ObjectState::ToFetch | ObjectState::Gone | ObjectState::Present,
                    _,
                ) => {}
            }
        }
        Ok(())
    }

    /// Returns what an entry is to the routes that know it.
    ///
    /// # Errors
    /// The state cannot be read.
    pub fn parts(&self, object: ObjectId) -> Result<Vec<Part>, RunError> {
        let cases = self.store.cases_at(object)?;
        let part = |(case, route, origin)| Part { case, route, is_copy: origin == Origin::Copy };
        Ok(cases.into_iter().map(part).collect())
    }
}
