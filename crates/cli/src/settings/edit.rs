//! Changes to the configuration file: comments, order and everything else stay as they are.

#[cfg(unix)]
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use secrecy::ExposeSecret as _;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, Value, value};

use super::account::OAuthSettings;
use super::file::Settings;
use super::secrets::{SecretSource, write_alone};
use crate::failure::Failure;
use crate::words::{
    changed_meanwhile, configuration_not_written, no_configuration_to_change, no_name, no_table, of_file,
    there_already,
};

/// The configuration's text, to be changed.
#[derive(Debug)]
pub(crate) struct ConfigurationText {
    path: PathBuf,
    /// The main file, where this is one that it includes.
    main: Option<PathBuf>,
    /// As it was read; `None` where there is no file yet.
    before: Option<String>,
    document: DocumentMut,
}

impl ConfigurationText {
    /// Reads the file; one that is not there is empty.
    pub(crate) fn read(path: &Path) -> Result<Self, Failure> {
        Self::read_for(path, None)
    }

    /// Reads the file that holds an account, a calendar or a route.
    pub(crate) fn holding(settings: &Settings, kind: &'static str, name: &str) -> Result<Self, Failure> {
        let file = settings.file_of(kind, name);
        Self::read_for(file, (file != settings.path).then_some(&settings.path))
    }

    fn read_for(path: &Path, main: Option<&PathBuf>) -> Result<Self, Failure> {
        let before = match std::fs::read_to_string(path) {
            Ok(text) => Some(text),
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => None,
            Err(e) => return Err(no_configuration_to_change(path, &e)),
        };
        let text = before.as_deref().unwrap_or_default();
        // The same words for a mistake as everywhere.
        if main.is_none() {
            Settings::read(path, text, None)?;
        }
        let document = text.parse().map_err(|e: toml_edit::TomlError| of_file(path, &e))?;
        Ok(Self { path: path.to_owned(), main: main.cloned(), before, document })
    }

    /// Tells whether a key is said above all tables.
    pub(crate) fn says_at_top(&self, key: &str) -> bool {
        self.document.contains_key(key)
    }

    /// Sets a key above all tables.
    pub(crate) fn set_at_top(&mut self, key: &str, content: &str) {
        self.document.insert(key, value(content));
    }

    /// Returns what the text says.
    pub(crate) fn settings(&self) -> Result<Settings, Failure> {
        let text = self.document.to_string();
        let Some(main) = &self.main else { return Settings::read(&self.path, &text, None) };
        let whole = std::fs::read_to_string(main).map_err(|e| no_configuration_to_change(main, &e))?;
        Settings::read(main, &whole, Some((&self.path, &text)))
    }

    /// Adds `[kind.name]`, which must not be there.
    pub(crate) fn add(&mut self, kind: &str, name: &str, keys: Vec<(&str, Value)>) -> Result<(), Failure> {
        check_name(kind, name)?;
        let trailing = self.document.trailing().as_str().unwrap_or_default().trim_end().to_owned();
        let mut table = Table::new();
        if !trailing.is_empty() {
            // Comments at the end stay above what is added.
            table.decor_mut().set_prefix(format!("{trailing}\n\n"));
            self.document.set_trailing("");
        } else if self.document.iter().next().is_some() {
            table.decor_mut().set_prefix("\n");
        }
        let outer = self.document.entry(kind).or_insert_with(|| {
            let mut table = Table::new();
            table.set_implicit(true);
            Item::Table(table)
        });
        let Some(outer) = outer.as_table_like_mut() else {
            return Err(no_table(kind, &self.path));
        };
        if outer.contains_key(name) {
            return Err(there_already(kind, name, &self.path));
        }
        for (key, content) in keys {
            table.insert(key, value(content));
        }
        outer.insert(name, Item::Table(table));
        Ok(())
    }

    /// Returns the lines of `[kind.name]`.
    pub(crate) fn lines_of(&self, kind: &str, name: &str) -> String {
        let table = self.document.get(kind).and_then(|outer| outer.get(name)).and_then(Item::as_table);
        let keys = table
            .map(|table| table.iter().map(|(key, item)| format!("{key} = {}\n", item.to_string().trim())));
        format!("[{kind}.{name}]\n{}", keys.into_iter().flatten().collect::<String>())
    }

    /// Tells whether `[kind.name]` is there.
    pub(crate) fn has(&self, kind: &str, name: &str) -> bool {
        self.document.get(kind).and_then(|outer| outer.get(name)).is_some()
    }

    /// Takes `[kind.name]` out. Comments above it stay, at the end: whether they were about it, only people know.
    pub(crate) fn remove(&mut self, kind: &str, name: &str) {
        let outer = self.document.get_mut(kind).and_then(Item::as_table_like_mut);
        let removed = outer.and_then(|outer| outer.remove(name));
        let table = removed.as_ref().and_then(Item::as_table);
        let above = table.and_then(|table| table.decor().prefix()?.as_str()).unwrap_or_default();
        if above.contains('#') {
            let trailing = self.document.trailing().as_str().unwrap_or_default();
            self.document.set_trailing(format!("{}\n{trailing}", above.trim_end()));
        }
    }

