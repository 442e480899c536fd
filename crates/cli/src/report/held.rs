//! What `held` reports: what waits for a person.

use chestnut_core::ical::Limits;
use chestnut_core::{Entry, FieldDifference, last_changed};
use chestnut_engine::SideText;
use chestnut_store::HeldItem;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use serde::{Deserialize, Serialize};

use crate::failure::Failure;
use crate::words::{field_order, not_understood};

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Report {
    pub(crate) held: Vec<Held>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Held {
    pub(crate) number: i64,
    pub(crate) route: String,
    pub(crate) kind: String,
    pub(crate) since: String,
    pub(crate) title: String,
    pub(crate) start: String,
    /// What `decide` takes.
    pub(crate) choices: Vec<String>,
    pub(crate) decision: Option<String>,
    /// Deletions: the entries that would go.
    pub(crate) entries: Vec<Deletion>,
    /// Disagreements: what the calendars say differently. Of what could send mail: what would be changed.
    pub(crate) fields: Vec<Field>,
    /// Disagreements: when each calendar's text was last changed, as it says (LAST-MODIFIED, else DTSTAMP).
    pub(crate) changed: Vec<Value>,
    /// What could send mail: where what would be done.
    pub(crate) mail: Vec<Mail>,
    /// What the configuration says that people should know of the route.
    pub(crate) note: Option<String>,
    /// The whole texts, for whom they fit.
    #[serde(skip)]
    pub(crate) texts: Vec<Value>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Mail {
    pub(crate) calendar: String,
    /// `update` or `delete`.
    pub(crate) action: &'static str,
}

#[derive(Debug, Serialize, Deserialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Deletion {
    pub(crate) calendar: String,
    pub(crate) title: String,
    pub(crate) start: String,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Field {
    pub(crate) field: String,
    /// The RECURRENCE-ID of an occurrence; empty for the series.
    pub(crate) occurrence: String,
    pub(crate) agreed: String,
    pub(crate) values: Vec<Value>,
}

#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub(crate) struct Value {
    pub(crate) calendar: String,
    pub(crate) value: String,
}

/// What the engine wrote down.
#[derive(Debug, Deserialize)]
pub(crate) struct Details {
    pub(crate) kind: String,
    #[serde(default)]
    pub(crate) entries: Vec<Deletion>,
    pub(crate) agreed: Option<String>,
    #[serde(default)]
    pub(crate) sides: Vec<Side>,
    #[serde(default)]
    pub(crate) changes: Vec<MailChange>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct MailChange {
    pub(crate) calendar: String,
    pub(crate) before: Option<String>,
    pub(crate) after: Option<String>,
}

#[derive(Debug, Deserialize)]
pub(crate) struct Side {
    pub(crate) calendar: String,
    pub(crate) text: Option<String>,
}

pub(crate) fn held(item: HeldItem) -> Result<Held, Failure> {
    let mut details: Details =
        serde_json::from_str(&item.details).map_err(|e| not_understood(item.id, &e))?;
    details.entries.sort_by(|a, b| (&a.start, &a.title).cmp(&(&b.start, &b.title)));
    let choices = match details.kind.as_str() {
        "deletions" => vec!["delete".to_owned(), "keep".to_owned()],
        "mail" => vec!["send".to_owned(), "leave".to_owned()],
        _ => {
            let calendars = details.sides.iter().map(|side| side.calendar.clone());
            calendars.chain(["both".to_owned(), "newest".to_owned()]).collect()
        }
    };
    let mail = |change: &MailChange| Mail {
        calendar: change.calendar.clone(),
        action: if change.after.is_some() { "update" } else { "delete" },
    };
    Ok(Held {
        number: item.id,
        route: item.route,
        mail: details.changes.iter().map(mail).collect(),
        fields: fields(&details),
        texts: texts(&details),
        changed: details.sides.iter().filter_map(changed).collect(),
        kind: details.kind,
        since: Timestamp::from_second(item.since).unwrap_or_default().to_string(),
        title: item.title,
        start: item.start,
        choices,
        decision: item.decision,
        note: None,
        entries: details.entries,
    })
}

/// When a calendar's text says that it was last changed.
fn changed(side: &Side) -> Option<Value> {
    let entry = Entry::parse(side.text.as_ref()?, &Limits::default()).ok()?;
    let at = last_changed(&entry).0?.to_zoned(TimeZone::UTC).ok()?.timestamp();
    Some(Value { calendar: side.calendar.clone(), value: at.to_string() })
}

/// The whole texts of what waits: as they stand in the calendars, or would stand there.
fn texts(details: &Details) -> Vec<Value> {
    let stand = details.sides.iter().map(|side| (&side.calendar, side.text.as_ref()));
    let would = details.changes.iter().map(|change| (&change.calendar, change.after.as_ref()));
    let text = |(calendar, text): (&String, Option<&String>)| {
        Some(Value { calendar: calendar.clone(), value: text?.clone() })
    };
    stand.chain(would).filter_map(text).collect()
}

/// What calendars say differently from what was agreed, or from each other.
pub(crate) fn disagreement(agreed: Option<&str>, sides: &[SideText]) -> Vec<Field> {
    let side = |side: &SideText| Side { calendar: side.calendar.clone(), text: side.text.clone() };
    fields(&Details {
        kind: String::new(),
        entries: Vec::new(),
        agreed: agreed.map(str::to_owned),
        sides: sides.iter().map(side).collect(),
        changes: Vec::new(),
    })
}

/// What any calendar says differently from what was agreed, field by field.
fn fields(details: &Details) -> Vec<Field> {
    let read = |text: &String| Entry::parse(text, &Limits::default()).ok().map(|entry| entry.meaning());
    // What would be changed is compared with what stands there.
    let said = details.sides.iter().map(|side| (&side.calendar, side.text.as_ref()));
    let changed = details.changes.iter().map(|change| (&change.calendar, change.after.as_ref()));
    let sides: Vec<_> =
        said.chain(changed).filter_map(|(calendar, text)| Some((calendar, text.and_then(read)?))).collect();
    let stands = details.changes.iter().find_map(|change| change.before.as_ref());
    let agreed = details.agreed.as_ref().or(stands).and_then(read);
    let mut fields: Vec<Field> = Vec::new();
    // Where nothing was agreed yet, the first calendar is what the others are compared with.
    let (reference, from) = match (&agreed, sides.first()) {
        (Some(agreed), _) => (agreed, None),
        (None, Some((first, said))) => (said, Some(*first)),
        (None, None) => return fields,
    };
    for (calendar, now) in &sides {
        for FieldDifference { occurrence, field, first, second } in reference.differences(now) {
            let value = Value { calendar: (*calendar).clone(), value: second.join(" | ") };
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
    fields.sort_by_key(|field| (field.occurrence.clone(), field_order(&field.field)));
    fields
}

/// How many changes wait, deletions one by one.
pub(crate) fn number_held(items: &[HeldItem]) -> usize {
    let number = |item: &HeldItem| match item.link {
        Some(_) => 1,
        None => serde_json::from_str::<Details>(&item.details).map_or(1, |details| details.entries.len()),
    };
    items.iter().filter(|item| item.decision.is_none()).map(number).sum()
}
