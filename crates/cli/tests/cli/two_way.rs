//! Both ways, through the program: changes, disagreements, deletions, and what waits for a person.

use chestnut_standin::Habit;

use crate::set_up::{BOARD, PRESSES, PROGRAM, SetUp};

fn both_ways(set_up: &SetUp, more: &str) {
    let standard = set_up.standard();
    let route = "[route.presses-to-board]\nfrom = \"presses\"\nto = \"board\"";
    let between = format!("[route.crews]\nbetween = [\"presses\", \"board\"]\n{more}");
    set_up.configure(&standard.replace(route, &between));
}

/// Changes an entry on the far side, by its UID, as another client would.
fn edit_far(set_up: &SetUp, uid: &str, from: &str, to: &str) {
    set_up.target.with(|server| {
        let texts = server.texts(BOARD);
        let (name, text) = texts.iter().find(|(_, text)| text.contains(uid)).expect("it stands there");
        assert!(text.contains(from), "{from} is not in {text}");
        let text = text.replacen(from, to, 1);
        server.store_raw(BOARD, &name.clone(), text);
    });
}

fn far(set_up: &SetUp) -> String {
    set_up.target.with(|server| server.texts(BOARD)).into_values().collect::<String>().replace("\r\n ", "")
}

fn near(set_up: &SetUp) -> String {
    set_up.source.with(|server| server.texts(PRESSES)).into_values().collect::<String>().replace("\r\n ", "")
}

#[test]
fn changes_go_both_ways_and_come_together() {
    let set_up = SetUp::new(6);
    both_ways(&set_up, "");
    insta::assert_snapshot!("first_preview_both_ways", set_up.shown(&["preview"]));
    set_up.ok(&["sync"]);
    assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["writes"], 0);
    // Different fields on both sides, at once.
    set_up.edit("orchard-0001.ics", "SUMMARY:", "SUMMARY:Early: ");
    edit_far(&set_up, "orchard-0001@", "END:VEVENT", "X-CRATES:12\r\nEND:VEVENT");
    edit_far(&set_up, "orchard-0002@", "SUMMARY:", "SUMMARY:From the board: ");
    insta::assert_snapshot!("sync_both_ways", set_up.shown(&["sync", "-v"]));
    assert!(near(&set_up).contains("SUMMARY:From the board: ") && near(&set_up).contains("X-CRATES:12"));
    assert!(far(&set_up).contains("SUMMARY:Early: "));
    // The same field on both sides: the newest counts, and the other text is kept.
    let stamp = |at: &str| format!("LAST-MODIFIED:{at}\r\nSUMMARY:");
    set_up.edit("orchard-0003.ics", "SUMMARY:", &(stamp("20261005T090000Z") + "Older "));
    edit_far(&set_up, "orchard-0003@", "SUMMARY:", &(stamp("20261005T100000Z") + "Newer "));
    let told = set_up.ok(&["sync", "--json"]).json();
    assert_eq!(told["runs"][0]["disagreements"], 1, "{told}");
    assert!(near(&set_up).contains("SUMMARY:Newer ") && !near(&set_up).contains("SUMMARY:Older "));
    let run = told["runs"][0]["run"].to_string();
    assert!(set_up.ok(&["history", &run]).out.contains("another calendar's title counts"));
    assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["writes"], 0);
    insta::assert_snapshot!("status_both_ways", set_up.shown(&["status"]));
    both_ways(&set_up, "disagree = \"board\"");
    let told = set_up.ok(&["route", "show", "crews"]).out;
    assert!(
        told.lines().any(|line| line.split_whitespace().eq(["disagree", "the", "file", "\"board\""])),
        "{told}"
    );
    both_ways(&set_up, "");
    // What is left out is named as long as it is, by its calendar.
    let journal = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VJOURNAL\r\nUID:rain\r\n\
                DTSTAMP:20261001T000000Z\r\nSUMMARY:Rain all day\r\nEND:VJOURNAL\r\nEND:VCALENDAR\r\n";
    set_up.target.with(|server| server.store(BOARD, "rain.ics", journal));
    for _ in 0..2 {
        let line = |c: &serde_json::Value| (c["calendar"].clone(), c["title"].clone(), c["why"].clone());
        let left_out = set_up.ok(&["preview", "--json"]).json()["previews"][0]["left_out"].clone();
        let told: Vec<_> = left_out.as_array().expect("a list").iter().map(line).collect();
        assert_eq!(told, [("board".into(), "Rain all day".into(), "journals-not-taken".into())]);
        set_up.ok(&["sync"]);
    }
}

