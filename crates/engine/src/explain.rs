//! The story of single entries: where they stand and as what, which rule of a route lets them through or stops them,
//! what differs, and what the next run does.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use chestnut_core::ical::Limits;
use chestnut_core::recurrence::{Budget, Occurrences, Zone};
use chestnut_core::{
    Because, ChoiceKey, Entry, EventUid, LeftOut, Origin, RoutePolicy, parse_time, refusal, resolve_zone,
};
use chestnut_store::{Change, LinkId, ObjectId, PastChange, RouteId, Store, Told};
use jiff::tz::TimeZone;

use crate::apply::Work;
use crate::case::{Place, Stands, start_text};
use crate::compare::{Comparer, Finding};
use crate::decide::Fate;
use crate::error::RunError;
use crate::gather::Found;
use crate::observe::Silent;
use crate::options::{RunOptions, Selection};
use crate::rule::{Makes, Rule};
use crate::session::{Session, begin};
use crate::story::{PreviewReport, PreviewedChange};

/// What somebody asks for.
#[derive(Debug, Clone)]
pub struct Wanted {
    /// All that was typed: a UID, perhaps.
    pub uid: EventUid,
    /// Words that are all in the title, in lower case.
    pub words: Vec<String>,
    /// Spans of time, in seconds since 1970: it takes place in each of them.
    pub days: Vec<Range<i64>>,
    /// The zone in which floating times are read.
    pub zone: TimeZone,
}

impl Wanted {
    /// Tells whether an entry is wanted, by its UID or by all that was said of it.
    #[must_use]
    pub fn is(&self, entry: &Entry) -> bool {
        *entry.uid() == self.uid
            || self.fits(&entry.title()) && self.days.iter().all(|day| self.is_on(entry, day))
    }

    fn fits(&self, title: &str) -> bool {
        let title = title.to_lowercase();
        self.words.iter().all(|word| title.contains(word))
    }

    fn is_on(&self, entry: &Entry, day: &Range<i64>) -> bool {
        let times = Occurrences::of(entry, &Zone::Rules(self.zone.clone()));
        times.is_ok_and(|times| times.any_within(day.clone(), &mut Budget::default()).unwrap_or(false))
    }

    /// Tells whether a text may be of a wanted entry, without reading it: most are not.
    fn may_be_in(&self, text: &str) -> bool {
        let text = text.replace("\r\n ", "").replace("\n ", "").to_lowercase();
        text.contains(&self.uid.as_str().to_lowercase()) || self.words.iter().all(|word| text.contains(word))
    }

    /// Tells whether something that was changed once is wanted. `start` is what runs remember of a start.
    #[must_use]
    pub fn was_in_past(&self, change: &PastChange) -> bool {
        self.was(&change.uid, &change.title, &change.start)
    }

    /// Tells whether a change was about it, as it was then, or as it had been before.
    #[must_use]
    pub fn was_changed(&self, change: &Change) -> bool {
        let had_been = |text: &str| {
            self.may_be_in(text) && Entry::parse(text, &Limits::default()).is_ok_and(|entry| self.is(&entry))
        };
        self.was(&change.uid, &change.title, &change.start)
            || change.before.as_ref().is_some_and(|before| had_been(&before.text))
    }

    fn was(&self, uid: &EventUid, title: &str, start: &str) -> bool {
        let (time, zone) = start.split_once(' ').unwrap_or((start, ""));
        let zone = resolve_zone(zone).map_or_else(|| self.zone.clone(), |zone| zone.rules);
        let began = parse_time(time).and_then(|time| time.local().to_zoned(zone).ok());
        let began = began.map(|at| at.timestamp().as_second());
        let is_on = |day: &Range<i64>| began.is_some_and(|at| day.contains(&at));
        *uid == self.uid || self.fits(title) && self.days.iter().all(is_on)
    }
}

/// What an entry is where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Part {
    /// Somebody's own, which the route takes from.
    Original,
    /// The route made it.
    Copy,
    /// It stood there before, and follows its source.
    Match,
    /// The far side's own: the route has nothing to do with it.
    Own,
    /// Another route made it.
    OfAnotherRoute,
}

