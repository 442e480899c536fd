//! `chestnut init --ask`: account → calendars → route, with every answer tried before it is written down.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use chestnut_caldav::protocol::{CalendarInfo, Found, NewCalendar, feed_address};
use chestnut_core::Kind;
use jiff::tz::TimeZone;
use secrecy::ExposeSecret as _;
use toml_edit::Value;

use crate::args::Common;
use crate::check_account::Checked;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::Io;
use crate::new_account::{NewAccount, try_account};
use crate::new_calendar::{free_name, free_place, make};
use crate::new_route::{Wishes, first_run};
use crate::open::{block_on, configuration_path, look_at_state};
use crate::questions::Questions;
use crate::render::human::account_test::steps_text;
use crate::report::account_test::account_report as report;
use crate::settings::password_file;
use crate::settings::{
    AccountSettings, CalendarSettings, ConfigurationText, Connections, FeedSource, Place, SecretSource,
    Settings, SignInSettings, check_name, nearest, path_from, start,
};
use crate::words::{
    A_FEED, A_FILE, COPIES, FEED_ADDRESS, FIRST_FROM, InWords as _, MORE_COPIES, NAME_ON_SERVER,
    NEW_FOR_COPIES, NO_FEED_ADDRESS, NO_SERVER_ADDRESS, PASSWORD, SERVER_ADDRESS, THEN_ROUTE, THEN_TO,
    USER_NAME, WHICH, WHICH_FILE, WHICH_ZONE, WRITE_THIS, calendar_hint, called_already, configured_already,
    has_a_password_already, it_holds, name_is_taken, name_of_this, no_calendar_yet, no_home,
    nobody_can_be_asked, not_a_zone, nothing_was_written, on_a_server, one_of_account, password_again,
    server_has_calendar, this_writes, which_of_account, would_be_made, would_be_written, written_by_asking,
};

/// Zones of machines that nobody told where they are.
const NOWHERE: [&str; 4] = ["Etc/UTC", "UTC", "Etc/Unknown", "GMT"];
/// Stands for a calendar that is still to be made: a file that is never there.
const NOT_THERE: &str = "not-made-yet.ics";

/// A calendar that is made on its server once everything is agreed to.
struct NewOnServer {
    /// Its name in the configuration.
    called: String,
    account: String,
    new: NewCalendar,
}

/// What was answered stays in memory until the last yes: Ctrl-C leaves nothing behind.
struct Asking<'a, 'io> {
    path: &'a Path,
    common: &'a Common,
    text: ConfigurationText,
    settings: Settings,
    /// Accounts whose passwords were typed.
    typed: BTreeMap<String, NewAccount>,
    to_make: Vec<NewOnServer>,
    /// Kind and name of what is new in the configuration.
    added: Vec<(&'static str, String)>,
    /// The zone, where it was asked about.
    zone: Option<String>,
    questions: Questions,
    io: &'a mut Io<'io>,
}

pub(crate) fn run(file: Option<&Path>, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let path = file.map_or_else(|| configuration_path(common, io), |file| Ok(PathBuf::from(file)))?;
    let path = path.as_path();
    let questions = Questions::of_terminal(io.can_ask).ok_or_else(nobody_can_be_asked)?;
    let text = ConfigurationText::read(path)?;
    let settings = text.settings()?;
    let mut asking = Asking {
        path,
        common,
        text,
        settings,
        typed: BTreeMap::new(),
        to_make: Vec::new(),
        added: Vec::new(),
        zone: None,
        questions,
        io,
    };
    asking.say(&this_writes(path))?;
    asking.zone()?;
    asking.say(FIRST_FROM)?;
    let from = asking.calendar(true, "")?;
    asking.say(THEN_TO)?;
    let to = asking.calendar(false, &from)?;
    let route = asking.route(&from, &to)?;
    asking.finish(&route)?;
    Ok(ExitCode::Ok)
}

impl Asking<'_, '_> {
    fn say(&mut self, words: &str) -> Result<(), Failure> {
        Ok(self.io.say(&format!("{words}\n"))?)
    }

    fn tell(&mut self, failure: &Failure) -> Result<(), Failure> {
        Ok(self.io.say(&failure.lines())?)
    }

