//! What an entry means, independent of how a server or a client writes it.
//!
//! Servers rewrite what they are given: the order of properties and parameters, quoting, folding, defaults
//! written out or left out, `DURATION` against `DTEND`, lists split or joined, other names of the same zone.
//! None of that changes the [`Fingerprint`]; everything that a person could notice does. Out of the meaning by
//! choice: PRODID, DTSTAMP, CREATED and LAST-MODIFIED (many publishers stamp them at every fetch), and what
//! describes the calendar rather than the entry.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use jiff::{Span, tz::TimeZone};
use sha2::{Digest, Sha256};

use crate::entry::{Entry, zone_id};
use crate::ical::{Component, Property};
use crate::values::{DurationValue, TimeValue, parse_duration, parse_time, split_list, unescape_text};
use crate::zones::{ZoneName, resolve_zone, unnumbered};

/// 128 bits of a SHA-256 over the meaning of an entry.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Fingerprint(pub [u8; 16]);

impl std::fmt::Debug for Fingerprint {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

/// One component of an entry: the series, or one changed occurrence of it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Occurrence {
    /// VEVENT, VTODO, VJOURNAL, or VTIMEZONE for a zone that no database knows.
    pub component: String,
    /// The RECURRENCE-ID as an instant where its zone is known; empty for the series.
    pub recurrence_id: String,
}

/// The meaning of an entry: its components, each with its normalised properties in a fixed order.
///
/// UID is left out: a one-way copy has its own, and means the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Canonical {
    occurrences: BTreeMap<Occurrence, Vec<Field>>,
}

#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Field {
    name: String,
    text: String,
}

/// A property that two entries say differently.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FieldDifference {
    /// Where: the series or one occurrence.
    pub occurrence: Occurrence,
    /// The property, such as `LOCATION`; `(whole)` where a whole component stands on one side only.
    pub field: String,
    /// What the first says, one line per value; empty where it says nothing.
    pub first: Vec<String>,
    /// What the second says.
    pub second: Vec<String>,
}

impl Entry {
    /// Returns what the entry means, independent of how it is written.
    #[must_use]
    pub fn meaning(&self) -> Canonical {
        Canonical::of(self)
    }
}

impl Canonical {
    pub(crate) fn of(entry: &Entry) -> Self {
        let mut occurrences: BTreeMap<Occurrence, Vec<Field>> = BTreeMap::new();
        let mut zones = Zones::default();
        for component in entry.components() {
            let recurrence_id = zones.occurrence(component);
            let occurrence = Occurrence { component: component.name().to_ascii_uppercase(), recurrence_id };
            occurrences.entry(occurrence).or_default().extend(fields(component, &mut zones));
        }
        for zone in entry.object().components().filter(|c| c.is("VTIMEZONE")) {
            let id = zone_id(zone);
            if zones.unknown.contains(&id) {
                let recurrence_id = unnumbered(&id).to_owned();
                let occurrence = Occurrence { component: "VTIMEZONE".into(), recurrence_id };
                occurrences.entry(occurrence).or_default().extend(zone_rules(zone));
            }
        }
        occurrences.values_mut().for_each(|fields| fields.sort());
        Self { occurrences }
    }

    /// Returns the hash of the meaning.
    #[must_use]
    pub fn fingerprint(&self) -> Fingerprint {
        let mut hash = Sha256::new();
        for (occurrence, fields) in &self.occurrences {
            for part in [&occurrence.component, &occurrence.recurrence_id] {
                hash.update(part);
                hash.update(b"\0");
            }
            for field in fields {
                hash.update(&field.name);
                hash.update(b"\x01");
                hash.update(&field.text);
                hash.update(b"\n");
            }
        }
        let mut short = [0; 16];
        short.copy_from_slice(&hash.finalize()[..16]);
        Fingerprint(short)
    }

    /// Lists what differs between two meanings, property by property.
    #[must_use]
    pub fn differences(&self, other: &Self) -> Vec<FieldDifference> {
        let keys: BTreeSet<_> = self.occurrences.keys().chain(other.occurrences.keys()).collect();
        keys.into_iter()
            .flat_map(|key| match (self.occurrences.get(key), other.occurrences.get(key)) {
                (Some(a), Some(b)) => field_differences(key, a, b),
                (a, b) => {
                    let side = |present: bool| if present { vec!["present".into()] } else { Vec::new() };
                    vec![FieldDifference {
                        occurrence: key.clone(),
                        field: "(whole)".into(),
                        first: side(a.is_some()),
                        second: side(b.is_some()),
                    }]
                }
            })
            .collect()
    }
}

