//! One run of one route, from the survey to the history.

use chestnut_caldav::protocol::Listed;
use chestnut_core::{
    Action, Because, ContentKey, Decision, Entry, EventUid, LeftOut, LinkFacts, ObjectHref, People, Position,
    RoutePolicy,
};
use chestnut_store::{
    Change, ChangeAction, Counts, Known, LinkId, Recheck, RouteId, RouteSummary, RunId, RunResult, SideId,
    Store, StoreError, Writer,
};

use crate::apply::{Applier, Outcome};
use crate::derive::Maker;
use crate::error::RunError;
use crate::frame::Frame;
use crate::held::remember_deletions;
use crate::observe::{Observer, Phase, Progress};
use crate::plan::{Plan, Planned, Planner, Seen, seen_of};
use crate::preview::{PreviewReport, PreviewedChange, previewed, strangers};
use crate::record::{record_agreement, seen_known, source_known, start_text, title_of};
use crate::route::{Makes, Route, RunOptions};
use crate::survey::{Item, Look, Survey, Surveyor};

/// What a run came to.
#[derive(Debug)]
pub struct RunReport {
    /// The route's name.
    pub route: String,
    /// Its number in the history; `None` where it could not even begin.
    pub run: Option<RunId>,
    /// How it ended.
    pub result: RunResult,
    /// Counts.
    pub summary: RouteSummary,
    /// What was done, entry by entry.
    pub changes: Vec<Change>,
    /// Why it failed as a whole.
    pub error: Option<RunError>,
}

/// Runs a route once. What fails as a whole is part of the report, and of the history where there is one.
///
/// # Errors
/// The state cannot be used, or another run of the route is going on.
pub async fn run_route(
    route: &Route,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<RunReport, RunError> {
    let frame = Frame::begin(&route.name, vec![&route.source, &route.target], store, options)?;
    let job = Job { route, store, options, observer, id: Some(frame.id) };
    let mut outcome = Outcome::default();
    let mut held = 0;
    let error = job.run(frame.id, frame.run, &mut outcome, &mut held).await.err();
    let (id, troubles) = (frame.id, outcome.failed + outcome.damaged);
    let changes = std::mem::take(&mut outcome.changes);
    frame.close(error, troubles, changes, route.keep_history, || job.summary(id, &outcome, held))
}

/// Says what a run would do, and writes nothing.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used.
pub async fn preview_route(
    route: &Route,
    store: &Store,
    options: &RunOptions,
    observer: &dyn Observer,
) -> Result<PreviewReport, RunError> {
    let id = store.route(&route.name)?;
    let job = Job { route, store, options, observer, id };
    let plan = job.plan().await?;
    let mut report = PreviewReport {
        route: route.name.clone(),
        target: route.target.name.clone(),
        changes: Vec::new(),
        left_out: Vec::new(),
        strangers: strangers(&plan),
        held: plan.held.map_or(0, |held| held.deletions),
        first_run: !job.has_read()?,
        warns_of_invitations: !job.has_read()? && route.carry.people == People::Invite,
    };
    for planned in &plan.planned {
        match previewed(planned, route) {
            Some(change) if matches!(planned.decision, Decision::LeaveOut(_)) => report.left_out.push(change),
            Some(change) => report.changes.push(change),
            None => {}
        }
    }
    if let Some(id) = id {
        let seen =
            |href: &ObjectHref| plan.source.items.contains_key(href) || plan.source.gone.contains(href);
        let known = store.left_out(id)?.into_iter().filter(|(_, known)| !seen(&known.href));
        let name = &route.source.name;
        report.left_out.extend(known.map(|(_, known)| PreviewedChange::left_out(name, known)));
    }
    Ok(report.in_order())
}

/// What one run works with.
struct Job<'r> {
    route: &'r Route,
    store: &'r Store,
    options: &'r RunOptions,
    observer: &'r dyn Observer,
    id: Option<RouteId>,
}

