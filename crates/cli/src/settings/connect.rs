//! From settings to clients and routes: calendars are found, the key made.

use std::cell::{Cell, OnceCell, RefCell};
use std::collections::BTreeMap;
use std::rc::Rc;
use std::time::Duration;

use chestnut_caldav::protocol::{Found, feed_address, url_of};
use chestnut_caldav::{Client, ClientOptions, HttpOptions, HttpTransport};
use chestnut_core::{Choice, ObjectHref, RouteKey, RouteTag};
use chestnut_engine::{
    Calendar, CalendarEnd, FeedCalendar, FileCalendar, FolderCalendar, FreeBusyCalendar, Rule,
};
use chestnut_store::{Store, StoreError};
use jiff::Timestamp;
use secrecy::ExposeSecret as _;
use sha2::{Digest as _, Sha256};
use url::Url;

use super::account::AccountSettings;
use super::calendar::{FeedSource, Place};
use super::file::Settings;
use super::reach::{environment_proxies, http_options};
use super::route::RouteSettings;
use super::secrets::{read_secret, write_private};
use super::start::{ResolvedStart, default_resolver};
use crate::environment::Environment;
use crate::failure::Failure;
use crate::words::{
    account_failure, cannot_be_reached, feed_elsewhere, holds_no_key, key_missing, key_not_written,
    key_of_another, key_unreadable, keys, no_key, none_of_that_name, not_a_feed_address, not_on_a_server,
    several_of_that_name,
};

/// Days before and after today about which a server is asked when somebody is taken.
const ASKED_BEFORE: i64 = 31;
const ASKED_AHEAD: i64 = 366;
/// What was found by its name is sought again after so many seconds.
const A_DAY: i64 = 24 * 3600;

/// Clients of accounts, made when they are first needed.
pub(crate) struct Connections<'s> {
    settings: &'s Settings,
    environment: &'s Environment,
    clients: RefCell<BTreeMap<String, Client>>,
    /// Clients of feeds, and their addresses, by calendar.
    readers: RefCell<BTreeMap<String, (Client, Url)>>,
    /// What clients that are forgotten had sent.
    sent_before: Cell<u64>,
    found: RefCell<BTreeMap<String, Rc<Found>>>,
    starts: RefCell<BTreeMap<String, Url>>,
    /// Where calendars were found before, and what time it is.
    kept: Option<(&'s Store, Timestamp)>,
    /// The tags of all routes, by which each tells the copies of the others.
    tags: OnceCell<Rc<[RouteTag]>>,
}

impl<'s> Connections<'s> {
    pub(crate) fn new(settings: &'s Settings, environment: &'s Environment) -> Self {
        Self {
            settings,
            environment,
            clients: RefCell::default(),
            readers: RefCell::default(),
            sent_before: Cell::default(),
            found: RefCell::default(),
            starts: RefCell::default(),
            kept: None,
            tags: OnceCell::new(),
        }
    }

    /// Takes what was found within a day from the state, and keeps there what is found: for runs that nobody watches.
    pub(crate) fn keeping(self, store: &'s Store, now: Timestamp) -> Self {
        Self { kept: Some((store, now)), ..self }
    }

    /// Forgets where a calendar was found, if that is how it was reached: whoever asks for it again seeks it.
    pub(crate) fn forget(&self, calendar: &str) -> Result<bool, Failure> {
        let settings = self.settings.calendars.get(calendar);
        let (Some((store, _)), Some((Place::Name(shown), Some(account)))) =
            (self.kept, settings.map(|settings| (&settings.place, &settings.account)))
        else {
            return Ok(false);
        };
        let whose = self.whose(account);
        let is_kept = store.address(&whose, shown)?.is_some() && !self.found.borrow().contains_key(account);
        store.write(|writer| writer.forget_address(&whose, shown))?;
        Ok(is_kept)
    }

    /// The server and the user of an account: another one finds other calendars.
    fn whose(&self, account: &str) -> String {
        let settings = &self.settings.accounts[account];
        format!("{} {}", settings.start.url, settings.user.as_deref().unwrap_or_default())
    }

    /// Returns the client of an account.
    pub(crate) fn client(&self, account: &str) -> Result<Client, Failure> {
        if let Some(client) = self.clients.borrow().get(account) {
            return Ok(client.clone());
        }
        let client = self.connect(account, &self.settings.accounts[account])?;
        self.clients.borrow_mut().insert(account.to_owned(), client.clone());
        Ok(client)
    }

    fn connect(&self, name: &str, account: &AccountSettings) -> Result<Client, Failure> {
        let options = http_options(name, account, self.settings.base(), self.environment)?;
        let plain = ClientOptions::default();
        let patience = Duration::try_from(account.patience).unwrap_or(plain.patience);
        let how = ClientOptions { at_once: account.at_once, patience, ..plain };
        let client = client(&format!("account {name}"), options, how)?;
        Ok(client.signed_in_as(account.user.as_deref().unwrap_or(name)))
    }

