//! Reads TOML tables key by key; every error names file, line and key, and the nearest right key.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::Path;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::failure::Failure;
use crate::words::keys::{Key, homes};
use crate::words::{Problem, UnknownKey, lacking_key, not_toml, unknown_key, wrong_key};

/// The text a configuration was read from.
pub(super) struct Source<'a> {
    pub(super) path: &'a Path,
    pub(super) text: &'a str,
}

impl Source<'_> {
    /// The file and the line.
    pub(super) fn at(&self, at: usize) -> (&Path, usize) {
        (self.path, self.text[..at.min(self.text.len())].matches('\n').count() + 1)
    }
}

/// Reads a text as TOML.
pub(super) fn parsed<'a>(source: &Source<'a>) -> Result<Spanned<DeTable<'a>>, Failure> {
    DeTable::parse(source.text).map_err(|error| {
        let at = error.span().map_or(0, |span| span.start);
        not_toml(source.at(at), error.message())
    })
}

/// One table, and what it is called.
#[derive(Clone)]
pub(super) struct Section<'a> {
    pub(super) source: &'a Source<'a>,
    pub(super) name: String,
    pub(super) table: &'a DeTable<'a>,
    /// Where its heading stands.
    pub(super) at: usize,
    /// Tables that say what this one does not say, the nearest first.
    pub(super) behind: Vec<Behind<'a>>,
    /// Keys that these do not say.
    pub(super) own: Vec<&'static str>,
}

/// A table that others lean on.
#[derive(Clone)]
pub(super) struct Behind<'a> {
    pub(super) source: &'a Source<'a>,
    pub(super) table: &'a DeTable<'a>,
    pub(super) whence: Whence,
}

/// Where a value comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Whence {
    /// It is said where it holds.
    Here,
    /// Of another route.
    Like(String),
    /// Of all of its kind.
    Defaults,
}

type Value<'a> = Spanned<DeValue<'a>>;

/// A value on one line.
fn written(value: &DeValue<'_>) -> String {
    match value {
        DeValue::String(text) => toml_edit::Value::from(text.as_ref()).to_string(),
        DeValue::Integer(number) => number.as_str().to_owned(),
        DeValue::Float(number) => number.as_str().to_owned(),
        DeValue::Boolean(is) => is.to_string(),
        DeValue::Datetime(at) => at.to_string(),
        DeValue::Array(items) => {
            let items: Vec<_> = items.iter().map(|item| written(item.get_ref())).collect();
            format!("[{}]", items.join(", "))
        }
        DeValue::Table(table) => {
            let pair = |(key, value): (&Spanned<Cow<'_, str>>, &Value<'_>)| {
                format!("{} = {}", toml_edit::Key::new(key.get_ref().as_ref()), written(value.get_ref()))
            };
            format!("{{ {} }}", table.iter().map(pair).collect::<Vec<_>>().join(", "))
        }
    }
}

impl<'a> Section<'a> {
    /// Refuses keys that were called otherwise before.
    pub(super) fn renamed(&self, names: &[(&str, &str)]) -> Result<(), Failure> {
        match names.iter().find(|(old, _)| self.has(old)) {
            Some((old, new)) => Err(self.wrong(old, Problem::Renamed(new))),
            None => Ok(()),
        }
    }

    /// Refuses keys that are not described.
    pub(super) fn allow_described(&self, keys: &[Key]) -> Result<(), Failure> {
        self.allow(&keys.iter().map(|key| key.name).collect::<Vec<_>>())
    }

    /// A whole file.
    pub(super) fn root(source: &'a Source<'a>, table: &'a DeTable<'a>) -> Self {
        Self { source, name: String::new(), table, at: 0, behind: Vec::new(), own: Vec::new() }
    }

    /// Returns what was said, as it would be written on one line, and where.
    pub(super) fn said(&self) -> BTreeMap<String, (String, Whence)> {
        let tables = self.behind.iter().rev().map(|behind| (behind.table, behind.whence.clone()));
        let mut said = BTreeMap::new();
        for (table, whence) in tables.chain([(self.table, Whence::Here)]) {
            for (key, value) in table.iter().filter(|(key, _)| self.get(key.get_ref()).is_some()) {
                said.insert(key.get_ref().to_string(), (written(value.get_ref()), whence.clone()));
            }
        }
        said
    }

    /// Refuses keys that are not in the list.
    pub(super) fn allow(&self, keys: &[&str]) -> Result<(), Failure> {
        for key in self.table.keys() {
            let name: &str = key.get_ref();
            if keys.contains(&name) {
                continue;
            }
            let nearest = keys.iter().max_by_key(|k| (strsim::jaro_winkler(k, name) * 1000.0) as u32);
            let homes = homes(name, &self.name);
            let advice = match nearest {
                _ if !homes.is_empty() => UnknownKey::Elsewhere(&homes),
                Some(nearest) if strsim::jaro_winkler(nearest, name) > 0.7 => UnknownKey::Perhaps(nearest),
                _ => UnknownKey::NotOneOf(keys),
            };
            return Err(unknown_key(self.source.at(key.span().start), &self.name, name, &advice));
        }
        Ok(())
    }

    /// Returns the keys that are there.
    pub(super) fn keys(&self) -> impl Iterator<Item = &str> {
        self.table.keys().map(|key| &**key.get_ref())
    }

