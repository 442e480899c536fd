//! The stories of entries, for people.

use std::collections::BTreeSet;

use chestnut_engine::Part;
use jiff::Timestamp;

use super::differences::difference_lines;
use crate::render::{
    Clock, Column, clean, count, day_and_hour, day_and_time, readable, start_text, style, table, zone_name,
};
use crate::report::why::{Past, Place, Report, State, Telling, Uncovered};
use crate::words::{part_words, stays_behind};

/// Entries in the table without `-v`.
pub(crate) const ENOUGH: usize = 12;
/// What runs did to one entry, without `-v`.
const LATELY: usize = 5;

/// Several entries: which of them? Each with all routes that see it.
pub(crate) fn choices(report: &Report, clock: &Clock, all: bool) -> String {
    let entries = report.entries();
    let number = entries.len() + report.uncovered.len();
    let mut out = format!("{}; times in {}\n", count(number, "entry", "entries"), zone_name(clock));
    let columns = [
        ("", Column::Number),
        ("Starts", Column::Day),
        ("Title", Column::Text),
        ("Route", Column::Name),
        ("Stands in", Column::Prose),
        ("State", Column::Prose),
    ];
    let shown = if all { entries.len() } else { entries.len().min(ENOUGH) };
    let rows = entries[..shown].iter().enumerate().map(|(at, stories)| {
        let first = stories[0];
        let places = stories.iter().flat_map(|one| &one.places);
        let standing =
            places.filter(|place| place.stands != Some(false)).map(|place| place.calendar.as_str());
        vec![
            (at + 1).to_string(),
            start_text(&first.start, clock),
            readable(&first.title),
            each_once(stories.iter().map(|one| one.route.as_str())),
            each_once(standing),
            standing_words(&stories.iter().map(|one| one.state).collect()),
        ]
    });
    let uncovered = report.uncovered.iter().take(ENOUGH).map(|one| {
        vec![
            String::new(),
            start_text(&one.start, clock),
            readable(&one.title),
            style::paint(style::WARN, "none"),
            clean(&one.calendar),
            "no route covers it".to_owned(),
        ]
    });
    out += &table(&columns, &rows.chain(uncovered).collect::<Vec<_>>());
    if shown < entries.len() {
        out += &format!("  … and {} more; -v names them all\n", entries.len() - shown);
    }
    let starts =
        entries.iter().map(|stories| &stories[0].start).chain(report.uncovered.iter().map(|one| &one.start));
    let start = starts.map(|start| start_text(start, clock)).find(|start| day_and_hour(start).1.is_some());
    let start = start.map(|start| format!(" ({start})")).unwrap_or_default();
    out += &format!(
        "  one of them alone: add its start as it stands here{start}, words of its title, or its UID\n"
    );
    out
}

/// What is not well is enough; where all is well, it may differ from route to route.
fn standing_words(states: &BTreeSet<State>) -> String {
    match states.last() {
        Some(worst @ (State::NotInStep | State::Held)) => state_word(*worst).to_owned(),
        _ => states.iter().map(|state| state_word(*state)).collect::<Vec<_>>().join(", "),
    }
}

/// How an entry stands on a route, for a table.
fn state_word(state: State) -> &'static str {
    match state {
        State::Own => "own",
        State::InStep => "in step",
        State::LeftOut => "left out",
        State::NotInStep => "not in step",
        State::Held => "held",
    }
}

fn each_once<'n>(names: impl Iterator<Item = &'n str>) -> String {
    let mut seen: Vec<&str> = Vec::new();
    for name in names {
        if !seen.contains(&name) {
            seen.push(name);
        }
    }
    clean(&seen.join(", "))
}

/// All that is known of one entry, of each route that sees it.
pub(crate) fn told(
    stories: &[&Telling],
    uncovered: &[Uncovered],
    past: &[Past],
    clock: &Clock,
    all: bool,
) -> String {
    let mut out = String::new();
    for (at, one) in stories.iter().enumerate() {
        if at == 0 {
            let title = style::paint(style::STRONG, readable(&one.title));
            out += &format!("{title}, {}; times in {}\n", start_text(&one.start, clock), zone_name(clock));
        }
        out += &story(one, clock, all);
    }
    for one in uncovered {
        let title = style::paint(style::STRONG, readable(&one.title));
        out += &format!("{title}, {}\n", start_text(&one.start, clock));
        out += &style::paint(
            style::WARN,
            format!(
                "  stands in {}, which no route takes from: it is copied nowhere\n",
                clean(&one.calendar)
            ),
        );
    }
    if stories.is_empty() && uncovered.is_empty() {
        out += &gone(past, clock);
    }
    out + &history(past, clock, all)
}

