//! The errors of the crates below, in words. They are facts: nothing of them reaches a person but through here.

use chestnut_caldav::oauth::OAuthError;
use chestnut_caldav::{
    Asked, CertificateFault, DavError, Detail, Instead, NotGiven, SetupError, SignInKind, TransportError,
    TransportFault, XmlBound, XmlError,
};
use chestnut_core::ical::{Bound, ParseError, ParseProblem};
use chestnut_core::{EntryError, NotACalendar, SeriesError};
use chestnut_engine::{CalendarError, ClocksApart, DiskAct, FormerEnd, PresentEnd, RunError, Unread};
use chestnut_store::{Damage, Holder, StoreError};
use jiff::SignedDuration;

use super::lengths::long_words;

/// An error of a crate below.
pub(crate) trait InWords {
    /// Says what happened, without a full stop. What servers and files wrote may be in it; it is cleaned when it is shown.
    fn in_words(&self) -> String;
}

/// Says why a run failed, as it is kept in the history.
pub(crate) fn kept_failure_words(facts: &serde_json::Value) -> String {
    RunError::of_facts(facts).map_or_else(
        || "failed; another version of Chestnut wrote down why".to_owned(),
        |error| error.in_words(),
    )
}

/// ` (WORDS)`, where there are any.
fn in_brackets(words: Option<&str>) -> String {
    words.filter(|words| !words.is_empty()).map(|words| format!(" ({words})")).unwrap_or_default()
}

/// Where a calendar is, for a person: what tells it from others begins with its kind.
fn place_words(place: &str) -> String {
    let parts: Vec<_> = place.splitn(4, ' ').collect();
    match parts[..] {
        ["dav", origin, "", path] => format!("{origin}{path}"),
        ["dav", origin, user, path] => format!("{origin}{path} (as {user})"),
        [kind @ ("feed" | "free-busy"), of, ..] => {
            format!("the {kind} of {}", of.split('#').next().unwrap_or(of))
        }
        _ => place.split_once(' ').map_or(place, |(_, path)| path).to_owned(),
    }
}

/// Between which calendars a route ran, and which way.
fn way_words(ends: &[FormerEnd]) -> String {
    let places: Vec<_> = ends.iter().map(|end| place_words(&end.place)).collect();
    match (ends, &places[..]) {
        ([_, last], [from, to]) if !last.gave => format!("from {from} to {to}"),
        _ => format!("both ways between {}", places.join(" and ")),
    }
}

/// The calendars of a route that are not where they were.
pub(super) fn moved_ends<'e>(
    before: &'e [FormerEnd],
    now: &'e [PresentEnd],
) -> impl Iterator<Item = (&'e FormerEnd, &'e PresentEnd)> {
    before.iter().zip(now).filter(|(before, now)| before.place != now.place)
}

/// Which calendars of a route are others, and where they were.
fn others_words(before: &[FormerEnd], now: &[PresentEnd]) -> String {
    let moved: Vec<_> = moved_ends(before, now)
        .map(|(before, now)| {
            let is_at = place_words(&now.place);
            format!("{} was {}, and is {is_at} now", now.calendar, place_words(&before.place))
        })
        .collect();
    // Its way may be another, too.
    if moved.is_empty() { way_words(before) } else { moved.join("; ") }
}

impl InWords for ClocksApart {
    fn in_words(&self) -> String {
        let apart = long_words(SignedDuration::from_secs(self.seconds));
        format!("this machine's clock and that of the server of calendar {} are {apart} apart", self.calendar)
    }
}

impl InWords for RunError {
    fn in_words(&self) -> String {
        let of_account = |account: &Option<String>| {
            account.as_ref().map(|a| format!(" (account {a})")).unwrap_or_default()
        };
        match self {
            Self::Calendar { calendar, account, error } => {
                format!("calendar {calendar}{}: {}", of_account(account), error.in_words())
            }
            Self::Store(error) => error.in_words(),
            Self::Running { route, .. } => format!("route {route} is running elsewhere"),
            Self::Withdrawn { route, is_paused } => format!(
                "route {route} was {} before its turn came; nothing was done",
                if *is_paused { "paused" } else { "retired or renamed" }
            ),
            Self::OtherCalendars { route, before, now, is_turned: false } => {
                format!("route {route} last ran between other calendars: {}", others_words(before, now))
            }
            Self::OtherCalendars { route, before, is_turned: true, .. } => {
                format!("route {route} went another way when it last ran: {}", way_words(before))
            }
            Self::SameCalendar { route, place } => {
                format!("route {route} names one calendar twice ({place})")
            }
            Self::ClocksApart(apart) => format!("{}; nothing was deleted", apart.in_words()),
            Self::ReadOnly { calendar, account } => {
                format!("calendar {calendar}{} may only be read", of_account(account))
            }
            Self::Stopped { left } => format!("stopped, {left} changes left"),
            _ => "the run failed".to_owned(),
        }
    }
}

