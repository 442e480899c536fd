//! The configuration file as values.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use chestnut_core::{Choice, Deletions, FarEdits, Kind, Kinds};
use jiff::SignedDuration;
use jiff::tz::TimeZone;
use toml::de::DeTable;

use super::account::{AccountSettings, account};
use super::calendar::{CalendarSettings, Place, calendar};
use super::choice::{ONLY_KEYS, SKIP_KEYS, tests};
use super::reader::{Section, Source};
use crate::environment::Environment;
use crate::error_report::{Failure, READ_ONLY_FEED};

/// The whole configuration.
#[derive(Debug)]
pub(crate) struct Settings {
    /// Where it was read from.
    pub(crate) path: PathBuf,
    /// For what is shown.
    pub(crate) zone: TimeZone,
    /// How long replaced and deleted texts are kept.
    pub(crate) keep_history: SignedDuration,
    pub(crate) accounts: BTreeMap<String, AccountSettings>,
    pub(crate) calendars: BTreeMap<String, CalendarSettings>,
    pub(crate) routes: BTreeMap<String, RouteSettings>,
}

/// `[route.NAME]`
#[derive(Debug)]
pub(crate) struct RouteSettings {
    pub(crate) from: String,
    pub(crate) to: String,
    pub(crate) kinds: Kinds,
    pub(crate) choice: Choice,
    pub(crate) deletions: Deletions,
    pub(crate) far_edits: FarEdits,
    pub(crate) check_every: SignedDuration,
}

impl Settings {
    /// The folder from which the configuration's paths are read.
    pub(crate) fn base(&self) -> &Path {
        self.path.parent().unwrap_or(Path::new(""))
    }

    /// Finds the configuration and reads it.
    pub(crate) fn load(named: Option<&Path>, environment: &Environment) -> Result<Self, Failure> {
        let path = find(named, environment)?;
        let text = std::fs::read_to_string(&path).map_err(|e| {
            Failure::usage(format!("the configuration {} cannot be read: {e}", path.display()))
                .hint("Name another one with --config.")
        })?;
        Self::parse(&path, &text)
    }

    /// A configuration that says nothing yet.
    pub(crate) fn empty(path: &Path) -> Self {
        Self {
            path: path.to_owned(),
            zone: TimeZone::system(),
            keep_history: SignedDuration::from_hours(24 * 90),
            accounts: BTreeMap::new(),
            calendars: BTreeMap::new(),
            routes: BTreeMap::new(),
        }
    }

    pub(super) fn parse(path: &Path, text: &str) -> Result<Self, Failure> {
        let source = Source { path, text };
        let table = DeTable::parse(text).map_err(|e| {
            let at = e.span().map_or(0, |span| span.start);
            source.error(at, e.message())
        })?;
        let root = Section { source: &source, name: String::new(), table: table.get_ref(), at: 0 };
        root.allow(&["timezone", "keep-history", "account", "calendar", "route"])?;
        let mut settings = Self {
            path: path.to_owned(),
            zone: zone(&root)?,
            keep_history: root.duration("keep-history")?.unwrap_or(SignedDuration::from_hours(24 * 90)),
            accounts: named(&root, "account", account)?,
            calendars: named(&root, "calendar", calendar)?,
            routes: BTreeMap::new(),
        };
        settings.refuse_feeds_as_targets(&root)?;
        settings.routes = named(&root, "route", route)?;
        settings.check_references(&root)?;
        Ok(settings)
    }

    /// A feed can only be read: a route that would write to one is refused before anything else is said of it.
    fn refuse_feeds_as_targets(&self, root: &Section<'_>) -> Result<(), Failure> {
        let is_feed = |name: &str| {
            matches!(self.calendars.get(name), Some(CalendarSettings { place: Place::Feed(_), .. }))
        };
        for (_, section) in root.sections("route")? {
            let to = section.text("to").ok().flatten();
            let between = section.texts("between").ok().flatten().unwrap_or_default();
            let named =
                to.iter().map(|name| ("to", name)).chain(between.iter().map(|name| ("between", name)));
            for (key, name) in named {
                if is_feed(name) {
                    let what = format!("names `{name}`, which is a feed: a feed can only be read");
                    return Err(section.wrong(key, what).hint(READ_ONLY_FEED));
                }
            }
        }
        Ok(())
    }

