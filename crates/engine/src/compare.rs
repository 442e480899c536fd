//! Whether both sides of a route say the same: complete listings and every text read again, and what is remembered
//! asked only why they do not.

use std::collections::BTreeSet;
use std::rc::Rc;

use chestnut_core::{
    Because, ContentKey, Entry, EventUid, FieldDifference, LeftOut, ObjectHref, Origin, PRODID,
    copy_differences, last_changed, refusal, replica_differences,
};
use chestnut_store::{LinkId, LinkState, ObjectState, Route, Store, Told};
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use crate::apply::Work;
use crate::calendar::Calendar;
use crate::case::{Place, start_text};
use crate::decide::{Fate, Step};
use crate::error::RunError;
use crate::gather::Found;
use crate::observe::Observer;
use crate::options::{RunOptions, Selection};
use crate::rule::{Policy, Rule};
use crate::session::{Session, begin};

/// Findings that are remembered of one comparison.
const REMEMBERED: usize = 200;
const PAGE: usize = 5000;

/// What a comparison came to.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Comparison {
    /// Entries of the calendars that give: in step, differing, missing and left out, together.
    pub entries: usize,
    /// Those of them that say the same on all sides.
    pub in_step: usize,
    /// What was found besides, in the order of their days.
    pub findings: Vec<Finding>,
    /// Entries on the far side that are nobody's copies.
    pub own: usize,
    /// Copies there that other routes made.
    pub of_other_routes: usize,
    /// Whether the route ever ran.
    pub has_run: bool,
    /// Findings about changes so young that the next run may still come.
    pub passed_over: usize,
    /// Entries of the far side's own, and copies of other routes: named only where that is asked for.
    #[serde(skip)]
    pub beside: Vec<Finding>,
    /// What a run over the findings alone would look at.
    #[serde(skip)]
    pub selection: Selection,
    /// What the copies look like, until doubles are found.
    #[serde(skip)]
    copies: BTreeSet<Looks>,
    #[serde(skip)]
    looks: Vec<Option<Looks>>,
}

/// How an entry stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It stands there, and says something else.
    Differs,
    /// It does not stand there, and should.
    Missing,
    /// It stands there, and should not.
    Extra,
    /// The route does not take it.
    LeftOut,
    /// It is the far side's own.
    Own,
    /// Another route made it.
    OfAnotherRoute,
}

/// Why it stands like that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "is", rename_all = "kebab-case")]
pub enum Cause {
    /// It changed since the last run: the next one brings it.
    Due,
    /// It waits for a person.
    Held,
    /// The last run could not do it.
    Failed {
        /// What it met with.
        told: Option<Told>,
    },
    /// A server refuses it for good, until it changes.
    Refused {
        /// In which way.
        told: Option<Told>,
    },
    /// Somebody changed, deleted or doubled it on the far side.
    FarEdit,
    /// The route says so.
    LeftOut {
        /// The key that decided.
        key: String,
    },
    /// Nothing explains it.
    Lost,
}

impl Cause {
    /// Returns the stable word for it.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            Self::Due => "due",
            Self::Held => "held",
            Self::Failed { .. } => "failed",
            Self::Refused { .. } => "refused",
            Self::FarEdit => "far-edit",
            Self::LeftOut { .. } => "left-out",
            Self::Lost => "lost",
        }
    }

    /// Tells whether a person should hear of it.
    #[must_use]
    pub fn is_trouble(&self) -> bool {
        !matches!(self, Self::LeftOut { .. })
    }
}

/// One entry that is not in step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// How it stands.
    pub standing: Standing,
    /// Why.
    pub cause: Cause,
    /// The calendar that it stands in, or is missing from.
    pub calendar: String,
    /// Its UID where it comes from; untrusted text.
    pub uid: String,
    /// Its title; untrusted text.
    pub title: String,
    /// Its start as iCalendar writes it.
    pub start: String,
    /// What differs.
    pub differences: Vec<Difference>,
}

