//! Feeds, files and folders as calendars, through the built program.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use chestnut_standin::{Fault, FaultKind, Habit, Server, Site, orchard_entries, serve_on_thread};
use chestnut_testkit::standin_now;

use crate::desk::{Desk, Part, raw_server, reply};

const FEEDS: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../testkit/corpus/feeds");
const FEED: &str = "/feeds/days.ics";
const BOARD: &str = "/board/calendars/board/";

fn feed(name: &str) -> String {
    String::from_utf8(bytes(name)).expect("UTF-8")
}

fn bytes(name: &str) -> Vec<u8> {
    std::fs::read(Path::new(FEEDS).join(format!("{name}.ics"))).expect(name)
}

fn board() -> Site {
    let mut server = Server::new(&["board"], standin_now() - 86_400_000);
    server.add_calendar("board", "board", "Notice board", "#3366aa");
    server.feeds.insert(FEED.into(), feed("plain"));
    serve_on_thread(vec![server], Arc::new(standin_now)).expect("a server").remove(0)
}

/// A desk with a route from a feed at `address` to the board.
fn desk(site: &Site, address: &str) -> Desk {
    let desk = Desk::new();
    desk.private("board.password", "board-pw\n");
    desk.write(
        "chestnut.toml",
        format!(
            "[account.cloud]\nurl = \"{}\"\nuser = \"board\"\npassword = {{ file = \"board.password\" }}\n\n[calendar.days]\nfeed = \"{address}\"\n\n[calendar.board]\naccount = \"cloud\"\npath = \"{BOARD}\"\n\n[route.days]\nfrom = \"days\"\nto = \"board\"\n",
            site.url
        ),
    );
    desk
}

fn copies(site: &Site) -> Vec<(String, String)> {
    site.with(|server| server.texts(BOARD).into_iter().collect())
}

fn counts(told: &serde_json::Value) -> [u64; 3] {
    let counts = &told["runs"][0]["calendars"]["board"];
    ["created", "updated", "deleted"].map(|key| counts[key].as_u64().expect(key))
}

