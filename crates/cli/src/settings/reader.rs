//! Reads TOML tables key by key; every error names file, line and key, and the nearest right key.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::Path;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use crate::failure::Failure;
use crate::words::keys::Key;
use crate::words::{Problem, UnknownKey, lacking_key, unknown_key, wrong_key};

/// The text a configuration was read from.
pub(super) struct Source<'a> {
    pub(super) path: &'a Path,
    pub(super) text: &'a str,
}

/// Keys of a later version: better a plain word than a guess at a similar key.
const NOT_YET: &[&str] = &["every"];

impl Source<'_> {
    /// The file and the line.
    pub(super) fn at(&self, at: usize) -> (&Path, usize) {
        (self.path, self.text[..at.min(self.text.len())].matches('\n').count() + 1)
    }
}

/// One table, and what it is called.
pub(super) struct Section<'a> {
    pub(super) source: &'a Source<'a>,
    pub(super) name: String,
    pub(super) table: &'a DeTable<'a>,
    /// Where its heading stands.
    pub(super) at: usize,
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

    /// Returns what was said, as it would be written on one line.
    pub(super) fn said(&self) -> BTreeMap<String, String> {
        self.table.iter().map(|(key, value)| (key.get_ref().to_string(), written(value.get_ref()))).collect()
    }

    /// Refuses keys that are not in the list.
    pub(super) fn allow(&self, keys: &[&str]) -> Result<(), Failure> {
        for key in self.table.keys() {
            let name: &str = key.get_ref();
            if keys.contains(&name) {
                continue;
            }
            let nearest = keys.iter().max_by_key(|k| (strsim::jaro_winkler(k, name) * 1000.0) as u32);
            let advice = match nearest {
                _ if NOT_YET.contains(&name) => UnknownKey::NotYet,
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

    fn get(&self, key: &str) -> Option<&'a Value<'a>> {
        self.table.iter().find(|(k, _)| k.get_ref() == key).map(|(_, v)| v)
    }

    pub(super) fn wrong(&self, key: &str, problem: Problem<'_>) -> Failure {
        let at = self.get(key).map_or(self.at, |v| v.span().start);
        wrong_key(self.source.at(at), &self.name, key, &problem)
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
        let Some(value) = self.get(key) else { return Ok(None) };
        let Some(table) = value.get_ref().as_table() else { return Err(self.wrong(key, Problem::NotTable)) };
        let name = if self.name.is_empty() { key.to_owned() } else { format!("{}.{key}", self.name) };
        Ok(Some(Self { source: self.source, name, table, at: value.span().start }))
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
