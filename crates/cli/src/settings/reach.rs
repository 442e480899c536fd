//! How to reach an account's server: its secrets, certificates and proxies, read once.

use std::path::Path;
use std::rc::Rc;
use std::time::Duration;

use chestnut_caldav::oauth::{OAuthClient, OAuthTokens};
use chestnut_caldav::{Credentials, FixedToken, HttpOptions, HttpTransport, Proxies, SignIn, SignInOrigin};
use secrecy::SecretString;

use super::account::{AccountSettings, OAuthSettings, ProxySettings, SignInSettings};
use super::secrets::{check_private, read_secret};
use super::tokens::{Keeper, keep_of};
use crate::environment::Environment;
use crate::failure::Failure;
use crate::words::{Open, cannot_be_reached, certificate_unreadable, not_pem};

/// Reads an account's secrets and files, and says how to reach its server.
pub(crate) fn http_options(
    name: &str,
    account: &AccountSettings,
    base: &Path,
    environment: &Environment,
) -> Result<HttpOptions, Failure> {
    let owner = format!("account {name}");
    let mut options = HttpOptions {
        timeout: Duration::try_from(account.timeout).unwrap_or(Duration::from_secs(30)),
        max_answer: account.max_download << 20,
        plain_http: account.plain_http,
        sign_in_also_at: account.sign_in_also_at.iter().filter_map(|o| SignInOrigin::parse(o)).collect(),
        ca: account.ca.as_ref().map(|path| certificate_file(&owner, &base.join(path))).transpose()?,
        certificate: own_certificate(&owner, account, base)?,
        proxies: proxies(&owner, account.proxy.as_ref(), base, environment)?,
        ..HttpOptions::default()
    };
    options.sign_in = match &account.sign_in {
        SignInSettings::Nobody => SignIn::Nobody,
        SignInSettings::Password(source) => SignIn::Password(Credentials {
            user: account.user.clone().unwrap_or_default(),
            password: read_secret(&owner, "password", source, base, environment)?,
        }),
        SignInSettings::Token(source) => {
            SignIn::Bearer(Rc::new(FixedToken(read_secret(&owner, "token", source, base, environment)?)))
        }
        SignInSettings::OAuth(oauth) => {
            let client = oauth_client(&owner, oauth, base, environment)?;
            let transport = HttpTransport::new(options.clone()).map_err(|e| cannot_be_reached(&owner, &e))?;
            let keeper = Keeper {
                keep: keep_of(name, oauth, base),
                account: name.to_owned(),
                environment: environment.clone(),
            };
            SignIn::Bearer(Rc::new(OAuthTokens::new(client, Rc::new(transport), Rc::new(keeper))))
        }
    };
    Ok(options)
}

/// Reads what an OAuth sign-in needs.
pub(crate) fn oauth_client(
    owner: &str,
    oauth: &OAuthSettings,
    base: &Path,
    environment: &Environment,
) -> Result<OAuthClient, Failure> {
    let secret = oauth.client_secret.as_ref();
    let secret =
        secret.map(|source| read_secret(owner, "client-secret", source, base, environment)).transpose()?;
    Ok(OAuthClient {
        client_id: oauth.client_id.clone(),
        client_secret: secret,
        authorize_url: oauth.authorize_url.clone(),
        token_url: oauth.token_url.clone(),
        device_url: oauth.device_url.clone(),
        scopes: oauth.scopes.clone(),
    })
}

fn certificate_file(owner: &str, path: &Path) -> Result<Vec<u8>, Failure> {
    std::fs::read(path).map_err(|e| certificate_unreadable(owner, path, &e))
}

/// A certificate to sign in with, its key behind it; the file with the key must be private.
fn own_certificate(
    owner: &str,
    account: &AccountSettings,
    base: &Path,
) -> Result<Option<SecretString>, Failure> {
    let Some(path) = &account.certificate else { return Ok(None) };
    let key = account.certificate_key.as_ref().unwrap_or(path);
    check_private(&base.join(key), &Open::Key(owner))?;
    let mut bytes = certificate_file(owner, &base.join(path))?;
    if key != path {
        bytes.push(b'\n');
        bytes.extend(certificate_file(owner, &base.join(key))?);
    }
    let text = String::from_utf8(bytes);
    let text = text.map_err(|_| not_pem(owner, path))?;
    Ok(Some(SecretString::from(text)))
}

fn proxies(
    owner: &str,
    settings: Option<&ProxySettings>,
    base: &Path,
    environment: &Environment,
) -> Result<Proxies, Failure> {
    let Some(ProxySettings { url, user, password }) = settings else {
        return Ok(environment_proxies(environment));
    };
    let address = url.as_ref().map(ToString::to_string);
    let credentials = match (user, password) {
        (Some(user), Some(source)) => Some(Credentials {
            user: user.clone(),
            password: read_secret(owner, "proxy's password", source, base, environment)?,
        }),
        _ => None,
    };
    Ok(Proxies { http: address.clone(), https: address, except: String::new(), credentials })
}

/// What the usual environment variables say, in either case.
pub(super) fn environment_proxies(environment: &Environment) -> Proxies {
    let either = |name: &str| environment.get(&name.to_lowercase()).or_else(|| environment.get(name));
    let all = either("ALL_PROXY");
    Proxies {
        http: either("HTTP_PROXY").or_else(|| all.clone()),
        https: either("HTTPS_PROXY").or(all),
        except: either("NO_PROXY").unwrap_or_default(),
        credentials: None,
    }
}
