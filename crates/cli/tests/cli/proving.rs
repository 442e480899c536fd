//! Planted faults, each found with the step at which it shows, or with its cause; and nothing of a test entry stays.

use chestnut_standin::{Failing, Fault, FaultKind, Share};
use serde_json::Value;

use crate::set_up::{BOARD, PRESSES, SetUp};

/// One set-up for each fault: what is planted, which step fails, and which words tell why.
struct Planted {
    name: &'static str,
    route: &'static str,
    plant: fn(&SetUp),
    arguments: &'static [&'static str],
    step: &'static str,
    words: &'static str,
    code: i32,
}

fn plain(name: &'static str, plant: fn(&SetUp), step: &'static str, words: &'static str) -> Planted {
    Planted { name, route: "", plant, arguments: &[], step, words, code: 1 }
}

fn fail_source(set_up: &SetUp, failing: Failing) {
    set_up.source.with(|server| server.fail(failing));
}

fn fail_target(set_up: &SetUp, failing: Failing) {
    set_up.target.with(|server| server.fail(failing));
}

fn faults() -> Vec<Planted> {
    vec![
        plain(
            "a target that may only be read",
            |set_up| {
                set_up.target.with(|server| {
                    server.users.insert("guest".into(), "board-pw".into());
                    let board = server.collections.get_mut(BOARD).expect("the board");
                    board.shares.insert("guest".into(), Share::Read);
                });
                let text = set_up.standard().replace("user = \"board\"", "user = \"guest\"");
                let text = text.replace("name = \"Notice board\"", &format!("path = \"{BOARD}\""));
                let text = text.replace("[route.presses-to-board]", "[route.guests]");
                set_up.configure(&text);
            },
            "",
            "may only be read",
        ),
        Planted {
            route: "only = { words = [\"/^plum$/\"] }",
            code: 3,
            ..plain("a filter", |_| {}, "", "cannot be probed: only.words")
        },
        Planted {
            route: "window = { to = \"2026-09-30\" }",
            code: 3,
            ..plain("a window that excludes", |_| {}, "", "inside its window")
        },
        plain(
            "a target that drops titles",
            |set_up| fail_target(set_up, Failing::DropsTitles),
            "create",
            "the server changed title",
        ),
        plain(
            "a target that shifts times",
            |set_up| fail_target(set_up, Failing::LateByAnHour),
            "create",
            "it stands in board an hour later",
        ),
        plain(
            "a paused route",
            |set_up| drop(set_up.ok(&["route", "pause", "presses-to-board"])),
            "",
            "route presses-to-board is paused; no test entry was written",
        ),
        Planted {
            arguments: &["--wait", "1s"],
            ..plain("nothing syncs", |_| {}, "create", "nothing came to board")
        },
        plain(
            "201 at the source and nothing stored",
            |set_up| fail_source(set_up, Failing::KeepsNoNews),
            "create",
            "presses said that it was stored, and keeps nothing",
        ),
        plain(
            "201 at the target and nothing stored",
            |set_up| fail_target(set_up, Failing::KeepsNoNews),
            "create",
            "writing to board: the server said it was stored, and keeps nothing",
        ),
        plain(
            "a stale listing at the source",
            |set_up| fail_source(set_up, Failing::StaleListings),
            "create",
            "it stands in presses, whose listing does not name it",
        ),
        plain(
            "a stale listing at the target",
            |set_up| fail_target(set_up, Failing::StaleListings),
            "create",
            "it stands in board, whose listing does not name it",
        ),
        plain(
            "a frozen sync token",
            |set_up| fail_source(set_up, Failing::FrozenMarks),
            "create",
            "its change mark (sync token or ctag) did not move",
        ),
        plain(
            "an expired password",
            |set_up| {
                set_up.target.with(|server| drop(server.users.insert("board".into(), "another".into())));
            },
            "",
            "the server refuses the user name or the password (401)",
        ),
        plain(
            "a full quota",
            |set_up| {
                let full = FaultKind::Status { code: 507, retry_after: None };
                set_up.target.with(|server| server.faults.push(Fault::always("PUT", full)));
            },
            "create",
            "writing to board: the server refuses it (507",
        ),
    ]
}

/// Whether anything of a test entry stands in either calendar.
fn left(set_up: &SetUp) -> Vec<String> {
    let near = set_up.source.with(|server| server.texts(PRESSES));
    let far = set_up.target.with(|server| server.texts(BOARD));
    let is_probe = |(name, text): &(String, String)| name.contains("probe") || text.contains("test entry");
    near.into_iter().chain(far).filter(is_probe).map(|(name, _)| name).collect()
}

