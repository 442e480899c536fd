//! Left running: `watch` in a process of its own, on real time; who is told of troubles; what timers use.

use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};

use chestnut_standin::{Fault, FaultKind, Server, Site, orchard_entries, serve_on_thread};
use chestnut_testkit::hermetic;
use jiff::{Span, Timestamp};
use tempfile::TempDir;

use crate::set_up::{BOARD, PRESSES, PROGRAM, SetUp, Told};

/// Two servers whose clocks are right, and a folder with a configuration.
struct Place {
    folder: TempDir,
    sites: Vec<Site>,
}

/// A process that is ended with the test.
struct Watch(Child);

impl Drop for Watch {
    fn drop(&mut self) {
        drop(self.0.kill());
        drop(self.0.wait());
    }
}

impl Place {
    fn new(entries: usize) -> Self {
        let now = || clock().as_millisecond();
        let mut source = Server::new(&["office"], now() - 86_400_000);
        let path = source.add_calendar("office", "presses", "Press hall", "#b5651d");
        for entry in orchard_entries(entries, clock().to_zoned(jiff::tz::TimeZone::UTC).date()) {
            source.store(&path, &entry.name, &entry.text);
        }
        let mut target = Server::new(&["board"], now() - 86_400_000);
        target.add_calendar("board", "board", "Notice board", "#3366aa");
        let sites = serve_on_thread(vec![source, target], Arc::new(now)).expect("servers");
        let place = Self { folder: TempDir::new().expect("a folder"), sites };
        for (user, name) in [("office", "office.password"), ("board", "board.password")] {
            place.private(name, &format!("{user}-pw\n"));
        }
        place.write("tell", "#!/bin/sh\n[ ! -e deaf ] || exit 7\ncat >> told\n");
        place
    }

    fn write(&self, name: &str, text: &str) {
        let path = self.folder.path().join(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        std::fs::write(&path, text).expect("written");
        #[cfg(unix)]
        if text.starts_with("#!") {
            use std::os::unix::fs::PermissionsExt as _;
            std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o755)).expect("rights");
        }
    }

    fn private(&self, name: &str, text: &str) {
        self.write(name, text);
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            let path = self.folder.path().join(name);
            std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o600)).expect("rights");
        }
    }

    /// Accounts and calendars, and one route that comes every second.
    fn configure(&self, top: &str, more: &str) {
        let text = format!(
            "timezone = \"Europe/Ljubljana\"\non-trouble = [\"./tell\"]\n{top}\n[watch]\neager = true\n\
             [account.packhouse]\nurl = \"{}\"\nuser = \"office\"\npassword = {{ file = \"office.password\" }}\npatience = \"1s\"\n\
             [account.cloud]\nurl = \"{}\"\nuser = \"board\"\npassword = {{ file = \"board.password\" }}\npatience = \"1s\"\n\
             [calendar.presses]\naccount = \"packhouse\"\npath = \"{PRESSES}\"\n\
             [calendar.board]\naccount = \"cloud\"\nname = \"Notice board\"\n\
             [route.bookings]\nfrom = \"presses\"\nto = \"board\"\nevery = \"1s\"\nnote = \"Ask the press hall\"\n{more}",
            self.sites[0].url, self.sites[1].url
        );
        self.write("chestnut.toml", &text);
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = hermetic(Path::new(PROGRAM), self.folder.path());
        command.env_remove("CHESTNUT_NOW").env("PATH", "/usr/bin:/bin").args(arguments);
        command
    }

    fn run(&self, arguments: &[&str]) -> Told {
        Told::of(self.command(arguments).output().expect("the program runs"))
    }

    fn ok(&self, arguments: &[&str]) -> Told {
        let told = self.run(arguments);
        assert_eq!(told.code, 0, "{arguments:?}: {told:?}");
        told
    }

    fn watch(&self) -> Watch {
        let mut command = self.command(&["watch", "--log", "log"]);
        command.stdout(Stdio::null()).stderr(Stdio::inherit());
        Watch(command.spawn().expect("the program runs"))
    }

    fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.folder.path().join(name)).unwrap_or_default()
    }

    /// How many requests the servers got.
    fn asked(&self) -> usize {
        self.sites.iter().map(|site| site.with(|server| server.log.len())).sum()
    }

    fn board(&self) -> String {
        self.sites[1]
            .with(|server| server.texts(BOARD))
            .into_values()
            .collect::<String>()
            .replace("\r\n ", "")
    }

    fn edit(&self, name: &str, title: &str) {
        self.sites[0].with(|server| {
            let text = server.texts(PRESSES).remove(name).expect("the entry is there");
            let line = text.lines().find(|line| line.starts_with("SUMMARY")).expect("a title").to_owned();
            server.store(PRESSES, name, &text.replace(&line, &format!("SUMMARY:{title}")));
        });
    }

    /// What the program was told, in its order: events and kinds.
    fn told(&self) -> Vec<serde_json::Value> {
        self.read("told").lines().map(|line| serde_json::from_str(line).expect("JSON")).collect()
    }

    fn was_told(&self, event: &str, kind: &str) -> bool {
        self.told().iter().any(|told| told["event"] == event && told["kind"] == kind)
    }
}

/// A process that is left running lives in real time.
#[expect(clippy::disallowed_methods, reason = "servers and program have the clock of this machine")]
fn clock() -> Timestamp {
    Timestamp::now()
}

fn seconds_asked_for() -> Option<u64> {
    std::env::var_os("CHESTNUT_LEFT_RUNNING")?.into_string().ok()?.parse().ok()
}

/// Waits for something that comes soon.
fn wait_for(what: &str, seconds: u64, place: &Place, is: impl Fn() -> bool) {
    let began = Instant::now();
    while !is() {
        assert!(
            began.elapsed() < Duration::from_secs(seconds),
            "{what} does not come: {}{:?}",
            place.read("log"),
            place.told()
        );
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[cfg(unix)]
fn signal(watch: &Watch, name: &str) {
    let sent = Command::new("kill").args([format!("-{name}"), watch.0.id().to_string()]).status();
    assert!(sent.expect("kill runs").success());
}

/// Asks as a browser does, and returns the whole answer.
fn ask(port: u16, path: &str, headers: &str) -> String {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).expect("it listens");
    let host = if headers.contains("Host:") { String::new() } else { format!("Host: 127.0.0.1:{port}\r\n") };
    let request = format!("GET {path} HTTP/1.1\r\n{host}{headers}Connection: close\r\n\r\n");
    stream.write_all(request.as_bytes()).expect("sent");
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).expect("an answer");
    String::from_utf8_lossy(&answer).into_owned()
}

fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a port");
    listener.local_addr().expect("an address").port()
}

