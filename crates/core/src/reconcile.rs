//! The decision: what a one-way route must do so that the far side says what the source says.
//!
//! Pure: the same for preview, sync and the simulation tests. A [`Pair`] is what is known of one entry on both
//! sides; [`reconcile`] turns it into a [`Decision`].

use std::borrow::Cow;

use jiff::Timestamp;

use crate::canonical::Fingerprint;
use crate::carry::{Carry, Identity, Shows, Sight, Unshown, View};
use crate::choose::{Choice, ChoiceKey};
use crate::entry::{Entry, Kind, Kinds};
use crate::habits::{Habits, undo_habits};
use crate::ids::EventUid;
use crate::matching::RouteKey;
use crate::merge::follow;
use crate::window::Bounds;

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
    Correct,
    /// They are left until the source changes.
    Leave,
}

/// What becomes of entries on the far side that are nobody's copies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Strangers {
    /// They stay.
    #[default]
    Leave,
    /// They are deleted: the far side is to hold copies alone.
    Remove,
}

/// What becomes of entries that stood on the far side before, and are the same as an entry of the source.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Matches {
    /// They follow the source in what is carried, keep all else, and are never deleted.
    #[default]
    Follow,
    /// They become copies.
    Own,
}

/// What an entry is to the route in whose calendar it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, PartialOrd, Ord)]
pub enum Origin {
    /// Somebody's own entry, in a calendar that gives.
    #[default]
    Original,
    /// The route wrote it.
    Copy,
    /// It stood there before, and is the same as a source.
    Match,
}

/// What becomes of copies that have fallen behind the window.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PastCopies {
    /// They stay.
    #[default]
    Keep,
    /// They are tidied away.
    Remove,
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
    /// How far back and ahead it looks; what was carried once keeps following its source.
    pub window: Bounds,
    /// What becomes of copies that have fallen behind the window.
    pub past_copies: PastCopies,
    /// What a copy shows.
    pub carry: Carry,
    /// Whether copies that other routes made are taken like originals.
    pub relay: bool,
    /// What deletions do.
    pub deletions: Deletions,
    /// What edits on the far side do.
    pub far_edits: FarEdits,
    /// Makes the UIDs of copies.
    pub key: RouteKey,
}

impl RoutePolicy {
    /// What of an entry is taken; all of it where none of it is.
    #[must_use]
    pub fn taken_of<'e>(&self, source: &'e Entry) -> Cow<'e, Entry> {
        self.choice.rest(source).unwrap_or(Cow::Borrowed(source))
    }

    /// A route that says nothing but its key: all events, as they are, to a calendar that takes everything.
    #[must_use]
    pub fn plain(key: RouteKey) -> Self {
        Self {
            kinds: [Kind::Event].into_iter().collect(),
            choice: Choice::default(),
            accepted: Kinds::all(),
            max_size: None,
            window: Bounds::unlimited(),
            past_copies: PastCopies::Keep,
            carry: Carry::default(),
            relay: false,
            deletions: Deletions::Carry,
            far_edits: FarEdits::Correct,
            key,
        }
    }
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
    /// This is what stands there.
    Present(&'e Entry),
    /// Nothing stands there, and the calendar was read completely.
    Gone,
    /// What stands there is no entry, and will be none until it changes.
    Unreadable,
    /// It is not known what stands there: nothing follows from it.
    Unknown,
}

