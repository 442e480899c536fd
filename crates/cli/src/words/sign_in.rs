//! How an account signs in.

use crate::settings::{AccountSettings, SecretSource, SignInSettings};

pub(crate) fn sign_in_words(account: &AccountSettings) -> String {
    match &account.sign_in {
        SignInSettings::Nobody => "none".to_owned(),
        SignInSettings::Password(source) => format!("password from {}", source_words(source)),
        SignInSettings::Token(source) => format!("token from {}", source_words(source)),
        SignInSettings::OAuth(oauth) => {
            format!("OAuth at {}", oauth.token_url.host_str().unwrap_or_default())
        }
    }
}

pub(crate) fn source_words(source: &SecretSource) -> String {
    match source {
        SecretSource::Env(name) => format!("the variable {name}"),
        SecretSource::File(path) => format!("the file {}", path.display()),
        SecretSource::Command(words) => format!("the command {}", words[0]),
        SecretSource::Keyring(name) => format!("the keyring ({name})"),
        SecretSource::Credential(name) => format!("the credential {name} of the service"),
        SecretSource::Plain(_) => "the configuration itself".to_owned(),
    }
}
