//! The 207 answer (RFC 4918, 13), with the additions of RFC 6578.

use url::Url;

use super::DAV;
use super::xml::{Element, parse_xml, parse_xml_by};
use crate::auth::challenges;
use crate::error::{Asked, DavError, Instead};
use crate::limits::quote;
use crate::transport::Answer;

/// A 207 answer.
#[derive(Debug, Clone)]
pub struct Multistatus {
    /// One per resource.
    pub responses: Vec<PropResponse>,
    /// The token of a sync report (RFC 6578, 6.4).
    pub sync_token: Option<String>,
}

/// What a 207 says of one resource.
#[derive(Debug, Clone)]
pub struct PropResponse {
    /// The href as the server wrote it.
    pub href: String,
    /// The status of the whole resource, where one is given.
    pub status: Option<u16>,
    /// The properties that were found (their propstat says 2xx, or nothing).
    pub found: Vec<Element>,
    /// Names of conditions that failed.
    pub errors: Vec<String>,
}

impl PropResponse {
    /// Returns a property that was found.
    #[must_use]
    pub fn prop(&self, namespace: &str, name: &str) -> Option<&Element> {
        self.found.iter().find(|e| e.is(namespace, name))
    }

    /// Returns the text of a property, trimmed; `None` where it is missing or empty.
    #[must_use]
    pub fn text(&self, namespace: &str, name: &str) -> Option<&str> {
        self.prop(namespace, name).map(|e| e.text.trim()).filter(|t| !t.is_empty())
    }

    /// Tells whether the server says that nothing is here.
    #[must_use]
    pub fn is_gone(&self) -> bool {
        matches!(self.status, Some(404 | 410))
    }
}

impl Multistatus {
    /// Reads a 207, or says what came instead.
    ///
    /// # Errors
    /// Another status, or no multistatus document.
    pub fn read(answer: &Answer, asked: Asked) -> Result<Self, DavError> {
        let mut responses = Vec::new();
        let sync_token = Self::each(answer, asked, |response| responses.push(response))?;
        Ok(Self { responses, sync_token })
    }

    /// Reads a 207 response by response, so that a long one need not be held; returns its token.
    ///
    /// # Errors
    /// Another status, or no multistatus document: nothing may be concluded from the responses before it then.
    pub fn each(
        answer: &Answer,
        asked: Asked,
        mut each: impl FnMut(PropResponse),
    ) -> Result<Option<String>, DavError> {
        check_status(answer, asked, &[207])?;
        let root = parse_xml_by(&answer.body, &mut |element| {
            if !element.is(DAV, "response") {
                return Some(element);
            }
            if let Some(response) = response(element) {
                each(response);
            }
            None
        });
        let root = root.map_err(|e| not_caldav(answer, asked, Instead::Xml(e)))?;
        if !root.is(DAV, "multistatus") {
            return Err(not_caldav(answer, asked, Instead::Root(quote(&root.name))));
        }
        Ok(root.child_text(DAV, "sync-token").map(str::to_owned))
    }
}

fn response(element: Element) -> Option<PropResponse> {
    // Only the response's own href: properties hold hrefs of owners and principals.
    let href = element.child_text(DAV, "href")?.to_owned();
    let errors = element.child(DAV, "error").map(|e| e.children.iter().map(|c| c.name.clone()).collect());
    let status = element.child_text(DAV, "status").and_then(status_code);
    let mut found = Vec::new();
    for propstat in element.children.into_iter().filter(|child| child.is(DAV, "propstat")) {
        let status = propstat.child_text(DAV, "status").and_then(status_code);
        if status.is_none_or(|code| (200..300).contains(&code)) {
            let props = propstat.children.into_iter().filter(|child| child.is(DAV, "prop"));
            found.extend(props.flat_map(|prop| prop.children));
        }
    }
    Some(PropResponse { href, status, found, errors: errors.unwrap_or_default() })
}

/// `HTTP/1.1 404 Not Found`
fn status_code(line: &str) -> Option<u16> {
    line.split_whitespace().nth(1)?.parse().ok()
}

/// Turns a status that was not asked for into an error.
pub(crate) fn check_status(answer: &Answer, asked: Asked, good: &[u16]) -> Result<(), DavError> {
    match answer.status {
        status if good.contains(&status) => Ok(()),
        401 => Err(refused_sign_in(answer)),
        403 => Err(DavError::Forbidden { asked }),
        status @ (404 | 410) => Err(DavError::NotFound { url: Box::new(answer.url.clone()), status }),
        200..300 => Err(not_caldav(answer, asked, describe(answer))),
        status => Err(DavError::Status {
            asked,
            status,
            detail: server_words(answer),
            retry_after: crate::retry_policy::retry_after(answer).map(|d| d.as_secs()),
        }),
    }
}

/// What a 401 says.
pub(crate) fn refused_sign_in(answer: &Answer) -> DavError {
    DavError::SignIn { offered: offered_schemes(answer), sent: answer.sign_in }
}

pub(crate) fn not_caldav(answer: &Answer, asked: Asked, instead: Instead) -> DavError {
    let instead = if looks_like_html(answer) { Instead::WebPage } else { instead };
    DavError::NotCalDav { url: Box::new(answer.url.clone()), asked, instead }
}

fn looks_like_html(answer: &Answer) -> bool {
    let head: Vec<u8> = answer.body.iter().take(512).map(u8::to_ascii_lowercase).collect();
    let head = String::from_utf8_lossy(&head);
    head.contains("<html") || head.contains("<!doctype html")
}

/// The ways to sign in that an answer offers, in lower case: the first word of each challenge.
pub(crate) fn offered_schemes(answer: &Answer) -> Vec<String> {
    let headers = answer.headers.get_all("www-authenticate").iter().filter_map(|h| h.to_str().ok());
    headers.flat_map(challenges).map(|challenge| challenge.scheme).take(8).collect()
}

/// Says what an unexpected success is.
pub(super) fn describe(answer: &Answer) -> Instead {
    let status = answer.status;
    if answer.body.is_empty() {
        return Instead::Nothing { status };
    }
    let content_type = answer.header("content-type").map(|t| quote(t.split(';').next().unwrap_or(t)));
    Instead::Format { content_type, status }
}

/// The server's own words for a refusal: a failed condition by name, or a short text.
pub(crate) fn server_words(answer: &Answer) -> Option<String> {
    if let Ok(root) = parse_xml(&answer.body) {
        let names: Vec<_> = root.children.iter().take(8).map(|c| quote(&c.name)).collect();
        let text = root.children.iter().map(|c| c.text.trim()).find(|t| !t.is_empty());
        return match (names.is_empty(), text) {
            (true, _) => None,
            (false, None) => Some(quote(&names.join(", "))),
            (false, Some(text)) => Some(quote(&format!("{}: {text}", names.join(", ")))),
        };
    }
    let text = std::str::from_utf8(&answer.body).ok()?.trim();
    (!text.is_empty() && !looks_like_html(answer)).then(|| quote(text))
}

/// Resolves the hrefs inside a property, such as `calendar-home-set`.
pub(crate) fn hrefs_in(property: &Element, base: &Url) -> Vec<Url> {
    let texts = property.all(DAV, "href").map(|h| h.text.trim());
    texts.filter(|t| !t.is_empty()).filter_map(|t| base.join(t).ok()).collect()
}
