//! The commands of the job, as people and as programs see them.

use chestnut_standin::{Fault, FaultKind};

use crate::set_up::{PRESSES, SetUp};

#[test]
fn the_whole_job_as_people_see_it() {
    let set_up = SetUp::new(8);
    insta::assert_snapshot!(set_up.shown(&["account", "test", "packhouse"]));
    insta::assert_snapshot!(set_up.shown(&["calendar", "list", "cloud"]));
    insta::assert_snapshot!(set_up.shown(&["status"]));
    insta::assert_snapshot!(set_up.shown(&["preview"]));
    insta::assert_snapshot!(set_up.shown(&["sync", "-v"]));
    insta::assert_snapshot!(set_up.shown(&["sync"]));
    set_up.edit("orchard-0005.ics", "SUMMARY:Crate washing", "SUMMARY:Crate repair");
    set_up.source.with(|server| server.delete(PRESSES, "orchard-0003.ics"));
    insta::assert_snapshot!(set_up.shown(&["preview", "presses-to-board"]));
    insta::assert_snapshot!(set_up.shown(&["sync", "-v"]));
    insta::assert_snapshot!(set_up.shown(&["history"]));
    insta::assert_snapshot!(set_up.shown(&["history", "3"]));
    insta::assert_snapshot!(set_up.shown(&["status"]));
}

#[test]
fn the_same_as_json() {
    let set_up = SetUp::new(3);
    insta::assert_snapshot!(set_up.shown(&["account", "test", "packhouse", "--json"]));
    insta::assert_snapshot!(set_up.shown(&["preview", "--json"]));
    insta::assert_snapshot!(set_up.shown(&["sync", "--json"]));
    insta::assert_snapshot!(set_up.shown(&["history", "1", "--json"]));
    insta::assert_snapshot!(set_up.shown(&["status", "--json"]));
    assert!(set_up.ok(&["calendar", "list", "--json"]).json()["accounts"][1]["calendars"].is_array());
}

#[test]
fn held_deletions_wait_and_are_let_through() {
    let set_up = SetUp::new(4);
    set_up.ok(&["sync"]);
    set_up.source.with(|server| {
        for name in server.texts(PRESSES).into_keys() {
            server.delete(PRESSES, &name);
        }
    });
    insta::assert_snapshot!(set_up.shown(&["sync"]));
    assert_eq!(set_up.run(&["status"]).code, 3);
    assert_eq!(set_up.run(&["preview"]).code, 3);
    let told = set_up.ok(&["sync", "presses-to-board", "--allow-deletions", "--json"]);
    assert_eq!(told.json()["runs"][0]["calendars"]["board"]["deleted"], 4);
    set_up.ok(&["status"]);
}

#[test]
fn quiet_is_quiet_and_help_has_every_command() {
    let set_up = SetUp::new(3);
    let told = set_up.ok(&["sync", "--quiet"]);
    assert_eq!((told.out.as_str(), told.err.as_str()), ("", ""));
    // Of an exit status that is not 0, no command is silent about the reason.
    set_up.target.with(|server| {
        server.faults = vec![Fault::always("PUT", FaultKind::Status { code: 403, retry_after: None })]
    });
    set_up.source.with(|server| {
        let (name, text) = server.texts(PRESSES).into_iter().next().expect("an entry");
        server.store(PRESSES, &name, &text.replace("SUMMARY:", "SUMMARY:Late "));
    });
    let quiet = |words: &[&str], code: i32| {
        let told = set_up.run(&[words, &["--quiet"]].concat());
        assert_eq!((told.code, told.out.as_str()), (code, ""), "{told:?}");
        format!("$ {}\n{}", words.join(" "), told.err)
    };
    let mut told = quiet(&["sync"], 1) + &quiet(&["status"], 1) + &quiet(&["compare"], 3);
    set_up.ok(&["route", "pause", "presses-to-board"]);
    told += &quiet(&["sync", "presses-to-board"], 3);
    told += &quiet(&["--state", "new.state", "sync"], 3);
    insta::assert_snapshot!("quiet_tells_what_is_wrong", told);
    insta::assert_snapshot!(set_up.shown(&["--help"]));
}
