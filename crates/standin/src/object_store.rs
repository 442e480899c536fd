//! What a simulated server holds: users, calendars, entries, feeds.

use std::collections::{BTreeMap, BTreeSet};

use crate::exchange::Reply;
use crate::failings::{Failing, spoilt};
use crate::faults::Fault;
use crate::habits::Habit;
use crate::names::hash;
use crate::rewriting::rewrite;

/// A whole simulated server.
#[derive(Debug, Clone, Default)]
pub struct Server {
    /// Passwords by user name.
    pub users: BTreeMap<String, String>,
    /// Calendars by path, such as `/office/calendars/presses/`.
    pub collections: BTreeMap<String, Collection>,
    /// A sign-in service; with one, tokens are the only way in.
    pub sign_in: Option<crate::sign_in::SignInService>,
    /// Calendars that have another path for good: what stands under the first is sent on to the second (308).
    pub moved: BTreeMap<String, String>,
    /// Feeds by path, such as `/feeds/market.ics`.
    pub feeds: BTreeMap<String, String>,
    /// What it does otherwise.
    pub habits: BTreeSet<Habit>,
    /// What is broken, and since which change.
    pub failings: BTreeMap<Failing, u64>,
    /// What goes wrong next.
    pub faults: Vec<Fault>,
    /// Messages it would have sent to people (RFC 6638).
    pub outbox: Vec<String>,
    /// Its clock, in milliseconds since 1970; whoever runs it moves it.
    pub now_ms: i64,
    /// Every request it saw: method and path.
    pub log: Vec<(String, String)>,
    /// Most bytes of all entries together; 0 for no limit.
    pub quota: usize,
    /// Writes being worked on at this moment.
    pub writes_in_flight: usize,
    pub(crate) revision: u64,
}

/// Who besides the owner may use a calendar.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Share {
    /// Read it.
    Read,
    /// Read and write it.
    Write,
}

/// A calendar.
#[derive(Debug, Clone, Default)]
pub struct Collection {
    /// Its name.
    pub name: String,
    /// Its colour, `#rrggbb`; empty for none.
    pub color: String,
    /// Component names it announces; empty for all.
    pub kinds: Vec<String>,
    /// Other users.
    pub shares: BTreeMap<String, Share>,
    /// Entries by file name.
    pub objects: BTreeMap<String, Object>,
    /// Deleted entries, with the revision of the deletion and its second.
    pub(crate) graves: BTreeMap<String, (u64, i64)>,
    /// Entries and graves by the revision of their last change: to list the newest, nobody asks all.
    pub(crate) order: BTreeMap<u64, String>,
    /// The revision of the last change, and its second.
    pub(crate) changed: (u64, i64),
    /// How often each name was written, deletions included.
    pub(crate) writes: BTreeMap<String, u64>,
}

/// An entry as it is stored.
#[derive(Debug, Clone)]
pub struct Object {
    /// The text.
    pub text: String,
    /// Its state, with quotes.
    pub etag: String,
    pub(crate) changed: (u64, i64),
}

impl Collection {
    /// Notes that an entry changes, before it does.
    fn change(&mut self, name: &str, changed: (u64, i64)) {
        let before = self.objects.get(name).map(|object| object.changed);
        if let Some((revision, _)) = before.or_else(|| self.graves.get(name).copied()) {
            self.order.remove(&revision);
        }
        self.order.insert(changed.0, name.to_owned());
        self.changed = changed;
    }

    /// Entries and graves with their last change, newest first.
    pub(crate) fn newest(&self) -> impl Iterator<Item = ((u64, i64), &str, Option<&Object>)> {
        self.order.values().rev().filter_map(|name| {
            let object = self.objects.get(name);
            let changed = object.map(|o| o.changed).or_else(|| self.graves.get(name).copied());
            Some((changed?, name.as_str(), object))
        })
    }
}

impl Server {
    /// Makes a server with users; each password is the name with `-pw` behind it.
    #[must_use]
    pub fn new(users: &[&str], now_ms: i64) -> Self {
        let users = users.iter().map(|u| ((*u).to_owned(), format!("{u}-pw"))).collect();
        Self { users, now_ms, ..Self::default() }
    }

    /// Adds a calendar to a user's home and returns its path.
    pub fn add_calendar(&mut self, user: &str, slug: &str, name: &str, color: &str) -> String {
        let path = format!("{}{slug}/", self.home(user));
        let collection =
            Collection { name: name.to_owned(), color: color.to_owned(), ..Collection::default() };
        self.collections.insert(path.clone(), collection);
        self.touch(&path);
        path
    }

    /// Returns the path of a user's home.
    #[must_use]
    pub fn home(&self, user: &str) -> String {
        if self.has(Habit::HomeIsPrincipal) { self.principal(user) } else { format!("/{user}/calendars/") }
    }

    /// Returns the path of a user's principal.
    #[must_use]
    pub fn principal(&self, user: &str) -> String {
        format!("/{user}/")
    }