/// One entry, as far as it is known on both sides.
#[derive(Debug, Clone, Copy)]
pub struct Pair<'e> {
    /// What was agreed before.
    pub link: Option<LinkFacts>,
    /// The source's text that was agreed on.
    pub agreed: Option<&'e Entry>,
    /// The source.
    pub source: Side<'e>,
    /// The far side; for a pair without link, an entry there that matches.
    pub target: Side<'e>,
    /// What the entry on the far side is to the route.
    pub origin: Origin,
    /// The route carried other details when it wrote the copy: what it no longer carries must not stay there.
    pub carry_changed: bool,
    /// The copy of another source has the UID that a copy of this one would get: a copy that went on to an entry that says
    /// the same, before its first source came back.
    pub copy_uid_is_taken: bool,
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
    /// Only busy time is carried, and it takes none: it is free, declined, called off, or no event.
    TakesNoTime,
    /// When it is cannot be understood, and that decides.
    TimeNotUnderstood,
    /// None of its occurrences is in the window (`window`).
    OutsideWindow,
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
    /// The far server would write to people because of it, and a person said that it stays as it is there.
    WouldMail,
    /// A person took back what a run had done to it: it stays so until its source changes.
    Undone,
    /// A copy of a time of which its source tells nothing any more, or not yet: free-busy time has ends.
    OutsideEnds,
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
            Self::TakesNoTime => "takes-no-time",
            Self::TimeNotUnderstood => "time-not-understood",
            Self::OutsideWindow => "outside-window",
            Self::TooLarge => "too-large",
            Self::Refused => "refused",
            Self::Unreadable => "unreadable",
            Self::NoUid => "no-uid",
            Self::SameUid => "same-uid-twice",
            Self::WouldMail => "would-mail",
            Self::Undone => "undone",
            Self::OutsideEnds => "outside-ends",
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

/// Why a copy is deleted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Because {
    /// Its source is gone.
    Gone,
    /// The route no longer takes its source.
    NotTaken(LeftOut),
    /// It is nobody's copy, and the route removes such entries.
    Stranger,
    /// It has fallen behind the window, and the route tidies such copies away.
    Past,
}

/// What a write does not bring along, because the far side would not have it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, PartialOrd, Ord)]
pub struct Partly {
    /// The people it names: the far server might write to them.
    pub without_people: bool,
    /// The attachments that stand in it: with them it is larger than the far server allows.
    pub without_attachments: bool,
    /// It names a zone that is described nowhere: clients may show it at another time.
    pub in_unknown_zone: bool,
}

impl Partly {
    /// What can be said of what is written, whoever receives it.
    #[must_use]
    pub fn of(written: &Entry) -> Self {
        Self { in_unknown_zone: written.names_unknown_zone(), ..Self::default() }
    }

    /// What at least one of two lacks.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self {
            without_people: self.without_people || other.without_people,
            without_attachments: self.without_attachments || other.without_attachments,
            in_unknown_zone: self.in_unknown_zone || other.in_unknown_zone,
        }
    }
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
        /// What the far side sees of it.
        sight: Sight,
        /// What it does not bring along.
        partly: Partly,
    },
    /// Delete the copy.
    Delete(Because),
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
    /// Both are gone: forget the link.
    Forget,
    /// It may stay without its source, and is nobody's from now on.
    Release,
    /// Its owner has deleted what stood there before the route: it is left alone.
    LetGo,
    /// A side is not known: nothing follows until it is.
    Wait,
    /// Not carried, and why.
    LeaveOut(LeftOut),
}

/// How much a run may delete unasked.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct DeletionLimit {
    /// So many entries always.
    pub entries: usize,
    /// So many of a hundred linked entries.
    pub percent: usize,
}

