//! The whole job, typed at a terminal by somebody who has not read the guide: from nothing to two calendars in step,
//! with wrong answers on the way.

#![cfg(unix)]

use std::sync::Arc;

use chestnut_standin::{Server, Site, orchard_entries, serve_on_thread};
use chestnut_testkit::standin_now;

use crate::desk::Desk;

/// Types a command, then answers, each after what it answers to; returns what was said in the end.
fn typed(desk: &Desk, words: &[&str], answers: &[(&str, &str)]) -> String {
    let mut command =
        chestnut_testkit::hermetic(std::path::Path::new(crate::set_up::PROGRAM), desk.folder.path());
    command.args(words).env("TERM", "xterm");
    let mut terminal = rexpect::session::spawn_command(command, Some(20_000)).expect("a terminal");
    for (question, line) in answers {
        terminal.exp_string(question).unwrap_or_else(|e| panic!("{words:?}: {question}: {e}"));
        terminal.send_line(line).expect("typed");
    }
    let told = terminal.exp_eof().unwrap_or_else(|e| panic!("{words:?}: {e}"));
    assert!(!told.contains("office-pw") && !told.contains("board-pw"), "{told}");
    told
}

fn servers() -> [Site; 2] {
    let mut office = Server::new(&["office"], standin_now() - 86_400_000);
    let path = office.add_calendar("office", "presses", "Press hall", "#b5651d");
    for entry in orchard_entries(6, jiff::civil::date(2026, 10, 5)) {
        office.store(&path, &entry.name, &entry.text);
    }
    let board = Server::new(&["board"], standin_now() - 86_400_000);
    serve_on_thread(vec![office, board], Arc::new(standin_now)).expect("servers").try_into().expect("two")
}

const PRESSES: &str = "/office/calendars/presses/";

#[test]
fn the_whole_job_typed_at_a_terminal() {
    let [office, board] = servers();
    let desk = Desk::new();
    let run = |words: &[&str], answers: &[(&str, &str)]| typed(&desk, words, answers);
    // Nothing is there, and the way on is told.
    assert!(run(&["status"], &[]).contains("chestnut init"));
    let told =
        run(&["account", "add", "packhouse", &office.url], &[("User name", "office"), ("Password", "wrong")]);
    assert!(told.contains("run the same command again"), "{told}");
    let told = run(
        &["account", "add", "packhouse", &office.url],
        &[("User name", "office"), ("Password", "office-pw")],
    );
    assert!(told.contains("Next: chestnut calendar add NAME --account packhouse --path PATH"), "{told}");
    run(&["account", "add", "cloud", &board.url, "--user", "board"], &[("Password", "board-pw")]);
    assert!(run(&["calendar", "list"], &[]).contains("/office/calendars/presses/"));
    let told = run(&["calendar", "add", "presses", "--account", "packhouse", "--name", "Pres hall"], &[]);
    assert!(told.contains("chestnut calendar list packhouse"), "{told}");
    run(&["calendar", "add", "presses", "--account", "packhouse", "--name", "Press hall"], &[]);
    run(&["calendar", "create", "cloud", "Notice board", "--as", "board"], &[]);
    assert!(run(&["check"], &[]).contains("no route uses it"));
    let told = run(
        &["route", "add", "bookings"],
        &[
            ("Which calendar is read?", "3"),
            ("Type a number from 1 to 2", "presses"),
            ("Which calendar receives the copies?", "board"),
            ("Who looks at board", "everything"),
            ("come back to presses?", "perhaps"),
            ("Type yes or no.", "yes"),
            ("Which entries?", "1"),
            ("delete it on the other too?", "yes"),
            ("Copy tasks as well as events?", "no"),
        ],
    );
    assert!(told.contains("chestnut preview bookings"), "{told}");
    assert!(run(&["preview"], &[]).contains("to create in board"));
    let told = run(&["sync"], &[("(yes or no)", "well"), ("Type yes or no.", "no")]);
    assert!(told.contains("was not begun"), "{told}");
    assert!(run(&["sync"], &[("(yes or no)", "yes")]).contains("done"));
    assert!(run(&["probe", "bookings"], &[]).contains("nothing of the test entry is left"));
    assert!(run(&["compare"], &[]).contains("in step"));
    // Both sides change one entry, and the route asks.
    assert!(run(&["route", "edit", "bookings", "disagree=hodl"], &[]).contains("\"hold\""));
    run(&["route", "edit", "bookings", "disagree=hold"], &[]);
    let name = |site: &Site, calendar: &str, old: &str, new: &str| {
        site.with(|server| {
            let texts = server.texts(calendar);
            let (href, text) = texts.iter().find(|(_, text)| text.contains(old)).expect("the entry");
            server.store(calendar, href, &text.replace(old, new));
        });
    };
    let far = board.with(|server| server.collections.keys().next().expect("a calendar").clone());
    name(&office, PRESSES, "SUMMARY:Picking", "SUMMARY:Office: picking");
    name(&board, &far, "SUMMARY:Picking", "SUMMARY:Board: picking");
    assert!(run(&["sync"], &[]).contains("chestnut held"));
    let told = run(&["held"], &[]);
    assert!(told.contains("Office: picking") && told.contains("Board: picking"), "{told}");
    let told = run(&["decide", "1"], &[("Answer", "nobody"), ("Type", "board")]);
    assert!(told.contains("what board says will count"), "{told}");
    assert!(run(&["preview"], &[]).contains("your decision 1"));
    let told = run(&["sync", "-v"], &[]);
    assert!(told.contains("Title: Office: picking"), "{told}");
    assert!(
        office.with(|server| server
            .texts(PRESSES)
            .values()
            .any(|text| text.contains("SUMMARY:Board: picking")))
    );
    // It was a mistake.
    let history = desk.run(&["history", "--json"]).json();
    let last = history["runs"][0]["run"].to_string();
    assert!(run(&["undo", &last], &[("(yes or no)", "no")]).contains("nothing was taken back"));
    let told = run(&["undo", &last], &[("(yes or no)", "yes")]);
    assert!(told.contains("chestnut route resume bookings"), "{told}");
    assert!(
        office.with(|server| server
            .texts(PRESSES)
            .values()
            .any(|text| text.contains("SUMMARY:Office: picking")))
    );
    assert!(run(&["histroy"], &[]).contains("`chestnut history`"));
}
