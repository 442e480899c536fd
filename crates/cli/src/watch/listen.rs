//! Answers whoever asks how it is: `/healthz`, `/metrics`, `/status`. On a thread of its own, with few connections
//! and little patience: whoever is slow, or means harm, keeps nothing else from its work.

use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use axum::Router;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use axum::routing::get;
use jiff::{SignedDuration, Timestamp};
use secrecy::{ExposeSecret as _, SecretString};
use sha2::{Digest as _, Sha256};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::time::Sleep;

use super::health::Health;
use super::presence::Watcher;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::open::{StatePlace, block_on};
use crate::overview::overview;
use crate::render::page::{PAGE_POLICY, page};
use crate::settings::{Settings, read_secret};
use crate::words::{cannot_listen, listening_words};

/// Connections at once.
const ROOM: usize = 32;
/// How long one may last.
const PATIENCE: Duration = Duration::from_secs(20);
/// A page is made anew after so long.
const FRESH: Duration = Duration::from_secs(10);
/// How far back changes are counted on the page.
const SINCE: SignedDuration = SignedDuration::from_hours(24 * 30);

/// What answers are made of.
struct Shared {
    health: Arc<Health>,
    /// What may stand in `Host`.
    hosts: Vec<String>,
    token: Option<SecretString>,
    configuration: PathBuf,
    state: StatePlace,
    environment: Environment,
    watcher: Watcher,
    page: Mutex<Option<(Instant, String)>>,
}

/// Begins to answer. Returns where.
pub(super) fn begin(
    settings: &Settings,
    state: StatePlace,
    environment: &Environment,
    watcher: Watcher,
    health: Arc<Health>,
) -> Result<Option<SocketAddr>, Failure> {
    let left = &settings.left_running;
    let Some(wanted) = left.listen else { return Ok(None) };
    let token = left
        .listen_token
        .as_ref()
        .map(|source| read_secret("listen", "token", source, settings.base(), environment));
    let token = token.transpose()?;
    let bound = std::net::TcpListener::bind(wanted).and_then(|listener| {
        listener.set_nonblocking(true)?;
        Ok((listener.local_addr()?, listener))
    });
    let (address, listener) = bound.map_err(|system| cannot_listen(wanted, &system))?;
    let mut hosts = left.listen_hosts.clone();
    hosts.push(address.ip().to_string());
    if address.is_ipv6() {
        hosts.push(format!("[{}]", address.ip()));
    }
    if address.ip().is_loopback() {
        hosts.push("localhost".to_owned());
    }
    let shared = Shared {
        health,
        hosts,
        token,
        configuration: settings.path.clone(),
        state,
        environment: environment.clone(),
        watcher,
        page: Mutex::default(),
    };
    let router = Router::new()
        .route("/healthz", get(healthz))
        .route("/metrics", get(metrics))
        .route("/status", get(status))
        .with_state(Arc::new(shared));
    let serve = move || {
        let work = async move {
            let Ok(listener) = TcpListener::from_std(listener) else { return };
            let listener = Patient { listener, room: Arc::new(Semaphore::new(ROOM)) };
            drop(axum::serve(listener, router).await);
        };
        drop(block_on(work));
    };
    let thread = std::thread::Builder::new().name("listen".to_owned()).spawn(serve);
    thread.map_err(|system| cannot_listen(wanted, &system))?;
    tracing::info!("{}", listening_words(address));
    Ok(Some(address))
}

/// Whether somebody may ask.
fn refusal(shared: &Shared, headers: &HeaderMap) -> Option<Response> {
    let text = |name: header::HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let host = text(header::HOST).unwrap_or_default();
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => name,
        _ => host,
    };
    // A page of somewhere else, led here by its name, is answered nothing.
    if !shared.hosts.iter().any(|known| known.eq_ignore_ascii_case(name) || known.eq_ignore_ascii_case(host))
    {
        return Some(StatusCode::MISDIRECTED_REQUEST.into_response());
    }
    let token = shared.token.as_ref()?;
    let given =
        text(header::AUTHORIZATION).and_then(|value| value.strip_prefix("Bearer ")).unwrap_or_default();
    // Digests take as long to compare, wherever they differ.
    let is_right = Sha256::digest(given) == Sha256::digest(token.expose_secret());
    let refused = (StatusCode::UNAUTHORIZED, [(header::WWW_AUTHENTICATE, "Bearer")]);
    (!is_right).then(|| refused.into_response())
}

