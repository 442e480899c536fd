//! Habits that only show on a real connection, and every starting point of an account.

use chestnut_standin::{Fault, FaultKind, Habit};

use crate::desk::Desk;
use crate::set_up::{BOARD, PRESSES, SetUp};

#[test]
fn habits_of_connections_sign_in_and_addresses() {
    use Habit::{
        AlphaColors, CrowdedHome, DigestOnly, DoubleEscapes, FailsParallel, Gzip, HomeIsPrincipal,
        LocksParallel, NoPrivileges, NoWellKnown, OneRequestPerConnection, WeakEtags, WellKnown302,
        WellKnownAbsolute,
    };
    for habits in [
        vec![Gzip, WeakEtags],
        vec![OneRequestPerConnection],
        vec![DigestOnly],
        vec![LocksParallel],
        vec![FailsParallel],
        vec![WellKnownAbsolute, CrowdedHome, AlphaColors, DoubleEscapes],
        vec![WellKnown302, NoPrivileges, DigestOnly, Gzip],
        vec![NoWellKnown],
    ] {
        let set_up = SetUp::new(24);
        for site in [&set_up.source, &set_up.target] {
            site.with(|server| server.habits = habits.iter().copied().collect());
        }
        // A calendar's name may come back changed, its path does not.
        set_up
            .configure(&set_up.standard().replace("name = \"Notice board\"", &format!("path = \"{BOARD}\"")));
        let found = set_up.ok(&["account", "test", "--json"]).json();
        assert_eq!(found["accounts"][1]["calendars"].as_array().map(Vec::len), Some(1), "{habits:?}");
        let told = set_up.ok(&["sync", "--json"]).json();
        assert_eq!(told["runs"][0]["calendars"]["board"]["created"], 24, "{habits:?}: {told}");
        let told = set_up.ok(&["sync", "--json"]).json();
        assert_eq!(
            (&told["runs"][0]["writes"], &told["runs"][0]["requests"]),
            (&0.into(), &2.into()),
            "{habits:?}"
        );
    }
    let set_up = SetUp::new(0);
    set_up.source.with(|server| server.habits = [HomeIsPrincipal].into());
    assert_eq!(set_up.run(&["account", "test", "packhouse"]).code, 0);
}

/// `account test --write` creates, changes and deletes a test entry, says what came of each, and leaves nothing behind,
/// nor what an earlier trial left.
#[test]
fn a_calendar_is_tried_by_writing_into_it() {
    let trial = |set_up: &SetUp| {
        let told = set_up.run(&["account", "test", "--write", "board", "--json"]);
        let accounts = told.json()["accounts"].as_array().expect("accounts").clone();
        let [account] = &accounts[..] else { panic!("that account alone: {accounts:?}") };
        let steps = account["steps"].as_array().expect("steps");
        let text = |step: &serde_json::Value, key: &str| step[key].as_str().unwrap_or_default().to_owned();
        let written = steps.iter().skip_while(|step| step["step"] != "mail");
        let told_of: Vec<_> = written.map(|step| (text(step, "step"), text(step, "seen"))).collect();
        (told.code, told_of, account["calendars"][0].clone())
    };
    let standing = |set_up: &SetUp| set_up.target.with(|server| server.texts(BOARD));
    for (habit, code, last, words) in [
        (None, 0, "delete", "it was deleted"),
        (Some(Habit::IgnoresIfMatch), 0, "delete", "it was deleted"),
        (Some(Habit::UidConflict403), 0, "delete", "it was deleted"),
        (Some(Habit::FloatingToUtc), 0, "delete", "it was deleted"),
    ] {
        let set_up = SetUp::new(0);
        set_up.target.with(|server| server.habits.extend(habit));
        let (ended, steps, calendar) = trial(&set_up);
        let at = steps.last().expect("steps");
        let is_told = ended == code && at.0 == last && at.1.contains(words);
        assert!(is_told, "{habit:?}: {ended} {steps:?}");
        assert!(standing(&set_up).is_empty(), "{habit:?}");
        assert_eq!((&calendar["changes_by"], &calendar["room"]), (&"sync-report".into(), &50_000_000.into()));
        let condition = steps.iter().find(|(step, _)| step == "condition");
        let is_taken = condition.is_some_and(|(_, seen)| seen.contains("ignores conditions"));
        assert_eq!(is_taken, habit == Some(Habit::IgnoresIfMatch), "{steps:?}");
    }
    // A calendar that may only be read, one that does not delete, and what is no calendar on a server.
    let set_up = SetUp::new(0);
    set_up.target.with(|server| {
        server.faults.push(Fault::always("DELETE", FaultKind::Status { code: 500, retry_after: None }))
    });
    let (ended, steps, _) = trial(&set_up);
    assert!(
        ended == 1 && steps.iter().any(|(_, seen)| seen.contains("may still stand in board")),
        "{steps:?}"
    );
    assert_eq!(standing(&set_up).len(), 1);
    set_up.target.with(|server| server.faults.clear());
    assert_eq!((trial(&set_up).0, standing(&set_up).len()), (0, 0));
    assert_eq!(set_up.run(&["account", "test", "--write", "nothing"]).code, 2);
}

