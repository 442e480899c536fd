//! Calendars, for people.

use std::collections::BTreeMap;

use crate::render::{Column, clean, count, style, table};
use crate::report::calendar_list::{AccountReport, CalendarReport, OtherReport, Report};
use crate::words::placed;

pub(crate) fn human(report: &Report) -> String {
    let section = |account: &AccountReport| {
        let name = style::paint(style::STRONG, &account.account);
        let head = format!("{name} at {}\n", clean(&account.url));
        match (&account.failure, account.calendars.is_empty()) {
            (Some(_), _) => format!("{head}  could not be asked; see below\n"),
            (None, true) => format!("{head}  no calendar yet\n"),
            (None, false) => head + &calendar_rows(&account.calendars),
        }
    };
    let mut sections: Vec<_> = report.accounts.iter().map(section).collect();
    if !report.others.is_empty() {
        sections.push(others_table(&report.others));
    }
    let mut out = sections.join("\n");
    let on_servers = report.accounts.iter().flat_map(|a| &a.calendars).map(|c| c.routes.is_empty());
    let uncovered =
        on_servers.chain(report.others.iter().map(|c| c.routes.is_empty())).filter(|is| *is).count();
    if uncovered > 0 {
        let calendars = count(uncovered, "calendar has", "calendars have");
        let them = if uncovered == 1 { "it" } else { "them" };
        out += &format!("\n{calendars} no route; nothing in {them} is copied.\n");
    }
    out
}

pub(crate) fn others_table(others: &[OtherReport]) -> String {
    let columns = [
        ("Called here", Column::Name),
        ("Is", Column::Whole),
        ("Where", Column::Whole),
        ("Rights", Column::Whole),
        ("Routes", Column::Prose),
    ];
    let row = |c: &OtherReport| {
        vec![clean(&c.name), placed(c.kind), clean(&c.place), c.rights.to_owned(), routes_cell(&c.routes)]
    };
    let heading = style::paint(style::STRONG, "Feeds, files and folders");
    format!("{heading}\n{}", table(&columns, &others.iter().map(row).collect::<Vec<_>>()))
}

/// The table that `account test` and `calendar list` share.
pub(crate) fn calendar_rows(calendars: &[CalendarReport]) -> String {
    let counted = calendars.iter().any(|c| c.entries.is_some());
    let mut columns = vec![
        ("Name", Column::Name),
        ("Path", Column::Whole),
        ("Colour", Column::Whole),
        (if counted { "Entries" } else { "Takes" }, Column::Whole),
        ("Rights", Column::Whole),
        ("Called here", Column::Name),
        ("Routes", Column::Prose),
    ];
    let colored = calendars.iter().any(|c| c.color.is_some());
    if !colored {
        columns.remove(2);
    }
    let row = |c: &CalendarReport| {
        let shared = if c.shared { ", shared" } else { "" };
        let mut row = vec![
            clean(&c.name),
            clean(&c.path),
            swatch(c.color.as_ref()),
            if counted { entries_text(c) } else { c.kinds.join(", ") },
            format!("{}{shared}", c.rights),
            if c.configured_as.is_empty() { "-".to_owned() } else { clean(&c.configured_as.join(", ")) },
            routes_cell(&c.routes),
        ];
        if !colored {
            row.remove(2);
        }
        row
    };
    table(&columns, &calendars.iter().map(row).collect::<Vec<_>>())
}

pub(crate) fn routes_cell(routes: &[String]) -> String {
    match routes {
        [] => style::paint(style::WARN, "none"),
        [first, rest @ ..] if rest.len() > 1 => clean(&format!("{first} and {} more", rest.len())),
        routes => clean(&routes.join(", ")),
    }
}

/// A patch of a calendar's colour, on terminals that can.
pub(crate) fn swatch(color: Option<&String>) -> String {
    let Some(color) = color else { return String::new() };
    let part = |at: usize| u8::from_str_radix(color.get(at..at + 2).unwrap_or_default(), 16).unwrap_or(0);
    let paint = anstyle::Style::new().bg_color(Some(anstyle::RgbColor(part(1), part(3), part(5)).into()));
    format!("{} {color}", style::paint(paint, "  "))
}

/// `152 events, 0 tasks`: what it takes shows even where there is none; journals are rare.
pub(crate) fn entries_text(calendar: &CalendarReport) -> String {
    calendar.entries.as_ref().map_or_else(|| "not told".to_owned(), entries_words)
}

/// Counts by kind, in words.
pub(crate) fn entries_words(entries: &BTreeMap<&'static str, usize>) -> String {
    let one = |(word, number): (&&'static str, &usize)| match *word {
        "entries" => count(*number, "entry", "entries"),
        word => count(*number, word.trim_end_matches('s'), word),
    };
    let told = entries.iter().filter(|(word, number)| **number > 0 || **word != "journals");
    told.map(one).collect::<Vec<_>>().join(", ")
}
