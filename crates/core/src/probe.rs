//! A test entry: what it says at each step of its way, so that a route shows it.

use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use std::fmt::Write as _;

use crate::choose::{Choice, ChoiceKey, Test};
use crate::entry::{Entry, Kind};
use crate::ical::Limits;
use crate::ids::EventUid;

/// How long it takes.
pub const PROBE_LENGTH: SignedDuration = SignedDuration::from_mins(15);
/// Days of its series.
pub const PROBE_DAYS: i64 = 3;

/// A test entry, before and after its changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Probe {
    /// Its UID.
    pub uid: EventUid,
    /// An event, or a task with DUE.
    pub kind: Kind,
    /// Its title.
    pub title: String,
    /// When it begins.
    pub start: Timestamp,
    /// Its category, where the route asks for one.
    pub category: Option<String>,
    /// It takes the whole day.
    pub is_all_day: bool,
    /// It is private (CLASS).
    pub is_private: bool,
    /// It is not certain yet (STATUS).
    pub is_tentative: bool,
    /// It takes no time (TRANSP).
    pub is_free: bool,
    /// It is a series of three days.
    pub is_series: bool,
    /// The second day of the series was moved by an hour.
    pub has_moved_day: bool,
    /// Counts its changes.
    pub sequence: u32,
}

impl Probe {
    /// A plain test entry.
    #[must_use]
    pub fn new(uid: EventUid, kind: Kind, title: &str, start: Timestamp) -> Self {
        Self {
            uid,
            kind,
            title: title.to_owned(),
            start,
            category: None,
            is_all_day: false,
            is_private: false,
            is_tentative: false,
            is_free: false,
            is_series: false,
            has_moved_day: false,
            sequence: 0,
        }
    }

    /// Brings it into a form that passes `only` and `skip`.
    ///
    /// # Errors
    /// The key that it cannot meet.
    pub fn fit(mut self, choice: &Choice, now: Timestamp) -> Result<Self, ChoiceKey> {
        // Each test asks for something else: once more than there are tests is enough.
        for _ in 0..=choice.only.len() {
            let Some(key) = choice.refusal(&self.entry(now)) else { return Ok(self) };
            for test in &choice.only {
                match test {
                    Test::Categories(names) => self.category = names.first().cloned(),
                    Test::AllDay(wanted) => self.is_all_day = *wanted,
                    Test::Private(wanted) => self.is_private = *wanted,
                    Test::Tentative(wanted) => self.is_tentative = *wanted,
                    Test::Free(wanted) => self.is_free = *wanted,
                    Test::Words(_) | Test::Declined(_) | Test::Cancelled(_) | Test::Organiser(_) => {}
                }
            }
            if choice.refusal(&self.entry(now)) == Some(key) && choice.only.is_empty() {
                return Err(key);
            }
        }
        match choice.refusal(&self.entry(now)) {
            Some(key) => Err(key),
            None => Ok(self),
        }
    }

    /// When its days begin, as they stand now.
    #[must_use]
    pub fn starts(&self) -> Vec<Timestamp> {
        let days = if self.is_series { PROBE_DAYS } else { 1 };
        let start = |day: i64| {
            let moved = if self.has_moved_day && day == 1 { 1 } else { 0 };
            self.start + SignedDuration::from_hours(24 * day + moved)
        };
        (0..days).map(start).collect()
    }

    /// Writes it.
    ///
    /// # Panics
    /// Never: what is written here is an entry.
    #[must_use]
    pub fn entry(&self, now: Timestamp) -> Entry {
        let name = self.kind.component_name();
        let mut body = String::new();
        let mut line = |text: String| write!(body, "{text}\r\n").expect("writing to a string cannot fail");
        let starts = self.starts();
        for (at, start) in starts.iter().enumerate() {
            let is_moved_day = at == 1 && self.has_moved_day;
            if at > 0 && !is_moved_day {
                continue;
            }
            line(format!("BEGIN:{name}"));
            line(format!("UID:{}", self.uid));
            line(format!("DTSTAMP:{}", moment(now)));
            line(format!("LAST-MODIFIED:{}", moment(now)));
            line(format!("SEQUENCE:{}", self.sequence));
            if is_moved_day {
                line(format!("RECURRENCE-ID:{}", moment(self.start + SignedDuration::from_hours(24))));
            }
            self.times(*start, &mut line);
            if at == 0 && self.is_series {
                line(format!("RRULE:FREQ=DAILY;COUNT={PROBE_DAYS}"));
            }
            line(format!("SUMMARY:{}", crate::values::escape_text(&self.title)));
            if let Some(category) = &self.category {
                line(format!("CATEGORIES:{}", crate::values::escape_text(category)));
            }
            if self.is_private {
                line("CLASS:PRIVATE".to_owned());
            }
            if self.kind == Kind::Event {
                line(format!("STATUS:{}", if self.is_tentative { "TENTATIVE" } else { "CONFIRMED" }));
                line(format!("TRANSP:{}", if self.is_free { "TRANSPARENT" } else { "OPAQUE" }));
            }
            line(format!("END:{name}"));
        }
        let text = format!(
            "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Chestnut//Probe//EN\r\n{body}END:VCALENDAR\r\n"
        );
        Entry::parse(&text, &Limits::default()).expect("an entry")
    }

    fn times(&self, start: Timestamp, line: &mut impl FnMut(String)) {
        let end = start + PROBE_LENGTH;
        match (self.kind, self.is_all_day) {
            (Kind::Task, _) => line(format!("DUE:{}", moment(end))),
            (_, true) => {
                let day = utc(start).date();
                line(format!("DTSTART;VALUE=DATE:{}", day.strftime("%Y%m%d")));
                let after = day.tomorrow().unwrap_or(day);
                line(format!("DTEND;VALUE=DATE:{}", after.strftime("%Y%m%d")));
            }
            (_, false) => {
                line(format!("DTSTART:{}", moment(start)));
                line(format!("DTEND:{}", moment(end)));
            }
        }
    }
}

fn utc(at: Timestamp) -> DateTime {
    at.to_zoned(TimeZone::UTC).datetime()
}

fn moment(at: Timestamp) -> String {
    utc(at).strftime("%Y%m%dT%H%M%SZ").to_string()
}
