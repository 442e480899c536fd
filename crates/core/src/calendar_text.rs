//! A whole calendar as one text: a feed, or an `.ics` file.
//!
//! [`CalendarText::read`] finds its entries and says what is odd about it; [`CalendarText::change`] changes single
//! entries and leaves every other line as it stands. It is held once: entries are taken out of it when they are asked
//! for.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

use encoding_rs::{Encoding, UTF_16BE, UTF_16LE, WINDOWS_1252};
use jiff::civil::Date;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::entry::{Entry, Kind, PRODID, component_uid, described_zones, zone_id, zone_ids};
use crate::hex::hex;
use crate::ical::{self, Component, Item, Limits, ParseError, ParseProblem, Property, quote};
use crate::ids::{ETag, EventUid};
use crate::joined_zones::JoinedZones;
use crate::matching::ContentKey;
use crate::values::{DurationValue, TIMES, TimeValue, parse_duration, parse_time, unescape_text};
use crate::zones::resolve_zone;

/// Hostile texts hold millions: they end here, before they fill the memory.
pub(crate) const MOST_ENTRIES: usize = 250_000;

/// A calendar's text, and where its entries stand in it.
#[derive(Debug, Clone)]
pub struct CalendarText {
    object: Component<'static>,
    placed: Vec<Placed>,
    oddities: Vec<Oddity>,
}

/// One entry of a calendar's text, which [`CalendarText::entries`] takes out.
#[derive(Debug, Clone)]
pub struct Placed {
    /// Its UID, its own within the text: see [`Oddity::WithoutUid`] and [`Oddity::SharedUid`].
    pub uid: EventUid,
    /// A hash of its text.
    pub etag: ETag,
    /// Where its components stand among the calendar's items.
    parts: Vec<usize>,
    /// Where they stand once more, word for word.
    repeats: Vec<usize>,
}

