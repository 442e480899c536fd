//! Where the tokens of an OAuth sign-in are kept: a file of its own that only its owner may read, or the keyring.

use std::path::PathBuf;

use chestnut_caldav::oauth::{TokenKeeper, Tokens};
use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Serialize};

use super::account::OAuthSettings;
use super::secrets::{SecretSource, check_private, replace_private};
use crate::environment::Environment;
use crate::words::{Open, in_keyring, in_one_line, not_signed_in_yet, not_tokens};

/// Where an account's tokens are kept.
#[derive(Debug, Clone)]
pub(crate) enum Keep {
    File(PathBuf),
    Keyring(String),
}

/// Keeps the tokens of one account.
#[derive(Debug)]
pub(crate) struct Keeper {
    pub(crate) keep: Keep,
    pub(crate) account: String,
    pub(crate) environment: Environment,
}

/// As it is written down.
#[derive(Serialize, Deserialize)]
struct Kept {
    access_token: String,
    refresh_token: Option<String>,
    expires_at: Option<i64>,
    #[serde(default)]
    renewable_until: Option<(i64, i64)>,
}

/// Says where an account keeps its tokens: where it is told, else in `NAME.tokens` beside the configuration.
pub(crate) fn keep_of(account: &str, oauth: &OAuthSettings, base: &std::path::Path) -> Keep {
    match &oauth.keep {
        Some(SecretSource::Keyring(name)) => Keep::Keyring(name.clone()),
        Some(SecretSource::File(path)) => Keep::File(base.join(path)),
        _ => Keep::File(base.join(format!("{account}.tokens"))),
    }
}

impl Keeper {
    /// Says where, in words.
    pub(crate) fn place(&self) -> String {
        match &self.keep {
            Keep::File(path) => path.display().to_string(),
            Keep::Keyring(name) => in_keyring(name),
        }
    }
}

impl TokenKeeper for Keeper {
    fn load(&self) -> Result<Tokens, String> {
        let text = match &self.keep {
            Keep::Keyring(name) => super::keyring::read(name)?,
            Keep::File(path) => {
                check_private(path, &Open::Tokens).map_err(|failure| in_one_line(&failure))?;
                std::fs::read_to_string(path).map_err(|system| match system.kind() {
                    std::io::ErrorKind::NotFound => not_signed_in_yet(&self.account),
                    _ => format!("{}: {system}", path.display()),
                })?
            }
        };
        let unreadable = |_| not_tokens(&self.place());
        let kept: Kept = serde_json::from_str(&text).map_err(unreadable)?;
        Ok(Tokens {
            access: SecretString::from(kept.access_token),
            refresh: kept.refresh_token.map(SecretString::from),
            expires_at: kept.expires_at,
            renewable_until: kept.renewable_until,
        })
    }

    fn save(&self, tokens: &Tokens) -> Result<(), String> {
        let kept = Kept {
            access_token: tokens.access.expose_secret().to_owned(),
            refresh_token: tokens.refresh.as_ref().map(|t| t.expose_secret().to_owned()),
            expires_at: tokens.expires_at,
            renewable_until: tokens.renewable_until,
        };
        let text = serde_json::to_string(&kept).expect("texts turn into JSON");
        match &self.keep {
            Keep::Keyring(name) => super::keyring::write(name, &text),
            Keep::File(path) => replace_private(path, &format!("{text}\n"))
                .map_err(|system| format!("{}: {system}", path.display())),
        }
    }

    fn now(&self) -> i64 {
        self.environment.now().map_or(0, |now| now.as_second())
    }
}