/// Says of single properties what they mean, for merging.
#[derive(Default)]
pub(crate) struct Zoner(Zones);

impl Zoner {
    /// A property's meaning with its parameters; `None` where it says nothing that its absence would not.
    pub(crate) fn meaning(&mut self, property: &Property<'_>) -> Option<String> {
        field(&property.name().to_ascii_uppercase(), property, &mut self.0).map(|field| field.text)
    }

    /// One moment of a list (EXDATE, RDATE).
    pub(crate) fn moment(&mut self, property: &Property<'_>, value: &str) -> String {
        period(value, property.param("TZID").as_deref(), &mut self.0)
    }

    /// Start, end and rules of a component.
    pub(crate) fn time_of(&mut self, component: &Component<'_>) -> String {
        let named = |p: &&Property<'_>| ["DTSTART", "RRULE", "EXRULE"].iter().any(|name| p.is(name));
        let mut fields: Vec<_> = component
            .properties()
            .filter(named)
            .filter_map(|p| field(&p.name().to_ascii_uppercase(), p, &mut self.0))
            .collect();
        let due = component.property("DUE").filter(|_| component.property("DTSTART").is_none());
        fields.extend(due.and_then(|due| field("DUE", due, &mut self.0)));
        fields.extend(end_field(component, &mut self.0));
        fields.sort();
        fields.into_iter().map(|f| format!("{}={};", f.name, f.text)).collect()
    }

    /// An alarm, or whatever else stands inside a component.
    pub(crate) fn meaning_of_inner(&mut self, inner: &Component<'_>) -> String {
        let mut fields = fields(inner, &mut self.0);
        fields.sort();
        fields.into_iter().map(|f| format!("{}={}|", f.name, f.text)).collect()
    }
}

/// Returns the RECURRENCE-ID as an instant where its zone is known, with a mark where it holds for all that follows;
/// empty for the series.
pub(crate) fn occurrence_key(component: &Component<'_>) -> String {
    Zones::default().occurrence(component)
}

/// Marks the key of a change that holds for all that follows: beside it that day alone may be changed too.
const AND_FUTURE: &str = " and future";

/// Returns the normalised texts of a few properties of the series (or of the only component), and its end.
pub(crate) fn main_fields(entry: &Entry, names: &[&str]) -> Vec<String> {
    named_fields(entry.main_component(), names)
}

/// What some properties of one component mean, and when it ends.
pub(crate) fn named_fields(component: &Component<'_>, names: &[&str]) -> Vec<String> {
    let mut zones = Zones::default();
    let properties = component.properties().filter(|p| names.iter().any(|name| p.is(name)));
    let mut fields: Vec<_> =
        properties.filter_map(|p| field(&p.name().to_ascii_uppercase(), p, &mut zones)).collect();
    fields.extend(end_field(component, &mut zones));
    fields.sort();
    fields.into_iter().map(|f| f.name + "=" + &f.text).collect()
}

fn field_differences(key: &Occurrence, a: &[Field], b: &[Field]) -> Vec<FieldDifference> {
    let names: BTreeSet<_> = a.iter().chain(b).map(|f| f.name.as_str()).collect();
    let texts = |fields: &[Field], name: &str| -> Vec<String> {
        fields.iter().filter(|f| f.name == name).map(|f| f.text.clone()).collect()
    };
    let of_name = |name: &str| {
        let (first, second) = (texts(a, name), texts(b, name));
        (first != second).then(|| FieldDifference {
            occurrence: key.clone(),
            field: name.to_owned(),
            first,
            second,
        })
    };
    names.into_iter().filter_map(of_name).collect()
}

/// Zones looked up while one entry is read, and the TZIDs that nobody knows.
#[derive(Default)]
struct Zones {
    known: BTreeMap<String, Option<ZoneName>>,
    unknown: BTreeSet<String>,
}

impl Zones {
    fn look_up(&mut self, tzid: &str) -> Option<&ZoneName> {
        if !self.known.contains_key(tzid) {
            let zone = resolve_zone(tzid);
            if zone.is_none() {
                self.unknown.insert(tzid.to_owned());
            }
            self.known.insert(tzid.to_owned(), zone);
        }
        self.known.get(tzid)?.as_ref()
    }

    /// A moment that only says when (RECURRENCE-ID, EXDATE, RDATE): an instant where the zone is known.
    fn instant_of(&mut self, value: &str, tzid: Option<&str>) -> String {
        let Some(time) = parse_time(value) else { return value.trim().to_owned() };
        let TimeValue::Local(at) = time else { return time.to_string() };
        let Some(tzid) = tzid else { return time.to_string() };
        let zoned = self.look_up(tzid).and_then(|zone| at.to_zoned(zone.rules.clone()).ok());
        match zoned {
            Some(zoned) => TimeValue::Utc(zoned.with_time_zone(TimeZone::UTC).datetime()).to_string(),
            None => format!("{time} {}", unnumbered(tzid)),
        }
    }

