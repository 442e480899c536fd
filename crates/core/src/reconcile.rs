//! The decision: what a one-way route must do so that the far side says what the source says.
//!
//! Pure: the same for preview, sync and the simulation tests. A [`Pair`] is what is known of one entry on both
//! sides; [`reconcile`] turns it into a [`Decision`].

use jiff::Timestamp;

use crate::canonical::Fingerprint;
use crate::carry::{Carry, Identity};
use crate::choose::{Choice, ChoiceKey};
use crate::entry::{Entry, Kind, Kinds};
use crate::matching::RouteKey;

/// What happens on the far side when an entry is deleted at the source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Deletions {
    /// The copy is deleted too.
    #[default]
    Carry,
    /// The copy stays.
    Keep,
}

/// What happens to copies that somebody changed or deleted on the far side.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum FarEdits {
    /// They are put right again.
    #[default]
    Restore,
    /// They are left until the source changes.
    Leave,
}

/// What a route says, as far as it decides about entries.
#[derive(Debug, Clone)]
pub struct RoutePolicy {
    /// The kinds of entries it takes.
    pub kinds: Kinds,
    /// Which entries of these kinds it takes.
    pub choice: Choice,
    /// The kinds the far calendar accepts (RFC 4791, 5.2.3).
    pub accepted: Kinds,
    /// The largest entry the far calendar accepts, in bytes (RFC 4791, 5.2.5).
    pub max_size: Option<u64>,
    /// What a copy shows.
    pub carry: Carry,
    /// What deletions do.
    pub deletions: Deletions,
    /// What edits on the far side do.
    pub far_edits: FarEdits,
    /// Makes the UIDs of copies.
    pub key: RouteKey,
}

/// What is remembered of a pair that was linked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LinkFacts {
    /// The view that was last written, or found alike.
    pub view: Fingerprint,
    /// What the far side made of it, as read back; `None` where it could not be read.
    pub far: Option<Fingerprint>,
    /// A view that the far side refused for good.
    pub refused: Option<Fingerprint>,
}

/// What one calendar holds of a pair.
#[derive(Debug, Clone, Copy)]
pub enum Side<'e> {
    /// As it was when it was linked.
    Unchanged,
    /// It was read: this is what stands there now.
    Present(&'e Entry),
    /// Nothing stands there, and the calendar was read completely.
    Gone,
    /// Something stands there that cannot be read.
    Unreadable,
}

/// One entry, as far as it is known on both sides.
#[derive(Debug, Clone, Copy)]
pub struct Pair<'e> {
    /// What was agreed before.
    pub link: Option<LinkFacts>,
    /// The source.
    pub source: Side<'e>,
    /// The far side; for a pair without link, an entry there that matches.
    pub target: Side<'e>,
}

/// Why an entry of the source is not carried. Every run counts these, and names the entries on request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum LeftOut {
    /// The route does not take this kind (`only = { kinds = … }`).
    Kind(Kind),
    /// The far calendar does not accept this kind.
    NotAccepted(Kind),
    /// The route does not take it (`only`, `skip`).
    NotChosen(ChoiceKey),
    /// It is a copy that a route wrote.
    Copy,
    /// It is larger than the far server allows.
    TooLarge,
    /// The far server refused this text for good.
    Refused,
    /// It cannot be read.
    Unreadable,
    /// It has no UID.
    NoUid,
    /// Another entry of the same calendar has its UID.
    SameUid,
}

impl LeftOut {
    /// Returns the stable key used in reports and in the state.
    #[must_use]
    pub fn key(self) -> &'static str {
        match self {
            Self::Kind(Kind::Event) => "events-not-taken",
            Self::Kind(Kind::Task) => "tasks-not-taken",
            Self::Kind(Kind::Journal) => "journals-not-taken",
            Self::NotAccepted(_) => "kind-not-accepted",
            Self::NotChosen(key) => key.name(),
            Self::Copy => "copy-of-another-route",
            Self::TooLarge => "too-large",
            Self::Refused => "refused",
            Self::Unreadable => "unreadable",
            Self::NoUid => "no-uid",
            Self::SameUid => "same-uid-twice",
        }
    }
}

/// Whether a write makes a new entry or replaces one.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum WriteKind {
    /// Nothing may stand there yet.
    Create,
    /// What stands there is replaced.
    Update,
}

/// Something to be done on the far side.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Action {
    /// Write this entry.
    Write {
        /// New, or in the place of another.
        kind: WriteKind,
        /// The entry as it is to stand there.
        entry: Entry,
        /// The text to send.
        text: String,
        /// What it means.
        view: Fingerprint,
    },
    /// Delete the copy.
    Delete,
}

