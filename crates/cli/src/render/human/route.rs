//! Routes, for people.

use chestnut_engine::RouteCopy;
use chestnut_store::RunResult;

use crate::render::{
    Clock, Column, and_more, clean, count, readable, start_text, style, summarised, table, zone_name,
};
use crate::report::route::{Line, Report, Setting, Whole};
use crate::words::gone_words;

/// Copies that are named before they go, without `-v`.
const ENOUGH: usize = 12;

pub(crate) fn human(report: &Report, whole: bool) -> String {
    let columns = [
        ("Route", Column::Name),
        ("Way", Column::Name),
        ("Carries", Column::Prose),
        ("Linked", Column::Number),
        ("State", Column::Prose),
    ];
    let row = |line: &Line| {
        let state = match (line.gone, line.paused, line.last_result) {
            (true, ..) => style::paint(style::WARN, "not in the configuration"),
            (_, true, _) => style::paint(style::WARN, "paused"),
            (.., None) => "never ran".to_owned(),
            (.., Some(result)) => result.word().to_owned(),
        };
        let (route, way) = (clean(&line.route), clean(&line.way));
        vec![route, way, clean(&line.carries), line.linked.to_string(), state]
    };
    let is_loud = |line: &Line| line.gone || line.paused || line.last_result != Some(RunResult::Ok);
    let (shown, hidden) = summarised(&report.routes, whole, is_loud);
    let mut out = table(&columns, &shown.into_iter().map(row).collect::<Vec<_>>());
    out += &and_more(hidden, "chestnut route list");
    for line in report.routes.iter().filter(|line| line.gone) {
        out += &gone_words(&line.route);
    }
    out
}

/// One route in full; `explained` with what its keys mean.
pub(crate) fn described(route: &Whole, explained: bool) -> String {
    let Whole { line, settings } = route;
    let paused = if line.paused { "yes" } else { "no" };
    let name = style::paint(style::STRONG, clean(&line.route));
    let mut out =
        format!("{name}\n  way     {}\n  linked  {}\n  paused  {paused}\n\n", clean(&line.way), line.linked);
    let columns = [("Key", Column::Whole), ("Said by", Column::Name), ("Value", Column::Prose)];
    let row = |setting: &Setting| {
        let whose = match setting.said_by.as_deref() {
            Some("route") => "the file".to_owned(),
            Some("defaults") => "[defaults.route]".to_owned(),
            Some(other) => clean(other),
            None => style::paint(style::FAINT, "default"),
        };
        vec![setting.key.to_owned(), whose, clean(&setting.value)]
    };
    let mut rows = Vec::new();
    for setting in settings {
        rows.push(row(setting));
        rows.extend(explained.then(|| {
            let means = style::paint(style::FAINT, clean(&setting.means));
            vec![String::new(), String::new(), means]
        }));
    }
    out += &table(&columns, &rows);
    out
}

pub(crate) fn copy_lines(copies: &[&RouteCopy], clock: &Clock, all: bool) -> String {
    let number = count(copies.len(), "copy", "copies");
    format!("{number} would be deleted; times in {}\n", zone_name(clock)) + &listed(copies, clock, all)
}

/// Copies that stay, since somebody invited people to them.
pub(crate) fn staying_lines(copies: &[&RouteCopy], clock: &Clock, all: bool) -> String {
    let number = count(copies.len(), "copy stays", "copies stay");
    let why = "the server could write to people if they were deleted";
    format!("{number}: {why}; times in {}\n", zone_name(clock)) + &listed(copies, clock, all)
}

fn listed(copies: &[&RouteCopy], clock: &Clock, all: bool) -> String {
    let shown = if all { copies.len() } else { copies.len().min(ENOUGH) };
    let mut out = String::new();
    let columns = [("In", Column::Name), ("Starts", Column::Day), ("Title", Column::Text)];
    let row = |copy: &&RouteCopy| {
        vec![clean(&copy.calendar), start_text(&copy.start, clock), readable(&copy.title)]
    };
    out += &table(&columns, &copies[..shown].iter().map(row).collect::<Vec<_>>());
    if shown < copies.len() {
        out += &format!("  … and {} more; -v names them all\n", copies.len() - shown);
    }
    out
}