impl Default for DeletionLimit {
    fn default() -> Self {
        Self { entries: 10, percent: 20 }
    }
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
    // What stands on the far side and is the route's own was carried once, also where the state was lost.
    // An entry of somebody's own that is only about to become a copy was not.
    let was_carried = match pair.target {
        Side::Gone => false,
        Side::Present(far) => pair.origin == Origin::Copy && far.uid().is_copy(),
        Side::Unreadable | Side::Unknown => pair.origin == Origin::Copy,
    };
    let linked = pair.link.is_some() || was_carried;
    let source = match (pair.source, pair.target) {
        (Side::Unreadable, _) => return Decision::LeaveOut(LeftOut::Unreadable),
        (Side::Unknown, _) if linked => return Decision::Wait,
        (Side::Unknown, _) => return Decision::LeaveOut(LeftOut::Unreadable),
        (Side::Gone, _) => return decide_gone(policy, pair, linked, Because::Gone),
        (Side::Present(_), Side::Unknown) => return Decision::Wait,
        (Side::Present(source), _) => source,
    };
    let stands = linked && !matches!(pair.target, Side::Gone);
    let shown = match refusal(policy, source, linked) {
        // The copy of an entry that is no longer taken is an entry that the source does not have.
        Some(reason @ LeftOut::TimeNotUnderstood) if stands => return Decision::LeaveOut(reason),
        Some(reason) if stands => return decide_gone(policy, pair, linked, Because::NotTaken(reason)),
        Some(reason) => return Decision::LeaveOut(reason),
        None => policy.carry.show(source),
    };
    let is_past = || policy.window.is_behind(&policy.taken_of(source)).unwrap_or(false);
    if linked && policy.past_copies == PastCopies::Remove && is_past() {
        return match (stands, pair.origin) {
            (true, Origin::Match) => Decision::Release,
            (true, _) => Decision::Act(Action::Delete(Because::Past)),
            (false, _) => Decision::LeaveOut(LeftOut::OutsideWindow),
        };
    }
    match shown {
        Ok(shown) => decide_present(policy, pair, source, shown, now),
        Err(unshown) => Decision::LeaveOut(unshown_reason(&unshown)),
    }
}

fn decide_gone(policy: &RoutePolicy, pair: &Pair<'_>, linked: bool, because: Because) -> Decision {
    match (pair.origin, pair.target, policy.deletions) {
        _ if !linked => Decision::Nothing,
        (_, Side::Gone, _) => Decision::Forget,
        (_, Side::Unknown, _) => Decision::Wait,
        (Origin::Match, ..) | (_, _, Deletions::Keep) => Decision::Release,
        (_, _, Deletions::Carry) => Decision::Act(Action::Delete(because)),
    }
}

pub(crate) fn unshown_reason(unshown: &Unshown) -> LeftOut {
    match unshown {
        Unshown::TakesNoTime => LeftOut::TakesNoTime,
        Unshown::NotUnderstood => LeftOut::TimeNotUnderstood,
    }
}

/// Why a route does not take an entry, whatever the far side says; `None` where it does. What is `linked` was
/// carried, and follows its source also out of the window.
#[must_use]
pub fn refusal(policy: &RoutePolicy, source: &Entry, linked: bool) -> Option<LeftOut> {
    let kind = source.kind();
    if source.uid().is_copy() && !policy.relay {
        return Some(LeftOut::Copy);
    }
    if !policy.kinds.contains(kind) {
        return Some(LeftOut::Kind(kind));
    }
    if !policy.accepted.contains(kind) {
        return Some(LeftOut::NotAccepted(kind));
    }
    let refused = policy.choice.refusal(source).map(LeftOut::NotChosen);
    let unshown = || match policy.carry.shows {
        Shows::Busy(_) => policy.carry.show(source).err().map(|unshown| unshown_reason(&unshown)),
        Shows::Everything | Shows::Details(_) => None,
    };
    let outside = || match policy.window.holds(&policy.taken_of(source)) {
        Ok(true) => None,
        Ok(false) => Some(LeftOut::OutsideWindow),
        Err(_) => Some(LeftOut::TimeNotUnderstood),
    };
    refused.or_else(unshown).or_else(|| if linked { None } else { outside() })
}

