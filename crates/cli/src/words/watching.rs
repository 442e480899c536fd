//! Sentences of the process that keeps routes running.

use std::net::SocketAddr;
use std::path::Path;
use std::time::Duration;

use chestnut_engine::RunReport;
use chestnut_store::{Counts, NoticeEvent, RouteSummary, TroubleRow};

use super::troubles::{event_word, trouble_sentence};
use crate::failure::Failure;
use crate::render::{clean, count, typed};

pub(crate) fn watch_begins(routes: usize, path: &Path) -> String {
    format!("watching {} of {}", count(routes, "route", "routes"), path.display())
}

pub(crate) fn watch_ends() -> &'static str {
    "stopped; requests under way were finished"
}

pub(crate) fn signal_words(stops: bool, is_all: bool) -> &'static str {
    match (stops, is_all) {
        (true, _) => "stopping once requests under way are finished; a second signal stops at once",
        (_, true) => "asked to sync everything now",
        _ => "asked to read the configuration again",
    }
}

pub(crate) fn read_again(routes: usize) -> String {
    format!("the configuration was read again: {}", count(routes, "route", "routes"))
}

/// The configuration names the state now.
pub(crate) fn state_written(configuration: &Path, state: &Path) -> String {
    format!("{} says now: state = {:?}\n", configuration.display(), state.display().to_string())
}

/// A route has a file or a folder of another machine.
pub(crate) fn left_to_other_machine(route: &str) -> String {
    format!("{route} has a file or folder on another machine, and is run there alone")
}

/// The state knows of a newer configuration.
pub(crate) fn left_to_newer(route: &str, configuration: &Path) -> String {
    format!(
        "{route} is left alone: another machine has a newer configuration that says something else of it. Bring {} up to date.",
        configuration.display()
    )
}

/// What a running process does not take over.
pub(crate) fn needs_restart(key: &str) -> String {
    format!("`{key}` changed: it takes hold when the watch is started again")
}

/// A folder of which the system tells nothing.
pub(crate) fn looks_in_its_time(path: &Path) -> String {
    format!("{} cannot be watched: what changes there is found when its routes are due", path.display())
}

pub(crate) fn state_not_usable(state: &str, words: &str) -> String {
    format!("the state {state} cannot be used: {words}; it is tried again")
}

pub(crate) fn route_error_words(words: &str) -> String {
    format!("failed: {}", clean(words))
}

/// What a run came to.
pub(crate) fn run_words(summary: &RouteSummary) -> String {
    let Counts { created, updated, deleted } = summary.total();
    let mut words =
        format!("{created} created, {updated} updated, {deleted} deleted; {} in step", summary.in_step);
    if summary.failed > 0 {
        words += &format!("; {} failed", summary.failed);
    }
    if summary.held > 0 {
        words += &format!("; {} held", summary.held);
    }
    words
}

/// A trouble began, goes on, or ended.
pub(crate) fn trouble_turn_words(row: &TroubleRow, event: NoticeEvent) -> String {
    format!("trouble {}: {}", event_word(event), clean(&trouble_sentence(row.kind, &row.about, &row.facts)))
}

pub(crate) fn heartbeat_unheard() -> &'static str {
    "heartbeat-url: nobody answered"
}

pub(crate) fn cannot_listen(address: SocketAddr, system: &std::io::Error) -> Failure {
    Failure::usage(format!("`listen`: cannot listen on {address}: {system}")).hint(
        "Something else listens there, or the address is not this machine's. Write another into `listen`.",
    )
}

pub(crate) fn listening_words(address: SocketAddr) -> String {
    format!("answers on http://{address}/status, /healthz and /metrics")
}

pub(crate) fn never_began_words() -> String {
    "the watch has not begun yet".to_owned()
}

pub(crate) fn hangs_words(since: Duration) -> String {
    format!("the watch is held up since {} s", since.as_secs())
}

pub(crate) fn state_words_for_health(words: &str) -> String {
    format!("the state cannot be used: {words}")
}

pub(crate) fn stale_words(routes: &[&str]) -> String {
    format!("no run went well for too long: {}", routes.join(", "))
}

/// What the last round of a route came to, in a few words.
pub(crate) fn outcome_words(report: Option<&RunReport>, failure: Option<&Failure>) -> String {
    let Some(report) = report else {
        return if failure.is_some() { "failed".to_owned() } else { "no change".to_owned() };
    };
    if report.error.is_some() {
        return "failed".to_owned();
    }
    let Counts { created, updated, deleted } = report.summary.total();
    match created + updated + deleted {
        0 => "no change".to_owned(),
        number => count(number, "change", "changes"),
    }
}

/// When a route is due.
pub(crate) fn due_words(left: Duration) -> String {
    match left.as_secs() {
        0 => "now".to_owned(),
        1..60 => "in < 1 min".to_owned(),
        seconds if seconds < 5400 => format!("in {} min", seconds.div_ceil(60)),
        seconds => format!("in {} h", seconds.div_ceil(3600)),
    }
}

/// A route that rests.
pub(crate) const RESTS: &str = "paused";

