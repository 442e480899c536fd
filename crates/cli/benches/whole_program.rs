//! The built program between two stand-ins over sockets: time, peak memory, requests and the size of the state, for
//! the first sync, the one after it, a settled one, and one with ten changes; one-way, two-way, and into a file. Then
//! the page of `report` over forty routes.
//!
//! `cargo bench -p chestnut --bench whole_program [-- SIZES]`. Peak memory is read from /proc: elsewhere it is 0.

use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, Ordering};
use std::time::{Duration, Instant};

use chestnut_standin::{Server, Site, orchard_entries, serve_on_thread};

const NOW: &str = "2026-10-05T08:00:00Z";
/// The clock of the first run, in milliseconds since 1970.
const BEGINNING: i64 = 1_791_187_200_000;

fn servers(entries: usize, clock: &Arc<AtomicI64>) -> [Site; 2] {
    let mut source = Server::new(&["office"], BEGINNING - 86_400_000);
    let path = source.add_calendar("office", "presses", "Press hall", "");
    for entry in orchard_entries(entries, jiff::civil::date(2026, 10, 5)) {
        source.store(&path, &entry.name, &entry.text);
    }
    let mut target = Server::new(&["office"], BEGINNING - 86_400_000);
    target.add_calendar("office", "board", "Board", "");
    let clock = Arc::clone(clock);
    // Each request takes a while, but not a day in all: that would be another day for the window.
    let tick = move || clock.fetch_add(300, Ordering::Relaxed);
    let sites = serve_on_thread(vec![source, target], Arc::new(tick)).expect("servers");
    sites.try_into().expect("two servers")
}

fn configure(folder: &Path, sites: &[Site; 2], route: &str) {
    use std::os::unix::fs::PermissionsExt as _;
    let password = folder.join("password");
    std::fs::write(&password, "office-pw\n").expect("written");
    std::fs::set_permissions(&password, std::fs::Permissions::from_mode(0o600)).expect("private");
    let account = |name: &str, site: &Site| {
        format!(
            "[account.{name}]\nurl = \"{}\"\nuser = \"office\"\npassword = {{ file = \"password\" }}\n",
            site.url
        )
    };
    let text = format!(
        "timezone = \"Europe/Ljubljana\"\n{}{}[calendar.presses]\naccount = \"a\"\npath = \"/office/calendars/presses/\"\n\
         [calendar.board]\naccount = \"b\"\npath = \"/office/calendars/board/\"\n[calendar.file]\nfile = \"file.ics\"\n\
         [route.r]\n{route}\nonly = {{ kinds = [\"events\", \"tasks\"] }}\n",
        account("a", &sites[0]),
        account("b", &sites[1])
    );
    std::fs::write(folder.join("chestnut.toml"), text).expect("written");
}

/// Runs a sync; returns seconds, peak memory in MB, and requests.
fn sync(folder: &Path) -> (f64, f64, u64) {
    let mut command = Command::new(env!("CARGO_BIN_EXE_chestnut"));
    command.args(["sync", "--yes", "--json"]).current_dir(folder).env_clear().env("CHESTNUT_NOW", NOW);
    let began = Instant::now();
    let child = command.stdout(Stdio::piped()).stdin(Stdio::null()).spawn().expect("the program");
    let status = format!("/proc/{}/status", child.id());
    let watch = std::thread::spawn(move || {
        let mut peak = 0.0_f64;
        while let Ok(text) = std::fs::read_to_string(&status) {
            let line = text.lines().find(|line| line.starts_with("VmHWM"));
            let Some(kb) = line.and_then(|l| l.split_whitespace().nth(1)).and_then(|n| n.parse::<f64>().ok())
            else {
                break;
            };
            peak = peak.max(kb / 1024.0);
            std::thread::sleep(Duration::from_millis(2));
        }
        peak
    });
    let output = child.wait_with_output().expect("it ends");
    let took = began.elapsed().as_secs_f64();
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).expect("JSON");
    let run = &report["runs"][0];
    assert_eq!(run["result"], "ok", "{run}");
    (took, watch.join().expect("a figure"), run["requests"].as_u64().unwrap_or(0))
}

