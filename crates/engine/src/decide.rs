//! Decides cases: what is to be done in each calendar, what is agreed then, and what becomes of the case.
//!
//! Pure: the same for preview and run. Here, and in the rule, it is known whether copies go one way or calendars are
//! kept alike; nothing else asks.

use std::borrow::Cow;
use std::rc::Rc;

use chestnut_core::{
    Action, Because, Collision, Decision, Deletions, Entry, Fingerprint, LeftOut, LinkFacts, Loser, Origin,
    Pair, Partly, PastCopies, Position, Replica, ReplicaDecision, ReplicaPolicy, RoutePolicy, Side, Sight,
    Strangers, WriteKind, reconcile, reconcile_replicas,
};
use chestnut_store::{CalendarFacts, LinkRow, LinkState, Text};
use jiff::Timestamp;

use crate::case::{Case, Kept, Place, Stands, span_in};
use crate::rule::{self, Policy, Rule};

/// What is to be done in one calendar.
#[derive(Debug, Clone)]
pub(crate) enum Step {
    /// Nothing, and what is remembered of it stays.
    Leave,
    /// Nothing: it is in step.
    Accept,
    /// Write this.
    Write(Box<Writing>),
    /// Delete what stands there.
    Delete(Because),
    /// Nothing, from now on: it was deleted there, and stays elsewhere.
    LetGo,
    /// Nothing until a person answers: its server could write to people because of it.
    Hold(Withheld),
    /// Nothing until something else is to be written: a person said that this is not.
    Spare(Box<Writing>),
}

/// What is not done before a person answers.
#[derive(Debug, Clone)]
pub(crate) enum Withheld {
    Write(Box<Writing>),
    Delete,
}

impl Step {
    /// Tells whether a text is to be written, now or later.
    pub(crate) fn owes_a_text(&self) -> bool {
        match self {
            Self::Write(_) | Self::Spare(_) => true,
            Self::Hold(withheld) => matches!(withheld, Withheld::Write(_)),
            Self::Leave | Self::Accept | Self::Delete(_) | Self::LetGo => false,
        }
    }
}

/// Something to write.
#[derive(Debug, Clone)]
pub(crate) struct Writing {
    pub(crate) kind: WriteKind,
    pub(crate) entry: Entry,
    pub(crate) text: String,
    /// What of it is carried.
    pub(crate) view: Fingerprint,
    pub(crate) sight: Sight,
    pub(crate) partly: Partly,
    /// It was deleted there, and changed elsewhere.
    pub(crate) comes_back: bool,
}

impl Writing {
    /// Says another entry that means the same to the route.
    pub(crate) fn say(&mut self, entry: Entry, now: Timestamp) {
        self.text = entry.caldav_text(now);
        self.entry = entry;
    }
}

/// What becomes of a case.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Fate {
    /// It is agreed.
    Keep,
    /// It is not carried.
    LeaveOut(LeftOut),
    /// A person must say whose word counts.
    Hold(Vec<Collision>),
    /// It stands there as nobody's.
    Release,
    /// Nothing of it is left.
    Forget,
    /// Something is not known: it is decided again at the next run.
    Wait,
    /// A copy stands alone, and its source may be among what could not be read: nothing of it is remembered, and the next
    /// run finds it again.
    Doubt,
}

/// What was decided about a case.
#[derive(Debug, Clone)]
pub(crate) struct Verdict {
    pub(crate) steps: Vec<Step>,
    /// What is agreed once the steps are done.
    pub(crate) agreed: Option<Rc<Kept>>,
    pub(crate) fate: Fate,
    /// Whose word did not count.
    pub(crate) losers: Vec<Loser>,
    /// An entry of its own, for what a person wants to keep besides: whose it was, and what.
    pub(crate) beside: Option<(usize, Entry)>,
    /// Why it does not stand in a calendar where it should.
    pub(crate) lacking: Option<LeftOut>,
    /// When it must be decided again, in seconds since 1970.
    pub(crate) due: Option<i64>,
}