#[test]
fn each_planted_fault_is_found_by_a_probe_at_its_step() {
    for planted in faults() {
        let what = planted.name;
        let set_up = SetUp::new(5);
        set_up.ok(&["sync"]);
        // Marks of change are trusted once they have stood for a while.
        set_up.configure(&format!("{}{}\n", set_up.standard(), planted.route));
        if !planted.route.is_empty() {
            set_up.configure(
                &set_up.standard().replace("only = { kinds = [\"events\", \"tasks\"] }", planted.route),
            );
        }
        (planted.plant)(&set_up);
        let before = (
            set_up.source.with(|server| server.texts(PRESSES)),
            set_up.target.with(|server| server.texts(BOARD)),
        );
        let arguments: Vec<&str> = ["probe"].iter().chain(planted.arguments).copied().collect();
        let told = set_up.run(&arguments);
        assert_eq!(told.code, planted.code, "{what}: {told:?}");
        assert!(told.said().contains(planted.words), "{what}: {}", told.said());
        let json = set_up.run(&[&arguments[..], &["--json"]].concat());
        if !planted.step.is_empty() {
            let legs = json.json()["probes"][0]["legs"].clone();
            let failed = legs.as_array().expect("legs").iter().find(|leg| leg["outcome"] == "failed");
            assert_eq!(failed.expect("a step that failed")["step"], planted.step, "{what}: {legs}");
        }
        set_up.source.with(|server| server.failings.clear());
        set_up.target.with(|server| {
            server.failings.clear();
            server.faults.clear();
            server.users.insert("board".into(), "board-pw".into());
        });
        set_up.configure(&set_up.standard());
        set_up.ok(&["probe", "--sweep"]);
        assert_eq!(left(&set_up), Vec::<String>::new(), "{what}");
        let after = (
            set_up.source.with(|server| server.texts(PRESSES)),
            set_up.target.with(|server| server.texts(BOARD)),
        );
        assert_eq!(before, after, "{what}: another entry was touched");
    }
}

fn findings(told: &Value) -> Vec<(String, String)> {
    let list = told["comparisons"][0]["findings"].as_array().expect("findings");
    let line = |one: &Value| {
        (one["standing"].as_str().unwrap_or("").to_owned(), one["cause"].as_str().unwrap_or("").to_owned())
    };
    list.iter().map(line).collect()
}

fn entry(uid: &str, lines: &str) -> String {
    format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\nDTSTAMP:20260901T060000Z\r\n\
         DTSTART:20261012T080000Z\r\nDTEND:20261012T090000Z\r\n{lines}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
    )
}

/// Five plain entries and a route over them, in step.
fn in_step(more: &str) -> SetUp {
    let set_up = SetUp::new(0);
    for number in 0..5 {
        let text = entry(&format!("press-{number}"), &format!("SUMMARY:Pressing {number}"));
        set_up.source.with(|server| server.store(PRESSES, &format!("press-{number}.ics"), &text));
    }
    set_up.configure(&format!("{}{more}\n", set_up.standard()));
    set_up.ok(&["sync"]);
    let told = set_up.ok(&["compare", "--json"]).json();
    assert_eq!((&told["comparisons"][0]["in_step"], findings(&told)), (&5.into(), Vec::new()), "{told}");
    set_up
}

fn far_copy(set_up: &SetUp, marker: &str) -> (String, String) {
    let texts = set_up.target.with(|server| server.texts(BOARD));
    texts.into_iter().find(|(_, text)| text.contains(marker)).expect("a copy")
}

