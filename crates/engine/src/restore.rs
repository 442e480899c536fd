//! A calendar as it stands, kept; and put back as it stood.

use std::cell::OnceCell;
use std::collections::BTreeSet;

use chestnut_core::{Because, Entry, EventUid, ObjectHref, RouteKey, SnapshotEntry, ical::Limits};
use chestnut_store::{Object, ObjectState, RunKind, Store};
use jiff::Timestamp;

use crate::ahead;
use crate::apply::Work;
use crate::case::{Case, Stands};
use crate::decide::{Fate, Step, Verdict};
use crate::error::RunError;
use crate::mirror::{Look, Mirror};
use crate::observe::Observer;
use crate::options::RunOptions;
use crate::retire::forget_route;
use crate::rule::{CalendarEnd, Rule};
use crate::run::{Batch, Instead, lease, run_through};
use crate::session::{Session, begin};
use crate::story::RunReport;
use crate::undo::{LeftAsIs, PutBack, UndoPlan, Undone, WhyLeft, is_same, is_same_step, routes_at, step};

/// What to put back.
#[derive(Debug, Clone)]
pub struct ToRestore {
    /// How it stood.
    pub entries: Vec<SnapshotEntry>,
    /// What goes.
    pub goes: Goes,
}

/// What is deleted where a calendar is put back, of what stands there and is not put back.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Goes {
    /// Nothing.
    #[default]
    Nothing,
    /// Everything.
    Everything,
    /// What stands at these places: doubles, or copies.
    These(BTreeSet<ObjectHref>),
}

impl Goes {
    fn is(&self, href: &ObjectHref) -> bool {
        match self {
            Self::Nothing => false,
            Self::Everything => true,
            Self::These(these) => these.contains(href),
        }
    }
}

/// How a calendar stands.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Standing {
    /// What stands where, by href.
    pub entries: Vec<(ObjectHref, String)>,
    /// What cannot be read, and is not among them.
    pub unreadable: Vec<ObjectHref>,
}

/// Looks at a calendar, and returns all that stands there.
///
/// # Errors
/// It cannot be read, or the state cannot be used.
pub async fn take_snapshot(store: &Store, end: &CalendarEnd, now: Timestamp) -> Result<Standing, RunError> {
    let mirror = Mirror::of(store, end)?;
    mirror.refresh(&Look::once(now, None)).await?;
    let mut standing = Standing::default();
    for objects in store.all_objects(mirror.id)?.chunks(PAGE) {
        let _ahead = ahead::texts_of(store, objects)?;
        for object in objects {
            let text = object.body.map(|body| store.text(body)).transpose()?.flatten();
            match text.filter(|_| object.state == ObjectState::Present) {
                Some(text) => standing.entries.push((object.href.clone(), text)),
                None => standing.unreadable.push(object.href.clone()),
            }
        }
    }
    Ok(standing)
}

/// The rule of a run that puts one calendar back, or tidies it: it remembers nothing.
pub(crate) fn rule_of(end: &CalendarEnd, goes: &Goes) -> Rule {
    let what = if matches!(goes, Goes::These(_)) { TIDY } else { RESTORE };
    let name = format!("{what}{}", end.name);
    Rule::two_way(&name, vec![end.clone()], RouteKey::new(b"", &name))
}

/// Says what putting a calendar back would do.
///
/// # Errors
/// It cannot be read, or the state cannot be used.
pub async fn plan_restore(
    end: &CalendarEnd,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
    what: &ToRestore,
) -> Result<UndoPlan, RunError> {
    let rule = rule_of(end, &what.goes);
    let session = begin(&rule, store, options, observer, None).await?;
    let restorer = Restorer { end: &rule.ends[0], what };
    let mut plan = UndoPlan::default();
    for part in restorer.parts(&session)? {
        match restorer.work(&session, &part)? {
            Sorted::Already => plan.already += 1,
            Sorted::Left(left) => plan.left.push(left),
            Sorted::Put(undone, _) => plan.undone.push(undone),
        }
    }
    plan.undone.sort_by(|a, b| (a.how, &a.start, &a.title).cmp(&(b.how, &b.start, &b.title)));
    plan.left.sort_by(|a, b| (&a.why, &a.start, &a.title).cmp(&(&b.why, &b.start, &b.title)));
    Ok(plan)
}

