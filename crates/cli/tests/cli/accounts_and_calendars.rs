//! From nothing to a route by commands: the configuration is written, comments kept, nothing saved untested.

use std::sync::Arc;

use chestnut_standin::{Fault, FaultKind, Habit, Server, Share, Site, serve_on_thread};
use chestnut_testkit::standin_now;

use crate::desk::Desk;

fn office() -> Site {
    let mut server = Server::new(&["office", "crews"], standin_now() - 86_400_000);
    let presses = server.add_calendar("office", "presses", "Press hall", "#b5651d");
    let crews = server.add_calendar("crews", "picking", "Picking crews", "");
    server.collections.get_mut(&crews).expect("a calendar").shares.insert("office".into(), Share::Read);
    let event = |uid: &str, kind: &str| {
        format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//orchard//EN\r\nBEGIN:{kind}\r\nUID:{uid}\r\nDTSTAMP:20260901T060000Z\r\nDTSTART:20261010T080000Z\r\nSUMMARY:{uid}\r\nEND:{kind}\r\nEND:VCALENDAR\r\n"
        )
    };
    for (name, kind) in [("a", "VEVENT"), ("b", "VEVENT"), ("c", "VTODO")] {
        server.store(&presses, &format!("{name}.ics"), &event(name, kind));
    }
    serve_on_thread(vec![server], Arc::new(standin_now)).expect("a server").remove(0)
}

const FROM_FILE: &[&str] = &["--user", "office", "--password-from", "file:office.password"];

fn add<'a>(name: &'a str, url: &'a str, more: &[&'a str]) -> Vec<&'a str> {
    [&["account", "add", name, url], more].concat()
}

#[test]
fn the_way_from_an_address_to_a_synchronised_calendar() {
    let site = office();
    let desk = Desk::new();
    let shown = |arguments: &[&str]| {
        let told = desk.run(arguments);
        let folder = desk.folder.path().canonicalize().expect("a folder").display().to_string();
        format!("$ chestnut {}\n{}{}(status {})\n", arguments.join(" "), told.out, told.err, told.code)
            .replace(&site.url, "http://packhouse/")
            .replace(site.url.trim_start_matches("http://").trim_end_matches('/'), "127.0.0.1:80")
            .replace(&folder, "/orchard")
    };
    let mut story = shown(&["init"]);
    story += &shown(&["init"]);
    story += &shown(&["sync"]);
    story += &shown(&add("packhouse", &site.url, FROM_FILE));
    story += &shown(&add("packhouse", &site.url, FROM_FILE));
    story += &shown(&["account", "list"]);
    story += &shown(&[
        "calendar",
        "create",
        "packhouse",
        "Notice board",
        "--calendar-color",
        "#3366AA",
        "--kinds",
        "events,tasks",
        "--as",
        "board",
    ]);
    story += &shown(&["calendar", "create", "packhouse", "Notice board"]);
    story += &shown(&["calendar", "add", "presses", "--account", "packhouse", "--name", "Press hall"]);
    story += &shown(&[
        "calendar",
        "add",
        "nowhere",
        "--account",
        "packhouse",
        "--path",
        "/office/calendars/pressed/",
    ]);
    story += &shown(&["calendar", "add", "kiosk", "--file", "kiosk.ics"]);
    let with_route =
        desk.read("chestnut.toml") + "\n# By hand.\n[route.board]\nfrom = \"presses\"\nto = \"board\"\n";
    desk.write("chestnut.toml", with_route);
    story += &shown(&["sync"]);
    story += &shown(&["calendar", "list"]);
    story += &shown(&["calendar", "rename", "presses", "Press hall, north", "--on-server", "--yes"]);
    story += &shown(&["calendar", "rename", "kiosk", "Kiosk"]);
    story += &shown(&["preview"]);
    story += &shown(&["account", "forget", "packhouse"]);
    insta::assert_snapshot!("the_way_from_an_address", story);
    insta::assert_snapshot!(
        "the_configuration_that_was_written",
        desk.read("chestnut.toml")
            .replace(&site.url, "http://packhouse/")
            .replace(&desk.folder.path().display().to_string(), "/orchard")
    );
}

