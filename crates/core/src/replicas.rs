//! The decision for calendars that are kept alike, both ways.
//!
//! Each calendar is a replica. What was agreed is remembered, and how it stood in each of them then; what a replica
//! says now is compared with that, so that what its server made of a text is no change. Changes are merged
//! ([`crate::merge()`]), and every replica is brought to what came out.

use std::collections::BTreeMap;

use jiff::Timestamp;

use crate::canonical::{Fingerprint, occurrence_key};
use crate::carry::{Carry, Identity, Scheduling, Sight, names_people};
use crate::choose::Choice;
use crate::entry::{Entry, Kinds, entry_components_mut};
use crate::habits::{Habits, undo_habits};
use crate::ical::Component;
use crate::ids::EventUid;
use crate::matching::RouteKey;
use crate::merge::{Collision, MergeSide, last_change_of, last_changed_at, merge};
use crate::reconcile::{Deletions, LeftOut, Partly, RoutePolicy, Side, WriteKind, refusal};
use crate::window::Bounds;

/// Whose word counts where several calendars changed the same thing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Disagree {
    /// The one that was changed last, as far as the entries say.
    #[default]
    Newest,
    /// Always this calendar's, by its number.
    Side(usize),
    /// A person decides.
    Hold,
}

/// What a person decided about a disagreement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Decided {
    /// This calendar's word counts.
    Side(usize),
    /// The newest word counts.
    Newest,
    /// Both stay: the other one becomes an entry of its own.
    Both,
}

/// What one calendar of a two-way route takes and shows.
#[derive(Debug, Clone)]
pub struct ReplicaRules {
    /// The kinds it accepts (RFC 4791, 5.2.3).
    pub accepted: Kinds,
    /// The largest entry it accepts, in bytes (RFC 4791, 5.2.5).
    pub max_size: Option<u64>,
    /// What its server does with people.
    pub scheduling: Scheduling,
}

/// What a two-way route says, as far as it decides about entries.
#[derive(Debug, Clone)]
pub struct ReplicaPolicy {
    /// The kinds of entries it takes.
    pub kinds: Kinds,
    /// Which entries of these kinds it takes; asked of entries that are not linked yet.
    pub choice: Choice,
    /// How far back and ahead it looks; asked of entries that are not linked yet.
    pub window: Bounds,
    /// Which details are kept alike; all others are each calendar's own.
    pub carry: Carry,
    /// Whose word counts.
    pub disagree: Disagree,
    /// Whether copies that other routes made are taken like originals.
    pub relay: bool,
    /// What deletions do.
    pub deletions: Deletions,
    /// Makes UIDs where a server refuses the entry's own.
    pub key: RouteKey,
    /// Which details were kept alike when the entry was agreed: what is new among them is merged as at a first run.
    pub covered: Sight,
    /// Its calendars.
    pub sides: Vec<ReplicaRules>,
}

/// What is known of one entry in one calendar.
#[derive(Debug, Clone, Copy)]
pub struct Replica<'e> {
    /// How it stood there when it was last in step; `None` where it did not.
    pub before: Option<&'e Entry>,
    /// What was agreed when it was last in step. What is agreed now may be newer: then it is owed a write.
    pub in_step_with: Option<&'e Entry>,
    /// What stands there now.
    pub now: Side<'e>,
    /// A view that this calendar refused for good.
    pub refused: Option<Fingerprint>,
    /// It was deleted there, and stays elsewhere.
    pub let_go: bool,
    /// Its server refuses the entry's own UID: a new entry gets one of the route's.
    pub own_uid: bool,
}

/// Something to write into one calendar.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReplicaWrite {
    /// New, or in the place of another.
    pub kind: WriteKind,
    /// The entry as it is to stand there.
    pub entry: Entry,
    /// The text to send.
    pub text: String,
    /// What of it the route keeps alike.
    pub view: Fingerprint,
}

/// One side's word that did not count.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Loser {
    /// Which side.
    pub side: usize,
    /// In which fields.
    pub fields: Vec<String>,
}