/// What [`reconcile`] decided about one pair.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Decision {
    /// In step.
    Nothing,
    /// In step, and now known to be: remember the view and what stands there.
    Agree {
        /// The view.
        view: Fingerprint,
        /// What stands on the far side.
        far: Fingerprint,
    },
    /// Something to write or delete.
    Act(Action),
    /// Both are gone, or the copy may stay without its source: forget the link.
    Forget,
    /// Not carried, and why.
    LeaveOut(LeftOut),
}

/// Why a deletion waits for a person.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Held {
    /// How many deletions.
    pub deletions: usize,
    /// Of how many linked entries.
    pub of: usize,
}

/// Decides what a one-way route must do about one entry. `now` stamps what is written and lacks a DTSTAMP.
#[must_use]
pub fn reconcile(policy: &RoutePolicy, pair: &Pair<'_>, now: Timestamp) -> Decision {
    match (&pair.source, pair.link) {
        (Side::Unreadable, _) => Decision::LeaveOut(LeftOut::Unreadable),
        (Side::Gone, _) => decide_gone(policy, pair),
        (Side::Unchanged, _) => Decision::Nothing,
        (Side::Present(source), link) => match refusal(policy, source) {
            // The copy of an entry that is no longer taken is an entry that the source does not have.
            Some(_) if link.is_some() && !matches!(pair.target, Side::Gone) => decide_gone(policy, pair),
            Some(reason) => Decision::LeaveOut(reason),
            None => decide_present(policy, pair, source, now),
        },
    }
}

fn decide_gone(policy: &RoutePolicy, pair: &Pair<'_>) -> Decision {
    match (pair.link, pair.target, policy.deletions) {
        (None, ..) => Decision::Nothing,
        (Some(_), Side::Gone, _) | (Some(_), _, Deletions::Keep) => Decision::Forget,
        (Some(_), _, Deletions::Carry) => Decision::Act(Action::Delete),
    }
}

/// Why a route does not take an entry, whatever the far side says; `None` where it does.
#[must_use]
pub fn refusal(policy: &RoutePolicy, source: &Entry) -> Option<LeftOut> {
    let kind = source.kind();
    if source.uid().is_copy() {
        Some(LeftOut::Copy)
    } else if !policy.kinds.contains(kind) {
        Some(LeftOut::Kind(kind))
    } else if !policy.accepted.contains(kind) {
        Some(LeftOut::NotAccepted(kind))
    } else {
        policy.choice.refusal(source).map(LeftOut::NotChosen)
    }
}

fn decide_present(policy: &RoutePolicy, pair: &Pair<'_>, source: &Entry, now: Timestamp) -> Decision {
    let shown = policy.carry.show(source);
    let view = shown.fingerprint();
    let source_changed = pair.link.is_none_or(|link| link.view != view);
    if pair.link.is_some_and(|link| link.refused == Some(view)) {
        return Decision::LeaveOut(LeftOut::Refused);
    }
    let write = |kind, identity: &Identity<'_>| {
        let entry = policy.carry.put(&shown, identity);
        let text = entry.caldav_text(now);
        if policy.max_size.is_some_and(|max| text.len() as u64 > max) {
            return Decision::LeaveOut(LeftOut::TooLarge);
        }
        Decision::Act(Action::Write { kind, entry, text, view })
    };
    match pair.target {
        Side::Gone if pair.link.is_some() && !source_changed && policy.far_edits == FarEdits::Leave => {
            Decision::Nothing
        }
        Side::Gone => write(WriteKind::Create, &Identity::New(policy.key.copy_uid(source.uid()))),
        Side::Present(existing) => {
            let seen = shown.same_rule(existing).fingerprint();
            if seen == view {
                return Decision::Agree { view, far: seen };
            }
            let as_we_left_it = pair.link.is_some_and(|link| link.far == Some(seen));
            let edited = !as_we_left_it;
            if source_changed || (edited && policy.far_edits == FarEdits::Restore) {
                return write(WriteKind::Update, &Identity::Existing(existing));
            }
            Decision::Nothing
        }
        // What stands there is known, or cannot be read: only a changed source is a reason to write.
        Side::Unchanged | Side::Unreadable if !source_changed => Decision::Nothing,
        Side::Unchanged | Side::Unreadable => {
            write(WriteKind::Update, &Identity::New(policy.key.copy_uid(source.uid())))
        }
    }
}

/// Holds the deletions of a run that would delete suspiciously much: more than 10 and more than a fifth of the
/// linked entries, or all of them where there are at least three.
#[must_use]
pub fn guard_deletions(deletions: usize, linked: usize) -> Option<Held> {
    let many = deletions > 10 && deletions * 5 > linked;
    let all = linked >= 3 && deletions >= linked;
    (many || all).then_some(Held { deletions, of: linked })
}
