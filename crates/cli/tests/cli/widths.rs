//! What is shown fits the terminal, and without one nothing is cut.

use chestnut::{Environment, Io};
use chestnut_standin::orchard_entries;
use unicode_width::UnicodeWidthStr as _;

use crate::set_up::{PRESSES, SetUp};

/// Runs a command on a terminal of so many columns, or on none.
fn shown(set_up: &SetUp, words: &[&str], width: Option<usize>) -> String {
    let config = set_up.path("chestnut.toml").display().to_string();
    let mut arguments = vec!["chestnut", "--config", &config];
    arguments.extend(words);
    let (mut out, mut err) = (Vec::new(), Vec::new());
    let environment = Environment::default()
        .with("CHESTNUT_NOW", "2026-10-05T08:00:00Z")
        .with("HOME", set_up.folder.path());
    let screen = width.map(|width| (width, 40));
    let mut io = Io {
        out: &mut out,
        err: &mut err,
        color: width.is_some(),
        progress: false,
        can_ask: false,
        screen,
        environment,
        unsaid: String::new(),
    };
    io.progress = width.is_some();
    let _ = chestnut::run(&arguments, &mut io);
    let text = [out, err].concat();
    anstream::adapter::strip_str(&String::from_utf8(text).expect("UTF-8")).to_string()
}

#[test]
fn every_report_fits_the_terminal() {
    let set_up = SetUp::new(24);
    let titles = [
        "Versammlung der Genossenschaft über die Lieferung der Kisten an alle Marktstände im Unterland am Wochenende",
        "果園の会議：収穫の計画と箱の配達について、そして来週の市場の準備についての長い話し合い",
        "🍎🍏🍐 Picking 🧺🧺🧺 \u{1b}[31mred\u{7}\u{202e}drawkcab",
    ];
    for (entry, title) in orchard_entries(3, jiff::civil::date(2026, 10, 6)).iter().zip(titles) {
        let text = entry.text.replace("UID:", "UID:wide-");
        let line = text.lines().find(|line| line.starts_with("SUMMARY")).expect("a title").to_owned();
        let text = text.replace(&line, &format!("SUMMARY:{title}"));
        set_up.source.with(|server| server.store(PRESSES, &format!("wide-{}", entry.name), &text));
    }
    let name = "the-bookings-of-the-press-hall-for-everybody-at-the-notice-board-in-the-yard";
    let more = "[calendar.days]\nfile = \"days.ics\"\n[route.days]\nfrom = \"presses\"\nto = \"days\"\ncarry = \"busy\"\n\
                note = \"Ask the press hall before anything is changed here, and the van's driver as well\"\n\
                [route.back-and-forth]\nbetween = [\"board\", \"days\"]\n";
    let standard = set_up.standard().replace("[route.presses-to-board]", &format!("[route.{name}]"));
    set_up.configure(&format!("{standard}deletion-limit = 1\n{more}"));
    let run = |words: &[&str]| shown(&set_up, words, Some(100));
    let preview = run(&["preview"]);
    assert!(preview.contains("to create"), "{preview}");
    run(&["sync", "--yes", name, "days"]);
    for number in 1..=5 {
        set_up.source.with(|server| server.delete(PRESSES, &format!("orchard-000{number}.ics")));
    }
    set_up.target.with(|server| {
        let calendar = "/board/calendars/board/";
        let (href, text) = server.texts(calendar).into_iter().next_back().expect("a copy");
        server.store(calendar, &href, &text.replace("SUMMARY:", "SUMMARY:Changed "));
    });
    // This runs within the test's own process, whose folder is the source's.
    let [aside, kept, page, copy] = ["aside.ics", "board.ics", "page.html", "copy.state"]
        .map(|name| set_up.path(name).display().to_string());
    let commands: &[&[&str]] = &[
        &["preview", "-v"],
        &["preview", "--text", "van"],
        &["sync", name, "days", "-v"],
        &["check"],
        &["account", "list"],
        &["account", "test"],
        &["calendar", "list"],
        &["route", "list"],
        &["route", "show", name],
        &["status"],
        &["status", "-v"],
        &["held"],
        &["held", "-v"],
        &["history"],
        &["history", "1"],
        &["history", "2", "-v"],
        &["compare"],
        &["why", "Kisten"],
        &["why", "van"],
        &["probe", name],
        &["agenda", "--list"],
        &["agenda", "--week"],
        &["agenda", "--month"],
        &["free", "presses", "--for", "2h"],
        &["decide", "1", "keep"],
        &["undo", "1"],
        &["report"],
        &["state", "check"],
        &["account", "test", "nowhere"],
        &["calendar", "rename", "days", "Days"],
        &["sync", "bookings"],
        &["check", "--offline"],
        &["calendar", "doubles", "board"],
        &["calendar", "clear-copies", "board"],
        &["calendar", "clear-copies", "days", "--yes"],
        &["calendar", "add", "feed", "--feed", "http://127.0.0.1:1/a/long/way/to/a/feed/of/the/town.ics"],
        &["calendar", "add", "aside", "--file", &aside],
        &["calendar", "create", "cloud", "A calendar with a name that is long enough for everybody"],
        &["calendar", "rename", "board", "Notice board of the yard", "--on-server", "--yes"],
        &["calendar", "forget", "presses"],
        &["calendar", "forget", "aside"],
        &["account", "pause", "cloud"],
        &["status"],
        &["sync", name],
        &["account", "resume", "cloud"],
        &["account", "forget", "cloud"],
        &["account", "password", "packhouse"],
        &["account", "add", "more", "http://127.0.0.1:1/", "--user", "office", "--password-from", "file:x"],
        &["account", "move", "cloud", "http://127.0.0.1:1/", "--yes"],
        &["route", "add", "again", "--from", "presses", "--to", "aside"],
        &[
            "route",
            "edit",
            name,
            "every=45 minutes",
            "note=Ask the press hall, and the van's driver, before anything changes",
        ],
        &["route", "edit", name, "evry=1h"],
        &["route", "rename", "back-and-forth", "there-and-back-again-between-the-board-and-all-of-the-days"],
        &["route", "pause", name],
        &["sync", name],
        &["route", "resume", name],
        &["decide", "1"],
        &["decide", "1", "undo"],
        &["decide", "99"],
        &["history", "1", "--text"],
        &["history", name],
        &["snapshot", "board", &kept],
        &["restore", &kept],
        &["restore", &kept, "--exact", "--yes"],
        &["report", &page],
        &["report", "--text"],
        &["state", "backup", &copy],
        &["state", "move", "nowhere.state", "elsewhere.state"],
        &["init"],
        &["sync", "--dry-run"],
        &["agenda", "board", "days", "--beside", "--week"],
        &["undo", "1..", "--yes"],
        &["route", "retire", "days"],
        &["completions", "ksh"],
        &["snyc"],
    ];
    let helped = [
        "",
        "init",
        "account",
        "account add",
        "account test",
        "calendar",
        "calendar add",
        "calendar create",
        "route",
        "route add",
        "route edit",
        "check",
        "preview",
        "sync",
        "probe",
        "compare",
        "why",
        "held",
        "decide",
        "watch",
        "status",
        "report",
        "history",
        "undo",
        "snapshot",
        "restore",
        "agenda",
        "free",
        "demo",
        "state",
        "state move",
        "completions",
        "manual",
    ];
    let helped: Vec<Vec<&str>> =
        helped.iter().map(|path| path.split_whitespace().chain(["--help"]).collect()).collect();
    let mut wide = Vec::new();
    for words in commands.iter().copied().chain(helped.iter().map(Vec::as_slice)) {
        for width in [60, 80, 100, 160] {
            let text = shown(&set_up, words, Some(width));
            assert!(!text.trim().is_empty(), "{words:?}");
            for line in text.lines() {
                // What is copied stays whole.
                let is_one_word = line.split_whitespace().count() < 2 || line.trim().starts_with('`');
                if line.width() > width && !is_one_word {
                    wide.push(format!("{words:?} at {width}: {} {line}", line.width()));
                }
            }
        }
        let text = shown(&set_up, words, None);
        let told = text.replace("= …", "").replace("… and", "");
        // A mail has lines of its own length.
        assert!(
            *words == ["report", "--text"] || !told.contains('…'),
            "{words:?} cuts without a terminal: {text}"
        );
    }
    assert!(wide.is_empty(), "{}", wide.join("\n"));
}