/// A property that two calendars say differently.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Difference {
    /// The property, such as `LOCATION`; `(whole)` where an occurrence stands on one side only.
    pub field: String,
    /// The RECURRENCE-ID of an occurrence; empty for the series.
    pub occurrence: String,
    /// What should stand there.
    pub wanted: String,
    /// What does.
    pub found: String,
}

impl From<FieldDifference> for Difference {
    fn from(one: FieldDifference) -> Self {
        Self {
            field: one.field,
            occurrence: one.occurrence.recurrence_id,
            wanted: one.first.join(" | "),
            found: one.second.join(" | "),
        }
    }
}

impl Comparison {
    /// Tells how many findings are of one standing.
    #[must_use]
    pub fn number(&self, standing: Standing) -> usize {
        self.findings.iter().filter(|finding| finding.standing == standing).count()
    }

    /// Tells whether a person should hear of it.
    #[must_use]
    pub fn has_trouble(&self) -> bool {
        self.findings.iter().any(|finding| finding.cause.is_trouble())
    }
}

/// Compares the calendars of a route. What changed within `settled` is passed over.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used: then nothing is said of any entry.
pub async fn compare_route(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
    settled: Option<SignedDuration>,
) -> Result<Comparison, RunError> {
    let known = store.route(&rule.name)?;
    let options = RunOptions { afresh: true, ..options.clone() };
    let session = begin(rule, store, &options, observer, known.clone()).await?;
    let comparer = Comparer { settled, ..Comparer::of(rule, store, &session, known.as_ref(), options.now) };
    let mut comparison = Comparison { has_run: comparer.ran_at.is_some(), ..Comparison::default() };
    let mut open = Vec::new();
    let all = comparer.all(known.map(|route| route.id))?;
    session.each(&all, |found, work| {
        let compared = comparer.compared(found, work)?;
        match compared.findings.iter().any(|finding| finding.cause.is_trouble()) {
            true => open.push((found, compared)),
            false => comparison.add(compared),
        }
        Ok(())
    })?;
    // What differs is read once more before it is told: somebody may have been at work.
    comparer.read_again(&open).await?;
    for (found, _) in open {
        let compared = comparer.compare(found)?;
        match found {
            _ if !compared.findings.iter().any(|finding| finding.cause.is_trouble()) => {}
            Found::Link(link) if compared.findings.iter().any(|finding| finding.cause == Cause::Lost) => {
                comparison.selection.forgotten.push(link);
                comparison.selection.touched.free.extend(comparer.originals(found)?);
            }
            found => comparison.selection.add(found),
        }
        comparison.add(compared);
    }
    comparison.find_doubles();
    let made = session.parts_left_out()?;
    comparison.entries += made.len();
    comparison.findings.extend(made.into_iter().map(|line| Finding {
        standing: Standing::LeftOut,
        cause: Cause::LeftOut { key: line.why.key().to_owned() },
        calendar: line.calendar.unwrap_or_default(),
        uid: String::new(),
        title: line.title,
        start: line.start,
        differences: Vec::new(),
    }));
    for list in [&mut comparison.findings, &mut comparison.beside] {
        list.sort_by(|a, b| {
            (&a.start, &a.title, &a.uid, a.standing).cmp(&(&b.start, &b.title, &b.uid, b.standing))
        });
    }
    remember(rule, store, options.now, &comparison)?;
    Ok(comparison)
}

/// Remembers what a comparison came to, for whoever asks later.
fn remember(rule: &Rule, store: &Store, now: Timestamp, comparison: &Comparison) -> Result<(), RunError> {
    let mut kept = comparison.clone();
    kept.findings.retain(|finding| finding.cause.is_trouble());
    kept.findings.truncate(REMEMBERED);
    let text = serde_json::to_string(&kept).expect("plain values turn into JSON");
    Ok(store.write(|writer| writer.set_comparison(&rule.name, now, &text))?)
}

