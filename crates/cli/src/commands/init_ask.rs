//! `chestnut init --ask`: account → calendars → route, with every answer tried before it is written down.

use std::path::{Path, PathBuf};

use chestnut_caldav::protocol::{CalendarInfo, Found, NewCalendar, feed_address};
use chestnut_core::Kind;
use toml_edit::Value;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::Io;
use crate::new_account::{NewAccount, try_account};
use crate::new_calendar::{make, slug};
use crate::open::{block_on, configuration_path};
use crate::questions::Questions;
use crate::render::clean;
use crate::render::human::account_test::steps_text;
use crate::report::account_test::account_report as report;
use crate::settings::password_file;
use crate::settings::{
    AccountSettings, ConfigurationText, Connections, FeedSource, Place, SecretSource, Settings,
    SignInSettings, check_name, path_from, start,
};
use crate::words::{
    A_FEED, A_FILE, COPIES, DELETE_TOO, FEED_ADDRESS, FIRST_FROM, InWords as _, MORE_COPIES, NAME_ON_SERVER,
    NEW_FOR_COPIES, NO_FEED_ADDRESS, NO_SERVER_ADDRESS, PASSWORD, SERVER_ADDRESS, TASKS_TOO, THEN_ROUTE,
    THEN_TO, USER_NAME, WHICH, WHICH_FILE, calendar_hint, configured_already, it_holds, made_at,
    name_is_taken, name_of_this, no_calendar_yet, nobody_can_be_asked, on_a_server, one_of_account,
    this_writes, which_of_account, written_by_asking,
};

struct Asking<'a, 'io> {
    path: &'a Path,
    text: ConfigurationText,
    settings: Settings,
    questions: Questions,
    io: &'a mut Io<'io>,
}

pub(crate) fn run(file: Option<&Path>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let path = file.map_or_else(|| configuration_path(common, io), |file| Ok(PathBuf::from(file)))?;
    let path = path.as_path();
    let questions = Questions::of_terminal(io.can_ask).ok_or_else(nobody_can_be_asked)?;
    let text = ConfigurationText::read(path)?;
    let settings = text.settings()?;
    let mut asking = Asking { path, text, settings, questions, io };
    asking.say(&this_writes(path))?;

    asking.say(FIRST_FROM)?;
    let from = asking.calendar(true, "")?;
    asking.say(THEN_TO)?;
    let to = asking.calendar(false, &from)?;
    asking.route(&from, &to)?;
    Ok(ExitCode::Ok)
}

impl Asking<'_, '_> {
    fn say(&mut self, words: &str) -> Result<(), Failure> {
        Ok(self.io.say(&format!("{words}\n"))?)
    }

    fn tell(&mut self, failure: &Failure) -> Result<(), Failure> {
        Ok(self.io.say(&failure.lines())?)
    }

    fn save(&mut self) -> Result<(), Failure> {
        self.settings = self.text.save()?;
        self.text = ConfigurationText::read(self.path)?;
        Ok(())
    }

    /// Asks until a name fits and is free.
    fn name(&mut self, kind: &str, suggestion: &str) -> Result<String, Failure> {
        let mut suggestion = slug(suggestion, kind);
        while self.text.has(kind, &suggestion) {
            suggestion = next_name(&suggestion);
        }
        loop {
            let name = self.questions.text(&name_of_this(kind), Some(&suggestion))?;
            match check_name(kind, &name) {
                Ok(()) if !self.text.has(kind, &name) => return Ok(name),
                Ok(()) => self.say(&name_is_taken(kind, &name))?,
                Err(failure) => self.tell(&failure)?,
            }
        }
    }

