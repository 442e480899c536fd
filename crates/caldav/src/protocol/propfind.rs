//! Properties asked for at once, and in parts where a server cannot answer for some of them.

use url::Url;

use super::multistatus::{Multistatus, PropResponse};
use super::{DAV, HEAD, NAMESPACES, href_of, parse_xml, xml_request};
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// What there is to know of any address: where a search may go on.
pub(super) const OF_ANY_ADDRESS: &[&str] =
    &["<d:resourcetype/><d:current-user-principal/>", "<c:calendar-home-set/>"];
/// Of the calendars in a home. What belongs to calendars alone is not asked of homes: some servers fail on it.
pub(super) const OF_A_HOME: &[&str] = &[
    "<d:resourcetype/><d:displayname/>",
    "<d:owner/><d:current-user-privilege-set/>",
    "<d:supported-report-set/><c:supported-calendar-component-set/><c:max-resource-size/>",
    "<i:calendar-color/>",
];
/// Of a calendar itself.
pub(super) const OF_A_CALENDAR: &[&str] = &[
    "<d:resourcetype/><d:displayname/><d:current-user-principal/><d:owner/>",
    "<d:current-user-privilege-set/><d:supported-report-set/>",
    "<c:supported-calendar-component-set/><c:max-resource-size/><i:calendar-color/>",
    "<d:sync-token/><s:getctag/>",
];

/// Of a calendar itself, for a person who wants to know: with the room that is left (RFC 4331).
const OF_A_CALENDAR_AND_ITS_ROOM: &[&str] = &[
    OF_A_CALENDAR[0],
    OF_A_CALENDAR[1],
    OF_A_CALENDAR[2],
    "<d:sync-token/><s:getctag/><d:quota-available-bytes/><d:quota-used-bytes/>",
];

/// A PROPFIND (RFC 4918, 9.1), whole or in parts; at most four of them.
#[derive(Debug)]
pub struct Propfind {
    url: Url,
    depth: &'static str,
    asked: Asked,
    groups: &'static [&'static str],
    /// The part that the next answer is about; `None` while all is asked at once.
    part: Option<usize>,
    found: Vec<PropResponse>,
    whole_error: Option<DavError>,
}

/// What to do next.
#[derive(Debug)]
pub enum PropfindNext {
    /// Send this and hand in the answer.
    Ask(Request),
    /// What was found.
    Done(Vec<PropResponse>),
}

impl Propfind {
    /// Asks for properties of an address (`Depth: 0`), and of what is in it (`Depth: 1`). The first group is the one
    /// without which nothing can be known.
    pub(super) fn new(
        url: &Url,
        depth: &'static str,
        asked: Asked,
        groups: &'static [&'static str],
    ) -> (Self, Request) {
        let ask =
            Self { url: url.clone(), depth, asked, groups, part: None, found: Vec::new(), whole_error: None };
        let request = ask.request(&groups.concat());
        (ask, request)
    }

    /// Asks what a calendar is, and what it can.
    #[must_use]
    pub fn of_calendar(url: &Url) -> (Self, Request) {
        Self::new(url, "0", Asked::Calendar, OF_A_CALENDAR)
    }

    /// Asks what a calendar is, what it can, and how much room is left.
    #[must_use]
    pub fn of_calendar_and_room(url: &Url) -> (Self, Request) {
        Self::new(url, "0", Asked::Calendar, OF_A_CALENDAR_AND_ITS_ROOM)
    }

    /// Asks for a calendar's ctag.
    #[must_use]
    pub fn of_ctag(url: &Url) -> (Self, Request) {
        Self::new(url, "0", Asked::Calendar, &["<d:resourcetype/><s:getctag/>"])
    }

    /// Tells whether an answer that is none leads to another question, and not to an error.
    #[must_use]
    pub fn can_ask_for_less(&self, answer: &Answer) -> bool {
        fails_on_a_property(answer) && self.part.map_or(self.groups.len() > 1, |part| part > 0)
    }

    fn request(&self, properties: &str) -> Request {
        let body = format!("{HEAD}<d:propfind {NAMESPACES}><d:prop>{properties}</d:prop></d:propfind>");
        xml_request("PROPFIND", self.url.clone(), self.depth, body)
    }

    /// Takes an answer and says what to ask next.
    ///
    /// # Errors
    /// The first part is not answered, or the sign-in is refused, or the server asks for patience.
    pub fn handle(&mut self, answer: &Answer) -> Result<PropfindNext, DavError> {
        let read = Multistatus::read(answer, self.asked).map(|multistatus| multistatus.responses);
        match (self.part, read) {
            (None, Ok(responses)) => return Ok(PropfindNext::Done(responses)),
            (None, Err(error)) if self.can_ask_for_less(answer) => {
                self.whole_error = Some(error);
                self.part = Some(0);
            }
            (Some(part), Ok(responses)) => {
                self.add(responses, answer);
                self.part = Some(part + 1);
            }
            (Some(part), Err(error)) if self.can_ask_for_less(answer) => {
                tracing::debug!(?error, "properties that are not told");
                self.part = Some(part + 1);
            }
            (_, Err(error)) => return Err(self.whole_error.take().unwrap_or(error)),
        }
        match self.part.and_then(|part| self.groups.get(part)) {
            Some(group) => Ok(PropfindNext::Ask(self.request(group))),
            None => Ok(PropfindNext::Done(std::mem::take(&mut self.found))),
        }
    }

    fn add(&mut self, responses: Vec<PropResponse>, answer: &Answer) {
        for response in responses {
            let href = href_of(&response.href, &answer.url);
            match self.found.iter_mut().find(|known| href_of(&known.href, &answer.url) == href) {
                Some(known) => known.found.extend(response.found),
                None => self.found.push(response),
            }
        }
    }
}

/// Tells whether another answer may come of asking for less: the server fails, or names a property that it refuses.
/// Never where it wants another sign-in, or patience.
fn fails_on_a_property(answer: &Answer) -> bool {
    match answer.status {
        400 | 500 | 501 => true,
        403 => parse_xml(&answer.body).is_ok_and(|root| root.is(DAV, "error") && !root.children.is_empty()),
        _ => false,
    }
}