    /// Calendars name accounts, routes name calendars: all of them must be there.
    fn check_references(&self, root: &Section<'_>) -> Result<(), Failure> {
        for (name, section) in root.sections("calendar")? {
            let Some(account) = &self.calendars[&name].account else { continue };
            if !self.accounts.contains_key(account) {
                return Err(unknown(&section, "account", account, self.accounts.keys()));
            }
        }
        for (name, section) in root.sections("route")? {
            let route = &self.routes[&name];
            for (key, calendar) in [("from", &route.from), ("to", &route.to)] {
                if !self.calendars.contains_key(calendar) {
                    return Err(unknown(&section, key, calendar, self.calendars.keys()));
                }
            }
            if route.from == route.to {
                return Err(section.wrong("to", "is the calendar that the route comes from"));
            }
        }
        Ok(())
    }

    /// Returns the routes that were asked for, or all.
    pub(crate) fn chosen_routes(&self, names: &[String]) -> Result<Vec<(&str, &RouteSettings)>, Failure> {
        if self.routes.is_empty() {
            return Err(Failure::usage(format!("{} has no route", self.path.display()))
                .hint("Add one: [route.NAME] with `from` and `to`."));
        }
        choose(&self.routes, names, "route")
    }

    /// Returns one calendar.
    pub(crate) fn chosen_calendar(&self, name: &str) -> Result<(&str, &CalendarSettings), Failure> {
        let mut chosen = choose(&self.calendars, &[name.to_owned()], "calendar")?;
        Ok(chosen.remove(0))
    }

    /// Returns the accounts that were asked for, or all.
    pub(crate) fn chosen_accounts(&self, names: &[String]) -> Result<Vec<(&str, &AccountSettings)>, Failure> {
        if self.accounts.is_empty() {
            return Err(Failure::usage(format!("{} has no account", self.path.display()))
                .hint("Add one: `chestnut account add NAME URL --user USER`."));
        }
        choose(&self.accounts, names, "account")
    }
}

fn choose<'s, T>(
    all: &'s BTreeMap<String, T>,
    names: &[String],
    what: &str,
) -> Result<Vec<(&'s str, &'s T)>, Failure> {
    if names.is_empty() {
        return Ok(all.iter().map(|(name, value)| (name.as_str(), value)).collect());
    }
    let find = |name: &String| {
        all.get_key_value(name).map(|(name, value)| (name.as_str(), value)).ok_or_else(|| {
            let known: Vec<_> = all.keys().map(String::as_str).collect();
            let failure = Failure::usage(format!("there is no {what} `{name}`"));
            match nearest(name, all.keys()) {
                Some(near) => failure.hint(format!("Did you mean `{near}`?")),
                None => failure.hint(format!("There are: {}.", known.join(", "))),
            }
        })
    };
    names.iter().map(find).collect()
}

pub(crate) fn nearest<'k>(name: &str, keys: impl Iterator<Item = &'k String>) -> Option<&'k String> {
    keys.map(|k| (strsim::jaro_winkler(k, name), k))
        .filter(|(score, _)| *score > 0.8)
        .max_by(|a, b| a.0.total_cmp(&b.0))
        .map(|(_, k)| k)
}

fn unknown<'k>(
    section: &Section<'_>,
    key: &str,
    value: &str,
    known: impl Iterator<Item = &'k String> + Clone,
) -> Failure {
    let kind = if key == "account" { "account" } else { "calendar" };
    let failure = section.wrong(key, format_args!("names the {kind} `{value}`, which is not there"));
    match nearest(value, known.clone()) {
        Some(near) => failure.hint(format!("Did you mean `{near}`?")),
        None => {
            let known: Vec<_> = known.map(String::as_str).collect();
            failure.hint(match known.is_empty() {
                true => format!("Add [{kind}.{value}]."),
                false => format!("Add [{kind}.{value}], or name one of: {}.", known.join(", ")),
            })
        }
    }
}

