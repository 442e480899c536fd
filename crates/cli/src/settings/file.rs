//! The configuration file as values.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use chestnut_core::Shows;
use jiff::SignedDuration;
use jiff::civil::Weekday;
use jiff::tz::TimeZone;
use toml::de::DeTable;

use super::account::{AccountSettings, account};
use super::calendar::{CalendarSettings, Place, calendar};
use super::order::circle;
use super::reader::{Section, Source};
use super::route::{RouteSettings, route};
use crate::environment::Environment;
use crate::failure::Failure;
use crate::words::{
    Problem, keys, no_accounts, no_configuration, no_configuration_to_read, no_routes, not_toml,
    nothing_called, relay_in_a_circle, unknown_system_zone,
};

/// The whole configuration.
#[derive(Debug)]
pub(crate) struct Settings {
    /// Where it was read from.
    pub(crate) path: PathBuf,
    /// For what is shown.
    pub(crate) zone: TimeZone,
    /// The first day of a week.
    pub(crate) week_starts: Weekday,
    /// How long replaced and deleted texts are kept.
    pub(crate) keep_history: SignedDuration,
    pub(crate) accounts: BTreeMap<String, AccountSettings>,
    pub(crate) calendars: BTreeMap<String, CalendarSettings>,
    pub(crate) routes: BTreeMap<String, RouteSettings>,
}

impl Settings {
    /// The folder from which the configuration's paths are read.
    pub(crate) fn base(&self) -> &Path {
        self.path.parent().unwrap_or(Path::new(""))
    }

    /// Finds the configuration and reads it.
    pub(crate) fn load(named: Option<&Path>, environment: &Environment) -> Result<Self, Failure> {
        let path = find(named, environment)?;
        let text = std::fs::read_to_string(&path).map_err(|e| no_configuration_to_read(&path, &e))?;
        let settings = Self::parse(&path, &text)?;
        match environment.get("TZ").filter(|_| settings.zone.is_unknown()) {
            // Days would begin elsewhere than people think.
            Some(zone) => Err(unknown_system_zone(&zone)),
            None => Ok(settings),
        }
    }