#[test]
fn a_disagreement_waits_and_everything_else_goes_on() {
    for (choice, title, entries) in [("presses", "Mine", 5), ("board", "Theirs", 5), ("both", "Theirs", 6)] {
        let set_up = SetUp::new(5);
        both_ways(&set_up, "disagree = \"hold\"");
        set_up.ok(&["sync"]);
        let stamp = |at: &str| format!("LAST-MODIFIED:{at}\r\nSUMMARY:");
        set_up.edit("orchard-0001.ics", "SUMMARY:", &(stamp("20261005T090000Z") + "Mine "));
        edit_far(&set_up, "orchard-0001@", "SUMMARY:", &(stamp("20261005T100000Z") + "Theirs "));
        set_up.edit("orchard-0002.ics", "SUMMARY:", "SUMMARY:Goes on: ");
        let told = set_up.run(&["sync"]);
        assert!(told.code == 3 && told.out.contains("1 disagreement is held"), "{told:?}");
        assert!(far(&set_up).contains("SUMMARY:Goes on: ") && far(&set_up).contains("SUMMARY:Theirs "));
        assert!(near(&set_up).contains("SUMMARY:Mine "));
        if choice == "presses" {
            insta::assert_snapshot!("held_disagreement", set_up.shown(&["held"]));
            insta::assert_snapshot!("a_wrong_decision", set_up.shown(&["decide", "1", "mine"]));
        }
        // It waits as long as it must, and is told again each time.
        assert_eq!(set_up.run(&["sync"]).code, 3);
        let waits = set_up.ok(&["preview", "-v"]).out;
        assert!(
            waits.contains("Title: presses says Mine Picking") && waits.contains(" (agreed: "),
            "{waits}"
        );
        set_up.ok(&["decide", "1", choice]);
        let decided = set_up.ok(&["preview"]).out;
        assert!(decided.contains("your decision 1") && !decided.contains("changed elsewhere"), "{decided}");
        let change = if choice == "presses" { "Theirs P" } else { "Mine P" };
        assert!(decided.contains(&format!("Title: {change}")), "{decided}");
        // What is shown is what is written, byte for byte.
        let json = set_up.ok(&["preview", "--text", "orchard-0001@coop.example", "--json"]).json();
        let shown = json["texts"].as_array().expect("texts").clone();
        assert!(shown.iter().any(|text| text["action"] == "update"), "{json}");
        set_up.ok(&["sync"]);
        for text in &shown {
            let stands = if text["calendar"] == "presses" { near(&set_up) } else { far(&set_up) };
            // XML makes other ends of lines.
            let shown = text["text"].as_str().expect("a text").replace("\r\n ", "").replace("\n ", "");
            let (shown, stands) = (shown.replace('\r', ""), stands.replace('\r', ""));
            assert!(stands.contains(&shown), "{choice}: {shown}\nis not in {stands}");
        }
        set_up.ok(&["sync"]);
        assert!(set_up.ok(&["held"]).out.contains("nothing needs a decision"));
        assert!(
            near(&set_up).contains(&format!("SUMMARY:{title} "))
                && far(&set_up).contains(&format!("SUMMARY:{title} "))
        );
        // Another one within half an hour ends as soon as it is answered.
        set_up.edit("orchard-0000.ics", "SUMMARY:", "SUMMARY:Mine ");
        edit_far(&set_up, "orchard-0000@", "SUMMARY:", "SUMMARY:Theirs ");
        assert_eq!(set_up.run(&["sync"]).code, 3);
        set_up.ok(&["decide", "2", "board"]);
        set_up.ok(&["sync"]);
        let told = set_up.ok(&["status"]);
        assert!(!told.out.contains("trouble"), "{told:?}");
        let count = |texts: String| texts.matches("\r\nBEGIN:VCALENDAR").count() + 1;
        let both = choice == "both";
        assert_eq!(
            near(&set_up).contains("SUMMARY:Mine ") && far(&set_up).contains("SUMMARY:Mine "),
            both || title == "Mine"
        );
        assert_eq!((count(near(&set_up)), count(far(&set_up))), (entries, entries), "{choice}");
        assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["writes"], 0);
    }
}

