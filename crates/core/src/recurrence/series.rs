//! A series with its changed, added and removed occurrences (RFC 5545, 3.8.4.4 and 3.8.5), asked for a window.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::{ControlFlow, Range};

use jiff::civil::DateTime;

use super::days::DAY;
use super::expand::{Budget, Expander, OverBudget};
use super::rule::{Rule, RuleError};
use super::zone::{Zone, ZonesBeside, date_time, local_seconds, seconds, utc};
use crate::canonical::is_this_and_future;
use crate::entry::Entry;
use crate::ical::{Component, Property};
use crate::values::{DurationValue, TimeValue, parse_duration, parse_time};

/// Around a change of the clock, local times and instants do not run in the same order.
const CLOCKS_JUMP: i64 = 3 * 3600;

/// Why an entry's occurrences cannot be worked out. They are never guessed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{self:?}")]
#[non_exhaustive]
pub enum SeriesError {
    /// A rule that is not understood.
    Rule(#[from] RuleError),
    /// A rule that asks for too much work.
    OverBudget(#[from] OverBudget),
    /// A zone that neither the database nor the entry explains; untrusted text.
    UnknownZone(String),
    /// A start that is no time; untrusted text.
    BadTime(String),
}

/// A point in time as a calendar shows it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Moment {
    /// A day.
    Date(DateTime),
    /// A time of no zone.
    Floating(DateTime),
    /// An instant, in seconds since 1970.
    Instant(i64),
}

/// One occurrence.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Instance {
    /// Which of the entry's components describes it, counted as [`Entry::components`] gives them.
    pub component: usize,
    /// When it begins.
    pub start: Moment,
    /// When it ends; the day after the last one for days.
    pub end: Moment,
    /// When it was to begin, where it was changed.
    pub recurrence_id: Option<Moment>,
}

/// How one component's times run.
#[derive(Debug, Clone)]
struct Timeline {
    is_day: bool,
    zone: Zone,
    /// Local time of the start.
    start: i64,
    length: Length,
}

#[derive(Debug, Clone, Copy)]
enum Length {
    /// On the clock: days, and times of no zone.
    Clock(i64),
    /// In time that passes.
    Exact(i64),
    /// Days on the clock, then seconds that pass.
    Nominal(DurationValue),
}

/// What tells one occurrence from another: its day, or its instant (for floating times the local one).
type Key = (bool, i64);

#[derive(Debug, Clone)]
struct Override {
    component: usize,
    key: Key,
    timeline: Timeline,
    sequence: i64,
    this_and_future: bool,
}

#[derive(Debug, Clone)]
struct Series {
    component: usize,
    timeline: Timeline,
    rules: Vec<Rule>,
    except_rules: Vec<Rule>,
    /// Added starts as local times of the series, with the end of a PERIOD.
    added: BTreeMap<i64, Option<i64>>,
    removed: BTreeSet<Key>,
}

/// An entry's occurrences, ready to be asked for.
#[derive(Debug, Clone)]
pub struct Occurrences {
    series: Vec<Series>,
    overrides: Vec<Override>,
    /// Times of day and of no zone are placed by this one.
    reading: Zone,
}

impl Occurrences {
    /// Reads an entry. `reading` is the zone in which days and floating times are placed in a window.
    ///
    /// # Errors
    /// [`SeriesError`]: what cannot be understood is told, never passed over. Entries without a start have no
    /// occurrences.
    pub fn of(entry: &Entry, reading: &Zone) -> Result<Self, SeriesError> {
        let zones = ZonesBeside::of(entry.object());
        let mut found = Self { series: Vec::new(), overrides: Vec::new(), reading: reading.clone() };
        let components: Vec<_> = entry.components().collect();
        let mut first = None;
        for (index, component) in components.iter().enumerate() {
            if component.property("RECURRENCE-ID").is_none()
                && let Some(series) = Series::of(index, component, &zones)?
            {
                first = first.or_else(|| Some(series.timeline.clone()));
                found.series.push(series);
            }
        }
        for (index, component) in components.iter().enumerate() {
            if let Some(id) = component.property("RECURRENCE-ID")
                && let Some(change) = Override::of(index, component, id, first.as_ref(), &zones)?
            {
                found.overrides.push(change);
            }
        }
        found.settle_overrides();
        Ok(found)
    }

