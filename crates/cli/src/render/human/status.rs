//! How every route is doing, for people.

use jiff::tz::TimeZone;

use super::history::result_text;
use crate::render::{Align, clean, count, moment_text, shorten, style, table};
use crate::report::status::{Report, RouteStatus};
use crate::words::{held_lines, left_out_words};

pub(crate) fn human(report: &Report, zone: &TimeZone) -> String {
    let columns = [
        ("Route", Align::Left),
        ("From", Align::Left),
        ("To", Align::Left),
        ("In step", Align::Right),
        ("Last good run", Align::Left),
        ("Last run", Align::Left),
    ];
    let rows: Vec<_> = report.routes.iter().map(|r| row(r, zone)).collect();
    let mut out = table(&columns, &rows);
    for status in &report.routes {
        out += &notes(status);
    }
    if report.routes.iter().any(|status| status.held > 0) {
        out += held_lines();
    }
    out
}

pub(crate) fn row(status: &RouteStatus, zone: &TimeZone) -> Vec<String> {
    let last = status.record.as_ref().map_or_else(|| style::paint(style::WARN, "never"), result_text);
    let last = if status.running { style::paint(style::GOOD, "running") } else { last };
    vec![
        clean(&status.route),
        clean(&status.from),
        clean(&status.to),
        status.in_step.to_string(),
        status.success_at.map_or_else(|| "none yet".to_owned(), |at| moment_text(at, zone)),
        last,
    ]
}

pub(crate) fn notes(status: &RouteStatus) -> String {
    let mut out = String::new();
    let route = &status.route;
    if status.record.is_none() && !status.running {
        out += &format!(
            "{route}: has not run yet. `chestnut preview {route}` says what the first run would do.\n"
        );
    }
    if !status.left_out.is_empty() {
        let told: Vec<_> = status.left_out.iter().map(|(reason, n)| left_out_words(reason, *n)).collect();
        out += &format!("{route}: left out: {}\n", told.join(", "));
    }
    if status.held > 0 {
        let held = count(status.held, "change waits", "changes wait");
        out += &style::paint(style::WARN, format!("{route}: {held} for a person to decide\n"));
    }
    if !status.troubles.is_empty() {
        let entries = count(status.troubles.len(), "entry is", "entries are");
        out += &style::paint(style::WARN, format!("{route}: {entries} not on the far side as sent:\n"));
        for trouble in status.troubles.iter().take(12) {
            out += &format!("  {}: {}\n", shorten(&trouble.title, 40), shorten(&trouble.reason, 100));
        }
        if status.troubles.len() > 12 {
            out += &format!("  … and {} more\n", status.troubles.len() - 12);
        }
    }
    out
}