#[test]
fn many_deletions_wait_and_are_let_through_or_kept() {
    for (choice, left) in [("delete", 3), ("keep", 20)] {
        let set_up = SetUp::new(20);
        both_ways(&set_up, "deletion-limit = { entries = 5, percent = 50 }");
        set_up.ok(&["sync"]);
        let gone: Vec<String> = (0..17).map(|n| format!("orchard-{n:04}.ics")).collect();
        set_up.source.with(|server| gone.iter().for_each(|name| assert!(server.delete(PRESSES, name))));
        let told = set_up.run(&["sync"]);
        assert!(told.code == 3 && told.out.contains("17 deletions are held"), "{told:?}");
        assert_eq!(set_up.target.with(|server| server.texts(BOARD)).len(), 20);
        if choice == "keep" {
            insta::assert_snapshot!("held_deletions", set_up.shown(&["held"]));
        }
        assert_eq!(set_up.run(&["status"]).code, 3);
        set_up.ok(&["decide", "1", choice]);
        set_up.ok(&["sync"]);
        assert_eq!(set_up.target.with(|server| server.texts(BOARD)).len(), left);
        assert_eq!(set_up.source.with(|server| server.texts(PRESSES)).len(), 3);
        let again = set_up.ok(&["sync", "--json"]).json();
        assert_eq!(
            (&again["runs"][0]["writes"], &again["runs"][0]["held"]),
            (&0.into(), &0.into()),
            "{again}"
        );
        assert!(set_up.ok(&["held"]).out.contains("nothing needs a decision"));
    }
}

/// What would make a server write to people is shown, and waits for an answer; `status` and `why` know of it.
#[test]
fn a_change_of_a_meeting_is_shown_and_asked_about() {
    let set_up = SetUp::new(3);
    both_ways(&set_up, "");
    let meeting = |uid: &str, organizer: &str, attendee: &str| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:{uid}\r\n\
             DTSTAMP:20260901T060000Z\r\nDTSTART:20261010T080000Z\r\nDURATION:PT1H\r\nSUMMARY:Pressing {uid}\r\n\
             ORGANIZER:mailto:{organizer}@coop.example\r\nATTENDEE:mailto:{attendee}@coop.example\r\n\
             END:VEVENT\r\nEND:VCALENDAR\r\n"
        )
    };
    set_up.target.with(|server| {
        server.habits.extend([Habit::Schedules, Habit::TellsAddresses]);
        for (name, organizer, attendee) in [("ours", "board", "crews"), ("gone", "board", "van")] {
            server.store(BOARD, &format!("{name}.ics"), &meeting(name, organizer, attendee));
        }
    });
    assert!(set_up.ok(&["preview"]).out.contains("board: the server sends invitations by itself."));
    set_up.ok(&["sync"]);
    set_up.source.with(|server| {
        let texts = server.texts(PRESSES);
        let of = |uid: &str| {
            texts.iter().find(|(_, text)| text.contains(&format!("UID:{uid}\r"))).expect("it came")
        };
        let (name, text) = of("ours");
        server.store_raw(PRESSES, name, text.replace("Pressing ours", "Pressing, an hour later"));
        assert!(server.delete(PRESSES, of("gone").0));
    });
    insta::assert_snapshot!("preview_of_a_meeting", set_up.shown(&["preview"]));
    let told = set_up.run(&["sync", "-v"]);
    assert!(told.code == 3 && told.out.contains("2 changes are held"), "{told:?}");
    insta::assert_snapshot!("held_meetings", set_up.shown(&["held"]));
    assert_eq!(set_up.run(&["status"]).code, 3);
    let why = set_up.run(&["why", "later"]).out;
    assert!(why.contains("chestnut held shows it as number"), "{why}");
    let held = set_up.run(&["held", "--json"]).json();
    let actions: Vec<_> =
        held["held"].as_array().expect("a list").iter().map(|h| &h["mail"][0]["action"]).collect();
    assert_eq!(actions, ["delete", "update"]);
    set_up.ok(&["decide", "2", "leave"]);
    insta::assert_snapshot!("decided_to_send", set_up.shown(&["decide", "1", "send"]));
    let told = set_up.ok(&["sync", "--json"]).json();
    assert_eq!(told["runs"][0]["left_out"]["would-mail"], 1, "{told}");
    assert!(far(&set_up).contains("Pressing ours") && !far(&set_up).contains("Pressing gone"));
    assert_eq!(set_up.target.with(|server| server.outbox.clone()), ["CANCEL mailto:van@coop.example"]);
    let compared = set_up.ok(&["compare", "--json"]).json();
    assert_eq!(compared["comparisons"][0]["findings"][0]["key"], "would-mail", "{compared}");
}

