//! What waits for a person, for that person.

use jiff::civil::Date;

use crate::render::{
    Clock, Column, clean, count, day_and_time, readable, start_day, start_text, style, table, typed,
    zone_name,
};
use crate::report::held::{Deletion, Field, Held, Report};
use crate::words::{CHANGED, all_alike, field_word, of_occurrence, value_words};

/// Deletions that are named without `-v`.
const ENOUGH: usize = 12;
/// More than so many of one title are told together.
const ALIKE: usize = 3;

pub(crate) fn human(report: &Report, clock: &Clock, all: bool) -> String {
    if report.held.is_empty() {
        return "nothing needs a decision\n".to_owned();
    }
    let items = report.held.iter().map(|item| one(item, clock, all) + &what_to_do(item));
    format!("times in {}\n{}", zone_name(clock), items.collect::<String>())
}

/// What it is about.
fn one(item: &Held, clock: &Clock, all: bool) -> String {
    let number = style::paint(style::STRONG, format!("{}", item.number));
    let route = clean(&item.route);
    let mut out = match item.kind.as_str() {
        "deletions" => {
            let deletions = count(item.entries.len(), "deletion", "deletions");
            format!("\n{number}  {route}: {deletions}\n") + &deletion_lines(&item.entries, clock, all)
        }
        kind => {
            let start = start_text(&item.start, clock);
            let title = readable(&item.title);
            let head = match kind {
                "mail" => format!("\n{number}  {route}: {title}, {start}\n   {}\n", would_do(item)),
                _ => format!("\n{number}  {route}: calendars disagree about {title}, {start}\n"),
            };
            head + &field_lines(item, clock)
        }
    };
    if let Some(note) = &item.note {
        out += &format!("   note: {}\n", clean(note));
    }
    out
}

/// How it is answered, or what its answer does.
fn what_to_do(item: &Held) -> String {
    let number = item.number;
    match &item.decision {
        Some(choice) => {
            let effect = effect(&item.kind, choice);
            format!(
                "   decided: {effect}; the next sync does it (take it back: chestnut decide {number} undo)\n"
            )
        }
        None => {
            let choices: Vec<_> = item.choices.iter().map(|choice| clean(choice)).collect();
            format!("   decide: chestnut decide {number} {}\n", choices.join("|"))
        }
    }
}

pub(crate) fn deletion_lines(entries: &[Deletion], clock: &Clock, all: bool) -> String {
    let is_alike = |a: &Deletion, b: &Deletion| a.title == b.title && a.calendar == b.calendar;
    if let [first, .., last] = entries
        && !all
        && entries.len() > ALIKE
        && entries.iter().all(|entry| is_alike(entry, first))
    {
        // Twelve times "Busy" say less than from when to when.
        return all_alike(
            &clean(&first.calendar),
            &readable(&first.title),
            entries.len(),
            [start_text(&first.start, clock), start_text(&last.start, clock)],
            &days_text(entries.iter().filter_map(|entry| start_day(&entry.start, clock)), clock),
        );
    }
    let shown = if all { entries.len() } else { entries.len().min(ENOUGH) };
    let columns = [("In", Column::Name), ("Starts", Column::Day), ("Title", Column::Text)];
    let row = |e: &Deletion| vec![clean(&e.calendar), start_text(&e.start, clock), readable(&e.title)];
    let mut out = table(&columns, &entries[..shown].iter().map(row).collect::<Vec<_>>());
    if shown < entries.len() {
        out += &format!("  … and {} more; -v names them all\n", entries.len() - shown);
    }
    out
}

/// `27 (3), 28 Nov; 1, 2 Dec`: each day once, with how often it is meant, by months.
fn days_text(days: impl Iterator<Item = Date>, clock: &Clock) -> String {
    let mut days: Vec<Date> = days.collect();
    days.sort_unstable();
    let months = days.chunk_by(|a, b| a.first_of_month() == b.first_of_month()).map(|of_month| {
        let one = |same: &[Date]| match same.len() {
            1 => same[0].day().to_string(),
            many => format!("{} ({many})", same[0].day()),
        };
        let numbers: Vec<_> = of_month.chunk_by(|a, b| a == b).map(one).collect();
        let month = of_month[0].strftime(if clock.is_near(of_month[0]) { "%b" } else { "%b %Y" });
        format!("{} {month}", numbers.join(", "))
    });
    months.collect::<Vec<_>>().join("; ")
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
pub(crate) fn field_lines(item: &Held, clock: &Clock) -> String {
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
        let name = field_word(&field.field) + &of_occurrence(&field.occurrence, clock);
        let value = |calendar: &&String| {
            let found = field.values.iter().find(|value| value.calendar == **calendar);
            found.map(|value| readable(&value_words(&field.field, &value.value, clock))).unwrap_or_default()
        };
        let agreed = match field.agreed.as_str() {
            "" => String::new(),
            agreed => readable(&value_words(&field.field, agreed, clock)),
        };
        let mut row = vec![name, agreed];
        row.extend(calendars.iter().map(value));
        row
    };
    let mut rows: Vec<_> = item.fields.iter().map(row).collect();
    if !item.changed.is_empty() {
        let at = |calendar: &&String| {
            let found = item.changed.iter().find(|one| one.calendar == **calendar);
            let at = found.and_then(|one| one.value.parse().ok());
            at.map(|at| day_and_time(at, clock)).unwrap_or_default()
        };
        rows.push([CHANGED.to_owned(), String::new()].into_iter().chain(calendars.iter().map(at)).collect());
    }
    table(&columns, &rows)
}

/// One question, and what each answer to it does.
pub(crate) fn with_answers(item: &Held, clock: &Clock, all: bool) -> String {
    let mut out = format!("times in {}\n{}", zone_name(clock), one(item, clock, all));
    let columns = [("Answer", Column::Name), ("What the next sync does", Column::Prose)];
    let row = |choice: &String| vec![clean(choice), effect(&item.kind, choice)];
    out.push('\n');
    out += &table(&columns, &item.choices.iter().map(row).collect::<Vec<_>>());
    out
}

fn effect(kind: &str, choice: &str) -> String {
    match (kind, choice) {
        ("deletions", "delete") => "these entries will be deleted".to_owned(),
        ("deletions", _) => "these entries will stay, and be left alone from then on".to_owned(),
        ("mail", "send") => "it will be done, and the server may write to people".to_owned(),
        ("mail", _) => "it stays there as it is, until something else changes".to_owned(),
        (_, "newest") => "the newest text will count".to_owned(),
        (_, "both") => "the newest text will count, and the other one will be an entry of its own".to_owned(),
        (_, choice) => format!("what {} says will count", clean(choice)),
    }
}

/// What an answer will do.
pub(crate) fn decided(item: &Held, route: &str) -> String {
    let effect = effect(&item.kind, item.decision.as_deref().unwrap_or_default());
    format!(
        "number {0}: {effect}\n  do it now: chestnut sync {typed}\n  take the answer back: chestnut decide {0} undo\n",
        item.number,
        typed = typed(route)
    )
}