impl<'r> Job<'r> {
    fn surveyor(&self, side: SideId) -> Surveyor<'r> {
        let end = match side {
            SideId::Source | SideId::Underlying | SideId::Replica(_) => &self.route.source,
            SideId::Target => &self.route.target,
        };
        Surveyor { store: self.store, route: self.id, side, end }
    }

    /// Tells whether a run of the route ever read its source.
    fn has_read(&self) -> Result<bool, RunError> {
        match self.id {
            Some(id) => Ok(self.store.side(id, SideId::Source)?.read),
            None => Ok(false),
        }
    }

    /// Looks at both calendars, and has every touched pair decided.
    async fn plan(&self) -> Result<Plan, RunError> {
        let mut afresh = self.options.afresh;
        let mut carry_changed = false;
        let mut unfinished: Vec<ObjectHref> = Vec::new();
        if let Some(id) = self.id {
            let (settings, endpoints) = self.store.route_settings(id)?;
            if !endpoints.is_empty() && endpoints != self.route.endpoints() {
                return Err(RunError::OtherCalendars { route: self.route.name.clone(), before: endpoints });
            }
            // Changed settings take hold at once: every entry is decided again.
            afresh |= !settings.is_empty() && settings != self.route.settings();
            carry_changed = self.route.carried_otherwise(&settings);
            unfinished = self.store.unfinished_writes(id)?.into_iter().map(|(href, _)| href).collect();
        }
        self.observer.progress(Progress { phase: Phase::Surveying, done: 0, total: 0 });
        let window = self.route.window.at(self.options.now, &self.route.zone).range;
        let look = Look {
            now: self.options.now,
            afresh,
            check_every: self.route.check_every,
            window: (window.start, window.end),
        };
        let makes_entries = self.route.makes == Makes::Entries;
        let from = if makes_entries { SideId::Source } else { SideId::Underlying };
        let (source_surveyor, target_surveyor) = (self.surveyor(from), self.surveyor(SideId::Target));
        let (source, target) =
            tokio::join!(source_surveyor.survey(look, &[]), target_surveyor.survey(look, &unfinished));
        let (source, target) = (source?, target?);
        let fetched = source.items.len() + target.items.len();
        self.observer.progress(Progress { phase: Phase::Fetching, done: fetched, total: fetched });
        let planner = Planner {
            route: self.route,
            store: self.store,
            id: self.id,
            options: self.options,
            target_surveyor: &target_surveyor,
            carry_changed,
        };
        if makes_entries {
            return planner.plan(source, target).await;
        }
        let mut policy = planner.policy(&source, &target);
        let (route, store) = (self.route, self.store);
        let maker = Maker { route, store, policy: &policy, surveyor: &source_surveyor, afresh };
        let (made, underlying) = maker.make(source).await?;
        // What was made is chosen already, and lies where it was wanted.
        policy.choice = chestnut_core::Choice { me: policy.choice.me, ..chestnut_core::Choice::default() };
        policy.window = chestnut_core::Window::default().at(self.options.now, &self.route.zone);
        if self.route.makes == Makes::Blocks {
            policy.kinds = [chestnut_core::Kind::Event].into_iter().collect();
        }
        planner.plan_by(policy, made, target, Some(underlying)).await
    }

    async fn run(
        &self,
        id: RouteId,
        run: RunId,
        outcome: &mut Outcome,
        held: &mut usize,
    ) -> Result<(), RunError> {
        let mut plan = self.plan().await?;
        *held = plan.held.map_or(0, |h| h.deletions);
        let surveyor = self.surveyor(SideId::Target);
        let mut state = std::mem::take(&mut plan.target.state);
        let mut applier = Applier {
            route: self.route,
            store: self.store,
            id,
            run,
            options: self.options,
            policy: &plan.policy,
            carry_changed: plan.carry_changed,
            surveyor: &surveyor,
            observer: self.observer,
            state: &mut state,
            outcome: Outcome::default(),
        };
        let applied = applier.apply(&plan.planned, plan.held.is_some()).await;
        *outcome = applier.outcome;
        applied?;
        let mut foreign = Vec::new();
        if !outcome.ours.is_empty() {
            foreign = surveyor.look_after_writes(&mut state, &outcome.ours).await?;
        }
        plan.target.state = state;
        self.record(id, run, &plan, &foreign, outcome)?;
        let (name, now) = (&self.route.name, self.options.now);
        let held = plan.held.map(|held| held.deletions);
        remember_deletions(self.store, id, name, now, &outcome.changes, held)?;
        match outcome.left {
            0 => Ok(()),
            left => Err(RunError::Stopped { left }),
        }
    }

    /// Remembers all that the writes did not already: what was seen, what is alike, what is left out, and, last
    /// of all, how far both calendars were read.
    fn record(
        &self,
        id: RouteId,
        run: RunId,
        plan: &Plan,
        foreign: &[ObjectHref],
        outcome: &mut Outcome,
    ) -> Result<(), RunError> {
        let name = &self.route.target.name;
        let agreed = self.store.write(|writer| {
            writer.set_route_settings(id, &self.route.settings(), &self.route.endpoints())?;
            let mut agreed = Vec::new();
            for planned in &plan.planned {
                agreed.extend(self.record_planned(writer, id, plan, planned, name)?);
            }
            agreed.iter().try_for_each(|change| writer.add_change(run, change))?;
            self.record_strangers(writer, id, plan, outcome)?;
            for href in &outcome.again {
                writer.read_again(id, SideId::Source, href)?;
            }
            for href in foreign {
                writer.read_again(id, SideId::Target, href)?;
            }
            for href in unlinked_gone(self.store, id, &plan.source)? {
                writer.forget_known(id, SideId::Source, &href)?;
            }
            self.record_never_read(writer, id, plan)?;
            writer.set_side(id, SideId::Source, &plan.source.state)?;
            writer.set_side(id, SideId::Target, &plan.target.state)?;
            Ok(agreed)
        })?;
        outcome.linked += agreed.iter().filter(|c| c.action == ChangeAction::Linked).count();
        outcome.changes.extend(agreed);
        Ok(())
    }

    /// What was set aside as long past, and the calendar behind a made source.
    fn record_never_read(&self, writer: &Writer<'_>, id: RouteId, plan: &Plan) -> Result<(), StoreError> {
        for listed in &plan.source.long_past {
            writer.put_known(id, SideId::Source, &long_past(listed))?;
        }
        let Some(underlying) = &plan.underlying else { return Ok(()) };
        for listed in &underlying.survey.long_past {
            writer.put_known(id, SideId::Underlying, &long_past(listed))?;
        }
        if underlying.is_read {
            for (href, item) in &underlying.survey.items {
                let left_out = underlying.left_out.get(href).map(|reason| reason.key().to_owned());
                let known = Known { left_out, ..seen_known(&seen_of(href, item)) };
                writer.put_known(id, SideId::Underlying, &known)?;
            }
        }
        for href in &underlying.survey.gone {
            writer.forget_known(id, SideId::Underlying, href)?;
        }
        writer.set_side(id, SideId::Underlying, &underlying.survey.state)
    }

    fn record_planned(
        &self,
        writer: &Writer<'_>,
        id: RouteId,
        plan: &Plan,
        planned: &Planned,
        calendar: &str,
    ) -> Result<Option<Change>, StoreError> {
        let link = planned.link.as_ref().map(|(link, _)| *link);
        let seen = planned.source.as_ref().filter(|s| s.read_now);
        match &planned.decision {
            Decision::Agree { view, far } => {
                let facts = LinkFacts { view: *view, far: Some(*far), refused: None };
                return record_agreement(writer, id, &plan.policy, planned, facts, calendar.to_owned());
            }
            Decision::Nothing => {
                if let Some(source) = seen {
                    put_source(writer, id, link, &source_known(&plan.policy, source))?;
                }
            }
            Decision::LeaveOut(reason) => {
                if let Some(source) = seen {
                    let told = self.newly_left_out(id, source, *reason, planned.words.clone())?;
                    // The same UID twice resolves itself when the other one goes, and what the server failed to
                    // give may come next time: look again at every run.
                    let not_given = *reason == LeftOut::Unreadable && source.etag.is_none();
                    let look_again = *reason == LeftOut::SameUid || not_given;
                    let recheck = if look_again { Recheck::Read } else { Recheck::No };
                    let left_out = Some(reason.key().to_owned());
                    let next = next_start(&plan.policy, *reason, source);
                    let known = Known { left_out, recheck, next, ..seen_known(source) };
                    put_source(writer, id, link, &known)?;
                    self.keep_far_side(writer, id, planned)?;
                    return Ok(told);
                }
            }
            Decision::Forget => {
                if let Some(link) = link {
                    writer.forget_link(link)?;
                }
                if let (None, Some(href)) = (&planned.source, &planned.source_href) {
                    writer.forget_known(id, SideId::Source, href)?;
                }
            }
            Decision::Act(Action::Delete(_)) if plan.is_held(planned) => {
                return self.record_held(writer, id, planned, calendar);
            }
            Decision::Act(Action::Delete(because)) => {
                // Deleted because the route no longer takes it: it is still known, as left out.
                if let Some(source) = seen {
                    let reason = match because {
                        Because::Gone | Because::Stranger => None,
                        Because::Past => Some(LeftOut::OutsideWindow),
                        Because::NotTaken(reason) => Some(*reason),
                    };
                    let left_out = reason.map(|reason| reason.key().to_owned());
                    writer.put_known(id, SideId::Source, &Known { left_out, ..seen_known(source) })?;
                }
            }
            Decision::Act(Action::Write { .. }) => {}
        }
        if matches!(planned.decision, Decision::Nothing | Decision::LeaveOut(_)) {
            self.keep_far_side(writer, id, planned)?;
        }
        Ok(None)
    }

    /// The far side was read and stays as it is: remember its state, so that it is not read again.
    fn keep_far_side(&self, writer: &Writer<'_>, id: RouteId, planned: &Planned) -> Result<(), StoreError> {
        let target = planned.target.as_ref().filter(|t| t.read_now);
        if let (Some((link, row)), Some(target)) = (&planned.link, target) {
            let known = Known { uid: Some(row.target_uid.clone()), ..seen_known(target) };
            writer.put_linked(id, SideId::Target, *link, &known)?;
        }
        Ok(())
    }

    /// Names an entry that is left out for a reason that lies in the entry, the first time it is.
    fn newly_left_out(
        &self,
        id: RouteId,
        source: &Seen,
        reason: LeftOut,
        words: Option<String>,
    ) -> Result<Option<Change>, StoreError> {
        let by_choice = matches!(
            reason,
            LeftOut::Kind(_)
                | LeftOut::NotAccepted(_)
                | LeftOut::NotChosen(_)
                | LeftOut::OutsideWindow
                | LeftOut::TakesNoTime
                | LeftOut::Copy
                | LeftOut::Refused
        );
        let known = self.store.known(id, SideId::Source, &source.href)?;
        if by_choice || known.is_some_and(|k| k.left_out.as_deref() == Some(reason.key())) {
            return Ok(None);
        }
        Ok(Some(Change {
            calendar: self.route.source.name.clone(),
            action: ChangeAction::LeftOut,
            href: source.href.clone(),
            uid: source.entry.as_ref().map_or_else(|| EventUid::from(""), |e| e.uid().clone()),
            title: title_of(source),
            start: source.entry.as_ref().map(start_text).unwrap_or_default(),
            words: words.or_else(|| Some(reason.key().to_owned())),
            before: None,
        }))
    }

    fn record_held(
        &self,
        writer: &Writer<'_>,
        id: RouteId,
        planned: &Planned,
        calendar: &str,
    ) -> Result<Option<Change>, StoreError> {
        let Some(target) = &planned.target else { return Ok(None) };
        let known = self.store.known(id, SideId::Target, &target.href)?;
        let Some((link, row)) = &planned.link else {
            // A stranger: it is decided about again as long as it stands there.
            return Ok(Some(Change {
                calendar: calendar.to_owned(),
                action: ChangeAction::Held,
                href: target.href.clone(),
                uid: known.as_ref().and_then(|k| k.uid.clone()).unwrap_or_else(|| EventUid::from("")),
                title: target.entry.as_ref().map(Entry::title).or(known.map(|k| k.title)).unwrap_or_default(),
                start: target.entry.as_ref().map(start_text).unwrap_or_default(),
                words: Some("its deletion waits for a person".to_owned()),
                before: None,
            }));
        };
        if let Some(href) = &planned.source_href {
            let recheck = if planned.source.is_none() { Recheck::Gone } else { Recheck::Read };
            let before = self.store.known(id, SideId::Source, href)?;
            let known = before.unwrap_or_else(|| seen_known(target));
            let known = Known { href: href.clone(), recheck, ..known };
            writer.put_linked(id, SideId::Source, *link, &known)?;
        }
        let entry = target.entry.as_ref();
        Ok(Some(Change {
            calendar: calendar.to_owned(),
            action: ChangeAction::Held,
            href: target.href.clone(),
            uid: row.target_uid.clone(),
            title: entry.map(Entry::title).unwrap_or_default(),
            start: entry.map(start_text).unwrap_or_default(),
            words: Some("its deletion waits for a person".to_owned()),
            before: None,
        }))
    }

    /// Entries of the far side that belong to nothing: known, so that a later entry of the source is matched.
    fn record_strangers(
        &self,
        writer: &Writer<'_>,
        id: RouteId,
        plan: &Plan,
        outcome: &Outcome,
    ) -> Result<(), StoreError> {
        let claimed: std::collections::BTreeSet<_> =
            plan.planned.iter().filter_map(|p| p.target.as_ref().map(|t| &t.href)).collect();
        for (href, item) in &plan.target.items {
            if claimed.contains(href) || outcome.ours.contains_key(href) {
                continue;
            }
            let known = Known {
                href: href.clone(),
                etag: item.etag().cloned(),
                uid: item.entry().map(|e| e.uid().clone()),
                content: item.entry().map(ContentKey::of),
                title: item.entry().map(Entry::title).unwrap_or_default(),
                left_out: None,
                recheck: Recheck::No,
                link: None,
                next: None,
                over: None,
            };
            writer.put_known(id, SideId::Target, &known)?;
            if let Item::Unreadable { words, .. } = item {
                tracing::debug!(%href, words, "an entry of the far side cannot be read");
            }
        }
        for href in plan.target.gone.iter().filter(|href| !outcome.ours.contains_key(*href)) {
            writer.forget_known(id, SideId::Target, href)?;
        }
        // What an earlier run left unfinished was looked at, and is settled, but for what failed once more.
        for (href, _) in self.store.unfinished_writes(id)? {
            if !outcome.changes.iter().any(|c| c.action == ChangeAction::Failed && c.href == href) {
                writer.done(id, &href)?;
            }
        }
        Ok(())
    }

    fn summary(&self, id: RouteId, outcome: &Outcome, held: usize) -> Result<RouteSummary, RunError> {
        let troubles = self.store.link_troubles(id)?.len();
        let source = (self.route.source.name.clone(), Counts::default());
        Ok(RouteSummary {
            calendars: [source, (self.route.target.name.clone(), outcome.counts)].into(),
            linked: outcome.linked,
            in_step: self.store.link_count(id)?.saturating_sub(troubles + held + outcome.left),
            left_out: self.store.left_out_counts(id)?,
            held,
            partly: self.store.partly_counts(id)?,
            damaged: outcome.damaged,
            failed: outcome.failed,
            ..RouteSummary::default()
        })
    }
}

