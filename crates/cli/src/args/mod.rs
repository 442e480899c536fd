//! What can be typed.

mod account;
mod calendar;
mod complete;
mod help;
mod mistyped;
mod route;
mod state;

use std::path::PathBuf;

use clap::{Args, ColorChoice, Parser, Subcommand};

use self::complete::{calendars, routes};
use crate::watch::LogFormat;
pub(crate) use account::{AccountAdd, AccountCommand, OAuthArgs};
pub(crate) use calendar::{CalendarAdd, CalendarCommand, KindWord};
pub(crate) use help::with_help;
pub(crate) use mistyped::mistyped;
pub(crate) use route::{Carried, RouteAdd, RouteCommand};
pub(crate) use state::StateCommand;

/// Keeps calendars on different servers in step, and proves that it did.
#[derive(Debug, Parser)]
#[command(name = "chestnut", version, max_term_width = 100)]
pub(crate) struct Cli {
    #[command(flatten, next_help_heading = "Options of every command")]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options that every command takes.
#[derive(Debug, Clone, Args)]
pub(crate) struct Common {
    /// The configuration [default: $CHESTNUT_CONFIG, ./chestnut.toml, then the platform's folder]
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// The state [default: chestnut.state beside the configuration]
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) state: Option<PathBuf>,
    /// Print one JSON document for programs
    #[arg(long, global = true)]
    pub(crate) json: bool,
    /// Print nothing where all is well; else what failed, and what needs a decision
    #[arg(long, short, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Name every entry; twice: also tell of every request
    #[arg(long, short, global = true, action = clap::ArgAction::Count)]
    pub(crate) verbose: u8,
    /// When to use colour
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: ColorChoice,
}

/// `#rrggbb`, with or without its sign.
fn shade(text: &str) -> Result<String, String> {
    let digits = text.strip_prefix('#').unwrap_or(text);
    let fits = digits.len() == 6 && digits.bytes().all(|b| b.is_ascii_hexdigit());
    let shade = || format!("#{}", digits.to_ascii_lowercase());
    fits.then(shade).ok_or_else(|| "write it as \"#b5651d\"".to_owned())
}

/// A number from a list.
fn number(text: &str) -> Result<i64, String> {
    text.parse().map_err(|_| "type its number, as `chestnut held` shows it".to_owned())
}

fn days(text: &str) -> Result<u16, String> {
    let days = text.parse().ok().filter(|days| (1..=366).contains(days));
    days.ok_or_else(|| "type a number of days from 1 to 366".to_owned())
}

