//! One run of one route: refresh → gather → decide → guard → apply. A preview stops after the guard.

use std::cell::{Cell, RefCell};
use std::collections::HashSet;

use chestnut_core::{Because, Deletions, Origin, People};
use chestnut_store::{
    Change, ChangeAction, HeldItem, Lease, LinkRow, LinkState, Route, RouteId, RouteSummary, RunId, RunKind,
    RunResult, Store, StoreError, Told, Writer, route_lease,
};

use crate::apply::{Applier, Outcome, Work, new_row};
use crate::calendar::Calendar;
use crate::case::{Case, Place};
use crate::decide::{Fate, Step, Verdict};
use crate::error::RunError;
use crate::gather::Found;
use crate::guard::{Deletion, Sorted, Waiting, WaitingEntry};
use crate::mail::MailQuestion;
use crate::observe::Observer;
use crate::options::{Only, RunOptions};
use crate::relocate::recognise;
use crate::rule::{CalendarEnd, Makes, Rule};
use crate::session::{PAGE, Session, begin, made_place};
use crate::story::{PreviewReport, PreviewedChange, RunReport};
use crate::turn::{Turn, turn};
use crate::under_way::UnderWay;

/// Texts in one batch, in bytes: what is made of them takes many times as much.
const BATCH_BYTES: usize = 512 << 10;

/// Runs a route once. What fails as a whole is part of the report, and of the history.
///
/// # Errors
/// The state cannot be used, or another run of the route is going on.
pub async fn run_route(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<RunReport, RunError> {
    let lease = lease(&rule.name, store).await?;
    run_through(&lease, rule, store, options, observer, None).await
}

/// What is done instead of what the route says.
pub(crate) struct Instead<'w> {
    pub(crate) kind: RunKind,
    /// The runs that it takes back.
    pub(crate) undid: Vec<i64>,
    /// Some of it, by the number of the batch.
    pub(crate) batch: &'w dyn Fn(&Session<'_>, usize) -> Result<Batch, RunError>,
}

/// Cases that are worked on together; `None` after the last.
pub(crate) type Batch = Option<Vec<Work>>;

/// Runs a route, or does something else to its cases in the same way, for who holds its lease.
pub(crate) async fn run_through(
    lease: &Lease<'_>,
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
    instead: Option<&Instead<'_>>,
) -> Result<RunReport, RunError> {
    let options = &RunOptions { takes_turns: true, ..options.clone() };
    if let Some(known) = options.known {
        let route = store.route(&rule.name)?.filter(|route| route.id == known);
        let is_paused = route.as_ref().is_some_and(|route| route.rests(options.now.as_second()));
        if route.is_none() || is_paused {
            return Err(RunError::Withdrawn { route: rule.name.clone(), is_paused });
        }
    }
    let kind = match (instead, options.only.as_deref()) {
        (Some(instead), _) => instead.kind,
        (None, Some(Only::Probe(_))) => RunKind::Probe,
        (None, Some(Only::These(_)) | None) => RunKind::Sync,
    };
    let begun = |writer: &Writer<'_>| {
        Ok((writer.route(&rule.name)?, writer.begin_run(&rule.name, options.now, kind)?))
    };
    let (id, run) = store.write(begun)?;
    for end in &rule.ends {
        end.calendar.stop_writes_on(std::rc::Rc::clone(&options.stop));
    }
    let before = requests(&rule.ends);
    let started = options.measure.then(tokio::time::Instant::now);
    let mut outcome = Outcome { counts: vec![Default::default(); rule.ends.len()], ..Outcome::default() };
    let job = Job { rule, store, options, observer };
    let mut held = 0;
    let error = job.run(id, run, lease, &mut outcome, &mut held, instead).await.err();
    if let Some(RunError::Store(StoreError::CutOff)) = error {
        return Err(RunError::Store(StoreError::CutOff));
    }
    let mut summary = job.summary(id, &outcome, held)?;
    let after = requests(&rule.ends);
    (summary.requests, summary.writes) = (after.0 - before.0, after.1 - before.1);
    summary.milliseconds = started.map_or(0, |at| at.elapsed().as_millis() as u64);
    summary.undid = instead.map(|instead| instead.undid.clone()).unwrap_or_default();
    summary.error = error.as_ref().map(RunError::facts);
    if let Some(RunError::ClocksApart(apart)) = &error {
        summary.clocks_apart = Some(apart.seconds);
    }
    let result = match (&error, outcome.failed + outcome.damaged, summary.held) {
        (Some(_), ..) | (None, 1.., _) => RunResult::Failed,
        (None, 0, 0) => RunResult::Ok,
        (None, 0, _) => RunResult::Held,
    };
    store.write(|writer| {
        writer.finish_run(run, options.now, result, &summary)?;
        if kind == RunKind::Sync && result != RunResult::Failed {
            writer.went_well(id, options.now)?;
        }
        if !options.is_asked && (result == RunResult::Ok || summary.error.is_some()) {
            writer.forget_if_nothing(run, &rule.name, result, &summary)?;
        }
        match summary.clocks_apart {
            Some(_) => Ok(()),
            None => {
                writer.prune_history(options.now.saturating_sub(rule.keep_history).unwrap_or(options.now))
            }
        }
    })?;
    let changes = std::mem::take(&mut outcome.changes);
    Ok(RunReport { route: rule.name.clone(), run: Some(run), result, summary, changes, error })
}