    /// Tells whether a key is there, and has a table.
    pub(super) fn is_table(&self, key: &str) -> bool {
        self.get(key).is_some_and(|value| value.get_ref().is_table())
    }

    /// Tells whether a key is there.
    pub(super) fn has(&self, key: &str) -> bool {
        self.get(key).is_some()
    }

    /// Tells whether a key is there, in this very table.
    pub(super) fn says(&self, key: &str) -> bool {
        self.table.contains_key(key)
    }

    fn get(&self, key: &str) -> Option<&'a Value<'a>> {
        self.find(key).map(|(_, value)| value)
    }

    /// The nearest value of a key, and the text in which it stands.
    fn find(&self, key: &str) -> Option<(&'a Source<'a>, &'a Value<'a>)> {
        let of = |table: &'a DeTable<'a>| table.get(key);
        let own = of(self.table).map(|value| (self.source, value));
        let is_given = !self.own.contains(&key);
        let behind = || self.behind.iter().find_map(|one| Some((one.source, of(one.table)?)));
        own.or_else(|| is_given.then(behind).flatten())
    }

    pub(super) fn wrong(&self, key: &str, problem: Problem<'_>) -> Failure {
        wrong_key(self.place_of(key), &self.name, key, &problem)
    }

    /// Where a key is said; where it is not, where the table begins.
    pub(super) fn place_of(&self, key: &str) -> (&Path, usize) {
        let (source, at) = self.find(key).map_or((self.source, self.at), |(s, v)| (s, v.span().start));
        source.at(at)
    }

    pub(super) fn missing(&self, key: &str) -> Failure {
        lacking_key(self.source.at(self.at), &self.name, key)
    }

    pub(super) fn text(&self, key: &str) -> Result<Option<String>, Failure> {
        let Some(value) = self.get(key) else { return Ok(None) };
        match value.get_ref().as_str() {
            Some(text) => Ok(Some(text.to_owned())),
            None => Err(self.wrong(key, Problem::NotText)),
        }
    }

    pub(super) fn needed_text(&self, key: &str) -> Result<String, Failure> {
        self.text(key)?.ok_or_else(|| self.missing(key))
    }

    pub(super) fn flag(&self, key: &str) -> Result<bool, Failure> {
        let Some(value) = self.get(key) else { return Ok(false) };
        value.get_ref().as_bool().ok_or_else(|| self.wrong(key, Problem::NotFlag))
    }

    pub(super) fn number(&self, key: &str) -> Result<Option<usize>, Failure> {
        let Some(value) = self.get(key) else { return Ok(None) };
        let number = value.get_ref().as_integer().and_then(|n| n.as_str().parse().ok());
        number.map(Some).ok_or_else(|| self.wrong(key, Problem::NotNumber))
    }

    pub(super) fn duration(&self, key: &str) -> Result<Option<jiff::SignedDuration>, Failure> {
        let Some(text) = self.text(key)? else { return Ok(None) };
        let wrong = || self.wrong(key, Problem::NotDuration);
        super::durations::parse_duration(&text).map(Some).ok_or_else(wrong)
    }

    /// A list of texts.
    pub(super) fn texts(&self, key: &str) -> Result<Option<Vec<String>>, Failure> {
        let Some(value) = self.get(key) else { return Ok(None) };
        let list = value.get_ref().as_array().map(|items| {
            items.iter().map(|item| item.get_ref().as_str().map(str::to_owned)).collect::<Option<Vec<_>>>()
        });
        list.flatten().map(Some).ok_or_else(|| self.wrong(key, Problem::NotTexts))
    }

    /// A text that must be one of a few.
    pub(super) fn choice<T: Copy>(&self, key: &str, choices: &[(&str, T)], default: T) -> Result<T, Failure> {
        let Some(text) = self.text(key)? else { return Ok(default) };
        let found = choices.iter().find(|(word, _)| *word == text);
        found.map(|(_, value)| *value).ok_or_else(|| {
            let words: Vec<&str> = choices.iter().map(|(word, _)| *word).collect();
            self.wrong(key, Problem::NotOneOf(&words))
        })
    }

    /// A table inside.
    pub(super) fn section(&self, key: &str) -> Result<Option<Self>, Failure> {
        let Some((source, value)) = self.find(key) else { return Ok(None) };
        let Some(table) = value.get_ref().as_table() else { return Err(self.wrong(key, Problem::NotTable)) };
        let name = if self.name.is_empty() { key.to_owned() } else { format!("{}.{key}", self.name) };
        Ok(Some(Self { name, at: value.span().start, ..Self::root(source, table) }))
    }

    /// The tables inside a table, by name, as `[account.NAME]` makes them.
    pub(super) fn sections(&self, key: &str) -> Result<Vec<(String, Self)>, Failure> {
        let Some(outer) = self.section(key)? else { return Ok(Vec::new()) };
        let names: Vec<Cow<'_, str>> = outer.table.keys().map(|k| k.get_ref().clone()).collect();
        let inner = |name: Cow<'_, str>| {
            let section = outer.section(&name)?.expect("the key is there");
            Ok((name.into_owned(), section))
        };
        names.into_iter().map(inner).collect()
    }
}
