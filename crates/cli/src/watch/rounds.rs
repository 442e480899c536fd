//! What happens when something is due: calendars are looked at once, routes run where that brought something.

use std::cell::Cell;
use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;
use std::time::Duration;

use chestnut_caldav::DavError;
use chestnut_engine::{
    CalendarEnd, CalendarError, Round, Rule, RunError, RunOptions, RunReport, Silent, Went, has_news,
    look_at_calendars, run_route,
};
use chestnut_store::{Store, StoreError};
use jiff::Timestamp;

use crate::environment::Environment;
use crate::failure::Failure;
use crate::running::{Runner, rest_of};
use crate::settings::{Connections, RouteSettings, Settings};
use crate::troubles::Observer;

/// What rounds work with, for as long as one configuration holds.
pub(super) struct Rounds<'r> {
    pub(super) settings: &'r Settings,
    pub(super) store: &'r Store,
    pub(super) connections: &'r Connections<'r>,
    pub(super) environment: &'r Environment,
    pub(super) key: &'r [u8],
    pub(super) stop: Rc<Cell<bool>>,
}

/// What became of one route.
pub(super) struct RouteDone {
    pub(super) name: String,
    /// It ran.
    pub(super) report: Option<RunReport>,
    /// It could not be begun.
    pub(super) failure: Option<Failure>,
    pub(super) went: Went,
}

/// What became of routes that share calendars.
pub(super) struct GroupDone {
    pub(super) routes: Vec<RouteDone>,
    /// The calendars that were looked at, and why in vain.
    pub(super) looked: BTreeMap<String, Option<RunError>>,
    pub(super) took: Duration,
    /// The state could not be used.
    pub(super) state: Option<StoreError>,
}

/// What became of a look at one calendar.
pub(super) struct LookDone {
    pub(super) calendar: String,
    pub(super) has_moved: bool,
    /// Routes that have something to do now.
    pub(super) routes: Vec<String>,
    pub(super) error: Option<RunError>,
}

