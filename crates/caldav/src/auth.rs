//! Signing in: Basic (RFC 7617), Digest (RFC 7616) and Bearer (RFC 6750).

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::future::Future;
use std::pin::Pin;
use std::rc::Rc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use chestnut_core::hex;
use md5::Md5;
use secrecy::{ExposeSecret, SecretString};
use sha2::{Digest, Sha256};

use crate::error::TransportError;

/// How an account signs in.
#[derive(Debug, Clone, Default)]
pub enum SignIn {
    /// Not at all.
    #[default]
    Nobody,
    /// With a user name and a password: Digest where the server asks for it, else Basic.
    Password(Credentials),
    /// With a token (RFC 6750).
    Bearer(Rc<dyn TokenSource>),
}

/// What comes of asking for a token.
pub type TokenAnswer<'a> = Pin<Box<dyn Future<Output = Result<SecretString, TransportError>> + 'a>>;

/// Gives tokens, and new ones when the old are refused.
pub trait TokenSource: std::fmt::Debug {
    /// Returns a token. `refused` is one that the server did not take: another one is wanted.
    fn token<'a>(&'a self, refused: Option<&'a SecretString>) -> TokenAnswer<'a>;
}

/// A token that is what it is.
#[derive(Debug, Clone)]
pub struct FixedToken(pub SecretString);

impl TokenSource for FixedToken {
    fn token<'a>(&'a self, _: Option<&'a SecretString>) -> TokenAnswer<'a> {
        Box::pin(std::future::ready(Ok(self.0.clone())))
    }
}

/// A user name and a password; the password shows in no log and no error.
#[derive(Debug, Clone)]
pub struct Credentials {
    /// The user name.
    pub user: String,
    /// The password.
    pub password: SecretString,
}

impl Credentials {
    /// Returns the Authorization header for Basic.
    #[must_use]
    pub(crate) fn basic(&self) -> String {
        let pair = format!("{}:{}", self.user, self.password.expose_secret());
        format!("Basic {}", STANDARD.encode(pair))
    }
}

/// A server's Digest challenge, and how often it was answered.
#[derive(Debug, Clone)]
pub(crate) struct DigestChallenge {
    realm: String,
    nonce: String,
    opaque: Option<String>,
    qop: bool,
    sha256: bool,
    count: u32,
}

impl DigestChallenge {
    /// Reads a WWW-Authenticate header; `None` where it is no Digest challenge this program can answer.
    pub(crate) fn parse(header: &str) -> Option<Self> {
        let (scheme, rest) = header.trim().split_once(' ')?;
        if !scheme.eq_ignore_ascii_case("digest") {
            return None;
        }
        let fields = challenge_fields(rest);
        let algorithm = fields.get("algorithm").map_or("md5", String::as_str).to_ascii_lowercase();
        if algorithm != "md5" && algorithm != "sha-256" {
            return None;
        }
        Some(Self {
            realm: fields.get("realm").cloned().unwrap_or_default(),
            nonce: fields.get("nonce")?.clone(),
            opaque: fields.get("opaque").cloned(),
            qop: fields.get("qop").is_some_and(|q| q.split(',').any(|one| one.trim() == "auth")),
            sha256: algorithm == "sha-256",
            count: 0,
        })
    }

    /// Answers the challenge for one request. `cnonce` need only be new each time.
    pub(crate) fn answer(&mut self, who: &Credentials, method: &str, target: &str, cnonce: &str) -> String {
        self.count += 1;
        let hash =
            |text: String| if self.sha256 { hex(&Sha256::digest(text)) } else { hex(&Md5::digest(text)) };
        let a1 = hash(format!("{}:{}:{}", who.user, self.realm, who.password.expose_secret()));
        let a2 = hash(format!("{method}:{target}"));
        let nc = format!("{:08x}", self.count);
        let response = if self.qop {
            hash(format!("{a1}:{}:{nc}:{cnonce}:auth:{a2}", self.nonce))
        } else {
            hash(format!("{a1}:{}:{a2}", self.nonce))
        };
        let mut header = format!(
            "Digest username=\"{}\", realm=\"{}\", nonce=\"{}\", uri=\"{target}\", response=\"{response}\", algorithm={}",
            who.user.replace(['"', '\\'], ""),
            self.realm,
            self.nonce,
            if self.sha256 { "SHA-256" } else { "MD5" },
        );
        if self.qop {
            write!(header, ", qop=auth, nc={nc}, cnonce=\"{cnonce}\"")
                .expect("writing to a string cannot fail");
        }
        if let Some(opaque) = &self.opaque {
            write!(header, ", opaque=\"{opaque}\"").expect("writing to a string cannot fail");
        }
        header
    }
}

/// `key="value", key=value` with commas allowed inside quotes.
fn challenge_fields(text: &str) -> BTreeMap<String, String> {
    let mut fields = BTreeMap::new();
    let mut quoted = false;
    let parts = text.split(|c| {
        quoted ^= c == '"';
        c == ',' && !quoted
    });
    for part in parts {
        if let Some((key, value)) = part.split_once('=') {
            fields.insert(key.trim().to_ascii_lowercase(), value.trim().trim_matches('"').to_owned());
        }
    }
    fields
}
