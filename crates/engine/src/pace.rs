//! When what is due, for as long as a process runs: routes at their own pace, spread over time; calendars that are
//! looked at sooner; servers that are down less and less often.
//!
//! Time is what has passed since the process began, as a clock counts it that nobody sets: a machine that was asleep,
//! or whose clock jumped, goes on where it was. What is missed is done once, not once for each time it was missed.

use std::borrow::Borrow;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use sha2::{Digest as _, Sha256};

use crate::sharing::groups;

/// A calendar that changes is looked at so often, for so long.
const SOON: Duration = Duration::from_secs(60);
const SOON_FOR: Duration = Duration::from_secs(600);
/// The longest pause that grows by itself.
const LONGEST_PAUSE: Duration = Duration::from_secs(3600);
/// The longest that a server may ask for.
const LONGEST_WISH: Duration = Duration::from_secs(86_400);

/// A route, as far as its pace goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Paced {
    /// How long it rests between two rounds.
    pub every: Duration,
    /// Its calendars.
    pub calendars: Vec<String>,
    /// What can be down: its accounts, and the calendars that have none.
    pub sources: Vec<String>,
    /// How long ago its last run that went well was; `None` where there was none.
    pub age: Option<Duration>,
}

/// What is to be done now.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Due {
    /// Routes whose calendars are looked at, and which run where that brings something.
    pub routes: Vec<String>,
    /// Calendars that are looked at alone.
    pub calendars: Vec<String>,
}

/// How a route's round went.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Went {
    /// What did not answer, or refused the sign-in, and how long it asks to be left alone.
    pub down: BTreeMap<String, Option<Duration>>,
    /// Calendars in which something had changed.
    pub moved: BTreeSet<String>,
    /// Nobody was asked: nothing is known of whoever was down.
    pub rested: bool,
}

#[derive(Debug)]
struct RoutePace {
    paced: Paced,
    /// Where its times lie within the period.
    phase: Duration,
    next: Duration,
    is_running: bool,
    /// Its last round met with something that was down, or was left out because of it.
    waits: bool,
}

impl RoutePace {
    /// Tells whether no route that runs uses its calendars.
    fn is_free<C: Borrow<str> + Ord>(&self, busy: &BTreeSet<C>) -> bool {
        !self.is_running && !self.paced.calendars.iter().any(|used| busy.contains(used.as_str()))
    }
}

#[derive(Debug, Default)]
struct Source {
    failures: u32,
    until: Duration,
    /// A route has gone to see whether it is back.
    is_tried: bool,
}

#[derive(Debug)]
struct Soon {
    interval: Duration,
    often_until: Duration,
    next: Duration,
}

/// When what is due.
#[derive(Debug, Default)]
pub struct Pace {
    routes: BTreeMap<String, RoutePace>,
    sources: BTreeMap<String, Source>,
    /// Calendars that are looked at sooner when they change.
    eager: BTreeSet<String>,
    soon: BTreeMap<String, Soon>,
    /// Calendars that are known to have changed, and when to look at them.
    touched: BTreeMap<String, Duration>,
}

impl Pace {
    /// Takes over which routes there are, and which calendars are looked at sooner. What runs already keeps its
    /// times.
    pub fn set(&mut self, routes: &BTreeMap<String, Paced>, eager: BTreeSet<String>, now: Duration) {
        let phases = phases(routes);
        self.routes.retain(|name, _| routes.contains_key(name));
        for (name, paced) in routes {
            let phase = phases[name];
            match self.routes.get_mut(name) {
                Some(known) if known.paced.every == paced.every && known.phase == phase => {
                    known.paced = paced.clone();
                }
                Some(known) => {
                    (known.paced, known.phase) = (paced.clone(), phase);
                    known.next = known.next.min(slot_after(now, phase, paced.every));
                }
                None => {
                    let left = paced.age.map_or(Duration::ZERO, |age| paced.every.saturating_sub(age));
                    let next = slot_after(now, phase, paced.every).min(now + left);
                    let route =
                        RoutePace { paced: paced.clone(), phase, next, is_running: false, waits: false };
                    self.routes.insert(name.clone(), route);
                }
            }
        }
        self.soon.retain(|calendar, _| eager.contains(calendar));
        self.eager = eager;
    }

