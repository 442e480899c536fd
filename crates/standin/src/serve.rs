//! Puts a simulated server on a port.

use std::io::Write as _;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use axum::Router;
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{Request, State};
use axum::response::Response;
use flate2::Compression;
use flate2::write::GzEncoder;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

use crate::exchange::{Reply, ServerRequest};
use crate::faults::Fault;
use crate::habits::Habit;
use crate::handle_request::accepts_gzip;
use crate::object_store::Server;

/// A simulated server on a port of this machine; it ends when this is dropped.
#[derive(Debug)]
pub struct Running {
    /// Where it answers.
    pub address: SocketAddr,
    /// What it holds: tests and the demonstration look inside and change it, as its own users would.
    pub server: Arc<Mutex<Server>>,
    task: JoinHandle<()>,
}

impl Running {
    /// Returns the base address, `http://127.0.0.1:PORT/`.
    #[must_use]
    pub fn url(&self) -> String {
        format!("http://{}/", self.address)
    }

    /// Gives access to what the server holds.
    pub fn with<T>(&self, work: impl FnOnce(&mut Server) -> T) -> T {
        work(&mut self.server.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.task.abort();
    }
}

/// Reads the clock in milliseconds since 1970.
pub type Clock = Arc<dyn Fn() -> i64 + Send + Sync>;

/// A simulated server that runs on a thread of its own until the process ends.
#[derive(Debug, Clone)]
pub struct Site {
    /// The base address, `http://127.0.0.1:PORT/`.
    pub url: String,
    server: Arc<Mutex<Server>>,
}

impl Site {
    /// Gives access to what the server holds, as its own users have it.
    pub fn with<T>(&self, work: impl FnOnce(&mut Server) -> T) -> T {
        work(&mut self.server.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Serves on free ports from a thread of its own, for callers that are not asynchronous.
///
/// # Errors
/// No port is free, or no thread or runtime can be had.
pub fn serve_on_thread(servers: Vec<Server>, clock: Clock) -> std::io::Result<Vec<Site>> {
    let (tell, hear) = std::sync::mpsc::channel();
    std::thread::Builder::new().name("stand-ins".into()).spawn(move || {
        let start = || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
            let mut running = Vec::new();
            for server in servers {
                running.push(runtime.block_on(serve(server, 0, Arc::clone(&clock)))?);
            }
            Ok::<_, std::io::Error>((runtime, running))
        };
        let started = start();
        let site = |running: &Running| Site { url: running.url(), server: Arc::clone(&running.server) };
        let sites = started.as_ref().map(|(_, running)| running.iter().map(site).collect());
        let heard = tell.send(sites.map_err(|e| std::io::Error::new(e.kind(), e.to_string())));
        if let (Ok((runtime, _running)), Ok(())) = (started, heard) {
            runtime.block_on(std::future::pending::<()>());
        }
    })?;
    hear.recv().map_err(std::io::Error::other)?
}

/// What a server shows and asks for when a connection is encrypted; all PEM.
#[derive(Debug, Clone)]
pub struct Tls {
    /// Its certificate, with those above it.
    pub certificate: String,
    /// Its key.
    pub key: String,
    /// Who must have signed the certificates of those who come.
    pub client_ca: Option<String>,
}

impl Tls {
    fn config(&self) -> Result<rustls::ServerConfig, Box<dyn std::error::Error + Send + Sync>> {
        let chain = |pem: &str| CertificateDer::pem_slice_iter(pem.as_bytes()).collect::<Result<Vec<_>, _>>();
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let builder = rustls::ServerConfig::builder_with_provider(Arc::clone(&provider))
            .with_safe_default_protocol_versions()?;
        let builder = match &self.client_ca {
            None => builder.with_no_client_auth(),
            Some(pem) => {
                let mut roots = rustls::RootCertStore::empty();
                roots.add_parsable_certificates(chain(pem)?);
                let verifier =
                    WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider).build()?;
                builder.with_client_cert_verifier(verifier)
            }
        };
        Ok(builder.with_single_cert(
            chain(&self.certificate)?,
            PrivateKeyDer::from_pem_slice(self.key.as_bytes())?,
        )?)
    }
}

/// Serves encrypted on a free port, from a thread of its own; the address names `localhost`.
///
/// # Errors
/// No port is free, or the certificate cannot be used.
pub fn serve_tls_on_thread(server: Server, clock: Clock, tls: &Tls) -> std::io::Result<Site> {
    let acceptor = TlsAcceptor::from(Arc::new(tls.config().map_err(std::io::Error::other)?));
    let server = Arc::new(Mutex::new(server));
    let shared = Shared { server: Arc::clone(&server), clock };
    let inner = std::net::TcpListener::bind(("127.0.0.1", 0))?;
    inner.set_nonblocking(true)?;
    let url = format!("https://localhost:{}/", inner.local_addr()?.port());
    std::thread::Builder::new().name("stand-in with TLS".into()).spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        runtime.block_on(async {
            let listener = TlsListener { inner: TcpListener::from_std(inner)?, acceptor };
            axum::serve(listener, Router::new().fallback(answer).with_state(shared)).await
        })
    })?;
    Ok(Site { url, server })
}

