//! `chestnut demo`: the whole job on stand-in servers, each command as it would be typed.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use chestnut_standin::{Clock, Server, Site, Temper, orchard_server, serve_on_thread};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::render::style;
use crate::report::demo::{Report, Step};
use crate::settings::write_private;
use crate::words::{folder_in_use, narration, no_random_numbers, no_stand_ins};

const ENTRIES: usize = 150;
/// All lines that a command says.
const ALL: usize = usize::MAX;
/// It is told on a screen of this size.
const SCREEN: (usize, usize) = (80, 20);

/// Runs a command line, as the program does.
type RunCommand = fn(&[&str], &mut Io<'_>) -> ExitCode;

pub(crate) fn run(
    dir: Option<&Path>,
    keep: bool,
    run_command: RunCommand,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let now = io.environment.now()?;
    let fixed = io.environment.clock_is_fixed();
    let environment = io.environment.clone();
    let clock: Clock = Arc::new(move || match (fixed, environment.now()) {
        (false, Ok(now)) => now.as_millisecond(),
        _ => now.as_millisecond(),
    });
    let temporary = dir.is_none().then(|| temporary_folder(io)).transpose()?;
    let folder = dir.map(Path::to_owned).or(temporary.clone()).unwrap_or_default();
    let (office, board) = start_servers(now.as_millisecond(), clock)?;
    let config = write_configuration(&folder, &office, &board)?;
    let told = !common.json && !common.quiet;
    let mut demo = Demo { run_command, io, config, told, steps: Vec::new(), is_well: true };
    demo.play(&office, &board)?;
    let Demo { steps, is_well, .. } = demo;
    let code = if is_well { ExitCode::Ok } else { ExitCode::Failed };
    let report = Report { folder: folder.display().to_string(), steps };
    show(common, io, &report, || narration::ending(&folder, keep))?;
    if keep {
        wait_for_interrupt()?;
    }
    if let Some(folder) = temporary {
        std::fs::remove_dir_all(folder)?;
    }
    Ok(code)
}

fn temporary_folder(io: &Io<'_>) -> Result<PathBuf, Failure> {
    let mut random = [0; 8];
    getrandom::fill(&mut random).map_err(no_random_numbers)?;
    let name = chestnut_core::hex(&random);
    let base = io.environment.path("TMPDIR").unwrap_or_else(std::env::temp_dir);
    let folder = base.join(format!("chestnut-demo-{name}"));
    std::fs::create_dir(&folder)?;
    Ok(folder)
}

/// Two servers on free ports: the packhouse's own, and a hosted one that rewrites what it is given.
fn start_servers(now_ms: i64, clock: Clock) -> Result<(Site, Site), Failure> {
    let packhouse = orchard_server(ENTRIES, now_ms);
    let mut cloud = Server::new(&["board"], now_ms - 86_400_000);
    cloud.add_calendar("board", "board", "Notice board", "#3366aa");
    cloud.add_calendar("board", "phones", "Stall phones", "#7a3e1d");
    cloud.habits = Temper::Rewriting.habits();
    let mut sites = serve_on_thread(vec![packhouse, cloud], clock)?.into_iter();
    sites.next().zip(sites.next()).ok_or_else(no_stand_ins)
}

fn write_configuration(folder: &Path, office: &Site, board: &Site) -> Result<PathBuf, Failure> {
    let config = folder.join("chestnut.toml");
    if config.exists() {
        return Err(folder_in_use(&config));
    }
    std::fs::create_dir_all(folder)?;
    write_private(&folder.join("packhouse.password"), "office-pw\n")?;
    write_private(&folder.join("cloud.password"), "board-pw\n")?;
    let text = format!(
        r#"# The orchard co-operative: what is booked at the packhouse shows on the notice board.
timezone = "Europe/Ljubljana"

[account.packhouse]
url      = "{}"
user     = "office"
password = {{ file = "packhouse.password" }}

[account.cloud]
url      = "{}"
user     = "board"
password = {{ file = "cloud.password" }}

[calendar.presses]
account = "packhouse"
path    = "/office/calendars/presses/"

[calendar.market]
account = "packhouse"
name    = "Market stalls"

[calendar.market-days]
feed = "{}feeds/market-days.ics"

[calendar.board]
account = "cloud"
path    = "/board/calendars/board/"

[calendar.phones]
account = "cloud"
name    = "Stall phones"

[calendar.kiosk]
file = "kiosk.ics"

# The bookings of the presses, and the town's market days, on the notice board.
[route.bookings]
from      = "presses"
to        = "board"
only      = {{ kinds = ["events", "tasks"] }}
deletions = "carry"
deletion-limit = 2

[route.days]
from = "market-days"
to   = "board"

# The market crew has its bookings on phones, and may change them there.
[route.crew]
between  = ["market", "phones"]
disagree = "hold"

# A kiosk in the yard shows when the stalls are taken, and nothing else.
[route.taken]
from       = "market"
to         = "kiosk"
carry      = "busy"
busy-title = "Stalls taken"
window     = {{ past = "7 days", ahead = "3 months" }}
"#,
        office.url, board.url, office.url
    );
    std::fs::write(&config, text)?;
    Ok(config)
}

struct Demo<'d, 'io> {
    run_command: RunCommand,
    io: &'d mut Io<'io>,
    config: PathBuf,
    told: bool,
    steps: Vec<Step>,
    /// Every command ended as it should.
    is_well: bool,
}

impl Demo<'_, '_> {
    fn play(&mut self, office: &Site, board: &Site) -> Result<(), Failure> {
        self.say(narration::TWO_SERVERS)?;
        self.command(&["account", "test", "packhouse"], 2, ExitCode::Ok)?;
        self.say(narration::WHAT_WOULD_HAPPEN)?;
        self.command(&["preview", "days"], 5, ExitCode::Ok)?;
        self.say(narration::FIRST_SYNC)?;
        self.command(&["sync", "--yes"], ALL, ExitCode::Ok)?;
        self.say(narration::DOES_IT_ARRIVE)?;
        self.command(&["probe", "bookings"], ALL, ExitCode::Ok)?;
        self.say(narration::HERE_AND_THERE)?;
        let van = "SUMMARY:Delivery van to the market\r\n";
        change(office, "presses", van, van, "SUMMARY:Delivery van, second round\r\n");
        delete(office, "presses", "SUMMARY:Crate washing\r\n");
        let uid = "UID:orchard-0001@coop.example\r\n";
        change(board, "phones", uid, "SUMMARY:Picking", "SUMMARY:Ladders: picking");
        change(office, "market", uid, uid, &format!("{uid}X-CRATES:12\r\n"));
        self.command(&["sync", "bookings", "crew", "-v"], ALL, ExitCode::Ok)?;
        let run = self.last_run("bookings");
        self.say(narration::TOO_MUCH)?;
        change(board, "phones", uid, "Ladders: picking crew\\, north rows", "Early crew");
        change(office, "market", uid, "Ladders: picking crew\\, north rows", "Late crew");
        for _ in 0..3 {
            delete(office, "presses", "SUMMARY:Tasting with the juice buyer\r\n");
        }
        self.command(&["sync", "--quiet"], ALL, ExitCode::Waiting)?;
        self.command(&["held"], ALL, ExitCode::Waiting)?;
        self.say(narration::DECIDED)?;
        self.command(&["decide", "2", "phones", "--quiet"], ALL, ExitCode::Ok)?;
        self.command(&["decide", "1", "keep", "--quiet"], ALL, ExitCode::Ok)?;
        self.command(&["sync", "bookings", "crew"], ALL, ExitCode::Ok)?;
        self.say(narration::ARE_THEY_ALIKE)?;
        self.command(&["compare", "crew"], ALL, ExitCode::Ok)?;
        self.say(narration::TAKEN_BACK)?;
        self.command(&["undo", &run.to_string(), "--yes"], 5, ExitCode::Ok)?;
        self.say(narration::THE_WEEK)?;
        self.command(
            &["agenda", "presses", "board", "market", "kiosk", "--week", "--grid"],
            ALL,
            ExitCode::Ok,
        )
    }

    /// The number of a route's last run.
    fn last_run(&mut self, route: &str) -> i64 {
        let (_, output) = self.quietly(&["history", "--route", route, "--last", "1", "--json"]);
        let told: serde_json::Value = serde_json::from_str(&output).unwrap_or_default();
        told["runs"][0]["run"].as_i64().unwrap_or_default()
    }

    fn say(&mut self, text: &str) -> Result<(), Failure> {
        if self.told {
            let lines = text.lines().map(|line| style::paint(style::FAINT, format!("# {line}")));
            let lines: Vec<_> = lines.collect();
            writeln!(self.io.out, "\n{}", lines.join("\n"))?;
        }
        Ok(())
    }

    /// Runs a command as it would be typed, and shows its first lines.
    fn command(&mut self, words: &[&str], lines: usize, expected: ExitCode) -> Result<(), Failure> {
        let typed = format!("chestnut {}", words.join(" "));
        if self.told {
            writeln!(self.io.out, "{}", style::paint(style::STRONG, format!("$ {typed}")))?;
        }
        let (code, output) = self.quietly(words);
        if self.told {
            for line in output.lines().take(lines) {
                writeln!(self.io.out, "{line}")?;
            }
            if let Some(more) = output.lines().count().checked_sub(lines).filter(|more| *more > 0) {
                writeln!(self.io.out, "{}", style::paint(style::FAINT, narration::more_lines(more)))?;
            }
            self.io.out.flush()?;
        }
        self.is_well &= code == expected;
        self.steps.push(Step { command: typed, exit_status: code.number(), output });
        Ok(())
    }

    fn quietly(&mut self, words: &[&str]) -> (ExitCode, String) {
        let config = self.config.display().to_string();
        let mut arguments = vec!["chestnut", "--config", &config];
        arguments.extend(words);
        let (mut output, mut beside) = (Vec::new(), Vec::new());
        let io = &mut *self.io;
        let mut inner = Io {
            out: &mut output,
            err: &mut beside,
            color: io.color,
            progress: io.progress,
            can_ask: false,
            screen: Some(SCREEN),
            environment: io.environment.clone(),
            unsaid: String::new(),
        };
        let code = (self.run_command)(&arguments, &mut inner);
        // On a terminal both are seen.
        output.extend(beside);
        (code, String::from_utf8_lossy(&output).into_owned())
    }
}

/// Changes the first entry that has this line, as another client would.
fn change(site: &Site, calendar: &str, line: &str, from: &str, to: &str) {
    site.with(|server| {
        if let Some((calendar, name, text)) = find(server, calendar, line) {
            server.store(&calendar, &name, &text.replace(from, to));
        }
    });
}

fn delete(site: &Site, calendar: &str, line: &str) {
    site.with(|server| {
        if let Some((calendar, name, _)) = find(server, calendar, line) {
            server.delete(&calendar, &name);
        }
    });
}

fn find(server: &Server, slug: &str, line: &str) -> Option<(String, String, String)> {
    let calendars = server.collections.iter().filter(|(path, _)| path.ends_with(&format!("/{slug}/")));
    calendars.into_iter().find_map(|(calendar, collection)| {
        let mut objects = collection.objects.iter();
        let (name, object) = objects.find(|(_, object)| object.text.contains(line))?;
        Some((calendar.clone(), name.clone(), object.text.clone()))
    })
}

fn wait_for_interrupt() -> Result<(), Failure> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    Ok(runtime.block_on(tokio::signal::ctrl_c())?)
}
