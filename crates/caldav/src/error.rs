//! What can go wrong between here and a server, and what helps. Facts only: whoever shows them finds the words.

use serde::{Deserialize, Serialize};
use url::Url;

use crate::class::Class;

/// Why a server did not give what was asked for. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum DavError {
    /// No answer at all.
    Transport(#[from] TransportError),
    /// The server does not know the user, or the password or the token is wrong (401).
    SignIn {
        /// The ways to sign in that the server offers (RFC 9110, 11.6.1): `basic`, `digest`, `bearer`, …
        offered: Vec<String>,
        /// With what it was tried.
        #[serde(default)]
        sent: SignInKind,
    },
    /// The server knows the user and says no (403).
    Forbidden {
        /// What was asked.
        asked: Asked,
    },
    /// Nothing is there (404, 410).
    NotFound {
        /// Where.
        url: Box<Url>,
        /// 404 or 410.
        status: u16,
    },
    /// Another status than the question allows.
    Status {
        /// What was asked.
        asked: Asked,
        /// The HTTP status.
        status: u16,
        /// The server's own words, shortened; untrusted text.
        detail: Option<String>,
        /// How long the server asks to wait, in seconds (RFC 9110, 10.2.3).
        retry_after: Option<u64>,
    },
    /// An answer that is no CalDAV.
    NotCalDav {
        /// Where.
        url: Box<Url>,
        /// What was asked.
        asked: Asked,
        /// What came instead.
        instead: Instead,
    },
    /// An answer that is no calendar feed.
    NotAFeed {
        /// What came instead.
        instead: Instead,
    },
    /// A listing that the server itself calls incomplete.
    Incomplete,
    /// No principal, home or calendar could be found from the address.
    NoCalendars {
        /// Where the search began.
        url: Box<Url>,
        /// A home was named, and could not be listed.
        home_named: bool,
    },
}

/// What was asked of a server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Asked {
    /// Where a user's calendars are.
    Search,
    /// The home that holds calendars.
    Home,
    /// Which calendars there are.
    Calendars,
    /// What a calendar is and can.
    Calendar,
    /// Who is signed in.
    User,
    /// The addresses under which people write to the user.
    Addresses,
    /// Which entries there are.
    Listing,
    /// What changed since a token.
    SyncReport,
    /// Entries of a kind, or of a time.
    Query,
    /// The texts of some entries.
    Multiget,
    /// The text of one entry.
    Entry,
    /// A feed.
    Feed,
    /// When somebody is taken.
    FreeBusy,
    /// A new calendar.
    NewCalendar,
    /// Another name for a calendar.
    NewName,
}

/// What came instead of an answer that can be used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Instead {
    /// A web page: mostly one to sign in.
    WebPage,
    /// An empty answer.
    Nothing {
        /// The HTTP status.
        status: u16,
    },
    /// Some other format.
    Format {
        /// What the server calls it; untrusted text.
        content_type: Option<String>,
        /// The HTTP status.
        status: u16,
    },
    /// XML that cannot be read.
    Xml(XmlError),
    /// XML about something else: its outermost element; untrusted text.
    Root(String),
    /// Bytes that are not UTF-8.
    NotUtf8,
    /// Something that is no calendar.
    NoCalendar,
    /// "Nothing changed" (304), although nothing was known before.
    UnchangedFromNothing,
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

/// How a request got no answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum TransportFault {
    /// The host name is unknown.
    Resolve,
    /// Nothing accepts the connection.
    Connect,
    /// The certificate or the encryption is not accepted.
    Tls,
    /// No answer in time.
    Timeout,
    /// The connection broke, or the answer was cut off.
    Broken,
    /// Redirected too often, or to nowhere.
    Redirect,
    /// The answer is larger than the limit.
    TooLarge,
    /// A password would travel unencrypted to another machine.
    PlainHttp,
    /// An answer over https leads to http.
    Downgrade,
    /// A write is sent on to another server.
    WriteElsewhere,
    /// Another server wants the sign-in, and nobody has said that it may have it.
    SignInElsewhere,
    /// The run was asked to stop.
    Stopped,
    /// The user or the password holds characters that no header can hold.
    UnsendableSecret,
    /// The token of the sign-in has run out or was revoked, and no new one is given.
    SignInEnded,
}

/// What is wrong with a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum CertificateFault {
    /// Its time is over.
    Expired,
    /// Its time has not begun.
    NotYetValid,
    /// It is made out to other names.
    WrongName,
    /// Nobody whom this machine trusts has signed it.
    UnknownIssuer,
    /// Something else.
    Other,
}