struct TlsListener {
    inner: TcpListener,
    acceptor: TlsAcceptor,
}

impl axum::serve::Listener for TlsListener {
    type Io = TlsStream<TcpStream>;
    type Addr = SocketAddr;

    async fn accept(&mut self) -> (Self::Io, Self::Addr) {
        loop {
            let Ok((stream, address)) = self.inner.accept().await else { continue };
            let handshake = tokio::time::timeout(Duration::from_secs(5), self.acceptor.accept(stream));
            // Whoever does not like the certificate goes away here.
            if let Ok(Ok(stream)) = handshake.await {
                return (stream, address);
            }
        }
    }

    fn local_addr(&self) -> std::io::Result<Self::Addr> {
        self.inner.local_addr()
    }
}

#[derive(Clone)]
struct Shared {
    server: Arc<Mutex<Server>>,
    clock: Clock,
}

/// Serves on 127.0.0.1; port 0 takes a free one. `clock` is read for every request.
///
/// # Errors
/// The port is taken.
pub async fn serve(server: Server, port: u16, clock: Clock) -> std::io::Result<Running> {
    let listener = TcpListener::bind(("127.0.0.1", port)).await?;
    let address = listener.local_addr()?;
    let server = Arc::new(Mutex::new(server));
    let shared = Shared { server: Arc::clone(&server), clock };
    let app = Router::new().fallback(answer).with_state(shared);
    let task = tokio::spawn(async move {
        // It only ends by being aborted.
        drop(axum::serve(listener, app).await);
    });
    Ok(Running { address, server, task })
}

async fn answer(State(shared): State<Shared>, request: Request) -> Response {
    let (parts, body) = request.into_parts();
    let body = to_bytes(body, 64 << 20).await.unwrap_or_default();
    let headers = parts.headers.iter();
    let request = ServerRequest {
        method: parts.method.as_str().to_owned(),
        path: parts.uri.path_and_query().map_or_else(|| "/".to_owned(), |p| p.as_str().to_owned()),
        headers: headers
            .map(|(k, v)| (k.as_str().to_owned(), v.to_str().unwrap_or_default().to_owned()))
            .collect(),
        body: body.to_vec(),
    };
    if request.path.starts_with("/.standin/") {
        return respond(control(&shared, &request), &request, false, false);
    }
    let writes = matches!(request.method.as_str(), "PUT" | "DELETE");
    let parallel = {
        let mut server = lock(&shared);
        server.now_ms = (shared.clock)();
        server.writes_in_flight += usize::from(writes);
        server.has(Habit::LocksParallel) || server.has(Habit::FailsParallel)
    };
    if writes && parallel {
        // Long enough for another write to meet this one.
        tokio::time::sleep(Duration::from_millis(3)).await;
    }
    let (reply, gzip, close) = {
        let mut server = lock(&shared);
        let reply = server.handle(&request);
        server.writes_in_flight -= usize::from(writes);
        (reply, server.has(Habit::Gzip), server.has(Habit::OneRequestPerConnection))
    };
    if reply.delay_ms > 0 {
        tokio::time::sleep(Duration::from_millis(reply.delay_ms)).await;
    }
    respond(reply, &request, gzip, close)
}

fn lock(shared: &Shared) -> std::sync::MutexGuard<'_, Server> {
    shared.server.lock().unwrap_or_else(PoisonError::into_inner)
}

fn respond(reply: Reply, request: &ServerRequest, gzip: bool, close: bool) -> Response {
    let mut builder = Response::builder().status(reply.status);
    for (name, value) in &reply.headers {
        builder = builder.header(*name, value);
    }
    if close {
        builder = builder.header("Connection", "close");
    }
    let mut body = reply.body;
    if gzip && accepts_gzip(request) && !body.is_empty() {
        let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
        let packed = encoder.write_all(&body).and_then(|()| encoder.finish());
        body = packed.expect("writing to memory cannot fail");
        builder = builder.header("Content-Encoding", "gzip");
    }
    let whole = body.len();
    let body = if reply.lost || reply.half {
        let sent = if reply.lost { 0 } else { whole / 2 };
        builder = builder.header("Content-Length", whole.max(1));
        body.truncate(sent);
        broken(body)
    } else {
        Body::from(body)
    };
    builder.body(body).expect("statuses and headers are our own")
}

/// A body that ends in an error: the connection breaks there.
fn broken(start: Vec<u8>) -> Body {
    let chunks = [Ok(Bytes::from(start)), Err(std::io::Error::other("the fault that was asked for"))];
    Body::from_stream(futures_util::stream::iter(chunks))
}

/// `POST /.standin/faults` and `/.standin/habits` with JSON: so that another process can make it misbehave.
fn control(shared: &Shared, request: &ServerRequest) -> Reply {
    let mut server = lock(shared);
    let done = match request.path.as_str() {
        "/.standin/faults" => {
            serde_json::from_slice::<Vec<Fault>>(&request.body).map(|faults| server.faults = faults)
        }
        "/.standin/habits" => serde_json::from_slice(&request.body).map(|habits| server.habits = habits),
        _ => return Reply::status(404),
    };
    match done {
        Ok(()) => Reply::status(204),
        Err(e) => Reply::status(400).body("text/plain", e.to_string()),
    }
}