impl InWords for CalendarError {
    fn in_words(&self) -> String {
        match self {
            Self::Dav(error) => error.in_words(),
            Self::Text(error) => format!("what was read is not a complete calendar: {}", error.in_words()),
            Self::Vanished { path, is_folder: false } => {
                format!("{} is gone, or without a byte, though entries stood in it", path.display())
            }
            Self::Vanished { path, is_folder: true } => {
                format!("{} is gone, though entries stood in it", path.display())
            }
            Self::Disk { act, path, problem } => {
                let act = match act {
                    DiskAct::Write => "writing",
                    DiskAct::Make => "making",
                    DiskAct::Delete => "deleting",
                    _ => "reading",
                };
                format!("{act} {} failed: {problem}", path.display())
            }
            Self::ReadOnly => "a feed can only be read".to_owned(),
            _ => "the calendar could not be used".to_owned(),
        }
    }
}

/// Who holds something, in brackets.
pub(crate) fn holder_words(holder: &Holder) -> String {
    let on = holder.machine.as_ref().map(|machine| format!(" on {machine}")).unwrap_or_default();
    format!(" (process {}{on}, since {:.0})", holder.process, holder.since)
}

impl InWords for StoreError {
    fn in_words(&self) -> String {
        match self {
            Self::Newer { place, found, known } => format!(
                "the state {place} was written by a newer Chestnut (format {found}; this one knows up to {known})"
            ),
            Self::AtWork { place, holder } => format!(
                "an older Chestnut works with the state {place}{}, and would not understand what this one makes of it",
                holder_words(holder)
            ),
            Self::Unreadable { place, damage } => {
                let damage = match damage {
                    Damage::NoDatabase => "it is not a database, or it is damaged",
                    Damage::OtherProgram => "it is a database of another program",
                    Damage::Somewhere => "it is damaged",
                };
                format!("the state {place} cannot be read: {damage}")
            }
            Self::Open { place, problem } => format!("the state {place} cannot be opened: {problem}"),
            Self::Full => "the disk under the state is full".to_owned(),
            Self::Busy { name, holder } => {
                format!("{name} is in use{}", holder.as_ref().map(holder_words).unwrap_or_default())
            }
            Self::Moved { place, to } => format!("the state {place} was moved to {to}"),
            Self::NotEmpty { place } => format!("there is a state at {place} already"),
            Self::Away(problem) => format!("the database of the state cannot be reached: {problem}"),
            Self::Damaged => "the state is damaged".to_owned(),
            Self::CutOff => "cut off".to_owned(),
            Self::Database(problem) => format!("the state could not be used: {problem}"),
            _ => "the state could not be used".to_owned(),
        }
    }
}

impl InWords for DavError {
    fn in_words(&self) -> String {
        match self {
            Self::Transport(error) => error.in_words(),
            Self::SignIn { offered, sent } => sign_in_words(offered, *sent),
            Self::Forbidden { asked } => {
                format!("the server does not allow this ({}: 403)", asked_words(*asked))
            }
            Self::NotFound { url, status } => format!("there is nothing at {url} ({status})"),
            Self::Status { asked, status, detail, .. } => {
                let detail = detail.as_ref().map(|detail| format!(": {detail}")).unwrap_or_default();
                let asked = match asked {
                    Asked::Feed => "the request for the feed",
                    asked => asked_words(*asked),
                };
                format!("the server answered {status} to {asked}{detail}")
            }
            Self::NotCalDav { url, asked, instead } => {
                format!("{url} gave no CalDAV answer to {}: {}", asked_words(*asked), instead.in_words())
            }
            Self::NotAFeed { instead } => format!("the feed's address gives {}", instead.in_words()),
            Self::Incomplete => "the server gave an incomplete listing of the calendar".to_owned(),
            Self::NoCalendars { url, home_named } => {
                let problem = if *home_named {
                    "the calendar home could not be listed"
                } else {
                    "the server names no principal and no calendar home"
                };
                format!("no calendars could be found from {url}: {problem}")
            }
            _ => "the server did not give what was asked for".to_owned(),
        }
    }
}

