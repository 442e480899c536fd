//! Looking back, field by field, and taking runs back.

use crate::set_up::{BOARD, PRESSES, SetUp};

/// Texts, with their names.
type Texts = Vec<(String, String)>;

fn far(set_up: &SetUp) -> Texts {
    set_up.target.with(|server| server.texts(BOARD)).into_iter().collect()
}

fn number(told: &serde_json::Value) -> String {
    told["runs"][0]["run"].to_string()
}

/// A run that created, changed and deleted one entry each; returns what stood before and after it, and its number.
fn a_run(set_up: &SetUp) -> (Texts, Texts, String) {
    set_up.ok(&["sync"]);
    let before = far(set_up);
    set_up.edit("orchard-0001.ics", "SUMMARY:", "LOCATION:Press hall\r\nSUMMARY:Early: \u{1b}[31m");
    let new = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:van\r\n\
               DTSTAMP:20261001T000000Z\r\nDTSTART:20261007T080000Z\r\nSUMMARY:Delivery van\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
    set_up.source.with(|server| {
        server.store(PRESSES, "van.ics", new);
        assert!(server.delete(PRESSES, "orchard-0002.ics"));
    });
    let told = set_up.ok(&["sync", "--json"]).json();
    (before, far(set_up), number(&told))
}

#[test]
fn an_entry_is_found_by_what_it_was_called_before() {
    let set_up = SetUp::new(3);
    let created = number(&set_up.ok(&["sync", "--json"]).json());
    let called = set_up.ok(&["history", &created, "--json"]).json()["runs"][0]["changes"][0].clone();
    let (uid, old) = (called["uid"].as_str().expect("a UID"), called["title"].as_str().expect("a title"));
    let copies = far(&set_up);
    let (_, text) = copies.iter().find(|(_, text)| text.contains(uid)).expect("its copy");
    let originals = set_up.source.with(|server| server.texts(PRESSES));
    let title = text.lines().find(|line| line.starts_with("SUMMARY:")).expect("a title");
    let (name, _) = originals.iter().find(|(_, text)| text.contains(title)).expect("its original");
    set_up.edit(name, "SUMMARY:", "SUMMARY:Sorted anew\r\nCOMMENT:");
    let renamed = number(&set_up.ok(&["sync", "--json"]).json());
    let told = set_up.ok(&["history", "--entry", old, "--json"]).json();
    let runs: Vec<_> =
        told["runs"].as_array().expect("runs").iter().map(|run| run["run"].to_string()).collect();
    assert_eq!(runs, [renamed.clone(), created], "{told}");
    let taken = set_up.ok(&["undo", &renamed, "--entry", old, "--yes", "--json"]).json();
    assert_eq!(far(&set_up), copies, "{taken}");
}

