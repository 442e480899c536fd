//! One direction of a trial: each step is written, carried and looked for; then everything is taken away.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use chestnut_caldav::Fetched;
use chestnut_caldav::protocol::Condition;
use chestnut_core::ical::Limits;
use chestnut_core::{ETag, Entry, Kind, ObjectHref, PROBE_LENGTH, Probe, SyncToken};
use chestnut_store::{ChangeAction, ProbeRow, Store};
use jiff::{SignedDuration, Timestamp};
use tokio::time::Instant;

use super::entries::{Taken, fault_of, noted, over_test_entries, read, read_new, take_away};
use super::facts::{Leftover, Leg, LegOutcome, ProbeFault, ProbeHow, ProbeSkip, ProbeStep};
use super::judge::{FarLook, Met, Trial};
use crate::case::span_of;
use crate::error::RunError;
use crate::observe::Silent;
use crate::options::RunOptions;
use crate::rule::{CalendarEnd, Makes, Rule};
use crate::run::run_route;
use crate::sender::{Outgoing, send};
use crate::session::Session;

/// What stands there is looked for again after so long, then after twice as long, and so on.
const FIRST_PAUSE: Duration = Duration::from_secs(2);
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// A little longer than a second.
const A_SECOND: Duration = Duration::from_millis(1200);
/// Changed entries that are read at one look.
const FEW: usize = 50;

/// One direction.
pub(super) struct Prober<'p> {
    trial: Trial<'p>,
    options: &'p RunOptions,
    how: &'p ProbeHow,
    is_written: bool,
    /// What was listed in each calendar at the last look, and what was found there of the test entry.
    listed: Vec<BTreeMap<ObjectHref, Option<ETag>>>,
    tracked: Vec<BTreeSet<ObjectHref>>,
    /// When it took place at first.
    starts: Timestamp,
    /// When it was anywhere, in seconds since 1970.
    spans: Vec<(i64, i64)>,
    pub(super) legs: Vec<Leg>,
}

impl<'p> Prober<'p> {
    pub(super) fn of(
        rule: &'p Rule,
        store: &'p Store,
        options: &'p RunOptions,
        how: &'p ProbeHow,
        session: &'p Session<'p>,
        from: usize,
        probe: Probe,
    ) -> Self {
        let sides = rule.ends.len();
        Self {
            options,
            how,
            is_written: false,
            listed: vec![BTreeMap::new(); sides],
            tracked: vec![BTreeSet::new(); sides],
            starts: probe.start,
            spans: Vec::new(),
            legs: Vec::new(),
            trial: Trial {
                rule,
                store,
                session,
                now: options.now,
                from,
                href: rule.ends[from].calendar.new_href(&probe.uid),
                titles: vec![probe.title.clone()],
                waits: how.wait.is_some(),
                probe,
            },
        }
    }

    fn far(&self) -> Vec<usize> {
        (0..self.trial.rule.ends.len())
            .filter(|side| *side != self.trial.from && self.trial.rule.ends[*side].takes)
            .collect()
    }

    /// All steps, until one fails.
    pub(super) async fn way(&mut self) -> Result<(), RunError> {
        for side in self.far() {
            let listing = self.trial.rule.ends[side].calendar.listing().await;
            let listing = listing.map_err(|error| self.trial.rule.ends[side].failed(error))?;
            self.listed[side] = listing.entries.into_iter().map(|one| (one.href, one.etag)).collect();
        }
        let mut has_failed = false;
        for step in ProbeStep::ALL {
            if has_failed {
                self.told(step, &LegOutcome::NotTried, 0);
                continue;
            }
            if let Some(skip) = self.skip(step) {
                self.told(step, &LegOutcome::Skipped(skip), 0);
                continue;
            }
            let began = self.options.measure.then(Instant::now);
            let since = || began.map_or(0, |at| at.elapsed().as_millis() as u64);
            self.change(step);
            if let Err(fault) = self.write(step).await? {
                self.told(step, &LegOutcome::Failed(fault), since());
                has_failed = true;
                continue;
            }
            // Where it arrives all the same, what the run met with is not about it.
            let met = if self.how.wait.is_none() { self.run().await? } else { Met::default() };
            for side in self.far() {
                let outcome = self.arrival(step, side, &met).await?;
                has_failed |= matches!(outcome, LegOutcome::Failed(_));
                self.leg(step, side, outcome, since());
            }
        }
        Ok(())
    }

