//! `calendar …`

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::complete::{accounts, calendars};

#[derive(Debug, Subcommand)]
pub(crate) enum CalendarCommand {
    /// List the calendars of the accounts, and the feeds, files and folders of the configuration
    #[command(alias = "show")]
    List {
        /// Accounts [default: all]
        #[arg(value_name = "ACCOUNT", add = accounts())]
        names: Vec<String>,
    },
    /// Write a calendar into the configuration, after a look at it
    Add(Box<CalendarAdd>),
    /// Make a new calendar on an account's server, and write it into the configuration
    Create {
        /// The account
        #[arg(add = accounts())]
        account: String,
        /// The name it gets on the server
        name: String,
        /// What it takes
        #[arg(long, value_name = "KINDS", value_delimiter = ',', default_values = ["events"])]
        kinds: Vec<KindWord>,
        /// Its colour on the server, such as "#b5651d"
        #[arg(long, value_name = "COLOUR", value_parser = super::shade)]
        calendar_color: Option<String>,
        /// What the configuration calls it [default: its name, in letters, digits and hyphens]
        #[arg(long = "as", value_name = "NAME")]
        called: Option<String>,
    },
    /// List entries that stand there several times: same title, time and recurrence, as earlier attempts leave them
    Doubles {
        /// The calendar, as the configuration calls it
        #[arg(add = calendars())]
        calendar: String,
        /// Delete what is surplus, after a question: the oldest stays, and what a route made. Can be taken back
        #[arg(long)]
        remove: bool,
        /// Do not ask
        #[arg(long, requires = "remove")]
        yes: bool,
    },
    /// Delete the copies that routes made in a calendar, after a question; nothing else. Can be taken back
    ClearCopies {
        /// The calendar, as the configuration calls it
        #[arg(add = calendars())]
        calendar: String,
        /// Only copies of this route, also of one that is no longer configured
        #[arg(long, value_name = "ROUTE", add = super::complete::routes())]
        of: Option<String>,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Take a calendar out of the configuration; what stands in it stays
    Forget {
        /// The calendar, as the configuration calls it
        #[arg(add = calendars())]
        calendar: String,
    },
    /// Give a calendar another name on its server, for everybody who sees it
    Rename {
        /// The calendar, as the configuration calls it
        #[arg(add = calendars())]
        calendar: String,
        /// The new name
        name: String,
        /// Yes, on the server
        #[arg(long)]
        on_server: bool,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

/// `calendar add`
#[derive(Debug, Args)]
#[group(id = "place", required = true, multiple = false)]
pub(crate) struct CalendarPlace {
    /// Its path on the account's server, as `calendar list` prints it
    #[arg(long, requires = "account")]
    pub(crate) path: Option<String>,
    /// Its name on the account's server
    #[arg(long = "name", value_name = "NAME", requires = "account")]
    pub(crate) shown: Option<String>,
    /// The address of an iCalendar feed (https: or webcal:)
    #[arg(long, value_name = "URL")]
    pub(crate) feed: Option<String>,
    /// Where the address of a feed is kept, if it is a secret: env:NAME, file:PATH, command:PROGRAM or keyring
    #[arg(long, value_name = "WHERE")]
    pub(crate) feed_from: Option<String>,
    /// The address of somebody's free-busy time; with --account, of a calendar whose server tells when time is taken
    #[arg(long, value_name = "URL")]
    pub(crate) freebusy: Option<String>,
    /// An .ics file
    #[arg(long, value_name = "FILE")]
    pub(crate) file: Option<PathBuf>,
    /// A folder of .ics files, each with one entry
    #[arg(long, value_name = "FOLDER")]
    pub(crate) folder: Option<PathBuf>,
}

/// `calendar add`
#[derive(Debug, Args)]
pub(crate) struct CalendarAdd {
    /// What the calendar is called here
    pub(crate) calendar: String,
    /// Whose server it is on; with a feed, whose user and password sign in
    #[arg(long)]
    pub(crate) account: Option<String>,
    #[command(flatten)]
    pub(crate) place: CalendarPlace,
}

/// A kind of entries, as it is typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum KindWord {
    /// Events
    Events,
    /// Tasks
    Tasks,
    /// Journals
    Journals,
}
