//! Two real servers, installed with Python from its registry, and readers that share no code with this program.
//! Without Python these tests are skipped, and say so; in CI they must run.

use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{LazyLock, Mutex, PoisonError};
use std::time::Duration;

use chestnut_standin::{OrchardEntry, Server, orchard_entries};
use chestnut_testkit::hermetic;
use tempfile::TempDir;

use crate::set_up::{PROGRAM, SetUp, Told};

const LAB: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/servers/lab.py");

/// Python with the servers installed; `None` where there is no Python.
static PYTHON: LazyLock<Option<PathBuf>> = LazyLock::new(|| {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join("real-servers");
    std::fs::create_dir_all(&folder).expect("a folder");
    let installed = Command::new("python3").arg(LAB).arg("install").arg(&folder).status();
    match installed {
        Ok(status) if status.success() => Some(folder.join("venv/bin/python")),
        problem => {
            let ci = std::env::var_os("CI").is_some();
            assert!(!ci, "the real servers could not be installed: {problem:?}");
            None
        }
    }
});

/// The machine has few cores: one pair of servers at a time.
static ONE_AT_A_TIME: Mutex<()> = Mutex::new(());

#[expect(clippy::print_stderr, reason = "a skipped test must say so")]
fn python(test: &str) -> Option<&'static Path> {
    let python = PYTHON.as_deref();
    if python.is_none() {
        eprintln!("\n*** SKIPPED: {test}: python3 or its package registry is not to be had ***\n");
    }
    python
}

struct RealServer {
    process: Child,
    base: String,
    calendar: String,
    folder: TempDir,
}

impl Drop for RealServer {
    fn drop(&mut self) {
        drop(self.process.kill());
        drop(self.process.wait());
    }
}

fn lab(python: &Path, arguments: &[&str]) -> String {
    let output = Command::new(python).arg(LAB).args(arguments).output().expect("python runs");
    assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).expect("UTF-8")
}

