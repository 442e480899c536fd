//! Merging what several calendars made of one entry: property by property, occurrence by occurrence.
//!
//! Each side is compared with what it was when it was last agreed; what it changed since is laid over the agreed
//! text. Lists (categories, people, removed days, reminders) merge as sets. What two sides changed otherwise is a
//! [`Collision`], and one side's word counts.

use std::collections::{BTreeMap, BTreeSet};

use crate::canonical::{Zoner, occurrence_key};
use crate::entry::{Entry, Kind, described_zones, entry_components, entry_components_mut, zone_id, zone_ids};
use crate::ical::{Component, Item, Property};
use crate::values::{TimeValue, parse_time, split_list, unescape_text};

/// One side of a merge.
#[derive(Debug, Clone, Copy)]
pub struct MergeSide<'e> {
    /// What it was when it was last agreed; `None` where it never was.
    pub before: Option<&'e Entry>,
    /// What it is now.
    pub now: &'e Entry,
}

/// Something that sides changed to different things.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Collision {
    /// The RECURRENCE-ID of the occurrence; empty for the series.
    pub occurrence: String,
    /// The property, such as `LOCATION`; `time` for all that says when it is; `occurrence` for a whole one.
    pub field: String,
    /// The sides whose word does not count, by their number in the merge.
    pub losers: Vec<usize>,
}

/// What came of a merge.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Merged {
    /// All changes together, under the UID of the first side.
    pub entry: Entry,
    /// What did not go together.
    pub collisions: Vec<Collision>,
}

