//! Runs, for people.

use chestnut_store::{RunRecord, RunResult};

use super::fields::field_lines;
use crate::render::{
    Clock, Column, align_days, broken, clean, day_and_time, readable, signed, start_text, style, table,
    zone_name,
};
use crate::report::history::{ChangeLine, Run};
use crate::words::kept_failure_words;

pub(crate) fn list(records: &[RunRecord], clock: &Clock) -> String {
    if records.is_empty() {
        return "No route has run yet. `chestnut preview` says what the first run would do.\n".to_owned();
    }
    let columns = [
        ("Run", Column::Number),
        ("Route", Column::Name),
        ("Began", Column::Day),
        ("Created", Column::Number),
        ("Updated", Column::Number),
        ("Deleted", Column::Number),
        ("Result", Column::Prose),
    ];
    let row = |record: &RunRecord| {
        let sum = |of: fn(&chestnut_store::Counts) -> usize| -> String {
            record.summary.calendars.values().map(of).sum::<usize>().to_string()
        };
        vec![
            record.id.0.to_string(),
            clean(&record.route),
            day_and_time(record.started, clock),
            sum(|c| c.created),
            sum(|c| c.updated),
            sum(|c| c.deleted),
            result_text(record),
        ]
    };
    let rows: Vec<_> = records.iter().map(row).collect();
    format!("times in {}\n{}", zone_name(clock), table(&columns, &rows))
}

/// Longer values go on in the next line.
const LINE: usize = 100;

/// One run, and what it changed, field by field; nothing is cut.
pub(crate) fn one_run(record: &RunRecord, run: &Run, clock: &Clock) -> String {
    let mut out = list(std::slice::from_ref(record), clock);
    out.push('\n');
    let none = Vec::new();
    let mut changes: Vec<&ChangeLine> = run.changes.as_ref().unwrap_or(&none).iter().collect();
    changes.sort_by(|a, b| (&a.start, &a.uid).cmp(&(&b.start, &b.uid)));
    let width = changes.iter().map(|c| clean(&c.calendar).chars().count()).max().unwrap_or(0);
    let mut shown: Vec<String> = changes.iter().map(|c| start_text(&c.start, clock)).collect();
    align_days(shown.iter_mut());
    let starts = shown.iter().map(|start| start.chars().count()).max().unwrap_or(0);
    let actions = changes.iter().map(|change| change.action.len()).max().unwrap_or(0);
    for (change, start) in changes.iter().zip(&shown) {
        let calendar = clean(&change.calendar);
        let action = signed(change.action);
        let room = actions - change.action.len();
        let title = readable(&change.title);
        out += &format!("  {action}{:room$}  {calendar:width$}  {start:starts$}  {title}\n", "");
        if let Some(words) = &change.words {
            for line in broken(words, LINE) {
                out += &format!("      {}\n", style::paint(style::FAINT, line));
            }
        }
        for line in field_lines(&change.fields, clock, true).iter().flat_map(|line| broken(line, LINE)) {
            out += &format!("      {line}\n");
        }
        for (text, sign, paint) in [(&change.before, "-", style::BAD), (&change.after, "+", style::GOOD)] {
            for line in text.iter().flat_map(|text| text.lines()).flat_map(|line| broken(line, LINE)) {
                out += &format!("      {}\n", style::paint(paint, format!("{sign} {line}")));
            }
        }
    }
    if changes.is_empty() {
        out += "  nothing was changed\n";
    }
    out
}

/// A run's result in words.
pub(crate) fn result_text(record: &RunRecord) -> String {
    let words = plain_result_text(record);
    match &record.summary.undid[..] {
        [] => words,
        [one] => format!("{words}, took back run {one}"),
        [first, .., last] => format!("{words}, took back runs {last} to {first}"),
    }
}

fn plain_result_text(record: &RunRecord) -> String {
    let summary = &record.summary;
    match record.result {
        None if record.is_running => style::paint(style::GOOD, "running"),
        None => style::paint(style::BAD, "cut off"),
        Some(RunResult::Ok) => style::paint(style::GOOD, "done"),
        Some(RunResult::Held) => style::paint(style::WARN, format!("done, {} held", summary.held)),
        Some(RunResult::Failed) => match (&summary.error, summary.failed + summary.damaged) {
            (Some(error), _) => {
                style::paint(style::BAD, format!("failed: {}", clean(&kept_failure_words(error))))
            }
            (None, entries) => style::paint(style::BAD, format!("{entries} not stored as sent")),
        },
    }
}
