//! Local times and instants: by the zone database, by a VTIMEZONE beside the entry, or floating.

use std::collections::BTreeMap;
use std::ops::ControlFlow;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::{Offset, TimeZone};

use super::days::{DAY, civil, number_of};
use super::expand::{Budget, Expander};
use super::rule::Rule;
use crate::ical::Component;
use crate::values::{TimeValue, parse_time};
use crate::zones::{database_zone, resolve_zone};

/// Rules of a zone that stand beside the entry are worked out up to this year; then the last ones hold.
const LAST_YEAR: i64 = 2200;

/// How local times become instants.
#[derive(Debug, Clone)]
pub enum Zone {
    /// Of no zone: the same on every clock.
    Floating,
    /// By the zone database.
    Rules(TimeZone),
    /// As a VTIMEZONE beside the entry describes it.
    Described(Arc<Described>),
}

/// A VTIMEZONE, worked out (RFC 5545, 3.6.5).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Described {
    /// When, in seconds since 1970; the offset before and after, in seconds.
    changes: Vec<(i64, i64, i64)>,
}

impl Described {
    /// Works a VTIMEZONE out; `None` where it has no observance that can be understood.
    #[must_use]
    pub fn of(zone: &Component<'_>) -> Option<Self> {
        let mut changes = Vec::new();
        for observance in zone.components().filter(|c| c.is("STANDARD") || c.is("DAYLIGHT")) {
            observed(observance, &mut changes);
        }
        changes.sort_unstable();
        changes.dedup_by_key(|change| change.0);
        (!changes.is_empty()).then_some(Self { changes })
    }

    /// A time that does not exist is read with the offset before the gap, one that exists twice as the first
    /// (RFC 5545, 3.3.5).
    fn instant(&self, local: i64) -> i64 {
        let past = self.changes.partition_point(|(at, before, after)| at + before.max(after) <= local);
        local - self.offset(past)
    }

    fn local(&self, instant: i64) -> i64 {
        let past = self.changes.partition_point(|(at, ..)| *at <= instant);
        instant + self.offset(past)
    }

    fn offset(&self, past: usize) -> i64 {
        match past.checked_sub(1) {
            Some(last) => self.changes[last].2,
            None => self.changes[0].1,
        }
    }
}

/// The onsets of one observance.
fn observed(observance: &Component<'_>, changes: &mut Vec<(i64, i64, i64)>) -> Option<()> {
    let before = offset(observance.value("TZOFFSETFROM")?)?;
    let after = offset(observance.value("TZOFFSETTO")?)?;
    let start = local_seconds(parse_time(observance.value("DTSTART")?)?);
    let mut add = |local: i64| changes.push((local - before, before, after));
    add(start);
    let end = number_of(LAST_YEAR, 1, 1) * DAY;
    for property in observance.properties() {
        if property.is("RDATE") {
            let times = property.value().split(',').filter_map(parse_time);
            times.for_each(|time| add(local_seconds(time)));
        } else if property.is("RRULE")
            && let Ok(rule) = Rule::parse(property.value())
        {
            let is_late = |local: i64| match rule.until {
                Some(TimeValue::Utc(until)) => local - before > seconds(until),
                Some(until) => local > local_seconds(until),
                None => false,
            };
            let mut budget = Budget::of(400_000);
            let mut visit = |local| {
                add(local);
                ControlFlow::Continue(())
            };
            // A rule that asks for more than any zone needs is as good as none.
            let _all = Expander::new(&rule, start).each((start, end), &is_late, &mut budget, &mut visit);
        }
    }
    Some(())
}

/// `+0100`, `-053000`.
fn offset(text: &str) -> Option<i64> {
    let text = text.trim();
    let (sign, digits) = match text.as_bytes().first()? {
        b'+' => (1, &text[1..]),
        b'-' => (-1, &text[1..]),
        _ => (1, text),
    };
    let sound = matches!(digits.len(), 4 | 6) && digits.bytes().all(|b| b.is_ascii_digit());
    let part = |at: usize| digits.get(at..at + 2).and_then(|two| two.parse::<i64>().ok()).unwrap_or(0);
    sound.then(|| sign * (part(0) * 3600 + part(2) * 60 + part(4)))
}

impl Zone {
    /// Returns the instant of a local time, both in seconds since 1970.
    #[must_use]
    pub fn instant(&self, local: i64) -> i64 {
        match self {
            Self::Floating => local,
            Self::Described(described) => described.instant(local),
            Self::Rules(rules) => match date_time(local) {
                Some(at) => rules.to_ambiguous_timestamp(at).compatible().map_or(local, Timestamp::as_second),
                None => local,
            },
        }
    }

