//! Errors for people: one sentence, the cause, and what to do next.

use chestnut_caldav::{DavError, TransportFault};
use chestnut_core::NotACalendar;
use chestnut_engine::{CalendarError, RunError};
use chestnut_store::StoreError;

use crate::exit_code::ExitCode;
use crate::render::clean;

/// A failure, ready to be shown.
#[derive(Debug, Clone)]
pub(crate) struct Failure {
    pub(crate) code: ExitCode,
    pub(crate) message: String,
    pub(crate) hint: Option<String>,
}

impl Failure {
    pub(crate) fn usage(message: impl Into<String>) -> Self {
        Self { code: ExitCode::Usage, message: message.into(), hint: None }
    }

    pub(crate) fn failed(message: impl Into<String>) -> Self {
        Self { code: ExitCode::Failed, message: message.into(), hint: None }
    }

    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }

    /// `Error:` and `Hint:`, cleaned of whatever a server may have put into the words.
    pub(crate) fn lines(&self) -> String {
        let hint = self.hint.as_ref().map(|hint| format!("Hint: {}\n", clean(hint))).unwrap_or_default();
        format!("Error: {}\n{hint}", clean(&self.message))
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        let hint = match &error {
            StoreError::Newer { .. } => "Install the newer Chestnut, or name another state with --state.",
            StoreError::Unreadable { .. } => {
                "Move the file away: the next sync finds all copies again by their UIDs and writes nothing twice."
            }
            StoreError::Open { .. } => {
                "See that the folder exists and that you may write there, or use --state."
            }
            StoreError::Full => "Make room and run it again; it goes on where it was cut off.",
            StoreError::Busy { .. } => "Wait until it has ended, then run it again.",
            _ => "Run it again; if it stays, keep the state file for a report.",
        };
        Self::failed(error.to_string()).hint(hint)
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        Self::failed(error.to_string())
    }
}

impl From<RunError> for Failure {
    fn from(error: RunError) -> Self {
        let message = error.to_string();
        match error {
            RunError::Store(error) => error.into(),
            RunError::Calendar { calendar, account, error } => {
                Self::failed(message).hint(calendar_hint(&error, &calendar, account.as_deref()))
            }
            RunError::OtherCalendars { .. } => Self { code: ExitCode::Usage, ..Self::failed(message) }.hint(
                "Put the calendars back, or give the route a new name; the old copies stay where they are.",
            ),
            RunError::ReadOnly { account, .. } => {
                let rights = account.map(|a| format!("; `chestnut calendar list {a}` shows the rights"));
                Self::failed(message).hint(format!(
                    "Ask for the right to write, or choose another calendar{}.",
                    rights.unwrap_or_default()
                ))
            }
            RunError::Stopped { .. } => Self::failed(message).hint("Run `chestnut sync` to do the rest."),
            _ => Self::failed(message),
        }
    }
}

/// What a person can do about a calendar that could not be read or written.
pub(crate) fn calendar_hint(error: &CalendarError, calendar: &str, account: Option<&str>) -> String {
    match (error, account) {
        (CalendarError::Dav(error), Some(account)) => dav_hint(error, account),
        (CalendarError::Dav(error), None) => feed_hint(error, calendar),
        (CalendarError::Text(NotACalendar::WebPage), _) => format!(
            "Mostly this is a sign-in page, or the page about the calendar instead of the calendar. Copy the address of the feed itself into calendar {calendar}. Nothing was changed."
        ),
        (CalendarError::Text(_), _) => {
            format!(
                "Nothing was concluded from it, and nothing was changed. See what stands there for calendar {calendar}, and run it again."
            )
        }
        (CalendarError::Disk { .. }, _) => {
            format!(
                "See that it is there and may be read and written; calendar {calendar} names it. Nothing was lost."
            )
        }
        _ => READ_ONLY_FEED.to_owned(),
    }
}

/// What a feed is not, and what there is instead.
pub(crate) const READ_ONLY_FEED: &str = "A feed can only be read. To write there, ask for the calendar's CalDAV address and add it to an account; to show something to others, publish a feed of your own in return.";

fn feed_hint(error: &DavError, calendar: &str) -> String {
    match error {
        DavError::SignIn { .. } | DavError::Forbidden { .. } => format!(
            "The feed wants a sign-in. Name the account with its user and password as `account` in calendar {calendar}, or ask for a private address of the feed."
        ),
        DavError::Status { status: 404 | 410, .. } => format!(
            "The publisher has taken it away or changed its address. Ask for the new one, and put it into calendar {calendar}. Nothing was deleted."
        ),
        DavError::Transport(error) => match error.fault {
            TransportFault::Resolve | TransportFault::Connect => {
                format!("Check the address of calendar {calendar}, and this machine's network.")
            }
            TransportFault::TooLarge => "A feed of this size is not read.".to_owned(),
            _ => "Run it again later; nothing was changed.".to_owned(),
        },
        _ => format!(
            "Check the address of calendar {calendar}: open it in a browser, and it must give a file. Nothing was changed."
        ),
    }
}

/// What a person can do about a server's answer.
pub(crate) fn dav_hint(error: &DavError, account: &str) -> String {
    let test = format!("`chestnut account test {account}`");
    match error {
        DavError::SignIn { .. } => format!(
            "Check user and password of account {account}; with sign-in in two steps most servers want an app password. Then {test}."
        ),
        DavError::NotFound { .. } => format!("See what is there with `chestnut calendar list {account}`."),
        DavError::NotCalDav { .. } => {
            format!(
                "The address leads to something that is no CalDAV server. Nothing was changed. See {test}."
            )
        }
        DavError::NoCalendars { .. } => {
            format!("Check the url of account {account}: a CalDAV address, not that of the web page.")
        }
        DavError::Incomplete => "Nothing was concluded from it. Run it again later.".to_owned(),
        DavError::Forbidden { .. } => {
            format!("Ask for the right, or see the rights with `chestnut calendar list {account}`.")
        }
        DavError::Transport(error) => match error.fault {
            TransportFault::Resolve => {
                format!("Check the host in the url of account {account}, and this machine's network.")
            }
            TransportFault::Connect => {
                format!(
                    "Check host and port in the url of account {account}, and that the server is running."
                )
            }
            TransportFault::Tls => {
                format!("For a private certificate authority, name its file with `ca` in account {account}.")
            }
            TransportFault::PlainHttp => {
                format!(
                    "Use https, or allow it with `plain-http = true` in account {account} if you trust the network."
                )
            }
            TransportFault::Redirect => format!("Check the url of account {account}."),
            _ => format!("Run it again; if it stays, raise `timeout` in account {account}."),
        },
        _ => format!("Nothing was lost. Run it again later; {test} shows how the account is."),
    }
}
