//! Why entries are where they are, for people.

use jiff::tz::TimeZone;

use crate::render::{clean, count, shorten, start_text, style, zone_name};
use crate::report::why::Report;

/// Entries that are told of without `-v`.
const ENOUGH: usize = 12;

pub(crate) fn human(report: &Report, zone: &TimeZone, all: bool) -> String {
    let number = count(report.entries.len(), "entry", "entries");
    let mut out =
        format!("{}: {number}; times in {}\n", style::paint(style::STRONG, &report.route), zone_name(zone));
    let shown = if all { report.entries.len() } else { report.entries.len().min(ENOUGH) };
    for line in &report.entries[..shown] {
        let sign =
            if line.taken { style::paint(style::GOOD, "✓") } else { style::paint(style::WARN, "–") };
        let start = start_text(&line.start, zone);
        out += &format!("\n  {sign} {start:30} {}\n", shorten(&line.title, 60));
        out += &format!("    {}\n", clean(&line.why));
        if let Some(trouble) = &line.trouble {
            out += &format!("    {}\n", style::paint(style::WARN, clean(trouble)));
        }
        if all {
            out += &format!("    UID {}\n", clean(&line.uid));
            if let (Some(copy), Some(uid)) = (&line.copy, &line.copy_uid) {
                out += &format!("    copy {}, UID {}\n", clean(copy), clean(uid));
            }
        }
    }
    if shown < report.entries.len() {
        out += &format!("\n  … and {} more; -v tells of them all\n", report.entries.len() - shown);
    }
    out
}
