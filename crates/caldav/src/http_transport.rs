//! Requests over HTTP: the file that opens the sockets of every run.

use std::cell::{Cell, OnceCell, RefCell};
use std::collections::BTreeMap;
use std::future::Future;
use std::pin::Pin;
use std::time::Duration;

use reqwest::header::{AUTHORIZATION, LOCATION, WWW_AUTHENTICATE};
use secrecy::{ExposeSecret, SecretString};
use url::Url;

use crate::auth::{Credentials, PasswordChallenge, SignIn, SignedBy, challenges};
use crate::error::{CertificateFault, Detail, SetupError, TransportError, TransportFault};
use crate::origin::{SignInOrigin, is_upward, may_sign_in};
use crate::retry_policy::{LONGEST_WAIT, retry_after};
use crate::transport::{Answer, Request, Transport, is_loopback};

/// How to reach one account's server.
#[derive(Debug, Clone)]
pub struct HttpOptions {
    /// Who signs in.
    pub sign_in: SignIn,
    /// Where else the sign-in may go, besides the account's own server.
    pub sign_in_also_at: Vec<SignInOrigin>,
    /// Other servers are looked at without the sign-in: a person is there to say what they are. A run is not sent on.
    pub looks_elsewhere: bool,
    /// How long a server may be silent: while connecting, before its answer, and within it.
    pub timeout: Duration,
    /// Allow a password over plain HTTP to another machine.
    pub plain_http: bool,
    /// Largest answer, in bytes after decompression.
    pub max_answer: usize,
    /// A certificate authority to trust besides the system's, as PEM.
    pub ca: Option<Vec<u8>>,
    /// A certificate of one's own with its key, as PEM, for servers that ask for one.
    pub certificate: Option<SecretString>,
    /// What stands between here and the server.
    pub proxies: Proxies,
    /// Addresses are secrets (feeds): logs tell no more than the host.
    pub hide_paths: bool,
}

impl Default for HttpOptions {
    fn default() -> Self {
        Self {
            sign_in: SignIn::Nobody,
            sign_in_also_at: Vec::new(),
            looks_elsewhere: false,
            timeout: Duration::from_secs(30),
            plain_http: false,
            max_answer: 64 << 20,
            ca: None,
            certificate: None,
            proxies: Proxies::default(),
            hide_paths: false,
        }
    }
}

/// Which proxy a request goes through. Their addresses may hold a user and a password.
#[derive(Clone, Default)]
pub struct Proxies {
    /// For `http:` addresses.
    pub http: Option<String>,
    /// For `https:` addresses.
    pub https: Option<String>,
    /// Hosts that are reached without: names, domains and networks, separated by commas.
    pub except: String,
    /// User and password for the proxy.
    pub credentials: Option<Credentials>,
}

impl std::fmt::Debug for Proxies {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Proxies")
            .field("http", &self.http.is_some())
            .field("https", &self.https.is_some())
            .finish()
    }
}

impl Proxies {
    fn list(&self) -> Result<Vec<reqwest::Proxy>, SetupError> {
        let except = reqwest::NoProxy::from_string(&self.except);
        let dressed = |proxy: reqwest::Proxy| {
            let proxy = proxy.no_proxy(except.clone());
            match &self.credentials {
                Some(who) => proxy.basic_auth(&who.user, who.password.expose_secret()),
                None => proxy,
            }
        };
        let http = self.http.as_ref().map(reqwest::Proxy::http);
        let https = self.https.as_ref().map(reqwest::Proxy::https);
        let wrong = |_| SetupError::Proxy;
        http.into_iter().chain(https).map(|proxy| proxy.map(dressed).map_err(wrong)).collect()
    }

    /// Returns host and port of the proxy that requests to this address go through.
    #[must_use]
    pub fn on_the_way_to(&self, url: &Url) -> Option<(String, u16)> {
        let address = if url.scheme() == "https" { &self.https } else { &self.http };
        let proxy = Url::parse(address.as_ref()?).ok()?;
        let host = url.host_str().unwrap_or_default().trim_matches(['[', ']']);
        if is_excepted(&self.except, host) {
            return None;
        }
        Some((proxy.host_str()?.to_owned(), proxy.port_or_known_default().unwrap_or(80)))
    }
}