/// Says what a run would do, and writes into no calendar.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used.
pub async fn preview_route(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<PreviewReport, RunError> {
    let job = Job { rule, store, options, observer };
    let known = store.route(&rule.name)?;
    let session = job.begin(known.clone()).await?;
    let first_run = known.as_ref().is_none_or(|route| route.ran_at.is_none());
    let mut report = PreviewReport {
        clocks_apart: session.clocks_apart.clone(),
        first_run,
        warns_of_invitations: first_run && rule.carry.people == People::Invite,
        ..PreviewReport::empty(rule)
    };
    report.schedulers = session.schedulers();
    let mut deletions = Vec::new();
    let mut adopted = 0;
    let mut asked = session.gatherer.held.iter().filter_map(|item| item.link).collect::<Vec<_>>();
    asked.retain(|link| !session.touched.links.contains(link));
    // What a person was asked is told again, though nothing of it changed.
    let all: Vec<_> = session.touched.all().chain(asked.into_iter().map(Found::Link)).collect();
    session.each(&all, |found, work| {
        match work {
            Some(Ok(work)) => {
                adopted += usize::from(is_adopted(found, &work));
                deletions.extend(deletion(found, &work));
                let known = report.changes.len();
                report.add(rule, &work, session.gatherer.question(found, &work.case));
                // What is new is told by its title: thousands of texts would be held for nobody.
                for change in report.changes[known..].iter_mut().filter(|change| change.action == "create") {
                    change.after = None;
                }
            }
            Some(Err(())) => report.strangers += 1,
            None => {}
        }
        Ok(())
    })?;
    let linked =
        known.as_ref().map(|route| store.tally(route.id)).transpose()?.map_or(0, |tally| tally.linked());
    if session.clocks_apart.is_some() {
        deletions.clear();
        report.changes.retain(|change| change.action != "delete");
    }
    report.held = session.sorted(deletions, linked + adopted, options).held.len();
    if let Some(route) = &known {
        let decided: HashSet<_> = session.touched.links.iter().collect();
        let mut after = None;
        loop {
            let page = store.links_in(route.id, &[LinkState::LeftOut, LinkState::Refused], after, PAGE)?;
            let _ahead = session.gatherer.ahead(page.iter().map(|link| Found::Link(*link)))?;
            for link in page.iter().filter(|link| !decided.contains(*link)) {
                if let (Some(case), Some(row)) = (session.gatherer.linked(*link)?, store.link(*link)?) {
                    report.left_out.push(known_left_out(rule, &case, &row));
                }
            }
            after = page.iter().max().copied();
            if page.len() < PAGE {
                break;
            }
        }
    }
    if report.held == 0 {
        report.leave_out_what_goes(rule);
    }
    report.left_out.extend(session.parts_left_out()?);
    Ok(report.in_order())
}

fn known_left_out(rule: &Rule, case: &Case, row: &LinkRow) -> PreviewedChange {
    let side = case.places.iter().position(|place| place.stands.object().is_some());
    let reason = if row.reason.is_empty() { chestnut_core::LeftOut::Refused.key() } else { &row.reason };
    let calendar = side.map(|side| rule.ends[side].name.clone());
    PreviewedChange::left_out(rule, calendar, case, reason.to_owned())
}

/// What one run works with.
struct Job<'r> {
    rule: &'r Rule,
    store: &'r Store,
    options: &'r RunOptions,
    observer: &'r dyn Observer,
}

