//! Many files, and tables that lean on others: `include`, `like` and `[defaults]`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::nearest::nearest;
use super::reader::{Behind, Section, Source, Whence, parsed};
use crate::failure::Failure;
use crate::words::keys::{self, Ways};
use crate::words::{Problem, declared_twice};

/// What a route does not take from another.
const ITS_OWN: [&str; 3] = ["like", "note", "was"];

/// Reads the files that a text includes, each once, in the order of their names. `instead` is one that is about to be
/// written.
pub(super) fn included(
    path: &Path,
    text: &str,
    instead: Option<(&Path, &str)>,
) -> Result<Vec<(PathBuf, String)>, Failure> {
    let source = Source { path, text };
    let table = parsed(&source)?;
    let root = Section::root(&source, table.get_ref());
    let base = path.parent().unwrap_or(Path::new(""));
    let mut files: BTreeMap<PathBuf, String> = BTreeMap::new();
    for pattern in root.texts("include")?.unwrap_or_default() {
        let found = glob::glob(&base.join(&pattern).to_string_lossy());
        let found = found.map_err(|_| root.wrong("include", Problem::NoSuchFile(&pattern)))?;
        let found: Vec<PathBuf> = found.flatten().filter(|found| found.is_file()).collect();
        // A pattern may find nothing yet; a name is of a file.
        if found.is_empty() && !pattern.contains(['*', '?', '[']) {
            return Err(root.wrong("include", Problem::NoSuchFile(&pattern)));
        }
        for file in found {
            let text = match instead.filter(|(other, _)| *other == file) {
                Some((_, text)) => text.to_owned(),
                None => std::fs::read_to_string(&file).map_err(|system| {
                    let (file, why) = (file.display().to_string(), system.to_string());
                    root.wrong("include", Problem::CannotBeRead { file: &file, why: &why })
                })?,
            };
            files.insert(file, text);
        }
    }
    Ok(files.into_iter().collect())
}

/// The tables of all files, by name.
pub(super) struct Tables<'a> {
    pub(super) accounts: BTreeMap<String, Section<'a>>,
    pub(super) calendars: BTreeMap<String, Section<'a>>,
    pub(super) routes: BTreeMap<String, Section<'a>>,
}

impl<'a> Tables<'a> {
    pub(super) fn of(files: &[Section<'a>]) -> Result<Self, Failure> {
        let defaults = files[0].section("defaults")?;
        let mut of_accounts = None;
        let mut of_routes = None;
        if let Some(defaults) = &defaults {
            defaults.allow(&["account", "route"])?;
            of_accounts = defaults.section("account")?;
            of_routes = defaults.section("route")?;
            if let Some(section) = &of_accounts {
                section.allow(&described(keys::ACCOUNT, &["url"]))?;
            }
            if let Some(section) = &of_routes {
                section.allow(&described(keys::ROUTE, &["from", "to", "between", "like", "note", "was"]))?;
            }
        }
        let mut tables = Self {
            accounts: all(files, "account")?,
            calendars: all(files, "calendar")?,
            routes: BTreeMap::new(),
        };
        let lean = |section: &mut Section<'a>, on: &Section<'a>, whence: Whence| {
            section.behind.push(Behind { source: on.source, table: on.table, whence });
        };
        for section in tables.accounts.values_mut() {
            if let Some(defaults) = &of_accounts {
                lean(section, defaults, Whence::Defaults);
                // One way to sign in is enough.
                let ways = ["password", "token", "oauth"];
                if ways.iter().any(|key| section.says(key)) {
                    section.own.extend(ways);
                }
            }
        }
        let routes = all(files, "route")?;
        for (name, section) in &routes {
            let mut section = section.clone();
            for (other, on) in like(name, &routes)? {
                lean(&mut section, on, Whence::Like(other));
            }
            if let Some(defaults) = &of_routes {
                lean(&mut section, defaults, Whence::Defaults);
            }
            section.own.extend(ITS_OWN);
            hide_the_other_way(&mut section);
            tables.routes.insert(name.clone(), section);
        }
        Ok(tables)
    }

    /// Which file holds what is not in the main one.
    pub(super) fn elsewhere(&self, main: &Path) -> BTreeMap<(&'static str, String), PathBuf> {
        let of = |kind: &'static str, tables: &BTreeMap<String, Section<'a>>| {
            let others = tables.iter().filter(|(_, section)| section.source.path != main);
            others
                .map(|(name, section)| ((kind, name.clone()), section.source.path.to_owned()))
                .collect::<Vec<_>>()
        };
        let all = [of("account", &self.accounts), of("calendar", &self.calendars), of("route", &self.routes)];
        all.into_iter().flatten().collect()
    }
}

fn described(keys: &[keys::Key], but: &[&str]) -> Vec<&'static str> {
    keys.iter().map(|key| key.name).filter(|name| !but.contains(name)).collect()
}

/// All tables of one kind; each name once.
fn all<'a>(files: &[Section<'a>], kind: &str) -> Result<BTreeMap<String, Section<'a>>, Failure> {
    let mut found: BTreeMap<String, Section<'a>> = BTreeMap::new();
    for file in files {
        for (name, section) in file.sections(kind)? {
            if let Some(first) = found.get(&name) {
                let (at, other) = (section.source.at(section.at), first.source.at(first.at));
                return Err(declared_twice(at, &section.name, other));
            }
            found.insert(name, section);
        }
    }
    Ok(found)
}

/// The routes that a route is like: the one it names, the one which that one names, and so on.
fn like<'r, 'a>(
    name: &str,
    routes: &'r BTreeMap<String, Section<'a>>,
) -> Result<Vec<(String, &'r Section<'a>)>, Failure> {
    let first = &routes[name];
    let mut found: Vec<(String, &Section<'a>)> = Vec::new();
    let mut at = first;
    while let Some(other) = at.text("like")? {
        let Some(section) = routes.get(&other) else {
            let near = nearest(&other, routes.keys());
            let known: Vec<_> = routes.keys().map(String::as_str).collect();
            return Err(
                at.wrong("like", Problem::NamesNothing { kind: "route", value: &other, near, known: &known })
            );
        };
        if other == name || found.iter().any(|(seen, _)| *seen == other) {
            return Err(first.wrong("like", Problem::LikeItself));
        }
        found.push((other, section));
        at = section;
    }
    Ok(found)
}

/// What a route takes from others fits its way: `from` and `to`, or `between`; and what is for the other way alone does
/// not come along.
fn hide_the_other_way(section: &mut Section<'_>) {
    if section.says("from") || section.says("to") {
        section.own.push("between");
    } else if section.says("between") {
        section.own.extend(["from", "to"]);
    } else {
        // Of several that are like one another, the nearest says which way.
        let nearest = section.behind.iter().find_map(|behind| {
            let says = |key: &str| behind.table.contains_key(key);
            (says("between") || says("from") || says("to")).then(|| says("between"))
        });
        section.own.extend(if nearest == Some(true) { &["from", "to"][..] } else { &["between"][..] });
    }
    let is_busy = section.text("carry").ok().flatten().as_deref() == Some("busy");
    let other = if section.has("between") { Ways::OneWay } else { Ways::TwoWay };
    if other == Ways::TwoWay || !is_busy {
        let ends = ["from", "to", "between"];
        let of_other = keys::ROUTE.iter().filter(|key| key.ways == other && !ends.contains(&key.name));
        section.own.extend(of_other.map(|key| key.name));
    }
    if !is_busy {
        section.own.extend(keys::ROUTE.iter().filter(|key| key.is_of_busy).map(|key| key.name));
    }
}
