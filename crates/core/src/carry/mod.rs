//! What a copy shows: a lens between an entry and what the far side may see of it.
//!
//! [`Carry::show`] says what the far side is to see of a source; [`Sight::of_far_side`] says what it sees now;
//! [`Carry::put`] brings the one to the other. Laws, tested as properties: `of_far_side(put(v, e)) = v` and
//! `put(of_far_side(e), e) = e`. Details that a route does not carry are never touched on the far side.

mod busy;
mod details;
mod parts;

use std::collections::BTreeMap;

use crate::canonical::{Fingerprint, occurrence_key};
use crate::choose::Choice;
use crate::entry::{
    Entry, Kind, PRODID, component_uid, described_zones, entry_components_mut, zone_id, zone_ids,
};
use crate::ical::{Component, Item};
use crate::ids::EventUid;

pub use busy::Unshown;
pub use details::{BlocksTime, Categories, Colour, Details, Privacy, Reminders};
pub use parts::Detail;
use parts::{Part, Parts};

/// Which details of an entry a route takes along.
#[derive(Debug, Clone, Default)]
pub struct Carry {
    /// What of an entry is shown.
    pub shows: Shows,
    /// What becomes of the people an entry names.
    pub people: People,
    /// What the far server would do with people in a copy.
    pub scheduling: Scheduling,
    /// Addresses of the source's owner, in lower case and without `mailto:`: what they declined takes no time.
    pub me: Vec<String>,
    /// Of a series, the occurrences that it does not take are not shown.
    pub choice: Choice,
}

/// What of an entry is shown.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Shows {
    /// All of it.
    #[default]
    Everything,
    /// Some details, as they are or in another form.
    Details(Box<Details>),
    /// When it is, and nothing else, under this title.
    Busy(String),
}

/// What becomes of the people an entry names (ORGANIZER, ATTENDEE).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum People {
    /// They are carried where the far server cannot write to them.
    #[default]
    Silent,
    /// They become lines in the notes.
    Listed,
    /// They are not carried.
    Dropped,
    /// They are carried, and the far server may write to them.
    Invite,
}

/// Whether the far server sends invitations by itself (RFC 6638). A copy must never make it do so: SCHEDULE-AGENT
/// is ignored by some, so people are left out.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Scheduling {
    /// It does not: people are carried as they are.
    #[default]
    Never,
    /// It does, and says for which addresses, in lower case. Where it has none, it cannot act for anybody.
    For(Vec<String>),
    /// It does, and does not say for whom.
    Anybody,
}

impl Scheduling {
    /// Tells whether the server may write to people because of an entry.
    #[must_use]
    pub fn may_write(&self) -> bool {
        match self {
            Self::Never => false,
            Self::Anybody => true,
            Self::For(own) => !own.is_empty(),
        }
    }
}

/// What the far side may see of an entry. Its UID is not part of it: a copy has its own.
#[derive(Debug, Clone)]
pub struct View {
    entry: Entry,
    /// What it shows; all else is the far side's own.
    shown: Parts,
}

impl PartialEq for View {
    fn eq(&self, other: &Self) -> bool {
        self.entry == other.entry
    }
}

/// What of an entry a view shows, to look at another entry in the same way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Sight(Parts);

impl Sight {
    /// Everything.
    pub const ALL: Self = Self(Parts::ALL);

    /// Returns what both show.
    #[must_use]
    pub fn within(self, other: Self) -> Self {
        Self(self.0.and(other.0))
    }

    /// Returns a number that stands for it, to be remembered.
    #[must_use]
    pub fn number(self) -> u16 {
        self.0.number()
    }

    /// Returns what a number stands for.
    #[must_use]
    pub fn of_number(number: u16) -> Self {
        Self(Parts::of_number(number))
    }

