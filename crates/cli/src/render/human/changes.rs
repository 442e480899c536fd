//! What a run changed, for people.

use chestnut_store::Change;
use jiff::tz::TimeZone;

use crate::render::{clean, shorten, start_text, style};
use crate::words::told_words;

/// One line for each change, in the order of their days; with its calendar, where there are several.
pub(crate) fn change_lines(changes: &[Change], zone: &TimeZone) -> String {
    let mut changes: Vec<&Change> = changes.iter().collect();
    changes.sort_by(|a, b| (&a.start, &a.uid).cmp(&(&b.start, &b.uid)));
    let mut calendars: Vec<&str> = changes.iter().map(|c| c.calendar.as_str()).collect();
    calendars.sort_unstable();
    calendars.dedup();
    let width = calendars.iter().map(|name| name.chars().count()).max().unwrap_or(0);
    let place = |c: &Change| match calendars.len() {
        0 | 1 => String::new(),
        _ => format!("{:width$}  ", clean(&c.calendar)),
    };
    let line = |c: &Change| {
        let words = c
            .told
            .as_ref()
            .map(|told| format!("  {}", style::paint(style::FAINT, shorten(&told_words(told), 100))))
            .unwrap_or_default();
        let start = start_text(&c.start, zone);
        format!("  {:9} {}{start:24} {}{words}\n", c.action.word(), place(c), shorten(&c.title, 56))
    };
    changes.into_iter().map(line).collect()
}
