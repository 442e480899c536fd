//! What a route takes: each key of `only` and `skip`, through the program, as the guide shows it.

use crate::set_up::{BOARD, PRESSES, SetUp};

/// The examples of the guide, and which of the sample entries each takes.
const EXAMPLES: &[(&str, &[&str])] = &[
    ("only = { categories = [\"Town\"] }", &["fair", "market"]),
    ("only = { words = \"press hall\" }", &["press"]),
    ("only = { words = [\"/^stall [0-9]+/\", \"fair\"] }", &["fair", "market"]),
    ("only = { all-day = true }", &["fair"]),
    ("only = { all-day = false, categories = [\"Town\"] }", &["market"]),
    ("only = { organiser = [\"crews@packhouse.example\"] }", &["pruning"]),
    ("only = { kinds = [\"tasks\"] }", &["crates"]),
    ("skip = { categories = [\"Town\"] }", &["draft", "press", "pruning", "watch"]),
    (
        "skip = { cancelled = true, free = true, private = true, tentative = true }",
        &["fair", "market", "pruning"],
    ),
    (
        "skip = { declined = true }\nme = [\"office@packhouse.example\"]",
        &["draft", "fair", "market", "press", "watch"],
    ),
    ("only = { categories = [\"Town\"] }\nskip = { words = \"stall\" }", &["fair"]),
];

fn server() -> SetUp {
    let set_up = SetUp::new(0);
    let entry = |uid: &str, kind: &str, lines: &str| {
        let text = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:{kind}\r\nUID:{uid}\r\nDTSTAMP:20260901T060000Z\r\n{lines}\r\nEND:{kind}\r\nEND:VCALENDAR\r\n"
        );
        set_up.source.with(|server| drop(server.store(PRESSES, &format!("{uid}.ics"), &text)));
    };
    let at = "DTSTART:20261010T080000Z\r\nDTEND:20261010T090000Z";
    entry("press", "VEVENT", &format!("{at}\r\nSUMMARY:Press hall: early apples\r\nCLASS:PRIVATE"));
    entry("market", "VEVENT", &format!("{at}\r\nSUMMARY:Stall 14\r\nCATEGORIES:Delivery,Town"));
    entry("fair", "VEVENT", "DTSTART;VALUE=DATE:20261012\r\nSUMMARY:Harvest fair\r\nCATEGORIES:town");
    entry(
        "watch",
        "VEVENT",
        &format!("{at}\r\nSUMMARY:Frost watch\r\nTRANSP:TRANSPARENT\r\nSTATUS:CANCELLED"),
    );
    entry("draft", "VEVENT", &format!("{at}\r\nSUMMARY:Cider evening\r\nSTATUS:TENTATIVE"));
    entry(
        "pruning",
        "VEVENT",
        &format!(
            "{at}\r\nSUMMARY:Pruning course\r\nORGANIZER:mailto:crews@packhouse.example\r\nATTENDEE;PARTSTAT=DECLINED:mailto:office@packhouse.example"
        ),
    );
    entry("crates", "VTODO", "DUE:20261010T080000Z\r\nSUMMARY:Wash the crates");
    set_up
}

const TITLES: &[(&str, &str)] = &[
    ("press", "Press hall: early apples"),
    ("market", "Stall 14"),
    ("fair", "Harvest fair"),
    ("watch", "Frost watch"),
    ("draft", "Cider evening"),
    ("pruning", "Pruning course"),
    ("crates", "Wash the crates"),
];

