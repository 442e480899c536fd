//! Whether a write could make a server write to people (RFC 6638, 3.2): the one place that says so, for everything that
//! is written or deleted.

use crate::canonical::{Fingerprint, occurrence_key};
use crate::carry::{Scheduling, names_people};
use crate::choose::address;
use crate::entry::{Entry, entry_components_mut};
use crate::ical::{Component, Item, Property};

/// What a server was seen to do with people, and for whom it acts.
#[derive(Debug, Clone, Copy)]
pub struct Scheduler<'a> {
    /// For whom it sends messages, if it does.
    pub scheduling: &'a Scheduling,
    /// Addresses of the person who asks, in lower case and without `mailto:`: the server may act for them as well.
    pub me: &'a [String],
    /// It was seen to leave alone whom a client looks after (RFC 6638, 7.1).
    pub honours_agent: bool,
    /// It announces `calendar-auto-schedule`, and thus obeys `Schedule-Reply: F` (RFC 6638, 8.1).
    pub obeys_no_reply: bool,
}

/// What a write could make a server send.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mail {
    /// Nothing.
    Never,
    /// Nothing, where all but everybody's own details is written as it stands: [`with_own_details`].
    OfOwnDetails,
    /// Nothing, where it is deleted with `Schedule-Reply: F`.
    UnlessTold,
    /// Nothing, where it is created without the people it names.
    WithPeople,
    /// An invitation, an answer or a cancellation.
    Perhaps,
}

/// Who organises an entry, and who is invited; addresses in lower case, without `mailto:`.
#[derive(Debug, Default)]
struct People {
    organizers: Vec<String>,
    attendees: Vec<String>,
    /// Whoever is named is looked after by a client, or by nobody.
    all_looked_after: bool,
}

impl Scheduler<'_> {
    /// Says what a write could make the server send: `before` stands there, `after` is to stand there; `None` is nothing.
    /// People that were left out before are none of either.
    #[must_use]
    pub fn mail(&self, before: Option<&Entry>, after: Option<&Entry>) -> Mail {
        let people = |entry: Option<&Entry>| entry.map(People::of).unwrap_or_default();
        let (then, then_people) = (before, people(before));
        let now_people = people(after);
        if !self.acts_for(&then_people) && !self.acts_for(&now_people) {
            return Mail::Never;
        }
        let is_left_alone = |people: &People| people.is_nobody() || people.all_looked_after;
        if self.honours_agent && is_left_alone(&then_people) && is_left_alone(&now_people) {
            return Mail::Never;
        }
        match (then, after) {
            (None, _) => Mail::WithPeople,
            (Some(before), Some(after)) if says_nothing_new(before, after) => Mail::OfOwnDetails,
            (Some(_), Some(_)) => Mail::Perhaps,
            // Whoever is only invited answers with a deletion; whoever invites calls it off.
            (Some(_), None) if self.obeys_no_reply && !self.may_organize(&then_people) => Mail::UnlessTold,
            (Some(_), None) => Mail::Perhaps,
        }
    }

    /// An entry can mail where somebody invites somebody else, and the server acts for one of them.
    fn acts_for(&self, people: &People) -> bool {
        let invites = people.organizers.iter().any(|one| people.attendees.iter().any(|other| other != one));
        invites && people.organizers.iter().chain(&people.attendees).any(|one| self.is_own(one))
    }

    fn may_organize(&self, people: &People) -> bool {
        people.organizers.iter().any(|one| self.is_own(one))
    }

    fn is_own(&self, who: &str) -> bool {
        match self.scheduling {
            Scheduling::Never => false,
            Scheduling::Anybody => true,
            // A server that has no address for anybody acts for nobody.
            Scheduling::For(own) if own.is_empty() => false,
            Scheduling::For(own) => {
                own.iter().any(|one| address(one) == who) || self.me.iter().any(|one| one == who)
            }
        }
    }
}