/// What all calendars are brought to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settled {
    /// What is agreed from now on.
    pub base: Entry,
    /// What is to be written, for each calendar.
    pub writes: Vec<Option<ReplicaWrite>>,
    /// Why it does not stand in a calendar.
    pub left_out: Vec<Option<LeftOut>>,
    /// It was deleted in these, and stays elsewhere.
    pub let_go: Vec<bool>,
    /// It was deleted in these, and changed elsewhere: it comes back.
    pub restored: Vec<usize>,
    /// Whose word did not count.
    pub losers: Vec<Loser>,
    /// An entry of its own, for what a person wants to keep besides: in which calendar, and what.
    pub besides: Option<(usize, Entry)>,
}

/// What [`reconcile_replicas`] decided about one entry.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReplicaDecision {
    /// Bring all calendars to this.
    Settle(Box<Settled>),
    /// Delete it from these calendars.
    Delete(Vec<usize>),
    /// It is gone everywhere.
    Forget,
    /// A person must say whose word counts.
    Hold(Vec<Collision>),
    /// Not carried, and why.
    LeaveOut(LeftOut),
    /// A side is not known: nothing follows until it is.
    Wait,
}

impl ReplicaPolicy {
    /// What of an entry is kept alike with one calendar.
    #[must_use]
    pub fn sight(&self, side: usize) -> Sight {
        let scheduling = self.sides[side].scheduling.clone();
        Carry { scheduling, ..self.carry.clone() }.sight()
    }

    /// What a write to one calendar does not bring along of what is agreed, and of what stands in the others: people
    /// neither go to a server that writes to them, nor come from there.
    #[must_use]
    pub fn partly<'e>(
        &self,
        side: usize,
        agreed: &Entry,
        others: impl IntoIterator<Item = (usize, &'e Entry)>,
        written: &Entry,
    ) -> Partly {
        let hides = |side: usize| self.sides[side].scheduling.may_write();
        let lacks = || {
            let stays =
                |(other, entry): (usize, &Entry)| (hides(side) || hides(other)) && names_people(entry);
            hides(side) && names_people(agreed) || others.into_iter().filter(|(at, _)| *at != side).any(stays)
        };
        let without_people = self.carry.wants_people() && !names_people(written) && lacks();
        Partly { without_people, ..Partly::of(written) }
    }

    /// What of an agreed entry one calendar and what is agreed have in common.
    fn agreed_sight(&self, side: usize) -> Sight {
        self.sight(side).within(self.covered)
    }

    /// Why an entry that is not linked is not taken.
    #[must_use]
    pub fn refusal(&self, entry: &Entry) -> Option<LeftOut> {
        self.refusal_of(entry, self.relay)
    }

    fn refusal_of(&self, entry: &Entry, relay: bool) -> Option<LeftOut> {
        let one_way = RoutePolicy {
            kinds: self.kinds.clone(),
            choice: self.choice.clone(),
            window: self.window.clone(),
            relay,
            ..RoutePolicy::plain(self.key.clone())
        };
        refusal(&one_way, entry, false)
    }
}

/// One side with what follows from it.
struct Known<'e> {
    before: Option<&'e Entry>,
    in_step_with: Option<&'e Entry>,
    current: Option<&'e Entry>,
    is_changed: bool,
    is_gone: bool,
    is_known: bool,
}

