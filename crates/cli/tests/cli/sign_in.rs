//! Signing in by OAuth against the stand-in's service: the test is the browser, and the person before it.

use std::io::{BufRead as _, BufReader};
use std::process::{Child, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};

use chestnut_standin::{Server, SignInService, Site, orchard_entries, serve_on_thread};
use chestnut_testkit::standin_now;
use url::Url;

use crate::desk::Desk;
use crate::set_up::Told;

const CLIENT: &str = "chestnut-at-the-packhouse";
const SECRET: &str = "s3cret-of-the-program";

struct Office {
    site: Site,
    desk: Desk,
    clock: Arc<AtomicI64>,
    /// After so many requests the server's clock jumps by two hours.
    jump: Arc<AtomicI64>,
}

impl Office {
    fn new(rotates: bool) -> Self {
        let mut server = Server::new(&["office"], standin_now() - 86_400_000);
        let presses = server.add_calendar("office", "presses", "Press hall", "#b5651d");
        server.add_calendar("office", "copies", "Copies", "#3366aa");
        for entry in orchard_entries(30, jiff::civil::date(2026, 10, 5)) {
            server.store(&presses, &entry.name, &entry.text);
        }
        let mut service = SignInService::new(CLIENT);
        service.client_secret = Some(SECRET.to_owned());
        service.rotates = rotates;
        server.sign_in = Some(service);
        let clock = Arc::new(AtomicI64::new(standin_now()));
        let jump = Arc::new(AtomicI64::new(-1));
        let (hand, left) = (Arc::clone(&clock), Arc::clone(&jump));
        let read = move || {
            if left.fetch_sub(1, Ordering::Relaxed) == 0 {
                hand.fetch_add(7_200_000, Ordering::Relaxed);
            }
            hand.load(Ordering::Relaxed)
        };
        let site = serve_on_thread(vec![server], Arc::new(read));
        let site = site.expect("a server").remove(0);
        let desk = Desk::new();
        desk.private("client.secret", SECRET);
        let at = &site.url;
        desk.write(
            "chestnut.toml",
            format!(
                r#"
[account.cloud]
url = "{at}"
oauth = {{ client-id = "{CLIENT}", client-secret = {{ file = "client.secret" }}, authorize-url = "{at}sign-in/authorize", token-url = "{at}sign-in/token", device-url = "{at}sign-in/device", scopes = ["calendars"] }}

[calendar.presses]
account = "cloud"
path = "/office/calendars/presses/"

[calendar.copies]
account = "cloud"
path = "/office/calendars/copies/"

[route.presses-to-copies]
from = "presses"
to = "copies"
"#
            ),
        );
        Self { site, desk, clock, jump }
    }

    /// Starts a sign-in, and returns it with the first line of what it says that begins with `wanted`.
    fn begin(&self, arguments: &[&str], wanted: &str) -> (Child, String) {
        let mut command = self.desk.command(arguments);
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it starts");
        let mut lines = BufReader::new(child.stderr.take().expect("its words")).lines().map_while(Result::ok);
        let line = lines.find(|line| line.trim().starts_with(wanted)).expect(wanted);
        std::thread::spawn(move || lines.for_each(drop));
        (child, line.trim().to_owned())
    }

    /// Signs in as a person with a browser would; `answer` is yes or no.
    fn browse(&self, answer: &str) -> Told {
        let (child, address) = self.begin(&["account", "login", "cloud", "--no-browser"], "http");
        let page = get(&address);
        assert!(page.0 == 200 && page.1.contains("May this program"), "{page:?}");
        let (status, location) = get(&format!("{address}&answer={answer}&user=office"));
        assert_eq!(status, 302);
        // Somebody else's answer is turned away, and the sign-in goes on waiting.
        let mut forged = Url::parse(&location).expect("an address");
        forged.set_query(Some("code=forged&state=forged"));
        assert!(get(forged.as_str()).1.contains("not the sign-in that was asked for"));
        let (status, page) = get(&location);
        assert!(status == 200 && page.contains("You may close this page"), "{page}");
        Told::of(child.wait_with_output().expect("it ends"))
    }

    fn with_service<T>(&self, work: impl FnOnce(&mut SignInService) -> T) -> T {
        self.site.with(|server| work(server.sign_in.as_mut().expect("a service")))
    }
}