/// Tells whether a host is reached without a proxy: its name, a domain above it, or `*`. Networks (`10.0.0.0/8`)
/// are understood by the HTTP library alone; this is for words to people.
fn is_excepted(except: &str, host: &str) -> bool {
    except.split(',').map(|one| one.trim().trim_start_matches('.')).filter(|one| !one.is_empty()).any(|one| {
        one == "*" || host.eq_ignore_ascii_case(one) || {
            let above = format!(".{}", one.to_ascii_lowercase());
            host.to_ascii_lowercase().ends_with(&above)
        }
    })
}

/// HTTP over TCP, with TLS for `https`.
#[derive(Debug)]
pub struct HttpTransport {
    options: HttpOptions,
    /// Authorities besides the system's.
    certificates: Vec<reqwest::Certificate>,
    /// What sends, by what it is for. Each is made when it is first needed: whoever only asks what is known needs none.
    clients: [OnceCell<reqwest::Client>; 3],
    /// Where the account is: the address that was asked first.
    own: OnceCell<Url>,
    /// How each origin wants a password, so that only the first request is sent twice.
    challenges: RefCell<BTreeMap<String, PasswordChallenge>>,
    cnonce: Cell<u64>,
}

const MAX_REDIRECTS: usize = 6;
/// Parts of a feed's address that are shorter keep no secret.
const SECRET: usize = 6;
/// So long a whole answer may take, however steadily it comes.
const WHOLE_ANSWER: Duration = Duration::from_secs(600);

impl HttpTransport {
    /// Makes a transport for one account. The process must have installed a rustls crypto provider.
    ///
    /// # Errors
    /// The CA file or the certificate cannot be read, the proxy's address is none, or the TLS library cannot
    /// start.
    pub fn new(options: HttpOptions) -> Result<Self, SetupError> {
        let other = |error: reqwest::Error| SetupError::Other(deepest(&error).to_owned());
        // What cannot be understood is told now, not at the first request.
        drop(base_builder(&options)?);
        let certificates = match &options.ca {
            Some(pem) => reqwest::Certificate::from_pem_bundle(pem).map_err(other)?,
            None => Vec::new(),
        };
        if options.ca.is_some() && certificates.is_empty() {
            return Err(SetupError::NoAuthority);
        }
        if options.certificate.is_some() {
            drop(made(&options, Use::Own, &certificates)?);
        }
        Ok(Self {
            certificates,
            clients: Default::default(),
            options,
            own: OnceCell::new(),
            challenges: RefCell::default(),
            cnonce: Cell::new(0),
        })
    }

    async fn follow(&self, request: &Request) -> Result<Answer, TransportError> {
        let mut url = request.url.clone();
        self.own.get_or_init(|| url.clone());
        let is_write = !matches!(request.method, "GET" | "HEAD" | "OPTIONS" | "PROPFIND" | "REPORT");
        for _ in 0..=MAX_REDIRECTS {
            let answer = self.signed(request, &url).await?;
            let moved = matches!(answer.status, 301 | 302 | 307 | 308);
            let Some(location) = answer.headers.get(LOCATION).filter(|_| moved) else { return Ok(answer) };
            // What asks for more patience than there is, is not followed: whoever asked decides.
            match retry_after(&answer) {
                Some(wait) if wait > LONGEST_WAIT => return Ok(answer),
                Some(wait) => tokio::time::sleep(wait).await,
                None => {}
            }
            let target = location.to_str().ok().and_then(|l| url.join(l).ok());
            let target = target.filter(|target| matches!(target.scheme(), "http" | "https"));
            let mut target =
                target.ok_or_else(|| self.fault(TransportFault::Redirect, &url, Detail::Nothing))?;
            // Whoever sends on does not say who signs in.
            let has_dropped = target.set_username("").and(target.set_password(None));
            debug_assert!(has_dropped.is_ok(), "web addresses have hosts");
            let to = Detail::To(target.origin().ascii_serialization());
            if url.scheme() == "https" && target.scheme() == "http" {
                return Err(self.fault(TransportFault::Downgrade, &url, to));
            }
            if is_write && url.origin() != target.origin() && !is_upward(&url, &target) {
                return Err(self.fault(TransportFault::WriteElsewhere, &url, to));
            }
            url = target;
        }
        Err(self.fault(TransportFault::Redirect, &url, Detail::Nothing))
    }