#[test]
fn a_decision_counts_for_the_deletions_it_was_about() {
    for is_two_way in [true, false] {
        let set_up = SetUp::new(40);
        if is_two_way {
            both_ways(&set_up, "");
        }
        set_up.ok(&["sync"]);
        let delete = |numbers: std::ops::Range<usize>| {
            let mut names = numbers.map(|n| format!("orchard-{n:04}.ics"));
            set_up
                .source
                .with(|server| names.by_ref().for_each(|name| assert!(server.delete(PRESSES, &name))));
        };
        let standing = || set_up.target.with(|server| server.texts(BOARD)).len();
        delete(0..25);
        assert!(set_up.run(&["sync"]).out.contains("25 deletions are held"));
        set_up.ok(&["decide", "1", "delete"]);
        // Before it is done, nearly all the others are gone too: of these nobody was told, and they wait in turn.
        delete(25..38);
        let told = set_up.run(&["sync"]);
        assert!(told.code == 3 && told.out.contains("13 deletions are held"), "{told:?}");
        assert_eq!(standing(), 15);
        assert!(set_up.run(&["held"]).out.contains("decide: chestnut decide 1 delete|keep"));
        set_up.ok(&["decide", "1", "delete"]);
        // A single one more is no reason to ask again.
        delete(38..39);
        set_up.ok(&["sync"]);
        assert_eq!(standing(), 1);
    }
}

#[test]
fn busy_time_between_calendars_is_copied_in_both_directions_and_never_back() {
    let set_up = SetUp::new(6);
    let own = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:own\r\nDTSTAMP:20260901T060000Z\r\n\
               DTSTART:20261010T080000Z\r\nSUMMARY:Own secret\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n";
    set_up.target.with(|server| drop(server.store(BOARD, "own.ics", own)));
    both_ways(&set_up, "carry = \"busy\"\nbusy-title = \"Taken\"");
    // What is said to be typed can be typed.
    let told = set_up.run(&["status"]).out;
    assert!(told.contains("`chestnut preview 'crews: presses → board'`"), "{told}");
    insta::assert_snapshot!("sync_busy_between", set_up.shown(&["sync", "crews"]));
    let taken = |texts: String| texts.matches("SUMMARY:Taken").count();
    let (here, there) = (taken(near(&set_up)), taken(far(&set_up)));
    assert_eq!(here, 1);
    assert!(there >= 4 && !near(&set_up).contains("secret"), "{there}");
    for _ in 0..3 {
        let told = set_up.ok(&["sync", "--json"]).json();
        assert!(told["runs"].as_array().expect("runs").iter().all(|run| run["writes"] == 0), "{told}");
    }
    assert_eq!((taken(near(&set_up)), taken(far(&set_up))), (here, there));
}

/// One way first, both ways later: it is told what that takes, and nothing is written twice.
#[test]
fn a_route_that_is_turned_begins_anew_and_finds_its_copies() {
    let set_up = SetUp::new(4);
    set_up.ok(&["sync"]);
    let edit = ["route", "edit", "presses-to-board", "from=", "to=", "between=[\"presses\", \"board\"]"];
    let told = set_up.ok(&edit).out;
    assert!(told.contains("it has run") && told.contains("chestnut route retire presses-to-board"), "{told}");
    let refused = set_up.run(&["sync"]);
    let said = refused.said();
    assert!(refused.code == 3 && said.contains("went another way when it last ran: from"), "{said}");
    assert!(said.contains("chestnut route retire presses-to-board"), "{said}");
    set_up.ok(&["route", "retire", "presses-to-board"]);
    set_up.ok(&["route", "add", "presses-to-board", "--between", "presses,board"]);
    let copies = far(&set_up);
    let report = set_up.ok(&["sync", "--json"]).json();
    assert_eq!(
        (&report["runs"][0]["writes"], &report["runs"][0]["in_step"]),
        (&0.into(), &4.into()),
        "{report}"
    );
    assert_eq!(far(&set_up), copies);
}

