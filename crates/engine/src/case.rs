//! Cases: one entry as one route sees it. What was agreed, and in each calendar what stood there when it was last in
//! step, and what stands there now.

use std::rc::Rc;

use chestnut_core::ical::{Component, Limits};
use chestnut_core::{
    Decided, ETag, Entry, EventUid, Fingerprint, ObjectHref, Origin, parse_duration, parse_time,
    resolve_zone, rule_part,
};
use chestnut_store::{BodyId, Intent, LinkId, LinkRow, Object, Text};
use jiff::tz::TimeZone;

/// A text with what it says.
#[derive(Debug, Clone)]
pub(crate) struct Kept {
    pub(crate) text: Text,
    pub(crate) entry: Entry,
}

impl Kept {
    pub(crate) fn of(id: Option<BodyId>, text: String) -> Option<Rc<Self>> {
        let entry = Entry::parse(&text, &Limits::default()).ok()?;
        Some(Rc::new(Self { text: Text { id, text }, entry }))
    }
}

/// What stands in one calendar now.
#[derive(Debug, Clone, Default)]
pub(crate) enum Stands {
    /// Nothing ever did.
    #[default]
    Never,
    /// It stood there, and is gone.
    Gone,
    /// This entry.
    Present(Object, Rc<Kept>),
    /// No entry, until it changes.
    Unreadable(Object),
    /// Over before the window, by the server's word.
    Unread(Object),
    /// Nobody knows: nothing follows from it.
    Unknown(Object),
}

impl Stands {
    pub(crate) fn kept(&self) -> Option<&Rc<Kept>> {
        match self {
            Self::Present(_, kept) => Some(kept),
            _ => None,
        }
    }

    /// The text that stands there, where it can be read.
    pub(crate) fn text(&self) -> Option<Text> {
        self.kept().map(|kept| kept.text.clone())
    }

    pub(crate) fn entry(&self) -> Option<&Entry> {
        self.kept().map(|kept| &kept.entry)
    }

    pub(crate) fn object(&self) -> Option<&Object> {
        match self {
            Self::Present(object, _)
            | Self::Unreadable(object)
            | Self::Unread(object)
            | Self::Unknown(object) => Some(object),
            Self::Never | Self::Gone => None,
        }
    }

    pub(crate) fn etag(&self) -> Option<&ETag> {
        self.object().and_then(|object| object.etag.as_ref())
    }
}

/// One calendar's part in a case.
#[derive(Debug, Clone, Default)]
pub(crate) struct Place {
    pub(crate) stands: Stands,
    /// What stood there when it was last in step; `None` where nothing did.
    pub(crate) stood: Option<Rc<Kept>>,
    /// What was agreed then. What is agreed now may be newer: then it is owed a write.
    pub(crate) in_step_with: Option<Rc<Kept>>,
    pub(crate) origin: Origin,
    pub(crate) refused: Option<Fingerprint>,
    pub(crate) let_go: bool,
    /// Its server may refuse the entry's own UID: the route's is tried.
    pub(crate) wants_own_uid: bool,
    /// Another case's copy has the UID that a copy of this one would get.
    pub(crate) copy_uid_is_taken: bool,
}

impl Place {
    pub(crate) fn is_in_step_with(&self, agreed: Option<&Rc<Kept>>) -> bool {
        self.in_step_with.as_ref().map(|kept| &kept.entry) == agreed.map(|kept| &kept.entry)
    }

    /// It does not know of what is agreed now, also where it was in step with the same text before: then more of that is
    /// carried now, or it says something else since.
    pub(crate) fn owe(&mut self, agreed: Option<&Rc<Kept>>) {
        if self.is_in_step_with(agreed) {
            self.in_step_with = None;
        }
    }
}

/// One entry as one route sees it.
#[derive(Debug, Clone)]
pub(crate) struct Case {
    pub(crate) link: Option<LinkId>,
    pub(crate) row: Option<LinkRow>,
    /// What was agreed.
    pub(crate) agreed: Option<Rc<Kept>>,
    pub(crate) places: Vec<Place>,
    /// What a person decided about it.
    pub(crate) decided: Option<Decided>,
    /// What a person was asked about it, and has not been done yet.
    pub(crate) asked: Option<Asked>,
    /// Another entry of its calendar has its UID, and counts.
    pub(crate) has_same_uid: bool,
    /// Writes of an earlier run that turned out to be done.
    pub(crate) found_done: Vec<FoundDone>,
    /// Where an earlier run had intended a write, of which this one has found out what became: it is not recorded yet.
    pub(crate) found_out: Vec<usize>,
}

/// A write or deletion of an earlier run that was not recorded, and was done.
#[derive(Debug, Clone)]
pub(crate) struct FoundDone {
    pub(crate) side: usize,
    pub(crate) href: ObjectHref,
    pub(crate) before: Option<Text>,
    pub(crate) after: Option<Text>,
}

/// What a person was asked about a case.
#[derive(Debug, Clone)]
pub(crate) struct Asked {
    pub(crate) question: Question,
    /// Whether they answered.
    pub(crate) is_answered: bool,
}

/// Which question it is.
#[derive(Debug, Clone)]
pub(crate) enum Question {
    /// Whose word counts.
    Disagreement,
    /// Whether a server may write to people because of it: what of, and what they said.
    Mail { keys: Vec<String>, sends: bool },
}