    fn occurrence(&mut self, component: &Component<'_>) -> String {
        let Some(id) = component.property("RECURRENCE-ID") else { return String::new() };
        let tzid = id.param("TZID");
        let at = self.instant_of(id.value(), tzid.as_deref());
        let follows = is_this_and_future(id);
        if follows { at + AND_FUTURE } else { at }
    }

    /// A moment whose zone matters (DTSTART, DTEND, DUE): local time and the zone's one name.
    fn zoned(&mut self, time: TimeValue, tzid: Option<&str>) -> String {
        match (time, tzid) {
            (TimeValue::Local(at), Some(tzid)) => match self.look_up(tzid) {
                Some(zone) if is_utc(&zone.name) => TimeValue::Utc(at).to_string(),
                Some(zone) => format!("{time} {}", zone.name),
                None => format!("{time} {}", unnumbered(tzid)),
            },
            (time, _) => time.to_string(),
        }
    }
}

fn is_utc(name: &str) -> bool {
    matches!(name, "UTC" | "Etc/UTC" | "Etc/GMT" | "GMT" | "Etc/UCT" | "Zulu")
}

/// Properties that say when something was written, or by what, and nothing about the entry.
const BOOKKEEPING: &[&str] = &["DTSTAMP", "CREATED", "LAST-MODIFIED", "PRODID", "UID", "RECURRENCE-ID"];

/// Values that a missing property has (RFC 5545, 3.8).
const DEFAULTS: &[(&str, &str)] = &[
    ("CLASS", "PUBLIC"),
    ("TRANSP", "OPAQUE"),
    ("SEQUENCE", "0"),
    ("PRIORITY", "0"),
    ("PERCENT-COMPLETE", "0"),
    ("REPEAT", "0"),
];

/// Values that a missing parameter has (RFC 5545, 3.2), and parameters that servers add for themselves.
const PARAM_DEFAULTS: &[(&str, &str)] = &[
    ("ROLE", "REQ-PARTICIPANT"),
    ("PARTSTAT", "NEEDS-ACTION"),
    ("CUTYPE", "INDIVIDUAL"),
    ("RSVP", "FALSE"),
    ("RELATED", "START"),
    ("RELTYPE", "PARENT"),
    ("FBTYPE", "BUSY"),
    ("ENCODING", "8BIT"),
    ("SCHEDULE-AGENT", "SERVER"),
];
const SERVER_PARAMS: &[&str] = &["SCHEDULE-STATUS", "SCHEDULE-FORCE-SEND", "X-VOBJ-ORIGINAL-TZID"];

/// TEXT properties whose values are lists (RFC 5545, 3.8.1.2 and 3.8.1.10).
const LISTS: &[&str] = &["CATEGORIES", "RESOURCES"];

/// Properties with one token from a fixed list, which servers may write in another case.
const TOKENS: &[&str] = &["CLASS", "TRANSP", "STATUS", "ACTION", "METHOD", "SEQUENCE", "PRIORITY", "COLOR"];

fn fields(component: &Component<'_>, zones: &mut Zones) -> Vec<Field> {
    let mut out = Vec::new();
    for property in component.properties() {
        let name = property.name().to_ascii_uppercase();
        match name.as_str() {
            name if BOOKKEEPING.contains(&name) => {}
            "DTEND" | "DUE" | "DURATION" if component.property("DTSTART").is_some() => {}
            "EXDATE" | "RDATE" => {
                let tzid = property.param("TZID");
                let values = property.value().split(',').filter(|v| !v.trim().is_empty());
                out.extend(
                    values.map(|v| Field { name: name.clone(), text: period(v, tzid.as_deref(), zones) }),
                );
            }
            list if LISTS.contains(&list) => {
                let values = split_list(property.value()).map(|v| unescape_text(v).trim().to_owned());
                let params = params_text(property);
                let values = values.filter(|v| !v.is_empty());
                out.extend(values.map(|v| Field { name: name.clone(), text: format!("{params}{v}") }));
            }
            _ => out.extend(field(&name, property, zones)),
        }
    }
    out.extend(end_field(component, zones));
    for inner in component.components() {
        let mut inner_fields = fields(inner, zones);
        inner_fields.sort();
        let mut text = String::new();
        for field in inner_fields {
            let value = field.text.replace('\\', "\\\\").replace('|', "\\|");
            write!(text, "{}={value}|", field.name).expect("writing to a string cannot fail");
        }
        out.push(Field { name: inner.name().to_ascii_uppercase(), text });
    }
    out.sort();
    // A list is a set: a server that repeats a category has said nothing new.
    out.dedup_by(|a, b| a == b && LISTS.contains(&a.name.as_str()));
    out
}

