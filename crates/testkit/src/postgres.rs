//! A real PostgreSQL for tests, where one is installed: started once for each process, with a database for whoever
//! asks.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, LazyLock};
use std::time::Duration;

use chestnut_store::PostgresPlace;

/// The program that runs another as somebody else, and ends it with this process.
const AS_OTHER: &str = "setpriv";
const USER: &str = "chestnut";

static SERVER: LazyLock<Option<Arc<PostgresServer>>> = LazyLock::new(PostgresServer::start);
static NEXT: AtomicU32 = AtomicU32::new(1);

/// A server of its own, which ends with this process.
#[derive(Debug)]
pub struct PostgresServer {
    programs: PathBuf,
    folder: PathBuf,
    process: AtomicU32,
}

/// A database of its own; it is dropped with this.
#[derive(Debug)]
pub struct TestDatabase {
    server: Arc<PostgresServer>,
    name: String,
}

/// Returns a new database; `None`, and a loud word, where PostgreSQL is not installed. Where `CI` is set, it
/// must be.
///
/// # Panics
/// There is none in CI, or it does not start.
#[must_use]
pub fn database(test: &str) -> Option<TestDatabase> {
    on_server(SERVER.clone(), test)
}

/// Returns a new database on a server that nobody else uses: it may be killed.
///
/// # Panics
/// As [`database`].
#[must_use]
pub fn lone_database(test: &str) -> Option<TestDatabase> {
    on_server(PostgresServer::start(), test)
}

fn on_server(server: Option<Arc<PostgresServer>>, test: &str) -> Option<TestDatabase> {
    let Some(server) = server else {
        assert!(std::env::var_os("CI").is_none(), "PostgreSQL must be there in CI");
        #[expect(clippy::print_stderr, reason = "a skipped test must say so")]
        {
            eprintln!("\n*** SKIPPED: {test}: PostgreSQL is not installed ***\n");
        }
        return None;
    };
    let name = format!("state_{}", NEXT.fetch_add(1, Ordering::Relaxed));
    server.sql("postgres", &format!("CREATE DATABASE {name}"));
    Some(TestDatabase { server, name })
}

impl TestDatabase {
    /// Where it is, with leases that last so many seconds.
    #[must_use]
    pub fn place(&self, lease: u32) -> PostgresPlace {
        PostgresPlace { url: self.url(), password: None, authorities: None, lease }
    }

    /// Its address.
    #[must_use]
    pub fn url(&self) -> String {
        let folder = self.server.folder.display().to_string().replace('/', "%2F");
        format!("postgres://{USER}@{folder}/{}", self.name)
    }

    /// Runs statements, and returns what they print.
    ///
    /// # Panics
    /// One fails.
    pub fn sql(&self, sql: &str) -> String {
        self.server.sql(&self.name, sql)
    }

    /// Ends all connections to it, in the middle of whatever they do.
    pub fn cut(&self) {
        let of = format!("datname = '{}' AND pid <> pg_backend_pid()", self.name);
        self.server
            .sql("postgres", &format!("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE {of}"));
    }

    /// Kills the server as a power cut would, and starts it again.
    pub fn crash(&self) {
        self.server.kill();
        std::thread::sleep(Duration::from_millis(200));
        drop(std::fs::remove_file(self.server.folder.join("data/postmaster.pid")));
        self.server.run();
    }
}

impl Drop for TestDatabase {
    fn drop(&mut self) {
        self.server.sql("postgres", &format!("DROP DATABASE IF EXISTS {} WITH (FORCE)", self.name));
    }
}

impl PostgresServer {
    fn start() -> Option<Arc<Self>> {
        let programs = programs()?;
        let folder = std::env::temp_dir().join(format!(
            "chestnut-postgres-{}-{}",
            std::process::id(),
            NEXT.fetch_add(1, Ordering::Relaxed)
        ));
        forget_dead(&std::env::temp_dir());
        std::fs::create_dir_all(&folder).expect("a folder");
        let server = Self { programs, folder, process: AtomicU32::new(0) };
        if is_root() {
            // It does not run as root.
            let done =
                Command::new("chown").arg("postgres").arg(&server.folder).status().expect("chown runs");
            assert!(done.success(), "the user postgres is there");
        }
        let data = server.folder.join("data").display().to_string();
        let arguments = ["--pgdata", &data, "--username", USER, "--auth", "trust", "--no-sync", "-E", "UTF8"];
        let made =
            server.command("initdb").args(arguments).stdout(Stdio::null()).status().expect("initdb runs");
        assert!(made.success(), "a cluster is made");
        server.run();
        Some(Arc::new(server))
    }

