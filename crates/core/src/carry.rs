//! What a copy shows: a lens between an entry and what the far side may see of it.
//!
//! Laws, tested as properties: `show(put(v, e)) = v` and `put(show(e), e) = e`. Details that a route does not
//! carry are never touched on the far side.

use std::collections::BTreeMap;

use crate::canonical::Fingerprint;
use crate::entry::{Entry, PRODID};
use crate::ical::{Component, Item, Property};
use crate::ids::EventUid;

/// Which details of an entry a route takes along.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Carry {
    /// What the far server would do with people in a copy.
    pub scheduling: Scheduling,
}

/// Whether the far server sends invitations by itself (RFC 6638). A copy must never make it do so: SCHEDULE-AGENT
/// is ignored by some, so people whom it would write to are left out.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Scheduling {
    /// It does not: people are carried as they are.
    #[default]
    Never,
    /// It does, and acts for these addresses, in lower case: entries that name one of them as organiser or
    /// attendee are carried without people.
    For(Vec<String>),
    /// It does, and does not say for whom: every entry is carried without people.
    Anybody,
}

/// What the far side may see of an entry. Its UID is not part of it: a copy has its own.
#[derive(Debug, Clone)]
pub struct View {
    entry: Entry,
    /// Whether people were left out.
    without_people: bool,
}

impl PartialEq for View {
    fn eq(&self, other: &Self) -> bool {
        self.entry == other.entry
    }
}

/// Whose place a view takes.
#[derive(Debug, Clone)]
pub enum Identity<'e> {
    /// A new copy under this UID.
    New(EventUid),
    /// An entry that stands there: its UID and all that the route does not carry stay.
    Existing(&'e Entry),
}

fn names_person(property: &Property<'_>) -> bool {
    ["ORGANIZER", "ATTENDEE"].iter().any(|name| property.is(name))
}

impl Carry {
    /// Tells whether an entry is carried without the people it names.
    #[must_use]
    pub fn leaves_out_people(&self, entry: &Entry) -> bool {
        let mut people = entry.components().flat_map(Component::properties).filter(|p| names_person(p));
        match &self.scheduling {
            Scheduling::Never => false,
            Scheduling::Anybody => people.next().is_some(),
            Scheduling::For(own) => people.any(|p| own.contains(&p.value().trim().to_lowercase())),
        }
    }

    /// Returns what the far side may see.
    #[must_use]
    pub fn show(&self, entry: &Entry) -> View {
        show(entry, self.leaves_out_people(entry))
    }

    /// Writes a view under an identity.
    #[must_use]
    pub fn put(&self, view: &View, identity: &Identity<'_>) -> Entry {
        let mut object = view.entry.object().clone();
        let uid = match identity {
            Identity::New(uid) => uid.clone(),
            Identity::Existing(existing) => existing.uid().clone(),
        };
        object.set_value("PRODID", PRODID);
        let mut hidden = match identity {
            Identity::Existing(existing) if view.without_people => hidden_of(existing),
            _ => BTreeMap::new(),
        };
        for component in object.components_mut().filter(|c| c.property("UID").is_some()) {
            component.set_value("UID", uid.as_str());
            let kept = hidden.remove(&occurrence_key(component)).unwrap_or_default();
            let inner = component.items().iter().position(|item| matches!(item, Item::Component(_)));
            let at = inner.unwrap_or(component.items().len());
            component.items_mut().splice(at..at, kept.into_iter().map(Item::Property));
        }
        Entry::from_object(object).expect("every component was given the same UID")
    }
}

fn show(entry: &Entry, without_people: bool) -> View {
    if !without_people {
        return View { entry: entry.clone(), without_people };
    }
    let mut object = entry.object().clone();
    for component in object.components_mut() {
        component.retain_properties(|p| !names_person(p));
    }
    let entry = Entry::from_object(object).expect("UIDs and components are as they were");
    View { entry, without_people }
}

/// What an entry holds that the view does not show, by occurrence.
fn hidden_of(entry: &Entry) -> BTreeMap<String, Vec<Property<'static>>> {
    let hidden = |c: &Component<'static>| c.properties().filter(|p| names_person(p)).cloned().collect();
    entry.components().map(|c| (occurrence_key(c), hidden(c))).collect()
}

fn occurrence_key(component: &Component<'_>) -> String {
    component.property("RECURRENCE-ID").map_or_else(String::new, |p| p.value().trim().to_owned())
}

impl View {
    /// Returns the hash of what the view means.
    #[must_use]
    pub fn fingerprint(&self) -> Fingerprint {
        self.entry.meaning().fingerprint()
    }

    /// Returns the view of another entry under the same rule, to compare what stands on the far side.
    #[must_use]
    pub fn same_rule(&self, other: &Entry) -> Self {
        show(other, self.without_people)
    }
}
