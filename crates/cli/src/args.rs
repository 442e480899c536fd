//! What can be typed.

use std::path::PathBuf;

use clap::{Args, ColorChoice, Parser, Subcommand, ValueEnum};

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
    /// When to use colour: auto, always or never; with `calendar create`, the calendar's colour
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto", value_parser = color_word)]
    pub(crate) color: ColorWord,
}

/// `--color`, which means two things: one word for both is what people type.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum ColorWord {
    /// When the output is coloured.
    When(ColorChoice),
    /// `#rrggbb`: the colour of a new calendar.
    Shade(String),
}

fn color_word(text: &str) -> Result<ColorWord, String> {
    if let Ok(when) = text.parse() {
        return Ok(ColorWord::When(when));
    }
    let digits = text.strip_prefix('#').unwrap_or(text);
    let fits = digits.len() == 6 && digits.bytes().all(|b| b.is_ascii_hexdigit());
    let shade = || ColorWord::Shade(format!("#{}", digits.to_ascii_lowercase()));
    fits.then(shade).ok_or_else(|| {
        "write auto, always or never; or a colour such as \"#b5651d\" for a new calendar".to_owned()
    })
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
    /// Logins at CalDAV servers
    #[command(subcommand)]
    Account(AccountCommand),
    /// Calendars
    #[command(subcommand)]
    Calendar(CalendarCommand),
    /// List what takes place, day by day, in calendars and files
    Agenda {
        /// Calendars of the configuration, or .ics files [default: all calendars]
        #[arg(value_name = "CALENDAR")]
        names: Vec<String>,
        /// The first day [default: today]
        #[arg(long, value_name = "DATE")]
        from: Option<String>,
        /// The day behind the last one [default: a week later]
        #[arg(long, value_name = "DATE")]
        to: Option<String>,
    },
    /// Say what the next sync would do, entry by entry, and why; writes nothing
    Preview {
        /// Only these routes
        #[arg(value_name = "ROUTE")]
        routes: Vec<String>,
    },
    /// Read both sides again, and say what is not in step, and why; exit status 3 where something is not
    Compare {
        /// Only these routes
        #[arg(value_name = "ROUTE")]
        routes: Vec<String>,
        /// Pass over what changed within this time, such as 30m: for monitoring
        #[arg(long, value_name = "TIME")]
        settled: Option<String>,
        /// Then sync what was found, and nothing else
        #[arg(long)]
        then_sync: bool,
    },
    /// Send a test entry down a route and back: see it arrive, change, move and go
    Probe {
        /// Only these routes
        #[arg(value_name = "ROUTE")]
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
    /// Tell the story of an entry: where it stands, which key let it in or stopped it, what comes next
    Why {
        /// A route, if only that one is meant; then words of the title, a day, or a UID
        #[arg(value_name = "WORDS", required = true)]
        words: Vec<String>,
    },
    /// Routes: list, show, add, pause, resume, retire
    #[command(subcommand)]
    Route(RouteCommand),
    /// Run routes now
    Sync {
        /// Only these routes
        #[arg(value_name = "ROUTE")]
        routes: Vec<String>,
        /// Begin routes that never ran, without asking
        #[arg(long)]
        yes: bool,
        /// Let deletions through that were held
        #[arg(long)]
        allow_deletions: bool,
        /// Read everything again
        #[arg(long)]
        afresh: bool,
    },
    /// List what waits for a person: deletions, and disagreements
    Held,
    /// Answer what waits for a person; the next sync acts on it
    Decide {
        /// Its number, as `held` shows it
        #[arg(value_name = "NUMBER")]
        number: i64,
        /// `delete` or `keep` for deletions; a calendar, `both` or `newest` for disagreements
        #[arg(value_name = "CHOICE")]
        choice: String,
    },
    /// Say what happened: the last runs, or every change of one run
    History {
        /// A run's number
        run: Option<i64>,
        /// So many runs at most
        #[arg(long, default_value_t = 20, value_name = "N")]
        last: usize,
        /// Also runs that only carried a test entry
        #[arg(long)]
        all: bool,
    },
    /// Say how every route is doing; the exit status is made for monitoring
    Status {
        /// Call a route behind where no run went well for so long, such as 2h; else its `stale-after` counts
        #[arg(long, value_name = "TIME")]
        stale_after: Option<String>,
    },
}

impl Command {
    /// Tells whether `--color` means the colour of a calendar.
    pub(crate) fn makes_calendar(&self) -> bool {
        matches!(self, Self::Calendar(CalendarCommand::Create { .. }))
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum AccountCommand {
    /// List the accounts of the configuration, and what uses them
    List,
    /// Try a sign-in, and write it into the configuration
    Add(Box<AccountAdd>),
    /// Go the way to the calendars step by step, and say at which step it ends and what to do
    Test {
        /// Accounts [default: all]
        #[arg(value_name = "ACCOUNT")]
        names: Vec<String>,
    },
    /// Sign in with a browser, for accounts with `oauth`
    Login {
        /// The account
        account: String,
        /// Give a code to type on another device, instead of using a browser on this one
        #[arg(long)]
        code: bool,
        /// Print the address to open, and leave the opening to you
        #[arg(long, conflicts_with = "code")]
        no_browser: bool,
    },
    /// Take an account out of the configuration, with the secrets kept for it
    Forget {
        /// The account
        account: String,
    },
}

/// `account add`
#[derive(Debug, Args)]
pub(crate) struct AccountAdd {
    /// What the account is called here
    pub(crate) name: String,
    /// Any address of the server: a host, a mail address, a link to a calendar
    pub(crate) url: String,
    /// The user name
    #[arg(long, short)]
    pub(crate) user: Option<String>,
    /// Where the password is kept: env:NAME, file:PATH, command:PROGRAM or keyring [default: ask for it]
    #[arg(long, value_name = "WHERE")]
    pub(crate) password_from: Option<String>,
    /// Where a token is kept that takes the place of user and password
    #[arg(long, value_name = "WHERE", conflicts_with_all = ["user", "password_from"])]
    pub(crate) token_from: Option<String>,
    /// Write the password itself into the configuration, where everybody finds it who may read the file
    #[arg(long, conflicts_with = "password_from")]
    pub(crate) password_in_configuration: bool,
    #[command(flatten)]
    pub(crate) oauth: OAuthArgs,
    /// A certificate authority to trust besides the system's, as PEM
    #[arg(long, value_name = "FILE")]
    pub(crate) ca: Option<PathBuf>,
    /// The proxy on the way, or `none` [default: as the environment says]
    #[arg(long, value_name = "URL")]
    pub(crate) proxy: Option<String>,
    /// Allow the password over unencrypted HTTP to another machine
    #[arg(long)]
    pub(crate) plain_http: bool,
    /// Save it even if the sign-in does not work now
    #[arg(long)]
    pub(crate) untested: bool,
}

/// A sign-in by OAuth 2.0.
#[derive(Debug, Args)]
pub(crate) struct OAuthArgs {
    /// OAuth: the name under which Chestnut is registered there
    #[arg(long, value_name = "ID", requires_all = ["authorize_url", "token_url"], conflicts_with_all = ["password_from", "token_from"])]
    pub(crate) client_id: Option<String>,
    /// OAuth: where the secret that belongs to it is kept
    #[arg(long, value_name = "WHERE", requires = "client_id")]
    pub(crate) client_secret_from: Option<String>,
    /// OAuth: where people say yes
    #[arg(long, value_name = "URL", requires = "client_id")]
    pub(crate) authorize_url: Option<String>,
    /// OAuth: where codes become tokens
    #[arg(long, value_name = "URL", requires = "client_id")]
    pub(crate) token_url: Option<String>,
    /// OAuth: where codes for other devices come from
    #[arg(long, value_name = "URL", requires = "client_id")]
    pub(crate) device_url: Option<String>,
    /// OAuth: what is asked for; may be given several times
    #[arg(long = "scope", value_name = "SCOPE", requires = "client_id")]
    pub(crate) scopes: Vec<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum RouteCommand {
    /// List the routes: their way, what they carry, how they stand
    List,
    /// Show one route in full
    Show {
        /// The route
        route: String,
    },
    /// Write a route into the configuration, after a look at what it would do; asks for what is not said
    Add(Box<RouteAdd>),
    /// Hold a route back: `sync` passes it over
    Pause {
        /// The route
        route: String,
    },
    /// Let a paused route go on
    Resume {
        /// The route
        route: String,
    },
    /// Take a route out of the configuration and forget what it remembers
    Retire {
        /// The route
        route: String,
        /// Also delete the copies that it made
        #[arg(long)]
        remove_copies: bool,
        /// Delete them without a question
        #[arg(long)]
        yes: bool,
    },
}

/// `route add`
#[derive(Debug, Args)]
pub(crate) struct RouteAdd {
    /// What the route is called
    pub(crate) route: String,
    /// One way: the calendar that is read
    #[arg(long, value_name = "CALENDAR", conflicts_with = "between")]
    pub(crate) from: Option<String>,
    /// One way: the calendar that receives copies
    #[arg(long, value_name = "CALENDAR", conflicts_with = "between")]
    pub(crate) to: Option<String>,
    /// Both ways: two or more calendars
    #[arg(long, value_name = "CALENDARS", value_delimiter = ',')]
    pub(crate) between: Vec<String>,
    /// What the other side may see
    #[arg(long, value_name = "WHAT")]
    pub(crate) carry: Option<CarryWord>,
    /// How far back to look, such as "7 days"
    #[arg(long, value_name = "LENGTH")]
    pub(crate) past: Option<String>,
    /// How far ahead to look, such as "3 months"
    #[arg(long, value_name = "LENGTH")]
    pub(crate) ahead: Option<String>,
    /// Leave copies where they are when their source is deleted
    #[arg(long)]
    pub(crate) keep_deletions: bool,
}

/// What a new route carries.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum CarryWord {
    /// All of it.
    Everything,
    /// The time alone.
    Busy,
}

impl CarryWord {
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Everything => "everything",
            Self::Busy => "busy",
        }
    }
}

#[derive(Debug, Subcommand)]
pub(crate) enum CalendarCommand {
    /// List the calendars of the accounts, and the feeds, files and folders of the configuration
    List {
        /// Accounts [default: all]
        #[arg(value_name = "ACCOUNT")]
        names: Vec<String>,
    },
    /// Write a calendar into the configuration, after a look at it
    Add(Box<CalendarAdd>),
    /// Make a new calendar on an account's server; --color "#b5651d" gives it a colour
    Create {
        /// The account
        account: String,
        /// The name it gets on the server
        name: String,
        /// What it takes
        #[arg(long, value_name = "KINDS", value_delimiter = ',', default_values = ["events"])]
        kinds: Vec<KindWord>,
        /// Also write it into the configuration, under this name
        #[arg(long = "as", value_name = "NAME")]
        called: Option<String>,
    },
    /// Give a calendar another name on its server
    Rename {
        /// The calendar, as the configuration calls it
        calendar: String,
        /// The new name
        name: String,
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