/// One change to a calendar's text.
#[derive(Debug, Clone, Copy)]
pub enum TextChange<'e> {
    /// A new entry, at the end.
    Add(&'e Entry),
    /// An entry in the place of the one with this UID.
    Replace(&'e EventUid, &'e Entry),
    /// The entry with this UID goes; nothing happens where it does not stand there.
    Remove(&'e EventUid),
}

/// What publishers do otherwise than RFC 5545 says, and how it was met. None of it stops the reading.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
#[non_exhaustive]
pub enum Oddity {
    /// So many entries without UID: they are told apart by title, start, end and recurrence.
    WithoutUid(usize),
    /// So many entries that share a UID with another, and are no changed occurrences of it.
    SharedUid(usize),
    /// So many entries that stand there twice, word for word; one of them counts.
    Repeated(usize),
    /// TZIDs that neither the zone database nor a VTIMEZONE beside explains; untrusted text.
    UnknownZones(Vec<String>),
    /// So many entries with floating times, and no X-WR-TIMEZONE that says of which zone.
    Floating(usize),
    /// So many events without a start.
    WithoutStart(usize),
    /// The text is not UTF-8; it was read in this encoding.
    NotUtf8(&'static str),
    /// So many lines that go on with the text of the line before, and do not say so.
    BrokenLines(usize),
    /// A METHOD other than PUBLISH: this is a message to somebody, not a published calendar; untrusted text.
    Method(String),
    /// It is a whole calendar without a single entry.
    Empty,
}

/// Why a text is not one complete calendar. Nothing may be concluded from it. Its display form is for developers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{self:?}")]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum NotACalendar {
    /// Nothing came.
    Nothing,
    /// A web page: mostly a sign-in page, or the page about the calendar.
    WebPage,
    /// It was cut off, or is no iCalendar at all.
    Parse(#[from] ParseError),
    /// Something else than a VCALENDAR; untrusted text.
    Other(String),
    /// Several calendars, one after the other.
    Several(usize),
    /// No VFREEBUSY, where free-busy time was expected.
    NoFreeBusy,
    /// Free-busy time with a period that is none; untrusted text.
    PeriodNotUnderstood(String),
    /// More entries than any calendar has.
    TooMany {
        /// The bound.
        limit: usize,
    },
}

/// What a calendar says of itself, and what can be seen at a glance.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CalendarFacts {
    /// NAME (RFC 7986, 5.1) or X-WR-CALNAME; untrusted text.
    pub title: Option<String>,
    /// X-WR-TIMEZONE; untrusted text.
    pub zone: Option<String>,
    /// How often the publisher wishes to be asked: REFRESH-INTERVAL (RFC 7986, 5.7) or X-PUBLISHED-TTL.
    pub refresh: Option<DurationValue>,
    /// Entries by kind.
    pub kinds: BTreeMap<Kind, usize>,
    /// The first day on which an entry starts.
    pub first: Option<Date>,
    /// The last day on which an entry or a series with an UNTIL starts.
    pub last: Option<Date>,
    /// Series without an end.
    pub endless: usize,
}

impl CalendarText {
    /// Reads a text. `charset` is the encoding that came with it (RFC 9110, 8.3.2); it counts only where the
    /// text is not UTF-8. Bytes that are handed over are let go of as early as can be.
    ///
    /// # Errors
    /// [`NotACalendar`]: anything that is not one complete VCALENDAR.
    pub fn read<'b>(
        bytes: impl Into<Cow<'b, [u8]>>,
        charset: Option<&str>,
        limits: &Limits,
    ) -> Result<Self, NotACalendar> {
        let mut all = Self::read_all(bytes, charset, limits)?;
        match (all.pop(), all.len()) {
            (Some(one), 0) => Ok(one),
            (_, others) => Err(NotACalendar::Several(others + 1)),
        }
    }

    /// Reads a text that may hold several calendars, one after the other (RFC 5545, 3.4); there is at least one.
    ///
    /// # Errors
    /// As [`Self::read`]. Whether a calendar is missing at the end cannot be told: only look, conclude nothing.
    pub fn read_all<'b>(
        bytes: impl Into<Cow<'b, [u8]>>,
        charset: Option<&str>,
        limits: &Limits,
    ) -> Result<Vec<Self>, NotACalendar> {
        let bytes = bytes.into();
        let (objects, of_all) = read_objects(&bytes, charset, limits)?;
        // What follows takes as much once more.
        drop(bytes);
        let text = |object| {
            let mut text = Self { object, placed: Vec::new(), oddities: of_all.clone() };
            let mut signs = Signs { described: described_zones(&text.object), ..Signs::default() };
            text.take_apart(&mut |entry| signs.look_at(entry));
            text.note(signs);
            text
        };
        Ok(objects.into_iter().map(text).collect())
    }

    /// Returns a calendar without entries.
    #[must_use]
    pub fn empty() -> Self {
        let mut object = Component::new("VCALENDAR");
        object.push_property(Property::new("VERSION", "2.0"));
        object.push_property(Property::new("PRODID", PRODID));
        Self { object, placed: Vec::new(), oddities: Vec::new() }
    }

    /// Returns a calendar of these entries.
    #[must_use]
    pub fn of<'e>(entries: impl IntoIterator<Item = &'e Entry>) -> Self {
        let mut text = Self::empty();
        text.change(&entries.into_iter().map(TextChange::Add).collect::<Vec<_>>());
        text
    }

    pub(crate) fn object(&self) -> &Component<'static> {
        &self.object
    }

    pub(crate) fn into_object(self) -> Component<'static> {
        self.object
    }

    /// Says which entries there are, in the order in which they begin in the text.
    #[must_use]
    pub fn placed(&self) -> &[Placed] {
        &self.placed
    }

    /// Takes the entries out, one after the other.
    pub fn entries(&self) -> impl Iterator<Item = Entry> {
        self.pick(|_| true).map(|(_, entry)| entry)
    }

    /// Takes some entries out.
    pub fn pick<'t>(
        &'t self,
        wanted: impl Fn(&Placed) -> bool + 't,
    ) -> impl Iterator<Item = (&'t Placed, Entry)> {
        let builder = Builder::new(self.object.items());
        let placed = self.placed.iter().filter(move |placed| wanted(placed));
        placed.filter_map(move |placed| Some((placed, builder.entry(&placed.uid, &placed.parts)?)))
    }

    /// Returns what is odd about it.
    #[must_use]
    pub fn oddities(&self) -> &[Oddity] {
        &self.oddities
    }

    /// Returns the text; what was not changed is as it was read.
    #[must_use]
    pub fn write(&self) -> String {
        ical::write(&self.object)
    }

    /// Returns what the calendar says of itself.
    #[must_use]
    pub fn facts(&self) -> CalendarFacts {
        let text = |name: &str| {
            let value = self.object.value(name).map(|v| unescape_text(v).trim().to_owned());
            value.filter(|v| !v.is_empty())
        };
        let refresh = ["REFRESH-INTERVAL", "X-PUBLISHED-TTL"];
        let mut facts = CalendarFacts {
            title: text("NAME").or_else(|| text("X-WR-CALNAME")),
            zone: text("X-WR-TIMEZONE"),
            refresh: refresh.iter().find_map(|name| parse_duration(self.object.value(name)?)),
            ..CalendarFacts::default()
        };
        for entry in self.entries() {
            *facts.kinds.entry(entry.kind()).or_default() += 1;
            for component in entry.components() {
                let start = component.value("DTSTART").or_else(|| component.value("DUE"));
                let Some(day) = start.and_then(parse_time).map(|at| at.local().date()) else { continue };
                let rule = component.value("RRULE");
                let until = rule.and_then(|rule| rule_part(rule, "UNTIL")).and_then(parse_time);
                let last = until.map_or(day, |until| until.local().date().max(day));
                facts.first = Some(facts.first.map_or(day, |first| first.min(day)));
                facts.last = Some(facts.last.map_or(last, |before| before.max(last)));
                let bounded =
                    rule.is_none_or(|rule| rule_part(rule, "UNTIL").or(rule_part(rule, "COUNT")).is_some());
                facts.endless += usize::from(!bounded);
            }
        }
        facts
    }

    /// Makes several changes at once; every other line stays as it stands. Time zones that an entry needs are
    /// added; where the calendar has other rules under a name, the entry's zone gets a name of its own, so that
    /// no time shifts.
    pub fn change(&mut self, changes: &[TextChange<'_>]) {
        if changes.is_empty() {
            return;
        }
        let standing: BTreeMap<&EventUid, &Placed> =
            self.placed.iter().map(|placed| (&placed.uid, placed)).collect();
        let mut gone: BTreeSet<usize> = BTreeSet::new();
        let mut placed: BTreeMap<usize, &Entry> = BTreeMap::new();
        let mut added = Vec::new();
        for change in changes {
            let uid = match change {
                TextChange::Remove(uid) | TextChange::Replace(uid, _) => Some(*uid),
                TextChange::Add(_) => None,
            };
            let parts = uid.and_then(|uid| standing.get(uid).copied());
            gone.extend(parts.iter().flat_map(|placed| placed.parts.iter().chain(&placed.repeats)));
            match (change, parts.and_then(|placed| placed.parts.first())) {
                (TextChange::Remove(_), _) => {}
                (TextChange::Replace(_, entry), Some(at)) => drop(placed.insert(*at, entry)),
                (TextChange::Replace(_, entry) | TextChange::Add(entry), _) => added.push(*entry),
            }
        }
        let old = std::mem::take(self.object.items_mut());
        let mut zones = JoinedZones::standing_in(&old);
        let mut items = Vec::with_capacity(old.len() + added.len());
        for (at, item) in old.into_iter().enumerate() {
            if let Some(entry) = placed.get(&at) {
                zones.add(entry, &mut items);
            }
            if !gone.contains(&at) {
                items.push(item);
            }
        }
        added.into_iter().for_each(|entry| zones.add(entry, &mut items));
        zones.widen(&mut items);
        *self.object.items_mut() = items;
        self.take_apart(&mut |_| {});
    }

    /// Groups the components by UID, finds the entries, and shows each of them once.
    fn take_apart(&mut self, see: &mut dyn FnMut(&Entry)) {
        self.oddities.retain(|o| matches!(o, Oddity::NotUtf8(_) | Oddity::BrokenLines(_)));
        let mut groups: Vec<(Option<EventUid>, Vec<usize>)> = Vec::new();
        let mut by_uid: BTreeMap<EventUid, usize> = BTreeMap::new();
        // The text as a whole is not needed beside that of its components: in a large calendar that is much.
        self.object.items_mut();
        let items = self.object.items();
        for (at, component) in bodies(items) {
            match component_uid(component) {
                Some(uid) => {
                    let group = *by_uid.entry(uid.clone()).or_insert(groups.len());
                    if group == groups.len() {
                        groups.push((Some(uid), Vec::new()));
                    }
                    groups[group].1.push(at);
                }
                None => groups.push((None, vec![at])),
            }
        }
        let builder = Builder::new(items);
        let mut all: Vec<Placed> = Vec::new();
        // UIDs so far with the last number given to one, and texts so far: a hostile text has many of the same.
        let mut named: BTreeMap<EventUid, usize> = BTreeMap::new();
        let mut texts: BTreeMap<(EventUid, ETag), usize> = BTreeMap::new();
        let (mut without, mut shared, mut repeated) = (0, 0, 0);
        for (uid, parts) in groups {
            let (parts, repeats) = once_each(items, &parts);
            repeated += repeats.len();
            // Most are alone: nobody need look what they are.
            let series = if parts.len() == 1 { parts.clone() } else { series_in(items, &parts) };
            let alone = uid.is_some() && series.len() <= 1;
            for parts in if alone { vec![parts] } else { share_out(items, &parts, &series) } {
                let Some((mut placed, mut entry)) = builder.place(uid.as_ref(), alone, parts) else {
                    continue;
                };
                let text = (placed.uid.clone(), placed.etag.clone());
                if let Some(at) = texts.get(&text).filter(|_| !alone) {
                    repeated += 1;
                    all[*at].repeats.append(&mut placed.parts);
                    continue;
                }
                texts.insert(text, all.len());
                if let Some(last) = named.get(&placed.uid).copied() {
                    let numbered = (last + 1..).map(|n| (n, EventUid::from(format!("{}-{n}", placed.uid))));
                    let free = numbered.into_iter().find(|(_, uid)| !named.contains_key(uid));
                    if let Some((number, own)) = free {
                        named.insert(placed.uid.clone(), number);
                        (placed, entry) =
                            builder.place(Some(&own), true, placed.parts.clone()).unwrap_or((placed, entry));
                    }
                }
                named.entry(placed.uid.clone()).or_insert(1);
                let own: BTreeSet<_> =
                    if repeats.is_empty() { BTreeSet::new() } else { placed.parts.iter().collect() };
                placed.repeats =
                    repeats.iter().filter(|(of, _)| own.contains(of)).map(|(_, at)| *at).collect();
                without += usize::from(uid.is_none());
                shared += usize::from(uid.is_some() && !alone);
                see(&entry);
                all.push(placed);
            }
        }
        self.placed = all;
        for (number, oddity) in [
            (without, Oddity::WithoutUid as fn(usize) -> Oddity),
            (shared, Oddity::SharedUid),
            (repeated, Oddity::Repeated),
        ] {
            self.oddities.extend((number > 0).then(|| oddity(number)));
        }
    }

    fn note(&mut self, Signs { unknown, floating, without_start, .. }: Signs) {
        let zone_told = self.object.property("X-WR-TIMEZONE").is_some();
        let method =
            self.object.value("METHOD").map(str::trim).filter(|m| !m.eq_ignore_ascii_case("PUBLISH"));
        let method = method.map(|m| Oddity::Method(m.to_owned()));
        let unknown = (!unknown.is_empty()).then(|| Oddity::UnknownZones(unknown.into_iter().collect()));
        let floating = (floating > 0 && !zone_told).then_some(Oddity::Floating(floating));
        let without_start = (without_start > 0).then_some(Oddity::WithoutStart(without_start));
        let empty = self.placed.is_empty().then_some(Oddity::Empty);
        self.oddities.extend([method, unknown, floating, without_start, empty].into_iter().flatten());
        self.oddities.sort();
    }
}

