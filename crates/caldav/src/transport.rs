//! Requests and answers as values, and whoever carries them.

use std::future::Future;
use std::pin::Pin;

use http::HeaderMap;
use url::Url;

use crate::class::Class;

/// One request, complete but for the sign-in.
#[derive(Debug, Clone)]
pub struct Request {
    /// The method, such as `PROPFIND`.
    pub method: &'static str,
    /// Where it goes.
    pub url: Url,
    /// Headers besides those that the transport sets.
    pub headers: Vec<(&'static str, String)>,
    /// The body; empty for none.
    pub body: String,
}

/// One whole answer.
#[derive(Debug, Clone)]
pub struct Answer {
    /// The HTTP status.
    pub status: u16,
    /// The headers.
    pub headers: HeaderMap,
    /// The body, decompressed.
    pub body: Vec<u8>,
    /// Where the answer came from, after redirects.
    pub url: Url,
}

impl Answer {
    /// Returns a header as text, where it is text.
    #[must_use]
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name)?.to_str().ok()
    }

    /// Returns the server's clock, in seconds since 1970 (RFC 9110, 6.6.1).
    #[must_use]
    pub fn date(&self) -> Option<i64> {
        let at = httpdate::parse_http_date(self.header("date")?).ok()?;
        at.duration_since(std::time::UNIX_EPOCH).ok().map(|d| d.as_secs() as i64)
    }
}

/// How a request got no answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
    /// The run was asked to stop.
    Stopped,
    /// The token of the sign-in has run out or was revoked, and no new one is given.
    SignInEnded,
}

/// What is wrong with a certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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

/// No answer: which fault, where, and the library's words for it.
#[derive(Debug, Clone, thiserror::Error)]
#[error("{}", self.sentence())]
pub struct TransportError {
    /// What happened.
    pub fault: TransportFault,
    /// The host, with its port where it is not the usual one.
    pub host: String,
    /// More words, for people who look closer.
    pub detail: String,
    /// What is wrong with the certificate, where that is the fault.
    pub certificate: Option<CertificateFault>,
    /// The proxy on the way, if any: host and port.
    pub proxy: Option<String>,
}

impl TransportError {
    /// Makes an error; `host` with its port where it is not the usual one.
    #[must_use]
    pub fn new(fault: TransportFault, host: impl Into<String>, detail: impl Into<String>) -> Self {
        Self { fault, host: host.into(), detail: detail.into(), certificate: None, proxy: None }
    }

    fn sentence(&self) -> String {
        let through = self.proxy.as_ref().map(|proxy| format!(", through the proxy {proxy}"));
        format!("{}{}", self.plain_sentence(), through.unwrap_or_default())
    }

    fn plain_sentence(&self) -> String {
        let Self { fault, host, detail, .. } = self;
        if let Some(fault) = self.certificate {
            let what = match fault {
                CertificateFault::Expired => "has expired",
                CertificateFault::NotYetValid => "is not valid yet",
                CertificateFault::WrongName => "is made out to another name",
                CertificateFault::UnknownIssuer => "is signed by nobody whom this machine trusts",
                CertificateFault::Other => "is not accepted",
            };
            return format!("the certificate of {host} {what} ({detail})");
        }
        match fault {
            TransportFault::Resolve => format!("the host name {host} is not known"),
            TransportFault::Connect => format!("nothing answers at {host} ({detail})"),
            TransportFault::Tls => format!("no secure connection to {host} ({detail})"),
            TransportFault::Timeout => format!("{host} did not answer in time"),
            TransportFault::Broken => {
                format!("the connection to {host} broke before the answer was complete")
            }
            TransportFault::Redirect => format!("{host} redirects in a circle or to nowhere"),
            TransportFault::TooLarge => format!("the answer of {host} is larger than the limit {detail}"),
            TransportFault::PlainHttp => format!("a password would travel unencrypted to {host}"),
            TransportFault::Stopped => "stopped".to_owned(),
            TransportFault::SignInEnded => format!("the sign-in at {host} is no longer valid ({detail})"),
        }
    }

    /// Returns what helps.
    #[must_use]
    pub fn class(&self) -> Class {
        match self.fault {
            TransportFault::Timeout | TransportFault::Broken => Class::OutcomeUnknown,
            TransportFault::Resolve | TransportFault::Connect => Class::Retry,
            TransportFault::TooLarge => Class::TooLarge,
            TransportFault::SignInEnded => Class::Credentials,
            TransportFault::Tls
            | TransportFault::Redirect
            | TransportFault::PlainHttp
            | TransportFault::Stopped => Class::Unsupported,
        }
    }
}

/// Tells whether an address is this machine's own.
#[must_use]
pub fn is_loopback(url: &Url) -> bool {
    match url.host() {
        Some(url::Host::Ipv4(ip)) => ip.is_loopback(),
        Some(url::Host::Ipv6(ip)) => ip.is_loopback(),
        Some(url::Host::Domain(name)) => name.eq_ignore_ascii_case("localhost"),
        None => false,
    }
}

/// Carries a request to a server and the answer back.
///
/// It signs in, follows redirects with the method kept, and never sends the password on to another origin. It
/// does not retry: that is the client's decision.
pub trait Transport {
    /// Sends one request; the answer is whole, or it is an error.
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>>;
}