    /// Puts a key into `[kind.name]`, whether it is there or not.
    pub(crate) fn put(&mut self, kind: &str, name: &str, key: &str, content: Value) {
        let table = self.document.get_mut(kind).and_then(|outer| outer.get_mut(name));
        if let Some(table) = table.and_then(Item::as_table_like_mut) {
            table.insert(key, value(content));
        }
    }

    /// Calls `[kind.old]` otherwise, where it stands, with its comments.
    pub(crate) fn rename(&mut self, kind: &str, old: &str, new: &str) -> Result<(), Failure> {
        check_name(kind, new)?;
        if self.has(kind, new) {
            return Err(there_already(kind, new, &self.path));
        }
        let outer = self.document.get_mut(kind).and_then(Item::as_table_like_mut);
        if let Some(outer) = outer
            && let Some(table) = outer.remove(old)
        {
            outer.insert(new, table);
        }
        Ok(())
    }

    /// Puts a text in the place of another wherever a table of this kind has it under a key.
    pub(crate) fn replace_everywhere(&mut self, kind: &str, key: &str, old: &str, new: &str) {
        let names: Vec<String> = match self.document.get(kind).and_then(Item::as_table_like) {
            Some(outer) => outer.iter().map(|(name, _)| name.to_owned()).collect(),
            None => Vec::new(),
        };
        for name in names {
            let said = self.document[kind][name.as_str()].get(key).and_then(Item::as_str);
            if said == Some(old) {
                self.set(kind, &name, key, new);
            }
        }
    }

    /// Returns the texts of a list in `[kind.name]`; none where it is not there.
    pub(crate) fn texts_of(&self, kind: &str, name: &str, key: &str) -> Vec<String> {
        let item = self.document.get(kind).and_then(|outer| outer.get(name)?.get(key)?.as_array());
        item.into_iter().flatten().filter_map(|text| Some(text.as_str()?.to_owned())).collect()
    }

    /// Returns the value of a key of `[kind.name]`, on one line.
    pub(crate) fn value_of(&self, kind: &str, name: &str, key: &str) -> Option<String> {
        let item = self.document.get(kind)?.get(name)?.get(key)?;
        Some(item.to_string().trim().to_owned())
    }

    /// Sets a key of `[kind.name]`, or one of a table below it (`window.past`), to what was typed: a value of TOML, else
    /// text. `None` takes it out. What is written beside the key stays.
    pub(crate) fn edit(&mut self, kind: &str, name: &str, key: &str, typed: Option<&str>) {
        self.edit_below(kind, name, key, typed);
        let outer = key.split('.').next().unwrap_or(key);
        let table = self.document.get_mut(kind).and_then(|outer| outer.get_mut(name));
        let item = table.and_then(|table| table.get_mut(outer));
        if let Some(inline) = item.and_then(Item::as_inline_table_mut).filter(|_| key.contains('.')) {
            inline.fmt();
        }
    }

    fn edit_below(&mut self, kind: &str, name: &str, key: &str, typed: Option<&str>) {
        let table = self.document.get_mut(kind).and_then(|outer| outer.get_mut(name));
        let Some(mut table) = table.and_then(Item::as_table_like_mut) else { return };
        let mut key = key;
        while let Some((outer, inner)) = key.split_once('.') {
            let is_table = table.get(outer).is_some_and(Item::is_table_like);
            if !is_table {
                table.insert(outer, value(InlineTable::new()));
            }
            let Some(below) = table.get_mut(outer).and_then(Item::as_table_like_mut) else { return };
            (table, key) = (below, inner);
        }
        let Some(typed) = typed else {
            table.remove(key);
            return;
        };
        let mut new = typed.parse::<Value>().unwrap_or_else(|_| Value::from(typed));
        match table.get_mut(key) {
            Some(item) => {
                if let Some(old) = item.as_value() {
                    *new.decor_mut() = old.decor().clone();
                }
                *item = Item::Value(new);
            }
            None => drop(table.insert(key, value(new))),
        }
    }

    /// Sets one key of `[kind.name]`.
    pub(crate) fn set(&mut self, kind: &str, name: &str, key: &str, content: &str) {
        if let Some(table) = self.document.get_mut(kind).and_then(|outer| outer.get_mut(name))
            && let Some(item) = table.get_mut(key)
        {
            let decor = item.as_value().map(|old| old.decor().clone());
            *item = value(content);
            if let (Some(decor), Some(new)) = (decor, item.as_value_mut()) {
                *new.decor_mut() = decor;
            }
        }
    }