    /// Returns the local time of an instant.
    #[must_use]
    pub fn local(&self, instant: i64) -> i64 {
        match self {
            Self::Floating => instant,
            Self::Described(described) => described.local(instant),
            Self::Rules(rules) => {
                let at = Timestamp::from_second(instant).unwrap_or_default();
                instant + i64::from(rules.to_offset(at).seconds())
            }
        }
    }

    /// Tells whether its clock is never changed.
    pub(super) fn never_changes(&self) -> bool {
        match self {
            Self::Floating => true,
            Self::Rules(rules) => rules.to_fixed_offset().is_ok(),
            Self::Described(described) => described.changes.len() == 1,
        }
    }

    /// Tells whether times are of no zone.
    #[must_use]
    pub fn is_floating(&self) -> bool {
        matches!(self, Self::Floating)
    }
}

/// The zones that a calendar object's times may name.
#[derive(Debug, Default)]
pub(crate) struct ZonesBeside<'o> {
    described: BTreeMap<String, &'o Component<'static>>,
}

impl<'o> ZonesBeside<'o> {
    pub(crate) fn of(object: &'o Component<'static>) -> Self {
        let zones = object.components().filter(|c| c.is("VTIMEZONE"));
        let named = zones.filter_map(|zone| Some((zone.value("TZID")?.trim().to_owned(), zone)));
        Self { described: named.collect() }
    }

    /// The VTIMEZONE of that name.
    pub(crate) fn component(&self, tzid: &str) -> Option<&'o Component<'static>> {
        self.described.get(tzid).copied()
    }

    /// Tells whether the VTIMEZONE of that name says what the database says, in the years that matter.
    pub(crate) fn agrees(&self, tzid: &str, rules: &TimeZone) -> bool {
        self.component(tzid).is_some_and(|zone| agrees_since(zone, rules).is_some())
    }

    /// The database by its own names first; then the VTIMEZONE beside the entry; then Windows names, prefixes.
    /// `None` where nobody knows.
    pub(crate) fn find(&self, tzid: &str) -> Option<Zone> {
        let tzid = tzid.trim().trim_matches('"');
        if let Some(zone) = database_zone(tzid) {
            return Some(Zone::Rules(zone.rules));
        }
        if let Some(described) = self.described.get(tzid).and_then(|zone| Described::of(zone)) {
            return Some(Zone::Described(Arc::new(described)));
        }
        resolve_zone(tzid).map(|zone| Zone::Rules(zone.rules))
    }
}

/// The instant, in seconds since 1970, from which on a VTIMEZONE says what the database says, in the years that
/// matter. `None` where it says otherwise, or cannot be read.
pub(crate) fn agrees_since(zone: &Component<'static>, rules: &TimeZone) -> Option<i64> {
    let described = Described::of(zone)?;
    let rules = Zone::Rules(rules.clone());
    // What a description says of the time before it begins is nothing.
    let begin = described.changes[0].0;
    let first = begin.max(number_of(2020, 1, 1) * DAY);
    let mut months = (0..40 * 12).map(|month| first + month * 30 * DAY);
    months.all(|at| rules.local(at) == described.local(at)).then_some(begin)
}

pub(super) fn utc() -> Zone {
    Zone::Rules(TimeZone::fixed(Offset::UTC))
}

/// Seconds since 1970 on a clock that shows this time.
pub(super) fn seconds(at: DateTime) -> i64 {
    let day = number_of(i64::from(at.year()), at.month() as u8, at.day() as u8);
    day * DAY + i64::from(at.hour()) * 3600 + i64::from(at.minute()) * 60 + i64::from(at.second())
}

pub(crate) fn local_seconds(time: TimeValue) -> i64 {
    seconds(time.local())
}

/// The other way round; `None` beyond the years that calendars have.
pub(super) fn date_time(seconds: i64) -> Option<DateTime> {
    let date = civil(seconds.div_euclid(DAY));
    let second = seconds.rem_euclid(DAY);
    let (year, month, day) = (i16::try_from(date.year).ok()?, date.month as i8, date.day as i8);
    let (hour, minute, second) = ((second / 3600) as i8, (second / 60 % 60) as i8, (second % 60) as i8);
    DateTime::new(year, month, day, hour, minute, second, 0).ok()
}