fn decide_present(
    policy: &RoutePolicy,
    pair: &Pair<'_>,
    source: &Entry,
    mut shown: View,
    now: Timestamp,
) -> Decision {
    let of = match pair.copy_uid_is_taken {
        true => &EventUid::from(format!("{} again", source.uid())),
        false => source.uid(),
    };
    let copy = Identity::New(policy.key.copy_uid(of));
    let mut partly =
        Partly { without_people: policy.carry.leaves_out_people(source), ..Partly::of(shown.entry()) };
    let too_large = |text: &str| policy.max_size.is_some_and(|max| text.len() as u64 > max);
    // An attachment that the far server has no room for is no reason to leave its entry behind.
    if policy.max_size.is_some()
        && let Some(smaller) = policy.carry.without_attachments(&shown)
        && too_large(&policy.carry.put(&shown, &copy).caldav_text(now))
    {
        shown = smaller;
        partly.without_attachments = true;
    }
    let view = shown.fingerprint();
    let source_changed = pair.link.is_none_or(|link| link.view != view);
    if pair.link.is_some_and(|link| link.refused == Some(view)) {
        return Decision::LeaveOut(LeftOut::Refused);
    }
    let write = |kind, entry: Entry| {
        let text = entry.caldav_text(now);
        if too_large(&text) {
            return Decision::LeaveOut(LeftOut::TooLarge);
        }
        Decision::Act(Action::Write { kind, entry, text, view, sight: shown.sight(), partly })
    };
    let put = |identity: &Identity<'_>| policy.carry.put(&shown, identity);
    match (pair.target, pair.origin) {
        (Side::Gone, Origin::Match) if pair.link.is_some() => Decision::LetGo,
        (Side::Gone, _) if pair.link.is_some() && !source_changed && policy.far_edits == FarEdits::Leave => {
            Decision::Nothing
        }
        (Side::Gone, _) => write(WriteKind::Create, put(&copy)),
        (Side::Present(existing), Origin::Match) => {
            let far = shown.sight().of_far_side(existing).fingerprint();
            let before = pair.agreed.and_then(|agreed| policy.carry.show(agreed).ok());
            let wanted = follow(existing, before.as_ref().map(View::entry), shown.entry());
            match (wanted.meaning() == existing.meaning(), source_changed || pair.carry_changed) {
                (true, _) => Decision::Agree { view, far },
                // What its owner makes of it is their own business.
                (false, false) => Decision::Nothing,
                (false, true) => write(WriteKind::Update, wanted),
            }
        }
        // Nothing but what is shown now may stay in a copy that other details were written to, or of which nobody
        // knows any more what was written.
        (Side::Present(existing), Origin::Copy) if pair.carry_changed || pair.link.is_none() => {
            let whole = put(&Identity::New(existing.uid().clone()));
            // What is missing may have been added at the source since.
            let habits = Habits { may_cut: false, ..Habits::default() };
            let is_alike = whole.meaning() == existing.meaning()
                || pair.link.is_none() && !undo_habits(&whole, existing, &habits).is_edited;
            match is_alike {
                true => Decision::Agree { view, far: shown.sight().of_far_side(existing).fingerprint() },
                false => write(WriteKind::Update, whole),
            }
        }
        (Side::Present(existing), _) => {
            let seen = shown.sight().of_far_side(existing).fingerprint();
            if seen == view {
                return Decision::Agree { view, far: seen };
            }
            let edited = pair.link.is_none_or(|link| link.far != Some(seen));
            if source_changed || (edited && policy.far_edits == FarEdits::Correct) {
                return write(WriteKind::Update, put(&Identity::Existing(existing)));
            }
            Decision::Nothing
        }
        // Nobody can tell what stands there: only a changed source is a reason to write.
        (Side::Unreadable, _) if source_changed => write(WriteKind::Update, put(&copy)),
        (Side::Unreadable | Side::Unknown, _) => Decision::Nothing,
    }
}

/// Holds the deletions of a run that would delete suspiciously much: more than both limits say, or all linked entries
/// where there are at least three. `expected` deletions, such as those of copies
/// that have fallen behind the window, count only where nothing else would be left.
#[must_use]
pub fn guard_deletions(
    limit: DeletionLimit,
    deletions: usize,
    expected: usize,
    linked: usize,
) -> Option<Held> {
    let many = deletions > limit.entries && deletions * 100 > linked * limit.percent;
    let all = linked >= 3 && deletions + expected >= linked;
    (many || all).then_some(Held { deletions: deletions + expected, of: linked })
}