/// What is odd about entries, seen one after the other.
#[derive(Default)]
struct Signs {
    /// The zones that their calendar describes.
    described: BTreeSet<String>,
    unknown: BTreeSet<String>,
    floating: usize,
    without_start: usize,
}

impl Signs {
    fn look_at(&mut self, entry: &Entry) {
        for id in entry.components().flat_map(zone_ids) {
            if !self.described.contains(&id) && resolve_zone(&id).is_none() {
                self.unknown.insert(id);
            }
        }
        self.floating += usize::from(is_floating(entry));
        self.without_start +=
            usize::from(entry.kind() == Kind::Event && entry.main_component().value("DTSTART").is_none());
    }
}

/// Reads the VCALENDARs of a text, and what was odd about it.
pub(crate) fn read_objects(
    bytes: &[u8],
    charset: Option<&str>,
    limits: &Limits,
) -> Result<(Vec<Component<'static>>, Vec<Oddity>), NotACalendar> {
    if bytes.iter().all(u8::is_ascii_whitespace) {
        return Err(NotACalendar::Nothing);
    }
    let (parsed, encoding) = match wide_text(bytes) {
        Some((text, encoding)) => (parse_all(text.as_bytes(), limits), Some(encoding)),
        None => match parse_all(bytes, limits) {
            Err(ParseError { problem: ParseProblem::NotUtf8, .. }) => {
                let declared = charset.and_then(|c| Encoding::for_label(c.as_bytes()));
                let encoding = declared.filter(|e| e.is_single_byte()).unwrap_or(WINDOWS_1252);
                let (text, _) = encoding.decode_without_bom_handling(bytes);
                (parse_all(text.as_bytes(), limits), Some(encoding.name()))
            }
            parsed => (parsed, None),
        },
    };
    let (objects, broken) = parsed.map_err(|error| match error.problem {
        ParseProblem::NotCalendar if looks_like_a_page(bytes) => NotACalendar::WebPage,
        _ => NotACalendar::Parse(error),
    })?;
    if let Some(other) = objects.iter().find(|object| !object.is("VCALENDAR")) {
        return Err(NotACalendar::Other(quote(other.name())));
    }
    if objects.iter().map(|object| object.components().count()).sum::<usize>() > MOST_ENTRIES {
        return Err(NotACalendar::TooMany { limit: MOST_ENTRIES });
    }
    let broken = (broken > 0).then_some(Oddity::BrokenLines(broken));
    Ok((objects, encoding.map(Oddity::NotUtf8).into_iter().chain(broken).collect()))
}

