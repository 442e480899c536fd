//! `chestnut init --ask`: account → calendars → route, with every answer tried before it is written down.

use std::path::{Path, PathBuf};

use chestnut_caldav::protocol::{CalendarInfo, Found, NewCalendar, feed_address};
use chestnut_core::Kind;
use toml_edit::Value;

use crate::args::Common;
use crate::check_account::check_account;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::Io;
use crate::new_account::NewAccount;
use crate::new_calendar::{make, slug};
use crate::open::{block_on, configuration_path};
use crate::questions::Questions;
use crate::render::human::account_test::steps_text;
use crate::render::{clean, count, style};
use crate::report::account_test::account_report as report;
use crate::settings::password_file;
use crate::settings::{
    AccountSettings, ConfigurationText, Connections, FeedSource, Place, SecretSource, Settings,
    SignInSettings, check_name, path_from, start,
};
use crate::words::{calendar_hint, nobody_can_be_asked};

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
    let there = if path.exists() { "What is in it already stays." } else { "It is not there yet." };
    asking.say(&format!(
        "This writes {}. {there} Ctrl-C ends it; what was tried and written stays.",
        path.display()
    ))?;

    asking.say("\nFirst: where do the entries come from?")?;
    let from = asking.calendar(true, "")?;
    asking.say(
        "\nSecond: where do the copies go? Best to a calendar of their own, which nobody writes into.",
    )?;
    let to = asking.calendar(false, &from)?;
    asking.route(&from, &to)?;
    Ok(ExitCode::Ok)
}

impl Asking<'_, '_> {
    fn say(&mut self, words: &str) -> Result<(), Failure> {
        Ok(writeln!(self.io.err, "{words}")?)
    }

