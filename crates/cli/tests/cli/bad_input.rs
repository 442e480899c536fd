//! Whatever is wrong outside: one sentence with account, calendar or entry, the cause, and the next step.

use std::path::Path;
use std::process::{Child, Stdio};
use std::time::Duration;

use chestnut_standin::{Fault, FaultKind};
use chestnut_store::Store;
use chestnut_testkit::hermetic;

use crate::set_up::{BOARD, PRESSES, PROGRAM, SetUp, Told, begun};

#[test]
fn what_is_wrong_outside_is_told_with_what_to_do() {
    let html =
        FaultKind::Body { code: 200, content_type: "text/html".into(), text: "<html>Sign in</html>".into() };
    type Spoil = Box<dyn Fn(&SetUp)>;
    let replace = |from: &'static str, to: &'static str| -> Spoil {
        Box::new(move |s| s.configure(&s.standard().replacen(from, to, 1)))
    };
    let url = |to: &'static str| -> Spoil {
        Box::new(move |s| s.configure(&s.standard().replace(&s.source.url, to)))
    };
    let table: Vec<(&str, Spoil, &str, &str)> = vec![
        (
            "unreachable host",
            url("http://127.0.0.1:1/"),
            "calendar presses (account packhouse): nothing answers at 127.0.0.1:1",
            "that the server is running",
        ),
        ("unknown host", url("http://packhouse.invalid/"), "account packhouse", "plain-http"),
        (
            "wrong password",
            Box::new(|s| s.private("office.password", "wrong\n")),
            "account packhouse: the server refuses the user name or the password",
            "app password",
        ),
        (
            "empty password",
            Box::new(|s| s.private("office.password", "\n")),
            "account packhouse: the password is empty",
            "",
        ),
        (
            "no password file",
            Box::new(|s| std::fs::remove_file(s.path("office.password")).expect("removed")),
            "account packhouse: the password file",
            "",
        ),
        (
            "no CalDAV server",
            Box::new(move |s| {
                s.source.with(|server| server.faults = vec![Fault::always("PROPFIND", html.clone())])
            }),
            "gave no CalDAV answer",
            "Nothing was changed",
        ),
        (
            "no such calendar",
            replace("/office/calendars/presses/", "/office/calendars/pressed/"),
            "calendar presses (account packhouse): there is nothing at http://packhouse/office/calendars/pressed/ (404)",
            "`chestnut calendar list packhouse`",
        ),
        (
            "no such name",
            replace("\"Notice board\"", "\"Notices\""),
            "calendar board: account cloud has no calendar named \"Notices\"",
            "`chestnut calendar list cloud`",
        ),
        (
            "a damaged state",
            Box::new(|s| {
                std::fs::write(s.path("chestnut.state"), "no database, but long enough to look")
                    .expect("written")
            }),
            "cannot be read",
            "Move the state file away",
        ),
    ];
    for (what, spoil, message, hint) in table {
        let set_up = SetUp::new(3);
        spoil(&set_up);
        let told = set_up.run(&["sync"]);
        assert!(told.code == 1 || told.code == 2, "{what}: {told:?}");
        assert!(told.err.contains("Error: ") && told.err.contains(message), "{what}: {}", told.err);
        assert!(
            told.err.contains("Hint: ") != hint.is_empty() && told.err.contains(hint),
            "{what}: {}",
            told.err
        );
        assert!(!format!("{told:?}").contains("office-pw"), "{what}");
    }
}

#[test]
fn a_password_file_that_others_may_read_is_refused() {
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        let set_up = SetUp::new(1);
        let path = set_up.path("office.password");
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o644)).expect("rights");
        let told = set_up.run(&["sync"]);
        assert!(told.code != 0 && told.err.contains("Hint: Fix it with: chmod 600 "), "{told:?}");
    }
}

#[test]
fn an_unreadable_entry_is_named_and_the_good_ones_go_through() {
    let set_up = SetUp::new(5);
    set_up
        .source
        .with(|server| server.store_raw(PRESSES, "bad.ics", "BEGIN:VCALENDAR\r\nnonsense\r\n".into()));
    let told = set_up.ok(&["sync"]);
    assert!(told.out.contains("left out: 1 entry that cannot be read"), "{told:?}");
    assert!(told.out.contains("bad.ics: line 2, column 9: a line without a name and a colon"), "{told:?}");
    let told = set_up.ok(&["preview", "-v", "--json"]);
    let left_out = &told.json()["previews"][0]["left_out"][0];
    assert_eq!(left_out["why"], "unreadable");
    assert_eq!(left_out["title"], "bad.ics");
}

