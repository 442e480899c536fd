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

use crate::error::{SignInKind, TransportError};

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

impl SignIn {
    /// With what.
    #[must_use]
    pub fn kind(&self) -> SignInKind {
        match self {
            Self::Nobody => SignInKind::Nothing,
            Self::Password(_) => SignInKind::Password,
            Self::Bearer(_) => SignInKind::Token,
        }
    }
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

/// How a request signed in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum SignedBy {
    Basic,
    Digest,
}

/// How a server wants a password.
#[derive(Debug, Clone)]
pub(crate) enum PasswordChallenge {
    Basic,
    Digest(DigestChallenge),
}

impl PasswordChallenge {
    /// The best of those offered that this program can answer: SHA-256 before MD5 before Basic.
    pub(crate) fn best(offered: &[Challenge]) -> Option<Self> {
        let digests = offered.iter().filter_map(DigestChallenge::of);
        let best = digests.max_by_key(|challenge| challenge.sha256).map(Self::Digest);
        best.or_else(|| offered.iter().any(|one| one.scheme == "basic").then_some(Self::Basic))
    }
}

/// Answers what one header says of how a password is wanted (RFC 9110, 11.6.1); `None` where it is not wanted in a way that
/// is known. The transport does the same with all the headers of an answer.
#[must_use]
pub fn answer_to_challenge(header: &str, who: &Credentials, method: &str, target: &str) -> Option<String> {
    Some(match PasswordChallenge::best(&challenges(header))? {
        PasswordChallenge::Basic => who.basic(),
        PasswordChallenge::Digest(mut challenge) => challenge.answer(who, method, target, "1"),
    })
}

/// One challenge (RFC 9110, 11.6.1).
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Challenge {
    /// In lower case.
    pub(crate) scheme: String,
    /// By name in lower case.
    pub(crate) fields: BTreeMap<String, String>,
}

/// Reads the challenges of one header: several may stand in it, with commas between and inside them.
pub(crate) fn challenges(header: &str) -> Vec<Challenge> {
    let mut found: Vec<Challenge> = Vec::new();
    for part in quoted_split(header) {
        let part = part.trim();
        let (before, value) = part.split_once('=').unwrap_or((part, ""));
        // `Scheme name=value`, `Scheme token68` or `Scheme` begin a challenge; `name=value` goes on with one.
        let (scheme, name) = match before.trim().split_once(char::is_whitespace) {
            Some((scheme, name)) => (Some(scheme), name.trim()),
            None if part.contains('=') => (None, before.trim()),
            None => (Some(part), ""),
        };
        if let Some(scheme) = scheme.filter(|scheme| !scheme.is_empty()) {
            found.push(Challenge { scheme: scheme.to_ascii_lowercase(), fields: BTreeMap::new() });
        }
        if let (Some(last), false) = (found.last_mut(), name.is_empty()) {
            last.fields.insert(name.to_ascii_lowercase(), unquoted(value));
        }
        if found.len() > MOST_CHALLENGES {
            found.truncate(MOST_CHALLENGES);
            break;
        }
    }
    found
}

/// More are not looked at.
const MOST_CHALLENGES: usize = 16;

/// Splits at commas outside of quotes.
fn quoted_split(text: &str) -> Vec<&str> {
    let (mut quoted, mut escaped) = (false, false);
    let split = text.split(|c| {
        let is_escaped = escaped;
        escaped = quoted && c == '\\' && !is_escaped;
        quoted ^= c == '"' && !is_escaped;
        c == ',' && !quoted
    });
    split.collect()
}

/// `"a \" b"` as `a " b` (RFC 9110, 5.6.4).
fn unquoted(value: &str) -> String {
    let value = value.trim();
    let Some(inner) = value.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) else {
        return value.to_owned();
    };
    let mut out = String::with_capacity(inner.len());
    let mut chars = inner.chars();
    while let Some(c) = chars.next() {
        out.extend(if c == '\\' { chars.next() } else { Some(c) });
    }
    out
}

fn quoted(value: &str) -> String {
    format!("\"{}\"", value.replace('\\', "\\\\").replace('"', "\\\""))
}

/// A server's Digest challenge (RFC 7616, 3.3), and how often it was answered.
#[derive(Debug, Clone)]
pub(crate) struct DigestChallenge {
    realm: String,
    nonce: String,
    opaque: Option<String>,
    qop: bool,
    sha256: bool,
    count: u32,
    /// Only the nonce was too old: user and password were right.
    pub(crate) is_stale: bool,
}

