//! Where entries lie, and when they come into a window.

use chestnut_core::ical::Limits;
use chestnut_core::{Entry, Position, Reach, Window, resolve_zone};
use jiff::Timestamp;
use proptest::prelude::*;

fn entry(lines: &str) -> Entry {
    let kind = if lines.contains("DUE") { "VTODO" } else { "VEVENT" };
    let text = format!("BEGIN:VCALENDAR\nBEGIN:{kind}\nUID:press\n{lines}\nEND:{kind}\nEND:VCALENDAR\n")
        .replace("\n\n", "\n");
    Entry::parse(&text, &Limits::default()).expect("an entry")
}

fn at(text: &str) -> i64 {
    text.parse::<Timestamp>().expect("a moment").as_second()
}

#[test]
fn a_window_is_whole_days_of_its_zone() {
    let zone = resolve_zone("Europe/Ljubljana").expect("a zone").rules;
    // Shortly before midnight in UTC it is tomorrow already.
    let now: Timestamp = "2026-10-04T23:30:00Z".parse().expect("a moment");
    let day = |text: &str| Reach::Day(text.parse().expect("a day"));
    for (past, ahead, from, to) in [
        (Reach::Days(7), Reach::Days(90), "2026-09-27T22:00:00Z", "2027-01-03T23:00:00Z"),
        (Reach::Days(0), Reach::Days(0), "2026-10-04T22:00:00Z", "2026-10-05T22:00:00Z"),
        (Reach::Months(1), Reach::Months(3), "2026-09-04T22:00:00Z", "2027-01-05T23:00:00Z"),
        (day("2026-10-25"), day("2026-10-25"), "2026-10-24T22:00:00Z", "2026-10-25T23:00:00Z"),
    ] {
        assert_eq!(Window { past, ahead }.at(now, &zone).range, at(from)..at(to), "{past:?} {ahead:?}");
    }
    assert!(Window::default().at(now, &zone).is_unlimited());
}

#[test]
fn every_shape_of_entry_has_its_place() {
    let zone = resolve_zone("Europe/Ljubljana").expect("a zone").rules;
    let day = |text: &str| Reach::Day(text.parse().expect("a day"));
    // From midnight in Ljubljana on 1 October to the end of the 31st.
    let bounds =
        Window { past: day("2026-10-01"), ahead: day("2026-10-31") }.at(Timestamp::UNIX_EPOCH, &zone);
    let ahead = |text: &str| Position::Ahead(at(text));
    use Position::{Behind, Inside};
    for (lines, expected, over) in [
        ("DTSTART:20261031T225959Z", Inside, Some("2026-10-31T22:59:59Z")),
        ("DTSTART:20261031T230000Z", ahead("2026-10-31T23:00:00Z"), Some("2026-10-31T23:00:00Z")),
        ("DTSTART;VALUE=DATE:20261101", ahead("2026-10-31T23:00:00Z"), Some("2026-11-01T23:00:00Z")),
        ("DTSTART;VALUE=DATE:20260930", Behind, Some("2026-09-30T22:00:00Z")),
        ("DTSTART:20260930T210000Z\nDTEND:20260930T220000Z", Behind, Some("2026-09-30T22:00:00Z")),
        ("DTSTART:20260930T210000Z\nDTEND:20260930T220001Z", Inside, Some("2026-09-30T22:00:01Z")),
        ("DTSTART:20260101T080000\nRRULE:FREQ=DAILY", Inside, None),
        ("DTSTART;VALUE=DATE:19561220\nRRULE:FREQ=YEARLY", ahead("2026-12-19T23:00:00Z"), None),
        (
            "DTSTART:20260101T080000Z\nRRULE:FREQ=MONTHLY;COUNT=3\nRDATE:20270301T080000Z",
            ahead("2027-03-01T08:00:00Z"),
            Some("2027-03-01T08:00:00Z"),
        ),
        (
            "DUE;TZID=Europe/Ljubljana:20261101T000000",
            ahead("2026-10-31T23:00:00Z"),
            Some("2026-10-31T23:00:00Z"),
        ),
        ("SUMMARY:some day", Inside, None),
    ] {
        let entry = entry(lines);
        let over = over.map(at);
        assert_eq!(bounds.position(&entry), Ok(expected), "{lines}");
        assert_eq!(bounds.holds(&entry), Ok(expected == Inside), "{lines}");
        // A moment without length is over right after it, whatever end it is given.
        let told = bounds.over_at(&entry).expect("its time");
        assert!(told == over || told == over.map(|at| at + 1), "{lines}: {told:?}");
    }
    assert!(bounds.position(&entry("DTSTART;TZID=Nobody/Knows:20261005T080000")).is_err());
}

proptest! {
    /// An entry that is told to come in at some moment is inside as soon as the window reaches it, and not before.
    #[test]
    fn what_is_ahead_comes_in_at_its_moment(start in 0..2000_i64, every in 1..400_i64, count in 1..6_u32) {
        let start_day = Timestamp::from_second(start * 86_400).expect("a moment");
        let lines = format!(
            "DTSTART:{}\nRRULE:FREQ=DAILY;INTERVAL={every};COUNT={count}",
            start_day.strftime("%Y%m%dT%H%M%SZ")
        );
        let entry = entry(&lines);
        let day = |days: i64| {
            let at = Timestamp::from_second(days * 86_400).expect("a moment");
            Reach::Day(at.to_zoned(jiff::tz::TimeZone::UTC).date())
        };
        let window = |to| Window { past: day(900), ahead: day(to) }.at(Timestamp::UNIX_EPOCH, &jiff::tz::TimeZone::UTC);
        let found = window(1000).position(&entry).expect("its time");
        let days: Vec<_> = (0..i64::from(count)).map(|n| start + n * every).collect();
        let expected = if days.iter().any(|d| (900..=1000).contains(d)) {
            Position::Inside
        } else {
            days.iter().find(|d| **d > 1000).map_or(Position::Behind, |d| Position::Ahead(d * 86_400))
        };
        prop_assert_eq!(found, expected);
        if let Position::Ahead(at) = found {
            prop_assert!(!window(at / 86_400 - 1).holds(&entry).expect("its time"));
            prop_assert!(window(at / 86_400).holds(&entry).expect("its time"));
        }
    }
}