    /// Returns what the far side sees of an entry that stands there.
    #[must_use]
    pub fn of_far_side(self, existing: &Entry) -> View {
        View { entry: same_uid(filtered(existing, self.0)), shown: self.0 }
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

impl Carry {
    /// Returns what it says as one text: another text is another form of copies. The form of the text is never changed.
    #[must_use]
    pub fn settings(&self) -> String {
        let people = match self.people {
            People::Silent => "silent",
            People::Listed => "listed",
            People::Dropped => "none",
            People::Invite => "invite",
        };
        let shows = match &self.shows {
            Shows::Everything => "everything".to_owned(),
            Shows::Busy(title) => format!("busy {title:?}"),
            Shows::Details(details) => details.settings(),
        };
        format!("{shows}; people {people}")
    }

    /// Returns what is carried, to look at any side of a route that puts nothing into another form.
    #[must_use]
    pub fn sight(&self) -> Sight {
        let parts = match &self.shows {
            Shows::Everything => Parts::ALL,
            Shows::Details(details) => details.parts(),
            Shows::Busy(_) => Parts::BUSY,
        };
        let hides = match self.people {
            People::Dropped | People::Listed => true,
            People::Silent => self.scheduling.may_write(),
            People::Invite => false,
        };
        Sight(if hides { parts.without(Detail::People) } else { parts })
    }

    /// Tells whether an entry is carried without the people it names, since the far server might write to them.
    #[must_use]
    pub fn leaves_out_people(&self, entry: &Entry) -> bool {
        self.scheduling.may_write() && self.wants_people() && names_people(entry)
    }

    /// Tells whether people go along as people where nobody is written to.
    pub(crate) fn wants_people(&self) -> bool {
        let shown = match &self.shows {
            Shows::Everything => true,
            Shows::Details(details) => details.parts().contains(Part::Detail(Detail::People)),
            Shows::Busy(_) => false,
        };
        shown && self.people == People::Silent
    }

    /// Tells whether copies may make the far server write to people.
    #[must_use]
    pub fn invites(&self) -> bool {
        self.people == People::Invite && self.scheduling != Scheduling::Never
    }

    /// Returns what the far side may see.
    ///
    /// # Errors
    /// [`Unshown`]: where only the time is shown, an entry that takes none, or whose time is not understood.
    pub fn show(&self, entry: &Entry) -> Result<View, Unshown> {
        let entry = &*self.choice.rest(entry).ok_or(Unshown::TakesNoTime)?;
        let mut shown = match &self.shows {
            Shows::Everything => Parts::ALL,
            Shows::Details(details) => details.parts(),
            Shows::Busy(title) => {
                return Ok(View { entry: busy::busy(entry, title, &self.me)?, shown: Parts::BUSY });
            }
        };
        let lists = self.people == People::Listed && shown.contains(Part::Detail(Detail::People));
        if matches!(self.people, People::Listed | People::Dropped) || self.leaves_out_people(entry) {
            shown = shown.without(Detail::People);
        }
        let mut object = filtered(entry, shown);
        if lists {
            shown = shown.with(Detail::Notes);
        }
        for (component, original) in entry_components_mut(&mut object).zip(entry.components()) {
            if let Shows::Details(details) = &self.shows {
                details.apply(component, original);
            }
            if lists {
                details::list_people(component, original);
            }
        }
        Ok(View { entry: same_uid(object), shown })
    }

    /// Returns a view without attachments that stand in the entry itself, where there are any.
    #[must_use]
    pub fn without_attachments(&self, view: &View) -> Option<View> {
        let inline = |c: &Component<'_>| c.properties().any(details::is_inline_attachment);
        if !view.entry.components().any(inline) {
            return None;
        }
        let mut object = view.entry.object().clone();
        for component in object.components_mut() {
            component.retain_properties(|p| !details::is_inline_attachment(p));
        }
        Some(View { entry: same_uid(object), shown: view.shown.without(Detail::Attachments) })
    }

    /// Writes a view under an identity, as a copy that this program made.
    #[must_use]
    pub fn put(&self, view: &View, identity: &Identity<'_>) -> Entry {
        let mut object = view.put(identity).object().clone();
        object.set_value("PRODID", PRODID);
        same_uid(object)
    }
}

impl View {
    /// Writes the view under an identity.
    #[must_use]
    pub fn put(&self, identity: &Identity<'_>) -> Entry {
        let mut object = self.entry.object().clone();
        let uid = match identity {
            Identity::New(uid) => uid.clone(),
            Identity::Existing(existing) => existing.uid().clone(),
        };
        let mut hidden = match identity {
            Identity::Existing(existing) => Hidden::of(existing, self.shown),
            Identity::New(_) => Hidden::default(),
        };
        for component in entry_components_mut(&mut object) {
            component.set_value("UID", uid.as_str());
            let kept = hidden.by_occurrence.remove(&occurrence_key(component)).unwrap_or_default();
            component.add(kept);
        }
        hidden.add_around(&mut object);
        same_uid(object)
    }
}

/// What stands on the far side and is not part of a view.
#[derive(Debug, Default)]
struct Hidden {
    /// In the series and its changed occurrences.
    by_occurrence: BTreeMap<String, Vec<Item<'static>>>,
    /// Beside them.
    around: Vec<Item<'static>>,
    /// All that may be needed.
    zones: Vec<Component<'static>>,
}

impl Hidden {
    fn of(existing: &Entry, shown: Parts) -> Self {
        let mut hidden = Self::default();
        if shown == Parts::ALL {
            return hidden;
        }
        for component in existing.components() {
            let own = component.items().iter().filter(|item| !shown.contains(Part::of(item)));
            hidden.by_occurrence.entry(occurrence_key(component)).or_default().extend(own.cloned());
        }
        for item in existing.object().items() {
            match item {
                Item::Component(zone) if zone.is("VTIMEZONE") => hidden.zones.push((**zone).clone()),
                Item::Component(c) if Kind::of_component(c.name()).is_some() => {}
                other if !shown.contains(Part::around(other)) => hidden.around.push(other.clone()),
                _ => {}
            }
        }
        hidden
    }

    fn add_around(self, object: &mut Component<'static>) {
        if self.around.is_empty() && self.zones.is_empty() {
            return;
        }
        let described = described_zones(object);
        let named: Vec<_> = object.components().flat_map(zone_ids).collect();
        let needed = self.zones.into_iter().filter(|zone| {
            let id = zone_id(zone);
            named.contains(&id) && !described.contains(&id)
        });
        let zones: Vec<_> = needed.map(|zone| Item::Component(Box::new(zone))).collect();
        let (properties, components): (Vec<_>, Vec<_>) =
            self.around.into_iter().partition(|item| matches!(item, Item::Property(_)));
        object.insert_before_components(properties.into_iter().chain(zones));
        object.items_mut().extend(components);
    }
}

pub(crate) fn names_people(entry: &Entry) -> bool {
    entry.components().flat_map(Component::properties).any(|p| p.is("ORGANIZER") || p.is("ATTENDEE"))
}

/// An entry's object with nothing in it but these parts.
fn filtered(entry: &Entry, shown: Parts) -> Component<'static> {
    let mut object = entry.object().clone();
    if shown == Parts::ALL {
        return object;
    }
    object.items_mut().retain(|item| shown.contains(Part::around(item)));
    for component in entry_components_mut(&mut object) {
        component.items_mut().retain(|item| shown.contains(Part::of(item)));
    }
    object
}

fn same_uid(object: Component<'static>) -> Entry {
    debug_assert!(object.components().filter_map(component_uid).count() > 0);
    Entry::from_object(object).expect("every component has the same UID")
}

impl View {
    /// Returns the hash of what the view means.
    #[must_use]
    pub fn fingerprint(&self) -> Fingerprint {
        self.entry.meaning().fingerprint()
    }

    /// Returns what it shows, to look at what stands on the far side.
    #[must_use]
    pub fn sight(&self) -> Sight {
        Sight(self.shown)
    }

    /// Returns the entry as it is shown, still under its source's UID.
    #[must_use]
    pub fn entry(&self) -> &Entry {
        &self.entry
    }
}