/// Returns what the last comparison of a route came to, and when that was.
///
/// # Errors
/// The state cannot be used.
pub fn last_comparison(store: &Store, route: &str) -> Result<Option<(Timestamp, Comparison)>, RunError> {
    let kept = store.comparison(route)?;
    Ok(kept.and_then(|(at, text)| Some((at, serde_json::from_str(&text).ok()?))))
}

/// What the next run would look at by itself.
struct News {
    links: BTreeSet<LinkId>,
    objects: BTreeSet<chestnut_store::ObjectId>,
    /// Deletions that wait for a person.
    held: BTreeSet<String>,
}

impl News {
    fn of(session: &Session<'_>) -> Self {
        let touched = &session.touched;
        let objects = touched.free.iter().chain(&touched.beside).map(|(_, object)| *object);
        Self {
            links: touched.links.iter().copied().collect(),
            objects: objects.collect(),
            held: crate::guard::waiting(&session.gatherer.held),
        }
    }

    fn has(&self, found: Found) -> bool {
        match found {
            Found::Link(link) => self.links.contains(&link),
            Found::Free(_, object) | Found::Beside(_, object) => self.objects.contains(&object),
        }
    }
}

/// What one case came to.
#[derive(Default)]
pub(crate) struct Compared {
    entries: usize,
    in_step: usize,
    pub(crate) findings: Vec<Finding>,
    beside: Option<(Finding, Option<Looks>)>,
    /// What its copies look like.
    copies: Vec<Looks>,
    passed_over: usize,
}

/// What something looks like on the far side, to a person.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Looks(String, ContentKey);

pub(crate) struct Comparer<'c, 'r> {
    rule: &'c Rule,
    store: &'c Store,
    session: &'c Session<'r>,
    news: News,
    settled: Option<SignedDuration>,
    ran_at: Option<i64>,
    now: Timestamp,
}

impl<'c, 'r> Comparer<'c, 'r> {
    pub(crate) fn of(
        rule: &'c Rule,
        store: &'c Store,
        session: &'c Session<'r>,
        known: Option<&Route>,
        now: Timestamp,
    ) -> Self {
        let ran_at = known.and_then(|route| route.ran_at);
        Self { rule, store, session, news: News::of(session), settled: None, ran_at, now }
    }

    /// All that the calendars hold, and all that is remembered.
    pub(crate) fn all(&self, route: Option<chestnut_store::RouteId>) -> Result<Vec<Found>, RunError> {
        let everything = self.session.gatherer.touched(&[], self.now.as_second())?;
        let mut links: BTreeSet<LinkId> = everything.links.iter().copied().collect();
        let mut after = None;
        while let Some(route) = route {
            let page = self.store.links_of(route, after, PAGE)?;
            links.extend(&page);
            after = page.last().copied();
            if page.len() < PAGE {
                break;
            }
        }
        let links = links.into_iter().map(Found::Link);
        Ok(links.chain(everything.all().filter(|found| !matches!(found, Found::Link(_)))).collect())
    }

    /// Reads what stands at the places of some cases once more.
    async fn read_again(&self, open: &[(Found, Compared)]) -> Result<(), RunError> {
        let mut hrefs: Vec<BTreeSet<ObjectHref>> = vec![BTreeSet::new(); self.rule.ends.len()];
        for (found, _) in open {
            let work = self.session.work(*found)?.and_then(Result::ok);
            for (side, place) in work.iter().flat_map(|work| work.case.places.iter().enumerate()) {
                hrefs[side].extend(place.stands.object().map(|object| object.href.clone()));
            }
        }
        for (mirror, hrefs) in self.session.mirrors.iter().zip(hrefs) {
            if !matches!(mirror.end.calendar, Calendar::Made(_)) {
                mirror.read_now(&hrefs.into_iter().collect::<Vec<_>>()).await?;
            }
        }
        Ok(())
    }

    /// Where a case stands in calendars that give.
    fn originals(&self, found: Found) -> Result<Vec<(usize, chestnut_store::ObjectId)>, RunError> {
        let Some(Ok(work)) = self.session.work(found)? else { return Ok(Vec::new()) };
        let stands = work.case.places.iter().enumerate().filter(|(side, _)| self.rule.ends[*side].gives);
        Ok(stands.filter_map(|(side, place)| Some((side, place.stands.object()?.id))).collect())
    }

