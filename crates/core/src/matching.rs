//! Finding again what belongs together: UIDs of copies, and matching by content.

use hmac::{Hmac, KeyInit, Mac};
use sha2::{Digest, Sha256};

use crate::canonical::{main_fields, named_fields};
use crate::entry::Entry;
use crate::hex::hex;
use crate::ids::{EventUid, ObjectHref};

const COPY_PREFIX: &str = "chestnut-";
/// In front of the UIDs of test entries, and of what is made of them.
const PROBE_PREFIX: &str = "chestnut-probe-";
/// Behind the UIDs of their copies.
const PROBE_COPY: char = 'c';
/// Begins no UID: it tells twins from copies.
const TWIN: char = '\0';
/// What tells the route, and then the entry.
const TAG_DIGITS: usize = 8;
const ENTRY_DIGITS: usize = 32;

/// The secret of an installation together with the name of a route: makes the UIDs of its copies.
///
/// The same source UID always gives the same copy UID, so a lost state is found again; without the secret
/// nobody can tell from a copy which entry it came from.
#[derive(Clone)]
pub struct RouteKey {
    mac: Hmac<Sha256>,
    tag: RouteTag,
}

/// What the UIDs of one route's copies have in common: it tells whose they are when the state is lost.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RouteTag(String);

impl std::fmt::Debug for RouteKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("RouteKey(secret)")
    }
}

impl RouteKey {
    /// Combines the secret of the installation with a route's name.
    #[must_use]
    pub fn new(secret: &[u8], route: &str) -> Self {
        let mut mac = Hmac::<Sha256>::new_from_slice(secret).expect("HMAC takes keys of any length");
        mac.update(route.as_bytes());
        let digest = mac.clone().finalize().into_bytes();
        mac.update(b"\0");
        Self { mac, tag: RouteTag(hex(&digest[..TAG_DIGITS / 2])) }
    }

    /// Returns what the UIDs of this route's copies have in common.
    #[must_use]
    pub fn tag(&self) -> &RouteTag {
        &self.tag
    }

    /// Returns the UID that this route's copy of an entry has. The copy of a test entry bears its mark.
    #[must_use]
    pub fn copy_uid(&self, source: &EventUid) -> EventUid {
        self.made_uid(source, source.as_str())
    }

    /// Returns the UID that an entry has in a calendar that is kept alike with others, and whose server refuses its own
    /// one. Not that of a copy: what stands there has a word of its own.
    #[must_use]
    pub fn twin_uid(&self, entry: &EventUid) -> EventUid {
        self.made_uid(entry, &format!("{TWIN}{entry}"))
    }

    /// Returns all UIDs under which this route may have written an entry, beside its own.
    #[must_use]
    pub fn uids_of(&self, entry: &EventUid) -> [EventUid; 2] {
        [self.copy_uid(entry), self.twin_uid(entry)]
    }

    fn made_uid(&self, entry: &EventUid, told_by: &str) -> EventUid {
        let digits = self.digits(told_by);
        match entry.is_probe() {
            true => EventUid::from(format!("{PROBE_PREFIX}{digits}{PROBE_COPY}")),
            false => EventUid::from(format!("{COPY_PREFIX}{digits}")),
        }
    }

    /// Tells whether a UID is that of a copy of this route.
    #[must_use]
    pub fn is_of_copy(&self, uid: &EventUid) -> bool {
        uid.route_tag().as_ref() == Some(&self.tag)
    }

    /// Returns what the UIDs of all of this route's copies begin with, but for those of test entries.
    #[must_use]
    pub fn copy_mark(&self) -> String {
        format!("{COPY_PREFIX}{}", self.tag.0)
    }

    /// Returns the UID of one of this route's test entries.
    #[must_use]
    pub fn probe_uid(&self, number: u8) -> EventUid {
        EventUid::from(format!("{PROBE_PREFIX}{}", self.digits(&format!("probe {number}"))))
    }