/// Decides what a two-way route must do about one entry. `base` is what was last agreed, `None` for entries that were
/// only matched; `decided` is a person's word. `now` stamps what is written and lacks a DTSTAMP.
#[must_use]
pub fn reconcile_replicas(
    policy: &ReplicaPolicy,
    base: Option<&Entry>,
    replicas: &[Replica<'_>],
    decided: Option<Decided>,
    now: Timestamp,
) -> ReplicaDecision {
    let known: Vec<Known<'_>> = replicas.iter().enumerate().map(|(k, r)| known(policy, k, r)).collect();
    let all_known = known.iter().all(|k| k.is_known);
    if base.is_none() && !all_known {
        return ReplicaDecision::LeaveOut(LeftOut::Unreadable);
    }
    let Some(first) = known.iter().find_map(|side| side.current) else {
        return if all_known { ReplicaDecision::Forget } else { ReplicaDecision::Wait };
    };
    if base.is_none() {
        if let Some(settled) = told_by_one(policy, &known) {
            return settled;
        }
        let refusals: Vec<_> = known.iter().filter_map(|k| k.current).map(|e| policy.refusal(e)).collect();
        if let Some(reason) = refusals.iter().flatten().next()
            && refusals.iter().all(Option::is_some)
        {
            return ReplicaDecision::LeaveOut(*reason);
        }
    }
    // What is agreed is asked of everybody; where nothing is, a copy says what its original said once, as far as it was
    // shown.
    let has_word = |k: &usize| base.is_some() || !is_copy_beside_original(policy, &known, *k);
    let changed: Vec<usize> = (0..known.len()).filter(|k| known[*k].is_changed).filter(has_word).collect();
    let gone: Vec<usize> = (0..known.len()).filter(|k| known[*k].is_gone).collect();
    if !all_known && changed.is_empty() {
        return ReplicaDecision::Wait;
    }
    // Whoever deletes what was changed elsewhere since does not know of the change: it comes back. That holds also where
    // the change was carried on to others already, and a server failed to bring it back.
    let knew = |k: &usize| {
        let print = |entry: &Entry| policy.agreed_sight(*k).of_far_side(entry).fingerprint();
        base.map(print) == known[*k].in_step_with.map(print)
    };
    if gone.iter().any(knew) && changed.is_empty() && policy.deletions == Deletions::Carry {
        return ReplicaDecision::Delete((0..known.len()).filter(|k| known[*k].current.is_some()).collect());
    }
    let (merged, losers) = match merged(policy, base, &known, &changed, decided) {
        Ok(merged) => merged,
        Err(collisions) => return ReplicaDecision::Hold(collisions),
    };
    let keeps_deletions = policy.deletions == Deletions::Keep;
    let let_go: Vec<bool> =
        replicas.iter().zip(&known).map(|(r, k)| r.let_go || (k.is_gone && keeps_deletions)).collect();
    let mut settled = Settled {
        besides: besides(policy, &known, &losers, decided),
        writes: vec![None; known.len()],
        left_out: vec![None; known.len()],
        restored: gone.into_iter().filter(|_| !keeps_deletions).collect(),
        base: merged,
        let_go,
        losers,
    };
    let uid = known.iter().filter_map(|k| k.current).map(Entry::uid).find(|uid| !uid.is_copy());
    let uid = uid.unwrap_or(first.uid()).clone();
    for (side, (replica, known)) in replicas.iter().zip(&known).enumerate() {
        if !settled.let_go[side] && known.is_known {
            match write(policy, side, replica, known, base, &settled.base, &uid, now) {
                Ok(write) => settled.writes[side] = write,
                Err(reason) => settled.left_out[side] = Some(reason),
            }
        }
    }
    ReplicaDecision::Settle(Box::new(settled))
}

fn known<'e>(policy: &ReplicaPolicy, side: usize, replica: &Replica<'e>) -> Known<'e> {
    let (sight, agreed) = (policy.sight(side), policy.agreed_sight(side));
    let print = |sight: Sight, e: &Entry| sight.of_far_side(e).fingerprint();
    let before = replica.before;
    let current = match replica.now {
        Side::Present(now) => Some(now),
        Side::Gone | Side::Unreadable | Side::Unknown => None,
    };
    let is_changed = current.is_some_and(|now| match before {
        Some(before) => print(agreed, before) != print(sight, now),
        None => true,
    });
    let is_known = !matches!(replica.now, Side::Unreadable | Side::Unknown);
    let is_gone = is_known && current.is_none() && before.is_some() && !replica.let_go;
    Known { before, in_step_with: replica.in_step_with, current, is_changed, is_gone, is_known }
}

