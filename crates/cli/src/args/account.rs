//! `account …`

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::complete::{accounts, calendars};

#[derive(Debug, Subcommand)]
pub(crate) enum AccountCommand {
    /// List the accounts of the configuration, and what uses them
    #[command(alias = "show")]
    List,
    /// Try a sign-in, and write it into the configuration
    Add(Box<AccountAdd>),
    /// Go the way to the calendars step by step, and say at which step it ends and what to do
    Test {
        /// Accounts [default: all]
        #[arg(value_name = "ACCOUNT", add = accounts())]
        names: Vec<String>,
        /// Another server of the same service that may have the sign-in; written into the configuration
        #[arg(long, value_name = "URL")]
        sign_in_also_at: Vec<String>,
        /// A calendar to write a test entry into: it is created, changed and deleted again
        #[arg(long, value_name = "CALENDAR", add = calendars())]
        write: Vec<String>,
    },
    /// Sign in with a browser, for accounts with `oauth`
    Login {
        /// The account
        #[arg(add = accounts())]
        account: String,
        /// Give a code to type on another device, instead of using a browser on this one
        #[arg(long)]
        code: bool,
        /// Print the address to open, and leave the opening to you
        #[arg(long, conflicts_with = "code")]
        no_browser: bool,
    },
    /// Give an account another password: it is asked for, tried, and kept where the old one is
    Password {
        /// The account
        #[arg(add = accounts())]
        account: String,
    },
    /// Hold back every route that uses an account: for the time its server is worked on
    Pause {
        /// The account
        #[arg(add = accounts())]
        account: String,
        /// They go on by themselves at the beginning of this day, or after so long, such as "2 hours"
        #[arg(long, value_name = "WHEN")]
        until: Option<String>,
    },
    /// Let the routes of a paused account go on
    Resume {
        /// The account
        #[arg(add = accounts())]
        account: String,
    },
    /// Go on at a server's new address: its calendars are recognised by what stands in them
    ///
    /// Each calendar that routes use is sought there, and is the same where at least 80 % of its entries stand. What was
    /// agreed, and the history, stay. What is known of the old address is in the state: the old server need not answer.
    #[command(after_help = "Example:\n  chestnut account move packhouse https://dav.orchard.example/")]
    Move {
        /// The account
        #[arg(add = accounts())]
        account: String,
        /// The new address, as for `account add`
        #[arg(value_name = "URL")]
        url: String,
        /// Do it without a question
        #[arg(long, short)]
        yes: bool,
    },
    /// Take an account out of the configuration, with the secrets kept for it
    Forget {
        /// The account
        #[arg(add = accounts())]
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
    /// Another server of the same service that may have the sign-in, too
    #[arg(long, value_name = "URL")]
    pub(crate) sign_in_also_at: Vec<String>,
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
