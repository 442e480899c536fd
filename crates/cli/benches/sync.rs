//! Whole syncs between two stand-in servers over real sockets, beside the same requests sent bare at the same
//! concurrency: what a sync costs above what its requests cost.
//!
//! `cargo bench -p chestnut --bench sync [-- SIZES]`

use std::cell::RefCell;
use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use chestnut_caldav::Credentials;
use chestnut_caldav::{
    Answer, Client, ClientOptions, HttpOptions, HttpTransport, Request, SignIn, Transport, TransportError,
};
use chestnut_core::{Kind, RouteKey};
use chestnut_engine::{Calendar, CalendarEnd, Rule, RunOptions, Silent, run_route};
use chestnut_standin::{Fault, FaultKind, Server, Site, orchard_entries, serve_on_thread};
use chestnut_store::Store;
use futures_util::StreamExt as _;
use tokio::time::Instant;

const AT_ONCE: usize = 4;
const ROUNDS: usize = 3;

/// Notes what is sent.
struct Recorder {
    inner: HttpTransport,
    sent: Rc<RefCell<Vec<Request>>>,
}

impl Transport for Recorder {
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>> {
        self.sent.borrow_mut().push(request.clone());
        self.inner.send(request)
    }
}

fn http() -> HttpTransport {
    let credentials = Credentials { user: "office".into(), password: "office-pw".to_owned().into() };
    HttpTransport::new(HttpOptions { sign_in: SignIn::Password(credentials), ..HttpOptions::default() })
        .expect("a transport")
}

fn now_ms() -> i64 {
    1_791_187_200_000
}

/// One of a hundred requests of each kind fails: refused for now, with a time to wait, or its answer is lost.
fn failures(entries: usize) -> impl Iterator<Item = Fault> {
    let kinds = [
        FaultKind::Status { code: 500, retry_after: None },
        FaultKind::Status { code: 503, retry_after: Some(1) },
        FaultKind::LoseAnswer,
    ];
    // All of them count every request. Not in step with anything: what is sent again would fail again and again.
    let after = |number: usize| 100 * number + 20 + number * 37 % 79;
    let fault = move |n: usize| Fault { after: after(n), ..Fault::once("PUT", kinds[n % 3].clone()) };
    (0..entries / 100).map(fault)
}

fn servers(entries: usize, late_ms: u64, fails: bool) -> [Site; 2] {
    let mut source = Server::new(&["office"], now_ms() - 86_400_000);
    let path = source.add_calendar("office", "presses", "Press hall", "");
    for entry in orchard_entries(entries, jiff::civil::date(2026, 10, 5)) {
        source.store(&path, &entry.name, &entry.text);
    }
    let mut target = Server::new(&["office"], now_ms() - 86_400_000);
    target.add_calendar("office", "board", "Board", "");
    if fails {
        target.faults.extend(failures(entries));
    }
    if late_ms > 0 {
        let late = Fault { method: None, path: None, after: 0, times: 0, kind: FaultKind::Delay(late_ms) };
        source.faults.push(late.clone());
        target.faults.push(late);
    }
    let sites = serve_on_thread(vec![source, target], Arc::new(now_ms)).expect("servers");
    sites.try_into().expect("two servers")
}

fn route(sites: &[Site; 2], sent: &Rc<RefCell<Vec<Request>>>) -> Rule {
    let end = |name: &str, site: &Site, path: &str| {
        let recorder = Rc::new(Recorder { inner: http(), sent: Rc::clone(sent) });
        let calendar = Calendar::Dav {
            client: Client::new(recorder, ClientOptions { at_once: AT_ONCE, ..ClientOptions::default() }),
            url: format!("{}office/calendars/{path}/", site.url).parse().expect("an address"),
        };
        CalendarEnd::new(name, Some(name), calendar)
    };
    let ends = (end("source", &sites[0], "presses"), end("target", &sites[1], "board"));
    let mut route = Rule::one_way("bench", ends.0, ends.1, RouteKey::new(b"key", "bench"));
    route.kinds = [Kind::Event, Kind::Task].into_iter().collect();
    route
}

