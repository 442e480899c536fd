//! `[account.NAME]`: a login at a CalDAV server.

use std::path::PathBuf;

use chestnut_caldav::SignInOrigin;
use jiff::SignedDuration;
use url::Url;

use super::reader::Section;
use super::secrets::{SecretSource, secret_source};
use crate::failure::Failure;
use crate::words::{Problem, keys};

/// `[account.NAME]`
#[derive(Debug, Clone)]
pub(crate) struct AccountSettings {
    pub(crate) start: Start,
    pub(crate) user: Option<String>,
    pub(crate) sign_in: SignInSettings,
    pub(crate) ca: Option<PathBuf>,
    pub(crate) certificate: Option<PathBuf>,
    pub(crate) certificate_key: Option<PathBuf>,
    pub(crate) proxy: Option<ProxySettings>,
    pub(crate) timeout: SignedDuration,
    pub(crate) patience: SignedDuration,
    /// How long before its end a certificate of the server is told of.
    pub(crate) warn_before: SignedDuration,
    /// The largest answer, in megabytes.
    pub(crate) max_download: usize,
    pub(crate) at_once: usize,
    pub(crate) plain_http: bool,
    /// Where else the sign-in may go, as it is written.
    pub(crate) sign_in_also_at: Vec<String>,
}

impl AccountSettings {
    /// An account of which nothing but this was said.
    pub(crate) fn new(start: Start, user: Option<String>, sign_in: SignInSettings) -> Self {
        Self {
            start,
            user,
            sign_in,
            ca: None,
            certificate: None,
            certificate_key: None,
            proxy: None,
            timeout: SignedDuration::from_secs(30),
            patience: SignedDuration::from_secs(60),
            warn_before: SignedDuration::from_hours(14 * 24),
            max_download: MAX_DOWNLOAD,
            at_once: 4,
            plain_http: false,
            sign_in_also_at: Vec::new(),
        }
    }
}

impl AccountSettings {
    /// Tells whether the sign-in may go to an address: on the account's own server, or where a person has allowed it.
    pub(super) fn may_sign_in_at(&self, url: &Url) -> bool {
        let mut also = self.sign_in_also_at.iter().filter_map(|origin| SignInOrigin::parse(origin));
        self.start.url.origin() == url.origin() || also.any(|origin| origin.is_of(url))
    }
}

/// The largest answer, in megabytes, where nothing else is said.
pub(super) const MAX_DOWNLOAD: usize = 64;

/// The largest answer that may come, in megabytes.
pub(super) fn max_download(section: &Section<'_>) -> Result<Option<usize>, Failure> {
    let number = section.number("max-download")?;
    match number.filter(|number| !(1..=1024).contains(number)) {
        Some(_) => Err(section.wrong("max-download", Problem::NotBetween(1, 1024))),
        None => Ok(number),
    }
}

/// Where the search for calendars begins.
#[derive(Debug, Clone)]
pub(crate) struct Start {
    pub(crate) url: Url,
    /// Only a host or a domain was given: the name service may know of another server for it (RFC 6764).
    pub(crate) is_bare: bool,
}

/// How an account signs in.
#[derive(Debug, Clone)]
pub(crate) enum SignInSettings {
    Nobody,
    Password(SecretSource),
    Token(SecretSource),
    OAuth(Box<OAuthSettings>),
}

/// `oauth = { … }`
#[derive(Debug, Clone)]
pub(crate) struct OAuthSettings {
    pub(crate) client_id: String,
    pub(crate) client_secret: Option<SecretSource>,
    pub(crate) authorize_url: Url,
    pub(crate) token_url: Url,
    pub(crate) device_url: Option<Url>,
    pub(crate) scopes: Vec<String>,
    /// Where tokens are kept; a file beside the configuration where nothing is said.
    pub(crate) keep: Option<SecretSource>,
}

/// `proxy = "…"` or `proxy = { url = "…", user = "…", password = { … } }`
#[derive(Debug, Clone)]
pub(crate) struct ProxySettings {
    /// `None` goes straight, whatever the environment says.
    pub(crate) url: Option<Url>,
    pub(crate) user: Option<String>,
    pub(crate) password: Option<SecretSource>,
}

/// Reads an address as people have it: with scheme or without, or a mail address, whose domain counts.
pub(crate) fn start(text: &str) -> Option<Start> {
    let text = text.trim();
    let with_scheme = if text.contains("://") { text.to_owned() } else { format!("https://{text}") };
    let mut url = Url::parse(&with_scheme).ok()?;
    // `office@packhouse.example`: the domain is what the name service knows.
    if !text.contains("://") && url.password().is_none() && !url.username().is_empty() && url.path() == "/" {
        url.set_username("").ok()?;
    }
    let is_web = matches!(url.scheme(), "http" | "https") && url.has_host();
    let is_bare =
        !text.contains("://") && url.path() == "/" && url.port().is_none() && url.domain().is_some();
    url.set_fragment(None);
    is_web.then_some(Start { url, is_bare })
}

