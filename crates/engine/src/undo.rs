//! Taking runs back: what they wrote and deleted is put back where nobody has touched it since.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use chestnut_core::{Because, Entry, EventUid, LeftOut, ObjectHref, Origin, Partly, WriteKind, ical::Limits};
use chestnut_store::{BodyId, ChangeAction, LinkId, Object, RouteId, RunId, RunKind, Store, Text, Wrote};

use crate::ahead;
use crate::apply::Work;
use crate::case::{Case, Kept, Stands, is_same_text};
use crate::decide::{Fate, Step, Verdict, Writing};
use crate::error::RunError;
use crate::explain::Wanted;
use crate::gather::Found;
use crate::observe::Observer;
use crate::options::RunOptions;
use crate::retire::forget_route;
use crate::rule::Rule;
use crate::run::{Batch, Instead, lease, run_through};
use crate::session::{Session, begin};
use crate::story::RunReport;

/// What to take back.
#[derive(Debug, Clone)]
pub struct ToUndo {
    /// The runs of one route, the newest first.
    pub runs: Vec<RunId>,
    /// Only these entries; all of them, where none is named.
    pub only: Vec<Wanted>,
    /// The route is not configured any more: nothing is remembered of what is put back.
    pub is_retired: bool,
}

/// How something is put back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum PutBack {
    /// It was created: it is deleted.
    Delete,
    /// It was changed: the text that stood there before is written.
    Replace,
    /// It was deleted: it is created again.
    Restore,
}

/// Something that is put back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undone {
    /// The calendar, by its name in the configuration.
    pub calendar: String,
    /// Where.
    pub href: ObjectHref,
    /// Its title; untrusted text.
    pub title: String,
    /// Its start as iCalendar writes it.
    pub start: String,
    /// How.
    pub how: PutBack,
    /// Other routes that know it: they carry this on.
    pub routes: Vec<String>,
    /// The text that stood there when this was listed; nothing where none did, or where it does not matter.
    pub(crate) stood: Option<BodyId>,
}

/// Something that stays as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftAsIs {
    /// The calendar, by its name in the configuration.
    pub calendar: String,
    /// Its title; untrusted text.
    pub title: String,
    /// Its start as iCalendar writes it.
    pub start: String,
    /// Why.
    pub why: WhyLeft,
}

/// Why something is not put back.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum WhyLeft {
    /// A later run of the same route changed it: that one must be taken back first.
    BuiltOn {
        /// Its number.
        run: i64,
    },
    /// A run of another route changed it since.
    ChangedBy {
        /// Its number.
        run: i64,
        /// The route.
        route: String,
    },
    /// Somebody changed it since.
    ChangedBySomebody,
    /// Its server could write to people because of it.
    WouldMail,
    /// Its text was not kept, or what stands there cannot be read.
    NotKnown,
    /// The route has nothing to do with that calendar any more.
    NoCalendar,
}

/// What taking runs back would do.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct UndoPlan {
    /// What is put back.
    pub undone: Vec<Undone>,
    /// What stays as it is.
    pub left: Vec<LeftAsIs>,
    /// How many are as they were before already.
    pub already: usize,
}

/// What runs came to in one place, taken together.
struct Net {
    side: usize,
    href: ObjectHref,
    uid: EventUid,
    link: Option<LinkId>,
    title: String,
    start: String,
    /// The newest of these runs.
    newest: RunId,
    /// What stood there after the newest.
    now: Option<Text>,
    /// What stood there before the oldest.
    then: Option<Text>,
    /// Somebody else changed it between these runs: those before are left.
    is_broken: bool,
    /// All of these runs had taken others back: what they took back is done again.
    is_redone: bool,
}

/// What becomes of a place.
enum Sort {
    Put(PutBack),
    Already,
    Left(WhyLeft),
}

/// Looks at the calendars of a route, and says what taking runs back would do.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used.
pub async fn plan_undo(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
    what: &ToUndo,
) -> Result<UndoPlan, RunError> {
    let known = store.route(&rule.name)?;
    let session = begin(rule, store, options, observer, known).await?;
    let undoer = Undoer::new(rule, store, what)?;
    let mut plan = UndoPlan { left: undoer.left.clone(), ..UndoPlan::default() };
    for groups in undoer.groups().chunks(PAGE) {
        for grouped in undoer.works(&session, groups)? {
            plan.already += grouped.already;
            plan.left.extend(grouped.left);
            plan.undone.extend(grouped.undone);
        }
    }
    plan.undone.sort_by(|a, b| (a.how, &a.start, &a.title).cmp(&(b.how, &b.start, &b.title)));
    plan.left.sort_by(|a, b| (&a.why, &a.start, &a.title).cmp(&(&b.why, &b.start, &b.title)));
    Ok(plan)
}