    /// Starts it from a thread that never ends: with the thread that starts a process, the system ends the process.
    fn run(&self) {
        let mut command = self.command("postgres");
        let folder = self.folder.display().to_string();
        command.args(["-D", &format!("{folder}/data"), "-k", &folder, "-c", "listen_addresses="]);
        command.args(["-c", "fsync=off", "-c", "max_connections=100", "-c", "log_min_messages=panic"]);
        let (tell, told) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
            tell.send(child.id()).expect("somebody waits");
            drop(child.wait());
            loop {
                std::thread::park();
            }
        });
        self.process.store(told.recv().expect("it was started"), Ordering::Relaxed);
        for _ in 0..400 {
            let ready = self.command("psql").args(["-h", &folder, "-U", USER, "-c", "", "postgres"]).output();
            if ready.is_ok_and(|output| output.status.success()) {
                return;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        panic!("PostgreSQL does not start");
    }

    fn kill(&self) {
        let process = self.process.load(Ordering::Relaxed).to_string();
        // The parent first: it would begin to recover as soon as a child is gone.
        let children = children_of(&process);
        for one in std::iter::once(&process).chain(&children) {
            drop(Command::new("kill").args(["-KILL", one]).stderr(Stdio::null()).status());
        }
    }

    fn command(&self, program: &str) -> Command {
        let program = self.programs.join(program);
        let mut command = Command::new(AS_OTHER);
        command.args(["--pdeathsig", "KILL"]);
        if is_root() {
            command.args(["--reuid=postgres", "--regid=postgres", "--clear-groups"]);
        }
        command.arg(program).current_dir("/");
        command
    }

    fn sql(&self, database: &str, sql: &str) -> String {
        let folder = self.folder.display().to_string();
        let arguments = ["-h", &folder, "-U", USER, "-v", "ON_ERROR_STOP=1", "-Atqc", sql, database];
        let output = self.command("psql").args(arguments).output().expect("psql runs");
        assert!(output.status.success(), "{sql}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    }
}

impl Drop for PostgresServer {
    fn drop(&mut self) {
        self.kill();
        std::thread::sleep(Duration::from_millis(100));
        drop(std::fs::remove_dir_all(&self.folder));
    }
}

fn is_root() -> bool {
    std::fs::metadata("/proc/self").is_ok_and(|me| std::os::unix::fs::MetadataExt::uid(&me) == 0)
}

/// Where the server's programs are: Debian keeps them out of the path.
fn programs() -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    let mut folders: Vec<_> = versions.map(|version| version.path().join("bin")).collect();
    folders.sort();
    folders.reverse();
    folders.extend(std::env::split_paths(&path));
    folders.into_iter().find(|folder| folder.join("initdb").exists())
}

/// The processes that one has begun.
fn children_of(process: &str) -> Vec<String> {
    let all = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let names = all.filter_map(|one| one.file_name().into_string().ok());
    let is_child = |one: &String| {
        let stat = std::fs::read_to_string(format!("/proc/{one}/stat")).unwrap_or_default();
        // The name before may hold anything; state and parent come behind it.
        stat.rsplit_once(')').and_then(|(_, rest)| rest.split_whitespace().nth(1)) == Some(process)
    };
    names.filter(is_child).collect()
}

/// Takes away what processes left that were killed.
fn forget_dead(folder: &Path) {
    for file in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = file.file_name().to_string_lossy().into_owned();
        let process = name
            .strip_prefix("chestnut-postgres-")
            .and_then(|rest| rest.split('-').next()?.parse::<u32>().ok());
        if process.is_some_and(|process| !Path::new(&format!("/proc/{process}")).exists()) {
            drop(std::fs::remove_dir_all(file.path()));
        }
    }
}
