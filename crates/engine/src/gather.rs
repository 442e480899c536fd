//! Makes cases out of what the mirrors hold: what changed since a route decided last, what is due, and entries that
//! belong to nothing yet.

use std::cell::{OnceCell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::rc::Rc;

use chestnut_core::{
    Carry, Decided, Entry, EventUid, Habits, ObjectHref, Origin, Strangers, shows_write, undo_habits,
};
use chestnut_store::{
    BodyId, CalendarId, HeldItem, Intent, LinkId, LinkState, Object, ObjectId, ObjectState, PlaceRow,
    RouteId, Store, StoreError,
};

use crate::case::{Asked, Case, FoundDone, Kept, Place, Question, Stands, span_of};
use crate::guard::{Deletion, keys};
use crate::mail::MailQuestion;
use crate::rule::{Makes, Rule};

/// More entries that look alike than this are told apart by equal meaning alone.
pub(crate) const ALIKE: usize = 2000;
/// Objects with news that are asked for at once.
const PAGE: usize = 5000;

type Result<T> = std::result::Result<T, StoreError>;

/// What a run has to look at.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Touched {
    /// Cases with news, or due.
    pub(crate) links: Vec<LinkId>,
    /// What belongs to nothing yet: in which calendar, and what; originals first, then copies.
    pub(crate) free: Vec<(usize, ObjectId)>,
    /// What stands in calendars that only take, and belongs to nothing.
    pub(crate) beside: Vec<(usize, ObjectId)>,
}

/// Something that a run has to look at.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Found {
    /// A case that is remembered.
    Link(LinkId),
    /// What belongs to nothing yet, in a calendar that gives.
    Free(usize, ObjectId),
    /// What belongs to nothing, in a calendar that only takes.
    Beside(usize, ObjectId),
}

impl Found {
    /// Tells whether both are of one kind.
    pub(crate) fn is_like(self, other: Self) -> bool {
        std::mem::discriminant(&self) == std::mem::discriminant(&other)
    }

    /// What a deletion of its case is called, which has a number perhaps.
    pub(crate) fn deletion(self, link: Option<LinkId>) -> Deletion {
        match (self, link) {
            (_, Some(link)) | (Self::Link(link), None) => Deletion::Case(link),
            (Self::Free(side, object) | Self::Beside(side, object), None) => Deletion::Beside(side, object),
        }
    }
}

impl Touched {
    /// All of it, in the order in which it is worked on.
    pub(crate) fn all(&self) -> impl Iterator<Item = Found> + Clone + '_ {
        let links = self.links.iter().map(|link| Found::Link(*link));
        let free = self.free.iter().map(|(side, object)| Found::Free(*side, *object));
        links.chain(free).chain(self.beside.iter().map(|(side, object)| Found::Beside(*side, *object)))
    }
}

/// What an object belongs to in this run. A case that is made again finds what it found the first time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Claimant {
    /// A case that is remembered.
    Case(LinkId),
    /// The case of this object, of which nothing is remembered yet.
    Free(ObjectId),
}

/// Makes the cases of one run.
pub(crate) struct Gatherer<'r> {
    pub(crate) store: &'r Store,
    pub(crate) rule: &'r Rule,
    /// How copies show their sources.
    pub(crate) carry: Carry,
    /// `None` before the first run.
    pub(crate) route: Option<RouteId>,
    /// Whether the route had cases when the run began.
    pub(crate) had_links: bool,
    /// The mirrors of the ends.
    pub(crate) mirrors: Vec<CalendarId>,
    pub(crate) habits: Vec<Habits>,
    /// What belongs to a case of this run: to which.
    pub(crate) claimed: RefCell<HashMap<ObjectId, Claimant>>,
    /// Where cases that are worked on now have something new: it is theirs before it is recorded that it is.
    pub(crate) awaited: RefCell<HashMap<(CalendarId, ObjectHref), LinkId>>,
    pub(crate) held: Vec<HeldItem>,
    /// The cases of copies of which servers had said that they do not stand there, by their UIDs; sought when they are asked
    /// for.
    pub(crate) missed: OnceCell<HashMap<EventUid, LinkId>>,
    /// The calendars that the entries come from: behind a made one, that which it is made of.
    pub(crate) sources: Vec<CalendarId>,
    /// Whether something stands in one of these of which nothing is known; sought when it is asked for.
    pub(crate) hides: OnceCell<bool>,
    /// The deletions that a person was told of, read when they are asked for.
    pub(crate) told: OnceCell<BTreeSet<String>>,
}

