//! Details of entries as people call them, and their values as people read them. What is not known here stands as the
//! calendar says it.

use crate::render::{Clock, clean, count, day_and_hour, start_text};

/// What a property (RFC 5545, 3.8) is called.
pub(crate) fn field_word(property: &str) -> String {
    let word = match property {
        "SUMMARY" => "Title",
        "DTSTART" => "Start",
        "DTEND" => "End",
        "DUE" => "Due",
        "COMPLETED" => "Done at",
        "LOCATION" => "Place",
        "DESCRIPTION" => "Notes",
        "STATUS" => "Status",
        "RRULE" => "Repeats",
        "EXRULE" => "Does not repeat",
        "RDATE" => "Also on",
        "EXDATE" => "Except on",
        "CATEGORIES" => "Categories",
        "RESOURCES" => "Resources",
        "TRANSP" => "Blocks time",
        "CLASS" => "Privacy",
        "ATTENDEE" => "Invited",
        "ORGANIZER" => "Organiser",
        "VALARM" => "Reminder",
        "ATTACH" => "Attachment",
        "URL" => "Link",
        "GEO" => "Position",
        "COLOR" => "Colour",
        "PRIORITY" => "Priority",
        "PERCENT-COMPLETE" => "Progress",
        "SEQUENCE" => "Revision",
        "COMMENT" => "Comment",
        "CONTACT" => "Contact",
        "(whole)" => "The occurrence",
        other => return clean(other),
    };
    word.to_owned()
}

/// When a text was last changed, as it says.
pub(crate) const CHANGED: &str = "Changed";

/// In which order a person reads details: what it is, when it is, then the rest.
pub(crate) fn field_order(property: &str) -> usize {
    let first = ["SUMMARY", "DTSTART", "DTEND", "DUE", "LOCATION", "RRULE", "EXDATE"];
    first.iter().position(|name| *name == property).unwrap_or(first.len())
}

/// The values of a property, joined as reports join them.
pub(crate) fn value_words(property: &str, values: &str, clock: &Clock) -> String {
    let one = |value: &str| match property {
        "DTSTART" | "DTEND" | "DUE" | "COMPLETED" | "RDATE" | "EXDATE" => {
            Some(start_text(value, clock)).filter(|text| !text.is_empty())
        }
        "RRULE" => rule_words(value, clock),
        "VALARM" => alarm_words(value),
        "TRANSP" => match value {
            "OPAQUE" => Some("yes".to_owned()),
            "TRANSPARENT" => Some("no".to_owned()),
            _ => None,
        },
        "CLASS" | "STATUS" => Some(clean(&value.to_lowercase().replace('-', " "))),
        "ATTENDEE" | "ORGANIZER" => value.rsplit_once("mailto:").map(|(_, address)| clean(address)),
        "PERCENT-COMPLETE" => Some(format!("{} %", clean(value))),
        _ => None,
    };
    let told = values.split(" | ").map(|value| one(value).unwrap_or_else(|| clean(value)));
    match told.collect::<Vec<_>>().join(", ") {
        none if none.is_empty() => "nothing".to_owned(),
        words => words,
    }
}

/// `Tue 6 Oct 09:00–10:00 → 10:00–11:00`: a start with its end, as they were and as they are, as canonical texts say
/// them. `None` where they are no two moments.
pub(crate) fn span_words(old: [&str; 2], new: [&str; 2], clock: &Clock) -> Option<String> {
    let said = |[start, end]: [&str; 2]| {
        let (start, end) = (start_text(start, clock), start_text(end, clock));
        let (day, Some(begins)) = day_and_hour(&start) else { return None };
        let ends = match day_and_hour(&end) {
            (same, Some(hour)) if same == day => hour,
            _ => &end,
        };
        (!end.is_empty()).then(|| (day.to_owned(), format!("{begins}–{ends}")))
    };
    let (old, new) = (said(old)?, said(new)?);
    Some(match old.0 == new.0 {
        true => format!("{} {} → {}", old.0, old.1, new.1),
        false => format!("{} {} → {} {}", old.0, old.1, new.0, new.1),
    })
}

/// Of two moments of one day, the second is its hour alone; what is no such pair stays as it is.
pub(crate) fn without_same_day(old: String, new: String) -> (String, String) {
    match (day_and_hour(&old), day_and_hour(&new)) {
        ((one, Some(_)), (other, Some(hour))) if one == other => {
            let hour = hour.to_owned();
            (old, hour)
        }
        _ => (old, new),
    }
}

/// An occurrence of a series that has a text of its own, or has none any more.
pub(crate) fn occurrence_came_or_went(day: &str, is_gone: bool) -> String {
    let what = if is_gone { "is as the series again, or gone" } else { "differs from its series now" };
    format!("The occurrence{day}: {what}")
}

/// Which occurrence of a series is meant; nothing where it is all of them.
pub(crate) fn of_occurrence(recurrence_id: &str, clock: &Clock) -> String {
    let (at, follows) = match recurrence_id.strip_suffix(" and future") {
        Some(at) => (at, " and after"),
        None => (recurrence_id, ""),
    };
    match (at.is_empty(), start_text(at, clock)) {
        (true, _) => String::new(),
        (false, unread) if unread.is_empty() => format!(" of {}{follows}", clean(at)),
        (false, day) => format!(" of {day}{follows}"),
    }
}

