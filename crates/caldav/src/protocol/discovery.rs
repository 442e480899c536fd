//! From any address of a server to its calendars (RFC 4791, 6.2.1; RFC 5397; RFC 6764).

use std::collections::VecDeque;

use url::Url;

use super::href::canonical;
use super::listing::{CalendarInfo, calendar_info, is_calendar, same_collection};
use super::multistatus::{PropResponse, hrefs_in};
use super::propfind::{OF_A_CALENDAR, OF_A_HOME, OF_ANY_ADDRESS, Propfind, PropfindNext};
use super::{CALDAV, CALENDARSERVER, DAV, canonical_path, href_of};
use crate::class::Class;
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// Homes that are looked into, and people whose homes are asked for.
const MOST: usize = 50;

/// Where servers stand that share a host with other pages, and do not say so at the well-known address.
const CUSTOMARY: [&str; 8] =
    ["dav/", "caldav/", "SOGo/dav/", "remote.php/dav/", "dav.php/", "caldav.php/", "cal.php/", "radicale/"];

/// Where a principal's calendars are.
const OF_A_PRINCIPAL: &[&str] = &["<c:calendar-home-set/>"];
/// Also for whom they stand in.
const OF_A_PROXY: &[&str] = &[
    "<c:calendar-home-set/>",
    "<s:calendar-proxy-read-for/><s:calendar-proxy-write-for/>",
    "<d:group-membership/>",
];

/// What the search found.
#[derive(Debug, Clone)]
pub struct Found {
    /// Who is signed in, as the server names them.
    pub principal: Option<Url>,
    /// Where their own calendars stand.
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
    ask: Propfind,
    /// Addresses still to try as a starting point, the last one first.
    starts: Vec<Url>,
    /// Those to try where the server answers at none of these, and knows nothing of calendars there.
    customary: Vec<Url>,
    principal: Option<Url>,
    /// A home that an address named which is no principal: second choice.
    named_homes: Vec<Url>,
    homes: Vec<Url>,
    to_read: VecDeque<Url>,
    /// Also the homes of those for whom the user stands in.
    with_others: bool,
    others: VecDeque<Url>,
    /// The homes that are read now are others'.
    reads_others: bool,
    /// The starting point is a calendar itself.
    itself: Option<CalendarInfo>,
    calendars: Vec<CalendarInfo>,
    first_error: Option<DavError>,
}

/// Below the folder that the address names, where it is one at the root; then below the root. The last one is first.
fn customary(start: &Url) -> Vec<Url> {
    let folder = format!("{}/", start.path().trim_end_matches('/'));
    let is_at_root = folder.matches('/').count() == 2;
    let folders = ["/"].into_iter().chain(is_at_root.then_some(folder.as_str()));
    let paths = folders.flat_map(|folder| CUSTOMARY.iter().rev().map(move |path| format!("{folder}{path}")));
    paths.map(|path| at(start, &path)).filter(|url| url != start).collect()
}

/// Another path of the same server.
fn at(start: &Url, path: &str) -> Url {
    let mut url = start.clone();
    url.set_query(None);
    url.set_path(path);
    url
}

/// What was found at an address, or why nothing.
type Read = Result<Vec<PropResponse>, DavError>;

/// How far a search has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[non_exhaustive]
pub enum DiscoveryStage {
    /// At an address where to begin.
    Start,
    /// At a calendar that was given by its own address.
    Calendar,
    /// At who is signed in.
    Principal,
    /// Where the calendars stand.
    Home,
    /// At somebody for whom the user stands in.
    Other,
}

impl Discovery {
    /// Begins at an address: a host, a principal, a home or a calendar. `with_others` looks for the calendars of those,
    /// too, for whom the user stands in.
    #[must_use]
    pub fn new(start: &Url, with_others: bool) -> (Self, Request) {
        let starts = ["/", "/.well-known/caldav"].map(|path| at(start, path));
        let (ask, request) = Propfind::new(start, "0", Asked::Search, OF_ANY_ADDRESS);
        let search = Self {
            start: start.clone(),
            step: DiscoveryStage::Start,
            ask,
            starts: starts.into_iter().filter(|url| url != start).collect(),
            customary: customary(start),
            principal: None,
            named_homes: Vec::new(),
            homes: Vec::new(),
            to_read: VecDeque::new(),
            with_others,
            others: VecDeque::new(),
            reads_others: false,
            itself: None,
            calendars: Vec::new(),
            first_error: None,
        };
        (search, request)
    }

