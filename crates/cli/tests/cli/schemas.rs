//! What every command prints with `--json` is what its schema in the reference says.

use std::path::Path;

use chestnut_standin::orchard_entries;

use crate::set_up::{PRESSES, SetUp};

fn validate(command: &str, told: &serde_json::Value) {
    let path =
        Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/reference/schema/{command}.json"));
    let schema = std::fs::read_to_string(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
    let schema = serde_json::from_str(&schema).expect("JSON");
    let validator = jsonschema::validator_for(&schema).expect("a schema");
    let errors: Vec<_> = validator.iter_errors(told).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(errors.is_empty(), "{command}: {errors:#?} {told:#}");
}

#[test]
fn every_report_is_what_its_schema_says() {
    let set_up = SetUp::new(6);
    let look = |schema: &str, arguments: &[&str]| {
        let told = set_up.run(&[arguments, &["--json"]].concat());
        validate(schema, &told.json());
    };
    look("check", &["check", "--offline"]);
    look("check", &["check"]);
    look("preview", &["preview"]);
    look("probe", &["probe"]);
    look("sync", &["sync", "--unasked"]);
    look("sync", &["sync", "-v"]);
    look("sync", &["sync"]);
    look("compare", &["compare", "-v"]);
    set_up.edit("orchard-0005.ics", "SUMMARY:Crate washing", "SUMMARY:Crate repair");
    look("preview", &["preview"]);
    look("preview-text", &["preview", "--text", "crate"]);
    look("why", &["why", "crate"]);
    look("why", &["why", "crate", "repair"]);
    look("compare", &["compare"]);
    look("compare", &["compare", "--then-sync"]);
    set_up.source.with(|server| {
        for name in server.texts(PRESSES).into_keys() {
            server.delete(PRESSES, &name);
        }
    });
    look("sync", &["sync"]);
    look("held", &["held"]);
    look("why", &["why", "crate"]);
    look("status", &["status"]);
    look("report", &["report", "--since", "7 days"]);
    look("history", &["history"]);
    look("history", &["history", "3"]);
    look("history", &["history", "1", "--text"]);
    look("snapshot", &["snapshot", "board", "kept.ics"]);
    look("restore", &["restore", "kept.ics", "--exact", "--yes"]);
    look("undo", &["undo", "1"]);
    look("undo", &["undo", "1", "--yes"]);
    look("free", &["free", "presses"]);
    look("account-list", &["account", "list"]);
    look("account-test", &["account", "test"]);
    look("calendar-list", &["calendar", "list"]);
    look("calendar-create", &["calendar", "create", "cloud", "Kiosk", "--as", "kiosk"]);
    look("calendar-rename", &["calendar", "rename", "kiosk", "Kiosk in the yard", "--on-server", "--yes"]);
    look("route-edit", &["route", "edit", "presses-to-board", "every=1h"]);
    look("route-rename", &["route", "rename", "presses-to-board", "bookings"]);
    look("route-rename", &["route", "rename", "bookings", "presses-to-board"]);
    look("calendar-add", &["calendar", "add", "aside", "--file", "aside.ics"]);
    look("calendar-doubles", &["calendar", "doubles", "board"]);
    look("calendar-doubles", &["calendar", "clear-copies", "board", "--yes"]);
    look("calendar-forget", &["calendar", "forget", "aside"]);
    look("route-list", &["route", "list"]);
    look("route-show", &["route", "show", "presses-to-board"]);
    look("agenda", &["agenda", "presses", "--from", "2026-10-05", "--to", "2026-10-30"]);
    set_up.source.with(|server| drop(server.users.insert("office".into(), "another".into())));
    for command in ["preview", "compare", "sync", "probe"] {
        look(command, &[command]);
    }
    look("account-test", &["account", "test"]);
    look("calendar-list", &["calendar", "list"]);
    look("route-retire", &["route", "retire", "presses-to-board"]);
}

/// What people are told stands in the document, too: titles, calendars, routes, and what was wrong.
#[test]
fn the_document_has_what_the_text_says() {
    let set_up = SetUp::new(8);
    let more = "[calendar.days]\nfile = \"days.ics\"\n[route.taken]\nfrom = \"presses\"\nto = \"days\"\ncarry = \"busy\"\n";
    set_up.configure(&format!(
        "{}deletion-limit = 1\nnote = \"Ask the press hall\"\n{more}",
        set_up.standard()
    ));
    let mut names: Vec<String> = orchard_entries(8, jiff::civil::date(2026, 10, 5))
        .iter()
        .filter_map(|entry| {
            Some(entry.text.lines().find(|line| line.starts_with("SUMMARY:"))?[8..].replace('\\', ""))
        })
        .collect();
    names.extend(
        [
            "presses",
            "board",
            "days",
            "presses-to-board",
            "taken",
            "packhouse",
            "cloud",
            "Ask the press hall",
            "Later on",
        ]
        .map(str::to_owned),
    );
    let mut missing = Vec::new();
    let mut both = |first: &[&str], second: &[&str]| {
        let (text, document) = (set_up.run(first).out, set_up.run(second).out);
        for name in names.iter().filter(|name| text.contains(name.as_str())) {
            if !document.contains(name.as_str()) {
                missing.push(format!("{first:?}: {name}"));
            }
        }
        text
    };
    let look = |words: &[&'static str]| -> Vec<&'static str> { [words, &["--json"]].concat() };
    let reads: &[&[&str]] = &[
        &["preview", "-v"],
        &["status", "-v"],
        &["held", "-v"],
        &["history"],
        &["history", "1"],
        &["compare", "-v"],
        &["why", "picking"],
        &["agenda", "--list"],
        &["free"],
        &["route", "list"],
        &["route", "show", "taken", "-v"],
        &["account", "list"],
        &["account", "test"],
        &["calendar", "list"],
        &["check", "-v"],
        &["preview", "--text", "van"],
        &["calendar", "doubles", "board"],
        &["calendar", "clear-copies", "board"],
        &["undo", "1"],
    ];
    for words in reads {
        both(words, &look(words));
    }
    // What writes says the same of the same change, one way and the other.
    let change = |title: &str| set_up.edit("orchard-0001.ics", "SUMMARY:", &format!("SUMMARY:{title}"));
    set_up.run(&["sync"]);
    change("Later on ");
    let text = set_up.run(&["sync", "-v"]).out;
    change("Later on ");
    let told = set_up.run(&["sync", "-v", "--json"]).json();
    let first = &told["runs"][0]["changes"][0];
    assert!(text.contains("Title: ") && first["fields"][0]["field"] == "SUMMARY", "{text} {told}");
    set_up.source.with(|server| {
        for name in server.texts(PRESSES).into_keys().take(4) {
            server.delete(PRESSES, &name);
        }
    });
    set_up.run(&["sync"]);
    for words in reads {
        both(words, &look(words));
    }
    assert!(missing.is_empty(), "{missing:#?}");
}
