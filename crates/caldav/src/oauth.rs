//! OAuth 2.0 for accounts: authorisation code with PKCE (RFC 6749, 4.1; RFC 7636; RFC 8252), device grant
//! (RFC 8628), refreshing. Requests and answers as values; [`OAuthTokens`] keeps a token fresh while a run goes on.

use std::cell::RefCell;
use std::rc::Rc;

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use secrecy::{ExposeSecret, SecretString};
use serde_json::Value;
use sha2::{Digest, Sha256};
use url::Url;

use crate::auth::{TokenAnswer, TokenSource};
pub use crate::error::OAuthError;
use crate::error::{Detail, TransportError, TransportFault};
use crate::transport::{Answer, Request, Transport};

/// A token is renewed so many seconds before it runs out: a request may take that long.
const RENEW_BEFORE: i64 = 60;

/// A program as an authorisation server knows it.
#[derive(Debug, Clone)]
pub struct OAuthClient {
    /// The name under which it is registered.
    pub client_id: String,
    /// Its secret, where it has one.
    pub client_secret: Option<SecretString>,
    /// Where people say yes.
    pub authorize_url: Url,
    /// Where codes become tokens.
    pub token_url: Url,
    /// Where a code for another device is asked for.
    pub device_url: Option<Url>,
    /// What is asked for.
    pub scopes: Vec<String>,
}

/// Tokens as they are kept.
#[derive(Debug, Clone)]
pub struct Tokens {
    /// Signs requests.
    pub access: SecretString,
    /// Gets the next tokens.
    pub refresh: Option<SecretString>,
    /// When the access token runs out, in seconds since 1970.
    pub expires_at: Option<i64>,
    /// When what gets the next tokens runs out, where the server says so: a moment in seconds since 1970, and how long it
    /// lasts as a whole.
    pub renewable_until: Option<(i64, i64)>,
}

impl Tokens {
    /// Returns when somebody has to sign in again, in seconds since 1970, and how many seconds the sign-in lasts as a
    /// whole; `None` where the server does not say.
    #[must_use]
    pub fn sign_in_ends(&self) -> Option<(i64, i64)> {
        match &self.refresh {
            Some(_) => self.renewable_until,
            // Nothing renews it. How long it lasted in all was not told.
            None => self.expires_at.map(|at| (at, i64::MAX)),
        }
    }
}

/// What a person types on another device, and how the answer is waited for.
#[derive(Debug, Clone)]
pub struct DeviceCode {
    /// Identifies this attempt.
    pub device_code: SecretString,
    /// What the person types; untrusted text.
    pub user_code: String,
    /// Where; untrusted text.
    pub verification_uri: String,
    /// Seconds until it is no longer valid.
    pub expires_in: i64,
    /// Seconds between two questions.
    pub interval: u64,
}

/// The two halves of a proof that code and token go to the same program (RFC 7636).
#[derive(Debug, Clone)]
pub struct Pkce {
    /// Sent for the token.
    pub verifier: SecretString,
    /// Sent with the question.
    pub challenge: String,
}

impl Pkce {
    /// Makes a proof out of 32 random bytes.
    #[must_use]
    pub fn new(random: [u8; 32]) -> Self {
        let verifier = URL_SAFE_NO_PAD.encode(random);
        let challenge = URL_SAFE_NO_PAD.encode(Sha256::digest(&verifier));
        Self { verifier: SecretString::from(verifier), challenge }
    }
}

impl OAuthClient {
    /// Returns the address to open in a browser.
    #[must_use]
    pub fn authorize_address(&self, redirect: &str, state: &str, pkce: &Pkce) -> Url {
        let mut url = self.authorize_url.clone();
        url.query_pairs_mut()
            .append_pair("response_type", "code")
            .append_pair("client_id", &self.client_id)
            .append_pair("redirect_uri", redirect)
            .append_pair("scope", &self.scopes.join(" "))
            .append_pair("state", state)
            .append_pair("code_challenge", &pkce.challenge)
            .append_pair("code_challenge_method", "S256");
        url
    }

    /// Asks for tokens in exchange for a code.
    #[must_use]
    pub fn exchange(&self, code: &SecretString, redirect: &str, pkce: &Pkce) -> Request {
        self.post(
            &self.token_url,
            &[
                ("grant_type", "authorization_code"),
                ("code", code.expose_secret()),
                ("redirect_uri", redirect),
                ("code_verifier", pkce.verifier.expose_secret()),
            ],
        )
    }

