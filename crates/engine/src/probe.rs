//! Tries a route with an entry of its own: written on one side, looked for on the other, changed, moved, repeated and
//! deleted; then back. What arrived is judged by requests that no run has a part in.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::time::Duration;

use chestnut_caldav::Fetched;
use chestnut_caldav::protocol::Condition;
use chestnut_core::ical::Limits;
use chestnut_core::{
    Deletions, ETag, Entry, FieldDifference, Kind, ObjectHref, PROBE_DAYS, PROBE_LENGTH, Probe, SyncToken,
    copy_differences, last_changed, replica_differences,
};
use chestnut_store::{ChangeAction, LinkState, ProbeRow, Store, Told};
use jiff::{SignedDuration, Timestamp};
use tokio::time::Instant;

use crate::calendar::Calendar;
use crate::case::span_of;
use crate::compare::{Comparer, Finding};
use crate::error::RunError;
use crate::observe::Silent;
use crate::options::{Only, RunOptions};
use crate::rule::{CalendarEnd, Makes, Policy, Rule};
use crate::run::{Session, begin, run_route};
use crate::sender::{Outgoing, Sent, send};

/// What stands there is looked for again after so long, then after twice as long, and so on.
const FIRST_PAUSE: Duration = Duration::from_secs(2);
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// A little longer than a second.
const A_SECOND: Duration = Duration::from_millis(1200);
/// UIDs of test entries that a route has.
const UIDS: u8 = 100;
/// Entries of a calendar that can only be read that are compared.
const NEWEST: usize = 5;
/// Changed entries that are read at one look.
const FEW: usize = 50;

/// How to try a route.
#[derive(Debug, Clone, Default)]
pub struct ProbeHow {
    /// The title of the test entry; else the first of [`Self::titles`] that the route takes.
    pub title: Option<String>,
    /// Titles to try.
    pub titles: Vec<String>,
    /// Nothing is run: for so long each step waits for whatever else syncs.
    pub wait: Option<SignedDuration>,
    /// Set by a person who wants it to end: it cleans up.
    pub stop: Rc<Cell<bool>>,
}

/// A step of the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ProbeStep {
    /// The test entry is written.
    Create,
    /// It gets another title.
    Rename,
    /// It is moved by a day.
    Move,
    /// It becomes a series of three days.
    Repeat,
    /// Its second day is moved by an hour.
    MoveOne,
    /// It is deleted.
    Delete,
}

impl ProbeStep {
    /// All steps, in their order.
    pub const ALL: [Self; 6] =
        [Self::Create, Self::Rename, Self::Move, Self::Repeat, Self::MoveOne, Self::Delete];
}

/// One step from one calendar to another.
#[derive(Debug)]
pub struct Leg {
    /// Which.
    pub step: ProbeStep,
    /// Where it was done.
    pub from: String,
    /// Where it was looked for.
    pub to: String,
    /// What came of it.
    pub outcome: LegOutcome,
    /// How long that took.
    pub milliseconds: u64,
}

/// What came of a step.
#[derive(Debug)]
pub enum LegOutcome {
    /// It arrived.
    Arrived,
    /// It does not show on the far side, as the route says.
    Hidden,
    /// The copy stays, as `deletions = "keep"` says; it was taken away then.
    Stays,
    /// The route cannot show it, and why.
    Skipped(ProbeSkip),
    /// It did not arrive, and the likely cause.
    Failed(ProbeFault),
    /// An earlier step failed.
    NotTried,
}

/// Why a route cannot show a step.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProbeSkip {
    /// Blocks have no titles.
    NoTitles,
    /// It takes tasks alone, which repeat otherwise.
    TasksAlone,
    /// It takes whole days alone.
    WholeDays,
    /// The next day lies outside its window.
    Window,
}

/// Why a step did not arrive.
#[derive(Debug)]
pub enum ProbeFault {
    /// The calendar did not take the test entry.
    NotTaken(Told),
    /// The calendar said that it was stored, and keeps nothing.
    NotStored,
    /// It stands there, and its calendar does not list it.
    NotListed {
        /// Which calendar.
        calendar: String,
    },
    /// It is listed, and its calendar's own mark of change did not move.
    Unnoticed {
        /// Which calendar.
        calendar: String,
    },
    /// The route left it out: the key that decided.
    LeftOut(String),
    /// The run met with this.
    Told(Told),
    /// The run failed as a whole.
    Run(Box<RunError>),
    /// Nothing came within the time.
    NothingCame,
    /// What came is not what was sent, in these fields.
    Differs(Vec<String>),
    /// What came lies at another time: by how many seconds.
    Shifted(i64),
    /// What came shows this, and may not.
    ShowsMore(String),
    /// It still stands there.
    StillThere,
    /// A person asked to stop.
    Stopped,
}