/// One calendar of a story.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StoryPlace {
    /// The calendar.
    pub calendar: String,
    /// What it is there.
    pub part: Part,
    /// Whether it stands there; `None` where that is not known.
    pub stands: Option<bool>,
    /// Where.
    pub href: Option<String>,
    /// Under which UID.
    pub uid: Option<String>,
    /// Its title there; untrusted text.
    pub title: String,
    /// Its start there, as iCalendar writes it.
    pub start: String,
    /// The text that stands there, byte for byte.
    pub text: Option<String>,
}

/// One entry, as one route sees it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Story {
    /// Its UID where it comes from.
    pub uid: String,
    /// Its title; untrusted text.
    pub title: String,
    /// Its start as iCalendar writes it.
    pub start: String,
    /// Where it stands, and as what.
    pub places: Vec<StoryPlace>,
    /// Why the route does not take it; `None` where it does.
    pub stopped: Option<LeftOut>,
    /// Occurrences that stay behind of an entry that is taken: [`chestnut_core::Choice::left_behind`].
    pub left_behind: Vec<(Option<String>, ChoiceKey)>,
    /// Whether the route carried it once.
    pub is_carried: bool,
    /// What the next run does about it.
    pub next: Vec<PreviewedChange>,
    /// What is not in step now.
    pub findings: Vec<Finding>,
    /// What an earlier run met with.
    pub told: Option<Told>,
    /// The number of what waits for a person.
    pub held: Option<i64>,
}

impl Story {
    fn of(entry: &Entry) -> Self {
        let (uid, title, start) = (entry.uid().to_string(), entry.title(), start_text(entry));
        Self { uid, title, start, ..Self::default() }
    }
}

/// Looks at the calendars of a route, and tells the stories of the entries that are wanted.
///
/// # Errors
/// One of the calendars cannot be read, or the state cannot be used.
pub async fn stories(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    wanted: &Wanted,
) -> Result<Vec<Story>, RunError> {
    let known = store.route(&rule.name)?;
    let session = begin(rule, store, options, &Silent, known.clone()).await?;
    let comparer = Comparer::of(rule, store, &session, known.as_ref(), options.now);
    let teller =
        Teller { rule, store, session: &session, route: known.map(|route| route.id), comparer, options };
    let mut stories = teller.all(wanted)?;
    stories.sort_by(|a, b| (&a.start, &a.title, &a.uid).cmp(&(&b.start, &b.title, &b.uid)));
    Ok(stories)
}

/// Returns what runs did about wanted entries, and about entries under these UIDs, the newest first; at most `most`.
///
/// # Errors
/// The state cannot be read.
pub fn past_changes(
    store: &Store,
    wanted: &Wanted,
    uids: &BTreeSet<String>,
    most: usize,
) -> Result<Vec<PastChange>, RunError> {
    let mut past = Vec::new();
    store.each_change(|change| {
        if uids.contains(change.uid.as_str()) || wanted.was_in_past(&change) {
            past.push(change);
        }
        past.len() < most
    })?;
    Ok(past)
}

/// Finds wanted entries of a route, so that a run can be about them alone. What was taken back is done again by it.
///
/// # Errors
/// One of the calendars cannot be read, or the state cannot be used.
pub async fn select_entries(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    wanted: &[Wanted],
) -> Result<Selection, RunError> {
    let known = store.route(&rule.name)?;
    let session = begin(rule, store, options, &Silent, known.clone()).await?;
    let comparer = Comparer::of(rule, store, &session, known.as_ref(), options.now);
    let teller =
        Teller { rule, store, session: &session, route: known.map(|route| route.id), comparer, options };
    let mut found = BTreeMap::new();
    for wanted in wanted {
        teller.select(wanted, &mut found)?;
    }
    let mut selection = Selection::default();
    for (object, (side, link)) in found {
        let one = match link {
            Some(link) => {
                let row = store.link(link)?;
                if row.is_some_and(|row| row.reason == LeftOut::Undone.key()) {
                    selection.lifted.push(link);
                }
                Found::Link(link)
            }
            None if rule.ends[side].gives => Found::Free(side, object),
            None => Found::Beside(side, object),
        };
        selection.add(one);
    }
    selection.lifted.sort();
    selection.lifted.dedup();
    Ok(selection)
}

struct Teller<'t, 'r> {
    rule: &'t Rule,
    store: &'t Store,
    session: &'t Session<'r>,
    route: Option<RouteId>,
    comparer: Comparer<'t, 'r>,
    options: &'t RunOptions,
}