async fn healthz(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Response {
    if let Some(refusal) = refusal(&shared, &headers) {
        return refusal;
    }
    match shared.health.problem() {
        None => (StatusCode::OK, "ok\n").into_response(),
        Some(problem) => (StatusCode::SERVICE_UNAVAILABLE, format!("{problem}\n")).into_response(),
    }
}

async fn metrics(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Response {
    if let Some(refusal) = refusal(&shared, &headers) {
        return refusal;
    }
    let kind = [(header::CONTENT_TYPE, "text/plain; version=0.0.4; charset=utf-8")];
    (kind, shared.health.metrics()).into_response()
}

async fn status(State(shared): State<Arc<Shared>>, headers: HeaderMap) -> Response {
    if let Some(refusal) = refusal(&shared, &headers) {
        return refusal;
    }
    let known = Arc::clone(&shared);
    let made = tokio::task::spawn_blocking(move || fresh_page(&known)).await;
    match made {
        Ok(Ok(html)) => {
            let headers = [
                (header::CONTENT_TYPE, "text/html; charset=utf-8".to_owned()),
                (header::CONTENT_SECURITY_POLICY, format!("{}; frame-ancestors 'none'", *PAGE_POLICY)),
                (header::CACHE_CONTROL, "no-store".to_owned()),
                (header::REFERRER_POLICY, "no-referrer".to_owned()),
                (header::X_CONTENT_TYPE_OPTIONS, "nosniff".to_owned()),
            ];
            (headers, html).into_response()
        }
        Ok(Err(failure)) => (StatusCode::SERVICE_UNAVAILABLE, failure.lines()).into_response(),
        Err(_) => StatusCode::INTERNAL_SERVER_ERROR.into_response(),
    }
}

/// The page, made anew when it is no longer fresh; one at a time.
fn fresh_page(shared: &Shared) -> Result<String, Failure> {
    let mut kept = shared.page.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some((_, html)) = kept.as_ref().filter(|(made, _)| made.elapsed() < FRESH) {
        return Ok(html.clone());
    }
    let settings = Settings::load(Some(&shared.configuration), &shared.environment)?;
    let store = shared.state.open()?;
    let now = shared.environment.now()?;
    let since = now.saturating_sub(SINCE).unwrap_or(Timestamp::UNIX_EPOCH);
    let watcher = std::slice::from_ref(&shared.watcher);
    let mut seen = block_on(overview(&settings, &store, &shared.environment, watcher, (since, now)))??;
    if !settings.left_running.shows_titles {
        seen.take_titles_out();
    }
    let html = page(&seen, &settings.zone);
    *kept = Some((Instant::now(), html.clone()));
    Ok(html)
}

/// Takes few connections at once, and lets none last.
struct Patient {
    listener: TcpListener,
    room: Arc<Semaphore>,
}

impl axum::serve::Listener for Patient {
    type Io = Brief;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Brief, SocketAddr) {
        loop {
            let Ok(permit) = Arc::clone(&self.room).acquire_owned().await else {
                std::future::pending::<()>().await;
                continue;
            };
            match self.listener.accept().await {
                Ok((stream, from)) => {
                    let ends = Box::pin(tokio::time::sleep(PATIENCE));
                    return (Brief { stream, ends, _permit: permit }, from);
                }
                // Too many open files, or a connection that is gone already.
                Err(_) => tokio::time::sleep(Duration::from_millis(200)).await,
            }
        }
    }

    fn local_addr(&self) -> io::Result<SocketAddr> {
        self.listener.local_addr()
    }
}

/// A connection with an end.
struct Brief {
    stream: TcpStream,
    ends: Pin<Box<Sleep>>,
    _permit: OwnedSemaphorePermit,
}

impl Brief {
    fn is_over(&mut self, context: &mut Context<'_>) -> bool {
        std::future::Future::poll(self.ends.as_mut(), context).is_ready()
    }
}

impl AsyncRead for Brief {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        into: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        match self.is_over(context) {
            true => Poll::Ready(Err(io::ErrorKind::TimedOut.into())),
            false => Pin::new(&mut self.stream).poll_read(context, into),
        }
    }
}

impl AsyncWrite for Brief {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        match self.is_over(context) {
            true => Poll::Ready(Err(io::ErrorKind::TimedOut.into())),
            false => Pin::new(&mut self.stream).poll_write(context, bytes),
        }
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}
