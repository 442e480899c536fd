//! A calendar that was written into the configuration, for people.

use super::calendar_list::entries_words;
use crate::render::{clean, count, style};
use crate::report::calendar_add::Report;
use crate::words::{interval, placed};

pub(crate) fn human(report: &Report) -> String {
    let line = |name: &str, text: &str| format!("  {name:12}{}\n", clean(text));
    let kind = placed(report.kind);
    let mut out = format!("{}, {kind}\n", style::paint(style::STRONG, &report.calendar));
    if let Some(title) = &report.title {
        out += &line("title", title);
    }
    let entries = entries_words(&report.entries);
    out += &line("entries", if entries.is_empty() { "none" } else { &entries });
    if let (Some(first), Some(last)) = (&report.first, &report.last) {
        let endless = match report.endless_series {
            0 => String::new(),
            n => format!(", and {} without an end", count(n, "series", "series")),
        };
        out += &line("from, to", &format!("{first} to {last}{endless}"));
    }
    if let Some(zone) = &report.timezone {
        out += &line("time zone", zone);
    }
    if let Some(seconds) = report.refresh_seconds.filter(|s| *s > 0) {
        out += &line("refresh", &format!("the publisher wishes to be asked {}", interval(seconds)));
    }
    out += &line("rights", report.rights);
    for odd in &report.odd {
        out += &format!("  {}  {}\n", style::paint(style::WARN, format!("{:10}", "odd")), clean(odd));
    }
    out += &format!("\nWritten into {}.\n", report.configuration);
    if report.is_read_only {
        out += "It can only be read: use it as `from` of a route.\n";
    }
    out
}