/// Why a route cannot be tried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CannotProbe {
    /// This key takes nothing that a test entry could be.
    Key(String),
    /// It takes neither events nor tasks.
    Kinds,
    /// No day of the next year lies inside its window.
    Window,
}

/// What was tried where nothing can be written.
#[derive(Debug)]
pub struct NewestCompared {
    /// How many entries were compared.
    pub entries: usize,
    /// Those that are not in step.
    pub findings: Vec<Finding>,
    /// Since when nothing has changed there, as far as is known.
    pub changed_at: Option<Timestamp>,
}

/// What is left somewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leftover {
    /// The calendar.
    pub calendar: String,
    /// Where.
    pub href: String,
}

/// What came of trying a route.
#[derive(Debug, Default)]
pub struct ProbeReport {
    /// The steps, direction by direction.
    pub legs: Vec<Leg>,
    /// Where changes could not be tried: what stands there, compared.
    pub compared: Option<NewestCompared>,
    /// Why nothing could be tried.
    pub cannot: Option<CannotProbe>,
    /// What could not be cleaned up.
    pub leftovers: Vec<Leftover>,
}

/// Tries a route in every direction that it has.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used; what was written is cleaned up as far as that goes.
pub async fn probe_route(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
    how: &ProbeHow,
) -> Result<ProbeReport, RunError> {
    let known = store.route(&rule.name)?;
    let session = begin(rule, store, options, &Silent, known.clone()).await?;
    let mut report = ProbeReport::default();
    let is_read_only = |side: usize| {
        matches!(rule.ends[side].calendar, Calendar::Feed(_)) || session.facts(side).writable == Some(false)
    };
    for from in (0..rule.ends.len()).filter(|side| rule.ends[*side].gives) {
        if is_read_only(from) {
            let comparer = Comparer::of(rule, store, &session, known.as_ref(), options.now);
            report.compared = Some(newest(&session, &comparer, from)?);
            continue;
        }
        let probe = match plan(&session, rule, options, how, from)? {
            Ok(probe) => probe,
            Err(cannot) => {
                report.cannot = Some(cannot);
                break;
            }
        };
        let mut prober = Prober::of(rule, store, options, how, &session, from, probe);
        let gone_wrong = prober.way().await.err();
        // Whatever happened, nothing of it may stay.
        report.leftovers.extend(prober.clean_up().await?);
        report.legs.append(&mut prober.legs);
        if let Some(error) = gone_wrong {
            return Err(error);
        }
        if how.stop.get() {
            break;
        }
    }
    Ok(report)
}

/// Takes away every test entry of a route, and every copy of one, also where nothing is remembered of them.
///
/// # Errors
/// A calendar cannot be read, or the state cannot be used.
pub async fn sweep_route(
    rule: &Rule,
    store: &Store,
    options: &RunOptions,
) -> Result<(usize, Vec<Leftover>), RunError> {
    let known = store.route(&rule.name)?;
    let session = begin(rule, store, options, &Silent, known).await?;
    let mut found: Vec<BTreeSet<ObjectHref>> = vec![BTreeSet::new(); rule.ends.len()];
    let mut spans = Vec::new();
    for (side, end) in rule.ends.iter().enumerate() {
        let mirror = session.calendar(side);
        for (object, _) in store.marked(None, mirror.id, &rule.key.probe_mark())? {
            let Some(object) = store.object(object)? else { continue };
            found[side].insert(object.href.clone());
            spans.extend(session.gatherer.stands(object)?.entry().and_then(span_of).map(|(start, _)| start));
        }
        for row in noted(rule, store, end)? {
            spans.push(row.starts.as_second());
            found[side].insert(row.href);
        }
    }
    let spans: Vec<_> = spans.into_iter().flat_map(may_have_been).collect();
    let mut swept = 0;
    let mut leftovers = Vec::new();
    // What a run may still take away goes first; then whatever stands.
    for gives in [true, false] {
        for (side, end) in rule.ends.iter().enumerate().filter(|(_, end)| end.gives == gives) {
            for href in &found[side] {
                match take_away(end, href, &rule.key.probe_mark()).await? {
                    Taken::Gone { was_there } => {
                        swept += usize::from(was_there);
                        store.write(|writer| writer.forget_probe(&rule.name, &end.name, href))?;
                    }
                    Taken::Stands => {
                        leftovers.push(Leftover { calendar: end.name.clone(), href: href.to_string() });
                    }
                }
            }
        }
        run_route(rule, store, &over_test_entries(options, &spans), &Silent).await?;
    }
    Ok((swept, leftovers))
}

/// A run over test entries alone, which looks anew.
fn over_test_entries(options: &RunOptions, spans: &[(i64, i64)]) -> RunOptions {
    RunOptions {
        only: Some(Rc::new(Only::Probe(spans.to_vec()))),
        allow_deletions: true,
        round: Default::default(),
        ..options.clone()
    }
}