pub(super) fn account(section: &Section<'_>) -> Result<AccountSettings, Failure> {
    section.allow_described(keys::ACCOUNT)?;
    let text = section.needed_text("url")?;
    let start = start(&text).ok_or_else(|| section.wrong("url", Problem::NotServer))?;
    if !start.url.username().is_empty() || start.url.password().is_some() {
        return Err(section.wrong("url", Problem::SignInInAccount));
    }
    let file = |key: &str| Ok::<_, Failure>(section.text(key)?.map(PathBuf::from));
    let (certificate, certificate_key) = (file("certificate")?, file("certificate-key")?);
    if certificate.is_none() && certificate_key.is_some() {
        return Err(section.missing("certificate"));
    }
    let user = section.text("user")?;
    let sign_in = sign_in(section, user.as_deref())?;
    let mut account = AccountSettings::new(start, user, sign_in);
    account.at_once = section.number("at-once")?.unwrap_or(account.at_once);
    if account.at_once == 0 || account.at_once > 64 {
        return Err(section.wrong("at-once", Problem::NotBetween(1, 64)));
    }
    account.max_download = max_download(section)?.unwrap_or(MAX_DOWNLOAD);
    account.patience = section.duration("patience")?.unwrap_or(account.patience);
    account.warn_before = section.duration("warn-before")?.unwrap_or(account.warn_before);
    account.timeout = section.duration("timeout")?.unwrap_or(account.timeout);
    Ok(AccountSettings {
        ca: file("ca")?,
        certificate,
        certificate_key,
        proxy: proxy(section)?,
        plain_http: section.flag("plain-http")?,
        sign_in_also_at: also_at(section)?,
        ..account
    })
}

/// Returns the first text that is no origin for a sign-in.
pub(crate) fn no_origin(texts: &[String]) -> Option<&String> {
    texts.iter().find(|text| SignInOrigin::parse(text).is_none())
}

fn also_at(section: &Section<'_>) -> Result<Vec<String>, Failure> {
    let texts = section.texts("sign-in-also-at")?.unwrap_or_default();
    match no_origin(&texts) {
        Some(text) => Err(section.wrong("sign-in-also-at", Problem::NotOrigin(text))),
        None => Ok(texts),
    }
}

fn sign_in(section: &Section<'_>, user: Option<&str>) -> Result<SignInSettings, Failure> {
    let password = secret(section, "password")?;
    let token = secret(section, "token")?;
    let oauth = section.section("oauth")?.map(|table| oauth(&table)).transpose()?;
    let given = [("password", password.is_some()), ("token", token.is_some()), ("oauth", oauth.is_some())];
    let mut given = given.iter().filter(|(_, is)| *is).map(|(key, _)| *key);
    if let (Some(one), Some(other)) = (given.next(), given.next()) {
        return Err(section.wrong(other, Problem::Excludes(one)));
    }
    match (password, token, oauth) {
        (Some(_), ..) if user.is_none() => Err(section.missing("user")),
        (Some(source), ..) => Ok(SignInSettings::Password(source)),
        (_, Some(source), _) => Ok(SignInSettings::Token(source)),
        (_, _, Some(oauth)) => Ok(SignInSettings::OAuth(Box::new(oauth))),
        _ if user.is_some() => Err(section.missing("password")),
        _ => Ok(SignInSettings::Nobody),
    }
}

/// A secret is never written down: the configuration says where it is kept.
pub(super) fn secret(section: &Section<'_>, key: &str) -> Result<Option<SecretSource>, Failure> {
    let table = section.section(key).map_err(|_| section.wrong(key, Problem::SecretItself(key)))?;
    table.map(|table| secret_source(&table)).transpose()
}

fn web_address(section: &Section<'_>, key: &str) -> Result<Option<Url>, Failure> {
    let Some(text) = section.text(key)? else { return Ok(None) };
    let url = Url::parse(&text).ok().filter(|url| matches!(url.scheme(), "http" | "https") && url.has_host());
    url.map(Some).ok_or_else(|| section.wrong(key, Problem::NotWebAddress))
}

fn oauth(section: &Section<'_>) -> Result<OAuthSettings, Failure> {
    section.allow_described(keys::OAUTH)?;
    let keep = secret(section, "keep")?;
    if !matches!(keep, None | Some(SecretSource::File(_) | SecretSource::Keyring(_))) {
        return Err(section.wrong("keep", Problem::NotKeep));
    }
    let needed = |key: &str| web_address(section, key)?.ok_or_else(|| section.missing(key));
    let oauth = OAuthSettings {
        client_id: section.needed_text("client-id")?,
        client_secret: secret(section, "client-secret")?,
        authorize_url: needed("authorize-url")?,
        token_url: needed("token-url")?,
        device_url: web_address(section, "device-url")?,
        scopes: section.texts("scopes")?.unwrap_or_default(),
        keep,
    };
    // Tokens are as good as passwords.
    for (key, url) in [("token-url", Some(&oauth.token_url)), ("device-url", oauth.device_url.as_ref())] {
        if url.is_some_and(|url| url.scheme() == "http" && !chestnut_caldav::is_loopback(url)) {
            return Err(section.wrong(key, Problem::TokensInTheClear));
        }
    }
    Ok(oauth)
}

fn proxy(section: &Section<'_>) -> Result<Option<ProxySettings>, Failure> {
    let inner = section.section("proxy").ok().flatten();
    let (url, place, user, password) = match &inner {
        None => (section.text("proxy")?, section, None, None),
        Some(table) => {
            table.allow(&["url", "user", "password"])?;
            (Some(table.needed_text("url")?), table, table.text("user")?, secret(table, "password")?)
        }
    };
    let key = if inner.is_some() { "url" } else { "proxy" };
    let Some(text) = url else { return Ok(None) };
    if text == "none" {
        return Ok(Some(ProxySettings { url: None, user: None, password: None }));
    }
    let url = Url::parse(&text).ok().filter(|url| matches!(url.scheme(), "http" | "https") && url.has_host());
    let url = url.ok_or_else(|| place.wrong(key, Problem::NotProxy))?;
    if !url.username().is_empty() || url.password().is_some() {
        return Err(place.wrong(key, Problem::SignInInProxy));
    }
    if user.is_some() != password.is_some() {
        return Err(place.missing(if user.is_some() { "password" } else { "user" }));
    }
    Ok(Some(ProxySettings { url: Some(url), user, password }))
}