impl Rounds<'_> {
    fn now(&self) -> Timestamp {
        self.environment.now().unwrap_or_default()
    }

    fn options(&self) -> RunOptions {
        RunOptions {
            stop: Rc::clone(&self.stop),
            measure: true,
            // A clock asks, not a person.
            is_asked: false,
            ..RunOptions::at(self.now())
        }
    }

    fn runner<'n>(&'n self, name: &'n str, route: &'n RouteSettings) -> Runner<'n> {
        Runner { name, route, key: self.key, connections: self.connections, store: self.store }
    }

    fn rests(&self, name: &str, route: &RouteSettings) -> Result<bool, StoreError> {
        let _still = self.store.hold_still()?;
        Ok(rest_of(self.settings, self.store, (name, route), self.now())?.is_some())
    }

    /// One round of routes that share calendars, in their order.
    pub(super) async fn group(&self, group: &[(&str, &RouteSettings)]) -> GroupDone {
        let began = tokio::time::Instant::now();
        let mut done =
            GroupDone { routes: Vec::new(), looked: BTreeMap::new(), took: Duration::ZERO, state: None };
        if let Err(error) = self.work(group, &mut done).await {
            done.state = Some(error);
        }
        done.took = began.elapsed();
        // What was not reached is due again in its own time.
        for (name, _) in group {
            if !done.routes.iter().any(|route| route.name == *name) {
                done.routes.push(rested(name));
            }
        }
        done
    }

    async fn work(&self, group: &[(&str, &RouteSettings)], done: &mut GroupDone) -> Result<(), StoreError> {
        let options = self.options();
        let mut ready: Vec<(&str, &RouteSettings, Rule)> = Vec::new();
        for (name, route) in group {
            if self.rests(name, route)? {
                done.routes.push(rested(name));
                continue;
            }
            match self.runner(name, route).rule().await {
                Ok(rule) => ready.push((name, route, rule)),
                Err(failure) => {
                    let of = failure.fault.as_ref().map(|fault| &fault.account);
                    let down = of.map(|account| (account.clone(), None)).into_iter().collect();
                    of.into_iter().for_each(|account| self.connections.forget_client(account));
                    let went = Went { down, ..Went::default() };
                    done.routes.push(RouteDone { failure: Some(failure), went, ..plain(name) });
                }
            }
        }
        let eager =
            |end: &CalendarEnd| self.settings.calendars.get(&end.name).is_some_and(|known| known.soon);
        let ends: BTreeMap<&str, &CalendarEnd> =
            ready.iter().flat_map(|(.., rule)| &rule.ends).map(|end| (end.name.as_str(), end)).collect();
        let mut seqs = BTreeMap::new();
        for (name, end) in ends.iter().filter(|(_, end)| eager(end)) {
            seqs.insert(*name, self.seq(end)?);
        }
        let rules: Vec<&Rule> = ready.iter().map(|(.., rule)| rule).collect();
        look_at_calendars(&rules, self.store, &options).await;
        for (name, end) in &ends {
            done.looked.insert((*name).to_owned(), options.round.failure(end));
        }
        let mut moved = BTreeSet::new();
        for (name, before) in &seqs {
            if self.seq(ends[name])? != *before {
                moved.insert((*name).to_owned());
            }
        }
        let mut idle = Vec::new();
        for (name, route, rule) in &ready {
            if self.stop.get() {
                break;
            }
            let mut route_done = plain(name);
            route_done.went.moved = moved.iter().filter(|name| route.ends.contains(name)).cloned().collect();
            // Taken out, or renamed, and the configuration was not read again yet. A first run is not for a clock to begin.
            let Some(known) = self.store.route(name)?.filter(|known| known.ran_at.is_some()) else {
                done.routes.push(rested(name));
                continue;
            };
            if has_news(rule, &known, self.store, &options).map_err(state_error)? {
                let options = RunOptions { known: Some(known.id), ..options.clone() };
                match self.run(name, route, rule, &options).await {
                    Ok(None) => route_done = rested(name),
                    Ok(Some(report)) => {
                        if let Some(RunError::Store(error)) = &report.error {
                            done.state = Some(error.clone());
                        }
                        route_done.went.down = self.down(report.error.as_ref());
                        route_done.report = Some(report);
                    }
                    Err(failure) => route_done.failure = Some(failure),
                }
            } else {
                idle.push(known.id);
            }
            done.routes.push(route_done);
        }
        if idle.is_empty() {
            return Ok(());
        }
        self.store.write(|writer| idle.iter().try_for_each(|route| writer.went_well(*route, options.now)))
    }

    /// Runs a route whose calendars were looked at; where one was not at its place, seeks it and runs it once more. `None`:
    /// somebody took it out, or paused it, just now.
    async fn run(
        &self,
        name: &str,
        route: &RouteSettings,
        rule: &Rule,
        options: &RunOptions,
    ) -> Result<Option<RunReport>, Failure> {
        let report = match run_route(rule, self.store, options, &Silent).await {
            Err(RunError::Withdrawn { .. }) => return Ok(None),
            report => report?,
        };
        let runner = self.runner(name, route);
        if !runner.has_moved(&report)? {
            return Ok(Some(report));
        }
        let prepared = async |_: &Rule| Ok(Some(RunOptions { round: Round::default(), ..options.clone() }));
        Ok(Some(runner.run(prepared, &Silent).await?.unwrap_or(report)))
    }

    /// What is down, by an error; its client begins anew, with what the configuration says then.
    fn down(&self, error: Option<&RunError>) -> BTreeMap<String, Option<Duration>> {
        let Some((error, source)) = error.and_then(|e| Some((e, Observer::down(self.settings, e)?))) else {
            return BTreeMap::new();
        };
        self.connections.forget_client(source);
        let wish = match error {
            RunError::Calendar { error, .. } => match &**error {
                CalendarError::Dav(DavError::Status { retry_after, .. }) => {
                    retry_after.map(Duration::from_secs)
                }
                _ => None,
            },
            _ => None,
        };
        [(source.to_owned(), wish)].into()
    }

    fn seq(&self, end: &CalendarEnd) -> Result<Option<i64>, StoreError> {
        Ok(self.store.last_change(&end.calendar.place())?.map(|(_, seq)| seq))
    }

    /// Looks at one calendar alone, and says which routes have something to do because of it.
    pub(super) async fn look(&self, calendar: String, routes: &[String]) -> LookDone {
        let mut done = LookDone { calendar, has_moved: false, routes: Vec::new(), error: None };
        if let Err(error) = self.look_alone(routes, &mut done).await {
            done.error = Some(error);
        }
        done
    }

    async fn look_alone(&self, routes: &[String], done: &mut LookDone) -> Result<(), RunError> {
        let options = self.options();
        let mut rules = Vec::new();
        for name in routes {
            let Some(route) = self.settings.routes.get(name) else { continue };
            if self.rests(name, route)? {
                continue;
            }
            // What cannot be made ready is told when the route is due.
            if let Ok(rule) = self.runner(name, route).rule().await {
                rules.push(rule);
            }
        }
        // Nothing but this one calendar.
        let alone: Vec<Rule> = rules
            .iter()
            .map(|rule| {
                let ends = rule.ends.iter().filter(|end| end.name == done.calendar).cloned().collect();
                Rule { ends, ..rule.clone() }
            })
            .collect();
        let Some(end) = alone.iter().flat_map(|rule| &rule.ends).next() else { return Ok(()) };
        let before = self.seq(end)?;
        look_at_calendars(&alone.iter().collect::<Vec<_>>(), self.store, &options).await;
        if let Some(error) = options.round.failure(end) {
            return Err(error);
        }
        done.has_moved = self.seq(end)? != before;
        if done.has_moved {
            for rule in &rules {
                let Some(known) = self.store.route(&rule.name)? else { continue };
                if has_news(rule, &known, self.store, &options)? {
                    done.routes.push(rule.name.clone());
                }
            }
        }
        Ok(())
    }
}

fn plain(name: &str) -> RouteDone {
    RouteDone { name: name.to_owned(), report: None, failure: None, went: Went::default() }
}

/// Nothing was tried.
fn rested(name: &str) -> RouteDone {
    RouteDone { went: Went { rested: true, ..Went::default() }, ..plain(name) }
}

fn state_error(error: RunError) -> StoreError {
    match error {
        RunError::Store(error) => error,
        _ => StoreError::Damaged,
    }
}
