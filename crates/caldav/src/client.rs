//! Asks a server in the right order: retries, batches, a bound on what is in flight, a count of what was sent.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::rc::Rc;
use std::time::Duration;

use chestnut_core::{ETag, Kind, ObjectHref, Scheduling, SyncToken};
use futures_util::stream::{self, StreamExt as _};
use jiff::Timestamp;
use tokio::time::Instant;
use url::Url;

use crate::class::Class;
use crate::error::{Asked, DavError, Detail, Instead, TransportError, TransportFault};
use crate::pace::{Pace, Strain};
use crate::protocol::{
    self, CalendarInfo, Condition, Discovery, DiscoveryNext, DiscoveryStage, FeedAnswer, Found, Listed,
    Listing, MakeBy, NewCalendar, Part, People, PropResponse, Propfind, PropfindNext, Stored, SyncAnswer,
    Validators,
};
use crate::retry_policy::{is_transient, pause_before_retry, wants_long_patience};
use crate::transport::{Answer, Request, Transport};

/// What servers announce that write to people (RFC 6638, 2), and what they announced by its drafts.
const AUTO_SCHEDULE: &str = "calendar-auto-schedule";
const SCHEDULE: &str = "calendar-schedule";
/// Entries asked for in one batch. Servers that work through the whole calendar for each request like large
/// ones; much larger answers only cost memory.
const BATCH: usize = 200;
/// Sync reports that are asked for one look.
const MOST_ROUNDS: usize = 100;
/// Writes that failed in a row, each after all its tries, after which the next are tried once.
const A_STORM: u32 = 3;
/// A sync answer of this size may have been cut without a word: ask again until a short one comes.
const SUSPICIOUSLY_LONG: usize = 50;

/// How a client behaves.
#[derive(Debug, Clone, Copy)]
pub struct ClientOptions {
    /// Most requests in flight.
    pub at_once: usize,
    /// Whether requests are sent again where that may help; not where a person waits to hear what is wrong.
    pub retries: bool,
    /// Whether a sign-in that is refused before any was taken ends the account: nothing more is asked then, and each
    /// question gets the same refusal. Else forty routes are forty refused sign-ins, which lock an office out.
    pub ends_when_refused: bool,
    /// So long a server may give no answer below 500, from the first such request on; then nothing more is asked.
    pub patience: Duration,
}

impl Default for ClientOptions {
    fn default() -> Self {
        Self { at_once: 4, retries: true, ends_when_refused: false, patience: Duration::from_secs(60) }
    }
}

/// How many requests were sent, retries included.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RequestCounts {
    /// All of them.
    pub all: u64,
    /// Those that write: PUT, DELETE.
    pub writes: u64,
}

/// Where requests are counted as they are sent.
pub type Tally = Rc<Cell<RequestCounts>>;

/// What is worth knowing of a calendar's server beside the calendar's own description.
#[derive(Debug, Clone)]
pub struct Capabilities {
    /// The calendar.
    pub info: CalendarInfo,
    /// Whether the server sends invitations by itself (RFC 6638), and for whom.
    pub scheduling: Scheduling,
    /// Whether it announces `calendar-auto-schedule`, and obeys what a client says about messages.
    pub auto_schedules: bool,
}

/// What came of one href.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fetched {
    /// The text that stands there.
    Text {
        /// Its state.
        etag: Option<ETag>,
        /// What should be iCalendar.
        text: String,
    },
    /// Nothing stands there.
    Missing,
    /// It was not given this time.
    NotGiven(NotGiven),
}

/// Why a text was not given.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum NotGiven {
    /// The server's answer.
    Dav(DavError),
    /// The text is not UTF-8.
    NotUtf8,
}

/// How things stand with a server.
#[derive(Debug, Default)]
struct Standing {
    /// Some sign-in was taken.
    was_taken: bool,
    /// When the first request was sent of those that got no answer below 500.
    silent_since: Option<Instant>,
    /// An answer bore a `Schedule-Tag` (RFC 6638, 3.2.10).
    tags_schedules: bool,
    /// The server's clock at its last answer, in seconds since 1970.
    date: Option<i64>,
    /// Whom the server writes for, by the principals that were asked.
    people: HashMap<String, People>,
    /// Writes in a row that failed after all their tries.
    failed_writes: u32,
    /// Hosts that were asked and have not answered, with the moment.
    asked: Vec<(Instant, String)>,
    /// Nothing more is asked: what every question gets.
    ended: Option<Result<Answer, TransportError>>,
}