impl People {
    fn of(entry: &Entry) -> Self {
        let mut people = Self { all_looked_after: true, ..Self::default() };
        for property in entry.components().flat_map(Component::properties) {
            let list = match () {
                () if property.is("ORGANIZER") => &mut people.organizers,
                () if property.is("ATTENDEE") => &mut people.attendees,
                () => continue,
            };
            list.push(address(property.value()));
            people.all_looked_after &= is_looked_after(property);
        }
        people
    }

    fn is_nobody(&self) -> bool {
        self.organizers.is_empty() && self.attendees.is_empty()
    }
}

/// Tells whether an entry shows that its server leaves alone whom a client looks after: it told how a message to one
/// attendee fared, and of another, whom a client looks after, it told nothing (RFC 6638, 3.2.9).
#[must_use]
pub fn shows_agent_honoured(entry: &Entry) -> bool {
    entry.components().any(|component| {
        let mut attendees = component.properties().filter(|p| p.is("ATTENDEE"));
        let was_told = |p: &Property<'_>| p.param("SCHEDULE-STATUS").is_some();
        let (mut told, mut left_alone) = (false, false);
        attendees.all(|attendee| {
            let looked_after = is_looked_after(attendee);
            told |= was_told(attendee) && !looked_after;
            left_alone |= looked_after;
            // One of whom a client looks after, and who was written to all the same, says the opposite.
            !(looked_after && was_told(attendee))
        }) && told
            && left_alone
    })
}

/// Returns an entry without the people it names, as nobody is written to about it; `None` where it names nobody.
#[must_use]
pub fn without_people(entry: &Entry) -> Option<Entry> {
    let names = |item: &Item<'_>| match item {
        Item::Property(p) => p.is("ORGANIZER") || p.is("ATTENDEE"),
        Item::Component(_) => false,
    };
    if names_people(entry) { without(entry, names) } else { None }
}

/// An entry without some of what stands in it.
fn without(entry: &Entry, leaves_out: impl Fn(&Item<'_>) -> bool) -> Option<Entry> {
    let mut object = entry.object().clone();
    for component in entry_components_mut(&mut object) {
        component.items_mut().retain(|item| !leaves_out(item));
    }
    Entry::from_object(object).ok()
}

/// SCHEDULE-AGENT (RFC 6638, 7.1): a client sends the messages, or nobody does.
fn is_looked_after(property: &Property<'_>) -> bool {
    let agent = property.param("SCHEDULE-AGENT");
    agent.is_some_and(|agent| ["CLIENT", "NONE"].iter().any(|one| agent.eq_ignore_ascii_case(one)))
}

/// Nothing differs but what is everybody's own: no message is about that (RFC 6638, 3.2.1.1 and 3.2.2.1).
fn says_nothing_new(before: &Entry, after: &Entry) -> bool {
    told_to_others(before).is_some_and(|before| Some(before) == told_to_others(after))
}

fn told_to_others(entry: &Entry) -> Option<Fingerprint> {
    without(entry, is_own).map(|entry| entry.meaning().fingerprint())
}

/// What everybody keeps for themselves.
fn is_own(item: &Item<'_>) -> bool {
    match item {
        Item::Property(p) => {
            p.is("TRANSP") || p.is("COLOR") || p.name().get(..2).is_some_and(|x| x.eq_ignore_ascii_case("X-"))
        }
        Item::Component(c) => c.is("VALARM"),
    }
}

/// Returns what stands in a calendar with the details of another text that are everybody's own. All else stays word for
/// word: a server that compares words finds nothing to write to people about.
#[must_use]
pub fn with_own_details(standing: &Entry, wanted: &Entry) -> Option<Entry> {
    let mut object = standing.object().clone();
    for component in entry_components_mut(&mut object) {
        let key = occurrence_key(component);
        let same = wanted.components().find(|other| occurrence_key(other) == key)?;
        component.items_mut().retain(|item| !is_own(item));
        component.add(same.items().iter().filter(|item| is_own(item)).cloned());
    }
    Entry::from_object(object).ok()
}
