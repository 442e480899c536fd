//! The way from an address to the calendars, step by step: what was seen at each, how long it took, and at the
//! first that fails what to do.

use std::cell::{Cell, RefCell};
use std::path::Path;
use std::rc::Rc;
use std::time::Duration;

use chestnut_caldav::connection_check::{CertificateFacts, connect, look_at_certificate, resolve};
use chestnut_caldav::protocol::{DiscoveryStage, Found};
use chestnut_caldav::{
    Answer, Client, ClientOptions, DavError, Detail, HttpOptions, HttpTransport, SignIn, TransportError,
    TransportFault,
};
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use tokio::time::Instant;
use url::Url;

use crate::environment::Environment;
use crate::failure::Failure;
use crate::settings::{AccountSettings, ResolvedStart, default_resolver, http_options};
use crate::words::{
    InWords as _, NO_PRINCIPAL, PLAIN_HTTP, TRUSTED_THROUGH_PROXY, account_step_failed, another_domain,
    answers, calendars_are_at, calendars_are_elsewhere, calendars_found, cannot_be_reached,
    certificate_advice, certificate_ends, certificate_words, check_proxy, clocks_differ, dav_hint,
    host_words, sends_on, server_words, signed_in_words,
};

/// Clocks may differ by so much before people are told.
const CLOCKS_DIFFER: SignedDuration = SignedDuration::from_mins(10);
/// Certificates that end sooner are mentioned.
const ENDS_SOON: SignedDuration = SignedDuration::from_hours(24 * 21);

/// One step.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Step {
    pub(crate) step: &'static str,
    pub(crate) ok: bool,
    /// What was seen; untrusted text.
    pub(crate) seen: String,
    /// Something that works, and still should be known; untrusted text.
    pub(crate) note: Option<String>,
    /// The host that was talked to, or asked about.
    pub(crate) host: String,
    pub(crate) milliseconds: u64,
}

/// What a look at an account came to.
#[derive(Debug)]
pub(crate) struct Checked {
    pub(crate) steps: Vec<Step>,
    /// Where the search began, after asking the name service.
    pub(crate) url: Url,
    /// Another server that wants the sign-in: its origin.
    pub(crate) elsewhere: Option<String>,
    /// What was found, or why nothing.
    pub(crate) outcome: Result<Found, Failure>,
}

struct Check<'c> {
    name: &'c str,
    account: &'c AccountSettings,
    options: HttpOptions,
    url: Url,
    now: Timestamp,
    /// `None` where times must not show.
    since: Option<Cell<Instant>>,
    steps: Vec<Step>,
    certificate: Option<CertificateFacts>,
    elsewhere: Option<String>,
}

/// Looks at an account.
///
/// # Errors
/// Its secrets or files cannot be read.
pub(crate) async fn check_account(
    name: &str,
    account: &AccountSettings,
    base: &Path,
    environment: &Environment,
) -> Result<Checked, Failure> {
    let options = HttpOptions { looks_elsewhere: true, ..http_options(name, account, base, environment)? };
    let since = (!environment.clock_is_fixed()).then(|| Cell::new(Instant::now()));
    let mut check = Check {
        name,
        account,
        options,
        url: account.start.url.clone(),
        now: environment.now()?,
        since,
        steps: Vec::new(),
        certificate: None,
        elsewhere: None,
    };
    let outcome = match check.find_start(default_resolver(environment)?).await {
        Ok(()) => check.go().await,
        Err(failure) => Err(failure),
    };
    Ok(Checked { steps: check.steps, url: check.url, elsewhere: check.elsewhere, outcome })
}