/// A request that waits for its answer, until this is dropped: also where nobody wants the answer any more.
struct Waiting<'s> {
    standing: &'s RefCell<Standing>,
    asked: (Instant, String),
}

impl<'s> Waiting<'s> {
    fn new(standing: &'s RefCell<Standing>, asked: (Instant, String)) -> Self {
        standing.borrow_mut().asked.push(asked.clone());
        Self { standing, asked }
    }
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        let all = &mut self.standing.borrow_mut().asked;
        if let Some(at) = all.iter().position(|one| *one == self.asked) {
            all.swap_remove(at);
        }
    }
}

/// Speaks to one account's server.
#[derive(Clone)]
pub struct Client {
    transport: Rc<dyn Transport>,
    pace: Pace,
    retries: bool,
    ends_when_refused: bool,
    patience: Duration,
    standing: Rc<RefCell<Standing>>,
    user: Rc<str>,
    counts: Tally,
    /// Of the client that this one was made of to count apart.
    counts_of_all: Option<Tally>,
    /// While this is set, nothing that writes is sent.
    no_writes: Rc<RefCell<Rc<Cell<bool>>>>,
    /// Servers that answer a multiget with an error for all; found once, then asked one by one.
    no_multiget: Rc<RefCell<HashSet<String>>>,
}

impl std::fmt::Debug for Client {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Client").field("counts", &self.counts.get()).finish_non_exhaustive()
    }
}

impl Client {
    /// Makes a client over a transport.
    #[must_use]
    pub fn new(transport: Rc<dyn Transport>, options: ClientOptions) -> Self {
        Self {
            transport,
            pace: Pace::new(options.at_once),
            retries: options.retries,
            ends_when_refused: options.ends_when_refused,
            patience: options.patience,
            standing: Rc::default(),
            user: Rc::from(""),
            counts: Tally::default(),
            counts_of_all: None,
            no_writes: Rc::default(),
            no_multiget: Rc::default(),
        }
    }

    /// Says who signs in: two users may see one address with other rights.
    #[must_use]
    pub fn signed_in_as(self, user: &str) -> Self {
        Self { user: Rc::from(user), ..self }
    }

    /// Returns who signs in.
    #[must_use]
    pub fn user(&self) -> &str {
        &self.user
    }

    /// Counts into this tally from now on, and still for the client that it was made of.
    #[must_use]
    pub fn counting(self, tally: Tally) -> Self {
        Self { counts_of_all: Some(self.counts_of_all.unwrap_or(self.counts)), counts: tally, ..self }
    }

    /// Returns a number that tells its count of requests from all others.
    #[must_use]
    pub fn counter(&self) -> usize {
        Rc::as_ptr(&self.counts).addr()
    }

    /// Returns how many requests were sent so far.
    #[must_use]
    pub fn counts(&self) -> RequestCounts {
        self.counts.get()
    }

    /// Returns the host that has kept a request waiting longest, and since when, where one does.
    #[must_use]
    pub fn waits_for(&self) -> Option<(String, Instant)> {
        let standing = self.standing.borrow();
        let (since, host) = standing.asked.iter().min_by_key(|(since, _)| *since)?;
        // Tries before this one were in vain, too.
        Some((host.clone(), standing.silent_since.map_or(*since, |silent| silent.min(*since))))
    }

    /// Sends nothing more that writes once `stop` is set. What is in flight is finished, and reading goes on, so
    /// that what was written can be read back and remembered.
    pub fn stop_writes_on(&self, stop: Rc<Cell<bool>>) {
        *self.no_writes.borrow_mut() = stop;
    }

    /// Finds the calendars from any address of the server.
    ///
    /// # Errors
    /// No answer, a refused sign-in, or nothing found; see [`Discovery::handle`].
    pub async fn discover(&self, start: &Url) -> Result<Found, DavError> {
        self.search(Discovery::new(start, false), |_, _| {}).await
    }

    /// As [`Self::discover`], with the calendars of those for whom the user stands in; tells of every answer as it
    /// comes.
    ///
    /// # Errors
    /// As [`Self::discover`].
    pub async fn discover_all(
        &self,
        start: &Url,
        tell: impl FnMut(DiscoveryStage, &Answer),
    ) -> Result<Found, DavError> {
        self.search(Discovery::new(start, true), tell).await
    }

