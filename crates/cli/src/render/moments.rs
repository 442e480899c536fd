//! Times as people read them: on the reader's clock, days by their names, and the zone said once.

use chestnut_core::{TimeValue, parse_time, resolve_zone};
use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use jiff::tz::TimeZone;

/// Days that are further from today than this bear their year: the day of the week alone no longer tells which it is.
const NEAR: i32 = 183;

/// By which clock a text is read: where that is, and which day it is there.
#[derive(Debug, Clone)]
pub(crate) struct Clock {
    pub(crate) zone: TimeZone,
    /// `None` for what is read on another day, a page or a mail.
    pub(crate) today: Option<Date>,
}

impl Clock {
    /// Of somebody at a terminal.
    pub(crate) fn at(now: Timestamp, zone: &TimeZone) -> Self {
        Self { zone: zone.clone(), today: Some(now.to_zoned(zone.clone()).date()) }
    }

    /// Of whoever opens a page or a mail, some day: nothing is today, and every day bears its year.
    pub(crate) fn of_any_day(zone: &TimeZone) -> Self {
        Self { zone: zone.clone(), today: None }
    }

    /// Tells whether a day needs no year.
    pub(crate) fn is_near(&self, day: Date) -> bool {
        let days = self.today.and_then(|today| today.until(day).ok()).map(|span| span.get_days());
        days.is_some_and(|days| days.abs() <= NEAR)
    }

    /// `Tue 6 Oct`, or `Tue 6 Oct 2027` where that is far from today.
    pub(crate) fn day(&self, day: Date) -> String {
        day.strftime(if self.is_near(day) { "%a %-d %b" } else { "%a %-d %b %Y" }).to_string()
    }

    fn day_and_hour(&self, at: DateTime) -> String {
        format!("{} {}", self.day(at.date()), at.strftime("%H:%M"))
    }
}

/// `11:06 today`, `23:50 yesterday`, `Tue 6 Oct 10:00`; for another day's reader `Tue 6 Oct 2026 10:00 Europe/Ljubljana`.
pub(crate) fn moment_text(at: Timestamp, clock: &Clock) -> String {
    let local = at.to_zoned(clock.zone.clone()).datetime();
    let Some(today) = clock.today else {
        return format!("{} {}", clock.day_and_hour(local), zone_name(clock));
    };
    let near = [today.yesterday().ok(), Some(today), today.tomorrow().ok()];
    let words = ["yesterday", "today", "tomorrow"];
    match near.iter().position(|day| *day == Some(local.date())) {
        Some(which) => format!("{} {}", local.strftime("%H:%M"), words[which]),
        None => clock.day_and_hour(local),
    }
}

/// `Mon 5 Oct 10:00`, below a line that names the zone.
pub(crate) fn day_and_time(at: Timestamp, clock: &Clock) -> String {
    clock.day_and_hour(at.to_zoned(clock.zone.clone()).datetime())
}

/// The zone's name, as it stands above lists of times.
pub(crate) fn zone_name(clock: &Clock) -> &str {
    clock.zone.iana_name().unwrap_or("UTC")
}

/// An entry's start, from the text that runs remember: `20261201T080000 Europe/Ljubljana`. The zone is not
/// repeated on every line: it stands above the list.
pub(crate) fn start_text(remembered: &str, clock: &Clock) -> String {
    match placed(remembered, clock) {
        None => String::new(),
        Some((day, None, _)) => clock.day(day),
        Some((day, Some(hour), mark)) => format!("{}{mark}", clock.day_and_hour(day.to_datetime(hour))),
    }
}

/// The day of such a start, where the reader is.
pub(crate) fn start_day(remembered: &str, clock: &Clock) -> Option<Date> {
    placed(remembered, clock).map(|(day, ..)| day)
}