    /// Asks where people are, on a machine that is nowhere: days would begin elsewhere than they think.
    fn zone(&mut self) -> Result<(), Failure> {
        let is_nowhere = |zone: &TimeZone| zone.iana_name().is_none_or(|name| NOWHERE.contains(&name));
        if self.text.says_at_top("timezone") || !is_nowhere(&self.settings.zone) {
            return Ok(());
        }
        loop {
            let typed = self.questions.text(WHICH_ZONE, Some(NOWHERE[0]))?;
            if TimeZone::get(&typed).is_ok() {
                self.text.set_at_top("timezone", &typed);
                self.settings = self.text.settings()?;
                self.zone = Some(typed);
                return Ok(());
            }
            let known: Vec<String> = jiff::tz::db().available().map(|name| name.to_string()).collect();
            self.say(&not_a_zone(&typed, nearest(&typed, known.iter())))?;
        }
    }

    /// Notes a table of the configuration.
    fn add(&mut self, kind: &'static str, name: &str, keys: Vec<(&str, Value)>) -> Result<(), Failure> {
        self.text.add(kind, name, keys)?;
        self.added.push((kind, name.to_owned()));
        self.settings = self.text.settings()?;
        for (name, account) in &self.typed {
            // Their files are not written yet.
            if let Some(known) = self.settings.accounts.get_mut(name) {
                known.sign_in = account.settings.sign_in.clone();
            }
        }
        Ok(())
    }

    /// Asks until a name fits and is free.
    fn name(&mut self, kind: &str, suggestion: &str) -> Result<String, Failure> {
        let suggestion = free_name(&self.text, kind, suggestion);
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

    /// Asks for an account until the sign-in works. A password that is refused is asked for again, and nothing else.
    fn account(&mut self) -> Result<String, Failure> {
        let (mut address, mut user) = (String::new(), String::new());
        let (mut asks_address, mut asks_user) = (true, true);
        let mut refused_by = None;
        loop {
            if asks_address {
                address = self.questions.text(SERVER_ADDRESS, some(&address))?;
            }
            let Some(start) = start(&address) else {
                self.say(NO_SERVER_ADDRESS)?;
                continue;
            };
            asks_address = false;
            if user.is_empty() && address.contains('@') {
                user.clone_from(&address);
            }
            if asks_user {
                user = self.questions.text(USER_NAME, some(&user))?;
                asks_user = false;
            }
            let suggestion = host_word(start.url.host_str().unwrap_or_default());
            let prompt =
                refused_by.take().map_or_else(|| PASSWORD.to_owned(), |host: String| password_again(&host));
            let secret = self.questions.secret(&prompt)?;
            if prompt != PASSWORD && ["u", "a"].contains(&secret.expose_secret()) {
                (asks_user, asks_address) = (true, secret.expose_secret() == "a");
                continue;
            }
            let password = SignInSettings::Password(SecretSource::Plain(secret.clone()));
            let mut settings = AccountSettings::new(start.clone(), Some(user.clone()), password);
            let base = self.settings.base().to_owned();
            let checked = try_account(&suggestion, &mut settings, &base, self.io);
            let is_refused = matches!(&checked, Ok(Checked { outcome: Err(failure), .. }) if failure.sign_in_of().is_some());
            let checked = report(None, &suggestion, &settings, checked);
            self.io.say(&format!("{}\n", steps_text(&checked)))?;
            if !checked.ok {
                if is_refused {
                    refused_by = Some(suggestion);
                } else {
                    (asks_address, asks_user) = (true, true);
                }
                continue;
            }
            let mut name = self.name("account", &suggestion)?;
            while base.join(password_file(&name)).exists() {
                self.say(&has_a_password_already(&name))?;
                name = self.name("account", &suggestion)?;
            }
            let typed = Some((secret, base.join(password_file(&name))));
            let new = NewAccount::new(&name, settings, typed);
            let keys = new.keys(checked.url());
            self.typed.insert(name.clone(), new);
            self.add("account", &name, keys)?;
            return Ok(name);
        }
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
            (false, 0) => return self.new_calendar(account, &found).map(Some),
            (false, n) => fitting[n - 1].clone(),
            (true, n) => fitting[n].clone(),
        };
        let is_it = |c: &CalendarSettings| c.account.as_deref() == Some(account) && c.place.means(&info);
        if let Some(known) =
            self.settings.calendars.iter().find(|(_, c)| is_it(c)).map(|(name, _)| name.clone())
        {
            // One calendar under two names would be copied into itself.
            self.say(&called_already(&info.name, &known))?;
            return Ok(None);
        }
        let name = self.name("calendar", &info.name)?;
        self.add_on_server(account, &name, info.href.as_str())?;
        Ok(Some(name))
    }

    fn add_on_server(&mut self, account: &str, name: &str, path: &str) -> Result<(), Failure> {
        self.add("calendar", name, vec![("account", Value::from(account)), ("path", Value::from(path))])
    }