/// Every way that people have an address.
const STARTS: &[&str] = &[
    "",
    ".well-known/caldav",
    ".well-known/caldav/",
    "office/",
    "office",
    "office/calendars/",
    "office/calendars",
    "office/calendars/presses/",
    "office/calendars/presses",
    "nowhere/",
];

#[test]
fn every_starting_point_leads_to_the_same_calendars_whatever_the_server_does() {
    let set_up = SetUp::new(3);
    let standard = set_up.standard();
    let calendars = |start: &str| {
        set_up.configure(&standard.replace(&set_up.source.url, &format!("{}{start}", set_up.source.url)));
        let told = set_up.ok(&["account", "test", "packhouse", "--json"]).json();
        let calendars = told["accounts"][0]["calendars"].as_array().expect("calendars").clone();
        calendars.iter().map(|c| c["path"].as_str().expect("a path").to_owned()).collect::<Vec<_>>()
    };
    for habit in std::iter::once(None).chain(Habit::ALL.iter().map(Some)) {
        set_up.source.with(|server| server.habits = habit.into_iter().copied().collect());
        // All of them against a plain server; against each habit those that go other ways.
        let starts =
            if habit.is_none() { STARTS } else { &["", "office", "office/calendars/presses/", "nowhere/"] };
        for start in starts {
            assert_eq!(calendars(start), [PRESSES], "{habit:?} from {start:?}");
        }
    }
}

#[test]
fn a_broken_name_is_a_name() {
    let set_up = SetUp::new(3);
    set_up.source.with(|server| server.habits = [Habit::BrokenNames].into());
    let told = set_up.ok(&["calendar", "list", "packhouse", "--json"]).json();
    assert_eq!(told["accounts"][0]["calendars"][0]["name"], "Press hall \u{1F333} \u{FFFD} \u{FFFD}");
}

#[test]
fn a_calendar_named_by_its_name_is_sought_once_a_day_or_when_it_is_gone() {
    let set_up = SetUp::new(3);
    set_up.ok(&["sync"]);
    set_up.ok(&["sync"]);
    let asked = || set_up.target.with(|server| std::mem::take(&mut server.log));
    let searches = |log: &[(String, String)]| {
        log.iter().filter(|(_, path)| !path.contains("/board/calendars/board/")).count()
    };
    asked();
    set_up.ok(&["sync"]);
    let log = asked();
    assert!(searches(&log) <= 1, "but for the first challenge nothing but the calendar is asked: {log:?}");
    // It was moved: the same run finds it.
    set_up.target.with(|server| {
        let board = server.collections.remove(BOARD).expect("the board");
        server.collections.insert("/board/calendars/moved/".to_owned(), board);
    });
    let told = set_up.run(&["sync"]);
    assert!(searches(&asked()) >= 3, "{}", told.said());
    assert!(told.said().contains("other calendars") || told.code == 0, "{}", told.said());
}