    async fn search(
        &self,
        (mut search, mut request): (Discovery, Request),
        mut tell: impl FnMut(DiscoveryStage, &Answer),
    ) -> Result<Found, DavError> {
        loop {
            let answer = self.send_unless(&request, |answer| search.can_ask_for_less(answer)).await?;
            tell(search.stage(), &answer);
            match search.handle(&answer)? {
                DiscoveryNext::Ask(next) => request = next,
                DiscoveryNext::Done(found) => return Ok(found),
            }
        }
    }

    /// Asks for properties, in parts where that is needed. Returns them with the last answer.
    async fn properties(
        &self,
        (mut ask, mut request): (Propfind, Request),
    ) -> Result<(Vec<PropResponse>, Answer), DavError> {
        loop {
            let answer = self.send_unless(&request, |answer| ask.can_ask_for_less(answer)).await?;
            match ask.handle(&answer)? {
                PropfindNext::Ask(next) => request = next,
                PropfindNext::Done(found) => return Ok((found, answer)),
            }
        }
    }

    /// Asks what stands at an address and what the server can do, whatever the answer.
    ///
    /// # Errors
    /// No answer at all.
    pub async fn options(&self, url: &Url) -> Result<Answer, DavError> {
        self.send(&options_request(url)).await
    }

    /// Asks for an address, to be seen there. Returns whether the answer was good.
    pub async fn knock(&self, url: &Url) -> bool {
        let (headers, body) = (Vec::new(), String::new());
        let answer = self.send(&Request { method: "GET", url: url.clone(), headers, body }).await;
        answer.is_ok_and(|answer| (200..300).contains(&answer.status))
    }

    /// Makes a calendar: by MKCALENDAR, else by extended MKCOL.
    ///
    /// # Errors
    /// The server refuses both.
    pub async fn make_calendar(&self, url: &Url, new: &NewCalendar) -> Result<(), DavError> {
        let mut last = None;
        for by in [MakeBy::Mkcalendar, MakeBy::Mkcol] {
            let answer = self.send(&protocol::make_calendar(url, new, by)).await?;
            if protocol::read_made(&answer)? {
                return Ok(());
            }
            last = last.or(Some(answer.status));
        }
        let status = last.unwrap_or_default();
        Err(DavError::Status { asked: Asked::NewCalendar, status, detail: None, retry_after: None })
    }

    /// Gives a calendar another name, and looks: some servers agree and keep the old one. Returns what it is called
    /// then, as the server says.
    ///
    /// # Errors
    /// The server refuses, or does not say.
    pub async fn rename_calendar(&self, url: &Url, name: &str) -> Result<Option<String>, DavError> {
        protocol::read_renamed(&self.send(&protocol::rename_calendar(url, name)).await?)?;
        let (found, answer) = self.properties(Propfind::of_calendar(url)).await?;
        Ok(protocol::read_calendar(&found, &answer.url)?.map(|info| info.name))
    }

    /// Counts the entries of a calendar by kind.
    ///
    /// # Errors
    /// The server does not answer the question for any kind.
    pub async fn count(&self, calendar: &CalendarInfo) -> Result<Vec<(Kind, usize)>, DavError> {
        let mut counts = Vec::new();
        for kind in calendar.kinds.iter() {
            let answer = self.send(&protocol::entries_of_kind(&calendar.url, kind)).await?;
            counts.push((kind, protocol::read_found(&answer, &calendar.url)?.len()));
        }
        Ok(counts)
    }

    /// Asks what a calendar is, and how much room is left.
    ///
    /// # Errors
    /// The address is no calendar, or the server does not answer.
    pub async fn calendar(&self, calendar: &Url) -> Result<CalendarInfo, DavError> {
        let (found, answer) = self.properties(Propfind::of_calendar_and_room(calendar)).await?;
        protocol::read_calendar(&found, &answer.url)?.ok_or_else(|| no_calendar(calendar))
    }