#[test]
fn a_run_is_looked_at_and_taken_back_and_done_again() {
    let set_up = SetUp::new(6);
    let (before, after, run) = a_run(&set_up);
    insta::assert_snapshot!("history_of_a_run", set_up.shown(&["history", &run]));
    let said = set_up.ok(&["history", "--entry", "picking early", "--text", "--json"]).json();
    let change = &said["runs"][0]["changes"][0];
    assert!(change["before"].as_str().is_some_and(|text| !text.contains("LOCATION:Press hall")), "{said}");
    assert!(change["fields"].as_array().is_some_and(|fields| fields.len() == 2), "{said}");
    assert_eq!(said["runs"].as_array().map(Vec::len), Some(2), "{said}");
    assert_eq!(set_up.run(&["history", "--entry", "no such words"]).code, 1);
    let ics = ["history", run.as_str(), "--ics", "before.ics"];
    set_up.ok(&ics);
    let old = std::fs::read_to_string(set_up.path("before.ics")).expect("a file");
    assert_eq!((old.matches("\r\nUID:").count(), old.contains("Early")), (3, false), "{old}");
    let again = set_up.run(&ics);
    assert_eq!((again.code, again.err.contains("not there yet")), (1, true), "{again:?}");
    // Nothing is done before somebody says so.
    insta::assert_snapshot!("undo_asks", set_up.shown(&["undo", &run]));
    assert_eq!(far(&set_up), after);
    insta::assert_snapshot!("undo", set_up.shown(&["undo", &run, "--yes"]));
    assert_eq!(far(&set_up), before);
    let paused = set_up.ok(&["sync", "--json"]).json();
    assert_eq!(paused["runs"].as_array().map(Vec::len), Some(0), "{paused}");
    set_up.ok(&["route", "resume", "presses-to-board"]);
    let told = set_up.ok(&["sync", "--json"]).json();
    assert_eq!((&told["runs"][0]["writes"], &told["runs"][0]["left_out"]["undone"]), (&0.into(), &3.into()));
    assert_eq!(far(&set_up), before);
    insta::assert_snapshot!("status_after_undo", set_up.shown(&["status"]));
    let why = set_up.ok(&["why", "presses-to-board", "picking"]).out;
    assert!(
        why.contains("you took back what a run had done to it") && why.contains("nothing to do"),
        "{why}"
    );
    let compared = set_up.ok(&["compare", "--json"]).json();
    let findings = compared["comparisons"][0]["findings"].as_array().expect("a list").clone();
    assert!(findings.len() == 3 && findings.iter().all(|one| one["key"] == "undone"), "{compared}");
    // What nobody took back goes on; what was taken back waits for its source.
    set_up.edit("orchard-0003.ics", "SUMMARY:", "SUMMARY:Later: ");
    assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["writes"], 1);
    let one = set_up.ok(&["sync", "presses-to-board", "--entry", "van 2026-10-07", "--json"]).json();
    assert_eq!(one["runs"][0]["calendars"]["board"]["created"], 1, "{one}");
    set_up.edit("orchard-0001.ics", "SUMMARY:", "SUMMARY:Again: ");
    assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["calendars"]["board"]["updated"], 1);
    // Undone and done again, the deletion alone is left to be seen.
    let undo = set_up.ok(&["history", "--json", "--last", "9"]).json();
    let undo = undo["runs"].as_array().expect("runs").iter().find(|run| run["kind"] == "undo");
    let undo = undo.expect("it is a run")["run"].to_string();
    let redone = set_up.run(&["undo", &undo, "--yes", "--json"]);
    let (told, code) = (redone.json(), redone.code);
    assert_eq!((code, &told["taken"]["deleted"]), (3, &1.into()), "{told}");
    let why: Vec<_> =
        told["left"].as_array().expect("a list").iter().map(|left| left["why"].clone()).collect();
    assert_eq!(why, ["built-on"], "{told}");
    assert_eq!(told["already"], 1, "{told}");
}

#[test]
fn what_others_changed_since_stays_and_says_whose_it_is() {
    let set_up = SetUp::new(6);
    let (_, _, run) = a_run(&set_up);
    set_up.target.with(|server| {
        let texts = server.texts(BOARD);
        let (name, text) = texts.iter().find(|(_, text)| text.contains("Delivery van")).expect("it stands");
        let text = text.replace("Delivery van", "Delivery van, rented");
        server.store_raw(BOARD, &name.clone(), text);
    });
    set_up.edit("orchard-0001.ics", "SUMMARY:", "SUMMARY:Later: ");
    let later = number(&set_up.ok(&["sync", "--json"]).json());
    insta::assert_snapshot!("undo_what_others_changed", set_up.shown(&["undo", &run]));
    // From that run on, all of it goes back; of one entry alone, only that.
    let one = set_up.run(&["undo", &format!("{run}.."), "--entry", "crate", "--yes", "--json"]).json();
    assert_eq!(
        one["runs"],
        serde_json::json!([later.parse::<i64>().expect("a number"), run.parse::<i64>().expect("a number")])
    );
    let rest = set_up.run(&["undo", &format!("{run}.."), "--yes", "--json"]);
    assert!(matches!(rest.code, 0 | 3), "{rest:?}");
    assert!(far(&set_up).iter().all(|(_, text)| !text.contains("Early")), "{rest:?}");
}