/// A browser, as far as it matters: the status, and the body or where it is sent on to.
fn get(address: &str) -> (u16, String) {
    use std::io::{Read as _, Write as _};
    let url = Url::parse(address).expect("an address");
    let host = url.host_str().unwrap_or_default();
    let mut stream = std::net::TcpStream::connect((host, url.port().unwrap_or(80))).expect("an answer");
    let target = &url[url::Position::BeforePath..];
    write!(stream, "GET {target} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\n\r\n").expect("sent");
    let mut answer = String::new();
    stream.read_to_string(&mut answer).expect("an answer");
    let (head, body) = answer.split_once("\r\n\r\n").expect("head and body");
    let status = head.split_whitespace().nth(1).and_then(|s| s.parse().ok()).expect("a status");
    let location =
        head.lines().find_map(|line| line.to_lowercase().starts_with("location:").then(|| line[9..].trim()));
    (status, location.unwrap_or(body).to_owned())
}

#[test]
fn with_a_browser_and_through_a_sync_in_which_the_token_ends() {
    for rotates in [true, false] {
        let office = Office::new(rotates);
        let desk = &office.desk;
        let told = desk.run(&["account", "test"]);
        assert!(told.said().contains("cannot be used (account cloud has not signed in yet)"), "{}", told.err);
        assert!(told.said().contains("Sign in: `chestnut account login cloud`"), "{}", told.err);
        let told = office.browse("no");
        assert!(told.code == 1 && told.err.is_empty(), "{told:?}");
        let told = office.browse("yes");
        assert_eq!(told.code, 0, "{told:?}");
        assert!(
            told.out.contains("cloud.tokens") && told.out.contains("chestnut account test cloud"),
            "{}",
            told.out
        );
        let told = desk.ok(&["account", "test"]);
        assert!(told.out.contains("accepted, by OAuth"), "{}", told.out);

        // In the middle of a sync the token runs out, by the server's clock: it is renewed, and nothing is lost or
        // written twice.
        office.jump.store(20, Ordering::Relaxed);
        let before = office.with_service(|service| service.secrets());
        let told = desk.ok(&["sync", "--json"]).json();
        let created = told["runs"][0]["calendars"]["copies"]["created"].as_u64().expect("a number");
        let copies = office.site.with(|server| server.collections["/office/calendars/copies/"].objects.len());
        assert_eq!((created as usize, told["runs"][0]["failed"].as_array().map(Vec::len)), (copies, Some(0)));
        assert_ne!(office.with_service(|service| service.secrets()), before);
        let writes = |server: &mut Server| server.log.iter().filter(|(method, _)| method == "PUT").count();
        assert!(office.jump.load(Ordering::Relaxed) < -10 && office.site.with(writes) > copies);

        // A day later the clock says that it has run out; it is renewed before anything is refused.
        office.clock.fetch_add(86_400_000, Ordering::Relaxed);
        let later = [("CHESTNUT_NOW", "2026-10-06T08:00:00Z")];
        office.site.with(|server| server.log.clear());
        let told = desk.run_with(&["sync", "--json"], &later);
        assert_eq!((told.code, &told.json()["runs"][0]["writes"]), (0, &0.into()), "{told:?}");
        office.site.with(|server| {
            let first = server.log.first().map(|(method, path)| format!("{method} {path}"));
            assert_eq!(first.as_deref(), Some("POST /sign-in/token"), "{:?}", server.log);
        });

        // Revoked: reported as such, nothing deleted, and a new sign-in mends it.
        office.with_service(SignInService::revoke);
        let told = desk.run_with(&["sync"], &later);
        assert_eq!(told.code, 1);
        assert!(told.said().contains("the sign-in has expired or was revoked"), "{}", told.err);
        assert!(told.said().contains("chestnut account login cloud"), "{}", told.err);
        // Nobody has a password there.
        let told = desk.run_with(&["status"], &later);
        assert!(told.out.contains("Sign in: `chestnut account login cloud`."), "{}", told.out);
        assert!(!told.out.contains("account password"), "{}", told.out);
        assert_eq!(office.browse("yes").code, 0);
        assert_eq!(desk.run_with(&["sync"], &later).code, 0);
    }
}