/// Forty routes from as many calendars of 250 entries into four, brought in step; then the page: seconds, and megabytes.
fn report() -> (f64, f64) {
    let folder = tempfile::tempdir().expect("a folder");
    let clock = Arc::new(AtomicI64::new(BEGINNING));
    let sites = servers(0, &clock);
    configure(folder.path(), &sites, "from = \"presses\"\nto = \"board\"");
    let config = folder.path().join("chestnut.toml");
    let mut text = std::fs::read_to_string(&config).expect("a configuration");
    for (number, entries) in orchard_entries(10_000, jiff::civil::date(2026, 10, 5)).chunks(250).enumerate() {
        let (crew, board) = (format!("crew-{number}"), format!("board-{}", number % 4));
        let path = sites[0].with(|server| server.add_calendar("office", &crew, &crew, ""));
        sites[0].with(|server| {
            entries.iter().for_each(|entry| drop(server.store(&path, &entry.name, &entry.text)))
        });
        if number < 4 {
            let path = sites[1].with(|server| server.add_calendar("office", &board, &board, ""));
            text += &format!("[calendar.{board}]\naccount = \"b\"\npath = \"{path}\"\n");
        }
        text += &format!(
            "[calendar.{crew}]\naccount = \"a\"\npath = \"{path}\"\n[route.r-{number}]\nfrom = \"{crew}\"\nto = \"{board}\"\n"
        );
    }
    std::fs::write(config, text).expect("written");
    sync(folder.path());
    let mut command = Command::new(env!("CARGO_BIN_EXE_chestnut"));
    command.args(["report", "page.html", "--quiet"]).current_dir(folder.path());
    let began = Instant::now();
    let status = command.env_clear().env("CHESTNUT_NOW", NOW).status().expect("the program");
    let took = began.elapsed().as_secs_f64();
    assert!(status.success(), "{status}");
    let page = std::fs::metadata(folder.path().join("page.html")).expect("a page");
    if let Some(kept) = std::env::var_os("CHESTNUT_PAGE") {
        std::fs::copy(folder.path().join("page.html"), kept).expect("copied");
    }
    (took, page.len() as f64 / 1_048_576.0)
}

#[expect(clippy::print_stdout, reason = "a benchmark prints its figures")]
fn main() {
    let sizes: Vec<usize> = std::env::args().filter_map(|a| a.parse().ok()).collect();
    let sizes = if sizes.is_empty() { vec![900, 9_000] } else { sizes };
    println!("entries | route   | what         | seconds |  peak MB | requests | state MB");
    let routes = [
        ("one-way", "from = \"presses\"\nto = \"board\""),
        ("two-way", "between = [\"presses\", \"board\"]"),
        ("to file", "from = \"presses\"\nto = \"file\""),
    ];
    for (size, (name, route)) in sizes.into_iter().flat_map(|size| routes.map(|route| (size, route))) {
        let folder = tempfile::tempdir().expect("a folder");
        let clock = Arc::new(AtomicI64::new(BEGINNING));
        let sites = servers(size, &clock);
        configure(folder.path(), &sites, route);
        for what in ["first", "right after", "settled", "ten changes", "after these"] {
            if what == "ten changes" {
                sites[0].with(|server| {
                    let path = "/office/calendars/presses/";
                    for number in 0..10 {
                        let name = format!("orchard-{:04}.ics", number * 97 % size);
                        let text = server.texts(path)[&name].replace("SUMMARY:", "SUMMARY:Changed ");
                        server.store_raw(path, &name, text);
                    }
                });
            }
            let (seconds, peak, requests) = sync(folder.path());
            if what != "first" {
                // Old enough for a token to be trusted.
                clock.fetch_add(60_000, Ordering::Relaxed);
            }
            let state = std::fs::metadata(folder.path().join("chestnut.state")).map_or(0, |data| data.len());
            let state = state as f64 / 1_048_576.0;
            println!(
                "{size:7} | {name:7} | {what:12} | {seconds:7.2} | {peak:8.1} | {requests:8} | {state:8.1}"
            );
        }
    }
    let (seconds, megabytes) = report();
    println!("report: 40 routes, 10,000 entries: {seconds:.2} s, {megabytes:.2} MB");
}