/// Puts a calendar back: what was listed, and nothing else.
///
/// # Errors
/// The state cannot be used, or another such run is going on.
pub async fn restore(
    end: &CalendarEnd,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
    what: &ToRestore,
    confirmed: &UndoPlan,
) -> Result<RunReport, RunError> {
    let rule = rule_of(end, &what.goes);
    // What was changed since it was listed is not what a person said yes to.
    let listed: BTreeSet<_> = confirmed.undone.iter().map(|undone| (&undone.href, undone.stood)).collect();
    let restorer = Restorer { end: &rule.ends[0], what };
    let found: OnceCell<Vec<Part>> = OnceCell::new();
    let batch = |session: &Session<'_>, number: usize| -> Result<Batch, RunError> {
        if found.get().is_none() {
            let mut parts = restorer.parts(session)?;
            // What is deleted makes room for what is created under the same UID.
            parts.sort_by_key(|part| part.text.is_some());
            drop(found.set(parts));
        }
        let parts = found.get().map(Vec::as_slice).unwrap_or_default();
        let Some(batch) = parts.chunks(PAGE).nth(number) else { return Ok(None) };
        let mut works = Vec::new();
        for part in batch {
            if let Sorted::Put(undone, work) = restorer.work(session, part)?
                && listed.contains(&(&undone.href, undone.stood))
            {
                works.push(*work);
            }
        }
        Ok(Some(works))
    };
    let lease = lease(&rule.name, store).await?;
    // A run that was cut off may have left something.
    forget_route(&rule.name, store)?;
    let instead = Instead { kind: RunKind::Restore, undid: Vec::new(), batch: &batch };
    let report = run_through(&lease, &rule, store, options, observer, Some(&instead)).await?;
    forget_route(&rule.name, store)?;
    Ok(report)
}

const PAGE: usize = 100;
/// In front of the names of what no configuration has.
const RESTORE: &str = "restore of ";
const TIDY: &str = "tidying of ";
const UNDO: &str = "undo of ";

/// How runs are called that take back runs of a route that is not configured any more.
#[must_use]
pub fn undo_of(route: &str) -> String {
    if is_passing(route) { route.to_owned() } else { format!("{UNDO}{route}") }
}

/// Tells whether a name is of no route, but of a run that put something back.
#[must_use]
pub fn is_passing(name: &str) -> bool {
    [RESTORE, TIDY, UNDO].iter().any(|what| name.starts_with(what))
}

struct Restorer<'r> {
    end: &'r CalendarEnd,
    what: &'r ToRestore,
}

/// One place of the calendar.
struct Part {
    href: ObjectHref,
    /// What is to stand there; `None` where nothing is.
    text: Option<String>,
    object: Option<Object>,
}

enum Sorted {
    Already,
    Left(LeftAsIs),
    Put(Undone, Box<Work>),
}

