//! Which entries a route takes: `only` and `skip`. Every refusal names the key of the configuration that made it.

use regex::{Regex, RegexBuilder};

use crate::entry::Entry;
use crate::ical::Component;
use crate::values::{TimeValue, split_list, unescape_text};

/// What a route says of the entries it takes, besides their kind.
#[derive(Debug, Clone, Default)]
pub struct Choice {
    /// An entry must pass every one.
    pub only: Vec<Test>,
    /// An entry must pass none.
    pub skip: Vec<Test>,
    /// Addresses of the calendar's owner, in lower case and without `mailto:`.
    pub me: Vec<String>,
}

/// Something that can be asked of an entry. What the series says counts: its changed occurrences go along with it.
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

    fn passes(&self, entry: &Entry, me: &[String]) -> bool {
        let main = entry.main_component();
        let is = |name: &str, values: &[&str]| {
            let value = main.value(name).unwrap_or_default().trim();
            values.iter().any(|wanted| value.eq_ignore_ascii_case(wanted))
        };
        let own_answer = |wanted: &str| own_answer(main, me, wanted);
        match self {
            Self::Categories(wanted) => {
                let lists = main.properties().filter(|p| p.is("CATEGORIES"));
                let mut own =
                    lists.flat_map(|p| split_list(p.value())).map(|one| unescape_text(one).to_lowercase());
                own.any(|one| wanted.iter().any(|w| w.to_lowercase() == one.trim()))
            }
            Self::Words(wanted) => ["SUMMARY", "LOCATION", "DESCRIPTION"].iter().any(|name| {
                let text = main.value(name).map(unescape_text);
                text.is_some_and(|text| wanted.iter().any(|words| words.pattern.is_match(&text)))
            }),
            Self::AllDay(wanted) => matches!(entry.start(), Some((TimeValue::Date(_), _))) == *wanted,
            Self::Declined(wanted) => own_answer("DECLINED") == *wanted,
            Self::Cancelled(wanted) => is("STATUS", &["CANCELLED"]) == *wanted,
            Self::Tentative(wanted) => (is("STATUS", &["TENTATIVE"]) || own_answer("TENTATIVE")) == *wanted,
            Self::Free(wanted) => is("TRANSP", &["TRANSPARENT"]) == *wanted,
            Self::Private(wanted) => is("CLASS", &["PRIVATE", "CONFIDENTIAL"]) == *wanted,
            Self::Organiser(wanted) => {
                let organiser = main.value("ORGANIZER").map(address);
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
    /// Returns why an entry is not taken; `None` where it is.
    #[must_use]
    pub fn refusal(&self, entry: &Entry) -> Option<ChoiceKey> {
        let missed = self.only.iter().find(|test| !test.passes(entry, &self.me));
        let hit = self.skip.iter().find(|test| test.passes(entry, &self.me));
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
