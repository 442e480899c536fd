//! Telling what a server made of a text from what somebody did to it.

use std::collections::BTreeSet;

use crate::entry::Entry;
use crate::merge::{Fields, Key, Said, TIME_FIELD, is_part, is_split, occurrences_of, rewritten};
use crate::values::{TIMES, TimeValue, parse_time};

/// What is known of a server that rewrites what it stores, besides what many do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Habits {
    /// Properties that it was seen to change in several entries.
    pub changes: BTreeSet<String>,
    /// Whether a property that is missing may be its doing. Where nobody knows that this text was ever sent, one side
    /// simply says more.
    pub may_cut: bool,
}

impl Default for Habits {
    fn default() -> Self {
        Self { changes: BTreeSet::new(), may_cut: true }
    }
}

/// What came of [`undo_habits`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undone {
    /// Somebody edited it: there is more to it than the server's doing.
    pub is_edited: bool,
    /// What stood there before that edit: the text as it came back, with the edit taken out.
    pub stood: Entry,
    /// The properties that the server changed.
    pub changed: BTreeSet<String>,
}

/// Compares what was sent with what came back, field by field: what a known rewriting explains is the server's doing,
/// the rest is an edit.
#[must_use]
pub fn undo_habits(sent: &Entry, back: &Entry, habits: &Habits) -> Undone {
    let anchored = anchor_of(sent, back).map(|anchor| anchored(sent, &anchor));
    let mut changed = BTreeSet::new();
    if anchored.is_some() {
        changed.insert("DTSTART".to_owned());
    }
    let was = occurrences_of(anchored.as_ref().unwrap_or(sent));
    let now = occurrences_of(back);
    let mut stood = now.clone();
    let mut is_edited = false;
    for (id, (name, fields)) in &was {
        match now.get(id) {
            None => {
                is_edited = true;
                stood.insert(id.clone(), (name.clone(), fields.clone()));
            }
            Some((_, own)) => {
                let keys: BTreeSet<&Key> = fields.keys().chain(own.keys()).collect();
                for key in keys {
                    let (sent, back) = (fields.get(key), own.get(key));
                    if sent.map(|s| &s.0) == back.map(|s| &s.0) {
                        continue;
                    }
                    if is_explained(key, (sent, fields), (back, own), habits) {
                        changed.insert(key.1.clone());
                        continue;
                    }
                    is_edited = true;
                    let Some((_, fields)) = stood.get_mut(id) else { continue };
                    match sent {
                        Some(sent) => drop(fields.insert(key.clone(), sent.clone())),
                        None => drop(fields.remove(key)),
                    }
                }
            }
        }
    }
    for id in now.keys().filter(|id| !was.contains_key(*id)) {
        is_edited = true;
        stood.remove(id);
    }
    let stood = if is_edited { rewritten(back, &stood, sent) } else { back.clone() };
    Undone { is_edited, stood, changed }
}

/// Tells whether a text that stands in a calendar shows that another one was written there over `before`, whoever edited
/// it since: something that was new in what was sent is in it. An edit of just that leaves nothing that shows it.
#[must_use]
pub fn shows_write(before: &Entry, sent: &Entry, now: &Entry, habits: &Habits) -> bool {
    let (was, meant, stands) = (occurrences_of(before), occurrences_of(sent), occurrences_of(now));
    let ids: BTreeSet<_> = was.keys().chain(meant.keys()).collect();
    ids.into_iter().any(|id| match (was.get(id), meant.get(id), stands.get(id)) {
        (None, Some(_), now) => now.is_some(),
        (Some(_), None, now) => now.is_none(),
        (Some((_, was)), Some((_, meant)), Some((_, stands))) => {
            let said = |fields: &Fields, key: &Key| fields.get(key).map(|said| said.0.clone());
            let keys: BTreeSet<&Key> = was.keys().chain(meant.keys()).collect();
            let mut news = keys.into_iter().filter(|key| said(was, key) != said(meant, key));
            news.any(|key| {
                let is_new = said(stands, key) != said(was, key);
                let is_same = said(stands, key) == said(meant, key);
                is_new
                    && (is_same
                        || is_explained(key, (meant.get(key), meant), (stands.get(key), stands), habits))
            })
        }
        (_, _, None) | (None, None, _) => false,
    })
}