fn sign_in_words(offered: &[String], sent: SignInKind) -> String {
    let known = ["basic", "digest", "bearer"];
    if !offered.is_empty() && !offered.iter().any(|scheme| known.contains(&scheme.as_str())) {
        let offered = offered.join(", ");
        return format!(
            "the server offers only ways to sign in that Chestnut does not know: {offered} (401)"
        );
    }
    let what = match sent {
        SignInKind::Token => "refuses the token",
        SignInKind::Password if offered == ["bearer"] => "accepts tokens, not passwords",
        SignInKind::Password => "refuses the user name or the password",
        SignInKind::Nothing => "requires sign-in",
    };
    format!("the server {what} (401)")
}

fn asked_words(asked: Asked) -> &'static str {
    match asked {
        Asked::Search => "the search for calendars",
        Asked::Home => "the calendar home",
        Asked::Calendars => "a listing of calendars",
        Asked::Calendar => "a look at the calendar",
        Asked::User => "who is signed in",
        Asked::Addresses => "the user's addresses",
        Asked::Listing => "a listing of entries",
        Asked::SyncReport => "a sync report",
        Asked::Query => "a search for entries",
        Asked::Multiget => "a batch of entries",
        Asked::Entry => "one entry",
        Asked::Feed => "the feed",
        Asked::FreeBusy => "free-busy time",
        Asked::NewCalendar => "the new calendar",
        Asked::NewName => "the new name",
        _ => "a question",
    }
}

impl InWords for Instead {
    fn in_words(&self) -> String {
        match self {
            Self::WebPage => "a web page".to_owned(),
            Self::Nothing { status } => format!("an empty answer (status {status})"),
            Self::Format { content_type, status } => {
                format!("{} with status {status}", content_type.as_deref().unwrap_or("something unlabelled"))
            }
            Self::Xml(error) => error.in_words(),
            Self::Root(name) => format!("<{name}> instead of <multistatus>"),
            Self::NotUtf8 => "bytes that are not UTF-8".to_owned(),
            Self::NoCalendar => "something that is not a calendar".to_owned(),
            Self::UnchangedFromNothing => "no text (status 304), although nothing was known of it".to_owned(),
            _ => "something else".to_owned(),
        }
    }
}

impl InWords for XmlError {
    fn in_words(&self) -> String {
        match self {
            Self::NotUtf8 => "not UTF-8".to_owned(),
            Self::ControlCharacter => "a control character, which XML does not allow".to_owned(),
            Self::NotWellFormed(words) if words.is_empty() => "no well-formed XML".to_owned(),
            Self::NotWellFormed(words) => format!("not well-formed XML: {words}"),
            Self::TooMuch(what, limit) => {
                let what = match what {
                    XmlBound::Depth => "elements inside one another",
                    XmlBound::Attributes => "attributes of one element",
                    XmlBound::Namespaces => "names of namespaces in one place",
                    XmlBound::Name => "bytes in one name",
                    XmlBound::Elements => "elements in one response",
                    XmlBound::Bytes => "bytes in one response",
                    _ => "responses",
                };
                format!("XML with more than {limit} {what}")
            }
            Self::NoXml => "no XML".to_owned(),
            Self::DocumentType => "a document type, which CalDAV does not use".to_owned(),
            Self::EndsEarly => "the XML ends too early".to_owned(),
            Self::BadReference(name) => format!("a reference that names no character: &{name};"),
            _ => "XML that cannot be read".to_owned(),
        }
    }
}

impl InWords for TransportError {
    fn in_words(&self) -> String {
        let through = self.proxy.as_ref().map(|proxy| format!(", through the proxy {proxy}"));
        format!("{}{}", without_proxy(self), through.unwrap_or_default())
    }
}

