//! `chestnut held` and `chestnut decide`: what waits for a person, and their answer.

use chestnut_core::ical::Limits;
use chestnut_core::{Entry, FieldDifference};
use chestnut_store::HeldItem;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use super::{load, look_at_state, open_state, show};
use crate::args::Common;
use crate::error_report::Failure;
use crate::exit_code::ExitCode;
use crate::render::{Align, clean, count, shorten, start_text, style, table, zone_name};
use crate::run::Io;
use crate::settings::Settings;

#[derive(Debug, Serialize)]
struct Report {
    held: Vec<Held>,
}

#[derive(Debug, Serialize)]
struct Held {
    number: i64,
    route: String,
    kind: String,
    since: String,
    title: String,
    start: String,
    /// What `decide` takes.
    choices: Vec<String>,
    decision: Option<String>,
    /// Deletions: the entries that would go.
    entries: Vec<Deletion>,
    /// Disagreements: what the calendars say differently.
    fields: Vec<Field>,
}

#[derive(Debug, Serialize, Deserialize)]
struct Deletion {
    calendar: String,
    title: String,
    start: String,
}

#[derive(Debug, Serialize)]
struct Field {
    field: String,
    /// The RECURRENCE-ID of an occurrence; empty for the series.
    occurrence: String,
    agreed: String,
    values: Vec<Value>,
}

#[derive(Debug, Serialize)]
struct Value {
    calendar: String,
    value: String,
}

/// What the engine wrote down.
#[derive(Debug, Deserialize)]
struct Details {
    kind: String,
    #[serde(default)]
    entries: Vec<Deletion>,
    agreed: Option<String>,
    #[serde(default)]
    sides: Vec<Side>,
}

#[derive(Debug, Deserialize)]
struct Side {
    calendar: String,
    text: Option<String>,
}

/// Deletions that are shown without `-v`.
const ENOUGH: usize = 12;

pub(super) fn run(common: &Common, io: &mut Io<'_>) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = look_at_state(common, &settings)?;
    let held = store.held(None)?.into_iter().map(held).collect::<Result<Vec<_>, _>>()?;
    let report = Report { held };
    let all = common.verbose > 0;
    show(common, io, &report, || human(&report, &settings.zone, all))?;
    let waiting = report.held.iter().any(|item| item.decision.is_none());
    Ok(if waiting { ExitCode::Waiting } else { ExitCode::Ok })
}

/// Writes a person's answer down; the next sync acts on it.
pub(super) fn decide(
    number: i64,
    choice: &str,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let store = open_state(common, &settings)?;
    let found = store.held(None)?.into_iter().find(|item| item.id == number);
    let Some(item) = found else {
        return Err(Failure::usage(format!("nothing with the number {number} waits for a person"))
            .hint("`chestnut held` lists what does."));
    };
    let item = held(item)?;
    if !item.choices.iter().any(|one| one == choice) {
        return Err(Failure::usage(format!("{choice:?} is no answer to number {number}"))
            .hint(format!("Answers are: {}.", item.choices.join(", "))));
    }
    store.write(|writer| writer.decide(number, choice))?;
    let report = Report { held: vec![Held { decision: Some(choice.to_owned()), ..item }] };
    let route = clean(route_of(&settings, &report.held[0].route));
    show(common, io, &report, || {
        format!("number {number}: {}\n  do it now: chestnut sync {route}\n", effect(&report.held[0]))
    })?;
    Ok(ExitCode::Ok)
}

/// The name to type for a route, or for a part of one.
fn route_of<'n>(settings: &'n Settings, name: &'n str) -> &'n str {
    let part_of = settings.routes.get(name).and_then(|route| route.part_of.as_deref());
    part_of.unwrap_or(name)
}

fn effect(item: &Held) -> String {
    match (item.kind.as_str(), item.decision.as_deref()) {
        ("deletions", Some("delete")) => "these entries will be deleted".to_owned(),
        ("deletions", _) => "these entries will stay, and be left alone from then on".to_owned(),
        (_, Some("newest")) => "the newest text will count".to_owned(),
        (_, Some("both")) => {
            "the newest text will count, and the other one will be an entry of its own".to_owned()
        }
        (_, choice) => format!("what {} says will count", clean(choice.unwrap_or_default())),
    }
}