    fn compare(&self, found: Found) -> Result<Compared, RunError> {
        self.compared(found, self.session.work(found)?)
    }

    fn compared(&self, found: Found, work: Option<Result<Work, ()>>) -> Result<Compared, RunError> {
        match work {
            Some(Ok(work)) => Ok(self.compare_case(found, &work)),
            Some(Err(())) => self.nobodys(found),
            None => Ok(Compared::default()),
        }
    }

    /// What stands on the far side, and is no copy of this route.
    fn nobodys(&self, found: Found) -> Result<Compared, RunError> {
        let Found::Beside(side, id) = found else { return Ok(Compared::default()) };
        let Some(object) = self.store.object(id)? else { return Ok(Compared::default()) };
        let looks = object.content.map(|content| Looks(self.rule.ends[side].name.clone(), content));
        let stands = self.session.gatherer.stands(object)?;
        let is_copy = stands.entry().is_some_and(|entry| entry.uid().is_copy());
        let standing = if is_copy { Standing::OfAnotherRoute } else { Standing::Own };
        let finding = self.finding(standing, Cause::LeftOut { key: String::new() }, side, stands.entry());
        // Somebody's own may look the same: only what this program wrote was made out of a copy.
        let is_ours = |entry: &Entry| entry.object().value("PRODID").is_some_and(|id| id == PRODID);
        let tells = !is_copy && stands.entry().is_some_and(is_ours);
        Ok(Compared { beside: Some((finding, looks.filter(|_| tells))), ..Compared::default() })
    }

    pub(crate) fn compare_case(&self, found: Found, work: &Work) -> Compared {
        let is_news = self.news.has(found);
        let mut compared = Compared::default();
        let decider = self.session.decider();
        match &decider.policy {
            Policy::Copies(policy) => self.copy(policy, found, work, is_news, &mut compared),
            Policy::Alike(policy) => self.replicas(policy, work, is_news, &mut compared),
        }
        let young = compared.findings.iter().filter(|finding| self.is_young(finding, work)).count();
        if young > 0 {
            compared.passed_over = young;
            compared.findings.retain(|finding| !self.is_young(finding, work));
        }
        compared
    }

    /// Tells whether it changed so lately that the next run may still come.
    fn is_young(&self, finding: &Finding, work: &Work) -> bool {
        let Some(settled) = self.settled.filter(|_| finding.cause == Cause::Due) else { return false };
        let since = self.now.as_second().saturating_sub(settled.as_secs());
        // What is due changed after the last run.
        let by_run = self.ran_at.is_some_and(|at| at >= since);
        let entries = work.case.places.iter().filter_map(|place| place.stands.entry());
        let changed = entries.filter_map(|entry| last_changed(entry).0).max();
        let changed = changed.and_then(|at| at.to_zoned(jiff::tz::TimeZone::UTC).ok());
        by_run || changed.is_some_and(|at| at.timestamp().as_second() >= since)
    }

