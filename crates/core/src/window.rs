//! The window: how far back and ahead of today a route looks.

use std::ops::Range;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};

use crate::entry::Entry;
use crate::recurrence::{Budget, Occurrences, OverBudget, SeriesError, Zone};
use crate::values::{TimeValue, parse_time};
use crate::zones::resolve_zone;

/// Beyond this, in seconds since 1970, nothing is looked for: the end of the year 9998.
const END: i64 = 253_370_764_800;
const DAY: i64 = 86_400;

/// How far a window reaches, one way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Reach {
    /// Without end.
    Unlimited,
    /// So many days.
    Days(i32),
    /// So many months, counted on the calendar.
    Months(i32),
    /// To a day, which is inside.
    Day(Date),
}

/// How far back and ahead of today a route looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    /// How far back.
    pub past: Reach,
    /// How far ahead.
    pub ahead: Reach,
}

/// A window as it stands at one moment.
#[derive(Debug, Clone)]
pub struct Bounds {
    /// In seconds since 1970.
    pub range: Range<i64>,
    /// Days and floating times are placed by this zone.
    pub zone: TimeZone,
}

/// Where an entry lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Position {
    /// In the window, or at no time at all.
    Inside,
    /// Outside; its next occurrence begins at this moment, in seconds since 1970.
    Ahead(i64),
    /// It will never come in.
    Behind,
}

impl Default for Window {
    fn default() -> Self {
        Self { past: Reach::Unlimited, ahead: Reach::Unlimited }
    }
}

impl Window {
    /// Returns the window at a moment. It begins and ends with whole days of the zone, and today is inside.
    #[must_use]
    pub fn at(&self, now: Timestamp, zone: &TimeZone) -> Bounds {
        let today = now.to_zoned(zone.clone()).date();
        let day = |reach: Reach, sign: i32| match reach {
            Reach::Unlimited => None,
            Reach::Days(days) => today.checked_add(Span::new().days(sign * days)).ok(),
            Reach::Months(months) => today.checked_add(Span::new().months(sign * months)).ok(),
            Reach::Day(day) => Some(day),
        };
        let midnight = |day: Date| day.to_zoned(zone.clone()).map(|at| at.timestamp().as_second()).ok();
        let start = day(self.past, -1).and_then(midnight);
        let end = day(self.ahead, 1).and_then(|day| day.tomorrow().ok()).and_then(midnight);
        Bounds { range: start.unwrap_or(-END)..end.unwrap_or(END), zone: zone.clone() }
    }
}

impl Bounds {
    /// A window that holds everything.
    #[must_use]
    pub fn unlimited() -> Self {
        Self { range: -END..END, zone: TimeZone::UTC }
    }

    /// Tells whether everything is inside.
    #[must_use]
    pub fn is_unlimited(&self) -> bool {
        self.range == (-END..END)
    }

    /// Tells whether an entry is inside: any of its occurrences is, or it has no time at all.
    ///
    /// # Errors
    /// As [`Bounds::position`].
    pub fn holds(&self, entry: &Entry) -> Result<bool, SeriesError> {
        if self.is_unlimited() {
            return Ok(true);
        }
        Ok(Times::of(entry, &self.zone)?.any_within(self.range.clone())?.unwrap_or(true))
    }

    /// Returns where an entry lies: inside, if any of its occurrences is.
    ///
    /// # Errors
    /// Its times are not understood, or ask for too much work.
    pub fn position(&self, entry: &Entry) -> Result<Position, SeriesError> {
        if self.is_unlimited() {
            return Ok(Position::Inside);
        }
        let times = Times::of(entry, &self.zone)?;
        if times.any_within(self.range.clone())?.unwrap_or(true) {
            return Ok(Position::Inside);
        }
        Ok(times.next_start(self.range.end)?.map_or(Position::Behind, Position::Ahead))
    }

