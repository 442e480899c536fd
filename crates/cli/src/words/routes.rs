//! Sentences about routes: taking them out, adding them.

use std::path::Path;

use chestnut_core::Shows;

use crate::failure::Failure;
use crate::render::{clean, count, style, typed};
use crate::report::route_edit::{Renamed, Report};

/// A route that the configuration no longer has cannot have its copies taken away.
pub(crate) fn not_configured_any_more(name: &str) -> Failure {
    Failure::usage(format!("route {name} is no longer in the configuration")).hint(
        "To take its copies away, put it back into the configuration first: nothing else says where they are.",
    )
}

/// A two-way route has no copies.
pub(crate) fn made_no_copies(name: &str) -> Failure {
    Failure::usage(format!("route {name} made no copies: it keeps calendars alike, both ways"))
        .hint("Retire it without --remove-copies; every calendar keeps what it holds.")
}

/// Copies are not deleted without a word.
pub(crate) fn retiring_asks_first(name: &str, copies: usize) -> Failure {
    let number = count(copies, "copy", "copies");
    Failure::usage(format!("retiring route {name} deletes {number}, and asks first"))
        .hint("Say --yes to go on; without --remove-copies they stay.")
}

pub(crate) const DELETE_COPIES: &str = "Delete these copies now?";

/// A person said no.
pub(crate) fn not_retired(name: &str) -> Failure {
    Failure::usage(format!("route {name} was not retired; nothing was deleted"))
}

/// Some copies are still there.
pub(crate) fn copies_remain(name: &str) -> Failure {
    Failure::failed(format!("not every copy of route {name} could be removed"))
        .hint("`chestnut history` says which; run it again to try the rest.")
}

/// What became of a route and its copies; `None` where these were not asked for.
pub(crate) fn retired(name: &str, removed: Option<usize>) -> String {
    let copies = match removed {
        None => "its copies stay where they are".to_owned(),
        Some(number) => format!("{} removed", count(number, "copy", "copies")),
    };
    format!("{} is retired; {copies}; its runs stay in the history\n", clean(name))
}

/// Whether a route runs.
pub(crate) fn paused_or_not(name: &str, is_paused: bool, until: Option<&str>) -> String {
    let name = clean(name);
    match (is_paused, until) {
        (true, Some(at)) => {
            format!(
                "{name} is paused until {at}, and goes on by itself\n  earlier: chestnut route resume {typed}\n",
                typed = typed(&name)
            )
        }
        (true, None) => {
            format!("{name} is paused\n  let it go on: chestnut route resume {typed}\n", typed = typed(&name))
        }
        (false, _) => format!("{name} goes on with the next sync\n"),
    }
}

/// Whether the routes of an account run.
pub(crate) fn account_paused_or_not(name: &str, routes: &[String], until: Option<Option<&str>>) -> String {
    let name = clean(name);
    let routes = match routes {
        [] => "no route uses it".to_owned(),
        routes => {
            format!("with it: {}", routes.iter().map(|route| clean(route)).collect::<Vec<_>>().join(", "))
        }
    };
    match until {
        Some(Some(at)) => {
            format!(
                "{name} is paused until {at}, and goes on by itself\n  {routes}\n  earlier: chestnut account resume {typed}\n",
                typed = typed(&name)
            )
        }
        Some(None) => {
            format!(
                "{name} is paused\n  {routes}\n  let it go on: chestnut account resume {typed}\n",
                typed = typed(&name)
            )
        }
        None => format!("{name} goes on with the next sync\n  {routes}\n"),
    }
}

/// A pause that would be over already.
pub(crate) fn not_ahead(text: &str) -> Failure {
    Failure::usage(format!("--until {text:?} is not ahead of now"))
        .hint("Write a day such as 2026-12-24, \"24 Dec\" or monday, or how long: \"2 hours\".")
}

/// A route was passed over. `when`: until when it rests, or since when.
pub(crate) fn passed_over(name: &str, account: Option<&str>, when: &str) -> String {
    let name = clean(name);
    if let Some(account) = account {
        let account = clean(account);
        return format!(
            "{name}: account {account} is paused{when}; nothing was done: `chestnut account resume {typed}`\n",
            typed = typed(&account)
        );
    }
    format!(
        "{name} is paused{when}; nothing was done: `chestnut route resume {typed}`\n",
        typed = typed(&name)
    )
}

/// How long a pause lasts, or how long it has lasted where a person ends it.
pub(crate) fn pause_words(until: Option<&str>, since: Option<&str>) -> String {
    match (until, since) {
        (Some(until), _) => format!(" until {until}"),
        (None, Some(since)) => format!(" since {since}"),
        (None, None) => String::new(),
    }
}

/// A route was written into the configuration.
pub(crate) fn route_written(name: &str, path: &Path) -> String {
    let (name, path) = (clean(name), path.display());
    format!(
        "{name} is written into {path}\n  every entry: chestnut preview {typed}\n  do it: chestnut sync {typed}\n",
        typed = typed(&name)
    )
}

/// What was changed in the file, and what to do next.
pub(crate) fn route_edited(report: &Report) -> String {
    let mut out = format!("{} in {}\n", clean(&report.route), clean(&report.file));
    for one in &report.changed {
        let line = |sign: char, value: &Option<String>| {
            let line = value.as_ref().map(|value| format!("  {sign} {} = {}\n", one.key, clean(value)));
            line.unwrap_or_default()
        };
        out += &style::paint(style::BAD, line('−', &one.old));
        out += &style::paint(style::GOOD, line('+', &one.new));
    }
    if report.has_run {
        return out + &ran_elsewhere(&report.route);
    }
    out + &format!(
        "  what it changes: chestnut preview {0}\n  do it: chestnut sync {0}\n",
        typed(&report.route)
    )
}