    /// Forgets the client of an account or of a calendar: the next one signs in with what is kept then.
    pub(crate) fn forget_client(&self, source: &str) {
        let all = self.requests();
        self.clients.borrow_mut().remove(source);
        let account_of = |calendar: &str| self.settings.calendars.get(calendar)?.account.as_deref();
        self.readers.borrow_mut().retain(|name, _| name != source && account_of(name) != Some(source));
        self.sent_before.set(self.sent_before.get() + all - self.requests());
        self.found.borrow_mut().remove(source);
    }

    /// Returns how many requests were sent to servers so far, looks as well as runs.
    pub(crate) fn requests(&self) -> u64 {
        let clients: u64 = self.clients.borrow().values().map(|client| client.counts().all).sum();
        let readers: u64 = self.readers.borrow().values().map(|(client, _)| client.counts().all).sum();
        self.sent_before.get() + clients + readers
    }

    /// What tells a monitor that all is well, and where.
    pub(crate) fn heartbeat(&self, source: &FeedSource) -> Result<(Client, Url), Failure> {
        // Not kept: a calendar may be called so.
        self.make_reader("heartbeat-url", source, None)
    }

    /// Returns the host that has kept somebody waiting longest, and for how long.
    pub(crate) fn waits_for(&self) -> Option<(String, Duration)> {
        let waits =
            self.clients.borrow().values().filter_map(Client::waits_for).min_by_key(|(_, since)| *since);
        waits.map(|(host, since)| (host, since.elapsed()))
    }

    /// Returns where the search for an account's calendars begins; asks the name service once, and only for a
    /// bare host.
    pub(crate) async fn start(&self, account: &str) -> Result<Url, Failure> {
        let known = self.starts.borrow().get(account).cloned();
        if let Some(url) = known {
            return Ok(url);
        }
        let start = &self.settings.accounts[account].start;
        let resolver = default_resolver(self.environment)?;
        let url = ResolvedStart::of(start, resolver).await.url(&format!("account {account}"))?;
        self.starts.borrow_mut().insert(account.to_owned(), url.clone());
        Ok(url)
    }

    /// Finds an account's calendars; asks once.
    pub(crate) async fn discover(&self, account: &str) -> Result<Rc<Found>, Failure> {
        if let Some(found) = self.found.borrow().get(account) {
            return Ok(Rc::clone(found));
        }
        let url = self.start(account).await?;
        let found = self.client(account)?.discover(&url).await.map_err(|e| account_failure(account, &e))?;
        let found = Rc::new(found);
        self.found.borrow_mut().insert(account.to_owned(), Rc::clone(&found));
        Ok(found)
    }

    /// As [`Self::discover`], with the calendars of those for whom the user stands in: for people who look around, not
    /// for runs.
    pub(crate) async fn discover_all(&self, account: &str) -> Result<Rc<Found>, Failure> {
        let url = self.start(account).await?;
        let found = self.client(account)?.discover_all(&url, |_, _| {}).await;
        Ok(Rc::new(found.map_err(|e| account_failure(account, &e))?))
    }

    async fn end(&self, name: &str, receives: bool) -> Result<CalendarEnd, Failure> {
        let settings = &self.settings.calendars[name];
        let account = settings.account.clone();
        let calendar = match (&settings.place, &account) {
            (Place::File(path), _) => {
                let file = FileCalendar::new(self.settings.base().join(path), receives);
                Calendar::File(file.on(self.settings.machine()))
            }
            (Place::Folder(path), _) => {
                let folder = FolderCalendar::new(self.settings.base().join(path), receives);
                Calendar::Folder(folder.on(self.settings.machine()))
            }
            (Place::Feed(source), _) => Calendar::Feed(self.feed(name, source, account.as_deref())?),
            (Place::FreeBusy(source), _) => {
                Calendar::FreeBusy(self.free_busy(name, source, account.as_deref())?)
            }
            (Place::Path(path), Some(account)) => {
                let path = format!("/{}/", path.trim_matches('/'));
                let url = url_of(&ObjectHref::from(path), &self.start(account).await?);
                Calendar::Dav { client: self.client(account)?, url }
            }
            (Place::Name(shown), Some(account)) => {
                let url = self.named(name, account, shown).await?;
                Calendar::Dav { client: self.client(account)?, url }
            }
            (Place::Path(_) | Place::Name(_), None) => unreachable!("the configuration was checked"),
        };
        Ok(CalendarEnd::new(name, account.as_deref(), calendar))
    }

