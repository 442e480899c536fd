//! Entries: everything in one calendar that has one UID, the unit of synchronisation.

use std::collections::BTreeSet;

use jiff::Timestamp;
use jiff::civil::DateTime;
use serde::{Deserialize, Serialize};

use crate::ical::{self, Bound, Component, Item, Limits, ParseError, ParseProblem, Property};
use crate::ids::EventUid;
use crate::recurrence::write_zone;
use crate::values::{TimeValue, parse_duration, parse_time, unescape_text};
use crate::zones::resolve_zone;

/// Bytes of the largest entry that is read.
const MOST_BYTES: usize = 10 << 20;
/// Content lines of the largest entry that is read.
const MOST_LINES: usize = 20_000;

/// Days that an entry, or a zone in it, names one by one.
const MOST_DAYS: usize = 20_000;

fn days(list: &Property<'_>) -> usize {
    list.value().split(',').count()
}

/// What sort of entry it is (RFC 5545, 3.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Kind {
    /// VEVENT.
    Event,
    /// VTODO.
    Task,
    /// VJOURNAL.
    Journal,
}

impl Kind {
    /// All kinds, in the order in which they are shown.
    pub const ALL: [Self; 3] = [Self::Event, Self::Task, Self::Journal];

    /// Returns the name of the component (RFC 5545, 3.6.1 to 3.6.3).
    #[must_use]
    pub fn component_name(self) -> &'static str {
        match self {
            Self::Event => "VEVENT",
            Self::Task => "VTODO",
            Self::Journal => "VJOURNAL",
        }
    }

    /// Returns the word for people and for the configuration, in the plural.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Event => "events",
            Self::Task => "tasks",
            Self::Journal => "journals",
        }
    }

    /// Returns the kind that a component of this name has.
    #[must_use]
    pub fn of_component(name: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| name.eq_ignore_ascii_case(kind.component_name()))
    }
}

/// A set of kinds.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Kinds(BTreeSet<Kind>);

impl Kinds {
    /// Every kind there is: what a calendar takes that does not say otherwise (RFC 4791, 5.2.3).
    #[must_use]
    pub fn all() -> Self {
        Kind::ALL.into_iter().collect()
    }

    /// Tells whether the kind is in the set.
    #[must_use]
    pub fn contains(&self, kind: Kind) -> bool {
        self.0.contains(&kind)
    }

    /// Returns the kinds in their order.
    pub fn iter(&self) -> impl Iterator<Item = Kind> + '_ {
        self.0.iter().copied()
    }
}

impl FromIterator<Kind> for Kinds {
    fn from_iter<T: IntoIterator<Item = Kind>>(kinds: T) -> Self {
        Self(kinds.into_iter().collect())
    }
}

/// Why a calendar object is no entry. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum EntryError {
    /// The text is not iCalendar.
    Parse(#[from] ParseError),
    /// No event, task or journal in it.
    Empty,
    /// A component without UID.
    NoUid,
    /// Several UIDs where one belongs (RFC 4791, 4.1).
    SeveralUids(usize),
}

/// Everything that has one UID: the event or task, its changed occurrences, and the time zones they need.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    object: Component<'static>,
    uid: EventUid,
    kind: Kind,
}

impl Entry {
    /// Takes a VCALENDAR that holds one entry, as a CalDAV resource does (RFC 4791, 4.1).
    ///
    /// # Errors
    /// [`EntryError`] where there is no entry, no UID, or more than one.
    pub fn from_object(object: Component<'static>) -> Result<Self, EntryError> {
        let mut uids = BTreeSet::new();
        let mut kind = None;
        for component in entry_components(&object) {
            kind = kind.or(Kind::of_component(component.name()));
            uids.insert(component_uid(component).ok_or(EntryError::NoUid)?);
        }
        let kind = kind.ok_or(EntryError::Empty)?;
        match (uids.pop_first(), uids.len()) {
            (Some(uid), 0) => Ok(Self { object, uid, kind }),
            (_, more) => Err(EntryError::SeveralUids(more + 1)),
        }
    }