fn put_source(
    writer: &Writer<'_>,
    id: RouteId,
    link: Option<LinkId>,
    known: &Known,
) -> Result<(), StoreError> {
    match link {
        Some(link) => writer.put_linked(id, SideId::Source, link, known),
        None => writer.put_known(id, SideId::Source, known),
    }
}

/// When an entry that lies outside the window begins next.
fn next_start(policy: &RoutePolicy, reason: LeftOut, source: &Seen) -> Option<i64> {
    let entry = source.entry.as_ref().filter(|_| reason == LeftOut::OutsideWindow)?;
    match policy.window.position(entry) {
        Ok(Position::Ahead(next)) => Some(next),
        _ => None,
    }
}

/// An entry that nobody read: its server says that it is over before the window.
fn long_past(listed: &Listed) -> Known {
    let unread = Seen {
        href: listed.href.clone(),
        etag: listed.etag.clone(),
        entry: None,
        text: String::new(),
        read_now: false,
    };
    Known { left_out: Some(LeftOut::OutsideWindow.key().to_owned()), ..seen_known(&unread) }
}

/// Entries of the source that are gone and had no copy.
fn unlinked_gone(store: &Store, id: RouteId, source: &Survey) -> Result<Vec<ObjectHref>, StoreError> {
    let mut gone = Vec::new();
    for href in &source.gone {
        if store.known(id, SideId::Source, href)?.is_some_and(|known| known.link.is_none()) {
            gone.push(href.clone());
        }
    }
    Ok(gone)
}
