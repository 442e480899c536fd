//! Fetching a feed: conditional GET (RFC 9110, 13.1), `webcal:` addresses.

use chestnut_core::{SyncToken, hex};
use sha2::{Digest, Sha256};
use url::Url;

use super::multistatus::{check_status, describe};
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// How a server names one state of a feed; kept between runs as one text.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Validators {
    /// Its ETag, as it came.
    etag: Option<String>,
    /// Its Last-Modified, as it came.
    modified: Option<String>,
    /// A hash of the body: some servers send another text under an old name.
    hash: Option<String>,
}

/// What came of asking for a feed.
#[derive(Debug, Clone)]
pub enum FeedAnswer {
    /// It is as it was (304).
    Unchanged,
    /// Its text.
    Text(FeedText),
}

/// A feed's text, and what came with it.
#[derive(Debug, Clone)]
pub struct FeedText {
    /// The bytes, decompressed.
    pub body: Vec<u8>,
    /// The encoding that the server names.
    pub charset: Option<String>,
    /// How the server names this state.
    pub validators: Validators,
    /// The server's clock, in seconds since 1970, where the state is named by a time that counts seconds.
    pub date: Option<i64>,
}

impl Validators {
    /// Returns one text for all of them.
    #[must_use]
    pub fn to_token(&self) -> SyncToken {
        let line = |letter: char, value: &Option<String>| value.as_ref().map(|v| format!("{letter} {v}"));
        let lines = [line('e', &self.etag), line('m', &self.modified), line('h', &self.hash)];
        SyncToken::from(lines.into_iter().flatten().collect::<Vec<_>>().join("\n"))
    }

    /// Reads what [`Self::to_token`] wrote.
    #[must_use]
    pub fn of_token(token: &SyncToken) -> Self {
        let value = |letter: char| {
            let mut lines = token.as_str().lines().filter_map(|line| line.split_once(' '));
            lines.find(|(l, _)| l.starts_with(letter)).map(|(_, value)| value.to_owned())
        };
        Self { etag: value('e'), modified: value('m'), hash: value('h') }
    }
}

/// Turns `webcal:` and `webcals:` into `https:`, which is what they stand for.
#[must_use]
pub fn feed_address(text: &str) -> Option<Url> {
    let lower = text.to_ascii_lowercase();
    let rest = ["webcals://", "webcal://"].iter().find(|s| lower.starts_with(**s)).map(|s| &text[s.len()..]);
    let url = Url::parse(&rest.map_or_else(|| text.to_owned(), |rest| format!("https://{rest}"))).ok()?;
    (matches!(url.scheme(), "http" | "https") && url.has_host()).then_some(url)
}

/// Asks for a feed, unless it is as `known` names it.
#[must_use]
pub fn get_feed(url: &Url, known: Option<&Validators>) -> Request {
    let mut headers = vec![("Accept", "text/calendar, */*;q=0.1".to_owned())];
    let header = |name, value: Option<&String>| value.map(|value| (name, value.clone()));
    headers.extend(header("If-None-Match", known.and_then(|k| k.etag.as_ref())));
    headers.extend(header("If-Modified-Since", known.and_then(|k| k.modified.as_ref())));
    Request { method: "GET", url: url.clone(), headers, body: String::new() }
}

/// Reads the answer to [`get_feed`]. Whether the text is a calendar is for the reader to say.
///
/// # Errors
/// Anything but a whole text, or the word that nothing changed.
pub fn read_feed(answer: Answer, asked: Option<&Validators>) -> Result<FeedAnswer, DavError> {
    if answer.status == 304 && asked.is_some_and(|k| k.etag.is_some() || k.modified.is_some()) {
        return Ok(FeedAnswer::Unchanged);
    }
    check_status(&answer, Asked::Feed, &[200, 203]).map_err(|error| match error {
        DavError::NotCalDav { .. } => DavError::NotAFeed { instead: describe(&answer) },
        // A feed's address is often a secret.
        DavError::NotFound { status, .. } => {
            DavError::Status { asked: Asked::Feed, status, detail: None, retry_after: None }
        }
        error => error,
    })?;
    let header = |name| answer.header(name).map(|v| v.trim().to_owned()).filter(|v| !v.is_empty());
    let (etag, modified) = (header("etag"), header("last-modified"));
    let hash = Some(hex(&Sha256::digest(&answer.body)[..16]));
    Ok(FeedAnswer::Text(FeedText {
        charset: header("content-type").and_then(|t| charset(&t)),
        date: answer.date().filter(|_| etag.is_none() && modified.is_some()),
        validators: Validators { etag, modified, hash },
        body: answer.body,
    }))
}

fn charset(content_type: &str) -> Option<String> {
    let parameters = content_type.split(';').skip(1).filter_map(|p| p.split_once('='));
    let mut named = parameters.filter(|(key, _)| key.trim().eq_ignore_ascii_case("charset"));
    named.next().map(|(_, value)| value.trim().trim_matches('"').to_owned())
}