impl<'r> Job<'r> {
    /// Looks at the calendars, and finds what there is to decide.
    async fn begin(&self, known: Option<Route>) -> Result<Session<'r>, RunError> {
        begin(self.rule, self.store, self.options, self.observer, known).await
    }

    async fn run(
        &self,
        id: RouteId,
        run: RunId,
        lease: &Lease<'_>,
        outcome: &mut Outcome,
        held: &mut usize,
        instead: Option<&Instead<'_>>,
    ) -> Result<(), RunError> {
        if let Some(Only::These(only)) = self.options.only.as_deref() {
            let gives: Vec<bool> = self.rule.ends.iter().map(|end| end.gives).collect();
            self.store.write(|writer| {
                only.forgotten.iter().try_for_each(|link| writer.forget_link(*link))?;
                only.lifted.iter().try_for_each(|link| writer.lift(*link, Some(&gives)))
            })?;
        }
        let mut known = self.store.route(&self.rule.name)?;
        if let Some(route) = &known {
            outcome.moved = recognise(self.rule, self.store, route, self.options.now).await?;
            if !outcome.moved.is_empty() {
                known = self.store.route(&self.rule.name)?;
            }
        }
        let is_first = known.as_ref().is_none_or(|route| route.ran_at.is_none());
        let session = self.begin(known).await?;
        if is_first && instead.is_none() {
            self.keep_what_stands(&session)?;
        }
        let before = self.store.tally(id)?.linked();
        let total = session.touched.links.len() + session.touched.free.len();
        let applier = Applier {
            rule: self.rule,
            store: self.store,
            route: id,
            run,
            options: self.options,
            gatherer: &session.gatherer,
            decider: &session.decider,
            mirrors: &session.mirrors,
            observer: self.observer,
            outcome: RefCell::new(std::mem::take(outcome)),
            progress: Cell::new((0, total)),
        };
        let done = match instead {
            Some(instead) => self.instead(&session, &applier, lease, instead).await,
            None => self.cases(&session, &applier, lease, before, held).await,
        };
        let looked = self.look_after_writes(&session, &applier).await;
        *outcome = applier.outcome.into_inner();
        done?;
        looked?;
        if instead.is_some() {
            return Ok(());
        }
        if self.options.only.is_none() {
            let mut seqs = session.seqs.clone();
            outcome.open.iter().for_each(|side| seqs[*side] = 0);
            self.store.write(|writer| writer.set_seen(id, &seqs, self.options.now.as_second()))?;
        }
        match (outcome.left, session.clocks_apart.clone()) {
            (0, None) => Ok(()),
            (0, Some(apart)) => Err(RunError::ClocksApart(apart)),
            (left, _) => Err(RunError::Stopped { left }),
        }
    }

    /// Before a route writes for the first time, what stands in its calendars is kept.
    fn keep_what_stands(&self, session: &Session<'_>) -> Result<(), RunError> {
        let takes = self.rule.ends.iter().enumerate().filter(|(_, end)| end.takes);
        Ok(self.store.write(|writer| {
            for (side, end) in takes {
                let calendar = session.calendar(side).id;
                writer.keep_calendar(&self.rule.name, &end.name, calendar, self.options.now)?;
            }
            Ok(())
        })?)
    }

    /// Does what was listed, and nothing else.
    async fn instead(
        &self,
        session: &Session<'_>,
        applier: &Applier<'_>,
        lease: &Lease<'_>,
        instead: &Instead<'_>,
    ) -> Result<(), RunError> {
        let mut number = 0;
        while let Some(mut works) = (instead.batch)(session, number)? {
            lease.renew()?;
            applier.set_aside(&mut works)?;
            applier.apply(works, true).await?;
            number += 1;
        }
        Ok(())
    }

    /// Works through all cases: what is written first, deletions last, once all of them are known.
    async fn cases(
        &self,
        session: &Session<'_>,
        applier: &Applier<'_>,
        lease: &Lease<'_>,
        before: usize,
        held: &mut usize,
    ) -> Result<(), RunError> {
        let mut deletions: Vec<(Deletion, Because)> = Vec::new();
        let mut adopted = 0;
        let mut batches = Batches::of(self.rule, self.options.batch);
        let mut all = session.touched.all().peekable();
        let mut under_way = UnderWay::default();
        let mut before_it = None;
        while let Some(first) = all.peek().copied() {
            lease.renew()?;
            // What is remembered comes first, and is done before anything else is looked for.
            if before_it.replace(first).is_some_and(|before| !first.is_like(before)) {
                under_way.end().await?;
            }
            let mut works = Vec::new();
            let mut room = batches.next();
            let mut is_alone = batches.grows;
            let ahead = session.gatherer.ahead(all.clone().take(room.cases.min(PAGE)))?;
            // Of each case a dozen things are asked, and hardly anything is written meanwhile.
            let still = self.store.hold_still()?;
            while let Some(found) = all.next_if(|found| found.is_like(first) && room.is_left()) {
                room.cases -= 1;
                let Some(Ok(work)) = session.work(found)? else { continue };
                adopted += usize::from(is_adopted(found, &work));
                match deletion(found, &work) {
                    Some(deletion) => deletions.push(deletion),
                    None => {
                        room.bytes = room.bytes.saturating_sub(work.bytes());
                        if applier.is_trial(&work) {
                            (room.cases, is_alone) = (0, true);
                        }
                        works.push(work);
                    }
                }
            }
            drop((still, ahead));
            under_way.begin(applier.apply(works, false)).await?;
            if is_alone {
                under_way.end().await?;
            }
        }
        under_way.end().await?;
        if session.clocks_apart.is_some() {
            // What is past, and what is gone, is not for a run under a wrong clock to say.
            let links = deletions.iter().filter_map(|(deletion, _)| match deletion {
                Deletion::Case(link) => Some(*link),
                Deletion::Beside(..) => None,
            });
            let links: Vec<_> = links.collect();
            self.store.write(|writer| links.iter().try_for_each(|link| writer.set_due(*link, Some(0))))?;
            return Ok(());
        }
        let sorted = session.sorted(deletions, before + adopted, self.options);
        *held = sorted.held.len();
        for batch in sorted.allowed.chunks(PAGE) {
            lease.renew()?;
            let works = self.again(session, batch)?;
            applier.apply(works, true).await?;
        }
        self.keep(session, applier, &sorted)?;
        self.hold(session, applier, &sorted)
    }

    /// Makes the cases of deletions once more: much may have changed since they were found.
    fn again(&self, session: &Session<'_>, batch: &[Deletion]) -> Result<Vec<Work>, RunError> {
        let found = batch.iter().map(|deletion| match *deletion {
            Deletion::Case(link) => Found::Link(link),
            Deletion::Beside(side, object) if self.rule.ends[side].gives => Found::Free(side, object),
            Deletion::Beside(side, object) => Found::Beside(side, object),
        });
        let mut works = Vec::new();
        session.each(&found.collect::<Vec<_>>(), |_, work| {
            works.extend(work.and_then(Result::ok));
            Ok(())
        })?;
        Ok(works)
    }

    /// What a person said stays: it is nobody's from now on, or left alone where it was deleted.
    fn keep(&self, session: &Session<'_>, applier: &Applier<'_>, sorted: &Sorted) -> Result<(), RunError> {
        if sorted.kept.is_empty() {
            return Ok(());
        }
        let facts = session.decider.borrow().facts.clone();
        let policy = self.rule.policy(&facts, Deletions::Keep, self.options.now);
        let policy = std::mem::replace(&mut session.decider.borrow_mut().policy, policy);
        let works = self.again(session, &sorted.kept);
        session.decider.borrow_mut().policy = policy;
        let mut works = works?;
        works.iter_mut().for_each(|work| work.verdict.release());
        applier.record(&mut works)
    }

    /// What waits for a person: which deletions they are, is remembered with the question.
    fn hold(&self, session: &Session<'_>, applier: &Applier<'_>, sorted: &Sorted) -> Result<(), RunError> {
        let id = applier.route;
        if self.options.only.is_some() {
            // What waits already goes on waiting as it is; the rest is found again by the next ordinary run.
            return Ok(());
        }
        if sorted.held.is_empty() {
            return Ok(self.store.write(|writer| writer.let_through(id, None))?);
        }
        let mut waiting = Waiting {
            kind: "deletions".to_owned(),
            count: sorted.held.len(),
            entries: Vec::new(),
            keys: sorted.held.iter().map(Deletion::key).collect(),
        };
        for batch in sorted.held.chunks(PAGE) {
            let works = self.again(session, batch)?;
            let mut lines: Vec<Change> = Vec::new();
            for work in &works {
                for (side, step) in work.verdict.steps.iter().enumerate() {
                    if matches!(step, Step::Delete(_)) {
                        let told = Some(Told::DeletionHeld);
                        lines.push(applier.line(work, side, ChangeAction::Held, told, None));
                    }
                }
            }
            self.store.write(|writer| {
                for work in &works {
                    // It is decided anew at each run, until a person says, or its source is back.
                    if let (Some(link), Some(row)) = (work.case.link, &work.case.row) {
                        let row = LinkRow { state: LinkState::Held, due: Some(0), ..row.clone() };
                        writer.put_link(id, Some(link), &row)?;
                    }
                }
                lines.iter().try_for_each(|line| writer.add_change(applier.run, line))
            })?;
            waiting.entries.extend(lines.iter().map(|c| WaitingEntry {
                calendar: c.calendar.clone(),
                title: c.title.clone(),
                start: c.start.clone(),
            }));
            applier.report(lines);
        }
        let item = HeldItem {
            id: 0,
            route: self.rule.name.clone(),
            link: None,
            since: self.options.now.as_second(),
            title: String::new(),
            start: String::new(),
            details: serde_json::to_string(&waiting).expect("plain values turn into JSON"),
            decision: None,
        };
        Ok(self.store.write(|writer| writer.hold(id, &item))?)
    }

    /// Looks once more where something was written, and believes deletions that show.
    async fn look_after_writes(&self, session: &Session<'_>, applier: &Applier<'_>) -> Result<(), RunError> {
        let wrote = std::mem::take(&mut applier.outcome.borrow_mut().wrote);
        let deleted = std::mem::take(&mut applier.outcome.borrow_mut().deleted);
        for side in wrote {
            let gone: Vec<_> = deleted.iter().filter(|(at, _)| *at == side).map(|(_, h)| h.clone()).collect();
            session.mirrors[side].look_after_writes(&session.look, &gone).await?;
        }
        let mut after = None;
        loop {
            let page = self.store.links_in(applier.route, &[LinkState::Leaving], after, PAGE)?;
            let _ahead = session.gatherer.ahead(page.iter().map(|link| Found::Link(*link)))?;
            self.leave(session, applier, &page)?;
            after = page.last().copied();
            if page.len() < PAGE {
                return Ok(());
            }
        }
    }

    /// What becomes of cases whose entry was deleted somewhere, now that it is known what stands there: what is remembered
    /// of them goes, unless there is something to remember.
    fn leave(
        &self,
        session: &Session<'_>,
        applier: &Applier<'_>,
        links: &[chestnut_store::LinkId],
    ) -> Result<(), RunError> {
        let (mut remembered, mut forgotten, mut still) = (Vec::new(), Vec::new(), Vec::new());
        for link in links {
            let Some(case) = session.gatherer.linked(*link)? else { continue };
            let intents = self.store.intents(*link)?;
            let stands = intents
                .iter()
                .filter(|intent| intent.sent.is_none())
                .find(|intent| case.places[intent.side].stands.object().is_some());
            if let Some(stands) = stands {
                still.push((*link, stands.side, case));
                continue;
            }
            let work = session.decided(case)?;
            match work.verdict.fate {
                // Its source may stand, and not be carried: then why is remembered in its place.
                Fate::LeaveOut(_) => remembered.push(work),
                // Deleted where nobody is written to: it stands elsewhere, and a person says what becomes of it.
                _ if work.verdict.would_mail() => remembered.push(work),
                _ => forgotten.push(*link),
            }
        }
        if !remembered.is_empty() {
            applier.record(&mut remembered)?;
        }
        if forgotten.is_empty() && still.is_empty() {
            return Ok(());
        }
        // Their server said that it deleted them, and lists them still.
        let told = Told::NotDeleted { status: 0 };
        let steps = || vec![Step::Leave; self.rule.ends.len()];
        let mut lines = Vec::new();
        self.store.write(|writer| {
            forgotten.iter().try_for_each(|link| writer.forget_link(*link))?;
            for (link, side, case) in still {
                let tries = case.row.as_ref().map_or(0, |row| row.tries);
                let row = LinkRow {
                    state: LinkState::Failed,
                    due: Some(applier.pause(tries)),
                    tries: tries.saturating_add(1),
                    told: Some(told.clone()),
                    ..case.row.clone().unwrap_or_else(|| new_row(LinkState::Failed))
                };
                writer.put_link(applier.route, Some(link), &row)?;
                writer.done(link, &[side])?;
                let work = Work::new(case, Verdict::of_steps(steps(), Fate::Wait));
                let line = applier.line(&work, side, ChangeAction::Failed, Some(told.clone()), None);
                writer.add_change(applier.run, &line)?;
                lines.push(line);
            }
            Ok(())
        })?;
        applier.outcome.borrow_mut().failed += lines.len();
        applier.report(lines);
        Ok(())
    }

    fn summary(&self, id: RouteId, outcome: &Outcome, held: usize) -> Result<RouteSummary, RunError> {
        let tally = self.store.tally(id)?;
        let names = self.rule.ends.iter().map(|end| end.name.clone());
        let held_alone = self.store.held(Some(id))?.into_iter().filter(|item| item.link.is_some());
        let (mails, disagreements): (Vec<_>, Vec<_>) =
            held_alone.partition(|item| MailQuestion::of(item).is_some());
        let (mails, disagreements) = (mails.len(), disagreements.len());
        let mut left_out = tally.left_out.clone();
        if self.rule.makes != Makes::Entries {
            let place = made_place(&self.rule.name);
            if let Some(made) = self.store.mirror(&place)? {
                for (_, reason) in self.store.parts_left_out(made.id)? {
                    *left_out.entry(reason).or_default() += 1;
                }
            }
        }
        Ok(RouteSummary {
            calendars: names.zip(outcome.counts.iter().copied()).collect(),
            linked: outcome.linked,
            in_step: tally.of(LinkState::InStep),
            left_out,
            held: held + disagreements + mails,
            held_disagreements: disagreements,
            held_mail: mails,
            disagreements: outcome.disagreements,
            own_uids: outcome.own_uids.iter().cloned().collect(),
            moved: outcome.moved.clone(),
            partly: tally.partly.clone(),
            damaged: outcome.damaged,
            failed: outcome.failed,
            ..RouteSummary::default()
        })
    }
}