/// `every 2 weeks on Tuesday, 10 times`; `None` for rules that are better read as they stand.
fn rule_words(rule: &str, clock: &Clock) -> Option<String> {
    let (mut unit, mut interval, mut days, mut end) = (None, 1_usize, Vec::new(), String::new());
    for part in rule.split(';') {
        let (name, value) = part.split_once('=')?;
        match name {
            "FREQ" => {
                unit = Some(match value {
                    "DAILY" => ("day", "days"),
                    "WEEKLY" => ("week", "weeks"),
                    "MONTHLY" => ("month", "months"),
                    "YEARLY" => ("year", "years"),
                    _ => return None,
                });
            }
            "INTERVAL" => interval = value.parse().ok()?,
            "BYDAY" => days = value.split(',').map(day_word).collect::<Option<_>>()?,
            "COUNT" => end = format!(", {}", count(value.parse().ok()?, "time", "times")),
            "UNTIL" => {
                let last = start_text(value, clock);
                end = format!(", until {}", day_and_hour(&last).0);
            }
            _ => return None,
        }
    }
    let (one, many) = unit?;
    // Days of a month are counted: those rules stand as they are.
    if !days.is_empty() && one != "week" {
        return None;
    }
    days.sort_unstable();
    let names: Vec<_> = days.iter().map(|(_, name)| *name).collect();
    let names = match names.split_last() {
        Some((last, [])) => (*last).to_owned(),
        Some((last, others)) => format!("{} and {last}", others.join(", ")),
        None => String::new(),
    };
    let every = match (interval, names.as_str()) {
        (1, "") => format!("every {one}"),
        (1, days) => format!("every {days}"),
        (_, "") => format!("every {interval} {many}"),
        (_, days) => format!("every {interval} {many} on {days}"),
    };
    Some(format!("{every}{end}"))
}

fn day_word(day: &str) -> Option<(usize, &'static str)> {
    let days = [
        ("MO", "Monday"),
        ("TU", "Tuesday"),
        ("WE", "Wednesday"),
        ("TH", "Thursday"),
        ("FR", "Friday"),
        ("SA", "Saturday"),
        ("SU", "Sunday"),
    ];
    let at = days.iter().position(|(short, _)| *short == day)?;
    Some((at, days[at].1))
}

/// `15 min before`, from what an alarm says; its trigger is days and seconds.
fn alarm_words(alarm: &str) -> Option<String> {
    let trigger = alarm.split('|').find_map(|field| field.strip_prefix("TRIGGER="))?;
    let (days, seconds) = trigger.strip_suffix('s')?.split_once('d')?;
    let seconds = days.parse::<i64>().ok()?.checked_mul(86_400)?.checked_add(seconds.parse().ok()?)?;
    let side = if seconds > 0 { "after" } else { "before" };
    Some(match seconds.abs() {
        0 => "at its start".to_owned(),
        n if n % 86_400 == 0 => {
            format!("{} {side}", count(usize::try_from(n / 86_400).ok()?, "day", "days"))
        }
        n if n % 3600 == 0 => format!("{} h {side}", n / 3600),
        n if n % 60 == 0 => format!("{} min {side}", n / 60),
        n => format!("{n} s {side}"),
    })
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;

    use crate::render::Clock;

    use super::{of_occurrence, span_words, value_words};

    #[test]
    fn values_are_read_as_people_read_them() {
        let zone = TimeZone::get("Europe/Ljubljana").expect("a zone");
        let clock = Clock::at("2026-10-05T08:00:00Z".parse().expect("now"), &zone);
        for (property, value, words) in [
            ("DTSTART", "20261006T090000 Europe/Ljubljana", "Tue 6 Oct 09:00"),
            ("DTEND", "20261006", "Tue 6 Oct"),
            ("EXDATE", "20261103T080000Z | 20261110T080000Z", "Tue 3 Nov 09:00, Tue 10 Nov 09:00"),
            (
                "RRULE",
                "BYDAY=TH,TU;FREQ=WEEKLY;UNTIL=20261215T080000Z",
                "every Tuesday and Thursday, until Tue 15 Dec",
            ),
            ("RRULE", "COUNT=1;FREQ=DAILY;INTERVAL=2", "every 2 days, 1 time"),
            ("RRULE", "BYDAY=1MO;FREQ=MONTHLY", "BYDAY=1MO;FREQ=MONTHLY"),
            ("VALARM", "ACTION=DISPLAY|TRIGGER=0d-900s|", "15 min before"),
            ("TRANSP", "TRANSPARENT", "no"),
            ("ATTENDEE", ";PARTSTAT=ACCEPTED:mailto:van@coop.example", "van@coop.example"),
            ("SUMMARY", "", "nothing"),
            ("SUMMARY", "Late\u{1b}[2J", "Late\u{fffd}[2J"),
        ] {
            assert_eq!(value_words(property, value, &clock), words, "{property}");
        }
        for (old, new, words) in [
            (
                ["20261006T090000 Europe/Ljubljana", "20261006T100000 Europe/Ljubljana"],
                ["20261006T100000 Europe/Ljubljana", "20261006T110000 Europe/Ljubljana"],
                Some("Tue 6 Oct 09:00–10:00 → 10:00–11:00"),
            ),
            (
                ["20261006T080000Z", "20261006T090000Z"],
                ["20261007T210000Z", "20261008T010000Z"],
                Some("Tue 6 Oct 10:00–11:00 → Wed 7 Oct 23:00–Thu 8 Oct 03:00"),
            ),
            (["20261006", "20261007"], ["20261007", "20261008"], None),
        ] {
            assert_eq!(span_words(old, new, &clock).as_deref(), words);
        }
        assert_eq!(of_occurrence("20261103T080000Z and future", &clock), " of Tue 3 Nov 09:00 and after");
        assert_eq!(of_occurrence("", &clock), "");
    }
}
