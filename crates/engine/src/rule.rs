//! What a route says, ready to run.

use std::collections::HashMap;
use std::fmt::Write as _;
use std::rc::Rc;

use chestnut_caldav::Tally;
use chestnut_core::{
    Carry, Choice, DeletionLimit, Deletions, Disagree, FarEdits, Kind, Kinds, Matches, PastCopies, Reach,
    ReplicaPolicy, ReplicaRules, RouteKey, RoutePolicy, RouteTag, Scheduling, Sight, Strangers, Window,
};
use chestnut_store::CalendarFacts;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use sha2::{Digest, Sha256};

use crate::calendar::{Calendar, CalendarError};
use crate::error::RunError;

/// One calendar of a route.
#[derive(Debug, Clone)]
pub struct CalendarEnd {
    /// Its name in the configuration.
    pub name: String,
    /// Its account's name in the configuration; feeds, files and folders may have none.
    pub account: Option<String>,
    /// Reads and writes it.
    pub calendar: Calendar,
    /// Whether the route takes entries from it.
    pub gives: bool,
    /// Whether the route writes entries into it.
    pub takes: bool,
}

impl CalendarEnd {
    /// A calendar that no route has given a part yet.
    #[must_use]
    pub fn new(name: &str, account: Option<&str>, calendar: Calendar) -> Self {
        let account = account.map(str::to_owned);
        Self { name: name.to_owned(), account, calendar, gives: false, takes: false }
    }

    /// Returns the error of a run that could not read or write this calendar.
    #[must_use]
    pub fn failed(&self, error: CalendarError) -> RunError {
        RunError::Calendar {
            calendar: self.name.clone(),
            account: self.account.clone(),
            error: Box::new(error),
        }
    }

    /// What another route met with here, under this calendar's own name.
    pub(crate) fn own(&self, error: RunError) -> RunError {
        match error {
            RunError::Calendar { error, .. } => self.failed(*error),
            error => error,
        }
    }
}

/// A route, ready to run. Its ends have parts: from some it takes entries, into some it writes them.
#[derive(Debug, Clone)]
pub struct Rule {
    /// Its name in the configuration.
    pub name: String,
    /// Its calendars.
    pub ends: Vec<CalendarEnd>,
    /// Which kinds it takes.
    pub kinds: Kinds,
    /// Which entries of these kinds it takes.
    pub choice: Choice,
    /// How far back and ahead it looks.
    pub window: Window,
    /// The zone whose days count, and in which floating times are read.
    pub zone: TimeZone,
    /// What becomes of copies that have fallen behind the window.
    pub past_copies: PastCopies,
    /// What a copy shows, or which details are kept alike.
    pub carry: Carry,
    /// Whether copies are made of the source's entries, or of something made out of them.
    pub makes: Makes,
    /// Whether copies that other routes made are taken like originals.
    pub relay: bool,
    /// What becomes of entries on the far side that are nobody's copies.
    pub strangers: Strangers,
    /// What becomes of entries on the far side that are the same as a source.
    pub matches: Matches,
    /// What deletions do.
    pub deletions: Deletions,
    /// How much a run may delete unasked.
    pub deletion_limit: DeletionLimit,
    /// What edits on the far side do.
    pub far_edits: FarEdits,
    /// Whose word counts where several calendars changed the same thing.
    pub disagree: Disagree,
    /// Makes the UIDs of copies.
    pub key: RouteKey,
    /// The tags of all routes that are known: other copies are of routes that nobody knows any more.
    pub known_tags: Rc<[RouteTag]>,
    /// How often the whole listing is compared.
    pub full_look_every: SignedDuration,
    /// How long replaced and deleted texts are kept.
    pub keep_history: SignedDuration,
}

/// What copies are made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Makes {
    /// One of each entry.
    #[default]
    Entries,
    /// One of each occurrence of a series, for calendars that cannot do series.
    Occurrences,
    /// Blocks of busy time, from which not even the number of entries can be told.
    Blocks,
}

/// What decides about cases: a route's rule, joined with what its calendars say of themselves, at one moment.
#[derive(Clone)]
pub(crate) enum Policy {
    /// Copies go from the first end to the second.
    Copies(Box<RoutePolicy>),
    /// All ends are kept alike.
    Alike(Box<ReplicaPolicy>),
}