impl Teller<'_, '_> {
    fn all(&self, wanted: &Wanted) -> Result<Vec<Story>, RunError> {
        let mut stories = Vec::new();
        let mut links = BTreeSet::new();
        let mut others = Vec::new();
        for side in 0..self.rule.ends.len() {
            let is_behind = side == 0 && self.rule.makes != Makes::Entries;
            for id in self.wanted_in(side, wanted)? {
                if is_behind {
                    stories.extend(self.of_made(id)?);
                    continue;
                }
                match self.link_of(id)? {
                    Some(link) => drop(links.insert(link)),
                    None if self.rule.ends[side].gives => others.push((Found::Free(side, id), side, id)),
                    None => others.push((Found::Beside(side, id), side, id)),
                }
            }
        }
        // What is remembered comes first: it may have moved to a place that belongs to nothing yet.
        for link in links {
            if let Some(Ok(work)) = self.session.work(Found::Link(link))? {
                stories.push(self.of_case(Found::Link(link), &work)?);
            }
        }
        for (found, side, id) in others {
            stories.extend(self.story(found, side, id)?);
        }
        Ok(stories)
    }

    /// Adds wanted objects, with their calendar and the case that they belong to.
    fn select(
        &self,
        wanted: &Wanted,
        found: &mut BTreeMap<ObjectId, (usize, Option<LinkId>)>,
    ) -> Result<(), RunError> {
        for side in 0..self.rule.ends.len() {
            let is_behind = side == 0 && self.rule.makes != Makes::Entries;
            for id in self.wanted_in(side, wanted)? {
                let made = match is_behind {
                    true => self.store.objects_of(id, self.session.mirrors[0].id)?,
                    false => self.store.object(id)?.into_iter().collect(),
                };
                for object in made {
                    found.insert(object.id, (side, self.link_of(object.id)?));
                }
            }
        }
        Ok(())
    }

    /// The link of this route to which an object belongs.
    fn link_of(&self, id: ObjectId) -> Result<Option<LinkId>, RunError> {
        Ok(self.route.map(|route| self.store.link_of(route, id)).transpose()?.flatten())
    }

    /// Objects of a calendar that are wanted.
    fn wanted_in(&self, side: usize, wanted: &Wanted) -> Result<Vec<ObjectId>, RunError> {
        let mirror = self.session.calendar(side);
        let mut found = Vec::new();
        self.store.each_text(mirror.id, |object, text| {
            if wanted.may_be_in(text) {
                found.push(object);
            }
        })?;
        let mut all = Vec::new();
        for id in found {
            let Some(object) = self.store.object(id)? else { continue };
            if self.session.gatherer.stands(object)?.entry().is_some_and(|entry| wanted.is(entry)) {
                all.push(id);
            }
        }
        Ok(all)
    }

    fn story(&self, found: Found, side: usize, id: ObjectId) -> Result<Option<Story>, RunError> {
        match self.session.work(found)? {
            Some(Ok(work)) => Ok(Some(self.of_case(found, &work)?)),
            Some(Err(())) => self.of_nobody(side, id),
            // It belongs to a case that was told of already.
            None => Ok(None),
        }
    }

    /// An entry of the far side's own.
    fn of_nobody(&self, side: usize, id: ObjectId) -> Result<Option<Story>, RunError> {
        let Some(object) = self.store.object(id)? else { return Ok(None) };
        let place = Place { stands: self.session.gatherer.stands(object)?, ..Place::default() };
        let Some(entry) = place.stands.entry() else { return Ok(None) };
        let part = if entry.uid().is_copy() { Part::OfAnotherRoute } else { Part::Own };
        let places = vec![self.place(side, part, &place)];
        Ok(Some(Story { places, ..Story::of(entry) }))
    }

