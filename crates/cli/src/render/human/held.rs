//! What waits for a person, for that person.

use jiff::tz::TimeZone;

use crate::render::{Column, clean, count, readable, start_text, style, table, zone_name};
use crate::report::held::{Deletion, Field, Held, Report};

/// Deletions that are named without `-v`.
const ENOUGH: usize = 12;

pub(crate) fn human(report: &Report, zone: &TimeZone, all: bool) -> String {
    if report.held.is_empty() {
        return "nothing waits for a person\n".to_owned();
    }
    let mut out = format!("times in {}\n", zone_name(zone));
    for item in &report.held {
        let number = style::paint(style::STRONG, format!("{}", item.number));
        let route = clean(&item.route);
        match item.kind.as_str() {
            "deletions" => {
                let deletions = count(item.entries.len(), "deletion", "deletions");
                out += &format!("\n{number}  {route}: {deletions}\n");
                out += &deletion_lines(&item.entries, zone, all);
            }
            kind => {
                let start = start_text(&item.start, zone);
                let title = readable(&item.title);
                out += &match kind {
                    "mail" => format!("\n{number}  {route}: {title}, {start}\n   {}\n", would_do(item)),
                    _ => format!("\n{number}  {route}: calendars disagree about {title}, {start}\n"),
                };
                out += &field_lines(item);
            }
        }
        if let Some(note) = &item.note {
            out += &format!("   note: {}\n", clean(note));
        }
        match &item.decision {
            Some(_) => out += &format!("   decided: {}; the next sync does it\n", effect(item)),
            None => {
                let choices: Vec<_> = item.choices.iter().map(|choice| clean(choice)).collect();
                out += &format!("   decide: chestnut decide {} {}\n", item.number, choices.join("|"));
            }
        }
    }
    out
}

pub(crate) fn deletion_lines(entries: &[Deletion], zone: &TimeZone, all: bool) -> String {
    let shown = if all { entries.len() } else { entries.len().min(ENOUGH) };
    let columns = [("In", Column::Name), ("Starts", Column::Whole), ("Title", Column::Text)];
    let row = |e: &Deletion| vec![clean(&e.calendar), start_text(&e.start, zone), readable(&e.title)];
    let mut out = table(&columns, &entries[..shown].iter().map(row).collect::<Vec<_>>());
    if shown < entries.len() {
        out += &format!("  … and {} more; -v names them all\n", entries.len() - shown);
    }
    out
}

/// What would be done, and why it waits.
fn would_do(item: &Held) -> String {
    let places = |action: &str| {
        let of = item.mail.iter().filter(|mail| mail.action == action);
        of.map(|mail| clean(&mail.calendar)).collect::<Vec<_>>().join(", ")
    };
    let done = [("changing it in", places("update")), ("deleting it from", places("delete"))];
    let done: Vec<_> =
        done.into_iter().filter(|(_, at)| !at.is_empty()).map(|(what, at)| format!("{what} {at}")).collect();
    format!("{} could make the server write to people", done.join(" and "))
}

/// Side by side: what was agreed, and what each calendar says now, or would say; empty where it says what was agreed.
pub(crate) fn field_lines(item: &Held) -> String {
    let is_mail = item.kind == "mail";
    let mut calendars: Vec<&String> = match is_mail {
        true => item.mail.iter().filter(|mail| mail.action == "update").map(|mail| &mail.calendar).collect(),
        false => item.choices.iter().filter(|choice| !matches!(choice.as_str(), "both" | "newest")).collect(),
    };
    calendars.dedup();
    if calendars.is_empty() {
        return String::new();
    }
    let heads =
        calendars.iter().map(|name| if is_mail { format!("Then in {name}") } else { (*name).clone() });
    let heads: Vec<_> = heads.collect();
    let mut columns = vec![("Field", Column::Whole), (if is_mail { "Now" } else { "Agreed" }, Column::Text)];
    columns.extend(heads.iter().map(|head| (head.as_str(), Column::Text)));
    let row = |field: &Field| {
        let name = match field.occurrence.as_str() {
            "" => clean(&field.field),
            occurrence => format!("{} of {}", clean(&field.field), clean(occurrence)),
        };
        let value = |calendar: &&String| {
            let found = field.values.iter().find(|value| value.calendar == **calendar);
            found.map(|value| readable(&value.value)).unwrap_or_default()
        };
        let mut row = vec![name, readable(&field.agreed)];
        row.extend(calendars.iter().map(value));
        row
    };
    table(&columns, &item.fields.iter().map(row).collect::<Vec<_>>())
}

pub(crate) fn effect(item: &Held) -> String {
    match (item.kind.as_str(), item.decision.as_deref()) {
        ("deletions", Some("delete")) => "these entries will be deleted".to_owned(),
        ("deletions", _) => "these entries will stay, and be left alone from then on".to_owned(),
        ("mail", Some("send")) => "it will be done, and the server may write to people".to_owned(),
        ("mail", _) => "it stays there as it is, until something else changes".to_owned(),
        (_, Some("newest")) => "the newest text will count".to_owned(),
        (_, Some("both")) => {
            "the newest text will count, and the other one will be an entry of its own".to_owned()
        }
        (_, choice) => format!("what {} says will count", clean(choice.unwrap_or_default())),
    }
}

/// What an answer will do.
pub(crate) fn decided(item: &Held, route: &str) -> String {
    format!("number {}: {}\n  do it now: chestnut sync {route}\n", item.number, effect(item))
}