#[test]
fn each_planted_fault_is_found_by_a_comparison_with_its_cause() {
    // A copy edited by hand, one deleted, one doubled under its own UID and one under another.
    let set_up = in_step("");
    let (name, text) = far_copy(&set_up, "Pressing 1");
    set_up.target.with(|server| server.store_raw(BOARD, &name, text.replace("Pressing 1", "Scrawled over")));
    let (name, _) = far_copy(&set_up, "Pressing 2");
    set_up.target.with(|server| server.delete(BOARD, &name));
    let (_, text) = far_copy(&set_up, "Pressing 3");
    set_up.target.with(|server| server.store_raw(BOARD, "doubled.ics", text));
    let (_, text) = far_copy(&set_up, "Pressing 4");
    let uid = text.lines().find(|line| line.starts_with("UID:")).expect("a UID").to_owned();
    set_up.target.with(|server| server.store_raw(BOARD, "again.ics", text.replace(&uid, "UID:again")));
    let told = set_up.run(&["compare", "--json"]);
    let found = findings(&told.json());
    let count = |standing: &str| found.iter().filter(|(s, c)| s == standing && c == "far-edit").count();
    let counts = (told.code, count("differs"), count("missing"), count("extra"), found.len());
    assert_eq!(counts, (3, 1, 1, 2, 4), "{told:?}");
    let one = &told.json()["comparisons"][0];
    let sum = ["in_step", "differs", "missing"].iter().filter_map(|key| one[key].as_u64()).sum::<u64>();
    assert_eq!(one["entries"].as_u64(), Some(sum), "{one}");
    insta::assert_snapshot!("compared", set_up.shown(&["compare"]));
    // Put right are those that can be, and no others; what was added by hand is nobody's but theirs who did.
    set_up.source.with(|server| server.store(PRESSES, "new.ics", &entry("new", "SUMMARY:New")));
    let told = set_up.run(&["compare", "--then-sync", "--json"]).json();
    assert_eq!(told["runs"][0]["calendars"]["board"]["updated"], 1, "{told}");
    let again = set_up.run(&["compare", "--json"]).json();
    assert!(findings(&again).iter().all(|(standing, _)| standing == "extra"), "{again}");

    // A private title in a busy copy.
    let set_up = in_step("carry = \"busy\"");
    let (name, text) = far_copy(&set_up, "SUMMARY:Busy");
    set_up
        .target
        .with(|server| server.store_raw(BOARD, &name, text.replace("SUMMARY:Busy", "SUMMARY:Board pay")));
    let told = set_up.run(&["compare", "--json"]).json();
    assert_eq!(findings(&told), [("differs".into(), "far-edit".into())], "{told}");

    // A server that loses writes.
    let set_up = in_step("");
    fail_target(&set_up, Failing::KeepsNoNews);
    set_up.source.with(|server| server.store(PRESSES, "new.ics", &entry("new", "SUMMARY:New")));
    assert_eq!(findings(&set_up.run(&["compare", "--json"]).json()), [("missing".into(), "due".into())]);
    set_up.run(&["sync"]);
    assert_eq!(findings(&set_up.run(&["compare", "--json"]).json()), [("missing".into(), "failed".into())]);

    // A row of the state changed by hand: nothing explains it, and the memory of it is dropped.
    let set_up = in_step("");
    let state = rusqlite::Connection::open(set_up.path("chestnut.state")).expect("the state");
    set_up.edit("press-1.ics", "Pressing 1", "Pressing, pears");
    set_up.run(&["compare"]);
    // As if the change had been decided and carried.
    let sql = "UPDATE place SET seq = (SELECT seq FROM object WHERE object.id = place.object),
         stood = (SELECT body FROM object WHERE object.id = place.object),
         agreed = (SELECT body FROM object o WHERE o.id = (SELECT p.object FROM place p WHERE p.link = place.link AND p.side = 0))";
    state.execute(sql, []).expect("changed");
    drop(state);
    let told = set_up.run(&["compare", "--json"]);
    assert_eq!((told.code, findings(&told.json())), (3, vec![("differs".into(), "lost".into())]), "{told:?}");
    assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["writes"], 0, "a sync does not see it");
    set_up.ok(&["compare", "--then-sync"]);
    assert!(far_copy(&set_up, "Pressing, pears").1.contains("UID:chestnut-"));
    assert_eq!(findings(&set_up.ok(&["compare", "--json"]).json()), []);
}

#[test]
fn what_cannot_be_read_is_not_compared_and_what_is_young_can_be_passed_over() {
    let set_up = in_step("");
    set_up.edit("press-1.ics", "Pressing 1", "Pressing, pears");
    assert_eq!(set_up.run(&["compare"]).code, 3);
    let told = set_up.ok(&["compare", "--settled", "30m", "--json"]).json();
    assert_eq!(told["comparisons"][0]["passed_over"], 1, "{told}");
    let second = "[route.back]\nfrom = \"board\"\nto = \"kiosk\"\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n";
    set_up.configure(&format!("{}{second}", set_up.standard()));
    set_up.source.with(|server| drop(server.users.insert("office".into(), "another".into())));
    let told = set_up.run(&["compare", "--json"]);
    let comparisons = told.json()["comparisons"].clone();
    let of = |name: &str| {
        let all = comparisons.as_array().expect("comparisons");
        all.iter().find(|one| one["route"] == name).expect("it is told of").clone()
    };
    let failed = of("presses-to-board");
    assert!(failed["not_compared"].as_str().is_some_and(|words| words.contains("401")), "{failed}");
    assert_eq!((failed["entries"].as_u64(), failed["findings"].as_array().map(Vec::len)), (Some(0), Some(0)));
    assert!(of("back")["not_compared"].is_null() && told.code == 1, "{told:?}");
    // A preview shows the other one too.
    let told = set_up.run(&["preview"]);
    assert!(told.code == 1 && told.out.contains("board → kiosk") && told.err.contains("401"), "{told:?}");
}