/// How much is worked on at once: a file is written whole each time, so each time there is twice as much.
struct Batches {
    room: Room,
    grows: bool,
}

/// What there is still room for.
#[derive(Clone, Copy)]
struct Room {
    cases: usize,
    bytes: usize,
}

impl Room {
    fn is_left(&self) -> bool {
        self.cases > 0 && self.bytes > 0
    }
}

impl Batches {
    fn of(rule: &Rule, cases: usize) -> Self {
        let is_file = |end: &CalendarEnd| end.takes && matches!(end.calendar, Calendar::File(_));
        Self { room: Room { cases, bytes: BATCH_BYTES }, grows: rule.ends.iter().any(is_file) }
    }

    fn next(&mut self) -> Room {
        let room = self.room;
        if self.grows {
            self.room = Room { cases: room.cases.saturating_mul(2), bytes: room.bytes.saturating_mul(2) };
        }
        room
    }
}

/// What a case deletes, and why; `None` where it deletes nothing.
fn deletion(found: Found, work: &Work) -> Option<(Deletion, Because)> {
    let because = work.verdict.deletes()?;
    Some((found.deletion(work.case.link), because))
}

/// A copy that was found again, as after a lost state, and is the route's; what is deleted of them is counted with the
/// deletions.
fn is_adopted(found: Found, work: &Work) -> bool {
    let is_copy = |place: &Place| place.origin == Origin::Copy && place.stands.object().is_some();
    let is_found = matches!(found, Found::Free(..)) && work.case.row.is_none();
    let is_kept = work.verdict.fate == Fate::Keep && work.verdict.deletes().is_none();
    is_found && is_kept && work.case.places.iter().any(is_copy)
}

/// Waits a while for another process that runs the route.
pub(crate) async fn lease<'s>(route: &str, store: &'s Store) -> Result<Lease<'s>, RunError> {
    match turn(&route_lease(route), store).await? {
        Turn::Free(lease) | Turn::Waited(lease) => Ok(lease),
        Turn::Taken(holder) => Err(RunError::Running { route: route.to_owned(), holder }),
    }
}

/// Requests sent so far, and those of them that write; once for each account.
fn requests(ends: &[CalendarEnd]) -> (u64, u64) {
    let mut counted = HashSet::new();
    let mut sum = (0, 0);
    for end in ends {
        if counted.insert(end.calendar.counter()) {
            let counts = end.calendar.counts();
            sum = (sum.0 + counts.all, sum.1 + counts.writes);
        }
    }
    sum
}
