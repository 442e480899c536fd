//! A run whose calendars were looked at: what there is to decide, and its cases one after the other.

use std::cell::RefCell;
use std::collections::BTreeSet;

use chestnut_core::{Because, shows_agent_honoured};
use chestnut_store::{CalendarFacts, Route, Store, route_lease};

use crate::apply::{Work, habits_of};
use crate::calendar::Calendar;
use crate::case::Case;
use crate::decide::{Decider, Fate, Step, Verdict};
use crate::derive::Maker;
use crate::error::{ClocksApart, FormerEnd, PresentEnd, RunError};
use crate::gather::{Beside, Found, Gatherer, Touched};
use crate::guard::{Decided, Deletion, Sorted};
use crate::mirror::{Look, Mirror};
use crate::observe::{Observer, Phase, Progress};
use crate::options::{Only, RunOptions};
use crate::relocate::recognise;
use crate::rule::{CalendarEnd, Makes, Rule};
use crate::story::PreviewedChange;

/// Cases that are looked at, and recorded, together.
pub(crate) const PAGE: usize = 200;
/// Clocks this far apart say nothing about what is past, in seconds.
const FAR_APART: i64 = 86_400;

/// A run whose mirrors are up to date.
pub(crate) struct Session<'r> {
    store: &'r Store,
    pub(crate) gatherer: Gatherer<'r>,
    pub(crate) decider: RefCell<Decider<'r>>,
    pub(crate) touched: Touched,
    pub(crate) mirrors: Vec<Mirror<'r>>,
    /// The calendar behind a made one.
    pub(crate) behind: Option<Mirror<'r>>,
    /// The numbers of change at the beginning.
    pub(crate) seqs: Vec<i64>,
    answers: Decided,
    pub(crate) look: Look,
    pub(crate) clocks_apart: Option<ClocksApart>,
}

impl<'r> Session<'r> {
    /// Says which of the deletions of this run may be done. `linked` are the cases with a copy, without these of
    /// deletions that belong to no case yet.
    pub(crate) fn sorted(
        &self,
        deletions: Vec<(Deletion, Because)>,
        linked: usize,
        options: &RunOptions,
    ) -> Sorted {
        let orphans = deletions.iter().filter(|(d, _)| matches!(d, Deletion::Beside(..))).count();
        let limit = self.gatherer.rule.deletion_limit;
        self.answers.sort(deletions, limit, linked + orphans, options.allow_deletions)
    }