    fn told(&mut self, step: ProbeStep, outcome: &LegOutcome, milliseconds: u64) {
        for side in self.far() {
            self.leg(step, side, outcome.clone(), milliseconds);
        }
    }

    fn leg(&mut self, step: ProbeStep, side: usize, outcome: LegOutcome, milliseconds: u64) {
        let name = |side: usize| self.trial.rule.ends[side].name.clone();
        let (from, to) = (name(self.trial.from), name(side));
        self.legs.push(Leg { step, from, to, outcome, milliseconds });
    }

    fn skip(&self, step: ProbeStep) -> Option<ProbeSkip> {
        let window = self.trial.rule.window.at(self.options.now, &self.trial.rule.zone);
        let last = self.trial.probe.start + SignedDuration::from_hours(24);
        match step {
            ProbeStep::Rename if self.trial.rule.makes == Makes::Blocks => Some(ProbeSkip::NoTitles),
            ProbeStep::Repeat | ProbeStep::MoveOne if self.trial.probe.kind == Kind::Task => {
                Some(ProbeSkip::TasksAlone)
            }
            ProbeStep::MoveOne if self.trial.probe.is_all_day => Some(ProbeSkip::WholeDays),
            ProbeStep::Move if !window.range.contains(&last.as_second()) => Some(ProbeSkip::Window),
            ProbeStep::Repeat | ProbeStep::MoveOne
                if self.trial.rule.makes != Makes::Entries
                    && !window.range.contains(&(last + SignedDuration::from_hours(25)).as_second()) =>
            {
                Some(ProbeSkip::Window)
            }
            _ => None,
        }
    }

    fn change(&mut self, step: ProbeStep) {
        let probe = &mut self.trial.probe;
        match step {
            ProbeStep::Create | ProbeStep::Delete => {}
            ProbeStep::Rename => {
                probe.title = format!("{} renamed", probe.title);
                self.trial.titles.push(probe.title.clone());
            }
            ProbeStep::Move => probe.start += SignedDuration::from_hours(24),
            ProbeStep::Repeat => probe.is_series = true,
            ProbeStep::MoveOne => probe.has_moved_day = true,
        }
        probe.sequence += u32::from(step != ProbeStep::Create);
        let spans = probe.starts().into_iter().map(|at| (at.as_second(), (at + PROBE_LENGTH).as_second()));
        self.spans.extend(spans);
    }

