//! What can go wrong between here and a server, and what helps.

use url::Url;

use crate::class::Class;
use crate::transport::TransportError;

/// Why a server did not give what was asked for.
#[derive(Debug, Clone, thiserror::Error)]
#[non_exhaustive]
pub enum DavError {
    /// No answer at all.
    #[error("{0}")]
    Transport(#[from] TransportError),
    /// The server does not know the user, or the password is wrong (401).
    #[error("{}", sign_in_sentence(offered))]
    SignIn {
        /// The ways to sign in that the server offers (RFC 9110, 11.6.1): `basic`, `digest`, `bearer`, …
        offered: Vec<String>,
    },
    /// The server knows the user and says no (403).
    #[error("the server does not allow this ({what}: 403)")]
    Forbidden {
        /// What was asked.
        what: &'static str,
    },
    /// Nothing is there (404, 410).
    #[error("there is nothing at {url} ({status})")]
    NotFound {
        /// Where.
        url: Box<Url>,
        /// 404 or 410.
        status: u16,
    },
    /// Another status than the question allows.
    #[error("the server answered {status} to {what}{}", detail.as_ref().map(|d| format!(": {d}")).unwrap_or_default())]
    Status {
        /// What was asked.
        what: &'static str,
        /// The HTTP status.
        status: u16,
        /// The server's own words, shortened; untrusted text.
        detail: Option<String>,
        /// How long the server asks to wait, in seconds (RFC 9110, 10.2.3).
        retry_after: Option<u64>,
    },
    /// An answer that is no CalDAV: a web page, another format, broken XML.
    #[error("{url} gave no CalDAV answer to {what}: {problem}")]
    NotCalDav {
        /// It is a web page: mostly one to sign in.
        is_web_page: bool,
        /// Where.
        url: Box<Url>,
        /// What was asked.
        what: &'static str,
        /// What came instead.
        problem: String,
    },
    /// An answer that is no calendar feed.
    #[error("the feed's address gives {problem}")]
    NotAFeed {
        /// What came instead.
        problem: String,
    },
    /// A listing that the server itself calls incomplete.
    #[error("the server gave an incomplete listing of the calendar")]
    Incomplete,
    /// No principal, home or calendar could be found from the address.
    #[error("no calendars could be found from {url}: {problem}")]
    NoCalendars {
        /// Where the search began.
        url: Box<Url>,
        /// What was missing.
        problem: &'static str,
    },
}

impl DavError {
    /// Returns what helps.
    #[must_use]
    pub fn class(&self) -> Class {
        match self {
            Self::Transport(error) => error.class(),
            Self::SignIn { .. } => Class::Credentials,
            Self::Forbidden { .. } => Class::Forbidden,
            Self::NotFound { .. } => Class::NotFound,
            Self::NotCalDav { .. } | Self::NotAFeed { .. } | Self::Incomplete => Class::Malformed,
            Self::NoCalendars { .. } => Class::NotFound,
            Self::Status { status, .. } => match status {
                409 | 412 => Class::Conflict,
                413 | 507 => Class::TooLarge,
                405 | 415 | 501 => Class::Unsupported,
                408 | 423 | 425 | 429 | 500..=599 => Class::Retry,
                _ => Class::Malformed,
            },
        }
    }
}

fn sign_in_sentence(offered: &[String]) -> String {
    let known = ["basic", "digest", "bearer"];
    if offered.is_empty() || offered.iter().any(|scheme| known.contains(&scheme.as_str())) {
        let what = if offered == ["bearer"] { "token" } else { "user name or the password" };
        return format!("the server refuses the {what} (401)");
    }
    format!(
        "the server offers only ways to sign in that Chestnut does not know: {} (401)",
        offered.join(", ")
    )
}