    /// Of several changes to one occurrence, the one with the highest SEQUENCE counts, then the later one.
    fn settle_overrides(&mut self) {
        let mut last: BTreeMap<Key, usize> = BTreeMap::new();
        for (at, change) in self.overrides.iter().enumerate() {
            let before = last.get(&change.key).map(|at: &usize| self.overrides[*at].sequence);
            if before.is_none_or(|before| before <= change.sequence) {
                last.insert(change.key, at);
            }
        }
        let mut at = 0;
        self.overrides.retain(|change| {
            at += 1;
            last.get(&change.key) == Some(&(at - 1))
        });
    }

    /// Returns the occurrences that overlap a window, sorted by start. One that only touches it does not.
    ///
    /// # Errors
    /// The rules ask for more work than the budget allows.
    pub fn within(&self, window: Range<i64>, budget: &mut Budget) -> Result<Vec<Instance>, OverBudget> {
        let mut found: BTreeMap<(i64, usize, i64), Instance> = BTreeMap::new();
        let mut visit = |instance: Instance, start: i64, end: i64| {
            found.entry((start, instance.component, end)).or_insert(instance);
            ControlFlow::Continue(())
        };
        self.visit(&window, budget, &mut visit)?;
        Ok(found.into_values().collect())
    }

    /// Tells whether any occurrence overlaps a window.
    ///
    /// # Errors
    /// The rules ask for more work than the budget allows.
    pub fn any_within(&self, window: Range<i64>, budget: &mut Budget) -> Result<bool, OverBudget> {
        let mut any = false;
        let mut visit = |_: Instance, _: i64, _: i64| {
            any = true;
            ControlFlow::Break(())
        };
        self.visit(&window, budget, &mut visit)?;
        Ok(any)
    }

    fn visit(
        &self,
        window: &Range<i64>,
        budget: &mut Budget,
        visit: &mut dyn FnMut(Instance, i64, i64) -> ControlFlow<()>,
    ) -> Result<(), OverBudget> {
        let overridden: BTreeSet<Key> = self.overrides.iter().map(|change| change.key).collect();
        for series in &self.series {
            if self.visit_series(series, window, &overridden, budget, visit)?.is_break() {
                return Ok(());
            }
        }
        for change in &self.overrides {
            let timeline = &change.timeline;
            let (start, end) = (timeline.start, timeline.end_of(timeline.start, None));
            let at = (self.place(timeline, start), self.place_end(timeline, end));
            let recurrence_id = Some(change.moment(timeline));
            if overlaps(at, window)
                && visit(instance(timeline, change.component, start, end, recurrence_id), at.0, at.1)
                    .is_break()
            {
                return Ok(());
            }
        }
        Ok(())
    }