    /// One way: the first place is the source.
    fn copy(
        &self,
        policy: &chestnut_core::RoutePolicy,
        found: Found,
        work: &Work,
        is_news: bool,
        compared: &mut Compared,
    ) {
        let [source, far] = &work.case.places[..] else { return };
        let row = work.case.row.as_ref();
        let far_entry = far.stands.entry();
        let is_released = row.is_some_and(|row| row.state == LinkState::Released);
        let stands_as_copy = far.stands.object().is_some() && far.origin == Origin::Copy && !far.let_go;
        let key = |reason: LeftOut| Cause::LeftOut { key: reason.key().to_owned() };
        let keeps = || Cause::LeftOut { key: "deletions".to_owned() };
        if source.stands.object().is_none() {
            let is_source = matches!(found, Found::Link(_)) || stands_as_copy;
            if !is_source || far.stands.object().is_none() {
                return;
            }
            if !stands_as_copy {
                let standing = Standing::Own;
                compared.beside = Some((self.finding(standing, keeps(), 1, far_entry), None));
                return;
            }
            if work.is_left_over() {
                let finding = self.finding(Standing::OfAnotherRoute, key(LeftOut::Copy), 1, far_entry);
                compared.beside = Some((finding, None));
                return;
            }
            let cause = match &work.verdict.fate {
                Fate::Release => keeps(),
                _ if is_released => keeps(),
                // Free-busy time has ends: of what lies outside nothing is known.
                Fate::LeaveOut(LeftOut::OutsideEnds) => key(LeftOut::OutsideEnds),
                // Its source may be one of those.
                Fate::Doubt => key(LeftOut::Unreadable),
                _ => self.cause(found, work, is_news, far),
            };
            compared.findings.push(self.finding(Standing::Extra, cause, 1, far_entry));
            return;
        }
        compared.entries = 1;
        let left_out = |cause: Cause| self.finding(Standing::LeftOut, cause, 0, source.stands.entry());
        let missing_or_other = match far.stands.object() {
            Some(_) => Standing::Differs,
            None => Standing::Missing,
        };
        match (&work.verdict.fate, work.verdict.deletes()) {
            (Fate::LeaveOut(LeftOut::Refused), _) => {
                let cause = Cause::Refused { told: row.and_then(|row| row.told.clone()) };
                compared.findings.push(self.finding(missing_or_other, cause, 1, source.stands.entry()));
                return;
            }
            (Fate::LeaveOut(reason), _) => {
                compared.findings.push(left_out(key(*reason)));
                return;
            }
            (_, Some(because)) => {
                let reason = match because {
                    Because::NotTaken(reason) => reason,
                    Because::Past | Because::Gone | Because::Stranger => LeftOut::OutsideWindow,
                };
                compared.findings.push(left_out(key(reason)));
                let cause = self.cause(found, work, is_news, far);
                compared.findings.push(self.finding(Standing::Extra, cause, 1, far_entry));
                return;
            }
            (Fate::Release, _) => {
                let reason = source.stands.entry().and_then(|entry| refusal(policy, entry, false));
                compared.findings.push(left_out(reason.map_or_else(keeps, key)));
                if stands_as_copy {
                    compared.findings.push(self.finding(Standing::Extra, keeps(), 1, far_entry));
                }
                return;
            }
            _ => {}
        }
        let Some(entry) = source.stands.entry() else {
            compared.findings.push(left_out(key(LeftOut::Unreadable)));
            return;
        };
        let Some(there) = far_entry.filter(|_| !far.let_go) else {
            let cause = self.cause(found, work, is_news, far);
            compared.findings.push(self.finding(missing_or_other, cause, 1, Some(entry)));
            return;
        };
        if far.origin == Origin::Match && !work.verdict.has_work() {
            // What its owner makes of it is their own business.
            compared.in_step = 1;
            return;
        }
        if let Some(content) = far.stands.object().and_then(|object| object.content) {
            compared.copies.push(Looks(self.rule.ends[1].name.clone(), content));
        }
        // Decided from the two texts, not from what is remembered.
        if matches!(work.verdict.steps[1], Step::Accept) {
            compared.in_step = 1;
            return;
        }
        match copy_differences(policy, entry, there, &self.session.gatherer.habits[1]) {
            Ok(differences) if differences.is_empty() => compared.in_step = 1,
            Ok(differences) => {
                let cause = self.cause(found, work, is_news, far);
                let finding = self.finding(Standing::Differs, cause, 1, Some(entry));
                let differences = differences.into_iter().map(Difference::from).collect();
                compared.findings.push(Finding { differences, ..finding });
            }
            Err(reason) => compared.findings.push(left_out(key(reason))),
        }
    }

