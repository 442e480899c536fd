//! Everything that can stand between an address and its calendars: each with the step at which it shows, its own
//! message, and what to do.

use std::io::Write as _;
use std::time::Duration;

use chestnut_standin::{Fault, FaultKind, Server, Site, serve_on_thread};
use chestnut_testkit::standin_now;
use flate2::Compression;
use flate2::write::GzEncoder;
use std::sync::Arc;

use crate::desk::{Desk, Part, raw_server, reply};

/// A server with one calendar.
fn office() -> Site {
    let mut server = Server::new(&["office"], standin_now() - 86_400_000);
    server.add_calendar("office", "presses", "Press hall", "#b5651d");
    serve_on_thread(vec![server], Arc::new(standin_now)).expect("a server").remove(0)
}

/// A server that fails every search in the same way.
fn failing(kind: FaultKind) -> String {
    let site = office();
    site.with(|server| server.faults = vec![Fault::always("PROPFIND", kind)]);
    site.url
}

fn status(code: u16) -> String {
    failing(FaultKind::Status { code, retry_after: None })
}

fn body(code: u16, content_type: &str, text: &str) -> String {
    failing(FaultKind::Body { code, content_type: content_type.into(), text: text.into() })
}

/// A 207 with these properties for whatever is asked.
fn multistatus(props: &str) -> String {
    format!(
        r#"<?xml version="1.0"?><d:multistatus xmlns:d="DAV:" xmlns:c="urn:ietf:params:xml:ns:caldav"><d:response><d:href>/</d:href><d:propstat><d:prop>{props}</d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response></d:multistatus>"#
    )
}

fn raw(script: impl Fn(&str) -> Vec<Part> + Send + Sync + 'static) -> String {
    raw_server(script)
}

const OPEN: &str = "HTTP/1.1 207 Multi-Status\r\nContent-Type: application/xml\r\n";

/// A few kilobytes on the wire that are gigabytes unpacked.
fn bomb() -> Vec<u8> {
    let mut encoder = GzEncoder::new(Vec::new(), Compression::best());
    let zeros = vec![b' '; 1 << 20];
    for _ in 0..300 {
        encoder.write_all(&zeros).expect("memory");
    }
    encoder.finish().expect("memory")
}

struct Wrong {
    what: &'static str,
    url: String,
    more: &'static str,
    step: &'static str,
    message: &'static str,
    hint: &'static str,
}

fn wrong(
    what: &'static str,
    url: impl Into<String>,
    more: &'static str,
    step: &'static str,
    message: &'static str,
    hint: &'static str,
) -> Wrong {
    Wrong { what, url: url.into(), more, step, message, hint }
}