    /// Returns what the UIDs of all test entries of this route, and of their copies, begin with.
    #[must_use]
    pub fn probe_mark(&self) -> String {
        format!("{PROBE_PREFIX}{}", self.tag.0)
    }

    /// The route's tag, and what tells one entry from the others.
    fn digits(&self, entry: &str) -> String {
        let mut mac = self.mac.clone();
        mac.update(entry.as_bytes());
        let digest = mac.finalize().into_bytes();
        format!("{}{}", self.tag.0, hex(&digest[..ENTRY_DIGITS / 2]))
    }
}

impl EventUid {
    /// Tells whether a UID has the form that Chestnut gives to copies, whatever the route.
    #[must_use]
    pub fn is_copy(&self) -> bool {
        self.route_tag().is_some()
    }

    /// Returns which route's copy it is the UID of; `None` where it has not the form that copies have.
    #[must_use]
    pub fn route_tag(&self) -> Option<RouteTag> {
        let marked = self.as_str().strip_prefix(PROBE_PREFIX).map(|rest| rest.strip_suffix(PROBE_COPY));
        let digits = match marked {
            Some(copy) => copy?,
            None => self.as_str().strip_prefix(COPY_PREFIX)?,
        };
        let is_form = digits.len() == TAG_DIGITS + ENTRY_DIGITS
            && digits.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f'));
        is_form.then(|| RouteTag(digits[..TAG_DIGITS].to_owned()))
    }

    /// Tells whether it is a test entry, or a copy of one.
    #[must_use]
    pub fn is_probe(&self) -> bool {
        self.as_str().starts_with(PROBE_PREFIX)
    }

    /// Tells whether it is a test entry of another route, or a copy of one: nobody else's business.
    #[must_use]
    pub fn is_probe_of_another(&self, key: &RouteKey) -> bool {
        self.is_probe() && !self.as_str().starts_with(&key.probe_mark())
    }

    /// Returns a file name for a new entry: the UID where it has only [A-Za-z0-9-_.], else a hash of it.
    ///
    /// Servers lose, refuse or confuse names with other characters, a leading dot, or great length.
    #[must_use]
    pub fn file_name(&self) -> ObjectHref {
        let plain = |b: u8| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.');
        let safe =
            self.as_str().bytes().all(plain) && self.as_str().len() <= 80 && !self.as_str().starts_with('.');
        if safe && !self.as_str().is_empty() {
            return ObjectHref::from(format!("{self}.ics"));
        }
        ObjectHref::from(format!("{}.ics", hex(&Sha256::digest(self.as_str())[..20])))
    }
}

/// What two entries share that are the same to a person: title, start, end and recurrence.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ContentKey(pub [u8; 16]);

impl ContentKey {
    /// Hashes title, start, end, rule and kind of an entry.
    #[must_use]
    pub fn of(entry: &Entry) -> Self {
        let mut hash = Sha256::new();
        hash.update(entry.kind().component_name());
        for field in main_fields(entry, &["SUMMARY", "DTSTART", "RRULE", "RDATE"]) {
            hash.update(b"\0");
            hash.update(field);
        }
        Self::from_hash(hash)
    }

    /// The same of every occurrence that has a text of its own, and of what is left out of a series: entries with the
    /// same key take place at the same times, under the same titles.
    #[must_use]
    pub fn of_whole(entry: &Entry) -> Self {
        const NAMES: [&str; 7] =
            ["SUMMARY", "DTSTART", "RRULE", "RDATE", "EXRULE", "EXDATE", "RECURRENCE-ID"];
        let mut hash = Sha256::new();
        hash.update(entry.kind().component_name());
        let mut components: Vec<_> = entry.components().map(|one| named_fields(one, &NAMES)).collect();
        components.sort();
        for component in components {
            hash.update(b"\x01");
            for field in component {
                hash.update(b"\0");
                hash.update(field);
            }
        }
        Self::from_hash(hash)
    }

    fn from_hash(hash: Sha256) -> Self {
        let mut short = [0; 16];
        short.copy_from_slice(&hash.finalize()[..16]);
        Self(short)
    }
}