impl Case {
    /// Takes what an intention wanted agreed as agreed.
    pub(crate) fn agree(&mut self, agreed: Option<Rc<Kept>>, intent: &Intent) {
        if self.row.as_ref().is_some_and(|row| row.agreed.is_some() && row.carried != intent.carried) {
            // Of the same text more is agreed now: of that the others do not know.
            let others = self.places.iter_mut().enumerate().filter(|(side, _)| *side != intent.side);
            others.for_each(|(_, place)| place.owe(agreed.as_ref()));
        }
        self.agreed = agreed;
        if let Some(row) = &mut self.row {
            (row.agreed, row.carried, row.form) = (intent.agreed, intent.carried, intent.form);
        }
    }

    pub(crate) fn new(sides: usize) -> Self {
        Self {
            link: None,
            row: None,
            agreed: None,
            places: vec![Place::default(); sides],
            decided: None,
            asked: None,
            has_same_uid: false,
            found_done: Vec::new(),
            found_out: Vec::new(),
        }
    }

    /// What a person would call it, from where it stands, or stood.
    pub(crate) fn shown(&self) -> Option<&Entry> {
        let stands = self.places.iter().find_map(|place| place.stands.entry());
        stands.or_else(|| Some(&self.places.iter().find_map(|place| place.stood.as_ref())?.entry))
    }

    /// The title, or the file name of an entry that cannot be read.
    pub(crate) fn title(&self) -> String {
        let file_name = || {
            let object = self.places.iter().find_map(|place| place.stands.object());
            let href = object.map(|object| object.href.as_str()).unwrap_or_default();
            href.rsplit('/').next().unwrap_or_default().to_owned()
        };
        self.shown().map_or_else(file_name, Entry::title)
    }

    pub(crate) fn start(&self) -> String {
        self.shown().map(start_text).unwrap_or_default()
    }

    /// Where it stands or stood in one calendar.
    pub(crate) fn href(&self, side: usize) -> Option<&ObjectHref> {
        self.places[side].stands.object().map(|object| &object.href)
    }

    pub(crate) fn uid(&self, side: usize) -> Option<&EventUid> {
        let place = &self.places[side];
        let own = place.stands.entry().or_else(|| place.stood.as_ref().map(|stood| &stood.entry));
        own.map(Entry::uid)
    }

    /// In how many calendars it stands.
    pub(crate) fn standing(&self) -> usize {
        self.places.iter().filter(|place| matches!(place.stands, Stands::Present(..))).count()
    }
}

/// Tells whether two texts are the same but for the ends of their lines, which XML changes.
pub(crate) fn is_same_text(one: &str, two: &str) -> bool {
    let plain = |text: &str| text.bytes().filter(|byte| *byte != b'\r').collect::<Vec<_>>();
    one.len().abs_diff(two.len()) <= one.len() / 4 && plain(one) == plain(two)
}

/// Returns the start as iCalendar writes it, the zone behind it; empty where there is none.
#[must_use]
pub fn start_text(entry: &Entry) -> String {
    match entry.start() {
        Some((time, Some(zone))) => format!("{time} {zone}"),
        Some((time, None)) => time.to_string(),
        None => String::new(),
    }
}

/// When an entry begins and ends, in seconds since 1970; floating times as if they were UTC. A task without a start begins
/// when it is due.
pub(crate) fn span_of(entry: &Entry) -> Option<(i64, i64)> {
    span_in(entry.main_component())
}

/// When an entry takes place at the earliest and at the latest, a day more on either side: whatever zones are meant, no
/// occurrence lies outside. What cannot be told counts as always.
pub(crate) fn rough_span(entry: &Entry) -> (i64, i64) {
    let mut whole = (i64::MAX, i64::MIN);
    for component in entry.components() {
        let Some((start, end)) = span_in(component) else { return (i64::MIN, i64::MAX) };
        let length = end.saturating_sub(start).max(0);
        let repeats = ["RRULE", "RDATE", "EXRULE"].iter().any(|name| component.property(name).is_some());
        let until = component.value("RRULE").and_then(|rule| rule_part(rule, "UNTIL")).and_then(parse_time);
        let until = until.and_then(|at| at.local().to_zoned(TimeZone::UTC).ok());
        let only_rule = component.property("RDATE").is_none();
        let last = match (repeats, until.filter(|_| only_rule)) {
            (false, _) => end,
            (true, Some(until)) => until.timestamp().as_second().saturating_add(length).max(end),
            (true, None) => i64::MAX,
        };
        // An RDATE may come before the start.
        let first = if only_rule { start } else { i64::MIN };
        whole = (whole.0.min(first), whole.1.max(last));
    }
    (whole.0.saturating_sub(DAY + DAY), whole.1.saturating_add(DAY + DAY))
}

const DAY: i64 = 86_400;

/// When a component takes place, in seconds since 1970; of a series, the first time.
pub(crate) fn span_in(main: &Component<'_>) -> Option<(i64, i64)> {
    let at = |name: &str| {
        let property = main.property(name)?;
        let zone = property.param("TZID").and_then(|id| resolve_zone(&id));
        let zone = zone.map_or(TimeZone::UTC, |zone| zone.rules);
        Some(parse_time(property.value())?.local().to_zoned(zone).ok()?.timestamp().as_second())
    };
    let end = at("DTEND").or_else(|| at("DUE"));
    let start = at("DTSTART").or(end)?;
    let length = main.value("DURATION").and_then(parse_duration);
    let length = length.map(|one| one.days.saturating_mul(86_400).saturating_add(one.seconds));
    Some((start, end.or_else(|| start.checked_add(length?)).unwrap_or(start)))
}