    fn visit_series(
        &self,
        series: &Series,
        window: &Range<i64>,
        overridden: &BTreeSet<Key>,
        budget: &mut Budget,
        visit: &mut dyn FnMut(Instance, i64, i64) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, OverBudget> {
        let own = &series.timeline;
        let later: Vec<&Override> = self.overrides.iter().filter(|change| change.this_and_future).collect();
        let moved = later.iter().map(|c| (c.timeline.start - c.local_key(own)).abs()).max().unwrap_or(0);
        let lengths = later.iter().map(|c| &c.timeline).chain([own]).map(Timeline::most_length);
        let clock = if own.is_day || own.zone.is_floating() { &self.reading } else { &own.zone };
        let jump = if clock.never_changes() { 0 } else { CLOCKS_JUMP };
        let before = lengths.max().unwrap_or(0) + moved + jump;
        let range = (
            clock.local(window.start).saturating_sub(before),
            clock.local(window.end).saturating_add(moved + jump),
        );
        let excluded = self.excluded(series, range, budget)?;
        let mut one = |local: i64, period_end: Option<i64>| {
            let key = own.key(local);
            if series.removed.contains(&key) || overridden.contains(&key) {
                return ControlFlow::Continue(());
            }
            let change = later.iter().filter(|c| c.key <= key).max_by_key(|c| c.key);
            let (timeline, component, start) = match change {
                None => (own, series.component, local),
                Some(c) => {
                    let shift = c.timeline.start - c.local_key(&c.timeline);
                    let local =
                        if own.is_day { local } else { c.timeline.zone.local(own.zone.instant(local)) };
                    (&c.timeline, c.component, local + shift)
                }
            };
            let end = timeline.end_of(start, period_end.filter(|_| change.is_none()));
            let at = (self.place(timeline, start), self.place_end(timeline, end));
            if !overlaps(at, window) {
                return ControlFlow::Continue(());
            }
            let id = change.map(|_| own.moment(local));
            visit(instance(timeline, component, start, end, id), at.0, at.1)
        };
        for (local, end) in &series.added {
            if one(*local, *end).is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        for rule in &series.rules {
            let is_late = |local: i64| own.is_late(rule, local);
            let expander = Expander::new(rule, own.start);
            let mut visit_one =
                |local| match series.added.contains_key(&local) || excluded.contains(&own.key(local)) {
                    true => ControlFlow::Continue(()),
                    false => one(local, None),
                };
            let seen = expander.each(range, &is_late, budget, &mut visit_one)?;
            if seen.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        Ok(ControlFlow::Continue(()))
    }

    fn excluded(
        &self,
        series: &Series,
        range: (i64, i64),
        budget: &mut Budget,
    ) -> Result<BTreeSet<Key>, OverBudget> {
        let mut keys = BTreeSet::new();
        for rule in &series.except_rules {
            let own = &series.timeline;
            let is_late = |local: i64| own.is_late(rule, local);
            let mut visit = |local| {
                keys.insert(own.key(local));
                ControlFlow::Continue(())
            };
            let _all = Expander::new(rule, own.start).each(range, &is_late, budget, &mut visit)?;
        }
        Ok(keys)
    }

    /// Where a local time stands in the window.
    fn place(&self, timeline: &Timeline, local: i64) -> i64 {
        if timeline.is_day || timeline.zone.is_floating() {
            self.reading.instant(local)
        } else {
            timeline.zone.instant(local)
        }
    }

    fn place_end(&self, timeline: &Timeline, end: End) -> i64 {
        match end {
            End::Local(local) => self.place(timeline, local),
            End::Instant(instant) => instant,
        }
    }
}

/// An end on the clock, or in time that passes.
#[derive(Debug, Clone, Copy)]
enum End {
    Local(i64),
    Instant(i64),
}

/// Half-open; what takes no time is inside where it begins inside.
fn overlaps((start, end): (i64, i64), window: &Range<i64>) -> bool {
    if end <= start { window.contains(&start) } else { start < window.end && end > window.start }
}

fn instance(
    timeline: &Timeline,
    component: usize,
    start: i64,
    end: End,
    recurrence_id: Option<Moment>,
) -> Instance {
    let end = match end {
        End::Local(local) => timeline.moment(local),
        End::Instant(instant) => Moment::Instant(instant),
    };
    Instance { component, start: timeline.moment(start), end, recurrence_id }
}

impl Timeline {
    fn of(component: &Component<'static>, zones: &ZonesBeside<'_>) -> Result<Option<Self>, SeriesError> {
        let start = component.property("DTSTART").or_else(|| component.property("DUE"));
        let Some(start) = start else { return Ok(None) };
        let (time, zone) = read(start, zones)?;
        let is_day = matches!(time, TimeValue::Date(_));
        let mut timeline = Self { is_day, zone, start: local_seconds(time), length: Length::Clock(0) };
        timeline.length = timeline.length_of(component, zones)?;
        Ok(Some(timeline))
    }

    fn length_of(
        &self,
        component: &Component<'static>,
        zones: &ZonesBeside<'_>,
    ) -> Result<Length, SeriesError> {
        let end = component.property("DTEND").or_else(|| component.property("DUE"));
        if let Some(end) = end.filter(|_| component.property("DTSTART").is_some()) {
            let (time, zone) = read(end, zones)?;
            let local = local_seconds(time);
            return Ok(if self.is_day {
                Length::Clock((local.div_euclid(DAY) - self.start.div_euclid(DAY)) * DAY)
            } else if self.zone.is_floating() {
                Length::Clock(local - self.start)
            } else {
                Length::Exact(zone.instant(local) - self.zone.instant(self.start))
            });
        }
        let duration = component.value("DURATION").and_then(parse_duration);
        Ok(match duration {
            None if self.is_day && component.property("DTSTART").is_some() => Length::Clock(DAY),
            None => Length::Clock(0),
            Some(d) if self.is_day => Length::Clock((d.days + d.seconds.div_euclid(DAY)).saturating_mul(DAY)),
            Some(d) if self.zone.is_floating() => {
                Length::Clock(d.days.saturating_mul(DAY).saturating_add(d.seconds))
            }
            Some(d) => Length::Nominal(d),
        })
    }

    fn end_of(&self, start: i64, period: Option<i64>) -> End {
        match (period, self.length) {
            (Some(instant), _) => End::Instant(instant),
            (None, Length::Clock(0)) if !self.is_day && !self.zone.is_floating() => {
                End::Instant(self.zone.instant(start))
            }
            (None, Length::Clock(length)) => End::Local(start.saturating_add(length)),
            (None, Length::Exact(length)) => End::Instant(self.zone.instant(start).saturating_add(length)),
            (None, Length::Nominal(d)) => {
                // A start that does not exist is another time on the clock by now.
                let start = self.zone.local(self.zone.instant(start));
                let day = start.saturating_add(d.days.saturating_mul(DAY));
                End::Instant(self.zone.instant(day).saturating_add(d.seconds))
            }
        }
    }

    fn most_length(&self) -> i64 {
        match self.length {
            Length::Clock(length) | Length::Exact(length) => length.max(0),
            Length::Nominal(d) => d.days.saturating_mul(DAY).saturating_add(d.seconds).max(0),
        }
    }

    fn key(&self, local: i64) -> Key {
        if self.is_day { (true, local) } else { (false, self.zone.instant(local)) }
    }

    fn moment(&self, local: i64) -> Moment {
        let shown = || date_time(local).unwrap_or_default();
        match (self.is_day, self.zone.is_floating()) {
            (true, _) => Moment::Date(shown()),
            (false, true) => Moment::Floating(shown()),
            (false, false) => Moment::Instant(self.zone.instant(local)),
        }
    }

    /// UNTIL, of whatever type: an instant against instants, a day against the local day, else local times.
    fn is_late(&self, rule: &Rule, local: i64) -> bool {
        match rule.until {
            None => false,
            Some(TimeValue::Date(day)) => local.div_euclid(DAY) > seconds(day.into()).div_euclid(DAY),
            Some(TimeValue::Utc(at)) if !self.is_day && !self.zone.is_floating() => {
                self.zone.instant(local) > seconds(at)
            }
            Some(TimeValue::Utc(at) | TimeValue::Local(at)) => local > seconds(at),
        }
    }
}

impl Series {
    fn of(
        component_index: usize,
        component: &Component<'static>,
        zones: &ZonesBeside<'_>,
    ) -> Result<Option<Self>, SeriesError> {
        let Some(timeline) = Timeline::of(component, zones)? else { return Ok(None) };
        let mut series = Self {
            component: component_index,
            rules: rules(component, "RRULE")?,
            except_rules: rules(component, "EXRULE")?,
            added: BTreeMap::new(),
            removed: BTreeSet::new(),
            timeline,
        };
        if series.rules.is_empty() {
            series.added.insert(series.timeline.start, None);
        }
        for property in component.properties() {
            if property.is("RDATE") {
                series.add_dates(property, zones)?;
            } else if property.is("EXDATE") {
                for (time, zone) in read_list(property, zones)? {
                    series.removed.insert(series.timeline.key_of(time, &zone));
                }
            }
        }
        Ok(Some(series))
    }

    fn add_dates(
        &mut self,
        property: &Property<'static>,
        zones: &ZonesBeside<'_>,
    ) -> Result<(), SeriesError> {
        let zone = zone_of(property, zones)?;
        for value in property.value().split(',').map(str::trim).filter(|v| !v.is_empty()) {
            let (start, rest) =
                value.split_once('/').map_or((value, None), |(start, rest)| (start, Some(rest)));
            let time = parse_time(start).ok_or_else(|| SeriesError::BadTime(start.to_owned()))?;
            let own = if matches!(time, TimeValue::Utc(_)) { utc() } else { zone.clone() };
            let begins = own.instant(local_seconds(time));
            let end = rest.and_then(|rest| match parse_duration(rest) {
                Some(d) => Some(own.instant(local_seconds(time) + d.days * DAY) + d.seconds),
                None => parse_time(rest).map(|time| match time {
                    TimeValue::Utc(at) => seconds(at),
                    other => own.instant(local_seconds(other)),
                }),
            });
            let timeline = &self.timeline;
            let local = match time {
                TimeValue::Date(_) => local_seconds(time),
                _ if timeline.is_day || timeline.zone.is_floating() => local_seconds(time),
                _ => timeline.zone.local(begins),
            };
            let before = self.added.entry(local).or_default();
            *before = before.or(end);
        }
        Ok(())
    }
}

impl Timeline {
    /// The key that a time has in this series.
    fn key_of(&self, time: TimeValue, zone: &Zone) -> Key {
        match time {
            TimeValue::Date(_) => (true, local_seconds(time)),
            TimeValue::Utc(at) => (false, seconds(at)),
            // Without a zone of its own it is meant on the clock of the series.
            TimeValue::Local(at) if zone.is_floating() => (false, self.zone.instant(seconds(at))),
            TimeValue::Local(at) => (false, zone.instant(seconds(at))),
        }
    }
}

impl Override {
    fn of(
        component_index: usize,
        component: &Component<'static>,
        id: &Property<'static>,
        series: Option<&Timeline>,
        zones: &ZonesBeside<'_>,
    ) -> Result<Option<Self>, SeriesError> {
        let (time, zone) = read(id, zones)?;
        let timeline = match Timeline::of(component, zones)? {
            Some(timeline) => timeline,
            // Without a start of its own it begins when it was to begin.
            None => Timeline {
                is_day: matches!(time, TimeValue::Date(_)),
                zone: zone.clone(),
                start: local_seconds(time),
                length: series.map_or(Length::Clock(0), |series| series.length),
            },
        };
        let key = series.unwrap_or(&timeline).key_of(time, &zone);
        let sequence = component.value("SEQUENCE").and_then(|s| s.trim().parse().ok()).unwrap_or(0);
        Ok(Some(Self {
            component: component_index,
            key,
            timeline,
            sequence,
            this_and_future: is_this_and_future(id),
        }))
    }

    /// When it was to begin, on a clock.
    fn local_key(&self, clock: &Timeline) -> i64 {
        if self.key.0 { self.key.1 } else { clock.zone.local(self.key.1) }
    }

    fn moment(&self, timeline: &Timeline) -> Moment {
        match self.key {
            (true, local) => Moment::Date(date_time(local).unwrap_or_default()),
            (false, local) if timeline.zone.is_floating() => {
                Moment::Floating(date_time(local).unwrap_or_default())
            }
            (false, instant) => Moment::Instant(instant),
        }
    }
}

fn rules(component: &Component<'static>, name: &str) -> Result<Vec<Rule>, SeriesError> {
    let rules = component.properties().filter(|p| p.is(name)).filter(|p| !p.value().trim().is_empty());
    rules.map(|p| Ok(Rule::parse(p.value())?)).collect()
}

fn zone_of(property: &Property<'static>, zones: &ZonesBeside<'_>) -> Result<Zone, SeriesError> {
    match property.param("TZID") {
        None => Ok(Zone::Floating),
        Some(tzid) => zones.find(&tzid).ok_or_else(|| SeriesError::UnknownZone(tzid.trim().to_owned())),
    }
}

/// A time and the zone it is in.
fn read(property: &Property<'static>, zones: &ZonesBeside<'_>) -> Result<(TimeValue, Zone), SeriesError> {
    let text = property.value().trim();
    let time = parse_time(text).ok_or_else(|| SeriesError::BadTime(text.chars().take(60).collect()))?;
    let zone = match time {
        TimeValue::Utc(_) => utc(),
        TimeValue::Date(_) => Zone::Floating,
        TimeValue::Local(_) => zone_of(property, zones)?,
    };
    Ok((time, zone))
}

fn read_list(
    property: &Property<'static>,
    zones: &ZonesBeside<'_>,
) -> Result<Vec<(TimeValue, Zone)>, SeriesError> {
    let zone = zone_of(property, zones)?;
    let values = property.value().split(',').map(str::trim).filter(|v| !v.is_empty());
    let one = |text: &str| {
        let time = parse_time(text).ok_or_else(|| SeriesError::BadTime(text.chars().take(60).collect()))?;
        Ok((time, zone.clone()))
    };
    values.map(one).collect()
}