impl DigestChallenge {
    /// `None` where it is no Digest challenge this program can answer.
    fn of(challenge: &Challenge) -> Option<Self> {
        let fields = Some(&challenge.fields).filter(|_| challenge.scheme == "digest")?;
        let algorithm = fields.get("algorithm").map_or("md5", String::as_str).to_ascii_lowercase();
        if algorithm != "md5" && algorithm != "sha-256" {
            return None;
        }
        let qop = fields.get("qop").map(|q| q.split(',').any(|one| one.trim().eq_ignore_ascii_case("auth")));
        // Where only the integrity of bodies is offered (`auth-int`), nothing can be answered.
        (qop != Some(false)).then_some(())?;
        Some(Self {
            realm: fields.get("realm").cloned().unwrap_or_default(),
            nonce: fields.get("nonce")?.clone(),
            opaque: fields.get("opaque").cloned(),
            qop: qop.is_some(),
            sha256: algorithm == "sha-256",
            count: 0,
            is_stale: fields.get("stale").is_some_and(|stale| stale.eq_ignore_ascii_case("true")),
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
            "Digest username={}, realm={}, nonce={}, uri=\"{target}\", response=\"{response}\", algorithm={}",
            quoted(&who.user),
            quoted(&self.realm),
            quoted(&self.nonce),
            if self.sha256 { "SHA-256" } else { "MD5" },
        );
        if self.qop {
            write!(header, ", qop=auth, nc={nc}, cnonce=\"{cnonce}\"")
                .expect("writing to a string cannot fail");
        }
        if let Some(opaque) = &self.opaque {
            write!(header, ", opaque={}", quoted(opaque)).expect("writing to a string cannot fail");
        }
        header
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_best_of_several_challenges_is_answered() {
        let header = r#"Negotiate, Basic realm="Packhouse, \"old\" hall", Digest realm="a", nonce="n1", qop="auth-int, auth", algorithm=MD5, digest REALM="b\\c", nonce="n2", algorithm=SHA-256, qop=auth, opaque="o", stale=TRUE, Bearer"#;
        let offered = challenges(header);
        let schemes: Vec<_> = offered.iter().map(|one| one.scheme.as_str()).collect();
        assert_eq!(schemes, ["negotiate", "basic", "digest", "digest", "bearer"]);
        assert_eq!(offered[1].fields["realm"], "Packhouse, \"old\" hall");
        let Some(PasswordChallenge::Digest(mut digest)) = PasswordChallenge::best(&offered) else {
            panic!("{offered:?}")
        };
        assert!(digest.sha256 && digest.is_stale && digest.qop);
        assert_eq!(digest.realm, "b\\c");
        let who = Credentials { user: "off\"ice\\".to_owned(), password: "word".to_owned().into() };
        let (first, second) = (digest.answer(&who, "GET", "/", "c"), digest.answer(&who, "GET", "/", "c"));
        assert!(first.contains(r#"username="off\"ice\\""#) && first.contains("nc=00000001"), "{first}");
        assert!(second.contains("nc=00000002"));
        // Worked out by hand, after RFC 7616, 3.4.
        let known = r#"Digest realm="http-auth@example.org", qop="auth, auth-int", algorithm=SHA-256, nonce="7ypf/xlj9XXwfDPEoM4URrv/xwf94BcCAzFZH4GiTo0v", opaque="FQhe/qaU925kfnzjCev0ciny7QMkPqMAFRtzCUYo5tdS""#;
        let Some(PasswordChallenge::Digest(mut digest)) = PasswordChallenge::best(&challenges(known)) else {
            panic!()
        };
        let who = Credentials { user: "Mufasa".to_owned(), password: "Circle of Life".to_owned().into() };
        let cnonce = "f2/wE4q74E6zIJEtWaHKaf5wv/H5QzzpQusqGemxURZJ";
        let answer = digest.answer(&who, "GET", "/dir/index.html", cnonce);
        assert!(
            answer.contains("be6628b7c3061cd56ff0ef25f4001ce353646452ee5dd4aa190f669e504541a1"),
            "{answer}"
        );
        // Nothing that can be answered.
        for none in [
            "Bearer",
            "Digest realm=\"x\"",
            "Digest nonce=\"x\", qop=auth-int",
            "",
            ",,,",
            "=\"",
            "Digest nonce=x, algorithm=SHA-512",
        ] {
            assert!(PasswordChallenge::best(&challenges(none)).is_none(), "{none}");
        }
        assert!(matches!(PasswordChallenge::best(&challenges("basic")), Some(PasswordChallenge::Basic)));
    }
}