    /// Asks what a calendar and its server can do.
    ///
    /// # Errors
    /// The address is no calendar, or the server does not answer.
    pub async fn capabilities(&self, calendar: &Url) -> Result<Capabilities, DavError> {
        let (found, answer) = self.properties(Propfind::of_calendar(calendar)).await?;
        let info = protocol::read_calendar(&found, &answer.url)?.ok_or_else(|| no_calendar(calendar))?;
        let announced = |answer: &Answer, class: &str| {
            let headers = answer.headers.get_all("dav").iter().filter_map(|h| h.to_str().ok());
            headers.flat_map(|h| h.split(',')).any(|one| one.trim() == class)
        };
        let mut auto_schedules = announced(&answer, AUTO_SCHEDULE);
        // The other one is that of the drafts, which some servers still say.
        let mut schedules = auto_schedules || announced(&answer, SCHEDULE) || info.is_outbox;
        if !auto_schedules {
            match self.send(&options_request(calendar)).await {
                Ok(asked) => {
                    auto_schedules = announced(&asked, AUTO_SCHEDULE);
                    schedules |= auto_schedules || announced(&asked, SCHEDULE);
                }
                // What it announces may have stood in the first answer; if not, nobody knows.
                Err(_) if answer.header("dav").is_some() => {}
                Err(error) => return Err(error),
            }
        }
        let principal = protocol::read_principal(&found, &answer.url);
        let asked = match &principal {
            Some(principal) => self.people(principal).await?,
            None => People::default(),
        };
        if !schedules && !asked.has_box && !self.standing.borrow().tags_schedules {
            return Ok(Capabilities { info, scheduling: Scheduling::Never, auto_schedules });
        }
        // A server acts for whose calendar it is, and for who signs in.
        let mut addresses = asked.addresses;
        let owner = info.owner.as_ref().map(|owner| protocol::url_of(owner, &answer.url));
        let is_another = |owner: &Url| {
            principal.as_ref().is_none_or(|p| protocol::canonical(owner) != protocol::canonical(p))
        };
        if let Some(owner) = owner.filter(is_another) {
            let others = self.people(&owner).await?.addresses;
            addresses = addresses.zip(others).map(|(own, others)| [own, others].concat());
        }
        let scheduling = addresses.map_or(Scheduling::Anybody, Scheduling::For);
        Ok(Capabilities { info, scheduling, auto_schedules })
    }

    /// Asks a principal whom its server writes for, once: it is the same for all its calendars. A server that fails may
    /// write to people all the same.
    async fn people(&self, principal: &Url) -> Result<People, DavError> {
        let key = protocol::canonical(principal);
        let known = self.standing.borrow().people.get(&key).cloned();
        if let Some(known) = known {
            return Ok(known);
        }
        let answer = self.send(&protocol::address_properties(principal)).await?;
        let people = protocol::read_people(&answer)?;
        self.standing.borrow_mut().people.insert(key, people.clone());
        Ok(people)
    }

    /// Tells whether an answer bore a `Schedule-Tag` (RFC 6638, 3.2.10): its server schedules, whatever it announces.
    #[must_use]
    pub fn tags_schedules(&self) -> bool {
        self.standing.borrow().tags_schedules
    }

    /// Returns the server's clock as its last answer told it, in seconds since 1970.
    #[must_use]
    pub fn server_clock(&self) -> Option<i64> {
        self.standing.borrow().date
    }

    /// Returns the calendar's ctag now, where it has one.
    ///
    /// # Errors
    /// The calendar is gone, or the server does not answer.
    pub async fn ctag(&self, calendar: &Url) -> Result<Option<SyncToken>, DavError> {
        let (found, answer) = self.properties(Propfind::of_ctag(calendar)).await?;
        let info = protocol::read_calendar(&found, &answer.url)?;
        info.map(|i| i.ctag)
            .ok_or_else(|| DavError::NotFound { url: Box::new(calendar.clone()), status: 404 })
    }

    /// Fetches a feed, unless it is as `known` names it.
    ///
    /// # Errors
    /// No answer, or one that is no whole text.
    pub async fn feed(&self, url: &Url, known: Option<&Validators>) -> Result<FeedAnswer, DavError> {
        let answer = self.send(&protocol::get_feed(url, known)).await?;
        protocol::read_feed(answer, known)
    }

    /// Asks when the owner of a calendar is taken (RFC 4791, 7.10). Returns the text of the answer; `None` where the server
    /// does not answer such questions.
    ///
    /// # Errors
    /// No answer, or a refused sign-in.
    pub async fn free_busy(
        &self,
        calendar: &Url,
        from: Timestamp,
        to: Timestamp,
    ) -> Result<Option<Vec<u8>>, DavError> {
        let request = protocol::free_busy_query(calendar, from, to);
        let answer = self.send_unless(&request, protocol::answers_no_free_busy).await?;
        if protocol::answers_no_free_busy(&answer) {
            return Ok(None);
        }
        protocol::read_free_busy(answer).map(Some)
    }