    /// Reads an entry from the text of one calendar object.
    ///
    /// # Errors
    /// [`EntryError`], with line and column where the text is not iCalendar, or is more than 10 MiB or 20,000 lines: no
    /// entry is, and one that is costs all others their room.
    pub fn parse(text: &str, limits: &Limits) -> Result<Self, EntryError> {
        if text.len() > MOST_BYTES {
            let problem = ParseProblem::TooMuch { what: Bound::EntryBytes, limit: MOST_BYTES };
            return Err(ParseError { line: 1, column: 1, problem }.into());
        }
        let limits = &Limits { lines: limits.lines.min(MOST_LINES), ..*limits };
        let entry = Self::from_object(ical::parse_one(text.as_bytes(), limits)?.into_owned())?;
        // Fewer bytes cannot hold so many days.
        if text.len() > MOST_DAYS * "20261201".len() {
            let lists = entry.object.components().flat_map(|component| {
                ["EXDATE", "RDATE"]
                    .map(|name| component.properties().filter(move |p| p.is(name)).map(days).sum::<usize>())
            });
            if lists.sum::<usize>() > MOST_DAYS {
                let problem = ParseProblem::TooMuch { what: Bound::Days, limit: MOST_DAYS };
                return Err(ParseError { line: 1, column: 1, problem }.into());
            }
        }
        Ok(entry)
    }

    /// Returns the UID.
    #[must_use]
    pub fn uid(&self) -> &EventUid {
        &self.uid
    }

    /// Returns what sort of entry it is.
    #[must_use]
    pub fn kind(&self) -> Kind {
        self.kind
    }

    /// Returns the VCALENDAR.
    #[must_use]
    pub fn object(&self) -> &Component<'static> {
        &self.object
    }

    /// Returns its text, as a calendar object of its own.
    #[must_use]
    pub fn text(&self) -> String {
        ical::write(&self.object)
    }

    /// Returns the events, tasks or journals: the series and its changed occurrences, in their order.
    pub fn components(&self) -> impl Iterator<Item = &Component<'static>> {
        entry_components(&self.object)
    }

    /// Returns the component that stands for the whole: the one without RECURRENCE-ID, else the first.
    #[must_use]
    pub fn main_component(&self) -> &Component<'static> {
        let series = self.components().find(|c| c.property("RECURRENCE-ID").is_none());
        series.or_else(|| self.components().next()).expect("an entry has at least one component")
    }

    /// Returns the title (SUMMARY), untrusted text; empty where there is none.
    #[must_use]
    pub fn title(&self) -> String {
        self.main_component().value("SUMMARY").map_or_else(String::new, |v| unescape_text(v).into_owned())
    }

    /// Returns when it starts, with the TZID as written; a task without start shows when it is due.
    #[must_use]
    pub fn start(&self) -> Option<(TimeValue, Option<String>)> {
        let main = self.main_component();
        let property = main.property("DTSTART").or_else(|| main.property("DUE"))?;
        Some((parse_time(property.value())?, property.param("TZID").map(|t| t.into_owned())))
    }

    /// Tells whether it names a zone (TZID) that neither it nor the bundled database describes.
    #[must_use]
    pub fn names_unknown_zone(&self) -> bool {
        let mut named: BTreeSet<String> = self.components().flat_map(zone_ids).collect();
        let described = described_zones(&self.object);
        named.retain(|id| !described.contains(id) && resolve_zone(id).is_none());
        !named.is_empty()
    }

    /// Returns the text as it may be put into a CalDAV calendar: without METHOD (RFC 4791, 4.1), with the
    /// VERSION, PRODID and DTSTAMP that RFC 5545 asks for where they are missing, and with a VTIMEZONE for each
    /// zone that is named, known, and not described.
    #[must_use]
    pub fn caldav_text(&self, now: Timestamp) -> String {
        let mut object = self.object.clone();
        object.retain_properties(|p| !p.is("METHOD"));
        for (name, value) in [("PRODID", PRODID), ("VERSION", "2.0")] {
            if object.property(name).is_none() {
                object.items_mut().insert(0, Item::Property(Property::new(name, value)));
            }
        }
        let stamp = TimeValue::Utc(utc(now)).to_string();
        for component in entry_components_mut(&mut object) {
            if component.property("DTSTAMP").is_none() {
                component.push_property(Property::new("DTSTAMP", &stamp));
            }
        }
        self.describe_zones(&mut object);
        ical::write(&object)
    }

    /// Returns the same entry in the form that the strictest servers take: without properties that say nothing, and an
    /// event that is over at once without an end (RFC 5545, 3.8.2.2 asks for one that is later than the start, and 3.6.1
    /// lets it end when it starts); `None` where it has that form already.
    #[must_use]
    pub fn plainer(&self) -> Option<Self> {
        let mut object = self.object.clone();
        let mut is_changed = false;
        for component in entry_components_mut(&mut object) {
            let start = component.property("DTSTART").map(|p| p.line().replacen("DTSTART", "", 1));
            let is_timed = matches!(
                component.value("DTSTART").and_then(parse_time),
                Some(TimeValue::Local(_) | TimeValue::Utc(_))
            );
            let ends_at_once = |p: &Property<'_>| {
                is_timed
                    && (p.is("DTEND") && start.as_deref() == Some(&p.line().replacen("DTEND", "", 1))
                        || p.is("DURATION")
                            && parse_duration(p.value()).is_some_and(|d| (d.days, d.seconds) == (0, 0)))
            };
            component.retain_properties(|p| {
                let goes = p.value().trim().is_empty() || ends_at_once(p);
                is_changed |= goes;
                !goes
            });
        }
        let plainer = Self::from_object(object).ok().filter(|_| is_changed)?;
        (plainer.meaning() == self.meaning()).then_some(plainer)
    }

    /// Adds the zones that are missing, in front of what needs them.
    fn describe_zones(&self, object: &mut Component<'static>) {
        let described = described_zones(object);
        let named: BTreeSet<String> = entry_components(object).flat_map(zone_ids).collect();
        let missing = named.difference(&described);
        let first_year = self.start().map_or(1970, |(start, _)| i64::from(start.local().year()));
        let zones = missing.filter_map(|id| Some(write_zone(id, &resolve_zone(id)?.rules, first_year)));
        let zones: Vec<_> = zones.map(|zone| Item::Component(Box::new(zone))).collect();
        object.insert_before_components(zones);
    }
}

