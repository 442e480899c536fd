//! What taking runs back would do, and did, for people.

use jiff::tz::TimeZone;

use crate::render::{Align, clean, count, shorten, start_text, style, table, zone_name};
use crate::report::undo::{Left, Put, Report};
use crate::words::{
    failed_to_put_back, follow_at_next_run, nothing_to_take_back, paused_after_undo, undone_as,
};

/// What would be put back, and what stays.
pub(crate) fn planned(report: &Report, zone: &TimeZone) -> String {
    let numbers: Vec<_> = report.runs.iter().rev().map(ToString::to_string).collect();
    let runs = match &numbers[..] {
        [one] => format!("run {one}"),
        [first, .., last] => format!("{} from {first} to {last}", count(numbers.len(), "run", "runs")),
        [] => String::new(),
    };
    let name = style::paint(style::STRONG, clean(&report.route));
    let mut out = format!("{name}: taking {runs} back; times in {}\n", zone_name(zone));
    if report.put_back.is_empty() {
        out += &format!("  {}\n", nothing_to_take_back(report.already));
    }
    let put = |put: &Put| {
        let (action, paint) = match put.action {
            "delete" => ("delete", style::BAD),
            "replace" => ("put back", style::WARN),
            _ => ("create again", style::GOOD),
        };
        vec![
            style::paint(paint, action),
            clean(&put.calendar),
            start_text(&put.start, zone),
            shorten(&put.title, 50),
        ]
    };
    let columns = [("", Align::Left), ("In", Align::Left), ("Starts", Align::Left), ("Title", Align::Left)];
    if !report.put_back.is_empty() {
        out += &table(&columns, &report.put_back.iter().map(put).collect::<Vec<_>>());
    }
    if !report.put_back.is_empty() && report.already > 0 {
        out += &format!("  {}\n", nothing_to_take_back(report.already));
    }
    let mut routes: Vec<&String> = report.put_back.iter().flat_map(|put| &put.routes).collect();
    routes.sort();
    routes.dedup();
    if !routes.is_empty() {
        let names: Vec<_> = routes.into_iter().map(|name| clean(name)).collect();
        out += &format!("  {}\n", follow_at_next_run(&names));
    }
    if !report.left.is_empty() {
        let stay = count(report.left.len(), "entry stays as it is", "entries stay as they are");
        out += &format!("\n  {}\n", style::paint(style::WARN, stay));
        for left in &report.left {
            out += &stays(left, zone);
        }
    }
    out
}

fn stays(left: &Left, zone: &TimeZone) -> String {
    let (start, title) = (start_text(&left.start, zone), shorten(&left.title, 50));
    format!(
        "  {}  {start}  {title}\n      {}\n",
        clean(&left.calendar),
        style::paint(style::FAINT, &left.words)
    )
}

/// What came of it.
pub(crate) fn done(report: &Report) -> String {
    let Some(taken) = &report.taken else { return String::new() };
    let mut out = undone_as(taken);
    for failed in &taken.failed {
        let line = failed_to_put_back(&clean(&failed.calendar), &shorten(&failed.title, 60), &failed.words);
        out += &style::paint(style::BAD, line);
    }
    if let Some(error) = &taken.error {
        out += &style::paint(style::BAD, format!("{}\n", clean(error)));
    }
    if taken.paused {
        out += &paused_after_undo(&clean(&report.route));
    }
    out
}