impl Rule {
    /// A route that says nothing but from where and to where: all events, as they are.
    #[must_use]
    pub fn one_way(name: &str, from: CalendarEnd, to: CalendarEnd, key: RouteKey) -> Self {
        let from = CalendarEnd { gives: true, takes: false, ..from };
        let to = CalendarEnd { gives: false, takes: true, ..to };
        Self::plain(name, vec![from, to], key)
    }

    /// A route that says nothing but its calendars: all events, as they are, the newest word counts.
    #[must_use]
    pub fn two_way(name: &str, ends: Vec<CalendarEnd>, key: RouteKey) -> Self {
        let both = |end| CalendarEnd { gives: true, takes: true, ..end };
        Self::plain(name, ends.into_iter().map(both).collect(), key)
    }

    fn plain(name: &str, ends: Vec<CalendarEnd>, key: RouteKey) -> Self {
        // Other routes ask the same accounts meanwhile. Ends of one account count together.
        let mut tallies: HashMap<usize, Tally> = HashMap::new();
        let ends = ends.into_iter().map(|end| {
            let tally = tallies.entry(end.calendar.counter()).or_default().clone();
            CalendarEnd { calendar: end.calendar.counting(tally), ..end }
        });
        Self {
            name: name.to_owned(),
            ends: ends.collect(),
            kinds: [Kind::Event].into_iter().collect(),
            choice: Choice::default(),
            window: Window::default(),
            zone: TimeZone::UTC,
            past_copies: PastCopies::default(),
            carry: Carry::default(),
            makes: Makes::default(),
            relay: false,
            strangers: Strangers::Leave,
            matches: Matches::default(),
            deletions: Deletions::Carry,
            deletion_limit: DeletionLimit::default(),
            far_edits: FarEdits::Correct,
            disagree: Disagree::default(),
            known_tags: Rc::new([key.tag().clone()]),
            key,
            full_look_every: SignedDuration::from_hours(24),
            keep_history: SignedDuration::from_hours(24 * 90),
        }
    }

    /// What changes the result of a run over unchanged calendars: another text here is owed to every case.
    #[must_use]
    pub fn settings(&self) -> String {
        let kinds: Vec<_> = self.kinds.iter().map(|k| k.word()).collect();
        let reach = |reach: Reach| match reach {
            Reach::Unlimited => "all".to_owned(),
            Reach::Days(days) => format!("{days}d"),
            Reach::Months(months) => format!("{months}m"),
            Reach::Day(day) => day.to_string(),
        };
        let mut text = format!("1\ncarry={}\n", self.carry.settings());
        let zone = self.zone.iana_name().unwrap_or_default();
        let whose = match self.disagree {
            Disagree::Newest => "newest".to_owned(),
            Disagree::Hold => "hold".to_owned(),
            Disagree::Side(side) => self.ends.get(side).map_or_else(String::new, |end| end.name.clone()),
        };
        for (key, value) in [
            ("kinds", kinds.join(",")),
            // One that was decided by its series alone is decided anew.
            ("choice", format!("{} by occurrence", self.choice.settings())),
            ("window", format!("{}..{}", reach(self.window.past), reach(self.window.ahead))),
            ("zone", zone.to_owned()),
            ("past", u8::from(self.past_copies == PastCopies::Remove).to_string()),
            ("relay", u8::from(self.relay).to_string()),
            ("strangers", u8::from(self.strangers == Strangers::Remove).to_string()),
            ("matches", u8::from(self.matches == Matches::Own).to_string()),
            ("makes", (self.makes as u8).to_string()),
            ("deletions", u8::from(self.deletions == Deletions::Keep).to_string()),
            ("far-edits", u8::from(self.far_edits == FarEdits::Leave).to_string()),
            ("disagree", whose),
        ] {
            writeln!(text, "{key}={value}").expect("writing to a string cannot fail");
        }
        text
    }

    /// Returns a number for the form in which details are carried: copies in another form are written whole.
    pub(crate) fn form(&self) -> i64 {
        form_of(&self.carry.settings())
    }

    /// Returns what of an entry an agreement covers.
    pub(crate) fn covers(&self) -> Sight {
        self.carry.sight()
    }

    /// Returns which calendars it connects, and in which parts.
    pub(crate) fn places(&self) -> String {
        let part = |end: &CalendarEnd| {
            let part = match (end.gives, end.takes) {
                (true, true) => "both",
                (true, false) => "from",
                _ => "to",
            };
            format!("{part} {}", end.calendar.place())
        };
        self.ends.iter().map(part).collect::<Vec<_>>().join("\n")
    }