/// Names the product that wrote a calendar object (RFC 5545, 3.7.3).
pub const PRODID: &str = "-//Chestnut//Copy//EN";

fn utc(at: Timestamp) -> DateTime {
    at.to_zoned(jiff::tz::TimeZone::UTC).datetime()
}

pub(crate) fn entry_components<'c, 'a>(object: &'c Component<'a>) -> impl Iterator<Item = &'c Component<'a>> {
    object.components().filter(|c| Kind::of_component(c.name()).is_some())
}

pub(crate) fn entry_components_mut<'c, 'a>(
    object: &'c mut Component<'a>,
) -> impl Iterator<Item = &'c mut Component<'a>> {
    object.components_mut().filter(|c| Kind::of_component(c.name()).is_some())
}

/// The names of the VTIMEZONEs in a calendar object.
pub(crate) fn described_zones(object: &Component<'_>) -> BTreeSet<String> {
    object.components().filter(|c| c.is("VTIMEZONE")).map(zone_id).collect()
}

pub(crate) fn component_uid(component: &Component<'_>) -> Option<EventUid> {
    let uid = component.peek("UID")?;
    Some(uid.trim()).filter(|uid| !uid.is_empty()).map(EventUid::from)
}

/// The name of a VTIMEZONE.
pub(crate) fn zone_id(zone: &Component<'_>) -> String {
    zone.value("TZID").unwrap_or_default().trim().to_owned()
}

/// The zones that a component's properties name, those of its alarms among them.
pub(crate) fn zone_ids(component: &Component<'static>) -> BTreeSet<String> {
    let mut ids = BTreeSet::new();
    component.visit_properties(&mut |p| {
        if let Some(id) = p.param("TZID") {
            ids.insert(id.trim().to_owned());
        }
    });
    ids
}