    /// Forgets who was down, and makes due what waits because of it: somebody may have mended something.
    pub fn mended(&mut self, now: Duration) {
        self.sources.clear();
        let waiting = self.routes.values_mut().filter(|route| route.waits);
        waiting.for_each(|route| route.next = route.next.min(now));
    }

    /// Makes all routes due, and forgets who was down: somebody asks for it.
    pub fn all_now(&mut self, now: Duration) {
        self.sources.clear();
        self.routes.values_mut().for_each(|route| route.next = now);
    }

    /// Makes a route due.
    pub fn wake(&mut self, route: &str, now: Duration) {
        if let Some(route) = self.routes.get_mut(route) {
            route.next = route.next.min(now);
        }
    }

    /// Makes a calendar due to be looked at then: it is known to have changed.
    pub fn touch(&mut self, calendar: &str, at: Duration) {
        self.touched.insert(calendar.to_owned(), at);
    }

    /// Returns the routes that use a calendar.
    pub fn routes_of(&self, calendar: &str) -> impl Iterator<Item = &str> {
        let uses = move |route: &RoutePace| route.paced.calendars.iter().any(|used| used == calendar);
        self.routes.iter().filter(move |(_, route)| uses(route)).map(|(name, _)| name.as_str())
    }

    /// When a route is due next.
    #[must_use]
    pub fn next_of(&self, route: &str) -> Option<Duration> {
        self.routes.get(route).map(|route| route.next)
    }

    /// Tells whether a route runs.
    #[must_use]
    pub fn is_running(&self, route: &str) -> bool {
        self.routes.get(route).is_some_and(|route| route.is_running)
    }

    /// When something is due next; `None` until something that runs is done.
    #[must_use]
    pub fn next(&self) -> Option<Duration> {
        let busy = self.busy();
        let is_free = |name: &str| !busy.contains(name);
        let routes = self.routes.values().filter(|route| route.is_free(&busy)).map(|route| route.next);
        let soon = self.soon.iter().filter(|(name, _)| is_free(name)).map(|(_, soon)| soon.next);
        let touched = self.touched.iter().filter(|(name, _)| is_free(name)).map(|(_, at)| *at);
        routes.chain(soon).chain(touched).min()
    }

    /// The calendars of the routes that run.
    fn busy(&self) -> BTreeSet<&str> {
        let running = self.routes.values().filter(|route| route.is_running);
        running.flat_map(|route| route.paced.calendars.iter().map(String::as_str)).collect()
    }

    /// Takes what is due. Its routes count as running until [`Self::done`].
    pub fn due(&mut self, now: Duration) -> Due {
        let is_time = self.routes.values().any(|route| !route.is_running && route.next <= now)
            || self.soon.values().any(|soon| soon.next <= now)
            || self.touched.values().any(|at| *at <= now);
        // Asked whenever something is done: mostly for nothing.
        if !is_time {
            return Due::default();
        }
        let busy: BTreeSet<String> = self.busy().into_iter().map(str::to_owned).collect();
        let mut due = Due::default();
        for (name, route) in &mut self.routes {
            if route.next > now || !route.is_free(&busy) {
                continue;
            }
            let sources = &mut self.sources;
            let waits = route.paced.sources.iter().any(|source| {
                sources.get(source).is_some_and(|source| {
                    // One route goes and sees; the others follow when it is back.
                    source.failures > 0 && (source.until > now || source.failures > 1 && source.is_tried)
                })
            });
            if waits {
                route.waits = true;
                route.next = slot_after(now, route.phase, route.paced.every);
                continue;
            }
            for source in &route.paced.sources {
                if let Some(source) = sources.get_mut(source) {
                    source.is_tried = true;
                }
            }
            route.is_running = true;
            due.routes.push(name.clone());
        }
        let taken: BTreeSet<_> =
            due.routes.iter().flat_map(|name| self.routes[name].paced.calendars.iter().cloned()).collect();
        let is_free = |name: &String| !busy.contains(name) && !taken.contains(name);
        let soon = self.soon.iter().filter(|(name, soon)| soon.next <= now && is_free(name));
        let mut calendars: BTreeSet<String> = soon.map(|(name, _)| name.clone()).collect();
        let touched = self.touched.iter().filter(|(name, at)| **at <= now && is_free(name));
        calendars.extend(touched.map(|(name, _)| name.clone()));
        // What is looked at for a route need not be looked at alone.
        self.touched.retain(|name, at| busy.contains(name) || *at > now);
        for name in &calendars {
            self.looked(name, false, now);
        }
        due.calendars = calendars.into_iter().collect();
        due
    }