/// What comes of a feed: six entries as before, perhaps one more; or no read at all.
#[derive(Clone, Copy, PartialEq, Debug)]
enum Comes {
    Same,
    OneMore,
    Failed(&'static str),
    Held,
}

#[test]
fn no_odd_feed_deletes_or_doubles_anything() {
    use Comes::{Failed, Held, OneMore, Same};
    let table: &[(&str, Comes)] = &[
        ("plain", Same),
        ("byte-order-mark", Same),
        ("line-feeds-alone", Same),
        ("mixed-line-ends", Same),
        ("carriage-returns-alone", Failed("not a complete calendar")),
        ("blank-lines", Same),
        ("lower-case", Same),
        ("never-folded", Same),
        ("folded-with-tabs", Same),
        ("folded-inside-a-letter", Same),
        ("latin-2-unlabelled", Same),
        ("latin-2-labelled", Same),
        ("utf-16", Same),
        ("without-uids", Same),
        ("empty-uids", Same),
        ("one-uid-for-all", Same),
        ("every-entry-twice", Same),
        ("other-order", Same),
        ("new-stamps", Same),
        ("created-and-modified", Same),
        ("windows-zone-names", Same),
        ("prefixed-zones", Same),
        ("zones-undescribed", Same),
        ("unknown-zone", Same),
        ("unknown-zone-undescribed", Same),
        ("no-version", Same),
        ("called-a-cancellation", Same),
        ("called-a-request", Same),
        ("strange-components", Same),
        ("freebusy-among-them", Same),
        ("an-occurrence-without-its-series", OneMore),
        ("an-event-without-start", OneMore),
        ("ends-before-it-starts", Same),
        ("empty", Failed("it is empty")),
        ("blanks", Failed("it is empty")),
        ("sign-in-page", Failed("it is a web page")),
        ("page-as-calendar", Failed("it is a web page")),
        ("plain-words", Failed("not iCalendar text")),
        ("json", Failed("not iCalendar text")),
        ("xml", Failed("not iCalendar text")),
        ("cards", Failed("it holds a VCARD")),
        ("cut-in-a-line", Failed("the text ends before END:")),
        ("cut-between-entries", Failed("the text ends before END:VCALENDAR")),
        ("cut-before-the-last-line", Failed("the text ends before END:VCALENDAR")),
        ("cut-in-the-last-line", Failed("END:VCALEN")),
        ("two-calendars", Failed("2 calendars one after the other")),
        ("no-entry-left", Held),
        ("an-entry-never-closed", Failed("not a complete calendar")),
        ("closed-twice", Failed("END:VEVENT where")),
        ("a-line-without-a-name", Same),
        ("words-before-it", Failed("not iCalendar text")),
        ("words-behind-it", Failed("not a complete calendar")),
        ("entries-without-a-calendar", Failed("VEVENT")),
        ("zero-bytes", Failed("not a complete calendar")),
        ("nested-without-end", Failed("more than the limit")),
    ];
    let named: BTreeSet<String> = table.iter().map(|(name, _)| format!("{name}.ics")).collect();
    let there = std::fs::read_dir(FEEDS).expect("the corpus").map_while(Result::ok);
    assert_eq!(named, there.map(|f| f.file_name().into_string().expect("a name")).collect());
    let mut problems = Vec::new();
    for (name, comes) in table {
        let site = board();
        // The odd one comes from a server of its own, byte for byte.
        let odd = bytes(name);
        let kind = match *name {
            "sign-in-page" | "plain-words" => "text/html",
            "latin-2-labelled" => "text/calendar; charset=ISO-8859-2",
            _ => "text/calendar",
        };
        let later = std::sync::atomic::AtomicUsize::new(0);
        let address = raw_server(move |_| {
            // Plain first, then the odd one for the second run, then plain again.
            let asked = later.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
            let body = if asked == 1 { odd.clone() } else { bytes("plain") };
            let kind = if asked == 1 { kind } else { "text/calendar" };
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            vec![Part::Bytes(head.into_bytes()), Part::Bytes(body)]
        });
        let desk = desk(&site, &address);
        assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [6, 0, 0], "{name}");
        let before = copies(&site);
        let told = desk.run(&["sync", "--json"]);
        let [created, _, deleted] = counts(&told.json());
        let words = told.json()["runs"][0]["error"].as_str().unwrap_or_default().to_owned();
        // The state keeps facts; history says them as the run did.
        let kept = desk.ok(&["history", "--json"]).json()["runs"][0]["summary"]["error"].clone();
        assert_eq!(kept.as_str().unwrap_or_default(), words, "{name}");
        let expected = match comes {
            Same => told.code == 0 && created == 0,
            OneMore => told.code == 0 && created == 1,
            Failed(problem) => {
                told.code == 1 && created == 0 && words.contains(problem) && copies(&site) == before
            }
            Held => told.code == 3 && copies(&site) == before,
        };
        let hrefs: Vec<_> = before.iter().map(|(href, _)| href.clone()).collect();
        let kept = hrefs.iter().all(|href| copies(&site).iter().any(|(now, _)| now == href));
        if !expected || deleted != 0 || !kept {
            problems.push(format!("{name}: {} created {created} deleted {deleted}: {words}", told.code));
        }
        // Back to the plain one: the same six copies, at the same places.
        let told = desk.run(&["sync", "--json", "--allow-deletions"]);
        let after: Vec<_> = copies(&site).into_iter().map(|(href, _)| href).collect();
        let more = u64::from(*comes == OneMore);
        if told.code != 0 || counts(&told.json())[0] != 0 || counts(&told.json())[2] != more || after != hrefs
        {
            problems.push(format!("{name}, and back: {told:?}"));
        }
    }
    assert!(problems.is_empty(), "{}", problems.join("\n"));
}