impl Verdict {
    /// Nothing but steps, and what becomes of the case.
    pub(crate) fn of_steps(steps: Vec<Step>, fate: Fate) -> Self {
        Self { steps, agreed: None, fate, losers: Vec::new(), beside: None, lacking: None, due: None }
    }

    fn plain(case: &Case, fate: Fate) -> Self {
        let steps = case.places.iter().map(|_| Step::Leave).collect();
        Self { agreed: case.agreed.clone(), ..Self::of_steps(steps, fate) }
    }

    /// Nothing is done about a copy of which nothing is remembered: its source may be among what could not be read.
    pub(crate) fn doubt(&mut self) {
        self.fate = Fate::Doubt;
        self.steps.iter_mut().for_each(|step| *step = Step::Leave);
    }

    pub(crate) fn deletes(&self) -> Option<Because> {
        self.steps.iter().find_map(|step| match step {
            Step::Delete(because) => Some(*because),
            _ => None,
        })
    }

    /// Tells whether something waits for a person, since a server could write to people because of it.
    pub(crate) fn would_mail(&self) -> bool {
        self.steps.iter().any(|step| matches!(step, Step::Hold(_)))
    }

    /// Nothing is deleted: it stands there as nobody's.
    pub(crate) fn release(&mut self) {
        if self.deletes().is_some() {
            self.fate = Fate::Release;
            self.steps.iter_mut().for_each(|step| *step = Step::Leave);
        }
    }

    /// Tells whether something is to be sent.
    pub(crate) fn has_work(&self) -> bool {
        self.steps.iter().any(|step| matches!(step, Step::Write(_) | Step::Delete(_)))
    }

    pub(crate) fn writing(&self, side: usize) -> Option<&Writing> {
        match &self.steps[side] {
            Step::Write(writing) => Some(writing),
            _ => None,
        }
    }

    /// What is written there, or would be if a person agrees.
    pub(crate) fn would_write(&self, side: usize) -> Option<&Writing> {
        match &self.steps[side] {
            Step::Write(writing) | Step::Hold(Withheld::Write(writing)) => Some(writing),
            _ => None,
        }
    }
}

/// What decides about the cases of one run.
pub(crate) struct Decider<'r> {
    pub(crate) rule: &'r Rule,
    pub(crate) policy: Policy,
    pub(crate) facts: Vec<CalendarFacts>,
    pub(crate) now: Timestamp,
    /// That of what is carried whole.
    pub(crate) form: i64,
    /// A route of this name was taken out and left its copies, and this one has not run to its end: what stands there
    /// without its source was left as nobody's.
    pub(crate) begins_anew: bool,
}

