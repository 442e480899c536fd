//! Requests and answers as values, and whoever carries them.

use std::future::Future;
use std::pin::Pin;

use http::HeaderMap;
use url::Url;

use crate::error::{SignInKind, TransportError};

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
    /// With what the account signs in that asked.
    pub sign_in: SignInKind,
}

impl Answer {
    /// Returns a header as text, where it is text.
    #[must_use]
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name)?.to_str().ok()
    }

    /// Returns the server's clock, in seconds since 1970 (RFC 9110, 6.6.1). What a cache gives again says how long it was
    /// kept there (RFC 9111, 5.1).
    #[must_use]
    pub fn date(&self) -> Option<i64> {
        let at = httpdate::parse_http_date(self.header("date")?).ok()?;
        let at = i64::try_from(at.duration_since(std::time::UNIX_EPOCH).ok()?.as_secs()).ok()?;
        let age = self.header("age").and_then(|age| age.trim().parse::<u32>().ok()).unwrap_or_default();
        at.checked_add(age.into())
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