    /// Notes how a route's round went.
    pub fn done(&mut self, route: &str, went: &Went, now: Duration) {
        let Some(known) = self.routes.get_mut(route) else { return };
        known.is_running = false;
        known.next = slot_after(now, known.phase, known.paced.every);
        let (every, paced) = (known.paced.every, known.paced.clone());
        if went.rested {
            for source in &paced.sources {
                self.sources.entry(source.clone()).and_modify(|source| source.is_tried = false);
            }
            return;
        }
        known.waits = !went.down.is_empty();
        for source in &paced.sources {
            match went.down.get(source) {
                None => drop(self.sources.remove(source)),
                Some(wish) => {
                    let down = self.sources.entry(source.clone()).or_default();
                    // Several routes of one round are one failure.
                    if down.failures == 0 || down.is_tried {
                        down.failures = down.failures.saturating_add(1);
                    }
                    down.is_tried = false;
                    let doublings = down.failures.saturating_sub(1).min(16);
                    let pause = match doublings {
                        0 => Duration::ZERO,
                        n => (every * (1 << n)).min(LONGEST_PAUSE.max(every)),
                    };
                    // A little less, so that the time it falls on is not missed by a hair.
                    let pause = pause.saturating_sub(every / 20);
                    let wish = wish.unwrap_or_default().min(LONGEST_WISH);
                    down.until = down.until.max(now + pause.max(wish));
                }
            }
        }
        for calendar in &paced.calendars {
            self.looked(calendar, went.moved.contains(calendar), now);
        }
    }

    /// Notes that a calendar was looked at, and whether it had changed.
    pub fn looked(&mut self, calendar: &str, has_moved: bool, now: Duration) {
        if !self.eager.contains(calendar) {
            return;
        }
        if has_moved {
            let soon = Soon { interval: SOON, often_until: now + SOON_FOR, next: now + SOON };
            self.soon.insert(calendar.to_owned(), soon);
            return;
        }
        let every = self.routes_of(calendar).map(|name| self.routes[name].paced.every).min();
        let Some(soon) = self.soon.get_mut(calendar) else { return };
        if soon.next > now {
            return;
        }
        if now >= soon.often_until {
            soon.interval *= 2;
        }
        soon.next = now + soon.interval;
        if every.is_none_or(|every| soon.interval >= every) {
            self.soon.remove(calendar);
        }
    }
}

/// The next time after `now` of what comes every so often, `phase` after the beginning.
fn slot_after(now: Duration, phase: Duration, every: Duration) -> Duration {
    let (now, phase, every) = (now.as_millis(), phase.as_millis(), every.as_millis().max(1));
    let passed = match now.checked_sub(phase) {
        None => return Duration::from_millis(u64::try_from(phase).unwrap_or(u64::MAX)),
        Some(since) => since / every + 1,
    };
    Duration::from_millis(u64::try_from(phase + passed * every).unwrap_or(u64::MAX))
}

/// Where the times of each route lie: routes that share calendars come together, so that each is looked at once; the
/// others are spread.
fn phases(routes: &BTreeMap<String, Paced>) -> BTreeMap<String, Duration> {
    let groups = groups(routes.iter().map(|(name, paced)| (name.as_str(), &paced.calendars[..])));
    let mut shortest: BTreeMap<&str, Duration> = BTreeMap::new();
    for (name, paced) in routes {
        shortest
            .entry(groups[name.as_str()])
            .and_modify(|least| *least = (*least).min(paced.every))
            .or_insert(paced.every);
    }
    let phase = |group: &str| {
        let digest = Sha256::digest(group.as_bytes());
        let share = u32::from_be_bytes(*digest.first_chunk().expect("a digest has 32 bytes"));
        shortest[group].mul_f64(f64::from(share) / f64::from(u32::MAX))
    };
    groups.iter().map(|(name, group)| ((*name).to_owned(), phase(group))).collect()
}
