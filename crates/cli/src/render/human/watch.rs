//! What a running process does, for people: troubles first, then what runs, then what comes next.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;

use crate::render::{Clock, age_text, clean, count, day_and_time, shorten, style, zone_name};
use crate::report::trouble::OpenTrouble;
use crate::words::{LIVE_KEYS, due_words};

/// No line is longer.
const WIDEST: usize = 100;

/// What is shown.
pub(crate) struct Live {
    pub(crate) troubles: Vec<OpenTrouble>,
    /// Routes that run, and from where to where.
    pub(crate) running: Vec<(String, String)>,
    /// Routes that wait, and how long.
    pub(crate) due: Vec<(String, String, Duration)>,
    pub(crate) now: Timestamp,
    pub(crate) zone: TimeZone,
}

/// Lines that fit: `width` columns, `height` lines. `outcomes` says what the last round of each route came to.
pub(crate) fn table(live: &Live, outcomes: &BTreeMap<String, String>, width: usize, height: usize) -> String {
    // What belongs together stays together.
    let width = width.clamp(20, WIDEST);
    let mut lines: Vec<String> = Vec::new();
    let routes = count(live.running.len() + live.due.len(), "route", "routes");
    let clock = Clock::at(live.now, &live.zone);
    let now = day_and_time(live.now, &clock);
    let head = format!("chestnut watch   {routes}   {now} {}", zone_name(&clock));
    lines.push(style::paint(style::STRONG, shorten(&head, width)));
    lines.push(String::new());
    // The last line stays free: what scrolls is not read.
    let room = height.saturating_sub(3).max(4);
    let mut section = |title: &str, rows: Vec<Vec<String>>, most: usize| {
        if rows.is_empty() || lines.len() + 2 > room {
            return;
        }
        lines.push(style::paint(style::FAINT, title));
        let left = room.saturating_sub(lines.len()).min(most);
        let lines_of: usize = rows.iter().map(Vec::len).sum();
        let mut used = 0;
        let mut shown = 0;
        for row in &rows {
            let keeps_one = usize::from(lines_of > left);
            if used + row.len() + keeps_one > left {
                break;
            }
            used += row.len();
            shown += 1;
            lines.extend(row.iter().cloned());
        }
        if shown < rows.len() {
            lines.push(style::paint(style::FAINT, format!("  … and {} more", rows.len() - shown)));
        }
        lines.push(String::new());
    };
    let troubles = live.troubles.iter().map(|trouble| {
        let since = age_text(trouble.age);
        // What to type is the last to be cut.
        let what = shorten(&format!("{} ({since})", trouble.what), width.saturating_sub(4));
        let advice = &trouble.advice;
        vec![
            style::paint(style::BAD, format!("  ! {what}")),
            style::paint(style::FAINT, format!("    {}", shorten(advice, width.saturating_sub(4)))),
        ]
    });
    section("TROUBLES", troubles.collect(), room * 2 / 3);
    let longest = live.running.iter().map(|(name, _)| name).chain(live.due.iter().map(|(name, ..)| name));
    let name_width = longest.map(|name| clean(name).chars().count()).max().unwrap_or(0).min(width / 3);
    let line = |name: &str, way: &str, mark: &str, rest: &str| {
        let mut text = String::new();
        let name = shorten(name, name_width);
        let pad = name_width.saturating_sub(name.chars().count());
        write!(text, "  {mark} {name}{}  ", " ".repeat(pad)).expect("a string");
        let rest_width = rest.chars().count();
        let left = width.saturating_sub(text.chars().count() + rest_width + 3);
        let way = if left >= 8 { shorten(way, left) } else { String::new() };
        let used = text.chars().count() + way.chars().count() + rest_width;
        let gap = width.saturating_sub(used + 1).max(1);
        text += &way;
        text += &" ".repeat(gap);
        text += rest;
        vec![text]
    };
    let running = live.running.iter().map(|(name, way)| line(name, way, "●", "running"));
    section("RUNNING", running.collect(), room);
    let due = live.due.iter().map(|(name, way, left)| {
        let outcome = outcomes.get(name).map(String::as_str).unwrap_or_default();
        line(name, way, " ", &format!("{outcome:>12}{:>13}", due_words(*left)))
    });
    section("NEXT", due.collect(), room);
    while lines.last().is_some_and(String::is_empty) {
        lines.pop();
    }
    let keys = style::paint(style::FAINT, shorten(LIVE_KEYS, width));
    lines.push(String::new());
    lines.push(keys);
    lines.join("\n")
}