/// Reads components, and says how many lines had to be mended for that.
fn parse_all(bytes: &[u8], limits: &Limits) -> Result<(Vec<Component<'static>>, usize), ParseError> {
    let own = |objects: Vec<Component<'_>>| objects.into_iter().map(Component::into_owned).collect();
    match ical::parse(bytes, limits) {
        Err(ParseError { problem: ParseProblem::NoColon, .. }) => {
            let (mended, number) = join_broken_lines(bytes);
            Ok((own(ical::parse(&mended, limits)?), number))
        }
        parsed => Ok((own(parsed?), 0)),
    }
}

/// Joins lines that are no content lines to the one before, as publishers write them that put a text's own line breaks
/// into the calendar. The numbers of lines stay.
fn join_broken_lines(bytes: &[u8]) -> (Vec<u8>, usize) {
    let mut mended = Vec::with_capacity(bytes.len() + 64);
    let mut number = 0;
    let mut lines = bytes.split_inclusive(|b| *b == b'\n').peekable();
    while let Some(line) = lines.next() {
        let mut whole = line.to_vec();
        while let Some(fold) = lines.next_if(|line| matches!(line.first(), Some(b' ' | b'\t'))) {
            whole.extend_from_slice(fold);
        }
        if !whole.trim_ascii().is_empty() && ical::is_content_line(&whole).is_err() {
            mended.extend_from_slice(b" \\n");
            number += 1;
        }
        mended.append(&mut whole);
    }
    (mended, number)
}