fn ways() -> Vec<Wrong> {
    const QUICK: &str = "timeout = \"1s\"";
    let elsewhere = office().url;
    let location = format!("Location: {}\r\n", elsewhere.replace("127.0.0.1", "localhost"));
    vec![
        wrong(
            "host",
            "https://packhouse.invalid/",
            "",
            "name",
            "the host name packhouse.invalid is not known",
            "Check the host in the url",
        ),
        wrong(
            "port",
            "http://127.0.0.1:1/",
            "",
            "connection",
            "nothing answers at 127.0.0.1:1",
            "Check host and port",
        ),
        wrong(
            "https where http is spoken",
            office().url.replace("http:", "https:"),
            "",
            "encryption",
            "127.0.0.1 answers in plain HTTP",
            "with http:// and say `plain-http = true`",
        ),
        wrong(
            "path",
            format!("{}nowhere/", status(404)),
            "",
            "principal",
            "there is nothing at",
            "the bare host will do",
        ),
        wrong("gone for good", status(410), "", "principal", "(410)", "the bare host will do"),
        wrong(
            "401 with Basic",
            raw(|_| reply(401, "WWW-Authenticate: Basic realm=\"x\"\r\n", "")),
            "",
            "sign-in",
            "refuses the user name or the password",
            "app password",
        ),
        wrong(
            "401 without a scheme",
            raw(|_| reply(401, "", "")),
            "",
            "sign-in",
            "refuses the user name or the password",
            "does not say how to sign in",
        ),
        wrong(
            "401 with tokens alone",
            raw(|_| reply(401, "WWW-Authenticate: Bearer realm=\"x\"\r\n", "")),
            "",
            "sign-in",
            "accepts tokens, not passwords",
            "`token`, or `oauth`",
        ),
        wrong(
            "401 with something else",
            raw(|_| reply(401, "WWW-Authenticate: Negotiate\r\nWWW-Authenticate: NTLM\r\n", "")),
            "",
            "sign-in",
            "does not know: negotiate, ntlm",
            "app password or a token",
        ),
        wrong("403", status(403), "", "principal", "does not allow this", "Ask for the right"),
        wrong("405", status(405), "", "principal", "answered 405", "no CalDAV at this address"),
        wrong("500", status(500), "", "principal", "answered 500", "The fault is the server's"),
        wrong(
            "503",
            failing(FaultKind::Status { code: 503, retry_after: Some(3600) }),
            "",
            "principal",
            "answered 503",
            "Run it again later",
        ),
        wrong("429", status(429), "", "principal", "answered 429", "lower `at-once`"),
        wrong(
            "a redirect in a circle",
            raw(|_| reply(302, "Location: /again\r\n", "")),
            "",
            "server",
            "redirects in a circle",
            "Check the url",
        ),
        wrong(
            "a redirect to nowhere",
            raw(|_| reply(301, "Location: gopher://old.packhouse.example/\r\n", "")),
            "",
            "server",
            "redirects in a circle or to nowhere",
            "Check the url",
        ),
        wrong(
            "a redirect to another server",
            raw(move |_| reply(308, &location, "")),
            "",
            "sign-in",
            "127.0.0.1 sends sign-ins to http://localhost:",
            "--sign-in-also-at http://localhost:",
        ),
        wrong(
            "a web page",
            body(200, "text/html", "<html>Sign in</html>"),
            "",
            "principal",
            "gave no CalDAV answer to the search for calendars: a web page",
            "a sign-in page",
        ),
        wrong(
            "JSON",
            body(200, "application/json", "{}"),
            "",
            "principal",
            "application/json with status 200",
            "not a CalDAV server",
        ),
        wrong(
            "an empty answer",
            body(200, "text/plain", ""),
            "",
            "principal",
            "an empty answer (status 200)",
            "not a CalDAV server",
        ),
        wrong(
            "invalid XML",
            body(207, "application/xml", "<d:multistatus xmlns:d='DAV:'><d:resp"),
            "",
            "principal",
            "gave no CalDAV answer",
            "damaged on the way",
        ),
        wrong(
            "XML with entities",
            body(
                207,
                "application/xml",
                "<!DOCTYPE x [<!ENTITY a \"aaaa\"><!ENTITY b \"&a;&a;&a;\">]><d:multistatus xmlns:d='DAV:'>&b;</d:multistatus>",
            ),
            "",
            "principal",
            "gave no CalDAV answer",
            "damaged on the way",
        ),
        wrong(
            "XML without end in depth",
            body(207, "application/xml", &"<a>".repeat(100_000)),
            "",
            "principal",
            "gave no CalDAV answer",
            "damaged on the way",
        ),
        wrong(
            "another document",
            body(207, "application/xml", "<feed xmlns='http://www.w3.org/2005/Atom'/>"),
            "",
            "principal",
            "<feed> instead of <multistatus>",
            "not a CalDAV server",
        ),
        wrong(
            "missing properties",
            body(207, "application/xml", &multistatus("<d:displayname>x</d:displayname>")),
            "",
            "home",
            "names no principal and no calendar home",
            "a CalDAV address, not that of the web page",
        ),
        wrong(
            "half an answer",
            raw(|_| vec![Part::Bytes(format!("{OPEN}Content-Length: 500\r\n\r\n<d:multi").into_bytes())]),
            "",
            "server",
            "broke before the answer was complete",
            "Run it again",
        ),
        wrong(
            "no HTTP at all",
            raw(|_| vec![Part::Bytes(b"220 orchard ESMTP\r\n".to_vec())]),
            "",
            "server",
            "broke before the answer was complete",
            "Run it again",
        ),
        wrong(
            "an endless body",
            raw(|_| {
                vec![
                    Part::Bytes(OPEN.replace("\r\nContent", "\r\nConnection: close\r\nContent").into_bytes()),
                    Part::Bytes(b"\r\n".to_vec()),
                    Part::Forever(vec![b' '; 1 << 20]),
                ]
            }),
            "",
            "server",
            "larger than the limit of 64 MiB",
            "No calendar server answers like this",
        ),
        wrong(
            "a small body that unpacks without end",
            raw(|_| {
                let bomb = bomb();
                vec![
                    Part::Bytes(
                        format!(
                            "{OPEN}Content-Encoding: gzip\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                            bomb.len()
                        )
                        .into_bytes(),
                    ),
                    Part::Bytes(bomb),
                ]
            }),
            "",
            "server",
            "larger than the limit of 64 MiB",
            "No calendar server answers like this",
        ),
        wrong(
            "a slow body",
            raw(|_| {
                vec![
                    Part::Bytes(format!("{OPEN}Content-Length: 500\r\n\r\n").into_bytes()),
                    Part::Pause(Duration::from_secs(5)),
                ]
            }),
            QUICK,
            "server",
            "did not answer in time",
            "raise `timeout`",
        ),
        wrong(
            "silence",
            raw(|_| vec![Part::Pause(Duration::from_secs(5))]),
            QUICK,
            "server",
            "did not answer in time",
            "raise `timeout`",
        ),
        wrong(
            "the proxy is not there",
            "http://dav.packhouse.example/",
            "proxy = \"http://127.0.0.1:1\"\nplain-http = true",
            "connection",
            "nothing answers at 127.0.0.1:1",
            "This is the proxy on the way",
        ),
        wrong(
            "the proxy wants a sign-in",
            "http://dav.packhouse.example/",
            "plain-http = true",
            "principal",
            "407",
            "The proxy requires sign-in",
        ),
    ]
}