#[test]
fn a_run_of_a_retired_route_is_taken_back() {
    let set_up = SetUp::new(4);
    set_up.ok(&["sync"]);
    assert_eq!(far(&set_up).len(), 4);
    set_up.ok(&["sync"]);
    set_up.ok(&["route", "retire", "presses-to-board"]);
    assert!(set_up.run(&["undo", "2"]).err.contains("run 2 of presses-to-board wrote nothing"));
    let told = set_up.ok(&["undo", "1", "--yes", "--json"]).json();
    assert_eq!((&told["taken"]["deleted"], &told["taken"]["paused"]), (&4.into(), &false.into()), "{told}");
    assert!(far(&set_up).is_empty());
    assert_eq!(set_up.source.with(|server| server.texts(PRESSES)).len(), 4);
    for wrong in ["x", "0", "99", "1..2"] {
        let told = set_up.run(&["undo", wrong]);
        assert_eq!((told.code, told.err.contains("Hint")), (2, true), "{wrong}: {told:?}");
    }
}

#[test]
fn what_runs_by_itself_and_changes_nothing_leaves_no_row() {
    let set_up = SetUp::new(2);
    set_up.ok(&["sync"]);
    for _ in 0..5 {
        set_up.ok(&["sync", "--quiet"]);
    }
    let runs = |told: serde_json::Value| told["runs"].as_array().map(Vec::len);
    assert_eq!(runs(set_up.ok(&["history", "--json"]).json()), Some(1));
    set_up.edit("orchard-0001.ics", "SUMMARY:", "SUMMARY:Later: ");
    set_up.ok(&["sync", "--quiet"]);
    set_up.ok(&["sync"]);
    let told = set_up.ok(&["history", "--json"]).json();
    for nowhere in [&["history", "--route", "nowhere"][..], &["history", "presses-to-bord"]] {
        assert_eq!(set_up.run(nowhere).code, 2);
    }
    assert_eq!(runs(set_up.ok(&["history", "presses-to-board", "--json"]).json()), Some(3));
    assert_eq!(runs(set_up.ok(&["history", "--since", "1 day", "--json"]).json()), Some(3));
    let numbers: Vec<_> =
        told["runs"].as_array().expect("runs").iter().map(|run| run["run"].clone()).collect();
    assert_eq!(numbers, [3, 2, 1], "{told}");
}