#[test]
fn with_a_code_typed_elsewhere() {
    let office = Office::new(true);
    let answer = |code: &str, word: &str| {
        get(&format!("{}sign-in/activate?user_code={code}&answer={word}&user=office", office.site.url)).0
    };
    let (child, code) = office.begin(&["account", "login", "cloud", "--code", "--json"], "PRESS-");
    assert_eq!(answer(&code, "yes"), 200);
    let told = Told::of(child.wait_with_output().expect("it ends"));
    assert_eq!((told.code, &told.json()["renewable"]), (0, &true.into()), "{told:?}");
    office.desk.ok(&["account", "test"]);
    let (child, code) = office.begin(&["account", "login", "cloud", "--code"], "PRESS-");
    assert_eq!(answer(&code, "no"), 200);
    assert_eq!(child.wait_with_output().expect("it ends").status.code(), Some(1));
    // A token of one's own does as well, as long as it lasts; there is nothing to renew it with.
    let kept: serde_json::Value = serde_json::from_str(&office.desk.read("cloud.tokens")).expect("JSON");
    let desk = Desk::new();
    desk.private("cloud.token", kept["access_token"].as_str().expect("a token"));
    let with_token = ["account", "add", "cloud", &office.site.url, "--token-from", "file:cloud.token"];
    assert!(desk.ok(&with_token).said().contains("accepted, by token"));
    office.with_service(SignInService::end_access);
    let told = desk.run(&["calendar", "list"]);
    assert!(told.code == 1 && told.said().contains("the server refuses the token (401)"), "{told:?}");
    office.desk.rights("cloud.tokens", 0o644);
    let told = office.desk.run(&["account", "test"]);
    assert!(
        told.said().contains("others may read the tokens in") && told.said().contains("chmod 600"),
        "{}",
        told.err
    );
}

/// Guarantee 8: after everything was done, secrets stand where they are kept, and nowhere else.
#[test]
fn secrets_stay_out_of_arguments_state_logs_and_errors() {
    let office = Office::new(true);
    assert_eq!(office.browse("yes").code, 0);
    let desk = &office.desk;
    let mut said = String::new();
    for arguments in [
        &["account", "test", "-vv"][..],
        &["account", "list", "--json"],
        &["calendar", "list", "-vv"],
        &["preview", "-vv"],
        &["sync", "-vv"],
        &["status"],
        &["history", "1"],
    ] {
        let told = desk.run(arguments);
        said += &format!("{}{}", told.out, told.err);
    }
    let mut secrets = office.with_service(|service| service.secrets());
    office.with_service(SignInService::revoke);
    let told = desk.run(&["sync", "-vv"]);
    said += &format!("{}{}", told.out, told.err);
    assert!(said.contains("request"), "the log was not written");
    secrets.push(SECRET.to_owned());
    let kept = ["cloud.tokens", "client.secret"];
    for file in std::fs::read_dir(desk.folder.path()).expect("the folder").map_while(Result::ok) {
        let name = file.file_name().into_string().expect("a name");
        if !kept.contains(&name.as_str()) {
            said += &String::from_utf8_lossy(&std::fs::read(file.path()).expect("readable"));
        }
    }
    for secret in &secrets {
        assert!(!said.contains(secret.as_str()), "{secret}");
    }
    // Passwords and secret addresses of feeds too.
    let mut server = Server::new(&["office"], 0);
    server.add_calendar("office", "copies", "Copies", "");
    server.feeds.insert("/private-7f3a9c/days.ics".into(), "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTART:20261010T080000Z\r\nSUMMARY:Market\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n".into());
    let site = serve_on_thread(vec![server], Arc::new(standin_now)).expect("a server").remove(0);
    let desk = Desk::new();
    desk.account(&site.url, "");
    desk.private("feed.address", &format!("{}private-7f3a9c/days.ics\n", site.url));
    let added = desk.ok(&["calendar", "add", "market", "--feed-from", "file:feed.address"]);
    desk.ok(&["calendar", "add", "copies", "--account", "packhouse", "--path", "/office/calendars/copies/"]);
    let routed = desk.read("chestnut.toml") + "\n[route.market]\nfrom = \"market\"\nto = \"copies\"\n";
    desk.write("chestnut.toml", routed);
    let first = desk.ok(&["sync", "-vv"]);
    site.with(|server| server.feeds.clear());
    let gone = desk.run(&["sync", "-vv"]);
    assert_eq!(gone.code, 1);
    desk.private("office.password", "another-wr0ng-word\n");
    let refused = desk.run(&["calendar", "list", "-vv"]);
    let state =
        String::from_utf8_lossy(&std::fs::read(desk.path("chestnut.state")).expect("a state")).into_owned();
    let configuration = desk.read("chestnut.toml");
    for secret in ["office-pw", "another-wr0ng-word", "b2ZmaWNl", "private-7f3a9c"] {
        for told in [&added, &first, &gone, &refused] {
            assert!(!told.out.contains(secret) && !told.said().contains(secret), "{secret}: {told:?}");
        }
        assert!(!state.contains(secret) && !configuration.contains(secret), "{secret}");
    }
}