#[cfg(unix)]
#[test]
fn a_watch_brings_changes_tells_of_troubles_and_ends_politely() {
    let place = Place::new(4);
    let port = free_port();
    let top = format!("listen = \"127.0.0.1:{port}\"");
    let kiosk = "[calendar.days]\nfile = \"days.ics\"\n[route.days]\nfrom = \"days\"\nto = \"board\"\nevery = \"1 hour\"\n";
    place.configure(&top, kiosk);
    let days = |title: &str| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:day\r\n\
             DTSTAMP:20261001T060000Z\r\nDTSTART;VALUE=DATE:20301101\r\nSUMMARY:{title}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        )
    };
    place.write("days.ics", &days("Market day"));
    // Nothing is begun that nobody has said yes to.
    let mut watch = place.watch();
    wait_for("its first trouble", 10, &place, || place.was_told("begin", "never-run"));
    assert_eq!(place.board(), "");
    place.ok(&["sync", "--yes"]);
    wait_for("the end of it", 5, &place, || place.was_told("end", "never-run"));
    // What changes in a file before the yes was noticed comes, and so does what changes while no watch is there.
    place.write("days.ics", &days("Market day in town"));
    wait_for("the change after a yes", 10, &place, || place.board().contains("SUMMARY:Market day in town"));
    signal(&watch, "TERM");
    assert!(watch.0.wait().expect("it ends").success());
    place.write("days.ics", &days("Market day at home"));

    let before = place.asked();
    let mut watch = place.watch();
    wait_for("the watch", 10, &place, || place.run(&["status", "--json"]).json()["watch"].is_object());
    let second = place.run(&["watch"]);
    assert_eq!(second.code, 2);
    assert!(second.err.contains("a watch runs on this state already (process "), "{second:?}");
    wait_for("the change meanwhile", 5, &place, || place.board().contains("SUMMARY:Market day at home"));
    let changed = Instant::now();
    place.edit("orchard-0002.ics", "Crate repair");
    wait_for("the change", 10, &place, || place.board().contains("SUMMARY:Crate repair"));
    assert!(changed.elapsed() < Duration::from_secs(5));
    // A file is looked at when it changes, whatever its route's pace.
    place.write("days.ics", &days("Market day moved"));
    wait_for("the file's change", 10, &place, || place.board().contains("SUMMARY:Market day moved"));
    // A password that changes is read again: the wrong one is a trouble, the right one its end.
    place.private("office.password", "no\n");
    wait_for("a refused sign-in", 10, &place, || place.was_told("begin", "sign-in-refused"));
    let status = place.run(&["status"]);
    assert!(status.out.contains("packhouse: the server refuses the user name"), "{status:?}");
    assert!(status.out.contains("bookings: note: Ask the press hall"), "{status:?}");
    place.private("office.password", "office-pw\n");
    wait_for("its end", 20, &place, || place.was_told("end", "sign-in-refused"));
    // Nothing has changed meanwhile, and yet the failure is over for whoever asks.
    wait_for("a good end", 10, &place, || place.run(&["status"]).code == 0);
    // So is the configuration; while it is broken, the one before goes on.
    let good = place.read("chestnut.toml");
    place.write("chestnut.toml", &good.replace("every = \"1 hour\"", "evry = \"1 hour\""));
    wait_for("a broken configuration", 10, &place, || place.was_told("begin", "configuration-broken"));
    let told = place.told();
    let broken = told.iter().find(|told| told["kind"] == "configuration-broken").expect("it was told");
    assert!(broken["what"].as_str().is_some_and(|what| what.contains("unknown key `evry`")), "{broken}");
    place.edit("orchard-0003.ics", "Hail nets");
    wait_for("a change meanwhile", 10, &place, || place.board().contains("SUMMARY:Hail nets"));
    place.write("chestnut.toml", &good);
    wait_for("its end", 10, &place, || place.was_told("end", "configuration-broken"));

    // Whoever asks is answered, and nobody else.
    assert!(ask(port, "/healthz", "").starts_with("HTTP/1.1 200"));
    assert!(ask(port, "/healthz", "Host: elsewhere.example\r\n").starts_with("HTTP/1.1 421"));
    assert!(ask(port, "/", "").starts_with("HTTP/1.1 404"));
    let metrics = ask(port, "/metrics", "");
    check_prometheus(metrics.split_once("\r\n\r\n").expect("a body").1);
    // Looks that bring nothing are requests, too. What is on its way just now is counted when it is done; what a server
    // asked to be sent again, signed in, is one request.
    wait_for("the count of requests", 10, &place, || {
        let metrics = ask(port, "/metrics", "");
        let counted = metrics.lines().find_map(|line| line.strip_prefix("chestnut_requests_total "));
        let counted: usize = counted.expect("a count").parse().expect("a number");
        counted.abs_diff(place.asked() - before) < 10
    });
    let page = ask(port, "/status", "");
    assert!(page.contains("frame-ancestors 'none'") && page.contains("Calendars in step"), "{page}");
    assert!(!page.contains("Hail nets") && !page.contains("Crate repair"), "titles are nobody's business");
    // Whoever takes the log away gets a new one.
    std::fs::rename(place.folder.path().join("log"), place.folder.path().join("log.1")).expect("renamed");
    // Slow clients keep nobody from anything.
    let slow: Vec<_> = (0..60).filter_map(|_| TcpStream::connect(("127.0.0.1", port)).ok()).collect();
    place.edit("orchard-0001.ics", "Press cleaning");
    wait_for("a change beside slow clients", 10, &place, || place.board().contains("SUMMARY:Press cleaning"));
    drop(slow);

    // `sync` beside it takes turns.
    place.ok(&["sync"]);
    signal(&watch, "TERM");
    let asked = Instant::now();
    assert!(watch.0.wait().expect("it ends").success());
    assert!(asked.elapsed() < Duration::from_secs(10));
    assert!(place.read("log").contains("stopped; requests under way were finished"));
    assert!(place.run(&["status", "--json"]).json()["watch"].is_null());
    let (old, new) = (place.read("log.1"), place.read("log"));
    assert!(old.contains("watching 2 routes") && new.contains("route=bookings"), "{old}\n{new}");
    assert!(!(old + &new).contains("Press cleaning"), "titles stay out of the log");
}

/// Nobody would know what is remembered in a file that was taken away.
#[cfg(unix)]
#[test]
fn a_state_that_is_taken_away_under_a_watch_is_opened_anew() {
    let place = Place::new(2);
    place.configure("", "");
    let _watch = place.watch();
    let begun = || place.told().iter().filter(|told| told["kind"] == "never-run").count();
    wait_for("its first trouble", 10, &place, || begun() == 1);
    for name in ["chestnut.state", "chestnut.state-wal", "chestnut.state-shm"] {
        std::fs::remove_file(place.folder.path().join(name)).expect("removed");
    }
    wait_for("the new state", 15, &place, || place.read("log").contains("it is opened anew") && begun() == 2);
    place.ok(&["sync", "--yes"]);
    place.edit("orchard-0001.ics", "Crate repair");
    wait_for("the change", 10, &place, || place.board().contains("SUMMARY:Crate repair"));
    let status = place.ok(&["status", "--json"]).json();
    assert!(status["watch"].is_object() && status["routes"][0]["state"] == "in-step", "{status}");
}

