//! Times as people read them: in the configured zone, with its name.

use chestnut_core::{TimeValue, parse_time, resolve_zone};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

/// `2026-10-05 10:00 Europe/Ljubljana`.
pub(crate) fn moment_text(at: Timestamp, zone: &TimeZone) -> String {
    let local = at.to_zoned(zone.clone());
    format!("{} {}", local.strftime("%Y-%m-%d %H:%M"), zone_name(zone))
}

/// `Mon 2026-10-05 10:00`, below a line that names the zone.
pub(crate) fn day_and_time(at: Timestamp, zone: &TimeZone) -> String {
    at.to_zoned(zone.clone()).strftime("%a %Y-%m-%d %H:%M").to_string()
}

/// The zone's name, as it stands above lists of times.
pub(crate) fn zone_name(zone: &TimeZone) -> &str {
    zone.iana_name().unwrap_or("UTC")
}

/// An entry's start, from the text that runs remember: `20261201T080000 Europe/Ljubljana`. The zone is not
/// repeated on every line: it stands above the list.
pub(crate) fn start_text(remembered: &str, zone: &TimeZone) -> String {
    let (time, tzid) = remembered.split_once(' ').unwrap_or((remembered, ""));
    match parse_time(time) {
        None => String::new(),
        Some(TimeValue::Date(day)) => day.strftime("%a %Y-%m-%d").to_string(),
        Some(TimeValue::Utc(at)) => shown(at, &TimeZone::UTC, zone),
        Some(TimeValue::Local(at)) => match resolve_zone(tzid) {
            Some(own) => shown(at, &own.rules, zone),
            // Floating, or of a zone nobody knows: shown as it stands, and marked.
            None if tzid.is_empty() => format!("{} floating", at.strftime("%a %Y-%m-%d %H:%M")),
            None => format!("{} {}", at.strftime("%a %Y-%m-%d %H:%M"), crate::render::clean(tzid)),
        },
    }
}

fn shown(at: jiff::civil::DateTime, own: &TimeZone, zone: &TimeZone) -> String {
    match at.to_zoned(own.clone()) {
        Ok(zoned) => zoned.with_time_zone(zone.clone()).strftime("%a %Y-%m-%d %H:%M").to_string(),
        Err(_) => at.strftime("%a %Y-%m-%d %H:%M").to_string(),
    }
}

/// The instant at which a day begins, in seconds since 1970.
pub(crate) fn midnight(day: Date, zone: &TimeZone) -> i64 {
    day.to_zoned(zone.clone()).map_or(0, |at| at.timestamp().as_second())
}

/// `just now`, `12 minutes ago`, `3 days ago`.
pub(crate) fn age_text(seconds: i64) -> String {
    let (number, one, many) = match seconds {
        ..60 => return "just now".to_owned(),
        60..3600 => (seconds / 60, "minute", "minutes"),
        3600..172_800 => (seconds / 3600, "hour", "hours"),
        _ => (seconds / 86_400, "day", "days"),
    };
    format!("{number} {} ago", if number == 1 { one } else { many })
}