    /// The mirror of one of the route's calendars; of the one behind, where entries are made out of it.
    pub(crate) fn calendar(&self, side: usize) -> &Mirror<'r> {
        match (side, &self.behind) {
            (0, Some(behind)) => behind,
            (side, _) => &self.mirrors[side],
        }
    }

    /// What is known of one of the calendars as a whole.
    pub(crate) fn facts(&self, side: usize) -> CalendarFacts {
        self.calendar(side).facts()
    }

    /// Names the calendars that are written, and whose server writes to people because of entries.
    pub(crate) fn schedulers(&self) -> Vec<String> {
        let ends = self.gatherer.rule.ends.iter().enumerate().filter(|(_, end)| end.takes);
        let writes = |side: usize| self.decider.borrow().policy.scheduling(side).may_write();
        ends.filter(|(side, _)| writes(*side)).map(|(_, end)| end.name.clone()).collect()
    }

    pub(crate) fn store(&self) -> &'r Store {
        self.store
    }

    pub(crate) fn decider(&self) -> std::cell::Ref<'_, Decider<'r>> {
        self.decider.borrow()
    }

    /// Makes the case of something that was found, and decides it. An error is an entry of somebody's own, which stays.
    pub(crate) fn work(&self, found: Found) -> Result<Option<Result<Work, ()>>, RunError> {
        match found {
            Found::Link(link) => Ok(self.linked(link)?.map(Ok)),
            Found::Free(side, object) => Ok(self.free(side, object)?.map(Ok)),
            Found::Beside(side, object) => self.beside(side, object),
        }
    }

    /// Gives `each` what was found, one after the other, with its case as `work` makes it.
    pub(crate) fn each(
        &self,
        all: &[Found],
        mut each: impl FnMut(Found, Option<Result<Work, ()>>) -> Result<(), RunError>,
    ) -> Result<(), RunError> {
        for batch in all.chunks(PAGE) {
            let _ahead = self.gatherer.ahead(batch.iter().copied())?;
            batch.iter().try_for_each(|found| each(*found, self.work(*found)?))?;
        }
        Ok(())
    }

    pub(crate) fn linked(&self, link: chestnut_store::LinkId) -> Result<Option<Work>, RunError> {
        let case = self.gatherer.linked(link)?;
        case.map(|case| self.decided(case)).transpose()
    }

    pub(crate) fn free(
        &self,
        side: usize,
        object: chestnut_store::ObjectId,
    ) -> Result<Option<Work>, RunError> {
        let case = self.gatherer.free(side, object)?;
        case.map(|case| self.decided(case)).transpose()
    }

    pub(crate) fn decided(&self, case: Case) -> Result<Work, RunError> {
        self.note_agents(&case)?;
        let mut verdict = self.decider.borrow().decide(&case);
        let is_orphan = case.link.is_none() && verdict.deletes() == Some(Because::Gone);
        if is_orphan && self.gatherer.may_hide_a_source()? {
            verdict.doubt();
            self.read_all_next()?;
        }
        Ok(Work::new(case, verdict))
    }

    /// Has the next run read what this one did not need: a source may be among it.
    fn read_all_next(&self) -> Result<(), RunError> {
        for side in (0..self.mirrors.len()).filter(|side| self.gatherer.rule.ends[*side].gives) {
            let source = self.calendar(side);
            if source.facts().unread_before.is_some() {
                source.note(|facts| facts.unread_before = Some(i64::MAX))?;
            }
        }
        Ok(())
    }

    /// Learns from what stands there whether a server leaves alone whom a client looks after.
    fn note_agents(&self, case: &Case) -> Result<(), RunError> {
        for (side, place) in case.places.iter().enumerate() {
            let is_news = || {
                let decider = self.decider.borrow();
                let may_write = decider.rule.ends[side].takes && decider.policy.scheduling(side).may_write();
                may_write && !decider.facts[side].honours_agent
            };
            if is_news() && place.stands.entry().is_some_and(shows_agent_honoured) {
                self.mirrors[side].note(|facts| facts.honours_agent = true)?;
                self.decider.borrow_mut().facts[side].honours_agent = true;
            }
        }
        Ok(())
    }

    /// `Err` is somebody's entry that stays.
    fn beside(
        &self,
        side: usize,
        object: chestnut_store::ObjectId,
    ) -> Result<Option<Result<Work, ()>>, RunError> {
        Ok(match self.gatherer.beside(side, object)? {
            None => None,
            Some(Beside::Nobodys) => Some(Err(())),
            Some(Beside::Orphan(case)) => Some(Ok(self.decided(*case)?)),
            Some(Beside::Stranger(case)) => {
                let mut steps = vec![Step::Leave; case.places.len()];
                steps[side] = Step::Delete(Because::Stranger);
                let verdict = self.decider.borrow().silenced(&case, Verdict::of_steps(steps, Fate::Keep));
                // It belongs to no case that could wait.
                match verdict.would_mail() {
                    true => Some(Err(())),
                    false => Some(Ok(Work::new(*case, verdict))),
                }
            }
        })
    }

    pub(crate) fn parts_left_out(&self) -> Result<Vec<PreviewedChange>, RunError> {
        let Some(behind) = &self.behind else { return Ok(Vec::new()) };
        let mut lines = Vec::new();
        for (object, reason) in self.store.parts_left_out(self.mirrors[0].id)? {
            let Some(object) = self.store.object(object)? else { continue };
            let mut case = Case::new(1);
            case.places[0].stands = self.gatherer.stands(object)?;
            let calendar = Some(behind.end.name.clone());
            lines.push(PreviewedChange::left_out(self.gatherer.rule, calendar, &case, reason));
        }
        Ok(lines)
    }
}

/// Where the calendar stands that is made for a route.
pub(crate) fn made_place(route: &str) -> String {
    format!("made {route}")
}

