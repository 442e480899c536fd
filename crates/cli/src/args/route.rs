//! `route …`

use chestnut_core::Detail;
use clap::{Args, Subcommand};

use super::complete::{calendars, carried, routes};
use crate::settings::nearest;
use crate::words::not_carried;

#[derive(Debug, Subcommand)]
pub(crate) enum RouteCommand {
    /// List the routes: their way, what they carry, how they stand
    List,
    /// Show one route in full
    Show {
        /// The route
        #[arg(add = routes())]
        route: String,
    },
    /// Write a route into the configuration, after a look at what it would do; asks for what is not said
    Add(Box<RouteAdd>),
    /// Change settings of a route, and keep the comments around them
    Edit {
        /// The route
        #[arg(add = routes())]
        route: String,
        /// Such as every="30 minutes", deletions=keep or window.ahead="3 months"; a key without a value takes it out
        #[arg(value_name = "KEY=VALUE", required = true)]
        settings: Vec<String>,
    },
    /// Call a route otherwise; its copies, links and history go on
    Rename {
        /// The route
        #[arg(add = routes())]
        route: String,
        /// Its new name
        new: String,
    },
    /// Hold a route back: `sync` and `watch` pass it over
    Pause {
        /// The route
        #[arg(add = routes())]
        route: String,
        /// It goes on by itself at the beginning of this day, or after so long, such as "2 hours"
        #[arg(long, value_name = "WHEN")]
        until: Option<String>,
    },
    /// Let a paused route go on
    Resume {
        /// The route
        #[arg(add = routes())]
        route: String,
    },
    /// Take a route out of the configuration and forget what it remembers
    Retire {
        /// The route
        #[arg(add = routes())]
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
    #[arg(long, value_name = "CALENDAR", conflicts_with = "between", add = calendars())]
    pub(crate) from: Option<String>,
    /// One way: the calendar that receives copies
    #[arg(long, value_name = "CALENDAR", conflicts_with = "between", add = calendars())]
    pub(crate) to: Option<String>,
    /// Both ways: two or more calendars
    #[arg(long, value_name = "CALENDARS", add = calendars(), value_delimiter = ',')]
    pub(crate) between: Vec<String>,
    /// What the other side may see
    ///
    /// `everything`, `busy` for the time alone, or details such as `title,location`
    #[arg(long, value_name = "WHAT", value_parser = Carried::read, add = carried())]
    pub(crate) carry: Option<Carried>,
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
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Carried {
    /// All of it.
    Everything,
    /// The time alone.
    Busy,
    /// The time, and these.
    Details(Vec<Detail>),
}

impl Carried {
    /// Reads `everything`, `busy`, or details after each other: `title, location`.
    pub(crate) fn read(text: &str) -> Result<Self, String> {
        match text.trim() {
            "everything" => Ok(Self::Everything),
            "busy" => Ok(Self::Busy),
            details => {
                let words = details.split(',').map(str::trim);
                let one = |word: &str| {
                    let known = Detail::ALL.map(|detail| detail.word().to_owned());
                    Detail::named(word).ok_or_else(|| not_carried(word, nearest(word, known.iter())))
                };
                words.map(one).collect::<Result<_, _>>().map(Self::Details)
            }
        }
    }
}