/// UTF-16, as its byte order mark says.
fn wide_text(bytes: &[u8]) -> Option<(Cow<'_, str>, &'static str)> {
    let encoding = match bytes {
        [0xFF, 0xFE, ..] => UTF_16LE,
        [0xFE, 0xFF, ..] => UTF_16BE,
        _ => return None,
    };
    Some((encoding.decode_with_bom_removal(bytes).0, encoding.name()))
}

/// Tells whether bytes begin as a web page does.
fn looks_like_a_page(bytes: &[u8]) -> bool {
    let start: Vec<u8> = bytes.iter().skip_while(|b| !b.is_ascii_graphic()).take(512).copied().collect();
    let start = String::from_utf8_lossy(&start).to_ascii_lowercase();
    start.starts_with('<')
        && (start.contains("<html") || start.contains("<!doctype") || start.contains("<head"))
}

fn bodies<'i>(items: &'i [Item<'static>]) -> impl Iterator<Item = (usize, &'i Component<'static>)> {
    items.iter().enumerate().filter_map(|(at, item)| match item {
        Item::Component(c) if Kind::of_component(c.name()).is_some() => Some((at, &**c)),
        Item::Component(_) | Item::Property(_) => None,
    })
}

fn component_at<'i>(items: &'i [Item<'static>], at: usize) -> &'i Component<'static> {
    match &items[at] {
        Item::Component(c) => c,
        Item::Property(_) => unreachable!("parts are places of components"),
    }
}