    /// Writes the test entry as it is now, and reads it back.
    async fn write(&mut self, step: ProbeStep) -> Result<Result<(), ProbeFault>, RunError> {
        let rule = self.trial.rule;
        let end = &rule.ends[self.trial.from];
        if self.how.stop.get() {
            return Ok(Err(ProbeFault::Stopped));
        }
        let text = (step != ProbeStep::Delete)
            .then(|| self.trial.probe.entry(self.options.now).caldav_text(self.options.now));
        if step == ProbeStep::Create {
            // Noted before it is sent: whatever happens, it is found again.
            self.note(self.trial.from, &self.trial.href)?;
            let copy = self.trial.rule.key.copy_uid(&self.trial.probe.uid);
            for side in self.far() {
                let uid = if self.trial.rule.ends[side].gives { &self.trial.probe.uid } else { &copy };
                self.note(side, &self.trial.rule.ends[side].calendar.new_href(uid))?;
            }
        }
        let before = if step == ProbeStep::Create { Some(self.marks().await?) } else { None };
        let condition = if step == ProbeStep::Create { Condition::Absent } else { Condition::Exists };
        let out = Outgoing { href: &self.trial.href, text: text.as_deref(), condition, silently: true };
        let sent = send(end, &out, &Cell::new(false)).await;
        let said = sent.place().cloned();
        if let Some(fault) = fault_of(end, sent)? {
            return Ok(Err(fault));
        }
        self.is_written = true;
        let stands = match &before {
            Some((.., listed)) => {
                let (uid, sent_to) = (&self.trial.probe.uid, self.trial.href.clone());
                let stands = read_new(end, &mut self.trial.href, uid, said, listed).await?;
                if self.trial.href != sent_to {
                    self.note(self.trial.from, &self.trial.href)?;
                }
                stands
            }
            None => read(end, &self.trial.href).await?,
        };
        let calendar = || end.name.clone();
        match (stands.is_some(), step) {
            (true, ProbeStep::Delete) => return Ok(Err(ProbeFault::StillThere)),
            (false, ProbeStep::Delete) => return Ok(Ok(())),
            (false, _) => return Ok(Err(ProbeFault::NotStored)),
            (true, _) => {}
        }
        let Some(before) = before else { return Ok(Ok(())) };
        let (token, ctag, listed) = self.marks().await?;
        if !listed.contains(&self.trial.href) {
            return Ok(Err(ProbeFault::NotListed { calendar: calendar() }));
        }
        let has_marks = before.0.is_some() || before.1.is_some();
        if !has_marks || (&before.0, &before.1) != (&token, &ctag) {
            return Ok(Ok(()));
        }
        // Some servers count seconds: what changed twice in one shows once. A second later it must move.
        tokio::time::sleep(A_SECOND).await;
        self.trial.probe.sequence += 1;
        let text = self.trial.probe.entry(self.options.now).caldav_text(self.options.now);
        let out = Outgoing {
            href: &self.trial.href,
            text: Some(&text),
            condition: Condition::Exists,
            silently: true,
        };
        drop(send(end, &out, &Cell::new(false)).await);
        let (token_then, ctag_then, _) = self.marks().await?;
        // A run would find it by the listing perhaps: the next one, which trusts the mark, would not.
        let stands_still = (token, ctag) == (token_then, ctag_then);
        Ok(if stands_still { Err(ProbeFault::Unnoticed { calendar: calendar() }) } else { Ok(()) })
    }

    /// The source's own marks of change, and what it lists.
    async fn marks(&self) -> Result<(Option<SyncToken>, Option<SyncToken>, BTreeSet<ObjectHref>), RunError> {
        let end = &self.trial.rule.ends[self.trial.from];
        let listing = end.calendar.listing().await.map_err(|error| end.failed(error))?;
        let listed = listing.entries.into_iter().map(|one| one.href).collect();
        Ok((listing.sync_token, listing.ctag, listed))
    }

    fn note(&self, side: usize, href: &ObjectHref) -> Result<(), RunError> {
        let row = ProbeRow {
            route: self.trial.rule.name.clone(),
            calendar: self.trial.rule.ends[side].name.clone(),
            href: href.clone(),
            since: self.options.now,
            starts: self.starts,
        };
        Ok(self.trial.store.write(|writer| writer.note_probe(&row))?)
    }

    /// Runs the route over the test entry alone. Returns what it met with.
    async fn run(&self) -> Result<Met, RunError> {
        let options = RunOptions { names_all: true, ..over_test_entries(self.options, &self.spans) };
        let report = run_route(self.trial.rule, self.trial.store, &options, &Silent).await?;
        let is_trouble = |change: &chestnut_store::Change| {
            matches!(change.action, ChangeAction::Failed | ChangeAction::Damaged)
        };
        let troubles = report.changes.into_iter().filter(is_trouble);
        let told = troubles.filter_map(|change| Some((change.calendar, change.told?))).collect();
        Ok(Met { error: report.error, told })
    }

