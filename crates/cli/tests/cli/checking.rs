//! `chestnut check`: everything that the configuration names is looked at, and nothing is written.

use std::collections::BTreeMap;

use chestnut_standin::{Habit, Share};

use crate::set_up::{BOARD, SetUp};

/// Every file beside the configuration, and what the far side holds.
fn everything(set_up: &SetUp) -> (BTreeMap<String, Vec<u8>>, BTreeMap<String, String>) {
    let files = std::fs::read_dir(set_up.folder.path()).expect("a folder").map(|file| {
        let file = file.expect("a file");
        (file.file_name().to_string_lossy().into_owned(), std::fs::read(file.path()).unwrap_or_default())
    });
    (files.collect(), set_up.target.with(|server| server.texts(BOARD)))
}

const IDLE: &str = r#"
[account.dead]
url = "http://127.0.0.1:1/"
user = "van@coop.example"
password = { file = "office.password" }
[account.aside]
url = "http://127.0.0.1:1/"
user = "van"
password = { file = "lost.password" }
[calendar.trips]
account = "dead"
name = "Van trips"
[calendar.pruning]
account = "packhouse"
name = "Pruning"
[calendar.kiosk]
file = "nowhere/kiosk.ics"
soon = true
[route.taken]
from = "board"
to = "kiosk"
past-copies = "remove"
relay = true
me = ["van@coop.example"]
every = "2 hours"
stale-after = "1 hour"
note = "The van driver knows: van@coop.example"
[route.left]
from = "trips"
to = "board"
deletions = "keep"
deletion-limit = 3
"#;

#[test]
fn what_is_wrong_or_without_effect_is_told_and_nothing_is_written() {
    let set_up = SetUp::new(3);
    insta::assert_snapshot!("check_in_order", set_up.shown(&["check"]));
    assert!(set_up.ok(&["check", "--offline"]).out.contains("no server was asked"));
    set_up.ok(&["sync"]);
    set_up.configure(&format!("{}{IDLE}", set_up.standard().replace("\"Notice board\"", "\"Board\"")));
    let before = everything(&set_up);
    for site in [&set_up.source, &set_up.target] {
        site.with(|server| server.log.clear());
    }
    insta::assert_snapshot!("check_of_what_is_wrong", set_up.shown(&["check"]));
    let asked =
        || [&set_up.source, &set_up.target].map(|site| site.with(|server| server.log.clone())).concat();
    assert!(asked().iter().all(|(method, _)| matches!(&**method, "PROPFIND" | "OPTIONS" | "REPORT" | "GET")));
    let number = asked().len();
    insta::assert_snapshot!("check_offline", set_up.shown(&["check", "--offline"]));
    assert_eq!((asked().len(), everything(&set_up)), (number, before));
    // Who may only read is told before anything fails.
    set_up.target.with(|server| {
        server.users.insert("guest".into(), "board-pw".into());
        let board = server.collections.get_mut(BOARD).expect("the board");
        board.shares.insert("guest".into(), Share::Read);
        server.habits.insert(Habit::EventsOnly);
    });
    set_up.configure(&set_up.standard());
    let told = set_up.ok(&["check", "-v"]);
    assert!(told.out.contains("takes tasks, but calendar board accepts no tasks"), "{told:?}");
    let guest = set_up.standard().replace("user = \"board\"", "user = \"guest\"");
    set_up.configure(&guest.replace("name = \"Notice board\"", &format!("path = \"{BOARD}\"")));
    let told = set_up.run(&["check"]);
    assert!(told.code == 1 && told.out.contains("route presses-to-board writes it"), "{told:?}");
}

#[test]
fn a_bundle_holds_nothing_of_anybody() {
    let set_up = SetUp::new(4);
    set_up.ok(&["sync"]);
    set_up.target.with(|server| server.habits.insert(Habit::SizeLimit412));
    set_up.edit(
        "orchard-0001.ics",
        "SUMMARY:",
        &format!("DESCRIPTION:{}\r\nSUMMARY:Secret: ", "x".repeat(3_000)),
    );
    set_up.run(&["sync"]);
    let secret = "api-token-of-the-van";
    set_up.configure(&format!("{}{IDLE}", set_up.standard()).replace(
        "[account.aside]",
        &format!("[calendar.days]\nfeed = \"http://127.0.0.1:1/{secret}/days.ics\"\n[account.aside]"),
    ));
    let told = set_up.run(&["check", "--bundle", "help.json", "--json"]);
    assert!(told.code == 1 && told.err.contains("read it before you send it"), "{told:?}");
    let text = std::fs::read_to_string(set_up.path("help.json")).expect("a bundle");
    for hidden in [
        "office-pw",
        "board-pw",
        secret,
        "van@coop",
        "coop.example",
        "Secret",
        "Picking",
        "Notice board",
        "Van trips",
        "van driver",
        "office.password",
        "/office/",
        "/board/",
        "as office",
    ] {
        assert!(!text.contains(hidden), "{hidden} is in {text}");
    }
    let bundle: serde_json::Value = serde_json::from_str(&text).expect("JSON");
    assert_eq!(bundle["configuration"][1], "timezone = \"Europe/Ljubljana\"");
    assert!(bundle["steps"]["packhouse"].as_array().is_some_and(|steps| steps.len() > 4), "{text}");
    assert_eq!(bundle["state"]["last_runs"].as_array().map(Vec::len), Some(2));
    assert!(bundle["state"]["entry_failures"].as_array().is_some_and(|failed| !failed.is_empty()), "{text}");
    let again = set_up.run(&["check", "--bundle", "help.json"]);
    assert!(again.err.contains("Name a file that is not there yet"), "{again:?}");
}
