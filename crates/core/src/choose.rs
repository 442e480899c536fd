//! Which entries a route takes, and which occurrences of a series: `only` and `skip`. Every refusal names the key of the
//! configuration that made it.

use std::borrow::Cow;

use regex::{Regex, RegexBuilder};

use crate::canonical::is_this_and_future;
use crate::entry::{Entry, Kind, entry_components_mut};
use crate::ical::{Component, Item, Property};
use crate::values::{TimeValue, parse_time, split_list, unescape_text};
use crate::window::Bounds;

/// What a route says of the entries it takes, besides their kind.
#[derive(Debug, Clone, Default)]
pub struct Choice {
    /// An entry must pass every one.
    pub only: Vec<Test>,
    /// An entry must pass none.
    pub skip: Vec<Test>,
    /// Addresses of the calendar's owner, in lower case and without `mailto:`.
    pub me: Vec<String>,
    /// Changed occurrences of a series are asked, too, and those that are not taken are taken out of it. Where calendars
    /// are kept alike that would delete them: there, what the series says counts for all of it.
    pub by_occurrence: bool,
}

/// Something that can be asked of an entry, or of an occurrence that differs from its series.
#[derive(Debug, Clone)]
pub enum Test {
    /// It has one of these categories, in any case (CATEGORIES).
    Categories(Vec<String>),
    /// One of these is in its title, place or notes.
    Words(Vec<Words>),
    /// It takes whole days, or it does not.
    AllDay(bool),
    /// The calendar's owner has said no, or has not.
    Declined(bool),
    /// It is called off, or it is not (STATUS).
    Cancelled(bool),
    /// It is not certain yet, or it is (STATUS, or the owner's own answer).
    Tentative(bool),
    /// It takes no time, or it does (TRANSP).
    Free(bool),
    /// It is private or confidential, or it is not (CLASS).
    Private(bool),
    /// One of these addresses has called it (ORGANIZER).
    Organiser(Vec<String>),
}

/// Words to look for: a text in any case, or a pattern.
#[derive(Debug, Clone)]
pub struct Words {
    pattern: Regex,
    /// The text, where it is no pattern.
    plain: Option<String>,
}

impl Words {
    /// Reads a text, or `/pattern/`; both are found in any case.
    ///
    /// # Errors
    /// The pattern is none; in words.
    pub fn parse(text: &str) -> Result<Self, String> {
        let pattern = text.strip_prefix('/').and_then(|rest| rest.strip_suffix('/'));
        let plain = pattern.is_none().then(|| text.to_owned());
        let pattern = pattern.map_or_else(|| regex::escape(text), str::to_owned);
        let regex = RegexBuilder::new(&pattern).case_insensitive(true).size_limit(1 << 20).build();
        regex
            .map(|pattern| Self { pattern, plain })
            .map_err(|e| e.to_string().lines().last().unwrap_or_default().to_owned())
    }
}

impl Words {
    /// Returns a text that is found by these words; `None` where they are a pattern.
    #[must_use]
    pub fn plain(&self) -> Option<&str> {
        self.plain.as_deref()
    }
}

/// Texts, each with its length before it: no two lists look the same.
fn listed<'t>(texts: impl IntoIterator<Item = &'t String>) -> String {
    texts.into_iter().map(|text| format!(" {}:{text}", text.len())).collect()
}

impl Test {
    fn settings(&self) -> String {
        let value = match self {
            Self::Categories(texts) | Self::Organiser(texts) => listed(texts),
            Self::Words(words) => {
                listed(&words.iter().map(|w| w.pattern.as_str().to_owned()).collect::<Vec<_>>())
            }
            Self::AllDay(wanted)
            | Self::Declined(wanted)
            | Self::Cancelled(wanted)
            | Self::Tentative(wanted)
            | Self::Free(wanted)
            | Self::Private(wanted) => format!(" {wanted}"),
        };
        format!(" {}{value}", self.key())
    }