/// Takes runs back: what was listed, and nothing else. The route is paused, so that its next run does not do it again.
///
/// # Errors
/// The state cannot be used, or a run of the route is going on.
pub async fn undo(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
    what: &ToUndo,
    confirmed: &UndoPlan,
) -> Result<RunReport, RunError> {
    let lease = lease(&rule.name, store).await?;
    if what.is_retired {
        // A run that was cut off may have left something.
        forget_route(&rule.name, store)?;
    }
    let undoer = Undoer::new(rule, store, what)?;
    let listed: BTreeSet<(&str, &ObjectHref)> =
        confirmed.undone.iter().map(|undone| (undone.calendar.as_str(), &undone.href)).collect();
    let mut groups = undoer.groups();
    groups.retain(|group| {
        group.iter().any(|at| {
            let net = &undoer.nets[*at];
            listed.contains(&(rule.ends[net.side].name.as_str(), &net.href))
        })
    });
    // What is deleted makes room for what is created under the same UID.
    groups.sort_by_key(|group| group.iter().all(|at| undoer.nets[*at].then.is_some()));
    let batch = |session: &Session<'_>, number: usize| -> Result<Batch, RunError> {
        if number == 0 && !what.is_retired {
            // Before anything is put back, and once nobody else runs it.
            store.write(|writer| {
                let route = writer.route(&rule.name)?;
                writer.set_paused(route, true)?;
                writer.note_pause(&rule.name, options.now)
            })?;
        }
        let Some(batch) = groups.chunks(PAGE).nth(number) else { return Ok(None) };
        let works = undoer.works(session, batch)?;
        Ok(Some(works.into_iter().filter_map(|grouped| grouped.work).collect()))
    };
    let undid = what.runs.iter().map(|run| run.0).collect();
    let instead = Instead { kind: RunKind::Undo, undid, batch: &batch };
    let report = run_through(&lease, rule, store, options, observer, Some(&instead)).await?;
    match what.is_retired {
        true => forget_route(&rule.name, store)?,
        false => undoer.lift(store)?,
    }
    Ok(report)
}

const PAGE: usize = 100;

/// What is known of the runs that are taken back.
struct Undoer<'u> {
    rule: &'u Rule,
    nets: Vec<Net>,
    left: Vec<LeftAsIs>,
    later: Vec<Wrote>,
    is_retired: bool,
}

/// A case, and what becomes of its places.
struct Grouped {
    work: Option<Work>,
    undone: Vec<Undone>,
    left: Vec<LeftAsIs>,
    already: usize,
}

impl<'u> Undoer<'u> {
    fn new(rule: &'u Rule, store: &Store, what: &ToUndo) -> Result<Self, RunError> {
        let mut undoer =
            Self { rule, nets: Vec::new(), left: Vec::new(), later: Vec::new(), is_retired: what.is_retired };
        let mut at: BTreeMap<(usize, ObjectHref), usize> = BTreeMap::new();
        for run in &what.runs {
            let is_redone = takes_back(store, *run)?;
            for change in store.changes(*run)?.into_iter().rev().filter(chestnut_store::Change::is_write) {
                let wants = |wanted: &Wanted| wanted.was_changed(&change);
                if !what.only.is_empty() && !what.only.iter().any(wants) {
                    continue;
                }
                let left = |why| LeftAsIs {
                    calendar: change.calendar.clone(),
                    title: change.title.clone(),
                    start: change.start.clone(),
                    why,
                };
                let is_end = |end: &crate::rule::CalendarEnd| end.takes && end.name == change.calendar;
                let Some(side) = rule.ends.iter().position(is_end) else {
                    undoer.left.push(left(WhyLeft::NoCalendar));
                    continue;
                };
                let was_there = matches!(change.action, ChangeAction::Updated | ChangeAction::Deleted);
                if was_there && change.before.is_none() {
                    // Something stood there, and nobody knows what: it was not nothing.
                    undoer.left.push(left(WhyLeft::NotKnown));
                    continue;
                }
                let key = (side, change.href.clone());
                match at.get(&key).map(|at| &mut undoer.nets[*at]) {
                    Some(net) if net.is_broken => {}
                    Some(net) if is_same(text_of(net.then.as_ref()), text_of(change.after.as_ref())) => {
                        net.then = change.before;
                        net.is_redone &= is_redone;
                        net.link = net.link.or(change.link);
                    }
                    Some(net) => {
                        net.is_broken = true;
                        undoer.left.push(left(WhyLeft::ChangedBySomebody));
                    }
                    None => {
                        at.insert(key, undoer.nets.len());
                        undoer.nets.push(Net {
                            side,
                            href: change.href,
                            uid: change.uid,
                            link: change.link,
                            title: change.title,
                            start: change.start,
                            newest: *run,
                            now: change.after,
                            then: change.before,
                            is_broken: false,
                            is_redone,
                        });
                    }
                }
            }
        }
        if let Some(oldest) = what.runs.last() {
            undoer.later = store.writes_after(*oldest)?;
        }
        Ok(undoer)
    }

