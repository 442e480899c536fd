//! What changed since a token (RFC 6578).

use chestnut_core::{ETag, ObjectHref, SyncToken};
use url::Url;

use super::listing::{Listed, is_collection, same_collection};
use super::multistatus::Multistatus;
use super::{DAV, HEAD, NAMESPACES, canonical_path, escape_xml, href_of, within, xml_request};
use crate::error::{Asked, DavError};
use crate::transport::{Answer, Request};

/// What a server says to a sync report.
#[derive(Debug, Clone)]
pub enum SyncAnswer {
    /// What changed.
    Changes {
        /// New and changed entries. Some servers repeat the last change.
        changed: Vec<Listed>,
        /// Entries that are gone; some were never seen.
        removed: Vec<ObjectHref>,
        /// The token to ask with next.
        token: Option<SyncToken>,
        /// There is more: ask again with the token (RFC 6578, 3.6).
        more: bool,
        /// The server's clock, in seconds since 1970.
        date: Option<i64>,
    },
    /// The token is too old, unknown, or of another server: list afresh. Nothing is gone because of it.
    TokenRefused,
    /// This calendar answers no sync reports.
    Unsupported,
}

/// Asks what changed since `token`. No limit is asked for: servers cut what they like to cut, and some lose
/// changes when they are asked to.
#[must_use]
pub fn sync_report(calendar: &Url, token: &SyncToken) -> Request {
    let body = format!(
        "{HEAD}<d:sync-collection {NAMESPACES}><d:sync-token>{}</d:sync-token><d:sync-level>1</d:sync-level>\
<d:prop><d:getetag/></d:prop></d:sync-collection>",
        escape_xml(token.as_str())
    );
    // RFC 6578 says Depth: 0; some servers answer nothing without 1, and level 1 makes them the same.
    xml_request("REPORT", calendar.clone(), "1", body)
}

/// Reads an answer to [`sync_report`].
///
/// # Errors
/// No answer that can be understood: nothing may be concluded from it.
pub fn read_sync(answer: &Answer, calendar: &Url) -> Result<SyncAnswer, DavError> {
    match answer.status {
        400 | 403 | 409 | 410 | 412 | 507 => {
            let text = String::from_utf8_lossy(&answer.body);
            let unsupported = text.contains("supported-report");
            return Ok(if unsupported { SyncAnswer::Unsupported } else { SyncAnswer::TokenRefused });
        }
        405 | 415 | 501 => return Ok(SyncAnswer::Unsupported),
        _ => {}
    }
    let folder = canonical_path(calendar);
    let (mut changed, mut removed, mut more, mut is_gone) = (Vec::new(), Vec::new(), false, false);
    let token = Multistatus::each(answer, Asked::SyncReport, |response| {
        let Some(href) = href_of(&response.href, calendar) else { return };
        if response.status == Some(507) {
            more = true;
        } else if same_collection(&folder, href.as_str()) {
            is_gone |= response.is_gone();
        } else if response.is_gone() {
            removed.push(within(href, &folder));
        } else if !is_collection(&response) {
            let etag = response.text(DAV, "getetag").map(ETag::from_header);
            changed.push(Listed { href: within(href, &folder), etag });
        }
    })?;
    if is_gone {
        return Err(DavError::NotFound { url: Box::new(calendar.clone()), status: 404 });
    }
    let token = token.map(SyncToken::from);
    // RFC 6578, 3.2: a report has a token. One that has none says nothing that could be relied on.
    if token.is_none() {
        return Ok(SyncAnswer::TokenRefused);
    }
    Ok(SyncAnswer::Changes { changed, removed, token, more, date: answer.date() })
}
