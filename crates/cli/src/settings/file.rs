//! The configuration file as values.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use chestnut_core::Shows;
use jiff::SignedDuration;
use jiff::civil::Weekday;
use jiff::tz::TimeZone;

use super::account::{AccountSettings, SignInSettings, account};
use super::calendar::{CalendarSettings, FeedSource, Place, calendar};
use super::included::{Tables, included};
use super::left_running::{LeftRunning, left_running};
use super::nearest::nearest;
use super::order::circle;
use super::reader::{Section, Source, parsed};
use super::route::{RouteSettings, route};
use super::secrets::SecretSource;
use super::state::{StateSettings, state};
use crate::environment::Environment;
use crate::failure::Failure;
use crate::words::{
    Problem, keys, no_accounts, no_configuration, no_configuration_to_read, no_routes, nothing_called,
    relay_in_a_circle, unknown_system_zone,
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
    /// Where the state is kept.
    pub(crate) state: StateSettings,
    /// Where the key is, by which copies are known; where nothing is said, it is beside the configuration.
    key: Option<PathBuf>,
    /// What is done while nobody watches.
    pub(crate) left_running: LeftRunning,
    /// The file that holds each table that is not in the main one, by kind and name.
    pub(crate) elsewhere: BTreeMap<(&'static str, String), PathBuf>,
    /// The files that `include` names.
    pub(crate) included: Vec<PathBuf>,
    pub(crate) accounts: BTreeMap<String, AccountSettings>,
    pub(crate) calendars: BTreeMap<String, CalendarSettings>,
    pub(crate) routes: BTreeMap<String, RouteSettings>,
}

impl Settings {
    /// The folder from which the configuration's paths are read.
    pub(crate) fn base(&self) -> &Path {
        self.path.parent().unwrap_or(Path::new(""))
    }

    /// Where the state is, if it is a file; else a file that would be.
    pub(crate) fn state_path(&self) -> PathBuf {
        match &self.state {
            StateSettings::File(path) => self.base().join(path),
            StateSettings::Beside | StateSettings::Postgres { .. } => self.path.with_extension("state"),
        }
    }

    /// Where the key is.
    pub(crate) fn key_path(&self) -> PathBuf {
        match &self.key {
            Some(path) => self.base().join(path),
            None => self.path.with_extension("key"),
        }
    }

    /// What this machine is called, where others may use the same state.
    pub(crate) fn machine(&self) -> Option<String> {
        self.state.lease().map(|_| chestnut_store::machine_name())
    }

    /// Finds the configuration and reads it.
    pub(crate) fn load(named: Option<&Path>, environment: &Environment) -> Result<Self, Failure> {
        let path = find(named, environment)?;
        let text = std::fs::read_to_string(&path).map_err(|e| no_configuration_to_read(&path, &e))?;
        let settings = Self::read(&path, &text, None)?;
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
            state: StateSettings::Beside,
            key: None,
            left_running: LeftRunning::default(),
            elsewhere: BTreeMap::new(),
            included: Vec::new(),
            accounts: BTreeMap::new(),
            calendars: BTreeMap::new(),
            routes: BTreeMap::new(),
        }
    }

    /// Reads a text, and the files that it includes; one of them may be about to be written with another text.
    pub(super) fn read(path: &Path, text: &str, instead: Option<(&Path, &str)>) -> Result<Self, Failure> {
        let files = included(path, text, instead)?;
        Self::parse(path, text, &files)
    }

    pub(super) fn parse(path: &Path, text: &str, included: &[(PathBuf, String)]) -> Result<Self, Failure> {
        let mut sources = vec![Source { path, text }];
        sources.extend(included.iter().map(|(path, text)| Source { path, text }));
        let parsed: Vec<_> = sources.iter().map(parsed).collect::<Result<_, _>>()?;
        let files: Vec<_> = sources
            .iter()
            .zip(&parsed)
            .map(|(source, table)| Section::root(source, table.get_ref()))
            .collect();
        let (root, others) = files.split_first().expect("the main file");
        root.allow_described(keys::TOP)?;
        for other in others {
            other.allow(&["account", "calendar", "route"])?;
        }
        let tables = Tables::of(&files)?;
        let mut settings = Self {
            path: path.to_owned(),
            zone: zone(root)?,
            week_starts: week_starts(root)?,
            keep_history: root.duration("keep-history")?.unwrap_or(SignedDuration::from_hours(24 * 90)),
            state: state(root)?,
            key: root.text("key")?.map(PathBuf::from),
            left_running: left_running(root)?,
            elsewhere: tables.elsewhere(path),
            included: included.iter().map(|(path, _)| path.clone()).collect(),
            accounts: named(&tables.accounts, account)?,
            calendars: named(&tables.calendars, calendar)?,
            routes: BTreeMap::new(),
        };
        settings.refuse_feeds_as_targets(&tables)?;
        settings.routes = named(&tables.routes, route)?;
        settings.check_references(&tables)?;
        settings.check_pace(&tables)?;
        settings.part_busy_routes();
        if let Some((name, circle)) = circle(&settings.routes) {
            let section = &tables.routes[name];
            return Err(relay_in_a_circle(section.place_of("relay"), &circle));
        }
        Ok(settings)
    }

    /// The files beside the configuration that say how to sign in, and whom to trust.
    pub(crate) fn secret_files(&self) -> Vec<PathBuf> {
        let mut files = vec![self.key_path()];
        let mut named = |path: &Path| files.push(self.base().join(path));
        let of = |source: &SecretSource| match source {
            SecretSource::File(path) => Some(path.clone()),
            _ => None,
        };
        if let StateSettings::Postgres { password, ca, .. } = &self.state {
            password.as_ref().and_then(of).iter().chain(ca).for_each(|path| named(path));
        }
        for account in self.accounts.values() {
            let secret = match &account.sign_in {
                SignInSettings::Password(source) | SignInSettings::Token(source) => of(source),
                SignInSettings::OAuth(oauth) => oauth.client_secret.as_ref().and_then(of),
                SignInSettings::Nobody => None,
            };
            let proxy = account.proxy.as_ref().and_then(|proxy| proxy.password.as_ref()).and_then(of);
            let own = [&account.ca, &account.certificate, &account.certificate_key];
            own.into_iter().flatten().chain(&secret).chain(&proxy).for_each(|path| named(path));
        }
        for calendar in self.calendars.values() {
            if let Place::Feed(FeedSource::Secret(source)) | Place::FreeBusy(FeedSource::Secret(source)) =
                &calendar.place
            {
                of(source).iter().for_each(|path| named(path));
            }
        }
        files
    }

    /// The file that holds an account, a calendar or a route.
    pub(crate) fn file_of(&self, kind: &'static str, name: &str) -> &Path {
        self.elsewhere.get(&(kind, name.to_owned())).unwrap_or(&self.path)
    }

    /// Other people's servers are not asked every few seconds.
    fn check_pace(&self, tables: &Tables<'_>) -> Result<(), Failure> {
        if self.left_running.is_eager {
            return Ok(());
        }
        for (name, section) in &tables.routes {
            if self.routes[name].every < SignedDuration::from_mins(1) {
                return Err(section.wrong("every", Problem::TooOften));
            }
        }
        Ok(())
    }

    /// A feed can only be read: a route that would write to one is refused before anything else is said of it.
    fn refuse_feeds_as_targets(&self, tables: &Tables<'_>) -> Result<(), Failure> {
        let is_feed = |name: &str| self.calendars.get(name).is_some_and(|one| one.place.is_read_only());
        for section in tables.routes.values() {
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
    fn check_references(&self, tables: &Tables<'_>) -> Result<(), Failure> {
        for (name, section) in &tables.calendars {
            let Some(account) = &self.calendars[name].account else { continue };
            if !self.accounts.contains_key(account) {
                return Err(unknown(section, "account", account, self.accounts.keys()));
            }
        }
        let mut known: BTreeMap<(Option<&String>, &str, String), &str> = BTreeMap::new();
        for (name, section) in &tables.calendars {
            let calendar = &self.calendars[name];
            let Some((key, place)) = calendar.place.written(self.base()) else { continue };
            // Under two names it would be copied into itself.
            if let Some(other) = known.insert((calendar.account.as_ref(), key, place), name) {
                return Err(section.wrong(key, Problem::SameCalendar(other)));
            }
        }
        let mut names: BTreeMap<&String, &str> =
            self.routes.keys().map(|name| (name, name.as_str())).collect();
        for (name, section) in &tables.routes {
            for was in &self.routes[name].was {
                if let Some(other) = names.insert(was, name).filter(|other| other != name) {
                    return Err(section.wrong("was", Problem::StillCalledSo(other)));
                }
            }
        }
        for (name, section) in &tables.routes {
            let route = &self.routes[name];
            let keys = if route.is_two_way { ["between"; 2] } else { ["from", "to"] };
            if let Some(CalendarSettings { place: Place::FreeBusy(_), .. }) =
                self.calendars.get(&route.ends[0])
                && !matches!(route.carry.shows, Shows::Busy(_))
            {
                return Err(section.wrong("carry", Problem::NothingButTime(&route.ends[0])));
            }
            for (at, calendar) in route.ends.iter().enumerate() {
                if !self.calendars.contains_key(calendar) {
                    return Err(unknown(section, keys[at.min(1)], calendar, self.calendars.keys()));
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
                        was: route.was.iter().map(|was| format!("{was}: {from} → {to}")).collect(),
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

fn named<T>(tables: &BTreeMap<String, Section<'_>>, read: Read<T>) -> Result<BTreeMap<String, T>, Failure> {
    tables.iter().map(|(name, section)| Ok((name.clone(), read(section)?))).collect()
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