impl Decider<'_> {
    /// Decides one case.
    pub(crate) fn decide(&self, case: &Case) -> Verdict {
        let lifted;
        let case = match &case.row {
            Some(row) if row.reason == LeftOut::Undone.key() => {
                if !self.moved(case) {
                    return Verdict::plain(case, Fate::LeaveOut(LeftOut::Undone));
                }
                lifted = self.lifted(case);
                &lifted
            }
            _ => case,
        };
        if case.has_same_uid {
            // The other one may go, and nothing of this one change.
            let due = Some(self.next_midnight());
            return Verdict { due, ..Verdict::plain(case, Fate::LeaveOut(LeftOut::SameUid)) };
        }
        let unread = case.places.iter().any(|place| matches!(place.stands, Stands::Unread(_)));
        if unread {
            return Verdict::plain(case, Fate::LeaveOut(LeftOut::OutsideWindow));
        }
        let stays = self.rule.strangers == Strangers::Leave;
        if stays && (self.begins_anew || was_left(case)) && self.orphan(case).is_some() {
            return Verdict::plain(case, self.policy.of_what_was_left());
        }
        let mut verdict = self.silenced(case, self.decide_by(&self.policy, case));
        // What a person did not want written there is refused as if its server had done so.
        if case.row.as_ref().is_some_and(|row| row.reason == LeftOut::WouldMail.key()) {
            if verdict.fate == Fate::LeaveOut(LeftOut::Refused) {
                verdict.fate = Fate::LeaveOut(LeftOut::WouldMail);
            }
            verdict.lacking = verdict.lacking.map(|reason| match reason {
                LeftOut::Refused => LeftOut::WouldMail,
                other => other,
            });
        }
        verdict.due = verdict.due.or_else(|| self.due(case, &verdict));
        verdict
    }

    /// Tells whether a source changed since a person took back what had been done to its entry.
    fn moved(&self, case: &Case) -> bool {
        let ends = self.rule.ends.iter().zip(&case.places);
        let mut sources = ends.filter(|(end, _)| end.gives).map(|(_, place)| place);
        sources.any(|place| match (&place.stands, &place.stood) {
            (Stands::Never | Stands::Gone, stood) => stood.is_some(),
            (Stands::Present(_, now), Some(then)) => {
                now.text.text != then.text.text
                    && now.entry.meaning().fingerprint() != then.entry.meaning().fingerprint()
            }
            (Stands::Present(..), None) => true,
            (Stands::Unreadable(_) | Stands::Unread(_) | Stands::Unknown(_), _) => false,
        })
    }

    /// The case as if nothing had been agreed since it was taken back: every calendar is owed what its source says now.
    fn lifted(&self, case: &Case) -> Case {
        let mut case = case.clone();
        for (end, place) in self.rule.ends.iter().zip(&mut case.places) {
            place.in_step_with = if end.gives { place.stood.clone() } else { None };
            if place.stood.is_none() && matches!(place.stands, Stands::Gone) {
                place.stands = Stands::Never;
            }
        }
        case
    }

    fn decide_by(&self, policy: &Policy, case: &Case) -> Verdict {
        match policy {
            Policy::Copies(policy) => self.one_way(policy, case),
            Policy::Alike(policy) => self.alike(policy, case),
        }
    }

    /// Decides a case of which a person said that nothing is deleted.
    pub(crate) fn keeping(&self, case: &Case) -> Verdict {
        let policy = match self.policy.clone() {
            Policy::Copies(policy) => {
                Policy::Copies(Box::new(RoutePolicy { deletions: Deletions::Keep, ..*policy }))
            }
            Policy::Alike(policy) => {
                Policy::Alike(Box::new(ReplicaPolicy { deletions: Deletions::Keep, ..*policy }))
            }
        };
        let mut verdict = self.decide_by(&policy, case);
        verdict.release();
        verdict
    }

    /// What the route says of a far entry, for whoever looks from outside.
    pub(crate) fn sight(&self, side: usize) -> Sight {
        match &self.policy {
            Policy::Copies(policy) => policy.carry.sight(),
            Policy::Alike(policy) => policy.sight(side),
        }
    }

    /// Tells whether a copy stands of which nothing is remembered, at a time of which its source tells nothing:
    /// free-busy time has ends, and what lies outside is neither taken nor gone.
    fn is_untold(&self, case: &Case) -> bool {
        let [source, far] = &case.places[..] else { return false };
        let Some(known) = self.facts.first().and_then(|facts| facts.known.as_ref()) else { return false };
        let is_found = case.link.is_none() && source.stands.object().is_none() && far.origin == Origin::Copy;
        let span = far.stands.entry().and_then(|entry| span_in(entry.main_component()));
        is_found
            && span.is_some_and(|(from, to)| !known.iter().any(|(start, end)| *start <= from && to <= *end))
    }

    /// Where a copy that a route of this name wrote stands alone, and nothing was agreed about it.
    fn orphan(&self, case: &Case) -> Option<usize> {
        let ours = |place: &Place| place.stands.entry().is_some_and(|e| self.rule.key.is_of_copy(e.uid()));
        let is_alone = case.agreed.is_none() && case.standing() == 1;
        let at = case.places.iter().position(ours).filter(|side| self.rule.ends[*side].takes);
        at.filter(|_| is_alone)
    }

    /// Tells whether a source would be carried in another form than it was when it was `agreed` on.
    fn carry_changed(&self, case: &Case, agreed: Option<&Entry>) -> bool {
        case.row.as_ref().is_some_and(|row| row.agreed.is_some() && row.form != self.form_of(agreed))
    }

    /// The form in which a source is carried: where occurrences are taken out of it, what takes them out is part of it.
    pub(crate) fn form_of(&self, source: Option<&Entry>) -> i64 {
        match (&self.policy, source) {
            (Policy::Copies(policy), Some(source)) => match policy.carry.choice.rest(source) {
                Some(Cow::Borrowed(_)) => self.form,
                Some(Cow::Owned(_)) | None => {
                    let (carry, choice) = (policy.carry.settings(), policy.carry.choice.settings());
                    rule::form_of(&format!("{carry}; {choice}"))
                }
            },
            _ => self.form,
        }
    }

    fn one_way(&self, policy: &RoutePolicy, case: &Case) -> Verdict {
        let [source, far] = &case.places[..] else { return Verdict::plain(case, Fate::Wait) };
        let in_step = far.in_step_with.as_ref().map(|kept| &kept.entry);
        let view_then = in_step.and_then(|entry| policy.carry.show(entry).ok());
        let facts = in_step.map(|_| LinkFacts {
            view: view_then.as_ref().map_or(NEVER, chestnut_core::View::fingerprint),
            far: far
                .stood
                .as_ref()
                .zip(view_then.as_ref())
                .map(|(stood, view)| view.sight().of_far_side(&stood.entry).fingerprint()),
            refused: far.refused,
        });
        // What was refused before anything was agreed.
        let refused_only = facts.is_none().then_some(far.refused).flatten();
        let pair = Pair {
            link: facts,
            agreed: in_step,
            source: side(&source.stands),
            target: if far.let_go { Side::Gone } else { side(&far.stands) },
            origin: far.origin,
            carry_changed: self.carry_changed(case, in_step),
            copy_uid_is_taken: far.copy_uid_is_taken,
        };
        if self.is_untold(case) {
            return Verdict::plain(case, Fate::LeaveOut(LeftOut::OutsideEnds));
        }
        if far.let_go && matches!(far.stands, Stands::Never | Stands::Gone) {
            let fate = if matches!(pair.source, Side::Gone) { Fate::Forget } else { Fate::Keep };
            return Verdict { steps: vec![Step::Accept, Step::LetGo], ..Verdict::plain(case, fate) };
        }
        if is_released(case) && matches!(pair.source, Side::Gone) {
            // Nobody's for good: forgotten, it would be a stranger, or a copy without its source.
            let fate = if matches!(pair.target, Side::Gone) { Fate::Forget } else { Fate::Release };
            return Verdict::plain(case, fate);
        }
        let mut verdict = Verdict::plain(case, Fate::Keep);
        verdict.agreed = source.stands.kept().cloned().or(case.agreed.clone());
        match reconcile(policy, &pair, self.now) {
            Decision::Nothing if facts.is_none() => verdict.fate = Fate::Forget,
            Decision::Nothing => verdict.steps[0] = Step::Accept,
            Decision::Agree { .. } => verdict.steps = vec![Step::Accept, Step::Accept],
            Decision::Act(Action::Write { view, .. }) if refused_only == Some(view) => {
                verdict.fate = Fate::LeaveOut(LeftOut::Refused);
            }
            Decision::Act(Action::Write { kind, entry, text, view, sight, partly }) => {
                let comes_back = kind == WriteKind::Create && facts.is_some();
                let writing = Writing { kind, entry, text, view, sight, partly, comes_back };
                verdict.steps = vec![Step::Accept, Step::Write(Box::new(writing))];
            }
            Decision::Act(Action::Delete(because)) => verdict.steps[1] = Step::Delete(because),
            Decision::Forget => verdict.fate = Fate::Forget,
            Decision::Release => verdict.fate = Fate::Release,
            Decision::LetGo => verdict.steps = vec![Step::Accept, Step::LetGo],
            Decision::Wait => verdict.fate = Fate::Wait,
            Decision::LeaveOut(reason) => verdict.fate = Fate::LeaveOut(reason),
        }
        verdict
    }

    fn alike(&self, policy: &ReplicaPolicy, case: &Case) -> Verdict {
        let replica = |(at, place): (usize, &Place)| -> (Option<Rc<Kept>>, Option<Rc<Kept>>, usize) {
            (place.stood.clone(), place.in_step_with.clone(), at)
        };
        let texts: Vec<_> = case.places.iter().enumerate().map(replica).collect();
        let replicas: Vec<Replica<'_>> = texts
            .iter()
            .map(|(stood, in_step, at)| {
                let place = &case.places[*at];
                Replica {
                    before: stood.as_ref().map(|kept| &kept.entry),
                    in_step_with: in_step.as_ref().map(|kept| &kept.entry),
                    now: side(&place.stands),
                    refused: place.refused,
                    let_go: place.let_go,
                    own_uid: self.facts[*at].own_uids || place.wants_own_uid,
                }
            })
            .collect();
        let covered = match &case.row {
            Some(row) if row.agreed.is_some() => Sight::of_number(row.carried),
            _ => policy.covered,
        };
        let policy = ReplicaPolicy { covered, ..policy.clone() };
        let base = case.agreed.as_ref().map(|kept| &kept.entry);
        // A copy of the route's own under its own UID, whose other half is gone while the state was lost.
        if let Some(side) = self.orphan(case).filter(|_| !policy.relay) {
            let mut verdict = Verdict::plain(case, Fate::Keep);
            match policy.deletions {
                Deletions::Keep => verdict.fate = self.policy.of_what_was_left(),
                Deletions::Carry => verdict.steps[side] = Step::Delete(Because::Gone),
            }
            return verdict;
        }
        let mut verdict = Verdict::plain(case, Fate::Keep);
        match reconcile_replicas(&policy, base, &replicas, case.decided, self.now) {
            ReplicaDecision::Settle(settled) => {
                let settled = *settled;
                verdict.losers = settled.losers;
                verdict.beside = settled.besides;
                let standing = || {
                    let places = case.places.iter().enumerate();
                    places.filter_map(|(at, place)| Some((at, place.stands.entry()?)))
                };
                for (at, write) in settled.writes.into_iter().enumerate() {
                    let place = &case.places[at];
                    let is_known = !matches!(place.stands, Stands::Unknown(_) | Stands::Unreadable(_));
                    verdict.steps[at] = match write {
                        _ if !is_known => {
                            verdict.due = Some(0);
                            Step::Leave
                        }
                        Some(write) => Step::Write(Box::new(Writing {
                            partly: policy.partly(at, &settled.base, standing(), &write.entry),
                            kind: write.kind,
                            entry: write.entry,
                            text: write.text,
                            view: write.view,
                            sight: policy.sight(at),
                            comes_back: settled.restored.contains(&at),
                        })),
                        None if settled.let_go[at] => Step::LetGo,
                        None if settled.left_out[at].is_some() => {
                            verdict.lacking = settled.left_out[at];
                            Step::Leave
                        }
                        None => Step::Accept,
                    };
                }
                verdict.agreed = Some(self.agreed(case, settled.base));
            }
            ReplicaDecision::Delete(sides) => {
                for at in sides {
                    verdict.steps[at] = Step::Delete(Because::Gone);
                }
            }
            ReplicaDecision::Forget => verdict.fate = Fate::Forget,
            ReplicaDecision::Hold(collisions) => verdict.fate = Fate::Hold(collisions),
            ReplicaDecision::LeaveOut(reason) => verdict.fate = Fate::LeaveOut(reason),
            ReplicaDecision::Wait => verdict.fate = Fate::Wait,
        }
        verdict
    }

    /// The agreed text: one that stands somewhere, or that was agreed already, where it says the same.
    fn agreed(&self, case: &Case, entry: Entry) -> Rc<Kept> {
        let stands = case.places.iter().filter_map(|place| place.stands.kept());
        let known = stands.chain(&case.agreed).find(|kept| kept.entry == entry);
        known.cloned().unwrap_or_else(|| {
            let text = Text::new(entry.caldav_text(self.now));
            Rc::new(Kept { text, entry })
        })
    }

    /// When time alone changes what follows: an occurrence reaches the window, or a copy falls behind it.
    fn due(&self, case: &Case, verdict: &Verdict) -> Option<i64> {
        let (window, past) = match &self.policy {
            Policy::Copies(policy) => (&policy.window, policy.past_copies),
            Policy::Alike(policy) => (&policy.window, PastCopies::Keep),
        };
        let now = self.now.as_second();
        let entry = case.places.iter().find_map(|place| place.stands.entry());
        match &verdict.fate {
            Fate::Wait => Some(0),
            Fate::LeaveOut(LeftOut::Unreadable) => {
                let unknown = case.places.iter().any(|place| matches!(place.stands, Stands::Unknown(_)));
                unknown.then_some(0)
            }
            Fate::LeaveOut(LeftOut::OutsideWindow) => match window.position(&self.taken_of(entry?)) {
                Ok(Position::Ahead(next)) => {
                    // The window's end moves a day each day, but for its months: looked at a little early, and then
                    // day by day.
                    let reach = window.range.end - now;
                    Some((next - reach - 4 * DAY).max(self.next_midnight()))
                }
                _ => None,
            },
            Fate::Keep if past == PastCopies::Remove => {
                let over = window.over_at(&self.taken_of(case.places[0].stands.entry()?)).ok()??;
                let reach = now - window.range.start;
                Some((over + reach - 4 * DAY).max(self.next_midnight()))
            }
            _ => None,
        }
    }

    /// What of an entry the route takes.
    fn taken_of<'e>(&self, entry: &'e Entry) -> Cow<'e, Entry> {
        match &self.policy {
            Policy::Copies(policy) => policy.taken_of(entry),
            Policy::Alike(_) => Cow::Borrowed(entry),
        }
    }

    fn next_midnight(&self) -> i64 {
        let tomorrow = self.now.to_zoned(self.rule.zone.clone()).date().tomorrow();
        let midnight = tomorrow.ok().and_then(|day| day.to_zoned(self.rule.zone.clone()).ok());
        midnight.map_or(self.now.as_second() + DAY, |at| at.timestamp().as_second())
    }
}

const DAY: i64 = 86_400;

/// A view that no entry has.
const NEVER: Fingerprint = Fingerprint([0; 16]);

/// Tells whether a copy was left as nobody's.
fn was_left(case: &Case) -> bool {
    let is_left_out = |row: &LinkRow| row.agreed.is_none() && row.reason == LeftOut::Copy.key();
    is_released(case) || case.row.as_ref().is_some_and(is_left_out)
}

impl Policy {
    /// What becomes of a copy without its source that is nobody's.
    fn of_what_was_left(&self) -> Fate {
        match self {
            Self::Copies(_) => Fate::Release,
            // Like every other copy there.
            Self::Alike(_) => Fate::LeaveOut(LeftOut::Copy),
        }
    }
}

/// Tells whether what stands there may stay without its source.
fn is_released(case: &Case) -> bool {
    case.row.as_ref().is_some_and(|row| row.state == LinkState::Released)
}

fn side(stands: &Stands) -> Side<'_> {
    match stands {
        Stands::Never | Stands::Gone => Side::Gone,
        Stands::Present(_, kept) => Side::Present(&kept.entry),
        Stands::Unreadable(_) => Side::Unreadable,
        Stands::Unread(_) | Stands::Unknown(_) => Side::Unknown,
    }
}
