//! What connections do: broken off, closed between requests, old, compressed, with trailers: the right result or a clear
//! error.

use std::io::Write as _;
use std::rc::Rc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use chestnut_caldav::{
    Client, ClientOptions, HttpOptions, HttpTransport, Request, Transport as _, TransportFault,
};

use crate::desk::{Desk, Part, raw_server, reply};

fn transport(max_answer: usize) -> HttpTransport {
    rustls::crypto::ring::default_provider().install_default().ok();
    let timeout = Duration::from_secs(1);
    HttpTransport::new(HttpOptions { max_answer, timeout, ..HttpOptions::default() }).expect("a transport")
}

fn get(url: &str) -> Request {
    let url = url.parse().expect("an address");
    Request { method: "GET", url, headers: Vec::new(), body: String::new() }
}

fn packed(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::best());
    encoder.write_all(bytes).expect("it is packed");
    encoder.finish().expect("it is packed")
}

#[tokio::test]
async fn an_odd_connection_gives_the_right_result_or_a_clear_error() {
    let head = |rest: &str| format!("HTTP/1.1 200 OK\r\n{rest}\r\n").into_bytes();
    let gzip = |packed: &[u8]| {
        let length = packed.len();
        [head(&format!("Content-Encoding: gzip\r\nContent-Length: {length}\r\n")), packed.to_vec()].concat()
    };
    let chunked = head("Transfer-Encoding: chunked\r\n");
    type Expected = Result<(u16, &'static str), TransportFault>;
    let table: Vec<(&str, Vec<u8>, Expected)> = vec![
        ("HTTP/1.0, until it closes", b"HTTP/1.0 200 OK\r\n\r\npress".to_vec(), Ok((200, "press"))),
        ("until it closes", [head("Connection: close\r\n"), b"press".to_vec()].concat(), Ok((200, "press"))),
        ("trailers", [&chunked[..], b"5\r\npress\r\n0\r\nETag: \"a\"\r\n\r\n"].concat(), Ok((200, "press"))),
        (
            "100 before the answer",
            [b"HTTP/1.1 100 Continue\r\n\r\n".to_vec(), head("Content-Length: 5\r\n"), b"press".to_vec()]
                .concat(),
            Ok((200, "press")),
        ),
        (
            "204 with a body",
            b"HTTP/1.1 204 No Content\r\nContent-Length: 5\r\n\r\npress".to_vec(),
            Ok((204, "")),
        ),
        ("gzip", gzip(&packed(b"press")), Ok((200, "press"))),
        (
            "an ETag of no letters",
            [head("ETag: \"\u{e9}\u{1f333}\"\r\nContent-Length: 0\r\n")].concat(),
            Ok((200, "")),
        ),
        ("broken off in the head", b"HTTP/1.1 200 OK\r\nContent-".to_vec(), Err(TransportFault::Broken)),
        (
            "broken off in the body",
            [head("Content-Length: 50\r\n"), b"press".to_vec()].concat(),
            Err(TransportFault::Broken),
        ),
        ("broken off in a chunk", [&chunked[..], b"50\r\npress"].concat(), Err(TransportFault::Broken)),
        ("no chunk", [&chunked[..], b"press\r\n"].concat(), Err(TransportFault::Broken)),
        ("no gzip", gzip(b"press"), Err(TransportFault::Broken)),
        ("half a gzip", gzip(&packed(&[b'x'; 5000])[..12]), Err(TransportFault::Broken)),
        ("a gzip bomb", gzip(&packed(&vec![0; 64 << 20])), Err(TransportFault::TooLarge)),
        ("no HTTP", b"press\r\n\r\n".to_vec(), Err(TransportFault::Broken)),
        ("nothing", Vec::new(), Err(TransportFault::Broken)),
        (
            "two lengths",
            [head("Content-Length: 5\r\nContent-Length: 7\r\n"), b"press".to_vec()].concat(),
            Err(TransportFault::Broken),
        ),
    ];
    for (what, bytes, expected) in table {
        let url = raw_server(move |_| vec![Part::Bytes(bytes.clone())]);
        let began = Instant::now();
        let answer = transport(1 << 20).send(&get(&url)).await;
        let seen = match &answer {
            Ok(answer) => Ok((answer.status, std::str::from_utf8(&answer.body).expect("text"))),
            Err(error) => Err(error.fault),
        };
        assert_eq!(seen, expected, "{what}: {answer:?}");
        assert!(began.elapsed() < Duration::from_secs(5), "{what} takes {:?}", began.elapsed());
    }
    // Silence within an answer is bounded, however long the whole takes.
    let begins = head("Content-Length: 9\r\n");
    let silent = move || vec![Part::Bytes(begins.clone()), Part::Pause(Duration::from_secs(3))];
    let fault =
        transport(1 << 20).send(&get(&raw_server(move |_| silent()))).await.expect_err("silence").fault;
    assert_eq!(fault, TransportFault::Timeout);
}

/// A server that closes a connection after each answer, without saying so.
#[tokio::test]
async fn a_connection_that_is_closed_between_requests_is_made_anew() {
    let url = raw_server(|_| vec![Part::Bytes(b"HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n".to_vec())]);
    let client = Client::new(Rc::new(transport(1 << 20)), ClientOptions::default());
    for _ in 0..20 {
        let answer = client.options(&url.parse().expect("an address")).await;
        assert_eq!(answer.expect("an answer").status, 200);
    }
}

#[tokio::test]
async fn who_sends_on_may_ask_for_patience() {
    let asked = AtomicUsize::new(0);
    let url = raw_server(move |head| match head.starts_with("GET /next") {
        true => reply(200, "", "press"),
        false => {
            let wait = if asked.fetch_add(1, Ordering::SeqCst) == 0 { 1 } else { 3600 };
            reply(302, &format!("Location: /next\r\nRetry-After: {wait}\r\n"), "")
        }
    });
    let transport = transport(1 << 20);
    let began = Instant::now();
    assert_eq!(transport.send(&get(&url)).await.expect("an answer").status, 200);
    assert!(began.elapsed() >= Duration::from_secs(1), "{:?}", began.elapsed());
    // More than a request waits is for whoever asked to say; the next questions are not even sent.
    let client = Client::new(Rc::new(transport), ClientOptions::default());
    for _ in 0..3 {
        assert_eq!(client.options(&url.parse().expect("an address")).await.expect("an answer").status, 302);
    }
    assert!(client.counts().all <= 1, "{:?}", client.counts().all);
}

#[test]
fn a_feed_without_an_account_is_waited_for_and_taken_within_bounds() {
    let desk = Desk::new();
    let feed = |url: &str, more: &str| {
        desk.write(
            "chestnut.toml",
            format!(
                "[calendar.days]\nfeed = \"{url}\"\n{more}\n[calendar.kiosk]\nfolder = \"kiosk\"\n[route.days]\nfrom = \"days\"\nto = \"kiosk\"\n"
            ),
        );
        let began = Instant::now();
        let told = desk.run(&["sync"]);
        (told.code, told.said(), began.elapsed())
    };
    let silent = raw_server(|_| vec![Part::Pause(Duration::from_secs(20))]);
    let (code, said, took) = feed(&silent, "timeout = \"1s\"");
    assert!(code == 1 && said.contains("did not answer in time"), "{said}");
    assert!(took < Duration::from_secs(18), "{took:?}");
    let large = raw_server(|_| reply(200, "", &"x".repeat(3 << 20)));
    let (code, said, _) = feed(&large, "max-download = 2");
    assert!(code == 1 && said.contains("larger than"), "{said}");
    for (more, problem) in
        [("max-download = 0", "must be between 1 and 1024"), ("timeout = \"soon\"", "is not a duration")]
    {
        let (code, said, _) = feed(&large, more);
        assert!(code == 2 && said.contains(problem), "{said}");
    }
    desk.write("chestnut.toml", "[calendar.kiosk]\nfolder = \"kiosk\"\ntimeout = \"1s\"\n");
    assert!(desk.run(&["status"]).said().contains("is for feeds"));
}
