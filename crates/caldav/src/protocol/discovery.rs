//! From any address of a server to its calendars (RFC 4791, 6.2.1; RFC 5397; RFC 6764).

use url::Url;

use super::listing::{CalendarInfo, calendar_info, calendar_properties, read_calendars};
use super::multistatus::{Multistatus, hrefs_in};
use super::{CALDAV, DAV, href_of};
use crate::class::Class;
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// What the search found.
#[derive(Debug, Clone)]
pub struct Found {
    /// Who is signed in, as the server names them.
    pub principal: Option<Url>,
    /// Where the calendars stand.
    pub homes: Vec<Url>,
    /// The calendars, by address.
    pub calendars: Vec<CalendarInfo>,
}

/// What to do next.
#[derive(Debug)]
pub enum DiscoveryNext {
    /// Send this and hand in the answer.
    Ask(Request),
    /// The search is over.
    Done(Found),
}

/// The search, one request at a time.
#[derive(Debug)]
pub struct Discovery {
    start: Url,
    step: DiscoveryStage,
    /// Addresses still to try as a starting point.
    starts: Vec<Url>,
    principal: Option<Url>,
    homes: Vec<Url>,
    homes_to_read: Vec<Url>,
    /// The starting point is a calendar itself.
    itself: Option<CalendarInfo>,
    calendars: Vec<CalendarInfo>,
    first_error: Option<DavError>,
}

/// How far a search has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DiscoveryStage {
    /// At an address where to begin.
    Start,
    /// At who is signed in.
    Principal,
    /// Where the calendars stand.
    Home,
}

impl Discovery {
    /// Begins at an address: a host, a principal, a home or a calendar.
    #[must_use]
    pub fn new(start: &Url) -> (Self, Request) {
        let mut starts: Vec<Url> = Vec::new();
        for path in ["/", "/.well-known/caldav"] {
            let mut url = start.clone();
            url.set_query(None);
            url.set_path(path);
            if url != *start {
                starts.push(url);
            }
        }
        let search = Self {
            start: start.clone(),
            step: DiscoveryStage::Start,
            starts,
            principal: None,
            homes: Vec::new(),
            homes_to_read: Vec::new(),
            itself: None,
            calendars: Vec::new(),
            first_error: None,
        };
        let ask = calendar_properties(start, "0");
        (search, ask)
    }

    /// Returns what the next answer is about.
    #[must_use]
    pub fn stage(&self) -> DiscoveryStage {
        self.step
    }

    /// Takes an answer and says what to ask next.
    ///
    /// # Errors
    /// The sign-in is refused, or nothing was found anywhere; then the error of the given address is told, since
    /// that is the one a person can mend.
    pub fn handle(&mut self, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        match self.step {
            DiscoveryStage::Start => self.at_start(answer),
            DiscoveryStage::Principal => self.at_principal(answer),
            DiscoveryStage::Home => self.at_home(answer),
        }
    }

    fn at_start(&mut self, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        let multistatus = match Multistatus::read(answer, Asked::Search) {
            Ok(multistatus) => multistatus,
            Err(error) => return self.next_start(Some(error)),
        };
        let own = href_of(answer.url.path(), &answer.url);
        let responses = &multistatus.responses;
        let named =
            responses.iter().find(|r| href_of(&r.href, &answer.url) == own).or_else(|| responses.first());
        let Some(response) = named else { return self.next_start(None) };
        self.itself = self.itself.take().or_else(|| calendar_info(response, &answer.url));
        if let Some(homes) = response.prop(CALDAV, "calendar-home-set").map(|p| hrefs_in(p, &answer.url))
            && !homes.is_empty()
        {
            self.principal = Some(answer.url.clone());
            return self.read_homes(homes);
        }
        let principal = response.prop(DAV, "current-user-principal").map(|p| hrefs_in(p, &answer.url));
        match principal.and_then(|urls| urls.into_iter().next()) {
            Some(principal) => {
                self.step = DiscoveryStage::Principal;
                self.principal = Some(principal.clone());
                Ok(DiscoveryNext::Ask(calendar_properties(&principal, "0")))
            }
            None => self.next_start(None),
        }
    }

    /// The well-known address first: it is what the standard offers.
    fn next_start(&mut self, error: Option<DavError>) -> Result<DiscoveryNext, DavError> {
        let fatal = error.as_ref().is_some_and(|e| e.class() == Class::Credentials);
        self.first_error = self.first_error.take().or(error);
        match self.starts.pop().filter(|_| !fatal && self.itself.is_none()) {
            Some(url) => {
                self.step = DiscoveryStage::Start;
                Ok(DiscoveryNext::Ask(calendar_properties(&url, "0")))
            }
            None => self.finish(false),
        }
    }

    fn at_principal(&mut self, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        let read = Multistatus::read(answer, Asked::Home);
        let homes = match &read {
            Ok(multistatus) => {
                let sets = multistatus.responses.iter().filter_map(|r| r.prop(CALDAV, "calendar-home-set"));
                sets.flat_map(|set| hrefs_in(set, &answer.url)).collect()
            }
            Err(_) => Vec::new(),
        };
        if homes.is_empty() {
            return self.next_start(read.err());
        }
        self.read_homes(homes)
    }

    fn read_homes(&mut self, homes: Vec<Url>) -> Result<DiscoveryNext, DavError> {
        self.step = DiscoveryStage::Home;
        self.first_error = None;
        self.homes_to_read.clone_from(&homes);
        self.homes = homes;
        self.next_home()
    }

    fn next_home(&mut self) -> Result<DiscoveryNext, DavError> {
        match self.homes_to_read.pop() {
            Some(home) => Ok(DiscoveryNext::Ask(calendar_properties(&home, "1"))),
            None => self.finish(true),
        }
    }

    fn at_home(&mut self, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        match read_calendars(answer) {
            Ok(calendars) => self.calendars.extend(calendars),
            Err(error) => self.first_error = self.first_error.take().or(Some(error)),
        }
        self.next_home()
    }

    fn finish(&mut self, home_named: bool) -> Result<DiscoveryNext, DavError> {
        let mut calendars = std::mem::take(&mut self.calendars);
        calendars.extend(self.itself.take());
        calendars.sort_by(|a, b| a.href.cmp(&b.href));
        calendars.dedup_by(|a, b| a.href == b.href);
        match self.first_error.take() {
            Some(error) if calendars.is_empty() => Err(error),
            None if calendars.is_empty() && self.homes.is_empty() => {
                Err(DavError::NoCalendars { url: Box::new(self.start.clone()), home_named })
            }
            _ => Ok(DiscoveryNext::Done(Found {
                principal: self.principal.take(),
                homes: std::mem::take(&mut self.homes),
                calendars,
            })),
        }
    }
}
