//! What is wrong with a key of the configuration, and what to write instead.

use std::path::Path;

use chestnut_core::Detail;

use super::failures::READ_ONLY_FEED;
use crate::failure::Failure;
use crate::render::typed;

/// What is wrong with the value of a key, or with its being there.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Problem<'a> {
    NotText,
    NotFlag,
    NotNumber,
    NotBetween(usize, usize),
    NotDuration,
    NotReach,
    NotDay,
    NotZone(&'a str),
    NotOrigin(&'a str),
    NotTexts,
    NotTable,
    NotOneOf(&'a [&'a str]),
    NotKind(&'a str),
    NotPattern {
        text: &'a str,
        why: &'a str,
    },
    NotCarry(&'a str),
    NotDetail(&'a str),
    NotReminders,
    /// What is no name of a colour.
    NotColour {
        name: &'a str,
        near: Option<&'a String>,
    },
    NotSeveral,
    NotServer,
    NotWebAddress,
    NotFeedAddress,
    NotProxy,
    NotKeep,
    Empty,
    /// It had another name before.
    Renamed(&'a str),
    RenamedWord {
        old: &'a str,
        new: &'a str,
    },
    /// Only one of the two may be there.
    Excludes(&'a str),
    OneWayAndTwoWay,
    OneWayOnly,
    TwoWayOnly,
    ToItself,
    /// The calendars whose word could count.
    NobodysWord(&'a [String]),
    NoWayBack,
    EndsFirst,
    NeedsEnd,
    JoinsBusy,
    JoinedAnyway,
    TitleOfBusy,
    /// A key of `skip` that is false.
    SkipsNothing(&'a str),
    FeedAsTarget(&'a str),
    /// Another name of the same calendar.
    SameCalendar(&'a str),
    /// A route that has, or had, the name that this one had before.
    StillCalledSo(&'a str),
    /// A calendar that tells when time is taken.
    NothingButTime(&'a str),
    NamesNothing {
        kind: &'a str,
        value: &'a str,
        near: Option<&'a String>,
        known: &'a [&'a str],
    },
    NoSignIn,
    OfFeeds,
    OfItsAccount,
    SignInInAccount,
    SignInInProxy,
    SignInInFeed,
    /// A secret stands where the place of one belongs.
    SecretItself(&'a str),
    NoProgram,
    TokensInTheClear,
    /// Shorter than a minute, where nobody said that this is meant.
    TooOften,
    /// A route that is like itself, by way of others.
    LikeItself,
    /// Nothing has this name, or this pattern.
    NoSuchFile(&'a str),
    CannotBeRead {
        file: &'a str,
        why: &'a str,
    },
    NotListen,
    /// Whoever asks from another machine must say who they are.
    ListenNeedsToken,
    StateIsUrl,
    NotPostgres,
    PasswordInUrl,
    LeaseOutOfBounds,
    NotNameOfCredential,
}

impl Problem<'_> {
    /// Goes on after the name of the key.
    pub(super) fn words(&self) -> String {
        let text = match self {
            Self::NotText => "must be a text in quotes",
            Self::NotFlag => "must be true or false",
            Self::NotNumber => "must be a whole number",
            Self::NotBetween(least, most) => return format!("must be between {least} and {most}"),
            Self::NotDuration => "is not a duration; write it as \"30s\", \"10 minutes\" or \"90 days\"",
            Self::NotReach => "is not a length of time; write it as \"7 days\", \"2 weeks\" or \"3 months\"",
            Self::NotDay => "is not a day; write it as \"2026-12-01\"",
            Self::NotOrigin(text) => {
                return format!(
                    "holds {text:?}, which is not just a server; write it as \"https://p42.cloud.example\", or \"https://*.cloud.example\" for any one label"
                );
            }
            Self::NotZone(name) => {
                return format!("is {name:?}, which is not a known time zone such as \"Europe/Ljubljana\"");
            }
            Self::NotTexts => "must be a list of texts, such as [\"events\"]",
            Self::NotTable => "must be a table",
            Self::NotOneOf(words) => return format!("must be {}", quoted(words.iter()).join(" or ")),
            Self::NotKind(word) => {
                return format!("has {word:?}; kinds are \"events\", \"tasks\" and \"journals\"");
            }
            Self::NotPattern { text, why } => return format!("has {text:?}, which is not a pattern: {why}"),
            Self::NotCarry(word) => return format!("is {word:?}"),
            Self::NotDetail(word) => return format!("has {word:?}"),
            Self::NotColour { name, .. } => {
                return format!("has {name:?}, which is not the name of a colour");
            }
            Self::NotReminders => {
                "is \"as-they-are\", \"none\", or how long before the start, such as \"30 minutes\""
            }
            Self::NotSeveral => "must name two or more different calendars",
            Self::NotServer => {
                "must be a host such as \"dav.packhouse.example\", or begin with https:// or http://"
            }
            Self::NotWebAddress => "must begin with https:// or http:// and name a host",
            Self::NotFeedAddress => "must begin with https://, http:// or webcal://",
            Self::NotProxy => "must begin with http:// or https:// and name a host, or be \"none\"",
            Self::NotKeep => {
                "must be { file = \"PATH\" } or { keyring = \"NAME\" }: tokens are written there"
            }
            Self::Empty => "is empty",
            Self::Renamed(new) => return format!("is called `{new}` now"),
            Self::RenamedWord { old, new } => {
                return format!("says \"{old}\", which is called \"{new}\" now");
            }
            Self::Excludes(other) => return format!("and `{other}` exclude each other"),
            Self::OneWayAndTwoWay => "and `between` exclude each other",
            Self::OneWayOnly => "is for one-way routes, and busy-only ones",
            Self::TwoWayOnly => "is for two-way routes: in a one-way route `from` is right",
            Self::ToItself => "is the calendar that the route comes from",
            Self::NobodysWord(calendars) => {
                let calendars = quoted(calendars.iter()).join(", ");
                return format!("must be \"newest\", \"hold\", or a calendar: {calendars}");
            }
            Self::NoWayBack => "gives copies another form, which has no way back",
            Self::EndsFirst => "lies before `from`",
            Self::NeedsEnd => "needs an end: a series may go on for ever",
            Self::JoinsBusy => "joins busy time",
            Self::JoinedAnyway => "has no effect with `join-busy`, which joins all of them",
            Self::TitleOfBusy => "is the title of busy-only copies",
            Self::SkipsNothing(key) => {
                return format!(
                    "is false, which skips nothing: leave it out, or write only = {{ {key} = true }}"
                );
            }
            Self::FeedAsTarget(name) => {
                return format!("names `{name}`, which is a feed: a feed can only be read");
            }
            Self::SameCalendar(name) => {
                return format!("is where `{name}` is: one calendar has one name here");
            }
            Self::StillCalledSo(name) => {
                return format!(
                    "is the name of route `{name}`, or was: copies of two routes would be taken for each other's"
                );
            }
            Self::NothingButTime(name) => {
                return format!("must be \"busy\": `{name}` tells nothing but when time is taken");
            }
            Self::NamesNothing { kind, value, .. } => {
                return format!("names the {kind} `{value}`, which is not there");
            }
            Self::NoSignIn => "has no place here: a file or folder needs no sign-in",
            Self::OfFeeds => "is for feeds; for a calendar on a server it stands in its account",
            Self::OfItsAccount => "is that of its account; say it there",
            Self::SignInInAccount => "must not hold user or password; use `user` and `password`",
            Self::SignInInProxy | Self::SignInInFeed => "must not hold user or password",
            Self::SecretItself(key) => {
                let what = key.replace('-', " ");
                return format!("must say where the {what} is kept, not what it is");
            }
            Self::NoProgram => "must name a program",
            Self::TokensInTheClear => "must begin with https://: tokens travel there",
            Self::TooOften => {
                "is shorter than a minute: other people's servers answer each of these questions"
            }
            Self::LikeItself => "leads back to this route",
            Self::NoSuchFile(pattern) => return format!("has {pattern:?}, and there is no such file"),
            Self::CannotBeRead { file, why } => return format!("has {file:?}, which cannot be read: {why}"),
            Self::NotListen => "must be an address and a port, such as \"127.0.0.1:8086\"",
            Self::StateIsUrl => "must be a path; a database is named by a table",
            Self::NotPostgres => "must be a database of PostgreSQL: `postgres://user@host/database`",
            Self::PasswordInUrl => "holds a password, which would be shown wherever the address is",
            Self::LeaseOutOfBounds => "must be between 10 seconds and an hour",
            Self::ListenNeedsToken => "can be reached from other machines, and no `listen-token` is said",
            Self::NotNameOfCredential => "must be a name, without a path",
        };
        text.to_owned()
    }

    /// What to write instead, where the words do not say so already.
    fn advice(&self) -> Option<String> {
        let text = match self {
            Self::NotCarry(_) => {
                "It is \"everything\" (the default), \"busy\", or a table such as { details = [\"title\", \"location\"] }."
            }
            Self::NotDetail(_) => {
                return Some(details_are());
            }
            Self::NotColour { near: Some(near), .. } => return Some(perhaps(near)),
            Self::NotColour { .. } => {
                "The colour of an entry is one of the names that web pages use, such as \"orange\" or \"seagreen\"."
            }
            Self::OneWayAndTwoWay => "A one-way route has `from` and `to`, a two-way route has `between`.",
            Self::NoWayBack => {
                "Between calendars say only which `details` are kept alike, such as carry = { details = [\"title\"] }."
            }
            Self::NeedsEnd => {
                "Say how far ahead to look, such as window = { past = \"7 days\", ahead = \"90 days\" }."
            }
            Self::JoinsBusy => "Say carry = \"busy\" too, or take it out.",
            Self::TitleOfBusy => {
                "Say carry = \"busy\" too, or give copies a title with carry = { title = \"…\" }."
            }
            Self::FeedAsTarget(_) => READ_ONLY_FEED,
            Self::StillCalledSo(_) => "Call the other route otherwise, or take `was` out of this one.",
            Self::SameCalendar(_) => "Use the other name in routes, and take this table out.",
            Self::NothingButTime(_) => {
                "Write carry = \"busy\" into the route; busy-title gives its copies a title."
            }
            Self::NamesNothing { near: Some(near), .. } => return Some(perhaps(near)),
            Self::NamesNothing { kind, value, known: [], .. } => {
                return Some(format!("Add [{kind}.{value}]."));
            }
            Self::NamesNothing { kind, value, known, .. } => {
                return Some(format!("Add [{kind}.{value}], or name one of: {}.", known.join(", ")));
            }
            Self::SignInInProxy => {
                "Write proxy = { url = \"…\", user = \"…\", password = { file = \"…\" } }."
            }
            Self::SignInInFeed => "Make an account with the user and the password, and name it as `account`.",
            Self::SecretItself(_) => {
                "Write { env = \"NAME\" }, { file = \"PATH\" }, { command = [\"…\"] } or { keyring = \"NAME\" }."
            }
            Self::TooOften => {
                "Write 1 minute or more; or `eager = true` into [watch], where all of the servers are your own."
            }
            Self::ListenNeedsToken => {
                "Listen on 127.0.0.1, or say listen-token = { file = \"PATH\" }: whoever asks sends it along."
            }
            _ => return None,
        };
        Some(text.to_owned())
    }
}

fn details_are() -> String {
    let words: Vec<_> = Detail::ALL.iter().map(|detail| detail.word()).collect();
    format!("Details are: {}. The time is always carried.", words.join(", "))
}

/// What is to be carried is no detail, nor a word for all or nothing of them.
pub(crate) fn not_carried(word: &str, near: Option<&String>) -> String {
    let near = near.map(|near| format!("{} ", perhaps(near))).unwrap_or_default();
    format!("{word:?} is not a detail. {near}{}", details_are())
}

fn quoted<'w>(words: impl Iterator<Item = impl std::fmt::Display> + 'w) -> Vec<String> {
    words.map(|word| format!("\"{word}\"")).collect()
}

/// A place in a configuration: the file, and the line.
type At<'a> = (&'a Path, usize);

fn here((path, line): At<'_>, problem: &str) -> Failure {
    Failure::usage(format!("{}, line {line}: {problem}", path.display()))
}

/// In which table; the keys at the top are in none.
fn inside(table: &str) -> String {
    if table.is_empty() { String::new() } else { format!(" in [{table}]") }
}

pub(crate) fn wrong_key(at: At<'_>, table: &str, key: &str, problem: &Problem<'_>) -> Failure {
    let failure = here(at, &format!("`{key}`{} {}", inside(table), problem.words()));
    match problem.advice() {
        Some(advice) => failure.hint(advice),
        None => failure,
    }
}

pub(crate) fn lacking_key(at: At<'_>, table: &str, key: &str) -> Failure {
    here(at, &format!("[{table}] lacks `{key}`"))
}

pub(crate) fn lacking_secret(at: At<'_>, table: &str) -> Failure {
    lacking_key(at, table, "env, file, command or keyring (exactly one)")
}

/// What to do about a key that is not known.
pub(crate) enum UnknownKey<'a> {
    Perhaps(&'a str),
    /// Others have it.
    Elsewhere(&'a [&'static str]),
    NotOneOf(&'a [&'a str]),
}

pub(crate) fn unknown_key(at: At<'_>, table: &str, key: &str, advice: &UnknownKey<'_>) -> Failure {
    here(at, &format!("unknown key `{key}`{}", inside(table))).hint(match advice {
        UnknownKey::Perhaps(near) => perhaps(near),
        UnknownKey::Elsewhere(places) => format!("`{key}` stands {}.", places.join(", or ")),
        UnknownKey::NotOneOf(keys) => format!("Keys here are: {}.", keys.join(", ")),
    })
}

/// A name that two files, or one file twice, give away.
pub(crate) fn declared_twice(at: At<'_>, table: &str, (other, line): At<'_>) -> Failure {
    here(at, &format!("[{table}] is also in {}, line {line}", other.display()))
        .hint("Every account, calendar and route has one table; give one of them another name.")
}

/// The parser's own words.
pub(crate) fn not_toml(at: At<'_>, words: &str) -> Failure {
    here(at, words)
}

pub(crate) fn relay_in_a_circle(at: At<'_>, circle: &str) -> Failure {
    here(at, &format!("these routes run in a circle, and one of them relays copies: {circle}")).hint(
        "Take `relay` out of it, or one of the routes: entries would come back as copies of themselves.",
    )
}

pub(super) fn perhaps(near: &str) -> String {
    format!("Did you mean `{near}`?")
}

/// A calendar that does not say where it is.
pub(crate) fn where_a_calendar_is(account: Option<&str>) -> String {
    match account {
        Some(account) => format!("`chestnut calendar list {}` shows the paths.", typed(account)),
        None => "Name a calendar on a server with `account` and `path`; or a `feed`, a `freebusy`, a `file` or a `folder`."
            .to_owned(),
    }
}