    /// Asks for the name of a calendar that is made at the end.
    fn new_calendar(&mut self, account: &str, found: &Found) -> Result<String, Failure> {
        let taken = |name: &str| found.calendars.iter().any(|c| c.name == name);
        let default = if taken(COPIES) { MORE_COPIES } else { COPIES };
        let shown = loop {
            let shown = self.questions.text(NAME_ON_SERVER, Some(default))?;
            if !taken(&shown) {
                break shown;
            }
            self.tell(&server_has_calendar(account, &shown))?;
        };
        let place = free_place(found, &shown).ok_or_else(|| no_home(account))?;
        let called = self.name("calendar", &shown)?;
        self.add_on_server(account, &called, place.path())?;
        let kinds = [Kind::Event, Kind::Task].into_iter().collect();
        let new = NewCalendar { name: shown, color: None, kinds };
        self.to_make.push(NewOnServer { called: called.clone(), account: account.to_owned(), new });
        Ok(called)
    }

    fn file(&mut self, reads: bool) -> Result<Option<String>, Failure> {
        let typed = self.questions.text(WHICH_FILE, None)?;
        let file = PathBuf::from(&typed);
        if reads {
            let text = chestnut_engine::FileCalendar::new(file.clone(), false).look();
            let text =
                text.map_err(|e| Failure::failed(e.in_words()).hint(calendar_hint(&e, &typed, None)))?;
            self.say(&it_holds("", text.placed().len()))?;
        }
        let stem = file.file_stem().map(|s| s.to_string_lossy().into_owned()).unwrap_or_default();
        let name = self.name("calendar", &stem)?;
        let path = path_from(self.path, &file)?.display().to_string();
        self.add("calendar", &name, vec![("file", Value::from(path))])?;
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
        self.say(&it_holds(&title, text.placed().len()))?;
        let name = self.name("calendar", &title)?;
        self.add("calendar", &name, vec![("feed", Value::from(address))])?;
        Ok(Some(name))
    }

    /// Asks what the route does, and returns its name.
    fn route(&mut self, from: &str, to: &str) -> Result<String, Failure> {
        self.say(THEN_ROUTE)?;
        let mut wishes = Wishes::default();
        wishes.ask((from, to), &self.settings, &mut self.questions)?;
        let name = self.name("route", &format!("{from}-to-{to}"))?;
        self.add("route", &name, wishes.keys(&[from.to_owned(), to.to_owned()]))?;
        Ok(name)
    }

    /// Shows what would be written, and what the first sync would do; writes after a yes.
    fn finish(&mut self, route: &str) -> Result<(), Failure> {
        let zone = self.zone.iter().map(|zone| format!("timezone = {zone:?}\n"));
        let tables = self.added.iter().map(|(kind, name)| self.text.lines_of(kind, name));
        let lines: Vec<_> = zone.chain(tables).collect();
        self.say(&would_be_written(self.path, &lines))?;
        for new in &self.to_make {
            self.io.say(&would_be_made(&new.new.name, &new.account))?;
        }
        let summary = self.first_run(route)?;
        self.io.say(&summary)?;
        if !self.questions.yes(WRITE_THIS, true)? {
            return Err(nothing_was_written());
        }
        let connections = Connections::new(&self.settings, &self.io.environment);
        let mut moved = Vec::new();
        for new in &self.to_make {
            let info = block_on(make(&connections, &new.account, &new.new))??;
            moved.push((new.called.clone(), info.href));
        }
        drop(connections);
        for (called, href) in moved {
            self.text.set("calendar", &called, "path", href.as_str());
        }
        for account in self.typed.values() {
            account.save_secret()?;
        }
        self.text.save()?;
        self.say(&written_by_asking(self.path))
    }

    /// What the first sync would do. Calendars that are still to be made are empty.
    fn first_run(&self, route: &str) -> Result<String, Failure> {
        let mut settings = self.text.settings()?;
        settings.accounts.clone_from(&self.settings.accounts);
        for new in &self.to_make {
            if let Some(calendar) = settings.calendars.get_mut(&new.called) {
                calendar.place = Place::File(PathBuf::from(NOT_THERE));
                calendar.account = None;
            }
            if let Some(route) = settings.routes.get_mut(route) {
                // All there is to do is to fill it.
                route.is_two_way = false;
            }
        }
        let store = look_at_state(self.common, &settings, &self.io.environment)?;
        first_run(route, &settings, &store, self.io)
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