    /// Returns the key of the configuration.
    #[must_use]
    pub fn key(&self) -> &'static str {
        match self {
            Self::Categories(_) => "categories",
            Self::Words(_) => "words",
            Self::AllDay(_) => "all-day",
            Self::Declined(_) => "declined",
            Self::Cancelled(_) => "cancelled",
            Self::Tentative(_) => "tentative",
            Self::Free(_) => "free",
            Self::Private(_) => "private",
            Self::Organiser(_) => "organiser",
        }
    }

    /// Tells whether it asks for what each occurrence says of itself, whatever its series says: a series to which somebody
    /// has said no may have a day to which they said yes.
    fn is_of_occurrences(&self) -> bool {
        matches!(self, Self::Declined(_) | Self::Tentative(_) | Self::Free(_))
    }

    /// Tells whether an occurrence that differs from its series must pass it, where the series has to. A series that is
    /// wanted for its words is wanted as it stands.
    fn holds_for_occurrences(&self) -> bool {
        self.is_of_occurrences() || matches!(self, Self::Cancelled(_) | Self::Private(_))
    }

    fn passes(&self, component: &Component<'_>, me: &[String]) -> bool {
        let is = |name: &str, values: &[&str]| {
            let value = component.value(name).unwrap_or_default().trim();
            values.iter().any(|wanted| value.eq_ignore_ascii_case(wanted))
        };
        let own_answer = |wanted: &str| own_answer(component, me, wanted);
        match self {
            Self::Categories(wanted) => {
                let lists = component.properties().filter(|p| p.is("CATEGORIES"));
                let mut own =
                    lists.flat_map(|p| split_list(p.value())).map(|one| unescape_text(one).to_lowercase());
                own.any(|one| wanted.iter().any(|w| w.to_lowercase() == one.trim()))
            }
            Self::Words(wanted) => ["SUMMARY", "LOCATION", "DESCRIPTION"].iter().any(|name| {
                let text = component.value(name).map(unescape_text);
                text.is_some_and(|text| wanted.iter().any(|words| words.pattern.is_match(&text)))
            }),
            Self::AllDay(wanted) => {
                let start = component.value("DTSTART").or_else(|| component.value("DUE"));
                matches!(start.and_then(parse_time), Some(TimeValue::Date(_))) == *wanted
            }
            Self::Declined(wanted) => own_answer("DECLINED") == *wanted,
            Self::Cancelled(wanted) => is("STATUS", &["CANCELLED"]) == *wanted,
            Self::Tentative(wanted) => (is("STATUS", &["TENTATIVE"]) || own_answer("TENTATIVE")) == *wanted,
            Self::Free(wanted) => is("TRANSP", &["TRANSPARENT"]) == *wanted,
            Self::Private(wanted) => is("CLASS", &["PRIVATE", "CONFIDENTIAL"]) == *wanted,
            Self::Organiser(wanted) => {
                let organiser = component.value("ORGANIZER").map(address);
                organiser.is_some_and(|own| wanted.iter().any(|w| address(w) == own))
            }
        }
    }
}

/// Tells whether one of these addresses has answered so (PARTSTAT).
pub(crate) fn own_answer(component: &Component<'_>, me: &[String], wanted: &str) -> bool {
    let mut attendees = component.properties().filter(|p| p.is("ATTENDEE"));
    attendees.any(|p| {
        me.contains(&address(p.value()))
            && p.param("PARTSTAT").is_some_and(|answer| answer.eq_ignore_ascii_case(wanted))
    })
}

fn is_series(component: &Component<'_>) -> bool {
    component.property("RECURRENCE-ID").is_none()
}

/// Tells whether an occurrence stands for all that come after it, too.
fn reaches_on(component: &Component<'_>) -> bool {
    component.property("RECURRENCE-ID").is_some_and(is_this_and_future)
}

/// What takes an occurrence out of its series (EXDATE).
fn exception(occurrence: &Component<'_>) -> Option<Property<'static>> {
    let id = occurrence.property("RECURRENCE-ID")?;
    let of = |name| id.param(name).map(|value| (name, value));
    let params: Vec<_> = ["VALUE", "TZID"].into_iter().filter_map(of).collect();
    let params: Vec<_> = params.iter().map(|(name, value)| (*name, &**value)).collect();
    Some(Property::with_params("EXDATE", &params, id.value()))
}

/// `mailto:Office@packhouse.example` and `office@packhouse.example` are the same.
pub(crate) fn address(text: &str) -> String {
    let text = text.trim().to_lowercase();
    text.strip_prefix("mailto:").unwrap_or(&text).to_owned()
}

/// Which key of the configuration stopped an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ChoiceKey(&'static str);

impl ChoiceKey {
    /// Returns the key, such as `skip.declined`.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.0
    }

    fn of(table: &str, key: &str) -> Self {
        let all = [
            ("only.categories", "skip.categories", "categories"),
            ("only.words", "skip.words", "words"),
            ("only.all-day", "skip.all-day", "all-day"),
            ("only.declined", "skip.declined", "declined"),
            ("only.cancelled", "skip.cancelled", "cancelled"),
            ("only.tentative", "skip.tentative", "tentative"),
            ("only.free", "skip.free", "free"),
            ("only.private", "skip.private", "private"),
            ("only.organiser", "skip.organiser", "organiser"),
        ];
        let found = all.iter().find(|(.., own)| *own == key).unwrap_or(&all[0]);
        Self(if table == "only" { found.0 } else { found.1 })
    }
}