/// Whoever knows only the format of before would go on in it.
#[cfg(unix)]
#[test]
fn a_state_is_not_brought_to_another_format_under_a_watch() {
    let place = Place::new(2);
    place.configure("", "");
    place.ok(&["sync", "--yes"]);
    let watch = place.watch();
    wait_for("the watch", 10, &place, || place.run(&["status", "--json"]).json()["watch"].is_object());
    let state = rusqlite::Connection::open(place.folder.path().join("chestnut.state")).expect("it opens");
    state.pragma_update(None, "user_version", 5).expect("set");
    let refused = place.run(&["status"]);
    assert!(
        refused.code == 1 && refused.err.contains("an older Chestnut works with the state"),
        "{refused:?}"
    );
    assert!(refused.err.contains("Stop it, run this again"), "{refused:?}");
    drop(watch);
    place.ok(&["sync"]);
    // And who has it open writes no more where the format is one of tomorrow.
    let _watch = place.watch();
    wait_for("the watch", 10, &place, || place.run(&["status", "--json"]).json()["watch"].is_object());
    state.pragma_update(None, "user_version", 99).expect("set");
    place.edit("orchard-0001.ics", "Crate repair");
    wait_for("a refusal", 15, &place, || place.read("log").contains("written by a newer Chestnut"));
    assert!(!place.board().contains("Crate repair"));
}

#[cfg(unix)]
#[test]
fn what_is_taken_out_or_renamed_beside_a_watch_is_not_begun_anew() {
    let place = Place::new(4);
    place.configure("", "");
    place.ok(&["sync", "--yes"]);
    let watch = place.watch();
    wait_for("the watch", 10, &place, || place.run(&["status", "--json"]).json()["watch"].is_object());
    place.ok(&["route", "rename", "bookings", "wall"]);
    place.edit("orchard-0002.ics", "Crate repair");
    wait_for("the change", 10, &place, || place.board().contains("SUMMARY:Crate repair"));
    let history = place.run(&["history", "--json"]).json();
    let runs = history["runs"].as_array().expect("runs");
    assert!(runs.iter().all(|run| run["route"] == "wall"), "{history}");
    // The last route; its copies went before the configuration did.
    place.ok(&["route", "retire", "wall", "--remove-copies", "--yes"]);
    wait_for("the configuration", 10, &place, || place.read("log").contains("read again: 0 routes"));
    std::thread::sleep(Duration::from_millis(1500));
    assert_eq!(place.board(), "");
    assert!(!place.was_told("begin", "configuration-broken"), "{:?}", place.told());
    // Begun anew, it waits for a yes again.
    place.configure("", "");
    wait_for("the route", 10, &place, || place.was_told("begin", "never-run"));
    assert_eq!(place.board(), "");
    place.ok(&["sync", "--yes"]);
    signal(&watch, "HUP");
    place.edit("orchard-0003.ics", "Hail nets");
    wait_for("a change", 10, &place, || place.board().contains("SUMMARY:Hail nets"));
    // Routes that are gone, and that nobody took out, are missed.
    let text = place.read("chestnut.toml");
    place.write("chestnut.toml", text.split("[route.").next().expect("a text"));
    wait_for("a broken configuration", 10, &place, || place.was_told("begin", "configuration-broken"));
    place.edit("orchard-0001.ics", "Press cleaning");
    wait_for("a change meanwhile", 10, &place, || place.board().contains("SUMMARY:Press cleaning"));
}

/// Families with HELP and TYPE before their samples, each once; names, labels and numbers as the format has them.
fn check_prometheus(text: &str) {
    let mut types = std::collections::BTreeMap::new();
    let mut seen = std::collections::BTreeSet::new();
    for line in text.lines() {
        if let Some(rest) = line.strip_prefix("# TYPE ") {
            let (name, kind) = rest.split_once(' ').expect("a kind");
            assert!(["gauge", "counter", "histogram"].contains(&kind), "{line}");
            assert!(types.insert(name.to_owned(), kind.to_owned()).is_none(), "{line} twice");
            assert!(kind != "counter" || name.ends_with("_total"), "{line}");
            continue;
        }
        if line.starts_with("# HELP ") {
            continue;
        }
        let (series, value) = line.rsplit_once(' ').expect("a value");
        assert!(value.parse::<f64>().is_ok(), "{line}");
        let (name, labels) = series.split_once('{').unwrap_or((series, ""));
        assert!(labels.is_empty() || labels.ends_with("\"}") && labels.contains("=\""), "{line}");
        let family =
            ["_bucket", "_sum", "_count"].iter().find_map(|end| name.strip_suffix(end)).unwrap_or(name);
        assert!(types.contains_key(family) || types.contains_key(name), "{line} is of no family");
        assert!(seen.insert(series.to_owned()), "{line} twice");
        assert!(!(labels.contains("route=") && types.get(family).is_some_and(|kind| kind == "histogram")));
    }
    assert!(types.len() >= 8, "{text}");
}

/// The program that is to be told fails, and is told later; what it is told of is what `sync` saw, too.
#[cfg(unix)]
#[test]
fn what_could_not_be_told_is_told_later() {
    let place = Place::new(3);
    place.configure("", "");
    place.ok(&["sync", "--yes"]);
    assert_eq!(place.told(), Vec::<serde_json::Value>::new());
    place.write("deaf", "");
    place.private("office.password", "no\n");
    assert_eq!(place.run(&["sync"]).code, 1);
    let status = place.run(&["status", "--json"]).json();
    assert_eq!(status["troubles"][0]["kind"], "sign-in-refused", "{status}");
    assert_eq!(status["untold"][0]["attempts"], 1, "{status}");
    assert!(place.run(&["status"]).out.contains("on-trouble was not told that trouble"));
    std::fs::remove_file(place.folder.path().join("deaf")).expect("removed");
    place.private("office.password", "office-pw\n");
    // Its end waits for its beginning.
    place.ok(&["sync"]);
    assert_eq!(place.told(), Vec::<serde_json::Value>::new());
    let hour = clock().checked_add(Span::new().minutes(5)).expect("a moment").to_string();
    let later = place.command(&["sync"]).env("CHESTNUT_NOW", hour).output().expect("the program runs");
    assert!(later.status.success(), "{later:?}");
    let told: Vec<_> =
        place.told().iter().map(|told| (told["event"].clone(), told["attempt"].clone())).collect();
    assert_eq!(told, [("begin".into(), 2.into()), ("end".into(), 1.into())]);
    assert_eq!(place.told()[1]["do"], "It is over: there is nothing to do.");
    let first = place.told().remove(0);
    assert!(first["do"].as_str().is_some_and(|words| words.contains("chestnut account test packhouse")));
    assert!(!first.to_string().contains("office-pw") && !first.to_string().contains("orchard-000"));
    assert_eq!(place.ok(&["status", "--json"]).json()["untold"], serde_json::json!([]));
}

