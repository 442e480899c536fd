//! What is asked, what is answered, and by whom.

use percent_encoding::percent_decode_str;

/// A request as a server sees it.
#[derive(Debug, Clone, Default)]
pub struct ServerRequest {
    /// The method.
    pub method: String,
    /// The path as sent, escapes and all, with the query.
    pub path: String,
    /// Headers; names in lower case.
    pub headers: Vec<(String, String)>,
    /// The body.
    pub body: Vec<u8>,
}

/// A response, and what happens to it on the way.
#[derive(Debug, Clone, Default)]
pub struct Reply {
    /// The status.
    pub status: u16,
    /// Headers.
    pub headers: Vec<(&'static str, String)>,
    /// The body.
    pub body: Vec<u8>,
    /// The connection breaks instead of this answer.
    pub lost: bool,
    /// Only half of the body is sent.
    pub half: bool,
    /// It is sent so many milliseconds late.
    pub delay_ms: u64,
}

impl ServerRequest {
    /// Returns a header.
    #[must_use]
    pub fn header(&self, name: &str) -> Option<&str> {
        self.headers.iter().find(|(key, _)| key == name).map(|(_, value)| value.as_str())
    }

    /// Returns the path without escapes and query.
    #[must_use]
    pub fn decoded_path(&self) -> String {
        let path = self.path.split('?').next().unwrap_or_default();
        percent_decode_str(path).decode_utf8_lossy().into_owned()
    }
}

impl Reply {
    pub(crate) fn status(status: u16) -> Self {
        Self { status, ..Self::default() }
    }

    pub(crate) fn with(mut self, name: &'static str, value: impl Into<String>) -> Self {
        self.headers.push((name, value.into()));
        self
    }

    pub(crate) fn body(mut self, content_type: &str, body: impl Into<Vec<u8>>) -> Self {
        self.body = body.into();
        self.with("Content-Type", content_type)
    }

    pub(crate) fn xml(status: u16, body: impl Into<Vec<u8>>) -> Self {
        Self::status(status).body("application/xml; charset=utf-8", body)
    }
}

/// What a user may do with a calendar.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Access {
    None,
    Read,
    Write,
}