#[test]
fn what_a_two_way_route_cannot_do_is_told() {
    let set_up = SetUp::new(0);
    for (more, problem) in [
        ("from = \"presses\"", "`from` in [route.crews] and `between` exclude each other"),
        ("disagree = \"mine\"", "must be \"newest\", \"hold\", or a calendar: \"presses\", \"board\""),
        ("carry = { prefix = \"x\" }", "gives copies another form, which has no way back"),
        ("far-edits = \"leave\"", "is for one-way routes"),
        ("deletion-limit = \"few\"", "must be a whole number"),
        ("deletion-limit = { entry = 5 }", "Did you mean `entries`?"),
    ] {
        both_ways(&set_up, more);
        let told = set_up.run(&["sync"]);
        assert!(told.code == 2 && told.err.contains(problem), "{more}: {told:?}");
    }
    let one = set_up
        .standard()
        .replace("from = \"presses\"\nto = \"board\"", "between = [\"presses\", \"presses\"]");
    set_up.configure(&one);
    assert!(set_up.run(&["sync"]).err.contains("must name two or more different calendars"));
}

#[test]
fn a_new_route_asks_before_its_first_write_and_others_go_on() {
    let set_up = SetUp::new(4);
    set_up.ok(&["sync"]);
    let more =
        "\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n\n[route.kiosk]\nfrom = \"presses\"\nto = \"kiosk\"\n";
    set_up.configure(&(set_up.standard() + more));
    set_up.edit("orchard-0001.ics", "SUMMARY:", "SUMMARY:Early: ");
    // Nobody can be asked here: the new route does not begin, the old one goes on.
    insta::assert_snapshot!("a_new_route_unasked", set_up.shown(&["sync", "--unasked"]));
    assert!(far(&set_up).contains("SUMMARY:Early: ") && !set_up.path("kiosk.ics").exists());
    set_up.ok(&["sync"]);
    assert!(set_up.path("kiosk.ics").exists());
    assert_eq!(set_up.run(&["sync", "--unasked"]).code, 0, "once is enough");
}

/// The question before a first run, typed at a terminal.
#[cfg(unix)]
#[test]
fn the_question_tells_of_deletions_and_no_writes_nothing() {
    let set_up = SetUp::new(3);
    let pinned = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:pinned\r\n\
                  DTSTAMP:20261001T000000Z\r\nDTSTART:20261008T080000Z\r\nSUMMARY:Pinned up by hand\r\nEND:VEVENT\r\n\
                  END:VCALENDAR\r\n";
    set_up.target.with(|server| server.store(BOARD, "pinned.ics", pinned));
    set_up.configure(&(set_up.standard() + "strangers = \"remove\"\n"));
    for (answer, deleted) in [("no", false), ("yes", true)] {
        let mut command = chestnut_testkit::hermetic(std::path::Path::new(PROGRAM), &set_up.path(""));
        command.arg("sync").env("TERM", "xterm");
        let mut terminal = rexpect::session::spawn_command(command, Some(20_000)).expect("a terminal");
        terminal.exp_string("3 to create in board").expect("what is new, and where");
        terminal.exp_string("1 to delete in board; it is nobody's copy").expect("what it deletes");
        terminal.exp_string("Write this now?").expect("the question");
        terminal.send_line(answer).expect("typed");
        terminal.exp_string(if deleted { "done" } else { "not begun" }).expect("the result");
        terminal.exp_eof().expect("it ends");
        assert_eq!(!far(&set_up).contains("Pinned up"), deleted);
    }
}

#[test]
fn routes_feed_one_another_in_order_and_circles_are_drawn() {
    let set_up = SetUp::new(3);
    let kiosk = "\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n\n[calendar.hall]\nfile = \"hall.ics\"\n";
    // By its name the second one comes first; it reads what the other one writes.
    let chain = |second: &str| {
        format!(
            "{}{kiosk}\n[route.z-first]\nfrom = \"presses\"\nto = \"kiosk\"\n\n[route.a-second]\nfrom = \"kiosk\"\nto = \"hall\"\n{second}\n",
            set_up.standard()
        )
    };
    let hall = || {
        std::fs::read_to_string(set_up.path("hall.ics")).unwrap_or_default().matches("BEGIN:VEVENT").count()
    };
    set_up.configure(&chain(""));
    let told = set_up.ok(&["sync", "--json"]).json();
    assert_eq!(
        told["runs"][0]["left_out"]["copy-of-another-route"], 3,
        "copies of copies are not made: {told}"
    );
    assert_eq!(hall(), 0);
    set_up.configure(&chain("relay = true"));
    set_up.ok(&["sync"]);
    assert!(hall() >= 3);
    set_up.configure(&(chain("relay = true") + "\n[route.back]\nfrom = \"hall\"\nto = \"kiosk\"\n"));
    let told = set_up.run(&["sync"]);
    assert_eq!(told.code, 2);
    assert!(told.err.contains("kiosk → hall (a-second) → kiosk (back)"), "{}", told.err);
    // Circles without relay carry originals alone, each once.
    set_up.configure(&(chain("") + "\n[route.back]\nfrom = \"hall\"\nto = \"kiosk\"\n"));
    assert_eq!(set_up.run(&["sync", "--allow-deletions"]).code, 0);
}

