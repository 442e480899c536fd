//! Reads a whole calendar, to look at it.

use chestnut_caldav::{Fetched, NotGiven};
use chestnut_core::ical::Limits;
use chestnut_core::{Entry, EntryError};

use crate::calendar::{Calendar, CalendarError};

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