#[test]
fn a_feed_that_is_not_given_deletes_nothing_either() {
    let site = board();
    let desk = desk(&site, &format!("{}feeds/days.ics", site.url));
    desk.ok(&["sync"]);
    let before = copies(&site);
    let body = |code: u16, text: &str| FaultKind::Body {
        code,
        content_type: "text/calendar".into(),
        text: text.into(),
    };
    let status = |code: u16| FaultKind::Status { code, retry_after: Some(3600) };
    for (kind, hint) in [
        (status(401), "requires sign-in"),
        (status(403), "requires sign-in"),
        (status(404), "removed it or changed its address"),
        (status(410), "removed it or changed its address"),
        (status(500), "Check the address"),
        (status(503), "Check the address"),
        (body(204, ""), "Check the address"),
        (body(206, &feed("cut-between-entries")), "Check the address"),
        (body(304, ""), "Check the address"),
    ] {
        site.with(|server| {
            server.faults = vec![Fault { path: Some(FEED.into()), ..Fault::always("GET", kind.clone()) }]
        });
        // `--afresh` asks without a condition: a 304 is no answer to that.
        let told = desk.run(&["sync", "--afresh"]);
        assert!(told.code == 1 && told.err.contains(hint), "{kind:?}: {told:?}");
        assert_eq!(copies(&site), before, "{kind:?}");
    }
    let broken = raw_server(|_| {
        vec![Part::Bytes(b"HTTP/1.1 200 OK\r\nContent-Type: text/calendar\r\nContent-Encoding: gzip\r\nContent-Length: 20\r\nConnection: close\r\n\r\nBEGIN:VCALENDAR\r\nVE".to_vec())]
    });
    let away = raw_server(move |head| match head.starts_with("GET / ") {
        true => reply(302, "Location: /sign-in\r\n", ""),
        false => reply(200, "Content-Type: text/html\r\n", "<html>Sign in</html>"),
    });
    for address in [broken, away] {
        let added = desk.run(&["calendar", "add", "other", "--feed", &address]);
        assert_eq!(added.code, 1, "{added:?}");
    }
}

#[test]
fn a_feed_is_asked_only_for_news_and_recognised_under_new_uids() {
    for habits in [vec![], vec![Habit::Gzip], vec![Habit::FeedsByTime], vec![Habit::FeedsUnmarked]] {
        let site = board();
        site.with(|server| server.habits = habits.iter().copied().collect());
        let desk = desk(&site, &format!("{}feeds/days.ics", site.url));
        assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [6, 0, 0]);
        desk.ok(&["sync"]);
        desk.ok(&["sync"]);
        let told = desk.ok(&["sync", "--json"]).json();
        assert_eq!((counts(&told), &told["runs"][0]["requests"]), ([0, 0, 0], &2.into()), "{habits:?}");
        let changed =
            feed("plain").replace("Winter market", "Winter market, hall 2").replace("20261010", "20261011");
        site.with(|server| drop(server.feeds.insert(FEED.into(), changed)));
        assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [0, 2, 0], "{habits:?}");
        let fewer = feed("without-uids").replacen("SUMMARY:Town market", "SUMMARY:Town market, moved", 1);
        site.with(|server| drop(server.feeds.insert(FEED.into(), fewer)));
        desk.ok(&["sync"]);
        assert_eq!(copies(&site).len(), 6, "{habits:?}");
    }
    let site = board();
    site.with(|server| server.habits = [Habit::RenewsUids].into());
    let desk = desk(&site, &format!("{}feeds/days.ics", site.url));
    let before = {
        desk.ok(&["sync"]);
        copies(&site)
    };
    for _ in 0..3 {
        assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [0, 0, 0]);
    }
    assert_eq!(copies(&site), before);
    let changed =
        feed("plain").replace("UID:days-6@markets.example\r\n", "").replace("Harvest fair", "Harvest feast");
    site.with(|server| drop(server.feeds.insert(FEED.into(), changed)));
    desk.ok(&["sync"]);
    assert_eq!(copies(&site).len(), 6);
    let added = desk.ok(&["calendar", "add", "odd", "--feed", &format!("{}feeds/days.ics?again", site.url)]);
    assert!(added.out.contains("its UIDs are new at every fetch"), "{}", added.out);
}