fn field(name: &str, property: &Property<'_>, zones: &mut Zones) -> Option<Field> {
    let value = property.value();
    let text = match name {
        "DTSTART" | "DTEND" | "DUE" | "COMPLETED" => {
            let tzid = property.param("TZID");
            let time = parse_time(value);
            let text = time.map_or_else(|| value.trim().to_owned(), |t| zones.zoned(t, tzid.as_deref()));
            return Some(Field { name: name.to_owned(), text });
        }
        "RRULE" | "EXRULE" => canonical_rule(value),
        "TRIGGER" | "DURATION" => canonical_duration(value),
        "GEO" => canonical_geo(value),
        "ATTENDEE" | "ORGANIZER" => value.trim().to_lowercase(),
        "ATTACH" | "URL" | "SOURCE" | "IMAGE" | "CONFERENCE" => value.trim().to_owned(),
        name if TOKENS.contains(&name) => value.trim().to_ascii_uppercase(),
        _ => unescape_text(value).replace("\r\n", "\n").trim_end().to_owned(),
    };
    if text.is_empty() || DEFAULTS.contains(&(name, text.as_str())) {
        return None;
    }
    Some(Field { name: name.to_owned(), text: params_text(property) + &text })
}

/// Parameters by name, each as `;NAME=values`, defaults and what servers add left out.
fn params_text(property: &Property<'_>) -> String {
    let mut params = BTreeMap::new();
    for param in property.params() {
        let name = param.name.to_ascii_uppercase();
        let values: Vec<_> = param.values().map(|v| v.into_owned()).collect();
        let value = values.join(",");
        let upper = value.to_ascii_uppercase();
        let default = name == "VALUE" && is_default_type(property.name(), &upper)
            || PARAM_DEFAULTS.contains(&(name.as_str(), upper.as_str()))
            || SERVER_PARAMS.contains(&name.as_str());
        if !default && !value.is_empty() {
            let token =
                matches!(name.as_str(), "VALUE" | "PARTSTAT" | "ROLE" | "CUTYPE" | "RSVP" | "RELATED");
            params.insert(name, if token { upper } else { value });
        }
    }
    let mut text = String::new();
    for (name, value) in params {
        write!(text, ";{name}={value}").expect("writing to a string cannot fail");
    }
    if text.is_empty() { text } else { text + ":" }
}

fn is_default_type(property: &str, value_type: &str) -> bool {
    let default = match property.to_ascii_uppercase().as_str() {
        "TRIGGER" | "DURATION" => "DURATION",
        "ATTACH" | "URL" => "URI",
        "ATTENDEE" | "ORGANIZER" => "CAL-ADDRESS",
        "RRULE" | "EXRULE" => "RECUR",
        "SEQUENCE" | "PRIORITY" | "PERCENT-COMPLETE" | "REPEAT" => "INTEGER",
        "GEO" => "FLOAT",
        _ => "TEXT",
    };
    value_type == default
}

/// One value of RDATE or EXDATE: a moment, or a period with its end as an instant too.
fn period(value: &str, tzid: Option<&str>, zones: &mut Zones) -> String {
    let Some((start, end)) = value.split_once('/') else { return zones.instant_of(value, tzid) };
    let end = match parse_duration(end) {
        Some(_) => canonical_duration(end),
        None => zones.instant_of(end, tzid),
    };
    format!("{}/{end}", zones.instant_of(start, tzid))
}

/// The end of an event or the due time of a task, whichever way it is written (RFC 5545, 3.6.1).
fn end_field(component: &Component<'_>, zones: &mut Zones) -> Option<Field> {
    let start = component.property("DTSTART")?;
    let tzid = start.param("TZID");
    let start = parse_time(start.value());
    let written = component.property("DTEND").or_else(|| component.property("DUE"));
    let text = match (written, component.value("DURATION"), start) {
        (Some(end), ..) => {
            let end_zone = end.param("TZID");
            match parse_time(end.value()) {
                Some(time) => zones.zoned(time, end_zone.as_deref()),
                None => end.value().trim().to_owned(),
            }
        }
        (None, Some(duration), Some(start)) => match parse_duration(duration) {
            Some(duration) => {
                let end = add_duration(start, duration, tzid.as_deref(), zones)?;
                zones.zoned(end, tzid.as_deref())
            }
            None => duration.trim().to_owned(),
        },
        // A task without DUE has no end at all; an event without DTEND ends with its day, or at once.
        (None, None, Some(start)) if component.is("VEVENT") => {
            let end = match start {
                TimeValue::Date(day) => TimeValue::Date(day.tomorrow().ok()?),
                moment => moment,
            };
            zones.zoned(end, tzid.as_deref())
        }
        _ => return None,
    };
    Some(Field { name: "DTEND".into(), text })
}