#[test]
fn strangers_are_removed_where_the_route_says_so_under_the_same_limit() {
    let set_up = SetUp::new(4);
    let own = |n: usize| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:VEVENT\r\nUID:own-{n}\r\nDTSTAMP:20260901T060000Z\r\n\
             DTSTART:20261010T080000Z\r\nSUMMARY:Own {n}\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
        )
    };
    let add =
        |n: usize| set_up.target.with(|server| drop(server.store(BOARD, &format!("own-{n}.ics"), &own(n))));
    add(0);
    set_up.ok(&["sync"]);
    assert!(far(&set_up).contains("Own 0"), "strangers stay unless the route says otherwise");
    set_up.configure(&set_up.standard().replace("to = \"board\"", "to = \"board\"\nstrangers = \"remove\""));
    set_up.ok(&["sync"]);
    assert!(!far(&set_up).contains("Own 0"));
    assert!(set_up.ok(&["history", "2"]).out.contains("Own 0"));
    (1..20).for_each(add);
    let told = set_up.run(&["sync"]);
    assert!(told.code == 3 && told.out.contains("19 deletions are held"), "{told:?}");
    assert!(far(&set_up).contains("Own 7"));
    assert_eq!(set_up.run(&["sync"]).code, 3);
    set_up.ok(&["decide", "1", "delete"]);
    set_up.ok(&["sync"]);
    assert!(!far(&set_up).contains("Own") && set_up.target.with(|server| server.texts(BOARD)).len() == 4);
}

#[test]
fn routes_are_added_shown_paused_and_retired() {
    let set_up = SetUp::new(4);
    let standard = set_up.standard();
    let (without, _) = standard.split_once("[route.presses-to-board]").expect("a route");
    set_up.configure(&format!("{without}# Routes come last.\n"));
    let add = [
        "route", "add", "taken", "--from", "presses", "--to", "board", "--carry", "busy", "--ahead",
        "3 months",
    ];
    insta::assert_snapshot!("route_add", set_up.shown(&add));
    let text = std::fs::read_to_string(set_up.path("chestnut.toml")).expect("readable");
    assert!(
        text.contains("# Routes come last.") && text.contains("window = { ahead = \"3 months\" }"),
        "{text}"
    );
    set_up.ok(&["sync"]);
    set_up.ok(&["route", "add", "crews", "--between", "presses,board"]);
    insta::assert_snapshot!("route_list", set_up.shown(&["route", "list"]));
    insta::assert_snapshot!("route_show", set_up.shown(&["route", "show", "taken"]));
    set_up.ok(&["route", "pause", "taken"]);
    set_up.edit("orchard-0001.ics", "SUMMARY:", "DTSTAMP:20261001T000000Z\r\nLOCATION:x\r\nSUMMARY:");
    let told = set_up.run(&["sync", "taken"]);
    assert_eq!(told.code, 3, "who names a route means it to run");
    assert!(
        told.out
            .contains("taken is paused since 10:00 today; nothing was done: `chestnut route resume taken`"),
        "{told:?}"
    );
    set_up.ok(&["route", "resume", "taken"]);
    assert!(!set_up.ok(&["sync", "taken"]).out.contains("paused"));
    let copies = set_up.target.with(|server| server.texts(BOARD)).len();
    assert!(copies > 0);
    // A route that somebody took out of the file is told of until it is retired.
    let text = std::fs::read_to_string(set_up.path("chestnut.toml")).expect("readable");
    set_up.configure(&text.replace("route.taken", "route.renamed"));
    let told = set_up.run(&["status"]);
    assert!(
        told.code == 3 && told.out.contains("taken ran once and is no longer in the configuration"),
        "{told:?}"
    );
    assert_eq!(set_up.run(&["route", "retire", "taken", "--remove-copies", "--yes"]).code, 2);
    set_up.configure(&text);
    let unasked = set_up.run(&["route", "retire", "taken", "--remove-copies"]);
    assert!(unasked.code == 2 && unasked.err.contains(&format!("deletes {copies} copies")), "{unasked:?}");
    let told = set_up.ok(&["route", "retire", "taken", "--remove-copies", "--yes"]);
    assert!(told.out.contains(&format!("{copies} copies removed")), "{told:?}");
    assert_eq!(set_up.target.with(|server| server.texts(BOARD)).len(), 0);
    assert_eq!(set_up.source.with(|server| server.texts(PRESSES)).len(), 4, "nothing of the source goes");
    let text = std::fs::read_to_string(set_up.path("chestnut.toml")).expect("readable");
    assert!(
        !text.contains("route.taken") && text.contains("route.crews") && text.contains("# Routes come last.")
    );
    set_up.ok(&["sync"]);
    let told = set_up.run(&["route", "retire", "crews", "--remove-copies"]);
    assert!(told.code == 2 && told.err.contains("made no copies"), "{told:?}");
    set_up.ok(&["route", "retire", "crews"]);
    assert_eq!(set_up.target.with(|server| server.texts(BOARD)).len(), 4);
    let told = set_up.run(&["route", "add", "x"]);
    assert!(told.code == 2 && told.err.contains("--between CALENDAR,CALENDAR"), "{told:?}");
    let add = ["route", "add", "stalls", "--from", "presses", "--to", "board", "--carry"];
    let told = set_up.run(&[&add[..], &["title,locaton"]].concat());
    assert!(told.code == 2 && told.err.contains("Did you mean `location`?"), "{told:?}");
    set_up.ok(&[&add[..], &["title, location"]].concat());
    let text = std::fs::read_to_string(set_up.path("chestnut.toml")).expect("the configuration");
    assert!(text.contains("carry = { details = [\"title\", \"location\"] }"), "{text}");
}

