//! A simulated sign-in service: OAuth 2.0 with codes (RFC 6749, 7636), codes for other devices (RFC 8628), and
//! tokens that end.
//!
//! People are played by whoever opens the pages: `/sign-in/authorize` and `/sign-in/activate` take `answer=yes` or
//! `no`, and `user`.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use sha2::{Digest, Sha256};
use url::form_urlencoded;

use crate::exchange::{Reply, ServerRequest};

/// Who is registered, what was given out, and what is still open.
#[derive(Debug, Clone)]
pub struct SignInService {
    /// The program that may ask.
    pub client_id: String,
    /// Its secret, where it has one.
    pub client_secret: Option<String>,
    /// So long an access token lasts, in seconds.
    pub access_seconds: i64,
    /// A refresh token is good for one use.
    pub rotates: bool,
    codes: BTreeMap<String, Code>,
    devices: BTreeMap<String, Device>,
    /// Access tokens: whose, and until when, in milliseconds since 1970.
    access: BTreeMap<String, (String, i64)>,
    refresh: BTreeMap<String, String>,
    made: u64,
}

#[derive(Debug, Clone)]
struct Code {
    user: String,
    redirect: String,
    challenge: String,
}

#[derive(Debug, Clone)]
struct Device {
    user_code: String,
    /// `None` while nobody has answered; then who said yes, or nobody.
    answer: Option<Option<String>>,
    polls: usize,
}

type Fields = BTreeMap<String, String>;

impl SignInService {
    /// Makes a service that knows one program.
    #[must_use]
    pub fn new(client_id: &str) -> Self {
        Self {
            client_id: client_id.to_owned(),
            client_secret: None,
            access_seconds: 3600,
            rotates: true,
            codes: BTreeMap::new(),
            devices: BTreeMap::new(),
            access: BTreeMap::new(),
            refresh: BTreeMap::new(),
            made: 0,
        }
    }

    /// Takes back everything that was given out.
    pub fn revoke(&mut self) {
        self.access.clear();
        self.refresh.clear();
    }

    /// Ends every access token; refresh tokens stay good.
    pub fn end_access(&mut self) {
        self.access.clear();
    }

    /// Returns every secret that was given out and may still be used.
    #[must_use]
    pub fn secrets(&self) -> Vec<String> {
        self.access.keys().chain(self.refresh.keys()).cloned().collect()
    }

    /// Returns whose token this is, if it is still good.
    pub(crate) fn user_of(&self, token: &str, now_ms: i64) -> Option<&str> {
        self.access.get(token).filter(|(_, until)| *until > now_ms).map(|(user, _)| user.as_str())
    }

    fn secret(&mut self, what: &str) -> String {
        self.made += 1;
        format!("{what}-{}", crate::names::hash(&format!("{what} {}", self.made)))
    }

    pub(crate) fn answer(&mut self, request: &ServerRequest, path: &str, now_ms: i64) -> Reply {
        let query = fields(request.path.split_once('?').map_or("", |(_, query)| query).as_bytes());
        match (request.method.as_str(), path) {
            ("GET", "/sign-in/authorize") => self.authorize(&query),
            ("GET", "/sign-in/activate") => self.activate(&query),
            ("POST", "/sign-in/device") => self.device(request),
            ("POST", "/sign-in/token") => self.token(request, now_ms),
            _ => Reply::status(404),
        }
    }

    /// The page on which a person says yes; with an answer, the way back to the program.
    fn authorize(&mut self, query: &Fields) -> Reply {
        let get = |key: &str| query.get(key).cloned().unwrap_or_default();
        let redirect = get("redirect_uri");
        let sound = get("client_id") == self.client_id
            && get("response_type") == "code"
            && get("code_challenge_method") == "S256"
            && !get("code_challenge").is_empty()
            && redirect.starts_with("http://127.0.0.1:");
        if !sound {
            return Reply::status(400)
                .body("text/html", "<!doctype html><p>This program is not known here.</p>");
        }
        let outcome = match query.get("answer").map(String::as_str) {
            Some("yes") => {
                let code = self.secret("code");
                let open =
                    Code { user: get("user"), redirect: redirect.clone(), challenge: get("code_challenge") };
                self.codes.insert(code.clone(), open);
                ("code", code)
            }
            Some(_) => ("error", "access_denied".to_owned()),
            None => {
                let page = "<!doctype html><title>Sign in</title><p>May this program read and write your calendars?</p>";
                return Reply::status(200).body("text/html", page);
            }
        };
        let back = form_urlencoded::Serializer::new(String::new())
            .append_pair(outcome.0, &outcome.1)
            .append_pair("state", &get("state"))
            .finish();
        Reply::status(302).with("Location", format!("{redirect}?{back}"))
    }