    /// Reads what is published at an address.
    ///
    /// # Errors
    /// No answer, or one that is no whole text.
    pub async fn published(&self, url: &Url) -> Result<protocol::FeedText, DavError> {
        match self.feed(url, None).await? {
            FeedAnswer::Text(text) => Ok(text),
            FeedAnswer::Unchanged => Err(DavError::NotAFeed { instead: Instead::UnchangedFromNothing }),
        }
    }

    /// Lists every entry with its ETag.
    ///
    /// # Errors
    /// Anything but a complete listing.
    pub async fn listing(&self, calendar: &Url) -> Result<Listing, DavError> {
        let answer = self.send(&protocol::etag_listing(calendar)).await?;
        protocol::read_listing(&answer, calendar)
    }

    /// Lists single events (no series) that are over before a moment, as far as the server can tell: those it finds
    /// before it and does not find after it. A server that answers one of the two questions wrongly only makes the
    /// list shorter.
    ///
    /// # Errors
    /// No answer that can be understood.
    pub async fn long_past(&self, calendar: &Url, before: Timestamp) -> Result<Vec<ObjectHref>, DavError> {
        let earlier = self.send(&protocol::single_events_before(calendar, before)).await?;
        let later = self.send(&protocol::events_after(calendar, before)).await?;
        let later = protocol::read_found(&later, calendar)?;
        let mut past = protocol::read_found(&earlier, calendar)?;
        past.retain(|href| !later.contains(href));
        Ok(past.into_iter().collect())
    }

    /// Asks what changed since a token, until the server has told everything.
    ///
    /// # Errors
    /// No answer that can be understood.
    pub async fn changes_since(&self, calendar: &Url, token: &SyncToken) -> Result<SyncAnswer, DavError> {
        // An entry may come several times: the last word counts.
        let mut all: BTreeMap<ObjectHref, Option<Listed>> = BTreeMap::new();
        let mut asked = token.clone();
        let mut seen = HashSet::from([token.clone()]);
        for _ in 0..MOST_ROUNDS {
            let answer = self.send(&protocol::sync_report(calendar, &asked)).await?;
            let read = protocol::read_sync(&answer, calendar)?;
            let SyncAnswer::Changes { changed, removed, token, more, date } = read else { return Ok(read) };
            let long = changed.len() + removed.len() >= SUSPICIOUSLY_LONG;
            all.extend(removed.into_iter().map(|href| (href, None)));
            all.extend(changed.into_iter().map(|listed| (listed.href.clone(), Some(listed))));
            let next = token.clone().filter(|_| more || long).filter(|t| seen.insert(t.clone()));
            match next {
                Some(next) => asked = next,
                // It goes round in circles: a listing tells what this does not.
                None if more => return Ok(SyncAnswer::TokenRefused),
                None => {
                    let (mut changed, mut removed) = (Vec::new(), Vec::new());
                    for (href, listed) in all {
                        match listed {
                            Some(listed) => changed.push(listed),
                            None => removed.push(href),
                        }
                    }
                    return Ok(SyncAnswer::Changes { changed, removed, token, more: false, date });
                }
            }
        }
        // It has news for ever, each under a new token: a listing comes to an end.
        Ok(SyncAnswer::TokenRefused)
    }

    /// Fetches entries in batches; a batch that cannot be read is fetched one by one, so that a bad entry never
    /// hides the others.
    ///
    /// # Errors
    /// The server does not answer at all, or refuses the sign-in.
    pub async fn fetch(
        &self,
        calendar: &Url,
        hrefs: &[ObjectHref],
    ) -> Result<HashMap<ObjectHref, Fetched>, DavError> {
        self.fetch_all(calendar, hrefs, false).await
    }

    /// As [`Self::fetch`], for places where nothing is known to stand: that nothing does, a batch's word is enough.
    ///
    /// # Errors
    /// As [`Self::fetch`].
    pub async fn fetch_unknown(
        &self,
        calendar: &Url,
        hrefs: &[ObjectHref],
    ) -> Result<HashMap<ObjectHref, Fetched>, DavError> {
        self.fetch_all(calendar, hrefs, true).await
    }

