//! Entries: everything in one calendar that has one UID, the unit of synchronisation.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use jiff::civil::DateTime;

use crate::canonical::Canonical;
use crate::ical::{self, Component, Item, Limits, ParseError, Property};
use crate::ids::EventUid;
use crate::values::{TimeValue, parse_time, unescape_text};

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

/// Why a calendar object is no entry.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum EntryError {
    /// The text is not iCalendar.
    #[error(transparent)]
    Parse(#[from] ParseError),
    /// No event, task or journal in it.
    #[error("no event, task or journal in it")]
    Empty,
    /// A component without UID.
    #[error("an entry without UID")]
    NoUid,
    /// Several UIDs where one belongs (RFC 4791, 4.1).
    #[error("{0} different UIDs in one calendar object")]
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
    /// [`EntryError`], with line and column where the text is not iCalendar.
    pub fn parse(text: &str, limits: &Limits) -> Result<Self, EntryError> {
        Self::from_object(ical::parse_one(text.as_bytes(), limits)?.into_owned())
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

    /// Returns what the entry means, independent of how it is written.
    #[must_use]
    pub fn meaning(&self) -> Canonical {
        Canonical::of(self)
    }

    /// Returns the text as it may be put into a CalDAV calendar: without METHOD (RFC 4791, 4.1), with the
    /// VERSION, PRODID and DTSTAMP that RFC 5545 asks for where they are missing.
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
        for component in object.components_mut().filter(|c| Kind::of_component(c.name()).is_some()) {
            if component.property("DTSTAMP").is_none() {
                component.push_property(Property::new("DTSTAMP", &stamp));
            }
        }
        ical::write(&object)
    }
}

/// Names the product that wrote a calendar object (RFC 5545, 3.7.3).
pub(crate) const PRODID: &str = "-//Chestnut//Copy//EN";

fn utc(at: Timestamp) -> DateTime {
    at.to_zoned(jiff::tz::TimeZone::UTC).datetime()
}

fn entry_components<'c, 'a>(object: &'c Component<'a>) -> impl Iterator<Item = &'c Component<'a>> {
    object.components().filter(|c| Kind::of_component(c.name()).is_some())
}

fn component_uid(component: &Component<'_>) -> Option<EventUid> {
    component.value("UID").map(str::trim).filter(|uid| !uid.is_empty()).map(EventUid::from)
}

/// A calendar text taken apart.
#[derive(Debug, Default)]
pub struct Split {
    /// One per UID, in the order of their first component, each with the zones it needs.
    pub entries: Vec<Entry>,
    /// Events, tasks and journals without UID.
    pub without_uid: Vec<Component<'static>>,
}

/// Takes a VCALENDAR with many entries apart (a feed, an export), each with the VTIMEZONEs it refers to.
///
/// An object with a single UID stays as it came. Otherwise what describes the whole calendar (X-WR-CALNAME
/// and the like) stays behind, and VERSION, PRODID and CALSCALE go along.
#[must_use]
pub fn split_entries(object: Component<'static>) -> Split {
    let uids: BTreeSet<_> = entry_components(&object).map(component_uid).collect();
    if uids.len() == 1
        && !uids.contains(&None)
        && let Ok(entry) = Entry::from_object(object.clone())
    {
        return Split { entries: vec![entry], without_uid: Vec::new() };
    }
    let mut zones = BTreeMap::new();
    let mut head = Vec::new();
    let mut groups: Vec<(EventUid, Kind, Vec<Component<'static>>)> = Vec::new();
    let mut position = BTreeMap::new();
    let mut split = Split::default();
    for item in object.into_items() {
        match item {
            Item::Property(p) if ["VERSION", "PRODID", "CALSCALE"].iter().any(|name| p.is(name)) => {
                head.push(p)
            }
            Item::Property(_) => {}
            Item::Component(c) if c.is("VTIMEZONE") => {
                let id = c.value("TZID").unwrap_or_default().trim().to_owned();
                zones.entry(id).or_insert(*c);
            }
            Item::Component(c) => match (Kind::of_component(c.name()), component_uid(&c)) {
                (Some(kind), Some(uid)) => {
                    let at = *position.entry(uid.clone()).or_insert(groups.len());
                    if at == groups.len() {
                        groups.push((uid, kind, Vec::new()));
                    }
                    groups[at].2.push(*c);
                }
                (Some(_), None) => split.without_uid.push(*c),
                (None, _) => {}
            },
        }
    }
    let assemble = |(uid, kind, components): (EventUid, Kind, Vec<Component<'static>>)| {
        let mut object = Component::new("VCALENDAR");
        head.iter().for_each(|p| object.push_property(p.clone()));
        for id in components.iter().flat_map(zone_ids).collect::<BTreeSet<_>>() {
            zones.get(&id).into_iter().for_each(|zone| object.push_component(zone.clone()));
        }
        components.into_iter().for_each(|c| object.push_component(c));
        Entry { object, uid, kind }
    };
    split.entries = groups.into_iter().map(assemble).collect();
    split
}

/// Puts entries together into one VCALENDAR: every zone once, in front.
///
/// Where two entries bring different rules under one TZID, the second gets a name of its own, so that no time
/// shifts.
#[must_use]
pub fn join_entries<'e>(entries: impl IntoIterator<Item = &'e Entry>) -> Component<'static> {
    let mut zones: BTreeMap<String, Component<'static>> = BTreeMap::new();
    let mut bodies = Vec::new();
    for entry in entries {
        let mut renamed = BTreeMap::new();
        for zone in entry.object.components().filter(|c| c.is("VTIMEZONE")) {
            let id = zone.value("TZID").unwrap_or_default().trim().to_owned();
            let name = free_zone_name(&zones, &id, zone);
            let mut zone = zone.clone();
            if name != id {
                zone.set_value("TZID", &name);
                renamed.insert(id, name.clone());
            }
            zones.entry(name).or_insert(zone);
        }
        for item in entry.object.items() {
            if let Item::Component(c) = item
                && !c.is("VTIMEZONE")
            {
                let mut c = (**c).clone();
                if !renamed.is_empty() {
                    c.map_properties(&mut |p| {
                        let to = renamed.get(p.param("TZID")?.as_ref())?;
                        Some(p.with_param("TZID", to))
                    });
                }
                bodies.push(c);
            }
        }
    }
    let mut object = Component::new("VCALENDAR");
    object.push_property(Property::new("VERSION", "2.0"));
    object.push_property(Property::new("PRODID", PRODID));
    zones.into_values().chain(bodies).for_each(|c| object.push_component(c));
    object
}

/// Returns a TZID under which this zone stands already, or under which it may be added.
fn free_zone_name(
    zones: &BTreeMap<String, Component<'static>>,
    id: &str,
    zone: &Component<'static>,
) -> String {
    let same = |other: &Component<'static>| {
        let mut other = other.clone();
        other.set_value("TZID", id);
        other == *zone
    };
    let candidates = std::iter::once(id.to_owned()).chain((2..).map(|n| format!("{id} ({n})")));
    let mut free = candidates.filter(|name| zones.get(name).is_none_or(same));
    free.next().expect("there are more numbers than zones")
}

fn zone_ids(component: &Component<'static>) -> BTreeSet<String> {
    let mut ids = BTreeSet::new();
    component.visit_properties(&mut |p| {
        if let Some(id) = p.param("TZID") {
            ids.insert(id.trim().to_owned());
        }
    });
    ids
}
