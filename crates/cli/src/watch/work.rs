//! The process that keeps routes running: waits until something is due, or happens, and does it.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::pin::Pin;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use chestnut_engine::{Pace, Paced, RunError, Signs, Turn, is_behind};
use chestnut_store::{Counts, NoticeEvent, Store, StoreError, TroubleKind};
use futures_util::stream::{FuturesUnordered, StreamExt as _};
use jiff::Timestamp;
use serde_json::json;
use tokio::time::Instant;

use super::files::{Changed, Files};
use super::health::{Health, RouteHealth};
use super::manager::Manager;
use super::placed::Placed;
use super::rounds::{GroupDone, LookDone, Rounds, RouteDone};
use super::shared::Others;
use super::signals::{Signal, Signals};
use super::view::View;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::open::call_as_configured;
use crate::render::human::watch::Live;
use crate::report::route::gone;
use crate::report::status::stale_after;
use crate::report::trouble::open_troubles;
use crate::settings::{Connections, RouteSettings, Settings, side_by_side};
use crate::troubles::{Happened, Observer, Teller, daily_look, is_due, settle};
use crate::words::{
    InWords as _, heartbeat_unheard, looks_in_its_time, needs_restart, read_again, route_error_words,
    run_words, signal_words, state_left, state_not_usable, trouble_turn_words, troubles_words, watch_begins,
    watch_ends,
};

/// How often what can change beside this process is looked at: routes that got their first yes.
const TURN: Duration = Duration::from_secs(60);
/// How often it is looked whether somebody said the first yes to a route, while one waits for it.
const YES: Duration = Duration::from_secs(5);
/// A file that changes is read after so long: whoever writes it may write twice.
const SETTLES: Duration = Duration::from_secs(1);
/// Connections, and what was found with them, are made anew after so long.
const GENERATION: Duration = Duration::from_secs(86_400);
/// Whether a day has passed since what is looked at once a day was looked at, is asked so long after the beginning, and
/// then so often.
const FIRST_ALARM: Duration = Duration::from_secs(30);
const ALARMS: Duration = Duration::from_secs(3600);
/// How long running work may take after the end was asked for, beside the longest time-out.
const GRACE: Duration = Duration::from_secs(5);
/// Rounds without anything to tell, after which one more is not asked about.
const CALM: u32 = 3;
/// A monitor hears no more often.
const BEAT: Duration = Duration::from_secs(60);

/// Why a watch ends.
pub(super) enum Ended {
    Stopped,
    /// The file of the state was taken away, or another was put in its place: what would be remembered in the old one nobody
    /// would know.
    StateLeft(Box<Settings>),
}

pub(super) struct Watch<'w> {
    store: &'w Store,
    /// Where that is, if it is a file.
    file: Option<Placed>,
    environment: &'w Environment,
    key: Vec<u8>,
    health: Arc<Health>,
    stop: Rc<Cell<bool>>,
    manager: Manager,
    began: Cell<Option<Instant>>,
    /// For how many rounds nothing was the matter with a route, and nothing to do.
    calm: RefCell<BTreeMap<String, u32>>,
    /// What some trouble, or the suspicion of one, is about.
    troubled: RefCell<BTreeSet<String>>,
    others: Others,
}

/// Work that goes on beside the loop.
enum Done {
    Group(GroupDone),
    Look(LookDone),
    Told(Result<usize, StoreError>),
    Alarms(Result<Signs, StoreError>),
    Beaten,
}

type Work<'w> = Pin<Box<dyn Future<Output = Done> + 'w>>;

/// Why a generation ends.
enum Leaving {
    Stop { until: Instant },
    Anew(Box<Settings>),
    StateLeft,
}

/// What goes on over all generations.
#[derive(Default)]
struct Kept {
    pace: Pace,
    next_alarms: Option<Instant>,
    last_beat: Option<Instant>,
    read_again_at: Option<Instant>,
    /// Requests sent so far.
    requests: u64,
    /// What was said once.
    told_unwatched: BTreeSet<PathBuf>,
}