    /// Sends with the sign-in the server wants, where that server may have it.
    async fn signed(&self, request: &Request, url: &Url) -> Result<Answer, TransportError> {
        if matches!(self.options.sign_in, SignIn::Nobody) {
            return self.once(request, url, None).await;
        }
        let own = self.own.get().unwrap_or(url);
        if !may_sign_in(own, &self.options.sign_in_also_at, url) {
            let to = Detail::To(url.origin().ascii_serialization());
            let elsewhere = self.fault(TransportFault::SignInElsewhere, own, to);
            if !self.options.looks_elsewhere {
                return Err(elsewhere);
            }
            let answer = self.once(request, url, None).await?;
            return if matches!(answer.status, 401 | 403) { Err(elsewhere) } else { Ok(answer) };
        }
        if url.scheme() == "http" && !self.options.plain_http && !is_loopback(url) {
            return Err(self.fault(TransportFault::PlainHttp, url, Detail::Nothing));
        }
        match &self.options.sign_in {
            SignIn::Nobody => self.once(request, url, None).await,
            SignIn::Password(who) => self.with_password(request, url, who).await,
            SignIn::Bearer(tokens) => {
                let token = tokens.token(None).await?;
                let answer = self.once(request, url, Some(bearer(&token))).await?;
                if answer.status != 401 {
                    return Ok(answer);
                }
                let other = tokens.token(Some(&token)).await?;
                if other.expose_secret() == token.expose_secret() {
                    return Ok(answer);
                }
                self.once(request, url, Some(bearer(&other))).await
            }
        }
    }

    /// Signs in as the server was seen to want it; a challenge is answered once, and once more where only its nonce was
    /// too old (RFC 7616, 3.3). Over http nothing is sent before the first challenge.
    async fn with_password(
        &self,
        request: &Request,
        url: &Url,
        who: &Credentials,
    ) -> Result<Answer, TransportError> {
        let origin = url.origin().ascii_serialization();
        let mut sent = self.authorization(who, request, url, &origin);
        let mut answer = self.once(request, url, sent.clone().map(|(_, header)| header)).await?;
        for _ in 0..2 {
            if answer.status != 401 {
                return Ok(answer);
            }
            let headers = answer.headers.get_all(WWW_AUTHENTICATE).iter();
            let offered: Vec<_> = headers.filter_map(|h| h.to_str().ok()).flat_map(challenges).collect();
            let Some(challenge) = PasswordChallenge::best(&offered) else { return Ok(answer) };
            let is_refusal = match (&challenge, &sent) {
                (PasswordChallenge::Basic, Some((by, _))) => *by == SignedBy::Basic,
                (PasswordChallenge::Digest(new), Some((by, _))) => *by == SignedBy::Digest && !new.is_stale,
                (_, None) => false,
            };
            if is_refusal {
                return Ok(answer);
            }
            self.challenges.borrow_mut().insert(origin.clone(), challenge);
            sent = self.authorization(who, request, url, &origin);
            answer = self.once(request, url, sent.clone().map(|(_, header)| header)).await?;
        }
        Ok(answer)
    }

    /// The header for a request, and how it signs in; nothing where the server must say first what it wants.
    fn authorization(
        &self,
        who: &Credentials,
        request: &Request,
        url: &Url,
        origin: &str,
    ) -> Option<(SignedBy, String)> {
        match self.challenges.borrow_mut().get_mut(origin) {
            Some(PasswordChallenge::Digest(challenge)) => {
                self.cnonce.set(self.cnonce.get() + 1);
                // It only has to differ between requests under one nonce.
                let cnonce = format!("{:x}{:08x}", std::process::id(), self.cnonce.get());
                let target = &url[url::Position::BeforePath..url::Position::AfterQuery];
                Some((SignedBy::Digest, challenge.answer(who, request.method, target, &cnonce)))
            }
            Some(PasswordChallenge::Basic) => Some((SignedBy::Basic, who.basic())),
            None => (url.scheme() == "https").then(|| (SignedBy::Basic, who.basic())),
        }
    }

    /// What sends to this address.
    fn client(&self, url: &Url, is_own: bool) -> Result<reqwest::Client, TransportError> {
        let is_plain_proxy =
            self.options.proxies.http.as_ref().is_none_or(|proxy| !proxy.starts_with("https:"));
        let purpose = match (url.scheme(), is_own) {
            ("http", _) if is_plain_proxy => Use::Plain,
            (_, false) if self.options.certificate.is_some() => Use::Stranger,
            _ => Use::Own,
        };
        let cell = &self.clients[purpose as usize];
        if let Some(client) = cell.get() {
            return Ok(client.clone());
        }
        let client = made(&self.options, purpose, &self.certificates).map_err(|error| {
            let words = match error {
                SetupError::Other(words) => Detail::Words(words),
                _ => Detail::Nothing,
            };
            self.fault(TransportFault::Tls, url, words)
        })?;
        Ok(cell.get_or_init(|| client).clone())
    }