/// Components that stand for themselves: no changed occurrences of another.
fn series_in(items: &[Item<'static>], parts: &[usize]) -> Vec<usize> {
    let own = parts.iter().filter(|at| component_at(items, **at).property("RECURRENCE-ID").is_none());
    own.copied().collect()
}

/// Several entries under one UID: changed occurrences belong to the one that recurs.
fn share_out(items: &[Item<'static>], parts: &[usize], series: &[usize]) -> Vec<Vec<usize>> {
    if series.is_empty() {
        return vec![parts.to_vec()];
    }
    let recurs = |at: &&usize| component_at(items, **at).property("RRULE").is_some();
    let owner = series.iter().find(recurs).unwrap_or(&series[0]);
    let of_series: BTreeSet<_> = series.iter().collect();
    let rest: Vec<usize> = parts.iter().filter(|at| !of_series.contains(at)).copied().collect();
    let with_rest = |at: &usize| {
        let mut own = vec![*at];
        if at == owner {
            own.extend(&rest);
        }
        own
    };
    series.iter().map(with_rest).collect()
}

/// Parts apart, and those that repeat one of them word for word, as pairs of places.
fn once_each(items: &[Item<'static>], parts: &[usize]) -> (Vec<usize>, Vec<(usize, usize)>) {
    if parts.len() == 1 {
        return (parts.to_vec(), Vec::new());
    }
    let (mut first, mut repeats) = (BTreeMap::new(), Vec::new());
    for at in parts {
        let mut text = String::new();
        ical::write_to(component_at(items, *at), &mut text);
        let of = *first.entry(<[u8; 32]>::from(Sha256::digest(&text))).or_insert(*at);
        repeats.extend((of != *at).then_some((of, *at)));
    }
    let mut kept: Vec<usize> = first.into_values().collect();
    kept.sort_unstable();
    (kept, repeats)
}

/// Makes calendar objects of single entries out of a whole calendar's items.
struct Builder<'i> {
    items: &'i [Item<'static>],
    head: Vec<Property<'static>>,
    zones: BTreeMap<String, &'i Component<'static>>,
    /// X-WR-TIMEZONE: what times mean that name no zone.
    told: Option<(String, TimeZone)>,
}

impl<'i> Builder<'i> {
    fn new(items: &'i [Item<'static>]) -> Self {
        let (mut head, mut zones, mut told) = (Vec::new(), BTreeMap::new(), None);
        for item in items {
            match item {
                Item::Property(p) if ["VERSION", "PRODID", "CALSCALE"].iter().any(|name| p.is(name)) => {
                    head.push(p.clone());
                }
                Item::Component(c) if c.is("VTIMEZONE") => {
                    zones.entry(zone_id(c)).or_insert(&**c);
                }
                Item::Property(p) if told.is_none() && p.is("X-WR-TIMEZONE") => {
                    let name = unescape_text(p.value()).trim().to_owned();
                    told = resolve_zone(&name).map(|zone| (name, zone.rules));
                }
                Item::Property(_) | Item::Component(_) => {}
            }
        }
        Self { items, head, zones, told }
    }

    /// A floating time would mean another moment wherever the entry is carried: it gets the zone that its calendar
    /// tells.
    fn tell_zone(&self, body: &mut Component<'static>) {
        let Some((name, rules)) = &self.told else { return };
        let floats = |at: &str| matches!(parse_time(at), Some(TimeValue::Local(_)));
        body.map_properties(&mut |property| {
            let is_time = TIMES.iter().any(|name| property.is(name)) && property.param("TZID").is_none();
            if is_time && property.value().split(',').all(floats) {
                return Some(property.with_param("TZID", name).into_owned());
            }
            // UNTIL is UTC where the start has a zone (RFC 5545, 3.3.10).
            let until = rule_part(property.value(), "UNTIL").filter(|at| property.is("RRULE") && floats(at));
            let moment = parse_time(until?)?.local().to_zoned(rules.clone()).ok()?.timestamp();
            let utc = moment.strftime("%Y%m%dT%H%M%SZ").to_string();
            Some(property.with_value(&property.value().replace(until?, &utc)))
        });
    }

    /// Finds one entry. `keeps_uid` is false where the UID does not tell it from others: then its content is made part
    /// of it.
    fn place(&self, uid: Option<&EventUid>, keeps_uid: bool, parts: Vec<usize>) -> Option<(Placed, Entry)> {
        let uid = match uid {
            Some(uid) if keeps_uid => uid.clone(),
            _ => {
                // Something must stand there before the content can be looked at.
                let whole = self.entry(uid.unwrap_or(&EventUid::from("none")), &parts)?;
                let content = hex(&ContentKey::of(&whole).0);
                EventUid::from(match uid {
                    Some(uid) => format!("{uid}-{}", &content[..12]),
                    None => format!("content-{content}"),
                })
            }
        };
        let entry = self.entry(&uid, &parts)?;
        let digest = Sha256::digest(entry.text());
        let etag = ETag::from(format!("\"{}\"", hex(&digest[..16])));
        Some((Placed { uid, etag, parts, repeats: Vec::new() }, entry))
    }

    /// Makes an entry of components, under this UID.
    fn entry(&self, uid: &EventUid, parts: &[usize]) -> Option<Entry> {
        let mut bodies: Vec<_> = parts.iter().map(|at| component_at(self.items, *at).clone()).collect();
        for body in &mut bodies {
            self.tell_zone(body);
            if component_uid(body).as_ref() != Some(uid) {
                set_uid(body, uid.as_str());
            }
        }
        self.assemble(bodies)
    }

    fn assemble(&self, bodies: Vec<Component<'static>>) -> Option<Entry> {
        let mut object = Component::new("VCALENDAR");
        self.head.iter().for_each(|p| object.push_property(p.clone()));
        for id in bodies.iter().flat_map(zone_ids).collect::<BTreeSet<_>>() {
            self.zones.get(&id).into_iter().for_each(|zone| object.push_component((*zone).clone()));
        }
        bodies.into_iter().for_each(|c| object.push_component(c));
        Entry::from_object(object).ok()
    }
}

fn set_uid(component: &mut Component<'static>, uid: &str) {
    if component.property("UID").is_some() {
        component.set_value("UID", uid);
    } else {
        component.items_mut().insert(0, Item::Property(Property::new("UID", uid)));
    }
}

/// Returns a part of a recurrence rule, such as `UNTIL` (RFC 5545, 3.3.10).
#[must_use]
pub fn rule_part<'r>(rule: &'r str, name: &str) -> Option<&'r str> {
    let parts = rule.split(';').filter_map(|part| part.split_once('='));
    parts.into_iter().find(|(key, _)| key.trim().eq_ignore_ascii_case(name)).map(|(_, value)| value.trim())
}

fn is_floating(entry: &Entry) -> bool {
    matches!(entry.start(), Some((TimeValue::Local(_), None)))
}
