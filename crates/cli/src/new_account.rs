//! An account that is about to be tried: what was typed, and what the configuration will say of it.

use std::path::{Path, PathBuf};

use secrecy::{ExposeSecret as _, SecretString};
use toml_edit::Value;

use crate::args::{AccountAdd, OAuthArgs};
use crate::check_account::{Checked, check_account};
use crate::failure::Failure;
use crate::io::Io;
use crate::open::block_on;
use crate::questions::Questions;
use crate::settings::{
    AccountSettings, KEYRING_IS_THERE, OAuthSettings, ProxySettings, SecretSource, SignInSettings, no_origin,
    oauth_value, password_file, path_from, read_from_keyring, secret_value, start, typed_secret,
    write_private, write_to_keyring,
};
use crate::words::{
    USER_OR_NONE, hint_before_it_is_written, keyring_takes_none, may_sign_in_at, needed_with_client,
    no_keyring_for_password, no_place_of_secret, no_terminal_for_password, not_a_proxy, not_a_server,
    not_an_address, not_an_origin, password_in_proxy, password_not_written, password_prompt,
    sign_in_also_needed, sign_in_in_address,
};

/// An account that is about to be tried.
pub(crate) struct NewAccount {
    pub(crate) settings: AccountSettings,
    /// The secret as the configuration will name it.
    pub(crate) secret: Option<SecretSource>,
    /// A password that was typed, and where it will be kept.
    pub(crate) typed: Option<(SecretString, PathBuf)>,
}

impl NewAccount {
    pub(crate) fn ask(args: &AccountAdd, path: &Path, io: &Io<'_>) -> Result<Self, Failure> {
        let wrong = || not_a_server(&args.url);
        let start = start(&args.url).ok_or_else(wrong)?;
        if start.url.password().is_some() || !start.url.username().is_empty() {
            return Err(sign_in_in_address());
        }
        // A mail address is mostly the user name too.
        let mail = args.url.contains('@').then(|| args.url.clone());
        let mut user = args.user.clone().or(mail);
        let is_told =
            args.password_from.is_some() || args.token_from.is_some() || args.oauth.client_id.is_some();
        if user.is_none()
            && !is_told
            && let Some(mut questions) = Questions::of_terminal(io.can_ask)
        {
            user = questions.optional(USER_OR_NONE)?;
        }
        let mut typed = None;
        let sign_in = if let Some(client_id) = &args.oauth.client_id {
            SignInSettings::OAuth(Box::new(oauth(client_id, &args.oauth, path)?))
        } else if let Some(from) = &args.token_from {
            SignInSettings::Token(secret_from(from, &args.name, "--token-from", path)?)
        } else if user.is_none() && args.password_from.is_none() {
            SignInSettings::Nobody
        } else {
            SignInSettings::Password(password(args, path, io, &mut typed)?)
        };
        let proxy = args.proxy.as_deref().map(proxy).transpose()?;
        let settings = AccountSettings {
            // Paths are typed from here, and written down as they hold from there.
            ca: args.ca.as_ref().map(|ca| path_from(path, ca)).transpose()?,
            proxy,
            plain_http: args.plain_http,
            sign_in_also_at: also_at(&args.sign_in_also_at)?,
            ..AccountSettings::new(start, user, sign_in)
        };
        Ok(Self::new(&args.name, settings, typed))
    }

    /// A typed password goes into a file of its own once it was tried.
    pub(crate) fn new(name: &str, settings: AccountSettings, typed: Option<(SecretString, PathBuf)>) -> Self {
        let secret = match &settings.sign_in {
            SignInSettings::Password(_) if typed.is_some() => {
                Some(SecretSource::File(PathBuf::from(password_file(name))))
            }
            SignInSettings::Password(source) | SignInSettings::Token(source) => Some(source.clone()),
            SignInSettings::Nobody | SignInSettings::OAuth(_) => None,
        };
        Self { settings, secret, typed }
    }

    /// Keeps a typed password in a file of its own.
    pub(crate) fn save_secret(&self) -> Result<(), Failure> {
        let Some((secret, path)) = &self.typed else { return Ok(()) };
        write_private(path, &format!("{}\n", secret.expose_secret()))
            .map_err(|e| password_not_written(path, &e))
    }

    pub(crate) fn keys(&self, url: &str) -> Vec<(&'static str, Value)> {
        let mut keys = vec![("url", Value::from(url))];
        keys.extend(self.settings.user.as_deref().map(|user| ("user", Value::from(user))));
        let secret = self.secret.as_ref().map(secret_value);
        let place =
            if matches!(self.settings.sign_in, SignInSettings::Token(_)) { "token" } else { "password" };
        keys.extend(secret.map(|value| (place, value)));
        if let SignInSettings::OAuth(oauth) = &self.settings.sign_in {
            keys.push(("oauth", oauth_value(oauth)));
        }
        keys.extend(self.settings.ca.as_ref().map(|ca| ("ca", Value::from(ca.display().to_string()))));
        let proxy = |p: &ProxySettings| p.url.as_ref().map_or_else(|| "none".to_owned(), ToString::to_string);
        keys.extend(self.settings.proxy.as_ref().map(|p| ("proxy", Value::from(proxy(p)))));
        keys.extend(also_at_value(&self.settings.sign_in_also_at).map(|also| ("sign-in-also-at", also)));
        keys.extend(self.settings.plain_http.then(|| ("plain-http", Value::from(true))));
        keys
    }
}