/// Names one thing that an entry says: the property, and for lists which element.
pub(crate) type Key = (&'static str, String, String);
/// What it says, for comparison, and as it is written.
pub(crate) type Said = (String, Vec<Item<'static>>);
/// An occurrence's component name and fields.
pub(crate) type Fields = BTreeMap<Key, Said>;
/// By RECURRENCE-ID.
pub(crate) type Occurrences = BTreeMap<String, (String, Fields)>;

/// What says when an entry is: these belong together, and collide as one.
const TIME: [&str; 6] = ["DTSTART", "DTEND", "DURATION", "DUE", "RRULE", "EXRULE"];
/// Who wrote it and when: the newest word counts, and never collides.
const BOOKKEEPING: [&str; 6] = ["UID", "DTSTAMP", "CREATED", "LAST-MODIFIED", "SEQUENCE", "RECURRENCE-ID"];
/// Properties that may stand several times, each for itself (RFC 5545, 3.6).
const EACH_FOR_ITSELF: [&str; 11] = [
    "ATTACH",
    "ATTENDEE",
    "COMMENT",
    "CONTACT",
    "RELATED-TO",
    "REQUEST-STATUS",
    "IMAGE",
    "CONFERENCE",
    "LINK",
    "CONCEPT",
    "REFID",
];
/// Properties that are lists of words.
const WORDS: [&str; 2] = ["CATEGORIES", "RESOURCES"];
/// Properties that are lists of moments.
const MOMENTS: [&str; 2] = ["EXDATE", "RDATE"];

pub(crate) const TIME_FIELD: &str = "time";

fn time_key() -> Key {
    ("time", TIME_FIELD.to_owned(), String::new())
}

fn fields_of(component: &Component<'static>) -> Fields {
    let mut zones = Zoner::default();
    let mut fields = Fields::new();
    let mut words = BTreeSet::new();
    let mut add = |group: &'static str, name: &str, element: String, said: String, item: Item<'static>| {
        let field = fields.entry((group, name.to_owned(), element)).or_default();
        field.0 += &said;
        field.0.push('\n');
        field.1.push(item);
    };
    for property in component.properties() {
        let name = property.name().to_ascii_uppercase();
        let whole = || Item::Property(property.clone());
        if BOOKKEEPING.contains(&name.as_str()) {
            continue;
        }
        if TIME.contains(&name.as_str()) {
            add("time", TIME_FIELD, String::new(), String::new(), whole());
        } else if let Some(list) = MOMENTS.into_iter().find(|list| *list == name) {
            for value in property.value().split(',').filter(|v| !v.trim().is_empty()) {
                let moment = zones.moment(property, value);
                let item = Item::Property(property.with_value(value.trim()));
                add("list", list, moment, String::new(), item);
            }
        } else if let Some(list) = WORDS.into_iter().find(|list| *list == name) {
            for word in split_list(property.value()).filter(|w| !w.trim().is_empty()) {
                let element = unescape_text(word).trim().to_lowercase();
                let one = property.with_value(word.trim());
                // A list is a set, in which the same word in another case is the same one.
                let is_new = words.insert((list, element.clone()));
                if is_new {
                    let said = zones.meaning(&one).unwrap_or_default();
                    add("list", list, element, said, Item::Property(one));
                }
            }
        } else if let Some(said) = zones.meaning(property) {
            let is_list = EACH_FOR_ITSELF.contains(&name.as_str());
            let element = match (is_list, name.as_str()) {
                (true, "ATTENDEE") => property.value().trim().to_lowercase(),
                (true, _) => said.clone(),
                _ => String::new(),
            };
            add(if is_list { "list" } else { "one" }, &name, element, said, whole());
        }
    }
    let time = zones.time_of(component);
    if let Some(field) = fields.get_mut(&time_key()) {
        field.0 = time;
    }
    for inner in component.components() {
        let said = zones.meaning_of_inner(inner);
        let field = fields.entry(("list", inner.name().to_ascii_uppercase(), said.clone())).or_default();
        field.0 = said;
        field.1.push(Item::Component(Box::new(inner.clone())));
    }
    fields
}

/// A word with a comma in it stands elsewhere as several: the comma is part of it (RFC 5545, 3.3.11), but not to every
/// server.
pub(crate) fn is_split(word: &Key, elsewhere: &Fields) -> bool {
    let part = |part: &str| (word.0, word.1.clone(), part.trim().to_owned());
    WORDS.contains(&word.1.as_str())
        && word.2.contains(',')
        && word.2.split(',').all(|one| elsewhere.contains_key(&part(one)))
}

/// A word is one of those that another one, which stands in `whole`, was split into.
pub(crate) fn is_part(part: &Key, whole: &Fields, split: &Fields) -> bool {
    let is_of = |word: &Key| {
        word.2.split(',').any(|one| one.trim() == part.2)
            && !split.contains_key(word)
            && is_split(word, split)
    };
    whole.keys().filter(|word| (word.0, &word.1) == (part.0, &part.1)).any(is_of)
}

pub(crate) fn occurrences_of(entry: &Entry) -> Occurrences {
    let each = |c: &Component<'static>| (occurrence_key(c), (c.name().to_owned(), fields_of(c)));
    entry.components().map(each).collect()
}

/// What one side changed: fields that are new or other, or gone, and occurrences that are gone.
#[derive(Debug, Default)]
struct Patch {
    fields: BTreeMap<(String, Key), Option<Said>>,
    /// New occurrences, with their component names.
    added: BTreeMap<String, String>,
    gone: BTreeSet<String>,
}

impl Patch {
    fn of(before: &Occurrences, now: &Occurrences) -> Self {
        let mut patch = Self::default();
        for (id, (name, fields)) in now {
            let nothing = Fields::new();
            let old = match before.get(id) {
                Some((_, fields)) => fields,
                None => {
                    patch.added.insert(id.clone(), name.clone());
                    &nothing
                }
            };
            for (key, said) in fields {
                if old.get(key).is_none_or(|old| old.0 != said.0) {
                    patch.fields.insert((id.clone(), key.clone()), Some(said.clone()));
                }
            }
            for key in old.keys().filter(|key| !fields.contains_key(*key)) {
                patch.fields.insert((id.clone(), key.clone()), None);
            }
        }
        patch.gone = before.keys().filter(|id| !now.contains_key(*id)).cloned().collect();
        patch
    }

    fn is_empty(&self) -> bool {
        self.fields.is_empty() && self.added.is_empty() && self.gone.is_empty()
    }

    fn moves_series(&self) -> bool {
        self.fields.keys().any(|(id, key)| id.is_empty() && key.0 == "time")
    }

    fn is_about_occurrences(id: &str, key: &Key) -> bool {
        !id.is_empty() || key.0 == "time" || MOMENTS.contains(&key.1.as_str())
    }

    fn touches_occurrences(&self) -> bool {
        let mut fields = self.fields.keys();
        fields.any(|(id, key)| Self::is_about_occurrences(id, key))
            || !self.added.is_empty()
            || !self.gone.is_empty()
    }

    fn forget_occurrences(&mut self) {
        self.fields.retain(|(id, key), _| !Self::is_about_occurrences(id, key));
        self.added.clear();
        self.gone.clear();
    }
}

/// Whose word counts: all sides by their numbers, the first one first, for the occurrence with this RECURRENCE-ID
/// (empty for the series).
pub type ByWeight<'w> = &'w dyn Fn(&str) -> Vec<usize>;

/// Merges the changes of several sides over what was agreed; where they do not go together, `by_weight` says whose
/// word counts. `base` is what was agreed; without it everything that a side says is a change.
///
/// # Panics
/// There is no side.
#[must_use]
pub fn merge(base: Option<&Entry>, sides: &[MergeSide<'_>], by_weight: ByWeight<'_>) -> Merged {
    let first = sides.first().expect("a merge has at least one side");
    let now: Vec<_> = sides.iter().map(|side| occurrences_of(side.now)).collect();
    let mut patches: Vec<Patch> = sides
        .iter()
        .zip(&now)
        .map(|(side, now)| Patch::of(&side.before.map(occurrences_of).unwrap_or_default(), now))
        .collect();
    for side in (0..sides.len()).filter(|side| sides[*side].before.is_none()) {
        // What a server made of another side's words, nobody said.
        patches[side].fields.retain(|(id, key), _| {
            let Some((_, own)) = now[side].get(id) else { return true };
            !now.iter().filter_map(|other| other.get(id)).any(|(_, whole)| is_part(key, whole, own))
        });
    }
    let mut collisions = BTreeSet::new();
    // A series that one side moved, and of which another changed single occurrences: these are about other days.
    let movers: Vec<_> = (0..sides.len()).filter(|side| patches[*side].moves_series()).collect();
    let touchers: Vec<_> = (0..sides.len()).filter(|side| patches[*side].touches_occurrences()).collect();
    let says_the_same = touchers.windows(2).all(|two| now[two[0]] == now[two[1]]);
    let time_of =
        |side: usize| now[side].get("").and_then(|(_, fields)| fields.get(&time_key())).map(|s| &s.0);
    let same_time = touchers.windows(2).all(|two| time_of(two[0]) == time_of(two[1]));
    // Where nothing was agreed, every side says when it is: only different times are a move.
    let moved = !movers.is_empty() && (base.is_some() || !same_time);
    if moved && touchers.len() > 1 && !says_the_same {
        let is_series = touchers.iter().any(|side| now[*side].len() > 1)
            || now
                .iter()
                .flat_map(|o| o.get(""))
                .any(|(_, fields)| fields.keys().any(|k| MOMENTS.contains(&k.1.as_str())));
        if is_series {
            let winner =
                by_weight("").into_iter().find(|side| touchers.contains(side)).unwrap_or(touchers[0]);
            let losers: Vec<_> = touchers.iter().copied().filter(|side| *side != winner).collect();
            losers.iter().for_each(|side| patches[*side].forget_occurrences());
            collisions.insert(Collision { occurrence: String::new(), field: TIME_FIELD.to_owned(), losers });
        }
    }
    let mut result = base.map(occurrences_of).unwrap_or_default();
    settle_occurrences(&mut result, &patches, &mut collisions);
    settle_fields(&mut result, &patches, by_weight, &mut collisions);
    keep_changed_occurrences(&mut result, &patches, &mut collisions);
    let heaviest = by_weight("").into_iter().find(|side| !patches[*side].is_empty()).unwrap_or(0);
    // An occurrence that was agreed may stand in none of the sides that changed something.
    let agreed = base.map(|now| MergeSide { before: None, now });
    let texts: Vec<_> = sides.iter().copied().chain(agreed).collect();
    let entry = written(first.now, sides[heaviest].now, &texts, &result, true);
    Merged { entry, collisions: collisions.into_iter().collect() }
}

/// Which occurrences there are: a change beats a deletion.
fn settle_occurrences(result: &mut Occurrences, patches: &[Patch], collisions: &mut BTreeSet<Collision>) {
    for patch in patches {
        for (id, name) in &patch.added {
            result.entry(id.clone()).or_insert_with(|| (name.clone(), Fields::new()));
        }
    }
    for (side, patch) in patches.iter().enumerate() {
        for id in &patch.gone {
            let changes = |other: &Patch| other.fields.keys().any(|(changed, _)| changed == id);
            if patches.iter().enumerate().any(|(other, patch)| other != side && changes(patch)) {
                let (occurrence, field) = (id.clone(), "occurrence".to_owned());
                collisions.insert(Collision { occurrence, field, losers: vec![side] });
            } else {
                result.remove(id);
            }
        }
    }
}

fn settle_fields(
    result: &mut Occurrences,
    patches: &[Patch],
    by_weight: ByWeight<'_>,
    collisions: &mut BTreeSet<Collision>,
) {
    let keys: BTreeSet<_> = patches.iter().flat_map(|patch| patch.fields.keys()).collect();
    let orders: BTreeMap<&str, Vec<usize>> =
        keys.iter().map(|(id, _)| (id.as_str(), by_weight(id))).collect();
    for (id, key) in keys {
        let words = |side: usize| patches[side].fields.get(&(id.clone(), key.clone()));
        let said: Vec<_> =
            orders[id.as_str()].iter().filter_map(|side| words(*side).map(|said| (*side, said))).collect();
        // What one side took out and another changed stays: a change beats a deletion.
        let Some((_, wins)) = said.iter().find(|(_, said)| said.is_some()).or(said.first()) else { continue };
        let same = |other: &Option<Said>| other.as_ref().map(|s| &s.0) == wins.as_ref().map(|s| &s.0);
        let losers: Vec<_> = said.iter().filter(|(_, other)| !same(other)).map(|(side, _)| *side).collect();
        if !losers.is_empty() {
            let (occurrence, field) = (id.clone(), key.1.clone());
            collisions.insert(Collision { occurrence, field, losers });
        }
        let Some((_, fields)) = result.get_mut(id) else { continue };
        match wins {
            Some(said) => drop(fields.insert(key.clone(), said.clone())),
            None => drop(fields.remove(key)),
        }
    }
}

/// A day that one side removed and another changed: the change stays, so the removal goes.
fn keep_changed_occurrences(
    result: &mut Occurrences,
    patches: &[Patch],
    collisions: &mut BTreeSet<Collision>,
) {
    let removals = patches.iter().enumerate().flat_map(|(side, patch)| {
        let added = patch
            .fields
            .iter()
            .filter(|((id, key), said)| id.is_empty() && key.1 == "EXDATE" && said.is_some());
        added.map(move |((_, key), _)| (side, key.clone()))
    });
    for (side, key) in removals {
        let changes = |other: &Patch| other.fields.keys().any(|(id, _)| *id == key.2);
        let is_changed = patches.iter().enumerate().any(|(other, patch)| other != side && changes(patch));
        if !is_changed || !result.contains_key(&key.2) {
            continue;
        }
        if let Some((_, fields)) = result.get_mut("")
            && fields.remove(&key).is_some()
        {
            let (occurrence, field) = (key.2.clone(), "occurrence".to_owned());
            collisions.insert(Collision { occurrence, field, losers: vec![side] });
        }
    }
}

/// Writes what stands somewhere so that it follows another entry: what that one changed is laid over it, all else is
/// left. Where nothing was agreed `before`, it takes title and time, and what is lacking.
#[must_use]
pub(crate) fn follow(existing: &Entry, before: Option<&Entry>, now: &Entry) -> Entry {
    let mut result = occurrences_of(existing);
    let mut patch = Patch::of(&before.map(occurrences_of).unwrap_or_default(), &occurrences_of(now));
    if before.is_none() {
        let leads = |key: &Key| key.0 == "time" || key.1 == "SUMMARY";
        let stands = |id: &String, key: &Key| result.get(id).is_some_and(|(_, own)| own.contains_key(key));
        patch.fields.retain(|(id, key), _| leads(key) || !stands(id, key));
    }
    for (id, name) in patch.added {
        result.entry(id).or_insert_with(|| (name, Fields::new()));
    }
    for ((id, key), said) in patch.fields {
        let Some((_, fields)) = result.get_mut(&id) else { continue };
        match said {
            Some(said) => drop(fields.insert(key, said)),
            None => drop(fields.remove(&key)),
        }
    }
    result.retain(|id, _| !patch.gone.contains(id));
    rewritten(existing, &result, now)
}

/// Writes what an entry is to say into its text; `other` is where occurrences and zones that it lacks come from.
pub(crate) fn rewritten(entry: &Entry, result: &Occurrences, other: &Entry) -> Entry {
    let sides = [entry, other].map(|now| MergeSide { before: None, now });
    written(entry, entry, &sides, result, false)
}

/// Writes the result into the text of one side, touching nothing that says the same already.
fn written(
    first: &Entry,
    from: &Entry,
    sides: &[MergeSide<'_>],
    result: &Occurrences,
    raises: bool,
) -> Entry {
    let mut object = from.object().clone();
    let is_wanted =
        |c: &Component<'_>| Kind::of_component(c.name()).is_none() || result.contains_key(&occurrence_key(c));
    object.items_mut().retain(|item| !matches!(item, Item::Component(c) if !is_wanted(c)));
    let standing: BTreeSet<_> = from.components().map(occurrence_key).collect();
    for (id, (name, _)) in result.iter().filter(|(id, _)| !standing.contains(*id)) {
        let original = sides.iter().flat_map(|side| side.now.components()).find(|c| occurrence_key(c) == *id);
        let mut component = Component::new(name.clone());
        let kept = original.into_iter().flat_map(Component::properties);
        let kept = kept.filter(|p| BOOKKEEPING.iter().any(|name| p.is(name)));
        kept.for_each(|p| component.push_property(p.clone()));
        object.push_component(component);
    }
    let newest = sides.iter().filter_map(|side| sequence(side.now)).max().filter(|_| raises);
    for component in entry_components_mut(&mut object) {
        let id = occurrence_key(component);
        component.set_value("UID", first.uid().as_str());
        if let Some((_, fields)) = result.get(&id) {
            bring_to(component, fields);
        }
        if id.is_empty()
            && let Some(newest) = newest
            && sequence_of(component).is_none_or(|own| own < newest)
        {
            component.set_value("SEQUENCE", &newest.to_string());
        }
    }
    add_zones(&mut object, sides);
    Entry::from_object(object).expect("every component has the same UID")
}

fn sequence(entry: &Entry) -> Option<i64> {
    sequence_of(entry.main_component())
}

fn sequence_of(component: &Component<'_>) -> Option<i64> {
    component.value("SEQUENCE")?.trim().parse().ok()
}

/// Takes out what is other or gone, and adds what is missing; lists of words are one property then.
fn bring_to(component: &mut Component<'static>, wanted: &Fields) {
    let own = fields_of(component);
    let wrong: Vec<&Key> = own
        .keys()
        .chain(wanted.keys())
        .filter(|key| own.get(*key).map(|s| &s.0) != wanted.get(*key).map(|s| &s.0))
        .collect();
    if wrong.is_empty() {
        return;
    }
    let names: BTreeSet<&str> = wrong.iter().map(|key| key.1.as_str()).collect();
    let is_rewritten = |item: &Item<'static>| match item {
        Item::Property(p) => {
            let name = p.name().to_ascii_uppercase();
            names.contains(name.as_str()) || (names.contains(TIME_FIELD) && TIME.contains(&name.as_str()))
        }
        Item::Component(c) => names.contains(c.name().to_ascii_uppercase().as_str()),
    };
    component.items_mut().retain(|item| !is_rewritten(item));
    let (mut properties, mut components) = (Vec::new(), Vec::new());
    // Words under the same parameters are one list.
    let mut words: BTreeMap<String, (&Property<'static>, Vec<&str>)> = BTreeMap::new();
    for (key, said) in wanted.iter().filter(|(key, _)| names.contains(key.1.as_str())) {
        for item in &said.1 {
            match item {
                Item::Property(p) if WORDS.contains(&key.1.as_str()) => {
                    let list = words.entry(p.with_value("").line().to_owned()).or_insert((p, Vec::new()));
                    list.1.push(p.value());
                }
                Item::Property(_) => properties.push(item.clone()),
                Item::Component(_) => components.push(item.clone()),
            }
        }
    }
    properties.extend(words.values().map(|(p, list)| Item::Property(p.with_value(&list.join(",")))));
    component.insert_before_components(properties);
    component.items_mut().extend(components);
}

/// Times that came from another side may name a zone that only stands there.
fn add_zones(object: &mut Component<'static>, sides: &[MergeSide<'_>]) {
    let described = described_zones(object);
    let named = entry_components(object).flat_map(zone_ids);
    let missing: BTreeSet<_> = named.filter(|id| !described.contains(id)).collect();
    for id in missing {
        let all = sides.iter().flat_map(|side| side.now.object().components());
        if let Some(zone) = all.filter(|c| c.is("VTIMEZONE")).find(|c| zone_id(c) == id) {
            object.insert_before_components([Item::Component(Box::new(zone.clone()))]);
        }
    }
}

/// When something was last changed, as far as it says: LAST-MODIFIED, else DTSTAMP, then SEQUENCE. To order sides by.
pub type LastChanged = (Option<jiff::civil::DateTime>, i64);

/// When an entry was last changed, at its youngest component.
#[must_use]
pub fn last_changed(entry: &Entry) -> LastChanged {
    youngest(&entry.components().collect::<Vec<_>>())
}

/// When one occurrence of an entry was last changed (its RECURRENCE-ID; empty for the series). Its own stamp alone
/// tells: another occurrence may have come from another side, stamp and all. One that does not stand for itself is
/// part of the series.
pub(crate) fn last_changed_at(entry: &Entry, occurrence: &str) -> LastChanged {
    let at = |id: &str| entry.components().filter(|c| occurrence_key(c) == id).collect::<Vec<_>>();
    let own = Some(at(occurrence)).filter(|own| !own.is_empty());
    youngest(&own.unwrap_or_else(|| at("")))
}

/// When one component was last changed.
pub(crate) fn last_change_of(component: &Component<'static>) -> LastChanged {
    youngest(&[component])
}

fn youngest(components: &[&Component<'static>]) -> LastChanged {
    let moment = |name: &str| {
        let all = components.iter().filter_map(|c| c.value(name).and_then(parse_time));
        all.map(|time: TimeValue| time.local()).max()
    };
    let sequences = components.iter().filter_map(|c| sequence_of(c)).max();
    (moment("LAST-MODIFIED").or_else(|| moment("DTSTAMP")), sequences.unwrap_or(0))
}