    /// Returns what decides about its cases. `facts` are those of its calendars.
    pub(crate) fn policy(&self, facts: &[CalendarFacts], deletions: Deletions, now: Timestamp) -> Policy {
        let mut choice = self.choice.clone();
        for (end, facts) in self.ends.iter().zip(facts) {
            if end.gives {
                choice.add_addresses(facts.addresses.as_deref().unwrap_or_default());
            }
        }
        let window = self.window.at(now, &self.zone);
        if self.ends.iter().all(|end| end.gives && end.takes) {
            let rules = |facts: &CalendarFacts| ReplicaRules {
                accepted: kinds_of(facts),
                max_size: facts.max_size,
                scheduling: scheduling_of(facts),
            };
            return Policy::Alike(Box::new(ReplicaPolicy {
                kinds: self.kinds.clone(),
                choice,
                window,
                carry: self.carry.clone(),
                disagree: self.disagree,
                relay: self.relay,
                deletions,
                key: self.key.clone(),
                covered: self.covers(),
                sides: facts.iter().map(rules).collect(),
            }));
        }
        let far = &facts[1];
        choice.by_occurrence = true;
        let mut policy = RoutePolicy {
            kinds: self.kinds.clone(),
            carry: Carry {
                scheduling: scheduling_of(far),
                me: choice.me.clone(),
                choice: choice.clone(),
                ..self.carry.clone()
            },
            choice,
            accepted: kinds_of(far),
            max_size: far.max_size,
            window,
            past_copies: self.past_copies,
            relay: self.relay,
            deletions,
            far_edits: self.far_edits,
            key: self.key.clone(),
        };
        if self.makes != Makes::Entries {
            // What was made is chosen already, and lies where it was wanted.
            policy.choice = Choice { me: policy.choice.me, ..Choice::default() };
            policy.carry.choice = Choice::default();
            policy.window.range.end = Window::default().at(now, &self.zone).range.end;
            if self.past_copies == PastCopies::Keep {
                policy.window.range.start = Window::default().at(now, &self.zone).range.start;
            }
        }
        if self.makes == Makes::Blocks {
            policy.kinds = [Kind::Event].into_iter().collect();
        }
        Policy::Copies(Box::new(policy))
    }

    /// Returns what the calendar behind made entries is asked by: the rule as it is written.
    pub(crate) fn policy_of_source(&self, facts: &[CalendarFacts], now: Timestamp) -> Option<RoutePolicy> {
        let plain = Self { makes: Makes::Entries, ..self.clone() };
        match plain.policy(facts, self.deletions, now) {
            Policy::Copies(policy) => Some(*policy),
            Policy::Alike(_) => None,
        }
    }
}

impl Policy {
    /// How copies show their sources.
    pub(crate) fn carry(&self) -> &Carry {
        match self {
            Self::Copies(policy) => &policy.carry,
            Self::Alike(policy) => &policy.carry,
        }
    }

    /// What the server of a calendar that is written does with people.
    pub(crate) fn scheduling(&self, side: usize) -> &Scheduling {
        match self {
            Self::Copies(policy) => &policy.carry.scheduling,
            Self::Alike(policy) => &policy.sides[side].scheduling,
        }
    }

    /// The addresses of whoever the calendars belong to.
    pub(crate) fn me(&self) -> &[String] {
        match self {
            Self::Copies(policy) => &policy.choice.me,
            Self::Alike(policy) => &policy.choice.me,
        }
    }
}

/// A number for what says in which form details are carried.
pub(crate) fn form_of(settings: &str) -> i64 {
    let digest = Sha256::digest(settings);
    i64::from_le_bytes(*digest.first_chunk::<8>().expect("a digest has 32 bytes"))
}

/// Reads the kinds out of what is remembered.
fn kinds_of(facts: &CalendarFacts) -> Kinds {
    facts.kinds.iter().filter_map(|name| Kind::of_component(name)).collect()
}

/// Reads what a server does with people out of what is remembered.
fn scheduling_of(facts: &CalendarFacts) -> Scheduling {
    match (facts.schedules || facts.tags_schedules, &facts.addresses) {
        (false, _) => Scheduling::Never,
        (true, None) => Scheduling::Anybody,
        (true, Some(addresses)) => Scheduling::For(addresses.clone()),
    }
}
