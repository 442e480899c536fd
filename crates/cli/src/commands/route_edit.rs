//! `chestnut route edit` and `route rename`: the file is changed where it says so, and everything around stays.

use toml_edit::{Array, Value};

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{call_as_configured, load, look_at_state, open_state};
use crate::report::route_edit::{Changed, Renamed, Report};
use crate::settings::{ConfigurationText, Settings, nearest};
use crate::words::keys::{self, Key};
use crate::words::{
    and_nothing_written, no_key_of_routes, no_setting, nothing_edited, ran_under_that_name, route_edited,
    route_is_part, route_renamed,
};

pub(crate) fn edit(
    name: &str,
    typed: &[String],
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    in_the_file(name, &settings)?;
    let mut text = ConfigurationText::holding(&settings, "route", name)?;
    let mut changed = Vec::new();
    for one in typed {
        let (key, new) =
            one.split_once('=').map(|(key, new)| (key.trim(), new.trim())).ok_or_else(|| no_setting(one))?;
        let top = key.split('.').next().unwrap_or(key);
        if !keys::ROUTE.iter().any(|known| known.name == top) {
            let names: Vec<String> = keys::ROUTE.iter().map(|key: &Key| key.name.to_owned()).collect();
            return Err(no_key_of_routes(top, nearest(top, names.iter())));
        }
        let old = text.value_of("route", name, top);
        text.edit("route", name, key, Some(new).filter(|new| !new.is_empty()));
        let new = text.value_of("route", name, top);
        changed.push(Changed { key: top.to_owned(), old, new });
    }
    changed.retain(|one| one.old != one.new);
    if changed.is_empty() {
        return Err(nothing_edited(name));
    }
    text.settings().map_err(and_nothing_written)?;
    text.save()?;
    let file = settings.file_of("route", name).display().to_string();
    let is_elsewhere = changed.iter().any(|one| ENDS.contains(&one.key.as_str()));
    // Whether it has run is told where that can be known.
    let has_run = is_elsewhere && has_run(name, &settings, common, io).unwrap_or(false);
    let report = Report { route: name.to_owned(), file, changed, has_run };
    show(common, io, &report, || route_edited(&report))?;
    Ok(ExitCode::Ok)
}

/// Keys that say between which calendars a route copies, and which way.
const ENDS: [&str; 3] = ["from", "to", "between"];

/// Tells whether a route, or one of its parts, has run between the calendars that it had.
fn has_run(name: &str, settings: &Settings, common: &Common, io: &Io<'_>) -> Result<bool, Failure> {
    let store = look_at_state(common, settings, &io.environment)?;
    for (name, _) in settings.chosen_routes(&[name.to_owned()])? {
        if store.route(name)?.is_some_and(|route| route.ran_at.is_some()) {
            return Ok(true);
        }
    }
    Ok(false)
}

pub(crate) fn rename(old: &str, new: &str, common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    in_the_file(old, &settings)?;
    let store = open_state(common, &settings, &io.environment)?;
    let mut text = ConfigurationText::holding(&settings, "route", old)?;
    let mut was = text.texts_of("route", old, "was");
    was.push(old.to_owned());
    text.rename("route", old, new)?;
    // Two stories under one name could not be told apart.
    for (name, _) in settings.chosen_routes(&[old.to_owned()])? {
        if !store.runs(Some(&name.replacen(old, new, 1)), 1)?.is_empty() {
            return Err(ran_under_that_name(new));
        }
    }
    text.put("route", new, "was", Value::Array(was.iter().map(String::as_str).collect::<Array>()));
    text.replace_everywhere("route", "like", old, new);
    text.settings().map_err(and_nothing_written)?;
    let renamed = text.save()?;
    call_as_configured(&renamed, &store)?;
    let file = settings.file_of("route", old).display().to_string();
    let report = Renamed { old: old.to_owned(), new: new.to_owned(), file };
    show(common, io, &report, || route_renamed(&report))?;
    Ok(ExitCode::Ok)
}

/// A part of a route has no lines of its own.
fn in_the_file(name: &str, settings: &Settings) -> Result<(), Failure> {
    settings.chosen_routes(&[name.to_owned()])?;
    match settings.routes.get(name).and_then(|route| route.part_of.as_ref()) {
        Some(whole) => Err(route_is_part(name, whole)),
        None => Ok(()),
    }
}