pub(crate) fn find(named: Option<&Path>, environment: &Environment) -> Result<PathBuf, Failure> {
    if let Some(path) = named.map(Path::to_owned).or_else(|| environment.path("CHESTNUT_CONFIG")) {
        return Ok(path);
    }
    let here = PathBuf::from("chestnut.toml");
    let folder = environment
        .path("XDG_CONFIG_HOME")
        .or_else(|| environment.path("HOME").map(|home| home.join(".config")))
        .or_else(|| environment.path("APPDATA"));
    let platform = folder.map(|folder| folder.join("chestnut").join("chestnut.toml"));
    let found = std::iter::once(here).chain(platform.clone()).find(|path| path.is_file());
    found.ok_or_else(|| {
        let also = platform.map(|path| format!(" nor {}", path.display())).unwrap_or_default();
        Failure::usage(format!("there is no configuration: neither ./chestnut.toml{also}"))
            .hint("Make one with `chestnut init`, name one with --config, or see the whole job first with `chestnut demo`.")
    })
}

type Read<T> = fn(&Section<'_>) -> Result<T, Failure>;

fn named<T>(root: &Section<'_>, key: &str, read: Read<T>) -> Result<BTreeMap<String, T>, Failure> {
    root.sections(key)?.into_iter().map(|(name, section)| Ok((name, read(&section)?))).collect()
}

fn zone(root: &Section<'_>) -> Result<TimeZone, Failure> {
    let Some(name) = root.text("timezone")? else { return Ok(TimeZone::system()) };
    let zone = chestnut_core::resolve_zone(&name).map(|zone| zone.rules);
    zone.ok_or_else(|| {
        root.wrong(
            "timezone",
            format_args!("is {name:?}, which is no known zone such as \"Europe/Ljubljana\""),
        )
    })
}

fn route(section: &Section<'_>) -> Result<RouteSettings, Failure> {
    section.allow(&["from", "to", "carry", "only", "skip", "me", "deletions", "far-edits", "check-every"])?;
    if let Some(carry) = section.text("carry")?.filter(|carry| carry != "everything") {
        let known = "This version carries \"everything\", which is the default.";
        return Err(section.wrong("carry", format_args!("is {carry:?}")).hint(known));
    }
    let kinds = match section.section("only")? {
        None => None,
        Some(only) => {
            only.allow(ONLY_KEYS)?;
            only.texts("kinds")?.map(|words| kinds(&only, &words)).transpose()?
        }
    };
    let mut choice = Choice::default();
    if let Some(only) = section.section("only")? {
        choice.only = tests(&only, true)?;
    }
    if let Some(skip) = section.section("skip")? {
        skip.allow(SKIP_KEYS)?;
        choice.skip = tests(&skip, false)?;
    }
    choice.add_addresses(&section.texts("me")?.unwrap_or_default());
    Ok(RouteSettings {
        from: section.needed_text("from")?,
        to: section.needed_text("to")?,
        choice,
        kinds: kinds.unwrap_or_else(|| [Kind::Event].into_iter().collect()),
        deletions: section.choice(
            "deletions",
            &[("carry", Deletions::Carry), ("keep", Deletions::Keep)],
            Deletions::Carry,
        )?,
        far_edits: section.choice(
            "far-edits",
            &[("restore", FarEdits::Restore), ("leave", FarEdits::Leave)],
            FarEdits::Restore,
        )?,
        check_every: section.duration("check-every")?.unwrap_or(SignedDuration::from_hours(24)),
    })
}

fn kinds(only: &Section<'_>, words: &[String]) -> Result<Kinds, Failure> {
    let kind = |word: &String| {
        Kind::ALL.into_iter().find(|k| k.word() == word).ok_or_else(|| {
            only.wrong(
                "kinds",
                format_args!("has {word:?}; kinds are \"events\", \"tasks\" and \"journals\""),
            )
        })
    };
    words.iter().map(kind).collect()
}