    /// Asks for new tokens.
    #[must_use]
    pub fn renew(&self, refresh: &SecretString) -> Request {
        self.post(
            &self.token_url,
            &[("grant_type", "refresh_token"), ("refresh_token", refresh.expose_secret())],
        )
    }

    /// Asks for a code to be typed on another device; `None` where the server has no address for that.
    #[must_use]
    pub fn ask_for_device(&self) -> Option<Request> {
        Some(self.post(self.device_url.as_ref()?, &[("scope", &self.scopes.join(" "))]))
    }

    /// Asks whether the code was typed.
    #[must_use]
    pub fn poll_device(&self, code: &DeviceCode) -> Request {
        let grant = "urn:ietf:params:oauth:grant-type:device_code";
        self.post(
            &self.token_url,
            &[("grant_type", grant), ("device_code", code.device_code.expose_secret())],
        )
    }

    fn post(&self, url: &Url, fields: &[(&str, &str)]) -> Request {
        let mut form = url::form_urlencoded::Serializer::new(String::new());
        form.extend_pairs(fields).append_pair("client_id", &self.client_id);
        let mut headers = vec![
            ("Content-Type", "application/x-www-form-urlencoded".to_owned()),
            ("Accept", "application/json".to_owned()),
        ];
        if let Some(secret) = &self.client_secret {
            let coded =
                |text: &str| url::form_urlencoded::byte_serialize(text.as_bytes()).collect::<String>();
            let pair = format!("{}:{}", coded(&self.client_id), coded(secret.expose_secret()));
            headers.push(("Authorization", format!("Basic {}", STANDARD.encode(pair))));
        }
        Request { method: "POST", url: url.clone(), headers, body: form.finish() }
    }
}

/// Reads an answer of the token endpoint. `now` is in seconds since 1970.
///
/// # Errors
/// [`OAuthError`].
pub fn read_tokens(answer: &Answer, now: i64) -> Result<Tokens, OAuthError> {
    let json = read_json(answer)?;
    let text = |key: &str| json[key].as_str().map(|t| SecretString::from(t.to_owned()));
    let access = text("access_token");
    let access = access.ok_or_else(|| OAuthError::Lacks("access_token".to_owned()))?;
    let expires_at = number(&json["expires_in"]).map(|seconds| now.saturating_add(seconds.max(0)));
    // No standard names it; services that tell use one of these.
    let lasts = number(&json["refresh_token_expires_in"]).or_else(|| number(&json["refresh_expires_in"]));
    let renewable_until = lasts.filter(|lasts| *lasts > 0).map(|lasts| (now.saturating_add(lasts), lasts));
    Ok(Tokens { access, refresh: text("refresh_token"), expires_at, renewable_until })
}

/// Reads an answer of the device endpoint (RFC 8628, 3.2).
///
/// # Errors
/// [`OAuthError`].
pub fn read_device_code(answer: &Answer) -> Result<DeviceCode, OAuthError> {
    let json = read_json(answer)?;
    let text = |key: &str| json[key].as_str().map(str::to_owned);
    let missing = |key: &str| OAuthError::Lacks(key.to_owned());
    Ok(DeviceCode {
        device_code: text("device_code").map(SecretString::from).ok_or_else(|| missing("device_code"))?,
        user_code: text("user_code").ok_or_else(|| missing("user_code"))?,
        verification_uri: text("verification_uri")
            .or_else(|| text("verification_url"))
            .ok_or_else(|| missing("verification_uri"))?,
        expires_in: number(&json["expires_in"]).unwrap_or(600).clamp(1, 3600),
        interval: number(&json["interval"]).unwrap_or(5).clamp(1, 60).unsigned_abs(),
    })
}

/// Some servers write numbers as texts.
fn number(value: &Value) -> Option<i64> {
    value.as_i64().or_else(|| value.as_str()?.parse().ok())
}