impl Check<'_> {
    fn passed(&self) -> u64 {
        let Some(since) = &self.since else { return 0 };
        let now = Instant::now();
        u64::try_from(now.duration_since(since.replace(now)).as_millis()).unwrap_or(u64::MAX)
    }

    fn push(&mut self, step: &'static str, ok: bool, seen: String, note: Option<String>) {
        let (milliseconds, host) = (self.passed(), host_of(&self.url));
        self.steps.push(Step { step, ok, seen, note, host, milliseconds });
    }

    fn seen(&mut self, step: &'static str, seen: impl Into<String>) {
        self.seen_with(step, seen, None);
    }

    fn seen_with(&mut self, step: &'static str, seen: impl Into<String>, note: Option<String>) {
        self.push(step, true, seen.into(), note);
    }

    fn failed(&mut self, step: &'static str, error: &DavError, hint: String) -> Failure {
        if let DavError::Transport(TransportError {
            fault: TransportFault::SignInElsewhere,
            detail: Detail::To(to),
            ..
        }) = error
        {
            self.elsewhere = Some(to.clone());
        }
        self.push(step, false, error.in_words(), None);
        account_step_failed(self.name, error, hint)
    }

    /// A bare host may have its calendars elsewhere (RFC 6764).
    async fn find_start(&mut self, resolver: Option<std::net::SocketAddr>) -> Result<(), Failure> {
        match ResolvedStart::of(&self.account.start, resolver).await {
            ResolvedStart::Given(_) => {}
            ResolvedStart::Service { domain, record, url } => {
                self.seen("records", calendars_are_at(&domain, &record));
                self.url = url;
            }
            ResolvedStart::Elsewhere { domain, record } => {
                let failure = another_domain(&format!("account {}", self.name), &domain, &record);
                let seen = calendars_are_elsewhere(&domain, &record);
                self.push("records", false, seen, None);
                return Err(Failure { code: crate::exit_code::ExitCode::Failed, ..failure });
            }
        }
        Ok(())
    }

    async fn go(&mut self) -> Result<Found, Failure> {
        self.look_at_connection().await?;
        let client = |sign_in: Option<SignIn>| {
            let mut options = self.options.clone();
            options.sign_in = sign_in.unwrap_or(options.sign_in);
            let transport = HttpTransport::new(options)
                .map_err(|e| cannot_be_reached(&format!("account {}", self.name), &e))?;
            Ok::<_, Failure>(Client::new(
                Rc::new(transport),
                ClientOptions { at_once: 1, retries: false, ..ClientOptions::default() },
            ))
        };
        let (stranger, client) = (client(Some(SignIn::Nobody))?, client(None)?);
        self.look_at_server(&stranger).await?;
        self.search(&client).await
    }

    async fn look_at_connection(&mut self) -> Result<(), Failure> {
        let limit = self.options.timeout.min(Duration::from_secs(10));
        let proxy = self.options.proxies.on_the_way_to(&self.url);
        let server = || {
            let host = self.url.host_str().unwrap_or_default().to_owned();
            (host, self.url.port_or_known_default().unwrap_or(443))
        };
        let (host, port) = proxy.clone().unwrap_or_else(server);
        let through = proxy.is_some();
        let found = match resolve(&host, port, limit).await {
            Ok(found) => found,
            Err(error) => return Err(self.no_way("name", error, proxy.is_some())),
        };
        let mut addresses: Vec<_> = found.iter().map(|a| a.ip().to_string()).collect();
        addresses.dedup();
        let is_name = host.trim_matches(['[', ']']).parse::<std::net::IpAddr>().is_err();
        self.seen("name", host_words(&host, is_name.then_some(&addresses[..]), through));
        let stream = match connect(&format!("{host}:{port}"), &found, limit).await {
            Ok(stream) => stream,
            Err(error) => return Err(self.no_way("connection", error, proxy.is_some())),
        };
        let peer = stream.peer_addr().map(|a| a.to_string()).unwrap_or_default();
        self.seen("connection", answers(&peer, through));
        if self.url.scheme() == "http" {
            self.seen("encryption", PLAIN_HTTP);
        } else if proxy.is_none() {
            match look_at_certificate(&host, stream, limit).await {
                Ok(facts) => self.certificate = Some(facts),
                Err(error) => return Err(self.no_way("encryption", error, false)),
            }
        }
        Ok(())
    }

    fn no_way(&mut self, step: &'static str, mut error: TransportError, is_proxy: bool) -> Failure {
        let hint =
            if is_proxy { check_proxy(self.name) } else { self.hint(&DavError::Transport(error.clone())) };
        error.proxy = None;
        self.failed(step, &DavError::Transport(error), hint)
    }

    /// Asks without signing in: is the certificate trusted, is this a calendar server, what time is it there.
    async fn look_at_server(&mut self, stranger: &Client) -> Result<(), Failure> {
        let answer = stranger.options(&self.url).await;
        let is_tls = |e: &DavError| matches!(e, DavError::Transport(e) if e.fault == TransportFault::Tls);
        if self.url.scheme() == "https" {
            match &answer {
                Err(error) if is_tls(error) => {
                    let hint = self.hint(error);
                    return Err(self.failed("encryption", error, hint));
                }
                _ => self.tell_certificate(),
            }
        }
        match answer {
            Ok(answer) => {
                let (seen, note) = (server_words(&answer), self.clock_note(&answer));
                self.seen_with("server", seen, note);
                Ok(())
            }
            Err(error) => {
                let hint = self.hint(&error);
                Err(self.failed("server", &error, hint))
            }
        }
    }

    fn tell_certificate(&mut self) {
        let Some(facts) = self.certificate.clone() else {
            return self.seen("encryption", TRUSTED_THROUGH_PROXY);
        };
        let left = facts.until.duration_since(self.now);
        let soon = left < ENDS_SOON;
        let note = soon.then(|| certificate_ends(left));
        self.seen_with("encryption", certificate_words(&facts), note);
    }

    fn clock_note(&self, answer: &Answer) -> Option<String> {
        let theirs = Timestamp::from_second(answer.date()?).ok()?;
        let apart = theirs.duration_since(self.now);
        (apart.abs() > CLOCKS_DIFFER).then(|| clocks_differ(apart))
    }

    async fn search(&mut self, client: &Client) -> Result<Found, Failure> {
        let told = RefCell::new(Vec::new());
        let found = client
            .discover_all(&self.url, |stage, answer| {
                told.borrow_mut().push((stage, answer.status, answer.url.clone(), self.passed()));
            })
            .await;
        let told = told.into_inner();
        let spent = |wanted: DiscoveryStage| {
            told.iter().filter(|(stage, ..)| *stage == wanted).map(|(.., spent)| spent).sum::<u64>()
        };
        let stage = match &found {
            Err(DavError::SignIn { .. }) => None,
            Err(DavError::Transport(e))
                if matches!(
                    e.fault,
                    TransportFault::PlainHttp | TransportFault::SignInEnded | TransportFault::SignInElsewhere
                ) =>
            {
                None
            }
            Err(DavError::NoCalendars { .. }) => Some(DiscoveryStage::Principal),
            _ => Some(told.last().map_or(DiscoveryStage::Start, |(stage, ..)| *stage)),
        };
        let mut push = |step, seen: String, of: DiscoveryStage, milliseconds| {
            let asked = told.iter().rev().find(|(stage, ..)| *stage == of).map(|(.., url, _)| url);
            let host = host_of(asked.unwrap_or(&self.url));
            self.steps.push(Step { step, ok: true, seen, note: None, host, milliseconds });
        };
        let start = DiscoveryStage::Start;
        // Nothing but an answer of CalDAV proves it: a web page, or an error, comes to strangers as well.
        let is_proven = told.iter().any(|(_, status, ..)| *status == 207);
        let nobody = matches!(self.account.sign_in, crate::settings::SignInSettings::Nobody);
        if stage.is_some() && !told.is_empty() && (is_proven || nobody) {
            push("sign-in", signed_in_words(self.account), start, spent(start));
        }
        let error = match found {
            Ok(found) => {
                // Where it is another server's, that is said.
                let path = |url: &Url| match url.origin() == self.url.origin() {
                    true => url.path().to_owned(),
                    false => url.to_string(),
                };
                let principal = found.principal.as_ref().map_or_else(|| NO_PRINCIPAL.to_owned(), path);
                push("principal", principal, start, 0);
                if !found.homes.is_empty() {
                    push(
                        "home",
                        found.homes.iter().map(path).collect::<Vec<_>>().join(", "),
                        DiscoveryStage::Principal,
                        spent(DiscoveryStage::Principal),
                    );
                }
                let writable = found.calendars.iter().filter(|c| c.writable != Some(false)).count();
                push(
                    "calendars",
                    calendars_found(found.calendars.len(), writable),
                    DiscoveryStage::Home,
                    spent(DiscoveryStage::Home),
                );
                return Ok(found);
            }
            Err(error) => error,
        };
        let step = match stage {
            None => "sign-in",
            Some(DiscoveryStage::Start) => "principal",
            Some(DiscoveryStage::Principal) => "home",
            Some(_) => "calendars",
        };
        let away = told.last().map(|(.., url, _)| url).filter(|url| url.origin() != self.url.origin());
        let hint = match (&error, away) {
            (DavError::NotCalDav { .. }, Some(url)) => {
                sends_on(&(url[..url::Position::BeforePath].to_owned() + "/"), self.name)
            }
            _ => self.hint(&error),
        };
        Err(self.failed(step, &error, hint))
    }

    /// What a person can do, with what was seen on the way.
    fn hint(&self, error: &DavError) -> String {
        let name = self.name;
        let fault = match error {
            DavError::Transport(TransportError { certificate: Some(fault), .. }) => *fault,
            _ => return dav_hint(error, name),
        };
        certificate_advice(fault, self.certificate.as_ref(), name, self.now)
            .unwrap_or_else(|| dav_hint(error, name))
    }
}

/// The host of an address.
pub(crate) fn host_of(url: &Url) -> String {
    url.host_str().unwrap_or_default().to_owned()
}