/// A sync; returns what it took and what it sent.
async fn sync(sites: &[Site; 2], store: &Store) -> (Duration, Vec<Request>) {
    let sent = Rc::default();
    let route = route(sites, &sent);
    let options = RunOptions::at(jiff::Timestamp::from_millisecond(now_ms()).expect("a moment"));
    let began = Instant::now();
    let report = run_route(&route, store, &options, &Silent).await.expect("a run");
    let took = began.elapsed();
    let is_well = report.error.is_none() && report.summary.failed == 0;
    assert!(is_well, "{:?} {:?}", report.summary, report.changes);
    drop(route);
    (took, Rc::try_unwrap(sent).expect("nobody else has it").into_inner())
}

/// The same requests, to servers in the same state, with nothing around them.
async fn bare(sites: &[Site; 2], requests: &[Request], before: &[Site; 2]) -> Duration {
    // One for each server: a sign-in goes to one alone.
    let transports = [http(), http()];
    let moved: Vec<(usize, Request)> = requests
        .iter()
        .map(|request| {
            let at = before.iter().position(|site| request.url.as_str().starts_with(&site.url));
            let at = at.expect("one of the two");
            let text = request.url.as_str().replace(&before[at].url, &sites[at].url);
            (at, Request { url: text.parse().expect("an address"), ..request.clone() })
        })
        .collect();
    let began = Instant::now();
    let one = async |(at, request): &(usize, Request)| {
        // What fails is in the list once more; whoever sends it waits as long as a run does.
        match transports[*at].send(request).await {
            Ok(answer) if answer.status == 503 => tokio::time::sleep(Duration::from_secs(1)).await,
            Ok(answer) if answer.status < 500 => {}
            _ => tokio::time::sleep(Duration::from_millis(400)).await,
        }
    };
    let sends = futures_util::stream::iter(&moved).map(one).buffer_unordered(AT_ONCE);
    sends.collect::<()>().await;
    began.elapsed()
}

fn median(mut times: Vec<f64>) -> f64 {
    times.sort_by(f64::total_cmp);
    times[times.len() / 2]
}

#[expect(clippy::print_stdout, reason = "a benchmark prints its figures")]
fn main() {
    drop(rustls::crypto::ring::default_provider().install_default());
    let sizes: Vec<usize> = std::env::args().filter_map(|a| a.parse().ok()).collect();
    let sizes = if sizes.is_empty() { vec![1_000, 10_000] } else { sizes };
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    println!(
        "entries | answers late |          | what            | requests |   sync s |   bare s | ratio (median of {ROUNDS})"
    );
    let cases = sizes.into_iter().flat_map(|size| {
        // Beside servers that take their time, fewer entries tell the same.
        let slow = (size / 5, 50, true);
        [(size, 0, false), (size, 10, false), (size, 0, true), (size, 10, true), slow]
    });
    for (size, late_ms, fails) in cases {
        let (mut first, mut unchanged) = (Vec::new(), Vec::new());
        for _ in 0..ROUNDS {
            let folder = tempfile::tempdir().expect("a folder");
            // `CHESTNUT_STATE=postgres` measures a state in PostgreSQL.
            let shared = std::env::var_os("CHESTNUT_STATE").is_some_and(|kind| kind == "postgres");
            let database =
                shared.then(|| chestnut_testkit::postgres::database("bench").expect("it is installed"));
            let store = match &database {
                Some(database) => Store::connect(&database.place(60)),
                None => Store::open(&folder.path().join("state")),
            };
            let store = store.expect("a state");
            runtime.block_on(async {
                let sites = servers(size, late_ms, fails);
                let (took, sent) = sync(&sites, &store).await;
                let again = servers(size, late_ms, fails);
                let alone = bare(&again, &sent, &sites).await;
                first.push((took.as_secs_f64(), alone.as_secs_f64(), sent.len()));
                let (took, sent) = sync(&sites, &store).await;
                let alone = bare(&sites, &sent, &sites).await;
                unchanged.push((took.as_secs_f64(), alone.as_secs_f64(), sent.len()));
            });
        }
        for (what, rows) in [("first sync", first), ("unchanged sync", unchanged)] {
            if fails && what != "first sync" {
                continue;
            }
            let (took, alone) =
                (median(rows.iter().map(|r| r.0).collect()), median(rows.iter().map(|r| r.1).collect()));
            let ratio = median(rows.iter().map(|r| r.0 / r.1).collect());
            let requests = rows[0].2;
            println!(
                "{size:7} | {late_ms:9} ms | {} | {what:15} | {requests:8} | {took:8.3} | {alone:8.3} | {ratio:5.2}",
                if fails { "1 % fail" } else { "all well" }
            );
        }
    }
}