#[test]
fn every_way_to_be_wrong_has_a_step_a_message_and_a_hint_of_its_own() {
    let proxy = raw(|_| reply(407, "Proxy-Authenticate: Basic realm=\"proxy\"\r\n", ""));
    let ways = ways();
    assert!(ways.len() >= 25);
    let mut problems = Vec::new();
    for Wrong { what, url, more, step, message, hint } in ways {
        let desk = Desk::new();
        desk.account(&url, more);
        let through = if what.contains("wants a sign-in") { proxy.as_str() } else { "" };
        let told = desk.run_with(&["account", "test", "--json"], &[("HTTP_PROXY", through)]);
        let account = &told.json()["accounts"][0];
        let steps = account["steps"].as_array().expect("steps");
        let last = steps.last().unwrap_or(&serde_json::Value::Null);
        let text = |key: &str| account[key].as_str().unwrap_or_default().to_owned();
        // Where a person has to say something, it is a matter of usage.
        let code = if what == "a redirect to another server" { 2 } else { 1 };
        let seen = (told.code, last["step"].as_str().unwrap_or_default(), last["ok"].as_bool());
        let fits = seen == (code, step, Some(false))
            && text("error").contains(message)
            && text("hint").contains(hint);
        // Who is not answered by a calendar server (207) does not know whether the password is right.
        let claims = steps.iter().any(|s| s["step"] == "sign-in" && s["ok"] == true);
        assert!(
            !(step == "principal" && claims) || what.contains("XML") || what == "another document",
            "{what}: {steps:?}"
        );
        if !fits || steps.iter().rev().skip(1).any(|s| s["ok"] != true) {
            problems.push(format!("{what}: {seen:?}\n  {}\n  {}", text("error"), text("hint")));
        }
        assert!(!told.out.contains("office-pw") && !told.said().contains("office-pw"), "{what}");
    }
    assert!(problems.is_empty(), "{}", problems.join("\n"));
}