#[test]
fn a_second_run_at_the_same_time_waits_for_the_first() {
    let set_up = SetUp::new(3);
    let state = set_up.path("chestnut.state");
    let (tell, hear) = std::sync::mpsc::channel();
    let other = std::thread::spawn(move || {
        let store = Store::open(&state).expect("the state");
        let lease = store.lease("route presses-to-board").expect("the lease");
        tell.send(()).expect("heard");
        std::thread::sleep(std::time::Duration::from_millis(700));
        drop(lease);
    });
    hear.recv().expect("it is held");
    let began = std::time::Instant::now();
    set_up.ok(&["sync"]);
    assert!(began.elapsed().as_millis() > 500, "it waited");
    other.join().expect("it ended");
}

/// Processes beside one another on one state: whoever changes something waits, whoever looks does not, and nothing is
/// done twice.
#[test]
fn several_processes_at_once_do_everything_once() {
    let entries = 12;
    let late =
        || vec![Fault::always("PUT", FaultKind::Delay(150)), Fault::always("DELETE", FaultKind::Delay(150))];
    let created =
        |told: &Told| told.json()["runs"][0]["calendars"]["board"]["created"].as_u64().expect("a number");
    let set_up = SetUp::new(entries);
    let at_once = |arguments: &'static [&'static str]| {
        let mut command = hermetic(Path::new(PROGRAM), set_up.folder.path());
        command.args(begun(arguments)).stdout(Stdio::piped()).stderr(Stdio::piped());
        command.spawn().expect("it starts")
    };
    let ended = |child: Child| Told::of(child.wait_with_output().expect("it ends"));
    set_up.target.with(|server| server.faults = late());
    let syncs = [at_once(&["sync", "--json"]), at_once(&["sync", "--json"])];
    while set_up.target.with(|server| server.texts(BOARD).is_empty()) {
        std::thread::sleep(Duration::from_millis(10));
    }
    for looking in
        [&["status"][..], &["history"], &["held"], &["preview"], &["agenda", "board"], &["route", "list"]]
    {
        let told = set_up.run(looking);
        assert!(told.code == 0 || told.code == 3, "{looking:?}: {told:?}");
        assert!(!told.err.contains("locked"), "{told:?}");
    }
    let told = syncs.map(ended);
    assert!(told.iter().all(|told| told.code == 0), "{told:?}");
    let sum: u64 = told.iter().map(created).sum();
    let standing = || set_up.target.with(|server| server.texts(BOARD).len());
    assert_eq!((sum, standing()), (entries as u64, entries), "{told:?}");
    // A route that is retired while it runs: first the one, then the other.
    set_up.edit("orchard-0005.ics", "SUMMARY:", "SUMMARY:Changed ");
    let sync = at_once(&["sync", "--json"]);
    let retire = at_once(&["route", "retire", "presses-to-board", "--remove-copies", "--yes"]);
    let (sync, retire) = (ended(sync), ended(retire));
    assert!(retire.code == 0, "{retire:?} {sync:?}");
    // Whoever came first: what is there is what the last one left.
    assert!([0, entries].contains(&standing()), "{} {sync:?} {retire:?}", standing());
    assert!([0, 2, 3].contains(&sync.code), "{sync:?}");
}

#[test]
fn hostile_titles_do_not_reach_the_terminal_and_secrets_go_nowhere() {
    let set_up = SetUp::new(3);
    set_up.edit("orchard-0000.ics", "SUMMARY:Press hall", "SUMMARY:\u{1b}[31mred\u{202e}\u{7}Press hall");
    for arguments in
        [&["preview"][..], &["sync", "-vv"], &["history", "1"], &["account", "test"], &["sync", "--json"]]
    {
        let told = set_up.run(arguments);
        assert_eq!(told.code, 0, "{told:?}");
        let all = format!("{}{}", told.out, told.err);
        assert!(!all.contains(['\u{1b}', '\u{7}', '\u{202e}']), "{all:?}");
        assert!(!all.contains("office-pw") && !all.contains("b2ZmaWNl"), "{all}");
    }
    for file in std::fs::read_dir(set_up.folder.path()).expect("the folder") {
        let path = file.expect("a file").path();
        let bytes = std::fs::read(&path).expect("read");
        let secret = path.extension().is_some_and(|e| e == "password");
        assert!(secret || !bytes.windows(9).any(|w| w == b"office-pw"), "{}", path.display());
    }
}

