//! What taking runs back would do, and did, for people.

use crate::render::{Clock, Column, clean, count, readable, signed, start_text, style, table, zone_name};
use crate::report::snapshot::Restored;
use crate::report::undo::{Left, Put, Report, Taken};
use crate::words::{
    failed_to_put_back, follow_at_next_run, nothing_to_take_back, paused_after_undo, restored_as, undone_as,
};

/// What would be put back, and what stays.
pub(crate) fn planned(report: &Report, clock: &Clock) -> String {
    let numbers: Vec<_> = report.runs.iter().rev().map(ToString::to_string).collect();
    let runs = match &numbers[..] {
        [one] => format!("run {one}"),
        [first, .., last] => format!("{} from {first} to {last}", count(numbers.len(), "run", "runs")),
        [] => String::new(),
    };
    let name = style::paint(style::STRONG, clean(&report.route));
    let out = format!("{name}: taking {runs} back; times in {}\n", zone_name(clock));
    out + &listed(&report.put_back, &report.left, report.already, &routes_of(&report.put_back), clock)
}

/// What putting a calendar back would do.
pub(crate) fn restore_planned(report: &Restored, clock: &Clock) -> String {
    let name = style::paint(style::STRONG, clean(&report.calendar));
    let head =
        format!("{name}: put back as it stands in {}; times in {}\n", clean(&report.file), zone_name(clock));
    let routes = if report.put_back.is_empty() { Vec::new() } else { report.routes.clone() };
    head + &listed(&report.put_back, &report.left, report.already, &routes, clock)
}

/// What came of it.
pub(crate) fn restore_done(report: &Restored) -> String {
    report.taken.as_ref().map(|taken| restored_as(taken) + &troubles(taken)).unwrap_or_default()
}

/// Other routes that carry it on.
fn routes_of(put: &[Put]) -> Vec<String> {
    let mut routes: Vec<String> = put.iter().flat_map(|put| put.routes.clone()).collect();
    routes.sort();
    routes.dedup();
    routes
}

fn listed(put_back: &[Put], left: &[Left], already: usize, routes: &[String], clock: &Clock) -> String {
    let mut out = String::new();
    if put_back.is_empty() {
        out += &format!("  {}\n", nothing_to_take_back(already));
    }
    out += &put_rows(put_back, &[], clock);
    if !put_back.is_empty() && already > 0 {
        out += &format!("  {}\n", nothing_to_take_back(already));
    }
    if !routes.is_empty() {
        let names: Vec<_> = routes.iter().map(|name| clean(name)).collect();
        out += &format!("  {}\n", follow_at_next_run(&names));
    }
    out + &put_rows(&[], left, clock)
}

fn stays(left: &Left, clock: &Clock) -> String {
    let (start, title) = (start_text(&left.start, clock), readable(&left.title));
    format!(
        "  {}  {start}  {title}\n      {}\n",
        clean(&left.calendar),
        style::paint(style::FAINT, &left.words)
    )
}

/// What came of it.
pub(crate) fn done(report: &Report) -> String {
    let Some(taken) = &report.taken else { return String::new() };
    let mut out = undone_as(taken) + &troubles(taken);
    if taken.paused {
        out += &paused_after_undo(&clean(&report.route));
    }
    out
}

/// Entries that are put back or deleted, and those that stay.
pub(crate) fn put_rows(put_back: &[Put], left: &[Left], clock: &Clock) -> String {
    let put = |put: &Put| {
        let action = match put.action {
            "delete" => "delete",
            "replace" => "put back",
            _ => "create again",
        };
        vec![signed(action), clean(&put.calendar), start_text(&put.start, clock), readable(&put.title)]
    };
    let columns =
        [("", Column::Whole), ("In", Column::Name), ("Starts", Column::Day), ("Title", Column::Text)];
    let mut out = match put_back {
        [] => String::new(),
        rows => table(&columns, &rows.iter().map(put).collect::<Vec<_>>()),
    };
    if !left.is_empty() {
        let stay = count(left.len(), "entry stays as it is", "entries stay as they are");
        out += &format!("\n  {}\n", style::paint(style::WARN, stay));
        left.iter().for_each(|left| out += &stays(left, clock));
    }
    out
}

pub(crate) fn troubles(taken: &Taken) -> String {
    let mut out = String::new();
    for failed in &taken.failed {
        let line = failed_to_put_back(&clean(&failed.calendar), &readable(&failed.title), &failed.words);
        out += &style::paint(style::BAD, line);
    }
    if let Some(error) = &taken.error {
        out += &style::paint(style::BAD, format!("{}\n", readable(error)));
    }
    out
}
