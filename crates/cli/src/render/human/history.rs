//! Runs, for people.

use chestnut_store::{RunRecord, RunResult};
use jiff::tz::TimeZone;

use crate::render::{Align, clean, moment_text, style, table};
use crate::words::kept_failure_words;

pub(crate) fn list(records: &[RunRecord], zone: &TimeZone) -> String {
    if records.is_empty() {
        return "No route has run yet. `chestnut preview` says what the first run would do.\n".to_owned();
    }
    let columns = [
        ("Run", Align::Right),
        ("Route", Align::Left),
        ("Began", Align::Left),
        ("Created", Align::Right),
        ("Updated", Align::Right),
        ("Deleted", Align::Right),
        ("Result", Align::Left),
    ];
    let row = |record: &RunRecord| {
        let sum = |of: fn(&chestnut_store::Counts) -> usize| -> String {
            record.summary.calendars.values().map(of).sum::<usize>().to_string()
        };
        vec![
            record.id.0.to_string(),
            clean(&record.route),
            moment_text(record.started, zone),
            sum(|c| c.created),
            sum(|c| c.updated),
            sum(|c| c.deleted),
            result_text(record),
        ]
    };
    table(&columns, &records.iter().map(row).collect::<Vec<_>>())
}

/// A run's result in words.
pub(crate) fn result_text(record: &RunRecord) -> String {
    let summary = &record.summary;
    match record.result {
        None if record.is_running => style::paint(style::GOOD, "running"),
        None => style::paint(style::BAD, "cut off"),
        Some(RunResult::Ok) => style::paint(style::GOOD, "done"),
        Some(RunResult::Held) => style::paint(style::WARN, format!("done, {} held", summary.held)),
        Some(RunResult::Failed) => match (&summary.error, summary.failed + summary.damaged) {
            (Some(error), _) => style::paint(
                style::BAD,
                format!("failed: {}", crate::render::shorten(&kept_failure_words(error), 70)),
            ),
            (None, entries) => style::paint(style::BAD, format!("{entries} not stored as sent")),
        },
    }
}
