//! From settings to clients and routes: passwords are read, calendars found, the key made.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::rc::Rc;
use std::time::Duration;

use chestnut_caldav::protocol::{Found, url_of};
use chestnut_caldav::{Client, ClientOptions, Credentials, DavError, HttpOptions, HttpTransport};
use chestnut_core::{ObjectHref, RouteKey};
use chestnut_engine::{CalendarEnd, Route};
use secrecy::SecretString;

use super::file::{AccountSettings, PasswordSource, Place, RouteSettings, Settings};
use crate::environment::Environment;
use crate::error_report::{Failure, dav_hint};

/// Clients of accounts, made when they are first needed.
pub(crate) struct Connections<'s> {
    settings: &'s Settings,
    environment: &'s Environment,
    clients: RefCell<BTreeMap<String, Client>>,
    found: RefCell<BTreeMap<String, Rc<Found>>>,
}

impl<'s> Connections<'s> {
    pub(crate) fn new(settings: &'s Settings, environment: &'s Environment) -> Self {
        Self { settings, environment, clients: RefCell::default(), found: RefCell::default() }
    }

    /// Returns the client of an account.
    pub(crate) fn client(&self, account: &str) -> Result<Client, Failure> {
        if let Some(client) = self.clients.borrow().get(account) {
            return Ok(client.clone());
        }
        let client = self.connect(account, &self.settings.accounts[account])?;
        self.clients.borrow_mut().insert(account.to_owned(), client.clone());
        Ok(client)
    }

    fn connect(&self, name: &str, account: &AccountSettings) -> Result<Client, Failure> {
        let base = self.settings.path.parent().unwrap_or(Path::new(""));
        let credentials = match (&account.user, &account.password) {
            (Some(user), Some(source)) => {
                let password = read_password(name, source, base, self.environment)?;
                Some(Credentials { user: user.clone(), password })
            }
            _ => None,
        };
        let ca = account.ca.as_ref().map(|path| {
            let path = base.join(path);
            std::fs::read(&path).map_err(|e| {
                Failure::usage(format!(
                    "account {name}: the certificate file {} cannot be read: {e}",
                    path.display()
                ))
            })
        });
        let options = HttpOptions {
            credentials,
            timeout: Duration::try_from(account.timeout).unwrap_or(Duration::from_secs(30)),
            plain_http: account.plain_http,
            ca: ca.transpose()?,
            ..HttpOptions::default()
        };
        let transport =
            HttpTransport::new(options).map_err(|e| Failure::usage(format!("account {name}: {e}")))?;
        Ok(Client::new(Rc::new(transport), ClientOptions { at_once: account.at_once }))
    }

    /// Finds an account's calendars; asks once.
    pub(crate) async fn discover(&self, account: &str) -> Result<Rc<Found>, Failure> {
        if let Some(found) = self.found.borrow().get(account) {
            return Ok(Rc::clone(found));
        }
        let url = &self.settings.accounts[account].url;
        let found = self.client(account)?.discover(url).await.map_err(|e| account_failure(account, &e))?;
        let found = Rc::new(found);
        self.found.borrow_mut().insert(account.to_owned(), Rc::clone(&found));
        Ok(found)
    }

    async fn end(&self, name: &str) -> Result<CalendarEnd, Failure> {
        let calendar = &self.settings.calendars[name];
        let account = &calendar.account;
        let url = match &calendar.place {
            Place::Path(path) => {
                let path = format!("/{}/", path.trim_matches('/'));
                url_of(&ObjectHref::from(path), &self.settings.accounts[account].url)
            }
            Place::Name(shown) => {
                let found = self.discover(account).await?;
                let mut matches = found.calendars.iter().filter(|c| c.name == *shown);
                match (matches.next(), matches.next()) {
                    (Some(one), None) => one.url.clone(),
                    (None, _) => {
                        let message =
                            format!("calendar {name}: account {account} has no calendar named {shown:?}");
                        return Err(Failure::usage(message)
                            .hint(format!("See them with `chestnut calendar list {account}`.")));
                    }
                    (Some(_), Some(_)) => {
                        let message = format!(
                            "calendar {name}: account {account} has several calendars named {shown:?}"
                        );
                        return Err(Failure::usage(message).hint(format!(
                            "Use `path` instead; `chestnut calendar list {account}` shows the paths."
                        )));
                    }
                }
            }
        };
        Ok(CalendarEnd {
            name: name.to_owned(),
            account: account.clone(),
            client: self.client(account)?,
            url,
        })
    }