    /// Kept alike: each place that stands is compared with the first one whose word counts.
    fn replicas(
        &self,
        policy: &chestnut_core::ReplicaPolicy,
        work: &Work,
        is_news: bool,
        compared: &mut Compared,
    ) {
        let places = &work.case.places;
        let row = work.case.row.as_ref();
        let Some(first) = places.iter().position(|place| place.stands.object().is_some()) else { return };
        compared.entries = 1;
        let left_out = match work.verdict.fate {
            Fate::LeaveOut(reason) => Some(reason),
            Fate::Doubt => Some(LeftOut::Unreadable),
            _ => None,
        };
        if let Some(reason) = left_out {
            let cause = match reason {
                LeftOut::Refused => Cause::Refused { told: row.and_then(|row| row.told.clone()) },
                reason => Cause::LeftOut { key: reason.key().to_owned() },
            };
            compared.findings.push(self.finding(
                Standing::LeftOut,
                cause,
                first,
                places[first].stands.entry(),
            ));
            return;
        }
        // Where something is to be written, what is written elsewhere is what should stand.
        let written = |side: &usize| work.verdict.writing(*side).is_some();
        let counts = (0..places.len()).find(|side| places[*side].stands.entry().is_some() && !written(side));
        let counts = counts.unwrap_or(first);
        let Some(word) = places[counts].stands.entry() else {
            let cause = Cause::LeftOut { key: LeftOut::Unreadable.key().to_owned() };
            compared.findings.push(self.finding(Standing::LeftOut, cause, first, None));
            return;
        };
        for side in (0..places.len()).filter(|side| *side != counts) {
            let place = &places[side];
            let cause = || match &work.verdict.lacking {
                Some(LeftOut::Refused) => Cause::Refused { told: row.and_then(|row| row.told.clone()) },
                Some(reason) => Cause::LeftOut { key: reason.key().to_owned() },
                None if place.let_go => Cause::LeftOut { key: "deletions".to_owned() },
                None => self.replica_cause(work, is_news),
            };
            match place.stands.entry() {
                Some(entry) => {
                    let sight = policy.sight(counts).within(policy.sight(side));
                    let habits = &self.session.gatherer.habits;
                    let wanted = (word, &habits[counts]);
                    let differences = replica_differences(sight, wanted, (entry, &habits[side]));
                    if !differences.is_empty() {
                        let finding = self.finding(Standing::Differs, cause(), side, Some(entry));
                        let differences = differences.into_iter().map(Difference::from).collect();
                        compared.findings.push(Finding { differences, ..finding });
                    }
                }
                None => {
                    let standing =
                        if place.stands.object().is_some() { Standing::Differs } else { Standing::Missing };
                    compared.findings.push(self.finding(standing, cause(), side, Some(word)));
                }
            }
        }
        // An entry counts once, however many calendars it is missing from.
        compared.in_step = usize::from(compared.findings.is_empty());
        let worst = |finding: &Finding| (finding.cause.is_trouble(), finding.standing == Standing::Missing);
        if let Some(most) = compared.findings.iter().map(worst).max() {
            let mut told = false;
            compared.findings.retain(|finding| worst(finding) == most && !std::mem::replace(&mut told, true));
        }
        if let [Finding { standing: standing @ Standing::Missing, cause: Cause::LeftOut { .. }, .. }] =
            &mut compared.findings[..]
        {
            *standing = Standing::LeftOut;
        }
    }

    fn replica_cause(&self, work: &Work, is_news: bool) -> Cause {
        let held = matches!(work.verdict.fate, Fate::Hold(_)) || work.verdict.would_mail();
        if held { Cause::Held } else { self.remembered(work).unwrap_or(self.news_or_lost(is_news)) }
    }

    fn news_or_lost(&self, is_news: bool) -> Cause {
        if is_news { Cause::Due } else { Cause::Lost }
    }