fn so_many(text: &str) -> Result<usize, String> {
    text.parse().map_err(|_| "type a number such as 20".to_owned())
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Show the whole job on stand-in servers with sample data
    Demo {
        /// Where to put its configuration [default: a temporary folder]
        dir: Option<PathBuf>,
        /// Leave configuration and servers, to explore with the ordinary commands
        #[arg(long)]
        keep: bool,
    },
    /// Write a commented configuration to start from
    Init {
        /// Where [default: --config, $CHESTNUT_CONFIG, ./chestnut.toml]
        file: Option<PathBuf>,
        /// Ask step by step: account, calendars, route; every answer is tried at once
        #[arg(long)]
        ask: bool,
    },
    /// Accounts on CalDAV servers: list, add, test, password, move, forget
    #[command(subcommand)]
    Account(AccountCommand),
    /// Calendars: list, add, create, tidy, rename, forget
    #[command(subcommand)]
    Calendar(CalendarCommand),
    /// Check that all of the configuration is there and has effect
    ///
    /// Tries the accounts, looks for the calendars, holds your rights against what routes write, and names settings without effect. Writes nothing; exit status 1 where something does not work.
    Check {
        /// Ask no server: only what the files tell
        #[arg(long)]
        offline: bool,
        /// Also write a file for help from outside: configuration, steps, last failures; no secrets, no titles
        #[arg(long, value_name = "FILE")]
        bundle: Option<PathBuf>,
    },
    /// Show what takes place: a picture on a terminal, else a list
    Agenda {
        /// Calendars of the configuration, or .ics files [default: all calendars]
        #[arg(value_name = "CALENDAR", add = calendars())]
        names: Vec<String>,
        /// The first day: a date, `today`, `tomorrow`, or a day of the week [default: today]
        #[arg(long, value_name = "DAY")]
        from: Option<String>,
        /// The last day [default: six days after the first]
        #[arg(long, value_name = "DAY", conflicts_with = "days")]
        to: Option<String>,
        /// So many days
        #[arg(long, value_name = "N", value_parser = days)]
        days: Option<u16>,
        /// The week that this day is in [default: today]
        #[arg(long, value_name = "DAY", num_args = 0..=1, default_missing_value = "today",
              conflicts_with_all = ["from", "to", "days"])]
        week: Option<String>,
        /// The month that this day is in [default: today]: how much takes place on each day
        #[arg(long, value_name = "DAY", num_args = 0..=1, default_missing_value = "today",
              conflicts_with_all = ["from", "to", "days", "week"])]
        month: Option<String>,
        /// Set calendars beside one another
        #[arg(long)]
        beside: bool,
        /// A list, also on a terminal
        #[arg(long, conflicts_with = "grid")]
        list: bool,
        /// A picture, also where this is not a terminal
        #[arg(long)]
        grid: bool,
        /// Ask nobody: show what was known when the calendars were last looked at
        #[arg(long)]
        offline: bool,
    },
    /// Find when nothing takes place, in working hours: whole gaps
    Free {
        /// Calendars of the configuration, or .ics files [default: all calendars]
        #[arg(value_name = "CALENDAR", add = calendars())]
        names: Vec<String>,
        /// At least so long
        #[arg(long = "for", default_value = "1h", value_name = "TIME")]
        at_least: String,
        /// Between these hours
        #[arg(long, default_value = "9-17", value_name = "HOURS")]
        hours: String,
        /// On these days of the week
        #[arg(long, default_value = "mon-fri", value_name = "DAYS")]
        weekdays: String,
        /// The first day: a date, `today`, `tomorrow`, or a day of the week [default: today]
        #[arg(long, value_name = "DAY")]
        from: Option<String>,
        /// The last day [default: two weeks]
        #[arg(long, value_name = "DAY")]
        to: Option<String>,
        /// Also write what is taken as free-busy time
        #[arg(long, value_name = "FILE")]
        ics: Option<PathBuf>,
        /// Ask nobody: count what was known when the calendars were last looked at
        #[arg(long)]
        offline: bool,
    },
    /// Say what the next sync would do, and why; writes nothing
    Preview {
        /// Only these routes
        #[arg(value_name = "ROUTE", add = routes())]
        routes: Vec<String>,
        /// Show the copy itself, byte for byte, of entries with these words in their title, on this day, or with this UID
        #[arg(long, value_name = "ENTRY")]
        text: Option<String>,
    },
    /// Read both sides again, and say what is not in step, and why
    ///
    /// The exit status is 3 where something is not in step.
    #[command(alias = "diff")]
    Compare {
        /// Only these routes
        #[arg(value_name = "ROUTE", add = routes())]
        routes: Vec<String>,
        /// Pass over what changed within this time, such as 30m: for monitoring
        #[arg(long, value_name = "TIME")]
        settled: Option<String>,
        /// Then sync what was found, and nothing else
        #[arg(long)]
        then_sync: bool,
    },
    /// Send a test entry down a route: it arrives, changes, moves, goes
    Probe {
        /// Only these routes
        #[arg(value_name = "ROUTE", add = routes())]
        routes: Vec<String>,
        /// The title of the test entry, where the route takes only some
        #[arg(long, value_name = "TEXT")]
        title: Option<String>,
        /// Sync nothing: wait so long for each step, such as 10m, until something else does
        #[arg(long, value_name = "TIME")]
        wait: Option<String>,
        /// Take away test entries that an earlier probe left
        #[arg(long, conflicts_with_all = ["title", "wait"])]
        sweep: bool,
    },
    /// Tell where an entry stands, and which key let it in or stopped it
    Why {
        /// A route, if only that one is meant; then words of the title, a day, or a UID
        #[arg(value_name = "WORDS", required = true)]
        words: Vec<String>,
    },
    /// Routes: list, show, add, edit, rename, pause, resume, retire
    #[command(subcommand)]
    Route(RouteCommand),
    /// Run routes now
    Sync {
        /// Only these routes
        #[arg(value_name = "ROUTE", add = routes())]
        routes: Vec<String>,
        /// Begin routes that never ran, without asking
        #[arg(long)]
        yes: bool,
        /// Let deletions through that were held
        #[arg(long)]
        allow_deletions: bool,
        /// There is a command for that
        #[arg(long, hide = true)]
        dry_run: bool,
        /// Read everything again
        #[arg(long)]
        afresh: bool,
        /// Only routes that are due: whose last run is longer ago than their `every`. For timers
        #[arg(long)]
        only_due: bool,
        /// Only entries with these words in their title, on this day, or with this UID; also what was taken back
        #[arg(long = "entry", value_name = "WORDS")]
        entries: Vec<String>,
    },
    /// Keep routes running, each at its own pace, until you stop it
    Watch {
        /// Write what happens into this file [default: a live table on a terminal, else standard error]
        #[arg(long, value_name = "FILE")]
        log: Option<PathBuf>,
        /// How lines are written
        #[arg(long, value_name = "FORMAT", value_enum, default_value = "text")]
        log_format: LogFormat,
        /// Print a unit for systemd, and do nothing else
        #[arg(long, conflicts_with_all = ["log", "log_format"])]
        print_unit: bool,
    },
    /// List what needs your decision: deletions and disagreements
    Held,
    /// Answer what needs your decision; the next sync does it
    Decide {
        /// Its number, as `held` shows it
        #[arg(value_name = "NUMBER", value_parser = number)]
        number: i64,
        /// `delete` or `keep` for deletions; a calendar, `both` or `newest` for disagreements; `undo` takes the answer
        /// back until the next sync. Without it the question is shown, with what each answer does
        #[arg(value_name = "CHOICE")]
        choice: Option<String>,
    },
    /// Say what happened: the last runs, or one run field by field
    #[command(alias = "log")]
    History {
        /// A run's number, or a route
        #[arg(value_name = "RUN", add = routes())]
        run: Option<String>,
        /// Only changes of entries with these words in their title, now or once, on this day, or with this UID
        #[arg(long = "entry", value_name = "WORDS")]
        entries: Vec<String>,
        /// Only runs since a day, or within a time such as "7 days"
        #[arg(long, value_name = "WHEN")]
        since: Option<String>,
        /// Only runs of this route
        #[arg(long, value_name = "ROUTE", add = routes())]
        route: Option<String>,
        /// So many runs at most
        #[arg(long, default_value = "20", value_name = "N", value_parser = so_many)]
        last: usize,
        /// Also runs that only carried a test entry
        #[arg(long)]
        all: bool,
        /// Show the whole texts, before and after
        #[arg(long)]
        text: bool,
        /// Write what stood there before as a calendar
        #[arg(long, value_name = "FILE")]
        ics: Option<PathBuf>,
    },
    /// Take a run back, where nobody has touched it since; asks first
    Undo {
        /// A run's number, as `history` shows it; `12..` for it and all later ones of its route
        #[arg(value_name = "RUN")]
        run: String,
        /// Only entries with these words in their title, on this day, or with this UID
        #[arg(long = "entry", value_name = "WORDS")]
        entries: Vec<String>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Keep a calendar as it stands, in one file that any program reads
    Snapshot {
        /// The calendar
        #[arg(value_name = "CALENDAR", add = calendars())]
        calendar: String,
        /// A file that is not there yet, such as board.ics
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// As it stood before this route first wrote there
        #[arg(long, value_name = "ROUTE", add = routes())]
        before: Option<String>,
    },
    /// Put a calendar back as a snapshot has it; asks first
    Restore {
        /// A snapshot, or any .ics file
        #[arg(value_name = "FILE")]
        file: PathBuf,
        /// Into this calendar [default: the one that the snapshot is of]
        #[arg(long, value_name = "CALENDAR", add = calendars())]
        into: Option<String>,
        /// Also delete what came since
        #[arg(long)]
        exact: bool,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Put everything on one page for others, or into a mail
    Report {
        /// Where to write the page, such as calendars.html; an earlier report is replaced
        file: Option<PathBuf>,
        /// Count changes from then on: a day, or so long ago, such as "7 days"
        #[arg(long, value_name = "WHEN", default_value = "30 days")]
        since: String,
        /// Compare every route first: reads all calendars afresh
        #[arg(long)]
        compare: bool,
        /// Print a text for a mail
        #[arg(long)]
        text: bool,
    },
    /// What is remembered between runs: check it, copy it
    #[command(subcommand)]
    State(StateCommand),
    /// Say how every route is; the exit status is for monitoring
    Status {
        /// Call a route behind where no run went well for so long, such as 2h; else its `stale-after` counts
        #[arg(long, value_name = "TIME")]
        stale_after: Option<String>,
    },
    /// Print what a shell needs to complete commands and names
    ///
    /// It is read by the shell when it starts, for example: chestnut completions bash > ~/.local/share/bash-completion/completions/chestnut
    Completions {
        /// bash, zsh, fish, elvish or powershell
        shell: String,
    },
    /// Write the pages of the manual into a folder
    Manual {
        /// The folder
        dir: PathBuf,
    },
}