#[test]
fn each_example_takes_what_it_says_and_a_change_takes_hold_at_the_next_run() {
    let set_up = server();
    let standard = set_up.standard();
    let configure =
        |more: &str| set_up.configure(&standard.replace("only = { kinds = [\"events\", \"tasks\"] }", more));
    for (example, expected) in EXAMPLES {
        configure(example);
        let told = set_up.ok(&["sync", "--json", "--allow-deletions"]).json();
        let texts = set_up.target.with(|server| server.texts(crate::set_up::BOARD));
        let mut there: Vec<&str> = TITLES
            .iter()
            .filter(|(_, title)| texts.values().any(|text| text.contains(&format!("SUMMARY:{title}\r\n"))))
            .map(|(name, _)| *name)
            .collect();
        there.sort_unstable();
        assert_eq!(there, *expected, "{example}: {told}");
        let left_out: u64 = told["runs"][0]["left_out"]
            .as_object()
            .expect("counts")
            .values()
            .filter_map(|n| n.as_u64())
            .sum();
        assert_eq!(left_out as usize, TITLES.len() - expected.len(), "{example}: {told}");
        // Nothing is written twice, and the reasons stay.
        let again = set_up.ok(&["sync", "--json"]).json();
        assert_eq!(
            (&again["runs"][0]["writes"], &again["runs"][0]["left_out"]),
            (&0.into(), &told["runs"][0]["left_out"]),
            "{example}"
        );
    }
    // An entry that comes to be taken is carried, one that no longer is goes; both by a change at the source.
    configure("skip = { cancelled = true }");
    set_up.ok(&["sync", "--allow-deletions"]);
    set_up.edit("market.ics", "SUMMARY:Stall 14", "STATUS:CANCELLED\r\nSUMMARY:Stall 14");
    set_up.edit("watch.ics", "STATUS:CANCELLED", "STATUS:CONFIRMED");
    let told = set_up.ok(&["sync", "--json"]).json();
    let counts = &told["runs"][0]["calendars"]["board"];
    assert_eq!(
        (&counts["created"], &counts["deleted"], &told["runs"][0]["left_out"]["skip.cancelled"]),
        (&1.into(), &1.into(), &1.into()),
        "{told}"
    );
    let preview = set_up.ok(&["preview", "-v"]);
    assert!(
        preview.out.contains("Stall 14") && preview.out.contains("`cancelled` in `skip` fits it"),
        "{}",
        preview.out
    );
    assert!(set_up.ok(&["sync", "-v"]).out.contains("1 entry not included (skip = { cancelled = … })"));
    let why = |entry: &str| set_up.ok(&["why", "presses-to-board", entry]).said();
    assert!(why("stall 14").contains("`cancelled` in `skip` fits it"), "{}", why("stall 14"));
    assert!(why("crates").contains("the route takes no tasks: only = { kinds = [..., \"tasks\"] } would"));
    assert!(
        why("fair").contains("presses-to-board: the route takes it; its copy stands in board"),
        "{}",
        why("fair")
    );
    let day = set_up.ok(&["why", "presses-to-board", "2026-10-12", "--json"]).json();
    let entries = day["stories"].as_array().expect("stories");
    assert_eq!(
        (entries.len(), &entries[0]["uid"], &entries[0]["taken"]),
        (1, &"fair".into(), &true.into()),
        "{day}"
    );
    assert!(entries[0]["places"][1]["uid"].as_str().is_some_and(|uid| uid.starts_with("chestnut-")));
    // A copy whose source the route no longer takes still stands there.
    let standard = std::fs::read_to_string(set_up.path("chestnut.toml")).expect("read");
    for (more, end) in [
        ("", "the next sync deletes its copy in board"),
        ("deletions = \"keep\"\n", "its copy in board stays"),
    ] {
        set_up
            .configure(&format!("{}{more}", standard.replace("skip = { ", "skip = { words = [\"Fair\"], ")));
        assert!(
            why("fair").contains(&format!("no longer included: `words` in `skip` fits it; {end}")),
            "{}",
            why("fair")
        );
    }
    set_up.configure(&standard);
    let nobody = set_up.run(&["why", "presses-to-board", "moon landing"]);
    assert!(
        nobody.code == 1 && nobody.err.contains("no calendar of this route has an entry \"moon landing\""),
        "{nobody:?}"
    );
    for (wrong, problem) in [
        ("only = { words = \"/(/\" }", "which is not a pattern"),
        (
            "skip = { kinds = [\"events\"] }",
            "unknown key `kinds` in [route.presses-to-board.skip]\nHint: `kinds` stands in a route's `only = {",
        ),
        ("skip = { declind = true }", "Did you mean `declined`?"),
        ("[defaults]\nevery = \"1 hour\"", "in [defaults]\nHint: `every` stands in [defaults.route]."),
        ("skip = { free = \"yes\" }", "must be true or false"),
        ("skip = { all-day = false }", "write only = { all-day = true }"),
    ] {
        configure(wrong);
        let told = set_up.run(&["sync"]);
        assert!(told.code == 2 && told.err.contains(problem), "{wrong}: {told:?}");
    }
    // The guide shows these examples, word for word.
    let guide = include_str!("../../../../docs/guide/what-a-route-takes.md");
    for (example, _) in EXAMPLES {
        for line in example.lines() {
            assert!(guide.contains(&format!("`{line}`")), "{line}");
        }
    }
}