#[test]
fn nothing_is_saved_that_does_not_work_and_nothing_is_lost() {
    let site = office();
    let desk = Desk::new();
    let before =
        "# Mine.\ntimezone = \"Europe/Ljubljana\"   # here\n\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n";
    desk.write("chestnut.toml", before);
    desk.private("wrong.password", "wrong\n");
    let wrong = ["--user", "office", "--password-from", "file:wrong.password"];
    let told = desk.run(&add("packhouse", &site.url, &wrong));
    assert_eq!(told.code, 1);
    assert!(told.said().contains("Nothing was saved. Check user and password"), "{}", told.err);
    for (arguments, problem) in [
        (add("pack house", &site.url, FROM_FILE), "is not a valid name for an account"),
        (
            add("packhouse", "https://office:pw@packhouse.example/", FROM_FILE),
            "must not hold user or password",
        ),
        (add("packhouse", &site.url, &["--user", "office"]), "the password cannot be asked for"),
        (
            add("packhouse", &site.url, &["--user", "office", "--password-from", "office-pw"]),
            "does not say where the secret is kept",
        ),
        #[cfg(not(feature = "keyring"))]
        (
            add("packhouse", &site.url, &["--user", "office", "--password-from", "keyring"]),
            "cannot be kept in a keyring",
        ),
        (vec!["calendar", "add", "kiosk", "--file", "other.ics"], "there is a calendar `kiosk` already"),
        (vec!["calendar", "add", "x", "--path", "/a/", "--account", "nobody"], "has no account"),
        (vec!["calendar", "add", "x", "--feed", "ftp://markets.example/days.ics"], "not a feed address"),
        (vec!["calendar", "add", "x", "--file", "."], "is a folder"),
        (vec!["init"], "chestnut.toml exists already"),
        (vec!["init", "--ask"], "nobody can be asked"),
        (vec!["account", "login", "nobody"], "has no account"),
    ] {
        let told = desk.run(&arguments);
        assert!(told.code == 2 && told.err.contains(problem), "{arguments:?}: {told:?}");
        assert!(told.err.contains("Hint: ") && !told.err.contains("office-pw\""), "{told:?}");
        assert_eq!(desk.read("chestnut.toml"), before, "{arguments:?}");
    }
    let told = desk.run(&["calendar", "create", "packhouse", "X", "--calendar-color", "reddish"]);
    assert!(told.code == 2 && told.err.contains("write it as \"#b5651d\""), "{told:?}");
    desk.ok(&add("packhouse", &site.url, FROM_FILE));
    let after = desk.read("chestnut.toml");
    assert!(after.starts_with(before), "{after}");
    desk.ok(&["account", "forget", "packhouse"]);
    assert_eq!(desk.read("chestnut.toml").trim_end(), before.trim_end());
    // A password file of one's own is not Chestnut's to delete.
    assert!(desk.path("office.password").exists());
}

#[test]
fn calendars_are_made_on_every_sort_of_server() {
    for habits in
        [vec![], vec![Habit::NoMkcalendar], vec![Habit::ForgetfulMkcalendar], vec![Habit::AlphaColors]]
    {
        let site = office();
        site.with(|server| server.habits = habits.iter().copied().collect());
        let desk = Desk::new();
        desk.account(&site.url, "");
        let create = [
            "calendar",
            "create",
            "packhouse",
            "Süßmost & Kisten",
            "--calendar-color",
            "#3366aa",
            "--kinds",
            "tasks",
            "--json",
        ];
        let made = desk.ok(&create).json();
        assert_eq!(
            (&made["name"], &made["path"]),
            (&"Süßmost & Kisten".into(), &"/office/calendars/s-most-kisten/".into())
        );
        let forgets = habits.contains(&Habit::ForgetfulMkcalendar);
        assert_eq!(made["differs"].as_array().is_none_or(Vec::is_empty), !forgets, "{made}");
        let list = desk.ok(&["calendar", "list", "--json"]).json();
        let calendars = list["accounts"][0]["calendars"].as_array().expect("calendars").clone();
        let of = |path: &str| calendars.iter().find(|c| c["path"] == path).expect(path).clone();
        let presses = of("/office/calendars/presses/");
        assert_eq!((&presses["entries"]["events"], &presses["entries"]["tasks"]), (&2.into(), &1.into()));
        assert_eq!((&presses["rights"], &presses["shared"]), (&"read, write".into(), &false.into()));
    }
    let site = office();
    let desk = Desk::new();
    desk.account(&site.url, "");
    desk.ok(&["calendar", "add", "crews", "--account", "packhouse", "--path", "/crews/calendars/picking/"]);
    let list = desk.ok(&["calendar", "list"]);
    assert!(list.out.contains("read only, shared"), "{}", list.out);
    // Somebody else's calendar cannot be renamed; it is said, and nothing changes.
    let told = desk.run(&["calendar", "rename", "crews", "Mine", "--on-server", "--yes"]);
    assert!(told.code == 1 && told.err.contains("does not allow this"), "{told:?}");
    // A server that agrees, and does nothing.
    let agrees = "<d:multistatus xmlns:d=\"DAV:\"><d:response><d:href>/crews/calendars/picking/</d:href><d:propstat><d:prop>\
         <d:displayname/></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response></d:multistatus>";
    let lie = FaultKind::Body { code: 207, content_type: "application/xml".into(), text: agrees.into() };
    site.with(|server| server.faults.push(Fault::once("PROPPATCH", lie)));
    let told = desk.run(&["calendar", "rename", "crews", "Mine", "--on-server", "--yes"]);
    assert!(told.code == 1 && told.err.contains("but still calls it"), "{told:?}");
}