    /// Returns what the next answer is about.
    #[must_use]
    pub fn stage(&self) -> DiscoveryStage {
        self.step
    }

    /// As [`Propfind::can_ask_for_less`].
    #[must_use]
    pub fn can_ask_for_less(&self, answer: &Answer) -> bool {
        self.ask.can_ask_for_less(answer)
    }

    /// Takes an answer and says what to ask next.
    ///
    /// # Errors
    /// The sign-in is refused, or nothing was found anywhere; then the error of the given address is told, since
    /// that is the one a person can mend.
    pub fn handle(&mut self, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        let read = match self.ask.handle(answer) {
            Ok(PropfindNext::Ask(request)) => return Ok(DiscoveryNext::Ask(request)),
            Ok(PropfindNext::Done(responses)) => Ok(responses),
            Err(error) => Err(error),
        };
        match self.step {
            DiscoveryStage::Start => self.at_start(read, answer),
            DiscoveryStage::Calendar => self.at_calendar(read, answer),
            DiscoveryStage::Principal => self.at_principal(read, answer),
            DiscoveryStage::Home => self.at_home(read, answer),
            DiscoveryStage::Other => self.at_other(&read, answer),
        }
    }

    fn ask(
        &mut self,
        step: DiscoveryStage,
        url: &Url,
        asked: Asked,
        groups: &'static [&'static str],
    ) -> DiscoveryNext {
        let depth = if step == DiscoveryStage::Home { "1" } else { "0" };
        let (ask, request) = Propfind::new(url, depth, asked, groups);
        (self.step, self.ask) = (step, ask);
        DiscoveryNext::Ask(request)
    }

    fn at_start(&mut self, read: Read, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        let responses = match read {
            Ok(responses) => responses,
            Err(error) => return self.next_start(Some(error)),
        };
        let Some(response) = own_response(&responses, answer) else { return self.next_start(None) };
        let principal = response.prop(DAV, "current-user-principal").map(|p| hrefs_in(p, &answer.url));
        let principal = principal.and_then(|urls| urls.into_iter().next());
        // The principal is asked first: a home may name another's, or be named by what is none.
        self.principal = self.principal.take().or(principal);
        if let Some(homes) = response.prop(CALDAV, "calendar-home-set") {
            let types = response.prop(DAV, "resourcetype");
            if self.principal.is_none() && types.is_some_and(|t| t.child(DAV, "principal").is_some()) {
                self.principal = Some(answer.url.clone());
            }
            self.named_homes = hrefs_in(homes, &answer.url);
        }
        if self.itself.is_none() && is_calendar(response) {
            let url = answer.url.clone();
            return Ok(self.ask(DiscoveryStage::Calendar, &url, Asked::Calendar, OF_A_CALENDAR));
        }
        self.ask_principal()
    }

    fn at_calendar(&mut self, read: Read, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        match read {
            Ok(responses) => {
                let info = own_response(&responses, answer).and_then(|r| calendar_info(r, &answer.url));
                self.itself = info;
            }
            Err(error) => self.first_error = self.first_error.take().or(Some(error)),
        }
        self.ask_principal()
    }

    fn ask_principal(&mut self) -> Result<DiscoveryNext, DavError> {
        match self.principal.clone() {
            Some(principal) => {
                let groups = if self.with_others { OF_A_PROXY } else { OF_A_PRINCIPAL };
                Ok(self.ask(DiscoveryStage::Principal, &principal, Asked::Home, groups))
            }
            None if !self.named_homes.is_empty() => self.read_homes(),
            None => self.next_start(None),
        }
    }

    /// The well-known address first: it is what the standard offers.
    fn next_start(&mut self, error: Option<DavError>) -> Result<DiscoveryNext, DavError> {
        let fatal = error.as_ref().is_some_and(|e| e.class() == Class::Credentials);
        let knows_nothing =
            |error: &DavError| !matches!(error, DavError::Transport(_)) && error.class() != Class::Retry;
        let may_stand_elsewhere = error.as_ref().is_none_or(knows_nothing);
        self.first_error = self.first_error.take().or(error);
        self.principal = None;
        let next = self.starts.pop().or_else(|| self.customary.pop().filter(|_| may_stand_elsewhere));
        match next.filter(|_| !fatal && self.itself.is_none()) {
            Some(url) => Ok(self.ask(DiscoveryStage::Start, &url, Asked::Search, OF_ANY_ADDRESS)),
            None => self.finish(false),
        }
    }

    fn at_principal(&mut self, read: Read, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        let responses = read.as_deref().unwrap_or_default();
        let homes = homes_of(responses, answer);
        if !homes.is_empty() {
            self.named_homes = homes;
        }
        if self.with_others {
            self.others = stood_in_for(responses, answer).into_iter().take(MOST).collect();
        }
        if self.named_homes.is_empty() {
            return self.next_start(read.err());
        }
        self.read_homes()
    }

    fn read_homes(&mut self) -> Result<DiscoveryNext, DavError> {
        self.first_error = None;
        let mut homes = std::mem::take(&mut self.named_homes);
        let mut seen = std::collections::BTreeSet::new();
        homes.retain(|home| seen.insert(canonical(home)));
        homes.truncate(MOST);
        self.to_read.extend(homes.iter().cloned());
        self.homes = homes;
        self.next_home()
    }

    fn next_home(&mut self) -> Result<DiscoveryNext, DavError> {
        if let Some(home) = self.to_read.pop_front() {
            return Ok(self.ask(DiscoveryStage::Home, &home, Asked::Calendars, OF_A_HOME));
        }
        match self.others.pop_front() {
            Some(other) => {
                self.reads_others = true;
                Ok(self.ask(DiscoveryStage::Other, &other, Asked::Home, OF_A_PRINCIPAL))
            }
            None => self.finish(true),
        }
    }

    fn at_home(&mut self, read: Read, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        match read {
            Ok(responses) => {
                let mut found: Vec<_> =
                    responses.iter().filter_map(|r| calendar_info(r, &answer.url)).collect();
                if self.reads_others {
                    found.iter_mut().for_each(|calendar| calendar.is_shared = true);
                }
                self.calendars.extend(found);
            }
            // Whoever is stood in for may have shared nothing.
            Err(_) if self.reads_others => {}
            Err(error) => self.first_error = self.first_error.take().or(Some(error)),
        }
        self.next_home()
    }

    fn at_other(&mut self, read: &Read, answer: &Answer) -> Result<DiscoveryNext, DavError> {
        let homes = homes_of(read.as_deref().unwrap_or_default(), answer);
        self.to_read.extend(homes.into_iter().take(MOST));
        self.next_home()
    }

    fn finish(&mut self, home_named: bool) -> Result<DiscoveryNext, DavError> {
        let mut calendars = std::mem::take(&mut self.calendars);
        calendars.extend(self.itself.take());
        calendars.sort_by_cached_key(|calendar| (canonical(&calendar.url), calendar.is_shared));
        calendars.dedup_by_key(|calendar| canonical(&calendar.url));
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

/// The response about the address itself, or the first.
fn own_response<'r>(responses: &'r [PropResponse], answer: &Answer) -> Option<&'r PropResponse> {
    let own = canonical_path(&answer.url);
    let is_own = |r: &&PropResponse| {
        href_of(&r.href, &answer.url).is_some_and(|href| same_collection(&own, href.as_str()))
    };
    responses.iter().find(is_own).or_else(|| responses.first())
}