    /// Makes sure that the text is a configuration, and puts it in the place of the old one in one step.
    pub(crate) fn save(&self) -> Result<Settings, Failure> {
        let text = as_before(self.document.to_string(), self.before.as_deref().unwrap_or_default());
        let settings = self.settings()?;
        let path = match self.path.canonicalize() {
            Err(system) if self.path.is_symlink() => {
                return Err(configuration_not_written(&self.path, &system));
            }
            real => real.unwrap_or_else(|_| self.path.clone()),
        };
        let failed = |e: std::io::Error| configuration_not_written(&path, &e);
        let now = std::fs::read_to_string(&path).ok();
        if now != self.before {
            return Err(changed_meanwhile(&path));
        }
        if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            std::fs::create_dir_all(folder).map_err(failed)?;
        }
        let temporary = path.with_added_extension(format!("{}.new", std::process::id()));
        let written = (|| {
            drop(std::fs::remove_file(&temporary));
            if text.contains("plain-text") {
                // A secret was asked for in so many words.
                write_alone(&temporary, &text)?;
            } else {
                std::fs::write(&temporary, &text)?;
            }
            if let Ok(old) = std::fs::metadata(&path) {
                // An administrator who changes it for a service does not take it away from the service.
                #[cfg(unix)]
                drop(std::os::unix::fs::chown(&temporary, Some(old.uid()), Some(old.gid())));
                std::fs::set_permissions(&temporary, old.permissions())?;
            }
            std::fs::File::open(&temporary)?.sync_all()?;
            std::fs::rename(&temporary, &path)
        })();
        if written.is_err() {
            drop(std::fs::remove_file(&temporary));
        }
        written.map_err(failed)?;
        Ok(settings)
    }
}

/// Gives a text the line ends, and the mark at its beginning, of the one that it replaces.
fn as_before(text: String, before: &str) -> String {
    let lines = before.matches('\n').count();
    let text = match lines > 0 && before.matches("\r\n").count() == lines {
        true => text.replace("\r\n", "\n").replace('\n', "\r\n"),
        false => text,
    };
    let mark = before.starts_with('\u{feff}') && !text.starts_with('\u{feff}');
    if mark { format!("\u{feff}{text}") } else { text }
}

/// The configuration reads paths from its own folder, people type them from theirs: returns a path as it is
/// written down, short where it is inside.
pub(crate) fn path_from(configuration: &Path, typed: &Path) -> Result<PathBuf, Failure> {
    let absolute = |path: &Path| std::path::absolute(path).map_err(|e| of_file(path, &e));
    let (configuration, typed) = (absolute(configuration)?, absolute(typed)?);
    let inside = configuration.parent().and_then(|base| typed.strip_prefix(base).ok());
    Ok(inside.map_or_else(|| typed.clone(), Path::to_owned))
}

/// Refuses names that would need quotes everywhere.
pub(crate) fn check_name(kind: &str, name: &str) -> Result<(), Failure> {
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    if !name.is_empty() && name.len() <= 60 && name.chars().all(fits) {
        return Ok(());
    }
    Err(no_name(kind, name))
}

/// `{ key = "text" }`
fn inline(pairs: &[(&str, &str)]) -> Value {
    let mut table = InlineTable::new();
    for (key, text) in pairs {
        table.insert(*key, Value::from(*text));
    }
    Value::InlineTable(table)
}

/// Says where a secret is kept, as the configuration does.
pub(crate) fn secret_value(source: &SecretSource) -> Value {
    match source {
        SecretSource::Env(name) => inline(&[("env", name)]),
        SecretSource::File(path) => inline(&[("file", &path.display().to_string())]),
        SecretSource::Keyring(name) => inline(&[("keyring", name)]),
        SecretSource::Credential(name) => inline(&[("credential", name)]),
        SecretSource::Plain(secret) => inline(&[("plain-text", secret.expose_secret())]),
        SecretSource::Command(words) => {
            let mut table = InlineTable::new();
            table.insert("command", Value::Array(words.iter().map(String::as_str).collect::<Array>()));
            Value::InlineTable(table)
        }
    }
}

/// `oauth = { … }`
pub(crate) fn oauth_value(oauth: &OAuthSettings) -> Value {
    let mut table = InlineTable::new();
    table.insert("client-id", Value::from(oauth.client_id.as_str()));
    if let Some(secret) = &oauth.client_secret {
        table.insert("client-secret", secret_value(secret));
    }
    table.insert("authorize-url", Value::from(oauth.authorize_url.as_str()));
    table.insert("token-url", Value::from(oauth.token_url.as_str()));
    if let Some(url) = &oauth.device_url {
        table.insert("device-url", Value::from(url.as_str()));
    }
    let scopes = oauth.scopes.iter().map(String::as_str).collect::<Array>();
    table.insert("scopes", Value::Array(scopes));
    Value::InlineTable(table)
}