#[test]
fn a_timer_syncs_what_is_due_and_pauses_end_by_themselves() {
    let set_up = SetUp::new(3);
    set_up.configure(&set_up.standard().replace("to = \"board\"", "to = \"board\"\nevery = \"1 hour\""));
    set_up.ok(&["sync"]);
    let at = |now: &str, arguments: &[&str]| set_up.at(now, arguments);
    let runs = |told: Told| told.json()["runs"].as_array().expect("a list").len();
    assert_eq!(runs(at("2026-10-05T08:30:00Z", &["sync", "--only-due", "--json"])), 0);
    assert_eq!(runs(at("2026-10-05T09:00:00Z", &["sync", "--only-due", "--json"])), 1);
    let told = at("2026-10-05T09:00:00Z", &["route", "pause", "presses-to-board", "--until", "2026-10-07"]);
    insta::assert_snapshot!("route_paused_until", told.out);
    insta::assert_snapshot!("status_of_a_pause", at("2026-10-06T09:00:00Z", &["status"]).out);
    assert_eq!(runs(at("2026-10-06T20:00:00Z", &["sync", "--json"])), 0);
    // In the zone of the configuration the day has begun.
    assert_eq!(runs(at("2026-10-06T22:30:00Z", &["sync", "--json"])), 1);
    assert_eq!(
        at("2026-10-07T09:00:00Z", &["route", "pause", "presses-to-board", "--until", "today"]).code,
        2
    );
    insta::assert_snapshot!(
        "account_paused",
        at("2026-10-07T09:00:00Z", &["account", "pause", "cloud", "--until", "2 hours"]).out
    );
    let told = at("2026-10-07T10:00:00Z", &["status"]);
    assert!(told.out.contains("presses-to-board: paused with account cloud"), "{told:?}");
    let told = at("2026-10-07T10:00:00Z", &["sync"]);
    assert!(told.out.contains("account cloud is paused until 13:00 today; nothing was done"), "{told:?}");
    assert_eq!(runs(at("2026-10-07T11:30:00Z", &["sync", "--json"])), 1);
    assert_eq!(at("2026-10-07T11:30:00Z", &["account", "pause", "cloud"]).code, 0);
    assert_eq!(
        at("2026-11-07T11:30:00Z", &["compare", "--then-sync", "--json"]).json()["runs"],
        serde_json::json!([])
    );
    assert_eq!(at("2026-11-07T11:30:00Z", &["probe"]).code, 1);
    at("2026-11-07T11:30:00Z", &["account", "resume", "cloud"]);
    assert_eq!(runs(at("2026-11-07T11:30:00Z", &["sync", "--json"])), 1);
}