    fn of_case(&self, found: Found, work: &Work) -> Result<Story, RunError> {
        let case = &work.case;
        let row = case.row.as_ref();
        let entry = case.shown();
        let source = case.places.iter().enumerate().find(|(side, _)| self.rule.ends[*side].gives);
        let original = source.and_then(|(_, place)| place.stands.entry());
        let stopped = match (&work.verdict.fate, work.verdict.deletes()) {
            (Fate::LeaveOut(reason), _) => Some(*reason),
            (_, Some(Because::NotTaken(reason))) => Some(reason),
            // What stays without being taken, as `deletions = "keep"` says.
            (Fate::Release, _) => original.and_then(|entry| self.stopped_at_source(entry)),
            _ => work.verdict.lacking,
        };
        let places = case.places.iter().enumerate();
        let is_known = |place: &&Place| place.stands.object().is_some() || place.stood.is_some();
        let places = places.filter(|(_, place)| is_known(place)).map(|(side, place)| {
            let part = match place.origin {
                Origin::Original => Part::Original,
                // A route of this name left it before this one began.
                Origin::Copy if work.is_left_over() => Part::OfAnotherRoute,
                Origin::Copy => Part::Copy,
                Origin::Match => Part::Match,
            };
            self.place(side, part, place)
        });
        let places = places.collect();
        let waiting = self.session.gatherer.question(found, case);
        let mut preview = PreviewReport::empty(self.rule);
        preview.add(self.rule, work, waiting);
        let begun = match entry {
            Some(entry) => Story::of(entry),
            None => Story { title: case.title(), ..Story::default() },
        };
        Ok(Story {
            left_behind: original.map_or_else(Vec::new, |entry| self.left_behind(entry, stopped)),
            places,
            stopped,
            is_carried: row.is_some_and(|row| row.agreed.is_some()),
            next: preview.changes,
            findings: self.comparer.compare_case(found, work).findings,
            told: row.and_then(|row| row.told.clone()),
            held: waiting.filter(|item| item.link.is_some() || item.decision.is_none()).map(|item| item.id),
            ..begun
        })
    }

    /// An entry out of which others are made.
    fn of_made(&self, id: ObjectId) -> Result<Option<Story>, RunError> {
        let Some(object) = self.store.object(id)? else { return Ok(None) };
        let place = Place { stands: self.session.gatherer.stands(object)?, ..Place::default() };
        let Some(entry) = place.stands.entry() else { return Ok(None) };
        let stopped = self.stopped_at_source(entry);
        let mut story = Story {
            places: vec![self.place(0, Part::Original, &place)],
            left_behind: self.left_behind(entry, stopped),
            stopped,
            ..Story::of(entry)
        };
        let made = self.session.mirrors[0].id;
        for part in self.store.objects_of(id, made)? {
            let found = self.link_of(part.id)?.map_or(Found::Free(0, part.id), Found::Link);
            if let Some(Ok(work)) = self.session.work(found)? {
                let one = self.of_case(found, &work)?;
                story.places.extend(one.places.into_iter().filter(|place| place.part != Part::Original));
                story.next.extend(one.next);
                story.findings.extend(one.findings);
                story.is_carried |= one.is_carried;
                story.told = story.told.or(one.told);
                story.held = story.held.or(one.held);
            }
        }
        Ok(Some(story))
    }

    fn policy_of_source(&self) -> Option<RoutePolicy> {
        self.rule.policy_of_source(&self.session.decider().facts, self.options.now)
    }

    fn stopped_at_source(&self, entry: &Entry) -> Option<LeftOut> {
        refusal(&self.policy_of_source()?, entry, false)
    }

    fn left_behind(&self, entry: &Entry, stopped: Option<LeftOut>) -> Vec<(Option<String>, ChoiceKey)> {
        let policy = self.policy_of_source().filter(|_| stopped.is_none());
        policy.map_or_else(Vec::new, |policy| policy.choice.left_behind(entry))
    }

    fn place(&self, side: usize, part: Part, place: &Place) -> StoryPlace {
        let entry = place.stands.entry().or_else(|| place.stood.as_ref().map(|kept| &kept.entry));
        StoryPlace {
            calendar: self.session.calendar(side).end.name.clone(),
            part,
            stands: match &place.stands {
                Stands::Present(..) | Stands::Unread(_) => Some(true),
                Stands::Gone | Stands::Never => Some(false),
                Stands::Unreadable(_) | Stands::Unknown(_) => None,
            },
            href: place.stands.object().map(|object| object.href.to_string()),
            uid: entry.map(|entry| entry.uid().to_string()),
            title: entry.map(Entry::title).unwrap_or_default(),
            start: entry.map(start_text).unwrap_or_default(),
            text: place.stands.text().map(|text| text.text),
        }
    }
}