/// What is noted of test entries of a route in one of its calendars.
fn noted<'n>(
    rule: &'n Rule,
    store: &Store,
    end: &'n CalendarEnd,
) -> Result<impl Iterator<Item = ProbeRow> + use<'n>, RunError> {
    let rows = store.probes()?.into_iter();
    Ok(rows.filter(move |row| row.route == rule.name && row.calendar == end.name))
}

/// The newest entries of a calendar that can only be read, compared with what stands on the far side.
fn newest(
    session: &Session<'_>,
    comparer: &Comparer<'_, '_>,
    from: usize,
) -> Result<NewestCompared, RunError> {
    let mut entries: Vec<(Option<jiff::civil::DateTime>, Vec<Finding>)> = Vec::new();
    let mut newest = None;
    for found in comparer.all(session.gatherer.route)? {
        let Some(Ok(work)) = session.work(found)? else { continue };
        let Some(entry) = work.case.places[from].stands.entry() else { continue };
        let changed = last_changed(entry).0;
        newest = newest.max(changed);
        let findings = comparer.compare_case(found, &work).findings;
        if findings.iter().all(|finding| finding.cause.is_trouble()) {
            entries.push((changed, findings));
        }
    }
    entries.sort_by_key(|(changed, _)| std::cmp::Reverse(*changed));
    entries.truncate(NEWEST);
    let said = newest.and_then(|at| at.to_zoned(jiff::tz::TimeZone::UTC).ok()).map(|at| at.timestamp());
    let seen = session.facts(from).changed_at.and_then(|at| Timestamp::from_second(at).ok());
    let number = entries.len();
    let findings = entries.into_iter().flat_map(|(_, findings)| findings).collect();
    Ok(NewestCompared { entries: number, findings, changed_at: said.max(seen) })
}

/// A test entry that the route takes: tomorrow, or on the first day inside its window, at a free quarter of an hour.
fn plan(
    session: &Session<'_>,
    rule: &Rule,
    options: &RunOptions,
    how: &ProbeHow,
    from: usize,
) -> Result<Result<Probe, CannotProbe>, RunError> {
    let kind = match (rule.kinds.contains(Kind::Event), rule.kinds.contains(Kind::Task)) {
        (true, _) => Kind::Event,
        (false, true) => Kind::Task,
        (false, false) => return Ok(Err(CannotProbe::Kinds)),
    };
    let number = (options.now.as_second().rem_euclid(i64::from(UIDS))) as u8;
    let uid = rule.key.probe_uid(number);
    let window = rule.window.at(options.now, &rule.zone);
    let today = options.now.to_zoned(rule.zone.clone()).date();
    let mut start = None;
    for days in 1..=366 {
        let Ok(day) = today.checked_add(jiff::Span::new().days(days)) else { break };
        let Ok(midnight) = day.to_zoned(rule.zone.clone()) else { continue };
        let at = midnight.timestamp() + SignedDuration::from_hours(9);
        if window.range.contains(&at.as_second()) && window.range.contains(&(at + PROBE_LENGTH).as_second()) {
            start = Some(at);
            break;
        }
    }
    let Some(day) = start else { return Ok(Err(CannotProbe::Window)) };
    let Some(start) = free_quarter(session, rule, from, day)? else { return Ok(Err(CannotProbe::Window)) };
    let titles = match &how.title {
        Some(title) => std::slice::from_ref(title),
        None => &how.titles,
    };
    let choice = &rule.choice;
    let mut cannot = None;
    for title in titles {
        // A word that stands nowhere else, so that what comes can be told from what stands.
        let code = &uid.as_str()[uid.as_str().len() - 6..];
        let probe = Probe::new(uid.clone(), kind, &format!("{title} {code}"), start);
        match probe.fit(choice, options.now) {
            Ok(probe) => return Ok(Ok(probe)),
            Err(key) => cannot = Some(CannotProbe::Key(key.name().to_owned())),
        }
    }
    Ok(Err(cannot.unwrap_or(CannotProbe::Kinds)))
}