#[test]
fn many_routes_are_summarised_on_a_terminal_and_whole_in_a_pipe() {
    let set_up = SetUp::new(1);
    let more: String = (0..44)
        .map(|at| format!("[calendar.copy-{at}]\nfile = \"copy-{at}.ics\"\n[route.row-{at}]\nfrom = \"presses\"\nto = \"copy-{at}\"\n"))
        .collect();
    set_up.configure(&format!("{}{more}", set_up.standard()));
    let lines = |words: &[&str], width: Option<usize>| {
        let text = shown(&set_up, words, width);
        (text.lines().filter(|line| line.contains("presses →")).count(), text)
    };
    assert_eq!(lines(&["status"], None).0, 45);
    let (routes, text) = lines(&["status"], Some(100));
    assert!(routes == 40 && text.contains("… and 5 more: chestnut status -v"), "{text}");
    assert!(text.contains("45 routes have not run yet"), "{text}");
    shown(&set_up, &["sync", "--yes"], Some(100));
    // What is in step is the less worth telling.
    shown(&set_up, &["route", "pause", "row-43"], Some(100));
    for words in [&["status"][..], &["route", "list"]] {
        let (routes, text) = lines(words, Some(100));
        assert!(routes == 1 && text.contains("row-43") && text.contains("… and 44 more: chestnut"), "{text}");
        assert_eq!(lines(&[words, &["-v"]].concat(), Some(100)).0, 45);
    }
    let text = shown(&set_up, &["sync", "-v"], Some(100));
    assert!(text.contains("row-42"), "{text}");
}
