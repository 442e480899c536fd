//! Busy-only: when an entry takes time, and nothing else of it.
//!
//! Nothing is passed on as it came: every value is read and written anew, so that no property, parameter or
//! name of a zone can bring anything else along.

use std::collections::BTreeMap;

use crate::canonical::{is_this_and_future, occurrence_key};
use crate::choose::own_answer;
use crate::entry::{Entry, Kind, PRODID};
use crate::ical::{Component, Property};
use crate::recurrence::{Rule, ZonesBeside};
use crate::values::{TimeValue, escape_text, parse_duration, parse_time};
use crate::zones::{database_zone, resolve_zone};

/// Why an entry cannot be shown as busy time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unshown {
    /// It takes none: it is free, declined, called off, or no event.
    TakesNoTime,
    /// Its time cannot be understood.
    NotUnderstood,
}

/// The times that only say when, and must be read one by one.
const LISTS: [&str; 2] = ["RDATE", "EXDATE"];

/// Returns the busy time of an entry under a title, still under its UID.
pub(super) fn busy(entry: &Entry, title: &str, me: &[String]) -> Result<Entry, Unshown> {
    if entry.kind() != Kind::Event {
        return Err(Unshown::TakesNoTime);
    }
    let mut zones = Zones::of(entry);
    let mut out = Component::new("VCALENDAR");
    out.push_property(Property::new("VERSION", "2.0"));
    out.push_property(Property::new("PRODID", PRODID));
    let (changed, series): (Vec<_>, Vec<_>) =
        entry.components().partition(|c| c.property("RECURRENCE-ID").is_some());
    let reaches_on = |c: &Component<'_>| c.property("RECURRENCE-ID").is_some_and(is_this_and_future);
    // A series that takes no time, but for a change that holds from some day on, must stand there all the same.
    let needed = changed.iter().any(|c| reaches_on(c) && takes_time(c, me));
    let mut bodies = Vec::new();
    for component in &series {
        let takes_time = takes_time(component, me);
        if !takes_time && !needed {
            continue;
        }
        let mut body = bare(entry, component, title, me, &mut zones)?;
        if !takes_time {
            body.push_property(Property::new("TRANSP", "TRANSPARENT"));
        }
        for gone in changed.iter().filter(|c| takes_time && !reaches_on(c) && !self::takes_time(c, me)) {
            let id = gone.property("RECURRENCE-ID").expect("these have one");
            body.push_property(zones.moment("EXDATE", id)?);
        }
        bodies.push(body);
    }
    let has_series = !bodies.is_empty();
    for component in &changed {
        let takes_time = takes_time(component, me);
        if takes_time || (reaches_on(component) && has_series) {
            let mut body = bare(entry, component, title, me, &mut zones)?;
            if !takes_time {
                body.push_property(Property::new("TRANSP", "TRANSPARENT"));
            }
            bodies.push(body);
        }
    }
    if bodies.is_empty() {
        return Err(Unshown::TakesNoTime);
    }
    for zone in zones.described {
        out.push_component(zone);
    }
    // Clients that write one occurrence twice mean the last one.
    let mut last: BTreeMap<String, usize> = BTreeMap::new();
    for (at, body) in bodies.iter().enumerate() {
        last.insert(occurrence_key(body), at);
    }
    for (at, body) in bodies.into_iter().enumerate() {
        if last.get(&occurrence_key(&body)) == Some(&at) {
            out.push_component(body);
        }
    }
    Ok(Entry::from_object(out).expect("every component was given the same UID"))
}

fn takes_time(component: &Component<'_>, me: &[String]) -> bool {
    let is = |name: &str, value: &str| {
        component.value(name).is_some_and(|own| own.trim().eq_ignore_ascii_case(value))
    };
    !is("TRANSP", "TRANSPARENT") && !is("STATUS", "CANCELLED") && !own_answer(component, me, "DECLINED")
}