/// Looks at the calendars of a route, and finds what there is to decide.
pub(crate) async fn begin<'r>(
    rule: &'r Rule,
    store: &'r Store,
    options: &RunOptions,
    observer: &dyn Observer,
    known: Option<Route>,
) -> Result<Session<'r>, RunError> {
    let known = between_the_same(rule, store, options, known).await?;
    observer.progress(Progress { phase: Phase::Surveying, done: 0, total: 0 });
    let now = options.now.as_second();
    let has_run = known.as_ref().is_some_and(|route| route.ran_at.is_some());
    let mut mirrors = refreshed(rule, store, options, has_run).await?;
    let apart = mirrors.iter().filter_map(|mirror| {
        let seconds = (mirror.date()? - now).abs();
        Some(ClocksApart { seconds, calendar: mirror.end.name.clone() })
    });
    let clocks_apart = apart.max_by_key(|apart| apart.seconds).filter(|apart| apart.seconds >= FAR_APART);
    let facts: Vec<CalendarFacts> = mirrors.iter().map(Mirror::facts).collect();
    let sources: Vec<_> = mirrors.iter().filter(|mirror| mirror.end.gives).map(|mirror| mirror.id).collect();
    let behind = make_out_of_source(rule, store, options, &facts, &mut mirrors)?;
    let settings = rule.settings();
    let changed = known.as_ref().is_some_and(|route| !route.rule.is_empty() && route.rule != settings);
    // A run under a clock that was ahead decided for a day that has not come.
    let was_ahead = known.as_ref().and_then(|route| route.ran_at).is_some_and(|at| at > now);
    if let Some(route) = &known
        && (changed || was_ahead || route.rule.is_empty())
    {
        store.write(|writer| writer.set_rule(route.id, &settings, &rule.places(), changed || was_ahead))?;
    }
    let id = known.as_ref().map(|route| route.id);
    let held = id.map(|id| store.held(Some(id))).transpose()?.unwrap_or_default();
    let answers = Decided::of(&held);
    let seqs = mirrors.iter().map(Mirror::seq).collect::<Result<Vec<_>, _>>()?;
    let policy = rule.policy(&facts, rule.deletions, options.now);
    let gatherer = Gatherer {
        carry: policy.carry().clone(),
        told: std::cell::OnceCell::new(),
        missed: std::cell::OnceCell::new(),
        sources,
        hides: std::cell::OnceCell::new(),
        store,
        rule,
        route: id,
        had_links: id
            .map(|id| store.links_of(id, None, 1))
            .transpose()?
            .is_some_and(|first| !first.is_empty()),
        mirrors: mirrors.iter().map(|mirror| mirror.id).collect(),
        habits: mirrors.iter().map(|mirror| habits_of(&mirror.facts().habits)).collect(),
        claimed: RefCell::default(),
        awaited: RefCell::default(),
        held,
    };
    let begins_anew = !has_run && store.was_retired(&rule.name)?;
    let mut seen = known.map(|route| route.seen).unwrap_or_default();
    if changed || was_ahead {
        // As it was stored with the rule.
        seen.clear();
    }
    let touched = match options.only.as_deref() {
        Some(Only::These(selection)) => selection.touched.clone(),
        Some(Only::Probe(spans)) => gatherer.probes(spans, &seen, now)?,
        None => gatherer.touched(&seen, now)?,
    };
    let count = touched.links.len() + touched.free.len();
    observer.progress(Progress { phase: Phase::Fetching, done: count, total: count });
    let decider = Decider { rule, policy, facts, now: options.now, form: rule.form(), begins_anew };
    Ok(Session {
        store,
        gatherer,
        decider: RefCell::new(decider),
        touched,
        look: look_at(rule, &rule.ends[rule.ends.len() - 1], options),
        mirrors,
        behind,
        seqs,
        answers,
        clocks_apart,
    })
}