impl Choice {
    /// Returns why an entry is not taken; `None` where it is, or where some of its occurrences are.
    #[must_use]
    pub fn refusal(&self, entry: &Entry) -> Option<ChoiceKey> {
        let main = entry.main_component();
        if !self.asks_occurrences(entry) {
            return self.stops(main, |_| true, |_| true);
        }
        let of_series = |test: &Test| is_series(main) && !test.is_of_occurrences();
        if let Some(key) = self.stops(main, of_series, of_series) {
            return Some(key);
        }
        match self.rest(entry) {
            Some(_) => None,
            None => entry.components().find_map(|one| self.stops_occurrence(one)),
        }
    }

    /// Returns an entry without the occurrences that are not taken; `None` where nothing is left of it.
    #[must_use]
    pub fn rest<'e>(&self, entry: &'e Entry) -> Option<Cow<'e, Entry>> {
        if !self.asks_occurrences(entry) {
            return Some(Cow::Borrowed(entry));
        }
        let is_out = |one: &Component<'_>| self.stops_occurrence(one).is_some();
        let (out, taken): (Vec<_>, Vec<_>) = entry.components().partition(|one| is_out(one));
        if out.is_empty() {
            return Some(Cow::Borrowed(entry));
        }
        // What holds from some day on cannot be taken out of its series.
        if taken.is_empty() || entry.components().any(reaches_on) {
            return None;
        }
        let gone: Vec<_> = out.iter().filter_map(|one| exception(one)).collect();
        let mut object = entry.object().clone();
        object.items_mut().retain(|item| match item {
            Item::Component(one) => Kind::of_component(one.name()).is_none() || !is_out(one),
            Item::Property(_) => true,
        });
        for series in entry_components_mut(&mut object).filter(|one| is_series(one)) {
            gone.iter().for_each(|exception| series.push_property(exception.clone()));
        }
        let rest = Entry::from_object(object).ok()?;
        // Every day of it may have been one of those.
        let takes_place = Bounds::unlimited().is_behind(&rest) != Ok(true);
        takes_place.then_some(Cow::Owned(rest))
    }

    /// Returns the occurrences that are not taken of an entry that is: which one, as iCalendar writes it with the zone behind
    /// it, or `None` for all that say what their series says; and the key that stops it.
    #[must_use]
    pub fn left_behind(&self, entry: &Entry) -> Vec<(Option<String>, ChoiceKey)> {
        if !self.asks_occurrences(entry) {
            return Vec::new();
        }
        let which = |one: &Component<'_>| {
            let id = one.property("RECURRENCE-ID")?;
            let zone = id.param("TZID").map(|zone| format!(" {zone}")).unwrap_or_default();
            Some(format!("{}{zone}", id.value().trim()))
        };
        entry.components().filter_map(|one| Some((which(one), self.stops_occurrence(one)?))).collect()
    }

    /// Tells whether an entry has occurrences of which each answers for itself.
    fn asks_occurrences(&self, entry: &Entry) -> bool {
        let has_tests = !(self.only.is_empty() && self.skip.is_empty());
        self.by_occurrence && has_tests && entry.components().nth(1).is_some()
    }

    /// Returns the key that stops one component of an entry whose occurrences are asked.
    fn stops_occurrence(&self, one: &Component<'_>) -> Option<ChoiceKey> {
        self.stops(one, |test| is_series(one) || test.holds_for_occurrences(), |_| true)
    }

    /// Returns the first key that stops a component, of those that are asked.
    fn stops(
        &self,
        one: &Component<'_>,
        only: impl Fn(&Test) -> bool,
        skip: impl Fn(&Test) -> bool,
    ) -> Option<ChoiceKey> {
        let missed = self.only.iter().find(|test| only(test) && !test.passes(one, &self.me));
        let hit = self.skip.iter().find(|test| skip(test) && test.passes(one, &self.me));
        missed
            .map(|test| ChoiceKey::of("only", test.key()))
            .or_else(|| hit.map(|test| ChoiceKey::of("skip", test.key())))
    }

    /// Returns what it says as one text: another text is another choice.
    #[must_use]
    pub fn settings(&self) -> String {
        let tests = |tests: &[Test]| tests.iter().map(Test::settings).collect::<String>();
        format!("only{};skip{};me{}", tests(&self.only), tests(&self.skip), listed(&self.me))
    }

    /// Adds addresses of the calendar's owner.
    pub fn add_addresses(&mut self, addresses: &[String]) {
        self.me.extend(addresses.iter().map(|one| address(one)));
        self.me.sort();
        self.me.dedup();
    }
}