#[test]
fn each_example_of_the_guide_is_a_configuration() {
    let guide = include_str!("../../../../docs/guide/both-ways-and-deletions.md");
    let rows =
        guide.lines().take_while(|line| !line.starts_with("`only`")).filter(|line| line.starts_with("| `"));
    let mut seen = 0;
    for row in rows {
        let example = row.rsplit('`').nth(1).expect("an example");
        let set_up = SetUp::new(3);
        if row.contains("(one way)") || example.starts_with("relay") {
            set_up.configure(
                &set_up.standard().replace("to = \"board\"", &format!("to = \"board\"\n{example}")),
            );
        } else {
            both_ways(&set_up, if example.starts_with("between") { "" } else { example });
        }
        set_up.ok(&["sync"]);
        assert_eq!(set_up.ok(&["sync", "--json"]).json()["runs"][0]["writes"], 0, "{example}");
        assert_eq!(set_up.target.with(|server| server.texts(BOARD)).len(), 3, "{example}");
        seen += 1;
    }
    assert_eq!(seen, 7);
}

#[test]
fn entries_that_never_were_agreed_can_wait_too() {
    let set_up = SetUp::new(2);
    set_up.ok(&["sync"]);
    // The same entry, under its own UID, says something else on the far side before the route first runs.
    let text =
        set_up.source.with(|server| server.texts(PRESSES)).remove("orchard-0001.ics").expect("an entry");
    let theirs = text.replace("SUMMARY:", "SUMMARY:Theirs: ");
    set_up.target.with(|server| {
        let names: Vec<String> = server.texts(BOARD).into_keys().collect();
        names.iter().for_each(|name| assert!(server.delete(BOARD, name)));
        server.store(BOARD, "theirs.ics", &theirs);
    });
    both_ways(&set_up, "disagree = \"hold\"");
    assert_eq!(set_up.run(&["sync"]).code, 3);
    insta::assert_snapshot!("held_on_the_first_run", set_up.shown(&["held"]));
    set_up.ok(&["decide", "1", "board"]);
    set_up.ok(&["sync", "crews"]);
    assert!(near(&set_up).contains("SUMMARY:Theirs: ") && far(&set_up).contains("SUMMARY:Theirs: "));
    assert_eq!(set_up.ok(&["sync", "crews", "--json"]).json()["runs"][0]["writes"], 0);
}