    /// The places that belong to one case each.
    fn groups(&self) -> Vec<Vec<usize>> {
        let mut groups: BTreeMap<(Option<LinkId>, &str), Vec<usize>> = BTreeMap::new();
        for (at, net) in self.nets.iter().enumerate() {
            let uid = if net.link.is_some() { "" } else { net.uid.as_str() };
            groups.entry((net.link, uid)).or_default().push(at);
        }
        groups.into_values().collect()
    }

    /// What is to be done about the places of some cases.
    fn works(&self, session: &Session<'_>, groups: &[Vec<usize>]) -> Result<Vec<Grouped>, RunError> {
        let nets = || groups.iter().flatten().map(|at| &self.nets[*at]);
        let links: BTreeSet<LinkId> = nets().filter_map(|net| net.link).collect();
        let links = links.into_iter().filter(|_| !self.is_retired).map(Found::Link);
        let (store, ahead) = (session.store(), session.gatherer.ahead(links)?);
        for (side, mirror) in session.mirrors.iter().enumerate() {
            let hrefs: Vec<_> = nets().filter(|net| net.side == side).map(|net| &net.href).collect();
            let found = ahead::at_too(&ahead, store, mirror.id, hrefs)?;
            ahead.ask(|| found.iter().try_for_each(|object| store.cases_at(object.id).map(drop)))?;
        }
        groups.iter().map(|group| self.work(session, group)).collect()
    }

    /// What is to be done about places of one case.
    fn work(&self, session: &Session<'_>, group: &[usize]) -> Result<Grouped, RunError> {
        let store = session.store();
        let link = group.iter().find_map(|at| self.nets[*at].link);
        let known =
            link.filter(|_| !self.is_retired).map(|link| session.gatherer.linked(link)).transpose()?;
        let mut case = known.flatten().unwrap_or_else(|| Case::new(self.rule.ends.len()));
        let mut grouped = Grouped { work: None, undone: Vec::new(), left: Vec::new(), already: 0 };
        let mut steps = vec![Step::Leave; self.rule.ends.len()];
        let mut nets = Vec::new();
        for net in group.iter().map(|at| &self.nets[*at]) {
            let object = store.object_at(session.mirrors[net.side].id, &net.href)?;
            let stands = object.map(|object| session.gatherer.stands(object)).transpose()?;
            let stands = stands.unwrap_or_default();
            let place = &mut case.places[net.side];
            let elsewhere = place.stands.object().is_some_and(|object| object.href != net.href);
            match self.sort(session, net, &stands)? {
                Sort::Put(_) if elsewhere || !matches!(steps[net.side], Step::Leave) => {
                    grouped.left.push(self.left(net, WhyLeft::ChangedBySomebody))
                }
                Sort::Put(how) => {
                    if place.stands.object().is_none() && case.link.is_none() {
                        place.origin =
                            if self.rule.ends[net.side].gives { Origin::Original } else { Origin::Copy };
                    }
                    place.stands = stands;
                    let put = match &net.then {
                        None => Some(Step::Delete(Because::Gone)),
                        Some(text) => step(session, net.side, how, &text.text),
                    };
                    match put {
                        Some(step) => {
                            steps[net.side] = step;
                            nets.push((net, how));
                        }
                        None => grouped.left.push(self.left(net, WhyLeft::NotKnown)),
                    }
                }
                Sort::Already => grouped.already += 1,
                Sort::Left(why) => grouped.left.push(self.left(net, why)),
            }
        }
        if nets.is_empty() {
            return Ok(grouped);
        }
        let verdict = self.verdict(&mut case, steps, &nets);
        let silenced = session.decider().silenced(&case, verdict.clone());
        let mut verdict = verdict;
        nets.retain(|(net, _)| {
            let is_same = is_same_step(&verdict.steps[net.side], &silenced.steps[net.side]);
            if !is_same {
                verdict.steps[net.side] = Step::Leave;
                grouped.left.push(self.left(net, WhyLeft::WouldMail));
            }
            is_same
        });
        if nets.is_empty() {
            return Ok(grouped);
        }
        for (net, how) in &nets {
            grouped.undone.push(Undone {
                calendar: self.rule.ends[net.side].name.clone(),
                href: net.href.clone(),
                title: net.title.clone(),
                start: net.start.clone(),
                how: *how,
                routes: self.others(session, &case, net)?,
                stood: None,
            });
        }
        let mut work = Work::once(case, verdict);
        for (net, _) in &nets {
            work.place_at(net.side, &net.href);
        }
        grouped.work = Some(work);
        Ok(grouped)
    }