/// A quarter of an hour in which nothing else takes place; an hour away from everything, where blocks are joined.
fn free_quarter(
    session: &Session<'_>,
    rule: &Rule,
    from: usize,
    morning: Timestamp,
) -> Result<Option<Timestamp>, RunError> {
    use chestnut_core::recurrence::{Budget, Moment, Occurrences, Zone};
    let away = if rule.makes == Makes::Blocks { 3600 } else { 0 };
    let reading = Zone::Rules(rule.zone.clone());
    let window = morning.as_second() - 3600..morning.as_second() + 14 * 3600;
    let mut taken: Vec<(i64, i64)> = Vec::new();
    for object in session.store().all_objects(session.calendar(from).id)? {
        let stands = session.gatherer.stands(object)?;
        let Some(times) = stands.entry().and_then(|entry| Occurrences::of(entry, &reading).ok()) else {
            continue;
        };
        let instances = times.within(window.clone(), &mut Budget::default()).unwrap_or_default();
        let at = |moment: Moment| match moment {
            Moment::Instant(at) => Some(at),
            Moment::Floating(at) => at.to_zoned(rule.zone.clone()).ok().map(|at| at.timestamp().as_second()),
            // Whole days are beside everything.
            Moment::Date(_) => None,
        };
        taken.extend(instances.iter().filter_map(|one| Some((at(one.start)?, at(one.end)?))));
    }
    let length = PROBE_LENGTH.as_secs();
    let quarters = (0..13 * 4).map(|quarter| morning.as_second() + quarter * length);
    let is_free =
        |start: &i64| taken.iter().all(|(from, to)| *to + away <= *start || *from >= *start + length + away);
    let free = quarters.clone().find(is_free);
    // Where everything is taken, it stands beside something: only joined blocks could not tell it.
    let any = free.or_else(|| quarters.clone().next().filter(|_| away == 0));
    Ok(any.and_then(|at| Timestamp::from_second(at).ok()))
}

/// One direction.
struct Prober<'p> {
    rule: &'p Rule,
    store: &'p Store,
    options: &'p RunOptions,
    how: &'p ProbeHow,
    session: &'p Session<'p>,
    from: usize,
    probe: Probe,
    /// Where the test entry stands.
    href: ObjectHref,
    is_written: bool,
    /// What was listed in each calendar at the last look, and what was found there of the test entry.
    listed: Vec<BTreeMap<ObjectHref, Option<ETag>>>,
    tracked: Vec<BTreeSet<ObjectHref>>,
    /// When it took place at first.
    starts: Timestamp,
    /// When it was anywhere, in seconds since 1970.
    spans: Vec<(i64, i64)>,
    /// Every title that it had.
    titles: Vec<String>,
    legs: Vec<Leg>,
}

/// What stands in a far calendar of the test entry.
struct FarLook {
    entries: Vec<(ObjectHref, Entry, String)>,
    /// Found at its place, and not in the listing.
    is_unlisted: bool,
}