    /// What an earlier run remembered of it.
    fn remembered(&self, work: &Work) -> Option<Cause> {
        let row = work.case.row.as_ref()?;
        let told = row.told.clone();
        match row.state {
            LinkState::Held => Some(Cause::Held),
            LinkState::Failed | LinkState::Leaving => Some(Cause::Failed { told }),
            LinkState::Refused => Some(Cause::Refused { told }),
            LinkState::Damaged => {
                let is_same = |place: &Place| {
                    let text = |kept: Option<&Rc<crate::case::Kept>>| kept.map(|kept| kept.text.text.clone());
                    text(place.stands.kept()) == text(place.stood.as_ref())
                };
                work.case.places.iter().all(is_same).then_some(Cause::Failed { told })
            }
            // What a person said stays as it is.
            LinkState::LeftOut
                if [LeftOut::WouldMail.key(), LeftOut::Undone.key()].contains(&row.reason.as_str()) =>
            {
                Some(Cause::LeftOut { key: row.reason.clone() })
            }
            LinkState::InStep | LinkState::LeftOut | LinkState::Released => None,
        }
    }

    /// Why a copy is not what its source says.
    fn cause(&self, found: Found, work: &Work, is_news: bool, far: &Place) -> Cause {
        let deletion = found.deletion(work.case.link).key();
        let is_held = work.verdict.deletes().is_some() && self.news.held.contains(&deletion);
        if is_held || work.verdict.would_mail() {
            return Cause::Held;
        }
        if let Some(cause) = self.remembered(work) {
            return cause;
        }
        let source = &work.case.places[0];
        let says = |kept: Option<&Rc<crate::case::Kept>>| kept.map(|kept| kept.entry.meaning().fingerprint());
        let source_changed = says(source.stands.kept()) != says(source.stood.as_ref());
        let far_changed = far.stood.is_some() && says(far.stands.kept()) != says(far.stood.as_ref());
        if far.let_go || far_changed && !source_changed {
            return Cause::FarEdit;
        }
        // A second copy under the UID of one that has its source: somebody doubled it.
        if matches!(found, Found::Beside(..)) && self.has_linked_twin(far) {
            return Cause::FarEdit;
        }
        self.news_or_lost(is_news)
    }

    fn has_linked_twin(&self, far: &Place) -> bool {
        let (Some(object), Some(route)) = (far.stands.object(), self.session.gatherer.route) else {
            return false;
        };
        let Some(uid) = &object.uid else { return false };
        let twins = self.store.objects_by_uid(object.calendar, uid).unwrap_or_default();
        let is_linked = |id| self.store.link_of(route, id).is_ok_and(|link| link.is_some());
        twins
            .iter()
            .any(|twin| twin.id != object.id && twin.state == ObjectState::Present && is_linked(twin.id))
    }

    fn finding(&self, standing: Standing, cause: Cause, side: usize, entry: Option<&Entry>) -> Finding {
        Finding {
            standing,
            cause,
            calendar: self.session.calendar(side).end.name.clone(),
            uid: entry.map(Entry::uid).map(EventUid::to_string).unwrap_or_default(),
            title: entry.map(Entry::title).unwrap_or_default(),
            start: entry.map(start_text).unwrap_or_default(),
            differences: Vec::new(),
        }
    }
}

impl Comparison {
    fn add(&mut self, one: Compared) {
        self.entries += one.entries;
        self.in_step += one.in_step;
        self.passed_over += one.passed_over;
        self.findings.extend(one.findings);
        self.copies.extend(one.copies);
        if let Some((finding, looks)) = one.beside {
            self.looks.push(looks);
            self.beside.push(finding);
        }
    }

    /// What looks like a copy beside it, and was written by this program, was made out of that copy.
    fn find_doubles(&mut self) {
        let looks = std::mem::take(&mut self.looks);
        let copies = std::mem::take(&mut self.copies);
        for (mut finding, looks) in std::mem::take(&mut self.beside).into_iter().zip(looks) {
            if looks.is_some_and(|looks| copies.contains(&looks)) {
                (finding.standing, finding.cause) = (Standing::Extra, Cause::FarEdit);
                self.findings.push(finding);
                continue;
            }
            match finding.standing {
                Standing::OfAnotherRoute => self.of_other_routes += 1,
                _ => self.own += 1,
            }
            self.beside.push(finding);
        }
    }
}