/// Adds a duration: days on the local clock, seconds exactly (RFC 5545, 3.3.6).
fn add_duration(
    start: TimeValue,
    duration: DurationValue,
    tzid: Option<&str>,
    zones: &mut Zones,
) -> Option<TimeValue> {
    let days = Span::new().try_days(duration.days).ok()?;
    let seconds = Span::new().try_seconds(duration.seconds).ok()?;
    Some(match start {
        TimeValue::Date(day) => TimeValue::Date(day.checked_add(days).ok()?),
        TimeValue::Utc(at) => TimeValue::Utc(at.checked_add(days).ok()?.checked_add(seconds).ok()?),
        TimeValue::Local(at) => {
            let at = at.checked_add(days).ok()?;
            let zone = tzid.and_then(|tzid| zones.look_up(tzid));
            TimeValue::Local(match zone {
                Some(zone) => at.to_zoned(zone.rules.clone()).ok()?.checked_add(seconds).ok()?.datetime(),
                None => at.checked_add(seconds).ok()?,
            })
        }
    })
}

fn canonical_duration(value: &str) -> String {
    match (parse_duration(value), parse_time(value)) {
        // Alarms may count in days: a day and 24 hours are told apart, as RFC 5545 does.
        (Some(DurationValue { days, seconds }), _) => format!("{days}d{seconds}s"),
        (None, Some(time)) => time.to_string(),
        (None, None) => value.trim().to_owned(),
    }
}

/// Parts in a fixed order, their lists sorted, defaults left out (RFC 5545, 3.3.10).
fn canonical_rule(value: &str) -> String {
    let mut parts: Vec<String> = value
        .to_ascii_uppercase()
        .split(';')
        .map(str::trim)
        .filter(|part| !part.is_empty() && !matches!(*part, "INTERVAL=1" | "WKST=MO"))
        .map(|part| match part.split_once('=') {
            Some((name, list)) if list.contains(',') => {
                let mut values: Vec<_> = list.split(',').map(str::trim).collect();
                values.sort_unstable();
                format!("{name}={}", values.join(","))
            }
            _ => part.to_owned(),
        })
        .collect();
    parts.sort();
    parts.join(";")
}

fn canonical_geo(value: &str) -> String {
    let numbers: Option<Vec<String>> = value
        .replace("\\;", ";")
        .split(';')
        .map(|part| part.trim().parse::<f64>().ok().map(|n| format!("{n:.6}")))
        .collect();
    numbers.map_or_else(|| value.trim().to_owned(), |numbers| numbers.join(";"))
}

/// What a zone that no database knows says about time: offsets, onsets and their rules, whatever their order.
fn zone_rules(zone: &Component<'_>) -> Vec<Field> {
    const RULES: &[&str] = &["TZOFFSETFROM", "TZOFFSETTO", "DTSTART", "RRULE", "RDATE"];
    let observance = |c: &Component<'_>| {
        let mut parts: Vec<String> = c
            .properties()
            .filter(|p| RULES.iter().any(|name| p.is(name)))
            .map(|p| {
                let value =
                    if p.is("RRULE") { canonical_rule(p.value()) } else { p.value().trim().to_owned() };
                format!("{}={value}", p.name().to_ascii_uppercase())
            })
            .collect();
        parts.sort();
        Field { name: c.name().to_ascii_uppercase(), text: parts.join("|") }
    };
    let mut rules: Vec<_> = zone.components().map(observance).collect();
    rules.sort();
    rules
}

/// Tells whether two VTIMEZONEs that no database knows mean the same to an entry.
pub(crate) fn have_same_rules(one: &Component<'_>, other: &Component<'_>) -> bool {
    zone_rules(one) == zone_rules(other)
}

/// Tells whether a RECURRENCE-ID means all occurrences from its own on (RFC 5545, 3.2.13).
pub(crate) fn is_this_and_future(id: &Property<'_>) -> bool {
    id.param("RANGE").is_some_and(|range| range.eq_ignore_ascii_case("THISANDFUTURE"))
}