#[test]
fn what_a_feed_is_shows_when_it_is_added_and_it_is_never_written_to() {
    let site = board();
    let text = feed("plain").replace(
        "METHOD:PUBLISH",
        "REFRESH-INTERVAL;VALUE=DURATION:PT4H\r\nX-WR-TIMEZONE:Europe/Ljubljana\r\nX-WR-CALDESC:\x1b[31mred",
    );
    let text = text.replace("SUMMARY:Winter market", "SUMMARY:Winter market\r\nRRULE:FREQ=YEARLY");
    let text =
        text.replace("UID:days-3@markets.example\r\n", "").replace("X-WR-CALNAME:", "X-WR-CALNAME:\x1b[31m");
    site.with(|server| drop(server.feeds.insert(FEED.into(), text)));
    let desk = Desk::new();
    let told = desk.ok(&["calendar", "add", "days", "--feed", &format!("{}feeds/days.ics", site.url)]);
    insta::assert_snapshot!("a_feed_is_added", told.out);
    let address = format!("{}feeds/days.ics", site.url);
    for (route, key) in
        [("from = \"kiosk\"\nto = \"days\"", "to"), ("between = [\"kiosk\", \"days\"]", "between")]
    {
        desk.write(
            "chestnut.toml",
            format!("[calendar.days]\nfeed = \"{address}\"\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n[route.back]\n{route}\n"),
        );
        let told = desk.run(&["sync"]);
        assert_eq!(told.code, 2, "{told:?}");
        assert!(
            told.err.contains(&format!("`{key}` in [route.back] names `days`, which is a feed")),
            "{}",
            told.err
        );
        assert!(
            told.err.contains("ask for the calendar's CalDAV address") && told.err.contains("publish a feed"),
            "{}",
            told.err
        );
    }
}