impl<'p> Prober<'p> {
    fn of(
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
            href: rule.ends[from].calendar.new_href(&probe.uid),
            titles: vec![probe.title.clone()],
            starts: probe.start,
            spans: Vec::new(),
            is_written: false,
            listed: vec![BTreeMap::new(); sides],
            tracked: vec![BTreeSet::new(); sides],
            legs: Vec::new(),
            rule,
            store,
            options,
            how,
            session,
            from,
            probe,
        }
    }

    fn far(&self) -> Vec<usize> {
        (0..self.rule.ends.len()).filter(|side| *side != self.from && self.rule.ends[*side].takes).collect()
    }

    /// All steps, until one fails.
    async fn way(&mut self) -> Result<(), RunError> {
        for side in self.far() {
            let listing = self.rule.ends[side].calendar.listing().await;
            let listing = listing.map_err(|error| self.rule.ends[side].failed(error))?;
            self.listed[side] = listing.entries.into_iter().map(|one| (one.href, one.etag)).collect();
        }
        let mut has_failed = false;
        for step in ProbeStep::ALL {
            if has_failed {
                self.told(step, || LegOutcome::NotTried, 0);
                continue;
            }
            if let Some(skip) = self.skip(step) {
                self.told(step, || LegOutcome::Skipped(skip), 0);
                continue;
            }
            let began = self.options.measure.then(Instant::now);
            let since = || began.map_or(0, |at| at.elapsed().as_millis() as u64);
            self.change(step);
            if let Err(fault) = self.write(step).await? {
                let mut fault = Some(fault);
                self.told(
                    step,
                    || LegOutcome::Failed(fault.take().unwrap_or(ProbeFault::NothingCame)),
                    since(),
                );
                has_failed = true;
                continue;
            }
            // Where it arrives all the same, what the run met with is not about it.
            let mut met = if self.how.wait.is_none() { self.run().await? } else { None };
            for side in self.far() {
                let outcome = self.arrival(step, side, &mut met).await?;
                has_failed |= matches!(outcome, LegOutcome::Failed(_));
                self.leg(step, side, outcome, since());
            }
        }
        Ok(())
    }

    fn told(&mut self, step: ProbeStep, mut outcome: impl FnMut() -> LegOutcome, milliseconds: u64) {
        for side in self.far() {
            let outcome = outcome();
            self.leg(step, side, outcome, milliseconds);
        }
    }

    fn leg(&mut self, step: ProbeStep, side: usize, outcome: LegOutcome, milliseconds: u64) {
        let name = |side: usize| self.rule.ends[side].name.clone();
        let (from, to) = (name(self.from), name(side));
        self.legs.push(Leg { step, from, to, outcome, milliseconds });
    }

    fn skip(&self, step: ProbeStep) -> Option<ProbeSkip> {
        let window = self.rule.window.at(self.options.now, &self.rule.zone);
        let last = self.probe.start + SignedDuration::from_hours(24);
        match step {
            ProbeStep::Rename if self.rule.makes == Makes::Blocks => Some(ProbeSkip::NoTitles),
            ProbeStep::Repeat | ProbeStep::MoveOne if self.probe.kind == Kind::Task => {
                Some(ProbeSkip::TasksAlone)
            }
            ProbeStep::MoveOne if self.probe.is_all_day => Some(ProbeSkip::WholeDays),
            ProbeStep::Move if !window.range.contains(&last.as_second()) => Some(ProbeSkip::Window),
            ProbeStep::Repeat | ProbeStep::MoveOne
                if self.rule.makes != Makes::Entries
                    && !window.range.contains(&(last + SignedDuration::from_hours(25)).as_second()) =>
            {
                Some(ProbeSkip::Window)
            }
            _ => None,
        }
    }

    fn change(&mut self, step: ProbeStep) {
        let probe = &mut self.probe;
        match step {
            ProbeStep::Create | ProbeStep::Delete => {}
            ProbeStep::Rename => {
                probe.title = format!("{} renamed", probe.title);
                self.titles.push(probe.title.clone());
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
        let end = &self.rule.ends[self.from];
        if self.how.stop.get() {
            return Ok(Err(ProbeFault::Stopped));
        }
        let text = (step != ProbeStep::Delete)
            .then(|| self.probe.entry(self.options.now).caldav_text(self.options.now));
        if step == ProbeStep::Create {
            // Noted before it is sent: whatever happens, it is found again.
            self.note(self.from, &self.href)?;
            let copy = self.rule.key.copy_uid(&self.probe.uid);
            for side in self.far() {
                let uid = if self.rule.ends[side].gives { &self.probe.uid } else { &copy };
                self.note(side, &self.rule.ends[side].calendar.new_href(uid))?;
            }
        }
        let before = if step == ProbeStep::Create { Some(self.marks().await?) } else { None };
        let condition = if step == ProbeStep::Create { Condition::Absent } else { Condition::Exists };
        let out = Outgoing { href: &self.href, text: text.as_deref(), condition };
        match send(end, &out, &Cell::new(false)).await {
            Sent::Done(_) => {}
            Sent::Refused { told, .. } => return Ok(Err(ProbeFault::NotTaken(told))),
            Sent::Fails(status) => return Ok(Err(ProbeFault::NotTaken(Told::Fails { status }))),
            Sent::LookAgain => return Ok(Err(ProbeFault::NotTaken(Told::FalseCondition))),
            Sent::UidTaken(_) => return Ok(Err(ProbeFault::NotTaken(Told::UidTaken))),
            Sent::Lost(error) => return Err(end.failed(error)),
            Sent::SignIn => return Err(end.sign_in_failed()),
            Sent::NotBegun => return Ok(Err(ProbeFault::Stopped)),
        }
        self.is_written = true;
        let stands = read(end, &self.href).await?;
        let calendar = || self.rule.ends[self.from].name.clone();
        match (stands.is_some(), step) {
            (true, ProbeStep::Delete) => return Ok(Err(ProbeFault::StillThere)),
            (false, ProbeStep::Delete) => return Ok(Ok(())),
            (false, _) => return Ok(Err(ProbeFault::NotStored)),
            (true, _) => {}
        }
        let Some(before) = before else { return Ok(Ok(())) };
        let (token, ctag, is_listed) = self.marks().await?;
        if !is_listed {
            return Ok(Err(ProbeFault::NotListed { calendar: calendar() }));
        }
        let has_marks = before.0.is_some() || before.1.is_some();
        if !has_marks || (&before.0, &before.1) != (&token, &ctag) {
            return Ok(Ok(()));
        }
        // Some servers count seconds: what changed twice in one shows once. A second later it must move.
        tokio::time::sleep(A_SECOND).await;
        self.probe.sequence += 1;
        let text = self.probe.entry(self.options.now).caldav_text(self.options.now);
        let out = Outgoing { href: &self.href, text: Some(&text), condition: Condition::Exists };
        drop(send(end, &out, &Cell::new(false)).await);
        let (token_then, ctag_then, _) = self.marks().await?;
        // A run would find it by the listing perhaps: the next one, which trusts the mark, would not.
        let stands_still = (token, ctag) == (token_then, ctag_then);
        Ok(if stands_still { Err(ProbeFault::Unnoticed { calendar: calendar() }) } else { Ok(()) })
    }

    /// The source's own marks of change, and whether it lists the test entry.
    async fn marks(&self) -> Result<(Option<SyncToken>, Option<SyncToken>, bool), RunError> {
        let end = &self.rule.ends[self.from];
        let listing = end.calendar.listing().await.map_err(|error| end.failed(error))?;
        let is_listed = listing.entries.iter().any(|one| one.href == self.href);
        Ok((listing.sync_token, listing.ctag, is_listed))
    }

    fn note(&self, side: usize, href: &ObjectHref) -> Result<(), RunError> {
        let row = ProbeRow {
            route: self.rule.name.clone(),
            calendar: self.rule.ends[side].name.clone(),
            href: href.clone(),
            since: self.options.now,
            starts: self.starts,
        };
        Ok(self.store.write(|writer| writer.note_probe(&row))?)
    }

    /// Runs the route over the test entry alone. Returns what it met with.
    async fn run(&self) -> Result<Option<ProbeFault>, RunError> {
        let options = RunOptions { names_all: true, ..over_test_entries(self.options, &self.spans) };
        let report = run_route(self.rule, self.store, &options, &Silent).await?;
        if let Some(error) = report.error {
            return Ok(Some(ProbeFault::Run(Box::new(error))));
        }
        let met = |change: &&chestnut_store::Change| {
            matches!(change.action, ChangeAction::Failed | ChangeAction::Damaged)
        };
        let told = report.changes.iter().find(met).and_then(|change| change.told.clone());
        Ok(told.map(ProbeFault::Told))
    }

    /// Looks whether a step has arrived, again and again while something else may bring it.
    async fn arrival(
        &mut self,
        step: ProbeStep,
        side: usize,
        met: &mut Option<ProbeFault>,
    ) -> Result<LegOutcome, RunError> {
        let deadline = self.how.wait.map(|wait| Instant::now() + wait.unsigned_abs());
        let mut pause = FIRST_PAUSE;
        loop {
            let look = self.look(side).await?;
            let fault = match self.judge(step, side, &look) {
                Ok(outcome) => return Ok(outcome),
                Err(fault) => fault,
            };
            match deadline {
                Some(deadline) if Instant::now() < deadline && !self.how.stop.get() => {
                    tokio::time::sleep(pause).await;
                    pause = (pause * 2).min(LONGEST_PAUSE);
                }
                _ => return Ok(LegOutcome::Failed(self.cause(step, side, fault, &look, met).await?)),
            }
        }
    }

    /// What stands in a far calendar of the test entry, by its listing and by its places.
    async fn look(&mut self, side: usize) -> Result<FarLook, RunError> {
        let end = &self.rule.ends[side];
        let listing = end.calendar.listing().await.map_err(|error| end.failed(error))?;
        let listing: BTreeMap<_, _> = listing.entries.into_iter().map(|one| (one.href, one.etag)).collect();
        let news = listing.iter().filter(|(href, etag)| self.listed[side].get(*href) != Some(etag));
        let mut hrefs: BTreeSet<ObjectHref> = news.map(|(href, _)| href.clone()).take(FEW).collect();
        hrefs.extend(self.tracked[side].iter().cloned());
        for uid in [self.rule.key.copy_uid(&self.probe.uid), self.probe.uid.clone()] {
            hrefs.insert(end.calendar.new_href(&uid));
        }
        let hrefs: Vec<_> = hrefs.into_iter().collect();
        let fetched = end.calendar.fetch(&hrefs).await.map_err(|error| end.failed(error))?;
        let mark = self.rule.key.probe_mark();
        let mut look = FarLook { entries: Vec::new(), is_unlisted: false };
        for (href, one) in fetched {
            let Fetched::Text { text, .. } = one else { continue };
            let Ok(entry) = Entry::parse(&text, &Limits::default()) else { continue };
            let is_block =
                self.rule.makes == Makes::Blocks && span_of(&entry).is_some_and(|s| self.spans.contains(&s));
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

    /// Tells whether what stands there is what should after this step.
    fn judge(&self, step: ProbeStep, side: usize, look: &FarLook) -> Result<LegOutcome, ProbeFault> {
        let decider = self.session.decider();
        let sent = self.probe.entry(self.options.now);
        if step == ProbeStep::Delete {
            return match (look.entries.is_empty(), self.rule.deletions) {
                (true, Deletions::Carry) => Ok(LegOutcome::Arrived),
                (false, Deletions::Keep) => Ok(LegOutcome::Stays),
                (true, Deletions::Keep) => Err(ProbeFault::NothingCame),
                (false, Deletions::Carry) => Err(ProbeFault::StillThere),
            };
        }
        if look.is_unlisted {
            return Err(ProbeFault::NotListed { calendar: self.rule.ends[side].name.clone() });
        }
        let shows_title = match &decider.policy {
            Policy::Copies(policy) => {
                policy.carry.show(&sent).is_ok_and(|shown| shown.entry().title().contains(&self.probe.title))
            }
            Policy::Alike(_) => true,
        };
        if !shows_title {
            let texts = look.entries.iter().map(|(_, _, text)| text.replace("\r\n ", "").replace("\n ", ""));
            let code = self.titles[0].rsplit(' ').next().unwrap_or_default().to_owned();
            if texts.into_iter().any(|text| text.lines().any(|l| !l.starts_with("UID") && l.contains(&code)))
            {
                return Err(ProbeFault::ShowsMore(code));
            }
        }
        if self.rule.makes != Makes::Entries {
            // Tasks have no start of their own.
            let length = if self.probe.kind == Kind::Task { PROBE_LENGTH } else { SignedDuration::ZERO };
            let starts = self.probe.starts().into_iter().map(|at| (at + length).as_second());
            let wanted: BTreeSet<i64> = starts.collect();
            let found: BTreeSet<i64> =
                look.entries.iter().filter_map(|(_, entry, _)| Some(span_of(entry)?.0)).collect();
            let is_there = match self.rule.makes {
                Makes::Blocks => wanted.is_subset(&found),
                _ => wanted == found,
            };
            return match (is_there, step) {
                (true, ProbeStep::Rename) if !shows_title => Ok(LegOutcome::Hidden),
                (true, ProbeStep::Rename) => {
                    let is_renamed =
                        look.entries.iter().all(|(_, e, _)| e.title().contains(&self.probe.title));
                    if is_renamed { Ok(LegOutcome::Arrived) } else { Err(ProbeFault::NothingCame) }
                }
                (true, _) => Ok(LegOutcome::Arrived),
                (false, _) if found.is_empty() => Err(ProbeFault::NothingCame),
                (false, _) => Err(ProbeFault::Differs(vec!["DTSTART".to_owned()])),
            };
        }
        let [(_, there, _)] = &look.entries[..] else { return Err(ProbeFault::NothingCame) };
        let habits = &self.session.gatherer.habits;
        let differences = match &decider.policy {
            Policy::Copies(policy) => copy_differences(policy, &sent, there, &habits[side])
                .map_err(|reason| ProbeFault::LeftOut(reason.key().to_owned()))?,
            Policy::Alike(policy) => {
                let sight = policy.sight(self.from).within(policy.sight(side));
                replica_differences(sight, (&sent, &habits[self.from]), (there, &habits[side]))
            }
        };
        match (differences.is_empty(), step) {
            (true, ProbeStep::Rename) if !shows_title => Ok(LegOutcome::Hidden),
            (true, _) => Ok(LegOutcome::Arrived),
            (false, _) => Err(differing(&sent, there, &differences)),
        }
    }

    /// The likely cause of a step that did not arrive.
    async fn cause(
        &self,
        step: ProbeStep,
        side: usize,
        fault: ProbeFault,
        look: &FarLook,
        met: &mut Option<ProbeFault>,
    ) -> Result<ProbeFault, RunError> {
        if !matches!(fault, ProbeFault::NothingCame | ProbeFault::StillThere | ProbeFault::Differs(_)) {
            return Ok(fault);
        }
        if self.how.stop.get() {
            return Ok(ProbeFault::Stopped);
        }
        if let Some(met) = met.take() {
            return Ok(met);
        }
        let end = &self.rule.ends[self.from];
        let stands = read(end, &self.href).await?.is_some();
        if step != ProbeStep::Delete && !stands {
            return Ok(ProbeFault::NotStored);
        }
        let listing = end.calendar.listing().await.map_err(|error| end.failed(error))?;
        let is_listed = listing.entries.iter().any(|one| one.href == self.href);
        if step != ProbeStep::Delete && !is_listed {
            return Ok(ProbeFault::NotListed { calendar: end.name.clone() });
        }
        if self.how.wait.is_some() {
            return Ok(fault);
        }
        // What the run knows of it: nothing, where the calendar's mark of change did not move.
        let mirror = self.session.calendar(self.from).id;
        let known = self.store.object_at(mirror, &self.href)?;
        let sent = self.probe.entry(self.options.now).meaning().fingerprint();
        let knows = |object| {
            Ok::<_, RunError>(
                self.session.gatherer.stands(object)?.entry().map(|e| e.meaning().fingerprint()),
            )
        };
        let is_noticed = match (known, step) {
            (None, ProbeStep::Delete) => true,
            (None, _) | (Some(_), ProbeStep::Delete) => false,
            (Some(object), _) => knows(object)? == Some(sent),
        };
        if !is_noticed {
            return Ok(ProbeFault::Unnoticed { calendar: end.name.clone() });
        }
        let route = self.store.route(&self.rule.name)?.map(|route| route.id);
        for (_, link) in self.store.marked(route, mirror, &self.rule.key.probe_mark())? {
            let row = link.map(|link| self.store.link(link)).transpose()?.flatten();
            if let Some(row) = row.filter(|row| row.state == LinkState::LeftOut) {
                return Ok(ProbeFault::LeftOut(row.reason));
            }
        }
        // The route believes that it stands there.
        let far = &self.rule.ends[side];
        if step == ProbeStep::Create && look.entries.is_empty() {
            let mirror = self.session.calendar(side).id;
            if !self.store.marked(None, mirror, &self.rule.key.probe_mark())?.is_empty() {
                return Ok(ProbeFault::NotListed { calendar: far.name.clone() });
            }
        }
        Ok(fault)
    }

    /// Takes away what is left of the test entry, and what is remembered of it.
    async fn clean_up(&mut self) -> Result<Vec<Leftover>, RunError> {
        let mark = self.rule.key.probe_mark();
        let mut leftovers = Vec::new();
        let mut left = |end: &CalendarEnd, href: &ObjectHref| {
            leftovers.push(Leftover { calendar: end.name.clone(), href: href.to_string() });
        };
        let end = &self.rule.ends[self.from];
        let source = take_away(end, &self.href, &mark).await;
        match source {
            Ok(Taken::Gone { .. }) => {
                self.store.write(|writer| writer.forget_probe(&self.rule.name, &end.name, &self.href))?;
            }
            _ => left(end, &self.href),
        }
        if self.is_written {
            // The route takes its copies away by itself, unless it says that they stay.
            drop(self.run().await);
        }
        for side in self.far() {
            let end = &self.rule.ends[side];
            let mut hrefs = self.tracked[side].clone();
            hrefs.extend(noted(self.rule, self.store, end)?.map(|row| row.href));
            for href in hrefs {
                match take_away(end, &href, &mark).await {
                    Ok(Taken::Gone { .. }) => {
                        self.store.write(|writer| writer.forget_probe(&self.rule.name, &end.name, &href))?;
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

/// When a test entry may have taken place that did so once: a day before or after, and the days of its series.
fn may_have_been(start: i64) -> impl Iterator<Item = (i64, i64)> {
    let moved = (-1..=PROBE_DAYS).flat_map(|day| [24 * day, 24 * day + 1]);
    moved.map(move |hours| (start + hours * 3600, start + hours * 3600 + PROBE_LENGTH.as_secs()))
}

/// What became of something that was to be taken away.
enum Taken {
    Gone { was_there: bool },
    Stands,
}

/// Deletes what stands at a place, where it bears the mark of a test entry; all else is not ours.
async fn take_away(end: &CalendarEnd, href: &ObjectHref, mark: &str) -> Result<Taken, RunError> {
    let Some((entry, etag)) = read(end, href).await? else { return Ok(Taken::Gone { was_there: false }) };
    if !entry.uid().as_str().starts_with(mark) {
        return Ok(Taken::Gone { was_there: false });
    }
    let condition = etag.map_or(Condition::Exists, Condition::Is);
    let out = Outgoing { href, text: None, condition };
    drop(send(end, &out, &Cell::new(false)).await);
    Ok(match read(end, href).await? {
        None => Taken::Gone { was_there: true },
        Some(_) => Taken::Stands,
    })
}

async fn read(end: &CalendarEnd, href: &ObjectHref) -> Result<Option<(Entry, Option<ETag>)>, RunError> {
    let mut fetched =
        end.calendar.fetch(std::slice::from_ref(href)).await.map_err(|error| end.failed(error))?;
    let Some(Fetched::Text { text, etag }) = fetched.remove(href) else { return Ok(None) };
    Ok(Entry::parse(&text, &Limits::default()).ok().map(|entry| (entry, etag)))
}

/// In which way what came differs from what was sent.
fn differing(sent: &Entry, there: &Entry, differences: &[FieldDifference]) -> ProbeFault {
    let is_time =
        |one: &FieldDifference| matches!(one.field.as_str(), "DTSTART" | "DTEND" | "DUE" | "DURATION");
    let shift = span_of(sent).zip(span_of(there)).map(|(sent, there)| there.0 - sent.0);
    match shift.filter(|shift| *shift != 0 && differences.iter().any(is_time)) {
        Some(shift) => ProbeFault::Shifted(shift),
        None => {
            let mut fields: Vec<_> = differences.iter().map(|one| one.field.clone()).collect();
            fields.dedup();
            ProbeFault::Differs(fields)
        }
    }
}