/// One component with its time alone.
fn bare(
    entry: &Entry,
    component: &Component<'static>,
    title: &str,
    me: &[String],
    zones: &mut Zones<'_>,
) -> Result<Component<'static>, Unshown> {
    let mut body = Component::new("VEVENT");
    body.push_property(Property::new("UID", entry.uid().as_str()));
    let start = component.property("DTSTART");
    let start = start.ok_or(Unshown::NotUnderstood)?;
    body.push_property(zones.moment("DTSTART", start)?);
    if let Some(end) = component.property("DTEND") {
        body.push_property(zones.moment("DTEND", end)?);
    } else if let Some(duration) = component.value("DURATION") {
        body.push_property(Property::new("DURATION", &duration_text(duration)?));
    }
    for property in component.properties() {
        if let Some(rule) = ["RRULE", "EXRULE"].into_iter().find(|name| property.is(name)) {
            body.push_property(Property::new(rule, &rule_text(property.value())?));
        } else if let Some(list) = LISTS.into_iter().find(|name| property.is(name)) {
            zones.moments(list, property, &mut body)?;
        } else if property.is("RECURRENCE-ID") {
            let id = zones.moment("RECURRENCE-ID", property)?;
            let reaches_on = is_this_and_future(property);
            body.push_property(if reaches_on { id.with_param("RANGE", "THISANDFUTURE") } else { id });
        }
    }
    let status = component.value("STATUS").unwrap_or_default().trim();
    if status.eq_ignore_ascii_case("TENTATIVE") || own_answer(component, me, "TENTATIVE") {
        body.push_property(Property::new("STATUS", "TENTATIVE"));
    }
    body.push_property(Property::new("SUMMARY", &escape_text(title)));
    Ok(body)
}

fn duration_text(value: &str) -> Result<String, Unshown> {
    let duration = parse_duration(value).ok_or(Unshown::NotUnderstood)?;
    let sign = if duration.days < 0 || duration.seconds < 0 { "-" } else { "" };
    let (days, seconds) = (duration.days.abs(), duration.seconds.abs());
    Ok(match (days, seconds) {
        (days, 0) => format!("{sign}P{days}D"),
        (0, seconds) => format!("{sign}PT{seconds}S"),
        (days, seconds) => format!("{sign}P{days}DT{seconds}S"),
    })
}

/// The rule as it was understood: one that has parts which nobody knows is not passed on.
fn rule_text(value: &str) -> Result<String, Unshown> {
    Rule::parse(value).map_err(|_| Unshown::NotUnderstood)?;
    Ok(value.to_ascii_uppercase().split_whitespace().collect())
}

/// The zones of an entry, under names that tell nothing.
struct Zones<'e> {
    beside: ZonesBeside<'e>,
    /// What floating times mean, where the calendar says so (X-WR-TIMEZONE).
    floating: Option<String>,
    names: BTreeMap<String, String>,
    described: Vec<Component<'static>>,
}

impl<'e> Zones<'e> {
    fn of(entry: &'e Entry) -> Self {
        let told = entry.object().value("X-WR-TIMEZONE").and_then(resolve_zone);
        Self {
            beside: ZonesBeside::of(entry.object()),
            floating: told.map(|zone| zone.name),
            names: BTreeMap::new(),
            described: Vec::new(),
        }
    }

    /// A property with one moment, written anew.
    fn moment(&mut self, name: &str, property: &Property<'_>) -> Result<Property<'static>, Unshown> {
        let value = property.value();
        let time = parse_time(value).ok_or(Unshown::NotUnderstood)?;
        self.write(name, time, &time.to_string(), property)
    }

    fn write(
        &mut self,
        name: &str,
        time: TimeValue,
        text: &str,
        property: &Property<'_>,
    ) -> Result<Property<'static>, Unshown> {
        Ok(match (time, property.param("TZID")) {
            (TimeValue::Date(_), _) => Property::with_params(name, &[("VALUE", "DATE")], text),
            (TimeValue::Utc(_), _) => Property::new(name, text),
            (TimeValue::Local(_), Some(tzid)) => {
                Property::with_params(name, &[("TZID", &self.name_of(&tzid)?)], text)
            }
            (TimeValue::Local(_), None) => match &self.floating {
                Some(zone) => Property::with_params(name, &[("TZID", zone)], text),
                None => Property::new(name, text),
            },
        })
    }