    /// Chooses a calendar: one of the configuration, or a new one; returns its name there. `taken` is the one that
    /// it must not be.
    fn calendar(&mut self, reads: bool, taken: &str) -> Result<String, Failure> {
        let fits = |place: &Place| reads || !place.is_read_only();
        let known = self.settings.calendars.iter().filter(|(name, c)| *name != taken && fits(&c.place));
        let known: Vec<String> = known.map(|(name, _)| name.clone()).collect();
        let accounts: Vec<String> = self.settings.accounts.keys().cloned().collect();
        let mut choices: Vec<String> = known.iter().map(|name| configured_already(name)).collect();
        choices.extend(accounts.iter().map(|name| one_of_account(name)));
        choices.push(on_a_server(!accounts.is_empty()));
        choices.push(A_FILE.to_owned());
        if reads {
            choices.push(A_FEED.to_owned());
        }
        loop {
            let chosen = self.questions.choose(WHICH, &choices)?;
            let done = match chosen {
                n if n < known.len() => Ok(Some(known[n].clone())),
                n if n < known.len() + accounts.len() => self.of_account(&accounts[n - known.len()], reads),
                n if n == known.len() + accounts.len() => self.of_new_account(reads),
                n if n == known.len() + accounts.len() + 1 => self.file(reads),
                _ => self.feed(),
            };
            match done {
                Ok(Some(name)) => return Ok(name),
                Ok(None) => {}
                Err(failure) => self.tell(&failure)?,
            }
        }
    }

    fn of_new_account(&mut self, reads: bool) -> Result<Option<String>, Failure> {
        let account = self.account()?;
        self.of_account(&account, reads)
    }

    /// Asks for an account until the sign-in works.
    fn account(&mut self) -> Result<String, Failure> {
        let mut address = String::new();
        let mut user = String::new();
        let name = loop {
            address = self.questions.text(SERVER_ADDRESS, some(&address))?;
            let Some(start) = start(&address) else {
                self.say(NO_SERVER_ADDRESS)?;
                continue;
            };
            if user.is_empty() && address.contains('@') {
                user.clone_from(&address);
            }
            user = self.questions.text(USER_NAME, some(&user))?;
            let secret = self.questions.secret(PASSWORD)?;
            let password = SignInSettings::Password(SecretSource::Plain(secret.clone()));
            let mut settings = AccountSettings::new(start.clone(), Some(user.clone()), password);
            let base = self.settings.base().to_owned();
            let suggestion = host_word(start.url.host_str().unwrap_or_default());
            let checked = try_account(&suggestion, &mut settings, &base, self.io);
            let checked = report(None, &suggestion, &settings, checked);
            let shown = steps_text(&checked);
            self.io.say(&shown)?;
            self.say("")?;
            if !checked.ok {
                continue;
            }
            let name = self.name("account", &suggestion)?;
            let typed = Some((secret, base.join(password_file(&name))));
            let new = NewAccount::new(&name, settings, typed);
            new.save_secret()?;
            self.text.add("account", &name, new.keys(checked.url()))?;
            self.save()?;
            break name;
        };
        Ok(name)
    }

    fn of_account(&mut self, account: &str, reads: bool) -> Result<Option<String>, Failure> {
        let connections = Connections::new(&self.settings, &self.io.environment);
        let found = block_on(connections.discover_all(account))??;
        drop(connections);
        let fitting: Vec<CalendarInfo> =
            found.calendars.iter().filter(|c| reads || c.writable != Some(false)).cloned().collect();
        let mut choices: Vec<String> = fitting.iter().map(|c| format!("{} ({})", c.name, c.href)).collect();
        if !reads {
            choices.insert(0, NEW_FOR_COPIES.to_owned());
        } else if choices.is_empty() {
            self.say(&no_calendar_yet(account))?;
            return Ok(None);
        }
        let chosen = self.questions.choose(&which_of_account(account), &choices)?;
        let info = match (reads, chosen) {
            (false, 0) => self.new_calendar(account, &found)?,
            (false, n) => fitting[n - 1].clone(),
            (true, n) => fitting[n].clone(),
        };
        let name = self.name("calendar", &info.name)?;
        let keys = vec![("account", Value::from(account)), ("path", Value::from(info.href.as_str()))];
        self.text.add("calendar", &name, keys)?;
        self.save()?;
        Ok(Some(name))
    }

