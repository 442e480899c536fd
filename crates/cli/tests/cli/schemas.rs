//! What every command prints with `--json` is what its schema in the reference says.

use std::path::Path;

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
