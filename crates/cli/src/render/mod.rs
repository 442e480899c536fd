//! Words, tables and JSON for what commands found.

mod moments;
mod table;
mod text;

pub(crate) use moments::{moment_text, start_text, zone_name};
pub(crate) use table::{Align, table};
pub(crate) use text::{clean, count, shorten, style, wrap};

/// Turns a report into the one JSON document of a command.
pub(crate) fn json(report: &impl serde::Serialize) -> String {
    let mut text = serde_json::to_string_pretty(report).expect("reports turn into JSON");
    text.push('\n');
    text
}