/// `init --ask`, typed at a terminal.
#[cfg(unix)]
#[test]
fn questions_lead_from_nothing_to_a_preview() {
    let site = office();
    let desk = Desk::new();
    let mut command = desk.command(&["init", "--ask"]);
    command.env("TERM", "xterm").env("TZ", "UTC");
    let mut terminal = rexpect::session::spawn_command(command, Some(20_000)).expect("a terminal");
    let mut answer = |question: &str, line: &str| {
        terminal.exp_string(question).unwrap_or_else(|e| panic!("{question}: {e}"));
        terminal.send_line(line).expect("typed");
    };
    answer("Your time zone", "Europe/Ljublana");
    answer("Did you mean Europe/Ljubljana?", "Europe/Ljubljana");
    answer("Which? (1 to 3)", "maybe");
    answer("Type a number from 1 to 3, or the beginning of a name", "a calendar");
    answer("Address of the server", &site.url);
    answer("User name", "office");
    answer("Password", "wrong");
    // What was refused is asked for again, and nothing else; it still does not show.
    answer("server refused this password. Password (u: other user, a: other address)", "u");
    answer("User name", "office");
    answer("Password", "office-pw");
    answer("Name of this account here", "packhouse");
    answer("Which calendar of packhouse? (1 to 2)", "2");
    answer("Name of this calendar here", "presses");
    answer("Which? (1 to 3)", "1");
    answer("Which calendar of packhouse? (1 to 2)", "press");
    answer("is in the configuration already, as presses.", "a calendar of");
    answer("Which calendar of packhouse? (1 to 2)", "1");
    answer("Its name on the server", "Copies");
    answer("Name of this calendar here", "copies");
    answer("Who looks at copies, and what may they see?", "some");
    answer("Which details?", "titel, location");
    answer("Did you mean `title`?", "title, location");
    answer("Do changes made in copies come back to presses?", "yonder");
    answer("Type yes or no.", "no");
    answer("Which entries?", "1");
    answer("When an entry is deleted in presses, delete its copy too?", "yes");
    answer("Copy tasks as well as events?", "yes");
    answer("Name of this route here", "presses-to-copies");
    terminal.exp_string("timezone = \"Europe/Ljubljana\"").expect("the zone");
    terminal.exp_string("[route.presses-to-copies]").expect("what would be written");
    terminal.exp_string("carry = { details = [\"title\", \"location\"] }").expect("what they may see");
    terminal.exp_string("will be created on packhouse").expect("what would be made");
    terminal.exp_string("3 to create in copies").expect("what the first sync would do");
    terminal.exp_string("Write this?").expect("the last question");
    // Up to here nothing was written, here or there.
    assert!(!desk.path("chestnut.toml").exists() && !desk.path("packhouse.password").exists());
    assert_eq!(site.with(|server| server.collections.len()), 2);
    terminal.send_line("yes").expect("typed");
    terminal.exp_string("chestnut preview").expect("the next command");
    let told = terminal.exp_eof().expect("it ends");
    assert!(!told.contains("office-pw"));
    let preview = desk.ok(&["preview", "--json"]).json();
    assert_eq!(preview["previews"][0]["create"], 3);
    desk.ok(&["sync"]);
    let configuration = desk.read("chestnut.toml");
    assert!(configuration.starts_with("timezone = \"Europe/Ljubljana\"\n"), "{configuration}");
    assert!(configuration.contains("password = { file = \"packhouse.password\" }"), "{configuration}");
    use std::os::unix::fs::PermissionsExt as _;
    let mode = std::fs::metadata(desk.path("packhouse.password")).expect("a file").permissions().mode();
    assert_eq!((mode & 0o777, desk.read("packhouse.password").as_str()), (0o600, "office-pw\n"));
}

/// Another password, typed at a terminal: one that does not work is not kept.
#[cfg(unix)]
#[test]
fn another_password_is_tried_before_it_is_kept() {
    let site = office();
    let desk = Desk::new();
    desk.ok(&add("packhouse", &site.url, FROM_FILE));
    site.with(|server| drop(server.users.insert("office".into(), "cider".into())));
    let told = desk.run(&["account", "password", "packhouse"]);
    assert!(told.code == 2 && told.err.contains("terminal"), "{told:?}");
    for (password, says) in [("perry", "was not kept"), ("cider", "works, and is kept")] {
        let mut command = desk.command(&["account", "password", "packhouse"]);
        command.env("TERM", "xterm");
        let mut terminal = rexpect::session::spawn_command(command, Some(20_000)).expect("a terminal");
        terminal.exp_string("assword").expect("the question");
        terminal.send_line(password).expect("typed");
        terminal.exp_string(says).unwrap_or_else(|e| panic!("{password}: {e}"));
        terminal.exp_eof().expect("it ends");
        assert_eq!(desk.read("office.password").trim() == password, password == "cider");
    }
    desk.ok(&["account", "test"]);
    desk.ok(&["calendar", "add", "presses", "--account", "packhouse", "--name", "Press hall"]);
    let told = desk.run(&["sync", "presses", "--dry-run"]);
    assert!(told.code == 2 && told.err.contains("`chestnut preview presses`"), "{told:?}");
    desk.ok(&["calendar", "forget", "presses"]);
    assert!(!desk.read("chestnut.toml").contains("[calendar."));
}