/// However few files may be open, the program ends with a word of its own.
#[cfg(target_os = "linux")]
#[test]
fn few_open_files_are_an_error_and_no_panic() {
    let set_up = SetUp::new(1);
    let home = set_up.folder.path();
    for number in 4..24 {
        for command in ["sync --yes", "status", "compare", "calendar list"] {
            let program = env!("CARGO_BIN_EXE_chestnut");
            let line = format!("ulimit -n {number}; exec {program} {command}");
            let mut shell = hermetic(std::path::Path::new("/bin/sh"), home);
            let output = shell.args(["-c", &line]).output().expect("a shell");
            let words = String::from_utf8_lossy(&output.stderr);
            // Below that not even the system's own library can be loaded.
            let is_of_the_system = words.contains("error while loading shared libraries");
            let code = output.status.code().unwrap_or(101);
            assert!(
                is_of_the_system || code <= 3 && !words.contains("panicked"),
                "{number} {command}: {code} {words}"
            );
        }
    }
}

/// What is wrong with this machine is told, and nothing is replaced or guessed.
#[cfg(target_os = "linux")]
#[test]
fn a_link_that_leads_nowhere_stays_and_an_unknown_zone_is_an_error() {
    let set_up = SetUp::new(2);
    let link = set_up.path("kiosk.ics");
    std::os::unix::fs::symlink(set_up.path("nowhere/kiosk.ics"), &link).expect("a link");
    let to = "[calendar.kiosk]\nfile = \"kiosk.ics\"\n[route.presses-to-kiosk]\nfrom = \"presses\"\nto = \"kiosk\"\n";
    set_up.configure(&format!("{}{to}", set_up.standard()));
    let told = set_up.run(&["sync", "presses-to-kiosk"]);
    assert!(told.code == 1 && told.said().contains("kiosk.ics failed: No such file"), "{}", told.said());
    assert!(link.is_symlink() && !link.exists());
    let standard = set_up.standard().replacen("timezone", "# timezone", 1);
    set_up.configure(&standard);
    let mut command = hermetic(Path::new(PROGRAM), set_up.folder.path());
    let told = Told::of(command.args(["preview"]).env("TZ", "Mars/Base").output().expect("it runs"));
    assert!(told.code == 2 && told.err.contains("TZ is \"Mars/Base\""), "{}", told.said());
}

#[test]
fn what_is_no_command_or_option_leads_to_the_one_that_was_meant() {
    let set_up = SetUp::new(0);
    for (typed, what, meant) in [
        ("statsu", "`chestnut` has no command `statsu`", "Did you mean `chestnut status`?"),
        ("account tset", "`chestnut account` has no command `tset`", "Did you mean `chestnut account test`?"),
        ("--json show", "no command `show`", "Perhaps one of `chestnut status`, `chestnut route list`"),
        (
            "init --aks",
            "`chestnut init` has no option `--aks`",
            "Did you mean `--ask`? `chestnut init --help`",
        ),
        ("sync --afresh --afresh", "`--afresh` is given twice", "Give it once."),
        ("route add x --form presses", "`chestnut route add` has no option `--form`", "`--from`"),
        ("held --jsno", "no option `--jsno`", "`--json`"),
        ("--config status sync -z", "`chestnut sync` has no option `-z`", ""),
        ("sync -z", "no option `-z`", "Hint: `chestnut sync --help` shows"),
        ("sync --q", "no option `--q`", "Hint: `chestnut sync --help` shows"),
        ("fro\u{1b}[2Jnicate", "no command `fro\u{fffd}[2Jnicate`", "Hint: `chestnut --help` shows"),
        ("held 3", "`chestnut held` takes no `3`", "`chestnut decide 3` shows the question"),
        ("init a b", "`chestnut init` takes no `b`", "`chestnut init --help`"),
        ("why", "`chestnut why` needs <WORDS>...", "For example: `chestnut why"),
        ("report --since", "needs a value", "For example: `chestnut report"),
        ("held --color alwys", "`alwys` is not a value of `--color <WHEN>`", "Did you mean `always`?"),
        ("decide x", "`x` does not fit `<NUMBER>`: type its number", "`chestnut decide --help`"),
        ("sync -q -v", "`--quiet` cannot be used with `--verbose...`", "`chestnut sync --help`"),
        ("history --since yesterday", "no such run", ""),
        ("history --since monday", "no such run", ""),
        ("history --since Mon 5 Oct", "no such run", ""),
        ("history --since soon", "`soon` is neither a day nor a length of time", ""),
    ] {
        let (typed, since) = match typed.split_once("--since ") {
            Some((command, since)) => (format!("{command}--since"), Some(since)),
            None => (typed.to_owned(), None),
        };
        let told = set_up.run(&typed.split(' ').chain(since).collect::<Vec<_>>());
        let lines = told.err.replace('\n', " ");
        assert!(told.code != 0 && lines.contains(what) && lines.contains(meant), "{typed}: {told:?}");
    }
}