/// The day and the hour of such a start where the reader is, and what marks an hour that is no moment.
fn placed(remembered: &str, clock: &Clock) -> Option<(Date, Option<Time>, String)> {
    let (time, tzid) = remembered.split_once(' ').unwrap_or((remembered, ""));
    let (at, own, mark) = match parse_time(time)? {
        TimeValue::Date(day) => return Some((day, None, String::new())),
        TimeValue::Utc(at) => (at, Some(TimeZone::UTC), String::new()),
        TimeValue::Local(at) => match resolve_zone(tzid) {
            Some(own) => (at, Some(own.rules.clone()), String::new()),
            // Floating, or of a zone nobody knows: shown as it stands, and marked.
            None if tzid.is_empty() => (at, None, " floating".to_owned()),
            None => (at, None, format!(" {}", crate::render::clean(tzid))),
        },
    };
    let here = own.and_then(|own| at.to_zoned(own).ok());
    let here = here.map_or(at, |zoned| zoned.with_time_zone(clock.zone.clone()).datetime());
    Some((here.date(), Some(here.time()), mark))
}

/// Takes a text of [`start_text`] apart: the day, and the hour if it has one and nothing follows.
pub(crate) fn day_and_hour(start: &str) -> (&str, Option<&str>) {
    match start.rsplit_once(' ') {
        Some((day, hour)) if hour.len() == 5 && hour.as_bytes()[2] == b':' => (day, Some(hour)),
        _ => (start, None),
    }
}

/// The instant at which a day begins, in seconds since 1970.
pub(crate) fn midnight(day: Date, zone: &TimeZone) -> i64 {
    day.to_zoned(zone.clone()).map_or(0, |at| at.timestamp().as_second())
}

/// `just now`, `12 minutes ago`, `3 days ago`.
pub(crate) fn age_text(seconds: i64) -> String {
    if seconds < 60 { "just now".to_owned() } else { format!("{} ago", span_text(seconds)) }
}

/// `12 minutes`, `1 hour`, `3 days`.
pub(crate) fn span_text(seconds: i64) -> String {
    let (number, one, many) = match seconds {
        ..3600 => (seconds / 60, "minute", "minutes"),
        3600..172_800 => (seconds / 3600, "hour", "hours"),
        _ => (seconds / 86_400, "day", "days"),
    };
    format!("{number} {}", if number == 1 { one } else { many })
}

#[cfg(test)]
mod tests {
    use jiff::Timestamp;
    use jiff::tz::TimeZone;

    use super::{Clock, moment_text, start_text};

    #[test]
    fn days_bear_their_year_where_they_could_be_another() {
        let zone = TimeZone::get("Europe/Ljubljana").expect("a zone");
        let (clock, mail) =
            (Clock::at("2026-10-05T22:30:00Z".parse().expect("now"), &zone), Clock::of_any_day(&zone));
        for (remembered, shown, in_a_mail) in [
            ("20261006T090000 Europe/Ljubljana", "Tue 6 Oct 09:00", "Tue 6 Oct 2026 09:00"),
            ("20270401T213000Z", "Thu 1 Apr 23:30", "Thu 1 Apr 2027 23:30"),
            ("20271006", "Wed 6 Oct 2027", "Wed 6 Oct 2027"),
            ("20251225T080000", "Thu 25 Dec 2025 08:00 floating", "Thu 25 Dec 2025 08:00 floating"),
            (
                "20261006T090000 Orchard\u{1b}[2J",
                "Tue 6 Oct 09:00 Orchard\u{fffd}[2J",
                "Tue 6 Oct 2026 09:00 Orchard\u{fffd}[2J",
            ),
        ] {
            assert_eq!([start_text(remembered, &clock), start_text(remembered, &mail)], [shown, in_a_mail]);
        }
        for (at, shown) in [
            ("2026-10-05T22:10:00Z", "00:10 today"),
            ("2026-10-05T21:10:00Z", "23:10 yesterday"),
            ("2026-10-06T22:10:00Z", "00:10 tomorrow"),
            ("2026-10-01T09:00:00Z", "Thu 1 Oct 11:00"),
        ] {
            let at: Timestamp = at.parse().expect("a moment");
            assert_eq!(moment_text(at, &clock), shown);
            assert!(moment_text(at, &mail).ends_with(" Europe/Ljubljana"));
        }
    }
}