    /// Returns when an entry is over, in seconds since 1970; `None` where it never is, or has no time.
    ///
    /// # Errors
    /// As [`Bounds::position`].
    pub fn over_at(&self, entry: &Entry) -> Result<Option<i64>, SeriesError> {
        Times::of(entry, &self.zone)?.over_at()
    }

    /// Tells whether an entry is over before the window begins.
    ///
    /// # Errors
    /// As [`Bounds::position`].
    pub fn is_behind(&self, entry: &Entry) -> Result<bool, SeriesError> {
        let after = self.range.start..END;
        Ok(Times::of(entry, &self.zone)?.any_within(after)?.is_some_and(|any| !any))
    }
}

/// The zone that floating times of an entry are read in: its calendar's own, where that is told.
#[must_use]
pub(crate) fn reading_zone(entry: &Entry, configured: &TimeZone) -> Zone {
    let told = entry.object().value("X-WR-TIMEZONE").and_then(resolve_zone);
    Zone::Rules(told.map_or_else(|| configured.clone(), |zone| zone.rules))
}

/// An entry's times, whichever way it has them.
enum Times {
    Occurrences(Box<Occurrences>),
    /// A task that is only due.
    Due(i64),
    Never,
}

impl Times {
    fn of(entry: &Entry, zone: &TimeZone) -> Result<Self, SeriesError> {
        if entry.components().any(|c| c.property("DTSTART").is_some()) {
            let reading = reading_zone(entry, zone);
            return Ok(Self::Occurrences(Box::new(Occurrences::of(entry, &reading)?)));
        }
        let main = entry.main_component();
        let Some(due) = main.property("DUE") else { return Ok(Self::Never) };
        let bad = || SeriesError::BadTime(due.value().chars().take(80).collect());
        let time = parse_time(due.value()).ok_or_else(bad)?;
        let zone = match (time, due.param("TZID")) {
            (TimeValue::Utc(_), _) => TimeZone::UTC,
            (TimeValue::Local(_), Some(id)) => match resolve_zone(&id) {
                Some(zone) => zone.rules,
                None => return Err(SeriesError::UnknownZone(id.chars().take(80).collect())),
            },
            _ => zone.clone(),
        };
        let at = time.local().to_zoned(zone).map_err(|_| bad())?;
        Ok(Self::Due(at.timestamp().as_second()))
    }

    /// `None` for an entry of no time.
    fn any_within(&self, range: Range<i64>) -> Result<Option<bool>, OverBudget> {
        Ok(match self {
            Self::Occurrences(times) => Some(times.any_within(range, &mut Budget::default())?),
            Self::Due(at) => Some(range.contains(at)),
            Self::Never => None,
        })
    }

    fn any(&self, range: Range<i64>) -> Result<bool, OverBudget> {
        Ok(self.any_within(range)?.unwrap_or(false))
    }

    /// The start of the first occurrence from a moment on, given that none runs across that moment.
    fn next_start(&self, from: i64) -> Result<Option<i64>, OverBudget> {
        if from >= END || !self.any(from..END)? {
            return Ok(None);
        }
        let mut reach = 32 * DAY;
        while !self.any(from..from.saturating_add(reach))? {
            reach *= 4;
        }
        // The shortest range that holds one ends right behind its first second.
        let (mut without, mut with) = (from, from + reach);
        while with - without > 1 {
            let middle = without + (with - without) / 2;
            if self.any(from..middle)? { with = middle } else { without = middle }
        }
        Ok(Some(without))
    }

    fn over_at(&self) -> Result<Option<i64>, SeriesError> {
        // An end as late as this is none.
        const LATE: i64 = END - 1000 * 366 * DAY;
        if !self.any(-END..END)? || self.any(LATE..END)? {
            return Ok(None);
        }
        let (mut with, mut without) = (-END, LATE);
        while without - with > 1 {
            let middle = with + (without - with) / 2;
            if self.any(middle..END)? { with = middle } else { without = middle }
        }
        Ok(Some(without))
    }
}