impl Gatherer<'_> {
    /// Finds what there is to look at. `seen` is up to which change each calendar was decided.
    pub(crate) fn touched(&self, seen: &[i64], now: i64) -> Result<Touched> {
        let mut links = BTreeSet::new();
        let mut free: Vec<(bool, usize, ObjectHref, ObjectId)> = Vec::new();
        let mut beside = Vec::new();
        for (side, calendar) in self.mirrors.iter().enumerate() {
            let (gives, takes) = (self.rule.ends[side].gives, self.rule.ends[side].takes);
            // Deletions that wait are found again at each run, also of what belongs to no case.
            let is_waiting = takes && self.held.iter().any(|item| item.link.is_none());
            let mut after = if is_waiting { 0 } else { seen.get(side).copied().unwrap_or(0) };
            loop {
                let page = self.store.touched(self.route, *calendar, after, PAGE)?;
                let Some(last) = page.last() else { break };
                after = last.object.seq;
                for touched in &page {
                    match touched.link {
                        Some(link) => drop(links.insert(link)),
                        None if gives => {
                            let object = &touched.object;
                            let is_copy = object.uid.as_ref().is_some_and(EventUid::is_copy);
                            if object.state != ObjectState::Gone && !self.is_anothers_probe(object) {
                                free.push((is_copy, side, object.href.clone(), object.id));
                            }
                        }
                        None => beside.push((side, touched.object.id)),
                    }
                }
                if page.len() < PAGE {
                    break;
                }
            }
        }
        if let Some(route) = self.route {
            let mut after = None;
            loop {
                let page = self.store.due(route, now, after, PAGE)?;
                after = page.last().copied();
                links.extend(&page);
                if page.len() < PAGE {
                    break;
                }
            }
            links.extend(self.store.unfinished(route)?);
            let decided = self.held.iter().filter(|item| item.decision.is_some());
            links.extend(decided.filter_map(|item| item.link));
        }
        free.sort();
        let free = free.into_iter().map(|(_, side, _, id)| (side, id)).collect();
        Ok(Touched { links: links.into_iter().collect(), free, beside })
    }

    /// Finds the route's test entries, and their copies. Of joined blocks, which bear no mark, those with news that
    /// overlap one of these spans.
    pub(crate) fn probes(&self, spans: &[(i64, i64)], seen: &[i64], now: i64) -> Result<Touched> {
        let mark = self.rule.key.probe_mark();
        let mut links = BTreeSet::new();
        let mut probes = Touched::default();
        for (side, calendar) in self.mirrors.iter().enumerate() {
            for (object, link) in self.store.marked(self.route, *calendar, &mark)? {
                match link {
                    Some(link) => drop(links.insert(link)),
                    None if self.rule.ends[side].gives => probes.free.push((side, object)),
                    None => probes.beside.push((side, object)),
                }
            }
        }
        if self.rule.makes == Makes::Blocks {
            let news = self.touched(seen, now)?;
            for link in news.links {
                let case = self.linked(link)?;
                let overlaps = case.is_some_and(|case| case.shown().is_some_and(|e| overlaps(e, spans)));
                links.extend(overlaps.then_some(link));
            }
            for (side, object) in news.free {
                let Some(found) = self.store.object(object)? else { continue };
                if self.stands(found)?.entry().is_some_and(|entry| overlaps(entry, spans)) {
                    probes.free.push((side, object));
                }
            }
        }
        probes.links = links.into_iter().collect();
        Ok(probes)
    }

    pub(crate) fn kept(
        &self,
        body: Option<BodyId>,
        known: &mut BTreeMap<BodyId, Option<Rc<Kept>>>,
    ) -> Result<Option<Rc<Kept>>> {
        let Some(body) = body else { return Ok(None) };
        if let Some(kept) = known.get(&body) {
            return Ok(kept.clone());
        }
        let kept = self.store.text(body)?.and_then(|text| Kept::of(Some(body), text));
        known.insert(body, kept.clone());
        Ok(kept)
    }

    /// What stands where an object was noted.
    pub(crate) fn stands(&self, object: Object) -> Result<Stands> {
        self.stands_known(object, &mut BTreeMap::new())
    }

    pub(crate) fn stands_known(
        &self,
        object: Object,
        known: &mut BTreeMap<BodyId, Option<Rc<Kept>>>,
    ) -> Result<Stands> {
        Ok(match object.state {
            ObjectState::Gone => Stands::Gone,
            ObjectState::ToFetch => Stands::Unknown(object),
            ObjectState::Unread => Stands::Unread(object),
            ObjectState::Unreadable => Stands::Unreadable(object),
            ObjectState::Present => match self.kept(object.body, known)? {
                Some(kept) => Stands::Present(object, kept),
                // The state lost its text.
                None => Stands::Unknown(object),
            },
        })
    }

    /// Returns a case as it is remembered, with what stands in its places now.
    pub(crate) fn linked(&self, link: LinkId) -> Result<Option<Case>> {
        let Some(row) = self.store.link(link)? else { return Ok(None) };
        let mut known = BTreeMap::new();
        let mut case = Case::new(self.rule.ends.len());
        case.agreed = self.kept(row.agreed, &mut known)?;
        case.link = Some(link);
        for place in self.store.places(link)? {
            let PlaceRow { side, object, origin, stood, agreed, refused, let_go, .. } = place;
            if side >= case.places.len() {
                continue;
            }
            let stood = self.kept(stood, &mut known)?;
            let in_step_with = self.kept(agreed, &mut known)?;
            let stands = match object {
                Some(id) => {
                    let was_left_out = row.state == LinkState::LeftOut && row.agreed.is_none();
                    let before = self.claimed.borrow_mut().insert(id, Claimant::Case(link));
                    if let Some(other @ Claimant::Case(case)) = before
                        && was_left_out
                        && case != link
                    {
                        // Another case has taken its entry, and forgets this one.
                        self.claimed.borrow_mut().insert(id, other);
                        return Ok(None);
                    }
                    match self.store.object(id)? {
                        // Gone, or of a calendar that the route does not take from any more.
                        Some(object)
                            if object.state == ObjectState::Gone || object.calendar != self.mirrors[side] =>
                        {
                            match self.replacement(side, &object, link)? {
                                Some(found) => self.stands_known(found, &mut known)?,
                                None => Stands::Gone,
                            }
                        }
                        Some(object) => self.stands_known(object, &mut known)?,
                        None => Stands::Gone,
                    }
                }
                None if stood.is_some() => Stands::Gone,
                None => Stands::Never,
            };
            let uid = stands.object().and_then(|object| object.uid.as_ref());
            let origin = origin_there(self.rule, side, uid, origin);
            case.places[side] =
                Place { stands, stood, in_step_with, origin, refused, let_go, ..Place::default() };
        }
        case.row = Some(row);
        for intent in self.store.intents(link)? {
            self.resolve(&mut case, &intent, &mut known)?;
            case.found_out.extend(intent.sent.map(|_| intent.side));
        }
        (case.asked, case.decided) = self.asked(link);
        self.match_anew(&mut case, link)?;
        if case.row.as_ref().is_some_and(|row| row.reason == chestnut_core::LeftOut::SameUid.key()) {
            case.has_same_uid = self.same_uid_counts(&case)?;
        }
        Ok(Some(case))
    }

    /// A test entry of another route is nobody else's business.
    fn is_anothers_probe(&self, object: &Object) -> bool {
        object.uid.as_ref().is_some_and(|uid| uid.is_probe_of_another(&self.rule.key))
    }

    pub(crate) fn claim(&self, object: Object, by: Claimant) -> Object {
        self.claimed.borrow_mut().insert(object.id, by);
        object
    }

    /// Tells whether an object belongs to no case.
    pub(crate) fn is_free(&self, object: &Object) -> Result<bool> {
        Ok(!self.claimed.borrow().contains_key(&object.id)
            && self.is_free_for(object, Claimant::Free(object.id))?)
    }

    /// Tells whether a case that is worked on now has put something here, if it is not this one.
    pub(crate) fn is_awaited(&self, object: &Object, by: Option<LinkId>) -> bool {
        let at = (object.calendar, object.href.clone());
        self.awaited.borrow().get(&at).is_some_and(|link| Some(*link) != by)
    }

    /// Tells whether an object belongs to no case but perhaps this one.
    pub(crate) fn is_free_for(&self, object: &Object, by: Claimant) -> Result<bool> {
        let claimed = self.claimed.borrow().get(&object.id).copied();
        let own = match by {
            Claimant::Case(link) => Some(link),
            Claimant::Free(_) => None,
        };
        if self.is_awaited(object, own)
            || object.state == ObjectState::Gone
            || claimed.is_some_and(|claimed| claimed != by)
        {
            return Ok(false);
        }
        match self.route {
            Some(route) => Ok(self.store.link_of(route, object.id)?.is_none_or(|link| Some(link) == own)),
            None => Ok(true),
        }
    }

    /// What a person was asked about something that was found, answered or not.
    pub(crate) fn question(&self, found: Found, case: &Case) -> Option<&HeldItem> {
        self.held.iter().find(|item| match item.link {
            Some(link) => case.link == Some(link),
            None => self.told.get_or_init(|| keys(item)).contains(&found.deletion(case.link).key()),
        })
    }

    /// What a person was asked about a case, and whose word they said counts.
    fn asked(&self, link: LinkId) -> (Option<Asked>, Option<Decided>) {
        let Some(item) = self.held.iter().find(|item| item.link == Some(link)) else { return (None, None) };
        let decision = item.decision.as_deref();
        let asked = |question| Some(Asked { question, is_answered: decision.is_some() });
        if let Some(mail) = MailQuestion::of(item) {
            let sends = decision == Some(MailQuestion::SEND);
            return (asked(Question::Mail { keys: mail.keys, sends }), None);
        }
        let decided = decision.map(|word| match word {
            "both" => Decided::Both,
            "newest" => Decided::Newest,
            name => match self.rule.ends.iter().position(|end| end.name == name) {
                Some(side) => Decided::Side(side),
                None => Decided::Newest,
            },
        });
        (asked(Question::Disagreement), decided)
    }

    /// A write that was perhaps sent: what stands there tells.
    fn resolve(
        &self,
        case: &mut Case,
        intent: &Intent,
        known: &mut BTreeMap<BodyId, Option<Rc<Kept>>>,
    ) -> Result<()> {
        let side = intent.side;
        let calendar = self.mirrors[side];
        let before = self.kept(intent.stood, known)?;
        if case.places[side].stands.object().is_none()
            && intent.sent.is_some()
            && let Some(object) = self.store.object_at(calendar, &intent.href)?
            && self.is_free_for(&object, Claimant::Case(intent.link))?
        {
            let object = self.claim(object, Claimant::Case(intent.link));
            case.places[side].stands = self.stands_known(object, known)?;
        }
        let was = before.as_ref().map(|kept| kept.text.clone());
        let href = intent.href.clone();
        let Some(sent) = self.kept(intent.sent, known)? else {
            // A deletion: it counts once nothing stands there.
            if matches!(case.places[side].stands, Stands::Gone | Stands::Never) {
                let is_told = case.row.as_ref().is_some_and(|row| row.state == LinkState::Leaving);
                let done = FoundDone { side, href, before: was, after: None };
                case.found_done.extend((!is_told).then_some(done));
                let is_undone =
                    case.row.as_ref().is_some_and(|row| row.reason == chestnut_core::LeftOut::Undone.key());
                if is_undone || !self.rule.ends[side].gives {
                    // The route took it away itself: should its source be wanted again, it is new there.
                    case.places[side] = Place { origin: case.places[side].origin, ..Place::default() };
                    if !is_undone {
                        case.agreed = None;
                        if let Some(row) = &mut case.row {
                            row.agreed = None;
                        }
                    }
                }
            }
            return Ok(());
        };
        let Some(now) = case.places[side].stands.kept().cloned() else { return Ok(()) };
        if before.as_ref().is_some_and(|before| before.text.text == now.text.text) {
            return Ok(());
        }
        let same_entry = now.entry.uid() == sent.entry.uid() || case.places[side].stood.is_some();
        let undone = undo_habits(&sent.entry, &now.entry, &self.habits[side]);
        if !same_entry {
            case.places[side].stands = Stands::Never;
            return Ok(());
        }
        if case.places[side].stood.is_none() && intent.stood.is_none() {
            // It was new there: what stands is this entry, however it was edited since.
            case.places[side].origin = origin_of(&sent.entry, self.rule, side);
        }
        if !undone.is_edited {
            let place = &mut case.places[side];
            place.stood = Some(Rc::clone(&now));
            place.in_step_with = self.kept(intent.agreed, known)?;
            place.refused = None;
            let after = Some(now.text.clone());
            case.found_done.push(FoundDone { side, href, before: was, after });
            // It is agreed from then on: a calendar that did not get it is owed it.
            case.agree(self.kept(intent.agreed, known)?, intent);
        } else if case.places[side].stood.is_none() {
            // Merged over what was sent: it is what everybody else has.
            let place = &mut case.places[side];
            place.stood = Kept::of(None, undone.stood.caldav_text(jiff::Timestamp::UNIX_EPOCH));
            place.in_step_with = self.kept(intent.agreed, known)?;
            case.agree(self.kept(intent.agreed, known)?, intent);
        }
        // It may never have arrived, and what stands there be an edit of what stood there before.
        let shows = |before: &Kept| shows_write(&before.entry, &sent.entry, &now.entry, &self.habits[side]);
        if undone.is_edited && !before.as_deref().is_none_or(shows) {
            return Ok(());
        }
        // What the others said then is part of what was sent; whether they have it too, is another thing.
        for (other, body) in self.store.considered(intent.link)? {
            let Some(place) = case.places.get_mut(other).filter(|_| other != side) else { continue };
            if let Some(then) = self.kept(Some(body), known)? {
                let agreed = case.agreed.as_ref().filter(|agreed| agreed.entry == then.entry);
                place.in_step_with = agreed.cloned().or(place.in_step_with.take());
                place.stood = Some(then);
            }
        }
        Ok(())
    }

    /// Makes a case of an object that belongs to nothing, in a calendar that gives; `None` where it does now.
    pub(crate) fn free(&self, side: usize, id: ObjectId) -> Result<Option<Case>> {
        let Some(object) = self.store.object(id)? else { return Ok(None) };
        if !self.is_free_for(&object, Claimant::Free(id))? || self.is_anothers_probe(&object) {
            return Ok(None);
        }
        let object = self.claim(object, Claimant::Free(id));
        let stands = self.stands(object)?;
        let Stands::Present(object, kept) = &stands else {
            let mut case = Case::new(self.rule.ends.len());
            case.places[side].stands = stands;
            return Ok(Some(case));
        };
        if let Some(mut case) = self.known_elsewhere(side, object, &kept.entry)? {
            let place = &mut case.places[side];
            place.stands = stands;
            place.let_go = false;
            return Ok(Some(case));
        }
        let mut case = Case::new(self.rule.ends.len());
        case.has_same_uid = self.has_first_twin(side, object)? || self.is_taken_elsewhere(side, object)?;
        let entry = kept.entry.clone();
        let object = object.clone();
        case.places[side] = Place { origin: origin_of(&entry, self.rule, side), stands, ..Place::default() };
        if case.has_same_uid || !self.rule.kinds.contains(entry.kind()) {
            return Ok(Some(case));
        }
        for other in (0..self.rule.ends.len()).filter(|other| *other != side) {
            if let Some((found, origin)) = self.matching(side, &object, Claimant::Free(id), &entry, other)? {
                let found = self.claim(found, Claimant::Free(id));
                case.places[other] = Place { stands: self.stands(found)?, origin, ..Place::default() };
            }
        }
        Ok(Some(case))
    }

    /// Tells whether the source of a copy that stands alone may be among what could not be read.
    pub(crate) fn may_hide_a_source(&self) -> Result<bool> {
        if let Some(hides) = self.hides.get() {
            return Ok(*hides);
        }
        let mut hides = false;
        for source in &self.sources {
            hides = hides || self.store.holds_unknown(*source)?;
        }
        Ok(*self.hides.get_or_init(|| hides))
    }

    /// Makes a case of an object in a calendar that only takes, and that no source claims: a copy of this route whose
    /// source is gone, or, where strangers are removed, one of these.
    pub(crate) fn beside(&self, side: usize, id: ObjectId) -> Result<Option<Beside>> {
        let Some(object) = self.store.object(id)? else { return Ok(None) };
        let is_free = self.is_free_for(&object, Claimant::Free(id))?;
        if !is_free || object.state == ObjectState::Gone || self.is_anothers_probe(&object) {
            return Ok(None);
        }
        let ours = object.uid.as_ref().is_some_and(|uid| self.rule.key.is_of_copy(uid));
        let is_copy = object.uid.as_ref().is_some_and(EventUid::is_copy);
        let is_stranger = !is_copy && self.rule.strangers == Strangers::Remove;
        if !ours && !is_stranger {
            return Ok(Some(Beside::Nobodys));
        }
        if ours && let Some(link) = object.uid.as_ref().map(|uid| self.missed(uid)).transpose()?.flatten() {
            return Ok(self.linked(link)?.map(|case| Beside::Orphan(Box::new(case))));
        }
        let object = self.claim(object, Claimant::Free(id));
        let mut case = Case::new(self.rule.ends.len());
        let origin = if ours { Origin::Copy } else { Origin::Original };
        case.places[side] = Place { stands: self.stands(object)?, origin, ..Place::default() };
        Ok(Some(if ours { Beside::Orphan(Box::new(case)) } else { Beside::Stranger(Box::new(case)) }))
    }
}

