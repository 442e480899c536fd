//! Entries made out of others: single entries for the occurrences of a series, and blocks of busy time.

use std::collections::BTreeMap;

use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::carry::{Carry, Unshown};
use crate::entry::{Entry, Kind, PRODID};
use crate::ical::{self, Component, Item, Property};
use crate::recurrence::{Budget, Instance, Moment, Occurrences, SeriesError, ZonesBeside};
use crate::values::TimeValue;
use crate::window::{Bounds, reading_zone};

/// Returns an entry of its own for each occurrence that overlaps the bounds, each under a UID that its series'
/// UID and its time make up. An entry that does not recur is returned as it is, wherever it lies.
///
/// # Errors
/// The times are not understood, or there are too many occurrences.
pub fn single_entries(entry: &Entry, bounds: &Bounds) -> Result<Vec<Entry>, SeriesError> {
    let recurs =
        |c: &Component<'_>| ["RRULE", "RDATE", "RECURRENCE-ID"].iter().any(|name| c.property(name).is_some());
    if !entry.components().any(recurs) {
        return Ok(vec![entry.clone()]);
    }
    let times = Occurrences::of(entry, &reading_zone(entry, &bounds.zone))?;
    let instances = times.within(bounds.range.clone(), &mut Budget::default())?;
    let components: Vec<_> = entry.components().collect();
    let zones = ZonesBeside::of(entry.object());
    Ok(instances.iter().map(|one| single(entry, components[one.component], one, &zones)).collect())
}

fn single(
    entry: &Entry,
    component: &Component<'static>,
    instance: &Instance,
    zones: &ZonesBeside<'_>,
) -> Entry {
    let key = text_of(instance.recurrence_id.unwrap_or(instance.start));
    let mut body = component.clone();
    const SERIES: [&str; 5] = ["RRULE", "EXRULE", "RDATE", "EXDATE", "RECURRENCE-ID"];
    let end = if component.is("VTODO") { "DUE" } else { "DTEND" };
    let had_end = ["DTEND", "DUE", "DURATION"].iter().any(|name| component.property(name).is_some());
    body.retain_properties(|p| {
        !SERIES.iter().chain(&["DTSTART", "DTEND", "DUE", "DURATION"]).any(|name| p.is(name))
    });
    let start = component.property("DTSTART");
    let tzid = start.and_then(|p| p.param("TZID"));
    let zone = tzid.as_deref().and_then(|id| zones.find(id));
    let time = |name: &str, moment: Moment| match (moment, tzid.as_deref().zip(zone.as_ref())) {
        (Moment::Instant(at), Some((tzid, zone))) => {
            Property::with_params(name, &[("TZID", tzid)], &text_of(Moment::Floating(civil(zone.local(at)))))
        }
        (Moment::Date(_), _) => Property::with_params(name, &[("VALUE", "DATE")], &text_of(moment)),
        (moment, _) => Property::new(name, &text_of(moment)),
    };
    let mut added = vec![time("DTSTART", instance.start)];
    if had_end {
        added.push(time(end, instance.end));
    }
    body.items_mut().splice(0..0, added.into_iter().map(Item::Property));
    body.set_value("UID", &format!("{}/{key}", entry.uid()));
    let mut object = entry.object().clone();
    object
        .items_mut()
        .retain(|item| !matches!(item, Item::Component(c) if Kind::of_component(c.name()).is_some()));
    object.push_component(body);
    Entry::from_object(object).expect("one component with a UID")
}

fn civil(seconds: i64) -> DateTime {
    Timestamp::from_second(seconds).unwrap_or_default().to_zoned(TimeZone::UTC).datetime()
}

fn text_of(moment: Moment) -> String {
    let value = match moment {
        Moment::Date(at) => TimeValue::Date(at.date()),
        Moment::Floating(at) => TimeValue::Local(at),
        Moment::Instant(at) => TimeValue::Utc(civil(at)),
    };
    value.to_string()
}

/// Busy time that entries take together.
#[derive(Debug, Clone, Default)]
pub struct BusyTime {
    /// Start, end, and whether it is not certain, in seconds since 1970.
    spans: Vec<(i64, i64, bool)>,
}

impl BusyTime {
    /// Adds the time that an entry takes within the bounds.
    ///
    /// # Errors
    /// [`Unshown`]: it takes none, or its time is not understood.
    pub fn add(&mut self, entry: &Entry, carry: &Carry, bounds: &Bounds) -> Result<(), Unshown> {
        let view = carry.show(entry)?;
        let reading = reading_zone(entry, &bounds.zone);
        let not_understood = |_: SeriesError| Unshown::NotUnderstood;
        let times = Occurrences::of(view.entry(), &reading).map_err(not_understood)?;
        let instances = times.within(bounds.range.clone(), &mut Budget::default());
        let components: Vec<_> = view.entry().components().collect();
        let place = |moment: Moment| match moment {
            Moment::Instant(at) => at,
            Moment::Date(at) | Moment::Floating(at) => reading.instant(seconds(at)),
        };
        for one in instances.map_err(|e| not_understood(e.into()))? {
            let component = components[one.component];
            if component.property("TRANSP").is_none() {
                let is_tentative = component.property("STATUS").is_some();
                self.spans.push((place(one.start), place(one.end), is_tentative));
            }
        }
        Ok(())
    }