    async fn once(
        &self,
        request: &Request,
        url: &Url,
        auth: Option<String>,
    ) -> Result<Answer, TransportError> {
        let method = reqwest::Method::from_bytes(request.method.as_bytes()).expect("methods are constants");
        let is_own = self.own.get().is_none_or(|own| may_sign_in(own, &self.options.sign_in_also_at, url));
        let mut builder = self.client(url, is_own)?.request(method, url.clone());
        for (name, value) in &request.headers {
            builder = builder.header(*name, value);
        }
        let sent = auth.clone();
        if let Some(auth) = auth {
            let mut value = reqwest::header::HeaderValue::from_str(&auth)
                .map_err(|_| self.fault(TransportFault::UnsendableSecret, url, Detail::Nothing))?;
            value.set_sensitive(true);
            builder = builder.header(AUTHORIZATION, value);
        }
        if !request.body.is_empty() {
            builder = builder.body(request.body.clone());
        }
        let shown = if self.options.hide_paths { host_of(url) } else { url.as_str() };
        tracing::debug!(method = request.method, url = shown, bytes = request.body.len(), "request");
        let mut response = builder.send().await.map_err(|e| self.classify(&e, url))?;
        let (status, headers) = (response.status().as_u16(), response.headers().clone());
        let length = response.content_length().and_then(|length| usize::try_from(length).ok()).unwrap_or(0);
        let mut body = Vec::with_capacity(length.min(self.options.max_answer));
        while let Some(chunk) = response.chunk().await.map_err(|e| self.classify(&e, url))? {
            if body.len() + chunk.len() > self.options.max_answer {
                let limit = Detail::Limit(self.options.max_answer);
                return Err(self.fault(TransportFault::TooLarge, url, limit));
            }
            body.extend_from_slice(&chunk);
        }
        tracing::debug!(status, bytes = body.len(), "answer");
        // What a server says of an error is shown: some repeat what they were sent.
        let body = if status >= 400 { self.without_secrets(&body, url, sent.as_deref()) } else { body };
        Ok(Answer { status, headers, body, url: url.clone(), sign_in: self.options.sign_in.kind() })
    }

    /// A text without the secrets that this account has: a server that repeats them would put them on the screen.
    fn without_secrets(&self, body: &[u8], url: &Url, sent: Option<&str>) -> Vec<u8> {
        // `Basic …`, `Bearer …`
        let sent = sent.and_then(|sent| sent.split_once(' ')).map(|(_, secret)| secret.to_owned());
        let mut secrets: Vec<String> = sent.into_iter().collect();
        if let SignIn::Password(who) = &self.options.sign_in {
            secrets.push(who.password.expose_secret().to_owned());
        }
        if self.options.hide_paths {
            let pieces = url.path_segments().into_iter().flatten().map(str::to_owned);
            let values = url.query_pairs().map(|(_, value)| value.into_owned());
            secrets.extend(pieces.chain(values).filter(|piece| piece.len() >= SECRET));
            secrets.extend(url.query().map(str::to_owned));
        }
        let text = String::from_utf8_lossy(body);
        let secrets = secrets.iter().filter(|secret| !secret.is_empty() && text.contains(secret.as_str()));
        let clean = secrets.fold(text.to_string(), |text, secret| text.replace(secret.as_str(), "…"));
        clean.into_bytes()
    }

    fn fault(&self, fault: TransportFault, url: &Url, detail: Detail) -> TransportError {
        let proxy = self.options.proxies.on_the_way_to(url).map(|(host, port)| format!("{host}:{port}"));
        TransportError { proxy, ..TransportError::new(fault, host_of(url), detail) }
    }

    fn classify(&self, error: &reqwest::Error, url: &Url) -> TransportError {
        let detail = deepest(error);
        let text = detail.to_ascii_lowercase();
        if let Some((certificate, words)) = certificate_fault(error) {
            let error = self.fault(TransportFault::Tls, url, words.into());
            return TransportError { certificate: Some(certificate), ..error };
        }
        let kind = if error.is_timeout() {
            TransportFault::Timeout
        } else if is_tls(error) {
            // Also after the handshake: that a certificate was wanted shows only in the first answer.
            TransportFault::Tls
        } else if !error.is_connect() {
            TransportFault::Broken
        } else if text.contains("lookup") || text.contains("name or service") || text.contains("resolve") {
            TransportFault::Resolve
        } else if text.contains("tls") || text.contains("handshake") {
            TransportFault::Tls
        } else {
            TransportFault::Connect
        };
        self.fault(kind, url, detail.to_owned().into())
    }
}