    fn tell(&mut self, failure: &Failure) -> Result<(), Failure> {
        Ok(self.io.err.write_all(failure.lines().as_bytes())?)
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
            let name = self.questions.text(&format!("Name of this {kind} here"), Some(&suggestion))?;
            match check_name(kind, &name) {
                Ok(()) if !self.text.has(kind, &name) => return Ok(name),
                Ok(()) => self.say(&format!("There is a {kind} {name} already."))?,
                Err(failure) => self.tell(&failure)?,
            }
        }
    }

    /// Chooses a calendar: one of the configuration, or a new one; returns its name there. `taken` is the one that
    /// it must not be.
    fn calendar(&mut self, reads: bool, taken: &str) -> Result<String, Failure> {
        let fits = |place: &Place| reads || !matches!(place, Place::Feed(_));
        let known = self.settings.calendars.iter().filter(|(name, c)| *name != taken && fits(&c.place));
        let known: Vec<String> = known.map(|(name, _)| name.clone()).collect();
        let accounts: Vec<String> = self.settings.accounts.keys().cloned().collect();
        let mut choices: Vec<String> =
            known.iter().map(|name| format!("{name} (in the configuration)")).collect();
        choices.extend(accounts.iter().map(|name| format!("a calendar of the account {name}")));
        let another = if accounts.is_empty() { "a" } else { "another" };
        choices.push(format!("a calendar on {another} CalDAV server"));
        choices.push("an .ics file".to_owned());
        if reads {
            choices.push("a feed: a link to a calendar that can only be read".to_owned());
        }
        loop {
            let chosen = self.questions.choose("Which?", &choices)?;
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
            address =
                self.questions.text("Address of the server (a host, or any link to it)", some(&address))?;
            let Some(start) = start(&address) else {
                self.say("That is no address of a server. Write it as dav.packhouse.example.")?;
                continue;
            };
            if user.is_empty() && address.contains('@') {
                user.clone_from(&address);
            }
            user = self.questions.text("User name", some(&user))?;
            let secret = self.questions.secret("Password")?;
            let password = SignInSettings::Password(SecretSource::Plain(secret.clone()));
            let settings = AccountSettings::new(start.clone(), Some(user.clone()), password);
            let base = self.settings.base().to_owned();
            let suggestion = host_word(start.url.host_str().unwrap_or_default());
            let checked = block_on(check_account(&suggestion, &settings, &base, &self.io.environment))?;
            let checked = report(None, &suggestion, &settings, checked);
            let shown = steps_text(&checked);
            self.io.err.write_all(self.colored(&shown).as_bytes())?;
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

    /// Standard error may be no place for colour.
    fn colored(&self, text: &str) -> String {
        if self.io.color { text.to_owned() } else { anstream::adapter::strip_str(text).to_string() }
    }

    fn of_account(&mut self, account: &str, reads: bool) -> Result<Option<String>, Failure> {
        let connections = Connections::new(&self.settings, &self.io.environment);
        let found = block_on(connections.discover(account))??;
        drop(connections);
        let fitting: Vec<CalendarInfo> =
            found.calendars.iter().filter(|c| reads || c.writable != Some(false)).cloned().collect();
        let mut choices: Vec<String> = fitting.iter().map(|c| format!("{} ({})", c.name, c.href)).collect();
        if !reads {
            choices.insert(0, "a new calendar for the copies".to_owned());
        } else if choices.is_empty() {
            self.say(&format!("Account {account} has no calendar yet."))?;
            return Ok(None);
        }
        let chosen = self.questions.choose(&format!("Which calendar of {account}?"), &choices)?;
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
        let default = if taken("Copies") { "More copies" } else { "Copies" };
        let name = self.questions.text("Its name on the server", Some(default))?;
        let new = NewCalendar { name, color: None, kinds: [Kind::Event, Kind::Task].into_iter().collect() };
        let connections = Connections::new(&self.settings, &self.io.environment);
        let info = block_on(make(&connections, account, &new))??;
        self.say(&format!("Made: {}", clean(info.href.as_str())))?;
        Ok(info)
    }

    fn file(&mut self, reads: bool) -> Result<Option<String>, Failure> {
        let typed = self.questions.text("Which file?", None)?;
        let file = PathBuf::from(&typed);
        if reads {
            let text = chestnut_engine::FileCalendar::new(file.clone(), false).look();
            let text =
                text.map_err(|e| Failure::failed(e.to_string()).hint(calendar_hint(&e, &typed, None)))?;
            self.say(&format!("It holds {}.", count(text.entries().len(), "entry", "entries")))?;
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
        let address = self.questions.text("Address of the feed (https: or webcal:)", None)?;
        if feed_address(&address).is_none() {
            self.say("That is no address of a feed: it begins with https:// or webcal://.")?;
            return Ok(None);
        }
        let connections = Connections::new(&self.settings, &self.io.environment);
        let feed = connections.feed("feed", &FeedSource::Address(address.clone()), None)?;
        let text = block_on(feed.look())?;
        let text = text.map_err(|e| Failure::failed(e.to_string()).hint(calendar_hint(&e, "feed", None)))?;
        drop(connections);
        let title = text.facts().title.unwrap_or_default();
        self.say(&format!(
            "{}: {}.",
            clean(if title.is_empty() { "It holds" } else { &title }),
            count(text.entries().len(), "entry", "entries")
        ))?;
        let name = self.name("calendar", &title)?;
        self.text.add("calendar", &name, vec![("feed", Value::from(address))])?;
        self.save()?;
        Ok(Some(name))
    }

    fn route(&mut self, from: &str, to: &str) -> Result<(), Failure> {
        self.say("\nThird: the route.")?;
        let name = self.name("route", &format!("{from}-to-{to}"))?;
        let follow = self.questions.yes("Delete the copy too when its entry is deleted", true)?;
        let kinds = self.questions.yes("Take tasks along with events", false)?;
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
        let config = match self.path == Path::new("chestnut.toml") {
            true => String::new(),
            false => format!(" --config {}", self.path.display()),
        };
        let next = style::paint(style::STRONG, format!("chestnut preview{config}"));
        let next = self.colored(&next);
        self.say(&format!("\nWritten. Nothing was copied yet. See what a sync would do, without writing anything:\n\n  {next}\n\nThen: chestnut sync{config}"))
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