fn without_proxy(error: &TransportError) -> String {
    let TransportError { fault, host, .. } = error;
    let detail = detail_words(&error.detail);
    let detail = match &error.detail {
        Detail::To(to) => format!(" to {to}"),
        _ => in_brackets(detail.as_deref()),
    };
    if let Some(fault) = error.certificate {
        let what = match fault {
            CertificateFault::Expired => "has expired",
            CertificateFault::NotYetValid => "is not valid yet",
            CertificateFault::WrongName => "is for another name",
            CertificateFault::UnknownIssuer => "is not signed by an authority that this machine trusts",
            _ => "is not accepted",
        };
        // What a library says of the time makes it another sentence each time.
        let detail = if fault == CertificateFault::Expired { "" } else { &detail };
        return format!("the certificate of {host} {what}{detail}");
    }
    match fault {
        TransportFault::Resolve => format!("the host name {host} is not known"),
        TransportFault::Connect => format!("nothing answers at {host}{detail}"),
        TransportFault::Tls if error.detail == Detail::PlainHttp => {
            format!("{host} answers in plain HTTP, where https was expected")
        }
        TransportFault::Tls => format!("no secure connection to {host}{detail}"),
        TransportFault::Timeout => format!("{host} did not answer in time"),
        TransportFault::Broken => format!("the connection to {host} broke before the answer was complete"),
        TransportFault::Redirect => format!("{host} redirects in a circle or to nowhere"),
        TransportFault::TooLarge => match error.detail {
            Detail::Limit(bytes) => {
                format!("the answer of {host} is larger than the limit of {} MiB", bytes >> 20)
            }
            _ => format!("the answer of {host} is larger than the limit"),
        },
        TransportFault::PlainHttp => format!("a password would be sent unencrypted to {host}"),
        TransportFault::UnsendableSecret => {
            format!("the user or the password for {host} holds characters that cannot be sent")
        }
        TransportFault::Downgrade => {
            format!("{host} redirects from https to http{detail}, where anybody on the way can read it")
        }
        TransportFault::WriteElsewhere => {
            format!("{host} redirects a write{detail}: entries go only to the calendar's own server")
        }
        TransportFault::SignInElsewhere => {
            format!("{host} redirects sign-ins{detail}, which is not allowed to have yours")
        }
        TransportFault::Stopped => "stopped".to_owned(),
        // What is kept cannot be used; nobody there was asked.
        TransportFault::SignInEnded if matches!(error.detail, Detail::Words(_)) => {
            format!("the sign-in at {host} cannot be used{detail}")
        }
        TransportFault::SignInEnded => format!("the sign-in at {host} is no longer valid{detail}"),
        _ => format!("{host} gave no answer{detail}"),
    }
}

fn detail_words(detail: &Detail) -> Option<String> {
    Some(match detail {
        Detail::Words(words) => words.clone(),
        Detail::NameServiceSilent => "the name service does not answer".to_owned(),
        Detail::NoAddress => "it has no address".to_owned(),
        Detail::PlainHttp => "it answers in plain HTTP".to_owned(),
        Detail::NoCertificate => "the server showed no certificate".to_owned(),
        Detail::UnreadableCertificate => "its certificate cannot be read".to_owned(),
        Detail::NothingToRenewWith => {
            "it has expired, and the service gave nothing to renew it with".to_owned()
        }
        Detail::SignIn(error) => error.in_words(),
        _ => return None,
    })
}

impl InWords for OAuthError {
    fn in_words(&self) -> String {
        match self {
            Self::Revoked(words) => {
                format!("the sign-in has expired or was revoked{}", in_brackets(words.as_deref()))
            }
            Self::Pending => "waiting for the sign-in on the other device".to_owned(),
            Self::SlowDown => "waiting for the sign-in on the other device, and asked too often".to_owned(),
            Self::Denied => "the sign-in was refused".to_owned(),
            Self::Expired => "the code expired before anybody signed in".to_owned(),
            Self::Refused(words) => format!("the sign-in service answered: {words}"),
            Self::Lacks(name) => {
                format!("the sign-in service gave no answer that can be understood (no {name} in it)")
            }
            Self::NotOAuth { status } => {
                format!("the sign-in service gave no answer that can be understood (status {status})")
            }
            _ => "the sign-in service gave no token".to_owned(),
        }
    }
}

