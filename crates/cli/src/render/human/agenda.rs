//! What takes place, day by day, for people.

use jiff::civil::{Date, DateTime};

use crate::render::{Clock, Column, clean, count, readable, style, table, zone_name};
use crate::report::agenda::{Line, Shown};

pub(crate) fn human(lines: &[Line], clock: &Clock, from: Date, to: Date) -> String {
    let entries = count(lines.len(), "entry", "entries");
    let mut out =
        format!("{} to {}, {entries}; times in {}\n", clock.day(from), clock.day(to), zone_name(clock));
    let mut by_day: Vec<&Line> = lines.iter().collect();
    by_day.sort_by_key(|line| {
        (line.shown.start.date().max(from), !line.all_day, line.shown.start, &line.title)
    });
    let calendars: std::collections::BTreeSet<_> = by_day.iter().map(|line| &line.calendar).collect();
    let day_of = |line: &&Line| line.shown.start.date().max(from);
    let columns = [("", Column::Whole), ("", Column::Text), ("", Column::Name), ("", Column::Whole)];
    for lines in by_day.chunk_by(|a, b| day_of(a) == day_of(b)) {
        let day = day_of(&lines[0]);
        let row = |line: &&Line| {
            let calendar = if calendars.len() > 1 { clean(&line.calendar) } else { String::new() };
            let cancelled = if line.shown.cancelled { "cancelled" } else { "" };
            vec![
                // As wide on every day.
                format!("{:11}", times(line, day)),
                readable(&line.title),
                style::paint(style::FAINT, calendar),
                style::paint(style::WARN, cancelled),
            ]
        };
        out += &format!("\n{}\n", style::paint(style::STRONG, day.strftime("%A %-d %B %Y")));
        out += &table(&columns, &lines.iter().map(row).collect::<Vec<_>>());
    }
    if lines.iter().any(|line| line.shown.floating) {
        out += "\n~ no time zone (floating): the same on every clock\n";
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
