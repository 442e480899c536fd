//! The configuration for strangers who help: which keys are there, and the values that say nothing about anybody.

use std::path::Path;

use toml_edit::{DocumentMut, Item, Table, Value};
use url::Url;

use super::file::Settings;

/// Keys whose texts are words of the configuration's own, lengths of time, or names that it gives itself.
const HARMLESS: [&str; 37] = [
    "account",
    "ahead",
    "all-day",
    "at-once",
    "between",
    "carry",
    "deletions",
    "details",
    "disagree",
    "every",
    "far-edits",
    "from",
    "full-look-every",
    "keep-history",
    "kinds",
    "lease",
    "like",
    "matches",
    "occurrences",
    "past",
    "past-copies",
    "patience",
    "people",
    "quiet-after",
    "reminders",
    "stale-after",
    "strangers",
    "timeout",
    "timezone",
    "to",
    "until",
    "was",
    "warn-before",
    "week-starts",
    "listen",
    "log-format",
    "colour",
];

/// What stands in the place of a value that is nobody else's business.
const HIDDEN: &str = "…";

/// Every line that the files of a configuration say, without secrets, titles, addresses of people and places of files.
pub(crate) fn redacted(settings: &Settings) -> Vec<String> {
    let mut lines = Vec::new();
    for file in std::iter::once(&settings.path).chain(&settings.included) {
        let name = file.file_name().map(Path::new).unwrap_or(file);
        lines.push(format!("# {}", name.display()));
        let text = std::fs::read_to_string(file).unwrap_or_default();
        if let Ok(document) = text.parse::<DocumentMut>() {
            table_lines(document.as_table(), "", &mut lines);
        }
    }
    lines
}

fn table_lines(table: &Table, name: &str, lines: &mut Vec<String>) {
    let mut below = Vec::new();
    let mut own = Vec::new();
    for (key, item) in table {
        match item {
            Item::Table(table) => below.push((key, vec![table])),
            Item::ArrayOfTables(tables) => below.push((key, tables.iter().collect())),
            Item::Value(value) => own.push(format!("{key} = {}", shown(key, value))),
            Item::None => {}
        }
    }
    let says_nothing = own.is_empty() && !below.is_empty();
    if !name.is_empty() && !says_nothing {
        lines.push(format!("[{name}]"));
    }
    lines.extend(own);
    for (key, tables) in below {
        let name = if name.is_empty() { key.to_owned() } else { format!("{name}.{key}") };
        tables.into_iter().for_each(|table| table_lines(table, &name, lines));
    }
}

/// A value as it may be shown.
fn shown(key: &str, value: &Value) -> String {
    match value {
        Value::String(text) if HARMLESS.contains(&key) => format!("{:?}", text.value()),
        // Whose server it is helps; whose calendar it is does not.
        Value::String(text) => format!("{:?}", origin(text.value()).unwrap_or_else(|| HIDDEN.to_owned())),
        Value::Array(values) => {
            let values: Vec<_> = values.iter().map(|value| shown(key, value)).collect();
            format!("[{}]", values.join(", "))
        }
        Value::InlineTable(table) => {
            let values: Vec<_> =
                table.iter().map(|(key, value)| format!("{key} = {}", shown(key, value))).collect();
            format!("{{ {} }}", values.join(", "))
        }
        Value::Integer(number) => number.value().to_string(),
        Value::Float(number) => number.value().to_string(),
        Value::Boolean(flag) => flag.value().to_string(),
        Value::Datetime(at) => at.value().to_string(),
    }
}

/// Scheme, host and port of an address; `None` where it is none.
fn origin(text: &str) -> Option<String> {
    let url = Url::parse(text).ok().filter(Url::has_host)?;
    let port = url.port().map(|port| format!(":{port}")).unwrap_or_default();
    Some(format!("{}://{}{port}/{HIDDEN}", url.scheme(), url.host_str()?))
}

/// Takes out of sentences what says who somebody is: addresses of people, users, names on servers, and paths.
#[derive(Debug)]
pub(crate) struct Scrubber {
    hidden: Vec<String>,
}

impl Scrubber {
    /// `more` are names that were seen on servers.
    pub(crate) fn new(settings: &Settings, more: impl IntoIterator<Item = String>) -> Self {
        let users = settings.accounts.values().filter_map(|account| account.user.clone());
        let names = settings.calendars.values().filter_map(|calendar| match &calendar.place {
            super::calendar::Place::Name(name) => Some(name.clone()),
            _ => None,
        });
        let mut hidden: Vec<String> =
            users.chain(names).chain(more).filter(|name| !name.is_empty()).collect();
        // A longer name may hold a shorter one.
        hidden.sort_by_key(|name| std::cmp::Reverse(name.len()));
        Self { hidden }
    }

    /// Returns a sentence as strangers may read it.
    pub(crate) fn scrub(&self, sentence: &str) -> String {
        let mut sentence = sentence.to_owned();
        for name in &self.hidden {
            sentence = whole_words_hidden(&sentence, name);
        }
        let words = sentence.split(' ').map(|word| {
            let bare = word.trim_matches(|c: char| !c.is_alphanumeric() && c != '/' && c != '…');
            match bare {
                bare if bare.contains('@') => word.replace(bare, HIDDEN),
                bare if bare.contains("://") => match origin(bare) {
                    Some(origin) => word.replace(bare, &origin),
                    None => HIDDEN.to_owned(),
                },
                bare if bare.len() > 1
                    && (bare.starts_with('/') || bare.contains('/') && bare.len() > 12) =>
                {
                    word.replace(bare, HIDDEN)
                }
                _ => word.to_owned(),
            }
        });
        words.collect::<Vec<_>>().join(" ")
    }
}

/// Hides a name where it is not part of a longer word.
fn whole_words_hidden(sentence: &str, name: &str) -> String {
    let mut out = String::new();
    let mut rest = sentence;
    while let Some(at) = rest.find(name) {
        let (before, from) = rest.split_at(at);
        let after = &from[name.len()..];
        let is_part = before.chars().next_back().is_some_and(char::is_alphanumeric)
            || after.chars().next().is_some_and(char::is_alphanumeric);
        out += before;
        out += if is_part { name } else { HIDDEN };
        rest = after;
    }
    out + rest
}

#[cfg(test)]
mod tests {
    use super::Scrubber;

    #[test]
    fn sentences_lose_who_somebody_is() {
        let scrubber = Scrubber { hidden: vec!["Notice board".to_owned(), "office".to_owned()] };
        for (said, shown) in [
            ("accepted, as office", "accepted, as …"),
            ("the officers of office", "the officers of …"),
            ("calendar \"Notice board\" of crew@coop.example:", "calendar \"…\" of …:"),
            (
                "nothing answers at http://packhouse.example:5232/office/calendars/x/",
                "nothing answers at http://packhouse.example:5232/…",
            ),
            ("found at /dav/calendars/", "found at …"),
            ("above the limit (10 entries and 20 %)", "above the limit (10 entries and 20 %)"),
        ] {
            assert_eq!(scrubber.scrub(said), shown);
        }
    }
}
