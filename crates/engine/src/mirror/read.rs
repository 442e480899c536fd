//! Reads entries into a mirror: ETag and text of an object are written together.

use std::collections::{BTreeSet, HashMap};

use chestnut_caldav::Fetched;
use chestnut_core::ical::Limits;
use chestnut_core::{ContentKey, Entry, ObjectHref};
use chestnut_store::{NewObject, Object, ObjectState, StoreError, Writer, same_lines};
use futures_util::stream::{self, StreamExt as _};

use super::{BATCH, Mirror};
use crate::ahead;
use crate::case::rough_span;
use crate::error::RunError;

impl Mirror<'_> {
    /// Gone is what was known, and was not noted anew since the answer was asked for.
    pub(super) fn bury(&self, gone: &BTreeSet<ObjectHref>, noted_seq: i64) -> Result<(), RunError> {
        let gone: Vec<_> = gone.iter().collect();
        for batch in gone.chunks(BATCH) {
            self.store.write(|writer| self.bury_these(writer, batch, noted_seq))?;
        }
        Ok(())
    }

    fn bury_these(
        &self,
        writer: &Writer<'_>,
        gone: &[&ObjectHref],
        noted_seq: i64,
    ) -> Result<(), StoreError> {
        let _ahead = ahead::at(self.store, self.id, gone.iter().copied())?;
        for href in gone {
            match self.store.object_at(self.id, href)? {
                Some(known) if known.seq > noted_seq => self.doubt(writer, &known)?,
                Some(known) => writer.bury(self.id, known.id)?,
                None => {}
            }
        }
        Ok(())
    }

    /// Reads a calendar that goes on where it says nothing with what was known before: all of it at once, since a look
    /// that was cut off in the middle would have forgotten some of that.
    pub(super) async fn replace(
        &self,
        gone: &BTreeSet<ObjectHref>,
        hrefs: &[ObjectHref],
        noted_seq: i64,
    ) -> Result<BTreeSet<ObjectHref>, RunError> {
        let fetched = self.end.calendar.fetch(hrefs).await.map_err(|e| self.end.failed(e))?;
        let (fetched, gone) = (in_order(fetched), gone.iter().collect::<Vec<_>>());
        self.store.write(|writer| {
            self.bury_these(writer, &gone, noted_seq)?;
            self.take_these(writer, &fetched, Reading::listed(noted_seq))
        })?;
        Ok(missing_of(fetched).collect())
    }

    /// Reads objects into the mirror. What is not given is asked for again at the next look: nothing follows from it.
    /// Returns where the server says that nothing is.
    pub(super) async fn fetch(
        &self,
        hrefs: &[ObjectHref],
        reading: Reading,
    ) -> Result<BTreeSet<ObjectHref>, RunError> {
        let mut missing = BTreeSet::new();
        // The next batch is on its way while one is stored.
        let calendar = &self.end.calendar;
        let batches = hrefs.chunks(BATCH).map(async |batch| match reading.is_unknown {
            true => calendar.fetch_unknown(batch).await,
            false => calendar.fetch(batch).await,
        });
        let mut batches = stream::iter(batches).buffered(2);
        while let Some(fetched) = batches.next().await {
            let fetched = in_order(fetched.map_err(|e| self.end.failed(e))?);
            self.store.write(|writer| self.take_these(writer, &fetched, reading))?;
            missing.extend(missing_of(fetched));
        }
        Ok(missing)
    }

    /// Reads what is about to be written: what is asked for now is newer than anything noted.
    pub(crate) async fn read_now(&self, hrefs: &[ObjectHref]) -> Result<(), RunError> {
        let (mut known, mut unknown) = (Vec::new(), Vec::new());
        let ahead = ahead::at(self.store, self.id, hrefs)?;
        for href in hrefs {
            let is_known = self.store.object_at(self.id, href)?.is_some();
            if is_known { &mut known } else { &mut unknown }.push(href.clone());
        }
        drop(ahead);
        self.read(&known, Reading::default()).await?;
        self.read(&unknown, Reading { is_unknown: true, ..Reading::default() }).await
    }

    /// Reads what was just written: a report that names it with this ETag says nothing new.
    pub(crate) async fn read_back(&self, hrefs: &[ObjectHref]) -> Result<(), RunError> {
        self.read(hrefs, Reading { is_own: true, ..Reading::default() }).await
    }

    /// Reads what is listed and not known yet.
    pub(crate) async fn read_unknown(&self) -> Result<(), RunError> {
        let noted_seq = self.seq()?;
        let mut hrefs: Vec<ObjectHref> = self.compare(self.listing().await?)?.0.touched.into_keys().collect();
        let ahead = ahead::at(self.store, self.id, &hrefs)?;
        let mut known = BTreeSet::new();
        for href in &hrefs {
            known.extend(self.store.object_at(self.id, href)?.map(|object| object.href));
        }
        drop(ahead);
        hrefs.retain(|href| !known.contains(href));
        let reading = Reading { is_own: true, ..Reading::listed(noted_seq) };
        self.fetch(&hrefs, reading).await.map(drop)
    }

    async fn read(&self, hrefs: &[ObjectHref], reading: Reading) -> Result<(), RunError> {
        if hrefs.is_empty() {
            return Ok(());
        }
        let reading = Reading { noted_seq: self.seq()?, ..reading };
        self.wrote.set(true);
        self.fetch(hrefs, reading).await.map(drop)
    }

    fn take_these(
        &self,
        writer: &Writer<'_>,
        fetched: &[(ObjectHref, Fetched)],
        reading: Reading,
    ) -> Result<(), StoreError> {
        let _ahead = ahead::at(self.store, self.id, fetched.iter().map(|(href, _)| href))?;
        fetched.iter().try_for_each(|(href, one)| self.take(writer, href, one, reading))
    }

    fn take(
        &self,
        writer: &Writer<'_>,
        href: &ObjectHref,
        fetched: &Fetched,
        reading: Reading,
    ) -> Result<(), StoreError> {
        let known = self.store.object_at(self.id, href)?;
        let same = match (known.as_ref().and_then(|known| known.body), fetched) {
            (Some(body), Fetched::Text { text, .. }) => {
                self.store.text(body)?.is_some_and(|known| same_lines(&known, text))
            }
            _ => false,
        };
        if let Some(known) = known.as_ref().filter(|known| known.seq > reading.noted_seq) {
            // Somebody noted the same meanwhile, as where two batches look for what a server has put elsewhere.
            let is_noted = same && known.state == ObjectState::Present;
            return if is_noted { Ok(()) } else { self.doubt(writer, known) };
        }
        // What somebody else made anew may bear the ETag of what stood there before: a report that names it is news.
        let generation = self.facts.borrow().generation - i64::from(!reading.is_own);
        let (text, etag) = match fetched {
            Fetched::Text { text, etag } => (text, etag.as_ref()),
            Fetched::Missing | Fetched::NotGiven(_) => {
                return match (known, fetched) {
                    (Some(known), _) => self.doubt(writer, &known),
                    // Nothing was known, and nothing is there.
                    (None, Fetched::Missing) if !reading.is_listed => Ok(()),
                    (None, _) => writer.add_object(self.id, &bare(href, ObjectState::ToFetch)).map(drop),
                };
            }
        };
        if let Some(known) = known.as_ref().filter(|known| same && known.state == ObjectState::Present) {
            let is_noted = known.etag.as_ref() == etag && known.generation == generation;
            return match is_noted {
                true => Ok(()),
                false => writer.same_object(known.id, etag, ObjectState::Present, generation),
            };
        }
        let entry = match Entry::parse(text, &Limits::default()) {
            Ok(entry) => entry,
            // The end is missing: it was cut on the way, and may come whole next time.
            Err(_) if is_cut(text) => {
                let new = NewObject { text: Some(text), ..bare(href, ObjectState::ToFetch) };
                return match known {
                    Some(known) => self.doubt(writer, &known),
                    None => writer.add_object(self.id, &new).map(drop),
                };
            }
            Err(_) => {
                let new = NewObject { etag, generation, ..bare(href, ObjectState::Unreadable) };
                return match known {
                    Some(known) if known.state == ObjectState::Unreadable && known.etag.as_ref() == etag => {
                        Ok(())
                    }
                    Some(known) => writer.change_object(self.id, known.id, &new),
                    None => {
                        let new = NewObject { text: Some(text), ..new };
                        writer.add_object(self.id, &new).map(drop)
                    }
                };
            }
        };
        let uid = entry.uid();
        let new = NewObject {
            etag,
            generation,
            uid: Some(uid),
            content: Some(ContentKey::of(&entry)),
            text: Some(text),
            span: Some(rough_span(&entry)),
            ..bare(href, ObjectState::Present)
        };
        match known {
            Some(known) if known.uid.as_ref().is_none_or(|own| own == uid) => {
                let new = if same { NewObject { text: None, ..new } } else { new };
                writer.change_object(self.id, known.id, &new)
            }
            // Another entry has taken the place: the old one is gone.
            Some(known) => {
                writer.bury(self.id, known.id)?;
                writer.add_object(self.id, &new).map(drop)
            }
            None => writer.add_object(self.id, &new).map(drop),
        }
    }

    /// Notes that nobody knows what stands there: it is asked for at the next look.
    fn doubt(&self, writer: &Writer<'_>, known: &Object) -> Result<(), StoreError> {
        if known.state == ObjectState::ToFetch {
            return Ok(());
        }
        writer.change_object(self.id, known.id, &bare(&known.href, ObjectState::ToFetch))
    }
}