fn read_json(answer: &Answer) -> Result<Value, OAuthError> {
    let json: Option<Value> = serde_json::from_slice(&answer.body).ok();
    let json = json.filter(Value::is_object);
    let Some(json) = json else { return Err(OAuthError::NotOAuth { status: answer.status }) };
    let detail = || {
        let words: String =
            json["error_description"].as_str()?.chars().filter(|c| !c.is_control()).take(160).collect();
        Some(words).filter(|w| !w.is_empty())
    };
    match json["error"].as_str() {
        None if (200..300).contains(&answer.status) => Ok(json),
        None => Err(OAuthError::NotOAuth { status: answer.status }),
        Some("invalid_grant") => Err(OAuthError::Revoked(detail())),
        Some("authorization_pending") => Err(OAuthError::Pending),
        Some("slow_down") => Err(OAuthError::SlowDown),
        Some("access_denied") => Err(OAuthError::Denied),
        Some("expired_token") => Err(OAuthError::Expired),
        Some(other) => {
            let name: String = other.chars().filter(|c| !c.is_control()).take(60).collect();
            Err(OAuthError::Refused(detail().map_or(name.clone(), |words| format!("{name}: {words}"))))
        }
    }
}

/// Where tokens are kept between runs.
pub trait TokenKeeper: std::fmt::Debug {
    /// Returns what is kept.
    ///
    /// # Errors
    /// Nothing is kept, or it cannot be read; in words.
    fn load(&self) -> Result<Tokens, String>;
    /// Keeps new tokens in the place of the old ones.
    ///
    /// # Errors
    /// They cannot be written; in words.
    fn save(&self, tokens: &Tokens) -> Result<(), String>;
    /// Returns the time, in seconds since 1970.
    fn now(&self) -> i64;
}

/// Tokens of one account: renewed before they run out, or when the server refuses them.
pub struct OAuthTokens {
    client: OAuthClient,
    /// Carries questions to the sign-in service; signs nothing.
    transport: Rc<dyn Transport>,
    keeper: Rc<dyn TokenKeeper>,
    current: RefCell<Option<Tokens>>,
    /// One renewal at a time: a refresh token may be good for one use only.
    turn: tokio::sync::Mutex<()>,
}

impl std::fmt::Debug for OAuthTokens {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("OAuthTokens").field("client", &self.client.client_id).finish_non_exhaustive()
    }
}

impl OAuthTokens {
    /// Takes what is kept, and keeps it fresh.
    #[must_use]
    pub fn new(client: OAuthClient, transport: Rc<dyn Transport>, keeper: Rc<dyn TokenKeeper>) -> Self {
        Self { client, transport, keeper, current: RefCell::default(), turn: tokio::sync::Mutex::new(()) }
    }

    fn ended(&self, detail: impl Into<Detail>) -> TransportError {
        let host = self.client.token_url.host_str().unwrap_or_default();
        TransportError::new(TransportFault::SignInEnded, host, detail)
    }

    fn good(&self, refused: Option<&SecretString>) -> Option<SecretString> {
        let current = self.current.borrow();
        let tokens = current.as_ref()?;
        let lasts = tokens.expires_at.is_none_or(|at| at - RENEW_BEFORE > self.keeper.now());
        let taken = refused.is_none_or(|refused| refused.expose_secret() != tokens.access.expose_secret());
        (lasts && taken).then(|| tokens.access.clone())
    }

    async fn get(&self, refused: Option<&SecretString>) -> Result<SecretString, TransportError> {
        if let Some(token) = self.good(refused) {
            return Ok(token);
        }
        let _turn = self.turn.lock().await;
        // Another request, or another process, may have renewed it meanwhile.
        if let Some(token) = self.good(refused) {
            return Ok(token);
        }
        let kept = self.keeper.load().map_err(|words| self.ended(words))?;
        *self.current.borrow_mut() = Some(kept.clone());
        if let Some(token) = self.good(refused) {
            return Ok(token);
        }
        let Some(refresh) = &kept.refresh else {
            return Err(self.ended(Detail::NothingToRenewWith));
        };
        let answer = self.transport.send(&self.client.renew(refresh)).await?;
        let new =
            read_tokens(&answer, self.keeper.now()).map_err(|error| self.ended(Detail::SignIn(error)))?;
        // A service that gives no new refresh token means the old one to be used again.
        let renewable_until = new.renewable_until.or(kept.renewable_until);
        let new = Tokens { refresh: new.refresh.or(kept.refresh), renewable_until, ..new };
        self.keeper.save(&new).map_err(|words| self.ended(words))?;
        let token = new.access.clone();
        *self.current.borrow_mut() = Some(new);
        tracing::debug!("a token was renewed");
        Ok(token)
    }
}

impl TokenSource for OAuthTokens {
    fn token<'a>(&'a self, refused: Option<&'a SecretString>) -> TokenAnswer<'a> {
        Box::pin(self.get(refused))
    }
}
