//! Writes a VTIMEZONE for a zone of the database (RFC 5545, 3.6.5): as rules where changes follow one, else as dates.

use jiff::Timestamp;
use jiff::tz::{Dst, TimeZone};

use super::days::{Civil, DAY, civil, days_in_month, number_of, weekday};
use super::zone::date_time;
use crate::ical::{Component, Property};
use crate::values::TimeValue;

/// What is written holds from the beginning of this year at the latest.
const FIRST_YEAR: i64 = 1970;
/// Rules that hold in this year go on for ever.
const LAST_YEAR: i64 = 2037;
/// Changes that follow one rule for fewer years are written as dates.
const FEW: usize = 3;

/// One change of the clock.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Change {
    /// Local time, by the clock before it.
    local: i64,
    kind: ChangeKind,
}

/// What a change does.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct ChangeKind {
    before: i64,
    after: i64,
    is_daylight: bool,
    name: String,
}

/// Writes a zone under a TZID; `first_year` is the year of the first time that needs it.
#[must_use]
pub fn write_zone(tzid: &str, rules: &TimeZone, first_year: i64) -> Component<'static> {
    let mut zone = Component::new("VTIMEZONE");
    zone.push_property(Property::new("TZID", tzid));
    let begin = number_of(first_year.clamp(FIRST_YEAR, LAST_YEAR - 10) - 1, 1, 1) * DAY;
    let changes = changes(rules, begin);
    // What holds before the first change.
    let first = Timestamp::from_second(begin).unwrap_or_default();
    let info = rules.to_offset_info(first);
    let standing = i64::from(info.offset().seconds());
    let kind = ChangeKind {
        before: standing,
        after: standing,
        is_daylight: info.dst() == Dst::Yes,
        name: info.abbreviation().to_owned(),
    };
    zone.push_component(observance(&kind, begin + standing, None, &[]));
    let mut kinds: Vec<&ChangeKind> = changes.iter().map(|change| &change.kind).collect();
    kinds.sort_unstable();
    kinds.dedup();
    for kind in kinds {
        let own: Vec<i64> = changes.iter().filter(|c| c.kind == *kind).map(|c| c.local).collect();
        let mut dates = Vec::new();
        for run in runs(&own) {
            match run.rule.filter(|_| run.locals.len() >= FEW) {
                Some(rule) => {
                    // UNTIL is the instant of the last one (RFC 5545, 3.6.5).
                    let last = run.locals[run.locals.len() - 1] - kind.before;
                    let until = TimeValue::Utc(date_time(last).unwrap_or_default());
                    let rule = if rule.ends_with('=') { format!("{rule}{until}") } else { rule };
                    zone.push_component(observance(kind, run.locals[0], Some(&rule), &[]));
                }
                None => dates.extend(run.locals),
            }
        }
        if let Some((first, rest)) = dates.split_first() {
            zone.push_component(observance(kind, *first, None, rest));
        }
    }
    zone
}

fn changes(rules: &TimeZone, begin: i64) -> Vec<Change> {
    let end = number_of(LAST_YEAR + 1, 1, 1) * DAY;
    let first = Timestamp::from_second(begin).unwrap_or_default();
    let mut before = i64::from(rules.to_offset(first).seconds());
    let mut changes = Vec::new();
    for transition in rules.following(first) {
        let at = transition.timestamp().as_second();
        if at >= end {
            break;
        }
        let after = i64::from(transition.offset().seconds());
        let is_daylight = transition.dst() == Dst::Yes;
        let name = transition.abbreviation().to_owned();
        changes.push(Change { local: at + before, kind: ChangeKind { before, after, is_daylight, name } });
        before = after;
    }
    changes
}

/// Changes of one kind that follow each other by one rule, a year apart.
struct Run {
    locals: Vec<i64>,
    rule: Option<String>,
}

