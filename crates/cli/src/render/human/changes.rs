//! What a run changed, for people.

use chestnut_store::Change;

use super::fields::field_lines;
use crate::render::{Clock, Column, below, clean, readable, signed, start_text, style, table};
use crate::report::history::fields;
use crate::words::told_words;

/// One line for each change, in the order of their days, and below it field by field what it changed; with its calendar,
/// where there are several.
pub(crate) fn change_lines(changes: &[Change], clock: &Clock) -> String {
    let mut changes: Vec<&Change> = changes.iter().collect();
    changes.sort_by(|a, b| (&a.start, &a.uid).cmp(&(&b.start, &b.uid)));
    let mut calendars: Vec<&str> = changes.iter().map(|c| c.calendar.as_str()).collect();
    calendars.sort_unstable();
    calendars.dedup();
    let mut columns = vec![("", Column::Whole), ("", Column::Day), ("", Column::Text), ("", Column::Text)];
    if calendars.len() > 1 {
        columns.insert(1, ("", Column::Name));
    }
    let row = |c: &Change| {
        let told = c.told.as_ref().map(|told| style::paint(style::FAINT, clean(&told_words(told))));
        let mut row = vec![signed(c.action.word())];
        row.extend((calendars.len() > 1).then(|| clean(&c.calendar)));
        row.extend([start_text(&c.start, clock), readable(&c.title), told.unwrap_or_default()]);
        row
    };
    let rows = changes.iter().flat_map(|change| {
        let lines = field_lines(&fields(change), clock, false);
        [row(change)].into_iter().chain(lines.into_iter().map(|line| below(&line)))
    });
    table(&columns, &rows.collect::<Vec<_>>())
}
