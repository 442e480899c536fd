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
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Carry {
    /// Leave ORGANIZER and ATTENDEE out: the far server announces scheduling (RFC 6638), and a copy that names
    /// people would make it send invitations.
    pub without_people: bool,
}

/// What the far side may see of an entry. Its UID is not part of it: a copy has its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct View {
    entry: Entry,
    carry: Carry,
}

/// Whose place a view takes.
#[derive(Debug, Clone)]
pub enum Identity<'e> {
    /// A new copy under this UID.
    New(EventUid),
    /// An entry that stands there: its UID and all that the route does not carry stay.
    Existing(&'e Entry),
}

const PEOPLE: &[&str] = &["ORGANIZER", "ATTENDEE"];

impl Carry {
    fn hides(self, property: &Property<'_>) -> bool {
        self.without_people && PEOPLE.iter().any(|name| property.is(name))
    }

    /// Returns what the far side may see.
    #[must_use]
    pub fn show(self, entry: &Entry) -> View {
        let mut object = entry.object().clone();
        for component in object.components_mut() {
            component.retain_properties(|p| !self.hides(p));
        }
        let entry = Entry::from_object(object).expect("UIDs and components are as they were");
        View { entry, carry: self }
    }

    /// Writes a view under an identity.
    #[must_use]
    pub fn put(self, view: &View, identity: Identity<'_>) -> Entry {
        let mut object = view.entry.object().clone();
        let uid = match &identity {
            Identity::New(uid) => uid.clone(),
            Identity::Existing(existing) => existing.uid().clone(),
        };
        object.set_value("PRODID", PRODID);
        let mut hidden = match &identity {
            Identity::Existing(existing) => self.hidden_of(existing),
            Identity::New(_) => BTreeMap::new(),
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

    /// What an entry holds that this carry does not show, by occurrence.
    fn hidden_of(self, entry: &Entry) -> BTreeMap<String, Vec<Property<'static>>> {
        let hidden = |c: &Component<'static>| c.properties().filter(|p| self.hides(p)).cloned().collect();
        entry.components().map(|c| (occurrence_key(c), hidden(c))).collect()
    }

    /// Counts the people an entry names that this carry leaves out.
    #[must_use]
    pub fn left_out_people(self, entry: &Entry) -> usize {
        entry.components().flat_map(Component::properties).filter(|p| self.hides(p)).count()
    }
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
        self.carry.show(other)
    }
}