fn homes_of(responses: &[PropResponse], answer: &Answer) -> Vec<Url> {
    let sets = responses.iter().filter_map(|r| r.prop(CALDAV, "calendar-home-set"));
    sets.flat_map(|set| hrefs_in(set, &answer.url)).collect()
}

/// The principals for whom somebody stands in: named outright, or by groups below them (`…/calendar-proxy-read/`).
fn stood_in_for(responses: &[PropResponse], answer: &Answer) -> Vec<Url> {
    let named = |namespace, name| {
        let sets = responses.iter().filter_map(move |r| r.prop(namespace, name));
        sets.flat_map(|set| hrefs_in(set, &answer.url))
    };
    let outright = ["calendar-proxy-read-for", "calendar-proxy-write-for"]
        .into_iter()
        .flat_map(|name| named(CALENDARSERVER, name));
    let by_group = named(DAV, "group-membership").filter_map(|group| {
        let path = group.path().trim_end_matches('/');
        let (above, last) = path.rsplit_once('/')?;
        last.starts_with("calendar-proxy-").then(|| {
            let mut principal = group.clone();
            principal.set_path(&format!("{above}/"));
            principal
        })
    });
    let mut seen = std::collections::BTreeSet::new();
    outright.chain(by_group).filter(|principal| seen.insert(canonical(principal))).collect()
}
