//! The client over a transport that answers as it is told.

use std::cell::{Cell, RefCell};
use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;
use std::time::Duration;

use chestnut_caldav::protocol::{Condition, Stored, SyncAnswer};
use chestnut_caldav::{
    Answer, Client, ClientOptions, DavError, Request, SignInKind, Transport, TransportError,
};
use futures_util::future::join_all;
use http::HeaderMap;
use tokio::time::Instant;
use url::Url;

type Work = dyn Fn(usize, &Request) -> (u16, Option<&'static str>, Duration);

/// Answers with what `work` says, given how many requests are in flight.
struct Told {
    work: Box<Work>,
    in_flight: Cell<usize>,
    most: Cell<usize>,
    seen: RefCell<Vec<String>>,
}

impl Transport for Told {
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>> {
        Box::pin(async move {
            self.in_flight.set(self.in_flight.get() + 1);
            self.most.set(self.most.get().max(self.in_flight.get()));
            self.seen.borrow_mut().push(format!("{} {}", request.method, request.url.path()));
            let (status, retry_after, takes) = (self.work)(self.in_flight.get(), request);
            tokio::time::sleep(takes).await;
            self.in_flight.set(self.in_flight.get() - 1);
            let mut headers = HeaderMap::new();
            if let Some(wait) = retry_after {
                headers.insert("retry-after", wait.parse().expect("a header"));
            }
            Ok(Answer {
                status,
                headers,
                body: Vec::new(),
                url: request.url.clone(),
                sign_in: SignInKind::Nothing,
            })
        })
    }
}

fn told(work: impl Fn(usize, &Request) -> (u16, Option<&'static str>, Duration) + 'static) -> Rc<Told> {
    Rc::new(Told {
        work: Box::new(work),
        in_flight: Cell::new(0),
        most: Cell::new(0),
        seen: RefCell::default(),
    })
}

fn calendar() -> Url {
    Url::parse("https://dav.packhouse.example/presses/").expect("an address")
}

async fn put_many(client: &Client, many: usize) -> Vec<Result<Stored, DavError>> {
    let calendar = calendar();
    let put = |i| {
        let (client, calendar) = (client.clone(), calendar.clone());
        async move { client.put(&calendar, &format!("/presses/{i}.ics").into(), "text", &Condition::Absent).await }
    };
    join_all((0..many).map(put)).await
}

#[tokio::test(start_paused = true)]
async fn more_at_once_only_where_it_brings_more() {
    let ms = Duration::from_millis;
    // A server that works on one thing at a time answers the slower the more it is asked.
    let one_by_one = told(move |at_once, _| (201, None, ms(20 * at_once as u64)));
    let client = Client::new(one_by_one.clone(), ClientOptions { at_once: 8, ..ClientOptions::default() });
    put_many(&client, 300).await;
    assert!(one_by_one.most.get() <= 2, "{}", one_by_one.most.get());
    let parallel = told(move |_, _| (201, None, ms(20)));
    let client = Client::new(parallel.clone(), ClientOptions { at_once: 8, ..ClientOptions::default() });
    put_many(&client, 300).await;
    assert_eq!(parallel.most.get(), 8);
    // One that refuses more than two at a time is met with fewer, and nothing is lost.
    let touchy = told(move |at_once, _| (if at_once > 2 { 423 } else { 201 }, None, ms(20)));
    let client = Client::new(touchy.clone(), ClientOptions { at_once: 8, ..ClientOptions::default() });
    let stored = put_many(&client, 300).await;
    assert!(stored.iter().all(|s| matches!(s, Ok(Stored::Done { .. }))));
    assert!(client.counts().writes < 330, "{:?}", client.counts());
}

#[tokio::test(start_paused = true)]
async fn retry_after_is_obeyed_and_refusals_are_not_repeated() {
    let now = Duration::ZERO;
    // Status, Retry-After, how often it is sent, the least and the most seconds it takes.
    let table = [
        (503, Some("20"), 4, 60, 61),
        (503, Some("3600"), 1, 0, 1),
        (429, None, 4, 7, 8),
        (500, None, 4, 7, 8),
        (403, None, 1, 0, 1),
        (401, None, 1, 0, 1),
        (507, None, 1, 0, 1),
    ];
    for (status, retry_after, times, least, most) in table {
        let server = told(move |_, _| (status, retry_after, now));
        let client = Client::new(server.clone(), ClientOptions::default());
        let began = Instant::now();
        put_many(&client, 1).await;
        let seconds = began.elapsed().as_secs();
        assert_eq!(server.seen.borrow().len(), times, "{status} {retry_after:?}");
        assert!((least..=most).contains(&seconds), "{status} {retry_after:?}: {seconds} s");
    }
}

#[tokio::test(start_paused = true)]
async fn patience_ends_and_a_storm_is_not_repeated_one_by_one() {
    // Half a minute of silence each time.
    let silent = told(|_, _| (504, None, Duration::from_secs(30)));
    let client = Client::new(silent.clone(), ClientOptions { at_once: 4, ..ClientOptions::default() });
    let began = Instant::now();
    put_many(&client, 500).await;
    assert!(began.elapsed() < Duration::from_secs(130), "{:?}", began.elapsed());
    let seen = silent.seen.borrow().len();
    assert!(seen <= 12, "{seen}");
    // What asks for an hour is left alone at once.
    let hour = told(|_, _| (503, Some("3600"), Duration::ZERO));
    let client = Client::new(hour.clone(), ClientOptions::default());
    put_many(&client, 50).await;
    assert_eq!(hour.seen.borrow().len(), 1);
    // Reading goes on well: only writes fail, and each is tried once soon.
    let full =
        told(|_, request| (if request.method == "PUT" { 500 } else { 207 }, None, Duration::from_millis(10)));
    let client = Client::new(full.clone(), ClientOptions::default());
    let began = Instant::now();
    for _ in 0..200 {
        put_many(&client, 1).await;
        drop(client.options(&calendar()).await);
    }
    assert!(client.counts().writes < 220, "{:?}", client.counts());
    assert!(began.elapsed() < Duration::from_secs(60), "{:?}", began.elapsed());
}

#[tokio::test(start_paused = true)]
async fn a_sync_report_without_end_ends() {
    let news = Rc::new(News(Cell::new(0)));
    let client = Client::new(Rc::<News>::clone(&news), ClientOptions::default());
    let told = client.changes_since(&calendar(), &"0".into()).await.expect("an answer");
    assert!(matches!(told, SyncAnswer::TokenRefused) && news.0.get() <= 100, "{}", news.0.get());
}

/// More under a new token each time.
struct News(Cell<usize>);

impl Transport for News {
    fn send<'a>(
        &'a self,
        request: &'a Request,
    ) -> Pin<Box<dyn Future<Output = Result<Answer, TransportError>> + 'a>> {
        self.0.set(self.0.get() + 1);
        let number = self.0.get();
        let body = format!(
            "<d:multistatus xmlns:d='DAV:'><d:response><d:href>/presses/{number}.ics</d:href><d:propstat><d:prop>\
             <d:getetag>\"{number}\"</d:getetag></d:prop></d:propstat></d:response><d:response><d:href>/presses/</d:href>\
             <d:status>HTTP/1.1 507 Insufficient Storage</d:status></d:response><d:sync-token>{number}</d:sync-token>\
             </d:multistatus>"
        );
        let answer = Answer {
            status: 207,
            headers: HeaderMap::new(),
            body: body.into(),
            url: request.url.clone(),
            sign_in: SignInKind::Nothing,
        };
        Box::pin(std::future::ready(Ok(answer)))
    }
}

#[tokio::test(start_paused = true)]
async fn once_asked_to_stop_it_reads_but_does_not_write() {
    let server = told(|_, _| (201, None, Duration::ZERO));
    let client = Client::new(server.clone(), ClientOptions::default());
    client.stop_writes_on(Rc::new(Cell::new(true)));
    assert!(matches!(put_many(&client, 1).await[0], Err(DavError::Transport(_))));
    drop(client.listing(&calendar()).await);
    assert_eq!(*server.seen.borrow(), ["PROPFIND /presses/"]);
}