    fn left(&self, net: &Net, why: WhyLeft) -> LeftAsIs {
        let calendar = self.rule.ends[net.side].name.clone();
        LeftAsIs { calendar, title: net.title.clone(), start: net.start.clone(), why }
    }

    /// Whether nobody has touched a place since, byte for byte.
    fn sort(&self, session: &Session<'_>, net: &Net, stands: &Stands) -> Result<Sort, RunError> {
        let calendar = session.mirrors[net.side].id;
        let now = match stands {
            Stands::Never | Stands::Gone => None,
            Stands::Present(_, kept) => Some(kept.text.text.as_str()),
            Stands::Unreadable(_) | Stands::Unread(_) | Stands::Unknown(_) => {
                return Ok(Sort::Left(WhyLeft::NotKnown));
            }
        };
        if is_same(now, text_of(net.then.as_ref())) {
            return Ok(Sort::Already);
        }
        if !is_same(now, text_of(net.now.as_ref())) {
            return Ok(Sort::Left(self.who(session.store(), net, now)?));
        }
        Ok(match (&net.now, &net.then) {
            (Some(_), None) => Sort::Put(PutBack::Delete),
            (Some(_), Some(_)) => Sort::Put(PutBack::Replace),
            (None, _) => {
                // Somebody has made it anew elsewhere.
                let again = session.store().objects_by_uid(calendar, &net.uid)?;
                match again.is_empty() {
                    true => Sort::Put(PutBack::Restore),
                    false => Sort::Left(WhyLeft::ChangedBySomebody),
                }
            }
        })
    }

    /// Who changed a place since.
    fn who(&self, store: &Store, net: &Net, now: Option<&str>) -> Result<WhyLeft, RunError> {
        let name = &self.rule.ends[net.side].name;
        let is_here =
            |wrote: &&Wrote| wrote.run > net.newest && wrote.calendar == *name && wrote.href == net.href;
        let Some(last) = self.later.iter().rev().find(is_here) else {
            return Ok(WhyLeft::ChangedBySomebody);
        };
        let after = last.after.map(|body| store.text(body)).transpose()?.flatten();
        Ok(match is_same(after.as_deref(), now) {
            true if last.route == self.rule.name => {
                // The first that builds on it is not enough: all later ones have to be taken back.
                WhyLeft::BuiltOn { run: last.run.0 }
            }
            true => WhyLeft::ChangedBy { run: last.run.0, route: last.route.clone() },
            false => WhyLeft::ChangedBySomebody,
        })
    }

    /// All calendars of the case are in step with what stands there, although they differ.
    fn verdict(&self, case: &mut Case, steps: Vec<Step>, nets: &[(&Net, PutBack)]) -> Verdict {
        if self.is_retired {
            return Verdict::of_steps(steps, Fate::Forget);
        }
        let restored = nets.iter().find_map(|(net, _)| Kept::of(None, net.then.as_ref()?.text.clone()));
        let agreed = case.agreed.clone().or(restored);
        let is_redone = nets.iter().all(|(net, _)| net.is_redone);
        for (side, place) in case.places.iter_mut().enumerate() {
            let is_put = nets.iter().any(|(net, _)| net.side == side);
            if is_redone && !is_put {
                // What it said that nobody was told of, is said again.
                place.stood = place.stood.take().filter(|_| place.in_step_with.is_some());
                continue;
            }
            let is_news = place.stands.text().map(|text| text.text) != text_kept(place.stood.as_ref());
            match &place.stands {
                Stands::Unreadable(_) | Stands::Unread(_) | Stands::Unknown(_) => continue,
                Stands::Present(_, kept) => {
                    // What was owed to a place is owed again, should this be taken back.
                    let owed_since = place.in_step_with.take().or_else(|| place.stood.take());
                    place.in_step_with = match (is_put, is_news) {
                        (true, _) => agreed.clone(),
                        (false, true) => None,
                        (false, false) => owed_since,
                    };
                    place.stood = Some(Rc::clone(kept));
                }
                Stands::Never | Stands::Gone => (place.stood, place.in_step_with) = (None, None),
            }
            (place.let_go, place.refused) = (false, None);
        }
        case.agreed.clone_from(&agreed);
        let deletes_all = steps.iter().all(|step| matches!(step, Step::Leave | Step::Delete(_)));
        let fate = if is_redone && deletes_all { Fate::Keep } else { Fate::LeaveOut(LeftOut::Undone) };
        Verdict { agreed, ..Verdict::of_steps(steps, fate) }
    }