/// A server → a file → a folder → another server, and the same back to nothing.
#[test]
fn files_and_folders_are_calendars_both_as_sources_and_as_targets() {
    let mut office = Server::new(&["office"], standin_now() - 86_400_000);
    let presses = office.add_calendar("office", "presses", "Press hall", "#b5651d");
    for entry in orchard_entries(60, jiff::civil::date(2026, 10, 5)) {
        office.store(&presses, &entry.name, &entry.text);
    }
    let office = serve_on_thread(vec![office], Arc::new(standin_now)).expect("a server").remove(0);
    let board = board();
    let desk = Desk::new();
    desk.private("board.password", "board-pw\n");
    desk.account(&office.url, "");
    let kinds = "only = { kinds = [\"events\", \"tasks\"] }";
    let configure = |far: &str| {
        desk.write("chestnut.toml", format!(
            "[account.packhouse]\nurl = \"{}\"\nuser = \"office\"\npassword = {{ file = \"office.password\" }}\n[account.cloud]\nurl = \"{}\"\nuser = \"board\"\npassword = {{ file = \"board.password\" }}\n[calendar.presses]\naccount = \"packhouse\"\npath = \"{presses}\"\n[calendar.board]\naccount = \"cloud\"\npath = \"{BOARD}\"\n[calendar.kiosk]\nfile = \"out/kiosk.ics\"\n[calendar.shelf]\nfolder = \"out/shelf\"\n[calendar.own]\nfile = \"own.ics\"\n{far}",
            office.url, board.url
        ));
    };
    std::fs::create_dir(desk.path("out")).expect("a folder");
    let route = |name: &str, from: &str, to: &str| {
        format!("[route.{name}]\nfrom = \"{from}\"\nto = \"{to}\"\n{kinds}\n")
    };
    configure(&(route("a", "presses", "kiosk") + &route("b", "presses", "shelf")));
    let preview = desk.ok(&["preview", "--json"]).json();
    let created = preview["previews"][0]["create"].as_u64().expect("a number");
    assert!(created > 40 && !desk.path("out/kiosk.ics").exists() && !desk.path("out/shelf").exists());
    desk.ok(&["sync"]);
    let again = desk.ok(&["sync", "--json"]).json();
    for run in [0, 1] {
        assert_eq!(again["runs"][run]["calendars"].as_object().map(|c| c.len()), Some(2));
        assert_eq!(again["runs"][run]["result"], "ok");
        assert!(again["runs"][run]["changes"].as_array().is_none_or(Vec::is_empty));
    }
    let files = || std::fs::read_dir(desk.path("out/shelf")).expect("the shelf").count() as u64;
    assert_eq!(files(), created);
    // The state is lost: everything is found again.
    std::fs::remove_file(desk.path("chestnut.state")).expect("removed");
    let kept = desk.read("out/kiosk.ics");
    desk.ok(&["sync"]);
    assert_eq!((files(), desk.read("out/kiosk.ics")), (created, kept));

    // What others keep in the file stays as it stands, line for line.
    let own = "BEGIN:VEVENT\r\nUID:own\r\nDTSTAMP:20260901T060000Z\r\nDTSTART:20261010T080000Z\r\nX-OWN;X-A=\"b;c\":d\r\nSUMMARY:Own\r\nEND:VEVENT\r\n";
    let with_own = desk.read("out/kiosk.ics").replacen("BEGIN:VEVENT", &format!("{own}BEGIN:VEVENT"), 1);
    let with_own = with_own.replacen("VERSION:2.0\r\n", "VERSION:2.0\r\nX-WR-CALNAME:Kiosk\r\n", 1);
    desk.write("out/kiosk.ics", &with_own);
    let name = office.with(|server| server.texts(&presses).into_keys().next().expect("an entry"));
    office.with(|server| server.delete(&presses, &name));
    desk.ok(&["sync"]);
    let text = desk.read("out/kiosk.ics");
    assert!(text.contains(own) && text.contains("X-WR-CALNAME:Kiosk"), "{text}");
    assert_eq!(
        text.matches("BEGIN:VEVENT").count() + text.matches("BEGIN:VTODO").count(),
        with_own.matches("BEGIN:VEVENT").count() + with_own.matches("BEGIN:VTODO").count()
            - 1
            - text.matches("RECURRENCE-ID").count().abs_diff(with_own.matches("RECURRENCE-ID").count())
    );
    assert_eq!(files(), created - 1);

    // A file that vanishes was not emptied; an empty calendar in its place is filled again, as its hint says.
    std::fs::remove_file(desk.path("out/kiosk.ics")).expect("removed");
    for _ in 0..2 {
        let told = desk.run(&["sync"]);
        assert!(told.code == 1 && told.err.contains("kiosk.ics is gone, or without a byte"), "{told:?}");
        assert!(told.err.contains("put a calendar without entries in its place"), "{told:?}");
        desk.write("out/kiosk.ics", "");
    }
    let empty = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nEND:VCALENDAR\r\n";
    desk.write("out/kiosk.ics", empty);
    desk.ok(&["sync"]);
    let entries = |text: &str| text.matches("\r\nUID:").count();
    assert_eq!(entries(&desk.read("out/kiosk.ics")), entries(&text) - 1, "all but the far owner's own");

    // As sources: a file and a folder to a server, and what changes there follows.
    desk.write(
        "own.ics",
        format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\n{own}END:VCALENDAR\r\n"),
    );
    configure(&route("c", "own", "board"));
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [1, 0, 0]);
    desk.write("own.ics", desk.read("own.ics").replace("SUMMARY:Own", "SUMMARY:Own, later"));
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [0, 1, 0]);
    // A folder to a server: what cannot be read is named and the rest goes through; a file that goes is a deletion.
    std::fs::create_dir(desk.path("inbox")).expect("a folder");
    let named = |uid: &str| own.replace("UID:own", &format!("UID:{uid}"));
    for (name, text) in [
        ("a.ics", named("a")),
        ("b.ics", named("b")),
        ("bad.ics", "no calendar".into()),
        (".hidden.ics", "x".into()),
        ("notes.txt", "x".into()),
    ] {
        let text =
            format!("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\n{text}END:VCALENDAR\r\n");
        desk.write(&format!("inbox/{name}"), text);
    }
    let inbox = "[calendar.inbox]\nfolder = \"inbox\"\n";
    configure(&(inbox.to_owned() + &route("d", "inbox", "board")));
    let told = desk.run(&["sync", "--json"]).json();
    assert_eq!((counts(&told), &told["runs"][0]["left_out"]["unreadable"]), ([2, 0, 0], &1.into()), "{told}");
    std::fs::remove_file(desk.path("inbox/b.ics")).expect("removed");
    desk.write("inbox/a.ics", desk.read("inbox/a.ics").replace("SUMMARY:Own", "SUMMARY:Own, moved"));
    assert_eq!(counts(&desk.run(&["sync", "--json"]).json()), [0, 1, 1]);
    std::fs::remove_dir_all(desk.path("inbox")).expect("removed");
    let told = desk.run(&["sync"]);
    assert!(told.code == 1 && copies(&board).len() == 2, "{told:?}");
    configure(&route("c", "own", "board"));
    for (spoilt, problem) in
        [("", "it is empty"), ("BEGIN:VCALENDAR\r\nVERSION:2.0\r\n", "the text ends before")]
    {
        desk.write("own.ics", spoilt);
        let told = desk.run(&["sync"]);
        assert!(told.code == 1 && told.err.contains(problem), "{told:?}");
    }
    std::fs::remove_file(desk.path("own.ics")).expect("removed");
    let told = desk.run(&["sync"]);
    assert!(told.code == 1 && told.err.contains("No such file"), "{told:?}");
    assert_eq!(copies(&board).len(), 2);
}