#[test]
fn a_calendar_is_kept_in_a_file_and_put_back() {
    let set_up = SetUp::new(6);
    set_up.target.with(|server| {
        let text = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//board//EN\r\nBEGIN:VEVENT\r\nUID:own\r\nDTSTAMP:20261001T000000Z\r\n\
                    DTSTART:20261007T080000Z\r\nSUMMARY:The board's own\\, \u{1b}[31mred\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
        server.store(BOARD, "own.ics", text);
    });
    set_up.ok(&["sync"]);
    insta::assert_snapshot!("snapshot", set_up.shown(&["snapshot", "board", "board.ics"]));
    let kept = far(&set_up);
    assert_eq!(set_up.run(&["snapshot", "board", "board.ics"]).code, 1, "it is there already");
    // What stood there before the route came.
    set_up.ok(&["snapshot", "board", "before.ics", "--before", "presses-to-board"]);
    let before = std::fs::read_to_string(set_up.path("before.ics")).expect("a file");
    assert_eq!((before.matches("\r\nBEGIN:VEVENT").count(), before.contains("own")), (1, true), "{before}");
    assert_eq!(set_up.run(&["snapshot", "presses", "none.ics", "--before", "presses-to-board"]).code, 1);
    // Others read it as a calendar.
    let listed = set_up.ok(&["agenda", "board.ics", "--from", "2026-10-01", "--days", "90", "--json"]).json();
    assert!(listed.as_array().is_some_and(|lines| lines.len() > kept.len()), "{listed}");
    // Somebody is at work on the board.
    set_up.target.with(|server| {
        let (name, text) =
            server.texts(BOARD).into_iter().find(|(_, t)| t.contains("Picking crew")).expect("it stands");
        server.store_raw(BOARD, &name, text.replace("Picking crew", "Pruning crew"));
        assert!(server.delete(BOARD, "own.ics"));
        server.store(BOARD, "new.ics", &kept[0].1.replace("\r\nUID:", "\r\nUID:new-"));
    });
    let lived = far(&set_up);
    insta::assert_snapshot!("restore_asks", set_up.shown(&["restore", "board.ics"]));
    assert_eq!(far(&set_up), lived);
    insta::assert_snapshot!("restore", set_up.shown(&["restore", "board.ics", "--yes"]));
    let new = lived.iter().filter(|(name, _)| name == "new.ics").cloned();
    let mut all: Texts = kept.iter().cloned().chain(new).collect();
    all.sort();
    assert_eq!(far(&set_up), all);
    let told = set_up.ok(&["restore", "board.ics", "--exact", "--yes", "--json"]).json();
    assert_eq!((&told["taken"]["deleted"], &told["already"]), (&1.into(), &kept.len().into()), "{told}");
    assert_eq!(far(&set_up), kept);
    let run = told["taken"]["run"].to_string();
    set_up.ok(&["undo", &run, "--yes"]);
    assert_eq!(far(&set_up), all);
    assert!(!set_up.ok(&["status"]).out.contains("of board"), "no route is made of it");
    // What was cut or edited is refused whole; what is of other origin says not where it belongs.
    let text = std::fs::read_to_string(set_up.path("board.ics")).expect("a file");
    for (name, wrong) in
        [("cut.ics", text[..text.len() / 2].to_owned()), ("edited.ics", text.replace("Picking", "Pricking"))]
    {
        std::fs::write(set_up.path(name), wrong).expect("written");
        let told = set_up.run(&["restore", name, "--yes"]);
        assert_eq!((told.code, told.err.contains("Nothing was put back")), (2, true), "{name}: {told:?}");
    }
    std::fs::write(set_up.path("other.ics"), kept[0].1.replace("\r\nUID:", "\r\nUID:other-"))
        .expect("written");
    assert_eq!(set_up.run(&["restore", "other.ics", "--yes"]).code, 2);
    let told = set_up.ok(&["restore", "other.ics", "--into", "board", "--yes", "--json"]).json();
    assert_eq!((&told["taken"]["restored"], &told["routes"]), (&1.into(), &serde_json::json!([])), "{told}");
    let told = set_up.ok(&["restore", "other.ics", "--into", "presses", "--yes", "--json"]).json();
    assert_eq!(told["routes"], serde_json::json!(["presses-to-board"]), "{told}");
}

/// A server and a folder have names for entries, a file has their UIDs: what is put back from one into another gets a name
/// that can stand there, its old one where it has one.
#[test]
fn a_snapshot_of_any_kind_of_calendar_goes_into_any_other() {
    let set_up = SetUp::new(3);
    let more = "[calendar.shelf]\nfolder = \"shelf\"\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n\
                [route.shelf]\nfrom = \"presses\"\nto = \"shelf\"\n[route.kiosk]\nfrom = \"presses\"\nto = \"kiosk\"\n";
    set_up.configure(&(set_up.standard() + more));
    std::fs::create_dir(set_up.path("shelf")).expect("a folder");
    let empty = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nEND:VCALENDAR\r\n";
    std::fs::write(set_up.path("kiosk.ics"), empty).expect("written");
    let named = |calendar: &str| {
        let mut names: Vec<String> = match calendar {
            "board" => far(&set_up).into_iter().map(|(name, _)| name).collect(),
            _ => std::fs::read_dir(set_up.path("shelf"))
                .expect("a folder")
                .map(|file| file.expect("a file").file_name().into_string().expect("a name"))
                .collect(),
        };
        names.sort();
        names
    };
    let moved = |from: &str, to: &str| {
        let name = format!("{from}-{to}.ics");
        set_up.ok(&["snapshot", from, &name]);
        let told = set_up.ok(&["restore", &name, "--into", to, "--yes", "--json"]).json();
        assert_eq!(
            (&told["taken"]["restored"], &told["left"]),
            (&3.into(), &serde_json::json!([])),
            "{told}"
        );
    };
    moved("presses", "board");
    assert_eq!(named("board"), ["orchard-0000.ics", "orchard-0001.ics", "orchard-0002.ics"]);
    moved("board", "shelf");
    assert_eq!(named("shelf"), named("board"));
    moved("shelf", "kiosk");
    let stood = named("board");
    set_up.target.with(|server| stood.iter().for_each(|name| assert!(server.delete(BOARD, name))));
    std::fs::remove_dir_all(set_up.path("shelf")).expect("removed");
    std::fs::create_dir(set_up.path("shelf")).expect("a folder");
    moved("kiosk", "shelf");
    moved("kiosk", "board");
    assert!(
        named("shelf").iter().all(|name| name.ends_with(".ics")) && named("shelf") == named("board"),
        "{:?}",
        named("shelf")
    );
}