    async fn fetch_all(
        &self,
        calendar: &Url,
        hrefs: &[ObjectHref],
        believes_missing: bool,
    ) -> Result<HashMap<ObjectHref, Fetched>, DavError> {
        let batches = hrefs.chunks(BATCH).map(|batch| self.fetch_batch(calendar, batch, believes_missing));
        // The pace bounds what is really in flight.
        let mut results = stream::iter(batches).buffer_unordered(8);
        let mut all = HashMap::with_capacity(hrefs.len());
        while let Some(result) = results.next().await {
            all.extend(result?);
        }
        Ok(all)
    }

    async fn fetch_batch(
        &self,
        calendar: &Url,
        hrefs: &[ObjectHref],
        believes_missing: bool,
    ) -> Result<HashMap<ObjectHref, Fetched>, DavError> {
        let known_bad = self.no_multiget.borrow().contains(calendar.as_str());
        let mut found: HashMap<ObjectHref, Fetched> = HashMap::new();
        if !known_bad && hrefs.len() > 1 {
            let answer = self.send(&protocol::multiget(calendar, hrefs)).await?;
            match protocol::read_multiget(&answer, calendar, hrefs) {
                Ok(parts) => {
                    let texts = parts.into_iter().filter_map(|(href, part)| match part {
                        Part::Text { etag, text } => Some((href, Fetched::Text { etag, text })),
                        Part::Missing if believes_missing => Some((href, Fetched::Missing)),
                        Part::Missing | Part::Failed(_) => None,
                    });
                    found.extend(texts);
                }
                Err(error @ DavError::SignIn { .. }) => return Err(error),
                Err(error) => {
                    if error.class() == Class::Unsupported {
                        self.no_multiget.borrow_mut().insert(calendar.as_str().to_owned());
                    }
                    tracing::debug!(?error, "a batch could not be read; asking one by one");
                }
            }
        }
        // What the batch did not give is asked for by itself: missing, or hidden by the server's own fault.
        let rest: Vec<_> = hrefs.iter().filter(|href| !found.contains_key(*href)).collect();
        let mut singles = stream::iter(rest).map(|href| self.fetch_one(calendar, href)).buffer_unordered(8);
        while let Some(single) = singles.next().await {
            let (href, fetched) = single?;
            found.insert(href, fetched);
        }
        Ok(found)
    }

    async fn fetch_one(&self, calendar: &Url, href: &ObjectHref) -> Result<(ObjectHref, Fetched), DavError> {
        let answer = self.send(&protocol::get_object(calendar, href)).await?;
        let fetched = match protocol::read_object(&answer) {
            Ok(Part::Text { etag, text }) => Fetched::Text { etag, text },
            Ok(Part::Missing) => Fetched::Missing,
            Ok(Part::Failed(status)) => {
                let (asked, detail, retry_after) = (Asked::Entry, None, None);
                Fetched::NotGiven(NotGiven::Dav(DavError::Status { asked, status, detail, retry_after }))
            }
            Err(error @ DavError::SignIn { .. }) => return Err(error),
            Err(error) => Fetched::NotGiven(NotGiven::Dav(error)),
        };
        Ok((href.clone(), fetched))
    }

    /// Stores a text.
    ///
    /// # Errors
    /// No answer: whether it was stored is unknown until it is read.
    pub async fn put(
        &self,
        calendar: &Url,
        href: &ObjectHref,
        text: &str,
        condition: &Condition,
    ) -> Result<Stored, DavError> {
        let answer = self.send(&protocol::put_object(calendar, href, text, condition)).await?;
        Ok(protocol::read_write(&answer, calendar))
    }

    /// Deletes an entry; `silently`, without an answer to whoever invited, where the server obeys that.
    ///
    /// # Errors
    /// No answer: whether it was deleted is unknown until it is read.
    pub async fn delete(
        &self,
        calendar: &Url,
        href: &ObjectHref,
        condition: &Condition,
        silently: bool,
    ) -> Result<Stored, DavError> {
        let answer = self.send(&protocol::delete_object(calendar, href, condition, silently)).await?;
        Ok(protocol::read_write(&answer, calendar))
    }

    /// Sends a request, again where that helps. All writes carry a condition, so sending one again is safe: what
    /// happened the first time shows as a failed condition.
    async fn send(&self, request: &Request) -> Result<Answer, DavError> {
        self.send_unless(request, |_| false).await
    }