/// Reads origins as they were typed.
pub(crate) fn also_at(texts: &[String]) -> Result<Vec<String>, Failure> {
    match no_origin(texts) {
        Some(text) => Err(not_an_origin(text)),
        None => Ok(texts.to_vec()),
    }
}

/// Origins as the configuration says them; `None` for none.
pub(crate) fn also_at_value(origins: &[String]) -> Option<Value> {
    (!origins.is_empty()).then(|| origins.iter().map(String::as_str).collect::<Value>())
}

/// An account that is not in the configuration cannot be named in what to do next.
fn unwritten(checked: Checked, name: &str) -> Checked {
    let outcome = checked.outcome.map_err(|failure| Failure {
        hint: failure.hint.as_deref().map(|hint| hint_before_it_is_written(hint, name)),
        ..failure
    });
    Checked { outcome, ..checked }
}

/// Tries an account; where another server wants the sign-in, a person says whether it may have it, and it is tried again.
pub(crate) fn try_account(
    name: &str,
    settings: &mut AccountSettings,
    base: &Path,
    io: &Io<'_>,
) -> Result<Checked, Failure> {
    loop {
        let checked = block_on(check_account(name, settings, base, &io.environment))??;
        let Some(to) = checked.elsewhere.clone() else { return Ok(unwritten(checked, name)) };
        let from = checked.url.host_str().unwrap_or_default().to_owned();
        let Some(mut questions) = Questions::of_terminal(io.can_ask) else {
            return Ok(Checked { outcome: Err(sign_in_also_needed(&from, &to)), ..checked });
        };
        if settings.sign_in_also_at.contains(&to) || !questions.yes(&may_sign_in_at(&from, &to), false)? {
            return Ok(checked);
        }
        settings.sign_in_also_at.push(to);
    }
}

pub(crate) fn password(
    args: &AccountAdd,
    path: &Path,
    io: &Io<'_>,
    typed: &mut Option<(SecretString, PathBuf)>,
) -> Result<SecretSource, Failure> {
    let is_keyring = args.password_from.as_deref().is_some_and(|from| from.starts_with("keyring"));
    let source =
        args.password_from.as_deref().map(|from| secret_from(from, &args.name, "--password-from", path));
    let source = source.transpose()?;
    if is_keyring && !KEYRING_IS_THERE {
        return Err(no_keyring_for_password());
    }
    match (&source, is_keyring) {
        (Some(SecretSource::Keyring(name)), true) if read_from_keyring(name).is_err() => {}
        (Some(source), _) => return Ok(source.clone()),
        (None, _) => {}
    }
    let mut questions = Questions::of_terminal(io.can_ask).ok_or_else(no_terminal_for_password)?;
    let secret = questions.secret(&password_prompt(args.user.as_deref().unwrap_or(&args.name)))?;
    if let Some(SecretSource::Keyring(name)) = source {
        write_to_keyring(&name, secret.expose_secret()).map_err(|words| keyring_takes_none(&words))?;
        return Ok(SecretSource::Keyring(name));
    }
    if args.password_in_configuration {
        return Ok(SecretSource::Plain(secret));
    }
    let file = path.with_file_name(password_file(&args.name));
    *typed = Some((secret.clone(), file));
    Ok(SecretSource::Plain(secret))
}

/// Reads `env:NAME` and the like; files are named from here.
pub(crate) fn secret_from(
    text: &str,
    name: &str,
    option: &str,
    path: &Path,
) -> Result<SecretSource, Failure> {
    let source = typed_secret(text, name).ok_or_else(|| no_place_of_secret(option))?;
    match source {
        SecretSource::File(file) => Ok(SecretSource::File(path_from(path, &file)?)),
        other => Ok(other),
    }
}

pub(crate) fn proxy(text: &str) -> Result<ProxySettings, Failure> {
    let url = match text {
        "none" => None,
        text => Some(url::Url::parse(text).ok().filter(url::Url::has_host).ok_or_else(|| not_a_proxy(text))?),
    };
    if url.as_ref().is_some_and(|url| url.password().is_some()) {
        return Err(password_in_proxy());
    }
    Ok(ProxySettings { url, user: None, password: None })
}

pub(crate) fn oauth(client_id: &str, args: &OAuthArgs, path: &Path) -> Result<OAuthSettings, Failure> {
    let address = |option: &str, text: Option<&String>| {
        let url = text.map(|text| url::Url::parse(text).map_err(|_| not_an_address(option, text)));
        url.transpose()
    };
    let needed = |option: &str, text: Option<&String>| {
        address(option, text)?.ok_or_else(|| needed_with_client(option))
    };
    let secret = args.client_secret_from.as_deref();
    Ok(OAuthSettings {
        client_id: client_id.to_owned(),
        client_secret: secret
            .map(|from| secret_from(from, client_id, "--client-secret-from", path))
            .transpose()?,
        authorize_url: needed("--authorize-url", args.authorize_url.as_ref())?,
        token_url: needed("--token-url", args.token_url.as_ref())?,
        device_url: address("--device-url", args.device_url.as_ref())?,
        scopes: args.scopes.clone(),
        keep: None,
    })
}
