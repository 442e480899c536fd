//! The names that a configuration gives, without a look at what they stand for: for whoever completes them while somebody
//! types.

use std::collections::BTreeSet;
use std::path::Path;

use toml::Table;

use super::file::find;
use crate::environment::Environment;

/// Returns the names of all tables of one kind (`account`, `calendar`, `route`); `None` where no configuration can be read.
pub(crate) fn names_of(kind: &str, environment: &Environment) -> Option<Vec<String>> {
    let path = find(None, environment).ok()?;
    let main = read(&path)?;
    let mut names: BTreeSet<String> = names_in(&main, kind).collect();
    let base = path.parent().unwrap_or(Path::new(""));
    let patterns = main.get("include").and_then(toml::Value::as_array).into_iter().flatten();
    for pattern in patterns.filter_map(toml::Value::as_str) {
        let found = glob::glob(&base.join(pattern).to_string_lossy()).ok()?;
        names.extend(
            found
                .flatten()
                .filter_map(|file| read(&file))
                .flat_map(|file| names_in(&file, kind).collect::<Vec<_>>()),
        );
    }
    Some(names.into_iter().collect())
}

fn read(path: &Path) -> Option<Table> {
    std::fs::read_to_string(path).ok()?.parse().ok()
}

fn names_in(file: &Table, kind: &str) -> impl Iterator<Item = String> {
    file.get(kind).and_then(toml::Value::as_table).into_iter().flat_map(|table| table.keys().cloned())
}
