//! What a scheduling server does behind its users' backs (RFC 6638, 3.2): messages to people, kept in an outbox.

use std::collections::BTreeSet;

use chestnut_core::Entry;
use chestnut_core::ical::{Component, Item, Limits, Property};

use crate::exchange::ServerRequest;
use crate::habits::Habit;
use crate::object_store::Server;

/// Properties about which nobody is written to.
const OWN: &[&str] = &["TRANSP", "COLOR", "DTSTAMP", "LAST-MODIFIED", "CREATED", "SEQUENCE"];

/// Who organises, and who is invited, but for those a client looks after.
struct People {
    organizer: Option<String>,
    attendees: BTreeSet<String>,
}

impl Server {
    /// Whether it sends messages at all.
    pub(crate) fn schedules(&self) -> bool {
        self.has(Habit::Schedules) || self.has(Habit::SchedulesUnannounced)
    }

    /// The address that a user is written to by.
    pub(crate) fn address(user: &str) -> String {
        format!("mailto:{user}@coop.example")
    }

    /// Sends what a write or deletion in a calendar makes it send.
    pub(crate) fn send_messages(
        &mut self,
        request: &ServerRequest,
        calendar: &str,
        before: Option<&str>,
        after: Option<&str>,
    ) {
        if !self.schedules() {
            return;
        }
        let read = |text: Option<&str>| text.and_then(|text| Entry::parse(text, &Limits::default()).ok());
        let (before, after) = (read(before), read(after));
        if told(before.as_ref()) == told(after.as_ref()) {
            return;
        }
        let ignores_agent = self.has(Habit::IgnoresAgent);
        let people = |entry: &Option<Entry>| entry.as_ref().map(|entry| People::of(entry, ignores_agent));
        let (then, now) = (people(&before), people(&after));
        let owner = calendar.trim_matches('/').split('/').next().unwrap_or_default();
        let acts_for = |who: &str| !self.has(Habit::TellsAddresses) || who == Self::address(owner);
        let organizes = |people: &&People| people.organizer.as_deref().is_some_and(acts_for);
        let mut messages = Vec::new();
        for (people, method) in [(&then, "CANCEL"), (&now, "REQUEST")] {
            let Some(people) = people.as_ref().filter(organizes) else { continue };
            let stays = |who: &&String| {
                method == "CANCEL" && now.as_ref().is_some_and(|now| now.attendees.contains(*who))
            };
            let others = people.attendees.iter().filter(|who| Some(*who) != people.organizer.as_ref());
            messages.extend(others.filter(|who| !stays(who)).map(|who| format!("{method} {who}")));
        }
        let quiet = after.is_none() && request.header("schedule-reply") == Some("F");
        let invited =
            |people: &&People| !organizes(people) && people.attendees.iter().any(|who| acts_for(who));
        let answers = now.as_ref().or(then.as_ref()).filter(invited).filter(|_| !quiet);
        messages.extend(answers.and_then(|p| p.organizer.as_ref()).map(|who| format!("REPLY {who}")));
        self.outbox.extend(messages);
    }
}

impl People {
    fn of(entry: &Entry, ignores_agent: bool) -> Self {
        let all = || entry.components().flat_map(Component::properties);
        let counts = |p: &&Property<'_>| {
            let agent = p.param("SCHEDULE-AGENT").unwrap_or_default().to_ascii_uppercase();
            ignores_agent || !matches!(agent.as_str(), "CLIENT" | "NONE")
        };
        let address = |p: &Property<'_>| p.value().trim().to_lowercase();
        Self {
            organizer: all().filter(|p| p.is("ORGANIZER")).find(counts).map(address),
            attendees: all().filter(|p| p.is("ATTENDEE")).filter(counts).map(address).collect(),
        }
    }
}

/// What people are written to about: all but what is everybody's own.
fn told(entry: Option<&Entry>) -> Vec<String> {
    let is_own = |name: &str| OWN.contains(&name) || name.starts_with("X-");
    let lines = |component: &Component<'_>| {
        let lines = component.items().iter().filter_map(|item| match item {
            Item::Property(p) if !is_own(&p.name().to_ascii_uppercase()) => {
                let agent = p.param("SCHEDULE-AGENT").unwrap_or_default();
                let answer = p.param("PARTSTAT").unwrap_or_default();
                Some(format!("{} {agent} {answer} {}", p.name().to_ascii_uppercase(), p.value()))
            }
            _ => None,
        });
        lines.collect::<BTreeSet<_>>()
    };
    entry.into_iter().flat_map(Entry::components).map(|c| format!("{:?}", lines(c))).collect()
}