    /// Tells whether the server has a habit.
    #[must_use]
    pub fn has(&self, habit: Habit) -> bool {
        self.habits.contains(&habit)
    }

    /// Breaks something, from now on.
    pub fn fail(&mut self, failing: Failing) {
        self.failings.insert(failing, self.revision);
    }

    /// Tells whether an object shows in listings and reports.
    pub(crate) fn shows(&self, changed: (u64, i64)) -> bool {
        self.failings.get(&Failing::StaleListings).is_none_or(|since| changed.0 <= *since)
    }

    /// Stores a text as the server would after a PUT, its rewriting habits applied.
    ///
    /// # Panics
    /// The calendar does not exist.
    pub fn store(&mut self, calendar: &str, name: &str, text: &str) -> String {
        let has = |failing| self.failings.contains_key(&failing);
        let text = match (has(Failing::DropsTitles), has(Failing::LateByAnHour)) {
            (false, false) => rewrite(text, name, &self.habits),
            (drops_titles, is_late) => spoilt(&rewrite(text, name, &self.habits), drops_titles, is_late),
        };
        self.store_raw(calendar, name, text)
    }

    /// Stores a text as it is.
    ///
    /// # Panics
    /// The calendar does not exist.
    pub fn store_raw(&mut self, calendar: &str, name: &str, text: String) -> String {
        let changed = self.next_change();
        let (counts, moves) = (self.has(Habit::EtagCounts), self.has(Habit::EtagMoves));
        let collection = self.collections.get_mut(calendar).expect("the calendar exists");
        let writes = collection.writes.entry(name.to_owned()).or_insert(0);
        // A counter starts anew with each life of the object.
        *writes = if counts && !collection.objects.contains_key(name) { 1 } else { *writes + 1 };
        let etag = match (counts, moves) {
            (true, _) => format!("\"{writes}\""),
            (_, true) => format!("\"{}-{writes}\"", hash(&text)),
            _ => format!("\"{}\"", hash(&text)),
        };
        collection.change(name, changed);
        collection.graves.remove(name);
        collection.objects.insert(name.to_owned(), Object { text, etag: etag.clone(), changed });
        etag
    }

    /// Deletes an entry; tells whether it was there.
    pub fn delete(&mut self, calendar: &str, name: &str) -> bool {
        let changed = self.next_change();
        let Some(collection) = self.collections.get_mut(calendar) else { return false };
        if !collection.objects.contains_key(name) {
            return false;
        }
        collection.change(name, changed);
        collection.objects.remove(name);
        collection.graves.insert(name.to_owned(), changed);
        true
    }

    /// Marks a calendar as changed although no entry is: a new name or colour.
    pub fn touch(&mut self, calendar: &str) {
        let changed = self.next_change();
        if let Some(collection) = self.collections.get_mut(calendar) {
            collection.changed = changed;
        }
    }

    fn next_change(&mut self) -> (u64, i64) {
        self.revision += 1;
        (self.revision, self.now_ms.div_euclid(1000))
    }

    /// Returns the texts of a calendar by file name.
    #[must_use]
    pub fn texts(&self, calendar: &str) -> BTreeMap<String, String> {
        let objects = self.collections.get(calendar).map(|c| &c.objects);
        objects.into_iter().flatten().map(|(name, object)| (name.clone(), object.text.clone())).collect()
    }

    /// Returns a calendar's sync token.
    pub(crate) fn token(&self, collection: &Collection) -> String {
        let (mut revision, second) = collection.changed;
        let frozen =
            [Failing::FrozenMarks, Failing::StaleListings].into_iter().filter_map(|f| self.failings.get(&f));
        revision = frozen.copied().fold(revision, u64::min);
        let state = if self.has(Habit::CountsSeconds) { second.unsigned_abs() } else { revision };
        format!("https://standin.example/sync/{state}")
    }

    /// Tells whether a change came after a token's state.
    pub(crate) fn is_after(&self, changed: (u64, i64), state: u64) -> bool {
        if self.has(Habit::CountsSeconds) { changed.1.unsigned_abs() > state } else { changed.0 > state }
    }

    pub(crate) fn bytes(&self) -> usize {
        self.collections.values().flat_map(|c| c.objects.values()).map(|o| o.text.len()).sum()
    }

    /// An error that names the condition that failed (RFC 4918, 16).
    pub(crate) fn condition(&self, status: u16, name: &str, href: Option<&str>) -> Reply {
        let inner = href.map(|h| format!("<d:href>{h}</d:href>")).unwrap_or_default();
        let declared =
            if self.has(Habit::StrangeErrors) { "" } else { r#" xmlns:c="urn:ietf:params:xml:ns:caldav""# };
        let prefix = if name == "valid-sync-token" || name == "supported-report" { "d" } else { "c" };
        let body = format!(
            r#"<?xml version="1.0" encoding="utf-8"?><d:error xmlns:d="DAV:"{declared}><{prefix}:{name}>{inner}</{prefix}:{name}></d:error>"#
        );
        Reply::xml(status, body)
    }
}