#[test]
fn routes_lean_on_others_and_stand_in_other_files() {
    let set_up = SetUp::new(3);
    let standard = set_up.standard();
    let (before, _) = standard.split_once("[route.").expect("a route");
    let write = |name: &str, text: &str| {
        let path = set_up.path(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        std::fs::write(path, text).expect("written");
    };
    let main = format!(
        "include = [\"routes/*.toml\"]\n{before}\n[calendar.wall]\nfile = \"wall.ics\"\n\
         [defaults.route]\nevery = \"30 minutes\"\ndeletions = \"keep\"\n"
    );
    set_up.configure(&main);
    write(
        "routes/board.toml",
        "[route.bookings]\nfrom = \"presses\"\nto = \"board\"\ncarry = \"busy\"\nnote = \"x\"\n",
    );
    write("routes/wall.toml", "[route.wall]\nlike = \"bookings\"\nto = \"wall\"\nevery = \"5 minutes\"\n");
    insta::assert_snapshot!("route_that_is_like_another", set_up.shown(&["route", "show", "wall"]));
    set_up.ok(&["sync"]);
    let wall = std::fs::read_to_string(set_up.path("wall.ics")).expect("it was written");
    assert!(wall.contains("SUMMARY:Busy"));
    // Each mistake names its file.
    let said = |name: &str, text: &str| {
        let before = std::fs::read_to_string(set_up.path(name)).unwrap_or_default();
        write(name, text);
        let told = set_up.run(&["route", "list"]);
        assert_eq!(told.code, 2, "{told:?}");
        write(name, &before);
        told.err.replace(&set_up.folder.path().display().to_string(), "")
    };
    let twice = said("routes/wall.toml", "[route.bookings]\nfrom = \"presses\"\nto = \"wall\"\n");
    assert!(
        twice.contains("routes/wall.toml, line 1: [route.bookings] is also in routes/board.toml, line 1"),
        "{twice}"
    );
    let circle = said("routes/wall.toml", "[route.wall]\nlike = \"wall\"\n");
    assert!(
        circle.contains("routes/wall.toml, line 2: `like` in [route.wall] leads back to this route"),
        "{circle}"
    );
    let often =
        said("routes/wall.toml", "[route.wall]\nlike = \"bookings\"\nto = \"wall\"\nevery = \"20s\"\n");
    assert!(often.contains("shorter than a minute: other people's servers"), "{often}");
    let other = said("routes/wall.toml", "[route.wall]\nlike = \"bokings\"\n");
    assert!(other.contains("Did you mean `bookings`?"), "{other}");
    let open = said("chestnut.toml", &format!("listen = \"0.0.0.0:8086\"\n{main}"));
    assert!(open.contains("can be reached from other machines, and no `listen-token` is said"), "{open}");
    // What another leans on is not taken away under it; what stands alone is taken out of its own file.
    assert_eq!(set_up.run(&["route", "retire", "bookings"]).code, 2);
    set_up.ok(&["route", "retire", "wall"]);
    assert_eq!(std::fs::read_to_string(set_up.path("routes/wall.toml")).expect("it is there").trim(), "");
    set_up.ok(&["route", "retire", "bookings", "--remove-copies", "--yes"]);
}

/// Faults come and go for a while of real time, with the process killed and asked to end in between; then everything
/// is in step. `CHESTNUT_LEFT_RUNNING` says for how many seconds.
#[cfg(unix)]
#[test]
fn faults_signals_and_kills_end_in_step() {
    let seconds = seconds_asked_for().unwrap_or(10);
    let place = Place::new(12);
    let mut more = String::new();
    for number in 0..40 {
        more += &format!(
            "[calendar.crew-{number}]\nfile = \"crew-{number}.ics\"\n[route.crew-{number}]\nfrom = \"crew-{number}\"\n\
             to = \"board\"\nevery = \"{}s\"\n",
            2 + number % 5
        );
        let text = crew(number, 0);
        place.write(&format!("crew-{number}.ics"), &text);
    }
    place.configure("", &more);
    place.ok(&["sync", "--yes"]);
    let began = Instant::now();
    let mut round = 0;
    let mut watch = place.watch();
    while began.elapsed() < Duration::from_secs(seconds) {
        round += 1;
        place.edit("orchard-0001.ics", &format!("Pressing {round}"));
        place.write(&format!("crew-{}.ics", round % 40), &crew(round % 40, round));
        let kind = match round % 4 {
            0 => FaultKind::Status { code: 503, retry_after: None },
            1 => FaultKind::LoseAnswer,
            2 => FaultKind::HalfBody,
            _ => FaultKind::Delay(300),
        };
        place.sites[1]
            .with(|server| server.faults = vec![Fault { after: 2, times: 3, ..Fault::always("PUT", kind) }]);
        std::thread::sleep(Duration::from_millis(150 * (1 + round as u64 % 5)));
        if round % 5 == 0 {
            signal(&watch, ["TERM", "KILL", "INT"][round / 5 % 3]);
            drop(watch.0.wait());
            let starts = || place.read("log").matches("watching 41 routes").count();
            let before = starts();
            watch = place.watch();
            // A signal that comes before it listens would end it.
            wait_for("the next watch", 20, &place, || starts() > before);
        }
        if round % 7 == 0 {
            signal(&watch, "HUP");
            signal(&watch, "USR1");
        }
    }
    place.sites[1].with(|server| server.faults.clear());
    let wanted = |number: usize| {
        let text = place.read(&format!("crew-{number}.ics"));
        text.lines().find(|line| line.starts_with("SUMMARY")).expect("a title").to_owned()
    };
    signal(&watch, "USR1");
    wait_for("everything", 60, &place, || {
        let board = place.board();
        board.contains(&format!("Pressing {round}")) && (0..40).all(|number| board.contains(&wanted(number)))
    });
    signal(&watch, "TERM");
    assert!(watch.0.wait().expect("it ends").success());
    let told = place.ok(&["compare", "--json"]).json();
    for comparison in told["comparisons"].as_array().expect("a list") {
        let wrong = ["differs", "missing", "extra"].map(|key| comparison[key].as_u64());
        assert_eq!(wrong, [Some(0); 3], "{comparison}");
    }
    assert_eq!(
        place.sites[1].with(|server| server.texts(BOARD)).len(),
        place.sites[0].with(|server| {
            server.texts(PRESSES).into_values().filter(|text| text.contains("BEGIN:VEVENT")).count()
        }) + 40
    );
}

/// A watch that is asked to end, or killed, while any one of its requests is on its way: the next one goes on as if
/// nothing had been, and nothing is done twice.
#[cfg(unix)]
#[test]
fn an_end_at_any_request_loses_and_doubles_nothing() {
    let place = Place::new(4);
    place.configure("", "");
    place.ok(&["sync", "--yes"]);
    let before = place.sites[1].with(|server| server.texts(BOARD)).len();
    for (site, name) in [(0, "TERM"), (1, "TERM"), (0, "KILL"), (1, "KILL")] {
        for after in 0.. {
            let title = format!("Pressing {site} {name} {after}");
            place.edit("orchard-0002.ics", &title);
            let late = Fault { after, ..Fault::once("", FaultKind::Delay(400)) };
            place.sites[site].with(|server| {
                server.log.clear();
                server.faults = vec![Fault { method: None, ..late }];
            });
            let mut watch = place.watch();
            let arrived = || place.board().contains(&title);
            let is_on_its_way = || place.sites[site].with(|server| server.log.len() > after);
            // Where a round has no more requests, its work is done; other rounds come a second later.
            wait_for(&title, 20, &place, || is_on_its_way() || arrived());
            let was_met = is_on_its_way();
            signal(&watch, name);
            let ended = watch.0.wait().expect("it ends");
            assert!(name == "KILL" || ended.success(), "{title}: {ended:?}");
            place.sites.iter().for_each(|site| site.with(|server| server.faults.clear()));
            let status = place.run(&["status"]);
            assert!(
                status.code != 1 || status.out.contains("was cut off; the next sync goes on"),
                "{status:?}"
            );
            place.ok(&["sync"]);
            assert!(place.board().contains(&title), "{title}");
            assert_eq!(place.sites[1].with(|server| server.texts(BOARD)).len(), before, "{title}");
            if !was_met {
                assert!(after > 2, "{title}: every request was met");
                break;
            }
        }
        place.ok(&["compare"]);
    }
    assert_eq!(place.ok(&["status", "--json"]).json()["routes"][0]["state"], "in-step");
}

/// The same at moments from its start to the end of its first round, whatever it does then: commits, renames, timers.
#[cfg(unix)]
#[test]
fn an_end_at_any_moment_loses_and_doubles_nothing() {
    let place = Place::new(4);
    place.configure(
        "",
        "[calendar.copy]\nfile = \"copy.ics\"\n[route.copy]\nfrom = \"presses\"\nto = \"copy\"\n",
    );
    place.ok(&["sync", "--yes"]);
    let before = place.sites[1].with(|server| server.texts(BOARD)).len();
    let entries = |text: &str| text.matches("BEGIN:VEVENT").count();
    let in_file = entries(&place.read("copy.ics"));
    for moment in 0..40_u64 {
        let title = format!("Pressing at {moment}");
        place.edit("orchard-0002.ics", &title);
        let mut watch = place.watch();
        std::thread::sleep(Duration::from_millis(10 * moment));
        signal(&watch, ["KILL", "TERM"][usize::from(moment % 4 == 0)]);
        watch.0.wait().expect("it ends");
        place.ok(&["sync"]);
        let copy = place.read("copy.ics");
        assert!(place.board().contains(&title) && copy.contains(&title), "{title}");
        let there = place.sites[1].with(|server| server.texts(BOARD)).len();
        assert_eq!((there, entries(&copy)), (before, in_file), "{title}");
        let left: Vec<_> = std::fs::read_dir(place.folder.path())
            .expect("a folder")
            .map(|file| file.expect("a file").file_name().to_string_lossy().into_owned())
            .filter(|name| name.contains("copy.ics") && name != "copy.ics")
            .collect();
        assert!(left.is_empty(), "{title}: {left:?}");
    }
    place.ok(&["compare"]);
    place.ok(&["state", "check"]);
}

/// A watch whose state cannot be written for a while does nothing that it could not remember, and goes on afterwards.
#[cfg(target_os = "linux")]
#[test]
fn a_state_that_cannot_be_written_is_waited_for() {
    let place = Place::new(4);
    place.configure("", "");
    place.ok(&["sync", "--yes"]);
    // What a full disk is to it: no file may grow.
    let watch = ["-c", "trap '' XFSZ; exec \"$0\" watch --log log", PROGRAM];
    let mut command = hermetic(Path::new("/bin/sh"), place.folder.path());
    command.env_remove("CHESTNUT_NOW").env("PATH", "/usr/bin:/bin").args(watch).stdout(Stdio::null());
    // What it says beside its log is full as well: that must not end it.
    let beside = std::fs::File::create(place.folder.path().join("beside")).expect("a file");
    command.stderr(beside);
    let mut watch = Watch(command.spawn().expect("the program runs"));
    let limit = |size: &str| {
        let arguments = [format!("--pid={}", watch.0.id()), format!("--fsize={size}:unlimited")];
        assert!(Command::new("prlimit").args(arguments).status().expect("it runs").success());
    };
    place.edit("orchard-0002.ics", "First change");
    wait_for("the first change", 20, &place, || place.board().contains("SUMMARY:First change"));
    limit("1");
    place.edit("orchard-0002.ics", "Second change");
    std::thread::sleep(Duration::from_secs(4));
    assert!(!place.board().contains("SUMMARY:Second change"), "nothing is written that cannot be remembered");
    limit("unlimited");
    wait_for("what waited", 60, &place, || place.board().contains("SUMMARY:Second change"));
    if seconds_asked_for().is_some() {
        let store =
            chestnut_store::Store::open(&place.folder.path().join("chestnut.state")).expect("a state");
        let held = store.write(|_| {
            place.edit("orchard-0002.ics", "Third change");
            std::thread::sleep(Duration::from_secs(22));
            Ok(place.board().contains("SUMMARY:Third change"))
        });
        assert_eq!(held, Ok(false));
        wait_for("what waited for another", 60, &place, || place.board().contains("SUMMARY:Third change"));
    }
    assert_eq!(watch.0.try_wait().expect("known"), None, "it still runs");
    signal(&watch, "TERM");
    assert!(watch.0.wait().expect("it ends").success());
    place.ok(&["sync"]);
    place.ok(&["compare"]);
}

fn crew(number: usize, round: usize) -> String {
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:crew-{number}\r\n\
         DTSTAMP:20261001T060000Z\r\nDTSTART:20301101T080000Z\r\nSUMMARY:Crew {number} row {round}.\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

#[test]
fn a_state_knows_its_key_and_is_copied_whole() {
    let set_up = SetUp::new(3);
    set_up.ok(&["sync"]);
    assert!(
        set_up
            .ok(&["state", "check"])
            .out
            .contains("chestnut.state is sound: 2 calendars, 6 entries, 1 route, 1 run")
    );
    set_up.ok(&["state", "backup", "copy.state"]);
    // A copy is not written over.
    let twice = set_up.run(&["state", "backup", "copy.state"]);
    assert!(twice.code == 2 && twice.err.contains("copy.state is there already"), "{twice:?}");
    let key = std::fs::read_to_string(set_up.path("chestnut.key")).expect("the key");
    std::fs::remove_file(set_up.path("chestnut.key")).expect("removed");
    for arguments in [&["sync"][..], &["preview"], &["compare"], &["state", "check"], &["watch"]] {
        let told = set_up.run(arguments);
        assert_eq!(told.code, 2, "{arguments:?}: {told:?}");
        assert!(told.err.contains("chestnut.key is missing, and the state"), "{told:?}");
    }
    assert!(!set_up.path("chestnut.key").exists(), "none is made beside a state that had one");
    set_up.private("chestnut.key", &"3c".repeat(32));
    let told = set_up.run(&["sync"]);
    assert!(told.code == 2 && told.err.contains("is not the one that the state"), "{told:?}");
    set_up.private("chestnut.key", &key);
    std::fs::rename(set_up.path("copy.state"), set_up.path("chestnut.state")).expect("moved");
    for beside in ["chestnut.state-wal", "chestnut.state-shm"] {
        drop(std::fs::remove_file(set_up.path(beside)));
    }
    assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["writes"], 0);
}

/// How much room is left is asked once a day, of one calendar of each account that is written to.
#[test]
fn an_account_that_is_nearly_full_is_a_trouble() {
    let set_up = SetUp::new(6);
    set_up.ok(&["sync"]);
    assert_eq!(set_up.ok(&["status", "--json"]).json()["troubles"], serde_json::json!([]));
    set_up.target.with(|server| {
        let used: usize = server.texts(BOARD).values().map(String::len).sum();
        server.quota = used * 100 / 96;
    });
    std::fs::remove_file(set_up.path("chestnut.state")).expect("removed");
    set_up.ok(&["sync"]);
    let told = set_up.run(&["status"]);
    assert!(told.out.contains("cloud: the account is full to 9"), "{told:?}");
    // Room was made: that is seen within an hour, and believed an hour later.
    set_up.target.with(|server| server.quota *= 2);
    for (at, open, words) in [("08:30", 1, "is full to"), ("09:30", 1, "All was well"), ("10:30", 0, "")] {
        let run = |arguments: &[&str]| set_up.at(&format!("2026-10-05T{at}:00Z"), arguments);
        assert_eq!(run(&["sync"]).code, 0);
        let troubles = run(&["status", "--json"]).json()["troubles"].as_array().map(Vec::len);
        let told = run(&["status"]);
        assert!(troubles == Some(open) && told.out.contains(words), "{at}: {told:?}");
    }
}

/// A feed whose server refuses the sign-in for a while, and then takes the same one, goes on by itself.
#[cfg(unix)]
#[test]
fn a_feed_that_refused_the_sign_in_once_is_asked_anew() {
    let place = Place::new(1);
    let days = |title: &str| crew(1, 0).replace("SUMMARY:Crew 1 row 0.", &format!("SUMMARY:{title}"));
    let publish =
        |title: &str| place.sites[0].with(|s| drop(s.feeds.insert("/feeds/days.ics".into(), days(title))));
    publish("Market");
    let feed = format!("{}feeds/days.ics", place.sites[0].url);
    let kiosk = format!(
        "[calendar.days]\naccount = \"packhouse\"\nfeed = \"{feed}\"\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n\
         [route.days]\nfrom = \"days\"\nto = \"kiosk\"\nevery = \"1s\"\n"
    );
    place.configure("", &kiosk);
    place.ok(&["sync", "--yes"]);
    let _watch = place.watch();
    let refuses = FaultKind::Status { code: 401, retry_after: None };
    place.sites[0].with(|server| server.faults = vec![Fault::always("GET", refuses)]);
    publish("Market moved");
    wait_for("a refused sign-in", 10, &place, || place.was_told("begin", "sign-in-refused"));
    place.sites[0].with(|server| server.faults.clear());
    wait_for("the change", 40, &place, || place.read("kiosk.ics").contains("SUMMARY:Market moved"));
}

/// Three watches work with one state in PostgreSQL: one is stopped for longer than its leases last, one is killed, and
/// the database loses all its connections again and again. Nothing is doubled, nothing is lost.
#[cfg(unix)]
#[test]
fn several_watches_share_one_state() {
    const GROUPS: usize = 8;
    let Some(database) = chestnut_testkit::postgres::database("several watches") else { return };
    let place = Place::new(0);
    let mut more = String::new();
    let at = |group: usize, side: &str| {
        format!("/{}/calendars/{side}-{group}/", if side == "hall" { "office" } else { "board" })
    };
    for group in 0..GROUPS {
        for (site, user, side) in [(0, "office", "hall"), (1, "board", "stall")] {
            let name = format!("{side}-{group}");
            let path = place.sites[site].with(|server| server.add_calendar(user, &name, &name, "#b5651d"));
            assert_eq!(path, at(group, side));
            let account = if site == 0 { "packhouse" } else { "cloud" };
            more += &format!("[calendar.{name}]\naccount = \"{account}\"\npath = \"{path}\"\n");
        }
        more += &format!(
            "[route.group-{group}]\nfrom = \"hall-{group}\"\nto = \"stall-{group}\"\nevery = \"1s\"\n"
        );
        for entry in orchard_entries(3, clock().to_zoned(jiff::tz::TimeZone::UTC).date()) {
            place.sites[0].with(|server| server.store(&at(group, "hall"), &entry.name, &entry.text));
        }
    }
    let state = format!("state = {{ url = \"{}\", lease = \"10s\" }}", database.url());
    place.configure(&state, &more);
    place.ok(&["sync", "--yes"]);
    place.write("second.toml", &place.read("chestnut.toml"));
    place.private("second.key", &place.read("chestnut.key"));
    let watch = |name: &str| {
        // As on two machines that have the configuration on a share.
        let config = if name == "third" { "second.toml" } else { &format!("{name}.toml") };
        let mut command = place.command(&["watch", "--log", &format!("{name}.log"), "--config", config]);
        Watch(command.stdout(Stdio::null()).spawn().expect("the program runs"))
    };
    let mut watches = ["chestnut", "second", "third"].map(watch);
    let mut edits = 0;
    let mut edit_all = |what: &str, seconds: u64| {
        edits += 1;
        let title = format!("{what} {edits}");
        for group in 0..GROUPS {
            place.sites[0].with(|server| {
                let text =
                    server.texts(&at(group, "hall")).remove("orchard-0002.ics").expect("the entry is there");
                let line = text.lines().find(|line| line.starts_with("SUMMARY")).expect("a title").to_owned();
                server.store(
                    &at(group, "hall"),
                    "orchard-0002.ics",
                    &text.replace(&line, &format!("SUMMARY:{title}")),
                );
            });
        }
        let arrived = || {
            (0..GROUPS).all(|group| {
                let texts = place.sites[1].with(|server| server.texts(&at(group, "stall")));
                texts.values().any(|text| text.contains(&title))
            })
        };
        wait_for(&title, seconds, &place, arrived);
    };
    edit_all("Pressing", 20);
    let attending = || {
        database
            .sql("SELECT count(*) FROM chestnut.lease WHERE substr(name, 1, 6) = 'watch ' AND holder <> ''")
    };
    wait_for("all three", 20, &place, || attending() == "3");
    let status = place.run(&["status", "--json"]).json();
    assert!(status["watch"].is_object() && status["other_watches"].as_array().map(Vec::len) == Some(2));
    edit_all("Picking", 20);
    signal(&watches[0], "STOP");
    // Others go on with its routes as soon as its leases have run out.
    edit_all("Sorting", 25);
    database.cut();
    signal(&watches[0], "CONT");
    edit_all("Packing", 20);
    signal(&watches[1], "KILL");
    edit_all("Loading", 25);
    for _ in 0..5 {
        database.cut();
        edit_all("Selling", 20);
    }
    for watch in [0, 2] {
        signal(&watches[watch], "TERM");
        assert!(watches[watch].0.wait().expect("it ends").success());
    }
    place.ok(&["sync"]);
    place.ok(&["compare"]);
    for group in 0..GROUPS {
        let texts = place.sites[1].with(|server| server.texts(&at(group, "stall")));
        assert_eq!(texts.len(), 3, "group {group}");
    }
    let logs = ["chestnut", "second", "third"].map(|name| place.read(&format!("{name}.log")));
    let ran = |log: &String| (0..GROUPS).filter(|group| log.contains(&format!("group-{group}"))).count();
    // Who runs which of so few is drawn anew by each start: one of three may well have had none.
    let shares = logs.each_ref().map(ran);
    assert!(shares.iter().filter(|share| **share > 0).count() > 1, "others took over: {shares:?}");
    assert_eq!(database.sql("SELECT count(*) FROM chestnut.intent"), "0");
}

/// A state moves to a database and back; whoever still names the old one is told.
#[test]
fn a_state_moves_to_a_database_and_back() {
    let Some(database) = chestnut_testkit::postgres::database("moving by command") else { return };
    let url = database.url();
    let place = Place::new(4);
    let days = "[calendar.days]\nfile = \"days.ics\"\n[route.days]\nfrom = \"presses\"\nto = \"days\"\n";
    place.configure("", days);
    place.ok(&["sync", "--yes"]);
    let told = place.run(&["state", "move", "chestnut.state", &url]);
    assert!(told.code == 2 && told.err.contains("does not name the database"), "{told:?}");
    let secret = url.replace("chestnut@", "chestnut:apple@");
    for (state, wrong) in [
        (format!("state = {{ url = \"{secret}\" }}"), "`url` in [state] holds a password"),
        (format!("state = \"{url}\""), "`state` must be a path; a database is named by a table"),
        (format!("state = {{ url = \"{url}\", lease = \"1s\" }}"), "`lease` in [state] must be between"),
        ("state = { url = \"postgres://chestnut@%2Fnowhere/chestnut\" }".to_owned(), "cannot be opened"),
    ] {
        place.configure(&state, days);
        let told = place.run(&["status"]);
        assert!(told.code != 0 && told.err.contains(wrong), "{told:?}");
    }
    place.configure(&format!("state = {{ url = \"{url}\" }}"), days);
    place.ok(&["state", "move", "chestnut.state", &url]);
    let told = place.run(&["status", "--state", "chestnut.state"]);
    assert!(told.err.contains("was moved to postgres://"), "{told:?}");
    // A file is the same calendar as before: nothing is begun anew.
    place.edit("orchard-0002.ics", "Crate repair");
    place.ok(&["sync"]);
    assert!(place.read("days.ics").contains("Crate repair"));
    place.ok(&["compare"]);
    assert_eq!(place.ok(&["state", "check", "--json"]).json()["routes"], 2);
    place.ok(&["state", "move", &url, "again.state"]);
    place.configure("state = \"again.state\"", days);
    let told = place.ok(&["sync", "--json"]);
    assert!(told.out.contains("\"writes\": 0") && !told.out.contains("\"writes\": 1"), "{told:?}");
    place.ok(&["compare"]);
    // The unit works with the state that everybody else sees.
    let unit = place.ok(&["watch", "--print-unit", "--state", "elsewhere.state"]);
    assert!(!unit.out.contains("--state") && unit.err.contains("says now: state = "), "{unit:?}");
    // Of a machine with little on it nothing is asked but a shell.
    assert!(unit.out.contains("\nExecReload=/bin/sh -c 'kill -HUP $MAINPID'\n"), "{unit:?}");
    // Also where the service manager is some years old.
    assert!(unit.out.contains("\nType=notify\n") && unit.out.contains("\nUser="), "{unit:?}");
    assert!(place.read("chestnut.toml").contains("elsewhere.state\""));
}

/// A server has a new address, another user's path among it: its calendars are the same, and nothing is done twice.
#[test]
fn an_account_moves_to_a_new_address() {
    let place = Place::new(12);
    place.configure(
        "",
        "[calendar.days]\nfile = \"days.ics\"\n[route.days]\nfrom = \"board\"\nto = \"days\"\n",
    );
    place.ok(&["sync", "--yes"]);
    // What another client does between the last run and the move is not lost, nor taken for something else.
    let texts = place.sites[1].with(|server| server.texts(BOARD));
    let mut there = Server::new(&["board"], clock().as_millisecond() - 1000);
    let spare = there.add_calendar("board", "spare", "Spare", "#3366aa");
    let path = there.add_calendar("board", "aushang", "Notice board", "#3366aa");
    for (number, (name, text)) in texts.iter().enumerate() {
        // A server that names its entries by itself.
        let text = if number == 0 { text.replace("SUMMARY:", "SUMMARY:Moved ") } else { text.clone() };
        there.store(&path, &format!("x-{name}"), &text);
    }
    there.store(&spare, "other.ics", texts.values().next().expect("an entry"));
    let here = serve_on_thread(vec![there], Arc::new(|| clock().as_millisecond())).expect("a server");
    let url = here[0].url.to_string();
    let told = place.run(&["account", "move", "cloud", &url]);
    assert_eq!(told.code, 3, "{told:?}");
    assert!(told.out.contains("all 11 entries stand there") && told.err.contains("say --yes"), "{told:?}");
    assert!(!place.read("chestnut.toml").contains(&url), "nothing was changed");
    place.ok(&["account", "move", "cloud", &url, "--yes"]);
    assert!(place.read("chestnut.toml").contains(&url));
    place.ok(&["sync"]);
    let now = here[0].with(|server| server.texts(&path));
    assert_eq!(now.len(), texts.len(), "nothing is written twice");
    assert!(now.keys().all(|name| name.starts_with("x-")), "{:?}", now.keys());
    assert!(!now.values().any(|text| text.contains("Moved ")), "what was edited there is put right, as ever");
    place.edit("orchard-0002.ics", "Crate repair");
    place.ok(&["sync"]);
    assert!(here[0].with(|server| server.texts(&path)).values().any(|text| text.contains("Crate repair")));
    place.ok(&["compare"]);
    let runs = place.ok(&["history"]).out;
    assert!(runs.lines().count() > 3, "its history stays: {runs}");
    // Where something else stands, nothing is taken for the same.
    let mut empty = Server::new(&["board"], clock().as_millisecond() - 1000);
    empty.add_calendar("board", "board", "Notice board", "#3366aa");
    let empty = serve_on_thread(vec![empty], Arc::new(|| clock().as_millisecond())).expect("a server");
    let told = place.run(&["account", "move", "cloud", empty[0].url.as_str(), "--yes"]);
    assert!(told.code == 3 && told.err.contains("none of its 11 entries stand there"), "{told:?}");
    place.ok(&["sync"]);
}

/// A server sends on to a calendar's new path, or has it at another one under its old name; files are at another place:
/// they are the same calendars, and it goes on by itself. Where something else stands, it does not.
#[test]
fn calendars_that_stand_at_another_path_are_the_same() {
    let set_up = SetUp::new(12);
    let (one, two) = (set_up.path("one"), set_up.path("two"));
    std::fs::create_dir_all(one.join("folder")).expect("a folder");
    std::os::unix::fs::symlink(&one, set_up.path("link")).expect("a link");
    let more = "[calendar.days]\nfile = \"link/days.ics\"\n[route.days]\nfrom = \"presses\"\nto = \"days\"\n\
                [calendar.sheets]\nfolder = \"link/folder\"\n[route.sheets]\nfrom = \"board\"\nto = \"sheets\"\nrelay = true\n";
    let by_name = set_up.standard().replace(&format!("path = \"{PRESSES}\""), "name = \"Press hall\"");
    set_up.configure(&format!("{by_name}{more}"));
    set_up.ok(&["sync"]);
    set_up.ok(&["sync"]);
    let texts = |site: &Site, path: &str| site.with(|server| server.texts(path));
    let before = texts(&set_up.target, BOARD).len();
    set_up.target.with(|server| server.log.clear());
    let (hall, aushang) = ("/office/calendars/press-hall/", "/board/calendars/aushang/");
    for (site, old, new) in [(&set_up.source, PRESSES, hall), (&set_up.target, BOARD, aushang)] {
        site.with(|server| {
            let mut calendar = server.collections.remove(old).expect("it");
            if new == aushang {
                // A server that names its entries by itself.
                calendar.objects = calendar.objects.into_iter().map(|(n, o)| (format!("x-{n}"), o)).collect();
            }
            server.collections.insert(new.to_owned(), calendar);
            if new == hall {
                server.moved.insert(old.to_owned(), new.to_owned());
            }
        });
    }
    std::fs::rename(&one, &two).expect("moved");
    std::fs::remove_file(set_up.path("link")).expect("gone");
    std::os::unix::fs::symlink(&two, set_up.path("link")).expect("a link");
    let said = set_up.ok(&["sync"]).said();
    for name in ["board", "days", "sheets"] {
        assert!(said.contains(&format!("{name} stands at another path now")), "{said}");
    }
    let again = set_up.ok(&["sync"]).said();
    assert!(!again.contains("another path"), "it is told once: {again}");
    set_up.ok(&["compare"]);
    let there = texts(&set_up.target, aushang);
    assert!(there.len() == before && there.keys().all(|name| name.starts_with("x-")), "{:?}", there.keys());
    let wrote =
        |server: &mut Server| server.log.iter().any(|(method, _)| method == "PUT" || method == "DELETE");
    assert!(!set_up.target.with(wrote), "nothing is written twice");
    // Whoever asks afresh has found the one that the server sends on to; what a run remembered of it counts no more.
    let url = set_up.source.url.clone();
    set_up.ok(&["account", "move", "packhouse", &url, "--yes"]);
    assert!(set_up.ok(&["sync"]).out.contains("nothing to do"));
    // Another calendar is at the old one's name, and the old one is gone.
    std::fs::rename(two.join("folder"), two.join("other")).expect("moved");
    std::fs::create_dir(two.join("new")).expect("a folder");
    let text = std::fs::read_to_string(set_up.path("chestnut.toml")).expect("it");
    set_up.configure(&text.replace("link/folder", "link/new"));
    let told = set_up.run(&["sync", "sheets"]);
    let (was, is) = (two.join("folder"), two.join("new"));
    let words = format!("sheets was {}, and is {} now", was.display(), is.display());
    assert!(told.code == 3 && told.said().contains(&words), "{told:?}");
    set_up.configure(&text.replace("link/folder", "link/other"));
    let told = set_up.run(&["sync", "sheets"]);
    assert!(told.code == 0 && told.said().contains("sheets stands at another path now"), "{told:?}");
}