/// What stands in a calendar that only takes, and belongs to nothing.
pub(crate) enum Beside {
    /// A copy of this route whose source is gone.
    Orphan(Box<Case>),
    /// Somebody's entry, and the route removes such.
    Stranger(Box<Case>),
    /// Somebody's entry, which stays.
    Nobodys,
}

/// Tells whether an entry takes place in one of these spans.
fn overlaps(entry: &Entry, spans: &[(i64, i64)]) -> bool {
    let own = span_of(entry);
    own.is_some_and(|own| spans.iter().any(|(from, to)| own.0 < *to && own.1 > *from))
}

/// What stands there to a route that knew something else there: what bears a UID of its own it has made itself.
pub(crate) fn origin_there(rule: &Rule, side: usize, uid: Option<&EventUid>, known: Origin) -> Origin {
    let is_ours = || uid.is_some_and(|uid| rule.key.is_of_copy(uid));
    if !rule.ends[side].gives && is_ours() { Origin::Copy } else { known }
}

/// What an entry is to the route in a calendar where it stands.
fn origin_of(entry: &Entry, rule: &Rule, side: usize) -> Origin {
    let ours = rule.key.is_of_copy(entry.uid());
    match (rule.ends[side].gives, ours) {
        (false, _) | (true, true) => Origin::Copy,
        (true, false) => Origin::Original,
    }
}