/// Why objects are read.
#[derive(Clone, Copy, Default)]
pub(super) struct Reading {
    /// What was noted later is newer.
    noted_seq: i64,
    /// Something stands there by the calendar's own word.
    is_listed: bool,
    /// It was written by this run.
    is_own: bool,
    /// Nothing was known to stand there.
    is_unknown: bool,
}

impl Reading {
    pub(super) fn listed(noted_seq: i64) -> Self {
        Self { noted_seq, is_listed: true, ..Self::default() }
    }
}

/// What was fetched, by href.
fn in_order(fetched: HashMap<ObjectHref, Fetched>) -> Vec<(ObjectHref, Fetched)> {
    let mut fetched: Vec<_> = fetched.into_iter().collect();
    fetched.sort_by(|a, b| a.0.cmp(&b.0));
    fetched
}

/// Where the server says that nothing is.
fn missing_of(fetched: Vec<(ObjectHref, Fetched)>) -> impl Iterator<Item = ObjectHref> {
    let is_missing = |(_, one): &(_, Fetched)| matches!(one, Fetched::Missing);
    fetched.into_iter().filter(is_missing).map(|(href, _)| href)
}

const BEGINS: &str = "BEGIN:VCALENDAR";
const ENDS: &str = "END:VCALENDAR";

/// Tells whether a text is not what stands there: the end of a calendar is missing, or it is a web page, or nothing.
fn is_cut(text: &str) -> bool {
    // No copy of it: it may be large.
    let text = text.trim().as_bytes();
    let is =
        |part: Option<&[u8]>, word: &str| part.is_some_and(|part| part.eq_ignore_ascii_case(word.as_bytes()));
    let begins = is(text.get(..BEGINS.len()), BEGINS);
    let ends = is(text.get(text.len().saturating_sub(ENDS.len())..), ENDS);
    text.is_empty() || text.starts_with(b"<") || (begins && !ends)
}

/// An object of which nothing is known but where it stands.
pub(crate) fn bare(href: &ObjectHref, state: ObjectState) -> NewObject<'_> {
    NewObject {
        href,
        etag: None,
        state,
        generation: 0,
        uid: None,
        content: None,
        text: None,
        span: None,
        parent: None,
    }
}