impl<'w> Watch<'w> {
    /// Watches with one state, of which `file` is where it is, if it is a file.
    pub(super) fn new(
        store: &'w Store,
        file: Option<Placed>,
        key: Vec<u8>,
        health: Arc<Health>,
        environment: &'w Environment,
    ) -> Self {
        Self {
            store,
            file,
            environment,
            key,
            health,
            stop: Rc::default(),
            manager: Manager::of_process(),
            began: Cell::new(None),
            calm: RefCell::default(),
            troubled: RefCell::default(),
            others: Others::default(),
        }
    }
}

impl Watch<'_> {
    fn now(&self) -> Timestamp {
        self.environment.now().unwrap_or_default()
    }

    /// What has passed since the beginning.
    fn passed(&self) -> Duration {
        self.began.get().map_or(Duration::ZERO, |began| began.elapsed())
    }

    pub(super) async fn run(&self, mut settings: Settings, view: &mut View) -> Result<Ended, Failure> {
        self.began.set(Some(Instant::now()));
        let mut signals = Signals::new()?;
        let mut files = Files::new();
        let mut kept = Kept { next_alarms: Some(Instant::now() + FIRST_ALARM), ..Kept::default() };
        self.manager.ready();
        tracing::info!("{}", watch_begins(settings.routes.len(), &settings.path));
        let mut has_begun = false;
        loop {
            match self.generation(&settings, &mut kept, &mut signals, &mut files, view).await {
                Ok(Leaving::Stop { .. }) => break,
                Ok(Leaving::Anew(new)) => settings = *new,
                Ok(Leaving::StateLeft) => {
                    tracing::warn!("{}", state_left(self.store.place()));
                    return Ok(Ended::StateLeft(Box::new(settings)));
                }
                // A state that cannot be used at the beginning is for a person; later it may come back.
                Err(failure) if !has_begun => return Err(failure),
                Err(failure) => {
                    tracing::error!("{}", failure.message);
                    tokio::select! {
                        () = tokio::time::sleep(TURN / 2) => {}
                        signal = signals.next() => if signal == Signal::Stop { break },
                    }
                }
            }
            has_begun = true;
        }
        self.manager.stopping();
        tracing::info!("{}", watch_ends());
        Ok(Ended::Stopped)
    }

    /// Works under one configuration until that ends.
    async fn generation(
        &self,
        settings: &Settings,
        kept: &mut Kept,
        signals: &mut Signals,
        files: &mut Files,
        view: &mut View,
    ) -> Result<Leaving, Failure> {
        let began = Instant::now();
        call_as_configured(settings, self.store)?;
        let connections = Connections::new(settings, self.environment).keeping(self.store, self.now());
        let rounds = Rounds {
            settings,
            store: self.store,
            connections: &connections,
            environment: self.environment,
            key: &self.key,
            stop: Rc::clone(&self.stop),
        };
        for path in files.watch(settings) {
            if kept.told_unwatched.insert(path.clone()) {
                tracing::warn!("{}", looks_in_its_time(&path));
            }
        }
        let mut waiting = self.set_pace(settings, &mut kept.pace)?;
        self.tell_of_waiting(settings, &waiting)?;
        self.watch_health(settings);
        let mut running: FuturesUnordered<Work<'_>> = FuturesUnordered::new();
        let (mut is_telling, mut is_alarmed) = (false, false);
        let mut leaving: Option<Leaving> = None;
        let mut turn = Instant::now();
        let requests_before = kept.requests;
        loop {
            let now = Instant::now();
            kept.requests = requests_before + connections.requests();
            self.health.change(|facts| {
                facts.turned = Some(std::time::Instant::now());
                facts.requests = kept.requests;
            });
            self.manager.alive();
            if now >= turn {
                let others = Others::every(self.store);
                turn = now + others.map_or(TURN, |every| every.min(TURN));
                if others.is_some() {
                    // What they ran is known from the state alone.
                    self.watch_health(settings);
                }
                if leaving.is_none() && self.file.as_ref().is_some_and(Placed::has_left) {
                    leaving = Some(Leaving::StateLeft);
                }
                if leaving.is_none() {
                    let has_changed = self
                        .got_a_yes(&waiting)
                        .and_then(|yes| Ok(self.others.have_changed(self.store)? || yes));
                    match has_changed {
                        Ok(true) => match self.set_pace(settings, &mut kept.pace) {
                            Ok(left) => waiting = left,
                            Err(failure) => tracing::error!("{}", failure.message),
                        },
                        Ok(false) => {}
                        Err(error) => self.note_state(Some(error)),
                    }
                    // A file that cannot be used now is a trouble of its own: the one before goes on.
                    if began.elapsed() >= GENERATION
                        && let Ok(new) = Settings::load(Some(&settings.path), self.environment)
                    {
                        leaving = Some(Leaving::Anew(Box::new(new)));
                    }
                }
                self.note_stale(settings);
                if !waiting.is_empty() && others.is_none() {
                    turn = now + YES;
                }
            }
            if kept.read_again_at.is_some_and(|at| at <= now) && leaving.is_none() {
                kept.read_again_at = None;
                if let Some(new) = self.read_again(settings) {
                    kept.pace.mended(self.passed());
                    leaving = Some(Leaving::Anew(Box::new(new)));
                }
            }
            let notice = self.next_notice(settings);
            match &leaving {
                None => {
                    // Nothing more is begun under a rule that somebody has just changed.
                    if kept.read_again_at.is_none() {
                        self.begin_due(settings, &rounds, &mut kept.pace, &mut running);
                    }
                    if !is_telling && notice.is_some_and(|wait| wait.is_zero()) {
                        is_telling = true;
                        running.push(self.telling(settings));
                    }
                    if !is_alarmed && kept.next_alarms.is_some_and(|at| at <= now) {
                        kept.next_alarms = Some(now + ALARMS);
                        match is_due(self.store, self.now()) {
                            Ok(true) => {
                                is_alarmed = true;
                                running.push(self.alarms(settings, &connections));
                            }
                            Ok(false) => {}
                            Err(error) => self.note_state(Some(error)),
                        }
                    }
                }
                Some(Leaving::Stop { until }) if running.is_empty() || *until <= now => {
                    return Ok(leaving.expect("it was just seen"));
                }
                Some(Leaving::StateLeft) if running.is_empty() => return Ok(Leaving::StateLeft),
                Some(Leaving::Anew(_)) if running.is_empty() => {
                    self.manager.ready();
                    return Ok(leaving.expect("it was just seen"));
                }
                Some(_) => {}
            }
            view.draw(|| self.frame(settings, &kept.pace, &waiting));
            let mut wake = turn;
            if let Some(next) = kept.pace.next().filter(|_| leaving.is_none()) {
                wake = wake.min(self.began.get().unwrap_or(now) + next);
            }
            for at in [kept.read_again_at, kept.next_alarms.filter(|_| !is_alarmed)].into_iter().flatten() {
                wake = wake.min(at);
            }
            if let Some(Leaving::Stop { until }) = &leaving {
                wake = wake.min(*until);
            }
            if let Some(every) = self.manager.watchdog {
                wake = wake.min(now + every);
            }
            if let Some(at) = notice.filter(|_| !is_telling && leaving.is_none()) {
                wake = wake.min(now + at);
            }
            // Something that was due and could not be begun is no reason to turn without a rest.
            let wake = wake.max(now + Duration::from_millis(20));
            tokio::select! {
                Some(done) = running.next() => match done {
                    Done::Group(done) => {
                        self.group_done(settings, done, &mut kept.pace, view);
                        if self.may_beat(settings, kept) {
                            running.push(self.beat(settings, &connections));
                        }
                    }
                    Done::Look(done) => self.look_done(settings, &done, &mut kept.pace),
                    Done::Told(told) => {
                        is_telling = false;
                        self.note_state(told.err());
                    }
                    Done::Alarms(signs) => {
                        is_alarmed = false;
                        match signs {
                            Ok(signs) => self.settle(settings, signs),
                            Err(error) => self.note_state(Some(error)),
                        }
                    }
                    Done::Beaten => {}
                },
                () = tokio::time::sleep_until(wake) => {}
                signal = signals.next() => {
                    // A terminal that is closed takes its table with it.
                    let signal = if signal == Signal::Reload && view.is_live() { Signal::Stop } else { signal };
                    tracing::info!("{}", signal_words(signal == Signal::Stop, signal == Signal::All));
                    match (signal, &leaving) {
                        (Signal::Stop, Some(Leaving::Stop { .. })) => {
                            return Ok(Leaving::Stop { until: Instant::now() });
                        }
                        (Signal::Stop, _) => {
                            self.stop.set(true);
                            self.manager.stopping();
                            let longest = settings.accounts.values().map(|account| account.timeout).max();
                            let longest = longest.and_then(|it| Duration::try_from(it).ok());
                            let until = Instant::now() + longest.unwrap_or(Duration::from_secs(30)) + GRACE;
                            leaving = Some(Leaving::Stop { until });
                        }
                        (Signal::Reload, _) => kept.read_again_at = Some(Instant::now()),
                        (Signal::All, _) => kept.pace.all_now(self.passed()),
                    }
                }
                changed = files.next() => for what in changed {
                    match what {
                        Changed::Configuration => kept.read_again_at = Some(Instant::now() + SETTLES),
                        Changed::Calendar(name) => kept.pace.touch(&name, self.passed() + SETTLES),
                    }
                },
            }
        }
    }

    /// Takes over which routes run, and how often. Returns those that wait for their first yes.
    fn set_pace(&self, settings: &Settings, pace: &mut Pace) -> Result<BTreeSet<String>, Failure> {
        let now = self.now();
        let share = self.others.share(settings, self.store)?;
        let mut waiting = BTreeSet::new();
        let mut routes = BTreeMap::new();
        for (name, route) in &settings.routes {
            let known = self.store.route(name)?;
            let Some(known) = known.filter(|known| known.ran_at.is_some()) else {
                waiting.insert(name.clone());
                continue;
            };
            if !share.contains(name) {
                continue;
            }
            let is_behind = is_behind((name, &known), route.makes, self.store, now.as_second())?;
            let age = known.well_at.filter(|_| !is_behind).map(|at| now.duration_since(at));
            // A moment that is still to come was noted under a wrong clock.
            let age = age.and_then(|age| Duration::try_from(age).ok());
            let sources = route.ends.iter().map(|end| Observer::source(settings, end).to_owned());
            let paced = Paced {
                every: Duration::try_from(route.every).unwrap_or(Duration::from_secs(900)),
                calendars: route.ends.clone(),
                sources: sources.collect::<BTreeSet<_>>().into_iter().collect(),
                age,
            };
            routes.insert(name.clone(), paced);
        }
        // Files may have changed while nobody watched them.
        let is_local = |name: &&String| settings.calendars[*name].place.is_local();
        let new = routes.iter().filter(|(name, _)| pace.next_of(name).is_none());
        let changed: BTreeSet<String> =
            new.flat_map(|(_, paced)| paced.calendars.iter().filter(is_local).cloned()).collect();
        let eager = settings.calendars.iter().filter(|(_, one)| one.soon).map(|(name, _)| name.clone());
        pace.set(&routes, eager.collect(), self.passed());
        changed.iter().for_each(|calendar| pace.touch(calendar, self.passed()));
        Ok(waiting)
    }

    /// Whether a route that waited has run meanwhile, in another process.
    fn got_a_yes(&self, waiting: &BTreeSet<String>) -> Result<bool, StoreError> {
        let mut has_one = false;
        for name in waiting {
            has_one |= self.store.route(name)?.is_some_and(|route| route.ran_at.is_some());
        }
        Ok(has_one)
    }

    /// Reads the configuration again. `None` where it cannot be used: the one before goes on.
    fn read_again(&self, settings: &Settings) -> Option<Settings> {
        self.manager.reloading();
        let path = settings.path.display().to_string();
        let mut signs = Signs::default();
        // All routes may have been taken out. That others than those are gone is no command's doing.
        let is_usable = |new: &Settings| match new.routes.is_empty() && !gone(self.store, new)?.is_empty() {
            true => new.chosen_routes(&[]).map(drop),
            false => Ok(()),
        };
        let read = Settings::load(Some(&settings.path), self.environment)
            .and_then(|new| is_usable(&new).map(|()| new));
        let wrong = read.as_ref().err().map(|failure| json!({ "message": failure.message }));
        signs.note(TroubleKind::ConfigurationBroken, &path, wrong);
        self.settle(settings, signs);
        match read {
            Ok(new) => {
                tracing::info!("{}", read_again(new.routes.len()));
                if new.left_running.listen != settings.left_running.listen {
                    tracing::warn!("{}", needs_restart("listen"));
                }
                if new.state.is_elsewhere(&settings.state) {
                    tracing::warn!("{}", needs_restart("state"));
                }
                if new.key_path() != settings.key_path() {
                    tracing::warn!("{}", needs_restart("key"));
                }
                if new.state.lease() != settings.state.lease() {
                    tracing::warn!("{}", needs_restart("lease"));
                }
                Some(new)
            }
            Err(_) => {
                self.manager.ready();
                None
            }
        }
    }

    fn begin_due<'w>(
        &'w self,
        settings: &'w Settings,
        rounds: &'w Rounds<'w>,
        pace: &mut Pace,
        running: &mut FuturesUnordered<Work<'w>>,
    ) {
        let due = pace.due(self.passed());
        let routes: Vec<(&str, &RouteSettings)> = due
            .routes
            .iter()
            .filter_map(|name| settings.routes.get_key_value(name))
            .map(|(name, route)| (name.as_str(), route))
            .collect();
        for group in side_by_side(&routes) {
            running.push(Box::pin(async move { Done::Group(rounds.group(&group).await) }));
        }
        for calendar in due.calendars {
            let of: Vec<String> = pace.routes_of(&calendar).map(str::to_owned).collect();
            running.push(Box::pin(async move { Done::Look(rounds.look(calendar, &of).await) }));
        }
    }

    fn group_done(&self, settings: &Settings, done: GroupDone, pace: &mut Pace, view: &mut View) {
        let now = self.now();
        let has_state = done.state.is_none();
        self.note_state(done.state);
        self.health.round(done.took);
        let mut observer = Observer::new(settings);
        for (calendar, error) in &done.looked {
            match error {
                None => observer.calendar_is_well(calendar),
                Some(error) => observer.calendar_fails(calendar, error),
            }
        }
        for route in &done.routes {
            pace.done(&route.name, &route.went, self.passed());
            let Some(known) = settings.routes.get(&route.name) else { continue };
            // It ran once. The state no longer knows it: taken out, or renamed, which the configuration will say soon.
            if route.went.rested && matches!(self.store.route(&route.name), Ok(None)) {
                continue;
            }
            self.tell_of_run(route);
            view.note(&route.name, route);
            let error = route.report.as_ref().and_then(|report| report.error.as_ref());
            let happened = match route.went.rested {
                true => Happened::NotTried,
                false => Happened::of(error, route.failure.as_ref()),
            };
            // Nothing was decided, and nothing was the matter for some rounds: it is as it was.
            let is_idle = matches!(happened, Happened::Well) && route.report.is_none();
            let calm = self.calm.borrow().get(&route.name).copied().unwrap_or(0);
            if !is_idle || calm < CALM || self.troubled.borrow().contains(&route.name) {
                let before = observer.signs.bad.len();
                match observer.route(self.store, (&route.name, known), &happened, now, true) {
                    Ok(()) if observer.signs.bad.len() == before && is_idle => {
                        self.calm.borrow_mut().insert(route.name.clone(), calm + 1);
                    }
                    Ok(()) => drop(self.calm.borrow_mut().remove(&route.name)),
                    // Without a state nothing can be said.
                    Err(failure) => tracing::warn!("{}", failure.message),
                }
            }
            let well_at = match is_idle {
                true => {
                    self.note_well(&route.name, known, now);
                    Some(now)
                }
                false => self.store.route(&route.name).ok().flatten().and_then(|known| known.well_at),
            };
            self.health.change(|facts| {
                let health = facts.routes.entry(route.name.clone()).or_default();
                if health.well_at != well_at {
                    health.well = Some(std::time::Instant::now());
                }
                health.well_at = well_at;
                health.is_stale = health.is_older_than(stale_after(known, true));
            });
        }
        if has_state {
            self.settle(settings, observer.signs);
        }
    }

    /// Others know only what the state says: there it is noted, too, that nothing had to be done.
    fn note_well(&self, name: &str, route: &RouteSettings, now: Timestamp) {
        if self.store.shared_lease().is_none() {
            return;
        }
        let Ok(Some(known)) = self.store.route(name) else { return };
        let is_old = known.well_at.is_none_or(|at| now.duration_since(at) >= route.every);
        if is_old {
            self.note_state(self.store.write(|writer| writer.went_well(known.id, now)).err());
        }
    }

    fn look_done(&self, settings: &Settings, done: &LookDone, pace: &mut Pace) {
        let passed = self.passed();
        pace.looked(&done.calendar, done.has_moved, passed);
        done.routes.iter().for_each(|route| pace.wake(route, passed));
        if let Some(RunError::Store(error)) = &done.error {
            self.note_state(Some(error.clone()));
            return;
        }
        let mut observer = Observer::new(settings);
        match &done.error {
            Some(error) => observer.calendar_fails(&done.calendar, error),
            None => observer.calendar_is_well(&done.calendar),
        }
        self.settle(settings, observer.signs);
    }

    /// Writes a line about a run that did something, or failed.
    fn tell_of_run(&self, done: &RouteDone) {
        let Some(report) = &done.report else {
            if let Some(failure) = &done.failure {
                tracing::warn!(route = %done.name, "{}", failure.message);
            }
            return;
        };
        let Counts { created, updated, deleted } = report.summary.total();
        self.health.change(|facts| {
            *facts.runs.entry(report.result.word()).or_default() += 1;
            for (word, number) in [("created", created), ("updated", updated), ("deleted", deleted)] {
                *facts.changes.entry(word).or_default() += number as u64;
            }
        });
        let run = report.run.map(|run| run.0).unwrap_or_default();
        match &report.error {
            Some(error) => {
                tracing::warn!(route = %done.name, run, "{}", route_error_words(&error.in_words()));
            }
            None => {
                let words = run_words(&report.summary);
                let tells = created + updated + deleted + report.summary.failed + report.summary.held > 0;
                match tells {
                    true => tracing::info!(route = %done.name, run, "{words}"),
                    false => tracing::debug!(route = %done.name, run, "{words}"),
                }
            }
        }
        for change in &report.changes {
            tracing::debug!(
                route = %done.name, run, calendar = %change.calendar, action = change.action.word(),
                title = %crate::render::clean(&change.title), start = %change.start,
            );
        }
    }

    /// Brings what was seen together with what is known, and says what began and ended.
    fn settle(&self, settings: &Settings, signs: Signs) {
        match settle(settings, self.store, signs, self.now()) {
            Ok(turns) => {
                self.note_state(None);
                turns.iter().for_each(tell_of_turn);
                self.count_troubles();
            }
            Err(error) => self.note_state(Some(error)),
        }
    }

    fn count_troubles(&self) {
        let Ok(open) = self.store.open_troubles(i64::MAX) else { return };
        let lasting = open.iter().filter(|row| row.ended.is_none());
        *self.troubled.borrow_mut() = lasting.map(|row| row.about.clone()).collect();
        let mut counts = BTreeMap::new();
        for row in open.iter().filter(|row| row.began.is_some() && row.ended.is_none()) {
            *counts.entry(row.kind.word()).or_default() += 1;
        }
        self.manager.status(&troubles_words(counts.values().sum()));
        self.health.change(|facts| facts.troubles = counts);
    }

    fn note_state(&self, error: Option<StoreError>) {
        let words = error.map(|error| error.in_words());
        if let Some(words) = &words {
            tracing::error!("{}", state_not_usable(self.store.place(), words));
        }
        self.health.change(|facts| facts.state = words);
    }

    fn tell_of_waiting(&self, settings: &Settings, waiting: &BTreeSet<String>) -> Result<(), Failure> {
        let mut observer = Observer::new(settings);
        for (name, route) in &settings.routes {
            if waiting.contains(name) {
                observer.route(self.store, (name, route), &Happened::NotTried, self.now(), true)?;
            } else {
                observer.signs.note(TroubleKind::NeverRun, name, None);
            }
        }
        let path = settings.path.display().to_string();
        observer.signs.note(TroubleKind::ConfigurationBroken, &path, None);
        self.settle(settings, observer.signs);
        Ok(())
    }

    fn watch_health(&self, settings: &Settings) {
        let now = self.now();
        let mut routes = BTreeMap::new();
        for name in settings.routes.keys() {
            let well_at = self.store.route(name).ok().flatten().and_then(|known| known.well_at);
            let age = well_at.and_then(|at| Duration::try_from(now.duration_since(at)).ok());
            let well = age.and_then(|age| std::time::Instant::now().checked_sub(age));
            routes.insert(name.clone(), RouteHealth { well_at, well, is_stale: false });
        }
        self.health.change(|facts| {
            for (name, health) in &mut routes {
                if let Some(known) = facts.routes.remove(name).filter(|known| known.well_at == health.well_at)
                {
                    *health = known;
                }
            }
            facts.routes = routes;
        });
    }

    /// Notes routes that went too long without a run that went well, while nothing else happens.
    fn note_stale(&self, settings: &Settings) {
        let now = self.now();
        let mut newly = Vec::new();
        self.health.change(|facts| {
            for (name, health) in &mut facts.routes {
                let Some(route) = settings.routes.get(name) else { continue };
                let stale = health.is_older_than(stale_after(route, true));
                if stale && !health.is_stale {
                    newly.push((name.clone(), health.well_at));
                }
                health.is_stale = stale;
            }
        });
        let mut observer = Observer::new(settings);
        for (name, well_at) in newly {
            let rests =
                self.store.route(&name).ok().flatten().is_some_and(|known| known.rests(now.as_second()));
            if !rests {
                observer.stale(&name, &settings.routes[&name], Some(well_at.map(|at| at.to_string())));
            }
        }
        if !observer.signs.bad.is_empty() {
            self.settle(settings, observer.signs);
        }
    }

    /// How long until a program is to be told something.
    fn next_notice(&self, settings: &Settings) -> Option<Duration> {
        settings.left_running.on_trouble.as_ref()?;
        let now = self.now().as_second();
        let open = self.store.notices().ok()?;
        let next = open.iter().filter(|notice| !notice.is_given_up).map(|notice| notice.next - now).min()?;
        Some(Duration::from_secs(u64::try_from(next).unwrap_or(0)))
    }

    fn telling<'t>(&'t self, settings: &'t Settings) -> Work<'t> {
        let teller = Teller { settings, store: self.store };
        Box::pin(async move { Done::Told(teller.tell(|| self.now()).await) })
    }

    fn alarms<'t>(&'t self, settings: &'t Settings, connections: &'t Connections<'t>) -> Work<'t> {
        Box::pin(async move {
            Done::Alarms(daily_look(settings, self.store, connections, self.environment, self.now()).await)
        })
    }

    /// Whether a monitor is to hear that all is well.
    fn may_beat(&self, settings: &Settings, kept: &mut Kept) -> bool {
        let now = Instant::now();
        let is_time = kept.last_beat.is_none_or(|at| now.duration_since(at) >= BEAT);
        if settings.left_running.heartbeat.is_none() || !is_time || self.health.problem().is_some() {
            return false;
        }
        kept.last_beat = Some(now);
        true
    }

    fn beat<'t>(&'t self, settings: &'t Settings, connections: &'t Connections<'t>) -> Work<'t> {
        Box::pin(async move {
            if let Some(source) = &settings.left_running.heartbeat {
                match connections.heartbeat(source) {
                    Ok((client, url)) => {
                        // What it answers does not matter.
                        if !client.knock(&url).await {
                            tracing::warn!("{}", heartbeat_unheard());
                        }
                    }
                    Err(failure) => tracing::warn!("{}", failure.message),
                }
            }
            Done::Beaten
        })
    }

    /// What the live table shows.
    fn frame(&self, settings: &Settings, pace: &Pace, waiting: &BTreeSet<String>) -> Live {
        let now = self.now();
        let passed = self.passed();
        let troubles = open_troubles(settings, self.store, now).unwrap_or_default();
        let mut running = Vec::new();
        let mut due = Vec::new();
        for (name, route) in &settings.routes {
            if pace.is_running(name) {
                running.push((name.clone(), route.way()));
            } else if !waiting.contains(name) {
                let next = pace.next_of(name).map(|next| next.saturating_sub(passed)).unwrap_or_default();
                due.push((name.clone(), route.way(), next));
            }
        }
        due.sort_by_key(|(_, _, next)| *next);
        Live { troubles, running, due, now, zone: settings.zone.clone() }
    }
}

fn tell_of_turn(turn: &Turn) {
    let event = if turn.began { NoticeEvent::Begin } else { NoticeEvent::End };
    let words = trouble_turn_words(&turn.trouble, event);
    if turn.began {
        tracing::warn!(trouble = turn.trouble.id, kind = turn.trouble.kind.word(), "{words}");
    } else {
        tracing::info!(trouble = turn.trouble.id, kind = turn.trouble.kind.word(), "{words}");
    }
}