fn start(python: &Path, kind: &str) -> RealServer {
    let folder = TempDir::new().expect("a folder");
    let port = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a port").port();
    let process = Command::new(python)
        .args([LAB, "serve", kind, &port.to_string()])
        .arg(folder.path().join(kind))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .expect("it starts");
    for _ in 0..300 {
        if TcpStream::connect(("127.0.0.1", port)).is_ok() {
            break;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    let base = format!("http://127.0.0.1:{port}/");
    let calendar = match kind {
        "radicale" => format!("{base}office/presses/"),
        _ => format!("{base}office/calendars/presses/"),
    };
    lab(python, &["mkcalendar", &calendar]);
    RealServer { process, base, calendar, folder }
}

fn configuration(from: &RealServer, to: &RealServer) -> String {
    let path = |server: &RealServer| server.calendar[server.base.len() - 1..].to_owned();
    format!(
        r#"
[account.from]
url = "{}"
user = "office"
password = {{ env = "PASSWORD" }}

[account.to]
url = "{}"
user = "office"
password = {{ env = "PASSWORD" }}

[calendar.source]
account = "from"
path = "{}"

[calendar.copies]
account = "to"
path = "{}"

[route.over]
from = "source"
to = "copies"
only = {{ kinds = ["events", "tasks"] }}
"#,
        from.base,
        to.base,
        path(from),
        path(to)
    )
}

fn write_files(folder: &Path, entries: &[OrchardEntry]) {
    std::fs::create_dir_all(folder).expect("a folder");
    entries.iter().for_each(|e| std::fs::write(folder.join(&e.name), &e.text).expect("written"));
}

/// The titles that differ, as the independent reader sees them; each must be one that the runs named.
fn assert_same_but_for(python: &Path, from: &RealServer, to: &RealServer, named: &[String]) {
    let told = lab(python, &["compare", &from.calendar, &to.calendar]);
    let told: serde_json::Value = serde_json::from_str(&told).expect("JSON");
    for side in ["only_first", "only_second"] {
        for title in told[side].as_array().expect("a list") {
            let title = title.as_str().expect("a title");
            assert!(named.iter().any(|n| n == title), "{title} differs, and no run named it: {told}");
        }
    }
}

/// A test entry goes every way, and a comparison finds nothing that no run has told of.
fn prove(folder: &Path) {
    let run = |arguments: &[&str]| {
        let mut command = hermetic(Path::new(PROGRAM), folder);
        command.env_remove("CHESTNUT_NOW").env("PASSWORD", "office-pw");
        Told::of(command.args(arguments).output().expect("it runs"))
    };
    let told = run(&["probe", "--json"]);
    assert_eq!(told.json()["probes"][0]["ok"], true, "{told:?}");
    let told = run(&["compare", "--json"]);
    let findings = told.json()["comparisons"][0]["findings"].as_array().expect("findings").clone();
    let is_untold = |finding: &&serde_json::Value| {
        !["left-out", "failed", "refused"].iter().any(|cause| finding["cause"] == *cause)
    };
    assert!(findings.iter().find(is_untold).is_none(), "{told:?}");
}

fn over(from: &str, to: &str) {
    let Some(python) = python(&format!("{from} to {to}")) else { return };
    let _alone = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    let (from, to) = (start(python, from), start(python, to));
    let folder = TempDir::new().expect("a folder");
    std::fs::write(folder.path().join("chestnut.toml"), configuration(&from, &to)).expect("written");
    let entries = orchard_entries(205, jiff::civil::date(2026, 10, 5));
    write_files(&folder.path().join("first"), &entries[..200]);
    lab(python, &["fill", &from.calendar, &folder.path().join("first").display().to_string()]);

    let mut named = Vec::new();
    let mut sync = || {
        let mut command = hermetic(Path::new(PROGRAM), folder.path());
        command.env_remove("CHESTNUT_NOW").env("PASSWORD", "office-pw").args(["sync", "--json", "--yes"]);
        let told = Told::of(command.output().expect("it runs")).json();
        let run = told["runs"][0].clone();
        assert!(run["error"].is_null(), "{run}");
        for list in ["damaged", "failed"] {
            let troubles = run[list].as_array().expect("a list").iter();
            named.extend(troubles.map(|t| t["title"].as_str().expect("a title").to_owned()));
        }
        (run, named.clone())
    };
    let number = |run: &serde_json::Value, key: &str| run[key].as_u64().expect("a number");

    let (first, named) = sync();
    let created = first["calendars"]["copies"]["created"].as_u64().expect("a number");
    let refused = first["failed"].as_array().expect("a list").len() as u64;
    assert_eq!(created + refused, 200, "{first}");
    assert_same_but_for(python, &from, &to, &named);
    let (second, _) = sync();
    assert_eq!(number(&second, "writes"), 0, "{second}");
    assert!(number(&second, "requests") <= 2, "{second}");

    // Twenty changes, five deletions, five new entries, by another client.
    let changed = folder.path().join("changed");
    let renamed = |e: &OrchardEntry| OrchardEntry {
        text: e.text.replacen("\r\nSUMMARY:", "\r\nSUMMARY:Changed ", 1),
        ..e.clone()
    };
    let plain = entries[..200].iter().filter(|e| !e.text.contains("X-SCALE")).take(20);
    write_files(&changed, &plain.map(renamed).collect::<Vec<_>>());
    write_files(&changed, &entries[200..]);
    lab(python, &["fill", &from.calendar, &changed.display().to_string()]);
    for entry in &entries[100..105] {
        lab(python, &["delete", &format!("{}{}", from.calendar, entry.name)]);
    }
    let before = lab(python, &["dump", &to.calendar]);
    let (third, named) = sync();
    let counts = &third["calendars"]["copies"];
    assert_eq!(["created", "updated", "deleted"].map(|key| number(counts, key)), [5, 20, 5], "{third}");
    // One for each write, but that these servers now and then drop a connection, and it is sent again.
    assert!(number(&third, "writes") <= 30 + 3 && number(&third, "requests") <= 30 + 15, "{third}");
    assert_same_but_for(python, &from, &to, &named);
    let (fourth, _) = sync();
    assert!(number(&fourth, "writes") == 0 && number(&fourth, "requests") <= 2, "{fourth}");
    prove(folder.path());
    take_back(python, folder.path(), (&to, &before), &third["run"].to_string());
    assert_same_but_for(python, &from, &to, &named);
}

/// A run is taken back, byte for byte, stays so, and is done again.
fn take_back(python: &Path, folder: &Path, (to, before): (&RealServer, &str), run: &str) {
    let say = |arguments: &[&str]| {
        let mut command = hermetic(Path::new(PROGRAM), folder);
        command.env_remove("CHESTNUT_NOW").env("PASSWORD", "office-pw");
        Told::of(command.args(arguments).output().expect("it runs"))
    };
    let after = lab(python, &["dump", &to.calendar]);
    let mut undone = run.to_owned();
    for texts in [before, &after] {
        let told = say(&["undo", &undone, "--yes", "--json"]);
        assert_eq!((told.code, told.json()["put_back"].as_array().map(Vec::len)), (0, Some(30)), "{told:?}");
        assert!(lab(python, &["dump", &to.calendar]) == texts, "not byte for byte: {told:?}");
        say(&["route", "resume", told.json()["route"].as_str().expect("a name")]);
        let synced = say(&["sync", "--json"]);
        assert_eq!(synced.json()["runs"][0]["writes"], 0, "{synced:?}");
        assert!(lab(python, &["dump", &to.calendar]) == texts, "{synced:?}");
        undone = told.json()["taken"]["run"].to_string();
    }
    // Kept, lived in by another client, and put back.
    let kept = say(&["snapshot", "copies", "kept.ics", "--json"]);
    assert_eq!((kept.code, &kept.json()["unreadable"]), (0, &serde_json::json!([])), "{kept:?}");
    let file = std::fs::read_to_string(folder.join("kept.ics")).expect("a file").replace("\r\n ", "");
    let href = file.lines().find_map(|line| line.strip_prefix("X-CHESTNUT-ENTRY:")).expect("an entry");
    let name = href.split("\\n").next().and_then(|href| href.rsplit('/').next()).expect("a name");
    lab(python, &["delete", &format!("{}{}", to.calendar, name.trim_end())]);
    let new = orchard_entries(1, jiff::civil::date(2026, 12, 1));
    write_files(&folder.join("lived"), &new);
    lab(python, &["fill", &to.calendar, &folder.join("lived").display().to_string()]);
    assert!(lab(python, &["dump", &to.calendar]) != after);
    let told = say(&["restore", "kept.ics", "--exact", "--yes", "--json"]);
    assert_eq!((told.code, told.json()["put_back"].as_array().map(Vec::len)), (0, Some(2)), "{told:?}");
    assert!(lab(python, &["dump", &to.calendar]) == after, "not byte for byte: {told:?}");
}

#[test]
fn radicale_to_xandikos() {
    over("radicale", "xandikos");
}

#[test]
fn xandikos_to_radicale() {
    over("xandikos", "radicale");
}

/// Both ways between two real servers, with changes by an independent client on both sides.
#[test]
fn both_ways_between_real_servers() {
    let Some(python) = python("both_ways_between_real_servers") else { return };
    let _turn = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    let (one, other) = (start(python, "radicale"), start(python, "xandikos"));
    let folder = TempDir::new().expect("a folder");
    let between = configuration(&one, &other)
        .replace("from = \"source\"\nto = \"copies\"", "between = [\"source\", \"copies\"]");
    std::fs::write(folder.path().join("chestnut.toml"), between).expect("written");
    let entries = orchard_entries(320, jiff::civil::date(2026, 10, 5));
    // What servers are known to spoil is not the matter here: plain entries alone.
    let plain = |e: &&OrchardEntry| !e.text.contains("X-SCALE") && !e.text.contains("RECURRENCE-ID");
    let entries: Vec<OrchardEntry> = entries.iter().filter(plain).cloned().collect();
    let (first, rest) = entries.split_at(150);
    let at = |name: &str| folder.path().join(name).display().to_string();
    write_files(&folder.path().join("one"), first);
    write_files(&folder.path().join("other"), rest);
    lab(python, &["fill", &one.calendar, &at("one")]);
    lab(python, &["fill", &other.calendar, &at("other")]);
    let sync = || {
        let mut command = hermetic(Path::new(PROGRAM), folder.path());
        command.env_remove("CHESTNUT_NOW").env("PASSWORD", "office-pw").args([
            "sync",
            "--json",
            "--yes",
            "--allow-deletions",
        ]);
        let told = Told::of(command.output().expect("it runs")).json();
        assert!(told["runs"][0]["error"].is_null(), "{told}");
        told["runs"][0].clone()
    };
    let named = |run: &serde_json::Value| -> Vec<String> {
        let lists =
            ["damaged", "failed"].into_iter().flat_map(|list| run[list].as_array().expect("a list").clone());
        lists.map(|t| t["title"].as_str().expect("a title").to_owned()).collect()
    };
    let mut troubles = named(&sync());
    troubles.extend(named(&sync()));
    assert_same_but_for(python, &one, &other, &troubles);
    // Forty changes: on either side ten are renamed, five deleted, five new.
    let renamed = |e: &OrchardEntry, word: &str| OrchardEntry {
        text: e.text.replacen("\r\nSUMMARY:", &format!("\r\nSUMMARY:{word} "), 1),
        ..e.clone()
    };
    let new = |e: &OrchardEntry, number: usize| OrchardEntry {
        name: format!("new-{number}.ics"),
        uid: format!("new-{number}"),
        text: e.text.replace(&e.uid, &format!("new-{number}")),
        ..e.clone()
    };
    for (server, own, word, number) in [(&one, first, "One", 0), (&other, rest, "Other", 5)] {
        let mut changed: Vec<_> = own[20..30].iter().map(|e| renamed(e, word)).collect();
        changed.extend(own[40..45].iter().enumerate().map(|(n, e)| new(e, number + n)));
        write_files(&folder.path().join(word), &changed);
        lab(python, &["fill", &server.calendar, &at(word)]);
        for entry in &own[50..55] {
            lab(python, &["delete", &format!("{}{}", server.calendar, entry.name)]);
        }
    }
    let third = sync();
    troubles.extend(named(&third));
    assert_same_but_for(python, &one, &other, &troubles);
    for calendar in ["source", "copies"] {
        let counts = &third["calendars"][calendar];
        let number = |key: &str| counts[key].as_u64().expect("a number");
        assert_eq!(["created", "updated", "deleted"].map(number), [5, 10, 5], "{calendar}: {third}");
    }
    assert_eq!(sync()["writes"], 0);
    prove(folder.path());
}

/// Busy time alone arrives, within a window; what the server knows to be long over is not even read.
#[test]
fn nothing_but_the_time_reaches_real_servers() {
    let Some(python) = python("nothing_but_the_time_reaches_real_servers") else { return };
    let _turn = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    let today = jiff::Timestamp::from_millisecond(chestnut_testkit::standin_now()).expect("a moment");
    let today = today.to_zoned(jiff::tz::TimeZone::UTC).date();
    let entry = |number: usize| {
        // Forty come, of which every fourth is a series; all others were long ago.
        let days = if number < 40 { 3 + number as i32 % 20 } else { -60 - number as i32 };
        let day =
            today.checked_add(jiff::Span::new().days(days)).expect("a day").strftime("%Y%m%d").to_string();
        let rule = if number.is_multiple_of(4) { "RRULE:FREQ=DAILY;COUNT=2\r\n" } else { "" };
        let text = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//quince//EN\r\nBEGIN:VEVENT\r\nUID:quince-{number}\r\n\
             DTSTAMP:20260901T060000Z\r\nDTSTART:{day}T080000Z\r\nDTEND:{day}T090000Z\r\n{rule}SUMMARY:Quince\r\n\
             LOCATION:Quince\r\nDESCRIPTION:quince\r\nCATEGORIES:quince\r\nX-QUINCE:quince\r\n\
             ORGANIZER;CN=Quince:mailto:quince@coop.example\r\nATTENDEE;CN=Quince:mailto:quince@coop.example\r\n\
             BEGIN:VALARM\r\nACTION:DISPLAY\r\nDESCRIPTION:quince\r\nTRIGGER:-PT5M\r\nEND:VALARM\r\n\
             END:VEVENT\r\nEND:VCALENDAR\r\n"
        );
        OrchardEntry {
            name: format!("quince-{number}.ics"),
            uid: format!("quince-{number}"),
            component: "VEVENT",
            text,
        }
    };
    for (kind, other) in [("radicale", "xandikos"), ("xandikos", "radicale")] {
        let (from, to) = (start(python, kind), start(python, other));
        let folder = TempDir::new().expect("a folder");
        let busy =
            "carry = \"busy\"\nbusy-title = \"Taken\"\nwindow = { past = \"7 days\", ahead = \"90 days\" }\n";
        std::fs::write(folder.path().join("chestnut.toml"), configuration(&from, &to) + busy)
            .expect("written");
        write_files(&folder.path().join("all"), &(0..260).map(entry).collect::<Vec<_>>());
        lab(python, &["fill", &from.calendar, &folder.path().join("all").display().to_string()]);
        let sync = || {
            let mut command = hermetic(Path::new(PROGRAM), folder.path());
            command.env("PASSWORD", "office-pw").args(["sync", "--json", "--yes"]);
            Told::of(command.output().expect("it runs")).json()["runs"][0].clone()
        };
        let first = sync();
        assert_eq!(
            (&first["calendars"]["copies"]["created"], &first["left_out"]["outside-window"]),
            (&40.into(), &220.into()),
            "{kind}: {first}"
        );
        assert_eq!(sync()["writes"], 0);
        // Everything that the receiving server keeps, names of files included.
        let (mut kept, mut folders) = (Vec::new(), vec![to.folder.path().to_owned()]);
        while let Some(folder) = folders.pop() {
            for file in std::fs::read_dir(folder).expect("a folder").map_while(Result::ok) {
                kept.extend(file.path().as_os_str().as_encoded_bytes());
                match file.path().is_dir() {
                    true => folders.push(file.path()),
                    false => kept.extend(std::fs::read(file.path()).expect("readable")),
                }
            }
        }
        let kept = String::from_utf8_lossy(&kept).to_lowercase();
        assert!(kept.contains("summary:taken") && !kept.contains("quince"), "{other}");
        prove(folder.path());
        // Asked when somebody is taken, it tells what its entries say.
        let config = folder.path().join("chestnut.toml");
        let text = std::fs::read_to_string(&config).expect("a configuration");
        let told = format!("[calendar.told]\naccount = \"from\"\nfreebusy = \"{}\"\n\n", from.calendar);
        std::fs::write(&config, text.replacen("[route.", &format!("{told}[route."), 1)).expect("written");
        let gaps = |calendar: &str| {
            let mut command = hermetic(Path::new(PROGRAM), folder.path());
            command.env("PASSWORD", "office-pw");
            let told = command.args(["free", calendar, "--hours", "0-24", "--weekdays", "mon-sun", "--json"]);
            Told::of(told.output().expect("it runs")).json()["gaps"].clone()
        };
        assert!(gaps("told").as_array().is_some_and(|gaps| gaps.len() > 14), "{kind}: {}", gaps("told"));
        assert_eq!(gaps("told"), gaps("source"), "{kind}");
    }
}

#[test]
fn an_independent_client_library_works_against_the_standin() {
    let Some(python) = python("the client library") else { return };
    let set_up =
        SetUp::with(Server::new(&["office"], chestnut_testkit::standin_now()), Server::new(&["board"], 0));
    assert!(lab(python, &["library", &set_up.source.url]).contains("content"));
}

/// From every address that people have, to the same calendars; made, counted and renamed as on the stand-in.
#[test]
fn real_servers_are_found_from_every_address_and_let_calendars_be_made() {
    let Some(python) = python("real_servers_are_found_from_every_address_and_let_calendars_be_made") else {
        return;
    };
    let _turn = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    for kind in ["radicale", "xandikos"] {
        let server = start(python, kind);
        let folder = TempDir::new().expect("a folder");
        write_files(&folder.path().join("few"), &orchard_entries(12, jiff::civil::date(2026, 10, 5)));
        lab(python, &["fill", &server.calendar, &folder.path().join("few").display().to_string()]);
        let run = |arguments: &[&str]| {
            let mut command = hermetic(Path::new(PROGRAM), folder.path());
            Told::of(command.env("PASSWORD", "office-pw").args(arguments).output().expect("it runs"))
        };
        let own = &server.calendar[server.base.len()..];
        let home = if kind == "radicale" { "office/" } else { "office/calendars/" };
        let mut seen = Vec::new();
        for start in [
            "",
            ".well-known/caldav",
            "office/",
            "office",
            home,
            home.trim_end_matches('/'),
            own,
            own.trim_end_matches('/'),
        ] {
            let url = format!("{}{start}", server.base);
            drop(std::fs::remove_file(folder.path().join("chestnut.toml")));
            let added = run(&[
                "account",
                "add",
                "office",
                &url,
                "--user",
                "office",
                "--password-from",
                "env:PASSWORD",
                "--json",
            ]);
            assert_eq!(added.code, 0, "{kind} from {start:?}: {added:?}");
            let told = run(&["calendar", "list", "--json"]).json();
            let calendars = told["accounts"][0]["calendars"].as_array().expect("calendars").clone();
            assert!(
                !calendars.is_empty() && seen.iter().all(|before| *before == calendars),
                "{kind} from {start:?}: {calendars:?}"
            );
            seen.push(calendars);
        }
        let of = |calendars: &serde_json::Value, path: &str| {
            let all = calendars["accounts"][0]["calendars"].as_array().expect("calendars").clone();
            all.into_iter().find(|c| c["path"] == path).unwrap_or_else(|| panic!("{path}: {calendars}"))
        };
        let presses = of(&run(&["calendar", "list", "--json"]).json(), &format!("/{own}"));
        let entries = presses["entries"].as_object().expect("counts").values().filter_map(|n| n.as_u64());
        assert_eq!(
            (entries.sum::<u64>(), &presses["rights"]),
            (12, &"read, write".into()),
            "{kind}: {presses}"
        );
        let made = run(&[
            "calendar",
            "create",
            "office",
            "Notice board",
            "--calendar-color",
            "#3366aa",
            "--as",
            "board",
            "--json",
        ]);
        assert_eq!(made.code, 0, "{kind}: {made:?}");
        let path = made.json()["path"].as_str().expect("a path").to_owned();
        let renamed = run(&["calendar", "rename", "board", "Board & stalls", "--on-server", "--yes"]);
        assert_eq!(renamed.code, 0, "{kind}: {renamed:?}");
        let board = of(&run(&["calendar", "list", "--json"]).json(), &path);
        assert_eq!(
            (&board["name"], &board["color"], &board["kinds"]),
            (&"Board & stalls".into(), &"#3366aa".into(), &serde_json::json!(["events"])),
            "{kind}: {board}"
        );
    }
}

/// A watch over a real server: what another client changes there arrives, and it is asked once a round.
#[cfg(unix)]
#[test]
fn a_watch_over_radicale_brings_what_others_change() {
    let Some(python) = python("a_watch_over_radicale_brings_what_others_change") else { return };
    let _alone = ONE_AT_A_TIME.lock().unwrap_or_else(PoisonError::into_inner);
    let server = start(python, "radicale");
    let folder = TempDir::new().expect("a folder");
    let entries = orchard_entries(12, jiff::civil::date(2026, 12, 1));
    write_files(&folder.path().join("first"), &entries[..8]);
    lab(python, &["fill", &server.calendar, &folder.path().join("first").display().to_string()]);
    let path = &server.calendar[server.base.len() - 1..];
    let mut text = format!(
        "[watch]\neager = true\n[account.a]\nurl = \"{}\"\nuser = \"office\"\npassword = {{ env = \"PASSWORD\" }}\n\
         [calendar.presses]\naccount = \"a\"\npath = \"{path}\"\n[defaults.route]\nevery = \"2s\"\n\
         only = {{ kinds = [\"events\", \"tasks\"] }}\n",
        server.base
    );
    for number in 0..6 {
        text += &format!(
            "[calendar.yard-{number}]\nfolder = \"yard-{number}\"\n[route.yard-{number}]\nfrom = \"presses\"\nto = \"yard-{number}\"\n"
        );
    }
    std::fs::write(folder.path().join("chestnut.toml"), text).expect("written");
    let command = |arguments: &[&str]| {
        let mut command = hermetic(Path::new(PROGRAM), folder.path());
        command.env_remove("CHESTNUT_NOW").env("PASSWORD", "office-pw").args(arguments);
        command
    };
    let synced = Told::of(command(&["sync", "--yes", "--json"]).output().expect("it runs"));
    assert_eq!(synced.code, 0, "{synced:?}");
    let mut watch = command(&["watch", "--log", "log"]).spawn().expect("it runs");
    write_files(&folder.path().join("more"), &entries[8..]);
    lab(python, &["fill", &server.calendar, &folder.path().join("more").display().to_string()]);
    lab(python, &["delete", &format!("{}{}", server.calendar, entries[0].name)]);
    let began = std::time::Instant::now();
    let stands = |number: usize| {
        let files = std::fs::read_dir(folder.path().join(format!("yard-{number}"))).expect("a folder");
        files
            .filter(|file| {
                file.as_ref().is_ok_and(|file| file.file_name().to_string_lossy().ends_with(".ics"))
            })
            .count()
    };
    while (0..6).any(|number| stands(number) != stands(0)) || stands(0) < 10 {
        let log = std::fs::read_to_string(folder.path().join("log")).unwrap_or_default();
        assert!(began.elapsed() < Duration::from_secs(40), "{log}");
        std::thread::sleep(Duration::from_millis(100));
    }
    std::thread::sleep(Duration::from_secs(3));
    let asked = Command::new("kill").args(["-TERM", &watch.id().to_string()]).status();
    assert!(asked.is_ok_and(|status| status.success()) && watch.wait().is_ok_and(|status| status.success()));
    let told = Told::of(command(&["compare", "--json"]).output().expect("it runs"));
    assert_eq!(told.code, 0, "{told:?}");
    assert!(
        told.json()["comparisons"].as_array().is_some_and(|all| all.iter().all(|one| one["missing"] == 0))
    );
}