fn is_explained(
    key: &Key,
    (sent, all_sent): (Option<&Said>, &Fields),
    (back, all_back): (Option<&Said>, &Fields),
    habits: &Habits,
) -> bool {
    if habits.changes.contains(&key.1) {
        return true;
    }
    match (sent, back) {
        (Some(_), None) if is_split(key, all_back) => true,
        (None, Some(_)) if is_part(key, all_sent, all_back) => true,
        // A property that is not kept at all; of a list that is kept, somebody took an element out.
        (Some(_), None) => habits.may_cut && !all_back.keys().any(|other| other.1 == key.1),
        (None, Some(back)) => key.1 == "SEQUENCE" && number(&back.0).is_some(),
        (Some(sent), Some(back)) => match key.1.as_str() {
            "SEQUENCE" => number(&back.0) > number(&sent.0),
            "GEO" => same_place(&sent.0, &back.0),
            TIME_FIELD if gains_an_hour(&sent.0, &back.0) => true,
            _ => without_blanks(&sent.0) == without_blanks(&back.0),
        },
        (None, None) => true,
    }
}

fn number(said: &str) -> Option<i64> {
    said.trim().parse().ok()
}

fn without_blanks(said: &str) -> String {
    said.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Fewer digits of the same place.
fn same_place(a: &str, b: &str) -> bool {
    let numbers =
        |said: &str| -> Vec<f64> { said.split(';').filter_map(|n| n.trim().parse().ok()).collect() };
    let (a, b) = (numbers(a), numbers(b));
    a.len() == 2 && b.len() == 2 && a.iter().zip(&b).all(|(a, b)| (a - b).abs() < 0.02)
}

/// An event without an end came back with one: an hour after it starts.
fn gains_an_hour(sent: &str, back: &str) -> bool {
    let part = |said: &str, name: &str| {
        said.trim().split(';').find_map(|part| Some(part.strip_prefix(name)?.to_owned()))
    };
    let parts = (part(sent, "DTSTART="), part(sent, "DTEND="), part(back, "DTEND="));
    let (Some(start), Some(end), Some(given)) = parts else { return false };
    // The end as it would be, in the words of the start: its zone stands behind it.
    let (at, zone) = start.split_at(start.find(' ').unwrap_or(start.len()));
    let hour_later = match parse_time(at) {
        Some(TimeValue::Local(at)) => {
            TimeValue::Local(at.saturating_add(jiff::SignedDuration::from_hours(1)))
        }
        Some(TimeValue::Utc(at)) => TimeValue::Utc(at.saturating_add(jiff::SignedDuration::from_hours(1))),
        Some(TimeValue::Date(_)) | None => return false,
    };
    let without = |said: &str, end: &str| said.replacen(&format!("DTEND={end};"), "", 1);
    start == end && given == format!("{hour_later}{zone}") && without(sent, &end) == without(back, &given)
}

/// What floating times came back as.
enum Anchor {
    /// Instants, so many seconds earlier.
    Utc(i64),
    /// The same times, in this zone.
    Zone(String),
}

fn anchor_of(sent: &Entry, back: &Entry) -> Option<Anchor> {
    let start = |entry: &Entry| {
        let property = entry.main_component().property("DTSTART")?.clone();
        let zone = property.param("TZID").map(|zone| zone.into_owned());
        Some((parse_time(property.value())?, zone))
    };
    match (start(sent)?, start(back)?) {
        ((TimeValue::Local(sent), None), (TimeValue::Utc(back), _)) => {
            let shift = sent.duration_since(back).as_secs();
            (shift.abs() <= 15 * 3600 && shift % 900 == 0).then_some(Anchor::Utc(shift))
        }
        ((TimeValue::Local(sent), None), (TimeValue::Local(back), Some(zone))) => {
            (sent == back).then_some(Anchor::Zone(zone))
        }
        _ => None,
    }
}

/// The entry with its floating times as these came back.
fn anchored(entry: &Entry, anchor: &Anchor) -> Entry {
    let mut object = entry.object().clone();
    for component in object.components_mut() {
        component.map_properties(&mut |p| {
            let is_floating = |value: &str| matches!(parse_time(value), Some(TimeValue::Local(_)));
            if !TIMES.iter().any(|name| p.is(name)) || p.param("TZID").is_some() {
                return None;
            }
            let moved = |value: &str| match (anchor, parse_time(value)) {
                (Anchor::Utc(shift), Some(TimeValue::Local(at))) => {
                    let at = at.saturating_sub(jiff::SignedDuration::from_secs(*shift));
                    TimeValue::Utc(at).to_string()
                }
                _ => value.to_owned(),
            };
            let values: Vec<_> = p.value().split(',').map(moved).collect();
            let moved = p.with_value(&values.join(","));
            Some(match anchor {
                Anchor::Zone(zone) if p.value().split(',').all(is_floating) => moved.with_param("TZID", zone),
                _ => moved,
            })
        });
    }
    Entry::from_object(object).unwrap_or_else(|_| entry.clone())
}