/// Free-busy time from one October day to another, with an hour taken at eight on some days.
fn free_busy(from: u32, to: u32, taken: &[u32]) -> String {
    let periods: Vec<_> = taken.iter().map(|day| format!("202610{day:02}T080000Z/PT1H")).collect();
    let periods = match periods.join(",") {
        none if none.is_empty() => none,
        some => format!("FREEBUSY;FBTYPE=BUSY:{some}\r\n"),
    };
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//depot.example//EN\r\nMETHOD:PUBLISH\r\nBEGIN:VFREEBUSY\r\nUID:depot\r\n\
         DTSTAMP:20261001T000000Z\r\nDTSTART:202610{from:02}T000000Z\r\nDTEND:202610{to:02}T000000Z\r\n{periods}\
         END:VFREEBUSY\r\nEND:VCALENDAR\r\n"
    )
}

#[test]
fn free_busy_time_is_busy_copies_and_outside_of_its_ends_nothing_is_gone() {
    let site = board();
    let publish = |text: String| site.with(|server| server.feeds.insert(FEED.into(), text).map(drop));
    publish(free_busy(5, 20, &[6, 8, 19]));
    let desk = desk(&site, "unused");
    let config = desk.read("chestnut.toml");
    let depot = format!("freebusy = \"{}{}\"", site.url.trim_end_matches('/'), FEED);
    let config = config.replace("feed = \"unused\"", &depot);
    desk.write("chestnut.toml", &config);
    let told = desk.run(&["preview"]);
    assert!(told.code == 2 && told.err.contains("`days` tells nothing but when time is taken"), "{told:?}");
    let joined = "[calendar.wall]\nfile = \"wall.ics\"\n[route.joined]\nfrom = \"days\"\nto = \"wall\"\ncarry = \"busy\"\njoin-busy = true\n\
        window = { past = \"60 days\", ahead = \"60 days\" }\n";
    desk.write(
        "chestnut.toml",
        config.replace("from = \"days\"", "from = \"days\"\ncarry = \"busy\"") + joined,
    );
    let on_the_wall = || desk.read("wall.ics").matches("BEGIN:VEVENT").count();
    let starts = || {
        let mut all: Vec<String> = copies(&site)
            .iter()
            .map(|(_, text)| {
                text.lines().find(|line| line.starts_with("DTSTART")).unwrap_or_default().to_owned()
            })
            .collect();
        all.sort();
        all.iter().map(|line| line[14..16].parse::<u32>().expect("a day")).collect::<Vec<_>>()
    };
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [3, 0, 0]);
    assert!(copies(&site).iter().all(|(_, text)| text.contains("SUMMARY:Busy")));
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [0, 0, 0]);
    // Days go by: what lies before the new beginning is over, not gone; what is given up within the ends is gone.
    publish(free_busy(7, 22, &[8, 21]));
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [1, 0, 1]);
    assert_eq!(starts(), [6, 8, 21]);
    assert_eq!(on_the_wall(), 3);
    // What was known of it before is still shown.
    let told =
        desk.ok(&["agenda", "days", "--list", "--offline", "--from", "2026-10-01", "--to", "2026-10-31"]);
    assert!(told.out.contains("3 entries"), "{told:?}");
    // It tells of less now, and then all of its state is lost: nothing follows for what it does not tell of.
    publish(free_busy(10, 12, &[]));
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [0, 0, 0]);
    std::fs::remove_file(desk.path("chestnut.state")).expect("removed");
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [0, 0, 0]);
    assert_eq!((starts(), on_the_wall()), (vec![6, 8, 21], 3));
    let compared = desk.run(&["compare", "--json"]);
    assert_eq!(compared.code, 0, "{compared:?}");
    assert_eq!(compared.json()["comparisons"][0]["extra"], 0, "{compared:?}");
    // Nobody knows whether the time outside of its ends is free.
    let told =
        desk.ok(&["free", "days", "--from", "2026-10-09", "--to", "2026-10-13", "--weekdays", "mon-sun"]);
    assert!(
        told.out.contains("Sat 10 Oct  09:00–17:00") && told.out.contains("Mon 12 Oct  nothing"),
        "{told:?}"
    );
    assert!(
        told.out.contains("days: nothing is known from Mon 12 Oct 00:00 to Wed 14 Oct 00:00"),
        "{told:?}"
    );
    // What is no free-busy time is never taken for free time.
    for broken in
        [feed("plain"), free_busy(5, 20, &[6]).replace("PT1H", "soon"), "<html>sign in</html>".to_owned()]
    {
        publish(broken);
        assert_eq!(desk.run(&["sync"]).code, 1);
        assert_eq!(starts(), [6, 8, 21]);
    }
    for (wrong, problem) in [
        ("to = \"days\"\nfrom = \"board\"", "a feed can only be read"),
        ("between = [\"days\", \"board\"]", "a feed can only be read"),
    ] {
        desk.write("chestnut.toml", config.replace("from = \"days\"\nto = \"board\"", wrong));
        let told = desk.run(&["preview"]);
        assert!(told.code == 2 && told.err.contains(problem), "{told:?}");
    }
}