#[test]
fn a_probe_goes_every_way_and_tells_of_it() {
    let set_up = SetUp::new(8);
    insta::assert_snapshot!("probed", set_up.shown(&["probe"]));
    // It is no first run, and no run that counts.
    assert!(set_up.run(&["status"]).out.contains("never run"));
    assert_eq!(set_up.run(&["sync", "--unasked"]).code, 3);
    assert!(!set_up.ok(&["history", "--json"]).out.contains("probe"));
    let routes = [
        ("busy", "carry = \"busy\"", "rename", "hidden"),
        ("each", "occurrences = \"each\"\nwindow = { ahead = \"30 days\" }", "repeat", "arrived"),
        (
            "blocks",
            "carry = \"busy\"\njoin-busy = true\nwindow = { ahead = \"30 days\" }",
            "rename",
            "skipped",
        ),
        ("keep", "deletions = \"keep\"", "delete", "stays"),
        ("tasks", "only = { kinds = [\"tasks\"] }", "repeat", "skipped"),
        ("words", "only = { words = [\"plums\"], private = true }", "move-one", "arrived"),
    ];
    for (name, more, step, outcome) in routes {
        let set_up = SetUp::new(8);
        let plain = set_up.standard().replace("only = { kinds = [\"events\", \"tasks\"] }", more);
        set_up.configure(&plain);
        let told = set_up.ok(&["probe", "--json"]).json();
        let legs = told["probes"][0]["legs"].as_array().expect("legs").clone();
        let leg = legs.iter().find(|leg| leg["step"] == step).expect("the step");
        assert_eq!((leg["outcome"].as_str(), legs.len()), (Some(outcome), 6), "{name}: {told}");
        assert_eq!(left(&set_up), Vec::<String>::new(), "{name}");
        assert_eq!(set_up.target.with(|server| server.texts(BOARD)).len(), 0, "{name}");
    }
    let set_up = SetUp::new(8);
    let between = "between = [\"presses\", \"board\"]";
    set_up.configure(&set_up.standard().replace("from = \"presses\"\nto = \"board\"", between));
    let told = set_up.ok(&["probe", "--json"]).json();
    let legs = told["probes"][0]["legs"].as_array().expect("legs").clone();
    let arrived = legs.iter().filter(|leg| leg["outcome"] == "arrived").count();
    assert_eq!((arrived, told["probes"][0]["calendars"].as_array().map(Vec::len)), (12, Some(2)), "{told}");
    assert_eq!(left(&set_up), Vec::<String>::new());
}

#[test]
fn a_feed_that_nobody_keeps_up_is_told() {
    let set_up = SetUp::new(0);
    let old = entry("fair", "SUMMARY:Harvest fair\r\nLAST-MODIFIED:20260701T080000Z")
        .replace("20260901", "20260701");
    set_up.source.with(|server| drop(server.feeds.insert("/feeds/fairs.ics".into(), old)));
    let feed = |more: &str| {
        format!(
            "{}\n[calendar.fairs]\nfeed = \"{}feeds/fairs.ics\"\n{more}\n[route.fairs]\nfrom = \"fairs\"\nto = \"board\"\n",
            set_up.standard(),
            set_up.source.url
        )
    };
    set_up.configure(&feed(""));
    set_up.ok(&["sync"]);
    let told = set_up.run(&["probe", "fairs"]);
    assert!(told.code == 1 && told.out.contains("nothing has changed there for 96 days"), "{told:?}");
    set_up.configure(&feed("quiet-after = \"120 days\""));
    let told = set_up.ok(&["probe", "fairs"]);
    assert!(told.out.contains("the newest 1 entry compared: 1 in step"), "{told:?}");
}