#[test]
fn doubles_and_copies_are_tidied_and_that_is_taken_back() {
    let set_up = SetUp::new(4);
    set_up.ok(&["sync"]);
    let (made, own) = (far(&set_up), |text: &str| text.replace("UID:chestnut-", "UID:attempt-"));
    // An earlier attempt left a copy of a copy, and somebody typed an entry twice.
    set_up.target.with(|server| {
        server.store(BOARD, "attempt.ics", &own(&made[0].1));
        for (name, created) in [("new.ics", "20260902T080000Z"), ("old.ics", "20260901T080000Z")] {
            let text = format!(
                "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//\r\nBEGIN:VEVENT\r\nUID:{name}\r\nDTSTAMP:20260903T080000Z\r\n\
                 CREATED:{created}\r\nDTSTART:20261010T080000Z\r\nDTEND:20261010T090000Z\r\nSUMMARY:Ladder check\r\n\
                 END:VEVENT\r\nEND:VCALENDAR\r\n"
            );
            server.store(BOARD, name, &text);
        }
    });
    let before = far(&set_up);
    insta::assert_snapshot!("calendar_doubles", set_up.shown(&["calendar", "doubles", "board"]));
    let told = set_up.run(&["calendar", "doubles", "board", "--remove"]);
    assert!(told.code == 2 && told.err.contains("this deletes 2 entries in board") && far(&set_up) == before);
    let told = set_up.ok(&["calendar", "doubles", "board", "--remove", "--yes", "--json"]).json();
    assert_eq!(told["taken"]["deleted"], 2, "{told}");
    let mut rest = before.clone();
    rest.retain(|(name, _)| !matches!(&**name, "attempt.ics" | "new.ics"));
    assert_eq!(far(&set_up), rest);
    assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["writes"], 0);
    let run = told["taken"]["run"].to_string();
    set_up.ok(&["undo", &run, "--yes"]);
    // What is put back may stand under another name.
    let texts = |all: &Texts| {
        let mut texts: Vec<String> = all.iter().map(|(_, text)| text.clone()).collect();
        texts.sort();
        texts
    };
    assert_eq!(texts(&far(&set_up)), texts(&before));
    // Copies go by whose they are; everything else stays, also where the route is not known any more.
    let told = set_up.run(&["calendar", "clear-copies", "board"]);
    assert!(told.out.contains("its next run creates its copies again"), "{told:?}");
    set_up.ok(&["route", "retire", "presses-to-board"]);
    assert_eq!(
        set_up.ok(&["calendar", "clear-copies", "board", "--of", "nobody"]).out,
        "board: no such copy stands there\n"
    );
    let clear = ["calendar", "clear-copies", "board", "--of", "presses-to-board", "--yes"];
    let told = set_up.ok(&[&clear[..], &["--json"]].concat()).json();
    assert_eq!(
        (&told["taken"]["deleted"], &told["made_again_by"]),
        (&4.into(), &serde_json::json!([])),
        "{told}"
    );
    assert!(far(&set_up).len() == 3 && far(&set_up).iter().all(|(_, text)| !text.contains("UID:chestnut-")));
    set_up.ok(&["undo", &told["taken"]["run"].to_string(), "--yes"]);
    assert_eq!(texts(&far(&set_up)), texts(&before));
}