/// What is known of a fault besides.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum Detail {
    /// Nothing.
    #[default]
    Nothing,
    /// The words of the system, a library or a server; untrusted text.
    Words(String),
    /// The name service does not answer.
    NameServiceSilent,
    /// The name has no address.
    NoAddress,
    /// The server showed no certificate.
    NoCertificate,
    /// The certificate cannot be read.
    UnreadableCertificate,
    /// The bound that the answer passed, in bytes.
    Limit(usize),
    /// What answers is not encrypted: HTTP where TLS was begun.
    PlainHttp,
    /// The other server: its origin.
    To(String),
    /// The token has run out, and the service gave nothing to renew it with.
    NothingToRenewWith,
    /// The sign-in service's answer.
    SignIn(OAuthError),
}

impl From<String> for Detail {
    fn from(words: String) -> Self {
        Self::Words(words)
    }
}

/// With what an account signs in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum SignInKind {
    /// With nothing.
    #[default]
    Nothing,
    /// With a user name and a password.
    Password,
    /// With a token.
    Token,
}

/// No answer: which fault, where, and what is known besides. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
pub struct TransportError {
    /// What happened.
    pub fault: TransportFault,
    /// The host, with its port where it is not the usual one.
    pub host: String,
    /// What is known besides.
    pub detail: Detail,
    /// What is wrong with the certificate, where that is the fault.
    pub certificate: Option<CertificateFault>,
    /// The proxy on the way, if any: host and port.
    pub proxy: Option<String>,
}

impl TransportError {
    /// Makes an error; `host` with its port where it is not the usual one.
    #[must_use]
    pub fn new(fault: TransportFault, host: impl Into<String>, detail: impl Into<Detail>) -> Self {
        let detail = match detail.into() {
            // What a TLS library says of an answer that is none of TLS.
            Detail::Words(words) if fault == TransportFault::Tls && words.contains("InvalidContentType") => {
                Detail::PlainHttp
            }
            detail => detail,
        };
        Self { fault, host: host.into(), detail, certificate: None, proxy: None }
    }

    /// Returns what helps.
    #[must_use]
    pub fn class(&self) -> Class {
        match self.fault {
            TransportFault::Timeout | TransportFault::Broken => Class::OutcomeUnknown,
            TransportFault::Resolve | TransportFault::Connect => Class::Retry,
            TransportFault::TooLarge => Class::TooLarge,
            TransportFault::SignInEnded => Class::Credentials,
            TransportFault::UnsendableSecret | TransportFault::SignInElsewhere => Class::Credentials,
            TransportFault::Tls
            | TransportFault::Redirect
            | TransportFault::Downgrade
            | TransportFault::WriteElsewhere
            | TransportFault::PlainHttp
            | TransportFault::Stopped => Class::Unsupported,
        }
    }
}

/// Why no token was given. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum OAuthError {
    /// The grant is not valid: a refresh token that was revoked or has run out, a code that was used. The service's
    /// words; untrusted text.
    Revoked(Option<String>),
    /// The person has not answered yet (RFC 8628, 3.5).
    Pending,
    /// As [`Self::Pending`], and it was asked too often.
    SlowDown,
    /// The person said no.
    Denied,
    /// The person took too long.
    Expired,
    /// Another error that the server names; untrusted text.
    Refused(String),
    /// The answer lacks something that must stand in it (RFC 6749, 5.1; RFC 8628, 3.2).
    Lacks(String),
    /// The answer is no JSON object, or names neither a token nor an error.
    NotOAuth {
        /// The HTTP status.
        status: u16,
    },
}

/// Why a text is no XML that can be used. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum XmlError {
    /// Bytes that are not UTF-8.
    NotUtf8,
    /// A control character, which XML does not allow (XML 1.0, 2.2).
    ControlCharacter,
    /// The parser's words; untrusted text.
    NotWellFormed(String),
    /// A bound was passed.
    TooMuch(XmlBound, usize),
    /// Text outside any element.
    NoXml,
    /// A document type, which CalDAV has no use for.
    DocumentType,
    /// It was cut off.
    EndsEarly,
    /// A reference that names no character; untrusted text.
    BadReference(String),
}

/// Why connections cannot even be prepared. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{self:?}")]
#[non_exhaustive]
pub enum SetupError {
    /// The proxy's address cannot be understood.
    Proxy,
    /// The file of certificate authorities holds none.
    NoAuthority,
    /// The client certificate is not a certificate and its key in PEM.
    Certificate,
    /// Something else, in the library's words.
    Other(String),
}

/// What there is too much of in an XML text.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum XmlBound {
    /// Elements inside one another.
    Depth,
    /// Attributes of one element.
    Attributes,
    /// Names of namespaces that hold at one place.
    Namespaces,
    /// Bytes of a name.
    Name,
    /// Elements of one response.
    Elements,
    /// Bytes of one response.
    Bytes,
    /// Responses.
    Responses,
}