impl InWords for NotACalendar {
    fn in_words(&self) -> String {
        match self {
            Self::Nothing => "it is empty".to_owned(),
            Self::WebPage => "it is a web page, not a calendar".to_owned(),
            Self::Parse(error) => error.in_words(),
            Self::Other(name) => format!("it holds a {name}, not a VCALENDAR"),
            Self::NoFreeBusy => "there is no free-busy time (VFREEBUSY) in it".to_owned(),
            Self::PeriodNotUnderstood(period) => format!("its time {period} is not understood"),
            Self::Several(count) => format!("it holds {count} calendars one after the other"),
            Self::TooMany { limit } => format!("it holds more than {limit} entries"),
            _ => "it is no calendar".to_owned(),
        }
    }
}

impl InWords for EntryError {
    fn in_words(&self) -> String {
        match self {
            Self::Parse(error) => error.in_words(),
            Self::Empty => "no event, task or journal in it".to_owned(),
            Self::NoUid => "an entry without UID".to_owned(),
            Self::SeveralUids(count) => format!("{count} different UIDs in one calendar object"),
            _ => "it is no entry".to_owned(),
        }
    }
}

impl InWords for Unread {
    fn in_words(&self) -> String {
        match self {
            Self::NotGiven(NotGiven::Dav(error)) => error.in_words(),
            Self::NotGiven(_) => "bytes that are not UTF-8".to_owned(),
            Self::NotAnyMore => "it was an entry once, and cannot be read now".to_owned(),
            Self::NoEntry(error) => error.in_words(),
        }
    }
}

impl InWords for SeriesError {
    fn in_words(&self) -> String {
        match self {
            Self::Rule(error) if error.part.is_empty() => "its recurrence rule has no FREQ".to_owned(),
            Self::Rule(error) => {
                format!("`{}` is not a known part of a recurrence rule", error.part)
            }
            Self::OverBudget(_) => "its recurrence takes too long to work out".to_owned(),
            Self::UnknownZone(zone) => format!("its time zone {zone:?} is unknown"),
            Self::BadTime(start) => format!("its start {start:?} is not a time"),
            _ => "when it is cannot be worked out".to_owned(),
        }
    }
}

impl InWords for SetupError {
    fn in_words(&self) -> String {
        match self {
            Self::Proxy => "the proxy's address cannot be understood".to_owned(),
            Self::NoAuthority => {
                "the `ca` file holds no certificate (PEM: -----BEGIN CERTIFICATE-----)".to_owned()
            }
            Self::Certificate => {
                "the certificate for signing in needs a certificate and its key in PEM".to_owned()
            }
            Self::Other(words) => words.clone(),
            _ => "no connection can be prepared".to_owned(),
        }
    }
}

impl InWords for ParseError {
    fn in_words(&self) -> String {
        let problem = match &self.problem {
            ParseProblem::NotCalendar => {
                "this is not iCalendar text (it does not begin with BEGIN:)".to_owned()
            }
            ParseProblem::NoName => "a component without a valid name".to_owned(),
            ParseProblem::NoColon => "a line without a name and a colon".to_owned(),
            ParseProblem::CutOff(name) => format!("the text ends before END:{name}"),
            ParseProblem::WrongEnd { found, expected } => {
                format!("END:{found} where END:{expected} should stand")
            }
            ParseProblem::Outside => "a property outside any component".to_owned(),
            ParseProblem::NotUtf8 => "bytes that are not UTF-8".to_owned(),
            ParseProblem::TooMuch { what, limit } => {
                let what = match what {
                    Bound::Lines => "lines",
                    Bound::Days => "days named one by one",
                    Bound::EntryBytes => "bytes in one entry",
                    Bound::LineBytes => "bytes in one line",
                    Bound::Depth => "nested components",
                    _ => "of something",
                };
                format!("more than the limit of {limit} {what}")
            }
            ParseProblem::NotOne(count) => format!("{count} calendar objects where one should stand"),
            _ => "it cannot be read".to_owned(),
        };
        match &self.problem {
            // It is about the whole of it.
            ParseProblem::TooMuch { what: Bound::EntryBytes | Bound::Days, .. } => problem,
            _ => format!("line {}, column {}: {problem}", self.line, self.column),
        }
    }
}
