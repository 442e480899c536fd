//! What copies show and how far a route looks: each key, through the program, as the guide shows it.

use crate::set_up::{BOARD, PRESSES, SetUp};

/// The examples of the guide; what stands on the board then, and what does not.
const EXAMPLES: &[(&str, &[&str], &[&str])] = &[
    ("carry = \"everything\"", &["SUMMARY:Stall 14", "X-SCALE:2", "TRIGGER:-PT5M", "ATTENDEE"], &[]),
    (
        "carry = \"busy\"",
        &["SUMMARY:Busy", "DTSTART:20261010T080000Z"],
        &["Stall", "Row 12", "VALARM", "CLASS"],
    ),
    (
        "carry = \"busy\"\nbusy-title = \"Press hall taken\"",
        &["SUMMARY:Press hall taken"],
        &["SUMMARY:Busy", "Stall"],
    ),
    (
        "carry = { details = [\"title\", \"location\"], prefix = \"[Stall] \", reminders = \"30 minutes\", privacy = \"private\" }",
        &["SUMMARY:[Stall] Stall 14", "LOCATION:Row 12", "TRIGGER:-PT30M", "CLASS:PRIVATE"],
        &["X-SCALE", "ATTENDEE", "CATEGORIES", "-PT5M"],
    ),
    ("carry = { title = \"Market\" }", &["SUMMARY:Market", "X-SCALE:2"], &["SUMMARY:Stall"]),
    ("carry = { blocks-time = \"no\" }", &["TRANSP:TRANSPARENT", "X-SCALE:2"], &["TRANSP:OPAQUE"]),
    ("carry = { reminders = \"none\" }", &["SUMMARY:Stall 14"], &["VALARM"]),
    (
        "carry = { people = \"listed\" }",
        &["DESCRIPTION:Organiser: crews@packhouse.example"],
        &["ATTENDEE", "ORGANIZER"],
    ),
    ("carry = { people = \"none\" }", &["SUMMARY:Stall 14"], &["crews@packhouse.example"]),
    ("carry = { categories = [\"Markets\"] }", &["CATEGORIES:Markets"], &["Town", "Draft"]),
    (
        "carry = { categories = { Town = \"Markets\", Draft = \"\" } }",
        &["CATEGORIES:Markets"],
        &["Town", "Draft"],
    ),
    ("carry = { colour = \"orange\" }", &["COLOR:orange"], &["COLOR:blue"]),
    ("carry = { colour = { Town = \"seagreen\" } }", &["COLOR:seagreen"], &["COLOR:blue"]),
    (
        "window = { past = \"7 days\", ahead = \"90 days\" }",
        &["Stall 14", "Pressing"],
        &["Pruning", "Last year"],
    ),
    ("window = { ahead = \"3 months\" }", &["Stall 14", "Last year"], &["Pruning"]),
    ("window = { from = \"2027-01-01\", to = \"2027-02-28\" }", &["Pruning"], &["Stall 14", "Last year"]),
    (
        "window = { past = \"7 days\", ahead = \"90 days\" }\npast-copies = \"remove\"",
        &["Stall 14"],
        &["Pruning", "Last year"],
    ),
    (
        "window = { past = \"7 days\", ahead = \"90 days\" }\noccurrences = \"each\"",
        &["DTSTART;TZID=Europe/Ljubljana:20261021T070000", "SUMMARY:Stall 14"],
        &["COUNT=4", "RECURRENCE-ID", "Pruning"],
    ),
    (
        "window = { past = \"7 days\", ahead = \"90 days\" }\ncarry = \"busy\"\njoin-busy = true",
        &["DTSTART:20261010T073000Z", "DTEND:20261010T090000Z", "DTSTART:20261021T050000Z"],
        &["DTSTART:20261010T080000Z", "COUNT=4", "Stall"],
    ),
];