/// A route keeps its calendars, and its way, once it has run.
fn ran_elsewhere(route: &str) -> String {
    style::paint(
        style::WARN,
        format!(
            "  it has run, and keeps its calendars and its way: no sync does anything until they are put back, or it begins anew\n  begin anew: chestnut route retire {}, and add it again under the same name: it finds its copies\n",
            typed(route)
        ),
    )
}

/// A route has another name.
pub(crate) fn route_renamed(report: &Renamed) -> String {
    format!(
        "{} is called {new} now, in {}; its copies, links and history go on\n  see: chestnut status\n  keep `was` in [route.{new}]: its copies bear the old name\n",
        clean(&report.old),
        clean(&report.file),
        new = clean(&report.new)
    )
}

/// What is wrong with a text that was not written.
pub(crate) fn and_nothing_written(failure: Failure) -> Failure {
    let hint = failure.hint.clone().unwrap_or_default();
    failure.hint(format!("{hint} Nothing was written.").trim_start().to_owned())
}

/// Neither `KEY=VALUE` nor anything else that could be written.
pub(crate) fn no_setting(typed: &str) -> Failure {
    Failure::usage(format!("`{}` is not KEY=VALUE", clean(typed)))
        .hint("Such as every=\"30 minutes\"; a key without a value (every=) takes it out. `chestnut route show ROUTE -v` explains the keys.")
}

/// Routes have no such key.
pub(crate) fn no_key_of_routes(key: &str, near: Option<&String>) -> Failure {
    let hint = match near {
        Some(near) => format!("Did you mean `{near}`? Nothing was written."),
        None => "`chestnut route show ROUTE -v` lists the keys. Nothing was written.".to_owned(),
    };
    Failure::usage(format!("routes have no key `{}`", clean(key))).hint(hint)
}

/// The file says all of it already.
pub(crate) fn nothing_edited(name: &str) -> Failure {
    Failure::usage(format!("route {} has these settings already", clean(name))).hint("Nothing was written.")
}

/// One of several routes that one table of the file makes.
pub(crate) fn route_is_part(name: &str, whole: &str) -> Failure {
    Failure::usage(format!(
        "`{}` is part of route {}, and has no lines of its own",
        clean(name),
        clean(whole)
    ))
    .hint(format!("Name the route: {}", clean(whole)))
}

/// The history has runs under the new name.
pub(crate) fn ran_under_that_name(new: &str) -> Failure {
    Failure::usage(format!("a route called {} ran before, and its runs are in the history", clean(new)))
        .hint("Choose another name: two stories under one name cannot be told apart. Nothing was written.")
}

/// `route add` does not say between which calendars.
pub(crate) fn needs_calendars() -> Failure {
    Failure::usage("a route needs its calendars")
        .hint("Say --from CALENDAR --to CALENDAR for one way, or --between CALENDAR,CALENDAR for both.")
}

/// The configuration has fewer than two calendars.
pub(crate) fn too_few_calendars() -> Failure {
    Failure::usage("a route needs two calendars, and the configuration has fewer")
        .hint("Add one with `chestnut calendar add` or `chestnut calendar create … --as NAME`.")
}

/// A route is to have a calendar that the configuration does not have.
pub(crate) fn no_such_calendar(name: &str, nearest: Option<&String>) -> Failure {
    let meant = nearest.map(|name| format!("Did you mean `{name}`? ")).unwrap_or_default();
    Failure::usage(format!("there is no calendar `{name}`"))
        .hint(format!("{meant}Nothing was written. `chestnut calendar list` shows what there is."))
}

pub(crate) const FROM_WHICH: &str = "Which calendar is read?";
pub(crate) const TO_WHICH: &str = "Which calendar receives the copies?";
pub(crate) const SHOWS: [&str; 3] = [
    "everything: titles, places, notes, people",
    "some details, such as titles and places",
    "only that the time is busy",
];
pub(crate) const WHICH_DETAILS: &str = "Which details?";
pub(crate) const HOW_FAR: &str = "Which entries?";
/// How far back and ahead, as people choose it.
pub(crate) const REACHES: [(&str, Option<(&str, &str)>); 3] = [
    ("all of them", None),
    ("from 7 days ago to 3 months ahead", Some(("7 days", "3 months"))),
    ("from 30 days ago to a year ahead", Some(("30 days", "1 year"))),
];
pub(crate) const TASKS_TOO: &str = "Copy tasks as well as events?";

pub(crate) fn who_looks_there(to: &str) -> String {
    format!("Who looks at {to}, and what may they see?")
}

pub(crate) fn comes_back(from: &str, to: &str) -> String {
    format!("Do changes made in {to} come back to {from}?")
}

pub(crate) fn deletes_too(from: &str) -> String {
    format!("When an entry is deleted in {from}, delete its copy too?")
}

pub(crate) fn deletes_too_both_ways() -> String {
    "When an entry is deleted on one side, delete it on the other too?".to_owned()
}

/// A person said no to a first run.
pub(crate) fn was_not_begun(name: &str) -> Failure {
    Failure::waiting(format!("route {name} was not begun; nothing was written"))
        .hint("`chestnut preview -v` names every entry.")
}

pub(crate) const WRITE_NOW: &str = "Write this now?";

/// Somebody interrupted a sync twice.
pub(crate) fn interrupted_sync() -> Failure {
    Failure::failed("interrupted").hint("Run `chestnut sync` again; it goes on where it was cut off.")
}

/// What copies show, in a word or two.
pub(crate) fn shows_words(shows: &Shows) -> String {
    match shows {
        Shows::Everything => "everything".to_owned(),
        Shows::Busy(title) => format!("busy, as \"{title}\""),
        Shows::Details(_) => "chosen details".to_owned(),
    }
}