#[test]
fn a_server_is_asked_when_somebody_is_taken_and_no_message_is_sent() {
    let site = board();
    let hall = site.with(|server| {
        let hall = server.add_calendar("board", "hall", "Press hall", "");
        server.store(&hall, "a.ics", "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:a\r\nDTSTAMP:20261001T000000Z\r\nDTSTART:20261006T080000Z\r\nDTEND:20261006T090000Z\r\nSUMMARY:Cider evening\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n");
        hall
    });
    let desk = desk(&site, "unused");
    let address = format!("{}{hall}", site.url.trim_end_matches('/'));
    let config = desk
        .read("chestnut.toml")
        .replace("[calendar.days]\nfeed = \"unused\"\n", "")
        .replace("from = \"days\"", "from = \"hall\"\ncarry = \"busy\"");
    let (accounts, route) = config.split_once("[route.days]").expect("a route");
    desk.write("chestnut.toml", accounts);
    let told = desk.ok(&["calendar", "add", "hall", "--account", "cloud", "--freebusy", &address]);
    assert!(told.out.contains("hall, free-busy time") && told.out.contains("1 time"), "{told:?}");
    desk.write("chestnut.toml", format!("{}\n[route.days]{route}", desk.read("chestnut.toml")));
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [1, 0, 0]);
    let (_, text) = copies(&site).remove(0);
    assert!(!text.contains("Cider") && text.contains("DTSTART:20261006T080000Z"), "{text}");
    assert_eq!(counts(&desk.ok(&["sync", "--json"]).json()), [0, 0, 0]);
    assert_eq!(desk.run(&["probe"]).code, 0);
    let methods: BTreeSet<String> = site.with(|server| {
        let of_hall = server.log.iter().filter(|(_, path)| path.starts_with(&hall));
        of_hall.map(|(method, _)| method.clone()).collect()
    });
    assert_eq!(methods.iter().map(String::as_str).collect::<Vec<_>>(), ["REPORT"]);
    assert!(!site.with(|server| server.log.iter().any(|(method, _)| method == "POST")));
    // A server that does not tell, and publishes nothing there either.
    site.with(|server| server.habits.insert(Habit::NoFreeBusy));
    let told = desk.run(&["sync"]);
    assert!(told.code == 1, "{told:?}");
    assert_eq!(copies(&site).len(), 1);
}