fn runs(locals: &[i64]) -> Vec<Run> {
    let mut runs: Vec<Run> = Vec::new();
    let mut current: Vec<i64> = Vec::new();
    let mut pattern: Option<Pattern> = None;
    let close = |locals: Vec<i64>, pattern: Option<Pattern>, runs: &mut Vec<Run>| {
        let rule = pattern.map(|p| p.rule(&locals));
        runs.push(Run { locals, rule });
    };
    for local in locals {
        let narrowed = pattern.and_then(|p| p.with(*local, current[current.len() - 1]));
        match narrowed {
            Some(narrowed) => pattern = Some(narrowed),
            None => {
                if !current.is_empty() {
                    close(std::mem::take(&mut current), pattern, &mut runs);
                }
                pattern = Some(Pattern::of(*local));
            }
        }
        current.push(*local);
    }
    if !current.is_empty() {
        close(current, pattern, &mut runs);
    }
    runs
}

/// A weekday in a month, at a time, and the days of the month on which it was so far.
#[derive(Debug, Clone, Copy)]
struct Pattern {
    month: u8,
    weekday: u8,
    second: i64,
    earliest: u8,
    latest: u8,
    always_last: bool,
}

impl Pattern {
    fn of(local: i64) -> Self {
        let number = local.div_euclid(DAY);
        let Civil { year, month, day } = civil(number);
        let always_last = day + 7 > days_in_month(year, month);
        let (weekday, second) = (weekday(number), local.rem_euclid(DAY));
        Self { month, weekday, second, earliest: day, latest: day, always_last }
    }

    /// The same pattern with one more year, if that fits.
    fn with(self, local: i64, last: i64) -> Option<Self> {
        let (own, year) = (Self::of(local), |local: i64| civil(local.div_euclid(DAY)).year);
        let same = (own.month, own.weekday, own.second) == (self.month, self.weekday, self.second);
        let both = Self {
            earliest: self.earliest.min(own.earliest),
            latest: self.latest.max(own.latest),
            always_last: self.always_last && own.always_last,
            ..self
        };
        let next = year(local) == year(last) + 1;
        (same && next && (both.always_last || both.latest - both.earliest < 7)).then_some(both)
    }

    fn rule(self, locals: &[i64]) -> String {
        let day = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"][usize::from(self.weekday)];
        let month = self.month;
        let days = if self.always_last {
            format!("BYDAY=-1{day}")
        } else {
            // The seven days that hold all that were seen: from the first of a week counted from the 1st, if they
            // fit in there.
            let ordinal = (self.latest - 1) / 7 + 1;
            if (self.earliest - 1) / 7 + 1 == ordinal {
                format!("BYDAY={ordinal}{day}")
            } else {
                let first = self.latest - 6;
                let list: Vec<_> = (first..=self.latest).map(|d| d.to_string()).collect();
                format!("BYMONTHDAY={};BYDAY={day}", list.join(","))
            }
        };
        let last = locals[locals.len() - 1];
        let rule = format!("FREQ=YEARLY;BYMONTH={month};{days}");
        if civil(last.div_euclid(DAY)).year >= LAST_YEAR { rule } else { format!("{rule};UNTIL=") }
    }
}

fn observance(kind: &ChangeKind, start: i64, rule: Option<&str>, dates: &[i64]) -> Component<'static> {
    let mut part = Component::new(if kind.is_daylight { "DAYLIGHT" } else { "STANDARD" });
    let text = |local: i64| TimeValue::Local(date_time(local).unwrap_or_default()).to_string();
    part.push_property(Property::new("DTSTART", &text(start)));
    part.push_property(Property::new("TZOFFSETFROM", &offset(kind.before)));
    part.push_property(Property::new("TZOFFSETTO", &offset(kind.after)));
    part.push_property(Property::new("TZNAME", &kind.name));
    if let Some(rule) = rule {
        part.push_property(Property::new("RRULE", rule));
    }
    if !dates.is_empty() {
        let dates: Vec<_> = dates.iter().map(|date| text(*date)).collect();
        part.push_property(Property::new("RDATE", &dates.join(",")));
    }
    part
}

/// `+0100`, `-033052`.
fn offset(seconds: i64) -> String {
    let sign = if seconds < 0 { '-' } else { '+' };
    let seconds = seconds.abs();
    let (hours, minutes, rest) = (seconds / 3600, seconds / 60 % 60, seconds % 60);
    if rest == 0 {
        format!("{sign}{hours:02}{minutes:02}")
    } else {
        format!("{sign}{hours:02}{minutes:02}{rest:02}")
    }
}