    /// Looks whether a step has arrived, again and again while something else may bring it.
    async fn arrival(&mut self, step: ProbeStep, side: usize, met: &Met) -> Result<LegOutcome, RunError> {
        let deadline = self.how.wait.map(|wait| Instant::now() + wait.unsigned_abs());
        let mut pause = FIRST_PAUSE;
        loop {
            let look = self.look(side).await?;
            let fault = match self.trial.judge(step, side, &look) {
                Ok(outcome) => return Ok(outcome),
                Err(fault) => fault,
            };
            match deadline {
                Some(deadline) if Instant::now() < deadline && !self.how.stop.get() => {
                    tokio::time::sleep(pause).await;
                    pause = (pause * 2).min(LONGEST_PAUSE);
                }
                _ if self.how.stop.get() && fault.is_absence() => {
                    return Ok(LegOutcome::Failed(ProbeFault::Stopped));
                }
                _ => {
                    let cause = self.trial.cause(step, side, fault, &look, met).await?;
                    return Ok(LegOutcome::Failed(cause));
                }
            }
        }
    }

    /// What stands in a far calendar of the test entry, by its listing and by its places.
    async fn look(&mut self, side: usize) -> Result<FarLook, RunError> {
        let end = &self.trial.rule.ends[side];
        let listing = end.calendar.listing().await.map_err(|error| end.failed(error))?;
        let listing: BTreeMap<_, _> = listing.entries.into_iter().map(|one| (one.href, one.etag)).collect();
        let news = listing.iter().filter(|(href, etag)| self.listed[side].get(*href) != Some(etag));
        let mut hrefs: BTreeSet<ObjectHref> = news.map(|(href, _)| href.clone()).take(FEW).collect();
        hrefs.extend(self.tracked[side].iter().cloned());
        let probe = &self.trial.probe.uid;
        for uid in self.trial.rule.key.uids_of(probe).iter().chain([probe]) {
            hrefs.insert(end.calendar.new_href(uid));
        }
        let hrefs: Vec<_> = hrefs.into_iter().collect();
        let fetched = end.calendar.fetch(&hrefs).await.map_err(|error| end.failed(error))?;
        let mark = self.trial.rule.key.probe_mark();
        let mut look = FarLook { entries: Vec::new(), is_unlisted: false };
        for (href, one) in fetched {
            let Fetched::Text { text, .. } = one else { continue };
            let Ok(entry) = Entry::parse(&text, &Limits::default()) else { continue };
            let is_block = self.trial.rule.makes == Makes::Blocks
                && span_of(&entry).is_some_and(|s| self.spans.contains(&s));
            if entry.uid().as_str().starts_with(&mark) || is_block {
                look.is_unlisted |= !listing.contains_key(&href);
                self.tracked[side].insert(href.clone());
                look.entries.push((href, entry, text));
            }
        }
        for (href, _, _) in &look.entries {
            self.note(side, href)?;
        }
        self.listed[side] = listing;
        Ok(look)
    }

    /// Takes away what is left of the test entry, and what is remembered of it.
    pub(super) async fn clean_up(&mut self) -> Result<Vec<Leftover>, RunError> {
        let mark = self.trial.rule.key.probe_mark();
        let mut leftovers = Vec::new();
        let mut left = |end: &CalendarEnd, href: &ObjectHref| {
            leftovers.push(Leftover { calendar: end.name.clone(), href: href.to_string() });
        };
        let end = &self.trial.rule.ends[self.trial.from];
        let source = take_away(end, &self.trial.href, &mark).await;
        match source {
            Ok(Taken::Gone { .. }) => {
                self.trial.store.write(|writer| {
                    writer.forget_probe(&self.trial.rule.name, &end.name, &self.trial.href)
                })?;
            }
            _ => left(end, &self.trial.href),
        }
        if self.is_written {
            // The route takes its copies away by itself, unless it says that they stay.
            drop(self.run().await);
        }
        for side in self.far() {
            let end = &self.trial.rule.ends[side];
            let mut hrefs = self.tracked[side].clone();
            hrefs.extend(noted(self.trial.rule, self.trial.store, end)?.map(|row| row.href));
            for href in hrefs {
                match take_away(end, &href, &mark).await {
                    Ok(Taken::Gone { .. }) => {
                        self.trial
                            .store
                            .write(|writer| writer.forget_probe(&self.trial.rule.name, &end.name, &href))?;
                    }
                    _ => left(end, &href),
                }
            }
        }
        if self.is_written {
            drop(self.run().await);
        }
        Ok(leftovers)
    }
}