/// A name service that knows one domain (RFC 6764).
fn name_service(target: &'static str, port: u16, path: Option<&'static str>) -> String {
    use simple_dns::rdata::{RData, SRV, TXT};
    use simple_dns::{CLASS, Name, Packet, QTYPE, ResourceRecord, TYPE};
    let socket = std::net::UdpSocket::bind("127.0.0.1:0").expect("a port");
    let address = socket.local_addr().expect("an address").to_string();
    std::thread::spawn(move || {
        let mut bytes = [0; 1024];
        while let Ok((length, from)) = socket.recv_from(&mut bytes) {
            let Ok(asked) = Packet::parse(&bytes[..length]) else { continue };
            let mut reply = Packet::new_reply(asked.id());
            let name = asked.questions[0].qname.to_string();
            let data = match asked.questions[0].qtype {
                QTYPE::TYPE(TYPE::SRV) if name == "_caldav._tcp.localhost" => Some(RData::SRV(SRV {
                    priority: 0,
                    weight: 1,
                    port,
                    target: Name::new_unchecked(target),
                })),
                QTYPE::TYPE(TYPE::TXT) if path.is_some() => {
                    let mut text = TXT::new();
                    text.add_string(path.unwrap_or_default()).expect("a text");
                    Some(RData::TXT(text))
                }
                _ => None,
            };
            let owner = Name::new(&name).expect("a name").into_owned();
            reply.answers.extend(data.map(|data| ResourceRecord::new(owner, CLASS::IN, 60, data)));
            drop(socket.send_to(&reply.build_bytes_vec().expect("a packet"), from));
        }
    });
    address
}

#[test]
fn a_bare_domain_is_looked_up_and_nobody_is_sent_elsewhere_with_a_password() {
    let set_up = SetUp::new(3);
    let port = url::Url::parse(&set_up.source.url).expect("an address").port().expect("a port");
    let desk = Desk::new();
    let run =
        |resolver: &str, arguments: &[&str]| desk.run_with(arguments, &[("CHESTNUT_RESOLVER", resolver)]);
    for path in [None, Some("path=/office/calendars/")] {
        let resolver = name_service("localhost", port, path);
        desk.account("localhost", "");
        let told = run(&resolver, &["account", "test"]);
        assert_eq!(told.code, 0, "{told:?}");
        assert!(
            told.out.contains(&format!("localhost has its calendars at localhost:{port}")),
            "{}",
            told.out
        );
        assert_eq!(run(&resolver, &["calendar", "list"]).code, 0);
        // A mail address leads there too, and what is found is written down.
        std::fs::remove_file(desk.path("chestnut.toml")).expect("removed");
        let add = [
            "account",
            "add",
            "packhouse",
            "office@localhost",
            "--user",
            "office",
            "--password-from",
            "file:office.password",
        ];
        assert_eq!(run(&resolver, &add).code, 0);
        assert!(desk.read("chestnut.toml").contains(&format!("url = \"http://localhost:{port}/")));
        desk.ok(&["calendar", "list"]);
    }
    desk.account("localhost", "");
    let told = run(&name_service("dav.stranger.example", port, None), &["account", "test"]);
    assert_eq!(told.code, 1);
    assert!(
        told.said().contains("localhost has its calendars at dav.stranger.example, another domain"),
        "{}",
        told.err
    );
    assert!(told.said().contains("give this address instead"), "{}", told.err);
    // A name service that says nothing costs nothing but the look.
    let silent = name_service("nobody", 1, None);
    desk.account("nowhere.invalid", "");
    assert!(run(&silent, &["account", "test"]).said().contains("the host name nowhere.invalid is not known"));
}