/// Of a series with changed days, each as the route's copies have it: what `skip` fits stays behind, day by day.
#[test]
fn days_of_a_series_answer_for_themselves() {
    let set_up = SetUp::new(0);
    let standard = set_up.standard();
    let day = |id: &str, lines: &str| {
        format!(
            "BEGIN:VEVENT\r\nUID:crew\r\nDTSTAMP:20261001T060000Z\r\nDTSTART;TZID=Europe/Ljubljana:{id}T090000\r\n\
             DURATION:PT1H\r\n{lines}END:VEVENT\r\n"
        )
    };
    let changed = |id: &str, lines: &str| {
        day(id, &format!("RECURRENCE-ID;TZID=Europe/Ljubljana:{id}T090000\r\n{lines}"))
    };
    let store = |series: &str, private: &str, yes: &str| {
        let text = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\n{}{}{}END:VCALENDAR\r\n",
            day("20261012", &format!("RRULE:FREQ=DAILY;COUNT=4\r\nSUMMARY:Crew\r\n{series}")),
            changed("20261013", &format!("SUMMARY:Pay talks\r\n{private}")),
            changed("20261014", &format!("SUMMARY:Crew at the gate\r\n{yes}"))
        );
        set_up.source.with(|server| server.store(PRESSES, "crew.ics", &text));
    };
    let answer = |word: &str| format!("ATTENDEE;PARTSTAT={word}:mailto:office@packhouse.example\r\n");
    let titles = || {
        let list = set_up.ok(&["agenda", "board", "--from", "2026-10-12", "--days", "5", "--json"]).json();
        let entries = list.as_array().expect("entries").iter();
        entries.map(|one| one["title"].as_str().expect("a title").to_owned()).collect::<Vec<_>>()
    };
    for (form, private, declined) in [
        ("", &["Crew", "Crew at the gate", "Crew"][..], &["Crew at the gate"][..]),
        (
            "occurrences = \"each\"\nwindow = { ahead = \"1 month\" }",
            &["Crew", "Crew at the gate", "Crew"],
            &["Crew at the gate"],
        ),
        ("carry = \"busy\"", &["Busy", "Busy", "Busy"], &["Busy"]),
        (
            "carry = \"busy\"\njoin-busy = true\nwindow = { ahead = \"1 month\" }",
            &["Busy", "Busy", "Busy"],
            &["Busy"],
        ),
    ] {
        let configure = |skip: &str| {
            let more = format!("{skip}me = [\"office@packhouse.example\"]\n{form}");
            set_up.configure(&standard.replace("only = { kinds = [\"events\", \"tasks\"] }", &more));
            set_up.ok(&["sync", "--allow-deletions"]);
        };
        let is_told = || {
            let texts = set_up.target.with(|server| server.texts(BOARD));
            texts.values().any(|text| text.contains("Pay talks"))
        };
        // The rule alone changes what was carried before, and back.
        store("", "CLASS:PRIVATE\r\n", "");
        configure("");
        assert_eq!((titles().len(), is_told()), (4, !form.contains("busy")), "{form}");
        configure("skip = { private = true, declined = true }\n");
        assert_eq!(
            (titles(), is_told()),
            (private.iter().map(|title| (*title).to_owned()).collect(), false),
            "{form}"
        );
        configure("");
        assert_eq!((titles().len(), is_told()), (4, !form.contains("busy")), "{form}");
        configure("skip = { private = true, declined = true }\n");
        let why = set_up.ok(&["why", "presses-to-board", "crew"]).said();
        assert!(
            why.contains("without its occurrence of Tue 13 Oct 09:00: `private` in `skip` fits it"),
            "{why}"
        );
        // Of a series that was declined, one day was not.
        store(&answer("DECLINED"), &answer("DECLINED"), &answer("ACCEPTED"));
        set_up.ok(&["sync", "--allow-deletions"]);
        assert_eq!(titles(), declined, "{form}");
        assert!(set_up.ok(&["sync"]).out.contains("nothing to do"), "{form}");
        assert!(set_up.ok(&["compare"]).out.contains("in step"));
    }
}