impl Restorer<'_> {
    /// Each entry of the snapshot where it stands now or stood then, and what else goes.
    fn parts(&self, session: &Session<'_>) -> Result<Vec<Part>, RunError> {
        let (store, calendar) = (session.store(), session.mirrors[0].id);
        let mut parts = Vec::new();
        let mut taken: BTreeSet<ObjectHref> = BTreeSet::new();
        for entry in &self.what.entries {
            let uid = uid_of(&entry.text);
            let stood = entry.href.as_ref();
            let old = stood.and_then(|href| self.end.calendar.old_href(href));
            let at =
                old.as_ref().or(stood).map(|href| store.object_at(calendar, href)).transpose()?.flatten();
            let is_it = |object: &Object| object.uid == uid || object.uid.is_none();
            let object = match (at.filter(is_it), &uid) {
                (Some(object), _) => Some(object),
                // It was given another place since.
                (None, Some(uid)) => {
                    let found = store.objects_by_uid(calendar, uid)?;
                    found.into_iter().find(|object| !taken.contains(&object.href))
                }
                (None, None) => None,
            };
            let own = || uid.as_ref().map(|uid| self.end.calendar.new_href(uid));
            // In a file it was called by its UID.
            let is_name = |href: &ObjectHref| uid.as_ref().is_none_or(|uid| uid.as_str() != href.as_str());
            let href = object.as_ref().map(|object| object.href.clone()).or(old.filter(is_name)).or_else(own);
            let Some(href) = href.filter(|href| taken.insert(href.clone())) else { continue };
            parts.push(Part { href, text: Some(entry.text.clone()), object });
        }
        if self.what.goes != Goes::Nothing {
            for object in store.all_objects(calendar)? {
                if !taken.contains(&object.href) && self.what.goes.is(&object.href) {
                    parts.push(Part { href: object.href.clone(), text: None, object: Some(object) });
                }
            }
        }
        Ok(parts)
    }

    fn work(&self, session: &Session<'_>, part: &Part) -> Result<Sorted, RunError> {
        let stands = part.object.clone().map(|object| session.gatherer.stands(object)).transpose()?;
        let stands = stands.unwrap_or_default();
        let now = stands.text();
        let read = |text: &String| Entry::parse(text, &Limits::default()).ok();
        let shown = part.text.as_ref().and_then(read).or_else(|| stands.entry().cloned());
        let (title, start) = match &shown {
            Some(entry) => (entry.title(), crate::case::start_text(entry)),
            None => (part.href.as_str().rsplit('/').next().unwrap_or_default().to_owned(), String::new()),
        };
        let left = |why| {
            let (calendar, title, start) = (self.end.name.clone(), title.clone(), start.clone());
            Ok(Sorted::Left(LeftAsIs { calendar, title, start, why }))
        };
        if matches!(stands, Stands::Unread(_) | Stands::Unknown(_)) {
            return left(WhyLeft::NotKnown);
        }
        if is_same(now.as_ref().map(|text| text.text.as_str()), part.text.as_deref()) {
            return Ok(Sorted::Already);
        }
        let how = match (&part.object, &part.text) {
            (None, _) => PutBack::Restore,
            (Some(_), Some(_)) => PutBack::Replace,
            (Some(_), None) => PutBack::Delete,
        };
        let put = match &part.text {
            None => Some(Step::Delete(Because::Gone)),
            Some(text) => step(session, 0, how, text),
        };
        let Some(put) = put else { return left(WhyLeft::NotKnown) };
        let mut case = Case::new(1);
        case.places[0].stands = stands;
        let verdict = Verdict::of_steps(vec![put], Fate::Forget);
        let silenced = session.decider().silenced(&case, verdict.clone());
        if !is_same_step(&verdict.steps[0], &silenced.steps[0]) {
            return left(WhyLeft::WouldMail);
        }
        let routes = match &part.object {
            Some(object) => routes_at(session, object)?,
            None => Vec::new(),
        };
        let (calendar, href) = (self.end.name.clone(), part.href.clone());
        let stood = part.object.as_ref().and_then(|object| object.body);
        let undone = Undone { calendar, href, title, start, how, routes, stood };
        let mut work = Work::once(case, verdict);
        work.place_at(0, &part.href);
        Ok(Sorted::Put(undone, Box::new(work)))
    }
}

fn uid_of(text: &str) -> Option<EventUid> {
    Entry::parse(text, &Limits::default()).ok().map(|entry| entry.uid().clone())
}