    /// Makes a calendar ready to be read.
    pub(crate) async fn calendar(&self, name: &str) -> Result<CalendarEnd, Failure> {
        self.end(name, false).await
    }

    /// Returns the address of a calendar on a server.
    pub(crate) async fn url(&self, name: &str) -> Result<Url, Failure> {
        match self.end(name, false).await?.calendar {
            Calendar::Dav { url, .. } => Ok(url),
            _ => Err(not_on_a_server(name)),
        }
    }

    /// Finds a calendar by the name it has on its server.
    async fn named(&self, name: &str, account: &str, shown: &str) -> Result<Url, Failure> {
        let whose = self.whose(account);
        if let Some((store, now)) = self.kept
            && let Some((url, found)) = store.address(&whose, shown)?
            && (0..A_DAY).contains(&(now.as_second() - found))
            && let Ok(url) = Url::parse(&url)
            // A sign-in goes where the first question goes: that must be the account's own server.
            && url.origin() == self.start(account).await?.origin()
        {
            return Ok(url);
        }
        let found = self.discover(account).await?;
        let mut matches = found.calendars.iter().filter(|c| c.name == shown);
        match (matches.next(), matches.next()) {
            (Some(one), None) => {
                if let Some((store, now)) = self.kept {
                    store.write(|writer| writer.keep_address(&whose, shown, one.url.as_str(), now))?;
                }
                Ok(one.url.clone())
            }
            (None, _) => Err(none_of_that_name(name, account, shown)),
            (Some(_), Some(_)) => Err(several_of_that_name(name, account, shown)),
        }
    }

    /// Makes a feed ready to be read.
    pub(crate) fn feed(
        &self,
        name: &str,
        source: &FeedSource,
        account: Option<&str>,
    ) -> Result<FeedCalendar, Failure> {
        let (client, url) = self.reader(name, source, account)?;
        Ok(FeedCalendar::new(client, url))
    }

    /// Makes somebody's free-busy time ready to be read. Where somebody signs in, their server is asked about a year;
    /// else it is published.
    pub(crate) fn free_busy(
        &self,
        name: &str,
        source: &FeedSource,
        account: Option<&str>,
    ) -> Result<FreeBusyCalendar, Failure> {
        let (client, url) = self.reader(name, source, account)?;
        let today = self.environment.now()?.as_second().div_euclid(86_400) * 86_400;
        let day = |days: i64| Timestamp::from_second(today + days * 86_400).unwrap_or_default();
        Ok(FreeBusyCalendar::new(
            client,
            url,
            account.map(|_| (day(-ASKED_BEFORE), day(ASKED_AHEAD))),
            keys::BUSY,
        ))
    }

    /// What reads an address, and the address; made once.
    fn reader(
        &self,
        name: &str,
        source: &FeedSource,
        account: Option<&str>,
    ) -> Result<(Client, Url), Failure> {
        if let Some(known) = self.readers.borrow().get(name) {
            return Ok(known.clone());
        }
        let reader = self.make_reader(name, source, account)?;
        self.readers.borrow_mut().insert(name.to_owned(), reader.clone());
        Ok(reader)
    }

    fn make_reader(
        &self,
        name: &str,
        source: &FeedSource,
        account: Option<&str>,
    ) -> Result<(Client, Url), Failure> {
        let owner = format!("calendar {name}");
        let address = match source {
            FeedSource::Address(text) => text.clone(),
            FeedSource::Secret(source) => {
                let secret =
                    read_secret(&owner, "feed's address", source, self.settings.base(), self.environment)?;
                secret.expose_secret().to_owned()
            }
        };
        let url = feed_address(&address).ok_or_else(|| not_a_feed_address(&owner))?;
        let account = account.map(|name| (name, &self.settings.accounts[name]));
        let mut options = match account {
            Some((name, account)) if account.may_sign_in_at(&url) => {
                http_options(name, account, self.settings.base(), self.environment)?
            }
            Some((account, _)) => {
                return Err(feed_elsewhere(&owner, account));
            }
            None => HttpOptions { proxies: environment_proxies(self.environment), ..HttpOptions::default() },
        };
        options.hide_paths = true;
        // A publisher may send on to where the text lies; the sign-in does not go along.
        options.looks_elsewhere = true;
        // One that is only about to be added has none.
        let settings = self.settings.calendars.get(name);
        if let Some(megabytes) = settings.and_then(|settings| settings.max_download) {
            options.max_answer = megabytes << 20;
        }
        if let Some(timeout) = settings.and_then(|settings| settings.timeout) {
            options.timeout = Duration::try_from(timeout).unwrap_or(options.timeout);
        }
        let client = client(&owner, options, ClientOptions { at_once: 1, ..ClientOptions::default() })?;
        Ok((client, url))
    }