#[test]
fn what_only_looks_wrong_works_and_is_mentioned() {
    // A calendar home without a calendar, a content type that is not XML's, a clock that is hours behind.
    let site = office();
    site.with(|server| server.collections.clear());
    let desk = Desk::new();
    desk.account(&site.url, "");
    let told = desk.ok(&["account", "test"]);
    assert!(told.out.contains("chestnut calendar create packhouse \"NAME\""), "{}", told.out);

    let behind = Arc::new(|| standin_now() - 5 * 3_600_000);
    let mut server = Server::new(&["office"], 0);
    server.add_calendar("office", "presses", "Press hall", "");
    let late = serve_on_thread(vec![server], behind).expect("a server").remove(0);
    desk.account(&late.url, "");
    let told = desk.ok(&["account", "test"]);
    assert!(told.out.contains("the server's clock is 5 hours behind this machine's"), "{}", told.out);

    let plain = raw(|head| {
        let home = r#"<d:current-user-principal><d:href>/office/</d:href></d:current-user-principal>"#;
        let principal = r#"<c:calendar-home-set><d:href>/office/home/</d:href></c:calendar-home-set>"#;
        let calendar = r#"<d:resourcetype><d:collection/><c:calendar/></d:resourcetype>"#;
        let path = head.split_whitespace().nth(1).unwrap_or_default();
        let body = multistatus(match path {
            "/" => home,
            "/office/" => principal,
            _ => calendar,
        });
        reply(207, "Content-Type: text/plain\r\n", &body)
    });
    desk.account(&plain, "");
    desk.ok(&["account", "test"]);
}

#[test]
fn a_password_goes_nowhere_unencrypted_and_secrets_must_be_private() {
    let desk = Desk::new();
    // The name leads to this machine through a proxy, and still is another machine's.
    let site = office();
    desk.account("http://dav.packhouse.example/", &format!("proxy = \"{}\"", site.url));
    let told = desk.run(&["account", "test"]);
    assert_eq!(told.code, 1);
    assert!(
        told.said().contains("a password would be sent unencrypted to dav.packhouse.example"),
        "{}",
        told.err
    );
    assert!(told.said().contains("plain-http = true"), "{}", told.err);
    desk.account("http://dav.packhouse.example/", &format!("proxy = \"{}\"\nplain-http = true", site.url));
    desk.ok(&["account", "test"]);
    desk.account("http://dav.packhouse.example/", "plain-http = true");
    let proxied =
        desk.run_with(&["account", "test"], &[("http_proxy", &site.url), ("NO_PROXY", "elsewhere.example")]);
    assert_eq!(proxied.code, 0, "{proxied:?}");
    let straight =
        desk.run_with(&["account", "test"], &[("http_proxy", &site.url), ("NO_PROXY", "packhouse.example")]);
    assert_eq!(straight.code, 1, "{straight:?}");

    desk.account(&site.url, "");
    desk.rights("office.password", 0o644);
    let told = desk.run(&["calendar", "list"]);
    assert_eq!(told.code, 2);
    assert!(told.said().contains("others may read the password file"), "{}", told.err);
    assert!(told.said().contains("Fix it with: chmod 600"), "{}", told.err);
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt as _;
        desk.rights("office.password", 0o640);
        // What is root's is handed to a service by its group.
        let user = std::fs::metadata(desk.path("office.password")).expect("a file").uid();
        assert_eq!(desk.run(&["calendar", "list"]).code, if user == 0 { 0 } else { 2 });
    }
    desk.write("chestnut.toml", format!("[account.packhouse]\nurl = \"{}\"\nuser = \"office\"\npassword = {{ plain-text = \"office-pw\" }}\n", site.url));
    desk.rights("chestnut.toml", 0o644);
    let told = desk.run(&["calendar", "list"]);
    assert!(told.said().contains("holds a secret, and others may read"), "{}", told.err);
    desk.rights("chestnut.toml", 0o600);
    desk.ok(&["calendar", "list"]);
}