#[test]
fn a_story_is_found_wherever_the_entry_is_or_was() {
    let set_up = in_step("");
    let (name, text) = far_copy(&set_up, "Pressing 1");
    set_up.target.with(|server| server.store_raw(BOARD, &name, text.replace("Pressing 1", "Scrawled over")));
    // By the title that somebody gave a copy; without a route.
    insta::assert_snapshot!("why_renamed", set_up.shown(&["why", "scrawled"]));
    set_up.source.with(|server| server.delete(PRESSES, "press-2.ics"));
    set_up.ok(&["sync"]);
    insta::assert_snapshot!("why_gone", set_up.shown(&["why", "pressing", "2"]));
    insta::assert_snapshot!("why_several", set_up.shown(&["why", "presses-to-board", "pressing"]));
    set_up.source.with(|server| {
        for name in server.texts(PRESSES).into_keys() {
            server.delete(PRESSES, &name);
        }
    });
    assert_eq!(set_up.run(&["sync"]).code, 3);
    let told = set_up.run(&["why", "pressing", "3", "2026-10-12", "--json"]).json();
    assert_eq!(told["stories"][0]["held"], 1, "{told}");
    // What stands where no route takes from.
    let uncovered = "[calendar.aside]\nfolder = \"aside\"\n";
    std::fs::create_dir(set_up.path("aside")).expect("a folder");
    std::fs::write(set_up.path("aside/one.ics"), entry("one", "SUMMARY:Aside")).expect("written");
    set_up.configure(&format!("{}{uncovered}", set_up.standard()));
    assert!(set_up.ok(&["why", "aside"]).out.contains("stands in aside, which no route takes from"));
    assert!(set_up.run(&["status"]).out.contains("nothing in it is copied: aside"));
    // A calendar that cannot be asked: machines get a document, too.
    std::fs::remove_dir_all(set_up.path("aside")).expect("removed");
    let told = set_up.run(&["why", "aside", "--json"]);
    assert_eq!(told.code, 1);
    assert_eq!(told.json()["not_asked"][0]["name"], "aside");
}

/// Titles that somebody sends to harm whoever reads them.
fn hostile() -> Vec<String> {
    vec![
        "Pears\u{1b}[31m red\u{1b}]0;title\u{7}".into(),
        "Pears \u{202e}srae\u{202c}\u{2066}x\u{2069}".into(),
        "Pears <script>alert(1)</script> & \"quotes\"".into(),
        format!("Pears {}", "long ".repeat(2000)),
        String::new(),
        "Pears 👩‍🌾👨‍👩‍👧‍👦 e\u{301}\u{300}".into(),
        "Pears \u{0}\u{8}\u{7f}\u{9b}2J\u{2028}\u{200f}".into(),
    ]
}

#[test]
fn hostile_titles_reach_no_terminal() {
    let set_up = SetUp::new(0);
    let put = |number: usize, title: &str| {
        let escaped = title.replace('\\', "\\\\").replace(',', "\\,").replace('\u{0}', "");
        let text = entry(&format!("evil-{number}"), &format!("SUMMARY:{escaped}\r\nLOCATION:{escaped}"));
        set_up.source.with(|server| server.store_raw(PRESSES, &format!("evil-{number}.ics"), text));
    };
    for (number, title) in hostile().iter().enumerate() {
        put(number, title);
    }
    set_up.source.with(|server| {
        let calendar = server.collections.get_mut(PRESSES).expect("the calendar");
        calendar.name = "Hall\u{1b}[2J\u{202e}".into();
    });
    let mut seen = String::new();
    let mut look = |arguments: &[&str]| {
        for arguments in [arguments.to_vec(), [arguments, &["-v"]].concat()] {
            let told = set_up.run(&arguments);
            let text = format!("{}{}", told.out, told.err);
            let is_bad = |c: &char| {
                c.is_control() && *c != '\n'
                    || matches!(*c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{2028}' | '\u{200f}')
            };
            let bad: Vec<_> = text.chars().filter(is_bad).collect();
            assert!(bad.is_empty(), "{arguments:?} lets {bad:?} through: {text}");
            let longest = text.lines().map(|line| line.chars().count()).max().unwrap_or(0);
            assert!(longest < 400, "{arguments:?} has a line of {longest} characters");
            seen += &text;
        }
    };
    let day = ["agenda", "--from", "2026-10-12", "--to", "2026-10-13"];
    for command in [
        &["account", "test"][..],
        &["calendar", "list"],
        &["preview"],
        &["compare"],
        &["sync"],
        &["compare"],
        &["why", "pears"],
        &["why", "presses-to-board", "pears", "red"],
        &day,
        &["history"],
        &["history", "1"],
        &["status"],
        &["probe", "--title", "\u{1b}[31mPears\u{202e}"],
    ] {
        look(command);
    }
    // Changed everywhere, and then all gone: differences, and what waits for a person.
    for (number, title) in hostile().iter().enumerate() {
        put(number, &format!("Changed {title}"));
    }
    look(&["compare"]);
    look(&["sync"]);
    set_up.source.with(|server| {
        for name in server.texts(PRESSES).into_keys() {
            server.delete(PRESSES, &name);
        }
    });
    for command in [&["preview"][..], &["sync"], &["held"], &["status"], &["why", "changed"], &["compare"]] {
        look(command);
    }
    assert!(seen.contains("Pears"), "{seen}");
}