fn server() -> SetUp {
    let set_up = SetUp::new(0);
    let entry = |uid: &str, lines: &str| {
        let text = format!(
            "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//orchard//EN\nBEGIN:VEVENT\nUID:{uid}\nDTSTAMP:20260901T060000Z\n{lines}\nEND:VEVENT\nEND:VCALENDAR\n"
        );
        let text = text.replace('\n', "\r\n");
        set_up.source.with(|server| drop(server.store(PRESSES, &format!("{uid}.ics"), &text)));
    };
    entry(
        "stall",
        "DTSTART:20261010T080000Z\nDTEND:20261010T090000Z\nSUMMARY:Stall 14\nLOCATION:Row 12\nCATEGORIES:Town,Draft\n\
         COLOR:blue\nTRANSP:OPAQUE\nX-SCALE:2\nORGANIZER:mailto:crews@packhouse.example\n\
         ATTENDEE:mailto:office@packhouse.example\nBEGIN:VALARM\nACTION:DISPLAY\nDESCRIPTION:Go\nTRIGGER:-PT5M\nEND:VALARM",
    );
    entry("van", "DTSTART:20261010T073000Z\nDTEND:20261010T083000Z\nSUMMARY:Delivery van");
    entry(
        "press",
        "DTSTART;TZID=Europe/Ljubljana:20261007T070000\nDURATION:PT1H\nRRULE:FREQ=WEEKLY;COUNT=4\nSUMMARY:Pressing",
    );
    entry("pruning", "DTSTART;VALUE=DATE:20270201\nSUMMARY:Pruning course");
    entry("old", "DTSTART;VALUE=DATE:20251005\nSUMMARY:Last year");
    set_up
}

#[test]
fn each_example_shows_what_it_says_and_a_change_takes_hold_at_the_next_run() {
    let guide = include_str!("../../../../docs/guide/what-a-route-takes.md");
    for (example, shown, hidden) in EXAMPLES {
        let set_up = server();
        let standard = set_up.standard().replace("only = { kinds = [\"events\", \"tasks\"] }", "");
        // First with another rule: what it wrote must not stay behind.
        let earlier = if example.starts_with("window") {
            "skip = { words = \"\" }"
        } else {
            "carry = { title = \"x\" }"
        };
        set_up.configure(&standard.replace("to = \"board\"", &format!("to = \"board\"\n{earlier}")));
        set_up.ok(&["sync"]);
        set_up.configure(&standard.replace("to = \"board\"", &format!("to = \"board\"\n{example}")));
        let told = set_up.ok(&["sync", "--json", "--allow-deletions"]).json();
        let texts: String = set_up.target.with(|server| server.texts(BOARD)).into_values().collect();
        let texts = texts.replace("\r\n ", "");
        for line in *shown {
            assert!(texts.contains(line), "{example}: no {line} in {texts} {told}");
        }
        for line in *hidden {
            assert!(!texts.contains(line), "{example}: {line} in {texts} {told}");
        }
        let again = set_up.ok(&["sync", "--json"]).json();
        assert_eq!(again["runs"][0]["writes"], 0, "{example}: {again}");
        let status = set_up.run(&["status", "--json"]).json();
        assert_eq!(status["routes"][0]["behind"], false, "{example}: {status}");
        for line in example.lines() {
            assert!(guide.contains(&format!("`{line}`")), "{line}");
        }
    }
}

#[test]
fn what_the_window_leaves_out_is_counted_and_explained() {
    let set_up = server();
    let standard = set_up.standard();
    let more = "to = \"board\"\nwindow = { past = \"7 days\", ahead = \"90 days\" }\ncarry = \"busy\"";
    set_up.configure(&standard.replace("to = \"board\"", more));
    insta::assert_snapshot!("preview_of_a_busy_window", set_up.shown(&["preview", "-v"]));
    insta::assert_snapshot!("text_of_a_busy_copy", set_up.shown(&["preview", "--text", "pressing"]));
    for title in ["Pressing", "Pruning course"] {
        let told = set_up.ok(&["preview", "-v"]).out + &set_up.ok(&["preview", "--json"]).out;
        assert!(!told.contains(title), "what a copy hides stays unsaid: {told}");
    }
    let told = set_up.run(&["preview", "--text", "pruning"]);
    assert!(told.code == 1 && told.err.contains("the next sync creates none"), "{told:?}");
    insta::assert_snapshot!("sync_of_a_busy_window", set_up.shown(&["sync", "-v"]));
    insta::assert_snapshot!("why_outside_the_window", set_up.shown(&["why", "presses-to-board", "pruning"]));
    let invite = "to = \"board\"\ncarry = { people = \"invite\" }";
    set_up.configure(
        &standard.replace("to = \"board\"", invite).replace("route.presses-to-board", "route.meetings"),
    );
    let told = set_up.ok(&["preview"]);
    assert!(told.out.contains("may write to these people"), "{told:?}");
    let told = set_up.ok(&["sync"]);
    assert!(told.err.contains("may write to these people"), "{told:?}");
    assert!(!set_up.ok(&["sync"]).err.contains("may write"), "once is enough");
}
