//! Free-busy time that somebody publishes (RFC 5545, 3.6.4), or that a server tells (RFC 4791, 7.10): when somebody is
//! taken, and nothing else. Outside of its ends nothing is known.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::calendar_text::{MOST_ENTRIES, NotACalendar, read_objects};
use crate::derive::{BusyTime, joined, uncovered};
use crate::entry::{Entry, entry_components_mut};
use crate::ical::{Component, Limits, Property, quote};
use crate::values::{TimeValue, escape_text, parse_duration, parse_time};

/// What is known of somebody's time. All times are in seconds since 1970.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FreeBusy {
    /// What is known of: joined, in order.
    known: Vec<(i64, i64)>,
    /// What is taken, and whether that is not certain.
    taken: Vec<(i64, i64, bool)>,
    /// It says itself where it begins and ends.
    has_ends: bool,
}

impl FreeBusy {
    /// Reads a text with at least one VFREEBUSY. `charset` is the encoding that came with it.
    ///
    /// # Errors
    /// No calendar, no VFREEBUSY in it, or one with a time that is not understood: what is taken must not seem free.
    pub fn read(bytes: &[u8], charset: Option<&str>) -> Result<Self, NotACalendar> {
        let (objects, _) = read_objects(bytes, charset, &Limits::default())?;
        let (mut known, mut taken, mut has_ends) = (Vec::new(), Vec::new(), false);
        let bodies = objects.iter().flat_map(Component::components).filter(|c| c.is("VFREEBUSY"));
        let mut number = 0;
        for body in bodies {
            number += 1;
            for property in body.properties().filter(|property| property.is("FREEBUSY")) {
                for period in property.value().split(',').filter(|period| !period.trim().is_empty()) {
                    let not_understood = || NotACalendar::PeriodNotUnderstood(quote(period));
                    let (start, end) = period_of(period).ok_or_else(not_understood)?;
                    // An event without length takes no time.
                    if start == end {
                        continue;
                    }
                    if known.len() >= MOST_ENTRIES {
                        return Err(NotACalendar::TooMany { limit: MOST_ENTRIES });
                    }
                    known.push((start, end));
                    taken.extend(certainty(property).map(|is_tentative| (start, end, is_tentative)));
                }
            }
            let edge = |name| body.value(name).and_then(instant);
            let ends = edge("DTSTART").zip(edge("DTEND"));
            has_ends |= ends.is_some();
            known.extend(ends);
        }
        if number == 0 {
            return Err(NotACalendar::NoFreeBusy);
        }
        Ok(Self { known: joined(known.into_iter()), taken, has_ends })
    }

    /// Says that it is the answer about a range: what it does not name there is free, unless it has ends of its own.
    #[must_use]
    pub fn about(mut self, range: (i64, i64)) -> Self {
        if !self.has_ends {
            self.known.push(range);
            self.known = joined(self.known.into_iter());
        }
        self
    }

    /// Returns what is known of; the rest is neither free nor taken.
    #[must_use]
    pub fn known(&self) -> &[(i64, i64)] {
        &self.known
    }

    /// Returns an entry for each time that is taken, under a title. Outside of what is known, what was known `before` stays as it was.
    #[must_use]
    pub fn entries(&self, before: &[Entry], title: &str) -> Vec<Entry> {
        let mut all = BusyTime::default();
        all.add_spans(&self.taken);
        for entry in before {
            let body = entry.main_component();
            let edge = |name| body.value(name).and_then(instant);
            if let Some(span) = edge("DTSTART").zip(edge("DTEND")) {
                let is_tentative = body.property("STATUS").is_some();
                let outside = uncovered(&[span], &self.known);
                all.add_spans(
                    &outside.iter().map(|(from, to)| (*from, *to, is_tentative)).collect::<Vec<_>>(),
                );
            }
        }
        let title = escape_text(title);
        let titled = |block: Entry| {
            let mut object = block.object().clone();
            entry_components_mut(&mut object).for_each(|component| component.set_value("SUMMARY", &title));
            Entry::from_object(object).expect("one component with a UID")
        };
        all.blocks().into_iter().map(titled).collect()
    }
}

/// Whether a time is taken, and if so, whether that is not certain (RFC 5545, 3.2.9): what is not known is BUSY.
fn certainty(property: &Property<'_>) -> Option<bool> {
    let kind = property.param("FBTYPE").unwrap_or_default();
    let is = |word: &str| kind.trim().eq_ignore_ascii_case(word);
    (!is("FREE")).then(|| is("BUSY-TENTATIVE"))
}

/// A PERIOD (RFC 5545, 3.3.9): start and end, or start and duration.
fn period_of(text: &str) -> Option<(i64, i64)> {
    let (start, end) = text.trim().split_once('/')?;
    let from = instant(start)?;
    let to = match parse_duration(end) {
        Some(length) => from.checked_add(length.days.checked_mul(86_400)?.checked_add(length.seconds)?)?,
        None => instant(end)?,
    };
    (from <= to).then_some((from, to))
}

/// A time that must be in UTC.
fn instant(text: &str) -> Option<i64> {
    let at: DateTime = match parse_time(text)? {
        TimeValue::Utc(at) => at,
        TimeValue::Date(_) | TimeValue::Local(_) => return None,
    };
    Some(at.to_zoned(TimeZone::UTC).ok()?.timestamp().as_second())
}
