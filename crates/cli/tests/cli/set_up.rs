//! A folder with a configuration, two servers, and the program.

use std::path::{Path, PathBuf};
use std::process::Output;
use std::sync::Arc;

use chestnut_standin::{Server, Site, orchard_entries, serve_on_thread};
use chestnut_testkit::{hermetic, standin_now};
use tempfile::TempDir;

pub(crate) const PROGRAM: &str = env!("CARGO_BIN_EXE_chestnut");

/// The job: a source, a far side, and a configuration for a route between them.
pub(crate) struct SetUp {
    pub(crate) folder: TempDir,
    pub(crate) source: Site,
    pub(crate) target: Site,
}

pub(crate) const PRESSES: &str = "/office/calendars/presses/";
pub(crate) const BOARD: &str = "/board/calendars/board/";

/// What a run of the program left behind.
#[derive(Debug)]
pub(crate) struct Told {
    pub(crate) code: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Told {
    pub(crate) fn of(output: Output) -> Self {
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("UTF-8");
        Self {
            code: output.status.code().expect("a status"),
            out: text(output.stdout),
            err: text(output.stderr),
        }
    }

    /// Everything that was said, on one line.
    pub(crate) fn said(&self) -> String {
        let words = format!("{} {}", self.out, self.err);
        words.split_whitespace().collect::<Vec<_>>().join(" ")
    }

    pub(crate) fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("{e}: {self:?}"))
    }
}

impl SetUp {
    pub(crate) fn new(entries: usize) -> Self {
        let mut source = Server::new(&["office"], standin_now() - 86_400_000);
        let path = source.add_calendar("office", "presses", "Press hall", "#b5651d");
        for entry in orchard_entries(entries, jiff::civil::date(2026, 10, 5)) {
            source.store(&path, &entry.name, &entry.text);
        }
        let mut target = Server::new(&["board"], standin_now() - 86_400_000);
        target.add_calendar("board", "board", "Notice board", "#3366aa");
        Self::with(source, target)
    }

    pub(crate) fn with(source: Server, target: Server) -> Self {
        let sites = serve_on_thread(vec![source, target], Arc::new(standin_now)).expect("servers");
        let [source, target]: [Site; 2] = sites.try_into().expect("two servers");
        let folder = TempDir::new().expect("a folder");
        let set_up = Self { folder, source, target };
        for (user, name) in [("office", "office.password"), ("board", "board.password")] {
            set_up.private(name, &format!("{user}-pw\n"));
        }
        // A fixed key, so that copies have the same UIDs in every run of the tests.
        set_up.private("chestnut.key", &"7b".repeat(32));
        set_up.configure(&set_up.standard());
        set_up
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn private(&self, name: &str, text: &str) {
        std::fs::write(self.path(name), text).expect("written");
        #[cfg(unix)]
        {
            use std::os::unix::fs::PermissionsExt as _;
            std::fs::set_permissions(self.path(name), std::fs::Permissions::from_mode(0o600))
                .expect("rights");
        }
    }

    pub(crate) fn configure(&self, text: &str) {
        std::fs::write(self.path("chestnut.toml"), text).expect("written");
    }

    pub(crate) fn standard(&self) -> String {
        format!(
            r#"timezone = "Europe/Ljubljana"

[account.packhouse]
url = "{}"
user = "office"
password = {{ file = "office.password" }}

[account.cloud]
url = "{}"
user = "board"
password = {{ file = "board.password" }}

[calendar.presses]
account = "packhouse"
path = "{PRESSES}"

[calendar.board]
account = "cloud"
name = "Notice board"

[route.presses-to-board]
from = "presses"
to = "board"
only = {{ kinds = ["events", "tasks"] }}
"#,
            self.source.url, self.target.url
        )
    }

    pub(crate) fn run(&self, arguments: &[&str]) -> Told {
        let mut command = hermetic(Path::new(PROGRAM), self.folder.path());
        let output = command.args(begun(arguments)).output();
        let mut told = Told::of(output.expect("the program runs"));
        // Ports differ from run to run.
        for (site, name) in [(&self.source, "http://packhouse/"), (&self.target, "http://cloud/")] {
            let at = site.url.trim_start_matches("http://").trim_end_matches('/');
            let host = name.trim_start_matches("http://").trim_end_matches('/');
            for text in [&mut told.out, &mut told.err] {
                *text = text.replace(&site.url, name).replace(at, &format!("{host}:80"));
            }
        }
        told
    }

    /// Runs at another moment than usual.
    pub(crate) fn at(&self, now: &str, arguments: &[&str]) -> Told {
        let mut command = hermetic(Path::new(PROGRAM), self.folder.path());
        Told::of(command.env("CHESTNUT_NOW", now).args(arguments).output().expect("the program runs"))
    }

    /// Runs, and expects exit status 0.
    pub(crate) fn ok(&self, arguments: &[&str]) -> Told {
        let told = self.run(arguments);
        assert_eq!(told.code, 0, "{arguments:?}: {told:?}");
        told
    }

    /// Returns stdout, stderr and status in one text, for snapshots.
    pub(crate) fn shown(&self, arguments: &[&str]) -> String {
        let told = self.run(arguments);
        format!("{}{}(status {})", told.out, told.err, told.code)
    }

    pub(crate) fn edit(&self, name: &str, from: &str, to: &str) {
        self.source.with(|server| {
            let text = server.texts(PRESSES).remove(name).expect("the entry is there");
            assert!(text.contains(from), "{from} is not in {text}");
            server.store(PRESSES, name, &text.replace(from, to));
        });
    }
}

/// New routes ask before their first write; tests are nobody who could be asked.
pub(crate) fn begun<'a>(arguments: &[&'a str]) -> Vec<&'a str> {
    let mut arguments = arguments.to_vec();
    if arguments.first() == Some(&"sync") && arguments.last() != Some(&"--unasked") {
        arguments.push("--yes");
    }
    arguments.retain(|argument| *argument != "--unasked");
    arguments
}