    fn activate(&mut self, query: &Fields) -> Reply {
        let wanted = query.get("user_code");
        let device = self.devices.values_mut().find(|d| Some(&d.user_code) == wanted);
        let Some(device) = device else { return Reply::status(404).body("text/html", "<p>no such code</p>") };
        let yes = query.get("answer").is_some_and(|answer| answer == "yes");
        device.answer = Some(query.get("user").filter(|_| yes).cloned());
        Reply::status(200).body("text/html", "<p>Thank you.</p>")
    }

    fn device(&mut self, request: &ServerRequest) -> Reply {
        if !self.knows(request) {
            return refused("invalid_client");
        }
        let code = self.secret("device");
        let user_code = format!("PRESS-{:04}", self.made);
        self.devices.insert(code.clone(), Device { user_code: user_code.clone(), answer: None, polls: 0 });
        let host = request.header("host").unwrap_or("localhost");
        json(
            200,
            &serde_json::json!({
                "device_code": code, "user_code": user_code, "expires_in": 600, "interval": 1,
                "verification_uri": format!("http://{host}/sign-in/activate"),
            }),
        )
    }

    fn knows(&self, request: &ServerRequest) -> bool {
        let form = fields(&request.body);
        let basic = request.header("authorization").and_then(|h| h.strip_prefix("Basic "));
        let pair = basic.and_then(|b| String::from_utf8(STANDARD.decode(b).ok()?).ok());
        let secret = pair.as_deref().and_then(|p| p.split_once(':')).map(|(_, secret)| secret.to_owned());
        let secret = secret.or_else(|| form.get("client_secret").cloned());
        form.get("client_id") == Some(&self.client_id) && secret == self.client_secret
    }

    fn token(&mut self, request: &ServerRequest, now_ms: i64) -> Reply {
        if !self.knows(request) {
            return refused("invalid_client");
        }
        let form = fields(&request.body);
        let get = |key: &str| form.get(key).cloned().unwrap_or_default();
        let user = match get("grant_type").as_str() {
            "authorization_code" => {
                let Some(code) = self.codes.remove(&get("code")) else { return refused("invalid_grant") };
                let proof = URL_SAFE_NO_PAD.encode(Sha256::digest(get("code_verifier")));
                if code.redirect != get("redirect_uri") || code.challenge != proof {
                    return refused("invalid_grant");
                }
                code.user
            }
            "refresh_token" => {
                let token = get("refresh_token");
                let Some(user) = self.refresh.get(&token).cloned() else { return refused("invalid_grant") };
                if self.rotates {
                    self.refresh.remove(&token);
                }
                user
            }
            "urn:ietf:params:oauth:grant-type:device_code" => {
                let Some(device) = self.devices.get_mut(&get("device_code")) else {
                    return refused("expired_token");
                };
                device.polls += 1;
                match &device.answer {
                    None => return refused("authorization_pending"),
                    Some(None) => return refused("access_denied"),
                    Some(Some(user)) => user.clone(),
                }
            }
            _ => return refused("unsupported_grant_type"),
        };
        let access = self.secret("access");
        self.access.insert(access.clone(), (user.clone(), now_ms + self.access_seconds * 1000));
        let mut answer = serde_json::json!({
            "access_token": access, "token_type": "Bearer", "expires_in": self.access_seconds,
        });
        if self.rotates || get("grant_type") != "refresh_token" {
            let refresh = self.secret("refresh");
            self.refresh.insert(refresh.clone(), user);
            answer["refresh_token"] = refresh.into();
        }
        json(200, &answer)
    }
}

fn fields(form: &[u8]) -> Fields {
    form_urlencoded::parse(form).into_owned().collect()
}

fn refused(error: &str) -> Reply {
    json(400, &serde_json::json!({ "error": error }))
}

fn json(status: u16, value: &serde_json::Value) -> Reply {
    Reply::status(status).body("application/json", value.to_string())
}