    /// RDATE or EXDATE, one property for each value. What is no time there is passed over, as it is when
    /// occurrences are worked out.
    fn moments(
        &mut self,
        name: &str,
        property: &Property<'_>,
        body: &mut Component<'static>,
    ) -> Result<(), Unshown> {
        for value in property.value().split(',') {
            let (start, end) = value.split_once('/').map_or((value, None), |(start, end)| (start, Some(end)));
            let Some(time) = parse_time(start) else { continue };
            let Some(end) = end else {
                body.push_property(self.write(name, time, &time.to_string(), property)?);
                continue;
            };
            let end = match parse_time(end) {
                Some(end) => end.to_string(),
                None => duration_text(end)?,
            };
            let period = self.write(name, time, &format!("{time}/{end}"), property)?;
            body.push_property(period.with_param("VALUE", "PERIOD"));
        }
        Ok(())
    }

    /// A zone's name in the database, or a number where only a description beside the entry knows it.
    fn name_of(&mut self, tzid: &str) -> Result<String, Unshown> {
        let tzid = tzid.trim().trim_matches('"');
        if let Some(name) = self.names.get(tzid) {
            return Ok(name.clone());
        }
        let name = match database_zone(tzid) {
            Some(zone) => zone.name,
            None => self.other_name(tzid)?,
        };
        self.names.insert(tzid.to_owned(), name.clone());
        Ok(name)
    }

    fn other_name(&mut self, tzid: &str) -> Result<String, Unshown> {
        let known = resolve_zone(tzid);
        let Some(beside) = self.beside.component(tzid) else {
            return known.map(|zone| zone.name).ok_or(Unshown::NotUnderstood);
        };
        if let Some(known) = &known
            && self.beside.agrees(tzid, &known.rules)
        {
            return Ok(known.name.clone());
        }
        let name = format!("Zone-{}", self.described.len() + 1);
        let zone = bare_zone(beside, &name);
        self.described.push(zone.ok_or(Unshown::NotUnderstood)?);
        Ok(name)
    }
}

/// A VTIMEZONE with its rules alone; `None` where it has none.
fn bare_zone(zone: &Component<'_>, name: &str) -> Option<Component<'static>> {
    let mut out = Component::new("VTIMEZONE");
    out.push_property(Property::new("TZID", name));
    for observance in zone.components() {
        let kind = ["STANDARD", "DAYLIGHT"].into_iter().find(|kind| observance.is(kind));
        let Some(kind) = kind else { continue };
        let mut bare = Component::new(kind);
        let start = parse_time(observance.value("DTSTART")?)?.local();
        bare.push_property(Property::new("DTSTART", &TimeValue::Local(start).to_string()));
        for name in ["TZOFFSETFROM", "TZOFFSETTO"] {
            let offset = observance.value(name)?.trim();
            let sound = offset.len() <= 7 && offset.bytes().all(|b| matches!(b, b'+' | b'-' | b'0'..=b'9'));
            bare.push_property(Property::new(name, Some(offset).filter(|_| sound)?));
        }
        for property in observance.properties() {
            if property.is("RRULE") {
                bare.push_property(Property::new("RRULE", &rule_text(property.value()).ok()?));
            } else if property.is("RDATE") {
                let times = property.value().split(',').filter_map(parse_time);
                let times: Vec<_> = times.map(|t| TimeValue::Local(t.local()).to_string()).collect();
                bare.push_property(Property::new("RDATE", &times.join(",")));
            }
        }
        out.push_component(bare);
    }
    let has_rules = out.components().next().is_some();
    has_rules.then_some(out)
}