    /// Makes a route ready to run.
    pub(crate) async fn route(
        &self,
        name: &str,
        route: &RouteSettings,
        key: &[u8],
    ) -> Result<Route, Failure> {
        Ok(Route {
            name: name.to_owned(),
            source: self.end(&route.from).await?,
            target: self.end(&route.to).await?,
            kinds: route.kinds.clone(),
            deletions: route.deletions,
            far_edits: route.far_edits,
            key: RouteKey::new(key, name),
            check_every: route.check_every,
            keep_history: self.settings.keep_history,
        })
    }
}

/// An account that could not be used, with what to do.
pub(crate) fn account_failure(account: &str, error: &DavError) -> Failure {
    Failure::failed(format!("account {account}: {error}")).hint(dav_hint(error, account))
}

fn read_password(
    account: &str,
    source: &PasswordSource,
    base: &Path,
    environment: &Environment,
) -> Result<SecretString, Failure> {
    let text = match source {
        PasswordSource::Env(name) => environment.get(name).ok_or_else(|| {
            Failure::usage(format!("account {account}: the environment variable {name} is not set"))
                .hint("Set it to the password, or keep the password in a file.")
        })?,
        PasswordSource::File(path) => password_file(account, &base.join(path))?,
        PasswordSource::Command(words) => password_command(account, words)?,
    };
    let first = text.lines().next().unwrap_or_default();
    if first.is_empty() {
        return Err(Failure::usage(format!("account {account}: the password is empty")));
    }
    Ok(SecretString::from(first.to_owned()))
}

fn password_file(account: &str, path: &PathBuf) -> Result<String, Failure> {
    let unreadable = |e: std::io::Error| {
        Failure::usage(format!("account {account}: the password file {} cannot be read: {e}", path.display()))
    };
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        let mode = std::fs::metadata(path).map_err(unreadable)?.permissions().mode();
        if mode & 0o077 != 0 {
            let message = format!("account {account}: others may read the password file {}", path.display());
            return Err(Failure::usage(message).hint(format!("Mend it with: chmod 600 {}", path.display())));
        }
    }
    std::fs::read_to_string(path).map_err(unreadable)
}

fn password_command(account: &str, words: &[String]) -> Result<String, Failure> {
    let failed =
        |why: String| Failure::usage(format!("account {account}: the password command `{}` {why}", words[0]));
    let output = std::process::Command::new(&words[0]).args(&words[1..]).output();
    let output = output.map_err(|e| failed(format!("could not be run: {e}")))?;
    if !output.status.success() {
        return Err(failed(format!("failed ({})", output.status)));
    }
    String::from_utf8(output.stdout).map_err(|_| failed("gave bytes that are no text".to_owned()))
}

/// Reads the installation's key, making it where there is none: a small file of its own beside the
/// configuration, so that copies are found again when the state is lost.
pub(crate) fn route_key(settings: &Settings, may_make: bool) -> Result<Vec<u8>, Failure> {
    let path = settings.path.with_extension("key");
    match std::fs::read_to_string(&path) {
        Ok(text) if text.trim().len() >= 32 => return Ok(text.trim().as_bytes().to_vec()),
        Ok(_) => {
            return Err(Failure::usage(format!("the key file {} holds no key", path.display()))
                .hint("Put back the one you had; without it copies are made anew."));
        }
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
        Err(e) => return Err(Failure::usage(format!("the key file {} cannot be read: {e}", path.display()))),
    }
    let mut bytes = [0; 32];
    getrandom::fill(&mut bytes)
        .map_err(|e| Failure::failed(format!("no random numbers for the key: {e}")))?;
    let text: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
    if may_make {
        write_private(&path, &format!("{text}\n")).map_err(|e| {
            Failure::failed(format!("the key file {} cannot be written: {e}", path.display()))
        })?;
    }
    Ok(text.into_bytes())
}

/// Writes a new file that only its owner may read.
pub(crate) fn write_private(path: &Path, text: &str) -> std::io::Result<()> {
    use std::io::Write as _;
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600);
    }
    let mut file = options.open(path)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()
}