/// It stands nowhere any more: since when?
fn gone(past: &[Past], clock: &Clock) -> String {
    let Some(last) = past.first() else { return String::new() };
    let title = style::paint(style::STRONG, readable(&last.title));
    let mut out = format!("{title}, {}; times in {}\n", start_text(&last.start, clock), zone_name(clock));
    out += "  it no longer stands anywhere\n";
    if let Some(deletion) = past.iter().find(|one| one.action == "deleted") {
        let at = deletion.at.parse::<Timestamp>().map(|at| day_and_time(at, clock)).unwrap_or_default();
        let (place, route) = (clean(&deletion.calendar), clean(&deletion.route));
        out += &format!("  deleted in {place} by run {} of {route}, {at}\n", deletion.run);
    }
    out
}

fn story(one: &Telling, clock: &Clock, all: bool) -> String {
    let sign = if one.taken { style::paint(style::GOOD, "✓") } else { style::paint(style::WARN, "–") };
    let mut out = format!("\n  {sign} {}: {}\n", clean(&one.route), readable(&one.why));
    for behind in &one.left_behind {
        let start = behind.start.as_ref().map(|start| start_text(start, clock));
        out += &format!("    {}\n", style::paint(style::WARN, stays_behind(start.as_deref(), &behind.why)));
    }
    let shown = if all { one.places.len() } else { one.places.len().min(ENOUGH) };
    for place in &one.places[..shown] {
        out += &stands(one, place, clock, all);
    }
    if shown < one.places.len() {
        out += &format!("    … and {} more; -v names them all\n", one.places.len() - shown);
    }
    if let Some(trouble) = &one.trouble {
        out += &format!("    {}\n", style::paint(style::WARN, readable(trouble)));
    }
    for finding in &one.findings {
        out += &format!("    not in step in {}: {}\n", clean(&finding.calendar), readable(&finding.why));
        for line in difference_lines(&finding.differences, clock) {
            out += &format!("      {line}\n");
        }
    }
    if let Some(number) = one.held {
        let words = format!("    it waits for you: chestnut held shows it as number {number}");
        out += &format!("{}\n", style::paint(style::WARN, words));
        return out;
    }
    for next in &one.next {
        let place = next.calendar.as_deref().map(|name| format!(" in {}", clean(name))).unwrap_or_default();
        out += &format!("    next sync: {}{place}: {}\n", next.action, readable(&next.why));
    }
    if one.next.is_empty() {
        out += "    next sync: nothing to do\n";
    }
    out
}

fn stands(one: &Telling, place: &Place, clock: &Clock, all: bool) -> String {
    let is = match place.stands {
        Some(true) => part_words(place.is).1.to_owned(),
        Some(false) => style::paint(style::WARN, "it stood there, and is gone"),
        None => style::paint(style::WARN, "what stands there could not be read"),
    };
    let mut out = format!("    {:14} {is}", clean(&place.calendar));
    if place.title != one.title && !place.title.is_empty() && place.stands == Some(true) {
        out += &format!(", under the title {}", readable(&place.title));
    }
    if place.start != one.start && !place.start.is_empty() && place.stands == Some(true) {
        out += &format!(", at {}", start_text(&place.start, clock));
    }
    if let (Some(run), Some(since)) = (place.since_run, &place.since) {
        let at = since.parse::<Timestamp>().map(|at| day_and_time(at, clock)).unwrap_or_default();
        out += &style::paint(style::FAINT, format!("; last written by run {run}, {at}"));
    }
    out.push('\n');
    if all && place.is != Part::Own {
        let path = place.path.as_deref().unwrap_or("-");
        out +=
            &format!("    {:14} {}, UID {}\n", "", clean(path), clean(place.uid.as_deref().unwrap_or("-")));
    }
    out
}

/// What runs did, the newest first.
fn history(past: &[Past], clock: &Clock, all: bool) -> String {
    if past.is_empty() {
        return String::new();
    }
    let shown = if all { past.len() } else { past.len().min(LATELY) };
    let mut out = "\n  what runs did\n".to_owned();
    for one in &past[..shown] {
        let at = one.at.parse::<Timestamp>().map(|at| day_and_time(at, clock)).unwrap_or_default();
        out += &format!(
            "    run {:<5} {at}  {:9} in {}  {}\n",
            one.run,
            one.action,
            clean(&one.calendar),
            readable(&one.title)
        );
    }
    if shown < past.len() {
        out += &format!("    … and {} more; -v names them all\n", past.len() - shown);
    }
    out
}
