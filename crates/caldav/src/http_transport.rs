//! The only file that opens sockets.

use std::cell::{Cell, RefCell};
use std::future::Future;
use std::pin::Pin;
use std::time::Duration;

use reqwest::header::{AUTHORIZATION, LOCATION, WWW_AUTHENTICATE};
use url::Url;

use crate::auth::{Credentials, DigestChallenge};
use crate::transport::{Answer, Request, Transport, TransportError, TransportFault, is_loopback};

/// How to reach one account's server.
#[derive(Debug, Clone)]
pub struct HttpOptions {
    /// Who signs in; `None` for open servers.
    pub credentials: Option<Credentials>,
    /// How long one request may take.
    pub timeout: Duration,
    /// Allow a password over plain HTTP to another machine.
    pub plain_http: bool,
    /// Largest answer, in bytes after decompression.
    pub max_answer: usize,
    /// A certificate authority to trust besides the system's, as PEM.
    pub ca: Option<Vec<u8>>,
}

impl Default for HttpOptions {
    fn default() -> Self {
        Self {
            credentials: None,
            timeout: Duration::from_secs(30),
            plain_http: false,
            max_answer: 256 << 20,
            ca: None,
        }
    }
}

/// HTTP over TCP, with TLS for `https`.
#[derive(Debug)]
pub struct HttpTransport {
    client: reqwest::Client,
    options: HttpOptions,
    /// The last Digest challenge, so that only the first request is sent twice.
    digest: RefCell<Option<DigestChallenge>>,
    cnonce: Cell<u64>,
}

const MAX_REDIRECTS: usize = 6;

impl HttpTransport {
    /// Makes a transport for one account. The process must have installed a rustls crypto provider.
    ///
    /// # Errors
    /// The CA file holds no certificate, or the TLS library cannot start; in words.
    pub fn new(options: HttpOptions) -> Result<Self, String> {
        let mut builder = reqwest::Client::builder()
            .redirect(reqwest::redirect::Policy::none())
            .timeout(options.timeout)
            .connect_timeout(options.timeout.min(Duration::from_secs(10)))
            .user_agent(concat!("Chestnut/", env!("CARGO_PKG_VERSION")))
            .tcp_nodelay(true);
        if let Some(pem) = &options.ca {
            for certificate in reqwest::Certificate::from_pem_bundle(pem).map_err(|e| e.to_string())? {
                builder = builder.add_root_certificate(certificate);
            }
        }
        let client = builder.build().map_err(|e| deepest(&e))?;
        Ok(Self { client, options, digest: RefCell::new(None), cnonce: Cell::new(0) })
    }

    async fn follow(&self, request: &Request) -> Result<Answer, TransportError> {
        let mut url = request.url.clone();
        for _ in 0..=MAX_REDIRECTS {
            let answer = self.signed(request, &url, url.origin() == request.url.origin()).await?;
            let moved = matches!(answer.status, 301 | 302 | 307 | 308);
            let Some(location) = answer.headers.get(LOCATION).filter(|_| moved) else { return Ok(answer) };
            let target = location.to_str().ok().and_then(|l| url.join(l).ok());
            url = target
                .ok_or_else(|| fault(TransportFault::Redirect, &url, "an unreadable Location header"))?;
        }
        Err(fault(TransportFault::Redirect, &url, "more than 6 redirects"))
    }

    /// Sends with the sign-in the server wants; a Digest challenge is answered once per request.
    async fn signed(
        &self,
        request: &Request,
        url: &Url,
        same_origin: bool,
    ) -> Result<Answer, TransportError> {
        let who = self.options.credentials.as_ref().filter(|_| same_origin);
        let Some(who) = who else { return self.once(request, url, None).await };
        if url.scheme() == "http" && !self.options.plain_http && !is_loopback(url) {
            return Err(fault(TransportFault::PlainHttp, url, ""));
        }
        let header = self.authorization(who, request, url);
        let answer = self.once(request, url, Some(header)).await?;
        if answer.status != 401 {
            return Ok(answer);
        }
        let challenges = answer.headers.get_all(WWW_AUTHENTICATE).iter();
        let challenge = challenges.filter_map(|h| h.to_str().ok()).find_map(DigestChallenge::parse);
        let Some(challenge) = challenge else { return Ok(answer) };
        *self.digest.borrow_mut() = Some(challenge);
        let header = self.authorization(who, request, url);
        self.once(request, url, Some(header)).await
    }

    fn authorization(&self, who: &Credentials, request: &Request, url: &Url) -> String {
        let Some(challenge) = &mut *self.digest.borrow_mut() else { return who.basic() };
        self.cnonce.set(self.cnonce.get() + 1);
        // It only has to differ between requests under one nonce.
        let cnonce = format!("{:x}{:08x}", std::process::id(), self.cnonce.get());
        let target = &url[url::Position::BeforePath..url::Position::AfterQuery];
        challenge.answer(who, request.method, target, &cnonce)
    }

    async fn once(
        &self,
        request: &Request,
        url: &Url,
        auth: Option<String>,
    ) -> Result<Answer, TransportError> {
        let method = reqwest::Method::from_bytes(request.method.as_bytes()).expect("methods are constants");
        let mut builder = self.client.request(method, url.clone());
        for (name, value) in &request.headers {
            builder = builder.header(*name, value);
        }
        if let Some(auth) = auth {
            builder = builder.header(AUTHORIZATION, auth);
        }
        if !request.body.is_empty() {
            builder = builder.body(request.body.clone());
        }
        tracing::debug!(method = request.method, %url, bytes = request.body.len(), "request");
        let mut response = builder.send().await.map_err(|e| classify(&e, url))?;
        let (status, headers) = (response.status().as_u16(), response.headers().clone());
        let mut body = Vec::new();
        while let Some(chunk) = response.chunk().await.map_err(|e| classify(&e, url))? {
            if body.len() + chunk.len() > self.options.max_answer {
                let limit = format!("{} bytes", self.options.max_answer);
                return Err(fault(TransportFault::TooLarge, url, &limit));
            }
            body.extend_from_slice(&chunk);
        }
        tracing::debug!(status, bytes = body.len(), "answer");
        Ok(Answer { status, headers, body, url: url.clone() })
    }
}

impl Transport for HttpTransport {
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>> {
        Box::pin(self.follow(request))
    }
}

fn fault(fault: TransportFault, url: &Url, detail: &str) -> TransportError {
    let host = url[url::Position::BeforeHost..url::Position::AfterPort].to_owned();
    TransportError { fault, host, detail: detail.to_owned() }
}

fn classify(error: &reqwest::Error, url: &Url) -> TransportError {
    let detail = deepest(error);
    let text = detail.to_ascii_lowercase();
    let kind = if error.is_timeout() {
        TransportFault::Timeout
    } else if !error.is_connect() {
        TransportFault::Broken
    } else if text.contains("lookup") || text.contains("name or service") || text.contains("resolve") {
        TransportFault::Resolve
    } else if text.contains("certificate") || text.contains("tls") || text.contains("handshake") {
        TransportFault::Tls
    } else {
        TransportFault::Connect
    };
    fault(kind, url, &detail)
}

/// The innermost cause says most: the outer ones only say that a request failed.
fn deepest(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(inner) = cause.source() {
        cause = inner;
    }
    cause.to_string()
}