pub(crate) const LIVE_KEYS: &str = "Ctrl-C ends; chestnut status, held and history say more";

/// A unit for systemd: what the process may write is named, all else is out of its reach. `owner` is the user
/// to whom the configuration's folder belongs, where that is not root.
pub(crate) fn unit_text(
    program: &Path,
    configuration: &Path,
    writes: &[std::path::PathBuf],
    owner: Option<&str>,
) -> String {
    let quoted =
        |path: &Path| format!("\"{}\"", path.display().to_string().replace('%', "%%").replace('"', "\\\""));
    let writes: Vec<_> = writes.iter().map(|path| quoted(path)).collect();
    let (user, whose) = match owner {
        Some(owner) => (owner, "to whom the configuration's folder belongs".to_owned()),
        None => ("chestnut", format!("who must own {}", writes.join(" "))),
    };
    format!(
        "# /etc/systemd/system/chestnut.service; then: systemctl enable --now chestnut\n\
         [Unit]\n\
         Description=Chestnut keeps calendars in step\n\
         Wants=network-online.target\n\
         After=network-online.target\n\
         \n\
         [Service]\n\
         Type=notify\n\
         # The user {whose}.\n\
         User={user}\n\
         ExecStart={} watch --config {}\n\
         ExecReload=/bin/sh -c 'kill -HUP $MAINPID'\n\
         Restart=on-failure\n\
         RestartSec=30\n\
         WatchdogSec=5min\n\
         TimeoutStopSec=2min\n\
         # A password that only this unit may read; in the configuration: password = {{ credential = \"packhouse\" }}\n\
         #LoadCredential=packhouse:/etc/chestnut/packhouse.password\n\
         \n\
         ReadWritePaths={}\n\
         ProtectSystem=strict\n\
         ProtectHome=tmpfs\n\
         BindPaths={}\n\
         PrivateTmp=true\n\
         PrivateDevices=true\n\
         ProtectKernelTunables=true\n\
         ProtectKernelModules=true\n\
         ProtectKernelLogs=true\n\
         ProtectControlGroups=true\n\
         ProtectClock=true\n\
         ProtectHostname=true\n\
         ProtectProc=invisible\n\
         RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX\n\
         RestrictNamespaces=true\n\
         RestrictRealtime=true\n\
         RestrictSUIDSGID=true\n\
         LockPersonality=true\n\
         MemoryDenyWriteExecute=true\n\
         NoNewPrivileges=true\n\
         SystemCallArchitectures=native\n\
         SystemCallFilter=@system-service\n\
         CapabilityBoundingSet=\n\
         UMask=0077\n\
         \n\
         [Install]\n\
         WantedBy=multi-user.target\n",
        quoted(program),
        quoted(configuration),
        writes.join(" "),
        writes.join(" "),
    )
}

/// The file of the state is not the one that was opened any more.
pub(crate) fn state_left(place: &str) -> String {
    format!("the state {place} was taken away, or is another file now; it is opened anew")
}

/// How it is, for the service manager.
pub(crate) fn troubles_words(number: usize) -> String {
    match number {
        0 => "all is well".to_owned(),
        number => count(number, "trouble", "troubles"),
    }
}

/// Who keeps routes running.
pub(crate) fn watched_since(process: u32, machine: Option<&str>, age: &str) -> String {
    let on = machine.map(|machine| format!(" on {machine}")).unwrap_or_default();
    format!("watch: process {process}{on} keeps these routes running, since {age}\n")
}

/// What a person wrote down about something.
pub(crate) fn note_words(about: &str, note: &str) -> String {
    format!("{}: note: {}\n", clean(about), clean(note))
}

/// A pause that ends by itself.
pub(crate) fn paused_until_words(route: &str, at: &str) -> String {
    format!("{}: paused until {at}; it goes on by itself\n", clean(route))
}

/// A route that rests until somebody lets it go on.
pub(crate) fn paused_since_words(route: &str, at: &str) -> String {
    let route = clean(route);
    format!("{route}: paused since {at}; go on: chestnut route resume {typed}\n", typed = typed(&route))
}

/// A route that rests with an account.
pub(crate) fn paused_with_words(route: &str, account: &str, until: Option<&str>) -> String {
    let (route, account) = (clean(route), clean(account));
    let until = until.map(|at| format!(" until {at}")).unwrap_or_default();
    format!(
        "{route}: paused with account {account}{until}; go on: chestnut account resume {typed}\n",
        typed = typed(&account)
    )
}

/// A program could not be told of a trouble.
pub(crate) fn untold_words(
    trouble: i64,
    event: NoticeEvent,
    attempts: u32,
    problem: &str,
    next: Option<&str>,
) -> String {
    let then = match next {
        Some(at) => format!("again at {at}"),
        None => "given up after a day".to_owned(),
    };
    let tries = count(attempts as usize, "attempt", "attempts");
    format!(
        "on-trouble was not told that trouble {trouble} {}: {} ({tries}, {then})\n",
        event_word(event),
        clean(problem)
    )
}