    /// Returns the times: start, end, and whether it is not certain, in seconds since 1970.
    #[must_use]
    pub fn spans(&self) -> &[(i64, i64, bool)] {
        &self.spans
    }

    /// Adds times as [`BusyTime::spans`] gives them.
    pub fn add_spans(&mut self, spans: &[(i64, i64, bool)]) {
        self.spans.extend_from_slice(spans);
    }

    /// Returns what of these times nothing takes, certain or not; they do not overlap.
    #[must_use]
    pub fn free_in(&self, wanted: &[(i64, i64)]) -> Vec<(i64, i64)> {
        uncovered(wanted, &joined(self.spans.iter().map(|span| (span.0, span.1))))
    }

    /// Writes it as free-busy time (RFC 5545, 3.6.4) of a range, in seconds since 1970.
    #[must_use]
    pub fn free_busy_text(&self, range: std::ops::Range<i64>, now: Timestamp) -> String {
        let text = |at: i64| text_of(Moment::Instant(at));
        let of = |tentative: bool| {
            let own = self.spans.iter().filter(|span| span.2 == tentative);
            joined(own.map(|span| (span.0.max(range.start), span.1.min(range.end))))
        };
        let certain = of(false);
        let tentative = uncovered(&of(true), &certain);
        let mut body = Component::new("VFREEBUSY");
        let uid = format!("free-busy-{}-{}", range.start, range.end);
        for (name, value) in [
            ("UID", uid),
            ("DTSTAMP", text(now.as_second())),
            ("DTSTART", text(range.start)),
            ("DTEND", text(range.end)),
        ] {
            body.push_property(Property::new(name, &value));
        }
        for (kind, spans) in [("BUSY", certain), ("BUSY-TENTATIVE", tentative)] {
            for (start, end) in spans {
                let value = format!("{}/{}", text(start), text(end));
                body.push_property(Property::with_params("FREEBUSY", &[("FBTYPE", kind)], &value));
            }
        }
        let mut object = Component::new("VCALENDAR");
        object.push_property(Property::new("VERSION", "2.0"));
        object.push_property(Property::new("PRODID", PRODID));
        object.push_component(body);
        ical::write(&object)
    }

    /// Returns the blocks: overlapping and touching times are one. Time that is not certain has blocks of its own,
    /// where nothing certain takes it.
    #[must_use]
    pub fn blocks(&self) -> Vec<Entry> {
        let of = |tentative: bool| {
            joined(self.spans.iter().filter(|span| span.2 == tentative).map(|span| (span.0, span.1)))
        };
        let certain = of(false);
        let tentative = uncovered(&of(true), &certain);
        let certain = certain.into_iter().map(|span| block(span, false));
        certain.chain(tentative.into_iter().map(|span| block(span, true))).collect()
    }
}

fn seconds(at: DateTime) -> i64 {
    at.to_zoned(TimeZone::UTC).map_or(0, |zoned| zoned.timestamp().as_second())
}

/// Joins spans that overlap or touch.
pub(crate) fn joined(spans: impl Iterator<Item = (i64, i64)>) -> Vec<(i64, i64)> {
    let mut ends: BTreeMap<i64, i64> = BTreeMap::new();
    for (start, end) in spans.filter(|(start, end)| start < end) {
        let known = ends.entry(start).or_insert(end);
        *known = (*known).max(end);
    }
    let mut joined: Vec<(i64, i64)> = Vec::new();
    for (start, end) in ends {
        match joined.last_mut() {
            Some(last) if start <= last.1 => last.1 = last.1.max(end),
            _ => joined.push((start, end)),
        }
    }
    joined
}

/// What of the first is not covered by the second; both are joined, and in order.
pub(crate) fn uncovered(spans: &[(i64, i64)], by: &[(i64, i64)]) -> Vec<(i64, i64)> {
    let mut left = Vec::new();
    for (start, end) in spans {
        let mut from = *start;
        for (covered, until) in by.iter().filter(|(c, u)| u > start && c < end) {
            if from < *covered {
                left.push((from, *covered));
            }
            from = from.max(*until);
        }
        if from < *end {
            left.push((from, *end));
        }
    }
    left
}

/// A block's UID is made of its start: one that grows longer stays the same entry.
fn block((start, end): (i64, i64), is_tentative: bool) -> Entry {
    let (start, end) = (text_of(Moment::Instant(start)), text_of(Moment::Instant(end)));
    let mut body = Component::new("VEVENT");
    let kind = if is_tentative { "tentative" } else { "busy" };
    body.push_property(Property::new("UID", &format!("{kind}-{start}")));
    body.push_property(Property::new("DTSTART", &start));
    body.push_property(Property::new("DTEND", &end));
    if is_tentative {
        body.push_property(Property::new("STATUS", "TENTATIVE"));
    }
    let mut object = Component::new("VCALENDAR");
    object.push_property(Property::new("VERSION", "2.0"));
    object.push_property(Property::new("PRODID", PRODID));
    object.push_component(body);
    Entry::from_object(object).expect("one component with a UID")
}
