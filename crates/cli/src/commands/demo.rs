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
    let mut demo = Demo { run_command, io, config, told: !common.json && !common.quiet, steps: Vec::new() };
    demo.play(&office, &board)?;
    let Demo { steps, .. } = demo;
    let code = match steps.iter().all(|s| s.exit_status == 0) {
        true => ExitCode::Ok,
        false => ExitCode::Failed,
    };
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

[calendar.board]
account = "cloud"
path    = "/board/calendars/board/"

[route.presses-to-board]
from      = "presses"
to        = "board"
only      = {{ kinds = ["events", "tasks"] }}
deletions = "carry"

[route.market-to-board]
from = "market"
to   = "board"
"#,
        office.url, board.url
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
}

impl Demo<'_, '_> {
    fn play(&mut self, office: &Site, board: &Site) -> Result<(), Failure> {
        self.say(narration::TWO_SERVERS)?;
        self.say(narration::FIRST_LOOK)?;
        self.command(&["account", "test"])?;
        self.say(narration::ITS_CONFIGURATION)?;
        self.command(&["calendar", "list", "packhouse"])?;
        self.say(narration::A_TOWN_FEED)?;
        let feed = format!("{}feeds/market-days.ics", office.url);
        self.command(&["calendar", "add", "market-days", "--feed", &feed])?;
        self.add_route("\n[route.days-to-board]\nfrom = \"market-days\"\nto   = \"board\"\n")?;
        self.say(narration::WHAT_WOULD_HAPPEN)?;
        self.command(&["preview"])?;
        self.command(&["sync", "--yes"])?;
        self.say(narration::DOES_IT_ARRIVE)?;
        self.command(&["probe", "presses-to-board"])?;
        self.say(narration::A_CHANGE)?;
        let van = "SUMMARY:Delivery van to the market\r\n";
        change(office, "presses", van, van, "SUMMARY:Delivery van to the market, second round\r\n");
        self.command(&["sync", "-v"])?;
        self.say(narration::A_DELETION)?;
        delete(office, "presses", "SUMMARY:Crate washing\r\n");
        self.command(&["sync", "presses-to-board", "-v"])?;
        self.say(narration::NOTHING_NEW)?;
        self.command(&["sync"])?;
        self.say(narration::A_KIOSK)?;
        self.add_route(
            "\n[calendar.kiosk]\nfile = \"kiosk.ics\"\n\n[route.press-times]\nfrom       = \"presses\"\n\
             to         = \"kiosk\"\ncarry      = \"busy\"\nbusy-title = \"Presses taken\"\n\
             window     = { past = \"7 days\", ahead = \"3 months\" }\n",
        )?;
        self.command(&["sync", "press-times", "--yes"])?;
        self.say(narration::BOTH_WAYS)?;
        self.command(&["calendar", "create", "cloud", "Stall phones", "--as", "phones"])?;
        self.command(&["route", "add", "crew", "--between", "market,phones"])?;
        self.command(&["sync", "crew", "--yes"])?;
        self.say(narration::TWO_EDITS)?;
        let uid = "UID:orchard-0001@coop.example\r\n";
        change(board, "stall-phones", uid, "SUMMARY:Picking crew", "SUMMARY:With ladders: picking crew");
        change(office, "market", uid, uid, &format!("{uid}X-CRATES:12\r\n"));
        self.command(&["sync", "crew", "-v"])?;
        self.say(narration::ARE_THEY_ALIKE)?;
        self.command(&["compare", "presses-to-board", "crew"])?;
        self.command(&["why", "van", "market", "second", "round"])?;
        self.command(&["status"])?;
        self.command(&["history"])
    }

    /// As somebody would with an editor.
    fn add_route(&self, text: &str) -> Result<(), Failure> {
        use std::io::Write as _;
        Ok(std::fs::OpenOptions::new().append(true).open(&self.config)?.write_all(text.as_bytes())?)
    }

    fn say(&mut self, text: &str) -> Result<(), Failure> {
        if self.told {
            writeln!(self.io.out, "{}", style::paint(style::FAINT, format!("# {text}")))?;
        }
        Ok(())
    }

    fn command(&mut self, words: &[&str]) -> Result<(), Failure> {
        let typed = format!("chestnut {}", words.join(" "));
        if self.told {
            writeln!(self.io.out, "{}", style::paint(style::STRONG, format!("$ {typed}")))?;
        }
        let config = self.config.display().to_string();
        let mut arguments = vec!["chestnut", "--config", &config];
        arguments.extend(words);
        let mut output = Vec::new();
        let code = {
            let io = &mut *self.io;
            let mut inner = Io {
                out: &mut output,
                err: io.err,
                color: io.color,
                progress: io.progress,
                can_ask: false,
                screen: io.screen,
                environment: io.environment.clone(),
            };
            (self.run_command)(&arguments, &mut inner)
        };
        let output = String::from_utf8_lossy(&output).into_owned();
        if self.told {
            writeln!(self.io.out, "{output}")?;
            self.io.out.flush()?;
        }
        self.steps.push(Step { command: typed, exit_status: code.number(), output });
        Ok(())
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
