//! What can be typed.

use std::path::PathBuf;

use clap::{Args, ColorChoice, Parser, Subcommand};

/// Keeps calendars on different servers in step, and proves that it did.
#[derive(Debug, Parser)]
#[command(name = "chestnut", version, max_term_width = 100)]
pub(crate) struct Cli {
    #[command(flatten)]
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
    /// Print nothing but errors
    #[arg(long, short, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Name every entry; twice: also tell of every request
    #[arg(long, short, global = true, action = clap::ArgAction::Count)]
    pub(crate) verbose: u8,
    /// When to use colour
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub(crate) color: ColorChoice,
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
    /// Logins at CalDAV servers
    #[command(subcommand)]
    Account(AccountCommand),
    /// Calendars
    #[command(subcommand)]
    Calendar(CalendarCommand),
    /// Say what the next sync would do, entry by entry, and why; writes nothing
    Preview {
        /// Only these routes
        #[arg(value_name = "ROUTE")]
        routes: Vec<String>,
    },
    /// Run routes now
    Sync {
        /// Only these routes
        #[arg(value_name = "ROUTE")]
        routes: Vec<String>,
        /// Let deletions through that were held
        #[arg(long)]
        allow_deletions: bool,
        /// Read everything again
        #[arg(long)]
        afresh: bool,
    },
    /// Say what happened: the last runs, or every change of one run
    History {
        /// A run's number
        run: Option<i64>,
        /// So many runs at most
        #[arg(long, default_value_t = 20, value_name = "N")]
        last: usize,
    },
    /// Say how every route is doing; the exit status is made for monitoring
    Status,
}

#[derive(Debug, Subcommand)]
pub(crate) enum AccountCommand {
    /// Sign in and find the calendars
    Test {
        /// Accounts [default: all]
        #[arg(value_name = "ACCOUNT")]
        names: Vec<String>,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum CalendarCommand {
    /// List the calendars of the accounts
    List {
        /// Accounts [default: all]
        #[arg(value_name = "ACCOUNT")]
        names: Vec<String>,
    },
}