    /// A configuration that says nothing yet.
    pub(crate) fn empty(path: &Path) -> Self {
        Self {
            path: path.to_owned(),
            zone: TimeZone::system(),
            week_starts: Weekday::Monday,
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
            not_toml(source.at(at), e.message())
        })?;
        let root = Section { source: &source, name: String::new(), table: table.get_ref(), at: 0 };
        root.allow_described(keys::TOP)?;
        let mut settings = Self {
            path: path.to_owned(),
            zone: zone(&root)?,
            week_starts: week_starts(&root)?,
            keep_history: root.duration("keep-history")?.unwrap_or(SignedDuration::from_hours(24 * 90)),
            accounts: named(&root, "account", account)?,
            calendars: named(&root, "calendar", calendar)?,
            routes: BTreeMap::new(),
        };
        settings.refuse_feeds_as_targets(&root)?;
        settings.routes = named(&root, "route", route)?;
        settings.check_references(&root)?;
        if let Some(circle) = circle(&settings.routes) {
            return Err(relay_in_a_circle(source.at(0), &circle));
        }
        settings.part_busy_routes();
        Ok(settings)
    }

    /// A feed can only be read: a route that would write to one is refused before anything else is said of it.
    fn refuse_feeds_as_targets(&self, root: &Section<'_>) -> Result<(), Failure> {
        let is_feed = |name: &str| self.calendars.get(name).is_some_and(|one| one.place.is_read_only());
        for (_, section) in root.sections("route")? {
            let to = section.text("to").ok().flatten();
            let between = section.texts("between").ok().flatten().unwrap_or_default();
            let named =
                to.iter().map(|name| ("to", name)).chain(between.iter().map(|name| ("between", name)));
            for (key, name) in named {
                if is_feed(name) {
                    return Err(section.wrong(key, Problem::FeedAsTarget(name)));
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
            let keys = if route.is_two_way { ["between"; 2] } else { ["from", "to"] };
            if let Some(CalendarSettings { place: Place::FreeBusy(_), .. }) =
                self.calendars.get(&route.ends[0])
                && !matches!(route.carry.shows, Shows::Busy(_))
            {
                return Err(section.wrong("carry", Problem::NothingButTime(&route.ends[0])));
            }
            for (at, calendar) in route.ends.iter().enumerate() {
                if !self.calendars.contains_key(calendar) {
                    return Err(unknown(&section, keys[at.min(1)], calendar, self.calendars.keys()));
                }
            }
        }
        Ok(())
    }

    /// Busy time between calendars is copies in all directions: one one-way route for each. Copies are not
    /// originals, so nothing is sent back.
    fn part_busy_routes(&mut self) {
        for (name, route) in std::mem::take(&mut self.routes) {
            if !route.is_two_way || !matches!(route.carry.shows, Shows::Busy(_)) {
                self.routes.insert(name, route);
                continue;
            }
            for from in &route.ends {
                for to in route.ends.iter().filter(|to| *to != from) {
                    let part = RouteSettings {
                        ends: vec![from.clone(), to.clone()],
                        is_two_way: false,
                        part_of: Some(name.clone()),
                        ..route.clone()
                    };
                    self.routes.insert(format!("{name}: {from} → {to}"), part);
                }
            }
        }
    }

    /// Returns the routes that were asked for, or all.
    pub(crate) fn chosen_routes(&self, names: &[String]) -> Result<Vec<(&str, &RouteSettings)>, Failure> {
        if self.routes.is_empty() {
            return Err(no_routes(&self.path));
        }
        // A route of the file that became several is all of them.
        let parts = |name: &String| -> Vec<String> {
            let of = |r: &RouteSettings| r.part_of.as_ref() == Some(name);
            let parts: Vec<_> = self.routes.iter().filter(|(_, r)| of(r)).map(|(n, _)| n.clone()).collect();
            if parts.is_empty() { vec![name.clone()] } else { parts }
        };
        let names: Vec<String> = names.iter().flat_map(parts).collect();
        choose(&self.routes, &names, "route")
    }

    /// Tells whether a route, or one that became several, is called so.
    pub(crate) fn names_route(&self, name: &str) -> bool {
        self.routes.contains_key(name) || self.routes.values().any(|r| r.part_of.as_deref() == Some(name))
    }

    /// Returns one calendar.
    pub(crate) fn chosen_calendar(&self, name: &str) -> Result<(&str, &CalendarSettings), Failure> {
        let mut chosen = choose(&self.calendars, &[name.to_owned()], "calendar")?;
        Ok(chosen.remove(0))
    }

    /// Returns the accounts that were asked for, or all.
    pub(crate) fn chosen_accounts(&self, names: &[String]) -> Result<Vec<(&str, &AccountSettings)>, Failure> {
        if self.accounts.is_empty() {
            return Err(no_accounts(&self.path));
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
            nothing_called(what, name, nearest(name, all.keys()), &known)
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
    let near = nearest(value, known.clone());
    let known: Vec<_> = known.map(String::as_str).collect();
    section.wrong(key, Problem::NamesNothing { kind, value, near, known: &known })
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
    found.ok_or_else(|| no_configuration(platform.as_deref()))
}

type Read<T> = fn(&Section<'_>) -> Result<T, Failure>;

fn named<T>(root: &Section<'_>, key: &str, read: Read<T>) -> Result<BTreeMap<String, T>, Failure> {
    root.sections(key)?.into_iter().map(|(name, section)| Ok((name, read(&section)?))).collect()
}

fn week_starts(root: &Section<'_>) -> Result<Weekday, Failure> {
    let days = [("monday", Weekday::Monday), ("sunday", Weekday::Sunday), ("saturday", Weekday::Saturday)];
    root.choice("week-starts", &days, Weekday::Monday)
}

fn zone(root: &Section<'_>) -> Result<TimeZone, Failure> {
    let Some(name) = root.text("timezone")? else { return Ok(TimeZone::system()) };
    let zone = chestnut_core::resolve_zone(&name).map(|zone| zone.rules);
    zone.ok_or_else(|| root.wrong("timezone", Problem::NotZone(&name)))
}