fn held(item: HeldItem) -> Result<Held, Failure> {
    let mut details: Details = serde_json::from_str(&item.details).map_err(|e| {
        Failure::failed(format!("the state says of number {} what is not understood: {e}", item.id))
    })?;
    details.entries.sort_by(|a, b| (&a.start, &a.title).cmp(&(&b.start, &b.title)));
    let is_deletion = details.kind == "deletions";
    let choices = match is_deletion {
        true => vec!["delete".to_owned(), "keep".to_owned()],
        false => {
            let calendars = details.sides.iter().map(|side| side.calendar.clone());
            calendars.chain(["both".to_owned(), "newest".to_owned()]).collect()
        }
    };
    Ok(Held {
        number: item.id,
        route: item.route,
        fields: fields(&details),
        kind: details.kind,
        since: Timestamp::from_second(item.since).unwrap_or_default().to_string(),
        title: item.title,
        start: item.start,
        choices,
        decision: item.decision,
        entries: details.entries,
    })
}

/// What any calendar says differently from what was agreed, field by field.
fn fields(details: &Details) -> Vec<Field> {
    let read = |text: &String| Entry::parse(text, &Limits::default()).ok().map(|entry| entry.meaning());
    let sides: Vec<_> =
        details.sides.iter().filter_map(|side| Some((side, side.text.as_ref().and_then(read)?))).collect();
    let agreed = details.agreed.as_ref().and_then(read);
    let mut fields: Vec<Field> = Vec::new();
    // Where nothing was agreed yet, the first calendar is what the others are compared with.
    let (reference, from) = match (&agreed, sides.first()) {
        (Some(agreed), _) => (agreed, None),
        (None, Some((first, said))) => (said, Some(&first.calendar)),
        (None, None) => return fields,
    };
    for (side, now) in &sides {
        for FieldDifference { occurrence, field, first, second } in reference.differences(now) {
            let value = Value { calendar: side.calendar.clone(), value: second.join(" | ") };
            let known = fields
                .iter_mut()
                .find(|known| known.field == field && known.occurrence == occurrence.recurrence_id);
            match known {
                Some(known) => known.values.push(value),
                None => {
                    let first = first.join(" | ");
                    let own = from.map(|name| Value { calendar: name.clone(), value: first.clone() });
                    fields.push(Field {
                        field,
                        occurrence: occurrence.recurrence_id,
                        agreed: if from.is_some() { String::new() } else { first },
                        values: own.into_iter().chain([value]).collect(),
                    });
                }
            }
        }
    }
    fields
}

fn human(report: &Report, zone: &TimeZone, all: bool) -> String {
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
            _ => {
                let start = start_text(&item.start, zone);
                let title = shorten(&item.title, 60);
                out += &format!("\n{number}  {route}: calendars disagree about {title}, {start}\n");
                out += &field_lines(item);
            }
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

fn deletion_lines(entries: &[Deletion], zone: &TimeZone, all: bool) -> String {
    let shown = if all { entries.len() } else { entries.len().min(ENOUGH) };
    let columns = [("In", Align::Left), ("Starts", Align::Left), ("Title", Align::Left)];
    let row = |e: &Deletion| vec![clean(&e.calendar), start_text(&e.start, zone), shorten(&e.title, 60)];
    let mut out = table(&columns, &entries[..shown].iter().map(row).collect::<Vec<_>>());
    if shown < entries.len() {
        out += &format!("  … and {} more; -v names them all\n", entries.len() - shown);
    }
    out
}

/// Side by side: what was agreed, and what each calendar says now; empty where it says what was agreed.
fn field_lines(item: &Held) -> String {
    let calendars: Vec<&String> =
        item.choices.iter().filter(|choice| !matches!(choice.as_str(), "both" | "newest")).collect();
    let mut columns = vec![("Field", Align::Left), ("Agreed", Align::Left)];
    columns.extend(calendars.iter().map(|name| (name.as_str(), Align::Left)));
    let row = |field: &Field| {
        let name = match field.occurrence.as_str() {
            "" => clean(&field.field),
            occurrence => format!("{} of {}", clean(&field.field), clean(occurrence)),
        };
        let value = |calendar: &&String| {
            let found = field.values.iter().find(|value| value.calendar == **calendar);
            found.map(|value| shorten(&value.value, 30)).unwrap_or_default()
        };
        let mut row = vec![name, shorten(&field.agreed, 30)];
        row.extend(calendars.iter().map(value));
        row
    };
    table(&columns, &item.fields.iter().map(row).collect::<Vec<_>>())
}