/// Everything but whom to trust.
/// What a client is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Use {
    /// Unencrypted: no certificate is of interest, and reading the system's takes a while.
    Plain,
    /// The account's own server.
    Own,
    /// Servers that are not the account's: without a certificate of one's own.
    Stranger,
}

fn made(
    options: &HttpOptions,
    purpose: Use,
    certificates: &[reqwest::Certificate],
) -> Result<reqwest::Client, SetupError> {
    let other = |error: reqwest::Error| SetupError::Other(deepest(&error).to_owned());
    let nobody = HttpOptions { certificate: None, ..options.clone() };
    let options = if purpose == Use::Own { options } else { &nobody };
    if purpose == Use::Plain {
        return base_builder(options)?.tls_certs_only([]).build().map_err(other);
    }
    match base_builder(options)?.tls_certs_merge(certificates.to_vec()).build() {
        Ok(client) => Ok(client),
        // A small machine may trust nobody: then those count that the account names.
        Err(error) => {
            tracing::debug!(error = deepest(&error), "the system's certificates cannot be used");
            base_builder(options)?.tls_certs_only(certificates.to_vec()).build().map_err(other)
        }
    }
}

fn base_builder(options: &HttpOptions) -> Result<reqwest::ClientBuilder, SetupError> {
    let mut builder = reqwest::Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .read_timeout(options.timeout)
        .timeout(WHOLE_ANSWER)
        .connect_timeout(options.timeout.min(Duration::from_secs(10)))
        .user_agent(concat!("Chestnut/", env!("CARGO_PKG_VERSION")))
        .no_proxy()
        .tcp_nodelay(true);
    for proxy in options.proxies.list()? {
        builder = builder.proxy(proxy);
    }
    if let Some(pem) = &options.certificate {
        let identity = reqwest::Identity::from_pem(pem.expose_secret().as_bytes());
        // The library's words may quote the key.
        let identity = identity.map_err(|_| SetupError::Certificate)?;
        builder = builder.identity(identity);
    }
    Ok(builder)
}

impl Transport for HttpTransport {
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>> {
        Box::pin(self.follow(request))
    }
}

fn bearer(token: &SecretString) -> String {
    format!("Bearer {}", token.expose_secret())
}

fn host_of(url: &Url) -> &str {
    &url[url::Position::BeforeHost..url::Position::AfterPort]
}

/// The causes of an error, with those that an I/O error carries inside.
fn causes<'e>(error: &'e (dyn std::error::Error + 'static)) -> Vec<&'e (dyn std::error::Error + 'static)> {
    let mut all = vec![error];
    let mut next = error.source();
    while let Some(cause) = next {
        all.push(cause);
        let inside = cause.downcast_ref::<std::io::Error>().and_then(std::io::Error::get_ref);
        next = match inside {
            Some(inside) => Some(inside),
            None => cause.source(),
        };
    }
    all
}

fn is_tls(error: &reqwest::Error) -> bool {
    causes(error).iter().any(|cause| cause.is::<rustls::Error>())
}

/// What is wrong with the certificate, if that is what it is, and the library's words.
fn certificate_fault(error: &reqwest::Error) -> Option<(CertificateFault, String)> {
    use rustls::CertificateError as C;
    let causes = causes(error);
    let tls = causes.iter().find_map(|cause| cause.downcast_ref::<rustls::Error>())?;
    let rustls::Error::InvalidCertificate(fault) = tls else { return None };
    let kind = match fault {
        C::Expired | C::ExpiredContext { .. } => CertificateFault::Expired,
        C::NotValidYet | C::NotValidYetContext { .. } => CertificateFault::NotYetValid,
        C::NotValidForName | C::NotValidForNameContext { .. } => CertificateFault::WrongName,
        // Another authority of the same name has signed it.
        C::UnknownIssuer | C::BadSignature => CertificateFault::UnknownIssuer,
        _ => CertificateFault::Other,
    };
    Some((kind, tls.to_string()))
}

/// The innermost cause says most: the outer ones only say that a request failed.
fn deepest(error: &(dyn std::error::Error + 'static)) -> String {
    causes(error).last().map(ToString::to_string).unwrap_or_default()
}