    /// As [`Self::send`], but an answer that is `enough` is not asked for again, whatever it says.
    async fn send_unless(
        &self,
        request: &Request,
        enough: impl Fn(&Answer) -> bool,
    ) -> Result<Answer, DavError> {
        let is_write = is_write(request);
        for tries in 1.. {
            let began = Instant::now();
            let outcome = self.send_once(request).await;
            let is_enough = outcome.as_ref().is_ok_and(&enough);
            let in_a_storm = is_write && self.standing.borrow().failed_writes >= A_STORM;
            let pause =
                pause_before_retry(&outcome, tries).filter(|_| self.retries && !is_enough && !in_a_storm);
            let pause = pause.filter(|pause| self.has_patience(began, *pause, &outcome));
            let Some(pause) = pause else {
                if is_write {
                    let mut standing = self.standing.borrow_mut();
                    standing.failed_writes = if is_silent(&outcome) { standing.failed_writes + 1 } else { 0 };
                }
                return Ok(outcome?);
            };
            tracing::debug!(method = request.method, ?pause, "trying again");
            tokio::time::sleep(pause).await;
        }
        unreachable!("the retry policy gives up by itself")
    }

    /// Tells whether there is patience left for another try; where there is none, nothing more is asked of this server.
    fn has_patience(
        &self,
        began: Instant,
        pause: Duration,
        outcome: &Result<Answer, TransportError>,
    ) -> bool {
        let mut standing = self.standing.borrow_mut();
        if standing.ended.is_some() {
            return false;
        }
        let since = *standing.silent_since.get_or_insert(began);
        let is_left = since.elapsed() + pause <= self.patience;
        if !is_left {
            standing.ended = Some(outcome.clone());
        }
        is_left
    }

    async fn send_once(&self, request: &Request) -> Result<Answer, TransportError> {
        let _permit = self.pace.enter().await;
        let writes = is_write(request);
        if writes && self.no_writes.borrow().get() {
            let host = request.url.host_str().unwrap_or_default().to_owned();
            return Err(TransportError::new(TransportFault::Stopped, host, Detail::Nothing));
        }
        if let Some(ended) = &self.standing.borrow().ended {
            return ended.clone();
        }
        for tally in [Some(&self.counts), self.counts_of_all.as_ref()].into_iter().flatten() {
            let mut counts = tally.get();
            counts.all += 1;
            counts.writes += u64::from(writes);
            tally.set(counts);
        }
        let asked = (Instant::now(), request.url.host_str().unwrap_or_default().to_owned());
        let waiting = Waiting::new(&self.standing, asked);
        let outcome = self.transport.send(request).await;
        drop(waiting);
        self.note(&outcome);
        self.pace.answered(match &outcome {
            Ok(answer) if answer.status == 429 => Strain::TooMuch,
            Ok(answer) if is_transient(answer.status) => Strain::Fails,
            _ => Strain::None,
        });
        outcome
    }
}

impl Client {
    fn note(&self, outcome: &Result<Answer, TransportError>) {
        let mut standing = self.standing.borrow_mut();
        if !is_silent(outcome) {
            standing.silent_since = None;
        }
        let Ok(answer) = outcome else { return };
        standing.date = answer.date();
        standing.tags_schedules |= answer.header("schedule-tag").is_some();
        match answer.status {
            401 if self.ends_when_refused && !standing.was_taken => {
                standing.ended = Some(Ok(Answer { body: Vec::new(), ..answer.clone() }));
            }
            200..=299 => standing.was_taken = true,
            _ if wants_long_patience(answer, self.patience) => standing.ended = Some(outcome.clone()),
            _ => {}
        }
    }
}

fn is_write(request: &Request) -> bool {
    matches!(request.method, "PUT" | "DELETE")
}

/// No answer, or one that says that the server cannot answer.
fn is_silent(outcome: &Result<Answer, TransportError>) -> bool {
    match outcome {
        Ok(answer) => answer.status >= 500 && is_transient(answer.status),
        Err(error) => error.class() != Class::Unsupported,
    }
}

fn options_request(url: &Url) -> Request {
    Request { method: "OPTIONS", url: url.clone(), headers: Vec::new(), body: String::new() }
}

fn no_calendar(url: &Url) -> DavError {
    DavError::NotCalDav { url: Box::new(url.clone()), asked: Asked::Calendar, instead: Instead::NoCalendar }
}
