//! A feed: it can only be read, and always as a whole.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::rc::Rc;

use chestnut_caldav::protocol::{FeedAnswer, FeedText, Listed, Listing, Validators};
use chestnut_caldav::{Client, Fetched, RequestCounts, Tally};
use chestnut_core::ical::Limits;
use chestnut_core::{CalendarText, ObjectHref, SyncToken, hex};
use sha2::{Digest, Sha256};
use url::Url;

use super::Result;

/// An iCalendar feed.
#[derive(Debug, Clone)]
pub struct FeedCalendar {
    client: Client,
    url: Url,
    read: Rc<RefCell<Option<Read>>>,
}

/// What was read last.
#[derive(Debug)]
struct Read {
    text: CalendarText,
    validators: Validators,
    date: Option<i64>,
    /// It was read in answer to the question whether anything changed: a listing need not ask again.
    is_fresh: bool,
}

impl FeedCalendar {
    /// Makes a feed out of its address.
    #[must_use]
    pub fn new(client: Client, url: Url) -> Self {
        Self { client, url, read: Rc::default() }
    }

    pub(super) fn address(&self) -> String {
        let digest = hex(&Sha256::digest(self.url.as_str())[..8]);
        format!("feed {}#{digest}", self.url.host_str().unwrap_or_default())
    }

    pub(super) fn counting(self, tally: Tally) -> Self {
        Self { client: self.client.counting(tally), ..self }
    }

    pub(super) fn counts(&self) -> RequestCounts {
        self.client.counts()
    }

    /// Lets go of what was read.
    pub(super) fn let_go(&self) {
        self.read.take();
    }

    pub(super) fn server_clock(&self) -> Option<i64> {
        self.client.server_clock()
    }

    pub(super) fn counter(&self) -> usize {
        self.client.counter()
    }

    pub(super) fn has_final_ctags(&self) -> bool {
        self.read.borrow().as_ref().is_none_or(|read| read.date.is_none())
    }

    /// Reads the feed as it is now, whatever was read before.
    ///
    /// # Errors
    /// No answer, or anything but one complete calendar.
    pub async fn look(&self) -> Result<CalendarText> {
        self.get(None).await?;
        let read = self.read.borrow();
        Ok(read.as_ref().map_or_else(CalendarText::empty, |read| read.text.clone()))
    }

    /// Returns whether it was read anew, and the state it has.
    async fn get(&self, known: Option<&Validators>) -> Result<(bool, SyncToken)> {
        let FeedText { body, charset, validators, date } = match known {
            None => self.client.published(&self.url).await?,
            Some(known) => match self.client.feed(&self.url, Some(known)).await? {
                FeedAnswer::Unchanged => return Ok((false, known.to_token())),
                FeedAnswer::Text(text) => text,
            },
        };
        let text = CalendarText::read(body, charset.as_deref(), &Limits::default())?;
        let token = validators.to_token();
        *self.read.borrow_mut() = Some(Read { text, validators, date, is_fresh: true });
        Ok((true, token))
    }

    pub(super) async fn ctag(&self, known: &SyncToken) -> Result<SyncToken> {
        Ok(self.get(Some(&Validators::of_token(known))).await?.1)
    }

    pub(super) async fn listing(&self) -> Result<Listing> {
        let is_fresh = self.read.borrow().as_ref().is_some_and(|read| read.is_fresh);
        if !is_fresh {
            self.get(None).await?;
        }
        let mut read = self.read.borrow_mut();
        let Some(read) = read.as_mut() else { return Ok(Listing::default()) };
        read.is_fresh = false;
        Ok(Listing {
            entries: listed(&read.text),
            sync_token: None,
            ctag: Some(read.validators.to_token()),
            date: read.date,
        })
    }

    pub(super) async fn fetch(&self, hrefs: &[ObjectHref]) -> Result<HashMap<ObjectHref, Fetched>> {
        if self.read.borrow().is_none() && !hrefs.is_empty() {
            self.get(None).await?;
        }
        let read = self.read.borrow();
        Ok(read.as_ref().map(|read| fetched(&read.text, hrefs)).unwrap_or_default())
    }
}

/// Lists the entries of a text; each stands at its UID.
pub(super) fn listed(text: &CalendarText) -> Vec<Listed> {
    let entry = |placed: &chestnut_core::Placed| Listed {
        href: ObjectHref::from(placed.uid.as_str()),
        etag: Some(placed.etag.clone()),
    };
    text.placed().iter().map(entry).collect()
}

/// Gives entries of a text by their UIDs.
pub(super) fn fetched(text: &CalendarText, hrefs: &[ObjectHref]) -> HashMap<ObjectHref, Fetched> {
    let mut found: HashMap<_, _> = hrefs.iter().map(|href| (href.clone(), Fetched::Missing)).collect();
    let wanted: HashSet<&str> = hrefs.iter().map(ObjectHref::as_str).collect();
    for (placed, entry) in text.pick(|placed| wanted.contains(placed.uid.as_str())) {
        let there = Fetched::Text { etag: Some(placed.etag.clone()), text: entry.text() };
        found.insert(ObjectHref::from(placed.uid.as_str()), there);
    }
    found
}