    fn new_calendar(&mut self, account: &str, found: &Found) -> Result<CalendarInfo, Failure> {
        let taken = |name: &str| found.calendars.iter().any(|c| c.name == name);
        let default = if taken(COPIES) { MORE_COPIES } else { COPIES };
        let name = self.questions.text(NAME_ON_SERVER, Some(default))?;
        let new = NewCalendar { name, color: None, kinds: [Kind::Event, Kind::Task].into_iter().collect() };
        let connections = Connections::new(&self.settings, &self.io.environment);
        let info = block_on(make(&connections, account, &new))??;
        self.say(&made_at(&clean(info.href.as_str())))?;
        Ok(info)
    }

    fn file(&mut self, reads: bool) -> Result<Option<String>, Failure> {
        let typed = self.questions.text(WHICH_FILE, None)?;
        let file = PathBuf::from(&typed);
        if reads {
            let text = chestnut_engine::FileCalendar::new(file.clone(), false).look();
            let text =
                text.map_err(|e| Failure::failed(e.in_words()).hint(calendar_hint(&e, &typed, None)))?;
            self.say(&it_holds("", text.entries().len()))?;
        }
        let stem = file.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
        let name = self.name("calendar", &stem)?;
        self.text.add(
            "calendar",
            &name,
            vec![("file", Value::from(path_from(self.path, &file)?.display().to_string()))],
        )?;
        self.save()?;
        Ok(Some(name))
    }

    fn feed(&mut self) -> Result<Option<String>, Failure> {
        let address = self.questions.text(FEED_ADDRESS, None)?;
        if feed_address(&address).is_none() {
            self.say(NO_FEED_ADDRESS)?;
            return Ok(None);
        }
        let connections = Connections::new(&self.settings, &self.io.environment);
        let feed = connections.feed("feed", &FeedSource::Address(address.clone()), None)?;
        let text = block_on(feed.look())?;
        let text = text.map_err(|e| Failure::failed(e.in_words()).hint(calendar_hint(&e, "feed", None)))?;
        drop(connections);
        let title = text.facts().title.unwrap_or_default();
        self.say(&it_holds(&title, text.entries().len()))?;
        let name = self.name("calendar", &title)?;
        self.text.add("calendar", &name, vec![("feed", Value::from(address))])?;
        self.save()?;
        Ok(Some(name))
    }

    fn route(&mut self, from: &str, to: &str) -> Result<(), Failure> {
        self.say(THEN_ROUTE)?;
        let name = self.name("route", &format!("{from}-to-{to}"))?;
        let follow = self.questions.yes(DELETE_TOO, true)?;
        let kinds = self.questions.yes(TASKS_TOO, false)?;
        let mut keys = vec![("from", Value::from(from)), ("to", Value::from(to))];
        if kinds {
            let both = ["events", "tasks"].into_iter().collect::<toml_edit::Array>();
            let mut only = toml_edit::InlineTable::new();
            only.insert("kinds", Value::Array(both));
            keys.push(("only", Value::InlineTable(only)));
        }
        keys.push(("deletions", Value::from(if follow { "carry" } else { "keep" })));
        self.text.add("route", &name, keys)?;
        self.save()?;
        self.say(&written_by_asking(self.path))
    }
}

fn some(text: &str) -> Option<&str> {
    Some(text).filter(|text| !text.is_empty())
}

/// `dav.packhouse.example` is best called `packhouse`.
fn host_word(host: &str) -> String {
    let labels: Vec<_> = host.split('.').collect();
    let is_address = host.parse::<std::net::IpAddr>().is_ok();
    let label = labels.len().checked_sub(2).filter(|_| !is_address).and_then(|at| labels.get(at));
    label.map_or_else(|| "server".to_owned(), |label| (*label).to_owned())
}

/// `board`, `board-2`, `board-3`.
fn next_name(name: &str) -> String {
    match name.rsplit_once('-').and_then(|(stem, number)| Some((stem, number.parse::<u32>().ok()?))) {
        Some((stem, number)) => format!("{stem}-{}", number + 1),
        None => format!("{name}-2"),
    }
}