/// Sees that the route's calendars are several, and those of its last run; at new places, where they moved. Returns what is
/// known of the route then.
async fn between_the_same(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    mut known: Option<Route>,
) -> Result<Option<Route>, RunError> {
    let places: Vec<_> = rule.ends.iter().map(|end| end.calendar.place()).collect();
    if let Some(twice) = places.iter().enumerate().find(|(at, place)| places[..*at].contains(place)) {
        return Err(RunError::SameCalendar { route: rule.name.clone(), place: twice.1.clone() });
    }
    let ends = rule.places();
    let is_elsewhere = |route: &&Route| !route.ends.is_empty() && route.ends != ends;
    if let Some(route) = known.as_ref().filter(is_elsewhere)
        // A run has tried that, under its own lease.
        && let Ok(_lease) = store.lease(&route_lease(&rule.name))
        && !recognise(rule, store, route, options.now).await?.is_empty()
    {
        known = store.route(&rule.name)?;
    }
    if let Some(route) = known.as_ref().filter(is_elsewhere) {
        let before: Vec<FormerEnd> = route.places().map(FormerEnd::of).collect();
        let stood: BTreeSet<&String> = before.iter().map(|end| &end.place).collect();
        let is_turned = stood == places.iter().collect();
        let present = |end: &CalendarEnd| PresentEnd {
            calendar: end.name.clone(),
            account: end.account.clone(),
            place: end.calendar.place(),
        };
        let now = rule.ends.iter().map(present).collect();
        return Err(RunError::OtherCalendars { route: rule.name.clone(), before, now, is_turned });
    }
    Ok(known)
}

/// How a calendar of the route is looked at.
fn look_at(rule: &Rule, end: &CalendarEnd, options: &RunOptions) -> Look {
    let start = rule.window.at(options.now, &rule.zone).range.start;
    Look { needed_from: (!end.takes).then_some(start), ..options.look(rule.full_look_every) }
}

/// The mirrors of the route's calendars, up to date.
async fn refreshed<'r>(
    rule: &Rule,
    store: &'r Store,
    options: &RunOptions,
    has_run: bool,
) -> Result<Vec<Mirror<'r>>, RunError> {
    let mirrors: Vec<Mirror<'r>> =
        rule.ends.iter().map(|end| Mirror::of(store, end)).collect::<Result<_, _>>()?;
    let looks = mirrors.iter().map(|mirror| async move {
        mirror.refresh(&look_at(rule, &mirror.end, options)).await?;
        if !mirror.end.takes {
            mirror.end.calendar.let_go();
        }
        Ok::<(), RunError>(())
    });
    futures_util::future::join_all(looks).await.into_iter().collect::<Result<Vec<()>, _>>()?;
    if !has_run && holds_own_copies(rule, store, &mirrors)? {
        // Which of them has no source any more, only all of the sources tell.
        for mirror in mirrors.iter().filter(|mirror| !mirror.end.takes) {
            let all = Look { needed_from: None, ..look_at(rule, &mirror.end, options) };
            mirror.refresh(&all).await?;
        }
    }
    Ok(mirrors)
}

/// Where a route carries what is made out of its source, makes it: the made calendar takes the source's place. Returns the
/// source.
fn make_out_of_source<'r>(
    rule: &Rule,
    store: &'r Store,
    options: &RunOptions,
    facts: &[CalendarFacts],
    mirrors: &mut [Mirror<'r>],
) -> Result<Option<Mirror<'r>>, RunError> {
    if rule.makes == Makes::Entries || rule.ends.len() != 2 {
        return Ok(None);
    }
    let made = CalendarEnd::new(&rule.ends[0].name, None, Calendar::Made(made_place(&rule.name)));
    let made = Mirror::of(store, &CalendarEnd { gives: true, ..made })?;
    if let Some(policy) = rule.policy_of_source(facts, options.now) {
        let seq = mirrors[0].seq()?;
        let maker = Maker {
            rule,
            store,
            behind: mirrors[0].id,
            made: &made,
            policy: &policy,
            now: options.now,
            afresh: options.afresh,
        };
        maker.make(seq)?;
    }
    Ok(Some(std::mem::replace(&mut mirrors[0], made)))
}

/// Tells whether copies that a route of this name wrote stand in a calendar that only takes.
fn holds_own_copies(rule: &Rule, store: &Store, mirrors: &[Mirror<'_>]) -> Result<bool, RunError> {
    let mark = rule.key.copy_mark();
    for mirror in mirrors.iter().filter(|mirror| !mirror.end.gives) {
        if !store.marked(None, mirror.id, &mark)?.is_empty() {
            return Ok(true);
        }
    }
    Ok(false)
}
