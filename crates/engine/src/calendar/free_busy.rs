//! Somebody's free-busy time: it can only be read, says nothing but when time is taken, and nothing of what lies outside
//! of its ends.

use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

use chestnut_caldav::protocol::Listing;
use chestnut_caldav::{Client, Fetched, RequestCounts, Tally};
use chestnut_core::{CalendarText, Entry, FreeBusy, ObjectHref, SyncToken, hex};
use jiff::Timestamp;
use sha2::{Digest, Sha256};
use url::Url;

use super::Result;
use super::feed::{fetched, listed};

/// Somebody's free-busy time.
#[derive(Debug, Clone)]
pub struct FreeBusyCalendar {
    client: Client,
    url: Url,
    /// About which range a server is asked; one that is published is read as it is.
    asks: Option<(Timestamp, Timestamp)>,
    /// What a time that is taken is called.
    title: String,
    read: Rc<RefCell<Read>>,
    /// What was known before.
    before: Rc<RefCell<Vec<Entry>>>,
}

#[derive(Debug, Default)]
struct Read {
    free_busy: FreeBusy,
    token: Option<SyncToken>,
    /// It was read in answer to the question whether anything changed: a listing need not ask again.
    is_fresh: bool,
    /// An entry for each time that is taken.
    text: Option<CalendarText>,
}

impl FreeBusyCalendar {
    /// Makes a calendar out of an address. With `asks` it is a calendar on a server, which is asked about that range;
    /// where it does not answer such questions, what is published there is read.
    #[must_use]
    pub fn new(client: Client, url: Url, asks: Option<(Timestamp, Timestamp)>, title: &str) -> Self {
        Self { client, url, asks, title: title.to_owned(), read: Rc::default(), before: Rc::default() }
    }

    pub(super) fn address(&self) -> String {
        let digest = hex(&Sha256::digest(self.url.as_str())[..8]);
        format!("free-busy {}#{digest} {}", self.url.host_str().unwrap_or_default(), self.client.user())
    }

    pub(super) fn counting(self, tally: Tally) -> Self {
        Self { client: self.client.counting(tally), ..self }
    }

    pub(super) fn counts(&self) -> RequestCounts {
        self.client.counts()
    }

    pub(super) fn server_clock(&self) -> Option<i64> {
        self.client.server_clock()
    }

    pub(super) fn counter(&self) -> usize {
        self.client.counter()
    }

    pub(super) fn let_go(&self) {
        self.read.take();
        self.before.take();
    }

    /// Says what was known before: outside of what is known now it stays.
    pub(super) fn recall(&self, before: Vec<Entry>) {
        *self.before.borrow_mut() = before;
    }

    /// Returns what was known of at the last look, in seconds since 1970.
    pub(super) fn known(&self) -> Option<Vec<(i64, i64)>> {
        let read = self.read.borrow();
        read.token.is_some().then(|| read.free_busy.known().to_vec())
    }

    /// Reads it as it is now.
    ///
    /// # Errors
    /// No answer, or anything but free-busy time.
    pub async fn look(&self) -> Result<FreeBusy> {
        if let Some((from, to)) = self.asks
            && let Some(body) = self.client.free_busy(&self.url, from, to).await?
        {
            return Ok(FreeBusy::read(&body, None)?.about((from.as_second(), to.as_second())));
        }
        let published = self.client.published(&self.url).await?;
        Ok(FreeBusy::read(&published.body, published.charset.as_deref())?)
    }

    pub(super) async fn ctag(&self) -> Result<SyncToken> {
        let free_busy = self.look().await?;
        let token = SyncToken::from(hex(&Sha256::digest(format!("{free_busy:?}"))[..16]));
        let read = Read { free_busy, token: Some(token.clone()), is_fresh: true, text: None };
        *self.read.borrow_mut() = read;
        Ok(token)
    }

    pub(super) async fn listing(&self) -> Result<Listing> {
        if !self.read.borrow().is_fresh {
            self.ctag().await?;
        }
        let mut read = self.read.borrow_mut();
        read.is_fresh = false;
        let entries = read.free_busy.entries(&self.before.borrow(), &self.title);
        let text = read.text.insert(CalendarText::of(&entries));
        let entries = listed(text);
        Ok(Listing { entries, sync_token: None, ctag: read.token.clone(), date: None })
    }

    pub(super) async fn fetch(&self, hrefs: &[ObjectHref]) -> Result<HashMap<ObjectHref, Fetched>> {
        if self.read.borrow().text.is_none() && !hrefs.is_empty() {
            self.listing().await?;
        }
        let read = self.read.borrow();
        Ok(read.text.as_ref().map(|text| fetched(text, hrefs)).unwrap_or_default())
    }
}