    /// Makes a route ready to run.
    pub(crate) async fn route(&self, name: &str, route: &RouteSettings, key: &[u8]) -> Result<Rule, Failure> {
        let mut ends = Vec::new();
        for end in &route.ends {
            ends.push(self.end(end, route.writes().contains(end)).await?);
        }
        let own = RouteKey::new(key, route.first_name(name));
        let plain = match (route.is_two_way, &mut ends[..]) {
            (false, [from, to]) => Rule::one_way(name, from.clone(), to.clone(), own),
            _ => Rule::two_way(name, ends, own),
        };
        let tag = |(name, route): (&String, &RouteSettings)| {
            RouteKey::new(key, route.first_name(name)).tag().clone()
        };
        Ok(Rule {
            choice: self.choice(route),
            kinds: route.kinds.clone(),
            window: route.window,
            zone: self.settings.zone.clone(),
            past_copies: route.past_copies,
            carry: route.carry.clone(),
            makes: route.makes,
            deletions: route.deletions,
            deletion_limit: route.deletion_limit,
            disagree: route.disagree,
            relay: route.relay,
            strangers: route.strangers,
            matches: route.matches,
            far_edits: route.far_edits,
            full_look_every: route.full_look_every,
            keep_history: self.settings.keep_history,
            known_tags: Rc::clone(self.tags.get_or_init(|| self.settings.routes.iter().map(tag).collect())),
            ..plain
        })
    }

    /// Where nothing else is said, the users who sign in are the calendars' owners.
    fn choice(&self, route: &RouteSettings) -> Choice {
        let mut choice = route.choice.clone();
        if choice.me.is_empty() {
            let read = if route.is_two_way { &route.ends[..] } else { &route.ends[..1] };
            let accounts = read.iter().filter_map(|name| self.settings.calendars[name].account.as_ref());
            let users = accounts.filter_map(|account| self.settings.accounts[account].user.clone());
            choice.add_addresses(&users.filter(|user| user.contains('@')).collect::<Vec<_>>());
        }
        choice
    }
}

/// Makes a client; `owner` says whose it is.
fn client(owner: &str, options: HttpOptions, how: ClientOptions) -> Result<Client, Failure> {
    let transport = HttpTransport::new(options).map_err(|e| cannot_be_reached(owner, &e))?;
    Ok(Client::new(Rc::new(transport), ClientOptions { ends_when_refused: true, ..how }))
}

/// Tells whether there is a key already that was not made together with this state.
pub(crate) fn has_older_key(settings: &Settings, store: &Store) -> Result<bool, StoreError> {
    Ok(settings.key_path().exists() && store.meta(KEY_IS_NEW)?.is_none())
}

/// What the state remembers of the key: enough to know another one.
const KEY_CHECK: &str = "key-check";
/// Noted where the key was made for this state.
const KEY_IS_NEW: &str = "key-is-new";

/// Reads the installation's key, making it where there is none: a small file of its own, and not in the state, so that
/// copies are found again when the state is lost. A state that knows another key, or a missing one, is not worked on with
/// a new one: its copies would not be recognised.
pub(crate) fn route_key(settings: &Settings, store: &Store, may_make: bool) -> Result<Vec<u8>, Failure> {
    let path = settings.key_path();
    let known = store.meta(KEY_CHECK)?;
    let is_new = !path.exists();
    if known.is_some() && is_new {
        return Err(key_missing(&path, store.place()));
    }
    let key = read_or_make_key(settings, may_make)?;
    let check = chestnut_core::hex(&Sha256::digest([b"chestnut key check ", &key[..]].concat())[..8]);
    match known {
        Some(known) if known != check => return Err(key_of_another(&path, store.place())),
        None if may_make => store.write(|writer| {
            if is_new {
                writer.set_meta(KEY_IS_NEW, "yes")?;
            }
            writer.set_meta(KEY_CHECK, &check)
        })?,
        Some(_) | None => {}
    }
    Ok(key)
}

fn read_or_make_key(settings: &Settings, may_make: bool) -> Result<Vec<u8>, Failure> {
    let path = settings.key_path();
    match std::fs::read_to_string(&path) {
        Ok(text) if text.trim().len() >= 32 => return Ok(text.trim().as_bytes().to_vec()),
        Ok(_) => {
            return Err(holds_no_key(&path));
        }
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
        Err(e) => return Err(key_unreadable(&path, &e)),
    }
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes).map_err(|e| no_key(&e))?;
    let text = chestnut_core::hex(&bytes);
    if may_make {
        match write_private(&path, &format!("{text}\n")) {
            Ok(()) => {}
            // Another process was quicker: its key it is.
            Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {
                return read_or_make_key(settings, false);
            }
            Err(e) => {
                return Err(key_not_written(&path, &e));
            }
        }
    }
    Ok(text.into_bytes())
}