/// What a one-way route of the same name wrote stands beside the entry that it wrote it of.
fn is_copy_beside_original(policy: &ReplicaPolicy, known: &[Known<'_>], side: usize) -> bool {
    let is_copy_of =
        |entry: &Entry| known[side].current.map(Entry::uid) == Some(&policy.key.copy_uid(entry.uid()));
    known.iter().filter_map(|k| k.current).any(is_copy_of)
}

/// Nothing was agreed, and one calendar says what another says but for what that one's server makes of texts, as after
/// a lost state: nobody changed anything.
fn told_by_one(policy: &ReplicaPolicy, known: &[Known<'_>]) -> Option<ReplicaDecision> {
    let standing: Vec<(usize, &Entry)> =
        known.iter().enumerate().filter_map(|(side, k)| Some((side, k.current?))).collect();
    // Beside the entry that it was made of, a copy is that entry.
    let is_refused = |entry: &Entry| policy.refusal_of(entry, true).is_some();
    let only_copies = !policy.relay && standing.iter().all(|(_, entry)| entry.uid().is_copy());
    if standing.len() < known.len() || only_copies || standing.iter().any(|(_, entry)| is_refused(entry)) {
        return None;
    }
    let habits = Habits { may_cut: false, ..Habits::default() };
    let says_the_same = |side: usize, told: &Entry, entry: &Entry| {
        let view = |e: &Entry| policy.sight(side).of_far_side(e);
        view(told).fingerprint() == view(entry).fingerprint()
            || !undo_habits(view(told).entry(), view(entry).entry(), &habits).is_edited
    };
    let tells = |(from, told): &&(usize, &Entry)| {
        standing.iter().all(|(side, entry)| side == from || says_the_same(*side, told, entry))
    };
    let (_, told) = standing.iter().find(tells)?;
    Some(ReplicaDecision::Settle(Box::new(Settled {
        base: (*told).clone(),
        writes: vec![None; known.len()],
        left_out: vec![None; known.len()],
        let_go: vec![false; known.len()],
        restored: Vec::new(),
        losers: Vec::new(),
        besides: None,
    })))
}

type Merge = (Entry, Vec<Loser>);

fn merged(
    policy: &ReplicaPolicy,
    base: Option<&Entry>,
    known: &[Known<'_>],
    changed: &[usize],
    decided: Option<Decided>,
) -> Result<Merge, Vec<Collision>> {
    let agreed = base.or_else(|| known.iter().find_map(|k| k.current)).expect("it stands somewhere").clone();
    let view = |sight: Sight, e: &Entry| sight.of_far_side(e).entry().clone();
    if changed.is_empty() {
        // What it said of details that were not kept alike since was each calendar's own: perhaps none says it any more.
        let says_more =
            |side: usize| view(policy.sight(side), &agreed) != view(policy.agreed_sight(side), &agreed);
        let agreed = if (0..known.len()).any(says_more) { view(policy.covered, &agreed) } else { agreed };
        return Ok((agreed, Vec::new()));
    }
    let views: Vec<_> = changed
        .iter()
        .map(|k| {
            // Where nothing is agreed, each says all of it.
            let before = base.and(known[*k].before).map(|e| view(policy.agreed_sight(*k), e));
            (before, view(policy.sight(*k), known[*k].current.expect("it is changed")))
        })
        .collect();
    // What was agreed since a calendar was last in step is a change that it does not know of.
    let missed: Vec<_> = changed
        .iter()
        .filter_map(|k| {
            let sight = policy.agreed_sight(*k);
            let (then, now) = (view(sight, known[*k].in_step_with?), view(sight, base?));
            (then.meaning() != now.meaning()).then_some((then, now))
        })
        .take(1)
        .collect();
    let missed = missed.iter().map(|(then, now)| MergeSide { before: Some(then), now });
    let sides: Vec<_> =
        views.iter().map(|(before, now)| MergeSide { before: before.as_ref(), now }).chain(missed).collect();
    let base_view = base.map(|base| view(policy.covered, base));
    let base = base_view.as_ref();
    // The last one may be what was agreed: no calendar's word.
    let side_of = |at: usize| changed.get(at).copied();
    let preferred = match (decided, policy.disagree) {
        (Some(Decided::Side(side)), _) | (None, Disagree::Side(side)) => Some(side),
        _ => None,
    };
    let by_weight = |occurrence: &str| {
        let mut order: Vec<usize> = (0..sides.len()).collect();
        order.sort_by_key(|at| {
            let newest = std::cmp::Reverse(last_changed_at(sides[*at].now, occurrence));
            let is_nobodys = side_of(*at).is_none();
            (is_nobodys || side_of(*at) != preferred, newest, is_nobodys, side_of(*at))
        });
        order
    };
    let result = merge(base, &sides, &by_weight);
    if !result.collisions.is_empty() && policy.disagree == Disagree::Hold && decided.is_none() {
        return Err(result.collisions);
    }
    let mut losers: Vec<Loser> = Vec::new();
    for collision in &result.collisions {
        for side in collision.losers.iter().filter_map(|at| side_of(*at)) {
            match losers.iter_mut().find(|loser| loser.side == side) {
                Some(loser) => loser.fields.push(collision.field.clone()),
                None => losers.push(Loser { side, fields: vec![collision.field.clone()] }),
            }
        }
    }
    Ok((result.entry, losers))
}

/// The losing text under a UID of its own, where a person wants both.
fn besides(
    policy: &ReplicaPolicy,
    known: &[Known<'_>],
    losers: &[Loser],
    decided: Option<Decided>,
) -> Option<(usize, Entry)> {
    let loser = losers.first().filter(|_| decided == Some(Decided::Both))?;
    let text = known[loser.side].current?;
    let view = policy.sight(loser.side).of_far_side(text);
    let print = view.fingerprint();
    let uid = EventUid::from(format!("{}-{}", text.uid(), crate::hex::hex(&print.0[..4])));
    Some((loser.side, view.put(&Identity::New(uid))))
}

/// Details that are a calendar's own may have been changed later than what is written there: what stands says when it was
/// last changed, and that is not turned back.
fn keep_stamps(entry: Entry, standing: &Entry) -> Entry {
    let stamp =
        |c: &Component<'static>| c.value("LAST-MODIFIED").or_else(|| c.value("DTSTAMP")).map(str::to_owned);
    let all = standing.components().filter_map(|c| Some((occurrence_key(c), (last_change_of(c), stamp(c)?))));
    let stands: BTreeMap<_, _> = all.collect();
    let later = |component: &Component<'static>| {
        let (changed, stamp) = stands.get(&occurrence_key(component))?;
        (changed.0 > last_change_of(component).0).then_some(stamp)
    };
    if entry.components().all(|component| later(component).is_none()) {
        return entry;
    }
    let mut object = entry.object().clone();
    for component in entry_components_mut(&mut object) {
        if let Some(stamp) = later(component) {
            component.set_value("LAST-MODIFIED", stamp);
        }
    }
    Entry::from_object(object).expect("its UIDs are as they were")
}

#[expect(clippy::too_many_arguments, reason = "all that one write depends on")]
fn write(
    policy: &ReplicaPolicy,
    side: usize,
    replica: &Replica<'_>,
    known: &Known<'_>,
    base: Option<&Entry>,
    merged: &Entry,
    uid: &EventUid,
    now: Timestamp,
) -> Result<Option<ReplicaWrite>, LeftOut> {
    let (rules, sight) = (&policy.sides[side], policy.sight(side));
    let view = sight.of_far_side(merged);
    let wanted = view.fingerprint();
    let (kind, identity) = match known.current {
        Some(standing) => {
            let print = |e: &Entry| policy.agreed_sight(side).of_far_side(e).fingerprint();
            let is_agreed = base.is_some_and(|base| print(base) == wanted)
                && known.in_step_with.is_some_and(|then| print(then) == wanted);
            // What its server made of the agreed text stays as it is.
            if sight.of_far_side(standing).fingerprint() == wanted || (is_agreed && !known.is_changed) {
                return Ok(None);
            }
            (WriteKind::Update, Identity::Existing(standing))
        }
        None if !rules.accepted.contains(merged.kind()) => return Err(LeftOut::NotAccepted(merged.kind())),
        // What comes back has the details again that are this calendar's own.
        None => match known.before {
            Some(before) => (WriteKind::Create, Identity::Existing(before)),
            None if replica.own_uid => (WriteKind::Create, Identity::New(policy.key.twin_uid(uid))),
            None => (WriteKind::Create, Identity::New(uid.clone())),
        },
    };
    if replica.refused == Some(wanted) {
        return Err(LeftOut::Refused);
    }
    let mut entry = view.put(&identity);
    if let Some(standing) = known.current {
        entry = keep_stamps(entry, standing);
    }
    let text = entry.caldav_text(now);
    if rules.max_size.is_some_and(|max| text.len() as u64 > max) {
        return Err(LeftOut::TooLarge);
    }
    Ok(Some(ReplicaWrite { kind, entry, text, view: wanted }))
}
