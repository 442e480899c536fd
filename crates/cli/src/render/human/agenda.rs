//! What takes place, day by day, for people.

use jiff::civil::{Date, DateTime};
use jiff::tz::TimeZone;

use crate::render::{clean, count, shorten, style, zone_name};
use crate::report::agenda::{Line, Shown};

pub(crate) fn human(lines: &[Line], zone: &TimeZone, from: Date, to: Date) -> String {
    let last = to;
    let entries = count(lines.len(), "entry", "entries");
    let mut out = format!("{from} to {last}, {entries}; times in {}\n", zone_name(zone));
    let mut by_day: Vec<&Line> = lines.iter().collect();
    by_day.sort_by_key(|line| {
        (line.shown.start.date().max(from), !line.all_day, line.shown.start, &line.title)
    });
    let calendars: std::collections::BTreeSet<_> = by_day.iter().map(|line| &line.calendar).collect();
    let mut day = None;
    for line in &by_day {
        let own = line.shown.start.date().max(from);
        if day != Some(own) {
            day = Some(own);
            out += &format!("\n{}\n", style::paint(style::STRONG, own.strftime("%A %Y-%m-%d")));
        }
        let calendar =
            if calendars.len() > 1 { format!("  {}", clean(&line.calendar)) } else { String::new() };
        let cancelled =
            if line.shown.cancelled { style::paint(style::WARN, "  cancelled") } else { String::new() };
        let title = shorten(&line.title, 60);
        out +=
            &format!("  {:13}{title}{}{cancelled}\n", times(line, own), style::paint(style::FAINT, calendar));
    }
    if lines.iter().any(|line| line.shown.floating) {
        out += "\n~ a time of no zone: the same on every clock\n";
    }
    out
}

/// `08:00–09:30`, `all day`, `until 10:00`, `from 22:00`.
pub(crate) fn times(line: &Line, day: Date) -> String {
    let Shown { start, end, floating, .. } = &line.shown;
    let mark = if *floating { "~" } else { "" };
    let clock = |at: &DateTime| at.strftime("%H:%M").to_string();
    let begins_here = start.date() == day;
    let ends_here = end.date() == day;
    match (line.all_day, begins_here, ends_here) {
        (true, ..) => "all day".to_owned(),
        (_, true, true) if start == end => format!("{}{mark}", clock(start)),
        (_, true, true) => format!("{}–{}{mark}", clock(start), clock(end)),
        (_, true, false) => format!("from {}{mark}", clock(start)),
        (_, false, true) => format!("until {}{mark}", clock(end)),
        (_, false, false) => "goes on".to_owned(),
    }
}