    /// Other routes that know what stands in a place.
    fn others(&self, session: &Session<'_>, case: &Case, net: &Net) -> Result<Vec<String>, RunError> {
        let Some(object) = case.places[net.side].stands.object() else { return Ok(Vec::new()) };
        let mut routes = routes_at(session, object)?;
        routes.retain(|name| *name != self.rule.name);
        Ok(routes)
    }

    /// What was done again is decided like anything else from now on.
    fn lift(&self, store: &Store) -> Result<(), RunError> {
        let Some(route) = store.route(&self.rule.name)? else { return Ok(()) };
        for net in self.nets.iter().filter(|net| net.is_redone) {
            if let Some(link) = self.link_now(store, route.id, net)? {
                store.write(|writer| writer.lift(link, None))?;
            }
        }
        Ok(())
    }

    fn link_now(&self, store: &Store, route: RouteId, net: &Net) -> Result<Option<LinkId>, RunError> {
        let Some(mirror) = store.mirror(&self.rule.ends[net.side].calendar.place())? else { return Ok(None) };
        let Some(object) = store.object_at(mirror.id, &net.href)? else { return Ok(None) };
        let Some(link) = store.link_of(route, object.id)? else { return Ok(None) };
        let row = store.link(link)?;
        Ok(row.filter(|row| row.reason == LeftOut::Undone.key()).map(|_| link))
    }
}

fn text_kept(kept: Option<&Rc<Kept>>) -> Option<String> {
    kept.map(|kept| kept.text.text.clone())
}

fn text_of(text: Option<&Text>) -> Option<&str> {
    text.map(|text| text.text.as_str())
}

/// Writes a text as it stood; nothing where it is none.
pub(crate) fn step(session: &Session<'_>, side: usize, how: PutBack, text: &str) -> Option<Step> {
    let kind = match how {
        PutBack::Delete | PutBack::Replace => WriteKind::Update,
        PutBack::Restore => WriteKind::Create,
    };
    // As RFC 5545, 3.1 wants it: what is read out of XML has lost it.
    let text = text.replace("\r\n", "\n").replace('\n', "\r\n");
    let entry = Entry::parse(&text, &Limits::default()).ok()?;
    let sight = session.decider().sight(side);
    Some(Step::Write(Box::new(Writing {
        kind,
        view: sight.of_far_side(&entry).fingerprint(),
        entry,
        text,
        sight,
        partly: Partly::default(),
        comes_back: false,
    })))
}

/// Names the routes that know an object.
pub(crate) fn routes_at(session: &Session<'_>, object: &Object) -> Result<Vec<String>, RunError> {
    let cases = session.store().cases_at(object.id)?;
    Ok(cases.into_iter().map(|(_, route, _)| route).collect())
}

/// Nothing, or the same text.
pub(crate) fn is_same(one: Option<&str>, other: Option<&str>) -> bool {
    match (one, other) {
        (None, None) => true,
        (Some(one), Some(other)) => is_same_text(one, other),
        _ => false,
    }
}

/// Tells whether nothing was held back.
pub(crate) fn is_same_step(one: &Step, other: &Step) -> bool {
    match (one, other) {
        (Step::Write(one), Step::Write(other)) => one.text == other.text,
        (Step::Delete(_), Step::Delete(_)) => true,
        _ => false,
    }
}

/// Tells whether a run took others back; one that took such a run back has done again what was taken back.
fn takes_back(store: &Store, run: RunId) -> Result<bool, RunError> {
    let mut takes_back = false;
    let mut next = Some(run);
    while let Some(run) = next {
        next = match store.run(run)? {
            Some(record) if record.kind == RunKind::Undo => {
                takes_back = !takes_back;
                record.summary.undid.iter().min().map(|run| RunId(*run)).filter(|before| *before < run)
            }
            _ => None,
        };
    }
    Ok(takes_back)
}
